//! `credential`: the certificates of the fleet, and whose one is.

pub(super) mod pin;

use std::path::Path;

use serde_json::{Value, json};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::{CredentialRecord, Origin, Unusable};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::key::sha256;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::DeviceView;

use super::device::history;
use super::{Context, pick};
use crate::args::CredentialCommand;
use crate::console::counted;
use crate::edge::CertificateName;
use crate::files;
use crate::problem::{Exit, Problem};
use crate::stream::{Stream, TableStream};
use crate::ward::Ward;

pub(crate) fn run(context: &Context<'_>, command: CredentialCommand) -> Result<Exit, Problem> {
    match command {
        CredentialCommand::List { condition: text, all } => list(context, text.as_deref(), all),
        CredentialCommand::Pin(args) => pin::run(context, &args),
        CredentialCommand::Show { name, cert, fact, at } => {
            show(context, (name.as_deref(), cert.as_deref(), fact.as_ref()), at.as_deref())
        }
    }
}

/// All that is recorded of a certificate.
pub(super) fn json(credential: &CredentialRecord, now: UnixTime) -> Value {
    json!({
        "state": credential.state(now).as_str(), "serial": credential.serial.as_ref().map(ToString::to_string),
        "fingerprint": credential.fingerprint.to_string(), "origin": credential.origin.as_str(), "authority": credential.authority, "key": credential.key_type,
        "begins": credential.not_before, "ends": credential.not_after, "issued": credential.issued,
        "equipped": credential.equipped, "first_used": credential.first_used,
        "superseded_until": credential.superseded_until, "revoked": credential.revoked.map(|(at, _)| at),
        "reason": credential.revoked.map(|(_, reason)| reason.as_str()),
    })
}

/// Which authority signed it, or how else it came.
pub(super) fn made_by(credential: &CredentialRecord) -> String {
    match (credential.origin, &credential.authority) {
        (Origin::Pinned, _) => "others; pinned".to_owned(),
        (Origin::Key, _) => "the device; its key is registered".to_owned(),
        (Origin::Shared, _) => "shared with the ward".to_owned(),
        (Origin::Foreign, Some(authority)) => format!("{authority} (foreign)"),
        (_, Some(authority)) => authority.to_string(),
        (_, None) => "-".to_owned(),
    }
}

/// What a person should know beside the state.
pub(super) fn note(credential: &CredentialRecord, now: UnixTime) -> String {
    match (credential.revoked, credential.superseded_until) {
        (Some((at, reason)), _) => format!("revoked {at}, {reason}"),
        (None, Some(until)) if until >= now => format!("may sign in until {until}, or until its successor is used"),
        (None, Some(until)) => format!("could sign in until {until}"),
        (None, None) => String::new(),
    }
}

fn list(context: &Context<'_>, condition: Option<&str>, all: bool) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let now = ward.now();
    // What is on hold has not ended.
    let usable = |each: &CredentialRecord| matches!(each.may_sign_in(now), Ok(()) | Err(Unusable::Held { .. }));
    // A device that has none any more shows what it had last: that it ended is what matters about it.
    let shown = |credential: &CredentialRecord, view: &DeviceView| {
        let last = || view.credentials.iter().find(|each| each.revoked.is_none()).map(|each| each.fingerprint);
        let is_last = || !view.credentials.iter().any(usable) && last() == Some(credential.fingerprint);
        all || usable(credential) || is_last()
    };
    let item = |credential: &CredentialRecord| {
        let mut value = json!({ "device": credential.device });
        if let (Some(value), Value::Object(fields)) = (value.as_object_mut(), json(credential, now)) {
            value.extend(fields);
        }
        value
    };
    let row = |credential: &CredentialRecord| {
        vec![
            credential.device.to_string(),
            credential.name(),
            credential.state(now).as_str().to_owned(),
            made_by(credential),
            credential.key_type.clone(),
            credential.not_after.date(),
            note(credential, now),
        ]
    };
    let columns = ["device", "certificate", "state", "authority", "key", "ends", "note"].map(str::to_owned).to_vec();
    let each = |add: &mut dyn FnMut(&CredentialRecord) -> Result<(), Problem>| {
        let mut result = Ok(());
        pick::each_by_end(&ward, condition, &mut |ending| {
            let credential = ending.view.credentials.iter().find(|each| each.fingerprint == ending.fingerprint);
            if let Some(credential) = credential.filter(|credential| shown(credential, &ending.view)) {
                result = add(credential);
            }
            result.is_ok()
        })?;
        result
    };
    if let Some(form) = context.console.form() {
        let name = ("tidy-warden/credentials/1", "credentials");
        let mut stream = Stream::new(context.console, form, name, &columns)?;
        each(&mut |credential| stream.add(|| item(credential), || row(credential)))?;
        stream.end()?;
        return Ok(Exit::Done);
    }
    let mut stream = TableStream::new(context.console, &columns);
    each(&mut |credential| stream.add(&row(credential)))?;
    let empty = match condition {
        Some(_) => "no such certificates",
        None => "no certificates; issue one: enroll ID --make-key --out DIR",
    };
    let count = stream.end(empty)?;
    if count > 0 {
        context.console.note(counted(count, "certificate"));
    }
    Ok(Exit::Done)
}

