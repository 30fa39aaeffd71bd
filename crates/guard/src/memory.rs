//! What the store said of credentials, and what of it is remembered for the case that it falls silent.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::BadToken;
use tidy_warden_serve::lists::MakerLists;
use tidy_warden_store::{Bearer, Signers, Standing, StoreError, TokenRefusal, View};

use crate::identity::{Admitted, Credential, NotAdmitted};

/// The most credentials that are remembered for the case that the store fails; a limit on memory.
const MOST_REMEMBERED: usize = 100_000;

/// The most credentials of one device that are remembered.
const MOST_OF_ONE: usize = 8;

/// What the store knows of a credential.
#[derive(Debug, Clone)]
pub(crate) struct Found {
    /// The certificate; `None` for a token alone.
    pub(crate) credential: Option<CredentialRecord>,
    /// What it knows of the token, if one was shown.
    pub(crate) token: Option<Standing>,
    pub(crate) device: Arc<DeviceRecord>,
}

/// What a credential is judged by, beside what the store says of it.
pub(crate) struct Terms<'a> {
    pub(crate) settings: &'a Settings,
    pub(crate) lists: &'a MakerLists,
    pub(crate) signers: &'a Signers,
    pub(crate) now: UnixTime,
}

impl Found {
    pub(crate) fn look(store: &dyn View, credential: &Credential) -> Result<Option<Self>, StoreError> {
        let status = |of: Fingerprint| Ok::<_, StoreError>(store.status_many(&[of])?.pop().flatten());
        let certificate = credential.certificate().map(status).transpose()?;
        let (mut found, device) = match certificate {
            None => (None, None),
            Some(None) => return Ok(None),
            Some(Some((record, device))) => (Some(record), Some(device)),
        };
        let Some(bearer) = credential.bearer() else {
            let (credential, device) = (found.take(), device);
            let known = |device| Self { credential, token: None, device: Arc::new(device) };
            return Ok(device.map(known));
        };
        let (standing, of_token) = Standing::look(store, bearer)?.unzip();
        // Both were shown by one connection, and are of one device or none.
        let device = match (device, of_token) {
            (Some(one), Some(other)) => (one.id == other.id).then_some(one),
            (None, other) if found.is_none() => other,
            _ => None,
        };
        Ok(device.map(|device| Self { credential: found, token: standing, device: Arc::new(device) }))
    }

    /// Whether the credential may sign in.
    pub(crate) fn judge(self, credential: &Credential, terms: &Terms<'_>) -> Result<Admitted, NotAdmitted> {
        let by_certificate = match credential.certificate() {
            Some(_) => Some(self.judge_certificate(terms)?),
            None => None,
        };
        let by_token = match credential.bearer() {
            Some(bearer) => Some(self.judge_token(bearer, by_certificate.is_none(), terms)?),
            None => None,
        };
        if let Some(barred) = self.device.barred() {
            return Err(barred.into());
        }
        let (ends, shown) = match (by_certificate, by_token) {
            (Some((one, shown)), Some((other, beside))) => (one.min(other), format!("{shown} with {beside}")),
            (Some(one), None) | (None, Some(one)) => one,
            (None, None) => return Err(NotAdmitted::Nothing),
        };
        Ok(Admitted { device: self.device, ends, shown })
    }

    /// The last second in which its certificate is good, and what that is called.
    fn judge_certificate(&self, terms: &Terms<'_>) -> Result<(UnixTime, String), NotAdmitted> {
        let record = self.credential.as_ref().ok_or(NotAdmitted::UnknownCertificate)?;
        record.may_sign_in(terms.now)?;
        if let (Origin::Foreign, Some(maker)) = (record.origin, &record.authority) {
            terms.lists.judge(maker, (None, record.serial.as_ref()), terms.now)?;
        }
        let ends = record.usable_until().unwrap_or(terms.now);
        Ok((ends, format!("certificate {}", record.name())))
    }

    /// The same of a token; `alone` stands for one that has no certificate beside it.
    fn judge_token(&self, bearer: &Bearer, alone: bool, terms: &Terms<'_>) -> Result<(UnixTime, String), NotAdmitted> {
        let standing = self.token.as_ref().ok_or(TokenRefusal::Token(BadToken::UnknownKey))?;
        let by = (terms.settings, terms.signers);
        let ends = standing.judge(bearer, &self.device, alone, by, terms.now)?;
        Ok((ends, bearer.token.shown()))
    }
}

