//! Tokens: a JWT (RFC 7519) that stands for a device for a limited time, signed with ES256 (RFC 7518 section 3.4).
//!
//! Read with the best practice of RFC 8725: one algorithm, decided here and not by the token; every claim required and
//! checked; nothing critical accepted; a limit on size.

use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use data_encoding::BASE64URL_NOPAD;
use der::{Decode, Reader, SliceReader};
use serde::{Deserialize, Serialize};
use spki::SubjectPublicKeyInfoRef;

use crate::id::DeviceId;
use crate::key::{KeyType, PublicKey, SignError, Signer, sha256};
use crate::random::{self, Randomness};
use crate::time::{Span, UnixTime};

/// The longest token read, in characters; ours have about 500.
pub const MAX_LEN: usize = 8 * 1024;

/// How far a token's `iat` and `nbf` may lie in the future, for clocks that differ.
const CLOCK_DIFFERENCE: Span = Span::from_seconds(60);

/// Who signs tokens and whom they are for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parties {
    /// `iss`: the ward, a URN that never changes.
    pub issuer: String,
    /// `aud`: the guard, such as `mqtts://localhost:8883`.
    pub audience: String,
}

/// The claims of a token. Times are NumericDate, whole seconds since the Unix epoch (RFC 7519 section 2).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Claims {
    /// Who signed it.
    pub iss: String,
    /// The device.
    pub sub: String,
    /// Whom it is for.
    pub aud: String,
    /// When it was made.
    pub iat: i64,
    /// Refused before this second.
    pub nbf: i64,
    /// Refused from this second on.
    pub exp: i64,
    /// Its name: 128 random bits in hexadecimal.
    pub jti: String,
}

#[derive(Debug, Serialize, Deserialize)]
struct Header {
    alg: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    typ: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    kid: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    crit: Option<serde_json::Value>,
}

/// Why a token was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the texts say what the fields are")]
pub enum BadToken {
    /// More characters than any token needs.
    #[error("the token has more than {MAX_LEN} characters")]
    TooLong,
    /// Not a JWT in compact form.
    #[error("it is not a JWT: {detail}")]
    Malformed {
        /// What is wrong.
        detail: &'static str,
    },
    /// Another algorithm than the one that this ward uses.
    #[error("the token says alg {alg:?}; this ward signs with ES256 only")]
    Algorithm {
        /// What it says.
        alg: String,
    },
    /// It demands what is not understood (RFC 7515 section 4.1.11).
    #[error("the token has critical header fields, which are not understood here")]
    Critical,
    /// Signed by another key.
    #[error("the token was not signed with this ward's token key")]
    Signature,
    /// Made by somebody else.
    #[error("the token was issued by {found:?}, not by this ward")]
    Issuer {
        /// What it says.
        found: String,
    },
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
    /// `sub` is not a device id.
    #[error("the token's subject is not a device id")]
    Subject,
}

/// A token whose signature, parties and times were checked, at one moment.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct VerifiedToken {
    /// The device that it stands for.
    pub device: DeviceId,
    /// When it was made.
    pub issued_at: UnixTime,
    /// The second from which on it is refused.
    pub ends: UnixTime,
    /// Its name.
    pub jti: String,
}

