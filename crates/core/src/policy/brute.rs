//! Answers about a whole fleet, against looking at every device and every topic.

use std::collections::BTreeSet;

use proptest::prelude::*;

use super::tests::{checked, edition, odd_fleet, publish, settings};
use super::*;
use crate::device::DeviceRecord;
use crate::topic::{TopicFilter, TopicName};

/// A rule: its topics, whether it is for vanes, whether it allows, whether it is about publishing.
type Drawn = (String, bool, bool, bool);

fn any_rules() -> impl Strategy<Value = Vec<Drawn>> {
    let filter = "(rope|[+])/(a|[+]|[{]site[}])/(wv-1|wv-2|[+]|[{]device[}]|[{]child[}]|[{]gateway[}])(/x|/[#]|)";
    proptest::collection::vec(
        (filter, any::<bool>(), prop_oneof![3 => Just(true), 1 => Just(false)], any::<bool>()),
        1..5,
    )
}

/// Policies of one rule each.
pub(super) fn text(rules: &[Drawn]) -> String {
    let mut text = String::new();
    for (at, (filter, for_vanes, allow, publish)) in rules.iter().enumerate() {
        let for_children = filter.contains("{child}");
        let kind = if *for_vanes && !for_children { "windvane" } else { "station" };
        let effect = if *allow || for_children { "allow" } else { "deny" };
        let act = if *publish { "publish" } else { "subscribe" };
        let children = if for_children { "for children " } else { "" };
        text.push_str(&format!(
            "policy r{at} {{ for kind = {kind}\n {effect} {act} {filter:?} {children}because \"x\" }}\n"
        ));
    }
    text
}

/// Topics over every text that matters, and one that does not.
fn topics() -> &'static [String] {
    static ALL: std::sync::LazyLock<Vec<String>> = std::sync::LazyLock::new(|| {
        let levels = ["rope", "a", "b", "wv-1", "wv-2", "wv-3", "st-1", "x", "other"];
        let mut all = Vec::new();
        for first in ["rope", "other"] {
            for second in ["a", "b", "other"] {
                for third in levels {
                    all.push(format!("{first}/{second}/{third}"));
                    all.extend(["x", "other"].map(|fourth| format!("{first}/{second}/{third}/{fourth}")));
                }
            }
        }
        all
    });
    &ALL
}

fn topic(text: &str) -> TopicName<'_> {
    TopicName::parse(text).unwrap()
}

/// What one device may do, by looking at every topic.
fn brute(rights: &Rights, act: Act) -> BTreeSet<&'static str> {
    let may = |text: &&'static str| match act {
        Act::Publish => rights.publish(publish(text, 0, false, 0), &mut NoMeter).is_ok(),
        _ => rights.deliver(topic(text)) == Delivery::Deliver,
    };
    topics().iter().map(String::as_str).filter(may).collect()
}

/// The topics that a printed change tells of for a device, or for what it does for a child.
fn printed(told: &str, device: &DeviceRecord, for_child: bool, children: &[&DeviceRecord]) -> BTreeSet<&'static str> {
    let each: Vec<Option<&&DeviceRecord>> = match told.contains("{child}") {
        true => children.iter().map(Some).collect(),
        false => vec![children.first()],
    };
    let mut all = BTreeSet::new();
    for child in each {
        let whose = if for_child { child.copied().unwrap_or(device) } else { device };
        let filter = |text: &str| -> TopicFilter {
            let level = |level: &str| match level {
                "{device}" => device.id.to_string(),
                "{child}" => child.unwrap().id.to_string(),
                "{gateway}" => whose.gateway.as_ref().unwrap().to_string(),
                "{kind}" => whose.kind.to_string(),
                "{site}" => whose.labels.get("site").unwrap().to_string(),
                other => other.to_owned(),
            };
            text.split('/').map(level).collect::<Vec<_>>().join("/").parse().unwrap()
        };
        let (of, except) = told.split_once(" except ").unwrap_or((told, ""));
        let (of, except) =
            (filter(of), except.split(", ").filter(|text| !text.is_empty()).map(filter).collect::<Vec<_>>());
        let meant = |text: &&str| of.matches(topic(text)) && except.iter().all(|except| !except.matches(topic(text)));
        all.extend(topics().iter().map(String::as_str).filter(meant));
    }
    all
}

