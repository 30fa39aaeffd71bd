//! Groups, editions and trials.

use tidy_warden_core::id::GroupName;
use tidy_warden_core::policy::{PolicyFile, digest};
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;

use super::Database;
use super::connection::get;
use super::rows::{self, damaged};
use crate::{
    EditionRecord, EditionSummary, GroupRecord, ReadPolicies, StoreError, TrialDifference, TrialRecord, WritePolicies,
};

fn files(row: &Row, at: usize, what: &str) -> Result<Vec<PolicyFile>, StoreError> {
    serde_json::from_str(get(row, at)?).map_err(|_| damaged(what))
}

fn files_text(files: &[PolicyFile]) -> Result<String, StoreError> {
    serde_json::to_string(files).map_err(|_| damaged("policy"))
}

impl ReadPolicies for Database {
    fn groups(&self) -> Result<Vec<GroupRecord>, StoreError> {
        let group = |row: &Row| {
            let name = rows::word(row, 0, "group")?;
            Ok(GroupRecord { name, rule: get(row, 1)?, created: UnixTime(get(row, 2)?) })
        };
        let sql = "SELECT name, rule, created FROM device_groups ORDER BY name";
        self.connection.rows(sql, &[])?.iter().map(group).collect()
    }

    fn edition(&self, number: Option<u32>) -> Result<Option<EditionRecord>, StoreError> {
        let sql = "SELECT number, digest, author, at, because, files FROM editions
             WHERE number = coalesce($1, (SELECT max(number) FROM editions))";
        let Some(row) = self.connection.maybe(sql, &[&number.map(i64::from)])? else { return Ok(None) };
        let record = EditionRecord {
            number: rows::small(&row, 0, "policy edition")?,
            digest: rows::digest(&row, 1, "policy edition")?,
            author: get(&row, 2)?,
            at: UnixTime(get(&row, 3)?),
            because: get(&row, 4)?,
            files: files(&row, 5, "policy edition")?,
        };
        if digest(&record.files) != record.digest {
            let number = record.number;
            let detail = format!("edition {number} was changed: its text does not give the digest that was adopted");
            return Err(StoreError::Damaged { detail });
        }
        Ok(Some(record))
    }

    fn editions(&self) -> Result<Vec<EditionSummary>, StoreError> {
        let sql = "SELECT number, digest, author, at, because,
                ARRAY(SELECT file ->> 'name' FROM json_array_elements(files::json) WITH ORDINALITY AS each (file, place)
                    ORDER BY place)
             FROM editions ORDER BY number";
        let edition = |row: &Row| {
            Ok(EditionSummary {
                number: rows::small(row, 0, "policy edition")?,
                digest: rows::digest(row, 1, "policy edition")?,
                author: get(row, 2)?,
                at: UnixTime(get(row, 3)?),
                because: get(row, 4)?,
                files: get(row, 5)?,
            })
        };
        self.connection.rows(sql, &[])?.iter().map(edition).collect()
    }

    fn trial(&self) -> Result<Option<TrialRecord>, StoreError> {
        let sql = "SELECT number, digest, author, at, until, because, files FROM trials WHERE ended IS NULL
             ORDER BY number DESC LIMIT 1";
        let Some(row) = self.connection.maybe(sql, &[])? else { return Ok(None) };
        Ok(Some(TrialRecord {
            number: rows::small(&row, 0, "trial")?,
            digest: rows::digest(&row, 1, "trial")?,
            author: get(&row, 2)?,
            at: UnixTime(get(&row, 3)?),
            until: UnixTime(get(&row, 4)?),
            because: get(&row, 5)?,
            files: files(&row, 6, "trial")?,
        }))
    }

    fn last_trial(&self) -> Result<u32, StoreError> {
        rows::small(&self.connection.one("SELECT coalesce(max(number), 0) FROM trials", &[])?, 0, "trial")
    }

    fn trial_differences(&self, trial: u32) -> Result<Vec<TrialDifference>, StoreError> {
        let sql = "SELECT device, act, would_allow, rule, sample, count, first, last FROM trial_differences
             WHERE trial = $1 ORDER BY would_allow, rule, act, device";
        let difference = |row: &Row| {
            Ok(TrialDifference {
                device: rows::word(row, 0, "trial")?,
                act: get(row, 1)?,
                would_allow: get(row, 2)?,
                rule: get(row, 3)?,
                sample: get(row, 4)?,
                count: rows::count(get(row, 5)?)?,
                first: UnixTime(get(row, 6)?),
                last: UnixTime(get(row, 7)?),
            })
        };
        self.connection.rows(sql, &[&i64::from(trial)])?.iter().map(difference).collect()
    }
}

impl WritePolicies for Database {
    fn put_group(&mut self, group: &GroupRecord) -> Result<(), StoreError> {
        self.connection.write(
            "INSERT INTO device_groups (name, rule, created) VALUES ($1, $2, $3)
             ON CONFLICT (name) DO UPDATE SET rule = excluded.rule",
            &[&group.name.as_str(), &group.rule, &group.created.0],
        )
    }

    fn drop_group(&mut self, name: &GroupName) -> Result<bool, StoreError> {
        Ok(self.connection.run("DELETE FROM device_groups WHERE name = $1", &[&name.as_str()])? > 0)
    }

    fn put_groups_changed(&mut self, change: i64) -> Result<(), StoreError> {
        self.connection.write("UPDATE head SET group_rules = $1", &[&change])
    }

    fn put_edition(&mut self, edition: &EditionRecord) -> Result<(), StoreError> {
        self.connection.write(
            "INSERT INTO editions (number, digest, author, at, because, files) VALUES ($1, $2, $3, $4, $5, $6)",
            &[
                &i64::from(edition.number),
                &edition.digest.as_slice(),
                &edition.author,
                &edition.at.0,
                &edition.because,
                &files_text(&edition.files)?,
            ],
        )
    }

    fn put_trial(&mut self, trial: &TrialRecord) -> Result<(), StoreError> {
        self.connection.write(
            "INSERT INTO trials (number, digest, author, at, until, because, files) VALUES ($1, $2, $3, $4, $5, $6, $7)",
            &[
                &i64::from(trial.number),
                &trial.digest.as_slice(),
                &trial.author,
                &trial.at.0,
                &trial.until.0,
                &trial.because,
                &files_text(&trial.files)?,
            ],
        )
    }

    fn end_trials(&mut self, at: UnixTime) -> Result<(), StoreError> {
        self.connection.write("UPDATE trials SET ended = $1 WHERE ended IS NULL", &[&at.0])
    }
}
