//! Shared keys: HMAC keys that a device and the ward both have, and how they are kept locked.
//!
//! Each is sealed with AES-256-GCM under a row key of its own, which follows from the ward's data key, the device and the key's name
//! by HKDF (RFC 5869): a sealed key that is put in another row does not open. The data key itself is kept wrapped, once for each
//! who may open it, to the public key of that one ([`crate::seal`]).

use std::fmt;

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::hkdf::{self, HKDF_SHA256, Prk};
use aws_lc_rs::hmac;
use data_encoding::BASE64URL_NOPAD;
use zeroize::Zeroizing;

use crate::id::DeviceId;
use crate::key::{PublicKey, SoftwareKey};
use crate::random::{self, Randomness};
use crate::seal::{seal_to, unseal};

/// How many octets a shared key has that is made here: as many as the hash of HS256 gives (RFC 7518 section 3.2 wants no fewer).
pub const SHARED_KEY_LEN: usize = 32;

/// The most octets of one that is brought in; more would be hashed down.
pub const MAX_SHARED_KEY_LEN: usize = 64;

/// The word for the type of these keys, beside `p256` and the like.
pub const SHARED_KEY_TYPE: &str = "hmac-sha256";

/// What the wrapped data key is for, so that no other sealed stream can be taken for it.
const WRAP: &[u8] = b"tidy-warden: data key of shared keys";

/// An HMAC key (RFC 2104) for HS256; overwritten when it is dropped.
pub struct SharedKey {
    octets: Zeroizing<Vec<u8>>,
    /// The same, ready for use.
    mac: Box<hmac::Key>,
}

impl PartialEq for SharedKey {
    fn eq(&self, other: &Self) -> bool {
        aws_lc_rs::constant_time::verify_slices_are_equal(&self.octets, &other.octets).is_ok()
    }
}

impl Eq for SharedKey {}

impl fmt::Debug for SharedKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SharedKey([elided])")
    }
}

/// Why a shared key that was brought in is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum WeakKey {
    /// Shorter than what it is to be the key of.
    #[error("it has {0} bits, and HS256 needs {least} at the least (RFC 7518 section 3.2)", least = SHARED_KEY_LEN * 8)]
    Short(usize),
    /// Longer than any use of it.
    #[error("it has more than {max} bytes", max = MAX_SHARED_KEY_LEN)]
    Long,
    /// Something that a person or a pattern made.
    #[error("it is not random: its bytes are text, or too many of them are the same")]
    Pattern,
    /// Not what a key file holds.
    #[error("it is not a JWK with kty \"oct\" and k in base64url (RFC 7518 section 6.4)")]
    Malformed,
}

impl SharedKey {
    fn of(octets: Zeroizing<Vec<u8>>) -> Self {
        let mac = Box::new(hmac::Key::new(hmac::HMAC_SHA256, &octets));
        Self { octets, mac }
    }

    /// A new one.
    pub fn generate(random: &mut dyn Randomness) -> Self {
        Self::of(Zeroizing::new(random::bytes::<SHARED_KEY_LEN>(random).to_vec()))
    }

    /// One that exists.
    ///
    /// # Errors
    /// It is too short or long, or was not drawn at random.
    pub fn from_octets(octets: &[u8]) -> Result<Self, WeakKey> {
        if octets.len() < SHARED_KEY_LEN {
            return Err(WeakKey::Short(octets.len() * 8));
        } else if octets.len() > MAX_SHARED_KEY_LEN {
            return Err(WeakKey::Long);
        }
        // Of 32 random octets about 30 are different ones: fewer than half, or all of them printable, happens to nobody.
        let mut different = [false; 256];
        octets.iter().for_each(|octet| different[usize::from(*octet)] = true);
        let is_text = octets.iter().all(|octet| (0x20..0x7f).contains(octet));
        if different.iter().filter(|seen| **seen).count() < SHARED_KEY_LEN / 2 || is_text {
            return Err(WeakKey::Pattern);
        }
        Ok(Self::of(Zeroizing::new(octets.to_vec())))
    }

    /// Reads a JWK (RFC 7517) that holds one.
    ///
    /// # Errors
    /// Another structure, or a key that is too weak.
    pub fn from_jwk(text: &str) -> Result<Self, WeakKey> {
        let value: serde_json::Value = serde_json::from_str(text).map_err(|_| WeakKey::Malformed)?;
        let field = |name: &str| value.get(name).and_then(serde_json::Value::as_str);
        let (Some("oct"), Some(k)) = (field("kty"), field("k")) else { return Err(WeakKey::Malformed) };
        let octets = Zeroizing::new(BASE64URL_NOPAD.decode(k.as_bytes()).map_err(|_| WeakKey::Malformed)?);
        Self::from_octets(&octets)
    }

