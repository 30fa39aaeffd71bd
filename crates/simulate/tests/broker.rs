//! The small broker and peers that lie, babble or know no password: each is only its own trouble.

#![expect(clippy::unwrap_used, reason = "tests fail by panicking")]

use std::time::Duration;

use tidy_warden_core::mqtt::{
    Connect, PacketType, Properties, Property, PropertyId, Publish, Subscribe, Subscription, Value, Version, reason,
    return_code, split,
};
use tidy_warden_simulate::Broker;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

const MAX: usize = 1 << 20;

/// A peer that says whatever octets it likes.
struct Peer(TcpStream, Vec<u8>);

impl Peer {
    async fn new(broker: &Broker) -> Self {
        Self(TcpStream::connect(broker.address()).await.unwrap(), Vec::new())
    }

    async fn known(broker: &Broker, version: Version, id: &str) -> Self {
        let mut peer = Self::new(broker).await;
        let (user, password) = broker.login();
        peer.say(&connect(version, id, &user, &password)).await;
        let answer = peer.hear().await.unwrap();
        assert_eq!((answer[0], answer[3]), (0x20, 0), "{answer:?}");
        peer
    }

    async fn say(&mut self, octets: &[u8]) {
        // One that was turned away may have been cut off before all was said.
        let _ = self.0.write_all(octets).await;
    }

    /// The next packet; `None` when the broker has hung up.
    async fn hear(&mut self) -> Option<Vec<u8>> {
        loop {
            if let Some(len) = split(&self.1, MAX).unwrap().map(|frame| frame.whole.len()) {
                return Some(self.1.drain(..len).collect());
            }
            let read = tokio::time::timeout(Duration::from_secs(30), self.0.read_buf(&mut self.1)).await;
            if read.expect("the broker neither answers nor hangs up").unwrap_or(0) == 0 {
                return None;
            }
        }
    }

    async fn subscribe(&mut self, version: Version, filter: &str) {
        let subscriptions = vec![Subscription { filter, options: 1 }];
        let subscribe = Subscribe { packet_id: 3, properties: Properties::default(), subscriptions };
        self.say(&subscribe.to_bytes(version)).await;
    }
}

fn connect(version: Version, client_id: &str, user: &str, password: &[u8]) -> Vec<u8> {
    let connect = Connect {
        version,
        clean_start: true,
        keep_alive: 0,
        client_id,
        will: None,
        user_name: Some(user),
        password: Some(password),
        properties: Properties::default(),
    };
    connect.to_bytes()
}

fn publish(version: Version, topic: &str, qos: u8, properties: Properties<'_>, payload: &[u8]) -> Vec<u8> {
    let packet_id = (qos > 0).then_some(5);
    Publish { dup: false, qos, retain: false, topic, packet_id, properties, payload }.to_bytes(version)
}

#[tokio::test]
async fn nobody_comes_in_without_the_password_and_each_broker_has_its_own() {
    let (broker, other) = (Broker::start().await.unwrap(), Broker::start().await.unwrap());
    assert!(broker.address().ip().is_loopback());
    let (user, password) = broker.login();
    assert_ne!(password, other.login().1);
    let cases: [(&str, &[u8]); 5] =
        [(&user, b""), (&user, &password[1..]), (&user, &other.login().1), ("somebody", &password), ("", &password)];
    for (user, password) in cases {
        for (version, code) in [(Version::V311, return_code::BAD_LOGIN), (Version::V5, reason::BAD_LOGIN)] {
            let mut peer = Peer::new(&broker).await;
            peer.say(&connect(version, "a", user, password)).await;
            // What is said behind it does nothing.
            peer.say(&publish(version, "t", 0, Properties::default(), b"x")).await;
            let answer = peer.hear().await.unwrap();
            assert_eq!((answer[0], answer[3]), (0x20, code));
            assert_eq!(peer.hear().await, None);
        }
    }
}

