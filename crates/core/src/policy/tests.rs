use std::collections::BTreeSet;

use proptest::prelude::*;

use super::*;
use crate::condition::Groups;
use crate::condition::tests::any_condition;
use crate::device::DeviceRecord;
use crate::id::DeviceId;
use crate::policy::{
    ClientIdForm, Delivery, Limits, Pattern, PatternLevel, PolicyFile, Rate, RulePlace, Sole, Variable, read_file,
};
use crate::settings::Settings;
use crate::text::Source;
use crate::time::UnixTime;
use crate::topic::TopicName;

const VANE: &str = r#"
policy pylon-vane {
  about "Wind vanes report and take settings"
  for   kind = windvane

  allow connect   as "{device}"
  allow publish   "rope/{site}/{device}/wind"       qos <= 1, size <= 2KiB, rate <= 120/min
  allow publish   "rope/{site}/{device}/#"          qos <= 0, no retain
  allow subscribe "rope/{site}/{device}/settings"   qos <= 1
  allow subscribe "rope/{site}/+/storm"             because "every pylon must hear a storm"
  deny  publish   "rope/+/+/brake"                  because "only drive stations brake"

  expect wv-0417 publish "rope/ossel/wv-0417/wind" allowed
  expect wv-0417 publish "rope/ossel/wv-0418/wind" denied
  expect {kind=windvane, site=brindle, id=wv-9} subscribe "rope/brindle/wv-9/settings" allowed
}
"#;

pub(super) fn settings() -> Settings {
    let text = crate::settings::new_text("q", "localhost", None, None)
        + "[kinds.windvane]\n[kinds.station]\ncarries = [\"windvane\"]\n";
    Settings::parse(&Source::new("ward.toml", &text)).unwrap()
}

fn vane(site: Option<&str>) -> DeviceRecord {
    let mut device = DeviceRecord::new("wv-0417".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
    if let Some(site) = site {
        device.labels.insert("site".parse().unwrap(), site.parse().unwrap());
    }
    device
}

pub(super) fn edition(text: &str) -> Edition {
    let file = PolicyFile { name: "policies/vane.policy".into(), text: text.into() };
    Edition::read(1, &[file], &Groups::new()).unwrap_or_else(|errors| panic!("{}", errors[0]))
}

pub(super) fn fleet_of<'e>(edition: &'e Edition, devices: &[DeviceRecord]) -> Fleet<'e> {
    let mut fleet = Fleet::new(&[edition], []);
    devices.iter().for_each(|device| fleet.add_record(device).unwrap());
    fleet
}

/// The check of a text against devices, which are all listed.
pub(super) fn checked(text: &str, devices: &[DeviceRecord]) -> Checked {
    let edition = edition(text);
    let household = |device: &DeviceRecord| {
        let children = devices.iter().filter(|child| child.gateway.as_ref() == Some(&device.id)).cloned().collect();
        (device.id.clone(), Household { device: device.clone(), children })
    };
    check(&fleet_of(&edition, devices), &settings(), &Groups::new(), &devices.iter().map(household).collect())
}

pub(super) fn publish(topic: &str, qos: u8, retain: bool, size: usize) -> Publish<'_> {
    Publish { topic: TopicName::parse(topic).unwrap(), qos, retain, size }
}

#[test]
fn publishes_are_decided_by_rule_and_limit() {
    let rights = edition(VANE).rights(&vane(Some("ossel")));
    let line = |act| match rights.publish(act, &mut NoMeter) {
        Ok(admitted) => format!("allowed {}", admitted.rule.at.place.line),
        Err(denial) => format!("denied {:?}", denial.rule().map(|rule| rule.at.place.line)),
    };
    for (act, want) in [
        (publish("rope/ossel/wv-0417/wind", 1, true, 2048), "allowed 7"),
        (publish("rope/ossel/wv-0417/wind", 0, false, 2049), "allowed 8"), // the next rule admits it
        (publish("rope/ossel/wv-0417/wind", 1, false, 2049), "denied Some(8)"),
        (publish("rope/ossel/wv-0417/gust", 0, true, 1), "denied Some(8)"),
        (publish("rope/ossel/wv-0417", 0, false, 1), "allowed 8"),
        (publish("rope/ossel/wv-0418/wind", 0, false, 1), "denied None"),
        (publish("rope/brindle/wv-0417/wind", 0, false, 1), "denied None"),
        (publish("rope/ossel/wv-0417/brake", 0, false, 1), "denied Some(11)"), // a deny beats an allow
    ] {
        assert_eq!(line(act), want, "{act:?}");
    }
}

