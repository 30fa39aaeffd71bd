//! JWE in its compact form (RFC 7516 section 7.1): a text that only the owner of a key on a NIST curve can read, wherever it passes.
//!
//! One way of it alone: `ECDH-ES` in direct key agreement (RFC 7518 section 4.6) and `A256GCM` (section 5.3). Who reads such a text
//! knows what it expects, so nothing that stands in the text chooses how it is read.

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, MAX_TAG_LEN, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::agreement::{self, UnparsedPublicKey};
use aws_lc_rs::digest::{Context, SHA256};
use data_encoding::BASE64URL_NOPAD;
use serde::Deserialize;
use serde_json::json;
use zeroize::Zeroizing;

use crate::key::{PublicKey, Signer, SoftwareKey, from_members, jwk_members, thumbprint};
use crate::random::{self, Randomness};
use crate::seal::curve;

/// The largest text that is opened, in octets.
pub const MAX_JWE: usize = 16 * 1024;

const ALG: &str = "ECDH-ES";
const ENC: &str = "A256GCM";

/// Why a text was not opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Unopened {
    /// It is no JWE, or one of another way.
    #[error("it is no JWE with ECDH-ES and A256GCM")]
    Form,
    /// It was changed, or sealed for somebody else.
    #[error("it does not open with this key")]
    Key,
}

/// What stands in the header; whatever else stands there is not understood, and refused (RFC 7516 section 4.1.13 for `crit`).
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Header {
    alg: String,
    enc: String,
    epk: serde_json::Map<String, serde_json::Value>,
    #[serde(default, rename = "kid")]
    _kid: Option<String>,
    #[serde(default)]
    cty: Option<String>,
}

/// The key that both sides derive: the Concat KDF of NIST SP 800-56A with SHA-256, as RFC 7518 section 4.6.2 fills it; PartyUInfo and
/// PartyVInfo are empty. `bits` is the length of the key, at most 256.
fn derived(shared: &[u8], algorithm: &str, (party_u, party_v): (&[u8], &[u8]), bits: u32) -> Zeroizing<[u8; 32]> {
    let mut hash = Context::new(&SHA256);
    // One round of the function: no key here is longer than the hash.
    hash.update(&1_u32.to_be_bytes());
    hash.update(shared);
    for part in [algorithm.as_bytes(), party_u, party_v] {
        hash.update(&u32::try_from(part.len()).unwrap_or(u32::MAX).to_be_bytes());
        hash.update(part);
    }
    hash.update(&bits.to_be_bytes());
    let mut key = Zeroizing::new([0; 32]);
    key.copy_from_slice(hash.finish().as_ref());
    key
}

fn cipher(shared: &[u8]) -> Option<LessSafeKey> {
    let key = derived(shared, ENC, (&[], &[]), 256);
    Some(LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &*key).ok()?))
}

/// Whether a text can be sealed for the owner of such a key, by the word for its type.
#[must_use]
pub fn can_seal_to(key_type: &str) -> bool {
    matches!(key_type, "p256" | "p384")
}

/// Seals `plain` for the owner of `to`; `content` says what it is (`cty`, RFC 7516 section 4.1.12). `None` if the key is on neither P-256
/// nor P-384, or is no point of its curve.
#[must_use]
pub fn seal(to: &PublicKey, content: &str, plain: &[u8], random: &mut dyn Randomness) -> Option<String> {
    let curve = curve(to)?;
    let own = agreement::PrivateKey::generate(curve).ok()?;
    let ephemeral = PublicKey::from_ec_point(own.compute_public_key().ok()?.as_ref()).ok()?;
    let members = jwk_members(&ephemeral)?.into_iter().map(|(name, value)| (name.to_owned(), value.into()));
    let epk = serde_json::Value::Object(members.collect());
    let header = json!({ "alg": ALG, "enc": ENC, "cty": content, "kid": thumbprint(to)?, "epk": epk });
    let header = BASE64URL_NOPAD.encode(header.to_string().as_bytes());
    let peer = UnparsedPublicKey::new(curve, to.point()?);
    let cipher = agreement::agree(&own, peer, (), |shared| cipher(shared).ok_or(())).ok()?;
    let nonce = random::bytes::<NONCE_LEN>(random);
    let mut sealed = Zeroizing::new(plain.to_vec());
    let aad = Aad::from(header.as_bytes());
    let tag = cipher.seal_in_place_separate_tag(Nonce::assume_unique_for_key(nonce), aad, &mut sealed).ok()?;
    // The second part is empty: the key is agreed upon, and not sent (RFC 7518 section 4.6).
    let mut text = header + "..";
    BASE64URL_NOPAD.encode_append(&nonce, &mut text);
    text.push('.');
    BASE64URL_NOPAD.encode_append(&sealed, &mut text);
    text.push('.');
    BASE64URL_NOPAD.encode_append(tag.as_ref(), &mut text);
    Some(text)
}

