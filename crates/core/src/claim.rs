//! Claims: how a device finds its owner, and passes from one to the next.

mod code;
mod tries;
mod window;

use std::collections::BTreeMap;

use crate::device::{Barred, DeviceRecord};
use crate::id::{DeviceId, LabelName, LabelValue, OwnerId};
use crate::key::sha256;
use crate::owner::OwnerRecord;
use crate::time::{Span, UnixTime};

pub use code::{BadCode, Code, CodeDigest, LONGEST, SHORTEST};
pub use tries::{KEPT, Scope, Tries};
pub use window::{BadWindow, MAX_WINDOW, Window};

/// The longest window that a device may open by itself.
pub const LONGEST_WINDOW: Span = Span::from_seconds(600);

/// The longest time for which a person opens a device.
pub const LONGEST_OPEN: Span = Span::from_days(3_660);

/// By what devices of a kind are claimed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ClaimBy {
    /// Its id and a code.
    Code,
    /// Its id alone, once it was opened: whoever knows the id first has it.
    Name,
    /// Nobody claims one.
    Nobody,
}

impl ClaimBy {
    /// The word that settings use.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Code => "code",
            Self::Name => "name",
            Self::Nobody => "none",
        }
    }
}

/// A word that is written down, and read back.
macro_rules! words {
    ($(#[$doc:meta])* $name:ident { $($(#[$each:meta])* $variant:ident = $word:literal,)* }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum $name {
            $($(#[$each])* $variant,)*
        }

        impl $name {
            /// The word for it.
            #[must_use]
            pub fn as_str(self) -> &'static str {
                match self {
                    $(Self::$variant => $word,)*
                }
            }
        }

        impl std::str::FromStr for $name {
            type Err = String;

            fn from_str(text: &str) -> Result<Self, String> {
                match text {
                    $($word => Ok(Self::$variant),)*
                    _ => Err(format!("{text:?} is none of {}", [$($word),*].join(", "))),
                }
            }
        }
    };
}

words! {
    /// Who opened a device to be claimed.
    OpenedBy {
        /// A person of the maker's.
        Person = "person",
        /// The device, at an event: it was switched on, a button was held.
        Device = "device",
    }
}

words! {
    /// By what a device came to an owner.
    Came {
        /// A code that a person set ahead.
        Code = "code",
        /// A code that the device made.
        Window = "window",
        /// Its id alone.
        Name = "name",
        /// Its former owner handed it over.
        HandOver = "hand-over",
        /// It was listed, or came in by an admission, with its owner.
        Listed = "listed",
    }
}

words! {
    /// How a device went from an owner.
    Went {
        /// It was given up.
        GivenUp = "given-up",
        /// It was handed over to another owner.
        HandedOver = "handed-over",
        /// It was retired.
        Retired = "retired",
    }
}

/// A device that may be claimed. There is one at most of each device by a person, and one by itself; the newer counts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenClaim {
    /// The device.
    pub device: DeviceId,
    /// Who opened it.
    pub by: OpenedBy,
    /// The code; none if it is claimed by its id alone.
    pub code: Option<CodeDigest>,
    /// When it was opened.
    pub opened: UnixTime,
    /// The last second in which it may be claimed.
    pub ends: UnixTime,
}

impl OpenClaim {
    /// Whether it may be claimed at `now`. Before it was opened it may not: a clock that was put back opens nothing.
    #[must_use]
    pub fn is_open(&self, now: UnixTime) -> bool {
        (self.opened..=self.ends).contains(&now)
    }

    /// By what a device comes to an owner that claims it so.
    #[must_use]
    pub fn came(&self) -> Came {
        match (self.by, &self.code) {
            (OpenedBy::Device, _) => Came::Window,
            (OpenedBy::Person, Some(_)) => Came::Code,
            (OpenedBy::Person, None) => Came::Name,
        }
    }
}

/// The one of two that counts at `now`: what the device opened later than a person did, if it still holds, else what a person opened.
#[must_use]
pub fn that_counts(person: Option<OpenClaim>, device: Option<OpenClaim>, now: UnixTime) -> Option<OpenClaim> {
    let is_open = |claim: &OpenClaim| claim.is_open(now);
    let (person, device) = (person.filter(is_open), device.filter(is_open));
    match (person, device) {
        (Some(person), Some(device)) => Some(if device.opened >= person.opened { device } else { person }),
        (person, device) => person.or(device),
    }
}

/// The salt of a code for an id that nobody may claim: so that a try costs the same time there.
#[must_use]
pub fn salt_of_nobody(device: &DeviceId) -> [u8; 16] {
    let mut salt = [0; 16];
    salt.copy_from_slice(&sha256(format!("claim {device}").as_bytes())[..16]);
    salt
}

/// A device that its owner offers to another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HandOver {
    /// The device.
    pub device: DeviceId,
    /// Its owner.
    pub from: OwnerId,
    /// To whom it is offered.
    pub to: OwnerId,
    /// When.
    pub offered: UnixTime,
    /// The last second in which it may be taken.
    pub ends: UnixTime,
}

impl HandOver {
    /// Whether it may be taken at `now`.
    #[must_use]
    pub fn is_open(&self, now: UnixTime) -> bool {
        (self.offered..=self.ends).contains(&now)
    }

    /// Whether `owner` is whom it means. An owner may offer to any name; who was given that name later is somebody else.
    #[must_use]
    pub fn is_for(&self, owner: &OwnerRecord) -> bool {
        self.to == owner.id && owner.added <= self.offered
    }
}

