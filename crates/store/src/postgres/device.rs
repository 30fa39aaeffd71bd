//! Devices, and the fleet as policies see it.

use std::borrow::Cow;

use tidy_warden_core::condition::Condition;
use tidy_warden_core::device::{DeviceRecord, Note};
use tidy_warden_core::due::{CredentialEnd, DeviceEnds};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{AuthorityName, DeviceId, GroupName, LabelName};
use tidy_warden_core::policy::FleetRow;
use tidy_warden_core::time::UnixTime;

use super::Database;
use super::condition::{self, Value};
use super::connection::get;
use super::rows::{self, damaged};
use crate::{Changed, DeviceView, FieldNames, NameInUse, Page, Place, ReadDevices, StoreError, WriteDevices};

/// How many names a transaction remembers to have noted; a limit on memory, and on the time to look through them.
const MOST_NAMED: usize = 64;

fn texts(ids: &[DeviceId]) -> Vec<&str> {
    ids.iter().map(DeviceId::as_str).collect()
}

impl Database {
    /// Up to `limit` devices behind a place in the order of a column, with their rows.
    fn page_by(
        &self,
        column: &str,
        after: Value,
        (wanted, now): (Option<&Condition>, UnixTime),
        limit: usize,
    ) -> Result<Vec<(i64, DeviceView)>, StoreError> {
        let mut values = vec![after, Value::Number(rows::limit(limit))];
        let holds = wanted.map_or_else(|| "true".to_owned(), |wanted| condition::sql(wanted, now, &mut values));
        let page =
            format!("(SELECT * FROM devices WHERE {column} > $1 AND {holds} ORDER BY {column} LIMIT $2) AS devices");
        let sql = rows::select_views("", &page, &format!("devices.{column}"));
        let values: Vec<_> = values.iter().map(Value::as_sql).collect();
        let found = self.connection.rows(&sql, &values)?;
        Ok(rows::views(&found, 0)?.into_iter().map(|(_, pk, view)| (pk, view)).collect())
    }

    fn exists(&self, sql: &str, values: &[&(dyn tokio_postgres::types::ToSql + Sync)]) -> Result<bool, StoreError> {
        Ok(self.connection.maybe(sql, values)?.is_some())
    }

    /// Notes the names of devices' labels and facts, each once in a transaction.
    fn note_names(&mut self, devices: &[&DeviceRecord]) -> Result<(), StoreError> {
        let mut new: Vec<(bool, &str)> = Vec::new();
        for device in devices {
            let labels = device.labels.keys().map(|name| (false, name.as_str()));
            for name in labels.chain(device.facts.keys().map(|name| (true, name.as_str()))) {
                let is_known = |(fact, known): &(bool, String)| (*fact, known.as_str()) == name;
                if !new.contains(&name) && !self.known.named.iter().any(is_known) {
                    new.push(name);
                }
            }
        }
        if new.is_empty() {
            return Ok(());
        }
        let (facts, names): (Vec<bool>, Vec<&str>) = new.iter().copied().unzip();
        let sql = "INSERT INTO field_names (is_fact, name) SELECT * FROM unnest($1::boolean[], $2::text[]) ON CONFLICT DO NOTHING";
        self.connection.write(sql, &[&facts, &names])?;
        let room = MOST_NAMED.saturating_sub(self.known.named.len());
        self.known.named.extend(new.into_iter().take(room).map(|(fact, name)| (fact, name.to_owned())));
        Ok(())
    }
}

