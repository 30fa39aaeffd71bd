//! Handing keys over: packs that only their receiver opens, shared keys for many devices, PKCS#12 files, and devices that keep their key.

use std::collections::BTreeMap;

use crate::bulk::{open_any_pack, open_pack, opened_by, receiver};
use crate::harness::{Guard, Running, World, exists};

#[test]
fn a_pack_is_opened_by_its_receivers_and_by_nobody_else() {
    let world = World::init();
    receiver(&world, "rsa", &["rsa:2048"]);
    receiver(&world, "p384", &["ec", "-pkeyopt", "ec_paramgen_curve:P-384"]);
    receiver(&world, "other", &["rsa:2048"]);
    receiver(&world, "ed", &["ed25519"]);
    let rows: String = (0..50).map(|number| format!("wv-{number},windvane,ossel,QF-{number}\n")).collect();
    world.write("fleet.csv", format!("id,kind,label.site,fact.serial\n{rows}"));
    let enroll =
        |more: &[&str]| world.run(&[&["enroll", "--from", "fleet.csv", "--yes", "--pack", "p.cms"], more].concat());
    enroll(&["--pack-for", "ed.pem"]).exits(3).says(&["ed25519", "RSA, p256 or p384"]);
    enroll(&["--pack-for", "fleet.csv"]).exits(3).says(&["holds no certificate"]);
    let signs = ["ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-addext", "keyUsage=critical,digitalSignature"];
    receiver(&world, "signs", &signs);
    enroll(&["--pack-for", "signs.pem"]).exits(3).says(&["keyAgreement"]);
    world.run(&["job", "list", "--all"]).exits(0).says(&["no jobs"]);
    // One that is there is not written over, whatever its number.
    world.write("p.2.cms", "mine");
    enroll(&["--pack-for", "rsa.pem"]).exits(3).says(&["p.2.cms exists already"]);
    std::fs::remove_file(world.path("p.2.cms")).unwrap();
    let done =
        enroll(&["--pack-for", "rsa.pem", "--pack-for", "p384.pem", "--batch", "20", "--format", "json"]).exits(0);
    let value = done.says(&["openssl cms -decrypt"]).json();
    assert_eq!((&value["encrypted"], value["files"].as_array().unwrap().len()), (&true.into(), 3));
    for reader in ["rsa", "p384"] {
        let opened = opened_by(&world, "p.cms", reader);
        let all: Vec<_> = opened.iter().map(|plain| open_pack(&world.path(plain))).collect();
        assert_eq!(all.iter().map(|(outfits, _)| outfits.len()).collect::<Vec<_>>(), [20, 20, 10]);
        assert!(all[2].0["wv-49.json"]["device_key"].as_str().unwrap().contains("PRIVATE KEY"));
    }
    let call = ["cms", "-decrypt", "-inform", "DER", "-in", "p.cms", "-inkey", "other.key", "-out", "no.tar.zst"];
    assert_ne!(world.other("openssl", &call).code, 0);
    // What was changed on the way does not open.
    let mut octets = std::fs::read(world.path("p.cms")).unwrap();
    let middle = octets.len() / 2;
    octets[middle] ^= 1;
    world.write("changed.cms", octets);
    let call = ["cms", "-decrypt", "-inform", "DER", "-in", "changed.cms", "-inkey", "rsa.key", "-out", "no.tar.zst"];
    assert_ne!(world.other("openssl", &call).code, 0);
    let mode = std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(world.path("p.2.cms")).unwrap()) & 0o777;
    assert_eq!(mode, 0o600);
}

/// A ward with this many wind vanes that may share keys.
fn sharing(count: usize) -> World {
    let world = World::init();
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replace("[kinds.windvane]\n", "[kinds.windvane]\nshared_keys = true\n"));
    let rows: String = (0..count).map(|number| format!("wv-{number:04},windvane,ossel,QF-{number}\n")).collect();
    world.write("fleet.csv", format!("id,kind,label.site,fact.serial\n{rows}"));
    world.run(&["device", "import", "fleet.csv"]).exits(0);
    world
}

/// The keys of all devices that the ward has: the device of each.
fn listed(world: &World) -> BTreeMap<String, String> {
    let list = world.run(&["key", "list", "--format", "json"]).exits(0).json();
    let keys = list["keys"].as_array().unwrap();
    let text = |key: &serde_json::Value, name: &str| key[name].as_str().unwrap().to_owned();
    keys.iter().map(|key| (text(key, "kid"), text(key, "device"))).collect()
}

