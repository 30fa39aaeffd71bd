//! One device's certificate, and the outfit that carries it.

use std::path::{Path, PathBuf};

use tidy_warden_core::certificate::{Certificate, SerialNumber};
use tidy_warden_core::credential::Origin;
use tidy_warden_core::enrolment::{IssueRefusal, may_be_issued};
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_store::{DeviceView, Intended};

use super::intended;
use super::press::{KeySource, Mint, Minted, Outfit, Press, Unmade};
use crate::edge::known_kind;
use crate::files::{self, Access, PendingFolder};
use crate::keys::Openers;
use crate::open::Ward;
use crate::problem::Problem;

/// What came of it.
pub struct Enrolled {
    /// What was signed.
    pub certificate: Certificate,
    /// The folder of its outfit.
    pub outfit: PathBuf,
    /// What people should know of it, in lines.
    pub notes: Vec<String>,
}

/// Refuses before anything is signed what the store would refuse afterwards.
pub fn ready(ward: &Ward, view: &DeviceView, again: bool) -> Result<(), Problem> {
    let device = &view.device;
    may_be_issued(device, &view.credentials, Origin::Issued, again, ward.now()).map_err(|refused| refusal(&refused))?;
    known_kind(&ward.settings, &device.kind)
}

/// A refusal with what to do about it.
#[must_use]
pub fn refusal(refusal: &IssueRefusal) -> Problem {
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
pub fn enroll(
    ward: &mut Ward,
    id: &DeviceId,
    source: KeySource,
    out: &Path,
    again: bool,
    secrets: &dyn Openers,
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
