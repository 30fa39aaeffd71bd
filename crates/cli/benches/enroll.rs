//! Bulk enrolment against what the crypto library can do on the same cores in the same run.
//!
//! `cargo bench --bench enroll [-- DEVICES]`. The bound is raw key generation and signing (or verifying and signing, for
//! requests) on all cores with nothing else: no encoding, no store, no disk. It is measured right before and after each run of
//! the program; the ratio is to the mean of both, and of several rounds the middle one is told with the lowest and highest.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::fmt::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1, ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair, KeyPair, UnparsedPublicKey,
};
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_simulate::certification_request;

/// How often the program is run.
const ROUNDS: usize = 5;

/// About as long as the part of a certificate that is signed.
const MESSAGE: [u8; 480] = [7; 480];

fn main() {
    // Cargo itself gives `--bench`.
    let devices = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(100_000usize);
    let dir = tempfile::tempdir().unwrap();
    println!("{devices} P-256 devices, {} cores", cores());
    keys_made_here(dir.path(), devices);
    from_requests(dir.path(), devices);
    one_among_many(dir.path(), devices);
}

fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Runs `work` `count` times, spread over all cores; gives how many a second.
fn rate(count: usize, work: impl Fn() + Sync) -> f64 {
    let begun = Instant::now();
    std::thread::scope(|scope| {
        for _ in 0..cores() {
            scope.spawn(|| (0..count / cores()).for_each(|_| work()));
        }
    });
    f64::from(u32::try_from(count).unwrap()) / begun.elapsed().as_secs_f64()
}

fn keys_made_here(dir: &Path, devices: usize) {
    let authority = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_ASN1_SIGNING).unwrap();
    let raw = || {
        rate(devices, || {
            let key = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_ASN1_SIGNING).unwrap();
            std::hint::black_box(key.public_key());
            std::hint::black_box(authority.sign(&SystemRandom::new(), &MESSAGE).unwrap());
        })
    };
    let mut list = "id,kind,label.site,fact.serial\n".to_owned();
    for number in 0..devices {
        writeln!(list, "wv-{number:07},windvane,ossel,QF-{number:07}").unwrap();
    }
    compare(dir, "keys", devices, &list, raw);
}

fn from_requests(dir: &Path, devices: usize) {
    let authority = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_ASN1_SIGNING).unwrap();
    let device = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_ASN1_SIGNING).unwrap();
    let random = SystemRandom::new();
    let signature = device.sign(&random, &MESSAGE).unwrap();
    let raw = || {
        rate(devices, || {
            let key = UnparsedPublicKey::new(&ECDSA_P256_SHA256_ASN1, device.public_key());
            key.verify(&MESSAGE, signature.as_ref()).unwrap();
            std::hint::black_box(authority.sign(&SystemRandom::new(), &MESSAGE).unwrap());
        })
    };
    let mut list = "id,kind,label.site,fact.serial,csr\n".to_owned();
    for number in 0..devices {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let request = certification_request(&key, "wind vane").unwrap();
        let text = data_encoding::BASE64.encode(&request);
        writeln!(list, "wv-{number:07},windvane,ossel,QF-{number:07},{text}").unwrap();
    }
    compare(dir, "requests", devices, &list, raw);
}

/// Times the program in several rounds, each between two measurements of the bound.
fn compare(dir: &Path, name: &str, devices: usize, list: &str, raw: impl Fn() -> f64) {
    let count = f64::from(u32::try_from(devices).unwrap());
    let mut rounds: Vec<(f64, f64, f64)> = (0..ROUNDS)
        .map(|round| {
            let folder = dir.join(format!("{name}-{round}"));
            ward(&folder);
            std::fs::write(folder.join("fleet.csv"), list).unwrap();
            let before = raw();
            let begun = Instant::now();
            run(&folder, &["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst", "--yes"]);
            let reached = count / begun.elapsed().as_secs_f64();
            let bound = (before + raw()) / 2.0;
            (100.0 * reached / bound, reached, bound)
        })
        .collect();
    rounds.sort_by(|a, b| a.0.total_cmp(&b.0));
    let (low, middle, high) = (rounds[0], rounds[ROUNDS / 2], rounds[ROUNDS - 1]);
    println!(
        "{name:<9} ratio {:.0} % [{:.0}..{:.0}]: {:.0} a second, bound {:.0}",
        middle.0, low.0, high.0, middle.1, middle.2
    );
}

/// Single calls on the ward that the first comparison filled, against an empty one.
fn one_among_many(dir: &Path, devices: usize) {
    let empty = dir.join("empty");
    ward(&empty);
    let full = dir.join("keys-0");
    for (folder, id) in [(&empty, "wv-alone"), (&full, "wv-another")] {
        run(folder, &["device", "add", id, "--kind", "windvane"]);
    }
    let best = |folder: &Path, arguments: &dyn Fn(usize) -> Vec<String>| -> Duration {
        (0..9)
            .map(|round| {
                let arguments = arguments(round);
                let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
                let begun = Instant::now();
                run(folder, &words);
                begun.elapsed()
            })
            .min()
            .unwrap()
    };
    let words = |text: String| text.split(' ').map(str::to_owned).collect::<Vec<_>>();
    for call in ["device show", "enroll"] {
        let arguments = |id: &str, round: usize| match call {
            "enroll" => words(format!("enroll {id} --make-key --again --out out-{round}")),
            _ => words(format!("device show {id}")),
        };
        let alone = best(&empty, &|round| arguments("wv-alone", round));
        let among = best(&full, &|round| arguments("wv-another", round));
        println!(
            "{call:<11} {:.1} ms in an empty ward, {:.1} ms among {devices}; ratio {:.2}",
            alone.as_secs_f64() * 1000.0,
            among.as_secs_f64() * 1000.0,
            among.as_secs_f64() / alone.as_secs_f64()
        );
    }
}

fn ward(folder: &Path) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::create_dir_all(folder).unwrap();
    let secret = folder.join("passphrase.txt");
    std::fs::write(&secret, "a rope of several words\n").unwrap();
    std::fs::set_permissions(&secret, std::fs::Permissions::from_mode(0o600)).unwrap();
    run(folder, &["init", "--name", "Quillfeather Ropeways", "--enterprise-number", "32473"]);
    let settings = folder.join("ward.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(settings, text + "\n[kinds.windvane]\n").unwrap();
}

fn run(folder: &Path, arguments: &[&str]) {
    let mut call = Command::new(env!("CARGO_BIN_EXE_tidy-warden"));
    call.current_dir(folder).args(arguments).arg("--quiet").stdout(Stdio::null());
    let output = call.env("TIDY_WARDEN_PASSPHRASE_FILE", "passphrase.txt").stderr(Stdio::piped()).output().unwrap();
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}
