//! Admissions.

use tidy_warden_core::admission::{AdmissionEnd, AdmissionName, AdmissionRecord, Demand};
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::Database;
use super::connection::get;
use super::rows::{self, damaged};
use crate::{ReadAdmissions, StoreError, WriteAdmissions};

const COLUMNS: &str =
    "admissions.number, admissions.device, admissions.kind, admissions.labels::text, admissions.facts::text,
    admissions.gateway, admissions.proof, admissions.digest, admissions.opened, admissions.until, admissions.state,
    admissions.ended, admissions.credential, admissions.owner";

/// How many those are.
const WIDTH: usize = 14;

/// A digest, if there is one.
fn maybe_digest(row: &Row, at: usize) -> Result<Option<[u8; 32]>, StoreError> {
    let octets = get::<Option<&[u8]>>(row, at)?;
    octets.map(|octets| octets.try_into().map_err(|_| damaged("admission"))).transpose()
}

fn admission(row: &Row) -> Result<AdmissionRecord, StoreError> {
    let created = UnixTime(get(row, 8)?);
    let mut device = DeviceRecord::new(rows::word(row, 1, "id")?, rows::word(row, 2, "kind")?, created);
    rows::fill_device(&mut device, get(row, 3)?, get(row, 4)?)?;
    device.gateway = rows::maybe_word(row, 5, "gateway")?;
    device.owner = rows::maybe_word(row, 13, "owner")?;
    let end = match (get::<Option<&str>>(row, 10)?, get::<Option<i64>>(row, 11)?) {
        (Some(word), Some(at)) => {
            let end = AdmissionEnd::from_parts(word, UnixTime(at), maybe_digest(row, 12)?.map(Fingerprint));
            Some(end.ok_or_else(|| damaged("admission"))?)
        }
        _ => None,
    };
    Ok(AdmissionRecord {
        name: AdmissionName(rows::small(row, 0, "admission")?),
        device,
        demand: Demand::from_parts(get(row, 6)?, maybe_digest(row, 7)?).ok_or_else(|| damaged("admission"))?,
        until: UnixTime(get(row, 9)?),
        end,
    })
}

impl Database {
    fn admissions_by(&self, rest: &str, values: &[&(dyn ToSql + Sync)]) -> Result<Vec<AdmissionRecord>, StoreError> {
        self.connection
            .rows(&format!("SELECT {COLUMNS} FROM admissions {rest}"), values)?
            .iter()
            .map(admission)
            .collect()
    }

    /// One for each place of what was asked for, where there is one.
    fn at_places(
        &self,
        count: usize,
        from: &str,
        values: &[&(dyn ToSql + Sync)],
    ) -> Result<Vec<Option<AdmissionRecord>>, StoreError> {
        let mut all = vec![None; count];
        for row in self.connection.rows(&format!("SELECT {COLUMNS}, asked.place FROM {from}"), values)? {
            let place: usize = rows::small(&row, WIDTH, "admission")?;
            *all.get_mut(place.wrapping_sub(1)).ok_or_else(|| damaged("admission"))? = Some(admission(&row)?);
        }
        Ok(all)
    }
}

impl ReadAdmissions for Database {
    fn admission(&self, name: AdmissionName) -> Result<Option<AdmissionRecord>, StoreError> {
        Ok(self.admissions_by("WHERE number = $1", &[&i64::from(name.0)])?.pop())
    }

    fn admissions(&self, after: AdmissionName, limit: usize) -> Result<Vec<AdmissionRecord>, StoreError> {
        let rest = "WHERE number > $1 ORDER BY number LIMIT $2";
        self.admissions_by(rest, &[&i64::from(after.0), &rows::limit(limit)])
    }

    fn pending_by_end(
        &self,
        after: (UnixTime, AdmissionName),
        limit: usize,
    ) -> Result<Vec<AdmissionRecord>, StoreError> {
        let rest = "WHERE coalesce(state, '') = '' AND (until, number) > ($1, $2) ORDER BY until, number LIMIT $3";
        self.admissions_by(rest, &[&after.0.0, &i64::from(after.1.0), &rows::limit(limit)])
    }

    fn last_admission(&self) -> Result<AdmissionName, StoreError> {
        let row = self.connection.one("SELECT coalesce(max(number), 0) FROM admissions", &[])?;
        Ok(AdmissionName(rows::small(&row, 0, "admission")?))
    }

