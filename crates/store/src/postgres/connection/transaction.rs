//! Transactions: how each kind begins, and what becomes of a change whose COMMIT was in doubt.

use std::sync::atomic::Ordering;

use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::{Connection, get};
use crate::{Move, StoreError};

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
        self.again(|| {
            let mut statements = Vec::with_capacity(N);
            for (sql, _) in &questions {
                statements.push(self.prepared(sql)?);
            }
            let answers = self.ask(async |client| {
                let asked =
                    statements.iter().zip(&questions).map(|(statement, (_, values))| client.query(statement, values));
                // They are sent in this order, each without waiting for the one before.
                let (begun, answers, ended) = futures_util::future::join3(
                    client.batch_execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"),
                    futures_util::future::join_all(asked),
                    client.batch_execute("ROLLBACK"),
                )
                .await;
                begun?;
                ended?;
                answers.into_iter().collect::<Result<Vec<_>, _>>()
            })?;
            answers.try_into().map_err(|_| StoreError::Damaged { detail: "an answer is missing".to_owned() })
        })
    }

    /// Begins a change: nobody else makes one until it ends, and what was committed before is seen. Gives where the record ends: its
    /// `change`, `hash` and `tree` stand in the columns from 1 on.
    pub(in crate::postgres) fn begin_change(&self) -> Result<Option<Row>, StoreError> {
        self.ready()?;
        self.check_clock()?;
        self.again(|| self.begin_locked("SELECT moved, change, hash, tree FROM head FOR UPDATE"))
    }

    /// Begins to write what is only counted.
    pub(in crate::postgres) fn begin_tally(&self) -> Result<(), StoreError> {
        self.ready()?;
        self.again(|| self.begin_locked("SELECT (SELECT moved FROM head) FROM tally FOR UPDATE")).map(drop)
    }

    /// Begins to say that the ward moves: nobody changes or counts anything meanwhile.
    pub(in crate::postgres) fn begin_moving(&self) -> Result<(), StoreError> {
        self.ready()?;
        self.again(|| self.begin("BEGIN; SELECT change FROM head FOR UPDATE; SELECT one FROM tally FOR UPDATE"))
    }

    /// Begins a transaction with a lock, in one round trip; `sql` takes it and says first where the ward was moved to. Gives its row.
    fn begin_locked(&self, sql: &str) -> Result<Option<Row>, StoreError> {
        let statement = self.prepared(sql)?;
        self.in_transaction.set(true);
        let begun = self.ask(async |client| {
            let (begun, locked) = tokio::join!(client.batch_execute("BEGIN"), client.query(&statement, &[]));
            begun.and(locked)
        });
        let begun = begun.and_then(|rows| {
            let row = rows.into_iter().next();
            let moved = row.as_ref().map_or(Ok(None), |row| get::<Option<String>>(row, 0))?;
            Ok((row, moved))
        });
        match begun {
            Ok((row, None)) => Ok(row),
            Ok((_, Some(text))) => {
                self.rollback();
                Err(StoreError::Moved { move_to: Move::from_text(&text) })
            }
            Err(error) => {
                self.rollback();
                Err(error)
            }
        }
    }

    /// Begins to make the tables.
    pub(in crate::postgres) fn begin_founding(&self) -> Result<(), StoreError> {
        self.check_clock()?;
        self.begin("BEGIN")
    }

    /// Ends a transaction that an act which panicked left open, and sees to it that there is a line.
    fn ready(&self) -> Result<(), StoreError> {
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
        if self.batch("ROLLBACK").is_err() {
            self.hang_up();
        }
        self.in_transaction.set(false);
    }

    /// Commits the transaction that is open, `with` more statements before that in the same round trip.
    pub(in crate::postgres) fn commit(&self, with: &str) -> Result<(), StoreError> {
        self.heard.in_doubt.store(false, Ordering::SeqCst);
        let done = self.batch(&format!("{with}COMMIT"));
        match done {
            Ok(()) => self.in_transaction.set(false),
            Err(_) => self.rollback(),
        }
        done?;
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
        let name = data_encoding::HEXLOWER.encode(&act);
        let notice = if is_new { format!("NOTIFY {CHANNEL}, '{change}';") } else { String::new() };
        // Long enough for whoever lost a connection to come back and ask.
        let forget = if change % 1000 == 0 {
            format!("DELETE FROM acts WHERE change < {};", change - 100_000)
        } else {
            String::new()
        };
        let with = format!("INSERT INTO acts VALUES ('\\x{name}', {change});{forget}{notice}");
        match self.commit(&with) {
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
