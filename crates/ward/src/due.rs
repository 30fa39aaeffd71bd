//! What ends or falls due in a ward, gathered from its store.

use tidy_warden_core::admission::AdmissionName;
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::claim::OpenedBy;
use tidy_warden_core::due::{Forecast, Item, Judge, Successor, What};
use tidy_warden_core::id::{DeviceId, LabelName};
use tidy_warden_core::post::PostRole;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::acts::server::all as servers;
use tidy_warden_store::{StoreError, View};

use crate::server;

/// How many rows are read at a time.
const PAGE: usize = 1_000;

/// The most that wait for a person which are looked at.
const MOST_WAITING: usize = 20_000;

/// When a desk was seen last, if one ever was.
pub fn desk_seen(view: &dyn View) -> Result<Option<UnixTime>, StoreError> {
    let posts = view.posts()?;
    let is_desk = |name: &str| match posts.iter().find(|post| post.name.as_str() == name) {
        Some(post) => post.role == PostRole::Desk && post.retired.is_none(),
        None => name == PostRole::Desk.as_str(),
    };
    Ok(view.post_states()?.iter().filter(|state| is_desk(state.name.as_str())).map(|state| state.seen).max())
}

/// Gives everything that ends or falls due until a horizon to `visit`, in no order, and forecasts renewals. Items have the values of a
/// label, if one is named.
pub fn each(
    view: &dyn View,
    settings: &Settings,
    (now, until): (UnixTime, UnixTime),
    label: Option<&LabelName>,
    visit: &mut dyn FnMut(Item),
) -> Result<Forecast, StoreError> {
    let judge = Judge { settings, now, until, desk: desk_seen(view)? };
    let mut forecast = Forecast::new(now, until);
    view.each_ending(until, label, &mut |device| {
        judge.device(device, &mut forecast, visit);
        Ok(())
    })?;
    let authorities = view.authorities()?;
    for authority in &authorities {
        let successor = successor(view, &authorities, authority)?;
        judge.authority(authority, successor).into_iter().for_each(&mut *visit);
        judge.crl(authority).into_iter().for_each(&mut *visit);
    }
    for each in servers(view)? {
        let (ends, from) = (each.certificate.not_after, server::due(&each.certificate));
        judge.server(&each.name, ends, from).into_iter().for_each(&mut *visit);
    }
    let signers: Vec<_> = view.token_signers()?.into_iter().filter(|signer| signer.retired.is_none()).collect();
    for (place, signer) in signers.iter().enumerate() {
        let followed = signers.get(place + 1).map(|next| next.created);
        judge.token_signer(&signer.name, signer.created, followed).into_iter().for_each(&mut *visit);
    }
    waiting(view, &judge, visit)?;
    claims(view, &judge, visit)?;
    Ok(forecast)
}

/// Devices that a person opened to be claimed, and those that are offered to another owner.
fn claims(view: &dyn View, judge: &Judge<'_>, visit: &mut dyn FnMut(Item)) -> Result<(), StoreError> {
    let mut tell = |what, all: Vec<(DeviceId, UnixTime)>| -> Result<(), StoreError> {
        let due: Vec<_> = all.into_iter().filter(|(_, ends)| (judge.now..=judge.until).contains(ends)).collect();
        let ids: Vec<DeviceId> = due.iter().map(|(id, _)| id.clone()).collect();
        for ((id, ends), found) in due.iter().zip(view.devices(&ids)?) {
            if let Some(found) = found.filter(|found| found.device.barred().is_none()) {
                judge.waiting(what, id.as_str(), *ends, &found.device.kind).into_iter().for_each(&mut *visit);
            }
        }
        Ok(())
    };
    let mut after = String::new();
    loop {
        let page = view.claims(OpenedBy::Person, &after, PAGE)?;
        let Some(last) = page.last() else { break };
        after = last.device.to_string();
        tell(What::Claim, page.into_iter().map(|claim| (claim.device, claim.ends)).collect())?;
    }
    after.clear();
    loop {
        let page = view.hand_overs(None, &after, PAGE)?;
        let Some(last) = page.last() else { break };
        after = last.device.to_string();
        tell(What::HandOver, page.into_iter().map(|offer| (offer.device, offer.ends)).collect())?;
    }
    Ok(())
}

/// Admissions that are open, and devices and children that wait for a person.
fn waiting(view: &dyn View, judge: &Judge<'_>, visit: &mut dyn FnMut(Item)) -> Result<(), StoreError> {
    // Those that lapsed and that nobody noted stand before them.
    let mut after = (UnixTime(judge.now.0 - 1), AdmissionName(u32::MAX));
    loop {
        let page = view.pending_by_end(after, PAGE)?;
        for each in page.iter().filter(|each| each.until <= judge.until) {
            let item = judge.waiting(What::Admission, &each.name.to_string(), each.until, &each.device.kind);
            item.into_iter().for_each(&mut *visit);
        }
        match page.last() {
            Some(last) if page.len() == PAGE && last.until <= judge.until => after = (last.until, last.name),
            _ => break,
        }
    }
    for each in view.all_asking(MOST_WAITING)?.iter().filter(|each| each.is_waiting(judge.now)) {
        let id = each.id().map_err(|_| StoreError::Damaged { detail: "one that waits has no id".to_owned() })?;
        judge.waiting(What::Asking, id.as_str(), each.until, &each.kind).into_iter().for_each(&mut *visit);
    }
    for each in view.waiting_children(MOST_WAITING)? {
        judge.waiting(What::Asking, each.child.as_str(), each.until, &each.kind).into_iter().for_each(&mut *visit);
    }
    Ok(())
}

/// What stands in an authority's place: one that names it, or a later one for the same, which is what signs then.
fn successor(
    view: &dyn View,
    all: &[AuthorityRecord],
    authority: &AuthorityRecord,
) -> Result<Option<Successor>, StoreError> {
    let lasts = |each: &&AuthorityRecord| {
        each.retired.is_none() && each.certificate.not_after > authority.certificate.not_after
    };
    let named = all.iter().filter(lasts).find(|each| each.replaces.as_ref() == Some(&authority.name));
    let next = match authority.role {
        // Several may sign for devices, each for kinds of its own.
        AuthorityRole::Devices | AuthorityRole::Foreign => named,
        // Of the others the newest signs.
        AuthorityRole::Root | AuthorityRole::Service => {
            named.or_else(|| all.iter().filter(lasts).rfind(|each| each.role == authority.role))
        }
    };
    Ok(match next {
        None => None,
        Some(next) if next.role == AuthorityRole::Root => {
            let (devices, equipped) = view.equipped_since(&next.name)?;
            Some(if equipped < devices { Successor::NotKnown } else { Successor::Ready })
        }
        Some(_) => Some(Successor::Ready),
    })
}
