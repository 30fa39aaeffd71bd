//! The store in one SQLite file.

mod broker;
mod condition;
mod keys;
mod policy;
mod read;
mod rows;
mod schema;
mod traffic;
mod write;

use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags, Transaction, TransactionBehavior, params};
use tidy_warden_core::audit::{Draft, Entry, GENESIS, Hash};

use crate::{Cause, Founding, StoreError};

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

impl SqliteStore {
    /// Makes the store of a new ward.
    ///
    /// # Errors
    /// A file is there already, or cannot be written.
    pub fn create(path: &Path, founding: &Founding<'_>, cause: &Cause) -> Result<Self, StoreError> {
        if path.exists() {
            return Err(StoreError::Exists { path: path.display().to_string() });
        }
        // SQLite gives its log the rights of the file, and would take those of the file from the umask.
        let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path);
        made.map_err(|error| StoreError::Unwritable { detail: format!("{}: {error}", path.display()) })?;
        let mut store = Self::connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        let tx = store.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        schema::create(&tx)?;
        write::found(&tx, founding, cause)?;
        tx.commit()?;
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
        Ok(store)
    }

    fn connect(path: &Path, flags: OpenFlags) -> Result<Self, StoreError> {
        let connection = Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
        connection.busy_timeout(PATIENCE)?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        // A bulk run's batches fit the cache and the log, so that pages are written once and not shuffled to and fro.
        connection.pragma_update(None, "cache_size", CACHE_KIB)?;
        connection.pragma_update(None, "wal_autocheckpoint", CHECKPOINT_PAGES)?;
        connection.set_prepared_statement_cache_capacity(64);
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
    fn writing(&mut self) -> Result<Transaction<'_>, StoreError> {
        // What is written to a file that was moved away is lost.
        self.still_there()?;
        Ok(self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?)
    }
}

/// Puts one entry at the end of the audit record; gives its number, which is the change number.
fn append(
    tx: &Transaction<'_>,
    cause: &Cause,
    act: &'static str,
    subject: &str,
    detail: &str,
) -> Result<i64, StoreError> {
    let (number, previous) = audit_end(tx)?;
    let draft = Draft {
        at: cause.at,
        actor: cause.actor.clone(),
        act,
        subject: subject.to_owned(),
        because: cause.because.clone(),
        detail: detail.to_owned(),
    };
    let entry = Entry::seal(draft, number + 1, previous);
    tx.prepare_cached(
        "INSERT INTO audit (number, at, actor, act, subject, because, detail, previous, hash)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
    )?
    .execute(params![
        entry.number,
        entry.at.0,
        entry.actor,
        entry.act,
        entry.subject,
        entry.because,
        entry.detail,
        entry.previous,
        entry.hash
    ])?;
    set_meta(tx, "audit_number", &entry.number)?;
    set_meta(tx, "audit_hash", &entry.hash)?;
    Ok(entry.number)
}

fn audit_end(connection: &Connection) -> Result<(i64, Hash), StoreError> {
    let number = meta::<i64>(connection, "audit_number")?.unwrap_or(0);
    Ok((number, meta(connection, "audit_hash")?.unwrap_or(GENESIS)))
}

fn meta<T: rusqlite::types::FromSql>(connection: &Connection, key: &str) -> Result<Option<T>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT value FROM meta WHERE key = ?1")?;
    let mut rows = statement.query([key])?;
    Ok(match rows.next()? {
        Some(row) => Some(row.get(0)?),
        None => None,
    })
}

fn set_meta(tx: &Transaction<'_>, key: &str, value: &dyn rusqlite::ToSql) -> Result<(), StoreError> {
    tx.prepare_cached("INSERT INTO meta (key, value) VALUES (?1, ?2) ON CONFLICT (key) DO UPDATE SET value = ?2")?
        .execute(params![key, value])?;
    Ok(())
}
