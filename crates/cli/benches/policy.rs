//! Policies at full size: how fast one decision is, and questions about a whole fleet.
//!
//! `cargo bench --bench policy [-- DEVICES]`. A decision is compared with looking the topic up in a hash table, which could only
//! know topics written out; the fleet's questions, which the program answers from its store, with reading the same rows of
//! the same store and doing nothing with them. Bounds and figures alternate; of several rounds the middle one is told with the
//! lowest and highest.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::collections::{BTreeMap, HashMap};
use std::fmt::Write as _;
use std::hint::black_box;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use tidy_warden_core::condition::Groups;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::policy::{Delivery, Edition, NoMeter, PolicyFile, Publish, Rights, check, fleet_for, reach};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::topic::{TopicFilter, TopicName};
use tidy_warden_store::{OperatorStore, SqliteStore};

const ROUNDS: usize = 5;

/// Sites of the made-up fleet; each has a policy of its own for each of five kinds.
const SITES: usize = 40;

/// What is decided at once; the topics are those of one device.
const DECISIONS: usize = 2_000_000;

const TOPICS: [&str; 4] =
    ["rope/s07/wv-0001/wind", "rope/s07/wv-0001/state", "rope/s07/wv-0001/gust", "rope/s07/wv-0001/ice"];

fn main() {
    // Cargo itself gives `--bench`.
    let devices = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(1_000_000usize);
    decisions();
    subscriptions();
    comparisons();
    fleet(devices);
}

fn middle(mut all: Vec<f64>) -> (f64, f64, f64) {
    all.sort_by(f64::total_cmp);
    (all[all.len() / 2], all[0], all[all.len() - 1])
}

/// Runs `work` for [`DECISIONS`]; gives how many millions a second.
fn rate(work: impl Fn(&str) -> bool) -> f64 {
    let begun = Instant::now();
    let mut hits = 0usize;
    for at in 0..DECISIONS {
        hits += usize::from(work(black_box(TOPICS[at % TOPICS.len()])));
    }
    assert_eq!(hits, DECISIONS, "the hit path is what is measured");
    f64::from(u32::try_from(DECISIONS).unwrap()) / begun.elapsed().as_secs_f64() / 1e6
}

/// How a time grows with a size: 1 is linear, 2 quadratic.
fn exponent(small: (usize, f64), large: (usize, f64)) -> f64 {
    let size = |n: usize| f64::from(u32::try_from(n).unwrap());
    (large.1 / small.1).ln() / (size(large.0) / size(small.0)).ln()
}

/// A gateway that speaks for so many children, each with denies of its own.
fn household(children: usize) -> Rights {
    let text = "policy g { for kind = gateway\n allow subscribe \"rope/{site}/{child}/#\" for children\n \
                allow subscribe \"k/+/x/#\" because \"own\" }\n\
                policy v { for kind = windvane\n deny subscribe \"rope/+/{device}/a/+/secret\"\n \
                deny subscribe \"rope/+/+/+/b/secret\"\n deny subscribe \"rope/+/+/c/#\" }\n";
    let file = PolicyFile { name: "p".to_owned(), text: text.to_owned() };
    let edition = Edition::read(1, &[file], &Groups::new()).unwrap();
    let device = |id: String, kind: &str| {
        let mut device = DeviceRecord::new(id.parse().unwrap(), kind.parse().unwrap(), UnixTime(0));
        device.labels.insert("site".parse().unwrap(), "s07".parse().unwrap());
        device
    };
    let hub = device("hub".to_owned(), "gateway");
    let all: Vec<DeviceRecord> = (0..children)
        .map(|n| DeviceRecord { gateway: Some(hub.id.clone()), ..device(format!("kid-{n}"), "windvane") })
        .collect();
    let settings = "[ward]\nname = \"b\"\n[kinds.windvane]\n[kinds.gateway]\ncarries = [\"windvane\"]\n";
    let settings = Settings::parse(&Source::new("ward.toml", settings)).unwrap();
    edition.rights_with(&hub, &all, &settings)
}

