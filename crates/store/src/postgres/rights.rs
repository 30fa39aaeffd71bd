//! Least right in the database: what posts may do by functions that check, and the roles with their grants.
//!
//! A guard's role writes no row but what it counts and what it says of itself. What it does beyond that leaves an entry in the record,
//! and goes by one function for each act of [`crate::GuardStore`]: the function takes the lock of `head`, decides as the act does, and
//! writes the entry itself, under the name of the post whose login asks. So a guard that was taken over can say that its devices came,
//! and put some on hold; it can revoke nobody, let nobody in, and speak for no other post.
//!
//! The acts stand twice so, in [`crate::acts::usage`] and here; random acts on both must give equal rows and equal hashes.

use tidy_warden_core::asking::WAITS;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::device::Barred;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::post;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::Database;
use super::connection::{CHANNEL, Connection, get};
use super::rows::damaged;
use crate::{
    Answer, Cause, DatabaseAccess, GuardActs, IntroduceRefusal, PostRecord, ReadPosts, ReadRecord, StoreError,
};

/// How far a post's clock may be from the database's for what it writes to be taken, in seconds.
const CLOCK_DIFFERENCE: i64 = 60;

/// The functions. `{schema}` and `{channel}` are put in below.
///
/// Errors that the program tells apart have codes of their own: `TW001` with the place that the ward moved to, `TW002` with the name
/// of a device that is not there.
const FUNCTIONS: &str = r#"
CREATE FUNCTION framed(words TEXT) RETURNS BYTEA LANGUAGE sql IMMUTABLE STRICT SET search_path = {schema}, pg_temp AS $$
    SELECT int8send(octet_length(convert_to(words, 'UTF8'))::bigint) || convert_to(words, 'UTF8')
$$;

CREATE FUNCTION post_name() RETURNS TEXT LANGUAGE sql STABLE SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
    SELECT name FROM posts WHERE login = session_user::text AND retired IS NULL
$$;

CREATE FUNCTION live_posts() RETURNS SETOF TEXT LANGUAGE sql STABLE SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
    SELECT name FROM post_states WHERE alive > clock_timestamp() - interval '15 seconds'
$$;

CREATE FUNCTION guard_begins(act BYTEA, at BIGINT, because TEXT) RETURNS TEXT LANGUAGE plpgsql
SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
DECLARE
    post TEXT;
    away TEXT;
BEGIN
    SELECT name INTO post FROM posts WHERE login = session_user::text AND retired IS NULL AND role = 'guard';
    IF post IS NULL THEN
        RAISE EXCEPTION 'the role % is no guard''s', session_user USING ERRCODE = 'insufficient_privilege';
    END IF;
    IF octet_length(act) <> 16 OR octet_length(because) > 1024 THEN
        RAISE EXCEPTION 'this is not how a guard asks' USING ERRCODE = 'insufficient_privilege';
    END IF;
    SELECT moved INTO away FROM head FOR UPDATE;
    IF away IS NOT NULL THEN
        RAISE EXCEPTION '%', away USING ERRCODE = 'TW001';
    END IF;
    IF NOT (SELECT rehearsal FROM ward) AND abs(at - extract(epoch FROM clock_timestamp())) > {difference} THEN
        RAISE EXCEPTION 'its clock is more than {difference} s from the database''s' USING ERRCODE = 'insufficient_privilege';
    END IF;
    RETURN 'post ' || post;
END $$;

CREATE FUNCTION guard_records(who TEXT, at BIGINT, what TEXT, about TEXT, because TEXT, detail TEXT) RETURNS BIGINT
LANGUAGE plpgsql SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
DECLARE
    latest head%ROWTYPE;
    number BIGINT;
    digest BYTEA;
    peaks BYTEA;
    size BIGINT := 1;
    root BYTEA;
