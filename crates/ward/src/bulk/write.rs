//! The one that writes: batches in the order of the list, first the outfits, synced, then the store's commit of certificates, audit
//! entry and position.

use std::collections::BTreeMap;
use std::fs::{File, OpenOptions};
use std::io::{self, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::mpsc::Receiver;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::time::Clock;
use tidy_warden_store::{Batch, BatchRefusal, Cause, NewCredential, OperatorStore, Reached, StoreError};

use super::Watch;
use super::output::{self, Output};
use super::plan::{Plan, Position};
use super::work::{Candidate, Done, Refused, make};
use crate::clock::WardClock;
use crate::issue::press::Mint;
use crate::lease;
use crate::list::Adding;
use crate::problem::Problem;

/// The one that writes.
pub(super) struct Writer<'w> {
    pub(super) plan: &'w Plan,
    pub(super) store: &'w mut OperatorStore,
    pub(super) output: Output,
    pub(super) rejects: Rejects,
    pub(super) position: Position,
    pub(super) refusals: Adding,
    pub(super) mint: &'w Mint,
    pub(super) clock: &'w WardClock,
    pub(super) actor: &'w str,
    /// The number of the job.
    pub(super) number: u32,
    pub(super) watch: &'w mut dyn Watch,
}

impl Writer<'_> {
    /// Writes batches in the order of the list; gives the output back, and how far it came.
    pub(super) fn run(mut self, done: &Receiver<Result<Done, Problem>>) -> Result<(Output, Position), Problem> {
        let mut early: BTreeMap<u64, Done> = BTreeMap::new();
        let mut next = 1;
        for batch in done {
            let batch = batch?;
            early.insert(batch.job.number, batch);
            while let Some(batch) = early.remove(&next) {
                self.write(batch)?;
                next += 1;
            }
        }
        self.watch.finish();
        Ok((self.output, self.position))
    }

    fn write(&mut self, mut batch: Done) -> Result<(), Problem> {
        loop {
            let refusals = match self.try_write(&mut batch)? {
                Ok(()) => return Ok(()),
                Err(refusals) => refusals,
            };
            // Something changed since the rows were looked up, or two batches name one device. What was signed for the
            // others is thrown away unseen, and they are signed again.
            let whys: BTreeMap<DeviceId, String> =
                refusals.into_iter().map(|refusal| (refusal.device, refusal.why)).collect();
            let Done { mut job, staged, .. } = batch;
            output::discard(&staged);
            let (out, rows) = job.rows.into_iter().partition(|row| whys.contains_key(&row.device.id));
            job.rows = rows;
            let out: Vec<Candidate> = out;
            job.refused.extend(out.into_iter().map(|row| Refused {
                why: whys.get(&row.device.id).cloned().unwrap_or_default(),
                line: row.line,
                raw: row.raw,
            }));
            batch = make(job, self.mint, (self.plan, self.number), self.clock.now())?;
        }
    }

    fn try_write(&mut self, batch: &mut Done) -> Result<Result<(), Vec<BatchRefusal>>, Problem> {
        let Done { job, minted, staged, asked } = batch;
        job.refused.sort_by_key(|refused| refused.line);
        let mut rejected = Vec::new();
        for Refused { line, raw, why } in &job.refused {
            rejected.extend(self.refusals.text(raw, &format!("line {line}: {why}")));
        }
        let count = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
        let position = Position {
            byte: job.after.byte,
            line: job.after.line,
            extent: self.output.extent_after(staged),
            rejects: self.rejects.length_after(&rejected),
            issued: self.position.issued + count(minted.len()),
            refused: self.position.refused + count(job.refused.len()),
            clipped: self.position.clipped + count(minted.iter().filter(|one| one.clipped).count()),
            made_up: self.position.made_up + count(minted.iter().filter(|one| one.made_up.is_some()).count()),
            asked: self.position.asked + *asked,
            keys: self.position.keys + count(minted.iter().filter(|one| one.fresh_key).count()),
        };
        let text = serde_json::to_string(&position)
            .map_err(|error| Problem::failed("the bulk run cannot be noted").because(error))?;
        let fresh: Vec<DeviceRecord> = job.rows.iter().filter(|row| row.is_new).map(|row| row.device.clone()).collect();
        let credentials: Vec<NewCredential<'_>> =
            job.rows.iter().zip(&*minted).map(|(row, one)| one.credential(&row.device.id, self.plan.again)).collect();
        let now = self.clock.now();
        let list = Batch {
            act: "enroll.batch",
            devices: &fresh,
            credentials: &credentials,
            list_digest: list_digest(&credentials),
            reached: Some(Reached { job: self.number, position: &text, lease: lease::from(now) }),
        };
        let cause = Cause { at: now, actor: self.actor.to_owned(), because: self.plan.because.clone() };
        let (output, rejects) = (&mut self.output, &mut self.rejects);
        let recorded = self.store.record_batch(&list, &cause, &mut || {
            output.publish(staged)?;
            rejects.append(&rejected)
        });
        match recorded {
            Ok(Ok(())) => {
                self.position = position;
                self.watch.reached(position.byte, position.issued, position.refused);
                Ok(Ok(()))
            }
            Ok(Err(refusals)) => Ok(Err(refusals)),
            Err(StoreError::Delivery(error)) => Err(Problem::file("write", self.plan.place.path(), &error)),
            Err(error) => Err(error.into()),
        }
    }
}

/// SHA-256 of the ids and fingerprints of a batch, a line each: binds the audit entry to what was issued.
fn list_digest(credentials: &[NewCredential<'_>]) -> [u8; 32] {
    let mut list = Vec::with_capacity(credentials.len() * 48);
    for new in credentials {
        list.extend_from_slice(new.device.as_str().as_bytes());
        list.push(b' ');
        let Fingerprint(digest) = new.fingerprint;
        list.extend_from_slice(&digest);
        list.push(b'\n');
    }
    sha256(&list)
}

/// The list of refused rows; the file is made when the first is refused.
pub(super) struct Rejects {
    path: PathBuf,
    head: Vec<u8>,
    length: u64,
    file: Option<File>,
}

impl Rejects {
    /// `length` octets of it were committed; what stands behind them is taken back.
    pub(super) fn open(path: &Path, length: u64, head: Vec<u8>) -> Result<Self, Problem> {
        let failed = |error: io::Error| Problem::file("write", path, &error);
        let file = if length > 0 {
            let mut file = OpenOptions::new().write(true).open(path).map_err(failed)?;
            file.set_len(length).map_err(failed)?;
            file.seek(SeekFrom::Start(length)).map_err(failed)?;
            Some(file)
        } else {
            None
        };
        Ok(Self { path: path.to_owned(), head, length, file })
    }

    fn length_after(&self, more: &[u8]) -> u64 {
        let head = if self.length == 0 { self.head.len() } else { 0 };
        match more.is_empty() {
            true => self.length,
            false => self.length + u64::try_from(head + more.len()).unwrap_or(0),
        }
    }

    fn append(&mut self, more: &[u8]) -> io::Result<()> {
        if more.is_empty() {
            return Ok(());
        }
        let after = self.length_after(more);
        let file = match &mut self.file {
            Some(file) => file,
            None => {
                // One that a killed run left behind holds nothing that was committed.
                let file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&self.path)?;
                let file = self.file.insert(file);
                file.write_all(&self.head)?;
                file
            }
        };
        file.write_all(more)?;
        file.sync_data()?;
        self.length = after;
        Ok(())
    }
}
