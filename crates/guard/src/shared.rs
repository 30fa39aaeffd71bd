//! What all sessions share: the ward's knowledge, the edition that decides, and where events go.

use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::Instant;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::condition::Groups;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{DeviceId, PostName};
use tidy_warden_core::policy::Edition;
use tidy_warden_core::reflex::Noticed;
use tidy_warden_core::settings::{CloneWatch, WithoutStore};
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_serve::source::Source;
use tidy_warden_serve::tls::{TlsError, TlsSettings};
use tidy_warden_serve::trust::TrustHolder;
use tidy_warden_store::{Changes, Met, StoreError, resolvable};
use tokio::sync::{Semaphore, broadcast, mpsc, watch};

use crate::clones::{Clones, network};
use crate::errands::{Errands, Told};
use crate::evidence::{EvidenceBook, Notices};
use crate::floods::Floods;
use crate::gate::{Counting, Given};
use crate::history::History;
use crate::identity::{Credential, NotAdmitted};
use crate::introductions::{Introductions, New as NewChild};
use crate::kept::KeptSessions;
use crate::knowledge::Knowledge;
use crate::live::{Live, LiveConfig};
use crate::meeting::{Meeting, New};
use crate::meter::Rates;
use crate::metrics::Metrics;
use crate::registry::Registry;
use crate::replays::Replays;
use crate::traffic::Tallies;
use crate::watching::{Notes, Observer, Trial, Watching};
use crate::wills::Wills;
use crate::{Event, Sink};

/// Why a guard could not start.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the texts say what the fields are")]
pub enum GuardError {
    /// The address cannot be listened on.
    #[error("cannot listen on {address}: {error}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// What the system says.
        error: std::io::Error,
    },
    /// Its certificate or key is of no use.
    #[error(transparent)]
    Tls(#[from] TlsError),
    /// The store cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// What was seen of the store cannot be known.
    #[error("{path}, where the guard keeps how far it has seen the audit record, cannot be read: {error}")]
    Seen { path: String, error: std::io::Error },
    /// The adopted edition does not read back.
    #[error("edition {0} cannot be read by this version, so nothing is allowed")]
    Edition(u32),
}

/// Which policies decide and which are watched; whoever finds other numbers in the store reads them anew.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Versions {
    pub(crate) edition: u32,
    group_rules: i64,
    trial: u32,
}

impl From<&Changes> for Versions {
    fn from(changes: &Changes) -> Self {
        Self { edition: changes.edition, group_rules: changes.group_rules, trial: changes.trial }
    }
}

/// The policies of the moment.
#[derive(Default)]
pub(crate) struct Policies {
    versions: Versions,
    edition: Option<Edition>,
    /// Policies on trial, their number, and their last second.
    trial: Option<(u32, UnixTime, Edition)>,
}

