//! What can go wrong with a store, in a few neutral kinds.

/// The store could not do what it was asked. Refusals by rule are not errors of the store; they have types of their own.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// There is no store where one should be.
    #[error("there is no store at {path}")]
    Absent {
        /// Where.
        path: String,
    },
    /// Another file stands where the store was opened: a restore, perhaps.
    #[error("the store at {path} was replaced")]
    Replaced {
        /// Where.
        path: String,
    },
    /// It exists and must not.
    #[error("there is a store already at {path}")]
    Exists {
        /// Where.
        path: String,
    },
    /// It was written by a newer version of this program.
    #[error("the store has format {found}, and this program knows formats up to {known}")]
    Newer {
        /// Its format.
        found: i64,
        /// The newest that is known.
        known: i64,
    },
    /// It is not a store of this program, or damaged.
    #[error("the store cannot be read: {detail}")]
    Damaged {
        /// What is wrong.
        detail: String,
    },
    /// Another process held it for too long.
    #[error("another process is writing to the store and did not finish in time")]
    Busy,
    /// The database cannot be reached, or the connection to it broke. Nothing was changed.
    #[error("the database does not answer: {detail}")]
    Away {
        /// What happened.
        detail: String,
    },
    /// A change was sent to be committed, and nobody can tell whether it was.
    #[error("the database may or may not have taken the change: {detail}")]
    Uncertain {
        /// What happened.
        detail: String,
    },
    /// The database cannot be relied on as it is.
    #[error("the database cannot be relied on: {detail}")]
    Unsafe {
        /// Why not.
        detail: String,
    },
    /// This machine's clock is too far from the database's for what it writes to be taken.
    #[error("this machine's clock is {} s {} the database's", ahead.unsigned_abs(), if *ahead < 0 { "behind" } else { "ahead of" })]
    Clock {
        /// By how many seconds it is ahead.
        ahead: i64,
    },
    /// A row is there that the new one would be the double of.
    #[error("the store cannot be read: it holds already what was to be added")]
    Taken,
    /// The disk is full, or writing is not permitted.
    /// The disk is full, or writing is not permitted.
    #[error("the store cannot be written: {detail}")]
    Unwritable {
        /// What is wrong.
        detail: String,
    },
    /// What was named is not there.
    #[error("there is no {what} `{name}`")]
    Unknown {
        /// A device, an authority, ...
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// A job is not its holder's any more; nothing of what was to be done was.
    #[error("job {job} was taken over by another process, or has ended")]
    TakenOver {
        /// Its number.
        job: u32,
    },
    /// What the caller does between change and commit failed; nothing was changed.
    #[error("{0}")]
    Delivery(#[source] std::io::Error),
}

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        use rusqlite::ErrorCode;
        let detail = error.to_string();
        match error.sqlite_error_code() {
            Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => Self::Busy,
            Some(
                ErrorCode::DiskFull
                | ErrorCode::ReadOnly
                | ErrorCode::CannotOpen
                | ErrorCode::PermissionDenied
                | ErrorCode::SystemIoFailure,
            ) => Self::Unwritable { detail },
            _ => Self::Damaged { detail },
        }
    }
}
