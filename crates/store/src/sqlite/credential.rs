//! Credentials, blocked keys, and serial numbers that are about to be signed.

use std::collections::BTreeMap;

use rusqlite::types::Value;
use rusqlite::{OptionalExtension, Row, params};
use tidy_warden_core::certificate::{Fingerprint, SerialNumber};
use tidy_warden_core::condition::Condition;
use tidy_warden_core::credential::{BlockSource, CredentialRecord};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::authority::authority_key;
use super::rows::{self, damaged};
use super::{Sql, SqliteTx};
use crate::{
    BlockedKey, Bound, EndPlace, Ending, Intended, NewCredential, ReadCredentials, ReadDevices, StoreError,
    WriteCredentials,
};

fn blocked(row: &Row<'_>) -> Result<BlockedKey, StoreError> {
    let word: String = row.get(2)?;
    let source = BlockSource::ALL.into_iter().find(|each| each.as_str() == word);
    Ok(BlockedKey {
        digest: row.get(0)?,
        at: UnixTime(row.get(1)?),
        source: source.ok_or_else(|| damaged("blocked key"))?,
        device: row.get::<_, Option<String>>(3)?.map(|id| rows::parsed(&id, "id")).transpose()?,
    })
}

impl<S: Sql> ReadCredentials for S {
    fn status_many(
        &self,
        fingerprints: &[Fingerprint],
    ) -> Result<Vec<Option<(CredentialRecord, DeviceRecord)>>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT devices.id FROM credentials JOIN devices ON devices.pk = credentials.device
             WHERE fingerprint_head = ?1 AND fingerprint = ?2",
        )?;
        let mut all = Vec::with_capacity(fingerprints.len());
        for fingerprint in fingerprints {
            let mut found = statement.query(params![rows::head(&fingerprint.0), fingerprint.0])?;
            let owner: Option<DeviceId> = match found.next()? {
                Some(row) => Some(rows::parsed(&row.get::<_, String>(0)?, "id")?),
                None => None,
            };
            let view = match owner {
                Some(owner) => self.devices(&[owner])?.pop().flatten(),
                None => None,
            };
            all.push(view.and_then(|view| {
                let credential = view.credentials.into_iter().find(|each| each.fingerprint == *fingerprint)?;
                Some((credential, view.device))
            }));
        }
        Ok(all)
    }

    fn fingerprints_of(&self, serial: &SerialNumber) -> Result<Vec<Fingerprint>, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT fingerprint FROM credentials WHERE serial = ?1")?;
        let found = statement.query_map([serial.octets()], |row| row.get(0).map(Fingerprint))?;
        Ok(found.collect::<Result<_, _>>()?)
    }

    fn bound_key(&self, key_digest: &[u8; 32]) -> Result<Option<Fingerprint>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT fingerprint FROM credentials WHERE key_head = ?1 AND key_digest = ?2 AND origin = 'key'
             ORDER BY pk DESC",
        )?;
        let found = statement.query_row(params![rows::head(key_digest), key_digest], |row| row.get(0).map(Fingerprint));
        Ok(found.optional()?)
    }

    fn bound_since(&self, after: i64, limit: usize) -> Result<Bound, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT pk, origin, fingerprint FROM credentials WHERE origin <> 'issued' AND pk > ?1 ORDER BY pk LIMIT ?2",
        )?;
        let mut found = statement.query([after, rows::limit(limit)])?;
        let mut bound = Bound { to: after, ..Bound::default() };
        let mut read = 0;
        while let Some(row) = found.next()? {
            read += 1;
            bound.to = row.get(0)?;
            match row.get_ref(1)?.as_str().map_err(|_| damaged("credential"))? {
                "pinned" => bound.certificates.push(Fingerprint(row.get(2)?)),
                // A bare key's name is the digest of its SubjectPublicKeyInfo.
                "key" => bound.keys.push(row.get(2)?),
                _ => {}
            }
        }
        bound.more = read == limit;
        Ok(bound)
    }

    fn key_named(&self, kid: &str) -> Result<Option<(DeviceId, Fingerprint)>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT devices.id, fingerprint FROM credentials JOIN devices ON devices.pk = credentials.device WHERE kid = ?1",
        )?;
        let mut found = statement.query([kid])?;
        match found.next()? {
            Some(row) => Ok(Some((rows::parsed(&row.get::<_, String>(0)?, "id")?, Fingerprint(row.get(1)?)))),
            None => Ok(None),
        }
    }

    fn holders_of_key(&self, digest: &[u8; 32]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT devices.id, fingerprint FROM credentials JOIN devices ON devices.pk = credentials.device
             WHERE key_head = ?1 AND key_digest = ?2 ORDER BY credentials.pk",
        )?;
        let mut found = statement.query(params![rows::head(digest), digest])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push((rows::parsed(&row.get::<_, String>(0)?, "id")?, Fingerprint(row.get(1)?)));
        }
        Ok(all)
    }

    fn authorised_by(&self, fingerprint: &Fingerprint) -> Result<Option<Fingerprint>, StoreError> {
        let sql = "SELECT authorised_by FROM credentials WHERE fingerprint_head = ?1 AND fingerprint = ?2 AND authorised_by IS NOT NULL
             ORDER BY pk DESC LIMIT 1";
        let mut statement = self.sql().prepare_cached(sql)?;
        let row = params![rows::head(&fingerprint.0), fingerprint.0];
        Ok(statement.query_row(row, |row| row.get(0)).optional()?.map(Fingerprint))
    }

    fn derived_from(&self, authorising: &[Fingerprint]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
        let sql = "SELECT credentials.pk, devices.id, fingerprint FROM credentials JOIN devices ON devices.pk = credentials.device
             WHERE authorised_by = ?1";
        let mut statement = self.sql().prepare_cached(sql)?;
        let mut all = BTreeMap::new();
        for each in authorising {
            let mut found = statement.query([each.0])?;
            while let Some(row) = found.next()? {
                let id = rows::parsed(row.get_ref(1)?.as_str().map_err(|_| damaged("device"))?, "id")?;
                all.insert(row.get::<_, i64>(0)?, (id, Fingerprint(row.get(2)?)));
            }
        }
        Ok(all.into_values().collect())
    }

    fn key_digest(&self, fingerprint: &Fingerprint) -> Result<[u8; 32], StoreError> {
        let sql = "SELECT key_digest FROM credentials WHERE fingerprint_head = ?1 AND fingerprint = ?2";
        let mut statement = self.sql().prepare_cached(sql)?;
        let found = statement.query_row(params![rows::head(&fingerprint.0), fingerprint.0], |row| row.get(0));
        found.optional()?.ok_or_else(|| StoreError::Unknown { what: "credential", name: fingerprint.to_string() })
    }

    fn credential_der(&self, fingerprint: &Fingerprint) -> Result<Option<Vec<u8>>, StoreError> {
        let sql = "SELECT certificate FROM credentials WHERE fingerprint_head = ?1 AND fingerprint = ?2";
        let mut statement = self.sql().prepare_cached(sql)?;
        let found = statement.query_row(params![rows::head(&fingerprint.0), fingerprint.0], |row| row.get(0));
        Ok(found.optional()?)
    }

    fn blocked_key(&self, digest: &[u8; 32]) -> Result<Option<BlockedKey>, StoreError> {
        let sql = "SELECT digest, at, source, device FROM blocked_keys WHERE digest = ?1";
        let mut statement = self.sql().prepare_cached(sql)?;
        statement.query([digest])?.next()?.map(blocked).transpose()
    }

    fn blocked_keys(&self, after: Option<&BlockedKey>, limit: usize) -> Result<Vec<BlockedKey>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT digest, at, source, device FROM blocked_keys WHERE (at, digest) > (?1, ?2)
             ORDER BY at, digest LIMIT ?3",
        )?;
        let (at, digest) = after.map_or((i64::MIN, [0; 32]), |key| (key.at.0, key.digest));
        let mut found = statement.query(params![at, digest, rows::limit(limit)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(blocked(row)?);
        }
        Ok(all)
    }

    fn intended(&self) -> Result<Vec<Intended>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT serial, authorities.name, device, not_after, place FROM intended
             JOIN authorities ON authorities.pk = intended.authority ORDER BY at, serial",
        )?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(Intended {
                serial: rows::serial(&row.get::<_, Vec<u8>>(0)?)?,
                authority: rows::parsed(&row.get::<_, String>(1)?, "authority")?,
                device: rows::parsed(&row.get::<_, String>(2)?, "id")?,
                not_after: UnixTime(row.get(3)?),
                place: row.get(4)?,
            });
        }
        Ok(all)
    }

    fn recorded(&self, after: i64, limit: usize) -> Result<Vec<(i64, Option<i64>, Fingerprint)>, StoreError> {
        let sql = "SELECT pk, entry, fingerprint FROM credentials WHERE pk > ?1 ORDER BY pk LIMIT ?2";
        let mut statement = self.sql().prepare_cached(sql)?;
        let row = |row: &Row<'_>| Ok((row.get(0)?, row.get(1)?, Fingerprint(row.get(2)?)));
        let found = statement.query_map([after, rows::limit(limit)], row)?;
        Ok(found.collect::<Result<_, _>>()?)
    }

    fn page_by_end(
        &self,
        condition: Option<&Condition>,
        now: UnixTime,
        after: EndPlace,
        limit: usize,
    ) -> Result<Vec<Ending>, StoreError> {
        let mut values =
            vec![Value::Integer(after.end.0), Value::Integer(after.row), Value::Integer(rows::limit(limit))];
        let holds = match condition {
            None => String::new(),
            Some(condition) => {
                let holds = super::condition::sql(condition, now, &mut values);
                format!("AND EXISTS (SELECT 1 FROM devices WHERE devices.pk = ended.device AND {holds})")
            }
        };
        let end = "min(ended.not_after, ifnull(ended.superseded_until, ended.not_after))";
        let sql = format!(
            "SELECT {end}, ended.pk, ended.fingerprint, ended.device FROM credentials AS ended
             WHERE {end} >= ?1 AND ({end} > ?1 OR ended.pk > ?2) {holds} ORDER BY {end}, ended.pk LIMIT ?3"
        );
        let mut statement = self.sql().prepare_cached(&sql)?;
        let mut found = statement.query(rusqlite::params_from_iter(&values))?;
        let mut page = Vec::new();
        while let Some(row) = found.next()? {
            let at = EndPlace { end: UnixTime(row.get(0)?), row: row.get(1)? };
            page.push((at, Fingerprint(row.get(2)?), row.get::<_, i64>(3)?));
        }
        let views = rows::views(self.sql(), page.iter().map(|(_, _, device)| *device))?;
        let ending = |(at, fingerprint, device): (EndPlace, Fingerprint, i64)| {
            let view = views.get(&device).cloned().ok_or_else(|| damaged("credential"))?;
            Ok(Ending { at, fingerprint, view })
        };
        page.into_iter().map(ending).collect()
    }

    fn entries_of(&self, device: &DeviceId) -> Result<Vec<i64>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT entry FROM credentials JOIN devices ON devices.pk = credentials.device
             WHERE devices.id = ?1 AND entry IS NOT NULL ORDER BY credentials.pk",
        )?;
        let found = statement.query_map([device.as_str()], |row| row.get(0))?;
        Ok(found.collect::<Result<_, _>>()?)
    }
}

