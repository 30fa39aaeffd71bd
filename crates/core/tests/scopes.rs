//! A token's scope only ever takes away from what the policies give.

#![expect(clippy::unwrap_used, reason = "tests fail by panicking")]

use std::sync::Arc;

use proptest::prelude::*;
use tidy_warden_core::condition::Groups;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::policy::{Delivery, Denial, Edition, NoMeter, PolicyFile, Publish, Rights};
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::Scope;
use tidy_warden_core::topic::{TopicFilter, TopicName};

const LEVELS: [&str; 3] = ["a", "b", "$c"];

/// Every topic of up to three levels out of three names.
fn topics() -> Vec<String> {
    let mut all: Vec<String> = LEVELS.map(str::to_owned).to_vec();
    for _ in 0..2 {
        let longer: Vec<String> = all.iter().flat_map(|topic| LEVELS.map(|level| format!("{topic}/{level}"))).collect();
        all.extend(longer);
    }
    all.sort();
    all.dedup();
    all
}

fn rights(rules: &[(bool, bool, String)]) -> Rights {
    let mut text = "policy ts {\n  about \"t\"\n  for kind = turnstile\n  allow connect as \"{device}:*\"\n".to_owned();
    for (allow, publish, filter) in rules {
        let (effect, act) = (if *allow { "allow" } else { "deny" }, if *publish { "publish" } else { "subscribe" });
        text.push_str(&format!("  {effect} {act} \"{filter}\" because \"a test\"\n"));
    }
    text.push_str("}\n");
    let file = PolicyFile { name: "policies/t.policy".into(), text };
    let edition = Edition::read(1, &[file], &Groups::new()).unwrap_or_else(|errors| panic!("{}", errors[0]));
    let device = DeviceRecord::new("ts-1".parse().unwrap(), "turnstile".parse().unwrap(), UnixTime(0));
    edition.rights(&device)
}

fn filter() -> impl Strategy<Value = String> {
    let level = prop::sample::select(vec!["a", "b", "$c", "+"]);
    (prop::collection::vec(level, 1..4), any::<bool>()).prop_map(|(levels, open)| {
        let text = levels.join("/");
        if open { format!("{text}/#") } else { text }
    })
}

fn publishes(rights: &Rights, topic: &str) -> bool {
    let act = Publish { topic: TopicName::parse(topic).unwrap(), qos: 1, retain: false, size: 3 };
    rights.publish(act, &mut NoMeter).is_ok()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn scope_and_policy_together_allow_what_both_allow(
        rules in prop::collection::vec((prop::bool::weighted(0.8), any::<bool>(), filter()), 0..6),
        parts in prop::collection::vec((any::<bool>(), filter()), 0..5),
        asked in filter(),
    ) {
        let policy = rights(&rules);
        let words: Vec<String> =
            parts.iter().map(|(publish, filter)| format!("{} {filter}", if *publish { "publish" } else { "subscribe" })).collect();
        let scope = Scope::parse(words.iter().map(String::as_str)).unwrap();
        let narrowed = policy.clone().narrowed(Arc::new(scope.clone()));
        let named = |publish: bool, topic: TopicName<'_>| {
            parts.iter().any(|(is, filter)| *is == publish && filter.parse::<TopicFilter>().unwrap().matches(topic))
        };
        let mut allowed_beyond = false;
        for text in topics() {
            let topic = TopicName::parse(&text).unwrap();
            prop_assert_eq!(publishes(&narrowed, &text), publishes(&policy, &text) && named(true, topic), "publish {}", text);
            let delivered = |rights: &Rights| rights.deliver(topic) == Delivery::Deliver;
            prop_assert_eq!(delivered(&narrowed), delivered(&policy) && named(false, topic), "deliver {}", text);
            allowed_beyond |= named(true, topic) && !publishes(&policy, &text);
        }
        // What is granted lies in both, for every topic that it can match.
        let asked: TopicFilter = asked.parse().unwrap();
        if let Ok(granted) = narrowed.subscribe(&asked, 2, None) {
            prop_assert!(policy.subscribe(&asked, granted.qos, None).is_ok());
            for text in topics() {
                let topic = TopicName::parse(&text).unwrap();
                prop_assert!(!asked.matches(topic) || named(false, topic), "{} matches {}", asked, text);
            }
        }
        // A scope that would be wider is told with a topic that the policies do not give.
        let wider = policy.wider(&scope);
        for part in &wider {
            let topic = TopicName::parse(&part.example).unwrap();
            match part.part.split_once(' ').unwrap() {
                ("publish", _) => prop_assert!(named(true, topic) && !publishes(&policy, &part.example), "{:?}", part),
                _ => prop_assert!(named(false, topic) && policy.deliver(topic) == Delivery::Withhold, "{:?}", part),
            }
        }
        prop_assert!(!allowed_beyond || !wider.is_empty());
    }
}

#[test]
fn a_scope_that_says_nothing_gives_nothing_and_says_why() {
    let policy = rights(&[(true, true, "a/#".into()), (true, false, "a/#".into())]);
    let topic = TopicName::parse("a/b").unwrap();
    let empty = policy.clone().narrowed(Arc::new(Scope::default()));
    assert_eq!(empty.deliver(topic), Delivery::Withhold);
    for denied in [
        empty.connect("ts-1:x").map(|_| ()),
        empty.publish(Publish { topic, qos: 0, retain: false, size: 0 }, &mut NoMeter).map(|_| ()),
        empty.subscribe(&"a/b".parse().unwrap(), 0, None).map(|_| ()),
    ] {
        assert!(matches!(denied, Err(Denial::OutOfScope { .. })), "{denied:?}");
        assert!(denied.unwrap_err().to_string().contains("is not understood"));
    }
    let scope = Scope::parse(["publish a/b"]).unwrap();
    let narrowed = policy.clone().narrowed(Arc::new(scope));
    assert!(narrowed.connect("ts-1:x").is_ok());
    let denied = narrowed.connect("ts-1").unwrap_err().to_string();
    assert_eq!(denied, "the token's scope does not give it; it gives publish a/b");
    assert!(policy.wider(&Scope::parse(["connect as ts-2:x", "publish a/+"]).unwrap()).len() == 1);
}
