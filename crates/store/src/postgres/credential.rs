//! Credentials, blocked keys, and serial numbers that are about to be signed.

use std::collections::{BTreeSet, HashMap};

use tidy_warden_core::certificate::{Fingerprint, SerialNumber};
use tidy_warden_core::condition::Condition;
use tidy_warden_core::credential::{BlockSource, CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::Database;
use super::condition::{self, Value};
use super::connection::{Connection, get};
use super::record::{HEAD, read_head};
use super::rows::{self, damaged};
use crate::{
    BlockedKey, Bound, EndPlace, Ending, Entrance, Intended, KeyStanding, NewCredential, ReadCredentials, StoreError,
    WriteCredentials,
};

fn blocked(row: &Row) -> Result<BlockedKey, StoreError> {
    let word: &str = get(row, 2)?;
    let source = BlockSource::ALL.into_iter().find(|each| each.as_str() == word);
    Ok(BlockedKey {
        digest: rows::digest(row, 0, "blocked key")?,
        at: UnixTime(get(row, 1)?),
        source: source.ok_or_else(|| damaged("blocked key"))?,
        device: rows::maybe_word(row, 3, "id")?,
    })
}

const BLOCKED: &str = "SELECT digest, at, source, device FROM blocked_keys WHERE digest = $1";

const HOLDERS: &str = "SELECT devices.id, fingerprint FROM credentials JOIN devices ON devices.pk = credentials.device
     WHERE key_digest = $1 ORDER BY credentials.pk + 0";

fn holder(row: &Row) -> Result<(DeviceId, Fingerprint), StoreError> {
    Ok((rows::word(row, 0, "id")?, fingerprint(row, 1)?))
}

fn fingerprint(row: &Row, at: usize) -> Result<Fingerprint, StoreError> {
    Ok(Fingerprint(rows::digest(row, at, "credential")?))
}

/// Credentials with their devices, out of the rows of devices with all of theirs.
fn by_fingerprint(found: &[Row]) -> Result<HashMap<Fingerprint, (CredentialRecord, DeviceRecord)>, StoreError> {
    let mut known = HashMap::new();
    for (_, _, view) in rows::views(found, 0)? {
        for credential in view.credentials {
            known.insert(credential.fingerprint, (credential, view.device.clone()));
        }
    }
    Ok(known)
}

/// See [`crate::Store::entrance`]: all questions go out together, and the answers come back together.
pub(super) fn entrance(
    connection: &Connection,
    fingerprint: &Fingerprint,
    key: &[u8; 32],
) -> Result<Entrance, StoreError> {
    let of = |which: &str| {
        let some = format!(
            "(SELECT * FROM devices WHERE pk = ANY (ARRAY(SELECT device FROM credentials WHERE fingerprint = ANY (ARRAY({which})))))
             AS devices"
        );
        rows::select_views("", &some, "devices.pk + 0")
    };
    // The newest bare key with that digest, as `bound_key` gives it.
    let bound = "SELECT fingerprint FROM (SELECT fingerprint FROM credentials WHERE key_digest = $1 AND origin = 'key'
         ORDER BY pk + 0 DESC LIMIT 1) AS bound";
    let octets = fingerprint.0.as_slice();
    let key = key.as_slice();
    let none: [&(dyn ToSql + Sync); 0] = [];
    let [head, one, other] =
        connection.of_one_moment([(HEAD, &none), (&of("SELECT $1::bytea"), &[&octets]), (&of(bound), &[&key])])?;
    let known = by_fingerprint(&one)?.remove(fingerprint);
    let found = by_fingerprint(&other)?.into_values();
    let bound = found
        .filter(|(record, _)| record.origin == Origin::Key && record.fingerprint.0.as_slice() == key)
        .max_by_key(|(record, _)| record.issued);
    Ok(Entrance::of(read_head(&head)?, known, bound))
}

impl ReadCredentials for Database {
    fn status_many(
        &self,
        fingerprints: &[Fingerprint],
    ) -> Result<Vec<Option<(CredentialRecord, DeviceRecord)>>, StoreError> {
        let octets: Vec<&[u8]> = fingerprints.iter().map(|each| each.0.as_slice()).collect();
        let some = "(SELECT * FROM devices WHERE pk = ANY (ARRAY(SELECT device FROM credentials WHERE fingerprint = ANY ($1))))
             AS devices";
        let found = self.connection.rows(&rows::select_views("", some, "devices.pk + 0"), &[&octets])?;
        let known = by_fingerprint(&found)?;
        Ok(fingerprints.iter().map(|fingerprint| known.get(fingerprint).cloned()).collect())
    }