fn fleet_under<'e>(editions: &[&'e Edition], devices: &[DeviceRecord], texts: &'e [String]) -> Fleet<'e> {
    let mut fleet = Fleet::new(editions, texts.iter().map(String::as_str));
    devices.iter().for_each(|device| fleet.add_record(device).unwrap());
    fleet
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_000))]

    /// A decision by the table is that of holding the rules against the topic one by one.
    #[test]
    fn decisions_agree_with_the_rules_one_by_one(rules in any_rules()) {
        let edition = edition(&text(&rules));
        let devices = odd_fleet();
        for device in &devices {
            let children: Vec<_> =
                devices.iter().filter(|child| child.gateway.as_ref() == Some(&device.id)).collect();
            let rights = edition.rights_with(device, &devices, &settings());
            for act in [Act::Publish, Act::Subscribe] {
                let speaks = |of: &DeviceRecord, speaker: Speaker<'_>, effect: Effect, text: &str| {
                    let own = edition.policies.iter().filter(|policy| {
                        policy.subjects.holds(&crate::condition::Candidate::lasting(of))
                    });
                    own.flat_map(|policy| &policy.rules).any(|rule| {
                        let missing = if effect == Effect::Allow { Missing::Nothing } else { Missing::AnyLevel };
                        rule.effect == effect
                            && rule.target.act() == act
                            && rule.for_children == speaker.child.is_some()
                            && rule.target.pattern().unwrap().bind(missing, |variable| variable.value(speaker))
                                .is_some_and(|filter| filter.matches(topic(text)))
                    })
                };
                let found = brute(&rights, act);
                for text in topics() {
                    let own = speaks(device, device.into(), Effect::Allow, text);
                    let carries = device.kind.as_str() == "station";
                    let for_children = children.iter().any(|child| {
                        carries
                            && child.kind.as_str() == "windvane"
                            && speaks(device, Speaker { device, child: Some(child) }, Effect::Allow, text)
                            && !speaks(child, (*child).into(), Effect::Deny, text)
                    });
                    let want = (own || for_children) && !speaks(device, device.into(), Effect::Deny, text);
                    prop_assert_eq!(found.contains(text.as_str()), want, "{} {:?} {}", device.id, act, text);
                }
            }
        }
    }

    /// A subscription is granted exactly if each of its topics could be delivered.
    #[test]
    fn subscriptions_agree_with_brute_force(
        rules in any_rules(),
        asked in "(rope|[+])/(a|b|[+])/(wv-1|wv-2|wv-3|[+])(/x|/[#]|)",
    ) {
        let edition = edition(&text(&rules));
        let devices = odd_fleet();
        let filter: TopicFilter = asked.parse().unwrap();
        for device in &devices {
            let rights = edition.rights_with(device, &devices, &settings());
            let all = topics().iter().filter(|text| filter.matches(topic(text)));
            let brute = all.clone().all(|text| rights.deliver(topic(text)) == Delivery::Deliver);
            // Below `x` everything is alike, which the topics above do not show for a filter that ends in `#`.
            let deep = !asked.ends_with('#') || {
                let deep: Vec<String> = all.map(|text| format!("{text}/deep/deeper")).collect();
                deep.iter().all(|text| rights.deliver(topic(text)) == Delivery::Deliver)
            };
            let granted = rights.subscribe(&filter, 0, None);
            prop_assert_eq!(granted.is_ok(), brute && deep, "{} {}\n{}", device.id, asked, text(&rules));
        }
    }

    #[test]
    fn reach_agrees_with_brute_force(
        rules in any_rules(),
        asked in "(rope|[+])/(a|b|[+])/(wv-1|wv-2|wv-3|[+])(/x|/[#]|)",
    ) {
        let edition = edition(&text(&rules));
        let devices = odd_fleet();
        let filter: TopicFilter = asked.parse().unwrap();
        let mut fleet = fleet_for(&edition, &filter);
        devices.iter().for_each(|device| fleet.add_record(device).unwrap());
        let found = reach(&fleet, &settings(), &filter);
        let count = |act| {
            let rights = |device: &DeviceRecord| edition.rights_with(device, &devices, &settings());
            let reaches = |device: &&DeviceRecord| {
                brute(&rights(device), act).iter().any(|text| filter.matches(topic(text)))
            };
            u64::try_from(devices.iter().filter(reaches).count()).unwrap()
        };
        prop_assert_eq!(found.publishers, count(Act::Publish), "{} {}", asked, text(&rules));
        prop_assert_eq!(found.receivers, count(Act::Subscribe), "{} {}", asked, text(&rules));
        for (act, by) in [(Act::Publish, &found.publish), (Act::Subscribe, &found.subscribe)] {
            for sample in by.iter().flat_map(|by| &by.samples) {
                let device = devices.iter().find(|device| device.id.as_str() == sample.device).unwrap();
                let rights = edition.rights_with(device, &devices, &settings());
                let told = topic(&sample.topic);
                let may = match act {
                    Act::Publish => rights.publish(publish(&sample.topic, 0, false, 0), &mut NoMeter).is_ok(),
                    _ => rights.deliver(told) == Delivery::Deliver,
                };
                prop_assert!(may && filter.matches(told), "{:?}", sample);
            }
        }
    }

    #[test]
    fn comparisons_agree_with_brute_force(old in any_rules(), new in any_rules()) {
        let (old, new) = (edition(&text(&old)), edition(&text(&new)));
        let devices = odd_fleet();
        let fleet = fleet_under(&[&old, &new], &devices, &[]);
        let found = compare(&fleet, &settings());
        let mut counts = (0, 0, 0);
        for device in &devices {
            let rights = |edition: &Edition| edition.rights_with(device, &devices, &settings());
            let (before, after) = (rights(&old), rights(&new));
            let (mut gains, mut loses) = (false, false);
            for act in [Act::Publish, Act::Subscribe] {
                gains |= brute(&after, act).difference(&brute(&before, act)).next().is_some();
                loses |= brute(&before, act).difference(&brute(&after, act)).next().is_some();
            }
            match (gains, loses) {
                (true, false) => counts.0 += 1,
                (false, true) => counts.1 += 1,
                (true, true) => counts.2 += 1,
                (false, false) => {}
            }
            // The sets of one device say the same.
            let changes = before.grants().changes_to(&after.grants());
            prop_assert_eq!(changes.iter().any(|change| change.gained), gains, "{}: {:?}", device.id, changes);
            prop_assert_eq!(changes.iter().any(|change| !change.gained), loses, "{}: {:?}", device.id, changes);
        }
        prop_assert_eq!((found.gaining, found.losing, found.both), counts, "{:#?}", found.groups);
        // Every line that is printed is true of every device that is named.
        for group in &found.groups {
            for (device, child) in &group.samples {
                let of = |id: &str| devices.iter().find(|device| device.id.as_str() == id).unwrap();
                let device = of(device);
                let children: Vec<&DeviceRecord> = match child {
                    Some(child) => vec![of(child)],
                    None => devices.iter().filter(|each| each.gateway.as_ref() == Some(&device.id)).collect(),
                };
                let rights = |edition: &Edition| edition.rights_with(device, &devices, &settings());
                for change in &group.changes {
                    let act = if change.act == "publish" { Act::Publish } else { Act::Subscribe };
                    let (before, after) = (brute(&rights(&old), act), brute(&rights(&new), act));
                    let (from, to) = if change.gained { (before, after) } else { (after, before) };
                    for text in printed(&change.topics, device, child.is_some(), &children) {
                        prop_assert!(
                            to.contains(text) && !from.contains(text),
                            "{} {}: {}\n{}", device.id, change, text, group.count
                        );
                    }
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// The tree finds what looking at every pair of devices and every topic finds.
    #[test]
    fn sole_claims_agree_with_brute_force(
        rules in any_rules(),
        claim in "rope/(a|[{]site[}]|[+])/([{]device[}]|wv-2)(/[#]|/x|)",
    ) {
        let mut text = format!("policy v {{ for kind = windvane\n sole publish {claim:?}\n }}\n");
        text.push_str(&super::brute::text(&rules));
        let edition = edition(&text);
        let fleet = odd_fleet();
        let rights: Vec<_> =
            fleet.iter().map(|device| edition.rights_with(device, &fleet, &settings())).collect();
        let levels = ["rope", "a", "b", "wv-1", "wv-2", "wv-3", "x", "other"];
        let pattern = &edition.policies[0].soles[0].pattern;
        let mut brute = false;
        for subject in fleet.iter().filter(|device| device.kind.as_str() == "windvane") {
            let claimed = pattern.bind(crate::policy::Missing::Nothing, |variable| variable.value(subject.into())).unwrap();
            for (other, rights) in fleet.iter().zip(&rights) {
                if other.id == subject.id || subject.gateway.as_ref() == Some(&other.id) {
                    continue;
                }
                for len in 3..=4u32 {
                    for number in 0..levels.len().pow(len - 1) {
                        let rest: Vec<&str> = (0..len - 1).map(|at| levels[number / levels.len().pow(at) % levels.len()]).collect();
                        let topic = format!("rope/{}", rest.join("/"));
                        brute |= claimed.matches(TopicName::parse(&topic).unwrap())
                            && rights.publish(publish(&topic, 0, false, 0), &mut NoMeter).is_ok();
                    }
                    if brute {
                        break;
                    }
                }
            }
        }
        let found = checked(&text, &fleet);
        prop_assert_eq!(found.findings.iter().any(|finding| finding.id == "not-sole"), brute, "{}\n{:?}", text, found);
        prop_assert_eq!(found.proved.is_empty(), brute);
    }
}
