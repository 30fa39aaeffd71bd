//! Work in many changes: killed at any moment it goes on, and what two are told to do is done once.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::harness::{Running, World};

fn list(count: usize) -> String {
    // Those that stand behind a gateway come before it.
    let rows: String = (0..count)
        .map(|number| match number % 100 {
            7 => format!("cb-{number},cable-clamp,ossel,gt-1\n"),
            _ => format!("wv-{number},windvane,ossel,\n"),
        })
        .collect();
    format!("id,kind,label.site,gateway\n{rows}gt-1,gate,ossel,\n")
}

const KINDS: &str = "\n[kinds.gate]\ncarries = [\"cable-clamp\"]\n[kinds.cable-clamp]\n";

fn open_jobs(world: &World) -> Vec<Value> {
    world.run(&["job", "list", "--format", "json"]).exits(0).json()["jobs"].as_array().unwrap().clone()
}

fn count_all_jobs(world: &World) -> usize {
    world.run(&["job", "list", "--all", "--format", "json"]).exits(0).json()["jobs"].as_array().unwrap().len()
}

/// How many entries of the audit record are of an act.
fn entries(world: &World, act: &str) -> usize {
    let log = world.run(&["audit", "log", "--format", "jsonl"]).exits(0).stdout;
    log.lines().filter(|line| serde_json::from_str::<Value>(line).unwrap()["act"] == act).count()
}

/// Runs a call that is a job, kills it after `delay`, and goes on until it is done; gives how often it was killed while it was one.
fn killed_until_done(world: &World, call: &[&str], mut delay: Duration) -> usize {
    let mut kills = 0;
    let before = count_all_jobs(world);
    let mut next: Vec<String> = call.iter().map(|&word| word.to_owned()).collect();
    loop {
        let words: Vec<&str> = next.iter().map(String::as_str).collect();
        let mut running = Running::start(&mut world.program(&words));
        let begun = Instant::now();
        let mut ended = false;
        while begun.elapsed() < delay && !ended {
            std::thread::sleep(Duration::from_millis(3));
            ended = running.has_ended();
        }
        if !ended {
            running.kill();
        }
        match open_jobs(world).as_slice() {
            [] if ended => return kills,
            // Killed after its end was noted; or before it was noted itself, and then once more.
            [] if count_all_jobs(world) > before => return kills,
            [] => {}
            [job] => {
                kills += 1;
                assert_eq!(job["state"], "waiting", "{job}");
                next = ["job", "resume", &job["number"].to_string()].map(str::to_owned).to_vec();
            }
            more => panic!("{more:?}"),
        }
        delay += delay / 3;
    }
}

#[test]
fn an_import_that_is_killed_goes_on_and_lists_nothing_twice() {
    let world = World::init();
    world.append("w/ward.toml", KINDS);
    world.write("fleet.csv", list(20_000));
    let kills = killed_until_done(&world, &["device", "import", "fleet.csv"], Duration::from_millis(150));
    assert!(kills > 0, "this test shows nothing");
    let ids = world.run(&["device", "list", "--format", "jsonl"]).exits(0).stdout;
    let ids: Vec<Value> = ids.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let distinct: BTreeSet<&str> = ids.iter().map(|device| device["id"].as_str().unwrap()).collect();
    assert_eq!((ids.len(), distinct.len()), (20_001, 20_001));
    world.run(&["audit", "verify"]).exits(0);
    let all = world.run(&["job", "list", "--all"]).exits(0);
    all.prints(&["import", "done", "20001 of 20001"]);
    world.run(&["job", "resume", "1"]).exits(4).says(&["there is no job 1 to go on with"]);
}

#[test]
fn what_is_done_to_many_devices_goes_on_when_it_is_killed() {
    let world = World::init();
    world.append("w/ward.toml", KINDS);
    world.write("fleet.csv", list(4_000));
    world.run(&["device", "import", "fleet.csv"]).exits(0);
    let hold = ["hold", "--where", "site = ossel", "--count", "4001", "--because", "a storm"];
    let kills = killed_until_done(&world, &hold, Duration::from_millis(120));
    let held = |world: &World| {
        world.run(&["device", "list", "--where", "state = held", "--format", "jsonl"]).exits(0).stdout.lines().count()
    };
    assert_eq!(held(&world), 4_001);
    assert_eq!(entries(&world, "hold"), 4_001, "each once, with {kills} kills");
    assert_eq!((entries(&world, "job.begin"), entries(&world, "job.end")), (1, 1));

    // Two that are told to do the same at the same moment do it once.
    let release = ["release", "--where", "site = ossel", "--count", "4001", "--because", "it is over"];
    let calls = [0, 1].map(|_| Running::start(&mut world.program(&release)));
    for mut running in calls {
        while !running.has_ended() {
            std::thread::sleep(Duration::from_millis(5));
        }
    }
    assert_eq!((held(&world), open_jobs(&world).len()), (0, 0));
    assert_eq!(entries(&world, "release"), 4_001);

    let edit = ["device", "edit", "--where", "site = ossel", "--label", "site=brindle", "--count", "4001"];
    world.run(&edit).exits(0).says(&["changed 4001 devices"]);
    let revoke = [
        "revoke",
        "--where",
        "site = brindle",
        "--reason",
        "superseded",
        "--count",
        "4001",
        "--because",
        "sold",
        "--format",
        "json",
    ];
    let revoked = world.run(&revoke).exits(0).json();
    assert!(revoked["run"].is_u64(), "{revoked}");
    let number = revoked["run"].to_string();
    world.run(&["job", "show", &number]).exits(0).prints(&["revoke", "done", "4001 of 4001", "sold"]);
    world.run(&["job", "stop", &number, "--yes"]).exits(4);
    world.run(&["audit", "verify"]).exits(0);
}

