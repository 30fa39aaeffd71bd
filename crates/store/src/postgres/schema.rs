//! Tables and their version.

use super::connection::Connection;
use crate::StoreError;

/// The format that this program writes. Formats of this engine are counted by themselves.
const FORMAT: i64 = 8;

/// The least format that a program must know to work on what this one writes: formats 6 to 8 only add to it.
const LEAST: i64 = 5;

/// Times are seconds since the Unix epoch. Rows have the numbers that the other engine would give them: the greatest there is and
/// one, which is safe as only who holds `head` gives any.
///
/// `store_format.number` is the format that the tables have, `least` the least that a program must know to work on them. A later format
/// that only adds to this one raises the first alone: programs of both go on side by side, until the last old one is gone and `least` is
/// raised too. Every program looks at it with each question about the head, so that one that is too old stops at once.
///
/// `store_format.copied_from` says that a copy of a ward is not finished, and `head.moved` that this ward is elsewhere now.
///
/// `head` and `ward` have one row. Whoever changes anything locks that of `head` first and holds it until the commit: so changes come
/// one after another, and nobody sees number 8 before number 7. What is only counted (`seen`, `traffic`, `trial_differences`,
/// `broker_sessions`) goes under the lock of `tally` instead, which nobody holds who waits for `head`.
///
/// `sessions` and `places` are what the guards of this database tell each other of their live sessions; they go with no copy. A guard
/// counts as there while its row of `post_states` was written a moment ago by the database's own clock (`alive`).
///
/// `acts` has the random name of each change, so that one whose COMMIT was in doubt can be looked up.
///
/// Facts and credentials name their devices without a reference that is looked up: they are written by the million, with what a name
/// was found to be a moment before, and nothing that is named is ever deleted. The tests look, after everything they do.
///
/// All texts are compared by octets (`COLLATE "C"`, put in below), as the rest of the program does, whatever the database's language.
const TABLES: &str = "
CREATE TABLE store_format (number BIGINT NOT NULL, least BIGINT NOT NULL, copied_from TEXT);

CREATE TABLE head (
    one BOOLEAN PRIMARY KEY DEFAULT true CHECK (one), change BIGINT NOT NULL, hash BYTEA NOT NULL, tree BYTEA NOT NULL,
    group_rules BIGINT NOT NULL DEFAULT 0, authorities BIGINT NOT NULL DEFAULT 0, given_up_number BIGINT, given_up_hash BYTEA,
    doubt TEXT, moved TEXT
);

CREATE TABLE tally (one BOOLEAN PRIMARY KEY DEFAULT true CHECK (one));

CREATE TABLE acts (act BYTEA PRIMARY KEY, change BIGINT NOT NULL);
CREATE INDEX acts_by_change ON acts (change);

CREATE TABLE ward (
    one BOOLEAN PRIMARY KEY DEFAULT true CHECK (one), urn TEXT NOT NULL, rehearsal BOOLEAN NOT NULL, token_key BYTEA NOT NULL,
    settings TEXT NOT NULL DEFAULT ''
);

CREATE TABLE authorities (
    pk BIGINT PRIMARY KEY, name TEXT NOT NULL UNIQUE, role TEXT NOT NULL, certificate BYTEA NOT NULL, created BIGINT NOT NULL,
    crl_number BIGINT NOT NULL DEFAULT 0, crl_at BIGINT, crl_pending BIGINT NOT NULL DEFAULT 0, key_place TEXT NOT NULL,
    token TEXT, token_label TEXT, replaces TEXT, retired BIGINT, trust_kinds TEXT, trust_fact TEXT,
    credentials_before BIGINT NOT NULL DEFAULT 0
);

CREATE TABLE crosses (
    authority BIGINT NOT NULL REFERENCES authorities, fingerprint BYTEA NOT NULL, certificate BYTEA NOT NULL,
    PRIMARY KEY (authority, fingerprint)
);

CREATE TABLE pending_authorities (
    name TEXT PRIMARY KEY, role TEXT NOT NULL, public_key BYTEA NOT NULL, key_place TEXT NOT NULL, token TEXT,
    token_label TEXT, created BIGINT NOT NULL
);

