//! Conditions as SQL over the row of a device, with the same answers as the core's own evaluation: what is missing compares false, never
//! unknown. The walk is the same for each engine; a [`Dialect`] has what differs.

use tidy_warden_core::condition::{Condition, Field, Moment, TextTest, TimeTest};
use tidy_warden_core::time::UnixTime;

/// How an engine says it. What a condition binds is kept by the dialect, and stands in the text as a mark.
pub(crate) trait Dialect {
    /// What is so, and what is not.
    const TRUE: &'static str;
    /// What is not so.
    const FALSE: &'static str;
    /// The last second in which a credential that is neither revoked nor distrusted may sign in.
    const USABLE_UNTIL: &'static str;
    /// When a device was seen.
    const SEEN: &'static str;

    /// Whether a credential has a second in which it may sign in.
    fn usable(&self) -> String;

    /// A mark for a text.
    fn text(&mut self, text: &str) -> String;

    /// A mark for a number.
    fn number(&mut self, number: i64) -> String;

    /// A member of a JSON column of devices; its name holds neither quotes nor backslashes.
    fn member(&self, column: &str, name: &str) -> String;

    /// A text that was put together, to be compared by octets.
    fn by_octets(&self, expression: &str) -> String {
        expression.to_owned()
    }

    /// Whether a device is in the fixed group `name`.
    fn in_group(&mut self, name: &str) -> String;

    /// Whether a column is one of these texts; unknown if it is missing.
    fn is_one_of(&mut self, column: &str, texts: &[String]) -> String;

    /// Whether a column has a shape, in which only `*` has a meaning; unknown if it is missing.
    fn has_shape(&mut self, column: &str, shape: &str) -> String;
}

/// An expression over `devices` that is true where the condition holds at `now` and false elsewhere.
pub(crate) fn sql(condition: &Condition, now: UnixTime, dialect: &mut impl Dialect) -> String {
    match condition {
        Condition::Text(field, test) => text(&column(field, now, dialect), test, dialect),
        Condition::Time(moment, test) => time(&moment_column(*moment, dialect), (*moment, *test), now, dialect),
        Condition::Group(_, Some(rule)) => sql(rule, now, dialect),
        Condition::Group(name, None) => dialect.in_group(name.as_str()),
        Condition::All(parts) => joined(parts, "AND", now, dialect),
        Condition::Any(parts) => joined(parts, "OR", now, dialect),
        Condition::Not(part) => format!("NOT ({})", sql(part, now, dialect)),
    }
}

/// Halves, so that a long list does not become a deep expression.
fn joined<D: Dialect>(parts: &[Condition], word: &str, now: UnixTime, dialect: &mut D) -> String {
    match parts {
        [] => (if word == "AND" { D::TRUE } else { D::FALSE }).to_owned(),
        [one] => format!("({})", sql(one, now, dialect)),
        many => {
            let (front, back) = many.split_at(many.len() / 2);
            format!("({} {word} {})", joined(front, word, now, dialect), joined(back, word, now, dialect))
        }
    }
}

/// What holds, or is false where something is missing.
fn known<D: Dialect>(test: &str) -> String {
    format!("coalesce({test}, {})", D::FALSE)
}

fn column<D: Dialect>(field: &Field, now: UnixTime, dialect: &mut D) -> String {
    match field {
        Field::Id => "devices.id".to_owned(),
        Field::Kind => "devices.kind".to_owned(),
        Field::Owner => "devices.owner".to_owned(),
        Field::Gateway => "devices.gateway".to_owned(),
        Field::Fact(name) => dialect.member("facts", name.as_str()),
        Field::Named(name) => {
            let (label, fact) = (dialect.member("labels", name.as_str()), dialect.member("facts", name.as_str()));
            format!("coalesce({label}, {fact})")
        }
        Field::Note => "devices.note".to_owned(),
        Field::State => {
            let (now, usable, until) = (dialect.number(now.0), dialect.usable(), D::USABLE_UNTIL);
            dialect.by_octets(&format!(
                "CASE WHEN devices.retired IS NOT NULL THEN 'retired' WHEN devices.out IS NOT NULL THEN 'out'
                 WHEN devices.held IS NOT NULL THEN 'held'
                 ELSE coalesce((SELECT CASE max(CASE WHEN first_used IS NOT NULL THEN 3 WHEN equipped IS NOT NULL THEN 2
                     ELSE 1 END) WHEN 3 THEN 'live' WHEN 2 THEN 'equipped' WHEN 1 THEN 'issued' END FROM credentials
                     WHERE credentials.device = devices.pk AND {usable} AND {until} >= {now}),
                     CASE WHEN EXISTS (SELECT 1 FROM credentials WHERE credentials.device = devices.pk) THEN 'ended'
                     ELSE 'listed' END) END"
            ))
        }
    }
}

fn moment_column<D: Dialect>(moment: Moment, dialect: &D) -> String {
    match moment {
        Moment::Seen => D::SEEN.to_owned(),
        Moment::Created => "devices.created".to_owned(),
        Moment::CertEnds => format!(
            "(SELECT max({}) FROM credentials WHERE credentials.device = devices.pk AND {})",
            D::USABLE_UNTIL,
            dialect.usable()
        ),
    }
}

fn text<D: Dialect>(column: &str, test: &TextTest, dialect: &mut D) -> String {
    match test {
        TextTest::Compared(how, value) => {
            let value = dialect.text(value);
            known::<D>(&format!("{column} {} {value}", how.sign()))
        }
        TextTest::In(all) => known::<D>(&dialect.is_one_of(column, all)),
        TextTest::Matches(shape) => known::<D>(&dialect.has_shape(column, shape)),
        TextTest::Known => format!("({column} IS NOT NULL)"),
    }
}

fn time<D: Dialect>(column: &str, (moment, test): (Moment, TimeTest), now: UnixTime, dialect: &mut D) -> String {
    match test {
        TimeTest::Compared(how, instant) => {
            let instant = dialect.number(instant.at(now).0);
            known::<D>(&format!("{column} {} {instant}", how.sign()))
        }
        TimeTest::Within(span) if moment.looks_back() => {
            let to = dialect.number(now.plus(span).0);
            known::<D>(&format!("{column} <= {to}"))
        }
        TimeTest::Within(span) => {
            let (from, to) = (dialect.number(now.0), dialect.number(now.plus(span).0));
            known::<D>(&format!("{column} BETWEEN {from} AND {to}"))
        }
        TimeTest::Known => format!("({column} IS NOT NULL)"),
    }
}
