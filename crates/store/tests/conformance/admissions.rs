//! Admissions: opened, used once, withdrawn.

use tidy_warden_core::admission::{
    AdmissionEnd, AdmissionName, AdmissionRecord, AdmissionState, Demand, Difference, OpenRefusal,
};
use tidy_warden_core::asking::{AskingRecord, MOST_OF_SOURCE};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::credential::{BlockSource, Revocation};
use tidy_warden_core::device::{AddRefusal, DeviceEdit};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::key::{NewKey, SoftwareKey, sha256};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;
use tidy_warden_rig::Cluster;
use tidy_warden_store::{
    AcceptRefusal, AdmissionOver, AskRefusal, NewCredential, OperatorStore, StoreError, Together, UseRefusal, acts,
    postgres,
};

use crate::bench::{NOW, World, access, cause, device, fresh, id, issue, new_database, on_each};

/// An admission that is about to be opened, until second 100.
pub(crate) fn wanted(of: &str, serial: Option<&str>) -> AdmissionRecord {
    let demand = Demand::Secret([u8::try_from(of.len()).unwrap(); 32]);
    AdmissionRecord {
        name: AdmissionName(0),
        device: device(of, serial),
        demand,
        until: UnixTime(NOW + 100),
        end: None,
    }
}

fn opened(store: &mut OperatorStore, new: &[AdmissionRecord], at: i64) -> Vec<u32> {
    let opened = store.open_admissions(new, &cause(at), &mut |_| Ok(())).unwrap().unwrap();
    opened.iter().map(|each| each.name.0).collect()
}

fn refused(store: &mut OperatorStore, new: &[AdmissionRecord], at: i64) -> Vec<OpenRefusal> {
    let checked = store.check_admissions(new, UnixTime(NOW + at)).unwrap();
    let refused = store.open_admissions(new, &cause(at), &mut |_| Ok(())).unwrap().unwrap_err();
    assert_eq!(checked, refused, "what is asked before is what is told then");
    refused
}

fn used(store: &mut OperatorStore, name: u32, of: &str, certificate: &Certificate, at: i64) -> Result<(), UseRefusal> {
    let (of, authority) = (id(of), "devices".parse().unwrap());
    let new = NewCredential::issued(&of, &authority, certificate, "p256");
    store.use_admission(AdmissionName(name), &new, &cause(at)).unwrap()
}

fn state(store: &OperatorStore, name: u32, at: i64) -> AdmissionState {
    store.admission(AdmissionName(name)).unwrap().unwrap().state(UnixTime(NOW + at))
}

#[test]
fn an_admission_lists_its_device_and_is_used_once() {
    on_each(|store, _, world| {
        let one = wanted("wv-1", Some("QF-1"));
        assert_eq!(opened(store, &[one.clone(), wanted("wv-2", None)], 1), [1, 2]);
        let kept = store.admission(AdmissionName(1)).unwrap().unwrap();
        assert_eq!(kept, AdmissionRecord { name: AdmissionName(1), ..one });
        let certificate = fresh(world, "wv-1");
        assert_eq!(used(store, 1, "wv-1", &certificate, 5), Ok(()));
        let view = store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
        assert_eq!((view.device.created, view.device.facts.len(), view.credentials.len()), (UnixTime(NOW + 5), 1, 1));
        assert_eq!(view.device.labels, kept.device.labels);
        let over = store.admission(AdmissionName(1)).unwrap().unwrap().end;
        assert_eq!(over, Some(AdmissionEnd::Used { at: UnixTime(NOW + 5), credential: certificate.fingerprint }));
        let again = used(store, 1, "wv-1", &fresh(world, "wv-1"), 6);
        assert_eq!(again, Err(UseRefusal::Over(AdmissionOver { name: AdmissionName(1), state: AdmissionState::Used })));
        // The other one is not touched by all that.
        assert_eq!(state(store, 2, 6), AdmissionState::Open);
        let acts: Vec<String> = store.entries(2, 99).unwrap().into_iter().map(|entry| entry.act).collect();
        assert_eq!(acts, ["admission.open", "device.add", "credential.issue", "admission.use"]);
        let missing = store.withdraw_admissions(&[AdmissionName(9)], &cause(7)).unwrap_err();
        assert!(matches!(missing, StoreError::Unknown { what: "admission", .. }), "{missing}");
    });
}

