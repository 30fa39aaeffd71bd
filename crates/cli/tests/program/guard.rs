//! The guard between real clients and a real broker.

use std::time::{Duration, Instant};

use tidy_warden_core::mqtt::Version;
use tidy_warden_simulate::{ConnectError, Login};

use crate::harness::{Guard, Mosquitto, POLICY, Running, World, block_on, eventually};

/// Long enough for what must come, short enough for what must not.
const SOON: Duration = Duration::from_secs(10);

fn publish(world: &World, id: &str, guard: &Guard, version: &str, more: &[&str]) -> i32 {
    let mut args = world.mosquitto_args(id, guard.address.port());
    args.extend(["-V", version].map(str::to_owned));
    args.extend(more.iter().map(|text| (*text).to_owned()));
    let args: Vec<&str> = args.iter().map(String::as_str).collect();
    world.other("mosquitto_pub", &args).code
}

#[test]
fn mosquitto_clients_are_let_through_where_policy_allows_in_both_versions() {
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let guard = Guard::before(&world, &broker);
    let watch = broker.watch(&world);
    for version in ["mqttv311", "mqttv5"] {
        for qos in ["0", "1"] {
            let message = format!("{version}-{qos}");
            let args = ["-t", "rope/ossel/wv-1/wind", "-q", qos, "-m", &message];
            assert_eq!(publish(&world, "wv-1", &guard, version, &args), 0, "{message}");
            watch.line(&message, |line| line == format!("rope/ossel/wv-1/wind {message}"));
        }
        publish(&world, "wv-1", &guard, version, &["-t", "rope/ossel/wv-2/wind", "-q", "1", "-m", "forged"]);
        publish(&world, "wv-1", &guard, version, &["-t", "rope/ossel/wv-1/brake", "-q", "1", "-m", "forged"]);
        // Nothing under another's name, with one's own certificate.
        let code =
            publish(&world, "wv-1", &guard, version, &["-i", "wv-2", "-t", "rope/ossel/wv-1/wind", "-m", "forged"]);
        assert_ne!(code, 0);
    }
    let denied = guard.event("refused", |event| event["subject"] == "rope/ossel/wv-1/brake");
    assert_eq!(denied["rule"]["file"], "policies/all.policy");
    assert_eq!(denied["rule"]["line"], 8);
    assert_eq!(denied["device"], "wv-1");
    publish(&world, "wv-1", &guard, "mqttv5", &["-t", "rope/ossel/wv-1/wind", "-q", "1", "-m", "last"]);
    watch.line("the last message", |line| line.ends_with(" last"));
    let forged = watch.lines().iter().any(|line| line.contains("forged"));
    assert!(!forged, "{}", watch.lines().join("\n"));
    assert_eq!(guard.running.terminate(), Some(0));
}

#[test]
fn a_subscriber_hears_what_it_may_and_a_revocation_cuts_it() {
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let guard = Guard::before(&world, &broker);
    let mut args = world.mosquitto_args("wv-1", guard.address.port());
    args.extend(["-V", "mqttv5", "-t", "rope/ossel/wv-1/settings", "-v", "-d"].map(str::to_owned));
    let mut subscriber = Running::start(world.command("stdbuf").args(["-oL", "mosquitto_sub"]).args(&args));
    subscriber.line("that it is subscribed", |line| line.contains("SUBACK"));
    let code =
        publish(&world, "cr-ossel", &guard, "mqttv311", &["-t", "rope/ossel/wv-1/settings", "-q", "1", "-m", "slow"]);
    assert_eq!(code, 0);
    subscriber.line("the setting", |line| line == "rope/ossel/wv-1/settings slow");
    let begun = Instant::now();
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--yes"]).exits(0);
    guard.event("cut", |event| event["device"] == "wv-1");
    assert!(begun.elapsed() < SOON, "{:?}", begun.elapsed());
    subscriber.line("the end", |line| line.contains("DISCONNECT") || line.contains("Not authorized"));
    assert_ne!(publish(&world, "wv-1", &guard, "mqttv311", &["-t", "rope/ossel/wv-1/wind", "-m", "back"]), 0);
    guard.event("refused", |event| event["act"] == "connect" && event["device"] == "wv-1");
    subscriber.kill();
}

