//! `credential pin`: certificates and keys that were not made here, bound to their devices.

use std::collections::BTreeMap;
use std::io::Cursor;
use std::path::Path;

use serde_json::json;
use tidy_warden_core::certificate::{Certificate, Fingerprint, SerialNumber};
use tidy_warden_core::credential::Origin;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::enrolment::may_be_issued;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{PublicKey, sha256, thumbprint};
use tidy_warden_core::settings::Kind;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{Batch, NewCredential};

use super::read_certificate;
use crate::args::PinArgs;
use crate::commands::Context;
use crate::console::counted;
use crate::edge::{parse, read_key};
use crate::files;
use crate::list::{Extra, ListEntry, ListReader};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;
use tidy_warden_ward::issue::one::refusal;

/// The largest list, in octets.
const MAX_LIST: u64 = 512 * 1024 * 1024;

/// How many rows are told one by one.
const TOLD: usize = 20;

/// Something that a device is to be known by.
struct Pin {
    origin: Origin,
    der: Vec<u8>,
    serial: Option<SerialNumber>,
    key: PublicKey,
    key_type: String,
    /// What it is called in tokens, if it is a bare key.
    kid: Option<String>,
    subject: Option<String>,
    not_before: UnixTime,
    not_after: UnixTime,
    warnings: Vec<String>,
}

impl Pin {
    fn of_certificate(
        certificate: &Certificate,
        until: Option<UnixTime>,
        kind: &Kind,
        now: UnixTime,
    ) -> Result<Self, String> {
        if certificate.not_after < now {
            return Err(format!("its certificate ended at {}", certificate.not_after));
        }
        let mut warnings = certificate.weaknesses();
        if until.is_none() && certificate.not_after.since(now) > kind.life.seconds() {
            warnings.push(format!(
                "it lasts until {}, longer than its kind's life; an earlier end can be set",
                certificate.not_after.date()
            ));
        }
        let not_after = until.map_or(certificate.not_after, |until| until.min(certificate.not_after));
        Self {
            origin: Origin::Pinned,
            kid: None,
            der: certificate.der().to_vec(),
            serial: Some(certificate.serial.clone()),
            key: certificate.public_key.clone(),
            key_type: certificate.public_key.key_type().to_string(),
            subject: Some(certificate.subject_text.clone()),
            not_before: certificate.not_before,
            not_after,
            warnings,
        }
        .checked(kind, now)
    }

    fn of_key(key: PublicKey, until: Option<UnixTime>, kind: &Kind, now: UnixTime) -> Result<Self, String> {
        Self {
            origin: Origin::Key,
            kid: thumbprint(&key),
            der: key.spki().to_vec(),
            serial: None,
            key_type: key.key_type().to_string(),
            key,
            subject: None,
            not_before: now.minus(Span::from_seconds(600)),
            not_after: until.unwrap_or(now.plus(kind.life)),
            warnings: Vec::new(),
        }
        .checked(kind, now)
    }

    fn checked(self, kind: &Kind, now: UnixTime) -> Result<Self, String> {
        if self.not_after <= now {
            return Err(format!("it would end at {}, which is over", self.not_after));
        }
        match kind.accepts(self.key.key_type()) {
            true => Ok(self),
            false => Err(format!("its key is {}, which its kind does not accept", self.key_type)),
        }
    }

    fn credential<'a>(&'a self, device: &'a DeviceId, again: bool, overlap: Span) -> NewCredential<'a> {
        NewCredential {
            device,
            origin: self.origin,
            authority: None,
            der: &self.der,
            fingerprint: Fingerprint::of(&self.der),
            serial: self.serial.as_ref(),
            key_digest: sha256(self.key.spki()),
            key_type: &self.key_type,
            not_before: self.not_before,
            not_after: self.not_after,
            again,
            overlap,
            fresh_key: false,
            authorised_by: None,
            kid: self.kid.as_deref(),
            note: None,
        }
    }
}

pub(super) fn run(context: &Context<'_>, args: &PinArgs) -> Result<Exit, Problem> {
    match (&args.device, &args.from) {
        (_, Some(from)) => many(context, args, from),
        (Some(device), None) => one(context, args, device),
        (None, None) => {
            Err(Problem::usage("name a device, or a list").next("credential pin DEVICE --cert FILE, or --from FILE"))
        }
    }
}

