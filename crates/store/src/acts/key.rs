//! Keys that are never taken again.

use serde_json::json;
use tidy_warden_core::credential::{BlockSource, Ended, Revocation};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::key::sha256;
use tidy_warden_core::revocation::Reason;

use super::revoke::revoke;
use super::{append, hex};
use crate::{BlockedKey, Cause, NewCredential, StoreError, Tx, View};

/// Blocks keys, and revokes the credentials that have them for compromise; gives how many were not blocked before, and what was
/// ended.
pub fn block(
    tx: &mut dyn Tx,
    digests: &[[u8; 32]],
    source: BlockSource,
    cause: &Cause,
) -> Result<(usize, Vec<Ended>), StoreError> {
    let (mut count, mut ended) = (0, Vec::new());
    let mut list = Vec::new();
    for digest in digests {
        let holders = tx.holders_of_key(digest)?;
        let device = holders.first().map(|(device, _)| device.clone());
        if tx.block_key(&BlockedKey { digest: *digest, at: cause.at, source, device })? {
            count += 1;
            list.extend_from_slice(hex(digest).as_bytes());
            list.push(b'\n');
        }
        for (device, fingerprint) in holders {
            let what = Revocation { device: &device, only: Some(fingerprint), reason: Reason::KeyCompromise };
            ended.extend(revoke(tx, what, cause)?);
        }
    }
    if count > 0 {
        let subject = if let [one] = digests { hex(one) } else { format!("{count} keys") };
        let detail = json!({ "count": count, "source": source.as_str(), "list_sha256": hex(&sha256(&list)) });
        append(tx, cause, "key.block", &subject, &detail)?;
    }
    Ok((count, ended))
}

/// Why a new credential's key cannot be its device's: a key belongs to one device, and one that was given up is never taken again.
pub(super) fn refusal(view: &dyn View, new: &NewCredential<'_>) -> Result<Option<IssueRefusal>, StoreError> {
    if new.fresh_key {
        return Ok(None);
    }
    let (blocked, holders) = view.key_standing(&new.key_digest)?;
    if let Some(BlockedKey { at, source, device, .. }) = blocked {
        return Ok(Some(match (source, device) {
            (BlockSource::Revoked, Some(other)) => IssueRefusal::KeyCompromised { other },
            (from, _) => IssueRefusal::KeyBlocked { at, from },
        }));
    }
    let other = holders.into_iter().map(|(device, _)| device).find(|device| device != new.device);
    Ok(other.map(|other| IssueRefusal::KeyInUse { other }))
}
