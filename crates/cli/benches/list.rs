//! Lists of a whole fleet: when the first octet comes, how long all of it takes, and how much memory.
//!
//! `cargo bench --bench list [-- DEVICES]`. The bound is a walk over the same devices and credentials of the same store that does
//! nothing with them, measured right before each list.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::fmt::Write as _;
use std::io::Read;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{OperatorStore, SqliteStore};

fn main() {
    // Cargo itself gives `--bench`.
    let devices = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(1_000_000usize);
    let dir = tempfile::tempdir().unwrap();
    fleet(dir.path(), devices);
    println!("{devices} devices, each with a certificate");
    for list in ["device", "credential"] {
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
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(settings, text + "\n[kinds.windvane]\n").unwrap();
    let mut list = "id,kind,label.site,label.pylon,fact.serial\n".to_owned();
    for number in 0..devices {
        // In an order that is not that of the ids.
        let id = number * 7_919 % devices;
        writeln!(list, "wv-{id:07},windvane,s{},p{},QF-{id:07}", id % 40, id % 997).unwrap();
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
