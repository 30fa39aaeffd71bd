//! Rotations are driven here, step by step, on a thread of their own: a look at many devices must not hold up revocation lists.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use tidy_warden_store::{JobKind, OperatorStore};
use tidy_warden_ward::problem::Problem;
use tidy_warden_ward::rotation;

use crate::Event;
use crate::state::Desk;

/// How often rotations are looked at at most.
const LOOK: Duration = Duration::from_secs(5);

/// How much longer than a look took is waited until the next.
const REST: u32 = 3;

/// How often a desk that waits sees whether it is to stop.
const WAKE: Duration = Duration::from_millis(250);

/// How many open jobs are looked through: more there cannot be.
const OPEN: usize = 200;

/// Drives all rotations that run until it is told to stop.
pub(crate) fn drive(desk: &Arc<Desk>, mut store: OperatorStore, stop: &AtomicBool) {
    let mut told: Option<String> = None;
    while !stop.load(Ordering::Relaxed) {
        let begun = Instant::now();
        // Nobody is asked by a store that is older than what was seen of it.
        let looked = if desk.is_in_doubt() { Ok(()) } else { look(desk, &mut store) };
        match looked {
            Ok(()) => told = None,
            Err(problem) => {
                // The store may be another one by now, or there again; that it does not answer is told once.
                let _ = store.reopen();
                let what = format!("rotations are not driven: {}", problem.in_one_line());
                if told.as_ref() != Some(&what) {
                    desk.trouble(what.clone());
                    told = Some(what);
                }
            }
        }
        let until = begun.elapsed() * REST + LOOK;
        while begun.elapsed() < until && !stop.load(Ordering::Relaxed) {
            std::thread::sleep(WAKE);
        }
    }
}

fn look(desk: &Desk, store: &mut OperatorStore) -> Result<(), Problem> {
    let open: Vec<u32> =
        store.jobs(true, OPEN)?.into_iter().filter(|job| job.kind == JobKind::Rotate).map(|job| job.number).collect();
    for number in open {
        let done = rotation::drive(store, number, &desk.cause(String::new()))?;
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
