//! What a device needs to connect, as it is shown; and the passphrase of the ward's keys.

use crate::harness::{Guard, Mosquitto, Running, World, eventually, free_port};

#[test]
fn what_is_shown_is_what_a_person_would_type() {
    let world = World::equipped();
    world.run(&["outfit", "show", "wv-1", "--as", "card"]).exits(0).prints(&[
        "host               localhost",
        "8883",
        "client identifier  wv-1",
        "rope/ossel/wv-1/wind, QoS at most 1",
        "root's SHA-256",
    ]);
    let json = world.run(&["outfit", "show", "wv-1", "--format", "json"]).exits(0).json();
    assert_eq!((&json["schema"], &json["port"]), (&"tidy-warden/outfit-show/1".into(), &8883.into()));
    let pem = std::fs::read_to_string(world.path("outfits/wv-1/device.pem")).unwrap();
    assert_eq!((json["device_pem"].as_str(), &json["password"]), (Some(pem.as_str()), &serde_json::Value::Null));
    // What needs the private key says which option to add.
    world.run(&["outfit", "show", "wv-1", "--as", "mosquitto"]).exits(3).says(&["--outfit DIR"]);
    world.run(&["outfit", "show", "wv-1", "--as", "mosquitto", "--outfit", "outfits/wv-2"]).exits(3);
    world
        .run(&["outfit", "show", "wv-1", "--as", "mosquitto", "--outfit", "outfits"])
        .exits(0)
        .prints(&["--cert ", "connection wv-1"]);
    // A secret goes into a file, and nowhere else.
    world.run(&["outfit", "show", "wv-1", "--as", "env", "--token", "8h"]).exits(2).says(&["--out FILE"]);
    let before = world.run(&["audit", "log", "--format", "json"]).exits(0).json()["entries"].as_array().unwrap().len();
    world.run(&["outfit", "show", "cr-ossel", "--as", "env", "--token", "8h", "--out", "no.env"]).exits(3);
    assert!(!world.path("no.env").exists());
    assert_eq!(world.run(&["audit", "log", "--format", "json"]).json()["entries"].as_array().unwrap().len(), before);
    let quiet = world.run(&["outfit", "show", "wv-1", "--as", "env", "--token", "8h", "--out", "wv-1.env"]).exits(0);
    assert!(!quiet.stdout.contains("eyJ") && !quiet.stderr.contains("eyJ"), "{quiet}");
    let mode = std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(world.path("wv-1.env")).unwrap()) & 0o777;
    assert_eq!(mode, 0o600);
    world
        .run(&["outfit", "show", "wv-1", "--as", "env", "--token", "8h", "--out", "wv-1.env"])
        .exits(3)
        .says(&["exists already"]);
    // A shell takes the variables as they are meant.
    let read =
        world.other("sh", &["-c", ". ./wv-1.env; printf %s \"$MQTT_PASSWORD\" > t.txt; echo $MQTT_PORT"]).exits(0);
    assert_eq!(read.stdout.trim(), "8883");
    world.run(&["token", "verify", "--file", "t.txt"]).exits(0);
    // And a C compiler the constants.
    world.run(&["outfit", "show", "wv-1", "--as", "header", "--out", "outfit.h"]).exits(0);
    world.write(
        "main.c",
        "#include <stdio.h>\n#include \"outfit.h\"\nint main(void) { printf(\"%s %d %s %s%s\", MQTT_HOST, MQTT_PORT, MQTT_PUBLISH_0, mqtt_root_pem, mqtt_chain_pem); }\n",
    );
    world.other("cc", &["-Wall", "-Werror", "-o", "shown", "main.c"]).exits(0);
    let said = world.other("./shown", &[]).exits(0).stdout;
    let root = std::fs::read_to_string(world.path("outfits/wv-1/root.pem")).unwrap();
    assert!(said.starts_with("localhost 8883 rope/ossel/wv-1/wind") && said.contains(&root), "{said}");
}

