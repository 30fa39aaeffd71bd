//! The errand as it is signed, and what a device makes of it.

use data_encoding::{BASE64, BASE64URL_NOPAD};
use serde::{Deserialize, Serialize};
use serde_json::json;
use serde_json::value::RawValue;

use super::{Errand, Purpose};
use crate::certificate::{Certificate, ChainError, Purpose as For, judge};
use crate::id::DeviceId;
use crate::jws::{self, Cut};
use crate::key::{SignError, Signer};
use crate::time::UnixTime;
use crate::token::{TokenKey, TokenSigner, algorithms};

/// The `typ` of an errand (RFC 8725 section 3.11).
pub const ERRAND_TYPE: &str = "errand+jwt";

/// The longest errand that a device need look at, in octets: certificates of large keys, and what is wanted in detail.
pub const MAX_ERRAND: usize = 64 * 1024;

/// How many certificates come with it at the most.
const MOST_CERTIFICATES: usize = 4;

/// How far ahead of the device's clock an errand may say that it was sent, in seconds.
const SKEW: i64 = 300;

/// What is under the signature: the names of RFC 7519 section 4.1 where there is one.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Claims<'a> {
    iss: String,
    aud: String,
    jti: String,
    iat: i64,
    exp: i64,
    purpose: String,
    nonce: String,
    #[serde(borrow)]
    detail: &'a RawValue,
}

/// What the ward signs for an errand: header and payload, which follow from it and from `chain`, the certificate of the key that signs and
/// those above it, without the root. `ward` is the ward's URN. `None` if the key signs no JWS, or the detail is no JSON.
#[must_use]
pub(super) fn signing_input(errand: &Errand, ward: &str, chain: &[&Certificate]) -> Option<String> {
    let algorithm = algorithms(chain.first()?.public_key.key_type()).first()?;
    let certificates: Vec<String> = chain.iter().map(|each| BASE64.encode(each.der())).collect();
    let header = json!({ "alg": algorithm.as_str(), "typ": ERRAND_TYPE, "x5c": certificates });
    let claims = Claims {
        iss: ward.to_owned(),
        aud: errand.device.to_string(),
        jti: errand.number.to_string(),
        iat: errand.sent.0,
        exp: errand.ends.0,
        purpose: errand.purpose.to_string(),
        nonce: BASE64URL_NOPAD.encode(&errand.nonce),
        detail: serde_json::from_str(&errand.detail).ok()?,
    };
    Some(jws::input(&header, &serde_json::to_vec(&claims).ok()?))
}

/// Signs an errand with the key of the first certificate of `chain`: the signature as a JWS has it.
///
/// # Errors
/// The key signs no JWS, or not now; the detail is no JSON.
pub fn sign(errand: &Errand, ward: &str, chain: &[&Certificate], key: &dyn Signer) -> Result<Vec<u8>, SignError> {
    let input = signing_input(errand, ward, chain).ok_or(SignError::Library)?;
    TokenSigner::Private(key).sign(input.as_bytes())
}

/// The whole errand, as it goes to its device.
#[must_use]
pub fn whole(errand: &Errand, ward: &str, chain: &[&Certificate], signature: &[u8]) -> Option<String> {
    Some(jws::with_signature(signing_input(errand, ward, chain)?, signature))
}

/// Why a device does not do what it is told.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadErrand {
    /// It has not the form of one.
    #[error("it is no errand: {0}")]
    Form(&'static str),
    /// It is something else that is signed.
    #[error("it is of the type {found:?}, not {ERRAND_TYPE}")]
    Type {
        /// What it says that it is.
        found: String,
    },
    /// Its signer is nobody's who may sign errands.
    #[error("whoever signed it may not: {0}")]
    Signer(ChainError),
    /// It was changed, or signed with another key.
    #[error("its signature does not verify")]
    Signature,
    /// It is somebody else's.
    #[error("it is for `{found}`")]
    OtherDevice {
        /// Whose it is.
        found: String,
    },
    /// Another ward signed it.
    #[error("it is of another ward")]
    OtherWard,
    /// It is over.
    #[error("it ended at {ends}")]
    Ended {
        /// Its last second.
        ends: UnixTime,
    },
    /// It was sent after the device's clock.
    #[error("it was sent at {sent}, which is to come")]
    NotYet {
        /// When it says that it was sent.
        sent: UnixTime,
    },
}

/// An errand that a device may do, and whose ward it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Read {
    /// What is to be done.
    pub errand: Errand,
    /// The ward's URN.
    pub ward: String,
}

/// What a device makes of what it was handed: it believes `roots` and nobody else. `ward` is the URN of its ward, if it knows that.
///
/// Whether it did this number before is for the device to know: it remembers the numbers that it did until their ends.
///
/// # Errors
/// It is none, or is not for this device, not now, or not signed by whoever may.
pub fn read(
    text: &str,
    device: &DeviceId,
    roots: &[Certificate],
    ward: Option<&str>,
    now: UnixTime,
) -> Result<Read, BadErrand> {
    if text.len() > MAX_ERRAND {
        return Err(BadErrand::Form("it is too long"));
    }
    let cut = Cut::of(text).ok_or(BadErrand::Form("it is no JWS, or says what no errand says"))?;
    if cut.header.typ != ERRAND_TYPE {
        return Err(BadErrand::Type { found: cut.header.typ.chars().take(64).collect() });
    }
    if cut.header.x5c.is_empty() || cut.header.x5c.len() > MOST_CERTIFICATES {
        return Err(BadErrand::Form("it comes with no certificate, or with too many"));
    }
    let mut chain = Vec::new();
    for each in &cut.header.x5c {
        // RFC 7515 section 4.1.6: base64 and not base64url.
        let der = BASE64.decode(each.as_bytes()).map_err(|_| BadErrand::Form("its certificates are not in base64"))?;
        chain.push(Certificate::from_der(&der).map_err(|_| BadErrand::Form("its certificates cannot be read"))?);
    }
    let (leaf, above) = chain.split_first().ok_or(BadErrand::Form("it comes with no certificate"))?;
    judge(leaf, above, roots, For::Errands, now).map_err(BadErrand::Signer)?;
    if !cut.is_signed_by(TokenKey::Public(&leaf.public_key)) {
        return Err(BadErrand::Signature);
    }
    let claims: Claims<'_> =
        serde_json::from_slice(&cut.payload).map_err(|_| BadErrand::Form("its claims cannot be read"))?;
    if claims.aud != device.as_str() {
        return Err(BadErrand::OtherDevice { found: claims.aud.chars().take(64).collect() });
    }
    if ward.is_some_and(|ward| ward != claims.iss) {
        return Err(BadErrand::OtherWard);
    }
    let (sent, ends) = (UnixTime(claims.iat), UnixTime(claims.exp));
    if ends < now {
        return Err(BadErrand::Ended { ends });
    }
    if claims.iat > now.0.saturating_add(SKEW) {
        return Err(BadErrand::NotYet { sent });
    }
    let nonce = BASE64URL_NOPAD.decode(claims.nonce.as_bytes()).ok().and_then(|nonce| nonce.try_into().ok());
    Ok(Read {
        errand: Errand {
            number: claims.jti.parse().map_err(|_| BadErrand::Form("its jti is no number"))?,
            device: device.clone(),
            purpose: claims.purpose.parse::<Purpose>().map_err(|_| BadErrand::Form("its purpose is no name"))?,
            detail: claims.detail.get().to_owned(),
            nonce: nonce.ok_or(BadErrand::Form("its nonce is not of 16 octets"))?,
            sent,
            ends,
        },
        ward: claims.iss,
    })
}
