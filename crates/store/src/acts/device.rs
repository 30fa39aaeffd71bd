//! Listing devices, changing them, holding them, and retiring them.

use std::collections::{BTreeSet, HashMap, HashSet};

use serde_json::json;
use tidy_warden_core::device::{AddRefusal, DeviceEdit, DeviceRecord, Note};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::Span;

use super::revoke::{end_credentials, list_anew, names};
use super::{append, append_text, hex, listed, nothing, touch_gateway};
use crate::{Answer, Cause, DeviceView, StoreError, Tx, View};

/// Devices that were listed, or every reason why none were.
pub type Added = Result<(), Vec<AddRefusal>>;

/// Who stands behind whom in a batch that is to be listed, and what was found of gateways that are listed.
#[derive(Default)]
struct Family<'a> {
    gateway_of: HashMap<&'a DeviceId, Option<&'a DeviceId>>,
    gateways: HashSet<&'a DeviceId>,
    /// Whether a gateway stands behind another itself; `None` if it is not listed.
    looked_up: HashMap<DeviceId, Option<bool>>,
}

impl<'a> Family<'a> {
    fn of(devices: &'a [DeviceRecord]) -> Self {
        Self {
            gateway_of: devices.iter().map(|device| (&device.id, device.gateway.as_ref())).collect(),
            gateways: devices.iter().filter_map(|device| device.gateway.as_ref()).collect(),
            looked_up: HashMap::new(),
        }
    }

    /// Checks the gateway of device number `index` of a batch.
    fn check(
        &mut self,
        view: &dyn View,
        index: usize,
        (id, is_listed): (&DeviceId, bool),
        gateway: &DeviceId,
    ) -> Result<Option<AddRefusal>, StoreError> {
        let behind = match (self.gateway_of.get(gateway), self.looked_up.get(gateway)) {
            (Some(its), _) => Some(its.is_some()),
            (None, Some(known)) => *known,
            (None, None) => {
                let found = view.devices(std::slice::from_ref(gateway))?.pop().flatten();
                let there = found.map(|view| view.device).filter(|device| device.retired.is_none());
                let behind = there.map(|device| device.gateway.is_some());
                self.looked_up.insert(gateway.clone(), behind);
                behind
            }
        };
        // Nobody stands behind a device that was never listed.
        let has_children = self.gateways.contains(id) || is_listed && view.is_gateway(id)?;
        let gateway = gateway.clone();
        Ok(match behind {
            None => Some(AddRefusal::NoGateway { index, gateway }),
            Some(behind) if behind || has_children || gateway == *id => {
                Some(AddRefusal::GatewayBehindGateway { index, gateway })
            }
            Some(_) => None,
        })
    }
}

/// How many devices are asked about at once.
const AT_ONCE: usize = 1_000;

/// What the store knows of a device that is to be listed.
#[derive(Default)]
struct Asked {
    /// Whether its id is that of a retired device; `None` if it is nobody's.
    retired: Option<bool>,
    /// Who holds each of its facts.
    holders: Vec<Option<DeviceId>>,
}

impl Asked {
    fn of(view: &dyn View, devices: &[DeviceRecord]) -> Result<Vec<Self>, StoreError> {
        let ids: Vec<DeviceId> = devices.iter().map(|device| device.id.clone()).collect();
        let facts: Vec<&Fact> = devices.iter().flat_map(|device| device.facts.values()).collect();
        let (known, mut holders) = (view.devices(&ids)?, view.holders(&facts)?.into_iter());
        let of = |(known, device): (Option<DeviceView>, &DeviceRecord)| Self {
            retired: known.map(|known| known.device.retired.is_some()),
            holders: holders.by_ref().take(device.facts.len()).collect(),
        };
        Ok(known.into_iter().zip(devices).map(of).collect())
    }
}

/// The facts that devices may share, if one of these has any of the ward's own.
pub(super) fn shared<'d>(
    view: &dyn View,
    mut devices: impl Iterator<Item = &'d DeviceRecord>,
) -> Result<BTreeSet<FactName>, StoreError> {
    let has_own = devices.any(|device| device.facts.keys().any(|name| matches!(name, FactName::Own(_))));
    Ok(if has_own { view.field_names()?.shared } else { BTreeSet::new() })
}

