//! Transactions: how each kind begins, and what becomes of a change whose COMMIT was in doubt.

use std::sync::atomic::Ordering;

use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::{Connection, get};
use crate::StoreError;

/// How far this machine's clock may be from the database's for what it writes to be taken, in seconds.
const CLOCK_DIFFERENCE: i64 = 60;

/// The channel of the notices that something changed.
pub(in crate::postgres) const CHANNEL: &str = "tidy_warden_change";

fn not_at_standby() -> StoreError {
    StoreError::Uncertain { detail: "the database committed it and gave up waiting for its standby".to_owned() }
}

fn not_taken() -> StoreError {
    StoreError::Away {
        detail: "the connection broke before the database took the change; nothing was changed".to_owned(),
    }
}

impl Connection {
    /// Begins a transaction that only reads, of one moment.
    pub(in crate::postgres) fn begin_reading(&self) -> Result<(), StoreError> {
        self.ready()?;
        self.again(|| self.begin("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"))
    }

    /// Asks several questions of one moment, in one round trip.
    pub(in crate::postgres) fn of_one_moment<const N: usize>(
        &self,
        questions: [(&str, &[&(dyn ToSql + Sync)]); N],
    ) -> Result<[Vec<Row>; N], StoreError> {
        self.ready()?;
        self.rows_between(["BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", "ROLLBACK"], questions)
    }

    /// Begins a change: from its first question on nobody else makes one until it ends, and what was committed before is seen. The
    /// row of its lock tells where the record ends: its `change`, `hash` and `tree` stand in the columns from 1 on.
    pub(in crate::postgres) fn begin_change(&self) -> Result<(), StoreError> {
        self.ready()?;
        self.check_clock()?;
        self.begin_with("SELECT moved, change, hash, tree FROM head FOR UPDATE");
        Ok(())
    }

    /// Begins to write what is only counted.
    pub(in crate::postgres) fn begin_tally(&self) -> Result<(), StoreError> {
        self.ready()?;
        self.begin_with("SELECT (SELECT moved FROM head) FROM tally FOR UPDATE");
        Ok(())
    }

    /// Begins to say that the ward moves: nobody changes or counts anything meanwhile.
    pub(in crate::postgres) fn begin_moving(&self) -> Result<(), StoreError> {
        self.ready()?;
        self.again(|| self.begin("BEGIN; SELECT change FROM head FOR UPDATE; SELECT one FROM tally FOR UPDATE"))
    }

    /// Begins to make the tables.
    pub(in crate::postgres) fn begin_founding(&self) -> Result<(), StoreError> {
        self.check_clock()?;
        self.begin("BEGIN")
    }

    /// Ends a transaction that an act which panicked left open, and sees to it that there is a line.
    fn ready(&self) -> Result<(), StoreError> {
        self.queue.clear();
        if self.in_transaction.get() {
            self.rollback();
        }
        self.mend()
    }

    fn check_clock(&self) -> Result<(), StoreError> {
        let ahead = self.clock_ahead.get();
        if ahead.abs() <= CLOCK_DIFFERENCE {
            return Ok(());
        }
        // It may have been set right since.
        self.hang_up();
        self.mend()?;
        match self.clock_ahead.get() {
            ahead if ahead.abs() <= CLOCK_DIFFERENCE => Ok(()),
            ahead => Err(StoreError::Clock { ahead }),
        }
    }

    fn begin(&self, sql: &str) -> Result<(), StoreError> {
        let begun = self.batch(sql);
        self.in_transaction.set(true);
        if begun.is_err() {
            self.rollback();
        }
        begun
    }

    /// Undoes the transaction that is open. If that cannot be said any more, the database finds out by itself.
    pub(in crate::postgres) fn rollback(&self) {
        self.queue.clear();
        if self.in_transaction.get() && self.batch("ROLLBACK").is_err() {
            self.hang_up();
        }
        self.in_transaction.set(false);
    }

    /// Commits the transaction that is open.
    pub(in crate::postgres) fn commit(&self) -> Result<(), StoreError> {
        if self.queue.has_only_a_lock() {
            self.queue.clear();
            return Ok(());
        }
        // Whether the ward was moved is known before anything is committed.
        let begun = self.locked().map(drop);
        self.heard.in_doubt.store(false, Ordering::SeqCst);
        match begun.and_then(|()| self.batch("COMMIT")) {
            Ok(()) => self.in_transaction.set(false),
            Err(error) => {
                self.rollback();
                return Err(error);
            }
        }
        match self.heard.in_doubt.swap(false, Ordering::SeqCst) {
            true => Err(not_at_standby()),
            false => Ok(()),
        }
    }

    /// Commits a change that goes by the name `act`. If the connection breaks over it, looks up what became of it.
    pub(in crate::postgres) fn commit_change(
        &self,
        act: [u8; 16],
        change: i64,
        is_new: bool,
    ) -> Result<(), StoreError> {
        let name = act.as_slice();
        match is_new {
            true => {
                let sql = "WITH act AS (INSERT INTO acts VALUES ($1, $2)) SELECT pg_notify($3, $4)";
                self.write(sql, &[&name, &change, &CHANNEL, &change.to_string()])?;
            }
            false => self.write("INSERT INTO acts VALUES ($1, $2)", &[&name, &change])?,
        }
        if change % 1000 == 0 {
            // Long enough for whoever lost a connection to come back and ask.
            self.write("DELETE FROM acts WHERE change < $1", &[&(change - 100_000)])?;
        }
        match self.commit() {
            Err(_) if self.is_broken() => self.look_up(act),
            other => other,
        }
    }

    /// Asks a function for an act that goes by the name `act`; gives what it answers, or nothing if the answer was lost and the act was
    /// done.
    pub(in crate::postgres) fn guard_act(
        &self,
        call: &str,
        values: &[&(dyn ToSql + Sync)],
        act: &[u8],
    ) -> Result<Option<Row>, StoreError> {
        self.ready()?;
        self.check_clock()?;
        let statement = self.prepared(call)?;
        self.heard.in_doubt.store(false, Ordering::SeqCst);
        match self.ask(async |client| client.query_one(&statement, values).await) {
            Err(_) if self.is_broken() => {}
            Err(error) => return Err(error),
            Ok(_) if self.heard.in_doubt.swap(false, Ordering::SeqCst) => return Err(not_at_standby()),
            Ok(row) => return Ok(Some(row)),
        }
        let found = self.mend().and_then(|()| self.one("SELECT guard_did($1)", &[&act])).and_then(|row| get(&row, 0));
        match found {
            Ok(true) => Ok(None),
            Ok(false) => Err(not_taken()),
            Err(error) => Err(StoreError::Uncertain { detail: error.to_string() }),
        }
    }

    /// Whether a change was committed of which only the database knows.
    fn look_up(&self, act: [u8; 16]) -> Result<(), StoreError> {
        let found = self.mend().and_then(|()| {
            // Whoever still holds the lock may be the very change that is asked for.
            self.begin("BEGIN; SELECT change FROM head FOR UPDATE")?;
            let found = self.maybe("SELECT 1 FROM acts WHERE act = $1", &[&act.as_slice()]);
            self.rollback();
            found
        });
        match found {
            Ok(Some(_)) => Ok(()),
            Ok(None) => Err(not_taken()),
            Err(error) => Err(StoreError::Uncertain { detail: error.to_string() }),
        }
    }
}