    fn fingerprints_of(&self, serial: &SerialNumber) -> Result<Vec<Fingerprint>, StoreError> {
        let sql = "SELECT fingerprint FROM credentials WHERE serial = $1 ORDER BY pk + 0";
        self.connection.rows(sql, &[&serial.octets()])?.iter().map(|row| fingerprint(row, 0)).collect()
    }

    fn bound_key(&self, key_digest: &[u8; 32]) -> Result<Option<Fingerprint>, StoreError> {
        let sql =
            "SELECT fingerprint FROM credentials WHERE key_digest = $1 AND origin = 'key' ORDER BY pk + 0 DESC LIMIT 1";
        let row = self.connection.maybe(sql, &[&key_digest.as_slice()])?;
        row.map(|row| fingerprint(&row, 0)).transpose()
    }

    fn bound_since(&self, after: i64, limit: usize) -> Result<Bound, StoreError> {
        let sql = "SELECT pk, origin, fingerprint FROM credentials WHERE origin <> 'issued' AND pk > $1
             ORDER BY pk LIMIT $2";
        let found = self.connection.rows(sql, &[&after, &rows::limit(limit)])?;
        let mut bound = Bound { to: after, more: found.len() == limit, ..Bound::default() };
        for row in &found {
            bound.to = get(row, 0)?;
            match get(row, 1)? {
                "pinned" => bound.certificates.push(fingerprint(row, 2)?),
                // A bare key's name is the digest of its SubjectPublicKeyInfo.
                "key" => bound.keys.push(rows::digest(row, 2, "credential")?),
                _ => {}
            }
        }
        Ok(bound)
    }

    fn key_named(&self, kid: &str) -> Result<Option<(DeviceId, Fingerprint)>, StoreError> {
        let sql = "SELECT devices.id, fingerprint FROM credentials JOIN devices ON devices.pk = credentials.device WHERE kid = $1";
        self.connection.maybe(sql, &[&kid])?.as_ref().map(holder).transpose()
    }

    fn holders_of_key(&self, digest: &[u8; 32]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
        self.connection.rows(HOLDERS, &[&digest.as_slice()])?.iter().map(holder).collect()
    }

    fn authorised_by(&self, fingerprint: &Fingerprint) -> Result<Option<Fingerprint>, StoreError> {
        let sql = "SELECT authorised_by FROM credentials WHERE fingerprint = $1 AND authorised_by IS NOT NULL
             ORDER BY pk + 0 DESC LIMIT 1";
        let row = self.connection.maybe(sql, &[&fingerprint.0.as_slice()])?;
        row.map(|row| rows::digest(&row, 0, "credential").map(Fingerprint)).transpose()
    }

    fn derived_from(&self, authorising: &[Fingerprint]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
        let all: Vec<&[u8]> = authorising.iter().map(|each| each.0.as_slice()).collect();
        let sql = "SELECT devices.id, fingerprint FROM credentials JOIN devices ON devices.pk = credentials.device
             WHERE authorised_by = ANY ($1) ORDER BY credentials.pk + 0";
        let found = self.connection.rows(sql, &[&all])?;
        found
            .iter()
            .map(|row| Ok((rows::word(row, 0, "id")?, Fingerprint(rows::digest(row, 1, "credential")?))))
            .collect()
    }

    fn key_digest(&self, fingerprint: &Fingerprint) -> Result<[u8; 32], StoreError> {
        let sql = "SELECT key_digest FROM credentials WHERE fingerprint = $1";
        match self.connection.maybe(sql, &[&fingerprint.0.as_slice()])? {
            Some(row) => rows::digest(&row, 0, "credential"),
            None => Err(StoreError::Unknown { what: "credential", name: fingerprint.to_string() }),
        }
    }

    fn credential_der(&self, fingerprint: &Fingerprint) -> Result<Option<Vec<u8>>, StoreError> {
        let sql = "SELECT certificate FROM credentials WHERE fingerprint = $1";
        self.connection.maybe(sql, &[&fingerprint.0.as_slice()])?.map(|row| get(&row, 0)).transpose()
    }

