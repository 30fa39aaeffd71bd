//! `revoke`: ends a device's certificates and tokens, everywhere and at once.

use serde_json::json;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{Ended, Revocation};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::revocation::Reason;
use tidy_warden_store::DeviceView;
use tidy_warden_ward::mass::{self, Outcome};

use super::{Context, pick};
use crate::args::RevokeArgs;
use crate::console::{Console, counted};
use crate::edge::{CertificateName, parse};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

pub(crate) fn run(context: &Context<'_>, args: &RevokeArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let reason: Reason = args
        .reason
        .parse()
        .map_err(|error: tidy_warden_core::revocation::BadReason| Problem::usage(error.to_string()))?;
    let Some(device) = &args.device else {
        return many(context, &mut ward, args, reason);
    };
    let id: DeviceId = parse(device)?;
    let view = ward.device(&id)?;
    let only = args.credential.as_deref().map(|text| named(&view, text)).transpose()?;
    let what = match only {
        Some(_) => format!("one certificate of {id}"),
        None => format!("all certificates and tokens of {id}"),
    };
    let what_ends = "what it sends and receives for them ends with it, their own certificates stay good";
    let children = match only {
        None => tell_children(console, &ward, &id, what_ends)?,
        Some(_) => Vec::new(),
    };
    if reason == Reason::KeyCompromise {
        tell_derived(console, &ward, &view, only)?;
    }
    console.confirm(&format!("Revoke {what} ({reason})?"), args.yes)?;
    let because = console.reason(args.because.text())?;
    let cause = ward.cause(Some(&because));
    let ended = ward.store.revoke(Revocation { device: &id, only, reason }, &cause)?;
    // Certificates of others that were asked for with such a key are among them.
    let is_key = |each: &&Ended| {
        let of = view.credentials.iter().find(|known| known.fingerprint == each.fingerprint);
        of.is_some_and(|known| known.origin.is_key())
    };
    let (keys, certificates): (Vec<&Ended>, Vec<&Ended>) = ended.iter().partition(is_key);
    let named = |some: &[&Ended]| -> Vec<String> {
        let name =
            |each: &&Ended| each.serial.as_ref().map_or_else(|| each.fingerprint.to_string(), ToString::to_string);
        some.iter().map(name).collect()
    };
    let serials = named(&certificates);
    let mut count = match serials.len() {
        0 if keys.is_empty() => "no certificate was left to end".to_owned(),
        0 => String::new(),
        1 => format!("ended certificate {}", serials.join("")),
        many => format!("ended {many} certificates: {}", serials.join(", ")),
    };
    if !keys.is_empty() {
        let and = if count.is_empty() { "ended" } else { " and" };
        count.push_str(&format!("{and} {}", counted(keys.len(), "key")));
    }
    let text = match only {
        Some(_) => format!("revoked {what}: {count}\n"),
        None => format!("revoked {id}: {count}; its tokens are void, and it is out\n"),
    };
    let value = json!({ "device": id, "reason": reason.as_str(), "serials": serials, "keys": keys.len(), "device_out": only.is_none(), "children": children });
    console.show("tidy-warden/revoked/1", value, &text)?;
    if ended.iter().any(|each| each.listed) {
        console.note("a running guard cuts it within a second; publish the new list with: crl --out FILE");
    } else if !ended.is_empty() {
        console.note("a running guard cuts it within a second; no CRL of the ward lists what others signed");
    }
    if only.is_none() {
        console.note(format!("retained messages of it stay at the broker; see and clear them: device retained {id}"));
    }
    Ok(Exit::Done)
}

