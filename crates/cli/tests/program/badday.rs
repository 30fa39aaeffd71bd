//! Bad days: the store is away, put back from yesterday, or an authority is no longer to be trusted. Nobody who is out gets in
//! or stays in beyond the time that is told.

use std::time::Duration;

use tidy_warden_simulate::ConnectError;

use crate::harness::{Guard, World, block_on, eventually};

const SOON: Duration = Duration::from_secs(10);

impl World {
    /// Copies the store as a backup would.
    fn back_up(&self, to: &str) {
        self.other("sqlite3", &["w/ward.db", &format!(".backup {to}")]);
    }

    /// Puts a copy in the store's place, as a restore does.
    fn put_back(&self, from: &str) {
        for leftover in ["w/ward.db-wal", "w/ward.db-shm"] {
            let _ = std::fs::remove_file(self.path(leftover));
        }
        std::fs::rename(self.path(from), self.path("w/ward.db")).unwrap();
    }
}

fn trouble(guard: &Guard, text: &str) {
    guard.event("trouble", |event| event["what"].as_str().is_some_and(|what| what.contains(text)));
}

#[test]
fn a_device_that_was_revoked_before_the_store_went_away_stays_out() {
    let world = World::equipped();
    world.append("w/ward.toml", "\n[guard]\nstore_patience = \"1h\"\n");
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        for id in ["wv-1", "wv-2"] {
            world.login(id).connect(guard.address).await.unwrap().goodbye().await;
        }
        let mut marker = world.login("cr-ossel").connect(guard.address).await.unwrap();
        world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--because", "lost", "--yes"]).exits(0);
        // Once a change made after it has reached the guard, so has the revocation.
        world.run(&["hold", "cr-ossel", "--because", "a marker", "--yes"]).exits(0);
        assert!(marker.ended(SOON).await.is_some());
        // The store goes away for the guard, and goes on elsewhere: another folder with the same files.
        std::fs::create_dir_all(world.path("w2")).unwrap();
        for name in ["ward.db", "ward.db-wal", "ward.db-shm"] {
            std::fs::hard_link(world.path(&format!("w/{name}")), world.path(&format!("w2/{name}"))).unwrap();
        }
        std::fs::copy(world.path("w/ward.toml"), world.path("w2/ward.toml")).unwrap();
        std::fs::remove_file(world.path("w/ward.db")).unwrap();
        trouble(&guard, "the store does not answer");
        let gone = world.login("wv-1").connect(guard.address).await;
        assert!(matches!(gone, Err(ConnectError::Refused { code: 0x88, .. })), "{:?}", gone.err());
        // Who came in by what was known is looked at as soon as the store answers.
        let mut known = world.login("wv-2").connect(guard.address).await.unwrap();
        known.ping().await.unwrap();
        let revoke = ["--ward", "w2", "revoke", "wv-2", "--reason", "keyCompromise", "--because", "lost", "--yes"];
        world.run(&revoke).exits(0);
        std::fs::hard_link(world.path("w2/ward.db"), world.path("w/ward.db")).unwrap();
        trouble(&guard, "the store answers again");
        let how = known.ended(SOON).await;
        assert!(how.as_ref().is_some_and(|how| how.contains("was revoked at")), "{how:?}");
    });
}

#[test]
fn live_sessions_end_when_nobody_knows_for_too_long_unless_told_otherwise() {
    for (keep, ends) in [("end", true), ("keep", false)] {
        let world = World::equipped();
        world.append("w/ward.toml", &format!("\n[guard]\nstore_patience = \"2s\"\nwithout_store = \"{keep}\"\n"));
        let guard = Guard::start(&world, "builtin");
        block_on(async {
            let mut live = world.login("wv-1").connect(guard.address).await.unwrap();
            world.login("wv-2").connect(guard.address).await.unwrap().goodbye().await;
            std::fs::rename(world.path("w/ward.db"), world.path("w/away.db")).unwrap();
            trouble(&guard, "2s");
            if ends {
                let how = live.ended(SOON).await;
                assert!(how.as_ref().is_some_and(|how| how.contains("the store could not be asked for 2s")), "{how:?}");
            } else {
                let over = || async { world.login("wv-2").connect(guard.address).await.is_err() };
                while !over().await {
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
                assert!(live.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok());
            }
        });
    }
}

#[test]
fn a_store_that_was_put_back_is_followed_at_once() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut first = world.login("wv-1").connect(guard.address).await.unwrap();
        let mut second = world.login("wv-2").connect(guard.address).await.unwrap();
        second.ping().await.unwrap();
        // The uses of both credentials are entries of the record; a backup from before them would be an older store.
        assert!(
            eventually(|| world.run(&["audit", "log"]).stdout.matches("credential.first-use").nth(1).map(|_| ()))
                .is_some()
        );
        world.back_up("backup.db");
        world.put_back("backup.db");
        trouble(&guard, "was replaced");
        world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--because", "lost", "--yes"]).exits(0);
        assert!(first.ended(SOON).await.is_some(), "a revocation in the new file reaches a live session");
        assert!(matches!(world.login("wv-1").connect(guard.address).await, Err(ConnectError::Refused { .. })));
        second.ping().await.unwrap();
    });
    assert!(!guard.running.lines().iter().any(|line| line.contains("ALARM")), "{:?}", guard.running.lines());
}

