//! Revoking.

use std::collections::HashSet;

use serde_json::json;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{BlockSource, CredentialRecord, Ended, Origin, Revocation};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::{Span, UnixTime};

use super::{append, listed, touch_gateway, unknown};
use crate::{BlockedKey, Cause, DeviceView, StoreError, Tx, View};

/// Revokes; gives the credentials that this ended. For [`Reason::KeyCompromise`] the keys of all that the device had are blocked,
/// whatever their state, what was revoked before for another reason has this one from now on, and what was asked for with them ends too,
/// that of other devices included.
///
/// # Errors
/// There is no such device or certificate.
pub fn revoke(tx: &mut dyn Tx, what: Revocation<'_>, cause: &Cause) -> Result<Vec<Ended>, StoreError> {
    let view = listed(tx, what.device)?;
    if let Some(only) = what.only.filter(|only| !view.credentials.iter().any(|each| each.fingerprint == *only)) {
        return Err(unknown("credential", only));
    }
    let mut ended = end_credentials(tx, &view, what.only, what.reason, cause.at)?;
    let detail = json!({ "reason": what.reason.as_str(), "serials": names(&ended), "device_out": what.only.is_none() });
    let change = append(tx, cause, "revoke", what.device.as_str(), &detail)?;
    touch_gateway(tx, view.device.gateway.as_ref(), change)?;
    let before = view.device;
    if what.only.is_none() && before.retired.is_none() {
        let out = Some(before.out.unwrap_or(cause.at));
        let after =
            DeviceRecord { out, held: None, tokens_from: cause.at.plus(Span::from_seconds(1)), ..before.clone() };
        tx.withdraw_pending(Some(&before.id), cause.at)?;
        // Whoever has a code for it, or was offered it, is not to have what comes back.
        tx.drop_claims(Some(&before.id))?;
        tx.drop_hand_overs(Some(&before.id))?;
        tx.update_device(&before, &after, change)?;
    } else {
        tx.touch(&before.id, change)?;
    }
    if what.reason == Reason::KeyCompromise {
        let of = view.credentials.iter().map(|each| each.fingerprint);
        let roots: Vec<Fingerprint> = of.filter(|each| what.only.is_none_or(|only| only == *each)).collect();
        ended.extend(end_derived(tx, &roots, cause)?);
    }
    Ok(ended)
}

/// What was asked for with one of these, and with what was asked for so: the next certificates of a device, and those that a gateway
/// fetched for its children.
pub fn derived(view: &dyn View, roots: &[Fingerprint]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
    let mut all = Vec::new();
    let mut seen: HashSet<Fingerprint> = roots.iter().copied().collect();
    let mut next = roots.to_vec();
    while !next.is_empty() {
        let mut found = view.derived_from(&next)?;
        // A circle, which there cannot be, ends.
        found.retain(|(_, fingerprint)| seen.insert(*fingerprint));
        next = found.iter().map(|(_, fingerprint)| *fingerprint).collect();
        all.extend(found);
    }
    Ok(all)
}

/// Ends all that somebody who had one of these keys could have asked for with it: whose key is in that nobody can say.
fn end_derived(tx: &mut dyn Tx, roots: &[Fingerprint], cause: &Cause) -> Result<Vec<Ended>, StoreError> {
    let mut all = Vec::new();
    for (device, fingerprint) in derived(tx, roots)? {
        let view = listed(tx, &device)?;
        let ended = end_credentials(tx, &view, Some(fingerprint), Reason::KeyCompromise, cause.at)?;
        if ended.is_empty() {
            continue;
        }
        let detail = json!({
            "reason": Reason::KeyCompromise.as_str(), "serials": names(&ended), "device_out": false, "derived": true,
        });
        let change = append(tx, cause, "revoke", device.as_str(), &detail)?;
        touch_gateway(tx, view.device.gateway.as_ref(), change)?;
        tx.touch(&device, change)?;
        all.extend(ended);
    }
    Ok(all)
}

/// Revokes all credentials of many devices, which are out then; gives the credentials that this ended.
///
/// # Errors
/// One of the devices is not there.
pub fn revoke_devices(
    tx: &mut dyn Tx,
    ids: &[DeviceId],
    reason: Reason,
    cause: &Cause,
) -> Result<Vec<Ended>, StoreError> {
    let mut ended = Vec::new();
    for device in ids {
        ended.extend(revoke(tx, Revocation { device, only: None, reason }, cause)?);
    }
    Ok(ended)
}

/// What people call the credentials that were ended.
pub(super) fn names(ended: &[Ended]) -> Vec<String> {
    ended
        .iter()
        .map(|each| each.serial.as_ref().map_or_else(|| each.fingerprint.to_string(), ToString::to_string))
        .collect()
}

/// Revokes a device's credentials that are neither revoked nor past their end, and marks their authorities' CRLs.
pub(super) fn end_credentials(
    tx: &mut dyn Tx,
    view: &DeviceView,
    only: Option<Fingerprint>,
    reason: Reason,
    at: UnixTime,
) -> Result<Vec<Ended>, StoreError> {
    let mut ended = Vec::new();
    let compromise = reason == Reason::KeyCompromise;
    for credential in &view.credentials {
        if only.is_some_and(|only| only != credential.fingerprint) {
            continue;
        }
        if compromise {
            // Whatever the certificate's state: the key is what somebody else has.
            let digest = tx.key_digest(&credential.fingerprint)?;
            let device = Some(view.device.id.clone());
            tx.block_key(&BlockedKey { digest, at, source: BlockSource::Revoked, device })?;
        }
        let since = match credential.revoked {
            // It ended before, for a lesser reason; lists and answers tell the graver one from now on.
            Some((since, before)) if compromise && before != reason => since,
            Some(_) => continue,
            None if credential.not_after < at => continue,
            None => at,
        };
        tx.update_credential(&CredentialRecord { revoked: Some((since, reason)), ..credential.clone() })?;
        let listed = list_anew(tx, credential)?;
        ended.push(Ended { fingerprint: credential.fingerprint, serial: credential.serial.clone(), listed });
    }
    Ok(ended)
}

/// Marks the CRL on which a credential stands or stood; says whether there is one. The mark is the number of the change that is
/// being made, so that a CRL that was signed before it does not take it away.
pub(super) fn list_anew(tx: &mut dyn Tx, credential: &CredentialRecord) -> Result<bool, StoreError> {
    let listed = credential.origin == Origin::Issued;
    if let (true, Some(authority)) = (listed, &credential.authority) {
        let change = tx.audit_end()?.0 + 1;
        tx.put_crl_lacks(authority, change)?;
    }
    Ok(listed)
}
