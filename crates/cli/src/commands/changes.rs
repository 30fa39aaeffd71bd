//! Rights in the open: what devices gain and lose, told before it is done.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::policy::{Changed, Comparison, Edition, Grants, compare};

use crate::console::{Console, counted};
use crate::problem::Problem;
use crate::ward::Ward;

/// How many devices are shown with what changes for them.
const SHOWN: usize = 5;

/// How many lines are shown for one device or group of devices.
const LINES: usize = 12;

/// Compares two editions over the whole fleet.
pub(super) fn compared(ward: &Ward, old: &Edition, new: &Edition) -> Result<Comparison, Problem> {
    Ok(compare(&ward.fleet(&[old, new], [])?, &ward.settings))
}

/// `3 gain, 1 lose, 2 gain and lose, 4 stay the same`.
fn totals(comparison: &Comparison) -> String {
    let same = comparison.devices - comparison.changed();
    let mut parts = Vec::new();
    for (count, one, many) in [
        (comparison.gaining, "gains", "gain"),
        (comparison.losing, "loses", "lose"),
        (comparison.both, "gains and loses", "gain and lose"),
        (same, "stays the same", "stay the same"),
    ] {
        if count > 0 {
            parts.push(format!("{count} {}", if count == 1 { one } else { many }));
        }
    }
    if parts.is_empty() { "there are none".to_owned() } else { parts.join(", ") }
}

/// Devices, or the gateways that speak for them.
pub(super) fn who(count: u64, for_children: bool) -> String {
    let devices = counted(usize::try_from(count).unwrap_or(usize::MAX), "device");
    if for_children { format!("gateways for {devices}") } else { devices }
}

fn change_lines(changes: &BTreeSet<Changed>) -> String {
    let mut changes: Vec<&Changed> = changes.iter().collect();
    changes.sort_by_key(|change| (!change.gained, change.act, &change.topics));
    let mut text: String = changes.iter().take(LINES).map(|change| format!("  {change}\n")).collect();
    if changes.len() > LINES {
        text.push_str(&format!("  and {} more\n", changes.len() - LINES));
    }
    text
}

/// A comparison for people.
pub(super) fn comparison_text(from: &str, to: &str, comparison: &Comparison) -> String {
    let mut text = format!(
        "from {from} to {to}: of {}, {}\n",
        counted(usize::try_from(comparison.devices).unwrap_or(usize::MAX), "device"),
        totals(comparison)
    );
    for group in &comparison.groups {
        let samples: Vec<String> = group
            .samples
            .iter()
            .map(|(device, child)| match child {
                Some(child) => format!("{device} for {child}"),
                None => device.clone(),
            })
            .collect();
        let count = usize::try_from(group.count).unwrap_or(usize::MAX);
        let what = who(group.count, group.for_children);
        let such = if samples.len() == count { ":" } else { ", such as" };
        text.push_str(&format!("\n{what}{such} {}\n{}", samples.join(", "), change_lines(&group.changes)));
    }
    text
}

/// A comparison for programs.
pub(super) fn comparison_json(comparison: &Comparison) -> Value {
    let groups: Vec<Value> = comparison
        .groups
        .iter()
        .map(|group| {
            let samples: Vec<Value> = group
                .samples
                .iter()
                .map(|(device, child)| match child {
                    Some(child) => json!({ "device": device, "child": child }),
                    None => json!({ "device": device }),
                })
                .collect();
            json!({
                "devices": group.count, "for_children": group.for_children, "samples": samples,
                "changes": group.changes,
            })
        })
        .collect();
    json!({
        "devices": comparison.devices, "changed": comparison.changed(), "gain": comparison.gaining,
        "lose": comparison.losing, "gain_and_lose": comparison.both,
        "same": comparison.devices - comparison.changed(), "groups": groups,
    })
}

/// How many devices are held against the policies one by one when they come back.
pub(super) const BACK: usize = 1_000;

/// Tells what devices get that come back as they are after, and the gateways that speak for them.
pub(super) fn tell_back(
    console: &Console,
    ward: &Ward,
    changed: &[(DeviceRecord, DeviceRecord)],
) -> Result<(), Problem> {
    let some = &changed[..changed.len().min(BACK)];
    let told = of_devices(ward, some)?;
    if !told.is_empty() {
        console.note(devices_text(&told));
    }
    if some.len() < changed.len() {
        console.note(format!("(that is what the first {BACK} get; what others may do: policy ask)"));
    }
    Ok(())
}

/// What changes for each device, and for the gateways that speak for them, if devices come to be as they are after. Who is
/// barred has no rights, but one that is so before and after counts as one that may come back.
pub(super) fn of_devices(
    ward: &Ward,
    changed: &[(DeviceRecord, DeviceRecord)],
) -> Result<Vec<(DeviceId, BTreeSet<Changed>)>, Problem> {
    let Some(edition) = ward.edition()? else { return Ok(Vec::new()) };
    let after: BTreeMap<&DeviceId, &DeviceRecord> = changed.iter().map(|(_, after)| (&after.id, after)).collect();
    let mut all: BTreeMap<DeviceId, (DeviceRecord, DeviceRecord)> = BTreeMap::new();
    for (before, after) in changed {
        all.insert(before.id.clone(), (before.clone(), after.clone()));
    }
    for gateway in changed.iter().flat_map(|(before, after)| [&before.gateway, &after.gateway]).flatten() {
        if !all.contains_key(gateway)
            && let Some(found) = ward.store.devices(std::slice::from_ref(gateway))?.pop().flatten()
        {
            all.insert(gateway.clone(), (found.device.clone(), found.device));
        }
    }
    let mut told = Vec::new();
    for (id, (before, now)) in &all {
        let children = if edition.asks_for_children(before) || edition.asks_for_children(now) {
            ward.store.children(id)?
        } else {
            Vec::new()
        };
        let mut then: Vec<DeviceRecord> = children
            .iter()
            .map(|child| after.get(&child.id).map_or_else(|| child.clone(), |after| (*after).clone()))
            .collect();
        let known: BTreeSet<DeviceId> = children.iter().map(|child| child.id.clone()).collect();
        let arrived = |after: &&DeviceRecord| after.gateway.as_ref() == Some(id) && !known.contains(&after.id);
        then.extend(changed.iter().map(|(_, after)| after).filter(arrived).cloned());
        let back_or_away = before.barred().is_some() != now.barred().is_some();
        let grants = |device: &DeviceRecord, children: &[DeviceRecord]| match device.barred() {
            Some(_) if back_or_away => Grants::default(),
            _ => edition.rights_with(device, children, &ward.settings).grants(),
        };
        let changes = grants(before, &children).changes_to(&grants(now, &then));
        if !changes.is_empty() {
            told.push((id.clone(), changes));
        }
    }
    Ok(told)
}

/// The changes of some devices, for people.
pub(super) fn devices_text(told: &[(DeviceId, BTreeSet<Changed>)]) -> String {
    let get = if told.len() == 1 { "gets" } else { "get" };
    let mut text = format!("{} {get} other rights:\n", counted(told.len(), "device"));
    for (id, changes) in told.iter().take(SHOWN) {
        text.push_str(&format!("{id}\n{}", change_lines(changes)));
    }
    if told.len() > SHOWN {
        text.push_str(&format!("and {} more\n", counted(told.len() - SHOWN, "device")));
    }
    text
}
