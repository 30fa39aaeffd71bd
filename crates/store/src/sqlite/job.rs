//! Jobs.

use rusqlite::{OptionalExtension, Row, params};
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged};
use super::{Sql, SqliteTx};
use crate::{JobKind, JobRecord, Lease, ReadJobs, StoreError, WriteJobs};

const COLUMNS: &str =
    "SELECT number, kind, digest, plan, position, begun, actor, because, holder, lease, ended, stopped FROM jobs";

fn job(row: &Row<'_>) -> Result<JobRecord, StoreError> {
    let word: String = row.get(1)?;
    let kind = JobKind::ALL.into_iter().find(|kind| kind.as_str() == word);
    let lease = row.get::<_, Option<String>>(8)?.zip(rows::time(row.get(9)?));
    Ok(JobRecord {
        number: row.get(0)?,
        kind: kind.ok_or_else(|| damaged("job"))?,
        digest: row.get(2)?,
        plan: row.get(3)?,
        position: row.get(4)?,
        begun: UnixTime(row.get(5)?),
        actor: row.get(6)?,
        because: row.get(7)?,
        lease: lease.map(|(holder, until)| Lease { holder, until }),
        ended: rows::time(row.get(10)?),
        stopped: row.get(11)?,
    })
}

impl<S: Sql> ReadJobs for S {
    fn job(&self, number: u32) -> Result<Option<JobRecord>, StoreError> {
        let mut statement = self.sql().prepare_cached(&format!("{COLUMNS} WHERE number = ?1"))?;
        statement.query([number])?.next()?.map(job).transpose()
    }

    fn jobs(&self, open: bool, limit: usize) -> Result<Vec<JobRecord>, StoreError> {
        let which = if open { "WHERE ended IS NULL" } else { "" };
        let mut statement = self.sql().prepare_cached(&format!("{COLUMNS} {which} ORDER BY number DESC LIMIT ?1"))?;
        let mut found = statement.query([rows::limit(limit)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(job(row)?);
        }
        Ok(all)
    }

    fn job_part(&self, number: u32, place: u32) -> Result<Option<String>, StoreError> {
        let sql = "SELECT text FROM job_parts WHERE job = ?1 AND place = ?2";
        Ok(self.sql().prepare_cached(sql)?.query_row([number, place], |row| row.get(0)).optional()?)
    }
}

/// The two columns of a lease.
fn lease(job: &JobRecord) -> (Option<&str>, Option<i64>) {
    job.lease.as_ref().map(|lease| (lease.holder.as_str(), lease.until.0)).unzip()
}

impl WriteJobs for SqliteTx<'_> {
    fn insert_job(&mut self, job: &JobRecord) -> Result<(), StoreError> {
        let (holder, until) = lease(job);
        self.sql().execute(
            "INSERT INTO jobs (number, kind, digest, plan, position, begun, actor, because, holder, lease, ended, stopped)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)",
            params![
                job.number,
                job.kind.as_str(),
                job.digest,
                job.plan,
                job.position,
                job.begun.0,
                job.actor,
                job.because,
                holder,
                until,
                job.ended.map(|at| at.0),
                job.stopped
            ],
        )?;
        Ok(())
    }

    fn update_job(&mut self, job: &JobRecord) -> Result<(), StoreError> {
        let (holder, until) = lease(job);
        let sql = "UPDATE jobs SET position = ?2, holder = ?3, lease = ?4, ended = ?5, stopped = ?6 WHERE number = ?1";
        let row = params![job.number, job.position, holder, until, job.ended.map(|at| at.0), job.stopped];
        rows::found(self.sql().prepare_cached(sql)?.execute(row)?, "job", &job.number)
    }

    fn put_job_part(&mut self, number: u32, place: u32, text: &str) -> Result<(), StoreError> {
        let sql = "INSERT INTO job_parts (job, place, text) VALUES (?1, ?2, ?3)";
        self.sql().prepare_cached(sql)?.execute(params![number, place, text])?;
        Ok(())
    }

    fn drop_job_parts(&mut self, number: u32) -> Result<(), StoreError> {
        self.sql().execute("DELETE FROM job_parts WHERE job = ?1", [number])?;
        Ok(())
    }
}
