//! What the guard counts of each device, what it noticed of one, and what the broker keeps for it.

use std::collections::BTreeMap;

use tidy_warden_core::claim::OpenClaim;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::Evidence;
use tidy_warden_core::time::UnixTime;

use super::errand::ErrandTally;
use super::{PostState, TrialDifference};
use crate::StoreError;

/// What passed between a device and the broker, and what was refused.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Traffic {
    /// Messages from the device that were passed on.
    pub messages_in: u64,
    /// Their payloads, in octets.
    pub octets_in: u64,
    /// Messages to the device.
    pub messages_out: u64,
    /// Their payloads, in octets.
    pub octets_out: u64,
    /// Acts that were refused: connecting, publishing, subscribing.
    pub refusals: u64,
    /// The last refusal: when, and what was refused why.
    pub refused: Option<(UnixTime, String)>,
}

/// Signs that somebody else has a device's key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CloneSigns {
    /// When the first was seen.
    pub first: UnixTime,
    /// When the last was seen.
    pub last: UnixTime,
    /// How many there were.
    pub count: u64,
    /// The last one, in words.
    pub sign: String,
}

/// A session that the broker keeps for a device while it is away (MQTT 5.0 section 4.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BrokerSession {
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub device: DeviceId,
    /// The guard that opened it last: a random number of its own.
    pub guard: i64,
    /// When it was opened last.
    pub opened: UnixTime,
    /// Until when the broker keeps it, as far as the guard knows.
    pub until: UnixTime,
    /// Its topic filters, as they were asked for.
    pub subscriptions: Vec<String>,
}

/// How many events of a device are kept: the newest.
pub const MOST_EVENTS: usize = 50;

/// What a guard noticed of a device: that it connected, or was refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceEvent {
    /// The device.
    pub device: DeviceId,
    /// When.
    pub at: UnixTime,
    /// A word for it, such as `connected`.
    pub what: String,
    /// It in words, bounded by who noticed it.
    pub text: String,
}

/// What is written without an entry in the record, as nothing is decided by it.
#[derive(Debug, Clone, Copy)]
pub enum Tally<'a> {
    /// Adds to what was counted of devices, and moves the time forward at which each was last seen, if it sent anything. Devices that
    /// are not known are passed over.
    Traffic {
        /// What was counted since it was last written.
        counted: &'a [(DeviceId, Traffic)],
        /// When.
        at: UnixTime,
    },
    /// Adds to what a trial decided otherwise: counts are added up.
    Differences {
        /// The trial's number.
        trial: u32,
        /// What was seen since it was last written.
        differences: &'a [TrialDifference],
    },
    /// Keeps what is known of sessions at the broker in place of what was known under the same client identifier, and forgets those
    /// that are gone or that the broker must have forgotten by now.
    Sessions {
        /// Sessions of devices that are listed; others are passed over.
        kept: &'a [BrokerSession],
        /// Client identifiers.
        gone: &'a [String],
        /// The ward's clock.
        now: UnixTime,
    },
    /// Keeps what was noticed of devices, in this order, of each the newest [`MOST_EVENTS`]. Devices that are not known are passed over.
    Events(&'a [DeviceEvent]),
    /// Notes what a guard did with errands. Numbers that are not known are passed over.
    Errands(ErrandTally<'a>),
    /// Keeps what was noticed of devices, for reflexes. Devices that are not known are passed over.
    Evidence(&'a [Evidence]),
    /// Keeps that devices opened themselves to be claimed, in the place of what each opened before.
    Windows(&'a [OpenClaim]),
    /// Keeps what an instance of guard or desk says of itself, in place of what it said before.
    Post(&'a PostState),
}

/// Questions about what the guard counts and notices.
pub trait ReadTraffic {
    /// What was counted of a device; all zero if it never met the guard.
    fn traffic(&self, id: &DeviceId) -> Result<Traffic, StoreError>;

    /// The signs that a device's key is in two places.
    fn clone_signs(&self, id: &DeviceId) -> Result<Option<CloneSigns>, StoreError>;

    /// What guards noticed of a device last, the oldest first: [`MOST_EVENTS`] at the most.
    fn events(&self, id: &DeviceId) -> Result<Vec<DeviceEvent>, StoreError>;

    /// The session that the broker keeps under a client identifier.
    fn broker_session(&self, client_id: &str) -> Result<Option<BrokerSession>, StoreError>;

    /// How many sessions the broker keeps for a device.
    fn broker_sessions_of(&self, device: &DeviceId) -> Result<usize, StoreError>;

    /// Up to `limit` sessions that the broker keeps for devices that are out or retired.
    fn broker_sessions_of_ended(&self, limit: usize) -> Result<Vec<BrokerSession>, StoreError>;
}

/// The events of each device among `events` that are kept if they come at once, in their order: what a device has no room for is left out.
pub(crate) fn newest(events: &[DeviceEvent]) -> BTreeMap<&DeviceId, Vec<&DeviceEvent>> {
    let mut all: BTreeMap<&DeviceId, Vec<&DeviceEvent>> = BTreeMap::new();
    events.iter().for_each(|each| all.entry(&each.device).or_default().push(each));
    for of_one in all.values_mut() {
        let first = of_one.len().saturating_sub(MOST_EVENTS);
        of_one.drain(..first);
    }
    all
}

/// Rows of what the guard notices; what it only counts is a [`Tally`].
pub trait WriteTraffic: ReadTraffic {
    /// Writes what is known of signs that a device's key is in two places.
    fn put_clone_signs(&mut self, id: &DeviceId, signs: &CloneSigns) -> Result<(), StoreError>;
}
