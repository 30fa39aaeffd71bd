//! Owners and claims.

use tidy_warden_core::admission::{AdmissionRecord, AdmissionState};
use tidy_warden_core::claim::{HandOver, OpenClaim, OpenedBy, Ownership, Scope, Tries};
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::time::UnixTime;

use super::{MemoryStore, Model};
use crate::{OwnerPass, PassKind, ReadClaims, StoreError, WriteClaims};

fn many(count: usize) -> u64 {
    u64::try_from(count).unwrap_or(u64::MAX)
}

/// The devices of an owner, but the retired ones, in the order of their ids.
fn owned(model: &Model, owner: &OwnerId) -> Vec<DeviceId> {
    let is_its =
        |device: &&super::Device| device.record.owner.as_ref() == Some(owner) && device.record.retired.is_none();
    let mut all: Vec<DeviceId> = model.devices.iter().filter(is_its).map(|device| device.record.id.clone()).collect();
    all.sort();
    all
}

impl ReadClaims for MemoryStore {
    fn owner(&self, id: &OwnerId) -> Result<Option<OwnerRecord>, StoreError> {
        Ok(self.model().owners.get(id).cloned())
    }

    fn owners(&self, after: &str, limit: usize) -> Result<Vec<OwnerRecord>, StoreError> {
        let model = self.model();
        let behind = model.owners.values().filter(|owner| owner.id.as_str() > after);
        Ok(behind.take(limit).cloned().collect())
    }

    fn owned(&self, owner: &OwnerId, after: &str, limit: usize) -> Result<Vec<DeviceId>, StoreError> {
        let all = owned(&self.model(), owner);
        Ok(all.into_iter().filter(|id| id.as_str() > after).take(limit).collect())
    }

    fn count_owned(&self, owner: &OwnerId) -> Result<u64, StoreError> {
        Ok(many(owned(&self.model(), owner).len()))
    }

    fn count_admitted(&self, owner: &OwnerId, now: UnixTime) -> Result<u64, StoreError> {
        let model = self.model();
        let names = |each: &&AdmissionRecord| each.device.owner.as_ref() == Some(owner);
        let is_open = |each: &&AdmissionRecord| each.state(now) == AdmissionState::Open;
        Ok(many(model.admissions.iter().filter(names).filter(is_open).count()))
    }

    fn claim(&self, device: &DeviceId, by: OpenedBy) -> Result<Option<OpenClaim>, StoreError> {
        Ok(self.model().claims.get(&(by, device.clone())).cloned())
    }

    fn claims(&self, by: OpenedBy, after: &str, limit: usize) -> Result<Vec<OpenClaim>, StoreError> {
        let model = self.model();
        let wanted = |each: &&OpenClaim| each.by == by && each.device.as_str() > after;
        Ok(model.claims.values().filter(wanted).take(limit).cloned().collect())
    }

    fn hand_over(&self, device: &DeviceId) -> Result<Option<HandOver>, StoreError> {
        Ok(self.model().hand_overs.get(device).cloned())
    }

    fn hand_overs(&self, to: Option<&OwnerId>, after: &str, limit: usize) -> Result<Vec<HandOver>, StoreError> {
        let model = self.model();
        let wanted = |each: &&HandOver| to.is_none_or(|to| each.to == *to) && each.device.as_str() > after;
        Ok(model.hand_overs.values().filter(wanted).take(limit).cloned().collect())
    }

    fn ownerships(&self, device: &DeviceId, limit: usize) -> Result<Vec<Ownership>, StoreError> {
        let model = self.model();
        let its = model.ownerships.values().rev().filter(|each| each.device == *device);
        Ok(its.take(limit).cloned().collect())
    }

    fn tries(&self, scope: Scope, name: &str) -> Result<Option<Tries>, StoreError> {
        Ok(self.model().tries.get(&(scope, name.to_owned())).copied())
    }

    fn owner_pass(&self, digest: &[u8; 32]) -> Result<Option<OwnerPass>, StoreError> {
        Ok(self.model().passes.get(digest).cloned())
    }

    fn count_owner_passes(&self, owner: &OwnerId, kind: PassKind) -> Result<u64, StoreError> {
        let model = self.model();
        Ok(many(model.passes.values().filter(|pass| pass.owner == *owner && pass.kind == kind).count()))
    }
}

impl WriteClaims for MemoryStore {
    fn put_owner(&mut self, owner: &OwnerRecord) -> Result<(), StoreError> {
        self.model_mut().owners.insert(owner.id.clone(), owner.clone());
        Ok(())
    }

