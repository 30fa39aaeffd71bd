//! Reading, and the trait put together.

use std::collections::BTreeMap;

use rusqlite::types::Value;
use rusqlite::{OptionalExtension, params};
use tidy_warden_core::audit::{Entry, Hash};
use tidy_warden_core::certificate::{Certificate, Fingerprint, SerialNumber};
use tidy_warden_core::condition::Condition;
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{AuthorityName, DeviceId, GroupName};
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::policy::{FleetRow, PolicyFile};
use tidy_warden_core::revocation::{Reason, Revoked, still_listed};
use tidy_warden_core::time::UnixTime;

use super::rows::{self, DEVICE_COLUMNS, damaged};
use super::{SqliteStore, audit_end, broker, condition, keys, meta, policy, traffic, write};
use crate::{
    Added, Batch, BatchRefusal, BlockedKey, Bound, BrokerSession, BulkRun, Cause, Changes, CloneSigns, CrlRecord,
    DeviceView, EditionRecord, EditionSummary, GroupMembers, GroupRecord, Intended, MOST_CHANGED, NameInUse,
    NewAuthority, NewCredential, Signed, Store, StoreError, Traffic, TrialDifference, TrialRecord, WardRecord,
};
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRefusal, PendingAuthority, Trust};
use tidy_warden_core::credential::{BlockSource, Ended, Revocation};
use tidy_warden_core::device::{AddRefusal, DeviceEdit};
use tidy_warden_core::enrolment::IssueRefusal;

/// How many devices are read at a time when all are walked.
const PAGE: i64 = 1000;

impl SqliteStore {
    /// Walks the devices for which `holds` is true, page by page. The first of `values` is where the page begins.
    fn pages(&self, holds: &str, mut values: Vec<Value>, visit: &mut dyn FnMut(DeviceView)) -> Result<(), StoreError> {
        let sql = format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE pk > ?1 AND {holds} ORDER BY pk LIMIT {PAGE}");
        let mut statement = self.connection.prepare(&sql)?;
        loop {
            let mut page = BTreeMap::new();
            let mut found = statement.query(rusqlite::params_from_iter(&values))?;
            while let Some(row) = found.next()? {
                let (pk, device) = rows::device(row)?;
                page.insert(pk, DeviceView { device, credentials: Vec::new() });
            }
            let Some((&last, _)) = page.last_key_value() else { return Ok(()) };
            rows::fill(&self.connection, &mut page)?;
            page.into_values().for_each(&mut *visit);
            values[0] = Value::Integer(last);
        }
    }

    fn batch(
        &mut self,
        batch: &Batch<'_>,
        cause: &Cause,
        deliver: &mut dyn FnMut() -> std::io::Result<()>,
    ) -> Result<Result<(), Vec<BatchRefusal>>, StoreError> {
        let tx = self.writing()?;
        if let Err(refusals) = write::record_batch(&tx, batch, cause)? {
            return Ok(Err(refusals));
        }
        deliver().map_err(StoreError::Delivery)?;
        tx.commit()?;
        Ok(Ok(()))
    }

    /// Whether a name is some authority's already, or a key that of one that is believed, or of a pending one other than
    /// that of this name and key.
    fn authority_refusal(&self, name: &AuthorityName, key: &PublicKey) -> Result<Option<AuthorityRefusal>, StoreError> {
        for authority in self.authorities()? {
            if authority.name == *name {
                return Ok(Some(AuthorityRefusal::NameTaken(name.clone())));
            }
            if authority.retired.is_none() && authority.certificate.public_key == *key {
                return Ok(Some(AuthorityRefusal::KeyTaken(authority.name)));
            }
        }
        for pending in self.pending_authorities()? {
            match (pending.name == *name, pending.public_key == *key) {
                (true, false) => return Ok(Some(AuthorityRefusal::NameTaken(name.clone()))),
                (false, true) => return Ok(Some(AuthorityRefusal::KeyTaken(pending.name))),
                _ => {}
            }
        }
        Ok(None)
    }
}

