//! Who a connection is: a certificate that the store knows, or a token, and whether it may sign in now.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex as SyncMutex, PoisonError};
use std::time::{Duration, Instant};

use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::{Barred, DeviceRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{PublicKey, sha256};
use tidy_warden_core::settings::{Settings, WithoutStore};
use tidy_warden_core::time::{Clock, Span, UnixTime};
use tidy_warden_core::token::{Parties, VerifiedToken, verify};
use tidy_warden_store::{
    BrokerSession, Cause, Changes, DeviceView, EditionRecord, GroupRecord, NewCredential, Store, StoreError, Traffic,
    TrialDifference, TrialRecord,
};
use tokio::sync::Mutex;

use crate::makers::{Listed, MakerLists};
use crate::seen::Head;
use crate::trust::Trust;

/// The account under which the guard's own changes are recorded.
const ACTOR: &str = "guard";

/// The most credentials that are remembered for the case that the store fails; a limit on memory.
const MOST_REMEMBERED: usize = 100_000;

/// Read and write access to the store from many tasks. Who waits for its turn holds no thread, so that a store that is
/// slow to write does not keep anybody from reading.
#[derive(Clone)]
pub(crate) struct Knowledge {
    reader: Seat,
    /// The follower's own, so that no session's question keeps a revocation waiting.
    follower: Seat,
    writer: Seat,
    clock: Arc<dyn Clock>,
    sight: Arc<SyncMutex<Sight>>,
    memory: Arc<SyncMutex<Memory>>,
    /// What foreign authorities say of the certificates that they signed.
    pub(crate) maker_lists: Arc<MakerLists>,
}

/// How well the store is seen.
struct Sight {
    /// When the follower was last told what is new.
    heard: Instant,
    /// What the store says instead of an answer, while it does not give one.
    silent: Option<String>,
    /// How far the audit record was ever seen.
    seen: Head,
    /// Since when the store lacks the end of the record that was seen, and what was found.
    behind: Option<(Instant, String)>,
}

/// What the store said last of the credentials that were admitted, for the case that it falls silent. It is as old as the
/// follower's last answer: whatever changed since then is forgotten first.
#[derive(Default)]
struct Memory {
    /// Up to which change number everything that changed was forgotten.
    upto: i64,
    found: HashMap<Credential, Found>,
    of_device: HashMap<DeviceId, Vec<Credential>>,
}

impl Memory {
    /// Remembers what the store said at the change number `at`.
    fn keep(&mut self, credential: &Credential, found: Found, at: i64) {
        // What was read before a change that is dealt with may be what the change was about.
        if at < self.upto {
            return;
        }
        if self.found.len() >= MOST_REMEMBERED {
            self.forget_all();
        }
        let device = found.device.id.clone();
        if self.found.insert(credential.clone(), found).is_none() {
            self.of_device.entry(device).or_default().push(credential.clone());
        }
    }

    fn forget(&mut self, device: &DeviceId) {
        for credential in self.of_device.remove(device).into_iter().flatten() {
            self.found.remove(&credential);
        }
    }

    fn forget_all(&mut self) {
        self.found.clear();
        self.of_device.clear();
    }
}

/// How what the store tells stands to what was seen of it before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Follows {
    /// It goes on where it was.
    On,
    /// It lacks what was seen, and nobody accepted that; in words what is missing.
    Behind(String),
    /// It lacked what was seen, and a person accepted that just now.
    Accepted,
}

/// What the store knows of a credential.
#[derive(Debug, Clone)]
struct Found {
    /// `None` for a token, which the store does not know.
    credential: Option<CredentialRecord>,
    device: Arc<DeviceRecord>,
}

/// What a session was opened with.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum Credential {
    Certificate(Fingerprint),
    Token(VerifiedToken),
}

/// A device that may be here now.
#[derive(Debug, Clone)]
pub(crate) struct Admitted {
    pub(crate) device: Arc<DeviceRecord>,
    /// The last second in which its credential is good.
    pub(crate) ends: UnixTime,
    /// For the log: the kind of credential and its public name.
    pub(crate) shown: String,
}

