//! The ward and its record.

use rusqlite::{Connection, OptionalExtension, ToSql, params};
use tidy_warden_core::audit::{Entry, GENESIS, Hash, Tree};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged};
use super::{Sql, SqliteTx};
use crate::{Head, ReadRecord, StoreError, WardRecord, WriteRecord};

const AUTHORITIES_CHANGED: &str = "authorities_changed";
const SERVERS_CHANGED: &str = "servers_changed";
const TOKENS_CHANGED: &str = "tokens_changed";
const GROUPS_CHANGED: &str = "group_rules_changed";

fn meta<T: rusqlite::types::FromSql>(connection: &Connection, key: &str) -> Result<Option<T>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT value FROM meta WHERE key = ?1")?;
    Ok(statement.query_row([key], |row| row.get(0)).optional()?)
}

fn set_meta(connection: &Connection, key: &str, value: &dyn rusqlite::ToSql) -> Result<(), StoreError> {
    let sql = "INSERT INTO meta (key, value) VALUES (?1, ?2) ON CONFLICT (key) DO UPDATE SET value = ?2";
    connection.prepare_cached(sql)?.execute(params![key, value])?;
    Ok(())
}

/// Notes at which change number authorities were added or retired last.
pub(super) fn put_authorities_changed(connection: &Connection, change: i64) -> Result<(), StoreError> {
    set_meta(connection, AUTHORITIES_CHANGED, &change)
}

/// Writes [`Head::tokens`].
pub(super) fn put_tokens_changed(connection: &Connection, change: i64) -> Result<(), StoreError> {
    set_meta(connection, TOKENS_CHANGED, &change)
}

/// Notes at which change number the groups changed last that conditions of policies could name.
pub(super) fn put_groups_changed(connection: &Connection, change: i64) -> Result<(), StoreError> {
    set_meta(connection, GROUPS_CHANGED, &change)
}

const TREE: &str = "audit_tree";

const DOUBT: &str = "doubt";

/// Computes the tree over a record that was written before there was one beside it.
pub(super) fn plant_tree(connection: &Connection) -> Result<(), StoreError> {
    let mut tree = Tree::default();
    let mut statement = connection.prepare("SELECT hash FROM audit ORDER BY number")?;
    let mut found = statement.query([])?;
    while let Some(row) = found.next()? {
        // A hash of another length was tampered with, as `audit verify` will say.
        tree.add(&row.get::<_, Vec<u8>>(0)?.try_into().unwrap_or([0xff; 32]));
    }
    set_meta(connection, TREE, &tree.to_octets())
}

impl<S: Sql> ReadRecord for S {
    fn ward(&self) -> Result<WardRecord, StoreError> {
        let absent = || damaged("ward record");
        let spki: Vec<u8> = meta(self.sql(), "token_key")?.ok_or_else(absent)?;
        Ok(WardRecord {
            urn: meta(self.sql(), "urn")?.ok_or_else(absent)?,
            rehearsal: meta(self.sql(), "rehearsal")?.ok_or_else(absent)?,
            token_key: PublicKey::from_spki(&spki).map_err(|_| absent())?,
        })
    }

    fn settings_text(&self) -> Result<String, StoreError> {
        meta(self.sql(), "settings")?.ok_or_else(|| damaged("copy of the settings"))
    }

    fn server_certificate(&self, name: &str) -> Result<Certificate, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT certificate FROM servers WHERE name = ?1")?;
        match statement.query_row([name], |row| row.get::<_, Vec<u8>>(0)).optional()? {
            Some(der) => rows::certificate(&der),
            None => Err(StoreError::Unknown { what: "server certificate", name: name.to_owned() }),
        }
    }

    fn former_servers(&self) -> Result<Vec<(String, Certificate)>, StoreError> {
        let sql = "SELECT name, certificate FROM former_servers ORDER BY name, fingerprint";
        let mut statement = self.sql().prepare_cached(sql)?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push((row.get(0)?, rows::certificate(&row.get::<_, Vec<u8>>(1)?)?));
        }
        Ok(all)
    }

    fn head(&self) -> Result<Head, StoreError> {
        let (number, hash) = self.audit_end()?;
        let number_of = |sql: &str| self.sql().prepare_cached(sql)?.query_row([], |row| row.get(0));
        let given_up = match (meta(self.sql(), "given_up_number")?, meta(self.sql(), "given_up_hash")?) {
            (Some(number), Some(hash)) => Some((number, hash)),
            _ => None,
        };
        Ok(Head {
            number,
            hash,
            edition: number_of("SELECT coalesce(max(number), 0) FROM editions")?,
            group_rules: meta(self.sql(), GROUPS_CHANGED)?.unwrap_or(0),
            trial: number_of("SELECT coalesce(max(number), 0) FROM trials WHERE ended IS NULL")?,
            authorities: meta(self.sql(), AUTHORITIES_CHANGED)?.unwrap_or(0),
            servers: meta(self.sql(), SERVERS_CHANGED)?.unwrap_or(0),
            tokens: meta(self.sql(), TOKENS_CHANGED)?.unwrap_or(0),
            settings: number_of("SELECT coalesce(max(number), 0) FROM adopted_settings")?,
            given_up,
            doubt: meta(self.sql(), DOUBT)?,
            moved: super::whole::moved(self.sql())?,
        })
    }

    fn audit_end(&self) -> Result<(i64, Hash), StoreError> {
        let number = meta::<i64>(self.sql(), "audit_number")?.unwrap_or(0);
        Ok((number, meta(self.sql(), "audit_hash")?.unwrap_or(GENESIS)))
    }

    fn tree(&self) -> Result<Tree, StoreError> {
        match meta::<Vec<u8>>(self.sql(), TREE)? {
            Some(octets) => Tree::from_octets(&octets).ok_or_else(|| damaged("tree of the audit record")),
            None => Ok(Tree::default()),
        }
    }

    fn entry_hash(&self, number: i64) -> Result<Option<Hash>, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT hash FROM audit WHERE number = ?1")?;
        let found: Option<Vec<u8>> = statement.query_row([number], |row| row.get(0)).optional()?;
        Ok(found.and_then(|hash| hash.try_into().ok()))
    }

    fn entries(&self, from: i64, limit: usize) -> Result<Vec<Entry>, StoreError> {
        let rest = "WHERE number >= ?1 ORDER BY number LIMIT ?2";
        entries(self.sql(), rest, params![from, rows::limit(limit)])
    }

    fn entries_about(&self, subject: &str, before: i64, limit: usize) -> Result<Vec<Entry>, StoreError> {
        let rest = "WHERE subject = ?1 AND number < ?2 ORDER BY number DESC LIMIT ?3";
        entries(self.sql(), rest, params![subject, before, rows::limit(limit)])
    }
}

