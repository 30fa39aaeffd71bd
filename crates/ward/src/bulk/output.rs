//! Where a bulk run puts its outfits: one pack, one that only its receivers can read, or a folder each.
//!
//! Whatever the order of steps is cut at, nothing is lost and nothing is there twice: outfits are on the disk before the
//! store commits what they carry, and what was written without a commit is taken back when the run goes on.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::cms::{self, Receiver};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use zeroize::Zeroizing;

use crate::clock::SystemRandom;
use crate::files::{self, Access};
use crate::issue::press::Outfit;
use crate::open::Ward;
use crate::problem::Problem;

/// zstd's fastest regular level: half of an outfit is random and does not shrink, the rest is the same in every outfit.
const LEVEL: i32 = 1;

/// How many octets are compressed at a time: a frame of its own each, so that the compressor needs no window over what went
/// before. A pack of 100,000 grows from 36.0 to 36.9 MB by it.
const FRAME: usize = 512 * 1024;

/// The manifest in a pack.
const MANIFEST: &str = "manifest.csv";
/// The columns of the manifest of outfits.
pub(super) const MANIFEST_HEAD: &str = "id,serial,fingerprint,ends,run\n";

/// Which of both.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Place {
    /// A `.tar.zst` file with one JSON document a device, and a manifest at its end.
    Pack(PathBuf),
    /// A folder with a folder for each device.
    Folders(PathBuf),
    /// Packs that only their receivers can read (CMS, RFC 5083): each batch is one of its own, whole and with a manifest, in a file of its
    /// own. Nothing is ever added to one that was written, and no plain key is on the disk.
    Sealed {
        /// The first; the others have their numbers in their names.
        path: PathBuf,
        /// The certificates of those who can read it, in PEM.
        to: Vec<String>,
    },
}

impl Place {
    /// The pack or the folder.
    #[must_use]
    pub fn path(&self) -> &Path {
        match self {
            Self::Pack(path) | Self::Folders(path) | Self::Sealed { path, .. } => path,
        }
    }

    /// A pack that only the owners of these certificates can read; PEM or DER each, as they were read from the files that `named` names.
    ///
    /// # Errors
    /// One of them is none to which anything can be sealed at `now`.
    pub fn sealed(path: PathBuf, certificates: &[(&Path, Vec<u8>)], now: UnixTime) -> Result<Self, Problem> {
        let mut to = Vec::new();
        for (named, octets) in certificates {
            let refused = || Problem::refused(format!("nothing can be encrypted to {}", named.display()));
            let first = Certificate::read_all(octets).ok().and_then(|all| all.into_iter().next());
            let certificate = first.ok_or_else(|| {
                refused().because("it holds no certificate").next("name the receiver's certificate, in PEM or DER")
            })?;
            Receiver::of(&certificate, now).map_err(|why| {
                refused().because(why).next("ask the receiver for a certificate that is good for encryption")
            })?;
            to.push(certificate.to_pem());
        }
        Ok(Self::Sealed { path, to })
    }

    /// The files of a pack in `parts` parts.
    #[must_use]
    pub fn files(&self, parts: u64) -> Vec<PathBuf> {
        match self {
            Self::Sealed { path, .. } => (1..=parts).map(|number| numbered(path, number)).collect(),
            Self::Pack(path) | Self::Folders(path) => vec![path.clone()],
        }
    }
}

/// Those who can read a pack, by their certificates.
fn receivers(to: &[String], now: UnixTime) -> Result<Vec<Receiver>, Problem> {
    let one = |pem: &String| -> Result<Receiver, Problem> {
        let failed = || Problem::failed("the pack cannot be encrypted to its receiver");
        let certificate = Certificate::from_pem(pem.trim_end()).map_err(|error| failed().because(error))?;
        Receiver::of(&certificate, now).map_err(|error| {
            failed()
                .because(error)
                .next("end the run where it stands: enroll --stop; then enrol the rest to another certificate")
        })
    };
    to.iter().map(one).collect()
}

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

/// A batch's outfits, ready to be handed out.
pub(super) enum Staged {
    /// Independent zstd frames, another with lines for the manifest, and the length of those lines.
    Frames { outfits: Vec<u8>, manifest: Vec<u8>, lines: u64 },
    /// An encrypted pack; `None` if there is nothing for it.
    Part(Option<Vec<u8>>),
    /// Folders that stand beside their places.
    Folders(PathBuf, Vec<(DeviceId, Fingerprint)>),
}

/// Makes batches ready; each worker has its own.
pub(super) struct Stager {
    place: Place,
    head: &'static str,
    now: UnixTime,
}

impl Stager {
    /// `head` has the columns of the manifest.
    pub(super) fn new(place: &Place, head: &'static str, now: UnixTime) -> Self {
        Self { place: place.clone(), head, now }
    }

