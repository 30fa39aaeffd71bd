CREATE TABLE meta (key TEXT PRIMARY KEY, value) WITHOUT ROWID;
CREATE TABLE authorities (
    pk INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, role TEXT NOT NULL, certificate BLOB NOT NULL,
    created INTEGER NOT NULL, crl_number INTEGER NOT NULL DEFAULT 0, crl_at INTEGER,
    crl_pending INTEGER NOT NULL DEFAULT 0, key_place TEXT NOT NULL DEFAULT 'ward', token TEXT, token_label TEXT,
    replaces TEXT, retired INTEGER, trust_kinds TEXT, trust_fact TEXT, credentials_before INTEGER NOT NULL DEFAULT 0
, crl_until INTEGER);
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
, note TEXT, renew_asked INTEGER);
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
, authorised_by BLOB, kid TEXT, key_note TEXT);
CREATE INDEX credentials_by_serial ON credentials (serial);
CREATE INDEX credentials_by_fingerprint ON credentials (fingerprint_head);
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
CREATE TABLE traffic (
    device INTEGER PRIMARY KEY REFERENCES devices, messages_in INTEGER NOT NULL DEFAULT 0,
    octets_in INTEGER NOT NULL DEFAULT 0, messages_out INTEGER NOT NULL DEFAULT 0,
    octets_out INTEGER NOT NULL DEFAULT 0, refusals INTEGER NOT NULL DEFAULT 0, refused_at INTEGER, refused TEXT
);
CREATE TABLE clone_signs (
    device INTEGER PRIMARY KEY REFERENCES devices, first INTEGER NOT NULL, last INTEGER NOT NULL,
    count INTEGER NOT NULL, sign TEXT NOT NULL
);
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
CREATE TABLE jobs (
    number INTEGER PRIMARY KEY, kind TEXT NOT NULL, digest BLOB NOT NULL, plan TEXT NOT NULL, position TEXT NOT NULL,
    begun INTEGER NOT NULL, actor TEXT NOT NULL, because TEXT NOT NULL, holder TEXT, lease INTEGER, ended INTEGER,
    stopped INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX jobs_open ON jobs (number) WHERE ended IS NULL;
CREATE TABLE job_parts (
    job INTEGER NOT NULL REFERENCES jobs, place INTEGER NOT NULL, text TEXT NOT NULL, PRIMARY KEY (job, place)
) WITHOUT ROWID;
CREATE TABLE field_names (is_fact INTEGER NOT NULL, name TEXT NOT NULL, shared INTEGER, PRIMARY KEY (is_fact, name)) WITHOUT ROWID;
CREATE INDEX credentials_by_end ON credentials (min(not_after, ifnull(superseded_until, not_after)));
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
CREATE TABLE admissions (
    number INTEGER PRIMARY KEY, device TEXT NOT NULL, kind TEXT NOT NULL, labels TEXT NOT NULL, facts TEXT NOT NULL,
    gateway TEXT, proof TEXT NOT NULL, digest BLOB, opened INTEGER NOT NULL, until INTEGER NOT NULL, state TEXT,
    ended INTEGER, credential BLOB
, owner TEXT);
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
CREATE TABLE introduced (
    child TEXT PRIMARY KEY, gateway TEXT NOT NULL, kind TEXT NOT NULL, labels TEXT NOT NULL, since INTEGER NOT NULL,
    until INTEGER NOT NULL, state TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX introduced_by_gateway ON introduced (gateway, kind);
CREATE INDEX introduced_waiting ON introduced (since, child) WHERE state = 'waits';
CREATE TABLE former_servers (fingerprint BLOB PRIMARY KEY, name TEXT NOT NULL, certificate BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE retired_facts (
    name TEXT NOT NULL, value TEXT NOT NULL, device INTEGER NOT NULL REFERENCES devices, PRIMARY KEY (name, value)
) WITHOUT ROWID;
CREATE INDEX credentials_derived ON credentials (authorised_by) WHERE authorised_by IS NOT NULL;
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
CREATE UNIQUE INDEX credentials_by_kid ON credentials (kid) WHERE kid IS NOT NULL;
CREATE INDEX credentials_by_device ON credentials (
    device, origin, authority, not_before, not_after, superseded_until, revoked, authorised_by, kid
);
CREATE INDEX admissions_by_end ON admissions (until, number) WHERE state IS NULL;
CREATE INDEX audit_by_subject ON audit (subject, number);
CREATE TABLE device_events (
    device INTEGER NOT NULL REFERENCES devices, slot INTEGER NOT NULL, number INTEGER NOT NULL, at INTEGER NOT NULL,
    what TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (device, slot)
) WITHOUT ROWID;
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
