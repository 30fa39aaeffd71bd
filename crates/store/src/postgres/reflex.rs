//! Evidence, and what reflexes made of it.

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::{Evidence, Hit, Noticed, Progress};
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::Database;
use super::connection::{Connection, get};
use super::rows;
use crate::{ReadReflexes, StoreError, WriteReflexes};

fn evidence(row: &Row) -> Result<(i64, Evidence), StoreError> {
    let evidence = Evidence {
        device: rows::word(row, 1, "id")?,
        at: UnixTime(get(row, 2)?),
        what: rows::word(row, 3, "evidence")?,
        count: rows::small(row, 4, "evidence")?,
        source: get(row, 5)?,
        is_proved: get(row, 6)?,
        text: get(row, 7)?,
    };
    Ok((get(row, 0)?, evidence))
}

impl Database {
    fn reflex_hits(&self, rest: &str, values: &[&(dyn ToSql + Sync)]) -> Result<Vec<Hit>, StoreError> {
        let sql = format!(
            "SELECT number, reflex, devices.id, at, act, evidence, source, undone FROM reflex_hits
             JOIN devices ON devices.pk = reflex_hits.device {rest}"
        );
        let hit = |row: &Row| {
            Ok(Hit {
                number: get(row, 0)?,
                reflex: get(row, 1)?,
                device: rows::word(row, 2, "id")?,
                at: UnixTime(get(row, 3)?),
                act: get(row, 4)?,
                evidence: get(row, 5)?,
                source: get(row, 6)?,
                undone: rows::time(get(row, 7)?),
            })
        };
        self.connection.rows(&sql, values)?.iter().map(hit).collect()
    }
}

impl ReadReflexes for Database {
    fn evidence_after(&self, number: i64, limit: usize) -> Result<Vec<(i64, Evidence)>, StoreError> {
        let sql = "SELECT number, devices.id, at, what, count, source, proved, text FROM evidence
             JOIN devices ON devices.pk = evidence.device WHERE number > $1 ORDER BY number LIMIT $2";
        self.connection.rows(sql, &[&number, &rows::limit(limit)])?.iter().map(evidence).collect()
    }

    fn count_evidence(&self, device: &DeviceId, what: Noticed, since: UnixTime) -> Result<u64, StoreError> {
        let sql = "SELECT coalesce(sum(count), 0)::bigint FROM evidence
             WHERE device = (SELECT pk FROM devices WHERE id = $1) AND what = $2 AND at >= $3 AND proved";
        rows::count(get(&self.connection.one(sql, &[&device.as_str(), &what.as_str(), &since.0])?, 0)?)
    }

    fn last_evidence(&self) -> Result<i64, StoreError> {
        get(&self.connection.one("SELECT coalesce(max(number), 0) FROM evidence", &[])?, 0)
    }

    fn reflex_progress(&self, reflex: &str) -> Result<Option<Progress>, StoreError> {
        let sql = "SELECT position, stopped, why FROM reflex_progress WHERE reflex = $1";
        let Some(row) = self.connection.maybe(sql, &[&reflex])? else { return Ok(None) };
        let (stopped, why): (Option<i64>, Option<String>) = (get(&row, 1)?, get(&row, 2)?);
        let stopped = stopped.map(|at| (UnixTime(at), why.unwrap_or_default()));
        Ok(Some(Progress { position: get(&row, 0)?, stopped }))
    }

    fn hits(&self, reflex: Option<&str>, before: i64, limit: usize) -> Result<Vec<Hit>, StoreError> {
        let limit = rows::limit(limit);
        match reflex {
            None => self.reflex_hits("WHERE number < $1 ORDER BY number DESC LIMIT $2", &[&before, &limit]),
            Some(reflex) => {
                let rest = "WHERE reflex = $1 AND number < $2 ORDER BY number DESC LIMIT $3";
                self.reflex_hits(rest, &[&reflex, &before, &limit])
            }
        }
    }

    fn count_hits(&self, reflex: &str, source: &str, since: UnixTime) -> Result<(u64, u64), StoreError> {
        let sql =
            "SELECT count(*), count(*) FILTER (WHERE source = $2) FROM reflex_hits WHERE reflex = $1 AND at >= $3";
        let row = self.connection.one(sql, &[&reflex, &source, &since.0])?;
        Ok((rows::count(get(&row, 0)?)?, rows::count(get(&row, 1)?)?))
    }

    fn last_hit(&self, reflex: &str, device: &DeviceId) -> Result<Option<Hit>, StoreError> {
        let rest = "WHERE reflex = $1 AND device = (SELECT pk FROM devices WHERE id = $2) ORDER BY number DESC LIMIT 1";
        Ok(self.reflex_hits(rest, &[&reflex, &device.as_str()])?.pop())
    }
}

impl WriteReflexes for Database {
    fn put_reflex_progress(&mut self, reflex: &str, progress: &Progress) -> Result<(), StoreError> {
        let (stopped, why) = progress.stopped.as_ref().map(|(at, why)| (at.0, why.as_str())).unzip();
        self.connection.write(
            "INSERT INTO reflex_progress (reflex, position, stopped, why) VALUES ($1, $2, $3, $4)
             ON CONFLICT (reflex) DO UPDATE SET position = excluded.position, stopped = excluded.stopped, why = excluded.why",
            &[&reflex, &progress.position, &stopped, &why],
        )
    }

    fn put_hit(&mut self, hit: &Hit) -> Result<(), StoreError> {
        let Hit { number, reflex, device, at, act, evidence, source, undone } = hit;
        self.connection.write(
            "INSERT INTO reflex_hits (number, reflex, device, at, act, evidence, source, undone)
             SELECT CASE WHEN $1::bigint > 0 THEN $1::bigint ELSE (SELECT coalesce(max(number), 0) + 1 FROM reflex_hits) END,
                 $2, pk, $4, $5, $6, $7, $8 FROM devices WHERE id = $3
             ON CONFLICT (number) DO UPDATE SET undone = excluded.undone",
            &[number, reflex, &device.as_str(), &at.0, act, evidence, source, &undone.map(|at| at.0)],
        )
    }

    fn drop_evidence(&mut self, before: UnixTime, below: i64, limit: usize) -> Result<usize, StoreError> {
        let sql = "DELETE FROM evidence WHERE number IN (SELECT number FROM evidence
             WHERE (at < $1 OR number < $3) AND number < (SELECT max(number) FROM evidence) ORDER BY number LIMIT $2)";
        self.connection.run(sql, &[&before.0, &rows::limit(limit), &below])
    }
}

/// Keeps what guards noticed, under the lock of `tally`.
pub(super) fn notice(connection: &Connection, all: &[Evidence]) -> Result<(), StoreError> {
    for each in all {
        let Evidence { device, at, what, count, source, is_proved, text } = each;
        connection.write(
            "INSERT INTO evidence (number, device, at, what, count, source, proved, text)
             SELECT (SELECT coalesce(max(number), 0) + 1 FROM evidence), pk, $2, $3, $4, $5, $6, $7 FROM devices WHERE id = $1",
            &[&device.as_str(), &at.0, &what.as_str(), &i64::from(*count), source, is_proved, text],
        )?;
    }
    Ok(())
}
