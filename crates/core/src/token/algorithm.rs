//! Algorithms: which there are, what they are called, and which belong to a key.

use super::BadToken;
use crate::key::{FixedScheme, KeyType, PublicKey, SignError, Signer};
use crate::shared::SharedKey;

/// How a token is signed (RFC 7518 section 3.1, RFC 8037, RFC 9053, RFC 8812).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Algorithm {
    /// ECDSA on P-256 with SHA-256.
    Es256,
    /// ECDSA on P-384 with SHA-384.
    Es384,
    /// Ed25519.
    EdDsa,
    /// RSASSA-PKCS1-v1_5 with SHA-256.
    Rs256,
    /// RSASSA-PSS with SHA-256.
    Ps256,
    /// HMAC with SHA-256.
    Hs256,
}

impl Algorithm {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::Es256, Self::Es384, Self::EdDsa, Self::Rs256, Self::Ps256, Self::Hs256];

    /// Its name in JOSE.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Es256 => "ES256",
            Self::Es384 => "ES384",
            Self::EdDsa => "EdDSA",
            Self::Rs256 => "RS256",
            Self::Ps256 => "PS256",
            Self::Hs256 => "HS256",
        }
    }

    /// Its number in COSE.
    pub(super) fn number(self) -> i64 {
        match self {
            Self::Es256 => -7,
            Self::Es384 => -35,
            Self::EdDsa => -8,
            Self::Rs256 => -257,
            Self::Ps256 => -37,
            Self::Hs256 => 5,
        }
    }

    /// Whether it makes a MAC and no signature: another structure in COSE.
    pub(super) fn is_mac(self) -> bool {
        self == Self::Hs256
    }
}

/// What a token is verified with. The key says which algorithms there can be, never the token (RFC 8725 section 3.1).
#[derive(Debug, Clone, Copy)]
pub enum TokenKey<'k> {
    /// The public half of a pair.
    Public(&'k PublicKey),
    /// A key that both sides have.
    Shared(&'k SharedKey),
}

impl TokenKey<'_> {
    /// The algorithms that belong to the key; none for a type of key that signs no tokens.
    #[must_use]
    pub fn algorithms(&self) -> &'static [Algorithm] {
        match self {
            Self::Shared(_) => &[Algorithm::Hs256],
            Self::Public(key) => algorithms(key.key_type()),
        }
    }

    /// Checks a signature over `message`.
    pub(crate) fn verify(&self, algorithm: Algorithm, message: &[u8], signature: &[u8]) -> Result<(), BadToken> {
        if !self.algorithms().contains(&algorithm) {
            return Err(BadToken::Algorithm { alg: algorithm.as_str().to_owned() });
        }
        let good = match (self, algorithm) {
            (Self::Shared(key), _) => key.verifies(message, signature),
            (Self::Public(key), algorithm) => {
                let scheme = match algorithm {
                    Algorithm::Es256 | Algorithm::Es384 => FixedScheme::Ecdsa,
                    Algorithm::EdDsa => FixedScheme::EdDsa,
                    Algorithm::Rs256 => FixedScheme::RsaPkcs1,
                    Algorithm::Ps256 => FixedScheme::RsaPss,
                    Algorithm::Hs256 => return Err(BadToken::Signature),
                };
                key.verify_fixed(scheme, message, signature).is_ok()
            }
        };
        if good { Ok(()) } else { Err(BadToken::Signature) }
    }
}

/// The algorithms by which a key of a type signs tokens.
#[must_use]
pub fn algorithms(key: KeyType) -> &'static [Algorithm] {
    match key {
        KeyType::P256 => &[Algorithm::Es256],
        KeyType::P384 => &[Algorithm::Es384],
        KeyType::Ed25519 => &[Algorithm::EdDsa],
        KeyType::Rsa(_) => &[Algorithm::Rs256, Algorithm::Ps256],
        KeyType::MlDsa65 => &[],
    }
}

/// What a token is signed with.
#[derive(Clone, Copy)]
pub enum TokenSigner<'k> {
    /// A private key, wherever it is.
    Private(&'k dyn Signer),
    /// A key that both sides have.
    Shared(&'k SharedKey),
}

impl TokenSigner<'_> {
    /// The algorithm that it signs with; `None` if it signs no tokens.
    #[must_use]
    pub fn algorithm(&self) -> Option<Algorithm> {
        match self {
            Self::Shared(_) => Some(Algorithm::Hs256),
            Self::Private(signer) => algorithms(signer.public_key().key_type()).first().copied(),
        }
    }

    /// The signature in the form that tokens have.
    pub(crate) fn sign(&self, message: &[u8]) -> Result<Vec<u8>, SignError> {
        match self {
            Self::Shared(key) => Ok(key.sign(message)),
            Self::Private(signer) => {
                let signature = signer.sign(message)?;
                match signer.public_key().key_type() {
                    KeyType::P256 => fixed(&signature, 32).ok_or(SignError::Library),
                    KeyType::P384 => fixed(&signature, 48).ok_or(SignError::Library),
                    _ => Ok(signature),
                }
            }
        }
    }
}

/// ECDSA-Sig-Value in DER to r and s of `len` octets each (RFC 7518 section 3.4).
pub(super) fn fixed(der_bytes: &[u8], len: usize) -> Option<Vec<u8>> {
    use der::{Decode, Reader, SliceReader};
    let mut out = vec![0; 2 * len];
    let mut reader = SliceReader::new(der_bytes).ok()?;
    reader
        .sequence(|inner| {
            for half in [0, len] {
                let number = der::asn1::UintRef::decode(inner)?;
                let octets = number.as_bytes();
                let place = out.get_mut(half + len.saturating_sub(octets.len())..half + len);
                match place {
                    Some(place) if place.len() == octets.len() => place.copy_from_slice(octets),
                    _ => return Err(der::Tag::Integer.length_error().into()),
                }
            }
            Ok::<_, der::Error>(())
        })
        .ok()?;
    reader.finish().ok()?;
    Some(out)
}
