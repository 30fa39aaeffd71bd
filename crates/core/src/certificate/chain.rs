//! Path validation: from a leaf to a root, by the rules of RFC 5280 section 6 without certificate policies.
//!
//! Judged are names, signatures, validity, basicConstraints, path length, keyUsage, extended key usage, name constraints
//! and unknown critical extensions. Where several certificates fit as issuers (an authority that was cross-signed),
//! every path is tried.

use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};

use const_oid::ObjectIdentifier;
use const_oid::db::rfc5280::{ANY_EXTENDED_KEY_USAGE, ID_KP_CLIENT_AUTH, ID_KP_SERVER_AUTH};

use super::constraint::NameRefused;
use super::issue::{ID_KP_DOCUMENT, ID_KP_JWT};
use super::{Certificate, Fingerprint};
use crate::time::UnixTime;

/// What the leaf is presented for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// To connect as a client.
    Client,
    /// To be connected to.
    Server,
    /// To sign errands: it must say so itself.
    Errands,
    /// To sign ownership vouchers: it must say so itself.
    Vouchers,
    /// Whatever it says itself.
    Any,
}

/// The most certificates between leaf and root; a limit on work, not a standard's.
const MAX_DEPTH: usize = 6;

/// The most paths that are tried; a limit on work against a heap of certificates that all sign each other.
const MAX_PATHS: usize = 32;

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
    /// A name that an authority above does not allow (section 4.2.1.10).
    #[error("`{authority}` does not allow `{subject}` below it: {why}")]
    Name {
        /// The certificate at fault.
        subject: String,
        /// Whose constraint it breaks.
        authority: String,
        /// Which name, and how.
        why: NameRefused,
    },
}

/// Judges `leaf` at `now` against authorities: it must lead over `intermediates` to one of `roots`. Gives the path that
/// held, from the leaf to the root.
///
/// # Errors
/// The first rule that is broken, on the path that came furthest.
pub fn judge<'c>(
    leaf: &'c Certificate,
    intermediates: &'c [Certificate],
    roots: &'c [Certificate],
    purpose: Purpose,
    now: UnixTime,
) -> Result<Vec<&'c Certificate>, ChainError> {
    judge_with(leaf, intermediates, roots, purpose, now, None)
}

/// How many signatures are remembered; a limit on memory. Beyond it all are forgotten once.
const MOST_REMEMBERED: usize = 65_536;

/// Signatures that were found good: the certificate, and whose key made it. A signature that held once holds always, so for
/// whoever judges the same certificates again and again the costly part is done once.
#[derive(Debug, Default)]
pub struct GoodSignatures(Mutex<HashSet<(Fingerprint, Fingerprint)>>);

impl GoodSignatures {
    fn holds(&self, below: &Certificate, issuer: &Certificate) -> bool {
        let pair = (below.fingerprint, issuer.fingerprint);
        let lock = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if lock().contains(&pair) {
            return true;
        }
        if !below.is_signed_by(&issuer.public_key) {
            return false;
        }
        let mut known = lock();
        if known.len() >= MOST_REMEMBERED {
            known.clear();
        }
        known.insert(pair);
        true
    }
}

/// [`judge`] with a memory. Only signatures are remembered: times, purposes and names are looked at each time.
///
/// # Errors
/// As [`judge`].
pub fn judge_with<'c>(
    leaf: &'c Certificate,
    intermediates: &'c [Certificate],
    roots: &'c [Certificate],
    purpose: Purpose,
    now: UnixTime,
    known: Option<&'c GoodSignatures>,
) -> Result<Vec<&'c Certificate>, ChainError> {
    check_own(leaf, now)?;
    check_purpose(leaf, purpose)?;
    let mut search = Search { intermediates, roots, purpose, now, known, tried: 0, refused: None };
    match search.extend(vec![leaf]) {
        Some(path) => Ok(path),
        None => Err(search
            .refused
            .map_or_else(|| ChainError::UnknownIssuer { subject: leaf.subject_text.clone() }, |(_, error)| error)),
    }
}

