//! Devices at a desk whose clock and store do as a test wants.

use std::collections::BTreeMap;
use std::sync::Arc;

use hyper::StatusCode;
use tidy_warden_core::admission::{AdmissionName, AdmissionRecord, Demand, Secret};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::est;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::request::Request;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::Span;
use tidy_warden_rig::ward::NOW;
use tidy_warden_ward::clock::SystemRandom;

use super::World;
use crate::answer::{Basic, Caller, Said};
use crate::route::Route;

const HOUR: i64 = 3_600;
const DAY: i64 = 86_400;

fn id(text: &str) -> DeviceId {
    text.parse().unwrap()
}

pub(super) fn key() -> SoftwareKey {
    SoftwareKey::generate(NewKey::P256).unwrap()
}

/// A certification request, which asks for nothing but a key, as it stands in a body.
pub(super) fn body(key: &SoftwareKey) -> Vec<u8> {
    est::encoded(&Request::stating(&BTreeMap::new(), key).unwrap()).into_bytes()
}

fn caller(user: &str, secret: Option<&Secret>) -> Caller {
    let secret = secret.map(|secret| Secret::parse(&secret.text()).unwrap());
    let basic = Some(Arc::new(Basic { user: user.to_owned(), secret }));
    Caller { peer: ([198, 51, 100, 7], 4711).into(), leaf: None, basic }
}

fn with_leaf(certificate: &Certificate) -> Caller {
    Caller { leaf: Some(certificate.der().into()), basic: None, ..caller("", None) }
}

/// The certificate in an answer.
fn certificate(said: &Said) -> Certificate {
    assert_eq!((said.status, said.kind), (StatusCode::OK, est::CERTS_ONLY), "{said:?}");
    let all = est::certificates(&est::decoded(&said.body).unwrap()).unwrap();
    Certificate::from_der(&all[0]).unwrap()
}

impl World {
    /// Opens an admission for an hour, and gives its secret.
    fn admit(&mut self, device: &str) -> Secret {
        let secret = Secret::new(&mut SystemRandom);
        let device = DeviceRecord::new(id(device), "cabin".parse().unwrap(), NOW);
        let until = NOW.plus(Span::from_seconds(3_600));
        let demand = Demand::Secret(secret.digest());
        let wanted = AdmissionRecord { name: AdmissionName(0), device, demand, until, end: None };
        let cause = self.bench.ward.cause(None);
        self.bench.ward.store.open_admissions(&[wanted], &cause, &mut |_| Ok(())).unwrap().unwrap();
        secret
    }

    fn enrol(&self, caller: &Caller, key: &SoftwareKey) -> Said {
        self.desk.answer(&Route::Enroll(None), caller, &body(key))
    }

    fn renew(&self, shown: &Certificate, key: &SoftwareKey) -> Said {
        self.desk.answer(&Route::Renew(None), &with_leaf(shown), &body(key))
    }
}

#[test]
fn whoever_has_proved_nothing_hears_the_same_whatever_is_wrong() {
    let mut world = World::new();
    let (open, used, held, out, retired) =
        (world.admit("cb-1"), world.admit("cb-2"), world.admit("cb-3"), world.admit("cb-4"), world.admit("cb-5"));
    // Each asked with its own key, and would be given what it has once more.
    let given = [key(), key(), key(), key()];
    for ((device, secret), key) in
        [("cb-2", &used), ("cb-3", &held), ("cb-4", &out), ("cb-5", &retired)].into_iter().zip(&given)
    {
        certificate(&world.enrol(&caller(device, Some(secret)), key));
    }
    let cause = world.bench.ward.cause(None);
    let store = &mut world.bench.ward.store;
    store.set_hold(&[id("cb-3")], true, &cause).unwrap();
    store.revoke_devices(&[id("cb-4")], Reason::CessationOfOperation, &cause).unwrap();
    store.retire_device(&id("cb-5"), &cause).unwrap();
    let before = world.entries();
    let (other, wrong) = (key(), Secret::new(&mut SystemRandom));
    let nobody = Caller { basic: None, ..caller("", None) };
    let expected = Said::unproved();
    let refused = |world: &World, caller: &Caller, key: &SoftwareKey, what: &str| {
        let said = world.enrol(caller, key);
        assert_eq!(said, expected, "{what}");
    };
    for (user, secret, key, what) in [
        ("cb-1", Some(&wrong), &other, "another secret"),
        ("cb-1", None, &other, "a password that is no secret"),
        ("cb-1", Some(&used), &other, "the secret of another device"),
        ("cb-9", Some(&open), &other, "no such device"),
        ("a-999", Some(&open), &other, "no such admission"),
        ("CB 1\r\n", Some(&open), &other, "a name that is none"),
        ("cb-2", Some(&used), &other, "it is used, and this is another key"),
        ("cb-3", Some(&held), &given[1], "it is on hold"),
        ("cb-4", Some(&out), &given[2], "it is out"),
        ("cb-5", Some(&retired), &given[3], "it is retired"),
    ] {
        refused(&world, &caller(user, secret), key, what);
    }
    refused(&world, &nobody, &other, "nothing is shown");
    world.at(HOUR + 1);
    refused(&world, &caller("cb-1", Some(&open)), &other, "it lapsed");
    assert_eq!(world.entries(), before, "and none of it is in the record");
    let told = world.told();
    assert!(told.iter().any(|line| line.contains("is on hold")), "the log has the reason: {told:?}");
    for secret in [&open, &used, &wrong] {
        assert!(told.iter().all(|line| !line.contains(&**secret.text())));
    }
}

