//! The desk's page for owners in a real browser, and its interface for programs, held against its description.

use std::process::Command;

use serde_json::{Value, json};

use crate::desk::{Desk, curl};
use crate::door::python;
use crate::harness::{KINDS, World, free_port};

const BROWSER: &str = include_str!("browser.py");
const INTERFACE: &str = include_str!("interface.py");

/// A ward with cabins and two owners, and its desk.
fn world() -> (World, Desk) {
    let world = World::driven(&format!("{KINDS}[kinds.cabin]\nnames = [\"dns:{{device}}.example.org\"]\n"));
    world.write("list.csv", "id,kind\ncb-01,cabin\ncb-02,cabin\ncb-03,cabin\ncb-04,cabin\ncb-05,cabin\n");
    world.run(&["device", "import", "list.csv"]).exits(0);
    world.run(&["owner", "add", "brindle-pass", "--place", "site=brindle"]).exits(0);
    world.run(&["owner", "add", "saint-ivo", "--place", "site=ivo", "--place", "site=ivo-north"]).exits(0);
    let desk = Desk::start(&world);
    (world, desk)
}

fn code(world: &World, device: &str) -> String {
    let opened = world.run(&["claim", "open", device, "--format", "json"]).exits(0).json();
    opened["code"].as_str().unwrap().to_owned()
}

/// An address of the ward at the port where its desk listens in this test.
fn here(desk: &Desk, link: &str) -> String {
    let (_, rest) = link.split_once("localhost:8843").unwrap();
    desk.url(rest)
}

fn link(world: &World, desk: &Desk, owner: &str) -> String {
    let made = world.run(&["owner", "link", owner, "--format", "json"]).exits(0).json();
    here(desk, made["link"].as_str().unwrap())
}

#[test]
fn an_owner_signs_in_claims_hands_over_and_gives_up_in_a_browser_at_both_widths() {
    let (world, desk) = world();
    world.write("browser.py", BROWSER);
    let (first, second, wrong) = (code(&world, "cb-01"), code(&world, "cb-02"), code(&world, "cb-03"));
    // Pictures stay where somebody wants to look at them.
    let pictures = std::env::var("TIDY_WARDEN_PICTURES").unwrap_or_else(|_| world.path(".").display().to_string());
    let job = json!({
        "port": free_port(), "base": desk.url(""), "pictures": pictures,
        "link": link(&world, &desk, "brindle-pass"), "other_link": link(&world, &desk, "saint-ivo"),
        "sticker": desk.url(&format!("/claim?device=cb-01&code={first}")), "wrong_code": wrong,
        "typed": ["cb-02", second], "names": ["brindle-pass", "saint-ivo"], "place": "ivo-north",
    });
    world.write("job.json", job.to_string());
    let ran = Command::new("timeout")
        .args(["170", "python3", "browser.py", "job.json"])
        .current_dir(world.path("."))
        .output()
        .unwrap();
    let said = format!("{}{}", String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr));
    assert!(ran.status.success(), "{said}\n{}", desk.running.lines().join("\n"));
    // Neither codes nor links are in the log.
    let log = desk.running.lines().join("\n");
    let secrets = [first.as_str(), &second, &wrong, job["link"].as_str().unwrap().rsplit('=').next().unwrap()];
    for secret in secrets {
        assert!(!log.contains(secret), "{secret} is in the log:\n{log}");
    }
    let log = world.run(&["audit", "log", "--format", "json"]).exits(0).stdout;
    assert!(log.contains("owner:brindle-pass") && log.contains("claim.hand-over") && log.contains("claim.give-up"));
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn the_interface_answers_as_its_description_says_and_each_door_takes_its_own_tokens_only() {
    let (world, desk) = world();
    world.write("interface.py", INTERFACE);
    // A device that is named exactly like an owner.
    world.append("w/ward.toml", "\n[kinds.turnstile]\ntoken_login = true\nnames = [\"dns:{device}.example.org\"]\n");
    world.run(&["device", "add", "brindle-pass", "--kind", "turnstile"]).exits(0);
    let token = |scope: &[&str], owner: &str| {
        let scopes: Vec<&str> = scope.iter().flat_map(|scope| ["--scope", scope]).collect();
        let args = [&["owner", "token", owner, "--format", "json"], &scopes[..]].concat();
        world.run(&args).exits(0).json()["token"].as_str().unwrap().to_owned()
    };
    let all = ["devices:read", "devices:claim", "devices:give"];
    let device_token = world.run(&["token", "issue", "brindle-pass", "--for", "1h"]).exits(0).stdout;
    let for_owners =
        world.run(&["token", "issue", "brindle-pass", "--for", "1h", "--audience", "https://localhost:8843/owner/v1"]);
    let job = json!({
        "base": desk.url(""), "token": token(&all, "brindle-pass"), "reads": token(&all[..1], "brindle-pass"),
        "other": token(&all, "saint-ivo"), "link": link(&world, &desk, "saint-ivo"), "device_token": device_token.trim(),
        "device_token_for_owners": for_owners.exits(0).stdout.trim(),
        "codes": {"cb-01": code(&world, "cb-01"), "cb-02": code(&world, "cb-02"), "cb-03": code(&world, "cb-03")},
    });
    world.write("job.json", job.to_string());
    let ran = world.other("timeout", &["100", "/usr/bin/python3", "interface.py", "job.json"]);
    assert_eq!(ran.code, 0, "{ran}\n{}", desk.running.lines().join("\n"));
    // An owner's token is none of a device's.
    let of_owner = job["token"].as_str().unwrap();
    world.secret("owner.token", of_owner);
    let judged = world.run(&["token", "verify", "--file", "owner.token"]);
    assert_eq!(judged.code, 3, "{judged}");
    // Signed out, all of its tokens are worth nothing.
    world.run(&["owner", "sign-out", "brindle-pass", "--yes"]).exits(0);
    let header = format!("Authorization: Bearer {of_owner}");
    std::thread::sleep(std::time::Duration::from_millis(50));
    let (status, words) = curl(&world, &desk.url("/owner/v1/devices"), &["-H", &header]);
    assert_eq!(status, 401, "{words}");
    let _: Value = serde_json::from_str(&words).unwrap();
    let _ = python(&world);
}
