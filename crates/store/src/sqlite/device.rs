//! Devices, and the fleet as policies see it.

use std::borrow::Cow;
use std::collections::BTreeMap;

use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension, Row, params};
use tidy_warden_core::condition::Condition;
use tidy_warden_core::credential::Origin;
use tidy_warden_core::device::{DeviceRecord, Note};
use tidy_warden_core::due::{CredentialEnd, DeviceEnds};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{AuthorityName, DeviceId, GroupName, LabelName};
use tidy_warden_core::policy::FleetRow;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, DEVICE_COLUMNS, damaged};
use super::{Sql, SqliteTx, condition};
use crate::{Changed, DeviceView, FieldNames, NameInUse, Page, Place, ReadDevices, StoreError, WriteDevices};

/// How many names a transaction remembers to have noted; a limit on memory, and on the time to look through them.
const MOST_NAMED: usize = 64;

/// Up to `limit` devices behind a place in the order of a column, by their rows.
fn page(
    connection: &Connection,
    column: &str,
    after: Value,
    (wanted, now): (Option<&Condition>, UnixTime),
    limit: usize,
) -> Result<BTreeMap<i64, DeviceView>, StoreError> {
    let mut values = vec![after, Value::Integer(rows::limit(limit))];
    let holds = wanted.map_or_else(|| "1".to_owned(), |wanted| condition::sql(wanted, now, &mut values));
    let sql =
        format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE {column} > ?1 AND {holds} ORDER BY {column} LIMIT ?2");
    let mut statement = connection.prepare_cached(&sql)?;
    let mut found = statement.query(rusqlite::params_from_iter(&values))?;
    let mut page = BTreeMap::new();
    while let Some(row) = found.next()? {
        let (pk, device) = rows::device(row)?;
        page.insert(pk, DeviceView { device, credentials: Vec::new() });
    }
    rows::fill(connection, &mut page)?;
    Ok(page)
}

/// Who has a fact in a table of facts.
fn holder_in(connection: &Connection, table: &str, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
    let sql = format!("SELECT id FROM {table} JOIN devices ON devices.pk = device WHERE name = ?1 AND value = ?2");
    let id: Option<String> = connection
        .prepare_cached(&sql)?
        .query_row(params![fact.name().as_str(), fact.value()], |row| row.get(0))
        .optional()?;
    id.map(|id| rows::parsed(&id, "id")).transpose()
}

/// The authorities by their rows, and whether each is retired.
fn ending_authorities(connection: &Connection) -> Result<BTreeMap<i64, (AuthorityName, bool)>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT pk, name, retired IS NOT NULL FROM authorities")?;
    let mut found = statement.query([])?;
    let mut all = BTreeMap::new();
    while let Some(row) = found.next()? {
        let name = rows::parsed(row.get_ref(1)?.as_str().map_err(|_| damaged("authority"))?, "authority")?;
        all.insert(row.get(0)?, (name, row.get(2)?));
    }
    Ok(all)
}

/// When a credential ends, as its index has it.
struct Owned {
    origin: Origin,
    authority: Option<i64>,
    begins: UnixTime,
    ends: UnixTime,
    superseded: bool,
    asked_for: bool,
    kid: Option<String>,
}

/// The device's row, and one of its credentials.
fn ending(row: &Row<'_>) -> Result<(i64, Owned), StoreError> {
    let (not_after, superseded): (i64, Option<i64>) = (row.get(4)?, row.get(5)?);
    let owned = Owned {
        origin: rows::origin(row.get_ref(1)?.as_str().map_err(|_| damaged("credential"))?)?,
        authority: row.get(2)?,
        begins: UnixTime(row.get(3)?),
        ends: UnixTime(superseded.map_or(not_after, |until| until.min(not_after))),
        superseded: superseded.is_some(),
        asked_for: row.get(6)?,
        kid: row.get(7)?,
    };
    Ok((row.get(0)?, owned))
}

impl<S: Sql> ReadDevices for S {
    fn devices(&self, ids: &[DeviceId]) -> Result<Vec<Option<DeviceView>>, StoreError> {
        let sql = format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE id = ?1");
        let mut statement = self.sql().prepare_cached(&sql)?;
        let mut all = Vec::with_capacity(ids.len());
        for id in ids {
            let mut found = statement.query([id.as_str()])?;
            all.push(match found.next()? {
                Some(row) => {
                    let (pk, device) = rows::device(row)?;
                    let mut one = BTreeMap::from([(pk, DeviceView { device, credentials: Vec::new() })]);
                    rows::fill(self.sql(), &mut one)?;
                    one.into_values().next()
                }
                None => None,
            });
        }
        Ok(all)
    }