#[test]
fn a_revoked_device_does_not_come_back_by_session_resumption() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    for version in [Version::V5, Version::V311] {
        let id = if version == Version::V5 { "wv-1" } else { "wv-2" };
        let mut login = world.login(id);
        login.version = version;
        block_on(async {
            let first = login.connect(guard.address).await.unwrap();
            assert!(!first.resumed);
            first.goodbye().await;
            let second = login.connect(guard.address).await.unwrap();
            assert!(second.resumed, "resumption must work for this test to mean anything");
            second.goodbye().await;
            let mut live = login.connect(guard.address).await.unwrap();
            world.run(&["revoke", id, "--reason", "keyCompromise", "--yes"]).exits(0);
            assert!(live.ended(SOON).await.is_some(), "the live session is cut");
            let code = if version == Version::V5 { 0x87 } else { 5 };
            match login.connect(guard.address).await {
                Err(ConnectError::Refused { code: found, resumed, .. }) => assert_eq!((found, resumed), (code, true)),
                other => panic!("{:?}", other.err()),
            }
        });
    }
}

#[test]
fn a_new_edition_takes_effect_on_live_sessions() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        let mut control = world.login("cr-ossel").connect(guard.address).await.unwrap();
        assert!(control.subscribe("rope/ossel/#").await.unwrap().is_ok());
        assert!(vane.subscribe("rope/ossel/wv-1/settings").await.unwrap().is_ok());
        assert!(vane.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok());
        assert!(control.message(SOON).await.unwrap().is_some());
        world.adopt(
            &POLICY
                .replace("\"rope/{site}/#\"  ", "\"rope/{site}/+/door\"  ")
                .replace("{device}/wind", "{device}/gust")
                .replace("{device}/lost", "{device}/door"),
        );
        guard.event("subscription-ended", |event| event["device"] == "cr-ossel");
        let refused = vane.publish("rope/ossel/wv-1/wind", b"2").await.unwrap();
        assert_eq!(refused.code, 0x87);
        assert!(refused.reason.unwrap().contains("rope/ossel/wv-1/gust"), "it is told what is allowed");
        assert!(vane.publish("rope/ossel/wv-1/gust", b"3").await.unwrap().is_ok());
        assert!(control.subscribe("rope/ossel/+/door").await.unwrap().is_ok());
        assert!(vane.publish("rope/ossel/wv-1/door", b"last").await.unwrap().is_ok());
        let first = control.message(SOON).await.unwrap().unwrap();
        assert_eq!(first.payload, b"last", "its wider subscription is gone");
        assert!(control.publish("rope/ossel/wv-1/settings", b"4").await.unwrap().is_ok());
        assert!(vane.message(SOON).await.unwrap().is_some(), "what stays allowed goes on");
        // Without a right to be here at all, the session ends.
        world.adopt("policy control-room { for kind = control-room allow connect as \"{device}\" }");
        assert!(vane.ended(SOON).await.is_some());
        // It is still there, and looks as soon as the other did.
        let begun = Instant::now();
        while control.publish("rope/ossel/wv-1/settings", b"5").await.unwrap().code != 0x87 {
            assert!(begun.elapsed() < SOON);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    });
}

#[test]
fn a_changed_label_changes_what_a_live_session_may_do() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(vane.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok());
        world.run(&["device", "edit", "wv-1", "--label", "site=brindle", "--yes"]).exits(0);
        let begun = Instant::now();
        while !vane.publish("rope/brindle/wv-1/wind", b"2").await.unwrap().is_ok() {
            assert!(begun.elapsed() < SOON);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        assert!(!vane.publish("rope/ossel/wv-1/wind", b"3").await.unwrap().is_ok());
    });
}

