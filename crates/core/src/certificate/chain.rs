//! Judging a chain: from a leaf to a root, by the rules of RFC 5280 section 6 that concern certificates of this kind.
//!
//! Names, signatures, validity, basicConstraints, path length, keyUsage, extended key usage and unknown critical
//! extensions are judged. Name constraints and policies are not processed: they are critical where they matter, and a
//! critical extension that is not processed refuses the chain.

use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::{ANY_EXTENDED_KEY_USAGE, ID_KP_CLIENT_AUTH, ID_KP_SERVER_AUTH};

use super::Certificate;
use crate::time::UnixTime;

/// What the leaf is presented for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// To connect as a client.
    Client,
    /// To be connected to.
    Server,
}

/// The most certificates between leaf and root; a limit on work, not a standard's.
const MAX_DEPTH: usize = 6;

/// Why a chain was refused. `subject` names the certificate at fault.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ChainError {
    /// No known authority has the leaf's issuer name and key.
    #[error("no known authority signed `{subject}`")]
    UnknownIssuer {
        /// The certificate at fault.
        subject: String,
    },
    /// The signature is not the issuer's.
    #[error("the signature of `{subject}` is not its issuer's")]
    Signature {
        /// The certificate at fault.
        subject: String,
    },
    /// Outside its validity.
    #[error("`{subject}` is valid from {from} to {to}, and it is {now}")]
    Validity {
        /// The certificate at fault.
        subject: String,
        /// Its first second.
        from: UnixTime,
        /// Its last second.
        to: UnixTime,
        /// The moment that was asked about.
        now: UnixTime,
    },
    /// An issuer that may not issue.
    #[error("`{subject}` issued a certificate but is not an authority that may: {missing}")]
    NotAuthority {
        /// The certificate at fault.
        subject: String,
        /// What it lacks.
        missing: &'static str,
    },
    /// More authorities below one than it allows.
    #[error("`{subject}` allows fewer authorities below it than the chain has")]
    PathLength {
        /// The certificate at fault.
        subject: String,
    },
    /// The leaf is not for this use.
    #[error("`{subject}` is not for this use: {missing}")]
    Purpose {
        /// The certificate at fault.
        subject: String,
        /// What it lacks.
        missing: &'static str,
    },
    /// A critical extension that is not processed (RFC 5280 section 4.2).
    #[error("`{subject}` has the critical extension {oid}, which is not known here")]
    UnknownCritical {
        /// The certificate at fault.
        subject: String,
        /// The extension.
        oid: ObjectIdentifier,
    },
}

/// Judges `leaf` at `now` against authorities: it must lead over `intermediates` to one of `roots`.
///
/// # Errors
/// The first rule that is broken on the way from the leaf up.
pub fn judge(
    leaf: &Certificate,
    intermediates: &[Certificate],
    roots: &[Certificate],
    purpose: Purpose,
    now: UnixTime,
) -> Result<(), ChainError> {
    check_own(leaf, now)?;
    check_purpose(leaf, purpose)?;
    let mut below = leaf;
    for depth in 0..MAX_DEPTH {
        if let Some(root) = find_issuer(below, roots) {
            return check_issuer(below, root, depth, purpose, now);
        }
        let Some(issuer) = find_issuer(below, intermediates) else { break };
        check_issuer(below, issuer, depth, purpose, now)?;
        below = issuer;
    }
    Err(ChainError::UnknownIssuer { subject: below.subject_text.clone() })
}

/// The candidate with the issuer's name and, where both are given, its key identifier.
fn find_issuer<'a>(below: &Certificate, candidates: &'a [Certificate]) -> Option<&'a Certificate> {
    candidates.iter().find(|candidate| {
        let ids_agree = match (&below.authority_key_id, &candidate.subject_key_id) {
            (Some(wanted), Some(have)) => wanted == have,
            _ => true,
        };
        candidate.subject == below.issuer && ids_agree
    })
}

fn check_own(certificate: &Certificate, now: UnixTime) -> Result<(), ChainError> {
    let subject = || certificate.subject_text.clone();
    if let Some(&oid) = certificate.unknown_critical.first() {
        return Err(ChainError::UnknownCritical { subject: subject(), oid });
    }
    let (from, to) = (certificate.not_before, certificate.not_after);
    if now < from || now > to {
        return Err(ChainError::Validity { subject: subject(), from, to, now });
    }
    Ok(())
}

fn check_purpose(certificate: &Certificate, purpose: Purpose) -> Result<(), ChainError> {
    check_extended_usage(certificate, purpose)?;
    if certificate.key_usage.is_some_and(|usage| !usage.digital_signature()) {
        let missing = "its key usage lacks digitalSignature";
        return Err(ChainError::Purpose { subject: certificate.subject_text.clone(), missing });
    }
    Ok(())
}

fn check_extended_usage(certificate: &Certificate, purpose: Purpose) -> Result<(), ChainError> {
    let (wanted, missing) = match purpose {
        Purpose::Client => (ID_KP_CLIENT_AUTH, "its extended key usage lacks clientAuth"),
        Purpose::Server => (ID_KP_SERVER_AUTH, "its extended key usage lacks serverAuth"),
    };
    if let Some(usages) = &certificate.extended_key_usage
        && !usages.contains(&wanted)
        && !usages.contains(&ANY_EXTENDED_KEY_USAGE)
    {
        return Err(ChainError::Purpose { subject: certificate.subject_text.clone(), missing });
    }
    Ok(())
}

