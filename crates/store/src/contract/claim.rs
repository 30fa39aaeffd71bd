//! Owners, and devices that may be claimed, are handed over, or were somebody's.

use tidy_warden_core::claim::{HandOver, OpenClaim, OpenedBy, Ownership, Scope, Tries};
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// What an owner signs in with at the desk's page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum PassKind {
    /// A link, which opens one session.
    Link,
    /// A session, which a cookie holds.
    Session,
}

impl PassKind {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Link => "link",
            Self::Session => "session",
        }
    }
}

impl std::str::FromStr for PassKind {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text {
            "link" => Ok(Self::Link),
            "session" => Ok(Self::Session),
            _ => Err("expected link or session"),
        }
    }
}

/// A link or a session of an owner.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnerPass {
    /// SHA-256 of its 256 random bits.
    pub digest: [u8; 32],
    /// What it is.
    pub kind: PassKind,
    /// Whose.
    pub owner: OwnerId,
    /// When it was made.
    pub made: UnixTime,
    /// The last second in which it is taken.
    pub ends: UnixTime,
    /// When a link was used; it is of no use any more.
    pub used: Option<UnixTime>,
}

/// Questions about owners and claims.
pub trait ReadClaims {
    /// An owner by name, retired ones among them.
    fn owner(&self, id: &OwnerId) -> Result<Option<OwnerRecord>, StoreError>;

    /// Up to `limit` owners behind a name, in the order of their names; from the first with the empty text.
    fn owners(&self, after: &str, limit: usize) -> Result<Vec<OwnerRecord>, StoreError>;

    /// Up to `limit` devices of an owner behind an id, in the order of their ids, retired ones left out.
    fn owned(&self, owner: &OwnerId, after: &str, limit: usize) -> Result<Vec<DeviceId>, StoreError>;

    /// How many devices an owner has, retired ones left out.
    fn count_owned(&self, owner: &OwnerId) -> Result<u64, StoreError>;

    /// How many admissions that can be used at `now` name an owner with which their device comes in. All that can be used are looked at:
    /// this is for what is done once to an owner.
    fn count_admitted(&self, owner: &OwnerId, now: UnixTime) -> Result<u64, StoreError>;

    /// How a device was opened by a person, or by itself, if it was; that may be over.
    fn claim(&self, device: &DeviceId, by: OpenedBy) -> Result<Option<OpenClaim>, StoreError>;

    /// Up to `limit` devices that were opened so, behind an id, in the order of their ids.
    fn claims(&self, by: OpenedBy, after: &str, limit: usize) -> Result<Vec<OpenClaim>, StoreError>;

    /// To whom a device is offered; that may be over.
    fn hand_over(&self, device: &DeviceId) -> Result<Option<HandOver>, StoreError>;

    /// Up to `limit` devices that are offered, behind an id, in the order of their ids; to one owner, if one is named.
    fn hand_overs(&self, to: Option<&OwnerId>, after: &str, limit: usize) -> Result<Vec<HandOver>, StoreError>;

    /// Up to `limit` owners of a device, the newest first.
    fn ownerships(&self, device: &DeviceId, limit: usize) -> Result<Vec<Ownership>, StoreError>;

    /// Wrong tries.
    fn tries(&self, scope: Scope, name: &str) -> Result<Option<Tries>, StoreError>;

    /// A link or a session, by SHA-256 of its random bits.
    fn owner_pass(&self, digest: &[u8; 32]) -> Result<Option<OwnerPass>, StoreError>;

    /// How many links or sessions of an owner are kept.
    fn count_owner_passes(&self, owner: &OwnerId, kind: PassKind) -> Result<u64, StoreError>;
}

/// Rows of owners and claims.
pub trait WriteClaims: ReadClaims {
    /// Writes an owner in the place of what there is under its name.
    fn put_owner(&mut self, owner: &OwnerRecord) -> Result<(), StoreError>;

    /// Writes that a device was opened, in the place of what the same opened before.
    fn put_claim(&mut self, claim: &OpenClaim) -> Result<(), StoreError>;

    /// Nobody can claim a device any more, however it was opened; or any device.
    fn drop_claims(&mut self, of: Option<&DeviceId>) -> Result<(), StoreError>;

    /// Writes to whom a device is offered, in the place of what there is.
    fn put_hand_over(&mut self, offer: &HandOver) -> Result<(), StoreError>;

    /// A device is offered to nobody any more; or none is.
    fn drop_hand_overs(&mut self, of: Option<&DeviceId>) -> Result<(), StoreError>;

    /// Nothing is offered to an owner any more.
    fn drop_hand_overs_to(&mut self, owner: &OwnerId) -> Result<(), StoreError>;

    /// Writes whose a device is or was; a number of 0 gets the next one there is.
    fn put_ownership(&mut self, ownership: &Ownership) -> Result<(), StoreError>;

    /// Writes wrong tries in the place of those that there are; none takes them away.
    fn put_tries(&mut self, scope: Scope, name: &str, tries: Option<Tries>) -> Result<(), StoreError>;

    /// Takes the wrong tries of every owner at a device away.
    fn drop_tries_at(&mut self, device: &DeviceId) -> Result<(), StoreError>;

    /// Takes the wrong tries of an owner away, at whatever device.
    fn drop_tries_of(&mut self, owner: &OwnerId) -> Result<(), StoreError>;

    /// Takes up to `limit` away of those that were tried last before `before`.
    fn drop_old_tries(&mut self, before: UnixTime, limit: usize) -> Result<(), StoreError>;

    /// Writes a link or a session in the place of what there is with its digest.
    fn put_owner_pass(&mut self, pass: &OwnerPass) -> Result<(), StoreError>;

    /// Takes one away.
    fn drop_owner_pass(&mut self, digest: &[u8; 32]) -> Result<(), StoreError>;

    /// Takes all of an owner away.
    fn drop_owner_passes(&mut self, owner: &OwnerId) -> Result<(), StoreError>;

    /// Takes all of all owners away, and lets none of their tokens in that was made before `from`.
    fn sign_owners_out(&mut self, from: UnixTime) -> Result<(), StoreError>;

    /// Takes up to `limit` away that ended before `before`.
    fn drop_old_owner_passes(&mut self, before: UnixTime, limit: usize) -> Result<(), StoreError>;
}

/// The name under which the tries of an owner at an id are counted: neither can have a blank.
pub(crate) fn pair(owner: &OwnerId, device: &DeviceId) -> String {
    format!("{owner} {device}")
}

/// The owner and the device of such a name.
pub(crate) fn halves(scope: Scope, name: &str) -> (Option<&str>, Option<&str>) {
    match scope {
        Scope::Pair => name.split_once(' ').unzip(),
        Scope::Owner => (Some(name), None),
        Scope::Device => (None, Some(name)),
        Scope::Source => (None, None),
    }
}
