//! Tokens against what the crypto library can do on the same cores in the same run: checking one, issuing many, and what a long list of
//! blocks costs a client that connects.
//!
//! `cargo bench --bench tokens [-- TOKENS]`. Each ratio is to a bound that is measured right before and after; of several rounds the middle
//! one is told with the lowest and highest.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::fmt::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use aws_lc_rs::hmac;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P256_SHA256_FIXED, ED25519, EcdsaKeyPair, KeyPair, UnparsedPublicKey,
    VerificationAlgorithm,
};
use data_encoding::BASE64URL_NOPAD;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, PublicKey, Signer, SoftwareKey, sha256, thumbprint};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::shared::SharedKey;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::{Claims, Form, Maker, Terms, TokenKey, TokenSigner, Unverified, sign};
use tidy_warden_store::acts::bearer::check_bound;
use tidy_warden_store::{Bearer, OperatorStore, Signers, SqliteStore, Standing, TokenBlock};

/// As in the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How often each comparison is made.
const ROUNDS: usize = 7;

/// How many tokens are checked in a round.
const CHECKS: usize = 20_000;

/// How many blocks are in force.
const BLOCKS: usize = 100_000;

const AUDIENCE: &str = "mqtts://localhost:8883";
const DEVICE: &str = "wv-0000000";

fn main() {
    // Cargo itself gives `--bench`.
    let tokens = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(100_000usize);
    let dir = tempfile::tempdir().unwrap();
    println!("{} cores", cores());
    ward(dir.path(), tokens);
    checking(dir.path());
    issuing(dir.path(), tokens);
    blocks(dir.path());
}

fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

fn store(dir: &Path) -> OperatorStore {
    OperatorStore::new(Box::new(SqliteStore::open(&dir.join("ward.db")).unwrap()))
}

/// Seconds for each of so many.
fn each(count: usize, mut work: impl FnMut()) -> f64 {
    let begun = Instant::now();
    (0..count).for_each(|_| work());
    begun.elapsed().as_secs_f64() / f64::from(u32::try_from(count).unwrap())
}

/// Ratio, value and bound of each round, the middle one and the extremes.
fn told(mut rounds: Vec<(f64, f64, f64)>) -> [(f64, f64, f64); 3] {
    rounds.sort_by(|a, b| a.0.total_cmp(&b.0));
    [rounds[0], rounds[rounds.len() / 2], rounds[rounds.len() - 1]]
}

fn now() -> UnixTime {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    UnixTime(i64::try_from(since.as_secs()).unwrap())
}

/// A device's own key, as it signs and as the ward has it.
enum Own {
    Pair(SoftwareKey),
    Shared(SharedKey),
}

