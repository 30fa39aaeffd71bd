//! `key`: keys of devices' own, and public keys that are never certified or accepted again.

mod block;
mod many;

pub(crate) use many::{resume, stop};

use serde_json::{Value, json};
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{CredentialRecord, Origin, Revocation};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{KeyType, sha256, thumbprint};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::settings::Kind;
use tidy_warden_core::shared::{MAX_SHARED_KEY_LEN, SHARED_KEY_TYPE, SharedKey};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::token::algorithms;
use tidy_warden_store::{KeyRefusal, KeyReplaces, NewCredential};
use tidy_warden_ward::clock::SystemRandom;
use tidy_warden_ward::errand::ErrandSigner;
use tidy_warden_ward::rekey::{KeySender, Unsent};
use tidy_warden_ward::shared::{self, Fresh};
use tidy_warden_ward::token::named;

use super::{Context, pick};
use crate::args::{AddKeyArgs, KeyCommand, KeyMaterial, RotateKeyArgs};
use crate::console::{Listing, counted};
use crate::edge::{parse, read_key};
use crate::files::{self, Access};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// The longest note, in octets.
const MAX_NOTE: usize = 400;

pub(crate) fn run(context: &Context<'_>, command: &KeyCommand) -> Result<Exit, Problem> {
    match command {
        KeyCommand::Add(args) => add(context, args),
        KeyCommand::List { device } => list(context, device.as_deref()),
        KeyCommand::Retire { device, kid, reason, yes, because } => {
            retire(context, (device, kid), reason, *yes, because.text())
        }
        KeyCommand::Rotate(args) => rotate(context, args),
        KeyCommand::Block(args) => block::block(context, args),
        KeyCommand::Blocked => block::blocked(context),
    }
}

fn add(context: &Context<'_>, args: &AddKeyArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let Some(device) = &args.device else { return many::add(context, &mut ward, args) };
    let id: DeviceId = parse(device)?;
    let kind = kind(&ward, &id)?;
    give(context, &mut ward, &id, &kind, &args.key, None)
}

fn rotate(context: &Context<'_>, args: &RotateKeyArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id: DeviceId = parse(&args.device)?;
    let kind = kind(&ward, &id)?;
    if args.send {
        return send(context, &mut ward, &id, args);
    }
    let overlap = args.overlap.as_deref().map(parse::<Span>).transpose()?.unwrap_or(kind.overlap);
    give(context, &mut ward, &id, &kind, &args.key, Some(overlap))
}

/// Sends a device its next shared key.
fn send(context: &Context<'_>, ward: &mut Ward, id: &DeviceId, args: &RotateKeyArgs) -> Result<Exit, Problem> {
    let secrets = context.secrets();
    let data = shared::data_key(ward, &secrets)?;
    let data =
        data.ok_or_else(|| refused(id).because(Unsent::NoKey).next(format!("key add {id} --shared --out FILE")))?;
    let signer = ErrandSigner::open(ward, &secrets)?;
    let cause = ward.cause(args.key.because.text());
    let sender = KeySender { data: &data, signer: &signer, settings: &ward.settings };
    let number = sender.send(&mut ward.store, id, Span::from_days(30), &cause)?;
    let number = number.map_err(|why| {
        let problem = refused(id).because(&why);
        match why {
            Unsent::NoPublicKey => {
                problem.next(format!("key add {id} --public-key FILE, or key rotate {id} --shared --out FILE"))
            }
            Unsent::NoKey => problem.next(format!("key add {id} --shared --out FILE")),
            Unsent::Errand(_) => problem.next(format!("errand list --device {id}")),
            _ => problem.next(format!("key list {id}")),
        }
    })?;
    let value = json!({ "device": id, "errand": number });
    context.console.show("tidy-warden/key-sent/1", value, &format!("errand {number} brings `{id}` its next key\n"))?;
    context.console.note(format!("its present key goes on until that is used; errand show {number}"));
    Ok(Exit::Done)
}

