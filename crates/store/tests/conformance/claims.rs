//! Devices find their owners, and pass from one to the next.

use std::sync::Barrier;

use proptest::prelude::*;
use tidy_warden_core::admission::{self, AdmissionName, AdmissionRecord, Demand};
use tidy_warden_core::audit::Replay;
use tidy_warden_core::claim::{Came, ClaimBy, CodeDigest, OpenClaim, OpenRefusal, OpenedBy, Scope, Went};
use tidy_warden_core::credential::{CredentialState, Origin, Unusable};
use tidy_warden_core::device::{DeviceEdit, DeviceRecord};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::id::{KindName, OwnerId};
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::owner::{OwnerRecord, Place, PlaceRefusal};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::{claim, owner};
use tidy_warden_store::{
    Answer, JobKind, KindRules, Lease, NewCredential, NewJob, OperatorStore, OwnerPass, OwnerRefusal, PassKind,
    PassRefusal, Passed, Rules, SqliteStore, Store, Take, Taken, Tally, Tx,
};

use crate::bench::{NOW, World, cause, fresh, id, issue, new_file, new_model, on_each};

/// A device without labels.
fn device(name: &str, serial: Option<&str>) -> DeviceRecord {
    DeviceRecord { labels: [].into(), ..crate::bench::device(name, serial) }
}

const DAY: i64 = 86_400;

fn owner_id(name: &str) -> OwnerId {
    name.parse().unwrap()
}

fn place(text: &str) -> Place {
    let (name, value) = text.split_once('=').unwrap();
    (name.parse().unwrap(), value.parse().unwrap())
}

fn new_owner(name: &str, places: &[&str]) -> OwnerRecord {
    OwnerRecord {
        contact: "Ann, ann@mole.example".parse().ok(),
        salt: [3; 16],
        places: places.iter().map(|text| place(text)).collect(),
        ..OwnerRecord::new(owner_id(name), UnixTime(NOW))
    }
}

fn digest_of(number: u8) -> CodeDigest {
    CodeDigest { salt: [7; 16], digest: [number; 32] }
}

fn opened(device: &str, by: OpenedBy, code: Option<u8>, at: i64, seconds: i64) -> OpenClaim {
    OpenClaim {
        device: id(device),
        by,
        code: code.map(digest_of),
        opened: UnixTime(NOW + at),
        ends: UnixTime(NOW + at + seconds),
    }
}

/// Any kind is claimed with a code, may open itself for a minute, and has a day for its next key.
fn by_code(_: &KindName) -> Option<KindRules> {
    let window = Some(Span::from_seconds(60));
    Some(KindRules { by: ClaimBy::Code, window, rotate: Some(Span::from_days(1)) })
}

fn by_name(_: &KindName) -> Option<KindRules> {
    Some(KindRules { by: ClaimBy::Name, window: None, rotate: None })
}

const RULES: Rules<'static> = Rules { of: &by_code, tries: 5 };

/// What every test of a change says: it is made, or refused as a whole.
fn done<T, R>(store: &mut OperatorStore, act: impl FnOnce(&mut dyn Tx) -> Answer<T, R>) -> Result<T, R> {
    store.decide(act).unwrap()
}

fn open(store: &mut OperatorStore, claim: OpenClaim, at: i64) -> Result<(), Vec<OpenRefusal>> {
    done(store, |tx| claim::open(tx, &[claim], &cause(at)))
}

fn take_by(store: &mut OperatorStore, rules: &Rules<'_>, take: &Take<'_>, at: i64) -> Taken {
    done(store, |tx| Ok(Ok::<_, ()>(claim::take(tx, take, rules, &cause(at))?))).unwrap()
}

fn take(store: &mut OperatorStore, device: &str, owner: &str, code: u8, at: i64) -> Taken {
    let (device, owner) = (id(device), owner_id(owner));
    let take = Take { device: &device, owner: &owner, wanted: &[], shown: Some(digest_of(code)), source: None };
    take_by(store, &RULES, &take, at)
}

fn taken(store: &mut OperatorStore, device: &str, owner: &str, code: u8, at: i64) -> Passed {
    match take(store, device, owner, code, at) {
        Taken::Yes(passed) => *passed,
        other => panic!("{owner} did not get {device}: {other:?}"),
    }
}

fn give_up(store: &mut OperatorStore, device: &str, by: Option<&str>, at: i64) -> Result<Passed, PassRefusal> {
    let by = by.map(owner_id);
    done(store, |tx| claim::give_up(tx, &id(device), by.as_ref(), &RULES, &cause(at)))
}

fn add_owners(store: &mut OperatorStore, owners: &[(&str, &[&str])]) {
    for (name, places) in owners {
        done(store, |tx| owner::add(tx, &new_owner(name, places), &cause(1))).unwrap();
    }
}

fn found(store: &OperatorStore, device: &str) -> DeviceRecord {
    store.devices(&[id(device)]).unwrap().remove(0).unwrap().device
}

fn labels(device: &DeviceRecord) -> String {
    let all: Vec<String> = device.labels.iter().map(|(name, value)| format!("{name}={value}")).collect();
    all.join(" ")
}

/// The acts in the record from a number on, with their subjects.
fn acts(store: &OperatorStore, from: i64) -> Vec<String> {
    let entries = store.entries(from, 9_999).unwrap();
    entries.iter().map(|entry| format!("{} {}", entry.act, entry.subject)).collect()
}

