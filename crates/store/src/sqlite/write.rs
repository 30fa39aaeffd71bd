//! Writing: each function is the inside of one transaction.

use std::collections::{HashMap, HashSet, VecDeque};

use rusqlite::{Connection, OptionalExtension, Transaction, params};
use serde_json::json;
use tidy_warden_core::certificate::{Certificate, Fingerprint, SerialNumber};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::Fact;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::policy::{PolicyFile, digest};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, DEVICE_COLUMNS, credential_sql, damaged};
use super::{append, keys, set_meta};
use crate::{
    Added, Batch, BatchRefusal, BlockedKey, Cause, CrlRecord, Founding, Intended, NewAuthority, NewCredential,
    StoreError,
};
use tidy_warden_core::authority::{AuthorityRole, KeyPlace, PendingAuthority};
use tidy_warden_core::credential::{BlockSource, Ended, Revocation};
use tidy_warden_core::device::{AddRefusal, DeviceEdit};
use tidy_warden_core::enrolment::{IssueRefusal, may_be_issued, replaced};

/// How old `seen` must be before it is written again, in seconds.
const SEEN_EVERY: i64 = 60;

/// The change number at which authorities were added or retired last.
pub(super) const AUTHORITIES_CHANGED: &str = "authorities_changed";

pub(super) fn found(tx: &Transaction<'_>, founding: &Founding<'_>, cause: &Cause) -> Result<(), StoreError> {
    let ward = &founding.ward;
    set_meta(tx, "urn", &ward.urn)?;
    set_meta(tx, "rehearsal", &ward.rehearsal)?;
    set_meta(tx, "token_key", &ward.token_key.spki())?;
    set_meta(tx, "settings", &founding.settings)?;
    for (name, role, certificate, key) in founding.authorities {
        insert_authority(tx, name, *role, certificate, key, cause.at)?;
    }
    for (name, certificate) in founding.servers {
        tx.execute("INSERT INTO servers (name, certificate) VALUES (?1, ?2)", params![name, certificate.der()])?;
    }
    let authorities: Vec<_> = founding
        .authorities
        .iter()
        .map(|(name, role, certificate, _)| {
            json!({
                "name": name, "role": role.as_str(), "fingerprint": certificate.fingerprint.to_string(),
                "ends": certificate.not_after,
            })
        })
        .collect();
    let detail = json!({ "rehearsal": ward.rehearsal, "urn": ward.urn, "authorities": authorities });
    append(tx, cause, "ward.init", &ward.urn, &detail.to_string())?;
    Ok(())
}

fn insert_authority(
    tx: &Transaction<'_>,
    name: &AuthorityName,
    role: AuthorityRole,
    certificate: &Certificate,
    key: &KeyPlace,
    at: UnixTime,
) -> Result<i64, StoreError> {
    let (place, token, label) = rows::key_words(key);
    tx.execute(
        "INSERT INTO authorities (name, role, certificate, created, key_place, token, token_label, credentials_before)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, (SELECT coalesce(max(pk), 0) FROM credentials))",
        params![name.as_str(), role.as_str(), certificate.der(), at.0, place, token, label],
    )?;
    Ok(tx.last_insert_rowid())
}

pub(super) fn add_authority(tx: &Transaction<'_>, new: &NewAuthority<'_>, cause: &Cause) -> Result<(), StoreError> {
    let pk = insert_authority(tx, new.name, new.role, new.certificate, &new.key, cause.at)?;
    let kinds =
        new.trust.as_ref().map(|trust| trust.kinds.iter().map(ToString::to_string).collect::<Vec<_>>().join(","));
    let fact = new.trust.as_ref().map(|trust| trust.fact.as_str());
    tx.execute(
        "UPDATE authorities SET replaces = ?2, trust_kinds = ?3, trust_fact = ?4 WHERE pk = ?1",
        params![pk, new.replaces.map(|name| name.as_str()), kinds, fact],
    )?;
    for (name, certificate) in new.crosses {
        tx.execute(
            "INSERT INTO crosses (authority, fingerprint, certificate)
             VALUES ((SELECT pk FROM authorities WHERE name = ?1), ?2, ?3)",
            params![name.as_str(), certificate.fingerprint.0, certificate.der()],
        )?;
    }
    tx.execute("DELETE FROM pending_authorities WHERE name = ?1", [new.name.as_str()])?;
    let certificate = new.certificate;
    let detail = json!({
        "role": new.role.as_str(), "subject": certificate.subject_text, "serial": certificate.serial.to_string(),
        "fingerprint": certificate.fingerprint.to_string(), "key": certificate.public_key.key_type().to_string(),
        "ends": certificate.not_after, "replaces": new.replaces, "kinds": kinds, "fact": fact,
    });
    let change = append(tx, cause, "authority.add", new.name.as_str(), &detail.to_string())?;
    set_meta(tx, AUTHORITIES_CHANGED, &change)
}