#[test]
fn only_the_admitting_rule_is_charged() {
    struct Counting(Vec<usize>, bool);
    impl crate::policy::Meter for Counting {
        fn charge(&mut self, rule: &Rule, _: Option<&DeviceId>, _: Rate) -> bool {
            self.0.push(rule.at.place.line);
            self.1
        }
    }
    let rights = edition(VANE).rights(&vane(Some("ossel")));
    let mut meter = Counting(Vec::new(), true);
    assert!(rights.publish(publish("rope/ossel/wv-0417/wind", 0, false, 1), &mut meter).is_ok());
    assert!(rights.publish(publish("rope/ossel/wv-0417/gust", 0, false, 1), &mut meter).is_ok());
    assert_eq!(meter.0, [7]);
    let mut exhausted = Counting(Vec::new(), false);
    let denied = rights.publish(publish("rope/ossel/wv-0417/wind", 1, false, 1), &mut exhausted).unwrap_err();
    assert!(denied.to_string().contains("qos <= 0"), "{denied}");
    assert_eq!(
        rights.publish(publish("rope/ossel/wv-0417/wind", 0, false, 1), &mut exhausted).unwrap().rule.at.place.line,
        8
    );
}

#[test]
fn a_missing_variable_gives_nothing_and_denies_everything() {
    let text = "policy p { for kind = windvane\n allow publish \"rope/{site}/{device}\"\n allow publish \"rope/ossel/{device}\"\n deny publish \"rope/{pylon}/{device}\" }";
    let rights = edition(text).rights(&vane(None));
    let denied = rights.publish(publish("rope/ossel/wv-0417", 0, false, 0), &mut NoMeter).unwrap_err();
    assert_eq!(denied.rule().map(|rule| rule.at.place.line), Some(4));
    assert_eq!(rights.publish_filters().count(), 1);
    let findings = checked(text, &[vane(None)]).findings;
    let found: Vec<_> = findings.iter().map(|finding| (finding.id, finding.place.as_ref().unwrap().line)).collect();
    assert_eq!(found, [("unknown-label", 2), ("hidden-by-deny", 3), ("unknown-label", 4)]);
    // Once others have the labels, it is these devices that lack them.
    let mut station = vane(Some("ossel"));
    (station.id, station.kind) = ("st-1".parse().unwrap(), "station".parse().unwrap());
    station.labels.insert("pylon".parse().unwrap(), "p1".parse().unwrap());
    let findings =
        checked(&text.replace("windvane", "windvane or kind = station"), &[vane(None), station.clone()]).findings;
    let found: Vec<_> = findings.iter().map(|finding| (finding.id, finding.place.as_ref().unwrap().line)).collect();
    assert_eq!(found, [("missing-value", 2), ("missing-value", 4)]);
    let findings = checked(text, &[vane(None), station]).findings;
    let found: Vec<_> =
        findings.iter().filter_map(|finding| Some((finding.id, finding.place.as_ref()?.line))).collect();
    assert_eq!(found, [("never-applies", 2), ("hidden-by-deny", 3), ("missing-value", 4)]);
}

/// A gateway with two children.
fn household() -> Vec<DeviceRecord> {
    let device = |id: &str, kind: &str, gateway: Option<&str>| DeviceRecord {
        gateway: gateway.map(|gateway| gateway.parse().unwrap()),
        ..DeviceRecord::new(id.parse().unwrap(), kind.parse().unwrap(), UnixTime(0))
    };
    vec![
        device("hub1", "station", None),
        device("kid1", "windvane", Some("hub1")),
        device("kid2", "windvane", Some("hub1")),
    ]
}

