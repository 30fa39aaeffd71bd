use std::sync::{Arc, Mutex};

use proptest::prelude::*;
use tidy_warden_core::condition::Groups;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::errand::Reserved;
use tidy_warden_core::mqtt::{
    Ack, PacketType, Property, Publish, SubAck, Subscribe, Subscription, Value, split, suback,
};
use tidy_warden_core::policy::{Edition, NoMeter, PolicyFile};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::UnixTime;

use super::*;
use crate::errands::{Errands, Told};
use crate::evidence::Notices;
use crate::watching::{Observer, Trial};

const POLICY: &str = r#"policy p {
  for kind = windvane
  allow publish   "rope/{device}/wind" qos <= 1
  allow publish   "rope/{device}/gust"
  allow subscribe "rope/{device}/settings" qos <= 1
  allow subscribe "rope/{device}/answers"
  deny  publish   "rope/+/brake" because "only drive stations brake"
}"#;

pub(super) fn rights(policy: &str) -> Rights {
    let files = [PolicyFile { name: "policies/p.policy".into(), text: policy.into() }];
    let edition = Edition::read(1, &files, &Groups::new()).unwrap();
    let device = DeviceRecord::new("wv-1".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
    edition.rights_with(&device, [], &settings())
}

fn settings() -> Settings {
    let text = "[ward]\nname = \"t\"\n[endpoints]\nmqtt = \"mqtt.example:8883\"\ndesk = \"desk.example:8843\"\n[kinds.windvane]\n";
    Settings::parse(&Source::new("ward.toml", text)).unwrap()
}

pub(super) fn now() -> Moment {
    Moment { time: UnixTime(9), tick: std::time::Instant::now() }
}

fn watching(observer: Option<Observer>, trial: Option<Trial>) -> Watching {
    let device = "wv-1".parse().unwrap();
    Watching { device, observer, notes: Arc::default(), now: now().time, trial }
}

pub(super) fn given(rights: Rights) -> Given {
    Given { rights, trial: None }
}

pub(super) fn manner(on_refusal: OnRefusal) -> Manner {
    Manner { on_refusal, sender_property: "".into() }
}

/// The end of a way of errands, and its other end.
pub(super) fn line() -> (Line, tokio::sync::mpsc::Receiver<Told>) {
    let (errands, told) = Errands::new();
    (Line::new(errands, Reserved::default(), "wv-1".parse().unwrap(), (Arc::default(), false), None), told)
}

pub(super) fn gate(version: Version, on_refusal: OnRefusal) -> Gate {
    let peer = "127.0.0.1:1".parse().unwrap();
    let explanations = Explanations::of(&Properties::default());
    let watching = watching(None, None);
    let handling = Handling {
        peer,
        manner: manner(on_refusal),
        counting: Counting::default(),
        introductions: Default::default(),
        line: line().0,
        notices: Notices {
            book: Arc::default(),
            device: "wv-1".parse().unwrap(),
            source: std::net::IpAddr::from([127, 0, 0, 1]).into(),
            is_proved: true,
        },
    };
    let mut gate = Gate::new(version, explanations, rights(POLICY), watching, Box::new(NoMeter), handling, now());
    gate.alias_limit = 3;
    gate
}

fn v5() -> Gate {
    gate(Version::V5, OnRefusal::Refuse)
}

/// Feeds one packet from the client.
pub(super) fn client(gate: &mut Gate, packet: &[u8]) -> (Output, Result<(), Close>) {
    let mut out = Output::default();
    let result = gate.client_packet(now(), &split(packet, 1 << 20).unwrap().unwrap(), &mut out);
    (out, result)
}

/// Feeds one packet from the broker.
pub(super) fn broker(gate: &mut Gate, packet: &[u8]) -> (Output, Result<(), Close>) {
    let mut out = Output::default();
    let result = gate.broker_packet(now(), &split(packet, 1 << 20).unwrap().unwrap(), &mut out);
    (out, result)
}

pub(super) fn publish<'a>(topic: &'a str, qos: u8, properties: Vec<Property<'a>>) -> Publish<'a> {
    let packet_id = (qos > 0).then_some(7);
    Publish { dup: false, qos, retain: false, topic, packet_id, properties: Properties::new(properties), payload: b"x" }
}

pub(super) fn subscribe(filters: &[(&str, u8)], version: Version) -> Vec<u8> {
    let subscriptions = filters.iter().map(|&(filter, options)| Subscription { filter, options }).collect();
    Subscribe { packet_id: 9, properties: Properties::default(), subscriptions }.to_bytes(version)
}

fn ack(packet_type: PacketType, code: u8, version: Version) -> Vec<u8> {
    Ack { packet_type, packet_id: 7, code }.to_bytes(version, None)
}

#[test]
fn allowed_messages_pass_as_the_octets_that_came() {
    for version in [Version::V311, Version::V5] {
        let mut gate = gate(version, OnRefusal::Refuse);
        let packet = publish("rope/wv-1/wind", 1, Vec::new()).to_bytes(version);
        let (out, result) = client(&mut gate, &packet);
        assert_eq!((out.to_broker, result), (packet, Ok(())));
        assert!(out.to_client.is_empty() && out.events.is_empty());
    }
}

#[test]
fn in_5_0_a_refusal_has_a_code_and_names_the_rule() {
    let mut gate = v5();
    for (qos, packet_type) in [(1, PacketType::Puback), (2, PacketType::Pubrec)] {
        let (out, result) = client(&mut gate, &publish("rope/wv-1/brake", qos, Vec::new()).to_bytes(Version::V5));
        assert_eq!(result, Ok(()));
        assert!(out.to_broker.is_empty());
        let frame = split(&out.to_client, 1000).unwrap().unwrap();
        assert_eq!(frame.packet_type, packet_type);
        assert_eq!(Ack::parse(&frame, Version::V5).unwrap().code, reason::NOT_AUTHORIZED);
        let properties = Properties::of_ack(&frame.body[3..]).unwrap();
        let text = properties.text(PropertyId::ReasonString).unwrap();
        assert!(text.contains("policies/p.policy:7") && text.contains("only drive stations brake"), "{text}");
        assert!(matches!(&out.events[..], [Event::Refused { rule: Some(rule), .. }] if rule.line == 7));
    }
    let (out, result) = client(&mut gate, &publish("rope/wv-2/wind", 0, Vec::new()).to_bytes(Version::V5));
    assert_eq!((out.to_broker.len(), out.to_client.len(), out.events.len(), result), (0, 0, 1, Ok(())));
}

#[test]
fn explanations_are_left_out_where_the_client_does_not_take_them() {
    let packet = publish("rope/wv-1/brake", 1, Vec::new()).to_bytes(Version::V5);
    let answer = |id, value| {
        let mut gate = v5();
        gate.explanations = Explanations::of(&Properties::new(vec![Property { id, value: Value::Number(value) }]));
        client(&mut gate, &packet).0.to_client
    };
    let bare = ack(PacketType::Puback, reason::NOT_AUTHORIZED, Version::V5);
    assert_eq!(answer(PropertyId::RequestProblemInformation, 0), bare);
    assert_eq!(answer(PropertyId::MaximumPacketSize, 20), bare);
    assert!(answer(PropertyId::MaximumPacketSize, 1000).len() > bare.len());
    assert!(answer(PropertyId::RequestProblemInformation, 1).len() > bare.len());
}

#[test]
fn in_3_1_1_a_refusal_closes_or_drops_by_setting() {
    let packet = |qos| publish("rope/wv-2/wind", qos, Vec::new()).to_bytes(Version::V311);
    let (out, result) = client(&mut gate(Version::V311, OnRefusal::Refuse), &packet(1));
    assert!(matches!(result, Err(Close::Fault { code: reason::NOT_AUTHORIZED, .. })));
    assert!(out.to_broker.is_empty());

    let mut gate = gate(Version::V311, OnRefusal::Drop);
    let (out, result) = client(&mut gate, &packet(1));
    assert_eq!(result, Ok(()));
    assert_eq!((out.to_client, out.to_broker), (ack(PacketType::Puback, 0, Version::V311), vec![]));
    let (out, _) = client(&mut gate, &packet(2));
    assert_eq!((out.to_client, out.to_broker), (ack(PacketType::Pubrec, 0, Version::V311), vec![]));
    let (out, _) = client(&mut gate, &ack(PacketType::Pubrel, 0, Version::V311));
    assert_eq!((out.to_client, out.to_broker), (ack(PacketType::Pubcomp, 0, Version::V311), vec![]));
    // A release of a message that the broker has is the broker's business.
    let (out, _) = client(&mut gate, &ack(PacketType::Pubrel, 0, Version::V311));
    assert_eq!((out.to_client.len(), out.to_broker), (0, ack(PacketType::Pubrel, 0, Version::V311)));
}

#[test]
fn aliases_are_decided_and_passed_on_as_the_topics_they_stand_for() {
    let mut gate = v5();
    let alias = |number| vec![Property { id: PropertyId::TopicAlias, value: Value::Number(number) }];
    let plain = publish("rope/wv-1/wind", 1, Vec::new()).to_bytes(Version::V5);
    let (out, _) = client(&mut gate, &publish("rope/wv-1/wind", 1, alias(2)).to_bytes(Version::V5));
    assert_eq!(out.to_broker, plain);
    let (out, _) = client(&mut gate, &publish("", 1, alias(2)).to_bytes(Version::V5));
    assert_eq!(out.to_broker, plain);
    // An alias that was set with a refused message still stands for its topic, and is refused again.
    client(&mut gate, &publish("rope/wv-2/wind", 1, alias(2)).to_bytes(Version::V5)).1.unwrap();
    let (out, _) = client(&mut gate, &publish("", 1, alias(2)).to_bytes(Version::V5));
    assert_eq!((out.to_broker.len(), out.events.len()), (0, 1));
    for (topic, number) in [("", 3), ("a", 4)] {
        let (_, result) = client(&mut gate, &publish(topic, 1, alias(number)).to_bytes(Version::V5));
        assert!(matches!(result, Err(Close::Fault { code: reason::BAD_ALIAS, .. })), "{topic:?} {number}: {result:?}");
    }
}

#[test]
fn of_several_filters_only_granted_ones_go_on_and_codes_keep_their_order() {
    for (version, denied) in [(Version::V5, 0x87), (Version::V311, 0x80)] {
        let mut gate = gate(version, OnRefusal::Refuse);
        let asked = [("rope/#", 0), ("rope/wv-1/settings", 2), ("#", 1), ("rope/wv-1/answers", 2)];
        let (out, result) = client(&mut gate, &subscribe(&asked, version));
        assert_eq!(result, Ok(()));
        assert_eq!(out.to_broker, subscribe(&[("rope/wv-1/settings", 1), ("rope/wv-1/answers", 2)], version));
        assert_eq!(out.events.len(), 2);
        let (out, _) = broker(&mut gate, &suback(version, 9, &[1, 2], None));
        let answer = split(&out.to_client, 1000).unwrap().unwrap();
        assert_eq!(SubAck::parse(&answer, version).unwrap().codes, [denied, 1, denied, 2]);
        let (out, _) = client(&mut gate, &subscribe(&[("$share/g/rope/wv-1/settings", 0)], version));
        assert!(out.to_broker.is_empty());
        let answer = split(&out.to_client, 1000).unwrap().unwrap();
        assert_eq!(SubAck::parse(&answer, version).unwrap().codes, [denied]);
    }
}

#[test]
fn what_is_not_allowed_now_is_withheld_and_acknowledged() {
    let mut gate = v5();
    let to = |topic, qos| publish(topic, qos, Vec::new()).to_bytes(Version::V5);
    let (out, _) = broker(&mut gate, &to("rope/wv-1/settings", 1));
    assert_eq!((out.to_client, out.to_broker.len()), (to("rope/wv-1/settings", 1), 0));
    let (out, _) = broker(&mut gate, &to("rope/wv-2/settings", 0));
    assert_eq!((out.to_client.len(), out.to_broker.len(), out.events.len()), (0, 0, 1));
    let (out, _) = broker(&mut gate, &to("rope/wv-2/settings", 1));
    assert_eq!((out.to_client.len(), out.to_broker), (0, ack(PacketType::Puback, 0, Version::V5)));
    let (out, _) = broker(&mut gate, &to("rope/wv-2/settings", 2));
    assert_eq!((out.to_client.len(), out.to_broker), (0, ack(PacketType::Pubrec, 0, Version::V5)));
    let (out, _) = broker(&mut gate, &ack(PacketType::Pubrel, 0, Version::V5));
    assert_eq!((out.to_client.len(), out.to_broker), (0, ack(PacketType::Pubcomp, 0, Version::V5)));
}

#[test]
fn subscriptions_that_became_too_wide_are_ended_once() {
    let mut gate = v5();
    client(&mut gate, &subscribe(&[("rope/wv-1/settings", 0)], Version::V5)).1.unwrap();
    broker(&mut gate, &suback(Version::V5, 9, &[0], None)).1.unwrap();
    let mut out = Output::default();
    gate.set_given(now(), given(rights(POLICY)), manner(OnRefusal::Refuse), &mut out);
    assert!(out.to_broker.is_empty(), "the same rights end nothing");
    let narrow = rights("policy p { for kind = windvane allow publish \"rope/{device}/wind\" }");
    gate.set_given(now(), given(narrow.clone()), manner(OnRefusal::Refuse), &mut out);
    let frame = split(&out.to_broker, 1000).unwrap().unwrap();
    let unsubscribe = Unsubscribe::parse(&frame, Version::V5).unwrap();
    assert_eq!(unsubscribe.filters, ["rope/wv-1/settings"]);
    let answer = tidy_warden_core::mqtt::unsuback(Version::V5, unsubscribe.packet_id, 1);
    assert!(broker(&mut gate, &answer).0.to_client.is_empty(), "the client never asked for it");
    assert!(!broker(&mut gate, &answer).0.to_client.is_empty(), "a second one is the client's");
    let mut again = Output::default();
    gate.set_given(now(), given(narrow), manner(OnRefusal::Refuse), &mut again);
    assert!(again.to_broker.is_empty());
}

#[test]
fn a_subscription_granted_while_the_edition_changed_does_not_stay() {
    let mut gate = v5();
    client(&mut gate, &subscribe(&[("rope/wv-1/settings", 0)], Version::V5)).1.unwrap();
    gate.set_given(
        now(),
        given(rights("policy p { for kind = windvane }")),
        manner(OnRefusal::Refuse),
        &mut Output::default(),
    );
    let (out, _) = broker(&mut gate, &suback(Version::V5, 9, &[0], None));
    assert_eq!(split(&out.to_broker, 1000).unwrap().unwrap().packet_type, PacketType::Unsubscribe);
    assert!(matches!(&out.events[..], [Event::SubscriptionEnded { .. }]));
}

#[test]
fn a_response_topic_must_be_one_that_its_sender_may_hear() {
    let mut gate = v5();
    let response = |topic| vec![Property { id: PropertyId::ResponseTopic, value: Value::Text(topic) }];
    let (out, _) =
        client(&mut gate, &publish("rope/wv-1/wind", 1, response("rope/wv-1/answers")).to_bytes(Version::V5));
    assert!(!out.to_broker.is_empty());
    let (out, _) = client(&mut gate, &publish("rope/wv-1/wind", 1, response("rope/wv-2/wind")).to_bytes(Version::V5));
    assert_eq!((out.to_broker.len(), out.events.len()), (0, 1));
    let (_, result) = client(&mut gate, &publish("rope/wv-1/wind", 1, response("a/+")).to_bytes(Version::V5));
    assert!(matches!(result, Err(Close::Fault { code: reason::BAD_TOPIC, .. })));
}

#[test]
fn packets_out_of_place_end_the_session() {
    let server_only: &[&[u8]] = &[&[0x20, 2, 0, 0], &[0x90, 3, 0, 1, 0], &[0xb0, 2, 0, 1], &[0xd0, 0]];
    let connect = [&[0x10, 13, 0, 4][..], b"MQTT", &[4, 2, 0, 60, 0, 1, b'a']].concat();
    let others: &[&[u8]] = &[&connect, &[0xf0, 0], &[0xc0, 1, 0], &[0x30, 3, 0, 1, b'+'], &[0x30, 2, 0, 0]];
    for packet in server_only.iter().chain(others) {
        let (out, result) = client(&mut gate(Version::V311, OnRefusal::Drop), packet);
        assert!(matches!(result, Err(Close::Fault { .. })), "{packet:x?}");
        assert!(out.to_broker.is_empty(), "{packet:x?}");
    }
    let (_, result) = client(&mut v5(), &subscribe(&[("a/#/b", 0)], Version::V5));
    assert!(matches!(result, Err(Close::Fault { code: reason::BAD_FILTER, .. })), "{result:?}");
    assert_eq!(client(&mut v5(), &[0xe0, 0]).1, Err(Close::Goodbye));
    let (out, result) = client(&mut v5(), &[0xe0, 1, 4]);
    assert_eq!((out.to_broker.len(), result), (0, Err(Close::GoodbyeWithWill)));
    assert!(matches!(broker(&mut v5(), &[0x90, 4, 0, 1, 0, 0]).1, Err(Close::Broker(_))), "it answers nothing");
}

#[test]
fn shared_subscriptions_go_by_the_name_of_their_share() {
    let policy =
        "policy p { for kind = windvane\n allow subscribe \"rope/+/storm\" share \"works\" qos <= 1 because \"x\" }";
    let no_local = subscribe(&[("$share/works/rope/+/storm", 0b100)], Version::V5);
    assert!(matches!(client(&mut v5(), &no_local).1, Err(Close::Fault { code: 0x82, .. })), "a protocol error");
    for version in [Version::V5, Version::V311] {
        let mut gate = gate(version, OnRefusal::Refuse);
        gate.set_given(now(), given(rights(policy)), manner(OnRefusal::Refuse), &mut Output::default());
        let asked = [("$share/works/rope/+/storm", 2), ("rope/+/storm", 1), ("$share/other/rope/+/storm", 1)];
        let (out, _) = client(&mut gate, &subscribe(&asked, version));
        assert_eq!(out.to_broker, subscribe(&[("$share/works/rope/+/storm", 1)], version));
        broker(&mut gate, &suback(version, 9, &[1], None)).1.unwrap();
        let (out, _) = broker(&mut gate, &publish("rope/a/storm", 0, Vec::new()).to_bytes(version));
        assert!(!out.to_client.is_empty());
        let mut out = Output::default();
        gate.set_given(now(), given(rights(POLICY)), manner(OnRefusal::Refuse), &mut out);
        assert_eq!(out.events.len(), 1, "it is ended when the rule is gone");
    }
}

#[test]
fn acts_are_observed_and_held_against_the_policies_on_trial() {
    let seen: Arc<Mutex<Vec<String>>> = Arc::default();
    let into = seen.clone();
    let observer: Observer = Arc::new(move |act| into.lock().unwrap().push(serde_json::to_string(act).unwrap()));
    let trial =
        "policy p { for kind = windvane\n allow publish \"rope/{device}/wind\"\n allow subscribe \"rope/{device}/#\" }";
    let trial = Trial { number: 4, rights: rights(trial) };
    let mut gate = gate(Version::V5, OnRefusal::Refuse);
    gate.watching = watching(Some(observer), Some(trial));
    let notes = gate.watching.notes.clone();
    for topic in ["rope/wv-1/wind", "rope/wv-1/gust", "rope/wv-1/gust", "rope/wv-9/wind"] {
        client(&mut gate, &publish(topic, 0, Vec::new()).to_bytes(Version::V5)).1.unwrap();
    }
    client(&mut gate, &subscribe(&[("rope/wv-1/open", 0)], Version::V5)).1.unwrap();
    broker(&mut gate, &publish("rope/wv-1/open", 0, Vec::new()).to_bytes(Version::V5)).1.unwrap();
    let seen = seen.lock().unwrap();
    assert_eq!(seen.len(), 5);
    assert_eq!(
        seen[3],
        r#"{"device":"wv-1","act":"publish","subject":"rope/wv-9/wind","qos":0,"retain":false,"size":1,"allowed":false}"#
    );
    let mut told = notes.take().remove(&4).unwrap();
    told.sort_by(|a, b| a.act.cmp(&b.act));
    let told: Vec<_> = told.iter().map(|each| (each.act.as_str(), each.would_allow, each.count, &*each.rule)).collect();
    let by = "policies/p.policy:3 (policy p)";
    assert_eq!(told, [("deliver", true, 1, ""), ("publish", false, 2, ""), ("subscribe", true, 1, by)]);
}

/// Whether every PUBLISH and SUBSCRIBE in `bytes` is one that [`POLICY`] gives.
fn only_allowed(mut rest: &[u8], version: Version) -> bool {
    while let Ok(Some(frame)) = split(rest, 1 << 20) {
        let good = match frame.packet_type {
            PacketType::Publish => Publish::parse(&frame, version).is_ok_and(|publish| {
                let named = publish.properties.user("sender");
                (version == Version::V311 || named == Some("wv-1"))
                    && (publish.topic == "rope/wv-1/gust" || (publish.topic == "rope/wv-1/wind" && publish.qos <= 1))
            }),
            PacketType::Subscribe => Subscribe::parse(&frame, version).is_ok_and(|subscribe| {
                let known = ["rope/wv-1/settings", "rope/wv-1/answers"];
                subscribe.subscriptions.iter().all(|asked| known.contains(&asked.filter))
            }),
            _ => true,
        };
        if !good {
            return false;
        }
        rest = &rest[frame.whole.len()..];
    }
    rest.is_empty()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20_000))]

    /// Whatever octets a client or a broker sends, nothing panics, what goes to the broker is whole and allowed, and no more
    /// goes to the client than its rights give.
    #[test]
    fn damaged_packets_do_no_harm(
        version in prop_oneof![Just(Version::V311), Just(Version::V5)],
        packets in proptest::collection::vec((0usize..8, any::<bool>(), any::<u16>(), any::<u8>(), any::<bool>()), 1..10),
    ) {
        let alias = |number| vec![Property { id: PropertyId::TopicAlias, value: Value::Number(number) }];
        let properties = |number| if version == Version::V5 { alias(number) } else { Vec::new() };
        let seeds = [
            publish("rope/wv-1/wind", 1, properties(1)).to_bytes(version),
            publish("rope/wv-1/gust", 2, properties(2)).to_bytes(version),
            publish("rope/wv-2/wind", 1, properties(2)).to_bytes(version),
            publish("rope/wv-1/settings", 0, properties(1)).to_bytes(version),
            subscribe(&[("rope/wv-1/settings", 0), ("#", 0), ("rope/wv-1/answers", 2)], version),
            suback(version, 9, &[0, 1], None),
            ack(PacketType::Pubrel, 0, version),
            ack(PacketType::Puback, 0x87, version),
        ];
        let mut gate = gate(version, OnRefusal::Drop);
        gate.manner.sender_property = "sender".into();
        gate.alias_limit_out = 2;
        for (at, from_client, place, octet, damaged) in packets {
            let mut packet = seeds[at].clone();
            if damaged {
                let place = usize::from(place) % packet.len();
                packet[place] = octet;
            }
            let Ok(Some(frame)) = split(&packet, 1 << 20) else { continue };
            let mut out = Output::default();
            let result = match from_client {
                true => gate.client_packet(now(), &frame, &mut out),
                false => gate.broker_packet(now(), &frame, &mut out),
            };
            prop_assert!(only_allowed(&out.to_broker, version), "{:x?}", out.to_broker);
            let mut rest = out.to_client.as_slice();
            while let Ok(Some(frame)) = split(rest, 1 << 20) {
                if frame.packet_type == PacketType::Publish {
                    let publish = Publish::parse(&frame, version).unwrap();
                    let known = ["rope/wv-1/settings", "rope/wv-1/answers", ""];
                    prop_assert!(known.contains(&publish.topic), "{publish:?}");
                }
                rest = &rest[frame.whole.len()..];
            }
            prop_assert!(rest.is_empty());
            if result.is_err() {
                break;
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    /// Whatever a client sends in whatever order, no PUBLISH goes on that its rights do not give, and no SUBSCRIBE.
    #[test]
    fn nothing_forbidden_goes_on(
        version in prop_oneof![Just(Version::V311), Just(Version::V5)],
        acts in proptest::collection::vec((0u8..4, 0usize..6, 0u8..3, 0u32..4), 1..12),
    ) {
        const TOPICS: [&str; 6] = ["rope/wv-1/wind", "rope/wv-1/gust", "rope/wv-2/wind", "rope/wv-1/brake", "", "#"];
        const FILTERS: [&str; 6] =
            ["rope/wv-1/settings", "rope/wv-1/answers", "rope/+/settings", "rope/wv-1/#", "#", "$share/g/#"];
        let mut gate = gate(version, OnRefusal::Drop);
        for (kind, at, qos, alias) in acts {
            let packet = match kind {
                0 => subscribe(&[(FILTERS[at], qos), (FILTERS[(at + 1) % 6], 0)], version),
                1 if version == Version::V5 && alias > 0 => {
                    let property = Property { id: PropertyId::TopicAlias, value: Value::Number(alias) };
                    publish(TOPICS[at], qos, vec![property]).to_bytes(version)
                }
                2 => ack(PacketType::Pubrel, 0, version),
                _ => publish(TOPICS[at], qos, Vec::new()).to_bytes(version),
            };
            let (out, result) = client(&mut gate, &packet);
            let mut rest = out.to_broker.as_slice();
            while let Some(frame) = split(rest, 1 << 20).unwrap() {
                match frame.packet_type {
                    PacketType::Publish => {
                        let publish = Publish::parse(&frame, version).unwrap();
                        let allowed = publish.topic == "rope/wv-1/gust" || (publish.topic == "rope/wv-1/wind" && publish.qos <= 1);
                        prop_assert!(allowed, "{:?}", publish);
                    }
                    PacketType::Subscribe => {
                        for asked in Subscribe::parse(&frame, version).unwrap().subscriptions {
                            let limit = if asked.filter == "rope/wv-1/settings" { 1 } else { 2 };
                            prop_assert!(FILTERS[..2].contains(&asked.filter) && asked.qos() <= limit, "{:?}", asked);
                        }
                    }
                    _ => {}
                }
                rest = &rest[frame.whole.len()..];
            }
            if result.is_err() {
                break;
            }
        }
    }
}

#[test]
fn the_sender_is_proved_and_cannot_be_forged() {
    let named = Manner { on_refusal: OnRefusal::Refuse, sender_property: "sender".into() };
    let pair = |name, value| Property { id: PropertyId::UserProperty, value: Value::Pair(name, value) };
    let said = |gate: &mut Gate, topic: &str, properties| {
        let (out, _) = client(gate, &publish(topic, 1, properties).to_bytes(Version::V5));
        let frame = split(&out.to_broker, 1000).unwrap().unwrap();
        let passed = Publish::parse(&frame, Version::V5).unwrap();
        let pairs = passed.properties.iter().filter_map(|property| match property.value {
            Value::Pair(name, value) => Some(format!("{name}={value}")),
            _ => None,
        });
        pairs.collect::<Vec<_>>()
    };
    let mut gate = v5();
    gate.manner = named.clone();
    assert_eq!(said(&mut gate, "rope/wv-1/wind", vec![]), ["sender=wv-1"]);
    let forged = vec![pair("sender", "wv-2"), pair("unit", "m/s"), pair("sender", "wv-3")];
    assert_eq!(said(&mut gate, "rope/wv-1/wind", forged), ["unit=m/s", "sender=wv-1"]);

    // A gateway tells for which of its children it speaks.
    let settings = Settings::parse(&Source::new(
        "ward.toml",
        "[ward]\nname = \"w\"\n[kinds.station]\ncarries = [\"windvane\"]\n[kinds.windvane]\n",
    ))
    .unwrap();
    let station = DeviceRecord::new("st-1".parse().unwrap(), "station".parse().unwrap(), UnixTime(0));
    let mut behind = DeviceRecord::new("wv-7".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
    behind.gateway = Some(station.id.clone());
    let text = "policy p { for kind = station\n allow publish \"rope/{device}/power\"\n \
                allow publish \"rope/{child}/wind\" for children }";
    let files = [PolicyFile { name: "policies/p.policy".into(), text: text.into() }];
    let edition = Edition::read(1, &files, &Groups::new()).unwrap();
    gate.rights = edition.rights_with(&station, [&behind], &settings);
    gate.device = "st-1".to_owned();
    assert_eq!(said(&mut gate, "rope/wv-7/wind", vec![]), ["sender=st-1/wv-7"]);
    assert_eq!(said(&mut gate, "rope/st-1/power", vec![]), ["sender=st-1"]);

    let mut old = self::gate(Version::V311, OnRefusal::Refuse);
    old.manner = named;
    let packet = publish("rope/wv-1/wind", 1, Vec::new()).to_bytes(Version::V311);
    assert_eq!(client(&mut old, &packet).0.to_broker, packet, "3.1.1 has no properties");
}

#[test]
fn the_brokers_aliases_stand_for_topics_that_the_client_was_told() {
    let mut gate = v5();
    gate.alias_limit_out = 2;
    let alias = |number| vec![Property { id: PropertyId::TopicAlias, value: Value::Number(number) }];
    let message = |topic, number| publish(topic, 0, alias(number)).to_bytes(Version::V5);
    let set = message("rope/wv-1/settings", 1);
    assert_eq!(broker(&mut gate, &set).0.to_client, set);
    let again = message("", 1);
    assert_eq!(broker(&mut gate, &again).0.to_client, again, "the client knows it");
    // The message that gives the alias another meaning is withheld, so that the client still has the old one.
    assert!(broker(&mut gate, &message("rope/wv-2/settings", 1)).0.to_client.is_empty());
    let (out, _) = broker(&mut gate, &again);
    assert!(out.to_client.is_empty() && out.events.len() == 1, "what it stands for now is not allowed");
    gate.set_given(
        now(),
        given(rights("policy p { for kind = windvane\n allow subscribe \"rope/+/settings\" because \"x\" }")),
        manner(OnRefusal::Refuse),
        &mut Output::default(),
    );
    assert_eq!(broker(&mut gate, &again).0.to_client, message("rope/wv-2/settings", 1), "now it is told");
    assert_eq!(broker(&mut gate, &again).0.to_client, again);
    gate.set_given(now(), given(rights(POLICY)), manner(OnRefusal::Refuse), &mut Output::default());
    broker(&mut gate, &message("rope/wv-1/answers", 2)).1.unwrap();
    // What must be written out is withheld where it does not fit the client.
    broker(&mut gate, &message("rope/wv-9/settings", 2)).1.unwrap();
    broker(&mut gate, &message("rope/wv-1/settings", 2)).1.unwrap();
    gate.broker_aliases.get_mut(&2).unwrap().told = false;
    gate.largest_out = 10;
    assert!(broker(&mut gate, &message("", 2)).0.to_client.is_empty());
    assert!(matches!(broker(&mut gate, &message("rope/wv-1/settings", 3)).1, Err(Close::Broker(_))));
    assert!(matches!(broker(&mut v5(), &again).1, Err(Close::Broker(_))), "above the maximum of 0");
}

#[test]
fn what_follows_a_refusal_is_a_setting() {
    for version in [Version::V311, Version::V5] {
        let denied = |qos| publish("rope/wv-2/wind", qos, Vec::new()).to_bytes(version);
        let mut strict = gate(version, OnRefusal::Disconnect);
        assert!(matches!(client(&mut strict, &denied(0)).1, Err(Close::Fault { code: reason::NOT_AUTHORIZED, .. })));
        let (out, result) = client(&mut gate(version, OnRefusal::Disconnect), &subscribe(&[("#", 0)], version));
        assert!(matches!(result, Err(Close::Fault { code: reason::NOT_AUTHORIZED, .. })) && out.to_broker.is_empty());
        let mut silent = gate(version, OnRefusal::Drop);
        let (out, _) = client(&mut silent, &denied(2));
        assert_eq!(out.to_client, ack(PacketType::Pubrec, 0, version));
        let (out, _) = client(&mut silent, &ack(PacketType::Pubrel, 0, version));
        assert_eq!((out.to_client, out.to_broker.len()), (ack(PacketType::Pubcomp, 0, version), 0));
    }
}

#[test]
fn what_passes_and_what_is_refused_is_counted() {
    let tallies = crate::traffic::Tallies::default();
    let device: DeviceId = "wv-1".parse().unwrap();
    let mut gate = v5();
    gate.counting.tally = tallies.of(&device);
    client(&mut gate, &publish("rope/wv-1/wind", 1, Vec::new()).to_bytes(Version::V5)).1.unwrap();
    client(&mut gate, &publish("rope/wv-2/wind", 1, Vec::new()).to_bytes(Version::V5)).1.unwrap();
    client(&mut gate, &subscribe(&[("#", 0)], Version::V5)).1.unwrap();
    broker(&mut gate, &publish("rope/wv-1/settings", 0, Vec::new()).to_bytes(Version::V5)).1.unwrap();
    broker(&mut gate, &publish("rope/wv-2/settings", 0, Vec::new()).to_bytes(Version::V5)).1.unwrap();
    gate.count();
    let (_, traffic) = tallies.take(9).remove(0);
    assert_eq!((traffic.messages_in, traffic.octets_in, traffic.messages_out, traffic.octets_out), (1, 1, 1, 1));
    let (at, what) = traffic.refused.unwrap();
    assert_eq!((traffic.refusals, at), (2, UnixTime(9)));
    assert!(what.starts_with("subscribe \"#\": "), "{what}");
}