/// Every reason why these devices could not be listed now.
pub fn refusals(view: &dyn View, devices: &[DeviceRecord]) -> Result<Vec<AddRefusal>, StoreError> {
    let mut family = Family::of(devices);
    let shared = shared(view, devices.iter())?;
    let mut ids = HashSet::new();
    let mut facts: HashMap<&Fact, &DeviceId> = HashMap::new();
    let mut refusals = Vec::new();
    let mut asked = Vec::new();
    for (index, device) in devices.iter().enumerate() {
        let id = device.id.clone();
        // Many at a time: a database answers a thousand questions as soon as one.
        if index % AT_ONCE == 0 {
            asked = Asked::of(view, &devices[index..(index + AT_ONCE).min(devices.len())])?;
        }
        let Asked { retired, holders } = std::mem::take(&mut asked[index % AT_ONCE]);
        match retired {
            Some(true) => refusals.push(AddRefusal::IdRetired { index, id }),
            Some(false) => refusals.push(AddRefusal::IdTaken { index, id }),
            None if !ids.insert(&device.id) => refusals.push(AddRefusal::IdTaken { index, id }),
            None => {}
        }
        for (fact, holder) in device.facts.values().zip(holders) {
            if shared.contains(fact.name()) {
                continue;
            }
            let owner = facts.insert(fact, &device.id).cloned().or(holder);
            refusals.extend(owner.map(|owner| AddRefusal::FactTaken { index, fact: fact.clone(), owner }));
        }
        if let Some(gateway) = &device.gateway {
            refusals.extend(family.check(view, index, (&device.id, retired.is_some()), gateway)?);
        }
    }
    Ok(refusals)
}

/// Lists devices: all, or none and every reason why.
pub fn add(tx: &mut dyn Tx, devices: &[DeviceRecord], cause: &Cause) -> Answer<(), Vec<AddRefusal>> {
    let refusals = refusals(tx, devices)?;
    if !refusals.is_empty() {
        return Ok(Err(refusals));
    }
    let (act, subject, detail) = match devices {
        [one] => ("device.add", one.id.to_string(), describe(one)),
        many => {
            let list: Vec<u8> = many.iter().flat_map(|device| format!("{}\n", describe(device)).into_bytes()).collect();
            let detail = json!({ "count": many.len(), "list_sha256": hex(&sha256(&list)) });
            ("device.import", format!("{} devices", many.len()), detail.to_string())
        }
    };
    let change = append_text(tx, cause, act, &subject, &detail)?;
    if !tx.insert_devices(devices, change)? {
        // What is taken was looked for a moment ago, and nobody else changes anything meanwhile.
        return Err(StoreError::Damaged { detail: "the index of devices or facts does not fit its table".to_owned() });
    }
    touch_gateways(tx, devices, change)?;
    Ok(Ok(()))
}

/// A device as the record tells of it when it is listed.
fn describe(device: &DeviceRecord) -> String {
    let facts: serde_json::Map<_, _> =
        device.facts.values().map(|fact| (fact.name().to_string(), json!(fact.value()))).collect();
    let labels: serde_json::Map<_, _> =
        device.labels.iter().map(|(name, value)| (name.to_string(), json!(value))).collect();
    let mut said =
        json!({ "id": device.id, "kind": device.kind, "labels": labels, "facts": facts, "gateway": device.gateway });
    if let Some(note) = &device.note {
        said["note_sha256"] = json!(note_digest(note));
    }
    said.to_string()
}

/// What the record says of a note, so that its text can be taken away for good.
fn note_digest(note: &Note) -> String {
    hex(&sha256(note.as_str().as_bytes()))
}

/// Marks the gateways of devices as changed.
pub(super) fn touch_gateways(tx: &mut dyn Tx, devices: &[DeviceRecord], change: i64) -> Result<(), StoreError> {
    let gateways: HashSet<&DeviceId> = devices.iter().filter_map(|device| device.gateway.as_ref()).collect();
    gateways.into_iter().try_for_each(|gateway| tx.touch(gateway, change))
}

