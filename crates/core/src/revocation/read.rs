//! Reading a CRL of any authority (RFC 5280 section 5), without building its entries in memory.

use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::{
    ID_CE_AUTHORITY_KEY_IDENTIFIER, ID_CE_CERTIFICATE_ISSUER, ID_CE_CRL_NUMBER, ID_CE_CRL_REASONS,
    ID_CE_DELTA_CRL_INDICATOR, ID_CE_ISSUING_DISTRIBUTION_POINT,
};
use der::asn1::UintRef;
use der::{Decode, Reader, SliceReader, Tag};

use super::Reason;
use crate::asn1::{self, Signed, content};
use crate::certificate::{Certificate, SerialNumber};
use crate::time::UnixTime;

/// Why a CRL is of no use.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadCrl {
    /// Not a CRL.
    #[error("it is not a well-formed CRL")]
    Malformed,
    /// It is not signed by the authority that it names.
    #[error("its signature is not its issuer's")]
    Signature,
    /// Its issuer may not sign CRLs.
    #[error("its issuer's key usage lacks cRLSign")]
    Usage,
    /// It does not cover the moment that was asked about.
    #[error("it is good from {from} to {to}, and it is {now}")]
    Stale {
        /// thisUpdate.
        from: UnixTime,
        /// nextUpdate.
        to: UnixTime,
        /// The moment.
        now: UnixTime,
    },
    /// It covers only a part of what its issuer signed, or has something critical that is not processed.
    #[error("it has the critical extension {oid}, which is not known here")]
    UnknownCritical {
        /// The extension.
        oid: ObjectIdentifier,
    },
}

/// A CRL that was read. Nothing about its trustworthiness is known yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Crl {
    der: Vec<u8>,
    /// The issuer's name in DER.
    pub issuer: Vec<u8>,
    /// thisUpdate.
    pub this_update: UnixTime,
    /// nextUpdate, which RFC 5280 section 5.1.2.5 requires.
    pub next_update: UnixTime,
    /// The CRL number, if it has one of at most 8 octets.
    pub number: Option<u64>,
    /// A critical extension of the list or of one of its entries that is not processed.
    unknown_critical: Option<ObjectIdentifier>,
    /// The content of revokedCertificates.
    entries: Vec<u8>,
}

/// What a CRL says of a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Listed {
    /// Since when it is revoked.
    pub at: UnixTime,
    /// Why, if the list says so and the reason is known here.
    pub reason: Option<Reason>,
}

struct CrlEntry<'d> {
    serial: &'d [u8],
    at: UnixTime,
    reason: Option<Reason>,
    unknown_critical: Option<ObjectIdentifier>,
}

impl Crl {
    /// Reads DER.
    ///
    /// # Errors
    /// It is not a version 2 CRL.
    pub fn from_der(der_bytes: &[u8]) -> Result<Self, BadCrl> {
        let read = || -> Result<Self, der::Error> {
            let parts = Signed::split(der_bytes)?;
            let mut crl = Self {
                der: der_bytes.to_vec(),
                issuer: Vec::new(),
                this_update: UnixTime(0),
                next_update: UnixTime(0),
                number: None,
                unknown_critical: None,
                entries: Vec::new(),
            };
            let mut fields = SliceReader::new(content(parts.to_be_signed, Tag::Sequence)?)?;
            if UintRef::decode(&mut fields)?.as_bytes() != [1] || fields.tlv_bytes()? != parts.algorithm {
                return Err(Tag::Integer.value_error().into());
            }
            crl.issuer = fields.tlv_bytes()?.to_vec();
            crl.this_update = asn1::read_time(&mut fields)?;
            crl.next_update = asn1::read_time(&mut fields)?;
            if fields.peek_byte() == Some(0x30) {
                crl.entries = content(fields.tlv_bytes()?, Tag::Sequence)?.to_vec();
            }
            if fields.peek_byte() == Some(0xa0) {
                let wrapped = fields.tlv_bytes()?;
                crl.read_extensions(content_of(wrapped)?)?;
            }
            fields.finish()?;
            // Every entry must be readable, or a certificate that is listed could hide behind one that is not.
            let mut unknown = None;
            crl.each(&mut |entry| {
                unknown = unknown.or(entry.unknown_critical);
                true
            })?;
            crl.unknown_critical = crl.unknown_critical.or(unknown);
            Ok(crl)
        };
        read().map_err(|_| BadCrl::Malformed)
    }

