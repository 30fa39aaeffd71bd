//! The ward's clock: the system's, or for a rehearsal one that is set.

use std::path::PathBuf;
use std::time::{Duration, SystemTime};

use tidy_warden_core::random::Randomness;
use tidy_warden_core::time::{Clock, UnixTime};

use crate::problem::Problem;

/// The variable that sets a rehearsal's clock: a time, or `@FILE` with one, read again at each look.
pub const VARIABLE: &str = "TIDY_WARDEN_NOW";

/// A clock.
#[derive(Debug, Clone)]
pub enum WardClock {
    /// The system's.
    System,
    /// Stands still.
    Fixed(UnixTime),
    /// Stands where a file says; where the file cannot be read, at its last reading.
    File(PathBuf, UnixTime),
}

impl WardClock {
    /// The clock of a ward.
    ///
    /// # Errors
    /// The variable is set for a real ward, or does not hold a time.
    pub fn of(rehearsal: bool) -> Result<Self, Problem> {
        let Some(text) = std::env::var_os(VARIABLE) else { return Ok(Self::System) };
        let text = text.to_string_lossy().into_owned();
        if !rehearsal {
            return Err(Problem::usage(format!("{VARIABLE} is set, and this is a real ward"))
                .because("only a ward made with `init --rehearsal` takes its clock from there")
                .next(format!("unset {VARIABLE}")));
        }
        let bad = |error: &dyn std::fmt::Display| Problem::usage(format!("{VARIABLE} cannot be used")).because(error);
        match text.strip_prefix('@') {
            None => text.parse().map(Self::Fixed).map_err(|error| bad(&error)),
            Some(path) => {
                let path = PathBuf::from(path);
                let now = read(&path).map_err(|error| bad(&error))?;
                Ok(Self::File(path, now))
            }
        }
    }
}

fn read(path: &std::path::Path) -> Result<UnixTime, String> {
    let text = std::fs::read_to_string(path).map_err(|error| format!("{}: {error}", path.display()))?;
    text.parse().map_err(|error: tidy_warden_core::time::BadTime| error.to_string())
}

impl Clock for WardClock {
    fn now(&self) -> UnixTime {
        match self {
            Self::System => {
                let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or(Duration::ZERO);
                UnixTime(i64::try_from(since.as_secs()).unwrap_or(i64::MAX))
            }
            Self::Fixed(now) => *now,
            Self::File(path, last) => read(path).unwrap_or(*last),
        }
    }
}

/// Random bytes from the operating system, through the crypto library.
#[derive(Debug, Clone, Copy)]
pub struct SystemRandom;

impl Randomness for SystemRandom {
    fn fill(&mut self, bytes: &mut [u8]) {
        if aws_lc_rs::rand::fill(bytes).is_err() {
            // Going on with predictable bytes would be worse than stopping.
            unreachable!("the operating system has no randomness");
        }
    }
}