    fn page(&self, wanted: Option<&Condition>, now: UnixTime, after: i64, limit: usize) -> Result<Page, StoreError> {
        let page = page(self.sql(), "pk", Value::Integer(after), (wanted, now), limit)?;
        let next = page.last_key_value().map(|(pk, _)| *pk).filter(|_| page.len() >= limit);
        Ok(Page { devices: page.into_values().collect(), next })
    }

    fn page_by_id(
        &self,
        wanted: Option<&Condition>,
        now: UnixTime,
        after: &str,
        limit: usize,
    ) -> Result<Vec<DeviceView>, StoreError> {
        let page = page(self.sql(), "id", Value::Text(after.to_owned()), (wanted, now), limit)?;
        let mut devices: Vec<DeviceView> = page.into_values().collect();
        devices.sort_by(|one, other| one.device.id.cmp(&other.device.id));
        Ok(devices)
    }

    fn each_fleet_row(
        &self,
        facts: bool,
        visit: &mut dyn FnMut(&FleetRow<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT id, kind, gateway, owner, labels, facts, member_of, out IS NOT NULL OR held IS NOT NULL FROM devices
             WHERE retired IS NULL ORDER BY pk",
        )?;
        let mut found = statement.query([])?;
        while let Some(row) = found.next()? {
            let text = |at| row.get_ref(at)?.as_str().map_err(|_| damaged("device"));
            let maybe = |at| row.get_ref(at)?.as_str_or_null().map_err(|_| damaged("device"));
            let mut groups: Vec<Cow<'_, str>> = match text(6)? {
                "[]" => Vec::new(),
                some => rows::list(some, "groups")?,
            };
            // Whoever was put into the same groups in another order is the same.
            groups.sort_unstable();
            let labels = rows::borrowed_pairs(text(4)?)?;
            let facts = if facts { rows::borrowed_pairs(text(5)?)? } else { Vec::new() };
            visit(&FleetRow {
                id: text(0)?,
                kind: text(1)?,
                gateway: maybe(2)?,
                owner: maybe(3)?,
                labels: &labels,
                facts: &facts,
                groups: &groups,
                barred: row.get(7)?,
            })?;
        }
        Ok(())
    }

    fn each_ending(
        &self,
        horizon: UnixTime,
        label: Option<&LabelName>,
        visit: &mut dyn FnMut(&DeviceEnds<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let authorities = ending_authorities(self.sql())?;
        let value = label.map_or_else(|| "NULL".to_owned(), |name| format!("json_extract(labels, '$.\"{name}\"')"));
        let mut devices = self.sql().prepare_cached(&format!(
            "SELECT pk, id, kind, {value}, held FROM devices WHERE out IS NULL AND retired IS NULL ORDER BY pk"
        ))?;
        // All that this asks for stands in the index.
        let mut credentials = self.sql().prepare_cached(
            "SELECT device, origin, authority, not_before, not_after, superseded_until, authorised_by IS NOT NULL, kid
             FROM credentials INDEXED BY credentials_by_device WHERE revoked IS NULL ORDER BY device",
        )?;
        let mut came = self
            .sql()
            .prepare_cached("SELECT 1 FROM admissions WHERE device = ?1 AND credential IS NOT NULL LIMIT 1")?;
        let mut public = self.sql().prepare_cached(
            "SELECT 1 FROM credentials WHERE device = ?1 AND origin = 'key' AND revoked IS NULL AND key_type IN ('p256', 'p384') LIMIT 1",
        )?;
        let (mut devices, mut credentials) = (devices.query([])?, credentials.query([])?);
        let mut ends: Vec<(i64, Owned)> = Vec::new();
        let mut next = credentials.next()?.map(|row| ending(row)).transpose()?;
        while let Some(row) = devices.next()? {
            let pk: i64 = row.get(0)?;
            ends.clear();
            // Those of devices that are out or retired come by too.
            while let Some((device, _)) = &next {
                if *device > pk {
                    break;
                }
                let is_its = *device == pk;
                let following = credentials.next()?.map(|row| ending(row)).transpose()?;
                if let Some(one) = std::mem::replace(&mut next, following).filter(|_| is_its) {
                    ends.push(one);
                }
            }
            let held = rows::time(row.get(4)?);
            let text = |at| row.get_ref(at)?.as_str().map_err(|_| damaged("device"));
            let id = text(1)?;
            let mut all = Vec::with_capacity(ends.len());
            let (mut asked_for, mut soon, mut shared_soon) = (false, false, false);
            for (_, one) in &ends {
                let authority = one.authority.and_then(|pk| authorities.get(&pk));
                if authority.is_some_and(|(_, is_retired)| *is_retired) {
                    continue;
                }
                asked_for |= one.asked_for;
                soon |= one.ends <= horizon;
                shared_soon |= one.ends <= horizon && one.origin == Origin::Shared;
                all.push(CredentialEnd {
                    origin: one.origin,
                    authority: authority.map(|(name, _)| name),
                    begins: one.begins,
                    ends: one.ends,
                    superseded: one.superseded,
                    kid: one.kid.as_deref(),
                });
            }
            if all.is_empty() && held.is_none() {
                continue;
            }
            let came = asked_for || (soon && came.exists([id])?);
            let label = row.get_ref(3)?.as_str_or_null().map_err(|_| damaged("label"))?;
            let takes_sealed = shared_soon && public.exists([pk])?;
            visit(&DeviceEnds { id, kind: text(2)?, label, held, came, takes_sealed, credentials: &all })?;
        }
        Ok(())
    }

    fn children(&self, gateway: &DeviceId) -> Result<Vec<DeviceRecord>, StoreError> {
        let sql = format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE gateway = ?1 AND retired IS NULL ORDER BY pk");
        let mut statement = self.sql().prepare_cached(&sql)?;
        let mut found = statement.query([gateway.as_str()])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(rows::device(row)?.1);
        }
        Ok(all)
    }

    fn is_gateway(&self, id: &DeviceId) -> Result<bool, StoreError> {
        Ok(self.sql().prepare_cached("SELECT 1 FROM devices WHERE gateway = ?1")?.exists([id.as_str()])?)
    }

    fn holder(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
        holder_in(self.sql(), "facts", fact)
    }

    fn last_retired(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
        holder_in(self.sql(), "retired_facts", fact)
    }

    fn is_used(&self, name: &NameInUse) -> Result<bool, StoreError> {
        let exists = |sql: &str, value: &[&str]| -> Result<bool, StoreError> {
            Ok(self.sql().prepare_cached(sql)?.exists(rusqlite::params_from_iter(value))?)
        };
        match name {
            // A label's name holds nothing that must be escaped.
            NameInUse::Label(name) => {
                let path = format!("$.\"{name}\"");
                exists("SELECT 1 FROM devices WHERE json_extract(labels, ?1) IS NOT NULL LIMIT 1", &[&path])
            }
            NameInUse::Kind(kind) => exists("SELECT 1 FROM devices WHERE kind = ?1 LIMIT 1", &[kind]),
            NameInUse::Any => exists("SELECT 1 FROM devices LIMIT 1", &[]),
        }
    }

    fn label_names(&self) -> Result<Vec<String>, StoreError> {
        let sql = "SELECT DISTINCT key FROM devices, json_each(labels) ORDER BY key";
        let mut statement = self.sql().prepare_cached(sql)?;
        let found = statement.query_map([], |row| row.get(0))?;
        Ok(found.collect::<Result<_, _>>()?)
    }

    fn field_names(&self) -> Result<FieldNames, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT is_fact, name, shared FROM field_names")?;
        let mut found = statement.query([])?;
        let mut names = FieldNames::default();
        while let Some(row) = found.next()? {
            let name = row.get_ref(1)?.as_str().map_err(|_| damaged("name"))?;
            match row.get(0)? {
                false => drop(names.labels.insert(rows::parsed(name, "name of a label")?)),
                true => {
                    let name = FactName::parse(name).map_err(|_| damaged("name of a fact"))?;
                    if row.get::<_, Option<bool>>(2)? == Some(true) {
                        names.shared.insert(name.clone());
                    }
                    names.facts.insert(name);
                }
            }
        }
        Ok(names)
    }

    fn changed(&self, after: Place, limit: usize) -> Result<Changed, StoreError> {
        let mut changed = Changed { to: after, ..Changed::default() };
        // The rest of that change first, then the later ones: so that each question walks the index from where it begins.
        for sql in [
            "SELECT id, changed, pk FROM devices WHERE changed = ?1 AND pk > ?2 ORDER BY pk LIMIT ?3",
            "SELECT id, changed, pk FROM devices WHERE changed > ?1 AND ?2 IS NOT NULL ORDER BY changed, pk LIMIT ?3",
        ] {
            let wanted = rows::limit(limit + 1 - changed.devices.len());
            let mut statement = self.sql().prepare_cached(sql)?;
            let mut found = statement.query(params![after.change, after.row, wanted])?;
            while let Some(row) = found.next()? {
                if changed.devices.len() == limit {
                    changed.more = true;
                    return Ok(changed);
                }
                changed.devices.push(rows::parsed(&row.get::<_, String>(0)?, "id")?);
                changed.to = Place { change: row.get(1)?, row: row.get(2)? };
            }
        }
        Ok(changed)
    }

    fn equipped_since(&self, authority: &AuthorityName) -> Result<(u64, u64), StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT count(*), count(*) FILTER (WHERE EXISTS (
                 SELECT 1 FROM credentials WHERE device = devices.pk AND origin = 'issued' AND equipped IS NOT NULL
                     AND pk > (SELECT credentials_before FROM authorities WHERE name = ?1)))
             FROM devices WHERE out IS NULL AND retired IS NULL",
        )?;
        let count = |row: &rusqlite::Row<'_>, at| row.get::<_, i64>(at).map(i64::unsigned_abs);
        Ok(statement.query_row([authority.as_str()], |row| Ok((count(row, 0)?, count(row, 1)?)))?)
    }

    fn unequipped_since(&self, authority: &AuthorityName, limit: usize) -> Result<Vec<DeviceId>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT id FROM devices WHERE out IS NULL AND retired IS NULL AND NOT EXISTS (
                 SELECT 1 FROM credentials WHERE device = devices.pk AND origin = 'issued' AND equipped IS NOT NULL
                     AND pk > (SELECT credentials_before FROM authorities WHERE name = ?1))
             ORDER BY pk LIMIT ?2",
        )?;
        let mut found = statement.query(params![authority.as_str(), i64::try_from(limit).unwrap_or(i64::MAX)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(crate::stored::parsed(row.get_ref(0)?.as_str().map_err(|_| damaged("device"))?, "id")?);
        }
        Ok(all)
    }
}