#[tokio::test]
async fn whoever_babbles_is_hung_up_on_and_nobody_else_notices() {
    let broker = Broker::start().await.unwrap();
    let mut hearer = Peer::known(&broker, Version::V311, "hearer").await;
    hearer.subscribe(Version::V311, "#").await;
    assert_eq!(hearer.hear().await.unwrap()[0], 0x90);
    let first: [&[u8]; 8] = [
        b"GET / HTTP/1.1\r\n\r\n",
        // Not CONNECT.
        &[0xc0, 0],
        // A remaining length of five octets, and one of 256 MB.
        &[0x10, 0xff, 0xff, 0xff, 0xff, 0x7f],
        &[0x10, 0xff, 0xff, 0xff, 0x7f],
        // CONNECT of another protocol, of a level that does not exist, and with nothing in it.
        &[0x10, 12, 0, 4, b'H', b'T', b'T', b'P', 4, 2, 0, 0, 0, 0],
        &[0x10, 12, 0, 4, b'M', b'Q', b'T', b'T', 9, 2, 0, 0, 0, 0],
        &[0x10, 0],
        &[0; 64],
    ];
    for octets in first {
        let mut peer = Peer::new(&broker).await;
        peer.say(octets).await;
        assert_eq!(peer.hear().await, None, "{octets:?}");
    }
    let invalid = |filter: &'static str| {
        let subscriptions = vec![Subscription { filter, options: 0 }];
        Subscribe { packet_id: 3, properties: Properties::default(), subscriptions }.to_bytes(Version::V311)
    };
    let later: [Vec<u8>; 8] = [
        // A second CONNECT, and what only brokers send.
        connect(Version::V311, "again", "guard", b"x"),
        vec![PacketType::Pingresp.code() << 4, 0],
        vec![0x20, 2, 0, 0],
        // PUBLISH to a filter, of QoS 3, and cut off inside its topic.
        publish(Version::V311, "a/#", 0, Properties::default(), b"x"),
        vec![0x36, 5, 0, 1, b'a', 0, 1],
        vec![0x30, 3, 0, 9, b'a'],
        invalid("a/#/b"),
        // SUBSCRIBE without a filter.
        vec![0x82, 2, 0, 1],
    ];
    for octets in later {
        let mut peer = Peer::known(&broker, Version::V311, "babbler").await;
        peer.say(&octets).await;
        assert_eq!(peer.hear().await, None, "{octets:?}");
    }
    // Nothing of all this was a message: the next one that is heard is a good one.
    let mut sender = Peer::known(&broker, Version::V5, "sender").await;
    sender.say(&publish(Version::V5, "wind", 0, Properties::default(), b"west")).await;
    let heard = hearer.hear().await.unwrap();
    let frame = split(&heard, MAX).unwrap().unwrap();
    assert_eq!(Publish::parse(&frame, Version::V311).unwrap().payload, b"west");
}

#[tokio::test]
async fn a_message_of_qos_2_is_given_once_whatever_its_sender_repeats() {
    let broker = Broker::start().await.unwrap();
    let mut hearer = Peer::known(&broker, Version::V311, "hearer").await;
    hearer.subscribe(Version::V311, "wind").await;
    hearer.hear().await.unwrap();
    let mut sender = Peer::known(&broker, Version::V311, "sender").await;
    for _ in 0..3 {
        sender.say(&publish(Version::V311, "wind", 2, Properties::default(), b"once")).await;
        assert_eq!(sender.hear().await.unwrap(), [0x50, 2, 0, 5]);
    }
    for _ in 0..3 {
        sender.say(&[0x62, 2, 0, 5]).await;
        assert_eq!(sender.hear().await.unwrap(), [0x70, 2, 0, 5]);
    }
    // One that was never released is never given.
    sender.say(&publish(Version::V311, "wind", 2, Properties::default(), b"never")).await;
    sender.hear().await.unwrap();
    sender.say(&publish(Version::V311, "wind", 0, Properties::default(), b"last")).await;
    for want in [&b"once"[..], b"last"] {
        let heard = hearer.hear().await.unwrap();
        let frame = split(&heard, MAX).unwrap().unwrap();
        assert_eq!(Publish::parse(&frame, Version::V311).unwrap().payload, want);
    }
}

#[tokio::test]
async fn what_goes_along_with_a_message_arrives_with_those_who_know_properties() {
    let broker = Broker::start().await.unwrap();
    let mut new = Peer::known(&broker, Version::V5, "new").await;
    let mut old = Peer::known(&broker, Version::V311, "old").await;
    new.subscribe(Version::V5, "call/+").await;
    old.subscribe(Version::V311, "call/+").await;
    for peer in [&mut new, &mut old] {
        peer.hear().await.unwrap();
    }
    let list = vec![
        Property { id: PropertyId::ResponseTopic, value: Value::Text("answer/1") },
        Property { id: PropertyId::ContentType, value: Value::Text("text/plain") },
        Property { id: PropertyId::CorrelationData, value: Value::Binary(&[0, 1, 255]) },
        Property { id: PropertyId::UserProperty, value: Value::Pair("sender", "wv-1") },
        Property { id: PropertyId::UserProperty, value: Value::Pair("sender", "wv-2") },
    ];
    let mut sender = Peer::known(&broker, Version::V5, "sender").await;
    sender.say(&publish(Version::V5, "call/1", 1, Properties::new(list), b"hoy")).await;
    assert_eq!(sender.hear().await.unwrap()[0], 0x40);
    let heard = new.hear().await.unwrap();
    let frame = split(&heard, MAX).unwrap().unwrap();
    let message = Publish::parse(&frame, Version::V5).unwrap();
    assert_eq!(message.properties.text(PropertyId::ResponseTopic), Some("answer/1"));
    assert_eq!(message.properties.text(PropertyId::ContentType), Some("text/plain"));
    let values: Vec<_> = message.properties.iter().map(|property| property.value).collect();
    assert!(values.contains(&Value::Binary(&[0, 1, 255])));
    let pairs: Vec<_> = values.iter().filter(|value| matches!(value, Value::Pair(..))).collect();
    assert_eq!(pairs, [&Value::Pair("sender", "wv-1"), &Value::Pair("sender", "wv-2")]);
    let heard = old.hear().await.unwrap();
    let frame = split(&heard, MAX).unwrap().unwrap();
    assert_eq!(Publish::parse(&frame, Version::V311).unwrap().payload, b"hoy");
}