#[test]
fn two_admissions_never_stand_for_one_device_or_one_fact() {
    on_each(|store, _, _| {
        opened(store, &[wanted("wv-1", Some("QF-1"))], 1);
        let is_for =
            |index, other| OpenRefusal::DevicePending { index, device: id("wv-1"), other: AdmissionName(other) };
        assert_eq!(refused(store, &[wanted("wv-1", Some("QF-1"))], 2), [is_for(0, 1)]);
        let fact = device("x", Some("QF-1")).facts.into_values().next().unwrap();
        let same_fact = OpenRefusal::FactPending { index: 1, fact, other: AdmissionName(1) };
        assert_eq!(refused(store, &[wanted("wv-2", Some("QF-2")), wanted("wv-3", Some("QF-1"))], 2), [same_fact]);
        let twice = [wanted("wv-2", Some("QF-2")), wanted("wv-2", None), wanted("wv-4", Some("QF-2"))];
        assert_eq!(refused(store, &twice, 2), [OpenRefusal::Twice { index: 1 }, OpenRefusal::Twice { index: 2 }]);
        assert_eq!(store.last_admission().unwrap(), AdmissionName(1), "nothing of a refused list stays");
        // One that has lapsed is in nobody's way, and is noted as what it is.
        assert_eq!(opened(store, &[wanted("wv-3", Some("QF-1"))], 101), [2]);
        assert_eq!(
            store.admission(AdmissionName(1)).unwrap().unwrap().end,
            Some(AdmissionEnd::Lapsed { at: UnixTime(NOW + 100) })
        );
        assert_eq!(store.pending_for(&[id("wv-1"), id("wv-3")]).unwrap()[0], None);
        let withdrawn = store.withdraw_admissions(&[AdmissionName(2)], &cause(90)).unwrap().unwrap();
        assert_eq!((withdrawn.len(), state(store, 2, 90)), (1, AdmissionState::Withdrawn));
        assert_eq!(opened(store, &[wanted("wv-1", Some("QF-1"))], 91), [3]);
        let over = store.withdraw_admissions(&[AdmissionName(3), AdmissionName(2)], &cause(92)).unwrap().unwrap_err();
        assert_eq!(over, AdmissionOver { name: AdmissionName(2), state: AdmissionState::Withdrawn });
        assert_eq!(state(store, 3, 92), AdmissionState::Open, "all or none");
    });
}

