//! Many devices at once: a list is read, certificates are signed on all cores, and one writer puts them on the disk.

pub mod keys;
mod output;
mod place;
pub mod plan;
mod stage;
mod work;
mod write;

use std::collections::HashSet;
use std::path::Path;
use std::sync::mpsc::sync_channel;
use std::sync::{Arc, Mutex};

use serde_json::json;
use tidy_warden_core::id::KindName;
use tidy_warden_core::key::sha256;
use tidy_warden_store::{JobKind, JobRefusal, NewJob, OperatorStore};

pub use place::Place;
pub use plan::{Plan, Position, Wanted, absolute, plan, unfinished};

use crate::issue::press::Mint;
use crate::keys::Openers;
use crate::lease;
use crate::list::{At, REASON};
use crate::open::Ward;
use crate::problem::Problem;
use output::Output;
use stage::MANIFEST_HEAD;
use work::{Done, Feed, Job, feed_all, work};
use write::{Rejects, Writer};

/// How many batches wait for a worker, and for the writer: enough that nobody is idle, few enough for the memory.
const WAITING: usize = 2;

/// Whoever follows how far a run is.
pub trait Watch: Send {
    /// It has reached this octet of its list; so many certificates are issued, so many rows refused.
    fn reached(&mut self, byte: u64, issued: u64, refused: u64);

    /// All of the list is done.
    fn finish(&self);
}

/// A run that was begun.
#[derive(Debug)]
pub struct Run {
    /// The number of its job.
    pub number: u32,
    /// What it is to do.
    pub plan: Plan,
    /// How far it is.
    pub position: Position,
    /// Whether all of it was done already, and only the store was not told.
    pub done: bool,
}

/// Begins a run; this process works on it.
///
/// # Errors
/// Another is not finished.
fn begin(store: &mut OperatorStore, ward: &Ward, plan: &Plan) -> Result<u32, Problem> {
    let text = |value: serde_json::Result<String>| {
        value.map_err(|error| Problem::failed("the bulk run cannot be noted").because(error))
    };
    let (planned, position) = (text(serde_json::to_string(plan))?, text(serde_json::to_string(&Position::default()))?);
    let new = NewJob {
        kind: JobKind::Enroll,
        digest: sha256(planned.as_bytes()),
        plan: &planned,
        position: &position,
        parts: &[],
        subject: "bulk run",
    };
    let begun = ward.cause(Some(&plan.because));
    match store.begin_job(&new, &lease::from(ward.now()), &begun)? {
        Ok(number) => Ok(number),
        Err(JobRefusal::Another { .. }) => {
            Err(Problem::refused("another bulk run was begun meanwhile").next("enroll --resume"))
        }
        Err(refusal) => Err(lease::refusal(&refusal)),
    }
}

/// Looks at the run that was begun and not ended; `input` is where its list is now, if that is another place. This process works on it
/// from now on.
///
/// # Errors
/// There is none, or another process works on it.
pub fn begun(ward: &mut Ward, input: Option<&Path>) -> Result<Run, Problem> {
    let (number, ..) = unfinished(ward)?;
    // What it says when it is taken is what it said last: nobody else works on it from then on.
    let (job, _) = lease::take(ward, number)?;
    let (plan, position) = plan::read(&job)?;
    let done = place::is_finished(&plan.place) && position.byte > 0;
    if done {
        // It came as far as giving the pack its name.
        place::tidy_up(&plan.place);
    }
    let input = input.map_or_else(|| Ok(plan.input.clone()), absolute)?;
    Ok(Run { number, plan: Plan { input, ..plan }, position, done })
}

/// Ends the outfits of a run where it stands.
///
/// # Errors
/// They cannot be written.
pub fn stop(ward: &Ward, run: &Run) -> Result<(), Problem> {
    let output = Output::resume(&run.plan.place, run.position.committed(), MANIFEST_HEAD, ward)?;
    output.finish(ward.now()).map_err(|problem| problem.or_next("then: enroll --resume"))
}

/// Refuses a list that is not the one that a run was begun with.
///
/// # Errors
/// It is not, or cannot be read.
pub fn same_list(plan: &Plan) -> Result<(), Problem> {
    let (digest, ..) = plan::digest(&plan.input)?;
    if digest != plan.sha256 {
        return Err(Problem::refused(format!("the bulk run cannot go on with {}", plan.input.display()))
            .because("it is not the list that the run was begun with")
            .next("put the list back as it was, or end the run where it stands: enroll --stop"));
    }
    Ok(())
}

