//! Devices.

use std::collections::BTreeSet;

use tidy_warden_core::condition::Condition;
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::due::DeviceEnds;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{AuthorityName, DeviceId, GroupName, LabelName};
use tidy_warden_core::policy::FleetRow;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// A device with its credentials, newest first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceView {
    /// What is recorded of the device itself.
    pub device: DeviceRecord,
    /// What it signs in with, and what it signed in with before.
    pub credentials: Vec<CredentialRecord>,
}

/// Some of many devices, in the order in which they were listed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Page {
    /// At most as many as were asked for.
    pub devices: Vec<DeviceView>,
    /// Behind which place to go on; `None` if these are the last.
    pub next: Option<i64>,
}

/// A place in the order in which devices changed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// A change number.
    pub change: i64,
    /// The row of a device that changed with it; the greatest there is for the end of that change.
    pub row: i64,
}

impl Place {
    /// Behind everything that changed up to a change number.
    #[must_use]
    pub fn after(change: i64) -> Self {
        Self { change, row: i64::MAX }
    }
}

/// Some of the devices that changed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Changed {
    /// At most as many as were asked for; one that changed again meanwhile may come again.
    pub devices: Vec<DeviceId>,
    /// Behind which place to go on.
    pub to: Place,
    /// Whether there are more behind it.
    pub more: bool,
}

/// A name that devices may bear.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NameInUse {
    /// Of a label.
    Label(LabelName),
    /// Of a kind.
    Kind(String),
    /// None in particular: whether there is any device.
    Any,
}

/// The names of all labels and facts that devices of a ward have or had.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FieldNames {
    /// Of labels, in order.
    pub labels: BTreeSet<LabelName>,
    /// Of facts, in order.
    pub facts: BTreeSet<FactName>,
    /// Those of them that devices may share.
    pub shared: BTreeSet<FactName>,
}

/// Questions about devices.
pub trait ReadDevices {
    /// Devices by id, in the order asked for; `None` for those that are not listed.
    fn devices(&self, ids: &[DeviceId]) -> Result<Vec<Option<DeviceView>>, StoreError>;

    /// Up to `limit` devices behind a place (0 is before the first), those only for which a condition holds at `now`.
    fn page(&self, condition: Option<&Condition>, now: UnixTime, after: i64, limit: usize) -> Result<Page, StoreError>;

    /// The same in the order of their ids, behind an id; from the first with the empty text.
    fn page_by_id(
        &self,
        condition: Option<&Condition>,
        now: UnixTime,
        after: &str,
        limit: usize,
    ) -> Result<Vec<DeviceView>, StoreError>;

    /// Walks all devices but the retired ones, in one snapshot and with no more of each than policies look at; their facts only
    /// with `facts`. (Rows are borrowed, not paged: a million of them are put into classes in a second.)
    fn each_fleet_row(
        &self,
        facts: bool,
        visit: &mut dyn FnMut(&FleetRow<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError>;

    /// Walks all devices that are neither out nor retired and have a credential that is neither revoked nor distrusted, or are on hold: in
    /// one snapshot, with no more than when those end, and what each has of a label. Whether a device came by a desk is looked up where
    /// one of its credentials ends until `horizon`. (A million of them are read in a second: without their certificates.)
    fn each_ending(
        &self,
        horizon: UnixTime,
        label: Option<&LabelName>,
        visit: &mut dyn FnMut(&DeviceEnds<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError>;

    /// The devices behind a gateway, but the retired ones, in the order in which they were listed.
    fn children(&self, gateway: &DeviceId) -> Result<Vec<DeviceRecord>, StoreError>;

    /// Whether any device stands behind this one, retired ones among them.
    fn is_gateway(&self, id: &DeviceId) -> Result<bool, StoreError>;

    /// Who has a fact now; a retired device has none.
    fn holder(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError>;

    /// The same for many facts, in their order.
    fn holders(&self, facts: &[&Fact]) -> Result<Vec<Option<DeviceId>>, StoreError> {
        facts.iter().map(|fact| self.holder(fact)).collect()
    }

    /// The retired device that had a fact last; whether another has it now is not looked at. Nobody for facts that devices share.
    fn last_retired(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError>;

    /// Whether any device has a label of this name, or is of this kind.
    fn is_used(&self, name: &NameInUse) -> Result<bool, StoreError>;

    /// The names of all labels that devices have, in order.
    fn label_names(&self) -> Result<Vec<String>, StoreError>;

    /// The names of all labels and facts that devices have or had; known without a look at any device.
    fn field_names(&self) -> Result<FieldNames, StoreError>;

    /// Up to `limit` devices that changed behind a place, in the order in which they changed.
    fn changed(&self, after: Place, limit: usize) -> Result<Changed, StoreError>;

    /// How many devices there are that are neither out nor retired, and how many of them have a credential of the ward's that was
    /// recorded, and handed out, after an authority was added.
    fn equipped_since(&self, authority: &AuthorityName) -> Result<(u64, u64), StoreError>;

    /// Up to `limit` of the devices that [`ReadDevices::equipped_since`] counts, and that have no such credential, in the order in which they
    /// were listed.
    fn unequipped_since(&self, authority: &AuthorityName, limit: usize) -> Result<Vec<DeviceId>, StoreError>;
}

/// Rows of devices.
pub trait WriteDevices: ReadDevices {
    /// Lists devices, which change with `change`. Says no if an id or a fact is taken; what is written then must be taken back.
    fn insert_devices(&mut self, devices: &[DeviceRecord], change: i64) -> Result<bool, StoreError>;

    /// Writes a device as it is `after`, all but its groups and when it was seen, where it was as it is `before`. Its facts are
    /// taken from now on; if it is retired they are free.
    fn update_device(&mut self, before: &DeviceRecord, after: &DeviceRecord, change: i64) -> Result<(), StoreError>;

    /// Says of facts of the ward's own whether devices may share them from now on. None has a fact of which another was said before.
    fn put_shared(&mut self, facts: &[(FactName, bool)]) -> Result<(), StoreError>;

    /// Notes that a device, if it is there, changes with `change`.
    fn touch(&mut self, id: &DeviceId, change: i64) -> Result<(), StoreError>;

    /// Notes when a device was seen.
    fn put_seen(&mut self, id: &DeviceId, at: UnixTime) -> Result<(), StoreError>;

    /// Notes when devices were asked to renew; those that are not listed are passed over.
    fn put_renew_asked(&mut self, ids: &[DeviceId], at: UnixTime) -> Result<(), StoreError>;

    /// Takes all devices out of a fixed group; those that were in it change with `change`.
    fn leave_group(&mut self, group: &GroupName, change: i64) -> Result<(), StoreError>;

    /// Puts devices into a fixed group; they change with `change`.
    fn join_group(&mut self, group: &GroupName, devices: &[DeviceId], change: i64) -> Result<(), StoreError>;
}
