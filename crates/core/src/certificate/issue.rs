//! Issuing: what a certificate says is put together here, from the ward's record alone, and signed.

use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::{
    ID_CE_AUTHORITY_KEY_IDENTIFIER, ID_CE_BASIC_CONSTRAINTS, ID_CE_CRL_DISTRIBUTION_POINTS, ID_CE_EXT_KEY_USAGE,
    ID_CE_KEY_USAGE, ID_CE_NAME_CONSTRAINTS, ID_CE_SUBJECT_ALT_NAME, ID_CE_SUBJECT_KEY_IDENTIFIER, ID_KP_CLIENT_AUTH,
    ID_KP_SERVER_AUTH, ID_PE_AUTHORITY_INFO_ACCESS,
};

use der::Encode;

use super::constraint::Constraints;
use super::{AltName, Certificate, Fingerprint, SerialNumber, Subject};
use crate::asn1;
use crate::key::{ProvenKey, PublicKey, SignError, Signer};
use crate::time::{Span, UnixTime};

/// How far notBefore lies back, so that a device whose clock is slow can use its certificate at once.
const SET_BACK: Span = Span::from_seconds(600);

/// id-ad-caIssuers (RFC 5280 section 4.2.2.1).
const ID_AD_CA_ISSUERS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.2");

/// keyUsage bits (RFC 5280 section 4.2.1.3).
/// The purpose of signing documents (RFC 9336 section 3).
pub(super) const ID_KP_DOCUMENT: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.36");

/// The purpose of signing JWTs (RFC 9509 section 3).
pub(super) const ID_KP_JWT: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.37");

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
    /// A key that signs errands: id-kp-jwt (RFC 9509), and nothing that anything else has.
    Errands,
    /// A key that signs ownership vouchers: id-kp-documentSigning (RFC 9336), and nothing that anything else has.
    Vouchers,
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
    /// Where the issuer's CRL and certificate are published.
    pub places: Places<'a>,
}

/// Where an authority's files are published, as its certificates say; an empty text is no place, and none is named then.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Places<'a> {
    /// The URL of its CRL (RFC 5280 section 4.2.1.13).
    pub crl: &'a str,
    /// The URL of its certificate in DER (id-ad-caIssuers, RFC 5280 section 4.2.2.1).
    pub authority: &'a str,
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
    /// What is to be renewed is no server's certificate.
    #[error("the certificate is not that of a server")]
    NoServer,
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
    /// authorityKeyIdentifier, cRLDistributionPoints, authorityInfoAccess.
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
        places: Places<'_>,
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
        let tail = tail(above.subject_key_id.as_deref(), &above.public_key, places);
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
        let names: Vec<u8> = names.iter().flat_map(AltName::to_der).collect();
        self.sign_parts(serial, subject.der(), key, &names)
    }

    /// Signs one for a subject in DER and names in DER, one after another.
    fn sign_parts(
        &self,
        serial: &SerialNumber,
        subject: &[u8],
        key: &ProvenKey,
        names: &[u8],
    ) -> Result<Fresh, SignError> {
        let key = key.public_key();
        let mut extensions = Vec::with_capacity(512);
        extensions.extend_from_slice(&self.head);
        push(&mut extensions, ID_CE_SUBJECT_KEY_IDENTIFIER, false, &asn1::octet_string(&key.key_id()));
        extensions.extend_from_slice(&self.tail);
        if !names.is_empty() {
            push(&mut extensions, ID_CE_SUBJECT_ALT_NAME, false, &asn1::sequence(&[names]));
        }
        let tbs = asn1::sequence(&[
            &VERSION_3,
            &asn1::unsigned(serial.octets()),
            &self.algorithm,
            self.issuer_name,
            &self.validity,
            subject,
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
        let form = Form::new(issuer, self.usage, self.now, self.life, self.places)?;
        Ok(Issued { certificate: self.sign(&form)?, clipped: form.clipped })
    }

    fn sign(&self, form: &Form<'_>) -> Result<Certificate, IssueError> {
        let fresh = form.sign(&self.serial, self.subject, self.key, self.names)?;
        Ok(Certificate::from_der(&fresh.der)?)
    }
}

/// The next certificate of a server, or of the key that signs errands: for the same key, whose holder showed it for `current`, under the same subject and
/// the same names, whoever signed `current`.
///
/// # Errors
/// `current` is no server's, or the issuer cannot sign the next.
pub fn renewed_server(
    current: &Certificate,
    serial: SerialNumber,
    (now, life): (UnixTime, Span),
    places: Places<'_>,
    issuer: Issuer<'_>,
) -> Result<Issued, IssueError> {
    let usage = match current.extended_key_usage.as_deref() {
        Some([ID_KP_SERVER_AUTH]) => Usage::Server,
        Some([ID_KP_JWT]) => Usage::Errands,
        Some([ID_KP_DOCUMENT]) => Usage::Vouchers,
        _ => return Err(IssueError::NoServer),
    };
    let form = Form::new(issuer, usage, now, life, places)?;
    let mut names = Vec::new();
    for name in &current.names {
        names.extend(name.to_der().map_err(|_| super::BadCertificate::Malformed)?);
    }
    let key = ProvenKey::after_proof(current.public_key.clone());
    let fresh = form.sign_parts(&serial, &current.subject, &key, &names)?;
    Ok(Issued { certificate: Certificate::from_der(&fresh.der)?, clipped: form.clipped })
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
        Usage::Client | Usage::Server | Usage::ClientAndServer | Usage::Errands | Usage::Vouchers => {
            (asn1::sequence(&[]), &[DIGITAL_SIGNATURE])
        }
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
        Usage::Errands => &[ID_KP_JWT],
        Usage::Vouchers => &[ID_KP_DOCUMENT],
    };
    if !purposes.is_empty() {
        let purposes: Vec<u8> = purposes.iter().flat_map(|purpose| asn1::oid(*purpose)).collect();
        push(&mut out, ID_CE_EXT_KEY_USAGE, false, &asn1::sequence(&[&purposes]));
    }
    out
}

