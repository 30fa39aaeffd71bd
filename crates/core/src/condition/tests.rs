use proptest::prelude::*;

use super::*;
use crate::credential::tests::record;
use crate::text::{Source, TextError};

const DAY: i64 = 86_400;

fn device() -> DeviceRecord {
    let mut device = DeviceRecord::new("wv-0417".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
    device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
    let mac = Fact::new(FactName::Mac, "00:16:3e:0a:1b:2c").unwrap();
    device.facts.insert(FactName::Mac, mac);
    device.groups.insert("night".parse().unwrap());
    device
}

fn parse(text: &str) -> Result<Condition, TextError> {
    Condition::parse(&Source::new("--where", text), Use::Picking)
}

#[test]
fn conditions_hold_or_not() {
    let device = device();
    let live = CredentialRecord { first_used: Some(UnixTime(120)), not_after: UnixTime(20 * DAY), ..record() };
    let credentials = [live];
    let candidate = Candidate::at(&device, &credentials, UnixTime(10 * DAY));
    for (text, want) in [
        ("kind = windvane", true),
        ("kind = cabin", false),
        ("kind = windvane and site in (ossel, brindle)", true),
        ("site != brindle", true),
        ("pylon = p7", false),
        ("pylon != p7", false), // a missing value compares false both ways
        ("not pylon = p7", true),
        ("pylon known", false),
        ("mac known", true),
        ("mac = \"00-16-3E-0A-1B-2C\"", true),
        ("id matches \"wv-*\"", true),
        ("id matches \"*04*7\"", true),
        ("id matches \"wv\"", false),
        ("id matches \"*-0417*7\"", false),
        ("state = live", true),
        ("kind = cabin or kind = windvane and site = ossel", true),
        ("(kind = cabin or kind = windvane) and site = brindle", false),
        ("owner = ossel-lifts", false),
        ("id >= wv-0400 and id < wv-0500", true),
        ("site > ossel", false),
        ("pylon < z", false),
        ("group = night", true),
        ("group in (day, night)", true),
        ("group != night", false),
        ("group != day", true),
        ("cert.ends within 10d", true),
        ("cert.ends within 9d", false),
        ("cert.ends before 1970-01-22T00:00:00Z", true),
        ("cert.ends after 1970-01-21T00:00:00Z", false),
        ("cert.ends = 1970-01-21T00:00:00Z", true),
        ("cert.ends known and not seen known", true),
        ("seen unknown and cert.ends unknown", false),
        ("seen unknown and pylon unknown and not mac unknown", true),
        ("seen before 1d ago", false), // never seen is not long ago
        ("created before 9d ago", true),
        ("created after 11d ago", true),
        ("cert.ends = 1970-01-21T02:00:00+02:00", true),
        ("cert.ends = 1970-01-20T20:30:00-03:30", true),
    ] {
        assert_eq!(parse(text).unwrap().holds(&candidate), want, "{text}");
    }
}

#[test]
fn mistakes_are_shown_where_they_are() {
    for (text, column, problem) in [
        ("kind windvane", 6, "found `windvane`"),
        ("kind =", 7, "found the end of the text"),
        ("kind = Windvane", 8, "holds 'W'"),
        ("site in (a b)", 12, "found `b`"),
        ("mac = 12", 7, "the mac `12` is not valid"),
        ("state = broken", 9, "`broken` is not a state"),
        ("kind = a kind = b", 10, "found `kind`"),
        ("seen = a", 8, "`a`"),
        ("seen within soon", 13, "soon"),
        ("seen before 3d", 15, "found the end"),
        ("and = a", 1, "cannot be compared"),
        ("state < live", 7, "states have no order"),
        ("kind within 3d", 6, "`kind` is not a time"),
        ("group matches \"a\"", 7, "found `matches`"),
        ("", 1, "found the end of the text"),
    ] {
        let error = parse(text).unwrap_err();
        assert_eq!(error.place.column, column, "{text}: {error}");
        assert!(error.problem.contains(problem), "{text}: {error}");
    }
    for text in ["state = live", "seen known", "cert.ends within 3d"] {
        let in_policy = Condition::parse(&Source::new("p", text), Use::Policy);
        assert!(in_policy.unwrap_err().problem.contains("cannot be used in a policy"), "{text}");
    }
    let deep = format!("{}kind = a{}", "(".repeat(1_000), ")".repeat(1_000));
    assert!(parse(&deep).is_err());
    assert!(parse(&format!("{}kind = a{}", "(".repeat(64), ")".repeat(64))).is_ok());
}

pub(crate) fn any_condition() -> impl Strategy<Value = Condition> {
    let field = prop_oneof![
        Just(Field::Id),
        Just(Field::Kind),
        Just(Field::Owner),
        Just(Field::Gateway),
        "[a-c]{1,2}".prop_map(|name| Field::Named(name.parse().unwrap())),
    ];
    let value = "[a-c][a-c-]{0,2}[a-c]";
    let how = proptest::sample::select(&Comparison::ALL[..]);
    let text = prop_oneof![
        4 => (how, value).prop_map(|(how, value)| TextTest::Compared(how, value)),
        2 => proptest::collection::vec(value, 1..3).prop_map(TextTest::In),
        1 => "[a-c*\"\\\\]{0,4}".prop_map(TextTest::Matches),
        1 => Just(TextTest::Known),
    ];
    let group = "[a-b]".prop_map(|name| Condition::Group(name.parse().unwrap(), None));
    let leaf = prop_oneof![5 => (field, text).prop_map(|(field, test)| Condition::Text(field, test)), 1 => group];
    leaf.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 2..3).prop_map(Condition::All),
            proptest::collection::vec(inner.clone(), 2..3).prop_map(Condition::Any),
            inner.prop_map(|inner| Condition::Not(Box::new(inner))),
        ]
    })
}

