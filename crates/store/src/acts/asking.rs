//! Devices that called and wait for a person: taken in, accepted, refused.

use tidy_warden_core::admission::{AdmissionRecord, Demand, OpenRefusal};
use tidy_warden_core::asking::{AskingRecord, MOST, MOST_OF_SOURCE, MOST_REMEMBERED};
use tidy_warden_core::device::Barred;
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::DeviceId;

use super::{admission, append, listed};
use crate::{Answer, Cause, StoreError, Tx, View};

/// Why a caller does not wait.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AskRefusal {
    /// Too many wait.
    #[error("{0} wait already")]
    Full(u64),
    /// Its key is blocked.
    #[error("its key is blocked")]
    Blocked,
    /// A device has its key.
    #[error("its key is in use by `{0}`")]
    InUse(DeviceId),
    /// One of its facts is that of a device that may not be here.
    #[error("its {} is that of `{device}`: {barred}", fact.name())]
    Barred {
        /// The fact.
        fact: Fact,
        /// The device.
        device: DeviceId,
        /// Why that one may not be here.
        barred: Barred,
    },
}

/// Takes in a device that called. The same key is the same caller, and what it said first stays.
pub fn ask(tx: &mut dyn Tx, new: &AskingRecord, cause: &Cause) -> Answer<(), AskRefusal> {
    tx.drop_lapsed_asking(cause.at)?;
    if tx.asking(&new.key_digest)?.is_some() {
        return Ok(Ok(()));
    }
    if let Err(refusal) = may_ask(tx, new)? {
        return Ok(Err(refusal));
    }
    let (waiting, of_source, remembered) = tx.count_asking(&new.from)?;
    for (count, most) in [(waiting, MOST), (of_source, MOST_OF_SOURCE), (remembered, MOST_REMEMBERED)] {
        if count >= most {
            return Ok(Err(AskRefusal::Full(count)));
        }
    }
    append(tx, cause, "device.ask", name(new)?.as_str(), &new.described())?;
    tx.put_asking(new)?;
    Ok(Ok(()))
}

fn name(asking: &AskingRecord) -> Result<DeviceId, StoreError> {
    asking.id().map_err(|error| StoreError::Damaged { detail: error.to_string() })
}

/// Whether anybody may wait with this key and these facts.
pub fn may_ask(view: &dyn View, new: &AskingRecord) -> Answer<(), AskRefusal> {
    let (blocked, holders) = view.key_standing(&new.key_digest)?;
    if blocked.is_some() {
        return Ok(Err(AskRefusal::Blocked));
    }
    if let Some((device, _)) = holders.into_iter().next() {
        return Ok(Err(AskRefusal::InUse(device)));
    }
    let facts: Vec<&Fact> = new.facts.values().collect();
    for (fact, holder) in facts.iter().zip(view.holders(&facts)?) {
        // Whom a fact was given to since does not answer for who had it before.
        let Some(device) = holder.map_or_else(|| view.last_retired(fact), |holder| Ok(Some(holder)))? else { continue };
        if let Some(barred) = listed(view, &device)?.device.barred() {
            return Ok(Err(AskRefusal::Barred { fact: (*fact).clone(), device, barred }));
        }
    }
    Ok(Ok(()))
}

/// Why a device that called was not accepted or refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AcceptRefusal {
    /// None waits with this key.
    #[error("it does not wait any more")]
    Gone,
    /// It cannot be let in as this device.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Unopened(Vec<OpenRefusal>),
}

/// One that waits.
fn waiting(view: &dyn View, key_digest: &[u8; 32], cause: &Cause) -> Result<Option<AskingRecord>, StoreError> {
    Ok(view.asking(key_digest)?.filter(|asking| asking.is_waiting(cause.at)))
}

/// Accepts a device that waits: opens an admission for its key, by which it is given its certificate when it calls again. What stands in
/// `wanted.demand` is that key. Gives the admission.
pub fn accept(tx: &mut dyn Tx, wanted: &AdmissionRecord, cause: &Cause) -> Answer<AdmissionRecord, AcceptRefusal> {
    let Demand::Key(key_digest) = wanted.demand else { return Ok(Err(AcceptRefusal::Gone)) };
    let Some(asking) = waiting(tx, &key_digest, cause)? else { return Ok(Err(AcceptRefusal::Gone)) };
    let detail = serde_json::json!({ "device": wanted.device.id });
    append(tx, cause, "device.accept", name(&asking)?.as_str(), &detail)?;
    let opened = match admission::open(tx, std::slice::from_ref(wanted), cause)? {
        Ok(opened) => opened,
        Err(refusals) => return Ok(Err(AcceptRefusal::Unopened(refusals))),
    };
    tx.drop_asking(&key_digest)?;
    Ok(opened.into_iter().next().ok_or(AcceptRefusal::Gone))
}

/// Refuses a device that waits. It is remembered until its end, so that it is told no otherwise than one that waits.
pub fn refuse(tx: &mut dyn Tx, key_digest: &[u8; 32], cause: &Cause) -> Answer<(), AcceptRefusal> {
    let Some(asking) = waiting(tx, key_digest, cause)? else { return Ok(Err(AcceptRefusal::Gone)) };
    append(tx, cause, "device.refuse", name(&asking)?.as_str(), &super::nothing())?;
    tx.put_asking(&AskingRecord { refused: Some(cause.at), ..asking })?;
    Ok(Ok(()))
}
