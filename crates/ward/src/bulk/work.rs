//! From rows to signed batches: one thread reads rows and looks the devices up, workers make keys, sign and compress.

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, BufReader};
use std::path::Path;
use std::sync::mpsc::{Receiver, SyncSender};
use std::sync::{Mutex, PoisonError};

use tidy_warden_core::credential::Origin;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::enrolment::may_be_issued;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::request::{self, Request};
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_store::DeviceView;

use super::place::Place;
use super::plan::Plan;
use super::stage::{Line, MANIFEST_HEAD, Staged, Stager};
use crate::clock::WardClock;
use crate::files;
use crate::issue::press::{KeySource, Mint, Minted, Press, Unmade};
use crate::list::{At, ListEntry, ListReader, Raw, Row};
use crate::open::Ward;
use crate::problem::Problem;

/// A row that will get a certificate.
pub(super) struct Candidate {
    pub(super) line: u64,
    pub(super) raw: Raw,
    pub(super) device: DeviceRecord,
    /// Whether it is to be listed first.
    pub(super) is_new: bool,
    pub(super) csr: Option<String>,
}

/// A row that is refused, and why.
pub(super) struct Refused {
    pub(super) line: u64,
    pub(super) raw: Raw,
    pub(super) why: String,
}

/// A batch on its way to a worker.
pub(super) struct Job {
    pub(super) number: u64,
    pub(super) rows: Vec<Candidate>,
    pub(super) refused: Vec<Refused>,
    /// Where the next batch begins.
    pub(super) after: At,
}

/// A batch on its way to the writer.
pub(super) struct Done {
    pub(super) job: Job,
    /// In the order of `job.rows`.
    pub(super) minted: Vec<Minted>,
    pub(super) staged: Staged,
    /// Requests that asked for more than a certificate for their key.
    pub(super) asked: u64,
}

/// The list, batch by batch.
pub(super) struct Feed<'f, 's> {
    pub(super) reader: &'f mut ListReader<'s, BufReader<File>>,
    pub(super) plan: &'f Plan,
    pub(super) number: u64,
}

impl Feed<'_, '_> {
    pub(super) fn next(&mut self, ward: &Ward) -> Result<Option<Job>, Problem> {
        let failed = |error: io::Error| Problem::failed(format!("cannot read {}", self.plan.shown)).because(error);
        let mut good: Vec<(u64, Raw, ListEntry)> = Vec::with_capacity(self.plan.batch);
        let mut refused = Vec::new();
        while good.len() + refused.len() < self.plan.batch {
            let Some(Row { line, raw, entry }) = self.reader.next_row().map_err(failed)? else { break };
            match entry {
                Ok(entry) => good.push((line, raw, entry)),
                Err(why) => refused.push(Refused { line, raw, why }),
            }
        }
        if good.is_empty() && refused.is_empty() {
            return Ok(None);
        }
        let ids: Vec<DeviceId> = good.iter().map(|(_, _, entry)| entry.device.id.clone()).collect();
        let mut rows = Vec::with_capacity(good.len());
        for ((line, raw, entry), view) in good.into_iter().zip(ward.store.devices(&ids)?) {
            let is_new = view.is_none();
            let csr = entry.csr.clone();
            match self.device(entry, view, ward.now()) {
                Ok(device) => rows.push(Candidate { line, raw, device, is_new, csr }),
                Err(why) => refused.push(Refused { line, raw, why }),
            }
        }
        self.number += 1;
        Ok(Some(Job { number: self.number, rows, refused, after: self.reader.at() }))
    }

    /// The device that a row is about: as it is listed, or as it is to be.
    fn device(&self, entry: ListEntry, view: Option<DeviceView>, now: UnixTime) -> Result<DeviceRecord, String> {
        let given = entry.device;
        if let Place::Folders(out) = &self.plan.place {
            let place = out.join(given.id.as_str());
            if place.symlink_metadata().is_ok() {
                return Err(format!("the outfit {} exists already", place.display()));
            }
        }
        let Some(view) = view else {
            return match entry.has_kind {
                true => Ok(given),
                false => Err(format!("`{}` is not listed, and the row names no kind", given.id)),
            };
        };
        let known = &view.device;
        if entry.has_kind && given.kind != known.kind {
            return Err(format!("its kind is `{}` in the ward and `{}` in the list", known.kind, given.kind));
        }
        for (name, value) in &given.labels {
            if known.labels.get(name) != Some(value) {
                return Err(format!("its label {name} is not `{value}` in the ward"));
            }
        }
        for fact in given.facts.values() {
            if known.facts.get(fact.name()) != Some(fact) {
                return Err(format!("its {fact} is not what the ward knows"));
            }
        }
        if given.gateway.is_some() && given.gateway != known.gateway {
            return Err("its gateway is another in the ward".to_owned());
        }
        match may_be_issued(&view.device, &view.credentials, Origin::Issued, self.plan.again, now) {
            Err(refusal) => Err(refusal.to_string()),
            Ok(()) => Ok(view.device),
        }
    }
}

