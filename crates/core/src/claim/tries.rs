//! Wrong tries: who is not heard any more.

use crate::time::{Span, UnixTime};

/// What tries are counted by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Scope {
    /// An owner and an id, whether there is such a device or not: not heard until the device is opened again, or the owner is let off.
    Pair,
    /// An owner.
    Owner,
    /// An IPv4 /24 or IPv6 /64 that requests come from.
    Source,
    /// An id, whether there is such a device or not. It never locks anybody out who did not guess at it before.
    Device,
}

impl Scope {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Pair, Self::Owner, Self::Source, Self::Device];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Pair => "pair",
            Self::Owner => "owner",
            Self::Source => "source",
            Self::Device => "device",
        }
    }

    /// How many wrong tries there may be, if `tries` may be made by one owner at one id.
    fn most(self, tries: u32) -> u32 {
        match self {
            Self::Pair => tries,
            Self::Owner => tries.saturating_mul(4),
            Self::Source | Self::Device => tries.saturating_mul(10),
        }
    }

    /// How long after the last one they are forgotten.
    fn remembered(self) -> Option<Span> {
        match self {
            Self::Pair => None,
            Self::Owner | Self::Source => Some(Span::from_days(1)),
            Self::Device => Some(Span::from_seconds(3_600)),
        }
    }
}

/// How long any are kept: a pair that was last tried so long ago is let off.
pub const KEPT: Span = Span::from_days(90);

/// Wrong tries of one scope and name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tries {
    /// How many.
    pub count: u32,
    /// The first.
    pub since: UnixTime,
    /// The last.
    pub last: UnixTime,
}

impl Tries {
    /// Whether they are forgotten at `now`.
    #[must_use]
    pub fn is_over(&self, scope: Scope, now: UnixTime) -> bool {
        now.since(self.last) > scope.remembered().unwrap_or(KEPT).seconds()
    }

    /// Whether no more is heard at `now`, if `tries` may be made by one owner at one id.
    #[must_use]
    pub fn is_locked(&self, scope: Scope, tries: u32, now: UnixTime) -> bool {
        !self.is_over(scope, now) && self.count >= scope.most(tries)
    }

    /// One more than `before`.
    #[must_use]
    pub fn after(before: Option<Self>, scope: Scope, now: UnixTime) -> Self {
        match before.filter(|before| !before.is_over(scope, now)) {
            // The clock may have been put back: what was last stays last.
            Some(Self { count, since, last }) => Self { count: count.saturating_add(1), since, last: last.max(now) },
            None => Self { count: 1, since: now, last: now },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_scope_locks_after_its_number_and_forgets_after_its_time() {
        for (scope, most, forgotten) in [
            (Scope::Pair, 5, KEPT.seconds()),
            (Scope::Owner, 20, 86_400),
            (Scope::Source, 50, 86_400),
            (Scope::Device, 50, 3_600),
        ] {
            let mut tries = None;
            for count in 1..=most {
                assert!(
                    !tries.is_some_and(|tries: Tries| tries.is_locked(scope, 5, UnixTime(100))),
                    "{scope:?} {count}"
                );
                tries = Some(Tries::after(tries, scope, UnixTime(100)));
            }
            let tries = tries.unwrap();
            assert!(tries.is_locked(scope, 5, UnixTime(100)) && tries.is_locked(scope, 5, UnixTime(50)), "{scope:?}");
            assert!(tries.is_locked(scope, 5, UnixTime(100 + forgotten)), "{scope:?}");
            assert!(!tries.is_locked(scope, 5, UnixTime(101 + forgotten)), "{scope:?}");
            assert_eq!(Tries::after(Some(tries), scope, UnixTime(101 + forgotten)).count, 1, "{scope:?}");
            assert_eq!(Tries::after(Some(tries), scope, UnixTime(50)).last, UnixTime(100), "a clock that was put back");
        }
    }
}
