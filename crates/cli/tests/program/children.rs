//! Children that nobody listed: brought in by the first message about them, or ahead over the desk.

use serde_json::Value;

use crate::desk::{Desk, certificate, openssl_request};
use crate::harness::{Guard, World, block_on, eventually};

const POLICY: &str = r#"policy hub {
  for   kind = station
  allow connect   as "{device}"
  allow publish   "rope/{site}/{device}/cabins/{child}/door" for children
  allow publish   "rope/{site}/{device}/gates/{child}/{kind}" for children
  allow introduce kind cabin at most 3 because "cabins are hung in at night"
  allow introduce kind turnstile at most 2
}
"#;

/// A ward with a station that has its outfit, and kinds of children of both sorts.
fn world() -> World {
    let world = World::init();
    equip(&world);
    world
}

/// Gives a ward without devices what [`world`] has.
pub(crate) fn equip(world: &World) {
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    let kinds =
        "[kinds.station]\ncarries = [\"cabin\", \"turnstile\"]\n[kinds.cabin]\n[kinds.turnstile]\nadmit = \"facts\"\n";
    world.write("w/ward.toml", text.replace("[kinds.station]\n", kinds));
    world.run(&["device", "add", "st-1", "--kind", "station", "--label", "site=ossel"]).exits(0);
    world.adopt(POLICY);
    world.run(&["enroll", "st-1", "--make-key", "--out", "outfits"]).exits(0);
}

fn door(child: &str) -> String {
    format!("rope/ossel/st-1/cabins/{child}/door")
}

