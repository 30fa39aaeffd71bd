//! What the guard counts and notices, and what the broker keeps.

use rusqlite::{Connection, OptionalExtension, Row, params};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged};
use super::{Sql, SqliteTx};
use crate::contract::newest;
use crate::{
    BrokerSession, CloneSigns, DeviceEvent, MOST_EVENTS, ReadTraffic, StoreError, Tally, Traffic, TrialDifference,
    WriteTraffic,
};

const SESSIONS: &str = "SELECT client_id, devices.id, guard, opened, until, subscriptions
    FROM broker_sessions JOIN devices ON devices.pk = broker_sessions.device";

fn session(row: &Row<'_>) -> Result<BrokerSession, StoreError> {
    let subscriptions: String = row.get(5)?;
    Ok(BrokerSession {
        client_id: row.get(0)?,
        device: rows::parsed(&row.get::<_, String>(1)?, "id")?,
        guard: row.get(2)?,
        opened: UnixTime(row.get(3)?),
        until: UnixTime(row.get(4)?),
        subscriptions: serde_json::from_str(&subscriptions).map_err(|_| damaged("session at the broker"))?,
    })
}

impl<S: Sql> ReadTraffic for S {
    fn traffic(&self, id: &DeviceId) -> Result<Traffic, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT messages_in, octets_in, messages_out, octets_out, refusals, refused_at, refused FROM traffic
             WHERE device = (SELECT pk FROM devices WHERE id = ?1)",
        )?;
        let mut found = statement.query([id.as_str()])?;
        let Some(row) = found.next()? else { return Ok(Traffic::default()) };
        let refused = row.get::<_, Option<i64>>(5)?.map(UnixTime).zip(row.get(6)?);
        Ok(Traffic {
            messages_in: rows::count(row.get(0)?)?,
            octets_in: rows::count(row.get(1)?)?,
            messages_out: rows::count(row.get(2)?)?,
            octets_out: rows::count(row.get(3)?)?,
            refusals: rows::count(row.get(4)?)?,
            refused,
        })
    }

    fn clone_signs(&self, id: &DeviceId) -> Result<Option<CloneSigns>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT first, last, count, sign FROM clone_signs WHERE device = (SELECT pk FROM devices WHERE id = ?1)",
        )?;
        let mut found = statement.query([id.as_str()])?;
        let Some(row) = found.next()? else { return Ok(None) };
        Ok(Some(CloneSigns {
            first: UnixTime(row.get(0)?),
            last: UnixTime(row.get(1)?),
            count: rows::count(row.get(2)?)?,
            sign: row.get(3)?,
        }))
    }

    fn events(&self, id: &DeviceId) -> Result<Vec<DeviceEvent>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT at, what, text FROM device_events WHERE device = (SELECT pk FROM devices WHERE id = ?1) ORDER BY number",
        )?;
        let event = |row: &Row<'_>| {
            Ok(DeviceEvent { device: id.clone(), at: UnixTime(row.get(0)?), what: row.get(1)?, text: row.get(2)? })
        };
        let found = statement.query_map([id.as_str()], event)?;
        Ok(found.collect::<Result<_, _>>()?)
    }

    fn broker_session(&self, client_id: &str) -> Result<Option<BrokerSession>, StoreError> {
        let mut statement = self.sql().prepare_cached(&format!("{SESSIONS} WHERE client_id = ?1"))?;
        let mut found = statement.query([client_id])?;
        found.next()?.map(session).transpose()
    }

    fn broker_sessions_of(&self, device: &DeviceId) -> Result<usize, StoreError> {
        let sql = "SELECT count(*) FROM broker_sessions WHERE device = (SELECT pk FROM devices WHERE id = ?1)";
        let count: i64 = self.sql().prepare_cached(sql)?.query_row([device.as_str()], |row| row.get(0))?;
        Ok(usize::try_from(count).unwrap_or(usize::MAX))
    }

    fn broker_sessions_of_ended(&self, limit: usize) -> Result<Vec<BrokerSession>, StoreError> {
        let mut statement = self.sql().prepare_cached(&format!(
            "{SESSIONS} WHERE devices.out IS NOT NULL OR devices.retired IS NOT NULL OR devices.passed >= opened ORDER BY client_id LIMIT ?1"
        ))?;
        let mut found = statement.query([rows::limit(limit)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(session(row)?);
        }
        Ok(all)
    }
}

impl WriteTraffic for SqliteTx<'_> {
    fn put_clone_signs(&mut self, id: &DeviceId, signs: &CloneSigns) -> Result<(), StoreError> {
        let written = self.sql().execute(
            "INSERT INTO clone_signs SELECT pk, ?2, ?3, ?4, ?5 FROM devices WHERE id = ?1
             ON CONFLICT (device) DO UPDATE SET first = excluded.first, last = excluded.last, count = excluded.count,
                 sign = excluded.sign",
            params![id.as_str(), signs.first.0, signs.last.0, rows::stored(signs.count), signs.sign],
        )?;
        rows::found(written, "device", id)
    }
}

