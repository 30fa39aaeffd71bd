//! Admissions as they are opened: what a kind wants of one, and lists of many.
//!
//! A list is opened in batches, each a change of its own. Its secrets go into a file beside it, which is on the disk before the store
//! commits what they belong to; what was written without a commit is taken back when the list is gone on with.

use std::fs::{File, OpenOptions};
use std::io::{Cursor, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, flock};
use tidy_warden_core::admission::{AdmissionName, AdmissionRecord, Demand, Secret};
use tidy_warden_core::authority::Trust;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::FactName;
use tidy_warden_core::key::sha256;
use tidy_warden_core::settings::{Admit, Settings};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{Cause, StoreError};

use crate::bulk::Watch;
use crate::clock::SystemRandom;
use crate::edge::read_key;
use crate::files;
use crate::import::{BadRow, MAX_LIST, told};
use crate::list::{Adding, Extra, ListReader, Raw};
use crate::open::Ward;
use crate::problem::Problem;

/// How many admissions are opened in one transaction.
pub const AT_ONCE: usize = 1_000;

/// The column of the secrets.
const SECRET: &str = "secret";

/// A text as long as a secret is.
const ANY_SECRET: &str = "aaaaaaaaaaaaaaaaaaaaaaaaaa";

/// How many of a device's admissions are looked through for the one that a list opened.
const REMEMBERED: usize = 16;

/// Why an admission would open to nobody, in one line, and what to do about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Useless {
    /// Why.
    pub why: String,
    /// What to do.
    pub next: String,
}

/// What keeps an admission from being of use: facts that its kind wants, or a proof that is too weak for it.
#[must_use]
pub fn useless(settings: &Settings, device: &DeviceRecord, demand: &Demand) -> Option<Useless> {
    let kind = settings.kinds.get(&device.kind)?;
    let wanted = kind.identify.iter().chain(&kind.facts);
    if let Some(missing) = wanted.into_iter().find(|fact| !device.facts.contains_key(fact)) {
        let why = format!("the kind `{}` wants the fact `{missing}`", device.kind);
        return Some(Useless { why, next: format!("give it: --fact {missing}=...") });
    }
    let tells = device.facts.keys().any(|fact| settings.is_unique(fact));
    if matches!(demand, Demand::Facts | Demand::Certificate) && !tells {
        let why = match device.facts.is_empty() {
            true => "nothing tells which device is meant: it has no fact and no secret".to_owned(),
            false => "nothing tells which device is meant: devices may share all of these facts".to_owned(),
        };
        return Some(Useless { why, next: "give a fact that no two devices share, or a secret".to_owned() });
    }
    let strength = demand.strength();
    (strength < kind.admit).then(|| Useless {
        why: format!(
            "the kind `{}` takes a {} at least, and this demands {}",
            device.kind,
            kind.admit.as_str(),
            an(strength)
        ),
        next: match kind.admit {
            Admit::Secret | Admit::Ask | Admit::Facts => "--secret".to_owned(),
            Admit::Key => "--public-key FILE".to_owned(),
            Admit::Certificate => "--certificate".to_owned(),
        },
    })
}

/// A proof as a noun.
fn an(proof: Admit) -> &'static str {
    match proof {
        Admit::Facts => "bare facts",
        Admit::Ask => "nothing",
        Admit::Secret => "a secret",
        Admit::Key => "a key",
        Admit::Certificate => "a certificate",
    }
}

/// What an admission demands where nothing is said: what the kind takes at least, if that is something that the caller brings along.
#[must_use]
pub fn by_kind(settings: &Settings, device: &DeviceRecord) -> Demand {
    match settings.kinds.get(&device.kind).map(|kind| kind.admit) {
        Some(Admit::Certificate) => Demand::Certificate,
        _ => Demand::Facts,
    }
}

/// The facts that a manufacturer's certificate cannot tell of a kind, since no authority is trusted to.
pub fn untold(ward: &Ward, device: &DeviceRecord) -> Result<Vec<FactName>, Problem> {
    let authorities = ward.store.authorities()?;
    let trusted = authorities.iter().filter(|each| each.retired.is_none()).filter_map(|each| each.trust.as_ref());
    // One manufacturer must tell all of them: its certificate is one.
    let untold = |trust: &Trust| -> Vec<FactName> {
        device.facts.keys().filter(|fact| !trust.facts.contains(fact)).cloned().collect()
    };
    let tells = trusted.filter(|trust| trust.kinds.contains(&device.kind)).map(untold);
    Ok(tells.min_by_key(Vec::len).unwrap_or_else(|| device.facts.keys().cloned().collect()))
}

