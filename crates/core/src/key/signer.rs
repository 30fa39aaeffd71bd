//! Whoever signs, wherever the private key is kept, and which keys can be made.

use super::PublicKey;

/// A public key whose holder has shown that it has the private half: by a request that it signed (RFC 2986 section
/// 4.2), or because the key was made here. Certificates are issued to nothing else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProvenKey(PublicKey);

impl ProvenKey {
    /// Only for those who have seen the proof.
    pub(crate) fn after_proof(key: PublicKey) -> Self {
        Self(key)
    }

    /// The key of a signer that is at hand, which shows it by signing something.
    ///
    /// # Errors
    /// It cannot sign, or its signature is not that of its public half.
    pub fn of_signer(signer: &dyn Signer) -> Result<Self, SignError> {
        let message = b"tidy-warden: the private half is here";
        let signature = signer.sign(message)?;
        let key = signer.public_key();
        key.verify(&signer.algorithm(), message, &signature)
            .map_err(|_| SignError::Holder("its signature does not verify with its public key".to_owned()))?;
        Ok(Self(key.clone()))
    }

    /// The key.
    #[must_use]
    pub fn public_key(&self) -> &PublicKey {
        &self.0
    }
}

/// A key could not be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SignError {
    /// The crypto library could not.
    #[error("the key could not be used to sign")]
    Library,
    /// The token or service that holds the key could not.
    #[error("whatever holds the key could not sign: {0}")]
    Holder(String),
}

/// A private key that signs, wherever it is kept: a locked file, a hardware token, a remote service.
pub trait Signer: Send + Sync {
    /// Its public half.
    fn public_key(&self) -> &PublicKey;

    /// DER of the AlgorithmIdentifier that belongs to [`Signer::sign`].
    fn algorithm(&self) -> Vec<u8>;

    /// Signs `message`; the result is what a certificate's BIT STRING holds.
    ///
    /// # Errors
    /// The key cannot be used now.
    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, SignError>;
}

/// Types of keys that can be made here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum NewKey {
    /// ECDSA on NIST P-256.
    P256,
    /// ECDSA on NIST P-384.
    P384,
    /// Ed25519.
    Ed25519,
    /// RSA with 3072 bits: for authorities whose receivers know nothing newer.
    Rsa3072,
    /// ML-DSA-65: for authorities whose fleets must outlive today's curves.
    MlDsa65,
}

impl NewKey {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::P256, Self::P384, Self::Ed25519, Self::Rsa3072, Self::MlDsa65];

    /// Those that devices may have: what TLS clients sign their handshake with.
    pub const FOR_DEVICES: [Self; 3] = [Self::P256, Self::P384, Self::Ed25519];

    /// The word that settings and options use.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::P256 => "p256",
            Self::P384 => "p384",
            Self::Ed25519 => "ed25519",
            Self::Rsa3072 => "rsa3072",
            Self::MlDsa65 => "ml-dsa-65",
        }
    }
}

impl std::str::FromStr for NewKey {
    type Err = UnknownKeyType;

    fn from_str(word: &str) -> Result<Self, UnknownKeyType> {
        Self::ALL.into_iter().find(|key| key.as_str() == word).ok_or_else(|| UnknownKeyType(word.to_owned()))
    }
}

/// A word that names no type of key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a type of key; expected p256, p384, ed25519, rsa3072 or ml-dsa-65")]
pub struct UnknownKeyType(pub String);
