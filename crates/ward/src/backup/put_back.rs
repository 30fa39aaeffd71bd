//! Putting a ward back from a backup.

use std::io::{self, ErrorKind};
use std::ops::ControlFlow;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use data_encoding::HEXLOWER;
use serde_json::json;
use tidy_warden_core::key::SoftwareKey;
use tidy_warden_core::time::Clock;
use tidy_warden_store::copy::{
    BATCH, BATCH_OCTETS, Cell, CopyError, Counts, Row, TABLES, Table, Whole, contents, whole_record,
};
use tidy_warden_store::{Cause, Fate, OperatorStore, SqliteStore, Store, StoreError};

use super::{Backup, Done, Line};
use crate::clock::WardClock;
use crate::files::{self, Access};
use crate::open::{KEYS, POLICIES, SETTINGS};
use crate::place::StorePlace;
use crate::problem::Problem;

/// The file in which a store is put together before it takes its place.
const RESTORING: &str = "ward.db.restoring";

/// What a store's file is called once another took its place.
const BEFORE: &str = "ward.db.before";

/// Rows that wait to be written together.
struct Rows<'a> {
    into: &'a mut dyn Whole,
    table: Option<&'static Table>,
    waiting: Vec<Row>,
    octets: usize,
}

impl Rows<'_> {
    fn add(&mut self, table: &'static Table, row: Row) -> Result<(), StoreError> {
        let is_other = self.table.is_some_and(|known| known.name != table.name);
        if is_other || self.waiting.len() >= BATCH || self.octets >= BATCH_OCTETS {
            self.write()?;
        }
        self.table = Some(table);
        self.octets += row.iter().map(Cell::len).sum::<usize>();
        self.waiting.push(row);
        Ok(())
    }

    fn write(&mut self) -> Result<(), StoreError> {
        self.octets = 0;
        match self.table {
            Some(table) if !self.waiting.is_empty() => self.into.write_rows(table, &std::mem::take(&mut self.waiting)),
            _ => Ok(()),
        }
    }
}

/// Where a ward is put back, and what is there already.
pub struct Target {
    dir: PathBuf,
    place: StorePlace,
    /// Why putting it back would go back in time, if it would.
    pub back: Option<String>,
    /// Where the record of what is there ends: whoever writes to it meanwhile must not lose that.
    there: Seen,
    /// Whether the ward's files are written too.
    with_files: bool,
}

/// How far somebody has seen the record of the ward in a folder.
pub type Seen = Option<(i64, [u8; 32])>;

/// Looks at what stands where `backup` is to be put back: into the ward in `dir`, or into that folder with all its files if it is empty.
/// `place` says where its store is; `seen` how far a guard has seen its record.
pub fn target(backup: &Backup, dir: &Path, place: StorePlace, seen: &Seen) -> Result<Target, Problem> {
    let header = &backup.header;
    let with_files = !dir.join(SETTINGS).exists();
    if with_files && !header.whole {
        return Err(Problem::refused(format!("there is no ward in {}", dir.display()))
            .because("this backup holds what the ward knows, and not its settings, policies and keys")
            .next("put those back first, or take a backup that was made with --whole"));
    }
    let named = format!("entry {}", header.entries);
    let mut there = None;
    let mut back = match seen {
        Some((number, _)) if *number > header.entries => {
            Some(format!("a guard has seen entry {number}, and the backup ends with {named}"))
        }
        Some((number, hash)) if *number == header.entries && HEXLOWER.encode(hash) != header.head => {
            Some(format!("a guard has seen another {named}"))
        }
        _ => None,
    };
    match &place {
        StorePlace::File(path) if path.exists() => match SqliteStore::open(path) {
            // What cannot be opened is what backups are for; how far it went a guard may know.
            Err(error) if back.is_none() && seen.is_none() => {
                back =
                    Some(format!("the store that is there cannot be opened, so nobody knows how far it went: {error}"));
            }
            Err(_) => {}
            Ok(store) => {
                let store = OperatorStore::new(Box::new(store));
                let urn = store.ward()?.urn;
                if urn != header.ward {
                    return Err(Problem::refused(format!("the ward in {} is another one", dir.display()))
                        .because(format!("it is {urn}, and the backup is one of {}", header.ward))
                        .next("name another folder"));
                }
                if let Some(moved) = store.head()?.moved {
                    return Err(Problem::refused(format!("the ward is not in {} any more", dir.display()))
                        .because(format!("it was moved to {}, and would be in two places", moved.to))
                        .next("put it back there: --to, into an empty one; or give the move up: store copy --stop"));
                }
                let (number, hash) = store.audit_end()?;
                there = Some((number, hash));
                if number > header.entries || number == header.entries && HEXLOWER.encode(&hash) != header.head {
                    back =
                        Some(format!("the store that is there ends with entry {number}, and the backup with {named}"));
                }
            }
        },
        StorePlace::File(_) => {}
        StorePlace::Database(_) => {
            if place.open(None).is_ok() {
                return Err(Problem::refused(format!("there is a ward already in the database {place}"))
                    .next("name an empty database in [store] url, and put it back there"));
            }
        }
    }
    Ok(Target { dir: dir.to_owned(), place, back, there, with_files })
}

