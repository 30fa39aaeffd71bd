//! What ends or falls due, as figures for a monitoring system.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use tidy_warden_core::due::{Happens, What};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::StoreError;
use tidy_warden_ward::due::each;

use crate::state::Desk;

/// How far ahead is looked.
const AHEAD: Span = Span::from_days(30);

/// How often it is counted at most.
const LOOK: Duration = Duration::from_secs(60);

/// How much longer than counting took is waited until it is counted again: a fleet of millions is not read without end.
const REST: u32 = 30;

/// What is due, counted.
#[derive(Debug, Default)]
pub(crate) struct Counted {
    /// How many of each, and the first end.
    pub(crate) due: BTreeMap<(What, Happens), (i64, UnixTime)>,
    /// Of each authority's newest list when it was signed and until when it is good.
    pub(crate) lists: Vec<(String, Option<UnixTime>, Option<UnixTime>)>,
    /// How many callers and children wait for a person.
    pub(crate) waiting: i64,
}

impl Desk {
    /// Counts for as long as it is asked to, now and then.
    pub(crate) async fn count_due(self: std::sync::Arc<Self>) {
        loop {
            let desk = self.clone();
            let begun = Instant::now();
            match tokio::task::spawn_blocking(move || desk.counted()).await {
                Ok(Ok(counted)) => self.metrics.due(&counted),
                // That the store does not answer is told by whoever follows it; figures of before would be taken for true.
                Ok(Err(_)) => self.metrics.due(&Counted::default()),
                Err(_) => return,
            }
            tokio::time::sleep((begun.elapsed() * REST).max(LOOK)).await;
        }
    }

    fn counted(&self) -> Result<Counted, StoreError> {
        let (live, now) = (self.live(), self.now());
        let mut counted = Counted::default();
        self.ask(|reader| {
            counted = Counted::default();
            reader.view(|view| {
                each(view, &live.settings, (now, now.plus(AHEAD)), None, &mut |item| {
                    let (count, first) = counted.due.entry((item.what, item.happens())).or_insert((0, item.ends));
                    *count += 1;
                    *first = item.ends.min(*first);
                    counted.waiting += i64::from(item.what == What::Asking);
                })?;
                let signed =
                    view.authorities()?.into_iter().filter(|each| each.retired.is_none() && each.crl_number > 0);
                counted.lists = signed.map(|each| (each.name.to_string(), each.crl_at, each.crl_until)).collect();
                Ok(())
            })
        })?;
        Ok(counted)
    }
}
