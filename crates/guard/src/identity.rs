//! Who a connection is: a certificate that the store knows, or a token, and whether it may sign in now.

use std::sync::Arc;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::Origin;
use tidy_warden_core::device::{Barred, DeviceRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_core::token::{Parties, VerifiedToken, verify};
use tidy_warden_store::{Cause, Changes, EditionRecord, GroupRecord, Store, StoreError, TrialDifference, TrialRecord};
use tokio::sync::Mutex;

/// The account under which the guard's own changes are recorded.
const ACTOR: &str = "guard";

/// Read and write access to the store from many tasks. Who waits for its turn holds no thread, so that a store that is
/// slow to write does not keep anybody from reading.
#[derive(Clone)]
pub(crate) struct Knowledge {
    reader: Arc<Mutex<Box<dyn Store>>>,
    writer: Arc<Mutex<Box<dyn Store>>>,
    clock: Arc<dyn Clock>,
}

/// What a session was opened with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Credential {
    Certificate(Fingerprint),
    Token(VerifiedToken),
}

/// A device that may be here now.
#[derive(Debug, Clone)]
pub(crate) struct Admitted {
    pub(crate) device: DeviceRecord,
    /// The last second in which its credential is good.
    pub(crate) ends: UnixTime,
    /// For the log: the kind of credential and its public name.
    pub(crate) shown: String,
}

