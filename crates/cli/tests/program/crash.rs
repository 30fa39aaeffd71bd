//! Two commands at once, and kill -9 at any moment.

use std::time::{Duration, Instant};

use tidy_warden_core::certificate::Certificate;

use crate::harness::{Running, World, exists};

#[test]
fn commands_that_write_at_once_all_succeed() {
    let world = World::init();
    std::thread::scope(|scope| {
        for lane in 0..4 {
            let world = &world;
            scope.spawn(move || {
                for number in 0..8 {
                    let id = format!("wv-{lane}-{number}");
                    world.run(&["device", "add", &id, "--kind", "windvane"]).exits(0);
                }
            });
        }
    });
    let list = world.run(&["device", "list", "--format", "json"]).exits(0).json();
    assert_eq!(list["devices"].as_array().unwrap().len(), 32);
    world.run(&["audit", "verify"]).exits(0).prints(&["34 entries"]);
    // Of two that enrol one device, exactly one wins.
    let codes: Vec<i32> = std::thread::scope(|scope| {
        let lanes: Vec<_> = ["a", "b"]
            .map(|out| {
                let world = &world;
                scope.spawn(move || world.run(&["enroll", "wv-0-0", "--make-key", "--out", out]).code)
            })
            .into_iter()
            .collect();
        lanes.into_iter().map(|lane| lane.join().unwrap()).collect()
    });
    let mut sorted = codes;
    sorted.sort_unstable();
    assert_eq!(sorted, [0, 3]);
    assert_ne!(exists(&world.path("a/wv-0-0")), exists(&world.path("b/wv-0-0")));
    world.run(&["audit", "verify"]).exits(0);
}

/// The fingerprints of a device's certificates, as the store knows them.
fn known(world: &World, id: &str) -> Vec<String> {
    let shown = world.run(&["device", "show", id, "--format", "json"]).exits(0).json();
    let credentials = shown["credentials"].as_array().unwrap();
    credentials.iter().map(|credential| credential["fingerprint"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn a_killed_enrolment_leaves_no_certificate_without_its_outfit() {
    let world = World::init();
    world.run(&["device", "add", "wv-0", "--kind", "windvane"]).exits(0);
    let begun = Instant::now();
    world.run(&["enroll", "wv-0", "--make-key", "--out", "o"]).exits(0);
    let whole = begun.elapsed();
    let rounds: u32 = 24;
    let mut finished = 0;
    for round in 0..rounds {
        let id = format!("wv-k{round}");
        world.run(&["device", "add", &id, "--kind", "windvane"]).exits(0);
        let mut enrolling = Running::start(&mut world.program(&["enroll", &id, "--make-key", "--out", "o"]));
        // From long before the end to a little behind it.
        let share = 0.2 + f64::from(round) / f64::from(rounds);
        std::thread::sleep(Duration::from_secs_f64(whole.as_secs_f64() * share));
        enrolling.kill();
        world.run(&["audit", "verify"]).exits(0);
        let outfit = world.path(&format!("o/{id}"));
        let known = known(&world, &id);
        if let Some(fingerprint) = known.first() {
            finished += 1;
            assert_eq!(known.len(), 1);
            let pem = std::fs::read_to_string(outfit.join("device.pem")).unwrap();
            assert_eq!(Certificate::from_pem(&pem).unwrap().fingerprint.to_string(), *fingerprint);
            assert!(outfit.join("device.key").exists(), "round {round}: the key is where the store says it is");
        } else if exists(&outfit) {
            // Killed between outfit and record: the certificate in it opens nothing, and the next run says so.
            world.run(&["enroll", &id, "--make-key", "--out", "o"]).exits(3).says(&["exists already"]);
        } else {
            world.run(&["enroll", &id, "--make-key", "--out", "o"]).exits(0);
        }
    }
    assert!(finished < rounds, "every run finished before it was killed: this test killed nothing");
}

#[test]
fn a_killed_import_lists_all_or_nothing() {
    let world = World::init();
    let rows: String = (0..3000).map(|number| format!("wv-{number},windvane,ossel,QF-{number}\n")).collect();
    world.write("list.csv", format!("id,kind,label.site,fact.serial\n{rows}"));
    let mut counts = Vec::new();
    for delay in [20, 60, 120, 200, 300] {
        let mut importing = Running::start(&mut world.program(&["device", "import", "list.csv"]));
        std::thread::sleep(Duration::from_millis(delay));
        importing.kill();
        let list = world.run(&["device", "list", "--format", "jsonl"]).exits(0).stdout.lines().count();
        counts.push(list);
        world.run(&["audit", "verify"]).exits(0);
    }
    assert!(counts.iter().all(|count| *count == 0 || *count == 3000), "{counts:?}");
    if counts.last() == Some(&0) {
        world.run(&["device", "import", "list.csv"]).exits(0);
    }
    world.run(&["device", "import", "list.csv"]).exits(3).says(&["3000 of its rows are bad", "and 2980 more"]);
}
