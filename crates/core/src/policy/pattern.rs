//! Topic filters with variables, as rules write them.

use std::fmt;

use crate::device::DeviceRecord;
use crate::id::LabelName;
use crate::topic::{BadFilter, Level, Missing, TopicFilter};

/// The most levels of a pattern; a limit on stacks and work. Topics themselves may have more.
const MAX_LEVELS: usize = 128;

/// A variable that fills one whole level.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Variable {
    /// The device's id; in a rule for children the gateway's.
    Device,
    /// The child's id, in a rule for children. There, the variables below are the child's.
    Child,
    /// Its kind.
    Kind,
    /// Its owner.
    Owner,
    /// Its gateway.
    Gateway,
    /// One of its labels.
    Label(LabelName),
}

impl Variable {
    fn parse(word: &str) -> Option<Self> {
        Some(match word {
            "device" => Self::Device,
            "child" => Self::Child,
            "kind" => Self::Kind,
            "owner" => Self::Owner,
            "gateway" => Self::Gateway,
            label => Self::Label(label.parse().ok()?),
        })
    }

    /// The value for a speaker. It is always a name, so it holds no `/`, `+`, `#` or null.
    #[must_use]
    pub fn value<'a>(&self, speaker: Speaker<'a>) -> Option<&'a str> {
        let about = speaker.child.unwrap_or(speaker.device);
        match self {
            Self::Device => Some(speaker.device.id.as_str()),
            Self::Child => speaker.child.map(|child| child.id.as_str()),
            Self::Kind => Some(about.kind.as_str()),
            Self::Owner => about.owner.as_ref().map(|owner| owner.as_str()),
            Self::Gateway => about.gateway.as_ref().map(|gateway| gateway.as_str()),
            Self::Label(name) => about.labels.get(name).map(|value| value.as_str()),
        }
    }
}

impl fmt::Display for Variable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Device => f.write_str("{device}"),
            Self::Child => f.write_str("{child}"),
            Self::Kind => f.write_str("{kind}"),
            Self::Owner => f.write_str("{owner}"),
            Self::Gateway => f.write_str("{gateway}"),
            Self::Label(name) => write!(f, "{{{name}}}"),
        }
    }
}

/// Who acts: a device for itself, or a gateway for one of its children.
#[derive(Debug, Clone, Copy)]
pub struct Speaker<'a> {
    /// The device that is connected.
    pub device: &'a DeviceRecord,
    /// The child that it speaks for.
    pub child: Option<&'a DeviceRecord>,
}

impl<'a> From<&'a DeviceRecord> for Speaker<'a> {
    fn from(device: &'a DeviceRecord) -> Self {
        Self { device, child: None }
    }
}

/// One level of a pattern.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PatternLevel {
    /// This text.
    Is(String),
    /// `+`.
    Any,
    /// A variable's value.
    Variable(Variable),
}

/// A topic filter with variables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    /// The levels before a final `#`.
    pub levels: Vec<PatternLevel>,
    /// Whether `#` ends it.
    pub open: bool,
}

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// What is wrong with it, in one line, and what was expected.
    pub fn parse(text: &str) -> Result<Self, (String, &'static str)> {
        let expected = "expected a topic filter whose levels are texts, `+`, `{variable}`, or `#` at the end";
        let mut filter_text = String::with_capacity(text.len());
        let mut levels = Vec::new();
        for level in text.split('/') {
            let inner = level.strip_prefix('{').and_then(|rest| rest.strip_suffix('}'));
            let variable = match inner {
                Some(word) => match Variable::parse(word) {
                    Some(variable) => Some(variable),
                    None => {
                        return Err((
                            format!("{level:?} is not a variable"),
                            "expected {device}, {child}, {kind}, {gateway}, or a label such as {site}",
                        ));
                    }
                },
                None if level.contains(['{', '}']) => {
                    return Err((format!("in {level:?} a variable does not fill its level"), expected));
                }
                None => None,
            };
            if !filter_text.is_empty() || !levels.is_empty() {
                filter_text.push('/');
            }
            filter_text.push_str(if variable.is_some() { "v" } else { level });
            match (variable, level) {
                (Some(variable), _) => levels.push(PatternLevel::Variable(variable)),
                (None, "+") => levels.push(PatternLevel::Any),
                (None, "#") => {}
                (None, text) => levels.push(PatternLevel::Is(text.to_owned())),
            }
        }
        // The rules of MQTT for the filter that the pattern becomes are the same, whatever the variables' values.
        let filter: TopicFilter = filter_text.parse().map_err(|error: BadFilter| (error.to_string(), expected))?;
        if matches!(levels.first(), Some(PatternLevel::Is(first)) if first == "$share") {
            return Err(("a rule cannot name `$share`".to_owned(), "expected the topics themselves"));
        }
        if levels.len() > MAX_LEVELS {
            return Err((format!("the filter has {} levels", levels.len()), "expected at most 128 levels"));
        }
        Ok(Self { levels, open: filter.is_open() })
    }

    /// The filter with the values that `value` gives; `None` if a variable has none and `missing` says so.
    #[must_use]
    pub fn bind<'v>(&self, missing: Missing, value: impl Fn(&Variable) -> Option<&'v str>) -> Option<TopicFilter> {
        let levels = self.levels.iter().map(|level| match level {
            PatternLevel::Is(text) => Some(Level::Is(text.as_str().into())),
            PatternLevel::Any => Some(Level::Any),
            PatternLevel::Variable(variable) => match (value(variable), missing) {
                (Some(value), _) => Some(Level::Is(value.into())),
                (None, Missing::AnyLevel) => Some(Level::Any),
                (None, Missing::Nothing) => None,
            },
        });
        Some(TopicFilter::from_levels(levels.collect::<Option<_>>()?, self.open))
    }

    /// Its variables.
    pub fn variables(&self) -> impl Iterator<Item = &Variable> {
        self.levels.iter().filter_map(|level| match level {
            PatternLevel::Variable(variable) => Some(variable),
            _ => None,
        })
    }

    /// Whether no level ties it to one device, so that it gives the same topics to many.
    #[must_use]
    pub fn is_broad(&self) -> bool {
        !self.variables().any(|variable| matches!(variable, Variable::Device | Variable::Child))
    }

    /// Whether it names the child that a gateway speaks for.
    #[must_use]
    pub fn names_child(&self) -> bool {
        self.variables().any(|variable| *variable == Variable::Child)
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, level) in self.levels.iter().enumerate() {
            if at > 0 {
                f.write_str("/")?;
            }
            match level {
                PatternLevel::Is(text) => f.write_str(text)?,
                PatternLevel::Any => f.write_str("+")?,
                PatternLevel::Variable(variable) => write!(f, "{variable}")?,
            }
        }
        match (self.open, self.levels.is_empty()) {
            (true, true) => f.write_str("#"),
            (true, false) => f.write_str("/#"),
            (false, _) => Ok(()),
        }
    }
}
