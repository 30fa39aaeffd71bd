//! Lists of devices that are to be listed: all of a list or none of it, or what of it can be taken.

use std::collections::{BTreeMap, HashSet};
use std::fs::OpenOptions;
use std::io::{Cursor, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use serde_json::json;
use tidy_warden_core::device::{AddRefusal, DeviceRecord};
use tidy_warden_core::key::sha256;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::acts::device;
use tidy_warden_store::{Cause, JobKind, JobRecord, JobRefusal, NewJob, StoreError};

use crate::bulk::{Watch, absolute};
use crate::files;
use crate::lease::{self, damaged};
use crate::list::{Extra, ListReader, REASON, Raw};
use crate::open::Ward;
use crate::problem::Problem;

/// The largest list, in octets: a million rows have about 60 MB.
pub const MAX_LIST: u64 = 512 * 1024 * 1024;

/// How many devices are listed in one transaction; a longer list is a job.
pub const AT_ONCE: usize = 5_000;

/// How many bad rows are told one by one.
const TOLD: usize = 20;

/// The list in the ward's folder, if it came by standard input and is a job.
const SPOOL: &str = "import-input";

/// What a job is to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Plan {
    input: PathBuf,
    /// What people call the list.
    pub shown: String,
    sha256: String,
    /// When it was begun: devices are listed as of then.
    at: i64,
    count: usize,
    /// Where refused rows go; without it, all rows are taken or none.
    rejects: Option<PathBuf>,
}

/// How far a job is.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
struct Position {
    devices: usize,
}

fn digest(octets: &[u8]) -> String {
    data_encoding::HEXLOWER.encode(&sha256(octets))
}

/// Reads a list; `-` is standard input. With `rejects`, what cannot be taken goes to that file and the others are taken. Gives its octets, and what a job would say of it.
pub fn open(ward: &Ward, from: &Path, rejects: Option<&Path>) -> Result<(Vec<u8>, Plan), Problem> {
    let is_input = from == Path::new("-");
    let octets = if is_input { files::read_input_octets(MAX_LIST)? } else { files::read(from, MAX_LIST)? };
    let input = if is_input { ward.dir.join(SPOOL) } else { absolute(from)? };
    let shown = if is_input { "standard input".to_owned() } else { from.display().to_string() };
    let rejects = rejects.map(absolute).transpose()?;
    let plan = Plan { input, shown, sha256: digest(&octets), at: ward.now().0, count: 0, rejects };
    if is_input && octets.iter().filter(|octet| **octet == b'\n').count() > AT_ONCE {
        // Another that is not ended needs its own.
        let open = ward.store.jobs(true, usize::MAX)?;
        let needs =
            |job: &JobRecord| serde_json::from_str::<Plan>(&job.plan).is_ok_and(|plan| plan.input == input_of(ward));
        if open.iter().any(|job| job.kind == JobKind::Import && needs(job)) {
            return Err(Problem::refused("a list from standard input is not taken to its end yet").next("job list"));
        }
        let failed = |error: std::io::Error| Problem::file("write", &plan.input, &error);
        let mut options = OpenOptions::new();
        let mut file = options.write(true).create(true).truncate(true).mode(0o600).open(&plan.input).map_err(failed)?;
        file.write_all(&octets).and_then(|()| file.sync_all()).map_err(failed)?;
    }
    Ok((octets, plan))
}

fn input_of(ward: &Ward) -> PathBuf {
    ward.dir.join(SPOOL)
}

/// Takes a job, and reads what it is to do.
fn taken(ward: &mut Ward, number: u32) -> Result<(Plan, Position, Cause), Problem> {
    let (job, cause) = lease::take(ward, number)?;
    let (plan, position) = (serde_json::from_str(&job.plan), serde_json::from_str(&job.position));
    Ok((plan.map_err(damaged)?, position.map_err(damaged)?, cause))
}

/// Goes on with a job; gives how many devices were listed, all told.
pub fn resume(ward: &mut Ward, number: u32, watch: &mut dyn Watch) -> Result<usize, Problem> {
    let (plan, position, cause) = taken(ward, number)?;
    let octets = files::read(&plan.input, MAX_LIST)?;
    if digest(&octets) != plan.sha256 {
        return Err(Problem::refused(format!("job {number} cannot go on with {}", plan.input.display()))
            .because("it is not the list that the job was begun with")
            .next(format!("put the list back as it was, or end the job where it stands: job stop {number}")));
    }
    let settings = ward.settings.clone();
    let mut list = List::read(octets, &plan.shown, &settings, UnixTime(plan.at))?;
    // Rows that were refused at the beginning stay so.
    let skipped = ward.store.job_part(number, 0)?.unwrap_or_default();
    let skipped: HashSet<u64> = skipped.lines().filter_map(|line| line.parse().ok()).collect();
    list.good.retain(|(line, _)| !skipped.contains(line));
    drive(ward, number, &plan, &list.in_order(), position, &cause, watch)
}

