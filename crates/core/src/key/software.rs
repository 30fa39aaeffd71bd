//! Private keys in memory, and how they are locked at rest.

use std::fmt;

use aws_lc_rs::encoding::{AsBigEndian, AsDer, EcPrivateKeyBin, Pkcs8V1Der};
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::{self, KeySize};
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P384_SHA384_ASN1_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair,
    ML_DSA_65_SIGNING, PqdsaKeyPair, RSA_PKCS1_SHA256,
};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5912::{ID_EC_PUBLIC_KEY, RSA_ENCRYPTION, SECP_256_R_1, SECP_384_R_1};
use const_oid::db::rfc8410::ID_ED_25519;
use pkcs8::pkcs5::{EncryptionScheme, pbes2, scrypt};
use pkcs8::{EncryptedPrivateKeyInfoRef, PrivateKeyInfoRef};
use zeroize::Zeroizing;

use super::public::ID_ML_DSA_65;
use super::{NewKey, ProvenKey, PublicKey, SignError, Signer};
use crate::asn1;
use crate::random::{self, Randomness};

enum Pair {
    Ec(Box<EcdsaKeyPair>, EcCurve),
    Ed25519(Box<Ed25519KeyPair>),
    Rsa(Box<rsa::KeyPair>),
    MlDsa65(Box<PqdsaKeyPair>),
}

/// A curve, and the hash that belongs to its size.
#[derive(Clone, Copy)]
struct EcCurve {
    oid: ObjectIdentifier,
    signing: &'static aws_lc_rs::signature::EcdsaSigningAlgorithm,
}

const P256: EcCurve = EcCurve { oid: SECP_256_R_1, signing: &ECDSA_P256_SHA256_ASN1_SIGNING };
const P384: EcCurve = EcCurve { oid: SECP_384_R_1, signing: &ECDSA_P384_SHA384_ASN1_SIGNING };

/// A private key in memory.
pub struct SoftwareKey {
    pair: Pair,
    public: PublicKey,
}

impl fmt::Debug for SoftwareKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SoftwareKey({}, [elided])", self.public.key_type())
    }
}

/// Why a locked key could not be opened.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum OpenError {
    /// Not an encrypted PKCS#8 key in PEM.
    #[error("it is not an encrypted PKCS#8 private key in PEM")]
    Malformed,
    /// It says that opening it takes more work or memory than any file of a person's takes.
    #[error("its key derivation takes more work or memory than is allowed here")]
    TooCostly,
    /// The passphrase does not open it.
    #[error("the passphrase is wrong")]
    Passphrase,
    /// It opens, but holds a key of a type that cannot sign here.
    #[error("it holds a key of a type that is not supported for signing")]
    Unsupported,
}

impl SoftwareKey {
    /// Makes a new key with randomness that the crypto library draws from the operating system.
    ///
    /// # Errors
    /// The library could not make one.
    pub fn generate(new: NewKey) -> Result<Self, SignError> {
        let ec = |curve: EcCurve| EcdsaKeyPair::generate(curve.signing).map(|pair| Pair::Ec(Box::new(pair), curve));
        let pair = match new {
            NewKey::P256 => ec(P256),
            NewKey::P384 => ec(P384),
            NewKey::Ed25519 => Ed25519KeyPair::generate().map(|pair| Pair::Ed25519(Box::new(pair))),
            NewKey::Rsa3072 => rsa::KeyPair::generate(KeySize::Rsa3072).map(|pair| Pair::Rsa(Box::new(pair))),
            NewKey::MlDsa65 => PqdsaKeyPair::generate(&ML_DSA_65_SIGNING).map(|pair| Pair::MlDsa65(Box::new(pair))),
        };
        pair.ok().and_then(Self::from_pair).ok_or(SignError::Library)
    }

    /// Reads an unencrypted PKCS#8 key in DER.
    ///
    /// # Errors
    /// Another structure or key type.
    pub fn from_pkcs8(pkcs8_der: &[u8]) -> Result<Self, OpenError> {
        let info = PrivateKeyInfoRef::try_from(pkcs8_der).map_err(|_| OpenError::Malformed)?;
        let pair = match info.algorithm.oid {
            ID_EC_PUBLIC_KEY => {
                let curve = match info.algorithm.parameters_oid() {
                    Ok(SECP_256_R_1) => P256,
                    Ok(SECP_384_R_1) => P384,
                    _ => return Err(OpenError::Unsupported),
                };
                EcdsaKeyPair::from_pkcs8(curve.signing, pkcs8_der).map(|pair| Pair::Ec(Box::new(pair), curve))
            }
            ID_ED_25519 => Ed25519KeyPair::from_pkcs8(pkcs8_der).map(|pair| Pair::Ed25519(Box::new(pair))),
            RSA_ENCRYPTION => rsa::KeyPair::from_pkcs8(pkcs8_der).map(|pair| Pair::Rsa(Box::new(pair))),
            ID_ML_DSA_65 => {
                PqdsaKeyPair::from_pkcs8(&ML_DSA_65_SIGNING, pkcs8_der).map(|pair| Pair::MlDsa65(Box::new(pair)))
            }
            _ => return Err(OpenError::Unsupported),
        };
        pair.ok().and_then(Self::from_pair).ok_or(OpenError::Unsupported)
    }

