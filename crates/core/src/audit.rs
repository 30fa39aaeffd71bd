//! The audit record: one entry for each change, each bound to the one before it by a digest.
//!
//! `hash(n) = SHA-256("tidy-warden audit 1" || number || at || actor || act || subject || because || detail || hash(n-1))`,
//! each text as UTF-8 behind its length in 8 octets, numbers as decimal text. The entry before the first has 32
//! zero octets as its hash. So a change, a removal or a reordering shows at the first entry that it touches.

mod replay;
mod tree;

pub use replay::{DeviceStanding, Replay};
pub use tree::Tree;

use aws_lc_rs::digest::{Context, SHA256};

use crate::time::UnixTime;

/// The digest of an entry.
pub type Hash = [u8; 32];

/// The hash that stands before the first entry.
pub const GENESIS: Hash = [0; 32];

const DOMAIN: &str = "tidy-warden audit 1";

/// What is recorded of one change, before it has its place in the chain.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Draft {
    /// When, by the ward's clock.
    pub at: UnixTime,
    /// Who: the account of the person or process that acted.
    pub actor: String,
    /// What was done, a word such as `device.add`.
    pub act: &'static str,
    /// To whom or what: an id, or a count for bulk acts.
    pub subject: String,
    /// The reason given with `--because`; empty if none was.
    pub because: String,
    /// The facts of the change as a JSON object; never a secret.
    pub detail: String,
}

/// An entry in its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its place, from 1 on without gaps.
    pub number: i64,
    /// When, by the ward's clock.
    pub at: UnixTime,
    /// Who acted.
    pub actor: String,
    /// What was done.
    pub act: String,
    /// To whom or what.
    pub subject: String,
    /// The reason given, or empty.
    pub because: String,
    /// The facts of the change as a JSON object.
    pub detail: String,
    /// The hash of the entry before it.
    pub previous: Hash,
    /// Its own hash.
    pub hash: Hash,
}

impl Entry {
    /// Puts `draft` behind the entry with number `number - 1` and hash `previous`.
    #[must_use]
    pub fn seal(draft: Draft, number: i64, previous: Hash) -> Self {
        let Draft { at, actor, act, subject, because, detail } = draft;
        let act = act.to_owned();
        let mut entry = Self { number, at, actor, act, subject, because, detail, previous, hash: GENESIS };
        entry.hash = entry.computed();
        entry
    }

    /// The hash that this entry's content gives.
    #[must_use]
    pub fn computed(&self) -> Hash {
        let mut context = Context::new(&SHA256);
        let mut text = |text: &str| {
            context.update(&u64::try_from(text.len()).unwrap_or(u64::MAX).to_be_bytes());
            context.update(text.as_bytes());
        };
        text(DOMAIN);
        text(&self.number.to_string());
        text(&self.at.0.to_string());
        for part in [&self.actor, &self.act, &self.subject, &self.because, &self.detail] {
            text(part);
        }
        context.update(&self.previous);
        let mut out = GENESIS;
        out.copy_from_slice(context.finish().as_ref());
        out
    }
}

/// Where and how a chain is broken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Broken {
    /// An entry's content does not give its hash.
    #[error("entry {number} was changed: its content does not give its hash")]
    Changed {
        /// The entry.
        number: i64,
    },
    /// Entries are missing before this one.
    #[error("entries {first} to {last} are missing")]
    Missing {
        /// The first missing number.
        first: i64,
        /// The last missing number.
        last: i64,
    },
    /// A number that does not come after the one before it.
    #[error("entry {number} stands where entry {expected} should be: entries were reordered or put in")]
    Order {
        /// The number found.
        number: i64,
        /// The number due.
        expected: i64,
    },
    /// An entry does not follow from the one before it.
    #[error("entry {number} does not follow from entry {before}: one of them was replaced", before = number - 1)]
    Unlinked {
        /// The later of the two.
        number: i64,
    },
    /// The chain ends before (or with another hash than) the end that the store noted.
    #[error(
        "the record ends with entry {found}, but {noted} entries were written: the last ones were removed or replaced"
    )]
    Truncated {
        /// The last number found, 0 if there is none.
        found: i64,
        /// The number noted.
        noted: i64,
    },
}

/// Follows a chain entry by entry; memory does not grow with its length.
#[derive(Debug, Clone)]
pub struct Verifier {
    number: i64,
    hash: Hash,
}

impl Default for Verifier {
    fn default() -> Self {
        Self { number: 0, hash: GENESIS }
    }
}