/// Changes a device.
///
/// # Errors
/// There is no such device.
pub fn edit(tx: &mut dyn Tx, id: &DeviceId, edit: &DeviceEdit, cause: &Cause) -> Answer<(), Vec<AddRefusal>> {
    let before = listed(tx, id)?.device;
    let mut refusals = Vec::new();
    for fact in edit.facts.iter().flatten() {
        if let Some(owner) = tx.holder(fact)?.filter(|owner| owner != id) {
            refusals.push(AddRefusal::FactTaken { index: 0, fact: fact.clone(), owner });
        }
    }
    if let Some(Some(gateway)) = &edit.gateway {
        refusals.extend(Family::default().check(tx, 0, (id, true), gateway)?);
    }
    if !refusals.is_empty() {
        return Ok(Err(refusals));
    }
    let labels: Vec<_> = edit.labels.iter().map(|(name, value)| json!({ "name": name, "value": value })).collect();
    let facts: Vec<_> = edit
        .facts
        .iter()
        .map(|fact| match fact {
            Ok(fact) => json!({ "name": fact.name().as_str(), "value": fact.value() }),
            Err(name) => json!({ "name": name.as_str(), "value": null }),
        })
        .collect();
    let mut detail = json!({ "labels": labels, "facts": facts });
    if let Some(gateway) = &edit.gateway {
        detail["gateway"] = json!(gateway);
    }
    if let Some(note) = &edit.note {
        detail["note_sha256"] = json!(note.as_ref().map(note_digest));
    }
    let change = append(tx, cause, "device.edit", id.as_str(), &detail)?;
    touch_gateway(tx, before.gateway.as_ref(), change)?;
    touch_gateway(tx, edit.gateway.as_ref().and_then(Option::as_ref), change)?;
    tx.update_device(&before, &edit.applied(&before), change)?;
    Ok(Ok(()))
}

/// Changes many devices alike, each with its own entry: all, or none and why one was refused.
///
/// # Errors
/// One of the devices is not there.
pub fn edit_many(
    tx: &mut dyn Tx,
    ids: &[DeviceId],
    change: &DeviceEdit,
    cause: &Cause,
) -> Answer<(), (DeviceId, Vec<AddRefusal>)> {
    for id in ids {
        if let Err(refusals) = edit(tx, id, change, cause)? {
            return Ok(Err((id.clone(), refusals)));
        }
    }
    Ok(Ok(()))
}

/// Retires a device for good: its credentials are revoked, its facts are free for another. Once is enough.
///
/// # Errors
/// There is no such device.
pub fn retire(tx: &mut dyn Tx, id: &DeviceId, cause: &Cause) -> Result<(), StoreError> {
    let view = listed(tx, id)?;
    if view.device.retired.is_some() {
        return Ok(());
    }
    let ended = end_credentials(tx, &view, None, Reason::CessationOfOperation, cause.at)?;
    let change = append(tx, cause, "device.retire", id.as_str(), &json!({ "serials": names(&ended) }))?;
    touch_gateway(tx, view.device.gateway.as_ref(), change)?;
    let before = view.device;
    let after = DeviceRecord {
        retired: Some(cause.at),
        held: None,
        tokens_from: cause.at.plus(Span::from_seconds(1)),
        ..before.clone()
    };
    tx.withdraw_pending(Some(id), cause.at)?;
    super::claim::retired(tx, id, cause.at)?;
    tx.update_device(&before, &after, change)
}

/// Lets a device that is out enrol again. Says whether it was out.
///
/// # Errors
/// There is no such device.
pub fn reopen(tx: &mut dyn Tx, id: &DeviceId, cause: &Cause) -> Result<bool, StoreError> {
    let before = listed(tx, id)?.device;
    if before.out.is_none() || before.retired.is_some() {
        return Ok(false);
    }
    let change = append(tx, cause, "device.reopen", id.as_str(), &nothing())?;
    touch_gateway(tx, before.gateway.as_ref(), change)?;
    tx.update_device(&before, &DeviceRecord { out: None, ..before.clone() }, change)?;
    Ok(true)
}

/// Puts devices on hold, or lifts that; gives those for which it changed anything. Devices that are out or retired are left as
/// they are. Nothing of a device is ended by it.
///
/// # Errors
/// One of the devices is not there.
pub fn set_hold(tx: &mut dyn Tx, ids: &[DeviceId], held: bool, cause: &Cause) -> Result<Vec<DeviceId>, StoreError> {
    let mut changed = Vec::new();
    for id in ids {
        let view = listed(tx, id)?;
        let before = view.device;
        if before.out.is_some() || before.retired.is_some() || before.held.is_some() == held {
            continue;
        }
        let mut serials = Vec::new();
        for credential in &view.credentials {
            if credential.revoked.is_none() && credential.not_after >= cause.at && list_anew(tx, credential)? {
                serials.push(credential.name());
            }
        }
        let act = if held { "hold" } else { "release" };
        let change = append(tx, cause, act, id.as_str(), &json!({ "serials": serials }))?;
        touch_gateway(tx, before.gateway.as_ref(), change)?;
        let after = DeviceRecord { held: held.then_some(cause.at), ..before.clone() };
        tx.update_device(&before, &after, change)?;
        changed.push(id.clone());
    }
    Ok(changed)
}