    /// Begins a batch; `number` keeps batches that are made ready at the same time apart.
    pub(super) fn begin(&self, number: u64) -> Result<Batch, Problem> {
        match &self.place {
            Place::Pack(_) | Place::Sealed { .. } => {
                let packer = zstd::bulk::Compressor::new(LEVEL).map_err(|error| compressing(&error))?;
                let tar = Zeroizing::new(Vec::with_capacity(FRAME + FRAME / 4));
                Ok(Batch::Tar {
                    packer,
                    tar,
                    frames: Zeroizing::new(Vec::with_capacity(1 << 20)),
                    manifest: String::new(),
                })
            }
            Place::Folders(out) => {
                let stage = unfinished(out).join(number.to_string());
                make_folder(&stage)?;
                Ok(Batch::Folders(stage, Vec::new()))
            }
        }
    }

    /// Adds one outfit.
    pub(super) fn add(
        &self,
        batch: &mut Batch,
        id: &DeviceId,
        outfit: &Outfit<'_>,
        line: &Line<'_>,
    ) -> Result<(), Problem> {
        match batch {
            Batch::Tar { manifest, .. } => {
                line.write(manifest, id);
                self.entry(batch, &format!("{id}.json"), &mut |tar| {
                    serde_json::to_writer(&mut *tar, outfit)
                        .map_err(|error| Problem::failed("cannot write an outfit").because(error))?;
                    tar.push(b'\n');
                    Ok(())
                })?;
            }
            Batch::Folders(stage, done) => {
                let folder = stage.join(id.as_str());
                make_folder(&folder)?;
                let connect = outfit.connect_text()?;
                let files = [
                    ("device.key", outfit.device_key, Access::Secret),
                    ("device.pem", Some(outfit.device_pem.as_str()), Access::Public),
                    ("chain.pem", Some(outfit.chain_pem.plain.as_str()), Access::Public),
                    ("root.pem", Some(outfit.root_pem.plain.as_str()), Access::Public),
                    ("connect.json", Some(connect.as_str()), Access::Public),
                ];
                for (name, text, access) in files {
                    if let Some(text) = text {
                        let path = folder.join(name);
                        files::create_unsynced(&path, text.as_bytes(), access)
                            .map_err(|error| Problem::file("write", &path, &error))?;
                    }
                }
                done.push((id.clone(), line.fingerprint));
            }
        }
        Ok(())
    }

    /// Adds a file, and its line of the manifest, to a pack.
    pub(super) fn add_file(&self, batch: &mut Batch, name: &str, octets: &[u8], line: &str) -> Result<(), Problem> {
        if let Batch::Tar { manifest, .. } = batch {
            manifest.push_str(line);
        }
        self.entry(batch, name, &mut |tar| {
            tar.extend_from_slice(octets);
            Ok(())
        })
    }

    /// Adds an entry to a pack.
    fn entry(
        &self,
        batch: &mut Batch,
        name: &str,
        write: &mut dyn FnMut(&mut Vec<u8>) -> Result<(), Problem>,
    ) -> Result<(), Problem> {
        let Batch::Tar { packer, tar, frames, .. } = batch else {
            return Err(Problem::failed("a batch was made ready for another place"));
        };
        let header = tar.len();
        tar.resize(header + BLOCK, 0);
        let begin = tar.len();
        write(tar)?;
        let size = tar.len() - begin;
        tar[header..begin].copy_from_slice(&tar_header(name, size, 0o600, self.now)?);
        pad(tar);
        if tar.len() >= FRAME {
            frames.extend_from_slice(&packer.compress(tar).map_err(|error| compressing(&error))?);
            tar.clear();
        }
        Ok(())
    }

    /// Ends a batch.
    pub(super) fn finish(&self, batch: Batch) -> Result<Staged, Problem> {
        Ok(match batch {
            Batch::Folders(stage, done) => Staged::Folders(stage, done),
            Batch::Tar { packer, tar, frames, manifest } if let Place::Sealed { to, .. } = &self.place => {
                self.sealed(to, (packer, tar, frames), &manifest)?
            }
            Batch::Tar { manifest, .. } if manifest.is_empty() => {
                Staged::Frames { outfits: Vec::new(), manifest: Vec::new(), lines: 0 }
            }
            Batch::Tar { mut packer, tar, mut frames, manifest } => {
                let mut pack = |octets: &[u8]| packer.compress(octets).map_err(|error| compressing(&error));
                if !tar.is_empty() {
                    frames.extend(pack(&tar)?);
                }
                let lines = length(manifest.len());
                let outfits = std::mem::take(&mut *frames);
                Staged::Frames { outfits, manifest: pack(manifest.as_bytes())?, lines }
            }
        })
    }