pub(super) fn expect_authority(
    tx: &Transaction<'_>,
    pending: &PendingAuthority,
    cause: &Cause,
) -> Result<(), StoreError> {
    let (place, token, label) = rows::key_words(&pending.key);
    tx.execute(
        "INSERT INTO pending_authorities (name, role, public_key, key_place, token, token_label, created)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
         ON CONFLICT (name) DO UPDATE SET created = excluded.created",
        params![
            pending.name.as_str(),
            pending.role.as_str(),
            pending.public_key.spki(),
            place,
            token,
            label,
            pending.created.0
        ],
    )?;
    let detail = json!({ "key_sha256": hex(&sha256(pending.public_key.spki())) });
    append(tx, cause, "authority.request", pending.name.as_str(), &detail.to_string())?;
    Ok(())
}

fn device(tx: &Transaction<'_>, id: &DeviceId) -> Result<(i64, DeviceRecord), StoreError> {
    let sql = format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE id = ?1");
    let mut statement = tx.prepare_cached(&sql)?;
    let mut found = statement.query([id.as_str()])?;
    match found.next()? {
        Some(row) => rows::device(row),
        None => Err(StoreError::Unknown { what: "device", name: id.to_string() }),
    }
}

fn credentials(tx: &Transaction<'_>, pk: i64, id: &DeviceId) -> Result<Vec<CredentialRecord>, StoreError> {
    let held = tx.prepare_cached("SELECT held FROM devices WHERE pk = ?1")?.query_row([pk], |row| row.get(0))?;
    let mut statement = tx.prepare_cached(&credential_sql("credentials.device = ?1"))?;
    let mut found = statement.query([pk])?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        all.push(rows::credential(row, 0, id, rows::time(held))?);
    }
    Ok(all)
}

fn touch(tx: &Transaction<'_>, pk: i64, change: i64) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE devices SET changed = ?2 WHERE pk = ?1")?.execute(params![pk, change])?;
    Ok(())
}

/// Who holds a fact now.
pub(super) fn holder(connection: &Connection, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
    let id: Option<String> = connection
        .prepare_cached(
            "SELECT devices.id FROM facts JOIN devices ON devices.pk = facts.device
             WHERE facts.name = ?1 AND facts.value = ?2",
        )?
        .query_row(params![fact.name().as_str(), fact.value()], |row| row.get(0))
        .optional()?;
    id.map(|id| id.parse().map_err(|_| damaged("id"))).transpose()
}

/// Who stands behind whom in a batch that is to be listed.
#[derive(Default)]
struct Family<'a> {
    gateway_of: HashMap<&'a DeviceId, Option<&'a DeviceId>>,
    gateways: HashSet<&'a DeviceId>,
}

impl<'a> Family<'a> {
    fn of(devices: &'a [DeviceRecord]) -> Self {
        Self {
            gateway_of: devices.iter().map(|device| (&device.id, device.gateway.as_ref())).collect(),
            gateways: devices.iter().filter_map(|device| device.gateway.as_ref()).collect(),
        }
    }
}

/// Checks the gateway of device number `index` of a batch.
fn check_gateway(
    tx: &Transaction<'_>,
    index: usize,
    id: &DeviceId,
    gateway: &DeviceId,
    family: &Family<'_>,
) -> Result<Option<AddRefusal>, StoreError> {
    let behind: Option<bool> = match family.gateway_of.get(gateway) {
        Some(its) => Some(its.is_some()),
        None => tx
            .prepare_cached("SELECT gateway IS NOT NULL FROM devices WHERE id = ?1 AND retired IS NULL")?
            .query_row([gateway.as_str()], |row| row.get(0))
            .optional()?,
    };
    let has_children = family.gateways.contains(id)
        || tx.prepare_cached("SELECT 1 FROM devices WHERE gateway = ?1")?.exists([id.as_str()])?;
    let gateway = gateway.clone();
    Ok(match behind {
        None => Some(AddRefusal::NoGateway { index, gateway }),
        Some(behind) if behind || has_children || gateway == *id => {
            Some(AddRefusal::GatewayBehindGateway { index, gateway })
        }
        Some(_) => None,
    })
}

pub(super) fn add_devices(tx: &Transaction<'_>, devices: &[DeviceRecord], cause: &Cause) -> Result<Added, StoreError> {
    let refusals = refusals(tx, devices)?;
    if !refusals.is_empty() {
        return Ok(Err(refusals));
    }
    let (act, subject, detail) = match devices {
        [one] => ("device.add", one.id.to_string(), describe(one)),
        many => {
            let list: Vec<u8> = many.iter().flat_map(|device| format!("{}\n", describe(device)).into_bytes()).collect();
            let digest = hex(&sha256(&list));
            let detail = json!({ "count": many.len(), "list_sha256": digest });
            ("device.import", format!("{} devices", many.len()), detail.to_string())
        }
    };
    let change = append(tx, cause, act, &subject, &detail)?;
    for device in devices {
        insert_device(tx, device, change)?;
    }
    touch_gateways(tx, devices, change)?;
    Ok(Ok(()))
}