/// Puts a ward back. Nothing stands in its place before all of it is there and was compared.
pub fn restore(
    backup: Backup,
    key: &SoftwareKey,
    target: &Target,
    (actor, because): (&str, &str),
) -> Result<Done, Problem> {
    let header = backup.header.clone();
    let path = backup.path.clone();
    let wrong = |because: String| {
        Problem::failed(format!("{} was not put back", path.display())).because(because).next("take another backup")
    };
    let (mut files, mut end) = (Vec::new(), None);
    let (place, beside) = match &target.place {
        StorePlace::File(place) => {
            let beside = target.dir.join(RESTORING);
            std::fs::create_dir_all(&target.dir).map_err(|error| Problem::file("write", &target.dir, &error))?;
            remove_store(&beside)?;
            (StorePlace::File(beside.clone()), Some((place.clone(), beside)))
        }
        database => (database.clone(), None),
    };
    let mut into = place.open_copy(&header.ward)?;
    if place_is_begun(&*into)? {
        return Err(Problem::refused(format!("{place} is not empty"))
            .because("another try to put the ward back ended there")
            .next("empty it and begin again"));
    }
    let (mut said, mut wanted) = (Counts::default(), Counts::default());
    let mut rows = Rows { into: &mut *into, table: None, waiting: Vec::new(), octets: 0 };
    backup.each_line(key, &mut |line| {
        match line {
            Line::File(name, octets) => files.push((name, octets)),
            Line::Row(table, row, grown) => {
                said.add(table, &row);
                wanted.add(table, &grown);
                rows.add(table, grown)?;
            }
            Line::End(contents) => {
                rows.write()?;
                end = Some(contents);
            }
        }
        Ok(ControlFlow::Continue(()))
    })?;
    let end = end.ok_or_else(|| wrong("its end is missing".to_owned()))?;
    // It was made by this version or an earlier one; what was written is what it has, whatever tables have grown by since.
    if !said.is(&end) || !wanted.is(&contents(&*into)?) {
        return Err(wrong("what was written is not what it says".to_owned()));
    }
    whole_record(&*into).map_err(|error| match error {
        CopyError::Store(error) => error.into(),
        other => wrong(other.to_string()),
    })?;
    let (number, hash) = into.audit_end()?;
    if (number, HEXLOWER.encode(&hash)) != (header.entries, header.head.clone()) {
        return Err(wrong("its record does not end where it says".to_owned()));
    }
    into.finish_copy()?;
    drop(into);
    {
        let mut store = OperatorStore::new(place.open(None)?);
        let doubt = target.back.as_ref().map(|back| {
            format!(
                "it was put back from a backup of entry {} ({}): {back}; what was revoked after it may not be known",
                header.entries, header.at
            )
        });
        let at = WardClock::of(store.ward()?.rehearsal)?.now();
        let cause = Cause { at, actor: actor.to_owned(), because: because.to_owned() };
        let detail =
            json!({ "entries": header.entries, "head": header.head, "made": header.at, "back": target.back.is_some() });
        store.restored(&detail, doubt.as_deref(), &cause)?;
    }
    if target.with_files {
        write_files(&target.dir, &files)?;
    }
    if let Some((place, beside)) = beside {
        // Whoever closed it last left all of it in one file.
        if parts(&beside)[1].exists() {
            return Err(Problem::failed(format!("{} is still open", beside.display())).next("do it again"));
        }
        take_place(&beside, &place, &target.there)?;
    }
    let files = if target.with_files { files.len() } else { 0 };
    Ok(Done { header, contents: end, files })
}

