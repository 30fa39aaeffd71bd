//! Admissions: who may come in by itself, each once.

use std::os::unix::fs::PermissionsExt;
use std::time::Duration;

use tidy_warden_core::admission::Secret;

use crate::harness::{Running, World, in_databases};

const KINDS: &str =
    "\n[kinds.gate]\nadmit = \"facts\"\nidentify = [\"serial\"]\n[kinds.cable-clamp]\nadmit = \"certificate\"\n";

fn world() -> World {
    let world = World::init();
    world.append("w/ward.toml", KINDS);
    world
}

fn open<'a>(more: &[&'a str]) -> Vec<&'a str> {
    [&["admission", "open"], more].concat()
}

#[test]
fn an_admission_is_opened_seen_and_withdrawn() {
    let world = world();
    let call = ["--id", "wv-9", "--kind", "windvane", "--label", "site=ossel", "--fact", "serial=QF-9", "--secret"];
    let opened = world.run(&open(&[&call[..], &["--out", "secret.txt", "--for", "30d"]].concat())).exits(0);
    let text = std::fs::read_to_string(world.path("secret.txt")).unwrap();
    let secret = Secret::parse(text.trim_end()).unwrap();
    assert_eq!(std::fs::metadata(world.path("secret.txt")).unwrap().permissions().mode() & 0o777, 0o600);
    opened.prints(&["admission A1", "state     open", "device    wv-9", "secret    secret.txt"]);
    // It is kept nowhere.
    let store = std::fs::read(world.path("w/ward.db")).unwrap_or_default();
    assert!(
        !store.windows(20).any(|octets| octets == &text.as_bytes()[..20]) && !text.contains(&format!("{secret:?}"))
    );
    let log = world.run(&["audit", "log", "--format", "json"]).exits(0);
    assert!(log.stdout.contains("admission.open") && !log.stdout.contains(text.trim_end()));
    // Shown once, if no file was named; a pattern makes the id.
    let shown = ["--id", "wv-{serial}", "--kind", "windvane", "--fact", "serial=QF-10", "--secret", "--format", "json"];
    let shown = world.run(&open(&shown)).exits(0).says(&["shown this once"]).json();
    assert_eq!((shown["device"].as_str(), shown["proof"].as_str()), (Some("wv-qf-10"), Some("secret")));
    assert!(Secret::parse(shown["secret"].as_str().unwrap()).is_some() && shown["secret_file"].is_null());
    let again = world.run(&["admission", "show", "A2", "--format", "json"]).exits(0).json();
    assert!(again["secret"].is_null() && again["state"] == "open" && again["facts"]["serial"] == "QF-10");

    world.write("of.csv", "id,kind,owner\nwv-31,windvane,ida\nwv-32,windvane,\n");
    world.run(&["admission", "import", "of.csv", "--out", "secrets.csv"]).exits(0);
    world.run(&["admission", "show", "A3"]).exits(0).prints(&["owner     ida"]);
    world.run(&["admission", "withdraw", "A3", "A4", "--yes"]).exits(0);
    let list = world.run(&["admission", "list", "--state", "open"]).exits(0).says(&["2 admissions: 2 open"]);
    assert!(list.stdout.lines().nth(1).unwrap().starts_with("A1    open   windvane"), "{list}");
    world.run(&["admission", "withdraw", "A1"]).exits(2).says(&["--yes"]);
    world.run(&["admission", "withdraw", "A1", "A7", "--yes"]).exits(4).says(&["no admission A7"]);
    world.run(&["admission", "withdraw", "A1", "--yes", "--because", "sent back"]).exits(0).says(&["withdrew A1"]);
    world.run(&["admission", "withdraw", "A2", "A1", "--yes"]).exits(3).says(&["A1 is withdrawn"]);
    let open_ones = world.run(&["admission", "list", "--state", "open", "--format", "json"]).exits(0).json();
    assert_eq!(open_ones["admissions"].as_array().unwrap().len(), 1);
    let csv = world.run(&["admission", "list", "--format", "csv"]).exits(0).stdout;
    assert!(
        csv.starts_with("name,state,kind,device,facts,proof,ends,used\nA1,withdrawn,windvane,wv-9,serial=QF-9,secret,"),
        "{csv}"
    );
    world.run(&["admission", "show", "wv-9"]).exits(3).says(&["expected A and a number"]);
    // Its time is over, by the ward's clock.
    let late = world.with("TIDY_WARDEN_NOW", "2099-01-01T00:00:00Z");
    late.run(&["admission", "list"]).exits(0).says(&["1 lapsed, 3 withdrawn"]);
}

