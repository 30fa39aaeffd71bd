//! Lists of a whole fleet: when the first octet comes, how long all of it takes, and how much memory.
//!
//! `cargo bench --bench list [-- DEVICES] [due]`. The bound is a walk over the same devices and credentials of the same store that does
//! nothing with them, measured right before each list.
//!
//! Then `due` with its forecast, each time by a program that begins anew, beside a walk over the same rows that does nothing with them; and
//! the same with what the system keeps of the disk let go before, where that can be done. Last a rotation of all, and one of shared keys. `due` as an argument leaves out the lists.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::fmt::Write as _;
use std::io::Read;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::Origin;
use tidy_warden_core::due::DeviceEnds;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey, sha256, thumbprint};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{Cause, KeyReplaces, NewCredential, OperatorStore, SqliteStore};

/// How many devices a look of a rotation asks.
const LOOK: u32 = 20_000;

fn main() {
    // Cargo itself gives `--bench`.
    let devices = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(1_000_000usize);
    let dir = tempfile::tempdir().unwrap();
    fleet(dir.path(), devices);
    println!("{devices} devices, each with a certificate");
    let lists: &[&str] = if std::env::args().any(|word| word == "due") { &[] } else { &["device", "credential"] };
    for list in lists {
        for format in ["jsonl", "json", "csv", "table"] {
            let bound = walk(dir.path(), list);
            let Listed { first, all, octets, memory } = listed(dir.path(), list, format);
            println!(
                "{list:<10} {format:<5} first octet {:>3} ms, all {:>5.1} s, {:.1} times the walk; {:>3} MB of memory, {} MB written",
                first.as_millis(),
                all.as_secs_f64(),
                all.as_secs_f64() / bound.as_secs_f64(),
                memory / 1024,
                octets / 1_000_000,
            );
        }
    }
    due(dir.path());
    rotation(dir.path(), devices);
    shared_keys(dir.path(), devices);
}

/// Times `due`, in ways that differ in what they have to keep.
fn due(dir: &Path) {
    for call in [
        &["due"][..],
        &["due", "--by", "site"],
        &["due", "--within", "400d", "--spread"],
        &["due", "--within", "400d", "--plot", "due.svg"],
        &["due", "--within", "400d", "--format", "jsonl"],
    ] {
        let mut ratios = Vec::new();
        let mut took = Vec::new();
        for _ in 0..5 {
            let bound = ends(dir);
            let begun = Instant::now();
            let output = program(dir, call).stdout(Stdio::null()).output().unwrap();
            assert!(output.status.success(), "{call:?}");
            took.push(begun.elapsed().as_secs_f64());
            ratios.push(begun.elapsed().as_secs_f64() / bound.as_secs_f64());
        }
        ratios.sort_by(f64::total_cmp);
        took.sort_by(f64::total_cmp);
        println!(
            "{:<36} {:.2} s, {:.2} [{:.2}..{:.2}] times the walk over ends",
            call.join(" "),
            took[2],
            ratios[2],
            ratios[0],
            ratios[4]
        );
    }
    if std::fs::write("/proc/sys/vm/drop_caches", "3").is_ok() {
        let begun = Instant::now();
        assert!(program(dir, &["due"]).stdout(Stdio::null()).status().unwrap().success());
        println!("due, nothing of the disk kept        {:.2} s", begun.elapsed().as_secs_f64());
    }
}