#[test]
fn a_device_is_opened_claimed_given_up_and_taken_again_with_its_history() {
    on_each(|store, _, world| {
        store.add_devices(&[device("gg-1", None)], &cause(1)).unwrap().unwrap();
        let sells = DeviceEdit { labels: vec![("batch".parse().unwrap(), "7".parse().ok())], ..DeviceEdit::default() };
        store.edit_device(&id("gg-1"), &sells, &cause(1)).unwrap().unwrap();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let certificate = world.certificate("gg-1", &key, 90);
        issue(store, "gg-1", &certificate, false, 2).unwrap().unwrap();
        add_owners(store, &[("mole", &["site=mole"]), ("ivo", &["site=ivo", "hall=a"])]);
        let batch = labels(&found(store, "gg-1"));
        open(store, opened("gg-1", OpenedBy::Person, Some(1), 3, 30 * DAY), 3).unwrap();
        let first = store.head().unwrap().number + 1;
        let passed = taken(store, "gg-1", "mole", 1, 4);
        assert_eq!((passed.ended.len(), passed.ending.len(), passed.until), (0, 0, None), "nobody had it before");
        let its = found(store, "gg-1");
        assert_eq!((its.owner.as_ref(), labels(&its)), (Some(&owner_id("mole")), format!("{batch} site=mole")));
        assert_eq!((its.tokens_from, its.passed), (UnixTime(0), None));
        assert_eq!(store.claim(&id("gg-1"), OpenedBy::Person).unwrap(), None, "a code is good once");
        let owned = OpenRefusal::Owned { device: id("gg-1"), owner: owner_id("mole") };
        assert_eq!(open(store, opened("gg-1", OpenedBy::Person, Some(2), 5, 60), 5), Err(vec![owned]));

        // Nobody else gives it up; whoever asks for what is not theirs is told the same of what there is not.
        let not_its = |device: &str| PassRefusal::NotIts(id(device), owner_id("ivo"));
        assert_eq!(give_up(store, "gg-1", Some("ivo"), 5).unwrap_err(), not_its("gg-1"));
        assert_eq!(give_up(store, "gg-9", Some("ivo"), 5).unwrap_err(), not_its("gg-9"));
        let passed = give_up(store, "gg-1", Some("mole"), 6).unwrap();
        assert_eq!((passed.ending.len(), passed.until), (1, Some(UnixTime(NOW + 6 + DAY))));
        let free = found(store, "gg-1");
        assert_eq!((free.owner.as_ref(), labels(&free)), (None, batch), "its place went with its owner");
        assert_eq!((free.tokens_from, free.passed), (UnixTime(NOW + 7), Some(UnixTime(NOW + 6))));
        assert_eq!(free.renew_asked, Some(UnixTime(NOW + 6)));
        let (credential, _) = store.status_many(&[certificate.fingerprint]).unwrap().remove(0).unwrap();
        assert_eq!(credential.may_sign_in(UnixTime(NOW + 6 + DAY)), Ok(()));
        let over = Unusable::Superseded { until: UnixTime(NOW + 6 + DAY) };
        assert_eq!(credential.may_sign_in(UnixTime(NOW + 7 + DAY)), Err(over));
        assert_eq!(give_up(store, "gg-1", None, 7).unwrap_err(), PassRefusal::NoOwner(id("gg-1")));
        // A next certificate must be for another key, which its former owner cannot have.
        let same = world.certificate("gg-1", &key, 90);
        let refused = issue(store, "gg-1", &same, true, 7).unwrap().unwrap_err();
        assert!(matches!(refused, IssueRefusal::KeyOfFormerOwner { .. }), "{refused}");
        let other = fresh(world, "gg-1");
        issue(store, "gg-1", &other, true, 8).unwrap().unwrap();

        open(store, opened("gg-1", OpenedBy::Person, Some(3), 8, DAY), 8).unwrap();
        taken(store, "gg-1", "ivo", 3, 9);
        let history: Vec<_> = store.ownerships(&id("gg-1"), 9).unwrap();
        let told: Vec<_> = history.iter().map(|each| (each.owner.as_str(), each.came, each.ended)).collect();
        let gone = Some((UnixTime(NOW + 6), Went::GivenUp));
        assert_eq!(told, [("ivo", Came::Code, None), ("mole", Came::Code, gone)]);
        let said = acts(store, first).into_iter().filter(|act| act.starts_with("claim."));
        let want = ["claim.take gg-1", "claim.give-up gg-1", "claim.open gg-1", "claim.take gg-1"];
        assert_eq!(said.collect::<Vec<_>>(), want);
        // One that is retired is nobody's any more, and is never claimed.
        store.retire_device(&id("gg-1"), &cause(10)).unwrap();
        assert_eq!(store.ownerships(&id("gg-1"), 1).unwrap()[0].ended, Some((UnixTime(NOW + 10), Went::Retired)));
        assert!(matches!(
            open(store, opened("gg-1", OpenedBy::Person, Some(3), 11, DAY), 11).unwrap_err()[..],
            [OpenRefusal::Barred { .. }]
        ));
        assert_eq!(store.count_owned(&owner_id("ivo")).unwrap(), 0);
    });
}