#[test]
fn what_would_be_of_no_use_is_refused_and_what_is_weak_is_told() {
    let world = world();
    let refused = |call: &[&str], texts: &[&str]| {
        world.run(&open(call)).exits(3).says(texts);
    };
    refused(
        &["--id", "wv-1", "--kind", "windvane", "--fact", "serial=1"],
        &["takes a secret at least", "try: --secret"],
    );
    refused(&["--id", "gt-1", "--kind", "gate", "--secret"], &["wants the fact `serial`"]);
    refused(&["--id", "cc-1", "--kind", "cable-clamp", "--fact", "serial=1", "--secret"], &["try: --certificate"]);
    refused(&["--id", "cc-1", "--kind", "cable-clamp"], &["nothing tells which device"]);
    refused(&["--id", "wv-{mac}", "--kind", "windvane", "--secret"], &["the fact `mac` is not given"]);
    refused(&["--id", "wv-{Site}", "--kind", "windvane", "--secret"], &["is not a fact"]);
    refused(&["--id", "WV", "--kind", "windvane", "--secret"], &["only lower-case"]);
    refused(&["--id", "localhost", "--kind", "windvane", "--secret"], &["an endpoint"]);
    refused(&["--id", "wv-1", "--kind", "windvain", "--secret"], &["did you mean `windvane`"]);
    refused(&["--id", "wv-1", "--kind", "windvane", "--secret", "--for", "0s"], &["must end after now"]);
    refused(&["--id", "wv-1", "--kind", "windvane", "--secret", "--until", "2001-01-01T00:00:00Z"], &["after now"]);
    refused(&["--id", "wv-1", "--kind", "windvane", "--secret", "--for", "9999d"], &["within"]);
    world.run(&open(&["--id", "wv-1", "--kind", "windvane", "--out", "s"])).exits(2);
    world.run(&open(&["--id", "wv-1", "--kind", "windvane", "--secret", "--certificate"])).exits(2);
    assert!(!world.path("s").exists());
    world
        .run(&open(&[
            "--id",
            "gt-1",
            "--kind",
            "gate",
            "--fact",
            "serial=1",
            "--fact",
            &format!("ek={}", "ab".repeat(32)),
        ]))
        .exits(0)
        .says(&["whoever reads the sticker of `gt-1`", "endorsement key"]);
    world
        .run(&open(&["--id", "cc-1", "--kind", "cable-clamp", "--fact", "serial=7"]))
        .exits(0)
        .prints(&["proof     certificate"])
        .says(&["no trusted manufacturer tells the serial"]);
    world
        .run(&open(&["--id", "gt-2", "--kind", "gate", "--fact", "serial=1"]))
        .exits(3)
        .says(&["A1 is open for the serial `1`"]);
    // A file that is there already is not written, and then nothing is opened.
    world.write("taken", "mine");
    world.run(&open(&["--id", "wv-2", "--kind", "windvane", "--secret", "--out", "taken"])).exits(1).says(&["taken"]);
    assert_eq!(std::fs::read_to_string(world.path("taken")).unwrap(), "mine");
    assert_eq!(world.run(&["admission", "list", "--format", "json"]).json()["admissions"].as_array().unwrap().len(), 2);
    // The key that it must hold.
    world
        .other("openssl", &["genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-out", "k.pem"])
        .exits(0);
    world.other("openssl", &["pkey", "-in", "k.pem", "-pubout", "-out", "p.pem"]).exits(0);
    world.run(&open(&["--id", "wv-3", "--kind", "windvane", "--public-key", "k.pem"])).exits(3);
    world
        .run(&open(&["--id", "wv-3", "--kind", "windvane", "--public-key", "p.pem"]))
        .exits(0)
        .prints(&["proof     key"]);
    // Who is listed as another, or has a certificate, is not admitted.
    world.run(&["device", "add", "wv-4", "--kind", "windvane", "--fact", "serial=44"]).exits(0);
    world
        .run(&open(&["--id", "wv-5", "--kind", "windvane", "--fact", "serial=44", "--secret"]))
        .exits(3)
        .says(&["belongs to `wv-4`"]);
    world.run(&["enroll", "wv-4", "--make-key", "--out", "o"]).exits(0);
    world.run(&open(&["--id", "wv-4", "--kind", "windvane", "--secret"])).exits(3).says(&["has a certificate until"]);
}