/// Lists a device; gives its key. An id or a fact that is taken is a constraint that the caller may have not looked for.
fn insert_device(tx: &Transaction<'_>, device: &DeviceRecord, change: i64) -> rusqlite::Result<i64> {
    tx.prepare_cached(
        "INSERT INTO devices (id, kind, gateway, owner, created, changed, labels, facts)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
    )?
    .execute(params![
        device.id.as_str(),
        device.kind.as_str(),
        device.gateway.as_ref().map(|id| id.as_str()),
        device.owner.as_ref().map(|id| id.as_str()),
        device.created.0,
        change,
        rows::labels_text(device),
        rows::facts_text(device)
    ])?;
    let pk = tx.last_insert_rowid();
    for fact in device.facts.values() {
        tx.prepare_cached("INSERT INTO facts (name, value, device) VALUES (?1, ?2, ?3)")?.execute(params![
            fact.name().as_str(),
            fact.value(),
            pk
        ])?;
    }
    Ok(pk)
}

pub(super) fn refusals(tx: &Transaction<'_>, devices: &[DeviceRecord]) -> Result<Vec<AddRefusal>, StoreError> {
    let family = Family::of(devices);
    let mut ids = HashSet::new();
    let mut facts: HashMap<&Fact, &DeviceId> = HashMap::new();
    let mut refusals = Vec::new();
    for (index, device) in devices.iter().enumerate() {
        let id = device.id.clone();
        let known: Option<bool> = tx
            .prepare_cached("SELECT retired IS NOT NULL FROM devices WHERE id = ?1")?
            .query_row([id.as_str()], |row| row.get(0))
            .optional()?;
        match known {
            Some(true) => refusals.push(AddRefusal::IdRetired { index, id }),
            Some(false) => refusals.push(AddRefusal::IdTaken { index, id }),
            None if !ids.insert(&device.id) => refusals.push(AddRefusal::IdTaken { index, id }),
            None => {}
        }
        for fact in device.facts.values() {
            let owner = match facts.insert(fact, &device.id) {
                Some(other) => Some(other.clone()),
                None => holder(tx, fact)?,
            };
            refusals.extend(owner.map(|owner| AddRefusal::FactTaken { index, fact: fact.clone(), owner }));
        }
        if let Some(gateway) = &device.gateway {
            refusals.extend(check_gateway(tx, index, &device.id, gateway, &family)?);
        }
    }
    Ok(refusals)
}

fn describe(device: &DeviceRecord) -> String {
    let facts: serde_json::Map<_, _> =
        device.facts.values().map(|fact| (fact.name().to_string(), json!(fact.value()))).collect();
    let labels: serde_json::Map<_, _> =
        device.labels.iter().map(|(name, value)| (name.to_string(), json!(value))).collect();
    json!({ "id": device.id, "kind": device.kind, "labels": labels, "facts": facts, "gateway": device.gateway })
        .to_string()
}

pub(super) fn edit_device(
    tx: &Transaction<'_>,
    id: &DeviceId,
    edit: &DeviceEdit,
    cause: &Cause,
) -> Result<Added, StoreError> {
    let (pk, record) = device(tx, id)?;
    let mut refusals = Vec::new();
    for fact in edit.facts.iter().flatten() {
        if let Some(owner) = holder(tx, fact)?.filter(|owner| owner != id) {
            refusals.push(AddRefusal::FactTaken { index: 0, fact: fact.clone(), owner });
        }
    }
    if let Some(Some(gateway)) = &edit.gateway {
        refusals.extend(check_gateway(tx, 0, id, gateway, &Family::default())?);
    }
    if !refusals.is_empty() {
        return Ok(Err(refusals));
    }
    let labels: Vec<_> = edit.labels.iter().map(|(name, value)| json!({ "name": name, "value": value })).collect();
    let facts: Vec<_> = edit
        .facts
        .iter()
        .map(|fact| match fact {
            Ok(fact) => json!({ "name": fact.name().as_str(), "value": fact.value() }),
            Err(name) => json!({ "name": name.as_str(), "value": null }),
        })
        .collect();
    let mut detail = json!({ "labels": labels, "facts": facts });
    if let Some(gateway) = &edit.gateway {
        detail["gateway"] = json!(gateway);
    }
    let change = append(tx, cause, "device.edit", id.as_str(), &detail.to_string())?;
    touch(tx, pk, change)?;
    touch_gateway(tx, record.gateway.as_ref(), change)?;
    touch_gateway(tx, edit.gateway.as_ref().and_then(Option::as_ref), change)?;
    let after = edit.applied(&record);
    let only_in = |one: &DeviceRecord, other: &DeviceRecord| -> Vec<Fact> {
        one.facts.values().filter(|fact| other.facts.get(fact.name()) != Some(fact)).cloned().collect()
    };
    for old in only_in(&record, &after) {
        tx.execute("DELETE FROM facts WHERE name = ?1 AND value = ?2", [old.name().as_str(), old.value()])?;
    }
    for new in only_in(&after, &record) {
        tx.execute(
            "INSERT INTO facts (name, value, device) VALUES (?1, ?2, ?3)",
            params![new.name().as_str(), new.value(), pk],
        )?;
    }
    let gateway = after.gateway.as_ref().map(|id| id.as_str());
    tx.execute(
        "UPDATE devices SET labels = ?2, facts = ?3, gateway = ?4 WHERE pk = ?1",
        params![pk, rows::labels_text(&after), rows::facts_text(&after), gateway],
    )?;
    Ok(Ok(()))
}

