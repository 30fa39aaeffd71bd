//! Errands.

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::errand::{Brought, Carried, Errand, ErrandRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::Database;
use super::connection::{Connection, get};
use super::rows;
use crate::{ErrandTally, ReadErrands, StoreError, WriteErrands};

const COLUMNS: &str =
    "SELECT number, devices.id, purpose, detail, nonce, sent, ends, signer, signature, state, ended, outcome, follows";
const FROM: &str = "FROM errands JOIN devices ON devices.pk = errands.device";

fn errand(row: &Row) -> Result<ErrandRecord, StoreError> {
    Ok(ErrandRecord {
        errand: Errand {
            number: get(row, 0)?,
            device: rows::word(row, 1, "id")?,
            purpose: rows::word(row, 2, "errand")?,
            detail: get(row, 3)?,
            nonce: rows::digest(row, 4, "errand")?,
            sent: UnixTime(get(row, 5)?),
            ends: UnixTime(get(row, 6)?),
        },
        signer: Fingerprint(rows::digest(row, 7, "errand")?),
        signature: get(row, 8)?,
        state: rows::word(row, 9, "errand")?,
        ended: rows::time(get(row, 10)?),
        outcome: get(row, 11)?,
        follows: get(row, 12)?,
    })
}

impl Database {
    fn all_errands(&self, rest: &str, values: &[&(dyn ToSql + Sync)]) -> Result<Vec<ErrandRecord>, StoreError> {
        self.connection.rows(&format!("{COLUMNS} {FROM} {rest}"), values)?.iter().map(errand).collect()
    }
}

impl ReadErrands for Database {
    fn errand(&self, number: i64) -> Result<Option<ErrandRecord>, StoreError> {
        Ok(self.all_errands("WHERE number = $1", &[&number])?.pop())
    }

    fn errands(&self, of: Option<&DeviceId>, before: i64, limit: usize) -> Result<Vec<ErrandRecord>, StoreError> {
        let limit = rows::limit(limit);
        match of {
            None => self.all_errands("WHERE number < $1 ORDER BY number DESC LIMIT $2", &[&before, &limit]),
            Some(device) => {
                let rest = "WHERE device = (SELECT pk FROM devices WHERE id = $1) AND number < $2
                     ORDER BY number DESC LIMIT $3";
                self.all_errands(rest, &[&device.as_str(), &before, &limit])
            }
        }
    }

    fn open_errands(&self, receiver: &DeviceId, now: UnixTime, limit: usize) -> Result<Vec<ErrandRecord>, StoreError> {
        let rest = "WHERE state = 'open' AND ends >= $2 AND device IN
                 (SELECT pk FROM devices WHERE id = $1 UNION ALL SELECT pk FROM devices WHERE gateway = $1)
             ORDER BY number LIMIT $3";
        self.all_errands(rest, &[&receiver.as_str(), &now.0, &rows::limit(limit)])
    }

    fn errands_after(&self, number: i64, limit: usize) -> Result<Vec<(ErrandRecord, Option<DeviceId>)>, StoreError> {
        let sql = format!("{COLUMNS}, devices.gateway {FROM} WHERE number > $1 ORDER BY number LIMIT $2");
        let found = self.connection.rows(&sql, &[&number, &rows::limit(limit)])?;
        found.iter().map(|row| Ok((errand(row)?, rows::maybe_word(row, 13, "gateway")?))).collect()
    }

    fn last_errand(&self) -> Result<i64, StoreError> {
        get(&self.connection.one("SELECT coalesce(max(number), 0) FROM errands", &[])?, 0)
    }

    fn carried(&self, numbers: &[i64]) -> Result<Vec<Carried>, StoreError> {
        let sql = "SELECT tries, first, last, answered, brought_by, answer
             FROM unnest($1::bigint[]) WITH ORDINALITY AS wanted (number, place) LEFT JOIN errand_traffic USING (number)
             ORDER BY place";
        let carried = |row: &Row| -> Result<Carried, StoreError> {
            let answer: Option<String> = get(row, 5)?;
            Ok(Carried {
                tries: u32::try_from(get::<Option<i64>>(row, 0)?.unwrap_or(0)).unwrap_or(u32::MAX),
                first: rows::time(get(row, 1)?),
                last: rows::time(get(row, 2)?),
                answer: match answer {
                    None => None,
                    Some(text) => Some(Brought { at: UnixTime(get(row, 3)?), by: rows::word(row, 4, "id")?, text }),
                },
            })
        };
        self.connection.rows(sql, &[&numbers])?.iter().map(carried).collect()
    }

    fn answered_errands(&self, limit: usize) -> Result<Vec<i64>, StoreError> {
        let sql = "SELECT number FROM errand_traffic WHERE answer IS NOT NULL ORDER BY number LIMIT $1";
        self.connection.rows(sql, &[&rows::limit(limit)])?.iter().map(|row| get(row, 0)).collect()
    }
}

impl WriteErrands for Database {
    fn put_errand(&mut self, record: &ErrandRecord) -> Result<(), StoreError> {
        let ErrandRecord { errand, signer, signature, state, ended, outcome, follows } = record;
        let Errand { number, device, purpose, detail, nonce, sent, ends } = errand;
        self.connection.write(
            "INSERT INTO errands (number, device, purpose, detail, nonce, sent, ends, signer, signature, state, ended, outcome, follows)
             SELECT $1, pk, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13 FROM devices WHERE id = $2
             ON CONFLICT (number) DO UPDATE SET state = excluded.state, ended = excluded.ended, outcome = excluded.outcome",
            &[
                number,
                &device.as_str(),
                &purpose.as_str(),
                detail,
                &nonce.as_slice(),
                &sent.0,
                &ends.0,
                &signer.0.as_slice(),
                signature,
                &state.as_str(),
                &ended.map(|at| at.0),
                outcome,
                follows,
            ],
        )
    }

    fn drop_answer(&mut self, number: i64) -> Result<(), StoreError> {
        self.connection.write("UPDATE errand_traffic SET answer = NULL WHERE number = $1", &[&number])
    }

    fn drop_errands(&mut self, before: UnixTime, limit: usize) -> Result<usize, StoreError> {
        let sql = "WITH old AS (
                 SELECT number FROM errands WHERE ends < $1 AND number < (SELECT max(number) FROM errands) ORDER BY ends, number LIMIT $2
             ), traffic AS (DELETE FROM errand_traffic WHERE number IN (SELECT number FROM old))
             DELETE FROM errands WHERE number IN (SELECT number FROM old)";
        self.connection.run(sql, &[&before.0, &rows::limit(limit)])
    }
}

/// Notes what guards did: an answer counts only while its errand is open, and the first one does.
pub(super) fn tally(connection: &Connection, tally: &ErrandTally<'_>) -> Result<(), StoreError> {
    for (number, at) in tally.handed {
        connection.write(
            "INSERT INTO errand_traffic (number, tries, first, last) SELECT $1, 1, $2, $2 FROM errands WHERE number = $1
             ON CONFLICT (number) DO UPDATE SET tries = errand_traffic.tries + 1,
                 first = coalesce(errand_traffic.first, excluded.first), last = excluded.last",
            &[number, &at.0],
        )?;
    }
    for (number, brought) in tally.answers {
        connection.write(
            "INSERT INTO errand_traffic (number, tries, answered, brought_by, answer)
             SELECT $1, 0, $2, $3, $4 FROM errands WHERE number = $1 AND state = 'open'
             ON CONFLICT (number) DO UPDATE SET answered = excluded.answered, brought_by = excluded.brought_by,
                 answer = excluded.answer WHERE errand_traffic.answer IS NULL",
            &[number, &brought.at.0, &brought.by.as_str(), &brought.text],
        )?;
    }
    Ok(())
}
