//! Reading a certificate: everything that this product judges by, taken out once.

use std::collections::BTreeMap;
use std::fmt;

use const_oid::ObjectIdentifier;
use const_oid::db::rfc4519::{DESCRIPTION, SERIAL_NUMBER};
use const_oid::db::rfc5280::{
    ANY_EXTENDED_KEY_USAGE, ID_CE_AUTHORITY_KEY_IDENTIFIER, ID_CE_BASIC_CONSTRAINTS, ID_CE_EXT_KEY_USAGE,
    ID_CE_KEY_USAGE, ID_CE_NAME_CONSTRAINTS, ID_CE_SUBJECT_ALT_NAME, ID_CE_SUBJECT_KEY_IDENTIFIER, ID_KP_CLIENT_AUTH,
};
use der::asn1::OctetStringRef;
use der::{Decode, Encode, Reader, SliceReader};
use x509_cert::ext::pkix::name::{GeneralName, OtherName};
use x509_cert::ext::pkix::{
    AuthorityKeyIdentifier, BasicConstraints, ExtendedKeyUsage, KeyUsage, SubjectAltName, SubjectKeyIdentifier,
};

use super::SerialNumber;
use super::constraint::Constraints;
use super::name::HARDWARE_MODULE_NAME;
use crate::asn1::{self, Signed};
use crate::fact::{Fact, FactName};
use crate::id::LabelName;
use crate::key::{BadKey, BadSignature, KeyType, PublicKey, sha256};
use crate::time::UnixTime;

/// The largest certificate read, in octets of DER; real ones have one or two thousand.
const MAX_LEN: usize = 64 * 1024;

/// SHA-256 of a certificate's DER: its name in the store.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Fingerprint(pub [u8; 32]);

impl Fingerprint {
    /// The fingerprint of a certificate in DER.
    #[must_use]
    pub fn of(der_bytes: &[u8]) -> Self {
        Self(sha256(der_bytes))
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&data_encoding::HEXLOWER.encode(&self.0))
    }
}

impl fmt::Debug for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Fingerprint({self})")
    }
}

/// Why a certificate could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadCertificate {
    /// More octets than any certificate needs.
    #[error("it has {len} bytes; at most {MAX_LEN} are read")]
    TooLong {
        /// Its length.
        len: usize,
    },
    /// Not a certificate in DER.
    #[error("it is not a well-formed X.509 certificate in DER")]
    Malformed,
    /// Its inner and outer signature algorithms differ (RFC 5280 section 4.1.1.2).
    #[error("its inner and outer signature algorithms differ")]
    AlgorithmMismatch,
    /// One extension twice (RFC 5280 section 4.2).
    #[error("it has the extension {oid} twice")]
    DuplicateExtension {
        /// The extension.
        oid: ObjectIdentifier,
    },
    /// An extension that cannot be read.
    #[error("its extension {oid} is malformed")]
    Extension {
        /// The extension.
        oid: ObjectIdentifier,
    },
    /// Its key is not accepted.
    #[error(transparent)]
    Key(#[from] BadKey),
}

/// A certificate that was read. Nothing about its trustworthiness is known yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    der: Vec<u8>,
    /// SHA-256 of the DER.
    pub fingerprint: Fingerprint,
    /// Its serial number.
    pub serial: SerialNumber,
    /// The issuer's name in DER, for comparison.
    pub issuer: Vec<u8>,
    /// The subject's name in DER, for comparison.
    pub subject: Vec<u8>,
    /// The subject's name as text (RFC 4514), for people.
    pub subject_text: String,
    /// The subject's key.
    pub public_key: PublicKey,
    /// The first second of its validity.
    pub not_before: UnixTime,
    /// The last second of its validity.
    pub not_after: UnixTime,
    /// basicConstraints, if present.
    pub basic_constraints: Option<BasicConstraints>,
    /// keyUsage, if present.
    pub key_usage: Option<KeyUsage>,
    /// Extended key usages, if the extension is present.
    pub extended_key_usage: Option<Vec<ObjectIdentifier>>,
    /// The subject key identifier, if present.
    pub subject_key_id: Option<Vec<u8>>,
    /// The key identifier of the authority key identifier, if present.
    pub authority_key_id: Option<Vec<u8>>,
    /// Subject alternative names.
    pub(crate) names: Vec<GeneralName>,
    /// Name constraints, if present.
    pub constraints: Option<Constraints>,
    /// Critical extensions that this product does not process.
    pub unknown_critical: Vec<ObjectIdentifier>,
}

