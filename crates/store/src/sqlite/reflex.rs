//! Evidence, and what reflexes made of it.

use rusqlite::{Connection, OptionalExtension, Row, ToSql, params};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::{Evidence, Hit, Noticed, Progress};
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged, parsed};
use super::{Sql, SqliteTx};
use crate::{ReadReflexes, StoreError, WriteReflexes};

fn hits(connection: &Connection, rest: &str, values: &[&dyn ToSql]) -> Result<Vec<Hit>, StoreError> {
    let mut statement = connection.prepare_cached(&format!(
        "SELECT number, reflex, devices.id, at, act, evidence, source, undone FROM reflex_hits
         JOIN devices ON devices.pk = reflex_hits.device {rest}"
    ))?;
    let mut found = statement.query(values)?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        all.push(Hit {
            number: row.get(0)?,
            reflex: row.get(1)?,
            device: parsed(&row.get::<_, String>(2)?, "id")?,
            at: UnixTime(row.get(3)?),
            act: row.get(4)?,
            evidence: row.get(5)?,
            source: row.get(6)?,
            undone: rows::time(row.get(7)?),
        });
    }
    Ok(all)
}

fn evidence(row: &Row<'_>) -> Result<(i64, Evidence), StoreError> {
    let what: String = row.get(3)?;
    let evidence = Evidence {
        device: parsed(&row.get::<_, String>(1)?, "id")?,
        at: UnixTime(row.get(2)?),
        what: what.parse().map_err(|_| damaged("evidence"))?,
        count: row.get(4)?,
        source: row.get(5)?,
        is_proved: row.get(6)?,
        text: row.get(7)?,
    };
    Ok((row.get(0)?, evidence))
}

impl<S: Sql> ReadReflexes for S {
    fn evidence_after(&self, number: i64, limit: usize) -> Result<Vec<(i64, Evidence)>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT number, devices.id, at, what, count, source, proved, text FROM evidence
             JOIN devices ON devices.pk = evidence.device WHERE number > ?1 ORDER BY number LIMIT ?2",
        )?;
        let mut found = statement.query(params![number, rows::limit(limit)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(evidence(row)?);
        }
        Ok(all)
    }

    fn count_evidence(&self, device: &DeviceId, what: Noticed, since: UnixTime) -> Result<u64, StoreError> {
        let sql = "SELECT coalesce(sum(count), 0) FROM evidence
             WHERE device = (SELECT pk FROM devices WHERE id = ?1) AND what = ?2 AND at >= ?3 AND proved = 1";
        let values = params![device.as_str(), what.as_str(), since.0];
        rows::count(self.sql().prepare_cached(sql)?.query_row(values, |row| row.get(0))?)
    }

    fn last_evidence(&self) -> Result<i64, StoreError> {
        let sql = "SELECT coalesce(max(number), 0) FROM evidence";
        Ok(self.sql().prepare_cached(sql)?.query_row([], |row| row.get(0))?)
    }

    fn reflex_progress(&self, reflex: &str) -> Result<Option<Progress>, StoreError> {
        let sql = "SELECT position, stopped, why FROM reflex_progress WHERE reflex = ?1";
        let found = self.sql().prepare_cached(sql)?.query_row([reflex], |row| {
            let stopped: Option<i64> = row.get(1)?;
            let why: Option<String> = row.get(2)?;
            let stopped = stopped.map(|at| (UnixTime(at), why.unwrap_or_default()));
            Ok(Progress { position: row.get(0)?, stopped })
        });
        Ok(found.optional()?)
    }

    fn hits(&self, reflex: Option<&str>, before: i64, limit: usize) -> Result<Vec<Hit>, StoreError> {
        let limit = rows::limit(limit);
        match reflex {
            None => hits(self.sql(), "WHERE number < ?1 ORDER BY number DESC LIMIT ?2", params![before, limit]),
            Some(reflex) => {
                let rest = "WHERE reflex = ?1 AND number < ?2 ORDER BY number DESC LIMIT ?3";
                hits(self.sql(), rest, params![reflex, before, limit])
            }
        }
    }

    fn count_hits(&self, reflex: &str, source: &str, since: UnixTime) -> Result<(u64, u64), StoreError> {
        let sql =
            "SELECT count(*), count(*) FILTER (WHERE source = ?2) FROM reflex_hits WHERE reflex = ?1 AND at >= ?3";
        let values = params![reflex, source, since.0];
        let (all, of_source) =
            self.sql().prepare_cached(sql)?.query_row(values, |row| Ok((row.get(0)?, row.get(1)?)))?;
        Ok((rows::count(all)?, rows::count(of_source)?))
    }

    fn last_hit(&self, reflex: &str, device: &DeviceId) -> Result<Option<Hit>, StoreError> {
        let rest = "WHERE reflex = ?1 AND device = (SELECT pk FROM devices WHERE id = ?2) ORDER BY number DESC LIMIT 1";
        Ok(hits(self.sql(), rest, params![reflex, device.as_str()])?.pop())
    }
}

impl WriteReflexes for SqliteTx<'_> {
    fn put_reflex_progress(&mut self, reflex: &str, progress: &Progress) -> Result<(), StoreError> {
        let (stopped, why) = progress.stopped.as_ref().map(|(at, why)| (at.0, why.as_str())).unzip();
        let sql = "INSERT OR REPLACE INTO reflex_progress (reflex, position, stopped, why) VALUES (?1, ?2, ?3, ?4)";
        self.sql().prepare_cached(sql)?.execute(params![reflex, progress.position, stopped, why])?;
        Ok(())
    }

    fn put_hit(&mut self, hit: &Hit) -> Result<(), StoreError> {
        let Hit { number, reflex, device, at, act, evidence, source, undone } = hit;
        let number = (*number > 0).then_some(*number);
        let sql = "INSERT OR REPLACE INTO reflex_hits (number, reflex, device, at, act, evidence, source, undone)
             SELECT ?1, ?2, pk, ?4, ?5, ?6, ?7, ?8 FROM devices WHERE id = ?3";
        let row = params![number, reflex, device.as_str(), at.0, act, evidence, source, undone.map(|at| at.0)];
        rows::found(self.sql().prepare_cached(sql)?.execute(row)?, "device", device)
    }

    fn drop_evidence(&mut self, before: UnixTime, below: i64, limit: usize) -> Result<usize, StoreError> {
        let sql = "DELETE FROM evidence WHERE number IN (SELECT number FROM evidence
             WHERE (at < ?1 OR number < ?3) AND number < (SELECT max(number) FROM evidence) ORDER BY number LIMIT ?2)";
        Ok(self.sql().prepare_cached(sql)?.execute(params![before.0, rows::limit(limit), below])?)
    }
}

/// Keeps what guards noticed.
pub(super) fn notice(connection: &Connection, all: &[Evidence]) -> Result<(), StoreError> {
    let mut put = connection.prepare_cached(
        "INSERT INTO evidence (device, at, what, count, source, proved, text)
         SELECT pk, ?2, ?3, ?4, ?5, ?6, ?7 FROM devices WHERE id = ?1",
    )?;
    for each in all {
        let Evidence { device, at, what, count, source, is_proved, text } = each;
        put.execute(params![device.as_str(), at.0, what.as_str(), count, source, is_proved, text])?;
    }
    Ok(())
}
