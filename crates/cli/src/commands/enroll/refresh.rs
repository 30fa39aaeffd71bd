//! `outfit refresh`: the public parts of outfits, as settings, authorities and policies are now.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::json;
use tidy_warden_core::authority::AuthorityRecord;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::DeviceView;

use super::press::Mint;
use crate::args::RefreshArgs;
use crate::commands::{Context, pick};
use crate::console::counted;
use crate::edge::parse;
use crate::files;
use crate::problem::{Exit, Problem};

pub(crate) fn run(context: &Context<'_>, args: &RefreshArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let ward = context.ward()?;
    let mint = Mint::new(&ward)?;
    let now = ward.now();
    let (mut refreshed, mut left_out) = (0usize, Vec::new());
    // Also those that others sign in the place of by now: their certificates are good.
    let authorities: BTreeMap<AuthorityName, AuthorityRecord> =
        ward.store.authorities()?.into_iter().map(|each| (each.name.clone(), each)).collect();
    let one = |view: &DeviceView| -> Result<bool, Problem> {
        let Some(authority) = signed_by(view, now).and_then(|name| authorities.get(&name)) else { return Ok(false) };
        write(&mint, view, authority, &args.out).map(|()| true)
    };
    match &args.device {
        Some(device) => {
            let id: DeviceId = parse(device)?;
            if !one(&ward.device(&id)?)? {
                return Err(Problem::refused(format!("`{id}` has no outfit to refresh"))
                    .because("it has no certificate of this ward that may sign in")
                    .next(format!("enroll {id} --csr FILE --out DIR, or --make-key")));
            }
            refreshed = 1;
        }
        None => {
            let mut result = Ok(());
            pick::each(&ward, args.condition.as_deref(), &mut |view| {
                if result.is_ok() {
                    match one(&view) {
                        Ok(true) => refreshed += 1,
                        Ok(false) => left_out.push(view.device.id),
                        Err(problem) => result = Err(problem),
                    }
                }
            })?;
            result.map_err(|problem| problem.or_next("then again: what was written is whole, and is written again"))?;
        }
    }
    let mut note = format!("refreshed {} in {}", counted(refreshed, "outfit"), args.out.display());
    if !left_out.is_empty() {
        let devices = counted(left_out.len(), "device");
        note.push_str(&format!("; {devices} without a usable certificate left out"));
    }
    let value = json!({ "refreshed": refreshed, "left_out": left_out, "in": args.out.display().to_string() });
    console.did("tidy-warden/outfits-refreshed/1", value, note)?;
    Ok(Exit::Done)
}

/// Who signed the certificate with which a device signs in longest; `None` if it has none of this ward.
fn signed_by(view: &DeviceView, now: UnixTime) -> Option<AuthorityName> {
    let usable = view.credentials.iter().filter(|credential| {
        credential.origin == tidy_warden_core::credential::Origin::Issued && credential.may_sign_in(now).is_ok()
    });
    usable.max_by_key(|credential| credential.usable_until()).and_then(|credential| credential.authority.clone())
}

/// Each file is replaced as a whole: a device that reads meanwhile finds the old one or the new one.
fn write(mint: &Mint, view: &DeviceView, authority: &AuthorityRecord, out: &Path) -> Result<(), Problem> {
    let id = &view.device.id;
    let (chain, roots) = mint.chains(authority);
    let connect = serde_json::to_string_pretty(&mint.connect(&view.device))
        .map_err(|error| Problem::failed("cannot write connect.json").because(error))?;
    let folder = out.join(id.as_str());
    std::fs::create_dir_all(&folder).map_err(|error| Problem::file("make", &folder, &error))?;
    for (name, text) in [("chain.pem", chain.as_str()), ("root.pem", roots), ("connect.json", &(connect + "\n"))] {
        let path = folder.join(name);
        if std::fs::read(&path).is_ok_and(|old| old == text.as_bytes()) {
            continue;
        }
        files::replace(&path, text.as_bytes()).map_err(|error| Problem::file("write", &path, &error))?;
    }
    Ok(())
}