    fn admissions_of(&self, device: &DeviceId, limit: usize) -> Result<Vec<AdmissionRecord>, StoreError> {
        let rest = "WHERE device = $1 ORDER BY number DESC LIMIT $2";
        self.admissions_by(rest, &[&device.as_str(), &rows::limit(limit)])
    }

    fn admission_of_key(&self, digest: &[u8; 32]) -> Result<Option<AdmissionRecord>, StoreError> {
        let rest = "WHERE proof = 'key' AND digest = $1 ORDER BY number + 0 DESC LIMIT 1";
        Ok(self.admissions_by(rest, &[&digest.as_slice()])?.pop())
    }

    fn pending_for(&self, devices: &[DeviceId]) -> Result<Vec<Option<AdmissionRecord>>, StoreError> {
        let ids: Vec<&str> = devices.iter().map(DeviceId::as_str).collect();
        let from = "unnest($1::text[]) WITH ORDINALITY AS asked (id, place)
             JOIN admissions ON admissions.device = asked.id COLLATE \"C\" AND admissions.state IS NULL";
        self.at_places(devices.len(), from, &[&ids])
    }

    fn pending_with(&self, facts: &[&Fact]) -> Result<Vec<Option<AdmissionRecord>>, StoreError> {
        let names: Vec<&str> = facts.iter().map(|fact| fact.name().as_str()).collect();
        let values: Vec<&str> = facts.iter().map(|fact| fact.value()).collect();
        let from = "unnest($1::text[], $2::text[]) WITH ORDINALITY AS asked (name, value, place)
             JOIN admission_facts ON admission_facts.name = asked.name COLLATE \"C\"
                 AND admission_facts.value = asked.value COLLATE \"C\"
             JOIN admissions ON admissions.number = admission_facts.admission";
        self.at_places(facts.len(), from, &[&names, &values])
    }
}

impl WriteAdmissions for Database {
    fn insert_admissions(&mut self, new: &[AdmissionRecord]) -> Result<(), StoreError> {
        for AdmissionRecord { name, device, demand, until, end: _ } in new {
            let number = i64::from(name.0);
            self.connection.write(
                "INSERT INTO admissions (number, device, kind, labels, facts, gateway, proof, digest, opened, until, owner)
                 VALUES ($1, $2, $3, $4::text::json, $5::text::json, $6, $7, $8, $9, $10, $11)",
                &[
                    &number,
                    &device.id.as_str(),
                    &device.kind.as_str(),
                    &rows::labels_text(device),
                    &rows::facts_text(device),
                    &device.gateway.as_ref().map(DeviceId::as_str),
                    &demand.strength().as_str(),
                    &demand.digest().map(<[u8; 32]>::as_slice),
                    &device.created.0,
                    &until.0,
                    &device.owner.as_ref().map(|owner| owner.as_str()),
                ],
            )?;
            for fact in device.facts.values() {
                let sql = "INSERT INTO admission_facts SELECT $1, $2, $3
                     WHERE NOT EXISTS (SELECT 1 FROM field_names WHERE is_fact AND shared AND name = $1)";
                self.connection.write(sql, &[&fact.name().as_str(), &fact.value(), &number])?;
            }
        }
        Ok(())
    }

    fn end_admission(&mut self, ended: &AdmissionRecord) -> Result<(), StoreError> {
        let Some(end) = &ended.end else { return Err(damaged("admission")) };
        let credential = if let AdmissionEnd::Used { credential, .. } = end { Some(credential.0) } else { None };
        let number = i64::from(ended.name.0);
        let sql = "UPDATE admissions SET state = $2, ended = $3, credential = $4 WHERE number = $1";
        let credential = credential.as_ref().map(<[u8; 32]>::as_slice);
        let values: [&(dyn ToSql + Sync); 4] = [&number, &end.as_str(), &end.at().0, &credential];
        self.connection.write_one(sql, &values, "admission", &ended.name)?;
        self.connection.write("DELETE FROM admission_facts WHERE admission = $1", &[&number])
    }

    fn withdraw_pending(&mut self, of: Option<&DeviceId>, at: UnixTime) -> Result<(), StoreError> {
        let meant = if of.is_some() { "device = $1" } else { "$1::text IS NULL" };
        let of = of.map(DeviceId::as_str);
        let facts = format!(
            "DELETE FROM admission_facts WHERE admission IN (SELECT number FROM admissions WHERE {meant} AND state IS NULL)"
        );
        self.connection.write(&facts, &[&of])?;
        let rows = format!("UPDATE admissions SET state = 'withdrawn', ended = $2 WHERE {meant} AND state IS NULL");
        self.connection.write(&rows, &[&of, &at.0])
    }
}
