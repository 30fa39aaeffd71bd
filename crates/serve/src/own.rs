//! A server's own certificate: that its end is told of in time.

use std::time::{Duration, Instant};

use tidy_warden_core::time::{Span, UnixTime};

/// How long before its end a server begins to tell of its own certificate. It is renewed long before that, where anything renews it.
const WARNING: Span = Span::from_days(30);

/// How often that is told.
const TELL_AGAIN: Duration = Duration::from_secs(24 * 3600);

/// Tells of a certificate that ends soon, now and then.
#[derive(Debug, Default)]
pub struct EndWatch {
    told: Option<Instant>,
}

impl EndWatch {
    /// What is to be told now of the certificate of the server `name`, which ends at `ends`.
    pub fn look(&mut self, name: &str, ends: UnixTime, now: UnixTime) -> Option<String> {
        if ends >= now.plus(WARNING) {
            self.told = None;
            return None;
        }
        if self.told.is_some_and(|told| told.elapsed() < TELL_AGAIN) {
            return None;
        }
        self.told = Some(Instant::now());
        let left = if ends < now { "has ended" } else { "ends soon" };
        Some(format!(
            "its own certificate {left}, at {ends}: post renew {name}, or a desk that runs with renew_servers = true"
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_end_that_is_near_is_told_of_once_and_again_after_another_certificate() {
        let (mut watch, now) = (EndWatch::default(), UnixTime(1_800_000_000));
        let day = |days: i64| UnixTime(now.0 + days * 86_400);
        assert_eq!(watch.look("guard", day(31), now), None);
        let told = watch.look("guard", day(29), now).unwrap();
        assert!(told.contains("ends soon, at 2027-") && told.contains("post renew guard"), "{told}");
        assert_eq!(watch.look("guard", day(28), now), None, "not at each look");
        assert_eq!(watch.look("guard", day(700), now), None);
        assert!(watch.look("guard", day(-1), now).unwrap().contains("has ended"));
    }
}
