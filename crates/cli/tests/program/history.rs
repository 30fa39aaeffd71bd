//! What happened to a device, and what was true of it on a day that is over.

use std::time::Duration;

use serde_json::Value;

use crate::harness::{Guard, KINDS, POLICY, World, block_on, eventually, in_days};

/// A rehearsal with one wind vane; its clock is the file `now`.
fn rehearsal() -> World {
    let world = World::driven(KINDS);
    world.run(&["device", "add", "wv-1", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.adopt(POLICY);
    world
}

fn events(world: &World, last: &str) -> Vec<Value> {
    let all = world.run(&["device", "events", "wv-1", "--last", last, "--format", "json"]).exits(0).json();
    assert_eq!(all["schema"], "tidy-warden/device-events/1");
    all["events"].as_array().unwrap().clone()
}

fn words(events: &[Value]) -> Vec<(String, String)> {
    let text = |event: &Value, member: &str| event[member].as_str().unwrap().to_owned();
    events.iter().map(|event| (text(event, "source"), text(event, "what"))).collect()
}

#[test]
fn what_a_guard_noticed_and_what_was_done_stand_in_one_list() {
    let world = rehearsal();
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut session = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(!session.publish("rope/ossel/wv-2/wind", b"x").await.unwrap().is_ok());
        world.run(&["hold", "wv-1", "--because", "odd readings", "--yes"]).exits(0);
        assert!(session.ended(Duration::from_secs(10)).await.is_some());
        assert!(world.login("wv-1").connect(guard.address).await.is_err());
    });
    let has = |what: &str| events(&world, "50").iter().any(|event| event["source"] == "guard" && event["what"] == what);
    assert!(eventually(|| (has("connected") && has("cut") && has("refused")).then_some(())).is_some());
    let all = events(&world, "50");
    let of_guard: Vec<String> =
        words(&all).into_iter().filter(|(source, _)| source == "guard").map(|(_, what)| what).collect();
    assert_eq!(of_guard[..3], ["connected", "refused", "cut"], "in their order");
    let of_record: Vec<String> =
        words(&all).into_iter().filter(|(source, _)| source == "record").map(|(_, what)| what).collect();
    // A guard records uses together, a moment after.
    assert_eq!(of_record[..2], ["device.add", "credential.issue"]);
    assert!(
        ["credential.first-use", "hold"].iter().all(|what| of_record.iter().any(|each| each == what)),
        "{of_record:?}"
    );
    let refused = all.iter().find(|event| event["what"] == "refused").unwrap();
    assert!(refused["text"].as_str().unwrap().contains("publish \"rope/ossel/wv-2/wind\""), "{refused}");
    let hold = all.iter().find(|event| event["what"] == "hold").unwrap();
    assert_eq!(hold["because"], "odd readings");
    assert!(hold["number"].is_number() && refused["number"].is_null());
    // The newest are asked for most.
    let last = events(&world, "2");
    assert_eq!(last, all[all.len() - 2..]);
    world.run(&["device", "events", "wv-1", "--format", "csv"]).exits(0).prints(&["at,by,what,text"]);
    world.run(&["device", "events", "wv-9"]).exits(4);
    // They go with the ward.
    drop(guard);
    world.secret("backup.txt", "a rope for backups\n");
    let secret = ["--backup-passphrase-file", "backup.txt"];
    world.run(&[&["store", "backup", "--out", "ward.backup", "--whole"][..], &secret].concat()).exits(0);
    let before = events(&world, "100");
    let back = world
        .run(&[&["--ward", "back", "store", "restore", "ward.backup", "--to", "file", "--yes"][..], &secret].concat());
    back.exits(0);
    let there = world.run(&["--ward", "back", "device", "events", "wv-1", "--format", "json"]).exits(0).json();
    let of = |all: &[Value]| all.iter().filter(|event| event["source"] == "guard").cloned().collect::<Vec<_>>();
    assert_eq!(of(there["events"].as_array().unwrap()), of(&before));
}

#[test]
fn what_was_true_on_a_day_is_told_by_what_had_happened_until_then() {
    let world = rehearsal();
    let day = |days: i64| {
        let at = in_days(days);
        world.write("now", &at);
        at
    };
    let made = day(1);
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    day(3);
    world.run(&["hold", "wv-1", "--because", "odd readings", "--yes"]).exits(0);
    day(5);
    world.run(&["release", "wv-1", "--because", "all is well", "--yes"]).exits(0);
    world.run(&["device", "edit", "wv-1", "--label", "site=brindle", "--because", "moved", "--yes"]).exits(0);
    day(7);
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--because", "stolen", "--yes"]).exits(0);
    day(9);
    let shown =
        |days: i64| world.run(&["device", "show", "wv-1", "--at", &in_days(days), "--format", "json"]).exits(0).json();
    for (days, state, credential) in [
        (0, "listed", None),
        (2, "equipped", Some("equipped")),
        (4, "held", Some("held")),
        (6, "equipped", Some("equipped")),
        (8, "out", Some("revoked")),
    ] {
        let then = shown(days);
        assert_eq!(then["state"], state, "day {days}");
        assert_eq!(then["credentials"][0]["state"].as_str(), credential, "day {days}");
        // No former value is kept of a label: that it was changed since is told.
        assert_eq!(then["changed_since"].as_array().unwrap().len(), usize::from(days < 5), "day {days}");
    }
    world.run(&["device", "show", "wv-1", "--at", &in_days(2)]).exits(0).says(&["they were changed since by entries"]);
    world
        .run(&["device", "show", "wv-1", "--at", &in_days(4)])
        .exits(0)
        .prints(&["may sign in  no: the device is on hold"]);
    world.run(&["device", "show", "wv-1", "--at", &in_days(-1)]).exits(4).says(&["was not listed at"]);
    world.run(&["device", "show", "wv-1", "--at", &in_days(30)]).exits(3).says(&["is not over yet"]);
    world.run(&["device", "show", "wv-1", "--at", "tuesday"]).exits(3).says(&["is not a time"]);

    // Was this certificate good when it signed in?
    let serial = shown(8)["credentials"][0]["serial"].as_str().unwrap().to_owned();
    let good = |days: i64, words: &str| {
        world.run(&["credential", "show", &serial, "--at", &in_days(days)]).exits(0).prints(&[words]);
    };
    good(2, "may sign in  yes");
    good(4, "may sign in  no: the device is on hold");
    good(6, "may sign in  yes");
    good(8, "may sign in  no: its certificate was revoked");
    world
        .run(&["credential", "show", &serial, "--at", &in_days(0)])
        .exits(4)
        .says(&["was not recorded at", &made[..10]]);
}

#[test]
fn whoever_wants_no_history_has_none() {
    let world = rehearsal();
    world.append("w/ward.toml", "[guard]\nkeep_events = false\n");
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut session = world.login("wv-1").connect(guard.address).await.unwrap();
        // Messages are counted and events written at the same moments: with the second count, what came before the first is written.
        for count in 1..=2 {
            assert!(session.publish("rope/ossel/wv-1/wind", b"x").await.unwrap().is_ok());
            let show = || world.run(&["device", "show", "wv-1", "--format", "json"]).exits(0).json();
            assert!(eventually(|| (show()["traffic"]["messages_in"] == count).then_some(())).is_some());
        }
    });
    let all = events(&world, "50");
    assert!(words(&all).iter().all(|(source, _)| source == "record"), "{all:?}");
    assert!(all.iter().any(|event| event["what"] == "credential.first-use"), "{all:?}");
    drop(guard);
}
