//! Children that gateways bring in: noted, accepted, refused.

use tidy_warden_core::device::{AddRefusal, DeviceRecord};
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};

use super::{append, device, listed, nothing};
use crate::{Answer, Cause, StoreError, Tx, View};

/// Why a child was not brought in.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum IntroduceRefusal {
    /// There is such a device, or was.
    #[error("there is a device `{0}` already, or there was one")]
    Known(DeviceId),
    /// An admission was opened for that id, at some time.
    #[error("an admission was opened for `{0}`")]
    Admitted(DeviceId),
    /// Another gateway brought it in, or this one as another kind.
    #[error("`{child}` was brought in as a {kind} by `{gateway}`")]
    Other {
        /// The child.
        child: DeviceId,
        /// The kind that it came as.
        kind: KindName,
        /// The gateway.
        gateway: DeviceId,
    },
    /// A person refused it.
    #[error("`{0}` was refused")]
    Refused(DeviceId),
    /// Its gateway may not be here, or stands behind another.
    #[error("its gateway `{gateway}`: {why}")]
    Gateway {
        /// The gateway.
        gateway: DeviceId,
        /// Why it brings in nobody.
        why: String,
    },
    /// The gateway has brought in as many as it may.
    #[error("`{gateway}` may bring in {most} of the kind {kind}, and has brought in that many")]
    Full {
        /// The gateway.
        gateway: DeviceId,
        /// The kind.
        kind: KindName,
        /// How many it may.
        most: u32,
    },
    /// It cannot be listed.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Unlisted(Vec<AddRefusal>),
}

/// Why nothing was said of a child that was brought in.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ChildRefusal {
    /// It does not wait.
    #[error("it does not wait any more")]
    Gone,
    /// It cannot be listed.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Unlisted(Vec<AddRefusal>),
}

/// Brings in a child, if its gateway has brought in fewer than `most` of that kind so far; `new.state` says whether it is listed at once.
/// Gives what is known of it now; the same again is the same child.
pub fn introduce(
    tx: &mut dyn Tx,
    new: &IntroducedRecord,
    most: u32,
    cause: &Cause,
) -> Answer<IntroducedState, IntroduceRefusal> {
    let child = || new.child.clone();
    let before = tx.introduced(&new.child)?;
    if let Some(before) = &before {
        if before.gateway != new.gateway || before.kind != new.kind {
            let (gateway, kind) = (before.gateway.clone(), before.kind.clone());
            return Ok(Err(IntroduceRefusal::Other { child: child(), kind, gateway }));
        }
        match before.state {
            IntroducedState::Refused => return Ok(Err(IntroduceRefusal::Refused(child()))),
            IntroducedState::Waits if before.is_waiting(cause.at) && new.state == IntroducedState::Waits => {
                return Ok(Ok(IntroducedState::Waits));
            }
            IntroducedState::Accepted => return Ok(Err(IntroduceRefusal::Known(child()))),
            IntroducedState::Waits => {}
        }
    }
    if tx.devices(std::slice::from_ref(&new.child))?.into_iter().flatten().next().is_some() {
        return Ok(Err(IntroduceRefusal::Known(child())));
    }
    if !tx.admissions_of(&new.child, 1)?.is_empty() {
        return Ok(Err(IntroduceRefusal::Admitted(child())));
    }
    if let Some(why) = unfit(&listed(tx, &new.gateway)?.device) {
        return Ok(Err(IntroduceRefusal::Gateway { gateway: new.gateway.clone(), why }));
    }
    if before.is_none() && tx.count_introduced(&new.gateway, &new.kind)? >= u64::from(most) {
        let (gateway, kind) = (new.gateway.clone(), new.kind.clone());
        return Ok(Err(IntroduceRefusal::Full { gateway, kind, most }));
    }
    append(tx, cause, "device.introduce", new.child.as_str(), &new.described())?;
    tx.put_introduced(new)?;
    if new.state == IntroducedState::Accepted
        && let Err(refusals) = device::add(tx, &[new.as_device(cause.at)], cause)?
    {
        return Ok(Err(IntroduceRefusal::Unlisted(refusals)));
    }
    Ok(Ok(new.state))
}

/// Lists a child that waits, of which a guard told that could not list it: if its gateway has brought in no more than `most` of that kind,
/// itself among them. What that guard said of `most` is not gone by.
pub fn take(
    tx: &mut dyn Tx,
    waits: &IntroducedRecord,
    most: u32,
    cause: &Cause,
) -> Answer<IntroducedState, IntroduceRefusal> {
    if tx.count_introduced(&waits.gateway, &waits.kind)? > u64::from(most) {
        let (gateway, kind) = (waits.gateway.clone(), waits.kind.clone());
        return Ok(Err(IntroduceRefusal::Full { gateway, kind, most }));
    }
    introduce(tx, &IntroducedRecord { state: IntroducedState::Accepted, ..waits.clone() }, most, cause)
}

/// Why a device brings in nobody.
fn unfit(gateway: &DeviceRecord) -> Option<String> {
    match (gateway.barred(), &gateway.gateway) {
        (Some(barred), _) => Some(barred.to_string()),
        (None, Some(above)) => Some(format!("it stands behind `{above}` itself")),
        (None, None) => None,
    }
}

fn waiting(view: &dyn View, child: &DeviceId, cause: &Cause) -> Result<Option<IntroducedRecord>, StoreError> {
    Ok(view.introduced(child)?.filter(|introduced| introduced.is_waiting(cause.at)))
}

/// Lists a child that waits, as a person wants it; its id and its gateway stay.
pub fn accept(tx: &mut dyn Tx, wanted: &DeviceRecord, cause: &Cause) -> Answer<(), ChildRefusal> {
    let Some(introduced) = waiting(tx, &wanted.id, cause)? else { return Ok(Err(ChildRefusal::Gone)) };
    append(tx, cause, "device.accept", wanted.id.as_str(), &nothing())?;
    tx.put_introduced(&IntroducedRecord { state: IntroducedState::Accepted, ..introduced.clone() })?;
    let device = DeviceRecord { gateway: Some(introduced.gateway), ..wanted.clone() };
    Ok(device::add(tx, &[device], cause)?.map_err(ChildRefusal::Unlisted))
}

/// Refuses a child that waits, for good.
pub fn refuse(tx: &mut dyn Tx, child: &DeviceId, cause: &Cause) -> Answer<(), ChildRefusal> {
    let Some(introduced) = waiting(tx, child, cause)? else { return Ok(Err(ChildRefusal::Gone)) };
    append(tx, cause, "device.refuse", child.as_str(), &nothing())?;
    tx.put_introduced(&IntroducedRecord { state: IntroducedState::Refused, ..introduced })?;
    Ok(Ok(()))
}
