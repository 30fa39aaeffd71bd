//! An instant as both clocks have it, so that what decides by time is handed the time and asks for none.

use std::time::Instant;

use tidy_warden_core::time::{Clock, UnixTime};

/// An instant.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Moment {
    /// By the ward's clock, which can be set.
    pub(crate) time: UnixTime,
    /// By the system's, which only goes on.
    pub(crate) tick: Instant,
}

impl Moment {
    /// This one.
    pub(crate) fn now(clock: &dyn Clock) -> Self {
        Self { time: clock.now(), tick: Instant::now() }
    }
}
