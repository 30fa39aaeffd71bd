//! `join`: the device's end, against the real desk.

use std::os::unix::fs::PermissionsExt;

use super::{Desk, admitted, asking_world, curl, world};
use crate::harness::{World, eventually};

/// What `join` is called with besides the desk's address.
fn join(world: &World, desk: &Desk, more: &[&str]) -> crate::harness::Ran {
    let url = desk.url("");
    world.run(&[&["join", &url][..], more].concat())
}

#[test]
fn join_brings_a_device_in_and_renews_its_outfit() {
    let world = world().with("TIDY_WARDEN_NOW", "@now");
    world.write("now", "2027-01-01T00:00:00Z");
    world.adopt("policy vanes { for kind = windvane allow connect as \"{device}\" allow publish \"rope/{site}/{device}/wind\" }");
    let secret = admitted(&world, "wv-9", &["--label", "site=ossel", "--fact", "serial=QF-9"]);
    world.secret("wv-9.secret", &format!("{secret}\n"));
    world.secret("wrong.secret", "aaaaaaaaaaaaaaaaaaaaaaaaaa");
    let desk = Desk::start(&world);
    let out = ["--kind", "windvane", "--fact", "serial=QF-9", "--out", "outfit"];
    let known = ["--root", "trust/root.pem"];
    // Whom to believe must be said, and is held to.
    join(&world, &desk, &out).exits(2).says(&["--root-sha256"]);
    join(&world, &desk, &[&out[..], &["--root-sha256", "beef"]].concat()).exits(2).says(&["64 digits"]);
    let strange = "ab".repeat(32);
    join(&world, &desk, &[&out[..], &["--root-sha256", &strange]].concat())
        .exits(1)
        .says(&["no root with this digest"]);
    let own = world.run(&["--ward", "other", "init", "--rehearsal", "--name", "Other", "--host", "localhost"]);
    own.exits(0);
    world.run(&["--ward", "other", "authority", "export", "--out", "other-trust"]).exits(0);
    join(&world, &desk, &[&out[..], &["--root", "other-trust/root.pem"]].concat()).exits(1).says(&["compare the root"]);
    join(&world, &desk, &[&out[..], &known, &["--key", "rsa3072"]].concat()).exits(2).says(&["p256"]);

    let wrong = ["--user", "wv-9", "--secret-file", "wrong.secret"];
    join(&world, &desk, &[&out[..], &known, &wrong].concat()).exits(3).says(&["does not prove", "the key is kept"]);
    let kept = std::fs::read(world.path("outfit.key")).unwrap();
    let mode = std::fs::metadata(world.path("outfit.key")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    assert!(!world.path("outfit").exists());
    let right = ["--user", "wv-9", "--secret-file", "wv-9.secret"];
    let root = world.run(&["authority", "list", "--format", "json"]).exits(0).json();
    let root =
        root["authorities"].as_array().unwrap().iter().find(|each| each["role"] == "root").unwrap()["fingerprint"]
            .as_str()
            .unwrap()
            .to_owned();
    let by_digest = ["--root-sha256", &root];
    let joined = join(&world, &desk, &[&out[..], &by_digest, &right, &["--format", "json"]].concat()).exits(0).json();
    assert_eq!((joined["joined"].as_bool(), joined["outfit"].as_str()), (Some(true), Some("outfit")));
    let file = |name: &str| std::fs::read_to_string(world.path(&format!("outfit/{name}"))).unwrap();
    assert_eq!(file("device.key").as_bytes(), kept, "the key that waited");
    assert!(!world.path("outfit.key").exists(), "it is in one place only");
    assert_eq!(file("root.pem"), std::fs::read_to_string(world.path("trust/root.pem")).unwrap());
    let connect: serde_json::Value = serde_json::from_str(&file("connect.json")).unwrap();
    assert_eq!(
        (connect["device"].as_str(), connect["publish"][0].as_str()),
        (Some("wv-9"), Some("rope/ossel/wv-9/wind"))
    );
    let by_chain = ["-CAfile", "outfit/root.pem", "-untrusted", "outfit/chain.pem", "-attime", "1798761700"];
    world.other("openssl", &[&["verify"][..], &by_chain, &["outfit/device.pem"]].concat()).exits(0);
    join(&world, &desk, &[&out[..], &known].concat()).exits(3).says(&["is there already", "--renew"]);

    // Too early, then in its window; a new key each time, and never a mixture of both.
    let (first, key) = (file("device.pem"), file("device.key"));
    let renew = ["--out", "outfit", "--renew"];
    join(&world, &desk, &renew).exits(0).says(&["nothing to do yet", "can be renewed from"]);
    assert!(file("device.pem") == first && !world.path("outfit.key").exists());
    world.write("now", "2028-01-10T00:00:00Z");
    // Nothing of anybody else's goes with the old folder, and whoever could read it can read the new one.
    world.write("outfit/mine.conf", "keep this");
    join(&world, &desk, &renew).exits(3).says(&["mine.conf is no part of an outfit"]);
    std::fs::rename(world.path("outfit/mine.conf"), world.path("mine.conf")).unwrap();
    let set = |name: &str, mode| {
        std::fs::set_permissions(world.path(name), std::fs::Permissions::from_mode(mode)).unwrap();
    };
    set("outfit", 0o750);
    set("outfit/device.key", 0o640);
    std::os::unix::fs::symlink("outfit", world.path("link")).unwrap();
    join(&world, &desk, &["--out", "link", "--renew"]).exits(0).says(&["CN=wv-9"]);
    std::fs::remove_file(world.path("link")).unwrap();
    assert!(file("device.pem") != first && file("device.key") != key);
    let mode = |name: &str| std::fs::metadata(world.path(name)).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode("outfit"), mode("outfit/device.key"), mode("outfit/device.pem")), (0o750, 0o640, 0o644));
    let left: Vec<String> = std::fs::read_dir(world.path("."))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| name.contains("outfit"))
        .collect();
    assert_eq!(left, ["outfit"], "nothing is left beside it");
    // Killed between the exchange and the end: the key that is in place is not certified again.
    std::fs::copy(world.path("outfit/device.key"), world.path("outfit.key")).unwrap();
    let second = file("device.pem");
    join(&world, &desk, &renew).exits(0).says(&["nothing to do yet"]);
    assert!(file("device.pem") == second && !world.path("outfit.key").exists());
    world.run(&["revoke", "wv-9", "--reason", "keyCompromise", "--yes"]).exits(0);
    join(&world, &desk, &renew).exits(3).says(&["refused", "ends on"]);
    assert!(file("device.pem") == second);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn join_waits_for_a_person_and_shows_the_code_meanwhile() {
    let world = asking_world();
    let desk = Desk::start(&world);
    let call = ["--root", "trust/root.pem", "--kind", "tension", "--fact", "serial=12", "--out", "outfit-12"];
    let once = [&call[..], &["--wait", "0s", "--format", "json"]].concat();
    let waits = join(&world, &desk, &once).exits(5);
    let code = waits.json()["code"].as_str().unwrap().to_owned();
    waits.says(&[&code]);
    assert_eq!(join(&world, &desk, &once).exits(5).json()["code"], *code, "it is the same device");
    let shown = world.run(&["device", "list", "--where", "state = asking", "--format", "json"]).exits(0).json();
    assert_eq!(shown["devices"][0]["asking"]["code"], *code);
    // One that waits has its answer while it waits, and another beside it stays away.
    let url = desk.url("");
    let args = [&["join", &url][..], &call, &["--wait", "8s"]].concat();
    let mut waiting = crate::harness::Running::start(&mut world.program(&args));
    waiting.line("the code", |line| line.contains(&code));
    join(&world, &desk, &once).exits(1).says(&["another process works on"]);
    world.run(&["device", "accept", "tn-12", "--code", &code]).exits(0);
    match waiting.wait() {
        // It asks once more when its time is over, and has its answer then; only a very slow machine was not done by that.
        Some(5) => drop(join(&world, &desk, &once).exits(0)),
        ended => assert_eq!(ended, Some(0), "{}", waiting.lines().join("\n")),
    }
    let connect = eventually(|| std::fs::read_to_string(world.path("outfit-12/connect.json")).ok());
    assert!(connect.unwrap().contains("\"tn-12\""));
    // One whose desk is gone.
    drop(desk);
    let gone = [&["join", &url][..], &call[..6], &["--out", "outfit-13"]].concat();
    world.run(&gone).exits(1).says(&["did not answer", "the key is kept"]);
    world.run(&["join", "--facts", "--fact", "serial=ZX-9", "--format", "json"]).exits(0).prints(&["ZX-9"]);
    world.run(&["join", "http://localhost", "--out", "x"]).exits(2).says(&["expected https://HOST"]);
}

