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
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_core::token::{Parties, VerifiedToken, verify};
use tidy_warden_serve::lists::{Listed, MakerLists};
use tidy_warden_serve::pool::Seat;
use tidy_warden_serve::seen::Head;
use tidy_warden_serve::trust::Trust;
use tidy_warden_store::acts::record::changes;
use tidy_warden_store::{
    BrokerSession, Cause, Changes, DeviceView, EditionRecord, GroupRecord, GuardStore, Introduction, StoreError, Tally,
    Traffic, TrialDifference, TrialRecord, View,
};

/// The account under which the guard's own changes are recorded.
const ACTOR: &str = "guard";

/// The most credentials that are remembered for the case that the store fails; a limit on memory.
const MOST_REMEMBERED: usize = 100_000;

/// Read and write access to the store from many tasks. Who waits for its turn holds no thread, so that a store that is
/// slow to write does not keep anybody from reading.
#[derive(Clone)]
pub(crate) struct Knowledge {
    reader: Seat<GuardStore>,
    /// The follower's own, so that no session's question keeps a revocation waiting.
    follower: Seat<GuardStore>,
    writer: Seat<GuardStore>,
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
    /// How often the follower found something new.
    told: u64,
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
    fn look(store: &dyn View, credential: &Credential) -> Result<Option<Self>, StoreError> {
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

/// What the store said of a credential, in one snapshot.
pub(crate) struct Asked {
    /// How far the record had been seen before the store was asked: what is seen meanwhile may be newer than the answer, and is no sign
    /// of an older store.
    seen: i64,
    /// How often the follower had found something new before.
    told: u64,
    changes: Changes,
    found: Option<Found>,
}

/// The recorded credential that a certificate stands for.
pub(crate) struct Resolved {
    pub(crate) fingerprint: Fingerprint,
    pub(crate) device: DeviceId,
    /// What the store said of it on that occasion, if it was asked for all of it.
    pub(crate) asked: Option<Asked>,
}

/// The answer where the store knows nothing of a credential.
fn unknown(credential: &Credential) -> NotAdmitted {
    match credential {
        Credential::Certificate(_) => NotAdmitted::UnknownCertificate,
        Credential::Token(token) => NotAdmitted::UnknownDevice(token.device.to_string()),
    }
}

impl Knowledge {
    /// `seen` is how far a guard saw the record before.
    pub(crate) fn new(stores: Stores, clock: Arc<dyn Clock>, seen: Head) -> Self {
        let sight = Sight { heard: Instant::now(), silent: None, seen, behind: None };
        Self {
            reader: Seat::new(stores.reader),
            follower: Seat::new(stores.follower),
            writer: Seat::new(stores.writer),
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
        question: impl FnOnce(&GuardStore) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        if let Some(detail) = &self.sight().silent {
            return Err(StoreError::Damaged { detail: detail.clone() });
        }
        let answer = self.reader.ask(question).await;
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
        change: impl FnOnce(&mut GuardStore, &Cause) -> Result<T, StoreError> + Send + 'static,
        because: String,
    ) -> Result<T, StoreError> {
        if let Some((_, what)) = &self.sight().behind {
            return Err(StoreError::Unwritable { detail: what.clone() });
        }
        let cause = Cause { at: self.now(), actor: ACTOR.to_owned(), because };
        self.writer.change(move |store| change(store, &cause)).await
    }

    /// What is new; for the follower, who tries the store even if it failed before.
    pub(crate) async fn changed_since(&self, since: i64) -> Result<Changes, StoreError> {
        let answer = self.follower.ask(move |store| store.changed_since(since)).await;
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
            seat.change(GuardStore::reopen).await?;
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
        // Any change at all: not devices alone make a difference to a session.
        memory.told += u64::from(changed.is_none() || to != memory.upto);
        memory.upto = to;
    }

    /// The authorities as the store has them at the change number `authorities`.
    pub(crate) async fn trust(&self, before: Arc<Trust>, authorities: i64) -> Result<Trust, StoreError> {
        self.follower.ask(move |store| store.view(|view| Trust::read(view, authorities, &before))).await
    }

    /// `before` with the keys that were bound since; `None` if there are none.
    pub(crate) async fn bound(&self, before: Arc<Trust>) -> Result<Option<Trust>, StoreError> {
        self.follower.ask(move |store| before.with_bound(&**store)).await
    }

    /// An edition, the groups that it may name, and the trial that is running.
    pub(crate) async fn policies(
        &self,
        edition: u32,
    ) -> Result<(Option<EditionRecord>, Vec<GroupRecord>, Option<TrialRecord>), StoreError> {
        let look = move |view: &dyn View| Ok((view.edition(Some(edition))?, view.groups()?, view.trial()?));
        self.read(move |store| store.view(look)).await
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
        let record = move |store: &mut GuardStore, _: &Cause| {
            store.tally(&Tally::Differences { trial, differences: &differences })
        };
        self.write(record, String::new()).await
    }

    /// Whether a credential may sign in at this moment, and which policies count. While the store does not answer, what it
    /// said last counts, but not for longer than the settings say; the answer then has no changes in it, and the store owes
    /// the session another.
    pub(crate) async fn admit(
        &self,
        credential: &Credential,
        settings: &Settings,
        asked: Option<Asked>,
    ) -> Result<(Admitted, Option<Changes>), NotAdmitted> {
        self.not_behind()?;
        let now = self.now();
        // The session is registered by now: what the follower deals with from here on it tells the session of.
        let asked = asked.filter(|asked| self.memory().told == asked.told);
        let answer = match asked {
            Some(asked) => Ok(asked),
            None => {
                let (wanted, seen, told) = (credential.clone(), self.seen().number, self.memory().told);
                let look = move |view: &dyn View| {
                    Ok(Asked { seen, told, changes: changes(view, i64::MAX)?, found: Found::look(view, &wanted)? })
                };
                self.read(move |store| store.view(look)).await
            }
        };
        match answer {
            Ok(Asked { seen, changes, found, .. }) => {
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
        let look = move |view: &dyn View| {
            let at = view.audit_end()?.0;
            let found: Result<Vec<_>, _> = asked.iter().map(|credential| Found::look(view, credential)).collect();
            Ok((at, found?))
        };
        let (at, all) = self.follower.ask(move |store| store.view(look)).await?;
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
    ) -> Result<Resolved, NotAdmitted> {
        let fingerprint = leaf.fingerprint;
        let key = sha256(leaf.public_key.spki());
        let (seen, told) = (self.seen().number, self.memory().told);
        let look = move |view: &dyn View| {
            let changes = changes(view, i64::MAX)?;
            let mut known = view.status_many(&[fingerprint])?.pop().flatten();
            if !known.as_ref().is_some_and(|(record, _)| record.origin != Origin::Foreign)
                && let Some(bound) = view.bound_key(&key)?
            {
                known = view.status_many(&[bound])?.pop().flatten();
            }
            Ok((changes, known))
        };
        let resolved = |record: CredentialRecord, device: DeviceRecord, changes: Changes| {
            let (fingerprint, holder) = (record.fingerprint, device.id.clone());
            let found = Some(Found { credential: Some(record), device: Arc::new(device) });
            Resolved { fingerprint, device: holder, asked: Some(Asked { seen, told, changes, found }) }
        };
        let (changes, known) = match self.read(move |store| store.view(look)).await {
            Ok(answer) => answer,
            Err(error) => {
                let found = self.recall(&Credential::Certificate(fingerprint), settings);
                let device = found.map(|found| found.device.id.clone()).ok_or(error)?;
                return Ok(Resolved { fingerprint, device, asked: None });
            }
        };
        let known = match known {
            Some((record, device)) if record.origin != Origin::Foreign => {
                return Ok(resolved(record, device, changes));
            }
            other => other,
        };
        let maker = trust.maker(leaf, self.now()).ok_or(NotAdmitted::UnknownCertificate)?;
        let (name, vouched) = (maker.name.clone(), maker.trust.clone());
        self.maker_lists.judge(&name, (Some(&leaf.issuer), Some(&leaf.serial)), self.now())?;
        if let Some((record, device)) = known {
            if !vouched.kinds.contains(&device.kind) {
                return Err(NotAdmitted::UnknownCertificate);
            }
            if record.authority.as_ref() == Some(&name) {
                return Ok(resolved(record, device, changes));
            }
            // Another entry of the same maker speaks for it now: it is recorded so below.
        }
        let fact = leaf.fact(&vouched.fact).ok_or(NotAdmitted::UnknownCertificate)?;
        let leaf = leaf.clone();
        let record = move |store: &mut GuardStore, cause: &Cause| {
            let (maker, kinds) = (&name, &vouched.kinds);
            store.introduce(&Introduction { maker, kinds, fact: &fact, certificate: &leaf }, cause)
        };
        let device = self.write(record, "first shown".to_owned()).await?.ok_or(NotAdmitted::UnknownCertificate)?;
        Ok(Resolved { fingerprint, device, asked: None })
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
        self.follower.ask(move |store| store.broker_sessions_of_ended(limit)).await
    }

    /// Keeps what is known of sessions at the broker.
    pub(crate) async fn keep_broker_sessions(
        &self,
        kept: Vec<BrokerSession>,
        gone: Vec<String>,
    ) -> Result<(), StoreError> {
        let record = move |store: &mut GuardStore, cause: &Cause| {
            store.tally(&Tally::Sessions { kept: &kept, gone: &gone, now: cause.at })
        };
        self.write(record, String::new()).await
    }

    /// Records what opened sessions.
    pub(crate) async fn record_uses(&self, uses: Vec<(DeviceId, Option<Fingerprint>)>) -> Result<(), StoreError> {
        self.write(move |store, cause| store.record_uses(&uses, cause), String::new()).await
    }

    /// Adds to what was counted of devices.
    pub(crate) async fn add_traffic(&self, counted: Vec<(DeviceId, Traffic)>) -> Result<(), StoreError> {
        let record = move |store: &mut GuardStore, cause: &Cause| {
            store.tally(&Tally::Traffic { counted: &counted, at: cause.at })
        };
        self.write(record, String::new()).await
    }

    /// Records a sign of a clone, and puts the device on hold if that is to follow; says whether it did.
    pub(crate) async fn record_clone_sign(
        &self,
        device: DeviceId,
        sign: String,
        hold: bool,
    ) -> Result<bool, StoreError> {
        let because = if hold { format!("clone watch: {sign}") } else { String::new() };
        let record = move |store: &mut GuardStore, cause: &Cause| store.record_clone_sign(&device, &sign, hold, cause);
        self.write(record, because).await
    }

    /// Notes in the audit record that a person looks at messages.
    pub(crate) async fn record_watch(&self, note: WatchNote) -> Result<i64, StoreError> {
        let record = move |store: &mut GuardStore, cause: &Cause| {
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

/// How long what was known last may stand for what is.
fn patience(settings: &Settings) -> Duration {
    Duration::from_secs(u64::try_from(settings.guard.store_patience.seconds()).unwrap_or(0))
}

/// The connections to the store that a guard needs.
pub struct Stores {
    /// For questions of sessions.
    pub reader: GuardStore,
    /// For following changes.
    pub follower: GuardStore,
    /// For what is recorded.
    pub writer: GuardStore,
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

    use tidy_warden_core::time::Span;

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
