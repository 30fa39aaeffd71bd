//! What every engine can do: give rows and take rows. What may be done with them is law, and stands in [`crate::acts`].
//!
//! Reading and writing are cut by noun, each pair of traits beside its types; [`View`] and [`Tx`] put them together.

mod admission;
mod asking;
mod authority;
mod claim;
mod credential;
mod device;
mod errand;
mod job;
mod notice;
mod policy;
mod post;
mod record;
mod reflex;
mod token;
mod traffic;

use std::time::Duration;

pub use admission::{ReadAdmissions, WriteAdmissions};
pub use asking::{ReadAsking, WriteAsking};
pub use authority::{NewAuthority, NewestCrl, ReadAuthorities, Signed, WriteAuthorities};
pub use claim::{OwnerPass, PassKind, ReadClaims, WriteClaims};
pub(crate) use claim::{halves, pair};
pub use credential::{
    BlockedKey, Bound, EndPlace, Ending, Intended, KeyStanding, NewCredential, ReadCredentials, WriteCredentials,
};
pub use device::{Changed, DeviceView, FieldNames, NameInUse, Page, Place, ReadDevices, WriteDevices};
pub use errand::{ErrandTally, ReadErrands, WriteErrands};
pub use job::{JobKind, JobRecord, Lease, ReadJobs, WriteJobs};
pub use notice::{ReadNotices, WriteNotices};
pub use policy::{
    EditionRecord, EditionSummary, GroupMembers, GroupRecord, ReadPolicies, TrialDifference, TrialRecord,
    WritePolicies, resolvable,
};
pub use post::{AdoptedSettings, Met, Opened, PostRecord, PostState, ReadPosts, Turn, WritePosts};
pub use record::{Cause, Founding, Head, ReadRecord, WardRecord, WriteRecord};
pub use reflex::{ReadReflexes, WriteReflexes};
pub use token::{ReadTokens, TokenBlock, TokenSignerRecord, WriteTokens};
pub(crate) use traffic::newest;
pub use traffic::{BrokerSession, CloneSigns, DeviceEvent, MOST_EVENTS, ReadTraffic, Tally, Traffic, WriteTraffic};

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};

use crate::{IntroduceRefusal, StoreError};

/// Everything that can be asked. Each question fails if the store cannot be read, and for no other reason unless it says so.
pub trait View:
    ReadRecord
    + ReadDevices
    + ReadCredentials
    + ReadAuthorities
    + ReadPolicies
    + ReadTraffic
    + ReadJobs
    + ReadPosts
    + ReadAdmissions
    + ReadAsking
    + ReadTokens
    + ReadErrands
    + ReadReflexes
    + ReadNotices
    + ReadClaims
{
}

impl<V> View for V where
    V: ReadRecord
        + ReadDevices
        + ReadCredentials
        + ReadAuthorities
        + ReadPolicies
        + ReadTraffic
        + ReadJobs
        + ReadPosts
        + ReadAdmissions
        + ReadAsking
        + ReadTokens
        + ReadErrands
        + ReadReflexes
        + ReadNotices
        + ReadClaims
{
}

/// A change that is being made: rows to read and to write, with no rule in any of it. A name that is referred to and is not there
/// gives [`StoreError::Unknown`]; every other error is one of the engine.
pub trait Tx:
    View
    + WriteRecord
    + WriteDevices
    + WriteCredentials
    + WriteAuthorities
    + WritePolicies
    + WriteTraffic
    + WriteJobs
    + WritePosts
    + WriteAdmissions
    + WriteAsking
    + WriteTokens
    + WriteErrands
    + WriteReflexes
    + WriteNotices
    + WriteClaims
{
    /// Marks the state of this moment as that to which [`Tx::back`] goes back.
    fn save(&mut self, mark: Mark) -> Result<(), StoreError>;

    /// Goes back to the state of the last [`Tx::save`] with the same mark.
    fn back(&mut self, mark: Mark) -> Result<(), StoreError>;
}

/// Who marked a state to go back to; one may do so inside the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    /// Whoever makes the changes of several callers together: the state before one of them.
    Caller,
    /// An act itself.
    Act,
}

impl Mark {
    /// Its name.
    pub(crate) fn as_str(self) -> &'static str {
        match self {
            Self::Caller => "before_caller",
            Self::Act => "before_act",
        }
    }
}

