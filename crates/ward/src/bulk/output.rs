//! The output of a bulk run: begun, gone on with, ended.
//!
//! Whatever the order of steps is cut at, nothing is lost and nothing is there twice: outfits are on the disk before the
//! store commits what they carry, and what was written without a commit is taken back when the run goes on.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::time::UnixTime;

use super::place::{Place, both, journal_of, make_folder, manifest_beside, part, unfinished};
use super::stage::{BLOCK, LEVEL, MANIFEST, Staged, length, tar_header};
use crate::files::{self, Access};
use crate::open::Ward;
use crate::problem::Problem;

/// How much of the output belongs to what the store has committed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Extent {
    /// Octets of the pack.
    pub pack: u64,
    /// Octets of the manifest beside it, compressed.
    pub manifest: u64,
    /// Octets of the manifest itself.
    pub lines: u64,
    /// Encrypted packs.
    #[serde(default)]
    pub parts: u64,
}

/// The output of a run, as its one writer has it.
pub(super) enum Output {
    Pack { place: PathBuf, pack: File, manifest: File, extent: Extent },
    Folders { out: PathBuf },
    Sealed { place: PathBuf, extent: Extent },
}

impl Output {
    /// Refuses a place where something is already that a run would have to overwrite.
    pub(super) fn refuse_existing(place: &Place) -> Result<(), Problem> {
        let occupied = match place {
            Place::Pack(path) => vec![path.clone(), part(path), manifest_beside(path)],
            Place::Sealed { path, .. } => [1, 2].into_iter().flat_map(|number| both(path, number)).collect(),
            Place::Folders(out) => vec![unfinished(out)],
        };
        match occupied.into_iter().find(|path| path.symlink_metadata().is_ok()) {
            Some(path) => Err(Problem::refused(format!("{} exists already", path.display()))
                .because("it may hold keys that are nowhere else, so it is not overwritten")
                .next("name another place with --pack or --out, or move this one away")),
            None => Ok(()),
        }
    }

    /// Begins a new output; nothing of it may be there yet.
    pub(super) fn create(place: &Place, head: &str) -> Result<Self, Problem> {
        Self::refuse_existing(place)?;
        match place {
            Place::Pack(path) => {
                let new = |path: &Path| {
                    let mode = OpenOptions::new().read(true).write(true).create_new(true).mode(0o600).open(path);
                    mode.map_err(|error| Problem::file("make", path, &error))
                };
                let mut output = Self::Pack {
                    place: path.clone(),
                    pack: new(&part(path))?,
                    manifest: new(&manifest_beside(path))?,
                    extent: Extent::default(),
                };
                if let Self::Pack { manifest, extent, .. } = &mut output {
                    let failed = |error: io::Error| Problem::file("write", path, &error);
                    let frame = zstd::bulk::compress(head.as_bytes(), LEVEL).map_err(failed)?;
                    manifest.write_all(&frame).map_err(failed)?;
                    manifest.sync_all().map_err(failed)?;
                    extent.manifest = length(frame.len());
                    extent.lines = length(head.len());
                    files::sync_folder(path.parent()).map_err(failed)?;
                }
                Ok(output)
            }
            Place::Folders(out) => {
                fs::create_dir_all(out).map_err(|error| Problem::file("make", out, &error))?;
                make_folder(&unfinished(out))?;
                Ok(Self::Folders { out: out.clone() })
            }
            Place::Sealed { path, .. } => Ok(Self::Sealed { place: path.clone(), extent: Extent::default() }),
        }
    }

