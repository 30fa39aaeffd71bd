//! Bad input is refused with a clear error and loses nothing.

use crate::harness::{KINDS, POLICY, World, exists};

#[test]
fn a_folder_that_holds_a_ward_is_not_made_into_another() {
    let world = World::init();
    let before = std::fs::read(world.path("w/ward.db")).unwrap();
    world
        .run(&["init", "--name", "Other", "--host", "localhost"])
        .exits(3)
        .says(&["error: cannot make a ward in w", "try: "]);
    assert_eq!(std::fs::read(world.path("w/ward.db")).unwrap(), before);
    world.run(&["--ward", "x", "init", "--name", "", "--host", "localhost"]).exits(3).says(&["1 to 40"]);
    world.run(&["--ward", "x", "init", "--name", "n", "--host", "a b"]).exits(3).says(&["not a host name"]);
    assert!(!exists(&world.path("x")));
    world.run(&["--ward", "nowhere", "device", "list"]).exits(4).says(&["there is no ward in nowhere", "try: "]);
}

#[test]
fn passphrases_are_checked() {
    let world = World::init();
    world.run(&["device", "add", "wv-1", "--kind", "windvane"]).exits(0);
    world.secret("wrong.txt", "wrong\n");
    let enroll = ["enroll", "wv-1", "--make-key", "--out", "o", "--passphrase-file"];
    let with = |file| world.run(&[&enroll[..], &[file]].concat());
    with("wrong.txt").exits(1).says(&["the passphrase is wrong", "try: "]);
    assert!(!exists(&world.path("o")), "nothing is half done");
    with("none.txt").exits(4).says(&["none.txt", "does not exist"]);
    world.secret("empty.txt", "\n");
    with("empty.txt").exits(3).says(&["is empty"]);
    world.write("open.txt", "correct horse battery\r\n");
    with("open.txt").exits(0).says(&["warning: others can read open.txt"]);
    let mut bare = world.program(&["token", "issue", "wv-1"]);
    let output = bare.env_remove("TIDY_WARDEN_PASSPHRASE_FILE").output().unwrap();
    assert_eq!(output.status.code(), Some(2), "no terminal and no file");
}

#[test]
fn settings_are_checked_in_one_pass() {
    let world = World::init();
    world.append("w/ward.toml", "[kinds.cabin]\nlive = \"30d\"\nlife = 7\nauthority = \"cabins\"\n[gaurd]\nx = = 1\n");
    let ran = world.run(&["settings", "check"]).exits(3);
    ran.prints(&[
        "did you mean `life`?",
        "`gaurd` is not a setting",
        "this is not a value for `life`",
        "^^^^",
        "ward.toml:",
        "the ward has no authority `cabins` for devices",
        "extra `=`",
        "5 errors",
    ]);
    world.run(&["device", "list"]).exits(3).says(&["has mistakes"]);
}

#[test]
fn a_kind_that_is_not_declared_is_refused_with_the_lines_to_add() {
    let world = World::init();
    world
        .run(&["device", "add", "x-1", "--kind", "winvane"])
        .exits(3)
        .says(&["did you mean `windvane`?", "[kinds.winvane]"]);
    world.run(&["device", "add", "x/1", "--kind", "windvane"]).exits(3).says(&["'/'"]);
    world.run(&["device", "add", "localhost", "--kind", "windvane"]).exits(3).says(&["an endpoint"]);
    world.run(&["device", "add", "x-1", "--kind", "windvane", "--label", "kind=a"]).exits(3).says(&["no label"]);
    world.run(&["device", "add", "x-1", "--kind", "windvane", "--label", "site=a/b"]).exits(3).says(&["'/'"]);
    world.run(&["device", "add", "x-1", "--kind", "windvane", "--label", "site"]).exits(2);
    world
        .run(&["device", "add", "x-1", "--kind", "windvane", "--fact", "imei=490154203237517"])
        .exits(3)
        .says(&["check digit"]);
    let none = world.run(&["device", "list", "--format", "json"]).exits(0).json();
    assert_eq!(none["devices"].as_array().unwrap().len(), 0);
}

