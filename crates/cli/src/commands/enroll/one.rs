//! One device's certificate, and the outfit that carries it.

use std::path::{Path, PathBuf};

use serde_json::json;
use tidy_warden_core::certificate::{Certificate, SerialNumber};
use tidy_warden_core::enrolment::{IssueRefusal, may_be_issued};
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::key::ProvenKey;
use tidy_warden_core::request::{self, Request};
use tidy_warden_store::{DeviceView, Intended};
use zeroize::Zeroizing;

use super::intended;
use super::press::{KeySource, Mint, Minted, Outfit, Press, Unmade};
use crate::args::EnrollArgs;
use crate::commands::Context;
use crate::edge::{known_kind, parse};
use crate::files::{self, Access, PendingFolder};
use crate::keys::Secrets;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// What came of it.
pub(crate) struct Enrolled {
    pub(crate) certificate: Certificate,
    pub(crate) outfit: PathBuf,
    pub(crate) notes: Vec<String>,
}

pub(super) fn run(context: &Context<'_>, args: &EnrollArgs, device: &str, out: &Path) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let id: DeviceId = parse(device)?;
    let view = ward.device(&id)?;
    let source = match &args.csr {
        Some(path) => {
            let (key, ignored) = read_request(path)?;
            if !ignored.is_empty() {
                console.note(format!("of the request only its key was taken, not {}", ignored.join(", ")));
            }
            KeySource::Proven(key)
        }
        None => KeySource::MakeHere,
    };
    ready(&ward, &view, args.again)?;
    let enrolled = enroll(&mut ward, &id, source, out, args.again, &context.secrets(), args.because.text())?;
    enrolled.notes.iter().for_each(|note| console.warn(note));
    let certificate = &enrolled.certificate;
    let value = json!({
        "device": id, "serial": certificate.serial.to_string(), "fingerprint": certificate.fingerprint.to_string(),
        "begins": certificate.not_before, "ends": certificate.not_after, "outfit": enrolled.outfit.display().to_string(),
    });
    let text = format!(
        "device      {id}\nserial      {}\nSHA-256     {}\nkey         {}\nname        {}\nends        {}\noutfit      {}\n",
        certificate.serial,
        certificate.fingerprint,
        certificate.public_key.key_type(),
        certificate.alternative_names().join(", "),
        certificate.not_after,
        enrolled.outfit.display()
    );
    console.show("tidy-warden/enrolled/1", value, &text)?;
    if args.make_key {
        console.note("the private key is in the outfit and nowhere else; hand the outfit over and remove it here");
    }
    Ok(Exit::Done)
}

/// Reads a request and verifies that its sender has the key; also what it asked for and does not get.
fn read_request(path: &Path) -> Result<(ProvenKey, Vec<String>), Problem> {
    let limit = u64::try_from(request::MAX_LEN).unwrap_or(u64::MAX);
    let bytes = Zeroizing::new(files::read(path, limit)?);
    let refused = |error: request::BadRequest| {
        let problem = Problem::refused(format!("the request {} was refused", path.display())).because(&error);
        match error {
            request::BadRequest::PrivateKey => {
                problem.next("make a request on the device, and treat this key as compromised if it travelled")
            }
            _ => problem.next("make the request anew on the device, with a key that stays there"),
        }
    };
    let request = Request::parse(&bytes).map_err(refused)?;
    let ignored = request.ignored.clone();
    Ok((request.verify_possession().map_err(refused)?, ignored))
}

/// Refuses before anything is signed what the store would refuse afterwards.
fn ready(ward: &Ward, view: &DeviceView, again: bool) -> Result<(), Problem> {
    let device = &view.device;
    may_be_issued(device, &view.credentials, again, ward.now()).map_err(|refused| refusal(&refused))?;
    known_kind(&ward.settings, &device.kind)
}

pub(crate) fn refusal(refusal: &IssueRefusal) -> Problem {
    let (who, next) = match refusal {
        IssueRefusal::Out { device, .. } => {
            (device, format!("device reopen {device} --because TEXT, if it may come back"))
        }
        IssueRefusal::Held { device, .. } => (device, format!("release {device}, if all is well with it")),
        IssueRefusal::Retired { device, .. } => (device, "list the machine under a new id".to_owned()),
        IssueRefusal::HasCredential { device, .. } => (device, "add --again to give it another one".to_owned()),
        IssueRefusal::KeyInUse { other } => (other, "make a new key on the device: each device has its own".to_owned()),
        IssueRefusal::KeyCompromised { other } => (other, "make a new key on the device".to_owned()),
        other => return Problem::refused("it was not enrolled").because(other),
    };
    let what = match refusal {
        IssueRefusal::KeyInUse { .. } | IssueRefusal::KeyCompromised { .. } => "the key was refused".to_owned(),
        _ => format!("`{who}` was not enrolled"),
    };
    Problem::refused(what).because(refusal).next(next)
}

