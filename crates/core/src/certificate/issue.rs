//! Issuing: what a certificate says is put together here, from the ward's record alone, and signed.

use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::{
    ID_CE_AUTHORITY_KEY_IDENTIFIER, ID_CE_BASIC_CONSTRAINTS, ID_CE_CRL_DISTRIBUTION_POINTS, ID_CE_EXT_KEY_USAGE,
    ID_CE_KEY_USAGE, ID_CE_NAME_CONSTRAINTS, ID_CE_SUBJECT_ALT_NAME, ID_CE_SUBJECT_KEY_IDENTIFIER, ID_KP_CLIENT_AUTH,
    ID_KP_SERVER_AUTH,
};

use super::constraint::Constraints;
use super::{AltName, Certificate, Fingerprint, SerialNumber, Subject};
use crate::asn1;
use crate::key::{ProvenKey, PublicKey, SignError, Signer};
use crate::time::{Span, UnixTime};

/// How far notBefore lies back, so that a device whose clock is slow can use its certificate at once.
const SET_BACK: Span = Span::from_seconds(600);

/// keyUsage bits (RFC 5280 section 4.2.1.3).
const DIGITAL_SIGNATURE: u8 = 0;
const KEY_CERT_SIGN: u8 = 5;
const CRL_SIGN: u8 = 6;

/// What a certificate may be used for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Usage<'a> {
    /// A certificate authority.
    Authority {
        /// How many authorities may stand below it; `None` for no limit.
        path_length: Option<u8>,
        /// The names that may stand below it; `None` for no limit.
        constraints: Option<&'a Constraints>,
    },
    /// A device or service that connects: clientAuth.
    Client,
    /// The guard or the desk: serverAuth.
    Server,
    /// A device that connects and is connected to: both.
    ClientAndServer,
}

impl Usage<'_> {
    /// A certificate authority with no limit on what stands below it.
    pub const UNLIMITED: Usage<'static> = Usage::Authority { path_length: None, constraints: None };

    /// An authority that signs no authorities.
    pub const ISSUING: Usage<'static> = Usage::Authority { path_length: Some(0), constraints: None };
}

/// All that a certificate is to say, except what its issuer adds.
#[derive(Debug, Clone)]
pub struct Template<'a> {
    /// Its serial number.
    pub serial: SerialNumber,
    /// Whose it is.
    pub subject: &'a Subject,
    /// Its alternative names.
    pub names: &'a [AltName],
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
    /// The signer failed.
    #[error(transparent)]
    Sign(#[from] SignError),
    /// What was signed does not read back: a mistake of ours, and nothing leaves the house.
    #[error("the new certificate does not read back: {0}")]
    ReadBack(#[from] super::BadCertificate),
}

/// All that the certificates of one authority, purpose and moment have in common, encoded once for as many as are
/// signed from it.
pub struct Form<'a> {
    signer: &'a dyn Signer,
    algorithm: Vec<u8>,
    issuer_name: &'a [u8],
    validity: Vec<u8>,
    /// basicConstraints, keyUsage, extendedKeyUsage.
    head: Vec<u8>,
    /// authorityKeyIdentifier, cRLDistributionPoints.
    tail: Vec<u8>,
    /// The first second of the certificates' validity.
    pub not_before: UnixTime,
    /// Their last second.
    pub not_after: UnixTime,
    /// Whether their end was clipped to the issuer's.
    pub clipped: bool,
}

/// A certificate from a [`Form`], in DER.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fresh {
    /// The certificate.
    pub der: Vec<u8>,
    /// SHA-256 of it.
    pub fingerprint: Fingerprint,
}

impl<'a> Form<'a> {
    /// Certificates that `issuer` signs at `now` to last `life`, clipped to the issuer's end.
    ///
    /// # Errors
    /// The issuer's key is another's, or it cannot issue now.
    pub fn new(
        issuer: Issuer<'a>,
        usage: Usage<'_>,
        now: UnixTime,
        life: Span,
        crl_url: &str,
    ) -> Result<Self, IssueError> {
        let above = issuer.certificate;
        if above.public_key != *issuer.signer.public_key() {
            return Err(IssueError::KeyMismatch);
        }
        let wanted = now.plus(life);
        let not_after = wanted.min(above.not_after);
        if now < above.not_before || not_after <= now {
            return Err(IssueError::IssuerNotValid { from: above.not_before, to: above.not_after, now });
        }
        let not_before = now.minus(SET_BACK).max(above.not_before);
        let tail = tail(above.subject_key_id.as_deref(), &above.public_key, crl_url);
        let validity = (not_before, not_after);
        Ok(Self { clipped: not_after < wanted, ..Self::assemble(issuer.signer, &above.subject, usage, validity, tail) })
    }

