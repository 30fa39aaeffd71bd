//! Keys: which are taken, how they sign and verify, and how private ones are locked at rest.

use std::fmt;

use aws_lc_rs::digest::{SHA256, SHA384, digest};
use aws_lc_rs::encoding::{AsBigEndian, AsDer, EcPrivateKeyBin, Pkcs8V1Der};
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::{self, KeySize};
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1, ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P256_SHA384_ASN1, ECDSA_P256_SHA512_ASN1,
    ECDSA_P384_SHA256_ASN1, ECDSA_P384_SHA384_ASN1, ECDSA_P384_SHA384_ASN1_SIGNING, ECDSA_P384_SHA512_ASN1, ED25519,
    EcdsaKeyPair, Ed25519KeyPair, KeyPair, ML_DSA_65, ML_DSA_65_SIGNING, PqdsaKeyPair, RSA_PKCS1_2048_8192_SHA256,
    RSA_PKCS1_2048_8192_SHA384, RSA_PKCS1_2048_8192_SHA512, RSA_PKCS1_SHA256, UnparsedPublicKey, VerificationAlgorithm,
};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5912::{
    ECDSA_WITH_SHA_256, ECDSA_WITH_SHA_384, ECDSA_WITH_SHA_512, ID_EC_PUBLIC_KEY, RSA_ENCRYPTION, SECP_256_R_1,
    SECP_384_R_1, SHA_1_WITH_RSA_ENCRYPTION, SHA_256_WITH_RSA_ENCRYPTION, SHA_384_WITH_RSA_ENCRYPTION,
    SHA_512_WITH_RSA_ENCRYPTION,
};
use const_oid::db::rfc8410::ID_ED_25519;
use der::{Decode, Reader, SliceReader};
use pkcs8::pkcs5::{EncryptionScheme, pbes2, scrypt};
use pkcs8::{EncryptedPrivateKeyInfoRef, PrivateKeyInfoRef};
use spki::{AlgorithmIdentifierRef, SubjectPublicKeyInfoRef};
use zeroize::Zeroizing;

use crate::asn1;
use crate::random::{self, Randomness};

/// ML-DSA-65 (RFC 9881 section 2): key and signature have the same identifier, without parameters.
const ID_ML_DSA_65: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.3.18");

const ECDSA_WITH_SHA_1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.1");
const MD5_WITH_RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.4");

/// The largest public key taken, in octets of DER; an RSA key of 8192 bits needs about 1,060.
const MAX_SPKI: usize = 2048;

/// The least RSA modulus taken, in bits (NIST SP 800-131A).
const MIN_RSA_BITS: usize = 2048;

/// The largest RSA modulus taken, in bits; what the crypto library verifies.
const MAX_RSA_BITS: usize = 8192;

/// What a public key is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum KeyType {
    /// ECDSA on NIST P-256.
    P256,
    /// ECDSA on NIST P-384.
    P384,
    /// Ed25519 (RFC 8410).
    Ed25519,
    /// RSA with a modulus of so many bits.
    Rsa(u16),
    /// ML-DSA-65 (FIPS 204), which a quantum computer does not break.
    MlDsa65,
}

impl KeyType {
    /// Whether receivers made before 2025 can be expected to verify its signatures.
    #[must_use]
    pub fn is_classical(self) -> bool {
        self != Self::MlDsa65
    }
}

impl fmt::Display for KeyType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::P256 => f.write_str("p256"),
            Self::P384 => f.write_str("p384"),
            Self::Ed25519 => f.write_str("ed25519"),
            Self::Rsa(bits) => write!(f, "rsa{bits}"),
            Self::MlDsa65 => f.write_str("ml-dsa-65"),
        }
    }
}