/// Whether something was put into a new place before.
fn place_is_begun(place: &dyn Whole) -> Result<bool, StoreError> {
    for table in &TABLES {
        if place.last_key(table)?.is_some() {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The parts of a store's file; the store itself goes first, so that no part of it is ever taken for all of it.
fn parts(path: &Path) -> [PathBuf; 3] {
    ["", "-wal", "-shm"].map(|part| {
        let mut name = path.as_os_str().to_owned();
        name.push(part);
        PathBuf::from(name)
    })
}

/// Takes one kind of failure for none.
fn but(kind: ErrorKind, done: io::Result<()>) -> io::Result<()> {
    match done {
        Err(error) if error.kind() == kind => Ok(()),
        done => done,
    }
}

fn remove_store(path: &Path) -> Result<(), Problem> {
    parts(path).iter().try_for_each(|part| {
        but(ErrorKind::NotFound, std::fs::remove_file(part)).map_err(|error| Problem::file("remove", part, &error))
    })
}

/// Puts a store in the place of what is there. Nobody writes to that meanwhile; `there` is where its record ended when it was looked at.
fn take_place(beside: &Path, place: &Path, there: &Seen) -> Result<(), Problem> {
    let mut swapped = None;
    let swap = || {
        let failed = |error: io::Error| Problem::file("write", place, &error);
        set_aside(place)?;
        std::fs::rename(beside, place).map_err(failed)?;
        files::sync_folder(place.parent()).map_err(failed)
    };
    if let Some(there) = there {
        let mut old = SqliteStore::open(place)?;
        old.change(&mut |tx| {
            swapped = Some(if tx.audit_end()? == *there {
                swap()
            } else {
                Err(Problem::refused("the ward was not put back")
                    .because("somebody changed what is there meanwhile")
                    .next("look at what was done, then do it again"))
            });
            Ok(Fate::Undo)
        })?;
    }
    swapped.unwrap_or_else(swap)
}

/// Puts what stands in a store's place beside it, where nobody takes it for the ward's.
fn set_aside(place: &Path) -> Result<(), Problem> {
    let before = place.with_file_name(BEFORE);
    remove_store(&before)?;
    parts(place).iter().zip(parts(&before)).try_for_each(|(part, to)| {
        but(ErrorKind::NotFound, std::fs::rename(part, to)).map_err(|error| Problem::file("move", part, &error))
    })
}

/// Writes the ward's files, the settings last: what was begun is no ward.
fn write_files(dir: &Path, files: &[(String, Vec<u8>)]) -> Result<(), Problem> {
    for folder in [KEYS, POLICIES] {
        let path = dir.join(folder);
        let mode = if folder == KEYS { 0o700 } else { 0o755 };
        but(ErrorKind::AlreadyExists, std::fs::DirBuilder::new().mode(mode).create(&path))
            .map_err(|error| Problem::file("write", &path, &error))?;
    }
    let last = |name: &str| name == SETTINGS;
    for (name, octets) in
        files.iter().filter(|(name, _)| !last(name)).chain(files.iter().filter(|(name, _)| last(name)))
    {
        // Names come from the backup: nothing but what a backup writes is taken.
        let is_known = last(name)
            || name.split_once('/').is_some_and(|(folder, name)| {
                let (is_key, is_policy) =
                    (folder == KEYS && name.ends_with(".key"), folder == POLICIES && name.ends_with(".policy"));
                (is_key || is_policy) && !name.starts_with('.') && !name.contains('/')
            });
        if !is_known {
            return Err(Problem::refused(format!("the backup holds a file that no ward has: {name:?}"))
                .next("take another backup"));
        }
        let path = dir.join(name);
        let access = if name.ends_with(".key") { Access::Secret } else { Access::Public };
        match files::create(&path, octets, access) {
            Err(error)
                if error.kind() == io::ErrorKind::AlreadyExists
                    && std::fs::read(&path).is_ok_and(|there| there == *octets) => {}
            Err(error) => return Err(Problem::file("write", &path, &error).or_next("name an empty folder")),
            Ok(()) => {}
        }
    }
    Ok(())
}