#[test]
fn a_shared_key_ends_at_once_and_a_makers_certificate_stays() {
    on_each(|store, _, _| {
        let of = id("gg-1");
        store.add_devices(&[device("gg-1", None)], &cause(1)).unwrap().unwrap();
        add_owners(store, &[("mole", &[])]);
        let key = |number: u8, origin| NewCredential {
            device: &of,
            origin,
            authority: None,
            der: &[7],
            fingerprint: tidy_warden_core::certificate::Fingerprint([number; 32]),
            serial: None,
            key_digest: [number; 32],
            key_type: "p256",
            not_before: UnixTime(NOW),
            not_after: UnixTime(NOW + 90 * DAY),
            again: true,
            overlap: Span::from_days(90),
            fresh_key: false,
            authorised_by: None,
            kid: None,
            note: None,
        };
        for (number, origin) in [(1, Origin::Shared), (2, Origin::Key), (3, Origin::Foreign)] {
            let kid = format!("k{number}");
            let new = NewCredential { kid: Some(&kid), ..key(number, origin) };
            let how = tidy_warden_store::KeyReplaces::Nothing;
            match origin {
                Origin::Foreign => store.record_issued(&new, &cause(2), &mut || Ok(())).unwrap().unwrap(),
                _ => drop(store.add_key(&new, how, &cause(2), &mut || Ok(())).unwrap().unwrap()),
            }
        }
        open(store, opened("gg-1", OpenedBy::Person, Some(1), 3, DAY), 3).unwrap();
        taken(store, "gg-1", "mole", 1, 4);
        let passed = give_up(store, "gg-1", None, 5).unwrap();
        assert_eq!((passed.ended.as_slice(), passed.ending.len()), (&["k1".to_owned()][..], 1));
        let view = store.devices(std::slice::from_ref(&of)).unwrap().remove(0).unwrap();
        let state = |origin| {
            let found = view.credentials.iter().find(|each| each.origin == origin).unwrap();
            found.state(UnixTime(NOW + 5))
        };
        assert_eq!(state(Origin::Shared), CredentialState::Revoked);
        assert_eq!(state(Origin::Key), CredentialState::Superseded);
        assert_eq!(state(Origin::Foreign), CredentialState::Equipped);
    });
}

#[test]
fn an_owner_sets_no_label_but_its_places_whatever_it_asks_for() {
    on_each(|store, _, _| {
        let all = ["site=ossel", "site=brindle", "site=ivo", "hall=a", "hall=b", "batch=7", "owner=ivo"];
        store.add_devices(&[device("gg-1", None)], &cause(1)).unwrap().unwrap();
        add_owners(store, &[("mole", &["site=ivo", "hall=a", "hall=b"]), ("ivo", &["site=ivo"])]);
        open(store, opened("gg-1", OpenedBy::Person, Some(1), 2, DAY), 2).unwrap();
        let (of, by) = (id("gg-1"), owner_id("mole"));
        let rules = Rules { tries: 20, ..RULES };
        let before = found(store, "gg-1");
        let mut refused = 0;
        for one in all {
            for other in all {
                let wanted = [place(one), place(other)];
                let take = Take { device: &of, owner: &by, wanted: &wanted, shown: Some(digest_of(1)), source: None };
                let said = take_by(store, &rules, &take, 3);
                let fits = [one, other] == ["site=ivo", "hall=a"] || [one, other] == ["site=ivo", "hall=b"];
                let fits = fits || [other, one] == ["site=ivo", "hall=a"] || [other, one] == ["site=ivo", "hall=b"];
                match said {
                    Taken::Yes(passed) => {
                        assert!(fits, "{one} {other}");
                        let set: Vec<_> = passed
                            .after
                            .labels
                            .iter()
                            .filter(|(name, value)| before.labels.get(*name) != Some(value))
                            .map(|(name, value)| format!("{name}={value}"))
                            .collect();
                        let mut want = [one, other];
                        want.sort_unstable();
                        assert_eq!(set, want);
                        give_up(store, "gg-1", None, 3).unwrap();
                        open(store, opened("gg-1", OpenedBy::Person, Some(1), 3, DAY), 3).unwrap();
                    }
                    Taken::Place(_) => assert!(!fits, "{one} {other}"),
                    Taken::No => panic!("{one} {other}"),
                }
                refused += i32::from(!fits);
                done(store, |tx| Ok(Ok::<_, ()>(owner::unlock(tx, &by, &cause(3))?))).unwrap();
                // It is refused by network and device as well, in time.
                done(store, |tx| Ok(Ok::<_, ()>(tx.drop_tries_at(&of)?))).unwrap();
                assert_eq!(found(store, "gg-1").owner, None);
            }
        }
        assert_eq!(refused, 49 - 4);
        let said = acts(store, 1).iter().filter(|act| *act == "claim.refuse gg-1").count();
        assert!(said >= 30, "each wrong place is in the record: {said}");
        // The same when it is handed over.
        taken(store, "gg-1", "ivo", 1, 4);
        let to = (None, &by);
        done(store, |tx| claim::offer(tx, &of, to, UnixTime(NOW + DAY), &cause(5))).unwrap();
        let over = |store: &mut OperatorStore, wanted: &[Place]| {
            done(store, |tx| claim::take_offered(tx, &of, (&by, wanted), &RULES, &cause(6)))
        };
        assert!(matches!(over(store, &[place("site=ossel")]), Err(PassRefusal::Place(PlaceRefusal::NotIts { .. }))));
        assert!(matches!(over(store, &[]), Err(PassRefusal::Place(PlaceRefusal::Unchosen { .. }))));
        let passed = over(store, &[place("hall=b")]).unwrap();
        assert_eq!(passed.after.labels["hall"].as_str(), "b");
    });
}

