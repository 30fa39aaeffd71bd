//! Devices.

use std::collections::BTreeSet;

use tidy_warden_core::admission::AdmissionEnd;
use tidy_warden_core::condition::{Candidate, Condition};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::due::{CredentialEnd, DeviceEnds};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{AuthorityName, DeviceId, GroupName, LabelName};
use tidy_warden_core::jwe::can_seal_to;
use tidy_warden_core::policy::FleetRow;
use tidy_warden_core::time::UnixTime;

use super::{Device, MemoryStore, Model, row};
use crate::{Changed, DeviceView, FieldNames, NameInUse, Page, Place, ReadDevices, StoreError, WriteDevices};

impl Model {
    fn note_names(&mut self, device: &DeviceRecord) {
        self.names.labels.extend(device.labels.keys().cloned());
        self.names.facts.extend(device.facts.keys().cloned());
    }

    pub(super) fn view(&self, device: &Device) -> DeviceView {
        let id = &device.record.id;
        let held = self.credentials.iter().filter(|each| each.record.device == *id);
        DeviceView {
            device: device.record.clone(),
            credentials: held.rev().map(|credential| self.credential(credential)).collect(),
        }
    }
}

impl ReadDevices for MemoryStore {
    fn devices(&self, ids: &[DeviceId]) -> Result<Vec<Option<DeviceView>>, StoreError> {
        let model = self.model();
        Ok(ids.iter().map(|id| model.device(id).map(|device| model.view(device))).collect())
    }

    fn page(&self, condition: Option<&Condition>, now: UnixTime, after: i64, limit: usize) -> Result<Page, StoreError> {
        let model = self.model();
        let behind = model.devices.iter().enumerate().filter(|(place, _)| row(*place) > after);
        let views = behind.map(|(place, device)| (row(place), model.view(device)));
        let holds = |view: &DeviceView| {
            let candidate = Candidate::at(&view.device, &view.credentials, now);
            condition.is_none_or(|condition| condition.holds(&candidate))
        };
        let page: Vec<(i64, DeviceView)> = views.filter(|(_, view)| holds(view)).take(limit).collect();
        let next = page.last().map(|(row, _)| *row).filter(|_| page.len() >= limit);
        Ok(Page { devices: page.into_iter().map(|(_, view)| view).collect(), next })
    }

    fn page_by_id(
        &self,
        condition: Option<&Condition>,
        now: UnixTime,
        after: &str,
        limit: usize,
    ) -> Result<Vec<DeviceView>, StoreError> {
        let mut devices = self.page(condition, now, 0, usize::MAX)?.devices;
        devices.retain(|view| view.device.id.as_str() > after);
        devices.sort_by(|one, other| one.device.id.cmp(&other.device.id));
        devices.truncate(limit);
        Ok(devices)
    }

