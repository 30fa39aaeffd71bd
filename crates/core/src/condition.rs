//! Conditions: the small language that picks devices, for policies (`for`) and on the command line (`--where`).
//!
//! ```text
//! condition  = all *( "or" all )
//! all        = single *( "and" single )
//! single     = "not" single / "(" condition ")" / comparison
//! comparison = field ( ( "=" / "!=" ) value / "in" "(" value *( "," value ) ")" / "matches" text / "known" )
//! ```
//!
//! A comparison with a missing value is false, `!=` too. In `matches`, `*` stands for any run of characters.

use std::fmt;

use crate::device::{DeviceRecord, DeviceState};
use crate::fact::{Fact, FactName};
use crate::id::{self, LabelName};
use crate::text::{Lexer, Source, TextError, Token, quote};

/// How deep conditions may nest; a limit on the parser's stack.
const MAX_DEPTH: usize = 64;

/// The most comparisons in one condition; a limit on work.
const MAX_COMPARISONS: usize = 10_000;

/// What a comparison looks at.
#[derive(Debug, Clone, PartialEq, Eq)]
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
    /// A label.
    Label(LabelName),
}

impl Field {
    fn parse(word: &str) -> Result<Self, id::BadName> {
        Ok(match word {
            "id" => Self::Id,
            "kind" => Self::Kind,
            "state" => Self::State,
            "owner" => Self::Owner,
            "gateway" => Self::Gateway,
            other => match FactName::parse(other) {
                Ok(name) => Self::Fact(name),
                Err(_) => Self::Label(other.parse()?),
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
            Self::Fact(name) => write!(f, "{name}"),
            Self::Label(name) => write!(f, "{name}"),
        }
    }
}

/// Words that conditions keep for themselves; no label can be compared under such a name.
const RESERVED: &[&str] = &["and", "or", "not", "in", "matches", "known", "group", "seen", "created", "cert.ends"];

/// Whether a label may have this name: not a word of the language, a field, or a fact.
#[must_use]
pub fn can_name_a_label(name: &LabelName) -> bool {
    let word = name.as_str();
    let is_variable = matches!(word, "device" | "child");
    !is_variable && !RESERVED.contains(&word) && matches!(Field::parse(word), Ok(Field::Label(_)))
}

/// A condition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Condition {
    /// The field has this value.
    Is(Field, String),
    /// The field is known and has another value.
    IsNot(Field, String),
    /// The field has one of these values.
    In(Field, Vec<String>),
    /// The field's value has this shape.
    Matches(Field, String),
    /// The field is known.
    Known(Field),
    /// All hold.
    All(Vec<Condition>),
    /// One holds at least.
    Any(Vec<Condition>),
    /// It does not hold.
    Not(Box<Condition>),
}

/// Where a condition stands, which decides the fields that it may use.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Use {
    /// In a policy's `for`: only what does not change by itself.
    Policy,
    /// For picking devices now.
    Picking,
}

/// What a condition is held against: a device of the ward, or one that is only described.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Candidate<'a> {
    /// The device; for a described one a record that was never stored.
    pub device: &'a DeviceRecord,
    /// Its state, where it is known.
    pub state: Option<DeviceState>,
}

impl Candidate<'_> {
    fn value(&self, field: &Field) -> Option<&str> {
        let device = self.device;
        match field {
            Field::Id => Some(device.id.as_str()),
            Field::Kind => Some(device.kind.as_str()),
            Field::State => self.state.map(DeviceState::as_str),
            Field::Owner => device.owner.as_ref().map(|owner| owner.as_str()),
            Field::Gateway => device.gateway.as_ref().map(|gateway| gateway.as_str()),
            Field::Fact(name) => device.facts.get(name).map(Fact::value),
            Field::Label(name) => device.labels.get(name).map(|value| value.as_str()),
        }
    }
}

impl Condition {
    /// Reads a condition that is all of `source`.
    ///
    /// # Errors
    /// The first place where it is not one.
    pub fn parse(source: &Source, place: Use) -> Result<Self, TextError> {
        let mut lexer = Lexer::new(source)?;
        let condition = Self::read(&mut lexer, place)?;
        match lexer.peek() {
            Token::End => Ok(condition),
            _ => Err(lexer.unexpected("expected `and`, `or`, or the end of the condition")),
        }
    }

