//! From text to policies: one reader, with a function for each production of the grammar in `docs/policies.md`. It is longer than other
//! files because whoever changes the grammar changes one place.

use std::collections::HashMap;
use std::hash::{Hash, Hasher};

use std::ops::Range;

use crate::condition::{Condition, Use};
use crate::id::{KindName, PolicyName};
use crate::text::{Lexer, Source, TextError, Token, nearest, quote};
use crate::topic::{ShareName, TopicName, split_share};

use super::item::{Item, Kind};
use super::{
    Act, ClientIdForm, Effect, Expect, ExpectDevice, Introduce, Limits, Pattern, Policy, Rate, Rule, RulePlace, Sole,
    Target,
};

/// The longest policy file, in octets.
pub(crate) const MAX_FILE: usize = 4 * 1024 * 1024;

/// Reads one policy file.
///
/// # Errors
/// Every place where it is not one, up to a hundred: after a mistake reading goes on at the next statement.
pub fn read_file(source: &Source) -> Result<Vec<Policy>, Vec<TextError>> {
    if source.text.len() > MAX_FILE {
        return Err(vec![TextError {
            place: source.place(0..0),
            problem: format!("the file has {} bytes", source.text.len()),
            expected: "expected at most 4 MiB; put policies into several files".to_owned(),
        }]);
    }
    Ok(read_all(source)?.1)
}

/// Parts, and where comments stand.
type Laid = (Vec<Item>, Vec<Range<usize>>);

/// The parts of a policy file as they are laid out, and its comments.
pub(super) fn read_with_items(source: &Source) -> Result<Laid, Vec<TextError>> {
    let reader = read_all(source)?.0;
    Ok((reader.items, reader.lexer.comments().to_vec()))
}

/// The most mistakes that are told of one file.
const MOST_ERRORS: usize = 100;

/// The words that a statement begins with, and what else a line may begin with at which reading can go on.
const STATEMENTS: [&str; 6] = ["allow", "deny", "sole", "expect", "}", "policy"];

fn read_all(source: &Source) -> Result<(Reader<'_>, Vec<Policy>), Vec<TextError>> {
    let mut reader = Reader { source, lexer: Lexer::unread(source), items: Vec::new(), errors: Vec::new() };
    match Lexer::new(source) {
        Ok(lexer) => reader.lexer = lexer,
        Err(error) => reader.went_wrong(error, &["policy"]),
    }
    let mut policies = Vec::new();
    while *reader.lexer.peek() != Token::End {
        match reader.policy() {
            Ok(policy) => policies.extend(policy),
            Err(error) => reader.went_wrong(error, &["policy"]),
        }
    }
    let mut lines: HashMap<usize, u32> = HashMap::new();
    policies
        .iter()
        .flat_map(|policy| &policy.rules)
        .for_each(|rule| *lines.entry(rule.at.place.line).or_default() += 1);
    for rule in policies.iter_mut().flat_map(|policy| &mut policy.rules) {
        rule.at.shares_line = lines.get(&rule.at.place.line).is_some_and(|count| *count > 1);
    }
    if reader.errors.is_empty() { Ok((reader, policies)) } else { Err(reader.errors) }
}

struct Reader<'a> {
    source: &'a Source,
    lexer: Lexer<'a>,
    items: Vec<Item>,
    errors: Vec<TextError>,
}

/// The statements of a policy.
#[derive(Default)]
struct Body {
    rules: Vec<Rule>,
    introduces: Vec<Introduce>,
    soles: Vec<Sole>,
    expects: Vec<Expect>,
}

/// What a rule says beside its topics and limits.
struct Rest {
    share: Option<ShareName>,
    for_children: bool,
    because: Option<String>,
}