/// A device whose rows are being read.
struct Gathered {
    id: String,
    kind: String,
    label: Option<String>,
    held: Option<UnixTime>,
    came: bool,
    takes_sealed: bool,
    /// With the names of their authorities and of their keys.
    credentials: Vec<(Option<AuthorityName>, Option<String>, CredentialEnd<'static>)>,
}

impl Gathered {
    fn visit(&self, visit: &mut dyn FnMut(&DeviceEnds<'_>) -> Result<(), StoreError>) -> Result<(), StoreError> {
        let ends = self.credentials.iter();
        let ends = ends.map(|(authority, kid, end)| CredentialEnd {
            authority: authority.as_ref(),
            kid: kid.as_deref(),
            ..*end
        });
        visit(&DeviceEnds {
            id: &self.id,
            kind: &self.kind,
            label: self.label.as_deref(),
            held: self.held,
            came: self.came,
            takes_sealed: self.takes_sealed,
            credentials: &ends.collect::<Vec<_>>(),
        })
    }
}

impl ReadDevices for Database {
    fn devices(&self, ids: &[DeviceId]) -> Result<Vec<Option<DeviceView>>, StoreError> {
        let sql = rows::select_views("", "(SELECT * FROM devices WHERE id = ANY ($1)) AS devices", "devices.id");
        let found = rows::views(&self.connection.rows(&sql, &[&texts(ids)])?, 0)?;
        if self.known.in_change {
            let rows = found.iter().map(|(_, pk, view)| (view.device.id.clone(), *pk));
            self.known.devices.borrow_mut().extend(rows);
        }
        let mut views: Vec<_> = found.into_iter().map(|(_, _, view)| view).collect();
        views.sort_by(|one, other| one.device.id.cmp(&other.device.id));
        let place = |id: &DeviceId| views.binary_search_by(|view| view.device.id.cmp(id)).ok();
        Ok(ids.iter().map(|id| place(id).map(|at| views[at].clone())).collect())
    }

    fn page(&self, wanted: Option<&Condition>, now: UnixTime, after: i64, limit: usize) -> Result<Page, StoreError> {
        let page = self.page_by("pk", Value::Number(after), (wanted, now), limit)?;
        let next = page.last().map(|(pk, _)| *pk).filter(|_| page.len() >= limit);
        Ok(Page { devices: page.into_iter().map(|(_, view)| view).collect(), next })
    }

    fn page_by_id(
        &self,
        wanted: Option<&Condition>,
        now: UnixTime,
        after: &str,
        limit: usize,
    ) -> Result<Vec<DeviceView>, StoreError> {
        let page = self.page_by("id", Value::Text(after.to_owned()), (wanted, now), limit)?;
        Ok(page.into_iter().map(|(_, view)| view).collect())
    }

