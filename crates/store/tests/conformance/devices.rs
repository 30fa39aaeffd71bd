//! Devices: listed, changed, held.

use tidy_warden_core::condition::{Condition, Use};
use tidy_warden_core::credential::{CredentialState, Revocation};
use tidy_warden_core::device::{AddRefusal, DeviceEdit};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::revocation::{Reason, Revoked};
use tidy_warden_core::text::Source;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::StoreError;

use crate::bench::{NOW, cause, device, fresh, id, issue, on_each};

#[test]
fn a_long_list_is_refused_for_every_reason_wherever_it_stands() {
    on_each(|store, _, _| {
        store.add_devices(&[device("known", Some("QF-known")), device("gone", None)], &cause(0)).unwrap().unwrap();
        store.retire_device(&id("gone"), &cause(0)).unwrap();
        // Around the places at which the store is asked about the next thousand.
        let mut list: Vec<_> =
            (0..2_500).map(|at| device(&format!("wv-{at:04}"), Some(&format!("QF-{at:04}")))).collect();
        list[0] = device("known", None);
        list[999] = device("gone", Some("QF-known"));
        list[1_000] = device("wv-0001", Some("QF-0002"));
        list[1_999] = device("wv-1998", Some("QF-x"));
        list[2_000].gateway = Some(id("nobody"));
        list[2_499].gateway = Some(id("wv-2499"));
        let number = |text: &str| Fact::new(FactName::Serial, text).unwrap();
        let taken =
            |index, fact: &str, owner: &str| AddRefusal::FactTaken { index, fact: number(fact), owner: id(owner) };
        let want = vec![
            AddRefusal::IdTaken { index: 0, id: id("known") },
            AddRefusal::IdRetired { index: 999, id: id("gone") },
            taken(999, "QF-known", "known"),
            AddRefusal::IdTaken { index: 1_000, id: id("wv-0001") },
            taken(1_000, "QF-0002", "wv-0002"),
            AddRefusal::IdTaken { index: 1_999, id: id("wv-1998") },
            AddRefusal::NoGateway { index: 2_000, gateway: id("nobody") },
            AddRefusal::GatewayBehindGateway { index: 2_499, gateway: id("wv-2499") },
        ];
        assert_eq!(store.check_devices(&list).unwrap(), want);
        assert_eq!(store.add_devices(&list, &cause(1)).unwrap(), Err(want));
        assert_eq!(store.audit_end().unwrap().0, 3, "nothing of it was listed");
        let wrong = [0, 999, 1_000, 1_999, 2_000, 2_499];
        let good: Vec<_> =
            list.into_iter().enumerate().filter(|(at, _)| !wrong.contains(at)).map(|(_, one)| one).collect();
        store.add_devices(&good, &cause(2)).unwrap().unwrap();
        let facts = [number("QF-0001"), number("QF-none"), number("QF-known"), number("QF-2498")];
        let holders = store.holders(&facts.iter().collect::<Vec<_>>()).unwrap();
        assert_eq!(holders, [Some(id("wv-0001")), None, Some(id("known")), Some(id("wv-2498"))]);
        assert_eq!(store.holders(&[]).unwrap(), []);
    });
}

#[test]
fn what_goes_in_comes_out() {
    on_each(|store, _, _| {
        let mut child = device("cb-1", Some("QF-2"));
        child.gateway = Some(id("st-1"));
        let batch = [child, device("st-1", Some("QF-1"))];
        assert_eq!(store.add_devices(&batch, &cause(0)).unwrap(), Ok(()));
        let found = store.devices(&[id("st-1"), id("nobody"), id("cb-1")]).unwrap();
        let devices: Vec<_> = found.into_iter().map(|view| view.map(|view| view.device)).collect();
        assert_eq!(devices, [Some(batch[1].clone()), None, Some(batch[0].clone())]);
        let mut walked = Vec::new();
        store.each_device(&mut |view| walked.push(view.device)).unwrap();
        assert_eq!(walked, batch);
        assert_eq!(store.server_certificate("guard").unwrap(), store.authorities().unwrap()[0].certificate);
        assert!(matches!(store.server_certificate("desk"), Err(StoreError::Unknown { .. })));
    });
}

