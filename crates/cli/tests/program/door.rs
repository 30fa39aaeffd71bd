//! The guard's doors: what stands in front of it and behind it, and what it takes anew while it runs.

use std::time::{Duration, Instant};

use tidy_warden_core::mqtt::{Properties, PropertyId, Value as PropertyValue};
use tidy_warden_simulate::{ConnectError, Device};

use crate::harness::{Guard, Mosquitto, POLICY, World, block_on, eventually, free_port};

const SOON: Duration = Duration::from_secs(10);

/// A library of another language, over TCP and over WebSocket, in both versions.
const CLIENT: &str = include_str!("client.py");

pub(crate) fn python(world: &World) -> &'static str {
    let has = |python: &str| {
        world
            .command(python)
            .args(["-c", "import paho.mqtt.client, cryptography"])
            .output()
            .is_ok_and(|ran| ran.status.success())
    };
    ["python3", "/usr/bin/python3"]
        .into_iter()
        .find(|python| has(python))
        .expect("scripts/test installs what is missing")
}

#[test]
fn a_python_client_works_in_both_versions_over_tcp_and_websocket() {
    let world = World::equipped();
    let broker = Mosquitto::locked(&world);
    world.write("client.py", CLIENT);
    let python = python(&world);
    let broker_at = format!("127.0.0.1:{}", broker.port);
    let guard = Guard::with(&world, &broker_at, &["--listen-websocket", "127.0.0.1:0"]);
    let websocket = guard.told("websocket");
    block_on(async {
        let mut control = world.login("cr-ossel").connect(guard.address).await.unwrap();
        assert!(control.subscribe("rope/ossel/+/wind").await.unwrap().is_ok());
        for (transport, port) in [("tcp", guard.address.port()), ("websockets", websocket.port())] {
            for version in ["4", "5"] {
                let args = ["client.py", "outfits/wv-1", &port.to_string(), transport, version];
                let client = crate::harness::Running::start(world.command(python).args(args));
                client.line("that it is ready", |line| line == "ready" || line.contains("Error"));
                for qos in 0..2 {
                    let message = control.message(SOON).await.unwrap().unwrap();
                    assert_eq!(message.payload, format!("qos {qos}").into_bytes(), "{transport} {version}");
                    // MQTT 3.1.1 has no properties: its messages tell nothing of their sender.
                    let sender =
                        message.user.iter().find(|(name, _)| name == "sender").map(|(_, value)| value.as_str());
                    assert_eq!(sender, (version == "5").then_some("wv-1"));
                }
                assert!(control.publish("rope/ossel/wv-1/settings", b"slow").await.unwrap().is_ok());
                let sender = if version == "5" { "sender cr-ossel" } else { "sender None" };
                client.line("the setting", |line| line == sender);
                control.ping().await.unwrap();
            }
        }
    });
    // What is no WebSocket for MQTT is refused.
    let url = format!("https://localhost:{}/mqtt", websocket.port());
    let outfit = |name: &str| format!("outfits/wv-1/{name}");
    let (root, device, key) = (outfit("root.pem"), outfit("device.pem"), outfit("device.key"));
    let headers = ["-H", "Connection: Upgrade", "-H", "Upgrade: websocket", "-H", "Sec-WebSocket-Version: 13"];
    let more = ["-H", "Sec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==", "-H", "Sec-WebSocket-Protocol: chat"];
    let common = ["-sS", "--http1.1", "--cacert", &root, "--cert", &device, "--key", &key, &url];
    let said = world.other("curl", &[&common[..], &headers, &more].concat());
    assert!(said.stdout.contains("only the subprotocol mqtt"), "{said}");
}

/// Connects `id` as a proxy would that got the connection from `from`.
async fn proxied(world: &World, guard: &Guard, id: &str, from: [u8; 4]) -> Result<Device, ConnectError> {
    guard.proxied(&world.login(id), from).await
}