#[test]
fn what_changes_for_a_gateway_names_the_children_it_is_about() {
    let text = "policy p { for kind = station\n allow publish \"k/+/x/#\" because \"own\"\n deny publish \"k/kid2/#\"\n \
                allow publish \"k/{child}/x\" for children }";
    let (old, new) = (Edition::default(), edition(text));
    let mut fleet = Fleet::new(&[&old, &new], []);
    household().iter().for_each(|device| fleet.add_record(device).unwrap());
    let found = compare(&fleet, &settings());
    let lines: Vec<String> = found.groups.iter().flat_map(|group| &group.changes).map(ToString::to_string).collect();
    assert_eq!(lines, ["gains publish k/+/x/# except k/kid2/x/#"]);
    // What is the same for each child is said once.
    let both = text.replace("deny publish \"k/kid2/#\"", "");
    let new = edition(&both.replace("k/+/x/#", "k/kid9/{device}"));
    let mut fleet = Fleet::new(&[&old, &new], []);
    household().iter().for_each(|device| fleet.add_record(device).unwrap());
    let found = compare(&fleet, &settings());
    let lines: BTreeSet<String> =
        found.groups.iter().flat_map(|group| &group.changes).map(ToString::to_string).collect();
    let want = ["gains publish k/kid9/hub1", "gains publish k/{child}/x"].map(str::to_owned);
    let alike = lines.iter().map(|line| line.replace("{device}", "hub1")).collect::<BTreeSet<_>>();
    assert_eq!(alike, BTreeSet::from(want));
}

#[test]
fn rules_for_children_are_told_of_like_others() {
    let mut devices = household();
    devices[1].labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
    let found = |text: &str| -> Vec<(&'static str, usize, String)> {
        let findings = checked(text, &devices).findings;
        findings.iter().filter_map(|each| Some((each.id, each.place.as_ref()?.line, each.problem.clone()))).collect()
    };
    let text = "policy hub { for kind = station\n allow publish \"a/{site}/{child}/{site}\" for children\n \
                allow publish \"b/{site}/{child}\" for children\n allow publish \"c/{child}\" for children }\n\
                policy kid { for kind = windvane\n deny publish \"c/{device}\" because \"asleep\" }";
    let all = found(text);
    let ids: Vec<_> = all.iter().map(|(id, line, _)| (*id, *line)).collect();
    assert_eq!(ids, [("missing-value", 2), ("hidden-by-deny", 4)], "{all:?}");
    let want = "1 of 2 children has no value for {site} (kid2): 2 rules of this policy give them nothing";
    assert_eq!(all[0].2, want);
    assert!(all[1].2.contains("denied by policies/vane.policy:6"), "{}", all[1].2);
    let text = "policy hub { for kind = station\n allow connect as \"{device}\"\n deny connect as \"{device}\" }\n\
                policy kid { for kind = windvane\n allow connect as \"{device}\"\n deny connect as \"{device}:*\" }";
    let ids: Vec<_> = found(text).into_iter().map(|(id, line, _)| (id, line)).collect();
    assert_eq!(ids, [("hidden-by-deny", 2)]);
}

#[test]
fn a_rule_that_adds_nothing_is_held_against_those_that_give_as_much_to_everybody() {
    let text = "policy p { for kind = windvane or kind = station\n allow publish \"a/b\" because \"x\" }\n\
                policy q { for kind = windvane\n allow publish \"a/+\" because \"x\" }\n\
                policy r { for kind = windvane or kind = station\n allow publish \"a/#\" because \"x\" }";
    let told = |text: &str| {
        let findings = checked(text, &household()).findings;
        let of = findings.iter().find(|each| each.id == "repeats-another" && each.place.as_ref().unwrap().line == 2);
        of.map(|each| each.problem.clone()).unwrap_or_default()
    };
    assert!(told(text).contains("policies/vane.policy:6 (policy r) gives at least as much"), "{}", told(text));
    let several = text.replace("policy r { for kind = windvane or kind = station", "policy r { for kind = station");
    assert!(told(&several).contains("for each device another rule gives"), "{}", told(&several));
    let copies = "\n allow publish \"a/b\" because \"x\"".repeat(300);
    let findings = checked(&format!("policy p {{ for kind = windvane{copies} }}"), &household()).findings;
    assert_eq!(findings.iter().filter(|each| each.id == "repeats-another").count(), 299);
    // Two rules in one line are told apart.
    let one_line =
        text.replace(" }\npolicy r { for kind = windvane or kind = station\n", " allow publish \"c\" because \"x\" ");
    let one_line =
        one_line.replace("policy q { for kind = windvane", "policy q { for kind = windvane or kind = station");
    assert!(told(&one_line).contains("policies/vane.policy:4:"), "{}", told(&one_line));
}