pub(super) fn retire_device(tx: &Transaction<'_>, id: &DeviceId, cause: &Cause) -> Result<(), StoreError> {
    let (pk, record) = device(tx, id)?;
    if record.retired.is_some() {
        return Ok(());
    }
    let ended = end_credentials(tx, pk, id, None, Reason::CessationOfOperation, cause.at)?;
    let detail = json!({ "serials": serials(&ended) });
    let change = append(tx, cause, "device.retire", id.as_str(), &detail.to_string())?;
    touch(tx, pk, change)?;
    touch_gateway(tx, record.gateway.as_ref(), change)?;
    tx.execute(
        "UPDATE devices SET retired = ?2, held = NULL, tokens_from = ?2 + 1 WHERE pk = ?1",
        params![pk, cause.at.0],
    )?;
    for fact in record.facts.values() {
        tx.execute("DELETE FROM facts WHERE name = ?1 AND value = ?2", [fact.name().as_str(), fact.value()])?;
    }
    Ok(())
}

pub(super) fn reopen_device(tx: &Transaction<'_>, id: &DeviceId, cause: &Cause) -> Result<bool, StoreError> {
    let (pk, record) = device(tx, id)?;
    if record.out.is_none() || record.retired.is_some() {
        return Ok(false);
    }
    let change = append(tx, cause, "device.reopen", id.as_str(), "{}")?;
    touch(tx, pk, change)?;
    touch_gateway(tx, record.gateway.as_ref(), change)?;
    tx.execute("UPDATE devices SET out = NULL WHERE pk = ?1", [pk])?;
    Ok(true)
}

pub(super) fn record_issued(
    tx: &Transaction<'_>,
    new: &NewCredential<'_>,
    cause: &Cause,
) -> Result<Result<(), IssueRefusal>, StoreError> {
    let (pk, record) = device(tx, new.device)?;
    let superseded = match supersede(tx, pk, &record, new, cause.at)? {
        Ok(superseded) => superseded,
        Err(refusal) => return Ok(Err(refusal)),
    };
    if new.origin == Origin::Foreign
        && credentials(tx, pk, new.device)?.iter().any(|known| known.fingerprint == new.fingerprint)
    {
        // Known from another trusted maker, who is trusted no more.
        let detail = json!({ "fingerprint": new.fingerprint.to_string(), "authority": new.authority });
        let change = append(tx, cause, "credential.vouch", new.device.as_str(), &detail.to_string())?;
        touch(tx, pk, change)?;
        let authority = authority_key(tx, new.authority)?;
        update_credential(tx, "authority = ?3", new.fingerprint, &authority)?;
        return Ok(Ok(()));
    }
    let detail = json!({
        "origin": new.origin.as_str(), "authority": new.authority,
        "serial": new.serial.map(ToString::to_string), "fingerprint": new.fingerprint.to_string(),
        "ends": new.not_after, "key": new.key_type, "supersedes": superseded,
    });
    let act = if new.origin == Origin::Issued { "credential.issue" } else { "credential.pin" };
    let change = append(tx, cause, act, new.device.as_str(), &detail.to_string())?;
    touch(tx, pk, change)?;
    insert_credential(tx, pk, authority_key(tx, new.authority)?, new, (cause.at, change))?;
    Ok(Ok(()))
}

/// Checks that a device may have a new credential, and puts an end to those that it replaces; gives their names.
fn supersede(
    tx: &Transaction<'_>,
    pk: i64,
    record: &DeviceRecord,
    new: &NewCredential<'_>,
    at: UnixTime,
) -> Result<Result<Vec<String>, IssueRefusal>, StoreError> {
    let id = record.id.clone();
    if let Some(barred) = record.barred() {
        return Ok(Err(IssueRefusal::barred(id, barred)));
    }
    if let Some(refusal) = key_refusal(tx, pk, new)? {
        return Ok(Err(refusal));
    }
    if new.origin == Origin::Foreign {
        return Ok(Ok(Vec::new()));
    }
    let all = credentials(tx, pk, &record.id)?;
    if let Err(refusal) = may_be_issued(record, &all, new.again, at) {
        return Ok(Err(refusal));
    }
    let usable: Vec<&CredentialRecord> = replaced(&all, at).collect();
    let until = at.plus(new.overlap);
    for credential in &usable {
        let until = credential.usable_until().map_or(until, |end| end.min(until));
        update_credential(tx, "superseded_until = ?3", credential.fingerprint, &until.0)?;
    }
    Ok(Ok(usable.iter().map(|credential| credential.name()).collect()))
}