#[test]
fn behind_a_proxy_the_clients_own_address_counts_and_two_places_in_turn_are_a_sign_of_a_clone() {
    let world = World::equipped();
    let kinds = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", kinds.replace("token_login = true", "token_login = true\nclone_watch = \"hold\""));
    world.append("w/ward.toml", "\n[guard]\nproxy_protocol = true\nproxy_from = [\"127.0.0.1\"]\n");
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let bare = world.login("wv-1").connect(guard.address).await;
        assert!(matches!(bare, Err(ConnectError::Io(_))), "nobody comes past the proxy");
        guard.event("tls-refused", |event| event["why"].as_str().unwrap().contains("PROXY"));
        for from in [[10, 0, 0, 1], [10, 0, 0, 2]] {
            proxied(&world, &guard, "wv-1", from).await.unwrap().goodbye().await;
        }
        let peer = guard.event("connected", |event| event["peer"] == "10.0.0.2:12345");
        assert_eq!(peer["device"], "wv-1");
        let mut third = proxied(&world, &guard, "wv-1", [10, 0, 0, 1]).await.unwrap();
        let sign = guard.event("clone-sign", |event| event["device"] == "wv-1");
        assert_eq!(sign["sign"], "it comes from 10.0.0.1 and from 10.0.0.2 in turn");
        assert!(third.ended(SOON).await.is_some(), "its kind wants it on hold");
        guard.event("held", |event| event["device"] == "wv-1");
        let held = proxied(&world, &guard, "wv-1", [10, 0, 0, 1]).await;
        assert!(matches!(held, Err(ConnectError::Refused { code: 0x87, .. })), "{:?}", held.err());
    });
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&[
        "state       held",
        "a clone?    1 sign",
        "from 10.0.0.1 and from 10.0.0.2 in turn",
    ]);
    world.run(&["audit", "log"]).exits(0).prints(&["device.clone-sign", "hold", "clone watch: it comes from"]);
}

#[test]
fn limits_by_source_hold_behind_one_load_balancer_and_nobody_else_is_believed() {
    let world = World::equipped();
    let settings = |from: &str| {
        let guard = format!("[guard]\nsessions_per_source = 1\nproxy_protocol = true\nproxy_from = [\"{from}\"]\n");
        world.write("w/ward.toml", std::fs::read_to_string(world.path("w/plain.toml")).unwrap() + &guard);
    };
    std::fs::copy(world.path("w/ward.toml"), world.path("w/plain.toml")).unwrap();
    settings("127.0.0.0/8");
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let _one = proxied(&world, &guard, "wv-1", [10, 0, 0, 1]).await.unwrap();
        let more = proxied(&world, &guard, "wv-2", [10, 0, 0, 9]).await;
        assert!(matches!(more, Err(ConnectError::Refused { code: 0x97, .. })), "one network: {:?}", more.err());
        proxied(&world, &guard, "wv-2", [10, 0, 1, 9]).await.unwrap().goodbye().await;
        settings("10.9.9.9");
        assert_eq!(guard.reload()["event"], "reloaded");
        let stranger = proxied(&world, &guard, "wv-2", [10, 0, 2, 9]).await;
        assert!(matches!(stranger, Err(ConnectError::Io(_))), "{:?}", stranger.err());
        guard.event("tls-refused", |event| event["why"].as_str().unwrap().contains("proxy_from"));
    });
    world.write(
        "w/ward.toml",
        std::fs::read_to_string(world.path("w/plain.toml")).unwrap() + "[guard]\nproxy_protocol = true\n",
    );
    world.run(&["settings", "check"]).exits(3).prints(&["needs `proxy_from`"]);
}

