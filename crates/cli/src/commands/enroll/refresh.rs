//! `outfit refresh`: the public parts of outfits, as settings, authorities and policies are now.

use std::collections::BTreeMap;

use serde_json::json;
use tidy_warden_core::authority::AuthorityRecord;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_store::DeviceView;
use tidy_warden_ward::issue::press::Mint;
use tidy_warden_ward::issue::refresh::{signed_by, write};

use crate::args::RefreshArgs;
use crate::commands::{Context, pick};
use crate::console::counted;
use crate::edge::parse;
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
