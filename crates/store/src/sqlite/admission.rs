//! Admissions.

use rusqlite::{OptionalExtension, Row, ToSql, params};
use tidy_warden_core::admission::{AdmissionEnd, AdmissionName, AdmissionRecord, Demand};
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged, parsed};
use super::{Sql, SqliteTx};
use crate::{ReadAdmissions, StoreError, WriteAdmissions};

const COLUMNS: &str =
    "SELECT number, device, kind, labels, facts, gateway, proof, digest, opened, until, state, ended, credential,
    owner FROM admissions";

fn admission(row: &Row<'_>) -> Result<AdmissionRecord, StoreError> {
    let text = |at| row.get_ref(at)?.as_str().map_err(|_| damaged("admission"));
    let mut device = DeviceRecord::new(parsed(text(1)?, "id")?, parsed(text(2)?, "kind")?, UnixTime(row.get(8)?));
    rows::fill_device(&mut device, text(3)?, text(4)?)?;
    device.gateway = row.get::<_, Option<String>>(5)?.map(|id| parsed(&id, "gateway")).transpose()?;
    device.owner = row.get::<_, Option<String>>(13)?.map(|id| parsed(&id, "owner")).transpose()?;
    let end = match (row.get::<_, Option<String>>(10)?, row.get::<_, Option<i64>>(11)?) {
        (Some(word), Some(at)) => {
            let credential = row.get::<_, Option<[u8; 32]>>(12)?.map(Fingerprint);
            let end = AdmissionEnd::from_parts(&word, UnixTime(at), credential);
            Some(end.ok_or_else(|| damaged("admission"))?)
        }
        _ => None,
    };
    Ok(AdmissionRecord {
        name: AdmissionName(row.get(0)?),
        device,
        demand: Demand::from_parts(text(6)?, row.get(7)?).ok_or_else(|| damaged("admission"))?,
        until: UnixTime(row.get(9)?),
        end,
    })
}

/// The first row of a query, if there is one.
fn first(store: &impl Sql, rest: &str, values: &[&dyn ToSql]) -> Result<Option<AdmissionRecord>, StoreError> {
    let mut statement = store.sql().prepare_cached(&format!("{COLUMNS} {rest}"))?;
    statement.query(values)?.next()?.map(admission).transpose()
}

/// Up to `limit` rows of a query.
fn all(store: &impl Sql, rest: &str, values: &[&dyn ToSql]) -> Result<Vec<AdmissionRecord>, StoreError> {
    let mut statement = store.sql().prepare_cached(&format!("{COLUMNS} {rest}"))?;
    let mut found = statement.query(values)?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        all.push(admission(row)?);
    }
    Ok(all)
}

impl<S: Sql> ReadAdmissions for S {
    fn admission(&self, name: AdmissionName) -> Result<Option<AdmissionRecord>, StoreError> {
        first(self, "WHERE number = ?1", &[&name.0])
    }

    fn admissions(&self, after: AdmissionName, limit: usize) -> Result<Vec<AdmissionRecord>, StoreError> {
        all(self, "WHERE number > ?1 ORDER BY number LIMIT ?2", &[&after.0, &rows::limit(limit)])
    }

    fn pending_by_end(
        &self,
        after: (UnixTime, AdmissionName),
        limit: usize,
    ) -> Result<Vec<AdmissionRecord>, StoreError> {
        let rest = "WHERE state IS NULL AND (until, number) > (?1, ?2) ORDER BY until, number LIMIT ?3";
        all(self, rest, &[&after.0.0, &after.1.0, &rows::limit(limit)])
    }

