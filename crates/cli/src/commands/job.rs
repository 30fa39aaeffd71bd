//! `job`: work in many changes, which can be interrupted between any two of them and goes on.

use serde_json::{Value, json};
use tidy_warden_core::text::printable;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{JobKind, JobRecord};
use tidy_warden_ward::{lease, mass};

use super::{Context, enroll, import, key, rotation};
use crate::args::JobCommand;
use crate::console::{Listing, counted};
use crate::problem::{Exit, Problem};
use crate::progress::Progress;
use crate::ward::Ward;

/// How many jobs are listed.
const LISTED: usize = 1000;

pub(crate) fn run(context: &Context<'_>, command: &JobCommand) -> Result<Exit, Problem> {
    match command {
        JobCommand::List { all } => list(context, *all),
        JobCommand::Show { number } => show(context, *number),
        JobCommand::Resume { number } => resume(context, *number),
        JobCommand::Stop { number, yes } => stop(context, *number, *yes),
    }
}

fn job(ward: &Ward, number: u32) -> Result<JobRecord, Problem> {
    let found = ward.store.job(number)?;
    found.ok_or_else(|| Problem::not_found(format!("there is no job {number}")).next("job list --all"))
}

/// The word for what a job is at: `running`, `waiting` for somebody to go on with it, `done`, or `stopped` before it was done.
fn state(job: &JobRecord, now: UnixTime) -> &'static str {
    match (&job.lease, job.ended) {
        (_, Some(_)) if job.stopped => "stopped",
        (_, Some(_)) => "done",
        // It waits for days, and whoever looks at it now and then has it for a moment.
        (_, None) if job.kind == JobKind::Rotate => match value(&job.position)["progress"]["state"].as_str() {
            Some("running") => "running",
            Some("stopped") => "stopped",
            _ => "waiting",
        },
        (Some(lease), None) if lease.until >= now && !lease::is_gone(&lease.holder) => "running",
        _ => "waiting",
    }
}

/// What the rotation is called that a job is.
fn rotation_name(job: &JobRecord) -> String {
    value(&job.plan)["name"].as_str().unwrap_or_default().to_owned()
}

/// JSON of the job's own, as a value.
fn value(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|_| json!(text))
}

fn describe(job: &JobRecord, now: UnixTime) -> Value {
    json!({
        "number": job.number, "kind": job.kind.as_str(), "state": state(job, now), "begun": job.begun,
        "actor": job.actor, "because": job.because, "plan": value(&job.plan), "position": value(&job.position),
        "holder": job.lease.as_ref().map(|lease| &lease.holder), "lease": job.lease.as_ref().map(|lease| lease.until),
        "ended": job.ended,
    })
}

/// How many devices a job is about, how many of them it has done, and with how many `pieces`, as progress begins with them.
pub(super) fn reached(job: &JobRecord, pieces: &str) -> (u64, u64, u64) {
    let (plan, position) = (value(&job.plan), value(&job.position));
    let number = |value: &Value| value.as_u64().unwrap_or(0);
    (number(&plan["count"]), number(&position["devices"]), number(&position[pieces]))
}

/// How far a job is, in a few words.
fn progress(job: &JobRecord) -> String {
    let (plan, position) = (value(&job.plan), value(&job.position));
    let number = |value: &Value| value.as_u64().unwrap_or(0);
    match job.kind {
        JobKind::Enroll => {
            format!("{} issued, {} refused", number(&position["issued"]), number(&position["refused"]))
        }
        _ => format!("{} of {}", number(&position["devices"]), number(&plan["count"])),
    }
}

fn list(context: &Context<'_>, all: bool) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let now = ward.now();
    let jobs = ward.store.jobs(!all, LISTED)?;
    let row = |job: &JobRecord| {
        let texts = [job.kind.as_str(), state(job, now), &job.actor, &job.because].map(str::to_owned);
        let [kind, state, actor, because] = texts;
        vec![job.number.to_string(), kind, state, progress(job), job.begun.to_string(), actor, because]
    };
    context.console.list(Listing {
        schema: "tidy-warden/jobs/1",
        key: "jobs",
        items: jobs.iter().map(|job| describe(job, now)).collect(),
        columns: ["number", "kind", "state", "progress", "begun", "actor", "because"].map(str::to_owned).to_vec(),
        rows: jobs.iter().map(row).collect(),
        empty: if all { "no jobs" } else { "no job that has not ended; job list --all shows the others" },
    })?;
    Ok(Exit::Done)
}