    fn each_fleet_row(
        &self,
        facts: bool,
        visit: &mut dyn FnMut(&FleetRow<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let facts_column = if facts { "facts::text" } else { "'{}'" };
        let sql = format!(
            "SELECT id, kind, gateway, owner, labels::text, {facts_column}, member_of, out IS NOT NULL OR held IS NOT NULL
             FROM devices WHERE retired IS NULL ORDER BY pk"
        );
        self.connection.each(&sql, &mut |row| {
            // Whoever was put into the same groups in another order is the same.
            let mut groups: Vec<Cow<'_, str>> = get::<Vec<&str>>(row, 6)?.into_iter().map(Cow::Borrowed).collect();
            groups.sort_unstable();
            visit(&FleetRow {
                id: get(row, 0)?,
                kind: get(row, 1)?,
                gateway: get(row, 2)?,
                owner: get(row, 3)?,
                labels: &rows::borrowed_pairs(get(row, 4)?)?,
                facts: &rows::borrowed_pairs(get(row, 5)?)?,
                groups: &groups,
                barred: get(row, 7)?,
            })
        })
    }

    fn each_ending(
        &self,
        horizon: UnixTime,
        label: Option<&LabelName>,
        visit: &mut dyn FnMut(&DeviceEnds<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let value = label.map_or_else(|| "NULL::text".to_owned(), |name| format!("labels ->> '{name}'"));
        let until = "least(not_after, superseded_until)";
        let sql = format!(
            "SELECT devices.id, kind, {value}, held, origin, authorities.name, not_before, {until}, superseded_until IS NOT NULL,
                 authorised_by IS NOT NULL OR ({until} <= {} AND EXISTS (
                     SELECT 1 FROM admissions WHERE admissions.device = devices.id AND admissions.credential IS NOT NULL)),
                 kid,
                 origin = 'shared' AND {until} <= {} AND EXISTS (
                     SELECT 1 FROM credentials AS others WHERE others.device = devices.pk AND others.origin = 'key'
                     AND others.revoked IS NULL AND others.key_type IN ('p256', 'p384'))
             FROM devices LEFT JOIN (credentials LEFT JOIN authorities ON authorities.pk = credentials.authority)
                 ON credentials.device = devices.pk AND revoked IS NULL AND authorities.retired IS NULL
             WHERE out IS NULL AND devices.retired IS NULL AND (credentials.pk IS NOT NULL OR held IS NOT NULL)
             ORDER BY devices.pk",
            horizon.0, horizon.0
        );
        // The rows of one device come one after another.
        let mut last: Option<Gathered> = None;
        self.connection.each(&sql, &mut |row| {
            let id: &str = get(row, 0)?;
            if last.as_ref().is_none_or(|last| last.id != id) {
                if let Some(last) = &last {
                    last.visit(visit)?;
                }
                last = Some(Gathered {
                    id: id.to_owned(),
                    kind: get(row, 1)?,
                    label: get(row, 2)?,
                    held: rows::time(get(row, 3)?),
                    came: false,
                    takes_sealed: false,
                    credentials: Vec::new(),
                });
            }
            let (Some(last), Some(origin)) = (&mut last, get::<Option<&str>>(row, 4)?) else { return Ok(()) };
            last.came |= get::<bool>(row, 9)?;
            last.takes_sealed |= get::<Option<bool>>(row, 11)?.unwrap_or_default();
            last.credentials.push((
                rows::maybe_word(row, 5, "authority")?,
                get(row, 10)?,
                CredentialEnd {
                    origin: rows::origin(origin)?,
                    authority: None,
                    begins: UnixTime(get(row, 6)?),
                    ends: UnixTime(get(row, 7)?),
                    superseded: get(row, 8)?,
                    kid: None,
                },
            ));
            Ok(())
        })?;
        last.map_or(Ok(()), |last| last.visit(visit))
    }

    fn children(&self, gateway: &DeviceId) -> Result<Vec<DeviceRecord>, StoreError> {
        let sql = rows::select_devices("devices", "WHERE gateway = $1 AND retired IS NULL ORDER BY devices.pk + 0");
        let found = self.connection.rows(&sql, &[&gateway.as_str()])?;
        found.iter().map(|row| Ok(rows::device(row, 0)?.1)).collect()
    }

    fn is_gateway(&self, id: &DeviceId) -> Result<bool, StoreError> {
        self.exists("SELECT 1 FROM devices WHERE gateway = $1 LIMIT 1", &[&id.as_str()])
    }

    fn holder(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
        let sql = "SELECT devices.id FROM facts JOIN devices ON devices.pk = facts.device
             WHERE facts.name = $1 AND facts.value = $2";
        let row = self.connection.maybe(sql, &[&fact.name().as_str(), &fact.value()])?;
        row.map(|row| rows::word(&row, 0, "id")).transpose()
    }

    fn last_retired(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
        let sql = "SELECT devices.id FROM retired_facts JOIN devices ON devices.pk = retired_facts.device
             WHERE retired_facts.name = $1 AND retired_facts.value = $2";
        let row = self.connection.maybe(sql, &[&fact.name().as_str(), &fact.value()])?;
        row.map(|row| rows::word(&row, 0, "id")).transpose()
    }

    fn holders(&self, facts: &[&Fact]) -> Result<Vec<Option<DeviceId>>, StoreError> {
        if facts.is_empty() {
            return Ok(Vec::new());
        }
        let names: Vec<&str> = facts.iter().map(|fact| fact.name().as_str()).collect();
        let values: Vec<&str> = facts.iter().map(|fact| fact.value()).collect();
        let sql = "SELECT devices.id FROM unnest($1::text[], $2::text[]) WITH ORDINALITY AS asked (name, value, place)
             LEFT JOIN facts ON facts.name = asked.name AND facts.value = asked.value
             LEFT JOIN devices ON devices.pk = facts.device ORDER BY place";
        self.connection.rows(sql, &[&names, &values])?.iter().map(|row| rows::maybe_word(row, 0, "id")).collect()
    }

    fn is_used(&self, name: &NameInUse) -> Result<bool, StoreError> {
        match name {
            NameInUse::Label(name) => {
                self.exists("SELECT 1 FROM devices WHERE labels ->> $1 IS NOT NULL LIMIT 1", &[&name.as_str()])
            }
            NameInUse::Kind(kind) => self.exists("SELECT 1 FROM devices WHERE kind = $1 LIMIT 1", &[kind]),
            NameInUse::Any => self.exists("SELECT 1 FROM devices LIMIT 1", &[]),
        }
    }

    fn label_names(&self) -> Result<Vec<String>, StoreError> {
        let sql = "SELECT DISTINCT key COLLATE \"C\" FROM devices, json_object_keys(labels) AS key ORDER BY 1";
        self.connection.rows(sql, &[])?.iter().map(|row| get(row, 0)).collect()
    }

    fn field_names(&self) -> Result<FieldNames, StoreError> {
        let mut names = FieldNames::default();
        for row in self.connection.rows("SELECT is_fact, name, shared FROM field_names", &[])? {
            let name: &str = get(&row, 1)?;
            match get(&row, 0)? {
                false => drop(names.labels.insert(rows::parsed(name, "name of a label")?)),
                true => {
                    let name = FactName::parse(name).map_err(|_| damaged("name of a fact"))?;
                    if get::<Option<bool>>(&row, 2)? == Some(true) {
                        names.shared.insert(name.clone());
                    }
                    names.facts.insert(name);
                }
            }
        }
        Ok(names)
    }

    fn changed(&self, after: Place, limit: usize) -> Result<Changed, StoreError> {
        let sql = "SELECT id, changed, pk FROM devices WHERE (changed, pk) > ($1, $2) ORDER BY changed, pk LIMIT $3";
        let wanted = rows::limit(limit.saturating_add(1));
        let found = self.connection.rows(sql, &[&after.change, &after.row, &wanted])?;
        let mut changed = Changed { to: after, more: found.len() > limit, ..Changed::default() };
        for row in found.iter().take(limit) {
            changed.devices.push(rows::word(row, 0, "id")?);
            changed.to = Place { change: get(row, 1)?, row: get(row, 2)? };
        }
        Ok(changed)
    }

    fn equipped_since(&self, authority: &AuthorityName) -> Result<(u64, u64), StoreError> {
        let row = self.connection.one(
            "SELECT count(*), count(*) FILTER (WHERE EXISTS (
                 SELECT 1 FROM credentials WHERE device = devices.pk AND origin = 'issued' AND equipped IS NOT NULL
                     AND pk > (SELECT credentials_before FROM authorities WHERE name = $1)))
             FROM devices WHERE out IS NULL AND retired IS NULL",
            &[&authority.as_str()],
        )?;
        Ok((rows::count(get(&row, 0)?)?, rows::count(get(&row, 1)?)?))
    }