/// Why a public key was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadKey {
    /// Not a SubjectPublicKeyInfo.
    #[error("the public key is not a well-formed SubjectPublicKeyInfo")]
    Malformed,
    /// An algorithm that is not taken.
    #[error(
        "the key algorithm {oid} is not accepted; use P-256, P-384, Ed25519, RSA with at least 2048 bits, or ML-DSA-65"
    )]
    Algorithm {
        /// Its object identifier.
        oid: ObjectIdentifier,
    },
    /// A curve that is not taken.
    #[error("the elliptic curve {oid} is not accepted; use P-256 or P-384")]
    Curve {
        /// Its object identifier.
        oid: ObjectIdentifier,
    },
    /// A private key where a public one is wanted.
    #[error("it holds a private key, which must stay where it was made; treat it as compromised if it travelled")]
    Private,
    /// An RSA exponent under 65,537, or an even one (FIPS 186-5 section 5.4).
    #[error("the RSA key's public exponent is not an odd number of at least 65537")]
    RsaExponent,
    /// An RSA modulus that is too short or too long.
    #[error("the RSA key has {bits} bits; {MIN_RSA_BITS} to {MAX_RSA_BITS} are accepted")]
    RsaSize {
        /// Bits of its modulus.
        bits: usize,
    },
}

/// Why a signature was not accepted.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadSignature {
    /// An algorithm that is known to be broken.
    #[error("it is signed with {name}, which is no longer safe; sign with SHA-256 or better")]
    Broken {
        /// Its name.
        name: &'static str,
    },
    /// An algorithm that is not taken, or does not belong to the key.
    #[error("the signature algorithm {oid} is not accepted for a {key} key")]
    Algorithm {
        /// Its object identifier.
        oid: ObjectIdentifier,
        /// The type of the key.
        key: KeyType,
    },
    /// The AlgorithmIdentifier could not be read.
    #[error("the signature algorithm is malformed")]
    Malformed,
    /// The signature was made with another key or over other bytes.
    #[error("the signature does not verify")]
    Wrong,
}

/// A public key that was checked: of an accepted type and size, in its DER form.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct PublicKey {
    spki: Vec<u8>,
    /// The content of the BIT STRING: an EC point, an Ed25519 key, or an RSAPublicKey.
    bits: Vec<u8>,
    key_type: KeyType,
}

impl fmt::Debug for PublicKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PublicKey({} {})", self.key_type, data_encoding::HEXLOWER.encode(&self.key_id()))
    }
}

impl PublicKey {
    /// Reads a SubjectPublicKeyInfo (RFC 5280 section 4.1.2.7) in DER.
    ///
    /// # Errors
    /// Another structure, or a key of a type, curve or size that is not accepted.
    pub fn from_spki(spki: &[u8]) -> Result<Self, BadKey> {
        if spki.len() > MAX_SPKI {
            return Err(BadKey::Malformed);
        }
        let info = SubjectPublicKeyInfoRef::from_der(spki).map_err(|_| BadKey::Malformed)?;
        let bits = info.subject_public_key.as_bytes().ok_or(BadKey::Malformed)?;
        let no_parameters = info.algorithm.parameters.is_none();
        let key_type = match info.algorithm.oid {
            ID_EC_PUBLIC_KEY => {
                let curve = info.algorithm.parameters_oid().map_err(|_| BadKey::Malformed)?;
                let (key_type, len) = match curve {
                    SECP_256_R_1 => (KeyType::P256, 65),
                    SECP_384_R_1 => (KeyType::P384, 97),
                    oid => return Err(BadKey::Curve { oid }),
                };
                // RFC 5480 section 2.2: 0x04 marks an uncompressed point, the one form that everybody reads.
                if bits.len() != len || bits.first() != Some(&4) {
                    return Err(BadKey::Malformed);
                }
                key_type
            }
            ID_ED_25519 if no_parameters && bits.len() == 32 => KeyType::Ed25519,
            ID_ED_25519 => return Err(BadKey::Malformed),
            // RFC 3279 section 2.3.1: the parameters are NULL. One key has one form, or it could come again in the other.
            RSA_ENCRYPTION if info.algorithm.parameters.is_some_and(|any| any.is_null()) => {
                KeyType::Rsa(rsa_bits(bits)?)
            }
            RSA_ENCRYPTION => return Err(BadKey::Malformed),
            ID_ML_DSA_65 if no_parameters && bits.len() == 1952 => KeyType::MlDsa65,
            ID_ML_DSA_65 => return Err(BadKey::Malformed),
            oid => return Err(BadKey::Algorithm { oid }),
        };
        Ok(Self { spki: spki.to_vec(), bits: bits.to_vec(), key_type })
    }

