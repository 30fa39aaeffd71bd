//! `enroll`: a device's certificate, and the outfit that carries it.

use std::path::{Path, PathBuf};

use serde_json::json;
use tidy_warden_core::certificate::{Certificate, Issuer, SerialNumber, Subject, Template, Usage, device_names};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{ProvenKey, SoftwareKey};
use tidy_warden_core::outfit::{Connect, SCHEMA};
use tidy_warden_core::request::{self, Request};
use tidy_warden_core::settings::{Kind, Role};
use tidy_warden_store::{AuthorityRole, DeviceView, IssueRefusal, NewCredential, Store};
use zeroize::Zeroizing;

use super::Context;
use crate::args::EnrollArgs;
use crate::clock::SystemRandom;
use crate::edge::parse;
use crate::files::{self, Access, PendingFolder};
use crate::passphrase::Passphrase;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// Where the device's key comes from.
pub(crate) enum KeySource {
    /// A request that proves it, and what it asked for in vain.
    Proven(ProvenKey),
    /// Made here, of the type that the kind says.
    MakeHere,
}

/// What came of it.
pub(crate) struct Enrolled {
    pub(crate) certificate: Certificate,
    pub(crate) outfit: PathBuf,
    pub(crate) notes: Vec<String>,
}

pub(crate) fn run(context: &Context<'_>, args: &EnrollArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let id: DeviceId = parse(&args.device)?;
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
    let passphrase = context.passphrase("the devices' authority")?;
    let enrolled = enroll(&mut ward, &id, source, &args.out, args.again, &passphrase, args.because.text())?;
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
        certificate.alternative_names.join(", "),
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

/// Refuses before anything is signed what the store would refuse afterwards; gives the device's kind.
fn ready(ward: &Ward, view: &DeviceView, again: bool) -> Result<Kind, Problem> {
    let device = &view.device;
    let now = ward.now();
    if let Some(since) = device.retired {
        return Err(refusal(&IssueRefusal::Retired { device: device.id.clone(), since }));
    }
    if let Some(since) = device.out {
        return Err(refusal(&IssueRefusal::Out { device: device.id.clone(), since }));
    }
    let usable =
        view.credentials.iter().filter_map(|credential| credential.usable_until()).filter(|until| *until >= now);
    if let (Some(until), false) = (usable.max(), again) {
        return Err(refusal(&IssueRefusal::HasCredential { device: device.id.clone(), until }));
    }
    let kind = ward.settings.kind(&device.kind).map_err(|unknown| {
        Problem::refused(unknown.to_string()).next(format!("add to ward.toml: [kinds.{}]", device.kind))
    })?;
    let missing = kind.facts.iter().find(|fact| kind.role == Role::Device && !device.facts.contains_key(fact));
    match missing {
        Some(fact) => Err(Problem::refused(format!("`{}` was not enrolled", device.id))
            .because(format!("its kind `{}` wants the fact `{fact}`, which is not known", device.kind))
            .next(format!("device edit {} --fact {fact}=VALUE", device.id))),
        None => Ok(kind.clone()),
    }
}

fn refusal(refusal: &IssueRefusal) -> Problem {
    let (who, next) = match refusal {
        IssueRefusal::Out { device, .. } => {
            (device, format!("device reopen {device} --because TEXT, if it may come back"))
        }
        IssueRefusal::Retired { device, .. } => (device, "list the machine under a new id".to_owned()),
        IssueRefusal::HasCredential { device, .. } => (device, "add --again to issue another one".to_owned()),
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
    passphrase: &Passphrase,
    because: Option<&str>,
) -> Result<Enrolled, Problem> {
    let view = ward.device(id)?;
    let kind = ready(ward, &view, again)?;
    let authority = ward.authority(AuthorityRole::Devices)?;
    let signer = ward.key(authority.name.as_str(), passphrase)?;
    let (proven, made) = match source {
        KeySource::Proven(key) => (key, None),
        KeySource::MakeHere => {
            let key =
                SoftwareKey::generate(kind.key).map_err(|error| Problem::failed("cannot make a key").because(error))?;
            (key.proven(), Some(key))
        }
    };
    let facts: Vec<_> = view.device.facts.values().cloned().collect();
    let name = device_names(&ward.record.urn, ward.settings.enterprise_number, id, &facts);
    let crl_url = format!("{}{}.crl", ward.settings.endpoints.crl, authority.name);
    let template = Template {
        serial: SerialNumber::new(ward.now(), &mut SystemRandom),
        subject: Subject { organization: &ward.settings.name, common_name: id.as_str() },
        key: &proven,
        now: ward.now(),
        life: kind.life,
        usage: Usage::Client { name: &name },
        crl_url: &crl_url,
    };
    let issued = template
        .issue(Issuer { certificate: &authority.certificate, signer: &signer })
        .map_err(|error| Problem::failed(format!("`{id}` was not enrolled")).because(error))?;
    let certificate = issued.certificate;
    let mut notes = Vec::new();
    if name.made_up {
        notes.push(format!(
            "{id} has the made-up name {}: the ward has no enterprise_number and the device no known mac",
            name.urn
        ));
    }
    if issued.clipped {
        notes.push(format!("the certificate ends with its authority on {}", certificate.not_after.date()));
    }
    std::fs::create_dir_all(out).map_err(|error| Problem::file("make", out, &error))?;
    let place = out.join(id.as_str());
    let mut folder = outfit(ward, &view, &place, &certificate, &authority.certificate, made.as_ref())?;
    let cause = ward.cause(because);
    let new = NewCredential {
        device: id,
        authority: &authority.name,
        certificate: &certificate,
        again,
        overlap: kind.overlap,
    };
    match ward.store.record_issued(new, &cause, &mut || folder.publish()) {
        Ok(Ok(())) => Ok(Enrolled { certificate, outfit: place, notes }),
        Ok(Err(refused)) => Err(refusal(&refused)),
        Err(error) => {
            folder.withdraw();
            Err(error.into())
        }
    }
}

/// Fills the outfit beside its place.
fn outfit(
    ward: &Ward,
    view: &DeviceView,
    place: &Path,
    certificate: &Certificate,
    issuing: &Certificate,
    key: Option<&SoftwareKey>,
) -> Result<PendingFolder, Problem> {
    let failed = |error: std::io::Error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => Problem::refused(format!(
            "the outfit {} exists already, and an outfit is never overwritten",
            place.display()
        ))
        .next("move it away, or name another folder with --out"),
        _ => Problem::file("write", place, &error),
    };
    let root = ward.root()?;
    let rights = ward.edition()?.map(|edition| edition.rights(&view.device));
    let id = view.device.id.to_string();
    let mqtt = &ward.settings.endpoints.mqtt;
    let connect = Connect {
        schema: SCHEMA.to_owned(),
        client_id: rights.as_ref().and_then(|rights| rights.client_id()).unwrap_or_else(|| id.clone()),
        user_name: id.clone(),
        device: id,
        host: mqtt.host.clone(),
        port: mqtt.port,
        publish: rights.iter().flat_map(|rights| rights.publish_filters()).map(ToString::to_string).collect(),
        subscribe: rights.iter().flat_map(|rights| rights.subscribe_filters()).map(ToString::to_string).collect(),
        root_fingerprint: root.fingerprint.to_string(),
    };
    let text = serde_json::to_string_pretty(&connect)
        .map_err(|error| Problem::failed("cannot write connect.json").because(error))?;
    let folder = PendingFolder::begin(place).map_err(failed)?;
    if let Some(key) = key {
        let pem = key.to_pkcs8_pem().map_err(|error| Problem::failed("cannot write the key").because(error))?;
        folder.add("device.key", pem.as_bytes(), Access::Secret).map_err(failed)?;
    }
    for (name, text) in [
        ("device.pem", certificate.to_pem()),
        ("chain.pem", issuing.to_pem()),
        ("root.pem", root.to_pem()),
        ("connect.json", text + "\n"),
    ] {
        folder.add(name, text.as_bytes(), Access::Public).map_err(failed)?;
    }
    Ok(folder)
}