#[test]
fn nobody_is_admitted_in_the_place_of_another() {
    on_each(|store, _, world| {
        store.add_devices(&[device("wv-1", Some("QF-1")), device("wv-2", None)], &cause(1)).unwrap().unwrap();
        let other = refused(store, &[wanted("wv-9", Some("QF-1"))], 2);
        assert!(matches!(&other[..], [OpenRefusal::Unlisted(AddRefusal::FactTaken { index: 0, .. })]), "{other:?}");
        let difference = Difference::Fact(tidy_warden_core::fact::FactName::Serial);
        let differs = OpenRefusal::Differs { index: 1, device: id("wv-2"), difference };
        assert_eq!(refused(store, &[wanted("wv-8", None), wanted("wv-2", Some("QF-2"))], 2), [differs]);
        let mut child = wanted("wv-7", None);
        child.device.gateway = Some(id("gw-1"));
        let no_gateway = AddRefusal::NoGateway { index: 1, gateway: id("gw-1") };
        assert_eq!(refused(store, &[wanted("wv-1", Some("QF-1")), child], 2), [OpenRefusal::Unlisted(no_gateway)]);
        // A device that is listed may come in by itself, if it has nothing.
        assert_eq!(opened(store, &[wanted("wv-1", Some("QF-1")), wanted("wv-2", None)], 3), [1, 2]);
        issue(store, "wv-2", &fresh(world, "wv-2"), false, 4).unwrap().unwrap();
        let has = used(store, 2, "wv-2", &fresh(world, "wv-2"), 5);
        assert!(matches!(has, Err(UseRefusal::Unissued(IssueRefusal::HasCredential { .. }))), "{has:?}");
        assert_eq!(state(store, 2, 5), AdmissionState::Open, "a refused request leaves it usable");
        let unlabelled = DeviceEdit { labels: vec![("site".parse().unwrap(), None)], ..DeviceEdit::default() };
        store.edit_device(&id("wv-1"), &unlabelled, &cause(6)).unwrap().unwrap();
        let entries = store.head().unwrap().number;
        let changed = used(store, 1, "wv-1", &fresh(world, "wv-1"), 7);
        assert!(matches!(changed, Err(UseRefusal::Differs { difference: Difference::Label(_), .. })), "{changed:?}");
        assert_eq!(store.head().unwrap().number, entries, "nothing of a refusal stays");
        // Its key is another's.
        let taken = world.certificate("wv-3", &SoftwareKey::generate(NewKey::P256).unwrap().proven(), 30);
        opened(store, &[wanted("wv-3", None), wanted("wv-4", None)], 8);
        used(store, 3, "wv-3", &taken, 9).unwrap();
        let same_key = used(store, 4, "wv-4", &taken, 9);
        assert!(matches!(same_key, Err(UseRefusal::Unissued(IssueRefusal::KeyInUse { .. }))), "{same_key:?}");
        assert!(store.devices(&[id("wv-4")]).unwrap()[0].is_none(), "who is refused is not listed by it");
    });
}

#[test]
fn who_is_revoked_or_retired_loses_what_was_open() {
    on_each(|store, _, world| {
        let all = ["wv-1", "wv-2", "wv-3", "wv-4"].map(|each| device(each, Some(each)));
        store.add_devices(&all, &cause(1)).unwrap().unwrap();
        opened(store, &["wv-1", "wv-2", "wv-3"].map(|each| wanted(each, Some(each))), 2);
        let revoke = |store: &mut OperatorStore, of: &str, only| {
            store.revoke(Revocation { device: &id(of), only, reason: Reason::Unspecified }, &cause(3)).unwrap();
        };
        revoke(store, "wv-1", None);
        store.retire_device(&id("wv-2"), &cause(3)).unwrap();
        let certificate = fresh(world, "wv-3");
        used(store, 3, "wv-3", &certificate, 3).unwrap();
        revoke(store, "wv-3", Some(certificate.fingerprint));
        assert_eq!(
            [1, 2, 3].map(|name| state(store, name, 4)),
            [AdmissionState::Withdrawn, AdmissionState::Withdrawn, AdmissionState::Used]
        );
        store.reopen_device(&id("wv-1"), &cause(5)).unwrap();
        let late = used(store, 1, "wv-1", &fresh(world, "wv-1"), 6);
        assert!(matches!(late, Err(UseRefusal::Over(_))), "reopened is not admitted: {late:?}");
        let retired = refused(store, &[wanted("wv-2", Some("wv-2"))], 6);
        assert!(
            matches!(&retired[..], [OpenRefusal::Unissued { why: IssueRefusal::Retired { .. }, .. }]),
            "{retired:?}"
        );
        store.set_hold(&[id("wv-4")], true, &cause(6)).unwrap();
        let held = refused(store, &[wanted("wv-4", Some("wv-4"))], 7);
        assert!(matches!(&held[..], [OpenRefusal::Unissued { why: IssueRefusal::Held { .. }, .. }]), "{held:?}");
        // What a backup says of admissions is of the past.
        assert_eq!(opened(store, &[wanted("wv-1", Some("wv-1")), wanted("wv-9", None)], 8), [4, 5]);
        store.restored(&serde_json::json!({}), None, &cause(9)).unwrap();
        assert_eq!(state(store, 5, 9), AdmissionState::Open);
        store.restored(&serde_json::json!({}), Some("what came after entry 3 may be missing"), &cause(9)).unwrap();
        assert_eq!([4, 5].map(|name| state(store, name, 9)), [AdmissionState::Withdrawn; 2]);
        assert_eq!(store.admissions(AdmissionName(3), 9).unwrap().len(), 2);
    });
}

