//! Signed heads of the audit record, to be kept elsewhere: against them, a record that was cut off, put back or written anew
//! shows.

use std::path::Path;

use serde::{Deserialize, Serialize};
use tidy_warden_core::audit::Hash;
use tidy_warden_core::key::{NewKey, PublicKey, Signer, SoftwareKey};
use tidy_warden_core::time::UnixTime;

use super::follow;
use crate::commands::Context;
use crate::files;
use crate::keys;
use crate::problem::{Exit, Problem};
use crate::ward::{KEYS, Ward};

/// What stands before everything that is signed here, so that no signature of it means anything elsewhere.
const DOMAIN: &str = "tidy-warden audit head 1";

const MAX_HEAD: u64 = 64 * 1024;

/// The key that signs heads, in the ward's `keys` folder.
const KEY: &str = "audit";

/// A head as it stands in its file.
#[derive(Serialize, Deserialize)]
pub(super) struct HeadFile {
    schema: String,
    ward: String,
    pub(super) number: i64,
    hash: String,
    /// The root of the Merkle tree over the hashes of all entries (RFC 9162 section 2.1).
    tree: String,
    pub(super) at: UnixTime,
    /// The public key, SubjectPublicKeyInfo in DER and base64.
    key: String,
    /// Over the lines of [`HeadFile::signed`], base64.
    signature: String,
}

impl HeadFile {
    fn signed(&self) -> String {
        let Self { ward, number, hash, tree, at, key, .. } = self;
        format!("{DOMAIN}\n{ward}\n{number}\n{hash}\n{tree}\n{}\n{key}\n", at.0)
    }
}

fn hex(hash: &Hash) -> String {
    data_encoding::HEXLOWER.encode(hash)
}

/// The key, made when the first head is signed.
fn open_key(ward: &mut Ward, context: &Context<'_>) -> Result<SoftwareKey, Problem> {
    let path = ward.dir.join(KEYS).join(format!("{KEY}.key"));
    let passphrase = context.passphrase("the key that signs heads of the audit record")?;
    let key = match path.exists() {
        true => keys::open(&path, &passphrase)?,
        false => {
            let key = SoftwareKey::generate(NewKey::P256)
                .map_err(|error| Problem::failed("cannot make a key").because(error))?;
            keys::lock(&key, &path, &passphrase, ward.lock_cost())?;
            key
        }
    };
    // Also for a key whose making was interrupted before it was recorded.
    let digest = data_encoding::HEXLOWER.encode(&tidy_warden_core::key::sha256(key.public_key().spki()));
    if knows(ward, &digest)? {
        return Ok(key);
    }
    let cause = ward.cause(None);
    let detail = serde_json::json!({ "key_sha256": digest }).to_string();
    ward.store.record_note("audit.key", "the key that signs heads", &detail, &cause)?;
    Ok(key)
}

/// Whether the record knows a key that signs heads.
fn knows(ward: &Ward, digest: &str) -> Result<bool, Problem> {
    let mut known = false;
    ward.store.each_entry(1, &mut |entry| {
        known |= entry.act == "audit.key" && entry.detail.contains(digest);
        !known
    })?;
    Ok(known)
}

/// Writes a signed head.
pub(super) fn write(context: &Context<'_>, out: &Path) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let key = open_key(&mut ward, context)?;
    let verified = ward.store.view(|view| Ok(follow(view, None)))??;
    if let Some(first) = verified.broken.first() {
        return Err(Problem::refused("no head was signed")
            .because(format!("the audit record is broken: {first}"))
            .next("audit verify"));
    }
    let mut form = HeadFile {
        schema: "tidy-warden/audit-head/1".to_owned(),
        ward: ward.record.urn.clone(),
        number: verified.entries,
        hash: verified.head,
        tree: hex(&verified.tree),
        at: ward.now(),
        key: data_encoding::BASE64.encode(key.public_key().spki()),
        signature: String::new(),
    };
    let signature =
        key.sign(form.signed().as_bytes()).map_err(|error| Problem::failed("cannot sign").because(error))?;
    form.signature = data_encoding::BASE64.encode(&signature);
    let failed = |error: serde_json::Error| Problem::failed("cannot write the head").because(error);
    let text = serde_json::to_string_pretty(&form).map_err(failed)? + "\n";
    files::replace(out, text.as_bytes()).map_err(|error| Problem::file("write", out, &error))?;
    let value = serde_json::json!({ "number": form.number, "head": form.hash, "tree": form.tree, "at": form.at });
    let told = format!("signed the head of {} entries, {}: {}\n", form.number, form.hash, out.display());
    context.console.show("tidy-warden/audit-head/1", value, &told)?;
    context.console.note("keep it where whoever can write to the store cannot; audit verify --head FILE compares");
    Ok(Exit::Done)
}

/// Reads a head and verifies its signature.
pub(super) fn read(path: &Path) -> Result<HeadFile, Problem> {
    let refused = |why: &dyn std::fmt::Display| {
        Problem::refused(format!("{} is not a signed head", path.display()))
            .because(why)
            .next("audit head --out FILE makes one")
    };
    let text = files::read_text(path, MAX_HEAD)?;
    let form: HeadFile = serde_json::from_str(&text).map_err(|error| refused(&error))?;
    let octets = |text: &str| data_encoding::BASE64.decode(text.as_bytes()).map_err(|error| refused(&error));
    let key = PublicKey::from_spki(&octets(&form.key)?).map_err(|error| refused(&error))?;
    let signature = octets(&form.signature)?;
    key.verify(&key.signature_algorithm(), form.signed().as_bytes(), &signature).map_err(|error| refused(&error))?;
    Ok(form)
}

/// What of the record does not go on from a head that was kept; `at` is what the record has at its number.
pub(super) fn differing(
    ward: &Ward,
    kept: &HeadFile,
    entries: i64,
    at: Option<(Hash, Hash)>,
) -> Result<Vec<String>, Problem> {
    let mut all = Vec::new();
    if kept.ward != ward.record.urn {
        return Err(Problem::refused("this head belongs to another ward")
            .because(format!("it is of {}, and this ward is {}", kept.ward, ward.record.urn)));
    }
    let spki = data_encoding::BASE64.decode(kept.key.as_bytes()).unwrap_or_default();
    let digest = data_encoding::HEXLOWER.encode(&tidy_warden_core::key::sha256(&spki));
    if !knows(ward, &digest)? {
        all.push("the head was signed with a key that this record does not know".to_owned());
    }
    match at {
        None => all.push(format!(
            "the record ends with entry {entries}, and had {} at {}: it was cut off, or put back from before",
            kept.number, kept.at
        )),
        Some((hash, tree)) if hex(&hash) != kept.hash || hex(&tree) != kept.tree => {
            all.push(format!("entry {} is another one than at {}: the record was written anew", kept.number, kept.at))
        }
        Some(_) => {}
    }
    Ok(all)
}
