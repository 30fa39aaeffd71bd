//! Conditions as SQL over the row of a device, with the same answers as the core's own evaluation: what is missing
//! compares false, never unknown.

use rusqlite::types::Value;
use tidy_warden_core::condition::{Condition, Field, Moment, TextTest, TimeTest};
use tidy_warden_core::time::UnixTime;

use super::rows::{USABLE_UNTIL, usable};

/// An expression over `devices` that is 1 where the condition holds at `now` and 0 elsewhere; what it binds goes to
/// `values`, whose numbers begin behind those that are there.
pub(super) fn sql(condition: &Condition, now: UnixTime, values: &mut Vec<Value>) -> String {
    match condition {
        Condition::Text(field, test) => text(&column(field, now, values), test, values),
        Condition::Time(moment, test) => time(&moment_column(*moment), (*moment, *test), now, values),
        Condition::Group(_, Some(rule)) => sql(rule, now, values),
        Condition::Group(name, None) => {
            let name = bind(values, Value::Text(name.to_string()));
            format!("EXISTS (SELECT 1 FROM json_each(devices.member_of) WHERE json_each.value = {name})")
        }
        Condition::All(parts) => joined(parts, "AND", now, values),
        Condition::Any(parts) => joined(parts, "OR", now, values),
        Condition::Not(part) => format!("NOT ({})", sql(part, now, values)),
    }
}

/// Halves, so that a long list does not become a deep expression.
fn joined(parts: &[Condition], word: &str, now: UnixTime, values: &mut Vec<Value>) -> String {
    match parts {
        [] => (if word == "AND" { "1" } else { "0" }).to_owned(),
        [one] => format!("({})", sql(one, now, values)),
        many => {
            let (front, back) = many.split_at(many.len() / 2);
            format!("({} {word} {})", joined(front, word, now, values), joined(back, word, now, values))
        }
    }
}

fn bind(values: &mut Vec<Value>, value: Value) -> String {
    values.push(value);
    format!("?{}", values.len())
}

fn column(field: &Field, now: UnixTime, values: &mut Vec<Value>) -> String {
    match field {
        Field::Id => "devices.id".to_owned(),
        Field::Kind => "devices.kind".to_owned(),
        Field::Owner => "devices.owner".to_owned(),
        Field::Gateway => "devices.gateway".to_owned(),
        // Names of labels and facts hold neither quotes nor backslashes.
        Field::Fact(name) => format!("json_extract(devices.facts, '$.\"{name}\"')"),
        Field::Label(name) => format!("json_extract(devices.labels, '$.\"{name}\"')"),
        Field::State => {
            let now = bind(values, Value::Integer(now.0));
            format!(
                "CASE WHEN devices.retired IS NOT NULL THEN 'retired' WHEN devices.out IS NOT NULL THEN 'out'
                 WHEN devices.held IS NOT NULL THEN 'held'
                 ELSE coalesce((SELECT CASE max(CASE WHEN first_used IS NOT NULL THEN 3 WHEN equipped IS NOT NULL THEN 2
                     ELSE 1 END) WHEN 3 THEN 'live' WHEN 2 THEN 'equipped' WHEN 1 THEN 'issued' END FROM credentials
                     WHERE device = devices.pk AND {} AND {USABLE_UNTIL} >= {now}),
                     CASE WHEN EXISTS (SELECT 1 FROM credentials WHERE device = devices.pk) THEN 'ended'
                     ELSE 'listed' END) END",
                usable()
            )
        }
    }
}

fn moment_column(moment: Moment) -> String {
    match moment {
        Moment::Seen => "devices.seen".to_owned(),
        Moment::Created => "devices.created".to_owned(),
        Moment::CertEnds => {
            format!(
                "(SELECT max({USABLE_UNTIL}) FROM credentials
                  WHERE device = devices.pk AND {})",
                usable()
            )
        }
    }
}

fn text(column: &str, test: &TextTest, values: &mut Vec<Value>) -> String {
    match test {
        TextTest::Compared(how, value) => {
            let value = bind(values, Value::Text(value.clone()));
            format!("coalesce({column} {} {value}, 0)", how.sign())
        }
        TextTest::In(all) => {
            let list = bind(values, Value::Text(serde_json::json!(all).to_string()));
            format!("coalesce({column} IN (SELECT value FROM json_each({list})), 0)")
        }
        TextTest::Matches(pattern) => {
            let pattern = bind(values, Value::Text(pattern.clone()));
            format!("coalesce(has_shape({pattern}, {column}), 0)")
        }
        TextTest::Known => format!("({column} IS NOT NULL)"),
    }
}

fn time(column: &str, (moment, test): (Moment, TimeTest), now: UnixTime, values: &mut Vec<Value>) -> String {
    match test {
        TimeTest::Compared(how, instant) => {
            let instant = bind(values, Value::Integer(instant.at(now).0));
            format!("coalesce({column} {} {instant}, 0)", how.sign())
        }
        TimeTest::Within(span) if moment.looks_back() => {
            let to = bind(values, Value::Integer(now.plus(span).0));
            format!("coalesce({column} <= {to}, 0)")
        }
        TimeTest::Within(span) => {
            let (from, to) = (bind(values, Value::Integer(now.0)), bind(values, Value::Integer(now.plus(span).0)));
            format!("coalesce({column} BETWEEN {from} AND {to}, 0)")
        }
        TimeTest::Known => format!("({column} IS NOT NULL)"),
    }
}
