//! Many devices at once: a list is read, certificates are signed on all cores, and one writer puts them on the disk.
//!
//! One thread reads rows and looks the devices up, workers make keys, sign and compress, and one thread writes batches in
//! the order of the list: first the outfits, synced, then the store's commit of certificates, audit entry and position.

use std::collections::{BTreeMap, HashSet};
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};

use serde::{Deserialize, Serialize};
use serde_json::json;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::enrolment::may_be_issued;
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::key::{Sha256, sha256};
use tidy_warden_core::request::{self, Request};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{Batch, BulkRun, Cause, DeviceView, NewCredential, OperatorStore, StoreError};

use super::output::{self, Extent, Line, Output, Place, Staged, Stager};
use super::press::{KeySource, Mint, Minted, Press, Unmade};
use crate::args::EnrollArgs;
use crate::commands::Context;
use crate::console::counted;
use crate::files;
use crate::list::{At, Entry, Extra, ListReader, Raw, Refusals, Row};
use crate::problem::{Exit, Problem};
use crate::progress::Progress;
use crate::ward::{Ward, actor};

/// How many batches wait for a worker, and for the writer: enough that nobody is idle, few enough for the memory.
const WAITING: usize = 2;

/// The list in the ward's folder, if it came by standard input.
const SPOOL: &str = "bulk-input";

/// What a run is to do; kept in the store until it ends.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Plan {
    /// The list.
    input: PathBuf,
    /// What errors call it.
    shown: String,
    /// SHA-256 of it.
    sha256: String,
    /// Its length in octets.
    size: u64,
    /// The folder that paths of requests are relative to.
    base: PathBuf,
    place: Place,
    rejects: PathBuf,
    again: bool,
    because: String,
    /// Rows a batch.
    batch: usize,
}

/// How far a run is; committed with each batch.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Position {
    /// Where the first row stands that is not done: octet and line.
    byte: u64,
    line: u64,
    extent: Extent,
    /// Octets of the list of refused rows.
    rejects: u64,
    issued: u64,
    refused: u64,
    /// Certificates that end with their authority.
    clipped: u64,
    /// Devices with made-up names.
    made_up: u64,
    /// Requests that asked for more than a certificate for their key.
    asked: u64,
    /// Keys that were made here.
    keys: u64,
}

impl Position {
    /// The output that was committed, if anything was.
    fn committed(&self) -> Option<Extent> {
        (self.byte > 0).then_some(self.extent)
    }
}

/// A row that will get a certificate.
struct Candidate {
    line: u64,
    raw: Raw,
    device: DeviceRecord,
    /// Whether it is to be listed first.
    is_new: bool,
    csr: Option<String>,
}

/// A row that is refused, and why.
struct Refused {
    line: u64,
    raw: Raw,
    why: String,
}

/// A batch on its way to a worker.
struct Job {
    number: u64,
    rows: Vec<Candidate>,
    refused: Vec<Refused>,
    /// Where the next batch begins.
    after: At,
}

/// A batch on its way to the writer.
struct Done {
    job: Job,
    /// In the order of `job.rows`.
    minted: Vec<Minted>,
    staged: Staged,
    /// Requests that asked for more than a certificate for their key.
    asked: u64,
}

