//! What a device answers.
//!
//! Most answers are plain JSON, and prove themselves by the session in which they come. An answer with a request for a certificate is
//! signed with the key of the certificate that the device has.

use data_encoding::{BASE64, BASE64URL_NOPAD};
use serde::{Deserialize, Serialize};
use serde_json::json;
use serde_json::value::RawValue;

use super::Errand;
use crate::jws::{self, Cut};
use crate::key::{PublicKey, SignError, Signer};
use crate::token::{TokenKey, TokenSigner};

/// The largest answer that is taken, in octets: a request with a large key, signed with a large key.
pub const MAX_ANSWER: usize = 32 * 1024;

/// The `typ` of an answer that is signed.
const ANSWER_TYPE: &str = "errand-answer+jwt";

/// The longest reason that is kept, in characters, and the largest result, in octets.
const MAX_REASON: usize = 500;
const MAX_RESULT: usize = 4 * 1024;

/// What became of it, by the device's word.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// It did it.
    Done,
    /// It will not do it.
    Refused,
}

/// An answer as it is written; `nonce`, `aud`, `iss` and `csr` stand only in one that is signed.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Said<'a> {
    errand: i64,
    outcome: Outcome,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    reason: Option<String>,
    #[serde(default, borrow, skip_serializing_if = "Option::is_none")]
    result: Option<&'a RawValue>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    iss: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    aud: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    nonce: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    csr: Option<String>,
}

/// What a device said of an errand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// It did it; what came of it as the text of a JSON object, if something did.
    Done(Option<String>),
    /// It will not do it, and why.
    Refused(String),
    /// It asks for its next certificate.
    Renewal(Renewal),
}

/// A request for the next certificate that answers an errand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Renewal {
    /// PKCS#10 in DER; whether it proves its own key is for [`crate::request`] to say.
    pub csr: Vec<u8>,
}

/// Why an answer is not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadAnswer {
    /// It cannot be read.
    #[error("the answer cannot be read: {0}")]
    Form(&'static str),
    /// It answers something else.
    #[error("the answer is to errand {found}")]
    Other {
        /// Which.
        found: i64,
    },
    /// A request for a certificate that its device did not sign with the key that it has.
    #[error(
        "the request for a certificate is not signed with the key of a certificate that the device may sign in with"
    )]
    Unsigned,
    /// It is signed, but for another errand, by another device, or for another ward.
    #[error("the answer does not repeat what was asked: {0}")]
    Unbound(&'static str),
    /// It says that it was done, but an errand to renew is done with a request.
    #[error("{0}")]
    Meaning(&'static str),
}

/// Whether a text is signed, and what it says; nothing is verified.
fn parts(text: &str) -> Result<(Option<Cut<'_>>, Vec<u8>), BadAnswer> {
    if text.len() > MAX_ANSWER {
        return Err(BadAnswer::Form("it is too long"));
    }
    if text.starts_with('{') {
        return Ok((None, text.as_bytes().to_vec()));
    }
    let cut = Cut::of(text).ok_or(BadAnswer::Form("it is neither JSON nor a JWS"))?;
    if cut.header.typ != ANSWER_TYPE {
        return Err(BadAnswer::Form("it is a JWS of another type than errand-answer+jwt"));
    }
    let payload = cut.payload.clone();
    Ok((Some(cut), payload))
}

fn said(payload: &[u8]) -> Result<Said<'_>, BadAnswer> {
    serde_json::from_slice(payload).map_err(|_| BadAnswer::Form("its members are not those of an answer"))
}

/// The number of the errand that a text says it answers.
///
/// # Errors
/// It is no answer.
pub fn number_of(text: &str) -> Result<i64, BadAnswer> {
    let (_, payload) = parts(text)?;
    Ok(said(&payload)?.errand)
}

