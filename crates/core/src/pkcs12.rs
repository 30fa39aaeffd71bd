//! A key with its certificates in one locked file for programs that want it so: PKCS#12 (RFC 7292) with PBES2 (RFC 8018) for both, PBKDF2
//! with HMAC-SHA-256 and AES-256-CBC, and the MAC of RFC 7292 section 4 with SHA-256. It is only written here, and never read.

use aws_lc_rs::digest::{Context, SHA256};
use aws_lc_rs::hmac;
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5911::{ID_DATA, ID_ENCRYPTED_DATA};
use const_oid::db::rfc5912::ID_SHA_256;
use der::Encode;
use pkcs8::pkcs5::{EncryptionScheme, pbes2};
use zeroize::Zeroizing;

use crate::asn1;
use crate::key::SoftwareKey;
use crate::random::{self, Randomness};

const SHROUDED_KEY_BAG: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.2");
const CERT_BAG: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.3");
const X509_CERTIFICATE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.22.1");
/// PKCS#9 (RFC 2985 section 5.5).
const FRIENDLY_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.20");
const LOCAL_KEY_ID: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.21");

/// How often the passphrase is hashed, for each of the three that come of it.
const ROUNDS: u32 = 600_000;

/// What SHA-256 takes at a time, in octets: `v` in RFC 7292 appendix B.2.
const BLOCK: usize = 64;

/// Why no file came about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Unwritten {
    /// Readers do not agree on what octets another character is in two places of the form.
    #[error("its passphrase has other characters than printable ASCII, which programs read in different ways")]
    Passphrase,
    /// There is no certificate, or the key is not that of the first.
    #[error("the certificate is not that of the key")]
    Certificate,
    /// The crypto library could not do it.
    #[error("the crypto library could not write it")]
    Library,
}

/// `key`, the certificate that it is for and those above it in DER, under `name`.
///
/// # Errors
/// See [`Unwritten`].
pub fn write(
    key: &SoftwareKey,
    certificates: &[&[u8]],
    name: &str,
    passphrase: &str,
    random: &mut dyn Randomness,
) -> Result<Vec<u8>, Unwritten> {
    write_with(key, certificates, (name, passphrase), ROUNDS, random)
}

fn write_with(
    key: &SoftwareKey,
    certificates: &[&[u8]],
    (name, passphrase): (&str, &str),
    rounds: u32,
    random: &mut dyn Randomness,
) -> Result<Vec<u8>, Unwritten> {
    use crate::key::Signer;
    if !passphrase.bytes().all(|octet| octet == b' ' || octet.is_ascii_graphic()) {
        return Err(Unwritten::Passphrase);
    }
    let own = certificates.first().and_then(|der| crate::certificate::Certificate::from_der(der).ok());
    let own = own.filter(|own| own.public_key == *key.public_key()).ok_or(Unwritten::Certificate)?;
    // Says which certificate and which key belong together.
    let key_id = &own.fingerprint.0[..20];
    let named = [attribute(FRIENDLY_NAME, &bmp_string(name)), attribute(LOCAL_KEY_ID, &asn1::octet_string(key_id))];
    let mut bags = Vec::new();
    for (place, der) in certificates.iter().enumerate() {
        let value = asn1::context_constructed(0, &asn1::octet_string(der));
        let value = asn1::sequence(&[&asn1::oid(X509_CERTIFICATE), &value]);
        bags.extend(bag(CERT_BAG, &value, if place == 0 { &named } else { &[] }));
    }
    let bags = asn1::sequence(&[&bags]);
    let (scheme, octets) = encrypted(&bags, passphrase, rounds, random)?;
    let content = asn1::sequence(&[&asn1::oid(ID_DATA), &scheme, &asn1::context_primitive(0, &octets)]);
    let data = asn1::sequence(&[&asn1::unsigned(&[0]), &content]);
    let certificates = asn1::sequence(&[&asn1::oid(ID_ENCRYPTED_DATA), &asn1::context_constructed(0, &data)]);
    let plain = key.to_pkcs8().map_err(|_| Unwritten::Library)?;
    let (scheme, octets) = encrypted(&plain, passphrase, rounds, random)?;
    let locked = asn1::sequence(&[&scheme, &asn1::octet_string(&octets)]);
    let key = data_of(&asn1::sequence(&[&bag(SHROUDED_KEY_BAG, &locked, &named)]));
    let safe = asn1::sequence(&[&certificates, &key]);
    let salt: [u8; 16] = random::bytes(random);
    let mac_key = derived(passphrase, &salt, rounds);
    let mac = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, &*mac_key), &safe);
    let sha256 = asn1::sequence(&[&asn1::oid(ID_SHA_256), &asn1::null()]);
    let digest = asn1::sequence(&[&sha256, &asn1::octet_string(mac.as_ref())]);
    let mac = asn1::sequence(&[&digest, &asn1::octet_string(&salt), &asn1::unsigned(&rounds.to_be_bytes())]);
    Ok(asn1::sequence(&[&asn1::unsigned(&[3]), &data_of(&safe), &mac]))
}