#[test]
fn an_old_certificate_shown_after_its_successor_is_a_sign_of_a_clone() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let old = world.login("wv-1");
    world.run(&["enroll", "wv-1", "--make-key", "--again", "--out", "more"]).exits(0);
    std::fs::remove_dir_all(world.path("outfits/wv-1")).unwrap();
    std::fs::rename(world.path("more/wv-1"), world.path("outfits/wv-1")).unwrap();
    block_on(async {
        world.login("wv-1").connect(guard.address).await.unwrap().goodbye().await;
        let refused = eventually(|| {
            let shown = world.run(&["device", "show", "wv-1"]).exits(0);
            shown.stdout.contains("state       live").then_some(())
        });
        assert!(refused.is_some(), "the use is recorded");
        let again = old.connect(guard.address).await;
        assert!(matches!(again, Err(ConnectError::Refused { code: 0x87, .. })), "{:?}", again.err());
    });
    let sign = guard.event("clone-sign", |_| true);
    assert!(sign["sign"].as_str().unwrap().contains("which is in use"), "{sign}");
    let shown = || world.run(&["device", "show", "wv-1", "--format", "json"]).exits(0).json();
    assert!(eventually(|| (shown()["clone_signs"]["count"] == 1).then_some(())).is_some());
    assert_eq!(shown()["state"], "live", "recorded, and nothing else");
}

#[test]
fn a_hold_cuts_and_a_release_lets_in_again() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let login = world.login("wv-1");
        let mut live = login.connect(guard.address).await.unwrap();
        world.run(&["hold", "wv-1", "--yes"]).exits(0);
        assert!(live.ended(SOON).await.is_some_and(|how| how.contains("0x98") && how.contains("on hold")));
        guard.event("cut", |event| event["device"] == "wv-1");
        assert!(matches!(login.connect(guard.address).await, Err(ConnectError::Refused { code: 0x87, .. })));
        world.run(&["release", "wv-1", "--yes"]).exits(0);
        login.connect(guard.address).await.unwrap().goodbye().await;
    });
}

#[test]
fn brokers_over_tls_unix_sockets_and_with_passwords_are_reached_and_open_ones_told_of() {
    let world = World::equipped();
    world.lock_broker();
    // A broker with an authority of its own, which wants a certificate from its clients.
    let openssl = |args: &[&str]| world.other("openssl", args).exits(0);
    let key = ["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days", "2"];
    for (name, subject) in [("broker", "/CN=localhost"), ("upstream", "/CN=guard")] {
        let (key_file, certificate) = (format!("w/{name}.key"), format!("w/{name}.pem"));
        let san = ["-addext", "subjectAltName=DNS:localhost", "-addext", "basicConstraints=critical,CA:FALSE"];
        let out = ["-keyout", &key_file, "-out", &certificate, "-subj", subject];
        openssl(&[&["req", "-x509"], &key[..], &san, &out].concat());
    }
    let path = |name: &str| world.path(name).display().to_string();
    world.other("chmod", &["-R", "a+rX", "w/broker.pem", "w/broker.key", "w/upstream.pem", "w"]).exits(0);
    let (plain, open, tls) = (free_port(), free_port(), free_port());
    let socket = path("broker.sock");
    world.other("chmod", &["a+rwx", "."]).exits(0);
    let passwords = path("passwords");
    let listeners = format!(
        "per_listener_settings true\nlistener {plain} 127.0.0.1\nallow_anonymous false\npassword_file {passwords}\n\
         listener {open} 127.0.0.1\nallow_anonymous true\n\
         listener 0 {socket}\nallow_anonymous false\npassword_file {passwords}\n\
         listener {tls} 127.0.0.1\nallow_anonymous true\ncafile {}\ncertfile {}\nkeyfile {}\nrequire_certificate true\n",
        path("w/upstream.pem"),
        path("w/broker.pem"),
        path("w/broker.key"),
    );
    let _broker = Mosquitto::with(&world, plain, &listeners);
    let works = |guard: &Guard| {
        block_on(async {
            let device = world.login("wv-1").connect(guard.address).await;
            let mut device = device.unwrap_or_else(|error| panic!("{error}\n{}", guard.running.lines().join("\n")));
            assert!(device.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok());
            device.goodbye().await;
        });
    };
    works(&Guard::start(&world, &format!("127.0.0.1:{plain}")));
    works(&Guard::start(&world, &format!("unix:{socket}")));

    let guard = Guard::start(&world, &format!("127.0.0.1:{open}"));
    guard.event("bypass-open", |event| event["broker"] == format!("127.0.0.1:{open}"));
    works(&guard);
    let opened = ["probe", "wv-1", "--outfit", "outfits", "--at", &guard.address.to_string(), "--broker"];
    let probe = |broker: String| world.run(&[&opened[..], &[&broker]].concat()).exits(0);
    probe(format!("127.0.0.1:{open}")).prints(&["bypass         WARNING", "goes around the guard"]);
    probe(format!("127.0.0.1:{plain}")).prints(&["bypass         ok"]);

    let over_tls = format!("tls://localhost:{tls}");
    let none = world.run(&["guard", "--broker", &over_tls, "--listen", "127.0.0.1:0"]);
    none.exits(1).says(&["which authority", "broker_ca"]);
    let toml = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    let more = "broker_ca = \"broker.pem\"\nbroker_certificate = \"upstream.pem\"\nbroker_key = \"upstream.key\"\n";
    world.write("w/ward.toml", toml + more);
    let guard = Guard::start(&world, &over_tls);
    works(&guard);
    probe(over_tls).prints(&["bypass         ok"]);
    assert!(!guard.running.lines().iter().any(|line| line.contains("bypass-open")));

    // The guard's own password is wrong: the client hears that the server is unavailable, the log hears why.
    world.secret("w/broker.pw", "something else\n");
    let guard = Guard::start(&world, &format!("127.0.0.1:{plain}"));
    let refused = block_on(async { world.login("wv-1").connect(guard.address).await });
    assert!(matches!(refused, Err(ConnectError::Refused { code: 0x88, .. })), "{:?}", refused.err());
    guard.event("trouble", |event| event["what"].as_str().unwrap().contains("refuses the guard's own credentials"));
}

