//! One device's certificate, and the outfit that carries it.

use std::path::Path;

use serde_json::json;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::ProvenKey;
use tidy_warden_core::request::{self, Request};
use tidy_warden_ward::issue::one::{enroll, ready};
use tidy_warden_ward::issue::press::KeySource;
use zeroize::Zeroizing;

use crate::args::EnrollArgs;
use crate::commands::Context;
use crate::edge::parse;
use crate::files;
use crate::problem::{Exit, Problem};

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
