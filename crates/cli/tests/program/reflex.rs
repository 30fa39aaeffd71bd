//! Reflexes: what a desk does by itself, what it leaves to a person, and what takes it back.

use serde_json::Value;
use tidy_warden_simulate::Login;

use crate::desk::Desk;
use crate::door::python;
use crate::harness::{Guard, Running, World, block_on, eventually, free_port, in_days};

const KINDS: &str = r#"
[kinds.windvane]
token_login = true
life = "30d"
[kinds.control-room]
role = "service"
[guard]
proxy_protocol = true
proxy_from = ["127.0.0.1"]
"#;

/// A rehearsal with wind vanes and outfits, before a guard that is told where its clients come from.
fn rehearsal(devices: usize, reflexes: &str) -> World {
    World::driven_with(&format!("{KINDS}{reflexes}"), devices)
}

/// A device that shows up in two networks in turn, as one does whose key was copied.
fn copied(guard: &Guard, login: &Login, network: u8) {
    block_on(async {
        for last in [1, 2, 1, 2] {
            if let Ok(session) = guard.proxied(login, [10, network, last, 7]).await {
                session.goodbye().await;
            }
        }
    });
}

fn state(world: &World, id: &str) -> String {
    let shown = world.run(&["device", "show", id, "--format", "json"]).exits(0).json();
    shown["state"].as_str().unwrap().to_owned()
}

fn reflex(world: &World, name: &str) -> Value {
    let all = world.run(&["reflex", "list", "--format", "json"]).exits(0).json();
    all["reflexes"].as_array().unwrap().iter().find(|each| each["reflex"] == name).unwrap().clone()
}

