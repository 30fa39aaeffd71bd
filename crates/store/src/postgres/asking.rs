//! Devices that wait for a person, and children that gateways brought in.

use tidy_warden_core::asking::AskingRecord;
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::introduced::IntroducedRecord;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;

use super::Database;
use super::connection::get;
use super::rows;
use crate::{ReadAsking, StoreError, WriteAsking};

const COLUMNS: &str = "SELECT key_digest, kind, facts::text, source, since, until, refused FROM asking";

fn asking(row: &Row) -> Result<AskingRecord, StoreError> {
    Ok(AskingRecord {
        key_digest: rows::digest(row, 0, "asking device")?,
        kind: rows::word(row, 1, "kind")?,
        facts: rows::facts(get(row, 2)?)?,
        from: get(row, 3)?,
        since: UnixTime(get(row, 4)?),
        until: UnixTime(get(row, 5)?),
        refused: rows::time(get(row, 6)?),
    })
}

const CHILDREN: &str = "SELECT child, gateway, kind, labels::text, since, until, state FROM introduced";

fn introduced(row: &Row) -> Result<IntroducedRecord, StoreError> {
    Ok(IntroducedRecord {
        child: rows::word(row, 0, "id")?,
        gateway: rows::word(row, 1, "gateway")?,
        kind: rows::word(row, 2, "kind")?,
        labels: rows::labels(get(row, 3)?)?,
        since: UnixTime(get(row, 4)?),
        until: UnixTime(get(row, 5)?),
        state: rows::word(row, 6, "child")?,
    })
}

impl ReadAsking for Database {
    fn asking(&self, key_digest: &[u8; 32]) -> Result<Option<AskingRecord>, StoreError> {
        let row = self.connection.maybe(&format!("{COLUMNS} WHERE key_digest = $1"), &[&key_digest.as_slice()])?;
        row.as_ref().map(asking).transpose()
    }

    fn all_asking(&self, limit: usize) -> Result<Vec<AskingRecord>, StoreError> {
        let sql = format!("{COLUMNS} ORDER BY since, key_digest LIMIT $1");
        self.connection.rows(&sql, &[&rows::limit(limit)])?.iter().map(asking).collect()
    }

    fn introduced(&self, child: &DeviceId) -> Result<Option<IntroducedRecord>, StoreError> {
        let row = self.connection.maybe(&format!("{CHILDREN} WHERE child = $1"), &[&child.as_str()])?;
        row.as_ref().map(introduced).transpose()
    }

    fn waiting_children(&self, limit: usize) -> Result<Vec<IntroducedRecord>, StoreError> {
        let sql = format!("{CHILDREN} WHERE state = 'waits' ORDER BY since, child LIMIT $1");
        self.connection.rows(&sql, &[&rows::limit(limit)])?.iter().map(introduced).collect()
    }

    fn count_introduced(&self, gateway: &DeviceId, kind: &KindName) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM introduced WHERE gateway = $1 AND kind = $2";
        rows::count(get(&self.connection.one(sql, &[&gateway.as_str(), &kind.as_str()])?, 0)?)
    }

    fn count_asking(&self, from: &str) -> Result<(u64, u64, u64), StoreError> {
        let sql = "SELECT count(*) FILTER (WHERE refused IS NULL), count(*) FILTER (WHERE refused IS NULL AND source = $1), count(*)
             FROM asking";
        let row = self.connection.one(sql, &[&from])?;
        let count = |at| rows::count(get(&row, at)?);
        Ok((count(0)?, count(1)?, count(2)?))
    }
}

impl WriteAsking for Database {
    fn put_asking(&mut self, asking: &AskingRecord) -> Result<(), StoreError> {
        let AskingRecord { key_digest, kind, facts, from, since, until, refused } = asking;
        self.connection.write(
            "INSERT INTO asking (key_digest, kind, facts, source, since, until, refused)
             VALUES ($1, $2, $3::text::json, $4, $5, $6, $7)
             ON CONFLICT (key_digest) DO UPDATE SET kind = excluded.kind, facts = excluded.facts, source = excluded.source,
                 since = excluded.since, until = excluded.until, refused = excluded.refused",
            &[
                &key_digest.as_slice(),
                &kind.as_str(),
                &rows::facts_of(facts),
                from,
                &since.0,
                &until.0,
                &refused.map(|at| at.0),
            ],
        )
    }

    fn put_introduced(&mut self, introduced: &IntroducedRecord) -> Result<(), StoreError> {
        let IntroducedRecord { child, gateway, kind, labels, since, until, state } = introduced;
        self.connection.write(
            "INSERT INTO introduced (child, gateway, kind, labels, since, until, state)
             VALUES ($1, $2, $3, $4::text::json, $5, $6, $7)
             ON CONFLICT (child) DO UPDATE SET gateway = excluded.gateway, kind = excluded.kind, labels = excluded.labels,
                 since = excluded.since, until = excluded.until, state = excluded.state",
            &[
                &child.as_str(),
                &gateway.as_str(),
                &kind.as_str(),
                &rows::labels_of(labels),
                &since.0,
                &until.0,
                &state.as_str(),
            ],
        )
    }

    fn drop_asking(&mut self, key_digest: &[u8; 32]) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM asking WHERE key_digest = $1", &[&key_digest.as_slice()])
    }

    fn drop_lapsed_asking(&mut self, now: UnixTime) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM asking WHERE until < $1", &[&now.0])
    }
}
