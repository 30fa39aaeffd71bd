//! What the desk goes by: its settings, what signs, whose certificates are believed, and the way to the store.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError, RwLock};
use std::time::Instant;

use hyper::body::Bytes;
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::est;
use tidy_warden_core::id::{AuthorityName, DeviceId, KindName, OwnerId};
use tidy_warden_core::key::{PublicKey, Signer};
use tidy_warden_core::settings::{Renews, Settings};
use tidy_warden_core::shared::DataKey;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_core::token::key_set;
use tidy_warden_serve::buckets::Buckets;
use tidy_warden_serve::lists::{MakerFiles, MakerLists};
use tidy_warden_serve::source::Source;
use tidy_warden_serve::tls::{TlsError, TlsSettings};
use tidy_warden_serve::trust::{Trust, TrustHolder};
use tidy_warden_store::{Cause, DeskActs, DeskReader, Head, OperatorStore, StoreError};
use tidy_warden_ward::errand::ErrandSigner;
use tidy_warden_ward::issue::press::Mint;
use tidy_warden_ward::keys::Openers;
use tidy_warden_ward::open::Ward;
use tidy_warden_ward::problem::Problem;

use crate::lists::Lists;
use crate::metrics::Metrics;
use crate::notices::Telling;
use crate::owner::Sealer;
use crate::{Event, Sink};

/// How many refusals of one network are told in full at once, and within how long as many more.
const TOLD: u32 = 20;
const TOLD_WITHIN: std::time::Duration = std::time::Duration::from_secs(60);

/// Why a desk could not start.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DeskError {
    /// The address cannot be listened on.
    #[error("cannot listen on {address}: {error}")]
    Listen {
        /// The address.
        address: std::net::SocketAddr,
        /// What the system says.
        error: std::io::Error,
    },
    /// Its certificate or key is of no use.
    #[error(transparent)]
    Tls(#[from] TlsError),
    /// The store cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// There is no thread to be had.
    #[error("cannot start: {0}")]
    Thread(std::io::Error),
}

/// What the desk takes from the ward, at its start and when it is told to look again.
pub struct LiveConfig {
    pub(crate) tls: TlsSettings,
    pub(crate) settings: Settings,
    pub(crate) mint: Mint,
    /// What signs revocation lists.
    pub(crate) signers: Vec<(AuthorityRecord, Arc<dyn Signer>)>,
    /// What signs errands, if the ward has such a key and this desk may use it.
    pub(crate) errands: Option<Arc<ErrandSigner>>,
    /// Why it is not open, if it should be.
    pub(crate) errands_closed: Option<String>,
    /// What opens the keys that devices share with the ward, if devices replace theirs here; or why it is not open.
    pub(crate) data_key: Result<Option<DataKey>, String>,
    /// Where notices go, if they do; or why they cannot.
    pub(crate) telling: Result<Option<Arc<Telling>>, String>,
    /// The files with the revocation lists of manufacturers.
    pub(crate) maker_files: BTreeMap<AuthorityName, PathBuf>,
    /// The change number of the authorities that this was made from.
    pub(crate) read: Reading,
    /// When its own certificate ends.
    pub(crate) own_ends: Option<UnixTime>,
    cacerts: String,
    roots: String,
    keys: String,
    token_keys: Vec<PublicKey>,
    issuing: BTreeMap<String, Bytes>,
}

impl LiveConfig {
    /// What signs revocation lists and certificates: each authority with its key.
    #[must_use]
    pub fn signers(&self) -> &[(AuthorityRecord, Arc<dyn Signer>)] {
        &self.signers
    }

    /// Takes what its own certificate and key are out of it: they go to the listener alone.
    pub(crate) fn take_tls(&mut self) -> TlsSettings {
        let none = TlsSettings { chain: Vec::new(), key: Vec::new().into(), allow_anonymous: true };
        std::mem::replace(&mut self.tls, none)
    }

    /// The key that signs notices, if it is open.
    #[must_use]
    pub fn notice_key(&self) -> Option<Arc<dyn Signer>> {
        self.telling.as_ref().ok()?.as_ref().map(|telling| telling.key.clone())
    }

    /// What opens the keys that devices share with the ward, if it is open.
    #[must_use]
    pub fn data_key(&self) -> Option<DataKey> {
        self.data_key.as_ref().ok()?.clone()
    }

    /// The key that signs errands, if it is open.
    #[must_use]
    pub fn errand_key(&self) -> Option<Arc<dyn Signer>> {
        self.errands.as_ref().map(|errands| errands.key())
    }

