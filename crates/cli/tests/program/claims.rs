//! Devices find their owners at the command line.

use std::time::Duration;

use crate::desk::{Desk, curl, openssl_request};
use crate::harness::{Guard, KINDS, Mosquitto, Ran, World, eventually, in_databases};

const SOON: Duration = Duration::from_secs(10);

const OWN_KINDS: &str = "[kinds.gauge]\nnames = [\"dns:{device}.example.org\"]\n[kinds.cabin]\nclaim = \"none\"\n\
                         [kinds.turnstile]\nclaim = \"name\"\n";

/// A ward with six gauges, a cabin and a turnstile, and two owners.
fn world() -> World {
    let world = World::driven(&format!("{KINDS}{OWN_KINDS}"));
    world.write(
        "list.csv",
        "id,kind\ngg-1,gauge\ngg-2,gauge\ngg-3,gauge\ngg-4,gauge\ngg-5,gauge\ngg-6,gauge\ncb-1,cabin\ntt-1,turnstile\n",
    );
    world.run(&["device", "import", "list.csv"]).exits(0);
    world.adopt(
        "policy gauges {\n  for kind = gauge\n  allow connect as \"{device}\"\n  allow publish \"rope/{site}/{device}/level\"\n}\n",
    );
    world.run(&["owner", "add", "mole-west", "--place", "site=mole", "--contact", "Ann, 0041"]).exits(0);
    world.run(&["owner", "add", "ivo", "--place", "site=ivo", "--place", "site=ivo-north"]).exits(0);
    world
}

fn take(world: &World, device: &str, code: &str, owner: &str) -> Ran {
    world.run(&["claim", "take", device, "--code", code, "--owner", owner, "--yes"])
}

/// Opens a device and gives its code.
fn open(world: &World, device: &str) -> String {
    let opened = world.run(&["claim", "open", device, "--format", "json"]).exits(0).json();
    opened["code"].as_str().unwrap().to_owned()
}

fn owner(world: &World, device: &str) -> Option<String> {
    let shown = world.run(&["device", "show", device, "--format", "json"]).exits(0).json();
    shown["owner"].as_str().map(str::to_owned)
}

