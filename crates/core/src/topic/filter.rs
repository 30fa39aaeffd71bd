//! Names and filters, parsed once.

use std::fmt;
use std::str::FromStr;

/// The longest topic name or filter, in octets of UTF-8 (MQTT 5.0 section 4.7.3).
const MAX_LEN: usize = 65_535;

/// Why a text is not a topic name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadTopic {
    /// It has no character.
    #[error("a topic must have at least one character")]
    Empty,
    /// It has more than 65,535 octets.
    #[error("the topic is longer than 65,535 bytes")]
    TooLong,
    /// It holds U+0000.
    #[error("a topic cannot hold the null character")]
    Null,
    /// It holds `+` or `#`.
    #[error("the topic {0:?} holds a wildcard; wildcards belong in filters only")]
    Wildcard(String),
}

/// Why a text is not a topic filter.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadFilter {
    /// It has no character.
    #[error("a topic filter must have at least one character")]
    Empty,
    /// It has more than 65,535 octets.
    #[error("the topic filter is longer than 65,535 bytes")]
    TooLong,
    /// It holds U+0000.
    #[error("a topic filter cannot hold the null character")]
    Null,
    /// `#` that is not a whole level, or not the last one.
    #[error("in the filter {0:?} `#` must be the last level and fill it")]
    Hash(String),
    /// `+` that is not a whole level.
    #[error("in the filter {0:?} `+` must fill its level")]
    Plus(String),
    /// `$share` without a name and a filter.
    #[error("the shared subscription {0:?} must have the form $share/NAME/FILTER, NAME without `+` and `#`")]
    Share(String),
}

fn check_common<E>(text: &str, empty: E, long: E, null: E) -> Result<(), E> {
    if text.is_empty() {
        Err(empty)
    } else if text.len() > MAX_LEN {
        Err(long)
    } else if text.contains('\0') {
        Err(null)
    } else {
        Ok(())
    }
}

/// A topic that a message can be published to: no wildcard, no null, not empty.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct TopicName<'a>(&'a str);

impl<'a> TopicName<'a> {
    /// Checks a text (MQTT 5.0 section 4.7).
    ///
    /// # Errors
    /// The first rule that it breaks.
    pub fn parse(text: &'a str) -> Result<Self, BadTopic> {
        // Nearly every topic is good, and this is asked for every message: one pass finds that out.
        let odd = text.bytes().fold(false, |odd, byte| odd | matches!(byte, b'+' | b'#' | 0));
        if !odd && (1..=MAX_LEN).contains(&text.len()) {
            return Ok(Self(text));
        }
        check_common(text, BadTopic::Empty, BadTopic::TooLong, BadTopic::Null)?;
        Err(BadTopic::Wildcard(text.chars().take(200).collect()))
    }

    /// The topic as text.
    #[must_use]
    pub fn as_str(&self) -> &'a str {
        self.0
    }
}

impl fmt::Display for TopicName<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
    }
}

/// One level of a filter; a final `#` is kept apart.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Level {
    /// This text, which may be empty.
    Is(Box<str>),
    /// `+`: any one level.
    Any,
}

/// A topic filter: levels, and whether `#` ends it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TopicFilter {
    levels: Vec<Level>,
    open: bool,
}

impl FromStr for TopicFilter {
    type Err = BadFilter;

    /// Checks a text (MQTT 5.0 section 4.7.1). `$share/...` is read as a plain filter; see [`split_share`].
    fn from_str(text: &str) -> Result<Self, BadFilter> {
        check_common(text, BadFilter::Empty, BadFilter::TooLong, BadFilter::Null)?;
        let shown = || text.chars().take(200).collect::<String>();
        let mut levels = Vec::new();
        let mut open = false;
        for level in text.split('/') {
            if open {
                return Err(BadFilter::Hash(shown()));
            }
            match level {
                "#" => open = true,
                "+" => levels.push(Level::Any),
                _ if level.contains('#') => return Err(BadFilter::Hash(shown())),
                _ if level.contains('+') => return Err(BadFilter::Plus(shown())),
                _ => levels.push(Level::Is(level.into())),
            }
        }
        Ok(Self { levels, open })
    }
}

impl TopicFilter {
    /// A filter from its parts. The levels must hold no `/`, `+`, `#` or null, as names of this product never do.
    pub(crate) fn from_levels(levels: Vec<Level>, open: bool) -> Self {
        Self { levels, open }
    }

    /// The levels before a final `#`.
    #[must_use]
    pub fn levels(&self) -> &[Level] {
        &self.levels
    }

    /// Whether `#` ends the filter.
    #[must_use]
    pub fn is_open(&self) -> bool {
        self.open
    }

