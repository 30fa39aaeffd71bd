//! Posts and adopted settings.

use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;

use super::Database;
use super::connection::{Connection, get};
use super::rows;
use crate::{AdoptedSettings, PostRecord, PostState, ReadPosts, StoreError, WritePosts};

fn post(row: &Row) -> Result<PostRecord, StoreError> {
    Ok(PostRecord {
        name: rows::word(row, 0, "post")?,
        role: rows::word(row, 1, "post")?,
        host: get(row, 2)?,
        login: get(row, 3)?,
        verifier: get(row, 4)?,
        certificate: rows::certificate(get(row, 5)?)?,
        added: UnixTime(get(row, 6)?),
        retired: rows::time(get(row, 7)?),
    })
}

fn state(row: &Row) -> Result<PostState, StoreError> {
    Ok(PostState {
        name: rows::word(row, 0, "post")?,
        version: get(row, 1)?,
        address: get(row, 2)?,
        edition: rows::small(row, 3, "edition")?,
        change: get(row, 4)?,
        sessions: rows::count(get(row, 5)?)?,
        since: UnixTime(get(row, 6)?),
        seen: UnixTime(get(row, 7)?),
    })
}

impl ReadPosts for Database {
    fn posts(&self) -> Result<Vec<PostRecord>, StoreError> {
        // What passwords are checked by is read by whoever gives roles, and by nobody else.
        let may: bool =
            get(&self.connection.one("SELECT has_column_privilege('posts', 'verifier', 'SELECT')", &[])?, 0)?;
        let verifier = if may { "verifier" } else { "''" };
        let sql =
            format!("SELECT name, role, host, login, {verifier}, certificate, added, retired FROM posts ORDER BY name");
        self.connection.rows(&sql, &[])?.iter().map(post).collect()
    }

    fn post_states(&self) -> Result<Vec<PostState>, StoreError> {
        let sql =
            "SELECT name, version, address, edition, change, sessions, since, seen FROM post_states ORDER BY name";
        self.connection.rows(sql, &[])?.iter().map(state).collect()
    }

    fn adopted_settings(&self) -> Result<Option<AdoptedSettings>, StoreError> {
        let sql = "SELECT number, text, signature, author, at FROM adopted_settings ORDER BY number DESC LIMIT 1";
        let Some(row) = self.connection.maybe(sql, &[])? else { return Ok(None) };
        Ok(Some(AdoptedSettings {
            number: rows::small(&row, 0, "edition of the settings")?,
            text: get(&row, 1)?,
            signature: get(&row, 2)?,
            author: get(&row, 3)?,
            at: UnixTime(get(&row, 4)?),
        }))
    }
}

impl WritePosts for Database {
    fn put_post(&mut self, post: &PostRecord) -> Result<(), StoreError> {
        self.connection.write(
            "INSERT INTO posts (name, role, host, login, verifier, certificate, added, retired)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
             ON CONFLICT (name) DO UPDATE SET role = excluded.role, host = excluded.host, login = excluded.login,
                 verifier = excluded.verifier, certificate = excluded.certificate, added = excluded.added,
                 retired = excluded.retired",
            &[
                &post.name.as_str(),
                &post.role.as_str(),
                &post.host,
                &post.login,
                &post.verifier,
                &post.certificate.der(),
                &post.added.0,
                &post.retired.map(|at| at.0),
            ],
        )
    }

    fn insert_settings(&mut self, settings: &AdoptedSettings) -> Result<(), StoreError> {
        let AdoptedSettings { number, text, signature, author, at } = settings;
        let sql = "INSERT INTO adopted_settings (number, text, signature, author, at) VALUES ($1, $2, $3, $4, $5)";
        self.connection.write(sql, &[&i64::from(*number), text, signature, author, &at.0])
    }
}

/// Writes what an instance says of itself.
pub(super) fn put_state(connection: &Connection, state: &PostState) -> Result<(), StoreError> {
    connection.write(
        "INSERT INTO post_states (name, version, address, edition, change, sessions, since, seen)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
         ON CONFLICT (name) DO UPDATE SET version = excluded.version, address = excluded.address,
             edition = excluded.edition, change = excluded.change, sessions = excluded.sessions, since = excluded.since,
             seen = excluded.seen, alive = excluded.alive",
        &[
            &state.name.as_str(),
            &state.version,
            &state.address,
            &i64::from(state.edition),
            &state.change,
            &rows::stored(state.sessions),
            &state.since.0,
            &state.seen.0,
        ],
    )?;
    Ok(())
}