fn list(count: usize) -> String {
    let rows: String = (0..count).map(|number| format!("wv-{number},windvane,ossel,QF-{number}\n")).collect();
    format!("id,kind,label.site,fact.serial\n{rows}")
}

/// Every secret of a list is the one of the admission that is open for its device.
fn fits(world: &World, file: &str, count: usize) {
    let text = std::fs::read_to_string(world.path(file)).unwrap();
    assert!(text.starts_with("id,kind,label.site,fact.serial,secret\n"));
    assert_eq!(text.lines().count(), count + 1, "each row once");
    let secrets: Vec<_> =
        text.lines().skip(1).map(|line| Secret::parse(line.rsplit(',').next().unwrap()).unwrap()).collect();
    if in_databases() {
        return;
    }
    let store = digests(world);
    for secret in &secrets {
        let digest = data_encoding::HEXLOWER.encode(&secret.digest());
        assert!(store.contains(&digest), "a secret that opens nothing");
    }
    assert_eq!(store.len(), count);
}

/// The digests in the store's file, as another program reads them.
fn digests(world: &World) -> std::collections::HashSet<String> {
    let read = world.other("sqlite3", &["w/ward.db", "SELECT lower(hex(digest)) FROM admissions"]);
    read.exits(0).stdout.lines().map(str::to_owned).collect()
}

