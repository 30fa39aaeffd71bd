//! Errands: a device that speaks MQTT alone does what its ward asks, and nothing that anybody else does.

use std::collections::BTreeMap;
use std::time::Duration;

use serde_json::Value;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::errand::{Outcome, Purpose, Read, answer_text, read, renewal_text};
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::request::Request;
use tidy_warden_core::time::UnixTime;
use tidy_warden_simulate::{Delivered, Device, Login};

use crate::desk::Desk;
use crate::door::python;
use crate::harness::{Guard, KINDS, Running, World, block_on, eventually, in_days};

const SOON: Duration = Duration::from_secs(10);

/// A device in another language.
const DEVICE: &str = include_str!("errands.py");

fn device(world: &World, id: &str, guard: &Guard, version: &str, more: &[&str]) -> Running {
    world.write("errands.py", DEVICE);
    let port = guard.address.port().to_string();
    let outfit = format!("outfits/{id}");
    let running = Running::start(world.command(python(world)).args(["errands.py", &outfit, &port, version]).args(more));
    running.line("that it listens", |line| line.starts_with("listens") || line.contains("Error"));
    running
}

/// An errand as it is shown.
fn shown(world: &World, number: i64) -> Value {
    world.run(&["errand", "show", &number.to_string(), "--format", "json"]).exits(0).json()
}

fn serials(world: &World, id: &str) -> Vec<(String, String)> {
    let all = world.run(&["device", "show", id, "--format", "json"]).exits(0).json();
    let text = |each: &Value, name: &str| each[name].as_str().unwrap_or_default().to_owned();
    let all = all["credentials"].as_array().unwrap().iter();
    all.map(|each| (text(each, "serial"), text(each, "state"))).collect()
}