pub(super) fn begin(context: &Context<'_>, args: &EnrollArgs, from: &Path) -> Result<Exit, Problem> {
    let place = match (&args.pack, &args.out) {
        (Some(pack), None) => Place::Pack(absolute(pack)?),
        (None, Some(out)) => Place::Folders(absolute(out)?),
        _ => {
            return Err(Problem::usage("where do the outfits go?").next("--pack FILE.tar.zst, or --out DIR"));
        }
    };
    let ward = context.ward()?;
    if ward.store.bulk_run()?.is_some() {
        return Err(Problem::refused("another bulk run is not finished")
            .next("enroll --resume goes on with it; enroll --stop ends it where it stands"));
    }
    Output::refuse_existing(&place)?;
    let from_stdin = from == Path::new("-");
    let input = if from_stdin { spool(&ward)? } else { absolute(from)? };
    let result = (|| {
        let shown = if from_stdin { "standard input".to_owned() } else { from.display().to_string() };
        let (digest, size, lines) = digest(&input)?;
        let settings = ward.settings.clone();
        let reader = open(&input, &shown, &settings, ward.now())?;
        let rejects = match &args.rejects {
            Some(path) => absolute(path)?,
            None => {
                let place = if from_stdin { absolute(Path::new("refused"))? } else { input.with_extension("refused") };
                free_place(&place, reader.extension())
            }
        };
        if rejects.exists() {
            return Err(Problem::refused(format!("{} exists already", rejects.display()))
                .next("move it away, or name another file with --rejects"));
        }
        let base =
            input.parent().filter(|_| !from_stdin).map_or_else(|| absolute(Path::new(".")), |it| Ok(it.to_owned()))?;
        context
            .console
            .confirm(&format!("Issue certificates for the devices of {shown} (about {lines} rows)?"), args.yes)?;
        Ok(Plan {
            input: input.clone(),
            shown,
            sha256: digest,
            size,
            base,
            place,
            rejects,
            again: args.again,
            because: args.because.text().unwrap_or_default().to_owned(),
            batch: args.batch,
        })
    })();
    match result {
        Ok(plan) => run(context, ward, &plan, None),
        Err(problem) => {
            if from_stdin {
                // Nothing was begun, so nobody needs it.
                let _ = fs::remove_file(&input);
            }
            Err(problem)
        }
    }
}

pub(super) fn resume(context: &Context<'_>, args: &EnrollArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let Some(found) = ward.store.bulk_run()? else {
        return Err(Problem::not_found("there is no unfinished bulk run").next("begin one: enroll --from FILE"));
    };
    let damaged = |error: serde_json::Error| Problem::failed("the unfinished bulk run cannot be read").because(error);
    let plan: Plan = serde_json::from_str(&found.plan).map_err(damaged)?;
    let position: Position = serde_json::from_str(&found.position).map_err(damaged)?;
    if output::is_finished(&plan.place) && position.byte > 0 {
        // It came as far as giving the pack its name.
        output::tidy_up(&plan.place);
        return report(context, &mut ward, &plan, position, false);
    }
    if args.stop {
        context.console.confirm("End the bulk run where it stands?", args.yes)?;
        let output = Output::resume(&plan.place, position.committed(), &ward)?;
        return finish(context, &mut ward, &plan, position, output, true);
    }
    let input = args.from.as_deref().map_or_else(|| Ok(plan.input.clone()), absolute)?;
    let (digest, ..) = digest(&input)?;
    if digest != plan.sha256 {
        return Err(Problem::refused(format!("the bulk run cannot go on with {}", input.display()))
            .because("it is not the list that the run was begun with")
            .next("put the list back as it was, or end the run where it stands: enroll --stop"));
    }
    let plan = Plan { input, ..plan };
    run(context, ward, &plan, Some(position))
}

