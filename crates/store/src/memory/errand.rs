//! Errands.

use tidy_warden_core::errand::{Carried, ErrandRecord, State};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::{MemoryStore, Model, unknown};
use crate::{ErrandTally, ReadErrands, StoreError, WriteErrands};

impl ReadErrands for MemoryStore {
    fn errand(&self, number: i64) -> Result<Option<ErrandRecord>, StoreError> {
        Ok(self.model().errands.get(&number).cloned())
    }

    fn errands(&self, of: Option<&DeviceId>, before: i64, limit: usize) -> Result<Vec<ErrandRecord>, StoreError> {
        let model = self.model();
        let wanted = |each: &&ErrandRecord| of.is_none_or(|of| each.errand.device == *of);
        Ok(model.errands.range(..before).rev().map(|(_, each)| each).filter(wanted).take(limit).cloned().collect())
    }

    fn open_errands(&self, receiver: &DeviceId, now: UnixTime, limit: usize) -> Result<Vec<ErrandRecord>, StoreError> {
        let model = self.model();
        let gateway = |device: &DeviceId| model.device(device).and_then(|device| device.record.gateway.clone());
        let wanted = |each: &&ErrandRecord| {
            let device = &each.errand.device;
            each.state == State::Open
                && each.errand.ends >= now
                && (device == receiver || gateway(device).as_ref() == Some(receiver))
        };
        Ok(model.errands.values().filter(wanted).take(limit).cloned().collect())
    }

    fn errands_after(&self, number: i64, limit: usize) -> Result<Vec<(ErrandRecord, Option<DeviceId>)>, StoreError> {
        let model = self.model();
        let behind = model.errands.range(number + 1..).take(limit);
        let with = |(_, each): (&i64, &ErrandRecord)| {
            (each.clone(), model.device(&each.errand.device).and_then(|device| device.record.gateway.clone()))
        };
        Ok(behind.map(with).collect())
    }

    fn last_errand(&self) -> Result<i64, StoreError> {
        Ok(self.model().errands.keys().last().copied().unwrap_or(0))
    }

    fn carried(&self, numbers: &[i64]) -> Result<Vec<Carried>, StoreError> {
        let model = self.model();
        Ok(numbers.iter().map(|number| model.carried.get(number).cloned().unwrap_or_default()).collect())
    }

    fn answered_errands(&self, limit: usize) -> Result<Vec<i64>, StoreError> {
        let model = self.model();
        let waiting = model.carried.iter().filter(|(_, carried)| carried.answer.is_some());
        Ok(waiting.map(|(number, _)| *number).take(limit).collect())
    }
}

impl WriteErrands for MemoryStore {
    fn put_errand(&mut self, errand: &ErrandRecord) -> Result<(), StoreError> {
        let device = &errand.errand.device;
        if self.model().device(device).is_none() {
            return Err(unknown("device", device));
        }
        self.model_mut().errands.insert(errand.errand.number, errand.clone());
        Ok(())
    }

    fn drop_answer(&mut self, number: i64) -> Result<(), StoreError> {
        if let Some(carried) = self.model_mut().carried.get_mut(&number) {
            carried.answer = None;
        }
        Ok(())
    }

    fn drop_errands(&mut self, before: UnixTime, limit: usize) -> Result<usize, StoreError> {
        let model = self.model_mut();
        let newest = model.errands.keys().last().copied().unwrap_or(0);
        let mut old: Vec<(UnixTime, i64)> = model
            .errands
            .iter()
            .filter(|(number, each)| each.errand.ends < before && **number < newest)
            .map(|(number, each)| (each.errand.ends, *number))
            .collect();
        old.sort_unstable();
        old.truncate(limit);
        for (_, number) in &old {
            model.errands.remove(number);
            model.carried.remove(number);
        }
        Ok(old.len())
    }
}

pub(super) fn tally(model: &mut Model, tally: &ErrandTally<'_>) {
    for (number, at) in tally.handed {
        if model.errands.contains_key(number) {
            let carried = model.carried.entry(*number).or_default();
            carried.tries += 1;
            carried.first.get_or_insert(*at);
            carried.last = Some(*at);
        }
    }
    for (number, brought) in tally.answers {
        if model.errands.get(number).is_some_and(|each| each.state == State::Open) {
            model.carried.entry(*number).or_default().answer.get_or_insert(brought.clone());
        }
    }
}
