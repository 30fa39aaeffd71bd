//! What the guard counts and notices, and what the broker keeps.

use std::collections::BTreeMap;

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;

use super::Database;
use super::connection::{Connection, get};
use super::rows::{self, damaged};
use crate::contract::newest;
use crate::{
    BrokerSession, CloneSigns, DeviceEvent, MOST_EVENTS, ReadTraffic, StoreError, Tally, Traffic, TrialDifference,
    WriteTraffic,
};

const SESSIONS: &str = "SELECT client_id, devices.id, guard, opened, until, subscriptions
    FROM broker_sessions JOIN devices ON devices.pk = broker_sessions.device";

fn session(row: &Row) -> Result<BrokerSession, StoreError> {
    Ok(BrokerSession {
        client_id: get(row, 0)?,
        device: rows::word(row, 1, "id")?,
        guard: get(row, 2)?,
        opened: UnixTime(get(row, 3)?),
        until: UnixTime(get(row, 4)?),
        subscriptions: serde_json::from_str(get(row, 5)?).map_err(|_| damaged("session at the broker"))?,
    })
}

impl ReadTraffic for Database {
    fn traffic(&self, id: &DeviceId) -> Result<Traffic, StoreError> {
        let sql = "SELECT messages_in, octets_in, messages_out, octets_out, refusals, refused_at, refused FROM traffic
             WHERE device = (SELECT pk FROM devices WHERE id = $1)";
        let Some(row) = self.connection.maybe(sql, &[&id.as_str()])? else { return Ok(Traffic::default()) };
        let refused = rows::time(get(&row, 5)?).zip(get(&row, 6)?);
        Ok(Traffic {
            messages_in: rows::count(get(&row, 0)?)?,
            octets_in: rows::count(get(&row, 1)?)?,
            messages_out: rows::count(get(&row, 2)?)?,
            octets_out: rows::count(get(&row, 3)?)?,
            refusals: rows::count(get(&row, 4)?)?,
            refused,
        })
    }

    fn clone_signs(&self, id: &DeviceId) -> Result<Option<CloneSigns>, StoreError> {
        let sql =
            "SELECT first, last, count, sign FROM clone_signs WHERE device = (SELECT pk FROM devices WHERE id = $1)";
        let Some(row) = self.connection.maybe(sql, &[&id.as_str()])? else { return Ok(None) };
        Ok(Some(CloneSigns {
            first: UnixTime(get(&row, 0)?),
            last: UnixTime(get(&row, 1)?),
            count: rows::count(get(&row, 2)?)?,
            sign: get(&row, 3)?,
        }))
    }

    fn events(&self, id: &DeviceId) -> Result<Vec<DeviceEvent>, StoreError> {
        let sql = "SELECT at, what, text FROM device_events WHERE device = (SELECT pk FROM devices WHERE id = $1) ORDER BY number";
        let found = self.connection.rows(sql, &[&id.as_str()])?;
        let event = |row| {
            Ok(DeviceEvent { device: id.clone(), at: UnixTime(get(row, 0)?), what: get(row, 1)?, text: get(row, 2)? })
        };
        found.iter().map(event).collect()
    }

    fn broker_session(&self, client_id: &str) -> Result<Option<BrokerSession>, StoreError> {
        let row = self.connection.maybe(&format!("{SESSIONS} WHERE client_id = $1"), &[&client_id])?;
        row.as_ref().map(session).transpose()
    }

    fn broker_sessions_of(&self, device: &DeviceId) -> Result<usize, StoreError> {
        let sql = "SELECT count(*) FROM broker_sessions WHERE device = (SELECT pk FROM devices WHERE id = $1)";
        let row = self.connection.one(sql, &[&device.as_str()])?;
        Ok(usize::try_from(get::<i64>(&row, 0)?).unwrap_or(usize::MAX))
    }

    fn broker_sessions_of_ended(&self, limit: usize) -> Result<Vec<BrokerSession>, StoreError> {
        let sql = format!(
            "{SESSIONS} WHERE devices.out IS NOT NULL OR devices.retired IS NOT NULL OR devices.passed >= opened ORDER BY client_id LIMIT $1"
        );
        self.connection.rows(&sql, &[&rows::limit(limit)])?.iter().map(session).collect()
    }
}

impl WriteTraffic for Database {
    fn put_clone_signs(&mut self, id: &DeviceId, signs: &CloneSigns) -> Result<(), StoreError> {
        let written = self.connection.run(
            "INSERT INTO clone_signs SELECT pk, $2, $3, $4, $5 FROM devices WHERE id = $1
             ON CONFLICT (device) DO UPDATE SET first = excluded.first, last = excluded.last, count = excluded.count,
                 sign = excluded.sign",
            &[&id.as_str(), &signs.first.0, &signs.last.0, &rows::stored(signs.count), &signs.sign],
        )?;
        rows::found(written, "device", id)
    }
}

/// Writes what is counted, inside a transaction of the caller's, who holds the lock of `tally`.
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