    fn blocked_key(&self, digest: &[u8; 32]) -> Result<Option<BlockedKey>, StoreError> {
        self.connection.maybe(BLOCKED, &[&digest.as_slice()])?.as_ref().map(blocked).transpose()
    }

    fn key_standing(&self, digest: &[u8; 32]) -> Result<KeyStanding, StoreError> {
        let digest: &[&(dyn ToSql + Sync)] = &[&digest.as_slice()];
        let [barred, holders] = self.connection.rows_of([(BLOCKED, digest), (HOLDERS, digest)])?;
        Ok((barred.first().map(blocked).transpose()?, holders.iter().map(holder).collect::<Result<_, _>>()?))
    }

    fn blocked_keys(&self, after: Option<&BlockedKey>, limit: usize) -> Result<Vec<BlockedKey>, StoreError> {
        let sql = "SELECT digest, at, source, device FROM blocked_keys WHERE (at, digest) > ($1, $2)
             ORDER BY at, digest LIMIT $3";
        let (at, digest) = after.map_or((i64::MIN, [0; 32]), |key| (key.at.0, key.digest));
        let found = self.connection.rows(sql, &[&at, &digest.as_slice(), &rows::limit(limit)])?;
        found.iter().map(blocked).collect()
    }

    fn intended(&self) -> Result<Vec<Intended>, StoreError> {
        let sql = "SELECT serial, authorities.name, device, not_after, place FROM intended
             JOIN authorities ON authorities.pk = intended.authority ORDER BY at, serial";
        let intended = |row: &Row| {
            Ok(Intended {
                serial: rows::serial(get(row, 0)?)?,
                authority: rows::word(row, 1, "authority")?,
                device: rows::word(row, 2, "id")?,
                not_after: UnixTime(get(row, 3)?),
                place: get(row, 4)?,
            })
        };
        self.connection.rows(sql, &[])?.iter().map(intended).collect()
    }

    fn recorded(&self, after: i64, limit: usize) -> Result<Vec<(i64, Option<i64>, Fingerprint)>, StoreError> {
        let sql = "SELECT pk, entry, fingerprint FROM credentials WHERE pk > $1 ORDER BY pk LIMIT $2";
        let found = self.connection.rows(sql, &[&after, &rows::limit(limit)])?;
        found.iter().map(|row| Ok((get(row, 0)?, get(row, 1)?, fingerprint(row, 2)?))).collect()
    }

    fn page_by_end(
        &self,
        wanted: Option<&Condition>,
        now: UnixTime,
        after: EndPlace,
        limit: usize,
    ) -> Result<Vec<Ending>, StoreError> {
        let mut values = vec![Value::Number(after.end.0), Value::Number(after.row), Value::Number(rows::limit(limit))];
        let holds = match wanted {
            None => String::new(),
            Some(wanted) => {
                let holds = condition::sql(wanted, now, &mut values);
                format!("AND EXISTS (SELECT 1 FROM devices WHERE devices.pk = ended.device AND {holds})")
            }
        };
        let end = "least(ended.not_after, ended.superseded_until)";
        let page = format!(
            "(SELECT {end} AS end_of, ended.pk AS end_pk, ended.fingerprint AS end_name, ended.device AS end_device
              FROM credentials AS ended WHERE ({end}, ended.pk) > ($1, $2) {holds} ORDER BY {end}, ended.pk LIMIT $3)
             AS page JOIN devices ON devices.pk = page.end_device"
        );
        let first = "page.end_of, page.end_pk, page.end_name, ";
        let values: Vec<_> = values.iter().map(Value::as_sql).collect();
        let sql = rows::select_views(first, &page, "page.end_of, page.end_pk");
        let found = self.connection.rows(&sql, &values)?;
        // Two credentials of one device may end one after the other; each has its device with all of them.
        let mut page = Vec::new();
        let mut rest = found.as_slice();
        while let Some(row) = rest.first() {
            let own: i64 = get(row, 1)?;
            let mut count = 0;
            while rest.get(count).map(|row| get::<i64>(row, 1)).transpose()? == Some(own) {
                count += 1;
            }
            let (these, others) = rest.split_at(count);
            let view = rows::views(these, 3)?.pop().ok_or_else(|| damaged("credential"))?.2;
            let at = EndPlace { end: UnixTime(get(row, 0)?), row: own };
            page.push(Ending { at, fingerprint: fingerprint(row, 2)?, view });
            rest = others;
        }
        Ok(page)
    }

    fn entries_of(&self, device: &DeviceId) -> Result<Vec<i64>, StoreError> {
        let sql = "SELECT entry FROM credentials JOIN devices ON devices.pk = credentials.device
             WHERE devices.id = $1 AND entry IS NOT NULL ORDER BY credentials.pk + 0";
        self.connection.rows(sql, &[&device.as_str()])?.iter().map(|row| get(row, 0)).collect()
    }
}