    /// Goes on with an output of which `extent` belongs to what was committed; takes back the rest. `None`: nothing was
    /// committed, and whatever is there was only being begun.
    pub(super) fn resume(place: &Place, extent: Option<Extent>, head: &str, ward: &Ward) -> Result<Self, Problem> {
        match (place, extent) {
            (Place::Pack(path), None) => {
                for begun in [part(path), manifest_beside(path)] {
                    match fs::remove_file(&begun) {
                        Err(error) if error.kind() != io::ErrorKind::NotFound => {
                            return Err(Problem::file("remove", &begun, &error));
                        }
                        _ => {}
                    }
                }
                Self::create(place, head)
            }
            (Place::Pack(path), Some(extent)) => {
                let open = |path: PathBuf, length: u64| {
                    let failed = |error: io::Error| Problem::file("open", &path, &error);
                    let mut file = OpenOptions::new().read(true).write(true).open(&path).map_err(failed)?;
                    let found = file.metadata().map_err(failed)?.len();
                    if found < length {
                        return Err(Problem::failed(format!("{} is shorter than it was", path.display()))
                            .because(format!("it has {found} bytes, and {length} were written and recorded"))
                            .next("put the file back from a copy"));
                    }
                    file.set_len(length).and_then(|()| file.seek(SeekFrom::Start(length))).map_err(failed)?;
                    Ok(file)
                };
                let pack = open(part(path), extent.pack)?;
                let manifest = open(manifest_beside(path), extent.manifest)?;
                Ok(Self::Pack { place: path.clone(), pack, manifest, extent })
            }
            (Place::Sealed { path, .. }, extent) => {
                let extent = extent.unwrap_or_default();
                for number in 1..=extent.parts {
                    // The first of both is its name, which it has if the run was killed while it ended.
                    if !both(path, number).iter().any(|place| place.exists()) {
                        return Err(Problem::failed(format!("{} is gone", both(path, number)[0].display()))
                            .because("what it held was recorded as handed out")
                            .next("put the file back from a copy"));
                    }
                }
                // One at a time is written, and what was not committed is enrolled anew, into a part of its own.
                let [_, begun] = both(path, extent.parts + 1);
                match fs::remove_file(&begun) {
                    Err(error) if error.kind() != io::ErrorKind::NotFound => {
                        Err(Problem::file("remove", &begun, &error))
                    }
                    _ => Ok(Self::Sealed { place: path.clone(), extent }),
                }
            }
            (Place::Folders(out), _) => {
                // A run that was killed before it made anything has no folder yet.
                fs::create_dir_all(out).map_err(|error| Problem::file("make", out, &error))?;
                take_back(out, ward)?;
                Ok(Self::Folders { out: out.clone() })
            }
        }
    }

    /// How far the output will be after a batch.
    pub(super) fn extent_after(&self, staged: &Staged) -> Extent {
        match (self, staged) {
            (Self::Pack { extent, .. }, Staged::Frames { outfits, manifest, lines }) => Extent {
                pack: extent.pack + length(outfits.len()),
                manifest: extent.manifest + length(manifest.len()),
                lines: extent.lines + lines,
                ..*extent
            },
            (Self::Sealed { extent, .. }, Staged::Part(part)) => {
                Extent { parts: extent.parts + u64::from(part.is_some()), ..*extent }
            }
            _ => Extent::default(),
        }
    }

    /// Hands a batch out and makes sure that it is on the disk.
    pub(super) fn publish(&mut self, staged: &Staged) -> io::Result<()> {
        let after = self.extent_after(staged);
        match (self, staged) {
            (Self::Pack { pack, manifest, extent, .. }, Staged::Frames { outfits, manifest: more, .. }) => {
                pack.write_all(outfits)?;
                manifest.write_all(more)?;
                pack.sync_data()?;
                manifest.sync_data()?;
                *extent = after;
                Ok(())
            }
            (Self::Sealed { place, extent }, Staged::Part(part)) => {
                let Some(octets) = part else { return Ok(()) };
                let [name, begun] = both(place, after.parts);
                if name.symlink_metadata().is_ok() {
                    let what = format!("{} is there already", name.display());
                    return Err(io::Error::new(io::ErrorKind::AlreadyExists, what));
                }
                files::create(&begun, octets, Access::Secret)?;
                files::sync_folder(begun.parent())?;
                *extent = after;
                Ok(())
            }
            (Self::Folders { out }, Staged::Folders(stage, done)) => {
                // What is about to appear is written down first, so that it can be told from what was there before.
                let journal: String = done.iter().map(|(id, fingerprint)| format!("{id} {fingerprint}\n")).collect();
                files::replace(&journal_of(out), journal.as_bytes())?;
                rustix::fs::syncfs(File::open(&*out)?)?;
                for (id, _) in done {
                    let place = out.join(id.as_str());
                    if place.symlink_metadata().is_ok() {
                        return Err(io::Error::new(
                            io::ErrorKind::AlreadyExists,
                            format!("the outfit {} appeared meanwhile", place.display()),
                        ));
                    }
                    fs::rename(stage.join(id.as_str()), place)?;
                }
                files::sync_folder(Some(out))?;
                // Empty now; if it cannot be removed, the end of the run does it.
                let _ = fs::remove_dir(stage);
                Ok(())
            }
            _ => Err(io::Error::other("a batch was made ready for another place")),
        }
    }