/// The value that all of them are; `None` if there is none, or they differ.
fn only<T: PartialEq>(mut all: impl Iterator<Item = T>) -> Option<T> {
    let first = all.next()?;
    all.all(|other| other == first).then_some(first)
}

impl Certificate {
    /// Reads DER.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn from_der(der_bytes: &[u8]) -> Result<Self, BadCertificate> {
        if der_bytes.len() > MAX_LEN {
            return Err(BadCertificate::TooLong { len: der_bytes.len() });
        }
        let parsed = x509_cert::Certificate::from_der(der_bytes).map_err(|_| BadCertificate::Malformed)?;
        let tbs = parsed.tbs_certificate();
        if tbs.signature() != parsed.signature_algorithm() {
            return Err(BadCertificate::AlgorithmMismatch);
        }
        let encode = |name: &x509_cert::name::Name| name.to_der().map_err(|_| BadCertificate::Malformed);
        let spki = tbs.subject_public_key_info().to_der().map_err(|_| BadCertificate::Malformed)?;
        let time = |time: &x509_cert::time::Time| {
            i64::try_from(time.to_unix_duration().as_secs()).map(UnixTime).map_err(|_| BadCertificate::Malformed)
        };
        let mut certificate = Self {
            der: der_bytes.to_vec(),
            fingerprint: Fingerprint::of(der_bytes),
            serial: SerialNumber::from_octets(tbs.serial_number().as_bytes()).ok_or(BadCertificate::Malformed)?,
            issuer: encode(tbs.issuer())?,
            subject: encode(tbs.subject())?,
            subject_text: tbs.subject().to_string(),
            public_key: PublicKey::from_spki(&spki)?,
            not_before: time(&tbs.validity().not_before)?,
            not_after: time(&tbs.validity().not_after)?,
            basic_constraints: None,
            key_usage: None,
            extended_key_usage: None,
            subject_key_id: None,
            authority_key_id: None,
            names: Vec::new(),
            constraints: None,
            unknown_critical: Vec::new(),
        };
        certificate.read_extensions(tbs.extensions().map_or(&[], Vec::as_slice))?;
        Ok(certificate)
    }

    fn read_extensions(&mut self, extensions: &[x509_cert::ext::Extension]) -> Result<(), BadCertificate> {
        let mut seen = Vec::with_capacity(extensions.len());
        for extension in extensions {
            let oid = extension.extn_id;
            if seen.contains(&oid) {
                return Err(BadCertificate::DuplicateExtension { oid });
            }
            seen.push(oid);
            self.read_extension(oid, extension.extn_value.as_bytes(), extension.critical)
                .map_err(|_| BadCertificate::Extension { oid })?;
        }
        Ok(())
    }

    fn read_extension(&mut self, oid: ObjectIdentifier, value: &[u8], critical: bool) -> Result<(), der::Error> {
        match oid {
            ID_CE_BASIC_CONSTRAINTS => self.basic_constraints = Some(BasicConstraints::from_der(value)?),
            ID_CE_KEY_USAGE => self.key_usage = Some(KeyUsage::from_der(value)?),
            ID_CE_EXT_KEY_USAGE => self.extended_key_usage = Some(ExtendedKeyUsage::from_der(value)?.0),
            ID_CE_SUBJECT_KEY_IDENTIFIER => {
                self.subject_key_id = Some(SubjectKeyIdentifier::from_der(value)?.0.as_bytes().to_vec());
            }
            ID_CE_AUTHORITY_KEY_IDENTIFIER => {
                let id = AuthorityKeyIdentifier::from_der(value)?.key_identifier;
                self.authority_key_id = id.map(|id| id.as_bytes().to_vec());
            }
            ID_CE_SUBJECT_ALT_NAME => {
                self.names = SubjectAltName::from_der(value)?.0;
            }
            ID_CE_NAME_CONSTRAINTS => self.constraints = Some(Constraints::from_der(value)?),
            oid if critical => self.unknown_critical.push(oid),
            _ => {}
        }
        Ok(())
    }

    /// Reads one PEM block with the label `CERTIFICATE`.
    ///
    /// # Errors
    /// Not such a block, or not a certificate in it.
    pub fn from_pem(text: &str) -> Result<Self, BadCertificate> {
        match der::pem::decode_vec(text.as_bytes()) {
            Ok(("CERTIFICATE", bytes)) => Self::from_der(&bytes),
            _ => Err(BadCertificate::Malformed),
        }
    }

    /// The hardware identifier that the certificate states; read from where `stated_fact` says.
    #[must_use]
    pub fn fact(&self, name: &FactName) -> Option<Fact> {
        stated_fact(&self.subject, &self.names, name)
    }

    /// Subject alternative names as text, such as `URI:urn:dev:...`.
    #[must_use]
    pub fn alternative_names(&self) -> Vec<String> {
        self.names.iter().map(name_text).collect()
    }

    /// Reads PEM blocks with the label `CERTIFICATE`, in their order, or one certificate in DER.
    ///
    /// # Errors
    /// Something else, or a certificate that cannot be read.
    pub fn read_all(octets: &[u8]) -> Result<Vec<Self>, BadCertificate> {
        let values = asn1::der_values(octets, "CERTIFICATE").ok_or(BadCertificate::Malformed)?;
        values.iter().map(|der_bytes| Self::from_der(der_bytes)).collect()
    }

    /// The certificate in DER, as it was read.
    #[must_use]
    pub fn der(&self) -> &[u8] {
        &self.der
    }

    /// The certificate in PEM.
    #[must_use]
    pub fn to_pem(&self) -> String {
        asn1::pem("CERTIFICATE", &self.der)
    }

    /// What is weak about the certificate in itself, in words; empty if nothing is.
    #[must_use]
    pub fn weaknesses(&self) -> Vec<String> {
        let mut found = Vec::new();
        if let KeyType::Rsa(bits @ ..3072) = self.public_key.key_type() {
            found.push(format!("its RSA key has {bits} bits; new ones should have 3072"));
        }
        let own = Signed::split(&self.der)
            .ok()
            .map(|parts| self.public_key.verify(parts.algorithm, parts.to_be_signed, parts.signature));
        if let Some(Err(BadSignature::Broken { name })) = own {
            found.push(format!("it is signed with {name}, so that it could be forged"));
        }
        if self.basic_constraints.as_ref().is_some_and(|basic| basic.ca) {
            found.push("it says that it is an authority".to_owned());
        }
        if self.key_usage.is_some_and(|usage| !usage.digital_signature()) {
            found.push("its key usage lacks digitalSignature, which TLS needs".to_owned());
        }
        let purposes = self.extended_key_usage.as_ref();
        if purposes.is_some_and(|all| !all.contains(&ID_KP_CLIENT_AUTH) && !all.contains(&ANY_EXTENDED_KEY_USAGE)) {
            found.push("its extended key usage lacks clientAuth".to_owned());
        }
        found
    }

    /// Whether `issuer`'s key signed this certificate.
    #[must_use]
    pub fn is_signed_by(&self, issuer: &PublicKey) -> bool {
        Signed::split(&self.der)
            .is_ok_and(|parts| issuer.verify(parts.algorithm, parts.to_be_signed, parts.signature).is_ok())
    }
}