#[test]
fn a_local_broker_on_a_gateway_bridges_with_what_is_shown() {
    let world = World::equipped();
    let port = free_port();
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replace("localhost:8883", &format!("localhost:{port}")));
    for id in ["wv-1", "wv-2", "cr-ossel"] {
        world.run(&["outfit", "refresh", id, "--out", "outfits"]).exits(0);
    }
    let far = Mosquitto::start(&world);
    let listen = format!("127.0.0.1:{port}");
    let _guard = Guard::of(
        world
            .command(env!("CARGO_BIN_EXE_tidy-warden"))
            .env("TIDY_WARDEN_WARD", "w")
            .env("TIDY_WARDEN_PASSPHRASE_FILE", "pass.txt")
            .args(["guard", "--broker", &format!("127.0.0.1:{}", far.port), "--listen", &listen]),
    );
    let watch = far.watch(&world);
    let token =
        ["outfit", "show", "wv-2", "--as", "mosquitto", "--outfit", "outfits", "--token", "1h", "--out", "wv-2.conf"];
    world.run(&token).exits(0);
    let by_key = world.run(&["outfit", "show", "wv-1", "--as", "mosquitto", "--outfit", "outfits"]).exits(0).stdout;
    let by_token = std::fs::read_to_string(world.path("wv-2.conf")).unwrap();
    let mut running = Vec::new();
    for (id, text) in [("wv-1", by_key), ("wv-2", by_token)] {
        let local = free_port();
        let bridge: String =
            text.lines().skip_while(|line| !line.starts_with("connection ")).map(|line| format!("{line}\n")).collect();
        let name = format!("bridge-{id}.conf");
        world.write(&name, format!("listener {local} 127.0.0.1\nallow_anonymous true\nuser root\n{bridge}"));
        running.push(Running::start(world.command("mosquitto").args(["-c", &name, "-v"])));
        let topic = format!("rope/ossel/{id}/wind");
        let came = eventually(|| {
            let port = local.to_string();
            let _ = world.other(
                "mosquitto_pub",
                &["-p", &port, "-q", "1", "-t", &topic, "-m", &format!("by the bridge of {id}")],
            );
            watch.lines().iter().any(|line| line.contains(&format!("by the bridge of {id}"))).then_some(())
        });
        assert!(came.is_some(), "{id}: {:?}", running.last().map(Running::lines));
    }
}

#[test]
fn a_passphrase_is_changed_for_all_keys_or_for_none() {
    let world = World::equipped();
    world.secret("new.txt", "another rope way of feathers\n");
    world.secret("weak.txt", "short\n");
    let with = |file: &str, args: &[&str]| world.run(&[&["--passphrase-file", file], args].concat());
    world.run(&["passphrase", "change", "--new-passphrase-file", "weak.txt", "--yes"]).exits(3).says(&["too weak"]);
    world
        .run(&["passphrase", "change", "--new-passphrase-file", "pass.txt", "--yes"])
        .exits(3)
        .says(&["is the old one"]);
    with("new.txt", &["passphrase", "change", "--new-passphrase-file", "pass.txt", "--yes"])
        .exits(1)
        .says(&["opens none"]);
    world.run(&["passphrase", "change", "--new-passphrase-file", "new.txt"]).exits(2);
    let opened = |file: &str| {
        let shown = with(file, &["passphrase", "show", "--format", "json"]).exits(0).json();
        let keys = shown["keys"].as_array().unwrap().clone();
        (keys.iter().filter(|key| key["opens"] == true).count(), keys.len())
    };
    let (all, count) = opened("pass.txt");
    assert_eq!(all, count);
    world.run(&["passphrase", "change", "--new-passphrase-file", "new.txt", "--yes", "--because", "ada left"]).exits(0);
    assert_eq!((opened("pass.txt").0, opened("new.txt").0), (0, count));
    with("pass.txt", &["crl", "--out", "no.pem"]).exits(1);
    with("new.txt", &["crl", "--out", "crl.pem"]).exits(0);
    with("new.txt", &["token", "issue", "wv-1"]).exits(0);
    world.run(&["audit", "log", "--last", "3"]).exits(0).prints(&["passphrase.change", "ada left"]);
    // Each apart.
    with("new.txt", &["passphrase", "change", "--of", "guard", "--new-passphrase-file", "pass.txt", "--yes"]).exits(0);
    assert_eq!((opened("pass.txt").0, opened("new.txt").0), (1, count - 1));
    let mode = |name: &str| std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(world.path(name)).unwrap()) & 0o777;
    assert_eq!((mode("w/keys"), mode("w/keys/guard.key")), (0o700, 0o600));
    assert!(!world.path("w/.keys.relocked.partial").exists());
}

