//! Keys that are never taken again.

use rusqlite::{Connection, OptionalExtension, Transaction, params};
use serde_json::json;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;

use super::rows::damaged;
use super::write::{self, hex};
use crate::{BlockedKey, Cause, StoreError};
use tidy_warden_core::credential::{BlockSource, Ended, Revocation};

fn source(word: &str) -> Result<BlockSource, StoreError> {
    BlockSource::ALL.into_iter().find(|each| each.as_str() == word).ok_or_else(|| damaged("blocked key"))
}

/// Whether a key is blocked, and since when, why and after which device.
pub(super) fn blocked(connection: &Connection, digest: &[u8; 32]) -> Result<Option<BlockedKey>, StoreError> {
    let found: Option<(i64, String, Option<String>)> = connection
        .prepare_cached("SELECT at, source, device FROM blocked_keys WHERE digest = ?1")?
        .query_row([digest], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))
        .optional()?;
    found.map(|(at, word, device)| key(*digest, at, &word, device)).transpose()
}

fn key(digest: [u8; 32], at: i64, word: &str, device: Option<String>) -> Result<BlockedKey, StoreError> {
    let device = device.map(|id| id.parse().map_err(|_| damaged("id"))).transpose()?;
    Ok(BlockedKey { digest, at: UnixTime(at), source: source(word)?, device })
}

pub(super) fn each(connection: &Connection, visit: &mut dyn FnMut(BlockedKey)) -> Result<(), StoreError> {
    let mut statement =
        connection.prepare_cached("SELECT digest, at, source, device FROM blocked_keys ORDER BY at, digest")?;
    let mut found = statement.query([])?;
    while let Some(row) = found.next()? {
        visit(key(row.get(0)?, row.get(1)?, &row.get::<_, String>(2)?, row.get(3)?)?);
    }
    Ok(())
}

/// Notes that a key is blocked; says whether it was not before.
pub(super) fn note(
    tx: &Transaction<'_>,
    digest: &[u8],
    from: BlockSource,
    device: Option<&str>,
    at: UnixTime,
) -> Result<bool, StoreError> {
    let sql = "INSERT OR IGNORE INTO blocked_keys (digest, at, source, device) VALUES (?1, ?2, ?3, ?4)";
    Ok(tx.prepare_cached(sql)?.execute(params![digest, at.0, from.as_str(), device])? > 0)
}

/// Blocks keys, and revokes the credentials that have them.
pub(super) fn block(
    tx: &Transaction<'_>,
    digests: &[[u8; 32]],
    from: BlockSource,
    cause: &Cause,
) -> Result<(usize, Vec<Ended>), StoreError> {
    let (mut count, mut ended) = (0, Vec::new());
    let mut all = Vec::new();
    for digest in digests {
        let holders = write::holders_of_key(tx, digest)?;
        if note(tx, digest, from, holders.first().map(|(device, _)| device.as_str()), cause.at)? {
            count += 1;
            all.extend_from_slice(hex(digest).as_bytes());
            all.push(b'\n');
        }
        for (device, fingerprint) in holders {
            let what = Revocation { device: &device, only: Some(fingerprint), reason: Reason::KeyCompromise };
            ended.extend(write::revoke(tx, what, cause)?);
        }
    }
    if count > 0 {
        let subject = if let [one] = digests { hex(one) } else { format!("{count} keys") };
        let list = hex(&tidy_warden_core::key::sha256(&all));
        let detail = json!({ "count": count, "source": from.as_str(), "list_sha256": list });
        super::append(tx, cause, "key.block", &subject, &detail.to_string())?;
    }
    Ok((count, ended))
}
