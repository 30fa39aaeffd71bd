//! Owners: added, changed, signed in, retired.

use serde_json::json;
use tidy_warden_core::device::Note;
use tidy_warden_core::id::OwnerId;
use tidy_warden_core::owner::{MOST_PLACES, OwnerRecord, Place};
use tidy_warden_core::time::{Span, UnixTime};

use super::{append, hex, nothing, unknown};
use crate::{Answer, Cause, OwnerPass, PassKind, StoreError, Tx, View};

/// The most links or sessions of one owner at once.
pub const MOST_PASSES: u64 = 20;

/// How many links and sessions that are over go with each new one.
const FORGOTTEN_AT_ONCE: usize = 100;

/// Why an owner was not added, changed or retired.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum OwnerRefusal {
    /// There is one of that name, or was: it stands in the histories of devices.
    #[error("there is an owner `{id}` already{}", retired.map(|at| format!(", retired since {at}")).unwrap_or_default())]
    Known {
        /// Its name.
        id: OwnerId,
        /// When it was retired, if it was.
        retired: Option<UnixTime>,
    },
    /// It was retired.
    #[error("the owner `{0}` is retired since {1}")]
    Retired(OwnerId, UnixTime),
    /// It has devices.
    #[error("the owner `{0}` has devices: {1}")]
    HasDevices(OwnerId, u64),
    /// Devices would come in as its own.
    #[error("admissions are open by which devices come in as those of `{0}`: {1}")]
    HasAdmissions(OwnerId, u64),
    /// It has as many places as one may have.
    #[error("an owner has at most {MOST_PLACES} places")]
    Places,
    /// It has as many links, or sessions, as one may have.
    #[error("the owner `{0}` has {MOST_PASSES} links that were not used")]
    Passes(OwnerId),
}

/// What changes of an owner.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OwnerEdit {
    /// Another contact, or none.
    pub contact: Option<Option<Note>>,
    /// The key of the digest of the new contact.
    pub salt: [u8; 16],
    /// Places that it may choose from now on.
    pub places: Vec<Place>,
    /// Places that it may choose no more; its devices that are there stay.
    pub no_places: Vec<Place>,
}

/// An owner that must be there.
pub(super) fn named(view: &dyn View, id: &OwnerId) -> Result<OwnerRecord, StoreError> {
    view.owner(id)?.ok_or_else(|| unknown("owner", id))
}

fn describe(owner: &OwnerRecord) -> serde_json::Value {
    let places: Vec<String> = owner.places.iter().map(|(name, value)| format!("{name}={value}")).collect();
    json!({ "places": places, "contact_hmac": owner.contact_digest().map(|digest| hex(&digest)) })
}

/// Adds an owner.
pub fn add(tx: &mut dyn Tx, new: &OwnerRecord, cause: &Cause) -> Answer<(), OwnerRefusal> {
    if let Some(known) = tx.owner(&new.id)? {
        return Ok(Err(OwnerRefusal::Known { id: known.id, retired: known.retired }));
    }
    if new.places.len() > MOST_PLACES {
        return Ok(Err(OwnerRefusal::Places));
    }
    append(tx, cause, "owner.add", new.id.as_str(), &describe(new))?;
    tx.put_owner(new)?;
    Ok(Ok(()))
}

/// Changes an owner.
///
/// # Errors
/// There is no such owner.
pub fn edit(tx: &mut dyn Tx, id: &OwnerId, edit: &OwnerEdit, cause: &Cause) -> Answer<OwnerRecord, OwnerRefusal> {
    let mut owner = named(tx, id)?;
    if let Some(since) = owner.retired {
        return Ok(Err(OwnerRefusal::Retired(owner.id, since)));
    }
    if let Some(contact) = &edit.contact {
        owner.contact.clone_from(contact);
        owner.salt = edit.salt;
    }
    owner.places.retain(|place| !edit.no_places.contains(place));
    owner.places.extend(edit.places.iter().cloned());
    if owner.places.len() > MOST_PLACES {
        return Ok(Err(OwnerRefusal::Places));
    }
    append(tx, cause, "owner.edit", id.as_str(), &describe(&owner))?;
    tx.put_owner(&owner)?;
    Ok(Ok(owner))
}

/// Retires an owner that has no devices: its contact is gone, and nobody signs in as it any more.
///
/// # Errors
/// There is no such owner.
pub fn retire(tx: &mut dyn Tx, id: &OwnerId, cause: &Cause) -> Answer<(), OwnerRefusal> {
    let owner = named(tx, id)?;
    if let Some(since) = owner.retired {
        return Ok(Err(OwnerRefusal::Retired(owner.id, since)));
    }
    match tx.count_owned(id)? {
        0 => {}
        count => return Ok(Err(OwnerRefusal::HasDevices(owner.id, count))),
    }
    match tx.count_admitted(id, cause.at)? {
        0 => {}
        count => return Ok(Err(OwnerRefusal::HasAdmissions(owner.id, count))),
    }
    append(tx, cause, "owner.retire", id.as_str(), &nothing())?;
    tx.drop_owner_passes(id)?;
    tx.drop_hand_overs_to(id)?;
    tx.drop_tries_of(id)?;
    let after = OwnerRecord {
        retired: Some(cause.at),
        contact: None,
        salt: [0; 16],
        places: owner.places.clone(),
        signed_in_from: cause.at.plus(Span::from_seconds(1)),
        ..owner
    };
    tx.put_owner(&after)?;
    Ok(Ok(()))
}

