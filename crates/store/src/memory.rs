//! The store as a model in memory: maps and lists, for tests. It is what the engines are held against, so it is written to be
//! read, not to be fast: each change copies everything.

mod admission;
mod asking;
mod authority;
mod claim;
mod credential;
mod device;
mod errand;
mod notice;
mod policy;
mod post;
mod reflex;
mod token;
mod traffic;

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::{Duration, Instant};

use tidy_warden_core::admission::AdmissionRecord;
use tidy_warden_core::asking::AskingRecord;
use tidy_warden_core::audit::{Entry, GENESIS, Hash, Tree};
use tidy_warden_core::authority::{AuthorityRecord, PendingAuthority};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::claim::{HandOver, OpenClaim, OpenedBy, Ownership, Scope, Tries};
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::errand::{Carried, ErrandRecord};
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::{AuthorityName, DeviceId, GroupName, OwnerId, PostName};
use tidy_warden_core::introduced::IntroducedRecord;
use tidy_warden_core::notice::NoticeRecord;
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::reflex::{Evidence, Hit, Progress};
use tidy_warden_core::shared::WrappedKey;
use tidy_warden_core::time::UnixTime;

use crate::{
    AdoptedSettings, BlockedKey, BrokerSession, Cause, Changed, CloneSigns, DeviceEvent, EditionRecord, Fate, Feed,
    FieldNames, Founding, GroupRecord, Head, Intended, JobRecord, Mark, OwnerPass, Place, PostRecord, PostState,
    ReadDevices, ReadJobs, ReadRecord, Store, StoreError, Survey, Tally, TokenBlock, TokenSignerRecord, Traffic,
    TrialDifference, TrialRecord, Tx, View, WardRecord, WriteJobs, WriteRecord, acts,
};

/// A device, and the change number at which it changed last. Its row is its place in the list, from 1.
#[derive(Debug, Clone)]
struct Device {
    record: DeviceRecord,
    changed: i64,
}

/// A credential. Its row is its place in the list, from 1.
#[derive(Debug, Clone)]
struct Credential {
    /// Without what follows from its device and its authority.
    record: CredentialRecord,
    key_digest: [u8; 32],
    der: Vec<u8>,
    entry: i64,
    authorised_by: Option<Fingerprint>,
}

#[derive(Debug, Clone)]
struct Authority {
    record: AuthorityRecord,
    /// Since which change number its newest CRL lacks something, 0 if it lacks nothing.
    lacks: i64,
    /// How many credentials there were when it was added.
    credentials_before: usize,
}

/// Trial, whether it would allow, rule, act, device: the order in which differences are told.
type DifferenceKey = (u32, bool, String, String, DeviceId);

#[derive(Debug, Clone, Default)]
struct Model {
    ward: Option<WardRecord>,
    settings: Option<String>,
    servers: BTreeMap<String, Certificate>,
    /// Certificates that they had before, by fingerprint.
    former_servers: BTreeMap<Fingerprint, (String, Certificate)>,
    servers_changed: i64,
    entries: Vec<Entry>,
    given_up: Option<(i64, Hash)>,
    doubt: Option<String>,
    authorities_changed: i64,
    groups_changed: i64,
    devices: Vec<Device>,
    rows: HashMap<DeviceId, usize>,
    names: FieldNames,
    facts: HashMap<Fact, DeviceId>,
    /// Who had a fact and was retired, the last of them.
    retired_facts: BTreeMap<Fact, DeviceId>,
    credentials: Vec<Credential>,
    blocked: BTreeMap<[u8; 32], BlockedKey>,
    intended: Vec<(UnixTime, Intended)>,
    lost: Vec<(Intended, UnixTime)>,
    authorities: Vec<Authority>,
    pending: BTreeMap<AuthorityName, PendingAuthority>,
    groups: BTreeMap<GroupName, GroupRecord>,
    editions: Vec<EditionRecord>,
    trials: Vec<(TrialRecord, Option<UnixTime>)>,
    differences: BTreeMap<DifferenceKey, TrialDifference>,
    traffic: BTreeMap<DeviceId, Traffic>,
    events: BTreeMap<DeviceId, Vec<DeviceEvent>>,
    errands: BTreeMap<i64, ErrandRecord>,
    carried: BTreeMap<i64, Carried>,
    evidence: BTreeMap<i64, Evidence>,
    reflexes: BTreeMap<String, Progress>,
    hits: BTreeMap<i64, Hit>,
    notices: BTreeMap<i64, NoticeRecord>,
    owners: BTreeMap<OwnerId, OwnerRecord>,
    claims: BTreeMap<(OpenedBy, DeviceId), OpenClaim>,
    hand_overs: BTreeMap<DeviceId, HandOver>,
    ownerships: BTreeMap<i64, Ownership>,
    tries: BTreeMap<(Scope, String), Tries>,
    passes: BTreeMap<[u8; 32], OwnerPass>,
    clone_signs: BTreeMap<DeviceId, CloneSigns>,
    sessions: BTreeMap<String, BrokerSession>,
    jobs: Vec<JobRecord>,
    job_parts: BTreeMap<(u32, u32), String>,
    posts: BTreeMap<PostName, PostRecord>,
    post_states: BTreeMap<PostName, PostState>,
    adopted: Vec<AdoptedSettings>,
    admissions: Vec<AdmissionRecord>,
    asking: BTreeMap<[u8; 32], AskingRecord>,
    introduced: BTreeMap<DeviceId, IntroducedRecord>,
    token_signers: BTreeMap<String, TokenSignerRecord>,
    token_blocks: BTreeMap<[u8; 32], TokenBlock>,
    key_wraps: BTreeMap<String, WrappedKey>,
    tokens_changed: i64,
}