#[test]
fn how_to_connect_is_told_to_a_device_that_may_and_to_nobody_else() {
    let world = world();
    world.adopt(
        "policy vanes { for kind = windvane allow connect as \"{device}\" allow publish \"rope/{device}/wind\" }",
    );
    let desk = Desk::start(&world);
    let secret = admitted(&world, "wv-9", &[]);
    world.secret("wv-9.secret", &secret);
    let call = ["--root", "trust/root.pem", "--kind", "windvane", "--out", "outfit"];
    join(&world, &desk, &[&call[..], &["--user", "wv-9", "--secret-file", "wv-9.secret"]].concat()).exits(0);
    let own = ["--cert", "outfit/device.pem", "--key", "outfit/device.key"];
    let url = desk.url("/connect.json");
    assert_eq!(curl(&world, &url, &[]).0, 401, "who shows nothing");
    let (status, told) = curl(&world, &url, &own);
    assert_eq!(
        (status, told.trim()),
        (200, std::fs::read_to_string(world.path("outfit/connect.json")).unwrap().trim())
    );
    assert_eq!(curl(&world, &desk.url("/connect.json/"), &own).0, 404);
    assert_eq!(curl(&world, &url, &[&own[..], &["-X", "POST"]].concat()).0, 405);
    let plain = format!("http://{}/connect.json", desk.http);
    assert_eq!(curl(&world, &plain, &[]).0, 404, "not without TLS");
    // What policy says now, and not what it said then.
    world.adopt(
        "policy vanes { for kind = windvane allow connect as \"{device}\" allow publish \"rope/{device}/gust\" }",
    );
    let told = eventually(|| Some(curl(&world, &url, &own).1).filter(|told| told.contains("rope/wv-9/gust")));
    assert!(told.is_some(), "nobody told the desk but the store");
    world.run(&["hold", "wv-9", "--because", "odd", "--yes"]).exits(0);
    assert_eq!(curl(&world, &url, &own).0, 401, "on hold");
    world.run(&["release", "wv-9", "--yes"]).exits(0);
    assert_eq!(curl(&world, &url, &own).0, 200);
    world.run(&["revoke", "wv-9", "--reason", "superseded", "--yes"]).exits(0);
    assert_eq!(curl(&world, &url, &own).0, 401);
    desk.event("refused", |event| event["asked"] == "connect" && event["device"] == "wv-9");
}

