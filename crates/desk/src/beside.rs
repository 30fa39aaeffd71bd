//! Work that is done beside answering, each on a thread of its own: a look at many devices must not hold up revocation lists.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use tidy_warden_store::OperatorStore;
use tidy_warden_ward::problem::Problem;

use crate::state::{Desk, DeskError};

/// How much longer than a look took is waited until the next.
const REST: u32 = 3;

/// How often a thread that waits sees whether it is to stop.
const WAKE: Duration = Duration::from_millis(250);

/// Something that is done seldom: the more it takes, the more so. A walk over a fleet takes no more than a twentieth of the time.
#[derive(Debug, Default)]
pub(crate) struct Seldom {
    last: Option<Instant>,
    took: Duration,
}

impl Seldom {
    /// Whether it is time again, after `pause` at the least; notes that it is done now.
    pub(crate) fn is_time(&mut self, pause: Duration) -> bool {
        let is_time = self.last.is_none_or(|last| last.elapsed() >= pause.max(self.took * 20));
        if is_time {
            self.last = Some(Instant::now());
        }
        is_time
    }

    /// Notes how long it took.
    pub(crate) fn took(&mut self, time: Duration) {
        self.took = time;
    }
}

/// A look at what there is to do.
type Look = dyn FnMut(&Desk, &mut OperatorStore) -> Result<(), Problem> + Send;

/// Threads that work beside, until they are told to stop.
#[derive(Default)]
pub(crate) struct Beside {
    stop: Arc<AtomicBool>,
    threads: Vec<JoinHandle<()>>,
}

impl Beside {
    /// Looks again and again, every `pause` at the most; `what` says in words what is not done while that fails. Without a store there is
    /// nothing to do.
    ///
    /// # Errors
    /// There is no thread to be had.
    pub(crate) fn start(
        &mut self,
        (name, what): (&str, &'static str),
        desk: &Arc<Desk>,
        store: Option<OperatorStore>,
        pause: Duration,
        look: Box<Look>,
    ) -> Result<(), DeskError> {
        let Some(store) = store else { return Ok(()) };
        let (desk, stop) = (desk.clone(), self.stop.clone());
        let run = move || again_and_again(&desk, store, (what, pause), &stop, look);
        self.threads.push(std::thread::Builder::new().name(name.to_owned()).spawn(run).map_err(DeskError::Thread)?);
        Ok(())
    }

    /// Tells all of them to stop, and waits until they have.
    pub(crate) fn stop(self) {
        self.stop.store(true, Ordering::Relaxed);
        self.threads.into_iter().for_each(|thread| drop(thread.join()));
    }
}

fn again_and_again(
    desk: &Desk,
    mut store: OperatorStore,
    (what, pause): (&str, Duration),
    stop: &AtomicBool,
    mut look: Box<Look>,
) {
    let mut told: Option<String> = None;
    while !stop.load(Ordering::Relaxed) {
        let begun = Instant::now();
        // Nothing is done by a store that is older than what was seen of it.
        let looked = if desk.is_in_doubt() { Ok(()) } else { look(desk, &mut store) };
        match looked {
            Ok(()) => told = None,
            Err(problem) => {
                // The store may be another one by now, or there again; that it does not answer is told once.
                let _ = store.reopen();
                let what = format!("{what}: {}", problem.in_one_line());
                if told.as_ref() != Some(&what) {
                    desk.trouble(what.clone());
                    told = Some(what);
                }
            }
        }
        let until = begun.elapsed() * REST + pause;
        while begun.elapsed() < until && !stop.load(Ordering::Relaxed) {
            std::thread::sleep(WAKE.min(pause));
        }
    }
}