BEGIN
    SELECT * INTO latest FROM head;
    number := latest.change + 1;
    digest := sha256(framed('tidy-warden audit 1') || framed(number::text) || framed(at::text) || framed(who) || framed(what)
        || framed(about) || framed(because) || framed(detail) || latest.hash);
    INSERT INTO audit (number, at, actor, act, subject, because, detail, previous, hash)
        VALUES (number, at, who, what, about, because, detail, latest.hash, digest);
    -- RFC 9162 section 2.1: complete subtrees of one size become one of twice that.
    peaks := latest.tree;
    root := sha256('\x00'::bytea || digest);
    WHILE octet_length(peaks) >= 40 AND substring(peaks FROM octet_length(peaks) - 39 FOR 8) = int8send(size) LOOP
        root := sha256('\x01'::bytea || substring(peaks FROM octet_length(peaks) - 31 FOR 32) || root);
        peaks := substring(peaks FROM 1 FOR octet_length(peaks) - 40);
        size := size * 2;
    END LOOP;
    UPDATE head SET change = number, hash = digest, tree = peaks || int8send(size) || root;
    RETURN number;
END $$;

CREATE FUNCTION guard_ends(act BYTEA, before BIGINT) RETURNS VOID LANGUAGE plpgsql
SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
DECLARE
    number BIGINT := (SELECT change FROM head);
BEGIN
    INSERT INTO acts VALUES (act, number);
    IF number <> before THEN
        PERFORM pg_notify('{channel}', number::text);
    END IF;
END $$;

CREATE FUNCTION guard_did(asked BYTEA) RETURNS BOOLEAN LANGUAGE plpgsql
SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
BEGIN
    -- Whoever still holds the lock may be the very act that is asked for.
    PERFORM change FROM head FOR UPDATE;
    RETURN EXISTS (SELECT 1 FROM acts WHERE act = asked);
END $$;

CREATE FUNCTION credential_name(serial BYTEA, fingerprint BYTEA) RETURNS TEXT LANGUAGE sql IMMUTABLE
SET search_path = {schema}, pg_temp AS $$
    SELECT '"' || encode(coalesce(serial, fingerprint), 'hex') || '"'
$$;

CREATE FUNCTION guard_uses(act BYTEA, at BIGINT, because TEXT, ids TEXT[], fingerprints BYTEA[]) RETURNS VOID
LANGUAGE plpgsql SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
DECLARE
    who TEXT := guard_begins(act, at, because);
    before BIGINT := (SELECT change FROM head);
    the_device BIGINT;
    used credentials%ROWTYPE;
    ended TEXT;
    number BIGINT;
    last BIGINT;
BEGIN
    IF cardinality(ids) > 100000 OR cardinality(ids) <> cardinality(fingerprints) THEN
        RAISE EXCEPTION 'this is not how a guard asks' USING ERRCODE = 'insufficient_privilege';
    END IF;
    FOR place IN 1 .. cardinality(ids) LOOP
        SELECT pk INTO the_device FROM devices WHERE id = ids[place];
        IF NOT FOUND THEN
            RAISE EXCEPTION '%', ids[place] USING ERRCODE = 'TW002';
        END IF;
        SELECT * INTO used FROM credentials WHERE device = the_device AND fingerprint = fingerprints[place]
            ORDER BY pk + 0 DESC LIMIT 1;
        IF FOUND AND used.first_used IS NULL THEN
            SELECT coalesce(string_agg(credential_name(serial, fingerprint), ',' ORDER BY pk DESC), '') INTO ended
                FROM credentials WHERE device = the_device AND pk < used.pk AND superseded_until >= at;
            number := guard_records(who, at, 'credential.first-use', ids[place], because, '{"serial":'
                || credential_name(used.serial, used.fingerprint) || ',"ends":[' || ended || ']}');
            UPDATE devices SET changed = number WHERE pk = the_device;
            UPDATE credentials SET first_used = at, equipped = coalesce(equipped, at) WHERE pk = used.pk;
            UPDATE credentials SET superseded_until = at - 1
                WHERE device = the_device AND pk < used.pk AND superseded_until >= at;
        END IF;
        SELECT seen.at INTO last FROM seen WHERE device = the_device;
        IF NOT FOUND OR guard_uses.at - last >= 60 THEN
            PERFORM one FROM tally FOR UPDATE;
            INSERT INTO seen VALUES (the_device, guard_uses.at) ON CONFLICT (device) DO UPDATE SET at = excluded.at;
        END IF;
    END LOOP;
    PERFORM guard_ends(act, before);
END $$;

CREATE FUNCTION guard_clone_sign(act BYTEA, at BIGINT, because TEXT, the_id TEXT, the_sign TEXT, hold BOOLEAN) RETURNS BOOLEAN
LANGUAGE plpgsql SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
DECLARE
    who TEXT := guard_begins(act, at, because);
    before BIGINT := (SELECT change FROM head);
    the_device devices%ROWTYPE;
    known clone_signs%ROWTYPE;
    serials TEXT;
    number BIGINT;