/// Notes that a certificate is about to be signed.
pub(super) fn intend(tx: &Transaction<'_>, intended: &Intended, at: UnixTime) -> Result<(), StoreError> {
    let authority = authority_key(tx, Some(&intended.authority))?;
    tx.execute(
        "INSERT INTO intended (serial, authority, device, not_after, at, place) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
        params![
            intended.serial.octets(),
            authority,
            intended.device.as_str(),
            intended.not_after.0,
            at.0,
            intended.place
        ],
    )?;
    Ok(())
}

pub(super) fn intended(connection: &Connection) -> Result<Vec<Intended>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT serial, authorities.name, device, not_after, place FROM intended
         JOIN authorities ON authorities.pk = intended.authority ORDER BY at, serial",
    )?;
    let mut found = statement.query([])?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        let serial: Vec<u8> = row.get(0)?;
        all.push(Intended {
            serial: SerialNumber::from_octets(&serial).ok_or_else(|| damaged("serial number"))?,
            authority: row.get::<_, String>(1)?.parse().map_err(|_| damaged("authority"))?,
            device: row.get::<_, String>(2)?.parse().map_err(|_| damaged("id"))?,
            not_after: UnixTime(row.get(3)?),
            place: row.get(4)?,
        });
    }
    Ok(all)
}

pub(super) fn end_intended(
    tx: &Transaction<'_>,
    all: &[Intended],
    lost: bool,
    cause: &Cause,
) -> Result<(), StoreError> {
    for each in all {
        // Somebody else may have been quicker.
        if tx.execute("DELETE FROM intended WHERE serial = ?1", [each.serial.octets()])? == 0 || !lost {
            continue;
        }
        let authority = authority_key(tx, Some(&each.authority))?;
        tx.execute(
            "INSERT INTO lost_serials (serial, authority, device, not_after, revoked) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![each.serial.octets(), authority, each.device.as_str(), each.not_after.0, cause.at.0],
        )?;
        let detail = json!({ "serial": each.serial.to_string(), "authority": each.authority, "ends": each.not_after });
        let change = append(tx, cause, "credential.lost", each.device.as_str(), &detail.to_string())?;
        tx.execute("UPDATE authorities SET crl_pending = ?2 WHERE pk = ?1", params![authority, change])?;
    }
    Ok(())
}

/// The credentials that have a key, with their devices.
pub(super) fn holders_of_key(
    tx: &Transaction<'_>,
    digest: &[u8; 32],
) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
    let mut statement = tx.prepare_cached(
        "SELECT devices.id, fingerprint FROM credentials JOIN devices ON devices.pk = credentials.device
         WHERE key_head = ?1 AND key_digest = ?2",
    )?;
    let mut found = statement.query(params![rows::head(digest), digest])?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        let device = row.get::<_, String>(0)?.parse().map_err(|_| damaged("id"))?;
        all.push((device, Fingerprint(row.get(1)?)));
    }
    Ok(all)
}

/// Sets columns of one credential.
fn update_credential(
    tx: &Transaction<'_>,
    assignment: &str,
    fingerprint: Fingerprint,
    value: &dyn rusqlite::ToSql,
) -> Result<(), StoreError> {
    let sql = format!("UPDATE credentials SET {assignment} WHERE fingerprint_head = ?1 AND fingerprint = ?2");
    tx.prepare_cached(&sql)?.execute(params![rows::head(&fingerprint.0), fingerprint.0, value])?;
    Ok(())
}

fn authority_key(tx: &Transaction<'_>, name: Option<&AuthorityName>) -> Result<Option<i64>, StoreError> {
    let Some(name) = name else { return Ok(None) };
    let found = tx
        .prepare_cached("SELECT pk FROM authorities WHERE name = ?1")?
        .query_row([name.as_str()], |row| row.get(0))
        .optional()?;
    found.map(Some).ok_or_else(|| StoreError::Unknown { what: "authority", name: name.to_string() })
}

/// `authority` is the key of the one that the credential names.
fn insert_credential(
    tx: &Transaction<'_>,
    pk: i64,
    authority: Option<i64>,
    new: &NewCredential<'_>,
    (at, entry): (UnixTime, i64),
) -> rusqlite::Result<()> {
    tx.prepare_cached(
        "INSERT INTO credentials (device, origin, authority, serial, fingerprint, fingerprint_head, key_digest, key_head,
             key_type, certificate, not_before, not_after, issued, equipped, entry)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?13, ?14)",
    )?
    .execute(params![
        pk,
        new.origin.as_str(),
        authority,
        new.serial.map(SerialNumber::octets),
        new.fingerprint.0,
        rows::head(&new.fingerprint.0),
        new.key_digest,
        rows::head(&new.key_digest),
        new.key_type,
        new.der,
        new.not_before.0,
        new.not_after.0,
        at.0,
        entry
    ])?;
    Ok(())
}

