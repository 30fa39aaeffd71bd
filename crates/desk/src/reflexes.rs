//! Reflexes are at work here: what guards noticed is looked at, and what the settings want is done.

use std::time::{Duration, Instant};

use tidy_warden_store::OperatorStore;
use tidy_warden_ward::problem::Problem;
use tidy_warden_ward::reflex;

use crate::Event;
use crate::beside::Seldom;
use crate::state::Desk;

/// How often is looked.
pub(crate) const LOOK: Duration = Duration::from_secs(1);

/// How often the fleet is looked at for those that go by the record.
const WALK: Duration = Duration::from_secs(5);

/// How often what was noticed long ago is forgotten.
const FORGET: Duration = Duration::from_secs(600);

/// Where the work is.
#[derive(Default)]
pub(crate) struct Work {
    walks: Seldom,
    forgets: Seldom,
}

impl Work {
    /// Does what there is to do.
    pub(crate) fn look(&mut self, desk: &Desk, store: &mut OperatorStore) -> Result<(), Problem> {
        let live = desk.live();
        // Those that go by the record walk over the fleet.
        let walks = self.walks.is_time(WALK);
        let all = live.settings.reflexes.iter().filter(|(_, reflex)| walks || reflex.when.noticed().is_some());
        let all = all.map(|(name, reflex)| (name.as_str(), reflex));
        let begun = Instant::now();
        for acted in reflex::look(store, all, live.errands.as_deref(), &desk.cause(String::new()))? {
            for (device, evidence) in acted.done.acted {
                desk.emit(Event::Reflex {
                    reflex: acted.reflex.clone(),
                    device: device.to_string(),
                    act: acted.then.as_str(),
                    evidence,
                });
            }
            if acted.done.left > 0 {
                desk.emit(Event::ReflexLeft { reflex: acted.reflex.clone(), count: acted.done.left });
            }
            if let Some(because) = acted.done.stopped {
                desk.emit(Event::ReflexStopped { reflex: acted.reflex, because });
            }
        }
        if walks {
            self.walks.took(begun.elapsed());
        }
        if self.forgets.is_time(FORGET) {
            reflex::forget(store, desk.now())?;
        }
        Ok(())
    }
}
