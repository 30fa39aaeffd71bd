//! Enrolment over Secure Transport (RFC 7030, as RFC 8951 clarifies it): what goes over it, in base64 and DER.

use const_oid::ObjectIdentifier;
use const_oid::db::rfc4519::SERIAL_NUMBER;
use const_oid::db::rfc5911::{ID_DATA, ID_SIGNED_DATA};
use const_oid::db::rfc5912::{ECDSA_WITH_SHA_256, ECDSA_WITH_SHA_384, ID_EC_PUBLIC_KEY, SECP_256_R_1, SECP_384_R_1};
use const_oid::db::rfc8410::ID_ED_25519;
use data_encoding::{BASE64, Encoding, Specification};
use der::{Reader, SliceReader, Tag, TagNumber};

use crate::asn1;
use crate::fact::FactName;
use crate::key::NewKey;
use crate::request;
use crate::settings::Kind;

/// The largest body of a request that is read, in octets: the largest request in base64, with a line end after every 64 characters.
pub const MAX_BODY: usize = request::MAX_LEN / 3 * 4 / 64 * 66 + 256;

/// The media type of requests (RFC 5967).
pub const PKCS10: &str = "application/pkcs10";

/// The media type of certificates in their answers (RFC 7030 section 4.2.3).
pub const CERTS_ONLY: &str = "application/pkcs7-mime; smime-type=certs-only";

/// The media type of [`attributes`] (RFC 7030 section 4.5.2).
pub const CSR_ATTRS: &str = "application/csrattrs";

/// The media type of a key in an answer (RFC 8351, RFC 7030 section 4.4.2).
pub const PKCS8: &str = "application/pkcs8";

/// Between the parts of [`key_and_certificate`]: a text that stands in no base64.
const BOUNDARY: &str = "-the-next-part-";

/// The media type of [`key_and_certificate`].
pub const KEY_AND_CERTIFICATE: &str = "multipart/mixed; boundary=\"-the-next-part-\"";

/// A key that was made for its device and its certificate (RFC 7030 section 4.4.2, RFC 2046 section 5.1). `key` is PKCS#8 in PEM, of which
/// the lines between the first and the last go out.
#[must_use]
pub fn key_and_certificate(key: &str, certificate: &[u8]) -> String {
    let key: String = key.lines().filter(|line| !line.starts_with("-----")).map(|line| format!("{line}\r\n")).collect();
    let part = |kind: &str, body: &str| {
        format!("--{BOUNDARY}\r\nContent-Type: {kind}\r\nContent-Transfer-Encoding: base64\r\n\r\n{body}\r\n")
    };
    let certificate = encoded(&certs_only(&[certificate]));
    format!("{}{}--{BOUNDARY}--\r\n", part(PKCS8, &key), part(CERTS_ONLY, &certificate))
}

/// Whether a request in DER wants the key that is made for it encrypted (RFC 7030 section 4.4.1): it holds id-aa-decryptKeyID or
/// id-aa-asymmDecryptKeyID (RFC 7030 section 4.4.1.1 and 4.4.1.2).
#[must_use]
pub fn wants_encrypted_key(request: &[u8]) -> bool {
    const DECRYPT_KEY_ID: [u8; 13] = [0x06, 0x0b, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x09, 0x10, 0x02, 0x25];
    const ASYMM_DECRYPT_KEY_ID: [u8; 13] =
        [0x06, 0x0b, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x09, 0x10, 0x02, 0x36];
    request.windows(13).any(|octets| octets == DECRYPT_KEY_ID || octets == ASYMM_DECRYPT_KEY_ID)
}

/// Octets in base64 as answers have them: lines of 64 characters (RFC 8951 section 3.1 lets receivers pass over line ends).
#[must_use]
pub fn encoded(octets: &[u8]) -> String {
    static LINES: std::sync::LazyLock<Encoding> = std::sync::LazyLock::new(|| {
        let mut lines = Specification::new();
        lines.symbols.push_str("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/");
        lines.padding = Some('=');
        lines.wrap.width = 64;
        lines.wrap.separator.push('\n');
        // The specification above is one.
        lines.encoding().unwrap_or(BASE64)
    });
    LINES.encode(octets)
}

