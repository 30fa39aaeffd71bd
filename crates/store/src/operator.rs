//! The store as a person at the command line uses it: everything.

use std::ops::Deref;

use tidy_warden_core::admission::{AdmissionName, AdmissionRecord, OpenRefusal};
use tidy_warden_core::asking::AskingRecord;
use tidy_warden_core::audit::Hash;
use tidy_warden_core::authority::{AuthorityRefusal, PendingAuthority};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::{BlockSource, Ended, Revocation};
use tidy_warden_core::device::{AddRefusal, DeviceEdit, DeviceRecord};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::id::{AuthorityName, DeviceId, GroupName, PostName};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::policy::PolicyFile;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::shared::WrappedKey;
use tidy_warden_core::time::UnixTime;

use crate::acts::{
    admission, asking, authority, batch, crl, device, enrol, introduce, job, key, policy, post, record, revoke, server,
    token,
};
use crate::{
    AcceptRefusal, AdmissionOver, AdoptedSettings, Answer, AskRefusal, Batch, BatchRefusal, BlockRefusal, Cause,
    Changes, ChildRefusal, CrlRecord, Declared, FactClash, GroupMembers, Intended, IntroduceRefusal, JobRecord,
    JobRefusal, KeyRefusal, KeyReplaces, Lease, NewAuthority, NewCredential, NewJob, PostRecord, PostRefusal, Reached,
    ServerRecord, ServerRefusal, SignerRefusal, Store, StoreError, Survey, Tally, TokenBlock, TokenSignerRecord, Tx,
    UseRefusal, View, decided, made, viewed,
};

/// What runs when all rules hold and before the commit: it hands out what was made. If it fails, nothing was recorded; if the process
/// dies after it, what was handed out is unknown and opens nothing.
pub type Deliver<'a> = &'a mut dyn FnMut() -> std::io::Result<()>;

/// A store and every act on it. Each method is the act of the same room in [`crate::acts`], in a change of its own, and fails as that
/// does.
pub struct OperatorStore(Box<dyn Store>);

impl Deref for OperatorStore {
    type Target = dyn View;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl OperatorStore {
    /// All acts on `store`.
    #[must_use]
    pub fn new(store: Box<dyn Store>) -> Self {
        Self(store)
    }

    /// Asks several questions of one snapshot.
    ///
    /// # Errors
    /// What `look` says.
    pub fn view<T>(&self, look: impl FnOnce(&dyn View) -> Result<T, StoreError>) -> Result<T, StoreError> {
        viewed(&*self.0, look)
    }

    /// See [`Store::reopen`].
    pub fn reopen(&mut self) -> Result<(), StoreError> {
        self.0.reopen()
    }

    /// See [`Store::survey`].
    pub fn survey(&self) -> Result<Survey, StoreError> {
        self.0.survey()
    }

    /// See [`record::changes`].
    pub fn changed_since(&self, since: i64) -> Result<Changes, StoreError> {
        self.view(|view| record::changes(view, since))
    }

    /// See [`record::note`].
    pub fn record_note(
        &mut self,
        act: &'static str,
        subject: &str,
        detail: &str,
        cause: &Cause,
    ) -> Result<i64, StoreError> {
        made(&mut *self.0, |tx| record::note(tx, act, subject, detail, cause))
    }

    /// See [`record::settings`].
    pub fn record_settings(
        &mut self,
        text: &str,
        declared: Declared<'_>,
        detail: &str,
        cause: &Cause,
    ) -> Answer<(), Vec<FactClash>> {
        decided(&mut *self.0, |tx| record::settings(tx, text, declared, detail, cause))
    }

    /// See [`post::add`].
    pub fn add_post(&mut self, new: &PostRecord, cause: &Cause, deliver: Deliver<'_>) -> Answer<(), PostRefusal> {
        decided(&mut *self.0, |tx| {
            let answer = post::add(tx, new, cause)?;
            if answer.is_ok() {
                deliver().map_err(StoreError::Delivery)?;
            }
            Ok(answer)
        })
    }

    /// See [`post::retire`].
    pub fn retire_post(&mut self, name: &PostName, cause: &Cause) -> Answer<PostRecord, PostRefusal> {
        decided(&mut *self.0, |tx| post::retire(tx, name, cause))
    }

    /// See [`Store::tally`].
    pub fn tally(&mut self, tally: &Tally<'_>) -> Result<(), StoreError> {
        self.0.tally(tally)
    }

    /// See [`server::all`].
    pub fn servers(&self) -> Result<Vec<ServerRecord>, StoreError> {
        self.view(server::all)
    }

    /// See [`server::make`].
    pub fn make_signer(&mut self, name: &str, certificate: &Certificate, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| server::make(tx, name, certificate, cause))
    }

