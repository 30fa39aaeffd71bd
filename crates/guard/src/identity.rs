//! Who a connection is: a certificate that the store knows, or a token.

use std::sync::Arc;

use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::device::{Barred, DeviceRecord};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::Scope;
use tidy_warden_serve::lists::Listed;
use tidy_warden_store::{Bearer, StoreError, TokenRefusal};

use crate::replays::Replay;

/// What a session was opened with.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum Credential {
    Certificate(Fingerprint),
    Token(Arc<Bearer>),
    /// A certificate with a token beside it, which narrows what the certificate opens: both must be good.
    Both(Fingerprint, Arc<Bearer>),
}

impl Credential {
    pub(crate) fn certificate(&self) -> Option<Fingerprint> {
        match self {
            Self::Certificate(fingerprint) | Self::Both(fingerprint, _) => Some(*fingerprint),
            Self::Token(_) => None,
        }
    }

    pub(crate) fn bearer(&self) -> Option<&Arc<Bearer>> {
        match self {
            Self::Token(bearer) | Self::Both(_, bearer) => Some(bearer),
            Self::Certificate(_) => None,
        }
    }

    /// What a token narrows the policies to.
    pub(crate) fn scope(&self) -> Option<&Arc<Scope>> {
        self.bearer().and_then(|bearer| bearer.scope())
    }
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
    #[error(transparent)]
    Token(#[from] TokenRefusal),
    #[error(transparent)]
    Replay(#[from] Replay),
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
}

/// The credential that counts. A certificate is never passed over for a token: where both are shown both must be good and of the same
/// device, which the caller checks with [`same_device`].
pub(crate) fn credential(shown: &Shown<'_>, bearer: Option<Bearer>) -> Result<Credential, NotAdmitted> {
    match (shown.certificate, bearer.map(Arc::new), shown.user_name) {
        (Some(fingerprint), None, _) => Ok(Credential::Certificate(fingerprint)),
        (Some(fingerprint), Some(bearer), _) => Ok(Credential::Both(fingerprint, bearer)),
        (None, Some(bearer), Some(_)) => Ok(Credential::Token(bearer)),
        (None, _, _) => Err(NotAdmitted::Nothing),
    }
}

/// Whether everything that was shown names `device`.
pub(crate) fn same_device(shown: &Shown<'_>, credential: &Credential, device: &DeviceId) -> Result<(), NotAdmitted> {
    let beside = credential.bearer().map(|bearer| bearer.token.device.as_str());
    match [shown.user_name, beside].into_iter().flatten().any(|name| name != device.as_str()) {
        true => Err(NotAdmitted::OtherName { device: device.clone() }),
        false => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use tidy_warden_core::time::UnixTime;
    use tidy_warden_core::token::{TokenName, VerifiedToken};

    use super::*;

    fn bearer(device: &str) -> Bearer {
        let token = VerifiedToken {
            device: device.parse().unwrap(),
            kid: "k".into(),
            is_wards: true,
            issued_at: UnixTime(0),
            ends: UnixTime(60),
            name: TokenName::Digest([0; 32]),
            bound: None,
            scope: None,
        };
        Bearer { token, key: None }
    }

    #[test]
    fn a_certificate_is_never_passed_over_for_a_token() {
        let fingerprint = Fingerprint([7; 32]);
        let decide = |certificate, user_name, bearer| credential(&Shown { certificate, user_name }, bearer);
        assert!(matches!(decide(Some(fingerprint), None, None), Ok(Credential::Certificate(_))));
        assert!(matches!(decide(Some(fingerprint), None, Some(bearer("wv-1"))), Ok(Credential::Both(..))));
        assert!(matches!(decide(None, Some("wv-1"), Some(bearer("wv-1"))), Ok(Credential::Token(_))));
        assert!(
            matches!(decide(None, None, Some(bearer("wv-1"))), Err(NotAdmitted::Nothing)),
            "a token needs its user name"
        );
        assert!(matches!(decide(None, Some("wv-1"), None), Err(NotAdmitted::Nothing)));
    }

    #[test]
    fn whatever_is_shown_names_one_device() {
        let device: DeviceId = "wv-1".parse().unwrap();
        let agree = |user_name, credential: &Credential| {
            same_device(&Shown { certificate: None, user_name }, credential, &device).is_ok()
        };
        let (alone, fingerprint) = (Credential::Certificate(Fingerprint([7; 32])), Fingerprint([7; 32]));
        let with = |of: &str| Credential::Both(fingerprint, Arc::new(bearer(of)));
        assert!(agree(None, &alone) && agree(Some("wv-1"), &with("wv-1")));
        assert!(!agree(Some("wv-2"), &alone));
        assert!(!agree(Some("wv-1"), &with("wv-2")));
    }
}