/// The hardware identifier that a certificate or a request states, in the places that IEEE 802.1AR and RFC 9039 have for it: a serial
/// number in the subject or a hardwareModuleName, MAC and EUI-64 in a `urn:dev:mac:` name, an IMEI in a `urn:gsma:imei:` name (RFC 7254).
///
/// One that states two of a kind states none: nobody could say which of them its maker meant.
pub(crate) fn stated_fact(subject: &[u8], names: &[GeneralName], name: &FactName) -> Option<Fact> {
    let uris = || {
        names.iter().filter_map(|name| match name {
            GeneralName::UniformResourceIdentifier(uri) => Some(uri.as_str()),
            _ => None,
        })
    };
    let mac =
        |length: usize| only(uris().filter_map(|uri| uri.strip_prefix("urn:dev:mac:")).filter(|it| it.len() == length));
    let text = match name {
        FactName::Serial => stated_serial(subject, names),
        FactName::Mac => mac(16)
            .filter(|digits| digits.get(6..10) == Some("ffff"))
            .and_then(|digits| Some(format!("{}{}", digits.get(..6)?, digits.get(10..)?))),
        // With those octets it is a MAC address (RFC 9039 section 4.1), and one thing is not two facts.
        FactName::Eui64 => mac(16).filter(|digits| digits.get(6..10) != Some("ffff")).map(str::to_owned),
        FactName::Imei => {
            only(uris().filter_map(|uri| uri.strip_prefix("urn:gsma:imei:")).map(|digits| digits.replace('-', "")))
        }
        FactName::Ek => None,
        FactName::Own(name) => return stated_own(subject).remove(name),
    };
    text.and_then(|text| Fact::new(name.clone(), &text).ok())
}

