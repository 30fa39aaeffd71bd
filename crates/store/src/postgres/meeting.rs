//! What the guards of one database tell each other of their sessions.

use std::collections::BTreeMap;

use tidy_warden_core::id::DeviceId;

use super::connection::{Connection, get};
use super::rows;
use crate::{Met, StoreError, Turn};

/// How soon a device that comes back to an address is in two places, in seconds: as one guard by itself has it.
const WINDOW: i64 = 900;

/// Writes a guard's news, inside a transaction of the caller's, who holds the lock of `tally`; gives what it has to know of the others.
pub(super) fn meet(connection: &Connection, turn: &Turn<'_>) -> Result<Vec<Met>, StoreError> {
    let post = turn.post.as_str();
    if turn.is_first {
        connection.write("DELETE FROM sessions WHERE post = $1", &[&post])?;
    }
    let clients: Vec<&str> = turn.opened.iter().map(|each| each.client_id.as_str()).collect();
    let devices: Vec<&str> = turn.opened.iter().map(|each| each.device.as_str()).collect();
    connection.write("DELETE FROM sessions WHERE post = $1 AND client_id = ANY ($2)", &[&post, &turn.closed])?;
    connection.write(
        "INSERT INTO sessions (client_id, post, device) SELECT client, $1, devices.pk FROM unnest($2::text[], $3::text[]) AS new (client, id)
             JOIN devices ON devices.id = new.id
         ON CONFLICT (client_id, post) DO UPDATE SET device = excluded.device",
        &[&post, &clients, &devices],
    )?;
    let older = connection.rows(
        "SELECT mine.client_id, count(*) FROM sessions AS mine JOIN sessions AS other ON other.device = mine.device
             AND (other.opened, other.client_id) < (mine.opened, mine.client_id)
             AND (other.post = $1 OR other.post IN (SELECT live_posts()))
         WHERE mine.post = $1 AND mine.client_id = ANY ($2) GROUP BY mine.client_id",
        &[&post, &clients],
    )?;
    let mut counts: BTreeMap<String, u64> = BTreeMap::new();
    for row in &older {
        counts.insert(get(row, 0)?, rows::count(get(row, 1)?)?);
    }
    let mut left = BTreeMap::new();
    // One statement for all of them takes each device once; a few have more than one session in a turn.
    let mut rest: Vec<(&DeviceId, &str)> =
        turn.opened.iter().map(|each| (&each.device, each.network.as_str())).collect();
    while !rest.is_empty() {
        let mut now: BTreeMap<&str, &str> = BTreeMap::new();
        rest.retain(|(device, network)| {
            now.contains_key(device.as_str()) || now.insert(device.as_str(), network).is_some()
        });
        left.extend(places(connection, post, &now, turn.at.0)?);
    }
    let met = turn.opened.iter().map(|each| Met {
        client_id: each.client_id.clone(),
        before: counts.get(&each.client_id).copied().unwrap_or(0),
        left: left.get(each.device.as_str()).cloned(),
    });
    Ok(met.collect())
}

/// Notes where devices come from; gives those that came back by another guard's address in between, each with that address.
fn places(
    connection: &Connection,
    post: &str,
    now: &BTreeMap<&str, &str>,
    at: i64,
) -> Result<BTreeMap<String, String>, StoreError> {
    let (ids, networks): (Vec<&str>, Vec<&str>) = now.iter().map(|(id, network)| (*id, *network)).unzip();
    let moved = connection.rows(
        "INSERT INTO places AS known (device, last, post)
             SELECT devices.pk, new.network, $1 FROM unnest($2::text[], $3::text[]) AS new (id, network)
                 JOIN devices ON devices.id = new.id
         ON CONFLICT (device) DO UPDATE SET last = excluded.last, post = excluded.post, before = known.last, left_at = $4,
             is_back = known.before = excluded.last AND $4 - known.left_at <= $5 AND known.post <> excluded.post
         WHERE known.last <> excluded.last
         RETURNING (SELECT id FROM devices WHERE pk = known.device), before, is_back",
        &[&post, &ids, &networks, &at, &WINDOW],
    )?;
    let mut back = BTreeMap::new();
    for row in &moved {
        if get::<Option<bool>>(row, 2)? == Some(true) {
            back.insert(get(row, 0)?, get(row, 1)?);
        }
    }
    Ok(back)
}