#[test]
fn a_will_that_waits_is_not_sent_without_its_senders_right() {
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let watch = broker.watch(&world);
    let guard = Guard::before(&world, &broker);
    for (id, kept) in [("wv-1", true), ("wv-2", false)] {
        let topic = format!("rope/ossel/{id}/lost");
        let mut args = world.mosquitto_args(id, guard.address.port());
        let will = ["--will-topic", &topic, "--will-payload", "gone", "-D", "will", "will-delay-interval", "3"];
        let settings = format!("rope/ossel/{id}/settings");
        let session = ["-V", "mqttv5", "-c", "-x", "60", "-t", &settings, "-d"];
        args.extend(will.iter().chain(&session).map(|text| (*text).to_owned()));
        let mut client =
            crate::harness::Running::start(world.command("stdbuf").args(["-oL", "mosquitto_sub"]).args(&args));
        guard.event("connected", |event| event["device"] == id);
        client.line("that it is subscribed", |line| line.contains("SUBACK"));
        client.kill();
        guard.event("closed", |event| event["device"] == id);
        if !kept {
            world.run(&["revoke", id, "--reason", "keyCompromise", "--yes"]).exits(0);
        }
    }
    watch.line("the will of who only was lost", |line| line == "rope/ossel/wv-1/lost gone");
    guard.event("will-not-sent", |event| event["device"] == "wv-2");
    assert!(!watch.lines().iter().any(|line| line.contains("wv-2/lost")), "{}", watch.lines().join("\n"));
}

