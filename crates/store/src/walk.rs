//! Walks over many rows, page by page: no snapshot is held for longer than a page, so that a walk over a million holds up nobody
//! and takes little memory.

use tidy_warden_core::audit::Entry;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::condition::Condition;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use crate::{BlockedKey, DeviceView, EndPlace, Ending, Place, StoreError, View};

/// How many rows are read at a time.
const PAGE: usize = 1000;

/// The most devices that [`crate::Changes`] names.
pub const MOST_CHANGED: usize = 10_000;

impl dyn View + '_ {
    /// Walks all devices in the order in which they were listed.
    pub fn each_device(&self, visit: &mut dyn FnMut(DeviceView)) -> Result<(), StoreError> {
        self.walk(None, UnixTime(0), visit)
    }

    /// Walks the devices for which a condition holds at `now`, in the order in which they were listed.
    pub fn each_device_where(
        &self,
        condition: &Condition,
        now: UnixTime,
        visit: &mut dyn FnMut(DeviceView),
    ) -> Result<(), StoreError> {
        self.walk(Some(condition), now, visit)
    }

    /// Walks devices in the order of their ids, all of them or those for which a condition holds at `now`, until `visit` says no.
    pub fn each_device_by_id(
        &self,
        condition: Option<&Condition>,
        now: UnixTime,
        visit: &mut dyn FnMut(DeviceView) -> bool,
    ) -> Result<(), StoreError> {
        let mut after = String::new();
        loop {
            let page = self.page_by_id(condition, now, &after, PAGE)?;
            let is_full = page.len() == PAGE;
            for view in page {
                after = view.device.id.to_string();
                if !visit(view) {
                    return Ok(());
                }
            }
            if !is_full {
                return Ok(());
            }
        }
    }

    /// Walks credentials in the order in which they end, those only for whose devices a condition holds at `now`, until `visit` says no.
    pub fn each_by_end(
        &self,
        condition: Option<&Condition>,
        now: UnixTime,
        visit: &mut dyn FnMut(Ending) -> bool,
    ) -> Result<(), StoreError> {
        let mut after = EndPlace::FIRST;
        loop {
            let page = self.page_by_end(condition, now, after, PAGE)?;
            let is_full = page.len() == PAGE;
            for each in page {
                after = each.at;
                if !visit(each) {
                    return Ok(());
                }
            }
            if !is_full {
                return Ok(());
            }
        }
    }

    fn walk(
        &self,
        condition: Option<&Condition>,
        now: UnixTime,
        visit: &mut dyn FnMut(DeviceView),
    ) -> Result<(), StoreError> {
        let mut after = 0;
        loop {
            let page = self.page(condition, now, after, PAGE)?;
            page.devices.into_iter().for_each(&mut *visit);
            match page.next {
                Some(next) => after = next,
                None => return Ok(()),
            }
        }
    }

    /// Walks the audit record from entry `from` on, until `visit` says no.
    pub fn each_entry(&self, from: i64, visit: &mut dyn FnMut(Entry) -> bool) -> Result<(), StoreError> {
        let mut next = from;
        loop {
            let page = self.entries(next, PAGE)?;
            let full = page.len() == PAGE;
            for entry in page {
                next = entry.number + 1;
                if !visit(entry) {
                    return Ok(());
                }
            }
            if !full {
                return Ok(());
            }
        }
    }

    /// Walks the entries about a subject, the newest first, until `visit` says no.
    pub fn each_entry_about(&self, subject: &str, visit: &mut dyn FnMut(Entry) -> bool) -> Result<(), StoreError> {
        let mut before = i64::MAX;
        loop {
            let page = self.entries_about(subject, before, PAGE)?;
            let full = page.len() == PAGE;
            for entry in page {
                before = entry.number;
                if !visit(entry) {
                    return Ok(());
                }
            }
            if !full {
                return Ok(());
            }
        }
    }

    /// Walks all credentials in the order in which they were recorded, each with the number of the entry that recorded it; those
    /// that older versions recorded have none.
    pub fn each_recorded(&self, visit: &mut dyn FnMut(Option<i64>, Fingerprint)) -> Result<(), StoreError> {
        let mut after = 0;
        loop {
            let page = self.recorded(after, PAGE)?;
            let full = page.len() == PAGE;
            for (place, entry, fingerprint) in page {
                after = place;
                visit(entry, fingerprint);
            }
            if !full {
                return Ok(());
            }
        }
    }

    /// Walks all blocked keys, the oldest first.
    pub fn each_blocked_key(&self, visit: &mut dyn FnMut(BlockedKey)) -> Result<(), StoreError> {
        let mut last: Option<BlockedKey> = None;
        loop {
            let page = self.blocked_keys(last.as_ref(), PAGE)?;
            let full = page.len() == PAGE;
            last = page.last().cloned();
            page.into_iter().for_each(&mut *visit);
            if !full {
                return Ok(());
            }
        }
    }
}

/// The devices that changed behind a change number; `None` if they are too many to name.
pub(crate) fn changed_devices(view: &dyn View, since: i64) -> Result<Option<Vec<DeviceId>>, StoreError> {
    let changed = view.changed(Place::after(since), MOST_CHANGED)?;
    Ok((!changed.more).then_some(changed.devices))
}