    /// The whole SubjectPublicKeyInfo in DER.
    #[must_use]
    pub fn spki(&self) -> &[u8] {
        &self.spki
    }

    /// What the key is.
    #[must_use]
    pub fn key_type(&self) -> KeyType {
        self.key_type
    }

    /// The key identifier for SKI and AKI: the leftmost 160 bits of SHA-256 over the BIT STRING's content
    /// (RFC 7093 section 2 method 1).
    #[must_use]
    pub fn key_id(&self) -> [u8; 20] {
        let mut id = [0; 20];
        id.copy_from_slice(&digest(&SHA256, &self.bits).as_ref()[..20]);
        id
    }

    /// Checks `signature` over `message`; `algorithm` is the DER of the AlgorithmIdentifier beside it.
    ///
    /// # Errors
    /// A broken, unknown or unfitting algorithm, or a signature that does not verify.
    pub fn verify(&self, algorithm: &[u8], message: &[u8], signature: &[u8]) -> Result<(), BadSignature> {
        let identifier = AlgorithmIdentifierRef::from_der(algorithm).map_err(|_| BadSignature::Malformed)?;
        let oid = identifier.oid;
        match oid {
            SHA_1_WITH_RSA_ENCRYPTION | ECDSA_WITH_SHA_1 => return Err(BadSignature::Broken { name: "SHA-1" }),
            MD5_WITH_RSA => return Err(BadSignature::Broken { name: "MD5" }),
            _ => {}
        }
        let verifier: &'static dyn VerificationAlgorithm = match (self.key_type, oid) {
            (KeyType::P256, ECDSA_WITH_SHA_256) => &ECDSA_P256_SHA256_ASN1,
            (KeyType::P256, ECDSA_WITH_SHA_384) => &ECDSA_P256_SHA384_ASN1,
            (KeyType::P256, ECDSA_WITH_SHA_512) => &ECDSA_P256_SHA512_ASN1,
            (KeyType::P384, ECDSA_WITH_SHA_256) => &ECDSA_P384_SHA256_ASN1,
            (KeyType::P384, ECDSA_WITH_SHA_384) => &ECDSA_P384_SHA384_ASN1,
            (KeyType::P384, ECDSA_WITH_SHA_512) => &ECDSA_P384_SHA512_ASN1,
            (KeyType::Ed25519, ID_ED_25519) => &ED25519,
            (KeyType::Rsa(_), SHA_256_WITH_RSA_ENCRYPTION) => &RSA_PKCS1_2048_8192_SHA256,
            (KeyType::Rsa(_), SHA_384_WITH_RSA_ENCRYPTION) => &RSA_PKCS1_2048_8192_SHA384,
            (KeyType::Rsa(_), SHA_512_WITH_RSA_ENCRYPTION) => &RSA_PKCS1_2048_8192_SHA512,
            (KeyType::MlDsa65, ID_ML_DSA_65) => &ML_DSA_65,
            (key, oid) => return Err(BadSignature::Algorithm { oid, key }),
        };
        let parameters_fit = match (self.key_type, identifier.parameters) {
            // RFC 5758 section 3.2, RFC 8410 section 3 and RFC 9881 section 2: absent. RFC 4055 section 5: NULL; absent is also seen.
            (KeyType::Rsa(_), Some(parameters)) => parameters.is_null(),
            (_, parameters) => parameters.is_none(),
        };
        if !parameters_fit {
            return Err(BadSignature::Malformed);
        }
        UnparsedPublicKey::new(verifier, &self.bits).verify(message, signature).map_err(|_| BadSignature::Wrong)
    }
}

