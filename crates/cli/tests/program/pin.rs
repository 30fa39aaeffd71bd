//! Credentials that were not made here: pinned certificates, bare keys, trusted foreign authorities.

use std::time::Duration;

use tidy_warden_simulate::{ConnectError, Login};

use crate::harness::{Guard, World, block_on, eventually};

fn der(world: &World, file: &str) -> Vec<u8> {
    let pem = std::fs::read_to_string(world.path(file)).unwrap();
    let body: String = pem.lines().filter(|line| !line.starts_with("-----")).collect();
    data_encoding::BASE64.decode(body.as_bytes()).unwrap()
}

fn login(world: &World, certificate: &str, key: &str, client: &str) -> Login {
    let identity = (vec![der(world, certificate)], der(world, key));
    Login::new(&world.root("wv-1"), Some(identity), "localhost", client).unwrap()
}

fn refused_at_connect(result: Result<tidy_warden_simulate::Device, ConnectError>) -> bool {
    matches!(result, Err(ConnectError::Refused { .. }))
}

/// What was bound just now reaches a running guard within a second.
#[track_caller]
fn soon<E: std::fmt::Debug>(mut connect: impl FnMut() -> Result<(), E>) {
    let mut last = None;
    let done = crate::harness::eventually(|| connect().map_err(|error| last = Some(error)).ok());
    assert!(done.is_some(), "{last:?}");
}

