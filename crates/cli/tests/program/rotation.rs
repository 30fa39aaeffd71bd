//! Rotations: rounds that are judged, a device that is silent, and whoever drives them.

use serde_json::Value;

use crate::desk::Desk;
use crate::harness::{Guard, KINDS, World, block_on, eventually, in_days};

/// A rehearsal with wind vanes that have certificates; its clock is the file `now`.
fn rehearsal(devices: usize) -> World {
    let world = World::driven_with(KINDS, devices);
    // What was issued in the second of the question might be taken for its answer.
    world.write("now", in_days(1));
    world
}

fn status(world: &World, name: &str) -> Value {
    let status = world.run(&["rotation", "status", name, "--format", "json"]).exits(0).json();
    assert_eq!(status["schema"], "tidy-warden/rotation/1");
    status
}

/// How many devices of a round are where.
fn counted(world: &World, name: &str, round: usize, what: &str) -> u64 {
    status(world, name)["rounds"][round][what].as_u64().unwrap()
}

fn soon(what: &str, mut is_so: impl FnMut() -> bool) {
    assert!(eventually(|| is_so().then_some(())).is_some(), "{what}");
}

/// Those that were asked to renew.
fn asked(world: &World) -> Vec<String> {
    let all = world.run(&["device", "list", "--format", "json"]).exits(0).json();
    let ids = all["devices"].as_array().unwrap().iter().map(|each| each["id"].as_str().unwrap().to_owned());
    ids.filter(|id| !world.run(&["device", "show", id, "--format", "json"]).exits(0).json()["renew_asked"].is_null())
        .collect()
}