/// Ends all links, sessions and tokens of an owner, and lets it try claim codes again.
///
/// # Errors
/// There is no such owner.
pub fn sign_out(tx: &mut dyn Tx, id: &OwnerId, cause: &Cause) -> Result<(), StoreError> {
    let owner = named(tx, id)?;
    append(tx, cause, "owner.sign-out", id.as_str(), &nothing())?;
    tx.drop_owner_passes(id)?;
    tx.put_owner(&OwnerRecord { signed_in_from: cause.at.plus(Span::from_seconds(1)), ..owner })
}

/// Lets an owner try claim codes again that gave too many wrong ones.
///
/// # Errors
/// There is no such owner.
pub fn unlock(tx: &mut dyn Tx, id: &OwnerId, cause: &Cause) -> Result<(), StoreError> {
    let owner = named(tx, id)?;
    append(tx, cause, "owner.unlock", owner.id.as_str(), &nothing())?;
    tx.drop_tries_of(id)
}

/// Records that a token was made for an owner, good until `ends`.
///
/// # Errors
/// There is no such owner.
pub fn token(
    tx: &mut dyn Tx,
    id: &OwnerId,
    scopes: &[&str],
    ends: UnixTime,
    cause: &Cause,
) -> Answer<(), OwnerRefusal> {
    let owner = named(tx, id)?;
    if let Some(since) = owner.retired {
        return Ok(Err(OwnerRefusal::Retired(owner.id, since)));
    }
    append(tx, cause, "owner.token", id.as_str(), &json!({ "scope": scopes, "ends": ends }))?;
    Ok(Ok(()))
}

/// Makes a link by which an owner signs in once; what it is made of is known to whoever asked alone.
///
/// # Errors
/// There is no such owner.
pub fn link(tx: &mut dyn Tx, pass: &OwnerPass, cause: &Cause) -> Answer<(), OwnerRefusal> {
    let owner = named(tx, &pass.owner)?;
    if let Some(since) = owner.retired {
        return Ok(Err(OwnerRefusal::Retired(owner.id, since)));
    }
    tx.drop_old_owner_passes(cause.at, FORGOTTEN_AT_ONCE)?;
    if tx.count_owner_passes(&owner.id, PassKind::Link)? >= MOST_PASSES {
        return Ok(Err(OwnerRefusal::Passes(owner.id)));
    }
    let detail = json!({ "ends": pass.ends, "sha256": hex(&pass.digest) });
    append(tx, cause, "owner.link", owner.id.as_str(), &detail)?;
    tx.put_owner_pass(pass)?;
    Ok(Ok(()))
}

/// Whose a link or a session is, if it is good at `now`.
pub fn signed_in(
    view: &dyn View,
    digest: &[u8; 32],
    kind: PassKind,
    now: UnixTime,
) -> Result<Option<(OwnerRecord, OwnerPass)>, StoreError> {
    let Some(pass) = view.owner_pass(digest)?.filter(|pass| pass.kind == kind) else { return Ok(None) };
    // A clock that was put back opens nothing that was not there yet.
    if pass.used.is_some() || !(pass.made..=pass.ends).contains(&now) {
        return Ok(None);
    }
    let owner = named(view, &pass.owner)?;
    let is_good = owner.retired.is_none() && pass.made >= owner.signed_in_from;
    Ok(is_good.then_some((owner, pass)))
}

/// Opens a session by a link, which is of no use any more; none if the link is not good. A session more than one owner may have takes
/// the place of nothing: it is refused.
pub fn sign_in(
    tx: &mut dyn Tx,
    link: &[u8; 32],
    session: &[u8; 32],
    life: Span,
    cause: &Cause,
) -> Result<Option<OwnerPass>, StoreError> {
    let Some((owner, pass)) = signed_in(tx, link, PassKind::Link, cause.at)? else { return Ok(None) };
    tx.drop_old_owner_passes(cause.at, FORGOTTEN_AT_ONCE)?;
    if tx.count_owner_passes(&owner.id, PassKind::Session)? >= MOST_PASSES {
        return Ok(None);
    }
    append(tx, cause, "owner.sign-in", owner.id.as_str(), &json!({ "link_sha256": hex(link) }))?;
    tx.put_owner_pass(&OwnerPass { used: Some(cause.at), ..pass })?;
    let session = OwnerPass {
        digest: *session,
        kind: PassKind::Session,
        owner: owner.id,
        made: cause.at,
        ends: cause.at.plus(life),
        used: None,
    };
    tx.put_owner_pass(&session)?;
    Ok(Some(session))
}