#[test]
fn join_says_what_is_wrong_with_what_it_finds_and_leaves_it_as_it_is() {
    let world = world();
    let desk = Desk::start(&world);
    let secret = admitted(&world, "wv-9", &["--fact", "serial=QF-9"]);
    world.secret("wv-9.secret", &secret);
    let known = ["--root", "trust/root.pem", "--kind", "windvane"];
    let own = ["--user", "wv-9", "--secret-file", "wv-9.secret"];
    let call = |more: &[&str]| join(&world, &desk, &[&known[..], &own, more].concat());
    // What it is told.
    call(&["--out", "o", "--fact", "Colour=red"]).exits(3).says(&["Colour"]);
    call(&["--out", "o", "--fact", "seral=1", "--key", "dsa"]).exits(3).says(&["not heard", "did you mean `serial`?"]);
    call(&["--out", "o", "--fact", "serial=1", "--fact", "serial=2"]).exits(2).says(&["given twice"]);
    call(&["--out", "o", "--fact", "mac=nothing"]).exits(3);
    let ek = format!("ek={}", "ab".repeat(32));
    call(&["--out", "o", "--fact", &ek]).exits(3).says(&["no place for this ek"]);
    call(&["--out", "o", "--key", "dsa"]).exits(3);
    call(&["--out", "o", "--wait", "soon"]).exits(3);
    call(&["--out", "o", "--kind", "nonesuch"]).exits(2);
    join(&world, &desk, &["--out", "o", "--user", "wv-9"]).exits(2).says(&["--secret-file"]);
    join(&world, &desk, &["--out", "o", "--root", "missing.pem"]).exits(4).says(&["missing.pem"]);
    world.write("empty.pem", "");
    join(&world, &desk, &["--out", "o", "--root", "empty.pem"]).exits(3).says(&["holds no certificate"]);
    join(&world, &desk, &[&known[..2], &["--out", "o", "--renew"]].concat()).exits(4).says(&["o/device.pem"]);
    // What stands in its way.
    world.write("taken", "somebody's");
    call(&["--out", "taken"]).exits(3).says(&["is there already"]);
    world.secret("o.key", "hello");
    call(&["--out", "o"]).exits(1).says(&["o.key", "no private key"]);
    assert_eq!(std::fs::read_to_string(world.path("o.key")).unwrap(), "hello", "it is not ours to remove");
    std::fs::remove_file(world.path("o.key")).unwrap();
    call(&["--out", "nowhere/o"]).exits(4).says(&["nowhere"]);
    // What another run left is taken away; what is good is used.
    std::fs::create_dir(world.path(".o.join.partial")).unwrap();
    world.write(".o.join.partial/device.pem", "half");
    call(&["--out", "o", "--fact", "serial=QF-9"]).exits(0);
    assert!(!world.path(".o.join.partial").exists());
    // Another's facts with a good secret are no better than a wrong one; the secret is used up by now in any case.
    let wrong = call(&["--out", "p", "--fact", "serial=QF-8"]);
    wrong.exits(3).says(&["does not prove"]);
    // A damaged outfit is told of, and not made anew.
    let pem = std::fs::read_to_string(world.path("o/device.pem")).unwrap();
    for (name, text) in [("device.pem", &pem[..80]), ("device.key", "x"), ("chain.pem", ""), ("root.pem", "-")] {
        let kept = std::fs::read(world.path(&format!("o/{name}"))).unwrap();
        world.write(&format!("o/{name}"), text);
        let ran = join(&world, &desk, &["--out", "o", "--renew"]);
        assert!(matches!(ran.code, 1 | 3), "{name}: {}", ran.stderr);
        assert!(ran.stderr.contains(name), "{name}: {}", ran.stderr);
        world.write(&format!("o/{name}"), kept);
    }
    join(&world, &desk, &["--out", "o", "--renew"]).exits(0).says(&["nothing to do yet"]);
}

