//! Many devices at once: what is asked of a run, how far it is, and what came of it.

use std::path::Path;

use serde_json::json;
use tidy_warden_ward::bulk::{self, Place, Position, Run, Wanted, Work, absolute};

use crate::args::EnrollArgs;
use crate::commands::Context;
use crate::console::counted;
use crate::problem::{Exit, Problem};
use crate::progress::Progress;
use crate::ward::Ward;

pub(super) fn begin(context: &Context<'_>, args: &EnrollArgs, from: &Path) -> Result<Exit, Problem> {
    let place = match (&args.pack, &args.out) {
        (Some(pack), None) => Place::Pack(absolute(pack)?),
        (None, Some(out)) => Place::Folders(absolute(out)?),
        _ => {
            return Err(Problem::usage("where do the outfits go?").next("--pack FILE.tar.zst, or --out DIR"));
        }
    };
    let ward = context.ward()?;
    let rejects = args.rejects.as_deref();
    let because = args.because.text();
    let wanted = Wanted { from, place, rejects, again: args.again, because, batch: args.batch };
    let (plan, lines) = bulk::plan(&ward, &wanted)?;
    let question = format!("Issue certificates for the devices of {} (about {lines} rows)?", plan.shown);
    if let Err(problem) = context.console.confirm(&question, args.yes) {
        bulk::plan::discard_input(&ward, &plan.input);
        return Err(problem);
    }
    run(context, ward, Work::New(&plan), (plan.size, Position::default()))
}

pub(super) fn resume(context: &Context<'_>, args: &EnrollArgs) -> Result<Exit, Problem> {
    go_on(context, args.from.as_deref(), args.stop, args.yes)
}

/// Goes on with the run that was begun and not ended, or ends it where it stands.
pub(crate) fn go_on(context: &Context<'_>, input: Option<&Path>, stop: bool, yes: bool) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let begun = bulk::begun(&mut ward, input)?;
    if begun.done {
        return report(context, &mut ward, &begun, false);
    }
    if stop {
        context.console.confirm("End the bulk run where it stands?", yes)?;
        bulk::stop(&ward, &begun)?;
        return report(context, &mut ward, &begun, true);
    }
    bulk::same_list(&begun.plan)?;
    run(context, ward, Work::Begun(&begun), (begun.plan.size, begun.position))
}

fn run(
    context: &Context<'_>,
    mut ward: Ward,
    work: Work<'_>,
    (size, before): (u64, Position),
) -> Result<Exit, Problem> {
    let secrets = context.secrets();
    let _word =
        crate::interrupt::word("interrupted; `enroll --resume` goes on, `enroll --stop` ends it where it stands");
    let mut progress = Progress::start(context.console, size, before.byte, before.issued);
    let done = bulk::run(&ward, work, &secrets, &mut progress)?;
    report(context, &mut ward, &done, false)
}

/// Ends the run in the store, and tells what came of it.
fn report(context: &Context<'_>, ward: &mut Ward, run: &Run, stopped: bool) -> Result<Exit, Problem> {
    let console = context.console;
    bulk::conclude(ward, run, stopped)?;
    let (plan, position) = (&run.plan, run.position);
    let place = plan.place.path().display().to_string();
    let refused_in = (position.refused > 0).then(|| plan.rejects.display().to_string());
    let value = json!({
        "run": run.number, "issued": position.issued, "refused": position.refused, "stopped": stopped, "place": place,
        "rejects": refused_in,
    });
    let number = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
    let mut text = format!("issued   {}\nin       {place}\n", counted(number(position.issued), "certificate"));
    if let Some(rejects) = &refused_in {
        text.push_str(&format!("refused  {}\nin       {rejects}\n", counted(number(position.refused), "row")));
    }
    console.show("tidy-warden/bulk/1", value, &text)?;
    if position.made_up > 0 {
        let devices = counted(number(position.made_up), "device");
        console.warn(format!(
            "{devices} with a made-up name: the ward has no enterprise_number, and no mac of theirs is known"
        ));
    }
    if position.clipped > 0 {
        console.warn(format!("{} end early, with their authority", counted(number(position.clipped), "certificate")));
    }
    if position.asked > 0 {
        console.note(format!(
            "{} asked for subjects, names or extensions; of each only its key was taken",
            counted(number(position.asked), "request")
        ));
    }
    if matches!(plan.place, Place::Pack(_)) && position.keys > 0 {
        console.note("the pack holds private keys and is not encrypted; keep it where only its receiver can read it");
    }
    if stopped {
        console.note("the run was ended before the list was");
    }
    if position.refused > 0 {
        console.note("fix the refused rows there and enrol that list");
    }
    Ok(if position.refused > 0 || stopped { Exit::Partly } else { Exit::Done })
}
