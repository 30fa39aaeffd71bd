//! Many at once: races, crashes, and a fleet that comes in by itself.

use std::collections::HashSet;
use std::sync::Mutex;
use std::time::Duration;

use tidy_warden_core::key::SoftwareKey;
use tidy_warden_simulate::Login;

use super::{Client, Desk, admitted, fresh, given, world};
use crate::harness::{Guard, POLICY, World, block_on};

/// Secrets of admissions for `wv-0` and so on.
fn list(world: &World, count: usize) -> Vec<String> {
    let rows: String = (0..count).map(|number| format!("wv-{number},windvane,ossel\n")).collect();
    world.write("list.csv", format!("id,kind,label.site\n{rows}"));
    world.run(&["admission", "import", "list.csv", "--out", "s.csv"]).exits(0);
    let text = std::fs::read_to_string(world.path("s.csv")).unwrap();
    text.lines().skip(1).map(|line| line.rsplit(',').next().unwrap().to_owned()).collect()
}

#[test]
fn fifty_callers_at_two_desks_get_one_certificate() {
    let world = world();
    let secret = admitted(&world, "wv-9", &[]);
    let desks = [Desk::start(&world), Desk::start(&world)];
    let clients = [Client::of(&world, &desks[0]), Client::of(&world, &desks[1])];
    let user = format!("wv-9:{secret}");
    let answers: Vec<(u16, String)> = std::thread::scope(|scope| {
        let calls: Vec<_> = (0..50)
            .map(|number| {
                let (client, user) = (&clients[number % 2], &user);
                scope.spawn(move || client.enroll(Some(user), "simpleenroll", &fresh().1))
            })
            .collect();
        calls.into_iter().map(|call| call.join().unwrap()).collect()
    });
    let good: Vec<_> = answers.iter().filter(|(status, _)| *status == 200).collect();
    assert_eq!(good.len(), 1, "{answers:?}");
    assert!(answers.iter().all(|(status, _)| [200, 401].contains(status)));
    let shown = world.run(&["device", "show", "wv-9", "--format", "json"]).exits(0).json();
    assert_eq!(shown["credentials"].as_array().unwrap().len(), 1);
    assert_eq!(shown["credentials"][0]["fingerprint"], given(&good[0].1).fingerprint.to_string());
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_desk_that_is_killed_in_the_middle_doubles_nothing_and_everybody_calls_again() {
    let world = world();
    world.append("w/ward.toml", "[desk]\nrequests_per_source = 100000\n");
    let secrets = list(&world, 200);
    let mut desk = Desk::start(&world);
    let mut client = Client::of(&world, &desk);
    let asks: Vec<(String, SoftwareKey, Vec<u8>)> = secrets
        .iter()
        .enumerate()
        .map(|(number, secret)| {
            let (key, request) = fresh();
            (format!("wv-{number}:{secret}"), key, request)
        })
        .collect();
    // What each was given, as far as it heard of it.
    let heard: Mutex<Vec<Option<String>>> = Mutex::new(vec![None; asks.len()]);
    for round in 0..4 {
        std::thread::scope(|scope| {
            for thread in 0..8 {
                let (client, asks, heard) = (&client, &asks, &heard);
                scope.spawn(move || {
                    for at in (thread..asks.len()).step_by(8) {
                        if heard.lock().unwrap()[at].is_some() {
                            continue;
                        }
                        let (user, _, request) = &asks[at];
                        // A desk that is gone refuses the connection, or breaks off.
                        let Some((200, body)) = client.try_enroll(Some(user), "simpleenroll", request) else {
                            continue;
                        };
                        heard.lock().unwrap()[at] = Some(given(&body).fingerprint.to_string());
                    }
                });
            }
            if round < 3 {
                std::thread::sleep(Duration::from_millis(50 + 60 * round));
                desk.running.signal("KILL");
            }
        });
        if round < 3 {
            desk = Desk::start(&world);
            client = Client::of(&world, &desk);
        }
    }
    let heard = heard.into_inner().unwrap();
    assert!(heard.iter().all(Option::is_some), "everybody has a certificate in the end");
    // Each has exactly one certificate, and whoever asks once more is given that one.
    let credentials = world.run(&["credential", "list", "--format", "json"]).exits(0).json();
    let all = credentials["credentials"].as_array().unwrap();
    assert_eq!(all.len(), asks.len());
    let devices: HashSet<&str> = all.iter().map(|each| each["device"].as_str().unwrap()).collect();
    assert_eq!(devices.len(), asks.len());
    let recorded: HashSet<&str> = all.iter().map(|each| each["fingerprint"].as_str().unwrap()).collect();
    assert!(
        heard.iter().flatten().all(|given| recorded.contains(given.as_str())),
        "nothing was given that is not on record"
    );
    for ((user, _, request), before) in asks.iter().zip(&heard).step_by(17) {
        let (status, body) = client.enroll(Some(user), "simpleenroll", request);
        assert_eq!((status, Some(given(&body).fingerprint.to_string())), (200, before.clone()));
    }
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_fleet_comes_in_by_itself_and_speaks() {
    const FLEET: usize = 500;
    let world = world();
    world.append("w/ward.toml", "[desk]\nrequests_per_source = 100000\n");
    world.adopt(POLICY);
    let secrets = list(&world, FLEET);
    let desk = Desk::start(&world);
    let guard = Guard::start(&world, "builtin");
    let client = Client::of(&world, &desk);
    let ders = |name: &str| {
        let all =
            tidy_warden_core::certificate::Certificate::read_all(&std::fs::read(world.path(name)).unwrap()).unwrap();
        all.iter().map(|each| each.der().to_vec()).collect::<Vec<_>>()
    };
    let (root, issuing) = (ders("trust/root.pem").remove(0), ders("trust/issuing.pem"));
    std::thread::scope(|scope| {
        for thread in 0..4 {
            let (client, secrets, root, issuing) = (&client, &secrets, &root, &issuing);
            scope.spawn(move || {
                for number in (thread..FLEET).step_by(4) {
                    let (key, request) = fresh();
                    let id = format!("wv-{number}");
                    let (status, body) =
                        client.enroll(Some(&format!("{id}:{}", secrets[number])), "simpleenroll", &request);
                    assert_eq!(status, 200, "{id}: {body}");
                    let chain = [vec![given(&body).der().to_vec()], issuing.clone()].concat();
                    let login =
                        Login::new(root, Some((chain, key.to_pkcs8().unwrap().to_vec())), "localhost", &id).unwrap();
                    block_on(async {
                        let mut device = login.connect(guard.address).await.unwrap();
                        assert!(device.publish(&format!("rope/ossel/{id}/wind"), b"7").await.unwrap().is_ok());
                        device.goodbye().await;
                    });
                }
            });
        }
    });
    let live = crate::harness::eventually(|| {
        let list =
            world.run(&["device", "list", "--where", "state = live", "--columns", "id", "--format", "json"]).exits(0);
        (list.json()["devices"].as_array().unwrap().len() == FLEET).then_some(())
    });
    assert!(live.is_some(), "all of them are live");
}
