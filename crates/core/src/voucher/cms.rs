//! CMS signed-data (RFC 5652 section 5) with one signer and its certificates: as much of it as a voucher needs.

use const_oid::ObjectIdentifier;
use const_oid::db::rfc5911::{ID_CONTENT_TYPE, ID_MESSAGE_DIGEST, ID_SIGNED_DATA, ID_SIGNING_TIME};
use const_oid::db::rfc5912::{ID_SHA_256, ID_SHA_384, ID_SHA_512};
use der::{Decode, Reader, SliceReader, Tag};

use super::{BadVoucher, Knows, MOST_CERTIFICATES, Said, signer_is_good};
use crate::asn1;
use crate::certificate::Certificate;
use crate::key::{KeyType, SignError, Signer, sha256};
use crate::time::UnixTime;

/// id-ct-animaJSONVoucher (RFC 8366 section 8.4).
const JSON_VOUCHER: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.16.1.40");

/// The digest that goes with a key (RFC 5754 section 3, RFC 8419 section 3.1).
fn digest_of(key: KeyType, octets: &[u8]) -> Option<(ObjectIdentifier, Vec<u8>)> {
    use aws_lc_rs::digest::{SHA384, SHA512, digest};
    Some(match key {
        KeyType::P256 | KeyType::Rsa(_) => (ID_SHA_256, sha256(octets).to_vec()),
        KeyType::P384 => (ID_SHA_384, digest(&SHA384, octets).as_ref().to_vec()),
        KeyType::Ed25519 => (ID_SHA_512, digest(&SHA512, octets).as_ref().to_vec()),
        KeyType::MlDsa65 => return None,
    })
}

fn attribute(kind: ObjectIdentifier, value: &[u8]) -> Vec<u8> {
    asn1::sequence(&[&asn1::oid(kind), &asn1::set_of_one(value)])
}

/// ContentInfo with SignedData.
pub(super) fn signed(
    content: &[u8],
    chain: &[&Certificate],
    key: &dyn Signer,
    at: UnixTime,
) -> Result<Vec<u8>, SignError> {
    let leaf = chain.first().ok_or(SignError::Library)?;
    let (digest, value) = digest_of(key.public_key().key_type(), content).ok_or(SignError::Library)?;
    let digest = asn1::sequence(&[&asn1::oid(digest)]);
    // Section 5.3: what is signed are these, as a SET OF in DER.
    let mut attributes = vec![
        attribute(ID_CONTENT_TYPE, &asn1::oid(JSON_VOUCHER)),
        attribute(ID_MESSAGE_DIGEST, &asn1::octet_string(&value)),
        attribute(ID_SIGNING_TIME, &asn1::time(at)),
    ];
    attributes.sort();
    let to_be_signed = asn1::set_of(&attributes);
    let signature = key.sign(&to_be_signed)?;
    let name = asn1::sequence(&[&leaf.issuer, &asn1::unsigned(leaf.serial.octets())]);
    let info = asn1::sequence(&[
        &asn1::unsigned(&[1]),
        &name,
        &digest,
        &asn1::context_constructed(0, &attributes.concat()),
        &key.algorithm(),
        &asn1::octet_string(&signature),
    ]);
    let content = asn1::context_constructed(0, &asn1::octet_string(content));
    let mut certificates: Vec<Vec<u8>> = chain.iter().map(|each| each.der().to_vec()).collect();
    certificates.sort();
    // Section 5.1: version 3, as what is in it is not plain data.
    let data = asn1::sequence(&[
        &asn1::unsigned(&[3]),
        &asn1::set_of_one(&digest),
        &asn1::sequence(&[&asn1::oid(JSON_VOUCHER), &content]),
        &asn1::context_constructed(0, &certificates.concat()),
        &asn1::set_of_one(&info),
    ]);
    Ok(asn1::sequence(&[&asn1::oid(ID_SIGNED_DATA), &asn1::context_constructed(0, &data)]))
}

/// The elements in the content of another, each with tag and length.
fn elements(content: &[u8]) -> Result<Vec<&[u8]>, der::Error> {
    let mut reader = SliceReader::new(content)?;
    let mut all = Vec::new();
    while !reader.is_finished() {
        // A heap of small things is no voucher.
        if all.len() > 16 {
            return Err(Tag::Sequence.length_error().into());
        }
        all.push(reader.tlv_bytes()?);
    }
    Ok(all)
}

fn in_sequence(element: &[u8]) -> Result<Vec<&[u8]>, der::Error> {
    elements(asn1::content(element, Tag::Sequence)?)
}

fn in_set(element: &[u8]) -> Result<Vec<&[u8]>, der::Error> {
    elements(asn1::content(element, Tag::Set)?)
}

/// The content of `[number]`.
fn in_context(element: &[u8], number: u8) -> Result<&[u8], der::Error> {
    let number = der::TagNumber(u32::from(number));
    asn1::content(element, Tag::ContextSpecific { constructed: true, number })
}

/// What was taken apart; nothing of it is believed.
struct Parts<'o> {
    content: &'o [u8],
    certificates: Vec<Certificate>,
    name: &'o [u8],
    /// AlgorithmIdentifier of the digest.
    digest: &'o [u8],
    attributes: &'o [u8],
    algorithm: &'o [u8],
    signature: &'o [u8],
}

