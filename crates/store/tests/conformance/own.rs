//! Facts of the ward's own, and notes.

use tidy_warden_core::admission::{AdmissionName, AdmissionRecord, Demand};
use tidy_warden_core::device::{AddRefusal, DeviceEdit, DeviceRecord};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{Declared, FactClash, Holders, OperatorStore, OwnFacts};

use crate::bench::{NOW, cause, device, id, on_each};

fn asset() -> FactName {
    FactName::parse("asset").unwrap()
}

fn with_asset(id: &str, value: &str) -> DeviceRecord {
    let mut device = device(id, None);
    device.facts.insert(asset(), Fact::new(asset(), value).unwrap());
    device
}

/// Takes settings that declare the fact so, or not at all.
fn declare(store: &mut OperatorStore, unique: Option<bool>, at: i64) -> Result<(), Vec<FactClash>> {
    let of = |unique: Option<bool>| -> OwnFacts {
        unique.map(|unique| ("asset".parse().unwrap(), unique)).into_iter().collect()
    };
    let before = match store.settings_text().unwrap().as_str() {
        "unique" => Some(true),
        "shared" => Some(false),
        _ => None,
    };
    let text = unique.map_or("none", |unique| if unique { "unique" } else { "shared" });
    let declared = Declared { before: &of(before), after: &of(unique) };
    store.record_settings(text, declared, "{}", &cause(at)).unwrap()
}

fn take_away(store: &mut OperatorStore, device: &str, at: i64) {
    let edit = DeviceEdit { facts: vec![Err(asset())], ..DeviceEdit::default() };
    store.edit_device(&id(device), &edit, &cause(at)).unwrap().unwrap();
}

#[test]
fn whether_devices_may_share_a_fact_is_what_the_settings_declare() {
    on_each(|store, _, _| {
        declare(store, Some(true), 1).unwrap();
        store.add_devices(&[with_asset("wv-1", "QA-1")], &cause(2)).unwrap().unwrap();
        let fact = Fact::new(asset(), "QA-1").unwrap();
        let taken = AddRefusal::FactTaken { index: 0, fact: fact.clone(), owner: id("wv-1") };
        assert_eq!(store.add_devices(&[with_asset("wv-2", "QA-1")], &cause(3)).unwrap(), Err(vec![taken]));
        take_away(store, "wv-1", 4);
        declare(store, Some(false), 5).unwrap();
        let three = [with_asset("wv-2", "QA-1"), with_asset("wv-3", "QA-1")];
        assert_eq!(store.check_devices(&three).unwrap(), []);
        store.add_devices(&three, &cause(6)).unwrap().unwrap();
        let edit = DeviceEdit { facts: vec![Ok(fact.clone())], ..DeviceEdit::default() };
        store.edit_device(&id("wv-1"), &edit, &cause(7)).unwrap().unwrap();
        assert_eq!(store.holder(&fact).unwrap(), None, "it is nobody's alone");
        assert!(store.field_names().unwrap().shared.contains(&asset()));
        // Two may be announced with it, and be told apart by what else they show.
        let wanted = |id: &str, key: u8| AdmissionRecord {
            name: AdmissionName(0),
            device: with_asset(id, "QA-1"),
            demand: Demand::Key([key; 32]),
            until: UnixTime(NOW + 90_000),
            end: None,
        };
        let opened = store.open_admissions(&[wanted("wv-4", 1), wanted("wv-5", 2)], &cause(8), &mut |_| Ok(()));
        assert_eq!(opened.unwrap().unwrap().len(), 2);
        assert_eq!(store.pending_with(&[&fact]).unwrap(), [None]);
        store.retire_device(&id("wv-1"), &cause(9)).unwrap();
        assert_eq!(store.last_retired(&fact).unwrap(), None, "who had it says nothing of who has it");
    });
}