CREATE TABLE servers (name TEXT PRIMARY KEY, certificate BYTEA NOT NULL);

CREATE TABLE devices (
    pk BIGINT PRIMARY KEY, id TEXT NOT NULL UNIQUE, kind TEXT NOT NULL, gateway TEXT, owner TEXT, created BIGINT NOT NULL,
    out BIGINT, retired BIGINT, tokens_from BIGINT NOT NULL DEFAULT 0, held BIGINT, changed BIGINT NOT NULL,
    labels JSON NOT NULL, facts JSON NOT NULL, member_of TEXT[] NOT NULL DEFAULT '{}'
);
CREATE INDEX devices_by_change ON devices (changed, pk);
CREATE INDEX devices_by_gateway ON devices (gateway) WHERE gateway IS NOT NULL;

CREATE TABLE seen (device BIGINT PRIMARY KEY REFERENCES devices, at BIGINT NOT NULL);

CREATE TABLE facts (
    name TEXT NOT NULL, value TEXT NOT NULL, device BIGINT NOT NULL, PRIMARY KEY (name, value)
);

CREATE TABLE field_names (is_fact BOOLEAN NOT NULL, name TEXT NOT NULL, PRIMARY KEY (is_fact, name));

CREATE TABLE credentials (
    pk BIGINT PRIMARY KEY, device BIGINT NOT NULL, origin TEXT NOT NULL, authority BIGINT, serial BYTEA, fingerprint BYTEA NOT NULL, key_digest BYTEA NOT NULL,
    key_type TEXT NOT NULL, certificate BYTEA NOT NULL, not_before BIGINT NOT NULL, not_after BIGINT NOT NULL,
    issued BIGINT NOT NULL, equipped BIGINT, first_used BIGINT, superseded_until BIGINT, revoked BIGINT, reason BIGINT,
    entry BIGINT
);
CREATE INDEX credentials_by_serial ON credentials (serial);
CREATE INDEX credentials_by_fingerprint ON credentials (fingerprint);
CREATE INDEX credentials_by_device ON credentials (device);
CREATE INDEX credentials_by_key ON credentials (key_digest);
CREATE INDEX credentials_revoked ON credentials (authority, serial) WHERE revoked IS NOT NULL;
CREATE INDEX credentials_bound ON credentials (pk) WHERE origin <> 'issued';
CREATE INDEX credentials_by_end ON credentials (least(not_after, superseded_until), pk);

CREATE TABLE editions (
    number BIGINT PRIMARY KEY, digest BYTEA NOT NULL, author TEXT NOT NULL, at BIGINT NOT NULL, because TEXT NOT NULL,
    files TEXT NOT NULL
);

CREATE TABLE audit (
    number BIGINT PRIMARY KEY, at BIGINT NOT NULL, actor TEXT NOT NULL, act TEXT NOT NULL, subject TEXT NOT NULL,
    because TEXT NOT NULL, detail TEXT NOT NULL, previous BYTEA NOT NULL, hash BYTEA NOT NULL
);

CREATE TABLE device_groups (name TEXT PRIMARY KEY, rule TEXT, created BIGINT NOT NULL);

CREATE TABLE trials (
    number BIGINT PRIMARY KEY, digest BYTEA NOT NULL, author TEXT NOT NULL, at BIGINT NOT NULL, until BIGINT NOT NULL,
    because TEXT NOT NULL, files TEXT NOT NULL, ended BIGINT
);

CREATE TABLE trial_differences (
    trial BIGINT NOT NULL REFERENCES trials, device TEXT NOT NULL, act TEXT NOT NULL, would_allow BOOLEAN NOT NULL,
    rule TEXT NOT NULL, sample TEXT NOT NULL, count BIGINT NOT NULL, first BIGINT NOT NULL, last BIGINT NOT NULL,
    PRIMARY KEY (trial, device, act, would_allow, rule)
);

