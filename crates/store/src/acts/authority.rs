//! Adding authorities, and ending the belief in them.

use serde_json::json;
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRefusal, PendingAuthority};
use tidy_warden_core::fact::FactName;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::key::{PublicKey, sha256};

use super::{append, hex, nothing, unknown};
use crate::{Answer, Cause, NewAuthority, StoreError, Tx, View};

/// Whether a name is some authority's already, or a key that of one that is believed, or of a pending one other than that of this
/// name and key.
fn refusal(view: &dyn View, name: &AuthorityName, key: &PublicKey) -> Result<Option<AuthorityRefusal>, StoreError> {
    for authority in view.authorities()? {
        if authority.name == *name {
            return Ok(Some(AuthorityRefusal::NameTaken(name.clone())));
        }
        if authority.retired.is_none() && authority.certificate.public_key == *key {
            return Ok(Some(AuthorityRefusal::KeyTaken(authority.name)));
        }
    }
    for pending in view.pending_authorities()? {
        match (pending.name == *name, pending.public_key == *key) {
            (true, false) => return Ok(Some(AuthorityRefusal::NameTaken(name.clone()))),
            (false, true) => return Ok(Some(AuthorityRefusal::KeyTaken(pending.name))),
            _ => {}
        }
    }
    Ok(None)
}

/// Adds an authority.
///
/// # Errors
/// There is no such authority as one that it crosses.
pub fn add(tx: &mut dyn Tx, new: &NewAuthority<'_>, cause: &Cause) -> Answer<(), AuthorityRefusal> {
    if let Some(refusal) = refusal(tx, new.name, &new.certificate.public_key)? {
        return Ok(Err(refusal));
    }
    tx.insert_authority(&AuthorityRecord {
        replaces: new.replaces.cloned(),
        trust: new.trust.clone(),
        ..AuthorityRecord::new(new.name.clone(), new.role, new.certificate.clone(), new.key.clone(), cause.at)
    })?;
    for (name, certificate) in new.crosses {
        tx.put_cross(name, certificate)?;
    }
    tx.drop_pending(new.name)?;
    let certificate = new.certificate;
    let kinds =
        new.trust.as_ref().map(|trust| trust.kinds.iter().map(ToString::to_string).collect::<Vec<_>>().join(","));
    let detail = json!({
        "role": new.role.as_str(), "subject": certificate.subject_text, "serial": certificate.serial.to_string(),
        "fingerprint": certificate.fingerprint.to_string(), "key": certificate.public_key.key_type().to_string(),
        "ends": certificate.not_after, "replaces": new.replaces, "kinds": kinds,
        "fact": new.trust.as_ref().map(|trust| trust.facts.iter().map(FactName::as_str).collect::<Vec<_>>().join(",")),
    });
    let change = append(tx, cause, "authority.add", new.name.as_str(), &detail)?;
    tx.put_authorities_changed(change)?;
    Ok(Ok(()))
}

/// Notes that an authority waits for its certificate from outside.
pub fn expect(tx: &mut dyn Tx, pending: &PendingAuthority, cause: &Cause) -> Answer<(), AuthorityRefusal> {
    if let Some(refusal) = refusal(tx, &pending.name, &pending.public_key)? {
        return Ok(Err(refusal));
    }
    tx.put_pending(pending)?;
    let detail = json!({ "key_sha256": hex(&sha256(pending.public_key.spki())) });
    append(tx, cause, "authority.request", pending.name.as_str(), &detail)?;
    Ok(Ok(()))
}

/// Ends the belief in an authority.
///
/// # Errors
/// There is no such authority.
pub fn retire(tx: &mut dyn Tx, name: &AuthorityName, cause: &Cause) -> Result<(), StoreError> {
    if !tx.authorities()?.iter().any(|each| each.name == *name) {
        return Err(unknown("authority", name));
    }
    tx.put_retired(name, cause.at)?;
    let change = append(tx, cause, "authority.retire", name.as_str(), &nothing())?;
    tx.put_authorities_changed(change)
}
