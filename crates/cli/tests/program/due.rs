//! What ends or falls due: told in time, with what happens by itself and what does not.

use serde_json::Value;

use crate::desk::Desk;
use crate::harness::{KINDS, POLICY, World, eventually, in_days};

/// A rehearsal whose wind vanes have certificates of 30 days, with two of them; its clock is the file `now`.
fn rehearsal() -> World {
    let world = World::driven(&KINDS.replace("token_login = true", "token_login = true\nlife = \"30d\""));
    for (id, site) in [("wv-1", "ossel"), ("wv-2", "brindle")] {
        world.run(&["device", "add", id, "--kind", "windvane", "--label", &format!("site={site}")]).exits(0);
    }
    world.adopt(POLICY);
    for id in ["wv-1", "wv-2"] {
        world.run(&["enroll", id, "--make-key", "--out", "outfits"]).exits(0);
    }
    world
}

/// What is due, by its name.
fn due(world: &World, name: &str) -> Option<Value> {
    let all = world.run(&["due", "--format", "json"]).exits(0).json();
    assert_eq!(all["schema"], "tidy-warden/due/1");
    let due = all["due"].as_array().unwrap();
    due.iter().find(|each| each["name"] == name && each["what"] == "certificate").cloned()
}

fn says(world: &World, name: &str) -> (String, String) {
    let item = due(world, name).unwrap_or_else(|| panic!("{name} is not due"));
    let text = |member: &str| item[member].as_str().unwrap().to_owned();
    assert_eq!(item["next"].is_string(), text("happens") == "needs-you", "{item}");
    (text("happens"), text("why"))
}

#[test]
fn who_must_do_something_is_told_before_the_end_and_after() {
    let world = rehearsal();
    world.run(&["due", "--within", "20d"]).exits(0).prints(&["nothing ends or falls due"]);
    let told = world.run(&["due"]).exits(0);
    told.prints(&["certificate  wv-1", "needs-you", "was never at the desk", "RENEWALS by devices"]);
    let told = world.run(&["due"]).exits(0).says(&["try: enroll wv-1 --csr FILE --again"]);
    assert!(!told.stdout.contains("renews-by-itself") && !told.stderr.contains("wv-2"), "one example of each need");
    // A script can wait for it.
    world.run(&["due", "--max-days", "40"]).exits(3).says(&["needs you ends within 40 days"]);
    world.run(&["due", "--max-days", "20"]).exits(0);
    let edge = world.run(&["due", "--max-days", "40", "--by", "kind", "--format", "json"]).exits(3).json();
    assert_eq!(edge["needs_you"], 2);

    // The kind says that its devices renew: that needs a desk, which is asked for here.
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replace("life = \"30d\"", "life = \"30d\"\nrenews = \"device\""));
    assert_eq!(says(&world, "wv-1"), ("needs-you".into(), "no desk was ever seen".into()));
    let desk = Desk::start(&world);
    assert!(eventually(|| (says(&world, "wv-1").0 == "renews-by-itself").then_some(())).is_some(), "the desk is there");
    assert!(says(&world, "wv-1").1.starts_with("its device renews it from 20"));
    world.run(&["due"]).exits(0).prints(&["wv-1, wv-2", "each device renews its own"]);
    world.run(&["due", "--max-days", "40"]).exits(0);
    drop(desk);
    // It stays away, and nobody came: days before the end and on the last day, and when it is over.
    world.write("now", in_days(22));
    assert!(says(&world, "wv-1").1.starts_with("no desk was seen since 20"), "{:?}", says(&world, "wv-1"));
    world.write("now", in_days(29));
    assert!(says(&world, "wv-1").1.contains("should have renewed it from 20"), "{:?}", says(&world, "wv-1"));
    world.write("now", in_days(31));
    assert_eq!(says(&world, "wv-1"), ("needs-you".into(), "it is over".into()));
    world.run(&["due"]).exits(0).prints(&["-1", "over"]);
    world.run(&["due", "--max-days", "0"]).exits(3);
    world.write("now", in_days(90));
    assert_eq!(due(&world, "wv-1"), None, "what was over long ago is no news");
}

