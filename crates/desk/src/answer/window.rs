//! A device opens itself to be claimed, with its certificate.

use std::sync::PoisonError;
use std::time::{Duration, Instant};

use hyper::StatusCode;
use tidy_warden_core::claim::Window;
use tidy_warden_core::random;
use tidy_warden_store::acts::claim;
use tidy_warden_ward::clock::SystemRandom;

use super::{Caller, Refusal, Said};
use crate::Event;
use crate::state::{Desk, Live};

/// How often a device may open itself within how long; its code costs some milliseconds.
const OPENED: u32 = 10;
const WITHIN: Duration = Duration::from_secs(60);

impl Desk {
    pub(super) fn open_window(&self, live: &Live, caller: &Caller, body: &[u8]) -> Result<Said, Refusal> {
        let (device, _) = self.signed_in(live, caller)?;
        let id = &device.id;
        let told = |status, words: String| Refusal::told(status, words).about(id);
        let longest = live.settings.kinds.get(&device.kind).and_then(|kind| kind.claim_window);
        let window =
            Window::read(body, longest).map_err(|bad| told(StatusCode::UNPROCESSABLE_ENTITY, bad.to_string()))?;
        self.windows.take(id, OPENED, WITHIN, Instant::now()).map_err(|wait| {
            let said =
                Said::later(StatusCode::TOO_MANY_REQUESTS, "this device opens itself too often", wait.as_secs() + 1);
            Refusal { said: Box::new(said), because: "it opens itself too often".to_owned(), device: Some(id.clone()) }
        })?;
        let Some(store) = &self.owners else { return Err(Refusal::doubt("this desk is at a post")) };
        let opened = window.opened(id, random::bytes(&mut SystemRandom), self.now());
        let cause = self.cause("opened by the device itself".to_owned());
        let done = store
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .decide(|tx| claim::open(tx, std::slice::from_ref(&opened), &cause))?;
        done.map_err(|_| told(StatusCode::CONFLICT, "it has an owner, or may not be here".to_owned()))?;
        self.emit(Event::ClaimWindow { device: id.to_string(), ends: opened.ends.to_string(), peer: caller.peer });
        let said = serde_json::json!({ "ends": opened.ends });
        Ok(Said::of("application/json", said.to_string() + "\n"))
    }
}
