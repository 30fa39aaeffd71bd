//! The desk's acts on each engine: next certificates for those that devices show.

use tidy_warden_core::admission::AdmissionName;
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::{BlockSource, Revocation, Unusable};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::key::{NewKey, ProvenKey, Signer, SoftwareKey, sha256};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::Span;
use tidy_warden_store::{
    DeskActs, DeskReader, GuardStore, IntroduceRefusal, NewCredential, OperatorStore, RenewRefusal, SignedCredential,
    SqliteStore, Store, StoreError, UseRefusal, postgres,
};

use crate::bench::{World, access, broken, cause, device, fresh, id, issue, new_database, new_file, new_model, opened};

/// A desk on a store, a second way to it for a person, and a third to look.
struct Bench {
    desk: DeskActs,
    reader: DeskReader,
    store: OperatorStore,
    guard: GuardStore,
    world: World,
}

fn on_each_desk(test: impl Fn(&mut Bench)) {
    let run = |world: World, ways: [Box<dyn Store>; 4]| {
        let [desk, reader, guard, store] = ways;
        let (reader, guard, store) = (DeskReader::new(reader), GuardStore::new(guard), OperatorStore::new(store));
        let mut bench = Bench { desk: DeskActs::new(desk).unwrap(), reader, store, guard, world };
        test(&mut bench);
        assert_eq!(broken(&bench.store), []);
    };
    let world = World::new();
    let model = new_model(&world);
    run(world, [Box::new(model.another()), Box::new(model.another()), Box::new(model.another()), Box::new(model)]);

    let (world, dir) = (World::new(), tempfile::tempdir().unwrap());
    let path = dir.path().join("ward.db");
    let first = new_file(&path, &world);
    let another = || Box::new(SqliteStore::open(&path).unwrap());
    run(world, [another(), another(), another(), Box::new(first)]);

    let world = World::new();
    let (database, first) = new_database(&world);
    let another = || postgres::open(access(&database), None).unwrap();
    run(world, [another(), another(), another(), first]);
}

impl Bench {
    /// A device that has a certificate.
    fn enrolled(&mut self, of: &str, serial: &str) -> Certificate {
        self.store.add_devices(&[device(of, Some(serial))], &cause(1)).unwrap().unwrap();
        let certificate = fresh(&mut self.world, of);
        issue(&mut self.store, of, &certificate, false, 2).unwrap().unwrap();
        certificate
    }

    fn signed(&mut self, of: &str, key: &ProvenKey) -> (Fingerprint, SignedCredential) {
        let certificate = self.world.certificate(of, key, 30);
        let (of, authority) = (id(of), "devices".parse().unwrap());
        let new = NewCredential::issued(&of, &authority, &certificate, "p256");
        (certificate.fingerprint, SignedCredential::from(&NewCredential { overlap: Span::from_seconds(500), ..new }))
    }

    /// Gives a next certificate, of a fresh key, for the one that is shown.
    fn renew(&mut self, shown: &Certificate, of: &str, at: i64) -> Result<Fingerprint, RenewRefusal> {
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        self.renew_with(shown, of, &key, at)
    }

    fn renew_with(
        &mut self,
        shown: &Certificate,
        of: &str,
        key: &ProvenKey,
        at: i64,
    ) -> Result<Fingerprint, RenewRefusal> {
        let (fingerprint, signed) = self.signed(of, key);
        self.desk.renew(shown.fingerprint, signed, cause(at)).unwrap().map(|()| fingerprint)
    }

    fn credentials(&self, of: &str) -> usize {
        self.store.devices(&[id(of)]).unwrap().remove(0).unwrap().credentials.len()
    }
}

#[test]
fn the_next_certificate_is_recorded_beside_the_one_that_was_shown() {
    on_each_desk(|bench| {
        let first = bench.enrolled("wv-1", "QF-1");
        let next = bench.renew(&first, "wv-1", 10).unwrap();
        assert_eq!(bench.credentials("wv-1"), 2);
        let view = bench.store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
        let of = |fingerprint| view.credentials.iter().find(|each| each.fingerprint == fingerprint).unwrap();
        assert_eq!(
            of(first.fingerprint).may_sign_in(cause(11).at),
            Ok(()),
            "the old one is good until the new is used"
        );
        assert_eq!(of(next).may_sign_in(cause(11).at), Ok(()));
        assert_eq!((of(next).issued, of(next).first_used), (cause(10).at, None));
        let last = bench.store.audit_end().unwrap().0;
        let entry = bench.store.entries(last, 1).unwrap().remove(0);
        assert_eq!((entry.act.as_str(), entry.subject.as_str()), ("credential.issue", "wv-1"));
        // The desk finds what it gave, for who asks again because the answer was lost.
        let der = bench.reader.view(|view| view.credential_der(&next)).unwrap().unwrap();
        assert_eq!(Certificate::from_der(&der).unwrap().fingerprint, next);
        assert_eq!(bench.reader.view(|view| view.credential_der(&Fingerprint([9; 32]))).unwrap(), None);
    });
}