/// Subscriptions of a gateway. The bound is going over the filters of all its children once.
fn subscriptions() {
    println!("\nsubscriptions of a gateway, microseconds for one filter (and growth with the number of children)");
    let filters = ["rope/+/+/x", "rope/#", "#", "rope/s07/kid-7/#", "rope/s07/kid-7/c", "k/+/x/#", "+/+/+/+/+/secret"];
    let mut before: Vec<Option<(usize, f64)>> = vec![None; filters.len()];
    for children in [10usize, 100, 1_000, 10_000, 100_000] {
        let rights = household(children);
        let mut line = format!("  {children:>7} children:");
        for (at, text) in filters.iter().enumerate() {
            let filter: TopicFilter = text.parse().unwrap();
            let rounds = (0..ROUNDS).map(|_| {
                let begun = Instant::now();
                for _ in 0..20 {
                    black_box(rights.subscribe(black_box(&filter), 1, None).is_ok());
                }
                begun.elapsed().as_secs_f64() / 20.0 * 1e6
            });
            let (took, _, _) = middle(rounds.collect());
            let grown =
                before[at].map_or_else(String::new, |small| format!(" ^{:.1}", exponent(small, (children, took))));
            line.push_str(&format!("  {text} {took:.1}{grown}"));
            before[at] = Some((children, took));
        }
        println!("{line}");
    }
}

