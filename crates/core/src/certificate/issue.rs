//! Issuing: what a certificate says is put together here, from the ward's record alone, and signed.

use std::net::IpAddr;

use const_oid::ObjectIdentifier;
use const_oid::db::rfc4519::{COMMON_NAME, ORGANIZATION_NAME};
use const_oid::db::rfc5280::{
    ID_CE_AUTHORITY_KEY_IDENTIFIER, ID_CE_BASIC_CONSTRAINTS, ID_CE_CRL_DISTRIBUTION_POINTS, ID_CE_EXT_KEY_USAGE,
    ID_CE_KEY_USAGE, ID_CE_SUBJECT_ALT_NAME, ID_CE_SUBJECT_KEY_IDENTIFIER, ID_KP_CLIENT_AUTH, ID_KP_SERVER_AUTH,
};

use super::{Certificate, SerialNumber};
use crate::asn1;
use crate::fact::{Fact, FactName};
use crate::id::{DeviceId, uuid_urn};
use crate::key::{ProvenKey, PublicKey, SignError, Signer, sha256};
use crate::time::{Span, UnixTime};

/// How far notBefore lies back, so that a device whose clock is slow can use its certificate at once.
const SET_BACK: Span = Span::from_seconds(600);

/// keyUsage bits (RFC 5280 section 4.2.1.3).
const DIGITAL_SIGNATURE: u8 = 0;
const KEY_CERT_SIGN: u8 = 5;
const CRL_SIGN: u8 = 6;

/// The subject of a certificate: organisation and common name, each at most 64 characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Subject<'a> {
    /// `O`: the ward's name.
    pub organization: &'a str,
    /// `CN`.
    pub common_name: &'a str,
}

impl Subject<'_> {
    /// The Name in DER.
    #[must_use]
    pub fn to_der(&self) -> Vec<u8> {
        let attribute = |oid: ObjectIdentifier, text: &str| {
            asn1::set_of_one(&asn1::sequence(&[&asn1::oid(oid), &asn1::utf8(text)]))
        };
        asn1::sequence(&[&attribute(ORGANIZATION_NAME, self.organization), &attribute(COMMON_NAME, self.common_name)])
    }
}

/// What a certificate may be used for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Usage<'a> {
    /// A certificate authority.
    Authority {
        /// How many authorities may stand below it; `None` for no limit.
        path_length: Option<u8>,
    },
    /// A device or service that connects: clientAuth.
    Client {
        /// Its `urn:dev:` name.
        name: &'a DeviceName,
    },
    /// The guard or the desk: serverAuth.
    Server {
        /// Host names and IP addresses that clients reach it by.
        hosts: &'a [String],
    },
}

/// The name of a device in a certificate's SAN, a URN (RFC 9039 or RFC 9562).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceName {
    /// The URN.
    pub urn: String,
    /// Whether it had to be made up, because the ward has no enterprise number and the device no known MAC address.
    pub made_up: bool,
}

/// The URN of a device: `urn:dev:org:` with the ward's enterprise number (RFC 9039 section 4.3), else `urn:dev:mac:`
/// if the MAC is known (section 4.1: a MAC-48 becomes an EUI-64 by `ffff` in its middle), else a `urn:uuid:` (version
/// 8, RFC 9562 section 5.8) made from the ward's and the device's names, so that it never changes.
#[must_use]
pub fn device_names(ward: &str, enterprise_number: Option<u32>, device: &DeviceId, facts: &[Fact]) -> DeviceName {
    if let Some(number) = enterprise_number {
        return DeviceName { urn: format!("urn:dev:org:{number}-{device}"), made_up: false };
    }
    if let Some(mac) = facts.iter().find(|fact| *fact.name() == FactName::Mac) {
        let digits: String = mac.value().chars().filter(|c| *c != ':').collect();
        let (maker, rest) = digits.split_at(6);
        return DeviceName { urn: format!("urn:dev:mac:{maker}ffff{rest}"), made_up: false };
    }
    let mut octets = [0u8; 16];
    octets.copy_from_slice(&sha256(format!("{ward}\0{device}").as_bytes())[..16]);
    DeviceName { urn: uuid_urn(octets, 8), made_up: true }
}

