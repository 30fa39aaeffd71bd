//! The certificates of guards and desks: each next one ahead of the end, without a restart and without a session lost.

use std::net::SocketAddr;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use tidy_warden_core::time::UnixTime;

use crate::desk::Desk;
use crate::harness::{Guard, KINDS, World, block_on, eventually};

const DAY: i64 = 86_400;

/// A ward whose clock is set in a file, and whose devices' certificates outlive those of its servers.
fn world() -> World {
    let world = World::init().with("TIDY_WARDEN_NOW", "@now");
    set(&world, 0);
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    let kinds = KINDS.replace("token_login = true", "token_login = true\nlife = \"3000d\"");
    world.write("w/ward.toml", text.replace(KINDS, &kinds));
    world.equip();
    world
}

/// Sets the clock to some days from now on.
fn set(world: &World, days: i64) {
    let now = i64::try_from(SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs()).unwrap();
    world.write("now", UnixTime(now + days * DAY).to_string());
}

/// What a server shows of itself: when its certificate ends and who signed it, once it leads to the ward's root.
fn shown(world: &World, address: SocketAddr) -> String {
    let call = format!(
        "openssl s_client -connect 127.0.0.1:{} -CAfile trust/root.pem -no_check_time -verify_return_error </dev/null 2>&1 \
         | openssl x509 -noout -enddate -issuer -serial",
        address.port()
    );
    world.other("sh", &["-c", &call]).exits(0).stdout
}

fn ends(world: &World, name: &str) -> String {
    let listed = world.run(&["post", "list", "--format", "json"]).exits(0).json();
    let all = listed["posts"].as_array().unwrap().clone();
    all.iter().find(|post| post["name"] == name).unwrap()["ends"].as_str().unwrap().to_owned()
}

#[test]
fn a_desk_renews_guard_and_desk_ahead_of_their_end_and_sessions_go_on() {
    let world = world();
    let guard = Guard::start(&world, "builtin");
    let desk = Desk::start(&world);
    let first = [shown(&world, guard.address), shown(&world, desk.address)];
    let before = [ends(&world, "guard"), ends(&world, "desk")];
    block_on(async {
        let mut live = world.login("wv-1").connect(guard.address).await.unwrap();
        // A day before two thirds of the life are over nothing happens, and a day after it they are there.
        set(&world, 485);
        tokio::time::sleep(Duration::from_secs(6)).await;
        assert_eq!([ends(&world, "guard"), ends(&world, "desk")], before);
        set(&world, 488);
        let told = guard.event("own-certificate", |_| true);
        for name in ["guard", "desk"] {
            let event = desk.event("server-renewed", |event| event["server"] == name);
            assert_eq!(event["ends"].as_str().unwrap(), ends(&world, name));
        }
        assert_eq!(told["ends"].as_str().unwrap(), ends(&world, "guard"));
        assert!(live.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok(), "the session goes on");
    });
    for (address, first) in [guard.address, desk.address].into_iter().zip(&first) {
        let anew = eventually(|| Some(shown(&world, address)).filter(|shown| shown != first)).unwrap();
        let serial = |text: &str| text.lines().find(|line| line.starts_with("serial")).unwrap().to_owned();
        assert_ne!(serial(&anew), serial(first));
    }
    // What they name is there: the list of the authority for services, and its certificate.
    let fetch = |path: &str, file: &str| {
        let url = format!("http://127.0.0.1:{}{path}", desk.http.port());
        world.other("curl", &["-s", "-f", "-o", file, &url]).exits(0);
    };
    fetch("/crl/service.crl", "service.crl");
    fetch("/ca/service.cer", "service.cer");
    world
        .other("openssl", &["crl", "-inform", "DER", "-in", "service.crl", "-noout", "-text"])
        .exits(0)
        .prints(&["Next Update"]);
    world.other("openssl", &["verify", "-CAfile", "trust/root.pem", "service.cer"]).exits(0);
    let entries = world.run(&["audit", "log", "--format", "json"]).exits(0).json()["entries"].clone();
    let renewals = entries.as_array().unwrap().iter().filter(|entry| entry["act"] == "server.renew").count();
    assert_eq!(renewals, 2, "once each, however often it is looked");
    world.run(&["post", "list"]).exits(0).prints(&["desk   desk   up", "guard  guard  up"]);
    world.run(&["audit", "verify"]).exits(0);
    assert_eq!((desk.running.terminate(), guard.running.terminate()), (Some(0), Some(0)));
}