#[test]
fn wrong_codes_lock_who_gives_them_and_nobody_else() {
    on_each(|store, _, _| {
        let devices: Vec<DeviceRecord> = (1..9).map(|number| device(&format!("gg-{number}"), None)).collect();
        store.add_devices(&devices, &cause(1)).unwrap().unwrap();
        add_owners(store, &[("thief", &[]), ("mole", &[]), ("ivo", &[])]);
        for number in 1..9 {
            open(store, opened(&format!("gg-{number}"), OpenedBy::Person, Some(1), 2, 90 * DAY), 2).unwrap();
        }
        // The right code is of no use any more to who gave five wrong ones; an id that there is not says the same.
        for of in ["gg-1", "gg-99"] {
            for _ in 0..5 {
                assert_eq!(take(store, of, "thief", 9, 3), Taken::No);
            }
            assert_eq!(take(store, of, "thief", 1, 3), Taken::No);
            let tries = |scope, name: &str| store.tries(scope, name).unwrap().map(|tries| tries.count);
            assert_eq!(tries(Scope::Pair, &format!("thief {of}")), Some(5), "{of}");
            assert_eq!(tries(Scope::Device, of), Some(5), "{of}");
        }
        let refusals =
            |store: &OperatorStore| acts(store, 1).iter().filter(|act| act.starts_with("claim.refuse")).count();
        assert_eq!(refusals(store), 10, "who is not heard fills no record");
        taken(store, "gg-2", "thief", 1, 4);
        // In all it has twenty.
        for (of, count) in [("gg-3", 5), ("gg-4", 4)] {
            (0..count).for_each(|_| drop(take(store, of, "thief", 9, 5)));
        }
        taken(store, "gg-5", "thief", 1, 6);
        assert_eq!(take(store, "gg-6", "thief", 9, 6), Taken::No);
        assert_eq!(take(store, "gg-7", "thief", 1, 6), Taken::No, "it is locked out everywhere");
        taken(store, "gg-1", "mole", 1, 7);
        // A day later it may try elsewhere, but not there; opened again, there too.
        assert_eq!(take(store, "gg-4", "thief", 9, 7 + DAY), Taken::No);
        taken(store, "gg-6", "thief", 1, 7 + DAY);
        assert_eq!(take(store, "gg-3", "thief", 1, 8 + DAY), Taken::No);
        open(store, opened("gg-3", OpenedBy::Person, Some(2), 9 + DAY, DAY), 9 + DAY).unwrap();
        taken(store, "gg-3", "thief", 2, 10 + DAY);
        // One that many guess at still hears who did not.
        let (of, source) = (id("gg-8"), Some("192.0.2.0/24"));
        for number in 0..12 {
            let name = format!("stranger-{number}");
            add_owners(store, &[(&name, &[])]);
            (0..5).for_each(|_| drop(take(store, "gg-8", &name, 9, 11 + DAY)));
        }
        assert!(store.tries(Scope::Device, "gg-8").unwrap().unwrap().count >= 50);
        assert_eq!(take(store, "gg-8", "stranger-11", 1, 11 + DAY), Taken::No);
        // Fifty wrong ones from a network: it is not heard for a day, whoever is there.
        let by = owner_id("ivo");
        let from = |store: &mut OperatorStore, owner: &OwnerId, device: &str, code: u8, at: i64| {
            let device = id(device);
            let take = Take { device: &device, owner, wanted: &[], shown: Some(digest_of(code)), source };
            take_by(store, &RULES, &take, at)
        };
        for number in 20..31 {
            let name = format!("stranger-{number}");
            add_owners(store, &[(&name, &[])]);
            (0..5).for_each(|_| drop(from(store, &owner_id(&name), "gg-97", 9, 12 + DAY)));
        }
        assert_eq!(from(store, &by, "gg-8", 1, 13 + DAY), Taken::No);
        assert_eq!(take(store, of.as_str(), "ivo", 9, 13 + DAY), Taken::No, "a wrong one of its own");
        assert!(matches!(take(store, of.as_str(), "mole", 1, 14 + DAY), Taken::Yes(_)));
    });
}

