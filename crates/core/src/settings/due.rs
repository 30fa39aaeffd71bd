//! `[due]`: when `due` asks for a person where nothing in the standards names an end.

use super::key::{Key, Section};
use super::reader::{Reader, Table};
use crate::time::Span;

/// The keys of `[due]`.
pub(super) const DUE: Section = Section {
    head: "[due]",
    example: "[due]",
    about: "When `due` asks for a person about what has no end of its own.",
    keys: &[HOLD_REVIEW, TOKEN_SIGNER_LIFE],
};

const HOLD_REVIEW: Key = Key::default(
    "hold_review",
    "\"14d\"",
    "a length of time, such as \"14d\"",
    "how long a device may be on hold until somebody is to look at it again",
);
const TOKEN_SIGNER_LIFE: Key = Key::default(
    "token_signer_life",
    "\"1y\"",
    "a length of time, such as \"1y\"",
    "how long a key of the ward's signs tokens until it is to be replaced; it goes on signing",
);

/// `[due]`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DueSettings {
    /// `hold_review`: how long a device may be on hold until somebody is to look at it, default 14 days.
    pub hold_review: Span,
    /// `token_signer_life`: how long a key signs tokens until it is to be replaced, default a year.
    pub token_signer_life: Span,
}

impl Default for DueSettings {
    fn default() -> Self {
        Self { hold_review: Span::from_days(14), token_signer_life: Span::from_days(365) }
    }
}

impl Reader<'_> {
    pub(super) fn due(&mut self, root: &Table<'_>) -> DueSettings {
        let default = DueSettings::default();
        let Some(table) = self.section(root, "due", &DUE) else { return default };
        let span = |text: &str| text.parse::<Span>().ok().filter(|span| span.seconds() >= 3_600);
        DueSettings {
            hold_review: self.text(table, &HOLD_REVIEW, span).unwrap_or(default.hold_review),
            token_signer_life: self.text(table, &TOKEN_SIGNER_LIFE, span).unwrap_or(default.token_signer_life),
        }
    }
}