fn show(context: &Context<'_>, number: u32) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let (job, now) = (job(&ward, number)?, ward.now());
    let state = state(&job, now);
    let mut text = format!(
        "job       {number}\nkind      {}\nstate     {state}\nprogress  {}\nbegun     {} by {}\n",
        job.kind.as_str(),
        progress(&job),
        job.begun,
        printable(&job.actor)
    );
    for (name, value) in
        [("because", job.because.clone()), ("plan", job.plan.clone()), ("position", job.position.clone())]
    {
        if !value.is_empty() {
            text.push_str(&format!("{name:<10}{}\n", printable(&value)));
        }
    }
    if let Some(lease) = job.lease.as_ref().filter(|_| state == "running") {
        text.push_str(&format!("worked on by {} until {} at least\n", printable(&lease.holder), lease.until));
    }
    if let Some(ended) = job.ended {
        text.push_str(&format!("ended     {ended}\n"));
    }
    context.console.show("tidy-warden/job/1", describe(&job, now), &text)?;
    if state == "waiting" && job.kind != JobKind::Rotate {
        context.console.note(format!("job resume {number} goes on with it, job stop {number} ends it where it stands"));
    }
    Ok(Exit::Done)
}

fn resume(context: &Context<'_>, number: u32) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let job = job(&ward, number)?;
    match job.kind {
        JobKind::Enroll if job.ended.is_none() => enroll::go_on(context, None, false, true),
        JobKind::Import => import::resume(context, &mut ward, number),
        JobKind::Keys => key::resume(context, &mut ward, &job),
        JobKind::Rotate => {
            let name = rotation_name(&job);
            Err(Problem::refused(format!(
                "job {number} is the rotation `{name}`, which goes on by itself or when a person says so"
            ))
            .next(format!("rotation status {name}")))
        }
        _ => {
            let _word = crate::interrupt::word("interrupted; `job resume` goes on, `job stop` ends it where it stands");
            let mut progress = Progress::of(context.console, "changed", reached(&job, "changed"));
            match mass::resume(&mut ward, number, &mut progress)? {
                Ok(outcome) => told(context, &job, number, outcome.count, false),
                Err((id, _)) => Err(Problem::refused(format!("job {number} stopped at `{id}`"))),
            }
        }
    }
}

fn stop(context: &Context<'_>, number: u32, yes: bool) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let job = job(&ward, number)?;
    if job.kind == JobKind::Enroll && job.ended.is_none() {
        return enroll::go_on(context, None, true, yes);
    }
    context.console.confirm(&format!("End job {number} where it stands? What it did stays."), yes)?;
    if job.kind == JobKind::Keys {
        return key::stop(context, &mut ward, number);
    }
    if job.kind == JobKind::Rotate {
        return rotation::end(context, &mut ward, &rotation_name(&job));
    }
    let outcome = match job.kind {
        JobKind::Import => import::stop(&mut ward, number)?,
        _ => mass::stop(&mut ward, number)?.count,
    };
    told(context, &job, number, outcome, true)
}

/// Tells what came of a job.
pub(super) fn told(
    context: &Context<'_>,
    job: &JobRecord,
    number: u32,
    devices: u64,
    stopped: bool,
) -> Result<Exit, Problem> {
    let what = counted(usize::try_from(devices).unwrap_or(usize::MAX), "device");
    let (word, exit) = if stopped { ("stopped", Exit::Partly) } else { ("done", Exit::Done) };
    let kind = job.kind.as_str();
    let value = json!({ "run": number, "kind": kind, "devices": devices, "stopped": stopped });
    context.console.show("tidy-warden/job-ended/1", value, &format!("job {number} ({kind}) is {word}: {what}\n"))?;
    if matches!(job.kind, JobKind::Revoke | JobKind::Hold | JobKind::Release) {
        context.console.note("publish the new list with: crl --out FILE");
    }
    Ok(exit)
}
