//! Tables and their version.

use rusqlite::{Connection, OptionalExtension};

use crate::StoreError;

/// The format that this program writes, kept in `user_version`.
const FORMAT: i64 = 15;

/// Marks the file as one of ours ("TiWa"), kept in `application_id`.
const APPLICATION: i64 = 0x5469_5761;

/// Times are seconds since the Unix epoch. `changed` is the change number that touched a device last. Labels and facts
/// stand with their device as JSON objects, the fixed groups that it is in as an array; `facts` is the index that keeps
/// each fact with one device at a time.
///
/// `entry` is the number of the audit entry that recorded a credential; those that older versions recorded have none.
/// `fingerprint_head` and `key_head` are the first eight octets of the digests beside them: an index of small integers
/// takes a million random entries far faster than one of whole digests, and a hit is compared in full.
const TABLES: &str = "
CREATE TABLE meta (key TEXT PRIMARY KEY, value) WITHOUT ROWID;

CREATE TABLE authorities (
    pk INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, role TEXT NOT NULL, certificate BLOB NOT NULL,
    created INTEGER NOT NULL, crl_number INTEGER NOT NULL DEFAULT 0, crl_at INTEGER,
    crl_pending INTEGER NOT NULL DEFAULT 0, key_place TEXT NOT NULL DEFAULT 'ward', token TEXT, token_label TEXT,
    replaces TEXT, retired INTEGER, trust_kinds TEXT, trust_fact TEXT, credentials_before INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE crosses (
    authority INTEGER NOT NULL REFERENCES authorities, fingerprint BLOB NOT NULL, certificate BLOB NOT NULL,
    PRIMARY KEY (authority, fingerprint)
) WITHOUT ROWID;

CREATE TABLE pending_authorities (
    name TEXT PRIMARY KEY, role TEXT NOT NULL, public_key BLOB NOT NULL, key_place TEXT NOT NULL, token TEXT,
    token_label TEXT, created INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE servers (name TEXT PRIMARY KEY, certificate BLOB NOT NULL) WITHOUT ROWID;

CREATE TABLE devices (
    pk INTEGER PRIMARY KEY, id TEXT NOT NULL UNIQUE, kind TEXT NOT NULL, gateway TEXT, owner TEXT,
    created INTEGER NOT NULL, out INTEGER, retired INTEGER, seen INTEGER, tokens_from INTEGER NOT NULL DEFAULT 0,
    held INTEGER, changed INTEGER NOT NULL, labels TEXT NOT NULL DEFAULT '{}', facts TEXT NOT NULL DEFAULT '{}',
    member_of TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX devices_by_change ON devices (changed);
CREATE INDEX devices_by_gateway ON devices (gateway) WHERE gateway IS NOT NULL;

CREATE TABLE facts (
    name TEXT NOT NULL, value TEXT NOT NULL, device INTEGER NOT NULL REFERENCES devices, PRIMARY KEY (name, value)
) WITHOUT ROWID;

CREATE TABLE credentials (
    pk INTEGER PRIMARY KEY, device INTEGER NOT NULL REFERENCES devices, origin TEXT NOT NULL,
    authority INTEGER REFERENCES authorities, serial BLOB, fingerprint BLOB NOT NULL,
    fingerprint_head INTEGER NOT NULL, key_digest BLOB NOT NULL, key_head INTEGER NOT NULL, key_type TEXT NOT NULL,
    certificate BLOB NOT NULL, not_before INTEGER NOT NULL, not_after INTEGER NOT NULL, issued INTEGER NOT NULL,
    equipped INTEGER, first_used INTEGER, superseded_until INTEGER, revoked INTEGER, reason INTEGER, entry INTEGER
);
CREATE INDEX credentials_by_serial ON credentials (serial);
CREATE INDEX credentials_by_fingerprint ON credentials (fingerprint_head);
CREATE INDEX credentials_by_device ON credentials (device);
CREATE INDEX credentials_by_key ON credentials (key_head);
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

/// Tables that came with format 3.
const TABLES_3: &str = "
CREATE TABLE device_groups (name TEXT PRIMARY KEY, rule TEXT, created INTEGER NOT NULL) WITHOUT ROWID;

CREATE TABLE trials (
    number INTEGER PRIMARY KEY, digest BLOB NOT NULL, author TEXT NOT NULL, at INTEGER NOT NULL, until INTEGER NOT NULL,
    because TEXT NOT NULL, files TEXT NOT NULL, ended INTEGER
);

CREATE TABLE trial_differences (
    trial INTEGER NOT NULL REFERENCES trials, device TEXT NOT NULL, act TEXT NOT NULL, would_allow INTEGER NOT NULL,
    rule TEXT NOT NULL, sample TEXT NOT NULL, count INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL,
    PRIMARY KEY (trial, device, act, would_allow, rule)
) WITHOUT ROWID;
";

/// Tables that came with format 4: what the guard counts of each device, and signs that somebody else has its key.
const TABLES_4: &str = "
CREATE TABLE traffic (
    device INTEGER PRIMARY KEY REFERENCES devices, messages_in INTEGER NOT NULL DEFAULT 0,
    octets_in INTEGER NOT NULL DEFAULT 0, messages_out INTEGER NOT NULL DEFAULT 0,
    octets_out INTEGER NOT NULL DEFAULT 0, refusals INTEGER NOT NULL DEFAULT 0, refused_at INTEGER, refused TEXT
);

CREATE TABLE clone_signs (
    device INTEGER PRIMARY KEY REFERENCES devices, first INTEGER NOT NULL, last INTEGER NOT NULL,
    count INTEGER NOT NULL, sign TEXT NOT NULL
);
";

/// Tables that came with format 5: keys that are never taken again; serial numbers that were about to be signed, and those of
/// them that were signed, perhaps, and never recorded; and the sessions that the broker keeps for devices.
const TABLES_5: &str = "
CREATE TABLE blocked_keys (
    digest BLOB PRIMARY KEY, at INTEGER NOT NULL, source TEXT NOT NULL, device TEXT
) WITHOUT ROWID;

CREATE TABLE intended (
    serial BLOB PRIMARY KEY, authority INTEGER NOT NULL REFERENCES authorities, device TEXT NOT NULL,
    not_after INTEGER NOT NULL, at INTEGER NOT NULL, place TEXT
) WITHOUT ROWID;

CREATE TABLE lost_serials (
    serial BLOB PRIMARY KEY, authority INTEGER NOT NULL REFERENCES authorities, device TEXT NOT NULL,
    not_after INTEGER NOT NULL, revoked INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE broker_sessions (
    client_id TEXT PRIMARY KEY, device INTEGER NOT NULL REFERENCES devices, guard INTEGER NOT NULL,
    opened INTEGER NOT NULL, until INTEGER NOT NULL, subscriptions TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX broker_sessions_by_device ON broker_sessions (device);

CREATE INDEX credentials_bound ON credentials (pk, origin, fingerprint) WHERE origin <> 'issued';
";

/// Tables that came with format 6: jobs, and what each is to do in parts that are too long for its plan.
const TABLES_6: &str = "
CREATE TABLE jobs (
    number INTEGER PRIMARY KEY, kind TEXT NOT NULL, digest BLOB NOT NULL, plan TEXT NOT NULL, position TEXT NOT NULL,
    begun INTEGER NOT NULL, actor TEXT NOT NULL, because TEXT NOT NULL, holder TEXT, lease INTEGER, ended INTEGER,
    stopped INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX jobs_open ON jobs (number) WHERE ended IS NULL;

CREATE TABLE job_parts (
    job INTEGER NOT NULL REFERENCES jobs, place INTEGER NOT NULL, text TEXT NOT NULL, PRIMARY KEY (job, place)
) WITHOUT ROWID;
";

/// What came with format 7: the names of labels and facts that devices have or had, so that a list knows its columns before its first
/// row, and the order in which credentials end.
const TABLES_7: &str = "
CREATE TABLE field_names (is_fact INTEGER NOT NULL, name TEXT NOT NULL, PRIMARY KEY (is_fact, name)) WITHOUT ROWID;

CREATE INDEX credentials_by_end ON credentials (min(not_after, ifnull(superseded_until, not_after)));
";

/// Tables that came with format 8: posts, what each said of itself last, and adopted settings.
const TABLES_8: &str = "
CREATE TABLE posts (
    name TEXT PRIMARY KEY, role TEXT NOT NULL, host TEXT NOT NULL, login TEXT NOT NULL, verifier TEXT NOT NULL,
    certificate BLOB NOT NULL, added INTEGER NOT NULL, retired INTEGER
) WITHOUT ROWID;

CREATE TABLE post_states (
    name TEXT PRIMARY KEY, version TEXT NOT NULL, address TEXT NOT NULL, edition INTEGER NOT NULL, change INTEGER NOT NULL,
    sessions INTEGER NOT NULL, since INTEGER NOT NULL, seen INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE adopted_settings (
    number INTEGER PRIMARY KEY, text TEXT NOT NULL, signature BLOB NOT NULL, author TEXT NOT NULL, at INTEGER NOT NULL
);
";

/// Tables that came with format 9: admissions, the facts that pending ones demand, and devices that wait for a person.
const TABLES_9: &str = "
CREATE TABLE admissions (
    number INTEGER PRIMARY KEY, device TEXT NOT NULL, kind TEXT NOT NULL, labels TEXT NOT NULL, facts TEXT NOT NULL,
    gateway TEXT, proof TEXT NOT NULL, digest BLOB, opened INTEGER NOT NULL, until INTEGER NOT NULL, state TEXT,
    ended INTEGER, credential BLOB
);
CREATE INDEX admissions_by_device ON admissions (device, number);
CREATE INDEX admissions_by_key ON admissions (digest) WHERE proof = 'key';

CREATE TABLE admission_facts (
    name TEXT NOT NULL, value TEXT NOT NULL, admission INTEGER NOT NULL REFERENCES admissions,
    PRIMARY KEY (name, value)
) WITHOUT ROWID;
CREATE INDEX admission_facts_by_admission ON admission_facts (admission);

CREATE TABLE asking (
    key_digest BLOB PRIMARY KEY, kind TEXT NOT NULL, facts TEXT NOT NULL, source TEXT NOT NULL, since INTEGER NOT NULL,
    until INTEGER NOT NULL, refused INTEGER
) WITHOUT ROWID;
";

/// Tables that came with format 10: the certificates that guards, desks and posts had before; children that gateways brought in.
const TABLES_10: &str = "
CREATE TABLE introduced (
    child TEXT PRIMARY KEY, gateway TEXT NOT NULL, kind TEXT NOT NULL, labels TEXT NOT NULL, since INTEGER NOT NULL,
    until INTEGER NOT NULL, state TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX introduced_by_gateway ON introduced (gateway, kind);
CREATE INDEX introduced_waiting ON introduced (since, child) WHERE state = 'waits';

CREATE TABLE former_servers (fingerprint BLOB PRIMARY KEY, name TEXT NOT NULL, certificate BLOB NOT NULL) WITHOUT ROWID;
";

/// What came with format 11: what people wrote about devices, whether devices may share a fact, and who had a fact and was retired.
const TABLES_11: &str = "
CREATE TABLE retired_facts (
    name TEXT NOT NULL, value TEXT NOT NULL, device INTEGER NOT NULL REFERENCES devices, PRIMARY KEY (name, value)
) WITHOUT ROWID;

ALTER TABLE devices ADD COLUMN note TEXT;
ALTER TABLE field_names ADD COLUMN shared INTEGER;
ALTER TABLE admissions ADD COLUMN owner TEXT;
ALTER TABLE credentials ADD COLUMN authorised_by BLOB;
CREATE INDEX credentials_derived ON credentials (authorised_by) WHERE authorised_by IS NOT NULL;
";

/// What came with format 12: what keys of devices' own are called, keys with which the ward signs tokens, tokens that nobody takes any
/// more, and the ward's data key, wrapped for each who may open it.
const TABLES_12: &str = "
CREATE TABLE token_signers (
    name TEXT PRIMARY KEY, public_key BLOB NOT NULL, key_place TEXT NOT NULL, token TEXT, token_label TEXT,
    created INTEGER NOT NULL, retired INTEGER
) WITHOUT ROWID;

CREATE TABLE token_blocks (
    name BLOB PRIMARY KEY, device TEXT, kid TEXT, jti TEXT, before INTEGER, at INTEGER NOT NULL, until INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX token_blocks_by_time ON token_blocks (at, name);
CREATE INDEX token_blocks_by_end ON token_blocks (until, name);

CREATE TABLE key_wraps (
    name TEXT PRIMARY KEY, public_key BLOB NOT NULL, ephemeral BLOB NOT NULL, sealed BLOB NOT NULL
) WITHOUT ROWID;

ALTER TABLE credentials ADD COLUMN kid TEXT;
ALTER TABLE credentials ADD COLUMN key_note TEXT;
CREATE UNIQUE INDEX credentials_by_kid ON credentials (kid) WHERE kid IS NOT NULL;
";

/// What came with format 13: what guards noticed of devices (the newest, each in a place that comes round), until when a list is good, when devices were asked to renew, and when each device's credentials end, read without the certificates.
const TABLES_13: &str = "
ALTER TABLE authorities ADD COLUMN crl_until INTEGER;
ALTER TABLE devices ADD COLUMN renew_asked INTEGER;
DROP INDEX credentials_by_device;
CREATE INDEX credentials_by_device ON credentials (
    device, origin, authority, not_before, not_after, superseded_until, revoked, authorised_by, kid
);
CREATE INDEX admissions_by_end ON admissions (until, number) WHERE state IS NULL;
CREATE INDEX audit_by_subject ON audit (subject, number);
CREATE TABLE device_events (
    device INTEGER NOT NULL REFERENCES devices, slot INTEGER NOT NULL, number INTEGER NOT NULL, at INTEGER NOT NULL,
    what TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (device, slot)
) WITHOUT ROWID;
";

/// What came with format 14: errands, and what guards know of them; what guards noticed, and what reflexes made of it.
const TABLES_14: &str = "
CREATE TABLE errands (
    number INTEGER PRIMARY KEY, device INTEGER NOT NULL REFERENCES devices, purpose TEXT NOT NULL, detail TEXT NOT NULL,
    nonce BLOB NOT NULL, sent INTEGER NOT NULL, ends INTEGER NOT NULL, signer BLOB NOT NULL, signature BLOB NOT NULL,
    state TEXT NOT NULL, ended INTEGER, outcome TEXT, follows INTEGER
);
CREATE INDEX errands_by_device ON errands (device, number);
CREATE INDEX errands_by_end ON errands (ends, number);
CREATE TABLE errand_traffic (
    number INTEGER PRIMARY KEY, tries INTEGER NOT NULL, first INTEGER, last INTEGER, answered INTEGER, brought_by TEXT, answer TEXT
);
CREATE INDEX errands_answered ON errand_traffic (number) WHERE answer IS NOT NULL;
CREATE TABLE evidence (
    number INTEGER PRIMARY KEY, device INTEGER NOT NULL REFERENCES devices, at INTEGER NOT NULL, what TEXT NOT NULL,
    count INTEGER NOT NULL, source TEXT NOT NULL, proved INTEGER NOT NULL, text TEXT NOT NULL
);
CREATE INDEX evidence_by_device ON evidence (device, what, at);
CREATE INDEX evidence_by_time ON evidence (at, number);
CREATE TABLE reflex_progress (reflex TEXT PRIMARY KEY, position INTEGER NOT NULL, stopped INTEGER, why TEXT) WITHOUT ROWID;
CREATE TABLE reflex_hits (
    number INTEGER PRIMARY KEY, reflex TEXT NOT NULL, device INTEGER NOT NULL REFERENCES devices, at INTEGER NOT NULL,
    act TEXT NOT NULL, evidence TEXT NOT NULL, source TEXT NOT NULL, undone INTEGER
);
CREATE INDEX reflex_hits_by_time ON reflex_hits (reflex, at);
CREATE INDEX reflex_hits_by_device ON reflex_hits (device, reflex, number);
CREATE TABLE notices (
    number INTEGER PRIMARY KEY, id TEXT NOT NULL, at INTEGER NOT NULL, body TEXT NOT NULL, tries INTEGER NOT NULL,
    due INTEGER, taken INTEGER, failed TEXT
);
CREATE INDEX notices_due ON notices (due, number) WHERE due IS NOT NULL;
";

/// Tables that came with format 15: owners, and what devices they claim.
const TABLES_15: &str = "
CREATE TABLE owners (
    name TEXT PRIMARY KEY, contact TEXT, salt BLOB NOT NULL, places TEXT NOT NULL, added INTEGER NOT NULL, retired INTEGER,
    signed_in_from INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE owner_passes (
    digest BLOB PRIMARY KEY, kind TEXT NOT NULL, owner TEXT NOT NULL, made INTEGER NOT NULL, ends INTEGER NOT NULL, used INTEGER
) WITHOUT ROWID;
CREATE INDEX owner_passes_by_owner ON owner_passes (owner, kind);
CREATE INDEX owner_passes_by_end ON owner_passes (ends);
CREATE TABLE claims (
    device TEXT PRIMARY KEY, salt BLOB, digest BLOB, opened INTEGER NOT NULL, ends INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE claim_windows (
    device TEXT PRIMARY KEY, salt BLOB, digest BLOB, opened INTEGER NOT NULL, ends INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE hand_overs (
    device TEXT PRIMARY KEY, owner TEXT NOT NULL, heir TEXT NOT NULL, offered INTEGER NOT NULL, ends INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX hand_overs_by_heir ON hand_overs (heir, device);
CREATE TABLE ownerships (
    number INTEGER PRIMARY KEY, device TEXT NOT NULL, owner TEXT NOT NULL, came TEXT NOT NULL, began INTEGER NOT NULL,
    place TEXT NOT NULL, ended INTEGER, went TEXT
);
CREATE INDEX ownerships_by_device ON ownerships (device, number);
CREATE TABLE claim_tries (
    scope TEXT NOT NULL, name TEXT NOT NULL, owner TEXT, device TEXT, count INTEGER NOT NULL, since INTEGER NOT NULL,
    last INTEGER NOT NULL, PRIMARY KEY (scope, name)
) WITHOUT ROWID;
CREATE INDEX claim_tries_by_owner ON claim_tries (owner) WHERE owner IS NOT NULL;
CREATE INDEX claim_tries_by_device ON claim_tries (device) WHERE device IS NOT NULL;
CREATE INDEX claim_tries_by_time ON claim_tries (last);
ALTER TABLE devices ADD COLUMN passed INTEGER;
CREATE INDEX devices_by_owner ON devices (owner, id) WHERE owner IS NOT NULL;
";

/// The key that signed tokens before there could be several.
const FILL_12: &str = "
INSERT INTO token_signers (name, public_key, key_place, created)
    SELECT 'tokens', value, 'ward', coalesce((SELECT at FROM audit WHERE number = 1), 0) FROM meta WHERE key = 'token_key';
";

/// The names of what there is already.
const FILL_7: &str = "
INSERT INTO field_names SELECT DISTINCT 0, key FROM devices, json_each(labels);
INSERT INTO field_names SELECT DISTINCT 1, key FROM devices, json_each(facts);
";

/// Who was retired last of those that had a fact.
const FILL_11: &str = "
INSERT OR REPLACE INTO retired_facts (name, value, device)
    SELECT key, value, pk FROM devices, json_each(facts) WHERE retired IS NOT NULL ORDER BY retired, pk;
";

/// Keys that were revoked for compromise before there was a list of them.
const FILL_5: &str = "
INSERT OR IGNORE INTO blocked_keys (digest, at, source, device)
    SELECT key_digest, revoked, 'revoked', devices.id FROM credentials JOIN devices ON devices.pk = credentials.device
    WHERE reason = 1;
";

pub(super) fn create(connection: &Connection) -> Result<(), StoreError> {
    connection.execute_batch(TABLES)?;
    connection.execute_batch(TABLES_3)?;
    connection.execute_batch(TABLES_4)?;
    connection.execute_batch(TABLES_5)?;
    connection.execute_batch(TABLES_6)?;
    connection.execute_batch(TABLES_7)?;
    connection.execute_batch(TABLES_8)?;
    connection.execute_batch(TABLES_9)?;
    connection.execute_batch(TABLES_10)?;
    connection.execute_batch(TABLES_11)?;
    connection.execute_batch(TABLES_12)?;
    connection.execute_batch(TABLES_13)?;
    connection.execute_batch(TABLES_14)?;
    connection.execute_batch(TABLES_15)?;
    connection.pragma_update(None, "user_version", FORMAT)?;
    connection.pragma_update(None, "application_id", APPLICATION)?;
    Ok(())
}

/// Brings a store that an older version wrote to the format of this one, in one transaction.
pub(super) fn upgrade(connection: &mut Connection) -> Result<(), StoreError> {
    let tx = connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    // Another process may have done it while this one waited for its turn.
    let found = tx.pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0))?;
    if found == 1 {
        tx.execute_batch(RENAME_FORMAT_1)?;
        tx.execute_batch(TABLES)?;
        let head = |row: &rusqlite::functions::Context<'_>| Ok(super::rows::head(&row.get::<Vec<u8>>(0)?));
        tx.create_scalar_function("head", 1, rusqlite::functions::FunctionFlags::SQLITE_DETERMINISTIC, head)?;
        tx.execute_batch(COPY_FORMAT_1)?;
    }
    if found == 2 {
        tx.execute_batch("ALTER TABLE devices ADD COLUMN member_of TEXT NOT NULL DEFAULT '[]';")?;
    }
    if found < 3 {
        tx.execute_batch(TABLES_3)?;
    }
    if found == 2 || found == 3 {
        tx.execute_batch("ALTER TABLE devices ADD COLUMN held INTEGER;")?;
    }
    if found < 4 {
        tx.execute_batch(TABLES_4)?;
    }
    if (2..5).contains(&found) {
        tx.execute_batch("ALTER TABLE credentials ADD COLUMN entry INTEGER;")?;
    }
    if found < 5 {
        tx.execute_batch(TABLES_5)?;
        tx.execute_batch(FILL_5)?;
    }
    if found < 6 {
        tx.execute_batch(TABLES_6)?;
        if found > 1 {
            take_bulk_run(&tx)?;
        }
        super::record::plant_tree(&tx)?;
    }
    if found < 7 {
        tx.execute_batch(TABLES_7)?;
        tx.execute_batch(FILL_7)?;
    }
    if found < 8 {
        tx.execute_batch(TABLES_8)?;
    }
    if found < 9 {
        tx.execute_batch(TABLES_9)?;
    }
    if found < 10 {
        tx.execute_batch(TABLES_10)?;
    }
    if found < 11 {
        tx.execute_batch(TABLES_11)?;
        tx.execute_batch(FILL_11)?;
        spell_out_notes(&tx)?;
    }
    if found < 12 {
        tx.execute_batch(TABLES_12)?;
        tx.execute_batch(FILL_12)?;
        name_keys(&tx)?;
    }
    if found < 13 {
        tx.execute_batch(TABLES_13)?;
    }
    if found < 14 {
        tx.execute_batch(TABLES_14)?;
    }
    if found < FORMAT {
        tx.execute_batch(TABLES_15)?;
        tx.pragma_update(None, "user_version", FORMAT)?;
    }
    Ok(tx.commit()?)
}

/// Groups by rule whose rule names a label `note`, which is a field of its own from format 11 on, spell it out.
fn spell_out_notes(tx: &rusqlite::Transaction<'_>) -> Result<(), StoreError> {
    let mut statement = tx.prepare("SELECT name, rule FROM device_groups WHERE rule IS NOT NULL")?;
    let rules = statement.query_map([], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?)))?;
    for rule in rules.collect::<Result<Vec<_>, _>>()? {
        if let Some(spelled) = crate::stored::spelled_out(&rule.1)? {
            tx.execute("UPDATE device_groups SET rule = ?2 WHERE name = ?1", [&rule.0, &spelled])?;
        }
    }
    Ok(())
}

/// Keys that were bound to devices before they had names get those that they have in tokens.
fn name_keys(tx: &rusqlite::Transaction<'_>) -> Result<(), StoreError> {
    let mut statement = tx.prepare("SELECT pk, certificate FROM credentials WHERE origin = 'key'")?;
    let keys = statement.query_map([], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, Vec<u8>>(1)?)))?;
    for (pk, spki) in keys.collect::<Result<Vec<_>, _>>()? {
        if let Some(kid) = crate::stored::kid_of(&spki) {
            // One that was given up and bound again has its name once.
            tx.execute("UPDATE OR IGNORE credentials SET kid = ?2 WHERE pk = ?1", rusqlite::params![pk, kid])?;
        }
    }
    Ok(())
}

/// The one bulk run that there could be before there were jobs becomes a job that nobody works on.
fn take_bulk_run(tx: &rusqlite::Transaction<'_>) -> Result<(), StoreError> {
    let run = tx.query_row("SELECT plan, position FROM bulk", [], |row| {
        Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?))
    });
    if let Some((plan, position)) = run.optional()? {
        let digest = tidy_warden_core::key::sha256(plan.as_bytes());
        tx.execute(
            "INSERT INTO jobs (number, kind, digest, plan, position, begun, actor, because)
             SELECT 1, 'enroll', ?1, ?2, ?3, at, actor, because FROM audit WHERE act = 'enroll.begin'
             ORDER BY number DESC LIMIT 1",
            rusqlite::params![digest, plan, position],
        )?;
    }
    Ok(tx.execute_batch("DROP TABLE bulk;")?)
}

/// Sets the tables of format 1 aside. Their indexes keep their names, so they go first.
const RENAME_FORMAT_1: &str = "
DROP INDEX devices_by_change; DROP INDEX devices_by_kind; DROP INDEX devices_by_gateway; DROP INDEX labels_by_value;
DROP INDEX facts_by_value; DROP INDEX credentials_by_device; DROP INDEX credentials_by_key;
DROP INDEX credentials_revoked;
PRAGMA legacy_alter_table = ON;
ALTER TABLE meta RENAME TO old_meta; ALTER TABLE authorities RENAME TO old_authorities;
ALTER TABLE servers RENAME TO old_servers; ALTER TABLE devices RENAME TO old_devices;
ALTER TABLE labels RENAME TO old_labels; ALTER TABLE facts RENAME TO old_facts;
ALTER TABLE credentials RENAME TO old_credentials; ALTER TABLE editions RENAME TO old_editions;
ALTER TABLE audit RENAME TO old_audit;
";

/// Fills the new tables from those of format 1.
const COPY_FORMAT_1: &str = "
INSERT INTO meta SELECT * FROM old_meta;
INSERT INTO authorities (pk, name, role, certificate, created, crl_number, crl_at, crl_pending)
    SELECT pk, name, role, certificate, created, crl_number, crl_at, crl_pending FROM old_authorities;
INSERT INTO servers SELECT * FROM old_servers;
INSERT INTO devices (pk, id, kind, gateway, owner, created, out, retired, seen, tokens_from, changed, labels, facts)
    SELECT pk, id, kind, gateway, owner, created, out, retired, seen, tokens_from, changed,
        (SELECT json_group_object(name, value) FROM old_labels WHERE device = old_devices.pk),
        (SELECT json_group_object(name, value) FROM old_facts WHERE device = old_devices.pk)
    FROM old_devices;
INSERT INTO facts SELECT name, value, device FROM old_facts WHERE current = 1;
INSERT INTO credentials (pk, device, origin, authority, serial, fingerprint, fingerprint_head, key_digest, key_head,
        key_type, certificate, not_before, not_after, issued, equipped, first_used, superseded_until, revoked, reason)
    SELECT pk, device, 'issued', authority, serial, fingerprint, head(fingerprint), key_digest, head(key_digest),
        key_type, certificate, not_before, not_after, issued, equipped, first_used, superseded_until, revoked, reason
    FROM old_credentials;
INSERT INTO editions SELECT * FROM old_editions;
INSERT INTO audit SELECT * FROM old_audit;
DROP TABLE old_credentials; DROP TABLE old_facts; DROP TABLE old_labels; DROP TABLE old_devices;
DROP TABLE old_servers; DROP TABLE old_authorities; DROP TABLE old_editions; DROP TABLE old_audit; DROP TABLE old_meta;
PRAGMA legacy_alter_table = OFF;
";

/// Whether the store must be brought to this program's format first.
pub(super) fn check(connection: &Connection) -> Result<bool, StoreError> {
    let pragma = |name| connection.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
    let found = pragma("user_version")?;
    if pragma("application_id")? != APPLICATION {
        return Err(StoreError::Damaged { detail: "the file is not a store of this program".to_owned() });
    }
    if found > FORMAT {
        return Err(StoreError::Newer { found, known: FORMAT });
    }
    Ok(found < FORMAT)
}