#[test]
fn who_shows_what_is_not_its_own_or_not_good_is_given_nothing() {
    on_each_desk(|bench| {
        let (first, second) = (bench.enrolled("wv-1", "QF-1"), bench.enrolled("wv-2", "QF-2"));
        let stranger = fresh(&mut bench.world, "wv-1");
        assert_eq!(bench.renew(&stranger, "wv-1", 10), Err(RenewRefusal::Unknown), "nobody recorded it");
        assert_eq!(bench.renew(&second, "wv-1", 10), Err(RenewRefusal::Unknown), "it is another's");
        let day = 86_400;
        let late = bench.renew(&first, "wv-1", 31 * day);
        assert!(matches!(late, Err(RenewRefusal::Shown(Unusable::Expired { .. }))), "{late:?}");
        let early = bench.renew(&first, "wv-1", -2 * day);
        assert!(matches!(early, Err(RenewRefusal::Shown(_))), "a clock that is wrong: {early:?}");

        // Held, revoked, retired: between the look and the change as well, since both are one.
        bench.store.set_hold(&[id("wv-2")], true, &cause(20)).unwrap();
        let held = bench.renew(&second, "wv-2", 21);
        assert!(matches!(held, Err(RenewRefusal::Unissued(_) | RenewRefusal::Shown(_))), "{held:?}");
        bench.store.set_hold(&[id("wv-2")], false, &cause(22)).unwrap();
        assert!(bench.renew(&second, "wv-2", 23).is_ok());
        let all = Revocation { device: &id("wv-1"), only: None, reason: Reason::KeyCompromise };
        bench.store.revoke(all, &cause(30)).unwrap();
        let revoked = bench.renew(&first, "wv-1", 31);
        assert!(matches!(revoked, Err(RenewRefusal::Shown(_) | RenewRefusal::Unissued(_))), "{revoked:?}");
        assert_eq!((bench.credentials("wv-1"), bench.credentials("wv-2")), (1, 2), "nothing of a refusal stays");
    });
}

#[test]
fn a_key_that_is_anothers_or_blocked_is_certified_for_nobody() {
    on_each_desk(|bench| {
        let first = bench.enrolled("wv-1", "QF-1");
        let (own, bad) = (SoftwareKey::generate(NewKey::P256).unwrap(), SoftwareKey::generate(NewKey::P256).unwrap());
        let second = bench.enrolled("wv-2", "QF-2");
        bench.renew_with(&second, "wv-2", &own.proven(), 5).unwrap();
        let taken = bench.renew_with(&first, "wv-1", &own.proven(), 6);
        assert!(matches!(taken, Err(RenewRefusal::Unissued(IssueRefusal::KeyInUse { .. }))), "{taken:?}");
        let digest = sha256(bad.public_key().spki());
        bench.store.block_keys(&[digest], BlockSource::Listed, &cause(7)).unwrap();
        let blocked = bench.renew_with(&first, "wv-1", &bad.proven(), 8);
        assert!(matches!(blocked, Err(RenewRefusal::Unissued(IssueRefusal::KeyBlocked { .. }))), "{blocked:?}");
        assert_eq!(bench.credentials("wv-1"), 1);
    });
}

#[test]
fn many_renewals_at_once_are_recorded_each_as_if_alone() {
    on_each_desk(|bench| {
        let shown: Vec<(String, Certificate)> = (0..30)
            .map(|number| {
                let of = format!("wv-{number}");
                let certificate = bench.enrolled(&of, &format!("QF-{number}"));
                (of, certificate)
            })
            .collect();
        // One of them is revoked, which spoils nothing of the others'.
        let gone = Revocation { device: &id("wv-7"), only: None, reason: Reason::Superseded };
        bench.store.revoke(gone, &cause(4)).unwrap();
        let calls: Vec<(Fingerprint, SignedCredential)> = shown
            .iter()
            .map(|(of, certificate)| {
                let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
                (certificate.fingerprint, bench.signed(of, &key).1)
            })
            .collect();
        let desk = &bench.desk;
        let answers: Vec<bool> = std::thread::scope(|scope| {
            let calls: Vec<_> = calls
                .into_iter()
                .map(|(shown, signed)| scope.spawn(move || desk.renew(shown, signed, cause(5)).unwrap().is_ok()))
                .collect();
            calls.into_iter().map(|call| call.join().unwrap()).collect()
        });
        for (number, (of, _)) in shown.iter().enumerate() {
            let is_good = number != 7;
            assert_eq!((answers[number], bench.credentials(of)), (is_good, 1 + usize::from(is_good)), "{of}");
        }
    });
}

