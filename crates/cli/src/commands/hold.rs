//! `hold` and `release`: suspend devices, everywhere and at once, and lift that.

use serde_json::json;
use tidy_warden_core::device::{Barred, DeviceRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_store::DeviceView;
use tidy_warden_ward::mass::{self, Outcome};

use super::changes::{BACK, tell_back};
use super::revoke::tell_children;
use super::{Context, pick};
use crate::args::HoldArgs;
use crate::console::counted;
use crate::edge::parse;
use crate::problem::{Exit, Problem};

/// What is done: put on hold, or released.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum HoldAct {
    Hold,
    Release,
}

impl HoldAct {
    fn words(self) -> (&'static str, &'static str) {
        match self {
            Self::Hold => ("hold", "put on hold"),
            Self::Release => ("release", "released"),
        }
    }
}

pub(crate) fn run(context: &Context<'_>, act: HoldAct, args: &HoldArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let (verb, done) = act.words();
    let ids: Vec<DeviceId> = match &args.device {
        Some(device) => {
            let id: DeviceId = parse(device)?;
            if let Some(barred @ (Barred::Out(_) | Barred::Retired(_))) = ward.device(&id)?.device.barred() {
                return Err(Problem::refused(format!("`{id}` was not {done}"))
                    .because(barred)
                    .next(format!("device show {id}")));
            }
            let question = match act {
                HoldAct::Hold => format!("Put {id} on hold? It is cut off until it is released."),
                HoldAct::Release => format!("Release {id}? Its credentials sign in again."),
            };
            if act == HoldAct::Hold {
                tell_children(
                    console,
                    &ward,
                    &id,
                    "it speaks for them no more until it is released, their own certificates stay good",
                )?;
            }
            console.confirm(&question, args.yes)?;
            vec![id]
        }
        None => {
            let views = pick::devices(&ward, args.condition.as_deref().unwrap_or_default())?;
            // Of those that are released, only those count that are on hold.
            let concerned = |view: &DeviceView| act == HoldAct::Hold || view.device.held.is_some();
            let all = views.len();
            let ids: Vec<DeviceId> = views.into_iter().filter(concerned).map(|view| view.device.id).collect();
            if ids.is_empty() {
                return Err(Problem::not_found(format!("no device was {done}"))
                    .because(format!("the condition matches {}, and none is on hold", counted(all, "device"))));
            }
            pick::confirm(console, verb, &ids, args.count)?;
            ids
        }
    };
    let because = console.reason(args.because.text())?;
    if act == HoldAct::Release {
        let held = ids.iter().take(BACK + 1).cloned().collect::<Vec<_>>();
        let held = ward.store.devices(&held)?.into_iter().flatten().map(|view| view.device);
        let back = held.filter(|device| device.held.is_some());
        let back: Vec<_> = back.map(|device| (device.clone(), DeviceRecord { held: None, ..device })).collect();
        tell_back(console, &ward, &back)?;
    }
    let what = if act == HoldAct::Hold { mass::MassAct::Hold } else { mass::MassAct::Release };
    let acted = pick::act(console, &mut ward, &what, &ids, &because)?;
    let Ok(Outcome { changed, count, job, .. }) = acted else {
        return Err(Problem::failed(format!("{verb} was refused")));
    };
    // One that was interrupted and goes on counts what was done before, too.
    let count = usize::try_from(count).unwrap_or(usize::MAX);
    let unchanged = ids.len().saturating_sub(count);
    let mut text = match (changed.as_slice(), ids.as_slice()) {
        ([one], [_]) => format!("{done}: {one}\n"),
        ([], [one]) if act == HoldAct::Hold => format!("{one} is on hold already; nothing changed\n"),
        ([], [one]) => format!("{one} is not on hold; nothing changed\n"),
        _ => format!("{done}: {}\n", counted(count, "device")),
    };
    if ids.len() > 1 && unchanged > 0 {
        text.push_str(&format!("left as they were: {}\n", counted(unchanged, "device")));
    }
    let value = json!({ "act": verb, "devices": changed, "unchanged": unchanged, "run": job });
    console.show("tidy-warden/hold/1", value, &text)?;
    if count > 0 {
        let them = if count == 1 { "it" } else { "them" };
        console.note(match act {
            HoldAct::Hold => {
                format!("a running guard cuts {them} within a second; publish the new list with: crl --out FILE")
            }
            HoldAct::Release => {
                format!("a running guard lets {them} in again; publish the new list with: crl --out FILE")
            }
        });
    }
    Ok(Exit::Done)
}