    /// Reads a condition from where `lexer` stands, and leaves it behind the condition.
    ///
    /// # Errors
    /// The first place where it is not one.
    pub fn read(lexer: &mut Lexer<'_>, place: Use) -> Result<Self, TextError> {
        Reader { place, comparisons: 0 }.any(lexer, 0)
    }

    /// Whether it holds for `candidate`.
    #[must_use]
    pub fn holds(&self, candidate: &Candidate<'_>) -> bool {
        match self {
            Self::Is(field, value) => candidate.value(field).is_some_and(|found| found == value),
            Self::IsNot(field, value) => candidate.value(field).is_some_and(|found| found != value),
            Self::In(field, values) => candidate.value(field).is_some_and(|found| values.iter().any(|v| v == found)),
            Self::Matches(field, pattern) => candidate.value(field).is_some_and(|found| matches(pattern, found)),
            Self::Known(field) => candidate.value(field).is_some(),
            Self::All(parts) => parts.iter().all(|part| part.holds(candidate)),
            Self::Any(parts) => parts.iter().any(|part| part.holds(candidate)),
            Self::Not(part) => !part.holds(candidate),
        }
    }

    /// Calls `visit` with each field and value that it compares for equality.
    pub fn each_equality(&self, visit: &mut dyn FnMut(&Field, &str)) {
        match self {
            Self::Is(field, value) | Self::IsNot(field, value) => visit(field, value),
            Self::In(field, values) => values.iter().for_each(|value| visit(field, value)),
            Self::All(parts) | Self::Any(parts) => parts.iter().for_each(|part| part.each_equality(visit)),
            Self::Not(part) => part.each_equality(visit),
            Self::Matches(..) | Self::Known(_) => {}
        }
    }
}

