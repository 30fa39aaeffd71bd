//! From rows to values.

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;

use super::connection::get;
use crate::{DeviceView, StoreError};

pub(super) use crate::stored::*;

/// The columns of a device, whatever the table `devices` of a query is, with `seen` joined to it.
const DEVICE_COLUMNS: &str = "devices.pk, devices.id, devices.kind, devices.gateway, devices.owner, devices.created,
    devices.out, devices.retired, seen.at, devices.tokens_from, devices.labels::text, devices.facts::text,
    devices.member_of, devices.held, devices.note, devices.renew_asked, devices.passed";

/// How many those are.
const DEVICE_WIDTH: usize = 17;

const CREDENTIAL_COLUMNS: &str = "credentials.fingerprint, credentials.serial, authorities.name, credentials.key_type,
    credentials.not_before, credentials.not_after, credentials.issued, credentials.equipped, credentials.first_used,
    credentials.superseded_until, credentials.revoked, credentials.reason, credentials.origin, authorities.retired,
    credentials.kid, credentials.key_note";

/// Whether a credential's authority was not retired: the SQL for `distrusted` of the core's record.
const TRUSTED: &str =
    "coalesce(credentials.authority NOT IN (SELECT pk FROM authorities WHERE retired IS NOT NULL), true)";

/// The last second in which a credential that is neither revoked nor distrusted may sign in. It is not written as in the index by end,
/// which would be walked once for each device by a planner that takes the table for a small one.
pub(super) const USABLE_UNTIL: &str = "CASE WHEN credentials.superseded_until < credentials.not_after
    THEN credentials.superseded_until ELSE credentials.not_after END";

/// Whether a credential has a second in which it may sign in: `usable_until` of the core's record is something.
pub(super) fn usable() -> String {
    format!("(credentials.revoked IS NULL AND {TRUSTED})")
}

/// Whether a credential may sign in at the moment that the expression `now` stands for, its device's hold apart: `is_good` of the
/// core's record.
pub(super) fn good(now: &str) -> String {
    format!("({} AND credentials.not_before <= {now} AND {USABLE_UNTIL} >= {now})", usable())
}

/// A query for devices alone; `from` is a table or a query that is called `devices`.
pub(super) fn select_devices(from: &str, rest: &str) -> String {
    format!("SELECT {DEVICE_COLUMNS} FROM {from} LEFT JOIN seen ON seen.device = devices.pk {rest}")
}

/// A query for devices with their credentials, newest first, `first` before the columns: one statement, so that what it gives is of
/// one moment. Its rows are for [`views`].
pub(super) fn select_views(first: &str, from: &str, order: &str) -> String {
    format!(
        "SELECT {first}{DEVICE_COLUMNS}, {CREDENTIAL_COLUMNS} FROM {from} LEFT JOIN seen ON seen.device = devices.pk
         LEFT JOIN credentials ON credentials.device = devices.pk
         LEFT JOIN authorities ON authorities.pk = credentials.authority ORDER BY {order}, credentials.pk DESC"
    )
}

/// A text that was checked when it came in, parsed.
pub(super) fn word<T: std::str::FromStr>(row: &Row, at: usize, what: &str) -> Result<T, StoreError> {
    parsed(get(row, at)?, what)
}

pub(super) fn maybe_word<T: std::str::FromStr>(row: &Row, at: usize, what: &str) -> Result<Option<T>, StoreError> {
    get::<Option<&str>>(row, at)?.map(|text| parsed(text, what)).transpose()
}

/// A digest.
pub(super) fn digest<const N: usize>(row: &Row, at: usize, what: &str) -> Result<[u8; N], StoreError> {
    get::<&[u8]>(row, at)?.try_into().map_err(|_| damaged(what))
}

/// A digest that may be missing.
pub(super) fn maybe_digest<const N: usize>(row: &Row, at: usize, what: &str) -> Result<Option<[u8; N]>, StoreError> {
    let octets: Option<&[u8]> = get(row, at)?;
    octets.map(|octets| octets.try_into().map_err(|_| damaged(what))).transpose()
}