#[test]
fn fifty_callers_at_two_desks_use_one_admission_once() {
    let mut world = World::new();
    let (database, store) = new_database(&world);
    let mut store = OperatorStore::new(store);
    opened(&mut store, &[wanted("wv-1", Some("QF-1"))], 1);
    let certificates: Vec<Certificate> = (0..50).map(|_| fresh(&mut world, "wv-1")).collect();
    let desks = [(); 2].map(|()| Together::new(postgres::open(access(&database), None).unwrap()).unwrap());
    let answers: Vec<Result<(), UseRefusal>> = std::thread::scope(|scope| {
        let calls: Vec<_> = certificates
            .iter()
            .enumerate()
            .map(|(number, certificate)| {
                let desk = &desks[number % 2];
                let certificate = certificate.clone();
                scope.spawn(move || {
                    desk.decide(move |tx| {
                        let (of, authority) = (id("wv-1"), "devices".parse().unwrap());
                        let new = NewCredential::issued(&of, &authority, &certificate, "p256");
                        acts::admission::use_up(tx, AdmissionName(1), &new, &cause(5))
                    })
                    .unwrap()
                })
            })
            .collect();
        calls.into_iter().map(|call| call.join().unwrap()).collect()
    });
    assert_eq!(answers.iter().filter(|answer| answer.is_ok()).count(), 1);
    assert!(answers.iter().all(|answer| !matches!(answer, Err(UseRefusal::Unlisted(_) | UseRefusal::Differs { .. }))));
    let view = store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
    let end = store.admission(AdmissionName(1)).unwrap().unwrap().end;
    let given = view.credentials.iter().map(|each| each.fingerprint).collect::<Vec<_>>();
    assert!(matches!(end, Some(AdmissionEnd::Used { credential, .. }) if given == [credential]), "{end:?}");
}

fn asks(key: u8, serial: Option<&str>, from: &str, at: i64) -> AskingRecord {
    AskingRecord {
        key_digest: [key; 32],
        kind: "windvane".parse().unwrap(),
        facts: device("x", serial).facts,
        from: from.to_owned(),
        since: UnixTime(NOW + at),
        until: UnixTime(NOW + at + 100),
        refused: None,
    }
}

