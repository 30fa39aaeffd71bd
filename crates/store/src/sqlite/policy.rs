//! Groups, trials, and the fleet as policies see it.

use std::borrow::Cow;

use rusqlite::{Connection, Transaction, params};
use serde_json::json;
use tidy_warden_core::id::{DeviceId, GroupName};
use tidy_warden_core::policy::{FleetRow, PolicyFile, digest};
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged};
use super::write::hex;
use super::{append, meta, set_meta};
use crate::{Cause, GroupMembers, GroupRecord, StoreError, TrialDifference, TrialRecord};

/// The change number of the newest change to groups that are by rule.
const RULES_CHANGED: &str = "group_rules_changed";

pub(super) fn groups(connection: &Connection) -> Result<Vec<GroupRecord>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT name, rule, created FROM device_groups ORDER BY name")?;
    let mut found = statement.query([])?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        let name: String = row.get(0)?;
        let name = name.parse().map_err(|_| damaged("group"))?;
        all.push(GroupRecord { name, rule: row.get(1)?, created: UnixTime(row.get(2)?) });
    }
    Ok(all)
}

pub(super) fn rules_changed(connection: &Connection) -> Result<i64, StoreError> {
    Ok(meta(connection, RULES_CHANGED)?.unwrap_or(0))
}

/// Makes a group, or gives one other members.
pub(super) fn make_group(
    tx: &Transaction<'_>,
    name: &GroupName,
    members: &GroupMembers,
    cause: &Cause,
) -> Result<(), StoreError> {
    let (rule, ids): (Option<&str>, &[DeviceId]) = match members {
        GroupMembers::Rule(rule) => (Some(rule), &[]),
        GroupMembers::Fixed(ids) => (None, ids),
    };
    let listed: Vec<&str> = ids.iter().map(DeviceId::as_str).collect();
    let detail = match rule {
        Some(rule) => json!({ "rule": rule }),
        None => {
            let list = listed.join("\n");
            let digest = tidy_warden_core::key::sha256(list.as_bytes());
            json!({ "count": ids.len(), "list_sha256": hex(&digest) })
        }
    };
    let change = append(tx, cause, "group.make", name.as_str(), &detail.to_string())?;
    leave(tx, name, change)?;
    tx.execute(
        "INSERT INTO device_groups (name, rule, created) VALUES (?1, ?2, ?3)
         ON CONFLICT (name) DO UPDATE SET rule = excluded.rule",
        params![name.as_str(), rule, cause.at.0],
    )?;
    let mut join = tx.prepare_cached(
        "UPDATE devices SET member_of = json_insert(member_of, '$[#]', ?2), changed = ?3 WHERE id = ?1",
    )?;
    for id in listed {
        if join.execute(params![id, name.as_str(), change])? == 0 {
            return Err(StoreError::Unknown { what: "device", name: id.to_owned() });
        }
    }
    set_meta(tx, RULES_CHANGED, &change)
}

pub(super) fn drop_group(tx: &Transaction<'_>, name: &GroupName, cause: &Cause) -> Result<(), StoreError> {
    let change = append(tx, cause, "group.drop", name.as_str(), "{}")?;
    leave(tx, name, change)?;
    if tx.execute("DELETE FROM device_groups WHERE name = ?1", [name.as_str()])? == 0 {
        return Err(StoreError::Unknown { what: "group", name: name.to_string() });
    }
    set_meta(tx, RULES_CHANGED, &change)
}

/// Takes all devices out of a group.
fn leave(tx: &Transaction<'_>, name: &GroupName, change: i64) -> Result<(), StoreError> {
    tx.execute(
        "UPDATE devices SET changed = ?2, member_of =
             (SELECT json_group_array(value) FROM json_each(member_of) WHERE value <> ?1)
         WHERE member_of <> '[]' AND EXISTS (SELECT 1 FROM json_each(member_of) WHERE value = ?1)",
        params![name.as_str(), change],
    )?;
    Ok(())
}

