//! Jobs.

use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;

use super::Database;
use super::connection::get;
use super::rows::{self, damaged};
use crate::{JobKind, JobRecord, Lease, ReadJobs, StoreError, WriteJobs};

const COLUMNS: &str =
    "SELECT number, kind, digest, plan, position, begun, actor, because, holder, lease, ended, stopped FROM jobs";

fn job(row: &Row) -> Result<JobRecord, StoreError> {
    let word: &str = get(row, 1)?;
    let kind = JobKind::ALL.into_iter().find(|kind| kind.as_str() == word);
    let lease = get::<Option<String>>(row, 8)?.zip(rows::time(get(row, 9)?));
    Ok(JobRecord {
        number: rows::small(row, 0, "job")?,
        kind: kind.ok_or_else(|| damaged("job"))?,
        digest: rows::digest(row, 2, "job")?,
        plan: get(row, 3)?,
        position: get(row, 4)?,
        begun: UnixTime(get(row, 5)?),
        actor: get(row, 6)?,
        because: get(row, 7)?,
        lease: lease.map(|(holder, until)| Lease { holder, until }),
        ended: rows::time(get(row, 10)?),
        stopped: get(row, 11)?,
    })
}

impl ReadJobs for Database {
    fn job(&self, number: u32) -> Result<Option<JobRecord>, StoreError> {
        let row = self.connection.maybe(&format!("{COLUMNS} WHERE number = $1"), &[&i64::from(number)])?;
        row.as_ref().map(job).transpose()
    }

    fn jobs(&self, open: bool, limit: usize) -> Result<Vec<JobRecord>, StoreError> {
        let which = if open { "WHERE ended IS NULL" } else { "" };
        let sql = format!("{COLUMNS} {which} ORDER BY number DESC LIMIT $1");
        self.connection.rows(&sql, &[&rows::limit(limit)])?.iter().map(job).collect()
    }

    fn job_part(&self, number: u32, place: u32) -> Result<Option<String>, StoreError> {
        let sql = "SELECT text FROM job_parts WHERE job = $1 AND place = $2";
        let row = self.connection.maybe(sql, &[&i64::from(number), &i64::from(place)])?;
        row.map(|row| get(&row, 0)).transpose()
    }
}

/// The two columns of a lease.
fn lease(job: &JobRecord) -> (Option<&str>, Option<i64>) {
    job.lease.as_ref().map(|lease| (lease.holder.as_str(), lease.until.0)).unzip()
}

impl WriteJobs for Database {
    fn insert_job(&mut self, job: &JobRecord) -> Result<(), StoreError> {
        let (holder, until) = lease(job);
        self.connection.write(
            "INSERT INTO jobs (number, kind, digest, plan, position, begun, actor, because, holder, lease, ended, stopped)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)",
            &[
                &i64::from(job.number),
                &job.kind.as_str(),
                &job.digest.as_slice(),
                &job.plan,
                &job.position,
                &job.begun.0,
                &job.actor,
                &job.because,
                &holder,
                &until,
                &job.ended.map(|at| at.0),
                &job.stopped,
            ],
        )
    }

    fn update_job(&mut self, job: &JobRecord) -> Result<(), StoreError> {
        let (holder, until) = lease(job);
        let updated = self.connection.run(
            "UPDATE jobs SET position = $2, holder = $3, lease = $4, ended = $5, stopped = $6 WHERE number = $1",
            &[&i64::from(job.number), &job.position, &holder, &until, &job.ended.map(|at| at.0), &job.stopped],
        )?;
        rows::found(updated, "job", &job.number)
    }

    fn put_job_part(&mut self, number: u32, place: u32, text: &str) -> Result<(), StoreError> {
        let sql = "INSERT INTO job_parts (job, place, text) VALUES ($1, $2, $3)";
        self.connection.write(sql, &[&i64::from(number), &i64::from(place), &text])
    }

    fn drop_job_parts(&mut self, number: u32) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM job_parts WHERE job = $1", &[&i64::from(number)])
    }
}