#[test]
fn subscriptions_are_granted_only_whole_and_at_the_lower_qos() {
    let rights = edition(VANE).rights(&vane(Some("ossel")));
    let ask = |filter: &str, qos| rights.subscribe(&filter.parse().unwrap(), qos, None).map(|granted| granted.qos);
    assert_eq!(ask("rope/ossel/wv-0417/settings", 2).ok(), Some(1));
    assert_eq!(ask("rope/ossel/wv-0417/settings", 0).ok(), Some(0));
    assert_eq!(ask("rope/ossel/+/storm", 2).ok(), Some(2));
    let denial = ask("rope/ossel/wv-0417/#", 0).unwrap_err().to_string();
    assert!(denial.contains("it would also match \"rope/ossel/wv-0417\""), "{denial}");
    assert!(ask("#", 0).is_err());
    assert!(ask("rope/brindle/+/storm", 0).is_err());
    let topic = |text| rights.deliver(TopicName::parse(text).unwrap());
    assert_eq!(topic("rope/ossel/wv-0417/settings"), Delivery::Deliver);
    assert_eq!(topic("rope/ossel/wv-0418/settings"), Delivery::Withhold);
}

#[test]
fn a_denied_topic_inside_a_subscription_refuses_it() {
    let text =
        "policy p { for kind = windvane\n allow subscribe \"rope/{device}/#\"\n deny subscribe \"rope/+/secret\" }";
    let rights = edition(text).rights(&vane(None));
    let denial = rights.subscribe(&"rope/wv-0417/#".parse().unwrap(), 0, None).unwrap_err();
    assert!(denial.to_string().contains("(it covers \"rope/wv-0417/secret\")"), "{denial}");
    assert!(rights.subscribe(&"rope/wv-0417/open/#".parse().unwrap(), 0, None).is_ok());
}

#[test]
fn connects_are_decided_by_client_identifier() {
    let text = "policy p { for kind = windvane\n allow connect as \"{device}:*\" }";
    let rights = edition(text).rights(&vane(None));
    for (client_id, want) in [("wv-0417:a", true), ("wv-0417:", true), ("wv-0417", false), ("wv-04171:a", false)] {
        assert_eq!(rights.connect(client_id).is_ok(), want, "{client_id}");
    }
    assert!(edition(VANE).rights(&vane(None)).connect("wv-0417").is_ok());
    let other = edition("policy p { for kind = station allow connect as \"{device}\" }").rights(&vane(None));
    assert!(matches!(other.connect("wv-0417"), Err(crate::policy::Denial::NoPolicy { edition: 1 })));
}

