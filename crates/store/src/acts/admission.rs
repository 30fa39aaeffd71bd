//! Admissions: opened, used once, withdrawn.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};

use serde_json::json;
use tidy_warden_core::admission::{
    AdmissionEnd, AdmissionName, AdmissionRecord, AdmissionState, Demand, Difference, OpenRefusal,
};
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{Origin, Revocation};
use tidy_warden_core::device::{AddRefusal, DeviceRecord};
use tidy_warden_core::enrolment::{IssueRefusal, may_be_issued};
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::key::Sha256;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;

use super::{append, device, enrol, hex, revoke, unknown};
use crate::{Answer, Cause, NewCredential, StoreError, Tx, View};

/// How many are asked about at once.
const AT_ONCE: usize = 1_000;

/// Every reason why these admissions could not be opened at `now`, and those that have lapsed and stand in their places.
fn looked_at(
    view: &dyn View,
    new: &[AdmissionRecord],
    now: UnixTime,
) -> Result<(Vec<OpenRefusal>, Vec<AdmissionRecord>), StoreError> {
    let (mut refusals, mut lapsed) = (Vec::new(), Vec::new());
    let (mut ids, mut facts): (HashSet<&DeviceId>, HashSet<&Fact>) = (HashSet::new(), HashSet::new());
    let mut keys: HashSet<[u8; 32]> = HashSet::new();
    // Many devices of a list come with the same few owners.
    let mut retired: HashMap<&OwnerId, Option<UnixTime>> = HashMap::new();
    let shared = device::shared(view, new.iter().map(|each| &each.device))?;
    let mut unlisted: Vec<(usize, DeviceRecord)> = Vec::new();
    for (part, some) in new.chunks(AT_ONCE).enumerate() {
        let of: Vec<DeviceId> = some.iter().map(|each| each.device.id.clone()).collect();
        let demanded: Vec<&Fact> = some.iter().flat_map(|each| each.device.facts.values()).collect();
        let (known, by_id) = (view.devices(&of)?.into_iter(), view.pending_for(&of)?.into_iter());
        let mut by_fact = demanded.iter().copied().zip(view.pending_with(&demanded)?);
        for (at, ((each, known), same)) in some.iter().zip(known).zip(by_id).enumerate() {
            let index = part * AT_ONCE + at;
            let mut is_twice = !ids.insert(&each.device.id);
            if let Some(same) = same {
                match same.state(now) {
                    AdmissionState::Open => refusals.push(OpenRefusal::DevicePending {
                        index,
                        device: each.device.id.clone(),
                        other: same.name,
                    }),
                    _ => lapsed.push(same),
                }
            }
            for (fact, same) in by_fact.by_ref().take(each.device.facts.len()) {
                is_twice |= !shared.contains(fact.name()) && !facts.insert(fact);
                match same.map(|same| (same.state(now), same)) {
                    Some((AdmissionState::Open, same)) if same.device.id != each.device.id => {
                        refusals.push(OpenRefusal::FactPending { index, fact: fact.clone(), other: same.name });
                    }
                    // Of its own device it is told above.
                    Some((AdmissionState::Open, _)) | None => {}
                    Some((_, same)) => lapsed.push(same),
                }
            }
            if let Demand::Key(digest) = each.demand {
                is_twice |= !keys.insert(digest);
                // One key is one machine: whoever holds it would be let in as the one or the other.
                let same = view.admission_of_key(&digest)?.filter(|same| same.device.id != each.device.id);
                if let Some(same) = same.filter(|same| same.state(now) == AdmissionState::Open) {
                    refusals.push(OpenRefusal::KeyPending { index, device: same.device.id.clone(), other: same.name });
                }
            }
            if let Some(owner) = &each.device.owner {
                let since = match retired.entry(owner) {
                    Entry::Occupied(known) => *known.get(),
                    Entry::Vacant(place) => *place.insert(view.owner(owner)?.and_then(|known| known.retired)),
                };
                refusals.extend(since.map(|since| OpenRefusal::OwnerRetired { index, owner: owner.clone(), since }));
            }
            if is_twice {
                refusals.push(OpenRefusal::Twice { index });
            }
            match known {
                None => unlisted.push((index, each.device.clone())),
                Some(known) => {
                    if let Err(why) = may_be_issued(&known.device, &known.credentials, Origin::Issued, false, now) {
                        refusals.push(OpenRefusal::Unissued { index, why });
                    } else if let Some(difference) = each.differs_from(&known.device) {
                        let device = each.device.id.clone();
                        refusals.push(OpenRefusal::Differs { index, device, difference });
                    }
                }
            }
        }
    }
    let (places, devices): (Vec<usize>, Vec<DeviceRecord>) = unlisted.into_iter().unzip();
    let unlisted = device::refusals(view, &devices)?.into_iter().filter(|refusal| !within(refusal, &devices));
    let place = |refusal: &AddRefusal| places.get(refusal.index()).copied().unwrap_or_default();
    refusals.extend(unlisted.map(|refusal| OpenRefusal::Unlisted(refusal.clone().at(place(&refusal)))));
    lapsed.sort_by_key(|each| each.name);
    lapsed.dedup();
    Ok((refusals, lapsed))
}

