//! Devices that called and wait for a person, and children that their gateways brought in.

use tidy_warden_core::asking::AskingRecord;
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::introduced::IntroducedRecord;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// Questions about those that wait.
pub trait ReadAsking {
    /// The one with a key, by SHA-256 of its SubjectPublicKeyInfo.
    fn asking(&self, key_digest: &[u8; 32]) -> Result<Option<AskingRecord>, StoreError>;

    /// Up to `limit` of them, those that were refused among them, in the order in which they came.
    fn all_asking(&self, limit: usize) -> Result<Vec<AskingRecord>, StoreError>;

    /// The child with an id that a gateway brought in, at any time.
    fn introduced(&self, child: &DeviceId) -> Result<Option<IntroducedRecord>, StoreError>;

    /// Up to `limit` children that were brought in and neither accepted nor refused, in the order in which they were.
    fn waiting_children(&self, limit: usize) -> Result<Vec<IntroducedRecord>, StoreError>;

    /// How many children of a kind a gateway ever brought in.
    fn count_introduced(&self, gateway: &DeviceId, kind: &KindName) -> Result<u64, StoreError>;

    /// How many wait, how many of them came from a network, and how many are remembered.
    fn count_asking(&self, from: &str) -> Result<(u64, u64, u64), StoreError>;
}

/// Rows of those that wait.
pub trait WriteAsking: ReadAsking {
    /// Writes one in the place of what there was with its key.
    fn put_asking(&mut self, asking: &AskingRecord) -> Result<(), StoreError>;

    /// Writes a child that was brought in, in the place of what there was of it.
    fn put_introduced(&mut self, introduced: &IntroducedRecord) -> Result<(), StoreError>;

    /// Takes the one with a key away.
    fn drop_asking(&mut self, key_digest: &[u8; 32]) -> Result<(), StoreError>;

    /// Takes away those whose last second was before `now`.
    fn drop_lapsed_asking(&mut self, now: UnixTime) -> Result<(), StoreError>;
}
