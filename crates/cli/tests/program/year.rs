//! A year of a small fleet with a driven clock: devices renew by themselves, and of those that do not somebody hears in time.

mod fleet;

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use crate::desk::Desk;
use crate::harness::{KINDS, POLICY, World};

const DEVICES: usize = 6;

/// How many days a step has.
const STEP: i64 = 7;

struct Year {
    world: World,
    begins: i64,
    day: i64,
    desk: Option<Desk>,
}

impl Year {
    fn begin() -> Self {
        let world = World::new().with("TIDY_WARDEN_NOW", "@now");
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
        let mut year = Self { world, begins: i64::try_from(now).unwrap(), day: 0, desk: None };
        year.to(0);
        let world = &year.world;
        world.run(&["init", "--name", "Rehearsal", "--host", "localhost", "--rehearsal"]).exits(0);
        let kinds = KINDS.replace("token_login = true", "token_login = true\nlife = \"90d\"\nrenews = \"device\"");
        world.append("w/ward.toml", &kinds);
        let mut list = "id,kind,label.site\n".to_owned();
        (1..=DEVICES).for_each(|number| list.push_str(&format!("wv-{number},windvane,ossel\n")));
        world.write("fleet.csv", list);
        world.adopt(POLICY);
        world.run(&["enroll", "--from", "fleet.csv", "--out", "outfits", "--yes"]).exits(0);
        year.desk = Some(Desk::start(&year.world));
        year
    }

    /// Moves the clock; whoever looks meanwhile sees one time or the other.
    fn to(&mut self, day: i64) {
        self.day = day;
        let at = tidy_warden_core::time::UnixTime(self.begins + day * 86_400).to_string();
        self.world.write("now.next", at);
        std::fs::rename(self.world.path("now.next"), self.world.path("now")).unwrap();
    }

    /// What a device does each day; says whether it was told that all is well.
    fn calls(&self, id: &str) -> bool {
        let address = self.desk.as_ref().unwrap().address;
        let url = format!("https://localhost:{}", address.port());
        let ran = self.world.run(&["join", &url, "--renew", "--out", &format!("outfits/{id}")]);
        ran.code == 0
    }

    /// Who is due within some days and needs a person. That no desk was seen for an hour is left out: the clock jumps by days here, and the
    /// desk says that it is there every few seconds.
    fn needy(&self, within: &str) -> Vec<String> {
        let due = self.world.run(&["due", "--within", within, "--format", "json"]).exits(0).json();
        let items = due["due"].as_array().unwrap().iter().filter(|item| item["what"] == "certificate");
        let is_needy =
            |item: &&Value| item["happens"] == "needs-you" && !item["why"].as_str().unwrap().starts_with("no desk");
        items.filter(is_needy).map(|item| item["name"].as_str().unwrap().to_owned()).collect()
    }

    fn states(&self) -> BTreeMap<String, String> {
        let all = self.world.run(&["device", "list", "--format", "json"]).exits(0).json();
        let state =
            |each: &Value| (each["id"].as_str().unwrap().to_owned(), each["state"].as_str().unwrap().to_owned());
        all["devices"].as_array().unwrap().iter().map(state).collect()
    }
}

#[test]
fn nobody_ends_unnoticed_in_a_year_of_kills_thefts_and_a_new_authority() {
    let mut year = Year::begin();
    // Whoever was told to need a person, and who ended.
    let (mut told, mut ended) = (BTreeSet::new(), BTreeSet::new());
    let mut signers = BTreeSet::new();
    for step in 1..=365 / STEP {
        year.to(step * STEP);
        let day = year.day;
        match step {
            14 => {
                let revoke = ["revoke", "wv-4", "--reason", "keyCompromise", "--because", "stolen", "--yes"];
                year.world.run(&revoke).exits(0);
            }
            20 => drop(year.world.run(&["hold", "wv-5", "--because", "odd", "--yes"]).exits(0)),
            22 => drop(year.world.run(&["release", "wv-5", "--because", "fine", "--yes"]).exits(0)),
            26 => drop(year.world.run(&["authority", "add", "devices-2", "--replaces", "devices"]).exits(0)),
            _ => {}
        }
        if step % 9 == 0 || step == 27 {
            // Killed between any two requests; the next one finds everything where it was.
            year.desk = None;
            year.desk = Some(Desk::start(&year.world));
        }
        // Before they call: what they did not do until now is seen as it is.
        told.extend(year.needy("21d"));
        ended.extend(year.states().into_iter().filter(|(_, state)| state == "ended").map(|(id, _)| id));
        for number in 1..=DEVICES {
            let id = format!("wv-{number}");
            match number {
                // Away for three weeks, and again.
                2 if step % 12 < 3 => {}
                // One that does not renew any more.
                3 if step > 4 => {}
                4 if step >= 14 => assert!(!year.calls(&id), "the thief is refused, day {day}"),
                5 if (20..22).contains(&step) => assert!(!year.calls(&id), "it is on hold, day {day}"),
                _ => assert!(year.calls(&id), "{id}, day {day}"),
            }
        }
        let shown = year.world.run(&["credential", "list", "--format", "jsonl"]).exits(0).stdout;
        let all = shown.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
        signers.extend(all.map(|each| each["authority"].as_str().unwrap().to_owned()));
    }
    let states = year.states();
    for (id, state) in &states {
        let wanted: &[&str] = match id.as_str() {
            "wv-3" => &["ended"],
            "wv-4" => &["out"],
            _ => &["equipped", "issued", "live"],
        };
        assert!(wanted.contains(&state.as_str()), "{id} is {state}");
    }
    assert_eq!(ended.into_iter().collect::<Vec<_>>(), ["wv-3"]);
    assert!(told.contains("wv-3"), "before its end somebody was told: {told:?}");
    assert!(told.iter().all(|id| ["wv-3", "wv-5"].contains(&id.as_str())), "and nobody without need: {told:?}");
    assert_eq!(signers.into_iter().collect::<Vec<_>>(), ["devices", "devices-2"]);
    // Four renewals and more each, and every one of them in the record, which is whole.
    let renewed = year.world.run(&["audit", "log", "--subject", "wv-1", "--format", "json"]).exits(0).json();
    let issued =
        renewed["entries"].as_array().unwrap().iter().filter(|entry| entry["act"] == "credential.issue").count();
    assert!((4..=7).contains(&issued), "{issued} certificates in a year");
    year.world.run(&["audit", "verify"]).exits(0).prints(&["is whole", "hold what it says"]);
}