pub(super) fn record_batch(
    tx: &Transaction<'_>,
    batch: &Batch<'_>,
    cause: &Cause,
) -> Result<Result<(), Vec<BatchRefusal>>, StoreError> {
    let count = batch.credentials.len();
    // With the credentials' rows, which name this entry, it proves which they were.
    let fingerprints: Vec<u8> = batch.credentials.iter().flat_map(|each| each.fingerprint.0).collect();
    let detail = json!({
        "count": count, "listed": batch.devices.len(), "list_sha256": hex(&batch.list_digest),
        "credentials_sha256": hex(&sha256(&fingerprints)),
    });
    let plural = if count == 1 { "" } else { "s" };
    let change = append(tx, cause, batch.act, &format!("{count} credential{plural}"), &detail.to_string())?;
    tx.execute_batch("SAVEPOINT batch")?;
    // A batch is nearly always in order, so it is written at once; what the tables do not take is looked into then.
    let mut refusals = Vec::new();
    let mut listed: VecDeque<(&DeviceId, i64)> = VecDeque::with_capacity(batch.devices.len());
    if batch.devices.iter().any(|device| device.gateway.is_some()) {
        let refused = batch_refusals(tx, batch.devices)?;
        if !refused.is_empty() {
            return Ok(Err(refused));
        }
    }
    touch_gateways(tx, batch.devices, change)?;
    for device in batch.devices {
        match insert_device(tx, device, change) {
            Ok(pk) => {
                listed.push_back((&device.id, pk));
            }
            Err(rusqlite::Error::SqliteFailure(error, _)) if error.code == rusqlite::ErrorCode::ConstraintViolation => {
                return Ok(Err(rolled_back_refusals(tx, batch)?));
            }
            Err(error) => return Err(error.into()),
        }
    }
    let mut authority = (None, None);
    for new in batch.credentials {
        // Credentials of new devices stand in the order of the devices.
        let pk = match listed.front().filter(|(id, _)| *id == new.device).map(|(_, pk)| *pk) {
            Some(pk) => {
                listed.pop_front();
                if let (false, Some(refusal)) = (new.fresh_key, key_refusal(tx, pk, new)?) {
                    refusals.push(BatchRefusal { device: new.device.clone(), why: refusal.to_string() });
                    continue;
                }
                pk
            }
            None => {
                let (pk, record) = device(tx, new.device)?;
                if let Err(refusal) = supersede(tx, pk, &record, new, cause.at)? {
                    refusals.push(BatchRefusal { device: new.device.clone(), why: refusal.to_string() });
                    continue;
                }
                touch(tx, pk, change)?;
                pk
            }
        };
        if authority.0 != new.authority {
            authority = (new.authority, authority_key(tx, new.authority)?);
        }
        insert_credential(tx, pk, authority.1, new, (cause.at, change))?;
    }
    if !refusals.is_empty() {
        return Ok(Err(refusals));
    }
    if let Some(position) = batch.position {
        tx.execute("UPDATE bulk SET position = ?1", [position])?;
    }
    Ok(Ok(()))
}

/// Why devices of a batch cannot be listed, one line each.
fn batch_refusals(tx: &Transaction<'_>, devices: &[DeviceRecord]) -> Result<Vec<BatchRefusal>, StoreError> {
    let mut whys: Vec<(usize, String)> =
        refusals(tx, devices)?.iter().map(|refusal| (refusal.index(), refusal.to_string())).collect();
    whys.sort_by_key(|(index, _)| *index);
    let mut all: Vec<BatchRefusal> = Vec::new();
    for (index, why) in whys {
        let Some(device) = devices.get(index) else { continue };
        match all.last_mut().filter(|last| last.device == device.id) {
            Some(last) => last.why = format!("{}; {why}", last.why),
            None => all.push(BatchRefusal { device: device.id.clone(), why }),
        }
    }
    Ok(all)
}

/// The reasons why a batch was not taken, looked for in the state before it.
fn rolled_back_refusals(tx: &Transaction<'_>, batch: &Batch<'_>) -> Result<Vec<BatchRefusal>, StoreError> {
    tx.execute_batch("ROLLBACK TO batch")?;
    let found = batch_refusals(tx, batch.devices)?;
    match found.is_empty() {
        true => Err(damaged("index of devices or facts")),
        false => Ok(found),
    }
}