impl WriteCredentials for SqliteTx<'_> {
    fn insert_credentials(&mut self, new: &[&NewCredential<'_>], at: UnixTime, entry: i64) -> Result<(), StoreError> {
        let mut insert = self.tx.prepare_cached(
            "INSERT INTO credentials (device, origin, authority, serial, fingerprint, fingerprint_head, key_digest,
                 key_head, key_type, certificate, not_before, not_after, issued, equipped, entry, authorised_by, kid,
                 key_note)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?13, ?14, ?15, ?16, ?17)",
        )?;
        let mut device = self.tx.prepare_cached("SELECT pk FROM devices WHERE id = ?1")?;
        // Those of a batch are nearly always signed by one.
        let mut authority = (None, None);
        for each in new {
            if authority.0 != each.authority {
                let key = each.authority.map(|name| authority_key(&self.tx, name)).transpose()?;
                authority = (each.authority, key);
            }
            let listed = self.listed.front().filter(|(id, _)| id == each.device).map(|(_, pk)| *pk);
            let pk: i64 = match listed {
                Some(pk) => {
                    self.listed.pop_front();
                    pk
                }
                None => {
                    let found = device.query_row([each.device.as_str()], |row| row.get(0)).optional()?;
                    found.ok_or_else(|| StoreError::Unknown { what: "device", name: each.device.to_string() })?
                }
            };
            insert.execute(params![
                pk,
                each.origin.as_str(),
                authority.1,
                each.serial.map(SerialNumber::octets),
                each.fingerprint.0,
                rows::head(&each.fingerprint.0),
                each.key_digest,
                rows::head(&each.key_digest),
                each.key_type,
                each.der,
                each.not_before.0,
                each.not_after.0,
                at.0,
                entry,
                each.authorised_by.map(|by| by.0),
                each.kid,
                each.note
            ])?;
        }
        Ok(())
    }

    fn update_credential(&mut self, credential: &CredentialRecord) -> Result<(), StoreError> {
        let authority = credential.authority.as_ref().map(|name| authority_key(self.sql(), name)).transpose()?;
        let (revoked, reason) = credential.revoked.map(|(at, reason)| (at.0, reason.code())).unzip();
        let fingerprint = credential.fingerprint.0;
        self.sql()
            .prepare_cached(
                "UPDATE credentials SET authority = ?3, equipped = ?4, first_used = ?5, superseded_until = ?6,
                     revoked = ?7, reason = ?8 WHERE fingerprint_head = ?1 AND fingerprint = ?2",
            )?
            .execute(params![
                rows::head(&fingerprint),
                fingerprint,
                authority,
                credential.equipped.map(|at| at.0),
                credential.first_used.map(|at| at.0),
                credential.superseded_until.map(|at| at.0),
                revoked,
                reason,
            ])?;
        Ok(())
    }

    fn block_key(&mut self, key: &BlockedKey) -> Result<bool, StoreError> {
        let sql = "INSERT OR IGNORE INTO blocked_keys (digest, at, source, device) VALUES (?1, ?2, ?3, ?4)";
        let device = key.device.as_ref().map(|id| id.as_str());
        let row = params![key.digest, key.at.0, key.source.as_str(), device];
        Ok(self.sql().prepare_cached(sql)?.execute(row)? > 0)
    }

    fn put_intended(&mut self, intended: &Intended, at: UnixTime) -> Result<(), StoreError> {
        self.sql().execute(
            "INSERT INTO intended (serial, authority, device, not_after, at, place) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![
                intended.serial.octets(),
                authority_key(self.sql(), &intended.authority)?,
                intended.device.as_str(),
                intended.not_after.0,
                at.0,
                intended.place
            ],
        )?;
        Ok(())
    }

    fn drop_intended(&mut self, serial: &SerialNumber) -> Result<bool, StoreError> {
        Ok(self.sql().execute("DELETE FROM intended WHERE serial = ?1", [serial.octets()])? > 0)
    }

    fn put_lost(&mut self, lost: &Intended, at: UnixTime) -> Result<(), StoreError> {
        self.sql().execute(
            "INSERT INTO lost_serials (serial, authority, device, not_after, revoked) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![
                lost.serial.octets(),
                authority_key(self.sql(), &lost.authority)?,
                lost.device.as_str(),
                lost.not_after.0,
                at.0
            ],
        )?;
        Ok(())
    }
}
