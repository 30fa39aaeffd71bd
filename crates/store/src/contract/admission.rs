//! Admissions. One that is neither used nor withdrawn, nor noted as lapsed, is pending: there is one at the most for each device's id and
//! for each fact.

use tidy_warden_core::admission::{AdmissionName, AdmissionRecord};
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// Questions about admissions.
pub trait ReadAdmissions {
    /// An admission by its name.
    fn admission(&self, name: AdmissionName) -> Result<Option<AdmissionRecord>, StoreError>;

    /// Up to `limit` admissions behind one, in the order in which they were opened; from the first with number 0.
    fn admissions(&self, after: AdmissionName, limit: usize) -> Result<Vec<AdmissionRecord>, StoreError>;

    /// Up to `limit` admissions that are neither used nor withdrawn nor noted as lapsed, behind a place in the order of their ends and
    /// numbers.
    fn pending_by_end(
        &self,
        after: (UnixTime, AdmissionName),
        limit: usize,
    ) -> Result<Vec<AdmissionRecord>, StoreError>;

    /// The name of the newest; number 0 if there is none.
    fn last_admission(&self) -> Result<AdmissionName, StoreError>;

    /// Up to `limit` admissions of a device's id, the newest first.
    fn admissions_of(&self, device: &DeviceId, limit: usize) -> Result<Vec<AdmissionRecord>, StoreError>;

    /// The newest admission that demands a key, by SHA-256 of its SubjectPublicKeyInfo.
    fn admission_of_key(&self, digest: &[u8; 32]) -> Result<Option<AdmissionRecord>, StoreError>;

    /// The pending admission of each device's id, in the order asked for.
    fn pending_for(&self, devices: &[DeviceId]) -> Result<Vec<Option<AdmissionRecord>>, StoreError>;

    /// The pending admission that demands each fact, in the order asked for.
    fn pending_with(&self, facts: &[&Fact]) -> Result<Vec<Option<AdmissionRecord>>, StoreError>;
}

/// Rows of admissions.
pub trait WriteAdmissions: ReadAdmissions {
    /// Writes new admissions, which are pending.
    fn insert_admissions(&mut self, new: &[AdmissionRecord]) -> Result<(), StoreError>;

    /// Writes how an admission ended; it is not pending any more.
    fn end_admission(&mut self, ended: &AdmissionRecord) -> Result<(), StoreError>;

    /// Writes that pending admissions are withdrawn: those of a device's id, or all.
    fn withdraw_pending(&mut self, of: Option<&DeviceId>, at: UnixTime) -> Result<(), StoreError>;
}