/// Ends a job where it stands; gives how many devices were listed.
pub fn stop(ward: &mut Ward, number: u32) -> Result<usize, Problem> {
    let (plan, position, cause) = taken(ward, number)?;
    end(ward, number, position, true, &cause)?;
    discard_input(ward, &plan.input);
    Ok(position.devices)
}

fn discard_input(ward: &Ward, input: &Path) {
    if input == input_of(ward) {
        // If it stays, the next one replaces it.
        let _ = std::fs::remove_file(input);
    }
}

fn end(ward: &mut Ward, number: u32, position: Position, stopped: bool, cause: &Cause) -> Result<(), Problem> {
    let detail = json!({ "devices": position.devices, "stopped": stopped });
    Ok(ward.store.end_job(number, &lease::holder(), detail, stopped, cause)?)
}

/// Lists batch after batch; gives how many devices are listed then.
fn drive(
    ward: &mut Ward,
    number: u32,
    plan: &Plan,
    devices: &[DeviceRecord],
    mut position: Position,
    cause: &Cause,
    watch: &mut dyn Watch,
) -> Result<usize, Problem> {
    let again = |problem: Problem| problem.or_next(&format!("then: job resume {number}"));
    let count = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
    while let Some(some) = devices.get(position.devices..).filter(|some| !some.is_empty()) {
        let some = some.get(..AT_ONCE).unwrap_or(some);
        let cause = Cause { at: ward.now(), ..cause.clone() };
        let after = Position { devices: position.devices + some.len() };
        let text = serde_json::to_string(&after).map_err(damaged)?;
        let batch = ward
            .store
            .job_batch(number, &lease::from(cause.at), |tx| Ok(device::add(tx, some, &cause)?.map(|()| ((), text))));
        if let Err(refusals) = batch.map_err(|error: StoreError| again(error.into()))? {
            let why = refusals.first().map(ToString::to_string).unwrap_or_default();
            if position.devices == 0 {
                end(ward, number, position, true, &cause)?;
                discard_input(ward, &plan.input);
                return Err(Problem::refused(format!("nothing of {} was taken", plan.shown))
                    .because(format!("somebody listed others meanwhile: {why}"))
                    .next("import it again: all that is in the way is told then"));
            }
            return Err(Problem::refused(format!("job {number} stopped after {} devices", position.devices))
                .because(format!("somebody listed others meanwhile: {why}"))
                .next(format!("mend that, then: job resume {number}; or end it where it stands: job stop {number}")));
        }
        position = after;
        watch.reached(count(position.devices), count(position.devices), 0);
    }
    watch.finish();
    end(ward, number, position, false, cause).map_err(again)?;
    discard_input(ward, &plan.input);
    Ok(position.devices)
}

/// A row that cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadRow {
    /// Its line in the file, from 1.
    pub line: u64,
    /// Why, in one line.
    pub why: String,
}

/// A list that was read: good rows as devices with their lines, bad rows with their reasons.
pub struct List<'s> {
    reader: ListReader<'s, Cursor<Vec<u8>>>,
    /// Those that can be read, each with its line.
    pub good: Vec<(u64, DeviceRecord)>,
    /// Those that cannot be taken.
    pub bad: Vec<BadRow>,
    rows: BTreeMap<u64, Raw>,
}

impl<'s> List<'s> {
    /// Reads the octets of a list.
    ///
    /// # Errors
    /// The header is wrong; nothing can be said of the rows then.
    pub fn read(octets: Vec<u8>, shown: &str, settings: &'s Settings, now: UnixTime) -> Result<Self, Problem> {
        let reader = ListReader::open(Cursor::new(octets), shown, Extra::None, settings, now)?;
        let mut list = Self { reader, good: Vec::new(), bad: Vec::new(), rows: BTreeMap::new() };
        let failed = |error: std::io::Error| Problem::failed(format!("cannot read {shown}")).because(error);
        while let Some(row) = list.reader.next_row().map_err(failed)? {
            match row.entry {
                Ok(entry) if entry.has_kind => list.good.push((row.line, entry.device)),
                Ok(_) => list.bad.push(BadRow { line: row.line, why: "it names no kind".to_owned() }),
                Err(why) => list.bad.push(BadRow { line: row.line, why }),
            }
            list.rows.insert(row.line, row.raw);
        }
        if list.good.is_empty() && list.bad.is_empty() {
            return Err(
                Problem::refused(format!("{shown} lists no device")).because("there is no row after the header")
            );
        }
        Ok(list)
    }

    /// Lists the good rows: all rows or none, or, if the plan says so, those that can be taken. Gives how many were, and the number of the job
    /// if it took one: a long list is taken in batches, so that nobody who writes meanwhile waits for all of it. What is killed then
    /// goes on with [`resume`].
    pub fn store(
        &mut self,
        ward: &mut Ward,
        plan: &Plan,
        cause: &Cause,
        watch: &mut dyn Watch,
    ) -> Result<(usize, Option<u32>), Problem> {
        let stored = self.try_store(ward, plan, cause, watch);
        if matches!(stored, Ok((_, None))) {
            discard_input(ward, &plan.input);
        }
        stored
    }