#[test]
fn a_first_message_brings_a_child_in_and_a_person_says_yes() {
    let world = world();
    let guard = Guard::start(&world, "builtin");
    let introduced = |child: &str| guard.event("introduced", |event| event["child"] == child)["state"].clone();
    block_on(async {
        let mut live = world.login("st-1").connect(guard.address).await.unwrap();
        assert!(!live.publish(&door("cb-1"), b"open").await.unwrap().is_ok(), "until then the message is refused");
        assert_eq!(introduced("cb-1"), "waits");
        world
            .run(&["device", "list", "--where", "state = asking"])
            .exits(0)
            .prints(&["cb-1", "cabin", "asking", "st-1"])
            .says(&["device accept ID"]);
        let shown = world.run(&["device", "show", "cb-1", "--format", "json"]).exits(0).json();
        assert_eq!((&shown["state"], &shown["gateway"]), (&"asking".into(), &"st-1".into()));
        assert_eq!((&shown["asking"]["from"], &shown["asking"]["code"]), (&"st-1".into(), &Value::Null));
        world.run(&["device", "accept", "cb-1", "--code", "x", "--yes"]).exits(2).says(&["no key with a code"]);
        world.run(&["device", "accept", "cb-1"]).exits(2);
        world.run(&["device", "accept", "cb-1", "--label", "rope=north", "--yes"]).exits(0).says(&["accepted cb-1"]);
        world.run(&["device", "accept", "cb-1", "--yes"]).exits(4);
        let mut tries = 0;
        while !live.publish(&door("cb-1"), b"open").await.unwrap().is_ok() {
            tries += 1;
            assert!(tries < 100);
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        let child = world.run(&["device", "show", "cb-1"]).exits(0);
        child.prints(&["st-1", "rope=north", "site=ossel"]);
        world.run(&["device", "show", "st-1"]).exits(0).prints(&["speaks for  1 device behind it"]);

        // What is refused stays out and counts; more than the policy says do not come in.
        for child in ["cb-2", "cb-3", "cb-4"] {
            assert!(!live.publish(&door(child), b"open").await.unwrap().is_ok());
        }
        assert_eq!((introduced("cb-2"), introduced("cb-3")), ("waits".into(), "waits".into()));
        let full = guard.event("not-introduced", |event| event["child"] == "cb-4");
        assert!(full["because"].as_str().unwrap().contains("may bring in 3"), "{full}");
        world.run(&["device", "refuse", "cb-2", "--yes", "--because", "not ours"]).exits(0);
        world.run(&["device", "accept", "cb-2", "--yes"]).exits(4);

        // A kind that wants bare facts only takes its gateway's word; the next message passes.
        let gate = "rope/ossel/st-1/gates/tg-1/turnstile";
        assert!(!live.publish(gate, b"1").await.unwrap().is_ok());
        assert_eq!(introduced("tg-1"), "accepted");
        let mut tries = 0;
        while !live.publish(gate, b"1").await.unwrap().is_ok() {
            tries += 1;
            assert!(tries < 100);
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        // An id that is somebody else's is nobody's child.
        world.run(&["device", "add", "wv-9", "--kind", "windvane"]).exits(0);
        assert!(!live.publish(&door("wv-9"), b"x").await.unwrap().is_ok());
        let known = guard.event("not-introduced", |event| event["child"] == "wv-9");
        assert!(known["because"].as_str().unwrap().contains("already"), "{known}");
        assert!(!live.publish("rope/ossel/st-2/cabins/cb-9/door", b"x").await.unwrap().is_ok());
    });
    assert!(guard.running.lines().iter().all(|line| !line.contains("cb-9\",\"kind")), "not under another's topics");
    // What happens to those behind it is told before anything is done to a gateway.
    for act in [&["hold", "st-1"][..], &["device", "retire", "st-1"], &["revoke", "st-1", "--reason", "superseded"]] {
        world.run(act).exits(2).says(&["st-1 is the gateway of 2 devices: cb-1, tg-1"]);
    }
    world.run(&["audit", "log"]).exits(0).prints(&["device.introduce", "device.accept", "device.refuse", "not ours"]);
    world.run(&["audit", "verify"]).exits(0);
    if !crate::harness::in_databases() {
        drop(guard);
        for (sql, found) in [
            (
                "UPDATE introduced SET state = 'waits' WHERE child = 'cb-2'",
                "child `cb-2`: it is waits here, and refused by the record",
            ),
            (
                "DELETE FROM introduced WHERE child = 'cb-1'",
                "child `cb-1`: it is gone here, and accepted by the record",
            ),
            ("UPDATE introduced SET child = 'cb-8' WHERE child = 'cb-3'", "child `cb-8`: it waits here"),
        ] {
            world.other("sqlite3", &["w/ward.db", sql]).exits(0);
            world.run(&["audit", "verify"]).exits(3).prints(&[found]);
        }
    }
}

#[test]
fn policies_tell_who_may_bring_in_whom() {
    let world = world();
    world.run(&["policy", "check"]).exits(0);
    let ask = |topic: &str| world.run(&["policy", "ask", "st-1", "publish", topic]);
    ask(&door("cb-9")).exits(3).prints(&["denied", "`cb-9` would be brought in as a cabin", "at most 3"]);
    assert!(!ask("rope/ossel/st-2/cabins/cb-9/door").exits(3).stdout.contains("brought in"));
    world.run(&["policy", "reach", "rope/ossel/#"]).exits(0).prints(&[
        "children that 1 device may still bring in",
        "such as st-1",
        "rope/ossel/st-1/cabins/+/door",
    ]);
    let reach = world.run(&["policy", "reach", "rope/+/+/cabins/cb-9/+", "--format", "json"]).exits(0).json();
    assert_eq!(reach["brought_in"][0]["kind"], "cabin");
    assert_eq!(reach["brought_in"][0]["sample"]["topics"], "rope/ossel/st-1/cabins/cb-9/door");
    assert!(!world.run(&["policy", "reach", "rope/brindle/#"]).exits(0).stdout.contains("bring in"));
    world
        .run(&["policy", "compare", "none", "1"])
        .exits(0)
        .prints(&["gains introduce kind cabin at most 3", "gains introduce kind turnstile at most 2"]);
    world.write(
        "w/policies/all.policy",
        POLICY.replace("at most 3", "at most 30").replace("at most 2\n", "at most 1\n"),
    );
    world
        .run(&["policy", "compare", "1", "draft"])
        .exits(0)
        .prints(&["gains introduce kind cabin at most 30, not 3", "loses introduce kind turnstile at most 2, not 1"]);
    world.write("w/policies/all.policy", POLICY.replace("kind cabin", "kind cabbin"));
    world.run(&["policy", "check"]).exits(3).prints(&["unknown-kind", "did you mean `cabin`?"]);
    world.write("w/policies/all.policy", POLICY.replace("kind cabin at most 3", "kind cabin"));
    world.run(&["policy", "check"]).exits(3).prints(&["expected `at most`"]);
    world.write("w/policies/all.policy", POLICY);
    world.run(&["policy", "format"]).exits(0);
    let laid = std::fs::read_to_string(world.path("w/policies/all.policy")).unwrap();
    assert!(laid.contains("  allow introduce kind turnstile") && laid.contains("at most 3 because"), "{laid}");
    world.run(&["policy", "compare", "1", "draft"]).exits(0).prints(&["the same"]);
}

#[test]
fn a_gateway_brings_in_children_ahead_over_the_desk() {
    let world = world();
    let desk = Desk::start(&world);
    let url = format!("https://localhost:{}/children", desk.address.port());
    let post = |data: &str, more: &[&str]| -> (u16, String) {
        let base = ["-s", "-S", "--cacert", "trust/root.pem", "-w", "\n%{http_code}", "--data-binary", data];
        let ran = world.other("curl", &[&base[..], more, &[&url]].concat()).exits(0);
        let (body, status) = ran.stdout.rsplit_once('\n').unwrap();
        (status.parse().unwrap(), body.to_owned())
    };
    let json = ["-H", "Content-Type: application/json"];
    let own = ["--cert", "outfits/st-1/device.pem", "--key", "outfits/st-1/device.key"];
    let as_gateway = |data: &str| post(data, &[&json[..], &own].concat());
    let two = r#"{"children":[{"id":"cb-1","kind":"cabin"},{"id":"tg-1","kind":"turnstile"}]}"#;
    let (status, body) = as_gateway(two);
    assert_eq!(status, 200, "{body}");
    let told: Value = serde_json::from_str(&body).unwrap();
    assert_eq!((&told["children"][0]["state"], &told["children"][1]["state"]), (&"waits".into(), &"accepted".into()));
    assert_eq!(as_gateway(two).0, 200, "who is not sure says it again");
    world.run(&["device", "accept", "cb-1", "--yes"]).exits(0);
    world.run(&["device", "list", "--where", "gateway = st-1"]).exits(0).prints(&["cb-1", "tg-1"]);

    // Which ids there are elsewhere is not told.
    world.run(&["device", "add", "wv-9", "--kind", "windvane"]).exits(0);
    let (status, body) = as_gateway(r#"{"children":[{"id":"wv-9","kind":"cabin"}]}"#);
    assert!(status == 200 && body.contains("this id cannot be brought in"), "{body}");
    for (data, status) in [
        (r#"{"children":[{"id":"wv-10","kind":"windvane"}]}"#, 403),
        (r#"{"children":[]}"#, 400),
        (r#"{"children":[{"id":"CB 1","kind":"cabin"}]}"#, 400),
        (r#"{"children":[{"id":"asking-1","kind":"cabin"}]}"#, 400),
        (r#"{"children":[{"id":"cb-1","kind":"cabin","site":"x"}]}"#, 400),
        ("not json", 400),
    ] {
        assert_eq!(as_gateway(data).0, status, "{data}");
    }
    let many: Vec<String> = (0..101).map(|at| format!(r#"{{"id":"x-{at}","kind":"cabin"}}"#)).collect();
    assert_eq!(as_gateway(&format!(r#"{{"children":[{}]}}"#, many.join(","))).0, 400);
    world.write("large.json", vec![b' '; 1024 * 1024]);
    assert_eq!(as_gateway("@large.json").0, 413);
    assert_eq!(post(two, &own).0, 415);
    assert_eq!(post(two, &json).0, 401);
    let (status, _) = post(two, &[&json[..], &own, &["-X", "GET"]].concat());
    assert_eq!(status, 405);
    let told = desk.event("introduced", |event| event["child"] == "wv-9");
    assert!(told["because"].as_str().unwrap().contains("already"), "the log has the reason: {told}");
    // Held, it is nobody.
    world.run(&["hold", "st-1", "--yes"]).exits(0);
    let held = eventually(|| (as_gateway(two).0 == 401).then_some(()));
    assert!(held.is_some());
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_gateway_fetches_certificates_for_children_whose_kind_leaves_that_to_it() {
    let world = world().with("TIDY_WARDEN_NOW", "@now");
    world.write("now", "2027-01-01T00:00:00Z");
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write(
        "w/ward.toml",
        text.replace("[kinds.cabin]\n", "[kinds.cabin]\ngateway_enrols = true\nlife = \"90d\"\n"),
    );
    world.run(&["device", "add", "st-2", "--kind", "station", "--label", "site=ossel"]).exits(0);
    for gateway in ["st-1", "st-2"] {
        world.run(&["enroll", gateway, "--make-key", "--again", "--out", "fresh"]).exits(0);
    }
    for (child, kind, gateway) in [("cb-1", "cabin", "st-1"), ("cb-2", "cabin", "st-2"), ("tg-1", "turnstile", "st-1")]
    {
        world.run(&["device", "add", child, "--kind", kind, "--gateway", gateway]).exits(0);
    }
    for name in ["a", "b", "c"] {
        openssl_request(&world, name, "/CN=whatever");
    }
    let desk = Desk::start(&world);
    let fetch = |gateway: Option<&str>, child: &str, request: &str| -> (u16, String) {
        let url = format!("https://localhost:{}/children/{child}/simpleenroll", desk.address.port());
        let (data, of) =
            (format!("@{request}.b64"), |name: &str| format!("fresh/{}/{name}", gateway.unwrap_or_default()));
        let (pem, key) = (of("device.pem"), of("device.key"));
        let own: &[&str] = if gateway.is_some() { &["--cert", &pem, "--key", &key] } else { &[] };
        let base = ["-s", "-S", "--cacert", "trust/root.pem", "-w", "\n%{http_code}", "--data-binary", &data];
        let typed = ["-H", "Content-Type: application/pkcs10", &url];
        let ran = world.other("curl", &[&base[..], own, &typed].concat()).exits(0);
        let (body, status) = ran.stdout.rsplit_once('\n').unwrap();
        (status.parse().unwrap(), body.to_owned())
    };
    // One answer for all that is not its own: which devices there are elsewhere is nobody's business.
    let (_, nobody) = fetch(Some("st-1"), "cb-77", "a");
    for (gateway, child) in [(Some("st-1"), "cb-2"), (Some("st-1"), "tg-1"), (Some("st-1"), "st-1"), (None, "cb-1")] {
        assert_eq!(fetch(gateway, child, "a"), (401, nobody.clone()), "{gateway:?} {child}");
    }
    world.write("bad.b64", "AAAA");
    assert_eq!(fetch(Some("st-1"), "cb-1", "bad").0, 400);
    let (status, body) = fetch(Some("st-1"), "cb-1", "a");
    assert_eq!(status, 200, "{body}");
    let first = certificate(&world, &body, "cb-1.pem");
    let subject = world.other("openssl", &["x509", "-in", "cb-1.pem", "-noout", "-subject"]).exits(0).stdout;
    assert!(subject.contains("cb-1"), "the ward says what stands in it: {subject}");
    let told = desk.event("enrolled-child", |event| event["device"] == "cb-1");
    assert_eq!((&told["gateway"], &told["serial"]), (&"st-1".into(), &first.serial.to_string().into()));
    // A lost answer is given again; another key has to wait for the window; a key is one device's.
    let (status, again) = fetch(Some("st-1"), "cb-1", "a");
    assert_eq!((status, certificate(&world, &again, "again.pem").serial), (200, first.serial.clone()));
    let (status, early) = fetch(Some("st-1"), "cb-1", "b");
    assert!(status == 403 && early.contains("can be renewed from"), "{status} {early}");
    assert_eq!(fetch(Some("st-2"), "cb-2", "a").0, 401, "the key is another's");
    world.write("now", "2027-03-25T00:00:00Z");
    let (status, body) = fetch(Some("st-1"), "cb-1", "b");
    assert_eq!(status, 200, "{body}");
    assert_ne!(certificate(&world, &body, "next.pem").serial, first.serial);
    // What is held or out gets nothing, and neither does who is not the gateway any more.
    world.run(&["hold", "cb-1", "--yes"]).exits(0);
    assert_eq!(fetch(Some("st-1"), "cb-1", "b").0, 401);
    world.run(&["release", "cb-1", "--yes"]).exits(0);
    world.run(&["device", "edit", "cb-1", "--gateway", "st-2", "--yes"]).exits(0);
    assert_eq!(fetch(Some("st-1"), "cb-1", "b").0, 401);
    world.run(&["device", "show", "cb-1"]).exits(0).prints(&["st-2"]);
    world.run(&["revoke", "st-2", "--reason", "superseded", "--yes"]).exits(0);
    assert_eq!(fetch(Some("st-2"), "cb-1", "c").0, 401);
    let log = world.run(&["audit", "log", "--format", "jsonl"]).exits(0).stdout;
    assert!(log.contains("fetched by its gateway st-1"), "the record says who asked");
    // Whoever had the gateway's key could have fetched what it fetched.
    let shown =
        world.run(&["credential", "show", "--cert", "next.pem"]).exits(0).prints(&["asked for    with ", " of st-1"]);
    assert!(shown.stdout.contains("may sign in  yes"), "{shown}");
    let stolen = ["revoke", "st-1", "--reason", "keyCompromise", "--yes", "--because", "the cabinet stood open"];
    world.run(&stolen).exits(0).says(&["asked for with such a key end too: of cb-1"]);
    world.run(&["credential", "show", "--cert", "next.pem"]).exits(0).prints(&["may sign in  no: ", "revoked"]);
    world.run(&["audit", "verify"]).exits(0);
}
