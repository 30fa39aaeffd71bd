//! A batch's outfits are made ready: frames for a pack, a whole pack that is encrypted, or folders beside their places.

use std::io;
use std::path::PathBuf;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::cms;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use zeroize::Zeroizing;

use super::place::{Place, make_folder, receivers, unfinished};
use crate::clock::SystemRandom;
use crate::files::{self, Access};
use crate::issue::press::Outfit;
use crate::problem::Problem;

/// zstd's fastest regular level: half of an outfit is random and does not shrink, the rest is the same in every outfit.
pub(super) const LEVEL: i32 = 1;

/// How many octets are compressed at a time: a frame of its own each, so that the compressor needs no window over what went
/// before. A pack of 100,000 grows from 36.0 to 36.9 MB by it.
const FRAME: usize = 512 * 1024;

/// The manifest in a pack.
pub(super) const MANIFEST: &str = "manifest.csv";

/// The columns of the manifest of outfits.
pub(super) const MANIFEST_HEAD: &str = "id,serial,fingerprint,ends,run\n";

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

pub(super) fn length(octets: usize) -> u64 {
    u64::try_from(octets).unwrap_or(u64::MAX)
}

/// Blocks of a tar archive, in octets.
pub(super) const BLOCK: usize = 512;

fn pad(tar: &mut Vec<u8>) {
    tar.resize(tar.len().next_multiple_of(BLOCK), 0);
}

pub(super) fn tar_header(name: &str, size: usize, mode: u32, now: UnixTime) -> Result<[u8; BLOCK], Problem> {
    let mut header = tar::Header::new_ustar();
    header.set_path(name).map_err(|error| Problem::failed(format!("{name} has no place in a pack")).because(error))?;
    header.set_size(length(size));
    header.set_mode(mode);
    header.set_mtime(now.0.unsigned_abs());
    header.set_entry_type(tar::EntryType::Regular);
    header.set_cksum();
    Ok(*header.as_bytes())
}