    fn try_store(
        &mut self,
        ward: &mut Ward,
        plan: &Plan,
        cause: &Cause,
        watch: &mut dyn Watch,
    ) -> Result<(usize, Option<u32>), Problem> {
        let in_part = plan.rejects.is_some();
        if self.good.len() > AT_ONCE {
            // All reasons are looked for before anything is taken.
            let refusals = ward.store.check_devices(&self.devices())?;
            self.note(&refusals);
            if !self.bad.is_empty() && !in_part {
                return Ok((0, None));
            }
        }
        // Each round takes out the rows that the store refused; every round but the last finds at least one.
        loop {
            if !self.bad.is_empty() && !in_part || self.good.is_empty() {
                // Nothing will be taken, but the store's reasons belong to the list of what to mend.
                let refusals = ward.store.check_devices(&self.devices())?;
                self.note(&refusals);
                return Ok((0, None));
            }
            if self.good.len() > AT_ONCE {
                let (taken, job) = self.in_batches(ward, plan, cause, watch)?;
                return Ok((taken, Some(job)));
            }
            let devices = self.devices();
            match ward.store.add_devices(&devices, cause)? {
                Ok(()) => return Ok((devices.len(), None)),
                Err(refusals) => {
                    self.note(&refusals);
                    if !in_part {
                        return Ok((0, None));
                    }
                }
            }
        }
    }

    fn devices(&self) -> Vec<DeviceRecord> {
        self.good.iter().map(|(_, device)| device.clone()).collect()
    }

    /// Gateways before those that stand behind them, so that each batch finds what it refers to.
    fn in_order(&self) -> Vec<DeviceRecord> {
        let mut all = self.devices();
        all.sort_by_key(|device| device.gateway.is_some());
        all
    }

    fn in_batches(
        &self,
        ward: &mut Ward,
        plan: &Plan,
        cause: &Cause,
        watch: &mut dyn Watch,
    ) -> Result<(usize, u32), Problem> {
        if let (Some(path), false) = (&plan.rejects, self.bad.is_empty()) {
            // Before anything is taken: whoever goes on after a crash does not know any more why they were refused.
            files::replace(path, &self.rejects()).map_err(|error| Problem::file("write", path, &error))?;
        }
        let devices = self.in_order();
        let plan = Plan { count: devices.len(), ..plan.clone() };
        let planned = serde_json::to_string(&plan).map_err(damaged)?;
        let position = serde_json::to_string(&Position::default()).map_err(damaged)?;
        let lines: Vec<String> = self.bad.iter().map(|row| row.line.to_string()).collect();
        let skipped = [lines.join("\n")];
        let new = NewJob {
            kind: JobKind::Import,
            // Not the moment: whoever is told to take the same list a second later is to do it once.
            digest: sha256(format!("{} {:?}", plan.sha256, plan.rejects).as_bytes()),
            plan: &planned,
            position: &position,
            parts: &skipped,
            subject: &format!("import of {} devices", devices.len()),
        };
        match ward.store.begin_job(&new, &lease::from(ward.now()), cause)? {
            Ok(number) => Ok((drive(ward, number, &plan, &devices, Position::default(), cause, watch)?, number)),
            Err(JobRefusal::Same { job }) => Ok((resume(ward, job, watch)?, job)),
            Err(refusal) => Err(lease::refusal(&refusal)),
        }
    }

    /// Moves refused rows to the bad ones.
    fn note(&mut self, refusals: &[AddRefusal]) {
        let mut whys: BTreeMap<u64, Vec<String>> = BTreeMap::new();
        for refusal in refusals {
            if let Some((line, _)) = self.good.get(refusal.index()) {
                whys.entry(*line).or_default().push(refusal.to_string());
            }
        }
        self.bad.extend(whys.into_iter().map(|(line, whys)| BadRow { line, why: whys.join("; ") }));
        let refused: HashSet<usize> = refusals.iter().map(AddRefusal::index).collect();
        let mut at = 0;
        self.good.retain(|_| {
            at += 1;
            !refused.contains(&(at - 1))
        });
        self.bad.sort_by_key(|row| row.line);
    }

    /// The first bad rows, one a line.
    #[must_use]
    pub fn bad_rows(&self) -> String {
        told(&self.bad)
    }

    /// The refused rows as a list of their own, with a column that says why, which import passes over.
    #[must_use]
    pub fn rejects(&self) -> Vec<u8> {
        let refusals = self.reader.adding(REASON);
        let mut out = refusals.head.clone();
        for row in &self.bad {
            if let Some(raw) = self.rows.get(&row.line) {
                out.extend(refusals.text(raw, &row.why));
            }
        }
        out
    }
}

/// The first of some bad rows, one a line.
#[must_use]
pub fn told(bad: &[BadRow]) -> String {
    let mut lines: Vec<String> = bad.iter().take(TOLD).map(|row| format!("  line {}: {}", row.line, row.why)).collect();
    if bad.len() > TOLD {
        lines.push(format!("  and {} more", bad.len() - TOLD));
    }
    lines.join("\n")
}