impl Store for SqliteStore {
    fn ward(&self) -> Result<WardRecord, StoreError> {
        let absent = || damaged("ward record");
        let spki: Vec<u8> = meta(&self.connection, "token_key")?.ok_or_else(absent)?;
        Ok(WardRecord {
            urn: meta(&self.connection, "urn")?.ok_or_else(absent)?,
            rehearsal: meta(&self.connection, "rehearsal")?.ok_or_else(absent)?,
            token_key: PublicKey::from_spki(&spki).map_err(|_| absent())?,
        })
    }

    fn authorities(&self) -> Result<Vec<AuthorityRecord>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT name, role, certificate, crl_number, crl_at, crl_pending, created, key_place, token, token_label,
                 replaces, retired, trust_kinds, trust_fact, pk FROM authorities ORDER BY pk",
        )?;
        let mut crosses = self
            .connection
            .prepare_cached("SELECT certificate FROM crosses WHERE authority = ?1 ORDER BY fingerprint")?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            let mut crossed = Vec::new();
            let mut certificates = crosses.query([row.get::<_, i64>(14)?])?;
            while let Some(row) = certificates.next()? {
                crossed.push(rows::certificate(&row.get::<_, Vec<u8>>(0)?)?);
            }
            let trust = match (row.get::<_, Option<String>>(12)?, row.get::<_, Option<String>>(13)?) {
                (Some(kinds), Some(fact)) => Some(Trust {
                    kinds: kinds
                        .split(',')
                        .map(|kind| kind.parse().map_err(|_| damaged("authority")))
                        .collect::<Result<_, _>>()?,
                    fact: FactName::parse(&fact).map_err(|_| damaged("authority"))?,
                }),
                _ => None,
            };
            all.push(AuthorityRecord {
                name: row.get::<_, String>(0)?.parse().map_err(|_| damaged("authority"))?,
                role: rows::role(&row.get::<_, String>(1)?)?,
                certificate: rows::certificate(&row.get::<_, Vec<u8>>(2)?)?,
                crossed,
                created: UnixTime(row.get(6)?),
                key: rows::key_place(&row.get::<_, String>(7)?, row.get(8)?, row.get(9)?)?,
                replaces: row
                    .get::<_, Option<String>>(10)?
                    .map(|name| name.parse().map_err(|_| damaged("authority")))
                    .transpose()?,
                retired: rows::time(row.get(11)?),
                trust,
                crl_number: row.get::<_, i64>(3)?.unsigned_abs(),
                crl_at: rows::time(row.get(4)?),
                crl_pending: row.get(5)?,
            });
        }
        Ok(all)
    }

    fn pending_authorities(&self) -> Result<Vec<PendingAuthority>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT name, role, public_key, key_place, token, token_label, created FROM pending_authorities ORDER BY name",
        )?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(PendingAuthority {
                name: row.get::<_, String>(0)?.parse().map_err(|_| damaged("authority"))?,
                role: rows::role(&row.get::<_, String>(1)?)?,
                public_key: PublicKey::from_spki(&row.get::<_, Vec<u8>>(2)?).map_err(|_| damaged("key"))?,
                key: rows::key_place(&row.get::<_, String>(3)?, row.get(4)?, row.get(5)?)?,
                created: UnixTime(row.get(6)?),
            });
        }
        Ok(all)
    }

    fn equipped_since(&self, authority: &AuthorityName) -> Result<(u64, u64), StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT count(*), count(*) FILTER (WHERE EXISTS (
                 SELECT 1 FROM credentials WHERE device = devices.pk AND origin = 'issued' AND equipped IS NOT NULL
                     AND pk > (SELECT credentials_before FROM authorities WHERE name = ?1)))
             FROM devices WHERE out IS NULL AND retired IS NULL",
        )?;
        let count = |row: &rusqlite::Row<'_>, at| row.get::<_, i64>(at).map(i64::unsigned_abs);
        Ok(statement.query_row([authority.as_str()], |row| Ok((count(row, 0)?, count(row, 1)?)))?)
    }

    fn holder(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
        write::holder(&self.connection, fact)
    }

    fn bound_key(&self, key_digest: &[u8; 32]) -> Result<Option<Fingerprint>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT fingerprint FROM credentials WHERE key_head = ?1 AND key_digest = ?2 AND origin = 'key'
             ORDER BY pk DESC",
        )?;
        let mut found = statement.query(params![rows::head(key_digest), key_digest])?;
        Ok(match found.next()? {
            Some(row) => Some(Fingerprint(row.get(0)?)),
            None => None,
        })
    }

    fn bound_since(&self, after: i64) -> Result<Bound, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT pk, origin, fingerprint FROM credentials WHERE origin <> 'issued' AND pk > ?1 ORDER BY pk LIMIT ?2",
        )?;
        let mut found = statement.query([after, PAGE])?;
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
        bound.more = read == PAGE;
        Ok(bound)
    }

    fn is_used(&self, name: &NameInUse) -> Result<bool, StoreError> {
        let exists = |sql: &str, value: &[&str]| -> Result<bool, StoreError> {
            Ok(self.connection.prepare_cached(sql)?.exists(rusqlite::params_from_iter(value))?)
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
        let mut statement =
            self.connection.prepare_cached("SELECT DISTINCT key FROM devices, json_each(labels) ORDER BY key")?;
        let found = statement.query_map([], |row| row.get(0))?;
        Ok(found.collect::<Result<_, _>>()?)
    }

    fn blocked_key(&self, digest: &[u8; 32]) -> Result<Option<BlockedKey>, StoreError> {
        keys::blocked(&self.connection, digest)
    }

    fn each_blocked_key(&self, visit: &mut dyn FnMut(BlockedKey)) -> Result<(), StoreError> {
        keys::each(&self.connection, visit)
    }

    fn block_keys(
        &mut self,
        digests: &[[u8; 32]],
        source: BlockSource,
        cause: &Cause,
    ) -> Result<(usize, Vec<Ended>), StoreError> {
        let tx = self.writing()?;
        let blocked = keys::block(&tx, digests, source, cause)?;
        tx.commit()?;
        Ok(blocked)
    }

    fn intend(&mut self, intended: &Intended, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        write::intend(&tx, intended, cause.at)?;
        Ok(tx.commit()?)
    }

    fn intended(&self) -> Result<Vec<Intended>, StoreError> {
        write::intended(&self.connection)
    }

    fn end_intended(&mut self, all: &[Intended], lost: bool, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        write::end_intended(&tx, all, lost, cause)?;
        Ok(tx.commit()?)
    }

    fn broker_session(&self, client_id: &str) -> Result<Option<BrokerSession>, StoreError> {
        broker::of(&self.connection, client_id)
    }

    fn broker_sessions_of(&self, device: &DeviceId) -> Result<usize, StoreError> {
        broker::count_of(&self.connection, device)
    }

    fn broker_sessions_of_ended(&self, limit: usize) -> Result<Vec<BrokerSession>, StoreError> {
        broker::of_ended(&self.connection, limit)
    }

    fn keep_broker_sessions(
        &mut self,
        kept: &[BrokerSession],
        gone: &[String],
        now: UnixTime,
    ) -> Result<(), StoreError> {
        let tx = self.writing()?;
        broker::keep(&tx, kept, gone, now)?;
        Ok(tx.commit()?)
    }

    fn reopen(&mut self) -> Result<(), StoreError> {
        let patience = self.patience;
        let mut anew = Self::open(&self.path)?;
        anew.set_patience(patience)?;
        *self = anew;
        Ok(())
    }

    fn give_up(&mut self, number: i64, hash: Hash, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        let detail = serde_json::json!({ "number": number, "hash": write::hex(&hash) });
        super::append(&tx, cause, "store.accept", "the store", &detail.to_string())?;
        super::set_meta(&tx, "given_up_number", &number)?;
        super::set_meta(&tx, "given_up_hash", &hash)?;
        Ok(tx.commit()?)
    }

    fn bulk_run(&self) -> Result<Option<BulkRun>, StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT plan, position FROM bulk")?;
        let mut found = statement.query([])?;
        Ok(match found.next()? {
            Some(row) => Some(BulkRun { plan: row.get(0)?, position: row.get(1)? }),
            None => None,
        })
    }

    fn signed_by(&self, authority: &AuthorityName, now: UnixTime) -> Result<Signed, StoreError> {
        let good = rows::good("?2");
        let sql = format!(
            "SELECT count(*), count(*) FILTER (WHERE {good}), max(not_after) FILTER (WHERE {good}) FROM credentials
             WHERE authority = (SELECT pk FROM authorities WHERE name = ?1)"
        );
        let mut statement = self.connection.prepare_cached(&sql)?;
        Ok(statement.query_row(params![authority.as_str(), now.0], |row| {
            let count = |at| row.get::<_, i64>(at).map(i64::unsigned_abs);
            Ok(Signed { all: count(0)?, usable: count(1)?, last_end: rows::time(row.get(2)?) })
        })?)
    }

    fn server_certificate(&self, name: &str) -> Result<Certificate, StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT certificate FROM servers WHERE name = ?1")?;
        let mut found = statement.query([name])?;
        match found.next()? {
            Some(row) => rows::certificate(&row.get::<_, Vec<u8>>(0)?),
            None => Err(StoreError::Unknown { what: "server certificate", name: name.to_owned() }),
        }
    }

    fn devices(&self, ids: &[DeviceId]) -> Result<Vec<Option<DeviceView>>, StoreError> {
        let sql = format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE id = ?1");
        let mut statement = self.connection.prepare_cached(&sql)?;
        let mut all = Vec::with_capacity(ids.len());
        for id in ids {
            let mut found = statement.query([id.as_str()])?;
            all.push(match found.next()? {
                Some(row) => {
                    let (pk, device) = rows::device(row)?;
                    let mut one = BTreeMap::from([(pk, DeviceView { device, credentials: Vec::new() })]);
                    rows::fill(&self.connection, &mut one)?;
                    one.into_values().next()
                }
                None => None,
            });
        }
        Ok(all)
    }

    fn each_device(&self, visit: &mut dyn FnMut(DeviceView)) -> Result<(), StoreError> {
        self.pages("1", vec![Value::Integer(0)], visit)
    }

    fn each_device_where(
        &self,
        wanted: &Condition,
        now: UnixTime,
        visit: &mut dyn FnMut(DeviceView),
    ) -> Result<(), StoreError> {
        let mut values = vec![Value::Integer(0)];
        let holds = condition::sql(wanted, now, &mut values);
        self.pages(&holds, values, visit)
    }

    fn each_fleet_row(
        &self,
        facts: bool,
        visit: &mut dyn FnMut(&FleetRow<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        policy::each_fleet_row(&self.connection, facts, visit)
    }

    fn children(&self, gateway: &DeviceId) -> Result<Vec<DeviceRecord>, StoreError> {
        let sql = format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE gateway = ?1 AND retired IS NULL ORDER BY pk");
        let mut statement = self.connection.prepare_cached(&sql)?;
        let mut found = statement.query([gateway.as_str()])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(rows::device(row)?.1);
        }
        Ok(all)
    }

    fn groups(&self) -> Result<Vec<GroupRecord>, StoreError> {
        policy::groups(&self.connection)
    }

    fn trial(&self) -> Result<Option<TrialRecord>, StoreError> {
        policy::trial(&self.connection)
    }

    fn trial_differences(&self, trial: u32) -> Result<Vec<TrialDifference>, StoreError> {
        policy::differences(&self.connection, trial)
    }

    fn editions(&self) -> Result<Vec<EditionSummary>, StoreError> {
        let mut statement = self.connection.prepare_cached(
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

    fn status_many(
        &self,
        fingerprints: &[Fingerprint],
    ) -> Result<Vec<Option<(CredentialRecord, DeviceRecord)>>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT devices.id FROM credentials JOIN devices ON devices.pk = credentials.device
             WHERE fingerprint_head = ?1 AND fingerprint = ?2",
        )?;
        let mut all = Vec::with_capacity(fingerprints.len());
        for fingerprint in fingerprints {
            let mut found = statement.query(params![rows::head(&fingerprint.0), fingerprint.0])?;
            let owner: Option<DeviceId> = match found.next()? {
                Some(row) => Some(row.get::<_, String>(0)?.parse().map_err(|_| damaged("id"))?),
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
        let mut statement = self.connection.prepare_cached("SELECT fingerprint FROM credentials WHERE serial = ?1")?;
        let mut found = statement.query([serial.octets()])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(Fingerprint(row.get(0)?));
        }
        Ok(all)
    }

    fn edition(&self, number: Option<u32>) -> Result<Option<EditionRecord>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT number, digest, author, at, because, files FROM editions
             WHERE number = coalesce(?1, (SELECT max(number) FROM editions))",
        )?;
        let mut found = statement.query([number])?;
        let Some(row) = found.next()? else { return Ok(None) };
        let files: Vec<PolicyFile> =
            serde_json::from_str(&row.get::<_, String>(5)?).map_err(|_| damaged("policy edition"))?;
        let (number, digest): (u32, [u8; 32]) = (row.get(0)?, row.get(1)?);
        // What decides must be what was adopted.
        if tidy_warden_core::policy::digest(&files) != digest {
            let detail = format!("edition {number} was changed: its text does not give the digest that was adopted");
            return Err(StoreError::Damaged { detail });
        }
        Ok(Some(EditionRecord {
            number,
            digest,
            author: row.get(2)?,
            at: UnixTime(row.get(3)?),
            because: row.get(4)?,
            files,
        }))
    }

    fn changed_since(&self, since: i64) -> Result<Changes, StoreError> {
        self.still_there()?;
        // One snapshot, so that no change falls between the two questions.
        let tx = self.connection.unchecked_transaction()?;
        let (to, head) = audit_end(&tx)?;
        let edition = tx.query_row("SELECT coalesce(max(number), 0) FROM editions", [], |row| row.get(0))?;
        let mut devices = Vec::new();
        if to != since {
            let most = i64::try_from(MOST_CHANGED).unwrap_or(i64::MAX);
            let mut statement = tx.prepare_cached("SELECT id FROM devices WHERE changed > ?1 LIMIT ?2")?;
            let mut found = statement.query([since, most + 1])?;
            while let Some(row) = found.next()? {
                devices.push(row.get::<_, String>(0)?.parse().map_err(|_| damaged("id"))?);
            }
        }
        let devices = (devices.len() <= MOST_CHANGED).then_some(devices);
        let entry: Option<Vec<u8>> = tx
            .prepare_cached("SELECT hash FROM audit WHERE number = ?1")?
            .query_row([since], |row| row.get(0))
            .optional()?;
        let given_up = match (meta(&tx, "given_up_number")?, meta(&tx, "given_up_hash")?) {
            (Some(number), Some(hash)) => Some((number, hash)),
            _ => None,
        };
        let authorities = meta(&tx, write::AUTHORITIES_CHANGED)?.unwrap_or(0);
        let group_rules = policy::rules_changed(&tx)?;
        let trial = tx
            .prepare_cached("SELECT coalesce(max(number), 0) FROM trials WHERE ended IS NULL")?
            .query_row([], |row| row.get(0))?;
        let since = entry.and_then(|hash| hash.try_into().ok());
        Ok(Changes { to, edition, group_rules, trial, authorities, devices, head, since, given_up })
    }

    fn each_entry(&self, from: i64, visit: &mut dyn FnMut(Entry) -> bool) -> Result<(), StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT number, at, actor, act, subject, because, detail, previous, hash FROM audit
             WHERE number >= ?1 ORDER BY number",
        )?;
        let mut found = statement.query(params![from])?;
        while let Some(row) = found.next()? {
            let hash = |at| -> Result<Hash, StoreError> {
                // A hash of another length was tampered with; it is no hash of anything.
                Ok(row.get::<_, Vec<u8>>(at)?.try_into().unwrap_or([0xff; 32]))
            };
            let entry = Entry {
                number: row.get(0)?,
                at: UnixTime(row.get(1)?),
                actor: row.get(2)?,
                act: row.get(3)?,
                subject: row.get(4)?,
                because: row.get(5)?,
                detail: row.get(6)?,
                previous: hash(7)?,
                hash: hash(8)?,
            };
            if !visit(entry) {
                break;
            }
        }
        Ok(())
    }

    fn each_recorded(&self, visit: &mut dyn FnMut(Option<i64>, Fingerprint)) -> Result<(), StoreError> {
        let mut statement = self.connection.prepare_cached("SELECT entry, fingerprint FROM credentials ORDER BY pk")?;
        let mut found = statement.query([])?;
        while let Some(row) = found.next()? {
            visit(row.get(0)?, Fingerprint(row.get(1)?));
        }
        Ok(())
    }

    fn entries_of(&self, device: &DeviceId) -> Result<Vec<i64>, StoreError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT entry FROM credentials JOIN devices ON devices.pk = credentials.device
             WHERE devices.id = ?1 AND entry IS NOT NULL",
        )?;
        let found = statement.query_map([device.as_str()], |row| row.get(0))?;
        Ok(found.collect::<Result<_, _>>()?)
    }

    fn audit_end(&self) -> Result<(i64, Hash), StoreError> {
        audit_end(&self.connection)
    }

    fn next_crl(&self, authority: &AuthorityName) -> Result<CrlRecord, StoreError> {
        let unknown = || StoreError::Unknown { what: "authority", name: authority.to_string() };
        let all = self.authorities()?;
        let record = all.iter().find(|each| each.name == *authority).ok_or_else(unknown)?;
        let mut statement = self.connection.prepare_cached(
            "SELECT serial, revoked, reason, not_after FROM credentials
             WHERE authority = (SELECT pk FROM authorities WHERE name = ?1) AND revoked IS NOT NULL
             UNION ALL
             SELECT serial, held, ?2, not_after FROM devices JOIN credentials ON credentials.device = devices.pk
             WHERE authority = (SELECT pk FROM authorities WHERE name = ?1) AND revoked IS NULL AND held IS NOT NULL
             UNION ALL
             SELECT serial, revoked, ?3, not_after FROM lost_serials
             WHERE authority = (SELECT pk FROM authorities WHERE name = ?1)
             ORDER BY serial",
        )?;
        let (change, _) = self.audit_end()?;
        let codes = (Reason::CertificateHold.code(), Reason::CessationOfOperation.code());
        let mut found = statement.query(params![authority.as_str(), codes.0, codes.1])?;
        let mut entries = Vec::new();
        while let Some(row) = found.next()? {
            let serial =
                SerialNumber::from_octets(&row.get::<_, Vec<u8>>(0)?).ok_or_else(|| damaged("serial number"))?;
            let reason = Reason::from_code(row.get(2)?).ok_or_else(|| damaged("revocation"))?;
            if still_listed(UnixTime(row.get(3)?), record.crl_at) {
                entries.push(Revoked { serial, at: UnixTime(row.get(1)?), reason });
            }
        }
        Ok(CrlRecord { number: record.crl_number + 1, entries, change })
    }

    fn settings_text(&self) -> Result<String, StoreError> {
        meta(&self.connection, "settings")?.ok_or_else(|| damaged("copy of the settings"))
    }

    fn check_devices(&self, devices: &[DeviceRecord]) -> Result<Vec<AddRefusal>, StoreError> {
        write::refusals(&self.connection.unchecked_transaction()?, devices)
    }

    fn add_devices(&mut self, devices: &[DeviceRecord], cause: &Cause) -> Result<Added, StoreError> {
        let tx = self.writing()?;
        let added = write::add_devices(&tx, devices, cause)?;
        if added.is_ok() {
            tx.commit()?;
        }
        Ok(added)
    }

    fn edit_device(&mut self, id: &DeviceId, edit: &DeviceEdit, cause: &Cause) -> Result<Added, StoreError> {
        let tx = self.writing()?;
        let edited = write::edit_device(&tx, id, edit, cause)?;
        if edited.is_ok() {
            tx.commit()?;
        }
        Ok(edited)
    }

    fn edit_devices(
        &mut self,
        ids: &[DeviceId],
        edit: &DeviceEdit,
        cause: &Cause,
    ) -> Result<Result<(), (DeviceId, Vec<AddRefusal>)>, StoreError> {
        let tx = self.writing()?;
        for id in ids {
            if let Err(refusals) = write::edit_device(&tx, id, edit, cause)? {
                return Ok(Err((id.clone(), refusals)));
            }
        }
        tx.commit()?;
        Ok(Ok(()))
    }

    fn retire_device(&mut self, id: &DeviceId, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        write::retire_device(&tx, id, cause)?;
        Ok(tx.commit()?)
    }

    fn reopen_device(&mut self, id: &DeviceId, cause: &Cause) -> Result<bool, StoreError> {
        let tx = self.writing()?;
        let was_out = write::reopen_device(&tx, id, cause)?;
        tx.commit()?;
        Ok(was_out)
    }

    fn record_issued(
        &mut self,
        new: &NewCredential<'_>,
        cause: &Cause,
        deliver: &mut dyn FnMut() -> std::io::Result<()>,
    ) -> Result<Result<(), IssueRefusal>, StoreError> {
        let tx = self.writing()?;
        if let Err(refusal) = write::record_issued(&tx, new, cause)? {
            return Ok(Err(refusal));
        }
        deliver().map_err(StoreError::Delivery)?;
        tx.commit()?;
        Ok(Ok(()))
    }

    fn record_batch(
        &mut self,
        batch: &Batch<'_>,
        cause: &Cause,
        deliver: &mut dyn FnMut() -> std::io::Result<()>,
    ) -> Result<Result<(), Vec<BatchRefusal>>, StoreError> {
        // What a batch's rows refer to is written by the batch itself or was just read, so looking all of it up once more
        // would only cost time.
        self.connection.pragma_update(None, "foreign_keys", false)?;
        let recorded = self.batch(batch, cause, deliver);
        self.connection.pragma_update(None, "foreign_keys", true)?;
        recorded
    }

    fn begin_bulk(&mut self, run: &BulkRun, cause: &Cause) -> Result<bool, StoreError> {
        let tx = self.writing()?;
        if tx.prepare_cached("SELECT 1 FROM bulk")?.exists([])? {
            return Ok(false);
        }
        tx.execute("INSERT INTO bulk (only, plan, position) VALUES (1, ?1, ?2)", [&run.plan, &run.position])?;
        super::append(&tx, cause, "enroll.begin", "bulk run", &run.plan)?;
        tx.commit()?;
        Ok(true)
    }

    fn end_bulk(&mut self, detail: &str, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        if tx.execute("DELETE FROM bulk", [])? > 0 {
            super::append(&tx, cause, "enroll.end", "bulk run", detail)?;
        }
        Ok(tx.commit()?)
    }

    fn add_authority(
        &mut self,
        new: &NewAuthority<'_>,
        cause: &Cause,
    ) -> Result<Result<(), AuthorityRefusal>, StoreError> {
        if let Some(refusal) = self.authority_refusal(new.name, &new.certificate.public_key)? {
            return Ok(Err(refusal));
        }
        let tx = self.writing()?;
        write::add_authority(&tx, new, cause)?;
        tx.commit()?;
        Ok(Ok(()))
    }

    fn expect_authority(
        &mut self,
        pending: &PendingAuthority,
        cause: &Cause,
    ) -> Result<Result<(), AuthorityRefusal>, StoreError> {
        if let Some(refusal) = self.authority_refusal(&pending.name, &pending.public_key)? {
            return Ok(Err(refusal));
        }
        let tx = self.writing()?;
        write::expect_authority(&tx, pending, cause)?;
        tx.commit()?;
        Ok(Ok(()))
    }

    fn retire_authority(&mut self, name: &AuthorityName, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        let updated =
            tx.execute("UPDATE authorities SET retired = ?2 WHERE name = ?1", params![name.as_str(), cause.at.0])?;
        if updated == 0 {
            return Err(StoreError::Unknown { what: "authority", name: name.to_string() });
        }
        let change = super::append(&tx, cause, "authority.retire", name.as_str(), "{}")?;
        super::set_meta(&tx, write::AUTHORITIES_CHANGED, &change)?;
        Ok(tx.commit()?)
    }

    fn record_uses(&mut self, uses: &[(DeviceId, Option<Fingerprint>)], cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        for (device, certificate) in uses {
            write::record_use(&tx, device, *certificate, cause)?;
        }
        Ok(tx.commit()?)
    }

    fn add_traffic(&mut self, counted: &[(DeviceId, Traffic)], at: UnixTime) -> Result<(), StoreError> {
        let tx = self.writing()?;
        traffic::add(&tx, counted, at)?;
        Ok(tx.commit()?)
    }

    fn traffic(&self, id: &DeviceId) -> Result<Traffic, StoreError> {
        traffic::of(&self.connection, id)
    }

    fn record_note(
        &mut self,
        act: &'static str,
        subject: &str,
        detail: &str,
        cause: &Cause,
    ) -> Result<i64, StoreError> {
        let tx = self.writing()?;
        let number = super::append(&tx, cause, act, subject, detail)?;
        tx.commit()?;
        Ok(number)
    }

    fn record_clone_sign(&mut self, id: &DeviceId, sign: &str, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        traffic::record_clone_sign(&tx, id, sign, cause)?;
        Ok(tx.commit()?)
    }

    fn clone_signs(&self, id: &DeviceId) -> Result<Option<CloneSigns>, StoreError> {
        traffic::clone_signs(&self.connection, id)
    }

    fn revoke(&mut self, what: Revocation<'_>, cause: &Cause) -> Result<Vec<Ended>, StoreError> {
        let tx = self.writing()?;
        let ended = write::revoke(&tx, what, cause)?;
        tx.commit()?;
        Ok(ended)
    }

    fn revoke_devices(&mut self, ids: &[DeviceId], reason: Reason, cause: &Cause) -> Result<Vec<Ended>, StoreError> {
        let tx = self.writing()?;
        let mut ended = Vec::new();
        for device in ids {
            ended.extend(write::revoke(&tx, Revocation { device, only: None, reason }, cause)?);
        }
        tx.commit()?;
        Ok(ended)
    }

    fn set_hold(&mut self, ids: &[DeviceId], held: bool, cause: &Cause) -> Result<Vec<DeviceId>, StoreError> {
        let tx = self.writing()?;
        let mut changed = Vec::new();
        for id in ids {
            if write::set_hold(&tx, id, held, cause)? {
                changed.push(id.clone());
            }
        }
        tx.commit()?;
        Ok(changed)
    }

    fn make_group(&mut self, name: &GroupName, members: &GroupMembers, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        policy::make_group(&tx, name, members, cause)?;
        Ok(tx.commit()?)
    }

    fn drop_group(&mut self, name: &GroupName, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        policy::drop_group(&tx, name, cause)?;
        Ok(tx.commit()?)
    }

    fn begin_trial(&mut self, files: &[PolicyFile], until: UnixTime, cause: &Cause) -> Result<u32, StoreError> {
        let tx = self.writing()?;
        let number = policy::begin_trial(&tx, files, until, cause)?;
        tx.commit()?;
        Ok(number)
    }

    fn end_trial(&mut self, cause: &Cause) -> Result<bool, StoreError> {
        let tx = self.writing()?;
        let ended = policy::end_trial(&tx, cause)?;
        tx.commit()?;
        Ok(ended)
    }

    fn record_differences(&mut self, trial: u32, differences: &[TrialDifference]) -> Result<(), StoreError> {
        let tx = self.writing()?;
        policy::record_differences(&tx, trial, differences)?;
        Ok(tx.commit()?)
    }

    fn adopt(&mut self, files: &[PolicyFile], cause: &Cause) -> Result<u32, StoreError> {
        let tx = self.writing()?;
        let number = write::adopt(&tx, files, cause)?;
        tx.commit()?;
        Ok(number)
    }

    fn record_crl(
        &mut self,
        authority: &AuthorityName,
        crl: &CrlRecord,
        cause: &Cause,
        deliver: &mut dyn FnMut() -> std::io::Result<()>,
    ) -> Result<bool, StoreError> {
        let tx = self.writing()?;
        if !write::record_crl(&tx, authority, crl, cause)? {
            return Ok(false);
        }
        deliver().map_err(StoreError::Delivery)?;
        tx.commit()?;
        Ok(true)
    }

    fn record_token(&mut self, device: &DeviceId, detail: &str, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        super::append(&tx, cause, "token.issue", device.as_str(), detail)?;
        Ok(tx.commit()?)
    }

    fn record_settings(&mut self, text: &str, detail: &str, cause: &Cause) -> Result<(), StoreError> {
        let tx = self.writing()?;
        if meta::<String>(&tx, "settings")?.as_deref() != Some(text) {
            super::append(&tx, cause, "settings.changed", "ward.toml", detail)?;
            super::set_meta(&tx, "settings", &text)?;
        }
        Ok(tx.commit()?)
    }
}