#[test]
fn a_device_is_opened_claimed_given_up_and_handed_over() {
    let world = world();
    world.run(&["claim", "open", "gg-1", "--for", "30d", "--out", "code.txt"]).exits(0);
    let code = std::fs::read_to_string(world.path("code.txt")).unwrap();
    assert_eq!(code.trim().len(), 15, "{code:?}");
    let again = world.run(&["claim", "open", "gg-1", "--out", "code.txt"]);
    again.exits(1).says(&["code.txt"]);
    let taken = world.run(&["claim", "take", "gg-1", "--code-file", "code.txt", "--owner", "mole-west", "--yes"]);
    taken.exits(0).says(&["gains publish rope/mole/gg-1/level", "mole-west has gg-1 now at site=mole"]);
    world.run(&["device", "list", "--where", "owner = mole-west and site = mole"]).exits(0).prints(&["gg-1"]);
    // Whoever has it now is told to whoever opens it again; a code is good once.
    world.run(&["claim", "open", "gg-1"]).exits(3).says(&["`gg-1` has an owner: mole-west", "claim give-up gg-1"]);
    let later = world.run(&["claim", "take", "gg-1", "--code-file", "code.txt", "--owner", "ivo", "--yes"]);
    later.exits(3).says(&["ivo` has several places for `site`", "site=ivo, site=ivo-north"]);
    // Handed over: both must agree.
    let nobody = world.run(&["claim", "hand-over", "gg-1", "--to", "nobody", "--yes"]);
    nobody.exits(3).says(&["no owner `nobody`"]);
    world.run(&["claim", "hand-over", "gg-1", "--to", "ivo", "--yes"]).exits(0).says(&["offered gg-1 to ivo until"]);
    world.run(&["claim", "list"]).exits(0).prints(&["gg-1", "offered", "mole-west", "ivo"]);
    world.run(&["owner", "show", "ivo"]).exits(0).prints(&["offered   gg-1 from mole-west, until"]);
    let stranger = world.run(&["claim", "take", "gg-1", "--owner", "mole-west", "--yes"]);
    stranger.exits(3).says(&["`gg-1` is not offered to `mole-west`"]);
    let outside = world.run(&["claim", "take", "gg-1", "--owner", "ivo", "--place", "site=mole", "--yes"]);
    outside.exits(3).says(&["`ivo` has no place site=mole; it has site=ivo, site=ivo-north"]);
    let log = world.run(&["audit", "log", "--subject", "gg-1", "--format", "json"]).exits(0).stdout;
    assert!(log.contains("a place that is not the owner's"), "what was asked for outside is recorded: {log}");
    let over = world.run(&["claim", "take", "gg-1", "--owner", "ivo", "--place", "site=ivo-north", "--yes"]);
    over.exits(0).says(&["loses publish rope/mole/gg-1/level", "ivo has gg-1 now at site=ivo-north", "sessions ended"]);
    world.run(&["claim", "give-up", "gg-1", "--yes"]).exits(0).says(&["gg-1 is nobody's now"]);
    world.run(&["claim", "give-up", "gg-1", "--yes"]).exits(3).says(&["`gg-1` has no owner"]);
    let shown = world.run(&["device", "show", "gg-1"]).exits(0);
    let shown = shown.prints(&["owner       nobody", "ivo since", "(by hand-over), given up at", "mole-west since"]);
    assert!(!shown.stdout.contains("site=ivo"), "{shown}");
    // Taken again it keeps its history; a retired one is never claimed.
    let code = open(&world, "gg-1");
    take(&world, "gg-1", &code, "mole-west").exits(0);
    let owners = world.run(&["device", "show", "gg-1", "--format", "json"]).exits(0).json()["owners"].clone();
    let told: Vec<_> = owners.as_array().unwrap().iter().map(|each| each["owner"].as_str().unwrap()).collect();
    assert_eq!(told, ["mole-west", "ivo", "mole-west"]);
    world.run(&["owner", "retire", "mole-west", "--yes"]).exits(3).says(&["has devices: 1", "claim give-up --where"]);
    world.run(&["device", "retire", "gg-1", "--yes"]).exits(0);
    world.run(&["claim", "open", "gg-1"]).exits(3).says(&["retired since"]);
    world.run(&["owner", "retire", "mole-west", "--yes"]).exits(0).says(&["its contact is erased"]);
    let gone = world.run(&["owner", "show", "mole-west", "--format", "json"]).exits(0).json();
    assert!(gone["contact"].is_null() && !gone["retired"].is_null());
    world.run(&["audit", "verify"]).exits(0);
    let log = world.run(&["audit", "log", "--format", "json"]).exits(0).stdout;
    assert!(!log.contains("Ann, 0041") && !log.contains(&code), "neither contacts nor codes are in the record");
}