CREATE TABLE traffic (
    device BIGINT PRIMARY KEY REFERENCES devices, messages_in BIGINT NOT NULL, octets_in BIGINT NOT NULL,
    messages_out BIGINT NOT NULL, octets_out BIGINT NOT NULL, refusals BIGINT NOT NULL, refused_at BIGINT, refused TEXT
);

CREATE TABLE clone_signs (
    device BIGINT PRIMARY KEY REFERENCES devices, first BIGINT NOT NULL, last BIGINT NOT NULL, count BIGINT NOT NULL,
    sign TEXT NOT NULL
);

CREATE TABLE blocked_keys (digest BYTEA PRIMARY KEY, at BIGINT NOT NULL, source TEXT NOT NULL, device TEXT);
CREATE INDEX blocked_keys_by_time ON blocked_keys (at, digest);

CREATE TABLE intended (
    serial BYTEA PRIMARY KEY, authority BIGINT NOT NULL REFERENCES authorities, device TEXT NOT NULL,
    not_after BIGINT NOT NULL, at BIGINT NOT NULL, place TEXT
);

CREATE TABLE lost_serials (
    serial BYTEA PRIMARY KEY, authority BIGINT NOT NULL REFERENCES authorities, device TEXT NOT NULL,
    not_after BIGINT NOT NULL, revoked BIGINT NOT NULL
);

CREATE TABLE broker_sessions (
    client_id TEXT PRIMARY KEY, device BIGINT NOT NULL REFERENCES devices, guard BIGINT NOT NULL, opened BIGINT NOT NULL,
    until BIGINT NOT NULL, subscriptions TEXT NOT NULL
);
CREATE INDEX broker_sessions_by_device ON broker_sessions (device);
CREATE INDEX broker_sessions_by_end ON broker_sessions (until);

CREATE TABLE jobs (
    number BIGINT PRIMARY KEY, kind TEXT NOT NULL, digest BYTEA NOT NULL, plan TEXT NOT NULL, position TEXT NOT NULL,
    begun BIGINT NOT NULL, actor TEXT NOT NULL, because TEXT NOT NULL, holder TEXT, lease BIGINT, ended BIGINT,
    stopped BOOLEAN NOT NULL DEFAULT false
);
CREATE INDEX jobs_open ON jobs (number) WHERE ended IS NULL;

CREATE TABLE job_parts (
    job BIGINT NOT NULL REFERENCES jobs, place BIGINT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (job, place)
);

CREATE TABLE posts (
    name TEXT PRIMARY KEY, role TEXT NOT NULL, host TEXT NOT NULL, login TEXT NOT NULL, verifier TEXT NOT NULL,
    certificate BYTEA NOT NULL, added BIGINT NOT NULL, retired BIGINT
);

CREATE TABLE post_states (
    name TEXT PRIMARY KEY, version TEXT NOT NULL, address TEXT NOT NULL, edition BIGINT NOT NULL, change BIGINT NOT NULL,
    sessions BIGINT NOT NULL, since BIGINT NOT NULL, seen BIGINT NOT NULL,
    alive TIMESTAMPTZ NOT NULL DEFAULT clock_timestamp()
);

CREATE TABLE sessions (
    client_id TEXT NOT NULL, post TEXT NOT NULL, device BIGINT NOT NULL,
    opened TIMESTAMPTZ NOT NULL DEFAULT clock_timestamp(), PRIMARY KEY (client_id, post)
);
CREATE INDEX sessions_by_device ON sessions (device);
CREATE INDEX sessions_by_post ON sessions (post);

CREATE TABLE places (
    device BIGINT PRIMARY KEY, last TEXT NOT NULL, post TEXT NOT NULL, before TEXT, left_at BIGINT, is_back BOOLEAN
);

CREATE TABLE adopted_settings (
    number BIGINT PRIMARY KEY, text TEXT NOT NULL, signature BYTEA NOT NULL, author TEXT NOT NULL, at BIGINT NOT NULL
);
";