/// The key's name in tokens: its JWK thumbprint (RFC 7638), base64url.
///
/// `None` if the key is not on P-256.
#[must_use]
pub fn key_name(key: &PublicKey) -> Option<String> {
    let (x, y) = coordinates(key)?;
    let encode = |octets: &[u8]| BASE64URL_NOPAD.encode(octets);
    // RFC 7638 section 3: the required members only, in lexicographic order, without white space.
    let jwk = format!(r#"{{"crv":"P-256","kty":"EC","x":"{}","y":"{}"}}"#, encode(&x), encode(&y));
    Some(BASE64URL_NOPAD.encode(&sha256(jwk.as_bytes())))
}

/// The keys that tokens are verified with, as a JWK set (RFC 7517 section 5); those that are not on P-256 are left out.
#[must_use]
pub fn key_set(keys: &[&PublicKey]) -> String {
    let encode = |octets: &[u8]| BASE64URL_NOPAD.encode(octets);
    let jwk = |key: &PublicKey| {
        let ((x, y), kid) = (coordinates(key)?, key_name(key)?);
        Some(serde_json::json!({
            "kty": "EC", "crv": "P-256", "x": encode(&x), "y": encode(&y), "use": "sig", "alg": "ES256", "kid": kid,
        }))
    };
    let keys: Vec<serde_json::Value> = keys.iter().filter_map(|key| jwk(key)).collect();
    format!("{}\n", serde_json::json!({ "keys": keys }))
}

fn point(key: &PublicKey) -> Option<Vec<u8>> {
    if key.key_type() != KeyType::P256 {
        return None;
    }
    let info = SubjectPublicKeyInfoRef::from_der(key.spki()).ok()?;
    info.subject_public_key.as_bytes().map(<[u8]>::to_vec)
}

fn coordinates(key: &PublicKey) -> Option<([u8; 32], [u8; 32])> {
    let point = point(key)?;
    Some((point.get(1..33)?.try_into().ok()?, point.get(33..65)?.try_into().ok()?))
}

/// Makes and signs a token for `device` that lasts `life` from `now`.
///
/// # Errors
/// The signer is not on P-256 or cannot sign.
pub fn issue(
    parties: &Parties,
    device: &DeviceId,
    now: UnixTime,
    life: Span,
    signer: &dyn Signer,
    random: &mut dyn Randomness,
) -> Result<(String, Claims), SignError> {
    let claims = Claims {
        iss: parties.issuer.clone(),
        sub: device.to_string(),
        aud: parties.audience.clone(),
        iat: now.0,
        nbf: now.0,
        exp: now.plus(life).0,
        jti: random::hex::<16>(random),
    };
    let kid = Some(key_name(signer.public_key()).ok_or(SignError::Library)?);
    let header = Header { alg: "ES256".to_owned(), typ: Some("JWT".to_owned()), kid, crit: None };
    let part = |json: serde_json::Result<Vec<u8>>| {
        json.map(|json| BASE64URL_NOPAD.encode(&json)).map_err(|_| SignError::Library)
    };
    let signed = format!("{}.{}", part(serde_json::to_vec(&header))?, part(serde_json::to_vec(&claims))?);
    let signature = to_fixed(&signer.sign(signed.as_bytes())?).ok_or(SignError::Library)?;
    Ok((format!("{signed}.{}", BASE64URL_NOPAD.encode(&signature)), claims))
}

/// ECDSA-Sig-Value in DER to r and s of 32 octets each (RFC 7518 section 3.4).
fn to_fixed(der_bytes: &[u8]) -> Option<[u8; 64]> {
    let mut out = [0; 64];
    let mut reader = SliceReader::new(der_bytes).ok()?;
    reader
        .sequence(|inner| {
            for half in [0, 32] {
                let number = der::asn1::UintRef::decode(inner)?;
                let octets = number.as_bytes();
                let place = out.get_mut(half + 32usize.saturating_sub(octets.len())..half + 32);
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

/// Takes a token apart without checking who signed it. For reading, never for deciding.
///
/// # Errors
/// It is not a JWT in compact form, or uses what this product never writes.
pub fn read(token: &str) -> Result<Claims, BadToken> {
    split(token).map(|parts| parts.claims)
}

struct Parts<'a> {
    signed: &'a str,
    signature: Vec<u8>,
    claims: Claims,
}

fn split(token: &str) -> Result<Parts<'_>, BadToken> {
    if token.len() > MAX_LEN {
        return Err(BadToken::TooLong);
    }
    let malformed = |detail| BadToken::Malformed { detail };
    let (signed, signature) = token.rsplit_once('.').ok_or(malformed("it has no parts"))?;
    let (header, claims) = signed.split_once('.').ok_or(malformed("it needs three parts"))?;
    if claims.contains('.') {
        return Err(malformed("it has more than three parts"));
    }
    let decode = |text: &str| BASE64URL_NOPAD.decode(text.as_bytes()).map_err(|_| malformed("a part is not base64url"));
    let header: Header = object(&decode(header)?).ok_or(malformed("its header is not the JSON of one"))?;
    if header.alg != "ES256" {
        return Err(BadToken::Algorithm { alg: header.alg.chars().take(20).collect() });
    }
    if header.crit.is_some() {
        return Err(BadToken::Critical);
    }
    let claims = object(&decode(claims)?)
        .ok_or(malformed("its claims lack one of iss, sub, aud, iat, nbf, exp, jti, or have one of a wrong type"))?;
    Ok(Parts { signed, signature: decode(signature)?, claims })
}

/// A JSON object (RFC 7515 section 4, RFC 7519 section 4). An array of the same values in the same order, which would be taken for one
/// otherwise, is none.
fn object<T: serde::de::DeserializeOwned>(json: &[u8]) -> Option<T> {
    let begins = json.iter().find(|octet| !octet.is_ascii_whitespace());
    begins.filter(|octet| **octet == b'{').and_then(|_| serde_json::from_slice(json).ok())
}

/// Checks a token that `key` must have signed, at `now`.
///
/// # Errors
/// The first check that fails; the signature comes before all claims.
pub fn verify(token: &str, key: &PublicKey, parties: &Parties, now: UnixTime) -> Result<VerifiedToken, BadToken> {
    let Parts { signed, signature, claims } = split(token)?;
    let point = point(key).ok_or(BadToken::Signature)?;
    UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point)
        .verify(signed.as_bytes(), &signature)
        .map_err(|_| BadToken::Signature)?;
    if claims.iss != parties.issuer {
        return Err(BadToken::Issuer { found: claims.iss });
    }
    if claims.aud != parties.audience {
        return Err(BadToken::Audience { found: claims.aud, wanted: parties.audience.clone() });
    }
    let (ends, begins, issued_at) = (UnixTime(claims.exp), UnixTime(claims.nbf), UnixTime(claims.iat));
    if now >= ends {
        return Err(BadToken::Ended { exp: ends });
    }
    let latest = now.plus(CLOCK_DIFFERENCE);
    if begins > latest || issued_at > latest {
        return Err(BadToken::NotYet { nbf: begins.max(issued_at) });
    }
    let device = claims.sub.parse().map_err(|_| BadToken::Subject)?;
    Ok(VerifiedToken { device, issued_at, ends, jti: claims.jti })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::{NewKey, SoftwareKey};
    use crate::random::Counted;

    const NOW: UnixTime = UnixTime(1_795_417_333);

    fn parties() -> Parties {
        Parties { issuer: "urn:uuid:1".into(), audience: "mqtts://localhost:8883".into() }
    }

    fn signed(key: &SoftwareKey, header: &str, claims: &str) -> String {
        let text =
            format!("{}.{}", BASE64URL_NOPAD.encode(header.as_bytes()), BASE64URL_NOPAD.encode(claims.as_bytes()));
        let signature = to_fixed(&key.sign(text.as_bytes()).unwrap()).unwrap();
        format!("{text}.{}", BASE64URL_NOPAD.encode(&signature))
    }

    #[test]
    fn a_token_lasts_exactly_as_long_as_it_says() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let device = "wv-1".parse().unwrap();
        for round in 0..50 {
            // Signatures differ in the length of r and s; fifty hold short ones too.
            let (token, claims) =
                issue(&parties(), &device, NOW, Span::from_seconds(60), &key, &mut Counted(round)).unwrap();
            assert_eq!(read(&token).unwrap(), claims);
            let verified = verify(&token, key.public_key(), &parties(), UnixTime(NOW.0 + 59)).unwrap();
            assert_eq!((verified.device.as_str(), verified.ends), ("wv-1", UnixTime(NOW.0 + 60)));
            let late = verify(&token, key.public_key(), &parties(), UnixTime(NOW.0 + 60));
            assert_eq!(late, Err(BadToken::Ended { exp: UnixTime(NOW.0 + 60) }));
            let early = verify(&token, key.public_key(), &parties(), UnixTime(NOW.0 - 61));
            assert!(matches!(early, Err(BadToken::NotYet { .. })));
        }
    }

    #[test]
    fn forged_and_foreign_tokens_are_refused() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let other = SoftwareKey::generate(NewKey::P256).unwrap();
        let device = "wv-1".parse().unwrap();
        let (token, claims) = issue(&parties(), &device, NOW, Span::from_seconds(60), &key, &mut Counted(1)).unwrap();
        let check = |token: &str| verify(token, key.public_key(), &parties(), NOW).unwrap_err();
        assert_eq!(verify(&token, other.public_key(), &parties(), NOW), Err(BadToken::Signature));
        let claims = serde_json::to_string(&claims).unwrap();
        let with = |from: &str, to: &str| signed(&key, r#"{"alg":"ES256"}"#, &claims.replace(from, to));
        assert!(matches!(check(&with("urn:uuid:1", "urn:uuid:2")), BadToken::Issuer { .. }));
        assert!(matches!(check(&with("localhost", "elsewhere")), BadToken::Audience { .. }));
        assert_eq!(check(&with("\"wv-1\"", "\"wv/1\"")), BadToken::Subject);
        assert!(matches!(check(&with("\"jti\"", "\"jtx\"")), BadToken::Malformed { .. }));
        assert!(matches!(check(&signed(&key, r#"{"alg":"none"}"#, &claims)), BadToken::Algorithm { .. }));
        assert!(matches!(check(&signed(&key, r#"{"alg":"HS256"}"#, &claims)), BadToken::Algorithm { .. }));
        assert_eq!(check(&signed(&key, r#"{"alg":"ES256","crit":["x"]}"#, &claims)), BadToken::Critical);
        let unsigned = token.rsplit_once('.').unwrap().0;
        for bad in ["", "a", "a.b", "a.b.c.d", &format!("{unsigned}."), &"a".repeat(MAX_LEN + 1)] {
            assert!(verify(bad, key.public_key(), &parties(), NOW).is_err(), "{bad:?} was taken");
        }
    }
}
