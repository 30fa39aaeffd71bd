//! Files: read with a limit, written whole or not at all, secrets for their owner only.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use tidy_warden_core::random::hex;

use crate::clock::SystemRandom;
use crate::problem::Problem;

/// Who may read a new file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// Anybody, as far as the umask allows.
    Public,
    /// Its owner only.
    Secret,
}

/// The whole of a file, if it has at most `limit` octets.
pub fn read(path: &Path, limit: u64) -> Result<Vec<u8>, Problem> {
    let failed = |error: io::Error| Problem::file("read", path, &error);
    let file = File::open(path).map_err(failed)?;
    if file.metadata().map_err(failed)?.is_dir() {
        return Err(Problem::file("read", path, &io::ErrorKind::IsADirectory.into()));
    }
    read_all(file, path, limit)
}

/// All of a stream that errors call `name`, if it has at most `limit` octets.
fn read_all(stream: impl Read, name: &Path, limit: u64) -> Result<Vec<u8>, Problem> {
    let mut bytes = Vec::new();
    stream.take(limit + 1).read_to_end(&mut bytes).map_err(|error| Problem::file("read", name, &error))?;
    if u64::try_from(bytes.len()).unwrap_or(u64::MAX) > limit {
        return Err(Problem::refused(format!("cannot read {}", name.display()))
            .because(format!("it has more than {limit} bytes, the most that such a file may have")));
    }
    Ok(bytes)
}

/// All of standard input.
pub fn read_input_octets(limit: u64) -> Result<Vec<u8>, Problem> {
    read_all(io::stdin().lock(), Path::new("standard input"), limit)
}

/// All of standard input as text.
pub fn read_input(limit: u64) -> Result<String, Problem> {
    into_text(read_input_octets(limit)?, Path::new("standard input"))
}

/// The whole of a text file; `-` is standard input.
pub fn read_text_or_input(path: &Path, limit: u64) -> Result<String, Problem> {
    if path.as_os_str() == "-" { read_input(limit) } else { read_text(path, limit) }
}

/// The whole of a text file.
pub fn read_text(path: &Path, limit: u64) -> Result<String, Problem> {
    into_text(read(path, limit)?, path)
}

fn into_text(bytes: Vec<u8>, name: &Path) -> Result<String, Problem> {
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        Problem::refused(format!("cannot read {}", name.display()))
            .because(format!("line {line} holds bytes that are not UTF-8"))
            .next("save the file as UTF-8")
    })
}

/// Writes a new file and makes sure that it is on the disk. Never follows a link, never overwrites.
pub fn create(path: &Path, bytes: &[u8], access: Access) -> io::Result<()> {
    let mut file = new_file(path, access)?;
    file.write_all(bytes)?;
    file.sync_all()
}

/// The same so that the file is there whole or not at all, whenever the process is killed: written beside it, synced, given its name.
///
/// # Errors
/// There is something of that name, or it cannot be written.
pub fn create_whole(path: &Path, bytes: &[u8], access: Access) -> io::Result<()> {
    put_in_place(path, bytes, access, rename_new)
}

/// Writes a new file that the caller makes sure of with many others at once.
pub fn create_unsynced(path: &Path, bytes: &[u8], access: Access) -> io::Result<()> {
    new_file(path, access)?.write_all(bytes)
}

fn new_file(path: &Path, access: Access) -> io::Result<File> {
    let mode = if access == Access::Secret { 0o600 } else { 0o644 };
    OpenOptions::new().write(true).create_new(true).mode(mode).open(path)
}

/// Puts a file in place of one that may exist: written beside it, synced, renamed.
pub fn replace(path: &Path, bytes: &[u8]) -> io::Result<()> {
    replace_as(path, bytes, Access::Public)
}

/// The same for its owner only.
pub fn replace_secret(path: &Path, bytes: &[u8]) -> io::Result<()> {
    replace_as(path, bytes, Access::Secret)
}

fn replace_as(path: &Path, bytes: &[u8], access: Access) -> io::Result<()> {
    put_in_place(path, bytes, access, |beside, path| fs::rename(beside, path))
}

/// Writes a file beside its place, makes sure of it, and has `rename` give it its name.
fn put_in_place(
    path: &Path,
    bytes: &[u8],
    access: Access,
    rename: impl FnOnce(&Path, &Path) -> io::Result<()>,
) -> io::Result<()> {
    let beside = beside(path);
    let result = create(&beside, bytes, access).and_then(|()| rename(&beside, path));
    if result.is_err() {
        // What could not be put in place is of no use to anybody.
        let _ = fs::remove_file(&beside);
    }
    result.and_then(|()| sync_folder(path.parent()))
}

/// A name beside `path` that nobody has.
fn beside(path: &Path) -> PathBuf {
    partial(path, &hex::<6>(&mut SystemRandom))
}

/// The name beside `path` under which it is written, told apart by `suffix`.
pub fn partial(path: &Path, suffix: &str) -> PathBuf {
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    path.with_file_name(format!(".{name}.{suffix}.partial"))
}

/// Makes sure that a folder's entries are on the disk.
pub fn sync_folder(folder: Option<&Path>) -> io::Result<()> {
    let folder = folder.filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    File::open(folder)?.sync_all()
}