fn kind(ward: &Ward, id: &DeviceId) -> Result<Kind, Problem> {
    let device = ward.device(id)?.device;
    let kind = ward.settings.kind(&device.kind).map_err(|unknown| {
        Problem::refused(unknown.to_string()).next(format!("add to ward.toml: [kinds.{}]", unknown.kind))
    })?;
    Ok(kind.clone())
}

/// A key as it goes into the store.
struct Given {
    origin: Origin,
    kid: String,
    /// What the store keeps of it.
    octets: Vec<u8>,
    fingerprint: Fingerprint,
    digest: [u8; 32],
    key_type: String,
    /// What leaves the ward, if it was made here.
    secret: Option<SharedKey>,
}

fn refused(id: &DeviceId) -> Problem {
    Problem::refused(format!("`{id}` was given no key"))
}

/// Reads or makes the key.
fn given(
    context: &Context<'_>,
    ward: &mut Ward,
    (id, kind): (&DeviceId, &Kind),
    args: &KeyMaterial,
) -> Result<Given, Problem> {
    if let Some(path) = &args.public_key {
        let key = read_key(path)?;
        let kid = thumbprint(&key).filter(|_| !algorithms(key.key_type()).is_empty());
        let kid = kid.ok_or_else(|| {
            refused(id).because(format!("a {} key signs no tokens", key.key_type())).next("p256, p384, ed25519 or RSA")
        })?;
        if !kind.accepts(key.key_type()) {
            return Err(refused(id).because(format!("its kind does not accept {} keys", key.key_type())));
        }
        if !key.is_usable() {
            return Err(refused(id).because("it is no key: its point is not on its curve"));
        }
        let (octets, digest) = (key.spki().to_vec(), sha256(key.spki()));
        let (fingerprint, key_type) = (Fingerprint(digest), KeyType::to_string(&key.key_type()));
        return Ok(Given { origin: Origin::Key, kid, octets, fingerprint, digest, key_type, secret: None });
    }
    if !args.shared && args.shared_key.is_none() {
        return Err(Problem::usage("which key?").next("--shared --out FILE, --public-key FILE, or --shared-key FILE"));
    }
    if args.shared && args.out.is_none() {
        return Err(Problem::usage("where does the key go?").next("--out FILE, which only its owner can read"));
    }
    if !kind.shared_keys {
        return Err(refused(id)
            .because("devices of its kind may not share keys with the ward, which would have to keep them")
            .next(
                "--public-key FILE for a key that the device made; or shared_keys = true for its kind in ward.toml",
            ));
    }
    let (key, is_new) = match &args.shared_key {
        Some(path) => {
            let limit = u64::try_from(MAX_SHARED_KEY_LEN).unwrap_or(u64::MAX) * 16;
            let text = zeroize::Zeroizing::new(files::read_text(path, limit)?);
            let weak = |why: &dyn std::fmt::Display| refused(id).because(format!("{}: {why}", path.display()));
            (SharedKey::from_jwk(&text).map_err(|why| weak(&why).next("--shared makes a good one"))?, false)
        }
        None => (SharedKey::generate(&mut SystemRandom), true),
    };
    let data = shared::ready(ward, &context.secrets())?;
    let locked = shared::locked(&data, id, key).ok_or_else(|| Problem::failed("the key cannot be locked"))?;
    let Fresh { key, kid, sealed: octets, digest, name } = locked;
    let (fingerprint, secret) = (Fingerprint(name), is_new.then_some(key));
    Ok(Given { origin: Origin::Shared, kid, octets, fingerprint, digest, key_type: SHARED_KEY_TYPE.to_owned(), secret })
}

