//! JWS in its compact form (RFC 7515 section 3.1), as errands, their answers and what a device asks with have it.

use data_encoding::BASE64URL_NOPAD;
use serde::Deserialize;

use crate::key::SignError;
use crate::token::{Algorithm, TokenKey, TokenSigner};

/// A text that has the form of a JWS, cut where the dots are; nothing of it was verified.
pub(crate) struct Cut<'t> {
    pub(crate) header: Header,
    pub(crate) payload: Vec<u8>,
    input: &'t str,
    signature: Vec<u8>,
}

/// What stands in the header; whatever else stands there is not understood, and refused (RFC 7515 section 4.1.11 for `crit`).
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Header {
    alg: String,
    pub(crate) typ: String,
    #[serde(default)]
    pub(crate) x5c: Vec<String>,
    #[serde(default)]
    pub(crate) kid: Option<String>,
}

/// The algorithm by which such a key signs here, as JOSE names it.
pub(crate) fn algorithm(signer: TokenSigner<'_>) -> Result<Algorithm, SignError> {
    signer.algorithm().ok_or(SignError::Library)
}

/// What is signed: header and payload.
pub(crate) fn input(header: &serde_json::Value, payload: &[u8]) -> String {
    let mut text = BASE64URL_NOPAD.encode(header.to_string().as_bytes());
    text.push('.');
    BASE64URL_NOPAD.encode_append(payload, &mut text);
    text
}

pub(crate) fn with_signature(mut input: String, signature: &[u8]) -> String {
    input.push('.');
    BASE64URL_NOPAD.encode_append(signature, &mut input);
    input
}

impl<'t> Cut<'t> {
    /// Cuts a text; `None` if it has another form.
    pub(crate) fn of(text: &'t str) -> Option<Self> {
        let (input, signature) = text.rsplit_once('.')?;
        let (header, payload) = input.split_once('.')?;
        // Only the one form that RFC 4648 section 3.5 gives each text: nobody can write one errand in two ways.
        let decode = |part: &str| BASE64URL_NOPAD.decode(part.as_bytes()).ok();
        Some(Self {
            header: serde_json::from_slice(&decode(header)?).ok()?,
            payload: decode(payload)?,
            input,
            signature: decode(signature)?,
        })
    }

    /// Whether `key` signed it. The key says which algorithms there can be (RFC 8725 section 3.1).
    pub(crate) fn is_signed_by(&self, key: TokenKey<'_>) -> bool {
        let algorithm = key.algorithms().iter().find(|each| each.as_str() == self.header.alg);
        algorithm.is_some_and(|algorithm| key.verify(*algorithm, self.input.as_bytes(), &self.signature).is_ok())
    }
}
