//! Admissions.

use tidy_warden_core::admission::{AdmissionEnd, AdmissionName, AdmissionRecord, Demand};
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::{MemoryStore, unknown};
use crate::{ReadAdmissions, StoreError, WriteAdmissions};

impl MemoryStore {
    fn pending(&self, holds: impl Fn(&AdmissionRecord) -> bool) -> Option<AdmissionRecord> {
        self.model().admissions.iter().find(|each| each.end.is_none() && holds(each)).cloned()
    }
}

impl ReadAdmissions for MemoryStore {
    fn admission(&self, name: AdmissionName) -> Result<Option<AdmissionRecord>, StoreError> {
        Ok(self.model().admissions.iter().find(|each| each.name == name).cloned())
    }

    fn admissions(&self, after: AdmissionName, limit: usize) -> Result<Vec<AdmissionRecord>, StoreError> {
        Ok(self.model().admissions.iter().filter(|each| each.name > after).take(limit).cloned().collect())
    }

    fn pending_by_end(
        &self,
        after: (UnixTime, AdmissionName),
        limit: usize,
    ) -> Result<Vec<AdmissionRecord>, StoreError> {
        let model = self.model();
        let behind = |each: &&AdmissionRecord| each.end.is_none() && (each.until, each.name) > after;
        let mut pending: Vec<_> = model.admissions.iter().filter(behind).cloned().collect();
        pending.sort_by_key(|each| (each.until, each.name));
        pending.truncate(limit);
        Ok(pending)
    }

    fn last_admission(&self) -> Result<AdmissionName, StoreError> {
        Ok(self.model().admissions.last().map_or(AdmissionName(0), |last| last.name))
    }

    fn admissions_of(&self, device: &DeviceId, limit: usize) -> Result<Vec<AdmissionRecord>, StoreError> {
        let model = self.model();
        Ok(model.admissions.iter().rev().filter(|each| each.device.id == *device).take(limit).cloned().collect())
    }

    fn admission_of_key(&self, digest: &[u8; 32]) -> Result<Option<AdmissionRecord>, StoreError> {
        Ok(self.model().admissions.iter().rev().find(|each| each.demand == Demand::Key(*digest)).cloned())
    }

    fn pending_for(&self, devices: &[DeviceId]) -> Result<Vec<Option<AdmissionRecord>>, StoreError> {
        Ok(devices.iter().map(|id| self.pending(|each| each.device.id == *id)).collect())
    }

    fn pending_with(&self, facts: &[&Fact]) -> Result<Vec<Option<AdmissionRecord>>, StoreError> {
        let shared = self.model().names.shared.clone();
        let pending = |fact: &&Fact| match shared.contains(fact.name()) {
            true => None,
            false => self.pending(|each| each.device.facts.get(fact.name()) == Some(fact)),
        };
        Ok(facts.iter().map(pending).collect())
    }
}

impl WriteAdmissions for MemoryStore {
    fn insert_admissions(&mut self, new: &[AdmissionRecord]) -> Result<(), StoreError> {
        self.model_mut().admissions.extend_from_slice(new);
        Ok(())
    }

    fn end_admission(&mut self, ended: &AdmissionRecord) -> Result<(), StoreError> {
        let known = self.model_mut().admissions.iter_mut().find(|each| each.name == ended.name);
        known.ok_or_else(|| unknown("admission", ended.name))?.end = ended.end;
        Ok(())
    }

    fn withdraw_pending(&mut self, of: Option<&DeviceId>, at: UnixTime) -> Result<(), StoreError> {
        let meant = |each: &&mut AdmissionRecord| each.end.is_none() && of.is_none_or(|of| each.device.id == *of);
        for each in self.model_mut().admissions.iter_mut().filter(meant) {
            each.end = Some(AdmissionEnd::Withdrawn { at });
        }
        Ok(())
    }
}