#[test]
fn a_store_that_is_away_gives_a_desk_nothing_and_takes_nothing() {
    let (mut world, dir) = (World::new(), tempfile::tempdir().unwrap());
    let path = dir.path().join("ward.db");
    drop(new_file(&path, &world));
    let reader = DeskReader::new(Box::new(SqliteStore::open(&path).unwrap()));
    let desk = DeskActs::new(Box::new(SqliteStore::open(&path).unwrap())).unwrap();
    let mut store = opened(&path);
    store.add_devices(&[device("wv-1", None)], &cause(1)).unwrap().unwrap();
    let certificate = fresh(&mut world, "wv-1");
    issue(&mut store, "wv-1", &certificate, false, 2).unwrap().unwrap();
    assert!(reader.view(|view| view.head()).is_ok());
    std::fs::remove_file(&path).unwrap();
    let away = reader.view(|view| view.head());
    assert!(matches!(away, Err(StoreError::Absent { .. } | StoreError::Replaced { .. })), "{:?}", away.err());
    let (of, authority) = (id("wv-1"), "devices".parse().unwrap());
    let next = fresh(&mut world, "wv-1");
    let signed = SignedCredential::from(&NewCredential::issued(&of, &authority, &next, "p256"));
    assert!(desk.renew(certificate.fingerprint, signed, cause(3)).is_err(), "what is not there takes nothing");
}

#[test]
fn a_key_that_was_made_for_its_device_is_made_anew_until_it_is_used() {
    on_each_desk(|bench| {
        let wanted = crate::admissions::wanted("wv-1", Some("QF-1"));
        bench.store.open_admissions(&[wanted], &cause(1), &mut |_| Ok(())).unwrap().unwrap();
        let name = AdmissionName(1);
        let key = || SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let (first, signed) = bench.signed("wv-1", &key());
        let early = bench.desk.use_admission_again(name, first, signed.clone(), cause(2)).unwrap();
        assert!(matches!(early, Err(UseRefusal::Over(_))), "nothing was given yet: {early:?}");
        bench.desk.use_admission(name, signed, cause(2)).unwrap().unwrap();
        let (second, signed) = bench.signed("wv-1", &key());
        let wrong = bench.desk.use_admission_again(name, second, signed.clone(), cause(3)).unwrap();
        assert!(matches!(wrong, Err(UseRefusal::Over(_))), "that is not what was given: {wrong:?}");
        bench.desk.use_admission_again(name, first, signed, cause(4)).unwrap().unwrap();
        let view = bench.store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
        let of = |fingerprint| view.credentials.iter().find(|each| each.fingerprint == fingerprint).unwrap();
        assert!(matches!(of(first).may_sign_in(cause(5).at), Err(Unusable::Revoked { .. })), "{:?}", of(first));
        assert_eq!(of(second).may_sign_in(cause(5).at), Ok(()));
        assert!(bench.store.authorities().unwrap()[0].crl_pending, "it goes on the list");
        let crl = bench.store.next_crl(&"devices".parse().unwrap()).unwrap();
        assert_eq!(crl.entries.iter().map(|entry| entry.reason).collect::<Vec<_>>(), [Reason::Superseded]);
        // Two that come at once: the second finds another certificate in its place.
        let (_, signed) = bench.signed("wv-1", &key());
        let late = bench.desk.use_admission_again(name, first, signed.clone(), cause(5)).unwrap();
        assert!(matches!(late, Err(UseRefusal::Over(_))), "{late:?}");
        bench.store.set_hold(&[id("wv-1")], true, &cause(6)).unwrap();
        let held = bench.desk.use_admission_again(name, second, signed.clone(), cause(6)).unwrap();
        assert!(matches!(held, Err(UseRefusal::Over(_))), "{held:?}");
        bench.store.set_hold(&[id("wv-1")], false, &cause(7)).unwrap();
        bench.guard.record_uses(&[(id("wv-1"), Some(second))], &cause(8)).unwrap();
        let used = bench.desk.use_admission_again(name, second, signed, cause(9)).unwrap();
        assert!(matches!(used, Err(UseRefusal::Over(_))), "what is in use stays: {used:?}");
        assert_eq!(bench.credentials("wv-1"), 2);
    });
}

