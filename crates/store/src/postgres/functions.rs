//! What posts may do by functions that check, written in the database's own language: the acts of a guard, which stand twice so, in
//! [`crate::acts::usage`] and here; random acts on both must give equal rows and equal hashes.

use tidy_warden_core::asking::WAITS;

use super::connection::{CHANNEL, Connection, get};
use super::rights::{CLOCK_DIFFERENCE, quoted};
use crate::StoreError;

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
pub(super) const FUNCTIONS_4: &str = r#"
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

/// How credentials that devices used are recorded, as it is since format 5: keys and certificates are replaced apart.
pub(super) const GUARD_USES: &str = r#"
CREATE OR REPLACE FUNCTION guard_uses(act BYTEA, at BIGINT, because TEXT, ids TEXT[], fingerprints BYTEA[]) RETURNS VOID
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
                FROM credentials WHERE device = the_device AND pk < used.pk AND superseded_until >= at
                    AND (origin IN ('key', 'shared')) = (used.origin IN ('key', 'shared'));
            number := guard_records(who, at, 'credential.first-use', ids[place], because, '{"serial":'
                || credential_name(used.serial, used.fingerprint) || ',"ends":[' || ended || ']}');
            UPDATE devices SET changed = number WHERE pk = the_device;
            UPDATE credentials SET first_used = at, equipped = coalesce(equipped, at) WHERE pk = used.pk;
            UPDATE credentials SET superseded_until = at - 1
                WHERE device = the_device AND pk < used.pk AND superseded_until >= at
                    AND (origin IN ('key', 'shared')) = (used.origin IN ('key', 'shared'));
        END IF;
        SELECT seen.at INTO last FROM seen WHERE device = the_device;
        IF NOT FOUND OR guard_uses.at - last >= 60 THEN
            PERFORM one FROM tally FOR UPDATE;
            INSERT INTO seen VALUES (the_device, guard_uses.at) ON CONFLICT (device) DO UPDATE SET at = excluded.at;
        END IF;
    END LOOP;
    PERFORM guard_ends(act, before);
END $$;
"#;

/// Those that nobody may call but the others.
pub(super) const INNER: [&str; 5] = ["framed", "guard_begins", "guard_records", "guard_ends", "credential_name"];

/// Those that are a guard's acts.
pub(super) const GUARD_ACTS: [&str; 5] =
    ["guard_did", "guard_uses", "guard_clone_sign", "guard_note", "guard_introduces"];

/// Makes functions as they are meant here.
pub(super) fn make(connection: &Connection, functions: &str) -> Result<(), StoreError> {
    let schema: String = get(&connection.one("SELECT current_schema()::text", &[])?, 0)?;
    let functions = functions
        .replace("{schema}", &quoted(&schema))
        .replace("{channel}", CHANNEL)
        .replace("{waits}", &WAITS.seconds().to_string())
        .replace("{difference}", &CLOCK_DIFFERENCE.to_string());
    connection.batch(&functions)
}

/// Makes all of them.
pub(super) fn make_all(connection: &Connection) -> Result<(), StoreError> {
    [FUNCTIONS, GUARD_USES, FUNCTIONS_4].into_iter().try_for_each(|functions| make(connection, functions))
}