/// A list of admissions to be opened.
#[derive(Debug)]
pub struct Import<'a> {
    /// The list; `-` is standard input.
    pub from: &'a Path,
    /// Where the list goes with a column of secrets.
    pub out: Option<&'a Path>,
    /// Whether it was begun before.
    pub resume: bool,
    /// When those end of which the list does not say it.
    pub until: UnixTime,
}

/// A list that was read.
struct List {
    rows: Vec<(u64, Raw, AdmissionRecord)>,
    adding: Adding,
}

/// What became of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Imported {
    /// How many admissions it opened, those of an earlier time among them.
    pub opened: usize,
    /// How many of them have a secret.
    pub secrets: usize,
}

/// Opens the admissions of a list: all, or none and every reason why. What was killed goes on with [`Import::resume`].
pub fn import(ward: &mut Ward, what: &Import<'_>, cause: &Cause, watch: &mut dyn Watch) -> Result<Imported, Problem> {
    let shown = if what.from == Path::new("-") { "standard input".to_owned() } else { what.from.display().to_string() };
    let octets = match what.from == Path::new("-") {
        true => files::read_input_octets(MAX_LIST)?,
        false => files::read(what.from, MAX_LIST)?,
    };
    let list = read(ward, octets, &shown, what)?;
    let done = if what.resume { done_before(ward, &list, what)? } else { Done::default() };
    let rest: Vec<AdmissionRecord> = list.rows[done.rows..].iter().map(|(.., record)| record.clone()).collect();
    // All reasons are looked for before anything is opened.
    let refusals = ward.store.check_admissions(&rest, cause.at)?;
    if !refusals.is_empty() {
        let bad = refusals.iter().filter_map(|refusal| {
            let (line, ..) = list.rows.get(done.rows + refusal.index())?;
            Some(BadRow { line: *line, why: refusal.to_string() })
        });
        return Err(nothing(&shown, &bad.collect::<Vec<_>>()));
    }
    let mut out =
        what.out.map(|path| Out::open(path, what.resume.then_some(done.octets), &list.adding.head)).transpose()?;
    let mut opened = done.rows;
    let secrets = list.rows.iter().filter(|(.., record)| matches!(record.demand, Demand::Secret(_))).count();
    let count = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
    while let Some(some) = list.rows.get(opened..).filter(|some| !some.is_empty()) {
        let some = some.get(..AT_ONCE).unwrap_or(some);
        let mut batch = Vec::with_capacity(some.len());
        let mut text = zeroize::Zeroizing::new(Vec::new());
        for (_, raw, record) in some {
            let (demand, secret) = match record.demand {
                Demand::Secret(_) => {
                    let secret = Secret::new(&mut SystemRandom);
                    (Demand::Secret(secret.digest()), secret.text())
                }
                other => (other, zeroize::Zeroizing::default()),
            };
            text.extend(list.adding.text(raw, &secret));
            batch.push(AdmissionRecord { demand, ..record.clone() });
        }
        let cause = Cause { at: ward.now(), ..cause.clone() };
        let mut deliver = |_: &[AdmissionRecord]| out.as_mut().map_or(Ok(()), |out| out.add(&text));
        let answer = ward.store.open_admissions(&batch, &cause, &mut deliver).map_err(|error| stopped(error, what))?;
        if let Err(refusals) = answer {
            let why = refusals.first().map(ToString::to_string).unwrap_or_default();
            return Err(Problem::refused(format!("the list stopped after {opened} admissions"))
                .because(format!("something else was done meanwhile: {why}"))
                .next(format!("mend that, then: {}", again(what))));
        }
        opened += some.len();
        watch.reached(count(opened), count(opened), 0);
    }
    watch.finish();
    Ok(Imported { opened, secrets: if what.out.is_some() { secrets } else { 0 } })
}

/// The call that goes on with a list.
fn again(what: &Import<'_>) -> String {
    let out = what.out.map(|out| format!(" --out {}", out.display())).unwrap_or_default();
    format!("admission import {}{out} --resume", what.from.display())
}

