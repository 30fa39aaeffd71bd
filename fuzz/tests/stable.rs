//! The targets on the stable toolchain: the seeds, and random changes to them. `RUNS` sets how many.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::path::Path;

/// Changes that lead deeper than random octets do.
const WORDS: &[&str] = &[
    "policy p { for ",
    "allow publish \"",
    "deny subscribe \"",
    "\" for children",
    " share \"w\"",
    " because \"x\"",
    "{device}",
    "{child}",
    "{site}",
    "/#",
    "/+",
    "$share/w/",
    "qos <= 1, ",
    "rate <= 9/s",
    "expect {kind=cabin} publish \"a\" denied",
    "sole publish \"",
    "}",
    "(",
    ")",
    "not ",
    " and ",
    " or ",
    "group = g",
    "matches \"*\"",
    "known",
    "within 3d",
    "before 3d ago",
    "cert.ends ",
    "#",
    "\"",
    "\\\"",
    "\n",
    "\r\n",
    "\u{e9}",
    "\0",
    "=",
    "!=",
    "<=",
];

/// SplitMix64: enough chance for choosing places and words, and the same in every run.
struct Chance(u64);

impl Chance {
    fn below(&mut self, limit: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        usize::try_from((z ^ (z >> 31)) % u64::try_from(limit.max(1)).unwrap()).unwrap()
    }
}

fn changed(seeds: &[Vec<u8>], chance: &mut Chance) -> Vec<u8> {
    let mut data = seeds[chance.below(seeds.len())].clone();
    for _ in 0..=chance.below(6) {
        let at = chance.below(data.len() + 1);
        let end = (at + chance.below(20)).min(data.len());
        match chance.below(6) {
            0 => drop(data.drain(at..end)),
            1 => drop(data.splice(at..end, WORDS[chance.below(WORDS.len())].bytes())),
            2 => drop(data.splice(at..at, WORDS[chance.below(WORDS.len())].bytes())),
            3 if at < data.len() => data[at] = u8::try_from(chance.below(256)).unwrap(),
            4 => {
                let other = &seeds[chance.below(seeds.len())];
                let from = chance.below(other.len());
                drop(data.splice(at..end, other[from..(from + chance.below(200)).min(other.len())].iter().copied()));
            }
            _ => data.extend_from_within(at..end),
        }
    }
    data
}

fn run(name: &str, target: fn(&[u8])) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("seeds").join(name);
    let mut paths: Vec<_> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    let seeds: Vec<Vec<u8>> = paths.iter().map(|path| std::fs::read(path).unwrap()).collect();
    seeds.iter().for_each(|seed| target(seed));
    let runs = std::env::var("RUNS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(20_000);
    let mut chance = Chance(7);
    for number in 0..runs {
        let data = changed(&seeds, &mut chance);
        if std::panic::catch_unwind(|| target(&data)).is_err() {
            panic!("input {number} of {name}: {:?}", String::from_utf8_lossy(&data));
        }
    }
}

#[test]
fn policies() {
    run("policy", tidy_warden_fuzz::policy);
}

#[test]
fn conditions() {
    run("condition", tidy_warden_fuzz::condition);
}

#[test]
fn packets() {
    run("packets", tidy_warden_fuzz::packets);
}

#[test]
fn requests() {
    run("request", tidy_warden_fuzz::request);
}

#[test]
fn est_bodies() {
    run("est", tidy_warden_fuzz::est_body);
}

#[test]
fn rekeys() {
    run("rekey", tidy_warden_fuzz::rekey);
}

#[test]
fn vouchers() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("seeds/voucher");
    let believed = |name: &str| tidy_warden_fuzz::believed(&std::fs::read(folder.join(name)).unwrap());
    assert_eq!(["until.cms", "until.jws", "nonce.cms", "nonce.jws"].map(believed), [1, 1, 2, 2]);
    run("voucher", tidy_warden_fuzz::voucher);
}

#[test]
fn http_heads() {
    run("head", tidy_warden_fuzz::http_head);
}

#[test]
fn certificates() {
    run("certificate", tidy_warden_fuzz::certificate);
}

#[test]
fn crls() {
    run("crl", tidy_warden_fuzz::crl);
}

#[test]
fn jwts() {
    run("jwt", tidy_warden_fuzz::jwt);
}

#[test]
fn jwks() {
    run("jwk", tidy_warden_fuzz::jwk);
}

#[test]
fn key_files() {
    run("key", tidy_warden_fuzz::key_file);
}

#[test]
fn settings() {
    run("settings", tidy_warden_fuzz::ward_settings);
}

#[test]
fn cwts() {
    run("cwt", tidy_warden_fuzz::cwt);
}