impl Database {
    /// The row of an authority.
    pub(super) fn authority_key(&self, name: &AuthorityName) -> Result<i64, StoreError> {
        match self.connection.maybe("SELECT pk FROM authorities WHERE name = $1", &[&name.as_str()])? {
            Some(row) => get(&row, 0),
            None => Err(StoreError::Unknown { what: "authority", name: name.to_string() }),
        }
    }

    /// The rows of the devices of new credentials; those that were listed or looked at in this change are known.
    fn device_keys(&mut self, new: &[&NewCredential<'_>]) -> Result<Vec<i64>, StoreError> {
        let known = self.known.devices.get_mut();
        let unknown: Vec<&str> =
            new.iter().filter(|each| !known.contains_key(each.device)).map(|each| each.device.as_str()).collect();
        if !unknown.is_empty() {
            for row in self.connection.rows("SELECT id, pk FROM devices WHERE id = ANY ($1)", &[&unknown])? {
                known.insert(rows::word(&row, 0, "id")?, get(&row, 1)?);
            }
        }
        let of = |each: &&NewCredential<'_>| {
            let found = known.get(each.device).copied();
            found.ok_or_else(|| StoreError::Unknown { what: "device", name: each.device.to_string() })
        };
        new.iter().map(of).collect()
    }

    /// The rows of the authorities of new credentials, which are nearly always one; and what the rows of credentials are counted from.
    fn authority_keys(&mut self, new: &[&NewCredential<'_>]) -> Result<Vec<Option<i64>>, StoreError> {
        let is_unknown =
            |each: &&&NewCredential<'_>| each.authority.is_some_and(|name| !self.known.authorities.contains_key(name));
        let unknown: BTreeSet<&AuthorityName> =
            new.iter().filter(is_unknown).filter_map(|each| each.authority).collect();
        if !unknown.is_empty() || !self.known.greatest.contains_key("credentials") {
            let names: Vec<&str> = unknown.iter().map(|name| name.as_str()).collect();
            let sql = "SELECT NULL, coalesce(max(pk), 0) FROM credentials
                 UNION ALL SELECT name, pk FROM authorities WHERE name = ANY ($1)";
            for row in self.connection.rows(sql, &[&names])? {
                match rows::maybe_word(&row, 0, "authority")? {
                    Some(name) => drop(self.known.authorities.insert(name, get(&row, 1)?)),
                    None => drop(self.known.greatest.entry("credentials").or_insert(get(&row, 1)?)),
                }
            }
        }
        let of = |each: &&NewCredential<'_>| {
            let Some(name) = each.authority else { return Ok(None) };
            let found = self.known.authorities.get(name).copied();
            found.map(Some).ok_or_else(|| StoreError::Unknown { what: "authority", name: name.to_string() })
        };
        new.iter().map(of).collect()
    }
}

