//! Rotations: devices are asked to renew, in batches that commit with how far it is; and a person begins, stops and resumes them.

use serde_json::json;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::rotation::Replaces;

use super::{append, hex};
use crate::{Answer, Cause, JobKind, JobRecord, JobRefusal, Lease, NewJob, StoreError, Tx};

/// Writes a rotation down. Nobody works on it before it is begun.
pub fn prepare(tx: &mut dyn Tx, new: &NewJob<'_>, lease: &Lease, cause: &Cause) -> Answer<u32, JobRefusal> {
    let number = match super::job::begin(tx, new, lease, cause)? {
        Ok(number) => number,
        Err(refusal) => return Ok(Err(refusal)),
    };
    if let Some(job) = tx.job(number)? {
        tx.update_job(&JobRecord { lease: None, ..job })?;
    }
    Ok(Ok(number))
}

/// Asks devices to renew: from now on each may, whatever time its certificate or key has left.
pub fn ask(
    tx: &mut dyn Tx,
    (name, replaces): (&str, Replaces),
    round: usize,
    ids: &[DeviceId],
    cause: &Cause,
) -> Result<(), StoreError> {
    let list: String = ids.iter().map(|id| format!("{id}\n")).collect();
    let mut detail = json!({ "round": round + 1, "count": ids.len(), "list_sha256": hex(&sha256(list.as_bytes())) });
    if replaces != Replaces::default() {
        detail["replaces"] = json!(replaces.as_str());
    }
    append(tx, cause, "rotation.ask", name, &detail)?;
    tx.put_renew_asked(ids, cause.at)
}

/// Takes a rotation that has not ended from whoever has it.
pub fn take_over(tx: &mut dyn Tx, number: u32, lease: &Lease) -> Answer<(), JobRefusal> {
    match tx.job(number)?.filter(|job| job.ended.is_none() && job.kind == JobKind::Rotate) {
        Some(job) => {
            tx.update_job(&JobRecord { lease: Some(lease.clone()), ..job })?;
            Ok(Ok(()))
        }
        None => Ok(Err(JobRefusal::Over { job: number })),
    }
}

/// What a person says of a rotation that has not ended: `change` is given how far it is, and gives what counts from now on, or nothing if
/// that is refused. Whoever works on it at this moment loses it, and sees so with the next batch.
pub fn say<R>(
    tx: &mut dyn Tx,
    number: u32,
    (act, name): (&'static str, &str),
    change: &mut dyn FnMut(&str) -> Result<String, R>,
    cause: &Cause,
) -> Answer<bool, R> {
    let job = tx.job(number)?.filter(|job| job.ended.is_none() && job.kind == JobKind::Rotate);
    let Some(job) = job else { return Ok(Ok(false)) };
    let position = match change(&job.position) {
        Ok(position) => position,
        Err(refusal) => return Ok(Err(refusal)),
    };
    tx.update_job(&JobRecord { position, lease: None, ..job })?;
    append(tx, cause, act, name, &json!({ "run": number }))?;
    Ok(Ok(true))
}
