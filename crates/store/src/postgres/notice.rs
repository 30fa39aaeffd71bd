//! Notices.

use tidy_warden_core::notice::NoticeRecord;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::Database;
use super::connection::get;
use super::rows;
use crate::{ReadNotices, StoreError, WriteNotices};

fn notice(row: &Row) -> Result<NoticeRecord, StoreError> {
    Ok(NoticeRecord {
        number: get(row, 0)?,
        id: get(row, 1)?,
        at: UnixTime(get(row, 2)?),
        body: get(row, 3)?,
        tries: rows::small(row, 4, "notice")?,
        due: rows::time(get(row, 5)?),
        taken: rows::time(get(row, 6)?),
        failed: get(row, 7)?,
    })
}

impl Database {
    fn all_notices(&self, rest: &str, values: &[&(dyn ToSql + Sync)]) -> Result<Vec<NoticeRecord>, StoreError> {
        let sql = format!("SELECT number, id, at, body, tries, due, taken, failed FROM notices {rest}");
        self.connection.rows(&sql, values)?.iter().map(notice).collect()
    }
}

impl ReadNotices for Database {
    fn due_notices(&self, now: UnixTime, limit: usize) -> Result<Vec<NoticeRecord>, StoreError> {
        self.all_notices("WHERE due <= $1 ORDER BY due, number LIMIT $2", &[&now.0, &rows::limit(limit)])
    }

    fn notices(&self, before: i64, limit: usize) -> Result<Vec<NoticeRecord>, StoreError> {
        self.all_notices("WHERE number < $1 ORDER BY number DESC LIMIT $2", &[&before, &rows::limit(limit)])
    }

    fn count_waiting_notices(&self) -> Result<u64, StoreError> {
        rows::count(get(&self.connection.one("SELECT count(*) FROM notices WHERE due IS NOT NULL", &[])?, 0)?)
    }
}

impl WriteNotices for Database {
    fn put_notice(&mut self, notice: &NoticeRecord) -> Result<(), StoreError> {
        let NoticeRecord { number, id, at, body, tries, due, taken, failed } = notice;
        self.connection.write(
            "INSERT INTO notices (number, id, at, body, tries, due, taken, failed)
             SELECT CASE WHEN $1::bigint > 0 THEN $1::bigint ELSE (SELECT coalesce(max(number), 0) + 1 FROM notices) END,
                 $2, $3, $4, $5, $6, $7, $8
             ON CONFLICT (number) DO UPDATE SET tries = excluded.tries, due = excluded.due, taken = excluded.taken,
                 failed = excluded.failed",
            &[number, id, &at.0, body, &i64::from(*tries), &due.map(|at| at.0), &taken.map(|at| at.0), failed],
        )
    }

    fn drop_notices(&mut self, before: UnixTime, limit: usize) -> Result<usize, StoreError> {
        let sql = "DELETE FROM notices WHERE number IN (SELECT number FROM notices
             WHERE due IS NULL AND at < $1 AND number < (SELECT max(number) FROM notices) ORDER BY number LIMIT $2)";
        self.connection.run(sql, &[&before.0, &rows::limit(limit)])
    }
}