/// Section 4.2.1.1: the key identifier is the issuer's subject key identifier, whichever way that was made.
fn tail(issuer_key_id: Option<&[u8]>, issuer_key: &PublicKey, places: Places<'_>) -> Vec<u8> {
    let mut out = Vec::with_capacity(150);
    let own = issuer_key.key_id();
    let id = asn1::sequence(&[&asn1::context_primitive(0, issuer_key_id.unwrap_or(&own))]);
    push(&mut out, ID_CE_AUTHORITY_KEY_IDENTIFIER, false, &id);
    // Where nobody publishes lists, none is promised.
    if !places.crl.is_empty() {
        push(&mut out, ID_CE_CRL_DISTRIBUTION_POINTS, false, &distribution_point(places.crl));
    }
    if !places.authority.is_empty() {
        // Section 4.2.2.1: never critical.
        push(&mut out, ID_PE_AUTHORITY_INFO_ACCESS, false, &information_access(places.authority));
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

/// AuthorityInfoAccessSyntax with the place of the issuer's certificate (RFC 5280 section 4.2.2.1).
fn information_access(url: &str) -> Vec<u8> {
    let uri = asn1::context_primitive(6, url.as_bytes());
    asn1::sequence(&[&asn1::sequence(&[&asn1::oid(ID_AD_CA_ISSUERS), &uri])])
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
            places: Places {
                crl: "http://localhost:8080/crl/devices.crl",
                authority: "http://localhost:8080/ca/devices.cer",
            },
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

    /// A root, which signs what stands right below it.
    pub(crate) struct Root {
        pub(crate) root: Certificate,
        key: SoftwareKey,
    }

    impl Root {
        pub(crate) fn new() -> Self {
            let (root, key) = root();
            Self { root, key }
        }

        /// A certificate that is good for one use, for a year.
        pub(crate) fn sign(&self, key: &SoftwareKey, usage: Usage<'_>) -> Certificate {
            issue(&key.proven(), "signer", usage, 365, Issuer { certificate: &self.root, signer: &self.key })
        }
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
        let has = |text: &str| certificate.der().windows(text.len()).any(|octets| octets == text.as_bytes());
        assert!(has("http://localhost:8080/crl/devices.crl") && has("http://localhost:8080/ca/devices.cer"));
        assert!(certificate.is_signed_by(ward.key.public_key()));
        assert!(!certificate.is_signed_by(&ward.root.public_key));
    }

    #[test]
    fn a_server_gets_the_next_certificate_for_the_same_key_and_names_and_nothing_else_does() {
        let (ward, other) = (ward(), ward());
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let subject = Subject::of("Quillfeather", "guard");
        let names = ["localhost", "127.0.0.1", "::1"].map(|host| AltName::host(host).unwrap());
        let proven = key.proven();
        let first = template(&proven, &subject, &names, Usage::Server, 700);
        let first = first.issue(Issuer { certificate: &ward.issuing, signer: &ward.key }).unwrap().certificate;
        let later = NOW.plus(Span::from_days(500));
        let renew = |current: &Certificate, ward: &Ward, days: u32| {
            let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
            let serial = SerialNumber::new(later, &mut Counted(7));
            renewed_server(current, serial, (later, Span::from_days(days)), Places::default(), issuer)
        };
        // Also by another authority than that of before.
        for ward in [&ward, &other] {
            let next = renew(&first, ward, 700).unwrap().certificate;
            assert_eq!((&next.public_key, &next.subject), (&first.public_key, &first.subject));
            assert_eq!(next.alternative_names(), first.alternative_names());
            assert_eq!(next.extended_key_usage, first.extended_key_usage);
            assert_eq!(
                (next.not_after, next.issuer.clone()),
                (later.plus(Span::from_days(700)), ward.issuing.subject.clone())
            );
            assert!(next.serial != first.serial && next.is_signed_by(ward.key.public_key()));
        }
        assert!(renew(&first, &ward, 9000).unwrap().clipped);
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        for usage in [Usage::Client, Usage::ClientAndServer, Usage::ISSUING] {
            let device = issue(&key.proven(), "wv-0417", usage, 398, issuer);
            assert_eq!(renew(&device, &ward, 700), Err(IssueError::NoServer), "{usage:?}");
        }
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
