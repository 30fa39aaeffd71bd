//! The store as the guard uses it: it asks, admits, and writes what it sees.

use std::ops::Deref;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};

use crate::acts::introduce::IntroduceRefusal;
use crate::acts::{device, enrol, introduce, record, usage};
use crate::{
    Answer, Cause, Changes, Entrance, Feed, Introduction, Met, Store, StoreError, Tally, Turn, View, decided, made,
    viewed,
};

/// A store and the acts that are the guard's: nothing else can be done through it.
pub struct GuardStore(Box<dyn Store>);

impl Deref for GuardStore {
    type Target = dyn View;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl GuardStore {
    /// The guard's acts on `store`.
    #[must_use]
    pub fn new(store: Box<dyn Store>) -> Self {
        Self(store)
    }

    /// Asks several questions of one snapshot.
    ///
    /// # Errors
    /// What `look` says; another store stands where this one was opened.
    pub fn view<T>(&self, look: impl FnOnce(&dyn View) -> Result<T, StoreError>) -> Result<T, StoreError> {
        viewed(&*self.0, look)
    }

    /// See [`record::changes`]. A ward that moves has nothing to say here any more: a guard that goes on with it would not hear of what
    /// is revoked at its new place.
    pub fn changed_since(&self, since: i64) -> Result<Changes, StoreError> {
        self.view(|view| match view.head()?.moved {
            Some(move_to) => Err(StoreError::Moved { move_to }),
            None => record::changes(view, since),
        })
    }

    /// See [`Store::entrance`].
    pub fn entrance(&self, fingerprint: &Fingerprint, key: &[u8; 32]) -> Result<Entrance, StoreError> {
        self.0.entrance(fingerprint, key)
    }

    /// See [`Store::feed`].
    pub fn feed(&self) -> Result<Box<dyn Feed>, StoreError> {
        self.0.feed()
    }

    /// See [`Store::reopen`].
    pub fn reopen(&mut self) -> Result<(), StoreError> {
        self.0.reopen()
    }

    /// See [`enrol::introduce`].
    pub fn introduce(&mut self, shown: &Introduction<'_>, cause: &Cause) -> Result<Option<DeviceId>, StoreError> {
        if self.0.guard_acts().is_some() {
            let detail = "a guard at a post cannot take a maker's word: it cannot record the certificate".to_owned();
            return Err(StoreError::Forbidden { detail });
        }
        let introduced = decided(&mut *self.0, |tx| Ok(enrol::introduce(tx, shown, cause)?.ok_or(())))?;
        Ok(introduced.ok())
    }

    /// See [`introduce::introduce`]. What a guard at a post tells of waits for a person or a desk.
    pub fn introduce_child(
        &mut self,
        new: &IntroducedRecord,
        most: u32,
        cause: &Cause,
    ) -> Answer<IntroducedState, IntroduceRefusal> {
        if let Some(acts) = self.0.guard_acts() {
            return acts.introduce_child(new, most, cause);
        }
        decided(&mut *self.0, |tx| introduce::introduce(tx, new, most, cause))
    }

    /// See [`usage::record`].
    pub fn record_uses(&mut self, uses: &[(DeviceId, Option<Fingerprint>)], cause: &Cause) -> Result<(), StoreError> {
        match self.0.guard_acts() {
            Some(acts) => acts.record_uses(uses, cause),
            None => made(&mut *self.0, |tx| usage::record(tx, uses, cause)),
        }
    }

    /// Records a sign that a device's key is in two places, and puts the device on hold for it if `hold` is set; says whether that
    /// changed anything. See [`usage::clone_sign`].
    pub fn record_clone_sign(
        &mut self,
        id: &DeviceId,
        sign: &str,
        hold: bool,
        cause: &Cause,
    ) -> Result<bool, StoreError> {
        if let Some(acts) = self.0.guard_acts() {
            return acts.record_clone_sign(id, sign, hold, cause);
        }
        made(&mut *self.0, |tx| {
            usage::clone_sign(tx, id, sign, cause)?;
            Ok(hold && !device::set_hold(tx, std::slice::from_ref(id), true, cause)?.is_empty())
        })
    }

    /// See [`record::note`].
    pub fn record_note(
        &mut self,
        act: &'static str,
        subject: &str,
        detail: &str,
        cause: &Cause,
    ) -> Result<i64, StoreError> {
        match self.0.guard_acts() {
            Some(acts) => acts.record_note(act, subject, detail, cause),
            None => made(&mut *self.0, |tx| record::note(tx, act, subject, detail, cause)),
        }
    }

    /// See [`Store::meet`].
    pub fn meet(&mut self, turn: &Turn<'_>) -> Result<Vec<Met>, StoreError> {
        self.0.meet(turn)
    }

    /// See [`Store::tally`].
    pub fn tally(&mut self, tally: &Tally<'_>) -> Result<(), StoreError> {
        self.0.tally(tally)
    }
}