/// Reads batches until the list ends or nobody takes them any more.
pub(super) fn feed_all(
    feed: &mut Feed<'_, '_>,
    first: Option<Job>,
    ward: &Ward,
    prepare: &dyn Fn(&Job) -> Result<(), Problem>,
    to_workers: &SyncSender<Job>,
) -> Result<(), Problem> {
    let mut next = match first {
        Some(job) => Some(job),
        None => feed.next(ward)?,
    };
    while let Some(job) = next {
        prepare(&job)?;
        if to_workers.send(job).is_err() {
            break;
        }
        next = feed.next(ward)?;
    }
    Ok(())
}

/// Takes batches from the reader and passes them on, signed.
pub(super) fn work(
    jobs: &Mutex<Receiver<Job>>,
    to_writer: &SyncSender<Result<Done, Problem>>,
    mint: &Mint,
    (plan, number): (&Plan, u32),
    clock: &WardClock,
) {
    loop {
        let job = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(job) = job else { return };
        if to_writer.send(make(job, mint, (plan, number), clock.now())).is_err() {
            return;
        }
    }
}

/// Signs a batch and makes its outfits ready. Rows that cannot have a certificate go to the refused ones.
pub(super) fn make(mut job: Job, mint: &Mint, (plan, number): (&Plan, u32), now: UnixTime) -> Result<Done, Problem> {
    let mut press = Press::new(mint, now);
    let stager = Stager::new(&plan.place, MANIFEST_HEAD, now);
    let mut batch = stager.begin(job.number)?;
    let mut minted = Vec::with_capacity(job.rows.len());
    let mut kept = Vec::with_capacity(job.rows.len());
    let mut ends = (UnixTime(0), String::new());
    let mut asked = 0;
    let run = plan.numbered.then_some(number);
    // A row that is refused takes nothing from a good one behind it.
    let mut taken = HashSet::new();
    for row in job.rows {
        if taken.contains(&row.device.id) {
            let why = format!("`{}` stands in the list twice", row.device.id);
            job.refused.push(Refused { line: row.line, raw: row.raw, why });
            continue;
        }
        let made = match key_source(&row, &plan.base) {
            Ok((source, more)) => {
                asked += u64::from(more);
                press.mint(&row.device, source)
            }
            Err(why) => Err(Unmade::Device(why)),
        };
        match made {
            Ok(one) => {
                if ends.1.is_empty() || ends.0 != one.not_after {
                    ends = (one.not_after, one.not_after.to_string());
                }
                let line = Line { serial: &one.serial, fingerprint: one.fresh.fingerprint, ends: &ends.1, run };
                stager.add(&mut batch, &row.device.id, &press.outfit(&row.device, &one)?, &line)?;
                minted.push(one.without_key());
                taken.insert(row.device.id.clone());
                kept.push(row);
            }
            Err(Unmade::Device(why)) => job.refused.push(Refused { line: row.line, raw: row.raw, why }),
            Err(Unmade::All(problem)) => return Err(problem),
        }
    }
    job.rows = kept;
    Ok(Done { staged: stager.finish(batch)?, minted, job, asked })
}

/// The key that a row's request proves, or one to be made; and whether the request asked for more.
fn key_source(row: &Candidate, base: &Path) -> Result<(KeySource, bool), String> {
    let Some(csr) = &row.csr else { return Ok((KeySource::MakeHere, false)) };
    let octets = if csr.starts_with("-----BEGIN") {
        csr.clone().into_bytes()
    } else if csr.len() > 100 && csr.starts_with("MI") {
        data_encoding::BASE64.decode(csr.as_bytes()).map_err(|_| "its request is not base64 of DER".to_owned())?
    } else {
        let limit = u64::try_from(request::MAX_LEN).unwrap_or(u64::MAX);
        files::read(&base.join(csr), limit).map_err(|problem| problem.in_one_line())?
    };
    let refused = |error: request::BadRequest| format!("its request was refused: {error}");
    let request = Request::parse(&octets).map_err(refused)?;
    let more = !request.ignored.is_empty();
    request.verify_possession().map(|key| (KeySource::Proven(key), more)).map_err(refused)
}