#[test]
fn the_first_use_of_a_new_certificate_ends_the_session_of_the_old() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let old = world.login("wv-1");
    std::fs::rename(world.path("outfits/wv-1"), world.path("old")).unwrap();
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits", "--again"]).exits(0);
    let mut new = world.login("wv-1");
    new.client_id = "wv-1:new".to_owned();
    block_on(async {
        let mut before = old.connect(guard.address).await.unwrap();
        let after = new.connect(guard.address).await.unwrap();
        assert!(before.ended(SOON).await.is_some(), "superseded from the first use of its successor on");
        assert!(matches!(old.connect(guard.address).await, Err(ConnectError::Refused { code: 0x87, .. })));
        after.goodbye().await;
        new.connect(guard.address).await.unwrap().goodbye().await;
    });
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&["state       live", "superseded"]);
}

#[test]
fn tokens_open_sessions_only_for_their_own_device() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let token = |id: &str| world.run(&["token", "issue", id]).exits(0).stdout.trim().to_owned();
    let (first, second) = (token("wv-1"), token("wv-2"));
    let login = |client_id: &str, user: &str, token: &str| {
        let mut login = Login::new(&world.root("wv-1"), None, "localhost", client_id).unwrap();
        login.token = Some((user.to_owned(), token.as_bytes().to_vec()));
        login
    };
    let with_certificate = |user: &str, token: &str| {
        let mut login = world.login("wv-1");
        login.token = Some((user.to_owned(), token.as_bytes().to_vec()));
        login
    };
    block_on(async {
        let code = async |login: Login| match login.connect(guard.address).await {
            Ok(device) => {
                device.goodbye().await;
                0
            }
            Err(ConnectError::Refused { code, .. }) => code,
            Err(other) => panic!("{other}"),
        };
        assert_eq!(code(login("wv-1", "wv-1", &first)).await, 0);
        assert_eq!(code(login("", "wv-1", &first)).await, 0, "an empty client identifier becomes the device's id");
        assert_eq!(code(login("wv-2", "wv-1", &first)).await, 0x85);
        assert_eq!(code(login("wv-2", "wv-2", &first)).await, 0x87, "the user name must be the token's device");
        assert_eq!(code(login("wv-1", "wv-1", "nonsense")).await, 0x87);
        assert_eq!(code(with_certificate("wv-1", &first)).await, 0, "both name the same device");
        assert_eq!(code(with_certificate("wv-2", &second)).await, 0x87, "certificate and token of two devices");
        assert_eq!(code(with_certificate("wv-1", "nonsense")).await, 0x87, "a bad token is not passed over");
        assert_eq!(code(with_certificate("a-private-name", &first)).await, 0x87);
        let mut nobody = login("wv-1", "wv-1", &first);
        nobody.token = None;
        assert_eq!(code(nobody).await, 0x87);
        let mut live = login("wv-1", "wv-1", &first).connect(guard.address).await.unwrap();
        world.run(&["revoke", "wv-1", "--reason", "unspecified", "--yes"]).exits(0);
        assert!(live.ended(SOON).await.is_some());
        world.run(&["device", "reopen", "wv-1", "--because", "found"]).exits(0);
        assert_eq!(code(login("wv-1", "wv-1", &first)).await, 0x87, "tokens from before stay void");
    });
    let log = guard.running.lines().join("\n");
    assert!(!log.contains(&first) && !log.contains(&second), "no token in the log");
    assert!(!log.contains("a-private-name"), "no user name in the log");
}