    /// Ends the output: the pack gets its manifest and its name.
    pub(super) fn finish(self, now: UnixTime) -> Result<(), Problem> {
        match self {
            Self::Pack { place, mut pack, mut manifest, extent } => {
                let failed = |error: io::Error| Problem::file("write", &place, &error);
                manifest.seek(SeekFrom::Start(0)).map_err(failed)?;
                // One entry whose content is the frames beside; a reader sees one stream.
                let size = usize::try_from(extent.lines).unwrap_or(usize::MAX);
                let frame = |octets: &[u8]| zstd::bulk::compress(octets, LEVEL).map_err(failed);
                pack.write_all(&frame(&tar_header(MANIFEST, size, 0o644, now)?)?).map_err(failed)?;
                io::copy(&mut manifest.take(extent.manifest), &mut pack).map_err(failed)?;
                // The last entry is padded, and two empty blocks end a tar archive (POSIX.1-2017, ustar).
                let padding = size.next_multiple_of(BLOCK) - size;
                pack.write_all(&frame(&vec![0; padding + 2 * BLOCK])?).map_err(failed)?;
                pack.sync_all().map_err(failed)?;
                fs::rename(part(&place), &place).map_err(failed)?;
                files::sync_folder(place.parent()).map_err(failed)?;
                fs::remove_file(manifest_beside(&place)).map_err(failed)
            }
            Self::Sealed { place, extent } => {
                // The first gets its name last: where it has it, all have theirs.
                for number in (1..=extent.parts).rev() {
                    let [name, begun] = both(&place, number);
                    let failed = |error: io::Error| Problem::file("write", &name, &error);
                    match files::rename_new(&begun, &name) {
                        Err(error) if error.kind() == io::ErrorKind::NotFound && name.exists() => {}
                        moved => moved.map_err(failed)?,
                    }
                    files::sync_folder(name.parent()).map_err(failed)?;
                }
                Ok(())
            }
            Self::Folders { out } => {
                let stage = unfinished(&out);
                fs::remove_dir_all(&stage).map_err(|error| Problem::file("remove", &stage, &error))
            }
        }
    }
}

/// Removes what was made ready and will not be handed out. What cannot be removed now goes when the run ends.
pub(super) fn discard(staged: &Staged) {
    if let Staged::Folders(stage, _) = staged {
        let _ = fs::remove_dir_all(stage);
    }
}

/// Removes the outfits that appeared without a commit: those of the journal whose certificate the store does not know.
fn take_back(out: &Path, ward: &Ward) -> Result<(), Problem> {
    let journal = journal_of(out);
    if journal.exists() {
        let text = files::read_text(&journal, u64::MAX - 1)?;
        let listed: HashMap<&str, &str> = text.lines().filter_map(|line| line.split_once(' ')).collect();
        for (id, wanted) in listed {
            let place = out.join(id);
            let Ok(pem) = fs::read_to_string(place.join("device.pem")) else { continue };
            let Ok(certificate) = Certificate::from_pem(pem.trim_end()) else { continue };
            let fingerprint = certificate.fingerprint;
            let known = ward.store.status_many(&[fingerprint])?.iter().flatten().count() > 0;
            if fingerprint.to_string() == wanted && !known {
                // In one step, or half an outfit could stay behind that nobody would know for what it is.
                let away = unfinished(out).join(format!("{id}.taken-back"));
                fs::rename(&place, &away).map_err(|error| Problem::file("remove", &place, &error))?;
            }
        }
    }
    clear(&unfinished(out))
}

/// Empties the folder whose being there says that a run is not over: it is never taken away and made again, or a run that is killed
/// in between would pass for one that was done.
fn clear(stage: &Path) -> Result<(), Problem> {
    match fs::DirBuilder::new().mode(0o700).create(stage) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
        made => return made.map_err(|error| Problem::file("make", stage, &error)),
    }
    for entry in fs::read_dir(stage).map_err(|error| Problem::file("read", stage, &error))? {
        let entry = entry.map_err(|error| Problem::file("read", stage, &error))?;
        let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
        let removed = if is_folder { fs::remove_dir_all(entry.path()) } else { fs::remove_file(entry.path()) };
        removed.map_err(|error| Problem::file("remove", &entry.path(), &error))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::place::is_finished;
    use super::*;

    #[test]
    fn what_says_that_a_run_is_not_over_is_emptied_and_never_gone() {
        let dir = tempfile::tempdir().unwrap();
        let place = Place::Folders(dir.path().to_owned());
        let stage = unfinished(dir.path());
        assert!(is_finished(&place));
        clear(&stage).unwrap();
        assert!(!is_finished(&place));
        fs::create_dir(stage.join("1")).unwrap();
        fs::write(stage.join("1").join("device.pem"), "x").unwrap();
        fs::write(stage.join("journal"), "x").unwrap();
        let before = fs::metadata(&stage).unwrap();
        clear(&stage).unwrap();
        let after = fs::metadata(&stage).unwrap();
        assert_eq!(fs::read_dir(&stage).unwrap().count(), 0);
        assert_eq!(before.created().ok(), after.created().ok(), "it is the same folder");
    }
}
