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

/// How what a store tells stands to what was seen of it before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Follows {
    /// It goes on where it was.
    On,
    /// It lacks what was seen, and nobody accepted that; in words what is missing.
    Behind(String),
    /// It lacked what was seen, and a person accepted that.
    Accepted,
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

    /// How a record that ends with the entry `ends` stands to this: `there` is the hash of its entry with this number, if it has one, and
    /// `given_up` the end that a person accepted to lack. Only this very end: an acceptance of another one says nothing of what was
    /// seen since.
    #[must_use]
    pub fn followed_by(self, ends: i64, there: Option<Hash>, given_up: Option<(i64, Hash)>) -> Follows {
        let Self { number, hash } = self;
        if number == 0 || (ends >= number && there == Some(hash)) {
            return Follows::On;
        }
        if given_up == Some((number, hash)) {
            return Follows::Accepted;
        }
        let what = match ends < number {
            true => format!("its record ends with entry {ends}, and entry {number} was seen"),
            false => format!("its entry {number} is not the one that was seen"),
        };
        // For a person who accepts it where the folder with this is not.
        Follows::Behind(format!("{what} (seen: {number}:{})", HEXLOWER.encode(&hash)))
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
    fn a_record_goes_on_from_what_was_seen_or_a_person_said_that_it_need_not() {
        let (seen, other) = (Head { number: 9, hash: [9; 32] }, [1; 32]);
        let none = Head { number: 0, hash: [0; 32] };
        assert_eq!(none.followed_by(0, None, None), Follows::On, "nothing was seen yet");
        for ends in [9, 10, 1_000] {
            assert_eq!(seen.followed_by(ends, Some([9; 32]), None), Follows::On);
        }
        for (ends, there, given_up, what) in [
            (8, None, None, "ends with entry 8, and entry 9 was seen (seen: 9:0909"),
            (9, Some(other), None, "its entry 9 is not the one that was seen"),
            (20, Some(other), None, "its entry 9 is not"),
            // Somebody accepted another end, earlier or later: that was before this was seen, or of a record that this is none of.
            (8, None, Some((7, [9; 32])), "entry 9 was seen"),
            (8, None, Some((12, [9; 32])), "entry 9 was seen"),
            (8, None, Some((9, other)), "entry 9 was seen"),
        ] {
            let Follows::Behind(told) = seen.followed_by(ends, there, given_up) else { panic!("{ends} {given_up:?}") };
            assert!(told.contains(what), "{told}");
        }
        assert_eq!(seen.followed_by(8, None, Some((9, [9; 32]))), Follows::Accepted);
        assert_eq!(seen.followed_by(9, Some(other), Some((9, [9; 32]))), Follows::Accepted);
    }

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
