//! What can go wrong with a store, in a few neutral kinds.

/// A note that a ward moves.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Move {
    /// Where to.
    pub to: String,
    /// Whether it is there.
    pub is_done: bool,
}

impl Move {
    /// As it is kept.
    pub(crate) fn text(&self) -> String {
        format!("{} {}", if self.is_done { "moved" } else { "moving" }, self.to)
    }

    /// From what is kept. What does not read back was moved: that is the word that lets nobody write.
    pub(crate) fn from_text(text: &str) -> Self {
        match text.split_once(' ') {
            Some(("moving", to)) => Self { to: to.to_owned(), is_done: false },
            Some(("moved", to)) => Self { to: to.to_owned(), is_done: true },
            _ => Self { to: text.to_owned(), is_done: true },
        }
    }
}

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
    /// An older version of this program wrote it, and this role may not bring it up to date.
    #[error(
        "the store has format {found}, this program works with format {known}, and only who owns its tables can bring it up to date"
    )]
    Older {
        /// Its format.
        found: i64,
        /// The one that is worked with.
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
    /// The role in the database may not do it.
    #[error("the database does not permit it: {detail}")]
    Forbidden {
        /// In the database's words.
        detail: String,
    },
    /// This machine's clock is too far from the database's for what it writes to be taken.
    #[error("this machine's clock is {} s {} the database's", ahead.unsigned_abs(), if *ahead < 0 { "behind" } else { "ahead of" })]
    Clock {
        /// By how many seconds it is ahead.
        ahead: i64,
    },
    /// The ward is elsewhere now, or on its way there; nothing is written here any more.
    #[error("this ward {} {}", if move_to.is_done { "was moved to" } else { "is being moved to" }, move_to.to)]
    Moved {
        /// Where to.
        move_to: Move,
    },
    /// A copy of a ward that was begun and not finished.
    #[error("the store at {path} is a copy that was not finished")]
    Unfinished {
        /// Where.
        path: String,
    },
    /// A row is there that the new one would be the double of.
    #[error("the store cannot be read: it holds already what was to be added")]
    Taken,
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

impl StoreError {
    /// Whether the store as a whole does not answer. (One row that does not read back is the trouble of whom it is about, and says
    /// nothing of the store.)
    #[must_use]
    pub fn is_silence(&self) -> bool {
        matches!(
            self,
            Self::Busy
                | Self::Absent { .. }
                | Self::Replaced { .. }
                | Self::Unwritable { .. }
                | Self::Away { .. }
                | Self::Uncertain { .. }
                | Self::Unsafe { .. }
                | Self::Forbidden { .. }
                | Self::Moved { .. }
                | Self::Unfinished { .. }
                | Self::Newer { .. }
                | Self::Older { .. }
        )
    }
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