    /// The key as a JWK (RFC 7517, `oct` as in RFC 7518 section 6.4), which is all of the secret.
    #[must_use]
    pub fn to_jwk(&self, kid: &str) -> Zeroizing<String> {
        let k = Zeroizing::new(BASE64URL_NOPAD.encode(&self.octets));
        Zeroizing::new(format!(
            "{{\"kty\":\"oct\",\"k\":\"{}\",\"alg\":\"HS256\",\"use\":\"sig\",\"kid\":{}}}\n",
            *k,
            serde_json::Value::from(kid)
        ))
    }

    /// The HMAC-SHA-256 of `message`.
    #[must_use]
    pub fn sign(&self, message: &[u8]) -> Vec<u8> {
        hmac::sign(&self.mac, message).as_ref().to_vec()
    }

    /// Whether `tag` is the HMAC-SHA-256 of `message`; the time that it takes does not tell where they differ.
    #[must_use]
    pub fn verifies(&self, message: &[u8], tag: &[u8]) -> bool {
        hmac::verify(&self.mac, message, tag).is_ok()
    }
}

/// The key that opens all shared keys of a ward; overwritten when it is dropped.
#[derive(Clone, PartialEq, Eq)]
pub struct DataKey(Zeroizing<[u8; 32]>);

impl fmt::Debug for DataKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("DataKey([elided])")
    }
}

/// The data key, as only the owner of a private key can open it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrappedKey {
    /// SubjectPublicKeyInfo of that owner in DER.
    pub to: Vec<u8>,
    /// The point by which the owner derives what it is sealed with.
    pub ephemeral: Vec<u8>,
    /// The sealed key and its tag.
    pub sealed: Vec<u8>,
}

/// A shared key did not open: the data key is another, or the row is not the one that it was sealed for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the sealed key does not open: it was changed, or was sealed for another device or key")]
pub struct Unopened;

struct Len;

impl hkdf::KeyType for Len {
    fn len(&self) -> usize {
        32
    }
}

fn cipher(key: &[u8; 32]) -> Option<LessSafeKey> {
    Some(LessSafeKey::new(UnboundKey::new(&AES_256_GCM, key).ok()?))
}

impl DataKey {
    /// A new one.
    pub fn generate(random: &mut dyn Randomness) -> Self {
        Self(Zeroizing::new(random::bytes(random)))
    }

    fn derived(&self, info: &[&[u8]]) -> Option<Zeroizing<[u8; 32]>> {
        let mut key = Zeroizing::new([0; 32]);
        Prk::new_less_safe(HKDF_SHA256, &*self.0).expand(info, Len).ok()?.fill(&mut *key).ok()?;
        Some(key)
    }

    /// The key of one row. No device id has a null, so no two rows have the same text.
    fn row(&self, device: &DeviceId, kid: &str) -> Option<LessSafeKey> {
        cipher(&*self.derived(&[b"shared key\0", device.as_str().as_bytes(), b"\0", kid.as_bytes()])?)
    }