impl PublicKey {
    /// The key with a point on P-256 or P-384, uncompressed (SEC 1 section 2.3.3).
    ///
    /// # Errors
    /// A point of another length or form.
    pub fn from_ec_point(point: &[u8]) -> Result<Self, BadKey> {
        let curve = if point.len() == 97 { P384 } else { P256 };
        let algorithm = asn1::sequence(&[&asn1::oid(ID_EC_PUBLIC_KEY), &asn1::oid(curve.oid)]);
        Self::from_spki(&asn1::sequence(&[&algorithm, &asn1::bit_string(point)]))
    }

    /// The RSA key with this modulus and public exponent, both big-endian.
    ///
    /// # Errors
    /// A modulus of a length that is not accepted.
    pub fn from_rsa(modulus: &[u8], exponent: &[u8]) -> Result<Self, BadKey> {
        let key = asn1::sequence(&[&asn1::unsigned(modulus), &asn1::unsigned(exponent)]);
        let algorithm = asn1::sequence(&[&asn1::oid(RSA_ENCRYPTION), &asn1::null()]);
        Self::from_spki(&asn1::sequence(&[&algorithm, &asn1::bit_string(&key)]))
    }

    /// Reads a public JWK (RFC 7517; EC and RSA keys as in RFC 7518 section 6, Ed25519 as in RFC 8037).
    ///
    /// # Errors
    /// Another structure or key; one that holds a private key.
    pub fn from_jwk(text: &str) -> Result<Self, BadKey> {
        let value: serde_json::Value = serde_json::from_str(text).map_err(|_| BadKey::Malformed)?;
        if value.get("d").is_some() || value.get("k").is_some() {
            return Err(BadKey::Private);
        }
        let field = |name: &str| value.get(name).and_then(serde_json::Value::as_str);
        let octets = |name: &str| {
            let text = field(name).ok_or(BadKey::Malformed)?;
            data_encoding::BASE64URL_NOPAD.decode(text.as_bytes()).map_err(|_| BadKey::Malformed)
        };
        match (field("kty"), field("crv")) {
            (Some("EC"), Some("P-256" | "P-384")) => {
                Self::from_ec_point(&[vec![4], octets("x")?, octets("y")?].concat())
            }
            (Some("OKP"), Some("Ed25519")) => {
                let algorithm = asn1::sequence(&[&asn1::oid(ID_ED_25519)]);
                Self::from_spki(&asn1::sequence(&[&algorithm, &asn1::bit_string(&octets("x")?)]))
            }
            (Some("RSA"), _) => Self::from_rsa(&octets("n")?, &octets("e")?),
            _ => Err(BadKey::Malformed),
        }
    }

    /// DER of the AlgorithmIdentifier with which a key of this type signs here.
    #[must_use]
    pub fn signature_algorithm(&self) -> Vec<u8> {
        match self.key_type {
            KeyType::P256 => asn1::sequence(&[&asn1::oid(ECDSA_WITH_SHA_256)]),
            KeyType::P384 => asn1::sequence(&[&asn1::oid(ECDSA_WITH_SHA_384)]),
            KeyType::Ed25519 => asn1::sequence(&[&asn1::oid(ID_ED_25519)]),
            KeyType::Rsa(_) => asn1::sequence(&[&asn1::oid(SHA_256_WITH_RSA_ENCRYPTION), &asn1::null()]),
            KeyType::MlDsa65 => asn1::sequence(&[&asn1::oid(ID_ML_DSA_65)]),
        }
    }
}

/// Ecdsa-Sig-Value in DER (RFC 3279 section 2.2.3) from r and s side by side, each half of `raw`.
#[must_use]
pub fn ecdsa_signature(raw: &[u8]) -> Vec<u8> {
    let (r, s) = raw.split_at(raw.len() / 2);
    asn1::sequence(&[&asn1::unsigned(r), &asn1::unsigned(s)])
}

