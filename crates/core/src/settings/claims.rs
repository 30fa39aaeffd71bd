//! `[claims]`: what holds for claims of devices of every kind.

use super::key::{Key, Section};
use super::reader::{Reader, Table};
use crate::time::Span;

/// The keys of `[claims]`.
pub(super) const CLAIMS: Section = Section {
    head: "[claims]",
    example: "[claims]",
    about: "How owners claim devices, of whatever kind they are.",
    keys: &[TRIES, OFFER],
};

const TRIES: Key = Key::default(
    "tries",
    "5",
    "a number from 3 to 20",
    "how many wrong codes an owner may give for one id, whether there is such a device or not, until it is opened again; four times as \
     many for all ids within a day, ten times as many from one network",
);
const OFFER: Key = Key::default(
    "offer",
    "\"7d\"",
    "a length of time from \"1h\" to \"90d\"",
    "how long the other owner may take a device that is handed over",
);

/// `[claims]`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClaimSettings {
    /// `tries`: how many wrong codes an owner may give for one id, default 5. It is the same for all kinds: an owner could tell by it
    /// whether there is such a device.
    pub tries: u32,
    /// `offer`: how long the other owner may take a device that is handed over, default a week.
    pub offer: Span,
}

impl Default for ClaimSettings {
    fn default() -> Self {
        Self { tries: 5, offer: Span::from_days(7) }
    }
}

impl Reader<'_> {
    pub(super) fn claims(&mut self, root: &Table<'_>) -> ClaimSettings {
        let default = ClaimSettings::default();
        let Some(table) = self.section(root, "claims", &CLAIMS) else { return default };
        let offer =
            |text: &str| text.parse::<Span>().ok().filter(|span| (3_600..=90 * 86_400).contains(&span.seconds()));
        ClaimSettings {
            tries: self.number(table, &TRIES, 3..=20).unwrap_or(default.tries),
            offer: self.text(table, &OFFER, offer).unwrap_or(default.offer),
        }
    }
}