    fn assemble(
        signer: &'a dyn Signer,
        issuer_name: &'a [u8],
        usage: Usage<'_>,
        (not_before, not_after): (UnixTime, UnixTime),
        tail: Vec<u8>,
    ) -> Self {
        Self {
            signer,
            algorithm: signer.algorithm(),
            issuer_name,
            validity: asn1::sequence(&[&asn1::time(not_before), &asn1::time(not_after)]),
            head: head(usage),
            tail,
            not_before,
            not_after,
            clipped: false,
        }
    }

    /// Signs one. It is not read back; [`Template::issue`] does that.
    ///
    /// # Errors
    /// The signer fails.
    pub fn sign(
        &self,
        serial: &SerialNumber,
        subject: &Subject,
        key: &ProvenKey,
        names: &[AltName],
    ) -> Result<Fresh, SignError> {
        let key = key.public_key();
        let mut extensions = Vec::with_capacity(512);
        extensions.extend_from_slice(&self.head);
        push(&mut extensions, ID_CE_SUBJECT_KEY_IDENTIFIER, false, &asn1::octet_string(&key.key_id()));
        extensions.extend_from_slice(&self.tail);
        if !names.is_empty() {
            let names: Vec<u8> = names.iter().flat_map(AltName::to_der).collect();
            push(&mut extensions, ID_CE_SUBJECT_ALT_NAME, false, &asn1::sequence(&[&names]));
        }
        let tbs = asn1::sequence(&[
            &VERSION_3,
            &asn1::unsigned(serial.octets()),
            &self.algorithm,
            self.issuer_name,
            &self.validity,
            subject.der(),
            key.spki(),
            &asn1::context_constructed(3, &asn1::sequence(&[&extensions])),
        ]);
        let signature = self.signer.sign(&tbs)?;
        let der = asn1::sequence(&[&tbs, &self.algorithm, &asn1::bit_string(&signature)]);
        Ok(Fresh { fingerprint: Fingerprint::of(&der), der })
    }
}

/// `[0] EXPLICIT INTEGER 2`.
const VERSION_3: [u8; 5] = [0xa0, 3, 2, 1, 2];

impl Template<'_> {
    /// Signs the certificate under `issuer`.
    ///
    /// # Errors
    /// The issuer cannot sign it.
    pub fn issue(&self, issuer: Issuer<'_>) -> Result<Issued, IssueError> {
        let form = Form::new(issuer, self.usage, self.now, self.life, self.crl_url)?;
        Ok(Issued { certificate: self.sign(&form)?, clipped: form.clipped })
    }

    fn sign(&self, form: &Form<'_>) -> Result<Certificate, IssueError> {
        let fresh = form.sign(&self.serial, self.subject, self.key, self.names)?;
        Ok(Certificate::from_der(&fresh.der)?)
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
    let validity = (template.now.minus(SET_BACK), template.now.plus(template.life));
    template.sign(&Form::assemble(signer, template.subject.der(), template.usage, validity, Vec::new()))
}

fn head(usage: Usage<'_>) -> Vec<u8> {
    let mut out = Vec::with_capacity(100);
    let (basic, bits): (Vec<u8>, &[u8]) = match usage {
        Usage::Authority { path_length, .. } => {
            let limit = path_length.map(|limit| asn1::unsigned(&[limit])).unwrap_or_default();
            (asn1::sequence(&[&asn1::boolean_true(), &limit]), &[KEY_CERT_SIGN, CRL_SIGN])
        }
        Usage::Client | Usage::Server | Usage::ClientAndServer => (asn1::sequence(&[]), &[DIGITAL_SIGNATURE]),
    };
    push(&mut out, ID_CE_BASIC_CONSTRAINTS, true, &basic);
    push(&mut out, ID_CE_KEY_USAGE, true, &asn1::named_bits(bits));
    if let Usage::Authority { constraints: Some(constraints), .. } = usage {
        // Section 4.2.1.10: always critical.
        push(&mut out, ID_CE_NAME_CONSTRAINTS, true, &constraints.to_der());
    }
    let purposes: &[ObjectIdentifier] = match usage {
        Usage::Authority { .. } => &[],
        Usage::Client => &[ID_KP_CLIENT_AUTH],
        Usage::Server => &[ID_KP_SERVER_AUTH],
        Usage::ClientAndServer => &[ID_KP_CLIENT_AUTH, ID_KP_SERVER_AUTH],
    };
    if !purposes.is_empty() {
        let purposes: Vec<u8> = purposes.iter().flat_map(|purpose| asn1::oid(*purpose)).collect();
        push(&mut out, ID_CE_EXT_KEY_USAGE, false, &asn1::sequence(&[&purposes]));
    }
    out
}