fn one(context: &Context<'_>, args: &PinArgs, device: &str) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let view = ward.device(&parse(device)?)?;
    let id = &view.device.id;
    let kind = ward
        .settings
        .kind(&view.device.kind)
        .map_err(|unknown| {
            Problem::refused(unknown.to_string()).next(format!("add to ward.toml: [kinds.{}]", unknown.kind))
        })?
        .clone();
    let until = args.until.as_deref().map(parse::<UnixTime>).transpose()?;
    let now = ward.now();
    let made = match (&args.cert, &args.public_key) {
        (Some(path), _) => Pin::of_certificate(&read_certificate(path)?, until, &kind, now),
        (None, Some(path)) => Pin::of_key(read_key(path)?, until, &kind, now),
        (None, None) => return Err(Problem::usage("what shall be pinned?").next("--cert FILE, or --public-key FILE")),
    };
    let pin = made.map_err(|why| Problem::refused(format!("nothing was pinned to `{id}`")).because(why))?;
    if let Err(refused) = may_be_issued(&view.device, &view.credentials, pin.origin, args.again, now) {
        return Err(refusal(&refused));
    }
    let new = pin.credential(id, args.again, kind.overlap);
    let what = if pin.origin == Origin::Key { "key" } else { "certificate" };
    let subject = pin.subject.as_deref().unwrap_or("none: it is a bare key");
    let text = format!(
        "device      {id}\nsubject     {subject}\nkey         {}\nSHA-256     {}\nends        {}\n",
        pin.key_type, new.fingerprint, pin.not_after
    );
    if !args.yes {
        console.note(text.trim_end());
    }
    for warning in &pin.warnings {
        console.warn(warning);
    }
    console.confirm(&format!("Let this {what} stand for {id}?"), args.yes)?;
    let cause = ward.cause(args.because.text());
    if let Err(refused) = ward.store.record_issued(&new, &cause, &mut || Ok(()))? {
        return Err(refusal(&refused));
    }
    let value = json!({
        "device": id, "origin": pin.origin.as_str(), "subject": pin.subject, "key": pin.key_type,
        "fingerprint": new.fingerprint.to_string(), "ends": pin.not_after, "warnings": pin.warnings,
    });
    console.show("tidy-warden/pin/1", value, &text)?;
    Ok(Exit::Done)
}

/// A row that can be pinned.
struct Good {
    line: u64,
    device: DeviceRecord,
    is_new: bool,
    pin: Pin,
    overlap: Span,
}

fn many(context: &Context<'_>, args: &PinArgs, from: &Path) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let from_stdin = from == Path::new("-");
    let octets = if from_stdin { files::read_input_octets(MAX_LIST)? } else { files::read(from, MAX_LIST)? };
    let shown = if from_stdin { "standard input".to_owned() } else { from.display().to_string() };
    let base = from.parent().filter(|_| !from_stdin).unwrap_or(Path::new(""));
    let settings = ward.settings.clone();
    let mut reader = ListReader::open(Cursor::new(octets), &shown, Extra::Pins, &settings, ward.now())?;
    let mut good: Vec<Good> = Vec::new();
    let mut bad: Vec<(u64, String)> = Vec::new();
    let failed = |error: std::io::Error| Problem::failed(format!("cannot read {shown}")).because(error);
    while let Some(row) = reader.next_row().map_err(failed)? {
        match row.entry.and_then(|entry| read_row(&ward, entry, base, args.again, row.line)) {
            Ok(found) => good.push(found),
            Err(why) => bad.push((row.line, why)),
        }
    }
    if good.is_empty() && bad.is_empty() {
        return Err(Problem::refused(format!("{shown} lists nothing")).because("there is no row after the header"));
    }
    refuse_shared(&mut good, &mut bad);
    let weak: Vec<(u64, String)> = good
        .iter()
        .filter(|row| !row.pin.warnings.is_empty())
        .map(|row| (row.line, format!("`{}`: {}", row.device.id, row.pin.warnings.join("; "))))
        .collect();
    if !weak.is_empty() {
        console.warn(format!("{} weak:\n{}", counted(weak.len(), "row"), told(&weak)));
    }
    let refused = |bad: &mut Vec<(u64, String)>| {
        bad.sort();
        Problem::refused(format!("nothing of {shown} was pinned: {} bad", counted(bad.len(), "row")))
            .because(told(bad))
            .next("fix these rows, or remove them, and pin the list again: it is taken whole or not at all")
    };
    if !bad.is_empty() {
        return Err(refused(&mut bad));
    }
    console.confirm(&format!("Let {} of {shown} stand for their devices?", counted(good.len(), "row")), args.yes)?;
    let devices: Vec<DeviceRecord> = good.iter().filter(|row| row.is_new).map(|row| row.device.clone()).collect();
    let credentials: Vec<NewCredential<'_>> =
        good.iter().map(|row| row.pin.credential(&row.device.id, args.again, row.overlap)).collect();
    let list: Vec<u8> =
        credentials.iter().flat_map(|new| format!("{} {}\n", new.device, new.fingerprint).into_bytes()).collect();
    let batch = Batch {
        act: "credential.pin-list",
        devices: &devices,
        credentials: &credentials,
        list_digest: sha256(&list),
        reached: None,
    };
    let cause = ward.cause(args.because.text());
    if let Err(refusals) = ward.store.record_batch(&batch, &cause, &mut || Ok(()))? {
        let line = |id: &DeviceId| good.iter().find(|row| row.device.id == *id).map_or(0, |row| row.line);
        let mut bad = refusals.into_iter().map(|each| (line(&each.device), each.why)).collect();
        return Err(refused(&mut bad));
    }
    let value = json!({ "pinned": good.len(), "listed": devices.len(), "weak": weak.len() });
    let text = format!(
        "pinned  {}\nlisted  {}\nweak    {}\n",
        counted(good.len(), "credential"),
        counted(devices.len(), "new device"),
        weak.len()
    );
    console.show("tidy-warden/pinned/1", value, &text)?;
    Ok(Exit::Done)
}

