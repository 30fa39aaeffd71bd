//! Reflexes are at work here: what guards noticed is looked at, and what the settings want is done.

use std::time::{Duration, Instant};

use tidy_warden_store::OperatorStore;
use tidy_warden_ward::problem::Problem;
use tidy_warden_ward::reflex;

use crate::Event;
use crate::state::Desk;

/// How often is looked.
pub(crate) const LOOK: Duration = Duration::from_secs(1);

/// How often what was noticed long ago is forgotten.
const FORGET: Duration = Duration::from_secs(600);

/// Where the work is.
#[derive(Default)]
pub(crate) struct Work {
    forgot: Option<Instant>,
}

impl Work {
    /// Does what there is to do.
    pub(crate) fn look(&mut self, desk: &Desk, store: &mut OperatorStore) -> Result<(), Problem> {
        let live = desk.live();
        let all = live.settings.reflexes.iter().map(|(name, reflex)| (name.as_str(), reflex));
        for acted in reflex::look(store, all, live.errands.as_deref(), &desk.cause(String::new()))? {
            for (device, evidence) in acted.done.acted {
                desk.emit(Event::Reflex {
                    reflex: acted.reflex.clone(),
                    device: device.to_string(),
                    act: acted.then.as_str(),
                    evidence,
                });
            }
            if let Some(because) = acted.done.stopped {
                desk.emit(Event::ReflexStopped { reflex: acted.reflex, because });
            }
        }
        if self.forgot.is_none_or(|last| last.elapsed() >= FORGET) {
            self.forgot = Some(Instant::now());
            reflex::forget(store, desk.now())?;
        }
        Ok(())
    }
}
