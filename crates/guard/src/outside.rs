//! Certificates that no authority of the ward signed: which of them stand for a device all the same.

use tidy_warden_core::certificate::{Certificate, Fingerprint, Purpose, judge};
use tidy_warden_core::credential::Origin;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{AuthorityRole, Cause, NewCredential, Store, StoreError};

/// What a certificate from outside stands for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Standing {
    /// A credential that is recorded: the certificate itself, or the bare key in it.
    Recorded(Fingerprint),
    /// The device whose fact a trusted foreign authority confirms.
    Foreign(AuthorityName, DeviceId),
}

/// Looks a certificate up that does not lead to the ward's roots. Whether the credential may sign in now is not asked here.
pub(crate) fn standing(store: &dyn Store, leaf: &Certificate, now: UnixTime) -> Result<Option<Standing>, StoreError> {
    let record = store.status_many(&[leaf.fingerprint])?.into_iter().flatten().next().map(|(record, _)| record);
    if let Some(record) = record.filter(|record| record.origin == Origin::Pinned) {
        return Ok(Some(Standing::Recorded(record.fingerprint)));
    }
    if let Some(key) = store.bound_key(&sha256(leaf.public_key.spki()))? {
        return Ok(Some(Standing::Recorded(key)));
    }
    for authority in store.authorities()? {
        let Some(trust) = authority.trust.as_ref().filter(|_| authority.retired.is_none()) else { continue };
        let roots = std::slice::from_ref(&authority.certificate);
        // A manufacturer's certificate often names no purpose; one that names another than a client's is refused.
        if authority.role != AuthorityRole::Foreign
            || judge(leaf, &authority.crossed, roots, Purpose::Client, now).is_err()
        {
            continue;
        }
        let Some(fact) = leaf.fact(&trust.fact) else { continue };
        let Some(id) = store.holder(&fact)? else { continue };
        let view = store.devices(std::slice::from_ref(&id))?.pop().flatten();
        if view.is_some_and(|view| trust.kinds.contains(&view.device.kind)) {
            return Ok(Some(Standing::Foreign(authority.name, id)));
        }
    }
    Ok(None)
}

/// The recorded credential that a certificate from outside stands for. A foreign certificate is recorded when it is first
/// shown, so that it can be revoked like any other; its maker must be trusted each time.
pub(crate) fn resolve(store: &mut dyn Store, der: &[u8], cause: &Cause) -> Result<Option<Fingerprint>, StoreError> {
    let own = Fingerprint::of(der);
    let Ok(leaf) = Certificate::from_der(der) else { return Ok(None) };
    match standing(store, &leaf, cause.at)? {
        None => Ok(None),
        Some(Standing::Recorded(fingerprint)) => Ok(Some(fingerprint)),
        Some(Standing::Foreign(..)) if store.status_many(&[own])?.iter().any(Option::is_some) => Ok(Some(own)),
        Some(Standing::Foreign(authority, device)) => {
            let key_type = leaf.public_key.key_type().to_string();
            let new = NewCredential {
                origin: Origin::Foreign,
                // It stands beside what the device has, and replaces nothing.
                again: true,
                overlap: Span::from_days(0),
                ..NewCredential::issued(&device, &authority, &leaf, &key_type)
            };
            let recorded = store.record_issued(&new, cause, &mut || Ok(()))?;
            Ok(recorded.is_ok().then_some(own))
        }
    }
}