/// A credential and its device.
type Known = (CredentialRecord, DeviceRecord);

/// What a door is told of a certificate.
#[derive(Debug, Clone)]
pub struct Entrance {
    /// Where the record ends, and what counts there.
    pub head: Head,
    /// The recorded credential: the certificate itself, or else the bare key that is bound in it.
    pub known: Option<Known>,
}

impl Entrance {
    /// Whether a bare key is looked for: what a foreign authority signed stands behind a key that was bound by hand.
    fn needs_bound(known: Option<&Known>) -> bool {
        !known.is_some_and(|(record, _)| record.origin != Origin::Foreign)
    }

    /// `bound` is the bare key, if one was looked for and found.
    pub(crate) fn of(head: Head, known: Option<Known>, bound: Option<Known>) -> Self {
        let bound = bound.filter(|_| Self::needs_bound(known.as_ref()));
        Self { head, known: bound.or(known) }
    }
}

/// What becomes of a change when the act that made it has run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// It is committed.
    Keep,
    /// Nothing of it stays.
    Undo,
}

/// What an act says: done, or why it was refused; or that the store failed.
pub type Answer<T, R> = Result<Result<T, R>, StoreError>;

/// A ward's memory. Asked directly, each question has a snapshot of its own.
pub trait Store: View + Send {
    /// Asks several questions of one snapshot, of the store that stands where it was opened.
    ///
    /// # Errors
    /// What `look` says; the store cannot be read, or another stands in its place.
    fn view(&self, look: &mut dyn FnMut(&dyn View) -> Result<(), StoreError>) -> Result<(), StoreError>;

    /// What a door asks about a certificate with the key `key` (SHA-256 of its SubjectPublicKeyInfo), of one moment. An engine elsewhere
    /// answers it in one round trip: every client that connects waits for it.
    ///
    /// # Errors
    /// The store cannot be read, or another stands in its place.
    fn entrance(&self, fingerprint: &Fingerprint, key: &[u8; 32]) -> Result<Entrance, StoreError> {
        let mut entrance = None;
        self.view(&mut |view| {
            let head = view.head()?;
            let status = |of: Fingerprint| Ok::<_, StoreError>(view.status_many(&[of])?.pop().flatten());
            let known = status(*fingerprint)?;
            let bound = match Entrance::needs_bound(known.as_ref()) {
                true => view.bound_key(key)?.map(status).transpose()?.flatten(),
                false => None,
            };
            entrance = Some(Entrance::of(head, known, bound));
            Ok(())
        })?;
        entrance.ok_or_else(not_run)
    }

    /// Makes one change, with what it leaves in the audit record: all of it, or nothing if `act` fails or says so. No other
    /// change is made meanwhile.
    ///
    /// # Errors
    /// What `act` says; the store cannot be written, or another stands in its place.
    fn change(&mut self, act: &mut dyn FnMut(&mut dyn Tx) -> Result<Fate, StoreError>) -> Result<(), StoreError>;

    /// Writes what is counted and decides nothing; it leaves no entry in the audit record.
    ///
    /// # Errors
    /// The store cannot be written.
    fn tally(&mut self, tally: &Tally<'_>) -> Result<(), StoreError>;

    /// Tells other guards of a guard's sessions, and it of theirs; nothing where there can be only one.
    ///
    /// # Errors
    /// The store cannot be written.
    fn meet(&mut self, turn: &Turn<'_>) -> Result<Vec<Met>, StoreError> {
        let _ = turn;
        Ok(Vec::new())
    }

    /// The guard's acts, if this store is one into which a guard may write no rows itself.
    fn guard_acts(&mut self) -> Option<&mut dyn GuardActs> {
        None
    }

    /// Opens the store anew where it stands now, after it was away or replaced.
    ///
    /// # Errors
    /// It cannot be opened; it stays as it was.
    fn reopen(&mut self) -> Result<(), StoreError>;

    /// What is wrong with the store itself, in words: pages, indexes, rows that lead nowhere. What it says is held against the record
    /// elsewhere.
    ///
    /// # Errors
    /// The store cannot be read.
    fn check(&self) -> Result<Vec<String>, StoreError>;

    /// What there is to know of the store as a whole.
    ///
    /// # Errors
    /// The store cannot be read.
    fn survey(&self) -> Result<Survey, StoreError>;

    /// Something that waits for changes, on a connection of its own.
    ///
    /// # Errors
    /// The store cannot be opened.
    fn feed(&self) -> Result<Box<dyn Feed>, StoreError>;
}

/// The acts of a guard's that change more than what is counted, done by the store itself, which checks them.
pub trait GuardActs {
    /// See [`crate::acts::usage::record`].
    fn record_uses(&mut self, uses: &[(DeviceId, Option<Fingerprint>)], cause: &Cause) -> Result<(), StoreError>;

