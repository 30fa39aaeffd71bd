//! Where Tidy Warden keeps what it knows.
//!
//! Every change and its audit entry are one transaction. The number of the newest entry serves as the change number: it only
//! grows, and a running process asks what is new behind one that it saw ([`OperatorStore::changed_since`]).
//!
//! Three rooms, each cut by noun (record, device, credential, authority, policy, traffic, job, post, admission):
//!
//! - the contract ([`View`], [`Tx`], [`Store`]): what an engine gives and takes, in rows;
//! - [`acts`]: what may be done, as plain functions over a [`Tx`], with no SQL in them;
//! - the engines, which move rows and know no rule: [`sqlite`], [`postgres`], and [`memory`], a model for tests that everything is
//!   held against.
//!
//! A whole ward goes from one engine to another by [`copy`].
//!
//! Where many change it at once, [`Together`] commits what they do together.
//!
//! Who uses it gets a façade with the acts that are its own: [`OperatorStore`] the command line, [`GuardStore`] the guard, [`DeskReader`] and
//! [`DeskActs`] the desk. Each can
//! be asked everything that a [`View`] can.
//!
//! Every function that returns a [`StoreError`] fails if the store cannot be read, or written if it writes; what else it fails for,
//! it says.

#![allow(clippy::missing_errors_doc, reason = "said once, in the lines above")]

pub mod acts;
mod condition;
mod contract;
pub mod copy;
mod desk;
mod error;
mod guard;
pub mod memory;
mod operator;
pub mod postgres;
pub mod sqlite;
mod stored;
mod together;
mod walk;

pub use acts::admission::{AdmissionOver, UseRefusal};
pub use acts::asking::{AcceptRefusal, AskRefusal};
pub use acts::batch::{Batch, BatchRefusal};
pub use acts::bearer::{Bearer, Claimed, OwnKey, Signers, Standing, TokenRefusal};
pub use acts::claim::{KindRules, PassRefusal, Passed, Rules, Take, Taken};
pub use acts::crl::CrlRecord;
pub use acts::device::Added;
pub use acts::enrol::{Introduction, RenewRefusal};
pub use acts::errand::{NewErrand, SendRefusal};
pub use acts::introduce::{ChildRefusal, IntroduceRefusal};
pub use acts::job::{JobRefusal, NewJob, Reached};
pub use acts::key::{KeyRefusal, KeyReplaces, MOST_KEYS};
pub use acts::own::{Declared, FactClash, Holders, OwnFacts};
pub use acts::owner::{MOST_PASSES, OwnerEdit, OwnerRefusal};
pub use acts::post::PostRefusal;
pub use acts::record::Changes;
pub use acts::server::{ERRANDS, ServerRecord, ServerRefusal, VOUCHERS};
pub use acts::token::{BlockRefusal, MOST_BLOCKS, SignerRefusal};
pub use contract::*;
pub use desk::{DeskActs, DeskReader, SignedCredential};
pub use error::{Move, StoreError};
pub use guard::GuardStore;
pub use memory::MemoryStore;
pub use operator::{Deliver, OperatorStore};
pub use postgres::DatabaseAccess;
pub use sqlite::SqliteStore;
pub use together::Together;
pub use walk::MOST_CHANGED;
