//! From text to conditions.

use super::{Comparison, Condition, Field, Instant, Moment, RESERVED, TextTest, TimeTest, Use};
use crate::device::DeviceState;
use crate::fact::{Fact, FactName};
use crate::id::{self, GroupName};
use crate::text::{Lexer, Source, TextError, Token};
use crate::time::{Span, UnixTime};

/// How deep conditions may nest; a limit on the parser's stack.
const MAX_DEPTH: usize = 64;

/// The most comparisons in one condition; a limit on work.
const MAX_COMPARISONS: usize = 10_000;

const FIELDS: &str = "expected id, kind, owner, gateway, group, note, a label or a fact";

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
        let word = lexer.need_word(FIELDS)?;
        let range = start..lexer.end_of_last();
        if word == "group" {
            return self.group(lexer);
        }
        let moment = Moment::ALL.into_iter().find(|moment| moment.as_str() == word);
        if (moment.is_some() || word == "state") && self.place == Use::Policy {
            return Err(lexer.error(
                range,
                format!("`{word}` cannot be used in a policy"),
                "a policy picks devices by id, kind, gateway, owner, groups, labels and facts, which do not change by themselves",
            ));
        }
        if let Some(moment) = moment {
            // `seen unknown` is `not seen known`, and is written so.
            return Ok(match lexer.take_word("unknown")? {
                true => Condition::Not(Box::new(Condition::Time(moment, TimeTest::Known))),
                false => Condition::Time(moment, time_test(lexer)?),
            });
        }
        if RESERVED.contains(&word.as_str()) {
            return Err(lexer.error(range, format!("`{word}` cannot be compared"), FIELDS));
        }
        let field = match Field::parse(&word).map_err(|error| lexer.error(range.clone(), error.to_string(), FIELDS))? {
            // Policies, and what was written before there were notes, can only mean a label.
            Field::Note if self.place != Use::Picking => {
                Field::Named(word.parse().map_err(|_| lexer.unexpected(FIELDS))?)
            }
            field => field,
        };
        if let (Field::Named(name), Some(("label", _))) = (&field, word.split_once('.'))
            && (FactName::built_in(name.as_str()).is_some()
                || matches!(name.as_str(), "id" | "kind" | "owner" | "gateway"))
        {
            return Err(lexer.error(range, format!("no label is named `{name}`"), FIELDS));
        }
        if lexer.take_word("unknown")? {
            return Ok(Condition::Not(Box::new(Condition::Text(field, TextTest::Known))));
        }
        let test = text_test(lexer, &field)?;
        Ok(Condition::Text(field, test))
    }

    fn group(&mut self, lexer: &mut Lexer<'_>) -> Result<Condition, TextError> {
        if lexer.take_word("in")? {
            let mut parts = Vec::new();
            for name in list(lexer, &mut group_name)? {
                self.comparisons += 1;
                parts.push(Condition::Group(name, None));
            }
            return Ok(if parts.len() == 1 { parts.remove(0) } else { Condition::Any(parts) });
        }
        let negated = lexer.at_sign("!=");
        if !lexer.take_sign("=")? && !lexer.take_sign("!=")? {
            return Err(lexer.unexpected("expected `=`, `!=` or `in` and the names of groups"));
        }
        let group = Condition::Group(group_name(lexer)?, None);
        Ok(if negated { Condition::Not(Box::new(group)) } else { group })
    }
}

fn group_name(lexer: &mut Lexer<'_>) -> Result<GroupName, TextError> {
    let start = lexer.start();
    let word = lexer.need_word("expected the name of a group")?;
    let range = start..lexer.end_of_last();
    word.parse().map_err(|error: id::BadName| lexer.error(range, error.to_string(), "expected the name of a group"))
}