/// A key belongs to one device, and one that was given up is never taken again.
fn key_refusal(tx: &Transaction<'_>, pk: i64, new: &NewCredential<'_>) -> Result<Option<IssueRefusal>, StoreError> {
    if new.fresh_key {
        return Ok(None);
    }
    if let Some(BlockedKey { at, source, device, .. }) = keys::blocked(tx, &new.key_digest)? {
        return Ok(Some(match (source, device) {
            (BlockSource::Revoked, Some(other)) => IssueRefusal::KeyCompromised { other },
            (from, _) => IssueRefusal::KeyBlocked { at, from },
        }));
    }
    let mut statement = tx.prepare_cached(
        "SELECT devices.pk, devices.id FROM credentials
         JOIN devices ON devices.pk = credentials.device WHERE key_head = ?1 AND key_digest = ?2",
    )?;
    let mut found = statement.query(params![rows::head(&new.key_digest), new.key_digest])?;
    while let Some(row) = found.next()? {
        let other: DeviceId = row.get::<_, String>(1)?.parse().map_err(|_| damaged("id"))?;
        if row.get::<_, i64>(0)? != pk {
            return Ok(Some(IssueRefusal::KeyInUse { other }));
        }
    }
    Ok(None)
}

pub(super) fn record_use(
    tx: &Transaction<'_>,
    id: &DeviceId,
    certificate: Option<Fingerprint>,
    cause: &Cause,
) -> Result<(), StoreError> {
    let (pk, record) = device(tx, id)?;
    let all = credentials(tx, pk, id)?;
    let place = certificate.and_then(|used| all.iter().position(|each| each.fingerprint == used));
    if let Some((used, older)) =
        place.and_then(|place| all[place..].split_first()).filter(|(used, _)| used.first_used.is_none())
    {
        // Newest first: behind the one that is used stand those that it supersedes.
        let ended: Vec<&CredentialRecord> =
            older.iter().filter(|old| old.superseded_until.is_some_and(|until| until >= cause.at)).collect();
        let detail = json!({
            "serial": used.name(),
            "ends": ended.iter().map(|old| old.name()).collect::<Vec<_>>(),
        });
        let change = append(tx, cause, "credential.first-use", id.as_str(), &detail.to_string())?;
        touch(tx, pk, change)?;
        let assignment = "first_used = ?3, equipped = coalesce(equipped, ?3)";
        update_credential(tx, assignment, used.fingerprint, &cause.at.0)?;
        for old in ended {
            update_credential(tx, "superseded_until = ?3", old.fingerprint, &(cause.at.0 - 1))?;
        }
    }
    if record.seen.is_none_or(|seen| cause.at.since(seen) >= SEEN_EVERY) {
        tx.execute("UPDATE devices SET seen = ?2 WHERE pk = ?1", params![pk, cause.at.0])?;
    }
    Ok(())
}

pub(super) fn revoke(tx: &Transaction<'_>, what: Revocation<'_>, cause: &Cause) -> Result<Vec<Ended>, StoreError> {
    let (pk, record) = device(tx, what.device)?;
    let ended = end_credentials(tx, pk, what.device, what.only, what.reason, cause.at)?;
    if let (Some(only), true) = (what.only, ended.is_empty()) {
        let all = credentials(tx, pk, what.device)?;
        if !all.iter().any(|credential| credential.fingerprint == only) {
            return Err(StoreError::Unknown { what: "credential", name: only.to_string() });
        }
    }
    let detail =
        json!({ "reason": what.reason.as_str(), "serials": serials(&ended), "device_out": what.only.is_none() });
    let change = append(tx, cause, "revoke", what.device.as_str(), &detail.to_string())?;
    touch(tx, pk, change)?;
    touch_gateway(tx, record.gateway.as_ref(), change)?;
    if what.only.is_none() && record.retired.is_none() {
        tx.execute(
            "UPDATE devices SET out = coalesce(out, ?2), held = NULL, tokens_from = ?2 + 1 WHERE pk = ?1",
            params![pk, cause.at.0],
        )?;
    }
    Ok(ended)
}

fn serials(ended: &[Ended]) -> Vec<String> {
    ended
        .iter()
        .map(|each| each.serial.as_ref().map_or_else(|| each.fingerprint.to_string(), ToString::to_string))
        .collect()
}

/// Revokes a device's credentials that are neither revoked nor past their end, and marks their authorities' CRLs.
fn end_credentials(
    tx: &Transaction<'_>,
    pk: i64,
    id: &DeviceId,
    only: Option<Fingerprint>,
    reason: Reason,
    at: UnixTime,
) -> Result<Vec<Ended>, StoreError> {
    let mut ended = Vec::new();
    let compromise = reason == Reason::KeyCompromise;
    for credential in credentials(tx, pk, id)? {
        if only.is_some_and(|only| only != credential.fingerprint) {
            continue;
        }
        if compromise {
            // Whatever the certificate's state: the key is what somebody else has.
            let sql = "SELECT key_digest FROM credentials WHERE fingerprint_head = ?1 AND fingerprint = ?2";
            let fingerprint = credential.fingerprint.0;
            let digest: Vec<u8> =
                tx.prepare_cached(sql)?.query_row(params![rows::head(&fingerprint), fingerprint], |row| row.get(0))?;
            keys::note(tx, &digest, BlockSource::Revoked, Some(id.as_str()), at)?;
        }
        let raised = compromise && credential.revoked.is_some_and(|(_, before)| before != reason);
        if raised {
            // It ended before, for a lesser reason; lists and answers tell the graver one from now on.
            update_credential(tx, "reason = ?3", credential.fingerprint, &reason.code())?;
            let listed = list_anew(tx, &credential)?;
            ended.push(Ended { fingerprint: credential.fingerprint, serial: credential.serial, listed });
            continue;
        }
        if credential.revoked.is_some() || credential.not_after < at {
            continue;
        }
        update_credential(tx, "revoked = ?3", credential.fingerprint, &at.0)?;
        update_credential(tx, "reason = ?3", credential.fingerprint, &reason.code())?;
        let listed = list_anew(tx, &credential)?;
        ended.push(Ended { fingerprint: credential.fingerprint, serial: credential.serial, listed });
    }
    Ok(ended)
}

