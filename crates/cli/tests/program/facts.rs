//! Facts of the ward's own, and notes, from the list to the desk and the policy.

use crate::desk::Desk;
use crate::harness::World;

const FACTS: &str = "[facts.asset]\npattern = \"QA-####\"\n[facts.lot]\nunique = false\n";

fn world() -> World {
    let world = World::init();
    world.append("w/ward.toml", FACTS);
    world
}

#[test]
fn a_list_brings_facts_of_the_wards_own_and_notes_which_conditions_find() {
    let world = world();
    world.write(
        "list.csv",
        "id,kind,label.site,fact.asset,fact.lot,note\n\
         wv-1,windvane,ossel,QA-0001,L7,\"behind the \"\"ski\"\" shed, ask Ida\"\n\
         wv-2,windvane,ossel,QA-0002,L7,\n\
         wv-3,windvane,brindle,QA-0003,L8,spare\n",
    );
    world.run(&["device", "import", "list.csv"]).exits(0);
    world.write("wrong.csv", "id,kind,fact.asset\nwv-4,windvane,QA-4\nwv-5,windvane,QA-0001\n");
    world.run(&["device", "import", "wrong.csv"]).exits(3).says(&["expected the form QA-####"]);
    world.write("wrong.csv", "id,kind,fact.aset\nwv-4,windvane,QA-0004\n");
    world.run(&["device", "import", "wrong.csv"]).exits(3).says(&["did you mean `asset`?"]);
    world.write("wrong.csv", "id,kind,label.lot\nwv-4,windvane,l7\n");
    world.run(&["device", "import", "wrong.csv"]).exits(3).says(&["`lot` cannot name a label"]);
    let found = |condition: &str| {
        let list = world.run(&["device", "list", "--columns", "id", "--format", "csv", "--where", condition]).exits(0);
        list.stdout.lines().skip(1).map(str::to_owned).collect::<Vec<_>>().join(" ")
    };
    for (condition, want) in [
        ("lot = \"L7\"", "wv-1 wv-2"),
        ("not lot = \"L7\"", "wv-3"),
        ("fact.lot in (\"L8\", \"L9\")", "wv-3"),
        ("asset matches \"QA-*2\" or note known and site = brindle", "wv-2 wv-3"),
        ("asset >= \"QA-0002\"", "wv-2 wv-3"),
        ("label.site = ossel and not note known", "wv-2"),
    ] {
        assert_eq!(found(condition), want, "{condition}");
    }
    for (condition, why) in [
        ("note = spare", "a label of this name is `label.note`"),
        ("lots known", "no device has a label `lots`"),
        ("site = \"Ossel\"", "cannot be the value of the label `site`"),
        ("label.serial known", "no label is named `serial`"),
    ] {
        let ran = world.run(&["device", "list", "--where", condition]);
        assert!(ran.stderr.contains(why), "{condition}: {}", ran.stderr);
    }
    // What a list says goes back into a list.
    let csv = world.run(&["device", "list", "--format", "csv"]).exits(0).stdout;
    let other = World::init();
    other.append("w/ward.toml", FACTS);
    other.write("all.csv", &csv);
    other.run(&["device", "import", "all.csv"]).exits(0);
    assert_eq!(other.run(&["device", "list", "--format", "csv"]).exits(0).stdout, csv);
    let edit = ["device", "edit", "--where", "lot = \"L7\"", "--note", "recalled", "--count", "2"];
    world.run(&[&edit[..], &["--because", "the maker says so"]].concat()).exits(0);
    world.run(&["device", "show", "wv-2"]).exits(0).prints(&["note        recalled", "asset=QA-0002, lot=L7"]);
    world.run(&["device", "edit", "wv-2", "--no-note"]).exits(0);
    let shown = world.run(&["device", "show", "wv-2", "--format", "json"]).exits(0).json();
    assert!(shown["note"].is_null() && shown["facts"]["lot"] == "L7", "{shown}");
    for bad in ["", " a", "a\u{202e}b", &"x".repeat(201)] {
        world.run(&["device", "edit", "wv-2", "--note", bad]).exits(3).says(&["1 to 200 characters"]);
    }
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_declaration_that_clashes_with_what_devices_have_is_refused_at_load() {
    let world = world();
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.run(&["device", "add", "wv-1", "--kind", "windvane", "--label", "site=ossel", "--fact", "lot=L7"]).exits(0);
    let changed = |from: &str, to: &str| {
        world.write("w/ward.toml", text.replace(from, to));
        world.run(&["device", "list"])
    };
    changed("unique = false", "").exits(3).says(&["the fact `lot`", "`wv-1`"]);
    changed("[facts.lot]\nunique = false\n", "").exits(3).says(&["the fact `lot`", "`wv-1`"]);
    changed("[facts.asset]", "[facts.site]").exits(3).says(&["`site` is declared as a fact, and is a label of `wv-1`"]);
    changed("[facts.asset]", "[facts.kind]").exits(3).says(&["no fact of a ward's own can be named `kind`"]);
    changed("pattern = \"QA-####\"", "pattern = \"\"").exits(3).says(&["ward.toml:", "`#` is a digit"]);
    changed("unique = false", "unique = false\npattern = \"L*\"").exits(0);
    world.run(&["device", "edit", "wv-1", "--fact", "lot="]).exits(0);
    changed("unique = false", "").exits(0);
    world.run(&["device", "add", "wv-2", "--kind", "windvane", "--fact", "lot=L7"]).exits(0);
    world.run(&["device", "add", "wv-3", "--kind", "windvane", "--fact", "lot=L7"]).exits(3).says(&["`wv-2`"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_device_states_facts_of_the_wards_own_and_is_named_after_them() {
    let world = world();
    world.append("w/ward.toml", "[kinds.gate]\nadmit = \"facts\"\n[kinds.tension]\nadmit = \"ask\"\nid = \"tn-{asset}\"\nidentify = [\"asset\"]\n");
    world.run(&["settings", "check"]).exits(0);
    let desk = Desk::start(&world);
    let url = format!("https://localhost:{}", desk.address.port());
    let join = |asset: &str, out: &str| {
        // Not what the machine that tests has.
        let mac = format!("mac=00:16:3e:00:00:0{}", out.len() % 10);
        let facts = ["--fact", asset, "--fact", "lot=L7", "--fact", "colour=red", "--fact", &mac];
        let call = ["join", &url, "--root", "trust/root.pem", "--kind", "tension", "--wait", "0s", "--out", out];
        world.run(&[&call[..], &facts, &["--format", "json"]].concat())
    };
    // What two devices may share says of none that it is the one.
    let shared = ["admission", "open", "--id", "gt-1", "--kind", "gate", "--fact", "lot=L7"];
    world.run(&shared).exits(3).says(&["devices may share all of these facts"]);
    join("asset=QA-4", "bad").exits(3);
    let code = join("asset=QA-0004", "outfit").exits(5).json()["code"].as_str().unwrap().to_owned();
    // What the ward does not know is not heard.
    let list = world.run(&["device", "list", "--where", "state = asking", "--format", "json"]).exits(0).json();
    let facts = serde_json::json!({ "asset": "QA-0004", "lot": "L7", "mac": "00:16:3e:00:00:06" });
    assert_eq!(list["devices"][0]["facts"], facts);
    world.run(&["device", "accept", "tn-qa-0004", "--code", &code]).exits(0);
    join("asset=QA-0004", "outfit").exits(0);
    // Who was retired is not let in again under another name.
    world.run(&["device", "retire", "tn-qa-0004", "--yes"]).exits(0);
    join("asset=QA-0004", "again").exits(5);
    desk.event("refused", |event| {
        event["because"].as_str().is_some_and(|why| why.contains("its asset is that of `tn-qa-0004`"))
    });
    let none = world.run(&["device", "list", "--where", "state = asking", "--format", "json"]).exits(0).json();
    assert_eq!(none["devices"], serde_json::json!([]));
}

#[test]
fn a_policy_picks_by_facts_of_the_wards_own_and_never_by_notes() {
    let world = world();
    let add = |id: &str, more: &[&str]| {
        world.run(&[&["device", "add", id, "--kind", "windvane"][..], more].concat()).exits(0);
    };
    add("wv-1", &["--fact", "lot=L7", "--label", "site=ossel"]);
    add("wv-2", &["--fact", "lot=L8", "--label", "site=ossel", "--note", "L7"]);
    add("wv-3", &["--fact", "asset=QA-0003", "--label", "site=ossel"]);
    world.adopt(
        "policy lots { for lot = \"L7\" or asset known allow connect as \"{device}\" \
         allow publish \"rope/{site}/{device}/wind\" }",
    );
    for (id, code) in [("wv-1", 0), ("wv-2", 3), ("wv-3", 0)] {
        let topic = format!("rope/ossel/{id}/wind");
        world.run(&["policy", "ask", id, "publish", &topic]).exits(code);
    }
    let reach = world.run(&["policy", "reach", "rope/#"]).exits(0).stdout;
    assert!(reach.contains("wv-1") && !reach.contains("wv-2") && reach.contains("wv-3"), "{reach}");
    // An edit of the fact takes the right.
    world.run(&["device", "edit", "wv-1", "--fact", "lot=L8", "--yes"]).exits(0).says(&["loses"]);
    world.run(&["policy", "ask", "wv-1", "publish", "rope/ossel/wv-1/wind"]).exits(3);
    // A note gives nothing: in a policy the word could only be a label.
    world.write("w/policies/all.policy", "policy n { for note known allow connect as \"{device}\" }");
    world.run(&["policy", "check"]).prints(&["unknown-label", "label.note"]);
    world.run(&["group", "make", "noted", "--where", "note known"]).exits(0);
    world.write("w/policies/all.policy", "policy n { for group = noted allow connect as \"{device}\" }");
    world.run(&["policy", "check"]).exits(3).prints(&["unsteady-group", "a note"]);
}
