//! Posts and adopted settings.

use super::MemoryStore;
use crate::{AdoptedSettings, PostRecord, PostState, ReadPosts, StoreError, WritePosts};

impl ReadPosts for MemoryStore {
    fn posts(&self) -> Result<Vec<PostRecord>, StoreError> {
        Ok(self.model().posts.values().cloned().collect())
    }

    fn post_states(&self) -> Result<Vec<PostState>, StoreError> {
        Ok(self.model().post_states.values().cloned().collect())
    }

    fn adopted_settings(&self) -> Result<Option<AdoptedSettings>, StoreError> {
        Ok(self.model().adopted.last().cloned())
    }
}

impl WritePosts for MemoryStore {
    fn put_post(&mut self, post: &PostRecord) -> Result<(), StoreError> {
        self.model_mut().posts.insert(post.name.clone(), post.clone());
        Ok(())
    }

    fn insert_settings(&mut self, settings: &AdoptedSettings) -> Result<(), StoreError> {
        self.model_mut().adopted.push(settings.clone());
        Ok(())
    }
}
