//! Shared keys for many devices: a job, batch by batch into one pack. As with certificates a batch is on the disk before the store commits
//! what it holds, and what was written without a commit is taken back when the job goes on: no key is lost, and none is there twice.

use std::io;

use serde::{Deserialize, Serialize};
use serde_json::json;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::Origin;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::shared::{DataKey, SHARED_KEY_TYPE};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::{job, key};
use tidy_warden_store::{
    Cause, JobKind, JobRecord, JobRefusal, KeyReplaces, NewCredential, NewJob, Reached, StoreError,
};

use super::Watch;
use super::output::{Extent, Output};
use super::place::{self, Place};
use super::stage::Stager;
use crate::keys::Openers;
use crate::lease::{self, damaged};
use crate::open::Ward;
use crate::problem::Problem;
use crate::shared::{self, Fresh};

/// The columns of the manifest.
const HEAD: &str = "id,kid,ends,run\n";

/// How many devices that got no key are remembered by name.
const NAMED: usize = 20;

/// How many keys are made in one change, in a pack that is added to and in one of which each batch is a file of its own.
const AT_ONCE: usize = 1000;
const AT_ONCE_SEALED: usize = 10_000;

/// What is wanted.
#[derive(Debug, Clone)]
pub struct Wanted<'a> {
    /// The devices that get a key each.
    pub ids: &'a [DeviceId],
    /// The new pack.
    pub place: Place,
    /// From when on they count.
    pub begins: UnixTime,
    /// Their last second; if absent, after the life that the kind of each gives.
    pub ends: Option<UnixTime>,
    /// What people should know of them.
    pub note: Option<&'a str>,
    /// Why, for the audit record.
    pub because: Option<&'a str>,
}

/// The same as the store keeps it.
#[derive(Debug, Serialize, Deserialize)]
struct Plan {
    count: usize,
    list_sha256: String,
    place: Place,
    begins: i64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ends: Option<i64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    note: Option<String>,
}

/// How far a job is.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
struct Position {
    /// The parts that are done.
    parts: u32,
    devices: u64,
    keys: u64,
    refused: u64,
    extent: Extent,
}

/// What came of it.
#[derive(Debug, Clone)]
pub struct Outcome {
    /// The number of the job.
    pub job: u32,
    /// How many keys were made, all told.
    pub keys: u64,
    /// How many devices got none although they were to.
    pub refused: u64,
    /// Some of those, as far as this process met them, and why.
    pub named: Vec<(DeviceId, String)>,
    /// The pack.
    pub place: Place,
    /// In how many files it is, if it is encrypted.
    pub parts: u64,
}

/// A job that this process works on.
struct Work {
    number: u32,
    plan: Plan,
    position: Position,
    cause: Cause,
    named: Vec<(DeviceId, String)>,
}

fn text(value: serde_json::Result<String>) -> Result<String, Problem> {
    value.map_err(|error| Problem::failed("the job cannot be noted").because(error))
}

/// Makes a shared key for each of the devices.
///
/// # Errors
/// The pack's place is taken, or nothing could be begun; what is killed or fails later is a job that goes on with [`resume`].
pub fn run(
    ward: &mut Ward,
    wanted: &Wanted<'_>,
    openers: &dyn Openers,
    watch: &mut dyn Watch,
) -> Result<Outcome, Problem> {
    Output::refuse_existing(&wanted.place)?;
    // Before anything is begun, so that a wrong passphrase leaves nothing behind.
    let data = shared::ready(ward, openers)?;
    let at_once = if matches!(wanted.place, Place::Sealed { .. }) { AT_ONCE_SEALED } else { AT_ONCE };
    let parts = wanted.ids.chunks(at_once);
    let parts: Vec<String> =
        parts.map(|some| some.iter().map(DeviceId::as_str).collect::<Vec<_>>().join("\n")).collect();
    let plan = Plan {
        count: wanted.ids.len(),
        list_sha256: data_encoding::HEXLOWER.encode(&sha256(parts.join("\n").as_bytes())),
        place: wanted.place.clone(),
        begins: wanted.begins.0,
        ends: wanted.ends.map(|ends| ends.0),
        note: wanted.note.map(str::to_owned),
    };
    let position = Position::default();
    let (planned, reached) = (text(serde_json::to_string(&plan))?, text(serde_json::to_string(&position))?);
    let new = NewJob {
        kind: JobKind::Keys,
        digest: sha256(planned.as_bytes()),
        plan: &planned,
        position: &reached,
        parts: &parts,
        subject: &format!("shared keys for {} devices", wanted.ids.len()),
    };
    let cause = ward.cause(wanted.because);
    let number = match ward.store.begin_job(&new, &lease::from(ward.now()), &cause)? {
        Ok(number) => number,
        Err(refusal @ JobRefusal::Same { job }) => {
            return Err(lease::refusal(&refusal).next(format!("job resume {job}")));
        }
        Err(refusal) => return Err(lease::refusal(&refusal)),
    };
    let work = Work { number, plan, position, cause, named: Vec::new() };
    let output = Output::create(&work.plan.place, HEAD).map_err(|problem| again(number, problem))?;
    drive(ward, work, output, &data, watch)
}

