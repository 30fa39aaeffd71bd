//! Devices that nobody announced, at a desk that has them wait for a person.

use std::net::SocketAddr;

use hyper::StatusCode;
use tidy_warden_core::asking::{MOST_OF_SOURCE, WAITS};
use tidy_warden_core::credential::BlockSource;
use tidy_warden_core::key::{Signer, SoftwareKey, sha256};

use super::World;
use super::enrol::{body, key};
use crate::answer::{Caller, Said};
use crate::route::Route;

fn world() -> World {
    World::with("[kinds.cabin]\nadmit = \"ask\"\n")
}

/// A caller from a network of its own.
fn from(network: u8) -> Caller {
    let peer: SocketAddr = ([203, 0, network, 9], 4711).into();
    Caller { peer, leaf: None, basic: None }
}

fn digest(key: &SoftwareKey) -> [u8; 32] {
    sha256(key.public_key().spki())
}

impl World {
    fn ask_in(&self, caller: &Caller, key: &SoftwareKey) -> Said {
        self.desk.answer(&Route::Enroll(None), caller, &body(key))
    }

    fn waits(&self, key: &SoftwareKey) -> bool {
        self.bench.ward.store.asking(&digest(key)).unwrap().is_some_and(|waits| waits.refused.is_none())
    }
}

#[test]
fn who_waits_who_was_refused_and_who_may_never_come_hear_the_same() {
    let mut world = world();
    let (waits, refused, blocked) = (key(), key(), key());
    let cause = world.bench.ward.cause(None);
    let taken = [digest(&blocked)];
    world.bench.ward.store.block_keys(&taken, BlockSource::Given, &cause).unwrap();
    let before = [&waits, &refused, &blocked].map(|key| world.ask_in(&from(1), key));
    for said in &before {
        assert_eq!((said.status, said.retry_after), (StatusCode::ACCEPTED, Some(30)), "{said:?}");
    }
    assert!(world.waits(&waits) && world.waits(&refused) && !world.waits(&blocked), "the last one nobody sees");
    world.bench.ward.store.refuse_asking(&digest(&refused), &cause).unwrap().unwrap();
    let entries = world.entries();
    // A week long, from wherever they call: the same words for each, and nothing more in the record.
    for at in [1, 60, WAITS.seconds()] {
        world.at(at);
        let after = [&waits, &refused, &blocked].map(|key| world.ask_in(&from(2), key));
        assert_eq!(after, before, "{at} s after");
    }
    assert_eq!(world.entries(), entries);
    assert!(!world.waits(&refused), "no is no");
}

#[test]
fn a_network_that_fills_the_room_leaves_others_theirs_and_pushes_nobody_out() {
    let world = world();
    let first = key();
    assert_eq!(world.ask_in(&from(1), &first).status, StatusCode::ACCEPTED);
    let rest = usize::try_from(MOST_OF_SOURCE).unwrap() - 1;
    for _ in 0..rest {
        assert_eq!(world.ask_in(&from(1), &key()).status, StatusCode::ACCEPTED);
    }
    let entries = world.entries();
    let late = key();
    let full = world.ask_in(&from(1), &late);
    assert_eq!((full.status, full.retry_after), (StatusCode::SERVICE_UNAVAILABLE, Some(3_600)), "{full:?}");
    assert!(!world.waits(&late) && world.waits(&first));
    assert_eq!(world.entries(), entries, "who finds no room leaves nothing");
    assert_eq!(world.ask_in(&from(1), &first).status, StatusCode::ACCEPTED, "who waits goes on waiting");
    assert_eq!(world.ask_in(&from(2), &late).status, StatusCode::ACCEPTED, "another network has its own room");
    // When they are forgotten there is room again.
    world.at(WAITS.seconds() + 1);
    assert_eq!(world.ask_in(&from(1), &key()).status, StatusCode::ACCEPTED);
}

#[test]
fn whoever_does_not_hold_the_key_of_its_request_waits_for_nobody() {
    let world = world();
    let entries = world.entries();
    let mine = key();
    let mut der = tidy_warden_core::est::decoded(&body(&mine)).unwrap();
    *der.last_mut().unwrap() ^= 1;
    let forged = tidy_warden_core::est::encoded(&der);
    let said = world.desk.answer(&Route::Enroll(None), &from(1), forged.as_bytes());
    assert_eq!(said.status, StatusCode::BAD_REQUEST, "{said:?}");
    assert!(!world.waits(&mine));
    world.desk.is_behind.store(true, std::sync::atomic::Ordering::Relaxed);
    let said = world.ask_in(&from(1), &mine);
    assert_eq!(said.status, StatusCode::SERVICE_UNAVAILABLE, "in doubt nobody is let wait: {said:?}");
    assert_eq!((world.entries(), world.waits(&mine)), (entries, false));
}