/// Whether a refusal is because of another of the same list, which is told already.
fn within(refusal: &AddRefusal, devices: &[DeviceRecord]) -> bool {
    match refusal {
        AddRefusal::IdTaken { .. } => true,
        AddRefusal::FactTaken { owner, .. } => devices.iter().any(|device| device.id == *owner),
        _ => false,
    }
}

/// Every reason why these admissions could not be opened now; their names do not count.
pub fn refusals(view: &dyn View, new: &[AdmissionRecord], now: UnixTime) -> Result<Vec<OpenRefusal>, StoreError> {
    Ok(looked_at(view, new, now)?.0)
}

/// Opens admissions, which get their names by this: all, or none and every reason why. A caller that has asked for the refusals before
/// finds others only if somebody came in between.
pub fn open(tx: &mut dyn Tx, new: &[AdmissionRecord], cause: &Cause) -> Answer<Vec<AdmissionRecord>, Vec<OpenRefusal>> {
    let (refusals, lapsed) = looked_at(tx, new, cause.at)?;
    if !refusals.is_empty() {
        return Ok(Err(refusals));
    }
    for old in lapsed {
        append(tx, cause, "admission.lapse", &old.name.to_string(), &json!({ "device": old.device.id }))?;
        tx.end_admission(&AdmissionRecord { end: Some(AdmissionEnd::Lapsed { at: old.until }), ..old })?;
    }
    let first = tx.last_admission()?.0 + 1;
    let opened: Vec<AdmissionRecord> = (first..)
        .zip(new)
        .map(|(number, each)| AdmissionRecord { name: AdmissionName(number), ..each.clone() })
        .collect();
    let mut digest = Sha256::default();
    opened.iter().for_each(|each| digest.update(format!("{}\n", each.described()).as_bytes()));
    let mut detail = json!({ "first": first, "count": opened.len(), "admissions_sha256": hex(&digest.finish()) });
    let subject = match opened.as_slice() {
        [one] => {
            // The digest above speaks of the secret's; the entry itself need not.
            detail["device"] = json!(one.device.id);
            detail["kind"] = json!(one.device.kind);
            detail["proof"] = json!(one.demand.strength().as_str());
            detail["ends"] = json!(one.until);
            one.name.to_string()
        }
        many => format!("{} admissions", many.len()),
    };
    append(tx, cause, "admission.open", &subject, &detail)?;
    tx.insert_admissions(&opened)?;
    Ok(Ok(opened))
}

/// Why an admission was not withdrawn: it cannot be used any more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{name} is {}", state.as_str())]
pub struct AdmissionOver {
    /// Its name.
    pub name: AdmissionName,
    /// Its state.
    pub state: AdmissionState,
}

/// An admission that must be there.
fn named(view: &dyn View, name: AdmissionName) -> Result<AdmissionRecord, StoreError> {
    view.admission(name)?.ok_or_else(|| unknown("admission", name))
}

/// Withdraws admissions: all, or none if one cannot be used any more.
///
/// # Errors
/// One of them is not there.
pub fn withdraw(
    tx: &mut dyn Tx,
    names: &[AdmissionName],
    cause: &Cause,
) -> Answer<Vec<AdmissionRecord>, AdmissionOver> {
    let mut withdrawn = Vec::new();
    for name in names {
        let found = named(tx, *name)?;
        let state = found.state(cause.at);
        if state != AdmissionState::Open {
            return Ok(Err(AdmissionOver { name: *name, state }));
        }
        append(tx, cause, "admission.withdraw", &name.to_string(), &json!({ "device": found.device.id }))?;
        let over = AdmissionRecord { end: Some(AdmissionEnd::Withdrawn { at: cause.at }), ..found };
        tx.end_admission(&over)?;
        withdrawn.push(over);
    }
    Ok(Ok(withdrawn))
}