#[test]
fn a_code_is_refused_alike_whatever_is_wrong_and_guessing_ends() {
    let world = world();
    let code = open(&world, "gg-1");
    let other = open(&world, "gg-2");
    // (Which rights a device would get is told to whoever works on the ward, before it is asked for.)
    let told = |ran: Ran, id: &str| {
        let said = ran.exits(3).stderr.replace(id, "ID");
        said[said.find("error:").unwrap()..].to_owned()
    };
    let wrong = told(take(&world, "gg-1", &other, "mole-west"), "gg-1");
    assert!(wrong.contains("it is not said which"), "{wrong}");
    for (id, code) in [("gg-77", &other), ("gg-3", &other), ("cb-1", &other)] {
        let said = told(take(&world, id, code, "mole-west"), id);
        assert_eq!(said, wrong, "{id} tells something");
    }
    world.run(&["hold", "gg-2", "--yes", "--because", "lost"]).exits(0);
    assert_eq!(told(take(&world, "gg-2", &other, "mole-west"), "gg-2"), wrong, "the right code of one on hold");
    // What is mistyped is said at once, and is no guess.
    let mut letters: Vec<char> = code.chars().collect();
    letters.swap(0, 1);
    if letters[0] == letters[1] {
        letters[0] = if letters[0] == '2' { '3' } else { '2' };
    }
    let typo: String = letters.iter().collect();
    for _ in 0..9 {
        take(&world, "gg-1", &typo, "mole-west").exits(3).says(&["this is no claim code", "look at it again"]);
    }
    for _ in 0..4 {
        take(&world, "gg-1", &other, "mole-west").exits(3);
    }
    assert_eq!(told(take(&world, "gg-1", &code, "mole-west"), "gg-1"), wrong, "five wrong ones were enough");
    world.run(&["claim", "take", "gg-1", "--code", &code, "--owner", "ivo", "--place", "site=ossel", "--yes"]).exits(3);
    let log = world.run(&["audit", "log", "--subject", "gg-1", "--format", "json"]).exits(0).stdout;
    assert_eq!(log.matches("claim.refuse").count(), 6, "{log}");
    assert!(log.contains("another code") && log.contains("a place that is not the owner's"), "{log}");
    world.run(&["owner", "show", "mole-west"]).exits(0).prints(&["codes, the last at"]);
    world.run(&["owner", "unlock", "mole-west", "--yes"]).exits(0);
    assert!(world.run(&["owner", "show", "mole-west", "--format", "json"]).exits(0).json()["wrong"].is_null());
    take(&world, "gg-1", &code, "mole-west").exits(0);
    take(&world, "gg-4", &code, "nobody").exits(4).says(&["there is no owner `nobody`"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn many_are_opened_into_one_file_or_none() {
    let world = world();
    let open = |condition: &str, count: &str, out: &str| {
        world.run(&["claim", "open", "--where", condition, "--count", count, "--out", out])
    };
    open("kind = gauge and owner unknown", "5", "codes.csv").exits(3).says(&["matches 6 devices, not 5"]);
    assert!(!world.path("codes.csv").exists());
    open("kind = gauge and owner unknown", "6", "codes.csv").exits(0).says(&["opened 6 devices"]);
    let rows = std::fs::read_to_string(world.path("codes.csv")).unwrap();
    let rows: Vec<Vec<&str>> = rows.lines().map(|line| line.split(',').collect()).collect();
    assert_eq!(rows[0], ["id", "code", "ends", "link"]);
    assert_eq!(rows.len(), 7);
    assert_eq!(rows[3][3], format!("https://localhost:8843/claim?device=gg-3&code={}", rows[3][1]));
    take(&world, "gg-3", rows[3][1], "mole-west").exits(0);
    open("kind = gauge", "6", "more.csv").exits(3).says(&["nothing was opened", "`gg-3` has an owner"]);
    assert!(!world.path("more.csv").exists(), "codes that open nothing mislead nobody");
    take(&world, "gg-2", rows[2][1], "mole-west").exits(0);
    open("kind = cabin", "1", "more.csv").exits(3).says(&["claim = \"none\""]);
    open("kind = gauge and owner unknown", "4", "codes.csv").exits(3).says(&["codes.csv exists"]);
    open("kind = gauge and owner unknown", "4", "next.csv").exits(0);
    take(&world, "gg-4", rows[4][1], "mole-west").exits(3);
    // Many go at once, too.
    let given = world.run(&["claim", "give-up", "--where", "owner = mole-west", "--count", "2", "--because", "sold"]);
    given.exits(0).says(&["gave up 2 devices"]);
    // One whose name is enough says so, and needs no code.
    world.run(&["claim", "open", "tt-1"]).exits(0).says(&["whoever knows the id `tt-1` can claim it"]);
    world.run(&["settings", "check"]).exits(0).prints(&["claimed-by-name"]);
    world.run(&["claim", "take", "tt-1", "--owner", "mole-west", "--yes"]).exits(0);
    assert_eq!(owner(&world, "tt-1").as_deref(), Some("mole-west"));
    // What nobody took is in time told by `due`.
    let due = world.run(&["due", "--within", "60d"]).exits(0);
    due.prints(&["claim", "gg-1", "nobody has taken it"]);
    world.run(&["claim", "close", "gg-1"]).exits(0).says(&["nobody can claim gg-1"]);
    world.run(&["claim", "close", "gg-1"]).exits(0).says(&["was not open"]);
}

#[test]
fn a_change_of_owner_changes_rights_on_live_sessions_and_ends_what_was_the_formers() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let world = World::equipped();
    let broker = Mosquitto::start(&world);
    let guard = Guard::before(&world, &broker);
    for (owner, site) in [("mole", "mole"), ("ossel-lifts", "ossel")] {
        world.run(&["owner", "add", owner, "--place", &format!("site={site}")]).exits(0);
    }
    let own = |owner: &str| {
        let code = open(&world, "wv-1");
        take(&world, "wv-1", &code, owner).exits(0)
    };
    let publishes = |device: &mut tidy_warden_simulate::Device, site: &str| {
        let topic = format!("rope/{site}/wv-1/wind");
        runtime.block_on(device.publish(&topic, b"7")).is_ok_and(|outcome| outcome.is_ok())
    };
    let mut device = runtime.block_on(world.login("wv-1").connect(guard.address)).unwrap();
    assert!(publishes(&mut device, "ossel"));
    // Nobody had it before: its session goes on, with other rights.
    own("mole").says(&["gains publish rope/mole/wv-1/wind", "loses publish rope/ossel/wv-1/wind"]);
    assert!(
        eventually(|| publishes(&mut device, "mole").then_some(())).is_some(),
        "{}",
        guard.running.lines().join("\n")
    );
    assert!(!publishes(&mut device, "ossel"));
    runtime.block_on(device.goodbye());
    world.run(&["claim", "give-up", "wv-1", "--yes"]).exits(0);
    own("ossel-lifts");
    // A session that is opened in the second of a change counts as one of before.
    std::thread::sleep(Duration::from_millis(1_100));
    // What is queued for it in an owner's time is not for the next, and a live session ends with that.
    let port = guard.address.port();
    let subscribe = |more: &[&str]| {
        let mut args = world.mosquitto_args("wv-1", port);
        let kept = ["-V", "mqttv5", "-c", "-x", "3600", "-q", "1", "-t", "rope/ossel/wv-1/settings"];
        args.extend(kept.iter().chain(more).map(|text| (*text).to_owned()));
        let args: Vec<&str> = args.iter().map(String::as_str).collect();
        world.other("mosquitto_sub", &args)
    };
    let tell = |message: &str| {
        let mut args = world.mosquitto_args("cr-ossel", port);
        let what = ["-V", "mqttv5", "-q", "1", "-t", "rope/ossel/wv-1/settings", "-m", message];
        args.extend(what.map(str::to_owned));
        let args: Vec<&str> = args.iter().map(String::as_str).collect();
        world.other("mosquitto_pub", &args).exits(0);
    };
    subscribe(&["-E"]).exits(0);
    tell("first");
    assert!(subscribe(&["-C", "1", "-W", "10"]).stdout.contains("first"), "it is queued while it is away");
    tell("secret of ossel-lifts");
    let mut live = runtime
        .block_on({
            let mut login = world.login("wv-1");
            login.client_id = "wv-1:live".to_owned();
            async move { login.connect(guard.address).await }
        })
        .unwrap();
    world.run(&["claim", "hand-over", "wv-1", "--to", "mole", "--yes"]).exits(0);
    world.run(&["owner", "edit", "mole", "--place", "site=ossel", "--no-place", "site=mole"]).exits(0);
    world.run(&["claim", "take", "wv-1", "--owner", "mole", "--yes"]).exits(0);
    assert!(runtime.block_on(live.ended(SOON)).is_some(), "{}", guard.running.lines().join("\n"));
    guard.event("cut", |event| event["device"] == "wv-1" && event["why"] == "it went from its owner");
    std::thread::sleep(Duration::from_millis(1_100));
    let said = subscribe(&["-W", "2"]);
    assert!(!said.stdout.contains("secret"), "{said}");
    tell("for mole");
    assert!(subscribe(&["-C", "1", "-W", "10"]).stdout.contains("for mole"), "its own session is kept as any");
}

#[test]
fn a_device_opens_itself_over_mqtt_and_at_the_desk_for_as_long_as_its_kind_may() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let world = World::init();
    let kinds = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", kinds.replace("[kinds.windvane]\n", "[kinds.windvane]\nclaim_window = \"60s\"\n"));
    world.equip();
    world.run(&["owner", "add", "mole"]).exits(0);
    world.run(&["owner", "add", "ivo"]).exits(0);
    let broker = Mosquitto::start(&world);
    let watch = broker.watch(&world);
    let guard = Guard::before(&world, &broker);
    let desk = Desk::start(&world);
    // What a device shows on its display: any code of the form.
    let [first, second, third] = [1, 2, 3].map(|_| {
        let made = open(&world, "wv-2");
        world.run(&["claim", "close", "wv-2"]).exits(0);
        made
    });
    let window = |code: &str, length: u32| format!("{{\"code\":\"{code}\",\"for\":{length}}}");
    let mut device = runtime.block_on(world.login("wv-1").connect(guard.address)).unwrap();
    let mut send = |topic: &str, text: &str| runtime.block_on(device.publish(topic, text.as_bytes())).unwrap().is_ok();
    assert!(!send("$ward/wv-1/claim-window", &window(&first, 61)), "longer than its kind may");
    assert!(!send("$ward/wv-2/claim-window", &window(&first, 60)), "another's");
    assert!(!send("$ward/wv-1/claim-window", &window("2222222222", 60)), "of no chance");
    assert!(send("$ward/wv-1/claim-window", &window(&first, 60)));
    guard.event("claim-window", |event| event["device"] == "wv-1");
    assert!(eventually(|| world.run(&["claim", "list"]).stdout.contains("its own code").then_some(())).is_some());
    take(&world, "wv-2", &first, "mole").exits(3);
    // A later one at the desk replaces it.
    let ends = |id: &str, body: &str| {
        let read = |name: &str| std::fs::read_to_string(world.path(&format!("outfits/{id}/{name}"))).unwrap();
        world.write("chain.pem", read("device.pem") + &read("chain.pem"));
        let key = format!("outfits/{id}/device.key");
        let json = "Content-Type: application/json";
        curl(&world, &desk.url("/claim-window"), &["--cert", "chain.pem", "--key", &key, "-H", json, "-d", body])
    };
    std::thread::sleep(Duration::from_millis(1_100));
    let (status, words) = ends("wv-1", &window(&second, 60));
    assert_eq!(status, 200, "{words}");
    assert_eq!(ends("wv-1", &window(&second, 61)).0, 422);
    assert_eq!(ends("wv-1", "{}").0, 422);
    assert_eq!(ends("cr-ossel", &window(&second, 60)).0, 422, "its kind may not");
    let (status, _) =
        curl(&world, &desk.url("/claim-window"), &["-H", "Content-Type: application/json", "-d", &window(&second, 60)]);
    assert_eq!(status, 401, "nobody without a certificate");
    take(&world, "wv-1", &first, "mole").exits(3);
    take(&world, "wv-1", &second, "mole").exits(0);
    assert_eq!(ends("wv-1", &window(&third, 60)).0, 409, "it has an owner");
    let shown = world.run(&["device", "show", "wv-1"]).exits(0);
    shown.prints(&["mole since", "(by window)"]);
    assert!(!watch.lines().iter().any(|line| line.contains("claim-window")), "the broker hears nothing of it");
    let logs = guard.running.lines().join("\n") + &desk.running.lines().join("\n");
    for code in [&first, &second, &third] {
        assert!(!logs.contains(code.as_str()), "a code is in a log");
    }
    world.run(&["audit", "verify"]).exits(0);
}