/// What all sessions share.
pub(crate) struct Shared {
    pub(crate) knowledge: Knowledge,
    pub(crate) registry: Arc<Registry>,
    pub(crate) rates: Rates,
    pub(crate) trust: Arc<TrustHolder>,
    live: RwLock<Arc<Live>>,
    pub(crate) policies: RwLock<Arc<Policies>>,
    pub(crate) notes: Arc<Notes>,
    pub(crate) tallies: Tallies,
    pub(crate) history: History,
    pub(crate) evidence: Arc<EvidenceBook>,
    pub(crate) metrics: Arc<Metrics>,
    pub(crate) clones: Clones,
    /// The same of sessions that were opened with the device's certificate alone: whoever has a token of it gives no proof.
    pub(crate) proved_clones: Clones,
    pub(crate) wills: Wills,
    pub(crate) kept: KeptSessions,
    pub(crate) meeting: Arc<Meeting>,
    pub(crate) floods: Floods,
    pub(crate) replays: Replays,
    /// How many refused connections may be seen off at once.
    pub(crate) seen_off: Arc<Semaphore>,
    /// Whether sessions at the broker of devices that are out are to be looked for.
    pub(crate) clear_broker: AtomicBool,
    /// Uses of credentials that wait to be written.
    uses: Mutex<Vec<(DeviceId, Option<Fingerprint>)>>,
    /// Whoever follows what happens.
    pub(crate) watchers: broadcast::Sender<Arc<(UnixTime, Event)>>,
    pub(crate) observer: Option<Observer>,
    /// The number of the settings that were adopted last for all machines.
    pub(crate) adopted: watch::Sender<u32>,
    /// The change at which a server was given another certificate last.
    pub(crate) servers: watch::Sender<i64>,
    /// A next certificate of its own that is not valid yet, and from when on it is.
    pub(crate) later_own: Mutex<Option<(UnixTime, TlsSettings)>>,
    pub(crate) clock: Arc<dyn Clock>,
    /// Where gates tell of children that nobody listed, and its end for whoever brings them in.
    pub(crate) introductions: Introductions,
    pub(crate) introduced: Mutex<Option<mpsc::Receiver<NewChild>>>,
    /// Where gates tell of errands, and its end for whoever carries them.
    pub(crate) errands: Errands,
    pub(crate) told_of_errands: Mutex<Option<mpsc::Receiver<Told>>>,
    sink: Sink,
}

/// How many events may wait for a watcher before it loses some.
const WATCHERS_WAIT: usize = 4096;

/// How many connections that were refused are waited for at once, so that the client reads the reason; more are just closed.
const MOST_SEEN_OFF: usize = 128;

/// How many uses are written in one change.
const USES_AT_ONCE: usize = 500;

/// The most uses that wait for a store that cannot be written; a limit on memory.
const MOST_USES: usize = 100_000;

impl Shared {
    pub(crate) fn new(
        knowledge: Knowledge,
        live: Live,
        clock: Arc<dyn Clock>,
        trust: Arc<TrustHolder>,
        sink: Sink,
        observer: Option<Observer>,
    ) -> Self {
        let (introductions, introduced) = Introductions::new();
        let (errands, told_of_errands) = Errands::new();
        Self {
            later_own: Mutex::default(),
            introductions,
            errands,
            told_of_errands: Mutex::new(Some(told_of_errands)),
            introduced: Mutex::new(Some(introduced)),
            registry: Arc::default(),
            rates: Rates::default(),
            trust,
            knowledge,
            live: RwLock::new(Arc::new(live)),
            policies: RwLock::default(),
            notes: Arc::default(),
            tallies: Tallies::default(),
            history: History::default(),
            evidence: Arc::default(),
            metrics: Arc::default(),
            clones: Clones::default(),
            proved_clones: Clones::default(),
            wills: Wills::default(),
            kept: KeptSessions::default(),
            meeting: Arc::default(),
            floods: Floods::default(),
            replays: Replays::default(),
            seen_off: Arc::new(Semaphore::new(MOST_SEEN_OFF)),
            clear_broker: AtomicBool::new(true),
            uses: Mutex::default(),
            watchers: broadcast::Sender::new(WATCHERS_WAIT),
            observer,
            adopted: watch::Sender::new(0),
            servers: watch::Sender::new(0),
            clock,
            sink,
        }
    }

    pub(crate) fn emit(&self, event: Event) {
        if !self.floods.tells(&event, Instant::now()) {
            return;
        }
        let event = event.bounded();
        if self.live().settings.guard.keep_events {
            self.history.note(&event, self.clock.now());
        }
        if self.watchers.receiver_count() > 0 {
            // Nobody may be left by now.
            let _ = self.watchers.send(Arc::new((self.clock.now(), event.clone())));
        }
        (self.sink)(event);
    }

    /// A way to what reflexes act on; `is_proved` if whoever it is about has proved to have the device's own key.
    pub(crate) fn notices(&self, device: &DeviceId, peer: IpAddr, is_proved: bool) -> Notices {
        Notices { book: self.evidence.clone(), device: device.clone(), source: Source::from(peer), is_proved }
    }

