//! What the guard counts and notices.

use rusqlite::{Connection, OptionalExtension, Transaction, params};
use serde_json::json;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::append;
use super::rows::damaged;
use crate::{Cause, CloneSigns, StoreError, Traffic};

/// The least time between two entries of the audit record about signs of one device's clone, in seconds: whoever has a
/// copied key must not be able to fill the record.
const SIGNS_EVERY: i64 = 3600;

fn stored(count: u64) -> i64 {
    i64::try_from(count).unwrap_or(i64::MAX)
}

fn read(count: i64) -> Result<u64, StoreError> {
    u64::try_from(count).map_err(|_| damaged("count"))
}

pub(super) fn add(tx: &Transaction<'_>, counted: &[(DeviceId, Traffic)], at: UnixTime) -> Result<(), StoreError> {
    let mut add = tx.prepare_cached(
        "INSERT INTO traffic SELECT pk, ?2, ?3, ?4, ?5, ?6, ?7, ?8 FROM devices WHERE id = ?1
         ON CONFLICT (device) DO UPDATE SET
             messages_in = messages_in + excluded.messages_in, octets_in = octets_in + excluded.octets_in,
             messages_out = messages_out + excluded.messages_out, octets_out = octets_out + excluded.octets_out,
             refusals = refusals + excluded.refusals,
             refused_at = coalesce(excluded.refused_at, refused_at), refused = coalesce(excluded.refused, refused)",
    )?;
    let mut seen = tx.prepare_cached("UPDATE devices SET seen = ?2 WHERE id = ?1 AND coalesce(seen, 0) < ?2")?;
    for (id, traffic) in counted {
        let (refused_at, refused) = traffic.refused.as_ref().map(|(at, what)| (at.0, what)).unzip();
        add.execute(params![
            id.as_str(),
            stored(traffic.messages_in),
            stored(traffic.octets_in),
            stored(traffic.messages_out),
            stored(traffic.octets_out),
            stored(traffic.refusals),
            refused_at,
            refused,
        ])?;
        // Who is only refused was not here.
        if traffic.messages_in > 0 {
            seen.execute(params![id.as_str(), at.0])?;
        }
    }
    Ok(())
}

pub(super) fn of(connection: &Connection, id: &DeviceId) -> Result<Traffic, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT messages_in, octets_in, messages_out, octets_out, refusals, refused_at, refused FROM traffic
         WHERE device = (SELECT pk FROM devices WHERE id = ?1)",
    )?;
    let mut found = statement.query([id.as_str()])?;
    let Some(row) = found.next()? else { return Ok(Traffic::default()) };
    let refused = row.get::<_, Option<i64>>(5)?.map(UnixTime).zip(row.get(6)?);
    Ok(Traffic {
        messages_in: read(row.get(0)?)?,
        octets_in: read(row.get(1)?)?,
        messages_out: read(row.get(2)?)?,
        octets_out: read(row.get(3)?)?,
        refusals: read(row.get(4)?)?,
        refused,
    })
}

pub(super) fn record_clone_sign(
    tx: &Transaction<'_>,
    id: &DeviceId,
    sign: &str,
    cause: &Cause,
) -> Result<(), StoreError> {
    let pk: Option<i64> =
        tx.query_row("SELECT pk FROM devices WHERE id = ?1", [id.as_str()], |row| row.get(0)).optional()?;
    let pk = pk.ok_or_else(|| StoreError::Unknown { what: "device", name: id.to_string() })?;
    let last: Option<i64> =
        tx.query_row("SELECT last FROM clone_signs WHERE device = ?1", [pk], |row| row.get(0)).optional()?;
    if last.is_none_or(|last| cause.at.0 - last >= SIGNS_EVERY) {
        append(tx, cause, "device.clone-sign", id.as_str(), &json!({ "sign": sign }).to_string())?;
    }
    tx.execute(
        "INSERT INTO clone_signs VALUES (?1, ?2, ?2, 1, ?3)
         ON CONFLICT (device) DO UPDATE SET last = excluded.last, count = count + 1, sign = excluded.sign",
        params![pk, cause.at.0, sign],
    )?;
    Ok(())
}

pub(super) fn clone_signs(connection: &Connection, id: &DeviceId) -> Result<Option<CloneSigns>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT first, last, count, sign FROM clone_signs WHERE device = (SELECT pk FROM devices WHERE id = ?1)",
    )?;
    let mut found = statement.query([id.as_str()])?;
    let Some(row) = found.next()? else { return Ok(None) };
    Ok(Some(CloneSigns {
        first: UnixTime(row.get(0)?),
        last: UnixTime(row.get(1)?),
        count: read(row.get(2)?)?,
        sign: row.get(3)?,
    }))
}