/// Starts a command that is a long job, and kills it when the store has taken the first of it; gives the job's number. `leaves` is a file
/// that it writes before.
fn killed_at_its_beginning(world: &World, call: &[&str], leaves: &str) -> String {
    // Whatever else opening the ward writes was written then.
    world.run(&["device", "list"]).exits(0);
    for turn in 0..50 {
        let mut running = Running::start(&mut world.program(call));
        let mut ended = false;
        while world.store_log() == 0 && !ended {
            std::thread::sleep(Duration::from_micros(300));
            ended = running.has_ended();
        }
        // What is in the log first is not yet committed.
        std::thread::sleep(Duration::from_millis(turn));
        running.kill();
        if let Some(job) = open_jobs(world).first() {
            return job["number"].to_string();
        }
        // Killed before the job was there: what was written before it stands in the way of the next try.
        std::fs::remove_file(world.path(leaves)).unwrap_or_default();
        assert!(!ended, "it was over before it was killed: {}", running.lines().join("\n"));
    }
    panic!("no job was begun in fifty tries");
}

#[test]
fn what_a_long_import_refuses_is_kept_before_anything_is_taken() {
    let world = World::init();
    world.append("w/ward.toml", KINDS);
    world.run(&["device", "add", "wv-1", "--kind", "windvane"]).exits(0);
    world.write("fleet.csv", list(12_000).replace("wv-2,windvane", "WV-2,windvane"));
    let call = ["device", "import", "fleet.csv", "--rejects", "no.csv"];
    let number = killed_at_its_beginning(&world, &call, "no.csv");
    world.run(&["job", "resume", &number]).exits(0);
    let refused = std::fs::read_to_string(world.path("no.csv")).unwrap();
    assert_eq!(refused.lines().count(), 3, "{refused}");
    assert!(refused.contains("the id `wv-1` is taken") && refused.contains("WV-2,"), "{refused}");
    let listed = world.run(&["device", "list", "--format", "jsonl"]).exits(0).stdout.lines().count();
    assert_eq!(listed, 12_000, "all but the one that was refused, and the one that was there");
}

#[test]
fn a_job_can_be_ended_where_it_stands() {
    let world = World::init();
    world.append("w/ward.toml", KINDS);
    world.write("fleet.csv", list(20_000));
    let number = killed_at_its_beginning(&world, &["device", "import", "fleet.csv"], "none");
    let shown = world.run(&["job", "show", &number]).exits(0);
    shown.prints(&["import", "waiting", "fleet.csv"]).says(&["job resume", "job stop"]);
    world.write("fleet.csv", list(19_999));
    world.run(&["job", "resume", &number]).exits(3).says(&["is not the list that the job was begun with"]);
    world.run(&["job", "stop", &number, "--yes"]).exits(5).prints(&["is stopped"]);
    world.run(&["job", "list"]).exits(0).says(&["no job that has not ended"]);
    world.run(&["job", "show", "99"]).exits(4).says(&["there is no job 99"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn codes_for_many_are_good_once_their_job_has_gone_on() {
    let world = World::init();
    world.append("w/ward.toml", "\n[kinds.cable-clamp]\nnames = [\"dns:{device}.example.org\"]\n");
    let rows: String = (0..2_500).map(|number| format!("cb-{number:04},cable-clamp\n")).collect();
    world.write("fleet.csv", format!("id,kind\n{rows}"));
    world.run(&["device", "import", "fleet.csv"]).exits(0);
    world.run(&["owner", "add", "mole"]).exits(0);
    let open = ["claim", "open", "--where", "kind = cable-clamp", "--count", "2500", "--out", "codes.csv"];
    let number = killed_at_its_beginning(&world, &open, "codes.csv");
    world.run(&open).exits(3).says(&["codes.csv exists"]);
    world.run(&["job", "show", &number]).exits(0).prints(&["open", "of 2500"]);
    world.run(&["job", "resume", &number]).exits(0).prints(&["(open) is done: 2500 devices"]);
    let codes = std::fs::read_to_string(world.path("codes.csv")).unwrap();
    let rows: Vec<Vec<&str>> = codes.lines().skip(1).map(|line| line.split(',').collect()).collect();
    assert_eq!(rows.len(), 2_500);
    for at in [0, 999, 1_000, 2_499] {
        world.run(&["claim", "take", rows[at][0], "--code", rows[at][1], "--owner", "mole", "--yes"]).exits(0);
    }
    let given = ["claim", "give-up", "--where", "owner = mole", "--count", "4", "--because", "x"];
    world.run(&given).exits(0).says(&["gave up 4 devices"]);
    world.run(&["audit", "verify"]).exits(0);
}
