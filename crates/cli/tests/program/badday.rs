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

    /// Waits until the guard has noted that it saw the whole record.
    fn guard_has_seen_all(&self) {
        let seen = eventually(|| {
            let seen = std::fs::read(self.path("w/guard.seen")).ok()?;
            let seen: serde_json::Value = serde_json::from_slice(&seen).ok()?;
            let entries = self.run(&["--format", "json", "audit", "verify"]).json()["entries"].as_i64();
            (seen["number"].as_i64() == entries).then_some(())
        });
        assert!(seen.is_some(), "the guard keeps how far it has seen the record");
    }
}

impl World {
    /// Waits until the record holds the first use of so many credentials. A guard writes it a moment after the connection, and
    /// asks anew about whoever it changed.
    pub(crate) fn has_first_uses(&self, many: usize) {
        let uses = || self.run(&["audit", "log"]).stdout.matches("credential.first-use").count();
        assert!(eventually(|| (uses() >= many).then_some(())).is_some(), "{} of {many} first uses", uses());
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
        world.has_first_uses(3);
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
        world.has_first_uses(2);
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
    world.guard_has_seen_all();
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
    drop(guard);
    world.write("w/guard.seen", "{");
    for call in [&["store", "accept", "--yes"][..], &["guard", "--broker", "builtin"]] {
        world.run(call).exits(1).says(&["guard.seen", "it does not hold a place", "remove that file"]);
    }
}

#[test]
fn an_older_store_that_was_accepted_decides_by_its_own_edition_without_a_restart() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    world.back_up("yesterday.db");
    world.adopt(&crate::harness::POLICY.replace("{device}/wind", "{device}/gust"));
    guard.event("edition", |event| event["number"] == 2);
    let publish = || {
        block_on(async {
            let mut device = world.login("wv-1").connect(guard.address).await.unwrap();
            device.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok()
        })
    };
    assert!(!publish());
    world.guard_has_seen_all();
    // Into the file that is open, as the database's own tools do it.
    world.other("sqlite3", &["w/ward.db", ".restore yesterday.db"]).exits(0);
    trouble(&guard, "ALARM");
    world.run(&["store", "accept", "--because", "the disk died", "--yes"]).exits(0);
    guard.event("edition", |event| event["number"] == 1);
    assert!(publish());
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
        // Which of the two is looked at first is a matter of chance.
        let is_why =
            |how: &String| how.contains("no longer trusted") || how.contains("its authority `devices` was retired at");
        assert!(how.as_ref().is_some_and(is_why), "{how:?}");
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

/// Devices that connect and publish without end, and what became of the last try of each.
struct Load {
    tries: std::sync::Arc<std::sync::Mutex<std::collections::HashMap<String, (std::time::Instant, bool)>>>,
    stop: std::sync::Arc<std::sync::atomic::AtomicBool>,
    tasks: Vec<tokio::task::JoinHandle<()>>,
}

impl Load {
    fn start(world: &World, ids: &[&str], at: std::net::SocketAddr) -> Self {
        let tries: std::sync::Arc<std::sync::Mutex<std::collections::HashMap<_, _>>> = std::sync::Arc::default();
        let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
        let tasks = ids
            .iter()
            .map(|id| {
                let (login, id, tries, stop) = (world.login(id), (*id).to_owned(), tries.clone(), stop.clone());
                let topic = format!("rope/ossel/{id}/wind");
                tokio::spawn(async move {
                    let note = |passed| {
                        tries.lock().unwrap().insert(id.clone(), (std::time::Instant::now(), passed));
                    };
                    while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                        if let Ok(mut device) = login.connect(at).await {
                            // A session is kept for a while, so that live ones are there in every phase.
                            for _ in 0..20 {
                                match device.publish(&topic, b"1").await {
                                    Ok(outcome) => note(outcome.is_ok()),
                                    Err(_) => break,
                                }
                                tokio::time::sleep(Duration::from_millis(20)).await;
                            }
                        } else {
                            note(false);
                            tokio::time::sleep(Duration::from_millis(50)).await;
                        }
                    }
                })
            })
            .collect();
        Self { tries, stop, tasks }
    }

