//! `claim open`: devices can be claimed from now on, each with a code that leaves once.

use serde_json::json;
use tidy_warden_core::claim::{Code, LONGEST_OPEN, OpenClaim, OpenRefusal, OpenedBy, may_be_opened};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{JobKind, JobRecord};
use tidy_warden_ward::claim::{Opening, link, openings};
use tidy_warden_ward::mass::{Item, MassAct};

use super::super::{Context, pick};
use super::{code_of, deliver, unclaimable};
use crate::args::OpenClaimArgs;
use crate::console::counted;
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

pub(super) fn run(context: &Context<'_>, args: &OpenClaimArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let length: Span = parse(&args.length)?;
    if length.seconds() < 60 || length > LONGEST_OPEN {
        return Err(Problem::refused(format!("no device can be claimed for {length}"))
            .because(format!("it must be a minute at least, and {LONGEST_OPEN} at the most")));
    }
    let ends = ward.now().plus(length);
    match &args.device {
        Some(device) => one(context, &mut ward, args, device, ends),
        None => many(context, &mut ward, args, ends),
    }
}

fn refusal(first: Option<&OpenRefusal>) -> Problem {
    let problem = Problem::refused("nothing was opened");
    match first {
        Some(why @ OpenRefusal::Owned { device, .. }) => {
            problem.because(why).next(format!("first: claim give-up {device}, or: claim hand-over {device} --to OWNER"))
        }
        Some(why @ OpenRefusal::Barred { device, .. }) => problem.because(why).next(format!("device show {device}")),
        Some(why) => problem.because(why),
        None => problem,
    }
}

fn one(
    context: &Context<'_>,
    ward: &mut Ward,
    args: &OpenClaimArgs,
    device: &str,
    ends: UnixTime,
) -> Result<Exit, Problem> {
    let console = context.console;
    let view = ward.device(&parse(device)?)?;
    if let Some(problem) = unclaimable(ward, &view.device) {
        return Err(problem);
    }
    let given = code_of(None, args.code_file.as_deref())?;
    let devices = std::slice::from_ref(&view.device);
    let opening = openings(&ward.settings, devices, given.as_ref(), (ward.now(), ends)).pop();
    let opening = opening.ok_or_else(|| Problem::failed("no code was made"))?;
    let cause = ward.cause(args.because.text());
    let id = &opening.device;
    let opened = ward.store.decide(|tx| {
        let opened = tidy_warden_store::acts::claim::open(tx, std::slice::from_ref(&opening.claim), &cause)?;
        if let (Ok(()), Some(path), Some(code)) = (&opened, &args.out, &opening.code) {
            deliver(path, &format!("{}\n", *code.grouped()))?;
        }
        Ok(opened)
    })?;
    opened.map_err(|refusals| refusal(refusals.first()))?;
    let mut value = json!({ "device": id, "ends": ends });
    let mut text = format!("{:<8}{id}\n{:<8}{ends}\n", "device", "ends");
    match (&opening.code, &args.out) {
        (Some(_), Some(path)) => {
            value["code_file"] = json!(path.display().to_string());
            text.push_str(&format!("{:<8}in {}\n", "code", path.display()));
        }
        (Some(code), None) => {
            let (grouped, link) = (code.grouped(), link(&ward.settings, id, Some(code)));
            value["code"] = json!(grouped.as_str());
            value["link"] = json!(link);
            text.push_str(&format!("{:<8}{}\n{:<8}{link}\n", "code", *grouped, "link"));
        }
        (None, _) => text.push_str(&format!("{:<8}none: its id is enough\n", "code")),
    }
    console.show("tidy-warden/claim-open/1", value, &text)?;
    match (&opening.code, &args.out) {
        (None, _) => console
            .warn(format!("whoever knows the id `{id}` can claim it until {ends}: its kind says claim = \"name\"")),
        (Some(_), None) => console.note("the code is shown this once and not kept"),
        (Some(_), Some(path)) => {
            console.note(format!("for its sticker: claim print {id} --code-file {} --out {id}.png", path.display()));
        }
    }
    Ok(Exit::Done)
}

