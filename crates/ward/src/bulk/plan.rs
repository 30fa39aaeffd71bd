//! What a bulk run is to do, and how far it is.

use std::fs::{self, File, OpenOptions};
use std::io::{self, BufReader, Read};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use tidy_warden_core::key::Sha256;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{JobKind, JobRecord};

use super::output::{Extent, Output};
use super::place::Place;
use crate::list::{Extra, ListReader};
use crate::open::Ward;
use crate::problem::Problem;

/// The list in the ward's folder, if it came by standard input.
const SPOOL: &str = "bulk-input";

/// What somebody wants of a run.
#[derive(Debug, Clone)]
pub struct Wanted<'a> {
    /// The list; `-` is standard input.
    pub from: &'a Path,
    /// Where the outfits go.
    pub place: Place,
    /// Where the refused rows go; beside the list if nothing is said.
    pub rejects: Option<&'a Path>,
    /// Whether devices that have a certificate get another.
    pub again: bool,
    /// Why, for the audit record.
    pub because: Option<&'a str>,
    /// Rows a batch.
    pub batch: usize,
}

/// What a run is to do; kept in the store until it ends.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Plan {
    /// The list.
    pub input: PathBuf,
    /// What errors call it.
    pub shown: String,
    /// SHA-256 of it.
    pub(super) sha256: String,
    /// Its length in octets.
    pub size: u64,
    /// The folder that paths of requests are relative to.
    pub(super) base: PathBuf,
    /// Where its outfits go.
    pub place: Place,
    /// Where its refused rows go.
    pub rejects: PathBuf,
    /// Whether devices that have a certificate get another.
    pub again: bool,
    /// Why, for the audit record.
    pub because: String,
    /// Whether its manifest says the number of its job.
    #[serde(default)]
    pub(super) numbered: bool,
    /// Rows a batch.
    pub(super) batch: usize,
}

/// How far a run is; committed with each batch.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Position {
    /// Where the first row stands that is not done: octet (and line).
    pub byte: u64,
    pub(super) line: u64,
    pub(super) extent: Extent,
    /// Octets of the list of refused rows.
    pub(super) rejects: u64,
    /// Certificates.
    pub issued: u64,
    /// Rows.
    pub refused: u64,
    /// Certificates that end with their authority.
    pub clipped: u64,
    /// Devices with made-up names.
    pub made_up: u64,
    /// Requests that asked for more than a certificate for their key.
    pub asked: u64,
    /// Keys that were made here.
    pub keys: u64,
}

impl Position {
    /// In how many encrypted parts the pack is; 0 if it is not encrypted.
    #[must_use]
    pub fn parts(&self) -> u64 {
        self.extent.parts
    }

    /// The output that was committed, if anything was.
    pub(super) fn committed(&self) -> Option<Extent> {
        (self.byte > 0).then_some(self.extent)
    }
}

/// Plans a run; gives it and about how many rows it has. A list from standard input is copied into the ward, and stays there until the
/// run is over.
///
/// # Errors
/// Another run is not finished, a place is taken, or the list cannot be read.
pub fn plan(ward: &Ward, wanted: &Wanted<'_>) -> Result<(Plan, u64), Problem> {
    if open_run(ward)?.is_some() {
        return Err(Problem::refused("another bulk run is not finished")
            .next("enroll --resume goes on with it; enroll --stop ends it where it stands"));
    }
    Output::refuse_existing(&wanted.place)?;
    let from_stdin = wanted.from == Path::new("-");
    let input = if from_stdin { spool(ward)? } else { absolute(wanted.from)? };
    let planned = planned(ward, wanted, &input, from_stdin);
    if planned.is_err() {
        discard_input(ward, &input);
    }
    planned
}

fn planned(ward: &Ward, wanted: &Wanted<'_>, input: &Path, from_stdin: bool) -> Result<(Plan, u64), Problem> {
    let shown = if from_stdin { "standard input".to_owned() } else { wanted.from.display().to_string() };
    let (digest, size, lines) = digest(input)?;
    let reader = open(input, &shown, &ward.settings, ward.now())?;
    let rejects = match wanted.rejects {
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
    let beside = input.parent().filter(|_| !from_stdin);
    let plan = Plan {
        input: input.to_owned(),
        shown,
        sha256: digest,
        size,
        base: beside.map_or_else(|| absolute(Path::new(".")), |folder| Ok(folder.to_owned()))?,
        place: wanted.place.clone(),
        rejects,
        again: wanted.again,
        because: wanted.because.unwrap_or_default().to_owned(),
        numbered: true,
        batch: wanted.batch,
    };
    Ok((plan, lines))
}

/// Removes the copy of a list that came by standard input, which nobody needs any more; if it stays, the next run replaces it.
pub fn discard_input(ward: &Ward, input: &Path) {
    if input == ward.dir.join(SPOOL) {
        let _ = fs::remove_file(input);
    }
}

/// The run that was begun and not ended.
fn open_run(ward: &Ward) -> Result<Option<JobRecord>, Problem> {
    let open = ward.store.jobs(true, usize::MAX)?;
    Ok(open.into_iter().find(|job| job.kind == JobKind::Enroll))
}

/// The run that was begun and not ended: its number, what it is to do, and how far it is.
///
/// # Errors
/// There is none, or it does not read back.
pub fn unfinished(ward: &Ward) -> Result<(u32, Plan, Position), Problem> {
    let Some(found) = open_run(ward)? else {
        return Err(Problem::not_found("there is no unfinished bulk run").next("begin one: enroll --from FILE"));
    };
    let (plan, position) = read(&found)?;
    Ok((found.number, plan, position))
}

/// What a run is to do, and how far it is.
pub(super) fn read(job: &JobRecord) -> Result<(Plan, Position), Problem> {
    let damaged = |error: serde_json::Error| Problem::failed("the unfinished bulk run cannot be read").because(error);
    let plan = serde_json::from_str(&job.plan).map_err(damaged)?;
    Ok((plan, serde_json::from_str(&job.position).map_err(damaged)?))
}

pub(super) fn open<'s>(
    input: &Path,
    shown: &str,
    settings: &'s Settings,
    now: UnixTime,
) -> Result<ListReader<'s, BufReader<File>>, Problem> {
    let file = File::open(input).map_err(|error| Problem::file("read", input, &error))?;
    ListReader::open(BufReader::with_capacity(1 << 16, file), shown, Extra::Requests, settings, now)
}

/// SHA-256, length and lines of a file.
pub(super) fn digest(path: &Path) -> Result<(String, u64, u64), Problem> {
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
///
/// # Errors
/// There is no current folder.
pub fn absolute(path: &Path) -> Result<PathBuf, Problem> {
    std::path::absolute(path).map_err(|error| Problem::file("find", path, &error))
}