/// The octets of a request's body: base64 (RFC 4648 section 4) in which line ends, blanks and tabs are passed over (RFC 8951 section 3.1).
#[must_use]
pub fn decoded(body: &[u8]) -> Option<Vec<u8>> {
    let text: Vec<u8> = body.iter().copied().filter(|octet| !matches!(octet, b'\r' | b'\n' | b' ' | b'\t')).collect();
    BASE64.decode(&text).ok().filter(|octets| !octets.is_empty())
}

/// Certificates and nothing else: a degenerate SignedData (RFC 5652 section 5, RFC 7030 section 4.1.3).
#[must_use]
pub fn certs_only(certificates: &[&[u8]]) -> Vec<u8> {
    let mut sorted = certificates.to_vec();
    // DER wants a SET OF in the order of its encodings (X.690 section 11.6).
    sorted.sort_unstable();
    let empty_set = asn1::element(0x31, &[]);
    let signed_data = asn1::sequence(&[
        &asn1::unsigned(&[1]),
        &empty_set,
        &asn1::sequence(&[&asn1::oid(ID_DATA)]),
        &asn1::context_constructed(0, &sorted.concat()),
        &empty_set,
    ]);
    asn1::sequence(&[&asn1::oid(ID_SIGNED_DATA), &asn1::context_constructed(0, &signed_data)])
}

/// The certificates in such a SignedData, in the order in which they stand; `None` if it is none, or holds anything else. Its signatures
/// and revocation lists are not looked at: it is only a way to send certificates (RFC 7030 section 4.1.3).
#[must_use]
pub fn certificates(der: &[u8]) -> Option<Vec<Vec<u8>>> {
    const CERTIFICATES: u8 = 0xa0;
    let info = parts(asn1::content(der, Tag::Sequence).ok()?)?;
    let [kind, explicit] = info[..] else { return None };
    if kind != asn1::oid(ID_SIGNED_DATA) {
        return None;
    }
    let explicit = parts(asn1::content(explicit, CONTEXT_0).ok()?)?;
    let [signed_data] = explicit[..] else { return None };
    // Behind the version, the digests and what is signed, which is nothing.
    let fields = parts(asn1::content(signed_data, Tag::Sequence).ok()?)?;
    let field = fields.iter().skip(3).find(|field| field.first() == Some(&CERTIFICATES));
    let all = match field {
        Some(field) => parts(asn1::content(field, CONTEXT_0).ok()?)?,
        None => Vec::new(),
    };
    Some(all.into_iter().map(<[u8]>::to_vec).collect())
}

const CONTEXT_0: Tag = Tag::ContextSpecific { constructed: true, number: TagNumber(0) };

/// The elements that stand one behind the other in `content`, with their heads.
fn parts(content: &[u8]) -> Option<Vec<&[u8]>> {
    let mut reader = SliceReader::new(content).ok()?;
    let mut all = Vec::new();
    while !reader.is_finished() {
        all.push(reader.tlv_bytes().ok()?);
    }
    Some(all)
}

/// What a request for a device of a kind should be: the key, the signature, and the serial number in the subject where one must be named
/// (RFC 7030 section 4.5.2, RFC 8951 section 4). All else that a request names is passed over.
#[must_use]
pub fn attributes(kind: &Kind) -> Vec<u8> {
    let on_curve =
        |curve: ObjectIdentifier| asn1::sequence(&[&asn1::oid(ID_EC_PUBLIC_KEY), &asn1::set_of_one(&asn1::oid(curve))]);
    let (key, signature) = match kind.key {
        NewKey::P384 => (on_curve(SECP_384_R_1), Some(ECDSA_WITH_SHA_384)),
        NewKey::Ed25519 => (asn1::oid(ID_ED_25519), None),
        _ => (on_curve(SECP_256_R_1), Some(ECDSA_WITH_SHA_256)),
    };
    let signature = signature.map(asn1::oid).unwrap_or_default();
    let wants_serial = kind.identify.iter().chain(&kind.facts).any(|fact| *fact == FactName::Serial);
    let serial = if wants_serial { asn1::oid(SERIAL_NUMBER) } else { Vec::new() };
    asn1::sequence(&[&key, &signature, &serial])
}

