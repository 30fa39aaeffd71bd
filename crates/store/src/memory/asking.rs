//! Devices that wait for a person.

use tidy_warden_core::asking::AskingRecord;
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::time::UnixTime;

use super::MemoryStore;
use crate::{ReadAsking, StoreError, WriteAsking};

impl ReadAsking for MemoryStore {
    fn asking(&self, key_digest: &[u8; 32]) -> Result<Option<AskingRecord>, StoreError> {
        Ok(self.model().asking.get(key_digest).cloned())
    }

    fn all_asking(&self, limit: usize) -> Result<Vec<AskingRecord>, StoreError> {
        let mut all: Vec<AskingRecord> = self.model().asking.values().cloned().collect();
        all.sort_by_key(|each| (each.since, each.key_digest));
        all.truncate(limit);
        Ok(all)
    }

    fn introduced(&self, child: &DeviceId) -> Result<Option<IntroducedRecord>, StoreError> {
        Ok(self.model().introduced.get(child).cloned())
    }

    fn waiting_children(&self, limit: usize) -> Result<Vec<IntroducedRecord>, StoreError> {
        let model = self.model();
        let waits = |each: &&IntroducedRecord| each.state == IntroducedState::Waits;
        let mut all: Vec<IntroducedRecord> = model.introduced.values().filter(waits).cloned().collect();
        all.sort_by_key(|each| (each.since, each.child.clone()));
        all.truncate(limit);
        Ok(all)
    }

    fn count_introduced(&self, gateway: &DeviceId, kind: &KindName) -> Result<u64, StoreError> {
        let model = self.model();
        let counts = |each: &&IntroducedRecord| each.gateway == *gateway && each.kind == *kind;
        Ok(u64::try_from(model.introduced.values().filter(counts).count()).unwrap_or(u64::MAX))
    }

    fn count_asking(&self, from: &str) -> Result<(u64, u64, u64), StoreError> {
        let model = self.model();
        let count = |holds: &dyn Fn(&&AskingRecord) -> bool| {
            u64::try_from(model.asking.values().filter(holds).count()).unwrap_or(u64::MAX)
        };
        let waits = |each: &&AskingRecord| each.refused.is_none();
        Ok((count(&waits), count(&|each| waits(each) && each.from == from), count(&|_| true)))
    }
}

impl WriteAsking for MemoryStore {
    fn put_asking(&mut self, asking: &AskingRecord) -> Result<(), StoreError> {
        self.model_mut().asking.insert(asking.key_digest, asking.clone());
        Ok(())
    }

    fn put_introduced(&mut self, introduced: &IntroducedRecord) -> Result<(), StoreError> {
        self.model_mut().introduced.insert(introduced.child.clone(), introduced.clone());
        Ok(())
    }

    fn drop_asking(&mut self, key_digest: &[u8; 32]) -> Result<(), StoreError> {
        self.model_mut().asking.remove(key_digest);
        Ok(())
    }

    fn drop_lapsed_asking(&mut self, now: UnixTime) -> Result<(), StoreError> {
        self.model_mut().asking.retain(|_, each| each.until >= now);
        Ok(())
    }
}
