//! Writing: each function is the inside of one transaction.

use std::collections::{HashMap, HashSet};

use rusqlite::{OptionalExtension, Transaction, params};
use serde_json::json;
use tidy_warden_core::certificate::{Fingerprint, SerialNumber};
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::policy::{PolicyFile, digest};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, DEVICE_COLUMNS, credential_sql, damaged};
use super::{append, set_meta};
use crate::{
    AddRefusal, Added, Cause, CrlRecord, DeviceEdit, Founding, IssueRefusal, NewCredential, Revocation, StoreError,
};

/// How old `seen` must be before it is written again, in seconds.
const SEEN_EVERY: i64 = 60;

pub(super) fn found(tx: &Transaction<'_>, founding: &Founding<'_>, cause: &Cause) -> Result<(), StoreError> {
    let ward = &founding.ward;
    set_meta(tx, "urn", &ward.urn)?;
    set_meta(tx, "rehearsal", &ward.rehearsal)?;
    set_meta(tx, "token_key", &ward.token_key.spki())?;
    set_meta(tx, "settings", &founding.settings)?;
    for (name, role, certificate) in founding.authorities {
        tx.execute(
            "INSERT INTO authorities (name, role, certificate, created) VALUES (?1, ?2, ?3, ?4)",
            params![name.as_str(), role.as_str(), certificate.der(), cause.at.0],
        )?;
    }
    for (name, certificate) in founding.servers {
        tx.execute("INSERT INTO servers (name, certificate) VALUES (?1, ?2)", params![name, certificate.der()])?;
    }
    let authorities: Vec<_> = founding
        .authorities
        .iter()
        .map(|(name, role, certificate)| {
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

fn device(tx: &Transaction<'_>, id: &DeviceId) -> Result<(i64, DeviceRecord), StoreError> {
    let sql = format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE id = ?1");
    let mut statement = tx.prepare_cached(&sql)?;
    let mut found = statement.query([id.as_str()])?;
    match found.next()? {
        Some(row) => rows::bare_device(row),
        None => Err(StoreError::Unknown { what: "device", name: id.to_string() }),
    }
}

fn credentials(tx: &Transaction<'_>, pk: i64, id: &DeviceId) -> Result<Vec<CredentialRecord>, StoreError> {
    let mut statement = tx.prepare_cached(&credential_sql("credentials.device = ?1"))?;
    let mut found = statement.query([pk])?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        all.push(rows::credential(row, 0, id)?);
    }
    Ok(all)
}

fn touch(tx: &Transaction<'_>, pk: i64, change: i64) -> Result<(), StoreError> {
    tx.prepare_cached("UPDATE devices SET changed = ?2 WHERE pk = ?1")?.execute(params![pk, change])?;
    Ok(())
}

/// Who holds a fact now.
fn holder(tx: &Transaction<'_>, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
    let id: Option<String> = tx
        .prepare_cached(
            "SELECT devices.id FROM facts JOIN devices ON devices.pk = facts.device
             WHERE facts.name = ?1 AND facts.value = ?2 AND facts.current = 1",
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
        tx.prepare_cached(
            "INSERT INTO devices (id, kind, gateway, owner, created, changed) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
        )?
        .execute(params![
            device.id.as_str(),
            device.kind.as_str(),
            device.gateway.as_ref().map(|id| id.as_str()),
            device.owner.as_ref().map(|id| id.as_str()),
            device.created.0,
            change
        ])?;
        let pk = tx.last_insert_rowid();
        for (name, value) in &device.labels {
            tx.prepare_cached("INSERT INTO labels (device, name, value) VALUES (?1, ?2, ?3)")?.execute(params![
                pk,
                name.as_str(),
                value.as_str()
            ])?;
        }
        for fact in device.facts.values() {
            set_fact(tx, pk, fact)?;
        }
    }
    Ok(Ok(()))
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

fn set_fact(tx: &Transaction<'_>, pk: i64, fact: &Fact) -> Result<(), StoreError> {
    tx.prepare_cached(
        "INSERT INTO facts (device, name, value) VALUES (?1, ?2, ?3) ON CONFLICT (device, name) DO UPDATE SET value = ?3",
    )?
    .execute(params![pk, fact.name().as_str(), fact.value()])?;
    Ok(())
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
    let (pk, _) = device(tx, id)?;
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
    for (name, value) in &edit.labels {
        match value {
            Some(value) => tx.execute(
                "INSERT INTO labels (device, name, value) VALUES (?1, ?2, ?3)
                 ON CONFLICT (device, name) DO UPDATE SET value = ?3",
                params![pk, name.as_str(), value.as_str()],
            )?,
            None => tx.execute("DELETE FROM labels WHERE device = ?1 AND name = ?2", params![pk, name.as_str()])?,
        };
    }
    for fact in &edit.facts {
        match fact {
            Ok(fact) => set_fact(tx, pk, fact)?,
            Err(name) => remove_fact(tx, pk, name)?,
        }
    }
    if let Some(gateway) = &edit.gateway {
        let gateway = gateway.as_ref().map(|id| id.as_str());
        tx.execute("UPDATE devices SET gateway = ?2 WHERE pk = ?1", params![pk, gateway])?;
    }
    Ok(Ok(()))
}

fn remove_fact(tx: &Transaction<'_>, pk: i64, name: &FactName) -> Result<(), StoreError> {
    tx.execute("DELETE FROM facts WHERE device = ?1 AND name = ?2", params![pk, name.as_str()])?;
    Ok(())
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
    tx.execute("UPDATE devices SET retired = ?2, tokens_from = ?2 + 1 WHERE pk = ?1", params![pk, cause.at.0])?;
    tx.execute("UPDATE facts SET current = 0 WHERE device = ?1", [pk])?;
    Ok(())
}

pub(super) fn reopen_device(tx: &Transaction<'_>, id: &DeviceId, cause: &Cause) -> Result<bool, StoreError> {
    let (pk, record) = device(tx, id)?;
    if record.out.is_none() || record.retired.is_some() {
        return Ok(false);
    }
    let change = append(tx, cause, "device.reopen", id.as_str(), "{}")?;
    touch(tx, pk, change)?;
    tx.execute("UPDATE devices SET out = NULL WHERE pk = ?1", [pk])?;
    Ok(true)
}

pub(super) fn record_issued(
    tx: &Transaction<'_>,
    new: NewCredential<'_>,
    cause: &Cause,
) -> Result<Result<(), IssueRefusal>, StoreError> {
    let (pk, record) = device(tx, new.device)?;
    let id = new.device.clone();
    if let Some(since) = record.retired {
        return Ok(Err(IssueRefusal::Retired { device: id, since }));
    }
    if let Some(since) = record.out {
        return Ok(Err(IssueRefusal::Out { device: id, since }));
    }
    let key_digest = sha256(new.certificate.public_key.spki());
    if let Some(refusal) = key_refusal(tx, pk, &key_digest)? {
        return Ok(Err(refusal));
    }
    let usable: Vec<CredentialRecord> = credentials(tx, pk, new.device)?
        .into_iter()
        .filter(|credential| credential.usable_until().is_some_and(|until| until >= cause.at))
        .collect();
    if let (false, Some(until)) = (new.again, usable.iter().filter_map(CredentialRecord::usable_until).max()) {
        return Ok(Err(IssueRefusal::HasCredential { device: id, until }));
    }
    let until = cause.at.plus(new.overlap);
    for credential in &usable {
        let until = credential.usable_until().map_or(until, |end| end.min(until));
        tx.execute(
            "UPDATE credentials SET superseded_until = ?2 WHERE fingerprint = ?1",
            params![credential.fingerprint.0, until.0],
        )?;
    }
    let certificate = new.certificate;
    let detail = json!({
        "authority": new.authority, "serial": certificate.serial.to_string(),
        "fingerprint": certificate.fingerprint.to_string(), "ends": certificate.not_after,
        "key": certificate.public_key.key_type().to_string(),
        "supersedes": usable.iter().map(|old| old.serial.to_string()).collect::<Vec<_>>(),
    });
    let change = append(tx, cause, "credential.issue", new.device.as_str(), &detail.to_string())?;
    touch(tx, pk, change)?;
    tx.prepare_cached(
        "INSERT INTO credentials (device, authority, serial, fingerprint, key_digest, key_type, certificate, not_before,
             not_after, issued, equipped)
         VALUES (?1, (SELECT pk FROM authorities WHERE name = ?2), ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?10)",
    )?
    .execute(params![
        pk,
        new.authority.as_str(),
        certificate.serial.octets(),
        certificate.fingerprint.0,
        key_digest,
        certificate.public_key.key_type().to_string(),
        certificate.der(),
        certificate.not_before.0,
        certificate.not_after.0,
        cause.at.0
    ])?;
    Ok(Ok(()))
}

/// A key belongs to one device, and one that was given up is never taken again.
fn key_refusal(tx: &Transaction<'_>, pk: i64, key_digest: &[u8; 32]) -> Result<Option<IssueRefusal>, StoreError> {
    let mut statement = tx.prepare_cached(
        "SELECT devices.pk, devices.id, credentials.reason FROM credentials
         JOIN devices ON devices.pk = credentials.device WHERE key_digest = ?1",
    )?;
    let mut found = statement.query([key_digest])?;
    while let Some(row) = found.next()? {
        let other: DeviceId = row.get::<_, String>(1)?.parse().map_err(|_| damaged("id"))?;
        if row.get::<_, Option<u8>>(2)? == Some(Reason::KeyCompromise.code()) {
            return Ok(Some(IssueRefusal::KeyCompromised { other }));
        }
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
            "serial": used.serial.to_string(),
            "ends": ended.iter().map(|old| old.serial.to_string()).collect::<Vec<_>>(),
        });
        let change = append(tx, cause, "credential.first-use", id.as_str(), &detail.to_string())?;
        touch(tx, pk, change)?;
        tx.execute(
            "UPDATE credentials SET first_used = ?2, equipped = coalesce(equipped, ?2) WHERE fingerprint = ?1",
            params![used.fingerprint.0, cause.at.0],
        )?;
        for old in ended {
            tx.execute(
                "UPDATE credentials SET superseded_until = ?2 WHERE fingerprint = ?1",
                params![old.fingerprint.0, cause.at.0 - 1],
            )?;
        }
    }
    if record.seen.is_none_or(|seen| cause.at.since(seen) >= SEEN_EVERY) {
        tx.execute("UPDATE devices SET seen = ?2 WHERE pk = ?1", params![pk, cause.at.0])?;
    }
    Ok(())
}

