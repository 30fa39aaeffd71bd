//! What reflexes do, and what a person says of it. Each look is one change together with how far the reflex is then, so that whoever looks
//! at the same moment, or is killed, does nothing twice.

use serde_json::json;
use tidy_warden_core::credential::Revocation;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::{AtMost, Hit, Progress, Room, Then, room};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;

use super::{append, device, revoke};
use crate::{Answer, Cause, StoreError, Tx};

/// Something that a reflex is to do about a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Planned {
    /// The device.
    pub device: DeviceId,
    /// Why, in words.
    pub evidence: String,
    /// The network that it came from; empty if it came from none.
    pub source: String,
    /// Up to where the reflex is once this is done.
    pub position: i64,
    /// Why a revocation is one.
    pub reason: Reason,
}

/// A reflex that is at work.
#[derive(Debug, Clone, Copy)]
pub struct Working<'a> {
    /// Its name.
    pub name: &'a str,
    /// What it does.
    pub then: Then,
    /// How often.
    pub at_most: AtMost,
}

/// What came of a look.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Done {
    /// About whom it did something, and why.
    pub acted: Vec<(DeviceId, String)>,
    /// How many it left, as their networks had caused enough.
    pub left: u64,
    /// Why it stopped.
    pub stopped: Option<String>,
}

/// Somebody else looked at the same moment, or a person said something meanwhile.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("somebody else looked at the same moment")]
pub struct Overtaken;

/// Sends an errand to renew; says whether it was sent.
pub type Renew<'r> = dyn FnMut(&mut dyn Tx, &DeviceId, &Cause) -> Result<bool, StoreError> + 'r;

/// Makes a notice about a device, with its evidence: its id, and what it says.
pub type Notice<'n> = dyn Fn(&DeviceId, &str, UnixTime) -> (String, String) + 'n;

/// Does what a reflex is to do, as far as there is room, and notes that it is at `to` then. `from` is where it was when it looked.
pub fn act(
    tx: &mut dyn Tx,
    working: Working<'_>,
    (from, to): (Option<i64>, i64),
    planned: &[Planned],
    (renew, notice): (&mut Renew<'_>, Option<&Notice<'_>>),
    cause: &Cause,
) -> Answer<Done, Overtaken> {
    let Working { name, then, at_most } = working;
    let before = tx.reflex_progress(name)?;
    let is_stopped = before.as_ref().is_some_and(|progress| progress.stopped.is_some());
    if is_stopped || before.map(|progress| progress.position) != from {
        return Ok(Err(Overtaken));
    }
    let mut done = Done::default();
    let mut position = to;
    let mut told = None;
    let since = UnixTime(cause.at.0 - at_most.within.seconds());
    for one in planned {
        let (all, of_source) = tx.count_hits(name, &one.source, since)?;
        let count = |number: u64| usize::try_from(number).unwrap_or(usize::MAX);
        // What comes from no network has no bound by network.
        let of_source = if one.source.is_empty() { 0 } else { count(of_source) };
        match room(at_most, count(all), of_source) {
            Room::Free => {}
            Room::SourceFull => {
                done.left += 1;
                continue;
            }
            Room::Full => {
                let why = format!("it acted {at_most}, which is the most that it may");
                append(tx, cause, "reflex.stop", name, &json!({ "because": why }))?;
                done.stopped = Some(why);
                // This one is looked at again when a person has it go on.
                position = one.position - 1;
                break;
            }
        }
        let because = format!("reflex {name}: {}", one.evidence);
        let cause = Cause { because, ..cause.clone() };
        let is_done = match then {
            Then::Record => true,
            Then::Notify => match notice {
                Some(make) => {
                    let (id, body) = make(&one.device, &one.evidence, cause.at);
                    // Where there is no room, it stands in the record, and that nobody was told of it.
                    told = Some(super::notice::put(tx, id, body, cause.at)?);
                    true
                }
                None => false,
            },
            Then::Hold => !device::set_hold(tx, std::slice::from_ref(&one.device), true, &cause)?.is_empty(),
            Then::Revoke => {
                revoke::revoke(tx, Revocation { device: &one.device, only: None, reason: one.reason }, &cause)?;
                true
            }
            Then::Renew => renew(tx, &one.device, &cause)?,
        };
        if !is_done {
            continue;
        }
        let mut detail =
            json!({ "reflex": name, "act": then.as_str(), "evidence": one.evidence, "source": one.source });
        if told == Some(false) {
            detail["told"] = json!(false);
        }
        append(tx, &cause, "reflex.act", one.device.as_str(), &detail)?;
        tx.put_hit(&Hit {
            number: 0,
            reflex: name.to_owned(),
            device: one.device.clone(),
            at: cause.at,
            act: then.as_str().to_owned(),
            evidence: one.evidence.clone(),
            source: one.source.clone(),
            undone: None,
        })?;
        done.acted.push((one.device.clone(), one.evidence.clone()));
    }
    let stopped = done.stopped.clone().map(|why| (cause.at, why));
    tx.put_reflex_progress(name, &Progress { position, stopped })?;
    Ok(Ok(done))
}

/// Has a reflex that stopped go on; says whether it had.
pub fn resume(tx: &mut dyn Tx, name: &str, cause: &Cause) -> Result<bool, StoreError> {
    let Some(progress) = tx.reflex_progress(name)?.filter(|progress| progress.stopped.is_some()) else {
        return Ok(false);
    };
    append(tx, cause, "reflex.resume", name, &json!({}))?;
    tx.put_reflex_progress(name, &Progress { stopped: None, ..progress })?;
    Ok(true)
}

/// Lifts the holds among these acts that are still as the reflex made them; gives the devices that were released.
pub fn undo(tx: &mut dyn Tx, hits: &[Hit], cause: &Cause) -> Result<Vec<DeviceId>, StoreError> {
    let mut released = Vec::new();
    for hit in hits.iter().filter(|hit| hit.act == Then::Hold.as_str() && hit.undone.is_none()) {
        let view = tx.devices(std::slice::from_ref(&hit.device))?.pop().flatten();
        // A hold that a person made since is a person's to lift.
        if view.is_some_and(|view| view.device.held == Some(hit.at)) {
            let cause = Cause { because: format!("undoes reflex {}: {}", hit.reflex, cause.because), ..cause.clone() };
            released.extend(device::set_hold(tx, std::slice::from_ref(&hit.device), false, &cause)?);
        }
        tx.put_hit(&Hit { undone: Some(cause.at), ..hit.clone() })?;
    }
    Ok(released)
}
