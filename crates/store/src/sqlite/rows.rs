//! From rows to values. What the store holds was checked when it came in; what does not read back is damage.

use std::collections::BTreeMap;
use std::str::FromStr;

use rusqlite::{Connection, Row, params};
use tidy_warden_core::certificate::{Certificate, Fingerprint, SerialNumber};
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{DeviceId, LabelName, LabelValue};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;

use crate::{DeviceView, StoreError};

pub(super) const DEVICE_COLUMNS: &str =
    "devices.pk, devices.id, devices.kind, devices.gateway, devices.owner, devices.created, devices.out,
     devices.retired, devices.seen, devices.tokens_from";

const CREDENTIAL_COLUMNS: &str =
    "credentials.fingerprint, credentials.serial, authorities.name, credentials.key_type, credentials.not_before,
     credentials.not_after, credentials.issued, credentials.equipped, credentials.first_used,
     credentials.superseded_until, credentials.revoked, credentials.reason";

/// The columns of a credential joined to its authority, for a query of the caller's.
pub(super) fn credential_sql(condition: &str) -> String {
    format!(
        "SELECT {CREDENTIAL_COLUMNS} FROM credentials JOIN authorities ON authorities.pk = credentials.authority
         WHERE {condition} ORDER BY credentials.pk DESC"
    )
}

pub(super) fn damaged(what: &str) -> StoreError {
    StoreError::Damaged { detail: format!("a stored {what} does not read back") }
}

fn parsed<T: FromStr>(text: &str, what: &str) -> Result<T, StoreError> {
    text.parse().map_err(|_| damaged(what))
}

pub(super) fn time(value: Option<i64>) -> Option<UnixTime> {
    value.map(UnixTime)
}

pub(super) fn certificate(bytes: &[u8]) -> Result<Certificate, StoreError> {
    Certificate::from_der(bytes).map_err(|_| damaged("certificate"))
}

/// A device's row, without labels and facts.
pub(super) fn bare_device(row: &Row<'_>) -> Result<(i64, DeviceRecord), StoreError> {
    let text = |at| row.get::<_, String>(at);
    let mut device = DeviceRecord::new(parsed(&text(1)?, "id")?, parsed(&text(2)?, "kind")?, UnixTime(row.get(5)?));
    device.gateway = row.get::<_, Option<String>>(3)?.map(|id| parsed(&id, "gateway")).transpose()?;
    device.owner = row.get::<_, Option<String>>(4)?.map(|id| parsed(&id, "owner")).transpose()?;
    device.out = time(row.get(6)?);
    device.retired = time(row.get(7)?);
    device.seen = time(row.get(8)?);
    device.tokens_from = UnixTime(row.get(9)?);
    Ok((row.get(0)?, device))
}

/// A credential's row, columns from `at` on.
pub(super) fn credential(row: &Row<'_>, at: usize, device: &DeviceId) -> Result<CredentialRecord, StoreError> {
    let revoked: Option<i64> = row.get(at + 10)?;
    let reason: Option<u8> = row.get(at + 11)?;
    Ok(CredentialRecord {
        fingerprint: Fingerprint(row.get(at)?),
        serial: SerialNumber::from_octets(&row.get::<_, Vec<u8>>(at + 1)?).ok_or_else(|| damaged("serial number"))?,
        authority: parsed(&row.get::<_, String>(at + 2)?, "authority")?,
        device: device.clone(),
        key_type: row.get(at + 3)?,
        not_before: UnixTime(row.get(at + 4)?),
        not_after: UnixTime(row.get(at + 5)?),
        issued: UnixTime(row.get(at + 6)?),
        equipped: time(row.get(at + 7)?),
        first_used: time(row.get(at + 8)?),
        superseded_until: time(row.get(at + 9)?),
        revoked: match (revoked, reason.and_then(Reason::from_code)) {
            (Some(at), Some(reason)) => Some((UnixTime(at), reason)),
            (None, _) => None,
            (Some(_), None) => return Err(damaged("revocation")),
        },
    })
}

/// Labels and facts of the devices with keys `first` to `last`.
pub(super) fn fill(connection: &Connection, devices: &mut BTreeMap<i64, DeviceView>) -> Result<(), StoreError> {
    let (Some((&first, _)), Some((&last, _))) = (devices.first_key_value(), devices.last_key_value()) else {
        return Ok(());
    };
    let mut statement =
        connection.prepare_cached("SELECT device, name, value FROM labels WHERE device BETWEEN ?1 AND ?2")?;
    let mut rows = statement.query(params![first, last])?;
    while let Some(row) = rows.next()? {
        if let Some(view) = devices.get_mut(&row.get(0)?) {
            let name: LabelName = parsed(&row.get::<_, String>(1)?, "label")?;
            let value: LabelValue = parsed(&row.get::<_, String>(2)?, "label")?;
            view.device.labels.insert(name, value);
        }
    }
    let mut statement =
        connection.prepare_cached("SELECT device, name, value FROM facts WHERE device BETWEEN ?1 AND ?2")?;
    let mut rows = statement.query(params![first, last])?;
    while let Some(row) = rows.next()? {
        if let Some(view) = devices.get_mut(&row.get(0)?) {
            let name = FactName::parse(&row.get::<_, String>(1)?).map_err(|_| damaged("fact"))?;
            let fact = Fact::new(name.clone(), &row.get::<_, String>(2)?).map_err(|_| damaged("fact"))?;
            view.device.facts.insert(name, fact);
        }
    }
    let sql = format!(
        "SELECT credentials.device, {CREDENTIAL_COLUMNS} FROM credentials
         JOIN authorities ON authorities.pk = credentials.authority
         WHERE credentials.device BETWEEN ?1 AND ?2 ORDER BY credentials.pk DESC"
    );
    let mut statement = connection.prepare_cached(&sql)?;
    let mut rows = statement.query(params![first, last])?;
    while let Some(row) = rows.next()? {
        if let Some(view) = devices.get_mut(&row.get(0)?) {
            let record = credential(row, 1, &view.device.id)?;
            view.credentials.push(record);
        }
    }
    Ok(())
}