#[test]
fn holds_admissions_keys_and_lists_fall_due_too() {
    let world = rehearsal();
    world.append("w/ward.toml", "[due]\nhold_review = \"2d\"\ntoken_signer_life = \"20d\"\n");
    world.run(&["hold", "wv-1", "--because", "odd readings", "--yes"]).exits(0);
    world.run(&["admission", "open", "--id", "wv-9", "--kind", "windvane", "--secret", "--for", "9d"]).exits(0);
    world.run(&["crl", "--authority", "devices", "--out", "devices.pem", "--for", "7d"]).exits(0);
    world.other("openssl", &["genpkey", "-algorithm", "ed25519", "-out", "own.key"]).exits(0);
    world.other("openssl", &["pkey", "-in", "own.key", "-pubout", "-out", "own.pem"]).exits(0);
    world.run(&["key", "add", "wv-2", "--public-key", "own.pem", "--for", "12d"]).exits(0);
    let rows = || {
        let all = world.run(&["due", "--within", "25d", "--format", "csv"]).exits(0).stdout;
        let mut reader = csv::Reader::from_reader(all.as_bytes());
        let rows = reader.records().map(Result::unwrap);
        rows.map(|row| (row[0].to_owned(), row[1].to_owned(), row[4].to_owned(), row[6].to_owned())).collect::<Vec<_>>()
    };
    let found = rows();
    let row = |what: &str, name: &str| {
        let row = found.iter().find(|row| (row.0.as_str(), row.1.as_str()) == (what, name));
        let row = row.unwrap_or_else(|| panic!("{what} {name}: {found:?}"));
        (row.2.clone(), row.3.clone())
    };
    assert!(row("hold", "wv-1").1.contains("nobody has looked"));
    assert_eq!(row("hold", "wv-1").0, "2", "the clock stands still");
    assert_eq!(row("admission", "A1"), ("9".into(), "nobody came by it".into()));
    assert_eq!(row("crl", "devices"), ("7".into(), "no desk was ever seen".into()));
    assert!(row("public-key", "wv-2").1.contains("replaced by a person"));
    assert!(row("token-signer", "tokens").1.starts_with("it has signed tokens since"));
    assert_eq!(found.len(), 5, "{found:?}");
    // What was done about falls out.
    world.run(&["release", "wv-1", "--because", "all is well", "--yes"]).exits(0);
    world.run(&["admission", "withdraw", "A1", "--yes"]).exits(0);
    world.run(&["crl", "--authority", "devices", "--out", "devices.pem", "--for", "40d"]).exits(0);
    world.run(&["token", "signer", "add", "--because", "yearly"]).exits(0);
    let left = rows();
    assert!(left.iter().all(|row| matches!(row.0.as_str(), "public-key" | "token-signer")), "{left:?}");
    let signer = left.iter().find(|row| row.0 == "token-signer").unwrap();
    assert!(signer.1 == "tokens" && signer.3.contains("no token that it signed is good"), "{signer:?}");
    // A revocation that no list has yet is due at once.
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--because", "stolen", "--yes"]).exits(0);
    assert!(rows().iter().any(|row| row.0 == "crl" && row.3.contains("lacks what was revoked")), "{:?}", rows());
}