/// Gives a file the name that it is to have; what stands there stays.
///
/// # Errors
/// There is something of that name, or the file is gone.
pub fn rename_new(from: &Path, to: &Path) -> io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        // Some file systems, such as those of memory sticks, cannot do it in one step.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
            if to.symlink_metadata().is_ok() {
                return Err(io::ErrorKind::AlreadyExists.into());
            }
            fs::rename(from, to)
        }
        renamed => Ok(renamed?),
    }
}

/// A file for its owner alone that is filled beside its place and then appears whole; vanishes if it is dropped before.
#[derive(Debug)]
pub struct PendingFile {
    file: File,
    beside: PathBuf,
    place: PathBuf,
    unsynced: usize,
    published: bool,
}

/// How much is written before it goes to the disk while more is made, in octets.
const SYNC_EVERY: usize = 16 * 1024 * 1024;

impl PendingFile {
    /// Begins a file that will stand at `place`, which must not exist. What a process left beside it that was killed goes.
    pub fn begin(place: &Path) -> io::Result<Self> {
        if place.symlink_metadata().is_ok() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        let beside = partial(place, "file");
        match fs::remove_file(&beside) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        let file = new_file(&beside, Access::Secret)?;
        Ok(Self { file, beside, place: place.to_owned(), unsynced: 0, published: false })
    }

    /// Adds to it.
    pub fn write_all(&mut self, octets: &[u8]) -> io::Result<()> {
        self.file.write_all(octets)?;
        self.unsynced += octets.len();
        if self.unsynced >= SYNC_EVERY {
            self.file.sync_data()?;
            self.unsynced = 0;
        }
        Ok(())
    }

    /// Makes sure that all of it is on the disk.
    pub fn sync(&self) -> io::Result<()> {
        self.file.sync_all()
    }

    /// Lets it appear in its place, if nothing appeared there meanwhile.
    pub fn publish(mut self) -> io::Result<()> {
        rename_new(&self.beside, &self.place)?;
        self.published = true;
        sync_folder(self.place.parent())
    }
}

impl Drop for PendingFile {
    fn drop(&mut self) {
        if !self.published {
            // Nobody was told of it.
            let _ = fs::remove_file(&self.beside);
        }
    }
}

/// A folder that is filled beside its place and then appears whole; vanishes if it is dropped before.
#[derive(Debug)]
pub struct PendingFolder {
    beside: PathBuf,
    place: PathBuf,
    published: bool,
}

impl PendingFolder {
    /// Begins a folder that will stand at `place`, for its owner only. `place` must not exist, not even as a link.
    /// `suffix` tells what is written beside it apart from others.
    pub fn begin(place: &Path, suffix: &str) -> io::Result<Self> {
        if place.symlink_metadata().is_ok() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        Self::instead(place, suffix)
    }

    /// Begins a folder for [`PendingFolder::exchange`].
    pub fn instead(place: &Path, suffix: &str) -> io::Result<Self> {
        let beside = partial(place, suffix);
        fs::DirBuilder::new().mode(0o700).create(&beside)?;
        Ok(Self { beside, place: place.to_owned(), published: false })
    }

    /// Puts it in the place of the folder that is there, which is removed. Who looks finds one of the two, whole, at any moment; owners and
    /// modes are those that were there, so that whoever could read the old one can read this.
    pub fn exchange(self) -> io::Result<()> {
        use rustix::fs::{CWD, RenameFlags, renameat_with};
        for entry in fs::read_dir(&self.beside)? {
            let entry = entry?;
            like(&entry.path(), &self.place.join(entry.file_name()))?;
        }
        like(&self.beside, &self.place)?;
        self.sync()?;
        renameat_with(CWD, &self.beside, CWD, &self.place, RenameFlags::EXCHANGE)?;
        // What stands beside it now is the old one, and goes as one does that was never finished.
        sync_folder(self.place.parent())
    }

    /// The same, and what was put into the old folder meanwhile goes over into the new one.
    pub fn exchange_all(self) -> io::Result<()> {
        let (beside, place) = (self.beside.clone(), self.place.clone());
        for entry in fs::read_dir(&beside)? {
            let entry = entry?;
            like(&entry.path(), &place.join(entry.file_name()))?;
            File::open(entry.path())?.sync_all()?;
        }
        like(&beside, &place)?;
        self.sync()?;
        rustix::fs::renameat_with(
            rustix::fs::CWD,
            &beside,
            rustix::fs::CWD,
            &place,
            rustix::fs::RenameFlags::EXCHANGE,
        )?;
        for entry in fs::read_dir(&beside)? {
            let late = entry?.file_name();
            if place.join(&late).symlink_metadata().is_err() {
                fs::rename(beside.join(&late), place.join(&late))?;
            }
        }
        // What stands beside it now is the old one, and goes as one does that was never finished.
        sync_folder(Some(&place)).and_then(|()| sync_folder(place.parent()))
    }

