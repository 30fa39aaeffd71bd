//! Certificate revocation lists (RFC 5280 section 5).

mod read;

use std::fmt;

use const_oid::db::rfc5280::{ID_CE_AUTHORITY_KEY_IDENTIFIER, ID_CE_CRL_NUMBER, ID_CE_CRL_REASONS};

use crate::asn1;
use crate::certificate::{Issuer, SerialNumber};
use crate::key::SignError;
use crate::time::UnixTime;

pub use read::{BadCrl, Crl, Listed};

/// Why a certificate was revoked (RFC 5280 section 5.3.1). Only reasons that fit a device's certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Reason {
    /// No reason given; left out of the CRL entry, as the standard asks.
    Unspecified,
    /// The private key is, or may be, in other hands.
    KeyCompromise,
    /// The device belongs to another organisation now.
    AffiliationChanged,
    /// A newer certificate took its place.
    Superseded,
    /// The device is no longer in use.
    CessationOfOperation,
    /// Not revoked but suspended: the device is on hold.
    CertificateHold,
    /// A right that the certificate stood for was taken back.
    PrivilegeWithdrawn,
}

impl Reason {
    /// All of them, in the order of their codes.
    pub const ALL: [Self; 7] = [
        Self::Unspecified,
        Self::KeyCompromise,
        Self::AffiliationChanged,
        Self::Superseded,
        Self::CessationOfOperation,
        Self::CertificateHold,
        Self::PrivilegeWithdrawn,
    ];

    /// The CRLReason code.
    #[must_use]
    pub fn code(self) -> u8 {
        match self {
            Self::Unspecified => 0,
            Self::KeyCompromise => 1,
            Self::AffiliationChanged => 3,
            Self::Superseded => 4,
            Self::CessationOfOperation => 5,
            Self::CertificateHold => 6,
            Self::PrivilegeWithdrawn => 9,
        }
    }

    /// The reason of a code.
    #[must_use]
    pub fn from_code(code: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|reason| reason.code() == code)
    }

    /// The standard's word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Unspecified => "unspecified",
            Self::KeyCompromise => "keyCompromise",
            Self::AffiliationChanged => "affiliationChanged",
            Self::Superseded => "superseded",
            Self::CessationOfOperation => "cessationOfOperation",
            Self::CertificateHold => "certificateHold",
            Self::PrivilegeWithdrawn => "privilegeWithdrawn",
        }
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// A word that is no reason.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{0}` is not a reason; expected unspecified, keyCompromise, affiliationChanged, superseded, cessationOfOperation or privilegeWithdrawn"
)]
pub struct BadReason(pub String);

impl std::str::FromStr for Reason {
    type Err = BadReason;

    /// The reasons for which a certificate is ended. A hold ends nothing, so it is none of them.
    fn from_str(text: &str) -> Result<Self, BadReason> {
        let ends = |reason: &Self| *reason != Self::CertificateHold && reason.as_str() == text;
        Self::ALL.into_iter().find(ends).ok_or_else(|| BadReason(text.to_owned()))
    }
}

/// One entry of a CRL.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Revoked {
    /// The certificate.
    pub serial: SerialNumber,
    /// Since when.
    pub at: UnixTime,
    /// Why.
    pub reason: Reason,
}

/// Whether a revoked certificate still belongs on the next CRL: until it has stood on one that was issued after its
/// end (RFC 5280 section 3.3).
#[must_use]
pub fn still_listed(not_after: UnixTime, last_crl: Option<UnixTime>) -> bool {
    last_crl.is_none_or(|issued| issued <= not_after)
}

/// What a CRL says beside its entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Heading {
    /// CRL number (section 5.2.3): grows by one with each CRL of an authority.
    pub number: u64,
    /// thisUpdate.
    pub this_update: UnixTime,
    /// nextUpdate.
    pub next_update: UnixTime,
}

/// Signs a version 2 CRL, in DER. Entries stand in the order given.
///
/// # Errors
/// The authority's key cannot sign.
pub fn sign_crl(
    issuer: Issuer<'_>,
    heading: Heading,
    entries: impl IntoIterator<Item = Revoked>,
) -> Result<Vec<u8>, SignError> {
    let mut list = Vec::new();
    for entry in entries {
        let extensions = match entry.reason {
            Reason::Unspecified => Vec::new(),
            reason => asn1::sequence(&[&extension(ID_CE_CRL_REASONS, &asn1::enumerated(reason.code()))]),
        };
        list.extend(asn1::sequence(&[&asn1::unsigned(entry.serial.octets()), &asn1::time(entry.at), &extensions]));
    }
    // Section 5.1.2.6: where nothing is revoked the list must be absent.
    let list = if list.is_empty() { list } else { asn1::sequence(&[&list]) };
    let key_id = asn1::sequence(&[&asn1::context_primitive(0, &issuer.certificate.public_key.key_id())]);
    let extensions = asn1::sequence(&[
        &extension(ID_CE_AUTHORITY_KEY_IDENTIFIER, &key_id),
        &extension(ID_CE_CRL_NUMBER, &asn1::unsigned(&heading.number.to_be_bytes())),
    ]);
    let algorithm = issuer.signer.algorithm();
    let to_be_signed = asn1::sequence(&[
        &asn1::unsigned(&[1]), // version 2
        &algorithm,
        &issuer.certificate.subject,
        &asn1::time(heading.this_update),
        &asn1::time(heading.next_update),
        &list,
        &asn1::context_constructed(0, &extensions),
    ]);
    let signature = issuer.signer.sign(&to_be_signed)?;
    Ok(asn1::sequence(&[&to_be_signed, &algorithm, &asn1::bit_string(&signature)]))
}

