//! Certification requests (PKCS#10, RFC 2986): only the key is taken, and only after its holder has proved it.

use std::collections::BTreeMap;

use const_oid::db::rfc5280::ID_CE_SUBJECT_ALT_NAME;
use const_oid::db::rfc5912::ID_EXTENSION_REQ;
use der::{Decode, Encode};
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::SubjectAltName;
use x509_cert::ext::pkix::name::GeneralName;

use crate::asn1::{self, Signed};
use crate::certificate::{AltName, Attribute, Certificate, Subject, mac_urn, stated_fact, stated_own};
use crate::fact::{Fact, FactName};
use crate::key::{BadKey, BadSignature, ProvenKey, PublicKey, SignError, Signer, sha256};

/// The largest request read, in octets; one with an RSA key of 8192 bits has about 2,200.
pub const MAX_LEN: usize = 64 * 1024;

/// Why a request was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadRequest {
    /// More octets than any request needs.
    #[error("it has {len} bytes; at most {MAX_LEN} are read")]
    TooLong {
        /// Its length.
        len: usize,
    },
    /// A private key: somebody sent what must never leave the device.
    #[error("it is a private key, not a request; a private key never leaves its device")]
    PrivateKey,
    /// A certificate.
    #[error("it is a certificate, not a request")]
    IsCertificate,
    /// Another kind of PEM block.
    #[error("it holds `{label}`, not a certificate request")]
    Label {
        /// The block's label.
        label: String,
    },
    /// More than one PEM block, or text around it.
    #[error("it holds more than one PEM block; give exactly one request")]
    SeveralBlocks,
    /// Broken PEM.
    #[error("its PEM text is damaged or cut off")]
    BadPem,
    /// Neither PEM nor DER of a request, cut off, or with octets behind its end.
    #[error("it is not one well-formed PKCS#10 request: {detail}")]
    Malformed {
        /// What the decoder met.
        detail: String,
    },
    /// The key is not accepted.
    #[error(transparent)]
    Key(#[from] BadKey),
    /// The signature over the request is not accepted.
    #[error("its self-signature is not accepted: {0}")]
    Signature(#[from] BadSignature),
}

/// Why a request that states facts was not made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StateError {
    /// The fact has no place in a request, or not with this value, or not beside the others.
    #[error("a request has no place for this {0}, or not beside the other facts")]
    NoPlace(FactName),
    /// It was not signed.
    #[error(transparent)]
    Sign(#[from] SignError),
}

/// A request that was read but not yet proved.
#[derive(Debug, Clone)]
pub struct Request {
    der: Vec<u8>,
    key: PublicKey,
    /// The subject's name in DER.
    subject: Vec<u8>,
    /// The subject's name as text (RFC 4514).
    subject_text: String,
    /// The alternative names that it asks for, if it asks for any.
    names: Option<Vec<GeneralName>>,
    /// What the request asks for and does not get, in words; empty if it asks for nothing.
    pub ignored: Vec<String>,
}

impl Request {
    /// Reads one request in PEM (RFC 7468 section 7) or DER.
    ///
    /// # Errors
    /// What it is instead, or what is wrong with it.
    pub fn parse(input: &[u8]) -> Result<Self, BadRequest> {
        if input.len() > MAX_LEN {
            return Err(BadRequest::TooLong { len: input.len() });
        }
        if input.first() == Some(&0x30) {
            return Self::from_der(input);
        }
        let text = std::str::from_utf8(input).map_err(|_| BadRequest::BadPem)?;
        let blocks = text.matches("-----BEGIN ").count();
        if text.contains("PRIVATE KEY-----") {
            return Err(BadRequest::PrivateKey);
        }
        match blocks {
            0 => return Err(BadRequest::Malformed { detail: "neither PEM nor DER".to_owned() }),
            1 => {}
            _ => return Err(BadRequest::SeveralBlocks),
        }
        let (label, bytes) = der::pem::decode_vec(text.trim_end().as_bytes()).map_err(|_| BadRequest::BadPem)?;
        match label {
            "CERTIFICATE REQUEST" | "NEW CERTIFICATE REQUEST" => Self::from_der(&bytes),
            "CERTIFICATE" => Err(BadRequest::IsCertificate),
            other => Err(BadRequest::Label { label: other.chars().take(60).collect() }),
        }
    }

    fn from_der(input: &[u8]) -> Result<Self, BadRequest> {
        let request = match x509_cert::request::CertReq::from_der(input) {
            Ok(request) => request,
            Err(_) if x509_cert::Certificate::from_der(input).is_ok() => return Err(BadRequest::IsCertificate),
            Err(_) if pkcs8::PrivateKeyInfoRef::try_from(input).is_ok() => return Err(BadRequest::PrivateKey),
            Err(error) => return Err(BadRequest::Malformed { detail: error.to_string() }),
        };
        let malformed = |error: der::Error| BadRequest::Malformed { detail: error.to_string() };
        let spki = request.info.public_key.to_der().map_err(malformed)?;
        let mut ignored = Vec::new();
        if !request.info.subject.is_empty() {
            let subject = request.info.subject.to_string();
            ignored.push(format!("the subject {:?}", subject.chars().take(80).collect::<String>()));
        }
        for attribute in request.info.attributes.iter() {
            ignored.push(match attribute.oid {
                ID_EXTENSION_REQ => "the extensions that it asks for".to_owned(),
                oid => format!("the attribute {oid}"),
            });
        }
        let subject = &request.info.subject;
        Ok(Self {
            der: input.to_vec(),
            key: PublicKey::from_spki(&spki)?,
            subject: subject.to_der().map_err(malformed)?,
            subject_text: subject.to_string(),
            names: wanted_names(&request.info.attributes),
            ignored,
        })
    }

    /// SHA-256 of the SubjectPublicKeyInfo of its key.
    #[must_use]
    pub fn key_digest(&self) -> [u8; 32] {
        sha256(self.key.spki())
    }

    /// The hardware identifiers that it states of its sender, who may be anybody: in the places in which a certificate has them
    /// ([`Certificate::fact`]), the subject or the alternative names that are asked for.
    #[must_use]
    pub fn facts(&self) -> BTreeMap<FactName, Fact> {
        let names = self.names.as_deref().unwrap_or_default();
        let built_in = FactName::BUILT_IN.into_iter().filter_map(|name| stated_fact(&self.subject, names, &name));
        let stated = built_in.chain(stated_own(&self.subject).into_values());
        stated.map(|fact| (fact.name().clone(), fact)).collect()
    }

    /// Whether it asks for another subject or other alternative names than a certificate has (RFC 7030 section 4.2.2). What it leaves
    /// out it does not ask for.
    #[must_use]
    pub fn wants_other_names(&self, than: &Certificate) -> bool {
        let has_subject = !self.subject_text.is_empty();
        // The same text may be encoded otherwise, and is the same name.
        let other_subject = has_subject && self.subject != than.subject && self.subject_text != than.subject_text;
        other_subject || self.names.as_ref().is_some_and(|names| *names != than.names)
    }

    /// Makes a request for an authority's certificate: its subject, its key, nothing else asked for.
    ///
    /// # Errors
    /// The signer fails.
    pub fn sign(subject: &Subject, signer: &dyn Signer) -> Result<Vec<u8>, SignError> {
        Self::sign_with(subject, &[], signer)
    }

    /// Makes a device's request, which states its hardware identifiers where [`Request::facts`] reads them.
    ///
    /// # Errors
    /// A fact that a request has no place for, or the signer fails.
    pub fn stating(facts: &BTreeMap<FactName, Fact>, signer: &dyn Signer) -> Result<Vec<u8>, StateError> {
        let mut subject: Vec<(Attribute, String)> = Vec::new();
        let mut names = Vec::new();
        for (name, fact) in facts {
            let value = fact.value();
            match name {
                FactName::Serial if Attribute::SerialNumber.takes(value) => {
                    subject.push((Attribute::SerialNumber, value.to_owned()));
                }
                FactName::Own(name) => subject.push((Attribute::Description, format!("{name}={value}"))),
                FactName::Mac => names.push(AltName::Uri(mac_urn(value))),
                // It is written as a MAC address is, so only one of them can be told, and not one that would be read as the other.
                FactName::Eui64 if !facts.contains_key(&FactName::Mac) && value.get(9..14) != Some("ff:ff") => {
                    names.push(AltName::Uri(mac_urn(value)));
                }
                FactName::Imei => names.push(AltName::Uri(format!("urn:gsma:imei:{value}"))),
                FactName::Serial | FactName::Eui64 | FactName::Ek => return Err(StateError::NoPlace(name.clone())),
            }
        }
        let subject = Subject::new(subject.iter().map(|(attribute, value)| (*attribute, value.as_str())));
        Ok(Self::sign_with(&subject, &names, signer)?)
    }

    fn sign_with(subject: &Subject, names: &[AltName], signer: &dyn Signer) -> Result<Vec<u8>, SignError> {
        let attributes = if names.is_empty() { Vec::new() } else { wanting(names) };
        let info = asn1::sequence(&[
            &asn1::unsigned(&[]),
            subject.der(),
            signer.public_key().spki(),
            &asn1::context_constructed(0, &attributes),
        ]);
        let signature = signer.sign(&info)?;
        Ok(asn1::sequence(&[&info, &signer.algorithm(), &asn1::bit_string(&signature)]))
    }

    /// Verifies the self-signature, which shows that whoever made the request has the private key (RFC 2986 section 4.2).
    ///
    /// # Errors
    /// The signature does not verify, or is of an algorithm that is not accepted.
    pub fn verify_possession(self) -> Result<ProvenKey, BadRequest> {
        let parts = Signed::split(&self.der).map_err(|error| BadRequest::Malformed { detail: error.to_string() })?;
        self.key.verify(parts.algorithm, parts.to_be_signed, parts.signature)?;
        Ok(ProvenKey::after_proof(self.key))
    }
}

/// The attribute that asks for alternative names (RFC 2985 section 5.4.2).
fn wanting(names: &[AltName]) -> Vec<u8> {
    let names: Vec<u8> = names.iter().flat_map(AltName::to_der).collect();
    let value = asn1::octet_string(&asn1::sequence(&[&names]));
    let extensions = asn1::sequence(&[&asn1::sequence(&[&asn1::oid(ID_CE_SUBJECT_ALT_NAME), &value])]);
    asn1::sequence(&[&asn1::oid(ID_EXTENSION_REQ), &asn1::set_of_one(&extensions)])
}

/// The alternative names that a request's attributes ask for (RFC 2985 section 5.4.2).
fn wanted_names(attributes: &x509_cert::attr::Attributes) -> Option<Vec<GeneralName>> {
    let requests = attributes.iter().filter(|attribute| attribute.oid == ID_EXTENSION_REQ);
    let values = requests.flat_map(|attribute| attribute.values.iter());
    let extensions = values.filter_map(|value| Vec::<Extension>::from_der(&value.to_der().ok()?).ok()).flatten();
    let wanted = extensions.filter(|extension| extension.extn_id == ID_CE_SUBJECT_ALT_NAME);
    let mut names = wanted.filter_map(|wanted| SubjectAltName::from_der(wanted.extn_value.as_bytes()).ok());
    names.next().map(|names| names.0)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::key::{NewKey, SoftwareKey};

    fn request(key: &SoftwareKey) -> Vec<u8> {
        Request::sign(&Subject::of("x", "somebody else"), key).unwrap()
    }

    #[test]
    fn a_good_request_proves_its_key_and_its_names_are_ignored() {
        for new in [NewKey::P256, NewKey::Ed25519] {
            let key = SoftwareKey::generate(new).unwrap();
            let der = request(&key);
            let parsed = Request::parse(&der).unwrap();
            assert_eq!(parsed.ignored.len(), 1);
            assert_eq!(parsed.verify_possession().unwrap(), key.proven());
            let pem = asn1::pem("CERTIFICATE REQUEST", &der);
            assert!(Request::parse(pem.as_bytes()).unwrap().verify_possession().is_ok());
        }
    }

    #[test]
    fn what_a_device_states_of_itself_is_read_again() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let all = |texts: &[(FactName, &str)]| -> BTreeMap<FactName, Fact> {
            texts.iter().map(|(name, text)| (name.clone(), Fact::new(name.clone(), text).unwrap())).collect()
        };
        let (serial, mac) = ((FactName::Serial, "ZX-9"), (FactName::Mac, "00:16:3e:0a:1b:2c"));
        let (imei, eui) = ((FactName::Imei, "490154203237518"), (FactName::Eui64, "00:16:3e:fe:ff:0a:1b:2c"));
        let like_a_mac = (FactName::Eui64, "00:16:3e:ff:ff:0a:1b:2c");
        for stated in [
            &[][..],
            std::slice::from_ref(&serial),
            std::slice::from_ref(&mac),
            &[serial.clone(), mac.clone(), imei],
            std::slice::from_ref(&eui),
        ] {
            let facts = all(stated);
            let request = Request::parse(&Request::stating(&facts, &key).unwrap()).unwrap();
            assert_eq!(request.facts(), facts);
            assert!(request.verify_possession().is_ok());
        }
        let digest = "ab".repeat(32);
        for bad in [&[(FactName::Ek, &*digest)][..], &[mac, eui], &[like_a_mac], &[(FactName::Serial, "a_b")]] {
            let refused = Request::stating(&all(bad), &key);
            assert!(matches!(refused, Err(StateError::NoPlace(_))), "{bad:?}");
        }
    }

    #[test]
    fn each_kind_of_bad_input_is_named() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let der = request(&key);
        let pem = asn1::pem("CERTIFICATE REQUEST", &der);
        let refused = |input: &[u8]| match Request::parse(input).and_then(Request::verify_possession) {
            Ok(_) => panic!("it was taken"),
            Err(error) => error,
        };
        assert!(matches!(refused(&der[..der.len() - 1]), BadRequest::Malformed { .. }));
        assert!(matches!(refused(&[der.as_slice(), &[0]].concat()), BadRequest::Malformed { .. }));
        let mut flipped = der.clone();
        let last = flipped.len() - 1;
        flipped[last] ^= 1;
        assert_eq!(refused(&flipped), BadRequest::Signature(BadSignature::Wrong));
        assert_eq!(refused(&key.to_pkcs8().unwrap()), BadRequest::PrivateKey);
        assert_eq!(refused(key.to_pkcs8_pem().unwrap().as_bytes()), BadRequest::PrivateKey);
        let certificate = crate::certificate::tests_support_certificate();
        assert_eq!(refused(certificate.der()), BadRequest::IsCertificate);
        assert_eq!(refused(certificate.to_pem().as_bytes()), BadRequest::IsCertificate);
        assert_eq!(refused(format!("{pem}{pem}").as_bytes()), BadRequest::SeveralBlocks);
        assert_eq!(refused(&pem.as_bytes()[..200]), BadRequest::BadPem);
        assert!(matches!(refused(b"hello"), BadRequest::Malformed { .. }));
        assert!(matches!(refused(&vec![0x30; MAX_LEN + 1]), BadRequest::TooLong { .. }));
    }

    proptest! {
        #[test]
        fn no_single_changed_octet_is_taken(at in 0usize..200, flip in 1u8..=255) {
            static GOOD: std::sync::LazyLock<Vec<u8>> =
                std::sync::LazyLock::new(|| request(&SoftwareKey::generate(NewKey::Ed25519).unwrap()));
            let mut bytes = GOOD.clone();
            let at = at % bytes.len();
            bytes[at] ^= flip;
            prop_assert!(Request::parse(&bytes).and_then(Request::verify_possession).is_err());
        }
    }
}