#[test]
fn in_doubt_it_shows_to_nobody_which_admissions_there_are() {
    let mut world = World::new();
    let (open, wrong) = (world.admit("cb-1"), Secret::new(&mut SystemRandom));
    let known = world.enrol(&caller("cb-1", Some(&wrong)), &key());
    assert_eq!(known, world.enrol(&caller("cb-9", Some(&wrong)), &key()));
    let before = world.entries();
    world.desk.is_behind.store(true, std::sync::atomic::Ordering::Relaxed);
    let key = key();
    let known = world.enrol(&caller("cb-1", Some(&wrong)), &key);
    assert_eq!(known.status, StatusCode::SERVICE_UNAVAILABLE);
    assert_eq!(known, world.enrol(&caller("cb-9", Some(&wrong)), &key), "one that is there, and one that is not");
    assert_eq!(known, world.enrol(&caller("cb-1", Some(&open)), &key), "and whoever has the right one");
    assert_eq!(world.entries(), before);
    world.desk.is_behind.store(false, std::sync::atomic::Ordering::Relaxed);
    certificate(&world.enrol(&caller("cb-1", Some(&open)), &key));
}

#[test]
fn a_lost_answer_is_given_again_for_the_same_key_until_it_is_used() {
    let mut world = World::new();
    let (secret, first) = (world.admit("cb-1"), key());
    let by = caller("cb-1", Some(&secret));
    let given = certificate(&world.enrol(&by, &first));
    let entries = world.entries();
    for at in [0, 10, DAY] {
        world.at(at);
        assert_eq!(certificate(&world.enrol(&by, &first)), given, "{at} s after");
        assert_eq!(world.enrol(&by, &key()).status, StatusCode::UNAUTHORIZED, "another key");
    }
    assert_eq!(world.entries(), entries, "once in the record");
    // The clock was put back to before it was made: it is good for nobody then.
    world.at(-DAY);
    assert_eq!(world.enrol(&by, &first).status, StatusCode::UNAUTHORIZED);
    // With the certificate itself: not before it is time, and then once for one key.
    let next = key();
    world.at(DAY);
    let early = world.renew(&given, &next);
    assert_eq!(early.status, StatusCode::FORBIDDEN, "{early:?}");
    assert!(early.retry_after.is_some_and(|seconds| seconds > 0), "{early:?}");
    world.at(given.not_after.0 - NOW.0 - DAY);
    let renewed = certificate(&world.renew(&given, &next));
    assert_ne!(renewed, given);
    assert_eq!(certificate(&world.renew(&given, &next)), renewed, "its answer was lost");
    world.at(given.not_after.0 - NOW.0 + 1);
    assert_eq!(world.renew(&given, &key()).status, StatusCode::UNAUTHORIZED, "what was replaced has ended");
}

#[test]
fn a_certificate_of_whoever_is_barred_or_replaced_renews_nothing() {
    let mut world = World::new();
    let keys: Vec<SoftwareKey> = (0..3).map(|_| key()).collect();
    let names = ["cb-1", "cb-2", "cb-3"];
    let given: Vec<Certificate> = names
        .iter()
        .zip(&keys)
        .map(|(name, key)| {
            let secret = world.admit(name);
            certificate(&world.enrol(&caller(name, Some(&secret)), key))
        })
        .collect();
    let cause = world.bench.ward.cause(None);
    let store = &mut world.bench.ward.store;
    store.set_hold(&[id("cb-1")], true, &cause).unwrap();
    store.revoke_devices(&[id("cb-2")], Reason::KeyCompromise, &cause).unwrap();
    // Late enough to renew, and nobody is told why not.
    world.at(given[0].not_after.0 - NOW.0 - DAY);
    let entries = world.entries();
    let next = key();
    for shown in &given[..2] {
        assert_eq!(world.renew(shown, &next), Said::unproved());
        let connect = world.desk.answer(&Route::Connect, &with_leaf(shown), &[]);
        assert_eq!(connect, Said::unproved());
    }
    // A key that was revoked as compromised is certified for nobody.
    let blocked = world.renew(&given[2], &keys[1]);
    assert_eq!(blocked.status, StatusCode::UNAUTHORIZED, "{blocked:?}");
    assert_eq!(world.entries(), entries);
    certificate(&world.renew(&given[2], &next));
    // Taken off hold, it goes on as before.
    let cause = world.bench.ward.cause(None);
    world.bench.ward.store.set_hold(&[id("cb-1")], false, &cause).unwrap();
    certificate(&world.renew(&given[0], &key()));
    // Something else than a certificate of the ward's has nothing.
    let stranger = world.bench.ward.roots().unwrap().remove(0);
    assert_eq!(world.renew(&stranger.certificate, &key()), Said::unproved());
}

#[test]
fn a_body_that_is_no_request_is_told_so_and_costs_nobody_anything() {
    let mut world = World::new();
    let secret = world.admit("cb-1");
    let (by, good) = (caller("cb-1", Some(&secret)), body(&key()));
    let entries = world.entries();
    let mut forged = est::decoded(&good).unwrap();
    *forged.last_mut().unwrap() ^= 1;
    let forged = est::encoded(&forged).into_bytes();
    for (sent, what) in [
        (&b""[..], "nothing"),
        (b"MIIB", "cut off"),
        (b"-----BEGIN CERTIFICATE REQUEST-----\nMIIB\n", "PEM"),
        (b"\xff\xfe\x00", "no text"),
        (&good[..good.len() / 2], "half of one"),
        (&forged, "its signature is another"),
    ] {
        let said = world.desk.answer(&Route::Enroll(None), &by, sent);
        assert_eq!(said.status, StatusCode::BAD_REQUEST, "{what}: {said:?}");
    }
    assert_eq!(world.entries(), entries);
    certificate(&world.desk.answer(&Route::Enroll(None), &by, &good));
}
