//! Who a connection is: a certificate that the store knows, or a token, and whether it may sign in now.

use std::collections::HashMap;
use std::sync::{Arc, Mutex as SyncMutex, PoisonError};
use std::time::{Duration, Instant};

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::{Barred, DeviceRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_core::token::{Parties, VerifiedToken, verify};
use tidy_warden_store::{
    Cause, Changes, DeviceView, EditionRecord, GroupRecord, Store, StoreError, Traffic, TrialDifference, TrialRecord,
};
use tokio::sync::Mutex;

/// The account under which the guard's own changes are recorded.
const ACTOR: &str = "guard";

/// The most credentials that are remembered for the case that the store fails; a limit on memory.
const MOST_REMEMBERED: usize = 100_000;

/// Read and write access to the store from many tasks. Who waits for its turn holds no thread, so that a store that is
/// slow to write does not keep anybody from reading.
#[derive(Clone)]
pub(crate) struct Knowledge {
    reader: Arc<Mutex<Box<dyn Store>>>,
    writer: Arc<Mutex<Box<dyn Store>>>,
    clock: Arc<dyn Clock>,
    /// Since when the store does not answer, and what it says.
    down: Arc<SyncMutex<Option<(Instant, String)>>>,
    /// What the store said last of the credentials that were admitted.
    remembered: Arc<SyncMutex<HashMap<Credential, Found>>>,
}

/// What the store knows of a credential.
#[derive(Debug, Clone)]
struct Found {
    /// `None` for a token, which the store does not know.
    credential: Option<CredentialRecord>,
    device: Arc<DeviceRecord>,
}

/// What a session was opened with.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum Credential {
    Certificate(Fingerprint),
    Token(VerifiedToken),
}

/// A device that may be here now.
#[derive(Debug, Clone)]
pub(crate) struct Admitted {
    pub(crate) device: Arc<DeviceRecord>,
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

impl Found {
    fn look(store: &dyn Store, credential: &Credential) -> Result<Option<Self>, StoreError> {
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
    fn judge(self, credential: &Credential, settings: &Settings, now: UnixTime) -> Result<Admitted, NotAdmitted> {
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
                    return Err(tidy_warden_core::token::BadToken::Ended { exp: token.ends }.into());
                }
                // A token is refused from the second `exp` on, so the one before is its last.
                let ends = UnixTime(token.ends.0 - 1);
                Ok(Admitted { device, ends, shown: format!("token {}", token.jti) })
            }
            (Credential::Certificate(_), Some(record)) => {
                record.may_sign_in(now)?;
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

/// The answer where the store knows nothing of a credential.
fn unknown(credential: &Credential) -> NotAdmitted {
    match credential {
        Credential::Certificate(_) => NotAdmitted::UnknownCertificate,
        Credential::Token(token) => NotAdmitted::UnknownDevice(token.device.to_string()),
    }
}

impl Knowledge {
    pub(crate) fn new(reader: Box<dyn Store>, writer: Box<dyn Store>, clock: Arc<dyn Clock>) -> Self {
        Self {
            reader: Arc::new(Mutex::new(reader)),
            writer: Arc::new(Mutex::new(writer)),
            clock,
            down: Arc::default(),
            remembered: Arc::default(),
        }
    }

    pub(crate) fn now(&self) -> UnixTime {
        self.clock.now()
    }

    fn down(&self) -> std::sync::MutexGuard<'_, Option<(Instant, String)>> {
        self.down.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How long the store has not answered; `None` while it does.
    pub(crate) fn silent_for(&self) -> Option<Duration> {
        self.down().as_ref().map(|(since, _)| since.elapsed())
    }

    /// Asks the store, unless it was silent a moment ago: then only [`Self::changed_since`] tries, and the others do not queue
    /// up behind a store that makes everybody wait.
    async fn read<T: Send + 'static>(
        &self,
        question: impl FnOnce(&dyn Store) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        if let Some((_, detail)) = &*self.down() {
            return Err(StoreError::Damaged { detail: detail.clone() });
        }
        // One row that does not read back is the trouble of whom it is about, and says nothing of the store.
        let silent = |error: &StoreError| {
            matches!(error, StoreError::Busy | StoreError::Absent { .. } | StoreError::Unwritable { .. })
        };
        self.try_read(question, silent).await
    }

    async fn try_read<T: Send + 'static>(
        &self,
        question: impl FnOnce(&dyn Store) -> Result<T, StoreError> + Send + 'static,
        silent: impl Fn(&StoreError) -> bool,
    ) -> Result<T, StoreError> {
        let store = self.reader.clone().lock_owned().await;
        let answer = finished(tokio::task::spawn_blocking(move || question(&**store)).await);
        let mut down = self.down();
        match &answer {
            Ok(_) => *down = None,
            Err(error) if !silent(error) => {}
            Err(error) => {
                let since = down.as_ref().map_or_else(Instant::now, |(since, _)| *since);
                *down = Some((since, error.to_string()));
            }
        }
        drop(down);
        answer
    }

