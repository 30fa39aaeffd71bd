//! The keys that devices share with the ward are replaced: fetched at the desk, or sent so that only the device can read them.

use serde_json::Value;
use tidy_warden_core::shared::SharedKey;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{Claims, Form, TokenSigner, sign};
use tidy_warden_simulate::{ConnectError, Login};

use crate::desk::Desk;
use crate::door::python;
use crate::harness::{Guard, KINDS, Ran, Running, World, block_on, eventually, in_days};

/// A device in another language.
const DEVICE: &str = include_str!("rekeys.py");

/// A rehearsal of wind vanes whose shared keys last ninety days, and are replaced as `renews_keys` says; its clock is the file `now`.
fn rehearsal(renews_keys: &str, devices: usize) -> World {
    let more = format!(
        "[kinds.windvane]\nlife = \"90d\"\nshared_keys = true\nrenews_keys = \"{renews_keys}\"\nerrands = [\"stop\"]\n"
    );
    let world = World::driven_with(&KINDS.replace("[kinds.windvane]\n", &more), devices);
    world.write("now", in_days(1));
    world
}

/// Gives a device a shared key in the file `ID.jwk`.
fn share(world: &World, id: &str) {
    world.run(&["key", "add", id, "--shared", "--out", &format!("{id}.jwk")]).exits(0);
}

fn kid(world: &World, file: &str) -> String {
    let jwk: Value = serde_json::from_str(&std::fs::read_to_string(world.path(file)).unwrap()).unwrap();
    jwk["kid"].as_str().unwrap().to_owned()
}

fn status(world: &World, name: &str) -> Value {
    world.run(&["rotation", "status", name, "--format", "json"]).exits(0).json()
}

fn soon(what: &str, mut is_so: impl FnMut() -> bool) {
    assert!(eventually(|| is_so().then_some(())).is_some(), "{what}");
}

/// Signs in with a token that the key in a file signs; gives the code, 0 if that is taken.
fn code(world: &World, id: &str, file: &str, guard: &Guard) -> u8 {
    let key = SharedKey::from_jwk(&std::fs::read_to_string(world.path(file)).unwrap()).unwrap();
    let now: UnixTime = std::fs::read_to_string(world.path("now")).unwrap().trim().parse().unwrap();
    let claims = Claims {
        audience: vec!["mqtts://localhost:8883".into()],
        issued: Some(now),
        ends: Some(now.plus(Span::from_seconds(600))),
        ..Claims::default()
    };
    let token = sign(Form::Jwt, &claims, TokenSigner::Shared(&key), &kid(world, file)).unwrap();
    let mut login = Login::new(&world.root(id), None, "localhost", &format!("{id}:a")).unwrap();
    login.token = Some((id.to_owned(), token));
    block_on(async {
        match login.connect(guard.address).await {
            Ok(device) => {
                device.goodbye().await;
                0
            }
            Err(ConnectError::Refused { code, .. }) => code,
            Err(other) => panic!("{other}"),
        }
    })
}

/// What `due` says of the shared keys of a device: what happens, and why.
fn due(world: &World, id: &str) -> Vec<(String, String)> {
    let due = world.run(&["due", "--within", "100d", "--format", "json"]).exits(0).json();
    let its = due["due"].as_array().unwrap().iter();
    let its = its.filter(|each| each["name"] == id && each["what"] == "shared-key");
    its.map(|each| (each["happens"].as_str().unwrap().to_owned(), each["why"].as_str().unwrap().to_owned())).collect()
}

