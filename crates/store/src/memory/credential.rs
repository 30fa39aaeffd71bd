//! Credentials, blocked keys, and serial numbers that are about to be signed.

use tidy_warden_core::certificate::{Fingerprint, SerialNumber};
use tidy_warden_core::condition::{Candidate, Condition};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;

use super::{Credential, MemoryStore, Model, row, unknown};
use crate::{
    BlockedKey, Bound, EndPlace, Ending, Intended, NewCredential, ReadCredentials, StoreError, WriteCredentials,
};

impl Model {
    /// A credential with what follows from its device and its authority.
    pub(super) fn credential(&self, credential: &Credential) -> CredentialRecord {
        let record = &credential.record;
        let authority = record.authority.as_ref().and_then(|name| self.authority(name).ok());
        CredentialRecord {
            held: self.device(&record.device).and_then(|device| device.record.held),
            distrusted: authority.and_then(|authority| authority.record.retired),
            ..record.clone()
        }
    }

    fn by_fingerprint(&self, fingerprint: &Fingerprint) -> Option<&Credential> {
        self.credentials.iter().find(|each| each.record.fingerprint == *fingerprint)
    }
}

impl ReadCredentials for MemoryStore {
    fn status_many(
        &self,
        fingerprints: &[Fingerprint],
    ) -> Result<Vec<Option<(CredentialRecord, DeviceRecord)>>, StoreError> {
        let model = self.model();
        let look = |fingerprint: &Fingerprint| {
            let credential = model.by_fingerprint(fingerprint)?;
            let device = model.device(&credential.record.device)?;
            Some((model.credential(credential), device.record.clone()))
        };
        Ok(fingerprints.iter().map(look).collect())
    }

    fn fingerprints_of(&self, serial: &SerialNumber) -> Result<Vec<Fingerprint>, StoreError> {
        let model = self.model();
        let all = model.credentials.iter().filter(|each| each.record.serial.as_ref() == Some(serial));
        Ok(all.map(|each| each.record.fingerprint).collect())
    }

    fn bound_key(&self, key_digest: &[u8; 32]) -> Result<Option<Fingerprint>, StoreError> {
        let model = self.model();
        let newest_first = model.credentials.iter().rev();
        let mut keys = newest_first.filter(|each| each.record.origin == Origin::Key && each.key_digest == *key_digest);
        Ok(keys.next().map(|each| each.record.fingerprint))
    }

    fn bound_since(&self, after: i64, limit: usize) -> Result<Bound, StoreError> {
        let model = self.model();
        let all = model.credentials.iter().enumerate().map(|(place, each)| (row(place), &each.record));
        let some = all.filter(|(row, record)| *row > after && record.origin != Origin::Issued).take(limit);
        let mut bound = Bound { to: after, ..Bound::default() };
        let mut read = 0;
        for (row, record) in some {
            read += 1;
            bound.to = row;
            match record.origin {
                Origin::Pinned => bound.certificates.push(record.fingerprint),
                Origin::Key => bound.keys.push(record.fingerprint.0),
                Origin::Issued | Origin::Foreign | Origin::Shared => {}
            }
        }
        bound.more = read == limit;
        Ok(bound)
    }

    fn key_named(&self, kid: &str) -> Result<Option<(DeviceId, Fingerprint)>, StoreError> {
        let model = self.model();
        let found = model.credentials.iter().find(|each| each.record.kid.as_deref() == Some(kid));
        Ok(found.map(|each| (each.record.device.clone(), each.record.fingerprint)))
    }

    fn holders_of_key(&self, digest: &[u8; 32]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
        let model = self.model();
        let all = model.credentials.iter().filter(|each| each.key_digest == *digest);
        Ok(all.map(|each| (each.record.device.clone(), each.record.fingerprint)).collect())
    }

    fn authorised_by(&self, fingerprint: &Fingerprint) -> Result<Option<Fingerprint>, StoreError> {
        let model = self.model();
        let found = model.credentials.iter().rev().find(|each| each.record.fingerprint == *fingerprint);
        Ok(found.and_then(|found| found.authorised_by))
    }

    fn derived_from(&self, authorising: &[Fingerprint]) -> Result<Vec<(DeviceId, Fingerprint)>, StoreError> {
        let model = self.model();
        let all =
            model.credentials.iter().filter(|each| each.authorised_by.is_some_and(|by| authorising.contains(&by)));
        Ok(all.map(|each| (each.record.device.clone(), each.record.fingerprint)).collect())
    }

    fn key_digest(&self, fingerprint: &Fingerprint) -> Result<[u8; 32], StoreError> {
        let model = self.model();
        let found = model.by_fingerprint(fingerprint).map(|each| each.key_digest);
        found.ok_or_else(|| unknown("credential", fingerprint))
    }

    fn credential_der(&self, fingerprint: &Fingerprint) -> Result<Option<Vec<u8>>, StoreError> {
        Ok(self.model().by_fingerprint(fingerprint).map(|each| each.der.clone()))
    }

    fn blocked_key(&self, digest: &[u8; 32]) -> Result<Option<BlockedKey>, StoreError> {
        Ok(self.model().blocked.get(digest).cloned())
    }

