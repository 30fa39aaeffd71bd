//! What the guard knows of the store: how well it sees it, what it asks it, and what it goes by while there is no answer.

mod record;

use std::collections::HashSet;
use std::sync::{Arc, Mutex as SyncMutex, PoisonError};
use std::time::Duration;

use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{SoftwareKey, sha256};
use tidy_warden_core::settings::{Settings, WithoutStore};
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_serve::lists::MakerLists;
use tidy_warden_serve::pool::Seat;
use tidy_warden_serve::seen::{Follows, Head};
use tidy_warden_serve::trust::Trust;
use tidy_warden_store::acts::bearer::own_keys;
use tidy_warden_store::acts::record::changes;
use tidy_warden_store::{
    Cause, Changes, DeviceView, EditionRecord, Feed, GroupRecord, GuardStore, Introduction, OwnKey, Signers,
    StoreError, TrialRecord, View,
};
use tokio::time::Instant;

use crate::identity::{Admitted, Credential, NotAdmitted};
use crate::memory::{Found, Memory, Terms};

pub(crate) use record::WatchNote;

/// The most credentials of devices that changed which are asked for anew at once, so that the next change does not wait.
const MOST_ASKED_ANEW: usize = 256;

/// The connections to the store that a guard needs.
pub struct Stores {
    /// For questions of sessions.
    pub reader: GuardStore,
    /// For following changes.
    pub follower: GuardStore,
    /// For what is recorded.
    pub writer: GuardStore,
}

/// Read and write access to the store from many tasks. Who waits for its turn holds no thread, so that a store that is
/// slow to write does not keep anybody from reading.
#[derive(Clone)]
pub(crate) struct Knowledge {
    reader: Seat<GuardStore>,
    /// The follower's own, so that no session's question keeps a revocation waiting.
    follower: Seat<GuardStore>,
    writer: Seat<GuardStore>,
    feed: Seat<Following>,
    clock: Arc<dyn Clock>,
    sight: Arc<SyncMutex<Sight>>,
    memory: Arc<SyncMutex<Memory>>,
    /// The account under which the guard's own changes are recorded.
    actor: Arc<str>,
    /// What foreign authorities say of the certificates that they signed.
    pub(crate) maker_lists: Arc<MakerLists>,
    /// Who signs tokens for the ward.
    signers: Arc<SyncMutex<Arc<Signers>>>,
}

/// Where the store's feed was when it was last asked.
pub(crate) struct Following {
    feed: Box<dyn Feed>,
    number: i64,
}

impl Following {
    pub(crate) fn new(feed: Box<dyn Feed>) -> Self {
        Self { feed, number: 0 }
    }
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
        Credential::Certificate(_) | Credential::Both(..) => NotAdmitted::UnknownCertificate,
        Credential::Token(bearer) => NotAdmitted::UnknownDevice(bearer.token.device.to_string()),
    }
}

impl Knowledge {
    /// `seen` is how far a guard saw the record before.
    ///
    /// # Errors
    /// The store cannot be followed.
    pub(crate) fn new(stores: Stores, clock: Arc<dyn Clock>, seen: Head, actor: String) -> Result<Self, StoreError> {
        let feed = Seat::new(Following::new(stores.follower.feed()?));
        let [reader, follower, writer] = [stores.reader, stores.follower, stores.writer].map(Seat::new);
        Ok(Self { actor: actor.into(), ..Self::with([reader, follower, writer], feed, clock, seen) })
    }

