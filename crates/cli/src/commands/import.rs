//! `device import`: a list, all of it or none, with every bad row told.

use serde_json::json;
use tidy_warden_store::JobKind;
use tidy_warden_ward::import::{self, List};

use super::Context;
use crate::args::ImportArgs;
use crate::console::counted;
use crate::files;
use crate::problem::{Exit, Problem};
use crate::progress::Progress;
use crate::ward::Ward;

const WORD: &str = "interrupted; `job list` shows the job, `job resume` goes on with it, `job stop` ends it";

pub(crate) fn run(context: &Context<'_>, args: &ImportArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    if let Some(rejects) = args.rejects.as_deref().filter(|path| path.exists()) {
        return Err(
            Problem::refused(format!("{} exists already", rejects.display())).next("name another --rejects file")
        );
    }
    let (octets, plan) = import::open(&ward, &args.file, args.rejects.as_deref())?;
    let shown = plan.shown.clone();
    let settings = ward.settings.clone();
    let mut list = List::read(octets, &shown, &settings, ward.now())?;
    let cause = ward.cause(args.because.text());
    let (mut progress, _word) = follow(context, list.good.len());
    let (taken, job) = list.store(&mut ward, &plan, &cause, &mut progress)?;
    if list.bad.is_empty() {
        let value = json!({ "listed": taken, "refused": 0, "run": job });
        let note = format!("listed {} from {shown}", counted(taken, "device"));
        context.console.did("tidy-warden/device-import/1", value, note)?;
        return Ok(Exit::Done);
    }
    let told = list.bad_rows();
    let Some(rejects) = &args.rejects else {
        let bad = match list.bad.len() {
            1 => "one of its rows is bad".to_owned(),
            many => format!("{many} of its rows are bad"),
        };
        return Err(Problem::refused(format!("nothing of {shown} was taken: {bad}"))
            .because(told)
            .next("fix these rows and import again, or take the others with --rejects FILE"));
    };
    files::replace(rejects, &list.rejects()).map_err(|error| Problem::file("write", rejects, &error))?;
    context.console.note(format!(
        "listed {}; refused {}:\n{told}",
        counted(taken, "device"),
        counted(list.bad.len(), "row")
    ));
    context.console.note(format!("fix the refused rows in {} and import that file", rejects.display()));
    Ok(Exit::Partly)
}

/// Whoever waits for a long list is told how far it is, and how it goes on if it is interrupted.
fn follow(context: &Context<'_>, rows: usize) -> (Progress, Option<crate::interrupt::Word>) {
    match rows > import::AT_ONCE {
        true => {
            let size = u64::try_from(rows).unwrap_or(u64::MAX);
            (Progress::of(context.console, "listed", (size, 0, 0)), Some(crate::interrupt::word(WORD)))
        }
        false => (Progress::none(), None),
    }
}

/// Goes on with an import that was interrupted.
pub(super) fn resume(context: &Context<'_>, ward: &mut Ward, number: u32) -> Result<Exit, Problem> {
    let found = ward.store.job(number)?.filter(|job| job.kind == JobKind::Import);
    let job = found.ok_or_else(|| Problem::not_found(format!("there is no import {number}")).next("job list"))?;
    let _word = crate::interrupt::word(WORD);
    let mut progress = Progress::of(context.console, "listed", super::job::reached(&job, "devices"));
    let listed = import::resume(ward, number, &mut progress)?;
    super::job::told(context, &job, number, u64::try_from(listed).unwrap_or(u64::MAX), false)
}

/// Ends an import where it stands; gives how many devices it listed.
pub(super) fn stop(ward: &mut Ward, number: u32) -> Result<u64, Problem> {
    Ok(u64::try_from(import::stop(ward, number)?).unwrap_or(u64::MAX))
}
