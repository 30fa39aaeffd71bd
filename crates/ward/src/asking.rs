//! Devices that wait for a person, as a person sees them: under which id, and with whom they are in conflict.

use std::collections::BTreeMap;

use tidy_warden_core::admission::filled;
use tidy_warden_core::asking::{AskingRecord, MOST_REMEMBERED};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::introduced::IntroducedRecord;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::StoreError;

use crate::edge::device_id;
use crate::open::Ward;
use crate::problem::Problem;

/// How many others are named that one is in conflict with, about: whoever floods with one fact is to fill no screens.
const MOST_NAMED: usize = 16;

/// What is known of one that waits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Waits {
    /// It called itself, and has proved to hold a key.
    Caller(AskingRecord),
    /// Its gateway brought it in.
    Child(IntroducedRecord),
}

impl Waits {
    /// Since when.
    #[must_use]
    pub fn since(&self) -> UnixTime {
        match self {
            Self::Caller(record) => record.since,
            Self::Child(record) => record.since,
        }
    }

    /// Its last second.
    #[must_use]
    pub fn until(&self) -> UnixTime {
        match self {
            Self::Caller(record) => record.until,
            Self::Child(record) => record.until,
        }
    }

    /// Where it came from: the network of who called, or the gateway.
    #[must_use]
    pub fn from(&self) -> String {
        match self {
            Self::Caller(record) => record.from.clone(),
            Self::Child(record) => record.gateway.to_string(),
        }
    }

    /// The code of its key, if it has shown one.
    #[must_use]
    pub fn code(&self) -> Option<String> {
        match self {
            Self::Caller(record) => Some(record.code()),
            Self::Child(_) => None,
        }
    }
}

/// One that waits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Asking {
    /// What it said, or its gateway said of it.
    pub record: Waits,
    /// Its id until it is given another.
    pub id: DeviceId,
    /// The id that its kind's rule gives it, if that gives one.
    pub wanted: Option<DeviceId>,
    /// Who else has one of its facts, or its id: others that wait, and devices; not many more than 16 of them.
    pub conflicts: Vec<DeviceId>,
}

impl Asking {
    /// As a device that is listed would look.
    #[must_use]
    pub fn as_device(&self) -> DeviceRecord {
        match &self.record {
            Waits::Caller(record) => {
                let id = self.wanted.clone().unwrap_or_else(|| self.id.clone());
                DeviceRecord { facts: record.facts.clone(), ..DeviceRecord::new(id, record.kind.clone(), record.since) }
            }
            Waits::Child(record) => record.as_device(record.since),
        }
    }
}

/// All that wait, in the order in which they came, those of one second in the order of their keys.
pub fn all(ward: &Ward) -> Result<Vec<Asking>, Problem> {
    let now = ward.now();
    let limit = usize::try_from(MOST_REMEMBERED).unwrap_or(usize::MAX);
    let damaged = |error: tidy_warden_core::id::BadName| StoreError::Damaged { detail: error.to_string() };
    let mut all = Vec::new();
    for record in ward.store.all_asking(limit)?.into_iter().filter(|record| record.is_waiting(now)) {
        let rule = ward.settings.kinds.get(&record.kind).and_then(|kind| kind.id.as_deref());
        let named = rule.and_then(|rule| filled(rule, &record.facts).ok());
        let wanted = named.and_then(|id| device_id(&ward.settings, &id).ok());
        let id = record.id().map_err(damaged)?;
        all.push(Asking { id, record: Waits::Caller(record), wanted, conflicts: Vec::new() });
    }
    let children = ward.store.waiting_children(limit)?.into_iter().filter(|record| record.is_waiting(now));
    all.extend(children.map(|record| {
        let (id, wanted) = (record.child.clone(), Some(record.child.clone()));
        Asking { id, wanted, record: Waits::Child(record), conflicts: Vec::new() }
    }));
    all.sort_by_key(|asking| asking.record.since());
    // Who has the same fact, and who has the same id.
    let mut with_fact: BTreeMap<Fact, Vec<usize>> = BTreeMap::new();
    let mut with_id: BTreeMap<DeviceId, Vec<usize>> = BTreeMap::new();
    for (at, asking) in all.iter().enumerate() {
        if let Waits::Caller(record) = &asking.record {
            record.facts.values().for_each(|fact| with_fact.entry(fact.clone()).or_default().push(at));
        }
        asking.wanted.iter().for_each(|id| with_id.entry(id.clone()).or_default().push(at));
    }
    let facts: Vec<&Fact> = with_fact.keys().collect();
    let ids: Vec<DeviceId> = with_id.keys().cloned().collect();
    let holders: Vec<Option<DeviceId>> = ward.store.holders(&facts)?;
    let listed = ward.store.devices(&ids)?.into_iter().map(|found| found.map(|view| view.device.id));
    let of_facts = with_fact.values().cloned().zip(holders);
    let mut conflicts: Vec<Vec<DeviceId>> = vec![Vec::new(); all.len()];
    for (members, device) in of_facts.chain(with_id.values().cloned().zip(listed)) {
        for at in &members {
            let others = members.iter().filter(|other| *other != at).filter_map(|other| all.get(*other));
            if let Some(found) = conflicts.get_mut(*at) {
                let room = MOST_NAMED.saturating_sub(found.len());
                found.extend(device.clone().into_iter().chain(others.map(|other| other.id.clone()).take(room)));
            }
        }
    }
    for (asking, mut found) in all.iter_mut().zip(conflicts) {
        found.sort();
        found.dedup();
        asking.conflicts = found;
    }
    Ok(all)
}

/// The one with an id: its own, or the one that its kind's rule gives it.
pub fn named(ward: &Ward, id: &DeviceId) -> Result<Asking, Problem> {
    let mut found: Vec<Asking> = all(ward)?;
    found.retain(|asking| asking.id == *id || asking.wanted.as_ref() == Some(id));
    match found.len() {
        0 => Err(Problem::not_found(format!("no device waits as `{id}`")).next("device list --where 'state = asking'")),
        1 => found.pop().ok_or_else(|| Problem::not_found(format!("no device waits as `{id}`"))),
        count => {
            let ids: Vec<&str> = found.iter().map(|asking| asking.id.as_str()).take(MOST_NAMED).collect();
            Err(Problem::refused(format!("{count} wait as `{id}`, with different keys"))
                .because("one of them may be somebody else: compare their codes with what the device shows")
                .next(format!("name one of {}", ids.join(", "))))
        }
    }
}
