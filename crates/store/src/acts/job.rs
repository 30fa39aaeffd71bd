//! Jobs: begun once, worked on by one at a time, ended once.
//!
//! Whoever works on a job has a lease on it. Each batch commits with the job's new position, and is undone if the lease is another's by
//! then (fencing): a process that was thought to be gone and is not does nothing twice.

use serde_json::json;

use super::append;
use crate::{Answer, Cause, JobKind, JobRecord, Lease, StoreError, Tx};

/// How many jobs that have not ended there may be.
const MOST_OPEN: usize = 100;

/// A job to be begun.
#[derive(Debug, Clone)]
pub struct NewJob<'a> {
    /// What it does.
    pub kind: JobKind,
    /// See [`JobRecord::digest`].
    pub digest: [u8; 32],
    /// See [`JobRecord::plan`].
    pub plan: &'a str,
    /// See [`JobRecord::position`].
    pub position: &'a str,
    /// What it is to do, in parts that are too long for the plan.
    pub parts: &'a [String],
    /// What the audit entry calls it.
    pub subject: &'a str,
}

/// How far whoever works on a job came with a batch.
#[derive(Debug, Clone)]
pub struct Reached<'a> {
    /// The job's number.
    pub job: u32,
    /// The new position.
    pub position: &'a str,
    /// The lease under which the work was done, moved on.
    pub lease: Lease,
}

/// Why a job is not begun or taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum JobRefusal {
    /// The very same is begun and not ended.
    #[error("job {job} does the same and is not ended")]
    Same {
        /// Its number.
        job: u32,
    },
    /// Another of its kind is not ended, and there is one at a time.
    #[error("job {job} is not ended, and there is one of its kind at a time")]
    Another {
        /// Its number.
        job: u32,
    },
    /// Too many are not ended.
    #[error("{MOST_OPEN} jobs are not ended")]
    TooMany,
    /// There is none of that number, or it ended.
    #[error("there is no job {job} that has not ended")]
    Over {
        /// The number.
        job: u32,
    },
    /// Another process works on it.
    #[error("{holder} works on job {job}, until {until} at least", until = lease.until, holder = lease.holder)]
    Held {
        /// Its number.
        job: u32,
        /// Whose it is.
        lease: Lease,
    },
}

/// Begins a job, and leases it to whoever begins it; gives its number.
pub fn begin(tx: &mut dyn Tx, new: &NewJob<'_>, lease: &Lease, cause: &Cause) -> Answer<u32, JobRefusal> {
    let open = tx.jobs(true, MOST_OPEN)?;
    if let Some(same) = open.iter().find(|job| job.kind == new.kind && job.digest == new.digest) {
        return Ok(Err(JobRefusal::Same { job: same.number }));
    }
    // One list at a time is signed, so that nobody has to say which is to go on.
    let alone = |job: &&JobRecord| job.kind == JobKind::Enroll && new.kind == JobKind::Enroll;
    if let Some(other) = open.iter().find(alone) {
        return Ok(Err(JobRefusal::Another { job: other.number }));
    }
    if open.len() >= MOST_OPEN {
        return Ok(Err(JobRefusal::TooMany));
    }
    let number = tx.jobs(false, 1)?.first().map_or(1, |job| job.number + 1);
    tx.insert_job(&JobRecord {
        number,
        kind: new.kind,
        digest: new.digest,
        plan: new.plan.to_owned(),
        position: new.position.to_owned(),
        begun: cause.at,
        actor: cause.actor.clone(),
        because: cause.because.clone(),
        lease: Some(lease.clone()),
        ended: None,
        stopped: false,
    })?;
    for (place, part) in (0..).zip(new.parts) {
        tx.put_job_part(number, place, part)?;
    }
    let plan: serde_json::Value = serde_json::from_str(new.plan).unwrap_or_default();
    append(tx, cause, act(new.kind, true), new.subject, &json!({ "run": number, "plan": plan }))?;
    Ok(Ok(number))
}