/// From the octets of a token to whether it opens something, with the key and what the store says of it in hand; against the signature
/// check alone, and for a MAC one parse of the claims with it.
fn checking(dir: &Path) {
    let text = std::fs::read_to_string(dir.join("ward.toml")).unwrap();
    let settings = Settings::parse(&Source::new("ward.toml", &text)).unwrap();
    let device: DeviceId = DEVICE.parse().unwrap();
    let mut all = Vec::new();
    let (es256, eddsa): (&'static dyn VerificationAlgorithm, &'static dyn VerificationAlgorithm) =
        (&ECDSA_P256_SHA256_FIXED, &ED25519);
    for (name, new, scheme) in [("ES256", NewKey::P256, es256), ("EdDSA", NewKey::Ed25519, eddsa)] {
        let key = SoftwareKey::generate(new).unwrap();
        let file = dir.join("own.pem");
        std::fs::write(&file, tidy_warden_core::asn1::pem("PUBLIC KEY", key.public_key().spki())).unwrap();
        run(dir, &["key", "add", DEVICE, "--public-key", "own.pem"]);
        let (kid, fingerprint) = (thumbprint(key.public_key()).unwrap(), Fingerprint(sha256(key.public_key().spki())));
        all.push((name, Own::Pair(key), kid, fingerprint, Some(scheme)));
    }
    run(dir, &["key", "add", DEVICE, "--shared", "--out", "own.jwk"]);
    let jwk = std::fs::read_to_string(dir.join("own.jwk")).unwrap();
    let kid = serde_json::from_str::<serde_json::Value>(&jwk).unwrap()["kid"].as_str().unwrap().to_owned();
    let fingerprint = Fingerprint(sha256(format!("shared key {kid}").as_bytes()));
    all.push(("HS256", Own::Shared(SharedKey::from_jwk(&jwk).unwrap()), kid, fingerprint, None));
    for (name, own, kid, fingerprint, scheme) in &all {
        let claims = Claims {
            subject: Some(DEVICE.into()),
            audience: vec![AUDIENCE.into()],
            issued: Some(now()),
            ends: Some(now().plus(Span::from_seconds(3_000))),
            id: Some("0123456789abcdef".into()),
            ..Claims::default()
        };
        let (signer, key) = match own {
            Own::Pair(pair) => (TokenSigner::Private(pair), TokenKey::Public(pair.public_key())),
            Own::Shared(shared) => (TokenSigner::Shared(shared), TokenKey::Shared(shared)),
        };
        let token = sign(Form::Jwt, &claims, signer, kid).unwrap();
        let (record, found) = store(dir).status_many(&[*fingerprint]).unwrap().pop().unwrap().unwrap();
        let standing = Standing { key: Some(record), blocks: Vec::new() };
        let signers = Signers::default();
        let terms = Terms { audience: AUDIENCE, now: now(), skew: Span::from_seconds(30) };
        let whole = || {
            let read = Unverified::read(&token).unwrap();
            let verified = read.verify((key, kid), Maker::Device(&device), terms).unwrap();
            let bearer = Bearer { token: verified, key: Some(*fingerprint) };
            check_bound(&bearer, None).unwrap();
            std::hint::black_box(standing.judge(&bearer, &found, true, (&settings, &signers), terms.now).unwrap());
        };
        let text = std::str::from_utf8(&token).unwrap();
        let (input, signature) = text.rsplit_once('.').unwrap();
        let signature = BASE64URL_NOPAD.decode(signature.as_bytes()).unwrap();
        let payload = BASE64URL_NOPAD.decode(input.rsplit_once('.').unwrap().1.as_bytes()).unwrap();
        let mac = match own {
            Own::Shared(_) => {
                let k = serde_json::from_str::<serde_json::Value>(&jwk).unwrap();
                let octets = BASE64URL_NOPAD.decode(k["k"].as_str().unwrap().as_bytes()).unwrap();
                Some(hmac::Key::new(hmac::HMAC_SHA256, &octets))
            }
            Own::Pair(_) => None,
        };
        let bound = || match &mac {
            None => {
                let (Own::Pair(pair), Some(scheme)) = (own, scheme) else { return };
                let key = UnparsedPublicKey::new(*scheme, raw_key(pair.public_key()));
                key.verify(input.as_bytes(), &signature).unwrap();
            }
            Some(mac) => {
                hmac::verify(mac, input.as_bytes(), &signature).unwrap();
                std::hint::black_box(serde_json::from_slice::<serde_json::Value>(&payload).unwrap());
            }
        };
        let rounds = (0..ROUNDS).map(|_| {
            let before = each(CHECKS, bound);
            let took = each(CHECKS, whole);
            let raw = (before + each(CHECKS, bound)) / 2.0;
            (took / raw, took * 1e6, raw * 1e6)
        });
        let [low, middle, high] = told(rounds.collect());
        println!(
            "check {name}  {:.2} times the bound [{:.2}..{:.2}]: {:.2} µs, bound {:.2} µs",
            middle.0, low.0, high.0, middle.1, middle.2
        );
    }
}

/// A public key as the library takes it.
fn raw_key(key: &PublicKey) -> &[u8] {
    key.point().or(key.ed25519()).unwrap()
}

