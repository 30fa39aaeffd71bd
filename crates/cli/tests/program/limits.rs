//! Nothing may freeze, fill or starve the guard, and nothing passes around the policy: wills, sessions at the broker, floods.

use std::time::{Duration, Instant};

use tidy_warden_core::mqtt::{
    Connect, PacketType, Properties, PropertyId, Publish, Subscribe, Subscription, Value, Version, Will, disconnect,
    reason, split,
};
use tidy_warden_simulate::{ConnectError, Secured};

use crate::harness::{Guard, Mosquitto, World, block_on, eventually};

const SOON: Duration = Duration::from_secs(10);

fn connect(client_id: &str) -> Connect<'_> {
    Connect {
        version: Version::V5,
        clean_start: true,
        keep_alive: 60,
        client_id,
        will: None,
        user_name: None,
        password: None,
        properties: Properties::default(),
    }
}

fn subscribe(filters: &[&str]) -> Vec<u8> {
    let subscriptions = filters.iter().map(|&filter| Subscription { filter, options: 1 }).collect();
    Subscribe { packet_id: 9, properties: Properties::default(), subscriptions }.to_bytes(Version::V5)
}

fn publish<'a>(topic: &'a str, qos: u8, properties: Properties<'a>, payload: &'a [u8]) -> Vec<u8> {
    let packet_id = (qos > 0).then_some(7);
    Publish { dup: false, qos, retain: false, topic, packet_id, properties, payload }.to_bytes(Version::V5)
}

/// Opens a session with a CONNECT of the caller's; gives the connection and the CONNACK.
async fn open(world: &World, guard: &Guard, id: &str, connect: &Connect<'_>) -> (Secured, Vec<u8>) {
    let mut secured = world.login(id).secure(guard.address).await.unwrap();
    secured.write(&connect.to_bytes()).await.unwrap();
    let answer = secured.next_packet(SOON).await.unwrap_or_default();
    (secured, answer)
}

/// The code of a CONNACK.
#[track_caller]
fn code(answer: &[u8]) -> u8 {
    let frame = split(answer, 1 << 16).unwrap().unwrap();
    tidy_warden_core::mqtt::Connack::parse(&frame, Version::V5).unwrap().code
}

/// The code of an acknowledgement to one message.
#[track_caller]
fn ack_code(packet: &[u8]) -> u8 {
    let frame = split(packet, 1 << 16).unwrap().unwrap();
    tidy_warden_core::mqtt::Ack::parse(&frame, Version::V5).unwrap().code
}

#[test]
fn a_subscription_that_would_take_for_ever_is_decided_at_once_and_nothing_waits_for_it() {
    let world = World::equipped();
    world.append("w/ward.toml", "\n[kinds.gateway]\ncarries = [\"windvane\"]\n");
    let mut list = "id,kind,label.site,gateway\nhub,gateway,ossel,\n".to_owned();
    (0..2_000).for_each(|n| list.push_str(&format!("kid-{n},windvane,ossel,hub\n")));
    world.write("children.csv", list);
    world.run(&["device", "import", "children.csv"]).exits(0);
    world.adopt(
        "policy g { for kind = gateway\n allow connect as \"{device}\"\n allow subscribe \"rope/{site}/{child}/#\" for children\n\
         allow subscribe \"k/+/x/#\" because \"own\"\n}\n\
         policy v { for kind = windvane\n allow connect as \"{device}\"\n deny subscribe \"rope/+/{device}/a/+/secret\"\n\
         deny subscribe \"rope/+/+/+/b/secret\"\n deny subscribe \"rope/+/+/c/#\" }\n",
    );
    world.run(&["enroll", "hub", "--make-key", "--out", "outfits"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        let mut hub = world.login("hub").connect(guard.address).await.unwrap();
        let begun = Instant::now();
        for filter in ["rope/+/+/x", "rope/#", "#", "rope/ossel/+/#", "+/+/+/+/+/+/x"] {
            assert!(!hub.subscribe(filter).await.unwrap().is_ok(), "{filter}");
        }
        assert!(hub.subscribe("k/+/x/#").await.unwrap().is_ok());
        // All at once, as one packet can ask.
        let many: Vec<String> = (0..1_000).map(|n| format!("rope/+/+/+/{n}/#")).collect();
        let many: Vec<&str> = many.iter().map(String::as_str).collect();
        let mut raw = world.login("hub").secure(guard.address).await.unwrap();
        raw.write(&connect("hub").to_bytes()).await.unwrap();
        assert_eq!(code(&raw.next_packet(SOON).await.unwrap()), 0);
        raw.write(&subscribe(&many)).await.unwrap();
        vane.ping().await.unwrap();
        world.run(&["hold", "wv-1", "--because", "odd", "--yes"]).exits(0);
        assert!(vane.ended(SOON).await.is_some());
        // Minutes it was, before; a slow machine has seconds to spare.
        assert!(begun.elapsed() < Duration::from_secs(8), "{:?}", begun.elapsed());
    });
}