/// That a device was or is an owner's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ownership {
    /// A number that grows; 0 for one that is not written yet.
    pub number: i64,
    /// The device.
    pub device: DeviceId,
    /// The owner.
    pub owner: OwnerId,
    /// By what it came.
    pub came: Came,
    /// When it came.
    pub began: UnixTime,
    /// The labels that it got with it, which go with it.
    pub place: BTreeMap<LabelName, LabelValue>,
    /// When and how it went, if it did.
    pub ended: Option<(UnixTime, Went)>,
}

/// Why a device cannot be opened to be claimed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum OpenRefusal {
    /// It has an owner.
    #[error("`{device}` has an owner: {owner}")]
    Owned {
        /// The device.
        device: DeviceId,
        /// Its owner.
        owner: OwnerId,
    },
    /// It may not be here.
    #[error("`{device}`: {barred}")]
    Barred {
        /// The device.
        device: DeviceId,
        /// Why.
        barred: Barred,
    },
}

/// Whether a device may be opened to be claimed.
///
/// # Errors
/// Why not.
pub fn may_be_opened(device: &DeviceRecord) -> Result<(), OpenRefusal> {
    let id = || device.id.clone();
    match (device.barred(), &device.owner) {
        (Some(barred), _) => Err(OpenRefusal::Barred { device: id(), barred }),
        (None, Some(owner)) => Err(OpenRefusal::Owned { device: id(), owner: owner.clone() }),
        (None, None) => Ok(()),
    }
}

/// A device as it is when an owner has it, or nobody: the labels that it got with its former owner go, those of the new place come.
/// Nothing else changes.
#[must_use]
pub fn passed(
    device: &DeviceRecord,
    former: &BTreeMap<LabelName, LabelValue>,
    to: Option<&OwnerId>,
    place: &BTreeMap<LabelName, LabelValue>,
) -> DeviceRecord {
    let mut after = device.clone();
    // One that a person changed since is a person's.
    after.labels.retain(|name, value| former.get(name) != Some(value));
    after.labels.extend(place.iter().map(|(name, value)| (name.clone(), value.clone())));
    after.owner = to.cloned();
    after
}

#[cfg(test)]
mod tests {
    use super::*;

    fn claim(by: OpenedBy, opened: i64, ends: i64) -> OpenClaim {
        let code = Some(CodeDigest { salt: [1; 16], digest: [2; 32] });
        OpenClaim { device: "gg-1".parse().unwrap(), by, code, opened: UnixTime(opened), ends: UnixTime(ends) }
    }

    #[test]
    fn the_later_opening_counts_while_it_holds() {
        let at = |now| {
            let both = that_counts(
                Some(claim(OpenedBy::Person, 10, 100)),
                Some(claim(OpenedBy::Device, 50, 60)),
                UnixTime(now),
            );
            both.map(|claim| claim.by)
        };
        for (now, want) in [
            (9, None),
            (10, Some(OpenedBy::Person)),
            (50, Some(OpenedBy::Device)),
            (60, Some(OpenedBy::Device)),
            (61, Some(OpenedBy::Person)),
            (101, None),
        ] {
            assert_eq!(at(now), want, "{now}");
        }
        let later =
            that_counts(Some(claim(OpenedBy::Person, 55, 100)), Some(claim(OpenedBy::Device, 50, 60)), UnixTime(56));
        assert_eq!(later.map(|claim| claim.by), Some(OpenedBy::Person), "opened again replaces the code");
    }

    #[test]
    fn only_the_labels_of_a_place_come_and_go_with_an_owner() {
        let labels = |all: &[(&str, &str)]| -> BTreeMap<LabelName, LabelValue> {
            all.iter().map(|(name, value)| (name.parse().unwrap(), value.parse().unwrap())).collect()
        };
        let mut device = DeviceRecord::new("gg-1".parse().unwrap(), "gauge".parse().unwrap(), UnixTime(1));
        device.labels = labels(&[("batch", "7"), ("site", "mole")]);
        device.owner = "mole-west".parse().ok();
        let place = labels(&[("site", "mole")]);
        let none = BTreeMap::new();
        let free = passed(&device, &place, None, &none);
        assert_eq!((&free.labels, &free.owner), (&labels(&[("batch", "7")]), &None));
        let to: OwnerId = "ivo".parse().unwrap();
        let other = passed(&device, &place, Some(&to), &labels(&[("site", "ivo"), ("hall", "a")]));
        assert_eq!(other.labels, labels(&[("batch", "7"), ("hall", "a"), ("site", "ivo")]));
        assert_eq!(other.owner, Some(to));
        device.labels = labels(&[("site", "depot")]);
        assert_eq!(passed(&device, &place, None, &none).labels, labels(&[("site", "depot")]), "a person moved it");
    }

    #[test]
    fn words_read_back() {
        for word in [Came::Code, Came::Window, Came::Name, Came::HandOver, Came::Listed] {
            assert_eq!(word.as_str().parse(), Ok(word));
        }
        for word in [Went::GivenUp, Went::HandedOver, Went::Retired] {
            assert_eq!(word.as_str().parse(), Ok(word));
        }
        assert_eq!("person".parse(), Ok(OpenedBy::Person));
        assert!("nobody".parse::<OpenedBy>().unwrap_err().contains("person, device"));
    }
}