/// Opens what was sealed for the owner of `own`, and is to be `content`.
///
/// # Errors
/// It is none, was changed, was sealed for somebody else, or is something else.
pub fn open(text: &str, content: &str, own: &SoftwareKey) -> Result<Zeroizing<Vec<u8>>, Unopened> {
    let parts: Vec<&str> = text.split('.').collect();
    let [header, "", nonce, sealed, tag] = parts.as_slice() else { return Err(Unopened::Form) };
    if text.len() > MAX_JWE {
        return Err(Unopened::Form);
    }
    let decode = |part: &str| BASE64URL_NOPAD.decode(part.as_bytes()).map_err(|_| Unopened::Form);
    let read: Header = serde_json::from_slice(&decode(header)?).map_err(|_| Unopened::Form)?;
    let is_ours = read.alg == ALG && read.enc == ENC && read.cty.as_deref() == Some(content);
    let tag = decode(tag)?;
    if !is_ours || tag.len() != MAX_TAG_LEN {
        return Err(Unopened::Form);
    }
    let member = |name: &str| read.epk.get(name).and_then(serde_json::Value::as_str).map(str::to_owned);
    let ephemeral = from_members(&member).map_err(|_| Unopened::Form)?;
    // A point of another curve, or of none, would tell of the private key (RFC 7516 section 11.1).
    if ephemeral.key_type() != own.public_key().key_type() {
        return Err(Unopened::Key);
    }
    let curve = curve(own.public_key()).ok_or(Unopened::Key)?;
    let pkcs8 = own.to_pkcs8().map_err(|_| Unopened::Key)?;
    let own = agreement::PrivateKey::from_private_key_der(curve, &pkcs8).map_err(|_| Unopened::Key)?;
    let peer = UnparsedPublicKey::new(curve, ephemeral.point().ok_or(Unopened::Key)?);
    let cipher = agreement::agree(&own, peer, Unopened::Key, |shared| cipher(shared).ok_or(Unopened::Key))?;
    let nonce = Nonce::try_assume_unique_for_key(&decode(nonce)?).map_err(|_| Unopened::Form)?;
    let mut octets = Zeroizing::new([decode(sealed)?, tag].concat());
    let len = cipher.open_in_place(nonce, Aad::from(header.as_bytes()), &mut octets).map_err(|_| Unopened::Key)?.len();
    octets.truncate(len);
    Ok(octets)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::NewKey;
    use crate::random::Counted;

    #[test]
    fn the_key_is_derived_as_the_standard_shows_it() {
        // RFC 7518 appendix C.
        let shared = [
            158, 86, 217, 29, 129, 113, 53, 211, 114, 131, 66, 131, 191, 132, 38, 156, 251, 49, 110, 163, 218, 128,
            106, 72, 246, 218, 167, 121, 140, 254, 144, 196,
        ];
        let key = derived(&shared, "A128GCM", (b"Alice", b"Bob"), 128);
        assert_eq!(BASE64URL_NOPAD.encode(&key[..16]), "VqqN6vgjbSBcIijNcacQGg");
    }

    #[test]
    fn a_text_opens_for_its_owner_whole_and_for_nobody_else() {
        let random = &mut Counted(5);
        for new in [NewKey::P256, NewKey::P384] {
            let (own, other) = (SoftwareKey::generate(new).unwrap(), SoftwareKey::generate(new).unwrap());
            let to = own.public_key();
            assert!(can_seal_to(&to.key_type().to_string()));
            let text = seal(to, "jwk+json", b"a key", random).unwrap();
            assert_eq!(open(&text, "jwk+json", &own).unwrap().as_slice(), b"a key");
            assert_eq!(open(&text, "jwk+json", &other), Err(Unopened::Key));
            assert_eq!(open(&text, "text/plain", &own), Err(Unopened::Form), "it is what it was sealed as");
            assert_ne!(seal(to, "jwk+json", b"a key", random).unwrap(), text);
            // Whatever is changed, left out or added anywhere.
            for at in 0..text.len() {
                let mut changed = text.clone().into_bytes();
                changed[at] = if changed[at] == b'A' { b'B' } else { b'A' };
                assert!(open(std::str::from_utf8(&changed).unwrap(), "jwk+json", &own).is_err(), "at {at}");
            }
            for wrong in [format!("{text}."), format!("{text}A"), text.replacen("..", ".AAAA.", 1), String::new()] {
                assert!(open(&wrong, "jwk+json", &own).is_err(), "{wrong}");
            }
        }
        let ed25519 = SoftwareKey::generate(NewKey::Ed25519).unwrap();
        assert!(seal(ed25519.public_key(), "jwk+json", b"", random).is_none());
        assert!(!can_seal_to(&ed25519.public_key().key_type().to_string()));
    }

    #[test]
    fn a_header_chooses_nothing() {
        let own = SoftwareKey::generate(NewKey::P256).unwrap();
        let (to, other) = (own.public_key(), SoftwareKey::generate(NewKey::P384).unwrap());
        let text = seal(to, "jwk+json", b"a key", &mut Counted(9)).unwrap();
        let (header, rest) = text.split_once('.').unwrap();
        let header: serde_json::Value =
            serde_json::from_slice(&BASE64URL_NOPAD.decode(header.as_bytes()).unwrap()).unwrap();
        let with = |name: &str, value: serde_json::Value| {
            let mut header = header.clone();
            header[name] = value;
            let text = format!("{}.{rest}", BASE64URL_NOPAD.encode(header.to_string().as_bytes()));
            open(&text, "jwk+json", &own)
        };
        let p384: serde_json::Map<_, _> = jwk_members(other.public_key())
            .unwrap()
            .into_iter()
            .map(|(name, value)| (name.to_owned(), value.into()))
            .collect();
        for (name, value, why) in [
            ("alg", json!("dir"), Unopened::Form),
            ("alg", json!("none"), Unopened::Form),
            ("enc", json!("A128GCM"), Unopened::Form),
            ("zip", json!("DEF"), Unopened::Form),
            ("crit", json!(["exp"]), Unopened::Form),
            ("apu", json!("QWxpY2U"), Unopened::Form),
            ("epk", json!({}), Unopened::Form),
            ("epk", json!({ "kty": "EC", "crv": "P-256", "x": "AAAA", "y": "AAAA" }), Unopened::Form),
            ("epk", p384.into(), Unopened::Key),
            ("kid", json!("another"), Unopened::Key),
        ] {
            assert_eq!(with(name, value.clone()), Err(why), "{name} {value}");
        }
    }
}
