//! From conditions to their canonical text.

use std::fmt;

use super::{Comparison, Condition, Field, Instant, TextTest, TimeTest};
use crate::id;
use crate::text::quote;

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(field, test) => text(f, field, test),
            Self::Time(moment, test) => write!(f, "{} {test}", moment.as_str()),
            Self::Group(name, _) => write!(f, "group = {name}"),
            Self::All(parts) => joined(f, parts, "and"),
            Self::Any(parts) => joined(f, parts, "or"),
            Self::Not(part) => match &**part {
                Self::Group(name, _) => write!(f, "group != {name}"),
                Self::Any(_) | Self::All(_) => write!(f, "not ({part})"),
                _ => write!(f, "not {part}"),
            },
        }
    }
}

fn joined(f: &mut fmt::Formatter<'_>, parts: &[Condition], word: &str) -> fmt::Result {
    for (at, part) in parts.iter().enumerate() {
        if at > 0 {
            write!(f, " {word} ")?;
        }
        match part {
            Condition::Any(_) | Condition::All(_) => write!(f, "({part})")?,
            _ => write!(f, "{part}")?,
        }
    }
    Ok(())
}

fn text(f: &mut fmt::Formatter<'_>, field: &Field, test: &TextTest) -> fmt::Result {
    let shown = |value: &String| match field {
        Field::Fact(_) => quote(value),
        Field::Named(_) if id::check("value", value).is_err() => quote(value),
        _ => value.clone(),
    };
    match test {
        TextTest::Compared(how, value) => write!(f, "{field} {} {}", how.sign(), shown(value)),
        TextTest::In(values) => {
            let values: Vec<String> = values.iter().map(shown).collect();
            write!(f, "{field} in ({})", values.join(", "))
        }
        TextTest::Matches(pattern) => write!(f, "{field} matches {}", quote(pattern)),
        TextTest::Known => write!(f, "{field} known"),
    }
}

impl fmt::Display for TimeTest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Compared(Comparison::Less, instant) => write!(f, "before {instant}"),
            Self::Compared(Comparison::More, instant) => write!(f, "after {instant}"),
            Self::Compared(how, instant) => write!(f, "{} {instant}", how.sign()),
            Self::Within(span) => write!(f, "within {span}"),
            Self::Known => f.write_str("known"),
        }
    }
}

impl fmt::Display for Instant {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::At(time) => write!(f, "{time}"),
            Self::Ago(span) => write!(f, "{span} ago"),
        }
    }
}