/// Tables that came with format 2: admissions, the facts that pending ones demand, and devices that wait for a person.
const TABLES_2: &str = "
CREATE TABLE admissions (
    number BIGINT PRIMARY KEY, device TEXT NOT NULL, kind TEXT NOT NULL, labels JSON NOT NULL, facts JSON NOT NULL,
    gateway TEXT, proof TEXT NOT NULL, digest BYTEA, opened BIGINT NOT NULL, until BIGINT NOT NULL, state TEXT,
    ended BIGINT, credential BYTEA
);
CREATE INDEX admissions_by_device ON admissions (device, number);
CREATE INDEX admissions_by_key ON admissions (digest) WHERE proof = 'key';

CREATE TABLE admission_facts (
    name TEXT NOT NULL, value TEXT NOT NULL, admission BIGINT NOT NULL REFERENCES admissions, PRIMARY KEY (name, value)
);
CREATE INDEX admission_facts_by_admission ON admission_facts (admission);

CREATE TABLE asking (
    key_digest BYTEA PRIMARY KEY, kind TEXT NOT NULL, facts JSON NOT NULL, source TEXT NOT NULL, since BIGINT NOT NULL,
    until BIGINT NOT NULL, refused BIGINT
);
";

/// Tables and columns that came with format 3: the certificates that guards, desks and posts had before; children that gateways brought in.
const TABLES_3: &str = "
CREATE TABLE introduced (
    child TEXT PRIMARY KEY, gateway TEXT NOT NULL, kind TEXT NOT NULL, labels JSON NOT NULL, since BIGINT NOT NULL,
    until BIGINT NOT NULL, state TEXT NOT NULL
);
CREATE INDEX introduced_by_gateway ON introduced (gateway, kind);
CREATE INDEX introduced_waiting ON introduced (since, child) WHERE state = 'waits';

CREATE TABLE former_servers (fingerprint BYTEA PRIMARY KEY, name TEXT NOT NULL, certificate BYTEA NOT NULL);
ALTER TABLE head ADD COLUMN servers BIGINT;
";

/// What came with format 4: what people wrote about devices, whether devices may share a fact, and who had a fact and was retired.
const TABLES_4: &str = "
CREATE TABLE retired_facts (
    name TEXT NOT NULL, value TEXT NOT NULL, device BIGINT NOT NULL REFERENCES devices, PRIMARY KEY (name, value)
);

ALTER TABLE devices ADD COLUMN note TEXT ;
ALTER TABLE field_names ADD COLUMN shared BOOLEAN;
ALTER TABLE admissions ADD COLUMN owner TEXT ;
ALTER TABLE credentials ADD COLUMN authorised_by BYTEA;
CREATE INDEX credentials_derived ON credentials (authorised_by) WHERE authorised_by IS NOT NULL;
";

/// Who was retired last of those that had a fact.
const FILL_4: &str = "
INSERT INTO retired_facts (name, value, device) SELECT DISTINCT ON (key, value) key, value, pk
    FROM devices, json_each_text(facts) WHERE retired IS NOT NULL ORDER BY key, value, retired DESC, pk DESC;
";

/// What came with format 5: what keys of devices' own are called, keys with which the ward signs tokens, tokens that nobody takes any
/// more, and the ward's data key, wrapped for each who may open it.
const TABLES_5: &str = "
CREATE TABLE token_signers (
    name TEXT PRIMARY KEY, public_key BYTEA NOT NULL, key_place TEXT NOT NULL, token TEXT, token_label TEXT,
    created BIGINT NOT NULL, retired BIGINT
);

CREATE TABLE token_blocks (
    name BYTEA PRIMARY KEY, device TEXT, kid TEXT, jti TEXT, before BIGINT, at BIGINT NOT NULL, until BIGINT NOT NULL
);
CREATE INDEX token_blocks_by_time ON token_blocks (at, name);
CREATE INDEX token_blocks_by_end ON token_blocks (until, name);

CREATE TABLE key_wraps (
    name TEXT PRIMARY KEY, public_key BYTEA NOT NULL, ephemeral BYTEA NOT NULL, sealed BYTEA NOT NULL
);

ALTER TABLE head ADD COLUMN tokens BIGINT;
ALTER TABLE credentials ADD COLUMN kid TEXT ;
ALTER TABLE credentials ADD COLUMN key_note TEXT ;
CREATE UNIQUE INDEX credentials_by_kid ON credentials (kid) WHERE kid IS NOT NULL;
";

