//! Conditions: the small language that picks devices, for policies (`for`), groups and the command line (`--where`).
//!
//! ```text
//! condition  = all *( "or" all )
//! all        = single *( "and" single )
//! single     = "not" single / "(" condition ")" / comparison
//! comparison = field ( op value / "in" "(" value *( "," value ) ")" / "matches" text / "known" )
//!            / "group" ( ( "=" / "!=" ) name / "in" "(" name *( "," name ) ")" )
//!            / moment ( op time / ( "before" / "after" ) ( time / span "ago" ) / "within" span / "known" )
//! op         = "=" / "!=" / "<" / "<=" / ">" / ">="
//! moment     = "cert.ends" / "seen" / "created"
//! ```
//!
//! A comparison with a missing value is false, `!=` too. Texts are ordered by their octets. In `matches`, `*` stands for
//! any run of characters. `seen within 30d` means from now until 30 days from now; `cert.ends within 30d` includes what has
//! ended already, which is the more urgent: `and not state = ended` leaves it out.

mod possible;
mod read;
mod write;

#[cfg(test)]
pub(crate) mod tests;

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use crate::credential::CredentialRecord;
use crate::device::{DeviceRecord, DeviceState, Note, credential_end};
use crate::fact::{Fact, FactName};
use crate::id::{self, GroupName, LabelName};
use crate::time::{Span, UnixTime};

/// What a comparison of texts looks at.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Field {
    /// The device's id.
    Id,
    /// Its kind.
    Kind,
    /// Its state; not in policies, which must not change as time passes.
    State,
    /// Its owner.
    Owner,
    /// Its gateway.
    Gateway,
    /// A hardware fact.
    Fact(FactName),
    /// What the device has under this name: a label, or a fact of the ward's own. No name is both.
    Named(LabelName),
    /// What people wrote about it; it can only be asked whether there is any, and not in policies.
    Note,
}

impl Field {
    /// The field that a word names.
    ///
    /// # Errors
    /// A word that could not even name a label.
    pub fn parse(word: &str) -> Result<Self, id::BadName> {
        Ok(match word {
            "id" => Self::Id,
            "kind" => Self::Kind,
            "state" => Self::State,
            "owner" => Self::Owner,
            "gateway" => Self::Gateway,
            "note" => Self::Note,
            other => match (FactName::built_in(other), other.split_once('.')) {
                (Some(name), _) => Self::Fact(name),
                (None, Some(("fact", name))) => {
                    id::check("fact", name)?;
                    Self::Fact(match FactName::built_in(name) {
                        Some(name) => name,
                        None => FactName::Own(name.parse()?),
                    })
                }
                (None, Some(("label", name))) => Self::Named(name.parse()?),
                (None, _) => Self::Named(other.parse()?),
            },
        })
    }
}

impl fmt::Display for Field {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Id => f.write_str("id"),
            Self::Kind => f.write_str("kind"),
            Self::State => f.write_str("state"),
            Self::Owner => f.write_str("owner"),
            Self::Gateway => f.write_str("gateway"),
            Self::Fact(FactName::Own(name)) => write!(f, "fact.{name}"),
            Self::Fact(name) => write!(f, "{name}"),
            // A word that would be read as something else is spelled out.
            Self::Named(name) => match Self::parse(name.as_str()) {
                Ok(Self::Named(plain)) if plain == *name && !RESERVED.contains(&name.as_str()) => write!(f, "{name}"),
                _ => write!(f, "label.{name}"),
            },
            Self::Note => f.write_str("note"),
        }
    }
}

/// What a comparison of times looks at; not in policies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Moment {
    /// `cert.ends`: the latest end of the credentials that were not revoked, whether it has come or not.
    CertEnds,
    /// `seen`: when the device last connected.
    Seen,
    /// `created`: when it was listed.
    Created,
}