/// What the store said last of the credentials that were admitted, for the case that it falls silent. It is as old as the
/// follower's last answer: whatever changed since then is forgotten first.
#[derive(Default)]
pub(crate) struct Memory {
    /// Up to which change number everything that changed was forgotten.
    pub(crate) upto: i64,
    /// How often the follower found something new.
    pub(crate) told: u64,
    /// What was found, and at which change number.
    pub(crate) found: HashMap<Credential, (Found, i64)>,
    of_device: HashMap<DeviceId, VecDeque<Credential>>,
}

impl Memory {
    /// Remembers what the store said at the change number `at`. What it said of a credential that may not sign in is remembered
    /// only in the place of what it said before.
    pub(crate) fn keep(&mut self, credential: &Credential, found: &Found, at: i64, admitted: bool) {
        // What was read before a change that is dealt with may be what the change was about.
        if at < self.upto {
            return;
        }
        let device = &found.device.id;
        // What holds for the device holds for whatever it shows.
        for other in self.of_device.get(device).into_iter().flatten() {
            if let Some((known, since)) = self.found.get_mut(other).filter(|(_, since)| *since <= at) {
                (known.device, *since) = (found.device.clone(), at);
            }
        }
        match self.found.get_mut(credential) {
            Some((known, since)) if *since <= at => (*known, *since) = (found.clone(), at),
            Some(_) => {}
            None if !admitted => {}
            None => {
                if self.found.len() >= MOST_REMEMBERED {
                    self.forget_all();
                }
                let its = self.of_device.entry(device.clone()).or_default();
                its.push_back(credential.clone());
                // Tokens come and go: the last ones are those that it will show.
                if its.len() > MOST_OF_ONE
                    && let Some(oldest) = its.pop_front()
                {
                    self.found.remove(&oldest);
                }
                self.found.insert(credential.clone(), (found.clone(), at));
            }
        }
    }

    /// Forgets a device; gives the credentials that it was known by.
    pub(crate) fn forget(&mut self, device: &DeviceId) -> VecDeque<Credential> {
        let known = self.of_device.remove(device).unwrap_or_default();
        known.iter().for_each(|credential| drop(self.found.remove(credential)));
        known
    }

    pub(crate) fn forget_all(&mut self) {
        self.found.clear();
        self.of_device.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(held: bool) -> Found {
        let mut device = DeviceRecord::new("wv-1".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
        device.held = held.then_some(UnixTime(5));
        Found { credential: None, token: None, device: Arc::new(device) }
    }

    fn credential(number: u8) -> Credential {
        Credential::Certificate(Fingerprint([number; 32]))
    }

    #[test]
    fn what_was_said_last_counts_for_all_that_a_device_shows() {
        let mut memory = Memory::default();
        let held = |memory: &Memory, number| {
            memory.found.get(&credential(number)).map(|(found, _)| found.device.held.is_some())
        };
        memory.keep(&credential(1), &found(false), 3, true);
        memory.keep(&credential(2), &found(true), 4, false);
        assert_eq!((held(&memory, 1), held(&memory, 2)), (Some(true), None), "one that was refused is not taken in");
        memory.keep(&credential(1), &found(false), 3, true);
        assert_eq!(held(&memory, 1), Some(true), "an older answer that comes later says nothing");
        memory.keep(&credential(3), &found(false), 5, true);
        assert_eq!((held(&memory, 1), held(&memory, 3)), (Some(false), Some(false)));
        memory.upto = 6;
        memory.keep(&credential(1), &found(true), 5, false);
        assert_eq!(held(&memory, 1), Some(false), "what changed since is dealt with already");
        assert_eq!(memory.forget(&found(false).device.id).len(), 2);
        assert!(memory.found.is_empty());
    }

    #[test]
    fn one_device_takes_the_room_of_few_credentials() {
        let mut memory = Memory::default();
        for number in 0..100 {
            memory.keep(&credential(number), &found(false), 1, true);
        }
        assert_eq!(memory.found.len(), MOST_OF_ONE);
        assert!(memory.found.contains_key(&credential(99)) && !memory.found.contains_key(&credential(0)));
    }
}
