use proptest::prelude::*;

use super::*;
use crate::random::Counted;

fn facts(all: &[(FactName, &str)]) -> BTreeMap<FactName, Fact> {
    all.iter().map(|(name, value)| (name.clone(), Fact::new(name.clone(), value).unwrap())).collect()
}

fn admission(demand: Demand) -> AdmissionRecord {
    let mut device = DeviceRecord::new("gg-9".parse().unwrap(), "gauge".parse().unwrap(), UnixTime(10));
    device.facts = facts(&[(FactName::Serial, "ZX-9"), (FactName::Mac, "00:16:3e:00:00:09")]);
    AdmissionRecord { name: AdmissionName(7), device, demand, until: UnixTime(100), end: None }
}

#[test]
fn no_device_can_be_named_as_an_admission_is() {
    for number in [1, 7, 4_294_967_295] {
        let name = AdmissionName(number);
        assert_eq!(name.to_string().parse(), Ok(name));
        assert!(name.to_string().parse::<DeviceId>().is_err());
    }
    for bad in ["", "A", "A0", "A01", "a1", "A-1", "A+1", "A4294967296", "A1x", " A1", "A\u{661}"] {
        assert!(bad.parse::<AdmissionName>().is_err(), "{bad:?}");
    }
}

#[test]
fn a_secret_reads_back_as_people_write_it_and_its_digest_is_its_own() {
    let secret = Secret::new(&mut Counted(1));
    let text = secret.text();
    assert_eq!(text.len(), 26);
    let grouped = format!("{}-{}", &text[..13], &text[13..]).to_uppercase();
    for written in [text.as_str(), &grouped] {
        assert_eq!(Secret::parse(written).unwrap().digest(), secret.digest(), "{written}");
    }
    assert_ne!(Secret::new(&mut Counted(2)).digest(), secret.digest());
    assert_ne!(secret.digest(), sha256(&*secret.0), "it is of use for nothing else");
    assert!(!format!("{secret:?}").contains(text.as_str()), "it is in no log");
    for bad in ["", "short", &text[1..], &format!("{}1", &text[..25]), &"a".repeat(27), &"a-".repeat(60)] {
        assert!(Secret::parse(bad).is_none(), "{bad}");
    }
    // The last character holds three bits only; what differs in the others is another text, and none.
    let last = text.chars().last().unwrap();
    let others = ('a'..='z').chain('2'..='7').filter(|other| *other != last);
    let same = others.filter_map(|other| Secret::parse(&format!("{}{other}", &text[..25])));
    assert!(same.into_iter().all(|other| other.digest() != secret.digest()));
}

#[test]
fn what_is_shown_opens_what_demands_it() {
    let (secret, other) = (Secret::new(&mut Counted(1)), Secret::new(&mut Counted(9)));
    let both = facts(&[(FactName::Serial, "ZX-9"), (FactName::Mac, "00:16:3e:00:00:09")]);
    let serial = facts(&[(FactName::Serial, "ZX-9")]);
    let wrong = facts(&[(FactName::Serial, "ZX-8")]);
    let none = BTreeMap::new();
    let (gauge, vane): (KindName, KindName) = ("gauge".parse().unwrap(), "windvane".parse().unwrap());
    let (gauges, vanes) = ([gauge], [vane]);
    let vouched = |kinds, facts| Some(Vouched { kinds, facts });
    let show = |facts, vouched, secret| Shown { facts, vouched, key_digest: [5; 32], secret };
    let by_secret = Demand::Secret(secret.digest());
    let weak = |proved, least| Err(Unfit::TooWeak { proved, least });
    for (case, (demand, shown, least, want)) in [
        (by_secret, show(&none, None, Some(&secret)), Admit::Secret, Ok(Admit::Secret)),
        (by_secret, show(&both, None, Some(&secret)), Admit::Facts, Ok(Admit::Secret)),
        (by_secret, show(&none, None, Some(&other)), Admit::Secret, Err(Unfit::WrongSecret)),
        (by_secret, show(&both, None, None), Admit::Facts, Err(Unfit::NoSecret)),
        (by_secret, show(&wrong, None, Some(&secret)), Admit::Secret, Err(Unfit::Contradicted(FactName::Serial))),
        (by_secret, show(&none, None, Some(&secret)), Admit::Key, weak(Admit::Secret, Admit::Key)),
        (Demand::Key([5; 32]), show(&none, None, None), Admit::Secret, Ok(Admit::Key)),
        (Demand::Key([6; 32]), show(&both, None, Some(&secret)), Admit::Facts, Err(Unfit::OtherKey)),
        (Demand::Key([5; 32]), show(&none, None, None), Admit::Certificate, weak(Admit::Key, Admit::Certificate)),
        (Demand::Facts, show(&both, None, None), Admit::Facts, Ok(Admit::Facts)),
        (Demand::Facts, show(&serial, None, None), Admit::Facts, Err(Unfit::Missing(FactName::Mac))),
        (Demand::Facts, show(&both, None, None), Admit::Ask, weak(Admit::Facts, Admit::Ask)),
        (Demand::Certificate, show(&both, None, None), Admit::Facts, Err(Unfit::NoCertificate)),
        (Demand::Certificate, show(&none, vouched(&gauges, &both), None), Admit::Certificate, Ok(Admit::Certificate)),
        // What the request says is worth nothing where the certificate does not say it.
        (Demand::Certificate, show(&both, vouched(&gauges, &serial), None), Admit::Facts, Err(Unfit::NoCertificate)),
        (Demand::Certificate, show(&none, vouched(&vanes, &both), None), Admit::Facts, Err(Unfit::NoCertificate)),
        (by_secret, show(&none, vouched(&gauges, &both), None), Admit::Certificate, Ok(Admit::Certificate)),
        (
            by_secret,
            show(&wrong, vouched(&gauges, &both), None),
            Admit::Secret,
            Err(Unfit::Contradicted(FactName::Serial)),
        ),
    ]
    .into_iter()
    .enumerate()
    {
        assert_eq!(admission(demand).opens_to(&shown, least, UnixTime(50)), want, "case {case}");
    }
    let bare = AdmissionRecord {
        device: DeviceRecord { facts: BTreeMap::new(), ..admission(Demand::Facts).device },
        ..admission(Demand::Facts)
    };
    assert_eq!(bare.opens_to(&show(&both, None, None), Admit::Facts, UnixTime(50)), Err(Unfit::NoFacts));
    let vouched_for_nothing = show(&none, vouched(&gauges, &both), None);
    let bare = AdmissionRecord { demand: Demand::Certificate, ..bare };
    assert!(
        bare.opens_to(&vouched_for_nothing, Admit::Facts, UnixTime(50)).is_err(),
        "any device of the maker's could"
    );
}

