//! Notices.

use rusqlite::{Connection, ToSql, params};
use tidy_warden_core::notice::NoticeRecord;
use tidy_warden_core::time::UnixTime;

use super::rows;
use super::{Sql, SqliteTx};
use crate::{ReadNotices, StoreError, WriteNotices};

fn all(connection: &Connection, rest: &str, values: &[&dyn ToSql]) -> Result<Vec<NoticeRecord>, StoreError> {
    let sql = format!("SELECT number, id, at, body, tries, due, taken, failed FROM notices {rest}");
    let mut statement = connection.prepare_cached(&sql)?;
    let mut found = statement.query(values)?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        all.push(NoticeRecord {
            number: row.get(0)?,
            id: row.get(1)?,
            at: UnixTime(row.get(2)?),
            body: row.get(3)?,
            tries: row.get(4)?,
            due: rows::time(row.get(5)?),
            taken: rows::time(row.get(6)?),
            failed: row.get(7)?,
        });
    }
    Ok(all)
}

impl<S: Sql> ReadNotices for S {
    fn due_notices(&self, now: UnixTime, limit: usize) -> Result<Vec<NoticeRecord>, StoreError> {
        all(self.sql(), "WHERE due <= ?1 ORDER BY due, number LIMIT ?2", params![now.0, rows::limit(limit)])
    }

    fn notices(&self, before: i64, limit: usize) -> Result<Vec<NoticeRecord>, StoreError> {
        all(self.sql(), "WHERE number < ?1 ORDER BY number DESC LIMIT ?2", params![before, rows::limit(limit)])
    }

    fn count_waiting_notices(&self) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM notices WHERE due IS NOT NULL";
        rows::count(self.sql().prepare_cached(sql)?.query_row([], |row| row.get(0))?)
    }
}

impl WriteNotices for SqliteTx<'_> {
    fn put_notice(&mut self, notice: &NoticeRecord) -> Result<(), StoreError> {
        let NoticeRecord { number, id, at, body, tries, due, taken, failed } = notice;
        let number = (*number > 0).then_some(*number);
        let sql = "INSERT OR REPLACE INTO notices (number, id, at, body, tries, due, taken, failed)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)";
        let row = params![number, id, at.0, body, tries, due.map(|at| at.0), taken.map(|at| at.0), failed];
        self.sql().prepare_cached(sql)?.execute(row)?;
        Ok(())
    }

    fn drop_notices(&mut self, before: UnixTime, limit: usize) -> Result<usize, StoreError> {
        let sql = "DELETE FROM notices WHERE number IN (SELECT number FROM notices
             WHERE due IS NULL AND at < ?1 AND number < (SELECT max(number) FROM notices) ORDER BY number LIMIT ?2)";
        Ok(self.sql().prepare_cached(sql)?.execute(params![before.0, rows::limit(limit)])?)
    }
}
