//! Many devices and their credentials in one change.

use serde_json::json;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;

use super::device::{refusals, touch_gateways};
use super::enrol::supersede;
use super::job::{self, Reached};
use super::{append, hex, key, listed};
use crate::{Answer, Cause, Mark, NewCredential, StoreError, Tx, View};

/// What is done with many devices in one change.
#[derive(Debug, Clone)]
pub struct Batch<'a> {
    /// What the audit entry calls the act.
    pub act: &'static str,
    /// Devices to be listed.
    pub devices: &'a [DeviceRecord],
    /// Their credentials, in the same order, and those of devices that are listed already, anywhere between.
    pub credentials: &'a [NewCredential<'a>],
    /// SHA-256 of the batch's list, for the audit entry.
    pub list_digest: [u8; 32],
    /// How far the job is after this batch, if it belongs to one.
    pub reached: Option<Reached<'a>>,
}

/// Why one device or credential of a batch was refused; the whole batch is then left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BatchRefusal {
    /// Whose row it is.
    pub device: DeviceId,
    /// One line for people.
    pub why: String,
}

/// Lists devices and records credentials, all of them or none and why.
///
/// # Errors
/// A credential's device is neither listed nor among those of the batch; [`StoreError::TakenOver`]: the job is another's.
pub fn record(tx: &mut dyn Tx, batch: &Batch<'_>, cause: &Cause) -> Answer<(), Vec<BatchRefusal>> {
    let count = batch.credentials.len();
    // With the credentials' rows, which name this entry, it proves which they were.
    let fingerprints: Vec<u8> = batch.credentials.iter().flat_map(|each| each.fingerprint.0).collect();
    let mut detail = json!({
        "count": count, "listed": batch.devices.len(), "list_sha256": hex(&batch.list_digest),
        "credentials_sha256": hex(&sha256(&fingerprints)),
    });
    if let Some(reached) = &batch.reached {
        detail["run"] = json!(reached.job);
    }
    let plural = if count == 1 { "" } else { "s" };
    let change = append(tx, cause, batch.act, &format!("{count} credential{plural}"), &detail)?;
    if batch.devices.iter().any(|device| device.gateway.is_some()) {
        let refused = lines(tx, batch.devices)?;
        if !refused.is_empty() {
            return Ok(Err(refused));
        }
    }
    touch_gateways(tx, batch.devices, change)?;
    // A batch is nearly always in order, so it is written at once; what the tables do not take is looked into then.
    tx.save(Mark::Act)?;
    if !tx.insert_devices(batch.devices, change)? {
        tx.back(Mark::Act)?;
        let found = lines(tx, batch.devices)?;
        return match found.is_empty() {
            true => {
                let detail = "the index of devices or facts does not fit its table".to_owned();
                Err(StoreError::Damaged { detail })
            }
            false => Ok(Err(found)),
        };
    }
    let refusals = credentials(tx, batch, cause, change)?;
    if !refusals.is_empty() {
        return Ok(Err(refusals));
    }
    if let Some(reached) = &batch.reached {
        job::reached(tx, reached)?;
    }
    Ok(Ok(()))
}

/// Records the credentials of a batch whose devices were listed a moment ago.
fn credentials(
    tx: &mut dyn Tx,
    batch: &Batch<'_>,
    cause: &Cause,
    change: i64,
) -> Result<Vec<BatchRefusal>, StoreError> {
    let mut refusals = Vec::new();
    let mut new_devices = batch.devices.iter().map(|device| &device.id).peekable();
    // Written together as long as nothing is asked that one of them could be the answer to.
    let mut waiting: Vec<&NewCredential<'_>> = Vec::with_capacity(batch.credentials.len());
    for new in batch.credentials {
        // Credentials of new devices stand in the order of the devices.
        let is_new = new_devices.next_if_eq(&new.device).is_some();
        if !(is_new && new.fresh_key) {
            tx.insert_credentials(&waiting, cause.at, change)?;
            waiting.clear();
            let refusal = match is_new {
                true => key::refusal(tx, new)?,
                false => {
                    let view = listed(tx, new.device)?;
                    tx.touch(new.device, change)?;
                    supersede(tx, &view, new, cause.at)?.err()
                }
            };
            if let Some(refusal) = refusal {
                refusals.push(BatchRefusal { device: new.device.clone(), why: refusal.to_string() });
                continue;
            }
        }
        waiting.push(new);
    }
    tx.insert_credentials(&waiting, cause.at, change)?;
    Ok(refusals)
}

/// Why devices of a batch cannot be listed, one line each.
fn lines(view: &dyn View, devices: &[DeviceRecord]) -> Result<Vec<BatchRefusal>, StoreError> {
    let mut whys: Vec<(usize, String)> =
        refusals(view, devices)?.iter().map(|refusal| (refusal.index(), refusal.to_string())).collect();
    whys.sort_by_key(|(index, _)| *index);
    let mut all: Vec<BatchRefusal> = Vec::new();
    for (index, why) in whys {
        let Some(device) = devices.get(index) else { continue };
        match all.last_mut().filter(|last| last.device == device.id) {
            Some(last) => last.why = format!("{}; {why}", last.why),
            None => all.push(BatchRefusal { device: device.id.clone(), why }),
        }
    }
    Ok(all)
}