/// When it begins, and its last second, if that was said.
fn times(args: &KeyMaterial, now: UnixTime) -> Result<(UnixTime, Option<UnixTime>), Problem> {
    // A public key's beginning is set back as a certificate's is, for clocks that differ.
    let begins = match &args.not_before {
        Some(time) => parse::<UnixTime>(time)?,
        None => now.minus(Span::from_seconds(600)),
    };
    let from = begins.max(now);
    let ends = match (&args.until, &args.life) {
        (Some(until), _) => Some(parse(until)?),
        (None, Some(life)) => Some(from.plus(parse::<Span>(life)?)),
        (None, None) => None,
    };
    let is_out = |ends: &UnixTime| *ends <= from || *ends > from.plus(Span::from_days(3660));
    match ends.filter(is_out) {
        Some(ends) => Err(Problem::refused("no key was made")
            .because(format!("it would last until {ends}"))
            .next("an end after its beginning and within ten years: --for 90d, or --until TIME")),
        None => Ok((begins, ends)),
    }
}

fn check_note(note: Option<&str>) -> Result<(), Problem> {
    match note.is_some_and(|note| note.len() > MAX_NOTE || note.chars().any(char::is_control)) {
        true => Err(Problem::refused("no key was made")
            .because(format!("its note is not one line of at most {MAX_NOTE} bytes"))),
        false => Ok(()),
    }
}

/// Gives a device a key; with an overlap in the place of those that it has.
fn give(
    context: &Context<'_>,
    ward: &mut Ward,
    id: &DeviceId,
    kind: &Kind,
    args: &KeyMaterial,
    replaces: Option<Span>,
) -> Result<Exit, Problem> {
    let (begins, ends) = times(args, ward.now())?;
    let ends = ends.unwrap_or_else(|| begins.max(ward.now()).plus(kind.life));
    check_note(args.note.as_deref())?;
    // What would be refused in the end is refused before a key is made, and before anybody is asked for a passphrase.
    if let Some(barred) = ward.device(id)?.device.barred() {
        return Err(refused(id).because(barred));
    }
    if let Some(path) = args.out.as_ref().filter(|path| path.symlink_metadata().is_ok()) {
        return Err(refused(id)
            .because(format!("{} exists already", path.display()))
            .next("name another file: --out FILE"));
    }
    let given = given(context, ward, (id, kind), args)?;
    let new = NewCredential {
        device: id,
        origin: given.origin,
        authority: None,
        der: &given.octets,
        fingerprint: given.fingerprint,
        serial: None,
        key_digest: given.digest,
        key_type: &given.key_type,
        not_before: begins,
        not_after: ends,
        again: true,
        overlap: replaces.unwrap_or(Span::from_seconds(0)),
        fresh_key: given.secret.is_some(),
        authorised_by: None,
        kid: Some(&given.kid),
        note: args.note.as_deref(),
    };
    let mut deliver = || match (&given.secret, &args.out) {
        (Some(key), Some(path)) => files::create(path, key.to_jwk(&given.kid).as_bytes(), Access::Secret),
        _ => Ok(()),
    };
    let cause = ward.cause(args.because.text());
    let superseded = {
        let replaces = if replaces.is_some() { KeyReplaces::All } else { KeyReplaces::Nothing };
        ward.store.add_key(&new, replaces, &cause, &mut deliver)?
    };
    let superseded = superseded.map_err(|why| {
        let problem = refused(id).because(&why);
        match why {
            KeyRefusal::TooMany => problem.next(format!("key retire {id} KID; key list {id} shows them")),
            KeyRefusal::NothingToRotate => problem.next(format!("key add {id}")),
            _ => problem.next(format!("key list {id}")),
        }
    })?;
    let kind_word = kind_word(given.origin);
    let mut text = format!("key      {}\nkind     {kind_word}, {}\nends     {ends}\n", given.kid, given.key_type);
    if !superseded.is_empty() {
        text.push_str(&format!("replaces {}\n", superseded.join(", ")));
    }
    if let (Some(_), Some(path)) = (&given.secret, &args.out) {
        text.push_str(&format!("written  {}\n", path.display()));
    }
    let value = json!({
        "device": id, "kid": given.kid, "kind": kind_word, "key": given.key_type, "begins": begins, "ends": ends,
        "replaces": superseded, "file": args.out.as_ref().filter(|_| given.secret.is_some()),
    });
    context.console.show("tidy-warden/key-added/1", value, &text)?;
    if given.secret.is_some() {
        context.console.note("it left the ward this once: bring the file to the device, and delete it here");
    }
    if !kind.token_login {
        context.console.warn(format!(
            "devices of the kind of `{id}` do not sign in by token yet: token_login = true for it in ward.toml"
        ));
    }
    Ok(Exit::Done)
}