pub(super) fn revoke(
    tx: &Transaction<'_>,
    what: Revocation<'_>,
    cause: &Cause,
) -> Result<Vec<(Fingerprint, SerialNumber)>, StoreError> {
    let (pk, record) = device(tx, what.device)?;
    let ended = end_credentials(tx, pk, what.device, what.only, what.reason, cause.at)?;
    if let (Some(only), true) = (what.only, ended.is_empty()) {
        let all = credentials(tx, pk, what.device)?;
        if !all.iter().any(|credential| credential.fingerprint == only) {
            return Err(StoreError::Unknown { what: "certificate", name: only.to_string() });
        }
    }
    let detail =
        json!({ "reason": what.reason.as_str(), "serials": serials(&ended), "device_out": what.only.is_none() });
    let change = append(tx, cause, "revoke", what.device.as_str(), &detail.to_string())?;
    touch(tx, pk, change)?;
    if what.only.is_none() && record.retired.is_none() {
        tx.execute(
            "UPDATE devices SET out = coalesce(out, ?2), tokens_from = ?2 + 1 WHERE pk = ?1",
            params![pk, cause.at.0],
        )?;
    }
    Ok(ended)
}

fn serials(ended: &[(Fingerprint, SerialNumber)]) -> Vec<String> {
    ended.iter().map(|(_, serial)| serial.to_string()).collect()
}