/// Why a connection is nobody that may be here.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotAdmitted {
    #[error("the certificate chains to this ward, but the ward did not record it")]
    UnknownCertificate,
    #[error("there is no device `{0}`")]
    UnknownDevice(String),
    #[error(transparent)]
    Barred(#[from] Barred),
    #[error(transparent)]
    Listed(#[from] Listed),
    #[error("{0}")]
    Credential(#[from] tidy_warden_core::credential::Unusable),
    #[error("the kind `{0}` does not sign in by token")]
    NoTokenLogin(String),
    #[error("{0}")]
    Token(#[from] tidy_warden_core::token::BadToken),
    #[error("the token was made before the device was revoked")]
    TokenRevoked,
    /// The name itself is left out: user names are never logged.
    #[error("the user name or the token beside it is not that of `{device}`, whose credential was shown")]
    OtherName { device: DeviceId },
    #[error("neither a certificate nor a user name with a token was shown")]
    Nothing,
    #[error("the store does not answer: {0}")]
    Store(#[from] StoreError),
    #[error("the store is older than what was seen of it: {0}")]
    Behind(String),
}

impl NotAdmitted {
    /// Whether this says nothing of the credential, because nobody knows.
    pub(crate) fn is_doubt(&self) -> bool {
        matches!(self, Self::Store(_) | Self::Behind(_))
    }
}

impl Found {
    fn look(store: &dyn Store, credential: &Credential) -> Result<Option<Self>, StoreError> {
        match credential {
            Credential::Certificate(fingerprint) => {
                let found = store.status_many(&[*fingerprint])?.into_iter().next().flatten();
                Ok(found.map(|(record, device)| Self { credential: Some(record), device: Arc::new(device) }))
            }
            Credential::Token(token) => {
                let found = store.devices(std::slice::from_ref(&token.device))?.into_iter().next().flatten();
                Ok(found.map(|view| Self { credential: None, device: Arc::new(view.device) }))
            }
        }
    }

    /// Whether the credential may sign in at `now`.
    fn judge(
        self,
        credential: &Credential,
        (settings, lists): (&Settings, &MakerLists),
        now: UnixTime,
    ) -> Result<Admitted, NotAdmitted> {
        let device = self.device;
        let barred = device.barred();
        let admitted = match (credential, self.credential) {
            (Credential::Token(token), _) => {
                if !settings.kind(&device.kind).is_ok_and(|kind| kind.token_login) {
                    return Err(NotAdmitted::NoTokenLogin(device.kind.to_string()));
                }
                if token.issued_at < device.tokens_from {
                    return Err(NotAdmitted::TokenRevoked);
                }
                if now >= token.ends {
                    return Err(tidy_warden_core::token::BadToken::Ended { exp: token.ends }.into());
                }
                // A token is refused from the second `exp` on, so the one before is its last.
                let ends = UnixTime(token.ends.0 - 1);
                Ok(Admitted { device, ends, shown: format!("token {}", token.jti) })
            }
            (Credential::Certificate(_), Some(record)) => {
                record.may_sign_in(now)?;
                if let (Origin::Foreign, Some(maker)) = (record.origin, &record.authority) {
                    lists.judge(maker, (None, record.serial.as_ref()), now)?;
                }
                let ends = record.usable_until().unwrap_or(now);
                Ok(Admitted { device, ends, shown: format!("certificate {}", record.name()) })
            }
            (Credential::Certificate(_), None) => Err(NotAdmitted::UnknownCertificate),
        };
        match (admitted, barred) {
            (Ok(_), Some(barred)) => Err(barred.into()),
            (admitted, _) => admitted,
        }
    }
}

/// The answer where the store knows nothing of a credential.
fn unknown(credential: &Credential) -> NotAdmitted {
    match credential {
        Credential::Certificate(_) => NotAdmitted::UnknownCertificate,
        Credential::Token(token) => NotAdmitted::UnknownDevice(token.device.to_string()),
    }
}

/// The store as one connection sees it.
type Seat = Arc<Mutex<Box<dyn Store>>>;

impl Knowledge {
    /// `seen` is how far a guard saw the record before.
    pub(crate) fn new(stores: Stores, clock: Arc<dyn Clock>, seen: Head) -> Self {
        let seat = |store| Arc::new(Mutex::new(store));
        let sight = Sight { heard: Instant::now(), silent: None, seen, behind: None };
        Self {
            reader: seat(stores.reader),
            follower: seat(stores.follower),
            writer: seat(stores.writer),
            clock,
            sight: Arc::new(SyncMutex::new(sight)),
            memory: Arc::default(),
            maker_lists: Arc::default(),
        }
    }

    pub(crate) fn now(&self) -> UnixTime {
        self.clock.now()
    }

    fn sight(&self) -> std::sync::MutexGuard<'_, Sight> {
        self.sight.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn memory(&self) -> std::sync::MutexGuard<'_, Memory> {
        self.memory.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How far the record was ever seen.
    pub(crate) fn seen(&self) -> Head {
        self.sight().seen
    }

    /// Since how long nobody knows what the store holds: it does not answer, or it is not the one that was seen. `None` while
    /// all is well.
    pub(crate) fn doubt(&self) -> Option<Duration> {
        let sight = self.sight();
        let silent = sight.silent.is_some().then(|| sight.heard.elapsed());
        silent.max(sight.behind.as_ref().map(|(since, _)| since.elapsed()))
    }

    /// Why live sessions may not go on: nobody has known for longer than the settings allow.
    pub(crate) fn exhausted(&self, settings: &Settings) -> Option<String> {
        let guard = &settings.guard;
        let too_long = guard.without_store == WithoutStore::End && self.doubt()? >= patience(settings);
        too_long.then(|| format!("the store could not be asked for {}", guard.store_patience))
    }

    /// Asks the store, unless it was silent a moment ago: then only [`Self::changed_since`] tries, and the others do not queue
    /// up behind a store that makes everybody wait.
    async fn read<T: Send + 'static>(
        &self,
        question: impl FnOnce(&dyn Store) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        if let Some(detail) = &self.sight().silent {
            return Err(StoreError::Damaged { detail: detail.clone() });
        }
        let answer = ask(&self.reader, question).await;
        if let Err(error) = &answer {
            // One row that does not read back is the trouble of whom it is about, and says nothing of the store.
            let silent = matches!(
                error,
                StoreError::Busy
                    | StoreError::Absent { .. }
                    | StoreError::Replaced { .. }
                    | StoreError::Unwritable { .. }
            );
            if silent {
                self.sight().silent.get_or_insert_with(|| error.to_string());
            }
        }
        answer
    }

    async fn write<T: Send + 'static>(
        &self,
        change: impl FnOnce(&mut dyn Store, &Cause) -> Result<T, StoreError> + Send + 'static,
        because: String,
    ) -> Result<T, StoreError> {
        if let Some((_, what)) = &self.sight().behind {
            return Err(StoreError::Unwritable { detail: what.clone() });
        }
        let cause = Cause { at: self.now(), actor: ACTOR.to_owned(), because };
        let mut store = self.writer.clone().lock_owned().await;
        finished(tokio::task::spawn_blocking(move || change(&mut **store, &cause)).await)
    }

    /// What is new; for the follower, who tries the store even if it failed before.
    pub(crate) async fn changed_since(&self, since: i64) -> Result<Changes, StoreError> {
        let answer = ask(&self.follower, move |store| store.changed_since(since)).await;
        let mut sight = self.sight();
        match &answer {
            Ok(_) => {
                sight.heard = Instant::now();
                sight.silent = None;
            }
            Err(error) => sight.silent = Some(error.to_string()),
        }
        drop(sight);
        answer
    }

    /// Opens the store anew on all connections.
    pub(crate) async fn reopen(&self) -> Result<(), StoreError> {
        for seat in [&self.follower, &self.reader, &self.writer] {
            let mut store = seat.clone().lock_owned().await;
            finished(tokio::task::spawn_blocking(move || store.reopen()).await)?;
        }
        Ok(())
    }

    /// Compares what the store tells with what was seen of it, and notes it. `changes` must be what is new since the number
    /// of [`Self::seen`].
    pub(crate) fn compare(&self, changes: &Changes) -> Follows {
        let mut sight = self.sight();
        let Head { number, hash } = sight.seen;
        let goes_on = number == 0 || (changes.to >= number && changes.since == Some(hash));
        let accepted = changes.given_up == Some((number, hash));
        if goes_on || accepted {
            sight.seen = Head { number: changes.to, hash: changes.head };
            sight.behind = None;
            return if goes_on { Follows::On } else { Follows::Accepted };
        }
        let what = match changes.to < number {
            true => format!("its record ends with entry {}, and entry {number} was seen", changes.to),
            false => format!("its entry {number} is not the one that was seen"),
        };
        sight.behind.get_or_insert_with(|| (Instant::now(), what.clone()));
        Follows::Behind(what)
    }

    /// Forgets everything that is remembered of devices that changed, before anything else is done about them; `None` stands
    /// for all devices. `to` is the change number up to which this is.
    pub(crate) fn forget(&self, changed: Option<&HashSet<DeviceId>>, to: i64) {
        let mut memory = self.memory();
        match changed {
            Some(devices) => devices.iter().for_each(|device| memory.forget(device)),
            None => memory.forget_all(),
        }
        memory.upto = to;
    }

    /// The authorities as the store has them at the change number `authorities`.
    pub(crate) async fn trust(&self, before: Arc<Trust>, authorities: i64) -> Result<Trust, StoreError> {
        ask(&self.follower, move |store| Trust::read(store, authorities, &before)).await
    }

    /// `before` with the keys that were bound since; `None` if there are none.
    pub(crate) async fn bound(&self, before: Arc<Trust>) -> Result<Option<Trust>, StoreError> {
        ask(&self.follower, move |store| before.with_bound(store)).await
    }

    /// An edition, the groups that it may name, and the trial that is running.
    pub(crate) async fn policies(
        &self,
        edition: u32,
    ) -> Result<(Option<EditionRecord>, Vec<GroupRecord>, Option<TrialRecord>), StoreError> {
        self.read(move |store| Ok((store.edition(Some(edition))?, store.groups()?, store.trial()?))).await
    }

    pub(crate) async fn children(&self, gateway: DeviceId) -> Result<Vec<DeviceRecord>, StoreError> {
        self.read(move |store| store.children(&gateway)).await
    }

    /// Devices as they are recorded.
    pub(crate) async fn devices(&self, ids: Vec<DeviceId>) -> Result<Vec<Option<DeviceView>>, StoreError> {
        self.read(move |store| store.devices(&ids)).await
    }

    pub(crate) async fn record_differences(
        &self,
        trial: u32,
        differences: Vec<TrialDifference>,
    ) -> Result<(), StoreError> {
        self.write(move |store, _| store.record_differences(trial, &differences), String::new()).await
    }

    /// Whether a credential may sign in at this moment, and which policies count. While the store does not answer, what it
    /// said last counts, but not for longer than the settings say; the answer then has no changes in it, and the store owes
    /// the session another.
    pub(crate) async fn admit(
        &self,
        credential: &Credential,
        settings: &Settings,
    ) -> Result<(Admitted, Option<Changes>), NotAdmitted> {
        self.not_behind()?;
        let now = self.now();
        // Before the store is asked: what is seen meanwhile may be newer than the answer, and no sign of an older store.
        let seen = self.seen().number;
        let wanted = credential.clone();
        let answer = self.read(move |store| Ok((store.changed_since(i64::MAX)?, Found::look(store, &wanted)?))).await;
        match answer {
            Ok((changes, found)) => {
                if changes.to < seen {
                    // The follower will say so in a moment, and to everybody.
                    let what = format!("its record ends with entry {}, and entry {seen} was seen", changes.to);
                    return Err(NotAdmitted::Behind(what));
                }
                let found = found.ok_or_else(|| unknown(credential))?;
                let admitted = found.clone().judge(credential, (settings, &self.maker_lists), now)?;
                self.memory().keep(credential, found, changes.to);
                Ok((admitted, Some(changes)))
            }
            Err(error) => match self.recall(credential, settings) {
                Some(found) => Ok((found.judge(credential, (settings, &self.maker_lists), now)?, None)),
                None => Err(error.into()),
            },
        }
    }

    fn not_behind(&self) -> Result<(), NotAdmitted> {
        match &self.sight().behind {
            Some((_, what)) => Err(NotAdmitted::Behind(what.clone())),
            None => Ok(()),
        }
    }

    /// What is remembered of a credential, while that is not too old.
    fn recall(&self, credential: &Credential, settings: &Settings) -> Option<Found> {
        let doubt = self.doubt()?;
        (doubt < patience(settings)).then(|| self.memory().found.get(credential).cloned()).flatten()
    }

    /// The same for many credentials at once, whose sessions are open; for the follower.
    pub(crate) async fn admit_many(
        &self,
        credentials: Vec<Credential>,
        settings: Arc<Settings>,
    ) -> Result<Vec<Result<Admitted, NotAdmitted>>, StoreError> {
        let now = self.now();
        let asked = credentials.clone();
        let (at, all) = ask(&self.follower, move |store| {
            let at = store.audit_end()?.0;
            let found: Result<Vec<_>, _> = asked.iter().map(|credential| Found::look(store, credential)).collect();
            Ok((at, found?))
        })
        .await?;
        let judged = credentials.iter().zip(all).map(|(credential, found)| {
            let found = found.ok_or_else(|| unknown(credential))?;
            let admitted = found.clone().judge(credential, (&settings, &self.maker_lists), now)?;
            self.memory().keep(credential, found, at);
            Ok(admitted)
        });
        Ok(judged.collect())
    }

    /// The recorded credential that a certificate stands for, and its device: the one that the store recorded,
    /// nothing in the certificate is parsed for a name. A foreign certificate is recorded when it is first shown, so that it
    /// can be revoked like any other; its maker must be trusted each time.
    pub(crate) async fn resolve(
        &self,
        leaf: &Certificate,
        settings: &Settings,
        trust: &Trust,
    ) -> Result<(Fingerprint, DeviceId), NotAdmitted> {
        let fingerprint = leaf.fingerprint;
        let key = sha256(leaf.public_key.spki());
        let look = move |store: &dyn Store| -> Result<Option<(CredentialRecord, DeviceRecord)>, StoreError> {
            let recorded = store.status_many(&[fingerprint])?.pop().flatten();
            if recorded.as_ref().is_some_and(|(record, _)| record.origin != Origin::Foreign) {
                return Ok(recorded);
            }
            let Some(bound) = store.bound_key(&key)? else { return Ok(recorded) };
            Ok(store.status_many(&[bound])?.pop().flatten())
        };
        let known = match self.read(look).await {
            Ok(known) => known,
            Err(error) => {
                let found = self.recall(&Credential::Certificate(fingerprint), settings);
                return found.map(|found| (fingerprint, found.device.id.clone())).ok_or_else(|| error.into());
            }
        };
        if let Some((record, device)) = &known
            && record.origin != Origin::Foreign
        {
            return Ok((record.fingerprint, device.id.clone()));
        }
        let maker = trust.maker(leaf, self.now()).ok_or(NotAdmitted::UnknownCertificate)?;
        let (name, vouched) = (maker.name.clone(), maker.trust.clone());
        self.maker_lists.judge(&name, (Some(&leaf.issuer), Some(&leaf.serial)), self.now())?;
        if let Some((record, device)) = &known {
            if !vouched.kinds.contains(&device.kind) {
                return Err(NotAdmitted::UnknownCertificate);
            }
            if record.authority.as_ref() == Some(&name) {
                return Ok((fingerprint, device.id.clone()));
            }
            // Another entry of the same maker speaks for it now: it is recorded so below.
        }
        let fact = leaf.fact(&vouched.fact).ok_or(NotAdmitted::UnknownCertificate)?;
        let leaf = leaf.clone();
        let record = move |store: &mut dyn Store, cause: &Cause| {
            let Some(id) = store.holder(&fact)? else { return Ok(None) };
            let view = store.devices(std::slice::from_ref(&id))?.pop().flatten();
            if !view.is_some_and(|view| vouched.kinds.contains(&view.device.kind)) {
                return Ok(None);
            }
            let key_type = leaf.public_key.key_type().to_string();
            let new = NewCredential {
                origin: Origin::Foreign,
                // It stands beside what the device has, and replaces nothing.
                again: true,
                overlap: Span::from_days(0),
                ..NewCredential::issued(&id, &name, &leaf, &key_type)
            };
            let recorded = store.record_issued(&new, cause, &mut || Ok(()))?;
            Ok(recorded.is_ok().then_some(id))
        };
        let device = self.write(record, "first shown".to_owned()).await?.ok_or(NotAdmitted::UnknownCertificate)?;
        Ok((fingerprint, device))
    }

    /// What the store knows of the session that the broker keeps under a client identifier.
    pub(crate) async fn broker_session(&self, client_id: String) -> Result<Option<BrokerSession>, StoreError> {
        self.read(move |store| store.broker_session(&client_id)).await
    }

    /// How many sessions the broker keeps for a device.
    pub(crate) async fn broker_sessions_of(&self, device: DeviceId) -> Result<usize, StoreError> {
        self.read(move |store| store.broker_sessions_of(&device)).await
    }

    /// Some sessions that the broker keeps for devices that are out for good.
    pub(crate) async fn broker_sessions_of_ended(&self, limit: usize) -> Result<Vec<BrokerSession>, StoreError> {
        ask(&self.follower, move |store| store.broker_sessions_of_ended(limit)).await
    }

    /// Keeps what is known of sessions at the broker.
    pub(crate) async fn keep_broker_sessions(
        &self,
        kept: Vec<BrokerSession>,
        gone: Vec<String>,
    ) -> Result<(), StoreError> {
        self.write(move |store, cause| store.keep_broker_sessions(&kept, &gone, cause.at), String::new()).await
    }

    /// Records what opened sessions.
    pub(crate) async fn record_uses(&self, uses: Vec<(DeviceId, Option<Fingerprint>)>) -> Result<(), StoreError> {
        self.write(move |store, cause| store.record_uses(&uses, cause), String::new()).await
    }

    /// Adds to what was counted of devices.
    pub(crate) async fn add_traffic(&self, counted: Vec<(DeviceId, Traffic)>) -> Result<(), StoreError> {
        self.write(move |store, cause| store.add_traffic(&counted, cause.at), String::new()).await
    }

    /// Records a sign of a clone, and puts the device on hold if that is to follow; says whether it did.
    pub(crate) async fn record_clone_sign(
        &self,
        device: DeviceId,
        sign: String,
        hold: bool,
    ) -> Result<bool, StoreError> {
        let because = if hold { format!("clone watch: {sign}") } else { String::new() };
        let record = move |store: &mut dyn Store, cause: &Cause| {
            store.record_clone_sign(&device, &sign, cause)?;
            Ok(hold && !store.set_hold(std::slice::from_ref(&device), true, cause)?.is_empty())
        };
        self.write(record, because).await
    }

    /// Notes in the audit record that a person looks at messages.
    pub(crate) async fn record_watch(&self, note: WatchNote) -> Result<i64, StoreError> {
        let record = move |store: &mut dyn Store, cause: &Cause| {
            let cause = Cause { actor: note.actor, because: note.because, ..cause.clone() };
            store.record_note(note.act, &note.subject, &note.detail, &cause)
        };
        self.write(record, String::new()).await
    }
}

/// What a person does over the guard, for the audit record.
pub(crate) struct WatchNote {
    pub(crate) act: &'static str,
    pub(crate) subject: String,
    pub(crate) detail: String,
    pub(crate) actor: String,
    pub(crate) because: String,
}

/// Asks the store that sits there, on a thread that may wait.
async fn ask<T: Send + 'static>(
    seat: &Seat,
    question: impl FnOnce(&dyn Store) -> Result<T, StoreError> + Send + 'static,
) -> Result<T, StoreError> {
    let store = seat.clone().lock_owned().await;
    finished(tokio::task::spawn_blocking(move || question(&**store)).await)
}

/// How long what was known last may stand for what is.
fn patience(settings: &Settings) -> Duration {
    Duration::from_secs(u64::try_from(settings.guard.store_patience.seconds()).unwrap_or(0))
}

/// The connections to the store that a guard needs.
pub struct Stores {
    /// For questions of sessions.
    pub reader: Box<dyn Store>,
    /// For following changes.
    pub follower: Box<dyn Store>,
    /// For what is recorded.
    pub writer: Box<dyn Store>,
}

/// The result of a call on another thread; one that panicked is told as damage.
fn finished<T>(joined: Result<Result<T, StoreError>, tokio::task::JoinError>) -> Result<T, StoreError> {
    joined.unwrap_or_else(|_| Err(StoreError::Damaged { detail: "a store thread failed".to_owned() }))
}

/// What a client showed: its certificate from the handshake, user name and password from CONNECT.
pub(crate) struct Shown<'a> {
    pub(crate) certificate: Option<Fingerprint>,
    pub(crate) user_name: Option<&'a str>,
    pub(crate) password: Option<&'a [u8]>,
}

