//! `join`: the device's end, against the real desk.

use std::os::unix::fs::PermissionsExt;

use super::{Desk, admitted, asking_world, world};
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
    join(&world, &desk, &renew).exits(0).says(&["CN=wv-9"]);
    assert!(file("device.pem") != first && file("device.key") != key);
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