#[test]
fn a_flood_of_refusals_does_not_fill_the_log_and_ends_the_session() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let long = "x".repeat(60_000);
    block_on(async {
        let (mut flood, answer) = open(&world, &guard, "wv-1", &connect("wv-1")).await;
        assert_eq!(code(&answer), 0);
        let packet = publish(&long, 0, Properties::default(), b"x");
        for _ in 0..700 {
            if flood.write(&packet).await.is_err() {
                break;
            }
        }
        let last = flood.next_packet(SOON).await.unwrap_or_default();
        assert_eq!((last.first(), last.get(2)), (Some(&0xe0), Some(&reason::QUOTA)), "{last:x?}");
        let told = guard.event("slowed", |event| event["device"] == "wv-1");
        assert_eq!(told["seconds"], 2);
        let again = world.login("wv-1").connect(guard.address).await;
        assert!(matches!(again, Err(ConnectError::Refused { code: reason::RATE, .. })), "{:?}", again.err());
        assert!(world.login("wv-2").connect(guard.address).await.is_ok(), "others are not slowed");
        let back = || block_in(async { world.login("wv-1").connect(guard.address).await.is_ok() }).then_some(());
        assert!(eventually(back).is_some(), "and it may come back");
        // A client identifier of control characters is six bytes for each in a log line, and is refused unread.
        let (_, answer) = open(&world, &guard, "wv-2", &connect("wv-2\u{1}\u{2}")).await;
        assert!(answer.is_empty(), "{answer:x?}");
    });
    guard.event("refused-more", |event| event["device"] == "wv-1" && event["count"].as_u64() > Some(400));
    let octets: usize = guard.running.lines().iter().map(String::len).sum();
    assert!(octets < 64 * 1024, "{octets}");
    assert!(guard.running.lines().iter().any(|line| line.contains("(60000 bytes)")));
}

/// Waits within a runtime.
fn block_in<T>(future: impl Future<Output = T>) -> T {
    tokio::task::block_in_place(|| tokio::runtime::Handle::current().block_on(future))
}

#[test]
fn one_device_does_not_take_all_sessions_and_keep_alives_have_a_bound() {
    let world = World::equipped();
    world.append("w/ward.toml", "\n[guard]\nsessions_per_device = 3\nlongest_keep_alive = \"10m\"\n");
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut held = Vec::new();
        for n in 0..3 {
            let id = format!("wv-1:{n}");
            let (session, answer) = open(&world, &guard, "wv-1", &connect(&id)).await;
            assert_eq!(code(&answer), 0);
            held.push(session);
        }
        let (_fourth, answer) = open(&world, &guard, "wv-1", &connect("wv-1:4")).await;
        assert_eq!(code(&answer), reason::QUOTA);
        let text = String::from_utf8_lossy(&answer).into_owned();
        assert!(text.contains("the device has 3 sessions"), "{text}");
        for (asked, told) in [(0, Some(600)), (60_000, Some(600)), (60, None)] {
            let (session, answer) =
                open(&world, &guard, "wv-2", &Connect { keep_alive: asked, ..connect("wv-2") }).await;
            let frame = split(&answer, 1 << 16).unwrap().unwrap();
            let connack = tidy_warden_core::mqtt::Connack::parse(&frame, Version::V5).unwrap();
            assert_eq!(connack.server_keep_alive(), told, "asked for {asked}");
            drop(session);
        }
    });
}

#[test]
fn what_subscriptions_weigh_is_bounded() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let heavy = format!("rope/ossel/wv-1/settings/{}", "y".repeat(5_000));
    let deep = format!("rope/ossel/{}", "a/".repeat(200));
    block_on(async {
        let (mut session, answer) = open(&world, &guard, "wv-1", &connect("wv-1")).await;
        assert_eq!(code(&answer), 0);
        session.write(&subscribe(&[&heavy, &deep, "rope/ossel/wv-1/settings"])).await.unwrap();
        let suback = session.next_packet(SOON).await.unwrap();
        assert_eq!(suback[suback.len() - 3..], [reason::QUOTA, reason::QUOTA, 1]);
    });
}

