//! What every store must do, run against each of them. Today that is SQLite.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::path::Path;

use proptest::prelude::*;
use proptest::test_runner::TestRunner;

use tidy_warden_core::audit::{Broken, Verifier};
use tidy_warden_core::authority::{AuthorityRefusal, AuthorityRole, KeyPlace, PendingAuthority, Trust};
use tidy_warden_core::certificate::{
    AltName, Certificate, Issuer, SerialNumber, Subject, Template, Usage, self_signed,
};
use tidy_warden_core::condition::{Candidate, Condition, Use};
use tidy_warden_core::credential::CredentialState;
use tidy_warden_core::credential::{Ended, Revocation};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::device::{AddRefusal, DeviceEdit};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, ProvenKey, Signer, SoftwareKey};
use tidy_warden_core::policy::{Edition, Fleet, PolicyFile, reach};
use tidy_warden_core::random::Randomness;
use tidy_warden_core::revocation::{Reason, Revoked};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{
    Batch, BulkRun, Cause, CloneSigns, Founding, GroupMembers, NewAuthority, NewCredential, SqliteStore, Store,
    StoreError, Traffic, TrialDifference, WardRecord, resolvable,
};

const NOW: i64 = 1_795_417_333;

/// A stream of octets that never repeats; enough for serial numbers in a test.
struct Counting(u64);

impl Randomness for Counting {
    fn fill(&mut self, bytes: &mut [u8]) {
        for chunk in bytes.chunks_mut(8) {
            self.0 += 1;
            chunk.copy_from_slice(&self.0.to_be_bytes()[..chunk.len()]);
        }
    }
}

struct World {
    root: Certificate,
    key: SoftwareKey,
    random: Counting,
}

impl World {
    fn new() -> Self {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let mut random = Counting(0);
        let proven = key.proven();
        let subject = Subject::of("w", "root");
        let template = template(&proven, &subject, &[], Usage::UNLIMITED, &mut random, 7000);
        Self { root: self_signed(&template, &key).unwrap(), key, random }
    }

    fn certificate(&mut self, id: &str, key: &ProvenKey, days: u32) -> Certificate {
        let names = [AltName::Uri(format!("urn:dev:org:32473-{id}"))];
        let subject = Subject::of("w", id);
        let template = template(key, &subject, &names, Usage::Client, &mut self.random, days);
        template.issue(Issuer { certificate: &self.root, signer: &self.key }).unwrap().certificate
    }
}

fn template<'a>(
    key: &'a ProvenKey,
    subject: &'a Subject,
    names: &'a [AltName],
    usage: Usage<'a>,
    random: &mut Counting,
    days: u32,
) -> Template<'a> {
    Template {
        serial: SerialNumber::new(UnixTime(NOW), random),
        subject,
        names,
        key,
        now: UnixTime(NOW),
        life: Span::from_days(days),
        usage,
        crl_url: "http://localhost/devices.crl",
    }
}

fn cause(after: i64) -> Cause {
    Cause { at: UnixTime(NOW + after), actor: "ada".into(), because: "test".into() }
}

fn open(path: &Path, world: &World) -> Box<dyn Store> {
    let ward = WardRecord { urn: "urn:uuid:1".into(), rehearsal: false, token_key: world.key.public_key().clone() };
    let authorities = [("devices".parse().unwrap(), AuthorityRole::Devices, world.root.clone(), KeyPlace::Ward)];
    let founding =
        Founding { ward, authorities: &authorities, servers: &[("guard", world.root.clone())], settings: "a" };
    Box::new(SqliteStore::create(path, &founding, &cause(0)).unwrap())
}

fn with_store(test: impl FnOnce(&mut dyn Store, &mut World, &Path)) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    let mut world = World::new();
    let mut store = open(&path, &world);
    test(&mut *store, &mut world, &path);
    assert_eq!(broken(&*store), [], "whatever a test does, the audit record stays whole");
}

fn broken(store: &dyn Store) -> Vec<Broken> {
    let mut verifier = Verifier::default();
    let mut found = Vec::new();
    store
        .each_entry(1, &mut |entry| {
            found.extend(verifier.follow(&entry).err());
            true
        })
        .unwrap();
    let (number, hash) = store.audit_end().unwrap();
    found.extend(verifier.finish(number, hash).err());
    found
}

fn device(id: &str, serial: Option<&str>) -> DeviceRecord {
    let mut device = DeviceRecord::new(id.parse().unwrap(), "windvane".parse().unwrap(), UnixTime(NOW));
    device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
    if let Some(serial) = serial {
        let fact = Fact::new(FactName::Serial, serial).unwrap();
        device.facts.insert(FactName::Serial, fact);
    }
    device
}

fn id(text: &str) -> DeviceId {
    text.parse().unwrap()
}

fn issue(
    store: &mut dyn Store,
    of: &str,
    certificate: &Certificate,
    again: bool,
    at: i64,
) -> Result<Result<(), IssueRefusal>, StoreError> {
    let (device, authority) = (id(of), "devices".parse().unwrap());
    let issued = NewCredential::issued(&device, &authority, certificate, "p256");
    let new = NewCredential { again, overlap: Span::from_seconds(1000), ..issued };
    store.record_issued(&new, &cause(at), &mut || Ok(()))
}

