//! Keys that sign tokens, blocked tokens, and the wrapped data key.

use rusqlite::{Row, params};
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::shared::WrappedKey;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged};
use super::{Sql, SqliteTx, record};
use crate::{ReadTokens, StoreError, TokenBlock, TokenSignerRecord, WriteTokens};

const BLOCK: &str = "name, device, kid, jti, before, at, until";

fn block(row: &Row<'_>) -> Result<TokenBlock, StoreError> {
    Ok(TokenBlock {
        name: row.get(0)?,
        device: row.get::<_, Option<String>>(1)?.map(|id| rows::parsed(&id, "id")).transpose()?,
        kid: row.get(2)?,
        jti: row.get(3)?,
        before: rows::time(row.get(4)?),
        at: UnixTime(row.get(5)?),
        until: UnixTime(row.get(6)?),
    })
}

impl<S: Sql> ReadTokens for S {
    fn token_signers(&self) -> Result<Vec<TokenSignerRecord>, StoreError> {
        let sql = "SELECT name, public_key, key_place, token, token_label, created, retired FROM token_signers
             ORDER BY created, name";
        let mut statement = self.sql().prepare_cached(sql)?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(TokenSignerRecord {
                name: row.get(0)?,
                key: PublicKey::from_spki(&row.get::<_, Vec<u8>>(1)?).map_err(|_| damaged("key"))?,
                place: rows::key_place(&row.get::<_, String>(2)?, row.get(3)?, row.get(4)?)?,
                created: UnixTime(row.get(5)?),
                retired: rows::time(row.get(6)?),
            });
        }
        Ok(all)
    }

    fn key_wraps(&self) -> Result<Vec<(String, WrappedKey)>, StoreError> {
        let sql = "SELECT name, public_key, ephemeral, sealed FROM key_wraps ORDER BY name";
        let mut statement = self.sql().prepare_cached(sql)?;
        let wrap = |row: &Row<'_>| {
            Ok((row.get(0)?, WrappedKey { to: row.get(1)?, ephemeral: row.get(2)?, sealed: row.get(3)? }))
        };
        let found = statement.query_map([], wrap)?;
        Ok(found.collect::<Result<_, _>>()?)
    }

    fn token_blocks_of(&self, names: &[[u8; 32]]) -> Result<Vec<TokenBlock>, StoreError> {
        let sql = format!("SELECT {BLOCK} FROM token_blocks WHERE name = ?1");
        let mut statement = self.sql().prepare_cached(&sql)?;
        let mut all = Vec::new();
        for name in names {
            all.extend(statement.query([name])?.next()?.map(block).transpose()?);
        }
        Ok(all)
    }

    fn token_blocks(&self, after: Option<&TokenBlock>, limit: usize) -> Result<Vec<TokenBlock>, StoreError> {
        let sql = format!("SELECT {BLOCK} FROM token_blocks WHERE (at, name) > (?1, ?2) ORDER BY at, name LIMIT ?3");
        let mut statement = self.sql().prepare_cached(&sql)?;
        let (at, name) = after.map_or((i64::MIN, [0; 32]), |block| (block.at.0, block.name));
        let mut found = statement.query(params![at, name, rows::limit(limit)])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(block(row)?);
        }
        Ok(all)
    }

    fn count_token_blocks(&self) -> Result<u64, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT count(*) FROM token_blocks")?;
        rows::count(statement.query_row([], |row| row.get(0))?)
    }
}

impl WriteTokens for SqliteTx<'_> {
    fn put_token_signer(&mut self, signer: &TokenSignerRecord) -> Result<(), StoreError> {
        let (place, token, label) = rows::key_words(&signer.place);
        self.sql().execute(
            "INSERT INTO token_signers (name, public_key, key_place, token, token_label, created, retired)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) ON CONFLICT (name) DO UPDATE SET retired = excluded.retired",
            params![
                signer.name,
                signer.key.spki(),
                place,
                token,
                label,
                signer.created.0,
                signer.retired.map(|at| at.0)
            ],
        )?;
        Ok(())
    }

    fn put_key_wrap(&mut self, name: &str, wrapped: &WrappedKey) -> Result<(), StoreError> {
        let sql = "INSERT OR REPLACE INTO key_wraps (name, public_key, ephemeral, sealed) VALUES (?1, ?2, ?3, ?4)";
        self.sql().execute(sql, params![name, wrapped.to, wrapped.ephemeral, wrapped.sealed])?;
        Ok(())
    }

    fn drop_key_wrap(&mut self, name: &str) -> Result<(), StoreError> {
        self.sql().execute("DELETE FROM key_wraps WHERE name = ?1", [name])?;
        Ok(())
    }

    fn put_token_block(&mut self, block: &TokenBlock) -> Result<(), StoreError> {
        let sql = "INSERT INTO token_blocks (name, device, kid, jti, before, at, until) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
             ON CONFLICT (name) DO UPDATE SET before = max(before, excluded.before), until = max(until, excluded.until)";
        self.sql().prepare_cached(sql)?.execute(params![
            block.name,
            block.device.as_ref().map(|id| id.as_str()),
            block.kid,
            block.jti,
            block.before.map(|at| at.0),
            block.at.0,
            block.until.0
        ])?;
        Ok(())
    }

    fn drop_token_blocks(&mut self, now: UnixTime, limit: usize) -> Result<(), StoreError> {
        let sql = "DELETE FROM token_blocks WHERE name IN
             (SELECT name FROM token_blocks WHERE until <= ?1 ORDER BY until, name LIMIT ?2)";
        self.sql().prepare_cached(sql)?.execute(params![now.0, rows::limit(limit)])?;
        Ok(())
    }

    fn put_tokens_changed(&mut self, change: i64) -> Result<(), StoreError> {
        record::put_tokens_changed(self.sql(), change)
    }
}