/// Revokes a device's certificates that are neither revoked nor past their end, and marks their authorities' CRLs.
fn end_credentials(
    tx: &Transaction<'_>,
    pk: i64,
    id: &DeviceId,
    only: Option<Fingerprint>,
    reason: Reason,
    at: UnixTime,
) -> Result<Vec<(Fingerprint, SerialNumber)>, StoreError> {
    let mut ended = Vec::new();
    for credential in credentials(tx, pk, id)? {
        let named = only.is_none_or(|only| only == credential.fingerprint);
        if !named || credential.revoked.is_some() || credential.not_after < at {
            continue;
        }
        tx.execute(
            "UPDATE credentials SET revoked = ?2, reason = ?3 WHERE fingerprint = ?1",
            params![credential.fingerprint.0, at.0, reason.code()],
        )?;
        tx.execute("UPDATE authorities SET crl_pending = 1 WHERE name = ?1", [credential.authority.as_str()])?;
        ended.push((credential.fingerprint, credential.serial));
    }
    Ok(ended)
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
    let revoked = i64::try_from(crl.revoked).map_err(out_of_range)?;
    let updated = tx.execute(
        "UPDATE authorities SET crl_number = ?2, crl_at = ?3,
             crl_pending = (SELECT count(*) FROM credentials WHERE authority = authorities.pk AND revoked IS NOT NULL) <> ?4
         WHERE name = ?1 AND crl_number = ?2 - 1",
        params![authority.as_str(), number, cause.at.0, revoked],
    )?;
    if updated == 0 {
        return Ok(false);
    }
    let detail = json!({ "number": number });
    append(tx, cause, "crl.sign", authority.as_str(), &detail.to_string())?;
    Ok(true)
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