    /// Whether the filter matches `topic`: `+` one level, `#` the level before it and all below, and no leading
    /// wildcard a topic that begins with `$` (MQTT 5.0 sections 4.7.1 and 4.7.2).
    #[must_use]
    pub fn matches(&self, topic: TopicName<'_>) -> bool {
        let text = topic.as_str();
        if text.starts_with('$') && !matches!(self.levels.first(), Some(Level::Is(_))) {
            return false;
        }
        let mut levels = text.split('/');
        for level in &self.levels {
            match (level, levels.next()) {
                (Level::Any, Some(_)) => {}
                (Level::Is(want), Some(found)) if **want == *found => {}
                _ => return false,
            }
        }
        self.open || levels.next().is_none()
    }
}

impl fmt::Display for TopicFilter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, level) in self.levels.iter().enumerate() {
            if at > 0 {
                f.write_str("/")?;
            }
            match level {
                Level::Is(text) => f.write_str(text)?,
                Level::Any => f.write_str("+")?,
            }
        }
        match (self.open, self.levels.is_empty()) {
            (true, true) => f.write_str("#"),
            (true, false) => f.write_str("/#"),
            (false, _) => Ok(()),
        }
    }
}

/// The name of a shared subscription (MQTT 5.0 section 4.8.2).
pub type ShareName = String;

/// Takes `$share/NAME/` off a filter as it came in a SUBSCRIBE packet.
///
/// # Errors
/// A malformed share, or what [`TopicFilter::from_str`] says of the rest.
pub fn split_share(text: &str) -> Result<(Option<ShareName>, TopicFilter), BadFilter> {
    let Some(rest) = text.strip_prefix("$share").filter(|rest| rest.is_empty() || rest.starts_with('/')) else {
        return Ok((None, text.parse()?));
    };
    let bad = || BadFilter::Share(text.chars().take(200).collect());
    let (name, filter) = rest.trim_start_matches('/').split_once('/').ok_or_else(bad)?;
    if !rest.starts_with('/') || rest.starts_with("//") || name.is_empty() || name.contains(['+', '#', '\0']) {
        return Err(bad());
    }
    Ok((Some(name.to_owned()), filter.parse()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// MQTT 5.0 section 4.7 and 3.1.1 section 4.7, the examples and their neighbours.
    const TOPICS: &[(&str, &str, bool)] = &[
        ("sport/tennis/player1/#", "sport/tennis/player1", true),
        ("sport/tennis/player1/#", "sport/tennis/player1/ranking", true),
        ("sport/tennis/player1/#", "sport/tennis/player1/score/wimbledon", true),
        ("sport/#", "sport", true),
        ("#", "sport", true),
        ("#", "/", true),
        ("sport/tennis/+", "sport/tennis/player1", true),
        ("sport/tennis/+", "sport/tennis/player1/ranking", false),
        ("sport/+", "sport", false),
        ("sport/+", "sport/", true),
        ("+", "sport", true),
        ("+", "/finance", false),
        ("+/+", "/finance", true),
        ("/+", "/finance", true),
        ("+/tennis/#", "sport/tennis", true),
        ("sport/+/player1", "sport/tennis/player1", true),
        ("#", "$SYS/load", false),
        ("+/monitor/Clients", "$SYS/monitor/Clients", false),
        ("$SYS/#", "$SYS/load", true),
        ("$SYS/#", "$SYS", true),
        ("$SYS/monitor/+", "$SYS/monitor/Clients", true),
        ("Accounts", "ACCOUNTS", false),
        ("a", "/a", false),
        ("a//b", "a/b", false),
        ("a//b", "a//b", true),
        ("a/+/b", "a//b", true),
        ("a/", "a", false),
    ];

    #[test]
    fn the_examples_of_the_standard() {
        for (filter, topic, want) in TOPICS {
            let parsed: TopicFilter = filter.parse().unwrap();
            assert_eq!(parsed.to_string(), *filter);
            assert_eq!(parsed.matches(TopicName::parse(topic).unwrap()), *want, "{filter:?} on {topic:?}");
        }
    }

    #[test]
    fn malformed_filters_and_topics_are_refused() {
        for bad in ["", "a/#/b", "a#", "#a", "a/b#", "+a", "a+/b", "a/+b", "##", "#/", "a\0b"] {
            assert!(bad.parse::<TopicFilter>().is_err(), "{bad:?} was taken as a filter");
        }
        for bad in ["", "a/+", "#", "a\0"] {
            assert!(TopicName::parse(bad).is_err(), "{bad:?} was taken as a topic");
        }
        assert!("a".repeat(65_535).parse::<TopicFilter>().is_ok());
        assert!("a".repeat(65_536).parse::<TopicFilter>().is_err());
    }

    #[test]
    fn shares_are_split_off() {
        assert_eq!(split_share("$share/g/a/#").unwrap(), (Some("g".into()), "a/#".parse().unwrap()));
        assert_eq!(split_share("$shared/g").unwrap().0, None);
        for bad in ["$share", "$share/", "$share/g", "$share//a", "$share/g+/a", "$share/g/"] {
            assert!(split_share(bad).is_err(), "{bad:?} was taken");
        }
    }
}