/// Times preparing a rotation of all, and asking: how many a second where nothing else is done.
fn rotation(dir: &Path, devices: usize) {
    let timed = |call: &[&str]| {
        let begun = Instant::now();
        assert!(program(dir, call).stdout(Stdio::null()).status().unwrap().success(), "{call:?}");
        begun.elapsed().as_secs_f64()
    };
    let bound = walk(dir, "device").as_secs_f64();
    let took = timed(&["rotation", "prepare", "all", "--where", "id matches \"wv-*\"", "--rounds", "100%"]);
    println!("rotation prepare                     {took:.1} s, {:.1} times the walk over devices", took / bound);
    timed(&["rotation", "start", "all", "--yes"]);
    // What one look asks, while there are enough of them: first so that devices learn of it when they call, then each by an errand of
    // its own, signed.
    let looks = (devices / 2 / usize::try_from(LOOK).unwrap()).min(5);
    if looks == 0 {
        return println!("too few devices to time what a look of a rotation asks: {} are enough", 2 * LOOK);
    }
    for by in ["when they call", "by errands"] {
        if by == "by errands" {
            let settings = std::fs::read_to_string(dir.join("ward.toml")).unwrap();
            let kind = "renews = \"device\"";
            assert!(settings.contains(kind));
            std::fs::write(dir.join("ward.toml"), settings.replace(kind, "renews = \"errand\"")).unwrap();
        }
        let mut asked = Vec::new();
        for _ in 0..looks {
            asked.push(f64::from(LOOK) / timed(&["rotation", "run", "all", "--once"]));
        }
        asked.sort_by(f64::total_cmp);
        println!(
            "rotation run --once, {by:<15} asks {:.0} [{:.0}..{:.0}] devices a second",
            asked[looks / 2],
            asked[0],
            asked[looks - 1]
        );
    }
}

/// Times sending devices the keys that they share with the ward next: each is made, sealed to its device's own key, and signed.
fn shared_keys(dir: &Path, devices: usize) {
    let of = "kind = windvane-0 and site = s0";
    let ids: Vec<DeviceId> = (0..devices).step_by(120).map(|id| format!("wv-{id:07}").parse().unwrap()).collect();
    if ids.len() < 1_000 {
        return println!("too few devices to time what is sent: {} are enough", 120 * 1_000);
    }
    let settings = std::fs::read_to_string(dir.join("ward.toml")).unwrap();
    let kind = "[kinds.windvane-0]\n";
    assert!(settings.contains(kind));
    let more = format!("{kind}shared_keys = true\nrenews_keys = \"errand\"\n");
    std::fs::write(dir.join("ward.toml"), settings.replace(kind, &more)).unwrap();
    let timed = |call: &[&str]| {
        let begun = Instant::now();
        assert!(program(dir, call).stdout(Stdio::null()).status().unwrap().success(), "{call:?}");
        begun.elapsed().as_secs_f64()
    };
    let count = ids.len().to_string();
    timed(&["key", "add", "--where", of, "--shared", "--pack", "keys.tar.zst", "--count", &count]);
    let mut store = OperatorStore::new(Box::new(SqliteStore::open(&dir.join("ward.db")).unwrap()));
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let now = UnixTime(now.try_into().unwrap());
    for id in &ids {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let kid = thumbprint(key.public_key()).unwrap();
        let (spki, digest) = (key.public_key().spki(), sha256(key.public_key().spki()));
        let new = NewCredential {
            device: id,
            origin: Origin::Key,
            authority: None,
            der: spki,
            fingerprint: Fingerprint(digest),
            serial: None,
            key_digest: digest,
            key_type: "p256",
            not_before: now,
            not_after: now.plus(Span::from_days(400)),
            again: true,
            overlap: Span::from_seconds(0),
            fresh_key: true,
            authorised_by: None,
            kid: Some(&kid),
            note: None,
        };
        let cause = Cause { at: now, actor: "bench".to_owned(), because: String::new() };
        store.add_key(&new, KeyReplaces::Nothing, &cause, &mut || Ok(())).unwrap().unwrap();
    }
    drop(store);
    timed(&["rotation", "prepare", "keys", "--where", of, "--of", "shared-keys", "--rounds", "100%"]);
    timed(&["rotation", "start", "keys", "--yes"]);
    // What opening keys takes is measured by a look that asks nobody.
    let all = timed(&["rotation", "run", "keys", "--once"]);
    let none = timed(&["rotation", "run", "keys", "--once"]);
    let (count, took) = (f64::from(u32::try_from(ids.len()).unwrap()), (all - none).max(0.001));
    println!(
        "rotation of shared keys              sends {count} devices theirs, {:.0} a second ({took:.2} s)",
        count / took
    );
}