fn octets(element: &[u8]) -> Result<&[u8], der::Error> {
    asn1::content(element, Tag::OctetString)
}

fn is_oid(element: &[u8], wanted: ObjectIdentifier) -> bool {
    ObjectIdentifier::from_der(element).is_ok_and(|found| found == wanted)
}

fn parts(der: &[u8]) -> Result<Parts<'_>, BadVoucher> {
    let shape = |_: der::Error| BadVoucher::Form("it is not CMS signed-data of one signer in DER (RFC 5652)");
    let form = BadVoucher::Form;
    let outer = in_sequence(der).map_err(shape)?;
    let [kind, data] = outer[..] else { return Err(form("it is no ContentInfo")) };
    if !is_oid(kind, ID_SIGNED_DATA) {
        return Err(form("it is not signed-data"));
    }
    let data = in_sequence(in_context(data, 0).map_err(shape)?).map_err(shape)?;
    let [version, digests, encapsulated, certificates, infos] = data[..] else {
        return Err(form("it has not exactly what a voucher has: certificates, and no revocation lists"));
    };
    if version != asn1::unsigned(&[3]) {
        return Err(form("it is of another version than 3"));
    }
    let digests = in_set(digests).map_err(shape)?;
    let encapsulated = in_sequence(encapsulated).map_err(shape)?;
    let [kind, content] = encapsulated[..] else { return Err(form("nothing is in it")) };
    if !is_oid(kind, JSON_VOUCHER) {
        return Err(form("what is in it is no voucher in JSON"));
    }
    let content = octets(in_context(content, 0).map_err(shape)?).map_err(shape)?;
    let found = elements(in_context(certificates, 0).map_err(shape)?).map_err(shape)?;
    if found.is_empty() || found.len() > MOST_CERTIFICATES {
        return Err(form("it comes with no certificate, or with too many"));
    }
    let read = |der: &&[u8]| Certificate::from_der(der).map_err(|_| form("its certificates cannot be read"));
    let certificates = found.iter().map(read).collect::<Result<_, _>>()?;
    let infos = in_set(infos).map_err(shape)?;
    let [info] = infos[..] else { return Err(form("it has not exactly one signer")) };
    let info = in_sequence(info).map_err(shape)?;
    let [version, name, digest, attributes, algorithm, signature] = info[..] else {
        return Err(form("its signer signed no attributes, or says more"));
    };
    if version != asn1::unsigned(&[1]) || digests != [digest] {
        return Err(form("what it says of its signer is not in order"));
    }
    Ok(Parts {
        content,
        certificates,
        name,
        digest,
        attributes: in_context(attributes, 0).map_err(shape)?,
        algorithm,
        signature: octets(signature).map_err(shape)?,
    })
}

/// The value of a signed attribute, which must be there once.
fn signed_attribute<'a>(all: &[&'a [u8]], kind: ObjectIdentifier) -> Option<&'a [u8]> {
    let mut found = all.iter().filter_map(|each| {
        let parts = in_sequence(each).ok()?;
        let [name, values] = parts[..] else { return None };
        let values = in_set(values).ok()?;
        if is_oid(name, kind) { Some((values.len() == 1).then(|| values[0])) } else { None }
    });
    found.next().flatten().filter(|_| found.next().is_none())
}

/// What is in signed-data, if whoever signed it may sign vouchers.
pub(super) fn opened(der: &[u8], knows: &Knows<'_>) -> Result<Said, BadVoucher> {
    let form = BadVoucher::Form;
    let parts = parts(der)?;
    let is_signer =
        |each: &Certificate| asn1::sequence(&[&each.issuer, &asn1::unsigned(each.serial.octets())]) == parts.name;
    let (leaves, above): (Vec<Certificate>, Vec<Certificate>) = parts.certificates.into_iter().partition(is_signer);
    let [leaf] = leaves.as_slice() else { return Err(form("its signer's certificate is not with it")) };
    let chain: Vec<Certificate> = [leaf.clone()].into_iter().chain(above).collect();
    let said = Said::read(parts.content)?;
    signer_is_good(&chain, knows, said.created)?;
    let attributes = elements(parts.attributes).map_err(|_| form("its attributes cannot be read"))?;
    // Sections 5.4 and 11.1: the attributes are signed, and they have the digest of what is in it and say what that is.
    let key = &leaf.public_key;
    let (kind, digest) = digest_of(key.key_type(), parts.content).ok_or(BadVoucher::Signature)?;
    // Parameters are left out, or NULL (RFC 5754 section 2).
    let known = [asn1::sequence(&[&asn1::oid(kind)]), asn1::sequence(&[&asn1::oid(kind), &asn1::null()])];
    if !known.iter().any(|known| known == parts.digest) {
        return Err(form("its digest is not the one that goes with its signer's key"));
    }
    let found = signed_attribute(&attributes, ID_MESSAGE_DIGEST).and_then(|value| octets(value).ok());
    if found != Some(digest.as_slice()) {
        return Err(BadVoucher::Signature);
    }
    if !signed_attribute(&attributes, ID_CONTENT_TYPE).is_some_and(|value| is_oid(value, JSON_VOUCHER)) {
        return Err(BadVoucher::Signature);
    }
    let to_be_signed = asn1::element(0x31, parts.attributes);
    key.verify(parts.algorithm, &to_be_signed, parts.signature).map_err(|_| BadVoucher::Signature)?;
    Ok(said)
}