/// Section 4.2.1.1: the key identifier is the issuer's subject key identifier, whichever way that was made.
fn tail(issuer_key_id: Option<&[u8]>, issuer_key: &PublicKey, crl_url: &str) -> Vec<u8> {
    let mut out = Vec::with_capacity(150);
    let own = issuer_key.key_id();
    let id = asn1::sequence(&[&asn1::context_primitive(0, issuer_key_id.unwrap_or(&own))]);
    push(&mut out, ID_CE_AUTHORITY_KEY_IDENTIFIER, false, &id);
    // Where nobody publishes lists, none is promised.
    if !crl_url.is_empty() {
        push(&mut out, ID_CE_CRL_DISTRIBUTION_POINTS, false, &distribution_point(crl_url));
    }
    out
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

    /// A client's certificate is named by the common name, as in a ward with an enterprise number.
    pub(crate) fn issue(
        key: &ProvenKey,
        common_name: &str,
        usage: Usage<'_>,
        days: u32,
        issuer: Issuer<'_>,
    ) -> Certificate {
        let subject = Subject::of("Quillfeather", common_name);
        let names = [AltName::Uri(format!("urn:dev:org:32473-{common_name}"))];
        let names: &[AltName] = if matches!(usage, Usage::Authority { .. }) { &[] } else { &names };
        template(key, &subject, names, usage, days).issue(issuer).unwrap().certificate
    }

    pub(crate) fn template<'a>(
        key: &'a ProvenKey,
        subject: &'a Subject,
        names: &'a [AltName],
        usage: Usage<'a>,
        days: u32,
    ) -> Template<'a> {
        Template {
            serial: SerialNumber::new(NOW, &mut Counted(u64::from(days))),
            subject,
            names,
            key,
            now: NOW,
            life: Span::from_days(days),
            usage,
            crl_url: "http://localhost:8080/crl/devices.crl",
        }
    }

    pub(crate) fn self_signed_by(key: &SoftwareKey, common_name: &str, days: u32) -> Certificate {
        let subject = Subject::of("Quillfeather", common_name);
        self_signed(&template(&key.proven(), &subject, &[], Usage::UNLIMITED, days), key).unwrap()
    }

    pub(crate) fn root() -> (Certificate, SoftwareKey) {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        (self_signed_by(&key, "root", 7000), key)
    }

    pub(crate) fn ward_with_root_key() -> (Ward, SoftwareKey) {
        let (root, root_key) = root();
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let above = Issuer { certificate: &root, signer: &root_key };
        let issuing = issue(&key.proven(), "devices", Usage::ISSUING, 3000, above);
        (Ward { root, issuing, key }, root_key)
    }

    pub(crate) fn ward() -> Ward {
        ward_with_root_key().0
    }

    #[test]
    fn a_device_certificate_says_what_it_should() {
        let ward = ward();
        let key = SoftwareKey::generate(NewKey::Ed25519).unwrap().proven();
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let certificate = issue(&key, "wv-0417", Usage::Client, 398, issuer);
        assert_eq!(certificate.not_before, NOW.minus(Span::from_seconds(600)));
        assert_eq!(certificate.not_after, NOW.plus(Span::from_days(398)));
        assert_eq!(certificate.alternative_names(), ["URI:urn:dev:org:32473-wv-0417"]);
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
        let subject = Subject::of("q", "wv-1");
        let mut template = template(&key, &subject, &[], Usage::Client, 5000);
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
    fn every_form_of_name_reads_back() {
        let ward = ward();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let mut names: Vec<AltName> =
            ["localhost", "127.0.0.1", "::1"].iter().filter_map(|host| AltName::host(host)).collect();
        let hardware_type = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.32473.1");
        names.push(AltName::HardwareModule { hardware_type, serial: "QF-1".to_owned() });
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let subject = Subject::of("q", "guard");
        let issued = template(&key, &subject, &names, Usage::Server, 90).issue(issuer).unwrap();
        let texts = issued.certificate.alternative_names();
        assert_eq!(texts, ["DNS:localhost", "IP:127.0.0.1", "IP:::1", "hardware:1.3.6.1.4.1.32473.1 QF-1"]);
        assert_eq!(AltName::host("a b"), None);
    }
}
