//! Authorities and what their CRLs list.

use tidy_warden_core::authority::{AuthorityRecord, PendingAuthority};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::revocation::{Reason, Revoked};
use tidy_warden_core::time::UnixTime;

use super::{Authority, MemoryStore};
use crate::{NewestCrl, ReadAuthorities, Signed, StoreError, WriteAuthorities};

impl ReadAuthorities for MemoryStore {
    fn authorities(&self) -> Result<Vec<AuthorityRecord>, StoreError> {
        let told = |each: &Authority| AuthorityRecord { crl_pending: each.lacks != 0, ..each.record.clone() };
        Ok(self.model().authorities.iter().map(told).collect())
    }

    fn pending_authorities(&self) -> Result<Vec<PendingAuthority>, StoreError> {
        Ok(self.model().pending.values().cloned().collect())
    }

    fn signed_by(&self, authority: &AuthorityName, now: UnixTime) -> Result<Signed, StoreError> {
        let model = self.model();
        let its = model.credentials.iter().filter(|each| each.record.authority.as_ref() == Some(authority));
        let mut signed = Signed { all: 0, usable: 0, last_end: None };
        for credential in its.map(|each| model.credential(each)) {
            signed.all += 1;
            if credential.is_good(now) {
                signed.usable += 1;
                signed.last_end = signed.last_end.max(Some(credential.not_after));
            }
        }
        Ok(signed)
    }

    fn revoked_by(&self, authority: &AuthorityName) -> Result<Vec<(Revoked, UnixTime)>, StoreError> {
        let model = self.model();
        let its = model.credentials.iter().filter(|each| each.record.authority.as_ref() == Some(authority));
        let mut all = Vec::new();
        for credential in its.map(|each| model.credential(each)) {
            let held = credential.held.map(|since| (since, Reason::CertificateHold));
            if let (Some((at, reason)), Some(serial)) = (credential.revoked.or(held), credential.serial) {
                all.push((Revoked { serial, at, reason }, credential.not_after));
            }
        }
        for (lost, at) in model.lost.iter().filter(|(lost, _)| lost.authority == *authority) {
            let reason = Reason::CessationOfOperation;
            all.push((Revoked { serial: lost.serial.clone(), at: *at, reason }, lost.not_after));
        }
        all.sort_by(|(one, _), (other, _)| one.serial.cmp(&other.serial));
        Ok(all)
    }

    fn crl_lacks(&self, authority: &AuthorityName) -> Result<i64, StoreError> {
        Ok(self.model().authority(authority)?.lacks)
    }
}

impl WriteAuthorities for MemoryStore {
    fn insert_authority(&mut self, authority: &AuthorityRecord) -> Result<(), StoreError> {
        let model = self.model_mut();
        let credentials_before = model.credentials.len();
        model.authorities.push(Authority { record: authority.clone(), lacks: 0, credentials_before });
        Ok(())
    }

    fn put_cross(&mut self, authority: &AuthorityName, certificate: &Certificate) -> Result<(), StoreError> {
        let crossed = &mut self.model_mut().authority_mut(authority)?.record.crossed;
        crossed.push(certificate.clone());
        crossed.sort_by_key(|certificate| certificate.fingerprint.0);
        Ok(())
    }

    fn put_pending(&mut self, pending: &PendingAuthority) -> Result<(), StoreError> {
        let all = &mut self.model_mut().pending;
        all.entry(pending.name.clone()).or_insert_with(|| pending.clone()).created = pending.created;
        Ok(())
    }

    fn drop_pending(&mut self, name: &AuthorityName) -> Result<(), StoreError> {
        self.model_mut().pending.remove(name);
        Ok(())
    }

    fn put_retired(&mut self, name: &AuthorityName, at: UnixTime) -> Result<(), StoreError> {
        self.model_mut().authority_mut(name)?.record.retired = Some(at);
        Ok(())
    }

    fn put_crl(&mut self, name: &AuthorityName, crl: &NewestCrl) -> Result<(), StoreError> {
        let authority = self.model_mut().authority_mut(name)?;
        (authority.record.crl_number, authority.record.crl_at, authority.lacks) = (crl.number, Some(crl.at), crl.lacks);
        authority.record.crl_until = crl.until;
        Ok(())
    }

    fn put_crl_lacks(&mut self, name: &AuthorityName, change: i64) -> Result<(), StoreError> {
        self.model_mut().authority_mut(name)?.lacks = change;
        Ok(())
    }

    fn put_authorities_changed(&mut self, change: i64) -> Result<(), StoreError> {
        self.model_mut().authorities_changed = change;
        Ok(())
    }
}