#[test]
fn rounds_go_on_when_they_are_good_and_stop_when_a_device_is_silent() {
    let world = rehearsal(4);
    let prepare = [
        "rotation",
        "prepare",
        "spring",
        "--where",
        "kind = windvane",
        "--rounds",
        "25%,100%",
        "--because",
        "a new root",
    ];
    let plan = world.run(&[&prepare[..], &["--dry-run", "--format", "json"]].concat()).exits(0).json();
    assert_eq!((plan["rounds"][0]["devices"].as_u64(), plan["rounds"][1]["devices"].as_u64()), (Some(1), Some(3)));
    world.run(&["rotation", "status", "spring"]).exits(4).says(&["there is no rotation `spring`"]);
    world.run(&prepare).exits(0).says(&["nobody was asked yet: rotation start spring"]);
    world.run(&prepare).exits(3).says(&["there is a rotation `spring` already"]);
    assert_eq!(status(&world, "spring")["state"], "prepared");
    world.run(&["rotation", "run", "spring", "--once"]).exits(0);
    assert_eq!(asked(&world), Vec::<String>::new(), "nobody before a person says so");
    world.run(&["rotation", "start", "spring"]).exits(2).says(&["add --yes"]);

    let desk = Desk::start(&world);
    let guard = Guard::start(&world, "builtin");
    let url = format!("https://localhost:{}", desk.address.port());
    let renew = |id: &str| world.run(&["join", &url, "--renew", "--out", &format!("outfits/{id}")]);
    renew("wv-1").exits(0).says(&["nothing to do yet"]);
    world.run(&["rotation", "start", "spring", "--yes"]).exits(0);
    soon("one is asked", || counted(&world, "spring", 0, "asked") == 1);
    let first = asked(&world);
    assert_eq!(first.len(), 1, "and nobody else");
    let others: Vec<String> = (1..=4).map(|number| format!("wv-{number}")).filter(|id| *id != first[0]).collect();
    renew(&others[0]).exits(0).says(&["nothing to do yet"]);
    world.write("now", in_days(2));
    renew(&first[0]).exits(0);
    soon("it has its next certificate", || counted(&world, "spring", 0, "renewed") == 1);
    assert_eq!(counted(&world, "spring", 1, "waiting"), 3, "the next round waits until that is used");
    renew(&first[0]).exits(0).says(&["nothing to do yet"]);
    block_on(async { drop(world.login(&first[0]).connect(guard.address).await.unwrap()) });
    soon("it is confirmed, and the next round asks", || counted(&world, "spring", 1, "asked") == 3);
    let now = status(&world, "spring");
    assert_eq!((now["rounds"][0]["state"].as_str(), now["rounds"][0]["confirmed"].as_u64()), (Some("good"), Some(1)));
    assert_eq!(now["rounds"][1]["state"], "running");
    desk.event("rotation", |event| event["round"] == 2);

    // Two do what they are asked to, and one is silent.
    world.write("now", in_days(3));
    for id in &others[..2] {
        renew(id).exits(0);
        block_on(async { drop(world.login(id).connect(guard.address).await.unwrap()) });
    }
    soon("they are confirmed", || counted(&world, "spring", 1, "confirmed") == 2);
    assert_eq!(status(&world, "spring")["state"], "running", "the third has time");
    world.write("now", in_days(12));
    soon("it stops by itself", || status(&world, "spring")["state"] == "stopped");
    let stopped = status(&world, "spring");
    assert!(stopped["why"].as_str().unwrap().contains("1 of 3 failed or were silent"), "{stopped}");
    assert_eq!(
        (stopped["troubled"][0]["device"].as_str(), stopped["troubled"][0]["state"].as_str()),
        (Some(&*others[2]), Some("overdue"))
    );
    world.run(&["rotation", "status", "spring"]).exits(0).prints(&["stopped", "overdue", "did not renew"]);
    world.run(&["rotation", "start", "spring", "--yes"]).exits(3).says(&["rotation resume spring"]);
    world.run(&["rotation", "list"]).exits(0).prints(&["spring", "4 of 4", "a new root"]);
    world.run(&["rotation", "show", "spring"]).exits(0).prints(&["kind = windvane", "1, 3", "5% of a round"]);
    // One that is stopped can be ended whoever had it a moment ago; that is tried with another.
    world.run(&["rotation", "prepare", "second", "--where", "id = wv-1", "--rounds", "100%"]).exits(0);
    world.run(&["rotation", "start", "second", "--yes"]).exits(0);
    soon("the desk has it", || counted(&world, "second", 0, "asked") == 1);
    let second = status(&world, "second")["run"].as_u64().unwrap().to_string();
    world.run(&["job", "stop", &second, "--yes"]).exits(3).says(&["is not stopped", "rotation stop second"]);
    world.run(&["rotation", "stop", "second", "--yes"]).exits(0);
    world.run(&["job", "stop", &second, "--yes"]).exits(0);
    // A person has seen that one did not renew, and it goes on: here to its end.
    drop(desk);
    let number = stopped["run"].as_u64().unwrap().to_string();
    world.run(&["job", "resume", &number]).exits(3).says(&["rotation status spring"]);
    world.run(&["rotation", "resume", "spring", "--yes", "--because", "wv is in the workshop"]).exits(0);
    world.run(&["rotation", "run", "spring"]).exits(0).says(&["`spring` is done"]);
    let done = status(&world, "spring");
    assert_eq!((done["state"].as_str(), done["rounds"][1]["overdue"].as_u64()), (Some("done"), Some(1)));
    world.run(&["rotation", "resume", "spring", "--yes"]).exits(3).says(&["has ended"]);
    world.run(&["audit", "verify"]).exits(0).prints(&["is whole", "hold what it says"]);
}

#[test]
fn two_who_drive_it_ask_nobody_twice_and_no_more_than_the_hour_lets_them() {
    let world = rehearsal(40);
    let prepare = [
        "rotation",
        "prepare",
        "slow",
        "--where",
        "kind = windvane",
        "--rounds",
        "100%",
        "--per-hour",
        "7",
        "--by-hand",
    ];
    world.run(&prepare).exits(0);
    world.run(&["rotation", "start", "slow", "--yes"]).exits(0);
    let both = || {
        std::thread::scope(|scope| {
            for _ in 0..3 {
                // Who comes second is told that another has it, or that all is done.
                scope.spawn(|| world.run(&["rotation", "run", "slow", "--once"]).exits(0));
            }
        });
    };
    let told = |world: &World| {
        let log = world.run(&["audit", "log", "--subject", "slow", "--format", "json"]).exits(0).json();
        let counts = log["entries"].as_array().unwrap().iter().filter(|entry| entry["act"] == "rotation.ask");
        counts.map(|entry| entry["detail"]["count"].as_u64().unwrap()).collect::<Vec<_>>()
    };
    both();
    both();
    assert_eq!(told(&world), [7]);
    assert_eq!(asked(&world).len(), 7);
    // Stopped, nobody is asked; and the next hour brings the next seven.
    world.run(&["rotation", "stop", "slow", "--yes"]).exits(0);
    world.write("now", in_days(2));
    world.run(&["rotation", "run", "slow", "--once"]).exits(3);
    assert_eq!(told(&world), [7]);
    world.run(&["rotation", "resume", "slow", "--yes"]).exits(0);
    both();
    assert_eq!(told(&world), [7, 7]);
    assert_eq!(counted(&world, "slow", 0, "asked"), 14);
    assert_eq!(counted(&world, "slow", 0, "waiting"), 26);
}

