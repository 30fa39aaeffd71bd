//! Octets that only chosen receivers can read, in a form that other programs open: CMS AuthEnvelopedData (RFC 5083) with AES-256-GCM
//! (RFC 5084). The content key goes to each receiver by RSAES-OAEP (RFC 4056 section 4.1, RFC 8017) or by ephemeral-static ECDH and AES
//! key wrap (RFC 5753 section 3.1, RFC 3394), as its certificate's key wants.

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use aws_lc_rs::agreement::{self, Algorithm, ECDH_P256, ECDH_P384, UnparsedPublicKey};
use aws_lc_rs::digest::{self, SHA256, SHA384};
use aws_lc_rs::error::Unspecified;
use aws_lc_rs::key_wrap::{AES_256, AesKek, KeyWrap};
use aws_lc_rs::rsa::{OAEP_SHA256_MGF1SHA256, OaepPublicEncryptingKey, PublicEncryptingKey};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5911::{ID_AES_256_GCM, ID_AES_256_WRAP, ID_CT_AUTH_ENVELOPED_DATA, ID_DATA};
use const_oid::db::rfc5912::{ID_EC_PUBLIC_KEY, ID_MGF_1, ID_RSAES_OAEP, ID_SHA_256, SECP_256_R_1, SECP_384_R_1};
use zeroize::Zeroizing;

use crate::asn1;
use crate::certificate::Certificate;
use crate::key::{KeyType, PublicKey};
use crate::random::{self, Randomness};
use crate::time::UnixTime;

/// dhSinglePass-stdDH-sha256kdf-scheme and its sibling with SHA-384 (RFC 5753 section 7.1.4).
const STD_DH_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.1.11.1");
const STD_DH_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.1.11.2");

/// The octets of the tag.
const TAG: usize = 16;

/// Who is to read something.
#[derive(Debug, Clone)]
pub struct Receiver {
    issuer: Vec<u8>,
    serial: Vec<u8>,
    key: PublicKey,
}

/// Why nothing can be sealed to a certificate.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadReceiver {
    /// Its key only signs.
    #[error("a {0} key opens nothing: RSA, p256 or p384")]
    Key(KeyType),
    /// Its keyUsage (RFC 5280 section 4.2.1.3) leaves it out.
    #[error("its keyUsage does not have {0}")]
    Usage(&'static str),
    /// It is not valid yet, or not any more.
    #[error("it is valid from {from} until {until}")]
    Time {
        /// Its first second.
        from: UnixTime,
        /// Its last.
        until: UnixTime,
    },
}

/// The crypto library could not do it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the crypto library could not seal it")]
pub struct Unsealed;

impl From<Unspecified> for Unsealed {
    fn from(_: Unspecified) -> Self {
        Self
    }
}

impl Receiver {
    /// The owner of a certificate at `now`. Whose it is, nobody looks at: it is the one that the caller was given for this.
    ///
    /// # Errors
    /// Nothing can be sealed to it.
    pub fn of(certificate: &Certificate, now: UnixTime) -> Result<Self, BadReceiver> {
        let key = &certificate.public_key;
        let usage = certificate.key_usage;
        match key.key_type() {
            KeyType::Rsa(_) if usage.is_none_or(|usage| usage.key_encipherment()) => {}
            KeyType::Rsa(_) => return Err(BadReceiver::Usage("keyEncipherment")),
            KeyType::P256 | KeyType::P384 if usage.is_none_or(|usage| usage.key_agreement()) => {}
            KeyType::P256 | KeyType::P384 => return Err(BadReceiver::Usage("keyAgreement")),
            other => return Err(BadReceiver::Key(other)),
        }
        if now < certificate.not_before || now > certificate.not_after {
            return Err(BadReceiver::Time { from: certificate.not_before, until: certificate.not_after });
        }
        Ok(Self { issuer: certificate.issuer.clone(), serial: certificate.serial.octets().to_vec(), key: key.clone() })
    }

    /// IssuerAndSerialNumber (RFC 5652 section 10.2.4).
    fn name(&self) -> Vec<u8> {
        asn1::sequence(&[&self.issuer, &asn1::unsigned(&self.serial)])
    }

    /// RecipientInfo (RFC 5652 section 6.2).
    fn info(&self, content_key: &[u8; 32]) -> Result<Vec<u8>, Unsealed> {
        match self.key.key_type() {
            KeyType::P256 => self.by_agreement(content_key, &ECDH_P256, SECP_256_R_1, (STD_DH_SHA256, &SHA256)),
            KeyType::P384 => self.by_agreement(content_key, &ECDH_P384, SECP_384_R_1, (STD_DH_SHA384, &SHA384)),
            _ => self.by_transport(content_key),
        }
    }