#[test]
fn settings_and_authorities_are_taken_anew_on_a_signal() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let toml = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        let mut control = world.login("cr-ossel").connect(guard.address).await.unwrap();
        assert!(control.subscribe("rope/ossel/+/wind").await.unwrap().is_ok());
        let forged = Properties::default().with(PropertyId::UserProperty, PropertyValue::Pair("sender", "st-1"));
        assert!(vane.publish_with("rope/ossel/wv-1/wind", b"1", forged.clone()).await.unwrap().is_ok());
        let message = control.message(SOON).await.unwrap().unwrap();
        assert_eq!(message.user, [("sender".to_owned(), "wv-1".to_owned())]);

        world.write("w/ward.toml", format!("{toml}\n[guard]\nsender_property = \"from\"\non_refusal = \"drop\"\n"));
        assert_eq!(guard.reload()["event"], "reloaded");
        assert!(vane.publish_with("rope/ossel/wv-1/wind", b"2", forged).await.unwrap().is_ok());
        let message = control.message(SOON).await.unwrap().unwrap();
        let pair = |name: &str, value: &str| (name.to_owned(), value.to_owned());
        assert_eq!(message.user, [pair("sender", "st-1"), pair("from", "wv-1")]);
        let dropped = vane.publish("rope/ossel/wv-2/wind", b"3").await.unwrap();
        assert_eq!(dropped.code, 0, "acknowledged, and passed to nobody");

        world.write("w/ward.toml", format!("{toml}\n[guard]\non_refusal = \"shrug\"\n"));
        let told = guard.reload();
        assert!(told["what"].as_str().unwrap().contains("the old ones stay"), "{told}");
        assert_eq!(vane.publish("rope/ossel/wv-2/wind", b"4").await.unwrap().code, 0, "as before");

        let strict = toml.replace("token_login = true\n", "token_login = true\non_refusal = \"disconnect\"\n");
        world.write("w/ward.toml", strict);
        let told = guard.reload();
        assert_eq!(told["event"], "reloaded", "{told}");
        assert!(vane.publish("rope/ossel/wv-2/wind", b"5").await.is_err());

        // An authority that is no longer believed takes its certificates along, live sessions included.
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        world.run(&["authority", "add", "second", "--replaces", "devices"]).exits(0);
        world.run(&["authority", "retire", "devices", "--because", "its key was lost", "--yes", "--anyway"]).exits(0);
        let how = vane.ended(SOON).await.unwrap();
        // By what the guard knows of authorities, or by what the store says of the certificate: whichever is looked at first.
        assert!(how.contains("authority"), "{how}");
        // Nobody gets in from here on; the handshake itself is refused as soon as the guard knows of authorities too.
        let begun = Instant::now();
        loop {
            match world.login("wv-1").connect(guard.address).await {
                Err(ConnectError::Io(_)) => break,
                Err(ConnectError::Refused { .. }) if begun.elapsed() < SOON => {}
                other => panic!("{:?}", other.map(|_| "let in")),
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    });
}

#[test]
fn metrics_and_health_are_answered_over_http() {
    let world = World::equipped();
    let broker = Mosquitto::locked(&world);
    let at = format!("127.0.0.1:{}", broker.port);
    let guard = Guard::with(&world, &at, &["--metrics", "127.0.0.1:0"]);
    let metrics = guard.told("metrics");
    let get = |path: &str| world.other("curl", &["-sS", "-w", "%{http_code}", &format!("http://{metrics}{path}")]);
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(vane.publish("rope/ossel/wv-1/wind", b"12345").await.unwrap().is_ok());
        assert!(!vane.publish("rope/ossel/wv-1/brake", b"1").await.unwrap().is_ok());
        let told = get("/metrics").stdout;
        for line in [
            "tidy_warden_guard_sessions 1",
            "tidy_warden_guard_edition 1",
            "tidy_warden_guard_messages_total{direction=\"in\"} 1",
            "tidy_warden_guard_payload_bytes_total{direction=\"in\"} 5",
            "tidy_warden_guard_refusals_total{act=\"publish\"} 1",
            "tidy_warden_guard_handshakes_total{result=\"full\"} 1",
            "tidy_warden_guard_opening_seconds_count 1",
            "tidy_warden_guard_store_answers 1",
            "tidy_warden_guard_bypass_open 0",
            "# EOF",
        ] {
            assert!(told.lines().any(|each| each.starts_with(line)), "{line}\n{told}");
        }
        let health = get("/health").stdout;
        assert!(health.contains("\"well\":true") && health.ends_with("200"), "{health}");
        vane.goodbye().await;
    });
    assert!(get("/elsewhere").stdout.ends_with("404"));
    let post = world.other("curl", &["-sS", "-X", "POST", "-w", "%{http_code}", &format!("http://{metrics}/metrics")]);
    assert!(post.stdout.ends_with("405"), "{post}");
    broker.stop();
    assert!(block_on(async { world.login("wv-1").connect(guard.address).await }).is_err());
    let health = get("/health").stdout;
    assert!(health.contains("\"broker_answers\":false") && health.ends_with("503"), "{health}");
}