#[test]
fn a_plan_says_whom_it_leaves_out_and_what_it_cannot_be() {
    let world = rehearsal(3);
    world.run(&["device", "add", "wv-9", "--kind", "windvane"]).exits(0);
    world.run(&["hold", "wv-2", "--because", "odd", "--yes"]).exits(0);
    let prepare = |more: &[&str]| {
        world.run(&[&["rotation", "prepare", "x", "--where", "kind = windvane", "--dry-run"][..], more].concat())
    };
    prepare(&[])
        .exits(0)
        .says(&["left out: 1 device on hold, out or retired", "left out: 1 device without a certificate"])
        .prints(&["2 devices in all"]);
    for (more, code, words) in [
        (&["--rounds", "50%,10%"][..], 2, "each round must reach more"),
        (&["--rounds", "a few"][..], 3, "is not a share"),
        (&["--hours", "25-3"][..], 2, "no hours of the day"),
        (&["--hours", "8-8"][..], 2, "no hours of the day"),
        (&["--until", "2020-01-01T00:00:00Z"][..], 3, "nobody could be asked"),
        (&["--per-hour", "0"][..], 2, "per-hour"),
        (&["--most-failed", "200%"][..], 3, "is not a share"),
    ] {
        prepare(more).exits(code).says(&[words]);
    }
    world.run(&["rotation", "prepare", "x", "--where", "kind = nothing", "--dry-run"]).exits(4);
    world.run(&["rotation", "prepare", "X y", "--where", "kind = windvane", "--dry-run"]).exits(3);
    world.run(&["rotation", "list"]).exits(0).says(&["no rotations"]);
    // A round for each site, and those without one last.
    world.run(&["device", "edit", "wv-3", "--label", "site=brindle", "--yes"]).exits(0);
    world.run(&["enroll", "wv-9", "--make-key", "--out", "outfits"]).exits(0);
    let by_site = prepare(&["--by", "site", "--format", "json"]).exits(0).json();
    let rounds = by_site["rounds"].as_array().unwrap().iter();
    assert_eq!(
        rounds.map(|round| (round["of"].as_str().unwrap(), round["devices"].as_u64().unwrap())).collect::<Vec<_>>(),
        [("brindle", 1), ("ossel", 1), ("-", 1)]
    );
    prepare(&["--by", "site"]).exits(0).prints(&["NUMBER  DEVICES  SITE", "1  1        brindle"]);
    prepare(&["--by", "site", "--rounds", "10%"]).exits(2);
    // By groups: by name as by rule, in the order that is given, each device once.
    world.run(&["group", "make", "first", "--device", "wv-9"]).exits(0);
    world.run(&["group", "make", "seaside", "--where", "site = ossel or site = brindle"]).exits(0);
    let by_groups = |groups: &str| {
        let plan = prepare(&["--by-group", groups, "--format", "json"]).exits(0).json();
        let rounds = plan["rounds"].as_array().unwrap().iter();
        rounds.map(|round| format!("{} {}", round["of"].as_str().unwrap(), round["devices"])).collect::<Vec<_>>()
    };
    assert_eq!(by_groups("first,seaside"), ["first 1", "seaside 2"]);
    assert_eq!(by_groups("seaside,first"), ["seaside 2", "first 1"]);
    assert_eq!(by_groups("seaside"), ["seaside 2", "- 1"]);
    world.run(&["group", "make", "all", "--where", "kind = windvane"]).exits(0);
    prepare(&["--by-group", "all,first"])
        .exits(0)
        .says(&["no round for the group `first`"])
        .prints(&["NUMBER  DEVICES  GROUP"]);
    prepare(&["--by-group", "all,firts"]).exits(4).says(&["did you mean `first`?"]);
    prepare(&["--by-group", "all,zzzzzzzz"]).exits(4).says(&["group list shows what there is"]);
    prepare(&["--by-group", "all,all"]).exits(2).says(&["named twice"]);
    prepare(&["--by-group", "all", "--by", "site"]).exits(2);
    world.run(&["rotation", "prepare", "sites", "--where", "kind = windvane", "--by", "site"]).exits(0);
    assert_eq!(status(&world, "sites")["rounds"][2]["devices"], 1);
    world.run(&["rotation", "start", "sites", "--yes"]).exits(0);
    world.run(&["rotation", "run", "sites", "--once"]).exits(0);
    assert_eq!(asked(&world), ["wv-3"], "that of the first site");
    world.run(&["rotation", "prepare", "groups", "--where", "kind = windvane", "--by-group", "first,seaside"]).exits(0);
    world.run(&["rotation", "start", "groups", "--yes"]).exits(0);
    world.run(&["rotation", "run", "groups", "--once"]).exits(0);
    assert_eq!(asked(&world), ["wv-3", "wv-9"], "that of the first group");
    world.run(&["rotation", "stop", "groups", "--yes"]).exits(0);
    world.run(&["hold", "wv-9", "--because", "away", "--yes"]).exits(0);
    // Whom a new authority is for, and whom the old one's end would hurt.
    let hurt = || {
        world.run(&["authority", "show", "devices", "--format", "json"]).exits(0).json()["devices_that_need_it"].clone()
    };
    assert_eq!(hurt(), 2, "one of the three is on hold");
    world
        .run(&["authority", "show", "devices"])
        .exits(0)
        .prints(&["if retired", "2 devices could not sign in any more, such as wv-1, wv-3"]);
    world.run(&["authority", "add", "devices-2", "--replaces", "devices"]).exits(0);
    world.run(&["enroll", "wv-1", "--make-key", "--again", "--out", "again"]).exits(0);
    prepare(&["--signed-by", "devices"])
        .exits(0)
        .says(&["with a newest certificate that is not meant"])
        .prints(&["1 device in all"]);
    prepare(&["--signed-by", "devices-2"]).exits(0).prints(&["1 device in all"]);
    prepare(&["--key-type", "p384"]).exits(4);
    prepare(&["--key-type", "p256"]).exits(0).prints(&["2 devices in all"]);
    prepare(&["--signed-by", "nobody"]).exits(4);
    assert_eq!(hurt(), 1, "wv-1 has another certificate now");
    // Whose certificates a person renews will not come: that is told before anybody waits for them.
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replace("token_login = true", "token_login = true\nrenews = \"person\""));
    prepare(&[]).exits(0).says(&["2 are of the kind `windvane`, whose certificates a person renews"]);
}

