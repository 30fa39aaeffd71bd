//! Where a bulk run puts its outfits, and how the files and folders there are called until it ends.

use std::fs;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::cms::Receiver;
use tidy_warden_core::time::UnixTime;

use crate::problem::Problem;

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
pub(super) fn receivers(to: &[String], now: UnixTime) -> Result<Vec<Receiver>, Problem> {
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

pub(super) fn unfinished(out: &Path) -> PathBuf {
    out.join(".unfinished")
}

pub(super) fn journal_of(out: &Path) -> PathBuf {
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
pub(super) fn both(pack: &Path, number: u64) -> [PathBuf; 2] {
    let name = numbered(pack, number);
    let begun = part(&name);
    [name, begun]
}

pub(super) fn part(pack: &Path) -> PathBuf {
    with_suffix(pack, ".part")
}

pub(super) fn manifest_beside(pack: &Path) -> PathBuf {
    with_suffix(pack, ".part.manifest")
}

fn with_suffix(path: &Path, suffix: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(suffix);
    PathBuf::from(name)
}

pub(super) fn make_folder(path: &Path) -> Result<(), Problem> {
    fs::DirBuilder::new().mode(0o700).create(path).map_err(|error| Problem::file("make", path, &error))
}