#[test]
fn what_a_device_opened_itself_is_bounded_by_the_settings_and_replaced() {
    on_each(|store, guard, _| {
        store.add_devices(&[device("gg-1", None), device("gg-2", None)], &cause(1)).unwrap().unwrap();
        add_owners(store, &[("mole", &[]), ("ivo", &[])]);
        let mut window = |of: &str, code: Option<u8>, at: i64, seconds: i64| {
            guard.tally(&Tally::Windows(&[opened(of, OpenedBy::Device, code, at, seconds)])).unwrap();
        };
        // Longer than its kind may, without a code, and of the past.
        window("gg-1", Some(1), 10, 61);
        assert_eq!(take(store, "gg-1", "mole", 1, 11), Taken::No);
        window("gg-1", None, 12, 60);
        assert_eq!(take(store, "gg-1", "mole", 1, 13), Taken::No);
        window("gg-1", Some(1), 14, 60);
        assert_eq!(take(store, "gg-1", "mole", 1, 75), Taken::No);
        // A later one replaces it, and a person's opening both.
        window("gg-1", Some(2), 80, 60);
        assert_eq!(take(store, "gg-1", "ivo", 1, 81), Taken::No);
        open(store, opened("gg-1", OpenedBy::Person, Some(3), 82, DAY), 82).unwrap();
        assert_eq!(take(store, "gg-1", "ivo", 2, 83), Taken::No);
        window("gg-1", Some(4), 84, 60);
        taken(store, "gg-1", "ivo", 4, 85);
        assert_eq!(store.ownerships(&id("gg-1"), 1).unwrap()[0].came, Came::Window);
        // What it opens while it has an owner is worth nothing after.
        window("gg-1", Some(5), 86, 60);
        assert_eq!(take(store, "gg-1", "mole", 5, 87), Taken::No);
        give_up(store, "gg-1", None, 88).unwrap();
        assert_eq!(take(store, "gg-1", "ivo", 5, 89), Taken::No);
        // On hold, out, or of a kind that is claimed by name alone, a code has to be right too.
        open(store, opened("gg-2", OpenedBy::Person, None, 90, DAY), 90).unwrap();
        assert_eq!(take(store, "gg-2", "mole", 1, 91), Taken::No, "nobody said that its name is enough");
        store.set_hold(&[id("gg-2")], true, &cause(92)).unwrap();
        let (of, by) = (id("gg-2"), owner_id("mole"));
        let named = Take { device: &of, owner: &by, wanted: &[], shown: None, source: None };
        let rules = Rules { of: &by_name, tries: 20 };
        assert_eq!(take_by(store, &rules, &named, 93), Taken::No, "it is on hold");
        store.set_hold(&[id("gg-2")], false, &cause(94)).unwrap();
        assert!(matches!(take_by(store, &rules, &named, 95), Taken::Yes(_)));
        assert_eq!(store.ownerships(&of, 1).unwrap()[0].came, Came::Name);
        let passed = done(store, |tx| claim::give_up(tx, &of, None, &rules, &cause(96))).unwrap();
        assert_eq!((passed.ending.len(), passed.after.passed, passed.after.tokens_from), (0, None, UnixTime(0)));
    });
}

#[test]
fn a_device_is_handed_over_if_both_agree_in_time() {
    on_each(|store, _, _| {
        store.add_devices(&[device("gg-1", None)], &cause(1)).unwrap().unwrap();
        add_owners(store, &[("mole", &["site=mole"]), ("ivo", &["site=ivo"]), ("brindle", &["site=brindle"])]);
        open(store, opened("gg-1", OpenedBy::Person, Some(1), 2, DAY), 2).unwrap();
        taken(store, "gg-1", "mole", 1, 3);
        let of = id("gg-1");
        let offer = |store: &mut OperatorStore, by: &str, to: &str, at: i64| {
            let (by, to) = (owner_id(by), owner_id(to));
            let ends = UnixTime(NOW + at + 100);
            done(store, |tx| claim::offer(tx, &of, (Some(&by), &to), ends, &cause(at))).map(|offer| offer.to)
        };
        let over = |store: &mut OperatorStore, to: &str, at: i64| {
            let to = owner_id(to);
            done(store, |tx| claim::take_offered(tx, &of, (&to, &[]), &RULES, &cause(at)))
        };
        let drop_by = |store: &mut OperatorStore, by: &str, at: i64| {
            let by = owner_id(by);
            done(store, |tx| Ok(Ok::<_, ()>(claim::drop_offer(tx, &of, Some(&by), &cause(at))?))).unwrap()
        };
        assert_eq!(offer(store, "ivo", "brindle", 4), Err(PassRefusal::NotIts(of.clone(), owner_id("ivo"))));
        assert_eq!(offer(store, "mole", "mole", 4), Err(PassRefusal::Its(of.clone(), owner_id("mole"))));
        assert_eq!(offer(store, "mole", "nobody", 4), Ok(owner_id("nobody")), "an owner is not told who there is");
        let to_nobody =
            done(store, |tx| claim::offer(tx, &of, (None, &owner_id("nobody")), UnixTime(NOW + 100), &cause(4)));
        assert_eq!(to_nobody.unwrap_err(), PassRefusal::NoHeir(owner_id("nobody")));
        let not_offered = |to: &str| PassRefusal::NotOffered(of.clone(), owner_id(to));
        assert_eq!(over(store, "ivo", 5).unwrap_err(), not_offered("ivo"));
        offer(store, "mole", "ivo", 6).unwrap();
        assert_eq!(over(store, "brindle", 7).unwrap_err(), not_offered("brindle"));
        assert_eq!(over(store, "ivo", 107).unwrap_err(), not_offered("ivo"), "it lapsed");
        offer(store, "mole", "ivo", 108).unwrap();
        assert!(!drop_by(store, "brindle", 109) && drop_by(store, "ivo", 109) && !drop_by(store, "ivo", 109));
        assert_eq!(over(store, "ivo", 110).unwrap_err(), not_offered("ivo"), "it was turned down");
        offer(store, "mole", "brindle", 111).unwrap();
        offer(store, "mole", "ivo", 112).unwrap();
        assert_eq!(over(store, "brindle", 113).unwrap_err(), not_offered("brindle"), "it is offered to another now");
        store.set_hold(std::slice::from_ref(&of), true, &cause(114)).unwrap();
        assert!(matches!(over(store, "ivo", 115), Err(PassRefusal::Barred(..))));
        store.set_hold(std::slice::from_ref(&of), false, &cause(116)).unwrap();
        let passed = over(store, "ivo", 117).unwrap();
        assert_eq!(labels(&passed.after), "site=ivo");
        assert_eq!(passed.after.passed, Some(UnixTime(NOW + 117)));
        assert_eq!(store.hand_over(&of).unwrap(), None);
        // What was offered is over when it is given up.
        offer(store, "ivo", "mole", 118).unwrap();
        give_up(store, "gg-1", Some("ivo"), 119).unwrap();
        assert_eq!(over(store, "mole", 120).unwrap_err(), not_offered("mole"));
    });
}

