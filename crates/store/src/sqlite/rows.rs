//! From rows to values.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

use rusqlite::{Connection, Row, params};
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;

use crate::{DeviceView, StoreError};

pub(super) use crate::stored::*;

pub(super) const DEVICE_COLUMNS: &str =
    "devices.pk, devices.id, devices.kind, devices.gateway, devices.owner, devices.created, devices.out,
     devices.retired, devices.seen, devices.tokens_from, devices.labels, devices.facts,
     devices.member_of, devices.held, devices.note, devices.renew_asked, devices.passed";

const CREDENTIAL_COLUMNS: &str =
    "credentials.fingerprint, credentials.serial, authorities.name, credentials.key_type, credentials.not_before,
     credentials.not_after, credentials.issued, credentials.equipped, credentials.first_used,
     credentials.superseded_until, credentials.revoked, credentials.reason, credentials.origin, authorities.retired,
     credentials.kid, credentials.key_note";

/// Whether a credential's authority was not retired: the SQL for `distrusted` of the core's record.
pub(super) const TRUSTED: &str =
    "coalesce(credentials.authority NOT IN (SELECT pk FROM authorities WHERE retired IS NOT NULL), 1)";

/// The last second in which a credential that is neither revoked nor distrusted may sign in.
pub(super) const USABLE_UNTIL: &str = "min(not_after, coalesce(superseded_until, not_after))";

/// Whether a credential has a second in which it may sign in: `usable_until` of the core's record is something.
pub(super) fn usable() -> String {
    format!("(revoked IS NULL AND {TRUSTED})")
}

/// Whether a credential may sign in at the moment that the expression `now` stands for, its device's hold apart: `is_good` of the
/// core's record.
pub(super) fn good(now: &str) -> String {
    format!("({} AND not_before <= {now} AND {USABLE_UNTIL} >= {now})", usable())
}

/// The first eight octets of a digest, as the indexes hold them.
pub(super) fn head(digest: &[u8]) -> i64 {
    digest.first_chunk().map_or(0, |octets| i64::from_be_bytes(*octets))
}

/// A device's row.
pub(super) fn device(row: &Row<'_>) -> Result<(i64, DeviceRecord), StoreError> {
    let text = |at| row.get_ref(at)?.as_str().map_err(|_| damaged("device"));
    let mut device = DeviceRecord::new(parsed(text(1)?, "id")?, parsed(text(2)?, "kind")?, UnixTime(row.get(5)?));
    device.gateway = row.get::<_, Option<String>>(3)?.map(|id| parsed(&id, "gateway")).transpose()?;
    device.owner = row.get::<_, Option<String>>(4)?.map(|id| parsed(&id, "owner")).transpose()?;
    device.out = time(row.get(6)?);
    device.retired = time(row.get(7)?);
    device.seen = time(row.get(8)?);
    device.tokens_from = UnixTime(row.get(9)?);
    device.held = time(row.get(13)?);
    device.renew_asked = time(row.get(15)?);
    device.passed = time(row.get(16)?);
    device.note = row.get::<_, Option<String>>(14)?.map(|text| parsed(&text, "note")).transpose()?;
    fill_device(&mut device, text(10)?, text(11)?)?;
    match text(12)? {
        "[]" => {}
        some => {
            for name in list(some, "groups")? {
                device.groups.insert(parsed(&name, "group")?);
            }
        }
    }
    Ok((row.get(0)?, device))
}

/// A credential's row, columns from `at` on.
pub(super) fn credential(
    row: &Row<'_>,
    at: usize,
    device: &DeviceId,
    held: Option<UnixTime>,
) -> Result<CredentialRecord, StoreError> {
    let revoked: Option<i64> = row.get(at + 10)?;
    let reason: Option<u8> = row.get(at + 11)?;
    let octets: Option<Vec<u8>> = row.get(at + 1)?;
    Ok(CredentialRecord {
        fingerprint: Fingerprint(row.get(at)?),
        serial: octets.map(|octets| serial(&octets)).transpose()?,
        origin: origin(row.get_ref(at + 12)?.as_str().map_err(|_| damaged("credential"))?)?,
        authority: row.get::<_, Option<String>>(at + 2)?.map(|name| parsed(&name, "authority")).transpose()?,
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
        held,
        distrusted: time(row.get(at + 13)?),
        kid: row.get(at + 14)?,
        note: row.get(at + 15)?,
    })
}

/// Devices by their rows, with their credentials.
pub(super) fn views(
    connection: &Connection,
    wanted: impl Iterator<Item = i64>,
) -> Result<BTreeMap<i64, DeviceView>, StoreError> {
    let sql = format!("SELECT {DEVICE_COLUMNS} FROM devices WHERE pk = ?1");
    let mut statement = connection.prepare_cached(&sql)?;
    let mut views = BTreeMap::new();
    for pk in wanted {
        if let Entry::Vacant(free) = views.entry(pk)
            && let Some(row) = statement.query([pk])?.next()?
        {
            free.insert(DeviceView { device: device(row)?.1, credentials: Vec::new() });
        }
    }
    fill(connection, &mut views)?;
    Ok(views)
}

/// Adds their credentials to devices, newest first.
pub(super) fn fill(connection: &Connection, devices: &mut BTreeMap<i64, DeviceView>) -> Result<(), StoreError> {
    let (Some((&first, _)), Some((&last, _))) = (devices.first_key_value(), devices.last_key_value()) else {
        return Ok(());
    };
    let sql = format!(
        "SELECT credentials.device, {CREDENTIAL_COLUMNS} FROM credentials
         LEFT JOIN authorities ON authorities.pk = credentials.authority
         WHERE credentials.device BETWEEN ?1 AND ?2 ORDER BY credentials.pk DESC"
    );
    let mut statement = connection.prepare_cached(&sql)?;
    // Devices that lie far apart are asked for one by one: what is between them may be nearly all.
    let span = usize::try_from(last - first).unwrap_or(usize::MAX);
    let ranges: Vec<(i64, i64)> =
        if span / 8 > devices.len() { devices.keys().map(|pk| (*pk, *pk)).collect() } else { vec![(first, last)] };
    for (first, last) in ranges {
        let mut rows = statement.query(params![first, last])?;
        while let Some(row) = rows.next()? {
            if let Some(view) = devices.get_mut(&row.get(0)?) {
                let record = credential(row, 1, &view.device.id, view.device.held)?;
                view.credentials.push(record);
            }
        }
    }
    Ok(())
}
