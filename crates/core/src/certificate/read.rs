//! Reading a certificate: everything that this product judges by, taken out once.

use std::fmt;

use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::{
    ID_CE_AUTHORITY_KEY_IDENTIFIER, ID_CE_BASIC_CONSTRAINTS, ID_CE_EXT_KEY_USAGE, ID_CE_KEY_USAGE,
    ID_CE_SUBJECT_ALT_NAME, ID_CE_SUBJECT_KEY_IDENTIFIER,
};
use der::{Decode, Encode};
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::ext::pkix::{
    AuthorityKeyIdentifier, BasicConstraints, ExtendedKeyUsage, KeyUsage, SubjectAltName, SubjectKeyIdentifier,
};

use super::SerialNumber;
use crate::asn1::{self, Signed};
use crate::key::{BadKey, PublicKey, sha256};
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
    #[error("it has {len} octets; at most {MAX_LEN} are read")]
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
    /// Subject alternative names as text, such as `URI:urn:dev:...`.
    pub alternative_names: Vec<String>,
    /// Critical extensions that this product does not process.
    pub unknown_critical: Vec<ObjectIdentifier>,
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
            alternative_names: Vec::new(),
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
                self.alternative_names = SubjectAltName::from_der(value)?.0.iter().map(name_text).collect();
            }
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

    /// Whether `issuer`'s key signed this certificate.
    #[must_use]
    pub fn is_signed_by(&self, issuer: &PublicKey) -> bool {
        Signed::split(&self.der)
            .is_ok_and(|parts| issuer.verify(parts.algorithm, parts.to_be_signed, parts.signature).is_ok())
    }
}

fn name_text(name: &GeneralName) -> String {
    match name {
        GeneralName::DnsName(dns) => format!("DNS:{dns}"),
        GeneralName::UniformResourceIdentifier(uri) => format!("URI:{uri}"),
        GeneralName::IpAddress(octets) => match *octets.as_bytes() {
            [a, b, c, d] => format!("IP:{}", std::net::Ipv4Addr::new(a, b, c, d)),
            ref longer => match <[u8; 16]>::try_from(longer) {
                Ok(octets) => format!("IP:{}", std::net::Ipv6Addr::from(octets)),
                Err(_) => "IP:?".to_owned(),
            },
        },
        GeneralName::Rfc822Name(mail) => format!("email:{mail}"),
        GeneralName::DirectoryName(name) => format!("dir:{name}"),
        GeneralName::OtherName(other) => format!("other:{}", other.type_id),
        GeneralName::RegisteredId(oid) => format!("oid:{oid}"),
        GeneralName::EdiPartyName(_) => "edi".to_owned(),
    }
}