/// All that a certificate is to say, except what its issuer adds.
#[derive(Debug, Clone)]
pub struct Template<'a> {
    /// Its serial number.
    pub serial: SerialNumber,
    /// Whose it is.
    pub subject: Subject<'a>,
    /// The key; its holder has proved possession.
    pub key: &'a ProvenKey,
    /// The moment of issue; notBefore is set back from it.
    pub now: UnixTime,
    /// How long it should last from `now`; clipped to the issuer's end.
    pub life: Span,
    /// What it is for.
    pub usage: Usage<'a>,
    /// Where the issuer publishes its CRL.
    pub crl_url: &'a str,
}

/// Who signs.
#[derive(Clone, Copy)]
pub struct Issuer<'a> {
    /// Its certificate.
    pub certificate: &'a Certificate,
    /// Its key.
    pub signer: &'a dyn Signer,
}

/// A certificate just signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Issued {
    /// The certificate.
    pub certificate: Certificate,
    /// Whether its end was clipped to the issuer's.
    pub clipped: bool,
}

/// Why nothing was issued.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum IssueError {
    /// The issuer's certificate and key do not belong together.
    #[error("the authority's key does not belong to its certificate")]
    KeyMismatch,
    /// The issuer is not valid now, or ends too soon for anything below it.
    #[error("the authority is valid from {from} to {to}, and it is {now}")]
    IssuerNotValid {
        /// Its first second.
        from: UnixTime,
        /// Its last second.
        to: UnixTime,
        /// The moment of issue.
        now: UnixTime,
    },
    /// A host that is neither a name nor an address.
    #[error("`{0}` is not a host name")]
    Host(String),
    /// The signer failed.
    #[error(transparent)]
    Sign(#[from] SignError),
    /// What was signed does not read back: a mistake of ours, and nothing leaves the house.
    #[error("the new certificate does not read back: {0}")]
    ReadBack(#[from] super::BadCertificate),
}

impl Template<'_> {
    /// Signs the certificate under `issuer`.
    ///
    /// # Errors
    /// The issuer cannot sign it.
    pub fn issue(&self, issuer: Issuer<'_>) -> Result<Issued, IssueError> {
        let above = issuer.certificate;
        if above.public_key != *issuer.signer.public_key() {
            return Err(IssueError::KeyMismatch);
        }
        let wanted = self.now.plus(self.life);
        let not_after = wanted.min(above.not_after);
        if self.now < above.not_before || not_after <= self.now {
            return Err(IssueError::IssuerNotValid { from: above.not_before, to: above.not_after, now: self.now });
        }
        let not_before = self.now.minus(SET_BACK).max(above.not_before);
        let certificate = self.sign(issuer.signer, &above.subject, Some(&above.public_key), not_before, not_after)?;
        Ok(Issued { certificate, clipped: not_after < wanted })
    }

    fn sign(
        &self,
        signer: &dyn Signer,
        issuer_name: &[u8],
        issuer_key: Option<&PublicKey>,
        not_before: UnixTime,
        not_after: UnixTime,
    ) -> Result<Certificate, IssueError> {
        let algorithm = signer.algorithm();
        let tbs = asn1::sequence(&[
            &asn1::context_constructed(0, &asn1::unsigned(&[2])), // version 3
            &asn1::unsigned(self.serial.octets()),
            &algorithm,
            issuer_name,
            &asn1::sequence(&[&asn1::time(not_before), &asn1::time(not_after)]),
            &self.subject.to_der(),
            self.key.public_key().spki(),
            &asn1::context_constructed(3, &asn1::sequence(&[&self.extensions(issuer_key)?])),
        ]);
        let signature = signer.sign(&tbs)?;
        let der_bytes = asn1::sequence(&[&tbs, &algorithm, &asn1::bit_string(&signature)]);
        Ok(Certificate::from_der(&der_bytes)?)
    }

    fn extensions(&self, issuer_key: Option<&PublicKey>) -> Result<Vec<u8>, IssueError> {
        let own_key = self.key.public_key();
        let mut out = Vec::with_capacity(400);
        let basic = match &self.usage {
            Usage::Authority { path_length } => {
                let limit = path_length.map(|limit| asn1::unsigned(&[limit])).unwrap_or_default();
                asn1::sequence(&[&asn1::boolean_true(), &limit])
            }
            Usage::Client { .. } | Usage::Server { .. } => asn1::sequence(&[]),
        };
        push(&mut out, ID_CE_BASIC_CONSTRAINTS, true, &basic);
        let bits: &[u8] = match self.usage {
            Usage::Authority { .. } => &[KEY_CERT_SIGN, CRL_SIGN],
            Usage::Client { .. } | Usage::Server { .. } => &[DIGITAL_SIGNATURE],
        };
        push(&mut out, ID_CE_KEY_USAGE, true, &asn1::named_bits(bits));
        let purpose = match self.usage {
            Usage::Authority { .. } => None,
            Usage::Client { .. } => Some(ID_KP_CLIENT_AUTH),
            Usage::Server { .. } => Some(ID_KP_SERVER_AUTH),
        };
        if let Some(purpose) = purpose {
            push(&mut out, ID_CE_EXT_KEY_USAGE, false, &asn1::sequence(&[&asn1::oid(purpose)]));
        }
        push(&mut out, ID_CE_SUBJECT_KEY_IDENTIFIER, false, &asn1::octet_string(&own_key.key_id()));
        if let Some(key) = issuer_key {
            let id = asn1::sequence(&[&asn1::context_primitive(0, &key.key_id())]);
            push(&mut out, ID_CE_AUTHORITY_KEY_IDENTIFIER, false, &id);
            push(&mut out, ID_CE_CRL_DISTRIBUTION_POINTS, false, &distribution_point(self.crl_url));
        }
        let names = match &self.usage {
            Usage::Authority { .. } => Vec::new(),
            Usage::Client { name } => asn1::context_primitive(6, name.urn.as_bytes()),
            Usage::Server { hosts } => {
                let mut names = Vec::new();
                for host in *hosts {
                    names.extend(host_name(host)?);
                }
                names
            }
        };
        if !names.is_empty() {
            push(&mut out, ID_CE_SUBJECT_ALT_NAME, false, &asn1::sequence(&[&names]));
        }
        Ok(out)
    }
}