    /// Waits until a device's last tries all did or did not pass, for as long as it takes to make some.
    async fn becomes(&self, id: &str, passes: bool) {
        let begun = std::time::Instant::now();
        let mut since = None;
        loop {
            let last = self.tries.lock().unwrap().get(id).copied();
            match last {
                Some((at, passed)) if passed == passes && at > begun => {
                    let first = *since.get_or_insert(at);
                    if at.duration_since(first) > Duration::from_millis(500) {
                        return;
                    }
                }
                _ => since = None,
            }
            assert!(begun.elapsed() < Duration::from_secs(30), "{id} does not become {passes}");
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }
}

#[test]
fn through_a_whole_bad_day_under_load_nobody_who_is_out_gets_in_or_stays() {
    let world = World::init();
    let ids = ["wv-1", "wv-2", "wv-3", "wv-4", "wv-5", "wv-6"];
    let mut list = "id,kind,label.site\n".to_owned();
    ids.iter().for_each(|id| list.push_str(&format!("{id},windvane,ossel\n")));
    world.write("list.csv", list);
    world.run(&["device", "import", "list.csv"]).exits(0);
    world.adopt(crate::harness::POLICY);
    world.append("w/ward.toml", "\n[guard]\nstore_patience = \"2s\"\n");
    ids.iter().for_each(|id| drop(world.run(&["enroll", id, "--make-key", "--out", "outfits"]).exits(0)));
    let broker = crate::harness::Mosquitto::start(&world);
    let port = broker.port;
    let guard = Guard::before(&world, &broker);
    let revoke = |ward: &str, id: &str| {
        let call = ["--ward", ward, "revoke", id, "--reason", "keyCompromise", "--because", "lost", "--yes"];
        world.run(&call).exits(0);
    };
    block_on(async {
        let load = Load::start(&world, &ids, guard.address);
        for id in ids {
            load.becomes(id, true).await;
        }
        // The store goes away for the guard; one device is revoked meanwhile.
        std::fs::create_dir_all(world.path("w2")).unwrap();
        for name in ["ward.db", "ward.db-wal", "ward.db-shm"] {
            std::fs::hard_link(world.path(&format!("w/{name}")), world.path(&format!("w2/{name}"))).unwrap();
        }
        std::fs::copy(world.path("w/ward.toml"), world.path("w2/ward.toml")).unwrap();
        std::fs::remove_file(world.path("w/ward.db")).unwrap();
        revoke("w2", "wv-1");
        // Nobody knows any more who is out: after the told time nobody passes.
        load.becomes("wv-1", false).await;
        load.becomes("wv-6", false).await;
        std::fs::hard_link(world.path("w2/ward.db"), world.path("w/ward.db")).unwrap();
        load.becomes("wv-6", true).await;
        load.becomes("wv-1", false).await;
        // The store is put back from before a revocation.
        world.back_up("yesterday.db");
        revoke("w", "wv-2");
        load.becomes("wv-2", false).await;
        world.guard_has_seen_all();
        world.put_back("yesterday.db");
        load.becomes("wv-6", false).await;
        load.becomes("wv-2", false).await;
        // It is revoked again before the older store is accepted.
        revoke("w", "wv-2");
        world.run(&["store", "accept", "--because", "the disk died", "--yes"]).exits(0);
        load.becomes("wv-6", true).await;
        load.becomes("wv-2", false).await;
        load.becomes("wv-1", false).await;
        // The broker stops, and comes back.
        broker.stop();
        revoke("w", "wv-3");
        load.becomes("wv-6", false).await;
        let _broker = crate::harness::Mosquitto::again(&world, port);
        load.becomes("wv-6", true).await;
        load.becomes("wv-3", false).await;
        // An authority is retired: all that it signed are out, and one that another signed is in.
        world.run(&["authority", "add", "second", "--replaces", "devices"]).exits(0);
        std::fs::rename(world.path("outfits/wv-6"), world.path("outfits/old-6")).unwrap();
        world.run(&["enroll", "wv-6", "--make-key", "--again", "--out", "outfits"]).exits(0);
        world.run(&["authority", "retire", "devices", "--because", "its key leaked", "--yes", "--anyway"]).exits(0);
        for id in ["wv-4", "wv-5"] {
            load.becomes(id, false).await;
        }
        let fresh = eventually(|| {
            tokio::task::block_in_place(|| {
                let login = world.login("wv-6");
                tokio::runtime::Handle::current().block_on(async { login.connect(guard.address).await.is_ok() })
            })
            .then_some(())
        });
        assert!(fresh.is_some());
        for id in ["wv-1", "wv-2", "wv-3"] {
            load.becomes(id, false).await;
        }
        load.stop.store(true, std::sync::atomic::Ordering::Relaxed);
        for task in load.tasks {
            let _ = task.await;
        }
    });
    world.run(&["audit", "verify"]).exits(0);
}
