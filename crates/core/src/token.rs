//! Tokens: signed statements that stand for a device for a limited time, as JWT (RFC 7519 in compact JWS, RFC 7515) or as CWT (RFC
//! 8392 in COSE, RFC 9052), from the same claims.
//!
//! Read with the best practice of RFC 8725: the key says which algorithm there can be; a type of its own; every claim that counts is
//! required and checked; nothing critical is accepted, no key from a header is looked at; limits on size, depth and number; nothing
//! that can be read in two ways.
//!
//! A token is taken apart without believing it ([`Unverified`]); whoever has found the key that it must be signed with verifies it, and has
//! a [`VerifiedToken`].

mod algorithm;
mod claims;
mod make;
mod read;
mod scope;
mod value;
mod verify;

pub use algorithm::{Algorithm, TokenKey, TokenSigner, algorithms};
pub use claims::{Bound, Claims};
pub use make::sign;
pub use read::{CWT_TYPE, Form, JWT_TYPE, MAX_LEN, Unverified};
pub use scope::{BadScope, MAX_SCOPE, Scope, Wider};
pub use verify::{Maker, Presented, Terms, TokenName, VerifiedToken, block_of_key, block_of_name};

use crate::key::{PublicKey, jwk_members, thumbprint};
use crate::time::{Span, UnixTime};

/// Who signs tokens and whom they are for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parties {
    /// `iss`: the ward, a URN that never changes.
    pub issuer: String,
    /// `aud`: the guard, such as `mqtts://localhost:8883`.
    pub audience: String,
}

/// Why a token was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the texts say what the fields are")]
pub enum BadToken {
    /// More octets than any token needs.
    #[error("the token has more than {MAX_LEN} bytes")]
    TooLong,
    /// Neither a JWT in compact form nor a CWT.
    #[error("it is not a token that is taken here: {detail}")]
    Malformed {
        /// What is wrong.
        detail: &'static str,
    },
    /// An algorithm that is not known, or is not the key's.
    #[error("the token says alg {alg:?}, which is not that of the key that it must be signed with")]
    Algorithm {
        /// What it says.
        alg: String,
    },
    /// It demands what is not understood (RFC 7515 section 4.1.11, RFC 9052 section 3.1).
    #[error("the token has critical header fields, which are not understood here")]
    Critical,
    /// It brings a key of its own along, or the address of one.
    #[error("the token's header names or carries a key or a certificate, and none is taken from there")]
    ForeignKey,
    /// It is for another use than to stand for a device.
    #[error("the token's typ is {found:?}; a token that stands for a device has {wanted:?}")]
    Type { found: String, wanted: &'static str },
    /// Signed by another key.
    #[error("the token was not signed with the key that it must be signed with")]
    Signature,
    /// It says of no key that is known whose it is.
    #[error("no key is known that the token could be signed with")]
    UnknownKey,
    /// Made by somebody else.
    #[error("the token was issued by {found:?}, which is not whose key signed it")]
    Issuer {
        /// What it says.
        found: String,
    },
    /// A device's own key, for another device.
    #[error("the token's subject is not the device whose key signed it")]
    OtherDevice,
    /// Meant for somebody else.
    #[error("the token is for {found:?}, not for {wanted:?}")]
    Audience {
        /// What it says.
        found: String,
        /// Who reads it.
        wanted: String,
    },
    /// Over.
    #[error("the token ended at {exp}")]
    Ended { exp: UnixTime },
    /// Not begun.
    #[error("the token is not valid before {nbf}")]
    NotYet { nbf: UnixTime },
    /// It lasts longer than the kind of its device allows.
    #[error("the token lasts {life} from its iat to its exp, and the kind of its device allows {longest}")]
    TooLongLived { life: Span, longest: Span },
    /// `sub` is not a device id.
    #[error("the token's subject is not a device id")]
    Subject,
    /// It is bound in a way that is not known.
    #[error("the token is bound by a cnf that is not understood here")]
    Confirmation,
    /// It is bound to something that the connection does not show.
    #[error("the token is bound to a certificate or key that this connection does not show")]
    NotBound,
    /// Somebody blocked it.
    #[error("the token is blocked")]
    Blocked,
}

impl BadToken {
    /// Whether this says something of a token whose signature is good, so that it is known whose it is.
    #[must_use]
    pub fn is_proved(&self) -> bool {
        matches!(
            self,
            Self::Type { .. }
                | Self::Issuer { .. }
                | Self::OtherDevice
                | Self::Audience { .. }
                | Self::Ended { .. }
                | Self::NotYet { .. }
                | Self::TooLongLived { .. }
                | Self::NotBound
                | Self::Blocked
        )
    }
}

/// The keys that tokens are verified with, as a JWK set (RFC 7517 section 5); those of types that sign no tokens are left out.
#[must_use]
pub fn key_set(keys: &[&PublicKey]) -> String {
    let jwk = |key: &&PublicKey| {
        let mut members = serde_json::Map::new();
        for (name, value) in jwk_members(key)? {
            members.insert(name.to_owned(), value.into());
        }
        let algorithm = algorithms(key.key_type()).first()?;
        members.insert("use".to_owned(), "sig".into());
        members.insert("alg".to_owned(), algorithm.as_str().into());
        members.insert("kid".to_owned(), thumbprint(key)?.into());
        Some(serde_json::Value::Object(members))
    };
    let keys: Vec<serde_json::Value> = keys.iter().filter_map(jwk).collect();
    format!("{}\n", serde_json::json!({ "keys": keys }))
}