    /// Reads PEM blocks with the label `X509 CRL`, or one CRL in DER.
    ///
    /// # Errors
    /// Something else, or a CRL that cannot be read.
    pub fn read_all(octets: &[u8]) -> Result<Vec<Self>, BadCrl> {
        let values = asn1::der_values(octets, "X509 CRL").ok_or(BadCrl::Malformed)?;
        values.iter().map(|der_bytes| Self::from_der(der_bytes)).collect()
    }

    fn read_extensions(&mut self, list: &[u8]) -> Result<(), der::Error> {
        for_each(content(list, Tag::Sequence)?, &mut |extension| {
            let (oid, critical, value) = extension_parts(extension)?;
            match oid {
                ID_CE_CRL_NUMBER => {
                    let number = UintRef::from_der(value)?;
                    let octets = number.as_bytes();
                    if octets.len() <= 8 {
                        self.number = Some(octets.iter().fold(0, |sum, octet| sum << 8 | u64::from(*octet)));
                    }
                }
                ID_CE_AUTHORITY_KEY_IDENTIFIER => {}
                // They say that the list is only a part of one, and must be critical (sections 5.2.4 and 5.2.5); a list that
                // hides that is no whole one either.
                oid @ (ID_CE_ISSUING_DISTRIBUTION_POINT | ID_CE_DELTA_CRL_INDICATOR) => {
                    self.unknown_critical = Some(oid)
                }
                oid if critical => self.unknown_critical = Some(oid),
                _ => {}
            }
            Ok(true)
        })
    }

    fn each<'d>(&'d self, visit: &mut dyn FnMut(CrlEntry<'d>) -> bool) -> Result<(), der::Error> {
        for_each(&self.entries, &mut |whole| {
            let mut fields = SliceReader::new(content(whole, Tag::Sequence)?)?;
            let serial = content(fields.tlv_bytes()?, Tag::Integer)?;
            let at = asn1::read_time(&mut fields)?;
            let mut entry = CrlEntry { serial, at, reason: None, unknown_critical: None };
            if !fields.is_finished() {
                for_each(content(fields.tlv_bytes()?, Tag::Sequence)?, &mut |extension| {
                    let (oid, critical, value) = extension_parts(extension)?;
                    match oid {
                        ID_CE_CRL_REASONS => {
                            entry.reason =
                                content(value, Tag::Enumerated)?.first().copied().and_then(Reason::from_code);
                        }
                        // Whose certificate it is then stands there (section 5.3.3).
                        oid if critical || oid == ID_CE_CERTIFICATE_ISSUER => entry.unknown_critical = Some(oid),
                        _ => {}
                    }
                    Ok(true)
                })?;
            }
            fields.finish()?;
            Ok(visit(entry))
        })
    }

    /// Judges the list itself: signed by `issuer`, which may sign it, and good at `now` (section 6.3.3).
    ///
    /// # Errors
    /// The first rule that is broken.
    pub fn judge(&self, issuer: &Certificate, now: UnixTime) -> Result<(), BadCrl> {
        if issuer.key_usage.is_some_and(|usage| !usage.crl_sign()) {
            return Err(BadCrl::Usage);
        }
        let parts = Signed::split(&self.der).map_err(|_| BadCrl::Malformed)?;
        if self.issuer != issuer.subject
            || issuer.public_key.verify(parts.algorithm, parts.to_be_signed, parts.signature).is_err()
        {
            return Err(BadCrl::Signature);
        }
        if let Some(oid) = self.unknown_critical {
            return Err(BadCrl::UnknownCritical { oid });
        }
        if now < self.this_update || now > self.next_update {
            return Err(BadCrl::Stale { from: self.this_update, to: self.next_update, now });
        }
        Ok(())
    }

    /// What the list says of a serial number; `None` if it is not on it.
    #[must_use]
    pub fn find(&self, serial: &SerialNumber) -> Option<Listed> {
        let mut found = None;
        // All entries were read once, so none is unreadable now.
        let _ = self.each(&mut |entry| {
            let same = entry.serial.iter().skip_while(|octet| **octet == 0).eq(serial.octets());
            if same {
                found = Some(Listed { at: entry.at, reason: entry.reason });
            }
            !same
        });
        found
    }