    /// Seals a shared key for its row; the result is a random nonce, the sealed octets and their tag.
    pub fn seal(&self, key: &SharedKey, device: &DeviceId, kid: &str, random: &mut dyn Randomness) -> Option<Vec<u8>> {
        let nonce = random::bytes::<NONCE_LEN>(random);
        let mut sealed = Zeroizing::new(key.octets.to_vec());
        let cipher = self.row(device, kid)?;
        cipher.seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), Aad::from(WRAP), &mut *sealed).ok()?;
        Some([&nonce[..], &sealed[..]].concat())
    }

    /// Opens what [`DataKey::seal`] made for the same row.
    ///
    /// # Errors
    /// It was changed, or made for another.
    pub fn open(&self, sealed: &[u8], device: &DeviceId, kid: &str) -> Result<SharedKey, Unopened> {
        let (nonce, rest) = sealed.split_at_checked(NONCE_LEN).ok_or(Unopened)?;
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| Unopened)?;
        let mut octets = Zeroizing::new(rest.to_vec());
        let cipher = self.row(device, kid).ok_or(Unopened)?;
        let plain = cipher.open_in_place(nonce, Aad::from(WRAP), &mut octets).map_err(|_| Unopened)?;
        Ok(SharedKey::of(Zeroizing::new(plain.to_vec())))
    }

    /// What tells two equal keys of the ward from two others, and tells nobody else anything: an HMAC under a key that follows from
    /// this one.
    #[must_use]
    pub fn mark(&self, key: &SharedKey) -> Option<[u8; 32]> {
        let under = self.derived(&[b"mark of a shared key"])?;
        let tag = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, &*under), &key.octets);
        tag.as_ref().try_into().ok()
    }

    /// Wraps this key for the owner of `to`; `None` if nothing can be sealed to such a key.
    #[must_use]
    pub fn wrap(&self, to: &PublicKey) -> Option<WrappedKey> {
        let (ephemeral, content) = seal_to(to, WRAP)?;
        let mut sealed = Zeroizing::new(self.0.to_vec());
        // A content key seals this and nothing else.
        let nonce = Nonce::assume_unique_for_key([0; NONCE_LEN]);
        cipher(&content)?.seal_in_place_append_tag(nonce, Aad::from(WRAP), &mut *sealed).ok()?;
        Some(WrappedKey { to: to.spki().to_vec(), ephemeral, sealed: sealed.to_vec() })
    }

    /// Opens what [`DataKey::wrap`] made for the owner of `own`.
    ///
    /// # Errors
    /// It was changed, or made for another.
    pub fn unwrap(wrapped: &WrappedKey, own: &SoftwareKey) -> Result<Self, Unopened> {
        use crate::key::Signer;
        let content = unseal(own, own.public_key(), &wrapped.ephemeral, WRAP).ok_or(Unopened)?;
        let mut octets = Zeroizing::new(wrapped.sealed.clone());
        let nonce = Nonce::assume_unique_for_key([0; NONCE_LEN]);
        let plain = cipher(&content).ok_or(Unopened)?.open_in_place(nonce, Aad::from(WRAP), &mut octets);
        let key: &[u8] = plain.map_err(|_| Unopened)?;
        Ok(Self(Zeroizing::new(key.try_into().map_err(|_| Unopened)?)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::{NewKey, Signer};
    use crate::random::Counted;

    #[test]
    fn a_sealed_key_opens_in_its_own_row_alone() {
        let random = &mut Counted(1);
        let (data, other) = (DataKey::generate(random), DataKey::generate(random));
        let key = SharedKey::generate(random);
        let (one, two): (DeviceId, DeviceId) = ("ts-1".parse().unwrap(), "ts-2".parse().unwrap());
        let sealed = data.seal(&key, &one, "a", random).unwrap();
        assert_eq!(data.open(&sealed, &one, "a").unwrap(), key);
        assert_eq!(data.open(&sealed, &two, "a"), Err(Unopened), "rows cannot be exchanged between devices");
        assert_eq!(data.open(&sealed, &one, "b"), Err(Unopened), "nor between keys");
        assert_eq!(other.open(&sealed, &one, "a"), Err(Unopened));
        for at in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[at] ^= 1;
            assert_eq!(data.open(&changed, &one, "a"), Err(Unopened), "octet {at}");
            assert_eq!(data.open(&sealed[..at], &one, "a"), Err(Unopened), "cut at {at}");
        }
        assert_eq!(data.mark(&key), data.mark(&key));
        assert_ne!(data.mark(&key), other.mark(&key), "marks say nothing to who has not the data key");
        assert_ne!(data.seal(&key, &one, "a", random).unwrap(), sealed);
    }

    #[test]
    fn the_data_key_opens_for_whom_it_was_wrapped() {
        let data = DataKey::generate(&mut Counted(7));
        let (own, other) = (SoftwareKey::generate(NewKey::P256).unwrap(), SoftwareKey::generate(NewKey::P384).unwrap());
        let wrapped = data.wrap(own.public_key()).unwrap();
        assert_eq!(DataKey::unwrap(&wrapped, &own), Ok(data.clone()));
        assert_eq!(DataKey::unwrap(&wrapped, &other), Err(Unopened));
        let mut changed = wrapped.clone();
        changed.sealed[0] ^= 1;
        assert_eq!(DataKey::unwrap(&changed, &own), Err(Unopened));
        assert!(data.wrap(SoftwareKey::generate(NewKey::Ed25519).unwrap().public_key()).is_none());
    }

    #[test]
    fn a_weak_key_is_refused_and_a_good_one_travels_as_a_jwk() {
        let key = SharedKey::generate(&mut Counted(3));
        assert_eq!(SharedKey::from_jwk(&key.to_jwk("k-1")).unwrap(), key);
        let refused = |octets: &[u8]| SharedKey::from_octets(octets).unwrap_err();
        assert_eq!(refused(&key.octets[..31]), WeakKey::Short(248));
        assert_eq!(refused(&[key.octets.to_vec(), key.octets.to_vec(), vec![1]].concat()), WeakKey::Long);
        assert_eq!(refused(&[7; 32]), WeakKey::Pattern);
        assert_eq!(refused(b"the ropeway's secret that nobody knows"), WeakKey::Pattern);
        for text in ["", "{}", r#"{"kty":"EC","k":"AAAA"}"#, r#"{"kty":"oct","k":"A="}"#] {
            assert_eq!(SharedKey::from_jwk(text), Err(WeakKey::Malformed), "{text}");
        }
        assert_eq!(format!("{key:?}"), "SharedKey([elided])");
        // RFC 4231 test case 2 is shorter than what is taken, so the key stands here by itself.
        let tag = SharedKey::of(Zeroizing::new(b"Jefe".to_vec())).sign(b"what do ya want for nothing?");
        assert_eq!(
            data_encoding::HEXLOWER.encode(&tag),
            "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"
        );
        assert!(key.verifies(b"m", &key.sign(b"m")) && !key.verifies(b"m", &key.sign(b"n")));
    }
}