#[cfg(test)]
mod tests {
    use der::Decode;
    use der::asn1::AnyRef;
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn base64_is_taken_with_any_line_ends_and_nothing_else() {
        let octets: Vec<u8> = (0..=255).collect();
        let text = encoded(&octets);
        assert!(text.lines().all(|line| line.len() <= 64) && text.ends_with('\n'), "{text}");
        for ends in ["", "\n", "\r\n", " \t\r\n\r\n"] {
            assert_eq!(decoded(text.replace('\n', ends).as_bytes()).as_ref(), Some(&octets), "{ends:?}");
        }
        for bad in ["", "\r\n", "TWE", "TWE=x", "TWF=", "====", "TW-_", "TWE=\0", "-----BEGIN CERTIFICATE REQUEST-----"]
        {
            assert_eq!(decoded(bad.as_bytes()), None, "{bad:?}");
        }
    }

    #[test]
    fn certificates_go_out_in_the_order_that_der_wants() {
        let (one, other) = (asn1::sequence(&[&asn1::unsigned(&[7])]), asn1::sequence(&[&asn1::unsigned(&[3])]));
        let both = certs_only(&[&one, &other]);
        assert_eq!(both, certs_only(&[&other, &one]));
        assert!(AnyRef::from_der(&both).is_ok());
        let at = |part: &[u8]| both.windows(part.len()).position(|window| window == part).unwrap();
        assert!(at(&other) < at(&one));
        assert!(AnyRef::from_der(&certs_only(&[])).is_ok());
        assert_eq!(certificates(&both), Some(vec![other, one]));
        assert_eq!(certificates(&certs_only(&[])), Some(Vec::new()));
        for end in 0..both.len() {
            assert_eq!(certificates(&both[..end]), None, "{end} octets of it");
        }
    }

    #[test]
    fn a_kind_says_what_it_wants() {
        let of = |key, identify: &[FactName]| attributes(&Kind { key, identify: identify.to_vec(), ..Kind::default() });
        let serial = asn1::oid(SERIAL_NUMBER);
        let names = |octets: &[u8]| octets.windows(serial.len()).any(|window| window == serial);
        for key in [NewKey::P256, NewKey::P384, NewKey::Ed25519] {
            let (with, without) = (of(key, &[FactName::Serial]), of(key, &[FactName::Mac]));
            assert!(AnyRef::from_der(&with).is_ok() && names(&with) && !names(&without), "{key:?}");
        }
        assert_ne!(of(NewKey::P256, &[]), of(NewKey::P384, &[]));
    }

    proptest! {
        #[test]
        fn whatever_goes_out_comes_back(octets in proptest::collection::vec(any::<u8>(), 1..400)) {
            prop_assert_eq!(decoded(encoded(&octets).as_bytes()), Some(octets));
        }

        #[test]
        fn what_is_damaged_is_refused_or_holds_no_more_than_it_did(
            octets in proptest::collection::vec(any::<u8>(), 0..200),
            at in 0usize..60,
            with in any::<u8>(),
        ) {
            let good = certs_only(&[&asn1::sequence(&[&octets])]);
            prop_assert_eq!(certificates(&good).map(|all| all.len()), Some(1));
            let mut damaged = good.clone();
            if let Some(octet) = damaged.get_mut(at) {
                *octet = with;
            }
            let found = certificates(&damaged).unwrap_or_default();
            prop_assert!(found.concat().len() <= good.len());
        }
    }
}