/// The key that signed tokens before there could be several.
const FILL_5: &str = "
INSERT INTO token_signers (name, public_key, key_place, created)
    SELECT 'tokens', token_key, 'ward', coalesce((SELECT at FROM audit WHERE number = 1), 0) FROM ward;
";

/// What came with format 6: what guards noticed of devices (the newest, each in a place that comes round), when devices were asked to renew, until when a list is good, and the order in which admissions end. (Its index is said in words that no other
/// question has: on empty tables all would be planned to go through it.)
const TABLES_6: &str = "
ALTER TABLE authorities ADD COLUMN crl_until BIGINT;
ALTER TABLE devices ADD COLUMN renew_asked BIGINT;
CREATE INDEX admissions_by_end ON admissions (until, number) WHERE coalesce(state, '') = '';
CREATE INDEX audit_by_subject ON audit (subject, number);
CREATE TABLE device_events (
    device BIGINT NOT NULL REFERENCES devices, slot BIGINT NOT NULL, number BIGINT NOT NULL, at BIGINT NOT NULL,
    what TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (device, slot)
);
";

/// What came with format 7: errands, and what guards know of them; what guards noticed, and what reflexes made of it.
const TABLES_7: &str = "
CREATE TABLE errands (
    number BIGINT PRIMARY KEY, device BIGINT NOT NULL REFERENCES devices, purpose TEXT NOT NULL, detail TEXT NOT NULL,
    nonce BYTEA NOT NULL, sent BIGINT NOT NULL, ends BIGINT NOT NULL, signer BYTEA NOT NULL, signature BYTEA NOT NULL,
    state TEXT NOT NULL, ended BIGINT, outcome TEXT, follows BIGINT
);
CREATE INDEX errands_by_device ON errands (device, number);
CREATE INDEX errands_by_end ON errands (ends, number);
CREATE TABLE errand_traffic (
    number BIGINT PRIMARY KEY, tries BIGINT NOT NULL, first BIGINT, last BIGINT, answered BIGINT, brought_by TEXT, answer TEXT
);
CREATE INDEX errands_answered ON errand_traffic (number) WHERE answer IS NOT NULL;
CREATE TABLE evidence (
    number BIGINT PRIMARY KEY, device BIGINT NOT NULL REFERENCES devices, at BIGINT NOT NULL, what TEXT NOT NULL,
    count BIGINT NOT NULL, source TEXT NOT NULL, proved BOOLEAN NOT NULL, text TEXT NOT NULL
);
CREATE INDEX evidence_by_device ON evidence (device, what, at);
CREATE INDEX evidence_by_time ON evidence (at, number);
CREATE TABLE reflex_progress (reflex TEXT PRIMARY KEY, position BIGINT NOT NULL, stopped BIGINT, why TEXT);
CREATE TABLE reflex_hits (
    number BIGINT PRIMARY KEY, reflex TEXT NOT NULL, device BIGINT NOT NULL REFERENCES devices, at BIGINT NOT NULL,
    act TEXT NOT NULL, evidence TEXT NOT NULL, source TEXT NOT NULL, undone BIGINT
);
CREATE INDEX reflex_hits_by_time ON reflex_hits (reflex, at);
CREATE INDEX reflex_hits_by_device ON reflex_hits (device, reflex, number);
CREATE TABLE notices (
    number BIGINT PRIMARY KEY, id TEXT NOT NULL, at BIGINT NOT NULL, body TEXT NOT NULL, tries BIGINT NOT NULL,
    due BIGINT, taken BIGINT, failed TEXT
);
CREATE INDEX notices_due ON notices (due, number) WHERE due IS NOT NULL;
";