struct Search<'c> {
    intermediates: &'c [Certificate],
    roots: &'c [Certificate],
    purpose: Purpose,
    now: UnixTime,
    known: Option<&'c GoodSignatures>,
    tried: usize,
    /// The refusal on the longest path so far, and that path's length.
    refused: Option<(usize, ChainError)>,
}

impl<'c> Search<'c> {
    /// Depth first: every root that fits, then every intermediate that is not in the path yet.
    fn extend(&mut self, path: Vec<&'c Certificate>) -> Option<Vec<&'c Certificate>> {
        let below = *path.last()?;
        let fitting = |candidates: &'c [Certificate]| candidates.iter().filter(|each| may_have_signed(each, below));
        let mut found_one = false;
        for root in fitting(self.roots) {
            found_one = true;
            let full = [path.as_slice(), &[root]].concat();
            match self.check_path(&full) {
                Ok(()) => return Some(full),
                Err(error) => self.refuse(full.len(), error),
            }
        }
        if path.len() <= MAX_DEPTH {
            for issuer in fitting(self.intermediates) {
                if path.iter().any(|each| each.fingerprint == issuer.fingerprint) {
                    continue;
                }
                found_one = true;
                self.tried += 1;
                if self.tried > MAX_PATHS {
                    return None;
                }
                if let Some(full) = self.extend([path.as_slice(), &[issuer]].concat()) {
                    return Some(full);
                }
            }
        }
        if !found_one {
            // What is wrong below counts more than that the path ends.
            let error = self
                .check_path(&path)
                .err()
                .unwrap_or_else(|| ChainError::UnknownIssuer { subject: below.subject_text.clone() });
            self.refuse(path.len(), error);
        }
        None
    }

    fn refuse(&mut self, length: usize, error: ChainError) {
        if self.refused.as_ref().is_none_or(|(longest, _)| length > *longest) {
            self.refused = Some((length, error));
        }
    }

    /// Judges each authority of a path, given from the leaf upwards, and what stands below it.
    fn check_path(&self, path: &[&Certificate]) -> Result<(), ChainError> {
        for (depth, pair) in path.windows(2).enumerate() {
            let [below, issuer] = pair else { continue };
            // Section 6.1.4 (l): certificates that an authority signed for itself do not count.
            let authorities = path[1..=depth].iter().filter(|each| each.subject != each.issuer).count();
            self.check_issuer(below, issuer, authorities)?;
            if let Some(constraints) = &issuer.constraints {
                for (at, each) in path[..=depth].iter().enumerate() {
                    // Section 6.1.3 (b): names of the leaf always count, those of an authority's own renewals do not.
                    if at == 0 || each.subject != each.issuer {
                        constraints.check(each).map_err(|why| ChainError::Name {
                            subject: each.subject_text.clone(),
                            authority: issuer.subject_text.clone(),
                            why,
                        })?;
                    }
                }
            }
        }
        Ok(())
    }

    /// `authorities` counts those between `issuer` and the leaf.
    fn check_issuer(&self, below: &Certificate, issuer: &Certificate, authorities: usize) -> Result<(), ChainError> {
        let subject = || issuer.subject_text.clone();
        let signed = match self.known {
            Some(known) => known.holds(below, issuer),
            None => below.is_signed_by(&issuer.public_key),
        };
        if !signed {
            return Err(ChainError::Signature { subject: below.subject_text.clone() });
        }
        check_own(issuer, self.now)?;
        let Some(basic) = issuer.basic_constraints.as_ref().filter(|basic| basic.ca) else {
            return Err(ChainError::NotAuthority { subject: subject(), missing: "basicConstraints does not say cA" });
        };
        if basic.path_len_constraint.is_some_and(|limit| usize::from(limit) < authorities) {
            return Err(ChainError::PathLength { subject: subject() });
        }
        if issuer.key_usage.is_some_and(|usage| !usage.key_cert_sign()) {
            return Err(ChainError::NotAuthority { subject: subject(), missing: "its key usage lacks keyCertSign" });
        }
        // Not in RFC 5280, but what every validator in use does: usages of an authority bound those below it.
        check_extended_usage(issuer, self.purpose)
    }
}

/// Whether names and, where both are given, key identifiers let `candidate` be the issuer of `below`.
fn may_have_signed(candidate: &Certificate, below: &Certificate) -> bool {
    let ids_agree = match (&below.authority_key_id, &candidate.subject_key_id) {
        (Some(wanted), Some(have)) => wanted == have,
        _ => true,
    };
    candidate.subject == below.issuer && ids_agree
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
    // Whoever says nothing of its use may be a client or a server, as of old; it signs no errands.
    if purpose == Purpose::Errands && certificate.extended_key_usage.as_deref() != Some(&[ID_KP_JWT]) {
        let missing = "it is not for signing JWTs alone";
        return Err(ChainError::Purpose { subject: certificate.subject_text.clone(), missing });
    }
    if purpose == Purpose::Vouchers && certificate.extended_key_usage.as_deref() != Some(&[ID_KP_DOCUMENT]) {
        let missing = "it is not for signing documents alone";
        return Err(ChainError::Purpose { subject: certificate.subject_text.clone(), missing });
    }
    if purpose != Purpose::Any && certificate.key_usage.is_some_and(|usage| !usage.digital_signature()) {
        let missing = "its key usage lacks digitalSignature";
        return Err(ChainError::Purpose { subject: certificate.subject_text.clone(), missing });
    }
    Ok(())
}

fn check_extended_usage(certificate: &Certificate, purpose: Purpose) -> Result<(), ChainError> {
    let (wanted, missing) = match purpose {
        Purpose::Client => (ID_KP_CLIENT_AUTH, "its extended key usage lacks clientAuth"),
        Purpose::Server => (ID_KP_SERVER_AUTH, "its extended key usage lacks serverAuth"),
        Purpose::Errands => (ID_KP_JWT, "its extended key usage lacks id-kp-jwt"),
        Purpose::Vouchers => (ID_KP_DOCUMENT, "its extended key usage lacks id-kp-documentSigning"),
        Purpose::Any => return Ok(()),
    };
    if let Some(usages) = &certificate.extended_key_usage
        && !usages.contains(&wanted)
        && !usages.contains(&ANY_EXTENDED_KEY_USAGE)
    {
        return Err(ChainError::Purpose { subject: certificate.subject_text.clone(), missing });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::issue::tests::{NOW, issue, self_signed_by, ward};
    use crate::certificate::{AltName, Constraints, Issuer, Subject, Usage};
    use crate::key::{NewKey, SoftwareKey};
    use crate::time::Span;

    fn judged(
        leaf: &Certificate,
        intermediates: &[Certificate],
        roots: &[Certificate],
        purpose: Purpose,
        at: UnixTime,
    ) -> Result<usize, ChainError> {
        judge(leaf, intermediates, roots, purpose, at).map(|path| path.len())
    }

    #[test]
    fn a_good_chain_holds_and_each_fault_is_told() {
        let ward = ward();
        let stranger = super::super::issue::tests::ward();
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let issuer = Issuer { certificate: &ward.issuing, signer: &ward.key };
        let leaf = issue(&key, "wv-1", Usage::Client, 398, issuer);
        let (chain, roots) = (std::slice::from_ref(&ward.issuing), std::slice::from_ref(&ward.root));
        let judge_at = |leaf: &Certificate, purpose, at| judged(leaf, chain, roots, purpose, at);
        assert_eq!(judge_at(&leaf, Purpose::Client, NOW), Ok(3));
        assert_eq!(judge_at(&leaf, Purpose::Any, NOW), Ok(3));
        assert!(matches!(judge_at(&leaf, Purpose::Server, NOW), Err(ChainError::Purpose { .. })));
        let both = issue(&key, "wv-1", Usage::ClientAndServer, 398, issuer);
        assert_eq!(judge_at(&both, Purpose::Server, NOW), Ok(3));
        let late = leaf.not_after.plus(Span::from_seconds(1));
        assert_eq!(judge_at(&leaf, Purpose::Client, leaf.not_after), Ok(3));
        assert!(matches!(judge_at(&leaf, Purpose::Client, late), Err(ChainError::Validity { .. })));
        let early = leaf.not_before.minus(Span::from_seconds(1));
        assert!(matches!(judge_at(&leaf, Purpose::Client, early), Err(ChainError::Validity { .. })));

        // A memory changes nothing of what is found, but for the signatures that it knows.
        let known = GoodSignatures::default();
        for _ in 0..2 {
            let again = judge_with(&leaf, chain, roots, Purpose::Client, NOW, Some(&known));
            assert_eq!(again.map(|path| path.len()), Ok(3));
            let over = judge_with(&leaf, chain, roots, Purpose::Client, late, Some(&known));
            assert!(matches!(over, Err(ChainError::Validity { .. })));
        }
        assert_eq!(known.0.lock().unwrap().len(), 2);
        let mut forged = leaf.der().to_vec();
        *forged.last_mut().unwrap() ^= 1;
        if let Ok(forged) = Certificate::from_der(&forged) {
            let found = judge_with(&forged, chain, roots, Purpose::Client, NOW, Some(&known));
            assert!(matches!(found, Err(ChainError::Signature { .. })), "{found:?}");
        }

        // Same names, other keys.
        let other = Issuer { certificate: &stranger.issuing, signer: &stranger.key };
        let foreign = issue(&key, "wv-1", Usage::Client, 398, other);
        assert!(matches!(judge_at(&foreign, Purpose::Client, NOW), Err(ChainError::UnknownIssuer { .. })));
        let mut unmarked = foreign;
        unmarked.authority_key_id = None;
        assert!(matches!(judge_at(&unmarked, Purpose::Client, NOW), Err(ChainError::Signature { .. })));

        // A leaf may not issue, and an authority with path length 0 has none below it.
        let leaf_key = SoftwareKey::generate(NewKey::P256).unwrap();
        let proven = leaf_key.proven();
        let leaf = issue(&proven, "wv-2", Usage::Client, 398, issuer);
        let below = issue(&key, "wv-3", Usage::Client, 30, Issuer { certificate: &leaf, signer: &leaf_key });
        let found = judged(&below, &[leaf, ward.issuing.clone()], roots, Purpose::Client, NOW);
        assert!(matches!(found, Err(ChainError::NotAuthority { .. })), "{found:?}");
        let sub = issue(&proven, "sub", Usage::UNLIMITED, 398, issuer);
        let below = issue(&key, "wv-4", Usage::Client, 30, Issuer { certificate: &sub, signer: &leaf_key });
        let found = judged(&below, &[sub, ward.issuing.clone()], roots, Purpose::Client, NOW);
        assert!(matches!(found, Err(ChainError::PathLength { .. })), "{found:?}");
    }

    #[test]
    fn name_constraints_bind_all_below() {
        let (ward, root_key) = super::super::issue::tests::ward_with_root_key();
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let proven = key.proven();
        let constraints = Constraints {
            permitted: vec!["dns:rope.example".parse().unwrap()],
            excluded: vec!["dns:brake.rope.example".parse().unwrap()],
        };
        let usage = Usage::Authority { path_length: None, constraints: Some(&constraints) };
        let above = Issuer { certificate: &ward.root, signer: &root_key };
        let limited = issue(&proven, "limited", usage, 3000, above);
        assert_eq!(limited.constraints.as_ref(), Some(&constraints));
        let leaf_key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        for (host, good) in [
            ("wv-1.rope.example", true),
            ("rope.example", true),
            ("rope.example.org", false),
            ("x.brake.rope.example", false),
        ] {
            let subject = Subject::of("q", "wv-1");
            let names = [AltName::Dns(host.to_owned())];
            let template = super::super::issue::tests::template(&leaf_key, &subject, &names, Usage::Client, 30);
            let leaf = template.issue(Issuer { certificate: &limited, signer: &key }).unwrap().certificate;
            let chain = [limited.clone()];
            let found = judged(&leaf, &chain, std::slice::from_ref(&ward.root), Purpose::Client, NOW);
            match good {
                true => assert_eq!(found, Ok(3), "{host}"),
                false => assert!(matches!(found, Err(ChainError::Name { .. })), "{host}: {found:?}"),
            }
        }
    }

    #[test]
    fn of_several_paths_one_that_holds_is_enough() {
        // The root has a new key; the old one signed the new one's certificate, and devices know only the old root.
        let (ward, old_key) = super::super::issue::tests::ward_with_root_key();
        let new_key = SoftwareKey::generate(NewKey::P256).unwrap();
        let proven = new_key.proven();
        let new_root = self_signed_by(&new_key, "root", 7000);
        let above = Issuer { certificate: &ward.root, signer: &old_key };
        let cross = issue(&proven, "root", Usage::UNLIMITED, 3000, above);
        assert_eq!(cross.subject, new_root.subject);
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let proven = key.proven();
        let issuer = Issuer { certificate: &new_root, signer: &new_key };
        let issuing = issue(&proven, "devices-2", Usage::ISSUING, 3000, issuer);
        let leaf_key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let leaf = issue(&leaf_key, "wv-1", Usage::Client, 30, Issuer { certificate: &issuing, signer: &key });
        let chain = [issuing, cross, new_root.clone()];
        assert_eq!(judged(&leaf, &chain, std::slice::from_ref(&ward.root), Purpose::Client, NOW), Ok(4));
        assert_eq!(judged(&leaf, &chain, std::slice::from_ref(&new_root), Purpose::Client, NOW), Ok(3));
    }

    #[test]
    fn a_second_implementation_agrees_on_every_profile() {
        for authority in [NewKey::P256, NewKey::P384, NewKey::Ed25519, NewKey::Rsa3072] {
            for device in NewKey::FOR_DEVICES {
                for usage in [Usage::Client, Usage::Server, Usage::ClientAndServer] {
                    let (root, root_key) = super::super::issue::tests::root();
                    let issuing_key = SoftwareKey::generate(authority).unwrap();
                    let proven = issuing_key.proven();
                    let above = Issuer { certificate: &root, signer: &root_key };
                    let issuing = issue(&proven, "devices", Usage::ISSUING, 3000, above);
                    let key = SoftwareKey::generate(device).unwrap().proven();
                    let issuer = Issuer { certificate: &issuing, signer: &issuing_key };
                    let leaf = issue(&key, "wv-1", usage, 398, issuer);
                    for purpose in [Purpose::Client, Purpose::Server] {
                        let ours =
                            judge(&leaf, std::slice::from_ref(&issuing), std::slice::from_ref(&root), purpose, NOW);
                        let theirs = second_opinion(&leaf, &issuing, &root, purpose);
                        assert_eq!(
                            ours.is_ok(),
                            theirs.is_ok(),
                            "{authority:?} {device:?} {usage:?} {purpose:?}: {ours:?}, {theirs:?}"
                        );
                        let wanted = match purpose {
                            Purpose::Server => usage != Usage::Client,
                            _ => usage != Usage::Server,
                        };
                        assert_eq!(ours.is_ok(), wanted);
                    }
                }
            }
        }
    }

    fn second_opinion(
        leaf: &Certificate,
        issuing: &Certificate,
        root: &Certificate,
        purpose: Purpose,
    ) -> Result<(), webpki::Error> {
        let der = rustls_pki_types::CertificateDer::from(leaf.der());
        let root = rustls_pki_types::CertificateDer::from(root.der());
        let issuing = [rustls_pki_types::CertificateDer::from(issuing.der())];
        let anchors = [webpki::anchor_from_trusted_cert(&root).unwrap()];
        let end_entity = webpki::EndEntityCert::try_from(&der)?;
        let at = rustls_pki_types::UnixTime::since_unix_epoch(std::time::Duration::from_secs(NOW.0.unsigned_abs()));
        let usage = match purpose {
            Purpose::Server => webpki::KeyUsage::server_auth(),
            _ => webpki::KeyUsage::client_auth(),
        };
        end_entity
            .verify_for_usage(webpki::ALL_VERIFICATION_ALGS, &anchors, &issuing, at, usage, None, None)
            .map(|_| ())
    }
}
