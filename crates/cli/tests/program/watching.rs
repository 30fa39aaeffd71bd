//! What an operator sees: `watch`, `probe`, `simulate`, and what `device show` tells of a device that met refusals.

use std::time::Duration;

use serde_json::Value;

use crate::harness::{Guard, Mosquitto, POLICY, Running, World, block_on, eventually, free_port};

const SOON: Duration = Duration::from_secs(10);

#[test]
fn events_are_followed_and_picked_by_condition() {
    let world = World::equipped();
    let nobody = world.run(&["watch", "--for", "1s"]);
    nobody.exits(1).says(&["no guard of this ward answers", "guard --broker"]);
    let guard = Guard::start(&world, "builtin");
    let socket = std::fs::metadata(world.path("w/guard.sock")).unwrap();
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&socket.permissions()) & 0o777, 0o600);
    world.run(&["watch", "--format", "json"]).exits(2).says(&["jsonl"]);
    let watch = |args: &[&str]| {
        let running = Running::start(&mut world.program(&[&["watch"], args].concat()));
        running.line("that it watches", |line| line.contains("watching"));
        running
    };
    let all = watch(&[]);
    let vanes = watch(&["--where", "kind = windvane", "--format", "jsonl"]);
    let refusals = watch(&["--only", "refused"]);
    block_on(async {
        let mut control = world.login("cr-ossel").connect(guard.address).await.unwrap();
        assert!(!control.subscribe("#").await.unwrap().is_ok());
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(!vane.publish("rope/ossel/wv-1/brake", b"1").await.unwrap().is_ok());
        vane.goodbye().await;
    });
    all.line("the control room", |line| line.contains("connected cr-ossel"));
    all.line("the refusal", |line| line.ends_with("refused wv-1 publish \"rope/ossel/wv-1/brake\""));
    all.line("its reason", |line| line.starts_with("    ") && line.contains("only drive stations brake"));
    all.line("the end", |line| line.contains("closed wv-1: the client said goodbye"));
    let told: Value = serde_json::from_str(&vanes.line("the refusal", |line| line.contains("\"refused\""))).unwrap();
    assert_eq!((&told["device"], &told["rule"]["line"]), (&"wv-1".into(), &8.into()), "{told}");
    vanes.line("the end", |line| line.contains("\"closed\""));
    assert!(!vanes.lines().iter().any(|line| line.contains("cr-ossel")), "{}", vanes.lines().join("\n"));
    refusals.line("the second refusal", |line| line.contains("refused wv-1"));
    assert!(!refusals.lines().iter().any(|line| line.contains("connected")));
    assert_eq!(guard.running.terminate(), Some(0));
    all.line("the end of the guard", |line| line.contains("the guard ended it"));
    assert!(!world.path("w/guard.sock").exists(), "nothing is left behind");
}