#[test]
fn a_device_fetches_its_next_shared_key_at_the_desk() {
    let world = rehearsal("device", 2);
    share(&world, "wv-1");
    share(&world, "wv-2");
    assert_eq!(due(&world, "wv-1")[0].0, "needs-you", "there is no desk");
    let guard = Guard::start(&world, "builtin");
    let desk = Desk::start(&world);
    soon("the desk is seen", || due(&world, "wv-1")[0].0 == "renews-by-itself");
    let url = desk.url("");
    let join = |id: &str, file: &str| -> Ran {
        let connect = format!("outfits/{id}/connect.json");
        world.run(&["join", &url, "--renew-key", file, "--connect", &connect, "--wait", "0s", "--format", "json"])
    };
    let prepare = ["rotation", "prepare", "keys", "--where", "kind = windvane", "--rounds", "50%,100%"];
    world.run(&[&prepare[..], &["--of", "locks"]].concat()).exits(2).says(&["expected certificates or shared-keys"]);
    world.run(&[&prepare[..], &["--of", "shared-keys", "--key-type", "p256"]].concat()).exits(2);
    let plan = world.run(&[&prepare[..], &["--of", "shared-keys", "--format", "json"]].concat()).exits(0).json();
    assert_eq!((&plan["devices"], &plan["replaces"]), (&2.into(), &"shared-keys".into()));
    assert_eq!(code(&world, "wv-1", "wv-1.jwk", &guard), 0);
    assert_eq!(
        join("wv-1", "wv-1.jwk").exits(0).json()["replaced"],
        false,
        "it was not asked, and its time has not come"
    );

    world.run(&["rotation", "start", "keys", "--yes"]).exits(0);
    soon("one is asked", || status(&world, "keys")["rounds"][0]["asked"] == 1);
    world.write("now", in_days(2));
    let fetched = ["wv-1", "wv-2"].map(|id| {
        std::fs::copy(world.path(&format!("{id}.jwk")), world.path(&format!("{id}.old"))).unwrap();
        join(id, &format!("{id}.jwk")).exits(0).json()["replaced"] == true
    });
    assert_ne!(fetched[0], fetched[1], "one of them was asked");
    let (first, second) = if fetched[0] { ("wv-1", "wv-2") } else { ("wv-2", "wv-1") };
    let (new, old) = (format!("{first}.jwk"), format!("{first}.old"));
    let mode = std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(world.path(&new)).unwrap()) & 0o777;
    assert_eq!(mode, 0o600);
    desk.event("key-renewed", |event| event["device"] == first && event["kid"] == kid(&world, &new).as_str());
    soon("it has its next key", || status(&world, "keys")["rounds"][0]["renewed"] == 1);
    // The answer was lost: it is given the same.
    std::fs::copy(world.path(&old), world.path("lost.jwk")).unwrap();
    join(first, "lost.jwk").exits(0);
    assert_eq!(std::fs::read(world.path("lost.jwk")).unwrap(), std::fs::read(world.path(&new)).unwrap());
    desk.event("repeated", |event| event["device"] == first);
    assert_eq!(code(&world, first, &old, &guard), 0, "the old one goes on until then");
    assert_eq!(code(&world, first, &new, &guard), 0);
    soon("it is confirmed, and the next round asks", || status(&world, "keys")["rounds"][1]["asked"] == 1);
    soon("the old one has ended", || code(&world, first, &old, &guard) != 0);
    join(first, &old).exits(3).says(&["does not prove"]);
    join(first, &new).exits(0);
    assert_eq!(kid(&world, &new), kid(&world, "lost.jwk"), "asked once, it was replaced once");

    world.write("now", in_days(3));
    join(second, &format!("{second}.jwk")).exits(0);
    assert_eq!(code(&world, second, &format!("{second}.jwk"), &guard), 0);
    soon("the rotation is done", || status(&world, "keys")["state"] == "done");
    world.run(&["rotation", "show", "keys"]).exits(0).prints(&["shared-keys"]);

    // Its time comes by itself, too; who is on hold or was ended gets nothing.
    world.write("now", in_days(80));
    world.run(&["hold", second, "--because", "it was seen elsewhere", "--yes"]).exits(0);
    join(second, &format!("{second}.jwk")).exits(3).says(&["does not prove"]);
    // One that has no certificate, and so no outfit, is told by whom it is to be found.
    world.run(&["device", "add", "wv-9", "--kind", "windvane", "--label", "site=ossel"]).exits(0);
    world.run(&["key", "add", "wv-9", "--shared", "--out", "wv-9.jwk", "--for", "50h"]).exits(0);
    world.run(&["outfit", "show", "wv-9", "--as", "connect", "--out", "wv-9.json"]).exits(0);
    world.write("now", in_days(82));
    let alone = ["--renew-key", "wv-9.jwk", "--connect", "wv-9.json", "--root", "trust/root.pem", "--format", "json"];
    let fetched = world.run(&[&["join", &url][..], &alone].concat()).exits(0).json();
    assert_eq!((&fetched["replaced"], fetched["kid"] == kid(&world, "wv-9.jwk").as_str()), (&true.into(), true));
    let before = kid(&world, &new);
    assert_eq!(join(first, &new).exits(0).json()["before"], before.as_str());
    assert_eq!(code(&world, first, &new, &guard), 0);
    // What came of a key that leaked ends with it.
    let ended = ["key", "retire", first, &before, "--reason", "keyCompromise", "--yes", "--because", "it leaked"];
    world.run(&ended).exits(0);
    soon("the next is ended with it", || code(&world, first, &new, &guard) != 0);
    join(first, &new).exits(3);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn nobody_gets_a_key_who_does_not_prove_the_present_one() {
    let world = rehearsal("device", 2);
    share(&world, "wv-1");
    share(&world, "wv-2");
    let desk = Desk::start(&world);
    let post = |file: &str, kind: &str| {
        let (kind, data) = (format!("Content-Type: {kind}"), format!("@{file}"));
        crate::desk::curl(&world, &desk.url("/key"), &["-H", &kind, "--data-binary", &data])
    };
    world.write("none", "");
    world.write("words", "give it to me");
    world.write("large", "a".repeat(200_000));
    assert_eq!(crate::desk::curl(&world, &desk.url("/key"), &[]).0, 405);
    assert_eq!(post("none", "application/pkcs10").0, 415);
    assert_eq!(post("none", "application/jose").0, 400);
    assert_eq!(post("words", "application/jose").0, 400);
    assert_eq!(post("large", "application/jose").0, 413);
    // A token that the very key signed is no request for the next one.
    world
        .run(&["token", "issue", "wv-1", "--key", &kid(&world, "wv-1.jwk"), "--for", "10m", "--out", "t.jwt"])
        .exits(0);
    assert_eq!(post("t.jwt", "application/jose").0, 400);
    let refused = |connect: &str, file: &str| {
        let connect = format!("outfits/{connect}/connect.json");
        let ran = world.run(&["join", &desk.url(""), "--renew-key", file, "--connect", &connect, "--wait", "0s"]);
        ran.exits(3).says(&["does not prove"])
    };
    // Another device's, under its own name and under the other's; and one that nobody has.
    refused("wv-2", "wv-1.jwk");
    let own = std::fs::read_to_string(world.path("wv-1.jwk")).unwrap();
    world.secret("forged.jwk", &own.replace(&kid(&world, "wv-1.jwk"), &kid(&world, "wv-2.jwk")));
    refused("wv-1", "forged.jwk");
    refused("wv-2", "forged.jwk");
    let connect = std::fs::read_to_string(world.path("outfits/wv-1/connect.json")).unwrap();
    std::fs::create_dir(world.path("outfits/wv-7")).unwrap();
    world.write("outfits/wv-7/connect.json", connect.replace("\"device\": \"wv-1\"", "\"device\": \"wv-7\""));
    std::fs::copy(world.path("outfits/wv-1/root.pem"), world.path("outfits/wv-7/root.pem")).unwrap();
    refused("wv-7", "wv-1.jwk");
    // One that a person made in its place is not for whoever has the old one.
    world.run(&["key", "rotate", "wv-1", "--shared", "--out", "next.jwk"]).exits(0);
    refused("wv-1", "wv-1.jwk");
    desk.event("refused", |event| event["because"].as_str().unwrap().contains("another key was made in its place"));

    // Where no kind replaces its keys there is nothing; nor at a desk that may not.
    drop(desk);
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replace("renews_keys = \"device\"", "renews_keys = \"person\""));
    let desk = Desk::start(&world);
    let join = ["join", &desk.url(""), "--renew-key", "next.jwk", "--connect", "outfits/wv-1/connect.json"];
    world.run(&join).exits(3).says(&["devices replace no keys there", "renews_keys"]);
    assert_eq!(due(&world, "wv-2"), [("needs-you".to_owned(), "keys of devices are replaced by a person".to_owned())]);
    let prepare = ["rotation", "prepare", "keys", "--where", "kind = windvane", "--of", "shared-keys"];
    world.run(&prepare).exits(4).says(&["in need of you: 2 devices", "key rotate"]);
}