impl Moment {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::CertEnds, Self::Seen, Self::Created];

    /// Whether `within` includes what lies in the past.
    #[must_use]
    pub fn looks_back(self) -> bool {
        self == Self::CertEnds
    }

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::CertEnds => "cert.ends",
            Self::Seen => "seen",
            Self::Created => "created",
        }
    }
}

/// Words that conditions keep for themselves; no label can be compared under such a name.
const RESERVED: &[&str] = &[
    "and",
    "or",
    "not",
    "in",
    "matches",
    "known",
    "within",
    "before",
    "after",
    "ago",
    "group",
    "seen",
    "created",
    "cert.ends",
];

/// Whether a label, or a fact of the ward's own, may have this name: not a word of the language, a field, or a fact that every ward has.
#[must_use]
pub fn can_be_named(name: &LabelName) -> bool {
    let word = name.as_str();
    let is_variable = matches!(word, "device" | "child");
    !is_variable && !RESERVED.contains(&word) && matches!(Field::parse(word), Ok(Field::Named(plain)) if plain == *name)
}

/// How two values are compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Comparison {
    /// `=`
    Is,
    /// `!=`
    IsNot,
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>=`
    AtLeast,
    /// `>`
    More,
}

impl Comparison {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::Is, Self::IsNot, Self::Less, Self::AtMost, Self::AtLeast, Self::More];

    /// The sign for it, which SQL shares.
    #[must_use]
    pub fn sign(self) -> &'static str {
        match self {
            Self::Is => "=",
            Self::IsNot => "!=",
            Self::Less => "<",
            Self::AtMost => "<=",
            Self::AtLeast => ">=",
            Self::More => ">",
        }
    }

    fn holds(self, found: Ordering) -> bool {
        match self {
            Self::Is => found.is_eq(),
            Self::IsNot => found.is_ne(),
            Self::Less => found.is_lt(),
            Self::AtMost => found.is_le(),
            Self::AtLeast => found.is_ge(),
            Self::More => found.is_gt(),
        }
    }
}

/// A test of one text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TextTest {
    /// It compares so with this text.
    Compared(Comparison, String),
    /// It is one of these.
    In(Vec<String>),
    /// It has this shape.
    Matches(String),
    /// It is known.
    Known,
}

/// A point in time, fixed or by the clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Instant {
    /// This one.
    At(UnixTime),
    /// So long before now.
    Ago(Span),
}

impl Instant {
    /// The instant at `now`.
    #[must_use]
    pub fn at(self, now: UnixTime) -> UnixTime {
        match self {
            Self::At(time) => time,
            Self::Ago(span) => now.minus(span),
        }
    }
}

/// A test of one time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TimeTest {
    /// It compares so with this instant.
    Compared(Comparison, Instant),
    /// It lies between now and so long from now, both included; of ends, also before now.
    Within(Span),
    /// It is known.
    Known,
}

/// A condition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Condition {
    /// The field's value passes the test.
    Text(Field, TextTest),
    /// The time passes the test.
    Time(Moment, TimeTest),
    /// The device is in the group: by its rule where it has one that was put in by [`Condition::resolve`], else because it
    /// was put in by name.
    Group(GroupName, Option<Arc<Condition>>),
    /// All hold.
    All(Vec<Condition>),
    /// One holds at least.
    Any(Vec<Condition>),
    /// It does not hold.
    Not(Box<Condition>),
}

/// Where a condition stands, which decides what it may compare.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Use {
    /// In a policy's `for`, and in the rule of a group that policies use: only what does not change by itself.
    Policy,
    /// For picking devices now.
    Picking,
    /// As [`Use::Picking`] was before devices had notes: `note` is a label.
    BeforeNotes,
}

/// The groups of a ward: those by rule with their rule, fixed ones with `None`.
pub type Groups = BTreeMap<GroupName, Option<Arc<Condition>>>;

/// What is known of one value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found<'a> {
    /// This.
    Is(&'a str),
    /// There is none.
    Missing,
    /// Nothing is known yet: what depends on it stays open.
    Unknown,
}

impl<'a> From<Option<&'a str>> for Found<'a> {
    fn from(value: Option<&'a str>) -> Self {
        value.map_or(Self::Missing, Self::Is)
    }
}

/// What conditions ask of a device.
pub trait Traits {
    /// The value of a field.
    fn text(&self, field: &Field) -> Found<'_>;

    /// Whether the device was put into a group by name; `None` if that is not known.
    fn in_group(&self, group: &GroupName) -> Option<bool>;

    /// A time; `None` if there is none.
    fn time(&self, _moment: Moment) -> Option<UnixTime> {
        None
    }

    /// The present instant.
    fn now(&self) -> UnixTime {
        UnixTime(0)
    }
}

/// A device that is held against conditions, in full.
#[derive(Debug, Clone, Copy)]
pub struct Candidate<'a> {
    device: &'a DeviceRecord,
    credentials: &'a [CredentialRecord],
    now: Option<UnixTime>,
    is_asking: bool,
}

impl<'a> Candidate<'a> {
    /// For conditions of policies, which do not ask for states and times.
    #[must_use]
    pub fn lasting(device: &'a DeviceRecord) -> Self {
        Self { device, credentials: &[], now: None, is_asking: false }
    }

    /// For picking at `now`, with all credentials of the device.
    #[must_use]
    pub fn at(device: &'a DeviceRecord, credentials: &'a [CredentialRecord], now: UnixTime) -> Self {
        Self { device, credentials, now: Some(now), is_asking: false }
    }

    /// For picking at `now`, as if one that asks and waits for a person were this device.
    #[must_use]
    pub fn asking(device: &'a DeviceRecord, now: UnixTime) -> Self {
        Self { device, credentials: &[], now: Some(now), is_asking: true }
    }
}

impl Traits for Candidate<'_> {
    fn text(&self, field: &Field) -> Found<'_> {
        let device = self.device;
        match field {
            Field::Id => Found::Is(device.id.as_str()),
            Field::Kind => Found::Is(device.kind.as_str()),
            Field::State if self.is_asking => Found::Is(DeviceState::Asking.as_str()),
            Field::State => self.now.map(|now| DeviceState::of(device, self.credentials, now).as_str()).into(),
            Field::Owner => device.owner.as_ref().map(|owner| owner.as_str()).into(),
            Field::Gateway => device.gateway.as_ref().map(|gateway| gateway.as_str()).into(),
            Field::Fact(name) => device.facts.get(name).map(Fact::value).into(),
            Field::Named(name) => device.named(name).into(),
            Field::Note => device.note.as_ref().map(Note::as_str).into(),
        }
    }

    fn in_group(&self, group: &GroupName) -> Option<bool> {
        Some(self.device.groups.contains(group))
    }

    fn time(&self, moment: Moment) -> Option<UnixTime> {
        match moment {
            Moment::CertEnds => credential_end(self.credentials),
            Moment::Seen => self.device.seen,
            Moment::Created => Some(self.device.created),
        }
    }

    fn now(&self) -> UnixTime {
        self.now.unwrap_or(UnixTime(0))
    }
}

impl TextTest {
    /// Whether a known value passes.
    #[must_use]
    pub fn passes(&self, found: &str) -> bool {
        match self {
            Self::Compared(how, value) => how.holds(found.cmp(value.as_str())),
            Self::In(values) => values.iter().any(|value| value == found),
            Self::Matches(pattern) => matches(pattern, found),
            Self::Known => true,
        }
    }
}

impl TimeTest {
    /// Whether a known time passes at `now`.
    #[must_use]
    pub fn passes(self, moment: Moment, found: UnixTime, now: UnixTime) -> bool {
        match self {
            Self::Compared(how, instant) => how.holds(found.cmp(&instant.at(now))),
            Self::Within(span) => found <= now.plus(span) && (moment.looks_back() || found >= now),
            Self::Known => true,
        }
    }
}

impl Condition {
    /// Whether it holds for a device of which all is known.
    #[must_use]
    pub fn holds(&self, of: &impl Traits) -> bool {
        self.truth(of) == Some(true)
    }

    /// Whether it holds; `None` where that depends on what is not known (three-valued logic of Kleene).
    #[must_use]
    pub fn truth(&self, of: &impl Traits) -> Option<bool> {
        match self {
            Self::Text(field, test) => match of.text(field) {
                Found::Is(found) => Some(test.passes(found)),
                Found::Missing => Some(false),
                Found::Unknown => None,
            },
            Self::Time(moment, test) => {
                Some(of.time(*moment).is_some_and(|found| test.passes(*moment, found, of.now())))
            }
            Self::Group(_, Some(rule)) => rule.truth(of),
            Self::Group(name, None) => of.in_group(name),
            Self::All(parts) => all(parts.iter().map(|part| part.truth(of))),
            Self::Any(parts) => all(parts.iter().map(|part| part.truth(of).map(|truth| !truth))).map(|none| !none),
            Self::Not(part) => part.truth(of).map(|truth| !truth),
        }
    }

    /// Puts the rules of groups in. A group that is not there stays as it is: nobody is in it.
    #[must_use]
    pub fn resolve(&self, groups: &Groups) -> Self {
        let each = |parts: &[Self]| parts.iter().map(|part| part.resolve(groups)).collect();
        match self {
            Self::Group(name, _) => Self::Group(name.clone(), groups.get(name).cloned().flatten()),
            Self::All(parts) => Self::All(each(parts)),
            Self::Any(parts) => Self::Any(each(parts)),
            Self::Not(part) => Self::Not(Box::new(part.resolve(groups))),
            Self::Text(..) | Self::Time(..) => self.clone(),
        }
    }

    /// Calls `visit` with each comparison in it, those of groups' rules too.
    pub fn each_leaf<'c>(&'c self, visit: &mut dyn FnMut(&'c Self)) {
        match self {
            Self::All(parts) | Self::Any(parts) => parts.iter().for_each(|part| part.each_leaf(visit)),
            Self::Not(part) => part.each_leaf(visit),
            Self::Group(_, rule) => {
                visit(self);
                if let Some(rule) = rule {
                    rule.each_leaf(visit);
                }
            }
            Self::Text(..) | Self::Time(..) => visit(self),
        }
    }

    /// Calls `visit` with each field and value that it compares for equality.
    pub fn each_equality<'c>(&'c self, visit: &mut dyn FnMut(&'c Field, &'c str)) {
        self.each_leaf(&mut |leaf| match leaf {
            Self::Text(field, TextTest::Compared(Comparison::Is | Comparison::IsNot, value)) => visit(field, value),
            Self::Text(field, TextTest::In(values)) => values.iter().for_each(|value| visit(field, value)),
            _ => {}
        });
    }

    /// The groups that it names.
    pub fn each_group<'c>(&'c self, visit: &mut dyn FnMut(&'c GroupName)) {
        self.each_leaf(&mut |leaf| {
            if let Self::Group(name, _) = leaf {
                visit(name);
            }
        });
    }
}

/// The conjunction in Kleene's logic.
fn all(truths: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let mut known = Some(true);
    for truth in truths {
        match truth {
            Some(true) => {}
            Some(false) => return Some(false),
            None => known = None,
        }
    }
    known
}

/// Whether `text` has the shape of `pattern`, in which `*` stands for any run of characters. Linear in both together
/// but for the number of `*`.
#[must_use]
pub fn matches(pattern: &str, text: &str) -> bool {
    let mut parts = pattern.split('*');
    let Some(mut rest) = parts.next().and_then(|first| text.strip_prefix(first)) else { return false };
    let Some(last) = pattern.rsplit_once('*').map(|(_, last)| last) else { return rest.is_empty() };
    let middle: Vec<&str> = parts.collect();
    for part in middle.iter().take(middle.len().saturating_sub(1)) {
        match rest.split_once(part) {
            Some((_, after)) => rest = after,
            None => return false,
        }
    }
    rest.ends_with(last)
}