/// ContentInfo with plain octets (RFC 5652 section 4).
fn data_of(octets: &[u8]) -> Vec<u8> {
    asn1::sequence(&[&asn1::oid(ID_DATA), &asn1::context_constructed(0, &asn1::octet_string(octets))])
}

/// SafeBag (RFC 7292 section 4.2).
fn bag(kind: ObjectIdentifier, value: &[u8], attributes: &[Vec<u8>]) -> Vec<u8> {
    let mut attributes = attributes.to_vec();
    attributes.sort();
    let attributes = if attributes.is_empty() { Vec::new() } else { asn1::set_of(&attributes) };
    asn1::sequence(&[&asn1::oid(kind), &asn1::context_constructed(0, value), &attributes])
}

fn attribute(kind: ObjectIdentifier, value: &[u8]) -> Vec<u8> {
    asn1::sequence(&[&asn1::oid(kind), &asn1::set_of_one(value)])
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_be_bytes).collect()
}

fn bmp_string(text: &str) -> Vec<u8> {
    asn1::element(0x1e, &utf16(text))
}

/// The AlgorithmIdentifier of PBES2 with its parameters, and `plain` encrypted so.
fn encrypted(
    plain: &[u8],
    passphrase: &str,
    rounds: u32,
    random: &mut dyn Randomness,
) -> Result<(Vec<u8>, Vec<u8>), Unwritten> {
    let (salt, iv): ([u8; 16], [u8; 16]) = (random::bytes(random), random::bytes(random));
    let parameters = pbes2::Parameters::generate_pbkdf2_sha256_aes256cbc(rounds, &salt, iv);
    let parameters = parameters.map_err(|_| Unwritten::Library)?;
    let octets = parameters.encrypt(passphrase, plain).map_err(|_| Unwritten::Library)?;
    let scheme = EncryptionScheme::from(parameters).to_der().map_err(|_| Unwritten::Library)?;
    Ok((scheme, octets))
}

/// The key of the MAC (RFC 7292 appendix B.2 with ID 3): one block of SHA-256 is all of it.
fn derived(passphrase: &str, salt: &[u8], rounds: u32) -> Zeroizing<[u8; 32]> {
    let repeated = |octets: &[u8]| -> Vec<u8> {
        let length = octets.len().next_multiple_of(BLOCK);
        octets.iter().copied().cycle().take(length).collect()
    };
    // A terminating NUL belongs to the passphrase (appendix B.1).
    let passphrase = Zeroizing::new([utf16(passphrase), vec![0, 0]].concat());
    let mut context = Context::new(&SHA256);
    context.update(&[3; BLOCK]);
    context.update(&repeated(salt));
    context.update(&Zeroizing::new(repeated(&passphrase)));
    let mut digest = context.finish();
    for _ in 1..rounds {
        digest = aws_lc_rs::digest::digest(&SHA256, digest.as_ref());
    }
    let mut key = Zeroizing::new([0; 32]);
    key.copy_from_slice(digest.as_ref());
    key
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::NewKey;
    use crate::random::Counted;

    #[test]
    fn the_mac_key_is_that_of_another_implementation() {
        // From OpenSSL 3: kdf -keylen 32 -kdfopt digest:SHA256 -kdfopt hexpass:... -kdfopt hexsalt:0102030405060708 -kdfopt iter:2048
        // -kdfopt id:3 PKCS12KDF, where the passphrase is in UTF-16 with its NUL.
        let key = derived("smeg", &[1, 2, 3, 4, 5, 6, 7, 8], 2048);
        assert_eq!(data_encoding::HEXLOWER.encode(&*key), EXPECTED);
    }

    const EXPECTED: &str = "a5bd69461b579f46bdc0d4b915d3bfee6a20b355764aea78d2fe7d5fa2fdf94c";

    #[test]
    fn what_would_not_be_read_is_not_written() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let write = |certificates: &[&[u8]], passphrase: &str| {
            write_with(&key, certificates, ("gt-01", passphrase), 1, &mut Counted(1))
        };
        assert_eq!(write(&[], "correct horse"), Err(Unwritten::Certificate));
        assert_eq!(write(&[&[0x30, 0]], "correct horse"), Err(Unwritten::Certificate));
        assert_eq!(write(&[], "corréct horse"), Err(Unwritten::Passphrase));
    }
}