/// What the record calls the beginning or the end of a job.
fn act(kind: JobKind, begins: bool) -> &'static str {
    match (kind, begins) {
        (JobKind::Enroll, true) => "enroll.begin",
        (JobKind::Enroll, false) => "enroll.end",
        (JobKind::Rotate, true) => "rotation.prepare",
        (JobKind::Rotate, false) => "rotation.end",
        (_, true) => "job.begin",
        (_, false) => "job.end",
    }
}

/// A job that has not ended.
fn open(tx: &dyn Tx, number: u32) -> Result<Option<JobRecord>, StoreError> {
    Ok(tx.job(number)?.filter(|job| job.ended.is_none()))
}

/// Takes the lease of a job that has not ended: one that nobody has, whose time is over, or whose holder `is_gone`. Gives the job.
pub fn take(
    tx: &mut dyn Tx,
    number: u32,
    lease: &Lease,
    is_gone: &dyn Fn(&str) -> bool,
    cause: &Cause,
) -> Answer<JobRecord, JobRefusal> {
    let Some(job) = open(tx, number)? else { return Ok(Err(JobRefusal::Over { job: number })) };
    if let Some(held) = job.lease.filter(|held| held.holder != lease.holder)
        && held.until >= cause.at
        && !is_gone(&held.holder)
    {
        return Ok(Err(JobRefusal::Held { job: number, lease: held }));
    }
    let job = JobRecord { lease: Some(lease.clone()), ..job };
    tx.update_job(&job)?;
    Ok(Ok(job))
}

/// Notes how far a job is.
///
/// # Errors
/// [`StoreError::TakenOver`]: it is not the holder's any more, or has ended; then nothing of the batch may stay.
pub fn reached(tx: &mut dyn Tx, reached: &Reached<'_>) -> Result<(), StoreError> {
    let job = own(tx, reached.job, &reached.lease.holder)?;
    let position = reached.position.to_owned();
    tx.update_job(&JobRecord { position, lease: Some(reached.lease.clone()), ..job })
}

fn own(tx: &dyn Tx, number: u32, holder: &str) -> Result<JobRecord, StoreError> {
    let job = open(tx, number)?.filter(|job| job.lease.as_ref().is_some_and(|lease| lease.holder == holder));
    job.ok_or(StoreError::TakenOver { job: number })
}

/// Ends a job; `detail` is what the audit record says of it beside its number. `stopped` says that not all of it was done.
///
/// # Errors
/// [`StoreError::TakenOver`]: it is not the holder's.
pub fn end(
    tx: &mut dyn Tx,
    number: u32,
    holder: &str,
    detail: serde_json::Value,
    stopped: bool,
    cause: &Cause,
) -> Result<(), StoreError> {
    let job = own(tx, number, holder)?;
    end_any(tx, job, detail, stopped, cause)
}

/// Ends all jobs of a kind that have not ended where they stand, whoever works on them.
pub(super) fn stop_all(tx: &mut dyn Tx, kind: JobKind, cause: &Cause) -> Result<(), StoreError> {
    for job in tx.jobs(true, usize::MAX)?.into_iter().filter(|job| job.kind == kind) {
        end_any(tx, job, json!({ "stopped": true }), true, cause)?;
    }
    Ok(())
}

fn end_any(
    tx: &mut dyn Tx,
    job: JobRecord,
    mut detail: serde_json::Value,
    stopped: bool,
    cause: &Cause,
) -> Result<(), StoreError> {
    let number = job.number;
    detail["run"] = json!(number);
    let subject = if job.kind == JobKind::Enroll { "bulk run".to_owned() } else { format!("job {number}") };
    append(tx, cause, act(job.kind, false), &subject, &detail)?;
    tx.drop_job_parts(number)?;
    tx.update_job(&JobRecord { lease: None, ended: Some(cause.at), stopped, ..job })
}