/// Takes a job, and reads what it is to do.
fn taken(ward: &mut Ward, number: u32) -> Result<Work, Problem> {
    let (job, cause): (JobRecord, Cause) = lease::take(ward, number)?;
    let plan: Plan = serde_json::from_str(&job.plan).map_err(damaged)?;
    let position: Position = serde_json::from_str(&job.position).map_err(damaged)?;
    Ok(Work { number, plan, position, cause, named: Vec::new() })
}

impl Work {
    /// Whether it came as far as giving the pack its name, and only the store was not told.
    fn is_written(&self) -> bool {
        self.position.parts > 0 && place::is_finished(&self.plan.place)
    }

    fn output(&self, ward: &Ward) -> Result<Output, Problem> {
        let extent = (self.position.parts > 0).then_some(self.position.extent);
        Output::resume(&self.plan.place, extent, HEAD, ward)
    }

    fn end(self, ward: &mut Ward, stopped: bool) -> Result<Outcome, Problem> {
        let Position { devices, keys, refused, extent, .. } = self.position;
        let detail = json!({ "devices": devices, "keys": keys, "refused": refused, "stopped": stopped });
        ward.store.end_job(self.number, &lease::holder(), detail, stopped, &self.cause)?;
        let (place, parts) = (self.plan.place, extent.parts);
        Ok(Outcome { job: self.number, keys, refused, named: self.named, place, parts })
    }
}

fn again(number: u32, problem: Problem) -> Problem {
    problem.or_next(&format!("then: job resume {number}"))
}

/// Goes on with a job.
///
/// # Errors
/// There is none of that number, or another process works on it.
pub fn resume(ward: &mut Ward, number: u32, openers: &dyn Openers, watch: &mut dyn Watch) -> Result<Outcome, Problem> {
    let data = shared::ready(ward, openers)?;
    let work = taken(ward, number)?;
    if work.is_written() {
        place::tidy_up(&work.plan.place);
        // Whoever ended it where it stood may have been killed as well.
        let stopped = work.position.devices < u64::try_from(work.plan.count).unwrap_or(u64::MAX);
        return work.end(ward, stopped);
    }
    let output = work.output(ward)?;
    drive(ward, work, output, &data, watch)
}

/// Ends a job where it stands; its pack is closed.
///
/// # Errors
/// There is none of that number, or another process works on it.
pub fn stop(ward: &mut Ward, number: u32) -> Result<Outcome, Problem> {
    let work = taken(ward, number)?;
    if work.is_written() {
        place::tidy_up(&work.plan.place);
    } else {
        work.output(ward)?.finish(ward.now())?;
    }
    work.end(ward, true)
}

/// Does part after part until there is none.
fn drive(
    ward: &mut Ward,
    mut work: Work,
    mut output: Output,
    data: &DataKey,
    watch: &mut dyn Watch,
) -> Result<Outcome, Problem> {
    let number = work.number;
    loop {
        let part = ward.store.job_part(number, work.position.parts).map_err(|error| again(number, error.into()))?;
        let Some(part) = part else { break };
        let ids = part.lines().map(|id| id.parse().map_err(damaged)).collect::<Result<Vec<DeviceId>, _>>()?;
        let batch = batch(ward, &mut work, &mut output, data, &ids);
        batch.map_err(|problem| again(number, problem))?;
        watch.reached(work.position.devices, work.position.keys, work.position.refused);
    }
    watch.finish();
    output.finish(ward.now()).map_err(|problem| again(number, problem))?;
    work.end(ward, false).map_err(|problem| again(number, problem))
}

/// A key that is to be a device's.
struct Candidate {
    id: DeviceId,
    fresh: Fresh,
    ends: UnixTime,
}

