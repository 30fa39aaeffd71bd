//! Credentials: recorded one by one and in batches.

use tidy_warden_core::authority::{AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::credential::Revocation;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{
    Batch, JobKind, JobRefusal, Lease, NewAuthority, NewCredential, NewJob, OperatorStore, Reached, StoreError,
};

use crate::bench::{NOW, cause, device, fresh, id, issue, on_each};

#[test]
fn a_device_has_one_certificate_unless_another_is_asked_for() {
    on_each(|store, guard, world| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let (first, second) = (fresh(world, "wv-1"), fresh(world, "wv-1"));
        issue(store, "wv-1", &first, false, 10).unwrap().unwrap();
        assert!(matches!(issue(store, "wv-1", &second, false, 20).unwrap(), Err(IssueRefusal::HasCredential { .. })));
        issue(store, "wv-1", &second, true, 20).unwrap().unwrap();
        let view = |store: &OperatorStore| store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
        let credentials = view(store).credentials;
        let signed = |at| store.signed_by(&"devices".parse().unwrap(), UnixTime(NOW + at)).unwrap();
        assert_eq!((signed(30).all, signed(30).usable, signed(1021).usable), (2, 2, 1));
        assert_eq!(signed(30).last_end, Some(second.not_after));
        assert_eq!(credentials[0].fingerprint, second.fingerprint, "newest first");
        assert_eq!(credentials[1].superseded_until, Some(UnixTime(NOW + 20 + 1000)));
        // The old one may be used until the new one is; using it again ends nothing.
        guard.record_uses(&[(id("wv-1"), Some(first.fingerprint))], &cause(30)).unwrap();
        assert!(view(store).credentials[1].may_sign_in(UnixTime(NOW + 40)).is_ok());
        guard.record_uses(&[(id("wv-1"), Some(second.fingerprint))], &cause(50)).unwrap();
        assert!(view(store).credentials[1].may_sign_in(UnixTime(NOW + 50)).is_err());
        assert_eq!(view(store).credentials[0].first_used, Some(UnixTime(NOW + 50)));
        assert_eq!(view(store).device.seen, Some(UnixTime(NOW + 30)), "written at most once a minute");
        let entries = store.audit_end().unwrap().0;
        guard.record_uses(&[(id("wv-1"), Some(second.fingerprint))], &cause(500)).unwrap();
        assert_eq!(view(store).device.seen, Some(UnixTime(NOW + 500)));
        assert_eq!(store.audit_end().unwrap().0, entries, "later uses have no entry");
    });
}

#[test]
fn a_key_belongs_to_one_device_and_a_compromised_one_to_none() {
    on_each(|store, _, world| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let certificates: Vec<_> = ["wv-1", "wv-2", "wv-1"].map(|of| world.certificate(of, &key, 30)).into();
        issue(store, "wv-1", &certificates[0], false, 1).unwrap().unwrap();
        assert!(matches!(
            issue(store, "wv-2", &certificates[1], false, 2).unwrap(),
            Err(IssueRefusal::KeyInUse { .. })
        ));
        let only = Some(certificates[0].fingerprint);
        store.revoke(Revocation { device: &id("wv-1"), only, reason: Reason::KeyCompromise }, &cause(3)).unwrap();
        let refused = issue(store, "wv-1", &certificates[2], false, 4).unwrap();
        assert!(matches!(refused, Err(IssueRefusal::KeyCompromised { .. })), "{refused:?}");
    });
}

#[test]
fn nothing_is_recorded_that_was_not_delivered() {
    on_each(|store, _, world| {
        store.add_devices(&[device("wv-1", None)], &cause(0)).unwrap().unwrap();
        let certificate = fresh(world, "wv-1");
        let (of, authority) = (id("wv-1"), "devices".parse().unwrap());
        let new = NewCredential::issued(&of, &authority, &certificate, "p256");
        let before = store.audit_end().unwrap();
        let failed = store.record_issued(&new, &cause(1), &mut || Err(std::io::ErrorKind::StorageFull.into()));
        assert!(matches!(failed, Err(StoreError::Delivery(_))));
        assert_eq!(store.status_many(&[certificate.fingerprint]).unwrap(), [None]);
        assert_eq!(store.audit_end().unwrap(), before);
    });
}