    fn put_claim(&mut self, claim: &OpenClaim) -> Result<(), StoreError> {
        self.model_mut().claims.insert((claim.by, claim.device.clone()), claim.clone());
        Ok(())
    }

    fn drop_claims(&mut self, of: Option<&DeviceId>) -> Result<(), StoreError> {
        self.model_mut().claims.retain(|(_, device), _| of.is_some_and(|of| device != of));
        Ok(())
    }

    fn put_hand_over(&mut self, offer: &HandOver) -> Result<(), StoreError> {
        self.model_mut().hand_overs.insert(offer.device.clone(), offer.clone());
        Ok(())
    }

    fn drop_hand_overs(&mut self, of: Option<&DeviceId>) -> Result<(), StoreError> {
        self.model_mut().hand_overs.retain(|device, _| of.is_some_and(|of| device != of));
        Ok(())
    }

    fn drop_hand_overs_to(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        self.model_mut().hand_overs.retain(|_, offer| offer.to != *owner);
        Ok(())
    }

    fn put_ownership(&mut self, ownership: &Ownership) -> Result<(), StoreError> {
        let model = self.model_mut();
        let next = model.ownerships.keys().last().copied().unwrap_or(0) + 1;
        let number = if ownership.number > 0 { ownership.number } else { next };
        model.ownerships.insert(number, Ownership { number, ..ownership.clone() });
        Ok(())
    }

    fn put_tries(&mut self, scope: Scope, name: &str, tries: Option<Tries>) -> Result<(), StoreError> {
        let all = &mut self.model_mut().tries;
        match tries {
            Some(tries) => drop(all.insert((scope, name.to_owned()), tries)),
            None => drop(all.remove(&(scope, name.to_owned()))),
        }
        Ok(())
    }

    fn drop_tries_at(&mut self, device: &DeviceId) -> Result<(), StoreError> {
        let end = format!(" {device}");
        self.model_mut().tries.retain(|(scope, name), _| match scope {
            Scope::Pair => !name.ends_with(&end),
            Scope::Device => name != device.as_str(),
            Scope::Owner | Scope::Source => true,
        });
        Ok(())
    }

    fn drop_tries_of(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        let start = format!("{owner} ");
        self.model_mut().tries.retain(|(scope, name), _| match scope {
            Scope::Pair => !name.starts_with(&start),
            Scope::Owner => name != owner.as_str(),
            Scope::Device | Scope::Source => true,
        });
        Ok(())
    }

    fn drop_old_tries(&mut self, before: UnixTime, limit: usize) -> Result<(), StoreError> {
        let all = &mut self.model_mut().tries;
        let mut old: Vec<_> = all.iter().filter(|(_, tries)| tries.last < before).collect();
        old.sort_by_key(|((scope, name), tries)| (tries.last, scope.as_str(), name.as_str()));
        let old: Vec<_> = old.into_iter().take(limit).map(|(key, _)| key.clone()).collect();
        all.retain(|key, _| !old.contains(key));
        Ok(())
    }

    fn put_owner_pass(&mut self, pass: &OwnerPass) -> Result<(), StoreError> {
        self.model_mut().passes.insert(pass.digest, pass.clone());
        Ok(())
    }

    fn drop_owner_pass(&mut self, digest: &[u8; 32]) -> Result<(), StoreError> {
        self.model_mut().passes.remove(digest);
        Ok(())
    }

    fn drop_owner_passes(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        self.model_mut().passes.retain(|_, pass| pass.owner != *owner);
        Ok(())
    }

    fn sign_owners_out(&mut self, from: UnixTime) -> Result<(), StoreError> {
        let model = self.model_mut();
        model.passes.clear();
        model.owners.values_mut().for_each(|owner| owner.signed_in_from = owner.signed_in_from.max(from));
        Ok(())
    }

    fn drop_old_owner_passes(&mut self, before: UnixTime, limit: usize) -> Result<(), StoreError> {
        let all = &mut self.model_mut().passes;
        let mut old: Vec<(UnixTime, [u8; 32])> =
            all.values().filter(|pass| pass.ends < before).map(|pass| (pass.ends, pass.digest)).collect();
        old.sort_unstable();
        old.iter().take(limit).for_each(|(_, digest)| drop(all.remove(digest)));
        Ok(())
    }
}

pub(super) fn open_windows(model: &mut Model, windows: &[OpenClaim]) {
    for window in windows.iter().filter(|window| window.by == OpenedBy::Device) {
        model.claims.insert((window.by, window.device.clone()), window.clone());
    }
}