/// Walks all ends of credentials.
fn ends(dir: &Path) -> Duration {
    let store = OperatorStore::new(Box::new(SqliteStore::open(&dir.join("ward.db")).unwrap()));
    let (begun, mut seen) = (Instant::now(), 0usize);
    let mut see = |row: &DeviceEnds<'_>| {
        seen += row.credentials.len();
        Ok(())
    };
    store.each_ending(UnixTime(0), None, &mut see).unwrap();
    assert!(seen > 0);
    begun.elapsed()
}

/// Walks all devices, or all credentials in the order of their ends.
fn walk(dir: &Path, list: &str) -> Duration {
    let store = OperatorStore::new(Box::new(SqliteStore::open(&dir.join("ward.db")).unwrap()));
    let (begun, mut seen) = (Instant::now(), 0usize);
    let mut see = || {
        seen += 1;
        true
    };
    match list {
        "device" => store.each_device_by_id(None, UnixTime(0), &mut |_| see()).unwrap(),
        _ => store.each_by_end(None, UnixTime(0), &mut |_| see()).unwrap(),
    }
    assert!(seen > 0);
    begun.elapsed()
}

struct Listed {
    first: Duration,
    all: Duration,
    octets: usize,
    /// The most that was resident, in KiB.
    memory: usize,
}

fn listed(dir: &Path, list: &str, format: &str) -> Listed {
    let begun = Instant::now();
    let mut child = program(dir, &[list, "list", "--format", format]).stdout(Stdio::piped()).spawn().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut out = child.stdout.take().unwrap();
    let mut room = vec![0; 1 << 20];
    let (mut first, mut octets, mut memory) = (None, 0, 0);
    loop {
        let read = out.read(&mut room).unwrap();
        if read == 0 {
            break;
        }
        first.get_or_insert_with(|| begun.elapsed());
        octets += read;
        let status = std::fs::read_to_string(&status).unwrap_or_default();
        let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let peak = peak.and_then(|text| text.trim().trim_end_matches(" kB").parse().ok());
        memory = peak.unwrap_or(0).max(memory);
    }
    assert!(child.wait().unwrap().success());
    Listed { first: first.unwrap(), all: begun.elapsed(), octets, memory }
}

/// How many kinds there are.
const KINDS: usize = 12;

fn fleet(dir: &Path, devices: usize) {
    use std::os::unix::fs::PermissionsExt;
    let secret = dir.join("passphrase.txt");
    std::fs::write(&secret, "a rope of several words\n").unwrap();
    std::fs::set_permissions(&secret, std::fs::Permissions::from_mode(0o600)).unwrap();
    let run = |arguments: &[&str]| {
        let output = program(dir, arguments).stdout(Stdio::null()).stderr(Stdio::piped()).output().unwrap();
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    };
    run(&["init", "--name", "Quillfeather Ropeways", "--enterprise-number", "32473"]);
    let settings = dir.join("ward.toml");
    // Of different lives, so that their certificates end all over the year.
    let kind = |number: usize| {
        format!("\n[kinds.windvane-{number}]\nlife = \"{}d\"\nrenews = \"device\"\n", 33 * (number + 1))
    };
    let kinds: String = (0..KINDS).map(kind).collect();
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(settings, text + &kinds).unwrap();
    let mut list = "id,kind,label.site,label.pylon,fact.serial\n".to_owned();
    for number in 0..devices {
        // In an order that is not that of the ids.
        let id = number * 7_919 % devices;
        writeln!(list, "wv-{id:07},windvane-{},s{},p{},QF-{id:07}", id % KINDS, id % 40, id % 997).unwrap();
    }
    std::fs::write(dir.join("fleet.csv"), list).unwrap();
    run(&["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst", "--yes"]);
    std::fs::remove_file(dir.join("fleet.tar.zst")).unwrap();
}

fn program(dir: &Path, arguments: &[&str]) -> Command {
    let mut call = Command::new(env!("CARGO_BIN_EXE_tidy-warden"));
    call.current_dir(dir).args(arguments).arg("--quiet").env("TIDY_WARDEN_PASSPHRASE_FILE", "passphrase.txt");
    call.stderr(Stdio::inherit());
    call
}
