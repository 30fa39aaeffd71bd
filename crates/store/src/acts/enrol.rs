//! Giving a device a credential.

use serde_json::json;
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::{CredentialRecord, Origin, Unusable};
use tidy_warden_core::enrolment::{IssueRefusal, may_be_issued, replaced};
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::{AuthorityName, DeviceId, KindName};
use tidy_warden_core::time::UnixTime;

use super::{append, key, listed};
use crate::{Answer, Cause, DeviceView, Intended, NewCredential, StoreError, Tx, View};

/// Records a credential.
///
/// # Errors
/// There is no such device or authority.
pub fn record(tx: &mut dyn Tx, new: &NewCredential<'_>, cause: &Cause) -> Answer<(), IssueRefusal> {
    let view = listed(tx, new.device)?;
    let superseded = match supersede(tx, &view, new, cause.at)? {
        Ok(superseded) => superseded,
        Err(refusal) => return Ok(Err(refusal)),
    };
    let known = view.credentials.iter().find(|known| known.fingerprint == new.fingerprint);
    if let (Origin::Foreign, Some(known)) = (new.origin, known) {
        // Known from another trusted maker, who is trusted no more.
        let detail = json!({ "fingerprint": new.fingerprint.to_string(), "authority": new.authority });
        let change = append(tx, cause, "credential.vouch", new.device.as_str(), &detail)?;
        tx.touch(new.device, change)?;
        tx.update_credential(&CredentialRecord { authority: new.authority.cloned(), ..known.clone() })?;
        return Ok(Ok(()));
    }
    let mut detail = json!({
        "origin": new.origin.as_str(), "authority": new.authority,
        "serial": new.serial.map(ToString::to_string), "fingerprint": new.fingerprint.to_string(),
        "ends": new.not_after, "key": new.key_type, "supersedes": superseded,
    });
    if let Some(by) = &new.authorised_by {
        detail["authorised_by"] = json!(by.to_string());
    }
    let act = if new.origin == Origin::Issued { "credential.issue" } else { "credential.pin" };
    let change = append(tx, cause, act, new.device.as_str(), &detail)?;
    tx.touch(new.device, change)?;
    tx.insert_credentials(&[new], cause.at, change)?;
    Ok(Ok(()))
}

/// A certificate by which a trusted maker introduces a device of the ward's.
#[derive(Debug, Clone)]
pub struct Introduction<'a> {
    /// Who signed it.
    pub maker: &'a AuthorityName,
    /// The kinds for which the maker is trusted.
    pub kinds: &'a [KindName],
    /// What it says of the facts that the maker may vouch for: the first tells which device it is.
    pub facts: &'a [Fact],
    /// Its path and its proof of possession were verified.
    pub certificate: &'a Certificate,
}

/// Records the certificate by which a maker introduces a device: it stands beside what the device has, and replaces nothing. Gives
/// the device; `None` if there is none with that fact and of those kinds, or it may have no credential.
pub fn introduce(tx: &mut dyn Tx, shown: &Introduction<'_>, cause: &Cause) -> Result<Option<DeviceId>, StoreError> {
    let Some((first, others)) = shown.facts.split_first() else { return Ok(None) };
    let Some(id) = tx.holder(first)? else { return Ok(None) };
    let device = listed(tx, &id)?.device;
    let differs = |fact: &Fact| device.facts.get(fact.name()).is_some_and(|known| known != fact);
    if !shown.kinds.contains(&device.kind) || others.iter().any(differs) {
        return Ok(None);
    }
    let key_type = shown.certificate.public_key.key_type().to_string();
    let issued = NewCredential::issued(&id, shown.maker, shown.certificate, &key_type);
    let new = NewCredential { origin: Origin::Foreign, again: true, ..issued };
    Ok(record(tx, &new, cause)?.is_ok().then_some(id))
}

/// Why a device was given no next certificate for the one that it showed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RenewRefusal {
    /// What it showed may not sign in.
    #[error("{0}")]
    Shown(Unusable),
    /// What it showed is not on record.
    #[error("what it showed is not on record")]
    Unknown,
    /// The device may not be given a certificate.
    #[error("{0}")]
    Unissued(IssueRefusal),
    /// Who asked for it is not its gateway.
    #[error("`{gateway}` is not its gateway")]
    NotIts {
        /// Who asked.
        gateway: DeviceId,
    },
}

/// The credential that the device `of` showed, which must be its own and good at this moment, as must the device be.
pub(crate) fn shows(
    view: &dyn View,
    shown: &Fingerprint,
    of: &DeviceId,
    at: UnixTime,
) -> Answer<CredentialRecord, RenewRefusal> {
    let known = view.status_many(std::slice::from_ref(shown))?.pop().flatten();
    let Some((credential, device)) = known.filter(|(_, device)| device.id == *of) else {
        return Ok(Err(RenewRefusal::Unknown));
    };
    if let Some(barred) = device.barred() {
        return Ok(Err(RenewRefusal::Unissued(IssueRefusal::barred(device.id, barred))));
    }
    Ok(credential.may_sign_in(at).map(|()| credential).map_err(RenewRefusal::Shown))
}

