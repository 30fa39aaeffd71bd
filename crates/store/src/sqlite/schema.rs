//! Tables and their version.

use rusqlite::Connection;

use crate::StoreError;

/// The format that this program writes, kept in `user_version`.
const FORMAT: i64 = 1;

/// Marks the file as one of ours ("TiWa"), kept in `application_id`.
const APPLICATION: i64 = 0x5469_5761;

/// Times are seconds since the Unix epoch. `changed` is the change number that touched a device last.
const TABLES: &str = "
CREATE TABLE meta (key TEXT PRIMARY KEY, value) WITHOUT ROWID;

CREATE TABLE authorities (
    pk INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, role TEXT NOT NULL, certificate BLOB NOT NULL,
    created INTEGER NOT NULL, crl_number INTEGER NOT NULL DEFAULT 0, crl_at INTEGER,
    crl_pending INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE servers (name TEXT PRIMARY KEY, certificate BLOB NOT NULL) WITHOUT ROWID;

CREATE TABLE devices (
    pk INTEGER PRIMARY KEY, id TEXT NOT NULL UNIQUE, kind TEXT NOT NULL, gateway TEXT, owner TEXT,
    created INTEGER NOT NULL, out INTEGER, retired INTEGER, seen INTEGER, tokens_from INTEGER NOT NULL DEFAULT 0,
    changed INTEGER NOT NULL
);
CREATE INDEX devices_by_change ON devices (changed);
CREATE INDEX devices_by_kind ON devices (kind);
CREATE INDEX devices_by_gateway ON devices (gateway) WHERE gateway IS NOT NULL;

CREATE TABLE labels (
    device INTEGER NOT NULL REFERENCES devices, name TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (device, name)
) WITHOUT ROWID;
CREATE INDEX labels_by_value ON labels (name, value);

CREATE TABLE facts (
    device INTEGER NOT NULL REFERENCES devices, name TEXT NOT NULL, value TEXT NOT NULL,
    current INTEGER NOT NULL DEFAULT 1, PRIMARY KEY (device, name)
) WITHOUT ROWID;
CREATE UNIQUE INDEX facts_by_value ON facts (name, value) WHERE current = 1;

CREATE TABLE credentials (
    pk INTEGER PRIMARY KEY, device INTEGER NOT NULL REFERENCES devices,
    authority INTEGER NOT NULL REFERENCES authorities, serial BLOB NOT NULL, fingerprint BLOB NOT NULL UNIQUE,
    key_digest BLOB NOT NULL, key_type TEXT NOT NULL, certificate BLOB NOT NULL, not_before INTEGER NOT NULL,
    not_after INTEGER NOT NULL, issued INTEGER NOT NULL, equipped INTEGER, first_used INTEGER,
    superseded_until INTEGER, revoked INTEGER, reason INTEGER, UNIQUE (authority, serial)
);
CREATE INDEX credentials_by_device ON credentials (device);
CREATE INDEX credentials_by_key ON credentials (key_digest);
CREATE INDEX credentials_revoked ON credentials (authority, serial) WHERE revoked IS NOT NULL;

CREATE TABLE editions (
    number INTEGER PRIMARY KEY, digest BLOB NOT NULL, author TEXT NOT NULL, at INTEGER NOT NULL,
    because TEXT NOT NULL, files TEXT NOT NULL
);

CREATE TABLE audit (
    number INTEGER PRIMARY KEY, at INTEGER NOT NULL, actor TEXT NOT NULL, act TEXT NOT NULL, subject TEXT NOT NULL,
    because TEXT NOT NULL, detail TEXT NOT NULL, previous BLOB NOT NULL, hash BLOB NOT NULL
);
";

pub(super) fn create(connection: &Connection) -> Result<(), StoreError> {
    connection.execute_batch(TABLES)?;
    connection.pragma_update(None, "user_version", FORMAT)?;
    connection.pragma_update(None, "application_id", APPLICATION)?;
    Ok(())
}

pub(super) fn check(connection: &Connection) -> Result<(), StoreError> {
    let pragma = |name| connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
    let found = pragma("user_version")?;
    if pragma("application_id")? != APPLICATION {
        return Err(StoreError::Damaged { detail: "the file is not a store of this program".to_owned() });
    }
    if found > FORMAT {
        return Err(StoreError::Newer { found, known: FORMAT });
    }
    Ok(())
}