    /// See [`crate::GuardStore::record_clone_sign`].
    fn record_clone_sign(&mut self, id: &DeviceId, sign: &str, hold: bool, cause: &Cause) -> Result<bool, StoreError>;

    /// See [`crate::acts::record::note`].
    fn record_note(&mut self, act: &'static str, subject: &str, detail: &str, cause: &Cause)
    -> Result<i64, StoreError>;

    /// See [`crate::acts::introduce::introduce`]; but whatever `new.state` is, the child waits.
    fn introduce_child(
        &mut self,
        new: &IntroducedRecord,
        most: u32,
        cause: &Cause,
    ) -> Answer<IntroducedState, IntroduceRefusal>;
}

/// A store as a whole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Survey {
    /// The engine and its version.
    pub engine: String,
    /// The format of the store, counted by each engine for itself.
    pub format: i64,
    /// How much room it takes, in octets.
    pub octets: u64,
    /// How many devices it lists, retired ones among them.
    pub devices: u64,
    /// How many credentials were ever recorded.
    pub credentials: u64,
    /// How many entries the audit record has.
    pub entries: u64,
    /// For how many seconds somebody has been reading one state of it, which holds up its tidying; where that is known.
    pub oldest_reader: Option<u64>,
    /// What a person should know of how it is set up, a sentence each.
    pub warnings: Vec<String>,
}

/// Tells of changes as they come.
pub trait Feed: Send {
    /// Waits until the change number is another than `since`, but not longer than `at_most`; gives where the record ends then.
    ///
    /// # Errors
    /// The store cannot be read.
    fn wait(&mut self, since: i64, at_most: Duration) -> Result<Head, StoreError>;

    /// Up to `limit` devices that changed behind a place.
    ///
    /// # Errors
    /// The store cannot be read.
    fn changed(&self, after: Place, limit: usize) -> Result<Changed, StoreError>;
}

/// Asks several questions of one snapshot.
///
/// # Errors
/// What `look` says, or [`Store::view`].
pub fn viewed<T>(store: &dyn Store, look: impl FnOnce(&dyn View) -> Result<T, StoreError>) -> Result<T, StoreError> {
    let (mut look, mut found) = (Some(look), None);
    store.view(&mut |view| {
        found = look.take().map(|look| look(view)).transpose()?;
        Ok(())
    })?;
    found.ok_or_else(not_run)
}

/// Makes a change that cannot be refused.
///
/// # Errors
/// What `act` says, or [`Store::change`].
pub fn made<T>(store: &mut dyn Store, act: impl FnOnce(&mut dyn Tx) -> Result<T, StoreError>) -> Result<T, StoreError> {
    match decided(store, |tx| act(tx).map(Ok::<T, std::convert::Infallible>))? {
        Ok(done) => Ok(done),
    }
}

/// Makes a change that may be refused; then nothing is changed.
///
/// # Errors
/// What `act` says, or [`Store::change`].
pub fn decided<T, R>(store: &mut dyn Store, act: impl FnOnce(&mut dyn Tx) -> Answer<T, R>) -> Answer<T, R> {
    let (mut act, mut answer) = (Some(act), None);
    store.change(&mut |tx| {
        let said = act.take().map(|act| act(tx)).transpose()?;
        let fate = if matches!(said, Some(Ok(_))) { Fate::Keep } else { Fate::Undo };
        answer = said;
        Ok(fate)
    })?;
    answer.ok_or_else(not_run)
}

fn not_run() -> StoreError {
    StoreError::Damaged { detail: "a change was not run".to_owned() }
}
