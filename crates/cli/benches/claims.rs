//! Codes and stickers for many devices, against the part of the work that cannot be left out.
//!
//! `cargo bench --bench claims [-- DEVICES]`. The bound of `claim open` is scrypt alone with the ward's cost, on all cores; that of
//! `claim print` is the QR codes of the same links alone, on all cores. Each is measured right before the program, which opens the devices
//! into a CSV and prints it on A4; the round in the middle is told.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::fmt::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use tidy_warden_core::claim::Code;
use tidy_warden_ward::clock::SystemRandom;

/// How often each is run.
const ROUNDS: usize = 3;

fn main() {
    // Cargo itself gives `--bench`.
    let devices = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(10_000usize);
    println!("{devices} devices, {} cores", cores());
    let mut rows: Vec<(Duration, Duration, Duration, Duration)> = Vec::new();
    for _ in 0..ROUNDS {
        let dir = tempfile::tempdir().unwrap();
        fleet(dir.path(), devices);
        let scrypt = digests(devices);
        let count = devices.to_string();
        let open =
            timed(dir.path(), &["claim", "open", "--where", "owner unknown", "--count", &count, "--out", "codes.csv"]);
        let drawn = codes(&std::fs::read_to_string(dir.path().join("codes.csv")).unwrap());
        let print = timed(dir.path(), &["claim", "print", "--from", "codes.csv", "--sheet", "stickers.pdf"]);
        rows.push((scrypt, open, drawn, print));
    }
    rows.sort_by_key(|(_, open, _, print)| *open + *print);
    let (scrypt, open, drawn, print) = rows[ROUNDS / 2];
    told("claim open", open, scrypt, "scrypt alone");
    told("claim print", print, drawn, "QR codes alone");
    println!("both         {:>6.1} s, of a minute that they may take", (open + print).as_secs_f64());
}

fn told(name: &str, took: Duration, bound: Duration, of: &str) {
    let (took, bound) = (took.as_secs_f64(), bound.as_secs_f64());
    println!("{name:<12} {took:>6.1} s, {:.2} times {of} ({bound:.1} s)", took / bound);
}

fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Does something with each of many on all cores.
fn on_all<T: Sync>(all: &[T], act: impl Fn(&T) + Sync) -> Duration {
    let begun = Instant::now();
    std::thread::scope(|scope| {
        for part in all.chunks(all.len().div_ceil(cores()).max(1)) {
            scope.spawn(|| part.iter().for_each(&act));
        }
    });
    begun.elapsed()
}

fn digests(count: usize) -> Duration {
    let codes: Vec<Code> = (0..count).map(|_| Code::new(&mut SystemRandom)).collect();
    on_all(&codes, |code| {
        std::hint::black_box(code.digest([7; 16]));
    })
}

/// The QR codes of the links of a CSV of codes.
fn codes(csv: &str) -> Duration {
    let links: Vec<&str> = csv.lines().skip(1).filter_map(|row| row.rsplit(',').next()).collect();
    on_all(&links, |link| {
        std::hint::black_box(qrcode::QrCode::with_error_correction_level(link, qrcode::EcLevel::M).unwrap());
    })
}

fn timed(dir: &Path, arguments: &[&str]) -> Duration {
    let begun = Instant::now();
    run(dir, arguments);
    begun.elapsed()
}

fn run(dir: &Path, arguments: &[&str]) {
    let mut call = Command::new(env!("CARGO_BIN_EXE_tidy-warden"));
    call.current_dir(dir).args(arguments).arg("--quiet").env("TIDY_WARDEN_PASSPHRASE_FILE", "passphrase.txt");
    let output = call.stdout(Stdio::null()).stderr(Stdio::piped()).output().unwrap();
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

fn fleet(dir: &Path, devices: usize) {
    use std::os::unix::fs::PermissionsExt;
    let secret = dir.join("passphrase.txt");
    std::fs::write(&secret, "a rope of several words\n").unwrap();
    std::fs::set_permissions(&secret, std::fs::Permissions::from_mode(0o600)).unwrap();
    run(dir, &["init", "--name", "Quillfeather Ropeways"]);
    let settings = dir.join("ward.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(settings, text + "\n[kinds.controller]\n").unwrap();
    let mut list = "id,kind\n".to_owned();
    (0..devices).for_each(|number| writeln!(list, "cc-{number:07},controller").unwrap());
    std::fs::write(dir.join("fleet.csv"), list).unwrap();
    run(dir, &["device", "import", "fleet.csv"]);
}
