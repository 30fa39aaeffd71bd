//! A device as a fleet takes it in.

use std::borrow::Cow;

use crate::device::DeviceRecord;

/// A name and its value.
pub type Pair<'a> = (Cow<'a, str>, Cow<'a, str>);

/// One device as a fleet takes it in, borrowed from where it is kept. Retired devices have no place in a fleet.
#[derive(Debug, Clone, Copy)]
pub struct FleetRow<'a> {
    /// Its id.
    pub id: &'a str,
    /// Its kind.
    pub kind: &'a str,
    /// Its gateway.
    pub gateway: Option<&'a str>,
    /// Its owner.
    pub owner: Option<&'a str>,
    /// Its labels.
    pub labels: &'a [Pair<'a>],
    /// Its facts, in their normal form.
    pub facts: &'a [Pair<'a>],
    /// The groups that it was put into by name.
    pub groups: &'a [Cow<'a, str>],
    /// Whether it is out or on hold, so that it may do nothing now; it may come back.
    pub barred: bool,
}

impl FleetRow<'_> {
    /// The row of a device that is at hand as a record; its facts only with `facts`.
    pub fn of<T>(device: &DeviceRecord, facts: bool, take: impl FnOnce(&FleetRow<'_>) -> T) -> T {
        let labels: Vec<Pair<'_>> =
            device.labels.iter().map(|(name, value)| (name.as_str().into(), value.as_str().into())).collect();
        let known = device.facts.values().filter(|_| facts);
        let facts: Vec<Pair<'_>> = known.map(|fact| (fact.name().as_str().into(), fact.value().into())).collect();
        let groups: Vec<Cow<'_, str>> = device.groups.iter().map(|group| group.as_str().into()).collect();
        take(&FleetRow {
            id: device.id.as_str(),
            kind: device.kind.as_str(),
            gateway: device.gateway.as_ref().map(|gateway| gateway.as_str()),
            owner: device.owner.as_ref().map(|owner| owner.as_str()),
            labels: &labels,
            facts: &facts,
            groups: &groups,
            barred: device.barred().is_some(),
        })
    }
}