/// A CSV with what each device is claimed by (RFC 4180).
fn csv(ward: &Ward, openings: &[Opening]) -> Result<zeroize::Zeroizing<String>, Problem> {
    let failed = |error: &dyn std::fmt::Display| Problem::failed("cannot write CSV").because(error.to_string());
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(["id", "code", "ends", "link"]).map_err(|error| failed(&error))?;
    for each in openings {
        let code = each.code.as_ref().map(Code::grouped).unwrap_or_default();
        let link = link(&ward.settings, &each.device, each.code.as_ref());
        let row = [each.device.as_str(), code.as_str(), &each.claim.ends.to_string(), &link];
        writer.write_record(row).map_err(|error| failed(&error))?;
    }
    let octets = writer.into_inner().map_err(|error| failed(&error))?;
    Ok(zeroize::Zeroizing::new(String::from_utf8(octets).map_err(|error| failed(&error))?))
}

/// Whether it is sure that no device is or will be opened with these codes.
fn opens_nothing(ward: &Ward, items: &[Item]) -> bool {
    let is_so = |claim: Option<OpenClaim>, item: &Item| {
        let code = claim.and_then(|claim| claim.code);
        code.zip(item.code).is_none_or(|(known, code)| !known.is_same(&code))
    };
    let first = |item: &Item| ward.store.claim(&item.device, OpenedBy::Person).is_ok_and(|claim| is_so(claim, item));
    let has_no_job = |jobs: Vec<JobRecord>| jobs.iter().all(|job| job.kind != JobKind::Open);
    ward.store.jobs(true, usize::MAX).is_ok_and(has_no_job) && items.first().is_none_or(first)
}

/// Opens many devices. The codes are on the disk before the first of them opens anything, and what is kept of them is in the job: it goes
/// on where it was if it is killed.
fn many(context: &Context<'_>, ward: &mut Ward, args: &OpenClaimArgs, ends: UnixTime) -> Result<Exit, Problem> {
    let console = context.console;
    let path = args.out.as_deref().ok_or_else(|| Problem::usage("where do the codes go?").next("--out FILE"))?;
    let views = pick::devices(ward, args.condition.as_deref().unwrap_or_default())?;
    let devices: Vec<DeviceRecord> = views.into_iter().map(|view| view.device).collect();
    if let Some(problem) = devices.iter().find_map(|device| unclaimable(ward, device)) {
        return Err(problem);
    }
    if let Some(why) = devices.iter().find_map(|device| may_be_opened(device).err()) {
        return Err(refusal(Some(&why)));
    }
    let ids: Vec<DeviceId> = devices.iter().map(|device| device.id.clone()).collect();
    pick::confirm(console, "open", &ids, args.count)?;
    if path.symlink_metadata().is_ok() {
        return Err(Problem::refused(format!("{} exists", path.display())).next("another name behind --out"));
    }
    let opened = ward.now();
    let openings = openings(&ward.settings, &devices, None, (opened, ends));
    let text = csv(ward, &openings)?;
    super::super::owner::create(path, &text)
        .map_err(|error| Problem::failed("the codes were not written, and nothing was opened").because(error))?;
    let items: Vec<Item> =
        openings.iter().map(|each| Item { device: each.device.clone(), code: each.claim.code }).collect();
    let act = MassAct::Open { opened, ends };
    let done = pick::act_with(console, ward, &act, &items, args.because.text().unwrap_or_default());
    let done = match done {
        Ok(Ok(done)) => done,
        // Nothing else refuses devices that are opened.
        Ok(Err((id, _))) => return Err(Problem::refused(format!("`{id}` was not opened"))),
        Err(problem) => {
            if opens_nothing(ward, &items) {
                // Codes that never will are to mislead nobody.
                drop(std::fs::remove_file(path));
            }
            return Err(problem);
        }
    };
    let count = usize::try_from(done.count).unwrap_or(usize::MAX);
    let left = items.len().saturating_sub(count);
    let value = json!({
        "opened": count, "left": left, "ends": ends, "file": path.display().to_string(), "run": done.job,
    });
    let note = format!(
        "opened {} until {ends}; codes and links in {}; stickers: claim print --from {} --sheet stickers.pdf",
        counted(count, "device"),
        path.display(),
        path.display()
    );
    console.did("tidy-warden/claim-opened/1", value, note)?;
    if left > 0 {
        console.warn(format!(
            "{} changed meanwhile and {} left as they are: their codes in {} open nothing",
            counted(left, "device"),
            if left == 1 { "was" } else { "were" },
            path.display()
        ));
        return Ok(Exit::Partly);
    }
    Ok(Exit::Done)
}