/// Why a device did not enrol by an admission; nothing was changed, and the admission is what it was.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum UseRefusal {
    /// It cannot be used any more.
    #[error("{}", .0)]
    Over(AdmissionOver),
    /// Its device cannot be listed.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Unlisted(Vec<AddRefusal>),
    /// Its device is listed meanwhile, and is another.
    #[error("`{device}`: {difference}")]
    Differs {
        /// The device.
        device: DeviceId,
        /// In what.
        difference: Difference,
    },
    /// Its device may not be given the certificate.
    #[error("{0}")]
    Unissued(IssueRefusal),
}

/// Enrols the device of an admission, which is used by that: lists the device if it is not, and records its certificate. That the
/// caller may use it is proved before: what it must prove never changes.
///
/// # Errors
/// There is no such admission, or no such authority.
pub fn use_up(tx: &mut dyn Tx, name: AdmissionName, new: &NewCredential<'_>, cause: &Cause) -> Answer<(), UseRefusal> {
    let admission = named(tx, name)?;
    let state = admission.state(cause.at);
    if state != AdmissionState::Open {
        return Ok(Err(UseRefusal::Over(AdmissionOver { name, state })));
    }
    if admission.device.id != *new.device {
        return Err(StoreError::Damaged { detail: format!("{name} is not for {}", new.device) });
    }
    let listed = tx.devices(std::slice::from_ref(new.device))?.pop().flatten();
    match listed {
        Some(listed) => {
            if let Some(difference) = admission.differs_from(&listed.device) {
                return Ok(Err(UseRefusal::Differs { device: new.device.clone(), difference }));
            }
        }
        None => {
            let device = DeviceRecord { created: cause.at, ..admission.device.clone() };
            if let Err(refusals) = device::add(tx, &[device], cause)? {
                return Ok(Err(UseRefusal::Unlisted(refusals)));
            }
        }
    }
    if let Err(refusal) = enrol::record(tx, new, cause)? {
        return Ok(Err(UseRefusal::Unissued(refusal)));
    }
    let credential = new.fingerprint;
    let detail = json!({ "device": new.device, "fingerprint": credential.to_string() });
    append(tx, cause, "admission.use", &name.to_string(), &detail)?;
    tx.end_admission(&AdmissionRecord { end: Some(AdmissionEnd::Used { at: cause.at, credential }), ..admission })?;
    Ok(Ok(()))
}

/// Gives the device of a used admission another certificate in the place of `former`, which it was given and never used: that is revoked.
/// For keys that were made for their devices, which have none without the answer.
///
/// # Errors
/// There is no such admission, or no such authority.
pub fn use_again(
    tx: &mut dyn Tx,
    name: AdmissionName,
    former: &Fingerprint,
    new: &NewCredential<'_>,
    cause: &Cause,
) -> Answer<(), UseRefusal> {
    let admission = named(tx, name)?;
    let over = Ok(Err(UseRefusal::Over(AdmissionOver { name, state: admission.state(cause.at) })));
    let is_former = matches!(&admission.end, Some(AdmissionEnd::Used { credential, .. }) if credential == former);
    let known = tx.status_many(std::slice::from_ref(former))?.pop().flatten();
    let Some((credential, device)) = known.filter(|(_, device)| is_former && device.id == *new.device) else {
        return over;
    };
    if credential.first_used.is_some() || credential.may_sign_in(cause.at).is_err() || device.barred().is_some() {
        return over;
    }
    revoke::revoke(tx, Revocation { device: new.device, only: Some(*former), reason: Reason::Superseded }, cause)?;
    if let Err(refusal) = enrol::record(tx, new, cause)? {
        return Ok(Err(UseRefusal::Unissued(refusal)));
    }
    let credential = new.fingerprint;
    let detail = json!({ "device": new.device, "fingerprint": credential.to_string(), "before": former.to_string() });
    append(tx, cause, "admission.use", &name.to_string(), &detail)?;
    tx.end_admission(&AdmissionRecord { end: Some(AdmissionEnd::Used { at: cause.at, credential }), ..admission })?;
    Ok(Ok(()))
}