#[test]
fn a_device_in_another_language_does_its_errands_and_renews_in_both_versions() {
    let world = World::equipped();
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write(
        "w/ward.toml",
        settings.replace("[kinds.windvane]\n", "[kinds.windvane]\nerrands = [\"stop\", \"calibrate\"]\n"),
    );
    let guard = Guard::start(&world, "builtin");
    for (id, version) in [("wv-1", "4"), ("wv-2", "5")] {
        let running = device(&world, id, &guard, version, &[]);
        let send = |args: &[&str]| world.run(&[&["errand", "send", id], args, &["--wait", "10s"]].concat());
        let answered =
            world.run(&["errand", "send", id, "restart", r#"{"in": 5}"#, "--wait", "10s", "--format", "json"]);
        let answered = answered.exits(0).json();
        assert_eq!((&answered["state"], &answered["result"]["up"]), (&"done".into(), &true.into()), "{answered}");
        running.line("what it was asked", |line| line == r#"does restart {"in": 5}"#);
        send(&["identify"]).exits(3).prints(&["refused", "it has no light"]);
        send(&["calibrate"]).exits(0);
        send(&["polish"])
            .exits(3)
            .says(&["are not said to know `polish`", "errands = [\"polish\"] under [kinds.windvane]"]);
        send(&["install"]).exits(3).says(&["only the ward itself sends certificates"]);
        send(&["restart", "[1]"]).exits(2).says(&["no JSON object"]);

        // What was made for it is given to it, and it comes back with it.
        let before = serials(&world, id);
        let renewed = world.run(&["errand", "send", id, "renew", "--wait", "10s", "--format", "json"]).exits(0).json();
        let serial = renewed["result"]["serial"].as_str().unwrap().to_owned();
        assert_eq!(before.len(), 1);
        let told = serial.trim_start_matches('0');
        running.line("that it came back with it", |line| line.starts_with("connected 0") && line.ends_with(told));
        let live = eventually(|| {
            let now = serials(&world, id);
            (now.len() == 2 && now.contains(&(serial.clone(), "live".to_owned()))).then_some(now)
        });
        let live = live.unwrap_or_else(|| panic!("{:?}", serials(&world, id)));
        assert!(live.contains(&(before[0].0.clone(), "superseded".to_owned())), "{live:?}");
        let number = renewed["number"].as_i64().unwrap();
        let installed = eventually(|| Some(shown(&world, number + 1)).filter(|each| each["state"] == "done")).unwrap();
        assert_eq!((&installed["purpose"], &installed["follows"]), (&"install".into(), &number.into()));
        send(&["stop"]).exits(0);
    }
    let list = world.run(&["errand", "list", "--format", "json"]).exits(0).json();
    let states: Vec<&str> =
        list["errands"].as_array().unwrap().iter().map(|each| each["state"].as_str().unwrap()).collect();
    assert_eq!(states.iter().filter(|state| **state == "done").count(), 10, "{states:?}");
    assert_eq!(states.iter().filter(|state| **state == "refused").count(), 2);
    world.run(&["device", "events", "wv-1"]).exits(0).prints(&["errand.send", "errand.end", "errand-handed"]);
    world.run(&["audit", "verify"]).exits(0);
}

/// What came, read as a device reads it.
fn taken(world: &World, id: &str, message: &Delivered) -> Read {
    let roots = Certificate::read_all(&std::fs::read(world.path(&format!("outfits/{id}/root.pem"))).unwrap()).unwrap();
    let text = std::str::from_utf8(&message.payload).unwrap();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    read(
        text,
        &message.topic.rsplit('/').next().unwrap().parse().unwrap(),
        &roots,
        None,
        UnixTime(now.try_into().unwrap()),
    )
    .unwrap()
}

async fn next(device: &mut Device) -> Delivered {
    device.message(SOON).await.unwrap().expect("an errand comes")
}

/// Sends one without waiting, and gives its number.
fn sent(world: &World, id: &str, purpose: &str) -> i64 {
    let sent = world.run(&["errand", "send", id, purpose, "--format", "json"]).exits(0).json();
    sent["number"].as_i64().unwrap()
}

#[test]
fn an_errand_waits_for_its_device_and_nobody_else_gets_or_answers_it() {
    let world = World::equipped();
    let guard = Guard::start(&world, "builtin");
    let first = sent(&world, "wv-1", "restart");
    world.run(&["errand", "send", "wv-1", "report", "--wait", "1s"]).exits(1).prints(&["waiting", "not yet"]);
    block_on(async {
        let mut other = world.login("wv-2").connect(guard.address).await.unwrap();
        for filter in ["$ward/wv-1/errand/+", "$ward/+/errand/+", "$ward/#", "$ward/wv-2/#", "$ward/wv-2/answer/+"] {
            let answer = other.subscribe(filter).await.unwrap();
            assert_eq!(answer.code, 0x87, "{filter}: {}", answer.told());
        }
        assert!(other.subscribe("$ward/wv-2/errand/+").await.unwrap().is_ok());
        // An answer for another, in its place or in one's own: the errand stays open.
        let answer = answer_text(first, Outcome::Done, None, None);
        for topic in ["$ward/wv-1/answer/wv-1", "$ward/wv-2/errand/wv-2", "$ward/x"] {
            assert_eq!(other.publish(topic, answer.as_bytes()).await.unwrap().code, 0x87, "{topic}");
        }
        for topic in ["$ward/wv-2/answer/wv-1", "$ward/wv-2/answer/wv-2"] {
            assert!(other.publish(topic, answer.as_bytes()).await.unwrap().is_ok());
            let told = guard.event("errand-not-answered", |event| event["device"] == "wv-2");
            assert!(told["why"].as_str().unwrap().contains("is not open, or not one of"), "{told}");
        }
        assert_eq!(shown(&world, first)["state"], "waiting");

        // Its device comes at last, gets both, and again when it comes back without having answered.
        let mut device = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(device.subscribe("$ward/wv-1/errand/+").await.unwrap().is_ok());
        let (one, two) = (next(&mut device).await, next(&mut device).await);
        assert_eq!(one.answer_to, Some(("$ward/wv-1/answer/wv-1".to_owned(), first.to_string().into_bytes())));
        let asked = taken(&world, "wv-1", &one).errand;
        assert_eq!((asked.number, asked.purpose), (first, Purpose::Restart));
        assert_eq!(taken(&world, "wv-1", &two).errand.purpose, Purpose::Report);
        drop(device);
        let mut device = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(device.subscribe("$ward/wv-1/errand/wv-1").await.unwrap().is_ok());
        assert_eq!(next(&mut device).await.payload, one.payload, "the same again");
        assert!(device.publish("$ward/wv-1/answer/wv-1", answer.as_bytes()).await.unwrap().is_ok());
        let done = eventually(|| Some(shown(&world, first)).filter(|each| each["state"] == "done")).unwrap();
        assert!(done["tries"].as_u64().unwrap() >= 2, "{done}");
        // Nor does another answer what it listens for at this moment.
        let third = sent(&world, "wv-1", "identify");
        assert_eq!(taken(&world, "wv-1", &next(&mut device).await).errand.purpose, Purpose::Report, "again");
        assert_eq!(taken(&world, "wv-1", &next(&mut device).await).errand.number, third);
        let forged = answer_text(third, Outcome::Refused, Some("no"), None);
        let before = guard.running.lines().len();
        for topic in ["$ward/wv-2/answer/wv-1", "$ward/wv-2/answer/wv-2"] {
            assert!(other.publish(topic, forged.as_bytes()).await.unwrap().is_ok());
        }
        let told =
            || guard.running.lines()[before..].iter().filter(|line| line.contains("errand-not-answered")).count();
        assert!(eventually(|| (told() == 2).then_some(())).is_some());
        assert_eq!(shown(&world, third)["state"], "sent");
        // A second answer to it changes nothing.
        let late = answer_text(first, Outcome::Refused, Some("no"), None);
        assert!(device.publish("$ward/wv-1/answer/wv-1", late.as_bytes()).await.unwrap().is_ok());
        device.ping().await.unwrap();
        assert_eq!(shown(&world, first)["state"], "done");

        // A device on hold gets none, and is sent none.
        world.run(&["hold", "wv-2", "--because", "odd", "--yes"]).exits(0);
        assert!(other.ended(SOON).await.is_some());
        world.run(&["errand", "send", "wv-2", "restart"]).exits(3).says(&["on hold"]);
    });
    // Policies are not asked about the ward's own topics.
    let ask = |act: &str, subject: &str| world.run(&["policy", "ask", "wv-1", act, subject]);
    ask("publish", "$ward/wv-1/answer/wv-1").exits(0).prints(&["allowed", "by the guard itself"]);
    ask("subscribe", "$ward/wv-1/errand/+").exits(0).prints(&["allowed"]);
    ask("publish", "$ward/wv-2/answer/wv-1").exits(3).prints(&["are the ward's own"]);
    ask("subscribe", "$ward/#").exits(3).prints(&["are the ward's own"]);
    assert!(!world.run(&["post", "list"]).exits(0).stdout.contains("errands"));
    // Not more than are reasonable.
    for _ in 0..18 {
        sent(&world, "wv-1", "identify");
    }
    world.run(&["errand", "send", "wv-1", "identify"]).exits(3).says(&["20 errands wait for `wv-1` already"]);
    world.run(&["errand", "list", "--device", "wv-1", "--open"]).exits(0).prints(&["identify", "report"]);
    world.run(&["errand", "show", "99"]).exits(4);
    world.run(&["errand", "send", "nobody", "restart"]).exits(4);
}

/// A rehearsal whose wind vanes renew when they are asked; its clock is the file `now`.
fn rehearsal(devices: usize) -> World {
    let kinds = KINDS
        .replace("[kinds.windvane]\n", "[kinds.windvane]\nlife = \"30d\"\nrenews = \"errand\"\nerrands = [\"stop\"]\n");
    let world = World::driven_with(&kinds, devices);
    world.write("now", in_days(1));
    world
}

/// Waits until a device has a newest certificate other than `before`, with which it connected.
fn renewed(world: &World, id: &str, before: usize) -> String {
    let live = eventually(|| {
        let all = serials(world, id);
        (all.len() > before).then_some(all).and_then(|all| all.into_iter().find(|(_, state)| state == "live"))
    });
    live.unwrap_or_else(|| panic!("{:?}\n{}", serials(world, id), world.run(&["errand", "list"]).stdout)).0
}

#[test]
fn a_desk_asks_those_whose_time_has_come_and_a_rotation_asks_by_errands() {
    let world = rehearsal(2);
    let guard = Guard::start(&world, "builtin");
    let desk = Desk::start(&world);
    let running = device(&world, "wv-1", &guard, "5", &["now"]);
    let due = |id: &str| {
        let due = world.run(&["due", "--format", "json"]).exits(0).json();
        let mut all = due["due"].as_array().unwrap().clone();
        all.retain(|each| each["name"] == id && each["what"] == "certificate");
        all.remove(0)
    };
    assert_eq!(due("wv-1")["happens"], "renews-by-itself");
    // Its window is the last third of thirty days, and it begins in the first half of that.
    world.write("now", in_days(19));
    assert!(
        world.run(&["errand", "list", "--format", "json"]).exits(0).json()["errands"].as_array().unwrap().is_empty()
    );
    world.write("now", in_days(26));
    let first = renewed(&world, "wv-1", 1);
    desk.event("asked-to-renew", |event| event["count"].as_u64().unwrap() >= 1);
    desk.event("errand", |event| event["device"] == "wv-1" && event["purpose"] == "renew" && event["state"] == "done");
    let listed = world.run(&["errand", "list", "--format", "json"]).exits(0).json();
    let asked = |id: &str| listed["errands"].as_array().unwrap().iter().filter(|each| each["device"] == id).count();
    assert_eq!(
        (asked("wv-1"), asked("wv-2")),
        (2, 1),
        "asked, and given; the other is away and is asked once: {listed}"
    );

    // A rotation asks in the same way, whatever time is left; the errand waits for its device.
    world.run(&["errand", "send", "wv-1", "stop", "--wait", "10s"]).exits(0);
    drop(running);
    world.run(&["rotation", "prepare", "spring", "--where", "id = wv-1", "--rounds", "100%"]).exits(0);
    world.run(&["rotation", "start", "spring", "--yes"]).exits(0);
    let waits = || {
        let open = world.run(&["errand", "list", "--device", "wv-1", "--open", "--format", "json"]).exits(0).json();
        open["errands"].as_array().unwrap().iter().any(|each| each["state"] == "waiting").then_some(())
    };
    eventually(waits).unwrap();
    // What was issued in the second of the question might be taken for its answer.
    world.write("now", in_days(27));
    let running = device(&world, "wv-1", &guard, "4", &["now"]);
    let second = renewed(&world, "wv-1", 2);
    assert_ne!(first, second);
    let confirmed = || {
        let status = world.run(&["rotation", "status", "spring", "--format", "json"]).exits(0).json();
        (status["state"] == "done").then_some(status)
    };
    let status = eventually(confirmed).unwrap();
    assert_eq!(status["rounds"][0]["confirmed"], 1, "{status}");
    world.run(&["errand", "send", "wv-1", "stop", "--wait", "10s"]).exits(0);
    drop(running);
    // What signs errands is a key of its own, renewed as those of servers are.
    let servers = world.run(&["due", "--within", "800d", "--format", "json"]).exits(0).json();
    let own = servers["due"].as_array().unwrap().iter().find(|each| each["name"] == "errands").cloned();
    assert_eq!(own.map(|each| each["happens"].clone()), Some("renews-by-itself".into()));
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn whoever_lost_the_key_that_it_made_is_asked_anew_before_the_one_before_ends() {
    let world = rehearsal(1);
    let guard = Guard::start(&world, "builtin");
    let _desk = Desk::start(&world);
    let key = SoftwareKey::from_pkcs8(&world.identity("wv-1").1).unwrap();
    let roots = Certificate::read_all(&std::fs::read(world.path("outfits/wv-1/root.pem")).unwrap()).unwrap();
    let read_now = |message: &Delivered| {
        let now = std::fs::read_to_string(world.path("now")).unwrap().trim().parse().unwrap();
        read(std::str::from_utf8(&message.payload).unwrap(), &"wv-1".parse().unwrap(), &roots, None, now).unwrap()
    };
    world.write("now", in_days(26));
    block_on(async {
        let mut session = world.login("wv-1").connect(guard.address).await.unwrap();
        session.subscribe("$ward/wv-1/errand/+").await.unwrap();
        // Three times it is started anew between the two errands, and asked at once, but not without end.
        for time in 0..3 {
            let asked = read_now(&next(&mut session).await);
            assert_eq!(asked.errand.purpose, Purpose::Renew, "at time {time}");
            let made = SoftwareKey::generate(NewKey::P256).unwrap();
            let csr = Request::stating(&BTreeMap::new(), &made).unwrap();
            let answer = renewal_text(&asked.errand, &asked.ward, &csr, &key).unwrap();
            session.publish("$ward/wv-1/answer/wv-1", answer.as_bytes()).await.unwrap();
            let given = read_now(&next(&mut session).await).errand;
            assert_eq!(given.purpose, Purpose::Install);
            let detail: Value = serde_json::from_str(&given.detail).unwrap();
            assert!(detail["roots"].as_str().unwrap().contains("BEGIN CERTIFICATE"));
            let answer = answer_text(given.number, Outcome::Refused, Some("it asked for none"), None);
            session.publish("$ward/wv-1/answer/wv-1", answer.as_bytes()).await.unwrap();
            let ended = eventually(|| (shown(&world, given.number)["state"] != "answered").then_some(()));
            assert!(ended.is_some());
        }
        assert!(session.message(Duration::from_secs(2)).await.unwrap().is_none(), "and not without end");
        let due = || {
            let due = world.run(&["due", "--within", "10d", "--format", "json"]).exits(0).json();
            let mut its = due["due"].as_array().unwrap().iter().filter(|each| each["what"] == "certificate");
            let its = (its.next().unwrap()["why"].as_str().unwrap().to_owned(), its.next());
            assert!(its.1.is_none());
            its.0
        };
        assert!(due().contains("was not used yet"));
        world.write("now", in_days(29));
        assert!(due().contains("did not take it"), "in time before the one that it has ends");
        // A person, or a rotation, asks again, and this time it is quick enough.
        sent(&world, "wv-1", "renew");
        let asked = read_now(&next(&mut session).await);
        let made = SoftwareKey::generate(NewKey::P256).unwrap();
        let csr = Request::stating(&BTreeMap::new(), &made).unwrap();
        let answer = renewal_text(&asked.errand, &asked.ward, &csr, &key).unwrap();
        session.publish("$ward/wv-1/answer/wv-1", answer.as_bytes()).await.unwrap();
        let given = read_now(&next(&mut session).await).errand;
        let detail: Value = serde_json::from_str(&given.detail).unwrap();
        let read = |name: &str| Certificate::read_all(detail[name].as_str().unwrap().as_bytes()).unwrap();
        let chain: Vec<Vec<u8>> =
            [read("certificate"), read("chain")].concat().iter().map(|each| each.der().to_vec()).collect();
        let login =
            Login::new(read("roots")[0].der(), Some((chain, made.to_pkcs8().unwrap().to_vec())), "localhost", "wv-1");
        login.unwrap().connect(guard.address).await.unwrap().goodbye().await;
        let live = eventually(|| serials(&world, "wv-1").iter().any(|(_, state)| state == "live").then_some(()));
        assert!(live.is_some(), "{:?}", serials(&world, "wv-1"));
    });
    world.run(&["audit", "verify"]).exits(0);
}

const GATEWAYS: &str = r#"
[kinds.windvane]
token_login = true
[kinds.station]
carries = ["cabin"]
[kinds.cabin]
"#;

#[test]
fn a_gateway_takes_errands_for_its_children_and_a_token_says_nothing_of_credentials() {
    let world = World::driven(GATEWAYS);
    let list = "id,kind,gateway,label.site\nst-1,station,,ossel\nst-2,station,,ossel\ncb-1,cabin,st-1,ossel\nwv-1,windvane,,ossel\n";
    world.write("list.csv", list);
    world.run(&["device", "import", "list.csv"]).exits(0);
    world.adopt("policy all { for kind in (station, windvane)  allow connect as \"{device}\" }\n");
    for id in ["st-1", "st-2", "wv-1"] {
        world.run(&["enroll", id, "--make-key", "--out", "outfits"]).exits(0);
    }
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut gateway = world.login("st-1").connect(guard.address).await.unwrap();
        let mut other = world.login("st-2").connect(guard.address).await.unwrap();
        assert!(gateway.subscribe("$ward/st-1/errand/+").await.unwrap().is_ok());
        assert!(other.subscribe("$ward/st-2/errand/+").await.unwrap().is_ok());
        let number = sent(&world, "cb-1", "report");
        let came = next(&mut gateway).await;
        assert_eq!(came.topic, "$ward/st-1/errand/cb-1");
        assert_eq!(came.answer_to.as_ref().unwrap().0, "$ward/st-1/answer/cb-1");
        let asked = taken(&world, "st-1", &came).errand;
        assert_eq!((asked.device.as_str(), asked.number), ("cb-1", number));
        let answer = answer_text(number, Outcome::Done, None, None);
        assert!(other.publish("$ward/st-2/answer/cb-1", answer.as_bytes()).await.unwrap().is_ok());
        guard.event("errand-not-answered", |event| event["device"] == "st-2");
        assert!(gateway.publish("$ward/st-1/answer/cb-1", answer.as_bytes()).await.unwrap().is_ok());
        eventually(|| Some(shown(&world, number)).filter(|each| each["state"] == "done")).unwrap();

        // A session that a token opened gets what is not about credentials, and nothing if the token does not reach that far.
        let token = |args: &[&str]| {
            let made = world.run(&[&["token", "issue", "wv-1", "--for", "1h"], args].concat());
            made.exits(0).stdout.trim().as_bytes().to_vec()
        };
        let with = |token: Vec<u8>, client_id: &str| {
            let mut login = Login::new(&world.root("wv-1"), None, "localhost", client_id).unwrap();
            login.token = Some(("wv-1".to_owned(), token));
            login
        };
        let (renew, report) = (sent(&world, "wv-1", "renew"), sent(&world, "wv-1", "report"));
        let mut session = with(token(&[]), "wv-1").connect(guard.address).await.unwrap();
        assert!(session.subscribe("$ward/wv-1/errand/+").await.unwrap().is_ok());
        assert_eq!(taken(&world, "wv-1", &next(&mut session).await).errand.number, report, "and not the other");
        let answer = answer_text(renew, Outcome::Done, None, None);
        assert!(session.publish("$ward/wv-1/answer/wv-1", answer.as_bytes()).await.unwrap().is_ok());
        guard.event("errand-not-answered", |event| event["device"] == "wv-1");
        assert_eq!(shown(&world, renew)["state"], "waiting");
    });
}