#[test]
fn an_owner_is_added_once_signs_in_by_a_link_once_and_is_retired_without_devices() {
    on_each(|store, _, _| {
        store.add_devices(&[device("gg-1", None)], &cause(1)).unwrap().unwrap();
        add_owners(store, &[("mole", &["site=mole"])]);
        let (mole, ivo) = (owner_id("mole"), owner_id("ivo"));
        let again = done(store, |tx| owner::add(tx, &new_owner("mole", &[]), &cause(2)));
        assert!(matches!(again, Err(OwnerRefusal::Known { .. })));
        let entry = store.entries(2, 9).unwrap().into_iter().find(|entry| entry.act == "owner.add").unwrap();
        assert!(!entry.detail.contains("Ann") && entry.detail.contains("contact_hmac"), "{}", entry.detail);
        let link = |number: u8, made: i64, ends: i64| OwnerPass {
            digest: [number; 32],
            kind: PassKind::Link,
            owner: owner_id("mole"),
            made: UnixTime(NOW + made),
            ends: UnixTime(NOW + ends),
            used: None,
        };
        let made =
            |store: &mut OperatorStore, link: &OwnerPass, at: i64| done(store, |tx| owner::link(tx, link, &cause(at)));
        let sign_in = |store: &mut OperatorStore, link: u8, session: u8, at: i64| {
            let life = Span::from_seconds(600);
            done(store, |tx| Ok(Ok::<_, ()>(owner::sign_in(tx, &[link; 32], &[session; 32], life, &cause(at))?)))
                .unwrap()
                .is_some()
        };
        let who = |store: &OperatorStore, digest: u8, kind, at: i64| {
            let found = store.view(|view| owner::signed_in(view, &[digest; 32], kind, UnixTime(NOW + at))).unwrap();
            found.map(|(owner, _)| owner.id.to_string())
        };
        made(store, &link(1, 3, 100), 3).unwrap();
        assert_eq!(who(store, 1, PassKind::Session, 4), None, "a link is no session");
        assert_eq!((who(store, 1, PassKind::Link, 2), who(store, 1, PassKind::Link, 101)), (None, None));
        assert!(!sign_in(store, 9, 50, 4) && !sign_in(store, 1, 50, 101));
        assert!(sign_in(store, 1, 50, 5) && !sign_in(store, 1, 51, 5), "a link is good once");
        assert_eq!(who(store, 50, PassKind::Session, 600).as_deref(), Some("mole"));
        assert_eq!((who(store, 50, PassKind::Session, 606), who(store, 50, PassKind::Link, 6)), (None, None));
        // All of it ends at once, and what was made before does not count.
        made(store, &link(2, 7, 100), 7).unwrap();
        done(store, |tx| Ok(Ok::<_, ()>(owner::sign_out(tx, &mole, &cause(8))?))).unwrap();
        assert_eq!((who(store, 50, PassKind::Session, 9), sign_in(store, 2, 52, 9)), (None, false));
        // There are only so many.
        for number in 0..20 {
            made(store, &link(100 + number, 10, 50), 10).unwrap();
        }
        assert_eq!(made(store, &link(99, 10, 50), 10), Err(OwnerRefusal::Passes(mole.clone())));
        made(store, &link(99, 60, 90), 60).unwrap();
        assert!(store.owner_pass(&[100; 32]).unwrap().is_none(), "what is over goes");
        let of = |number| store.owner(number).unwrap();
        assert!(of(&ivo).is_none());
        open(store, opened("gg-1", OpenedBy::Person, Some(1), 61, DAY), 61).unwrap();
        taken(store, "gg-1", "mole", 1, 62);
        let retire = |store: &mut OperatorStore| done(store, |tx| owner::retire(tx, &mole, &cause(63)));
        assert_eq!(retire(store), Err(OwnerRefusal::HasDevices(mole.clone(), 1)));
        give_up(store, "gg-1", None, 64).unwrap();
        retire(store).unwrap();
        let gone = store.owner(&mole).unwrap().unwrap();
        assert_eq!((gone.contact, gone.salt, gone.retired), (None, [0; 16], Some(UnixTime(NOW + 63))));
        assert!(!sign_in(store, 99, 53, 65));
        open(store, opened("gg-1", OpenedBy::Person, Some(1), 66, DAY), 66).unwrap();
        assert_eq!(take(store, "gg-1", "mole", 1, 67), Taken::No);
        assert!(matches!(retire(store), Err(OwnerRefusal::Retired(..))));
    });
}