    fn from_pair(pair: Pair) -> Option<Self> {
        let (algorithm, bits): (Vec<u8>, &[u8]) = match &pair {
            Pair::Ec(pair, curve) => {
                ([asn1::oid(ID_EC_PUBLIC_KEY), asn1::oid(curve.oid)].concat(), pair.public_key().as_ref())
            }
            Pair::Ed25519(pair) => (asn1::oid(ID_ED_25519), pair.public_key().as_ref()),
            Pair::Rsa(pair) => ([asn1::oid(RSA_ENCRYPTION), asn1::null()].concat(), pair.public_key().as_ref()),
            Pair::MlDsa65(pair) => (asn1::oid(ID_ML_DSA_65), pair.public_key().as_ref()),
        };
        let spki = asn1::sequence(&[&asn1::sequence(&[&algorithm]), &asn1::bit_string(bits)]);
        let public = PublicKey::from_spki(&spki).ok()?;
        Some(Self { pair, public })
    }

    /// The public half; the private half is here, which is the proof.
    #[must_use]
    pub fn proven(&self) -> ProvenKey {
        ProvenKey::after_proof(self.public.clone())
    }

    /// The key as unencrypted PKCS#8 (version 1, which every reader takes) in DER.
    ///
    /// # Errors
    /// The library could not write it.
    pub fn to_pkcs8(&self) -> Result<Zeroizing<Vec<u8>>, SignError> {
        let secret = |octets: &[u8]| Zeroizing::new(octets.to_vec());
        match &self.pair {
            Pair::Ec(pair, curve) => {
                // The library would compute the public point's affine form once more, which takes as long as half a
                // signature; here it is known. ECPrivateKey as in RFC 5915 section 3, PKCS#8 as in RFC 5958.
                AsBigEndian::<EcPrivateKeyBin<'_>>::as_be_bytes(&pair.private_key()).map(|scalar| {
                    let private = Zeroizing::new(asn1::sequence(&[
                        &asn1::unsigned(&[1]),
                        &Zeroizing::new(asn1::octet_string(scalar.as_ref())),
                        &asn1::context_constructed(1, &asn1::bit_string(pair.public_key().as_ref())),
                    ]));
                    let algorithm = asn1::sequence(&[&asn1::oid(ID_EC_PUBLIC_KEY), &asn1::oid(curve.oid)]);
                    let wrapped = Zeroizing::new(asn1::octet_string(&private));
                    Zeroizing::new(asn1::sequence(&[&asn1::unsigned(&[0]), &algorithm, &wrapped]))
                })
            }
            Pair::Ed25519(pair) => pair.to_pkcs8v1().map(|document| secret(document.as_ref())),
            Pair::Rsa(pair) => AsDer::<Pkcs8V1Der<'_>>::as_der(&**pair).map(|document| secret(document.as_ref())),
            Pair::MlDsa65(pair) => pair.to_pkcs8v1().map(|document| secret(document.as_ref())),
        }
        .map_err(|_| SignError::Library)
    }

    /// The key as unencrypted PKCS#8 in PEM, for the device that it belongs to.
    ///
    /// # Errors
    /// The library could not write it.
    pub fn to_pkcs8_pem(&self) -> Result<Zeroizing<String>, SignError> {
        Ok(Zeroizing::new(asn1::pem("PRIVATE KEY", &self.to_pkcs8()?)))
    }

    /// Reads what [`SoftwareKey::to_pkcs8_pem`] wrote, or the same in DER.
    ///
    /// # Errors
    /// Another form, or a key that cannot sign here.
    pub fn from_pkcs8_pem(octets: &[u8]) -> Result<Self, OpenError> {
        let found = asn1::der_values(octets, "PRIVATE KEY").and_then(|mut all| all.pop()).map(Zeroizing::new);
        Self::from_pkcs8(&found.ok_or(OpenError::Malformed)?)
    }

    /// Locks the key: PKCS#8 with PBES2 (RFC 8018), scrypt and AES-256-CBC, in PEM.
    ///
    /// # Errors
    /// The library could not write it.
    pub fn lock(&self, passphrase: &[u8], cost: LockCost, random: &mut dyn Randomness) -> Result<String, SignError> {
        let (log_n, passes) = match cost {
            LockCost::Full => (14, 5),
            LockCost::Rehearsal => (10, 1),
        };
        let cost = scrypt::Params::new(log_n, 8, passes).map_err(|_| SignError::Library)?;
        let salt: [u8; 16] = random::bytes(random);
        let iv: [u8; 16] = random::bytes(random);
        let parameters =
            pbes2::Parameters::generate_scrypt_aes256cbc(cost, &salt, iv).map_err(|_| SignError::Library)?;
        let plain = self.to_pkcs8()?;
        let info = PrivateKeyInfoRef::try_from(plain.as_slice()).map_err(|_| SignError::Library)?;
        let locked = info.encrypt_with_params(parameters, passphrase).map_err(|_| SignError::Library)?;
        Ok(asn1::pem("ENCRYPTED PRIVATE KEY", locked.as_bytes()))
    }

    /// Opens what [`SoftwareKey::lock`] wrote, or any PKCS#8 PBES2 file of an accepted key.
    ///
    /// # Errors
    /// A file of another form, a wrong passphrase, or a key that cannot sign here.
    pub fn open(pem: &str, passphrase: &[u8]) -> Result<Self, OpenError> {
        let (label, locked) = der::pem::decode_vec(pem.as_bytes()).map_err(|_| OpenError::Malformed)?;
        if label != "ENCRYPTED PRIVATE KEY" {
            return Err(OpenError::Malformed);
        }
        let info = EncryptedPrivateKeyInfoRef::try_from(locked.as_slice()).map_err(|_| OpenError::Malformed)?;
        if !is_affordable(&info.encryption_algorithm) {
            return Err(OpenError::TooCostly);
        }
        let plain = info.decrypt(passphrase).map_err(|_| OpenError::Passphrase)?;
        Self::from_pkcs8(plain.as_bytes())
    }
}