fn add_traffic(connection: &Connection, counted: &[(DeviceId, Traffic)], at: UnixTime) -> Result<(), StoreError> {
    // One statement for all of them takes each device once.
    let mut sums: BTreeMap<&str, Traffic> = BTreeMap::new();
    for (id, traffic) in counted {
        let sum = sums.entry(id.as_str()).or_default();
        sum.messages_in = sum.messages_in.saturating_add(traffic.messages_in);
        sum.octets_in = sum.octets_in.saturating_add(traffic.octets_in);
        sum.messages_out = sum.messages_out.saturating_add(traffic.messages_out);
        sum.octets_out = sum.octets_out.saturating_add(traffic.octets_out);
        sum.refusals = sum.refusals.saturating_add(traffic.refusals);
        sum.refused = traffic.refused.clone().or(sum.refused.take());
    }
    let ids: Vec<&str> = sums.keys().copied().collect();
    let numbers = |of: fn(&Traffic) -> u64| sums.values().map(|sum| rows::stored(of(sum))).collect::<Vec<i64>>();
    let refused_at: Vec<Option<i64>> = sums.values().map(|sum| sum.refused.as_ref().map(|(at, _)| at.0)).collect();
    let refused: Vec<Option<&str>> =
        sums.values().map(|sum| sum.refused.as_ref().map(|(_, what)| what.as_str())).collect();
    connection.write(
        "INSERT INTO traffic
         SELECT devices.pk, messages_in, octets_in, messages_out, octets_out, refusals, refused_at, refused
         FROM unnest($1::text[], $2::bigint[], $3::bigint[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[], $8::text[])
             AS new (id, messages_in, octets_in, messages_out, octets_out, refusals, refused_at, refused)
         JOIN devices ON devices.id = new.id
         ON CONFLICT (device) DO UPDATE SET
             messages_in = traffic.messages_in + excluded.messages_in, octets_in = traffic.octets_in + excluded.octets_in,
             messages_out = traffic.messages_out + excluded.messages_out,
             octets_out = traffic.octets_out + excluded.octets_out, refusals = traffic.refusals + excluded.refusals,
             refused_at = coalesce(excluded.refused_at, traffic.refused_at),
             refused = coalesce(excluded.refused, traffic.refused)",
        &[
            &ids,
            &numbers(|sum| sum.messages_in),
            &numbers(|sum| sum.octets_in),
            &numbers(|sum| sum.messages_out),
            &numbers(|sum| sum.octets_out),
            &numbers(|sum| sum.refusals),
            &refused_at,
            &refused,
        ],
    )?;
    // Who is only refused was not here.
    let here: Vec<&str> = sums.iter().filter(|(_, sum)| sum.messages_in > 0).map(|(id, _)| *id).collect();
    connection.write(
        "INSERT INTO seen SELECT pk, $2 FROM devices WHERE id = ANY ($1)
         ON CONFLICT (device) DO UPDATE SET at = greatest(seen.at, excluded.at)",
        &[&here, &at.0],
    )?;
    Ok(())
}

fn add_events(connection: &Connection, events: &[DeviceEvent]) -> Result<(), StoreError> {
    let all: Vec<&DeviceEvent> = newest(events).into_values().flatten().collect();
    let ids: Vec<&str> = all.iter().map(|each| each.device.as_str()).collect();
    let times: Vec<i64> = all.iter().map(|each| each.at.0).collect();
    let words = |of: fn(&DeviceEvent) -> &String| all.iter().map(|each| of(each).as_str()).collect::<Vec<_>>();
    // One device has no more of them than there are places, so that none is taken twice.
    connection.write(
        "INSERT INTO device_events (device, slot, number, at, what, text)
         SELECT pk, number % $5, number, at, what, text FROM (
             SELECT devices.pk, new.at, new.what, new.text, row_number() OVER (PARTITION BY devices.pk ORDER BY new.place)
                 + coalesce((SELECT max(number) FROM device_events WHERE device = devices.pk), 0) AS number
             FROM unnest($1::text[], $2::bigint[], $3::text[], $4::text[]) WITH ORDINALITY AS new (id, at, what, text, place)
             JOIN devices ON devices.id = new.id) AS numbered
         ON CONFLICT (device, slot) DO UPDATE SET number = excluded.number, at = excluded.at, what = excluded.what,
             text = excluded.text",
        &[&ids, &times, &words(|each| &each.what), &words(|each| &each.text), &rows::limit(MOST_EVENTS)],
    )
}

fn add_differences(connection: &Connection, trial: u32, differences: &[TrialDifference]) -> Result<(), StoreError> {
    for each in differences {
        connection.write(
            "INSERT INTO trial_differences (trial, device, act, would_allow, rule, sample, count, first, last)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
             ON CONFLICT (trial, device, act, would_allow, rule) DO UPDATE SET sample = excluded.sample,
                 count = trial_differences.count + excluded.count, last = excluded.last",
            &[
                &i64::from(trial),
                &each.device.as_str(),
                &each.act,
                &each.would_allow,
                &each.rule,
                &each.sample,
                &rows::stored(each.count),
                &each.first.0,
                &each.last.0,
            ],
        )?;
    }
    Ok(())
}

fn keep_sessions(
    connection: &Connection,
    kept: &[BrokerSession],
    gone: &[String],
    now: UnixTime,
) -> Result<(), StoreError> {
    for each in kept {
        connection.write(
            "INSERT INTO broker_sessions (client_id, device, guard, opened, until, subscriptions)
             SELECT $1, pk, $3, $4, $5, $6 FROM devices WHERE id = $2
             ON CONFLICT (client_id) DO UPDATE SET device = excluded.device, guard = excluded.guard,
                 opened = excluded.opened, until = excluded.until, subscriptions = excluded.subscriptions",
            &[
                &each.client_id,
                &each.device.as_str(),
                &each.guard,
                &each.opened.0,
                &each.until.0,
                &serde_json::json!(each.subscriptions).to_string(),
            ],
        )?;
    }
    connection.write("DELETE FROM broker_sessions WHERE client_id = ANY ($1) OR until < $2", &[&gone, &now.0])?;
    Ok(())
}
