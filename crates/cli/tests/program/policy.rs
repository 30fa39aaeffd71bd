//! Policies through the program: proved, compared, adopted, tried, drafted, and taken back.

use std::time::{Duration, Instant};

use crate::harness::{Guard, POLICY, World, block_on, eventually};

const SOON: Duration = Duration::from_secs(10);

/// A ward with a station that may speak for vanes, two vanes, one of them behind it, and a control room.
fn resort() -> World {
    let world = World::init();
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replace("[kinds.station]\n", "[kinds.station]\ncarries = [\"windvane\"]\n"));
    world.write(
        "list.csv",
        "id,kind,gateway,label.site\nst-1,station,,ossel\nwv-1,windvane,st-1,ossel\nwv-2,windvane,,ossel\n\
         cr-ossel,control-room,,ossel\n",
    );
    world.run(&["device", "import", "list.csv"]).exits(0);
    world
}

const STATION: &str = r#"
policy station {
  for   kind = station
  allow connect   as "{device}"
  allow publish   "rope/{site}/{child}/wind"      for children qos <= 0
  allow subscribe "rope/{site}/{child}/settings"  for children
}
"#;

#[test]
fn every_call_of_the_scripts_works_as_written() {
    let world = resort();
    world.adopt(&format!("{POLICY}{STATION}"));
    world.adopt(&format!("{POLICY}{STATION}").replace("{device}/lost", "{device}/gust"));
    std::fs::create_dir(world.path("other")).unwrap();
    world.write("other/a.policy", POLICY);
    let found = world.run(&["policy", "check", "--policies", "other", "--format", "json"]).exits(0).json();
    assert_eq!((found["errors"].as_u64(), found["devices"].as_u64()), (Some(0), Some(4)));
    assert_eq!(found["findings"][0]["id"], "no-policy");
    world.run(&["policy", "check", "--policies", "other", "--strict"]).exits(3);
    let found = world.run(&["policy", "reach", "rope/+/+/wind", "--format", "json"]).exits(0).json();
    assert_eq!((found["publishers"].as_u64(), found["receivers"].as_u64()), (Some(3), Some(1)));
    assert_eq!(found["publish"][1]["for_children"], true);
    assert_eq!(found["publish"][1]["samples"][0]["child"], "wv-1");
    let found = world.run(&["policy", "compare", "1", "2", "--format", "json"]).exits(0).json();
    assert_eq!((found["changed"].as_u64(), found["gain_and_lose"].as_u64()), (Some(2), Some(2)));
    assert_eq!(found["groups"][0]["changes"][1]["topics"], "rope/{site}/{device}/gust");
    world.run(&["policy", "format", "--check"]).exits(3).prints(&["all.policy: has another layout"]);
    world.run(&["policy", "format"]).exits(0);
    world.run(&["policy", "format", "--check"]).exits(0).says(&["nothing to change"]);
    world.run(&["policy", "compare", "2", "draft"]).exits(0).prints(&["of 4 devices, 4 stay the same"]);
    let condition = "kind = windvane and site in (ossel, brindle)";
    let list = ["device", "list", "--where", condition, "--columns", "id,site,state", "--format", "csv"];
    let list = world.run(&list).exits(0);
    assert_eq!(list.stdout, "id,site,state\nwv-1,ossel,listed\nwv-2,ossel,listed\n");
    world.run(&["device", "list", "--columns", "id,Site"]).exits(2).says(&["there is no column"]);
    world.run(&["policy", "ask", "st-1", "publish", "rope/ossel/wv-1/wind"]).exits(0).prints(&["for children"]);
    world.run(&["policy", "ask", "st-1", "publish", "rope/ossel/wv-2/wind"]).exits(3);
    world.run(&["device", "show", "st-1"]).exits(0).prints(&["speaks for  1 device behind it"]);
    world.run(&["policy", "ask", "wv-1", "publish", "rope/ossel/wv-1/wind", "--client-id", "wv-2"]).exits(3);
    world.run(&["policy", "reach", "rope/{site}/#"]).exits(3).says(&["variables have no value here"]);
}