#[test]
fn a_list_is_taken_whole_or_not_at_all() {
    let world = World::init();
    world.run(&["device", "add", "wv-0", "--kind", "windvane", "--fact", "serial=QF-0"]).exits(0);
    let import = |text: &[u8]| {
        world.write("list.csv", text);
        world.run(&["device", "import", "list.csv"])
    };
    import(b"name,kind\nwv-1,windvane\n").exits(3).says(&[
        "its header is wrong",
        "`name` is not a column",
        "try: begin",
    ]);
    import(b"id,label.site\nwv-1,a\n").exits(3).says(&["the column `kind` is missing"]);
    import(b"id,kind,id\n").exits(3).says(&["stands twice"]);
    import(b"id,kind\n").exits(3).says(&["no row after the header"]);
    import(b"id,kind\nwv-1,windvane\nwv-\xff,windvane\n").exits(3).says(&["line 3: it holds bytes that are not UTF-8"]);
    let bad = b"id,kind,fact.serial,fact.mac\n\
        wv-1,windvane,QF-1,\n\
        wv-2,windvane\n\
        WV-3,windvane,QF-3,\n\
        wv-4,windvain,QF-4,\n\
        wv-5,windvane,QF-5,xyz\n\
        wv-1,windvane,QF-6,\n\
        wv-7,windvane,QF-1,\n\
        wv-8,windvane,QF-0,00:00:00:00:00:08\n\
        wv-9,windvane,QF-9,00-00-00-00-00-09\n";
    let ran = import(bad).exits(3).says(&[
        "nothing of list.csv was taken: 7 of its rows are bad",
        "line 3: it has 2 fields, the header has 4",
        "line 4: the device id \"WV-3\" holds 'W'",
        "line 5: the kind `windvain` is not declared",
        "line 6: the mac `xyz` is not valid",
        "line 7: the id `wv-1` is taken",
        "line 8: the serial `QF-1` belongs to `wv-1`",
        "line 9: the serial `QF-0` belongs to `wv-0`",
    ]);
    assert!(!ran.stderr.contains("line 2:") && !ran.stderr.contains("line 10:"), "{ran}");
    assert_eq!(world.run(&["device", "list", "--format", "csv"]).stdout.lines().count(), 2);

    world.run(&["device", "import", "list.csv", "--rejects", "rejects.csv"]).exits(5).says(&["listed 2 devices"]);
    let rejects = std::fs::read_to_string(world.path("rejects.csv")).unwrap();
    assert!(rejects.starts_with("id,kind,fact.serial,fact.mac,refused\nwv-2,windvane,,,"), "{rejects}");
    let mended = rejects
        .replace("wv-2,windvane,,", "wv-2,windvane,QF-2,")
        .replace("WV-3", "wv-3")
        .replace("windvain", "windvane");
    let mended: String = mended
        .lines()
        .filter(|line| !line.contains("xyz") && !line.contains("QF-0"))
        .map(|line| format!("{line}\n"))
        .collect();
    let mended =
        mended.replace("wv-1,windvane,QF-6", "wv-6,windvane,QF-6").replace("wv-7,windvane,QF-1", "wv-7,windvane,QF-7");
    import(mended.as_bytes()).exits(0).says(&["listed 5 devices"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn requests_that_prove_nothing_are_refused() {
    let world = World::init();
    world.run(&["device", "add", "wv-1", "--kind", "windvane"]).exits(0);
    let openssl = |args: &[&str]| world.other("openssl", args).exits(0);
    let enroll = |file| world.run(&["enroll", "wv-1", "--csr", file, "--out", "o"]);
    let request = |key: &str, digest: &str, out: &str| {
        openssl(&["req", "-new", "-key", key, digest, "-subj", "/CN=x", "-outform", "DER", "-out", out]);
    };
    openssl(&["ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "p256.key"]);
    request("p256.key", "-sha256", "good.csr");
    let good = std::fs::read(world.path("good.csr")).unwrap();

    world.write("short.csr", &good[..good.len() - 5]);
    enroll("short.csr").exits(3).says(&["was refused", "not one well-formed PKCS#10"]);
    world.write("long.csr", [good.as_slice(), b"x"].concat());
    enroll("long.csr").exits(3).says(&["not one well-formed PKCS#10"]);
    let mut flipped = good.clone();
    *flipped.last_mut().unwrap() ^= 1;
    world.write("flipped.csr", &flipped);
    enroll("flipped.csr").exits(3).says(&["self-signature is not accepted"]);
    request("p256.key", "-sha1", "sha1.csr");
    enroll("sha1.csr").exits(3).says(&["SHA-1"]);
    openssl(&["genrsa", "-out", "rsa1024.key", "1024"]);
    request("rsa1024.key", "-sha256", "rsa1024.csr");
    enroll("rsa1024.csr").exits(3).says(&["1024 bits"]);
    openssl(&["ecparam", "-name", "secp256k1", "-genkey", "-noout", "-out", "k1.key"]);
    request("k1.key", "-sha256", "k1.csr");
    enroll("k1.csr").exits(3).says(&["elliptic curve 1.3.132.0.10 is not accepted"]);
    enroll("p256.key").exits(3).says(&["private key"]);
    world.run(&["authority", "export", "--out", "trust"]).exits(0);
    enroll("trust/root.pem").exits(3).says(&["it is a certificate, not a request"]);
    enroll("none.csr").exits(4).says(&["does not exist"]);
    world.write("big.csr", vec![0x30; 70_000]);
    enroll("big.csr").exits(3).says(&["most that such a file may have"]);
    assert!(!exists(&world.path("o")));
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&["state       listed"]);

    for (name, key) in [
        ("rsa2048", &["genrsa", "-out", "rsa2048.key", "2048"][..]),
        ("p384", &["ecparam", "-name", "secp384r1", "-genkey", "-noout", "-out", "p384.key"]),
        ("ed25519", &["genpkey", "-algorithm", "ed25519", "-out", "ed25519.key"]),
    ] {
        openssl(key);
        request(&format!("{name}.key"), "-sha256", &format!("{name}.csr"));
        world.run(&["device", "add", name, "--kind", "windvane"]).exits(0);
        world.run(&["enroll", name, "--csr", &format!("{name}.csr"), "--out", "o"]).exits(0).prints(&[name]);
    }
    enroll("good.csr").exits(0);
    world.run(&["device", "add", "wv-2", "--kind", "windvane"]).exits(0);
    let again = world.run(&["enroll", "wv-2", "--csr", "good.csr", "--out", "o"]);
    again.exits(3).says(&["the same key is in use by `wv-1`", "try: make a new key"]);
    assert!(!exists(&world.path("o/wv-2")));
}

#[test]
fn an_outfit_is_never_written_through_a_link_or_over_another() {
    let world = World::init();
    world.run(&["device", "add", "wv-1", "--kind", "windvane"]).exits(0);
    std::fs::create_dir_all(world.path("o")).unwrap();
    std::fs::create_dir_all(world.path("elsewhere")).unwrap();
    std::os::unix::fs::symlink(world.path("elsewhere"), world.path("o/wv-1")).unwrap();
    world.run(&["enroll", "wv-1", "--make-key", "--out", "o"]).exits(3).says(&["never overwritten"]);
    assert_eq!(std::fs::read_dir(world.path("elsewhere")).unwrap().count(), 0);
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&["state       listed"]);
}

#[test]
fn policies_with_mistakes_are_not_adopted() {
    let world = World::init();
    world.write("w/policies/a.policy", "policy a {\n  for kind = windvane\n  allow publsh \"x\"\n}\n");
    let check = world.run(&["policy", "check"]).exits(3);
    check.prints(&["policies/a.policy:3:9: error syntax: found `publsh`", "        ^^^^^^", "did you mean `publish`?"]);
    world.run(&["policy", "adopt", "--yes"]).exits(3).says(&["were not adopted", "^^^^^^", "try: "]);
    world.write("w/policies/a.policy", "policy a {\n  for kind = windvain\n  allow publish \"#\"\n}\n");
    let found = world.run(&["policy", "check", "--format", "json"]).exits(3).json();
    let ids: Vec<_> = found["findings"].as_array().unwrap().iter().map(|finding| finding["id"].clone()).collect();
    assert_eq!(ids, ["unknown-kind", "broad-rule"]);
    assert_eq!(found["findings"][1]["line"], 3);
    world.write("w/policies/a.policy", b"policy \xff {}");
    world.run(&["policy", "check"]).exits(3).says(&["not UTF-8"]);
    world.write("w/policies/a.policy", "#".repeat(5_000_000));
    world.run(&["policy", "check"]).exits(3);
    world.write("w/policies/a.policy", POLICY);
    world.run(&["policy", "adopt"]).exits(2).says(&["--yes"]);
    world.run(&["policy", "editions"]).exits(0).says(&["no edition was adopted yet"]);
    world.run(&["policy", "adopt", "--yes", "--because", "first"]).exits(0).prints(&["adopted edition 1: 2 policies"]);
    world.run(&["policy", "editions"]).exits(0).prints(&["first"]);
}

#[test]
fn a_claim_that_does_not_hold_is_refuted_with_a_topic_and_two_devices() {
    let world = World::equipped();
    let claim = POLICY.replacen("  deny ", "  sole publish \"rope/{site}/{device}/wind\"\n  deny ", 1);
    world.write("w/policies/all.policy", &claim);
    world.run(&["policy", "check"]).exits(0);
    world.write("w/policies/all.policy", claim.replace("/+/settings\"", "/+/+\""));
    world
        .run(&["policy", "check"])
        .exits(3)
        .prints(&["error not-sole: `cr-ossel` can publish \"rope/ossel/wv-1/wind\" too"]);
    world.run(&["policy", "adopt", "--yes"]).exits(3);
}

#[test]
fn changes_that_end_things_need_a_yes() {
    let world = World::equipped();
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise"]).exits(2).says(&["add --yes"]);
    world.run(&["revoke", "wv-1", "--reason", "boredom", "--yes"]).exits(2).says(&["`boredom` is not a reason"]);
    world.run(&["device", "retire", "wv-1"]).exits(2);
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--credential", "00ff", "--yes"]).exits(4);
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&["state       equipped"]);
    let shown = world.run(&["device", "show", "wv-1", "--format", "json"]).json();
    let serial = shown["credentials"][0]["serial"].as_str().unwrap().to_uppercase();
    world.run(&["revoke", "wv-1", "--reason", "superseded", "--credential", &serial, "--yes"]).exits(0);
    world.run(&["device", "show", "wv-1"]).exits(0).prints(&["state       ended", "its certificate was revoked"]);
}

#[test]
fn tokens_are_made_only_where_the_kind_says_so() {
    let world = World::equipped();
    world.run(&["token", "issue", "cr-ossel"]).exits(3).says(&["do not sign in by token", "token_login = true"]);
    world.run(&["token", "issue", "wv-1", "--for", "25h"]).exits(3).says(&["up to 1d"]);
    world.run(&["token", "issue", "wv-1", "--for", "soon"]).exits(3).says(&["not a length of time"]);
    world.write("none.txt", "a.b.c\n");
    world.run(&["token", "read", "--file", "none.txt"]).exits(3).says(&["cannot be read"]);
    world.run(&["token", "read", "a.b.c"]).exits(2).says(&["does not belong on the command line", "token read < "]);
    let other = World::equipped();
    let foreign = other.run(&["token", "issue", "wv-1"]).exits(0).stdout;
    world.write("foreign.txt", foreign);
    world.run(&["token", "verify", "--file", "foreign.txt"]).exits(3).prints(&["no key is known"]);
}

#[test]
fn a_store_from_a_newer_version_is_left_alone() {
    let world = World::init();
    world.other("sqlite3", &["w/ward.db", "PRAGMA user_version = 99"]).exits(0);
    world.run(&["device", "list"]).exits(1).says(&["format 99", "newer one"]);
}

#[test]
fn tampering_with_the_record_is_found_and_named() {
    let world = World::equipped();
    world.run(&["audit", "verify"]).exits(0);
    world.other("sqlite3", &["w/ward.db", "UPDATE audit SET actor = 'eve' WHERE number = 3"]).exits(0);
    world.run(&["audit", "verify"]).exits(3).prints(&["entry 3 was changed"]);
    world.other("sqlite3", &["w/ward.db", "DELETE FROM audit WHERE number = 3"]).exits(0);
    world.run(&["audit", "verify"]).exits(3).prints(&["entries 3 to 3 are missing"]);
}

#[test]
fn the_matcher_can_be_tested_from_outside() {
    let world = World::new();
    for (filter, topic, code) in
        [("a/+", "a/b", 0), ("a/#", "a", 0), ("#", "$SYS/a", 1), ("a/#/b", "a", 2), ("a", "+", 2)]
    {
        world.run(&["topic-match", filter, topic]).exits(code);
    }
}

#[test]
fn changed_settings_are_recorded() {
    let world = World::init();
    world.run(&["device", "list"]).exits(0);
    world.write(
        "w/ward.toml",
        std::fs::read_to_string(world.path("w/ward.toml")).unwrap().replace(KINDS, "\n[kinds.cabin]\n"),
    );
    world.run(&["device", "list"]).exits(0);
    let log = world.run(&["audit", "log", "--subject", "ward.toml", "--format", "json"]).exits(0).json();
    let last = log["entries"].as_array().unwrap().last().unwrap().clone();
    assert_eq!(last["detail"]["added"], serde_json::json!(["[kinds.cabin]"]));
    assert!(last["detail"]["removed"].as_array().unwrap().contains(&serde_json::json!("[kinds.windvane]")));
}