#[test]
fn a_person_renews_by_hand_and_puts_another_authority_in_place() {
    let world = world();
    world.append("w/ward.toml", "\n[desk]\nrenew_servers = false\n");
    let guard = Guard::start(&world, "builtin");
    let desk = Desk::start(&world);
    world.run(&["post", "renew"]).exits(0).prints(&["no certificate of a guard, desk or post is due"]);
    world.run(&["post", "renew", "guard-9"]).exits(4).says(&["post list"]);
    set(&world, 600);
    let warned = guard.running.line("nothing", |line| line.contains("listening"));
    assert!(!warned.contains("ends soon"));
    world.run(&["post", "list"]).exits(0).prints(&[", due"]);
    let url = format!("http://127.0.0.1:{}/crl/service.crl", desk.http.port());
    assert_ne!(world.other("curl", &["-s", "-f", &url]).code, 0, "it has no key to sign that list with");
    set(&world, 705);
    let told = guard.event("trouble", |event| event["what"].as_str().unwrap().contains("ends soon"));
    assert!(told["what"].as_str().unwrap().contains("post renew guard"), "{told}");
    desk.event("trouble", |event| event["what"].as_str().unwrap().contains("post renew desk"));
    let both = world.run(&["post", "renew", "--because", "by hand", "--format", "json"]).exits(0).json();
    assert_eq!(both["posts"].as_array().map(Vec::len), Some(2), "{both}");
    assert_eq!(both["posts"][0]["ends"].as_str().unwrap(), ends(&world, "guard"));
    guard.event("own-certificate", |_| true);

    // Another authority, held to the hosts that there are; who believes the root believes it.
    let own = ["authority", "add", "service-2", "--service", "--permit", "dns:localhost"];
    world.run(&[&own[..], &["--replaces", "devices"]].concat()).exits(3).says(&["does not sign guards and desks"]);
    world
        .run(&[&own[..], &["--permit", "ip:127.0.0.0/8", "--permit", "ip:::1/128", "--replaces", "service"]].concat())
        .exits(0)
        .says(&["post renew NAME"]);
    let retire = ["authority", "retire", "service", "--yes", "--because", "replaced"];
    world.run(&retire).exits(3).says(&["guard, desk still show certificates of it"]);
    for name in ["guard", "desk"] {
        world.run(&["post", "renew", name]).exits(0);
    }
    for address in [guard.address, desk.address] {
        let by_the_new = eventually(|| shown(&world, address).contains("service-2").then_some(()));
        assert!(by_the_new.is_some(), "{}", shown(&world, address));
    }
    world.run(&retire).exits(0);
    assert!(shown(&world, guard.address).contains("service-2"));
    world.run(&["audit", "log"]).exits(0).prints(&["server.renew", "by hand"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_desk_says_that_it_could_sign_for_any_host_until_it_could_not() {
    let world = world();
    let desk = Desk::start(&world);
    let address = desk.address.to_string();
    // What it says stands before it finds that somebody else has its port.
    let another = || world.run(&["desk", "--listen", &address]).exits(1);
    another().says(&["the key of `service`, which can sign for any host"]);
    let own = ["authority", "add", "service-2", "--service", "--replaces", "service", "--permit", "dns:localhost"];
    world.run(&[&own[..], &["--permit", "ip:127.0.0.0/8", "--permit", "ip:::1/128"]].concat()).exits(0);
    let told = another().stderr;
    assert!(!told.contains("any host"), "{told}");
}

#[test]
fn a_certificate_of_a_clock_that_was_ahead_puts_no_guard_out_and_is_replaced() {
    let world = world();
    let guard = Guard::start(&world, "builtin");
    world.run(&["authority", "export", "--out", "trust"]).exits(0);
    let first = shown(&world, guard.address);
    set(&world, 100);
    std::fs::rename(world.path("now"), world.path("ahead")).unwrap();
    set(&world, 0);
    let renew = || {
        let mut command = world.program(&["post", "renew", "guard"]);
        let ran = command.env("TIDY_WARDEN_NOW", "@ahead").output().unwrap();
        assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    };
    renew();
    let early = |event: &serde_json::Value| event["what"].as_str().unwrap().contains("begins at");
    let told = guard.event("trouble", early);
    assert!(told["what"].as_str().unwrap().contains("which clock is wrong"), "{told}");
    assert_eq!(shown(&world, guard.address), first);
    // Nobody put it right: it is shown as soon as it is valid.
    set(&world, 100);
    guard.event("own-certificate", |_| true);
    let second = eventually(|| Some(shown(&world, guard.address)).filter(|shown| *shown != first)).unwrap();
    // The same again, and a desk that knows what time it is.
    set(&world, 200);
    std::fs::rename(world.path("now"), world.path("ahead")).unwrap();
    set(&world, 101);
    renew();
    guard.event("trouble", early);
    assert_eq!(shown(&world, guard.address), second);
    let desk = Desk::start(&world);
    desk.event("server-renewed", |event| event["server"] == "guard");
    guard.event("own-certificate", |_| true);
    let third = eventually(|| Some(shown(&world, guard.address)).filter(|shown| *shown != second)).unwrap();
    std::thread::sleep(Duration::from_secs(6));
    assert_eq!(shown(&world, guard.address), third, "once");
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn settings_check_tells_of_addresses_that_the_desk_does_not_serve() {
    let world = World::init();
    let check = || world.run(&["settings", "check"]).exits(0);
    assert!(!check().stdout.contains("not-served"), "nothing is said of a desk");
    world.append("w/ward.toml", "\n[desk]\nlisten = \"0.0.0.0:9443\"\nlisten_http = \"0.0.0.0:8080\"\n");
    check().prints(&[
        "not-served",
        "on port 9443",
        "no place of revocation lists",
        "no place of issuing authorities'",
        "5 warnings",
    ]);
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    let served = "[endpoints]\ncrl = \"http://localhost:8080/crl/\"\nca = \"http://localhost:8080/lists/\"\n";
    let text = text.replace("[endpoints]\n", served).replace("localhost:8843\"", "localhost:9443\"");
    world.write("w/ward.toml", text);
    check().prints(&["not-served", "http://localhost:8080/lists/", "3 warnings"]);
}