    fn blocked_keys(&self, after: Option<&BlockedKey>, limit: usize) -> Result<Vec<BlockedKey>, StoreError> {
        let order = |key: &BlockedKey| (key.at, key.digest);
        let mut all: Vec<BlockedKey> = self.model().blocked.values().cloned().collect();
        all.sort_by_key(order);
        all.retain(|key| after.is_none_or(|after| order(key) > order(after)));
        all.truncate(limit);
        Ok(all)
    }

    fn intended(&self) -> Result<Vec<Intended>, StoreError> {
        let mut all = self.model().intended.clone();
        all.sort_by_key(|(at, intended)| (*at, intended.serial.clone()));
        Ok(all.into_iter().map(|(_, intended)| intended).collect())
    }

    fn recorded(&self, after: i64, limit: usize) -> Result<Vec<(i64, Option<i64>, Fingerprint)>, StoreError> {
        let model = self.model();
        let all = model.credentials.iter().enumerate().map(|(place, each)| (row(place), each));
        let some = all.filter(|(row, _)| *row > after).take(limit);
        Ok(some.map(|(row, each)| (row, Some(each.entry), each.record.fingerprint)).collect())
    }

    fn page_by_end(
        &self,
        condition: Option<&Condition>,
        now: UnixTime,
        after: EndPlace,
        limit: usize,
    ) -> Result<Vec<Ending>, StoreError> {
        let model = self.model();
        let all = model.credentials.iter().enumerate().filter_map(|(place, each)| {
            let record = &each.record;
            let end = record.superseded_until.map_or(record.not_after, |until| until.min(record.not_after));
            let view = model.view(model.device(&record.device)?);
            Some(Ending { at: EndPlace { end, row: row(place) }, fingerprint: record.fingerprint, view })
        });
        let holds = |each: &Ending| {
            let candidate = Candidate::at(&each.view.device, &each.view.credentials, now);
            each.at > after && condition.is_none_or(|condition| condition.holds(&candidate))
        };
        let mut page: Vec<Ending> = all.filter(holds).collect();
        page.sort_by_key(|each| each.at);
        page.truncate(limit);
        Ok(page)
    }

    fn entries_of(&self, device: &DeviceId) -> Result<Vec<i64>, StoreError> {
        let model = self.model();
        Ok(model.credentials.iter().filter(|each| each.record.device == *device).map(|each| each.entry).collect())
    }
}

impl WriteCredentials for MemoryStore {
    fn insert_credentials(&mut self, new: &[&NewCredential<'_>], at: UnixTime, entry: i64) -> Result<(), StoreError> {
        let model = self.model_mut();
        for each in new {
            model.device_mut(each.device)?;
            each.authority.map(|name| model.authority(name)).transpose()?;
            let record = CredentialRecord {
                fingerprint: each.fingerprint,
                serial: each.serial.cloned(),
                origin: each.origin,
                authority: each.authority.cloned(),
                device: each.device.clone(),
                key_type: each.key_type.to_owned(),
                not_before: each.not_before,
                not_after: each.not_after,
                issued: at,
                equipped: Some(at),
                first_used: None,
                superseded_until: None,
                revoked: None,
                held: None,
                distrusted: None,
                kid: each.kid.map(str::to_owned),
                note: each.note.map(str::to_owned),
            };
            let (key_digest, der, authorised_by) = (each.key_digest, each.der.to_vec(), each.authorised_by);
            model.credentials.push(Credential { record, key_digest, der, entry, authorised_by });
        }
        Ok(())
    }

    fn update_credential(&mut self, credential: &CredentialRecord) -> Result<(), StoreError> {
        let model = self.model_mut();
        credential.authority.as_ref().map(|name| model.authority(name)).transpose()?;
        for Credential { record, .. } in &mut model.credentials {
            if record.fingerprint == credential.fingerprint {
                record.authority.clone_from(&credential.authority);
                record.equipped = credential.equipped;
                record.first_used = credential.first_used;
                record.superseded_until = credential.superseded_until;
                record.revoked = credential.revoked;
            }
        }
        Ok(())
    }

    fn block_key(&mut self, key: &BlockedKey) -> Result<bool, StoreError> {
        let blocked = &mut self.model_mut().blocked;
        let is_new = !blocked.contains_key(&key.digest);
        if is_new {
            blocked.insert(key.digest, key.clone());
        }
        Ok(is_new)
    }

    fn put_intended(&mut self, intended: &Intended, at: UnixTime) -> Result<(), StoreError> {
        let model = self.model_mut();
        model.authority(&intended.authority)?;
        model.intended.push((at, intended.clone()));
        Ok(())
    }

    fn drop_intended(&mut self, serial: &SerialNumber) -> Result<bool, StoreError> {
        let intended = &mut self.model_mut().intended;
        let before = intended.len();
        intended.retain(|(_, each)| each.serial != *serial);
        Ok(intended.len() < before)
    }

    fn put_lost(&mut self, lost: &Intended, at: UnixTime) -> Result<(), StoreError> {
        let model = self.model_mut();
        model.authority(&lost.authority)?;
        model.lost.push((lost.clone(), at));
        Ok(())
    }
}
