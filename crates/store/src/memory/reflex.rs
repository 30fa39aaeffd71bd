//! Evidence, and what reflexes made of it.

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::reflex::{Evidence, Hit, Noticed, Progress};
use tidy_warden_core::time::UnixTime;

use super::{MemoryStore, Model, unknown};
use crate::{ReadReflexes, StoreError, WriteReflexes};

fn many(count: usize) -> u64 {
    u64::try_from(count).unwrap_or(u64::MAX)
}

impl ReadReflexes for MemoryStore {
    fn evidence_after(&self, number: i64, limit: usize) -> Result<Vec<(i64, Evidence)>, StoreError> {
        let model = self.model();
        let behind = model.evidence.range(number + 1..).take(limit);
        Ok(behind.map(|(number, each)| (*number, each.clone())).collect())
    }

    fn count_evidence(&self, device: &DeviceId, what: Noticed, since: UnixTime) -> Result<u64, StoreError> {
        let model = self.model();
        let counts =
            |each: &&Evidence| each.device == *device && each.what == what && each.at >= since && each.is_proved;
        Ok(model.evidence.values().filter(counts).map(|each| u64::from(each.count)).sum())
    }

    fn last_evidence(&self) -> Result<i64, StoreError> {
        Ok(self.model().evidence.keys().last().copied().unwrap_or(0))
    }

    fn reflex_progress(&self, reflex: &str) -> Result<Option<Progress>, StoreError> {
        Ok(self.model().reflexes.get(reflex).cloned())
    }

    fn hits(&self, reflex: Option<&str>, before: i64, limit: usize) -> Result<Vec<Hit>, StoreError> {
        let model = self.model();
        let wanted = |each: &&Hit| reflex.is_none_or(|reflex| each.reflex == reflex);
        Ok(model.hits.range(..before).rev().map(|(_, each)| each).filter(wanted).take(limit).cloned().collect())
    }

    fn count_hits(&self, reflex: &str, source: &str, since: UnixTime) -> Result<(u64, u64), StoreError> {
        let model = self.model();
        let all = model.hits.values().filter(|each| each.reflex == reflex && each.at >= since);
        let of_source = all.clone().filter(|each| each.source == source);
        Ok((many(all.count()), many(of_source.count())))
    }

    fn last_hit(&self, reflex: &str, device: &DeviceId) -> Result<Option<Hit>, StoreError> {
        let model = self.model();
        Ok(model.hits.values().rfind(|each| each.reflex == reflex && each.device == *device).cloned())
    }
}

impl WriteReflexes for MemoryStore {
    fn put_reflex_progress(&mut self, reflex: &str, progress: &Progress) -> Result<(), StoreError> {
        self.model_mut().reflexes.insert(reflex.to_owned(), progress.clone());
        Ok(())
    }

    fn put_hit(&mut self, hit: &Hit) -> Result<(), StoreError> {
        if self.model().device(&hit.device).is_none() {
            return Err(unknown("device", &hit.device));
        }
        let model = self.model_mut();
        let next = model.hits.keys().last().copied().unwrap_or(0) + 1;
        let number = if hit.number > 0 { hit.number } else { next };
        model.hits.insert(number, Hit { number, ..hit.clone() });
        Ok(())
    }

    fn drop_evidence(&mut self, before: UnixTime, below: i64, limit: usize) -> Result<usize, StoreError> {
        let model = self.model_mut();
        let newest = model.evidence.keys().last().copied().unwrap_or(0);
        let is_old = |number: i64, each: &Evidence| (each.at < before || number < below) && number < newest;
        let old = model.evidence.iter().filter(|(number, each)| is_old(**number, each));
        let old: Vec<i64> = old.map(|(number, _)| *number).take(limit).collect();
        old.iter().for_each(|number| drop(model.evidence.remove(number)));
        Ok(old.len())
    }
}

pub(super) fn notice(model: &mut Model, all: &[Evidence]) {
    for each in all {
        if model.device(&each.device).is_some() {
            let next = model.evidence.keys().last().copied().unwrap_or(0) + 1;
            model.evidence.insert(next, each.clone());
        }
    }
}
