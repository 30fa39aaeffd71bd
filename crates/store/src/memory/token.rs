//! Keys that sign tokens, blocked tokens, and the wrapped data key.

use tidy_warden_core::shared::WrappedKey;
use tidy_warden_core::time::UnixTime;

use super::MemoryStore;
use crate::{ReadTokens, StoreError, TokenBlock, TokenSignerRecord, WriteTokens};

impl ReadTokens for MemoryStore {
    fn token_signers(&self) -> Result<Vec<TokenSignerRecord>, StoreError> {
        let mut all: Vec<TokenSignerRecord> = self.model().token_signers.values().cloned().collect();
        all.sort_by_key(|signer| signer.created);
        Ok(all)
    }

    fn key_wraps(&self) -> Result<Vec<(String, WrappedKey)>, StoreError> {
        Ok(self.model().key_wraps.clone().into_iter().collect())
    }

    fn token_blocks_of(&self, names: &[[u8; 32]]) -> Result<Vec<TokenBlock>, StoreError> {
        let model = self.model();
        Ok(names.iter().filter_map(|name| model.token_blocks.get(name).cloned()).collect())
    }

    fn token_blocks(&self, after: Option<&TokenBlock>, limit: usize) -> Result<Vec<TokenBlock>, StoreError> {
        let place = |block: &TokenBlock| (block.at, block.name);
        let model = self.model();
        let mut all: Vec<TokenBlock> = model.token_blocks.values().cloned().collect();
        all.sort_by_key(place);
        all.retain(|block| after.is_none_or(|after| place(block) > place(after)));
        all.truncate(limit);
        Ok(all)
    }

    fn count_token_blocks(&self) -> Result<u64, StoreError> {
        Ok(u64::try_from(self.model().token_blocks.len()).unwrap_or(u64::MAX))
    }
}

impl WriteTokens for MemoryStore {
    fn put_token_signer(&mut self, signer: &TokenSignerRecord) -> Result<(), StoreError> {
        let known = self.model_mut().token_signers.entry(signer.name.clone()).or_insert_with(|| signer.clone());
        known.retired = signer.retired;
        Ok(())
    }

    fn put_key_wrap(&mut self, name: &str, wrapped: &WrappedKey) -> Result<(), StoreError> {
        self.model_mut().key_wraps.insert(name.to_owned(), wrapped.clone());
        Ok(())
    }

    fn drop_key_wrap(&mut self, name: &str) -> Result<(), StoreError> {
        self.model_mut().key_wraps.remove(name);
        Ok(())
    }

    fn put_token_block(&mut self, block: &TokenBlock) -> Result<(), StoreError> {
        let known = self.model_mut().token_blocks.entry(block.name).or_insert_with(|| block.clone());
        // One that meets all is the wider.
        known.before = known.before.zip(block.before).map(|(one, other)| one.max(other));
        known.until = known.until.max(block.until);
        Ok(())
    }

    fn drop_token_blocks(&mut self, now: UnixTime, limit: usize) -> Result<(), StoreError> {
        let blocks = &mut self.model_mut().token_blocks;
        let mut over: Vec<(UnixTime, [u8; 32])> =
            blocks.values().filter(|block| block.until <= now).map(|block| (block.until, block.name)).collect();
        over.sort_unstable();
        over.iter().take(limit).for_each(|(_, name)| drop(blocks.remove(name)));
        Ok(())
    }

    fn put_tokens_changed(&mut self, change: i64) -> Result<(), StoreError> {
        self.model_mut().tokens_changed = change;
        Ok(())
    }
}
