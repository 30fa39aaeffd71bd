//! What the record proves, what becomes of half-made certificates, and keys that are never taken again.

use std::time::Duration;

use crate::harness::{Guard, World, eventually};

/// The one entry of a folder that is being filled.
fn partial(world: &World) -> Option<String> {
    let all = std::fs::read_dir(world.path("outfits")).ok()?;
    let mut names = all.filter_map(|entry| Some(entry.ok()?.file_name().to_string_lossy().into_owned()));
    names.find(|name| name.ends_with(".partial"))
}

#[test]
fn a_compromised_key_is_never_certified_again_whatever_it_was_revoked_for_first() {
    let world = World::equipped();
    world
        .other(
            "openssl",
            &["req", "-new", "-newkey", "rsa:2048", "-nodes", "-keyout", "k.pem", "-subj", "/CN=x", "-out", "k.csr"],
        )
        .exits(0);
    world.run(&["device", "add", "wv-3", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.run(&["enroll", "wv-3", "--csr", "k.csr", "--out", "outfits"]).exits(0);
    world.run(&["crl", "--out", "one.pem"]).exits(0);
    world.run(&["revoke", "wv-3", "--reason", "superseded", "--because", "replaced", "--yes"]).exits(0);
    world.run(&["crl", "--out", "two.pem"]).exits(0);
    let raised = world.run(&[
        "--format",
        "json",
        "revoke",
        "wv-3",
        "--reason",
        "keyCompromise",
        "--because",
        "found on a bench",
        "--yes",
    ]);
    assert_eq!(raised.exits(0).json()["serials"].as_array().unwrap().len(), 1, "the reason is raised");
    world.run(&["credential", "list", "--all", "--where", "id = wv-3"]).exits(0).prints(&["keyCompromise"]);
    world.run(&["crl", "--out", "three.pem"]).exits(0);
    let listed = world.other("openssl", &["crl", "-in", "three.pem", "-noout", "-text"]).stdout;
    assert!(listed.contains("Key Compromise"), "{listed}");
    world.run(&["revoke", "wv-3", "--reason", "superseded", "--because", "again", "--yes"]).exits(0);
    world.run(&["credential", "list", "--all", "--where", "id = wv-3"]).exits(0).prints(&["keyCompromise"]);
    world.run(&["device", "reopen", "wv-3", "--because", "repaired"]).exits(0);
    for device in ["wv-3", "wv-1"] {
        world
            .run(&["enroll", device, "--csr", "k.csr", "--again", "--out", "other"])
            .exits(3)
            .says(&["this key was revoked for compromise"]);
    }
    // The same key in a form that leaves the NULL out is not another one: it is none (RFC 3279 section 2.3.1).
    world.other("sh", &["-c", "openssl pkey -in k.pem -pubout -outform DER > spki.der"]).exits(0);
    let mut spki = std::fs::read(world.path("spki.der")).unwrap();
    let null = spki.windows(2).position(|pair| pair == [5, 0]).unwrap();
    spki.drain(null..null + 2);
    spki[5] -= 2;
    let length = u16::from_be_bytes([spki[2], spki[3]]) - 2;
    spki[2..4].copy_from_slice(&length.to_be_bytes());
    let body = data_encoding::BASE64.encode(&spki);
    world.write("bare.pem", format!("-----BEGIN PUBLIC KEY-----\n{body}\n-----END PUBLIC KEY-----\n"));
    world.run(&["credential", "pin", "wv-1", "--public-key", "bare.pem", "--again", "--yes"]).exits(3);
    world.run(&["credential", "pin", "wv-1", "--public-key", "k.pem", "--again", "--yes"]).exits(3);
}

#[test]
fn a_key_is_blocked_by_hand_or_from_a_list_at_every_door() {
    let world = World::equipped();
    world.run(&["key", "blocked"]).exits(0).says(&["no keys are blocked"]);
    world.run(&["key", "block", "--cert", "outfits/wv-1/device.pem", "--because", "printed on a label"]).exits(2);
    world
        .run(&["key", "block", "--cert", "outfits/wv-1/device.pem", "--because", "printed on a label", "--yes"])
        .exits(0)
        .prints(&["blocked 1 key", "revoked 1 certificate"]);
    world.run(&["key", "blocked"]).exits(0).prints(&["given", "wv-1"]);
    world.run(&["credential", "show", "--cert", "outfits/wv-1/device.pem"]).exits(0).prints(&["revoked"]);
    world.other("sh", &["-c", "openssl ecparam -name prime256v1 -genkey -noout -out weak.pem && openssl req -new -key weak.pem -subj /CN=x -out weak.csr"]).exits(0);
    let digest = world.other(
        "sh",
        &["-c", "openssl pkey -in weak.pem -pubout -outform DER | openssl dgst -sha256 -r | cut -d' ' -f1"],
    );
    world.write("weak.txt", "not a digest\n");
    world.run(&["key", "block", "--from", "weak.txt", "--yes"]).exits(3).says(&["line 1"]);
    world.write("weak.txt", format!("# known keys\n{}", digest.stdout.to_uppercase()));
    world.run(&["key", "block", "--from", "weak.txt", "--yes"]).exits(0).prints(&["blocked 1 key"]);
    world
        .run(&["enroll", "wv-2", "--csr", "weak.csr", "--again", "--out", "other"])
        .exits(3)
        .says(&["it is on a list of weak keys"]);
    world.other("sh", &["-c", "openssl pkey -in weak.pem -pubout -out weak.pub"]).exits(0);
    world.run(&["credential", "pin", "wv-2", "--public-key", "weak.pub", "--again", "--yes"]).exits(3);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn what_is_said_of_devices_that_may_do_nothing_now_says_so() {
    let world = World::equipped();
    world.append("w/ward.toml", "\n[kinds.gateway]\ncarries = [\"windvane\"]\n");
    world.run(&["device", "add", "hub", "--kind", "gateway", "--label", "site=ossel"]).exits(0);
    world.run(&["device", "add", "kid-1", "--kind", "windvane", "--label", "site=ossel", "--gateway", "hub"]).exits(0);
    let ask = ["policy", "ask", "wv-1", "publish", "rope/ossel/wv-1/wind"];
    world.run(&ask).exits(0).prints(&["allowed"]);
    let reach = ["--format", "json", "policy", "reach", "rope/ossel/+/wind"];
    assert_eq!(world.run(&reach).json()["publishers"], 3);
    world.run(&["hold", "wv-1", "--because", "odd", "--yes"]).exits(0);
    world.run(&ask).exits(3).prints(&["denied", "the device is on hold"]);
    let answer = world.run(&[&["--format", "json"], &ask[..]].concat()).json();
    assert_eq!((&answer["allowed"], &answer["policy_allows"]), (&false.into(), &true.into()));
    let reached = world.run(&reach).json();
    assert_eq!((&reached["publishers"], &reached["barred"]), (&2.into(), &1.into()));
    world.run(&["policy", "reach", "rope/ossel/+/wind"]).exits(0).prints(&["1 other device is out or on hold"]);
    world
        .run(&["revoke", "hub", "--reason", "keyCompromise", "--because", "stolen", "--yes"])
        .exits(0)
        .says(&["hub is the gateway of 1 device: kid-1"]);
    world.run(&["policy", "ask", "wv-2", "connect", ""]).exits(0).prints(&["allowed"]);
}

#[test]
fn an_enroll_that_is_killed_anywhere_leaves_nothing_that_nobody_knows() {
    let world = World::equipped();
    world.run(&["device", "add", "wv-3", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    let mut lost = 0;
    let mut finished = 0;
    // Killed again and again, later each time, until it gets through.
    for after in 0.. {
        let mut enroll =
            crate::harness::Running::start(&mut world.program(&["enroll", "wv-3", "--make-key", "--out", "outfits"]));
        std::thread::sleep(Duration::from_millis(after * 3));
        let done = enroll.has_ended();
        enroll.kill();
        let issued = world.path("outfits/wv-3/device.pem");
        if issued.exists() {
            // What looks like an outfit is known.
            world.run(&["credential", "show", "--cert", "outfits/wv-3/device.pem"]).exits(0).prints(&["wv-3"]);
        }
        let told = world.run(&["device", "show", "wv-3"]).exits(0).stderr;
        lost += usize::from(told.contains("is revoked now"));
        finished += usize::from(told.contains("was finished"));
        assert_eq!(partial(&world), None, "{told}");
        if done || issued.exists() {
            break;
        }
        assert!(after < 1_000, "it never gets through");
    }
    world.run(&["credential", "show", "--cert", "outfits/wv-3/device.pem"]).exits(0).prints(&["may sign in  yes"]);
    let listed = world.run(&["--format", "json", "crl", "--out", "list.pem"]).exits(0);
    let text = world.other("openssl", &["crl", "-in", "list.pem", "-noout", "-text"]).stdout;
    assert_eq!(text.matches("Serial Number:").count(), lost, "{finished} finished; {listed}\n{text}");
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn the_record_is_held_against_the_tables_and_against_a_head_kept_elsewhere() {
    let world = World::equipped();
    world.write("bulk.csv", "id,kind,label.site\ngb-1,windvane,ossel\ngb-2,windvane,ossel\n");
    world.run(&["enroll", "--from", "bulk.csv", "--pack", "bulk.tar.zst", "--yes"]).exits(0);
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--because", "lost", "--yes"]).exits(0);
    world.run(&["hold", "wv-2", "--because", "odd", "--yes"]).exits(0);
    world.run(&["key", "block", "--cert", "outfits/wv-2/device.pem", "--because", "weak", "--yes"]).exits(0);
    world.run(&["audit", "log", "--subject", "gb-1"]).exits(0).prints(&["enroll.batch"]);
    world.run(&["audit", "head", "--out", "head.json"]).exits(0).prints(&["signed the head of"]);
    world
        .run(&["audit", "verify", "--head", "head.json"])
        .exits(0)
        .prints(&["the ward's tables hold what it says", "goes on from the head"]);
    world.run(&["device", "add", "wv-4", "--kind", "windvane"]).exits(0);
    world.run(&["audit", "verify", "--head", "head.json"]).exits(0);
    let copy = std::fs::read_to_string(world.path("head.json")).unwrap();
    world.write("forged.json", copy.replace("\"number\": ", "\"number\": 1"));
    world.run(&["audit", "verify", "--head", "forged.json"]).exits(3).says(&["is not a signed head"]);
    world.other("sqlite3", &["w/ward.db", ".backup before.db"]);
    let tampered = |sql: &str, told: &str| {
        world.other("sqlite3", &["w/ward.db", ".backup now.db"]);
        world.other("sqlite3", &["w/ward.db", sql]).exits(0);
        world.run(&["audit", "verify"]).exits(3).prints(&[told]);
        for leftover in ["w/ward.db-wal", "w/ward.db-shm"] {
            let _ = std::fs::remove_file(world.path(leftover));
        }
        std::fs::copy(world.path("now.db"), world.path("w/ward.db")).unwrap();
        world.run(&["audit", "verify"]).exits(0);
    };
    tampered(
        "UPDATE devices SET out = NULL WHERE id = 'wv-1'",
        "device `wv-1`: it is none of out, on hold, retired here, and out by the record",
    );
    tampered("UPDATE devices SET held = NULL WHERE id = 'wv-2'", "device `wv-2`");
    tampered("UPDATE devices SET out = 1 WHERE id = 'gb-1'", "device `gb-1`: it is out here");
    tampered("UPDATE credentials SET revoked = NULL, reason = NULL", "and it is not revoked here");
    tampered(
        "UPDATE editions SET files = replace(files, 'brake', 'broke')",
        "edition 1: its text is not the one that was adopted",
    );
    tampered("UPDATE authorities SET retired = 1 WHERE name = 'devices'", "authority `devices`: it is retired here");
    tampered(
        "UPDATE authorities SET name = 'other' WHERE name = 'service'",
        "authority `service`: it stands in the record, and is gone here",
    );
    tampered(
        "UPDATE credentials SET fingerprint = randomblob(32) WHERE device = (SELECT pk FROM devices WHERE id = 'gb-2')",
        "it records other certificates",
    );
    tampered(
        "DELETE FROM credentials WHERE device = (SELECT pk FROM devices WHERE id = 'gb-2')",
        "it records other certificates",
    );
    tampered("DELETE FROM devices WHERE id = 'wv-1'", "device `wv-1`: it stands in the record, and is gone here");
    tampered("DELETE FROM blocked_keys WHERE source = 'given'", "blocked keys: 0 stand here, and the record blocks 1");
    // Cut off at the end, with what is noted of the end put right.
    tampered_head(&world);
}

#[test]
fn with_a_full_disk_a_device_can_still_be_revoked() {
    let world = World::equipped();
    let program = env!("CARGO_BIN_EXE_tidy-warden");
    // A file system of its own, in a namespace of its own.
    let script = format!(
        "mkdir disk && mount -t tmpfs -o size=12m none disk && cp -r w disk/w && export TIDY_WARDEN_WARD=disk/w \
         TIDY_WARDEN_PASSPHRASE_FILE=pass.txt && {program} device list >/dev/null && test -f disk/w/ward.db.reserve && \
         (cat /dev/zero > disk/filler; true) 2>/dev/null && \
         if {program} device add wv-9 --kind windvane; then echo it was not full; fi; \
         {program} revoke wv-1 --reason keyCompromise --because lost --yes && {program} crl --out disk/list.pem && \
         {program} device show wv-1 && ls disk/w"
    );
    let ran = world.other("unshare", &["-rm", "bash", "-c", &script]).exits(0);
    assert!(ran.stderr.contains("the disk of disk/w is full; the reserve"), "{ran}");
    assert!(ran.stdout.contains("state       out") && ran.stdout.contains("wrote CRL 1"), "{ran}");
    assert!(!ran.stdout.contains("ward.db.reserve") && !ran.stdout.contains("it was not full"), "{ran}");
}

/// A record that was cut off so that it is whole again shows only against the head.
fn tampered_head(world: &World) {
    let cut = "DELETE FROM audit WHERE number = (SELECT max(number) FROM audit);
               DELETE FROM audit WHERE number = (SELECT max(number) FROM audit);
               DELETE FROM devices WHERE id = 'wv-4';
               UPDATE meta SET value = (SELECT max(number) FROM audit) WHERE key = 'audit_number';
               UPDATE meta SET value = (SELECT hash FROM audit ORDER BY number DESC LIMIT 1) WHERE key = 'audit_hash';";
    world.other("sqlite3", &["w/ward.db", cut]).exits(0);
    world
        .run(&["audit", "verify"])
        .exits(3)
        .prints(&["the tree that is noted beside the record is not that of its entries"]);
    // Whoever knows the program mends that, too.
    let hashes = world.other("sqlite3", &["w/ward.db", "SELECT hex(hash) FROM audit ORDER BY number"]).exits(0).stdout;
    let mut tree = tidy_warden_core::audit::Tree::default();
    for hash in hashes.lines() {
        tree.add(&data_encoding::HEXUPPER.decode(hash.as_bytes()).unwrap().try_into().unwrap());
    }
    let octets = data_encoding::HEXUPPER.encode(&tree.to_octets());
    let mend = format!("UPDATE meta SET value = x'{octets}' WHERE key = 'audit_tree'");
    world.other("sqlite3", &["w/ward.db", &mend]).exits(0);
    world.run(&["audit", "verify"]).exits(0);
    world.run(&["audit", "verify", "--head", "head.json"]).exits(3).prints(&["was cut off, or put back from before"]);
    world.run(&["device", "add", "wv-5", "--kind", "windvane"]).exits(0);
    world.run(&["device", "add", "wv-6", "--kind", "windvane"]).exits(0);
    world.run(&["audit", "verify", "--head", "head.json"]).exits(3).prints(&["was written anew"]);
}

#[test]
fn who_acts_is_the_account_and_a_claimed_name_is_told_as_claimed() {
    let world = World::init().with("TIDY_WARDEN_ACTOR", "somebody\nelse");
    let because = "x\n99  root  revoke  wv-1";
    world.run(&["device", "add", "wv-1", "--kind", "windvane", "--because", because]).exits(0);
    let account = world.other("id", &["-un"]).stdout.trim().to_owned();
    let log =
        world.run(&["audit", "log", "--subject", "wv-1"]).exits(0).prints(&[&format!("{account} (as \"somebody")]);
    assert_eq!(log.stdout.lines().count(), 2, "a line break forges no row: {log}");
}

#[test]
fn secrets_stay_out_of_core_files_and_weak_passphrases_lock_nothing() {
    let world = World::new();
    world.secret("short.txt", "abc\n");
    world.secret("same.txt", "aaaaaaaaaaaaaaaaaaaa\n");
    for file in ["short.txt", "same.txt"] {
        world
            .run(&["--passphrase-file", file, "init", "--name", "N", "--host", "localhost"])
            .exits(3)
            .says(&["is too weak", "four or more words"]);
    }
    assert!(!world.path("w/ward.db").exists());
    let world = World::equipped();
    let mode = |name: &str| {
        use std::os::unix::fs::PermissionsExt;
        std::fs::metadata(world.path(name)).unwrap().permissions().mode() & 0o777
    };
    assert_eq!(mode("w/ward.db"), 0o600, "whatever the umask says");
    let guard = Guard::with(&world, "builtin", &["--observe", "seen.jsonl"]);
    assert_eq!(mode("seen.jsonl"), 0o600);
    // The limits of a process that may not be dumped can be read by root alone; another account cannot even look.
    match std::fs::read_to_string(format!("/proc/{}/limits", guard.running.id())) {
        Ok(limits) => {
            assert!(limits.lines().any(|line| line.starts_with("Max core file size        0 ")), "{limits}");
        }
        Err(error) => assert_eq!(error.kind(), std::io::ErrorKind::PermissionDenied),
    }
    assert!(eventually(|| world.path("w/guard.seen").exists().then_some(())).is_some());
    assert_eq!(mode("w/guard.seen"), 0o600);
}

#[test]
fn the_roots_own_passphrase_does_not_lock_what_it_signs() {
    let world = World::new();
    world.secret("root.txt", "only for the root of it\n");
    world
        .run(&[
            "init",
            "--name",
            "N",
            "--host",
            "localhost",
            "--root-passphrase-file",
            "root.txt",
            "--root-offline",
            "safe",
        ])
        .exits(0);
    let add = ["authority", "add", "second", "--root-key", "safe/root.key"];
    world.run(&add).exits(1);
    world.run(&[&add[..], &["--root-passphrase-file", "root.txt"]].concat()).exits(0);
    world.append("w/ward.toml", "\n[kinds.windvane]\nauthority = \"second\"\n");
    world.run(&["device", "add", "wv-1", "--kind", "windvane"]).exits(0);
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
}

#[test]
fn a_guard_needs_only_the_passphrase_of_its_own_key_and_that_once() {
    let world = World::new();
    world.secret("guard.txt", "four words of its own\n");
    let init = ["init", "--name", "North", "--guard-passphrase-file", "guard.txt"];
    let made = world.run(&init).exits(0);
    assert!(!made.stderr.contains("one passphrase opens all keys"), "{}", made.stderr);
    world
        .run(&["guard", "--broker", "builtin"])
        .exits(1)
        .says(&["keys/guard.key", "may have passphrases of their own"]);
    let world = world.with("TIDY_WARDEN_PASSPHRASE_FILE", "guard.txt");
    let guard = Guard::start(&world, "builtin");
    // It needs it no more, and keeps it nowhere.
    std::fs::remove_file(world.path("guard.txt")).unwrap();
    assert_eq!(guard.reload()["event"], "reloaded");
    World::new().run(&["init", "--name", "North"]).exits(0).says(&["one passphrase opens all keys"]);
}