fn stopped(error: StoreError, what: &Import<'_>) -> Problem {
    Problem::from(error).or_next(&format!("then: {}", again(what)))
}

fn nothing(shown: &str, bad: &[BadRow]) -> Problem {
    let rows =
        if bad.len() == 1 { "one of its rows is bad".to_owned() } else { format!("{} of its rows are bad", bad.len()) };
    Problem::refused(format!("nothing of {shown} was opened: {rows}"))
        .because(told(bad))
        .next("mend these rows and import again")
}

/// Reads a list: every row, or what is wrong with each.
fn read(ward: &Ward, octets: Vec<u8>, shown: &str, what: &Import<'_>) -> Result<List, Problem> {
    let (settings, now) = (&ward.settings, ward.now());
    let mut reader = ListReader::open(Cursor::new(octets), shown, Extra::Admissions, settings, now)?;
    let adding = reader.adding(SECRET);
    let folder = what.from.parent().map(Path::to_owned).unwrap_or_default();
    let (mut rows, mut bad) = (Vec::new(), Vec::new());
    let failed = |error: std::io::Error| Problem::failed(format!("cannot read {shown}")).because(error);
    while let Some(row) = reader.next_row().map_err(failed)? {
        let taken = row.entry.and_then(|entry| {
            let device = entry.device;
            let until = entry.until.unwrap_or(what.until);
            if until <= now {
                return Err(format!("it would have ended at {until} already"));
            }
            let demand = match (&entry.public_key, by_kind(settings, &device)) {
                (Some(path), _) => Demand::Key(key_digest(&folder.join(path))?),
                (None, Demand::Certificate) => Demand::Certificate,
                // Which secret is drawn when it is opened.
                (None, _) if what.out.is_some() => Demand::Secret([0; 32]),
                (None, demand) => demand,
            };
            match useless(settings, &device, &demand) {
                Some(Useless { why, .. }) => Err(why),
                None => Ok(AdmissionRecord { name: AdmissionName(0), device, demand, until, end: None }),
            }
        });
        match taken {
            Ok(record) => rows.push((row.line, row.raw, record)),
            Err(why) => bad.push(BadRow { line: row.line, why }),
        }
    }
    if !bad.is_empty() {
        return Err(nothing(shown, &bad));
    }
    if rows.is_empty() {
        return Err(Problem::refused(format!("{shown} lists no device")).because("there is no row after the header"));
    }
    Ok(List { rows, adding })
}

fn key_digest(path: &Path) -> Result<[u8; 32], String> {
    read_key(path).map(|key| sha256(key.spki())).map_err(|problem| problem.in_one_line())
}

/// How much of a list was opened before.
#[derive(Default)]
struct Done {
    rows: usize,
    /// Octets of the file of secrets that belong to them.
    octets: u64,
}

/// Finds out how far a list was opened: batches commit whole and in order, so that the first row of each tells of all of it.
fn done_before(ward: &Ward, list: &List, what: &Import<'_>) -> Result<Done, Problem> {
    let written = what.out.map(|path| Written::read(path, list)).transpose()?;
    let firsts: Vec<usize> = (0..list.rows.len()).step_by(AT_ONCE).collect();
    let mut failed = Ok(());
    let count = firsts.partition_point(|first| {
        let is_opened = |(.., record): &(u64, Raw, AdmissionRecord)| -> Result<bool, Problem> {
            let demand = match (&written, record.demand) {
                (Some(written), Demand::Secret(_)) => match written.secrets.get(*first).and_then(Option::as_ref) {
                    Some(secret) => Demand::Secret(secret.digest()),
                    None => return Ok(false),
                },
                (_, demand) => demand,
            };
            let known = ward.store.admissions_of(&record.device.id, REMEMBERED)?;
            let is_same = |known: &AdmissionRecord| {
                let device = DeviceRecord { created: known.device.created, ..record.device.clone() };
                known.demand == demand && known.device == device
            };
            Ok(known.iter().any(is_same))
        };
        list.rows.get(*first).is_some_and(|row| {
            is_opened(row).unwrap_or_else(|problem| {
                failed = Err(problem);
                false
            })
        })
    });
    failed?;
    let rows = (count * AT_ONCE).min(list.rows.len());
    let octets = written.map_or(0, |written| written.ends.get(rows).copied().unwrap_or_default());
    Ok(Done { rows, octets })
}