fn read_row(ward: &Ward, entry: ListEntry, base: &Path, again: bool, line: u64) -> Result<Good, String> {
    let id = entry.device.id.clone();
    let view = ward.store.devices(&[id]).map_err(|error| error.to_string())?.pop().flatten();
    let is_new = view.is_none();
    let device = match view {
        None if !entry.has_kind => {
            return Err(format!("`{}` is not listed, and the row names no kind", entry.device.id));
        }
        None => entry.device,
        Some(view) => {
            let origin = if entry.certificate.is_some() { Origin::Pinned } else { Origin::Key };
            if let Err(refused) = may_be_issued(&view.device, &view.credentials, origin, again, ward.now()) {
                return Err(refused.to_string());
            }
            view.device
        }
    };
    let kind = ward.settings.kind(&device.kind).map_err(|unknown| unknown.to_string())?;
    let now = ward.now();
    let one_line = |problem: Problem| problem.in_one_line();
    let pin = match (&entry.certificate, &entry.public_key) {
        (Some(path), None) => {
            Pin::of_certificate(&read_certificate(&base.join(path)).map_err(one_line)?, entry.until, kind, now)?
        }
        (None, Some(path)) => Pin::of_key(read_key(&base.join(path)).map_err(one_line)?, entry.until, kind, now)?,
        _ => return Err("it needs either a cert or a public_key".to_owned()),
    };
    Ok(Good { line, device, is_new, pin, overlap: kind.overlap })
}

/// Takes out all rows that share a key or name one device: whose it is cannot be told.
fn refuse_shared(good: &mut Vec<Good>, bad: &mut Vec<(u64, String)>) {
    let mut keys: BTreeMap<Vec<u8>, Vec<u64>> = BTreeMap::new();
    let mut ids: BTreeMap<DeviceId, Vec<u64>> = BTreeMap::new();
    for row in &*good {
        keys.entry(row.pin.key.spki().to_vec()).or_default().push(row.line);
        ids.entry(row.device.id.clone()).or_default().push(row.line);
    }
    let others = |lines: &[u64], own: u64| {
        let lines: Vec<String> = lines.iter().filter(|line| **line != own).map(ToString::to_string).collect();
        lines.join(", ")
    };
    good.retain(|row| {
        let key_lines = keys.get(row.pin.key.spki()).map(Vec::as_slice).unwrap_or_default();
        let id_lines = ids.get(&row.device.id).map(Vec::as_slice).unwrap_or_default();
        let why = if key_lines.len() > 1 {
            format!("`{}` has the same key as line {}", row.device.id, others(key_lines, row.line))
        } else if id_lines.len() > 1 {
            format!("`{}` stands on line {} too", row.device.id, others(id_lines, row.line))
        } else {
            return true;
        };
        bad.push((row.line, why));
        false
    });
}

fn told(rows: &[(u64, String)]) -> String {
    let mut lines: Vec<String> = rows.iter().take(TOLD).map(|(line, why)| format!("  line {line}: {why}")).collect();
    if rows.len() > TOLD {
        lines.push(format!("  and {} more", rows.len() - TOLD));
    }
    lines.join("\n")
}