/// `(`, items with commas between, `)`.
fn list<T>(
    lexer: &mut Lexer<'_>,
    item: &mut dyn FnMut(&mut Lexer<'_>) -> Result<T, TextError>,
) -> Result<Vec<T>, TextError> {
    lexer.need_sign("(", "expected `(` and the values")?;
    let mut values = vec![item(lexer)?];
    while lexer.take_sign(",")? {
        values.push(item(lexer)?);
    }
    lexer.need_sign(")", "expected `,` or `)`")?;
    Ok(values)
}

fn comparison_sign(lexer: &mut Lexer<'_>) -> Result<Option<Comparison>, TextError> {
    for how in Comparison::ALL {
        if lexer.take_sign(how.sign())? {
            return Ok(Some(how));
        }
    }
    Ok(None)
}

fn text_test(lexer: &mut Lexer<'_>, field: &Field) -> Result<TextTest, TextError> {
    let start = lexer.start();
    if *field == Field::Note {
        return match lexer.take_word("known")? {
            true => Ok(TextTest::Known),
            false => Err(lexer.unexpected(
                "expected `known`: nothing else can be asked of notes; a label of this name is `label.note`",
            )),
        };
    }
    if let Some(how) = comparison_sign(lexer)? {
        if *field == Field::State && !matches!(how, Comparison::Is | Comparison::IsNot) {
            let range = start..lexer.end_of_last();
            return Err(lexer.error(range, "states have no order".to_owned(), "expected `=`, `!=` or `in`"));
        }
        return Ok(TextTest::Compared(how, value(lexer, field)?));
    }
    if lexer.take_word("in")? {
        return Ok(TextTest::In(list(lexer, &mut |lexer| value(lexer, field))?));
    }
    if lexer.take_word("matches")? {
        return Ok(TextTest::Matches(lexer.need_text("expected a text in quotes, such as \"wv-*\"")?));
    }
    if lexer.take_word("known")? {
        return Ok(TextTest::Known);
    }
    if lexer.at_word("within") || lexer.at_word("before") || lexer.at_word("after") {
        let problem = format!("found {}, but `{field}` is not a time", lexer.peek());
        let range = lexer.start()..lexer.start() + 1;
        return Err(lexer.error(range, problem, "the times are cert.ends, seen and created"));
    }
    Err(lexer.unexpected("expected `=`, `!=`, `<`, `<=`, `>`, `>=`, `in`, `matches` or `known`"))
}

fn time_test(lexer: &mut Lexer<'_>) -> Result<TimeTest, TextError> {
    if let Some(how) = comparison_sign(lexer)? {
        return Ok(TimeTest::Compared(how, Instant::At(time(lexer)?)));
    }
    if lexer.take_word("known")? {
        return Ok(TimeTest::Known);
    }
    if lexer.take_word("within")? {
        return Ok(TimeTest::Within(span(lexer)?));
    }
    let how = match lexer.peek() {
        Token::Word(word) if word == "before" => Comparison::Less,
        Token::Word(word) if word == "after" => Comparison::More,
        _ => {
            let expected =
                "expected `within 30d`, `before` or `after` a time, `before 30d ago`, `known`, or a sign and a time";
            return Err(lexer.unexpected(expected));
        }
    };
    lexer.take()?;
    let is_span = matches!(lexer.peek(), Token::Word(word) if word.parse::<Span>().is_ok());
    if !is_span {
        return Ok(TimeTest::Compared(how, Instant::At(time(lexer)?)));
    }
    let span = span(lexer)?;
    if !lexer.take_word("ago")? {
        return Err(lexer.unexpected("expected `ago`"));
    }
    Ok(TimeTest::Compared(how, Instant::Ago(span)))
}

fn word_or_text(lexer: &mut Lexer<'_>, expected: &str) -> Result<(String, std::ops::Range<usize>), TextError> {
    let start = lexer.start();
    let text = match lexer.peek() {
        Token::Text(_) => lexer.need_text(expected)?,
        _ => lexer.need_word(expected)?,
    };
    Ok((text, start..lexer.end_of_last()))
}

fn time(lexer: &mut Lexer<'_>) -> Result<UnixTime, TextError> {
    let expected = "expected a time such as 2027-01-31T12:00:00Z, or a span and `ago`";
    let (text, range) = word_or_text(lexer, expected)?;
    text.parse().map_err(|error: crate::time::BadTime| lexer.error(range, error.to_string(), expected))
}

fn span(lexer: &mut Lexer<'_>) -> Result<Span, TextError> {
    let expected = "expected a span such as 30d, 12h or 90s";
    let (text, range) = word_or_text(lexer, expected)?;
    text.parse().map_err(|error: crate::time::BadSpan| lexer.error(range, error.to_string(), expected))
}

/// A value: facts in their normal form, everything else a name.
fn value(lexer: &mut Lexer<'_>, field: &Field) -> Result<String, TextError> {
    let is_quoted = matches!(lexer.peek(), Token::Text(_));
    let (text, range) = word_or_text(lexer, "expected a value")?;
    match field {
        Field::Fact(name) => match Fact::new(name.clone(), &text) {
            Ok(fact) => Ok(fact.value().to_owned()),
            Err(error) => Err(lexer.error(range, error.to_string(), &format!("expected a value for `{name}`"))),
        },
        Field::State if !DeviceState::ALL.iter().any(|state| state.as_str() == text) => {
            let expected = "expected listed, asking, issued, equipped, live, ended, held, out or retired";
            Err(lexer.error(range, format!("`{text}` is not a state"), expected))
        }
        _ => match id::check("value", &text) {
            Ok(()) => Ok(text),
            // A fact of the ward's own may have other characters, and stands in quotes then.
            Err(_) if is_quoted && may_be_own(field, &text) => Ok(text),
            Err(error) => Err(lexer.error(
                range,
                error.to_string(),
                "expected a name, or in quotes the value of a fact of the ward's own",
            )),
        },
    }
}

/// Whether a text can be the value of a fact of the ward's own that a field means.
fn may_be_own(field: &Field, text: &str) -> bool {
    match field {
        Field::Named(name) => Fact::new(FactName::Own(name.clone()), text).is_ok_and(|fact| fact.value() == text),
        _ => false,
    }
}
