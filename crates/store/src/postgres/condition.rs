//! How conditions are said to PostgreSQL.

use tidy_warden_core::condition::Condition;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::types::ToSql;

use super::rows;
use crate::condition::{self, Dialect};

/// A value that is bound.
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

/// The values that are bound.
struct Postgres<'v>(&'v mut Vec<Value>);

impl Postgres<'_> {
    fn bind(&mut self, value: Value, r#type: &str) -> String {
        self.0.push(value);
        format!("${}::{}", self.0.len(), r#type)
    }
}

impl Dialect for Postgres<'_> {
    const TRUE: &'static str = "true";
    const FALSE: &'static str = "false";
    const USABLE_UNTIL: &'static str = rows::USABLE_UNTIL;
    const SEEN: &'static str = "(SELECT at FROM seen WHERE seen.device = devices.pk)";

    fn usable(&self) -> String {
        rows::usable()
    }

    fn text(&mut self, text: &str) -> String {
        self.bind(Value::Text(text.to_owned()), "text")
    }

    fn number(&mut self, number: i64) -> String {
        self.bind(Value::Number(number), "bigint")
    }

    fn member(&self, column: &str, name: &str) -> String {
        self.by_octets(&format!("devices.{column} ->> '{name}'"))
    }

    fn by_octets(&self, expression: &str) -> String {
        format!("(({expression}) COLLATE \"C\")")
    }

    fn in_group(&mut self, name: &str) -> String {
        let name = self.text(name);
        format!("({name} = ANY (devices.member_of))")
    }

    fn is_one_of(&mut self, column: &str, texts: &[String]) -> String {
        let all = self.bind(Value::Texts(texts.to_vec()), "text[]");
        format!("{column} = ANY ({all})")
    }

    fn has_shape(&mut self, column: &str, shape: &str) -> String {
        let shape = self.text(&like(shape));
        format!("{column} LIKE {shape}")
    }
}

/// A shape in which only `*` has a meaning, as one of LIKE.
fn like(shape: &str) -> String {
    let mut like = String::with_capacity(shape.len());
    for c in shape.chars() {
        match c {
            '*' => like.push('%'),
            '%' | '_' | '\\' => like.extend(['\\', c]),
            c => like.push(c),
        }
    }
    like
}

/// An expression over `devices` that is true where the condition holds at `now` and false elsewhere; what it binds goes to `values`,
/// whose numbers begin behind those that are there.
pub(super) fn sql(condition: &Condition, now: UnixTime, values: &mut Vec<Value>) -> String {
    condition::sql(condition, now, &mut Postgres(values))
}
