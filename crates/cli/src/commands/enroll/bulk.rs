//! Many devices at once: what is asked of a run, how far it is, and what came of it.

use std::path::{Path, PathBuf};

use serde_json::json;
use tidy_warden_core::time::UnixTime;
use tidy_warden_ward::bulk::{self, Place, Position, Run, Wanted, Work, absolute};

use crate::args::EnrollArgs;
use crate::commands::Context;
use crate::console::{Console, counted};
use crate::files;
use crate::problem::{Exit, Problem};
use crate::progress::Progress;
use crate::ward::Ward;

/// The largest file of a certificate, in octets.
const MAX_CERTIFICATE: u64 = 64 * 1024;

/// A pack at this place, encrypted to the owners of these certificates if there are any.
pub(crate) fn place_of_pack(pack: &Path, receivers: &[PathBuf], now: UnixTime) -> Result<Place, Problem> {
    if receivers.is_empty() {
        return Ok(Place::Pack(absolute(pack)?));
    }
    let mut to = Vec::new();
    for path in receivers {
        to.push((path.as_path(), files::read(path, MAX_CERTIFICATE)?));
    }
    Place::sealed(absolute(pack)?, &to, now)
}

/// Where something was written, in lines for a person.
pub(crate) fn lines_of(files: &[String]) -> String {
    match files {
        // Nothing was to be written, so that nothing was encrypted.
        [] => String::new(),
        [first] => format!("in       {first}\n"),
        [first, .., last] => format!("in       {first} to {last}, {} files\n", files.len()),
    }
}

/// Says who can open a pack, and how.
pub(crate) fn how_to_open(console: &Console, place: &Place, first: Option<&String>) {
    match (place, first) {
        (Place::Pack(_), _) => console.note(
            "the pack holds keys and is not encrypted (--pack-for CERT does that); keep it where only its receiver can read it",
        ),
        (Place::Sealed { .. }, Some(first)) => console.note(format!(
            "only its receiver opens it, each file alone: openssl cms -decrypt -inform DER -in {first} -inkey KEY -out FILE.tar.zst"
        )),
        (Place::Sealed { .. }, None) | (Place::Folders(_), _) => {}
    }
}

pub(super) fn begin(context: &Context<'_>, args: &EnrollArgs, from: &Path) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let place = match (&args.pack, &args.out) {
        (Some(pack), None) => place_of_pack(pack, &args.pack_for, ward.now())?,
        (None, Some(out)) => Place::Folders(absolute(out)?),
        _ => {
            return Err(Problem::usage("where do the outfits go?").next("--pack FILE.tar.zst, or --out DIR"));
        }
    };
    let rejects = args.rejects.as_deref();
    let because = args.because.text();
    // Each batch of an encrypted pack is a file of its own.
    let batch = args.batch.unwrap_or(if args.pack_for.is_empty() { 4096 } else { 20_000 });
    let wanted = Wanted { from, place, rejects, again: args.again, because, batch };
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
    let is_sealed = matches!(plan.place, Place::Sealed { .. });
    let all: Vec<String> = plan.place.files(position.parts()).iter().map(|path| path.display().to_string()).collect();
    let refused_in = (position.refused > 0).then(|| plan.rejects.display().to_string());
    let value = json!({
        "run": run.number, "issued": position.issued, "refused": position.refused, "stopped": stopped, "place": place,
        "rejects": refused_in, "encrypted": is_sealed, "files": all,
    });
    let number = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
    let mut text = format!("issued   {}\n", counted(number(position.issued), "certificate"));
    text.push_str(&lines_of(&all));
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
    if is_sealed || position.keys > 0 {
        how_to_open(console, &plan.place, all.first());
    }
    if stopped {
        console.note("the run was ended before the list was");
    }
    if position.refused > 0 {
        console.note("fix the refused rows there and enrol that list");
    }
    Ok(if position.refused > 0 || stopped { Exit::Partly } else { Exit::Done })
}
