//! Devices that wait for a person, as a person sees them.

use std::collections::BTreeMap;

use tidy_warden_core::asking::{AskingRecord, WAITS};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tidy_warden_ward::asking::{all, named};

use tidy_warden_rig::ward::{Bench, NOW};

fn id(text: &str) -> DeviceId {
    text.parse().unwrap()
}

/// Has a device ask, with a key of a number, at a second.
fn asks(bench: &mut Bench, key: u16, serial: Option<&str>, at: i64) -> DeviceId {
    let mut key_digest = [0; 32];
    key_digest[..2].copy_from_slice(&key.to_be_bytes());
    let fact = serial.map(|serial| (FactName::Serial, Fact::new(FactName::Serial, serial).unwrap()));
    let since = UnixTime(NOW.0 + at);
    let record = AskingRecord {
        key_digest,
        kind: "windvane".parse().unwrap(),
        facts: BTreeMap::from_iter(fact),
        from: format!("10.{}.0.0/24", key / 40),
        since,
        until: since.plus(WAITS),
        refused: None,
    };
    let cause = bench.ward.cause(None);
    bench.ward.store.ask(&record, &cause).unwrap().unwrap();
    record.id().unwrap()
}

fn with_ids_by_serial() -> Bench {
    let bench = Bench::new();
    let path = bench.ward.dir.join("ward.toml");
    let text = std::fs::read_to_string(&path).unwrap();
    let rule = "[kinds.windvane]\nadmit = \"ask\"\nid = \"wv-{serial}\"\n";
    std::fs::write(&path, text.replace("[kinds.windvane]\n", rule)).unwrap();
    let ward = bench.again();
    Bench { ward, ..bench }
}

#[test]
fn one_that_waits_goes_by_its_kinds_rule_or_by_its_key() {
    let mut bench = with_ids_by_serial();
    let (known, bare) = (asks(&mut bench, 1, Some("417"), 0), asks(&mut bench, 2, None, 1));
    // What would be no id, and what an endpoint of the ward is called, is nobody's.
    let odd = asks(&mut bench, 3, Some("A/B"), 2);
    let waiting = all(&bench.ward).unwrap();
    let seen: Vec<_> = waiting.iter().map(|each| (each.id.clone(), each.wanted.clone())).collect();
    assert_eq!(seen, [(known.clone(), Some(id("wv-417"))), (bare.clone(), None), (odd.clone(), None)]);
    assert!(seen.iter().all(|(own, _)| own.as_str().starts_with("asking-")));
    assert_eq!(waiting[0].as_device().id, id("wv-417"));
    assert_eq!((waiting[1].as_device().id, waiting[1].as_device().created), (bare.clone(), UnixTime(NOW.0 + 1)));
    for name in [&known, &id("wv-417")] {
        assert_eq!(named(&bench.ward, name).unwrap().id, known);
    }
    assert_eq!(named(&bench.ward, &bare).unwrap().id, bare);
    let nobody = named(&bench.ward, &id("wv-9")).unwrap_err();
    assert!(nobody.in_one_line().contains("no device waits as `wv-9`"), "{}", nobody.in_one_line());
}

#[test]
fn who_says_the_same_is_in_conflict_and_has_to_be_named_by_its_key() {
    let mut bench = with_ids_by_serial();
    let mut listed = DeviceRecord::new(id("old-1"), "windvane".parse().unwrap(), NOW);
    listed.facts.insert(FactName::Serial, Fact::new(FactName::Serial, "417").unwrap());
    let cause = bench.ward.cause(None);
    bench.ward.store.add_devices(&[listed], &cause).unwrap().unwrap();
    bench.list(std::iter::once("wv-500".to_owned()));
    let (one, other) = (asks(&mut bench, 1, Some("417"), 0), asks(&mut bench, 2, Some("417"), 1));
    let (taken, alone) = (asks(&mut bench, 3, Some("500"), 2), asks(&mut bench, 4, Some("600"), 3));
    let conflicts: BTreeMap<DeviceId, Vec<DeviceId>> =
        all(&bench.ward).unwrap().into_iter().map(|each| (each.id, each.conflicts)).collect();
    assert_eq!(conflicts[&one], [other.clone(), id("old-1")]);
    assert_eq!(conflicts[&other], [one.clone(), id("old-1")]);
    assert_eq!(conflicts[&taken], [id("wv-500")], "its id is another's");
    assert_eq!(conflicts[&alone], Vec::<DeviceId>::new());
    let both = named(&bench.ward, &id("wv-417")).unwrap_err().in_one_line();
    assert!(both.contains("2 wait as `wv-417`"), "{both}");
    assert_eq!(named(&bench.ward, &one).unwrap().id, one);
}

#[test]
fn a_thousand_that_say_the_same_fill_no_screens() {
    let mut bench = with_ids_by_serial();
    (0..400).for_each(|key| drop(asks(&mut bench, key, Some("417"), i64::from(key))));
    let waiting = all(&bench.ward).unwrap();
    assert_eq!(waiting.len(), 400);
    assert!(waiting.iter().all(|each| (1..=20).contains(&each.conflicts.len())));
    let told = named(&bench.ward, &id("wv-417")).unwrap_err().in_one_line();
    assert!(told.contains("400 wait as") && told.len() < 1_000, "{} characters: {told}", told.len());
}

#[test]
fn who_has_waited_too_long_is_not_seen_any_more() {
    let mut bench = with_ids_by_serial();
    let late = asks(&mut bench, 1, Some("417"), -WAITS.seconds() - 1);
    let still = asks(&mut bench, 2, Some("418"), -WAITS.seconds() + 1);
    let waiting: Vec<DeviceId> = all(&bench.ward).unwrap().into_iter().map(|each| each.id).collect();
    assert_eq!(waiting, [still]);
    assert!(named(&bench.ward, &late).is_err());
}