#[test]
fn health_is_that_of_the_guards_own_connection() {
    let world = World::equipped();
    let broker = Mosquitto::locked(&world);
    let guard = Guard::with(&world, &format!("127.0.0.1:{}", broker.port), &["--metrics", "127.0.0.1:0"]);
    let metrics = guard.told("metrics");
    let health = || world.other("curl", &["-sS", &format!("http://{metrics}/health")]).stdout;
    let becomes = |text: &str| eventually(|| health().contains(text).then_some(())).is_some();
    assert!(becomes("\"broker_answers\":true"));
    // What brokers close the connection for is refused before it reaches one.
    block_on(async {
        let odd = Properties::default().with(PropertyId::UserProperty, Value::Pair("a", "\u{1}"));
        let (_, answer) = open(&world, &guard, "wv-1", &Connect { properties: odd, ..connect("wv-1") }).await;
        assert!(answer.is_empty());
        let bare = Properties::default().with(PropertyId::AuthenticationData, Value::Binary(b"x"));
        let (_, answer) = open(&world, &guard, "wv-1", &Connect { properties: bare, ..connect("wv-1") }).await;
        assert!(answer.is_empty(), "authentication data without a method");
    });
    assert!(health().contains("\"broker_answers\":true"));
    broker.signal("STOP");
    let silent = eventually(|| health().contains("\"broker_answers\":false").then_some(()))
        .or_else(|| eventually(|| health().contains("\"broker_answers\":false").then_some(())));
    assert!(silent.is_some(), "a broker that stands still is noticed");
    broker.signal("CONT");
    assert!(becomes("\"broker_answers\":true"), "and one that goes on again");
    broker.stop();
    assert!(becomes("\"broker_answers\":false"));
}

#[test]
fn a_will_is_held_to_all_that_a_message_is_held_to() {
    let world = World::equipped();
    let policy = crate::harness::POLICY
        .replace("\"rope/{site}/{device}/lost\"", "\"rope/{site}/{device}/lost\" size <= 100, rate <= 2/h");
    world.adopt(&policy);
    let broker = Mosquitto::start(&world);
    let watch = broker.watch(&world);
    let guard = Guard::before(&world, &broker);
    let will = |payload: &'static [u8], properties: Properties<'static>| Will {
        topic: "rope/ossel/wv-1/lost",
        payload,
        qos: 1,
        retain: false,
        properties,
    };
    let long: &'static str = Box::leak("y".repeat(120).into_boxed_str());
    block_on(async {
        let with = |id, value| Properties::default().with(id, value);
        for (properties, wanted) in [
            (with(PropertyId::ResponseTopic, Value::Text("rope/ossel/st-1/brake")), 0x87),
            (with(PropertyId::ResponseTopic, Value::Text("a/#")), 0x90),
            (with(PropertyId::CorrelationData, Value::Binary(&[b'x'; 200])), 0x87),
            (with(PropertyId::UserProperty, Value::Pair("x", long)), 0x87),
            (with(PropertyId::ResponseTopic, Value::Text("rope/ossel/wv-1/settings")), 0),
        ] {
            let asked = Connect { will: Some(will(b"gone", properties.clone())), ..connect("wv-1") };
            let (mut session, answer) = open(&world, &guard, "wv-1", &asked).await;
            assert_eq!(code(&answer), wanted, "{properties:?}");
            if wanted == 0 {
                session.write(&disconnect(Version::V5, reason::SUCCESS, None)).await.unwrap();
                session.closed(SOON).await;
            }
        }
        // The same properties beside a message: they count too.
        let (mut session, _) = open(&world, &guard, "wv-1", &connect("wv-1")).await;
        let heavy = with(PropertyId::CorrelationData, Value::Binary(&[b'x'; 200]));
        session.write(&publish("rope/ossel/wv-1/lost", 1, heavy, b"x")).await.unwrap();
        assert_eq!(ack_code(&session.next_packet(SOON).await.unwrap()), 0x87);
        drop(session);
        // Two wills an hour go, at once or late; the third does not.
        for n in 0..3u8 {
            let payload: &'static [u8] = [b"first".as_slice(), b"second", b"third"][usize::from(n)];
            let delay = if n == 1 { with(PropertyId::WillDelay, Value::Number(1)) } else { Properties::default() };
            let lasting = with(PropertyId::SessionExpiry, Value::Number(60));
            let asked = Connect { will: Some(will(payload, delay)), properties: lasting, ..connect("wv-1") };
            let (session, answer) = open(&world, &guard, "wv-1", &asked).await;
            assert_eq!(code(&answer), 0);
            drop(session);
            if n < 2 {
                let text = format!("rope/ossel/wv-1/lost {}", String::from_utf8_lossy(payload));
                watch.line("a will", |line| line == text);
            }
        }
        // A message of somebody else's behind it: then the third would have come.
        eventually(|| {
            (guard.running.lines().iter().filter(|line| line.contains("\"closed\"")).count() >= 3).then_some(())
        });
        let mut other = world.login("wv-2").connect(guard.address).await.unwrap();
        assert!(other.publish("rope/ossel/wv-2/wind", b"marker").await.unwrap().is_ok());
        watch.line("the marker", |line| line.ends_with("marker"));
    });
    assert!(!watch.lines().iter().any(|line| line.ends_with("third")), "{}", watch.lines().join("\n"));
}