#[test]
fn a_word_that_names_no_fact_is_told_what_is_wrong_with_it() {
    let told = |word: &str| Field::parse(word).unwrap_err().to_string();
    assert!(told("fact.asset-").contains("must begin and end with a letter or a digit"));
    assert!(told("fact.aSset").contains("'S'"), "{}", told("fact.aSset"));
    assert_eq!(Field::parse("fact.mac").unwrap(), Field::Fact(FactName::Mac));
}

proptest! {
    #[test]
    fn what_is_written_reads_back(condition in any_condition()) {
        prop_assert_eq!(parse(&condition.to_string()).unwrap(), condition);
    }

    #[test]
    fn no_text_makes_the_parser_fail_badly(text in "\\PC{0,60}|[a-c=!()\" ,]{0,60}") {
        if let Err(error) = parse(&text) {
            prop_assert!(!error.to_string().is_empty());
        }
    }

    #[test]
    fn star_patterns_agree_with_a_naive_matcher(pattern in "[ab*]{0,6}", text in "[ab]{0,6}") {
        fn naive(pattern: &[u8], text: &[u8]) -> bool {
            match pattern.split_first() {
                None => text.is_empty(),
                Some((b'*', rest)) => (0..=text.len()).any(|skip| naive(rest, &text[skip..])),
                Some((first, rest)) => text.first() == Some(first) && naive(rest, &text[1..]),
            }
        }
        prop_assert_eq!(matches(&pattern, &text), naive(pattern.as_bytes(), text.as_bytes()));
    }
}

