//! `key block`, `key blocked`: public keys that are never certified or accepted again.

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::credential::BlockSource;
use tidy_warden_core::key::sha256;

use crate::args::BlockArgs;
use crate::commands::Context;
use crate::console::{Listing, counted};
use crate::edge::read_key;
use crate::files;
use crate::problem::{Exit, Problem};

/// The largest certificate file, and the largest list of keys, in bytes.
const MAX_CERTIFICATE: u64 = 64 * 1024;
const MAX_LIST: u64 = 256 * 1024 * 1024;

/// The digests that were named, and where they come from.
fn named(args: &BlockArgs) -> Result<(Vec<[u8; 32]>, BlockSource), Problem> {
    match (&args.cert, &args.public_key, &args.from) {
        (Some(path), None, None) => {
            let refused = |why: &dyn std::fmt::Display| {
                Problem::refused(format!("cannot read {}", path.display()))
                    .because(why)
                    .next("name one certificate in PEM or DER")
            };
            let all = Certificate::read_all(&files::read(path, MAX_CERTIFICATE)?).map_err(|error| refused(&error))?;
            let [one] = all.as_slice() else { return Err(refused(&"it does not hold one certificate")) };
            Ok((vec![sha256(one.public_key.spki())], BlockSource::Given))
        }
        (None, Some(path), None) => Ok((vec![sha256(read_key(path)?.spki())], BlockSource::Given)),
        (None, None, Some(path)) => {
            let text = files::read_text(path, MAX_LIST)?;
            let mut digests = Vec::new();
            let mut bad = Vec::new();
            for (at, line) in text.lines().enumerate() {
                let line = line.split('#').next().unwrap_or_default().trim();
                if line.is_empty() {
                    continue;
                }
                let octets = data_encoding::HEXLOWER_PERMISSIVE.decode(line.as_bytes()).ok();
                match octets.and_then(|octets| octets.try_into().ok()) {
                    Some(digest) => digests.push(digest),
                    None => bad.push(format!("line {}", at + 1)),
                }
            }
            if !bad.is_empty() {
                return Err(Problem::refused(format!("no key of {} was blocked", path.display()))
                    .because(format!("these are not SHA-256 digests: {}", bad[..bad.len().min(20)].join(", ")))
                    .next("one digest of a SubjectPublicKeyInfo a line, 64 hexadecimal digits"));
            }
            Ok((digests, BlockSource::Listed))
        }
        _ => Err(Problem::usage("which key?").next("--cert FILE, --public-key FILE, or --from FILE")),
    }
}

pub(super) fn block(context: &Context<'_>, args: &BlockArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let (digests, source) = named(args)?;
    console.confirm(&format!("Block {} for good?", counted(digests.len(), "key")), args.yes)?;
    let because = console.reason(args.because.text())?;
    let cause = ward.cause(Some(&because));
    let (count, ended) = ward.store.block_keys(&digests, source, &cause)?;
    let serials: Vec<String> = ended
        .iter()
        .map(|each| each.serial.as_ref().map_or_else(|| each.fingerprint.to_string(), ToString::to_string))
        .collect();
    let text = format!(
        "blocked {}; {} of them before; revoked {}\n",
        counted(count, "key"),
        digests.len() - count,
        counted(ended.len(), "certificate")
    );
    let value = json!({ "blocked": count, "known": digests.len() - count, "serials": serials });
    console.show("tidy-warden/key-block/1", value, &text)?;
    if ended.iter().any(|each| each.listed) {
        console.note("a running guard cuts them within a second; publish the new list with: crl --out FILE");
    }
    Ok(Exit::Done)
}

pub(super) fn blocked(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let mut all = Vec::new();
    ward.store.each_blocked_key(&mut |key| all.push(key))?;
    let hex = |digest: &[u8; 32]| data_encoding::HEXLOWER.encode(digest);
    context.console.list(Listing {
        schema: "tidy-warden/blocked-keys/1",
        key: "keys",
        items: all
            .iter()
            .map(|key| json!({ "key_sha256": hex(&key.digest), "since": key.at, "source": key.source.as_str(), "device": key.device }))
            .collect(),
        columns: ["key", "since", "source", "device"].map(str::to_owned).to_vec(),
        rows: all
            .iter()
            .map(|key| {
                let device = key.device.as_ref().map_or_else(|| "-".to_owned(), ToString::to_string);
                vec![hex(&key.digest), key.at.to_string(), key.source.as_str().to_owned(), device]
            })
            .collect(),
        empty: "no keys are blocked",
    })?;
    Ok(Exit::Done)
}
