//! Certificates that were about to be signed when a process ended: whatever may have come of them is brought to an end that the
//! ward knows.

use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, flock};
use tidy_warden_core::certificate::SerialNumber;
use tidy_warden_core::id::DeviceId;
use tidy_warden_store::Intended;

use crate::files;
use crate::open::Ward;
use crate::problem::Problem;

/// The file whose lock says that somebody is signing.
const LOCK: &str = ".signing";

fn lock_file(dir: &Path) -> Result<File, Problem> {
    let path = dir.join(LOCK);
    let open = OpenOptions::new().create(true).truncate(false).write(true).mode(0o600).open(&path);
    open.map_err(|error| Problem::file("open", &path, &error))
}

/// Says that this process is signing, for as long as the file is open; the system forgets it when the process ends, however.
pub fn signing(dir: &Path) -> Result<File, Problem> {
    let file = lock_file(dir)?;
    flock(&file, FlockOperation::LockShared).map_err(|error| Problem::file("lock", &dir.join(LOCK), &error.into()))?;
    Ok(file)
}

/// What the folder of an outfit that is being written is told apart by.
pub fn suffix(serial: &SerialNumber) -> String {
    serial.to_string()
}

/// Where the outfit of an intended certificate is written before it has its place.
fn partial(intended: &Intended) -> Option<(PathBuf, PathBuf)> {
    let place = PathBuf::from(intended.place.as_ref()?);
    let beside = files::partial(&place, &suffix(&intended.serial));
    Some((place, beside))
}

/// What became of something that a process intended which is gone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Recovered {
    /// Its certificate was recorded, and its outfit is in its place now.
    Finished {
        /// Whose it is.
        device: DeviceId,
        /// Where its outfit stands.
        place: PathBuf,
    },
    /// Its certificate was recorded, and something else stands where its outfit belongs.
    Waits {
        /// Whose it is.
        device: DeviceId,
        /// Where its outfit is meanwhile.
        beside: PathBuf,
        /// Where it belongs.
        place: PathBuf,
    },
    /// Nobody knows whether its certificate was signed, so that its serial number is revoked.
    Revoked {
        /// What was intended.
        lost: Intended,
        /// What was left of its outfit, and was removed.
        removed: Option<PathBuf>,
    },
}

/// Ends what was intended by processes that are gone: what was recorded gets its outfit, what was not is revoked, and what is
/// left of it removed.
pub fn recover(ward: &mut Ward, tell: &mut dyn FnMut(Recovered)) -> Result<(), Problem> {
    if ward.store.intended()?.is_empty() {
        return Ok(());
    }
    let lock = lock_file(&ward.dir)?;
    // Somebody is signing now; what they intend is theirs.
    if flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
        return Ok(());
    }
    let cause = ward.cause(None);
    for each in ward.store.intended()? {
        let recorded = !ward.store.fingerprints_of(&each.serial)?.is_empty();
        let one = std::slice::from_ref(&each);
        match (recorded, partial(&each)) {
            (true, Some((place, beside))) if beside.exists() => {
                if place.symlink_metadata().is_ok() {
                    tell(Recovered::Waits { device: each.device.clone(), beside, place });
                    continue;
                }
                fs::rename(&beside, &place).map_err(|error| Problem::file("write", &place, &error))?;
                files::sync_folder(place.parent()).map_err(|error| Problem::file("write", &place, &error))?;
                ward.store.end_intended(one, false, &cause)?;
                tell(Recovered::Finished { device: each.device.clone(), place });
            }
            (true, _) => ward.store.end_intended(one, false, &cause)?,
            (false, left) => {
                let beside = left.map(|(_, beside)| beside).filter(|beside| beside.exists());
                if let Some(beside) = &beside {
                    fs::remove_dir_all(beside).map_err(|error| Problem::file("remove", beside, &error))?;
                }
                ward.store.end_intended(one, true, &cause)?;
                tell(Recovered::Revoked { lost: each.clone(), removed: beside });
            }
        }
    }
    Ok(())
}