/// Devices over a small alphabet, so that every comparison of [`any_condition`] sees hits, misses and gaps.
pub(crate) fn any_device() -> impl Strategy<Value = DeviceRecord> {
    let name = || "[a-c]{1,2}";
    let label = proptest::collection::btree_map("[a-c]{1,2}", "[a-c][a-c]", 0..4);
    (name(), name(), proptest::option::of(name()), proptest::option::of(name()), label, any::<(bool, bool)>()).prop_map(
        |(id, kind, owner, gateway, labels, (first, second))| {
            let mut device = DeviceRecord::new(id.parse().unwrap(), kind.parse().unwrap(), UnixTime(0));
            device.owner = owner.map(|owner| owner.parse().unwrap());
            device.gateway = gateway.map(|gateway| gateway.parse().unwrap());
            device.labels = labels
                .into_iter()
                .map(|(name, value)| (name.parse().unwrap(), value.parse().unwrap()))
                .filter(|(name, _)| can_be_named(name))
                .collect();
            device.groups = [("a", first), ("b", second)]
                .into_iter()
                .filter(|(_, is_in)| *is_in)
                .map(|(name, _)| name.parse().unwrap())
                .collect();
            device
        },
    )
}

/// A device of which nothing but its id is open.
struct Nameless<'a>(&'a DeviceRecord);

impl Traits for Nameless<'_> {
    fn text(&self, field: &Field) -> Found<'_> {
        match (field, Candidate::lasting(self.0).text(field)) {
            (Field::Id, _) | (_, Found::Unknown) => Found::Unknown,
            (_, Found::Missing) => Found::Missing,
            (Field::Kind, _) => Found::Is(self.0.kind.as_str()),
            (Field::Owner, _) => self.0.owner.as_ref().map(|owner| owner.as_str()).into(),
            (Field::Gateway, _) => self.0.gateway.as_ref().map(|gateway| gateway.as_str()).into(),
            (Field::Named(name), _) => self.0.labels.get(name).map(|value| value.as_str()).into(),
            (Field::State | Field::Fact(_) | Field::Note, _) => Found::Missing,
        }
    }

    fn in_group(&self, group: &GroupName) -> Option<bool> {
        Candidate::lasting(self.0).in_group(group)
    }
}

#[test]
fn contradictions_are_seen() {
    for (text, never) in [
        ("kind = a and kind = b", true),
        ("kind = a and not kind in (a, b)", true),
        ("kind = a and (id = x or kind = b) and not id = x", true),
        ("site = a and not site known", true),
        ("not site known and site != a", true),
        ("not id known", true),
        ("kind = a and kind matches \"b*\"", true),
        ("site = a or kind = b", false),
        ("not site = a", false),
        ("not kind = a", false),
        ("kind in (a, b) and kind != a", false),
        ("group = a and group = b", false),
    ] {
        assert_eq!(parse(text).unwrap().never_holds(), never, "{text}");
    }
}

#[test]
fn groups_by_rule_stand_for_their_rule() {
    let device = device();
    let candidate = Candidate::lasting(&device);
    let rule = Arc::new(parse("site in (ossel, brindle) and kind = windvane").unwrap());
    let groups = Groups::from([("alps".parse().unwrap(), Some(rule)), ("night".parse().unwrap(), None)]);
    let condition = parse("group = alps and group = night and group != gone").unwrap();
    assert!(!condition.holds(&candidate), "without the rule nobody is in it");
    assert!(condition.resolve(&groups).holds(&candidate));
    assert_eq!(condition.resolve(&groups).to_string(), condition.to_string());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    #[test]
    fn what_is_known_without_the_id_is_true_with_any(condition in any_condition(), device in any_device()) {
        if let Some(truth) = condition.truth(&Nameless(&device)) {
            prop_assert_eq!(condition.holds(&Candidate::lasting(&device)), truth);
        }
    }

    #[test]
    fn what_never_holds_holds_for_nobody(condition in any_condition(), device in any_device()) {
        let both = Condition::All(vec![condition.clone(), Condition::Not(Box::new(condition.clone()))]);
        prop_assert!(!both.holds(&Candidate::lasting(&device)));
        prop_assert!(!(condition.never_holds() && condition.holds(&Candidate::lasting(&device))), "{}", condition);
    }
}
