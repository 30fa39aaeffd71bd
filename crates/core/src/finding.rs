//! Findings: what a check of a text has to say, each with a name, a place, a reason and a way to mend it.

use serde::ser::SerializeMap;
use serde::{Serialize, Serializer};

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
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// Its name, made of words, such as `broad-rule`.
    pub id: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// Where, if it has a place.
    pub place: Option<Place>,
    /// What is wrong.
    pub problem: String,
    /// How to mend it.
    pub mend: String,
}

impl Serialize for Finding {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("id", self.id)?;
        map.serialize_entry("severity", &self.severity)?;
        if let Some(place) = &self.place {
            map.serialize_entry("file", &place.file)?;
            map.serialize_entry("line", &place.line)?;
            map.serialize_entry("column", &place.column)?;
        }
        map.serialize_entry("problem", &self.problem)?;
        if let Some(why) = self.why() {
            map.serialize_entry("why", why)?;
        }
        map.serialize_entry("mend", &self.mend)?;
        map.end()
    }
}

impl Finding {
    /// Why it matters, in one line, where the problem does not say it already.
    #[must_use]
    pub fn why(&self) -> Option<&'static str> {
        Some(match self.id {
            "name-taken" => "refusals and logs name policies, and two of one name cannot be told apart",
            "unknown-kind" => "nobody will ever be of that kind, so the policy does not do what it says",
            "unknown-group" => "nobody is in a group that is not there, so the policy does not do what it says",
            "unsteady-group" => "rights must change only when somebody changes them, and then be shown first",
            "unknown-label" => "an allow with it gives nothing, and a deny takes `+` in its place",
            "broad-rule" => "one stolen device could then speak, or listen, for all of them",
            "reserved-topics" => "who reads the policy takes this for a right that nobody has",
            "never-applies" => "who reads the policy takes this for a right or a protection that nobody has",
            "hidden-by-deny" => "who reads the rule takes it for a right that nobody has",
            "repeats-another" => "whoever takes one of them away will think that the right is gone",
            "selects-nobody" => "who reads the policy takes it for one that is in use",
            "missing-value" => "devices of one kind then have different rights, by an omission",
            "not-sole" => "receivers trust that only the one device can have sent what they hear there",
            "failing-expect" => "the policy does not do what its author says that it does",
            "unknown-device" => "a test that is not run proves nothing",
            "no-policy" => "the default is no: they cannot even connect",
            "not-carried" => "rules for children give the gateway nothing for them",
            _ => return None,
        })
    }

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