#[test]
fn a_batch_is_taken_whole_or_not_at_all_and_every_reason_is_told() {
    on_each(|store, _, _| {
        store.add_devices(&[device("wv-1", Some("QF-1"))], &cause(0)).unwrap().unwrap();
        store.retire_device(&id("wv-1"), &cause(1)).unwrap();
        store.add_devices(&[device("wv-2", Some("QF-2"))], &cause(2)).unwrap().unwrap();
        let before = store.audit_end().unwrap();
        let mut orphan = device("cb-1", None);
        orphan.gateway = Some(id("st-9"));
        let batch = [
            device("wv-1", None),
            device("wv-2", None),
            device("wv-3", Some("QF-2")),
            device("wv-4", Some("QF-4")),
            device("wv-5", Some("QF-4")),
            device("wv-4", None),
            orphan,
            device("wv-6", Some("QF-1")), // a retired device's fact is free again
        ];
        let refusals = store.add_devices(&batch, &cause(3)).unwrap().unwrap_err();
        assert_eq!(refusals, store.check_devices(&batch).unwrap());
        let told: Vec<_> = refusals.iter().map(|refusal| (refusal.index(), refusal.to_string())).collect();
        let want = [
            (0, "the id `wv-1` belonged to a retired device and is never used again"),
            (1, "the id `wv-2` is taken"),
            (2, "the serial `QF-2` belongs to `wv-2`"),
            (4, "the serial `QF-4` belongs to `wv-4`"),
            (5, "the id `wv-4` is taken"),
            (6, "the gateway `st-9` is not listed"),
        ];
        assert_eq!(told, want.map(|(at, text)| (at, text.to_owned())));
        assert_eq!(store.devices(&[id("wv-4")]).unwrap(), [None]);
        assert_eq!(store.audit_end().unwrap(), before);
    });
}

#[test]
fn no_gateway_stands_behind_a_gateway() {
    on_each(|store, _, _| {
        let behind = |of: &str, gateway: &str| {
            let mut device = device(of, None);
            device.gateway = Some(id(gateway));
            device
        };
        store.add_devices(&[device("st-1", None), behind("cb-1", "st-1")], &cause(0)).unwrap().unwrap();
        let refused = store.add_devices(&[behind("cb-2", "cb-1")], &cause(1)).unwrap().unwrap_err();
        assert!(matches!(refused[..], [AddRefusal::GatewayBehindGateway { .. }]), "{refused:?}");
        store.add_devices(&[device("st-2", None)], &cause(1)).unwrap().unwrap();
        let edit = DeviceEdit { gateway: Some(Some(id("st-2"))), ..DeviceEdit::default() };
        let refused = store.edit_device(&id("st-1"), &edit, &cause(2)).unwrap().unwrap_err();
        assert!(matches!(refused[..], [AddRefusal::GatewayBehindGateway { .. }]), "st-1 has a child: {refused:?}");
        assert_eq!(store.edit_device(&id("cb-1"), &edit, &cause(2)).unwrap(), Ok(()));
    });
}

#[test]
fn edits_change_what_they_name_and_nothing_else() {
    on_each(|store, _, _| {
        store.add_devices(&[device("wv-1", Some("QF-1")), device("wv-2", Some("QF-2"))], &cause(0)).unwrap().unwrap();
        let fact = |text| Fact::new(FactName::Serial, text).unwrap();
        let edit = DeviceEdit {
            labels: vec![("site".parse().unwrap(), None), ("pylon".parse().unwrap(), Some("p7".parse().unwrap()))],
            facts: vec![Ok(fact("QF-3"))],
            ..DeviceEdit::default()
        };
        store.edit_device(&id("wv-1"), &edit, &cause(1)).unwrap().unwrap();
        let view = store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
        let labels: Vec<_> = view.device.labels.iter().map(|(name, value)| format!("{name}={value}")).collect();
        assert_eq!((labels, view.device.facts[&FactName::Serial].value()), (vec!["pylon=p7".to_owned()], "QF-3"));
        let taken = DeviceEdit { facts: vec![Ok(fact("QF-2"))], ..DeviceEdit::default() };
        assert!(store.edit_device(&id("wv-1"), &taken, &cause(2)).unwrap().is_err());
        let unknown = store.edit_device(&id("wv-9"), &taken, &cause(2));
        assert!(matches!(unknown, Err(StoreError::Unknown { what: "device", .. })));
    });
}