fn extension(oid: const_oid::ObjectIdentifier, value: &[u8]) -> Vec<u8> {
    asn1::sequence(&[&asn1::oid(oid), &asn1::octet_string(value)])
}

#[cfg(test)]
mod tests {
    use der::Decode;
    use webpki::RevocationReason;

    use super::*;
    use crate::certificate::tests_support_ward;
    use crate::time::Span;

    const NOW: UnixTime = UnixTime(1_795_417_333);

    fn signed(entries: Vec<Revoked>) -> Vec<u8> {
        let ward = tests_support_ward();
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let heading = Heading { number: 300, this_update: NOW, next_update: NOW.plus(Span::from_days(7)) };
        sign_crl(issuer, heading, entries).unwrap()
    }

    #[test]
    fn a_second_implementation_finds_what_is_listed() {
        let serial = |text: &[u8]| SerialNumber::from_octets(text).unwrap();
        let crl = signed(vec![
            Revoked { serial: serial(&[0x80, 1]), at: NOW, reason: Reason::KeyCompromise },
            Revoked { serial: serial(&[3]), at: NOW, reason: Reason::Unspecified },
        ]);
        let crl = webpki::OwnedCertRevocationList::from_der(&crl).unwrap();
        let crl = webpki::CertRevocationList::from(crl);
        let reason = |text: &[u8]| crl.find_serial(text).unwrap().map(|found| found.reason_code);
        assert!(matches!(reason(&[0, 0x80, 1]), Some(Some(RevocationReason::KeyCompromise))));
        assert!(matches!(reason(&[3]), Some(None)), "unspecified is left out");
        assert!(reason(&[4]).is_none());
    }

    #[test]
    fn a_list_is_read_back_and_judged() {
        let ward = tests_support_ward();
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let later = NOW.plus(Span::from_days(7));
        let heading = Heading { number: 300, this_update: NOW, next_update: later };
        let serial = |text: &[u8]| SerialNumber::from_octets(text).unwrap();
        let entries = vec![
            Revoked { serial: serial(&[0x80, 1]), at: NOW, reason: Reason::KeyCompromise },
            Revoked { serial: serial(&[3]), at: NOW, reason: Reason::Unspecified },
        ];
        let der = sign_crl(issuer, heading, entries).unwrap();
        let crl = Crl::from_der(&der).unwrap();
        assert_eq!((crl.number, crl.len(), crl.is_empty()), (Some(300), 2, false));
        let listed = Listed { at: NOW, reason: Some(Reason::KeyCompromise) };
        assert_eq!(crl.find(&serial(&[0x80, 1])), Some(listed));
        assert_eq!(crl.find(&serial(&[3])), Some(Listed { at: NOW, reason: None }));
        assert_eq!(crl.find(&serial(&[4])), None);
        assert_eq!(crl.judge(&ward.issuing, NOW), Ok(()));
        assert_eq!(crl.judge(&ward.issuing, later), Ok(()));
        let late = later.plus(Span::from_seconds(1));
        assert!(matches!(crl.judge(&ward.issuing, late), Err(BadCrl::Stale { .. })));
        assert_eq!(crl.judge(&ward.root, NOW), Err(BadCrl::Signature));
        for cut in 0..der.len() {
            assert!(Crl::from_der(&der[..cut]).is_err(), "cut at {cut}");
        }
        let pem = asn1::pem("X509 CRL", &der);
        assert_eq!(Crl::read_all(format!("{pem}\n{pem}").as_bytes()).unwrap().len(), 2);
        assert_eq!(Crl::read_all(ward.root.to_pem().as_bytes()), Err(BadCrl::Malformed));
        assert_eq!(Crl::from_der(&signed(Vec::new())).unwrap().len(), 0);
    }

    #[test]
    fn an_empty_list_leaves_the_field_out() {
        let crl = signed(Vec::new());
        let parsed = x509_cert::crl::CertificateList::<x509_cert::certificate::Rfc5280>::from_der(&crl).unwrap();
        assert_eq!(parsed.tbs_cert_list.revoked_certificates, None);
        let extensions = parsed.tbs_cert_list.crl_extensions.unwrap();
        let number = extensions.iter().find(|extension| extension.extn_id == ID_CE_CRL_NUMBER).unwrap();
        assert_eq!(number.extn_value.as_bytes(), [2, 2, 1, 44]);
    }

    #[test]
    fn an_expired_certificate_stands_on_one_more_list() {
        let end = UnixTime(1_000);
        for (last, want) in [(None, true), (Some(999), true), (Some(1_000), true), (Some(1_001), false)] {
            assert_eq!(still_listed(end, last.map(UnixTime)), want, "{last:?}");
        }
    }
}