    /// With seats that are taken already.
    pub(crate) fn with(
        [reader, follower, writer]: [Seat<GuardStore>; 3],
        feed: Seat<Following>,
        clock: Arc<dyn Clock>,
        seen: Head,
    ) -> Self {
        let sight = Sight { heard: Instant::now(), silent: None, seen, behind: None };
        let sight = Arc::new(SyncMutex::new(sight));
        let (memory, maker_lists, signers) = (Arc::default(), Arc::default(), Arc::default());
        Self { reader, follower, writer, feed, clock, sight, memory, actor: "guard".into(), maker_lists, signers }
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

    /// Why live sessions may not go on: nobody has known for longer than the settings allow. Whoever waits for an answer does not know
    /// yet that there will be none; the time counts all the same.
    pub(crate) fn exhausted(&self, settings: &Settings) -> Option<String> {
        let guard = &settings.guard;
        let patience = patience(settings);
        let unheard = self.sight().heard.elapsed() >= patience.max(LEAST_UNHEARD);
        let too_long = unheard || self.doubt().is_some_and(|doubt| doubt >= patience);
        (guard.without_store == WithoutStore::End && too_long)
            .then(|| format!("the store could not be asked for {}", guard.store_patience))
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
        if let Some(error) = answer.as_ref().err().filter(|error| error.is_silence()) {
            self.sight().silent.get_or_insert_with(|| error.to_string());
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
        let cause = Cause { at: self.now(), actor: self.actor.to_string(), because };
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
            Err(error) => {
                // The ward is elsewhere, where somebody may be revoked at any moment: nobody new comes in by what was so here.
                if let StoreError::Moved { .. } = error {
                    sight.behind.get_or_insert_with(|| (Instant::now(), error.to_string()));
                }
                sight.silent = Some(error.to_string());
            }
        }
        drop(sight);
        answer
    }

    /// Waits until the store changed since it was last waited for, but not longer than `at_most`. A store that cannot be waited
    /// for is asked for what is new as if it had changed at the end of that time.
    pub(crate) async fn wait(&self, at_most: Duration) {
        let wait = move |following: &mut Following| {
            following.number = following.feed.wait(following.number, at_most)?.number;
            Ok(())
        };
        let waited = Instant::now();
        if self.feed.change(wait).await.is_err() {
            tokio::time::sleep_until(waited + at_most).await;
        }
    }

    /// Opens the store anew on all connections.
    pub(crate) async fn reopen(&self) -> Result<(), StoreError> {
        for seat in [&self.follower, &self.reader, &self.writer] {
            seat.change(GuardStore::reopen).await?;
        }
        let feed = self.follower.ask(|store| store.feed()).await?;
        let renew = move |following: &mut Following| {
            *following = Following::new(feed);
            Ok(())
        };
        self.feed.change(renew).await
    }

    /// Compares what the store tells with what was seen of it, and notes it. `changes` must be what is new since the number
    /// of [`Self::seen`].
    pub(crate) fn compare(&self, changes: &Changes) -> Follows {
        let mut sight = self.sight();
        // What a backup lacks may be unknown to this guard too, if it has never seen anything.
        if let Some(doubt) = &changes.doubt {
            sight.behind.get_or_insert_with(|| (Instant::now(), doubt.clone()));
            return Follows::Behind(doubt.clone());
        }
        let follows = sight.seen.followed_by(changes.to, changes.since, changes.given_up);
        match &follows {
            Follows::On | Follows::Accepted => {
                sight.seen = Head { number: changes.to, hash: changes.head };
                sight.behind = None;
            }
            Follows::Behind(what) => drop(sight.behind.get_or_insert_with(|| (Instant::now(), what.clone()))),
        }
        follows
    }

    /// Forgets everything that is remembered of devices that changed, before anything else is done about them; `None` stands
    /// for all devices. `to` is the change number up to which this is. Gives some credentials of devices that changed, for
    /// [`Self::remember`].
    pub(crate) fn forget(&self, changed: Option<&HashSet<DeviceId>>, to: i64) -> Vec<Credential> {
        let mut memory = self.memory();
        let mut forgotten = Vec::new();
        match changed {
            Some(devices) => devices.iter().for_each(|device| forgotten.extend(memory.forget(device))),
            None => memory.forget_all(),
        }
        forgotten.truncate(MOST_ASKED_ANEW);
        // Any change at all: not devices alone make a difference to a session.
        memory.told += u64::from(changed.is_none() || to != memory.upto);
        memory.upto = to;
        forgotten
    }

    /// Asks for credentials anew that were forgotten, so that a device which has no session at the moment is still known if the store
    /// falls silent.
    pub(crate) async fn remember(&self, mut forgotten: Vec<Credential>, settings: &Arc<Settings>) {
        forgotten.retain(|credential| !self.memory().found.contains_key(credential));
        // Whoever is not remembered waits until the store answers.
        let _ = self.admit_many(forgotten, settings.clone()).await;
    }

    /// The authorities as the store has them at the change number `authorities`.
    pub(crate) async fn trust(&self, before: Arc<Trust>, authorities: i64) -> Result<Trust, StoreError> {
        self.follower.ask(move |store| store.view(|view| Trust::read(view, authorities, &before))).await
    }

    /// Who signs tokens for the ward, as it is known.
    pub(crate) fn signers(&self) -> Arc<Signers> {
        self.signers.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Takes who signs tokens from the store, as it is at the change number `at`, unless that is known; `own` opens the wrapped data key.
    pub(crate) async fn take_signers(&self, own: Arc<SoftwareKey>, at: i64) -> Result<(), StoreError> {
        if self.signers().at == at {
            return Ok(());
        }
        let read = self.follower.ask(move |store| store.view(|view| Signers::read(view, &own, at))).await?;
        *self.signers.lock().unwrap_or_else(PoisonError::into_inner) = Arc::new(read);
        Ok(())
    }

    /// Makes ready for another store: who signs tokens is read from it anew.
    pub(crate) fn forget_signers(&self) {
        let mut signers = self.signers.lock().unwrap_or_else(PoisonError::into_inner);
        *signers = Arc::new(signers.of_another_store());
    }

    /// The keys of a device's own that could have signed a token.
    pub(crate) async fn own_keys(&self, device: DeviceId, kid: Option<String>) -> Result<Vec<OwnKey>, StoreError> {
        let now = self.now();
        self.read(move |store| store.view(|view| own_keys(view, &device, kid.as_deref(), now))).await
    }

    fn terms<'a>(&'a self, settings: &'a Settings, signers: &'a Signers, now: UnixTime) -> Terms<'a> {
        Terms { settings, lists: &self.maker_lists, signers, now }
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
        let signers = self.signers();
        match answer {
            Ok(Asked { seen, changes, found, .. }) => {
                if let Some(doubt) = changes.doubt {
                    return Err(NotAdmitted::Behind(doubt));
                }
                if changes.to < seen {
                    // The follower will say so in a moment, and to everybody.
                    let what = format!("its record ends with entry {}, and entry {seen} was seen", changes.to);
                    return Err(NotAdmitted::Behind(what));
                }
                let found = found.ok_or_else(|| unknown(credential))?;
                let admitted = found.clone().judge(credential, &self.terms(settings, &signers, now));
                self.memory().keep(credential, &found, changes.to, admitted.is_ok());
                Ok((admitted?, Some(changes)))
            }
            Err(error) => match self.recall(credential, settings) {
                Some(found) => Ok((found.judge(credential, &self.terms(settings, &signers, now))?, None)),
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
        (doubt < patience(settings))
            .then(|| self.memory().found.get(credential).map(|(found, _)| found.clone()))
            .flatten()
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
        let signers = self.signers();
        let judged = credentials.iter().zip(all).map(|(credential, found)| {
            let found = found.ok_or_else(|| unknown(credential))?;
            let admitted = found.clone().judge(credential, &self.terms(&settings, &signers, now));
            self.memory().keep(credential, &found, at, admitted.is_ok());
            admitted
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
        let resolved = |record: CredentialRecord, device: DeviceRecord, changes: Changes| {
            let (fingerprint, holder) = (record.fingerprint, device.id.clone());
            let found = Some(Found { credential: Some(record), token: None, device: Arc::new(device) });
            Resolved { fingerprint, device: holder, asked: Some(Asked { seen, told, changes, found }) }
        };
        let (changes, known) = match self.read(move |store| store.entrance(&fingerprint, &key)).await {
            Ok(answer) => (Changes::from(answer.head), answer.known),
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
        let facts = vouched.vouched(leaf);
        let leaf = leaf.clone();
        let record = move |store: &mut GuardStore, cause: &Cause| {
            let (maker, kinds) = (&name, &vouched.kinds);
            store.introduce(&Introduction { maker, kinds, facts: &facts, certificate: &leaf }, cause)
        };
        let device = self.write(record, "first shown".to_owned()).await?.ok_or(NotAdmitted::UnknownCertificate)?;
        Ok(Resolved { fingerprint, device, asked: None })
    }
}

/// A follower that has much to do, or a store that is slow to answer, is no silence before that.
const LEAST_UNHEARD: Duration = Duration::from_secs(5);

/// How long what was known last may stand for what is.
fn patience(settings: &Settings) -> Duration {
    Duration::from_secs(u64::try_from(settings.guard.store_patience.seconds()).unwrap_or(0))
}