/// `depth` counts the authorities between `issuer` and the leaf.
fn check_issuer(
    below: &Certificate,
    issuer: &Certificate,
    depth: usize,
    purpose: Purpose,
    now: UnixTime,
) -> Result<(), ChainError> {
    let subject = || issuer.subject_text.clone();
    if !below.is_signed_by(&issuer.public_key) {
        return Err(ChainError::Signature { subject: below.subject_text.clone() });
    }
    check_own(issuer, now)?;
    let Some(basic) = issuer.basic_constraints.as_ref().filter(|basic| basic.ca) else {
        return Err(ChainError::NotAuthority { subject: subject(), missing: "basicConstraints does not say cA" });
    };
    if basic.path_len_constraint.is_some_and(|limit| usize::from(limit) < depth) {
        return Err(ChainError::PathLength { subject: subject() });
    }
    if issuer.key_usage.is_some_and(|usage| !usage.key_cert_sign()) {
        return Err(ChainError::NotAuthority { subject: subject(), missing: "its key usage lacks keyCertSign" });
    }
    // Not in RFC 5280, but what every validator in use does: usages of an authority bound those below it.
    check_extended_usage(issuer, purpose)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::issue::tests::{NOW, template, ward};
    use crate::certificate::{Issuer, Usage, device_names};
    use crate::key::{NewKey, SoftwareKey};
    use crate::time::Span;

    #[test]
    fn a_good_chain_holds_and_each_fault_is_told() {
        let ward = ward();
        let stranger = super::super::issue::tests::ward();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let name = device_names("q", None, &"wv-1".parse().unwrap(), &[]);
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let leaf = template(&key, "wv-1", Usage::Client { name: &name }, 398).issue(issuer).unwrap().certificate;
        let judged = |leaf: &Certificate, purpose, at| {
            judge(leaf, std::slice::from_ref(&ward.issuing), std::slice::from_ref(&ward.root), purpose, at)
        };
        assert_eq!(judged(&leaf, Purpose::Client, NOW), Ok(()));
        assert!(matches!(judged(&leaf, Purpose::Server, NOW), Err(ChainError::Purpose { .. })));
        let late = leaf.not_after.plus(Span::from_seconds(1));
        assert_eq!(judged(&leaf, Purpose::Client, leaf.not_after), Ok(()));
        assert!(matches!(judged(&leaf, Purpose::Client, late), Err(ChainError::Validity { .. })));
        let early = leaf.not_before.minus(Span::from_seconds(1));
        assert!(matches!(judged(&leaf, Purpose::Client, early), Err(ChainError::Validity { .. })));

        // Same names, other keys.
        let other = Issuer { certificate: &stranger.issuing, signer: &stranger.key };
        let foreign = template(&key, "wv-1", Usage::Client { name: &name }, 398).issue(other).unwrap().certificate;
        assert!(matches!(judged(&foreign, Purpose::Client, NOW), Err(ChainError::UnknownIssuer { .. })));
        let mut unmarked = foreign;
        unmarked.authority_key_id = None;
        assert!(matches!(judged(&unmarked, Purpose::Client, NOW), Err(ChainError::Signature { .. })));

        // A leaf may not issue, and an authority with path length 0 has none below it.
        let leaf_key = SoftwareKey::generate(NewKey::P256).unwrap();
        let proven = leaf_key.proven();
        let leaf = template(&proven, "wv-2", Usage::Client { name: &name }, 398).issue(issuer).unwrap().certificate;
        let fake = Issuer { certificate: &leaf, signer: &leaf_key };
        let below = template(&key, "wv-3", Usage::Client { name: &name }, 30).issue(fake).unwrap().certificate;
        let chain = [leaf, ward.issuing.clone()];
        let found = judge(&below, &chain, std::slice::from_ref(&ward.root), Purpose::Client, NOW);
        assert!(matches!(found, Err(ChainError::NotAuthority { .. })), "{found:?}");
        let sub_usage = Usage::Authority { path_length: None };
        let sub = template(&proven, "sub", sub_usage, 398).issue(issuer).unwrap().certificate;
        let fake = Issuer { certificate: &sub, signer: &leaf_key };
        let below = template(&key, "wv-4", Usage::Client { name: &name }, 30).issue(fake).unwrap().certificate;
        let found = judge(&below, &[sub, ward.issuing.clone()], std::slice::from_ref(&ward.root), Purpose::Client, NOW);
        assert!(matches!(found, Err(ChainError::PathLength { .. })), "{found:?}");
    }

    #[test]
    fn a_second_implementation_agrees() {
        let ward = ward();
        let key = SoftwareKey::generate(NewKey::Ed25519).unwrap().proven();
        let name = device_names("q", Some(32473), &"wv-1".parse().unwrap(), &[]);
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let leaf = template(&key, "wv-1", Usage::Client { name: &name }, 398).issue(issuer).unwrap().certificate;
        let der = rustls_pki_types::CertificateDer::from(leaf.der());
        let root = rustls_pki_types::CertificateDer::from(ward.root.der());
        let issuing = [rustls_pki_types::CertificateDer::from(ward.issuing.der())];
        let anchors = [webpki::anchor_from_trusted_cert(&root).unwrap()];
        let end_entity = webpki::EndEntityCert::try_from(&der).unwrap();
        let at = rustls_pki_types::UnixTime::since_unix_epoch(std::time::Duration::from_secs(NOW.0.unsigned_abs()));
        let usage = webpki::KeyUsage::client_auth();
        let verified =
            end_entity.verify_for_usage(webpki::ALL_VERIFICATION_ALGS, &anchors, &issuing, at, usage, None, None);
        assert!(verified.is_ok(), "{:?}", verified.err());
    }
}
