//! Devices that wait for a person, and children that gateways brought in.

use rusqlite::{Row, params};
use tidy_warden_core::asking::AskingRecord;
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::introduced::IntroducedRecord;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, parsed};
use super::{Sql, SqliteTx};
use crate::{ReadAsking, StoreError, WriteAsking};

const COLUMNS: &str = "SELECT key_digest, kind, facts, source, since, until, refused FROM asking";

fn asking(row: &Row<'_>) -> Result<AskingRecord, StoreError> {
    Ok(AskingRecord {
        key_digest: row.get(0)?,
        kind: parsed(&row.get::<_, String>(1)?, "kind")?,
        facts: rows::facts(&row.get::<_, String>(2)?)?,
        from: row.get(3)?,
        since: UnixTime(row.get(4)?),
        until: UnixTime(row.get(5)?),
        refused: rows::time(row.get(6)?),
    })
}

const CHILDREN: &str = "SELECT child, gateway, kind, labels, since, until, state FROM introduced";

fn introduced(row: &Row<'_>) -> Result<IntroducedRecord, StoreError> {
    let text = |at| row.get_ref(at)?.as_str().map_err(|_| rows::damaged("child"));
    Ok(IntroducedRecord {
        child: parsed(text(0)?, "id")?,
        gateway: parsed(text(1)?, "gateway")?,
        kind: parsed(text(2)?, "kind")?,
        labels: rows::labels(text(3)?)?,
        since: UnixTime(row.get(4)?),
        until: UnixTime(row.get(5)?),
        state: text(6)?.parse().map_err(|_| rows::damaged("child"))?,
    })
}

impl<S: Sql> ReadAsking for S {
    fn asking(&self, key_digest: &[u8; 32]) -> Result<Option<AskingRecord>, StoreError> {
        let mut statement = self.sql().prepare_cached(&format!("{COLUMNS} WHERE key_digest = ?1"))?;
        statement.query([key_digest])?.next()?.map(asking).transpose()
    }

    fn all_asking(&self, limit: usize) -> Result<Vec<AskingRecord>, StoreError> {
        let mut statement = self.sql().prepare_cached(&format!("{COLUMNS} ORDER BY since, key_digest LIMIT ?1"))?;
        let mut found = statement.query([rows::limit(limit)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(asking(row)?);
        }
        Ok(all)
    }

    fn introduced(&self, child: &DeviceId) -> Result<Option<IntroducedRecord>, StoreError> {
        let mut statement = self.sql().prepare_cached(&format!("{CHILDREN} WHERE child = ?1"))?;
        statement.query([child.as_str()])?.next()?.map(introduced).transpose()
    }

    fn waiting_children(&self, limit: usize) -> Result<Vec<IntroducedRecord>, StoreError> {
        let sql = format!("{CHILDREN} WHERE state = 'waits' ORDER BY since, child LIMIT ?1");
        let mut statement = self.sql().prepare_cached(&sql)?;
        let mut found = statement.query([rows::limit(limit)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(introduced(row)?);
        }
        Ok(all)
    }

    fn count_introduced(&self, gateway: &DeviceId, kind: &KindName) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM introduced WHERE gateway = ?1 AND kind = ?2";
        rows::count(self.sql().prepare_cached(sql)?.query_row([gateway.as_str(), kind.as_str()], |row| row.get(0))?)
    }

    fn count_asking(&self, from: &str) -> Result<(u64, u64, u64), StoreError> {
        let sql = "SELECT count(*) FILTER (WHERE refused IS NULL), count(*) FILTER (WHERE refused IS NULL AND source = ?1), count(*)
             FROM asking";
        let mut statement = self.sql().prepare_cached(sql)?;
        let (all, of_source, remembered) =
            statement.query_row([from], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
        Ok((rows::count(all)?, rows::count(of_source)?, rows::count(remembered)?))
    }
}

impl WriteAsking for SqliteTx<'_> {
    fn put_asking(&mut self, asking: &AskingRecord) -> Result<(), StoreError> {
        let AskingRecord { key_digest, kind, facts, from, since, until, refused } = asking;
        let sql = "INSERT OR REPLACE INTO asking (key_digest, kind, facts, source, since, until, refused)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let refused = refused.map(|at| at.0);
        let row = params![key_digest, kind.as_str(), rows::facts_of(facts), from, since.0, until.0, refused];
        self.sql().prepare_cached(sql)?.execute(row)?;
        Ok(())
    }

    fn put_introduced(&mut self, introduced: &IntroducedRecord) -> Result<(), StoreError> {
        let IntroducedRecord { child, gateway, kind, labels, since, until, state } = introduced;
        let sql = "INSERT OR REPLACE INTO introduced (child, gateway, kind, labels, since, until, state)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let labels = rows::labels_of(labels);
        let row = params![child.as_str(), gateway.as_str(), kind.as_str(), labels, since.0, until.0, state.as_str()];
        self.sql().prepare_cached(sql)?.execute(row)?;
        Ok(())
    }

    fn drop_asking(&mut self, key_digest: &[u8; 32]) -> Result<(), StoreError> {
        self.sql().prepare_cached("DELETE FROM asking WHERE key_digest = ?1")?.execute([key_digest])?;
        Ok(())
    }

    fn drop_lapsed_asking(&mut self, now: UnixTime) -> Result<(), StoreError> {
        self.sql().prepare_cached("DELETE FROM asking WHERE until < ?1")?.execute([now.0])?;
        Ok(())
    }
}
