//! Locking the ward's keys anew, under another passphrase: all of them at one moment.
//!
//! The folder of keys is written once more beside itself and then exchanged with itself (one `rename`), so that whoever is killed at
//! any moment leaves all keys as they were, or all as they are to be.

use std::collections::BTreeSet;
use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use rustix::fs::{FlockOperation, flock};
use tidy_warden_core::key::{LockCost, OpenError, SoftwareKey};
use zeroize::Zeroizing;

use crate::clock::SystemRandom;
use crate::files::{self, Access, PendingFolder};
use crate::keys::{Passphrase, strong_enough};
use crate::open::KEYS;
use crate::problem::Problem;

/// What the folder that is being written is told apart by.
const SUFFIX: &str = "relocked";

/// The file whose lock says that somebody is at it.
const LOCK: &str = ".relocking";

/// The largest file that a folder of keys may hold, and how many.
const MAX_FILE: u64 = 1024 * 1024;
const MOST_FILES: usize = 10_000;

/// A file of the folder of keys.
struct Held {
    name: String,
    octets: Zeroizing<Vec<u8>>,
    /// Its key, if the passphrase opens it.
    key: Option<SoftwareKey>,
}

/// Which keys a passphrase opens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Opens {
    /// Those that it opens, by name.
    pub opened: Vec<String>,
    /// Those that it does not.
    pub closed: Vec<String>,
}

fn held(dir: &Path, passphrase: &Passphrase) -> Result<Vec<Held>, Problem> {
    let keys = dir.join(KEYS);
    let failed = |error: std::io::Error| Problem::file("read", &keys, &error);
    let mut all = Vec::new();
    for entry in fs::read_dir(&keys).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        let name = entry.file_name().to_string_lossy().into_owned();
        if !entry.file_type().map_err(failed)?.is_file() || all.len() == MOST_FILES {
            return Err(Problem::refused(format!("{} holds more than files of keys", keys.display()))
                .because(format!("`{name}` is no plain file, or there are more than {MOST_FILES}"))
                .next("move it elsewhere"));
        }
        let octets = Zeroizing::new(files::read(&entry.path(), MAX_FILE)?);
        let key = match (name.strip_suffix(".key"), std::str::from_utf8(&octets)) {
            (Some(_), Ok(pem)) => match SoftwareKey::open(pem.trim_end(), passphrase) {
                Ok(key) => Some(key),
                Err(OpenError::Passphrase) => None,
                Err(error) => {
                    return Err(Problem::failed(format!("cannot open the key {}", entry.path().display()))
                        .because(error)
                        .next("put the file back from a copy of the ward"));
                }
            },
            _ => None,
        };
        all.push(Held { name, octets, key });
    }
    all.sort_by(|one, other| one.name.cmp(&other.name));
    Ok(all)
}

fn key_name(held: &Held) -> Option<&str> {
    held.name.strip_suffix(".key")
}

fn sorted(all: &[Held]) -> Opens {
    let names = |opened: bool| {
        let some = all.iter().filter(|held| held.key.is_some() == opened);
        some.filter_map(key_name).map(str::to_owned).collect()
    };
    Opens { opened: names(true), closed: names(false) }
}

/// Which of the ward's keys a passphrase opens.
pub fn opens(dir: &Path, passphrase: &Passphrase) -> Result<Opens, Problem> {
    Ok(sorted(&held(dir, passphrase)?))
}

/// Locks anew all keys that the old passphrase opens, or those of them in `only`. `before` is told their names when all is ready and
/// nothing is changed.
///
/// # Errors
/// The old passphrase opens none of them; the new one is weak; what `before` says.
pub fn change(
    dir: &Path,
    (old, new): (&Passphrase, &Passphrase),
    only: Option<&BTreeSet<String>>,
    cost: LockCost,
    before: &mut dyn FnMut(&[String]) -> Result<(), Problem>,
) -> Result<Opens, Problem> {
    strong_enough(new, "the keys")?;
    if old == new {
        return Err(Problem::refused("the passphrase was not changed").because("the new one is the old one"));
    }
    let _turn = turn(dir)?.ok_or_else(|| {
        Problem::refused("the passphrase was not changed").because("another process changes it at this moment")
    })?;
    let keys = dir.join(KEYS);
    clear(dir)?;
    let mut all = held(dir, old)?;
    for held in &mut all {
        let is_wanted = held.name.strip_suffix(".key").is_some_and(|name| only.is_none_or(|only| only.contains(name)));
        if !is_wanted {
            held.key = None;
        }
    }
    let opens = sorted(&all);
    if opens.opened.is_empty() {
        return Err(Problem::failed("the passphrase was not changed")
            .because("the old passphrase opens none of these keys")
            .next("check the passphrase file, or type it again"));
    }
    let failed = |error: std::io::Error| Problem::file("write", &keys, &error);
    let folder = PendingFolder::instead(&keys, SUFFIX).map_err(failed)?;
    for held in &all {
        let octets = match &held.key {
            Some(key) => {
                let locked = key.lock(new, cost, &mut SystemRandom);
                let locked = locked.map_err(|error| Problem::failed("cannot lock a key").because(error))?;
                // What cannot be opened again would be lost for good.
                let again = SoftwareKey::open(locked.trim_end(), new).map(|key| key.proven());
                if again.as_ref().ok() != Some(&key.proven()) {
                    return Err(Problem::failed("the passphrase was not changed")
                        .because(format!("`{}` could not be locked so that it opens again", held.name)));
                }
                Zeroizing::new(locked.as_bytes().to_vec())
            }
            None => held.octets.clone(),
        };
        folder.add(&held.name, &octets, Access::Secret).map_err(failed)?;
    }
    before(&opens.opened)?;
    folder.exchange_all().map_err(failed)?;
    Ok(opens)
}

/// This process's turn, for as long as the file is open; `None` if it is another's.
fn turn(dir: &Path) -> Result<Option<File>, Problem> {
    let path = dir.join(LOCK);
    let failed = |error: std::io::Error| Problem::file("open", &path, &error);
    let file = OpenOptions::new().create(true).truncate(false).write(true).mode(0o600).open(&path).map_err(failed)?;
    match flock(&file, FlockOperation::NonBlockingLockExclusive) {
        Ok(()) => Ok(Some(file)),
        Err(rustix::io::Errno::WOULDBLOCK) => Ok(None),
        Err(error) => Err(failed(error.into())),
    }
}

fn clear(dir: &Path) -> Result<(), Problem> {
    let left = files::partial(&dir.join(KEYS), SUFFIX);
    match fs::remove_dir_all(&left) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(Problem::file("remove", &left, &error)),
        _ => Ok(()),
    }
}

/// Removes what a process left that was killed while it changed a passphrase: keys that the old one opens, or half of the new folder.
pub fn tidy(dir: &Path) -> Result<(), Problem> {
    if files::partial(&dir.join(KEYS), SUFFIX).symlink_metadata().is_err() {
        return Ok(());
    }
    match turn(dir)? {
        Some(_turn) => clear(dir),
        None => Ok(()),
    }
}