/// Keeps a fact with one device, if devices may not share it.
const INDEX_FACT: &str = "INSERT INTO facts (name, value, device) SELECT ?1, ?2, ?3
     WHERE NOT EXISTS (SELECT 1 FROM field_names WHERE is_fact = 1 AND name = ?1 AND shared = 1)";

/// Lists one device. An id or a fact that is taken is a constraint that the table does not let pass.
fn insert(tx: &mut SqliteTx<'_>, device: &DeviceRecord, change: i64) -> rusqlite::Result<()> {
    tx.sql()
        .prepare_cached(
            "INSERT INTO devices (id, kind, gateway, owner, created, changed, labels, facts, note)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
        )?
        .execute(params![
            device.id.as_str(),
            device.kind.as_str(),
            device.gateway.as_ref().map(|id| id.as_str()),
            device.owner.as_ref().map(|id| id.as_str()),
            device.created.0,
            change,
            rows::labels_text(device),
            rows::facts_text(device),
            device.note.as_ref().map(Note::as_str)
        ])?;
    let pk = tx.sql().last_insert_rowid();
    for fact in device.facts.values() {
        tx.sql().prepare_cached(INDEX_FACT)?.execute(params![fact.name().as_str(), fact.value(), pk])?;
    }
    tx.listed.push_back((device.id.clone(), pk));
    note_names(tx, device)
}

