//! What is said to the database without waiting for its answer: the beginning of a change, and its writes. All of it goes out with the
//! next question, or with the commit, so that a change that asks one question takes two round trips while everybody waits for its lock.
//!
//! What goes wrong with a write is told by the question behind it, or by the commit: nothing of the change stays then.

use std::cell::{Cell, RefCell};

use bytes::BytesMut;
use futures_util::future::{join, join_all, join3};
use tokio_postgres::error::SqlState;
use tokio_postgres::types::{IsNull, ToSql, Type, to_sql_checked};
use tokio_postgres::{Client, Row};

use super::{Connection, get};
use crate::{Move, StoreError};

/// How many writes may wait.
const MOST_WAITING: usize = 256;

/// How many octets of values may wait.
const MOST_OCTETS: usize = 1 << 20;

/// A value as it goes over the wire, for the type that its statement has for it.
#[derive(Debug)]
struct Encoded(Option<BytesMut>);

impl Encoded {
    fn of(value: &(dyn ToSql + Sync), r#type: &Type) -> Result<Self, StoreError> {
        let mut octets = BytesMut::new();
        match value.to_sql_checked(r#type, &mut octets) {
            Ok(IsNull::No) => Ok(Self(Some(octets))),
            Ok(IsNull::Yes) => Ok(Self(None)),
            Err(error) => Err(StoreError::Damaged { detail: error.to_string() }),
        }
    }

    fn octets(&self) -> usize {
        self.0.as_ref().map_or(0, BytesMut::len)
    }
}

impl ToSql for Encoded {
    fn to_sql(&self, _: &Type, out: &mut BytesMut) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        match &self.0 {
            Some(octets) => {
                out.extend_from_slice(octets);
                Ok(IsNull::No)
            }
            None => Ok(IsNull::Yes),
        }
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    to_sql_checked!();
}

/// A write that waits.
#[derive(Debug)]
struct Write {
    sql: String,
    values: Vec<Encoded>,
    /// What it is about, if it must touch a row.
    about: Option<(&'static str, String)>,
}

impl Write {
    fn failed(&self, error: tokio_postgres::Error) -> StoreError {
        match &self.about {
            Some((what, name)) if error.code() == Some(&SqlState::DIVISION_BY_ZERO) => {
                StoreError::Unknown { what, name: name.clone() }
            }
            _ => error.into(),
        }
    }
}

/// What was not said yet.
#[derive(Default)]
pub(super) struct Queue {
    /// What takes the lock with which the transaction begins; its row says first where the ward was moved to.
    lock: Cell<Option<&'static str>>,
    writes: RefCell<Vec<Write>>,
    octets: Cell<usize>,
    /// What the lock gave.
    locked: RefCell<Option<Row>>,
}

impl Queue {
    fn is_empty(&self) -> bool {
        self.lock.get().is_none() && self.writes.borrow().is_empty()
    }

    /// Whether the transaction is still to begin.
    pub(super) fn is_at_its_beginning(&self) -> bool {
        self.lock.get().is_some()
    }

    /// Whether the transaction is still to begin, and nothing is to be written in it.
    pub(super) fn has_only_a_lock(&self) -> bool {
        self.is_at_its_beginning() && self.writes.borrow().is_empty()
    }

    /// Forgets everything.
    pub(super) fn clear(&self) {
        self.lock.set(None);
        self.locked.take();
        self.clear_writes();
    }

    fn clear_writes(&self) {
        self.writes.borrow_mut().clear();
        self.octets.set(0);
    }
}

impl Connection {
    /// Begins a transaction with a lock before the first question of it; `sql` takes the lock.
    pub(super) fn begin_with(&self, lock: &'static str) {
        self.queue.clear();
        self.queue.lock.set(Some(lock));
    }

    /// What the lock of the transaction gave; it is taken now if it was not yet.
    pub(in crate::postgres) fn locked(&self) -> Result<Option<Row>, StoreError> {
        if self.queue.is_at_its_beginning() {
            self.again(|| self.ask(async |_| Ok(())))?;
        }
        Ok(self.queue.locked.borrow_mut().take())
    }