#[test]
fn a_batch_is_taken_whole_or_not_at_all() {
    on_each(|store, _, world| {
        store.add_devices(&[device("wv-1", Some("QF-1"))], &cause(0)).unwrap().unwrap();
        let authority = "devices".parse().unwrap();
        let ids = [id("wv-1"), id("wv-2"), id("wv-3")];
        let certificates: Vec<Certificate> = ["wv-1", "wv-2", "wv-3"].iter().map(|of| fresh(world, of)).collect();
        let credentials: Vec<NewCredential<'_>> = ids
            .iter()
            .zip(&certificates)
            .map(|(of, certificate)| NewCredential::issued(of, &authority, certificate, "p256"))
            .collect();
        let lease = Lease { holder: "me".into(), until: UnixTime(NOW + 60) };
        let kind = JobKind::Enroll;
        let new = NewJob { kind, digest: [1; 32], plan: "{}", position: "0", parts: &[], subject: "bulk run" };
        assert_eq!(store.begin_job(&new, &lease, &cause(1)).unwrap(), Ok(1));
        let other = NewJob { digest: [2; 32], ..new.clone() };
        let refused = store.begin_job(&other, &lease, &cause(1)).unwrap();
        assert_eq!(refused, Err(JobRefusal::Another { job: 1 }), "one run at a time");
        let take = |store: &mut OperatorStore, devices: &[DeviceRecord], credentials: &[NewCredential<'_>]| {
            let reached = Some(Reached { job: 1, position: "3", lease: lease.clone() });
            let batch = Batch { act: "enroll.batch", devices, credentials, list_digest: [7; 32], reached };
            let mut delivered = 0;
            let taken = store
                .record_batch(&batch, &cause(2), &mut || {
                    delivered += 1;
                    Ok(())
                })
                .unwrap();
            assert_eq!(delivered, usize::from(taken.is_ok()), "what is refused is not handed out");
            taken.map_err(|refusals| refusals.into_iter().map(|each| each.device.to_string()).collect::<Vec<_>>())
        };
        let before = store.audit_end().unwrap();
        // A fact that is taken, an id that is taken, a gateway that is not there.
        let taken_fact = [device("wv-2", Some("QF-1")), device("wv-3", None)];
        assert_eq!(take(store, &taken_fact, &credentials), Err(vec!["wv-2".to_owned()]));
        let taken_id = [device("wv-1", None), device("wv-2", None)];
        assert_eq!(take(store, &taken_id, &credentials[..2]), Err(vec!["wv-1".to_owned()]));
        let mut behind = device("wv-2", None);
        behind.gateway = Some(id("st-none"));
        assert_eq!(take(store, &[behind, device("wv-3", None)], &credentials), Err(vec!["wv-2".to_owned()]));
        assert_eq!(store.audit_end().unwrap(), before);
        assert_eq!(store.job(1).unwrap().unwrap().position, "0");

        let good = [device("wv-2", Some("QF-2")), device("wv-3", None)];
        assert_eq!(take(store, &good, &credentials), Ok(()));
        assert_eq!(store.job(1).unwrap().unwrap().position, "3");
        let views = store.devices(&ids).unwrap();
        assert!(views.iter().flatten().all(|view| view.credentials.len() == 1));
        assert_eq!(store.holder(&Fact::new(FactName::Serial, "QF-2").unwrap()).unwrap(), Some(id("wv-2")));
        // The same again: each has one already, and the key of one is another's.
        let again: Vec<Certificate> = ["wv-1"].iter().map(|of| fresh(world, of)).collect();
        let second = [NewCredential::issued(&ids[0], &authority, &again[0], "p256")];
        assert_eq!(take(store, &[], &second), Err(vec!["wv-1".to_owned()]));
        let stolen = [NewCredential { device: &ids[2], again: true, ..credentials[1].clone() }];
        assert_eq!(take(store, &[], &stolen), Err(vec!["wv-3".to_owned()]));
        assert_eq!(store.equipped_since(&authority).unwrap(), (3, 3));
        let (name, certificate) = ("later".parse().unwrap(), fresh(world, "later"));
        let later = NewAuthority {
            name: &name,
            role: AuthorityRole::Root,
            certificate: &certificate,
            key: KeyPlace::Nowhere,
            replaces: None,
            trust: None,
            crosses: &[],
        };
        store.add_authority(&later, &cause(4)).unwrap().unwrap();
        assert_eq!(store.equipped_since(&name).unwrap(), (3, 0));
        let more = fresh(world, "wv-1");
        issue(store, "wv-1", &more, true, 4).unwrap().unwrap();
        assert_eq!(store.equipped_since(&name).unwrap(), (3, 1), "in the same second, but after it");
        store.end_job(1, "me", serde_json::json!({}), false, &cause(5)).unwrap();
        assert_eq!(store.jobs(true, 9).unwrap(), []);
    });
}