impl Model {
    fn device(&self, id: &DeviceId) -> Option<&Device> {
        self.rows.get(id).and_then(|row| self.devices.get(*row))
    }

    fn device_mut(&mut self, id: &DeviceId) -> Result<&mut Device, StoreError> {
        let row = self.rows.get(id).copied();
        row.and_then(|row| self.devices.get_mut(row)).ok_or_else(|| unknown("device", id))
    }

    fn authority(&self, name: &AuthorityName) -> Result<&Authority, StoreError> {
        self.authorities.iter().find(|each| each.record.name == *name).ok_or_else(|| unknown("authority", name))
    }

    fn authority_mut(&mut self, name: &AuthorityName) -> Result<&mut Authority, StoreError> {
        self.authorities.iter_mut().find(|each| each.record.name == *name).ok_or_else(|| unknown("authority", name))
    }
}

fn unknown(what: &'static str, name: impl ToString) -> StoreError {
    StoreError::Unknown { what, name: name.to_string() }
}

/// A row's number for a place in a list.
fn row(place: usize) -> i64 {
    i64::try_from(place).unwrap_or(i64::MAX).saturating_add(1)
}

/// A ward's memory that ends with the process. Handles made from one another share it.
#[derive(Debug)]
pub struct MemoryStore {
    shared: Arc<RwLock<Arc<Model>>>,
    writers: Arc<Mutex<()>>,
    /// What a snapshot or a change sees in place of the shared state.
    own: Option<Arc<Model>>,
    /// The states to go back to, the last one last.
    saved: Vec<(Mark, Arc<Model>)>,
}

impl MemoryStore {
    /// Makes the store of a new ward.
    ///
    /// # Errors
    /// What is founded contradicts itself.
    pub fn create(founding: &Founding<'_>, cause: &Cause) -> Result<Self, StoreError> {
        let mut store = Self { shared: Arc::default(), writers: Arc::default(), own: None, saved: Vec::new() };
        crate::made(&mut store, |tx| acts::record::found(tx, founding, cause))?;
        Ok(store)
    }

    /// Another handle on the same store.
    #[must_use]
    pub fn another(&self) -> Self {
        Self { shared: self.shared.clone(), writers: self.writers.clone(), own: None, saved: Vec::new() }
    }

    /// A store of its own, which begins as this one is now.
    #[must_use]
    pub fn fork(&self) -> Self {
        Self { shared: Arc::new(RwLock::new(self.model())), writers: Arc::default(), own: None, saved: Vec::new() }
    }

    /// Makes this store what `other` is now, as putting a backup back does.
    pub fn put_back(&self, other: &Self) {
        let _turn = Self::turn(&self.writers);
        *self.shared.write().unwrap_or_else(PoisonError::into_inner) = other.model();
    }

    fn model(&self) -> Arc<Model> {
        match &self.own {
            Some(own) => own.clone(),
            None => self.shared.read().unwrap_or_else(PoisonError::into_inner).clone(),
        }
    }

    fn model_mut(&mut self) -> &mut Model {
        let now = self.model();
        Arc::make_mut(self.own.insert(now))
    }

    /// The state of this moment, apart from what others do.
    fn snapshot(&self) -> Self {
        Self { own: Some(self.model()), ..self.another() }
    }