fn kind_word(origin: Origin) -> &'static str {
    if origin == Origin::Shared { "shared" } else { "public" }
}

fn item(record: &CredentialRecord, now: UnixTime) -> Value {
    json!({
        "device": record.device, "kid": record.key_name(), "kind": kind_word(record.origin), "key": record.key_type,
        "state": record.state(now).as_str(), "begins": record.not_before, "ends": record.not_after,
        "first_used": record.first_used, "superseded_until": record.superseded_until,
        "revoked": record.revoked.map(|(at, _)| at), "reason": record.revoked.map(|(_, reason)| reason.as_str()),
        "note": record.note,
    })
}

fn list(context: &Context<'_>, device: Option<&str>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let now = ward.now();
    let mut keys: Vec<CredentialRecord> = Vec::new();
    match device {
        Some(device) => keys.extend(ward.device(&parse(device)?)?.credentials),
        None => pick::each(&ward, None, &mut |view| {
            keys.extend(view.credentials.into_iter().filter(|each| each.origin.is_key()));
        })?,
    }
    keys.retain(|each| each.origin.is_key());
    let row = |record: &CredentialRecord| {
        let note = [super::credential::note(record, now), record.note.clone().unwrap_or_default()];
        let note: Vec<String> = note.into_iter().filter(|text| !text.is_empty()).collect();
        vec![
            record.device.to_string(),
            record.key_name(),
            kind_word(record.origin).to_owned(),
            record.key_type.clone(),
            record.state(now).as_str().to_owned(),
            record.not_before.date(),
            record.not_after.date(),
            note.join("; "),
        ]
    };
    context.console.list(Listing {
        schema: "tidy-warden/keys/1",
        key: "keys",
        items: keys.iter().map(|record| item(record, now)).collect(),
        columns: ["device", "kid", "kind", "key", "state", "begins", "ends", "note"].map(str::to_owned).to_vec(),
        rows: keys.iter().map(row).collect(),
        empty: "no keys; give a device one: key add DEVICE --public-key FILE",
    })?;
    Ok(Exit::Done)
}

fn retire(
    context: &Context<'_>,
    (device, kid): (&str, &str),
    reason: &str,
    yes: bool,
    because: Option<&str>,
) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let id: DeviceId = parse(device)?;
    let reason: Reason =
        reason.parse().map_err(|error: tidy_warden_core::revocation::BadReason| Problem::usage(error.to_string()))?;
    let view = ward.device(&id)?;
    let record = named(&view, kid)?;
    if let Some((at, _)) = record.revoked {
        return Err(
            Problem::refused(format!("the key {kid} of `{id}` was not retired")).because(format!("it was, at {at}"))
        );
    }
    let now = ward.now();
    let left = view.credentials.iter().filter(|each| each.fingerprint != record.fingerprint);
    let left = left.filter(|each| each.may_sign_in(now).is_ok()).count();
    console.confirm(&format!("End the key {kid} of {id}, and every token that it signed?"), yes)?;
    let because = console.reason(because)?;
    let cause = ward.cause(Some(&because));
    let what = Revocation { device: &id, only: Some(record.fingerprint), reason };
    let ended = ward.store.revoke(what, &cause)?;
    let text = format!("retired {kid} of {id}: every token that it signed is void\n");
    let value = json!({ "device": id, "kid": kid, "reason": reason.as_str(), "ended": ended.len(), "left": left });
    console.show("tidy-warden/key-retired/1", value, &text)?;
    console.note(match left {
        0 => {
            "the device has nothing else to sign in with; a running guard ends its sessions within a second".to_owned()
        }
        left => format!(
            "{} of it still may sign in; a running guard ends the sessions of this key within a second",
            counted(left, "credential")
        ),
    });
    Ok(Exit::Done)
}