/// What an independent reader finds in a picture.
fn scanned(world: &World, picture: &str) -> Vec<String> {
    let ran = world.other("zbarimg", &["--quiet", "--raw", "-Sdisable", "-Sqrcode.enable", picture]).exits(0);
    ran.stdout.lines().map(str::to_owned).collect()
}

#[test]
fn stickers_are_read_by_others_and_lead_to_the_desk_and_nowhere_else() {
    let world = world();
    world.run(&["claim", "open", "gg-1", "--out", "code.txt"]).exits(0);
    let code = std::fs::read_to_string(world.path("code.txt")).unwrap().trim().to_owned();
    let link = |id: &str, code: &str| format!("https://localhost:8843/claim?device={id}&code={code}");
    let print = |args: &[&str]| world.run(&[&["claim", "print"], args].concat());
    print(&["gg-1", "--code-file", "code.txt", "--out", "gg-1.png"]).exits(0);
    assert_eq!(scanned(&world, "gg-1.png"), [link("gg-1", &code)]);
    let mode =
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(world.path("gg-1.png")).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600, "whoever has the picture has the device");
    print(&["gg-1", "--code-file", "code.txt", "--out", "gg-1.png"]).exits(1).says(&["gg-1.png"]);
    print(&["gg-1", "--code-file", "code.txt", "--out", "gg-1.svg"]).exits(0);
    let svg = std::fs::read_to_string(world.path("gg-1.svg")).unwrap();
    assert!(svg.contains(&code) && !svg.contains("http://localhost"), "{svg}");
    print(&["gg-1", "--code-file", "code.txt", "--out", "gg-1.gif"]).exits(2);
    // A sheet of more than one page, whatever addresses the list has.
    let mut rows = "id,code,ends,link\n".to_owned();
    let ids: Vec<String> = (0..25).map(|number| format!("sticker-with-a-long-name-{number:02}")).collect();
    ids.iter().for_each(|id| rows.push_str(&format!("{id},{code},2026-12-31T00:00:00Z,https://evil.example/\n")));
    world.write("codes.csv", &rows);
    for (paper, size) in [("a4", "595 x 842"), ("letter", "612 x 792")] {
        let sheet = format!("{paper}.pdf");
        print(&["--from", "codes.csv", "--sheet", &sheet, "--paper", paper]).exits(0).says(&["printed 25 stickers"]);
        let told = world.other("pdfinfo", &[&sheet]).exits(0).stdout;
        let pages =
            told.lines().find(|line| line.starts_with("Page size")).unwrap().replace(".276", "").replace(".89", "");
        assert!(told.contains("Pages:           2") && (pages.contains(size) || pages.contains("595")), "{told}");
        world.other("pdftoppm", &["-r", "150", "-png", &sheet, paper]).exits(0);
        let mut found = scanned(&world, &format!("{paper}-1.png"));
        found.extend(scanned(&world, &format!("{paper}-2.png")));
        found.sort();
        assert_eq!(found, ids.iter().map(|id| link(id, &code)).collect::<Vec<_>>(), "{paper}");
        let words = world.other("pdftotext", &[&sheet, "-"]).exits(0).stdout;
        assert_eq!(words.matches(&code).count(), 25, "{words}");
    }
    world.write("bad.csv", "id,code\ngg-1,2222\n");
    print(&["--from", "bad.csv", "--sheet", "x.pdf"]).exits(3).says(&["row 2: its code is none"]);
    assert!(!world.path("x.pdf").exists());
}