/// The credential that counts. A certificate always comes first: it is never passed over for a token. Where a token is
/// shown too, it must be good and of the same device, which the caller checks with [`same_device`].
pub(crate) fn credential(
    shown: &Shown<'_>,
    key: &PublicKey,
    parties: &Parties,
    now: UnixTime,
) -> Result<(Credential, Option<VerifiedToken>), NotAdmitted> {
    let token = match shown.password {
        Some(password) => {
            let text = std::str::from_utf8(password)
                .map_err(|_| tidy_warden_core::token::BadToken::Malformed { detail: "it is not text" })?;
            Some(verify(text, key, parties, now)?)
        }
        None => None,
    };
    match (shown.certificate, token, shown.user_name) {
        (Some(fingerprint), token, _) => Ok((Credential::Certificate(fingerprint), token)),
        (None, Some(token), Some(_)) => Ok((Credential::Token(token), None)),
        (None, _, _) => Err(NotAdmitted::Nothing),
    }
}

/// Whether everything that was shown names `device`.
pub(crate) fn same_device(
    shown: &Shown<'_>,
    beside: Option<&VerifiedToken>,
    device: &DeviceId,
) -> Result<(), NotAdmitted> {
    let names = [shown.user_name, beside.map(|token| token.device.as_str())];
    match names.into_iter().flatten().any(|name| name != device.as_str()) {
        true => Err(NotAdmitted::OtherName { device: device.clone() }),
        false => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use tidy_warden_core::key::{NewKey, Signer, SoftwareKey};
    use tidy_warden_core::random::Randomness;

    use super::*;

    const NOW: UnixTime = UnixTime(1_795_417_333);

    struct Sevens;

    impl Randomness for Sevens {
        fn fill(&mut self, bytes: &mut [u8]) {
            bytes.fill(7);
        }
    }

    fn parties() -> Parties {
        Parties { issuer: "urn:uuid:1".to_owned(), audience: "mqtts://localhost:8883".to_owned() }
    }

    fn token(key: &SoftwareKey, device: &str) -> String {
        let life = Span::from_seconds(60);
        let device = device.parse().unwrap();
        tidy_warden_core::token::issue(&parties(), &device, NOW, life, key, &mut Sevens).unwrap().0
    }

    #[test]
    fn a_certificate_comes_first_and_is_never_passed_over() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let good = token(&key, "wv-1");
        let fingerprint = Fingerprint([1; 32]);
        let decide = |certificate, user_name, password: Option<&str>| {
            let shown = Shown { certificate, user_name, password: password.map(str::as_bytes) };
            credential(&shown, key.public_key(), &parties(), NOW)
        };
        let (chosen, beside) = decide(Some(fingerprint), Some("wv-1"), Some(&good)).unwrap();
        assert_eq!(chosen, Credential::Certificate(fingerprint));
        assert_eq!(beside.map(|token| token.device.to_string()).as_deref(), Some("wv-1"));
        assert!(matches!(decide(Some(fingerprint), None, Some("bad")), Err(NotAdmitted::Token(_))));
        assert!(decide(Some(fingerprint), None, None).is_ok());
        assert!(matches!(decide(None, Some("wv-1"), Some(&good)), Ok((Credential::Token(_), None))));
        assert!(matches!(decide(None, None, Some(&good)), Err(NotAdmitted::Nothing)), "a token needs its user name");
        assert!(matches!(decide(None, Some("wv-1"), None), Err(NotAdmitted::Nothing)));
        assert!(matches!(decide(None, None, None), Err(NotAdmitted::Nothing)));
        let shown = Shown { certificate: None, user_name: Some("wv-1"), password: Some(&[0xff, 0xfe]) };
        assert!(credential(&shown, key.public_key(), &parties(), NOW).is_err(), "not text");
    }

    #[test]
    fn everything_that_is_shown_must_name_one_device() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let beside =
            |of: &str| tidy_warden_core::token::verify(&token(&key, of), key.public_key(), &parties(), NOW).unwrap();
        let device: DeviceId = "wv-1".parse().unwrap();
        let agree = |user_name, beside: Option<&VerifiedToken>| {
            same_device(&Shown { certificate: None, user_name, password: None }, beside, &device)
        };
        assert!(agree(None, None).is_ok());
        assert!(agree(Some("wv-1"), Some(&beside("wv-1"))).is_ok());
        assert!(agree(Some("wv-2"), None).is_err());
        assert!(agree(Some("wv-1"), Some(&beside("wv-2"))).is_err());
        let error = agree(Some("somebody"), None).unwrap_err().to_string();
        assert!(!error.contains("somebody"), "user names are never logged: {error}");
    }
}
