//! Groups, editions and trials, as the store holds them.

use std::sync::Arc;

use tidy_warden_core::condition::{Condition, Groups, Use};
use tidy_warden_core::id::{DeviceId, GroupName};
use tidy_warden_core::policy::PolicyFile;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// A group of devices.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GroupRecord {
    /// Its name.
    pub name: GroupName,
    /// The condition that its devices meet; `None` for a fixed group.
    pub rule: Option<String>,
    /// When it was made.
    pub created: UnixTime,
}

/// What a group is made from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GroupMembers {
    /// Every device that meets a condition, now and later.
    Rule(String),
    /// These devices.
    Fixed(Vec<DeviceId>),
}

/// Groups, ready for resolving conditions.
///
/// # Errors
/// A stored rule that does not read back.
pub fn resolvable(records: &[GroupRecord]) -> Result<Groups, StoreError> {
    let group = |record: &GroupRecord| {
        let read = |rule: &String| {
            Condition::parse(&Source::new(&format!("group {}", record.name), rule), Use::Picking)
                .map(Arc::new)
                .map_err(|error| StoreError::Damaged { detail: error.to_string() })
        };
        Ok((record.name.clone(), record.rule.as_ref().map(read).transpose()?))
    };
    records.iter().map(group).collect()
}

/// An adopted edition without its text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditionSummary {
    /// Its number, from 1.
    pub number: u32,
    /// SHA-256 of its files.
    pub digest: [u8; 32],
    /// Who adopted it.
    pub author: String,
    /// When.
    pub at: UnixTime,
    /// Why.
    pub because: String,
    /// The names of its files.
    pub files: Vec<String>,
}

/// A trial: policies that are watched and do not decide.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TrialRecord {
    /// Its number, from 1.
    pub number: u32,
    /// SHA-256 of its files.
    pub digest: [u8; 32],
    /// Who began it.
    pub author: String,
    /// When.
    pub at: UnixTime,
    /// The last second in which it is watched.
    pub until: UnixTime,
    /// Why.
    pub because: String,
    /// Its full text.
    pub files: Vec<PolicyFile>,
}

/// Something that the policies on trial decide otherwise than the edition: once for each device, act, and rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TrialDifference {
    /// Whose act.
    pub device: DeviceId,
    /// `connect`, `publish`, `subscribe` or `deliver`.
    pub act: String,
    /// Whether the trial would allow it, which the edition denies; else the other way round.
    pub would_allow: bool,
    /// The rule that decides on the side that has one: policy, file and line; empty if no rule speaks of it.
    pub rule: String,
    /// A topic, topic filter or client identifier, the newest.
    pub sample: String,
    /// How often.
    pub count: u64,
    /// First and last time.
    pub first: UnixTime,
    /// The last time.
    pub last: UnixTime,
}
