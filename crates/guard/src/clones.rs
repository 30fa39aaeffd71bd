//! Signs that somebody else has a device's key: the device comes from two addresses in turn.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use tidy_warden_core::id::DeviceId;

/// A device that comes back to an address within this time of leaving it is in two places. One that moves, or whose
/// provider gives it another address now and then, does not come back so soon.
const WINDOW: Duration = Duration::from_secs(900);

/// How many devices are followed; a limit on memory. Beyond it all is forgotten once.
const MOST: usize = 200_000;

/// Where a device was, and where it had been before that.
#[derive(Debug, Clone, Copy)]
struct Places {
    last: IpAddr,
    before: Option<(IpAddr, Instant)>,
}

/// Where devices came from.
#[derive(Debug, Default)]
pub(crate) struct Clones(Mutex<HashMap<DeviceId, Places>>);

/// The part of an address that stays when a host only changes its temporary one: of IPv6 the first 64 bits (RFC 8981).
pub(crate) fn network(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V4(_) => address,
        IpAddr::V6(v6) => match v6.to_ipv4_mapped() {
            Some(v4) => IpAddr::V4(v4),
            None => IpAddr::V6((u128::from(v6) >> 64 << 64).into()),
        },
    }
}

impl Clones {
    /// Notes where a device comes from; gives a sign, in words, if it is in two places.
    pub(crate) fn note(&self, device: &DeviceId, from: IpAddr, now: Instant) -> Option<String> {
        let here = network(from);
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MOST && !all.contains_key(device) {
            all.clear();
        }
        let places = all.entry(device.clone()).or_insert(Places { last: here, before: None });
        if places.last == here {
            return None;
        }
        let left = std::mem::replace(&mut places.last, here);
        let before = places.before.replace((left, now));
        let back = before.is_some_and(|(address, since)| address == here && now.duration_since(since) <= WINDOW);
        back.then(|| format!("it comes from {here} and from {left} in turn"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn coming_back_soon_is_a_sign_and_moving_is_none() {
        let clones = Clones::default();
        let device: DeviceId = "wv-1".parse().unwrap();
        let start = Instant::now();
        let from = |address: &str, minutes: u64| {
            clones.note(&device, address.parse().unwrap(), start + Duration::from_secs(60 * minutes)).is_some()
        };
        assert_eq!([from("10.0.0.1", 0), from("10.0.0.1", 1), from("10.0.0.2", 2)], [false; 3], "it moved");
        assert!(from("10.0.0.1", 3), "and came back");
        assert!(from("10.0.0.2", 4) && from("10.0.0.1", 5), "again and again");
        assert!(!from("10.0.0.2", 60), "long after");
        assert!(!from("10.0.0.3", 61) && !from("10.0.0.4", 62), "on the road");
        assert!(!from("2001:db8::1", 63) && !from("2001:db8::2", 64), "another temporary address");
        assert!(from("10.0.0.4", 65));
        assert!(!from("::ffff:10.0.0.4", 66), "the same address in other words");
        assert!(clones.note(&"wv-2".parse().unwrap(), "10.0.0.9".parse().unwrap(), start).is_none());
    }
}