#[test]
fn many_devices_get_shared_keys_in_one_pack() {
    let world = sharing(40);
    world.run(&["device", "add", "cr-ossel", "--kind", "control-room", "--label", "site=ossel"]).exits(0);
    world.run(&["hold", "wv-0001", "--because", "stolen", "--yes"]).exits(0);
    let add = ["key", "add", "--where", "site = ossel", "--shared", "--pack", "keys.tar.zst", "--for", "90d"];
    world.run(&[&add[..], &["--count", "40"]].concat()).exits(3).says(&["matches 39 devices"]);
    assert!(!exists(&world.path("keys.tar.zst")) && listed(&world).is_empty());
    let done = world.run(&[&add[..], &["--count", "39", "--note", "fab 3"]].concat()).exits(5);
    done.prints(&["made     39 shared keys"]).says(&["cr-ossel gets none", "wv-0001 gets none", "not encrypted"]);
    let (keys, manifest) = open_any_pack(&world.path("keys.tar.zst"), "id,kid,ends,run");
    assert_eq!((keys.len(), manifest.len()), (39, 39));
    let known = listed(&world);
    for (name, key) in &keys {
        assert_eq!(known[key["kid"].as_str().unwrap()], name.strip_suffix(".jwk").unwrap());
        assert_eq!((&key["kty"], &key["alg"]), (&"oct".into(), &"HS256".into()));
    }
    // What left is what the ward has: a token of it is taken.
    let (name, key) = keys.iter().next().unwrap();
    let (id, kid) = (name.strip_suffix(".jwk").unwrap(), key["kid"].as_str().unwrap());
    world.run(&["token", "issue", id, "--key", kid, "--out", "t.txt"]).exits(0);
    world.run(&["token", "verify", "--file", "t.txt"]).exits(0);
    world.run(&["audit", "verify"]).exits(0);
    // And once more to a receiver, of whom each has two then.
    receiver(&world, "fab", &["rsa:2048"]);
    let add = ["key", "add", "--where", "kind = windvane", "--shared", "--pack", "k.cms", "--pack-for", "fab.pem"];
    world.run(&[&add[..], &["--count", "39"]].concat()).exits(5).says(&["openssl cms -decrypt"]);
    let opened = opened_by(&world, "k.cms", "fab");
    assert_eq!(opened.len(), 1);
    assert_eq!(open_any_pack(&world.path(&opened[0]), "id,kid,ends,run").0.len(), 39);
    assert_eq!(listed(&world).len(), 78);
    world.run(&["key", "add", "wv-0000", "--shared"]).exits(2).says(&["--out FILE"]);
}

#[test]
fn keys_for_many_may_be_interrupted_at_any_moment() {
    let mut kills = 0;
    for round in 0..4u64 {
        let world = sharing(3000);
        let add = ["key", "add", "--where", "kind = windvane", "--shared", "--pack", "keys.tar.zst", "--count", "3000"];
        let mut call = add.to_vec();
        for turn in 0..20u64 {
            // By what was done, not by the clock: the first before or while the job is noted, each later one after another batch.
            let written = || std::fs::metadata(world.path("keys.tar.zst.part")).map_or(0, |found| found.len());
            let before = written();
            let mut running = Running::start(&mut world.program(&call));
            let begun = std::time::Instant::now();
            let early = || turn == 0 && begun.elapsed().as_millis() >= u128::from(20 + 20 * round);
            while !early() && written() <= before && !running.has_ended() {
                std::thread::sleep(std::time::Duration::from_millis(1));
            }
            std::thread::sleep(std::time::Duration::from_millis(3 * round));
            running.kill();
            kills += 1;
            world.run(&["audit", "verify"]).exits(0);
            let jobs = world.run(&["job", "list", "--all", "--format", "json"]).exits(0).json();
            call = match jobs["jobs"].as_array().unwrap().first() {
                Some(job) if job["state"] == "waiting" => vec!["job", "resume", "1"],
                Some(job) => {
                    assert_eq!(job["state"], "done", "{job}");
                    call = Vec::new();
                    break;
                }
                None => add.to_vec(),
            };
        }
        if !call.is_empty() {
            world.run(&call).exits(0);
        }
        let (keys, manifest) = open_any_pack(&world.path("keys.tar.zst"), "id,kid,ends,run");
        let known = listed(&world);
        assert_eq!((keys.len(), manifest.len(), known.len()), (3000, 3000, 3000));
        for (name, key) in keys {
            assert_eq!(known[key["kid"].as_str().unwrap()], name.strip_suffix(".jwk").unwrap());
        }
        assert!(!exists(&world.path("keys.tar.zst.part")));
    }
    assert!(kills >= 8, "only {kills} were killed");
    // And where it stands, it can be ended.
    let world = sharing(3000);
    let add = ["key", "add", "--where", "kind = windvane", "--shared", "--pack", "keys.tar.zst", "--count", "3000"];
    let mut running = Running::start(&mut world.program(&add));
    while !exists(&world.path("keys.tar.zst.part")) && !running.has_ended() {
        std::thread::sleep(std::time::Duration::from_millis(1));
    }
    running.kill();
    world.run(&["job", "stop", "1", "--yes"]).exits(5).says(&["ended before all devices had a key"]);
    let (keys, _) = open_any_pack(&world.path("keys.tar.zst"), "id,kid,ends,run");
    assert_eq!(keys.len(), listed(&world).len());
    assert!(keys.len() < 3000);
}