#[test]
fn without_its_store_the_guard_goes_on_with_what_it_knows_for_a_while() {
    let world = World::equipped();
    world.append("w/ward.toml", "\n[guard]\nstore_patience = \"3s\"\n");
    let guard = Guard::start(&world, "builtin");
    let connect = |id: &str| block_on(async { world.login(id).connect(guard.address).await });
    block_on(async {
        let mut live = world.login("wv-1").connect(guard.address).await.unwrap();
        live.ping().await.unwrap();
        std::fs::rename(world.path("w/ward.db"), world.path("w/away.db")).unwrap();
        let told =
            guard.event("trouble", |event| event["what"].as_str().unwrap().contains("the store does not answer"));
        assert!(told["what"].as_str().unwrap().contains("3s"), "{told}");
        assert!(live.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok(), "live sessions go on");
        assert!(world.login("wv-1").connect(guard.address).await.is_ok(), "it is known");
        let new = world.login("wv-2").connect(guard.address).await;
        assert!(matches!(new, Err(ConnectError::Refused { code: 0x88, .. })), "it is not: {:?}", new.err());
    });
    let refused = eventually(|| match connect("wv-1") {
        Err(ConnectError::Refused { code: 0x88, .. }) => Some(()),
        _ => None,
    });
    assert!(refused.is_some(), "patience ends");
    std::fs::rename(world.path("w/away.db"), world.path("w/ward.db")).unwrap();
    guard.event("trouble", |event| event["what"] == "the store answers again");
    assert!(connect("wv-2").is_ok());
    world.adopt(&POLICY.replace("{device}/wind", "{device}/gust"));
    guard.event("edition", |event| event["number"] == 2);
}

/// Octets of a CONNECT with a client identifier and, in MQTT 5.0, properties.
fn connect_packet(version: u8, client_id: &str, keep_alive: u8, properties: &[u8]) -> Vec<u8> {
    let mut body = [&[0, 4][..], b"MQTT", &[version, 2, 0, keep_alive]].concat();
    if version == 5 {
        body.push(u8::try_from(properties.len()).unwrap());
        body.extend_from_slice(properties);
    }
    body.extend_from_slice(&[0, u8::try_from(client_id.len()).unwrap()]);
    body.extend_from_slice(client_id.as_bytes());
    [&[0x10, u8::try_from(body.len()).unwrap()][..], &body].concat()
}