#[test]
fn a_will_is_published_at_a_loss_but_not_at_a_cut_or_against_policy() {
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let guard = Guard::before(&world, &broker);
    let watch = broker.watch(&world);
    let mut login = world.login("wv-1");
    let with_will = |text: &[u8]| Some(("rope/ossel/wv-1/lost".to_owned(), text.to_vec()));
    block_on(async {
        login.will = with_will(b"by-loss");
        drop(login.connect(guard.address).await.unwrap());
        watch.line("the will", |line| line == "rope/ossel/wv-1/lost by-loss");

        login.will = with_will(b"by-goodbye");
        login.connect(guard.address).await.unwrap().goodbye().await;

        login.will = Some(("rope/ossel/wv-2/lost".to_owned(), b"forged".to_vec()));
        let refused = login.connect(guard.address).await;
        assert!(matches!(refused, Err(ConnectError::Refused { code: 0x87, .. })), "{:?}", refused.err());

        login.will = with_will(b"by-edition");
        let device = login.connect(guard.address).await.unwrap();
        world.adopt(&POLICY.replace("{device}/lost", "{device}/gone"));
        drop(device);
        // The will is decided before the end is told; this is the third one.
        let ends = || guard.running.lines().iter().filter(|line| line.contains("\"closed\"")).count();
        assert!(eventually(|| (ends() == 3).then_some(())).is_some(), "{}", guard.running.lines().join("\n"));

        world.adopt(POLICY);
        guard.event("edition", |event| event["number"] == 3);
        login.will = with_will(b"by-cut");
        let mut device = login.connect(guard.address).await.unwrap();
        world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--yes"]).exits(0);
        assert!(device.ended(SOON).await.is_some());
        // Told when both sides are closed: what the broker would publish, it has by then.
        guard.event("cut", |event| event["device"] == "wv-1");
        let mut other = world.login("wv-2").connect(guard.address).await.unwrap();
        assert!(other.publish("rope/ossel/wv-2/wind", b"last").await.unwrap().is_ok());
    });
    watch.line("the last message", |line| line.ends_with(" last"));
    let wills: Vec<String> = watch.lines().into_iter().filter(|line| line.contains("/lost ")).collect();
    assert_eq!(wills, ["rope/ossel/wv-1/lost by-loss"]);
}

/// Shows a chain with a key that is not its own, in both protocol versions; fails the test if that gets through.
pub(crate) fn assert_thief_is_refused(guard: &Guard, root: &[u8], chain: &[Vec<u8>], other_key: &[u8]) {
    use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer, ServerName};

    #[derive(Debug)]
    struct Thief(std::sync::Arc<rustls::sign::CertifiedKey>);

    impl rustls::client::ResolvesClientCert for Thief {
        fn resolve(
            &self,
            _: &[&[u8]],
            _: &[rustls::SignatureScheme],
        ) -> Option<std::sync::Arc<rustls::sign::CertifiedKey>> {
            Some(self.0.clone())
        }

        fn has_certs(&self) -> bool {
            true
        }
    }

    let provider = std::sync::Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    for version in [&rustls::version::TLS13, &rustls::version::TLS12] {
        let key = PrivatePkcs8KeyDer::from(other_key.to_vec());
        let key = provider.key_provider.load_private_key(key.into()).unwrap();
        let chain = chain.iter().cloned().map(CertificateDer::from).collect();
        let mut roots = rustls::RootCertStore::empty();
        roots.add(CertificateDer::from(root.to_vec())).unwrap();
        let thief = Thief(std::sync::Arc::new(rustls::sign::CertifiedKey::new(chain, key)));
        let config = rustls::ClientConfig::builder_with_provider(provider.clone())
            .with_protocol_versions(&[version])
            .unwrap()
            .with_root_certificates(roots)
            .with_client_cert_resolver(std::sync::Arc::new(thief));
        let name = ServerName::try_from("localhost").unwrap();
        let session = rustls::ClientConnection::new(std::sync::Arc::new(config), name).unwrap();
        let socket = std::net::TcpStream::connect(guard.address).unwrap();
        let mut stream = rustls::StreamOwned::new(session, socket);
        let mut answer = [0; 1];
        let failed = std::io::Write::write_all(&mut stream, b"\x10")
            .and_then(|()| std::io::Read::read_exact(&mut stream, &mut answer));
        assert!(failed.is_err(), "{version:?}");
    }
    guard.event("tls-refused", |_| true);
}