/// Owners, and what devices they claim.
const TABLES_8: &str = "
CREATE TABLE owners (
    name TEXT PRIMARY KEY, contact TEXT, salt BYTEA NOT NULL, places TEXT NOT NULL, added BIGINT NOT NULL, retired BIGINT,
    signed_in_from BIGINT NOT NULL
);
CREATE TABLE owner_passes (
    digest BYTEA PRIMARY KEY, kind TEXT NOT NULL, owner TEXT NOT NULL, made BIGINT NOT NULL, ends BIGINT NOT NULL, used BIGINT
);
CREATE INDEX owner_passes_by_owner ON owner_passes (owner, kind);
CREATE INDEX owner_passes_by_end ON owner_passes (ends);
CREATE TABLE claims (
    device TEXT PRIMARY KEY, salt BYTEA, digest BYTEA, opened BIGINT NOT NULL, ends BIGINT NOT NULL
);
CREATE TABLE claim_windows (
    device TEXT PRIMARY KEY, salt BYTEA, digest BYTEA, opened BIGINT NOT NULL, ends BIGINT NOT NULL
);
CREATE TABLE hand_overs (
    device TEXT PRIMARY KEY, owner TEXT NOT NULL, heir TEXT NOT NULL, offered BIGINT NOT NULL, ends BIGINT NOT NULL
);
CREATE INDEX hand_overs_by_heir ON hand_overs (heir, device);
CREATE TABLE ownerships (
    number BIGINT PRIMARY KEY, device TEXT NOT NULL, owner TEXT NOT NULL, came TEXT NOT NULL, began BIGINT NOT NULL,
    place TEXT NOT NULL, ended BIGINT, went TEXT
);
CREATE INDEX ownerships_by_device ON ownerships (device, number);
CREATE TABLE claim_tries (
    scope TEXT NOT NULL, name TEXT NOT NULL, owner TEXT, device TEXT, count BIGINT NOT NULL, since BIGINT NOT NULL,
    last BIGINT NOT NULL, PRIMARY KEY (scope, name)
);
CREATE INDEX claim_tries_by_owner ON claim_tries (owner) WHERE owner IS NOT NULL;
CREATE INDEX claim_tries_by_device ON claim_tries (device) WHERE device IS NOT NULL;
CREATE INDEX claim_tries_by_time ON claim_tries (last);
ALTER TABLE devices ADD COLUMN passed BIGINT;
CREATE INDEX devices_by_owner ON devices (owner, id) WHERE owner IS NOT NULL;
";

/// What holds for counts of devices holds for windows that they opened, and what holds for jobs for all of it.
const RIGHTS_8: &str = "
DO $$ DECLARE one RECORD; BEGIN
    FOR one IN SELECT grantee::regrole::text AS who, privilege_type AS what FROM pg_class, aclexplode(relacl)
        WHERE oid = 'traffic'::regclass AND grantee <> relowner AND grantee <> 0 LOOP
        EXECUTE format('GRANT %s ON claim_windows TO %s', one.what, one.who);
    END LOOP;
    FOR one IN SELECT grantee::regrole::text AS who, privilege_type AS what, has_table_privilege(grantee, 'jobs', 'INSERT') AS writes
        FROM pg_class, aclexplode(relacl) WHERE oid = 'jobs'::regclass AND grantee <> relowner AND grantee <> 0 LOOP
        EXECUTE format('GRANT %s ON owners, claims, claim_windows, hand_overs, ownerships TO %s', one.what, one.who);
        IF one.writes THEN
            EXECUTE format('GRANT %s ON owner_passes, claim_tries TO %s', one.what, one.who);
        END IF;
    END LOOP;
END $$;
";

/// What holds for counts of devices holds for what is known of errands, and what holds for jobs for errands; guards and desks read both as
/// they read the certificates of servers.
const RIGHTS_7: &str = "
DO $$ DECLARE one RECORD; BEGIN
    FOR one IN SELECT grantee::regrole::text AS who, privilege_type AS what FROM pg_class, aclexplode(relacl)
        WHERE oid = 'traffic'::regclass AND grantee <> relowner AND grantee <> 0 LOOP
        EXECUTE format('GRANT %s ON errand_traffic, evidence TO %s', one.what, one.who);
    END LOOP;
    FOR one IN SELECT grantee::regrole::text AS who, privilege_type AS what FROM pg_class, aclexplode(relacl)
        WHERE oid = 'jobs'::regclass AND grantee <> relowner AND grantee <> 0 LOOP
        EXECUTE format('GRANT %s ON errands, errand_traffic, evidence, reflex_progress, reflex_hits, notices TO %s', one.what, one.who);
    END LOOP;
    FOR one IN SELECT grantee::regrole::text AS who FROM pg_class, aclexplode(relacl)
        WHERE oid = 'servers'::regclass AND privilege_type = 'SELECT' AND grantee <> relowner AND grantee <> 0 LOOP
        EXECUTE format('GRANT SELECT ON errands, former_servers TO %s', one.who);
    END LOOP;