#[test]
fn who_asks_waits_for_a_person_and_is_let_in_by_its_key() {
    on_each(|store, _, world| {
        let ask = |store: &mut OperatorStore, new: &AskingRecord, at: i64| store.ask(new, &cause(at)).unwrap();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let digest = sha256(key.public_key().spki());
        let first = AskingRecord { key_digest: digest, ..asks(0, Some("QF-1"), "192.0.2.0/24", 1) };
        assert_eq!(ask(store, &first, 1), Ok(()));
        let entries = store.head().unwrap().number;
        // The same key is the same caller, and what it says later changes nothing.
        let later = AskingRecord { facts: device("x", Some("QF-2")).facts, ..first.clone() };
        assert_eq!(ask(store, &later, 2), Ok(()));
        assert_eq!((store.asking(&digest).unwrap(), store.head().unwrap().number), (Some(first), entries));
        // Another with the same facts waits beside it: a person sees both.
        assert_eq!(ask(store, &asks(2, Some("QF-1"), "192.0.2.0/24", 3), 3), Ok(()));
        assert_eq!(store.all_asking(9).unwrap().len(), 2);
        store.refuse_asking(&[2; 32], &cause(4)).unwrap().unwrap();
        assert_eq!(store.refuse_asking(&[2; 32], &cause(4)).unwrap(), Err(AcceptRefusal::Gone));
        assert_eq!(ask(store, &asks(2, Some("QF-1"), "192.0.2.0/24", 5), 5), Ok(()), "it is told no otherwise");
        assert!(store.asking(&[2; 32]).unwrap().unwrap().refused.is_some(), "and waits no more");
        assert_eq!(store.count_asking("192.0.2.0/24").unwrap(), (1, 1, 2));
        let accepted =
            |of: &str, key: [u8; 32]| AdmissionRecord { demand: Demand::Key(key), ..wanted(of, Some("QF-1")) };
        assert_eq!(store.accept(&accepted("wv-1", [2; 32]), &cause(6)).unwrap(), Err(AcceptRefusal::Gone));
        assert_eq!(store.accept(&accepted("wv-1", [9; 32]), &cause(6)).unwrap(), Err(AcceptRefusal::Gone));
        store.add_devices(&[device("wv-9", None)], &cause(6)).unwrap().unwrap();
        let taken = AdmissionRecord { demand: Demand::Key(digest), ..wanted("wv-9", Some("QF-1")) };
        let refused = store.accept(&taken, &cause(6)).unwrap();
        assert!(matches!(refused, Err(AcceptRefusal::Unopened(_))), "{refused:?}");
        assert!(store.asking(&digest).unwrap().is_some(), "it waits on");
        let opened = store.accept(&accepted("wv-1", digest), &cause(7)).unwrap().unwrap();
        assert_eq!(
            (store.asking(&digest).unwrap(), store.admission_of_key(&digest).unwrap()),
            (None, Some(opened.clone()))
        );
        assert_eq!(used(store, opened.name.0, "wv-1", &world.certificate("wv-1", &key, 30), 8), Ok(()));
        let acts: Vec<String> = store.entries(entries, 99).unwrap().into_iter().map(|entry| entry.act).collect();
        assert_eq!(
            acts,
            [
                "device.ask",
                "device.ask",
                "device.refuse",
                "device.add",
                "device.accept",
                "admission.open",
                "device.add",
                "credential.issue",
                "admission.use"
            ]
        );
    });
}

#[test]
fn who_may_not_come_does_not_wait_and_a_full_room_turns_the_newest_away() {
    on_each(|store, _, world| {
        let certificate = fresh(world, "wv-1");
        store.add_devices(&[device("wv-1", Some("QF-1")), device("wv-2", Some("QF-2"))], &cause(1)).unwrap().unwrap();
        issue(store, "wv-1", &certificate, false, 2).unwrap().unwrap();
        let key = sha256(certificate.public_key.spki());
        let ask = |store: &mut OperatorStore, new: &AskingRecord| store.ask(new, &cause(5)).unwrap();
        let in_use = AskingRecord { key_digest: key, ..asks(0, None, "a", 5) };
        assert_eq!(ask(store, &in_use), Err(AskRefusal::InUse(id("wv-1"))));
        store.block_keys(&[[7; 32]], BlockSource::Given, &cause(3)).unwrap();
        assert_eq!(ask(store, &asks(7, None, "a", 5)), Err(AskRefusal::Blocked));
        assert_eq!(ask(store, &asks(8, Some("QF-2"), "a", 5)), Ok(()), "a conflict that a person sees");
        store.set_hold(&[id("wv-2")], true, &cause(4)).unwrap();
        assert!(matches!(ask(store, &asks(9, Some("QF-2"), "a", 5)), Err(AskRefusal::Barred { .. })));
        // One network has its share, and the room has its size; nobody who waits is pushed out.
        let from = |network: u64, number: u64| {
            let mut new = asks(0, None, &format!("10.{network}"), 5);
            new.key_digest = sha256(&[network.to_be_bytes(), number.to_be_bytes()].concat());
            new
        };
        for number in 0..MOST_OF_SOURCE {
            assert_eq!(ask(store, &from(0, number)), Ok(()));
        }
        assert_eq!(ask(store, &from(0, MOST_OF_SOURCE)), Err(AskRefusal::Full(MOST_OF_SOURCE)));
        assert_eq!(ask(store, &from(1, 0)), Ok(()), "another network's is its own");
        assert_eq!(ask(store, &from(0, 3)), Ok(()), "who waits already waits on");
        // When their time is over they are forgotten.
        assert_eq!(store.ask(&from(0, MOST_OF_SOURCE), &cause(500)).unwrap(), Ok(()));
        assert_eq!(store.count_asking("10.0").unwrap(), (1, 1, 1));
    });
}