#[test]
fn copied_keys_are_put_on_hold_until_the_reflex_has_done_enough_and_a_person_takes_it_back() {
    let text = "[reflexes.copied-keys]\nwhen = \"clone-sign\"\nwhere = \"not id = wv-5\"\nthen = \"hold\"\nat_most = \"2 in 1h\"\n";
    let world = rehearsal(6, "");
    let guard = Guard::start(&world, "builtin");
    // What happened before it was written is told, and nothing is done about it.
    copied(&guard, &world.login("wv-6"), 6);
    guard.event("clone-sign", |event| event["device"] == "wv-6");
    world.append("w/ward.toml", text);
    let would = || {
        let test = world.run(&["reflex", "test", "--format", "json"]).exits(0).json();
        test["hits"].as_array().unwrap().first().cloned()
    };
    let would = eventually(would).unwrap();
    assert_eq!((&would["device"], &would["then"]), (&"wv-6".into(), &"hold".into()));
    let desk = Desk::start(&world);
    let seen = || world.run(&["audit", "log", "--format", "json"]).exits(0).stdout.contains("reflex.act").then_some(());
    eventually(|| (reflex(&world, "copied-keys")["state"] == "on").then_some(())).unwrap();
    std::thread::sleep(std::time::Duration::from_secs(2));
    assert!(seen().is_none() && state(&world, "wv-6") != "held");

    copied(&guard, &world.login("wv-5"), 5);
    guard.event("clone-sign", |event| event["device"] == "wv-5");
    for id in ["wv-1", "wv-2"] {
        copied(&guard, &world.login(id), if id == "wv-1" { 1 } else { 2 });
        desk.event("reflex", |event| event["device"] == id && event["act"] == "hold");
        assert_eq!(state(&world, id), "held");
    }
    assert_ne!(state(&world, "wv-5"), "held", "the condition leaves it out");
    world.run(&["reflex", "list"]).exits(0).prints(&["copied-keys", "on", "clone-sign", "2 of 2 in 1h", "wv-2 at"]);
    // A third is left to a person, who looks.
    copied(&guard, &world.login("wv-3"), 3);
    desk.event("reflex-stopped", |event| event["reflex"] == "copied-keys");
    assert_ne!(state(&world, "wv-3"), "held");
    let stopped = reflex(&world, "copied-keys");
    assert_eq!((&stopped["state"], &stopped["acted"]), (&"stopped".into(), &2.into()), "{stopped}");
    copied(&guard, &world.login("wv-4"), 4);
    guard.event("clone-sign", |event| event["device"] == "wv-4");
    world.run(&["device", "events", "wv-1"]).exits(0).prints(&["reflex.act", "hold", "reflex copied-keys: clone-sign"]);

    // It goes on when it is told to and has room again, with what it left.
    world.write("now", in_days(1));
    world.run(&["reflex", "resume", "copied-keys"]).exits(2).says(&["add --yes"]);
    world.run(&["reflex", "resume", "copied-keys", "--yes"]).exits(0);
    desk.event("reflex", |event| event["device"] == "wv-3");
    desk.event("reflex", |event| event["device"] == "wv-4");
    world.run(&["reflex", "resume", "copied-keys", "--yes"]).exits(3).says(&["has not stopped"]);

    // A person's own hold stays.
    world.run(&["release", "wv-2", "--because", "looked at", "--yes"]).exits(0);
    world.write("now", in_days(2));
    world.run(&["hold", "wv-2", "--because", "a person's own", "--yes"]).exits(0);
    let undone =
        world.run(&["reflex", "undo", "copied-keys", "--yes", "--because", "a new uplink", "--format", "json"]);
    let mut released: Vec<String> = serde_json::from_value(undone.exits(0).json()["released"].clone()).unwrap();
    released.sort();
    assert_eq!(released, ["wv-1", "wv-3", "wv-4"]);
    assert_eq!((state(&world, "wv-2"), state(&world, "wv-1")), ("held".into(), "live".into()));
    world.run(&["reflex", "undo", "copied-keys", "--yes"]).exits(0).says(&["released 0 devices"]);
    world.run(&["reflex", "undo", "nobody", "--yes"]).exits(4);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn refusals_silence_and_ends_lead_to_what_they_may_and_to_nothing_else() {
    let text = r#"
[reflexes.chatty]
when = "refusals > 10 in 10m"
then = "hold"
[reflexes.quiet]
when = "silent > 20d"
then = "record"
[reflexes.ends]
when = "cert.ends within 3d"
then = "errand renew"
"#;
    let world = rehearsal(3, text);
    for bad in ["silent > 1d", "token-replay", "cert.ends within 3d", "unknown-child"] {
        let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
        world.append("w/ward.toml", &format!("[reflexes.bad]\nwhen = \"{bad}\"\nthen = \"revoke\"\n"));
        world.run(&["settings", "check"]).exits(3).prints(&["does not lead to revoke"]);
        world.write("w/ward.toml", settings);
    }
    world.run(&["errand", "send", "wv-3", "identify"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    let desk = Desk::start(&world);
    let token = world.run(&["token", "issue", "wv-2", "--for", "1h"]).exits(0).stdout.trim().as_bytes().to_vec();
    block_on(async {
        let mut own = guard.proxied(&world.login("wv-1"), [10, 0, 0, 1]).await.unwrap();
        let mut login = Login::new(&world.root("wv-2"), None, "localhost", "wv-2").unwrap();
        login.token = Some(("wv-2".to_owned(), token));
        let mut by_token = guard.proxied(&login, [10, 0, 1, 1]).await.unwrap();
        for _ in 0..12 {
            assert_eq!(own.publish("rope/ossel/wv-9/wind", b"x").await.unwrap().code, 0x87);
            assert_eq!(by_token.publish("rope/ossel/wv-9/wind", b"x").await.unwrap().code, 0x87);
        }
        desk.event("reflex", |event| event["reflex"] == "chatty" && event["device"] == "wv-1");
        assert!(own.ended(std::time::Duration::from_secs(10)).await.is_some(), "it is on hold");
        // Whoever has a token of a device proves nothing, and puts nobody out.
        by_token.ping().await.unwrap();
    });
    assert_ne!(state(&world, "wv-2"), "held");
    assert_eq!(state(&world, "wv-1"), "held");

    // What is silent is noted once; a certificate that ends is asked for.
    world.write("now", in_days(28));
    desk.event("reflex", |event| event["reflex"] == "quiet" && event["device"] == "wv-2");
    desk.event("reflex", |event| event["reflex"] == "ends" && event["device"] == "wv-3");
    let open = world.run(&["errand", "list", "--device", "wv-3", "--format", "json"]).exits(0).json();
    assert_eq!(open["errands"][0]["purpose"], "renew");
    std::thread::sleep(std::time::Duration::from_secs(3));
    let log = world.run(&["audit", "log", "--format", "json"]).exits(0).json();
    let of = |reflex: &str| {
        let all = log["entries"].as_array().unwrap().iter();
        all.filter(|each| each["act"] == "reflex.act" && each["detail"]["reflex"] == reflex).count()
    };
    assert_eq!((of("quiet"), of("chatty")), (1, 1), "{log}");
    assert_eq!(of("ends"), 2, "those that are not on hold: {log}");
}

/// A web service in another language.
const SERVICE: &str = include_str!("notices.py");

#[test]
fn a_web_service_is_told_what_happens_and_checks_who_tells_it() {
    let world = rehearsal(2, "");
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    let reflex = "[reflexes.told]\nwhen = \"clone-sign\"\nthen = \"notify\"\n";
    world.append("w/ward.toml", reflex);
    world.run(&["settings", "check"]).exits(3).prints(&["there is nobody to tell"]);
    let port = free_port();
    let url = format!("http://127.0.0.1:{port}/ward?of=north");
    let with = |more: &str| {
        world.write("w/ward.toml", format!("{settings}{reflex}[notices]\nurl = \"{url}\"\n{more}"));
    };
    // Nothing goes into anybody's network, unless the settings say so.
    with("");
    let key = world.run(&["notice", "key", "--format", "json"]).exits(0).stdout;
    world.write("key.json", &key);
    let guard = Guard::start(&world, "builtin");
    let desk = Desk::start(&world);
    world.run(&["notice", "test"]).exits(0).says(&["see what comes of it: notice list"]);
    let refused = desk.event("notice-not-taken", |event| event["tries"] == 1);
    assert!(refused["because"].as_str().unwrap().contains("private network"), "{refused}");
    drop(desk);

    world.write("service.py", SERVICE);
    let service = Running::start(world.command(python(&world)).args(["service.py", &port.to_string(), "key.json"]));
    service.line("that it is ready", |line| line == "ready" || line.contains("Error"));
    with("allow_private = true\n");
    world.write("now", in_days(1));
    let desk = Desk::start(&world);
    // The first is answered with 503, and comes again.
    service.line("the trial", |line| line.contains("\"trial\"") && line.contains("503"));
    desk.event("notice-not-taken", |event| event["because"].as_str().unwrap().contains("503"));
    eventually(|| (reflex_state(&world) == "on").then_some(())).unwrap();
    copied(&guard, &world.login("wv-1"), 1);
    let told = service.line("what happened", |line| line.contains("\"reflex\""));
    assert!(told.contains("wv-1") && told.contains("in turn") && told.contains("204"), "{told}");
    assert_ne!(state(&world, "wv-1"), "held");
    world.write("now", in_days(2));
    service.line("the trial again, under its id", |line| line.contains("\"trial\"") && line.contains("\"tries\": 2"));
    let states = || -> Vec<String> {
        let all = world.run(&["notice", "list", "--format", "json"]).exits(0).json();
        all["notices"].as_array().unwrap().iter().map(|each| each["state"].as_str().unwrap().to_owned()).collect()
    };
    eventually(|| (states() == ["taken", "taken"]).then_some(())).unwrap_or_else(|| panic!("{:?}", states()));
    // One that is refused for good is not sent again.
    world.run(&["notice", "test"]).exits(0);
    eventually(|| (states()[0] == "failed" || states()[0] == "taken").then_some(()))
        .unwrap_or_else(|| panic!("{:?}", states()));
    world.run(&["notice", "list"]).exits(0).prints(&["taken", "tidy-warden/notice/1"]);
    assert!(!service.lines().iter().any(|line| line.contains("Traceback")), "{:?}", service.lines());
}

fn reflex_state(world: &World) -> String {
    reflex(world, "told")["state"].as_str().unwrap().to_owned()
}