    /// KeyTransRecipientInfo (RFC 5652 section 6.2.1) with SHA-256 in both places (RFC 8017 appendix A.2.1).
    fn by_transport(&self, content_key: &[u8; 32]) -> Result<Vec<u8>, Unsealed> {
        let key = PublicEncryptingKey::from_der(self.key.spki()).map_err(|_| Unsealed)?;
        let key = OaepPublicEncryptingKey::new(key)?;
        let mut encrypted = vec![0; key.ciphertext_size()];
        let encrypted = key.encrypt(&OAEP_SHA256_MGF1SHA256, content_key, &mut encrypted, None)?;
        let sha256 = asn1::sequence(&[&asn1::oid(ID_SHA_256), &asn1::null()]);
        let mgf = asn1::sequence(&[&asn1::oid(ID_MGF_1), &sha256]);
        let parameters = asn1::sequence(&[&asn1::context_constructed(0, &sha256), &asn1::context_constructed(1, &mgf)]);
        let algorithm = asn1::sequence(&[&asn1::oid(ID_RSAES_OAEP), &parameters]);
        Ok(asn1::sequence(&[&asn1::unsigned(&[0]), &self.name(), &algorithm, &asn1::octet_string(encrypted)]))
    }

    /// KeyAgreeRecipientInfo (RFC 5652 section 6.2.2), filled as RFC 5753 section 3.1 says.
    fn by_agreement(
        &self,
        content_key: &[u8; 32],
        curve: &'static Algorithm,
        named: ObjectIdentifier,
        (scheme, hash): (ObjectIdentifier, &'static digest::Algorithm),
    ) -> Result<Vec<u8>, Unsealed> {
        let own = agreement::PrivateKey::generate(curve)?;
        let point = own.compute_public_key()?;
        let wrap = asn1::sequence(&[&asn1::oid(ID_AES_256_WRAP)]);
        let info = shared_info(&wrap);
        let peer = UnparsedPublicKey::new(curve, self.key.point().ok_or(Unsealed)?);
        let kek = agreement::agree(&own, peer, Unsealed, |secret| Ok(derived(secret, hash, &info)))?;
        let mut wrapped = [0; 40];
        AesKek::new(&AES_256, &*kek)?.wrap(content_key, &mut wrapped)?;
        let originator = asn1::sequence(&[&asn1::oid(ID_EC_PUBLIC_KEY), &asn1::oid(named)]);
        let originator = [originator, asn1::bit_string(point.as_ref())].concat();
        let originator = asn1::context_constructed(0, &asn1::context_constructed(1, &originator));
        let algorithm = asn1::sequence(&[&asn1::oid(scheme), &wrap]);
        let key = asn1::sequence(&[&self.name(), &asn1::octet_string(&wrapped)]);
        let keys = asn1::sequence(&[&key]);
        // [1] IMPLICIT SEQUENCE.
        Ok(asn1::context_constructed(1, &[asn1::unsigned(&[3]), originator, algorithm, keys].concat()))
    }
}

/// ECC-CMS-SharedInfo (RFC 5753 section 7.2) for a key of 256 bits.
fn shared_info(wrap: &[u8]) -> Vec<u8> {
    let length = asn1::context_constructed(2, &asn1::octet_string(&256_u32.to_be_bytes()));
    asn1::sequence(&[wrap, &length])
}

/// The key-encryption key: one round of ANSI X9.63's key derivation (SEC 1 section 3.6.1) is enough for it.
fn derived(secret: &[u8], hash: &'static digest::Algorithm, info: &[u8]) -> Zeroizing<[u8; 32]> {
    let mut context = digest::Context::new(hash);
    context.update(secret);
    context.update(&1_u32.to_be_bytes());
    context.update(info);
    let mut key = Zeroizing::new([0; 32]);
    key.copy_from_slice(&context.finish().as_ref()[..32]);
    key
}

/// Seals `content` to all of `receivers`, in DER. Each has a content key and a nonce of its own, so that nothing is ever added to one.
///
/// # Errors
/// There is no receiver, or the library failed.
pub fn seal(
    content: Zeroizing<Vec<u8>>,
    receivers: &[Receiver],
    random: &mut dyn Randomness,
) -> Result<Vec<u8>, Unsealed> {
    if receivers.is_empty() {
        return Err(Unsealed);
    }
    let key = Zeroizing::new(random::bytes::<32>(random));
    let nonce: [u8; 12] = random::bytes(random);
    let mut infos = receivers.iter().map(|each| each.info(&key)).collect::<Result<Vec<_>, _>>()?;
    // DER orders a SET OF by its octets (X.690 section 11.6).
    infos.sort();
    let cipher = LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &*key)?);
    let mut content = content;
    let tag = cipher.seal_in_place_separate_tag(Nonce::assume_unique_for_key(nonce), Aad::empty(), &mut content)?;
    let tag_length = u8::try_from(TAG).map_err(|_| Unsealed)?;
    let parameters = asn1::sequence(&[&asn1::octet_string(&nonce), &asn1::unsigned(&[tag_length])]);
    let algorithm = asn1::sequence(&[&asn1::oid(ID_AES_256_GCM), &parameters]);
    let encrypted = asn1::sequence(&[&asn1::oid(ID_DATA), &algorithm, &asn1::context_primitive(0, &content)]);
    let data =
        asn1::sequence(&[&asn1::unsigned(&[0]), &asn1::set_of(&infos), &encrypted, &asn1::octet_string(tag.as_ref())]);
    Ok(asn1::sequence(&[&asn1::oid(ID_CT_AUTH_ENVELOPED_DATA), &asn1::context_constructed(0, &data)]))
}