#[test]
fn a_pinned_certificate_signs_in_and_only_with_its_key() {
    let world = World::equipped();
    for id in ["wv-8", "wv-9"] {
        world.run(&["device", "add", id, "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    }
    world.self_signed("old", &["-days", "7000"]);
    world.self_signed("stranger", &["-days", "100"]);
    let guard = Guard::start(&world, "builtin");
    let connect = |certificate: &str, key: &str, client: &str| {
        let login = login(&world, certificate, key, client);
        block_on(async {
            let session = login.connect(guard.address).await?;
            session.goodbye().await;
            Ok::<(), ConnectError>(())
        })
    };
    assert!(connect("old.pem", "old.key", "wv-8").is_err(), "not before it is pinned");
    world.run(&["credential", "pin", "wv-8", "--cert", "old.pem"]).exits(2).says(&["subject     CN=old", "add --yes"]);
    world
        .run(&["credential", "pin", "wv-8", "--cert", "old.pem", "--yes"])
        .exits(0)
        .says(&["it says that it is an authority", "longer than its kind's life"]);
    soon(|| connect("old.pem", "old.key", "wv-8"));
    let chain = [der(&world, "old.pem")];
    crate::guard::assert_thief_is_refused(&guard, &world.root("wv-1"), &chain, &der(&world, "stranger.key"));
    assert!(connect("stranger.pem", "stranger.key", "wv-8").is_err());
    assert!(connect("old.pem", "old.key", "wv-9").is_err(), "no other name with it");
    // The guard writes uses a moment after they happen.
    let shown = || world.run(&["credential", "show", "--cert", "old.pem"]).exits(0);
    eventually(|| shown().stdout.contains("state        live").then_some(()));
    shown().prints(&["device       wv-8", "others; pinned", "live"]);
    // One key, one device.
    world.run(&["credential", "pin", "wv-9", "--cert", "old.pem", "--yes"]).exits(3).says(&["in use by `wv-8`"]);
    world.run(&["revoke", "wv-8", "--reason", "keyCompromise", "--yes"]).exits(0).says(&["no CRL of the ward lists"]);
    assert!(connect("old.pem", "old.key", "wv-8").is_err());
    world.run(&["credential", "pin", "wv-9", "--cert", "old.pem", "--yes"]).exits(3).says(&["revoked for compromise"]);
    world.other("openssl", &["req", "-new", "-key", "old.key", "-subj", "/CN=x", "-out", "old.csr"]).exits(0);
    world.run(&["enroll", "wv-9", "--csr", "old.csr", "--out", "o"]).exits(3).says(&["revoked for compromise"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_bare_key_stands_behind_any_certificate_that_carries_it() {
    let world = World::equipped();
    world.run(&["device", "add", "wv-8", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.self_signed("one", &["-days", "10"]);
    world.other("openssl", &["ec", "-in", "one.key", "-pubout", "-out", "one.pub"]).exits(0);
    let again = ["req", "-x509", "-key", "one.key", "-subj", "/CN=another", "-days", "20", "-out", "two.pem"];
    world.other("openssl", &again).exits(0);
    world.run(&["credential", "pin", "wv-8", "--public-key", "one.key", "--yes"]).exits(3).says(&["private key"]);
    world
        .run(&["credential", "pin", "wv-8", "--public-key", "one.pub", "--until", "2020-01-01T00:00:00Z", "--yes"])
        .exits(3)
        .says(&["which is over"]);
    world.run(&["credential", "pin", "wv-8", "--public-key", "one.pub", "--yes"]).exits(0).prints(&["a bare key"]);
    let guard = Guard::start(&world, "builtin");
    for certificate in ["one.pem", "two.pem"] {
        let login = login(&world, certificate, "one.key", "wv-8");
        block_on(async { login.connect(guard.address).await.unwrap().goodbye().await });
        world
            .run(&["credential", "show", "--cert", certificate])
            .exits(0)
            .prints(&["device       wv-8", "its key is registered"]);
    }
    let shown = world.run(&["device", "show", "wv-8", "--format", "json"]).exits(0).json();
    let fingerprint = shown["credentials"][0]["fingerprint"].as_str().unwrap().to_owned();
    assert_eq!(shown["credentials"][0]["serial"], serde_json::Value::Null);
    world.run(&["revoke", "wv-8", "--credential", &fingerprint, "--reason", "superseded", "--yes"]).exits(0);
    let login = login(&world, "two.pem", "one.key", "wv-8");
    assert!(refused_at_connect(block_on(async { login.connect(guard.address).await })));
}

#[test]
fn a_fleet_in_the_field_is_taken_over_whole_or_not_at_all() {
    let world = World::init();
    for name in ["a", "b", "c"] {
        world.self_signed(name, &["-days", "300"]);
    }
    let jwk = r#"{"kty":"EC","crv":"P-256","x":"MKBCTNIcKUSDii11ySs3526iDZ8AiTo7Tu6KPAqv7D4","y":"4Etl6SRW2YiLUrN5vfvVHuhp7x8PxltmWWlbbM4IFyM"}"#;
    world.write("d.jwk", jwk);
    world
        .other(
            "openssl",
            &[
                "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=e", "-keyout", "e.key", "-out", "e.pem",
                "-days", "300",
            ],
        )
        .exits(0);
    let bad = "id,kind,cert,public_key,until\nwv-1,windvane,a.pem,,\nwv-2,windvane,b.pem,,\nwv-3,windvane,b.pem,,\n\
               wv-4,windvane,,d.jwk,2020-01-01T00:00:00Z\nwv-5,windvane,none.pem,,\nwv-6,windvane,e.pem,,\nwv-7,windvane,,,\nwv-1,windvane,c.pem,,\n";
    world.write("field.csv", bad);
    world.run(&["credential", "pin", "--from", "field.csv", "--yes"]).exits(3).says(&[
        "nothing of field.csv was pinned: 7 rows bad",
        "line 2: `wv-1` stands on line 9 too",
        "line 3: `wv-2` has the same key as line 4",
        "line 5: it would end at",
        "line 6: cannot read",
        "line 8: it needs either a cert or a public_key",
        "line 7: `wv-6`: its RSA key has 2048 bits",
    ]);
    assert_eq!(world.run(&["device", "list", "--format", "jsonl"]).stdout, "");
    world.write(
        "field.csv",
        "id,kind,label.site,cert,public_key,until\nwv-1,windvane,ossel,a.pem,,\nwv-2,windvane,ossel,b.pem,,2026-12-31T00:00:00Z\nwv-4,windvane,ossel,,d.jwk,\nwv-6,windvane,ossel,e.pem,,\n",
    );
    world
        .run(&["credential", "pin", "--from", "field.csv", "--yes"])
        .exits(0)
        .prints(&["pinned  4 credentials", "listed  4 new devices"]);
    let list = world.run(&["credential", "list", "--format", "json"]).exits(0).json();
    let origins: Vec<&str> =
        list["credentials"].as_array().unwrap().iter().map(|each| each["origin"].as_str().unwrap()).collect();
    assert_eq!(origins.iter().filter(|origin| **origin == "pinned").count(), 3);
    world
        .run(&["credential", "pin", "--from", "field.csv", "--yes"])
        .exits(3)
        .says(&["4 rows bad", "has a certificate until"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_manufacturers_certificate_stands_for_the_device_whose_fact_it_states() {
    let world = World::equipped();
    let openssl = |args: &[&str]| {
        world.other("openssl", args).exits(0);
    };
    openssl(&[
        "req",
        "-x509",
        "-newkey",
        "ec",
        "-pkeyopt",
        "ec_paramgen_curve:P-256",
        "-nodes",
        "-subj",
        "/O=Maker/CN=Maker root",
        "-days",
        "9000",
        "-keyout",
        "m.key",
        "-out",
        "m.pem",
    ]);
    world.write("idevid.cnf", "basicConstraints=CA:FALSE\nkeyUsage=critical,digitalSignature\n");
    let made = |name: &str, serial: &str| {
        let (key, csr, out) = (format!("{name}.key"), format!("{name}.csr"), format!("{name}.pem"));
        let subject = format!("/O=Maker/serialNumber={serial}/CN=vane");
        openssl(&[
            "req",
            "-new",
            "-newkey",
            "ec",
            "-pkeyopt",
            "ec_paramgen_curve:P-256",
            "-nodes",
            "-subj",
            &subject,
            "-keyout",
            &key,
            "-out",
            &csr,
        ]);
        openssl(&[
            "x509",
            "-req",
            "-in",
            &csr,
            "-CA",
            "m.pem",
            "-CAkey",
            "m.key",
            "-CAcreateserial",
            "-days",
            "5000",
            "-extfile",
            "idevid.cnf",
            "-out",
            &out,
        ]);
    };
    made("known", "QF-8");
    made("unknown", "QF-404");
    made("station", "QF-9");
    world
        .run(&["device", "add", "wv-8", "--kind", "windvane", "--label", "site=ossel", "--fact", "serial=QF-8"])
        .exits(0);
    world.run(&["device", "add", "st-9", "--kind", "station", "--fact", "serial=QF-9"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    let connect = |name: &str, client: &str| {
        let login = login(&world, &format!("{name}.pem"), &format!("{name}.key"), client);
        block_on(async {
            let session = login.connect(guard.address).await?;
            session.goodbye().await;
            Ok::<(), ConnectError>(())
        })
    };
    assert!(connect("known", "wv-8").is_err(), "not before its maker is trusted");
    world
        .run(&["authority", "add", "maker", "--trust", "known.pem", "--kinds", "windvane", "--fact", "serial"])
        .exits(3)
        .says(&["not that of an authority"]);
    world.run(&["authority", "add", "maker", "--trust", "m.pem", "--kinds", "windvain", "--fact", "serial"]).exits(3);
    world
        .run(&["authority", "add", "maker", "--trust", "m.pem", "--kinds", "windvane", "--fact", "serial"])
        .exits(0)
        .prints(&["taken for    windvane, whose serial must be"]);
    soon(|| connect("known", "wv-8"));
    assert!(connect("known", "wv-1").is_err(), "no other name with it");
    assert!(connect("unknown", "wv-8").is_err(), "a fact that no device has");
    assert!(connect("station", "st-9").is_err(), "a kind that the maker is not trusted for");
    world
        .run(&["credential", "show", "--cert", "known.pem"])
        .exits(0)
        .prints(&["device       wv-8", "maker (foreign)"]);
    // Where its maker's list is wanted, there must be a good one.
    let serial = world.other("openssl", &["x509", "-in", "known.pem", "-noout", "-serial"]).exits(0).stdout;
    let serial = serial.trim().trim_start_matches("serial=").to_owned();
    let lists = "[ca]\ndefault_ca = m\n[m]\ndatabase = index.txt\ncrlnumber = crlnumber\ndefault_md = sha256\n";
    world.write("crl.cnf", lists);
    world.write("crlnumber", "01\n");
    let list = |index: &str| {
        world.write("index.txt", index);
        let call = ["ca", "-gencrl", "-config", "crl.cnf", "-cert", "m.pem", "-keyfile", "m.key"];
        world.other("openssl", &[&call[..], &["-crldays", "30", "-out", "new.crl"]].concat()).exits(0);
        std::fs::rename(world.path("new.crl"), world.path("w/m.crl")).unwrap();
    };
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    let wanted = format!("{settings}\n[makers.maker]\ncrl_file = \"m.crl\"\n");
    world.write("w/ward.toml", format!("{wanted}[makers.other]\n"));
    world
        .run(&["settings", "check"])
        .exits(3)
        .prints(&["no foreign authority `other` is trusted", "there is no file m.crl"]);
    world.write("w/ward.toml", &wanted);
    guard.reload();
    let out = |what: &str| assert!(eventually(|| connect("known", "wv-8").is_err().then_some(())).is_some(), "{what}");
    let trouble = |text: &str| {
        guard.event("trouble", |event| event["what"].as_str().is_some_and(|what| what.contains(text)));
    };
    out("in without a list");
    list("");
    soon(|| connect("known", "wv-8"));
    block_on(async {
        let mut live = login(&world, "known.pem", "known.key", "wv-8").connect(guard.address).await.unwrap();
        list(&format!("R\t401101000000Z\t261001000000Z,keyCompromise\t{serial}\tunknown\t/CN=wv-8\n"));
        assert!(live.ended(Duration::from_secs(20)).await.is_some(), "the list reaches those who are there");
    });
    guard.running.line("why it ended", |line| line.contains("its maker `maker` revoked it at 2026-10-01"));
    out("in though it is listed");
    world.write("w/m.crl", "not a list");
    trouble("the one from before counts until");
    out("in because of a broken list");
    list("");
    soon(|| connect("known", "wv-8"));
    world.write("w/ward.toml", &settings);
    guard.reload();
    // Without the belief in its maker it is nothing any more.
    world.run(&["authority", "retire", "maker", "--anyway", "--yes"]).exits(0);
    assert!(connect("known", "wv-8").is_err());
    world.run(&["authority", "add", "maker-2", "--trust", "m.pem", "--kinds", "windvane", "--fact", "serial"]).exits(0);
    soon(|| connect("known", "wv-8"));
    // It is revoked like any other, and then it stays out.
    world.run(&["revoke", "wv-8", "--reason", "keyCompromise", "--yes"]).exits(0);
    assert!(connect("known", "wv-8").is_err());
    world.run(&["device", "reopen", "wv-8", "--because", "found"]).exits(0);
    assert!(connect("known", "wv-8").is_err(), "its key was given up for good");
    world.run(&["audit", "verify"]).exits(0);
}
