//! Conditions as SQL over the row of a device, with the same answers as the core's own evaluation: what is missing compares false,
//! never unknown.

use tidy_warden_core::condition::{Condition, Field, Moment, TextTest, TimeTest};
use tidy_warden_core::time::UnixTime;
use tokio_postgres::types::ToSql;

use super::rows::{USABLE_UNTIL, usable};

/// A value that a condition binds.
#[derive(Debug)]
pub(super) enum Value {
    Text(String),
    Texts(Vec<String>),
    Number(i64),
}

impl Value {
    pub(super) fn as_sql(&self) -> &(dyn ToSql + Sync) {
        match self {
            Self::Text(text) => text,
            Self::Texts(texts) => texts,
            Self::Number(number) => number,
        }
    }
}

/// An expression over `devices` that is true where the condition holds at `now` and false elsewhere; what it binds goes to `values`,
/// whose numbers begin behind those that are there.
pub(super) fn sql(condition: &Condition, now: UnixTime, values: &mut Vec<Value>) -> String {
    match condition {
        Condition::Text(field, test) => text(&column(field, now, values), test, values),
        Condition::Time(moment, test) => time(&moment_column(*moment), (*moment, *test), now, values),
        Condition::Group(_, Some(rule)) => sql(rule, now, values),
        Condition::Group(name, None) => {
            let name = bind(values, Value::Text(name.to_string()), "text");
            format!("({name} = ANY (devices.member_of))")
        }
        Condition::All(parts) => joined(parts, "AND", now, values),
        Condition::Any(parts) => joined(parts, "OR", now, values),
        Condition::Not(part) => format!("NOT ({})", sql(part, now, values)),
    }
}

/// Halves, so that a long list does not become a deep expression.
fn joined(parts: &[Condition], word: &str, now: UnixTime, values: &mut Vec<Value>) -> String {
    match parts {
        [] => (if word == "AND" { "true" } else { "false" }).to_owned(),
        [one] => format!("({})", sql(one, now, values)),
        many => {
            let (front, back) = many.split_at(many.len() / 2);
            format!("({} {word} {})", joined(front, word, now, values), joined(back, word, now, values))
        }
    }
}

fn bind(values: &mut Vec<Value>, value: Value, r#type: &str) -> String {
    values.push(value);
    format!("${}::{}", values.len(), r#type)
}

fn column(field: &Field, now: UnixTime, values: &mut Vec<Value>) -> String {
    match field {
        Field::Id => "devices.id".to_owned(),
        Field::Kind => "devices.kind".to_owned(),
        Field::Owner => "devices.owner".to_owned(),
        Field::Gateway => "devices.gateway".to_owned(),
        // Names of labels and facts hold no quotes.
        Field::Fact(name) => format!("((devices.facts ->> '{name}') COLLATE \"C\")"),
        Field::Label(name) => format!("((devices.labels ->> '{name}') COLLATE \"C\")"),
        Field::State => {
            let now = bind(values, Value::Number(now.0), "bigint");
            format!(
                "((CASE WHEN devices.retired IS NOT NULL THEN 'retired' WHEN devices.out IS NOT NULL THEN 'out'
                 WHEN devices.held IS NOT NULL THEN 'held'
                 ELSE coalesce((SELECT CASE max(CASE WHEN first_used IS NOT NULL THEN 3 WHEN equipped IS NOT NULL THEN 2
                     ELSE 1 END) WHEN 3 THEN 'live' WHEN 2 THEN 'equipped' WHEN 1 THEN 'issued' END FROM credentials
                     WHERE credentials.device = devices.pk AND {} AND {USABLE_UNTIL} >= {now}),
                     CASE WHEN EXISTS (SELECT 1 FROM credentials WHERE credentials.device = devices.pk) THEN 'ended'
                     ELSE 'listed' END) END) COLLATE \"C\")",
                usable()
            )
        }
    }
}

fn moment_column(moment: Moment) -> String {
    match moment {
        Moment::Seen => "(SELECT at FROM seen WHERE seen.device = devices.pk)".to_owned(),
        Moment::Created => "devices.created".to_owned(),
        Moment::CertEnds => format!(
            "(SELECT max({USABLE_UNTIL}) FROM credentials WHERE credentials.device = devices.pk AND {})",
            usable()
        ),
    }
}

/// A pattern in which only `*` has a meaning, as one of LIKE.
fn like(pattern: &str) -> String {
    let mut like = String::with_capacity(pattern.len());
    for c in pattern.chars() {
        match c {
            '*' => like.push('%'),
            '%' | '_' | '\\' => like.extend(['\\', c]),
            c => like.push(c),
        }
    }
    like
}

fn text(column: &str, test: &TextTest, values: &mut Vec<Value>) -> String {
    match test {
        TextTest::Compared(how, value) => {
            let value = bind(values, Value::Text(value.clone()), "text");
            format!("coalesce({column} {} {value}, false)", how.sign())
        }
        TextTest::In(all) => {
            let all = bind(values, Value::Texts(all.iter().map(ToString::to_string).collect()), "text[]");
            format!("coalesce({column} = ANY ({all}), false)")
        }
        TextTest::Matches(pattern) => {
            let pattern = bind(values, Value::Text(like(pattern)), "text");
            format!("coalesce({column} LIKE {pattern}, false)")
        }
        TextTest::Known => format!("({column} IS NOT NULL)"),
    }
}

fn time(column: &str, (moment, test): (Moment, TimeTest), now: UnixTime, values: &mut Vec<Value>) -> String {
    match test {
        TimeTest::Compared(how, instant) => {
            let instant = bind(values, Value::Number(instant.at(now).0), "bigint");
            format!("coalesce({column} {} {instant}, false)", how.sign())
        }
        TimeTest::Within(span) if moment.looks_back() => {
            let to = bind(values, Value::Number(now.plus(span).0), "bigint");
            format!("coalesce({column} <= {to}, false)")
        }
        TimeTest::Within(span) => {
            let from = bind(values, Value::Number(now.0), "bigint");
            let to = bind(values, Value::Number(now.plus(span).0), "bigint");
            format!("coalesce({column} BETWEEN {from} AND {to}, false)")
        }
        TimeTest::Known => format!("({column} IS NOT NULL)"),
    }
}