/// Marks the CRL on which a credential stands or stood; says whether there is one. The mark is the number of the change
/// that is being made, so that a CRL that was signed before it does not take it away.
fn list_anew(tx: &Transaction<'_>, credential: &CredentialRecord) -> Result<bool, StoreError> {
    let listed = credential.origin == Origin::Issued;
    if let (true, Some(authority)) = (listed, &credential.authority) {
        let change = super::audit_end(tx)?.0 + 1;
        tx.execute("UPDATE authorities SET crl_pending = ?2 WHERE name = ?1", params![authority.as_str(), change])?;
    }
    Ok(listed)
}

/// Puts one device on hold or lifts that; says whether it changed anything.
pub(super) fn set_hold(tx: &Transaction<'_>, id: &DeviceId, held: bool, cause: &Cause) -> Result<bool, StoreError> {
    let (pk, record) = device(tx, id)?;
    if record.out.is_some() || record.retired.is_some() || record.held.is_some() == held {
        return Ok(false);
    }
    let mut serials = Vec::new();
    for credential in credentials(tx, pk, id)? {
        if credential.revoked.is_none() && credential.not_after >= cause.at && list_anew(tx, &credential)? {
            serials.push(credential.name());
        }
    }
    let act = if held { "hold" } else { "release" };
    let change = append(tx, cause, act, id.as_str(), &json!({ "serials": serials }).to_string())?;
    touch(tx, pk, change)?;
    touch_gateway(tx, record.gateway.as_ref(), change)?;
    tx.execute("UPDATE devices SET held = ?2 WHERE pk = ?1", params![pk, held.then_some(cause.at.0)])?;
    Ok(true)
}

/// Marks a device's gateway as changed, whose rights depend on its children.
fn touch_gateway(tx: &Transaction<'_>, gateway: Option<&DeviceId>, change: i64) -> Result<(), StoreError> {
    if let Some(gateway) = gateway {
        let sql = "UPDATE devices SET changed = ?2 WHERE id = ?1";
        tx.prepare_cached(sql)?.execute(params![gateway.as_str(), change])?;
    }
    Ok(())
}

fn touch_gateways(tx: &Transaction<'_>, devices: &[DeviceRecord], change: i64) -> Result<(), StoreError> {
    let gateways: HashSet<&DeviceId> = devices.iter().filter_map(|device| device.gateway.as_ref()).collect();
    gateways.into_iter().try_for_each(|gateway| touch_gateway(tx, Some(gateway), change))
}

pub(super) fn adopt(tx: &Transaction<'_>, files: &[PolicyFile], cause: &Cause) -> Result<u32, StoreError> {
    let number: u32 = tx.query_row("SELECT coalesce(max(number), 0) + 1 FROM editions", [], |row| row.get(0))?;
    let digest = digest(files);
    let text = serde_json::to_string(files).map_err(|_| damaged("policy edition"))?;
    tx.execute(
        "INSERT INTO editions (number, digest, author, at, because, files) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
        params![number, digest, cause.actor, cause.at.0, cause.because, text],
    )?;
    let names: Vec<&str> = files.iter().map(|file| file.name.as_str()).collect();
    let detail = json!({ "sha256": hex(&digest), "files": names });
    append(tx, cause, "policy.adopt", &format!("edition {number}"), &detail.to_string())?;
    Ok(number)
}

pub(super) fn record_crl(
    tx: &Transaction<'_>,
    authority: &AuthorityName,
    crl: &CrlRecord,
    cause: &Cause,
) -> Result<bool, StoreError> {
    let out_of_range = |_| damaged("CRL number");
    let number = i64::try_from(crl.number).map_err(out_of_range)?;
    let updated = tx.execute(
        "UPDATE authorities SET crl_number = ?2, crl_at = ?3,
             crl_pending = CASE WHEN crl_pending > ?4 THEN crl_pending ELSE 0 END
         WHERE name = ?1 AND crl_number = ?2 - 1",
        params![authority.as_str(), number, cause.at.0, crl.change],
    )?;
    if updated == 0 {
        return Ok(false);
    }
    let detail = json!({ "number": number });
    append(tx, cause, "crl.sign", authority.as_str(), &detail.to_string())?;
    Ok(true)
}

pub(super) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