#[test]
fn a_list_is_opened_whole_or_not_at_all_and_goes_on_where_it_was_killed() {
    let world = world();
    world.write("bad.csv", list(3) + "wv-1,windvane,ossel,QF-9\nwv-7,windvain,ossel,\ngt-1,gate,ossel,\n");
    let bad = world.run(&["admission", "import", "bad.csv", "--out", "s.csv"]).exits(3);
    bad.says(&[
        "2 of its rows are bad",
        "line 6: the kind `windvain`",
        "line 7: the kind `gate` wants the fact `serial`",
    ]);
    world.write("bad.csv", list(3) + "wv-1,windvane,ossel,QF-9\n");
    world.run(&["admission", "import", "bad.csv", "--out", "s.csv"]).exits(3).says(&["line 5: another of them"]);
    world.run(&["admission", "import", "bad.csv"]).exits(3).says(&["takes a secret at least"]);
    assert!(!world.path("s.csv").exists(), "nothing is left of it");

    // Begun with the first thousand, and killed when a part of the next was on the disk.
    world.write("list.csv", list(1000));
    world
        .run(&["admission", "import", "list.csv", "--out", "s.csv"])
        .exits(0)
        .says(&["opened 1000 admissions; 1000 secrets"]);
    assert_eq!(std::fs::metadata(world.path("s.csv")).unwrap().permissions().mode() & 0o777, 0o600);
    let begun = std::fs::read_to_string(world.path("s.csv")).unwrap();
    world.run(&["admission", "import", "list.csv", "--out", "s.csv"]).exits(3);
    world.write("list.csv", list(2500));
    let lost =
        format!("wv-1000,windvane,ossel,QF-1000,{}\nwv-1001,windvane,ossel,QF-1001,{}", "a".repeat(26), "b".repeat(9));
    world.append("s.csv", &lost);
    world
        .run(&["admission", "import", "list.csv", "--out", "s.csv", "--resume"])
        .exits(0)
        .says(&["opened 2500 admissions"]);
    assert!(std::fs::read_to_string(world.path("s.csv")).unwrap().starts_with(&begun), "what was opened stays");
    fits(&world, "s.csv", 2500);
    // Once more changes nothing, and another list's file is not touched.
    world.run(&["admission", "import", "list.csv", "--out", "s.csv", "--resume"]).exits(0);
    fits(&world, "s.csv", 2500);
    world.write("other.csv", list(2500).replace("ossel", "brindle"));
    world
        .run(&["admission", "import", "other.csv", "--out", "s.csv", "--resume"])
        .exits(3)
        .says(&["does not belong to this list"]);
    fits(&world, "s.csv", 2500);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_list_that_is_killed_at_any_moment_opens_each_once() {
    let world = world();
    world.write("list.csv", list(6000));
    let mut delay = Duration::from_millis(60);
    let mut kills = 0;
    loop {
        let resume: &[&str] = if world.path("s.csv").exists() { &["--resume"] } else { &[] };
        let call = [&["admission", "import", "list.csv", "--out", "s.csv"], resume].concat();
        let mut running = Running::start(&mut world.program(&call));
        std::thread::sleep(delay);
        if running.has_ended() {
            assert_eq!(running.wait(), Some(0), "{:?}", running.lines());
            break;
        }
        running.kill();
        kills += 1;
        delay = delay * 5 / 4;
    }
    assert!(kills > 0);
    fits(&world, "s.csv", 6000);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn admissions_that_were_changed_past_the_record_are_found() {
    if in_databases() {
        return;
    }
    let world = world();
    for id in ["wv-1", "wv-2", "wv-3"] {
        world.run(&open(&["--id", id, "--kind", "windvane", "--secret"])).exits(0);
    }
    world.write("list.csv", list(3).replace("wv-", "wx-"));
    world.run(&["admission", "import", "list.csv", "--out", "s.csv"]).exits(0);
    world.run(&["admission", "withdraw", "A2", "--yes"]).exits(0);
    world.run(&["device", "add", "wv-1", "--kind", "windvane"]).exits(0);
    world.run(&["revoke", "wv-1", "--reason", "unspecified", "--yes"]).exits(0);
    let state = world.run(&["admission", "list", "--format", "json"]).exits(0).json();
    let states: Vec<&str> =
        state["admissions"].as_array().unwrap().iter().map(|each| each["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["withdrawn", "withdrawn", "open", "open", "open", "open"]);
    world.run(&["audit", "verify"]).exits(0);
    std::fs::copy(world.path("w/ward.db"), world.path("kept.db")).unwrap();
    for (sql, found) in [
        (
            "UPDATE admissions SET state = NULL, ended = NULL WHERE number = 2",
            "admission A2: it is pending here, and withdrawn by the record",
        ),
        (
            "UPDATE admissions SET state = NULL, ended = NULL WHERE number = 1",
            "admission A1: it is pending here, and withdrawn by the record",
        ),
        (
            "UPDATE admissions SET state = 'withdrawn', ended = 5 WHERE number = 3",
            "admission A3: it is withdrawn here, and pending by the record",
        ),
        ("UPDATE admissions SET digest = zeroblob(32) WHERE number = 3", "it opens other admissions"),
        ("UPDATE admissions SET device = 'wx-9' WHERE number = 5", "it opens other admissions"),
        ("UPDATE admissions SET owner = 'eve' WHERE number = 5", "it opens other admissions"),
        ("DELETE FROM admissions WHERE number = 6", "it opens other admissions"),
        (
            "DELETE FROM admission_facts; DELETE FROM admissions WHERE number > 3",
            "the admissions that it opens are gone",
        ),
        (
            "INSERT INTO admissions SELECT 7, 'wx-7', kind, labels, '{}', gateway, proof, digest, opened, until, NULL, NULL, NULL, NULL FROM admissions WHERE number = 3",
            "admission A7: the record does not open it",
        ),
    ] {
        std::fs::copy(world.path("kept.db"), world.path("w/ward.db")).unwrap();
        world.other("sqlite3", &["w/ward.db", sql]).exits(0);
        world.run(&["audit", "verify"]).exits(3).prints(&[found]);
    }
}
