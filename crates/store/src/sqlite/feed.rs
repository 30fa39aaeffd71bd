//! Waiting for changes.

use std::time::{Duration, Instant};

use super::{Sql, SqliteStore};
use crate::{Changed, Feed, Head, Place, ReadDevices, StoreError, viewed};

/// How often the file is looked at.
const EVERY: Duration = Duration::from_millis(100);

/// A connection that only reads, so that whatever changed was changed by others.
pub(super) struct SqliteFeed {
    store: SqliteStore,
    /// What `PRAGMA data_version` said last: another number for each commit of another connection.
    version: Option<i64>,
}

impl SqliteFeed {
    pub(super) fn new(store: SqliteStore) -> Self {
        Self { store, version: None }
    }
}

impl Feed for SqliteFeed {
    fn wait(&mut self, since: i64, at_most: Duration) -> Result<Head, StoreError> {
        let began = Instant::now();
        loop {
            self.store.still_there()?;
            let version = self.store.sql().pragma_query_value(None, "data_version", |row| row.get(0))?;
            let is_over = began.elapsed() >= at_most;
            // The first time nobody knows what was committed before.
            if self.version.replace(version) != Some(version) || is_over {
                let head = viewed(&self.store, |view| view.head())?;
                if head.number != since || is_over {
                    return Ok(head);
                }
            }
            std::thread::sleep(EVERY.min(at_most.saturating_sub(began.elapsed())));
        }
    }

    fn changed(&self, after: Place, limit: usize) -> Result<Changed, StoreError> {
        self.store.still_there()?;
        ReadDevices::changed(&self.store, after, limit)
    }
}