#[test]
fn every_refusal_has_the_code_that_the_standard_gives_it() {
    let world = World::equipped();
    let toml = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", format!("{toml}\n[guard]\nmax_packet = 2000\nmax_sessions = 1\n"));
    let guard = Guard::start(&world, "builtin");
    let topic = |text: &str| [&[0, u8::try_from(text.len()).unwrap()][..], text.as_bytes()].concat();
    let packet = |first: u8, body: Vec<u8>| [vec![first, u8::try_from(body.len()).unwrap()], body].concat();
    let brake = topic("rope/ossel/wv-1/brake");
    let refused_publish = |version: u8, qos: u8| {
        let id: &[u8] = if qos > 0 { &[0, 7] } else { &[] };
        let properties: &[u8] = if version == 5 { &[0] } else { &[] };
        packet(0x30 | qos << 1, [&brake, id, properties, b"x"].concat())
    };
    let subscribe = |version: u8, filter: &str| {
        let properties: &[u8] = if version == 5 { &[0] } else { &[] };
        packet(0x82, [&[0, 9], properties, &topic(filter), &[1]].concat())
    };
    // Type of the answer, and its code; an end without a packet is type 0.
    let code_of = |packet: &[u8]| match packet.first().map(|first| first & 0xf0) {
        None => (0, 0),
        Some(kind @ 0x20) => (kind, packet[3]),
        Some(kind @ (0x40 | 0x50)) => (kind, packet.get(4).copied().unwrap_or(0)),
        Some(kind @ 0x90) => (kind, *packet.last().unwrap()),
        Some(kind) => (kind, packet.get(2).copied().unwrap_or(0)),
    };
    let long = [vec![0x30, 0xff, 0x7f], vec![b'x'; 100]].concat();
    let after =
        |version: u8, keep_alive: u8, sent: Vec<u8>| (connect_packet(version, "wv-1", keep_alive, &[]), Some(sent));
    type Sent = (Vec<u8>, Option<Vec<u8>>);
    let cases: Vec<(&str, Sent, (u8, u8))> = vec![
        ("another's name", (connect_packet(5, "wv-2", 0, &[]), None), (0x20, 0x85)),
        ("another's name", (connect_packet(4, "wv-2", 0, &[]), None), (0x20, 2)),
        ("enhanced authentication", (connect_packet(5, "wv-1", 0, b"\x15\0\x03abc"), None), (0x20, 0x8c)),
        ("another version", (connect_packet(3, "wv-1", 0, &[]), None), (0x20, 1)),
        ("no CONNECT", (vec![0xc0, 0], None), (0, 0)),
        ("publish, QoS 1", after(5, 0, refused_publish(5, 1)), (0x40, 0x87)),
        ("publish, QoS 2", after(5, 0, refused_publish(5, 2)), (0x50, 0x87)),
        ("publish", after(4, 0, refused_publish(4, 1)), (0, 0)),
        ("subscribe", after(5, 0, subscribe(5, "#")), (0x90, 0x87)),
        ("subscribe", after(4, 0, subscribe(4, "#")), (0x90, 0x80)),
        ("no filter", after(5, 0, subscribe(5, "a/#/b")), (0xe0, 0x8f)),
        ("no topic", after(5, 0, packet(0x30, [&topic("a/+")[..], &[0]].concat())), (0xe0, 0x90)),
        ("no alias", after(5, 0, packet(0x30, vec![0, 0, 3, 0x23, 0, 9])), (0xe0, 0x94)),
        ("too large", after(5, 0, long), (0xe0, 0x95)),
        ("malformed", after(5, 0, vec![0x36, 5, 0, 1, b'a', 0, 0]), (0xe0, 0x81)),
        ("against the protocol", after(5, 0, connect_packet(5, "wv-1", 0, &[])), (0xe0, 0x82)),
        ("authentication in the middle", after(5, 0, vec![0xf0, 0]), (0xe0, 0x82)),
        ("silence", after(5, 1, Vec::new()), (0xe0, 0x8d)),
    ];
    block_on(async {
        let login = world.login("wv-1");
        for (what, (connect, then), wanted) in cases {
            // The session before may still be leaving.
            let begun = std::time::Instant::now();
            let answer = loop {
                let mut secured = login.secure(guard.address).await.unwrap();
                secured.write(&connect).await.unwrap();
                let mut answer = secured.next_packet(SOON).await.unwrap_or_default();
                if answer.get(3) == Some(&0x97) || (connect.get(8) == Some(&4) && answer.get(3) == Some(&3)) {
                    assert!(begun.elapsed() < SOON, "{what}");
                    tokio::time::sleep(Duration::from_millis(20)).await;
                    continue;
                }
                if let Some(then) = &then {
                    assert_eq!(code_of(&answer), (0x20, 0), "{what}: the session is open");
                    secured.write(then).await.unwrap();
                    answer = secured.next_packet(SOON).await.unwrap_or_default();
                }
                break answer;
            };
            assert_eq!(code_of(&answer), wanted, "{what}: {answer:x?}");
        }
        // More sessions than there may be.
        let free = || async { login.connect(guard.address).await.ok() };
        let mut one = free().await;
        while one.is_none() {
            tokio::time::sleep(Duration::from_millis(20)).await;
            one = free().await;
        }
        let full = world.login("wv-2").connect(guard.address).await;
        assert!(matches!(full, Err(ConnectError::Refused { code: 0x97, .. })), "{:?}", full.err());
        one.unwrap().goodbye().await;
        world.run(&["hold", "wv-1", "--yes"]).exits(0);
        assert!(matches!(login.connect(guard.address).await, Err(ConnectError::Refused { code: 0x87, .. })));
        let mut old = world.login("wv-1");
        old.version = tidy_warden_core::mqtt::Version::V311;
        assert!(matches!(old.connect(guard.address).await, Err(ConnectError::Refused { code: 5, .. })));
    });
}

