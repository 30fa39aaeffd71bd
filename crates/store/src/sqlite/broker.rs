//! Sessions that the broker keeps for devices: no part of the record, for nothing is decided by them alone.

use rusqlite::{Connection, Row, Transaction, params};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::rows::damaged;
use crate::{BrokerSession, StoreError};

const COLUMNS: &str = "client_id, devices.id, guard, opened, until, subscriptions
    FROM broker_sessions JOIN devices ON devices.pk = broker_sessions.device";

fn session(row: &Row<'_>) -> Result<BrokerSession, StoreError> {
    let subscriptions: String = row.get(5)?;
    Ok(BrokerSession {
        client_id: row.get(0)?,
        device: row.get::<_, String>(1)?.parse().map_err(|_| damaged("id"))?,
        guard: row.get(2)?,
        opened: UnixTime(row.get(3)?),
        until: UnixTime(row.get(4)?),
        subscriptions: serde_json::from_str(&subscriptions).map_err(|_| damaged("session at the broker"))?,
    })
}

pub(super) fn of(connection: &Connection, client_id: &str) -> Result<Option<BrokerSession>, StoreError> {
    let mut statement = connection.prepare_cached(&format!("SELECT {COLUMNS} WHERE client_id = ?1"))?;
    let mut found = statement.query([client_id])?;
    found.next()?.map(session).transpose()
}

pub(super) fn count_of(connection: &Connection, device: &DeviceId) -> Result<usize, StoreError> {
    let mut statement = connection
        .prepare_cached("SELECT count(*) FROM broker_sessions WHERE device = (SELECT pk FROM devices WHERE id = ?1)")?;
    let count: i64 = statement.query_row([device.as_str()], |row| row.get(0))?;
    Ok(usize::try_from(count).unwrap_or(usize::MAX))
}

pub(super) fn of_ended(connection: &Connection, limit: usize) -> Result<Vec<BrokerSession>, StoreError> {
    let mut statement = connection.prepare_cached(&format!(
        "SELECT {COLUMNS} WHERE devices.out IS NOT NULL OR devices.retired IS NOT NULL LIMIT ?1"
    ))?;
    let mut found = statement.query([i64::try_from(limit).unwrap_or(i64::MAX)])?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        all.push(session(row)?);
    }
    Ok(all)
}

/// Keeps sessions in place of those of the same name, and forgets others. Those that the broker must have forgotten go too.
pub(super) fn keep(
    tx: &Transaction<'_>,
    kept: &[BrokerSession],
    gone: &[String],
    now: UnixTime,
) -> Result<(), StoreError> {
    let mut put = tx.prepare_cached(
        "INSERT INTO broker_sessions (client_id, device, guard, opened, until, subscriptions)
         SELECT ?1, pk, ?3, ?4, ?5, ?6 FROM devices WHERE id = ?2
         ON CONFLICT (client_id) DO UPDATE SET device = excluded.device, guard = excluded.guard,
             opened = excluded.opened, until = excluded.until, subscriptions = excluded.subscriptions",
    )?;
    for each in kept {
        let subscriptions = serde_json::json!(each.subscriptions).to_string();
        put.execute(params![
            each.client_id,
            each.device.as_str(),
            each.guard,
            each.opened.0,
            each.until.0,
            subscriptions
        ])?;
    }
    let mut drop = tx.prepare_cached("DELETE FROM broker_sessions WHERE client_id = ?1")?;
    for client_id in gone {
        drop.execute([client_id])?;
    }
    tx.prepare_cached("DELETE FROM broker_sessions WHERE until < ?1")?.execute([now.0])?;
    Ok(())
}
