//! What devices do with their credentials, as the guard sees it.

use std::collections::HashSet;

use serde_json::json;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::{append, listed};
use crate::{Cause, CloneSigns, DeviceView, StoreError, Tx};

/// How old the time at which a device was seen must be before it is written again, in seconds.
const SEEN_EVERY: i64 = 60;

/// The least time between two entries of the audit record about signs of one device's clone, in seconds: whoever has a copied key
/// must not be able to fill the record.
const SIGNS_EVERY: i64 = 3600;

/// How many devices are asked about at once.
const AT_ONCE: usize = 500;

/// Records that credentials opened sessions; `None` stands for a token. The first use of a certificate ends those that it
/// supersedes.
///
/// # Errors
/// One of the devices is not there.
pub fn record(tx: &mut dyn Tx, uses: &[(DeviceId, Option<Fingerprint>)], cause: &Cause) -> Result<(), StoreError> {
    for some in uses.chunks(AT_ONCE) {
        let ids: Vec<DeviceId> = some.iter().map(|(device, _)| device.clone()).collect();
        let mut seen = HashSet::new();
        for ((id, certificate), view) in some.iter().zip(tx.devices(&ids)?) {
            // What was read of a device counts until it is used once.
            let view = match view {
                Some(view) if seen.insert(id) => view,
                _ => listed(tx, id)?,
            };
            record_one(tx, &view, *certificate, cause)?;
        }
    }
    Ok(())
}

fn record_one(
    tx: &mut dyn Tx,
    view: &DeviceView,
    certificate: Option<Fingerprint>,
    cause: &Cause,
) -> Result<(), StoreError> {
    let id = &view.device.id;
    let all = &view.credentials;
    let place = certificate.and_then(|used| all.iter().position(|each| each.fingerprint == used));
    // Newest first: behind the one that is used stand those that it supersedes.
    let first_use = place.and_then(|place| all.get(place..)?.split_first());
    if let Some((used, older)) = first_use.filter(|(used, _)| used.first_used.is_none()) {
        // Keys and certificates are replaced apart, so what replaced the one does not end the other.
        let ends = |old: &&CredentialRecord| {
            old.origin.is_key() == used.origin.is_key() && old.superseded_until.is_some_and(|until| until >= cause.at)
        };
        let ended: Vec<&CredentialRecord> = older.iter().filter(ends).collect();
        let names: Vec<String> = ended.iter().map(|old| old.name()).collect();
        let detail = json!({ "serial": used.name(), "ends": names });
        let change = append(tx, cause, "credential.first-use", id.as_str(), &detail)?;
        tx.touch(id, change)?;
        let equipped = used.equipped.or(Some(cause.at));
        tx.update_credential(&CredentialRecord { first_used: Some(cause.at), equipped, ..used.clone() })?;
        for old in ended {
            let until = Some(UnixTime(cause.at.0 - 1));
            tx.update_credential(&CredentialRecord { superseded_until: until, ..old.clone() })?;
        }
    }
    match view.device.seen {
        Some(seen) if cause.at.since(seen) < SEEN_EVERY => Ok(()),
        _ => tx.put_seen(id, cause.at),
    }
}

/// Records a sign that a device's key is in two places; the audit record gets an entry for the first, and for one that comes an
/// hour or more after the last.
///
/// # Errors
/// There is no such device.
pub fn clone_sign(tx: &mut dyn Tx, id: &DeviceId, sign: &str, cause: &Cause) -> Result<(), StoreError> {
    listed(tx, id)?;
    let before = tx.clone_signs(id)?;
    if before.as_ref().is_none_or(|before| cause.at.since(before.last) >= SIGNS_EVERY) {
        append(tx, cause, "device.clone-sign", id.as_str(), &json!({ "sign": sign }))?;
    }
    let (first, count) = before.map_or((cause.at, 0), |before| (before.first, before.count));
    tx.put_clone_signs(id, &CloneSigns { first, last: cause.at, count: count + 1, sign: sign.to_owned() })
}