#[test]
fn it_is_counted_by_what_one_asks_for_and_drawn() {
    let world = rehearsal();
    let groups = |by: &str| {
        let all = world.run(&["due", "--by", by, "--format", "json"]).exits(0).json();
        assert_eq!(all["schema"], "tidy-warden/due-groups/1");
        let of = |each: &Value| (each["group"].as_str().unwrap().to_owned(), each["needs_you"].as_u64().unwrap());
        all["groups"].as_array().unwrap().iter().map(of).collect::<Vec<_>>()
    };
    assert_eq!(groups("site"), [("brindle".into(), 1), ("ossel".into(), 1)]);
    assert_eq!(groups("kind"), [("windvane".into(), 2)]);
    assert_eq!(groups("authority"), [("devices".into(), 2)]);
    assert_eq!(groups("what"), [("certificate".into(), 2)]);
    assert_eq!(groups("week").len(), 1);
    assert_eq!(groups("day").len(), 1);
    world.run(&["due", "--by", "site"]).exits(0).prints(&["SITE", "NEEDS YOU", "ossel", "ENDS: #"]);
    world.run(&["due", "--by", "colour"]).exits(4).says(&["no device has a label `colour`"]);
    world.run(&["due", "--by", "Site!"]).exits(2).says(&["nothing to count by"]);
    world.run(&["due", "--within", "soon"]).exits(3).says(&["not a length of time"]);
    let lines = world.run(&["due", "--format", "jsonl"]).exits(0).stdout;
    assert_eq!(
        lines.lines().map(|line| serde_json::from_str::<Value>(line).unwrap()["name"].clone()).collect::<Vec<_>>(),
        ["wv-1", "wv-2"]
    );

    // Two renewals in the coming year and more, since the next ones end too; the forecast has them all.
    let spread = world.run(&["due", "--within", "90d", "--spread", "--format", "json"]).exits(0).json();
    let days = spread["forecast"]["days"].as_array().unwrap();
    let sum = |member: &str| days.iter().map(|day| day[member].as_u64().unwrap()).sum::<u64>();
    assert_eq!(days.len(), 91);
    assert_eq!((sum("renewals"), sum("spread")), (spread["forecast"]["renewals"].as_u64().unwrap(), sum("renewals")));
    assert!(sum("renewals") >= 6, "each three times at least");

    world.run(&["due", "--plot", "due.svg", "--spread"]).exits(0).says(&["drew due.svg"]);
    let svg = std::fs::read_to_string(world.path("due.svg")).unwrap();
    assert!(
        svg.contains("What is due in Rehearsal") && svg.contains("needs you") && svg.contains("spread over"),
        "{svg}"
    );
    world.other("python3", &["-c", "import xml.dom.minidom; xml.dom.minidom.parse('due.svg')"]).exits(0);
    world.run(&["due", "--plot", "due.png"]).exits(0);
    let png = std::fs::read(world.path("due.png")).unwrap();
    assert!(png.starts_with(b"\x89PNG\r\n\x1a\n") && png[16..24] == [0, 0, 5, 0, 0, 0, 3, 32], "1280 by 800");
    world.run(&["due", "--plot", "due.pdf"]).exits(2).says(&["due.svg, or due.png"]);
    assert!(!world.path("due.pdf").exists());
    world.run(&["due", "--plot", "nowhere/due.svg"]).exits(4).says(&["nowhere/due.svg"]);
}

#[test]
fn the_desk_tells_a_monitoring_system_the_same() {
    let world = rehearsal();
    world.append("w/ward.toml", "[kinds.gate]\nadmit = \"ask\"\n");
    world.run(&["crl", "--authority", "devices", "--out", "devices.pem", "--for", "7d"]).exits(0);
    let desk = Desk::start(&world);
    let metrics = desk.event("listening", |_| true)["metrics"].as_str().unwrap().to_owned();
    let page = || world.other("curl", &["-s", &format!("http://{metrics}/metrics")]).exits(0).stdout;
    let has = |line: &str| page().lines().any(|each| each.starts_with(&format!("tidy_warden_desk_{line}")));
    let counted = eventually(|| has("due{what=\"certificate\",happens=\"needs-you\"} 2").then_some(()));
    assert!(counted.is_some(), "{}", page());
    let ends =
        due(&world, "wv-1").unwrap()["ends"].as_str().unwrap().parse::<tidy_warden_core::time::UnixTime>().unwrap();
    assert!(has(&format!("next_end{{what=\"certificate\",happens=\"needs-you\"}} {}", ends.0)), "{}", page());
    for line in
        ["crl_this_update{authority=\"devices\"} 1", "crl_next_update{authority=\"devices\"} 1", "waiting_callers 0"]
    {
        assert!(has(line), "{line}: {}", page());
    }
}
