//! The store in one SQLite file. Everything here moves rows and knows no rule.

mod admission;
mod asking;
mod authority;
mod claim;
mod condition;
mod credential;
mod device;
mod errand;
mod feed;
mod job;
mod notice;
mod policy;
mod post;
mod record;
mod reflex;
mod rows;
mod schema;
mod token;
mod traffic;
mod whole;

use std::collections::VecDeque;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags, Transaction, TransactionBehavior};
use tidy_warden_core::id::DeviceId;

use crate::{Cause, Fate, Feed, Founding, Mark, Store, StoreError, Survey, Tally, Tx, View, acts};

/// How long a writer waits for another before it gives up.
const PATIENCE: Duration = Duration::from_secs(20);

/// The page cache: at most 96 MiB, taken as it is needed. (Negative: KiB, not pages.)
const CACHE_KIB: i64 = -96 * 1024;

/// How many pages the write-ahead log may have before it is copied into the file.
const CHECKPOINT_PAGES: i64 = 20_000;

/// A ward's memory in an SQLite file in WAL mode: readers never wait, writers wait for each other.
#[derive(Debug)]
pub struct SqliteStore {
    connection: Connection,
    path: PathBuf,
    /// How long it waits for other processes.
    patience: Duration,
    /// Device and inode of the file that was opened.
    file: (u64, u64),
}

/// What rows are read from: a connection, with or without a transaction on it.
trait Sql {
    fn sql(&self) -> &Connection;
}

impl Sql for SqliteStore {
    fn sql(&self) -> &Connection {
        &self.connection
    }
}

/// A transaction, for reading or for writing.
struct SqliteTx<'a> {
    tx: Transaction<'a>,
    /// The rows of devices that were listed in it and have no credential yet: a batch names them in the same order, and to look each up
    /// again would cost a tenth of it.
    listed: VecDeque<(DeviceId, i64)>,
    /// Names of labels (`false`) and facts (`true`) that were noted in it.
    named: Vec<(bool, String)>,
}

impl<'a> SqliteTx<'a> {
    fn new(tx: Transaction<'a>) -> Self {
        Self { tx, listed: VecDeque::new(), named: Vec::new() }
    }
}

impl Sql for SqliteTx<'_> {
    fn sql(&self) -> &Connection {
        &self.tx
    }
}

impl Tx for SqliteTx<'_> {
    fn save(&mut self, mark: Mark) -> Result<(), StoreError> {
        Ok(self.sql().execute_batch(&format!("SAVEPOINT {}", mark.as_str()))?)
    }

    fn back(&mut self, mark: Mark) -> Result<(), StoreError> {
        self.listed.clear();
        self.named.clear();
        Ok(self.sql().execute_batch(&format!("ROLLBACK TO {}", mark.as_str()))?)
    }
}

impl SqliteStore {
    /// Makes the store of a new ward.
    ///
    /// # Errors
    /// A file is there already, or cannot be written.
    pub fn create(path: &Path, founding: &Founding<'_>, cause: &Cause) -> Result<Self, StoreError> {
        if path.exists() {
            return Err(StoreError::Exists { path: path.display().to_string() });
        }
        Self::make_file(path)?;
        let mut store = Self::connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        {
            let mut tx = store.locked()?;
            schema::create(tx.sql())?;
            acts::record::found(&mut tx, founding, cause)?;
            tx.tx.commit()?;
        }
        Ok(store)
    }