#[test]
fn a_certificate_without_its_key_is_refused_in_the_handshake() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let (chain, _) = world.identity("wv-1");
    let (_, other_key) = world.identity("wv-2");
    assert_thief_is_refused(&guard, &world.root("wv-1"), &chain, &other_key);
    assert!(!guard.running.lines().iter().any(|line| line.contains("\"connected\"")));
}

#[test]
fn a_certificate_that_the_ward_did_not_record_is_refused() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let stranger = World::equipped();
    let foreign = Login::new(&world.root("wv-1"), Some(stranger.identity("wv-1")), "localhost", "wv-1").unwrap();
    block_on(async {
        let refused = foreign.connect(guard.address).await;
        assert!(matches!(refused, Err(ConnectError::Io(_))), "another ward's certificate ends in a TLS alert");
        // One of this ward's authority that the store never saw, as a crash between outfit and record leaves it.
        world
            .other("sqlite3", &["w/ward.db", "DELETE FROM credentials WHERE key_type = 'p256' AND device = 1"])
            .exits(0);
        let unknown = world.login("wv-1").connect(guard.address).await;
        assert!(matches!(unknown, Err(ConnectError::Refused { code: 0x87, .. })), "{:?}", unknown.err());
    });
    guard.event("tls-refused", |event| event["why"].as_str().unwrap().contains("UnknownIssuer"));
    guard.event("refused", |event| event["why"].as_str().unwrap().contains("did not record it"));
}

#[test]
fn a_broker_that_goes_away_and_comes_back() {
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let guard = Guard::before(&world, &broker);
    block_on(async {
        let mut device = world.login("wv-1").connect(guard.address).await.unwrap();
        let port = broker.stop();
        assert!(device.ended(SOON).await.is_some_and(|how| how.contains("0x8b")), "told that the server goes down");
        let refused = world.login("wv-1").connect(guard.address).await;
        assert!(matches!(refused, Err(ConnectError::Refused { code: 0x88, .. })));
        guard.event("trouble", |event| event["what"].as_str().unwrap().contains("the broker at"));
        let _broker = Mosquitto::on(&world, port);
        let mut device = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(device.publish("rope/ossel/wv-1/wind", b"back").await.unwrap().is_ok());
    });
}

#[test]
fn without_an_edition_nobody_connects() {
    let world = World::init();
    world.run(&["device", "add", "wv-1", "--kind", "windvane"]).exits(0);
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let refused = world.login("wv-1").connect(guard.address).await;
        assert!(matches!(refused, Err(ConnectError::Refused { code: 0x87, .. })));
        world.adopt(POLICY);
        guard.event("edition", |event| event["number"] == 1);
        world.login("wv-1").connect(guard.address).await.unwrap().goodbye().await;
    });
}

#[test]
fn a_guard_that_cannot_start_says_why() {
    let world = World::equipped();
    world.run(&["guard", "--listen", "127.0.0.1:0"]).exits(2).says(&["needs a broker"]);
    world.run(&["guard", "--listen", "127.0.0.1:0", "--broker", "x"]).exits(2).says(&["HOST:PORT"]);
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = taken.local_addr().unwrap().to_string();
    world.run(&["guard", "--listen", &address, "--broker", "builtin"]).exits(1).says(&["cannot listen on", "try: "]);
}

mod library_client {
    //! A client library that knows nothing of this product, in both versions of the protocol.

    use std::sync::Arc;