/// Records the next certificate of a device that showed the credential `shown`, which must be good at this moment and the device's own.
///
/// # Errors
/// There is no such authority.
pub fn renew(tx: &mut dyn Tx, shown: &Fingerprint, new: &NewCredential<'_>, cause: &Cause) -> Answer<(), RenewRefusal> {
    if let Err(refusal) = shows(tx, shown, new.device, cause.at)? {
        return Ok(Err(refusal));
    }
    let new = NewCredential { again: true, authorised_by: Some(*shown), ..new.clone() };
    Ok(record(tx, &new, cause)?.map_err(RenewRefusal::Unissued))
}

/// Records a certificate of a child for which its gateway asked, that showed the credential `shown`; both are looked at in this moment.
///
/// # Errors
/// There is no such authority, or no such device.
pub fn by_gateway(
    tx: &mut dyn Tx,
    (gateway, shown): (&DeviceId, &Fingerprint),
    new: &NewCredential<'_>,
    cause: &Cause,
) -> Answer<(), RenewRefusal> {
    if let Err(refusal) = shows(tx, shown, gateway, cause.at)? {
        return Ok(Err(refusal));
    }
    if listed(tx, new.device)?.device.gateway.as_ref() != Some(gateway) {
        return Ok(Err(RenewRefusal::NotIts { gateway: gateway.clone() }));
    }
    let new = NewCredential { authorised_by: Some(*shown), ..new.clone() };
    Ok(record(tx, &new, cause)?.map_err(RenewRefusal::Unissued))
}

/// Checks that a device may have a new credential, and puts an end to those that it replaces; gives their names.
pub(super) fn supersede(
    tx: &mut dyn Tx,
    view: &DeviceView,
    new: &NewCredential<'_>,
    at: UnixTime,
) -> Answer<Vec<String>, IssueRefusal> {
    if let Some(barred) = view.device.barred() {
        return Ok(Err(IssueRefusal::barred(view.device.id.clone(), barred)));
    }
    if let Some(refusal) = key::refusal(tx, new)? {
        return Ok(Err(refusal));
    }
    if new.origin == Origin::Foreign {
        return Ok(Ok(Vec::new()));
    }
    if let Some(refusal) = former_owners(tx, view, new)? {
        return Ok(Err(refusal));
    }
    if let Some(known) = view.credentials.iter().find(|known| known.fingerprint == new.fingerprint) {
        return Ok(Err(IssueRefusal::Recorded { device: view.device.id.clone(), since: known.issued }));
    }
    if let Err(refusal) = may_be_issued(&view.device, &view.credentials, new.origin, new.again, at) {
        return Ok(Err(refusal));
    }
    let until = at.plus(new.overlap);
    let mut names = Vec::new();
    for credential in replaced(&view.credentials, new.origin, at) {
        let until = credential.usable_until().map_or(until, |end| end.min(until));
        tx.update_credential(&CredentialRecord { superseded_until: Some(until), ..credential.clone() })?;
        names.push(credential.name());
    }
    Ok(Ok(names))
}

/// Whether the key of a new credential is one that its device had while it was another owner's: whoever that was may have it.
pub(super) fn former_owners(
    view: &dyn View,
    of: &DeviceView,
    new: &NewCredential<'_>,
) -> Result<Option<IssueRefusal>, StoreError> {
    let Some(since) = of.device.passed else { return Ok(None) };
    for known in of.credentials.iter().filter(|known| known.issued <= since && known.origin != Origin::Foreign) {
        if view.key_digest(&known.fingerprint)? == new.key_digest {
            return Ok(Some(IssueRefusal::KeyOfFormerOwner { device: of.device.id.clone(), since }));
        }
    }
    Ok(None)
}

/// Notes that a certificate is about to be signed, before it is.
///
/// # Errors
/// There is no such authority.
pub fn intend(tx: &mut dyn Tx, intended: &Intended, cause: &Cause) -> Result<(), StoreError> {
    tx.put_intended(intended, cause.at)
}

/// Takes such notes away: the certificate was recorded and handed out, or was never made. With `lost` nobody knows what became of
/// it, and it goes on its authority's CRL; only for those whose signer is gone.
pub fn end_intended(tx: &mut dyn Tx, all: &[Intended], lost: bool, cause: &Cause) -> Result<(), StoreError> {
    for each in all {
        // Somebody else may have been quicker.
        if !tx.drop_intended(&each.serial)? || !lost {
            continue;
        }
        tx.put_lost(each, cause.at)?;
        let detail = json!({ "serial": each.serial.to_string(), "authority": each.authority, "ends": each.not_after });
        let change = append(tx, cause, "credential.lost", each.device.as_str(), &detail)?;
        tx.put_crl_lacks(&each.authority, change)?;
    }
    Ok(())
}