#[test]
fn a_will_that_waits_outlives_the_guard_and_is_decided_when_it_is_due() {
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let watch = broker.watch(&world);
    let guard = Guard::before(&world, &broker);
    let lose = |id: &'static str, topic: &'static str, guard: &Guard| {
        block_on(async {
            let properties = Properties::default().with(PropertyId::WillDelay, Value::Number(3));
            let will = Will { topic, payload: b"gone", qos: 2, retain: false, properties };
            let properties = Properties::default().with(PropertyId::SessionExpiry, Value::Number(60));
            let (session, answer) =
                open(&world, guard, id, &Connect { will: Some(will), properties, ..connect(id) }).await;
            assert_eq!(code(&answer), 0);
            drop(session);
        });
        guard.event("closed", |event| event["device"] == id);
    };
    lose("wv-1", "rope/ossel/wv-1/lost", &guard);
    lose("wv-2", "rope/ossel/wv-2/lost", &guard);
    assert_eq!(guard.running.terminate(), Some(0));
    world.run(&["revoke", "wv-2", "--reason", "keyCompromise", "--yes"]).exits(0);
    let guard = Guard::before(&world, &broker);
    guard.event("will-not-sent", |event| event["device"] == "wv-2");
    watch.line("the will of who only was lost", |line| line == "rope/ossel/wv-1/lost gone");
    assert!(!watch.lines().iter().any(|line| line.contains("wv-2/lost")), "{}", watch.lines().join("\n"));
}

#[test]
fn a_session_at_the_broker_outlives_a_lost_right_to_a_will_and_ends_with_its_device() {
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let guard = Guard::before(&world, &broker);
    let lasting = || Properties::default().with(PropertyId::SessionExpiry, Value::Number(600));
    let settings = "rope/ossel/wv-1/settings";
    let leave = |guard: &Guard| {
        block_on(async {
            let properties = Properties::default().with(PropertyId::WillDelay, Value::Number(1));
            let will = Will { topic: "rope/ossel/wv-1/lost", payload: b"gone", qos: 1, retain: false, properties };
            let asked = Connect { clean_start: false, will: Some(will), properties: lasting(), ..connect("wv-1") };
            let (mut session, answer) = open(&world, guard, "wv-1", &asked).await;
            assert_eq!(code(&answer), 0);
            session.write(&subscribe(&[settings])).await.unwrap();
            assert_eq!(session.next_packet(SOON).await.unwrap().last(), Some(&1));
        });
    };
    leave(&guard);
    // It loses the right to its will while it is away; what waits for it there stays.
    world.adopt(&crate::harness::POLICY.replace("  allow publish   \"rope/{site}/{device}/lost\"\n", ""));
    guard.event("will-not-sent", |event| event["device"] == "wv-1");
    let send = |guard: &Guard, text: &'static [u8]| {
        block_on(async {
            let mut control = world.login("cr-ossel").connect(guard.address).await.unwrap();
            assert!(control.publish(settings, text).await.unwrap().is_ok());
        });
    };
    let fetch = |guard: &Guard| {
        block_on(async {
            let asked = Connect { clean_start: false, properties: lasting(), ..connect("wv-1") };
            let (mut session, answer) = open(&world, guard, "wv-1", &asked).await;
            let present = answer[2] == 1;
            let message = session.next_packet(Duration::from_secs(2)).await;
            session.write(&disconnect(Version::V5, reason::SUCCESS, None)).await.unwrap();
            session.closed(SOON).await;
            (present, message.filter(|packet| packet[0] >> 4 == PacketType::Publish.code()))
        })
    };
    send(&guard, b"slow");
    let (present, message) = fetch(&guard);
    assert!(present && message.is_some_and(|packet| packet.ends_with(b"slow")));
    // Also after the guard was started anew, which then knows what the session is subscribed to.
    assert_eq!(guard.running.terminate(), Some(0));
    world.adopt(&crate::harness::POLICY.replace("/settings\"\n  deny", "/orders\"\n  deny"));
    let guard = Guard::before(&world, &broker);
    let (present, _) = fetch(&guard);
    assert!(present);
    guard.event("subscription-ended", |event| event["device"] == "wv-1" && event["filter"] == settings);
    // A revoked device has no session left at the broker.
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--yes"]).exits(0);
    let gone = eventually(|| {
        let count = world.other("sqlite3", &["w/ward.db", "SELECT count(*) FROM broker_sessions"]).stdout;
        (count.trim() == "0").then_some(())
    });
    assert!(gone.is_some());
}