/// Ends a run in the store; `stopped` says that its list was not done to the end.
///
/// # Errors
/// The store cannot be written, or another process works on it.
pub fn conclude(ward: &mut Ward, run: &Run, stopped: bool) -> Result<(), Problem> {
    let (plan, position) = (&run.plan, &run.position);
    let cause = ward.cause(Some(&plan.because));
    let detail = json!({ "issued": position.issued, "refused": position.refused, "stopped": stopped });
    ward.store.end_job(run.number, &lease::holder(), detail, stopped, &cause)?;
    plan::discard_input(ward, &plan.input);
    Ok(())
}

/// What is run: something new, or something that was begun before.
#[derive(Debug, Clone, Copy)]
pub enum Work<'a> {
    /// From the beginning.
    New(&'a Plan),
    /// From where it stopped.
    Begun(&'a Run),
}

/// Reads, signs and writes; from the beginning, or from where a run stopped. Gives how far it came; it is over when [`conclude`] has
/// said so.
///
/// # Errors
/// What was committed stays, and the run can go on.
pub fn run(ward: &Ward, what: Work<'_>, secrets: &dyn Openers, watch: &mut dyn Watch) -> Result<Run, Problem> {
    let (plan, resumed) = match &what {
        Work::New(plan) => (*plan, None),
        Work::Begun(run) => (&run.plan, Some((run.number, run.position))),
    };
    let settings = ward.settings.clone();
    let mut reader = plan::open(&plan.input, &plan.shown, &settings, ward.now())?;
    let mint = Mint::new(ward)?;
    let prepare = |job: &Job| {
        let kinds: HashSet<&KindName> = job.rows.iter().map(|row| &row.device.kind).collect();
        kinds.into_iter().try_for_each(|kind| mint.prepare(kind, &|authority| secrets.signer(ward, authority)))
    };
    if let Some(position) = resumed.map(|(_, position)| position).filter(|position| position.byte > 0) {
        reader
            .seek(At { byte: position.byte, line: position.line })
            .map_err(|error| Problem::failed(format!("cannot read {}", plan.shown)).because(error))?;
    }
    let mut feed = Feed { reader: &mut reader, plan, number: 0 };
    let mut store = ward.another_store()?;
    // Before anything is begun, so that a wrong passphrase leaves nothing behind.
    let first = if resumed.is_none() { feed.next(ward)? } else { None };
    if let Some(job) = &first {
        prepare(job)?;
    }
    let (number, position) = match resumed {
        Some(run) => run,
        None => (begin(&mut store, ward, plan)?, Position::default()),
    };
    let output = match resumed {
        Some(_) => Output::resume(&plan.place, position.committed(), MANIFEST_HEAD, ward)?,
        None => Output::create(&plan.place, MANIFEST_HEAD)?,
    };
    let refusals = feed.reader.adding(REASON);
    let rejects = Rejects::open(&plan.rejects, position.rejects, refusals.head.clone())?;
    let workers = std::thread::available_parallelism().map_or(1, usize::from);
    let clock = ward.clock.clone();
    let (output, reached) = std::thread::scope(|scope| {
        let (to_workers, jobs) = sync_channel::<Job>(WAITING);
        let (to_writer, done) = sync_channel::<Result<Done, Problem>>(WAITING);
        let jobs = Arc::new(Mutex::new(jobs));
        for _ in 0..workers {
            let (jobs, to_writer, mint, clock) = (jobs.clone(), to_writer.clone(), &mint, clock.clone());
            scope.spawn(move || work(&jobs, &to_writer, mint, (plan, number), &clock));
        }
        // Only the workers hold these, so that their end is heard on both sides.
        drop((to_writer, jobs));
        let writer = Writer {
            plan,
            store: &mut store,
            output,
            rejects,
            position,
            refusals,
            mint: &mint,
            clock: &clock,
            actor: &ward.actor,
            number,
            watch,
        };
        let writer = scope.spawn(move || writer.run(&done));
        let fed = feed_all(&mut feed, first, ward, &prepare, &to_workers);
        drop(to_workers);
        let written = writer.join().unwrap_or_else(|_| Err(Problem::failed("the writer of the bulk run failed")));
        // What stopped the reader is the cause; the writer then ended in good order.
        fed.and(written)
    })
    .map_err(|problem| problem.or_next("then: enroll --resume"))?;
    output.finish(ward.now()).map_err(|problem| problem.or_next("then: enroll --resume"))?;
    Ok(Run { number, plan: plan.clone(), position: reached, done: true })
}