    /// Writes what reflexes act on.
    pub(crate) async fn write_evidence(&self) -> Result<(), StoreError> {
        let some = self.evidence.take(Instant::now());
        if some.is_empty() { Ok(()) } else { self.knowledge.add_evidence(some).await }
    }

    pub(crate) fn live(&self) -> Arc<Live> {
        self.live.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Takes new settings.
    ///
    /// # Errors
    /// They cannot be used; the old ones stay.
    pub(crate) fn set_live(&self, config: LiveConfig) -> Result<(), TlsError> {
        let next = Live::new(config, self.clock.clone(), self.trust.clone(), self.live().generation + 1)?;
        *self.live.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(next);
        self.registry.recheck_all();
        Ok(())
    }

    /// Takes another certificate or key of its own; sessions that are there go on.
    ///
    /// # Errors
    /// They cannot be used; the old ones stay.
    pub(crate) fn set_own(&self, tls: TlsSettings) -> Result<(), TlsError> {
        let next = self.live().with_own(tls, self.clock.clone(), self.trust.clone())?;
        *self.live.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(next);
        Ok(())
    }

    /// Makes ready for another store: whatever it says counts, also if its numbers are smaller.
    pub(crate) fn forget_store(&self) {
        self.trust.set(self.trust.now().forgotten());
        self.knowledge.forget_signers();
        let mut current = self.policies.write().unwrap_or_else(PoisonError::into_inner);
        let Policies { edition, trial, .. } = &**current;
        let versions = Versions { group_rules: -1, ..Versions::default() };
        *current = Arc::new(Policies { versions, edition: edition.clone(), trial: trial.clone() });
    }

    /// What is wrong with the store, and what follows from it.
    pub(crate) fn without_store(&self, what: &str) -> String {
        let settings = &self.live().settings.guard;
        let then = match settings.without_store {
            WithoutStore::End => "then live sessions end too",
            WithoutStore::Keep => "live sessions go on until their credentials end",
        };
        format!("{what}; the guard goes by what it knew last for {} more, {then}", settings.store_patience)
    }

    /// What is counted of a device.
    pub(crate) fn counting(&self, device: &DeviceId) -> Counting {
        Counting { tally: self.tallies.of(device), metrics: self.metrics.clone() }
    }

    pub(crate) fn policies(&self) -> Arc<Policies> {
        self.policies.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What one session is watched for.
    pub(crate) fn watching(&self, device: &DeviceId, trial: Option<Trial>) -> Watching {
        Watching {
            device: device.clone(),
            observer: self.observer.clone(),
            notes: self.notes.clone(),
            now: self.clock.now(),
            trial,
        }
    }

    /// What the policies of this moment give a device, as far as the token goes that opened its session; `None` if there is no edition. `changes` is what the store said a
    /// moment ago, so that the answer does not wait for the follower; without it, what is known counts.
    pub(crate) async fn given(
        &self,
        device: &DeviceRecord,
        credential: &Credential,
        changes: Option<&Changes>,
    ) -> Option<Given> {
        if let Some(changes) = changes
            && let Err(error) = self.take(Versions::from(changes)).await
        {
            self.emit(Event::Trouble { what: error.to_string() });
        }
        let policies = self.policies();
        let edition = policies.edition.as_ref()?;
        let trial = policies.trial.as_ref().filter(|(_, until, _)| self.clock.now() <= *until);
        let asks = |edition: &Edition| edition.asks_for_children(device);
        let children = if asks(edition) || trial.is_some_and(|(_, _, edition)| asks(edition)) {
            match self.knowledge.children(device.id.clone()).await {
                Ok(children) => children,
                Err(error) => {
                    let what = format!("the children of {} are not known: {error}; it speaks for none", device.id);
                    self.emit(Event::Trouble { what });
                    Vec::new()
                }
            }
        } else {
            Vec::new()
        };
        let settings = self.live().settings.clone();
        let rights = |edition: &Edition| {
            let rights = edition.rights_with(device, &children, &settings);
            match credential.scope() {
                Some(scope) => rights.narrowed(scope.clone()),
                None => rights,
            }
        };
        let trial = trial.map(|(number, _, edition)| Trial { number: *number, rights: rights(edition) });
        Some(Given { rights: rights(edition), trial })
    }

    /// Notes that a credential opened a session; it is written soon. A session does not wait for the disk.
    pub(crate) fn note_use(&self, device: &DeviceId, credential: &Credential) {
        let key = credential.bearer().and_then(|bearer| bearer.key);
        let used = [credential.certificate(), key];
        let of_ward = used == [None, None];
        let mut uses = self.uses.lock().unwrap_or_else(PoisonError::into_inner);
        for used in used.into_iter().filter(|used| used.is_some()).chain(of_ward.then_some(None)) {
            // One use in a batch says as much as many.
            if uses.len() < MOST_USES && uses.last() != Some(&(device.clone(), used)) {
                uses.push((device.clone(), used));
            }
        }
    }

    /// Writes the uses that were noted, up to `most` of them, some hundred in a change: nobody who changes anything waits for all who came
    /// back at once.
    pub(crate) async fn write_uses(&self, most: usize) -> Result<(), StoreError> {
        let waiting = || self.uses.lock().unwrap_or_else(PoisonError::into_inner);
        let mut left = most;
        loop {
            let uses: Vec<_> = {
                let mut waiting = waiting();
                let count = waiting.len().min(USES_AT_ONCE).min(left);
                waiting.drain(..count).collect()
            };
            if uses.is_empty() {
                return Ok(());
            }
            left -= uses.len();
            if let Err(error) = self.knowledge.record_uses(uses.clone()).await {
                let mut waiting = waiting();
                let room = MOST_USES.saturating_sub(waiting.len());
                waiting.splice(0..0, uses.into_iter().take(room));
                return Err(error);
            }
        }
    }

    /// Writes what is known of sessions at the broker.
    pub(crate) async fn write_kept(&self) -> Result<(), StoreError> {
        let (kept, gone) = self.kept.take();
        if kept.is_empty() && gone.is_empty() {
            return Ok(());
        }
        let written = self.knowledge.keep_broker_sessions(kept.clone(), gone.clone()).await;
        if written.is_err() {
            self.kept.give_back(kept, gone);
        }
        written
    }

    /// Tells the other guards of this ward of its sessions, and does what follows from theirs. `is_first` stands for a guard that has
    /// just begun.
    pub(crate) async fn meet(self: &Arc<Self>, post: &PostName, is_first: bool) -> Result<(), StoreError> {
        let now = Instant::now();
        let news = self.meeting.take(now);
        if news.opened.is_empty() && news.closed.is_empty() && !is_first {
            return Ok(());
        }
        let closed = news.closed.iter().cloned().collect();
        let met = match self.knowledge.meet(post.clone(), is_first, news.rows(), closed).await {
            Ok(met) => met,
            Err(error) => {
                self.meeting.give_back(news);
                return Err(error);
            }
        };
        let most = self.live().settings.guard.sessions_per_device;
        for Met { client_id, before, left } in met {
            let Some(new) = news.opened.get(&client_id) else { continue };
            let New { device, peer, crowded } = new;
            if let Some(left) = left {
                let here = network(peer.ip());
                let sign = format!("it comes from {here} and from {left} in turn, by way of several guards");
                // What the other guard saw there is not known here.
                self.clone_sign(device, *peer, false, sign);
            }
            // Whoever came last is too many, and nobody before it.
            if before >= u64::from(most) {
                match crowded {
                    Some(_) => self.registry.tell_newest(&device.id, NotAdmitted::Crowded(before + 1, most)),
                    None => self.meeting.look_again(&client_id, new, now),
                }
            }
        }
        Ok(())
    }

    /// Writes what was counted of up to `most` devices.
    pub(crate) async fn write_traffic(&self, most: usize) -> Result<(), StoreError> {
        let counted = self.tallies.take(most);
        if counted.is_empty() {
            return Ok(());
        }
        let written = self.knowledge.add_traffic(counted.clone()).await;
        if written.is_err() {
            self.tallies.give_back(counted);
        }
        written
    }

    /// Writes what happened to devices, up to `most` events of it.
    pub(crate) async fn write_history(&self, most: usize) -> Result<(), StoreError> {
        let events = self.history.take(most);
        if events.is_empty() {
            return Ok(());
        }
        let written = self.knowledge.add_events(events.clone()).await;
        if written.is_err() {
            self.history.give_back(events);
        }
        written
    }

    /// Tells and records a sign that somebody else has a device's key, and does what the device's kind wants of it.
    pub(crate) fn clone_sign(self: &Arc<Self>, device: &DeviceRecord, peer: SocketAddr, is_proved: bool, sign: String) {
        let watch = self.live().settings.kind(&device.kind).map_or(CloneWatch::Record, |kind| kind.clone_watch);
        if watch == CloneWatch::Off {
            return;
        }
        self.metrics.clone_signs.inc();
        self.notices(&device.id, peer.ip(), is_proved).note(Noticed::CloneSign, self.clock.now(), &sign);
        self.emit(Event::CloneSign { device: device.id.to_string(), peer, sign: sign.clone() });
        let (shared, device) = (self.clone(), device.id.clone());
        tokio::spawn(async move {
            let recorded = shared.knowledge.record_clone_sign(device.clone(), sign, watch == CloneWatch::Hold).await;
            match recorded {
                Ok(true) => shared.emit(Event::Held { device: device.to_string() }),
                Ok(false) => {}
                Err(error) => {
                    let what = format!("a sign that {device} has a clone was not recorded: {error}");
                    shared.emit(Event::Trouble { what });
                }
            }
        });
    }

    /// Takes the policies of these versions from the store, unless they are taken or later ones were meanwhile; says
    /// whether it did. An edition that cannot be read leaves none: doubt denies.
    pub(crate) async fn take(&self, versions: Versions) -> Result<bool, GuardError> {
        if self.policies().versions == versions {
            return Ok(false);
        }
        let (edition, groups, trial) = self.knowledge.policies(versions.edition).await?;
        let groups: Groups = resolvable(&groups)?;
        let number = versions.edition;
        let read = edition.map(|record| Edition::read(number, &record.files, &groups)).transpose();
        let trial = trial.filter(|trial| trial.number == versions.trial);
        let trial = trial.and_then(|trial| {
            let edition = Edition::read(0, &trial.files, &groups).ok()?;
            Some((trial.number, trial.until, edition))
        });
        let mut current = self.policies.write().unwrap_or_else(PoisonError::into_inner);
        if current.versions.edition > number || current.versions.group_rules > versions.group_rules {
            return Ok(false);
        }
        let unreadable = read.is_err();
        *current = Arc::new(Policies { versions, edition: read.unwrap_or_default(), trial });
        if unreadable { Err(GuardError::Edition(number)) } else { Ok(true) }
    }

    /// Whether the trial that is watched is over.
    pub(crate) fn trial_is_over(&self, now: UnixTime) -> bool {
        self.policies().trial.as_ref().is_some_and(|(_, until, _)| now > *until)
    }

    /// Forgets the trial.
    pub(crate) fn end_trial(&self) {
        let mut current = self.policies.write().unwrap_or_else(PoisonError::into_inner);
        let Policies { versions, edition, .. } = &**current;
        *current = Arc::new(Policies { versions: *versions, edition: edition.clone(), trial: None });
    }

    /// Writes the differences that were noted.
    pub(crate) async fn write_notes(&self) -> Result<(), StoreError> {
        let mut result = Ok(());
        for (trial, differences) in self.notes.take() {
            if let Err(error) = self.knowledge.record_differences(trial, differences).await {
                result = Err(error);
            }
        }
        result
    }
}
