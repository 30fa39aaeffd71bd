//! Owners: those who buy devices and claim them, and the places where each may put them.

mod token;

use std::collections::{BTreeMap, BTreeSet};

use aws_lc_rs::hmac;

use crate::device::Note;
use crate::id::{LabelName, LabelValue, OwnerId};
use crate::time::UnixTime;

pub use token::{
    BadOwnerToken, LONGEST_TOKEN, MAX_TOKEN, OWNER_TOKEN_TYPE, OwnerScope, OwnerToken, OwnerTokenTerms, owner_token,
};

/// The most places of one owner.
pub const MOST_PLACES: usize = 1_000;

/// A label with the value that stands for a place, such as `site=ossel`.
pub type Place = (LabelName, LabelValue);

/// What is recorded of one owner.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnerRecord {
    /// Its name, which the `owner` field of its devices bears.
    pub id: OwnerId,
    /// How people reach it; the record of changes has only a keyed digest, so that it can be taken away for good.
    pub contact: Option<Note>,
    /// The key of that digest, which goes with the contact: without it nobody can try out contacts against the record.
    pub salt: [u8; 16],
    /// The places among which it may choose.
    pub places: BTreeSet<Place>,
    /// When it was added.
    pub added: UnixTime,
    /// If it was retired: since when.
    pub retired: Option<UnixTime>,
    /// Links, sessions and tokens of the owner that were made before this moment no longer count.
    pub signed_in_from: UnixTime,
}

/// Why a device cannot be put where an owner wants it. It depends on the owner and the wish alone, never on any device.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PlaceRefusal {
    /// Not among the places of the owner.
    #[error("`{owner}` has no place {name}={value}{}", listed(choices))]
    NotIts {
        /// The owner.
        owner: OwnerId,
        /// The label of the place.
        name: LabelName,
        /// Its value.
        value: LabelValue,
        /// What it may choose.
        choices: Vec<Place>,
    },
    /// There are several, and none was chosen.
    #[error("`{owner}` has several places for `{name}`{}", listed(choices))]
    Unchosen {
        /// The owner.
        owner: OwnerId,
        /// The label of the places.
        name: LabelName,
        /// What it may choose.
        choices: Vec<Place>,
    },
    /// Two for one label.
    #[error("two places were given for `{name}`")]
    Twice {
        /// The label.
        name: LabelName,
    },
}

/// The first few, for a message.
fn listed(choices: &[Place]) -> String {
    let mut first: Vec<String> = choices.iter().take(10).map(|(name, value)| format!("{name}={value}")).collect();
    if choices.len() > first.len() {
        first.push("...".to_owned());
    }
    if first.is_empty() { "; it has none at all".to_owned() } else { format!("; it has {}", first.join(", ")) }
}

impl OwnerRecord {
    /// An owner that is added at `added`, without a contact and without places.
    #[must_use]
    pub fn new(id: OwnerId, added: UnixTime) -> Self {
        let places = BTreeSet::new();
        Self { id, contact: None, salt: [0; 16], places, added, retired: None, signed_in_from: UnixTime(0) }
    }

    /// The keyed digest of a contact that the record of changes has: HMAC-SHA256 under a random key of 16 octets.
    #[must_use]
    pub fn contact_digest(&self) -> Option<[u8; 32]> {
        let contact = self.contact.as_ref()?;
        let tag = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, &self.salt), contact.as_str().as_bytes());
        tag.as_ref().try_into().ok()
    }

    /// The labels that a device of this owner gets, if these places are wanted. A label for which the owner has one place only need not be
    /// said; no label other than those of its places is ever given.
    ///
    /// # Errors
    /// A place is not the owner's, or it has to choose.
    pub fn place(&self, wanted: &[Place]) -> Result<BTreeMap<LabelName, LabelValue>, PlaceRefusal> {
        let choices = |name: &LabelName| -> Vec<Place> {
            self.places.iter().filter(|(known, _)| known == name).cloned().collect()
        };
        let mut chosen = BTreeMap::new();
        for (name, value) in wanted {
            if !self.places.contains(&(name.clone(), value.clone())) {
                let (owner, name, value) = (self.id.clone(), name.clone(), value.clone());
                let its = choices(&name);
                let choices = if its.is_empty() { self.places.iter().cloned().collect() } else { its };
                return Err(PlaceRefusal::NotIts { owner, name, value, choices });
            }
            if chosen.insert(name.clone(), value.clone()).is_some() {
                return Err(PlaceRefusal::Twice { name: name.clone() });
            }
        }
        let names: BTreeSet<&LabelName> = self.places.iter().map(|(name, _)| name).collect();
        for name in names {
            if chosen.contains_key(name) {
                continue;
            }
            match choices(name).as_slice() {
                [(name, value)] => drop(chosen.insert(name.clone(), value.clone())),
                many => {
                    let (owner, name) = (self.id.clone(), name.clone());
                    return Err(PlaceRefusal::Unchosen { owner, name, choices: many.to_vec() });
                }
            }
        }
        Ok(chosen)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn owner(places: &[&str]) -> OwnerRecord {
        OwnerRecord {
            contact: "Ann, +41 00 000".parse().ok(),
            salt: [1; 16],
            places: places.iter().map(|text| place(text)).collect(),
            ..OwnerRecord::new("mole-west".parse().unwrap(), UnixTime(10))
        }
    }

    fn place(text: &str) -> Place {
        let (name, value) = text.split_once('=').unwrap();
        (name.parse().unwrap(), value.parse().unwrap())
    }

    #[test]
    fn an_owner_chooses_among_its_places_and_sets_nothing_else() {
        let one = &["site=mole"][..];
        let some = &["site=mole", "site=mole-north", "hall=a"][..];
        for (places, wanted, want) in [
            (&[][..], &[][..], Ok("")),
            (&[], &["site=mole"], Err("`mole-west` has no place site=mole; it has none at all")),
            (one, &[], Ok("site=mole")),
            (one, &["site=mole"], Ok("site=mole")),
            (one, &["site=ossel"], Err("`mole-west` has no place site=ossel; it has site=mole")),
            (one, &["owner=mole"], Err("`mole-west` has no place owner=mole; it has site=mole")),
            (some, &[], Err("`mole-west` has several places for `site`; it has site=mole, site=mole-north")),
            (some, &["site=mole-north"], Ok("hall=a site=mole-north")),
            (some, &["site=mole", "site=mole-north"], Err("two places were given for `site`")),
            (some, &["site=mole", "site=mole"], Err("two places were given for `site`")),
            (some, &["hall=b"], Err("`mole-west` has no place hall=b; it has hall=a")),
        ] {
            let wanted: Vec<Place> = wanted.iter().map(|text| place(text)).collect();
            let got = owner(places).place(&wanted).map_err(|refusal| refusal.to_string()).map(|chosen| {
                let all: Vec<String> = chosen.iter().map(|(name, value)| format!("{name}={value}")).collect();
                all.join(" ")
            });
            assert_eq!(got.as_deref().map_err(String::as_str), want, "{places:?} {wanted:?}");
        }
    }

    #[test]
    fn without_its_key_nobody_can_try_out_contacts_against_their_digest() {
        let one = owner(&[]);
        let other = OwnerRecord { salt: [2; 16], ..one.clone() };
        assert!(one.contact_digest().is_some() && one.contact_digest() != other.contact_digest());
        assert_eq!(OwnerRecord { contact: None, ..one }.contact_digest(), None);
    }
}
