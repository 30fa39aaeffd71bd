//! The bulk run.

use rusqlite::OptionalExtension;

use super::{Sql, SqliteTx};
use crate::{BulkRun, ReadJobs, StoreError, WriteJobs};

impl<S: Sql> ReadJobs for S {
    fn bulk_run(&self) -> Result<Option<BulkRun>, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT plan, position FROM bulk")?;
        let run = |row: &rusqlite::Row<'_>| Ok(BulkRun { plan: row.get(0)?, position: row.get(1)? });
        Ok(statement.query_row([], run).optional()?)
    }
}

impl WriteJobs for SqliteTx<'_> {
    fn put_bulk_run(&mut self, run: &BulkRun) -> Result<(), StoreError> {
        let sql = "INSERT INTO bulk (only, plan, position) VALUES (1, ?1, ?2)";
        self.sql().execute(sql, [&run.plan, &run.position])?;
        Ok(())
    }

    fn put_position(&mut self, position: &str) -> Result<(), StoreError> {
        self.sql().execute("UPDATE bulk SET position = ?1", [position])?;
        Ok(())
    }

    fn drop_bulk_run(&mut self) -> Result<bool, StoreError> {
        Ok(self.sql().execute("DELETE FROM bulk", [])? > 0)
    }
}