#[test]
fn what_is_declared_of_a_fact_changes_only_while_nobody_has_it() {
    on_each(|store, _, _| {
        declare(store, Some(false), 1).unwrap();
        let all: Vec<_> = (1..8).map(|at| with_asset(&format!("wv-{at}"), "QA-1")).collect();
        store.add_devices(&all, &cause(2)).unwrap().unwrap();
        let first = (1..6).map(|at| id(&format!("wv-{at}"))).collect();
        let clash = FactClash::InUse {
            name: "asset".parse().unwrap(),
            by: Holders { devices: first, admission: None, more: true },
        };
        let before = store.audit_end().unwrap();
        assert_eq!(declare(store, Some(true), 3), Err(vec![clash.clone()]));
        assert_eq!(declare(store, None, 3), Err(vec![clash.clone()]));
        assert!(clash.to_string().ends_with("with it: `wv-1`, `wv-2`, `wv-3`, `wv-4`, `wv-5` and others"), "{clash}");
        assert_eq!((store.audit_end().unwrap(), store.settings_text().unwrap().as_str()), (before, "shared"));
        (1..7).for_each(|at| take_away(store, &format!("wv-{at}"), 3 + at));
        // A retired device keeps it, and is in nobody's way.
        store.retire_device(&id("wv-7"), &cause(20)).unwrap();
        declare(store, Some(true), 21).unwrap();
        assert!(!store.field_names().unwrap().shared.contains(&asset()));
        declare(store, None, 22).unwrap();
    });
}

#[test]
fn no_label_has_the_name_of_a_fact() {
    on_each(|store, _, _| {
        let label = |id: &str| {
            let mut device = device(id, None);
            device.labels.insert("asset".parse().unwrap(), "qa-1".parse().unwrap());
            device
        };
        store.add_devices(&[label("wv-1"), device("wv-2", None)], &cause(1)).unwrap().unwrap();
        let clash = |devices: &[&str], admission| {
            let by = Holders { devices: devices.iter().map(|each| id(each)).collect(), admission, more: false };
            vec![FactClash::Label { name: "asset".parse().unwrap(), by }]
        };
        assert_eq!(declare(store, Some(true), 2), Err(clash(&["wv-1"], None)));
        let edit = DeviceEdit { labels: vec![("asset".parse().unwrap(), None)], ..DeviceEdit::default() };
        store.edit_device(&id("wv-1"), &edit, &cause(3)).unwrap().unwrap();
        // One that is to come in with such a label counts as well.
        let wanted = AdmissionRecord {
            name: AdmissionName(0),
            device: label("wv-3"),
            demand: Demand::Key([1; 32]),
            until: UnixTime(NOW + 90_000),
            end: None,
        };
        store.open_admissions(&[wanted], &cause(4), &mut |_| Ok(())).unwrap().unwrap();
        assert_eq!(declare(store, Some(true), 5), Err(clash(&[], Some(AdmissionName(1)))));
        store.withdraw_admissions(&[AdmissionName(1)], &cause(6)).unwrap().unwrap();
        declare(store, Some(true), 7).unwrap();
    });
}

#[test]
fn a_note_comes_and_goes_and_the_record_does_not_tell_it() {
    on_each(|store, _, _| {
        let note = |text: &str| text.parse().unwrap();
        let noted = DeviceRecord { note: Some(note("behind the \"ski\" shed, ask Ida")), ..device("wv-1", None) };
        store.add_devices(std::slice::from_ref(&noted), &cause(1)).unwrap().unwrap();
        let known = |store: &OperatorStore| store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap().device.note;
        assert_eq!(known(store), noted.note);
        for (at, text) in [(2, Some(note("gone to the valley"))), (3, None)] {
            let edit = DeviceEdit { note: Some(text.clone()), ..DeviceEdit::default() };
            store.edit_device(&id("wv-1"), &edit, &cause(at)).unwrap().unwrap();
            assert_eq!(known(store), text);
        }
        let mut told = Vec::new();
        store
            .each_entry(2, &mut |entry| {
                told.push(entry.detail);
                true
            })
            .unwrap();
        assert!(told.iter().all(|detail| detail.contains("note_sha256")), "{told:?}");
        assert!(!told.iter().any(|detail| detail.contains("shed") || detail.contains("valley")), "{told:?}");
    });
}

#[test]
fn of_those_that_had_a_fact_the_last_that_was_retired_is_known() {
    on_each(|store, _, _| {
        let fact = Fact::new(FactName::Serial, "QF-1").unwrap();
        assert_eq!(store.last_retired(&fact).unwrap(), None);
        for (at, name) in [(1, "wv-1"), (3, "wv-2")] {
            store.add_devices(&[device(name, Some("QF-1"))], &cause(at)).unwrap().unwrap();
            store.retire_device(&id(name), &cause(at + 1)).unwrap();
            assert_eq!((store.last_retired(&fact).unwrap(), store.holder(&fact).unwrap()), (Some(id(name)), None));
        }
        store.add_devices(&[device("wv-3", Some("QF-1"))], &cause(5)).unwrap().unwrap();
        assert_eq!(store.holder(&fact).unwrap(), Some(id("wv-3")));
    });
}