    use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer};

    use super::*;

    fn tls(world: &World, id: &str) -> Arc<rustls::ClientConfig> {
        let (chain, key) = world.identity(id);
        let mut roots = rustls::RootCertStore::empty();
        roots.add(CertificateDer::from(world.root(id))).unwrap();
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let chain = chain.into_iter().map(CertificateDer::from).collect();
        let config = rustls::ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_root_certificates(roots)
            .with_client_auth_cert(chain, PrivatePkcs8KeyDer::from(key).into())
            .unwrap();
        Arc::new(config)
    }

    #[test]
    fn speaks_3_1_1_through_the_guard() {
        use rumqttc::{Client, Event, MqttOptions, Packet, QoS, SubscribeReasonCode, TlsConfiguration, Transport};

        let world = World::equipped();
        let broker = Mosquitto::start(&world);
        let guard = Guard::before(&world, &broker);
        let client = |id: &str| {
            let mut options = MqttOptions::new(id, "localhost", guard.address.port());
            options.set_transport(Transport::Tls(TlsConfiguration::Rustls(tls(&world, id))));
            Client::new(options, 10)
        };
        let (control, mut heard) = client("cr-ossel");
        control.subscribe("rope/brindle/#", QoS::AtLeastOnce).unwrap();
        control.subscribe("rope/ossel/#", QoS::AtLeastOnce).unwrap();
        let mut codes = Vec::new();
        while codes.len() < 2 {
            if let Event::Incoming(Packet::SubAck(suback)) = heard.recv_timeout(SOON).unwrap().unwrap() {
                codes.extend(suback.return_codes);
            }
        }
        assert_eq!(codes, [SubscribeReasonCode::Failure, SubscribeReasonCode::Success(QoS::AtLeastOnce)]);
        let (vane, mut events) = client("wv-1");
        vane.publish("rope/ossel/wv-1/wind", QoS::AtLeastOnce, false, "12").unwrap();
        let acknowledged = eventually(|| match events.recv_timeout(SOON).unwrap().unwrap() {
            Event::Incoming(Packet::PubAck(_)) => Some(()),
            _ => None,
        });
        assert!(acknowledged.is_some());
        let came = eventually(|| match heard.recv_timeout(SOON).unwrap().unwrap() {
            Event::Incoming(Packet::Publish(publish)) => Some(publish),
            _ => None,
        });
        assert_eq!(
            came.map(|publish| (publish.topic, publish.payload.to_vec())),
            Some(("rope/ossel/wv-1/wind".into(), b"12".to_vec()))
        );
        vane.publish("rope/ossel/wv-1/brake", QoS::AtLeastOnce, false, "12").unwrap();
        let closed = eventually(|| events.recv_timeout(SOON).unwrap().err());
        assert!(closed.is_some(), "3.1.1 has no code for a denied publish: the connection ends");
    }

    #[test]
    fn speaks_5_0_through_the_guard() {
        use rumqttc::v5::mqttbytes::QoS;
        use rumqttc::v5::mqttbytes::v5::{Packet, PubAckReason};
        use rumqttc::v5::{Client, Event, MqttOptions};
        use rumqttc::{TlsConfiguration, Transport};

        let world = World::equipped();
        let broker = Mosquitto::start(&world);
        let guard = Guard::before(&world, &broker);
        let mut options = MqttOptions::new("wv-1", "localhost", guard.address.port());
        options.set_transport(Transport::Tls(TlsConfiguration::Rustls(tls(&world, "wv-1"))));
        let (vane, mut events) = Client::new(options, 10);
        for topic in ["rope/ossel/wv-1/wind", "rope/ossel/wv-1/brake"] {
            vane.publish(topic, QoS::AtLeastOnce, false, "12").unwrap();
        }
        let mut reasons = Vec::new();
        while reasons.len() < 2 {
            if let Event::Incoming(Packet::PubAck(puback)) = events.recv_timeout(SOON).unwrap().unwrap() {
                let text = puback.properties.and_then(|properties| properties.reason_string);
                reasons.push((puback.reason, text));
            }
        }
        // The guard refuses at once, the broker answers in its own time: the order between them is open.
        reasons.sort_by_key(|(_, text)| text.is_some());
        assert!(!matches!(reasons[0].0, PubAckReason::NotAuthorized), "{reasons:?}");
        assert!(matches!(reasons[1].0, PubAckReason::NotAuthorized), "{reasons:?}");
        assert!(reasons[1].1.as_ref().unwrap().contains("only drive stations brake"), "{reasons:?}");
    }
}
