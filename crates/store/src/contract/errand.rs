//! Errands: what devices are asked to do, and what guards know of them.

use tidy_warden_core::errand::{Brought, Carried, ErrandRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// What a guard did with errands.
#[derive(Debug, Clone, Copy)]
pub struct ErrandTally<'a> {
    /// Those that were handed over, each with when.
    pub handed: &'a [(i64, UnixTime)],
    /// Answers; of one errand the first counts, and only while it is open.
    pub answers: &'a [(i64, Brought)],
}

/// Questions about errands.
pub trait ReadErrands {
    /// The one with a number.
    fn errand(&self, number: i64) -> Result<Option<ErrandRecord>, StoreError>;

    /// Up to `limit` with numbers below `before`, the newest first: those of one device, or of all.
    fn errands(&self, of: Option<&DeviceId>, before: i64, limit: usize) -> Result<Vec<ErrandRecord>, StoreError>;

    /// Up to `limit` that nobody answered and that do not end before `now`, the oldest first: those of a device and of the children behind
    /// it.
    fn open_errands(&self, receiver: &DeviceId, now: UnixTime, limit: usize) -> Result<Vec<ErrandRecord>, StoreError>;

    /// Up to `limit` with numbers above `number`, in their order, each with its device's gateway.
    fn errands_after(&self, number: i64, limit: usize) -> Result<Vec<(ErrandRecord, Option<DeviceId>)>, StoreError>;

    /// The greatest number that there is, 0 if there is none.
    fn last_errand(&self) -> Result<i64, StoreError>;

    /// What guards know of each of these, in their order.
    fn carried(&self, numbers: &[i64]) -> Result<Vec<Carried>, StoreError>;

    /// The numbers of up to `limit` whose answers nobody has looked at, in their order.
    fn answered_errands(&self, limit: usize) -> Result<Vec<i64>, StoreError>;
}

/// Rows of errands; what guards know of them is a [`crate::Tally`].
pub trait WriteErrands: ReadErrands {
    /// Writes one in the place of what there is with its number. Its device is listed.
    fn put_errand(&mut self, errand: &ErrandRecord) -> Result<(), StoreError>;

    /// Takes the text of an answer away: it was looked at.
    fn drop_answer(&mut self, number: i64) -> Result<(), StoreError>;

    /// Takes up to `limit` away that ended before `before`, the oldest first, with what guards know of them, but never the newest there is;
    /// says how many.
    fn drop_errands(&mut self, before: UnixTime, limit: usize) -> Result<usize, StoreError>;
}