fn show(
    context: &Context<'_>,
    (name, file, fact): (Option<&str>, Option<&Path>, Option<&(String, String)>),
    at: Option<&str>,
) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let at = at.map(|at| history::moment(&ward, at)).transpose()?;
    let (wanted, shown) = match (name, file) {
        (_, Some(path)) => {
            let certificate = read_certificate(path)?;
            // A bare key that is bound stands behind every certificate that carries it.
            let key = ward.store.bound_key(&sha256(certificate.public_key.spki()))?;
            (std::iter::once(certificate.fingerprint).chain(key).collect(), path.display().to_string())
        }
        (None, None) => {
            let (name, value) = fact.map_or(("", ""), |(name, value)| (name, value));
            let fact = crate::edge::fact(&ward.settings, name, value)?;
            let Some(holder) = ward.store.holder(&fact)? else {
                return Err(Problem::not_found(format!("no device has the {fact}")).next("device list"));
            };
            let newest = ward.device(&holder)?.credentials.into_iter().next();
            let Some(newest) = newest else {
                return Err(Problem::not_found(format!("`{holder}` has the {fact}, and no credential yet"))
                    .next(format!("device show {holder}")));
            };
            (vec![newest.fingerprint], fact.to_string())
        }
        (name, None) => {
            let name = name.unwrap_or_default();
            (named(&ward, name)?, name.to_owned())
        }
    };
    let found: Vec<(CredentialRecord, DeviceRecord)> = ward.store.status_many(&wanted)?.into_iter().flatten().collect();
    let Some((mut credential, mut device)) = found.into_iter().next() else {
        return Err(Problem::not_found(format!("this ward did not record the certificate {shown}"))
            .because("no device of it has a certificate with this fingerprint or serial number")
            .next("credential list --all shows those that it did record"));
    };
    let now = at.unwrap_or_else(|| ward.now());
    let mut since = Vec::new();
    if let Some(at) = at {
        let then = history::then(&ward, &device.id, at)?;
        let known = then.device.credentials.into_iter().find(|each| each.fingerprint == credential.fingerprint);
        credential = known.ok_or_else(|| {
            Problem::not_found(format!("{shown} was not recorded at {at}"))
                .because(format!("that was at {}", credential.issued))
                .next("credential show, without --at")
        })?;
        (device, since) = (then.device.device, then.changed_since);
    }
    let (credential, device) = (&credential, &device);
    let mut value = json(credential, now);
    value["at"] = json!(at);
    value["device"] = json!(device.id);
    value["kind"] = json!(device.kind);
    let by = ward.store.authorised_by(&credential.fingerprint)?;
    value["authorised_by"] = json!(by.map(|by| by.to_string()));
    let asked = match by.map(|by| ward.store.status_many(&[by])).transpose()?.and_then(|mut all| all.pop().flatten()) {
        Some((by, of)) => format!("asked for    with {} of {}\n", by.name(), of.id),
        None => String::new(),
    };
    let verdict = match (credential.may_sign_in(now), device.barred()) {
        (Err(why), _) => format!("no: {why}"),
        (Ok(()), Some(barred)) => format!("no: {barred}"),
        (Ok(()), None) => "yes".to_owned(),
    };
    let text = format!(
        "device       {} ({})\nstate        {}\nmay sign in  {verdict}\nserial       {}\nSHA-256      {}\nmade by      {}\n\
         key          {}\nvalid        {} to {}\nfirst used   {}\n{asked}",
        device.id,
        device.kind,
        credential.state(now).as_str(),
        credential.serial.as_ref().map_or_else(|| "none: it is a bare key".to_owned(), ToString::to_string),
        credential.fingerprint,
        made_by(credential),
        credential.key_type,
        credential.not_before,
        credential.not_after,
        credential.first_used.map_or_else(|| "never".to_owned(), |at| at.to_string()),
    );
    let text = match at {
        Some(at) => format!("at           {at}\n{text}"),
        None => text,
    };
    context.console.show("tidy-warden/credential/1", value, &text)?;
    history::tell_changes(context, &since);
    Ok(Exit::Done)
}

/// Reads one certificate in PEM or DER.
pub(super) fn read_certificate(path: &Path) -> Result<Certificate, Problem> {
    let bytes = files::read(path, 64 * 1024)?;
    let read = match std::str::from_utf8(&bytes) {
        Ok(text) => Certificate::from_pem(text.trim_end()),
        Err(_) => Certificate::from_der(&bytes),
    };
    read.map_err(|error| {
        Problem::refused(format!("cannot read {}", path.display()))
            .because(error)
            .next("give one certificate in PEM or DER")
    })
}

/// The certificates that a serial number or a fingerprint names.
fn named(ward: &Ward, text: &str) -> Result<Vec<Fingerprint>, Problem> {
    match CertificateName::parse(text)? {
        CertificateName::Fingerprint(fingerprint) => Ok(vec![fingerprint]),
        CertificateName::Serial(serial) => Ok(ward.store.fingerprints_of(&serial)?),
    }
}