    /// See [`server::renew`].
    pub fn renew_server(
        &mut self,
        name: &str,
        before: &Fingerprint,
        certificate: &Certificate,
        cause: &Cause,
    ) -> Answer<(), ServerRefusal> {
        decided(&mut *self.0, |tx| server::renew(tx, name, before, certificate, cause))
    }

    /// See [`post::adopt_settings`].
    pub fn adopt_settings(
        &mut self,
        settings: &AdoptedSettings,
        declared: Declared<'_>,
        difference: &serde_json::Value,
        cause: &Cause,
    ) -> Answer<bool, Vec<FactClash>> {
        decided(&mut *self.0, |tx| post::adopt_settings(tx, settings, declared, difference, cause))
    }

    /// See [`record::restored`].
    pub fn restored(
        &mut self,
        detail: &serde_json::Value,
        doubt: Option<&str>,
        cause: &Cause,
    ) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| record::restored(tx, detail, doubt, cause))
    }

    /// See [`Store::check`].
    pub fn check(&self) -> Result<Vec<String>, StoreError> {
        self.0.check()
    }

    /// See [`record::give_up`].
    pub fn give_up(&mut self, number: i64, hash: Hash, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| record::give_up(tx, number, hash, cause))
    }

    /// See [`device::refusals`].
    pub fn check_devices(&self, devices: &[DeviceRecord]) -> Result<Vec<AddRefusal>, StoreError> {
        self.view(|view| device::refusals(view, devices))
    }

    /// See [`device::add`].
    pub fn add_devices(&mut self, devices: &[DeviceRecord], cause: &Cause) -> Answer<(), Vec<AddRefusal>> {
        decided(&mut *self.0, |tx| device::add(tx, devices, cause))
    }

    /// See [`device::edit`].
    pub fn edit_device(&mut self, id: &DeviceId, edit: &DeviceEdit, cause: &Cause) -> Answer<(), Vec<AddRefusal>> {
        decided(&mut *self.0, |tx| device::edit(tx, id, edit, cause))
    }

    /// See [`device::edit_many`].
    pub fn edit_devices(
        &mut self,
        ids: &[DeviceId],
        edit: &DeviceEdit,
        cause: &Cause,
    ) -> Answer<(), (DeviceId, Vec<AddRefusal>)> {
        decided(&mut *self.0, |tx| device::edit_many(tx, ids, edit, cause))
    }

    /// See [`admission::refusals`].
    pub fn check_admissions(&self, new: &[AdmissionRecord], now: UnixTime) -> Result<Vec<OpenRefusal>, StoreError> {
        self.view(|view| admission::refusals(view, new, now))
    }

    /// See [`admission::open`]. What runs before the commit is told the names.
    pub fn open_admissions(
        &mut self,
        new: &[AdmissionRecord],
        cause: &Cause,
        deliver: &mut dyn FnMut(&[AdmissionRecord]) -> std::io::Result<()>,
    ) -> Answer<Vec<AdmissionRecord>, Vec<OpenRefusal>> {
        decided(&mut *self.0, |tx| {
            let answer = admission::open(tx, new, cause)?;
            if let Ok(opened) = &answer {
                deliver(opened).map_err(StoreError::Delivery)?;
            }
            Ok(answer)
        })
    }

    /// See [`admission::withdraw`].
    pub fn withdraw_admissions(
        &mut self,
        names: &[AdmissionName],
        cause: &Cause,
    ) -> Answer<Vec<AdmissionRecord>, AdmissionOver> {
        decided(&mut *self.0, |tx| admission::withdraw(tx, names, cause))
    }

    /// See [`asking::accept`].
    pub fn accept(&mut self, wanted: &AdmissionRecord, cause: &Cause) -> Answer<AdmissionRecord, AcceptRefusal> {
        decided(&mut *self.0, |tx| asking::accept(tx, wanted, cause))
    }

    /// See [`asking::refuse`].
    pub fn refuse_asking(&mut self, key_digest: &[u8; 32], cause: &Cause) -> Answer<(), AcceptRefusal> {
        decided(&mut *self.0, |tx| asking::refuse(tx, key_digest, cause))
    }

    /// See [`introduce::introduce`].
    pub fn introduce_child(
        &mut self,
        new: &IntroducedRecord,
        most: u32,
        cause: &Cause,
    ) -> Answer<IntroducedState, IntroduceRefusal> {
        decided(&mut *self.0, |tx| introduce::introduce(tx, new, most, cause))
    }

    /// See [`introduce::accept`].
    pub fn accept_child(&mut self, wanted: &DeviceRecord, cause: &Cause) -> Answer<(), ChildRefusal> {
        decided(&mut *self.0, |tx| introduce::accept(tx, wanted, cause))
    }

    /// See [`introduce::refuse`].
    pub fn refuse_child(&mut self, child: &DeviceId, cause: &Cause) -> Answer<(), ChildRefusal> {
        decided(&mut *self.0, |tx| introduce::refuse(tx, child, cause))
    }

    /// See [`asking::ask`].
    pub fn ask(&mut self, new: &AskingRecord, cause: &Cause) -> Answer<(), AskRefusal> {
        decided(&mut *self.0, |tx| asking::ask(tx, new, cause))
    }

    /// See [`admission::use_up`].
    pub fn use_admission(
        &mut self,
        name: AdmissionName,
        new: &NewCredential<'_>,
        cause: &Cause,
    ) -> Answer<(), UseRefusal> {
        decided(&mut *self.0, |tx| admission::use_up(tx, name, new, cause))
    }

    /// See [`device::retire`].
    pub fn retire_device(&mut self, id: &DeviceId, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| device::retire(tx, id, cause))
    }

    /// See [`device::reopen`].
    pub fn reopen_device(&mut self, id: &DeviceId, cause: &Cause) -> Result<bool, StoreError> {
        made(&mut *self.0, |tx| device::reopen(tx, id, cause))
    }

    /// See [`device::set_hold`].
    pub fn set_hold(&mut self, ids: &[DeviceId], held: bool, cause: &Cause) -> Result<Vec<DeviceId>, StoreError> {
        made(&mut *self.0, |tx| device::set_hold(tx, ids, held, cause))
    }

    /// See [`revoke::derived`].
    pub fn derived(&self, roots: &[Fingerprint]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
        self.view(|view| revoke::derived(view, roots))
    }

    /// See [`revoke::revoke`].
    pub fn revoke(&mut self, what: Revocation<'_>, cause: &Cause) -> Result<Vec<Ended>, StoreError> {
        made(&mut *self.0, |tx| revoke::revoke(tx, what, cause))
    }

    /// See [`revoke::revoke_devices`].
    pub fn revoke_devices(
        &mut self,
        ids: &[DeviceId],
        reason: Reason,
        cause: &Cause,
    ) -> Result<Vec<Ended>, StoreError> {
        made(&mut *self.0, |tx| revoke::revoke_devices(tx, ids, reason, cause))
    }

    /// See [`key::block`].
    pub fn block_keys(
        &mut self,
        digests: &[[u8; 32]],
        source: BlockSource,
        cause: &Cause,
    ) -> Result<(usize, Vec<Ended>), StoreError> {
        made(&mut *self.0, |tx| key::block(tx, digests, source, cause))
    }

    /// See [`enrol::intend`].
    pub fn intend(&mut self, intended: &Intended, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| enrol::intend(tx, intended, cause))
    }

    /// See [`enrol::end_intended`].
    pub fn end_intended(&mut self, all: &[Intended], lost: bool, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| enrol::end_intended(tx, all, lost, cause))
    }

    /// See [`enrol::record`].
    pub fn record_issued(
        &mut self,
        new: &NewCredential<'_>,
        cause: &Cause,
        deliver: Deliver<'_>,
    ) -> Answer<(), IssueRefusal> {
        decided(&mut *self.0, |tx| {
            let answer = enrol::record(tx, new, cause)?;
            if answer.is_ok() {
                deliver().map_err(StoreError::Delivery)?;
            }
            Ok(answer)
        })
    }

    /// See [`batch::record`].
    pub fn record_batch(
        &mut self,
        batch: &Batch<'_>,
        cause: &Cause,
        deliver: Deliver<'_>,
    ) -> Answer<(), Vec<BatchRefusal>> {
        decided(&mut *self.0, |tx| {
            let answer = batch::record(tx, batch, cause)?;
            if answer.is_ok() {
                deliver().map_err(StoreError::Delivery)?;
            }
            Ok(answer)
        })
    }

    /// See [`key::add`].
    pub fn add_key(
        &mut self,
        new: &NewCredential<'_>,
        replaces: KeyReplaces,
        cause: &Cause,
        deliver: Deliver<'_>,
    ) -> Answer<Vec<String>, KeyRefusal> {
        decided(&mut *self.0, |tx| {
            let answer = key::add(tx, new, replaces, cause)?;
            if answer.is_ok() {
                deliver().map_err(StoreError::Delivery)?;
            }
            Ok(answer)
        })
    }

    /// See [`token::signers`].
    pub fn signers(&self) -> Result<Vec<TokenSignerRecord>, StoreError> {
        self.view(token::signers)
    }

    /// See [`token::add_signer`].
    pub fn add_signer(&mut self, new: &TokenSignerRecord, cause: &Cause) -> Answer<(), SignerRefusal> {
        decided(&mut *self.0, |tx| token::add_signer(tx, new, cause))
    }

    /// See [`token::retire_signer`].
    pub fn retire_signer(&mut self, name: &str, cause: &Cause) -> Answer<(), SignerRefusal> {
        decided(&mut *self.0, |tx| token::retire_signer(tx, name, cause))
    }

    /// See [`token::block`].
    pub fn block_token(&mut self, block: &TokenBlock, cause: &Cause) -> Answer<(), BlockRefusal> {
        decided(&mut *self.0, |tx| token::block(tx, block, cause))
    }

    /// See [`token::wrap`].
    pub fn wrap_data_key(&mut self, wraps: &[(String, WrappedKey)], cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| token::wrap(tx, wraps, cause))
    }

    /// See [`token::issued`].
    pub fn record_token(&mut self, device: &DeviceId, detail: &str, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| token::issued(tx, device, detail, cause))
    }

    /// See [`job::begin`].
    pub fn begin_job(&mut self, new: &NewJob<'_>, lease: &Lease, cause: &Cause) -> Answer<u32, JobRefusal> {
        decided(&mut *self.0, |tx| job::begin(tx, new, lease, cause))
    }

    /// See [`job::take`].
    pub fn take_job(
        &mut self,
        number: u32,
        lease: &Lease,
        is_gone: &dyn Fn(&str) -> bool,
        cause: &Cause,
    ) -> Answer<JobRecord, JobRefusal> {
        decided(&mut *self.0, |tx| job::take(tx, number, lease, is_gone, cause))
    }

    /// Makes a change that cannot be refused, of several acts.
    ///
    /// # Errors
    /// What `act` says.
    pub fn make<T>(&mut self, act: impl FnOnce(&mut dyn Tx) -> Result<T, StoreError>) -> Result<T, StoreError> {
        made(&mut *self.0, act)
    }

    /// Makes a change that may be refused, of several acts.
    ///
    /// # Errors
    /// What `act` says.
    pub fn decide<T, R>(&mut self, act: impl FnOnce(&mut dyn Tx) -> Answer<T, R>) -> Answer<T, R> {
        decided(&mut *self.0, act)
    }

    /// One batch of a job: does `act`, which gives what came of it and the new position, and notes how far the job is; all of it or
    /// nothing.
    ///
    /// # Errors
    /// What `act` says; [`StoreError::TakenOver`]: the job is another's.
    pub fn job_batch<T, R>(
        &mut self,
        number: u32,
        lease: &Lease,
        act: impl FnOnce(&mut dyn Tx) -> Answer<(T, String), R>,
    ) -> Answer<T, R> {
        decided(&mut *self.0, |tx| {
            let (done, position) = match act(tx)? {
                Ok(done) => done,
                Err(refusal) => return Ok(Err(refusal)),
            };
            job::reached(tx, &Reached { job: number, position: &position, lease: lease.clone() })?;
            Ok(Ok(done))
        })
    }

    /// See [`job::end`].
    pub fn end_job(
        &mut self,
        number: u32,
        holder: &str,
        detail: serde_json::Value,
        stopped: bool,
        cause: &Cause,
    ) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| job::end(tx, number, holder, detail, stopped, cause))
    }

    /// See [`authority::add`].
    pub fn add_authority(&mut self, new: &NewAuthority<'_>, cause: &Cause) -> Answer<(), AuthorityRefusal> {
        decided(&mut *self.0, |tx| authority::add(tx, new, cause))
    }

    /// See [`authority::expect`].
    pub fn expect_authority(&mut self, pending: &PendingAuthority, cause: &Cause) -> Answer<(), AuthorityRefusal> {
        decided(&mut *self.0, |tx| authority::expect(tx, pending, cause))
    }

    /// See [`authority::retire`].
    pub fn retire_authority(&mut self, name: &AuthorityName, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| authority::retire(tx, name, cause))
    }

    /// See [`crl::next`].
    pub fn next_crl(&self, authority: &AuthorityName) -> Result<CrlRecord, StoreError> {
        self.view(|view| crl::next(view, authority))
    }

    /// See [`crl::record`].
    pub fn record_crl(
        &mut self,
        authority: &AuthorityName,
        crl: &CrlRecord,
        cause: &Cause,
        deliver: Deliver<'_>,
    ) -> Result<bool, StoreError> {
        made(&mut *self.0, |tx| {
            let recorded = crl::record(tx, authority, crl, cause)?;
            if recorded {
                deliver().map_err(StoreError::Delivery)?;
            }
            Ok(recorded)
        })
    }

    /// See [`policy::make_group`].
    pub fn make_group(&mut self, name: &GroupName, members: &GroupMembers, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| policy::make_group(tx, name, members, cause))
    }

    /// See [`policy::drop_group`].
    pub fn drop_group(&mut self, name: &GroupName, cause: &Cause) -> Result<(), StoreError> {
        made(&mut *self.0, |tx| policy::drop_group(tx, name, cause))
    }

    /// See [`policy::adopt`].
    pub fn adopt(&mut self, files: &[PolicyFile], cause: &Cause) -> Result<u32, StoreError> {
        made(&mut *self.0, |tx| policy::adopt(tx, files, cause))
    }

    /// See [`policy::begin_trial`].
    pub fn begin_trial(&mut self, files: &[PolicyFile], until: UnixTime, cause: &Cause) -> Result<u32, StoreError> {
        made(&mut *self.0, |tx| policy::begin_trial(tx, files, until, cause))
    }

    /// See [`policy::end_trial`].
    pub fn end_trial(&mut self, cause: &Cause) -> Result<bool, StoreError> {
        made(&mut *self.0, |tx| policy::end_trial(tx, cause))
    }
}