#[test]
fn a_roots_passphrase_is_what_several_people_have_together() {
    let world = World::equipped();
    let share = |people: &str, need: &str, out: &str| {
        world.run(&["passphrase", "share", "--people", people, "--need", need, "--out", out, "--yes"])
    };
    share("3", "4", "shares").exits(2);
    share("3", "1", "shares").exits(2);
    share("3", "2", "w").exits(3).says(&["exists already"]);
    // What a process left that was killed is in nobody's way.
    std::fs::create_dir(world.path(".shares.shares.partial")).unwrap();
    let done = share("3", "2", "shares").exits(0);
    for number in 1..=3 {
        let text = std::fs::read_to_string(world.path(&format!("shares/share-{number}-of-3.txt"))).unwrap();
        let share = text.lines().last().unwrap();
        assert!(
            share.len() > 60 && !done.stdout.contains(share) && !done.stderr.contains(share),
            "a secret is shown: {done}"
        );
    }
    let mode = |name: &str| std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(world.path(name)).unwrap()) & 0o777;
    assert_eq!((mode("shares"), mode("shares/share-3-of-3.txt")), (0o700, 0o600));
    // The ward's passphrase opens the root no more, and nothing else is changed.
    share("3", "2", "more").exits(3).says(&["opens no root's key"]);
    assert!(!world.path("more").exists());
    world.run(&["crl", "--out", "crl.pem"]).exits(0);
    world.run(&["authority", "add", "devices-2", "--replaces", "devices"]).exits(1);
    let combine = |shares: &[&str], out: &str| {
        let named: Vec<String> = shares.iter().map(|number| format!("shares/share-{number}-of-3.txt")).collect();
        let shares: Vec<&str> = named.iter().flat_map(|name| ["--share", name]).collect();
        world.run(&[&["passphrase", "combine", "--out", out], &shares[..]].concat())
    };
    combine(&["1"], "root.txt").exits(3).says(&["2 shares are needed, and 1 are here"]);
    combine(&["1", "1"], "root.txt").exits(3).says(&["stands twice"]);
    let text = std::fs::read_to_string(world.path("shares/share-2-of-3.txt")).unwrap();
    let last = text.trim_end().chars().last().unwrap();
    let other = if last == 'a' { 'q' } else { 'a' };
    world.write("shares/share-2-of-3.txt", format!("{}{other}\n", text.trim_end().trim_end_matches(last)));
    combine(&["1", "2"], "root.txt").exits(3).says(&["mistyped"]);
    assert!(!world.path("root.txt").exists());
    combine(&["3", "1"], "root.txt").exits(0);
    assert_eq!(mode("root.txt"), 0o600);
    combine(&["3", "1"], "root.txt").exits(3).says(&["exists already"]);
    let add = ["authority", "add", "devices-2", "--replaces", "devices", "--root-passphrase-file", "root.txt"];
    world.run(&add).exits(0);
    world.run(&["audit", "log"]).exits(0).prints(&["passphrase.share"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_change_of_the_passphrase_may_be_killed_at_any_moment() {
    let world = World::equipped();
    world.secret("new.txt", "another rope way of feathers\n");
    let opened = |file: &str| {
        let shown = world.run(&["--passphrase-file", file, "passphrase", "show", "--format", "json"]).exits(0).json();
        let keys = shown["keys"].as_array().unwrap().clone();
        (keys.iter().filter(|key| key["opens"] == true).count(), keys.len())
    };
    let (mut current, mut other) = ("pass.txt", "new.txt");
    let mut changed = 0;
    for round in 0..30u64 {
        let change = ["--passphrase-file", current, "passphrase", "change", "--new-passphrase-file", other, "--yes"];
        let mut running = Running::start(&mut world.program(&change));
        std::thread::sleep(std::time::Duration::from_millis(round * 7 % 90));
        running.kill();
        drop(running);
        let (before, count) = opened(current);
        let (after, _) = opened(other);
        assert!(
            (before, after) == (count, 0) || (before, after) == (0, count),
            "round {round}: {before} and {after} of {count}"
        );
        assert!(!world.path("w/.keys.relocked.partial").exists(), "what was left is gone");
        if after == count {
            std::mem::swap(&mut current, &mut other);
            changed += 1;
        }
    }
    assert!((1..30).contains(&changed), "some were killed before and some after: {changed}");
}