/// What it costs to try a passphrase on a locked key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LockCost {
    /// scrypt with N = 2^14, r = 8, p = 5: 16 MiB of memory and five passes, as hard as N = 2^17 with p = 1, but within the memory limit
    /// of common readers of such files.
    Full,
    /// scrypt with N = 2^10, r = 8, p = 1, which keeps nobody out: for the keys of rehearsals, which are made and opened by the hundred.
    Rehearsal,
}

/// Whether a key derivation (RFC 8018 appendix A.2, RFC 7914 section 7) stays below 2 million rounds of PBKDF2, or 128 MiB and
/// 16 passes of scrypt: several times what is usual.
fn is_affordable(scheme: &EncryptionScheme) -> bool {
    match scheme {
        EncryptionScheme::Pbes2(parameters) => match &parameters.kdf {
            pbes2::Kdf::Pbkdf2(pbkdf2) => pbkdf2.iteration_count <= 2_000_000,
            pbes2::Kdf::Scrypt(scrypt) => {
                let memory = scrypt.cost_parameter.saturating_mul(u64::from(scrypt.block_size)).saturating_mul(128);
                memory <= 128 * 1024 * 1024 && scrypt.parallelization <= 16
            }
            _ => false,
        },
        _ => false,
    }
}

impl Signer for SoftwareKey {
    fn public_key(&self) -> &PublicKey {
        &self.public
    }

    fn algorithm(&self) -> Vec<u8> {
        self.public.signature_algorithm()
    }

    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, SignError> {
        match &self.pair {
            Pair::Ec(pair, _) => pair.sign(&SystemRandom::new(), message).map(|signature| signature.as_ref().to_vec()),
            Pair::Ed25519(pair) => Ok(pair.sign(message).as_ref().to_vec()),
            Pair::Rsa(pair) => {
                let mut signature = vec![0; pair.public_modulus_len()];
                pair.sign(&RSA_PKCS1_SHA256, &SystemRandom::new(), message, &mut signature).map(|()| signature)
            }
            Pair::MlDsa65(pair) => {
                let mut signature = vec![0; ML_DSA_65_SIGNING.signature_len()];
                pair.sign(message, &mut signature).map(|len| {
                    signature.truncate(len);
                    signature
                })
            }
        }
        .map_err(|_| SignError::Library)
    }
}
