//! Public keys: which are taken, and what they verify.

use std::fmt;

use aws_lc_rs::digest::{SHA256, digest};
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1, ECDSA_P256_SHA256_FIXED, ECDSA_P256_SHA384_ASN1, ECDSA_P256_SHA512_ASN1,
    ECDSA_P384_SHA256_ASN1, ECDSA_P384_SHA384_ASN1, ECDSA_P384_SHA384_FIXED, ECDSA_P384_SHA512_ASN1, ED25519,
    ML_DSA_65, ParsedPublicKey, RSA_PKCS1_2048_8192_SHA256, RSA_PKCS1_2048_8192_SHA384, RSA_PKCS1_2048_8192_SHA512,
    RSA_PSS_2048_8192_SHA256, UnparsedPublicKey, VerificationAlgorithm,
};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5912::{
    ECDSA_WITH_SHA_256, ECDSA_WITH_SHA_384, ECDSA_WITH_SHA_512, ID_EC_PUBLIC_KEY, RSA_ENCRYPTION, SECP_256_R_1,
    SECP_384_R_1, SHA_1_WITH_RSA_ENCRYPTION, SHA_256_WITH_RSA_ENCRYPTION, SHA_384_WITH_RSA_ENCRYPTION,
    SHA_512_WITH_RSA_ENCRYPTION,
};
use const_oid::db::rfc8410::ID_ED_25519;
use der::{Decode, Reader, SliceReader};
use spki::{AlgorithmIdentifierRef, SubjectPublicKeyInfoRef};

use crate::asn1;

/// ML-DSA-65 (RFC 9881 section 2): key and signature have the same identifier, without parameters.
pub(super) const ID_ML_DSA_65: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.3.18");

pub(super) const ECDSA_WITH_SHA_1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.1");
pub(super) const MD5_WITH_RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.4");

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

/// How a signature that stands by itself is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FixedScheme {
    /// ECDSA with the hash that belongs to the curve: SHA-256 for P-256, SHA-384 for P-384.
    Ecdsa,
    /// Ed25519.
    EdDsa,
    /// RSASSA-PKCS1-v1_5 with SHA-256.
    RsaPkcs1,
    /// RSASSA-PSS with SHA-256 and a salt of 32 octets.
    RsaPss,
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

    /// The point of a key on a NIST curve, uncompressed (SEC 1 section 2.3.3).
    #[must_use]
    pub fn point(&self) -> Option<&[u8]> {
        matches!(self.key_type, KeyType::P256 | KeyType::P384).then_some(&self.bits)
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
        let curve = if point.len() == 97 { SECP_384_R_1 } else { SECP_256_R_1 };
        let algorithm = asn1::sequence(&[&asn1::oid(ID_EC_PUBLIC_KEY), &asn1::oid(curve)]);
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
        super::jwk::from_members(&|name| value.get(name).and_then(serde_json::Value::as_str).map(str::to_owned))
    }

    /// The key with these coordinates, each of which has `len` octets, leading zeros included (RFC 7518 sections 6.2.1.2 and 6.2.1.3).
    ///
    /// # Errors
    /// They are longer or shorter, or on no curve that is taken.
    pub fn from_coordinates(len: usize, x: &[u8], y: &[u8]) -> Result<Self, BadKey> {
        if x.len() != len || y.len() != len {
            return Err(BadKey::Malformed);
        }
        Self::from_ec_point(&[&[4], x, y].concat())
    }

    /// The Ed25519 key with these octets (RFC 8032 section 5.1.5).
    ///
    /// # Errors
    /// They are not 32.
    pub fn from_ed25519(octets: &[u8]) -> Result<Self, BadKey> {
        let algorithm = asn1::sequence(&[&asn1::oid(ID_ED_25519)]);
        Self::from_spki(&asn1::sequence(&[&algorithm, &asn1::bit_string(octets)]))
    }

    /// Whether it is a key that can verify anything: its point is one of its curve. Whoever registers a key wants to know now.
    #[must_use]
    pub fn is_usable(&self) -> bool {
        let verifier: &'static dyn VerificationAlgorithm = match self.key_type {
            KeyType::P256 => &ECDSA_P256_SHA256_FIXED,
            KeyType::P384 => &ECDSA_P384_SHA384_FIXED,
            KeyType::Ed25519 => &ED25519,
            KeyType::Rsa(_) => &RSA_PKCS1_2048_8192_SHA256,
            KeyType::MlDsa65 => &ML_DSA_65,
        };
        ParsedPublicKey::new(verifier, &self.bits).is_ok()
    }

    /// The octets of an Ed25519 key (RFC 8032 section 5.1.5).
    #[must_use]
    pub fn ed25519(&self) -> Option<&[u8]> {
        (self.key_type == KeyType::Ed25519).then_some(&self.bits)
    }

    /// The content of the BIT STRING.
    pub(super) fn bits(&self) -> &[u8] {
        &self.bits
    }

    /// Checks a signature in the fixed form of RFC 7518 section 3 and RFC 9053 section 2: r and s side by side, each as long as the
    /// curve's order, for ECDSA; as it is for the others.
    ///
    /// # Errors
    /// It does not verify, or the key does not sign so.
    pub fn verify_fixed(&self, scheme: FixedScheme, message: &[u8], signature: &[u8]) -> Result<(), BadSignature> {
        let verifier: &'static dyn VerificationAlgorithm = match (scheme, self.key_type) {
            (FixedScheme::Ecdsa, KeyType::P256) => &ECDSA_P256_SHA256_FIXED,
            (FixedScheme::Ecdsa, KeyType::P384) => &ECDSA_P384_SHA384_FIXED,
            (FixedScheme::EdDsa, KeyType::Ed25519) => &ED25519,
            (FixedScheme::RsaPkcs1, KeyType::Rsa(_)) => &RSA_PKCS1_2048_8192_SHA256,
            (FixedScheme::RsaPss, KeyType::Rsa(_)) => &RSA_PSS_2048_8192_SHA256,
            _ => return Err(BadSignature::Wrong),
        };
        UnparsedPublicKey::new(verifier, &self.bits).verify(message, signature).map_err(|_| BadSignature::Wrong)
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
