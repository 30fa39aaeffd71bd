//! Claims: devices are opened, taken, given up and handed over.

use std::collections::BTreeMap;

use serde_json::json;
use tidy_warden_core::claim::{
    Came, ClaimBy, CodeDigest, HandOver, KEPT, OpenClaim, OpenRefusal, OpenedBy, Ownership, Scope, Tries, Went,
    may_be_opened, passed, that_counts,
};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::{Barred, DeviceRecord};
use tidy_warden_core::id::{DeviceId, KindName, LabelName, LabelValue, OwnerId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::owner::{Place, PlaceRefusal};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::{Span, UnixTime};

use super::owner::named;
use super::{append, hex, listed, nothing, touch_gateway};
use crate::contract::pair;
use crate::{Answer, Cause, DeviceView, StoreError, Tx, View};

/// How many wrong tries that are forgotten go with each new one.
const FORGOTTEN_AT_ONCE: usize = 100;

/// Opens devices to be claimed, in the place of how each was opened before: all, or none and every reason why. Whoever gave wrong codes
/// for one may try again.
///
/// # Errors
/// One of the devices is not there.
pub fn open(tx: &mut dyn Tx, new: &[OpenClaim], cause: &Cause) -> Answer<(), Vec<OpenRefusal>> {
    let mut refusals = Vec::new();
    for claim in new {
        refusals.extend(may_be_opened(&listed(tx, &claim.device)?.device).err());
    }
    if !refusals.is_empty() {
        return Ok(Err(refusals));
    }
    let described =
        |claim: &OpenClaim| json!({ "device": claim.device, "code": claim.code.is_some(), "ends": claim.ends });
    match new {
        [one] => {
            let detail = json!({ "by": one.by.as_str(), "code": one.code.is_some(), "ends": one.ends });
            append(tx, cause, "claim.open", one.device.as_str(), &detail)?;
        }
        many => {
            let list: Vec<u8> = many.iter().flat_map(|each| format!("{}\n", described(each)).into_bytes()).collect();
            let detail = json!({ "count": many.len(), "list_sha256": hex(&sha256(&list)) });
            append(tx, cause, "claim.open", &format!("{} devices", many.len()), &detail)?;
        }
    }
    for claim in new {
        if claim.by == OpenedBy::Person {
            // How the device opened itself is over too.
            tx.drop_claims(Some(&claim.device))?;
            tx.drop_tries_at(&claim.device)?;
        }
        tx.put_claim(claim)?;
    }
    Ok(Ok(()))
}

/// Nobody can claim a device any more, until it is opened again. Says whether anybody could.
///
/// # Errors
/// There is no such device.
pub fn close(tx: &mut dyn Tx, id: &DeviceId, cause: &Cause) -> Result<bool, StoreError> {
    let id = listed(tx, id)?.device.id;
    if tx.claim(&id, OpenedBy::Person)?.is_none() && tx.claim(&id, OpenedBy::Device)?.is_none() {
        return Ok(false);
    }
    append(tx, cause, "claim.close", id.as_str(), &nothing())?;
    tx.drop_claims(Some(&id))?;
    Ok(true)
}

/// How devices of a kind are claimed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KindRules {
    /// By what.
    pub by: ClaimBy,
    /// The longest window that one may open itself, if it may.
    pub window: Option<Span>,
    /// How long what it signs in with is taken when it went from an owner; if absent nothing ends.
    pub rotate: Option<Span>,
}

/// How devices are claimed.
pub struct Rules<'a> {
    /// By kind; nothing for one that is not declared.
    pub of: &'a dyn Fn(&KindName) -> Option<KindRules>,
    /// How many wrong codes an owner may give for one id.
    pub tries: u32,
}

/// What an owner shows and wants.
#[derive(Debug, Clone, Copy)]
pub struct Take<'a> {
    /// The id that was named; there may be no such device.
    pub device: &'a DeviceId,
    /// The owner, who is signed in, or for whom a person acts.
    pub owner: &'a OwnerId,
    /// The places that it wants.
    pub wanted: &'a [Place],
    /// The code with the salt of the one that counted a moment ago, if one was given.
    pub shown: Option<CodeDigest>,
    /// The network that it comes from, if it comes from one.
    pub source: Option<&'a str>,
}

/// A device that passed from or to an owner.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Passed {
    /// As it was.
    pub before: DeviceRecord,
    /// As it is.
    pub after: DeviceRecord,
    /// What it signed in with and cannot any more.
    pub ended: Vec<String>,
    /// What it signs in with, until it has something new.
    pub ending: Vec<String>,
    /// Until when.
    pub until: Option<UnixTime>,
}