#[test]
fn it_opens_until_it_ends_and_to_nobody_after() {
    let secret = Secret::new(&mut Counted(1));
    let open = admission(Demand::Secret(secret.digest()));
    let none = BTreeMap::new();
    let shown = Shown { facts: &none, vouched: None, key_digest: [5; 32], secret: Some(&secret) };
    let at = |record: &AdmissionRecord, now| {
        (record.state(UnixTime(now)), record.opens_to(&shown, Admit::Secret, UnixTime(now)))
    };
    assert_eq!(at(&open, 100), (AdmissionState::Open, Ok(Admit::Secret)));
    assert_eq!(at(&open, 101), (AdmissionState::Lapsed, Err(Unfit::Over(AdmissionState::Lapsed))));
    for (end, state) in [
        (AdmissionEnd::Used { at: UnixTime(20), credential: Fingerprint([1; 32]) }, AdmissionState::Used),
        (AdmissionEnd::Withdrawn { at: UnixTime(20) }, AdmissionState::Withdrawn),
        (AdmissionEnd::Lapsed { at: UnixTime(20) }, AdmissionState::Lapsed),
    ] {
        let over = AdmissionRecord { end: Some(end), ..open.clone() };
        assert_eq!(at(&over, 30), (state, Err(Unfit::Over(state))));
        assert_eq!(over.is_proved_by(&shown, Admit::Secret), Ok(Admit::Secret), "the same proof is the same caller");
        let credential = if let AdmissionEnd::Used { credential, .. } = end { Some(credential) } else { None };
        assert_eq!(AdmissionEnd::from_parts(end.as_str(), end.at(), credential), Some(end));
        assert_eq!(end.as_str(), state.as_str());
    }
    assert_eq!(AdmissionEnd::from_parts("used", UnixTime(1), None), None);
    for demand in [Demand::Facts, Demand::Secret([1; 32]), Demand::Key([2; 32]), Demand::Certificate] {
        assert_eq!(Demand::from_parts(demand.strength().as_str(), demand.digest().copied()), Some(demand));
    }
    assert_eq!(Demand::from_parts("secret", None), None);
    assert_eq!(Demand::from_parts("ask", None), None, "nobody demands to be asked");
}