/// A root: an authority that signs itself.
///
/// # Errors
/// The key cannot sign.
pub fn self_signed(template: &Template<'_>, signer: &dyn Signer) -> Result<Certificate, IssueError> {
    if template.key.public_key() != signer.public_key() {
        return Err(IssueError::KeyMismatch);
    }
    let (from, to) = (template.now.minus(SET_BACK), template.now.plus(template.life));
    template.sign(signer, &template.subject.to_der(), None, from, to)
}

fn push(out: &mut Vec<u8>, oid: ObjectIdentifier, critical: bool, value: &[u8]) {
    let flag = if critical { asn1::boolean_true() } else { Vec::new() };
    out.extend(asn1::sequence(&[&asn1::oid(oid), &flag, &asn1::octet_string(value)]));
}

/// CRLDistributionPoints with one URI (RFC 5280 section 4.2.1.13).
fn distribution_point(url: &str) -> Vec<u8> {
    let uri = asn1::context_primitive(6, url.as_bytes());
    let full_name = asn1::context_constructed(0, &uri);
    asn1::sequence(&[&asn1::sequence(&[&asn1::context_constructed(0, &full_name)])])
}

/// dNSName or iPAddress (RFC 5280 section 4.2.1.6).
fn host_name(host: &str) -> Result<Vec<u8>, IssueError> {
    match host.parse::<IpAddr>() {
        Ok(IpAddr::V4(address)) => Ok(asn1::context_primitive(7, &address.octets())),
        Ok(IpAddr::V6(address)) => Ok(asn1::context_primitive(7, &address.octets())),
        Err(_) if crate::settings::check_host(host) => Ok(asn1::context_primitive(2, host.as_bytes())),
        Err(_) => Err(IssueError::Host(host.to_owned())),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::key::{NewKey, SoftwareKey};
    use crate::random::Counted;

    pub(crate) const NOW: UnixTime = UnixTime(1_795_417_333);

    pub(crate) struct Ward {
        pub(crate) root: Certificate,
        pub(crate) issuing: Certificate,
        pub(crate) key: SoftwareKey,
    }

    pub(crate) fn template<'a>(key: &'a ProvenKey, name: &'a str, usage: Usage<'a>, days: u32) -> Template<'a> {
        Template {
            serial: SerialNumber::new(NOW, &mut Counted(u64::from(days))),
            subject: Subject { organization: "Quillfeather", common_name: name },
            key,
            now: NOW,
            life: Span::from_days(days),
            usage,
            crl_url: "http://localhost:8080/crl/devices.crl",
        }
    }

    pub(crate) fn ward() -> Ward {
        let root_key = SoftwareKey::generate(NewKey::P256).unwrap();
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let proven = root_key.proven();
        let usage = Usage::Authority { path_length: None };
        let root = self_signed(&template(&proven, "root", usage, 7000), &root_key).unwrap();
        let proven = key.proven();
        let usage = Usage::Authority { path_length: Some(0) };
        let above = Issuer { certificate: &root, signer: &root_key };
        let issuing = template(&proven, "devices", usage, 3000).issue(above).unwrap().certificate;
        Ward { root, issuing, key }
    }

    #[test]
    fn a_device_certificate_says_what_it_should() {
        let ward = ward();
        let key = SoftwareKey::generate(NewKey::Ed25519).unwrap().proven();
        let name = device_names("q", Some(32473), &"wv-0417".parse().unwrap(), &[]);
        let template = template(&key, "wv-0417", Usage::Client { name: &name }, 398);
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let Issued { certificate, clipped } = template.issue(issuer).unwrap();
        assert!(!clipped);
        assert_eq!(certificate.not_before, NOW.minus(Span::from_seconds(600)));
        assert_eq!(certificate.not_after, NOW.plus(Span::from_days(398)));
        assert_eq!(certificate.alternative_names, ["URI:urn:dev:org:32473-wv-0417"]);
        assert_eq!(certificate.basic_constraints.as_ref().map(|basic| basic.ca), Some(false));
        assert_eq!(certificate.extended_key_usage.as_deref(), Some(&[ID_KP_CLIENT_AUTH][..]));
        assert_eq!(certificate.authority_key_id, ward.issuing.subject_key_id);
        assert_eq!(certificate.unknown_critical, []);
        assert!(certificate.is_signed_by(ward.key.public_key()));
        assert!(!certificate.is_signed_by(&ward.root.public_key));
    }

    #[test]
    fn the_end_is_clipped_to_the_issuers_and_a_dead_issuer_signs_nothing() {
        let ward = ward();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let name = device_names("q", None, &"wv-1".parse().unwrap(), &[]);
        let mut template = template(&key, "wv-1", Usage::Client { name: &name }, 5000);
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let issued = template.issue(issuer).unwrap();
        assert!(issued.clipped);
        assert_eq!(issued.certificate.not_after, ward.issuing.not_after);
        template.now = ward.issuing.not_after;
        assert!(matches!(template.issue(issuer), Err(IssueError::IssuerNotValid { .. })));
        let other = SoftwareKey::generate(NewKey::P256).unwrap();
        let wrong = Issuer { certificate: &ward.issuing, signer: &other };
        assert_eq!(template.issue(wrong), Err(IssueError::KeyMismatch));
    }

    #[test]
    fn names_follow_rfc_9039() {
        let id: DeviceId = "wv-1".parse().unwrap();
        let mac = [Fact::new(FactName::Mac, "00-24-be-80-4f-f1").unwrap()];
        assert_eq!(device_names("q", Some(32473), &id, &mac).urn, "urn:dev:org:32473-wv-1");
        // The example of RFC 9039 section 4.1.
        assert_eq!(device_names("q", None, &id, &mac).urn, "urn:dev:mac:0024beffff804ff1");
        let made_up = device_names("q", None, &id, &[]);
        assert!(made_up.made_up && made_up.urn.starts_with("urn:uuid:") && made_up.urn.len() == 45, "{made_up:?}");
        assert_eq!(made_up, device_names("q", None, &id, &[]));
        assert_ne!(made_up, device_names("r", None, &id, &[]));
    }

    #[test]
    fn servers_have_names_and_addresses() {
        let ward = ward();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let hosts = ["localhost".to_owned(), "127.0.0.1".to_owned(), "::1".to_owned()];
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let issued = template(&key, "guard", Usage::Server { hosts: &hosts }, 90).issue(issuer).unwrap();
        assert_eq!(issued.certificate.alternative_names, ["DNS:localhost", "IP:127.0.0.1", "IP:::1"]);
        let bad = ["a b".to_owned()];
        assert!(template(&key, "guard", Usage::Server { hosts: &bad }, 90).issue(issuer).is_err());
    }
}