fn fresh(world: &mut World, of: &str) -> Certificate {
    let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
    world.certificate(of, &key, 30)
}

#[test]
fn what_goes_in_comes_out() {
    with_store(|store, _, _| {
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
    with_store(|store, _, _| {
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
    with_store(|store, _, _| {
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
    with_store(|store, _, _| {
        store.add_devices(&[device("wv-1", Some("QF-1")), device("wv-2", Some("QF-2"))], &cause(0)).unwrap().unwrap();
        let fact = |text| Fact::new(FactName::Serial, text).unwrap();
        let edit = DeviceEdit {
            labels: vec![("site".parse().unwrap(), None), ("pylon".parse().unwrap(), Some("p7".parse().unwrap()))],
            facts: vec![Ok(fact("QF-3"))],
            gateway: None,
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
fn a_device_has_one_certificate_unless_another_is_asked_for() {
    with_store(|store, world, _| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let (first, second) = (fresh(world, "wv-1"), fresh(world, "wv-1"));
        issue(store, "wv-1", &first, false, 10).unwrap().unwrap();
        assert!(matches!(issue(store, "wv-1", &second, false, 20).unwrap(), Err(IssueRefusal::HasCredential { .. })));
        issue(store, "wv-1", &second, true, 20).unwrap().unwrap();
        let view = |store: &dyn Store| store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
        let credentials = view(store).credentials;
        let signed = |at| store.signed_by(&"devices".parse().unwrap(), UnixTime(NOW + at)).unwrap();
        assert_eq!((signed(30).all, signed(30).usable, signed(1021).usable), (2, 2, 1));
        assert_eq!(signed(30).last_end, Some(second.not_after));
        assert_eq!(credentials[0].fingerprint, second.fingerprint, "newest first");
        assert_eq!(credentials[1].superseded_until, Some(UnixTime(NOW + 20 + 1000)));
        // The old one may be used until the new one is; using it again ends nothing.
        store.record_uses(&[(id("wv-1"), Some(first.fingerprint))], &cause(30)).unwrap();
        assert!(view(store).credentials[1].may_sign_in(UnixTime(NOW + 40)).is_ok());
        store.record_uses(&[(id("wv-1"), Some(second.fingerprint))], &cause(50)).unwrap();
        assert!(view(store).credentials[1].may_sign_in(UnixTime(NOW + 50)).is_err());
        assert_eq!(view(store).credentials[0].first_used, Some(UnixTime(NOW + 50)));
        assert_eq!(view(store).device.seen, Some(UnixTime(NOW + 30)), "written at most once a minute");
        let entries = store.audit_end().unwrap().0;
        store.record_uses(&[(id("wv-1"), Some(second.fingerprint))], &cause(500)).unwrap();
        assert_eq!(view(store).device.seen, Some(UnixTime(NOW + 500)));
        assert_eq!(store.audit_end().unwrap().0, entries, "later uses have no entry");
    });
}

#[test]
fn a_key_belongs_to_one_device_and_a_compromised_one_to_none() {
    with_store(|store, world, _| {
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
fn revoking_a_device_ends_all_it_has_until_it_is_reopened() {
    with_store(|store, world, _| {
        store.add_devices(&[device("wv-1", None)], &cause(0)).unwrap().unwrap();
        let certificate = fresh(world, "wv-1");
        issue(store, "wv-1", &certificate, false, 1).unwrap().unwrap();
        let all = Revocation { device: &id("wv-1"), only: None, reason: Reason::PrivilegeWithdrawn };
        let ended = store.revoke(all, &cause(2)).unwrap();
        let serial = Some(certificate.serial.clone());
        assert_eq!(ended, [Ended { fingerprint: certificate.fingerprint, serial, listed: true }]);
        assert_eq!(store.revoke(all, &cause(3)).unwrap(), [], "what is over is not ended twice");
        assert_eq!(store.fingerprints_of(&certificate.serial).unwrap(), [certificate.fingerprint]);
        assert_eq!(store.fingerprints_of(&SerialNumber::from_octets(&[9]).unwrap()).unwrap(), []);
        let (credential, device) = store.status_many(&[certificate.fingerprint]).unwrap().remove(0).unwrap();
        assert_eq!(credential.revoked, Some((UnixTime(NOW + 2), Reason::PrivilegeWithdrawn)));
        assert_eq!((device.out, device.tokens_from), (Some(UnixTime(NOW + 2)), UnixTime(NOW + 4)));
        let next = fresh(world, "wv-1");
        assert!(matches!(issue(store, "wv-1", &next, true, 4).unwrap(), Err(IssueRefusal::Out { .. })));
        assert!(store.reopen_device(&id("wv-1"), &cause(5)).unwrap());
        assert!(!store.reopen_device(&id("wv-1"), &cause(5)).unwrap());
        issue(store, "wv-1", &next, false, 6).unwrap().unwrap();
        store.retire_device(&id("wv-1"), &cause(7)).unwrap();
        let after = fresh(world, "wv-1");
        assert!(matches!(issue(store, "wv-1", &after, true, 8).unwrap(), Err(IssueRefusal::Retired { .. })));
        assert!(!store.reopen_device(&id("wv-1"), &cause(9)).unwrap());
    });
}

#[test]
fn crls_are_numbered_and_stay_pending_for_what_came_meanwhile() {
    with_store(|store, world, _| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let authority = "devices".parse().unwrap();
        for of in ["wv-1", "wv-2"] {
            let certificate = fresh(world, of);
            issue(store, of, &certificate, false, 1).unwrap().unwrap();
        }
        let revoke = |store: &mut dyn Store, of| {
            let what = Revocation { device: &id(of), only: None, reason: Reason::Unspecified };
            store.revoke(what, &cause(2)).unwrap();
        };
        revoke(store, "wv-1");
        let crl = store.next_crl(&authority).unwrap();
        assert_eq!((crl.number, crl.entries.len()), (1, 1));
        revoke(store, "wv-2");
        let record =
            |store: &mut dyn Store, crl: &_| store.record_crl(&authority, crl, &cause(3), &mut || Ok(())).unwrap();
        assert!(record(store, &crl));
        assert!(!record(store, &crl), "the number is taken");
        assert!(store.authorities().unwrap()[0].crl_pending, "wv-2 is not on it");
        let next = store.next_crl(&authority).unwrap();
        assert_eq!((next.number, next.entries.len()), (2, 2));
        let failing =
            store.record_crl(&authority, &next, &cause(4), &mut || Err(std::io::ErrorKind::StorageFull.into()));
        assert!(matches!(failing, Err(StoreError::Delivery(_))));
        assert!(record(store, &next), "what could not be delivered was not recorded");
        assert!(!store.authorities().unwrap()[0].crl_pending);
    });
}

#[test]
fn nothing_is_recorded_that_was_not_delivered() {
    with_store(|store, world, _| {
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
fn a_follower_is_told_what_changed() {
    with_store(|store, world, path| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let other: Box<dyn Store> = Box::new(SqliteStore::open(path).unwrap());
        let start = other.changed_since(i64::MAX).unwrap().to;
        assert_eq!(other.changed_since(start).unwrap().devices.unwrap(), []);
        let certificate = fresh(world, "wv-2");
        issue(store, "wv-2", &certificate, false, 1).unwrap().unwrap();
        let files = [PolicyFile { name: "policies/a.policy".into(), text: "# none".into() }];
        assert_eq!(store.adopt(&files, &cause(2)).unwrap(), 1);
        let changes = other.changed_since(start).unwrap();
        assert_eq!((changes.devices.unwrap(), changes.edition), (vec![id("wv-2")], 1));
        assert_eq!(other.changed_since(changes.to).unwrap().devices.unwrap(), []);
        assert_eq!(other.edition(None).unwrap().unwrap().files, files);
        assert_eq!(other.edition(Some(2)).unwrap(), None);
    });
}

#[test]
fn two_writers_wait_for_each_other() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    drop(open(&path, &World::new()));
    std::thread::scope(|scope| {
        for writer in 0..4 {
            let path = &path;
            scope.spawn(move || {
                let mut store = SqliteStore::open(path).unwrap();
                for number in 0..25 {
                    let device = device(&format!("wv-{writer}-{number}"), None);
                    store.add_devices(&[device], &cause(number)).unwrap().unwrap();
                }
            });
        }
    });
    let store = SqliteStore::open(&path).unwrap();
    let mut count = 0;
    store.each_device(&mut |_| count += 1).unwrap();
    assert_eq!((count, store.audit_end().unwrap().0), (100, 101));
    assert_eq!(broken(&store), []);
}

#[test]
fn a_store_of_a_newer_version_and_a_foreign_file_are_refused() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    drop(open(&path, &World::new()));
    let raw = rusqlite::Connection::open(&path).unwrap();
    raw.pragma_update(None, "user_version", 99).unwrap();
    drop(raw);
    assert!(matches!(SqliteStore::open(&path), Err(StoreError::Newer { found: 99, known: 5 })));
    let foreign = dir.path().join("foreign.db");
    rusqlite::Connection::open(&foreign).unwrap().execute_batch("CREATE TABLE t (a)").unwrap();
    assert!(matches!(SqliteStore::open(&foreign), Err(StoreError::Damaged { .. })));
    let text = dir.path().join("text.db");
    std::fs::write(&text, "not a database, but long enough to be taken for one by its length alone".repeat(20))
        .unwrap();
    assert!(matches!(SqliteStore::open(&text), Err(StoreError::Damaged { .. })));
    assert!(matches!(SqliteStore::open(&dir.path().join("none.db")), Err(StoreError::Absent { .. })));
}

#[test]
fn tampering_with_the_file_is_found() {
    for (sql, want) in [
        ("UPDATE audit SET subject = 'wv-9' WHERE number = 2", Broken::Changed { number: 2 }),
        ("DELETE FROM audit WHERE number = 2", Broken::Missing { first: 2, last: 2 }),
        ("DELETE FROM audit WHERE number = 3", Broken::Truncated { found: 2, noted: 3 }),
        ("UPDATE audit SET hash = x'00' WHERE number = 2", Broken::Changed { number: 2 }),
    ] {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("ward.db");
        let mut store = open(&path, &World::new());
        store.add_devices(&[device("wv-1", None)], &cause(1)).unwrap().unwrap();
        store.add_devices(&[device("wv-2", None)], &cause(2)).unwrap().unwrap();
        assert_eq!(broken(&*store), []);
        rusqlite::Connection::open(&path).unwrap().execute_batch(sql).unwrap();
        assert_eq!(broken(&*store).first(), Some(&want), "{sql}");
    }
}

#[test]
fn a_batch_is_taken_whole_or_not_at_all() {
    with_store(|store, world, _| {
        store.add_devices(&[device("wv-1", Some("QF-1"))], &cause(0)).unwrap().unwrap();
        let authority = "devices".parse().unwrap();
        let ids = [id("wv-1"), id("wv-2"), id("wv-3")];
        let certificates: Vec<Certificate> = ["wv-1", "wv-2", "wv-3"].iter().map(|of| fresh(world, of)).collect();
        let credentials: Vec<NewCredential<'_>> = ids
            .iter()
            .zip(&certificates)
            .map(|(of, certificate)| NewCredential::issued(of, &authority, certificate, "p256"))
            .collect();
        let run = BulkRun { plan: "{}".into(), position: "0".into() };
        assert!(store.begin_bulk(&run, &cause(1)).unwrap());
        assert!(!store.begin_bulk(&run, &cause(1)).unwrap(), "one run at a time");
        let take = |store: &mut dyn Store, devices: &[DeviceRecord], credentials: &[NewCredential<'_>]| {
            let position = Some("3");
            let batch = Batch { act: "enroll.batch", devices, credentials, list_digest: [7; 32], position };
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
        assert_eq!(store.bulk_run().unwrap().unwrap().position, "0");

        let good = [device("wv-2", Some("QF-2")), device("wv-3", None)];
        assert_eq!(take(store, &good, &credentials), Ok(()));
        assert_eq!(store.bulk_run().unwrap().unwrap().position, "3");
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
        store.end_bulk("{}", &cause(5)).unwrap();
        assert_eq!(store.bulk_run().unwrap(), None);
    });
}

#[test]
fn authorities_are_added_once_and_wait_for_their_answer() {
    with_store(|store, world, _| {
        let key = SoftwareKey::generate(NewKey::P384).unwrap();
        let certificate = world.certificate("devices-2", &key.proven(), 300);
        let (name, old) = ("devices-2".parse().unwrap(), "devices".parse().unwrap());
        let token = KeyPlace::Token { token: "hsm".into(), label: "devices-2".into() };
        let pending = PendingAuthority {
            name: "devices-2".parse().unwrap(),
            role: AuthorityRole::Devices,
            public_key: key.public_key().clone(),
            key: token.clone(),
            created: UnixTime(NOW),
        };
        store.expect_authority(&pending, &cause(1)).unwrap().unwrap();
        assert_eq!(store.pending_authorities().unwrap(), std::slice::from_ref(&pending));
        let other = PendingAuthority { name: "other".parse().unwrap(), ..pending.clone() };
        let refused = store.expect_authority(&other, &cause(1)).unwrap();
        assert_eq!(refused, Err(AuthorityRefusal::KeyTaken("devices-2".parse().unwrap())));
        let trust = Some(Trust { kinds: vec!["windvane".parse().unwrap()], fact: FactName::Serial });
        let new = NewAuthority {
            name: &name,
            role: AuthorityRole::Devices,
            certificate: &certificate,
            key: token.clone(),
            replaces: Some(&old),
            trust: trust.clone(),
            crosses: &[("devices".parse().unwrap(), certificate.clone())],
        };
        store.add_authority(&new, &cause(2)).unwrap().unwrap();
        assert_eq!(store.pending_authorities().unwrap(), []);
        let again = store.add_authority(&new, &cause(2)).unwrap();
        assert_eq!(again, Err(AuthorityRefusal::NameTaken(name.clone())));
        let all = store.authorities().unwrap();
        assert_eq!(all[0].crossed, [certificate]);
        let found = (&all[1].key, &all[1].replaces, &all[1].trust, all[1].retired, all[1].created);
        assert_eq!(found, (&token, &Some(old), &trust, None, UnixTime(NOW + 2)));
        store.retire_authority(&name, &cause(3)).unwrap();
        assert_eq!(store.authorities().unwrap()[1].retired, Some(UnixTime(NOW + 3)));
        assert!(store.retire_authority(&"none".parse().unwrap(), &cause(3)).is_err());
    });
}

/// Texts of conditions over what [`condition_fleet`] holds, and a little beyond.
fn any_condition() -> impl Strategy<Value = String> {
    let text = (
        prop_oneof!["id", "kind", "owner", "gateway", "site", "pylon", "serial"],
        prop_oneof![
            ("(=|!=|<|<=|>|>=)", "(wv-[0-9]|st-1|windvane|ossel|brindle|p[1-3]|o)")
                .prop_map(|(s, v)| format!("{s} {v}")),
            "(known|in [(]wv-1, ossel, p1[)]|matches \"[*](1|l)\"|matches \"w[*]\"|matches \"[*]s[*]e[*]\")",
        ],
    )
        .prop_map(|(field, test)| format!("{field} {test}"));
    let state = "state (=|!=) (listed|issued|equipped|live|out|retired)";
    let moment = "(cert[.]ends|seen|created) (known|within 3d|within 20d|before 1d ago|after 2d ago|(before|after|=|!=|<=|>=) 2026-11-2[0-9]T09:02:13Z)";
    let group = "group (= (a|b|rule)|!= (a|b|rule)|in [(]a, rule[)])";
    let leaf = prop_oneof![4 => text, 2 => state, 2 => moment, 1 => group];
    leaf.prop_recursive(3, 10, 3, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} and {b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
            inner.prop_map(|inner| format!("not ({inner})")),
        ]
    })
}

/// Devices in every state, with and without every value.
fn condition_fleet(store: &mut dyn Store, world: &mut World) {
    let mut all = vec![device("st-1", None)];
    for at in 0..10 {
        let mut device = device(&format!("wv-{at}"), (at % 3 == 0).then_some(format!("QF-{at}")).as_deref());
        device.created = UnixTime(NOW - at * 40_000);
        device.gateway = (at % 4 == 1).then(|| id("st-1"));
        device.owner = (at % 5 == 1).then(|| "o".parse().unwrap());
        if at % 2 == 0 {
            device.labels.insert("site".parse().unwrap(), "brindle".parse().unwrap());
            device.labels.insert("pylon".parse().unwrap(), format!("p{}", at % 3).parse().unwrap());
        } else if at % 3 == 0 {
            device.labels.clear();
        }
        all.push(device);
    }
    store.add_devices(&all, &cause(0)).unwrap().unwrap();
    for (at, days) in [(1u32, 1u32), (2, 2), (3, 15), (4, 400), (5, 2), (6, 15)] {
        let name = format!("wv-{at}");
        let certificate = world.certificate(&name, &SoftwareKey::generate(NewKey::P256).unwrap().proven(), days);
        issue(store, &name, &certificate, false, 1).unwrap().unwrap();
        if at % 2 == 0 {
            store
                .record_uses(&[(id(&name), Some(certificate.fingerprint))], &cause(10 + i64::from(at) * 30_000))
                .unwrap();
        }
        if at > 4 {
            let again = world.certificate(&name, &SoftwareKey::generate(NewKey::P256).unwrap().proven(), 9);
            issue(store, &name, &again, true, 2).unwrap().unwrap();
        }
    }
    let out = id("wv-6");
    store.revoke(Revocation { device: &out, only: None, reason: Reason::KeyCompromise }, &cause(3)).unwrap();
    store.retire_device(&id("wv-7"), &cause(4)).unwrap();
    store.make_group(&"a".parse().unwrap(), &GroupMembers::Fixed(vec![id("wv-1"), id("wv-2")]), &cause(5)).unwrap();
    store.make_group(&"b".parse().unwrap(), &GroupMembers::Fixed(vec![id("wv-2"), id("st-1")]), &cause(5)).unwrap();
    let rule = GroupMembers::Rule("site = brindle and not serial known".into());
    store.make_group(&"rule".parse().unwrap(), &rule, &cause(5)).unwrap();
}

#[test]
fn the_store_counts_as_good_what_the_core_calls_good() {
    with_store(|store, world, _| {
        condition_fleet(store, world);
        let devices: tidy_warden_core::id::AuthorityName = "devices".parse().unwrap();
        let count_at = |days: i64, store: &mut dyn Store| {
            let now = UnixTime(NOW + days * 43_200);
            let (mut good, mut last) = (0u64, None);
            store
                .each_device(&mut |view| {
                    for credential in view.credentials.iter().filter(|credential| credential.is_good(now)) {
                        good += 1;
                        last = last.max(Some(credential.not_after));
                    }
                })
                .unwrap();
            let told = store.signed_by(&devices, now).unwrap();
            assert_eq!((told.usable, told.last_end), (good, last), "{days} half days");
            good
        };
        let counts: Vec<u64> = (-2..60).map(|days| count_at(days, store)).collect();
        assert!(
            counts.contains(&0) && counts.iter().collect::<std::collections::BTreeSet<_>>().len() > 3,
            "{counts:?}"
        );
        store.retire_authority(&devices, &cause(9)).unwrap();
        assert_eq!(count_at(0, store), 0);
    });
}

#[test]
fn conditions_mean_the_same_to_the_store_and_to_the_core() {
    with_store(|store, world, _| {
        condition_fleet(store, world);
        let groups = resolvable(&store.groups().unwrap()).unwrap();
        let mut runner = TestRunner::new(ProptestConfig::with_cases(3_000));
        let run = runner.run(&(any_condition(), 0i64..20), |(text, days)| {
            let condition = Condition::parse(&Source::new("--where", &text), Use::Picking)
                .map_err(|error| TestCaseError::fail(error.to_string()))?
                .resolve(&groups);
            let now = UnixTime(NOW + days * 86_400 / 2);
            let mut want = Vec::new();
            store
                .each_device(&mut |view| {
                    if condition.holds(&Candidate::at(&view.device, &view.credentials, now)) {
                        want.push(view.device.id);
                    }
                })
                .unwrap();
            let mut found = Vec::new();
            store.each_device_where(&condition, now, &mut |view| found.push(view.device.id)).unwrap();
            prop_assert_eq!(found, want, "{}", text);
            Ok(())
        });
        run.unwrap();
        // A long list must not become a deep expression.
        let long = vec!["id = wv-1"; 9_000].join(" or ");
        let long = Condition::parse(&Source::new("--where", &long), Use::Picking).unwrap();
        let mut count = 0;
        store.each_device_where(&long, UnixTime(NOW), &mut |_| count += 1).unwrap();
        assert_eq!(count, 1);
    });
}

#[test]
fn a_fleet_from_rows_is_that_from_records() {
    with_store(|store, world, _| {
        condition_fleet(store, world);
        let text =
            "policy p { for group = a or serial = \"QF-3\" or owner known\n allow publish \"a/{site}/{device}\" }
                    policy q { for kind = windvane and not id = wv-2\n allow publish \"b/{gateway}/{device}\" }";
        let file = PolicyFile { name: "p".into(), text: text.into() };
        let groups = resolvable(&store.groups().unwrap()).unwrap();
        let edition = Edition::read(1, &[file], &groups).unwrap();
        let (mut rows, mut records) = (Fleet::new(&[&edition], []), Fleet::new(&[&edition], []));
        store
            .each_fleet_row(rows.wants_facts(), &mut |row| {
                rows.add(row).unwrap();
                Ok(())
            })
            .unwrap();
        store.each_device(&mut |view| records.add_record(&view.device).unwrap()).unwrap();
        assert_eq!((rows.len(), rows.class_count()), (10, records.class_count()));
        let settings = Settings::parse(&Source::new("ward.toml", "[ward]\nname = \"n\"\n")).unwrap();
        let told = |fleet: &Fleet<'_>| format!("{:?}", reach(fleet, &settings, &"#".parse().unwrap()));
        assert_eq!(told(&rows), told(&records));
        assert!(told(&rows).contains("b/st-1/wv-9"), "{}", told(&rows));
    });
}

#[test]
fn groups_are_made_changed_and_dropped() {
    with_store(|store, _, _| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let (name, before) = ("night".parse().unwrap(), store.changed_since(0).unwrap());
        let fixed = |ids: &[&str]| GroupMembers::Fixed(ids.iter().map(|text| id(text)).collect());
        store.make_group(&name, &fixed(&["wv-1", "wv-2"]), &cause(1)).unwrap();
        let changes = store.changed_since(before.to).unwrap();
        assert_eq!(changes.devices.unwrap(), [id("wv-1"), id("wv-2")]);
        assert!(changes.group_rules > before.group_rules);
        let member = |store: &dyn Store, of: &str| {
            store.devices(&[id(of)]).unwrap().remove(0).unwrap().device.groups.contains(&name)
        };
        assert!(member(store, "wv-1") && member(store, "wv-2"));
        store.make_group(&name, &fixed(&["wv-2"]), &cause(2)).unwrap();
        assert!(!member(store, "wv-1") && member(store, "wv-2"));
        let unknown = store.make_group(&name, &fixed(&["wv-1", "wv-9"]), &cause(3));
        assert!(matches!(unknown, Err(StoreError::Unknown { .. })));
        assert!(!member(store, "wv-1"), "all or none");
        store.make_group(&name, &GroupMembers::Rule("site = ossel".into()), &cause(4)).unwrap();
        assert!(!member(store, "wv-2"), "a rule leaves no names behind");
        assert_eq!(store.groups().unwrap()[0].rule.as_deref(), Some("site = ossel"));
        store.drop_group(&name, &cause(5)).unwrap();
        assert_eq!(store.groups().unwrap(), []);
        assert!(matches!(store.drop_group(&name, &cause(6)), Err(StoreError::Unknown { .. })));
    });
}

#[test]
fn a_gateway_hears_of_every_change_to_its_children() {
    with_store(|store, _, _| {
        let child = |of: &str| {
            let mut device = device(of, None);
            device.gateway = Some(id("st-1"));
            device
        };
        store.add_devices(&[device("st-1", None), device("st-2", None)], &cause(0)).unwrap().unwrap();
        let mut at = store.changed_since(0).unwrap().to;
        let mut heard = |store: &dyn Store| {
            let changes = store.changed_since(at).unwrap();
            at = changes.to;
            changes
                .devices
                .into_iter()
                .flatten()
                .filter(|device| device.as_str().starts_with("st"))
                .map(|device| device.to_string())
                .collect::<Vec<_>>()
        };
        store.add_devices(&[child("cb-1"), child("cb-2")], &cause(1)).unwrap().unwrap();
        assert_eq!(heard(store), ["st-1"]);
        assert_eq!(store.children(&id("st-1")).unwrap().len(), 2);
        let edit = DeviceEdit { gateway: Some(Some(id("st-2"))), ..DeviceEdit::default() };
        store.edit_devices(&[id("cb-1")], &edit, &cause(2)).unwrap().unwrap();
        assert_eq!(heard(store), ["st-1", "st-2"]);
        store.revoke_devices(&[id("cb-2")], Reason::KeyCompromise, &cause(3)).unwrap();
        assert_eq!(heard(store), ["st-1"]);
        store.reopen_device(&id("cb-2"), &cause(4)).unwrap();
        assert_eq!(heard(store), ["st-1"]);
        store.retire_device(&id("cb-2"), &cause(5)).unwrap();
        assert_eq!(heard(store), ["st-1"]);
        assert_eq!(store.children(&id("st-1")).unwrap(), []);
        let refused = store.edit_devices(&[id("st-2"), id("cb-1")], &edit, &cause(6)).unwrap().unwrap_err();
        assert_eq!(refused.0, id("st-2"));
        assert_eq!(heard(store), Vec::<String>::new(), "all or none");
    });
}

#[test]
fn trials_are_watched_one_at_a_time_and_differences_add_up() {
    with_store(|store, _, _| {
        assert_eq!(store.trial().unwrap(), None);
        assert!(!store.end_trial(&cause(0)).unwrap());
        let files = [PolicyFile { name: "p".into(), text: "policy p { for id = a }".into() }];
        assert_eq!(store.begin_trial(&files, UnixTime(NOW + 90), &cause(1)).unwrap(), 1);
        assert_eq!(store.begin_trial(&files, UnixTime(NOW + 99), &cause(2)).unwrap(), 2);
        let trial = store.trial().unwrap().unwrap();
        assert_eq!((trial.number, trial.until, trial.files.as_slice()), (2, UnixTime(NOW + 99), &files[..]));
        assert_eq!(store.changed_since(0).unwrap().trial, 2);
        let each = TrialDifference {
            device: id("wv-1"),
            act: "publish".into(),
            would_allow: false,
            rule: "p:3 (policy p)".into(),
            sample: "a".into(),
            count: 2,
            first: UnixTime(NOW + 3),
            last: UnixTime(NOW + 4),
        };
        let later = TrialDifference {
            sample: "b".into(),
            count: 3,
            first: UnixTime(NOW + 5),
            last: UnixTime(NOW + 6),
            ..each.clone()
        };
        let end = store.audit_end().unwrap();
        store.record_differences(2, &[each.clone(), TrialDifference { rule: String::new(), ..each.clone() }]).unwrap();
        store.record_differences(2, std::slice::from_ref(&later)).unwrap();
        assert_eq!(store.audit_end().unwrap(), end);
        let found = store.trial_differences(2).unwrap();
        let joined = TrialDifference { count: 5, first: each.first, ..later };
        assert_eq!(found, [TrialDifference { rule: String::new(), ..each }, joined]);
        assert!(store.end_trial(&cause(7)).unwrap());
        assert_eq!((store.trial().unwrap(), store.changed_since(0).unwrap().trial), (None, 0));
    });
}

#[test]
fn editions_are_listed_without_their_texts() {
    with_store(|store, _, _| {
        let file = |name: &str| PolicyFile { name: name.into(), text: "policy p { for id = a }".into() };
        store.adopt(&[file("b"), file("a")], &cause(1)).unwrap();
        store.adopt(&[], &cause(2)).unwrap();
        let found: Vec<_> =
            store.editions().unwrap().into_iter().map(|edition| (edition.number, edition.files)).collect();
        assert_eq!(found, [(1, vec!["b".to_owned(), "a".to_owned()]), (2, vec![])]);
    });
}

/// The tables of format 2.
const FORMAT_2: &str = include_str!("format-2.sql");

#[test]
fn a_store_of_format_2_is_brought_up_to_date() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    {
        let old = rusqlite::Connection::open(&path).unwrap();
        old.execute_batch(FORMAT_2).unwrap();
        old.pragma_update(None, "user_version", 2).unwrap();
        old.pragma_update(None, "application_id", 0x5469_5761).unwrap();
        old.execute_batch(
            "INSERT INTO devices (id, kind, created, changed, labels) VALUES ('wv-1', 'windvane', 5, 1, '{\"site\":\"ossel\"}')",
        )
        .unwrap();
    }
    let mut store = SqliteStore::open(&path).unwrap();
    let group = "night".parse().unwrap();
    store.make_group(&group, &GroupMembers::Fixed(vec![id("wv-1")]), &cause(1)).unwrap();
    let view = store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
    assert!(view.device.groups.contains(&group) && view.device.labels["site"].as_str() == "ossel");
    drop(store);
    assert_eq!(SqliteStore::open(&path).unwrap().groups().unwrap().len(), 1);
}

/// The tables of format 3.
const FORMAT_3: &str = include_str!("format-3.sql");

#[test]
fn a_store_of_format_3_is_brought_up_to_date() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    {
        let old = rusqlite::Connection::open(&path).unwrap();
        old.execute_batch(FORMAT_3).unwrap();
        old.pragma_update(None, "user_version", 3).unwrap();
        old.pragma_update(None, "application_id", 0x5469_5761).unwrap();
        old.execute_batch("INSERT INTO devices (id, kind, created, changed) VALUES ('wv-1', 'windvane', 5, 1)")
            .unwrap();
    }
    let mut store = SqliteStore::open(&path).unwrap();
    assert_eq!(store.traffic(&id("wv-1")).unwrap(), Traffic::default());
    assert_eq!(store.set_hold(&[id("wv-1")], true, &cause(1)).unwrap(), [id("wv-1")]);
    drop(store);
    let held = SqliteStore::open(&path).unwrap().devices(&[id("wv-1")]).unwrap().remove(0).unwrap().device.held;
    assert_eq!(held, Some(UnixTime(NOW + 1)));
}

#[test]
fn a_hold_suspends_a_device_and_its_release_brings_it_back_as_it_was() {
    with_store(|store, world, _| {
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
fn what_the_guard_counts_adds_up_and_leaves_no_entries() {
    with_store(|store, _, _| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let before = store.audit_end().unwrap();
        let refused = Some((UnixTime(NOW + 1), "publish \"rope/a\"".to_owned()));
        let first =
            Traffic { messages_in: 2, octets_in: 20, refusals: 1, refused: refused.clone(), ..Traffic::default() };
        let second = Traffic { messages_out: 3, octets_out: 30, ..first.clone() };
        let only_out = Traffic { messages_out: 1, ..Traffic::default() };
        store.add_traffic(&[(id("wv-1"), first), (id("nobody"), only_out.clone())], UnixTime(NOW + 1)).unwrap();
        store.add_traffic(&[(id("wv-1"), second), (id("wv-2"), only_out)], UnixTime(NOW + 2)).unwrap();
        store.add_traffic(&[(id("wv-1"), Traffic { octets_in: 1, ..Traffic::default() })], UnixTime(NOW + 3)).unwrap();
        let told = store.traffic(&id("wv-1")).unwrap();
        let wanted = Traffic { messages_in: 4, octets_in: 41, messages_out: 3, octets_out: 30, refusals: 2, refused };
        assert_eq!(told, wanted);
        let seen = |of| store.devices(&[id(of)]).unwrap().remove(0).unwrap().device.seen;
        assert_eq!((seen("wv-1"), seen("wv-2")), (Some(UnixTime(NOW + 2)), None));
        assert_eq!(store.audit_end().unwrap(), before);
    });
}

#[test]
fn signs_of_a_clone_are_counted_and_seldom_told() {
    with_store(|store, _, _| {
        store.add_devices(&[device("wv-1", None)], &cause(0)).unwrap().unwrap();
        assert_eq!(store.clone_signs(&id("wv-1")).unwrap(), None);
        for (at, sign) in [(1, "one"), (2, "two"), (3, "three"), (3603, "four")] {
            store.record_clone_sign(&id("wv-1"), sign, &cause(at)).unwrap();
        }
        let signs = CloneSigns { first: UnixTime(NOW + 1), last: UnixTime(NOW + 3603), count: 4, sign: "four".into() };
        assert_eq!(store.clone_signs(&id("wv-1")).unwrap(), Some(signs));
        let mut told = Vec::new();
        store
            .each_entry(0, &mut |entry| {
                told.extend((entry.act == "device.clone-sign").then_some(entry.detail));
                true
            })
            .unwrap();
        assert_eq!(told, [r#"{"sign":"one"}"#, r#"{"sign":"four"}"#]);
        assert!(store.record_clone_sign(&id("nobody"), "x", &cause(1)).is_err());
    });
}

/// The tables of format 1, as the first version wrote them.
const FORMAT_1: &str = include_str!("format-1.sql");

#[test]
fn a_store_of_format_1_is_brought_up_to_date() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    let mut world = World::new();
    let certificate = fresh(&mut world, "wv-1");
    {
        let old = rusqlite::Connection::open(&path).unwrap();
        old.execute_batch(FORMAT_1).unwrap();
        old.pragma_update(None, "user_version", 1).unwrap();
        old.pragma_update(None, "application_id", 0x5469_5761).unwrap();
        old.execute(
            "INSERT INTO authorities (pk, name, role, certificate, created) VALUES (1, 'devices', 'devices', ?1, 5)",
            [world.root.der()],
        )
        .unwrap();
        old.execute_batch(
            "INSERT INTO devices (pk, id, kind, created, changed) VALUES (1, 'wv-1', 'windvane', 5, 1), (2, 'wv-0', 'windvane', 5, 1);
             UPDATE devices SET retired = 6 WHERE id = 'wv-0';
             INSERT INTO labels VALUES (1, 'site', 'ossel');
             INSERT INTO facts VALUES (1, 'serial', 'QF-1', 1), (2, 'serial', 'QF-0', 0);
             INSERT INTO meta VALUES ('settings', 'a');",
        )
        .unwrap();
        let key_digest = tidy_warden_core::key::sha256(certificate.public_key.spki());
        old.execute(
            "INSERT INTO credentials (device, authority, serial, fingerprint, key_digest, key_type, certificate,
                 not_before, not_after, issued, revoked, reason)
             VALUES (1, 1, ?1, ?2, ?3, 'p256', ?4, 5, 6, 5, 7, 1)",
            rusqlite::params![certificate.serial.octets(), certificate.fingerprint.0, key_digest, certificate.der()],
        )
        .unwrap();
    }
    let mut store = SqliteStore::open(&path).unwrap();
    let view = store.devices(&[id("wv-1")]).unwrap().pop().unwrap().unwrap();
    assert_eq!(view.device.labels["site"].as_str(), "ossel");
    assert_eq!(view.device.facts[&FactName::Serial].value(), "QF-1");
    let found = store.status_many(&[certificate.fingerprint]).unwrap().pop().unwrap().unwrap();
    assert_eq!((found.0.name(), found.0.revoked.is_some()), (certificate.serial.to_string(), true));
    assert_eq!(store.holder(&Fact::new(FactName::Serial, "QF-0").unwrap()).unwrap(), None, "a retired device's");
    // A key that was given up stays given up.
    let refused = issue(&mut store, "wv-1", &certificate, false, 1).unwrap();
    assert!(matches!(refused, Err(IssueRefusal::KeyCompromised { .. })), "{refused:?}");
    assert!(SqliteStore::open(&path).is_ok(), "it is done once");
}