    fn each_fleet_row(
        &self,
        facts: bool,
        visit: &mut dyn FnMut(&FleetRow<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        for Device { record, .. } in self.model().devices.iter().filter(|device| device.record.retired.is_none()) {
            FleetRow::of(record, facts, &mut *visit)?;
        }
        Ok(())
    }

    fn each_ending(
        &self,
        horizon: UnixTime,
        label: Option<&LabelName>,
        visit: &mut dyn FnMut(&DeviceEnds<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let model = self.model();
        for device in &model.devices {
            let DeviceView { device, credentials } = model.view(device);
            let good: Vec<_> = credentials.iter().filter_map(|each| Some((each, each.usable_until()?))).collect();
            if device.out.is_some() || device.retired.is_some() || (good.is_empty() && device.held.is_none()) {
                continue;
            }
            let authorised = |each: &CredentialRecord| {
                let known = model.credentials.iter().find(|known| known.record.fingerprint == each.fingerprint);
                known.is_some_and(|known| known.authorised_by.is_some())
            };
            let used = model.admissions.iter().any(|admission| {
                admission.device.id == device.id && matches!(admission.end, Some(AdmissionEnd::Used { .. }))
            });
            let soon = good.iter().any(|(_, until)| *until <= horizon);
            let is_shared_soon =
                |(each, until): &(&CredentialRecord, UnixTime)| each.origin == Origin::Shared && *until <= horizon;
            let is_public = |each: &CredentialRecord| {
                each.origin == Origin::Key && each.revoked.is_none() && can_seal_to(&each.key_type)
            };
            let takes_sealed = good.iter().any(is_shared_soon) && credentials.iter().any(is_public);
            let ends = good.iter().map(|(each, until)| CredentialEnd {
                origin: each.origin,
                authority: each.authority.as_ref(),
                begins: each.not_before,
                ends: *until,
                superseded: each.superseded_until.is_some(),
                kid: each.kid.as_deref(),
            });
            visit(&DeviceEnds {
                id: device.id.as_str(),
                kind: device.kind.as_str(),
                label: label.and_then(|name| device.labels.get(name)).map(|value| value.as_str()),
                held: device.held,
                came: good.iter().any(|(each, _)| authorised(each)) || (soon && used),
                takes_sealed,
                credentials: &ends.collect::<Vec<_>>(),
            })?;
        }
        Ok(())
    }

    fn children(&self, gateway: &DeviceId) -> Result<Vec<DeviceRecord>, StoreError> {
        let model = self.model();
        let all = model.devices.iter().map(|device| &device.record);
        let its = all.filter(|device| device.gateway.as_ref() == Some(gateway) && device.retired.is_none());
        Ok(its.cloned().collect())
    }

    fn is_gateway(&self, id: &DeviceId) -> Result<bool, StoreError> {
        Ok(self.model().devices.iter().any(|device| device.record.gateway.as_ref() == Some(id)))
    }

    fn holder(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
        Ok(self.model().facts.get(fact).cloned())
    }

    fn last_retired(&self, fact: &Fact) -> Result<Option<DeviceId>, StoreError> {
        Ok(self.model().retired_facts.get(fact).cloned())
    }

    fn is_used(&self, name: &NameInUse) -> Result<bool, StoreError> {
        Ok(self.model().devices.iter().any(|Device { record, .. }| match name {
            NameInUse::Label(label) => record.labels.contains_key(label),
            NameInUse::Kind(kind) => record.kind.as_str() == kind,
            NameInUse::Any => true,
        }))
    }

    fn label_names(&self) -> Result<Vec<String>, StoreError> {
        let model = self.model();
        let names: BTreeSet<&str> =
            model.devices.iter().flat_map(|device| device.record.labels.keys().map(|name| name.as_str())).collect();
        Ok(names.into_iter().map(str::to_owned).collect())
    }

    fn field_names(&self) -> Result<FieldNames, StoreError> {
        Ok(self.model().names.clone())
    }

    fn changed(&self, after: Place, limit: usize) -> Result<Changed, StoreError> {
        let model = self.model();
        let places = model.devices.iter().enumerate().map(|(place, device)| {
            let at = Place { change: device.changed, row: row(place) };
            (at, &device.record.id)
        });
        let mut behind: Vec<(Place, &DeviceId)> = places.filter(|(at, _)| *at > after).collect();
        behind.sort_by_key(|(at, _)| *at);
        let more = behind.len() > limit;
        behind.truncate(limit);
        Ok(Changed {
            to: behind.last().map_or(after, |(at, _)| *at),
            devices: behind.into_iter().map(|(_, id)| id.clone()).collect(),
            more,
        })
    }

    fn equipped_since(&self, authority: &AuthorityName) -> Result<(u64, u64), StoreError> {
        let without = self.unequipped_since(authority, usize::MAX)?.len();
        let model = self.model();
        let here = |device: &&Device| device.record.out.is_none() && device.record.retired.is_none();
        let all = model.devices.iter().filter(here).count();
        let count = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
        Ok((count(all), count(all - without)))
    }

    fn unequipped_since(&self, authority: &AuthorityName, limit: usize) -> Result<Vec<DeviceId>, StoreError> {
        let model = self.model();
        let before = model.authority(authority).ok().map(|authority| authority.credentials_before);
        let has = |device: &DeviceRecord| {
            let later = model.credentials.iter().skip(before.unwrap_or(usize::MAX));
            let mut handed =
                later.filter(|each| each.record.origin == Origin::Issued && each.record.equipped.is_some());
            handed.any(|each| each.record.device == device.id)
        };
        let here = model.devices.iter().map(|device| &device.record);
        let here = here.filter(|device| device.out.is_none() && device.retired.is_none());
        Ok(here.filter(|device| !has(device)).take(limit).map(|device| device.id.clone()).collect())
    }
}

impl WriteDevices for MemoryStore {
    fn insert_devices(&mut self, devices: &[DeviceRecord], change: i64) -> Result<bool, StoreError> {
        let model = self.model_mut();
        for device in devices {
            if model.rows.insert(device.id.clone(), model.devices.len()).is_some() {
                return Ok(false);
            }
            for fact in device.facts.values().filter(|fact| !model.names.shared.contains(fact.name())) {
                if model.facts.insert(fact.clone(), device.id.clone()).is_some() {
                    return Ok(false);
                }
            }
            model.note_names(device);
            model.devices.push(Device { record: device.clone(), changed: change });
        }
        Ok(true)
    }

    fn update_device(&mut self, before: &DeviceRecord, after: &DeviceRecord, change: i64) -> Result<(), StoreError> {
        let model = self.model_mut();
        model.facts.retain(|_, holder| *holder != before.id);
        if after.retired.is_some() && before.retired.is_none() {
            let sole = after.facts.values().filter(|fact| !model.names.shared.contains(fact.name()));
            model.retired_facts.extend(sole.map(|fact| (fact.clone(), after.id.clone())));
        }
        if after.retired.is_none() {
            let sole = after.facts.values().filter(|fact| !model.names.shared.contains(fact.name()));
            model.facts.extend(sole.map(|fact| (fact.clone(), after.id.clone())));
        }
        model.note_names(after);
        let device = model.device_mut(&after.id)?;
        let (groups, seen, created) = (device.record.groups.clone(), device.record.seen, device.record.created);
        *device = Device { record: DeviceRecord { groups, seen, created, ..after.clone() }, changed: change };
        Ok(())
    }

    fn put_shared(&mut self, facts: &[(FactName, bool)]) -> Result<(), StoreError> {
        let names = &mut self.model_mut().names;
        for (name, shared) in facts {
            names.facts.insert(name.clone());
            match shared {
                true => names.shared.insert(name.clone()),
                false => names.shared.remove(name),
            };
        }
        Ok(())
    }

    fn touch(&mut self, id: &DeviceId, change: i64) -> Result<(), StoreError> {
        if let Ok(device) = self.model_mut().device_mut(id) {
            device.changed = change;
        }
        Ok(())
    }

    fn put_seen(&mut self, id: &DeviceId, at: UnixTime) -> Result<(), StoreError> {
        self.model_mut().device_mut(id)?.record.seen = Some(at);
        Ok(())
    }

    fn put_renew_asked(&mut self, ids: &[DeviceId], at: UnixTime) -> Result<(), StoreError> {
        for device in self.model_mut().devices.iter_mut().filter(|device| ids.contains(&device.record.id)) {
            device.record.renew_asked = Some(at);
        }
        Ok(())
    }

    fn leave_group(&mut self, group: &GroupName, change: i64) -> Result<(), StoreError> {
        for device in &mut self.model_mut().devices {
            if device.record.groups.remove(group) {
                device.changed = change;
            }
        }
        Ok(())
    }

    fn join_group(&mut self, group: &GroupName, devices: &[DeviceId], change: i64) -> Result<(), StoreError> {
        for id in devices {
            let device = self.model_mut().device_mut(id)?;
            device.record.groups.insert(group.clone());
            device.changed = change;
        }
        Ok(())
    }
}
