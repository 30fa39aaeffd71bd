//! Devices that called and that nobody announced: they wait until a person looks and says yes.
//!
//! What identifies one is its key: the same key is the same caller. A person compares the code of that key with what the device shows, so
//! that nobody else is let in in its place.

use std::collections::BTreeMap;

use serde_json::json;

use crate::fact::{Fact, FactName};
use crate::id::{DeviceId, KindName};
use crate::time::{Span, UnixTime};

/// What the ids of those that wait begin with. No device is given such an id.
pub const PREFIX: &str = "asking-";

/// How many may wait at once.
pub const MOST: u64 = 1_000;

/// How many of them may come from one network.
pub const MOST_OF_SOURCE: u64 = 50;

/// How many are remembered, those that were refused among them.
pub const MOST_REMEMBERED: u64 = 10_000;

/// How long one waits. It is not turned away before, and forgotten then.
pub const WAITS: Span = Span::from_days(7);

/// One that waits, or was refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AskingRecord {
    /// SHA-256 of the SubjectPublicKeyInfo of its key, which it has proved to hold.
    pub key_digest: [u8; 32],
    /// The kind that it came as.
    pub kind: KindName,
    /// What it says of itself.
    pub facts: BTreeMap<FactName, Fact>,
    /// The network that it came from.
    pub from: String,
    /// When it came.
    pub since: UnixTime,
    /// Its last second.
    pub until: UnixTime,
    /// When a person refused it.
    pub refused: Option<UnixTime>,
}

impl AskingRecord {
    /// Its id until it is given another: the first digits of its key's digest.
    ///
    /// # Errors
    /// None: the digits always make a name.
    pub fn id(&self) -> Result<DeviceId, crate::id::BadName> {
        let digits = data_encoding::HEXLOWER.encode(&self.key_digest);
        format!("{PREFIX}{}", digits.get(..12).unwrap_or_default()).parse()
    }

    /// The code by which a person compares its key with what the device shows.
    #[must_use]
    pub fn code(&self) -> String {
        code(&self.key_digest)
    }

    /// Whether a person may still say something of it at `now`.
    #[must_use]
    pub fn is_waiting(&self, now: UnixTime) -> bool {
        self.refused.is_none() && self.until >= now
    }

    /// What it said, for the audit record.
    #[must_use]
    pub fn described(&self) -> serde_json::Value {
        let facts: serde_json::Map<_, _> =
            self.facts.values().map(|fact| (fact.name().to_string(), json!(fact.value()))).collect();
        json!({
            "kind": self.kind, "facts": facts, "from": self.from, "ends": self.until,
            "key_sha256": data_encoding::HEXLOWER.encode(&self.key_digest),
        })
    }
}

/// Six groups of four characters for a key: 120 bits of its digest (as RFC 6920 section 9.4 truncates it), in base32 (RFC 4648).
#[must_use]
pub fn code(key_digest: &[u8; 32]) -> String {
    let text = data_encoding::BASE32_NOPAD.encode(key_digest.get(..15).unwrap_or_default()).to_ascii_lowercase();
    let groups: Vec<&str> = (0..6).filter_map(|group| text.get(group * 4..group * 4 + 4)).collect();
    groups.join("-")
}

/// Whether what somebody typed is the code of a key: upper case, blanks and missing hyphens do not matter, anything else does.
#[must_use]
pub fn is_code(key_digest: &[u8; 32], typed: &str) -> bool {
    let plain = |text: &str| -> String {
        text.chars().filter(|c| *c != '-' && !c.is_whitespace()).map(|c| c.to_ascii_lowercase()).collect()
    };
    plain(typed) == plain(&code(key_digest))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_is_of_one_key_and_reads_back_as_people_type_it() {
        let (one, other) = ([7; 32], [8; 32]);
        let text = code(&one);
        assert_eq!((text.len(), text.split('-').count()), (29, 6));
        assert!(text.split('-').all(|group| group.len() == 4));
        for typed in [text.clone(), text.to_uppercase(), text.replace('-', ""), text.replace('-', " ")] {
            assert!(is_code(&one, &typed) && !is_code(&other, &typed), "{typed}");
        }
        for wrong in ["", &text[..28], &format!("{text}a"), &text.replacen(&text[..1], "9", 1)] {
            assert!(!is_code(&one, wrong), "{wrong}");
        }
        // What differs behind the first 120 bits is not compared; nobody finds another key with the same.
        let mut late = one;
        late[20] = 0;
        assert_eq!(code(&late), text);
    }

    #[test]
    fn one_waits_until_its_end_or_until_it_is_refused() {
        let asking = AskingRecord {
            key_digest: [0xab; 32],
            kind: "gauge".parse().unwrap(),
            facts: BTreeMap::new(),
            from: "192.0.2.0/24".into(),
            since: UnixTime(10),
            until: UnixTime(20),
            refused: None,
        };
        assert_eq!(asking.id().unwrap().as_str(), "asking-abababababab");
        assert!(asking.is_waiting(UnixTime(20)) && !asking.is_waiting(UnixTime(21)));
        assert!(!AskingRecord { refused: Some(UnixTime(11)), ..asking.clone() }.is_waiting(UnixTime(12)));
        assert_eq!(asking.described()["kind"], "gauge");
    }
}
