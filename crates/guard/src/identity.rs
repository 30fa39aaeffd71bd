//! Who a connection is: a certificate that the store knows, or a token.

use std::sync::Arc;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::device::{Barred, DeviceRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::{Parties, VerifiedToken, verify};
use tidy_warden_serve::lists::Listed;
use tidy_warden_store::StoreError;

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
    #[error(transparent)]
    Listed(#[from] Listed),
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
    #[error("the device has {0} sessions at all guards together, and may have {1}")]
    Crowded(u64, u32),
    #[error("the store does not answer: {0}")]
    Store(#[from] StoreError),
    #[error("the store is older than what was seen of it: {0}")]
    Behind(String),
}

impl NotAdmitted {
    /// Whether this says nothing of the credential, because nobody knows.
    pub(crate) fn is_doubt(&self) -> bool {
        matches!(self, Self::Store(_) | Self::Behind(_))
    }
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
