//! Many devices at once: lists, packs, outfits, refused rows, and kill -9 at any moment.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;
use std::time::{Duration, Instant};

use serde_json::Value;
use tidy_warden_core::certificate::{Certificate, Purpose, judge};
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey};
use tidy_warden_core::time::UnixTime;
use tidy_warden_simulate::certification_request;

use crate::harness::{Running, World, exists};

/// A pack's entries by name, and its manifest's lines.
pub(crate) fn open_pack(path: &Path) -> (BTreeMap<String, Value>, Vec<String>) {
    let (entries, manifest) = open_any_pack(path, "id,serial,fingerprint,ends,run");
    assert!(manifest.iter().all(|line| line.ends_with(",1")), "each line names its job");
    (entries, manifest)
}

/// The same of one whose manifest has these columns.
pub(crate) fn open_any_pack(path: &Path, head: &str) -> (BTreeMap<String, Value>, Vec<String>) {
    let file = std::fs::File::open(path).unwrap();
    let mut archive = tar::Archive::new(zstd::stream::Decoder::new(file).unwrap());
    let mut outfits = BTreeMap::new();
    let mut manifest = None;
    for entry in archive.entries().unwrap() {
        let mut entry = entry.unwrap();
        let name = entry.path().unwrap().display().to_string();
        let mode = entry.header().mode().unwrap();
        let mut text = String::new();
        entry.read_to_string(&mut text).unwrap();
        if name == "manifest.csv" {
            manifest = Some(text.lines().map(str::to_owned).collect::<Vec<_>>());
        } else {
            assert_eq!(mode, 0o600);
            let again = outfits.insert(name.clone(), serde_json::from_str(&text).unwrap());
            assert!(again.is_none(), "{name} stands in the pack twice");
        }
    }
    let mut manifest = manifest.unwrap();
    assert_eq!(manifest.remove(0), head);
    (outfits, manifest)
}

/// A certificate and a key of a kind that OpenSSL calls so, in `NAME.pem` and `NAME.key`.
pub(crate) fn receiver(world: &World, name: &str, kind: &[&str]) {
    let (certificate, key) = (format!("{name}.pem"), format!("{name}.key"));
    let common = ["req", "-x509", "-nodes", "-days", "30", "-subj", "/CN=fab", "-out", &certificate, "-keyout", &key];
    world.other("openssl", &[&common[..], &["-newkey"], kind].concat()).exits(0);
}

/// Opens every file of an encrypted pack as its receiver does: each alone, into `FILE.tar.zst`.
pub(crate) fn opened_by(world: &World, pack: &str, receiver: &str) -> Vec<String> {
    let (stem, extension) = pack.rsplit_once('.').unwrap();
    let names = std::iter::once(pack.to_owned()).chain((2..).map(|number| format!("{stem}.{number}.{extension}")));
    let mut opened = Vec::new();
    for name in names.take_while(|name| exists(&world.path(name))) {
        let (plain, key) = (format!("{name}.tar.zst"), format!("{receiver}.key"));
        let call = ["cms", "-decrypt", "-inform", "DER", "-in", &name, "-inkey", &key, "-out", &plain];
        world.other("openssl", &call).exits(0);
        opened.push(plain);
    }
    opened
}

/// Every certificate that the store says was issued, by device.
fn issued(world: &World) -> BTreeMap<String, String> {
    let list = world.run(&["credential", "list", "--all", "--format", "jsonl"]).exits(0);
    let mut found = BTreeMap::new();
    for line in list.stdout.lines() {
        let value: Value = serde_json::from_str(line).unwrap();
        let text = |name: &str| value[name].as_str().unwrap().to_owned();
        let again = found.insert(text("device"), text("fingerprint"));
        assert!(again.is_none(), "a device has two certificates: {line}");
    }
    found
}

fn certificate(outfit: &Value) -> Certificate {
    Certificate::from_pem(outfit["device_pem"].as_str().unwrap()).unwrap()
}

