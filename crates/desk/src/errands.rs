//! What devices answered is looked at here, those whose time to renew has come are asked to or sent their next keys, and what ended long ago is forgotten.

use std::time::{Duration, Instant};

use tidy_warden_store::OperatorStore;
use tidy_warden_ward::errand::{Settling, Walk, ask_due, forget, settle};
use tidy_warden_ward::problem::Problem;
use tidy_warden_ward::rekey::{KeySender, send_due};

use crate::Event;
use crate::beside::Seldom;
use crate::state::Desk;

/// How often answers are looked for.
pub(crate) const LOOK: Duration = Duration::from_millis(500);

/// How often devices are looked at whose time to renew may have come, and how often what is to be forgotten.
const ASK: Duration = Duration::from_secs(5);
const FORGET: Duration = Duration::from_secs(600);

/// Where the work is.
#[derive(Default)]
pub(crate) struct Work {
    asks: Seldom,
    forgets: Seldom,
    walk: Walk,
    sends: Seldom,
    sent: Walk,
}

impl Work {
    /// Does what there is to do.
    pub(crate) fn look(&mut self, desk: &Desk, store: &mut OperatorStore) -> Result<(), Problem> {
        let live = desk.live();
        let signs = live.errands.as_deref().map(|signer| Settling { mint: &live.mint, signer });
        for settled in settle(store, signs.as_ref(), &desk.cause(String::new()))? {
            desk.emit(Event::Errand {
                device: settled.device.to_string(),
                errand: settled.number,
                purpose: settled.purpose.to_string(),
                state: settled.ended.state.as_str(),
                serial: settled.serial.map(|serial| serial.to_string()),
                because: settled.ended.outcome.filter(|_| settled.ended.state != tidy_warden_core::errand::State::Done),
            });
        }
        if let Some(why) = &live.errands_closed
            && !store.answered_errands(1)?.is_empty()
        {
            return Err(Problem::failed("the key that signs errands is not open").because(why));
        }
        if let Some(signer) = live.errands.as_deref()
            && self.asks.is_time(ASK)
        {
            let begun = Instant::now();
            let kinds: Vec<_> = live.settings.kinds.iter().collect();
            let asked = ask_due(store, &kinds, signer, &mut self.walk, &desk.cause(String::new()))?;
            self.asks.took(begun.elapsed());
            if asked > 0 {
                desk.emit(Event::AskedToRenew { count: asked });
            }
        }
        if let (Some(signer), Ok(Some(data))) = (live.errands.as_deref(), &live.data_key)
            && self.sends.is_time(ASK)
        {
            let begun = Instant::now();
            let sender = KeySender { data, signer, settings: &live.settings };
            let sent = send_due(store, &sender, &mut self.sent, &desk.cause(String::new()))?;
            self.sends.took(begun.elapsed());
            if sent > 0 {
                desk.emit(Event::SentKeys { count: sent });
            }
        }
        if self.forgets.is_time(FORGET) {
            forget(store, desk.now())?;
        }
        if let Err(why) = &live.data_key {
            return Err(
                Problem::failed("what opens the keys that devices share with the ward is not open").because(why)
            );
        }
        Ok(())
    }
}