    fn turn(writers: &Mutex<()>) -> MutexGuard<'_, ()> {
        writers.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Tx for MemoryStore {
    fn save(&mut self, mark: Mark) -> Result<(), StoreError> {
        let model = self.model();
        self.saved.push((mark, model));
        Ok(())
    }

    fn back(&mut self, mark: Mark) -> Result<(), StoreError> {
        let saved = self.saved.iter().rposition(|(of, _)| *of == mark);
        self.saved.truncate(saved.map_or(0, |at| at + 1));
        self.own = self.saved.last().map(|(_, model)| model.clone());
        Ok(())
    }
}

impl Store for MemoryStore {
    fn view(&self, look: &mut dyn FnMut(&dyn View) -> Result<(), StoreError>) -> Result<(), StoreError> {
        look(&self.snapshot())
    }

    fn change(&mut self, act: &mut dyn FnMut(&mut dyn Tx) -> Result<Fate, StoreError>) -> Result<(), StoreError> {
        let _turn = Self::turn(&self.writers);
        let mut tx = self.snapshot();
        if let Fate::Keep = act(&mut tx)? {
            *self.shared.write().unwrap_or_else(PoisonError::into_inner) = tx.model();
        }
        Ok(())
    }

    fn tally(&mut self, tally: &Tally<'_>) -> Result<(), StoreError> {
        let _turn = Self::turn(&self.writers);
        let mut tx = self.snapshot();
        traffic::tally(tx.model_mut(), tally);
        *self.shared.write().unwrap_or_else(PoisonError::into_inner) = tx.model();
        Ok(())
    }

    fn reopen(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    fn check(&self) -> Result<Vec<String>, StoreError> {
        Ok(Vec::new())
    }

    fn survey(&self) -> Result<Survey, StoreError> {
        let tx = self.snapshot();
        let model = tx.model();
        let count = |length: usize| u64::try_from(length).unwrap_or(u64::MAX);
        Ok(Survey {
            engine: "a model in memory".to_owned(),
            format: 0,
            octets: 0,
            devices: count(model.devices.len()),
            credentials: count(model.credentials.len()),
            entries: count(model.entries.len()),
            oldest_reader: None,
            warnings: Vec::new(),
        })
    }

    fn feed(&self) -> Result<Box<dyn Feed>, StoreError> {
        Ok(Box::new(MemoryFeed(self.another())))
    }
}

struct MemoryFeed(MemoryStore);

impl Feed for MemoryFeed {
    fn wait(&mut self, since: i64, at_most: Duration) -> Result<Head, StoreError> {
        let began = Instant::now();
        loop {
            let head = self.0.head()?;
            if head.number != since || began.elapsed() >= at_most {
                return Ok(head);
            }
            std::thread::sleep(Duration::from_millis(1));
        }
    }

    fn changed(&self, after: Place, limit: usize) -> Result<Changed, StoreError> {
        ReadDevices::changed(&self.0, after, limit)
    }
}

impl ReadRecord for MemoryStore {
    fn ward(&self) -> Result<WardRecord, StoreError> {
        self.model().ward.clone().ok_or_else(|| unknown("ward", ""))
    }

    fn settings_text(&self) -> Result<String, StoreError> {
        self.model().settings.clone().ok_or_else(|| unknown("copy of the settings", ""))
    }

    fn server_certificate(&self, name: &str) -> Result<Certificate, StoreError> {
        self.model().servers.get(name).cloned().ok_or_else(|| unknown("server certificate", name))
    }

    fn former_servers(&self) -> Result<Vec<(String, Certificate)>, StoreError> {
        let mut all: Vec<_> = self.model().former_servers.values().cloned().collect();
        all.sort_by(|one, other| one.0.cmp(&other.0));
        Ok(all)
    }

    fn head(&self) -> Result<Head, StoreError> {
        let (number, hash) = self.audit_end()?;
        let model = self.model();
        Ok(Head {
            number,
            hash,
            edition: model.editions.last().map_or(0, |edition| edition.number),
            group_rules: model.groups_changed,
            trial: model
                .trials
                .iter()
                .filter(|(_, ended)| ended.is_none())
                .map(|(trial, _)| trial.number)
                .max()
                .unwrap_or(0),
            authorities: model.authorities_changed,
            servers: model.servers_changed,
            tokens: model.tokens_changed,
            settings: model.adopted.last().map_or(0, |adopted| adopted.number),
            given_up: model.given_up,
            doubt: model.doubt.clone(),
            moved: None,
        })
    }

