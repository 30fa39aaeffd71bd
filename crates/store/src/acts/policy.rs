//! Groups, editions and trials.

use serde_json::json;
use tidy_warden_core::id::{DeviceId, GroupName};
use tidy_warden_core::key::sha256;
use tidy_warden_core::policy::{PolicyFile, digest};
use tidy_warden_core::time::UnixTime;

use super::{append, hex, nothing, unknown};
use crate::{Cause, EditionRecord, GroupMembers, GroupRecord, StoreError, TrialRecord, Tx};

/// Makes a group, or gives one that is there other members.
///
/// # Errors
/// One of the devices is not there.
pub fn make_group(tx: &mut dyn Tx, name: &GroupName, members: &GroupMembers, cause: &Cause) -> Result<(), StoreError> {
    let (rule, ids): (Option<&String>, &[DeviceId]) = match members {
        GroupMembers::Rule(rule) => (Some(rule), &[]),
        GroupMembers::Fixed(ids) => (None, ids),
    };
    let detail = match rule {
        Some(rule) => json!({ "rule": rule }),
        None => {
            let list: Vec<&str> = ids.iter().map(DeviceId::as_str).collect();
            json!({ "count": ids.len(), "list_sha256": hex(&sha256(list.join("\n").as_bytes())) })
        }
    };
    let change = append(tx, cause, "group.make", name.as_str(), &detail)?;
    tx.leave_group(name, change)?;
    tx.put_group(&GroupRecord { name: name.clone(), rule: rule.cloned(), created: cause.at })?;
    tx.join_group(name, ids, change)?;
    tx.put_groups_changed(change)
}

/// Drops a group; its devices stay.
///
/// # Errors
/// There is no such group.
pub fn drop_group(tx: &mut dyn Tx, name: &GroupName, cause: &Cause) -> Result<(), StoreError> {
    if !tx.drop_group(name)? {
        return Err(unknown("group", name));
    }
    let change = append(tx, cause, "group.drop", name.as_str(), &nothing())?;
    tx.leave_group(name, change)?;
    tx.put_groups_changed(change)
}

/// Adopts an edition; gives its number.
pub fn adopt(tx: &mut dyn Tx, files: &[PolicyFile], cause: &Cause) -> Result<u32, StoreError> {
    let number = tx.head()?.edition + 1;
    let digest = digest(files);
    tx.put_edition(&EditionRecord {
        number,
        digest,
        author: cause.actor.clone(),
        at: cause.at,
        because: cause.because.clone(),
        files: files.to_vec(),
    })?;
    let names: Vec<&str> = files.iter().map(|file| file.name.as_str()).collect();
    let detail = json!({ "sha256": hex(&digest), "files": names });
    append(tx, cause, "policy.adopt", &format!("edition {number}"), &detail)?;
    Ok(number)
}

/// Begins a trial of policies, in place of one that is running; gives its number.
pub fn begin_trial(tx: &mut dyn Tx, files: &[PolicyFile], until: UnixTime, cause: &Cause) -> Result<u32, StoreError> {
    let number = tx.last_trial()? + 1;
    let digest = digest(files);
    tx.end_trials(cause.at)?;
    tx.put_trial(&TrialRecord {
        number,
        digest,
        author: cause.actor.clone(),
        at: cause.at,
        until,
        because: cause.because.clone(),
        files: files.to_vec(),
    })?;
    let detail = json!({ "sha256": hex(&digest), "until": until });
    append(tx, cause, "policy.trial", &format!("trial {number}"), &detail)?;
    Ok(number)
}

/// Ends the trial that is running; says whether there was one.
pub fn end_trial(tx: &mut dyn Tx, cause: &Cause) -> Result<bool, StoreError> {
    let Some(trial) = tx.trial()? else { return Ok(false) };
    tx.end_trials(cause.at)?;
    append(tx, cause, "policy.trial-end", &format!("trial {}", trial.number), &nothing())?;
    Ok(true)
}