/// `join` killed at any moment: what is there is nothing, or a key that waits, or a whole outfit; and the next call ends it well.
#[test]
fn join_may_be_killed_at_any_moment() {
    let world = world();
    let desk = Desk::start(&world);
    let url = desk.url("");
    for round in 0..12 {
        let (id, out) = (format!("wv-{round}"), format!("outfit-{round}"));
        let secret_file = format!("{id}.secret");
        world.secret(&secret_file, &admitted(&world, &id, &[]));
        let call = ["join", &url, "--root", "trust/root.pem", "--kind", "windvane", "--out", &out];
        let call = [&call[..], &["--user", &id, "--secret-file", &secret_file]].concat();
        let mut running = crate::harness::Running::start(&mut world.program(&call));
        std::thread::sleep(std::time::Duration::from_millis(15 * round));
        running.kill();
        let is_whole = || {
            ["device.key", "device.pem", "chain.pem", "root.pem", "connect.json"]
                .iter()
                .all(|name| world.path(&format!("{out}/{name}")).exists())
        };
        if world.path(&out).exists() {
            assert!(is_whole(), "round {round}");
        } else {
            world.run(&call).exits(0);
            assert!(is_whole() && !world.path(&format!("{out}.key")).exists());
        }
        let shown = world.run(&["device", "show", &id, "--format", "json"]).exits(0).json();
        assert_eq!(shown["credentials"].as_array().unwrap().len(), 1, "round {round}");
        let pem = std::fs::read(world.path(&format!("{out}/device.pem"))).unwrap();
        let leaf = tidy_warden_core::certificate::Certificate::read_all(&pem).unwrap().remove(0);
        assert_eq!(shown["credentials"][0]["fingerprint"], *leaf.fingerprint.to_string());
    }
    world.run(&["audit", "verify"]).exits(0);
}