/// A rule of the policy `policy`.
fn rule(
    effect: Effect,
    (target, limits, rest): (Target, Limits, Rest),
    (policy, place): (&PolicyName, crate::text::Place),
) -> Rule {
    let Rest { share, for_children, because } = rest;
    let at = RulePlace { policy: policy.clone(), place, says: 0, shares_line: false };
    let mut rule = Rule { effect, target, for_children, share, limits, because: None, at };
    let mut hasher = std::hash::DefaultHasher::new();
    (policy.as_str(), rule.to_string()).hash(&mut hasher);
    rule.at.says = hasher.finish();
    Rule { because, ..rule }
}

impl Reader<'_> {
    /// Notes a mistake, and goes on at the next line that begins with one of `words`.
    fn went_wrong(&mut self, error: TextError, words: &[&str]) {
        self.errors.push(error);
        if self.errors.len() < MOST_ERRORS { self.lexer.resume(words) } else { self.lexer = Lexer::unread(self.source) }
    }

    /// A policy; `None` if its head is not one, and its statements were read for their mistakes alone.
    fn policy(&mut self) -> Result<Option<Policy>, TextError> {
        let known = self.errors.len();
        if !self.lexer.at_word("policy") {
            return Err(self.lexer.unexpected("expected `policy NAME {`"));
        }
        let head = self.head().map_err(|error| self.went_wrong(error, &STATEMENTS)).ok();
        let mut body = Body::default();
        loop {
            let start = self.lexer.start();
            // What was left out may have been a brace; whoever mends that sees the rest.
            let lost = self.errors.len() > known && (self.lexer.at_word("policy") || *self.lexer.peek() == Token::End);
            if lost {
                return Ok(None);
            }
            match self.lexer.take_sign("}") {
                Ok(true) => {
                    self.item(start, Kind::Close);
                    let Body { rules, introduces, soles, expects } = body;
                    return Ok(head.map(|head| Policy { rules, introduces, soles, expects, ..head }));
                }
                Ok(false) => {
                    if let Err(error) = self.statement(head.as_ref().map(|head| &head.name), &mut body) {
                        self.went_wrong(error, &STATEMENTS);
                    }
                }
                Err(error) => {
                    self.went_wrong(error, &["policy"]);
                    return Ok(None);
                }
            }
        }
    }

    /// All of a policy before its first statement.
    fn head(&mut self) -> Result<Policy, TextError> {
        let start = self.lexer.start();
        self.lexer.take()?;
        let name_start = self.lexer.start();
        let word = self.lexer.need_word("expected the policy's name")?;
        let range = name_start..self.lexer.end_of_last();
        let name: PolicyName = word
            .parse()
            .map_err(|error| self.named_error(range.clone(), &error, "expected a name such as `pylon-vane`"))?;
        let place = self.source.place(start..range.end);
        self.lexer.need_sign("{", "expected `{`")?;
        self.item(start, Kind::Open(name.to_string()));
        let about_start = self.lexer.start();
        let about = match self.lexer.take_word("about")? {
            true => Some(self.lexer.need_text("expected a text in quotes")?),
            false => None,
        };
        if let Some(about) = &about {
            self.item(about_start, Kind::Head("about", quote(about)));
        }
        let for_start = self.lexer.start();
        if !self.lexer.take_word("for")? {
            return Err(self
                .lexer
                .unexpected("expected `for` and the devices that this policy is for, such as `for kind = windvane`"));
        }
        let subjects_start = self.lexer.start();
        let subjects = Condition::read(&mut self.lexer, Use::Policy)?;
        self.item(for_start, Kind::Head("for", subjects.to_string()));
        let subjects_place = self.source.place(subjects_start..self.lexer.end_of_last());
        let Body { rules, introduces, soles, expects } = Body::default();
        Ok(Policy { name, about, subjects, subjects_place, rules, introduces, soles, expects, place })
    }

    fn item(&mut self, start: usize, kind: Kind) {
        self.items.push(Item { range: start..self.lexer.end_of_last(), kind });
    }

    fn named_error(&self, range: std::ops::Range<usize>, error: &dyn std::fmt::Display, expected: &str) -> TextError {
        self.lexer.error(range, error.to_string(), expected)
    }

    /// Reads a statement of the policy `name` into `body`; without a name, for its mistakes alone.
    fn statement(&mut self, name: Option<&PolicyName>, body: &mut Body) -> Result<(), TextError> {
        let start = self.lexer.start();
        let expected = "expected `allow`, `deny`, `sole`, `expect` or `}`";
        let Token::Word(word) = self.lexer.peek().clone() else { return Err(self.lexer.unexpected(expected)) };
        match word.as_str() {
            "allow" | "deny" => {
                self.lexer.take()?;
                let effect = if word == "allow" { Effect::Allow } else { Effect::Deny };
                if self.lexer.at_word("introduce") {
                    return self.introduce(effect, start, name, body);
                }
                let (target, limits, rest) = self.rule_parts(effect)?;
                if let Some(name) = name {
                    let place = self.source.place(start..self.lexer.end_of_last());
                    let rule = rule(effect, (target, limits, rest), (name, place));
                    self.item(start, Kind::rule(&rule));
                    body.rules.push(rule);
                }
            }
            "expect" => {
                self.lexer.take()?;
                let expect = self.expect(start)?;
                self.item(start, Kind::Line(expect.to_string()));
                body.expects.push(expect);
            }
            "sole" => {
                self.lexer.take()?;
                if !self.lexer.take_word("publish")? {
                    return Err(self.lexer.unexpected("expected `publish` and a topic filter"));
                }
                let pattern = self.pattern()?;
                let range = start..self.lexer.end_of_last();
                if pattern.names_child() {
                    let problem = "a claim is for the policy's own devices, not for their children".to_owned();
                    return Err(self.lexer.error(
                        range,
                        problem,
                        "claim it in the policy of the children, with {device}",
                    ));
                }
                let place = self.source.place(range);
                self.item(start, Kind::Line(format!("sole publish {}", quote(&pattern.to_string()))));
                body.soles.push(Sole { pattern, place });
            }
            _ => {
                let range = start..start + word.len();
                let expected = match nearest(&word, ["allow", "deny", "sole", "expect"]) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => expected.to_owned(),
                };
                return Err(self.lexer.error(range, format!("found `{word}`"), &expected));
            }
        }
        Ok(())
    }

    /// `introduce kind NAME at most N`, behind `allow`.
    fn introduce(
        &mut self,
        effect: Effect,
        start: usize,
        policy: Option<&PolicyName>,
        body: &mut Body,
    ) -> Result<(), TextError> {
        let word = self.lexer.start();
        self.lexer.take()?;
        if effect == Effect::Deny {
            let range = word..self.lexer.end_of_last();
            let problem = "nobody introduces children who is not allowed to".to_owned();
            return Err(self.lexer.error(range, problem, "take this line out, and the one that allows it"));
        }
        if !self.lexer.take_word("kind")? {
            return Err(self.lexer.unexpected("expected `kind` and the kind that the children come as"));
        }
        let at = self.lexer.start();
        let kind = self.lexer.need_word("expected a kind, such as `cabin`")?;
        let range = at..self.lexer.end_of_last();
        let kind: KindName =
            kind.parse().map_err(|error| self.named_error(range, &error, "expected a kind, such as `cabin`"))?;
        if !self.lexer.take_word("at")? || !self.lexer.take_word("most")? {
            return Err(self
                .lexer
                .unexpected("expected `at most` and a number: what one gateway may bring in is bounded"));
        }
        let at = self.lexer.start();
        let expected = "expected a number from 1 to 10000";
        let number = self.lexer.need_word(expected)?;
        let most = number.parse().ok().filter(|most| (1..=Introduce::MOST).contains(most));
        let range = at..self.lexer.end_of_last();
        let most = most.ok_or_else(|| self.lexer.error(range, format!("found `{number}`"), expected))?;
        let because = match self.lexer.take_word("because")? {
            true => Some(self.lexer.need_text("expected the reason, a text in quotes")?),
            false => None,
        };
        if let Some(policy) = policy {
            let place = self.source.place(start..self.lexer.end_of_last());
            let at = RulePlace { policy: policy.clone(), place, says: 0, shares_line: false };
            let introduce = Introduce { kind, most, because, at };
            self.item(start, Kind::introduce(&introduce));
            body.introduces.push(introduce);
        }
        Ok(())
    }

    fn act(&mut self) -> Result<Act, TextError> {
        let expected = "expected `connect`, `publish` or `subscribe`";
        let start = self.lexer.start();
        let word = self.lexer.need_word(expected)?;
        let range = start..self.lexer.end_of_last();
        Act::ALL.into_iter().find(|act| act.as_str() == word).ok_or_else(|| {
            let expected = match nearest(&word, Act::ALL.map(Act::as_str)) {
                Some(near) => format!("did you mean `{near}`?"),
                None => expected.to_owned(),
            };
            self.lexer.error(range, format!("found `{word}`"), &expected)
        })
    }

    fn rule_parts(&mut self, effect: Effect) -> Result<(Target, Limits, Rest), TextError> {
        let act = self.act()?;
        let target = match act {
            Act::Connect => {
                if !self.lexer.take_word("as")? {
                    return Err(self.lexer.unexpected("expected `as \"{device}\"` or `as \"{device}:*\"`"));
                }
                Target::Connect(self.client_id()?)
            }
            Act::Publish => Target::Publish(self.pattern()?),
            Act::Subscribe => Target::Subscribe(self.pattern()?),
        };
        let (share, for_children) = self.whose(effect, &target)?;
        let limits_start = self.lexer.start();
        let limits = self.limits(act)?;
        if effect == Effect::Deny && limits != Limits::default() {
            let range = limits_start..self.lexer.end_of_last();
            return Err(self.lexer.error(
                range,
                "a deny has no limits".to_owned(),
                "deny the topics whole, or put the limit on the rule that allows them",
            ));
        }
        if self.lexer.at_word("for") || self.lexer.at_word("share") {
            return Err(self.lexer.unexpected("`share` and `for children` stand before the limits"));
        }
        let because = match self.lexer.take_word("because")? {
            true => Some(self.lexer.need_text("expected the reason, a text in quotes")?),
            false => None,
        };
        Ok((target, limits, Rest { share, for_children, because }))
    }

    /// `share "NAME"` and `for children`, in either order.
    fn whose(&mut self, effect: Effect, target: &Target) -> Result<(Option<ShareName>, bool), TextError> {
        let (mut share, mut for_children) = (None, false);
        let names_child = target.pattern().is_some_and(Pattern::names_child);
        let before = self.lexer.end_of_last();
        loop {
            let start = self.lexer.start();
            if share.is_none() && self.lexer.take_word("share")? {
                let name = self.lexer.need_text("expected the name of the share in quotes")?;
                let range = start..self.lexer.end_of_last();
                if effect == Effect::Deny || !matches!(target, Target::Subscribe(_)) {
                    let problem = "only an allow subscribe can be for a shared subscription".to_owned();
                    return Err(self.lexer.error(range, problem, "take `share` out"));
                }
                if name.is_empty() || name.contains(['/', '+', '#', '\0']) {
                    let expected = "expected a name without `/`, `+` and `#` (MQTT 5.0 section 4.8.2)";
                    return Err(self.lexer.error(range, format!("{name:?} cannot name a share"), expected));
                }
                share = Some(name);
            } else if !for_children && self.lexer.take_word("for")? {
                if !self.lexer.take_word("children")? {
                    return Err(self.lexer.unexpected("expected `children`"));
                }
                let range = start..self.lexer.end_of_last();
                if effect == Effect::Deny {
                    let expected = "put it into the policy of the children: what is denied to a child is denied to its gateway for it";
                    return Err(self.lexer.error(range, "a deny is not for children".to_owned(), expected));
                }
                if !names_child {
                    let expected =
                        "expected one level to be {child}, so that the gateway speaks for one child at a time";
                    return Err(self.lexer.error(
                        range,
                        "a rule for children must name the child".to_owned(),
                        expected,
                    ));
                }
                for_children = true;
            } else if names_child && !for_children {
                let problem = "`{child}` stands for nobody here".to_owned();
                return Err(self.lexer.error(before..before, problem, "add `for children`, or use {device}"));
            } else {
                return Ok((share, for_children));
            }
        }
    }

    fn client_id(&mut self) -> Result<ClientIdForm, TextError> {
        let expected = "expected \"{device}\" or \"{device}:*\", so that no device can take another's session";
        let start = self.lexer.start();
        let text = self.lexer.need_text(expected)?;
        [ClientIdForm::Device, ClientIdForm::DeviceAndMore].into_iter().find(|form| form.as_str() == text).ok_or_else(
            || {
                let range = start..self.lexer.end_of_last();
                self.lexer.error(range, format!("{text:?} is not a form of client identifier"), expected)
            },
        )
    }

    fn pattern(&mut self) -> Result<Pattern, TextError> {
        let start = self.lexer.start();
        let text = self.lexer.need_text("expected a topic filter in quotes")?;
        Pattern::parse(&text)
            .map_err(|(problem, expected)| self.lexer.error(start..self.lexer.end_of_last(), problem, expected))
    }

    fn limits(&mut self, act: Act) -> Result<Limits, TextError> {
        let mut limits = Limits::default();
        let mut first = true;
        loop {
            let more = if first { false } else { self.lexer.take_sign(",")? };
            let start = self.lexer.start();
            let Token::Word(word) = self.lexer.peek().clone() else {
                return if more { Err(self.lexer.unexpected("expected another limit")) } else { Ok(limits) };
            };
            if !matches!(word.as_str(), "qos" | "size" | "rate" | "no") || (!first && !more) {
                return match more {
                    true => Err(self.lexer.unexpected("expected `qos`, `size`, `rate` or `no retain`")),
                    false => Ok(limits),
                };
            }
            first = false;
            self.lexer.take()?;
            let fits = match act {
                Act::Connect => false,
                Act::Subscribe => word == "qos",
                Act::Publish => true,
            };
            if !fits {
                let range = start..self.lexer.end_of_last();
                let problem = format!("`{word}` does not limit a {}", act.as_str());
                let expected = match act {
                    Act::Subscribe => "a subscribe can be limited by `qos` only",
                    _ => "a connect has no limits",
                };
                return Err(self.lexer.error(range, problem, expected));
            }
            let twice = match word.as_str() {
                "qos" => limits.qos.replace(self.qos()?).is_some(),
                "size" => limits.size.replace(self.size()?).is_some(),
                "rate" => limits.rate.replace(self.rate()?).is_some(),
                _ => {
                    if !self.lexer.take_word("retain")? {
                        return Err(self.lexer.unexpected("expected `no retain`"));
                    }
                    std::mem::replace(&mut limits.no_retain, true)
                }
            };
            if twice {
                let range = start..self.lexer.end_of_last();
                return Err(self.lexer.error(range, format!("`{word}` stands here twice"), "expected each limit once"));
            }
        }
    }

    /// `<=` and a word that `parse` takes.
    fn bounded<T>(&mut self, expected: &str, parse: impl Fn(&str) -> Option<T>) -> Result<T, TextError> {
        self.lexer.need_sign("<=", "expected `<=`")?;
        let start = self.lexer.start();
        let word = self.lexer.need_word(expected)?;
        parse(&word)
            .ok_or_else(|| self.lexer.error(start..self.lexer.end_of_last(), format!("found `{word}`"), expected))
    }

    fn qos(&mut self) -> Result<u8, TextError> {
        self.bounded("expected 0, 1 or 2", |word| word.parse().ok().filter(|qos| *qos <= 2))
    }

    fn size(&mut self) -> Result<u32, TextError> {
        self.bounded("expected a size such as 200, 2KiB or 1MiB, at most 256MiB", parse_size)
    }

    fn rate(&mut self) -> Result<Rate, TextError> {
        let count = self.bounded("expected a rate such as 120/min", |word| {
            word.parse().ok().filter(|count| (1..=1_000_000).contains(count))
        })?;
        self.lexer.need_sign("/", "expected `/s`, `/min` or `/h`")?;
        let start = self.lexer.start();
        let unit = self.lexer.need_word("expected s, min or h")?;
        let seconds = match unit.as_str() {
            "s" => 1,
            "min" => 60,
            "h" => 3600,
            _ => {
                let range = start..self.lexer.end_of_last();
                return Err(self.lexer.error(range, format!("found `{unit}`"), "expected s, min or h"));
            }
        };
        Ok(Rate { count, seconds })
    }

    fn expect(&mut self, start: usize) -> Result<Expect, TextError> {
        let device = if self.lexer.take_sign("{")? {
            ExpectDevice::Described(self.description()?)
        } else {
            let at = self.lexer.start();
            let word =
                self.lexer.need_word("expected a device's id or a description such as {kind=windvane, site=ossel}")?;
            let range = at..self.lexer.end_of_last();
            ExpectDevice::Named(
                word.parse().map_err(|error| self.named_error(range, &error, "expected a device's id"))?,
            )
        };
        let act = self.act()?;
        let at = self.lexer.start();
        let subject = self.lexer.need_text("expected a topic, topic filter or client identifier in quotes")?;
        let bad = match act {
            Act::Connect => None,
            Act::Publish => TopicName::parse(&subject).err().map(|error| error.to_string()),
            Act::Subscribe => split_share(&subject).err().map(|error| error.to_string()),
        };
        if let Some(problem) = bad {
            return Err(self.lexer.error(at..self.lexer.end_of_last(), problem, "expected what a device would send"));
        }
        let allowed = match self.lexer.peek() {
            Token::Word(word) if word == "allowed" => true,
            Token::Word(word) if word == "denied" => false,
            _ => return Err(self.lexer.unexpected("expected `allowed` or `denied`")),
        };
        self.lexer.take()?;
        let place = self.source.place(start..self.lexer.end_of_last());
        Ok(Expect { device, act, subject, allowed, place })
    }

    fn description(&mut self) -> Result<Vec<(String, String)>, TextError> {
        let mut all = Vec::new();
        loop {
            let start = self.lexer.start();
            let name = self.lexer.need_word("expected id, kind, owner, gateway or a label")?;
            self.lexer.need_sign("=", "expected `=`")?;
            let value = self.lexer.need_word("expected a value")?;
            let range = start..self.lexer.end_of_last();
            for (what, text) in [("name", &name), ("value", &value)] {
                crate::id::check(what, text).map_err(|error| {
                    self.named_error(range.clone(), &error, "expected a name such as kind=windvane")
                })?;
            }
            all.push((name, value));
            if !self.lexer.take_sign(",")? {
                break;
            }
        }
        self.lexer.need_sign("}", "expected `,` or `}`")?;
        Ok(all)
    }
}

/// A size in octets, as policies write it: a number alone, or with `KiB` or `MiB`; at most 256 MiB.
#[must_use]
pub fn parse_size(word: &str) -> Option<u32> {
    let (number, unit) = match (word.strip_suffix("KiB"), word.strip_suffix("MiB")) {
        (Some(number), _) => (number, 1024),
        (_, Some(number)) => (number, 1024 * 1024),
        _ => (word, 1),
    };
    number.parse::<u32>().ok()?.checked_mul(unit).filter(|size| *size <= 256 * 1024 * 1024)
}
