//! What the database says went wrong, as errors of a store.

use crate::{Move, StoreError};

/// An error in words, with what it came from.
pub(super) fn told(error: &tokio_postgres::Error) -> String {
    use std::error::Error;
    match error.source() {
        Some(source) => source.to_string(),
        None => error.to_string(),
    }
}

impl From<tokio_postgres::Error> for StoreError {
    fn from(error: tokio_postgres::Error) -> Self {
        use tokio_postgres::error::SqlState;
        let detail = told(&error);
        let Some(code) = error.code() else {
            return match error.is_closed()
                || std::error::Error::source(&error).is_some_and(|source| source.is::<std::io::Error>())
            {
                true => Self::Away { detail },
                false => Self::Damaged { detail },
            };
        };
        // Functions of ours tell by codes of ours.
        let said = || error.as_db_error().map(|error| error.message().to_owned()).unwrap_or_default();
        match code.code() {
            "TW001" => return Self::Moved { move_to: Move::from_text(&said()) },
            "TW002" => return Self::Unknown { what: "device", name: said() },
            _ => {}
        }
        match *code {
            SqlState::LOCK_NOT_AVAILABLE | SqlState::T_R_DEADLOCK_DETECTED | SqlState::T_R_SERIALIZATION_FAILURE => {
                Self::Busy
            }
            SqlState::UNIQUE_VIOLATION | SqlState::DUPLICATE_TABLE => Self::Taken,
            SqlState::READ_ONLY_SQL_TRANSACTION | SqlState::INSUFFICIENT_PRIVILEGE => Self::Forbidden { detail },
            // Insufficient resources (a full disk, no memory, too many connections), operator intervention and trouble of the
            // connection: it is shut down, it fails over.
            ref code if code.code().get(..2).is_some_and(|class| ["53", "57", "08"].contains(&class)) => {
                Self::Away { detail }
            }
            SqlState::IDLE_IN_TRANSACTION_SESSION_TIMEOUT => Self::Away { detail },
            _ => Self::Damaged { detail },
        }
    }
}