    /// A whole pack of a batch, encrypted.
    fn sealed(
        &self,
        to: &[String],
        (mut packer, mut tar, mut frames): (zstd::bulk::Compressor<'static>, Zeroizing<Vec<u8>>, Zeroizing<Vec<u8>>),
        lines: &str,
    ) -> Result<Staged, Problem> {
        if lines.is_empty() {
            return Ok(Staged::Part(None));
        }
        let manifest = [self.head, lines].concat();
        tar.extend_from_slice(&tar_header(MANIFEST, manifest.len(), 0o644, self.now)?);
        tar.extend_from_slice(manifest.as_bytes());
        pad(&mut tar);
        // Two empty blocks end a tar archive (POSIX.1-2017, ustar).
        let end = tar.len() + 2 * BLOCK;
        tar.resize(end, 0);
        frames.extend(packer.compress(&tar).map_err(|error| compressing(&error))?);
        let sealed = cms::seal(frames, &receivers(to, self.now)?, &mut SystemRandom)
            .map_err(|error| Problem::failed("the pack was not encrypted").because(error))?;
        Ok(Staged::Part(Some(sealed)))
    }
}

fn compressing(error: &io::Error) -> Problem {
    Problem::failed("cannot compress the pack").because(error)
}

/// A batch that is being made ready.
pub(super) enum Batch {
    Tar {
        packer: zstd::bulk::Compressor<'static>,
        /// Entries that are not compressed yet. Private keys are in them.
        tar: Zeroizing<Vec<u8>>,
        frames: Zeroizing<Vec<u8>>,
        manifest: String,
    },
    Folders(PathBuf, Vec<(DeviceId, Fingerprint)>),
}

/// One line of the manifest.
pub(super) struct Line<'l> {
    pub serial: &'l tidy_warden_core::certificate::SerialNumber,
    pub fingerprint: Fingerprint,
    pub ends: &'l str,
    /// The number of the job; `None` for one that an older version began, whose manifest has no such column.
    pub run: Option<u32>,
}

impl Line<'_> {
    /// Ids, hexadecimal digits and times need no quotes.
    pub(super) fn write(&self, out: &mut String, id: &DeviceId) {
        out.push_str(id.as_str());
        out.push(',');
        data_encoding::HEXLOWER.encode_append(self.serial.octets(), out);
        out.push(',');
        data_encoding::HEXLOWER.encode_append(&self.fingerprint.0, out);
        out.push(',');
        out.push_str(self.ends);
        if let Some(run) = self.run {
            out.push(',');
            out.push_str(&run.to_string());
        }
        out.push('\n');
    }
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
                        return Err(Problem::failed(format!("{} is gone", numbered(path, number).display()))
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

/// Whether a pack was finished, but the store not told any more.
pub(super) fn is_finished(place: &Place) -> bool {
    match place {
        Place::Pack(path) | Place::Sealed { path, .. } => path.exists() && !part(path).exists(),
        Place::Folders(out) => !unfinished(out).exists(),
    }
}

/// Removes what a finished pack may have left beside it.
pub(super) fn tidy_up(place: &Place) {
    if let Place::Pack(path) = place {
        // It is in the pack, too.
        let _ = fs::remove_file(manifest_beside(path));
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

fn unfinished(out: &Path) -> PathBuf {
    out.join(".unfinished")
}

fn journal_of(out: &Path) -> PathBuf {
    unfinished(out).join("journal")
}

/// The file of a part: the first is called as the pack is, the others have their number before its extension.
fn numbered(pack: &Path, number: u64) -> PathBuf {
    if number == 1 {
        return pack.to_owned();
    }
    let mut name = pack.file_stem().unwrap_or_default().to_owned();
    name.push(format!(".{number}"));
    if let Some(extension) = pack.extension() {
        name.push(".");
        name.push(extension);
    }
    pack.with_file_name(name)
}

/// What a part is called, and what it is called until the run ends.
fn both(pack: &Path, number: u64) -> [PathBuf; 2] {
    let name = numbered(pack, number);
    let begun = part(&name);
    [name, begun]
}

fn part(pack: &Path) -> PathBuf {
    with_suffix(pack, ".part")
}

fn manifest_beside(pack: &Path) -> PathBuf {
    with_suffix(pack, ".part.manifest")
}

fn with_suffix(path: &Path, suffix: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(suffix);
    PathBuf::from(name)
}

fn make_folder(path: &Path) -> Result<(), Problem> {
    fs::DirBuilder::new().mode(0o700).create(path).map_err(|error| Problem::file("make", path, &error))
}

fn length(octets: usize) -> u64 {
    u64::try_from(octets).unwrap_or(u64::MAX)
}

/// Blocks of a tar archive, in octets.
const BLOCK: usize = 512;

fn pad(tar: &mut Vec<u8>) {
    tar.resize(tar.len().next_multiple_of(BLOCK), 0);
}

fn tar_header(name: &str, size: usize, mode: u32, now: UnixTime) -> Result<[u8; BLOCK], Problem> {
    let mut header = tar::Header::new_ustar();
    header.set_path(name).map_err(|error| Problem::failed(format!("{name} has no place in a pack")).because(error))?;
    header.set_size(length(size));
    header.set_mode(mode);
    header.set_mtime(now.0.unsigned_abs());
    header.set_entry_type(tar::EntryType::Regular);
    header.set_cksum();
    Ok(*header.as_bytes())
}

#[cfg(test)]
mod tests {
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