#[test]
fn a_voucher_tells_a_device_offline_whose_it_is() {
    let world = World::equipped();
    world.run(&["device", "edit", "wv-1", "--fact", "serial=QF-0417"]).exits(0);
    world.run(&["owner", "add", "mole"]).exits(0);
    for name in ["owner", "other"] {
        world.self_signed(name, &["-days", "30"]);
    }
    let make = |out: &str, more: &[&str]| {
        let args = ["claim", "voucher", "wv-1", "--owner", "mole", "--owner-cert", "owner.pem", "--out", out];
        world.run(&[&args[..], more].concat())
    };
    make("x.vcj", &[]).exits(3).says(&["no voucher was made for `wv-1`", "it has no owner"]);
    let code = open(&world, "wv-1");
    take(&world, "wv-1", &code, "mole").exits(0);
    make("wv-1.vcj", &[]).exits(0).says(&["QF-0417 is mole's, good until"]);
    make("wv-1.vcj", &[]).exits(3).says(&["is there already"]);
    make("wv-1.jws", &["--form", "jws", "--for", "1d"]).exits(0);
    make("nonce.vcj", &["--nonce", "00112233445566778899aabbccddeeff"]).exits(0).says(&["answers its nonce"]);
    make("x.vcj", &["--nonce", "00", "--for", "1d"]).exits(2);
    make("x.vcj", &["--nonce", "00"]).exits(3);
    let root = "outfits/wv-1/root.pem";
    // Another program believes it for the same reasons: what it pins and says is signed below the root.
    let verified = world
        .other("openssl", &["cms", "-verify", "-inform", "DER", "-in", "wv-1.vcj", "-CAfile", root, "-purpose", "any"]);
    verified.exits(0).prints(&["ietf-voucher:voucher", "\"serial-number\":\"QF-0417\"", "\"assertion\":\"verified\""]);
    let check = |file: &str, more: &[&str]| world.run(&[&["claim", "check-voucher", file], more].concat());
    check("wv-1.vcj", &["--root", root]).exits(0).prints(&["QF-0417", "CN=owner"]).says(&["was not compared"]);
    for file in ["wv-1.vcj", "wv-1.jws"] {
        let met = ["--root", root, "--serial", "QF-0417", "--owner-cert", "owner.pem"];
        let good = check(file, &met).exits(0);
        assert!(!good.stderr.contains("not compared"), "{good}");
        check(file, &["--root", root, "--serial", "QF-0417", "--owner-cert", "other.pem"])
            .exits(3)
            .says(&["another owner"]);
        check(file, &["--root", root, "--serial", "QF-0418"]).exits(3).says(&["it is for the serial number `QF-0417`"]);
        check(file, &["--root", "owner.pem", "--serial", "QF-0417"]).exits(3).says(&["whoever signed it may not"]);
        check(file, &["--root", root, "--serial", "QF-0417", "--without-clock"]).exits(3);
        check(file, &["--root", root, "--serial", "QF-0417", "--nonce", &"00".repeat(16)])
            .exits(3)
            .says(&["the nonce"]);
        // The device itself, with what it was given.
        check(file, &["--outfit", "outfits/wv-1"]).exits(3).says(&["it is for the serial number `QF-0417`"]);
        check(file, &["--outfit", "outfits/wv-1", "--serial", "QF-0417"]).exits(0);
    }
    let asked = "00112233445566778899aabbccddeeff";
    let nonce = ["--root", root, "--serial", "QF-0417", "--without-clock", "--nonce", asked];
    check("nonce.vcj", &nonce).exits(0).prints(&["answered"]);
    check("nonce.vcj", &["--root", root, "--serial", "QF-0417"]).exits(3);
    // Its signer is a key of its own, which `post list` does not take for a server, and signs nothing else.
    assert!(!world.run(&["post", "list"]).exits(0).stdout.contains("vouchers"));
    world
        .other(
            "openssl",
            &["cms", "-verify", "-inform", "DER", "-in", "wv-1.vcj", "-noverify", "-signer", "signer.pem", "-out", "x"],
        )
        .exits(0);
    let signer =
        world.other("openssl", &["x509", "-in", "signer.pem", "-noout", "-ext", "extendedKeyUsage"]).exits(0).stdout;
    assert!(signer.contains("1.3.6.1.5.5.7.3.36") || signer.contains("documentSigning"), "{signer}");
    world.run(&["hold", "wv-1", "--yes", "--because", "lost"]).exits(0);
    make("x.vcj", &[]).exits(3).says(&["on hold"]);
    let log = world.run(&["audit", "log", "--subject", "wv-1", "--format", "json"]).exits(0).stdout;
    assert_eq!(log.matches("claim.voucher").count(), 3);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn where_a_kind_says_so_all_that_was_a_former_owners_ends_at_once() {
    let world = World::equipped();
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replacen("[kinds.windvane]\n", "[kinds.windvane]\nclaim_rotate = \"0s\"\n", 1));
    world.run(&["owner", "add", "mole"]).exits(0);
    let code = open(&world, "wv-1");
    take(&world, "wv-1", &code, "mole").exits(0);
    let judged = || world.run(&["credential", "show", "--cert", "outfits/wv-1/device.pem"]);
    judged().prints(&["may sign in  yes"]);
    let given = world.run(&["claim", "give-up", "wv-1", "--yes"]).exits(0);
    given.says(&["so did what it signed in with", "enroll it anew"]);
    judged().prints(&["may sign in  no"]);
    world.run(&["enroll", "wv-1", "--make-key", "--again", "--out", "again"]).exits(0);
    let anew = world.run(&["credential", "show", "--cert", "again/wv-1/device.pem"]);
    anew.prints(&["may sign in  yes"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn links_are_shown_once_and_end() {
    let world = world();
    let made = world.run(&["owner", "link", "mole-west", "--for", "7d", "--format", "json"]).exits(0).json();
    let link = made["link"].as_str().unwrap();
    assert!(link.starts_with("https://localhost:8843/owner/sign-in?link="), "{link}");
    assert_eq!(link.len(), "https://localhost:8843/owner/sign-in?link=".len() + 43, "256 bits in base64url");
    world.run(&["owner", "link", "mole-west", "--out", "link.txt"]).exits(0);
    let mode =
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(world.path("link.txt")).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    world.run(&["owner", "link", "mole-west", "--for", "32d"]).exits(3).says(&["no link is good for 32d"]);
    world.run(&["owner", "link", "nobody"]).exits(4);
    world.run(&["owner", "show", "mole-west"]).exits(0).prints(&["2 links kept"]);
    world.run(&["owner", "sign-out", "mole-west", "--yes"]).exits(0);
    let shown = world.run(&["owner", "show", "mole-west", "--format", "json"]).exits(0).json();
    assert_eq!((shown["links"].as_u64(), shown["count"].as_u64()), (Some(0), Some(0)));
    world.run(&["owner", "add", "mole-west"]).exits(3).says(&["there is an owner `mole-west` already"]);
    let edited = world.run(&["owner", "edit", "mole-west", "--place", "site=mole-2", "--no-place", "site=mole"]);
    edited.exits(0);
    world.run(&["owner", "list"]).exits(0).prints(&["mole-west", "site=mole-2", "ivo"]);
    world.run(&["owner", "edit", "mole-west"]).exits(2);
    let log = world.run(&["audit", "log", "--format", "json"]).exits(0).stdout;
    assert!(!log.contains(link.rsplit('=').next().unwrap()), "the record has a digest");
}

#[test]
fn whose_a_device_is_cannot_be_changed_past_the_record() {
    if in_databases() {
        return;
    }
    let world = world();
    let desk = Desk::start(&world);
    // One came in with its owner, one was claimed, one was given up, and one nobody ever had.
    let brought =
        ["admission", "open", "--id", "gg-9", "--kind", "gauge", "--owner", "mole-west", "--secret", "--out", "s.txt"];
    world.run(&brought).exits(0);
    let nobody = [&brought[..3], &["gg-10"], &brought[4..7], &["nobody-yet"], &brought[8..9]].concat();
    world.run(&nobody).exits(0).says(&["there is no owner `nobody-yet` yet", "owner add nobody-yet"]);
    world.run(&["owner", "add", "old"]).exits(0);
    world.run(&["owner", "retire", "old", "--yes"]).exits(0);
    let old = [&brought[..3], &["gg-11"], &brought[4..7], &["old"], &brought[8..9]].concat();
    world.run(&old).exits(3).says(&["the owner `old` is retired since", "owner list"]);
    let secret = std::fs::read_to_string(world.path("s.txt")).unwrap();
    let user = format!("gg-9:{}", secret.trim());
    openssl_request(&world, "gg-9", "/");
    let sent = ["-u", &user, "-H", "Content-Type: application/pkcs10", "--data-binary", "@gg-9.b64"];
    let (status, said) = curl(&world, &desk.url("/.well-known/est/simpleenroll"), &sent);
    assert_eq!(status, 200, "{said}");
    for id in ["gg-1", "gg-2"] {
        let code = open(&world, id);
        take(&world, id, &code, "mole-west").exits(0);
    }
    world.run(&["claim", "give-up", "gg-2", "--yes"]).exits(0);
    drop(desk);
    world.run(&["audit", "verify"]).exits(0);
    world.run(&["owner", "retire", "mole-west", "--yes"]).exits(3).says(&["has devices: 2"]);
    std::fs::copy(world.path("w/ward.db"), world.path("kept.db")).unwrap();
    for (id, owner, found) in [
        ("gg-1", "'eve'", "device `gg-1`: it is eve's here, and mole-west's by the record"),
        ("gg-1", "NULL", "device `gg-1`: it is nobody's here, and mole-west's by the record"),
        ("gg-2", "'mole-west'", "device `gg-2`: it is mole-west's here, and nobody's by the record"),
        ("gg-3", "'eve'", "device `gg-3`: it is eve's here, and nobody's by the record"),
        ("gg-9", "'eve'", "device `gg-9`: it is eve's here, and nobody's by the record"),
    ] {
        std::fs::copy(world.path("kept.db"), world.path("w/ward.db")).unwrap();
        let sql = format!("UPDATE devices SET owner = {owner} WHERE id = '{id}'");
        world.other("sqlite3", &["w/ward.db", &sql]).exits(0);
        world.run(&["audit", "verify"]).exits(3).prints(&[found]);
    }
}