#[test]
fn mistakes_in_policies_are_shown_where_they_are() {
    for (text, want) in [
        ("polcy", "1:1: found `polcy`"),
        ("policy p { allow", "1:12: found `allow`"),
        ("policy p { for kind = a\n alow publish \"x\" }", "2:2: found `alow`"),
        ("policy p { for kind = a\n allow publsh \"x\" }", "2:8: found `publsh`"),
        ("policy p { for kind = a\n allow publish \"a/#/b\" }", "2:16: in the filter \"a/#/b\" `#` must be the last"),
        ("policy p { for kind = a\n allow publish \"a{device}\" }", "2:16: in \"a{device}\" a variable does not fill"),
        ("policy p { for kind = a\n allow publish \"a/{B}\" }", "2:16: \"{B}\" is not a variable"),
        ("policy p { for kind = a\n deny publish \"a\" qos <= 1 }", "2:19: a deny has no limits"),
        ("policy p { for kind = a\n allow publish \"a\" qos <= 3 }", "2:27: found `3`"),
        ("policy p { for kind = a\n allow publish \"a\" qos <= 1, qos <= 0 }", "2:30: `qos` stands here twice"),
        ("policy p { for kind = a\n allow subscribe \"a\" size <= 1 }", "2:22: `size` does not limit a subscribe"),
        ("policy p { for kind = a\n allow connect as \"x\" }", "2:19: \"x\" is not a form of client identifier"),
        ("policy p { for kind = a\n sole subscribe \"a\" }", "2:7: found `subscribe`"),
        ("policy p { for kind = a\n expect d publish \"a/+\" denied }", "2:19: the topic \"a/+\" holds a wildcard"),
        ("policy P { for kind = a }", "1:8: the policy name \"P\" holds 'P'"),
        ("policy p { for kind = a", "1:24: found the end of the text"),
    ] {
        let error = read_file(&Source::new("p", text)).unwrap_err()[0].to_string();
        assert!(error.starts_with(&format!("p:{want}")), "{text}:\n{error}");
    }
}

#[test]
fn a_mistake_hides_no_other() {
    let text = r#"policy one {
  for kind = a
  alow publish "a"
  allow publish "b" qos <= 7
  allow publish "c"
  allow publish
  deny publish "d" size <= 1
}
policy Two {
  for kind = b
  sole publish "x" "y"
  expect d publish "a/+" denied
}
policy three {
  for kind in (
  allow connect as "nobody"
}
policy four {
  for kind = c
  allow publish "e"
policy five {
  for kind = d % e
  allow publish "it's open
}
"#;
    let errors = read_file(&Source::new("p", text)).unwrap_err();
    let lines: Vec<usize> = errors.iter().map(|error| error.place.line).collect();
    assert_eq!(lines, [3, 4, 7, 7, 9, 11, 12, 16, 21, 22, 23], "{errors:#?}");
    let many = "policy p {\n for kind = a\n".to_owned() + &" allow nothing\n".repeat(200_000) + "}\n";
    assert_eq!(read_file(&Source::new("p", &many)).unwrap_err().len(), 100);
}

#[test]
fn findings_have_names_and_places() {
    let text = r#"policy broad {
  for kind = windvane
  allow subscribe "rope/#"
  expect {kind=windvane, site=ossel} subscribe "rope/ossel/#" denied
  expect {kind=windvane} publish "a" allowed
  expect wv-1 publish "a" denied
  allow publish "$ward/{device}/answer/+"
  allow publish "$wards/{device}"
}
policy broad {
  for kind = windvain
}
"#;
    let mut other = vane(None);
    other.kind = "station".parse().unwrap();
    let findings = checked(text, &[vane(None), other]).findings;
    let found: Vec<_> =
        findings.iter().map(|finding| (finding.id, finding.place.as_ref().map(|place| place.line))).collect();
    let want = [
        ("broad-rule", Some(3)),
        ("failing-expect", Some(4)),
        ("failing-expect", Some(5)),
        ("unknown-device", Some(6)),
        ("reserved-topics", Some(7)),
        ("name-taken", Some(10)),
        ("unknown-kind", Some(11)),
        ("selects-nobody", Some(11)),
        ("no-policy", None),
    ];
    assert_eq!(found, want, "{findings:#?}");
    assert!(checked(VANE, &[vane(Some("ossel"))]).findings.is_empty());
}

fn small_fleet() -> Vec<DeviceRecord> {
    let mut all = Vec::new();
    for (id, kind, site) in
        [("wv-1", "windvane", "a"), ("wv-2", "windvane", "a"), ("wv-3", "windvane", "b"), ("st-1", "station", "a")]
    {
        let mut device = DeviceRecord::new(id.parse().unwrap(), kind.parse().unwrap(), UnixTime(0));
        device.labels.insert("site".parse().unwrap(), site.parse().unwrap());
        if id == "wv-1" {
            device.gateway = Some("st-1".parse().unwrap());
        }
        all.push(device);
    }
    all
}

