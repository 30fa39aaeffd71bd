//! The parts of a policy file in the order in which they stand, as texts: what its layout is made from.

use std::ops::Range;

use crate::text::quote;

use super::{Introduce, Rule, Target};

/// A part of a policy file, as it is laid out.
#[derive(Debug, Clone)]
pub(super) struct Item {
    pub(super) range: Range<usize>,
    pub(super) kind: Kind,
}

#[derive(Debug, Clone)]
pub(super) enum Kind {
    /// `policy NAME {`
    Open(String),
    /// `about` or `for` and what follows.
    Head(&'static str, String),
    /// A rule: effect and act, topic, and the rest.
    Rule(String, String, String),
    /// Any other statement.
    Line(String),
    Close,
}

impl Kind {
    pub(super) fn introduce(introduce: &Introduce) -> Self {
        let whole = introduce.to_string();
        let (head, subject) = ("allow introduce".to_owned(), format!("kind {}", introduce.kind));
        let rest = whole.strip_prefix(&format!("{head} {subject}")).unwrap_or_default().trim_start().to_owned();
        Self::Rule(head, subject, rest)
    }

    pub(super) fn rule(rule: &Rule) -> Self {
        let subject = match &rule.target {
            Target::Connect(form) => format!("as {}", quote(form.as_str())),
            Target::Publish(pattern) | Target::Subscribe(pattern) => quote(&pattern.to_string()),
        };
        let head = format!("{:<5} {:<9}", rule.effect.as_str(), rule.target.act().as_str());
        let short = format!("{} {} {subject}", rule.effect.as_str(), rule.target.act().as_str());
        let whole = rule.to_string();
        let rest = whole.strip_prefix(&short).unwrap_or_default().trim_start().to_owned();
        Self::Rule(head, subject, rest)
    }
}
