//! Notices.

use tidy_warden_core::notice::NoticeRecord;
use tidy_warden_core::time::UnixTime;

use super::MemoryStore;
use crate::{ReadNotices, StoreError, WriteNotices};

impl ReadNotices for MemoryStore {
    fn due_notices(&self, now: UnixTime, limit: usize) -> Result<Vec<NoticeRecord>, StoreError> {
        let model = self.model();
        let is_due = |each: &&NoticeRecord| each.due.is_some_and(|due| due <= now);
        let mut all: Vec<NoticeRecord> = model.notices.values().filter(is_due).cloned().collect();
        all.sort_by_key(|each| (each.due, each.number));
        all.truncate(limit);
        Ok(all)
    }

    fn notices(&self, before: i64, limit: usize) -> Result<Vec<NoticeRecord>, StoreError> {
        Ok(self.model().notices.range(..before).rev().map(|(_, each)| each.clone()).take(limit).collect())
    }

    fn count_waiting_notices(&self) -> Result<u64, StoreError> {
        let waiting = self.model().notices.values().filter(|each| each.due.is_some()).count();
        Ok(u64::try_from(waiting).unwrap_or(u64::MAX))
    }
}

impl WriteNotices for MemoryStore {
    fn put_notice(&mut self, notice: &NoticeRecord) -> Result<(), StoreError> {
        let model = self.model_mut();
        let next = model.notices.keys().last().copied().unwrap_or(0) + 1;
        let number = if notice.number > 0 { notice.number } else { next };
        model.notices.insert(number, NoticeRecord { number, ..notice.clone() });
        Ok(())
    }

    fn drop_notices(&mut self, before: UnixTime, limit: usize) -> Result<usize, StoreError> {
        let model = self.model_mut();
        let newest = model.notices.keys().last().copied().unwrap_or(0);
        let is_old = |each: &&NoticeRecord| each.due.is_none() && each.at < before && each.number < newest;
        let old: Vec<i64> = model.notices.values().filter(is_old).map(|each| each.number).take(limit).collect();
        old.iter().for_each(|number| drop(model.notices.remove(number)));
        Ok(old.len())
    }
}