#[test]
fn a_hold_suspends_a_device_and_its_release_brings_it_back_as_it_was() {
    on_each(|store, _, world| {
        let mut gateway = device("st-1", None);
        gateway.kind = "station".parse().unwrap();
        let mut behind = device("wv-1", None);
        behind.gateway = Some(id("st-1"));
        store.add_devices(&[gateway, behind, device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let certificate = fresh(world, "wv-1");
        issue(store, "wv-1", &certificate, false, 1).unwrap().unwrap();
        let authority = "devices".parse().unwrap();
        let before = store.changed_since(0).unwrap().to;
        assert_eq!(store.set_hold(&[id("wv-1")], true, &cause(2)).unwrap(), [id("wv-1")]);
        assert_eq!(store.set_hold(&[id("wv-1")], true, &cause(3)).unwrap(), [], "once is enough");
        let mut changed = store.changed_since(before).unwrap().devices.unwrap();
        changed.sort();
        assert_eq!(changed, [id("st-1"), id("wv-1")], "its gateway speaks for it no more");

        let (credential, _) = store.status_many(&[certificate.fingerprint]).unwrap().remove(0).unwrap();
        let now = UnixTime(NOW + 3);
        assert_eq!((credential.state(now), credential.held), (CredentialState::Held, Some(UnixTime(NOW + 2))));
        let next = fresh(world, "wv-1");
        assert!(matches!(issue(store, "wv-1", &next, true, 3).unwrap(), Err(IssueRefusal::Held { .. })));
        let on_hold = Condition::parse(&Source::new("--where", "state = held"), Use::Picking).unwrap();
        let mut found = Vec::new();
        store.each_device_where(&on_hold, now, &mut |view| found.push(view.device.id)).unwrap();
        assert_eq!(found, [id("wv-1")]);

        let crl = store.next_crl(&authority).unwrap();
        let listed =
            Revoked { serial: certificate.serial.clone(), at: UnixTime(NOW + 2), reason: Reason::CertificateHold };
        assert_eq!(crl.entries, [listed]);
        // One is released and another put on hold while the list is being signed: it stays pending.
        let other = fresh(world, "wv-2");
        issue(store, "wv-2", &other, false, 4).unwrap().unwrap();
        assert_eq!(store.set_hold(&[id("wv-1")], false, &cause(5)).unwrap(), [id("wv-1")]);
        store.set_hold(&[id("wv-2")], true, &cause(5)).unwrap();
        assert!(store.record_crl(&authority, &crl, &cause(6), &mut || Ok(())).unwrap());
        assert!(store.authorities().unwrap()[0].crl_pending);
        let crl = store.next_crl(&authority).unwrap();
        assert_eq!(crl.entries.iter().map(|each| &each.serial).collect::<Vec<_>>(), [&other.serial]);
        assert!(store.record_crl(&authority, &crl, &cause(7), &mut || Ok(())).unwrap());
        assert!(!store.authorities().unwrap()[0].crl_pending);
        let (credential, _) = store.status_many(&[certificate.fingerprint]).unwrap().remove(0).unwrap();
        assert_eq!(credential.may_sign_in(now), Ok(()));

        // What is out is not put on hold, and what is on hold goes out for good.
        let all = Revocation { device: &id("wv-2"), only: None, reason: Reason::KeyCompromise };
        store.revoke(all, &cause(8)).unwrap();
        let view = store.devices(&[id("wv-2")]).unwrap().remove(0).unwrap();
        assert_eq!((view.device.held, view.device.out), (None, Some(UnixTime(NOW + 8))));
        assert_eq!(store.next_crl(&authority).unwrap().entries[0].reason, Reason::KeyCompromise);
        assert_eq!(store.set_hold(&[id("wv-2")], true, &cause(9)).unwrap(), []);
        assert!(store.set_hold(&[id("nobody")], true, &cause(9)).is_err());
    });
}

#[test]
fn names_of_labels_and_facts_are_known_whoever_has_them_now() {
    on_each(|store, _, _| {
        store.add_devices(&[device("wv-1", Some("QF-1"))], &cause(0)).unwrap().unwrap();
        let edit = |label: &str, value: Option<&str>| {
            let labels = vec![(label.parse().unwrap(), value.map(|value| value.parse().unwrap()))];
            DeviceEdit { labels, ..DeviceEdit::default() }
        };
        store.edit_device(&id("wv-1"), &edit("pylon", Some("p7")), &cause(1)).unwrap().unwrap();
        store.edit_device(&id("wv-1"), &edit("pylon", None), &cause(2)).unwrap().unwrap();
        let names = store.field_names().unwrap();
        let labels: Vec<&str> = names.labels.iter().map(|name| name.as_str()).collect();
        assert_eq!((labels, names.facts.len()), (vec!["pylon", "site"], 1));
        assert_eq!(store.label_names().unwrap(), ["site"]);
        // What was refused leaves no name behind.
        let mut other = device("wv-1", None);
        other.labels.insert("never".parse().unwrap(), "x".parse().unwrap());
        assert!(store.add_devices(&[other], &cause(3)).unwrap().is_err());
        assert_eq!(store.field_names().unwrap(), names);
    });
}
