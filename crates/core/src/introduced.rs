//! Children that their gateways brought in: by a first message, or ahead over the desk.
//!
//! Each is remembered for good: an id is brought in once, and a gateway brings in no more than its policy says, however many of them were
//! refused or retired since.

use std::collections::BTreeMap;

use serde_json::json;

use crate::asking::WAITS;
use crate::device::DeviceRecord;
use crate::id::{DeviceId, KindName, LabelName, LabelValue};
use crate::time::UnixTime;

/// What became of one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum IntroducedState {
    /// A person has to say yes.
    Waits,
    /// It was listed, by a person's yes or by the settings of its kind.
    Accepted,
    /// A person refused it.
    Refused,
}

impl IntroducedState {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Waits => "waits",
            Self::Accepted => "accepted",
            Self::Refused => "refused",
        }
    }
}

impl std::str::FromStr for IntroducedState {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        [Self::Waits, Self::Accepted, Self::Refused]
            .into_iter()
            .find(|state| state.as_str() == text)
            .ok_or("expected waits, accepted or refused")
    }
}

/// A child that its gateway brought in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IntroducedRecord {
    /// Its id, as its gateway named it.
    pub child: DeviceId,
    /// The gateway.
    pub gateway: DeviceId,
    /// The kind that it came as.
    pub kind: KindName,
    /// The labels that it is to have: those of its gateway at that moment.
    pub labels: BTreeMap<LabelName, LabelValue>,
    /// When it was brought in last.
    pub since: UnixTime,
    /// The last second in which a person may say yes; later it has to be brought in again.
    pub until: UnixTime,
    /// What became of it.
    pub state: IntroducedState,
}

impl IntroducedRecord {
    /// A child of this kind behind a gateway, brought in now.
    #[must_use]
    pub fn new(child: DeviceId, kind: KindName, gateway: &DeviceRecord, now: UnixTime) -> Self {
        Self {
            child,
            gateway: gateway.id.clone(),
            kind,
            labels: gateway.labels.clone(),
            since: now,
            until: now.plus(WAITS),
            state: IntroducedState::Waits,
        }
    }

    /// Whether a person may still say something of it at `now`.
    #[must_use]
    pub fn is_waiting(&self, now: UnixTime) -> bool {
        self.state == IntroducedState::Waits && self.until >= now
    }

    /// The device that it is once it is listed.
    #[must_use]
    pub fn as_device(&self, created: UnixTime) -> DeviceRecord {
        DeviceRecord {
            gateway: Some(self.gateway.clone()),
            labels: self.labels.clone(),
            ..DeviceRecord::new(self.child.clone(), self.kind.clone(), created)
        }
    }

    /// What was said of it, for the audit record.
    #[must_use]
    pub fn described(&self) -> serde_json::Value {
        let labels: serde_json::Map<_, _> =
            self.labels.iter().map(|(name, value)| (name.to_string(), json!(value))).collect();
        json!({
            "gateway": self.gateway, "kind": self.kind, "labels": labels, "state": self.state.as_str(), "ends": self.until,
        })
    }
}