/// The most facts of a ward's own that are looked for in a subject.
const MOST_DESCRIBED: usize = 16;

/// The facts of a ward's own that a subject states: `description` attributes (RFC 4519 section 2.5) of the form `NAME=VALUE`. One of
/// which it states two values is not among them.
pub(crate) fn stated_own(subject: &[u8]) -> BTreeMap<LabelName, Fact> {
    let Ok(subject) = x509_cert::name::Name::from_der(subject) else { return BTreeMap::new() };
    let all = subject.iter_rdn().flat_map(|rdn| rdn.iter()).filter(|each| each.oid == DESCRIPTION);
    let described = all.filter_map(|each| {
        let text = std::str::from_utf8(each.value.value()).ok()?;
        let (name, value) = text.split_once('=')?;
        Some((name.parse::<LabelName>().ok()?, value))
    });
    let mut values: BTreeMap<LabelName, Vec<&str>> = BTreeMap::new();
    for (name, value) in described.take(MOST_DESCRIBED) {
        values.entry(name).or_default().push(value);
    }
    let stated = values.into_iter().filter_map(|(name, values)| {
        let fact = Fact::new(FactName::Own(name.clone()), only(values.into_iter())?).ok()?;
        Some((name, fact))
    });
    stated.collect()
}

fn stated_serial(subject: &[u8], names: &[GeneralName]) -> Option<String> {
    let modules = || {
        names.iter().filter_map(|name| match name {
            GeneralName::OtherName(other) => hardware_module(other).map(|(_, serial)| serial),
            _ => None,
        })
    };
    if modules().next().is_some() {
        return only(modules()).and_then(|serial| String::from_utf8(serial).ok());
    }
    let subject = x509_cert::name::Name::from_der(subject).ok()?;
    let serials = subject.iter_rdn().flat_map(|rdn| rdn.iter()).filter(|each| each.oid == SERIAL_NUMBER);
    let value = only(serials.map(|each| each.value.value().to_vec()))?;
    String::from_utf8(value).ok()
}

pub(super) fn name_text(name: &GeneralName) -> String {
    match name {
        GeneralName::DnsName(dns) => format!("DNS:{dns}"),
        GeneralName::UniformResourceIdentifier(uri) => format!("URI:{uri}"),
        GeneralName::IpAddress(octets) => ip_text(octets.as_bytes()),
        GeneralName::Rfc822Name(mail) => format!("email:{mail}"),
        GeneralName::DirectoryName(name) => format!("dir:{name}"),
        GeneralName::OtherName(other) => match hardware_module(other) {
            Some((hardware_type, serial)) => {
                format!("hardware:{hardware_type} {}", String::from_utf8_lossy(&serial).escape_debug())
            }
            None => format!("other:{}", other.type_id),
        },
        GeneralName::RegisteredId(oid) => format!("oid:{oid}"),
        GeneralName::EdiPartyName(_) => "edi".to_owned(),
    }
}

/// hwType and hwSerialNum of a hardwareModuleName (RFC 4108 section 5).
pub(super) fn hardware_module(name: &OtherName) -> Option<(ObjectIdentifier, Vec<u8>)> {
    if name.type_id != HARDWARE_MODULE_NAME {
        return None;
    }
    let value = name.value.to_der().ok()?;
    let mut reader = SliceReader::new(&value).ok()?;
    reader
        .sequence(|fields| {
            let hardware_type = ObjectIdentifier::decode(fields)?;
            let serial = <&OctetStringRef>::decode(fields)?;
            Ok::<_, der::Error>((hardware_type, serial.as_bytes().to_vec()))
        })
        .ok()
}

/// An address of 4 or 16 octets.
pub(super) fn ip_text(octets: &[u8]) -> String {
    match *octets {
        [a, b, c, d] => format!("IP:{}", std::net::Ipv4Addr::new(a, b, c, d)),
        ref longer => match <[u8; 16]>::try_from(longer) {
            Ok(octets) => format!("IP:{}", std::net::Ipv6Addr::from(octets)),
            Err(_) => "IP:?".to_owned(),
        },
    }
}
