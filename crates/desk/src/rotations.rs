//! Rotations are driven here, step by step.

use std::time::Duration;

use tidy_warden_store::{JobKind, OperatorStore};
use tidy_warden_ward::errand::Asks;
use tidy_warden_ward::problem::Problem;
use tidy_warden_ward::rotation;

use crate::Event;
use crate::state::Desk;

/// How often rotations are looked at at most.
pub(crate) const LOOK: Duration = Duration::from_secs(5);

/// How many open jobs are looked through: more there cannot be.
const OPEN: usize = 200;

/// Drives all rotations that run.
pub(crate) fn look(desk: &Desk, store: &mut OperatorStore) -> Result<(), Problem> {
    let live = desk.live();
    let asks = Asks::new(&live.settings, live.errands.as_deref(), live.data_key.as_ref().ok().and_then(Option::as_ref));
    let open: Vec<u32> =
        store.jobs(true, OPEN)?.into_iter().filter(|job| job.kind == JobKind::Rotate).map(|job| job.number).collect();
    for number in open {
        let done = rotation::drive(store, number, &asks, &desk.cause(String::new()))?;
        if done.asked == 0 && !done.is_news {
            continue;
        }
        let Some(rotation) = rotation::numbered(&**store, number)? else { continue };
        desk.emit(Event::Rotation {
            rotation: rotation.plan.name.clone(),
            state: rotation.state().as_str(),
            round: rotation.position.progress.round + 1,
            asked: done.asked,
            because: rotation.position.progress.why.clone(),
        });
    }
    Ok(())
}
