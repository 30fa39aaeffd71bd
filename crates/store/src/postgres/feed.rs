//! Waiting for changes.

use std::time::{Duration, Instant};

use super::Database;
use super::connection::{CHANNEL, Connection};
use crate::{Changed, Feed, Head, Place, ReadDevices, ReadRecord, StoreError};

/// How long it waits for a notice before it asks by itself.
const EVERY: Duration = Duration::from_secs(1);

/// A connection that listens.
pub(super) struct DatabaseFeed(Database);

impl DatabaseFeed {
    pub(super) fn new(connection: Connection) -> Result<Self, StoreError> {
        connection.greet(&format!("LISTEN {CHANNEL}"))?;
        Ok(Self(Database::new(connection)))
    }
}

impl Feed for DatabaseFeed {
    fn wait(&mut self, since: i64, at_most: Duration) -> Result<Head, StoreError> {
        let began = Instant::now();
        loop {
            let head = self.0.head()?;
            let left = at_most.saturating_sub(began.elapsed());
            if head.number != since || left.is_zero() {
                return Ok(head);
            }
            self.0.connection.wait_for_notice(left.min(EVERY))?;
        }
    }

    fn changed(&self, after: Place, limit: usize) -> Result<Changed, StoreError> {
        ReadDevices::changed(&self.0, after, limit)
    }
}
