//! Errands.

use rusqlite::{Connection, Row, ToSql, params};
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::errand::{Brought, Carried, Errand, ErrandRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged, parsed};
use super::{Sql, SqliteTx};
use crate::{ErrandTally, ReadErrands, StoreError, WriteErrands};

const COLUMNS: &str =
    "SELECT number, devices.id, purpose, detail, nonce, sent, ends, signer, signature, state, ended, outcome, follows";
const FROM: &str = "FROM errands JOIN devices ON devices.pk = errands.device";

fn errand(row: &Row<'_>) -> Result<ErrandRecord, StoreError> {
    let text = |at| row.get_ref(at)?.as_str().map_err(|_| damaged("errand"));
    Ok(ErrandRecord {
        errand: Errand {
            number: row.get(0)?,
            device: parsed(text(1)?, "id")?,
            purpose: parsed(text(2)?, "errand")?,
            detail: row.get(3)?,
            nonce: row.get(4)?,
            sent: UnixTime(row.get(5)?),
            ends: UnixTime(row.get(6)?),
        },
        signer: Fingerprint(row.get(7)?),
        signature: row.get(8)?,
        state: text(9)?.parse().map_err(|_| damaged("errand"))?,
        ended: rows::time(row.get(10)?),
        outcome: row.get(11)?,
        follows: row.get(12)?,
    })
}

fn all(connection: &Connection, rest: &str, values: &[&dyn ToSql]) -> Result<Vec<ErrandRecord>, StoreError> {
    let mut statement = connection.prepare_cached(&format!("{COLUMNS} {FROM} {rest}"))?;
    let mut found = statement.query(values)?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        all.push(errand(row)?);
    }
    Ok(all)
}

impl<S: Sql> ReadErrands for S {
    fn errand(&self, number: i64) -> Result<Option<ErrandRecord>, StoreError> {
        Ok(all(self.sql(), "WHERE number = ?1", params![number])?.pop())
    }

    fn errands(&self, of: Option<&DeviceId>, before: i64, limit: usize) -> Result<Vec<ErrandRecord>, StoreError> {
        let limit = rows::limit(limit);
        match of {
            None => all(self.sql(), "WHERE number < ?1 ORDER BY number DESC LIMIT ?2", params![before, limit]),
            Some(device) => {
                let rest = "WHERE device = (SELECT pk FROM devices WHERE id = ?1) AND number < ?2
                     ORDER BY number DESC LIMIT ?3";
                all(self.sql(), rest, params![device.as_str(), before, limit])
            }
        }
    }

    fn open_errands(&self, receiver: &DeviceId, now: UnixTime, limit: usize) -> Result<Vec<ErrandRecord>, StoreError> {
        let rest = "WHERE state = 'open' AND ends >= ?2 AND device IN
                 (SELECT pk FROM devices WHERE id = ?1 UNION ALL SELECT pk FROM devices WHERE gateway = ?1)
             ORDER BY number LIMIT ?3";
        all(self.sql(), rest, params![receiver.as_str(), now.0, rows::limit(limit)])
    }

    fn errands_after(&self, number: i64, limit: usize) -> Result<Vec<(ErrandRecord, Option<DeviceId>)>, StoreError> {
        let sql = format!("{COLUMNS}, devices.gateway {FROM} WHERE number > ?1 ORDER BY number LIMIT ?2");
        let mut statement = self.sql().prepare_cached(&sql)?;
        let mut found = statement.query(params![number, rows::limit(limit)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            let gateway: Option<String> = row.get(13)?;
            all.push((errand(row)?, gateway.map(|id| parsed(&id, "gateway")).transpose()?));
        }
        Ok(all)
    }

    fn last_errand(&self) -> Result<i64, StoreError> {
        let sql = "SELECT coalesce(max(number), 0) FROM errands";
        Ok(self.sql().prepare_cached(sql)?.query_row([], |row| row.get(0))?)
    }

    fn carried(&self, numbers: &[i64]) -> Result<Vec<Carried>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT tries, first, last, answered, brought_by, answer FROM errand_traffic WHERE number = ?1",
        )?;
        let mut all = Vec::with_capacity(numbers.len());
        for number in numbers {
            let mut found = statement.query([number])?;
            all.push(match found.next()? {
                None => Carried::default(),
                Some(row) => Carried {
                    tries: row.get(0)?,
                    first: rows::time(row.get(1)?),
                    last: rows::time(row.get(2)?),
                    answer: match row.get::<_, Option<String>>(5)? {
                        None => None,
                        Some(text) => Some(Brought {
                            at: UnixTime(row.get(3)?),
                            by: parsed(&row.get::<_, String>(4)?, "id")?,
                            text,
                        }),
                    },
                },
            });
        }
        Ok(all)
    }

    fn answered_errands(&self, limit: usize) -> Result<Vec<i64>, StoreError> {
        let sql = "SELECT number FROM errand_traffic WHERE answer IS NOT NULL ORDER BY number LIMIT ?1";
        let mut statement = self.sql().prepare_cached(sql)?;
        let found = statement.query_map([rows::limit(limit)], |row| row.get(0))?;
        Ok(found.collect::<Result<_, _>>()?)
    }
}