    async fn write<T: Send + 'static>(
        &self,
        change: impl FnOnce(&mut dyn Store, &Cause) -> Result<T, StoreError> + Send + 'static,
        because: String,
    ) -> Result<T, StoreError> {
        let cause = Cause { at: self.now(), actor: ACTOR.to_owned(), because };
        let mut store = self.writer.clone().lock_owned().await;
        finished(tokio::task::spawn_blocking(move || change(&mut **store, &cause)).await)
    }

    /// What is new; tries the store even if it failed before.
    pub(crate) async fn changed_since(&self, since: i64) -> Result<Changes, StoreError> {
        self.try_read(move |store| store.changed_since(since), |_| true).await
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

    /// Devices as they are recorded.
    pub(crate) async fn devices(&self, ids: Vec<DeviceId>) -> Result<Vec<Option<DeviceView>>, StoreError> {
        self.read(move |store| store.devices(&ids)).await
    }

    pub(crate) async fn record_differences(
        &self,
        trial: u32,
        differences: Vec<TrialDifference>,
    ) -> Result<(), StoreError> {
        self.write(move |store, _| store.record_differences(trial, &differences), String::new()).await
    }

    /// Whether a credential may sign in at this moment, and which policies count. While the store does not answer, what it
    /// said last counts, but not for longer than the settings say.
    pub(crate) async fn admit(
        &self,
        credential: &Credential,
        settings: &Settings,
    ) -> Result<(Admitted, Option<Changes>), NotAdmitted> {
        let now = self.now();
        let wanted = credential.clone();
        let answer = self.read(move |store| Ok((Found::look(store, &wanted)?, store.changed_since(i64::MAX)?))).await;
        match answer {
            Ok((found, changes)) => {
                let found = found.ok_or_else(|| unknown(credential))?;
                let admitted = found.clone().judge(credential, settings, now);
                self.remember(credential, admitted.is_ok().then_some(found));
                Ok((admitted?, Some(changes)))
            }
            Err(error) => match self.recall(credential, settings) {
                Some(found) => Ok((found.judge(credential, settings, now)?, None)),
                None => Err(error.into()),
            },
        }
    }

    fn remembered(&self) -> std::sync::MutexGuard<'_, HashMap<Credential, Found>> {
        self.remembered.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn remember(&self, credential: &Credential, found: Option<Found>) {
        let mut remembered = self.remembered();
        match found {
            Some(found) => {
                if remembered.len() >= MOST_REMEMBERED {
                    remembered.clear();
                }
                remembered.insert(credential.clone(), found);
            }
            None => {
                remembered.remove(credential);
            }
        }
    }

    fn recall(&self, credential: &Credential, settings: &Settings) -> Option<Found> {
        let patience = u64::try_from(settings.guard.store_patience.seconds()).unwrap_or(0);
        let silent = self.silent_for().is_some_and(|silent| silent < Duration::from_secs(patience));
        silent.then(|| self.remembered().get(credential).cloned()).flatten()
    }

    /// The same for many credentials at once, whose sessions are open.
    pub(crate) async fn admit_many(
        &self,
        credentials: Vec<Credential>,
        settings: Arc<Settings>,
    ) -> Result<Vec<Result<Admitted, NotAdmitted>>, StoreError> {
        let now = self.now();
        let asked = credentials.clone();
        let look = move |store: &dyn Store| -> Result<Vec<Option<Found>>, StoreError> {
            asked.iter().map(|credential| Found::look(store, credential)).collect()
        };
        let all = self.read(look).await?;
        let judged = credentials.iter().zip(all).map(|(credential, found)| {
            let found = found.ok_or_else(|| unknown(credential))?;
            let admitted = found.clone().judge(credential, &settings, now);
            self.remember(credential, admitted.is_ok().then_some(found));
            admitted
        });
        Ok(judged.collect())
    }

    /// The recorded credential that a certificate in DER stands for, and its device: the one that the store recorded,
    /// nothing in the certificate is parsed for a name.
    pub(crate) async fn resolve(
        &self,
        der: Vec<u8>,
        settings: &Settings,
    ) -> Result<(Fingerprint, DeviceId), NotAdmitted> {
        let fingerprint = Fingerprint::of(&der);
        let known = match self.read(move |store| store.status_many(&[fingerprint])).await {
            Ok(known) => known,
            Err(error) => {
                let found = self.recall(&Credential::Certificate(fingerprint), settings);
                return found.map(|found| (fingerprint, found.device.id.clone())).ok_or_else(|| error.into());
            }
        };
        if let Some((record, device)) = known.into_iter().flatten().next()
            && record.origin != Origin::Foreign
        {
            return Ok((fingerprint, device.id));
        }
        let resolve = move |store: &mut dyn Store, cause: &Cause| {
            let Some(fingerprint) = crate::outside::resolve(store, &der, cause)? else { return Ok(None) };
            let found = store.status_many(&[fingerprint])?.into_iter().next().flatten();
            Ok(found.map(|(_, device)| (fingerprint, device.id)))
        };
        self.write(resolve, "first shown".to_owned()).await?.ok_or(NotAdmitted::UnknownCertificate)
    }

    /// Records what opened sessions.
    pub(crate) async fn record_uses(&self, uses: Vec<(DeviceId, Option<Fingerprint>)>) -> Result<(), StoreError> {
        self.write(move |store, cause| store.record_uses(&uses, cause), String::new()).await
    }

    /// Adds to what was counted of devices.
    pub(crate) async fn add_traffic(&self, counted: Vec<(DeviceId, Traffic)>) -> Result<(), StoreError> {
        self.write(move |store, cause| store.add_traffic(&counted, cause.at), String::new()).await
    }

    /// Records a sign of a clone, and puts the device on hold if that is to follow; says whether it did.
    pub(crate) async fn record_clone_sign(
        &self,
        device: DeviceId,
        sign: String,
        hold: bool,
    ) -> Result<bool, StoreError> {
        let because = if hold { format!("clone watch: {sign}") } else { String::new() };
        let record = move |store: &mut dyn Store, cause: &Cause| {
            store.record_clone_sign(&device, &sign, cause)?;
            Ok(hold && !store.set_hold(std::slice::from_ref(&device), true, cause)?.is_empty())
        };
        self.write(record, because).await
    }

    /// Notes in the audit record that a person looks at messages.
    pub(crate) async fn record_watch(&self, note: WatchNote) -> Result<i64, StoreError> {
        let record = move |store: &mut dyn Store, cause: &Cause| {
            let cause = Cause { actor: note.actor, because: note.because, ..cause.clone() };
            store.record_note(note.act, &note.subject, &note.detail, &cause)
        };
        self.write(record, String::new()).await
    }
}

/// What a person does over the guard, for the audit record.
pub(crate) struct WatchNote {
    pub(crate) act: &'static str,
    pub(crate) subject: String,
    pub(crate) detail: String,
    pub(crate) actor: String,
    pub(crate) because: String,
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