#[test]
fn an_older_store_that_is_put_back_lets_nobody_in_by_what_was_used_since() {
    on_each(|store, _, _| {
        store.add_devices(&[device("gg-1", None), device("gg-2", None)], &cause(1)).unwrap().unwrap();
        add_owners(store, &[("mole", &["site=mole"]), ("ivo", &[])]);
        let pass = |number: u8, kind| OwnerPass {
            digest: [number; 32],
            kind,
            owner: owner_id("mole"),
            made: UnixTime(NOW + 2),
            ends: UnixTime(NOW + DAY),
            used: None,
        };
        for (number, kind) in [(1, PassKind::Link), (2, PassKind::Session)] {
            done(store, |tx| Ok(Ok::<_, ()>(tx.put_owner_pass(&pass(number, kind))?))).unwrap();
        }
        open(store, opened("gg-1", OpenedBy::Person, Some(1), 2, DAY), 2).unwrap();
        open(store, opened("gg-2", OpenedBy::Person, Some(2), 2, DAY), 2).unwrap();
        taken(store, "gg-2", "mole", 2, 3);
        let (mole, ivo) = (owner_id("mole"), owner_id("ivo"));
        let ends = UnixTime(NOW + DAY);
        done(store, |tx| claim::offer(tx, &id("gg-2"), (Some(&mole), &ivo), ends, &cause(3))).unwrap();
        let good = |store: &OperatorStore| {
            let who = |number: u8, kind| {
                store.view(|view| owner::signed_in(view, &[number; 32], kind, UnixTime(NOW + 9))).unwrap().is_some()
            };
            let (offer, open) = (store.hand_over(&id("gg-2")).unwrap(), store.claim(&id("gg-1"), OpenedBy::Person));
            [who(1, PassKind::Link), who(2, PassKind::Session), offer.is_some(), open.unwrap().is_some()]
        };
        // A job that would open more of them is over with it; what others do is not.
        let begin = |store: &mut OperatorStore, kind: JobKind, digest: u8| {
            let new = NewJob { kind, digest: [digest; 32], plan: "{}", position: "{}", parts: &[], subject: "x" };
            let lease = Lease { holder: "ada".into(), until: UnixTime(NOW + 60) };
            store.begin_job(&new, &lease, &cause(3)).unwrap().unwrap()
        };
        let (opens, holds) = (begin(store, JobKind::Open, 1), begin(store, JobKind::Hold, 2));
        let going = |store: &OperatorStore| -> Vec<u32> {
            store.jobs(true, 9).unwrap().into_iter().map(|job| job.number).collect()
        };
        let both = going(store);
        assert!(both.contains(&opens) && both.contains(&holds));
        // The newest there is: nothing can have been used since.
        store.restored(&serde_json::json!({}), None, &cause(4)).unwrap();
        assert_eq!((good(store), going(store)), ([true; 4], both));
        store.restored(&serde_json::json!({}), Some("what came after entry 3 may be missing"), &cause(5)).unwrap();
        assert_eq!((good(store), going(store)), ([false; 4], vec![holds]));
        for owner in [&mole, &ivo] {
            assert_eq!(store.owner(owner).unwrap().unwrap().signed_in_from, UnixTime(NOW + 6), "its tokens too");
        }
    });
}

#[test]
fn nobody_is_retired_to_whom_devices_may_still_come() {
    on_each(|store, _, world| {
        add_owners(store, &[("mole", &[]), ("ivo", &[])]);
        let wanted = |name: &str, owner: &str| AdmissionRecord {
            name: AdmissionName(0),
            device: DeviceRecord { owner: Some(owner_id(owner)), ..device(name, None) },
            demand: Demand::Secret([7; 32]),
            until: UnixTime(NOW + 100),
            end: None,
        };
        let admit = |store: &mut OperatorStore, new: &[AdmissionRecord], at: i64| {
            store.open_admissions(new, &cause(at), &mut |_| Ok(())).unwrap()
        };
        let retire = |store: &mut OperatorStore, name: &str, at: i64| {
            done(store, |tx| owner::retire(tx, &owner_id(name), &cause(at)))
        };
        admit(store, &[wanted("gg-1", "mole"), wanted("gg-2", "mole"), wanted("gg-3", "ivo")], 2).unwrap();
        assert_eq!(retire(store, "mole", 3), Err(OwnerRefusal::HasAdmissions(owner_id("mole"), 2)));
        store.withdraw_admissions(&[AdmissionName(1)], &cause(4)).unwrap().unwrap();
        assert_eq!(retire(store, "mole", 100), Err(OwnerRefusal::HasAdmissions(owner_id("mole"), 1)));
        let certificate = fresh(world, "gg-3");
        let (of, authority) = (id("gg-3"), "devices".parse().unwrap());
        let new = NewCredential::issued(&of, &authority, &certificate, "p256");
        store.use_admission(AdmissionName(3), &new, &cause(5)).unwrap().unwrap();
        assert_eq!(found(store, "gg-3").owner, Some(owner_id("ivo")));
        assert_eq!(retire(store, "ivo", 6), Err(OwnerRefusal::HasDevices(owner_id("ivo"), 1)));
        // What has lapsed brings nobody any more.
        assert_eq!(retire(store, "mole", 101), Ok(()));
        let refused = admit(store, &[wanted("gg-4", "ivo"), wanted("gg-5", "mole")], 102).unwrap_err();
        let (owner, since) = (owner_id("mole"), UnixTime(NOW + 101));
        assert_eq!(refused, [admission::OpenRefusal::OwnerRetired { index: 1, owner, since }]);
    });
}