#[test]
fn an_operator_sees_and_sends_messages_and_the_audit_record_tells_of_it() {
    let world = World::equipped();
    let broker = Mosquitto::locked(&world);
    let guard = Guard::start(&world, &format!("127.0.0.1:{}", broker.port));
    world.run(&["watch", "--topic", "a/#/b"]).exits(2).says(&["not a topic filter"]);
    let args = ["watch", "--topic", "rope/ossel/+/wind", "--because", "odd readings"];
    let watch = Running::start(&mut world.program(&args));
    let noted = watch.line("the entry", |line| line.contains("of the audit record"));
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(vane.subscribe("rope/ossel/wv-1/settings").await.unwrap().is_ok());
        assert!(vane.publish("rope/ossel/wv-1/wind", b"7.5 m/s").await.unwrap().is_ok());
        assert!(vane.publish("rope/ossel/wv-1/lost", b"not looked at").await.unwrap().is_ok());
        watch.line("the message", |line| line.contains("rope/ossel/wv-1/wind") && line.contains("from wv-1, 7 bytes"));
        watch.line("its payload", |line| line.trim() == "7.5 m/s");
        let send = ["watch", "--send", "rope/ossel/wv-1/settings", "slow", "--because", "a trial"];
        world.run(&send).exits(0).says(&["sent, and taken"]);
        let message = vane.message(SOON).await.unwrap().unwrap();
        assert_eq!(message.payload, b"slow");
        let sender = message.user.iter().find(|(name, _)| name == "sender").unwrap();
        assert!(sender.1.starts_with("operator:"), "{sender:?}");
    });
    assert!(!watch.lines().iter().any(|line| line.contains("not looked at")));
    let log = world.run(&["audit", "log", "--format", "json"]).exits(0).json();
    let entries: Vec<&Value> =
        log["entries"].as_array().unwrap().iter().filter(|entry| entry["act"] == "messages.watch").collect();
    assert_eq!(entries.len(), 2);
    assert!(noted.contains(&entries[0]["number"].to_string()), "{noted}");
    let account = world.other("id", &["-un"]).stdout.trim().to_owned();
    assert_eq!((&entries[0]["actor"], &entries[0]["because"]), (&account.into(), &"odd readings".into()));
    assert_eq!(entries[0]["subject"], "rope/ossel/+/wind");
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn retained_messages_that_only_a_device_can_have_written_are_found_and_cleared() {
    let world = World::equipped();
    world.adopt(&POLICY.replacen(
        "  allow connect   as \"{device}:*\"",
        "  allow publish \"rope/{site}/weather\" because \"whoever sees it first\"",
        1,
    ));
    let broker = Mosquitto::locked(&world);
    world.run(&["device", "retained", "wv-1"]).exits(1).says(&["no guard of this ward answers"]);
    let leave = |guard: &Guard, more: &str| {
        block_on(async {
            for id in ["wv-2", "wv-1"] {
                let mut vane = world.login(id).connect(guard.address).await.unwrap();
                for what in ["wind", "lost"] {
                    let topic = format!("rope/ossel/{id}/{what}");
                    assert!(vane.retain(&topic, more.as_bytes()).await.unwrap().is_ok());
                }
                assert!(vane.retain("rope/ossel/weather", b"fog").await.unwrap().is_ok());
                vane.goodbye().await;
            }
        });
    };
    let topics = |args: &[&str]| -> Vec<String> {
        let told = world.run(&[args, &["--format", "json"]].concat()).exits(0).json();
        let all = told["messages"].as_array().unwrap().iter();
        all.map(|message| message["topic"].as_str().unwrap().to_owned()).collect()
    };
    let own = ["rope/ossel/wv-1/lost", "rope/ossel/wv-1/wind"];
    let guard = Guard::before(&world, &broker);
    leave(&guard, "7.5");
    // It was the last to write the one that several may write, and the guard proved it.
    assert_eq!(topics(&["device", "retained", "wv-1"]), ["rope/ossel/weather", own[0], own[1]]);
    let revoke = ["revoke", "wv-1", "--reason", "superseded", "--yes"];
    world.run(&revoke).exits(0).says(&["device retained wv-1"]);
    assert_eq!(topics(&["device", "retained", "wv-1"]).len(), 3, "also when it is out");
    world.run(&["device", "retained", "wv-1", "--clear"]).exits(2).says(&["add --yes"]);
    let args = ["device", "retained", "wv-1", "--clear", "--yes", "--because", "stolen"];
    world.run(&args).exits(0).prints(&["rope/ossel/weather", "the guard saw it send it"]).says(&["took 3 retained"]);
    assert!(topics(&["device", "retained", "wv-1"]).is_empty());
    assert_eq!(topics(&["device", "retained", "wv-2"]), ["rope/ossel/wv-2/lost", "rope/ossel/wv-2/wind"]);
    let log = world.run(&["audit", "log", "--subject", "wv-1", "--format", "json"]).exits(0).json();
    let cleared = log["entries"].as_array().unwrap().iter().find(|entry| entry["act"] == "messages.clear").unwrap();
    assert_eq!(cleared["because"], "stolen");
    // Without a proved sender the policies say who can have been it.
    guard.running.terminate();
    world.append("w/ward.toml", "sender_property = \"\"\n");
    world.run(&["device", "reopen", "wv-1", "--because", "found"]).exits(0);
    std::fs::remove_dir_all(world.path("outfits/wv-1")).unwrap();
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    let guard = Guard::before(&world, &broker);
    leave(&guard, "8.5");
    assert_eq!(topics(&["device", "retained", "wv-1"]), own);
    world.run(&["device", "retained", "wv-1"]).exits(0).says(&["1 more retained message that others may have written"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_probe_walks_the_whole_way_and_says_where_it_ends() {
    let world = World::equipped();
    let port = free_port().to_string();
    let at = format!("127.0.0.1:{port}");
    let probe = |more: &[&str]| {
        let args = ["probe", "wv-1", "--outfit", "outfits", "--at", &at];
        world.run(&[&args[..], more].concat())
    };
    probe(&[]).exits(3).prints(&["TCP", "ENDS HERE", "does the guard run"]);
    let broker = Mosquitto::locked(&world);
    let upstream = format!("127.0.0.1:{}", broker.port);
    let guard = {
        let args = ["guard", "--listen", &at, "--broker", &upstream];
        let running = Running::start(&mut world.program(&args));
        running.line("that it listens", |line| line.contains("\"listening\""));
        running
    };
    let whole = probe(&[]).exits(0).prints(&["the whole way works", "rope/ossel/wv-1/wind: PUBACK in"]);
    for step in ["configuration", "name", "TCP", "TLS", "identity", "policy", "subscribe", "publish"] {
        assert!(whole.stdout.lines().any(|line| line.starts_with(&format!("{step:<15}ok"))), "{step}\n{whole}");
    }
    let quiet = probe(&["--no-publish", "--format", "json"]).exits(0).json();
    assert_eq!((&quiet["schema"], &quiet["reached"]), (&"tidy-warden/probe/1".into(), &true.into()));
    quiet_says(&quiet, "--no-publish");
    let room = world.run(&["probe", "cr-ossel", "--outfit", "outfits", "--at", &at]).exits(0);
    // Its only topics are commands to others.
    room.prints(&["it may publish only where others do too", "as far as it was walked: nothing was published"]);
    assert!(
        !guard.lines().iter().any(|line| line.contains("eof") || line.contains("handshake")),
        "nothing is left in the log"
    );
    probe(&["--topic", "rope/ossel/wv-1/brake"]).exits(3).prints(&["policy         ENDS HERE", "only drive stations"]);
    let other = world.run(&["probe", "wv-1", "--outfit", "outfits/wv-2", "--at", &at]);
    other.exits(3).prints(&["configuration  ENDS HERE", "that of `wv-2`"]);
    world.run(&["probe", "wv-1", "--outfit", "nowhere"]).exits(1).says(&["an outfit cannot be read"]);
    world.run(&["hold", "wv-1", "--yes"]).exits(0);
    probe(&[]).exits(3).prints(&["on hold since"]);
    world.run(&["release", "wv-1", "--yes"]).exits(0);
    broker.stop();
    probe(&[]).exits(3).prints(&["identity       ENDS HERE", "CONNACK 0x88", "its broker"]);
    drop(guard);
    // A key that is another's.
    let key = std::fs::read(world.path("outfits/wv-2/device.key")).unwrap();
    world.write("outfits/wv-1/device.key", key);
    probe(&[]).exits(3).prints(&["configuration  ENDS HERE"]);
}

fn quiet_says(told: &Value, text: &str) {
    assert!(
        told["steps"].as_array().unwrap().iter().any(|step| step["detail"].as_str().unwrap().contains(text)),
        "{told}"
    );
    assert_eq!(told["published"], false);
}

#[test]
fn simulated_devices_behave_and_misbehave_and_what_they_met_is_shown() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let at = guard.address.to_string();
    let simulate = |more: &[&str]| {
        let args = ["simulate", "--outfits", "outfits", "--at", &at, "--for", "2s", "--format", "json"];
        world.run(&[&args[..], more].concat()).exits(0).json()
    };
    let good = simulate(&[]);
    assert_eq!((&good["devices"], &good["connected"]), (&3.into(), &3.into()), "{good}");
    assert!(good["published"].as_u64().unwrap() >= 3 && good["ended"] == 0, "{good}");
    assert_eq!(good["not_connected"].as_array().unwrap().len(), 0, "{good}");
    let wrong = simulate(&["--misbehave", "wrong-topics", "--count", "2"]);
    let refused = wrong["refused"].as_array().unwrap();
    let met = |what: &str| refused.iter().any(|each| each["what"] == what);
    assert!(met("rope/#") && met("rope/ossel/wv-1/#") && met("rope/ossel/any/settings"), "{wrong}");
    let thieves = simulate(&["--misbehave", "stolen-key"]);
    assert_eq!(thieves["connected"], 0, "{thieves}");
    let doubles = simulate(&["--misbehave", "duplicate-id"]);
    assert_eq!(doubles["connected"], 0, "{doubles}");
    assert!(doubles["not_connected"][0]["why"].as_str().unwrap().contains("0x85"), "{doubles}");
    let slow = simulate(&["--misbehave", "slow-reader"]);
    assert_eq!((&slow["connected"], &slow["published"]), (&3.into(), &0.into()), "{slow}");
    world.run(&["simulate", "--outfits", "outfits", "--count", "9"]).exits(3).says(&["3 outfits with a key"]);
    world.run(&["simulate"]).exits(2);

    let shown = || world.run(&["device", "show", "wv-1", "--format", "json"]).exits(0).json();
    let traffic = eventually(|| {
        let traffic = shown()["traffic"].clone();
        (traffic["refusals"].as_u64() >= Some(3) && traffic["messages_in"].as_u64() >= Some(2)).then_some(traffic)
    });
    let traffic = traffic.unwrap_or_else(|| panic!("{}", shown()));
    assert!(traffic["octets_in"].as_u64().unwrap() > 10 && traffic["refused_at"].is_string(), "{traffic}");
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&["sent  ", "refused     "]);
}

#[test]
fn a_load_is_measured_through_the_guard_and_around_it() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let at = guard.address.to_string();
    let args = ["simulate", "load", "--outfits", "outfits", "--at", &at, "--publishers", "2", "--messages", "200"];
    let told =
        world.run(&[&args[..], &["--rounds", "1", "--direct", &at, "--format", "json"]].concat()).exits(0).json();
    let figures = told["figures"].as_array().unwrap();
    assert_eq!(figures.len(), 3);
    for figure in figures {
        assert!(figure["guard_rates"][0].as_f64().unwrap() > 10.0 && figure["ratio"].is_number(), "{figure}");
    }
    assert!(figures[2]["guard_answer_us"].as_f64().unwrap() > 1.0);
    let few = world.run(&[&args[..], &["--publishers", "4"]].concat());
    few.exits(2);
    assert!(
        eventually(|| Some(guard.running.lines().iter().filter(|line| line.contains("\"closed\"")).count() >= 5)
            .filter(|all| *all))
        .is_some()
    );
}
