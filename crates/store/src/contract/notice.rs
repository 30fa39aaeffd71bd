//! Notices: what a web service is told of, and what became of it.

use tidy_warden_core::notice::NoticeRecord;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// Questions about notices.
pub trait ReadNotices {
    /// Up to `limit` that are to be sent by `now`, those first that are due first.
    fn due_notices(&self, now: UnixTime, limit: usize) -> Result<Vec<NoticeRecord>, StoreError>;

    /// Up to `limit` with numbers below `before`, the newest first.
    fn notices(&self, before: i64, limit: usize) -> Result<Vec<NoticeRecord>, StoreError>;

    /// How many wait.
    fn count_waiting_notices(&self) -> Result<u64, StoreError>;
}

/// Rows of notices.
pub trait WriteNotices: ReadNotices {
    /// Writes one in the place of what there is with its number; a number of 0 gets the next one there is.
    fn put_notice(&mut self, notice: &NoticeRecord) -> Result<(), StoreError>;

    /// Takes up to `limit` away that do not wait and were made before `before`, but never the newest there is; says how many.
    fn drop_notices(&mut self, before: UnixTime, limit: usize) -> Result<usize, StoreError>;
}
