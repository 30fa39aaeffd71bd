//! The store as the desk uses it: it asks, and enrols and renews who has proved to be a device.

use std::ops::Deref;

use tidy_warden_core::admission::AdmissionName;
use tidy_warden_core::asking::AskingRecord;
use tidy_warden_core::certificate::{Fingerprint, SerialNumber};
use tidy_warden_core::credential::Origin;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::time::{Span, UnixTime};

use crate::acts::admission::{self, UseRefusal};
use crate::acts::asking::{self, AskRefusal};
use crate::acts::enrol::{self, RenewRefusal};
use crate::acts::introduce::{self, IntroduceRefusal};
use crate::acts::key::{self, KeyRefusal, KeyReplaces};
use crate::{Answer, Cause, Feed, NewCredential, Store, StoreError, Together, View, viewed};

/// A store that a desk asks.
pub struct DeskReader(Box<dyn Store>);

impl Deref for DeskReader {
    type Target = dyn View;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl DeskReader {
    /// Asks `store`.
    #[must_use]
    pub fn new(store: Box<dyn Store>) -> Self {
        Self(store)
    }

    /// Asks several questions of one snapshot. A ward that moves has nothing to say here any more.
    ///
    /// # Errors
    /// What `look` says; another store stands where this one was opened.
    pub fn view<T>(&self, look: impl FnOnce(&dyn View) -> Result<T, StoreError>) -> Result<T, StoreError> {
        viewed(&*self.0, |view| match view.head()?.moved {
            Some(move_to) => Err(StoreError::Moved { move_to }),
            None => look(view),
        })
    }

    /// See [`Store::feed`].
    pub fn feed(&self) -> Result<Box<dyn Feed>, StoreError> {
        self.0.feed()
    }

    /// See [`Store::reopen`].
    pub fn reopen(&mut self) -> Result<(), StoreError> {
        self.0.reopen()
    }
}

/// A credential that was made and is to be recorded, with data of its own, so that whoever commits for many can hold it.
#[derive(Debug, Clone)]
pub struct SignedCredential {
    device: DeviceId,
    origin: Origin,
    authority: Option<AuthorityName>,
    der: Vec<u8>,
    fingerprint: Fingerprint,
    serial: Option<SerialNumber>,
    key_digest: [u8; 32],
    key_type: String,
    begins: UnixTime,
    ends: UnixTime,
    overlap: Span,
    again: bool,
    fresh_key: bool,
    kid: Option<String>,
}

impl From<&NewCredential<'_>> for SignedCredential {
    fn from(new: &NewCredential<'_>) -> Self {
        Self {
            device: new.device.clone(),
            origin: new.origin,
            authority: new.authority.cloned(),
            der: new.der.to_vec(),
            fingerprint: new.fingerprint,
            serial: new.serial.cloned(),
            key_digest: new.key_digest,
            key_type: new.key_type.to_owned(),
            begins: new.not_before,
            ends: new.not_after,
            overlap: new.overlap,
            again: new.again,
            fresh_key: new.fresh_key && new.origin == Origin::Shared,
            kid: new.kid.map(str::to_owned),
        }
    }
}

impl SignedCredential {
    fn new_credential(&self) -> NewCredential<'_> {
        NewCredential {
            device: &self.device,
            origin: self.origin,
            authority: self.authority.as_ref(),
            der: &self.der,
            fingerprint: self.fingerprint,
            serial: self.serial.as_ref(),
            key_digest: self.key_digest,
            key_type: &self.key_type,
            not_before: self.begins,
            not_after: self.ends,
            again: self.again,
            overlap: self.overlap,
            fresh_key: self.fresh_key,
            // Who showed what is looked at when it is recorded.
            authorised_by: None,
            kid: self.kid.as_deref(),
            note: None,
        }
    }
}

/// The acts that are a desk's, committed together with those of its other callers: nothing else can be done through it.
#[derive(Debug)]
pub struct DeskActs(Together);

impl DeskActs {
    /// The desk's acts on `store`.
    ///
    /// # Errors
    /// There is no thread to be had.
    pub fn new(store: Box<dyn Store>) -> std::io::Result<Self> {
        Ok(Self(Together::new(store)?))
    }

    /// See [`admission::use_up`].
    pub fn use_admission(&self, name: AdmissionName, new: SignedCredential, cause: Cause) -> Answer<(), UseRefusal> {
        self.0.decide(move |tx| admission::use_up(tx, name, &new.new_credential(), &cause))
    }

    /// See [`admission::use_again`].
    pub fn use_admission_again(
        &self,
        name: AdmissionName,
        former: Fingerprint,
        new: SignedCredential,
        cause: Cause,
    ) -> Answer<(), UseRefusal> {
        self.0.decide(move |tx| admission::use_again(tx, name, &former, &new.new_credential(), &cause))
    }

    /// See [`asking::ask`].
    pub fn ask(&self, new: AskingRecord, cause: Cause) -> Answer<(), AskRefusal> {
        self.0.decide(move |tx| asking::ask(tx, &new, &cause))
    }

    /// See [`introduce::introduce`]. The certificate `shown` must be its gateway's, and good at this moment.
    pub fn introduce_child(
        &self,
        shown: Fingerprint,
        new: IntroducedRecord,
        most: u32,
        cause: Cause,
    ) -> Answer<IntroducedState, IntroduceRefusal> {
        self.0.decide(move |tx| match enrol::shows(tx, &shown, &new.gateway, cause.at)? {
            Ok(_) => introduce::introduce(tx, &new, most, &cause),
            Err(why) => Ok(Err(IntroduceRefusal::Gateway { gateway: new.gateway.clone(), why: why.to_string() })),
        })
    }

    /// Lists a child that waits: see [`introduce::take`].
    pub fn take_child(
        &self,
        new: IntroducedRecord,
        most: u32,
        cause: Cause,
    ) -> Answer<IntroducedState, IntroduceRefusal> {
        self.0.decide(move |tx| introduce::take(tx, &new, most, &cause))
    }

    /// See [`enrol::by_gateway`].
    pub fn enrol_child(
        &self,
        gateway: DeviceId,
        shown: Fingerprint,
        new: SignedCredential,
        cause: Cause,
    ) -> Answer<(), RenewRefusal> {
        self.0.decide(move |tx| enrol::by_gateway(tx, (&gateway, &shown), &new.new_credential(), &cause))
    }

    /// The next key that a device shares with the ward, for one that asked with the present one: see [`key::add`].
    pub fn renew_key(
        &self,
        shown: Fingerprint,
        new: SignedCredential,
        cause: Cause,
    ) -> Answer<Vec<String>, KeyRefusal> {
        let replaces = KeyReplaces::Shared { current: shown, by: shown };
        self.0.decide(move |tx| key::add(tx, &new.new_credential(), replaces, &cause))
    }

    /// See [`enrol::renew`].
    pub fn renew(&self, shown: Fingerprint, new: SignedCredential, cause: Cause) -> Answer<(), RenewRefusal> {
        self.0.decide(move |tx| enrol::renew(tx, &shown, &new.new_credential(), &cause))
    }
}