#[test]
fn an_older_store_lets_nobody_in_until_a_person_says_so_also_after_a_restart() {
    let world = World::equipped();
    world.append("w/ward.toml", "\n[guard]\nstore_patience = \"1h\"\n");
    world.run(&["settings", "check"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    let refused = |at| {
        let answer = block_on(async { world.login("wv-1").connect(at).await.map(|_| ()) });
        assert!(matches!(&answer, Err(ConnectError::Refused { code: 0x88, .. })), "{answer:?}");
    };
    world.back_up("yesterday.db");
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--because", "lost", "--yes"]).exits(0);
    let seen = eventually(|| {
        let seen: serde_json::Value = serde_json::from_slice(&std::fs::read(world.path("w/guard.seen")).ok()?).ok()?;
        let entries = world.run(&["--format", "json", "audit", "verify"]).json()["entries"].as_i64();
        (seen["number"].as_i64() == entries).then_some(())
    });
    assert!(seen.is_some(), "the guard keeps how far it has seen the record");
    world.put_back("yesterday.db");
    trouble(&guard, "ALARM: the store is older than what was seen of it");
    refused(guard.address);
    let mut live_metrics = guard;
    live_metrics.running.kill();
    let guard = Guard::start(&world, "builtin");
    trouble(&guard, "ALARM");
    refused(guard.address);
    // A change to the older store does not make it the newer one.
    world.run(&["device", "add", "wv-9", "--kind", "windvane"]).exits(0);
    world.run(&["device", "add", "wv-10", "--kind", "windvane"]).exits(0);
    refused(guard.address);
    world.run(&["store", "accept", "--because", "the disk died"]).exits(2).says(&["add --yes"]);
    world
        .run(&["store", "accept", "--because", "the disk died", "--yes"])
        .exits(0)
        .says(&["what was revoked, held or blocked in between is not known here"])
        .prints(&["accepted the store that ended with entry"]);
    trouble(&guard, "the older store was accepted");
    assert!(block_on(async { world.login("wv-1").connect(guard.address).await.is_ok() }));
    world.run(&["store", "accept", "--yes"]).exits(0);
    world.run(&["audit", "log", "--subject", "the store"]).exits(0).prints(&["store.accept", "the disk died"]);
}

#[test]
fn authorities_follow_the_store_and_what_is_told_of_their_devices_is_true() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut old = world.login("wv-1").connect(guard.address).await.unwrap();
        world.run(&["authority", "add", "second", "--replaces", "devices"]).exits(0);
        world.run(&["device", "add", "wv-3", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
        world.run(&["enroll", "wv-3", "--make-key", "--out", "outfits"]).exits(0);
        guard.event("authorities", |_| true);
        let mut new = world.login("wv-3").connect(guard.address).await.unwrap();
        old.ping().await.unwrap();
        world.run(&["authority", "retire", "devices", "--because", "its key leaked", "--yes", "--anyway"]).exits(0);
        let how = old.ended(SOON).await;
        assert!(how.as_ref().is_some_and(|how| how.contains("no longer trusted")), "{how:?}");
        let again = world.login("wv-1").connect(guard.address).await;
        assert!(again.is_err(), "its chain leads nowhere");
        new.ping().await.unwrap();
    });
    world
        .run(&["credential", "show", "--cert", "outfits/wv-1/device.pem"])
        .exits(0)
        .prints(&["state        distrusted", "its authority `devices` was retired at"]);
    world
        .run(&["device", "show", "wv-1"])
        .exits(0)
        .prints(&["ended", "the authority `devices` of its certificate was retired"]);
    let list = world.run(&["device", "list", "--where", "state = ended", "--format", "json"]).exits(0).json();
    let ids: Vec<&str> = list["devices"].as_array().unwrap().iter().map(|each| each["id"].as_str().unwrap()).collect();
    assert_eq!(ids, ["cr-ossel", "wv-1", "wv-2"]);
}

#[test]
fn a_device_whose_certificate_ended_is_not_one_that_never_had_any() {
    let world = World::new().with("TIDY_WARDEN_NOW", "@now");
    world.write("now", "2026-11-29T10:00:00Z");
    world.run(&["init", "--name", "North fleet", "--host", "localhost", "--rehearsal"]).exits(0);
    world.append("w/ward.toml", crate::harness::KINDS);
    for id in ["wv-1", "wv-2"] {
        world.run(&["device", "add", id, "--kind", "windvane"]).exits(0);
    }
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    world.write("now", "2028-11-29T10:00:00Z");
    let ids = |condition: &str| -> Vec<String> {
        let list = world.run(&["device", "list", "--where", condition, "--format", "json"]).exits(0).json();
        list["devices"].as_array().unwrap().iter().map(|each| each["id"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(ids("state = ended"), ["wv-1"]);
    assert_eq!(ids("state = listed"), ["wv-2"]);
    assert_eq!(ids("cert.ends within 60d"), ["wv-1"], "what has ended is the more urgent");
    assert_eq!(ids("cert.ends within 60d and not state = ended"), Vec::<String>::new());
    assert_eq!(ids("cert.ends before 300d ago"), ["wv-1"]);
    let list = world.run(&["device", "list"]).exits(0);
    assert!(list.stdout.lines().any(|line| line.starts_with("wv-1") && line.contains("2028-01-01")), "{list}");
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&["ended", "its certificate ended on 2028-01-01"]);
    world.run(&["credential", "list", "--where", "cert.ends before 1d ago"]).exits(0).prints(&["wv-1", "expired"]);
}