#[test]
fn a_key_and_its_certificates_go_into_one_locked_file_for_two_other_readers() {
    let world = World::equipped();
    world.secret("p12.txt", "four kind ropes hold\n");
    let show = |more: &[&str]| {
        let call = ["outfit", "show", "wv-1", "--as", "p12", "--p12-passphrase-file", "p12.txt"];
        world.run(&[&call[..], more].concat())
    };
    show(&["--outfit", "outfits"]).exits(2).says(&["--out FILE"]);
    show(&["--out", "d.p12"]).exits(3).says(&["--outfit DIR"]);
    show(&["--out", "d.p12", "--outfit", "outfits/wv-2"]).exits(3);
    show(&["--out", "d.p12", "--outfit", "outfits", "--token", "1h"]).exits(2);
    world.secret("weak.txt", "short\n");
    world.secret("odd.txt", "fjorden är kall nu\n");
    for (file, why) in [("weak.txt", "too weak"), ("odd.txt", "printable ASCII")] {
        let call = ["outfit", "show", "wv-1", "--as", "p12", "--outfit", "outfits", "--out", "d.p12"];
        world.run(&[&call[..], &["--p12-passphrase-file", file]].concat()).exits(3).says(&[why]);
    }
    assert!(!exists(&world.path("d.p12")));
    show(&["--out", "d.p12", "--outfit", "outfits"]).exits(0).prints(&["3 certificates"]);
    show(&["--out", "d.p12", "--outfit", "outfits"]).exits(3).says(&["exists already"]);
    let mode = std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(world.path("d.p12")).unwrap()) & 0o777;
    assert_eq!(mode, 0o600);
    let pem = std::fs::read_to_string(world.path("outfits/wv-1/device.pem")).unwrap();
    let call = ["pkcs12", "-in", "d.p12", "-passin", "file:p12.txt", "-nodes"];
    let said = world.other("openssl", &call).exits(0).stdout;
    assert!(said.contains(pem.trim()) && said.contains("friendlyName: wv-1"), "{said}");
    assert_ne!(world.other("openssl", &["pkcs12", "-in", "d.p12", "-passin", "file:pass.txt", "-nodes"]).code, 0);
    let reads = "import sys\nfrom cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, pkcs12\n\
        key, own, more = pkcs12.load_key_and_certificates(open('d.p12', 'rb').read(), b'four kind ropes hold')\n\
        public = lambda key: key.public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)\n\
        assert public(key.public_key()) == public(own.public_key()) and len(more) == 2\n\
        sys.stdout.write(own.public_bytes(Encoding.PEM).decode())\n";
    let python = world.other("/usr/bin/python3", &["-c", reads]).exits(0);
    assert_eq!(python.stdout, pem);
    // The ward's newest certificate, and a key of one before.
    std::fs::rename(world.path("outfits"), world.path("old")).unwrap();
    world.run(&["enroll", "wv-1", "--make-key", "--again", "--out", "outfits"]).exits(0);
    show(&["--out", "e.p12", "--outfit", "old"]).exits(3).says(&["newest certificate"]);
}

#[test]
fn a_device_that_keeps_its_key_is_probed_with_it() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let at = guard.address.to_string();
    std::fs::rename(world.path("outfits/wv-1/device.key"), world.path("own.key")).unwrap();
    let probe = |more: &[&str]| world.run(&[&["probe", "wv-1", "--outfit", "outfits", "--at", &at], more].concat());
    probe(&[]).exits(3).prints(&["--key FILE"]);
    probe(&["--key", "own.key"]).exits(0).prints(&["the whole way works"]);
    // As other programs write it.
    world.other("openssl", &["ec", "-in", "own.key", "-out", "sec1.key"]).exits(0);
    probe(&["--key", "sec1.key"]).exits(0);
    probe(&["--key", "outfits/wv-2/device.key"]).exits(3).prints(&["the key of this device's certificate?"]);
    probe(&["--key", "outfits/wv-1/device.pem"]).exits(3).says(&["no private key"]);
    world.other("openssl", &["pkcs8", "-topk8", "-in", "own.key", "-out", "locked.key", "-passout", "pass:x"]).exits(0);
    probe(&["--key", "locked.key"]).exits(3).says(&["locked with a passphrase"]);
}