    /// Opens the store of a ward.
    ///
    /// # Errors
    /// There is none, it is damaged, or a newer version wrote it.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        if !path.exists() {
            return Err(StoreError::Absent { path: path.display().to_string() });
        }
        let mut store = Self::connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        if schema::check(&store.connection)? {
            schema::upgrade(&mut store.connection)?;
        }
        match whole::copied_from(&store.connection)? {
            Some(_) => Err(StoreError::Unfinished { path: path.display().to_string() }),
            None => Ok(store),
        }
    }

    /// Makes an empty file. SQLite gives its log the rights of the file, and would take those of the file from the umask.
    fn make_file(path: &Path) -> Result<(), StoreError> {
        let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path);
        made.map(drop).map_err(|error| StoreError::Unwritable { detail: format!("{}: {error}", path.display()) })
    }

    fn connect(path: &Path, flags: OpenFlags) -> Result<Self, StoreError> {
        let connection = Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
        connection.busy_timeout(PATIENCE)?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        connection.pragma_update(None, "synchronous", "FULL")?;
        // Rows refer to others by what a name was found to be a moment before, in the same transaction, and nothing that is referred
        // to is ever deleted: looking each reference up once more would only cost time. The tests look, after everything they do.
        connection.pragma_update(None, "foreign_keys", false)?;
        // A bulk run's batches fit the cache and the log, so that pages are written once and not shuffled to and fro.
        connection.pragma_update(None, "cache_size", CACHE_KIB)?;
        connection.pragma_update(None, "wal_autocheckpoint", CHECKPOINT_PAGES)?;
        connection.set_prepared_statement_cache_capacity(96);
        let flags = rusqlite::functions::FunctionFlags::SQLITE_DETERMINISTIC;
        connection.create_scalar_function("has_shape", 2, flags, |row| {
            let (shape, text) = (row.get_raw(0).as_str_or_null()?, row.get_raw(1).as_str_or_null()?);
            Ok(shape.zip(text).map(|(shape, text)| tidy_warden_core::condition::matches(shape, text)))
        })?;
        let gone = |_| StoreError::Absent { path: path.display().to_string() };
        let file = std::fs::metadata(path).map(|found| (found.dev(), found.ino())).map_err(gone)?;
        Ok(Self { connection, path: path.to_owned(), patience: PATIENCE, file })
    }

    /// Waits for other processes no longer than `patience` from now on; for those who must not be held up.
    ///
    /// # Errors
    /// The store cannot be used.
    pub fn set_patience(&mut self, patience: Duration) -> Result<(), StoreError> {
        self.patience = patience;
        Ok(self.connection.busy_timeout(patience)?)
    }

    /// An open file can be read long after it was removed or replaced; what is in it then is no longer the ward's memory.
    fn still_there(&self) -> Result<(), StoreError> {
        let found = std::fs::metadata(&self.path).map(|found| (found.dev(), found.ino()));
        match found {
            Ok(found) if found == self.file => Ok(()),
            Ok(_) => Err(StoreError::Replaced { path: self.path.display().to_string() }),
            Err(_) => Err(StoreError::Absent { path: self.path.display().to_string() }),
        }
    }

    /// A transaction that holds the writers' lock from its beginning, so that what it read stays true until it commits.
    fn locked(&mut self) -> Result<SqliteTx<'_>, StoreError> {
        // What is written to a file that was moved away is lost.
        self.still_there()?;
        Ok(SqliteTx::new(self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?))
    }

    /// The same for changes to a ward, which may have moved.
    fn writing(&mut self) -> Result<SqliteTx<'_>, StoreError> {
        let tx = self.locked()?;
        match whole::moved(tx.sql())? {
            Some(move_to) => Err(StoreError::Moved { move_to }),
            None => Ok(tx),
        }
    }

    /// Another connection to the same file, as patient as this one.
    fn another(&self) -> Result<Self, StoreError> {
        let mut another = Self::open(&self.path)?;
        another.set_patience(self.patience)?;
        Ok(another)
    }
}

impl Store for SqliteStore {
    fn view(&self, look: &mut dyn FnMut(&dyn View) -> Result<(), StoreError>) -> Result<(), StoreError> {
        self.still_there()?;
        look(&SqliteTx::new(self.connection.unchecked_transaction()?))
    }

    fn change(&mut self, act: &mut dyn FnMut(&mut dyn Tx) -> Result<Fate, StoreError>) -> Result<(), StoreError> {
        let mut tx = self.writing()?;
        match act(&mut tx)? {
            Fate::Keep => Ok(tx.tx.commit()?),
            Fate::Undo => Ok(tx.tx.rollback()?),
        }
    }

    fn tally(&mut self, tally: &Tally<'_>) -> Result<(), StoreError> {
        let tx = self.writing()?;
        traffic::tally(tx.sql(), tally)?;
        Ok(tx.tx.commit()?)
    }

    fn reopen(&mut self) -> Result<(), StoreError> {
        *self = self.another()?;
        Ok(())
    }

    fn check(&self) -> Result<Vec<String>, StoreError> {
        let mut found = Vec::new();
        let mut statement = self.sql().prepare("PRAGMA integrity_check(20)")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let said: String = row.get(0)?;
            found.extend((said != "ok").then_some(said));
        }
        let mut statement =
            self.sql().prepare("SELECT \"table\", count(*) FROM pragma_foreign_key_check GROUP BY 1")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let (table, count): (String, i64) = (row.get(0)?, row.get(1)?);
            found.push(format!("{count} rows of `{table}` name something that is not there"));
        }
        Ok(found)
    }

    fn survey(&self) -> Result<Survey, StoreError> {
        let number = |sql: &str| -> Result<i64, StoreError> { Ok(self.sql().query_row(sql, [], |row| row.get(0))?) };
        let octets = number("PRAGMA page_count")?.saturating_mul(number("PRAGMA page_size")?);
        Ok(Survey {
            engine: format!("SQLite {}", rusqlite::version()),
            format: number("PRAGMA user_version")?,
            octets: octets.unsigned_abs(),
            // No row of them is ever taken away.
            devices: rows::count(number("SELECT coalesce(max(pk), 0) FROM devices")?)?,
            credentials: rows::count(number("SELECT coalesce(max(pk), 0) FROM credentials")?)?,
            entries: rows::count(number("SELECT coalesce(max(number), 0) FROM audit")?)?,
            oldest_reader: None,
            warnings: Vec::new(),
        })
    }

    fn feed(&self) -> Result<Box<dyn Feed>, StoreError> {
        Ok(Box::new(feed::SqliteFeed::new(self.another()?)))
    }
}
