//! What the store said of credentials, and what of it is remembered for the case that it falls silent.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::BadToken;
use tidy_warden_serve::lists::MakerLists;
use tidy_warden_store::{StoreError, View};

use crate::identity::{Admitted, Credential, NotAdmitted};

/// The most credentials that are remembered for the case that the store fails; a limit on memory.
const MOST_REMEMBERED: usize = 100_000;

/// The most credentials of one device that are remembered.
const MOST_OF_ONE: usize = 8;

/// What the store knows of a credential.
#[derive(Debug, Clone)]
pub(crate) struct Found {
    /// `None` for a token, which the store does not know.
    pub(crate) credential: Option<CredentialRecord>,
    pub(crate) device: Arc<DeviceRecord>,
}

impl Found {
    pub(crate) fn look(store: &dyn View, credential: &Credential) -> Result<Option<Self>, StoreError> {
        match credential {
            Credential::Certificate(fingerprint) => {
                let found = store.status_many(&[*fingerprint])?.into_iter().next().flatten();
                Ok(found.map(|(record, device)| Self { credential: Some(record), device: Arc::new(device) }))
            }
            Credential::Token(token) => {
                let found = store.devices(std::slice::from_ref(&token.device))?.into_iter().next().flatten();
                Ok(found.map(|view| Self { credential: None, device: Arc::new(view.device) }))
            }
        }
    }

    /// Whether the credential may sign in at `now`.
    pub(crate) fn judge(
        self,
        credential: &Credential,
        settings: &Settings,
        lists: &MakerLists,
        now: UnixTime,
    ) -> Result<Admitted, NotAdmitted> {
        let device = self.device;
        let barred = device.barred();
        let admitted = match (credential, self.credential) {
            (Credential::Token(token), _) => {
                if !settings.kind(&device.kind).is_ok_and(|kind| kind.token_login) {
                    return Err(NotAdmitted::NoTokenLogin(device.kind.to_string()));
                }
                if token.issued_at < device.tokens_from {
                    return Err(NotAdmitted::TokenRevoked);
                }
                if now >= token.ends {
                    return Err(BadToken::Ended { exp: token.ends }.into());
                }
                // A token is refused from the second `exp` on, so the one before is its last.
                let ends = UnixTime(token.ends.0 - 1);
                Ok(Admitted { device, ends, shown: format!("token {}", token.jti) })
            }
            (Credential::Certificate(_), Some(record)) => {
                record.may_sign_in(now)?;
                if let (Origin::Foreign, Some(maker)) = (record.origin, &record.authority) {
                    lists.judge(maker, (None, record.serial.as_ref()), now)?;
                }
                let ends = record.usable_until().unwrap_or(now);
                Ok(Admitted { device, ends, shown: format!("certificate {}", record.name()) })
            }
            (Credential::Certificate(_), None) => Err(NotAdmitted::UnknownCertificate),
        };
        match (admitted, barred) {
            (Ok(_), Some(barred)) => Err(barred.into()),
            (admitted, _) => admitted,
        }
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
    use tidy_warden_core::certificate::Fingerprint;

    use super::*;

    fn found(held: bool) -> Found {
        let mut device = DeviceRecord::new("wv-1".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
        device.held = held.then_some(UnixTime(5));
        Found { credential: None, device: Arc::new(device) }
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