END $$;
";

/// Whoever may note that a list was signed may note this of it; and what holds for counts of devices holds for events.
const RIGHTS_6: &str = "
DO $$ DECLARE one RECORD; BEGIN
    FOR one IN SELECT DISTINCT grantee::regrole::text AS who FROM pg_attribute, aclexplode(attacl)
        WHERE attrelid = 'authorities'::regclass AND attname = 'crl_at' AND privilege_type = 'UPDATE' AND grantee <> 0 LOOP
        EXECUTE format('GRANT UPDATE (crl_until) ON authorities TO %s', one.who);
    END LOOP;
    FOR one IN SELECT grantee::regrole::text AS who, privilege_type AS what FROM pg_class, aclexplode(relacl)
        WHERE oid = 'traffic'::regclass AND grantee <> relowner AND grantee <> 0 LOOP
        EXECUTE format('GRANT %s ON device_events TO %s', one.what, one.who);
    END LOOP;
END $$;
";

/// Gives whoever has rights on jobs the same on the tables of formats 2 to 5: until `store roles` is run again, nobody who works on the
/// ward is to be kept from revoking.
const RIGHTS: &str = "
DO $$ DECLARE one RECORD; BEGIN
    FOR one IN SELECT grantee::regrole::text AS who, privilege_type AS what FROM pg_class, aclexplode(relacl)
        WHERE oid = 'jobs'::regclass AND grantee <> relowner AND grantee <> 0 LOOP
        EXECUTE format('GRANT %s ON admissions, admission_facts, asking, former_servers, introduced, retired_facts, token_signers, token_blocks, key_wraps TO %s', one.what, one.who);
    END LOOP;
END $$;
";

/// What makes all tables, format by format.
const ALL: [&str; 8] = [TABLES, TABLES_2, TABLES_3, TABLES_4, TABLES_5, TABLES_6, TABLES_7, TABLES_8];

/// The names of all tables.
pub(super) fn names() -> Vec<&'static str> {
    ALL.into_iter()
        .flat_map(str::lines)
        .filter_map(|line| line.strip_prefix("CREATE TABLE ")?.split_once(' ').map(|(name, _)| name))
        .collect()
}

/// Tables as they are made: what is compared is compared by octets.
fn collated(tables: &str) -> String {
    // A type at the end of a column's definition stands before a comma or a bracket.
    let tables = tables.replace(" TEXT,", " TEXT ,").replace(" TEXT)", " TEXT )").replace(" TEXT\n", " TEXT \n");
    tables.replace(" TEXT[]", " TEXT[] COLLATE \"C\"").replace(" TEXT ", " TEXT COLLATE \"C\" ")
}

/// Makes the tables, in the transaction that is open.
pub(super) fn create(connection: &Connection) -> Result<(), StoreError> {
    ALL.into_iter().try_for_each(|tables| connection.batch(&collated(tables)))?;
    connection
        .batch(&format!("INSERT INTO store_format VALUES ({FORMAT}, {LEAST}); INSERT INTO tally DEFAULT VALUES"))?;
    super::rights::create(connection)
}