impl Verifier {
    /// Takes the next entry.
    ///
    /// # Errors
    /// How it breaks the chain. The verifier goes on from this entry, so that all breaks can be listed.
    pub fn follow(&mut self, entry: &Entry) -> Result<(), Broken> {
        let expected = self.number + 1;
        let before = self.hash;
        self.number = entry.number;
        self.hash = entry.hash;
        if entry.number > expected {
            return Err(Broken::Missing { first: expected, last: entry.number - 1 });
        }
        if entry.number < expected {
            return Err(Broken::Order { number: entry.number, expected });
        }
        if entry.computed() != entry.hash {
            return Err(Broken::Changed { number: entry.number });
        }
        if entry.previous != before {
            return Err(Broken::Unlinked { number: entry.number });
        }
        Ok(())
    }

    /// Holds the end reached against the end that was noted with the last entry.
    ///
    /// # Errors
    /// The chain ends elsewhere.
    pub fn finish(self, noted_number: i64, noted_hash: Hash) -> Result<Self, Broken> {
        if self.number == noted_number && self.hash == noted_hash {
            return Ok(self);
        }
        Err(Broken::Truncated { found: self.number, noted: noted_number })
    }

    /// The number of the last entry taken, 0 if there was none.
    #[must_use]
    pub fn number(&self) -> i64 {
        self.number
    }

    /// The hash of the last entry taken.
    #[must_use]
    pub fn hash(&self) -> Hash {
        self.hash
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn chain(len: i64) -> Vec<Entry> {
        let mut previous = GENESIS;
        (1..=len)
            .map(|number| {
                let draft = Draft {
                    at: UnixTime(1_000 + number),
                    actor: "ada".into(),
                    act: "device.add",
                    subject: format!("wv-{number}"),
                    because: String::new(),
                    detail: "{}".into(),
                };
                let entry = Entry::seal(draft, number, previous);
                previous = entry.hash;
                entry
            })
            .collect()
    }

    fn broken(entries: &[Entry], noted: &Entry) -> Vec<Broken> {
        let mut verifier = Verifier::default();
        let mut found: Vec<Broken> = entries.iter().filter_map(|entry| verifier.follow(entry).err()).collect();
        found.extend(verifier.finish(noted.number, noted.hash).err());
        found
    }

    #[test]
    fn a_whole_chain_holds_and_each_kind_of_damage_is_named() {
        let whole = chain(9);
        let end = whole[8].clone();
        assert_eq!(broken(&whole, &end), []);

        let mut changed = whole.clone();
        changed[3].subject = "wv-9999".into();
        assert_eq!(broken(&changed, &end), [Broken::Changed { number: 4 }]);

        let mut removed = whole.clone();
        removed.drain(4..6);
        assert_eq!(broken(&removed, &end), [Broken::Missing { first: 5, last: 6 }]);

        assert_eq!(broken(&whole[..7], &end), [Broken::Truncated { found: 7, noted: 9 }]);

        let mut swapped = whole.clone();
        swapped.swap(1, 2);
        assert!(matches!(broken(&swapped, &end)[0], Broken::Missing { first: 2, last: 2 }));

        let mut replaced = whole.clone();
        replaced[3].subject = "wv-9999".into();
        replaced[3].hash = replaced[3].computed();
        assert_eq!(broken(&replaced, &end), [Broken::Unlinked { number: 5 }]);
    }

    proptest! {
        #[test]
        fn any_single_tampering_is_found(at in 0usize..12, what in 0usize..8, text in "[a-z]{1,8}") {
            let whole = chain(12);
            let end = whole[11].clone();
            let mut entries = whole.clone();
            match what {
                0 => entries[at].actor = text,
                1 => entries[at].act = text,
                2 => entries[at].because = text,
                3 => entries[at].detail = text,
                4 => entries[at].at = UnixTime(5),
                5 => { entries.remove(at); }
                6 => { let other = (at + 5) % 12; entries.swap(at, other); }
                _ => { let copy = entries[at].clone(); entries.insert(at, copy); }
            }
            if entries != whole {
                prop_assert!(!broken(&entries, &end).is_empty());
            }
        }

        #[test]
        fn moving_text_between_neighbouring_fields_changes_the_hash(a in "[a-c]{0,4}", b in "[a-c]{0,4}") {
            let mut first = chain(1).remove(0);
            let mut second = first.clone();
            (first.subject, first.because) = (format!("{a}{b}"), String::new());
            (second.subject, second.because) = (a, b.clone());
            prop_assert_eq!(first.computed() == second.computed(), b.is_empty());
        }
    }
}