#[test]
fn what_was_asked_for_with_a_key_that_was_stolen_ends_with_it() {
    on_each_desk(|bench| {
        let gateway = bench.enrolled("st-1", "QF-1");
        let mut child = device("cb-1", None);
        child.gateway = Some(id("st-1"));
        bench.store.add_devices(&[child, device("cb-2", None)], &cause(3)).unwrap().unwrap();
        let other = fresh(&mut bench.world, "cb-2");
        issue(&mut bench.store, "cb-2", &other, false, 3).unwrap().unwrap();
        let next = bench.renew(&gateway, "st-1", 4).unwrap();
        let fetch = |bench: &mut Bench, shown, of: &str, at| {
            let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
            let (fingerprint, signed) = bench.signed(of, &key);
            bench.desk.enrol_child(id("st-1"), shown, signed, cause(at)).unwrap().map(|()| fingerprint)
        };
        let childs = fetch(bench, next, "cb-1", 5).unwrap();
        let refused = fetch(bench, next, "cb-2", 5);
        assert!(matches!(refused, Err(RenewRefusal::NotIts { .. })), "{refused:?}");
        let unknown = fetch(bench, other.fingerprint, "cb-1", 5);
        assert!(matches!(unknown, Err(RenewRefusal::Unknown)), "it is not the gateway's: {unknown:?}");
        let by = |bench: &Bench, of: &Fingerprint| bench.store.authorised_by(of).unwrap();
        assert_eq!((by(bench, &next), by(bench, &childs)), (Some(gateway.fingerprint), Some(next)));
        assert_eq!((by(bench, &gateway.fingerprint), by(bench, &other.fingerprint)), (None, None));
        let derived = vec![(id("st-1"), next), (id("cb-1"), childs)];
        assert_eq!(bench.store.derived(&[gateway.fingerprint]).unwrap(), derived);
        // Another reason ends what it names and no more.
        let state = |bench: &Bench, of: &Fingerprint| {
            bench.store.status_many(std::slice::from_ref(of)).unwrap().remove(0).unwrap().0.revoked.map(|(_, why)| why)
        };
        let revoke = |bench: &mut Bench, reason, at| {
            let what = Revocation { device: &id("st-1"), only: Some(gateway.fingerprint), reason };
            bench.store.revoke(what, &cause(at)).unwrap().len()
        };
        assert_eq!(revoke(bench, Reason::Superseded, 6), 1);
        assert_eq!((state(bench, &next), state(bench, &childs)), (None, None));
        let before = bench.store.changed_since(0).unwrap().to;
        assert_eq!(revoke(bench, Reason::KeyCompromise, 7), 3);
        let all = [state(bench, &next), state(bench, &childs), state(bench, &other.fingerprint)];
        assert_eq!(all, [Some(Reason::KeyCompromise), Some(Reason::KeyCompromise), None]);
        let mut heard = bench.store.changed_since(before).unwrap().devices.unwrap();
        heard.sort();
        assert_eq!(heard, [id("cb-1"), id("st-1")], "guards hear of each");
        assert!(bench.store.blocked_key(&bench.store.key_digest(&childs).unwrap()).unwrap().is_some());
        assert_eq!(revoke(bench, Reason::KeyCompromise, 8), 0, "once is enough");
    });
}

#[test]
fn of_children_that_a_guard_told_of_no_more_are_listed_than_the_policy_says() {
    on_each_desk(|bench| {
        let gateway = device("st-1", None);
        bench.store.add_devices(std::slice::from_ref(&gateway), &cause(1)).unwrap().unwrap();
        // A guard that was taken over says that there may be any number.
        let waits = ["cb-1", "cb-2", "cb-3"].map(|child| {
            let new = IntroducedRecord::new(id(child), "cabin".parse().unwrap(), &gateway, cause(2).at);
            assert_eq!(bench.store.introduce_child(&new, u32::MAX, &cause(2)).unwrap(), Ok(IntroducedState::Waits));
            new
        });
        let take = |bench: &Bench, most| bench.desk.take_child(waits[0].clone(), most, cause(3)).unwrap();
        let full = take(bench, 2);
        assert!(matches!(full, Err(IntroduceRefusal::Full { most: 2, .. })), "{full:?}");
        assert_eq!(bench.store.devices(&[id("cb-1")]).unwrap(), [None]);
        assert_eq!(take(bench, 3), Ok(IntroducedState::Accepted));
        let listed = bench.store.devices(&[id("cb-1")]).unwrap().remove(0).unwrap().device;
        assert_eq!((listed.gateway.as_ref(), &listed.labels), (Some(&gateway.id), &gateway.labels));
        assert_eq!(bench.store.waiting_children(9).unwrap().len(), 2);
        assert!(take(bench, 3).is_err(), "once is enough");
    });
}
