//! Groups, editions and trials.

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
            let source = Source::new(&format!("group {}", record.name), rule);
            // One that comes from a backup of before there were notes may name a label so.
            Condition::parse(&source, Use::Picking)
                .or_else(|error| Condition::parse(&source, Use::BeforeNotes).map_err(|_| error))
                .map(Arc::new)
                .map_err(|error| StoreError::Damaged { detail: error.to_string() })
        };
        Ok((record.name.clone(), record.rule.as_ref().map(read).transpose()?))
    };
    records.iter().map(group).collect()
}

/// An adopted edition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditionRecord {
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
    /// Its full text.
    pub files: Vec<PolicyFile>,
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

/// Questions about groups and policies.
pub trait ReadPolicies {
    /// All groups by name.
    fn groups(&self) -> Result<Vec<GroupRecord>, StoreError>;

    /// An edition, or the current one; `None` if there is none.
    ///
    /// # Errors
    /// Its text does not give the digest that was adopted: what decides must be what was adopted.
    fn edition(&self, number: Option<u32>) -> Result<Option<EditionRecord>, StoreError>;

    /// The adopted editions, without their texts.
    fn editions(&self) -> Result<Vec<EditionSummary>, StoreError>;

    /// The trial that was begun and not ended, even if its time is over.
    fn trial(&self) -> Result<Option<TrialRecord>, StoreError>;

    /// The number of the newest trial, ended ones among them; 0 if there was none.
    fn last_trial(&self) -> Result<u32, StoreError>;

    /// What a trial decided otherwise.
    fn trial_differences(&self, trial: u32) -> Result<Vec<TrialDifference>, StoreError>;
}

/// Rows of groups and policies.
pub trait WritePolicies: ReadPolicies {
    /// Makes a group, or gives one that is there another rule.
    fn put_group(&mut self, group: &GroupRecord) -> Result<(), StoreError>;

    /// Takes a group away; says whether it was there.
    fn drop_group(&mut self, name: &GroupName) -> Result<bool, StoreError>;

    /// Notes at which change number the groups changed last that conditions of policies could name.
    fn put_groups_changed(&mut self, change: i64) -> Result<(), StoreError>;

    /// Writes an edition, which becomes the current one.
    fn put_edition(&mut self, edition: &EditionRecord) -> Result<(), StoreError>;

    /// Writes a trial, which runs from now on.
    fn put_trial(&mut self, trial: &TrialRecord) -> Result<(), StoreError>;

    /// Notes that whatever trial runs ended.
    fn end_trials(&mut self, at: UnixTime) -> Result<(), StoreError>;
}