impl WriteErrands for SqliteTx<'_> {
    fn put_errand(&mut self, record: &ErrandRecord) -> Result<(), StoreError> {
        let ErrandRecord { errand, signer, signature, state, ended, outcome, follows } = record;
        let Errand { number, device, purpose, detail, nonce, sent, ends } = errand;
        let sql = "INSERT OR REPLACE INTO errands (number, device, purpose, detail, nonce, sent, ends, signer, signature, state, ended,
                 outcome, follows)
             SELECT ?1, pk, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13 FROM devices WHERE id = ?2";
        let row = params![
            number,
            device.as_str(),
            purpose.as_str(),
            detail,
            nonce,
            sent.0,
            ends.0,
            signer.0,
            signature,
            state.as_str(),
            ended.map(|at| at.0),
            outcome,
            follows
        ];
        rows::found(self.sql().prepare_cached(sql)?.execute(row)?, "device", device)
    }

    fn drop_answer(&mut self, number: i64) -> Result<(), StoreError> {
        self.sql().prepare_cached("UPDATE errand_traffic SET answer = NULL WHERE number = ?1")?.execute([number])?;
        Ok(())
    }

    fn drop_errands(&mut self, before: UnixTime, limit: usize) -> Result<usize, StoreError> {
        let which = "SELECT number FROM errands WHERE ends < ?1 AND number < (SELECT max(number) FROM errands) ORDER BY ends, number
             LIMIT ?2";
        let values = params![before.0, rows::limit(limit)];
        let traffic = format!("DELETE FROM errand_traffic WHERE number IN ({which})");
        self.sql().prepare_cached(&traffic)?.execute(values)?;
        let errands = format!("DELETE FROM errands WHERE number IN ({which})");
        Ok(self.sql().prepare_cached(&errands)?.execute(values)?)
    }
}

/// Notes what guards did: an answer counts only while its errand is open, and the first one does.
pub(super) fn tally(connection: &Connection, tally: &ErrandTally<'_>) -> Result<(), StoreError> {
    let mut handed = connection.prepare_cached(
        "INSERT INTO errand_traffic (number, tries, first, last) SELECT ?1, 1, ?2, ?2 FROM errands WHERE number = ?1
         ON CONFLICT (number) DO UPDATE SET tries = tries + 1, first = coalesce(first, excluded.first), last = excluded.last",
    )?;
    for (number, at) in tally.handed {
        handed.execute(params![number, at.0])?;
    }
    let mut answered = connection.prepare_cached(
        "INSERT INTO errand_traffic (number, tries, answered, brought_by, answer)
         SELECT ?1, 0, ?2, ?3, ?4 FROM errands WHERE number = ?1 AND state = 'open'
         ON CONFLICT (number) DO UPDATE SET answered = excluded.answered, brought_by = excluded.brought_by,
             answer = excluded.answer WHERE errand_traffic.answer IS NULL",
    )?;
    for (number, brought) in tally.answers {
        answered.execute(params![number, brought.at.0, brought.by.as_str(), brought.text])?;
    }
    Ok(())
}
