//! Rates: a token bucket for each device and rule, which outlives the device's sessions.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::policy::{Meter, Rate, Rule};

/// Acts that are still free, and when that was true.
#[derive(Debug, Clone, Copy)]
struct Bucket {
    free: f64,
    at: Instant,
}

/// What a rule says names it, wherever it stands; and the child that a gateway acts for.
type RuleKey = (u64, Option<DeviceId>);
type Buckets = Arc<Mutex<HashMap<RuleKey, Bucket>>>;

/// The buckets of all devices that sent something under a rate.
#[derive(Debug, Default)]
pub(crate) struct Rates(Mutex<HashMap<DeviceId, Buckets>>);

impl Rates {
    /// The meter of one device, at `now`.
    pub(crate) fn of(&self, device: &DeviceId, now: Instant) -> DeviceMeter {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        DeviceMeter { buckets: all.entry(device.clone()).or_default().clone(), now }
    }
}

/// Counts the acts of one device, over all its sessions.
#[derive(Debug, Clone)]
pub(crate) struct DeviceMeter {
    buckets: Buckets,
    now: Instant,
}

/// A meter that is told what time it is.
pub(crate) trait Timed: Meter + Send {
    /// It is `now`.
    fn at(&mut self, now: Instant);
}

impl Timed for DeviceMeter {
    fn at(&mut self, now: Instant) {
        self.now = now;
    }
}

impl DeviceMeter {
    fn charge_at(&self, key: RuleKey, rate: Rate, now: Instant) -> bool {
        let mut buckets = self.buckets.lock().unwrap_or_else(PoisonError::into_inner);
        let most = f64::from(rate.count);
        let bucket = buckets.entry(key).or_insert(Bucket { free: most, at: now });
        let passed = now.saturating_duration_since(bucket.at).as_secs_f64();
        bucket.free = (bucket.free + passed * most / f64::from(rate.seconds)).min(most);
        bucket.at = now;
        if bucket.free < 1.0 {
            return false;
        }
        bucket.free -= 1.0;
        true
    }
}

impl Meter for DeviceMeter {
    fn charge(&mut self, rule: &Rule, child: Option<&DeviceId>, rate: Rate) -> bool {
        self.charge_at((rule.at.says, child.cloned()), rate, self.now)
    }
}

#[cfg(test)]
impl Timed for tidy_warden_core::policy::NoMeter {
    fn at(&mut self, _now: Instant) {}
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_bucket_holds_the_count_and_fills_steadily_over_all_sessions() {
        let rates = Rates::default();
        let device: DeviceId = "wv-1".parse().unwrap();
        let rate = Rate { count: 3, seconds: 60 };
        let start = Instant::now();
        let charge =
            |after: u64| rates.of(&device, start).charge_at((1, None), rate, start + Duration::from_secs(after));
        assert_eq!([charge(0), charge(0), charge(0), charge(0)], [true, true, true, false]);
        assert_eq!([charge(19), charge(21), charge(21)], [false, true, false]);
        assert_eq!([charge(600), charge(600), charge(600), charge(600)], [true, true, true, false]);
    }
}