    /// Reads all of it, and opens what signs for devices: nothing is served without it. A desk at a post does not have the key that signs
    /// for guards and desks.
    ///
    /// # Errors
    /// The store cannot be read, or a key cannot be opened.
    pub fn of(ward: &Ward, openers: &dyn Openers, tls: TlsSettings, is_post: bool) -> Result<Self, Problem> {
        let (all, read) = ward.store.view(|view| Ok((view.authorities()?, Reading::from(&view.head()?))))?;
        let mut tokens = ward.store.signers()?;
        tokens.retain(|each| each.retired.is_none());
        let mint = Mint::new(ward)?;
        let mut signers: Vec<(AuthorityRecord, Arc<dyn Signer>)> = Vec::new();
        let believed = |each: &&AuthorityRecord| each.retired.is_none();
        for authority in all.iter().filter(|each| each.role == AuthorityRole::Devices).filter(believed) {
            signers.push((authority.clone(), openers.signer(ward, authority)?));
        }
        let opened = |wanted: &AuthorityRecord| {
            let found = signers.iter().find(|(authority, _)| authority.name == wanted.name);
            found
                .map(|(_, signer)| signer.clone())
                .ok_or_else(|| Problem::refused(format!("`{}` cannot sign here", wanted.name)).next("authority list"))
        };
        for kind in ward.settings.kinds.keys() {
            mint.prepare(kind, &opened)?;
        }
        if ward.settings.desk.renew_servers && !is_post {
            let or = "if the key is kept elsewhere: renew_servers = false under [desk], and post renew by hand";
            for authority in all.iter().filter(|each| each.role == AuthorityRole::Service).filter(believed) {
                let signer = openers.signer(ward, authority).map_err(|problem| problem.or_next(or))?;
                signers.push((authority.clone(), signer));
            }
        }
        // A desk that was started before there was such a key, and whose passphrase was typed, does all else.
        let opened = if is_post { Ok(None) } else { ErrandSigner::existing(ward, openers) };
        let (errands, errands_closed) = match opened {
            Ok(errands) => (errands.map(Arc::new), None),
            Err(problem) => (None, Some(problem.in_one_line())),
        };
        let data_key =
            if is_post { Ok(None) } else { data_key(ward, openers).map_err(|problem| problem.in_one_line()) };
        let ours = |each: &&AuthorityRecord| {
            matches!(each.role, AuthorityRole::Root | AuthorityRole::Devices) && each.retired.is_none()
        };
        let mut certificates: Vec<&[u8]> = Vec::new();
        for each in all.iter().filter(ours) {
            certificates.push(each.certificate.der());
            certificates.extend(each.crossed.iter().map(Certificate::der));
        }
        certificates.dedup();
        let roots = all.iter().filter(|each| each.role == AuthorityRole::Root).filter(believed);
        let signs = |each: &&AuthorityRecord| matches!(each.role, AuthorityRole::Devices | AuthorityRole::Service);
        let issuing = all.iter().filter(signs).filter(believed);
        Ok(Self {
            own_ends: tls.chain.first().map(|own| own.not_after),
            tls,
            settings: ward.settings.clone(),
            mint,
            errands,
            errands_closed,
            data_key,
            telling: if is_post { Ok(None) } else { telling(ward, openers).map_err(|problem| problem.in_one_line()) },
            maker_files: ward.maker_files(),
            read,
            cacerts: est::encoded(&est::certs_only(&certificates)),
            roots: roots.map(|root| root.certificate.to_pem()).collect(),
            keys: key_set(&tokens.iter().map(|each| &each.key).collect::<Vec<_>>()),
            token_keys: tokens.iter().map(|each| each.key.clone()).collect(),
            issuing: issuing
                .map(|each| (each.name.to_string(), Bytes::copy_from_slice(each.certificate.der())))
                .collect(),
            signers,
        })
    }
}

/// What opens shared keys, where devices replace theirs by themselves.
fn data_key(ward: &Ward, openers: &dyn Openers) -> Result<Option<DataKey>, Problem> {
    match ward.settings.kinds.values().any(|kind| kind.shared_keys && kind.renews_keys != Renews::Person) {
        true => tidy_warden_ward::shared::data_key(ward, openers),
        false => Ok(None),
    }
}

/// Where notices go by the settings, and what signs them.
fn telling(ward: &Ward, openers: &dyn Openers) -> Result<Option<Arc<Telling>>, Problem> {
    let notices = &ward.settings.notices;
    let Some(target) = notices.target.clone() else { return Ok(None) };
    let ca = notices.ca.as_ref().map(|path| ward.dir.join(path));
    let key = tidy_warden_ward::notice::key(ward, openers)?;
    Ok(Some(Arc::new(Telling { target, ca, allow_private: notices.allow_private, key })))
}