/// Bits of the modulus of an RSAPublicKey (RFC 8017 appendix A.1.1).
fn rsa_bits(der_bytes: &[u8]) -> Result<u16, BadKey> {
    let mut weak = false;
    let mut parse = || -> Result<usize, der::Error> {
        let mut outer = SliceReader::new(der_bytes)?;
        let bits = outer.sequence(|reader| {
            let modulus = der::asn1::UintRef::decode(reader)?;
            let exponent = der::asn1::UintRef::decode(reader)?;
            let small = exponent.as_bytes().len() < 3
                || exponent.as_bytes() < [1, 0, 1].as_slice() && exponent.as_bytes().len() == 3;
            weak = small || exponent.as_bytes().last().is_none_or(|last| last % 2 == 0);
            let first = modulus.as_bytes().first().copied().unwrap_or(0);
            let spare = usize::try_from(first.leading_zeros()).unwrap_or(8);
            Ok::<_, der::Error>(modulus.as_bytes().len() * 8 - spare)
        })?;
        outer.finish()?;
        Ok(bits)
    };
    let bits = parse().map_err(|_| BadKey::Malformed)?;
    if weak {
        return Err(BadKey::RsaExponent);
    }
    match u16::try_from(bits) {
        Ok(fits) if (MIN_RSA_BITS..=MAX_RSA_BITS).contains(&bits) => Ok(fits),
        _ => Err(BadKey::RsaSize { bits }),
    }
}

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
        write!(f, "SoftwareKey({}, [elided])", self.public.key_type)
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
        ProvenKey(self.public.clone())
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

/// SHA-256 of what comes piece by piece.
#[derive(Clone)]
pub struct Sha256(aws_lc_rs::digest::Context);

impl Default for Sha256 {
    fn default() -> Self {
        Self(aws_lc_rs::digest::Context::new(&SHA256))
    }
}

impl fmt::Debug for Sha256 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Sha256")
    }
}

impl Sha256 {
    /// Takes the next piece.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of all pieces.
    #[must_use]
    pub fn finish(self) -> [u8; 32] {
        let mut out = [0; 32];
        out.copy_from_slice(self.0.finish().as_ref());
        out
    }
}

/// SHA-384 of `bytes`.
#[must_use]
pub fn sha384(bytes: &[u8]) -> [u8; 48] {
    let mut out = [0; 48];
    out.copy_from_slice(digest(&SHA384, bytes).as_ref());
    out
}

