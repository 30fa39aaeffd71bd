//! Keys that sign tokens, blocked tokens, and the wrapped data key.

use tidy_warden_core::key::PublicKey;
use tidy_warden_core::shared::WrappedKey;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;

use super::Database;
use super::connection::get;
use super::rows::{self, damaged};
use crate::{ReadTokens, StoreError, TokenBlock, TokenSignerRecord, WriteTokens};

const BLOCK: &str = "name, device, kid, jti, before, at, until";

fn block(row: &Row) -> Result<TokenBlock, StoreError> {
    Ok(TokenBlock {
        name: rows::digest(row, 0, "blocked token")?,
        device: rows::maybe_word(row, 1, "id")?,
        kid: get(row, 2)?,
        jti: get(row, 3)?,
        before: rows::time(get(row, 4)?),
        at: UnixTime(get(row, 5)?),
        until: UnixTime(get(row, 6)?),
    })
}

impl ReadTokens for Database {
    fn token_signers(&self) -> Result<Vec<TokenSignerRecord>, StoreError> {
        let sql = "SELECT name, public_key, key_place, token, token_label, created, retired FROM token_signers
             ORDER BY created, name";
        let signer = |row: &Row| {
            Ok(TokenSignerRecord {
                name: get(row, 0)?,
                key: PublicKey::from_spki(get(row, 1)?).map_err(|_| damaged("key"))?,
                place: rows::key_place(get(row, 2)?, get(row, 3)?, get(row, 4)?)?,
                created: UnixTime(get(row, 5)?),
                retired: rows::time(get(row, 6)?),
            })
        };
        self.connection.rows(sql, &[])?.iter().map(signer).collect()
    }

    fn key_wraps(&self) -> Result<Vec<(String, WrappedKey)>, StoreError> {
        let sql = "SELECT name, public_key, ephemeral, sealed FROM key_wraps ORDER BY name";
        let wrap = |row: &Row| {
            Ok((get(row, 0)?, WrappedKey { to: get(row, 1)?, ephemeral: get(row, 2)?, sealed: get(row, 3)? }))
        };
        self.connection.rows(sql, &[])?.iter().map(wrap).collect()
    }

    fn token_blocks_of(&self, names: &[[u8; 32]]) -> Result<Vec<TokenBlock>, StoreError> {
        let all: Vec<&[u8]> = names.iter().map(<[u8; 32]>::as_slice).collect();
        let sql = format!("SELECT {BLOCK} FROM token_blocks WHERE name = ANY ($1)");
        self.connection.rows(&sql, &[&all])?.iter().map(block).collect()
    }

    fn token_blocks(&self, after: Option<&TokenBlock>, limit: usize) -> Result<Vec<TokenBlock>, StoreError> {
        let sql = format!("SELECT {BLOCK} FROM token_blocks WHERE (at, name) > ($1, $2) ORDER BY at, name LIMIT $3");
        let (at, name) = after.map_or((i64::MIN, [0; 32]), |block| (block.at.0, block.name));
        let found = self.connection.rows(&sql, &[&at, &name.as_slice(), &rows::limit(limit)])?;
        found.iter().map(block).collect()
    }

    fn count_token_blocks(&self) -> Result<u64, StoreError> {
        rows::count(get(&self.connection.one("SELECT count(*) FROM token_blocks", &[])?, 0)?)
    }
}

impl WriteTokens for Database {
    fn put_token_signer(&mut self, signer: &TokenSignerRecord) -> Result<(), StoreError> {
        let (place, token, label) = rows::key_words(&signer.place);
        self.connection.write(
            "INSERT INTO token_signers (name, public_key, key_place, token, token_label, created, retired)
             VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT (name) DO UPDATE SET retired = excluded.retired",
            &[
                &signer.name,
                &signer.key.spki(),
                &place,
                &token,
                &label,
                &signer.created.0,
                &signer.retired.map(|at| at.0),
            ],
        )
    }

    fn put_key_wrap(&mut self, name: &str, wrapped: &WrappedKey) -> Result<(), StoreError> {
        let sql = "INSERT INTO key_wraps (name, public_key, ephemeral, sealed) VALUES ($1, $2, $3, $4)
             ON CONFLICT (name) DO UPDATE SET public_key = excluded.public_key, ephemeral = excluded.ephemeral,
                 sealed = excluded.sealed";
        self.connection.write(sql, &[&name, &wrapped.to, &wrapped.ephemeral, &wrapped.sealed])
    }

    fn drop_key_wrap(&mut self, name: &str) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM key_wraps WHERE name = $1", &[&name])
    }

    fn put_token_block(&mut self, block: &TokenBlock) -> Result<(), StoreError> {
        let sql =
            "INSERT INTO token_blocks (name, device, kid, jti, before, at, until) VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (name) DO UPDATE SET before = CASE WHEN excluded.before > token_blocks.before OR excluded.before IS NULL THEN excluded.before
                     ELSE token_blocks.before END,
                 until = greatest(token_blocks.until, excluded.until)";
        self.connection.write(
            sql,
            &[
                &block.name.as_slice(),
                &block.device.as_ref().map(|id| id.as_str()),
                &block.kid,
                &block.jti,
                &block.before.map(|at| at.0),
                &block.at.0,
                &block.until.0,
            ],
        )
    }

    fn drop_token_blocks(&mut self, now: UnixTime, limit: usize) -> Result<(), StoreError> {
        let sql = "DELETE FROM token_blocks WHERE name IN
             (SELECT name FROM token_blocks WHERE until <= $1 ORDER BY until, name LIMIT $2)";
        self.connection.write(sql, &[&now.0, &rows::limit(limit)])
    }

    fn put_tokens_changed(&mut self, change: i64) -> Result<(), StoreError> {
        self.connection.write("UPDATE head SET tokens = $1", &[&change])
    }
}
