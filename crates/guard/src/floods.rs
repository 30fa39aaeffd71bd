//! Floods: whoever is refused again and again is told of in full a few times, then counted; and a device that goes on is
//! disconnected, and slowed down when it comes back.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use tidy_warden_core::id::DeviceId;
use tidy_warden_serve::source::Source;

use crate::Event;

/// How long refusals are counted together.
const WINDOW: Duration = Duration::from_secs(10);

/// How many are told in full in that time.
const TOLD: u32 = 20;

/// How many parties are counted apart; a limit on memory. Beyond it, those that come anew are counted as one.
const MOST: usize = 10_000;

/// How many acts of one session may be refused within [`WINDOW`] before it is ended.
pub(crate) const MOST_REFUSED: u32 = 500;

/// How long a device waits at the door after its first flood; doubled each time, up to the longest.
const FIRST_WAIT: Duration = Duration::from_secs(2);
const LONGEST_WAIT: Duration = Duration::from_secs(120);

/// After this time without a flood all is forgiven.
const FORGIVEN: Duration = Duration::from_secs(900);

/// Who is refused.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Who {
    Device(String),
    Source(Source),
    Others,
}

#[derive(Debug)]
struct Window {
    began: Instant,
    told: u32,
    more: u64,
}

/// What was told and counted of each party.
#[derive(Debug, Default)]
pub(crate) struct Floods {
    windows: Mutex<HashMap<Who, Window>>,
    slowed: Mutex<HashMap<DeviceId, Slowed>>,
}

#[derive(Debug)]
struct Slowed {
    until: Instant,
    wait: Duration,
}

impl Floods {
    fn windows(&self) -> std::sync::MutexGuard<'_, HashMap<Who, Window>> {
        self.windows.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn slowed(&self) -> std::sync::MutexGuard<'_, HashMap<DeviceId, Slowed>> {
        self.slowed.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether an event is told, or only counted.
    pub(crate) fn tells(&self, event: &Event, now: Instant) -> bool {
        let who = match event {
            Event::Refused { device: Some(device), .. }
            | Event::Withheld { device, .. }
            | Event::ErrandNotAnswered { device, .. } => Who::Device(device.clone()),
            Event::Refused { peer, .. } | Event::TlsRefused { peer, .. } => Who::Source(peer.ip().into()),
            _ => return true,
        };
        let mut windows = self.windows();
        let who = if windows.len() >= MOST && !windows.contains_key(&who) { Who::Others } else { who };
        let window = windows.entry(who).or_insert(Window { began: now, told: 0, more: 0 });
        if window.told < TOLD {
            window.told += 1;
            return true;
        }
        window.more += 1;
        false
    }

    /// What was counted in windows that are over.
    pub(crate) fn summaries(&self, now: Instant) -> Vec<Event> {
        let mut all = Vec::new();
        self.windows().retain(|who, window| {
            let over = now.saturating_duration_since(window.began) >= WINDOW;
            if over && window.more > 0 {
                let (device, source) = match who {
                    Who::Device(device) => (Some(device.clone()), None),
                    Who::Source(source) => (None, Some(source.to_string())),
                    Who::Others => (None, None),
                };
                all.push(Event::RefusedMore { device, source, count: window.more, seconds: WINDOW.as_secs() });
            }
            !over
        });
        all
    }

    /// A session of the device was ended for a flood: it waits before the next. Says how long.
    pub(crate) fn slow(&self, device: &DeviceId, now: Instant) -> Duration {
        let mut slowed = self.slowed();
        slowed.retain(|_, each| now.saturating_duration_since(each.until) < FORGIVEN);
        let wait = slowed.get(device).map_or(FIRST_WAIT, |before| (before.wait * 2).min(LONGEST_WAIT));
        slowed.insert(device.clone(), Slowed { until: now + wait, wait });
        wait
    }

    /// How long a device must wait still, if it must.
    pub(crate) fn waits(&self, device: &DeviceId, now: Instant) -> Option<Duration> {
        self.slowed().get(device).and_then(|each| each.until.checked_duration_since(now)).filter(|left| !left.is_zero())
    }
}

/// The refusals of one session.
#[derive(Debug, Default)]
pub(crate) struct Strikes {
    began: Option<Instant>,
    count: u32,
}

impl Strikes {
    /// Counts one more; says whether that is too many.
    pub(crate) fn add(&mut self, now: Instant) -> bool {
        if self.began.is_none_or(|began| now.saturating_duration_since(began) >= WINDOW) {
            *self = Self { began: Some(now), count: 0 };
        }
        self.count += 1;
        self.count > MOST_REFUSED
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_is_told_a_few_times_and_then_counted() {
        let floods = Floods::default();
        let start = Instant::now();
        let withheld = |device: &str| Event::Withheld { device: device.into(), topic: "a".into() };
        let told = (0..1_000).filter(|_| floods.tells(&withheld("wv-1"), start)).count();
        assert_eq!(told, 20);
        assert!(floods.tells(&withheld("wv-2"), start), "others are told of");
        assert!(floods.tells(&Event::Reloaded, start));
        assert_eq!(floods.summaries(start + Duration::from_secs(9)), []);
        let summaries = floods.summaries(start + Duration::from_secs(10));
        assert!(
            matches!(&summaries[..], [Event::RefusedMore { device: Some(device), count: 980, .. }] if device == "wv-1"),
            "{summaries:?}"
        );
        assert!(floods.tells(&withheld("wv-1"), start + Duration::from_secs(10)), "a new window");
        let stranger = |n: u8| Event::TlsRefused { peer: ([192, 0, 2, n], 9).into(), why: String::new() };
        let told = (0..200).filter(|n| floods.tells(&stranger(*n), start)).count();
        assert_eq!(told, 20, "one network is one party");
    }

    #[test]
    fn who_goes_on_is_ended_and_waits_longer_each_time() {
        let mut strikes = Strikes::default();
        let start = Instant::now();
        assert!((0..MOST_REFUSED).all(|_| !strikes.add(start)));
        assert!(strikes.add(start));
        assert!(!strikes.add(start + WINDOW), "slowly is no flood");
        let floods = Floods::default();
        let device: DeviceId = "wv-1".parse().unwrap();
        assert_eq!(floods.waits(&device, start), None);
        let waits: Vec<u64> = (0..8).map(|_| floods.slow(&device, start).as_secs()).collect();
        assert_eq!(waits, [2, 4, 8, 16, 32, 64, 120, 120]);
        assert!(floods.waits(&device, start + Duration::from_secs(119)).is_some());
        assert!(floods.waits(&device, start + Duration::from_secs(121)).is_none());
        assert_eq!(floods.slow(&device, start + Duration::from_secs(2_000)).as_secs(), 2, "forgiven");
    }
}
