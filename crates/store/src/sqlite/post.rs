//! Posts and adopted settings.

use rusqlite::{Connection, Row, params};
use tidy_warden_core::time::UnixTime;

use super::rows;
use super::{Sql, SqliteTx};
use crate::{AdoptedSettings, PostRecord, PostState, ReadPosts, StoreError, WritePosts};

fn word<T: std::str::FromStr>(row: &Row<'_>, at: usize, what: &str) -> Result<T, StoreError> {
    rows::parsed(&row.get::<_, String>(at)?, what)
}

fn post(row: &Row<'_>) -> Result<PostRecord, StoreError> {
    Ok(PostRecord {
        name: word(row, 0, "post")?,
        role: word(row, 1, "post")?,
        host: row.get(2)?,
        login: row.get(3)?,
        verifier: row.get(4)?,
        certificate: rows::certificate(&row.get::<_, Vec<u8>>(5)?)?,
        added: UnixTime(row.get(6)?),
        retired: row.get::<_, Option<i64>>(7)?.map(UnixTime),
    })
}

fn state(row: &Row<'_>) -> Result<PostState, StoreError> {
    Ok(PostState {
        name: word(row, 0, "post")?,
        version: row.get(1)?,
        address: row.get(2)?,
        edition: row.get(3)?,
        change: row.get(4)?,
        sessions: rows::count(row.get(5)?)?,
        since: UnixTime(row.get(6)?),
        seen: UnixTime(row.get(7)?),
    })
}

impl<S: Sql> ReadPosts for S {
    fn posts(&self) -> Result<Vec<PostRecord>, StoreError> {
        let sql = "SELECT name, role, host, login, verifier, certificate, added, retired FROM posts ORDER BY name";
        let mut statement = self.sql().prepare_cached(sql)?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(post(row)?);
        }
        Ok(all)
    }

    fn post_states(&self) -> Result<Vec<PostState>, StoreError> {
        let sql =
            "SELECT name, version, address, edition, change, sessions, since, seen FROM post_states ORDER BY name";
        let mut statement = self.sql().prepare_cached(sql)?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(state(row)?);
        }
        Ok(all)
    }

    fn adopted_settings(&self) -> Result<Option<AdoptedSettings>, StoreError> {
        let sql = "SELECT number, text, signature, author, at FROM adopted_settings ORDER BY number DESC LIMIT 1";
        let mut statement = self.sql().prepare_cached(sql)?;
        let mut found = statement.query([])?;
        let Some(row) = found.next()? else { return Ok(None) };
        Ok(Some(AdoptedSettings {
            number: row.get(0)?,
            text: row.get(1)?,
            signature: row.get(2)?,
            author: row.get(3)?,
            at: UnixTime(row.get(4)?),
        }))
    }
}

impl WritePosts for SqliteTx<'_> {
    fn put_post(&mut self, post: &PostRecord) -> Result<(), StoreError> {
        self.sql().execute(
            "INSERT OR REPLACE INTO posts (name, role, host, login, verifier, certificate, added, retired)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            params![
                post.name.as_str(),
                post.role.as_str(),
                post.host,
                post.login,
                post.verifier,
                post.certificate.der(),
                post.added.0,
                post.retired.map(|at| at.0)
            ],
        )?;
        Ok(())
    }

    fn insert_settings(&mut self, settings: &AdoptedSettings) -> Result<(), StoreError> {
        let AdoptedSettings { number, text, signature, author, at } = settings;
        let sql = "INSERT INTO adopted_settings (number, text, signature, author, at) VALUES (?1, ?2, ?3, ?4, ?5)";
        self.sql().execute(sql, params![number, text, signature, author, at.0])?;
        Ok(())
    }
}

/// Writes what an instance says of itself, inside a transaction of the caller's.
pub(super) fn put_state(connection: &Connection, state: &PostState) -> Result<(), StoreError> {
    let sql = "INSERT OR REPLACE INTO post_states (name, version, address, edition, change, sessions, since, seen)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)";
    connection.prepare_cached(sql)?.execute(params![
        state.name.as_str(),
        state.version,
        state.address,
        state.edition,
        state.change,
        rows::stored(state.sessions),
        state.since.0,
        state.seen.0
    ])?;
    Ok(())
}