/// Walks all devices but the retired ones, with no more of each than policies look at.
pub(super) fn each_fleet_row(
    connection: &Connection,
    facts: bool,
    visit: &mut dyn FnMut(&FleetRow<'_>) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT id, kind, gateway, owner, labels, facts, member_of, out IS NOT NULL OR held IS NOT NULL FROM devices
         WHERE retired IS NULL ORDER BY pk",
    )?;
    let mut found = statement.query([])?;
    while let Some(row) = found.next()? {
        let text = |at| row.get_ref(at)?.as_str().map_err(|_| damaged("device"));
        let maybe = |at| row.get_ref(at)?.as_str_or_null().map_err(|_| damaged("device"));
        let groups: Vec<Cow<'_, str>> = match text(6)? {
            "[]" => Vec::new(),
            some => rows::list(some, "groups")?,
        };
        let labels = rows::borrowed_pairs(text(4)?)?;
        let facts = if facts { rows::borrowed_pairs(text(5)?)? } else { Vec::new() };
        visit(&FleetRow {
            id: text(0)?,
            kind: text(1)?,
            gateway: maybe(2)?,
            owner: maybe(3)?,
            labels: &labels,
            facts: &facts,
            groups: &groups,
            barred: row.get(7)?,
        })?;
    }
    Ok(())
}

pub(super) fn trial(connection: &Connection) -> Result<Option<TrialRecord>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT number, digest, author, at, until, because, files FROM trials WHERE ended IS NULL
         ORDER BY number DESC LIMIT 1",
    )?;
    let mut found = statement.query([])?;
    let Some(row) = found.next()? else { return Ok(None) };
    let files: Vec<PolicyFile> = serde_json::from_str(&row.get::<_, String>(6)?).map_err(|_| damaged("trial"))?;
    Ok(Some(TrialRecord {
        number: row.get(0)?,
        digest: row.get(1)?,
        author: row.get(2)?,
        at: UnixTime(row.get(3)?),
        until: UnixTime(row.get(4)?),
        because: row.get(5)?,
        files,
    }))
}

pub(super) fn begin_trial(
    tx: &Transaction<'_>,
    files: &[PolicyFile],
    until: UnixTime,
    cause: &Cause,
) -> Result<u32, StoreError> {
    let number: u32 = tx.query_row("SELECT coalesce(max(number), 0) + 1 FROM trials", [], |row| row.get(0))?;
    let digest = digest(files);
    let text = serde_json::to_string(files).map_err(|_| damaged("trial"))?;
    tx.execute("UPDATE trials SET ended = ?1 WHERE ended IS NULL", [cause.at.0])?;
    tx.execute(
        "INSERT INTO trials (number, digest, author, at, until, because, files) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        params![number, digest, cause.actor, cause.at.0, until.0, cause.because, text],
    )?;
    let detail = json!({ "sha256": hex(&digest), "until": until });
    append(tx, cause, "policy.trial", &format!("trial {number}"), &detail.to_string())?;
    Ok(number)
}

pub(super) fn end_trial(tx: &Transaction<'_>, cause: &Cause) -> Result<bool, StoreError> {
    let Some(trial) = trial(tx)? else { return Ok(false) };
    tx.execute("UPDATE trials SET ended = ?1 WHERE ended IS NULL", [cause.at.0])?;
    append(tx, cause, "policy.trial-end", &format!("trial {}", trial.number), "{}")?;
    Ok(true)
}

/// Adds to what a trial is known to decide otherwise. No audit entry: nothing of the ward changes.
pub(super) fn record_differences(
    tx: &Transaction<'_>,
    trial: u32,
    differences: &[TrialDifference],
) -> Result<(), StoreError> {
    let mut statement = tx.prepare_cached(
        "INSERT INTO trial_differences (trial, device, act, would_allow, rule, sample, count, first, last)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)
         ON CONFLICT (trial, device, act, would_allow, rule) DO UPDATE SET
             sample = excluded.sample, count = count + excluded.count, last = excluded.last",
    )?;
    for each in differences {
        let count = i64::try_from(each.count).unwrap_or(i64::MAX);
        statement.execute(params![
            trial,
            each.device.as_str(),
            each.act,
            each.would_allow,
            each.rule,
            each.sample,
            count,
            each.first.0,
            each.last.0
        ])?;
    }
    Ok(())
}

pub(super) fn differences(connection: &Connection, trial: u32) -> Result<Vec<TrialDifference>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT device, act, would_allow, rule, sample, count, first, last FROM trial_differences WHERE trial = ?1
         ORDER BY would_allow, rule, act, device",
    )?;
    let mut found = statement.query([trial])?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        let device: String = row.get(0)?;
        all.push(TrialDifference {
            device: device.parse().map_err(|_| damaged("trial"))?,
            act: row.get(1)?,
            would_allow: row.get(2)?,
            rule: row.get(3)?,
            sample: row.get(4)?,
            count: row.get::<_, i64>(5)?.unsigned_abs(),
            first: UnixTime(row.get(6)?),
            last: UnixTime(row.get(7)?),
        });
    }
    Ok(all)
}
