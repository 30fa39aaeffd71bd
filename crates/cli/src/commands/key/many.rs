//! `key add --where`: a shared key for each of many devices, in one pack.

use serde_json::json;
use tidy_warden_core::id::DeviceId;
use tidy_warden_store::JobRecord;
use tidy_warden_ward::bulk::keys::{self, Outcome, Wanted};

use super::{check_note, times};
use crate::args::AddKeyArgs;
use crate::commands::enroll::{how_to_open, lines_of, place_of_pack};
use crate::commands::{Context, job, pick};
use crate::console::counted;
use crate::problem::{Exit, Problem};
use crate::progress::Progress;
use crate::ward::Ward;

/// The most keys that one call makes.
const MOST: u64 = 1_000_000;

/// What to do when it is interrupted.
const INTERRUPTED: &str = "interrupted; `job resume` goes on, `job stop` ends it where it stands";

pub(super) fn add(context: &Context<'_>, ward: &mut Ward, args: &AddKeyArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let (Some(pack), condition) = (&args.pack, args.condition.as_deref()) else {
        return Err(Problem::usage("where do the keys go?").next("--pack FILE.tar.zst"));
    };
    let (begins, ends) = times(&args.key, ward.now())?;
    check_note(args.key.note.as_deref())?;
    let place = place_of_pack(pack, &args.pack_for, ward.now())?;
    let (mut ids, mut left_out): (Vec<DeviceId>, Vec<(DeviceId, String)>) = (Vec::new(), Vec::new());
    pick::each(ward, condition, &mut |view| {
        let why = match (ward.settings.kind(&view.device.kind), view.device.barred()) {
            (_, Some(barred)) => Some(barred.to_string()),
            (Ok(kind), None) if kind.shared_keys => None,
            (Ok(_), None) => Some(format!("devices of the kind `{}` may share no keys", view.device.kind)),
            (Err(unknown), None) => Some(unknown.to_string()),
        };
        match why {
            None => ids.push(view.device.id),
            Some(why) => left_out.push((view.device.id, why)),
        }
    })?;
    tell(context, &left_out, left_out.len());
    let count = u64::try_from(ids.len()).unwrap_or(u64::MAX);
    if ids.is_empty() || count > MOST {
        return Err(Problem::refused("no key was made")
            .because(format!("the condition picks {count} devices that may have one; one call takes 1 to {MOST}"))
            .next("device list --where CONDITION shows whom it picks"));
    }
    console.note(format!("a shared key for each of {}", counted(ids.len(), "device")));
    console.confirm_count(count, args.count)?;
    let wanted =
        Wanted { ids: &ids, place, begins, ends, note: args.key.note.as_deref(), because: args.key.because.text() };
    let _word = crate::interrupt::word(INTERRUPTED);
    let mut progress = Progress::of(console, "made", (count, 0, 0));
    let outcome = keys::run(ward, &wanted, &context.secrets(), &mut progress)?;
    told(context, &outcome, false, left_out.len())
}

/// Goes on with a job.
pub(crate) fn resume(context: &Context<'_>, ward: &mut Ward, record: &JobRecord) -> Result<Exit, Problem> {
    let _word = crate::interrupt::word(INTERRUPTED);
    let mut progress = Progress::of(context.console, "made", job::reached(record, "keys"));
    let outcome = keys::resume(ward, record.number, &context.secrets(), &mut progress)?;
    told(context, &outcome, false, 0)
}

/// Ends a job where it stands.
pub(crate) fn stop(context: &Context<'_>, ward: &mut Ward, number: u32) -> Result<Exit, Problem> {
    let outcome = keys::stop(ward, number)?;
    told(context, &outcome, true, 0)
}

/// Names some of those that get no key.
fn tell(context: &Context<'_>, some: &[(DeviceId, String)], all: usize) {
    for (id, why) in some.iter().take(5) {
        context.console.note(format!("{id} gets none: {why}"));
    }
    if all > some.len().min(5) {
        context.console.note(format!("and {} more get none", all - some.len().min(5)));
    }
}

/// Tells what came of it.
fn told(context: &Context<'_>, outcome: &Outcome, stopped: bool, left_out: usize) -> Result<Exit, Problem> {
    let console = context.console;
    let number = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
    let files: Vec<String> = outcome.place.files(outcome.parts).iter().map(|path| path.display().to_string()).collect();
    let mut text = format!("made     {}\n", counted(number(outcome.keys), "shared key"));
    text.push_str(&lines_of(&files));
    let value = json!({
        "run": outcome.job, "keys": outcome.keys, "refused": outcome.refused, "left_out": left_out, "stopped": stopped,
        "files": files,
    });
    console.show("tidy-warden/keys-added/1", value, &text)?;
    tell(context, &outcome.named, number(outcome.refused));
    how_to_open(console, &outcome.place, files.first());
    console.note("they left the ward this once: bring them to their devices, and delete the pack here");
    if stopped {
        console.note("the job was ended before all devices had a key");
    }
    Ok(if stopped || outcome.refused > 0 || left_out > 0 { Exit::Partly } else { Exit::Done })
}