    /// Where it is filled.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.beside
    }

    /// Adds a file.
    pub fn add(&self, name: &str, bytes: &[u8], access: Access) -> io::Result<()> {
        create(&self.beside.join(name), bytes, access)
    }

    /// Makes sure that it is on the disk.
    pub fn sync(&self) -> io::Result<()> {
        File::open(&self.beside)?.sync_all()?;
        sync_folder(self.place.parent())
    }

    /// Leaves it where it was filled, and says where.
    pub fn keep(&mut self) -> PathBuf {
        self.published = true;
        self.beside.clone()
    }

    /// Lets it appear in its place.
    pub fn publish(&mut self) -> io::Result<()> {
        if self.place.symlink_metadata().is_ok() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        fs::rename(&self.beside, &self.place)?;
        self.published = true;
        sync_folder(self.place.parent())
    }
}

/// Gives what is new the owner and the mode of what was there, if anything was.
fn like(new: &Path, old: &Path) -> io::Result<()> {
    let Ok(was) = fs::metadata(old) else { return Ok(()) };
    let is = fs::metadata(new)?;
    if (is.uid(), is.gid()) != (was.uid(), was.gid()) {
        std::os::unix::fs::chown(new, Some(was.uid()), Some(was.gid()))?;
    }
    fs::set_permissions(new, fs::Permissions::from_mode(was.mode() & 0o777))
}

impl Drop for PendingFolder {
    fn drop(&mut self) {
        if !self.published {
            // The same: a leftover opens nothing.
            let _ = fs::remove_dir_all(&self.beside);
        }
    }
}

/// Whether others than its owner may read a file.
pub fn is_readable_by_others(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|metadata| metadata.permissions().mode() & 0o077 != 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(folder: &Path) -> Vec<String> {
        let mut names: Vec<String> = fs::read_dir(folder)
            .unwrap()
            .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        names.sort();
        names
    }

    #[test]
    fn a_pending_folder_appears_whole_or_not_at_all() {
        let dir = tempfile::tempdir().unwrap();
        let place = dir.path().join("wv-1");
        let pending = PendingFolder::begin(&place, "1").unwrap();
        pending.add("device.key", b"secret", Access::Secret).unwrap();
        assert!(!place.exists());
        drop(pending);
        assert!(names(dir.path()).is_empty(), "what was not published leaves nothing");

        let mut pending = PendingFolder::begin(&place, "2").unwrap();
        pending.add("device.key", b"secret", Access::Secret).unwrap();
        assert!(pending.add("device.key", b"other", Access::Secret).is_err(), "no file is written twice");
        pending.publish().unwrap();
        assert_eq!(names(dir.path()), ["wv-1"]);
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(&place), mode(&place.join("device.key"))), (0o700, 0o600));
        assert!(PendingFolder::begin(&place, "3").is_err(), "what exists is not touched");
    }

    #[test]
    fn a_place_that_was_taken_meanwhile_is_not_overwritten() {
        let dir = tempfile::tempdir().unwrap();
        let place = dir.path().join("wv-1");
        let mut pending = PendingFolder::begin(&place, "1").unwrap();
        std::os::unix::fs::symlink("/nowhere", &place).unwrap();
        assert_eq!(pending.publish().unwrap_err().kind(), io::ErrorKind::AlreadyExists);
        drop(pending);
        assert_eq!(names(dir.path()), ["wv-1"]);
        assert!(place.symlink_metadata().unwrap().is_symlink());
    }

    #[test]
    fn replacing_puts_the_new_text_in_place_at_once() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("devices.crl");
        let new = dir.path().join("new");
        create_whole(&new, b"one", Access::Secret).unwrap();
        assert_eq!(create_whole(&new, b"two", Access::Secret).unwrap_err().kind(), io::ErrorKind::AlreadyExists);
        assert_eq!(fs::read(&new).unwrap(), b"one", "what stands there stays");
        assert_eq!(fs::metadata(&new).unwrap().permissions().mode() & 0o777, 0o600);
        fs::remove_file(&new).unwrap();
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 0, "and nothing is left beside it");
        replace(&path, b"one").unwrap();
        replace(&path, b"two").unwrap();
        assert_eq!((fs::read(&path).unwrap(), names(dir.path())), (b"two".to_vec(), vec!["devices.crl".to_owned()]));
        assert!(replace(&dir.path().join("no/such/folder"), b"x").is_err());
        let target = dir.path().join("target");
        fs::write(&target, "kept").unwrap();
        let link = dir.path().join("link");
        std::os::unix::fs::symlink(&target, &link).unwrap();
        replace(&link, b"new").unwrap();
        assert_eq!(fs::read(&target).unwrap(), b"kept", "a link is replaced, not followed");
    }

    #[test]
    fn files_are_read_up_to_their_limit() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("f");
        fs::write(&path, "12345").unwrap();
        assert_eq!(read(&path, 5).unwrap(), b"12345");
        assert!(read(&path, 4).is_err());
        assert!(read(dir.path(), 4).is_err(), "a folder is no file");
        fs::write(&path, b"one\ntw\xffo\n").unwrap();
        let error = read_text(&path, 100).unwrap_err().in_one_line();
        assert!(error.contains("line 2 holds bytes that are not UTF-8"), "{error}");
    }
}