/// One device more, whose id is the site of others, and gateways on both sides.
pub(super) fn odd_fleet() -> Vec<DeviceRecord> {
    let mut all = small_fleet();
    let mut odd = DeviceRecord::new("a".parse().unwrap(), "station".parse().unwrap(), UnixTime(0));
    odd.labels.insert("site".parse().unwrap(), "b".parse().unwrap());
    all[2].gateway = Some(odd.id.clone());
    all.push(odd);
    all
}

#[test]
fn sole_claims_are_proved_or_refuted_with_a_witness() {
    let vane = "policy v { for kind = windvane\n allow publish \"rope/{site}/{device}/#\"\n sole publish \"rope/{site}/{device}/#\" }\n";
    let station = |rules: &str| format!("{vane}policy s {{ for kind = station\n{rules} }}");
    let told = |text: &str| -> Vec<String> {
        let found = checked(text, &small_fleet()).findings;
        found.iter().map(|finding| format!("{} {}", finding.id, finding.problem)).collect()
    };
    assert_eq!(told(&station("allow publish \"rope/{site}/{device}/state\"")), Vec::<String>::new());
    // The gateway of wv-1 may, but wv-2 is not behind it.
    assert_eq!(told(&station("allow publish \"rope/{site}/wv-1/door\" because \"its gateway\"")), Vec::<String>::new());
    let wide = told(&station("allow publish \"rope/{site}/+/door\" because \"all doors\""));
    assert_eq!(wide.len(), 1, "{wide:?}");
    assert!(
        wide[0].starts_with("not-sole `st-1` can publish \"rope/a/wv-2/door\" too, which is claimed for `wv-2` alone"),
        "{wide:?}"
    );
    let denied = station("allow publish \"rope/{site}/+/door\" because \"all\"\n deny publish \"rope/a/+/door\"");
    let told_denied = told(&denied);
    assert!(
        told_denied.len() == 1 && told_denied[0].starts_with("hidden-by-deny"),
        "what is denied cannot be published: {told_denied:?}"
    );
    let partly = told(&station("allow publish \"rope/#\" because \"all\"\n deny publish \"rope/a/+/door\""));
    assert!(partly[0].contains("can publish \"rope/a/wv-2\""), "{partly:?}");
}

fn any_pattern() -> impl Strategy<Value = Pattern> {
    let level = prop_oneof![
        "[a-c\"\\\\ ]{1,3}".prop_map(PatternLevel::Is),
        Just(PatternLevel::Any),
        Just(PatternLevel::Variable(Variable::Device)),
        Just(PatternLevel::Variable(Variable::Owner)),
        Just(PatternLevel::Variable(Variable::Child)),
        "[a-c]{1,3}".prop_map(|name| PatternLevel::Variable(Variable::Label(name.parse().unwrap()))),
    ];
    (proptest::collection::vec(level, 1..4), any::<bool>()).prop_map(|(levels, open)| Pattern { levels, open })
}

