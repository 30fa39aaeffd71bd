//! Groups, editions and trials.

use rusqlite::params;
use tidy_warden_core::id::GroupName;
use tidy_warden_core::policy::{PolicyFile, digest};
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged};
use super::{Sql, SqliteTx, record};
use crate::{
    EditionRecord, EditionSummary, GroupRecord, ReadPolicies, StoreError, TrialDifference, TrialRecord, WritePolicies,
};

impl<S: Sql> ReadPolicies for S {
    fn groups(&self) -> Result<Vec<GroupRecord>, StoreError> {
        let sql = "SELECT name, rule, created FROM device_groups ORDER BY name";
        let mut statement = self.sql().prepare_cached(sql)?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            let name = rows::parsed(&row.get::<_, String>(0)?, "group")?;
            all.push(GroupRecord { name, rule: row.get(1)?, created: UnixTime(row.get(2)?) });
        }
        Ok(all)
    }

    fn edition(&self, number: Option<u32>) -> Result<Option<EditionRecord>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT number, digest, author, at, because, files FROM editions
             WHERE number = coalesce(?1, (SELECT max(number) FROM editions))",
        )?;
        let mut found = statement.query([number])?;
        let Some(row) = found.next()? else { return Ok(None) };
        let files: Vec<PolicyFile> =
            serde_json::from_str(&row.get::<_, String>(5)?).map_err(|_| damaged("policy edition"))?;
        let record = EditionRecord {
            number: row.get(0)?,
            digest: row.get(1)?,
            author: row.get(2)?,
            at: UnixTime(row.get(3)?),
            because: row.get(4)?,
            files,
        };
        if digest(&record.files) != record.digest {
            let number = record.number;
            let detail = format!("edition {number} was changed: its text does not give the digest that was adopted");
            return Err(StoreError::Damaged { detail });
        }
        Ok(Some(record))
    }

    fn editions(&self) -> Result<Vec<EditionSummary>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT number, digest, author, at, because,
                 (SELECT json_group_array(json_extract(value, '$.name')) FROM json_each(files))
             FROM editions ORDER BY number",
        )?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            let files = row.get::<_, String>(5)?;
            all.push(EditionSummary {
                number: row.get(0)?,
                digest: row.get(1)?,
                author: row.get(2)?,
                at: UnixTime(row.get(3)?),
                because: row.get(4)?,
                files: serde_json::from_str(&files).map_err(|_| damaged("policy edition"))?,
            });
        }
        Ok(all)
    }

    fn trial(&self) -> Result<Option<TrialRecord>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT number, digest, author, at, until, because, files FROM trials WHERE ended IS NULL
             ORDER BY number DESC LIMIT 1",
        )?;
        let mut found = statement.query([])?;
        let Some(row) = found.next()? else { return Ok(None) };
        let files: Vec<PolicyFile> = serde_json::from_str(&row.get::<_, String>(6)?).map_err(|_| damaged("trial"))?;
        Ok(Some(TrialRecord {
            number: row.get(0)?,
            digest: row.get(1)?,
            author: row.get(2)?,
            at: UnixTime(row.get(3)?),
            until: UnixTime(row.get(4)?),
            because: row.get(5)?,
            files,
        }))
    }

    fn last_trial(&self) -> Result<u32, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT coalesce(max(number), 0) FROM trials")?;
        Ok(statement.query_row([], |row| row.get(0))?)
    }

    fn trial_differences(&self, trial: u32) -> Result<Vec<TrialDifference>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT device, act, would_allow, rule, sample, count, first, last FROM trial_differences WHERE trial = ?1
             ORDER BY would_allow, rule, act, device",
        )?;
        let mut found = statement.query([trial])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(TrialDifference {
                device: rows::parsed(&row.get::<_, String>(0)?, "trial")?,
                act: row.get(1)?,
                would_allow: row.get(2)?,
                rule: row.get(3)?,
                sample: row.get(4)?,
                count: row.get::<_, i64>(5)?.unsigned_abs(),
                first: UnixTime(row.get(6)?),
                last: UnixTime(row.get(7)?),
            });
        }
        Ok(all)
    }
}

impl WritePolicies for SqliteTx<'_> {
    fn put_group(&mut self, group: &GroupRecord) -> Result<(), StoreError> {
        self.sql().execute(
            "INSERT INTO device_groups (name, rule, created) VALUES (?1, ?2, ?3)
             ON CONFLICT (name) DO UPDATE SET rule = excluded.rule",
            params![group.name.as_str(), group.rule, group.created.0],
        )?;
        Ok(())
    }

    fn drop_group(&mut self, name: &GroupName) -> Result<bool, StoreError> {
        Ok(self.sql().execute("DELETE FROM device_groups WHERE name = ?1", [name.as_str()])? > 0)
    }

    fn put_groups_changed(&mut self, change: i64) -> Result<(), StoreError> {
        record::put_groups_changed(self.sql(), change)
    }

    fn put_edition(&mut self, edition: &EditionRecord) -> Result<(), StoreError> {
        let text = serde_json::to_string(&edition.files).map_err(|_| damaged("policy edition"))?;
        self.sql().execute(
            "INSERT INTO editions (number, digest, author, at, because, files) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![edition.number, edition.digest, edition.author, edition.at.0, edition.because, text],
        )?;
        Ok(())
    }

    fn put_trial(&mut self, trial: &TrialRecord) -> Result<(), StoreError> {
        let text = serde_json::to_string(&trial.files).map_err(|_| damaged("trial"))?;
        let row = params![trial.number, trial.digest, trial.author, trial.at.0, trial.until.0, trial.because, text];
        self.sql().execute(
            "INSERT INTO trials (number, digest, author, at, until, because, files)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            row,
        )?;
        Ok(())
    }

    fn end_trials(&mut self, at: UnixTime) -> Result<(), StoreError> {
        self.sql().execute("UPDATE trials SET ended = ?1 WHERE ended IS NULL", [at.0])?;
        Ok(())
    }
}