/// `token issue --where` against signing alone on all cores.
fn issuing(dir: &Path, tokens: usize) {
    let key = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_ASN1_SIGNING).unwrap();
    assert_eq!(key.public_key().as_ref().len(), 65);
    let raw = || {
        let begun = Instant::now();
        std::thread::scope(|scope| {
            for _ in 0..cores() {
                scope.spawn(|| {
                    for _ in 0..tokens / cores() {
                        std::hint::black_box(key.sign(&SystemRandom::new(), &[7; 320]).unwrap());
                    }
                });
            }
        });
        f64::from(u32::try_from(tokens).unwrap()) / begun.elapsed().as_secs_f64()
    };
    let rounds = (0..ROUNDS).map(|round| {
        let before = raw();
        let (begun, count, out) = (Instant::now(), tokens.to_string(), format!("tokens-{round}.csv"));
        run(dir, &["token", "issue", "--where", "kind = windvane", "--count", &count, "--for", "1h", "--out", &out]);
        let reached = f64::from(u32::try_from(tokens).unwrap()) / begun.elapsed().as_secs_f64();
        let bound = (before + raw()) / 2.0;
        (reached / bound, reached, bound)
    });
    let [low, middle, high] = told(rounds.collect());
    println!(
        "issue {tokens}  {:.2} of the bound [{:.2}..{:.2}]: {:.0} a second, bound {:.0}",
        middle.0, low.0, high.0, middle.1, middle.2
    );
}

/// What is asked of the store for a token, with no block and with many.
fn blocks(dir: &Path) {
    let device: DeviceId = DEVICE.parse().unwrap();
    let mut store = store(dir);
    let view = store.view(|view| view.devices(std::slice::from_ref(&device))).unwrap().pop().unwrap().unwrap();
    let fingerprint = view.credentials.iter().find(|each| each.kid.is_some()).unwrap().fingerprint;
    let bearer = Bearer {
        token: tidy_warden_core::token::VerifiedToken {
            device: device.clone(),
            kid: "of-its-own".into(),
            is_wards: false,
            issued_at: now(),
            ends: now().plus(Span::from_seconds(3_000)),
            name: tidy_warden_core::token::TokenName::Id("0123456789abcdef".into()),
            bound: None,
            scope: None,
        },
        key: Some(fingerprint),
    };
    let look = |store: &OperatorStore| {
        (0..ROUNDS)
            .map(|_| {
                each(CHECKS, || {
                    std::hint::black_box(store.view(|view| Standing::look(view, &bearer)).unwrap().unwrap());
                })
            })
            .min_by(f64::total_cmp)
            .unwrap()
            * 1e6
    };
    let without = look(&store);
    let begun = Instant::now();
    let filled = store.decide(|tx| {
        for number in 0..BLOCKS {
            let name = sha256(&number.to_be_bytes());
            let jti = Some(number.to_string());
            let until = now().plus(Span::from_days(1));
            tx.put_token_block(&TokenBlock {
                name,
                device: Some(device.clone()),
                kid: Some("of-its-own".into()),
                jti,
                before: None,
                at: now(),
                until,
            })?;
        }
        Ok(Ok::<_, std::convert::Infallible>(()))
    });
    let Ok(()) = filled.unwrap();
    let filling: Duration = begun.elapsed();
    let with = look(&store);
    println!(
        "blocks {BLOCKS}  {:+.2} µs for each token: {without:.2} µs without any, {with:.2} µs with them (put in {:.1} s)",
        with - without,
        filling.as_secs_f64()
    );
}

fn ward(folder: &Path, devices: usize) {
    use std::os::unix::fs::PermissionsExt;
    let secret = folder.join("passphrase.txt");
    std::fs::write(&secret, "a rope of several words\n").unwrap();
    std::fs::set_permissions(&secret, std::fs::Permissions::from_mode(0o600)).unwrap();
    run(folder, &["init", "--name", "Quillfeather Ropeways", "--enterprise-number", "32473"]);
    let settings = folder.join("ward.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(settings, text + "\n[kinds.windvane]\ntoken_login = true\nshared_keys = true\n").unwrap();
    let mut list = "id,kind\n".to_owned();
    for number in 0..devices {
        writeln!(list, "wv-{number:07},windvane").unwrap();
    }
    std::fs::write(folder.join("fleet.csv"), list).unwrap();
    run(folder, &["device", "import", "fleet.csv"]);
}

fn run(folder: &Path, arguments: &[&str]) {
    let mut call = Command::new(env!("CARGO_BIN_EXE_tidy-warden"));
    call.current_dir(folder).args(arguments).arg("--quiet").stdout(Stdio::null());
    let output = call.env("TIDY_WARDEN_PASSPHRASE_FILE", "passphrase.txt").stderr(Stdio::piped()).output().unwrap();
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}