#[test]
fn adoption_tells_what_changes_and_wants_the_number() {
    let world = resort();
    world.write("w/policies/all.policy", POLICY);
    let refused = world.run(&["policy", "adopt", "--count", "2"]).exits(3);
    refused.says(&["of 4 devices, 3 gain, 1 stays the same", "gains publish rope/{site}/{device}/wind", "not 2"]);
    world.run(&["policy", "editions"]).exits(0).says(&["no edition was adopted yet"]);
    world.run(&["policy", "adopt", "--count", "3", "--because", "first"]).exits(0);
    world.write("w/policies/all.policy", POLICY.replace("qos <= 1, size <= 2KiB", "qos <= 0"));
    world.run(&["policy", "adopt", "--count", "2"]).exits(0).says(&["loses publish", "with qos <= 1, size <= 2KiB"]);
    // Going back is an adoption like any other.
    world.run(&["policy", "adopt", "--edition", "1", "--count", "2", "--because", "too tight"]).exits(0);
    world.run(&["policy", "compare", "1", "3"]).exits(0).prints(&["4 stay the same"]);
    let editions = world.run(&["policy", "editions", "--format", "json"]).exits(0).json();
    let digests: Vec<_> = (0..3).map(|at| editions["editions"][at]["sha256"].clone()).collect();
    assert!(digests[0] == digests[2] && digests[0] != digests[1], "{digests:?}");
    world.run(&["policy", "adopt", "--edition", "9", "--yes"]).exits(4);
    world.run(&["policy", "compare", "1", "nowhere"]).exits(4).says(&["neither an edition nor a folder"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn rights_are_shown_before_a_device_changes() {
    let world = resort();
    world.adopt(&format!("{POLICY}{STATION}"));
    let asked = world.run(&["device", "edit", "wv-1", "--label", "site=brindle"]).exits(2);
    asked.says(&["wv-1\n", "gains publish rope/brindle/wv-1/wind", "loses publish rope/ossel/wv-1/wind", "st-1\n"]);
    assert!(world.run(&["device", "show", "wv-1"]).stdout.contains("site=ossel"), "nothing was done");
    world.run(&["device", "edit", "wv-1", "--no-gateway"]).exits(2).says(&["1 device gets", "st-1\n  loses"]);
    world.run(&["device", "edit", "wv-1", "--label", "colour=red"]).exits(0);
    let all = ["device", "edit", "--where", "kind = windvane", "--label", "site=brindle"];
    world.run(&all).exits(2).says(&["change 2 devices: wv-1, wv-2", "--count 2"]);
    world.run(&[&all[..], &["--count", "3"]].concat()).exits(3).says(&["the condition matches 2 devices, not 3"]);
    world.run(&[&all[..], &["--count", "2"]].concat()).exits(0).says(&["changed 2 devices"]);
    world.run(&["policy", "ask", "st-1", "publish", "rope/brindle/wv-1/wind"]).exits(0);
    world.run(&["device", "edit", "--where", "kind = cabin", "--label", "a=b", "--count", "0"]).exits(4);
    let revoke = ["revoke", "--where", "kind = windvane", "--reason", "cessationOfOperation"];
    world.run(&revoke).exits(2);
    world.run(&[&revoke[..], &["--count", "2"]].concat()).exits(0).prints(&["revoked 2 devices"]);
    world.run(&["policy", "ask", "st-1", "publish", "rope/brindle/wv-1/wind"]).exits(3);
}

#[test]
fn whoever_comes_back_or_arrives_is_told_with_what_rights() {
    let world = resort();
    world.adopt(&format!("{POLICY}{STATION}"));
    let both = ["wv-1\n  gains connect {device}", "gains publish rope/ossel/wv-1/wind", "st-1\n  gains"];
    world.run(&["hold", "wv-1", "--because", "odd", "--yes"]).exits(0);
    let edit = world.run(&["device", "edit", "wv-1", "--label", "site=brindle"]).exits(2);
    edit.says(&["wv-1\n  gains", "gains publish rope/brindle/wv-1/wind"]);
    world.run(&["release", "wv-1", "--because", "fine", "--yes"]).exits(0).says(&both);
    world.run(&["release", "wv-1", "--because", "fine", "--yes"]).exits(0).prints(&["nothing changed"]);
    world.run(&["revoke", "wv-1", "--reason", "cessationOfOperation", "--yes"]).exits(0);
    world.run(&["device", "reopen", "wv-1", "--because", "found"]).exits(0).says(&both);
    let add = |id: &str, kind: &str| {
        world.run(&["device", "add", id, "--kind", kind, "--gateway", "st-1", "--label", "site=ossel"]).exits(0)
    };
    let child = add("wv-7", "windvane").says(&["1 device gets other rights", "st-1\n  gains", "listed wv-7"]);
    assert!(!child.stderr.contains("carries"), "{}", child.stderr);
    add("cr-7", "control-room").says(&["st-1 may not speak for cr-7", "carries = [\"control-room\"]"]);
}

#[test]
fn words_that_people_try_are_taken() {
    let world = resort();
    world.adopt(POLICY);
    let ask = |size: &str| world.run(&["policy", "ask", "wv-1", "publish", "rope/ossel/wv-1/wind", "--size", size]);
    ask("2KiB").exits(0);
    ask("3KiB").exits(3);
    ask("2kb").exits(2).says(&["2KiB"]);
    world.run(&["help", "enroll"]).exits(0).prints(&["--make-key"]);
    world.run(&["enrol", "wv-1", "--make-key", "--out", "o"]).exits(0);
}

#[test]
fn groups_pick_devices_for_policies_and_people() {
    let world = resort();
    world.run(&["group", "make", "night", "--device", "wv-1", "--device", "wv-9"]).exits(4);
    world.write("ids.txt", "wv-1\n\nwv-1\n");
    world.run(&["group", "make", "night", "--from", "ids.txt"]).exits(0).says(&["1 device"]);
    world.run(&["group", "make", "vanes", "--where", "kind = windvane"]).exits(0);
    world.run(&["group", "make", "live-now", "--where", "state = live"]).exits(0);
    world.run(&["group", "make", "vanes", "--where", "kind = station"]).exits(3).says(&["there is a group"]);
    world.run(&["group", "make", "both", "--where", "group = night"]).exits(3).says(&["cannot name groups"]);
    world.run(&["group", "make", "none"]).exits(2);
    let list = world.run(&["group", "list", "--format", "csv"]).exits(0).stdout;
    assert!(list.contains("night,1,") && list.contains("vanes,2,") && list.contains("live-now,0,"), "{list}");
    let where_group = ["device", "list", "--where", "group in (night, vanes) and group != live-now", "--format", "csv"];
    assert_eq!(world.run(&where_group).exits(0).stdout.lines().count(), 3);
    world.run(&["device", "list", "--where", "group = nigth"]).exits(4).says(&["there is no group `nigth`"]);
    let policy = |group: &str| {
        format!("policy p {{ for group = {group}\n allow connect as \"{{device}}\"\n allow publish \"a/{{device}}\" }}")
    };
    world.write("w/policies/all.policy", policy("nigt"));
    world.run(&["policy", "check"]).exits(3).prints(&["unknown-group", "did you mean `night`?"]);
    world.write("w/policies/all.policy", policy("live-now"));
    world.run(&["policy", "check"]).exits(3).prints(&["unsteady-group"]);
    world.adopt(&policy("night"));
    world.run(&["policy", "ask", "wv-1", "publish", "a/wv-1"]).exits(0);
    world.run(&["policy", "ask", "wv-2", "publish", "a/wv-2"]).exits(3);
    world.run(&["group", "drop", "night", "--yes"]).exits(3).says(&["policy `p` of edition 1 is for it"]);
    let guard = Guard::start(&world, "builtin");
    for id in ["wv-1", "wv-2"] {
        world.run(&["enroll", id, "--make-key", "--out", "outfits"]).exits(0);
    }
    block_on(async {
        let mut first = world.login("wv-1").connect(guard.address).await.unwrap();
        let replace = ["group", "make", "night", "--replace", "--device", "wv-2"];
        world.run(&replace).exits(2).says(&["wv-1\n  loses", "wv-2\n  gains"]);
        world.run(&[&replace[..], &["--yes"]].concat()).exits(0);
        assert!(first.ended(SOON).await.is_some(), "a live session follows the group");
        world.login("wv-2").connect(guard.address).await.unwrap().goodbye().await;
        // A group by rule in its place takes effect as well.
        let by_rule = ["group", "make", "night", "--replace", "--where", "id = wv-1", "--yes"];
        world.run(&by_rule).exits(0).says(&["1 gains", "1 loses"]);
        world.login("wv-1").connect(guard.address).await.unwrap().goodbye().await;
    });
}

#[test]
fn a_gateway_speaks_for_its_children_until_they_are_out() {
    let world = resort();
    world.adopt(&format!("{POLICY}{STATION}"));
    for id in ["st-1", "cr-ossel"] {
        world.run(&["enroll", id, "--make-key", "--out", "outfits"]).exits(0);
    }
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut station = world.login("st-1").connect(guard.address).await.unwrap();
        let mut control = world.login("cr-ossel").connect(guard.address).await.unwrap();
        assert!(control.subscribe("rope/ossel/#").await.unwrap().is_ok());
        assert!(station.subscribe("rope/ossel/wv-1/settings").await.unwrap().is_ok());
        assert!(!station.subscribe("rope/ossel/wv-2/settings").await.unwrap().is_ok());
        // The vanes' messages at QoS 1 are beyond the limit of the rule for children.
        assert_eq!(station.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().code, 0x87);
        world.adopt(&format!("{POLICY}{STATION}").replace(" qos <= 0", " qos <= 1"));
        let begun = Instant::now();
        while !station.publish("rope/ossel/wv-1/wind", b"2").await.unwrap().is_ok() {
            assert!(begun.elapsed() < SOON);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        assert!(control.message(SOON).await.unwrap().is_some());
        assert!(!station.publish("rope/ossel/wv-2/wind", b"3").await.unwrap().is_ok(), "not behind it");
        world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--yes"]).exits(0);
        guard.event("subscription-ended", |event| event["device"] == "st-1");
        assert!(!station.publish("rope/ossel/wv-1/wind", b"4").await.unwrap().is_ok(), "out");
        world.run(&["device", "edit", "wv-2", "--gateway", "st-1", "--yes"]).exits(0);
        let begun = Instant::now();
        while !station.publish("rope/ossel/wv-2/wind", b"5").await.unwrap().is_ok() {
            assert!(begun.elapsed() < SOON);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    });
}

#[test]
fn a_trial_watches_and_does_not_decide() {
    let world = World::equipped();
    world.run(&["policy", "trial"]).exits(4);
    let guard = Guard::start(&world, "builtin");
    world.write("w/policies/all.policy", POLICY.replace("{device}/wind", "{device}/gust"));
    world.run(&["policy", "adopt", "--trial", "7d", "--because", "is wind still sent?"]).exits(0).prints(&["trial 1"]);
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        for _ in 0..2 {
            assert!(vane.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok(), "the edition decides");
        }
        assert!(!vane.publish("rope/ossel/wv-1/gust", b"1").await.unwrap().is_ok());
        let told = eventually(|| {
            let told = world.run(&["policy", "trial", "--format", "json"]).exits(0).json();
            (told["differences"].as_array().unwrap().len() == 2).then_some(told)
        });
        let told = told.expect("what was different is written");
        assert_eq!(told["differences"][0]["sample"], "rope/ossel/wv-1/wind");
        assert_eq!(
            (told["differences"][0]["count"].as_u64(), told["differences"][0]["would_allow"].as_bool()),
            (Some(2), Some(false))
        );
        assert_eq!(told["differences"][1]["rule"], "policies/all.policy:5 (policy pylon-vane)");
    });
    let text = world.run(&["policy", "trial"]).exits(0);
    text.prints(&[
        "would deny publish as no rule of it allows that: 1 device",
        "wv-1 2 times",
        "would allow publish by",
    ]);
    world.run(&["policy", "trial", "--end"]).exits(0);
    world.run(&["policy", "trial"]).exits(4);
    world.run(&["policy", "adopt", "--trial", "soon"]).exits(2);
}

#[test]
fn a_draft_comes_from_what_devices_did() {
    let world = World::equipped();
    let guard = Guard::with(&world, "builtin", &["--observe", "seen.jsonl"]);
    block_on(async {
        for id in ["wv-1", "wv-2"] {
            let mut vane = world.login(id).connect(guard.address).await.unwrap();
            for _ in 0..2 {
                assert!(vane.publish(&format!("rope/ossel/{id}/wind"), b"1").await.unwrap().is_ok());
            }
            // What is refused is seen as well, and proposes nothing until a person says so.
            assert!(!vane.publish(&format!("rope/ossel/{id}/gust"), b"1").await.unwrap().is_ok());
            assert!(vane.subscribe(&format!("rope/ossel/{id}/settings")).await.unwrap().is_ok());
            vane.goodbye().await;
        }
        let mut stray = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(!stray.publish("rope/ossel/wv-2/gust", b"1").await.unwrap().is_ok());
    });
    assert_eq!(std::fs::read_to_string(world.path("seen.jsonl")).unwrap().lines().count(), 9);
    let drafted = world.run(&["policy", "draft", "--from", "seen.jsonl"]).exits(0);
    let drafted =
        drafted.says(&["made from 6 different acts of 2 devices", "3 refused acts", "it names another device, `wv-2`"]);
    for rule in ["\n  allow connect   as \"{device}\"", "allow subscribe \"rope/{site}/{device}/settings\""] {
        assert!(drafted.stdout.contains(rule), "{rule}\n{}", drafted.stdout);
    }
    let gust: Vec<&str> = drafted.stdout.lines().filter(|line| line.contains("/gust")).collect();
    assert!(!gust.is_empty() && gust.iter().all(|line| line.starts_with('#')), "{}", drafted.stdout);
    world.write("w/policies/all.policy", &drafted.stdout);
    world.run(&["policy", "check"]).exits(0);
    world.run(&["policy", "format", "--check"]).exits(0);
    world.write("other.jsonl", "{\"device\":\"wv-1\",\"act\":\"publish\",\"topic\":\"rope/ossel/wv-1/wind\"}\n");
    world.run(&["policy", "draft", "--from", "other.jsonl"]).exits(0).says(&["it refuses none of them"]);
    world.write("bad.jsonl", "{\"device\":\"wv-1\",\"act\":\"fly\",\"subject\":\"a\"}\n");
    world
        .run(&["policy", "draft", "--from", "bad.jsonl"])
        .exits(3)
        .says(&["line 1 of bad.jsonl", "`fly` is not an act"]);
}

#[test]
fn an_edition_outlives_the_kinds_that_it_names() {
    let world = resort();
    world.adopt(POLICY);
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write(
        "w/ward.toml",
        settings.replace("[kinds.windvane]\ntoken_login = true\n", "").replace("[\"windvane\"]", "[]"),
    );
    world.run(&["policy", "ask", "wv-1", "publish", "rope/ossel/wv-1/wind"]).exits(0);
    world.run(&["policy", "reach", "rope/#"]).exits(0).prints(&["3 may publish"]);
    world.run(&["policy", "compare", "1", "draft"]).exits(0);
    world.run(&["policy", "check"]).exits(3).prints(&["unknown-kind", "[kinds.windvane]"]);
    world.run(&["policy", "adopt", "--edition", "1", "--yes"]).exits(3).says(&["unknown-kind"]);
    world.run(&["device", "show", "wv-1"]).exits(0);
}

#[test]
fn hostile_policies_are_refused_with_their_place() {
    let world = World::init();
    for (text, what) in [
        (format!("policy p {{ for {}kind = a{} }}", "(".repeat(1_000), ")".repeat(1_000)), "at most 64 nested"),
        ("policy p { for kind = a allow publish \"\\x\" }".to_owned(), "is not an escape"),
        ("policy p { for kind = windvane }\npolicy p { for kind = windvane }".to_owned(), "name-taken"),
        ("policy p { for kind = gone allow publish \"{device}\" }".to_owned(), "unknown-kind"),
        (format!("policy p {{ for kind = windvane allow publish \"{}x\" }}", "a/".repeat(200)), "at most 128 levels"),
        ("policy p { for kind = windvane allow publish \"a/{child}\" }".to_owned(), "`{child}` stands for nobody"),
        (
            "policy p { for kind = windvane allow publish \"a/{device}\" for children }".to_owned(),
            "must name the child",
        ),
        ("policy p { for kind = windvane deny subscribe \"a\" share \"w\" }".to_owned(), "shared subscription"),
    ] {
        world.write("w/policies/a.policy", &text);
        let check = world.run(&["policy", "check"]).exits(3);
        assert!(check.stdout.contains("policies/a.policy:") && check.stdout.contains(what), "{what}\n{check}");
    }
    world.write("w/policies/a.policy", "#".repeat(10 << 20));
    world.run(&["policy", "check"]).exits(3).says(&["bytes"]);
    for value in ["a/b", "a+", "#", "a\u{1}"] {
        world.run(&["device", "add", "wv-1", "--kind", "windvane", "--label", &format!("site={value}")]).exits(3);
    }
    world.run(&["device", "list"]).exits(0).says(&["no devices"]);
}
