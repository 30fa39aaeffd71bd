//! Findings: what a check of a text has to say, each with a name, a place, a reason and a way to mend it.

use serde::Serialize;

use crate::text::{Place, TextError};

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The text cannot be used.
    Error,
    /// It can, but probably does not say what was meant.
    Warning,
}

/// One thing that is wrong or looks wrong.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// Its name, made of words, such as `broad-rule`.
    pub id: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// Where, if it has a place.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub place: Option<Place>,
    /// What is wrong.
    pub problem: String,
    /// How to mend it.
    pub mend: String,
}

impl Finding {
    /// The finding for text that cannot be read.
    #[must_use]
    pub fn syntax(error: TextError) -> Self {
        Self {
            id: "syntax",
            severity: Severity::Error,
            place: Some(error.place),
            problem: error.problem,
            mend: error.expected,
        }
    }
}