BEGIN
    IF octet_length(the_sign) > 1024 THEN
        RAISE EXCEPTION 'this is not how a guard asks' USING ERRCODE = 'insufficient_privilege';
    END IF;
    SELECT * INTO the_device FROM devices WHERE id = the_id;
    IF NOT FOUND THEN
        RAISE EXCEPTION '%', the_id USING ERRCODE = 'TW002';
    END IF;
    SELECT * INTO known FROM clone_signs WHERE device = the_device.pk;
    IF NOT FOUND OR at - known.last >= 3600 THEN
        PERFORM guard_records(who, at, 'device.clone-sign', the_id, because, '{"sign":' || to_json(the_sign)::text || '}');
    END IF;
    INSERT INTO clone_signs VALUES (the_device.pk, at, at, 1, the_sign)
        ON CONFLICT (device) DO UPDATE SET last = excluded.last, count = clone_signs.count + 1, sign = excluded.sign;
    hold := hold AND the_device.out IS NULL AND the_device.retired IS NULL AND the_device.held IS NULL;
    IF hold THEN
        SELECT coalesce(string_agg(credential_name(serial, fingerprint), ',' ORDER BY pk DESC), '') INTO serials
            FROM credentials WHERE device = the_device.pk AND revoked IS NULL AND not_after >= at AND origin = 'issued';
        number := guard_records(who, at, 'hold', the_id, because, '{"serials":[' || serials || ']}');
        UPDATE authorities SET crl_pending = number WHERE pk IN (SELECT authority FROM credentials
            WHERE device = the_device.pk AND revoked IS NULL AND not_after >= at AND origin = 'issued');
        UPDATE devices SET changed = number WHERE id = the_device.gateway;
        UPDATE devices SET changed = number, held = at WHERE pk = the_device.pk;
    END IF;
    PERFORM guard_ends(act, before);
    RETURN hold;
END $$;

CREATE FUNCTION guard_note(act BYTEA, at BIGINT, because TEXT, actor TEXT, what TEXT, about TEXT, detail TEXT) RETURNS BIGINT
LANGUAGE plpgsql SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
DECLARE
    who TEXT := guard_begins(act, at, because);
    before BIGINT := (SELECT change FROM head);
    number BIGINT;
BEGIN
    IF what NOT IN ('messages.watch', 'messages.clear') OR octet_length(detail) > 262144 OR octet_length(about) > 131072
        OR octet_length(actor) > 1024 OR json_typeof(detail::json) <> 'object' THEN
        RAISE EXCEPTION 'this is not how a guard asks' USING ERRCODE = 'insufficient_privilege';
    END IF;
    number := guard_records(actor || ' at ' || who, at, what, about, because, detail);
    PERFORM guard_ends(act, before);
    RETURN number;
END $$;
"#;

/// The function that came with format 4. What a guard tells of is told to a person, or to a desk that looks at policies and settings
/// itself: nobody is listed by it. `{waits}` is how long.
const FUNCTIONS_4: &str = r#"
CREATE FUNCTION stays_revoked() RETURNS TRIGGER LANGUAGE plpgsql SET search_path = {schema}, pg_temp AS $$
BEGIN
    RAISE EXCEPTION 'what is revoked stays revoked' USING ERRCODE = 'insufficient_privilege';
END $$;

CREATE FUNCTION guard_introduces(act BYTEA, at BIGINT, because TEXT, the_child TEXT, the_kind TEXT, the_gateway TEXT, most BIGINT)
RETURNS TABLE (said TEXT, this TEXT, that TEXT) LANGUAGE plpgsql SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
DECLARE
    who TEXT := guard_begins(act, at, because);
    before BIGINT := (SELECT change FROM head);
    name TEXT := '^[a-z0-9]([a-z0-9.-]{0,62}[a-z0-9])?$';
    known introduced%ROWTYPE;
    above devices%ROWTYPE;
    is_new BOOLEAN;
