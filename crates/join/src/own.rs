//! The device's own certificate in TLS, with its key wherever that is kept: in a file, or on a token that signs and gives nothing away.

use std::fmt;
use std::sync::Arc;

use rustls::client::ResolvesClientCert;
use rustls::pki_types::CertificateDer;
use rustls::sign::{CertifiedKey, Signer as TlsSigner, SigningKey};
use rustls::{SignatureAlgorithm, SignatureScheme};
use tidy_warden_core::key::{KeyType, Signer};

/// A key as TLS asks for it. It signs in one way (RFC 8446 section 4.2.3).
struct Key {
    signer: Arc<dyn Signer>,
    scheme: SignatureScheme,
    algorithm: SignatureAlgorithm,
}

impl fmt::Debug for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Key({:?})", self.scheme)
    }
}

impl SigningKey for Key {
    fn choose_scheme(&self, offered: &[SignatureScheme]) -> Option<Box<dyn TlsSigner>> {
        if !offered.contains(&self.scheme) {
            return None;
        }
        Some(Box::new(One { signer: self.signer.clone(), scheme: self.scheme }))
    }

    fn algorithm(&self) -> SignatureAlgorithm {
        self.algorithm
    }
}

struct One {
    signer: Arc<dyn Signer>,
    scheme: SignatureScheme,
}

impl fmt::Debug for One {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "One({:?})", self.scheme)
    }
}

impl TlsSigner for One {
    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, rustls::Error> {
        // What stands in a certificate's BIT STRING for these types is what TLS sends.
        self.signer.sign(message).map_err(|error| rustls::Error::General(error.to_string()))
    }

    fn scheme(&self) -> SignatureScheme {
        self.scheme
    }
}

/// One certificate, whoever asks.
#[derive(Debug)]
struct Always(Arc<CertifiedKey>);

impl ResolvesClientCert for Always {
    fn resolve(&self, _: &[&[u8]], offered: &[SignatureScheme]) -> Option<Arc<CertifiedKey>> {
        self.0.key.choose_scheme(offered).is_some().then(|| self.0.clone())
    }

    fn has_certs(&self) -> bool {
        true
    }
}

/// What shows a certificate, with those that lead towards its root; `None` if its key is of a type that does not sign here.
pub(crate) fn resolver(chain: &[Vec<u8>], signer: Arc<dyn Signer>) -> Option<Arc<dyn ResolvesClientCert>> {
    let (scheme, algorithm) = match signer.public_key().key_type() {
        KeyType::P256 => (SignatureScheme::ECDSA_NISTP256_SHA256, SignatureAlgorithm::ECDSA),
        KeyType::P384 => (SignatureScheme::ECDSA_NISTP384_SHA384, SignatureAlgorithm::ECDSA),
        KeyType::Ed25519 => (SignatureScheme::ED25519, SignatureAlgorithm::ED25519),
        _ => return None,
    };
    let chain = chain.iter().cloned().map(CertificateDer::from).collect();
    let key = Arc::new(Key { signer, scheme, algorithm });
    Some(Arc::new(Always(Arc::new(CertifiedKey::new(chain, key)))))
}