#[cfg(test)]
mod tests {
    use der::{Decode, Reader, SliceReader};

    use super::*;
    use crate::key::{NewKey, Signer, SoftwareKey};
    use crate::random::Counted;

    /// The values in a DER value, one after the other.
    fn parts(der: &[u8]) -> Vec<(u8, Vec<u8>)> {
        let outer = der::asn1::AnyRef::from_der(der).unwrap();
        let mut reader = SliceReader::new(outer.value()).unwrap();
        let mut found = Vec::new();
        while !reader.is_finished() {
            let octets = reader.tlv_bytes().unwrap().to_vec();
            found.push((octets[0], octets));
        }
        found
    }

    fn value(der: &[u8]) -> Vec<u8> {
        der::asn1::AnyRef::from_der(der).unwrap().value().to_vec()
    }

    fn receiver(key: &SoftwareKey) -> Receiver {
        let issuer = asn1::sequence(&[]);
        Receiver { issuer, serial: vec![0x81, 7], key: key.public_key().clone() }
    }

    /// Opens it as the owner of `key`, whose RecipientInfo is the only one.
    fn open(
        sealed: &[u8],
        key: &SoftwareKey,
        curve: &'static Algorithm,
        hash: &'static digest::Algorithm,
    ) -> Option<Vec<u8>> {
        let outer = parts(sealed);
        let data = parts(&value(&outer[1].1));
        let [_, infos, content, tag] = <[_; 4]>::try_from(data).unwrap();
        let info = parts(&value(&infos.1));
        let point = value(&parts(&value(&info[1].1))[1].1)[1..].to_vec();
        let wrapped = value(&parts(&parts(&info[3].1)[0].1)[1].1);
        let own = agreement::PrivateKey::from_private_key_der(curve, &key.to_pkcs8().unwrap()).unwrap();
        let wrap = parts(&info[2].1)[1].1.clone();
        let kek = agreement::agree(&own, UnparsedPublicKey::new(curve, point), (), |secret| {
            Ok(derived(secret, hash, &shared_info(&wrap)))
        });
        let mut content_key = [0; 32];
        AesKek::new(&AES_256, &*kek.ok()?).ok()?.unwrap(&wrapped, &mut content_key).ok()?;
        let [_, algorithm, octets] = <[_; 3]>::try_from(parts(&content.1)).unwrap();
        let nonce = value(&parts(&parts(&algorithm.1)[1].1)[0].1);
        let cipher = LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &content_key).unwrap());
        let mut plain = value(&octets.1);
        plain.extend(value(&tag.1));
        let plain = cipher.open_in_place(Nonce::try_assume_unique_for_key(&nonce).ok()?, Aad::empty(), &mut plain);
        plain.ok().map(|plain| plain.to_vec())
    }

    #[test]
    fn its_receiver_opens_it_and_nobody_else_and_nothing_changed_opens() {
        for (new, curve, hash) in [(NewKey::P256, &ECDH_P256, &SHA256), (NewKey::P384, &ECDH_P384, &SHA384)] {
            let (key, other) = (SoftwareKey::generate(new).unwrap(), SoftwareKey::generate(new).unwrap());
            let content = Zeroizing::new(b"outfits".to_vec());
            let sealed = seal(content.clone(), &[receiver(&key)], &mut Counted(1)).unwrap();
            assert_eq!(open(&sealed, &key, curve, hash).as_deref(), Some(&b"outfits"[..]));
            assert_eq!(open(&sealed, &other, curve, hash), None);
            let mut changed = sealed.clone();
            *changed.last_mut().unwrap() ^= 1;
            assert_eq!(open(&changed, &key, curve, hash), None);
            assert!(!sealed.windows(7).any(|octets| octets == b"outfits"));
        }
    }

    #[test]
    fn receivers_are_a_set_in_der_and_none_is_an_error() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let content = || Zeroizing::new(vec![1]);
        assert_eq!(seal(content(), &[], &mut Counted(1)), Err(Unsealed));
        let sealed = seal(content(), &[receiver(&key), receiver(&key), receiver(&key)], &mut Counted(1)).unwrap();
        let infos = parts(&parts(&value(&parts(&sealed)[1].1))[1].1);
        assert_eq!(infos.len(), 3);
        assert!(infos.windows(2).all(|pair| pair[0].1 <= pair[1].1));
    }
}