#[test]
fn a_device_is_sent_its_next_shared_key_so_that_nobody_else_can_read_it() {
    let world = rehearsal("errand", 3);
    for id in ["wv-1", "wv-2", "wv-3"] {
        share(&world, id);
    }
    for (id, curve) in [("wv-1", "P-256"), ("wv-2", "P-384")] {
        let (seal, public) = (format!("{id}.seal"), format!("{id}.pub"));
        let curve = format!("ec_paramgen_curve:{curve}");
        world.other("openssl", &["genpkey", "-algorithm", "EC", "-pkeyopt", &curve, "-out", &seal]).exits(0);
        world.other("openssl", &["pkey", "-in", &seal, "-pubout", "-out", &public]).exits(0);
        world.run(&["key", "add", id, "--public-key", &public, "--for", "800d"]).exits(0);
    }
    world.run(&["key", "rotate", "wv-3", "--send"]).exits(3).says(&["no registered P-256 or P-384 key"]);
    let prepare = ["rotation", "prepare", "keys", "--where", "kind = windvane", "--of", "shared-keys"];
    let plan = world.run(&[&prepare[..], &["--rounds", "100%", "--format", "json"]].concat()).exits(0);
    plan.says(&["in need of you: 1 device without a registered P-256 or P-384 key"]);
    let guard = Guard::start(&world, "builtin");
    let desk = Desk::start(&world);
    world.write("rekeys.py", DEVICE);
    let device = |id: &str, version: &str| {
        let (outfit, key, seal) = (format!("outfits/{id}"), format!("{id}.jwk"), format!("{id}.seal"));
        let port = guard.address.port().to_string();
        let args = ["rekeys.py", &outfit, &key, &seal, &port, version, "now"];
        let running = Running::start(world.command(python(&world)).args(args));
        running.line("that it listens", |line| line.starts_with("listens"));
        running
    };
    // What was made in the second of the question might be taken for its answer.
    world.write("now", in_days(2));
    world.run(&["rotation", "start", "keys", "--yes"]).exits(0);
    soon("both are sent theirs", || status(&world, "keys")["rounds"][0]["asked"] == 2);
    let listed = world.run(&["errand", "list", "--format", "json"]).exits(0).json();
    let purposes: Vec<&str> =
        listed["errands"].as_array().unwrap().iter().map(|each| each["purpose"].as_str().unwrap()).collect();
    assert_eq!(purposes, ["install-key", "install-key"]);
    let mut kids = Vec::new();
    for (id, version) in [("wv-1", "5"), ("wv-2", "4")] {
        let file = format!("{id}.jwk");
        let (before, old) = (kid(&world, &file), format!("{id}.old"));
        std::fs::copy(world.path(&file), world.path(&old)).unwrap();
        let running = device(id, version);
        running.line("that it was sent a key", |line| line == "does install-key");
        running.line("that it came back with it", |line| line.starts_with("connected 0") && !line.ends_with(&before));
        soon("the old one has ended", || code(&world, id, &old, &guard) != 0);
        kids.push(kid(&world, &file));
        world.run(&["errand", "send", id, "stop", "--wait", "10s"]).exits(0);
    }
    soon("the rotation is done", || status(&world, "keys")["state"] == "done");
    assert_eq!(status(&world, "keys")["rounds"][0]["confirmed"], 2);

    // Its time comes, and a desk sends it the next; who is away is sent it once, and the old one goes on until it comes.
    world.write("now", in_days(80));
    desk.event("sent-keys", |event| event["count"].as_u64().unwrap() >= 1);
    let keys = || {
        let all = world.run(&["key", "list", "wv-1", "--format", "json"]).exits(0).json();
        let all = all["keys"].as_array().unwrap().clone();
        all.into_iter().filter(|each| each["kind"] == "shared" && each["state"] != "expired").collect::<Vec<_>>()
    };
    soon("the next one is made", || keys().iter().any(|each| each["first_used"].is_null()));
    world.write("now", in_days(89));
    let told = due(&world, "wv-1");
    assert!(told.iter().any(|(happens, why)| happens == "needs-you" && why.contains("did not take it")), "{told:?}");
    assert_eq!(code(&world, "wv-1", "wv-1.jwk", &guard), 0, "it has its end, and not that of an overlap");
    world.run(&["key", "rotate", "wv-1", "--send"]).exits(3).says(&["is asked to install-key already"]);
    let unused = |all: &[Value]| all.iter().filter(|each| each["first_used"].is_null()).count();
    assert_eq!(unused(&keys()), 1, "made once");
    let running = device("wv-1", "5");
    running.line("that it was sent a key", |line| line == "does install-key");
    running.line("that it came back with it", |line| line.starts_with("connected 0") && !line.ends_with(&kids[0]));
    soon("nothing is due of it any more", || {
        due(&world, "wv-1").iter().all(|(happens, _)| happens == "renews-by-itself")
    });
    drop(running);
    world.run(&["audit", "verify"]).exits(0);
}