    fn audit_end(&self) -> Result<(i64, Hash), StoreError> {
        Ok(self.model().entries.last().map_or((0, GENESIS), |entry| (entry.number, entry.hash)))
    }

    fn tree(&self) -> Result<Tree, StoreError> {
        let mut tree = Tree::default();
        self.model().entries.iter().for_each(|entry| tree.add(&entry.hash));
        Ok(tree)
    }

    fn entry_hash(&self, number: i64) -> Result<Option<Hash>, StoreError> {
        Ok(self.model().entries.iter().find(|entry| entry.number == number).map(|entry| entry.hash))
    }

    fn entries(&self, from: i64, limit: usize) -> Result<Vec<Entry>, StoreError> {
        Ok(self.model().entries.iter().filter(|entry| entry.number >= from).take(limit).cloned().collect())
    }

    fn entries_about(&self, subject: &str, before: i64, limit: usize) -> Result<Vec<Entry>, StoreError> {
        let model = self.model();
        let about = model.entries.iter().rev().filter(|entry| entry.subject == subject && entry.number < before);
        Ok(about.take(limit).cloned().collect())
    }
}

impl WriteRecord for MemoryStore {
    fn put_entry(&mut self, entry: &Entry) -> Result<(), StoreError> {
        self.model_mut().entries.push(entry.clone());
        Ok(())
    }

    fn put_ward(&mut self, ward: &WardRecord) -> Result<(), StoreError> {
        self.model_mut().ward = Some(ward.clone());
        Ok(())
    }

    fn put_settings(&mut self, text: &str) -> Result<(), StoreError> {
        self.model_mut().settings = Some(text.to_owned());
        Ok(())
    }

    fn put_server(&mut self, name: &str, certificate: &Certificate) -> Result<(), StoreError> {
        self.model_mut().servers.insert(name.to_owned(), certificate.clone());
        Ok(())
    }

    fn put_former_server(&mut self, name: &str, certificate: &Certificate) -> Result<(), StoreError> {
        let former = (name.to_owned(), certificate.clone());
        self.model_mut().former_servers.insert(certificate.fingerprint, former);
        Ok(())
    }

    fn drop_former_server(&mut self, fingerprint: &Fingerprint) -> Result<(), StoreError> {
        self.model_mut().former_servers.remove(fingerprint);
        Ok(())
    }

    fn put_servers_changed(&mut self, change: i64) -> Result<(), StoreError> {
        self.model_mut().servers_changed = change;
        Ok(())
    }

    fn put_given_up(&mut self, number: i64, hash: &Hash) -> Result<(), StoreError> {
        self.model_mut().given_up = Some((number, *hash));
        Ok(())
    }

    fn put_doubt(&mut self, doubt: Option<&str>) -> Result<(), StoreError> {
        self.model_mut().doubt = doubt.map(str::to_owned);
        Ok(())
    }
}

impl ReadJobs for MemoryStore {
    fn job(&self, number: u32) -> Result<Option<JobRecord>, StoreError> {
        Ok(self.model().jobs.iter().find(|job| job.number == number).cloned())
    }

    fn jobs(&self, open: bool, limit: usize) -> Result<Vec<JobRecord>, StoreError> {
        let model = self.model();
        let newest_first = model.jobs.iter().rev();
        Ok(newest_first.filter(|job| !open || job.ended.is_none()).take(limit).cloned().collect())
    }

    fn job_part(&self, number: u32, place: u32) -> Result<Option<String>, StoreError> {
        Ok(self.model().job_parts.get(&(number, place)).cloned())
    }
}

impl WriteJobs for MemoryStore {
    fn insert_job(&mut self, job: &JobRecord) -> Result<(), StoreError> {
        self.model_mut().jobs.push(job.clone());
        Ok(())
    }

    fn update_job(&mut self, job: &JobRecord) -> Result<(), StoreError> {
        let known = self.model_mut().jobs.iter_mut().find(|known| known.number == job.number);
        let known = known.ok_or_else(|| unknown("job", job.number))?;
        known.position.clone_from(&job.position);
        known.lease.clone_from(&job.lease);
        (known.ended, known.stopped) = (job.ended, job.stopped);
        Ok(())
    }

    fn put_job_part(&mut self, number: u32, place: u32, text: &str) -> Result<(), StoreError> {
        self.model_mut().job_parts.insert((number, place), text.to_owned());
        Ok(())
    }

    fn drop_job_parts(&mut self, number: u32) -> Result<(), StoreError> {
        self.model_mut().job_parts.retain(|(job, _), _| *job != number);
        Ok(())
    }
}
