//! Authorities: several, replaced, signed by outside roots, brought in; profiles; chains judged.

use std::collections::BTreeMap;

use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::mqtt::Version;

use crate::harness::{Guard, World, block_on};

fn shown(world: &World, name: &str) -> serde_json::Value {
    world.run(&["authority", "show", name, "--format", "json"]).exits(0).json()
}

fn certificates(world: &World, file: &str) -> Vec<Certificate> {
    Certificate::read_all(&std::fs::read(world.path(file)).unwrap()).unwrap()
}

#[test]
fn kinds_are_signed_for_by_the_authority_that_they_name() {
    let world = World::init();
    world.append("w/ward.toml", "\n[kinds.cabin]\nauthority = \"cabins\"\n[kinds.tension]\nauthority = \"pq\"\n");
    world.run(&["device", "add", "ca-1", "--kind", "cabin"]).exits(0);
    world.run(&["device", "add", "te-1", "--kind", "tension"]).exits(0);
    world.run(&["enroll", "ca-1", "--make-key", "--out", "o"]).exits(3).says(&["no authority `cabins` for devices"]);
    world.run(&["settings", "check"]).exits(3).prints(&[
        "error unknown-authority",
        "authority = \"cabins\"",
        "^^^^^^^^",
        "authority add pq",
        "2 errors",
    ]);
    let add = ["authority", "add", "cabins", "--key", "rsa3072", "--life", "900d", "--permit", "dns:rope.example"];
    world.run(&add).exits(0).prints(&["rsa3072, locked in the ward", "permits      dns:rope.example"]);
    world.run(&add).exits(3).says(&["the name `cabins` is in use"]);
    world.run(&["authority", "add", "pq", "--key", "ml-dsa-65"]).exits(0);
    world.run(&["authority", "add", "guard"]).exits(3).says(&["in use"]);
    world.run(&["authority", "add", "x", "--key", "dsa"]).exits(2).says(&["is not a type of key"]);
    world.run(&["settings", "check"]).exits(0).prints(&["warning post-quantum-issuer", "0 errors"]);
    for (id, key) in [("ca-1", "rsa3072"), ("te-1", "ml-dsa-65")] {
        world.run(&["enroll", id, "--make-key", "--out", "o"]).exits(0);
        let chain = certificates(&world, &format!("o/{id}/chain.pem"));
        assert_eq!(chain[0].public_key.key_type().to_string(), key);
        let (leaf, root) = (format!("o/{id}/device.pem"), format!("o/{id}/root.pem"));
        let chain = format!("o/{id}/chain.pem");
        world
            .run(&["authority", "judge", &leaf, "--root", &root, "--chain", &chain])
            .exits(0)
            .prints(&["verdict  good"]);
    }
    world
        .other(
            "openssl",
            &["verify", "-CAfile", "o/ca-1/root.pem", "-untrusted", "o/ca-1/chain.pem", "o/ca-1/device.pem"],
        )
        .exits(0);
    assert_eq!(shown(&world, "cabins")["signed"], 1);
    // Each has a list and a number of its own.
    world.run(&["revoke", "ca-1", "--reason", "superseded", "--yes"]).exits(0);
    world
        .run(&["crl", "--authority", "cabins", "--out", "cabins.crl"])
        .exits(0)
        .prints(&["CRL 1 of `cabins`: 1 revoked"]);
    world.run(&["crl", "--authority", "pq", "--out", "pq.crl"]).exits(0).prints(&["CRL 1 of `pq`: 0 revoked"]);
    let judge = |leaf: &str, crl: &str| {
        let folder = leaf.rsplit_once('/').unwrap().0.to_owned();
        let (root, chain) = (format!("{folder}/root.pem"), format!("{folder}/chain.pem"));
        world.run(&["authority", "judge", leaf, "--root", &root, "--chain", &chain, "--crl", crl])
    };
    judge("o/ca-1/device.pem", "cabins.crl").exits(3).prints(&["was revoked at", "(superseded)"]);
    judge("o/te-1/device.pem", "pq.crl").exits(0).prints(&["is not on its issuer's list number 1"]);
    judge("o/te-1/device.pem", "cabins.crl").exits(3).prints(&["whether", "is not known"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_post_quantum_authority_serves_a_real_handshake() {
    let world = World::init();
    world.run(&["authority", "add", "pq", "--key", "ml-dsa-65", "--replaces", "devices"]).exits(0);
    world.run(&["device", "add", "wv-1", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.adopt(crate::harness::POLICY);
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let session = world.login("wv-1").connect(guard.address).await.unwrap();
        session.goodbye().await;
    });
}

#[test]
fn judging_tells_every_fault() {
    let world = World::equipped();
    let judge = |more: &[&str]| {
        let mut call = vec!["authority", "judge", "outfits/wv-1/device.pem", "--root", "outfits/wv-1/root.pem"];
        call.extend(more);
        world.run(&call)
    };
    let chain = ["--chain", "outfits/wv-1/chain.pem"];
    judge(&chain).exits(0).prints(&["verdict  good"]);
    judge(&[]).exits(3).prints(&["no known authority signed"]);
    let with = |more: &[&str]| judge(&[&chain, more].concat());
    with(&["--purpose", "server"]).exits(3).prints(&["its extended key usage lacks serverAuth"]);
    with(&["--purpose", "any"]).exits(0);
    with(&["--at", "2020-01-01T00:00:00Z"]).exits(3).prints(&["is valid from"]);
    with(&["--at", "yesterday"]).exits(3);
    let answer = with(&["--format", "json"]).exits(0).json();
    assert_eq!((answer["good"].as_bool(), answer["path"].as_array().map(Vec::len)), (Some(true), Some(3)));
    world.write("noise.pem", "noise");
    judge(&["--chain", "noise.pem"]).exits(3).says(&["cannot read noise.pem"]);
    judge(&["--chain", "none.pem"]).exits(4);
    // A list that is out of date says nothing.
    world.run(&["crl", "--out", "d.crl", "--for", "1d"]).exits(0);
    with(&["--crl", "d.crl"]).exits(0);
    with(&["--crl", "d.crl", "--at", "2027-01-01T00:00:00Z"]).exits(3).prints(&["the list of its issuer is of no use"]);
}

#[test]
fn a_replaced_authority_keeps_its_certificates_and_its_list() {
    let world = World::equipped();
    world.run(&["authority", "add", "devices-2", "--replaces", "devices", "--key", "p384"]).exits(0);
    world.run(&["authority", "add", "devices-3", "--replaces", "devices"]).exits(3).says(&["was replaced already"]);
    world.run(&["device", "add", "wv-9", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.run(&["enroll", "wv-9", "--make-key", "--out", "outfits"]).exits(0);
    assert_eq!(
        (shown(&world, "devices")["usable"].as_i64(), shown(&world, "devices-2")["usable"].as_i64()),
        (Some(3), Some(1))
    );
    let guard = Guard::start(&world, "builtin");
    for id in ["wv-1", "wv-9"] {
        block_on(async { world.login(id).connect(guard.address).await.unwrap().goodbye().await });
    }
    world.run(&["revoke", "wv-2", "--reason", "superseded", "--yes"]).exits(0);
    world.run(&["crl", "--out", "old.crl"]).exits(0).prints(&["CRL 1 of `devices`: 1 revoked"]);
    world.run(&["crl", "--out", "old.crl"]).exits(2).says(&["--authority: devices, devices-2"]);
    world.run(&["authority", "retire", "devices", "--yes"]).exits(3).says(&["2 certificates of it may still sign in"]);
    world.run(&["authority", "retire", "service", "--yes"]).exits(3).says(&["cannot do without it"]);
    world.run(&["authority", "retire", "devices", "--anyway", "--yes"]).exits(0);
    drop(guard);
    let guard = Guard::start(&world, "builtin");
    assert!(block_on(async { world.login("wv-1").connect(guard.address).await }).is_err());
    block_on(async { world.login("wv-9").connect(guard.address).await.unwrap().goodbye().await });
}

#[test]
fn a_new_root_is_cross_signed_and_known_by_its_outfits() {
    let world = World::equipped();
    world
        .run(&["authority", "add", "root-2", "--new-root", "--key", "p384"])
        .exits(0)
        .prints(&["signed also  by `root`"]);
    assert_eq!(shown(&world, "root-2")["devices_with_it"], 0);
    world.run(&["authority", "add", "devices-2", "--replaces", "devices"]).exits(0);
    world.run(&["enroll", "wv-1", "--make-key", "--again", "--out", "new"]).exits(0);
    let roots = certificates(&world, "new/wv-1/root.pem");
    assert_eq!(roots.len(), 2);
    let told = shown(&world, "root-2");
    assert_eq!((told["devices"].as_i64(), told["devices_with_it"].as_i64()), (Some(3), Some(1)));
    world
        .run(&["authority", "show", "root-2"])
        .exits(0)
        .prints(&["lacked by    wv-2, cr-ossel; authority show root-2 --missing"]);
    let missing = world.run(&["authority", "show", "root-2", "--missing", "--format", "json"]).exits(0).json();
    let missing: Vec<&str> =
        missing["devices"].as_array().unwrap().iter().map(|each| each["id"].as_str().unwrap()).collect();
    assert_eq!(missing, ["wv-2", "cr-ossel"]);
    world.run(&["authority", "show", "devices", "--missing"]).exits(3).says(&["is no root"]);
    world
        .run(&["authority", "add", "service-2", "--service", "--replaces", "service"])
        .exits(0)
        .says(&["2 of 3 devices are not known to have the root `root-2`, such as wv-2, cr-ossel"]);
    // Whoever knows only one of the roots finds a way, old certificates and new ones alike; a second validator agrees.
    for (at, root) in roots.iter().enumerate() {
        let file = format!("only-{at}.pem");
        world.write(&file, root.to_pem());
        world
            .run(&["authority", "judge", "new/wv-1/device.pem", "--root", &file, "--chain", "new/wv-1/chain.pem"])
            .exits(0);
        world
            .other("openssl", &["verify", "-CAfile", &file, "-untrusted", "new/wv-1/chain.pem", "new/wv-1/device.pem"])
            .exits(0);
    }
    let guard = Guard::start(&world, "builtin");
    // An old device knows the old root only, and its certificate was signed below it.
    for version in [Version::V5, Version::V311] {
        let mut login = world.login("wv-2");
        login.version = version;
        block_on(async { login.connect(guard.address).await.unwrap().goodbye().await });
    }
    drop(guard);
    world
        .run(&["authority", "retire", "root", "--yes"])
        .exits(3)
        .says(&["only 1 of 3 devices are known to have another root"]);
    for id in ["wv-2", "cr-ossel"] {
        world.run(&["enroll", id, "--make-key", "--again", "--out", "new"]).exits(0);
    }
    world.run(&["authority", "retire", "root", "--yes"]).exits(0);
    assert_eq!(certificates(&world, "new/wv-1/root.pem").len(), 2);
    world.run(&["device", "add", "wv-7", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.run(&["enroll", "wv-7", "--make-key", "--out", "outfits"]).exits(0);
    assert_eq!(certificates(&world, "outfits/wv-7/root.pem").len(), 1);
    // One that knows only the new root believes the guard, whose certificate stands below the old one.
    let guard = Guard::start(&world, "builtin");
    block_on(async { world.login("wv-7").connect(guard.address).await.unwrap().goodbye().await });
}

#[test]
fn a_root_that_is_kept_away_is_asked_for_by_path() {
    let world = World::new();
    world.run(&["init", "--name", "North", "--root-offline", "away"]).exits(0).says(&["take it away"]);
    assert!(!world.path("w/keys/root.key").exists());
    world.run(&["authority", "add", "cabins"]).exits(2).says(&["is kept away from the ward", "--root-key FILE"]);
    world.run(&["authority", "add", "cabins", "--root-key", "w/keys/devices.key"]).exits(3).says(&["does not belong"]);
    world.run(&["authority", "add", "cabins", "--root-key", "away/root.key"]).exits(0);
    world.run(&["crl", "--authority", "root", "--out", "root.crl"]).exits(2);
    world.run(&["crl", "--authority", "root", "--out", "root.crl", "--root-key", "away/root.key"]).exits(0);
    world.run(&["authority", "list"]).exits(0).prints(&["key kept away from the ward"]);
    let other = world.run(&["--ward", "v", "init", "--name", "South", "--root-offline", "away"]);
    other.exits(3).says(&["root.key exists already"]);
}

#[test]
fn an_outside_root_signs_a_request() {
    let world = World::init();
    let openssl = |args: &[&str]| {
        world.other("openssl", args).exits(0);
    };
    let root =
        ["req", "-x509", "-newkey", "rsa:3072", "-nodes", "-subj", "/O=Outside/CN=Outside root", "-days", "3000"];
    openssl(&[&root[..], &["-keyout", "or.key", "-out", "or.pem"]].concat());
    world.write("ca.cnf", "basicConstraints=critical,CA:TRUE,pathlen:0\nkeyUsage=critical,keyCertSign,cRLSign\n");
    world.write("leaf.cnf", "basicConstraints=CA:FALSE\n");
    let sign = |request: &str, extensions: &str, out: &str| {
        openssl(&[
            "x509",
            "-req",
            "-in",
            request,
            "-CA",
            "or.pem",
            "-CAkey",
            "or.key",
            "-CAcreateserial",
            "-days",
            "2000",
            "-extfile",
            extensions,
            "-out",
            out,
        ]);
    };
    world.run(&["authority", "add", "vanes", "--answer", "or.pem"]).exits(4).says(&["waits for no answer"]);
    world.run(&["authority", "add", "vanes", "--request", "vanes.csr", "--key", "p384"]).exits(0);
    openssl(&["req", "-in", "vanes.csr", "-verify", "-noout"]);
    sign("vanes.csr", "ca.cnf", "vanes.pem");
    // The answer to another request.
    openssl(&["req", "-new", "-newkey", "rsa:3072", "-nodes", "-subj", "/CN=x", "-keyout", "x.key", "-out", "x.csr"]);
    sign("x.csr", "ca.cnf", "x.pem");
    world.run(&["authority", "add", "vanes", "--answer", "x.pem"]).exits(3).says(&["is not the answer for `vanes`"]);
    sign("vanes.csr", "leaf.cnf", "leaf.pem");
    world.run(&["authority", "add", "vanes", "--answer", "leaf.pem"]).exits(3).says(&["not that of an authority"]);
    world.run(&["authority", "add", "vanes", "--answer", "vanes.pem"]).exits(3).says(&["no known authority signed"]);
    let bundle = ["vanes.pem", "or.pem"].map(|file| std::fs::read_to_string(world.path(file)).unwrap()).concat();
    world.write("answer.pem", bundle);
    world
        .run(&["authority", "add", "vanes", "--answer", "answer.pem", "--replaces", "devices"])
        .exits(0)
        .says(&["is trusted from now on, as `vanes-root`"]);
    world.run(&["device", "add", "wv-1", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.adopt(crate::harness::POLICY);
    world.run(&["enroll", "wv-1", "--make-key", "--out", "outfits"]).exits(0);
    openssl(&["verify", "-CAfile", "or.pem", "-untrusted", "outfits/wv-1/chain.pem", "outfits/wv-1/device.pem"]);
    let guard = Guard::start(&world, "builtin");
    block_on(async { world.login("wv-1").connect(guard.address).await.unwrap().goodbye().await });

    world
        .run(&["authority", "retire", "vanes-root", "--yes"])
        .exits(3)
        .says(&["`vanes` would lead to no root any more"]);

    // One that exists is brought in with its own passphrase.
    openssl(&["pkcs8", "-topk8", "-in", "x.key", "-out", "x.locked", "-passout", "pass:their words"]);
    world.secret("theirs.txt", "their words\n");
    let chain = ["x.pem", "or.pem"].map(|file| std::fs::read_to_string(world.path(file)).unwrap()).concat();
    world.write("x-chain.pem", chain);
    let bring = ["authority", "add", "cabins", "--cert", "x-chain.pem", "--locked-key", "x.locked"];
    world.run(&bring).exits(1).says(&["passphrase is wrong"]);
    world.run(&[&bring[..], &["--locked-key-passphrase-file", "theirs.txt"]].concat()).exits(0).prints(&["rsa3072"]);
    world.append("w/ward.toml", "\n[kinds.cabin]\nauthority = \"cabins\"\n");
    world.run(&["device", "add", "ca-1", "--kind", "cabin"]).exits(0);
    world.run(&["enroll", "ca-1", "--make-key", "--out", "outfits"]).exits(0);
    openssl(&["verify", "-CAfile", "or.pem", "-untrusted", "outfits/ca-1/chain.pem", "outfits/ca-1/device.pem"]);
    world.run(&["audit", "verify"]).exits(0);
}

/// RFC 5280's demands on every certificate of every profile (sections 4.1 and 4.2), and what openssl makes of it.
#[test]
fn certificates_of_every_profile_conform() {
    let world = World::new();
    let crl = "http://localhost/crl/";
    world.run(&["init", "--name", "North", "--enterprise-number", "32473", "--crl", crl]).exits(0);
    let mut kinds = BTreeMap::new();
    for (at, key) in ["p256", "p384", "ed25519"].into_iter().enumerate() {
        for (of, authority) in ["p256", "p384", "ed25519", "rsa3072"].into_iter().enumerate() {
            kinds.insert(format!("k{at}{of}"), (key, authority));
        }
    }
    let names = "names = [\"urn:dev:org\", \"urn:dev:os\", \"urn:dev:mac\", \"urn:dev:eui64\", \"dns:{device}.rope.example\", \"hardware-module\"]";
    for (kind, (key, authority)) in &kinds {
        world.append(
            "w/ward.toml",
            &format!(
                "\n[kinds.{kind}]\nkey = \"{key}\"\nauthority = \"by-{authority}\"\nusage = \"client+server\"\n\
                 subject = [\"C=AT\", \"O={{ward}}\", \"OU={{site}}\", \"serialNumber={{serial}}\", \"CN={{device}}\"]\n\
                 {names}\nhardware_type = \"1.3.6.1.4.1.32473.1\"\nfacts = [\"serial\", \"mac\", \"eui64\"]\n"
            ),
        );
    }
    for authority in ["p256", "p384", "ed25519", "rsa3072"] {
        world.run(&["authority", "add", &format!("by-{authority}"), "--key", authority]).exits(0);
    }
    world.run(&["settings", "check"]).exits(0).prints(&["is in order"]);
    let rows: String = kinds
        .keys()
        .enumerate()
        .map(|(at, kind)| {
            format!("d-{kind},{kind},ossel,QF-{at},00:16:3e:00:00:{at:02x},00:16:3e:ff:fe:00:00:{at:02x}\n")
        })
        .collect();
    world.write("l.csv", format!("id,kind,label.site,fact.serial,fact.mac,fact.eui64\n{rows}"));
    world.run(&["enroll", "--from", "l.csv", "--out", "o", "--yes"]).exits(0);
    let mut serials = Vec::new();
    for kind in kinds.keys() {
        let file = |name: &str| format!("o/d-{kind}/{name}");
        let (root, chain, leaf) = (file("root.pem"), file("chain.pem"), file("device.pem"));
        for purpose in ["sslclient", "sslserver"] {
            let call = ["verify", "-x509_strict", "-purpose", purpose, "-CAfile", &root, "-untrusted", &chain, &leaf];
            world.other("openssl", &call).exits(0);
        }
        let text = world.other("openssl", &["x509", "-in", &leaf, "-noout", "-text"]).exits(0).stdout;
        for want in [
            "Version: 3 (0x2)",
            "CA:FALSE",
            "X509v3 Basic Constraints: critical",
            "X509v3 Key Usage: critical",
            "Digital Signature",
            "TLS Web Client Authentication, TLS Web Server Authentication",
            "X509v3 Subject Key Identifier",
            "X509v3 Authority Key Identifier",
            "X509v3 CRL Distribution Points",
            &format!("URI:urn:dev:org:32473-d-{kind}"),
            "URI:urn:dev:mac:00163effff0000",
            &format!("DNS:d-{kind}.rope.example"),
            "othername: 1.3.6.1.5.5.7.8.4",
        ] {
            assert!(text.contains(want), "{kind} lacks {want:?}:\n{text}");
        }
        let [certificate] = &certificates(&world, &leaf)[..] else { panic!("one certificate") };
        let issuer = &certificates(&world, &chain)[0];
        let octets = certificate.serial.octets();
        assert!(octets.len() <= 20 && octets[0] < 0x80 && octets.iter().any(|octet| *octet != 0));
        assert_eq!(certificate.issuer, issuer.subject);
        assert_eq!(certificate.authority_key_id, issuer.subject_key_id);
        assert!(certificate.not_after <= issuer.not_after && certificate.not_before >= issuer.not_before);
        assert!(certificate.unknown_critical.is_empty() && certificate.weaknesses().is_empty());
        serials.push(certificate.serial.clone());
    }
    serials.sort();
    serials.dedup();
    assert_eq!(serials.len(), kinds.len(), "no serial number stands twice");
}

#[test]
fn a_certificate_that_would_end_too_soon_is_clipped_or_not_issued() {
    let world = World::init();
    world.append(
        "w/ward.toml",
        "\n[kinds.cabin]\nauthority = \"short\"\n[kinds.tension]\nauthority = \"short\"\nleast_life = \"90d\"\n",
    );
    world.run(&["authority", "add", "short", "--life", "30d"]).exits(0);
    world.run(&["settings", "check"]).exits(3).prints(&["warning life-beyond-authority", "error nothing-issued"]);
    world.write("l.csv", "id,kind\nca-1,cabin\nte-1,tension\n");
    let ran = world.run(&["enroll", "--from", "l.csv", "--pack", "p.tar.zst", "--yes"]);
    ran.exits(5).prints(&["issued   1 certificate\n"]).says(&["1 certificate end early"]);
    let refused = std::fs::read_to_string(world.path("l.refused.csv")).unwrap();
    assert!(refused.contains("sooner than least_life allows"), "{refused}");
}