impl Answer {
    /// Reads the answer to `errand`. `keys` are those of the certificates that the device may sign in with now; `ward` is the ward's URN.
    ///
    /// # Errors
    /// It is none, it is another's, or what it asks for is not proved.
    pub fn read(text: &str, errand: &Errand, ward: &str, keys: &[PublicKey]) -> Result<Self, BadAnswer> {
        let (cut, payload) = parts(text)?;
        let said = said(&payload)?;
        if said.errand != errand.number {
            return Err(BadAnswer::Other { found: said.errand });
        }
        // Whoever signs, signs for this: a signature that proves nothing would be taken for one that does.
        if let Some(cut) = &cut {
            if !keys.iter().any(|key| cut.is_signed_by(TokenKey::Public(key))) {
                return Err(BadAnswer::Unsigned);
            }
            let is = |member: &Option<String>, wanted: &str| member.as_deref() == Some(wanted);
            if !is(&said.iss, errand.device.as_str()) {
                return Err(BadAnswer::Unbound("its iss is not the device"));
            }
            if !is(&said.aud, ward) {
                return Err(BadAnswer::Unbound("its aud is not the ward"));
            }
            if !is(&said.nonce, &BASE64URL_NOPAD.encode(&errand.nonce)) {
                return Err(BadAnswer::Unbound("its nonce is not the errand's"));
            }
        }
        match (said.outcome, said.csr) {
            (Outcome::Refused, _) => {
                let why = said.reason.unwrap_or_else(|| "it gave no reason".to_owned());
                Ok(Self::Refused(why.chars().filter(|c| !c.is_control()).take(MAX_REASON).collect()))
            }
            (Outcome::Done, Some(_)) if cut.is_none() => Err(BadAnswer::Unsigned),
            (Outcome::Done, Some(_)) if errand.purpose != super::Purpose::Renew => {
                Err(BadAnswer::Meaning("it asks for a certificate, and was not asked to renew"))
            }
            (Outcome::Done, Some(csr)) => {
                let csr = BASE64.decode(csr.as_bytes()).map_err(|_| BadAnswer::Form("its csr is not in base64"))?;
                Ok(Self::Renewal(Renewal { csr }))
            }
            (Outcome::Done, None) => {
                let result = said.result.map(|result| result.get().to_owned());
                match result {
                    Some(text) if !text.starts_with('{') => Err(BadAnswer::Form("its result is no object")),
                    Some(text) if text.len() > MAX_RESULT => Err(BadAnswer::Form("its result is too long")),
                    result => Ok(Self::Done(result)),
                }
            }
        }
    }
}

/// An answer that the device's session proves. `result` is the text of a JSON object.
#[must_use]
pub fn answer_text(number: i64, outcome: Outcome, reason: Option<&str>, result: Option<&RawValue>) -> String {
    let said = Said {
        errand: number,
        outcome,
        reason: reason.map(str::to_owned),
        result,
        iss: None,
        aud: None,
        nonce: None,
        csr: None,
    };
    // Text and numbers alone: there is nothing that could not be written.
    serde_json::to_string(&said).unwrap_or_default()
}

/// The answer to `errand` that asks for a certificate, signed with the key of the one that the device has. `csr` is PKCS#10 in DER.
///
/// # Errors
/// The key cannot sign a JWS, or not now.
pub fn renewal_text(errand: &Errand, ward: &str, csr: &[u8], key: &dyn Signer) -> Result<String, SignError> {
    let header = json!({ "alg": jws::algorithm(TokenSigner::Private(key))?.as_str(), "typ": ANSWER_TYPE });
    let said = Said {
        errand: errand.number,
        outcome: Outcome::Done,
        reason: None,
        result: None,
        iss: Some(errand.device.to_string()),
        aud: Some(ward.to_owned()),
        nonce: Some(BASE64URL_NOPAD.encode(&errand.nonce)),
        csr: Some(BASE64.encode(csr)),
    };
    let input = jws::input(&header, &serde_json::to_vec(&said).unwrap_or_default());
    let signature = TokenSigner::Private(key).sign(input.as_bytes())?;
    Ok(jws::with_signature(input, &signature))
}