/// A file of secrets as it stands.
struct Written {
    /// The secret of each row, as far as there are rows.
    secrets: Vec<Option<Secret>>,
    /// Where each row ends; the head first.
    ends: Vec<u64>,
}

impl Written {
    fn read(path: &Path, list: &List) -> Result<Self, Problem> {
        let octets = zeroize::Zeroizing::new(files::read(path, MAX_LIST + MAX_LIST / 4)?);
        let other = || {
            Problem::refused(format!("{} does not belong to this list", path.display()))
                .because("it begins with other rows")
                .next("name the file that the list was begun with, or begin anew with another --out")
        };
        if !octets.starts_with(&list.adding.head) {
            return Err(other());
        }
        let mut at = list.adding.head.len();
        let end = |at: usize| u64::try_from(at).unwrap_or(u64::MAX);
        let mut written = Self { secrets: Vec::new(), ends: vec![end(at)] };
        for (_, raw, record) in &list.rows {
            let wants = matches!(record.demand, Demand::Secret(_));
            // All secrets have the same length, so it is known where the row ends, whatever stands in it.
            let length = list.adding.text(raw, if wants { ANY_SECRET } else { "" }).len();
            // A machine that lost its power leaves less than was written, or nothing but zeros where it is to be.
            let Some(row) = octets.get(at..at + length).filter(|row| !row.contains(&0)) else { break };
            let secret = found(row, raw);
            // What stands before the secret is the row as it was read, so it is made anew and compared.
            let text = secret.as_ref().map(Secret::text).unwrap_or_default();
            if list.adding.text(raw, &text) != row || secret.is_some() != wants {
                return Err(other());
            }
            at += length;
            written.secrets.push(secret);
            written.ends.push(end(at));
        }
        Ok(written)
    }
}

/// The secret in a row of such a file, which stands last.
fn found(row: &[u8], raw: &Raw) -> Option<Secret> {
    let text = std::str::from_utf8(row).ok()?.trim_end();
    match raw {
        Raw::Fields(_) => Secret::parse(text.rsplit(',').next()?),
        Raw::Line(_) => {
            let value: serde_json::Value = serde_json::from_str(text).ok()?;
            Secret::parse(value.get(SECRET)?.as_str()?)
        }
    }
}

/// A file of secrets that is being written.
struct Out {
    file: File,
    path: PathBuf,
    octets: u64,
}

impl Out {
    /// A new file; or one of which only the first octets count, if there are some.
    fn open(path: &Path, kept: Option<u64>, head: &[u8]) -> Result<Self, Problem> {
        let failed = |error: std::io::Error| Problem::file("write", path, &error);
        let mut options = OpenOptions::new();
        options.write(true).mode(0o600).custom_flags(rustix::fs::OFlags::NOFOLLOW.bits().cast_signed());
        let file = options.create_new(kept.is_none()).open(path).map_err(failed)?;
        flock(&file, FlockOperation::NonBlockingLockExclusive).map_err(|_| {
            Problem::refused(format!("{} is being written", path.display()))
                .because("another process goes on with this list")
                .next("wait until it is done")
        })?;
        let mut out = Self { file, path: path.to_owned(), octets: kept.unwrap_or(0) };
        match kept {
            Some(kept) => out.cut(kept).map_err(failed)?,
            None => {
                out.add(head).map_err(failed)?;
                files::sync_folder(path.parent()).map_err(failed)?;
            }
        }
        Ok(out)
    }

    fn cut(&mut self, to: u64) -> std::io::Result<()> {
        self.file.set_len(to)?;
        self.file.seek(SeekFrom::Start(to))?;
        self.octets = to;
        Ok(())
    }

    /// Puts octets at its end and makes sure that they are on the disk; what cannot be written whole is taken back.
    fn add(&mut self, octets: &[u8]) -> std::io::Result<()> {
        let before = self.octets;
        let written = self.file.write_all(octets).and_then(|()| self.file.sync_data());
        if let Err(error) = written {
            // What stands there without a commit is cut off too when the list is gone on with.
            let _ = self.cut(before);
            let path = self.path.display();
            return Err(std::io::Error::new(error.kind(), format!("{path}: {error}")));
        }
        self.octets += u64::try_from(octets.len()).unwrap_or_default();
        Ok(())
    }
}