/// Which state of the ward something was read from, as far as a desk reads it once and keeps it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Reading {
    pub(crate) authorities: i64,
    /// The change of servers' certificates.
    servers: i64,
    /// The edition, and the change of groups that its conditions could name: what outfits are told of topics.
    edition: (u32, i64),
    /// The settings that were adopted.
    settings: u32,
    /// The change of keys that sign tokens.
    tokens: i64,
}

impl From<&Head> for Reading {
    fn from(head: &Head) -> Self {
        let edition = (head.edition, head.group_rules);
        let Head { authorities, servers, settings, tokens, .. } = *head;
        Self { authorities, servers, edition, settings, tokens }
    }
}

/// What is live: as it was read last.
pub(crate) struct Live {
    pub(crate) settings: Settings,
    pub(crate) mint: Mint,
    pub(crate) signers: Vec<(AuthorityRecord, Arc<dyn Signer>)>,
    pub(crate) errands: Option<Arc<ErrandSigner>>,
    pub(crate) errands_closed: Option<String>,
    pub(crate) data_key: Result<Option<DataKey>, String>,
    pub(crate) telling: Result<Option<Arc<Telling>>, String>,
    pub(crate) maker_files: BTreeMap<AuthorityName, PathBuf>,
    pub(crate) read: Reading,
    pub(crate) own_ends: Option<UnixTime>,
    pub(crate) cacerts: Bytes,
    pub(crate) roots: Bytes,
    pub(crate) keys: Bytes,
    /// The keys that sign tokens for the ward.
    pub(crate) token_keys: Vec<PublicKey>,
    pub(crate) issuing: BTreeMap<String, Bytes>,
}

/// The ways to the store.
pub struct Stores {
    /// Who asks for those who call; each of them one question at a time.
    pub readers: Vec<DeskReader>,
    /// Who hears what is new.
    pub follower: DeskReader,
    /// Who enrols and renews.
    pub acts: DeskActs,
    /// Who records revocation lists.
    pub lists: OperatorStore,
    /// Who drives rotations; none where a desk may not, as at a post.
    pub rotations: Option<OperatorStore>,
    /// Who looks at answers to errands; none at a post either.
    pub errands: Option<OperatorStore>,
    /// Whose reflexes are at work; none at a post either.
    pub reflexes: Option<OperatorStore>,
    /// Who sends notices; none at a post either.
    pub notices: Option<OperatorStore>,
    /// Who does what owners want; none at a post either.
    pub owners: Option<OperatorStore>,
}

/// A desk without its sockets.
pub struct Desk {
    live: RwLock<Arc<Live>>,
    readers: Vec<Mutex<DeskReader>>,
    /// Which of them nobody has.
    free: Mutex<Vec<usize>>,
    freed: Condvar,
    pub(crate) acts: DeskActs,
    pub(crate) trust: Arc<TrustHolder>,
    /// What manufacturers revoked.
    pub(crate) maker_lists: MakerLists,
    pub(crate) lists: Lists,
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) metrics: Metrics,
    /// Requests of a network.
    pub(crate) by_source: Buckets<Source>,
    /// Certificates of a device that has proved to be it.
    pub(crate) by_device: Buckets<DeviceId>,
    /// How often a device opens itself to be claimed.
    pub(crate) windows: Buckets<DeviceId>,
    /// What owners change.
    pub(crate) by_owner: Buckets<OwnerId>,
    told: Buckets<Source>,
    /// How often it is told of a server that it could not be given its next certificate.
    pub(crate) untold_servers: Buckets<String>,
    /// How often a server is given another certificate because its own is not valid yet.
    pub(crate) repairs: Buckets<String>,
    /// Who does what owners want, one after another; none at a post.
    pub(crate) owners: Option<Mutex<OperatorStore>>,
    /// Seals what goes to browsers for a moment.
    pub(crate) sealer: Sealer,
    sink: Sink,
    actor: String,
    /// Whether the store is another one than was seen, or a person has to look at it: nobody is let in then.
    pub(crate) is_behind: AtomicBool,
}

/// That somebody has a reader. It is free again also after a question that panics: there are only so many, and the next would wait for
/// ever.
struct ReaderTurn<'d> {
    desk: &'d Desk,
    index: usize,
}

impl Drop for ReaderTurn<'_> {
    fn drop(&mut self) {
        self.desk.free.lock().unwrap_or_else(PoisonError::into_inner).push(self.index);
        self.desk.freed.notify_one();
    }
}