/// Whether the key in an outfit is that of its certificate.
fn assert_key_fits(outfit: &Value) {
    let pem = outfit["device_key"].as_str().unwrap();
    let body: String = pem.lines().filter(|line| !line.starts_with("-----")).collect();
    let key = SoftwareKey::from_pkcs8(&data_encoding::BASE64.decode(body.as_bytes()).unwrap()).unwrap();
    assert_eq!(*key.public_key(), certificate(outfit).public_key);
}

fn list(count: usize) -> String {
    let rows: String = (0..count).map(|number| format!("wv-{number},windvane,ossel,QF-{number}\n")).collect();
    format!("id,kind,label.site,fact.serial\n{rows}")
}

#[test]
fn a_list_becomes_a_pack_of_outfits() {
    let world = World::init();
    world.write("fleet.csv", list(25));
    world.run(&["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst"]).exits(2).says(&["add --yes"]);
    assert_eq!(issued(&world).len(), 0);
    world
        .run(&["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst", "--yes", "--batch", "7"])
        .exits(0)
        .prints(&["issued   25 certificates"])
        .says(&["25 devices with a made-up name"]);
    let (outfits, manifest) = open_pack(&world.path("fleet.tar.zst"));
    let issued = issued(&world);
    assert_eq!((outfits.len(), manifest.len(), issued.len()), (25, 25, 25));
    for (name, outfit) in &outfits {
        let id = name.strip_suffix(".json").unwrap();
        assert_key_fits(outfit);
        let leaf = certificate(outfit);
        assert_eq!(leaf.fingerprint.to_string(), issued[id]);
        let read = |name: &str| Certificate::read_all(outfit[name].as_str().unwrap().as_bytes()).unwrap();
        let now = UnixTime(leaf.not_before.0 + 601);
        assert_eq!(judge(&leaf, &read("chain_pem"), &read("root_pem"), Purpose::Client, now).map(|it| it.len()), Ok(3));
        assert_eq!(outfit["connect"]["device"], id);
        let line = manifest.iter().find(|line| line.starts_with(&format!("{id},"))).unwrap();
        assert!(line.contains(&issued[id]) && line.contains(&leaf.serial.to_string()), "{line}");
    }
    // The same again: every row is refused, and the pack is not touched.
    let before = std::fs::read(world.path("fleet.tar.zst")).unwrap();
    let again = world.run(&["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst", "--yes"]);
    again.exits(3).says(&["fleet.tar.zst exists already"]);
    world.run(&["enroll", "--from", "fleet.csv", "--pack", "b.tar.zst", "--yes"]).exits(5).prints(&["25 rows"]);
    assert_eq!(std::fs::read(world.path("fleet.tar.zst")).unwrap(), before);
    assert_eq!(open_pack(&world.path("b.tar.zst")).0.len(), 0);
    world.run(&["enroll", "--resume"]).exits(4).says(&["there is no unfinished bulk run"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn requests_come_as_files_pem_or_base64_and_keys_are_made_where_there_is_none() {
    let world = World::init();
    std::fs::create_dir(world.path("requests")).unwrap();
    let keys: Vec<SoftwareKey> = (0..3).map(|_| SoftwareKey::generate(NewKey::P256).unwrap()).collect();
    let request = |at: usize| certification_request(&keys[at], "x").unwrap();
    world.write("requests/one.der", request(0));
    let pem = tidy_warden_core::asn1::pem("CERTIFICATE REQUEST", &request(1));
    let base64 = data_encoding::BASE64.encode(&request(2));
    world.write(
        "requests/csrs.csv",
        format!("id,kind,csr\nwv-0,windvane,one.der\nwv-1,windvane,\"{pem}\"\nwv-2,windvane,{base64}\nwv-3,windvane,\nwv-4,windvane,none.der\n"),
    );
    world
        .run(&["enroll", "--from", "requests/csrs.csv", "--out", "outfits", "--yes"])
        .exits(5)
        .prints(&["issued   4 certificates", "refused  1 row"]);
    for (at, key) in keys.iter().enumerate() {
        let pem = std::fs::read_to_string(world.path(&format!("outfits/wv-{at}/device.pem"))).unwrap();
        assert_eq!(Certificate::from_pem(&pem).unwrap().public_key, *key.public_key());
        assert!(!exists(&world.path(&format!("outfits/wv-{at}/device.key"))));
    }
    assert!(exists(&world.path("outfits/wv-3/device.key")) && !exists(&world.path("outfits/.unfinished")));
    let refused = std::fs::read_to_string(world.path("requests/csrs.refused.csv")).unwrap();
    assert!(refused.starts_with("id,kind,csr,refused\nwv-4,windvane,none.der,line 13: cannot read"), "{refused}");
    // Mended, the list of refused rows is a list like any other.
    let key = SoftwareKey::generate(NewKey::Ed25519).unwrap();
    world.write("requests/none.der", certification_request(&key, "x").unwrap());
    world.run(&["enroll", "--from", "requests/csrs.refused.csv", "--out", "outfits", "--yes"]).exits(0);
    assert_eq!(issued(&world).len(), 5);
    // One key for two devices, in one list and across lists.
    let twice = data_encoding::BASE64.encode(&request(0));
    let fresh = data_encoding::BASE64
        .encode(&certification_request(&SoftwareKey::generate(NewKey::P256).unwrap(), "x").unwrap());
    world.write(
        "twice.csv",
        format!("id,kind,csr\nwv-5,windvane,{twice}\nwv-6,windvane,{fresh}\nwv-7,windvane,{fresh}\nwv-6,windvane,\n"),
    );
    world.run(&["enroll", "--from", "twice.csv", "--pack", "t.tar.zst", "--yes"]).exits(5).prints(&["1 certificate\n"]);
    let refused = std::fs::read_to_string(world.path("twice.refused.csv")).unwrap();
    for want in ["the same key is in use by `wv-0`", "the same key is in use by `wv-6`", "stands in the list twice"] {
        assert!(refused.contains(want), "missing {want:?} in {refused}");
    }
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn json_lines_by_standard_input_and_devices_that_are_listed() {
    use std::io::Write;
    let world = World::init();
    world.run(&["device", "add", "wv-1", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.run(&["device", "add", "wv-2", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.run(&["revoke", "wv-2", "--reason", "keyCompromise", "--yes"]).exits(0);
    let rows = [
        r#"{"id":"wv-1"}"#,
        r#"{"id":"wv-2"}"#,
        r#"{"id":"wv-3"}"#,
        r#"{"id":"wv-4","kind":"windvane","labels":{"site":"ossel"},"facts":{"serial":"QF-4"}}"#,
        r#"{"id":"wv-1","kind":"station"}"#,
        r#"{"id":"wv-6","kind":"windvane","colour":"red"}"#,
    ];
    let mut call = world.program(&["enroll", "--from", "-", "--pack", "p.tar.zst", "--yes", "--rejects", "r.jsonl"]);
    let mut child = call.stdin(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(rows.join("\n").as_bytes()).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(5));
    assert_eq!(issued(&world).keys().collect::<Vec<_>>(), ["wv-1", "wv-4"]);
    let refused = std::fs::read_to_string(world.path("r.jsonl")).unwrap();
    let whys =
        ["is out since", "the row names no kind", "its kind is `windvane` in the ward", "`colour` is not a column"];
    for (line, why) in refused.lines().zip(whys) {
        assert!(line.contains(why), "{why}: {line}");
    }
    assert_eq!(refused.lines().count(), 4);
    assert!(!exists(&world.path("w/bulk-input")), "the copy of standard input goes when the run is over");
}

#[test]
fn a_row_that_disagrees_with_the_ward_is_refused() {
    let world = World::init();
    world
        .run(&["device", "add", "wv-1", "--kind", "windvane", "--label", "site=ossel", "--fact", "serial=QF-1"])
        .exits(0);
    world.append("w/ward.toml", "\n[kinds.tension]\nfacts = [\"serial\"]\naccept = [\"ed25519\"]\n");
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let request = data_encoding::BASE64.encode(&certification_request(&key, "x").unwrap());
    for (row, why) in [
        ("wv-1,station,,,", "its kind is `windvane` in the ward and `station` in the list"),
        ("wv-1,windvane,brindle,,", "its label site is not `brindle` in the ward"),
        ("wv-1,windvane,,QF-2,", "its serial=QF-2 is not what the ward knows"),
        ("te-1,tension,,,", "wants the fact `serial`"),
        (&format!("te-1,tension,,QF-9,{request}"), "its key is p256, which its kind `tension` does not accept"),
        ("wv-9,windvane,,QF-1,", "the serial `QF-1` belongs to `wv-1`"),
    ] {
        world.write("l.csv", format!("id,kind,label.site,fact.serial,csr\n{row}\n"));
        world.run(&["enroll", "--from", "l.csv", "--pack", "l.tar.zst", "--yes"]).exits(5);
        let refused = std::fs::read_to_string(world.path("l.refused.csv")).unwrap();
        assert!(refused.contains(why), "missing {why:?} in {refused}");
        for name in ["l.refused.csv", "l.tar.zst"] {
            std::fs::remove_file(world.path(name)).unwrap();
        }
    }
    assert_eq!(issued(&world).len(), 0);
    let list = world.run(&["device", "list", "--format", "csv"]).exits(0);
    assert_eq!(list.stdout.lines().count(), 2, "a refused row lists no device");
}

#[test]
fn hostile_requests_give_nothing_but_their_key() {
    let world = World::init();
    let key = world
        .other("openssl", &["genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-out", "k.pem"]);
    key.exits(0);
    world.write(
        "hostile.cnf",
        "[req]\ndistinguished_name=dn\nreq_extensions=v3\nprompt=no\n[dn]\nCN=wv-2\nO=somebody else\n[v3]\n\
         basicConstraints=critical,CA:TRUE\nkeyUsage=keyCertSign\n\
         subjectAltName=URI:urn:dev:org:32473-wv-2,DNS:localhost\nextendedKeyUsage=serverAuth\n",
    );
    world.other("openssl", &["req", "-new", "-key", "k.pem", "-config", "hostile.cnf", "-out", "ca.csr"]).exits(0);
    world.run(&["device", "add", "wv-1", "--kind", "windvane"]).exits(0);
    world
        .run(&["enroll", "wv-1", "--csr", "ca.csr", "--out", "o"])
        .exits(0)
        .says(&["of the request only its key was taken", "the extensions that it asks for"]);
    let leaf = Certificate::from_pem(&std::fs::read_to_string(world.path("o/wv-1/device.pem")).unwrap()).unwrap();
    assert_eq!(leaf.basic_constraints.as_ref().map(|basic| basic.ca), Some(false));
    let shown = format!("{} {}", leaf.subject_text, leaf.alternative_names().join(" "));
    assert!(!shown.contains("wv-2") && !shown.contains("localhost") && !shown.contains("somebody"), "{shown}");
    assert_eq!(leaf.extended_key_usage.map(|all| all.len()), Some(1));

    world.write("l.csv", "id,kind,csr\nwv-3,windvane,nul.csr\n");
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    world.write("nul.csr", certification_request(&key, "wv-2\0.rope").unwrap());
    world
        .run(&["enroll", "--from", "l.csv", "--out", "o", "--yes"])
        .exits(0)
        .says(&["1 request asked for subjects, names or extensions; of each only its key was taken"]);
    let leaf = Certificate::from_pem(&std::fs::read_to_string(world.path("o/wv-3/device.pem")).unwrap()).unwrap();
    assert!(leaf.subject_text.contains("CN=wv-3") && !leaf.subject_text.contains('\0'), "{}", leaf.subject_text);

    let good = std::fs::read(world.path("ca.csr")).unwrap();
    let der = data_encoding::BASE64
        .decode(
            String::from_utf8_lossy(&good)
                .lines()
                .filter(|line| !line.starts_with("-----"))
                .collect::<String>()
                .as_bytes(),
        )
        .unwrap();
    // The outer length in the indefinite form of BER, which DER forbids.
    let mut ber = vec![0x30, 0x80];
    ber.extend_from_slice(&der[4..]);
    ber.extend_from_slice(&[0, 0]);
    world.write("ber.csr", &ber);
    world.write("two.csr", [good.as_slice(), &good].concat());
    world.write("huge.csr", vec![b'A'; 1 << 20]);
    let subject = format!("/CN={}", "x".repeat(60));
    world.other("openssl", &["req", "-new", "-key", "k.pem", "-subj", &subject, "-out", "long.csr"]).exits(0);
    for (file, why) in [
        ("ber.csr", "not one well-formed PKCS#10 request"),
        ("two.csr", "more than one PEM block"),
        ("huge.csr", "more than 65536 bytes"),
        ("k.pem", "private key"),
    ] {
        world.run(&["enroll", "wv-1", "--csr", file, "--again", "--out", "p"]).exits(3).says(&[why]);
        world.write("bad.csv", format!("id,kind,csr\nwv-9,windvane,{file}\n"));
        world.run(&["enroll", "--from", "bad.csv", "--pack", "bad.tar.zst", "--yes"]).exits(5);
        let refused = std::fs::read_to_string(world.path("bad.refused.csv")).unwrap();
        assert!(refused.contains(why), "{file}: {refused}");
        for name in ["bad.refused.csv", "bad.tar.zst"] {
            std::fs::remove_file(world.path(name)).unwrap();
        }
    }
    assert_eq!(issued(&world).len(), 2);
}

#[test]
fn a_run_goes_on_only_with_its_own_list_and_can_be_ended() {
    let world = World::init();
    world.write("fleet.csv", list(4000));
    let begin = ["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst", "--yes", "--batch", "50"];
    let mut running = Running::start(&mut world.program(&begin));
    let begun = crate::harness::eventually(|| {
        let size = std::fs::metadata(world.path("fleet.tar.zst.part")).map_or(0, |file| file.len());
        (size > 0).then_some(())
    });
    assert!(begun.is_some(), "{}", running.lines().join("\n"));
    running.kill();
    world
        .run(&["enroll", "--from", "fleet.csv", "--pack", "b.tar.zst", "--yes"])
        .exits(3)
        .says(&["another bulk run is not finished", "enroll --resume"]);
    world.write("other.csv", list(10));
    let other = world.run(&["enroll", "--resume", "--from", "other.csv"]);
    other.exits(3).says(&["cannot go on with", "not the list"]);
    let whole = std::fs::read(world.path("fleet.csv")).unwrap();
    world.append("fleet.csv", "wv-x,windvane,,\n");
    world.run(&["enroll", "--resume"]).exits(3).says(&["not the list that the run was begun with"]);
    world.write("fleet.csv", whole);
    world.secret("wrong.txt", "wrong\n");
    world.run(&["enroll", "--resume", "--passphrase-file", "wrong.txt"]).exits(1).says(&["passphrase is wrong"]);
    world.run(&["enroll", "--stop", "--yes"]).exits(5).says(&["ended before the list was"]);
    let (outfits, manifest) = open_pack(&world.path("fleet.tar.zst"));
    let issued = issued(&world);
    assert_eq!((outfits.len(), manifest.len()), (issued.len(), issued.len()));
    assert!(issued.len() < 4000, "the run was over before it was killed");
    world.run(&["enroll", "--resume"]).exits(4);
    world.run(&["audit", "verify"]).exits(0);
}

/// Kills runs at many moments until each is done; then everything that the store knows is in the output exactly once.
///
/// When to kill goes by what the run has done, not by the clock alone, so that a fast machine sees as many kills: the
/// first falls before or while the run is noted, each later one a little after the store took another batch.
fn kill_and_resume(place: &[&str], check: impl Fn(&World, &BTreeMap<String, String>)) {
    const ROWS: usize = 1200;
    let mut kills = 0;
    for round in 0..3u32 {
        let world = World::init();
        receiver(&world, "receiver", &["ec", "-pkeyopt", "ec_paramgen_curve:P-256"]);
        // Every tenth row is bad.
        let rows: String = (0..ROWS)
            .map(|number| match number % 10 {
                9 => format!("WV-{number},windvane,ossel,\n"),
                _ => format!("wv-{number},windvane,ossel,QF-{number}\n"),
            })
            .collect();
        world.write("fleet.csv", format!("id,kind,label.site,fact.serial\n{rows}"));
        let mut begin = vec!["enroll", "--from", "fleet.csv", "--yes", "--batch", "40"];
        begin.extend(place);
        let mut call = begin.clone();
        for turn in 0..u32::MAX {
            let mut running = Running::start(&mut world.program(&call));
            let begun = Instant::now();
            let (mut reached, mut ended) = (None, false);
            while !ended {
                let enough = match reached {
                    None if turn == 0 => begun.elapsed() >= Duration::from_millis(10 + 15 * u64::from(round)),
                    None => false,
                    Some(since) => {
                        Instant::elapsed(&since) >= Duration::from_millis(3) * (turn * turn / 2 + turn + round)
                    }
                };
                if enough {
                    break;
                }
                if reached.is_none() && turn > 0 && world.store_log() > 0 {
                    reached = Some(Instant::now());
                }
                std::thread::sleep(Duration::from_micros(300));
                ended = running.has_ended();
            }
            if ended {
                running.line("that all good rows have their certificates", |line| line == "issued   1080 certificates");
                break;
            }
            running.kill();
            kills += 1;
            world.run(&["audit", "verify"]).exits(0);
            let done = world.run(&["credential", "list", "--format", "jsonl"]).exits(0).stdout.lines().count();
            let asked = world.run(&["enroll", "--resume", "--from", "none.csv"]);
            // One that had come as far as its pack's name is over by being asked.
            let unfinished = !asked.stderr.contains("no unfinished") && asked.stdout.is_empty();
            call = match (unfinished, done) {
                (true, _) => vec!["enroll", "--resume"],
                // Killed before the run was noted, or after its end was.
                (false, 0) => begin.clone(),
                (false, all) => {
                    assert_eq!(all, ROWS / 10 * 9);
                    break;
                }
            };
        }
        let issued = issued(&world);
        assert_eq!(issued.len(), ROWS / 10 * 9);
        let refused = std::fs::read_to_string(world.path("fleet.refused.csv")).unwrap();
        assert_eq!(refused.lines().count(), 1 + ROWS / 10, "every bad row once");
        check(&world, &issued);
        world.run(&["audit", "verify"]).exits(0);
    }
    assert!(kills >= 12, "only {kills} runs were killed: this test shows too little");
}

#[test]
fn a_killed_run_loses_nothing_and_issues_nothing_twice_in_a_pack() {
    kill_and_resume(&["--pack", "fleet.tar.zst"], |world, issued| {
        let (outfits, manifest) = open_pack(&world.path("fleet.tar.zst"));
        assert_eq!(outfits.len(), issued.len());
        assert_eq!(manifest.len(), issued.len());
        for (name, outfit) in &outfits {
            let id = name.strip_suffix(".json").unwrap();
            assert_eq!(certificate(outfit).fingerprint.to_string(), issued[id]);
        }
        outfits.values().step_by(100).for_each(assert_key_fits);
        assert!(!exists(&world.path("fleet.tar.zst.part")) && !exists(&world.path("fleet.tar.zst.part.manifest")));
    });
}

#[test]
fn a_killed_run_loses_nothing_and_issues_nothing_twice_in_an_encrypted_pack() {
    kill_and_resume(&["--pack", "fleet.cms", "--pack-for", "receiver.pem"], |world, issued| {
        let mut seen = BTreeMap::new();
        for plain in opened_by(world, "fleet.cms", "receiver") {
            let (outfits, manifest) = open_pack(&world.path(&plain));
            assert_eq!(outfits.len(), manifest.len());
            for (name, outfit) in outfits {
                let id = name.strip_suffix(".json").unwrap().to_owned();
                let again = seen.insert(id, certificate(&outfit).fingerprint.to_string());
                assert!(again.is_none(), "{name} stands in two files");
            }
        }
        assert_eq!(seen, *issued);
        let left =
            std::fs::read_dir(world.path(".")).unwrap().filter_map(|entry| entry.ok()?.file_name().into_string().ok());
        assert_eq!(left.filter(|name| name.ends_with(".part")).count(), 0);
    });
}

#[test]
fn a_killed_run_loses_nothing_and_issues_nothing_twice_in_folders() {
    kill_and_resume(&["--out", "outfits"], |world, issued| {
        let names: Vec<String> = std::fs::read_dir(world.path("outfits"))
            .unwrap()
            .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        assert_eq!(names.len(), issued.len(), "nothing else is left in the folder");
        for (id, fingerprint) in issued {
            let pem = std::fs::read_to_string(world.path(&format!("outfits/{id}/device.pem"))).unwrap();
            assert_eq!(Certificate::from_pem(&pem).unwrap().fingerprint.to_string(), *fingerprint);
            assert!(exists(&world.path(&format!("outfits/{id}/device.key"))));
        }
    });
}

#[test]
fn a_full_disk_stops_a_run_that_then_goes_on() {
    let world = World::init();
    world.write("fleet.csv", list(3000));
    // 400 blocks of 1024 octets: room for the store's first pages, not for the pack.
    let program = env!("CARGO_BIN_EXE_tidy-warden");
    let call = format!(
        "ulimit -f 700; trap '' XFSZ; exec {program} enroll --from fleet.csv --pack p.tar.zst --yes --batch 500"
    );
    let mut limited = world.command("bash");
    limited.env("TIDY_WARDEN_WARD", "w").env("TIDY_WARDEN_PASSPHRASE_FILE", "pass.txt").args(["-c", &call]);
    let output = limited.output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.contains("error: ") && said.contains("enroll --resume"), "{said}");
    world.run(&["audit", "verify"]).exits(0);
    world.run(&["enroll", "--resume"]).exits(0).prints(&["issued   3000 certificates"]);
    assert_eq!(open_pack(&world.path("p.tar.zst")).0.len(), 3000);
}

#[test]
fn a_run_that_was_killed_after_its_pack_got_its_name_is_over_by_being_asked() {
    for ending in [&["enroll", "--resume"][..], &["enroll", "--stop", "--yes"]] {
        let world = World::init();
        world.write("fleet.csv", list(30));
        world.run(&["enroll", "--from", "fleet.csv", "--pack", "p.tar.zst", "--yes"]).exits(0);
        // The store as it stood before it was told of the end.
        world.other("sqlite3", &["w/ward.db", "UPDATE jobs SET ended = NULL"]).exits(0);
        world.run(ending).exits(0).prints(&["issued   30 certificates"]).says(&["holds keys and is not encrypted"]);
        assert_eq!(open_pack(&world.path("p.tar.zst")).0.len(), 30);
        world.run(&["enroll", "--resume"]).exits(4);
    }
}

#[test]
fn long_lists_are_whole_and_in_order_in_every_form() {
    let world = World::init();
    let ids: Vec<String> = (0..2_500).map(|at| format!("wv-{:05}", (at * 7_919) % 10_007)).collect();
    let rows: String = ids.iter().map(|id| format!("{id},windvane,ossel\n")).collect();
    world.write("list.csv", format!("id,kind,label.site\n{rows}cr-1,control-room,\n"));
    let empty = world.run(&["device", "list", "--format", "json"]).exits(0);
    assert_eq!(empty.stdout, "{\n  \"schema\": \"tidy-warden/devices/1\",\n  \"devices\": []\n}\n");
    world.run(&["enroll", "--from", "list.csv", "--pack", "p.tar.zst", "--yes"]).exits(0);
    let mut sorted = ids.clone();
    sorted.push("cr-1".to_owned());
    sorted.sort();
    let lines = world.run(&["device", "list", "--format", "jsonl"]).exits(0).stdout;
    let parsed: Vec<serde_json::Value> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let of = |all: &[serde_json::Value]| -> Vec<String> {
        all.iter().map(|each| each["id"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(of(&parsed), sorted);
    let document = world.run(&["device", "list", "--format", "json"]).exits(0).json();
    assert_eq!(document["devices"].as_array().unwrap(), &parsed);
    let csv = world.run(&["device", "list", "--format", "csv"]).exits(0).stdout;
    assert!(
        csv.starts_with("id,kind,state,gateway,label.site,ends,seen,note\ncr-1,control-room,equipped,,,"),
        "{csv:.200}"
    );
    assert_eq!(csv.lines().skip(1).map(|line| line.split(',').next().unwrap()).collect::<Vec<_>>(), sorted);
    let some = ["device", "list", "--where", "id = cr-1", "--columns", "id,site", "--format"];
    assert_eq!(world.run(&[&some[..], &["jsonl"]].concat()).exits(0).stdout, "{\"id\":\"cr-1\",\"site\":null}\n");
    assert_eq!(world.run(&[&some[..], &["csv"]].concat()).exits(0).stdout, "id,site\ncr-1,\n");
    let all = world.run(&["credential", "list", "--format", "json"]).exits(0).json();
    let all = all["credentials"].as_array().unwrap().clone();
    let ends: Vec<_> = all.iter().map(|each| each["ends"].as_str().unwrap()).collect();
    assert!(all.len() == sorted.len() && ends.is_sorted());
    // People get the same.
    let table = world.run(&["device", "list"]).exits(0).says(&["2501 devices: 2501 equipped"]).stdout;
    assert_eq!(table.lines().skip(1).map(|line| line.split(' ').next().unwrap()).collect::<Vec<_>>(), sorted);
}

#[test]
fn a_refused_row_takes_nothing_from_a_good_one_and_its_list_is_a_list_again() {
    let world = World::init();
    world.run(&["device", "add", "wv-0", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    let rows = "wv-0,windvane,brindle,\nwv-0,windvane,ossel,nowhere.csr\nwv-0,windvane,ossel,\nwv-0,windvane,ossel,\n\
                wv-1,windvain,ossel,\n";
    world.write("fleet.csv", format!("id,kind,label.site,csr\n{rows}"));
    let enroll = |from: &str, pack: &str| world.run(&["enroll", "--from", from, "--pack", pack, "--yes"]);
    enroll("fleet.csv", "one.tar.zst").exits(5).prints(&[
        "issued   1 certificate",
        "refused  4 rows",
        "fleet.refused.csv",
    ]);
    let refused = std::fs::read_to_string(world.path("fleet.refused.csv")).unwrap();
    assert!(refused.contains("its label site is not `brindle`") && refused.contains("`wv-0` stands in the list twice"));
    // The same list again: what is refused then has a place of its own.
    enroll("fleet.csv", "two.tar.zst").exits(5).prints(&["issued   0", "fleet.refused-2.csv"]);
    assert_eq!(std::fs::read_to_string(world.path("fleet.refused.csv")).unwrap(), refused);
    // And the refused rows, mended, are a list.
    let mended = refused.replace("windvain", "windvane");
    world.write("fleet.refused.csv", mended);
    enroll("fleet.refused.csv", "three.tar.zst")
        .exits(5)
        .prints(&["issued   1 certificate", "fleet.refused.refused.csv"]);
}

#[test]
fn whoever_interrupts_a_run_is_told_how_it_goes_on() {
    let world = World::init();
    world.write("fleet.csv", list(20_000));
    let args = ["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst", "--yes", "--batch", "50"];
    let mut run = Running::start(&mut world.program(&args));
    crate::harness::eventually(|| world.path("fleet.tar.zst.part").metadata().ok().filter(|file| file.len() > 0))
        .unwrap();
    run.signal("INT");
    run.line("how it goes on", |line| line.contains("`enroll --resume` goes on"));
    assert!(crate::harness::eventually(|| run.has_ended().then_some(())).is_some());
    world.run(&["enroll", "--stop", "--yes"]).exits(5).prints(&["issued"]);
    world.run(&["audit", "verify"]).exits(0);
}