/// Comparing what a device has before and after a change, with many plain rules.
fn comparisons() {
    println!("\nwhat changes for a device with N rules when one is replaced, milliseconds (and growth)");
    let with = |rules: usize, other: usize| {
        let mut text = "policy p { for kind = windvane\n".to_owned();
        for at in 0..rules {
            let at = if at == 0 { other } else { at };
            writeln!(text, " allow subscribe \"rope/{{device}}/t{at}/#\"").unwrap();
        }
        let file = PolicyFile { name: "p".to_owned(), text: text + "}\n" };
        let edition = Edition::read(1, &[file], &Groups::new()).unwrap();
        let vane = DeviceRecord::new("wv-0001".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
        edition.rights(&vane).grants()
    };
    let mut before: Option<(usize, f64)> = None;
    for rules in [100usize, 300, 1_000, 3_000, 10_000] {
        let (old, new) = (with(rules, 0), with(rules, 1_000_000));
        let rounds = (0..ROUNDS).map(|_| {
            let begun = Instant::now();
            assert_eq!(black_box(old.changes_to(&new)).len(), 2);
            begun.elapsed().as_secs_f64() * 1e3
        });
        let (took, _, _) = middle(rounds.collect());
        let grown = before.map_or_else(String::new, |small| format!(" ^{:.1}", exponent(small, (rules, took))));
        println!("  {rules:>7} rules: {took:.2}{grown}");
        before = Some((rules, took));
    }
}

/// The rights of one vane under a number of policies, `for_all` of which are for every vane.
fn rights(policies: usize, for_all: bool) -> Rights {
    let mut text = String::new();
    for at in 0..policies {
        let site = if for_all || at == 0 { "known".to_owned() } else { format!("= s{at:02}") };
        let own = if at == 0 { String::new() } else { format!("/p{at}") };
        write!(
            text,
            "policy p{at} {{ for kind = windvane and site {site}\n allow publish \"rope/{{site}}/{{device}}{own}/+\"\n \
             allow publish \"rope/{{site}}/{{device}}{own}/wind\" qos <= 1\n \
             allow subscribe \"rope/{{site}}/{{device}}{own}/+\"\n deny publish \"rope/+/+/brake{own}\" }}\n"
        )
        .unwrap();
    }
    let file = PolicyFile { name: "p".to_owned(), text };
    let edition = Edition::read(1, &[file], &Groups::new()).unwrap();
    let mut vane = DeviceRecord::new("wv-0001".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
    vane.labels.insert("site".parse().unwrap(), "s07".parse().unwrap());
    edition.rights(&vane)
}

/// One decision about a topic.
type Work<'a> = &'a dyn Fn(&str) -> bool;

fn decisions() {
    let known: HashMap<String, u32> = TOPICS.iter().map(|topic| ((*topic).to_owned(), 1)).collect();
    println!("decisions, millions a second on one core: middle [lowest..highest], and the ratio to the bound");
    for (name, rights) in [
        ("1 policy", rights(1, false)),
        ("200 policies, of which one or two are for the device", rights(200, false)),
        ("200 policies, all of them for the device", rights(200, true)),
    ] {
        let publish = |text: &str| {
            let topic = TopicName::parse(text).unwrap();
            rights.publish(Publish { topic, qos: 1, retain: false, size: 100 }, &mut NoMeter).is_ok()
        };
        let deliver = |text: &str| rights.deliver(TopicName::parse(text).unwrap()) == Delivery::Deliver;
        let acts: [(&str, Work<'_>); 2] = [("publish", &publish), ("deliver", &deliver)];
        for (what, work) in acts {
            let (mut rates, mut ratios) = (Vec::new(), Vec::new());
            for _ in 0..ROUNDS {
                let bound = rate(|topic| known.contains_key(topic));
                let found = rate(work);
                let bound = (bound + rate(|topic| known.contains_key(topic))) / 2.0;
                rates.push(found);
                ratios.push(found / bound);
            }
            let ((rate, low, high), (ratio, ..)) = (middle(rates), middle(ratios));
            println!("  {what}, {name}: {rate:.2} [{low:.2}..{high:.2}], {ratio:.2} of a hash table's");
        }
    }
}

/// Five kinds at forty sites: stations with cabins behind them, vanes, tension cells, ticket gates.
fn list(devices: usize) -> String {
    let mut text = "id,kind,gateway,label.site,label.pylon,fact.serial\n".to_owned();
    for at in 0..devices {
        let (block, place) = (at / 100, at % 100);
        let (kind, head) = match place {
            0 => ("station", "st"),
            1..=40 => ("windvane", "wv"),
            41..=60 => ("tension", "tc"),
            61..=80 => ("cabin", "cb"),
            _ => ("turnstile", "tg"),
        };
        let gateway = if kind == "cabin" { format!("st-{:07}", block * 100) } else { String::new() };
        writeln!(text, "{head}-{at:07},{kind},{gateway},s{:02},p{at},QF-{at:07}", block % SITES).unwrap();
    }
    text
}

fn policies(site: usize) -> String {
    let mut text = String::new();
    for (kind, report) in
        [("windvane", "wind"), ("tension", "tension"), ("turnstile", "guests"), ("cabin", "door"), ("station", "brake")]
    {
        let own = if kind == "cabin" { "rope/{site}/{gateway}/cabins/{device}" } else { "rope/{site}/{device}" };
        let more = if kind == "station" {
            "allow publish \"rope/{site}/{device}/cabins/{child}/door\" for children\n  \
             allow subscribe \"rope/{site}/+/wind\" because \"it slows down\""
        } else {
            "deny publish \"rope/+/+/brake\" because \"only stations brake\""
        };
        write!(
            text,
            "policy {kind}-s{site:02} {{\n  for kind = {kind} and site = s{site:02}\n  allow connect as \"{{device}}\"\n  \
             allow publish \"{own}/{report}\" qos <= 1, size <= 2KiB\n  allow publish \"{own}/state\" qos <= 0\n  \
             allow subscribe \"rope/{{site}}/{{device}}/settings\"\n  {more}\n  sole publish \"{own}/{report}\"\n}}\n"
        )
        .unwrap();
    }
    text
}

fn program(dir: &Path, args: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tidy-warden"));
    command.current_dir(dir).args(["--ward", "w", "--passphrase-file", "pass.txt"]).args(args);
    command.stdout(Stdio::null()).stderr(Stdio::null()).env_remove("TIDY_WARDEN_NOW");
    command
}

/// Runs the program; gives seconds and the most memory that it held, in MB.
fn run(dir: &Path, args: &[&str]) -> (f64, u64) {
    let begun = Instant::now();
    let mut child = program(dir, args).spawn().unwrap();
    let mut most = 0;
    let status = loop {
        let status = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let peak =
            status.lines().find_map(|line| line.strip_prefix("VmHWM:")).and_then(|rest| rest.split_whitespace().next());
        most = peak.and_then(|kib| kib.parse().ok()).unwrap_or(0).max(most);
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        std::thread::sleep(std::time::Duration::from_millis(2));
    };
    assert!(status.success(), "{args:?}: {status}");
    (begun.elapsed().as_secs_f64(), most / 1024)
}

fn fleet(devices: usize) {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    std::fs::write(dir.join("pass.txt"), "correct horse battery\n").unwrap();
    run(dir, &["init", "--name", "bench", "--enterprise-number", "32473"]);
    let settings = std::fs::read_to_string(dir.join("w/ward.toml")).unwrap();
    let kinds = "\n[kinds.windvane]\n[kinds.tension]\n[kinds.cabin]\n[kinds.turnstile]\n[kinds.station]\ncarries = [\"cabin\"]\n";
    std::fs::write(dir.join("w/ward.toml"), settings + kinds).unwrap();
    for site in 0..SITES {
        std::fs::write(dir.join(format!("w/policies/s{site:02}.policy")), policies(site)).unwrap();
    }
    std::fs::write(dir.join("fleet.csv"), list(devices)).unwrap();
    run(dir, &["device", "import", "fleet.csv"]);
    run(dir, &["policy", "adopt", "--yes", "--because", "bench"]);
    let store = OperatorStore::new(Box::new(SqliteStore::open(&dir.join("w/ward.db")).unwrap()));
    let reading = || {
        let begun = Instant::now();
        let mut count = 0;
        store
            .each_fleet_row(false, &mut |row| {
                count += black_box(row.id.len()).min(1);
                Ok(())
            })
            .unwrap();
        assert_eq!(count, devices);
        begun.elapsed().as_secs_f64()
    };
    let record = store.edition(None).unwrap().unwrap();
    let edition = Edition::read(1, &record.files, &Groups::new()).unwrap();
    let settings = std::fs::read_to_string(dir.join("w/ward.toml")).unwrap();
    let settings = Settings::parse(&Source::new("ward.toml", &settings)).unwrap();
    let all: TopicFilter = "rope/+/+/#".parse().unwrap();
    let mut fleet = fleet_for(&edition, &all);
    store
        .each_fleet_row(fleet.wants_facts(), &mut |row| {
            fleet.add(row).unwrap();
            Ok(())
        })
        .unwrap();
    let timed = |work: &dyn Fn()| {
        let all = (0..ROUNDS).map(|_| {
            let begun = Instant::now();
            work();
            begun.elapsed().as_secs_f64()
        });
        let (time, low, high) = middle(all.collect());
        format!("{time:.2} s [{low:.2}..{high:.2}]")
    };
    println!("{devices} devices in {} classes, 200 policies, once the devices are read:", fleet.class_count());
    println!("  check: {}", timed(&|| drop(black_box(check(&fleet, &settings, &Groups::new(), &BTreeMap::new())))));
    println!("  reach rope/+/+/#: {}", timed(&|| drop(black_box(reach(&fleet, &settings, &all)))));
    println!(
        "{devices} devices, 200 policies: seconds, most memory, and times the time that reading the devices takes"
    );
    for args in [
        &["policy", "check"][..],
        &["policy", "reach", "rope/s07/+/brake"],
        &["policy", "reach", "rope/+/+/#"],
        &["policy", "compare", "none", "1"],
    ] {
        let (mut times, mut ratios, mut most) = (Vec::new(), Vec::new(), 0);
        for _ in 0..ROUNDS {
            let bound = reading();
            let (time, memory) = run(dir, args);
            let bound = f64::midpoint(bound, reading());
            times.push(time);
            ratios.push(time / bound);
            most = most.max(memory);
        }
        let ((time, low, high), (ratio, ..)) = (middle(times), middle(ratios));
        println!("  {}: {time:.2} s [{low:.2}..{high:.2}], {most} MB, {ratio:.1} times", args.join(" "));
    }
}