/// Whether `text` has the shape of `pattern`, in which `*` stands for any run of characters. Linear in both together
/// but for the number of `*`.
fn matches(pattern: &str, text: &str) -> bool {
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

struct Reader {
    place: Use,
    comparisons: usize,
}

impl Reader {
    fn any(&mut self, lexer: &mut Lexer<'_>, depth: usize) -> Result<Condition, TextError> {
        let mut parts = vec![self.all(lexer, depth)?];
        while lexer.take_word("or")? {
            parts.push(self.all(lexer, depth)?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Condition::Any(parts) })
    }

    fn all(&mut self, lexer: &mut Lexer<'_>, depth: usize) -> Result<Condition, TextError> {
        let mut parts = vec![self.single(lexer, depth)?];
        while lexer.take_word("and")? {
            parts.push(self.single(lexer, depth)?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Condition::All(parts) })
    }

    fn single(&mut self, lexer: &mut Lexer<'_>, depth: usize) -> Result<Condition, TextError> {
        if depth > MAX_DEPTH {
            return Err(lexer.unexpected("expected at most 64 nested `not` and parentheses"));
        }
        if lexer.take_word("not")? {
            return Ok(Condition::Not(Box::new(self.single(lexer, depth + 1)?)));
        }
        if lexer.take_sign("(")? {
            let inner = self.any(lexer, depth + 1)?;
            lexer.need_sign(")", "expected `)`, `and` or `or`")?;
            return Ok(inner);
        }
        self.comparison(lexer)
    }

    fn comparison(&mut self, lexer: &mut Lexer<'_>) -> Result<Condition, TextError> {
        self.comparisons += 1;
        if self.comparisons > MAX_COMPARISONS {
            return Err(lexer.unexpected("expected at most 10,000 comparisons in one condition"));
        }
        let start = lexer.start();
        let word = lexer.need_word("expected a field: id, kind, owner, gateway, a label or a fact")?;
        let range = start..lexer.end_of_last();
        if RESERVED.contains(&word.as_str()) {
            let expected = "expected id, kind, owner, gateway, a label or a fact";
            return Err(lexer.error(range, format!("`{word}` cannot be compared here"), expected));
        }
        let field = Field::parse(&word).map_err(|error| {
            lexer.error(range.clone(), error.to_string(), "expected id, kind, owner, gateway, a label or a fact")
        })?;
        if field == Field::State && self.place == Use::Policy {
            return Err(lexer.error(
                range,
                "`state` cannot be used in a policy".to_owned(),
                "a policy picks devices by id, kind, gateway, owner, labels and facts, which do not change by themselves",
            ));
        }
        if lexer.take_sign("=")? {
            return Ok(Condition::Is(field.clone(), value(lexer, &field)?));
        }
        if lexer.take_sign("!=")? {
            return Ok(Condition::IsNot(field.clone(), value(lexer, &field)?));
        }
        if lexer.take_word("in")? {
            lexer.need_sign("(", "expected `(` and the values")?;
            let mut values = vec![value(lexer, &field)?];
            while lexer.take_sign(",")? {
                values.push(value(lexer, &field)?);
            }
            lexer.need_sign(")", "expected `,` or `)`")?;
            return Ok(Condition::In(field, values));
        }
        if lexer.take_word("matches")? {
            return Ok(Condition::Matches(field, lexer.need_text("expected a text in quotes, such as \"wv-*\"")?));
        }
        if lexer.take_word("known")? {
            return Ok(Condition::Known(field));
        }
        Err(lexer.unexpected("expected `=`, `!=`, `in`, `matches` or `known`"))
    }
}

/// A value: facts in their normal form, everything else a name.
fn value(lexer: &mut Lexer<'_>, field: &Field) -> Result<String, TextError> {
    let start = lexer.start();
    let text = match lexer.peek() {
        Token::Text(_) => lexer.need_text("")?,
        _ => lexer.need_word("expected a value")?,
    };
    let range = start..lexer.end_of_last();
    match field {
        Field::Fact(name) => match Fact::new(name.clone(), &text) {
            Ok(fact) => Ok(fact.value().to_owned()),
            Err(error) => Err(lexer.error(range, error.to_string(), &format!("expected a value for `{name}`"))),
        },
        Field::State if !DeviceState::ALL.iter().any(|state| state.as_str() == text) => {
            let expected = "expected listed, issued, equipped, live, out or retired";
            Err(lexer.error(range, format!("`{text}` is not a state"), expected))
        }
        _ => match id::check("value", &text) {
            Ok(()) => Ok(text),
            Err(error) => Err(lexer.error(range, error.to_string(), "expected a name")),
        },
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let shown = |field: &Field, value: &str| match field {
            Field::Fact(_) => quote(value),
            _ => value.to_owned(),
        };
        let joined = |f: &mut fmt::Formatter<'_>, parts: &[Self], word: &str| {
            for (at, part) in parts.iter().enumerate() {
                if at > 0 {
                    write!(f, " {word} ")?;
                }
                match part {
                    Self::Any(_) | Self::All(_) => write!(f, "({part})")?,
                    _ => write!(f, "{part}")?,
                }
            }
            Ok(())
        };
        match self {
            Self::Is(field, value) => write!(f, "{field} = {}", shown(field, value)),
            Self::IsNot(field, value) => write!(f, "{field} != {}", shown(field, value)),
            Self::In(field, values) => {
                let values: Vec<String> = values.iter().map(|value| shown(field, value)).collect();
                write!(f, "{field} in ({})", values.join(", "))
            }
            Self::Matches(field, pattern) => write!(f, "{field} matches {}", quote(pattern)),
            Self::Known(field) => write!(f, "{field} known"),
            Self::All(parts) => joined(f, parts, "and"),
            Self::Any(parts) => joined(f, parts, "or"),
            Self::Not(part) => match **part {
                Self::Any(_) | Self::All(_) => write!(f, "not ({part})"),
                _ => write!(f, "not {part}"),
            },
        }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::time::UnixTime;

    fn device() -> DeviceRecord {
        let mut device = DeviceRecord::new("wv-0417".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
        device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
        let mac = Fact::new(FactName::Mac, "00:16:3e:0a:1b:2c").unwrap();
        device.facts.insert(FactName::Mac, mac);
        device
    }

    fn parse(text: &str) -> Result<Condition, TextError> {
        Condition::parse(&Source::new("--where", text), Use::Picking)
    }

    #[test]
    fn conditions_hold_or_not() {
        let device = device();
        let candidate = Candidate { device: &device, state: Some(DeviceState::Live) };
        for (text, want) in [
            ("kind = windvane", true),
            ("kind = cabin", false),
            ("kind = windvane and site in (ossel, brindle)", true),
            ("site != brindle", true),
            ("pylon = p7", false),
            ("pylon != p7", false), // a missing value compares false both ways
            ("not pylon = p7", true),
            ("pylon known", false),
            ("mac known", true),
            ("mac = \"00-16-3E-0A-1B-2C\"", true),
            ("id matches \"wv-*\"", true),
            ("id matches \"*04*7\"", true),
            ("id matches \"wv\"", false),
            ("id matches \"*-0417*7\"", false),
            ("state = live", true),
            ("kind = cabin or kind = windvane and site = ossel", true),
            ("(kind = cabin or kind = windvane) and site = brindle", false),
            ("owner = ossel-lifts", false),
        ] {
            assert_eq!(parse(text).unwrap().holds(&candidate), want, "{text}");
        }
    }

    #[test]
    fn mistakes_are_shown_where_they_are() {
        for (text, column, problem) in [
            ("kind windvane", 6, "found `windvane`"),
            ("kind =", 7, "found the end of the text"),
            ("kind = Windvane", 8, "holds 'W'"),
            ("site in (a b)", 12, "found `b`"),
            ("mac = 12", 7, "the mac `12` is not right"),
            ("state = broken", 9, "`broken` is not a state"),
            ("kind = a kind = b", 10, "found `kind`"),
            ("seen = a", 1, "cannot be compared"),
            ("", 1, "found the end of the text"),
        ] {
            let error = parse(text).unwrap_err();
            assert_eq!(error.place.column, column, "{text}: {error}");
            assert!(error.problem.contains(problem), "{text}: {error}");
        }
        let in_policy = Condition::parse(&Source::new("p", "state = live"), Use::Policy);
        assert!(in_policy.unwrap_err().problem.contains("cannot be used in a policy"));
        let deep = format!("{}kind = a{}", "(".repeat(1_000), ")".repeat(1_000));
        assert!(parse(&deep).is_err());
        assert!(parse(&format!("{}kind = a{}", "(".repeat(64), ")".repeat(64))).is_ok());
    }

    pub(crate) fn any_condition() -> impl Strategy<Value = Condition> {
        let field = prop_oneof![
            Just(Field::Id),
            Just(Field::Kind),
            Just(Field::Owner),
            Just(Field::Gateway),
            "[a-c]{1,2}".prop_map(|name| Field::Label(name.parse().unwrap())),
        ];
        let value = "[a-c][a-c-]{0,2}[a-c]";
        let leaf = prop_oneof![
            (field.clone(), value).prop_map(|(field, value)| Condition::Is(field, value)),
            (field.clone(), value).prop_map(|(field, value)| Condition::IsNot(field, value)),
            (field.clone(), proptest::collection::vec(value, 1..3)).prop_map(|(f, values)| Condition::In(f, values)),
            (field.clone(), "[a-c*\"\\\\]{0,4}").prop_map(|(field, value)| Condition::Matches(field, value)),
            field.prop_map(Condition::Known),
        ];
        leaf.prop_recursive(3, 12, 3, |inner| {
            prop_oneof![
                proptest::collection::vec(inner.clone(), 2..3).prop_map(Condition::All),
                proptest::collection::vec(inner.clone(), 2..3).prop_map(Condition::Any),
                inner.prop_map(|inner| Condition::Not(Box::new(inner))),
            ]
        })
    }

    proptest! {
        #[test]
        fn what_is_written_reads_back(condition in any_condition()) {
            prop_assert_eq!(parse(&condition.to_string()).unwrap(), condition);
        }

        #[test]
        fn no_text_makes_the_parser_fail_badly(text in "\\PC{0,60}|[a-c=!()\" ,]{0,60}") {
            if let Err(error) = parse(&text) {
                prop_assert!(!error.to_string().is_empty());
            }
        }

        #[test]
        fn star_patterns_agree_with_a_naive_matcher(pattern in "[ab*]{0,6}", text in "[ab]{0,6}") {
            fn naive(pattern: &[u8], text: &[u8]) -> bool {
                match pattern.split_first() {
                    None => text.is_empty(),
                    Some((b'*', rest)) => (0..=text.len()).any(|skip| naive(rest, &text[skip..])),
                    Some((first, rest)) => text.first() == Some(first) && naive(rest, &text[1..]),
                }
            }
            prop_assert_eq!(matches(&pattern, &text), naive(pattern.as_bytes(), text.as_bytes()));
        }
    }
}
