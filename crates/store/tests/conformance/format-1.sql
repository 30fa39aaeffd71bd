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