/// Why a place is refused, in the record.
const NO_PLACE: &str = "a place that is not the owner's";

/// What became of a claim.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Taken {
    /// The device is the owner's.
    Yes(Box<Passed>),
    /// The owner cannot put it there; nothing was looked at.
    Place(PlaceRefusal),
    /// It is not. Whoever asked is never told why.
    No,
}

/// What is counted for a try: scopes with names.
fn scopes(take: &Take<'_>) -> Vec<(Scope, String)> {
    let mut scopes = vec![
        (Scope::Pair, pair(take.owner, take.device)),
        (Scope::Owner, take.owner.to_string()),
        (Scope::Device, take.device.to_string()),
    ];
    scopes.extend(take.source.map(|source| (Scope::Source, source.to_owned())));
    scopes
}

/// Whether an owner is not heard: it gave too many wrong codes, here or anywhere; or so many were given for this id that only who gave
/// none of them is heard.
pub fn is_locked(view: &dyn View, take: &Take<'_>, tries: u32, now: UnixTime) -> Result<bool, StoreError> {
    let has_tried = view.tries(Scope::Pair, &pair(take.owner, take.device))?.is_some();
    for (scope, name) in scopes(take) {
        let is_locked = view.tries(scope, &name)?.is_some_and(|known| known.is_locked(scope, tries, now));
        if is_locked && (scope != Scope::Device || has_tried) {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The opening of a device that counts now, by a person or by itself.
pub fn that_is_open(view: &dyn View, id: &DeviceId, now: UnixTime) -> Result<Option<OpenClaim>, StoreError> {
    Ok(that_counts(view.claim(id, OpenedBy::Person)?, view.claim(id, OpenedBy::Device)?, now))
}

/// Why a claim is refused: for the record, and for nobody who claims.
fn refused(
    tx: &dyn Tx,
    take: &Take<'_>,
    rules: &Rules<'_>,
    now: UnixTime,
) -> Answer<(DeviceView, OpenClaim, KindRules), &'static str> {
    let Some(view) = tx.devices(std::slice::from_ref(take.device))?.pop().flatten() else {
        return Ok(Err("no such device"));
    };
    match view.device.barred() {
        Some(Barred::Held(_)) => return Ok(Err("the device is on hold")),
        Some(Barred::Out(_)) => return Ok(Err("the device is out")),
        Some(Barred::Retired(_)) => return Ok(Err("the device is retired")),
        None => {}
    }
    if view.device.owner.is_some() {
        return Ok(Err("it has an owner"));
    }
    let Some(kind) = (rules.of)(&view.device.kind).filter(|kind| kind.by != ClaimBy::Nobody) else {
        return Ok(Err("devices of its kind are not claimed"));
    };
    let Some(open) = that_is_open(tx, take.device, now)? else { return Ok(Err("it is not open")) };
    if open.by == OpenedBy::Device {
        let longest = kind.window.map_or(0, Span::seconds);
        // The settings may have changed since; and what a device says of itself is not believed.
        if open.code.is_none() || open.ends.since(open.opened) > longest {
            return Ok(Err("it may not open itself so"));
        }
    }
    match (&open.code, &take.shown) {
        (None, _) if kind.by != ClaimBy::Name => Ok(Err("devices of its kind are claimed with a code")),
        (None, _) => Ok(Ok((view, open, kind))),
        (Some(_), None) => Ok(Err("no code")),
        (Some(code), Some(shown)) if code.is_same(shown) => Ok(Ok((view, open, kind))),
        (Some(_), Some(_)) => Ok(Err("another code")),
    }
}

/// Has an owner claim a device. What is wrong is counted and recorded, and told nobody who claims; whoever is not heard any more leaves
/// no entry.
///
/// # Errors
/// There is no such owner.
pub fn take(tx: &mut dyn Tx, take: &Take<'_>, rules: &Rules<'_>, cause: &Cause) -> Result<Taken, StoreError> {
    let owner = named(tx, take.owner)?;
    if is_locked(tx, take, rules.tries, cause.at)? || owner.retired.is_some() {
        return Ok(Taken::No);
    }
    let place = match owner.place(take.wanted) {
        Ok(place) => place,
        Err(refusal) => {
            // Whoever has to choose did nothing wrong.
            if matches!(refusal, PlaceRefusal::NotIts { .. }) {
                count(tx, take, NO_PLACE, rules.tries, cause)?;
            }
            return Ok(Taken::Place(refusal));
        }
    };
    let (view, open, kind) = match refused(tx, take, rules, cause.at)? {
        Ok(fits) => fits,
        Err(why) => {
            count(tx, take, why, rules.tries, cause)?;
            return Ok(Taken::No);
        }
    };
    tx.put_tries(Scope::Pair, &pair(take.owner, take.device), None)?;
    let to = Some((take.owner, place, open.came()));
    let passing = Passing { to, went: Went::GivenUp, rotate: kind.rotate, act: "claim.take" };
    Ok(Taken::Yes(Box::new(pass(tx, view, passing, cause)?)))
}

/// Counts and records that an owner wanted to put a device that is offered to it at a place that is not its own, unless it is not heard
/// any more.
pub fn note_place(tx: &mut dyn Tx, take: &Take<'_>, rules: &Rules<'_>, cause: &Cause) -> Result<(), StoreError> {
    match is_locked(tx, take, rules.tries, cause.at)? {
        true => Ok(()),
        false => count(tx, take, NO_PLACE, rules.tries, cause),
    }
}

/// Counts a wrong try, and records it.
fn count(tx: &mut dyn Tx, take: &Take<'_>, why: &str, tries: u32, cause: &Cause) -> Result<(), StoreError> {
    tx.drop_old_tries(UnixTime(cause.at.0.saturating_sub(KEPT.seconds())), FORGOTTEN_AT_ONCE)?;
    let mut locked = Vec::new();
    for (scope, name) in scopes(take) {
        let after = Tries::after(tx.tries(scope, &name)?, scope, cause.at);
        if after.is_locked(scope, tries, cause.at) {
            locked.push(scope.as_str());
        }
        tx.put_tries(scope, &name, Some(after))?;
    }
    let detail = json!({ "owner": take.owner, "why": why, "source": take.source, "locked": locked });
    append(tx, cause, "claim.refuse", take.device.as_str(), &detail)?;
    Ok(())
}

/// How a device passes.
struct Passing<'a> {
    to: Option<(&'a OwnerId, BTreeMap<LabelName, LabelValue>, Came)>,
    /// How it goes from whoever has it.
    went: Went,
    rotate: Option<Span>,
    act: &'static str,
}

/// Ends what a device signed in with in its former owner's time: shared keys and tokens at once, certificates and keys of its own after
/// `rotate`, within which it must have new ones. What its maker gave it introduces it, and stays.
fn end_former(
    tx: &mut dyn Tx,
    view: &DeviceView,
    rotate: Span,
    at: UnixTime,
) -> Result<(Vec<String>, Vec<String>, UnixTime), StoreError> {
    let until = UnixTime(at.0.saturating_add(rotate.seconds()).saturating_sub(i64::from(rotate.seconds() == 0)));
    let (mut ended, mut ending) = (Vec::new(), Vec::new());
    for credential in &view.credentials {
        match (credential.origin, credential.usable_until()) {
            (Origin::Foreign, _) | (_, None) => {}
            (_, Some(end)) if end < at => {}
            (Origin::Shared, Some(_)) => {
                let revoked = Some((at, Reason::AffiliationChanged));
                tx.update_credential(&CredentialRecord { revoked, ..credential.clone() })?;
                ended.push(credential.name());
            }
            (Origin::Issued | Origin::Pinned | Origin::Key, Some(end)) => {
                let superseded_until = Some(end.min(until));
                tx.update_credential(&CredentialRecord { superseded_until, ..credential.clone() })?;
                ending.push(credential.name());
            }
        }
    }
    Ok((ended, ending, until))
}

fn pass(tx: &mut dyn Tx, view: DeviceView, passing: Passing<'_>, cause: &Cause) -> Result<Passed, StoreError> {
    let before = view.device.clone();
    let history = tx.ownerships(&before.id, 1)?.pop().filter(|last| last.ended.is_none());
    let former = history.as_ref().map(|last| last.place.clone()).unwrap_or_default();
    let (owner, place, came) = match passing.to {
        Some((owner, place, came)) => (Some(owner), place, Some(came)),
        None => (None, BTreeMap::new(), None),
    };
    let mut after = passed(&before, &former, owner, &place);
    let (mut ended, mut ending, mut until) = (Vec::new(), Vec::new(), None);
    let rotate = passing.rotate.filter(|_| before.owner.is_some());
    if let Some(rotate) = rotate {
        let end;
        (ended, ending, end) = end_former(tx, &view, rotate, cause.at)?;
        until = (!ending.is_empty()).then_some(end);
        after.tokens_from = cause.at.plus(Span::from_seconds(1));
        after.passed = Some(cause.at);
    }
    let place_text: Vec<String> = place.iter().map(|(name, value)| format!("{name}={value}")).collect();
    let detail = json!({
        "owner": owner, "from": before.owner, "came": came.map(Came::as_str), "place": place_text,
        "serials": ended, "ending": ending, "until": until,
    });
    let change = append(tx, cause, passing.act, before.id.as_str(), &detail)?;
    touch_gateway(tx, before.gateway.as_ref(), change)?;
    tx.update_device(&before, &after, change)?;
    // Where all ends at once there is nothing left to renew with.
    if rotate.is_some_and(|rotate| rotate.seconds() > 0) && !ending.is_empty() {
        tx.put_renew_asked(std::slice::from_ref(&before.id), cause.at)?;
        after.renew_asked = Some(cause.at);
    }
    if let Some(from) = &before.owner {
        let known = history.filter(|last| last.owner == *from);
        // One that was listed with its owner has no history yet.
        let last = known.unwrap_or_else(|| Ownership {
            number: 0,
            device: before.id.clone(),
            owner: from.clone(),
            came: Came::Listed,
            began: before.created,
            place: BTreeMap::new(),
            ended: None,
        });
        tx.put_ownership(&Ownership { ended: Some((cause.at, passing.went)), ..last })?;
    }
    if let (Some(owner), Some(came)) = (owner, came) {
        let device = before.id.clone();
        let new = Ownership { number: 0, device, owner: owner.clone(), came, began: cause.at, place, ended: None };
        tx.put_ownership(&new)?;
    }
    tx.drop_claims(Some(&before.id))?;
    tx.drop_hand_overs(Some(&before.id))?;
    Ok(Passed { before, after, ended, ending, until })
}

/// Why a device was not given up, offered or taken over.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PassRefusal {
    /// It is nobody's.
    #[error("`{0}` has no owner")]
    NoOwner(DeviceId),
    /// It is not that owner's, or there is none such: whoever asks is not told which.
    #[error("`{0}` is not a device of `{1}`")]
    NotIts(DeviceId, OwnerId),
    /// It may not be here.
    #[error("`{0}`: {1}")]
    Barred(DeviceId, Barred),
    /// It is that owner's already.
    #[error("`{0}` is a device of `{1}` already")]
    Its(DeviceId, OwnerId),
    /// There is no such owner, or it is retired.
    #[error("there is no owner `{0}` who could take it")]
    NoHeir(OwnerId),
    /// It is not offered to that owner, or no longer.
    #[error("`{0}` is not offered to `{1}`")]
    NotOffered(DeviceId, OwnerId),
    /// The owner cannot put it there.
    #[error("{0}")]
    Place(PlaceRefusal),
}

/// A device that `by` may give away: its owner, or a person for whoever owns it.
fn owned(view: &dyn View, id: &DeviceId, by: Option<&OwnerId>) -> Answer<(DeviceView, OwnerId), PassRefusal> {
    let found = view.devices(std::slice::from_ref(id))?.pop().flatten();
    let device = match (found, by) {
        (Some(found), Some(by)) if found.device.owner.as_ref() != Some(by) => {
            return Ok(Err(PassRefusal::NotIts(id.clone(), by.clone())));
        }
        (Some(found), _) => found,
        (None, Some(by)) => return Ok(Err(PassRefusal::NotIts(id.clone(), by.clone()))),
        (None, None) => return Err(super::unknown("device", id)),
    };
    match device.device.owner.clone() {
        Some(owner) if device.device.retired.is_none() => Ok(Ok((device, owner))),
        _ => Ok(Err(PassRefusal::NoOwner(id.clone()))),
    }
}

/// A device is nobody's any more: its place goes with its owner. One that is on hold or out can be given up too.
///
/// # Errors
/// There is no such device, if a person gives it up.
pub fn give_up(
    tx: &mut dyn Tx,
    id: &DeviceId,
    by: Option<&OwnerId>,
    rules: &Rules<'_>,
    cause: &Cause,
) -> Answer<Passed, PassRefusal> {
    let (view, _) = match owned(tx, id, by)? {
        Ok(owned) => owned,
        Err(refusal) => return Ok(Err(refusal)),
    };
    let rotate = rotation_of(rules, &view.device.kind);
    let passing = Passing { to: None, went: Went::GivenUp, rotate, act: "claim.give-up" };
    Ok(Ok(pass(tx, view, passing, cause)?))
}

/// What holds for a kind that is not declared any more is what holds by default.
fn rotation_of(rules: &Rules<'_>, kind: &KindName) -> Option<Span> {
    (rules.of)(kind).map_or(Some(Span::from_days(1)), |rules| rules.rotate)
}

/// Offers a device to another owner, in the place of whom it was offered to before.
///
/// # Errors
/// There is no such device, if a person offers it.
pub fn offer(
    tx: &mut dyn Tx,
    id: &DeviceId,
    (by, to): (Option<&OwnerId>, &OwnerId),
    ends: UnixTime,
    cause: &Cause,
) -> Answer<HandOver, PassRefusal> {
    let (view, from) = match owned(tx, id, by)? {
        Ok(owned) => owned,
        Err(refusal) => return Ok(Err(refusal)),
    };
    if let Some(barred) = view.device.barred() {
        return Ok(Err(PassRefusal::Barred(id.clone(), barred)));
    }
    if from == *to {
        return Ok(Err(PassRefusal::Its(id.clone(), from)));
    }
    // Which owners there are is no owner's to find out: an offer to nobody looks like one that nobody takes. A person is told.
    if by.is_none() && tx.owner(to)?.is_none_or(|owner| owner.retired.is_some()) {
        return Ok(Err(PassRefusal::NoHeir(to.clone())));
    }
    let offer = HandOver { device: id.clone(), from, to: to.clone(), offered: cause.at, ends };
    let detail = json!({ "owner": offer.from, "to": to, "ends": ends });
    append(tx, cause, "claim.offer", id.as_str(), &detail)?;
    tx.put_hand_over(&offer)?;
    Ok(Ok(offer))
}

/// Takes an offer back, or turns it down: `by` is its owner, or whom it is offered to, or a person. Says whether there was one.
pub fn drop_offer(tx: &mut dyn Tx, id: &DeviceId, by: Option<&OwnerId>, cause: &Cause) -> Result<bool, StoreError> {
    let offer = tx.hand_over(id)?.filter(|offer| by.is_none_or(|by| *by == offer.from || *by == offer.to));
    let Some(offer) = offer else { return Ok(false) };
    append(tx, cause, "claim.offer-dropped", id.as_str(), &json!({ "owner": offer.from, "to": offer.to }))?;
    tx.drop_hand_overs(Some(id))?;
    Ok(true)
}

/// Has an owner take a device that is offered to it.
///
/// # Errors
/// There is no such owner.
pub fn take_offered(
    tx: &mut dyn Tx,
    id: &DeviceId,
    (to, wanted): (&OwnerId, &[Place]),
    rules: &Rules<'_>,
    cause: &Cause,
) -> Answer<Passed, PassRefusal> {
    let owner = named(tx, to)?;
    let not_offered = || PassRefusal::NotOffered(id.clone(), to.clone());
    if owner.retired.is_some() {
        return Ok(Err(PassRefusal::NoHeir(to.clone())));
    }
    let place = match owner.place(wanted) {
        Ok(place) => place,
        Err(refusal) => {
            return Ok(Err(PassRefusal::Place(refusal)));
        }
    };
    let offer = tx.hand_over(id)?.filter(|offer| offer.is_for(&owner) && offer.is_open(cause.at));
    let Some(offer) = offer else { return Ok(Err(not_offered())) };
    let view = listed(tx, id)?;
    if let Some(barred) = view.device.barred() {
        return Ok(Err(PassRefusal::Barred(id.clone(), barred)));
    }
    // Whoever offered it may have lost it since, by a change that knew of no offers.
    if view.device.owner.as_ref() != Some(&offer.from) {
        return Ok(Err(not_offered()));
    }
    let rotate = rotation_of(rules, &view.device.kind);
    let to = Some((to, place, Came::HandOver));
    let passing = Passing { to, went: Went::HandedOver, rotate, act: "claim.hand-over" };
    Ok(Ok(pass(tx, view, passing, cause)?))
}

/// A device is retired: whose it was is history.
pub(super) fn retired(tx: &mut dyn Tx, id: &DeviceId, at: UnixTime) -> Result<(), StoreError> {
    tx.drop_claims(Some(id))?;
    tx.drop_hand_overs(Some(id))?;
    if let Some(last) = tx.ownerships(id, 1)?.pop().filter(|last| last.ended.is_none()) {
        tx.put_ownership(&Ownership { ended: Some((at, Went::Retired)), ..last })?;
    }
    Ok(())
}