    /// Writes something of which nobody has to know how many rows it touched.
    pub(in crate::postgres) fn write(&self, sql: &str, values: &[&(dyn ToSql + Sync)]) -> Result<(), StoreError> {
        self.put(sql.to_owned(), values, None)
    }

    /// Writes something that must touch a row, or else there is no `what` with the name `name`.
    pub(in crate::postgres) fn write_one(
        &self,
        sql: &str,
        values: &[&(dyn ToSql + Sync)],
        what: &'static str,
        name: &dyn ToString,
    ) -> Result<(), StoreError> {
        // The commit may be on its way already when the answer comes: the database itself must see to it that it fails.
        let sql = format!("WITH touched AS ({sql} RETURNING 1) SELECT 1 / count(*) FROM touched");
        self.put(sql, values, Some((what, name.to_string())))
    }

    fn put(
        &self,
        sql: String,
        values: &[&(dyn ToSql + Sync)],
        about: Option<(&'static str, String)>,
    ) -> Result<(), StoreError> {
        if !self.in_transaction.get() && !self.queue.is_at_its_beginning() {
            return Err(StoreError::Damaged { detail: "a write outside of a change".to_owned() });
        }
        let statement = self.again(|| self.prepared(&sql))?;
        let types = statement.params();
        let values: Vec<Encoded> =
            values.iter().zip(types).map(|(value, r#type)| Encoded::of(*value, r#type)).collect::<Result<_, _>>()?;
        let octets = self.queue.octets.get() + values.iter().map(Encoded::octets).sum::<usize>();
        self.queue.octets.set(octets);
        let count = {
            let mut writes = self.queue.writes.borrow_mut();
            writes.push(Write { sql, values, about });
            writes.len()
        };
        if count >= MOST_WAITING || octets >= MOST_OCTETS {
            self.again(|| self.ask(async |_| Ok(())))?;
        }
        Ok(())
    }

    /// Asks something behind all that was not said yet, in one round trip.
    pub(super) fn ask<T>(
        &self,
        what: impl AsyncFnOnce(&Client) -> Result<T, tokio_postgres::Error>,
    ) -> Result<T, StoreError> {
        if self.queue.is_empty() {
            return self.ask_alone(what);
        }
        let lock = self.queue.lock.get().map(|sql| self.prepared(sql)).transpose()?;
        let writes = self.queue.writes.borrow();
        let statements = writes.iter().map(|write| self.prepared(&write.sql)).collect::<Result<Vec<_>, _>>()?;
        if lock.is_some() {
            self.in_transaction.set(true);
        }
        let asked = self.ask_alone(async |client| {
            let begun = async {
                let Some(lock) = &lock else { return Ok(Vec::new()) };
                let (begun, locked) = join(client.batch_execute("BEGIN"), client.query(lock, &[])).await;
                begun.and(locked)
            };
            let written = writes.iter().zip(&statements).map(async |(write, statement)| {
                let values: Vec<&(dyn ToSql + Sync)> =
                    write.values.iter().map(|value| -> &(dyn ToSql + Sync) { value }).collect();
                client.execute(statement, &values).await
            });
            // They are sent in this order, each without waiting for the one before.
            Ok(join3(begun, join_all(written), what(client)).await)
        });
        let told = asked.and_then(|(begun, written, answer)| {
            let row = begun?.into_iter().next();
            if let Some(row) = row {
                if let Some(text) = get::<Option<&str>>(&row, 0)? {
                    return Err(StoreError::Moved { move_to: Move::from_text(text) });
                }
                self.queue.locked.replace(Some(row));
            }
            for (write, done) in writes.iter().zip(written) {
                done.map_err(|error| write.failed(error))?;
            }
            Ok(answer?)
        });
        drop(writes);
        // Where the line was dead before anything was begun, all of it is said once more on another.
        match lock.is_some() && self.is_broken() {
            true => self.in_transaction.set(false),
            false => {
                self.queue.lock.set(None);
                self.queue.clear_writes();
            }
        }
        told
    }
}
