//! How far a server has seen the audit record, kept in a file beside the store: a store that is put back from a backup ends
//! earlier, and with it revocations that were in force are gone. Only who remembers can notice.

use std::io;
use std::path::Path;

use data_encoding::HEXLOWER;
use serde::{Deserialize, Serialize};
use tidy_warden_core::audit::Hash;

/// The largest file read, in bytes.
const MOST: u64 = 4096;

/// A place in the audit record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Head {
    /// The number of the newest entry, 0 for none.
    pub number: i64,
    /// Its hash.
    pub hash: Hash,
}

#[derive(Serialize, Deserialize)]
struct SeenFile {
    number: i64,
    hash: String,
}

impl Head {
    /// Reads what was kept; `None` if there is no file.
    ///
    /// # Errors
    /// The file cannot be read, or holds something else.
    pub fn load(path: &Path) -> io::Result<Option<Self>> {
        let file = match std::fs::File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        let text = io::read_to_string(io::Read::take(file, MOST))?;
        let other = |_| io::Error::new(io::ErrorKind::InvalidData, "it does not hold a place in the audit record");
        let form: SeenFile = serde_json::from_str(&text).map_err(other)?;
        let hash = HEXLOWER.decode(form.hash.as_bytes()).ok().and_then(|hash| Hash::try_from(hash).ok());
        let hash = hash.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "its hash is not one"))?;
        Ok(Some(Self { number: form.number, hash }))
    }

    /// Keeps it: what was kept before stays whole until this is.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn save(&self, path: &Path) -> io::Result<()> {
        let form = SeenFile { number: self.number, hash: HEXLOWER.encode(&self.hash) };
        crate::file::replace(path, format!("{}\n", serde_json::to_string(&form)?).as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_seen_is_kept_and_rubbish_is_not_taken_for_it() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("guard.seen");
        assert_eq!(Head::load(&path).unwrap(), None);
        let head = Head { number: 42, hash: [7; 32] };
        head.save(&path).unwrap();
        Head { number: 43, ..head }.save(&path).unwrap();
        assert_eq!(Head::load(&path).unwrap(), Some(Head { number: 43, ..head }));
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 1, "nothing is left beside it");
        for rubbish in ["", "{}", "{\"number\":1,\"hash\":\"00\"}", "{\"number\":\"1\",\"hash\":\"\"}"] {
            std::fs::write(&path, rubbish).unwrap();
            assert!(Head::load(&path).is_err(), "{rubbish:?}");
        }
    }
}