/// Why a connection is nobody that may be here.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotAdmitted {
    #[error("the certificate chains to this ward, but the ward did not record it")]
    UnknownCertificate,
    #[error("there is no device `{0}`")]
    UnknownDevice(String),
    #[error(transparent)]
    Barred(#[from] Barred),
    #[error("{0}")]
    Credential(#[from] tidy_warden_core::credential::Unusable),
    #[error("the kind `{0}` does not sign in by token")]
    NoTokenLogin(String),
    #[error("{0}")]
    Token(#[from] tidy_warden_core::token::BadToken),
    #[error("the token was made before the device was revoked")]
    TokenRevoked,
    /// The name itself is left out: user names are never logged.
    #[error("the user name or the token beside it is not that of `{device}`, whose credential was shown")]
    OtherName { device: DeviceId },
    #[error("neither a certificate nor a user name with a token was shown")]
    Nothing,
    #[error("the store does not answer: {0}")]
    Store(#[from] StoreError),
}

impl Knowledge {
    pub(crate) fn new(reader: Box<dyn Store>, writer: Box<dyn Store>, clock: Arc<dyn Clock>) -> Self {
        Self { reader: Arc::new(Mutex::new(reader)), writer: Arc::new(Mutex::new(writer)), clock }
    }

    pub(crate) fn now(&self) -> UnixTime {
        self.clock.now()
    }

    async fn read<T: Send + 'static>(
        &self,
        question: impl FnOnce(&dyn Store) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let store = self.reader.clone().lock_owned().await;
        finished(tokio::task::spawn_blocking(move || question(&**store)).await)
    }

    pub(crate) async fn changed_since(&self, since: i64) -> Result<Changes, StoreError> {
        self.read(move |store| store.changed_since(since)).await
    }

    /// An edition, the groups that it may name, and the trial that is running.
    pub(crate) async fn policies(
        &self,
        edition: u32,
    ) -> Result<(Option<EditionRecord>, Vec<GroupRecord>, Option<TrialRecord>), StoreError> {
        self.read(move |store| Ok((store.edition(Some(edition))?, store.groups()?, store.trial()?))).await
    }

    pub(crate) async fn children(&self, gateway: DeviceId) -> Result<Vec<DeviceRecord>, StoreError> {
        self.read(move |store| store.children(&gateway)).await
    }

    pub(crate) async fn record_differences(
        &self,
        trial: u32,
        differences: Vec<TrialDifference>,
    ) -> Result<(), StoreError> {
        let mut store = self.writer.clone().lock_owned().await;
        finished(tokio::task::spawn_blocking(move || store.record_differences(trial, &differences)).await)
    }

    /// The device that the store recorded for a credential; nothing in the certificate is parsed for a name.
    pub(crate) async fn device_of(&self, credential: &Credential) -> Result<DeviceId, NotAdmitted> {
        match credential {
            Credential::Certificate(fingerprint) => {
                let fingerprint = *fingerprint;
                let found = self.read(move |store| store.status_many(&[fingerprint])).await?;
                let (_, device) = found.into_iter().next().flatten().ok_or(NotAdmitted::UnknownCertificate)?;
                Ok(device.id)
            }
            Credential::Token(token) => Ok(token.device.clone()),
        }
    }

    /// Whether a credential may sign in at this moment.
    pub(crate) async fn admit(&self, credential: &Credential, settings: &Settings) -> Result<Admitted, NotAdmitted> {
        let now = self.now();
        let admitted = match credential {
            Credential::Certificate(fingerprint) => {
                let fingerprint = *fingerprint;
                let found = self.read(move |store| store.status_many(&[fingerprint])).await?;
                let (record, device) = found.into_iter().next().flatten().ok_or(NotAdmitted::UnknownCertificate)?;
                record.may_sign_in(now)?;
                let ends = record.usable_until().unwrap_or(now);
                Admitted { device, ends, shown: format!("certificate {}", record.name()) }
            }
            Credential::Token(token) => {
                let id = token.device.clone();
                let found = self.read(move |store| store.devices(&[id])).await?;
                let unknown = || NotAdmitted::UnknownDevice(token.device.to_string());
                let device = found.into_iter().next().flatten().ok_or_else(unknown)?.device;
                if !settings.kind(&device.kind).is_ok_and(|kind| kind.token_login) {
                    return Err(NotAdmitted::NoTokenLogin(device.kind.to_string()));
                }
                if token.issued_at < device.tokens_from {
                    return Err(NotAdmitted::TokenRevoked);
                }
                if now >= token.ends {
                    return Err(tidy_warden_core::token::BadToken::Ended { exp: token.ends }.into());
                }
                // A token is refused from the second `exp` on, so the one before is its last.
                let ends = UnixTime(token.ends.0 - 1);
                Admitted { device, ends, shown: format!("token {}", token.jti) }
            }
        };
        match admitted.device.barred() {
            Some(barred) => Err(barred.into()),
            None => Ok(admitted),
        }
    }

    /// The recorded credential that a certificate in DER stands for.
    pub(crate) async fn resolve(&self, der: Vec<u8>) -> Result<Fingerprint, NotAdmitted> {
        let fingerprint = Fingerprint::of(&der);
        let known = self.read(move |store| store.status_many(&[fingerprint])).await?;
        if known.iter().flatten().any(|(record, _)| record.origin != Origin::Foreign) {
            return Ok(fingerprint);
        }
        let cause = Cause { at: self.now(), actor: ACTOR.to_owned(), because: "first shown".to_owned() };
        let mut store = self.writer.clone().lock_owned().await;
        let resolve = move || crate::outside::resolve(&mut **store, &der, &cause);
        finished(tokio::task::spawn_blocking(resolve).await)?.ok_or(NotAdmitted::UnknownCertificate)
    }

    /// Records that a credential opened a session.
    pub(crate) async fn record_use(&self, device: DeviceId, credential: &Credential) -> Result<(), StoreError> {
        let certificate = match credential {
            Credential::Certificate(fingerprint) => Some(*fingerprint),
            Credential::Token(_) => None,
        };
        let cause = Cause { at: self.now(), actor: ACTOR.to_owned(), because: String::new() };
        let mut store = self.writer.clone().lock_owned().await;
        finished(tokio::task::spawn_blocking(move || store.record_uses(&[(device, certificate)], &cause)).await)
    }
}

/// The result of a call on another thread; one that panicked is told as damage.
fn finished<T>(joined: Result<Result<T, StoreError>, tokio::task::JoinError>) -> Result<T, StoreError> {
    joined.unwrap_or_else(|_| Err(StoreError::Damaged { detail: "a store thread failed".to_owned() }))
}

/// What a client showed: its certificate from the handshake, user name and password from CONNECT.
pub(crate) struct Shown<'a> {
    pub(crate) certificate: Option<Fingerprint>,
    pub(crate) user_name: Option<&'a str>,
    pub(crate) password: Option<&'a [u8]>,
}

/// The credential that counts. A certificate always comes first: it is never passed over for a token. Where a token is
/// shown too, it must be good and of the same device, which the caller checks with [`same_device`].
pub(crate) fn credential(
    shown: &Shown<'_>,
    key: &PublicKey,
    parties: &Parties,
    now: UnixTime,
) -> Result<(Credential, Option<VerifiedToken>), NotAdmitted> {
    let token = match shown.password {
        Some(password) => {
            let text = std::str::from_utf8(password)
                .map_err(|_| tidy_warden_core::token::BadToken::Malformed { detail: "it is not text" })?;
            Some(verify(text, key, parties, now)?)
        }
        None => None,
    };
    match (shown.certificate, token, shown.user_name) {
        (Some(fingerprint), token, _) => Ok((Credential::Certificate(fingerprint), token)),
        (None, Some(token), Some(_)) => Ok((Credential::Token(token), None)),
        (None, _, _) => Err(NotAdmitted::Nothing),
    }
}

/// Whether everything that was shown names `device`.
pub(crate) fn same_device(
    shown: &Shown<'_>,
    beside: Option<&VerifiedToken>,
    device: &DeviceId,
) -> Result<(), NotAdmitted> {
    let names = [shown.user_name, beside.map(|token| token.device.as_str())];
    match names.into_iter().flatten().any(|name| name != device.as_str()) {
        true => Err(NotAdmitted::OtherName { device: device.clone() }),
        false => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use tidy_warden_core::key::{NewKey, Signer, SoftwareKey};
    use tidy_warden_core::random::Randomness;
    use tidy_warden_core::time::Span;

    use super::*;

    const NOW: UnixTime = UnixTime(1_795_417_333);

    struct Sevens;

    impl Randomness for Sevens {
        fn fill(&mut self, bytes: &mut [u8]) {
            bytes.fill(7);
        }
    }

    fn parties() -> Parties {
        Parties { issuer: "urn:uuid:1".to_owned(), audience: "mqtts://localhost:8883".to_owned() }
    }

    fn token(key: &SoftwareKey, device: &str) -> String {
        let life = Span::from_seconds(60);
        let device = device.parse().unwrap();
        tidy_warden_core::token::issue(&parties(), &device, NOW, life, key, &mut Sevens).unwrap().0
    }

    #[test]
    fn a_certificate_comes_first_and_is_never_passed_over() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let good = token(&key, "wv-1");
        let fingerprint = Fingerprint([1; 32]);
        let decide = |certificate, user_name, password: Option<&str>| {
            let shown = Shown { certificate, user_name, password: password.map(str::as_bytes) };
            credential(&shown, key.public_key(), &parties(), NOW)
        };
        let (chosen, beside) = decide(Some(fingerprint), Some("wv-1"), Some(&good)).unwrap();
        assert_eq!(chosen, Credential::Certificate(fingerprint));
        assert_eq!(beside.map(|token| token.device.to_string()).as_deref(), Some("wv-1"));
        assert!(matches!(decide(Some(fingerprint), None, Some("bad")), Err(NotAdmitted::Token(_))));
        assert!(decide(Some(fingerprint), None, None).is_ok());
        assert!(matches!(decide(None, Some("wv-1"), Some(&good)), Ok((Credential::Token(_), None))));
        assert!(matches!(decide(None, None, Some(&good)), Err(NotAdmitted::Nothing)), "a token needs its user name");
        assert!(matches!(decide(None, Some("wv-1"), None), Err(NotAdmitted::Nothing)));
        assert!(matches!(decide(None, None, None), Err(NotAdmitted::Nothing)));
        let shown = Shown { certificate: None, user_name: Some("wv-1"), password: Some(&[0xff, 0xfe]) };
        assert!(credential(&shown, key.public_key(), &parties(), NOW).is_err(), "not text");
    }

    #[test]
    fn everything_that_is_shown_must_name_one_device() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let beside =
            |of: &str| tidy_warden_core::token::verify(&token(&key, of), key.public_key(), &parties(), NOW).unwrap();
        let device: DeviceId = "wv-1".parse().unwrap();
        let agree = |user_name, beside: Option<&VerifiedToken>| {
            same_device(&Shown { certificate: None, user_name, password: None }, beside, &device)
        };
        assert!(agree(None, None).is_ok());
        assert!(agree(Some("wv-1"), Some(&beside("wv-1"))).is_ok());
        assert!(agree(Some("wv-2"), None).is_err());
        assert!(agree(Some("wv-1"), Some(&beside("wv-2"))).is_err());
        let error = agree(Some("somebody"), None).unwrap_err().to_string();
        assert!(!error.contains("somebody"), "user names are never logged: {error}");
    }
}
