//! Least right in the database: what posts may do by functions that check, and the roles with their grants.
//!
//! A guard's role writes no row but what it counts and what it says of itself. What it does beyond that leaves an entry in the record,
//! and goes by one function for each act of [`crate::GuardStore`]: the function takes the lock of `head`, decides as the act does, and
//! writes the entry itself, under the name of the post whose login asks. So a guard that was taken over can say that its devices came,
//! and put some on hold; it can revoke nobody, let nobody in, and speak for no other post.
//!
//! The functions themselves stand in [`super::functions`].

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::device::Barred;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::post;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::Database;
use super::connection::{Connection, get};
use super::functions::{self, FUNCTIONS_4, GUARD_ACTS, GUARD_USES, INNER};
use super::rows::damaged;
use crate::{
    Answer, Cause, DatabaseAccess, GuardActs, IntroduceRefusal, PostRecord, ReadPosts, ReadRecord, StoreError,
};

/// How far a post's clock may be from the database's for what it writes to be taken, in seconds.
pub(super) const CLOCK_DIFFERENCE: i64 = 60;

/// What a guard and a desk read.
const READ_BY_POSTS: [&str; 22] = [
    "errands",
    "former_servers",
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
    "token_signers",
    "token_blocks",
    "key_wraps",
];

/// What a guard counts.
const TALLIES: [&str; 9] = [
    "claim_windows",
    "device_events",
    "errand_traffic",
    "evidence",
    "traffic",
    "seen",
    "trial_differences",
    "broker_sessions",
    "places",
];

/// What a desk reads beside what guards read.
const READ_BY_DESKS: [&str; 10] = [
    "introduced",
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
    ("UPDATE (crl_number, crl_at, crl_pending, crl_until)", "authorities"),
    ("INSERT (change, hash, tree), UPDATE (change, hash, tree)", "head"),
    ("INSERT", "audit"),
    ("INSERT, DELETE", "acts"),
    ("DELETE", "lost_serials"),
    ("INSERT", "blocked_keys"),
    ("INSERT", "seen"),
    ("UPDATE", "tally"),
];

/// What only whoever works on the ward reads beside that.
const READ_BY_READERS: [&str; 25] = [
    "owners",
    "claims",
    "claim_windows",
    "hand_overs",
    "ownerships",
    "notices",
    "evidence",
    "reflex_progress",
    "reflex_hits",
    "device_events",
    "errand_traffic",
    "retired_facts",
    "introduced",
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
pub(super) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A text as SQL takes it.
fn text(words: &str) -> String {
    format!("'{}'", words.replace('\'', "''"))
}

/// What format 4 brought, in the transaction that is open. Nobody may call it until `store roles` says so.
pub(super) fn upgrade_to_4(connection: &Connection) -> Result<(), StoreError> {
    functions::make(connection, FUNCTIONS_4)?;
    connection.batch("REVOKE ALL ON FUNCTION guard_introduces FROM PUBLIC")?;
    connection.batch(ROWS_4)
}

/// What format 5 brought, in the transaction that is open: keys and certificates are replaced apart.
pub(super) fn upgrade_to_5(connection: &Connection) -> Result<(), StoreError> {
    functions::make(connection, GUARD_USES)
}

/// What is revoked stays so, whoever writes: a desk's role may revoke what it gave, and take back nothing. And who may read and write the
/// record may do so with each row, but that a desk writes under its own name alone (see [`grants`]).
const ROWS_4: &str =
    "ALTER TABLE audit ENABLE ROW LEVEL SECURITY; CREATE POLICY every ON audit USING (true) WITH CHECK (true);
     CREATE TRIGGER revoked_for_good BEFORE UPDATE OF revoked ON credentials FOR EACH ROW
         WHEN (OLD.revoked IS NOT NULL AND NEW.revoked IS DISTINCT FROM OLD.revoked) EXECUTE FUNCTION stays_revoked()";

/// Makes the functions, in the transaction that is open. Nobody else may call them until `store roles` says so.
pub(super) fn create(connection: &Connection) -> Result<(), StoreError> {
    functions::make_all(connection)?;
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