/// SHA-256 of `bytes`.
#[must_use]
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let mut out = [0; 32];
    out.copy_from_slice(digest(&SHA256, bytes).as_ref());
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Counted;

    #[test]
    fn a_key_file_that_takes_too_much_work_is_refused_before_it_takes_it() {
        use der::Encode;
        use der::asn1::OctetStringRef;
        let refused = |parameters: pbes2::Parameters| {
            let info = EncryptedPrivateKeyInfoRef {
                encryption_algorithm: EncryptionScheme::Pbes2(parameters),
                encrypted_data: OctetStringRef::new(&[0; 48]).unwrap(),
            };
            let pem = asn1::pem("ENCRYPTED PRIVATE KEY", &info.to_der().unwrap());
            SoftwareKey::open(&pem, b"x").unwrap_err()
        };
        let rounds = |rounds| pbes2::Parameters::generate_pbkdf2_sha256_aes256cbc(rounds, &[7; 16], [7; 16]).unwrap();
        assert_eq!(refused(rounds(2_000_001)), OpenError::TooCostly);
        assert_eq!(refused(rounds(1)), OpenError::Passphrase);
        let scrypt = |log_n, r, p| {
            let cost = scrypt::Params::new(log_n, r, p).unwrap();
            pbes2::Parameters::generate_scrypt_aes256cbc(cost, &[7; 16], [7; 16]).unwrap()
        };
        assert_eq!(refused(scrypt(21, 8, 1)), OpenError::TooCostly);
        assert_eq!(refused(scrypt(4, 8, 17)), OpenError::TooCostly);
        assert_eq!(refused(scrypt(4, 8, 1)), OpenError::Passphrase);
    }

    #[test]
    fn keys_sign_and_verify_and_survive_the_lock() {
        for new in NewKey::ALL {
            let key = SoftwareKey::generate(new).unwrap();
            assert_eq!(key.public_key().key_type().to_string(), new.as_str());
            let plain = key.to_pkcs8().unwrap();
            assert_eq!(SoftwareKey::from_pkcs8(&plain).unwrap().public_key(), key.public_key());
            let signature = key.sign(b"rope").unwrap();
            assert_eq!(key.public_key().verify(&key.algorithm(), b"rope", &signature), Ok(()));
            assert_eq!(
                key.public_key().verify(&key.algorithm(), b"Rope", &signature),
                Err(BadSignature::Wrong),
                "{new:?}"
            );
            let locked = key.lock(b"correct horse", LockCost::Full, &mut Counted(1)).unwrap();
            let quick = key.lock(b"correct horse", LockCost::Rehearsal, &mut Counted(1)).unwrap();
            assert_eq!(SoftwareKey::open(&quick, b"correct horse").unwrap().public_key(), key.public_key());
            assert!(!locked.contains("BEGIN PRIVATE KEY"));
            let opened = SoftwareKey::open(&locked, b"correct horse").unwrap();
            assert_eq!(opened.public_key(), key.public_key());
            assert_eq!(SoftwareKey::open(&locked, b"correct horsf").unwrap_err(), OpenError::Passphrase);
        }
    }

    #[test]
    fn an_algorithm_of_another_key_type_is_refused() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let ed25519 = asn1::sequence(&[&asn1::oid(ID_ED_25519)]);
        assert!(matches!(key.public_key().verify(&ed25519, b"", b""), Err(BadSignature::Algorithm { .. })));
        let sha1 = asn1::sequence(&[&asn1::oid(ECDSA_WITH_SHA_1)]);
        assert!(matches!(key.public_key().verify(&sha1, b"", b""), Err(BadSignature::Broken { name: "SHA-1" })));
    }

    #[test]
    fn rsa_sizes_are_measured_in_bits_of_the_modulus() {
        let rsa = |octets: usize, first: u8| {
            let mut modulus = vec![0xff; octets];
            modulus[0] = first;
            let key = asn1::sequence(&[&asn1::unsigned(&modulus), &asn1::unsigned(&[1, 0, 1])]);
            let null = asn1::element(5, &[]);
            asn1::sequence(&[&asn1::sequence(&[&asn1::oid(RSA_ENCRYPTION), &null]), &asn1::bit_string(&key)])
        };
        assert_eq!(PublicKey::from_spki(&rsa(256, 0x80)).map(|key| key.key_type()), Ok(KeyType::Rsa(2048)));
        assert_eq!(PublicKey::from_spki(&rsa(256, 0x7f)).unwrap_err(), BadKey::RsaSize { bits: 2047 });
        assert_eq!(PublicKey::from_spki(&rsa(128, 0x80)).unwrap_err(), BadKey::RsaSize { bits: 1024 });
    }

    #[test]
    fn public_jwks_are_read_and_private_ones_refused() {
        // The public key of RFC 7517 appendix A.1, and that of RFC 8037 appendix A.2.
        let ec = r#"{"kty":"EC","crv":"P-256","x":"MKBCTNIcKUSDii11ySs3526iDZ8AiTo7Tu6KPAqv7D4","y":"4Etl6SRW2YiLUrN5vfvVHuhp7x8PxltmWWlbbM4IFyM","use":"enc","kid":"1"}"#;
        assert_eq!(PublicKey::from_jwk(ec).unwrap().key_type(), KeyType::P256);
        let okp = r#"{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}"#;
        assert_eq!(PublicKey::from_jwk(okp).unwrap().key_type(), KeyType::Ed25519);
        let private = okp.replace('}', ",\"d\":\"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A\"}");
        assert_eq!(PublicKey::from_jwk(&private), Err(BadKey::Private));
        for bad in ["{}", "[]", "x", r#"{"kty":"EC","crv":"P-521","x":"AA","y":"AA"}"#] {
            assert_eq!(PublicKey::from_jwk(bad), Err(BadKey::Malformed), "{bad}");
        }
    }

    #[test]
    fn a_private_key_does_not_show_itself() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        assert_eq!(format!("{key:?}"), "SoftwareKey(p256, [elided])");
    }
}