/// Says what ends besides, because it was asked for with a key that somebody else has.
fn tell_derived(console: &Console, ward: &Ward, view: &DeviceView, only: Option<Fingerprint>) -> Result<(), Problem> {
    let all = view.credentials.iter().map(|each| each.fingerprint);
    let roots: Vec<Fingerprint> = all.filter(|each| only.is_none_or(|only| only == *each)).collect();
    let derived = ward.store.derived(&roots)?;
    let fingerprints: Vec<Fingerprint> = derived.iter().map(|(_, fingerprint)| *fingerprint).collect();
    let now = ward.now();
    let good = ward.store.status_many(&fingerprints)?.into_iter().flatten();
    let good = good.filter(|(credential, _)| credential.usable_until().is_some_and(|until| until >= now));
    let others: Vec<DeviceId> =
        good.map(|(_, device)| device.id).filter(|id| only.is_some() || *id != view.device.id).collect();
    if others.is_empty() {
        return Ok(());
    }
    let of: std::collections::BTreeSet<&str> = others.iter().map(DeviceId::as_str).collect();
    console.note(format!(
        "{} that {} asked for with such a key end too: of {}",
        counted(others.len(), "certificate"),
        if others.len() == 1 { "was" } else { "were" },
        sample(of.into_iter())
    ));
    Ok(())
}

/// The first five, and whether there are more.
fn sample<'a>(mut all: impl Iterator<Item = &'a str>) -> String {
    let first: Vec<&str> = all.by_ref().take(5).collect();
    let more = if all.next().is_some() { ", ..." } else { "" };
    first.join(", ") + more
}

/// The devices that a gateway speaks for now.
pub(super) fn spoken_for(ward: &Ward, id: &DeviceId) -> Result<Vec<DeviceId>, Problem> {
    let children = ward.store.children(id)?;
    Ok(children.into_iter().filter(|child| child.barred().is_none()).map(|child| child.id).collect())
}

/// Says what ends for the children of a gateway, before anything is done to it; gives them.
pub(super) fn tell_children(
    console: &Console,
    ward: &Ward,
    id: &DeviceId,
    what: &str,
) -> Result<Vec<DeviceId>, Problem> {
    let children = spoken_for(ward, id)?;
    if !children.is_empty() {
        let sample = sample(children.iter().map(DeviceId::as_str));
        let count = counted(children.len(), "device");
        console.note(format!("{id} is the gateway of {count}: {sample}; {what}"));
    }
    Ok(children)
}

/// Revokes every device that a condition picks.
fn many(context: &Context<'_>, ward: &mut Ward, args: &RevokeArgs, reason: Reason) -> Result<Exit, Problem> {
    let console = context.console;
    let views = pick::devices(ward, args.condition.as_deref().unwrap_or_default())?;
    let ids: Vec<DeviceId> = views.into_iter().map(|view| view.device.id).collect();
    pick::confirm(console, &format!("revoke ({reason})"), &ids, args.count)?;
    let because = console.reason(args.because.text())?;
    let done = pick::act(console, ward, &mass::MassAct::Revoke(reason), &ids, &because)?;
    let Ok(Outcome { ended, listed, job, .. }) = done else {
        return Err(Problem::failed("the revocation was refused"));
    };
    let ended = usize::try_from(ended).unwrap_or(usize::MAX);
    let text = format!(
        "revoked {}: ended {}; their tokens are void, and they are out\n",
        counted(ids.len(), "device"),
        counted(ended, "certificate")
    );
    let value = json!({
        "devices": ids, "reason": reason.as_str(), "certificates": ended, "device_out": true, "run": job,
    });
    console.show("tidy-warden/revoked-many/1", value, &text)?;
    if listed {
        console.note("a running guard cuts them within a second; publish the new list with: crl --out FILE");
    }
    Ok(Exit::Done)
}

/// The certificate of a device that a serial number or fingerprint names.
fn named(view: &DeviceView, text: &str) -> Result<Fingerprint, Problem> {
    let name = CertificateName::parse(text)?;
    let found = view.credentials.iter().find(|credential| name.names(credential));
    found.map(|credential| credential.fingerprint).ok_or_else(|| {
        Problem::not_found(format!("`{}` has no certificate {text}", view.device.id))
            .next(format!("device show {} lists its certificates", view.device.id))
    })
}