/// Brings tables that an older version made to the format of this one, in one transaction, which only their owner can.
///
/// Programs that know the older format only stop at their next question about the head: what they revoke would leave admissions open.
pub(super) fn upgrade(connection: &Connection) -> Result<(), StoreError> {
    let sql = "SELECT number, pg_has_role(relowner, 'MEMBER'), quote_ident(pg_get_userbyid(relowner))
         FROM store_format, pg_class WHERE oid = 'store_format'::regclass";
    let row = connection.one(sql, &[])?;
    let (found, is_owner, owner): (i64, bool, String) = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?);
    if found >= FORMAT {
        return Ok(());
    }
    if !is_owner || connection.is_post() {
        return Err(StoreError::Older { found, known: FORMAT });
    }
    connection.begin_founding()?;
    let upgraded = || -> Result<(), StoreError> {
        // Another process may do it at this moment.
        let found: i64 = connection.one("SELECT number FROM store_format FOR UPDATE", &[])?.try_get(0)?;
        if found < FORMAT {
            // A superuser's would be nobody else's to change.
            connection.batch(&format!("SET LOCAL ROLE {owner}"))?;
            if found < 2 {
                connection.batch(&collated(TABLES_2))?;
            }
            if found < 3 {
                connection.batch(&collated(TABLES_3))?;
            }
            if found < 4 {
                upgrade_to_4(connection)?;
            }
            if found < 5 {
                connection.batch(&collated(TABLES_5))?;
                connection.batch(RIGHTS)?;
                connection.batch(FILL_5)?;
                super::rights::upgrade_to_5(connection)?;
                name_keys(connection)?;
            }
            if found < 6 {
                connection.batch(&collated(TABLES_6))?;
                connection.batch(RIGHTS_6)?;
            }
            if found < 7 {
                connection.batch(&collated(TABLES_7))?;
                connection.batch(RIGHTS_7)?;
            }
            connection.batch(&collated(TABLES_8))?;
            connection.batch(RIGHTS_8)?;
            connection.batch(&format!("UPDATE store_format SET number = {FORMAT}, least = {LEAST}"))?;
        }
        connection.commit()
    };
    upgraded().inspect_err(|_| connection.rollback())
}

/// What format 4 brought, in the transaction that is open.
fn upgrade_to_4(connection: &Connection) -> Result<(), StoreError> {
    connection.batch(&collated(TABLES_4))?;
    connection.batch(FILL_4)?;
    super::rights::upgrade_to_4(connection)?;
    for row in connection.rows("SELECT name, rule FROM device_groups WHERE rule IS NOT NULL", &[])? {
        let (name, rule): (String, String) = (row.try_get(0)?, row.try_get(1)?);
        if let Some(spelled) = crate::stored::spelled_out(&rule)? {
            connection.run("UPDATE device_groups SET rule = $2 WHERE name = $1", &[&name, &spelled])?;
        }
    }
    Ok(())
}

/// Keys that were bound to devices before they had names get those that they have in tokens.
fn name_keys(connection: &Connection) -> Result<(), StoreError> {
    for row in connection.rows("SELECT pk, certificate FROM credentials WHERE origin = 'key' ORDER BY pk", &[])? {
        let (pk, spki): (i64, Vec<u8>) = (row.try_get(0)?, row.try_get(1)?);
        if let Some(kid) = crate::stored::kid_of(&spki) {
            // One that was given up and bound again has its name once.
            let sql = "UPDATE credentials SET kid = $2 WHERE pk = $1 AND NOT EXISTS (SELECT 1 FROM credentials WHERE kid = $2)";
            connection.run(sql, &[&pk, &kid])?;
        }
    }
    Ok(())
}

/// Whether there is a ward in the database.
pub(super) fn is_there(connection: &Connection) -> Result<bool, StoreError> {
    connection.one("SELECT to_regclass('store_format') IS NOT NULL", &[])?.try_get(0).map_err(StoreError::from)
}

/// Whether this program can read and write what is in the database.
pub(super) fn check(connection: &Connection) -> Result<(), StoreError> {
    known(connection.one("SELECT least FROM store_format", &[])?.try_get(0)?)
}

/// Whether this program can work on a ward that only programs with this format or a later one may work on.
pub(super) fn known(least: i64) -> Result<(), StoreError> {
    if least > FORMAT { Err(StoreError::Newer { found: least, known: FORMAT }) } else { Ok(()) }
}
