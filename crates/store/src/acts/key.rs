//! Keys of devices' own, and those that are never taken again.

use serde_json::json;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{BlockSource, CredentialRecord, Ended, Origin, Revocation};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::sha256;
use tidy_warden_core::revocation::Reason;

use super::revoke::revoke;
use super::{append, hex, listed};
use crate::{Answer, BlockedKey, Cause, NewCredential, StoreError, Tx, View};

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

/// The most keys of its own that a device may have which are good or to come: each is tried on a token that names none.
pub const MOST_KEYS: usize = 8;

/// Why a device was given no key of its own.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum KeyRefusal {
    /// The device may be given nothing, or the key may not be its.
    #[error(transparent)]
    Unissued(#[from] IssueRefusal),
    /// Another key has its name.
    #[error("`{device}` has a key named {kid} already")]
    NameTaken {
        /// Its name.
        kid: String,
        /// Whose that is.
        device: DeviceId,
    },
    /// It has as many as there may be.
    #[error("the device has {MOST_KEYS} keys that have not ended, which is the most one may have")]
    TooMany,
    /// There is none to be replaced.
    #[error("the device has no key that could be replaced")]
    NothingToRotate,
    /// What should prove it does not, or the present key is not the one that is meant.
    #[error("the key that proves it may not sign in, or another key was made in the place of the present one")]
    NotShown,
}

/// What a new key of a device's own replaces.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyReplaces {
    /// Nothing.
    Nothing,
    /// Those of its keys that may sign in.
    All,
    /// One of the keys that it shares with the ward.
    Shared {
        /// Which: it must be good at this moment, and none may have been made in its place.
        current: Fingerprint,
        /// The key of the device that proves whose hands the new one comes into, good at this moment too: the present one, with which it
        /// asked, or the public key that the new one is sealed to.
        by: Fingerprint,
    },
}

/// Gives a device a key of its own, public or shared, beside what it has. Those that it replaces are superseded, for the overlap of `new`;
/// gives their names.
///
/// # Errors
/// There is no such device.
pub fn add(
    tx: &mut dyn Tx,
    new: &NewCredential<'_>,
    replaces: KeyReplaces,
    cause: &Cause,
) -> Answer<Vec<String>, KeyRefusal> {
    let view = listed(tx, new.device)?;
    if let Some(barred) = view.device.barred() {
        return Ok(Err(IssueRefusal::barred(view.device.id, barred).into()));
    }
    if let Some(refusal) = refusal(tx, new)? {
        return Ok(Err(refusal.into()));
    }
    if let Some(refusal) = super::enrol::former_owners(tx, &view, new)? {
        return Ok(Err(refusal.into()));
    }
    if let Some(known) = view.credentials.iter().find(|known| known.fingerprint == new.fingerprint) {
        return Ok(Err(IssueRefusal::Recorded { device: view.device.id.clone(), since: known.issued }.into()));
    }
    if let Some(kid) = new.kid
        && let Some((device, _)) = tx.key_named(kid)?
    {
        return Ok(Err(KeyRefusal::NameTaken { kid: kid.to_owned(), device }));
    }
    let good =
        |each: &&CredentialRecord| each.origin.is_key() && each.usable_until().is_some_and(|until| until >= cause.at);
    let keys: Vec<&CredentialRecord> = view.credentials.iter().filter(good).collect();
    if keys.len() >= MOST_KEYS {
        return Ok(Err(KeyRefusal::TooMany));
    }
    let is_meant = |each: &CredentialRecord| match replaces {
        KeyReplaces::Nothing => false,
        KeyReplaces::All => each.superseded_until.is_none(),
        KeyReplaces::Shared { current, .. } => {
            each.superseded_until.is_none() && each.origin == Origin::Shared && each.fingerprint == current
        }
    };
    if let KeyReplaces::Shared { current, by } = replaces {
        let good = |name| keys.iter().find(|each| each.fingerprint == name && each.may_sign_in(cause.at).is_ok());
        if good(by).is_none() || good(current).is_none_or(|current| !is_meant(current)) {
            return Ok(Err(KeyRefusal::NotShown));
        }
    }
    let mut superseded = Vec::new();
    if replaces != KeyReplaces::Nothing {
        // What is superseded already keeps its deadline.
        let until = cause.at.plus(new.overlap);
        for key in keys.iter().filter(|each| is_meant(each)) {
            let until = Some(until.min(key.not_after));
            tx.update_credential(&CredentialRecord { superseded_until: until, ..(*key).clone() })?;
            superseded.push(key.key_name());
        }
        if superseded.is_empty() {
            return Ok(Err(KeyRefusal::NothingToRotate));
        }
    }
    let mut detail = json!({
        "kid": new.kid, "kind": new.origin.as_str(), "key": new.key_type, "begins": new.not_before, "ends": new.not_after,
        "fingerprint": new.fingerprint.to_string(), "supersedes": superseded,
    });
    let authorised_by = match replaces {
        KeyReplaces::Shared { by, .. } => Some(by),
        _ => new.authorised_by,
    };
    if let Some(by) = authorised_by {
        detail["authorised_by"] = json!(by.to_string());
    }
    let change = append(tx, cause, "key.add", new.device.as_str(), &detail)?;
    tx.touch(new.device, change)?;
    tx.insert_credentials(&[&NewCredential { authorised_by, ..new.clone() }], cause.at, change)?;
    Ok(Ok(superseded))
}