#[test]
fn a_store_that_somebody_else_writes_to_for_long_holds_nobody_up() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    // The guard writes at its start too: it is waited for, as any writer waits for another.
    let lock = "(echo 'BEGIN IMMEDIATE; SELECT 42;'; sleep 5) | sqlite3 -cmd '.timeout 20000' w/ward.db";
    let writing = crate::harness::Running::start(world.command("sh").args(["-c", lock]));
    writing.line("that it holds the lock", |line| line == "42");
    let begun = std::time::Instant::now();
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(vane.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok());
        vane.goodbye().await;
    });
    assert!(begun.elapsed() < Duration::from_secs(4), "{:?}", begun.elapsed());
    drop(writing);
    // What was noted meanwhile is written afterwards.
    let live = || world.run(&["device", "show", "wv-1"]).exits(0).stdout.contains("state       live").then_some(());
    assert!(eventually(live).is_some());
}

#[test]
fn the_service_manager_is_told_and_too_few_file_handles_are_warned_of() {
    let world = World::equipped();
    let path = world.path("notify.sock");
    let socket = std::os::unix::net::UnixDatagram::bind(&path).unwrap();
    socket.set_read_timeout(Some(SOON)).unwrap();
    let heard = || {
        let mut text = [0; 256];
        let len = socket.recv(&mut text).unwrap();
        String::from_utf8_lossy(&text[..len]).into_owned()
    };
    let world = world.with("NOTIFY_SOCKET", path.to_str().unwrap());
    let guard = Guard::start(&world, "builtin");
    assert!(heard().contains("READY=1"));
    guard.reload();
    let reloading = heard();
    assert!(reloading.contains("RELOADING=1") && reloading.contains("MONOTONIC_USEC="), "{reloading}");
    assert!(heard().contains("READY=1"));
    guard.running.signal("TERM");
    assert!(heard().contains("STOPPING=1"));

    let program = env!("CARGO_BIN_EXE_tidy-warden");
    let few = format!("ulimit -n 200; exec {program} guard --broker builtin --listen 127.0.0.1:0");
    let mut command = world.command("sh");
    command.env("TIDY_WARDEN_WARD", "w").env("TIDY_WARDEN_PASSPHRASE_FILE", "pass.txt").args(["-c", &few]);
    let guard = crate::harness::Running::start(&mut command);
    let warned = guard.line("the warning", |line| line.contains("file handles"));
    assert!(warned.contains("200 file handles, enough for 68 of 10000 sessions"), "{warned}");
}

#[test]
fn a_guard_that_stops_says_goodbye_on_both_sides() {
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let watch = broker.watch(&world);
    let guard = Guard::before(&world, &broker);
    block_on(async {
        let mut login = world.login("wv-1");
        login.will = Some(("rope/ossel/wv-1/lost".to_owned(), b"gone".to_vec()));
        let mut device = login.connect(guard.address).await.unwrap();
        assert!(device.publish("rope/ossel/wv-1/wind", b"last").await.unwrap().is_ok());
        let stopped = std::thread::spawn(move || guard.running.terminate());
        assert!(device.ended(SOON).await.is_some_and(|how| how.contains("0x8b")));
        drop(device);
        assert_eq!(stopped.join().unwrap(), Some(0));
    });
    watch.line("the last message", |line| line.ends_with(" last"));
    std::thread::sleep(Duration::from_secs(1));
    assert!(!watch.lines().iter().any(|line| line.contains("/lost")), "{}", watch.lines().join("\n"));
}
