//! Where Tidy Warden keeps what it knows: one narrow trait in the words of the job, SQLite behind it.
//!
//! Every change and its audit entry are one transaction. The number of the newest audit entry serves as the change
//! number: it only grows, and [`Store::changed_since`] tells a running process what is new.

mod contract;
mod error;
pub mod sqlite;

pub use contract::{
    Added, Batch, BatchRefusal, BlockedKey, Bound, BrokerSession, BulkRun, Cause, Changes, CloneSigns, CrlRecord,
    DeviceView, EditionRecord, EditionSummary, Founding, GroupMembers, GroupRecord, Intended, MOST_CHANGED, NameInUse,
    NewAuthority, NewCredential, Signed, Store, Traffic, TrialDifference, TrialRecord, WardRecord, resolvable,
};
pub use error::StoreError;
pub use sqlite::SqliteStore;
