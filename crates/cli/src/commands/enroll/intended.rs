//! Certificates that were about to be signed when a process ended: whatever may have come of them is brought to an end that the
//! ward knows.

use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, flock};
use tidy_warden_core::certificate::SerialNumber;
use tidy_warden_store::Intended;

use crate::console::Console;
use crate::files;
use crate::problem::Problem;
use crate::ward::Ward;

/// The file whose lock says that somebody is signing.
const LOCK: &str = ".signing";

fn lock_file(dir: &Path) -> Result<File, Problem> {
    let path = dir.join(LOCK);
    let open = OpenOptions::new().create(true).truncate(false).write(true).mode(0o600).open(&path);
    open.map_err(|error| Problem::file("open", &path, &error))
}

/// Says that this process is signing, for as long as the file is open; the system forgets it when the process ends, however.
pub(super) fn signing(dir: &Path) -> Result<File, Problem> {
    let file = lock_file(dir)?;
    flock(&file, FlockOperation::LockShared).map_err(|error| Problem::file("lock", &dir.join(LOCK), &error.into()))?;
    Ok(file)
}

/// What the folder of an outfit that is being written is told apart by.
pub(super) fn suffix(serial: &SerialNumber) -> String {
    serial.to_string()
}

/// Where the outfit of an intended certificate is written before it has its place.
fn partial(intended: &Intended) -> Option<(PathBuf, PathBuf)> {
    let place = PathBuf::from(intended.place.as_ref()?);
    let beside = files::partial(&place, &suffix(&intended.serial));
    Some((place, beside))
}

/// Ends what was intended by processes that are gone: what was recorded gets its outfit, what was not is revoked, and what is
/// left of it removed.
pub(crate) fn recover(ward: &mut Ward, console: &Console) -> Result<(), Problem> {
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
                    console.warn(format!(
                        "the outfit of {} waits in {}, because {} exists already; move that away",
                        each.device,
                        beside.display(),
                        place.display()
                    ));
                    continue;
                }
                fs::rename(&beside, &place).map_err(|error| Problem::file("write", &place, &error))?;
                files::sync_folder(place.parent()).map_err(|error| Problem::file("write", &place, &error))?;
                console.note(format!("an interrupted enroll of {} was finished: {}", each.device, place.display()));
                ward.store.end_intended(one, false, &cause)?;
            }
            (true, _) => ward.store.end_intended(one, false, &cause)?,
            (false, left) => {
                let mut removed = String::new();
                if let Some((_, beside)) = left.filter(|(_, beside)| beside.exists()) {
                    fs::remove_dir_all(&beside).map_err(|error| Problem::file("remove", &beside, &error))?;
                    removed = format!("; {} was removed", beside.display());
                }
                ward.store.end_intended(one, true, &cause)?;
                console.note(format!(
                    "an enroll of {} ended before its certificate {} was recorded: that is revoked now{removed}; publish \
                     the new list with: crl --authority {} --out FILE",
                    each.device, each.serial, each.authority
                ));
            }
        }
    }
    Ok(())
}
