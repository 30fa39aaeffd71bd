//! Authority keys on a PKCS#11 token, with the software token that Debian ships.

use tidy_warden_core::certificate::Certificate;

use crate::harness::World;

const MODULE: &str = "/usr/lib/softhsm/libsofthsm2.so";

/// Initialises a token in the world's own folder.
fn token(world: &World, conf: &str, label: &str) {
    let mut tool = world.command("softhsm2-util");
    tool.env("SOFTHSM2_CONF", conf);
    tool.args(["--init-token", "--free", "--label", label, "--pin", "987654", "--so-pin", "12345678"]);
    let made =
        tool.output().unwrap_or_else(|error| panic!("softhsm2-util: {error}; scripts/test installs what is missing"));
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

/// A ward whose settings name the module, and an initialised token `hsm` of its own.
fn world_with_token() -> World {
    let world = World::new();
    let conf = world.path("softhsm2.conf").display().to_string();
    let world = world.with("SOFTHSM2_CONF", &conf).with("TIDY_WARDEN_PIN_FILE", "pin.txt");
    std::fs::create_dir(world.path("tokens")).unwrap();
    world.write("softhsm2.conf", format!("directories.tokendir = {}\n", world.path("tokens").display()));
    token(&world, &conf, "hsm");
    world.secret("pin.txt", "987654\n");
    world.run(&["init", "--name", "North", "--enterprise-number", "32473"]).exits(0);
    world.append("w/ward.toml", &format!("\n[kinds.windvane]\nauthority = \"vanes\"\n[hsm]\nmodule = \"{MODULE}\"\n"));
    world
}

#[test]
fn an_authority_whose_key_is_on_a_token_does_all_that_one_in_a_file_does() {
    let world = world_with_token();
    for (number, key) in ["p256", "p384", "rsa3072"].into_iter().enumerate() {
        let name = format!("vanes{}", if number == 0 { String::new() } else { format!("-{number}") });
        let before = format!("vanes{}", if number < 2 { String::new() } else { format!("-{}", number - 1) });
        let mut call = vec!["authority", "add", &name, "--key", key, "--token", "hsm"];
        if number > 0 {
            call.extend(["--replaces", &before]);
        }
        world.run(&call).exits(0).prints(&[&format!("`{name}` on the token `hsm`")]);
        assert!(!world.path(&format!("w/keys/{name}.key")).exists());
        let id = format!("wv-{number}");
        world.write("l.csv", format!("id,kind\n{id},windvane\n{id}-b,windvane\n"));
        world.run(&["enroll", "--from", "l.csv", "--out", "o", "--yes"]).exits(0);
        let (root, chain, leaf) =
            (format!("o/{id}/root.pem"), format!("o/{id}/chain.pem"), format!("o/{id}/device.pem"));
        world.other("openssl", &["verify", "-CAfile", &root, "-untrusted", &chain, &leaf]).exits(0);
        world.run(&["authority", "judge", &leaf, "--root", &root, "--chain", &chain]).exits(0);
        let issuer = Certificate::read_all(&std::fs::read(world.path(&chain)).unwrap()).unwrap();
        assert_eq!(issuer[0].public_key.key_type().to_string(), key);
        world.run(&["revoke", &id, "--reason", "superseded", "--yes"]).exits(0);
        world.run(&["crl", "--authority", &name, "--out", "c.crl"]).exits(0).prints(&["1 revoked"]);
        world.run(&["authority", "judge", &leaf, "--root", &root, "--chain", &chain, "--crl", "c.crl"]).exits(3);
    }
    world
        .run(&["authority", "add", "e", "--key", "ed25519", "--token", "hsm"])
        .exits(1)
        .says(&["cannot be kept on a token"]);
    world
        .run(&["authority", "add", "e", "--token", "none"])
        .exits(1)
        .says(&["no token with the label `none`", "there are: hsm"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_key_on_a_token_signs_tokens_one_and_many() {
    let world = world_with_token();
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    let plain = settings.replace("authority = \"vanes\"\n", "token_login = true\n");
    world.write("w/ward.toml", plain);
    world.run(&["token", "signer", "add", "--type", "ed25519", "--hsm", "hsm"]).exits(1);
    world.run(&["token", "signer", "add", "--hsm", "none"]).exits(1).says(&["no token with the label `none`"]);
    world.run(&["token", "signer", "add", "--hsm", "hsm", "--because", "safer"]).exits(0).prints(&["tokens-2"]);
    assert!(!world.path("w/keys/tokens-2.key").exists());
    let rows: String = (1..1200).map(|number| format!("wv-{number},windvane\n")).collect();
    world.write("l.csv", format!("id,kind\n{rows}"));
    world.run(&["device", "import", "l.csv"]).exits(0);
    world.run(&["token", "issue", "wv-1", "--out", "t.txt"]).exits(0);
    world.run(&["token", "verify", "--file", "t.txt"]).exits(0);
    let many = ["token", "issue", "--where", "kind = windvane", "--count", "1199", "--out", "all.csv"];
    world.run(&many).exits(0);
    let all = std::fs::read_to_string(world.path("all.csv")).unwrap();
    assert_eq!(all.lines().count(), 1200);
    let last = all.lines().last().unwrap().split(',').nth(1).unwrap();
    world.write("last.txt", last);
    world.run(&["authority", "export", "--jwks", "jwks.json"]).exits(0);
    let read = world.run(&["token", "read", "--file", "last.txt", "--format", "json"]).exits(0).json();
    let (audience, issuer) = (read["claims"]["aud"].as_str().unwrap(), read["claims"]["iss"].as_str().unwrap());
    let by_set = ["token", "verify", "--jwks", "jwks.json", "--audience", audience, "--issuer", issuer];
    world.run(&[&by_set[..], &["--file", "last.txt"]].concat()).exits(0);
    // Without the token nothing is signed, nothing is left, and what was signed stays good.
    std::fs::rename(world.path("tokens"), world.path("away")).unwrap();
    std::fs::create_dir(world.path("tokens")).unwrap();
    world.run(&["token", "issue", "wv-1"]).exits(1).says(&["no token with the label `hsm`"]);
    world.run(&[&many[..7], &["more.csv"]].concat()).exits(1);
    assert!(!world.path("more.csv").exists() && !world.path(".more.csv.file.partial").exists());
    world.run(&["token", "verify", "--file", "t.txt"]).exits(0);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_wrong_pin_a_missing_module_and_a_token_that_went_away_are_told() {
    let world = world_with_token();
    world.secret("wrong.txt", "000000\n");
    let add = ["authority", "add", "vanes", "--token", "hsm"];
    world.run(&[&add[..], &["--pin-file", "wrong.txt"]].concat()).exits(1).says(&["does not take the PIN"]);
    world.run(&add).exits(0);
    let rows: String = (0..3000).map(|number| format!("wv-{number},windvane\n")).collect();
    world.write("fleet.csv", format!("id,kind\n{rows}"));
    // The token is gone between two batches of a run.
    let begin = ["enroll", "--from", "fleet.csv", "--pack", "p.tar.zst", "--yes", "--batch", "100"];
    let mut running = crate::harness::Running::start(&mut world.program(&begin));
    let part = world.path("p.tar.zst.part");
    crate::harness::eventually(|| std::fs::metadata(&part).is_ok_and(|file| file.len() > 0).then_some(())).unwrap();
    running.kill();
    std::fs::rename(world.path("tokens"), world.path("away")).unwrap();
    std::fs::create_dir(world.path("tokens")).unwrap();
    world.run(&["enroll", "--resume"]).exits(1).says(&["no token with the label `hsm`"]);
    std::fs::remove_dir(world.path("tokens")).unwrap();
    std::fs::rename(world.path("away"), world.path("tokens")).unwrap();
    world.run(&["enroll", "--resume"]).exits(0).prints(&["issued   3000 certificates"]);
    assert_eq!(crate::bulk::open_pack(&world.path("p.tar.zst")).0.len(), 3000);
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replace(MODULE, "/nowhere/pkcs11.so"));
    world.run(&["crl", "--authority", "vanes", "--out", "c.crl"]).exits(1).says(&["/nowhere/pkcs11.so cannot be used"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_device_joins_with_a_key_on_a_token_and_renews_with_the_next_one() {
    let world = World::new();
    let conf = world.path("softhsm2.conf").display().to_string();
    let world = world.with("SOFTHSM2_CONF", &conf);
    std::fs::create_dir(world.path("tokens")).unwrap();
    world.write("softhsm2.conf", format!("directories.tokendir = {}\n", world.path("tokens").display()));
    token(&world, &conf, "chip");
    world.secret("pin.txt", "987654\n");
    world
        .run(&["init", "--rehearsal", "--name", "North", "--host", "localhost", "--enterprise-number", "32473"])
        .exits(0);
    let world = world.with("TIDY_WARDEN_NOW", "@now");
    world.write("now", "2027-01-01T00:00:00Z");
    world.append("w/ward.toml", "\n[kinds.windvane]\nlife = \"30d\"\n");
    world.adopt("policy v { for kind = windvane allow connect as \"{device}\" }");
    let open = ["admission", "open", "--id", "wv-9", "--kind", "windvane", "--secret", "--out", "wv-9.secret"];
    world.run(&open).exits(0);
    let desk = crate::desk::Desk::start(&world);
    let url = format!("https://localhost:{}", desk.address.port());
    let uri = |object: &str| format!("pkcs11:token=chip;object={object}?module-path={MODULE}&pin-source=file:pin.txt");
    let join = |uri: &str, more: &[&str]| {
        let call =
            ["join", &url, "--root", "trust/root.pem", "--kind", "windvane", "--out", "outfit", "--key-uri", uri];
        let secret = ["--user", "wv-9", "--secret-file", "wv-9.secret"];
        world.run(&[&call[..], &secret, more].concat())
    };
    for (uri, code, why) in [
        ("pkcs11:token=chip;object=k", 2, "`module-path` is missing"),
        ("pkcs11:token=chip;object=k?module-path=m&pin-value=987654", 2, "a PIN must not stand"),
        ("/etc/key.pem", 2, "expected pkcs11:"),
        (&format!("pkcs11:token=other;object=k?module-path={MODULE}&pin-source=pin.txt"), 1, "there are: chip"),
    ] {
        join(uri, &[]).exits(code).says(&[why]);
        let _ = std::fs::remove_file(world.path("outfit.key"));
    }
    join(&uri("wv-9"), &["--key", "ed25519"]).exits(1).says(&["cannot be kept on a token"]);
    join(&uri("wv-9"), &[]).exits(0).says(&["CN=wv-9"]);
    let file = |name: &str| std::fs::read_to_string(world.path(&format!("outfit/{name}"))).unwrap();
    let parts = |world: &World| {
        let all = std::fs::read_dir(world.path("outfit")).unwrap();
        all.map(|each| each.unwrap().file_name().into_string().unwrap()).collect::<std::collections::BTreeSet<_>>()
    };
    let whole = ["chain.pem", "connect.json", "device.pem", "key.uri", "root.pem"].map(str::to_owned).into();
    assert_eq!(parts(&world), whole, "no key anywhere but on the token");
    assert!(file("key.uri").starts_with("pkcs11:token=chip;object=wv-9;type=private?"), "{}", file("key.uri"));
    assert!(!world.path("outfit.key").exists());
    // On the token is what the certificate is for: it signs with it when it comes again.
    let renew = || world.run(&["join", &url, "--out", "outfit", "--renew"]);
    let first = file("device.pem");
    renew().exits(0).says(&["nothing to do yet"]);
    let waits = std::fs::read_to_string(world.path("outfit.key")).unwrap();
    assert!(waits.contains("object=wv-9.2;"), "{waits}");
    world.write("now", "2027-01-28T00:00:00Z");
    std::fs::rename(world.path("tokens"), world.path("away")).unwrap();
    std::fs::create_dir(world.path("tokens")).unwrap();
    renew().exits(1).says(&["plug the token in"]);
    std::fs::remove_dir(world.path("tokens")).unwrap();
    std::fs::rename(world.path("away"), world.path("tokens")).unwrap();
    renew().exits(0).says(&["CN=wv-9"]);
    assert!(file("device.pem") != first && file("key.uri").contains("object=wv-9.2;"));
    assert_eq!(
        parts(&world),
        ["chain.pem", "connect.json", "device.pem", "key.uri", "root.pem"].map(str::to_owned).into()
    );
    // The key before it is gone from the token, and the new one renews in its turn.
    let again = uri("wv-9");
    std::fs::rename(world.path("outfit"), world.path("kept")).unwrap();
    world.write("outfit.key", format!("{again}\n"));
    join(&again, &[]).exits(3);
    std::fs::remove_file(world.path("outfit.key")).unwrap();
    std::fs::rename(world.path("kept"), world.path("outfit")).unwrap();
    world.write("now", "2027-02-24T00:00:00Z");
    renew().exits(0).says(&["CN=wv-9"]);
    assert!(file("key.uri").contains("object=wv-9.3;"));
    world.run(&["audit", "verify"]).exits(0);
}