BEGIN
    IF the_child COLLATE "C" !~ name OR the_kind COLLATE "C" !~ name OR most NOT BETWEEN 0 AND 4294967295 THEN
        RAISE EXCEPTION 'this is not how a guard asks' USING ERRCODE = 'insufficient_privilege';
    END IF;
    SELECT * INTO known FROM introduced WHERE child = the_child;
    is_new := NOT FOUND;
    said := CASE
        WHEN is_new THEN NULL
        WHEN known.gateway <> the_gateway OR known.kind <> the_kind THEN 'other'
        WHEN known.state = 'refused' THEN 'refused'
        WHEN known.state = 'accepted' THEN 'known'
        WHEN known.until >= at THEN 'waits' END;
    IF said = 'other' THEN
        this := known.kind;
        that := known.gateway;
    END IF;
    IF said IS NULL AND EXISTS (SELECT 1 FROM devices WHERE id = the_child) THEN
        said := 'known';
    ELSIF said IS NULL AND EXISTS (SELECT 1 FROM admissions WHERE device = the_child) THEN
        said := 'admitted';
    END IF;
    IF said IS NULL THEN
        SELECT * INTO above FROM devices WHERE id = the_gateway;
        IF NOT FOUND THEN
            RAISE EXCEPTION '%', the_gateway USING ERRCODE = 'TW002';
        END IF;
        said := CASE
            WHEN above.retired IS NOT NULL THEN 'retired'
            WHEN above.out IS NOT NULL THEN 'out'
            WHEN above.held IS NOT NULL THEN 'held'
            WHEN above.gateway IS NOT NULL THEN 'behind'
            WHEN is_new AND (SELECT count(*) FROM introduced WHERE gateway = the_gateway AND kind = the_kind) >= most THEN 'full' END;
        this := coalesce(above.retired, above.out, above.held)::text;
        that := above.gateway;
    END IF;
    IF said IS NULL THEN
        IF EXISTS (SELECT 1 FROM introduced WHERE state = 'waits' OFFSET 99999) THEN
            RAISE EXCEPTION 'too many children wait for a person' USING ERRCODE = 'insufficient_privilege';
        END IF;
        PERFORM guard_records(who, at, 'device.introduce', the_child, because, '{"gateway":"' || the_gateway || '","kind":"' || the_kind
            || '","labels":' || above.labels::text || ',"state":"waits","ends":"'
            || to_char(to_timestamp(at + {waits}) AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"') || '"}');
        INSERT INTO introduced VALUES (the_child, the_gateway, the_kind, above.labels, at, at + {waits}, 'waits')
            ON CONFLICT ON CONSTRAINT introduced_pkey DO UPDATE SET labels = excluded.labels, since = excluded.since, until = excluded.until,
                state = excluded.state;
        said := 'waits';
    END IF;
    PERFORM guard_ends(act, before);
    RETURN NEXT;
END $$;
"#;

/// Those that nobody may call but the others.
const INNER: [&str; 5] = ["framed", "guard_begins", "guard_records", "guard_ends", "credential_name"];

/// Those that are a guard's acts.
const GUARD_ACTS: [&str; 5] = ["guard_did", "guard_uses", "guard_clone_sign", "guard_note", "guard_introduces"];

/// What a guard and a desk read.
const READ_BY_POSTS: [&str; 17] = [
    "store_format",
    "ward",
    "head",
    "tally",
    "servers",
    "authorities",
    "crosses",
    "devices",
    "facts",
    "seen",
    "credentials",
    "blocked_keys",
    "editions",
    "device_groups",
    "trials",
    "clone_signs",
    "adopted_settings",
];

/// What a guard counts.
const TALLIES: [&str; 5] = ["traffic", "seen", "trial_differences", "broker_sessions", "places"];

/// What a desk reads beside what guards read.
const READ_BY_DESKS: [&str; 11] = [
    "introduced",
    "former_servers",
    "asking",
    "admissions",
    "admission_facts",
    "audit",
    "intended",
    "lost_serials",
    "field_names",
    "retired_facts",
    "acts",
];

/// What a desk writes: devices that come in and what they are given, who waits, lists that were signed, and the record of it. Columns by
/// which a person's decisions stand (holds, revocations of devices, groups, editions, posts) are not among them.
const WRITTEN_BY_DESKS: [(&str, &str); 16] = [
    ("INSERT, UPDATE (changed)", "devices"),
    ("INSERT", "facts"),
    ("INSERT", "field_names"),
    ("INSERT, UPDATE (authority, equipped, first_used, superseded_until, revoked, reason)", "credentials"),
    ("UPDATE (state, ended, credential)", "admissions"),
    ("DELETE", "admission_facts"),
    ("INSERT, UPDATE, DELETE", "asking"),
    ("INSERT, UPDATE", "introduced"),
    ("UPDATE (crl_number, crl_at, crl_pending)", "authorities"),
    ("INSERT (change, hash, tree), UPDATE (change, hash, tree)", "head"),
    ("INSERT", "audit"),
    ("INSERT, DELETE", "acts"),
    ("DELETE", "lost_serials"),
    ("INSERT", "blocked_keys"),
    ("INSERT", "seen"),
    ("UPDATE", "tally"),
];

/// What only whoever works on the ward reads beside that.
const READ_BY_READERS: [&str; 15] = [
    "retired_facts",
    "introduced",
    "former_servers",
    "asking",
    "admissions",
    "admission_facts",
    "audit",
    "jobs",
    "job_parts",
    "intended",
    "lost_serials",
    "pending_authorities",
    "field_names",
    "traffic",
    "trial_differences",
];

/// A name as SQL takes it, whatever stands in it.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A text as SQL takes it.
fn text(words: &str) -> String {
    format!("'{}'", words.replace('\'', "''"))
}

/// Makes functions as they are meant here.
fn make(connection: &Connection, functions: &str) -> Result<(), StoreError> {
    let schema: String = get(&connection.one("SELECT current_schema()::text", &[])?, 0)?;
    let functions = functions
        .replace("{schema}", &quoted(&schema))
        .replace("{channel}", CHANNEL)
        .replace("{waits}", &WAITS.seconds().to_string())
        .replace("{difference}", &CLOCK_DIFFERENCE.to_string());
    connection.batch(&functions)
}

/// What format 4 brought, in the transaction that is open. Nobody may call it until `store roles` says so.
pub(super) fn upgrade_to_4(connection: &Connection) -> Result<(), StoreError> {
    make(connection, FUNCTIONS_4)?;
    connection.batch("REVOKE ALL ON FUNCTION guard_introduces FROM PUBLIC")?;
    connection.batch(ROWS_4)
}

/// What is revoked stays so, whoever writes: a desk's role may revoke what it gave, and take back nothing. And who may read and write the
/// record may do so with each row, but that a desk writes under its own name alone (see [`grants`]).
const ROWS_4: &str =
    "ALTER TABLE audit ENABLE ROW LEVEL SECURITY; CREATE POLICY every ON audit USING (true) WITH CHECK (true);
     CREATE TRIGGER revoked_for_good BEFORE UPDATE OF revoked ON credentials FOR EACH ROW
         WHEN (OLD.revoked IS NOT NULL AND NEW.revoked IS DISTINCT FROM OLD.revoked) EXECUTE FUNCTION stays_revoked()";

/// Makes the functions, in the transaction that is open. Nobody else may call them until `store roles` says so.
pub(super) fn create(connection: &Connection) -> Result<(), StoreError> {
    make(connection, FUNCTIONS)?;
    make(connection, FUNCTIONS_4)?;
    let all: Vec<&str> = INNER.iter().chain(&GUARD_ACTS).chain(&["post_name", "live_posts"]).copied().collect();
    connection.batch(&format!("REVOKE ALL ON FUNCTION {} FROM PUBLIC", all.join(", ")))?;
    connection.batch(ROWS_4)?;
    connection
        .batch("ALTER TABLE post_states ENABLE ROW LEVEL SECURITY; ALTER TABLE sessions ENABLE ROW LEVEL SECURITY")
}

/// The roles of a ward's database with their rights, as SQL for whoever may make roles there; it may be run again at any time, and must
/// be after each post that is added or retired.
///
/// # Errors
/// There is no ward, the database cannot be reached, or names would be too long for it.
pub fn roles(access: DatabaseAccess) -> Result<String, StoreError> {
    let store = super::opened(access, None)?;
    let sql = "SELECT current_database()::text, relnamespace::regnamespace::text, pg_get_userbyid(relowner)::text
         FROM pg_class WHERE oid = 'store_format'::regclass";
    let row = store.connection.one(sql, &[])?;
    let (database, schema, owner): (String, String, String) = (get(&row, 0)?, get(&row, 1)?, get(&row, 2)?);
    let group = |of: &str| {
        let detail = format!("the name `{database}` of the database is too long for roles that begin with it");
        post::group(&database, of).ok_or(StoreError::Unsafe { detail })
    };
    let groups = [group("operator")?, group("guard")?, group("desk")?, group("reader")?];
    let [operators, guards, desks, readers] = groups.each_ref().map(|group| quoted(group));
    let names = Names { operators, guards, desks, readers, schema };
    let mut sql = head(&names, &database, &owner);
    groups.iter().for_each(|group| sql.push_str(&made(group)));
    sql.push_str(&grants(&names));
    store.posts()?.iter().for_each(|post| sql.push_str(&login(&names, post)));
    sql.push_str("\nCOMMIT;\n");
    Ok(sql)
}

/// The roles that are groups, quoted, and where the tables are.
struct Names {
    operators: String,
    guards: String,
    desks: String,
    readers: String,
    /// As the database writes it.
    schema: String,
}

impl Names {
    fn all(&self) -> String {
        [&*self.operators, &self.guards, &self.desks, &self.readers].join(", ")
    }

    fn tables(&self, tables: &[&str]) -> String {
        tables.iter().map(|table| format!("{}.{table}", self.schema)).collect::<Vec<_>>().join(", ")
    }
}

/// What stands above all.
fn head(names: &Names, database: &str, owner: &str) -> String {
    let Names { operators, guards, desks, readers, .. } = names;
    format!(
        "-- Roles and rights of the ward in the database {database}, written by `store roles`.\n\
         -- To be run by somebody who may make roles and is a superuser or {owner}, and again after each `post add` and\n\
         -- `post retire`:  psql -d {database} -f FILE\n\
         --\n\
         --   {operators}  people at the command line: every act, nothing of the record changed or deleted\n\
         --   {guards}  guards: what they read, what they count, and their acts by functions that check\n\
         --   {desks}  desks: what they read, and whom they let in\n\
         --   {readers}  whoever only looks\n\
         \nBEGIN;\n\n"
    )
}

/// What each group may do.
fn grants(names: &Names) -> String {
    let Names { operators, guards, desks, readers, schema } = names;
    let (all, tables) = (names.all(), super::schema::names());
    let mut sql = String::new();
    sql.push_str(&format!(
        "\nREVOKE CREATE ON SCHEMA {schema} FROM PUBLIC;\nGRANT USAGE ON SCHEMA {schema} TO {all};\n"
    ));
    sql.push_str(&format!("REVOKE ALL ON {} FROM PUBLIC, {all};\n\n", names.tables(&tables)));
    let (kept, free): (Vec<&str>, Vec<&str>) =
        tables.iter().partition(|table| ["audit", "store_format"].contains(*table));
    sql.push_str(&format!("GRANT SELECT, INSERT, UPDATE, DELETE ON {} TO {operators};\n", names.tables(&free)));
    sql.push_str(&format!("GRANT SELECT, INSERT ON {} TO {operators};\n\n", names.tables(&kept)));
    sql.push_str(&format!("GRANT SELECT ON {} TO {guards}, {desks}, {readers};\n", names.tables(&READ_BY_POSTS)));
    sql.push_str(&format!("GRANT SELECT (number, hash) ON {} TO {guards}, {desks};\n", names.tables(&["audit"])));
    sql.push_str(&format!("GRANT SELECT, INSERT, UPDATE ON {} TO {guards};\n", names.tables(&TALLIES)));
    sql.push_str(&format!("GRANT DELETE ON {} TO {guards};\n", names.tables(&["broker_sessions"])));
    sql.push_str(&format!("GRANT UPDATE ON {} TO {guards}, {desks};\n", names.tables(&["tally"])));
    sql.push_str(&format!("GRANT SELECT ON {} TO {desks};\n", names.tables(&READ_BY_DESKS)));
    for (rights, table) in WRITTEN_BY_DESKS {
        sql.push_str(&format!("GRANT {rights} ON {} TO {desks};\n", names.tables(&[table])));
    }
    let audit = names.tables(&["audit"]);
    sql.push_str(&format!(
        "DROP POLICY IF EXISTS by_desks ON {audit};\n\
         CREATE POLICY by_desks ON {audit} AS RESTRICTIVE FOR INSERT TO {desks} WITH CHECK (actor = 'post ' || {schema}.post_name());\n"
    ));
    sql.push_str(&format!("GRANT SELECT ON {} TO {readers};\n", names.tables(&READ_BY_READERS)));
    sql.push_str(&format!(
        "GRANT SELECT (name, role, host, login, certificate, added, retired) ON {} TO {readers}, {desks};\n\n",
        names.tables(&["posts"])
    ));
    // Each post has its own row, and no other's.
    let states = names.tables(&["post_states"]);
    sql.push_str(&format!(
        "GRANT SELECT, INSERT, UPDATE ON {states} TO {guards}, {desks};\nGRANT SELECT ON {states} TO {readers};\n"
    ));
    sql.push_str(&format!(
        "DROP POLICY IF EXISTS own ON {states};\nDROP POLICY IF EXISTS every ON {states};\n\
         CREATE POLICY own ON {states} TO {guards}, {desks} USING (name = {schema}.post_name()) WITH CHECK (name = {schema}.post_name());\n\
         CREATE POLICY every ON {states} TO {operators}, {readers} USING (true) WITH CHECK (true);\n\n"
    ));
    let sessions = names.tables(&["sessions"]);
    sql.push_str(&format!(
        "GRANT SELECT, INSERT, UPDATE, DELETE ON {sessions} TO {guards};\nGRANT SELECT ON {sessions} TO {readers};\n\
         DROP POLICY IF EXISTS own ON {sessions};\nDROP POLICY IF EXISTS seen ON {sessions};\nDROP POLICY IF EXISTS every ON {sessions};\n\
         CREATE POLICY own ON {sessions} TO {guards} USING (post = {schema}.post_name()) WITH CHECK (post = {schema}.post_name());\n\
         CREATE POLICY seen ON {sessions} FOR SELECT TO {guards} USING (true);\n\
         CREATE POLICY every ON {sessions} TO {operators}, {readers} USING (true) WITH CHECK (true);\n\n"
    ));
    let acts = GUARD_ACTS.map(|act| format!("{schema}.{act}")).join(", ");
    sql.push_str(&format!(
        "GRANT EXECUTE ON FUNCTION {acts} TO {guards};\nGRANT EXECUTE ON FUNCTION {schema}.post_name, {schema}.live_posts TO {guards}, {desks};\n"
    ));
    sql
}

/// A role, made if it is not there.
fn made(role: &str) -> String {
    let (name, quoted) = (text(role), quoted(role));
    format!(
        "DO $$ BEGIN IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = {name}) THEN CREATE ROLE {quoted} NOLOGIN; END IF; END $$;\n"
    )
}

/// What a post signs in as.
fn login(names: &Names, post: &PostRecord) -> String {
    let role = quoted(&post.login);
    let group = match post.role {
        post::PostRole::Guard => &names.guards,
        post::PostRole::Desk => &names.desks,
    };
    let mut sql = format!("\n{}", made(&post.login));
    if post.retired.is_some() {
        sql.push_str(&format!("ALTER ROLE {role} NOLOGIN PASSWORD NULL;\nREVOKE {} FROM {role};\n", names.all()));
        let name = text(&post.login);
        sql.push_str(&format!(
            "SELECT count(pg_terminate_backend(pid)) AS ended FROM pg_stat_activity WHERE usename = {name};\n"
        ));
        return sql;
    }
    let password = if post.verifier.is_empty() { "NULL".to_owned() } else { text(&post.verifier) };
    sql.push_str(&format!(
        "ALTER ROLE {role} LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS CONNECTION LIMIT 16 PASSWORD {password};\n\
         GRANT {group} TO {role};\n"
    ));
    sql
}

/// What a database checks a password by: `SCRAM-SHA-256$ITERATIONS:SALT$STOREDKEY:SERVERKEY` (RFC 5803, as the database writes it).
/// It tells nothing of a password that cannot be guessed.
#[must_use]
pub fn verifier(password: &str) -> String {
    postgres_protocol::password::scram_sha_256(password.as_bytes())
}

impl Database {
    /// Asks a function for an act, which it makes whole or not at all; `values` stand behind the act's random name, its time and its
    /// reason. If the connection breaks over it, looks up what became of it; `lost` is the answer if it was done then.
    fn guard_act<T>(
        &mut self,
        call: &str,
        cause: &Cause,
        values: &[&(dyn ToSql + Sync)],
        read: impl FnOnce(&Row) -> Result<T, StoreError>,
        lost: T,
    ) -> Result<T, StoreError> {
        let act = super::act_name()?;
        let act: &[u8] = &act;
        let mut all: Vec<&(dyn ToSql + Sync)> = vec![&act, &cause.at.0, &cause.because];
        all.extend(values);
        match self.connection.guard_act(call, &all, act)? {
            Some(row) => read(&row),
            None => Ok(lost),
        }
    }
}

impl GuardActs for Database {
    fn record_uses(&mut self, uses: &[(DeviceId, Option<Fingerprint>)], cause: &Cause) -> Result<(), StoreError> {
        let ids: Vec<&str> = uses.iter().map(|(id, _)| id.as_str()).collect();
        let fingerprints: Vec<Option<&[u8]>> =
            uses.iter().map(|(_, used)| used.as_ref().map(|used| used.0.as_slice())).collect();
        let call = "SELECT guard_uses($1, $2, $3, $4, $5) IS NULL";
        self.guard_act(call, cause, &[&ids, &fingerprints], |_| Ok(()), ())
    }

    fn record_clone_sign(&mut self, id: &DeviceId, sign: &str, hold: bool, cause: &Cause) -> Result<bool, StoreError> {
        let call = "SELECT guard_clone_sign($1, $2, $3, $4, $5, $6)";
        self.guard_act(call, cause, &[&id.as_str(), &sign, &hold], |row| get(row, 0), hold)
    }

    fn record_note(
        &mut self,
        act: &'static str,
        subject: &str,
        detail: &str,
        cause: &Cause,
    ) -> Result<i64, StoreError> {
        let call = "SELECT guard_note($1, $2, $3, $4, $5, $6, $7)";
        let values: [&(dyn ToSql + Sync); 4] = [&cause.actor, &act, &subject, &detail];
        let lost = self.audit_end()?.0;
        self.guard_act(call, cause, &values, |row| get(row, 0), lost)
    }

    fn introduce_child(
        &mut self,
        new: &IntroducedRecord,
        most: u32,
        cause: &Cause,
    ) -> Answer<IntroducedState, IntroduceRefusal> {
        let call = "SELECT said, this, that FROM guard_introduces($1, $2, $3, $4, $5, $6, $7)";
        let (child, kind, gateway) = (new.child.clone(), new.kind.clone(), new.gateway.clone());
        let values: [&(dyn ToSql + Sync); 4] = [&child.as_str(), &kind.as_str(), &gateway.as_str(), &i64::from(most)];
        let read = |row: &Row| {
            let (said, this, that): (&str, Option<&str>, Option<&str>) = (get(row, 0)?, get(row, 1)?, get(row, 2)?);
            let (this, that) = (this.unwrap_or_default(), that.unwrap_or_default());
            let since = || this.parse().map(UnixTime).map_err(|_| damaged("answer"));
            let barred =
                |barred: Barred| IntroduceRefusal::Gateway { gateway: gateway.clone(), why: barred.to_string() };
            Ok(Err(match said {
                "waits" => return Ok(Ok(IntroducedState::Waits)),
                "known" => IntroduceRefusal::Known(child.clone()),
                "admitted" => IntroduceRefusal::Admitted(child.clone()),
                "refused" => IntroduceRefusal::Refused(child.clone()),
                "full" => IntroduceRefusal::Full { gateway: gateway.clone(), kind: kind.clone(), most },
                "retired" => barred(Barred::Retired(since()?)),
                "out" => barred(Barred::Out(since()?)),
                "held" => barred(Barred::Held(since()?)),
                "behind" => IntroduceRefusal::Gateway {
                    gateway: gateway.clone(),
                    why: format!("it stands behind `{that}` itself"),
                },
                "other" => {
                    let parsed = (this.parse(), that.parse());
                    let (Ok(kind), Ok(gateway)) = parsed else { return Err(damaged("answer")) };
                    IntroduceRefusal::Other { child: child.clone(), kind, gateway }
                }
                _ => return Err(damaged("answer")),
            }))
        };
        self.guard_act(call, cause, &values, read, Ok(IntroducedState::Waits))
    }
}