    fn unequipped_since(&self, authority: &AuthorityName, limit: usize) -> Result<Vec<DeviceId>, StoreError> {
        let sql = "SELECT id FROM devices WHERE out IS NULL AND retired IS NULL AND NOT EXISTS (
                 SELECT 1 FROM credentials WHERE device = devices.pk AND origin = 'issued' AND equipped IS NOT NULL
                     AND pk > (SELECT credentials_before FROM authorities WHERE name = $1))
             ORDER BY pk LIMIT $2";
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        let found = self.connection.rows(sql, &[&authority.as_str(), &limit])?;
        found.iter().map(|row| rows::word(row, 0, "id")).collect()
    }
}

impl WriteDevices for Database {
    fn insert_devices(&mut self, devices: &[DeviceRecord], change: i64) -> Result<bool, StoreError> {
        if devices.is_empty() {
            return Ok(true);
        }
        let first = self.next_rows("devices", devices.len())?;
        let pks: Vec<i64> = (first..).take(devices.len()).collect();
        let ids: Vec<&str> = devices.iter().map(|device| device.id.as_str()).collect();
        let kinds: Vec<&str> = devices.iter().map(|device| device.kind.as_str()).collect();
        let gateways: Vec<Option<&str>> =
            devices.iter().map(|device| device.gateway.as_ref().map(|id| id.as_str())).collect();
        let owners: Vec<Option<&str>> =
            devices.iter().map(|device| device.owner.as_ref().map(|id| id.as_str())).collect();
        let created: Vec<i64> = devices.iter().map(|device| device.created.0).collect();
        let labels: Vec<String> = devices.iter().map(rows::labels_text).collect();
        let facts: Vec<String> = devices.iter().map(rows::facts_text).collect();
        let notes: Vec<Option<&str>> = devices.iter().map(|device| device.note.as_ref().map(Note::as_str)).collect();
        let listed = self.connection.run(
            "INSERT INTO devices (pk, id, kind, gateway, owner, created, changed, labels, facts, note)
             SELECT pk, id, kind, gateway, owner, created, $9, labels::json, facts::json, note FROM unnest(
                 $1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[], $6::bigint[], $7::text[], $8::text[],
                 $10::text[])
             AS new (pk, id, kind, gateway, owner, created, labels, facts, note)",
            &[&pks, &ids, &kinds, &gateways, &owners, &created, &labels, &facts, &change, &notes],
        );
        match listed {
            Ok(_) => {}
            Err(StoreError::Taken) => return Ok(false),
            Err(error) => return Err(error),
        }
        let held: Vec<(&str, &str, i64)> = devices
            .iter()
            .zip(&pks)
            .flat_map(|(device, pk)| device.facts.values().map(|fact| (fact.name().as_str(), fact.value(), *pk)))
            .collect();
        if !held.is_empty() {
            let names: Vec<&str> = held.iter().map(|(name, ..)| *name).collect();
            let values: Vec<&str> = held.iter().map(|(_, value, _)| *value).collect();
            let holders: Vec<i64> = held.iter().map(|(.., pk)| *pk).collect();
            let sql = "INSERT INTO facts SELECT * FROM unnest($1::text[], $2::text[], $3::bigint[]) AS new (name, value, device)
                 WHERE NOT EXISTS (SELECT 1 FROM field_names WHERE is_fact AND shared AND name = new.name COLLATE \"C\")";
            match self.connection.run(sql, &[&names, &values, &holders]) {
                Ok(_) => {}
                Err(StoreError::Taken) => return Ok(false),
                Err(error) => return Err(error),
            }
        }
        self.known.devices.get_mut().extend(devices.iter().zip(&pks).map(|(device, pk)| (device.id.clone(), *pk)));
        let all: Vec<&DeviceRecord> = devices.iter().collect();
        self.note_names(&all)?;
        Ok(true)
    }

    fn update_device(&mut self, before: &DeviceRecord, after: &DeviceRecord, change: i64) -> Result<(), StoreError> {
        let holds = |one: &DeviceRecord, fact: &Fact| one.retired.is_none() && one.facts.get(fact.name()) == Some(fact);
        for old in before.facts.values().filter(|fact| holds(before, fact) && !holds(after, fact)) {
            let sql = "DELETE FROM facts WHERE name = $1 AND value = $2";
            self.connection.write(sql, &[&old.name().as_str(), &old.value()])?;
        }
        for new in after.facts.values().filter(|fact| holds(after, fact) && !holds(before, fact)) {
            let sql = "INSERT INTO facts (name, value, device) SELECT $1, $2, (SELECT pk FROM devices WHERE id = $3)
                 WHERE NOT EXISTS (SELECT 1 FROM field_names WHERE is_fact AND shared AND name = $1)";
            self.connection.write(sql, &[&new.name().as_str(), &new.value(), &after.id.as_str()])?;
        }
        self.connection.write_one(
            "UPDATE devices SET kind = $2, gateway = $3, owner = $4, out = $5, retired = $6, tokens_from = $7, held = $8,
                 changed = $9, labels = $10::text::json, facts = $11::text::json, note = $12, passed = $13
                 WHERE id = $1",
            &[
                &after.id.as_str(),
                &after.kind.as_str(),
                &after.gateway.as_ref().map(|id| id.as_str()),
                &after.owner.as_ref().map(|id| id.as_str()),
                &after.out.map(|at| at.0),
                &after.retired.map(|at| at.0),
                &after.tokens_from.0,
                &after.held.map(|at| at.0),
                &change,
                &rows::labels_text(after),
                &rows::facts_text(after),
                &after.note.as_ref().map(Note::as_str),
                &after.passed.map(|at| at.0),
            ],
            "device",
            &after.id,
        )?;
        if after.retired.is_some() && before.retired.is_none() {
            for fact in after.facts.values() {
                let sql = "INSERT INTO retired_facts (name, value, device) SELECT $1, $2, pk FROM devices WHERE id = $3
                     AND NOT EXISTS (SELECT 1 FROM field_names WHERE is_fact AND shared AND name = $1)
                     ON CONFLICT (name, value) DO UPDATE SET device = excluded.device";
                self.connection.write(sql, &[&fact.name().as_str(), &fact.value(), &after.id.as_str()])?;
            }
        }
        // What it had before was noted when it got it.
        let is_new = after.labels.keys().any(|name| !before.labels.contains_key(name))
            || after.facts.keys().any(|name| !before.facts.contains_key(name));
        if is_new {
            self.note_names(&[after])?;
        }
        Ok(())
    }

    fn put_shared(&mut self, facts: &[(FactName, bool)]) -> Result<(), StoreError> {
        for (name, shared) in facts {
            let sql = "INSERT INTO field_names (is_fact, name, shared) VALUES (true, $1, $2)
                 ON CONFLICT (is_fact, name) DO UPDATE SET shared = excluded.shared";
            self.connection.write(sql, &[&name.as_str(), shared])?;
        }
        Ok(())
    }

    fn touch(&mut self, id: &DeviceId, change: i64) -> Result<(), StoreError> {
        self.connection.write("UPDATE devices SET changed = $2 WHERE id = $1", &[&id.as_str(), &change])
    }

    fn put_seen(&mut self, id: &DeviceId, at: UnixTime) -> Result<(), StoreError> {
        if !self.known.tallies {
            self.connection.write("SELECT one FROM tally FOR UPDATE", &[])?;
            self.known.tallies = true;
        }
        let sql = "INSERT INTO seen SELECT pk, $2 FROM devices WHERE id = $1
             ON CONFLICT (device) DO UPDATE SET at = excluded.at";
        self.connection.write_one(sql, &[&id.as_str(), &at.0], "device", id)
    }

    fn put_renew_asked(&mut self, ids: &[DeviceId], at: UnixTime) -> Result<(), StoreError> {
        self.connection.write("UPDATE devices SET renew_asked = $2 WHERE id = ANY ($1)", &[&texts(ids), &at.0])
    }

    fn leave_group(&mut self, group: &GroupName, change: i64) -> Result<(), StoreError> {
        let sql = "UPDATE devices SET changed = $2, member_of = array_remove(member_of, $1::text)
             WHERE member_of <> '{}' AND $1 = ANY (member_of)";
        self.connection.write(sql, &[&group.as_str(), &change])
    }

    fn join_group(&mut self, group: &GroupName, devices: &[DeviceId], change: i64) -> Result<(), StoreError> {
        let sql = "UPDATE devices SET changed = $2, member_of = array_append(member_of, $1::text)
             WHERE id = ANY ($3) RETURNING id";
        let joined = self.connection.rows(sql, &[&group.as_str(), &change, &texts(devices)])?;
        let joined =
            joined.iter().map(|row| get::<&str>(row, 0)).collect::<Result<std::collections::HashSet<_>, _>>()?;
        match devices.iter().find(|id| !joined.contains(id.as_str())) {
            Some(id) => Err(StoreError::Unknown { what: "device", name: id.to_string() }),
            None => Ok(()),
        }
    }
}