/// Makes the keys of one part, writes them and records them; all of it or nothing.
fn batch(
    ward: &mut Ward,
    work: &mut Work,
    output: &mut Output,
    data: &DataKey,
    ids: &[DeviceId],
) -> Result<(), Problem> {
    let now = ward.now();
    let from = UnixTime(work.plan.begins).max(now);
    let mut refused: Vec<(DeviceId, String)> = Vec::new();
    let mut candidates = Vec::with_capacity(ids.len());
    for (id, view) in ids.iter().zip(ward.store.view(|view| view.devices(ids))?) {
        let Some(view) = view else {
            refused.push((id.clone(), "there is no such device".to_owned()));
            continue;
        };
        let kind = match ward.settings.kind(&view.device.kind) {
            Ok(kind) if kind.shared_keys => kind,
            Ok(_) => {
                refused.push((id.clone(), format!("devices of the kind `{}` may share no keys", view.device.kind)));
                continue;
            }
            Err(unknown) => {
                refused.push((id.clone(), unknown.to_string()));
                continue;
            }
        };
        let ends = work.plan.ends.map_or(from.plus(kind.life), UnixTime);
        if ends <= now {
            refused.push((id.clone(), format!("its key would have ended already, at {ends}")));
            continue;
        }
        let fresh = shared::fresh(data, id).ok_or_else(|| Problem::failed("a key cannot be locked"))?;
        candidates.push(Candidate { id: id.clone(), fresh, ends });
    }
    let stager = Stager::new(&work.plan.place, HEAD, now);
    let cause = Cause { at: now, ..work.cause.clone() };
    let (number, before) = (work.number, work.position);
    let (begins, note) = (UnixTime(work.plan.begins), work.plan.note.as_deref());
    let count = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
    let unwritten = |problem: Problem| StoreError::Delivery(io::Error::other(problem.in_one_line()));
    let mut raced = Vec::new();
    let done = ward.store.decide(|tx| {
        let mut batch = stager.begin(u64::from(before.parts)).map_err(unwritten)?;
        let mut keys = 0;
        for Candidate { id, fresh, ends } in &candidates {
            let new = fresh.credential(id, (begins, *ends), note);
            if let Err(why) = key::add(tx, &new, KeyReplaces::Nothing, &cause)? {
                raced.push((id.clone(), why.to_string()));
                continue;
            }
            keys += 1;
            let line = format!("{id},{},{ends},{number}\n", fresh.kid);
            let document = fresh.key.to_jwk(&fresh.kid);
            stager.add_file(&mut batch, &format!("{id}.jwk"), document.as_bytes(), &line).map_err(unwritten)?;
        }
        let staged = stager.finish(batch).map_err(unwritten)?;
        let after = Position {
            parts: before.parts + 1,
            devices: before.devices + count(ids.len()),
            keys: before.keys + keys,
            refused: before.refused + count(refused.len() + raced.len()),
            extent: output.extent_after(&staged),
        };
        let position = text(serde_json::to_string(&after)).map_err(unwritten)?;
        // First, so that nothing is written for a job that is another's by now.
        job::reached(tx, &Reached { job: number, position: &position, lease: lease::from(cause.at) })?;
        output.publish(&staged).map_err(StoreError::Delivery)?;
        Ok(Ok::<_, std::convert::Infallible>(after))
    });
    let Ok(after) = done.map_err(|error| match error {
        StoreError::Delivery(error) => Problem::file("write", work.plan.place.path(), &error),
        other => other.into(),
    })?;
    refused.extend(raced);
    let room = NAMED.saturating_sub(work.named.len());
    work.named.extend(refused.into_iter().take(room));
    work.position = after;
    Ok(())
}

impl Fresh {
    /// The key as it goes into the store.
    #[must_use]
    pub fn credential<'f>(
        &'f self,
        device: &'f DeviceId,
        (begins, ends): (UnixTime, UnixTime),
        note: Option<&'f str>,
    ) -> NewCredential<'f> {
        NewCredential {
            device,
            origin: Origin::Shared,
            authority: None,
            der: &self.sealed,
            fingerprint: Fingerprint(self.name),
            serial: None,
            key_digest: self.digest,
            key_type: SHARED_KEY_TYPE,
            not_before: begins,
            not_after: ends,
            again: true,
            overlap: Span::from_seconds(0),
            fresh_key: true,
            authorised_by: None,
            kid: Some(&self.kid),
            note,
        }
    }
}