/// Writes what is counted, inside a transaction of the caller's.
pub(super) fn tally(connection: &Connection, tally: &Tally<'_>) -> Result<(), StoreError> {
    match tally {
        Tally::Traffic { counted, at } => add_traffic(connection, counted, *at),
        Tally::Differences { trial, differences } => add_differences(connection, *trial, differences),
        Tally::Sessions { kept, gone, now } => keep_sessions(connection, kept, gone, *now),
        Tally::Events(events) => add_events(connection, events),
        Tally::Evidence(all) => super::reflex::notice(connection, all),
        Tally::Windows(windows) => super::claim::open_windows(connection, windows),
        Tally::Errands(errands) => super::errand::tally(connection, errands),
        Tally::Post(state) => super::post::put_state(connection, state),
    }
}

fn add_events(connection: &Connection, events: &[DeviceEvent]) -> Result<(), StoreError> {
    let mut last = connection.prepare_cached(
        "SELECT pk, (SELECT coalesce(max(number), 0) FROM device_events WHERE device = pk) FROM devices WHERE id = ?1",
    )?;
    let mut put = connection.prepare_cached(
        "INSERT OR REPLACE INTO device_events (device, slot, number, at, what, text) VALUES (?1, ?2 % ?3, ?2, ?4, ?5, ?6)",
    )?;
    for (id, events) in newest(events) {
        let place =
            last.query_row([id.as_str()], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?))).optional()?;
        let Some((pk, mut number)) = place else { continue };
        for each in events {
            number += 1;
            put.execute(params![pk, number, rows::limit(MOST_EVENTS), each.at.0, each.what, each.text])?;
        }
    }
    Ok(())
}

fn add_traffic(connection: &Connection, counted: &[(DeviceId, Traffic)], at: UnixTime) -> Result<(), StoreError> {
    let mut add = connection.prepare_cached(
        "INSERT INTO traffic SELECT pk, ?2, ?3, ?4, ?5, ?6, ?7, ?8 FROM devices WHERE id = ?1
         ON CONFLICT (device) DO UPDATE SET
             messages_in = messages_in + excluded.messages_in, octets_in = octets_in + excluded.octets_in,
             messages_out = messages_out + excluded.messages_out, octets_out = octets_out + excluded.octets_out,
             refusals = refusals + excluded.refusals,
             refused_at = coalesce(excluded.refused_at, refused_at), refused = coalesce(excluded.refused, refused)",
    )?;
    let mut seen =
        connection.prepare_cached("UPDATE devices SET seen = ?2 WHERE id = ?1 AND coalesce(seen, 0) < ?2")?;
    for (id, traffic) in counted {
        let (refused_at, refused) = traffic.refused.as_ref().map(|(at, what)| (at.0, what)).unzip();
        add.execute(params![
            id.as_str(),
            rows::stored(traffic.messages_in),
            rows::stored(traffic.octets_in),
            rows::stored(traffic.messages_out),
            rows::stored(traffic.octets_out),
            rows::stored(traffic.refusals),
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

fn add_differences(connection: &Connection, trial: u32, differences: &[TrialDifference]) -> Result<(), StoreError> {
    let mut statement = connection.prepare_cached(
        "INSERT INTO trial_differences (trial, device, act, would_allow, rule, sample, count, first, last)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)
         ON CONFLICT (trial, device, act, would_allow, rule) DO UPDATE SET
             sample = excluded.sample, count = count + excluded.count, last = excluded.last",
    )?;
    for each in differences {
        statement.execute(params![
            trial,
            each.device.as_str(),
            each.act,
            each.would_allow,
            each.rule,
            each.sample,
            rows::stored(each.count),
            each.first.0,
            each.last.0
        ])?;
    }
    Ok(())
}

fn keep_sessions(
    connection: &Connection,
    kept: &[BrokerSession],
    gone: &[String],
    now: UnixTime,
) -> Result<(), StoreError> {
    let mut put = connection.prepare_cached(
        "INSERT INTO broker_sessions (client_id, device, guard, opened, until, subscriptions)
         SELECT ?1, pk, ?3, ?4, ?5, ?6 FROM devices WHERE id = ?2
         ON CONFLICT (client_id) DO UPDATE SET device = excluded.device, guard = excluded.guard,
             opened = excluded.opened, until = excluded.until, subscriptions = excluded.subscriptions",
    )?;
    for each in kept {
        let subscriptions = serde_json::json!(each.subscriptions).to_string();
        let device = each.device.as_str();
        put.execute(params![each.client_id, device, each.guard, each.opened.0, each.until.0, subscriptions])?;
    }
    let mut drop = connection.prepare_cached("DELETE FROM broker_sessions WHERE client_id = ?1")?;
    for client_id in gone {
        drop.execute([client_id])?;
    }
    connection.prepare_cached("DELETE FROM broker_sessions WHERE until < ?1")?.execute([now.0])?;
    Ok(())
}
