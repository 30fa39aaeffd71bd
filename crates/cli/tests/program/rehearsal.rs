//! Rehearsals: a ward whose clock is set, so that ends can be seen without waiting for them.

use std::time::Duration;

use tidy_warden_simulate::ConnectError;

use crate::harness::{Guard, KINDS, POLICY, World, block_on, in_hours};

/// A rehearsal with one wind vane; its clock is the file `now`.
fn rehearsal() -> World {
    let world = World::driven(&KINDS.replace("token_login = true", "token_login = true\nlife = \"30d\""));
    world.run(&["device", "add", "wv-1", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.adopt(POLICY);
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    world
}

#[test]
fn a_session_ends_when_the_credential_that_opened_it_ends() {
    let world = rehearsal();
    let guard = Guard::start(&world, "builtin");
    let token = world.run(&["token", "issue", "wv-1", "--for", "2h"]).exits(0).stdout.trim().to_owned();
    block_on(async {
        let mut by_token = tidy_warden_simulate::Login::new(&world.root("wv-1"), None, "localhost", "wv-1:t").unwrap();
        by_token.token = Some(("wv-1".to_owned(), token.into_bytes()));
        let by_certificate = world.login("wv-1");
        let mut token_session = by_token.connect(guard.address).await.unwrap();
        let mut certificate_session = by_certificate.connect(guard.address).await.unwrap();
        world.write("now", in_hours(3));
        assert!(token_session.ended(Duration::from_secs(10)).await.is_some_and(|how| how.contains("token ended")));
        assert!(certificate_session.publish("rope/ossel/wv-1/wind", b"x").await.unwrap().is_ok());
        world.write("now", in_hours(31 * 24));
        assert!(certificate_session.ended(Duration::from_secs(10)).await.is_some_and(|how| how.contains("ended at")));
        // Resumed: the verifier is not asked, the check at CONNECT is.
        let resumed = by_certificate.connect(guard.address).await;
        assert!(matches!(resumed, Err(ConnectError::Refused { code: 0x87, .. })), "{:?}", resumed.err());
        // Not resumed: a TLS alert.
        let fresh = world.login("wv-1").connect(guard.address).await;
        assert!(matches!(fresh, Err(ConnectError::Io(_))), "{:?}", fresh.err());
    });
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&["its certificate ended on", "enroll wv-1 --csr"]);
}

#[test]
fn a_rehearsal_is_marked_and_kept_in() {
    let world = rehearsal();
    let log = world.run(&["audit", "log", "--format", "json"]).exits(0).json();
    assert_eq!(log["entries"][0]["detail"]["rehearsal"], true);
    assert!(!std::fs::read_to_string(world.path("w/ward.toml")).unwrap().to_lowercase().contains("rehearsal\n"));
    world.run(&["guard", "--listen", "0.0.0.0:0", "--broker", "builtin"]).exits(3).says(&["rehearsal"]);
    world.write("now", "tomorrow");
    world.run(&["device", "list"]).exits(2).says(&["not a time"]);
}

#[test]
fn a_real_ward_does_not_take_its_clock_from_a_variable() {
    let world = World::real().with("TIDY_WARDEN_NOW", "2020-01-01T00:00:00Z");
    world.run(&["device", "list"]).exits(2).says(&["this is a real ward", "unset TIDY_WARDEN_NOW"]);
    world.run(&["--ward", "x", "init", "--name", "n"]).exits(2);
}