/// Reads, signs and writes; from the beginning, or from where a run stopped.
fn run(context: &Context<'_>, mut ward: Ward, plan: &Plan, resumed: Option<Position>) -> Result<Exit, Problem> {
    let settings = ward.settings.clone();
    let mut reader = open(&plan.input, &plan.shown, &settings, ward.now())?;
    let mint = Mint::new(&ward)?;
    let secrets = context.secrets();
    let prepare = |job: &Job| {
        let kinds: HashSet<&KindName> = job.rows.iter().map(|row| &row.device.kind).collect();
        kinds.into_iter().try_for_each(|kind| mint.prepare(kind, &|authority| secrets.signer(&ward, authority)))
    };
    if let Some(position) = resumed.filter(|position| position.byte > 0) {
        reader
            .seek(At { byte: position.byte, line: position.line })
            .map_err(|error| Problem::failed(format!("cannot read {}", plan.shown)).because(error))?;
    }
    let mut feed = Feed { reader: &mut reader, plan, number: 0 };
    let mut store = ward.another_store()?;
    // Before anything is begun, so that a wrong passphrase leaves nothing behind.
    let first = if resumed.is_none() { feed.next(&ward)? } else { None };
    if let Some(job) = &first {
        prepare(job)?;
    }
    let mut position = resumed.unwrap_or_default();
    if resumed.is_none() {
        let text = |value: serde_json::Result<String>| {
            value.map_err(|error| Problem::failed("the bulk run cannot be noted").because(error))
        };
        let run =
            BulkRun { plan: text(serde_json::to_string(plan))?, position: text(serde_json::to_string(&position))? };
        if !store.begin_bulk(&run, &ward.cause(Some(&plan.because)))? {
            return Err(Problem::refused("another bulk run was begun meanwhile").next("enroll --resume"));
        }
    }
    let output = match resumed {
        Some(position) => Output::resume(&plan.place, position.committed(), &ward)?,
        None => Output::create(&plan.place)?,
    };
    let rejects = Rejects::open(&plan.rejects, position.rejects, feed.reader.refused_head())?;
    let refusals = feed.reader.refusals();
    let workers = std::thread::available_parallelism().map_or(1, usize::from);
    let clock = ward.clock.clone();
    let _word =
        crate::interrupt::word("interrupted; `enroll --resume` goes on, `enroll --stop` ends it where it stands");
    let progress = Progress::start(context.console, plan.size, position.byte, position.issued);
    let (output, reached) = std::thread::scope(|scope| {
        let (to_workers, jobs) = sync_channel::<Job>(WAITING);
        let (to_writer, done) = sync_channel::<Result<Done, Problem>>(WAITING);
        let jobs = Arc::new(Mutex::new(jobs));
        for _ in 0..workers {
            let (jobs, to_writer, mint, clock) = (jobs.clone(), to_writer.clone(), &mint, clock.clone());
            scope.spawn(move || work(&jobs, &to_writer, mint, plan, &clock));
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
            progress,
        };
        let writer = scope.spawn(move || writer.run(&done));
        let fed = feed_all(&mut feed, first, &ward, &prepare, &to_workers);
        drop(to_workers);
        let written = writer.join().unwrap_or_else(|_| Err(Problem::failed("the writer of the bulk run failed")));
        // What stopped the reader is the cause; the writer then ended in good order.
        fed.and(written)
    })
    .map_err(|problem| problem.or_next("then: enroll --resume"))?;
    position = reached;
    finish(context, &mut ward, plan, position, output, false)
}