    fn last_admission(&self) -> Result<AdmissionName, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT number FROM admissions ORDER BY number DESC LIMIT 1")?;
        Ok(AdmissionName(statement.query_row([], |row| row.get(0)).optional()?.unwrap_or(0)))
    }

    fn admissions_of(&self, device: &DeviceId, limit: usize) -> Result<Vec<AdmissionRecord>, StoreError> {
        let rest = "WHERE device = ?1 ORDER BY number DESC LIMIT ?2";
        all(self, rest, &[&device.as_str(), &rows::limit(limit)])
    }

    fn admission_of_key(&self, digest: &[u8; 32]) -> Result<Option<AdmissionRecord>, StoreError> {
        first(self, "WHERE proof = 'key' AND digest = ?1 ORDER BY number DESC LIMIT 1", &[digest])
    }

    fn pending_for(&self, devices: &[DeviceId]) -> Result<Vec<Option<AdmissionRecord>>, StoreError> {
        devices.iter().map(|id| first(self, "WHERE device = ?1 AND state IS NULL", &[&id.as_str()])).collect()
    }

    fn pending_with(&self, facts: &[&Fact]) -> Result<Vec<Option<AdmissionRecord>>, StoreError> {
        let rest = "WHERE number = (SELECT admission FROM admission_facts WHERE name = ?1 AND value = ?2)";
        facts.iter().map(|fact| first(self, rest, &[&fact.name().as_str(), &fact.value()])).collect()
    }
}

impl WriteAdmissions for SqliteTx<'_> {
    fn insert_admissions(&mut self, new: &[AdmissionRecord]) -> Result<(), StoreError> {
        let mut row = self.sql().prepare_cached(
            "INSERT INTO admissions (number, device, kind, labels, facts, gateway, proof, digest, opened, until, owner)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
        )?;
        let mut index = self.sql().prepare_cached(
            "INSERT INTO admission_facts SELECT ?1, ?2, ?3
             WHERE NOT EXISTS (SELECT 1 FROM field_names WHERE is_fact = 1 AND name = ?1 AND shared = 1)",
        )?;
        for AdmissionRecord { name, device, demand, until, end: _ } in new {
            row.execute(params![
                name.0,
                device.id.as_str(),
                device.kind.as_str(),
                rows::labels_text(device),
                rows::facts_text(device),
                device.gateway.as_ref().map(DeviceId::as_str),
                demand.strength().as_str(),
                demand.digest(),
                device.created.0,
                until.0,
                device.owner.as_ref().map(|owner| owner.as_str())
            ])?;
            for fact in device.facts.values() {
                index.execute(params![fact.name().as_str(), fact.value(), name.0])?;
            }
        }
        Ok(())
    }

    fn end_admission(&mut self, ended: &AdmissionRecord) -> Result<(), StoreError> {
        let Some(end) = &ended.end else { return Err(damaged("admission")) };
        let credential = if let AdmissionEnd::Used { credential, .. } = end { Some(credential.0) } else { None };
        let sql = "UPDATE admissions SET state = ?2, ended = ?3, credential = ?4 WHERE number = ?1";
        let row = params![ended.name.0, end.as_str(), end.at().0, credential];
        rows::found(self.sql().prepare_cached(sql)?.execute(row)?, "admission", &ended.name)?;
        self.sql().prepare_cached("DELETE FROM admission_facts WHERE admission = ?1")?.execute([ended.name.0])?;
        Ok(())
    }

    fn withdraw_pending(&mut self, of: Option<&DeviceId>, at: UnixTime) -> Result<(), StoreError> {
        let meant = if of.is_some() { "device = ?1" } else { "?1 IS NULL" };
        let of = of.map(DeviceId::as_str);
        let facts = format!(
            "DELETE FROM admission_facts WHERE admission IN (SELECT number FROM admissions WHERE {meant} AND state IS NULL)"
        );
        self.sql().prepare_cached(&facts)?.execute([of])?;
        let rows = format!("UPDATE admissions SET state = 'withdrawn', ended = ?2 WHERE {meant} AND state IS NULL");
        self.sql().prepare_cached(&rows)?.execute(params![of, at.0])?;
        Ok(())
    }
}
