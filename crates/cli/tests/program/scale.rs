//! `simulate scale`: what it counts is what was to be done, and what it works out follows from what it measured.

use serde_json::Value;
use tidy_warden_rig::Cluster;

use crate::harness::World;

fn measured(world: &World, more: &[&str]) -> Value {
    let call =
        ["--quiet", "--format", "json", "simulate", "scale", "--devices", "300", "--guards", "2", "--for", "20m"];
    let ran = world.run(&[&call[..], more].concat()).exits(0);
    serde_json::from_str(&ran.stdout).unwrap()
}

fn number(value: &Value) -> f64 {
    value.as_f64().unwrap()
}

fn near(one: f64, other: f64) -> bool {
    (one - other).abs() <= other.abs() * 1e-6
}

#[test]
fn a_day_of_guards_without_sockets_is_measured_in_a_file_and_in_a_database() {
    let world = World::new();
    let cluster = Cluster::shared();
    let address = cluster.address(&cluster.database());
    for (engine, store) in [("SQLite", None), ("PostgreSQL", Some(["--store", &address]))] {
        let more = store.as_ref().map_or(&[][..], |store| &store[..]);
        let told = measured(&world, more);
        assert_eq!(told["schema"], "tidy-warden/scale/1");
        assert!(told["engine"].as_str().unwrap().starts_with(engine), "{told}");
        // 300 devices, one in ten of which speaks within a minute, less those that were revoked after ten.
        let day = &told["day"];
        assert!((590..=600).contains(&day["messages"].as_u64().unwrap()), "{day}");
        assert_eq!((&day["revoked"], &day["late"], &day["seconds"]), (&2.into(), &0.into(), &1200.into()));
        let costs = &told["costs"];
        for (name, cost) in costs.as_object().unwrap() {
            assert!(number(cost) > 0.0, "{name}");
        }
        let fleets = told["plan"].as_array().unwrap();
        for (fleet, devices) in fleets.iter().zip([1e6, 1e7, 1e8]) {
            assert!(near(number(&fleet["devices"]), devices));
            assert!(near(number(&fleet["messages"]), devices / 600.0), "{fleet}");
            assert!(near(number(&fleet["room_octets"]), devices * number(&costs["room_octets"])));
            let enter = (number(&costs["handshake_us"]) + number(&costs["connect_us"])) / 1e6;
            assert!(near(number(&fleet["cores_back"]), devices / 900.0 * enter), "{fleet}");
            let counts = devices / 600.0 * number(&costs["count_us"]) / 1e6;
            assert!(near(number(&fleet["count_lock"]), counts), "{fleet}");
        }
        assert_eq!(fleets.len(), 3);
    }
    // What is there already is not measured over.
    let again = ["simulate", "scale", "--devices", "300", "--store", &address];
    world.run(&again).exits(3).says(&["there is a ward already"]);
}

#[test]
fn a_simulation_that_makes_no_sense_is_refused() {
    let world = World::new();
    let refused = |more: &[&str], says: &str| {
        world.run(&[&["simulate", "scale"], more].concat()).exits(2).says(&[says]);
    };
    refused(&["--for", "8d"], "too long");
    refused(&["--speaking", "101"], "a share in percent");
    refused(&["--connecting", "-1"], "");
    refused(&["--devices", "299"], "299");
    refused(&["--guards", "0"], "0");
    refused(&["--store", "mysql://x"], "--store");
}
