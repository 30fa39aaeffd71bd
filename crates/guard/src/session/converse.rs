//! Passing messages until the session ends, and looking again whenever something changed.

use tidy_warden_core::policy::Denial;
use tokio::io::{AsyncRead, AsyncWrite};

use super::admit::NOT_TRUSTED;
use super::ending::Ending;
use super::{Admission, Conversing};
use crate::gate::{Given, Output};
use crate::moment::Moment;
use crate::shared::Shared;

impl<S: AsyncRead + AsyncWrite + Unpin + Send> Conversing<S> {
    /// Relays until the session ends.
    pub(super) async fn converse(&mut self) -> Ending {
        loop {
            let Self { shared, relay, admission, .. } = self;
            let emit = |event| shared.emit(event);
            let attention = async {
                // The sender lives in the registry as long as this session is registered.
                let _ = admission.registered.control.changed().await;
            };
            if let Some(stop) = relay.run(attention, &emit).await {
                return self.stopped(stop).await;
            }
            if admission.registered.control.borrow_and_update().stop {
                return self.guard_stops();
            }
            match admission.look_again(shared, false).await {
                Ok(given) => {
                    let mut out = Output::default();
                    let manner = shared.live().manner(&admission.device.kind);
                    let now = Moment::now(&*shared.clock);
                    relay.gate.set_given(now, given, manner, &mut out);
                    // Only after the look: who may not be here any more gets none.
                    for errand in admission.registered.errands() {
                        relay.gate.hand(now, &errand, &mut out);
                    }
                    relay.deliver(out, &emit);
                }
                Err(why) => return self.cut(why),
            }
        }
    }
}

impl Admission {
    /// Checks state, clock and edition anew; a session that may no longer be gets the reason. The store is asked if `ask` is set,
    /// if the follower wants it so, or if the settings are other ones; else what the follower read counts.
    pub(super) async fn look_again(&mut self, shared: &Shared, ask: bool) -> Result<Given, String> {
        let live = shared.live();
        let control = *self.registered.control.borrow();
        let mut changes = None;
        let verdict = match self.registered.verdict() {
            Some(verdict) if !ask => Some(verdict),
            _ if ask || control.ask != self.asked || live.generation != self.generation => {
                let asked = shared.knowledge.admit(&self.credential, &live.settings, None).await;
                Some(asked.map(|(admitted, told)| {
                    changes = told;
                    admitted
                }))
            }
            _ => None,
        };
        self.asked = control.ask;
        match verdict {
            Some(Ok(admitted)) if admitted.device.passed != self.device.passed => {
                return Err("it went from its owner".to_owned());
            }
            Some(Ok(admitted)) => {
                self.registered.ends(admitted.ends);
                self.ends = admitted.ends;
                self.device = admitted.device;
            }
            // What is known of this session stays true until the store tells otherwise, or for as long as the settings say.
            Some(Err(error)) if error.is_doubt() => self.registered.stale(),
            Some(Err(other)) => return Err(other.to_string()),
            None => {}
        }
        if shared.knowledge.now() > self.ends {
            return Err(format!("its credential ended at {}", self.ends));
        }
        if let Some(why) = shared.knowledge.exhausted(&live.settings) {
            return Err(why);
        }
        let trust = shared.trust.now();
        if trust.generation != self.trusted {
            if self.leaf.as_ref().is_some_and(|leaf| !trust.takes(leaf, shared.knowledge.now())) {
                return Err(NOT_TRUSTED.to_owned());
            }
            self.trusted = trust.generation;
        }
        self.generation = live.generation;
        let given = shared
            .given(&self.device, &self.credential, changes.as_ref())
            .await
            .ok_or_else(|| Denial::NoEdition.to_string())?;
        given.rights.connect(&self.client_id).map_err(|denial| denial.to_string())?;
        Ok(given)
    }
}
