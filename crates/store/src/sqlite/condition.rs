//! How conditions are said to SQLite.

use rusqlite::types::Value;
use tidy_warden_core::condition::Condition;
use tidy_warden_core::time::UnixTime;

use super::rows;
use crate::condition::{self, Dialect};

/// The values that are bound.
struct Sqlite<'v>(&'v mut Vec<Value>);

impl Sqlite<'_> {
    fn bind(&mut self, value: Value) -> String {
        self.0.push(value);
        format!("?{}", self.0.len())
    }
}

impl Dialect for Sqlite<'_> {
    const TRUE: &'static str = "1";
    const FALSE: &'static str = "0";
    const USABLE_UNTIL: &'static str = rows::USABLE_UNTIL;
    const SEEN: &'static str = "devices.seen";

    fn usable(&self) -> String {
        rows::usable()
    }

    fn text(&mut self, text: &str) -> String {
        self.bind(Value::Text(text.to_owned()))
    }

    fn number(&mut self, number: i64) -> String {
        self.bind(Value::Integer(number))
    }

    fn member(&self, column: &str, name: &str) -> String {
        format!("json_extract(devices.{column}, '$.\"{name}\"')")
    }

    fn in_group(&mut self, name: &str) -> String {
        let name = self.text(name);
        format!("EXISTS (SELECT 1 FROM json_each(devices.member_of) WHERE json_each.value = {name})")
    }

    fn is_one_of(&mut self, column: &str, texts: &[String]) -> String {
        let list = self.bind(Value::Text(serde_json::json!(texts).to_string()));
        format!("{column} IN (SELECT value FROM json_each({list}))")
    }

    fn has_shape(&mut self, column: &str, shape: &str) -> String {
        let shape = self.text(shape);
        format!("has_shape({shape}, {column})")
    }
}

/// An expression over `devices` that is 1 where the condition holds at `now` and 0 elsewhere; what it binds goes to
/// `values`, whose numbers begin behind those that are there.
pub(super) fn sql(condition: &Condition, now: UnixTime, values: &mut Vec<Value>) -> String {
    condition::sql(condition, now, &mut Sqlite(values))
}