impl WriteCredentials for Database {
    fn insert_credentials(&mut self, new: &[&NewCredential<'_>], at: UnixTime, entry: i64) -> Result<(), StoreError> {
        if new.is_empty() {
            return Ok(());
        }
        let devices = self.device_keys(new)?;
        let authorities = self.authority_keys(new)?;
        let first = self.next_rows("credentials", new.len())?;
        let pks: Vec<i64> = (first..).take(new.len()).collect();
        let origins: Vec<&str> = new.iter().map(|each| each.origin.as_str()).collect();
        let serials: Vec<Option<&[u8]>> = new.iter().map(|each| each.serial.map(SerialNumber::octets)).collect();
        let fingerprints: Vec<&[u8]> = new.iter().map(|each| each.fingerprint.0.as_slice()).collect();
        let digests: Vec<&[u8]> = new.iter().map(|each| each.key_digest.as_slice()).collect();
        let types: Vec<&str> = new.iter().map(|each| each.key_type).collect();
        let ders: Vec<&[u8]> = new.iter().map(|each| each.der).collect();
        let begins: Vec<i64> = new.iter().map(|each| each.not_before.0).collect();
        let ends: Vec<i64> = new.iter().map(|each| each.not_after.0).collect();
        let kids: Vec<Option<&str>> = new.iter().map(|each| each.kid).collect();
        let notes: Vec<Option<&str>> = new.iter().map(|each| each.note).collect();
        let authorising: Vec<Option<&[u8]>> =
            new.iter().map(|each| each.authorised_by.as_ref().map(|by| by.0.as_slice())).collect();
        self.connection.write(
            "INSERT INTO credentials (pk, device, origin, authority, serial, fingerprint, key_digest, key_type,
                 certificate, not_before, not_after, authorised_by, kid, key_note, issued, equipped, entry)
             SELECT new.*, $12, $12, $13 FROM unnest($1::bigint[], $2::bigint[], $3::text[], $4::bigint[], $5::bytea[],
                 $6::bytea[], $7::bytea[], $8::text[], $9::bytea[], $10::bigint[], $11::bigint[], $14::bytea[], $15::text[],
                 $16::text[]) AS new",
            &[
                &pks,
                &devices,
                &origins,
                &authorities,
                &serials,
                &fingerprints,
                &digests,
                &types,
                &ders,
                &begins,
                &ends,
                &at.0,
                &entry,
                &authorising,
                &kids,
                &notes,
            ],
        )
    }

    fn update_credential(&mut self, credential: &CredentialRecord) -> Result<(), StoreError> {
        let authority = credential.authority.as_ref().map(AuthorityName::as_str);
        let (revoked, reason) = credential.revoked.map(|(at, reason)| (at.0, i64::from(reason.code()))).unzip();
        self.connection.write_one(
            "UPDATE credentials SET authority = signer.pk, equipped = $3, first_used = $4, superseded_until = $5,
                 revoked = $6, reason = $7 FROM (SELECT (SELECT pk FROM authorities WHERE name = $2) AS pk) AS signer
             WHERE fingerprint = $1 AND ($2 IS NULL OR signer.pk IS NOT NULL)",
            &[
                &credential.fingerprint.0.as_slice(),
                &authority,
                &credential.equipped.map(|at| at.0),
                &credential.first_used.map(|at| at.0),
                &credential.superseded_until.map(|at| at.0),
                &revoked,
                &reason,
            ],
            "credential of its authority",
            &credential.fingerprint,
        )
    }

    fn block_key(&mut self, key: &BlockedKey) -> Result<bool, StoreError> {
        let sql =
            "INSERT INTO blocked_keys (digest, at, source, device) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING";
        let device = key.device.as_ref().map(|id| id.as_str());
        Ok(self.connection.run(sql, &[&key.digest.as_slice(), &key.at.0, &key.source.as_str(), &device])? > 0)
    }

    fn put_intended(&mut self, intended: &Intended, at: UnixTime) -> Result<(), StoreError> {
        self.connection.write_one(
            "INSERT INTO intended (serial, authority, device, not_after, at, place)
             SELECT $1, pk, $3, $4, $5, $6 FROM authorities WHERE name = $2",
            &[
                &intended.serial.octets(),
                &intended.authority.as_str(),
                &intended.device.as_str(),
                &intended.not_after.0,
                &at.0,
                &intended.place,
            ],
            "authority",
            &intended.authority,
        )
    }

    fn drop_intended(&mut self, serial: &SerialNumber) -> Result<bool, StoreError> {
        Ok(self.connection.run("DELETE FROM intended WHERE serial = $1", &[&serial.octets()])? > 0)
    }

    fn put_lost(&mut self, lost: &Intended, at: UnixTime) -> Result<(), StoreError> {
        let authority = self.authority_key(&lost.authority)?;
        self.connection.write(
            "INSERT INTO lost_serials (serial, authority, device, not_after, revoked) VALUES ($1, $2, $3, $4, $5)",
            &[&lost.serial.octets(), &authority, &lost.device.as_str(), &lost.not_after.0, &at.0],
        )
    }
}
