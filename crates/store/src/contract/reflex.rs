//! What guards noticed as evidence, and what reflexes made of it.

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::{Evidence, Hit, Noticed, Progress};
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// Questions about evidence and reflexes.
pub trait ReadReflexes {
    /// Up to `limit` pieces of evidence with numbers above `number`, in their order.
    fn evidence_after(&self, number: i64, limit: usize) -> Result<Vec<(i64, Evidence)>, StoreError>;

    /// How much of this was noticed of a device from `since` on, of what was proved with its own key.
    fn count_evidence(&self, device: &DeviceId, what: Noticed, since: UnixTime) -> Result<u64, StoreError>;

    /// The greatest number of evidence that there is, 0 if there is none.
    fn last_evidence(&self) -> Result<i64, StoreError>;

    /// How far a reflex is; `None` if it never looked.
    fn reflex_progress(&self, reflex: &str) -> Result<Option<Progress>, StoreError>;

    /// Up to `limit` acts with numbers below `before`, the newest first: those of one reflex, or of all.
    fn hits(&self, reflex: Option<&str>, before: i64, limit: usize) -> Result<Vec<Hit>, StoreError>;

    /// How often a reflex acted from `since` on: in all, and about what came from one network.
    fn count_hits(&self, reflex: &str, source: &str, since: UnixTime) -> Result<(u64, u64), StoreError>;

    /// The newest act of a reflex about a device.
    fn last_hit(&self, reflex: &str, device: &DeviceId) -> Result<Option<Hit>, StoreError>;
}

/// Rows of them; evidence is a [`crate::Tally`].
pub trait WriteReflexes: ReadReflexes {
    /// Writes how far a reflex is.
    fn put_reflex_progress(&mut self, reflex: &str, progress: &Progress) -> Result<(), StoreError>;

    /// Writes an act; a number of 0 gets the next one there is. Its device is listed.
    fn put_hit(&mut self, hit: &Hit) -> Result<(), StoreError>;

    /// Takes up to `limit` pieces of evidence away that are older than `before` or have numbers below `below`, the oldest first, but never the
    /// newest there is.
    fn drop_evidence(&mut self, before: UnixTime, below: i64, limit: usize) -> Result<usize, StoreError>;
}