    /// Gives the octets of every listed serial number, without zeros in front.
    pub fn serials(&self, visit: &mut dyn FnMut(&[u8])) {
        // All entries were read once, so none is unreadable now.
        let _ = self.each(&mut |entry| {
            let zeros = entry.serial.iter().take_while(|octet| **octet == 0).count();
            visit(&entry.serial[zeros..]);
            true
        });
    }

    /// How many certificates are listed.
    #[must_use]
    pub fn len(&self) -> usize {
        let mut count = 0;
        let _ = self.each(&mut |_| {
            count += 1;
            true
        });
        count
    }

    /// Whether nothing is listed.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }
}

/// The elements that stand one behind the other in `list`, until `visit` says no.
fn for_each<'d>(list: &'d [u8], visit: &mut dyn FnMut(&'d [u8]) -> Result<bool, der::Error>) -> Result<(), der::Error> {
    let mut reader = SliceReader::new(list)?;
    while !reader.is_finished() {
        if !visit(reader.tlv_bytes()?)? {
            return Ok(());
        }
    }
    Ok(())
}

/// The content of an element of any tag.
fn content_of(element: &[u8]) -> Result<&[u8], der::Error> {
    let header = der::Header::peek(&SliceReader::new(element)?)?;
    let length = usize::try_from(header.length())?;
    Ok(&element[element.len().saturating_sub(length)..])
}

/// Identifier, criticality, and content of the OCTET STRING of an Extension.
fn extension_parts(extension: &[u8]) -> Result<(ObjectIdentifier, bool, &[u8]), der::Error> {
    let mut fields = SliceReader::new(content(extension, Tag::Sequence)?)?;
    let oid = ObjectIdentifier::decode(&mut fields)?;
    let critical = if fields.peek_byte() == Some(1) { bool::decode(&mut fields)? } else { false };
    let value = content(fields.tlv_bytes()?, Tag::OctetString)?;
    fields.finish()?;
    Ok((oid, critical, value))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::certificate::{Issuer, tests_support_ward};
    use crate::revocation::{Heading, Revoked, sign_crl};
    use crate::time::Span;

    const NOW: UnixTime = UnixTime(1_795_417_333);

    fn serial(number: u32) -> SerialNumber {
        SerialNumber::from_octets(&[&[1], number.to_be_bytes().as_slice()].concat()).unwrap()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// What is on a list is found, with its moment and reason, and nothing else is.
        #[test]
        fn exactly_what_was_listed_is_found(
            numbers in prop::collection::btree_set(0u32..200, 0..40),
            reasons in prop::collection::vec(0usize..Reason::ALL.len(), 40),
        ) {
            let ward = tests_support_ward();
            let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
            let heading = Heading { number: 7, this_update: NOW, next_update: NOW.plus(Span::from_days(1)) };
            let reason_of = |at: usize| Reason::ALL[reasons[at % reasons.len()]];
            let entries = numbers.iter().enumerate().map(|(at, number)| Revoked {
                serial: serial(*number),
                at: UnixTime(NOW.0 - i64::from(*number)),
                reason: reason_of(at),
            });
            let crl = Crl::from_der(&sign_crl(issuer, heading, entries.collect::<Vec<_>>()).unwrap()).unwrap();
            prop_assert_eq!(crl.judge(&ward.issuing, NOW), Ok(()));
            prop_assert_eq!(crl.len(), numbers.len());
            for number in 0..200 {
                let wanted = numbers.iter().position(|each| *each == number).map(|at| Listed {
                    at: UnixTime(NOW.0 - i64::from(number)),
                    reason: Some(reason_of(at)).filter(|reason| *reason != Reason::Unspecified),
                });
                prop_assert_eq!(crl.find(&serial(number)), wanted);
            }
        }

        /// A list with a changed octet is refused, or its signature is.
        #[test]
        fn no_changed_octet_is_taken(at in any::<prop::sample::Index>(), flip in 1u8..=255) {
            let ward = tests_support_ward();
            let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
            let heading = Heading { number: 7, this_update: NOW, next_update: NOW.plus(Span::from_days(1)) };
            let entry = Revoked { serial: serial(5), at: NOW, reason: Reason::Superseded };
            let mut der = sign_crl(issuer, heading, [entry]).unwrap();
            let at = at.index(der.len());
            der[at] ^= flip;
            let taken = Crl::from_der(&der).is_ok_and(|crl| crl.judge(&ward.issuing, NOW).is_ok());
            prop_assert!(!taken, "octet {at}");
        }
    }
}