/// Reads batches until the list ends or nobody takes them any more.
fn feed_all(
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

/// The list, batch by batch.
struct Feed<'f, 's> {
    reader: &'f mut ListReader<'s, BufReader<File>>,
    plan: &'f Plan,
    number: u64,
}

impl Feed<'_, '_> {
    fn next(&mut self, ward: &Ward) -> Result<Option<Job>, Problem> {
        let failed = |error: io::Error| Problem::failed(format!("cannot read {}", self.plan.shown)).because(error);
        let mut good: Vec<(u64, Raw, Entry)> = Vec::with_capacity(self.plan.batch);
        let mut refused = Vec::new();
        while good.len() + refused.len() < self.plan.batch {
            let Some(Row { line, raw, entry }) = self.reader.next().map_err(failed)? else { break };
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
    fn device(&self, entry: Entry, view: Option<DeviceView>, now: UnixTime) -> Result<DeviceRecord, String> {
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
        match may_be_issued(&view.device, &view.credentials, self.plan.again, now) {
            Err(refusal) => Err(refusal.to_string()),
            Ok(()) => Ok(view.device),
        }
    }
}

/// Takes batches from the reader and passes them on, signed.
fn work(
    jobs: &Mutex<Receiver<Job>>,
    to_writer: &SyncSender<Result<Done, Problem>>,
    mint: &Mint,
    plan: &Plan,
    clock: &crate::clock::WardClock,
) {
    use tidy_warden_core::time::Clock;
    loop {
        let job = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(job) = job else { return };
        if to_writer.send(make(job, mint, plan, clock.now())).is_err() {
            return;
        }
    }
}

/// Signs a batch and makes its outfits ready. Rows that cannot have a certificate go to the refused ones.
fn make(mut job: Job, mint: &Mint, plan: &Plan, now: UnixTime) -> Result<Done, Problem> {
    let mut press = Press::new(mint, now);
    let stager = Stager::new(&plan.place, now);
    let mut batch = stager.begin(job.number)?;
    let mut minted = Vec::with_capacity(job.rows.len());
    let mut kept = Vec::with_capacity(job.rows.len());
    let mut ends = (UnixTime(0), String::new());
    let mut asked = 0;
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
                let line = Line { serial: &one.serial, fingerprint: one.fresh.fingerprint, ends: &ends.1 };
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
        files::read(&base.join(csr), limit).map_err(|problem| problem.one_line())?
    };
    let refused = |error: request::BadRequest| format!("its request was refused: {error}");
    let request = Request::parse(&octets).map_err(refused)?;
    let more = !request.ignored.is_empty();
    request.verify_possession().map(|key| (KeySource::Proven(key), more)).map_err(refused)
}

/// The one that writes.
struct Writer<'w> {
    plan: &'w Plan,
    store: &'w mut OperatorStore,
    output: Output,
    rejects: Rejects,
    position: Position,
    refusals: Refusals,
    mint: &'w Mint,
    clock: &'w crate::clock::WardClock,
    progress: Progress,
}

impl Writer<'_> {
    /// Writes batches in the order of the list; gives the output back, and how far it came.
    fn run(mut self, done: &Receiver<Result<Done, Problem>>) -> Result<(Output, Position), Problem> {
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
        self.progress.finish();
        Ok((self.output, self.position))
    }

    fn write(&mut self, mut batch: Done) -> Result<(), Problem> {
        use tidy_warden_core::time::Clock;
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
            batch = make(job, self.mint, self.plan, self.clock.now())?;
        }
    }

    fn try_write(&mut self, batch: &mut Done) -> Result<Result<(), Vec<tidy_warden_store::BatchRefusal>>, Problem> {
        use tidy_warden_core::time::Clock;
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
        let list = Batch {
            act: "enroll.batch",
            devices: &fresh,
            credentials: &credentials,
            list_digest: list_digest(&credentials),
            position: Some(&text),
        };
        let cause = Cause { at: self.clock.now(), actor: actor(), because: self.plan.because.clone() };
        let (output, rejects) = (&mut self.output, &mut self.rejects);
        let recorded = self.store.record_batch(&list, &cause, &mut || {
            output.publish(staged)?;
            rejects.append(&rejected)
        });
        match recorded {
            Ok(Ok(())) => {
                self.position = position;
                self.progress.reached(position.byte, position.issued, position.refused);
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
struct Rejects {
    path: PathBuf,
    head: Vec<u8>,
    length: u64,
    file: Option<File>,
}

impl Rejects {
    /// `length` octets of it were committed; what stands behind them is taken back.
    fn open(path: &Path, length: u64, head: Vec<u8>) -> Result<Self, Problem> {
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

fn finish(
    context: &Context<'_>,
    ward: &mut Ward,
    plan: &Plan,
    position: Position,
    output: Output,
    stopped: bool,
) -> Result<Exit, Problem> {
    output.finish(ward.now()).map_err(|problem| problem.or_next("then: enroll --resume"))?;
    report(context, ward, plan, position, stopped)
}

/// Ends the run in the store, and tells what came of it.
fn report(
    context: &Context<'_>,
    ward: &mut Ward,
    plan: &Plan,
    position: Position,
    stopped: bool,
) -> Result<Exit, Problem> {
    let console = context.console;
    let cause = ward.cause(Some(&plan.because));
    let detail = json!({ "issued": position.issued, "refused": position.refused, "stopped": stopped });
    ward.store.end_bulk(&detail.to_string(), &cause)?;
    if plan.input == ward.dir.join(SPOOL) {
        // The run is over; if the copy stays, the next one replaces it.
        let _ = fs::remove_file(&plan.input);
    }
    let place = plan.place.path().display().to_string();
    let refused_in = (position.refused > 0).then(|| plan.rejects.display().to_string());
    let value = json!({
        "issued": position.issued, "refused": position.refused, "stopped": stopped, "place": place,
        "rejects": refused_in,
    });
    let number = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
    let mut text = format!("issued   {}\nin       {place}\n", counted(number(position.issued), "certificate"));
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
    if matches!(plan.place, Place::Pack(_)) && position.keys > 0 {
        console.note("the pack holds private keys and is not encrypted; keep it where only its receiver can read it");
    }
    if stopped {
        console.note("the run was ended before the list was");
    }
    if position.refused > 0 {
        console.note("fix the refused rows there and enrol that list");
    }
    Ok(if position.refused > 0 || stopped { Exit::Partly } else { Exit::Done })
}

fn open<'s>(
    input: &Path,
    shown: &str,
    settings: &'s tidy_warden_core::settings::Settings,
    now: UnixTime,
) -> Result<ListReader<'s, BufReader<File>>, Problem> {
    let file = File::open(input).map_err(|error| Problem::file("read", input, &error))?;
    ListReader::open(BufReader::with_capacity(1 << 16, file), shown, Extra::Requests, settings, now)
}

/// SHA-256, length and lines of a file.
fn digest(path: &Path) -> Result<(String, u64, u64), Problem> {
    let failed = |error: io::Error| Problem::file("read", path, &error);
    let mut file = File::open(path).map_err(failed)?;
    if file.metadata().map_err(failed)?.is_dir() {
        return Err(Problem::file("read", path, &io::ErrorKind::IsADirectory.into()));
    }
    let mut digest = Sha256::default();
    let mut buffer = vec![0; 1 << 18];
    let (mut size, mut lines) = (0u64, 0u64);
    loop {
        let count = file.read(&mut buffer).map_err(failed)?;
        let Some(read) = buffer.get(..count).filter(|read| !read.is_empty()) else { break };
        digest.update(read);
        size += u64::try_from(count).unwrap_or(0);
        lines += u64::try_from(read.iter().filter(|octet| **octet == b'\n').count()).unwrap_or(0);
    }
    Ok((data_encoding::HEXLOWER.encode(&digest.finish()), size, lines))
}

/// Copies standard input into the ward, so that the run can go on after a crash.
fn spool(ward: &Ward) -> Result<PathBuf, Problem> {
    let path = ward.dir.join(SPOOL);
    let failed = |error: io::Error| Problem::file("write", &path, &error);
    let mut file =
        OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path).map_err(failed)?;
    io::copy(&mut io::stdin().lock(), &mut file).and_then(|_| file.sync_all()).map_err(failed)?;
    Ok(path)
}

/// The first of `PLACE.EXTENSION`, `PLACE-2.EXTENSION` and so on that is not there; the first one if all are.
fn free_place(place: &Path, extension: &str) -> PathBuf {
    let numbered = |number: u32| {
        let mut name = place.file_name().unwrap_or_default().to_owned();
        if number > 1 {
            name.push(format!("-{number}"));
        }
        name.push(format!(".{extension}"));
        place.with_file_name(name)
    };
    (1..1_000).map(numbered).find(|path| !path.exists()).unwrap_or_else(|| numbered(1))
}

/// A path that means the same wherever the run goes on.
fn absolute(path: &Path) -> Result<PathBuf, Problem> {
    std::path::absolute(path).map_err(|error| Problem::file("find", path, &error))
}