/// A small number.
pub(super) fn small<T: TryFrom<i64>>(row: &Row, at: usize, what: &str) -> Result<T, StoreError> {
    T::try_from(get::<i64>(row, at)?).map_err(|_| damaged(what))
}

/// A device's row, columns from `at` on.
pub(super) fn device(row: &Row, at: usize) -> Result<(i64, DeviceRecord), StoreError> {
    let created = UnixTime(get(row, at + 5)?);
    let mut device = DeviceRecord::new(word(row, at + 1, "id")?, word(row, at + 2, "kind")?, created);
    device.gateway = maybe_word(row, at + 3, "gateway")?;
    device.owner = maybe_word(row, at + 4, "owner")?;
    device.out = time(get(row, at + 6)?);
    device.retired = time(get(row, at + 7)?);
    device.seen = time(get(row, at + 8)?);
    device.tokens_from = UnixTime(get(row, at + 9)?);
    fill_device(&mut device, get(row, at + 10)?, get(row, at + 11)?)?;
    for name in get::<Vec<&str>>(row, at + 12)? {
        device.groups.insert(parsed(name, "group")?);
    }
    device.held = time(get(row, at + 13)?);
    device.renew_asked = time(get(row, at + 15)?);
    device.passed = time(get(row, at + 16)?);
    device.note = maybe_word(row, at + 14, "note")?;
    Ok((get(row, at)?, device))
}

/// A credential's row, columns from `at` on.
pub(super) fn credential(
    row: &Row,
    at: usize,
    device: &DeviceId,
    held: Option<UnixTime>,
) -> Result<CredentialRecord, StoreError> {
    let revoked: Option<i64> = get(row, at + 10)?;
    let reason: Option<i64> = get(row, at + 11)?;
    let origin: &str = get(row, at + 12)?;
    let octets: Option<&[u8]> = get(row, at + 1)?;
    let reason = reason.and_then(|code| u8::try_from(code).ok()).and_then(Reason::from_code);
    Ok(CredentialRecord {
        fingerprint: Fingerprint(digest(row, at, "credential")?),
        serial: octets.map(serial).transpose()?,
        origin: self::origin(origin)?,
        authority: maybe_word(row, at + 2, "authority")?,
        device: device.clone(),
        key_type: get(row, at + 3)?,
        not_before: UnixTime(get(row, at + 4)?),
        not_after: UnixTime(get(row, at + 5)?),
        issued: UnixTime(get(row, at + 6)?),
        equipped: time(get(row, at + 7)?),
        first_used: time(get(row, at + 8)?),
        superseded_until: time(get(row, at + 9)?),
        revoked: match (revoked, reason) {
            (Some(at), Some(reason)) => Some((UnixTime(at), reason)),
            (None, _) => None,
            (Some(_), None) => return Err(damaged("revocation")),
        },
        held,
        distrusted: time(get(row, at + 13)?),
        kid: get(row, at + 14)?,
        note: get(row, at + 15)?,
    })
}

/// Adds the credential of a row, if it has one, to its device.
fn add_credential(row: &Row, at: usize, view: &mut DeviceView) -> Result<(), StoreError> {
    if get::<Option<&[u8]>>(row, at)?.is_some() {
        view.credentials.push(credential(row, at, &view.device.id, view.device.held)?);
    }
    Ok(())
}

/// Devices with their credentials from rows of [`select_views`], those of one device together: each with the number of its first row
/// and of its own. Columns begin at `at`.
pub(super) fn views(rows: &[Row], at: usize) -> Result<Vec<(usize, i64, DeviceView)>, StoreError> {
    let mut views: Vec<(usize, i64, DeviceView)> = Vec::new();
    for (number, row) in rows.iter().enumerate() {
        let pk: i64 = get(row, at)?;
        match views.last_mut().filter(|(_, last, _)| *last == pk) {
            Some((_, _, view)) => add_credential(row, at + DEVICE_WIDTH, view)?,
            None => {
                let mut view = DeviceView { device: device(row, at)?.1, credentials: Vec::new() };
                add_credential(row, at + DEVICE_WIDTH, &mut view)?;
                views.push((number, pk, view));
            }
        }
    }
    Ok(views)
}