/// Signs, writes the outfit and records: all of it, or nothing that opens anything.
pub(crate) fn enroll(
    ward: &mut Ward,
    id: &DeviceId,
    source: KeySource,
    out: &Path,
    again: bool,
    secrets: &Secrets<'_>,
    because: Option<&str>,
) -> Result<Enrolled, Problem> {
    let view = ward.device(id)?;
    ready(ward, &view, again)?;
    let device = &view.device;
    let mint = Mint::new(ward)?;
    mint.prepare(&device.kind, &|authority| secrets.signer(ward, authority))?;
    std::fs::create_dir_all(out).map_err(|error| Problem::file("make", out, &error))?;
    let place = out.join(id.as_str());
    let at = std::path::absolute(&place).map_err(|error| Problem::file("find", &place, &error))?;
    // While this is held, nobody takes what is intended here for what a dead process left.
    let _signing = intended::signing(&ward.dir)?;
    let mut press = Press::new(&mint, ward.now());
    let cause = ward.cause(because);
    let mut noted: Option<Intended> = None;
    let store = &mut ward.store;
    let mut before = |serial: &SerialNumber, not_after, authority: &AuthorityName| -> Result<(), Problem> {
        let (serial, authority, device) = (serial.clone(), authority.clone(), id.clone());
        let intended = Intended { serial, authority, device, not_after, place: Some(at.display().to_string()) };
        store.intend(&intended, &cause)?;
        noted = Some(intended);
        Ok(())
    };
    let made = press.mint_after(device, source, &mut before).map_err(|unmade| match unmade {
        Unmade::Device(why) => {
            let problem = Problem::refused(format!("`{id}` was not enrolled")).because(why);
            problem.next(format!("look at device show {id} and at [kinds.{}] in ward.toml", device.kind))
        }
        Unmade::All(problem) => problem,
    });
    let done = made.and_then(|minted| {
        let certificate = Certificate::from_der(&minted.fresh.der)
            .map_err(|error| Problem::failed(format!("`{id}` was not enrolled")).because(error))?;
        let mut folder = fill(&press.outfit(device, &minted)?, &at, &intended::suffix(&minted.serial))?;
        folder.sync().map_err(|error| Problem::file("write", &place, &error))?;
        // Recorded first, then put in its place: what looks like an outfit is one that the ward knows.
        match store.record_issued(&minted.credential(id, again), &cause, &mut || Ok(()))? {
            Ok(()) => {}
            Err(refused) => return Err(refusal(&refused)),
        }
        if let Err(error) = folder.publish() {
            let left = folder.keep();
            return Err(Problem::file("write", &place, &error).next(format!(
                "the certificate is recorded, and its outfit is in {}: make room, and run any command to put it in place",
                left.display()
            )));
        }
        Ok(Enrolled { certificate, outfit: place.clone(), notes: notes(id, &minted) })
    });
    // What was refused, or failed before it was recorded, never left this process; an outfit that waits is still noted.
    let waits = noted.as_ref().is_some_and(|noted| files::partial(&at, &intended::suffix(&noted.serial)).exists());
    if let Some(noted) = noted.filter(|_| !waits) {
        store.end_intended(&[noted], false, &cause)?;
    }
    done
}

fn notes(id: &DeviceId, minted: &Minted) -> Vec<String> {
    let mut notes = Vec::new();
    if let Some(name) = &minted.made_up {
        notes.push(format!(
            "{id} has the made-up name {name}: the ward has no enterprise_number and the device no known mac"
        ));
    }
    if minted.clipped {
        notes.push(format!("the certificate ends with its authority on {}", minted.not_after.date()));
    }
    notes
}

/// Fills the outfit beside its place.
fn fill(outfit: &Outfit<'_>, place: &Path, suffix: &str) -> Result<PendingFolder, Problem> {
    let failed = |error: std::io::Error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => Problem::refused(format!(
            "the outfit {} exists already, and an outfit is never overwritten",
            place.display()
        ))
        .next("move it away, or name another folder with --out"),
        _ => Problem::file("write", place, &error),
    };
    let folder = PendingFolder::begin(place, suffix).map_err(failed)?;
    if let Some(pem) = outfit.device_key {
        folder.add("device.key", pem.as_bytes(), Access::Secret).map_err(failed)?;
    }
    let connect = outfit.connect_text()?;
    for (name, text) in [
        ("device.pem", outfit.device_pem.as_str()),
        ("chain.pem", outfit.chain_pem.plain.as_str()),
        ("root.pem", outfit.root_pem.plain.as_str()),
        ("connect.json", &connect),
    ] {
        folder.add(name, text.as_bytes(), Access::Public).map_err(failed)?;
    }
    Ok(folder)
}
