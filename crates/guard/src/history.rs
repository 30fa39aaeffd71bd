//! What happened to each device, kept for the store: of the newest, as much as there is room for.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::DeviceEvent;

use crate::Event;

/// How many wait to be written; a limit on memory. Beyond it the oldest are left out, and counted.
const MOST: usize = 10_000;

/// What waits to be written.
#[derive(Debug, Default)]
pub(crate) struct History(Mutex<Waiting>);

#[derive(Debug, Default)]
struct Waiting {
    events: VecDeque<DeviceEvent>,
    left_out: u64,
}

impl History {
    fn lock(&self) -> std::sync::MutexGuard<'_, Waiting> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes an event, if it is about a device that is known.
    pub(crate) fn note(&self, event: &Event, at: UnixTime) {
        let Some(what) = event.history() else { return };
        // A name that no device can have is that of nobody.
        let Some(Ok(device)) = event.device().map(str::parse::<DeviceId>) else { return };
        let mut waiting = self.lock();
        waiting.events.push_back(DeviceEvent { device, at, what: what.to_owned(), text: event.to_string() });
        waiting.shorten();
    }

    /// Takes up to `most` out, the oldest first.
    pub(crate) fn take(&self, most: usize) -> Vec<DeviceEvent> {
        let mut waiting = self.lock();
        let most = most.min(waiting.events.len());
        waiting.events.drain(..most).collect()
    }

    /// Gives back what could not be written.
    pub(crate) fn give_back(&self, events: Vec<DeviceEvent>) {
        let mut waiting = self.lock();
        events.into_iter().rev().for_each(|event| waiting.events.push_front(event));
        waiting.shorten();
    }

    /// How many were left out since this was asked last.
    pub(crate) fn left_out(&self) -> u64 {
        std::mem::take(&mut self.lock().left_out)
    }
}

impl Waiting {
    fn shorten(&mut self) {
        while self.events.len() > MOST {
            self.events.pop_front();
            self.left_out += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn closed(device: &str) -> Event {
        Event::Closed { device: device.to_owned(), why: "it left".to_owned() }
    }

    #[test]
    fn what_is_about_a_device_waits_in_its_order_and_within_bounds() {
        let history = History::default();
        history.note(&Event::Reloaded, UnixTime(1));
        history.note(&Event::Held { device: "wv-1".into() }, UnixTime(1));
        history.note(&closed("No Device!"), UnixTime(1));
        assert_eq!(history.take(9), [], "of no device, in the record already, of a name that is none");
        for number in 0..5 {
            history.note(&closed("wv-1"), UnixTime(number));
        }
        let first = history.take(3);
        assert_eq!(first.iter().map(|each| each.at.0).collect::<Vec<_>>(), [0, 1, 2]);
        assert_eq!((first[0].what.as_str(), first[0].text.as_str()), ("closed", "closed wv-1: it left"));
        history.give_back(first);
        assert_eq!(history.take(99).iter().map(|each| each.at.0).collect::<Vec<_>>(), [0, 1, 2, 3, 4]);
        let most = i64::try_from(MOST).unwrap();
        (0..most + 7).for_each(|number| history.note(&closed("wv-1"), UnixTime(number)));
        assert_eq!((history.left_out(), history.left_out()), (7, 0));
        assert_eq!(history.take(1)[0].at, UnixTime(7), "the newest stay");
    }
}