#[test]
fn whoever_drives_it_may_be_killed_at_any_moment_and_nobody_is_asked_twice() {
    let world = World::driven(KINDS);
    let mut list = "id,kind,label.site\n".to_owned();
    (0..7_000).for_each(|number| list.push_str(&format!("wv-{number},windvane,ossel\n")));
    world.write("fleet.csv", list);
    world.run(&["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst", "--yes"]).exits(0);
    world.write("now", in_days(1));
    world.run(&["rotation", "prepare", "all", "--where", "kind = windvane", "--rounds", "100%"]).exits(0);
    world.run(&["rotation", "start", "all", "--yes"]).exits(0);
    let told = || -> Vec<u64> {
        let log = world.run(&["audit", "log", "--subject", "all", "--format", "json"]).exits(0).json();
        let asked = log["entries"].as_array().unwrap().iter().filter(|entry| entry["act"] == "rotation.ask");
        asked.map(|entry| entry["detail"]["count"].as_u64().unwrap()).collect()
    };
    let mut kills = 0;
    for delay in (0..60).map(|turn| 20 + turn * 37 % 230) {
        let mut driver = world.program(&["rotation", "run", "all", "--once"]).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(delay));
        // It may have ended by itself.
        kills += usize::from(driver.try_wait().unwrap().is_none());
        let _ = driver.kill();
        driver.wait().unwrap();
        let counts = told();
        let listed = world.run(&["rotation", "list"]).exits(0).stdout;
        let asked: u64 = counts.iter().sum();
        assert!(
            listed.contains(&format!("{asked} of 7000")),
            "the record and the rotation say the same: {counts:?}\n{listed}"
        );
        if asked == 7_000 {
            break;
        }
    }
    assert!(kills > 0, "none was killed");
    world.run(&["rotation", "run", "all", "--once"]).exits(0);
    assert_eq!(told(), [1_000; 7], "each part once");
    assert_eq!(counted(&world, "all", 0, "asked"), 7_000);
    world.run(&["audit", "verify"]).exits(0).prints(&["is whole"]);
}