#[test]
fn one_key_is_demanded_for_one_device_at_a_time() {
    on_each(|store, _, _| {
        let of = |id: &str, key: u8| AdmissionRecord { demand: Demand::Key([key; 32]), ..wanted(id, None) };
        let open = |store: &mut OperatorStore, new: &[AdmissionRecord], at: i64| {
            store.open_admissions(new, &cause(at), &mut |_| Ok(())).unwrap().map(|opened| opened.len())
        };
        assert_eq!(open(store, &[of("wv-1", 1), of("wv-2", 2)], 1), Ok(2));
        let pending = |index| OpenRefusal::KeyPending { index, device: id("wv-1"), other: AdmissionName(1) };
        assert_eq!(open(store, &[of("wv-3", 3), of("wv-4", 1)], 2), Err(vec![pending(1)]));
        assert_eq!(open(store, &[of("wv-3", 3), of("wv-4", 3)], 2), Err(vec![OpenRefusal::Twice { index: 1 }]));
        store.withdraw_admissions(&[AdmissionName(1)], &cause(3)).unwrap().unwrap();
        assert_eq!(open(store, &[of("wv-4", 1)], 4), Ok(1), "what was withdrawn stands in nobody's way");
    });
}

/// What formats 8, 7, 6, 5, 4, 3 and 2 of a database brought.
const TAKE_AWAY_8: &str = "DROP TABLE owners, owner_passes, claims, claim_windows, hand_overs, ownerships, claim_tries; DROP INDEX devices_by_owner;
    ALTER TABLE devices DROP COLUMN passed; UPDATE store_format SET number = 7";
const TAKE_AWAY_7: &str = "DROP TABLE errands, errand_traffic, evidence, reflex_progress, reflex_hits, notices; UPDATE store_format SET number = 6";
const TAKE_AWAY_6: &str = "
    DROP TABLE device_events; DROP INDEX admissions_by_end, audit_by_subject; ALTER TABLE authorities DROP COLUMN crl_until; ALTER TABLE devices DROP COLUMN renew_asked;
    UPDATE store_format SET number = 5, least = 5";

const TAKE_AWAY_5: &str = "DROP TABLE token_signers, token_blocks, key_wraps; ALTER TABLE head DROP COLUMN tokens;
    DROP INDEX credentials_by_kid; ALTER TABLE credentials DROP COLUMN kid, DROP COLUMN key_note;
    UPDATE store_format SET number = 4, least = 4";
const TAKE_AWAY_4: &str =
    "DROP FUNCTION guard_introduces; DROP FUNCTION stays_revoked CASCADE; DROP POLICY every ON audit; ALTER TABLE audit DISABLE ROW LEVEL SECURITY; DROP TABLE retired_facts; ALTER TABLE field_names DROP COLUMN shared; ALTER TABLE devices DROP COLUMN note; ALTER TABLE admissions DROP COLUMN owner;
    DROP INDEX credentials_derived; ALTER TABLE credentials DROP COLUMN authorised_by;
    INSERT INTO device_groups VALUES ('spares', 'note = spare', 1); UPDATE store_format SET number = 3, least = 3";
const TAKE_AWAY_3: &str = "DROP TABLE former_servers, introduced; ALTER TABLE head DROP COLUMN servers;
    UPDATE store_format SET number = 2, least = 2";
const TAKE_AWAY_2: &str =
    "DROP TABLE admission_facts, admissions, asking; UPDATE store_format SET number = 1, least = 1";

#[test]
fn a_database_of_an_earlier_format_is_brought_up_to_date_by_who_owns_it() {
    let steps = [TAKE_AWAY_8, TAKE_AWAY_7, TAKE_AWAY_6, TAKE_AWAY_5, TAKE_AWAY_4, TAKE_AWAY_3, TAKE_AWAY_2];
    for (back, from) in (1..).zip([7, 6, 5, 4, 3, 2, 1]) {
        brought_up_to_date(from, &steps[..back]);
    }
}

