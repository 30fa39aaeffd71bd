//! What passes, counted: for each device, to be kept in the store, and for the whole guard.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::Traffic;

/// Messages that one session passed since it was last asked.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Passed {
    pub(crate) messages_in: u64,
    pub(crate) octets_in: u64,
    pub(crate) messages_out: u64,
    pub(crate) octets_out: u64,
}

/// The counters of one device, shared by its sessions.
#[derive(Debug, Default)]
pub(crate) struct Tally {
    messages_in: AtomicU64,
    octets_in: AtomicU64,
    messages_out: AtomicU64,
    octets_out: AtomicU64,
    refused: Mutex<(u64, Option<(UnixTime, String)>)>,
}

impl Tally {
    pub(crate) fn add(&self, passed: Passed) {
        for (counter, count) in [
            (&self.messages_in, passed.messages_in),
            (&self.octets_in, passed.octets_in),
            (&self.messages_out, passed.messages_out),
            (&self.octets_out, passed.octets_out),
        ] {
            if count > 0 {
                counter.fetch_add(count, Ordering::Relaxed);
            }
        }
    }

    pub(crate) fn refused(&self, at: UnixTime, what: String) {
        let mut refused = self.refused.lock().unwrap_or_else(PoisonError::into_inner);
        refused.0 += 1;
        refused.1 = Some((at, what));
    }

    /// Takes what was counted; `None` if nothing was.
    fn take(&self) -> Option<Traffic> {
        let take = |counter: &AtomicU64| counter.swap(0, Ordering::Relaxed);
        let (refusals, refused) = std::mem::take(&mut *self.refused.lock().unwrap_or_else(PoisonError::into_inner));
        let traffic = Traffic {
            messages_in: take(&self.messages_in),
            octets_in: take(&self.octets_in),
            messages_out: take(&self.messages_out),
            octets_out: take(&self.octets_out),
            refusals,
            refused,
        };
        (traffic != Traffic::default()).then_some(traffic)
    }

    /// Gives back what could not be written; a refusal that came meanwhile is the later one.
    fn give_back(&self, traffic: Traffic) {
        let Traffic { messages_in, octets_in, messages_out, octets_out, refusals, refused } = traffic;
        self.add(Passed { messages_in, octets_in, messages_out, octets_out });
        let mut now = self.refused.lock().unwrap_or_else(PoisonError::into_inner);
        now.0 += refusals;
        if now.1.is_none() {
            now.1 = refused;
        }
    }
}

/// The counters of all devices that were met and not yet written.
#[derive(Debug, Default)]
pub(crate) struct Tallies(Mutex<Round>);

/// All counters, and whose turn it is: where more devices are busy than are written at once, each has its turn.
#[derive(Debug, Default)]
struct Round {
    all: BTreeMap<DeviceId, Arc<Tally>>,
    next: Option<DeviceId>,
}

impl Tallies {
    fn lock(&self) -> std::sync::MutexGuard<'_, Round> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The counters of one device.
    pub(crate) fn of(&self, device: &DeviceId) -> Arc<Tally> {
        self.lock().all.entry(device.clone()).or_default().clone()
    }

    /// Takes what was counted of up to `most` devices. Counters that nobody holds any more are forgotten.
    pub(crate) fn take(&self, most: usize) -> Vec<(DeviceId, Traffic)> {
        let mut taken = Vec::new();
        let mut left = Vec::new();
        let mut round = self.lock();
        let first = round.next.take();
        let (from, rest) = match &first {
            Some(first) => (round.all.range::<DeviceId, _>(first..), Some(round.all.range::<DeviceId, _>(..first))),
            None => (round.all.range::<DeviceId, _>(..), None),
        };
        let turns = from.chain(rest.into_iter().flatten());
        let mut next = None;
        for (device, tally) in turns {
            if taken.len() >= most {
                next = Some(device.clone());
                break;
            }
            taken.extend(tally.take().map(|traffic| (device.clone(), traffic)));
            if Arc::strong_count(tally) == 1 {
                left.push(device.clone());
            }
        }
        round.next = next;
        for device in left {
            round.all.remove(&device);
        }
        taken
    }

    pub(crate) fn give_back(&self, counted: Vec<(DeviceId, Traffic)>) {
        for (device, traffic) in counted {
            self.of(&device).give_back(traffic);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_are_taken_in_part_given_back_and_forgotten_with_their_sessions() {
        let tallies = Tallies::default();
        let devices: Vec<DeviceId> = ["wv-1", "wv-2", "wv-3"].map(|id| id.parse().unwrap()).into();
        let held: Vec<_> = devices.iter().map(|device| tallies.of(device)).collect();
        assert_eq!(tallies.take(10), [], "nothing was counted");
        assert_eq!(tallies.lock().all.len(), 3, "their sessions live");
        for tally in &held {
            tally.add(Passed { messages_in: 1, octets_in: 5, ..Passed::default() });
        }
        held[0].refused(UnixTime(7), "old".into());
        let mut first = tallies.take(2);
        assert_eq!((first.len(), tallies.take(10).len(), tallies.take(10).len()), (2, 1, 0));
        first.retain(|(device, _)| *device == devices[0]);
        held[0].refused(UnixTime(8), "new".into());
        held[0].add(Passed { messages_in: 1, ..Passed::default() });
        tallies.give_back(first.clone());
        let again = tallies.take(10);
        assert_eq!(again.len(), 1);
        let traffic = &again[0].1;
        assert_eq!((traffic.messages_in, traffic.refusals), (1 + first[0].1.messages_in, 1 + first[0].1.refusals));
        assert_eq!(traffic.refused, Some((UnixTime(8), "new".into())));
        held[1].add(Passed { octets_out: 3, ..Passed::default() });
        drop(held);
        assert_eq!(tallies.take(10).len(), 1, "what a session counted last is not lost");
        assert_eq!(tallies.lock().all.len(), 0);
    }

    #[test]
    fn where_more_are_busy_than_are_written_at_once_each_has_its_turn() {
        let tallies = Tallies::default();
        let devices: Vec<DeviceId> = (1..=5).map(|at| format!("wv-{at}").parse().unwrap()).collect();
        let held: Vec<_> = devices.iter().map(|device| tallies.of(device)).collect();
        let mut turns = Vec::new();
        for _ in 0..5 {
            for tally in &held {
                tally.add(Passed { messages_in: 1, ..Passed::default() });
            }
            turns.extend(tallies.take(2).into_iter().map(|(device, _)| device.to_string()));
        }
        let twice = ["wv-1", "wv-2", "wv-3", "wv-4", "wv-5"].repeat(2);
        assert_eq!(turns, twice);
    }
}