fn any_rule() -> impl Strategy<Value = Rule> {
    let limits = (
        proptest::option::of(0u8..=2),
        proptest::option::of(prop_oneof![0u32..5000, Just(2048), Just(3 << 20)]),
        proptest::option::of((1u32..500, prop_oneof![Just(1u32), Just(60), Just(3600)])),
        any::<bool>(),
    )
        .prop_map(|(qos, size, rate, no_retain)| Limits {
            qos,
            size,
            rate: rate.map(|(count, seconds)| Rate { count, seconds }),
            no_retain,
        });
    let because = proptest::option::of("[a-z \"\\\\#{}]{0,12}");
    (0u8..4, any_pattern(), limits, because, any::<bool>()).prop_map(|(act, pattern, limits, because, allow)| {
        let target = match act {
            0 => Target::Connect(ClientIdForm::Device),
            1 => Target::Connect(ClientIdForm::DeviceAndMore),
            2 => Target::Publish(pattern),
            _ => Target::Subscribe(pattern),
        };
        let limits = match (&target, allow) {
            (Target::Publish(_), true) => limits,
            (Target::Subscribe(_), true) => Limits { qos: limits.qos, ..Limits::default() },
            _ => Limits::default(),
        };
        let effect = if allow { Effect::Allow } else { Effect::Deny };
        let share =
            because.as_ref().filter(|_| allow && matches!(target, Target::Subscribe(_)) && limits.qos.is_some());
        let share = share.map(|because| format!("w{}", because.len()));
        let for_children = target.pattern().is_some_and(Pattern::names_child);
        let effect = if for_children { Effect::Allow } else { effect };
        let place = Source::new("p", "").place(0..0);
        Rule {
            effect,
            target,
            for_children,
            share,
            limits,
            because,
            at: RulePlace { policy: "p".parse().unwrap(), place, says: 0, shares_line: false },
        }
    })
}

pub(super) fn any_policy() -> impl Strategy<Value = Policy> {
    let about = proptest::option::of("[a-z \"]{0,12}");
    let sole = any_pattern().prop_filter("a claim names no child", |pattern| !pattern.names_child());
    let sole = proptest::option::of(sole);
    let introduce = (1u32..=Introduce::MOST, proptest::option::of("[a-z \"]{1,12}"));
    let introduces = proptest::collection::vec(introduce, 0..3);
    (about, any_condition(), proptest::collection::vec(any_rule(), 0..4), introduces, sole, any::<bool>()).prop_map(
        |(about, subjects, rules, introduces, sole, allowed)| {
            let introduce = |(most, because)| Introduce {
                kind: "cabin".parse().unwrap(),
                most,
                because,
                at: RulePlace {
                    policy: "p".parse().unwrap(),
                    place: Source::new("p", "").place(0..0),
                    says: 0,
                    shares_line: false,
                },
            };
            let place = Source::new("p", "").place(0..0);
            let expect = Expect {
                device: ExpectDevice::Described(vec![("kind".into(), "a".into()), ("b".into(), "c".into())]),
                act: Act::Publish,
                subject: "a/b".into(),
                allowed,
                place: place.clone(),
            };
            let subjects_place = place.clone();
            let soles = sole.into_iter().map(|pattern| Sole { pattern, place: place.clone() }).collect();
            Policy {
                name: "p".parse().unwrap(),
                about,
                subjects,
                subjects_place,
                rules,
                introduces: introduces.into_iter().map(introduce).collect(),
                soles,
                expects: vec![expect],
                place,
            }
        },
    )
}

pub(super) fn without_places(mut policy: Policy) -> Policy {
    let nowhere = Source::new("p", "").place(0..0);
    policy.place = nowhere.clone();
    policy.subjects_place = nowhere.clone();
    policy.soles.iter_mut().for_each(|sole| sole.place = nowhere.clone());
    policy.rules.iter_mut().for_each(|rule| rule.at.place = nowhere.clone());
    policy.introduces.iter_mut().for_each(|introduce| introduce.at.place = nowhere.clone());
    policy.expects.iter_mut().for_each(|expect| expect.place = nowhere.clone());
    policy
}

proptest! {
    #[test]
    fn what_is_written_reads_back(policy in any_policy()) {
        let text = policy.to_string();
        let read = read_file(&Source::new("p", &text)).map_err(|errors| TestCaseError::fail(format!("{text}\n{errors:?}")))?;
        prop_assert_eq!(read.len(), 1);
        let again = without_places(read[0].clone());
        prop_assert_eq!(again.to_string(), text);
        prop_assert_eq!(again, policy);
    }

    #[test]
    fn no_text_makes_the_parser_fail_badly(text in "(policy|for|allow|publish|\"a/#\"|[{}()=<,#\"\\\\\n ]|[a-z]){0,40}") {
        if let Err(errors) = read_file(&Source::new("p", &text)) {
            prop_assert!(!errors.is_empty() && errors.iter().all(|error| !error.to_string().is_empty()));
        }
    }
}
