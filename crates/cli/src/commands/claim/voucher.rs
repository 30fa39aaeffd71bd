//! `claim voucher` and `claim check-voucher`: the ward says to a device, offline, whose it is.

use std::path::Path;

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::time::{Clock as _, Span};
use tidy_warden_core::voucher::{Fresh, Knows, LONGEST_VOUCHER, MAX_VOUCHER, NONCE, Voucher, VoucherForm};
use tidy_warden_simulate::Outfit;
use tidy_warden_ward::clock::WardClock;
use tidy_warden_ward::voucher::issue;

use super::super::Context;
use super::super::credential::read_certificate;
use crate::args::{CheckVoucherArgs, VoucherArgs, VoucherFormArg};
use crate::edge::parse;
use crate::files::{self, Access};
use crate::problem::{Exit, Problem};

/// The random octets of a device, in hexadecimal.
fn nonce(text: &str) -> Result<Vec<u8>, Problem> {
    let octets = data_encoding::HEXLOWER_PERMISSIVE.decode(text.as_bytes()).ok();
    octets.filter(|octets| NONCE.contains(&octets.len())).ok_or_else(|| {
        Problem::refused(format!("{text:?} is no nonce")).because(format!(
            "it has {} to {} octets in hexadecimal (RFC 8366 section 5.3)",
            NONCE.start(),
            NONCE.end()
        ))
    })
}

pub(super) fn make(context: &Context<'_>, args: &VoucherArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let (id, owner): (DeviceId, OwnerId) = (parse(&args.device)?, parse(&args.owner)?);
    let pinned = read_certificate(&args.owner_cert)?;
    let now = ward.now();
    if pinned.not_after < now {
        return Err(Problem::refused(format!("{} cannot be pinned", args.owner_cert.display()))
            .because(format!("it ended at {}", pinned.not_after)));
    }
    let fresh = match (&args.nonce, &args.length) {
        (Some(text), _) => Fresh::Nonce(nonce(text)?),
        (None, length) => {
            let length: Span = parse(length.as_deref().unwrap_or("30d"))?;
            if length.seconds() < 60 || length > LONGEST_VOUCHER {
                return Err(Problem::refused(format!("no voucher is good for {length}"))
                    .because(format!("it must be a minute at least, and {LONGEST_VOUCHER} at the most")));
            }
            Fresh::Until(now.plus(length))
        }
    };
    let form = match args.form {
        VoucherFormArg::Cms => VoucherForm::Cms,
        VoucherFormArg::Jws => VoucherForm::Jws,
    };
    // What was signed is recorded; nothing is signed that could not be written.
    if args.out.exists() {
        return Err(Problem::refused(format!("{} is there already", args.out.display()))
            .because("vouchers overwrite nothing")
            .next("--out ANOTHER-FILE"));
    }
    let secrets = context.secrets();
    let (octets, voucher) = issue(&mut ward, (&id, &owner), &pinned, (form, fresh), &secrets, args.because.text())?;
    files::create_whole(&args.out, &octets, Access::Public)
        .map_err(|error| Problem::failed(format!("cannot write {}", args.out.display())).because(error))?;
    let value = json!({
        "device": id, "owner": owner, "serial": voucher.serial, "ends": voucher.ends(), "file": args.out.display().to_string(),
    });
    let fresh = match &voucher.fresh {
        Fresh::Until(ends) => format!("good until {ends}"),
        Fresh::Nonce(_) => "which answers its nonce".to_owned(),
    };
    let note = format!("wrote {}: {} is {owner}'s, {fresh}", args.out.display(), voucher.serial);
    context.console.did("tidy-warden/claim-voucher/1", value, note)?;
    Ok(Exit::Done)
}

fn roots(args: &CheckVoucherArgs) -> Result<(Vec<Certificate>, Option<String>), Problem> {
    let unread = |place: &Path, error: &dyn std::fmt::Display| {
        Problem::refused(format!("no root can be read from {}", place.display()))
            .because(error.to_string())
            .next("name the root that the device believes, in PEM or DER, such as root.pem of its outfit")
    };
    if let Some(place) = &args.outfit {
        let outfit =
            Outfit::read(place).map_err(|error| Problem::failed("this outfit cannot be used").because(error))?;
        let root = Certificate::from_der(&outfit.root).map_err(|error| unread(place, &error))?;
        return Ok((vec![root], Some(outfit.connect.device)));
    }
    let path = args
        .root
        .as_deref()
        .ok_or_else(|| Problem::usage("which root does the device believe?").next("--root FILE"))?;
    let limit = u64::try_from(MAX_VOUCHER).unwrap_or(u64::MAX);
    let all = Certificate::read_all(&files::read(path, limit)?).map_err(|error| unread(path, &error))?;
    Ok((all, None))
}

pub(super) fn check(context: &Context<'_>, args: &CheckVoucherArgs) -> Result<Exit, Problem> {
    let limit = u64::try_from(MAX_VOUCHER).unwrap_or(u64::MAX);
    let octets = files::read(&args.file, limit)?;
    let (roots, named) = roots(args)?;
    let owner = args.owner_cert.as_deref().map(read_certificate).transpose()?;
    let nonce = args.nonce.as_deref().map(nonce).transpose()?;
    let now = match args.without_clock {
        true => None,
        false => Some(WardClock::System.now()),
    };
    let (owner_der, nonce_octets) = (owner.as_ref().map(Certificate::der), nonce.as_deref());
    let serial = args.serial.clone().or(named);
    let knows = Knows { serial: serial.as_deref(), roots: &roots, nonce: nonce_octets, owner: owner_der, now };
    let shown = args.file.display();
    let voucher = Voucher::believe(&octets, &knows)
        .map_err(|why| Problem::refused(format!("a device does not believe {shown}")).because(why))?;
    let pinned = Certificate::from_der(&voucher.owner).map_err(|error| Problem::refused(error.to_string()))?;
    let value = json!({
        "serial": voucher.serial, "owner": pinned.subject_text, "fingerprint": pinned.fingerprint.to_string(),
        "created": voucher.created, "ends": voucher.ends(),
    });
    let mut text = format!("{:<9}{}\n{:<9}{}\n", "device", voucher.serial, "owner", pinned.subject_text);
    text.push_str(&format!("{:<9}{}\n{:<9}{}\n", "", pinned.fingerprint, "made", voucher.created));
    match voucher.ends() {
        Some(ends) => text.push_str(&format!("{:<9}{ends}\n", "ends")),
        None => text.push_str(&format!("{:<9}answered\n", "nonce")),
    }
    context.console.show("tidy-warden/voucher/1", value, &text)?;
    if serial.is_none() {
        context.console.note("the serial number was not compared with a device's: --serial TEXT, or --outfit DIR");
    }
    if owner.is_none() {
        context.console.note("the certificate of the owner was not compared: --owner-cert FILE");
    }
    Ok(Exit::Done)
}