impl Desk {
    /// A desk that knows what is in the store.
    ///
    /// # Errors
    /// The store cannot be read.
    pub fn new(
        live: LiveConfig,
        readers: Vec<DeskReader>,
        acts: DeskActs,
        clock: Arc<dyn Clock>,
        actor: String,
        sink: Sink,
    ) -> Result<Self, DeskError> {
        let metrics = Metrics::default();
        metrics.ends(live.own_ends);
        let trust = match readers.first() {
            Some(reader) => reader.view(|view| Trust::read(view, view.head()?.authorities, &Trust::default()))?,
            None => Trust::default(),
        };
        let holder = TrustHolder::default();
        holder.set(trust);
        Ok(Self {
            live: RwLock::new(Arc::new(Live::from(live))),
            free: Mutex::new((0..readers.len()).collect()),
            readers: readers.into_iter().map(Mutex::new).collect(),
            freed: Condvar::new(),
            acts,
            trust: Arc::new(holder),
            maker_lists: MakerLists::default(),
            lists: Lists::default(),
            clock,
            metrics,
            by_source: Buckets::default(),
            by_device: Buckets::default(),
            windows: Buckets::default(),
            by_owner: Buckets::default(),
            told: Buckets::default(),
            untold_servers: Buckets::default(),
            repairs: Buckets::default(),
            owners: None,
            sealer: Sealer::default(),
            sink,
            actor,
            is_behind: AtomicBool::new(false),
        })
    }

    pub(crate) fn live(&self) -> Arc<Live> {
        self.live.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    pub(crate) fn take(&self, live: Live) {
        *self.live.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(live);
    }

    /// Reads the revocation lists of manufacturers that are others than before.
    pub(crate) async fn look_at_makers(&self, files: &mut MakerFiles) {
        let (live, trust) = (self.live(), self.trust.now());
        let tell = |what: String| self.trouble(what);
        files.look(&live.maker_files, &trust, &self.maker_lists, self.now(), &tell).await;
    }

    pub(crate) fn now(&self) -> UnixTime {
        self.clock.now()
    }

    pub(crate) fn cause(&self, because: String) -> Cause {
        Cause { at: self.now(), actor: self.actor.clone(), because }
    }

    /// Asks the store, when it is this caller's turn.
    pub(crate) fn ask<T>(
        &self,
        question: impl FnOnce(&mut DeskReader) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let mut free = self.free.lock().unwrap_or_else(PoisonError::into_inner);
        let turn = loop {
            match free.pop() {
                Some(index) => break ReaderTurn { desk: self, index },
                None => free = self.freed.wait(free).unwrap_or_else(PoisonError::into_inner),
            }
        };
        drop(free);
        let mut reader = self.readers[turn.index].lock().unwrap_or_else(PoisonError::into_inner);
        let mut answer = question(&mut reader);
        if matches!(answer, Err(StoreError::Replaced { .. } | StoreError::Absent { .. })) {
            // Another store stands there now: this one is asked from the next question on, if it is the right one.
            if let Err(error) = reader.reopen() {
                answer = Err(error);
            }
        }
        answer
    }

    /// Tells of something; refusals of one network in full only as far as somebody can read them.
    pub(crate) fn emit(&self, event: Event) {
        let source = match &event {
            Event::Refused { peer, .. } | Event::TlsRefused { peer, .. } => Some(Source::from(peer.ip())),
            _ => None,
        };
        let is_told = source.is_none_or(|source| self.told.take(&source, TOLD, TOLD_WITHIN, Instant::now()).is_ok());
        match is_told {
            true => (self.sink)(event),
            false => drop(self.metrics.untold.inc()),
        }
    }

    pub(crate) fn trouble(&self, what: impl Into<String>) {
        self.emit(Event::Trouble { what: what.into() });
    }

    /// Whether nobody may be let in by what the store says.
    pub(crate) fn is_in_doubt(&self) -> bool {
        self.is_behind.load(Ordering::Relaxed)
    }
}

impl Live {
    /// Whether devices fetch here the keys that they share with the ward next.
    pub(crate) fn renews_keys(&self) -> bool {
        !matches!(self.data_key, Ok(None))
    }

    /// Whether the desk makes keys for devices of a kind; without one, for those of any.
    pub(crate) fn offers_keys(&self, kind: Option<&KindName>) -> bool {
        match kind {
            Some(kind) => self.settings.kinds.get(kind).is_some_and(|kind| kind.server_keys),
            None => self.settings.kinds.values().any(|kind| kind.server_keys),
        }
    }
}

impl From<LiveConfig> for Live {
    fn from(config: LiveConfig) -> Self {
        let LiveConfig {
            tls: _,
            own_ends,
            settings,
            mint,
            signers,
            errands,
            errands_closed,
            data_key,
            telling,
            maker_files,
            read,
            cacerts,
            roots,
            keys,
            token_keys,
            issuing,
        } = config;
        let (cacerts, roots, keys) = (cacerts.into(), roots.into(), keys.into());
        Self {
            settings,
            mint,
            signers,
            errands,
            errands_closed,
            data_key,
            telling,
            maker_files,
            read,
            own_ends,
            cacerts,
            roots,
            keys,
            token_keys,
            issuing,
        }
    }
}