/// The entries that a query is about.
fn entries(connection: &Connection, rest: &str, values: &[&dyn ToSql]) -> Result<Vec<Entry>, StoreError> {
    let mut statement = connection.prepare_cached(&format!(
        "SELECT number, at, actor, act, subject, because, detail, previous, hash FROM audit {rest}"
    ))?;
    let mut found = statement.query(values)?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        let hash = |at| -> Result<Hash, StoreError> {
            // A hash of another length was tampered with; it is no hash of anything.
            Ok(row.get::<_, Vec<u8>>(at)?.try_into().unwrap_or([0xff; 32]))
        };
        all.push(Entry {
            number: row.get(0)?,
            at: UnixTime(row.get(1)?),
            actor: row.get(2)?,
            act: row.get(3)?,
            subject: row.get(4)?,
            because: row.get(5)?,
            detail: row.get(6)?,
            previous: hash(7)?,
            hash: hash(8)?,
        });
    }
    Ok(all)
}

impl WriteRecord for SqliteTx<'_> {
    fn put_entry(&mut self, entry: &Entry) -> Result<(), StoreError> {
        self.sql()
            .prepare_cached(
                "INSERT INTO audit (number, at, actor, act, subject, because, detail, previous, hash)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
            )?
            .execute(params![
                entry.number,
                entry.at.0,
                entry.actor,
                entry.act,
                entry.subject,
                entry.because,
                entry.detail,
                entry.previous,
                entry.hash
            ])?;
        let mut tree = self.tree()?;
        tree.add(&entry.hash);
        set_meta(self.sql(), TREE, &tree.to_octets())?;
        set_meta(self.sql(), "audit_number", &entry.number)?;
        set_meta(self.sql(), "audit_hash", &entry.hash)
    }

    fn put_ward(&mut self, ward: &WardRecord) -> Result<(), StoreError> {
        set_meta(self.sql(), "urn", &ward.urn)?;
        set_meta(self.sql(), "rehearsal", &ward.rehearsal)?;
        set_meta(self.sql(), "token_key", &ward.token_key.spki())
    }

    fn put_settings(&mut self, text: &str) -> Result<(), StoreError> {
        set_meta(self.sql(), "settings", &text)
    }

    fn put_server(&mut self, name: &str, certificate: &Certificate) -> Result<(), StoreError> {
        let sql = "INSERT OR REPLACE INTO servers (name, certificate) VALUES (?1, ?2)";
        self.sql().execute(sql, params![name, certificate.der()])?;
        Ok(())
    }

    fn put_former_server(&mut self, name: &str, certificate: &Certificate) -> Result<(), StoreError> {
        let sql = "INSERT OR REPLACE INTO former_servers (fingerprint, name, certificate) VALUES (?1, ?2, ?3)";
        self.sql().execute(sql, params![certificate.fingerprint.0, name, certificate.der()])?;
        Ok(())
    }

    fn drop_former_server(&mut self, fingerprint: &Fingerprint) -> Result<(), StoreError> {
        self.sql().execute("DELETE FROM former_servers WHERE fingerprint = ?1", [&fingerprint.0])?;
        Ok(())
    }

    fn put_servers_changed(&mut self, change: i64) -> Result<(), StoreError> {
        set_meta(self.sql(), SERVERS_CHANGED, &change)
    }

    fn put_doubt(&mut self, doubt: Option<&str>) -> Result<(), StoreError> {
        match doubt {
            Some(doubt) => set_meta(self.sql(), DOUBT, &doubt),
            None => {
                self.sql().execute("DELETE FROM meta WHERE key = ?1", [DOUBT])?;
                Ok(())
            }
        }
    }

    fn put_given_up(&mut self, number: i64, hash: &Hash) -> Result<(), StoreError> {
        set_meta(self.sql(), "given_up_number", &number)?;
        set_meta(self.sql(), "given_up_hash", hash)
    }
}