#[test]
fn a_listed_device_is_the_one_that_is_meant_or_not() {
    let admission = admission(Demand::Certificate);
    let mut listed = DeviceRecord { created: UnixTime(1), ..admission.device.clone() };
    listed.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
    listed.gateway = Some("gw-1".parse().unwrap());
    assert_eq!(admission.differs_from(&listed), None, "what is not said may be anything");
    let with = |change: &dyn Fn(&mut DeviceRecord)| {
        let mut wanted = admission.clone();
        change(&mut wanted.device);
        wanted.differs_from(&listed)
    };
    assert_eq!(
        with(&|device| device.kind = "windvane".parse().unwrap()),
        Some(Difference::Kind("gauge".parse().unwrap()))
    );
    assert_eq!(
        with(&|device| drop(device.labels.insert("site".parse().unwrap(), "brindle".parse().unwrap()))),
        Some(Difference::Label("site".into()))
    );
    assert_eq!(with(&|device| drop(device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap()))), None);
    assert_eq!(
        with(&|device| device.facts.extend(facts(&[(FactName::Serial, "ZX-8")]))),
        Some(Difference::Fact(FactName::Serial))
    );
    assert_eq!(
        with(&|device| device.facts.extend(facts(&[(FactName::Imei, "490154203237518")]))),
        Some(Difference::Fact(FactName::Imei))
    );
    assert_eq!(with(&|device| device.gateway = Some("gw-2".parse().unwrap())), Some(Difference::Gateway));
    assert_eq!(with(&|device| device.gateway = Some("gw-1".parse().unwrap())), None);
    assert_eq!(with(&|device| device.owner = Some("ida".parse().unwrap())), Some(Difference::Owner));
}

#[test]
fn ids_by_pattern() {
    let known = facts(&[(FactName::Serial, "ZX-9"), (FactName::Mac, "00:16:3e:00:00:09")]);
    for (pattern, want) in [
        ("gg-9", Ok("gg-9")),
        ("gg-{serial}", Ok("gg-zx-9")),
        ("{mac}.{serial}", Ok("00163e000009.zx-9")),
        ("gg-{imei}", Err(BadPattern::Unknown(FactName::Imei))),
        ("gg-{colour}", Err(BadPattern::Unknown(FactName::parse("colour").unwrap()))),
        ("gg-{a b}", Err(BadPattern::NoFact("a b".into()))),
        ("gg-{serial", Err(BadPattern::Unclosed)),
        ("", Ok("")),
    ] {
        assert_eq!(filled(pattern, &known), want.map(str::to_owned), "{pattern}");
    }
}

#[test]
fn what_is_fixed_is_described_and_what_changes_is_not() {
    let one = admission(Demand::Secret([1; 32]));
    let used = AdmissionEnd::Used { at: UnixTime(20), credential: Fingerprint([1; 32]) };
    assert_eq!(AdmissionRecord { end: Some(used), ..one.clone() }.described(), one.described());
    for other in [
        AdmissionRecord { name: AdmissionName(8), ..one.clone() },
        AdmissionRecord { until: UnixTime(101), ..one.clone() },
        AdmissionRecord { demand: Demand::Secret([2; 32]), ..one.clone() },
        AdmissionRecord { demand: Demand::Certificate, ..one.clone() },
        AdmissionRecord {
            device: DeviceRecord { gateway: Some("gw-1".parse().unwrap()), ..one.device.clone() },
            ..one.clone()
        },
    ] {
        assert_ne!(other.described(), one.described());
    }
    let read: serde_json::Value = serde_json::from_str(&one.described()).unwrap();
    assert_eq!((read["name"].as_str(), read["facts"]["serial"].as_str()), (Some("A7"), Some("ZX-9")));
}

proptest! {
    /// A weaker kind never turns away who a stricter one lets in, and what is let in was proved that strongly at least.
    #[test]
    fn a_stricter_kind_lets_nobody_in_whom_a_laxer_one_turns_away(
        demand in 0u8..4, says in 0u8..3, has_secret in 0u8..3, key in 4u8..7, vouches in any::<bool>(), least in 0usize..5
    ) {
        let (secret, other) = (Secret::new(&mut Counted(1)), Secret::new(&mut Counted(9)));
        let demand = [Demand::Facts, Demand::Secret(secret.digest()), Demand::Key([5; 32]), Demand::Certificate][usize::from(demand)];
        let admission = admission(demand);
        let said = [BTreeMap::new(), admission.device.facts.clone(), facts(&[(FactName::Serial, "ZX-8")])][usize::from(says)].clone();
        let kinds = [admission.device.kind.clone()];
        let shown = Shown {
            facts: &said,
            vouched: vouches.then_some(Vouched { kinds: &kinds, facts: &admission.device.facts }),
            key_digest: [key; 32],
            secret: [None, Some(&secret), Some(&other)][usize::from(has_secret)],
        };
        let answers: Vec<_> = Admit::ALL.iter().map(|least| admission.opens_to(&shown, *least, UnixTime(50))).collect();
        if let Ok(proved) = answers[least] {
            prop_assert!(proved >= Admit::ALL[least]);
            prop_assert!(answers[..least].iter().all(|laxer| *laxer == Ok(proved)));
            prop_assert!(says != 2, "who contradicts what is demanded is never let in");
            prop_assert!(proved != Admit::Secret || has_secret == 1);
            prop_assert!(proved != Admit::Certificate || vouches);
        }
    }
}