fn brought_up_to_date(from: i64, take_away: &[&str]) {
    let cluster = Cluster::shared();
    let (database, store) = new_database(&World::new());
    let guard = postgres::open(access(&database), None).unwrap();
    let running = tidy_warden_store::GuardStore::new(guard);
    drop(store);
    take_away.iter().for_each(|sql| drop(cluster.sql(&database, sql)));
    let login = format!("{database}_clerk");
    cluster.sql(
        &database,
        &format!(
            "CREATE ROLE {login} LOGIN; GRANT SELECT, INSERT, UPDATE ON jobs TO {login};
        GRANT UPDATE (crl_number, crl_at, crl_pending) ON authorities TO {login};
        GRANT SELECT ON ALL TABLES IN SCHEMA public TO {login}"
        ),
    );
    let as_clerk = || {
        let mut access = access(&database);
        access.address.user.clone_from(&login);
        postgres::open(access, None)
    };
    let refused = as_clerk().map(|_| ()).unwrap_err();
    assert!(matches!(refused, StoreError::Older { found, known: 8 } if found == from), "{refused}");
    let mut of_a_post = access(&database);
    of_a_post.is_post = true;
    let refused = postgres::open(of_a_post, None).map(|_| ()).unwrap_err();
    assert!(matches!(refused, StoreError::Older { .. }), "a post does not change tables: {refused}");
    // Two at once do it once.
    std::thread::scope(|scope| {
        let mut all = [(); 2].map(|()| access(&database));
        all[1].address.user = "postgres".into();
        let both: Vec<_> =
            all.into_iter().map(|access| scope.spawn(|| postgres::open(access, None).map(|_| ()))).collect();
        both.into_iter().for_each(|each| each.join().unwrap().unwrap());
    });
    let mut store = OperatorStore::new(postgres::open(access(&database), None).unwrap());
    let owners = "SELECT string_agg(DISTINCT tableowner::text, ' ') FROM pg_tables WHERE schemaname = 'public'";
    assert_eq!(cluster.sql(&database, owners).trim(), "operator");
    assert_eq!(opened(&mut store, &[wanted("wv-1", Some("QF-1"))], 1), [1]);
    assert_eq!((store.survey().unwrap().format, running.head().unwrap().number), (8, 2));
    let spelled = (from < 4).then(|| "label.note = spare".to_owned());
    assert_eq!(store.groups().unwrap().first().and_then(|group| group.rule.clone()), spelled);
    let signers = store.token_signers().unwrap();
    assert_eq!((signers[0].name.as_str(), &signers[0].key), ("tokens", &store.ward().unwrap().token_key));
    // Who could work on jobs can work on admissions.
    let mut clerk = as_clerk().unwrap();
    assert_eq!(clerk.pending_for(&[id("wv-1")]).unwrap()[0].as_ref().map(|each| each.name), Some(AdmissionName(1)));
    // Who could note that a list was signed can note until when it is good.
    let may = format!("SELECT has_column_privilege('{login}', 'authorities', 'crl_until', 'UPDATE')");
    assert_eq!(cluster.sql(&database, &may).trim(), if from < 6 { "t" } else { "f" });
    let may = format!("SELECT has_table_privilege('{login}', 'errands', 'INSERT')");
    let want = if from < 7 { "t" } else { "f" };
    assert_eq!(cluster.sql(&database, &may).trim(), want, "who could work on jobs can work on errands");
    let may = format!("SELECT has_table_privilege('{login}', 'owner_passes', 'INSERT')");
    assert_eq!(cluster.sql(&database, &may).trim(), "t", "and on claims");
    let withdrawn = tidy_warden_store::made(&mut *clerk, |tx| tx.withdraw_pending(None, UnixTime(NOW)));
    assert!(matches!(withdrawn, Err(StoreError::Forbidden { .. })), "nobody may delete who might not before");
}
