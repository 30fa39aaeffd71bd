//! Picking devices by a condition, and the yes that acts on many of them want.

use tidy_warden_core::id::DeviceId;
use tidy_warden_store::{DeviceView, Store};

use crate::console::{Console, counted};
use crate::edge::condition;
use crate::problem::Problem;
use crate::ward::Ward;

/// How many devices are named before an act on all of them.
const SAMPLE: usize = 5;

/// Walks the devices for which a condition holds; without one, all.
pub(super) fn each(ward: &Ward, text: Option<&str>, visit: &mut dyn FnMut(DeviceView)) -> Result<(), Problem> {
    match text {
        None => ward.store.each_device(visit)?,
        Some(text) => {
            let condition = condition(text)?;
            let groups = ward.groups()?;
            let mut unknown = None;
            condition.each_group(&mut |group| {
                if !groups.contains_key(group) {
                    unknown = Some(group.clone());
                }
            });
            if let Some(group) = unknown {
                return Err(Problem::not_found(format!("there is no group `{group}`")).next("group list"));
            }
            ward.store.each_device_where(&condition.resolve(&groups), ward.now(), visit)?;
        }
    }
    Ok(())
}

/// The devices for which a condition holds and that are not retired, by id. None is an error: nothing would be done.
pub(super) fn devices(ward: &Ward, text: &str) -> Result<Vec<DeviceView>, Problem> {
    let mut all = Vec::new();
    each(ward, Some(text), &mut |view| {
        if view.device.retired.is_none() {
            all.push(view);
        }
    })?;
    if all.is_empty() {
        return Err(Problem::not_found("there is no such device").because(format!("nothing meets: {text}")));
    }
    all.sort_by(|a, b| a.device.id.cmp(&b.device.id));
    Ok(all)
}

/// Shows how many devices an act is about, and some of them; then wants their number.
pub(super) fn confirm(console: &Console, act: &str, ids: &[DeviceId], given: Option<u64>) -> Result<(), Problem> {
    let sample: Vec<&str> = ids.iter().take(SAMPLE).map(DeviceId::as_str).collect();
    let more = if ids.len() > SAMPLE { ", ..." } else { "" };
    console.note(format!("{act} {}: {}{more}", counted(ids.len(), "device"), sample.join(", ")));
    console.confirm_count(u64::try_from(ids.len()).unwrap_or(u64::MAX), given)
}