/// Notes the names of a device's labels and facts, each once in a transaction.
fn note_names(tx: &mut SqliteTx<'_>, device: &DeviceRecord) -> rusqlite::Result<()> {
    let labels = device.labels.keys().map(|name| (false, name.as_str()));
    for (is_fact, name) in labels.chain(device.facts.keys().map(|name| (true, name.as_str()))) {
        if tx.named.iter().any(|(fact, known)| *fact == is_fact && known == name) {
            continue;
        }
        let sql = "INSERT OR IGNORE INTO field_names (is_fact, name) VALUES (?1, ?2)";
        tx.sql().prepare_cached(sql)?.execute(params![is_fact, name])?;
        if tx.named.len() < MOST_NAMED {
            tx.named.push((is_fact, name.to_owned()));
        }
    }
    Ok(())
}

impl WriteDevices for SqliteTx<'_> {
    fn insert_devices(&mut self, devices: &[DeviceRecord], change: i64) -> Result<bool, StoreError> {
        for device in devices {
            match insert(self, device, change) {
                Ok(()) => {}
                Err(rusqlite::Error::SqliteFailure(error, _))
                    if error.code == rusqlite::ErrorCode::ConstraintViolation =>
                {
                    return Ok(false);
                }
                Err(error) => return Err(error.into()),
            }
        }
        Ok(true)
    }

    fn update_device(&mut self, before: &DeviceRecord, after: &DeviceRecord, change: i64) -> Result<(), StoreError> {
        let holds = |one: &DeviceRecord, fact: &Fact| one.retired.is_none() && one.facts.get(fact.name()) == Some(fact);
        for old in before.facts.values().filter(|fact| holds(before, fact) && !holds(after, fact)) {
            let sql = "DELETE FROM facts WHERE name = ?1 AND value = ?2";
            self.sql().prepare_cached(sql)?.execute([old.name().as_str(), old.value()])?;
        }
        for new in after.facts.values().filter(|fact| holds(after, fact) && !holds(before, fact)) {
            let pk: Option<i64> = self
                .sql()
                .prepare_cached("SELECT pk FROM devices WHERE id = ?1")?
                .query_row([after.id.as_str()], |row| row.get(0))
                .optional()?;
            self.sql().prepare_cached(INDEX_FACT)?.execute(params![new.name().as_str(), new.value(), pk])?;
        }
        let updated = self
            .sql()
            .prepare_cached(
                "UPDATE devices SET kind = ?2, gateway = ?3, owner = ?4, out = ?5, retired = ?6, tokens_from = ?7,
                     held = ?8, changed = ?9, labels = ?10, facts = ?11, note = ?12, passed = ?13 WHERE id = ?1",
            )?
            .execute(params![
                after.id.as_str(),
                after.kind.as_str(),
                after.gateway.as_ref().map(|id| id.as_str()),
                after.owner.as_ref().map(|id| id.as_str()),
                after.out.map(|at| at.0),
                after.retired.map(|at| at.0),
                after.tokens_from.0,
                after.held.map(|at| at.0),
                change,
                rows::labels_text(after),
                rows::facts_text(after),
                after.note.as_ref().map(Note::as_str),
                after.passed.map(|at| at.0),
            ])?;
        if after.retired.is_some() && before.retired.is_none() {
            let sql = "INSERT OR REPLACE INTO retired_facts (name, value, device) SELECT ?1, ?2, pk FROM devices WHERE id = ?3
                 AND NOT EXISTS (SELECT 1 FROM field_names WHERE is_fact = 1 AND name = ?1 AND shared = 1)";
            let mut statement = self.sql().prepare_cached(sql)?;
            for fact in after.facts.values() {
                statement.execute([fact.name().as_str(), fact.value(), after.id.as_str()])?;
            }
        }
        note_names(self, after)?;
        rows::found(updated, "device", &after.id)
    }

    fn put_shared(&mut self, facts: &[(FactName, bool)]) -> Result<(), StoreError> {
        let sql = "INSERT INTO field_names (is_fact, name, shared) VALUES (1, ?1, ?2)
             ON CONFLICT (is_fact, name) DO UPDATE SET shared = excluded.shared";
        let mut statement = self.sql().prepare_cached(sql)?;
        for (name, shared) in facts {
            statement.execute(params![name.as_str(), shared])?;
        }
        Ok(())
    }

    fn touch(&mut self, id: &DeviceId, change: i64) -> Result<(), StoreError> {
        let sql = "UPDATE devices SET changed = ?2 WHERE id = ?1";
        self.sql().prepare_cached(sql)?.execute(params![id.as_str(), change])?;
        Ok(())
    }

    fn put_seen(&mut self, id: &DeviceId, at: UnixTime) -> Result<(), StoreError> {
        let sql = "UPDATE devices SET seen = ?2 WHERE id = ?1";
        let updated = self.sql().prepare_cached(sql)?.execute(params![id.as_str(), at.0])?;
        rows::found(updated, "device", id)
    }

    fn put_renew_asked(&mut self, ids: &[DeviceId], at: UnixTime) -> Result<(), StoreError> {
        let mut statement = self.sql().prepare_cached("UPDATE devices SET renew_asked = ?2 WHERE id = ?1")?;
        for id in ids {
            statement.execute(params![id.as_str(), at.0])?;
        }
        Ok(())
    }

    fn leave_group(&mut self, group: &GroupName, change: i64) -> Result<(), StoreError> {
        self.sql().execute(
            "UPDATE devices SET changed = ?2, member_of =
                 (SELECT json_group_array(value) FROM json_each(member_of) WHERE value <> ?1)
             WHERE member_of <> '[]' AND EXISTS (SELECT 1 FROM json_each(member_of) WHERE value = ?1)",
            params![group.as_str(), change],
        )?;
        Ok(())
    }

    fn join_group(&mut self, group: &GroupName, devices: &[DeviceId], change: i64) -> Result<(), StoreError> {
        let mut join = self.sql().prepare_cached(
            "UPDATE devices SET member_of = json_insert(member_of, '$[#]', ?2), changed = ?3 WHERE id = ?1",
        )?;
        for id in devices {
            rows::found(join.execute(params![id.as_str(), group.as_str(), change])?, "device", id)?;
        }
        Ok(())
    }
}