#[test]
fn of_fifty_who_take_one_device_one_has_it() {
    let (world, dir) = (World::new(), tempfile::tempdir().unwrap());
    let path = dir.path().join("ward.db");
    let mut store = OperatorStore::new(Box::new(new_file(&path, &world)));
    store.add_devices(&[device("gg-1", None)], &cause(1)).unwrap().unwrap();
    let names: Vec<String> = (0..50).map(|number| format!("owner-{number}")).collect();
    names.iter().for_each(|name| add_owners(&mut store, &[(name, &[])]));
    open(&mut store, opened("gg-1", OpenedBy::Person, Some(1), 2, DAY), 2).unwrap();
    let barrier = Barrier::new(names.len());
    let yes: Vec<&String> = std::thread::scope(|scope| {
        let all: Vec<_> = names
            .iter()
            .map(|name| {
                let (path, barrier) = (&path, &barrier);
                scope.spawn(move || {
                    let mut store = OperatorStore::new(Box::new(SqliteStore::open(path).unwrap()));
                    barrier.wait();
                    matches!(take(&mut store, "gg-1", name, 1, 3), Taken::Yes(_)).then_some(name)
                })
            })
            .collect();
        all.into_iter().filter_map(|one| one.join().unwrap()).collect()
    });
    assert_eq!(yes.len(), 1, "{yes:?}");
    assert_eq!(found(&store, "gg-1").owner, Some(owner_id(yes[0])));
    let said = acts(&store, 1);
    let count = |act: &str| said.iter().filter(|each| each.starts_with(act)).count();
    assert_eq!((count("claim.take"), count("claim.refuse")), (1, 49));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// Whatever happens, a device has at most one owner, its history and the record say whose it is, and nobody claims what is somebody's.
    #[test]
    fn a_device_has_at_most_one_owner_and_the_record_says_which(
        all in proptest::collection::vec((0u8..10, 0usize..2, 0usize..3, 0i64..90), 1..60),
    ) {
        let (devices, owners) = (["gg-1", "gg-2"], ["mole", "ivo", "brindle"]);
        let model = new_model(&World::new());
        let mut guard = model.another();
        let mut store = OperatorStore::new(Box::new(model));
        store.add_devices(&devices.map(|name| device(name, None)), &cause(1)).unwrap().unwrap();
        add_owners(&mut store, &[("mole", &["site=mole"]), ("ivo", &["site=ivo"]), ("brindle", &[])]);
        let mut at = 2;
        let code = |of: usize| u8::try_from(of).unwrap() + 1;
        for (what, of, by, later) in all {
            at += later;
            let (name, owner) = (devices[of], owner_id(owners[by]));
            let before: Vec<Option<OwnerId>> = devices.map(|name| found(&store, name).owner).to_vec();
            match what {
                0 | 1 => drop(open(&mut store, opened(name, OpenedBy::Person, Some(code(of)), at, 120), at)),
                2 => {
                    let windows = [opened(name, OpenedBy::Device, Some(code(of)), at, 50)];
                    guard.tally(&Tally::Windows(&windows)).unwrap();
                }
                3 | 4 => {
                    let said = take(&mut store, name, owners[by], code(of), at);
                    prop_assert!(before[of].is_none() || said == Taken::No, "{:?} was taken twice", name);
                }
                5 => drop(take(&mut store, name, owners[by], 99, at)),
                6 => {
                    let given = give_up(&mut store, name, Some(owners[by]), at);
                    prop_assert_eq!(given.is_ok(), before[of].as_ref() == Some(&owner));
                }
                7 => {
                    let ends = UnixTime(NOW + at + 100);
                    drop(done(&mut store, |tx| claim::offer(tx, &id(name), (None, &owner), ends, &cause(at))));
                }
                8 => {
                    let offered = store.hand_over(&id(name)).unwrap();
                    let barred = found(&store, name).barred();
                    let over = done(&mut store, |tx| {
                        claim::take_offered(tx, &id(name), (&owner, &[]), &RULES, &cause(at))
                    });
                    let agreed = offered.is_some_and(|offer| offer.to == owner && offer.is_open(UnixTime(NOW + at)));
                    let agreed = agreed && barred.is_none();
                    prop_assert_eq!(over.is_ok(), agreed);
                }
                _ => {
                    let held = found(&store, name).held.is_some();
                    drop(store.set_hold(&[id(name)], !held, &cause(at)).unwrap());
                }
            }
            for name in devices {
                let now = found(&store, name);
                let history = store.ownerships(&id(name), 99).unwrap();
                let open_ones: Vec<_> = history.iter().filter(|each| each.ended.is_none()).collect();
                prop_assert!(open_ones.len() <= 1);
                prop_assert_eq!(open_ones.first().map(|each| &each.owner), now.owner.as_ref());
                prop_assert!(now.owner.is_none() || store.claim(&id(name), OpenedBy::Person).unwrap().is_none());
                let site = now.labels.get("site").map(|value| value.to_string());
                let want = now.owner.as_ref().filter(|owner| owner.as_str() != "brindle").map(ToString::to_string);
                prop_assert_eq!(site, want, "its place comes and goes with its owner");
            }
        }
        let mut replay = Replay::default();
        store.entries(1, 10_000).unwrap().iter().for_each(|entry| replay.follow(entry));
        for name in devices {
            let by_record = replay.owners.get(name).cloned().flatten();
            prop_assert_eq!(by_record, found(&store, name).owner.map(|owner| owner.to_string()));
        }
    }
}
