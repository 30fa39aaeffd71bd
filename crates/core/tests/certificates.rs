//! Certificates and revocation lists, written and read back, whole and damaged: what was signed is what is read, and one bit more or
//! less is never taken for it.

#![expect(clippy::unwrap_used, reason = "tests fail by panicking")]

use proptest::prelude::*;
use tidy_warden_core::certificate::{
    AltName, Certificate, IssueError, Issued, Issuer, Places, Purpose, SerialNumber, Subject, Template, Usage, judge,
    self_signed,
};
use tidy_warden_core::key::{NewKey, ProvenKey, Signer, SoftwareKey};
use tidy_warden_core::random::Randomness;
use tidy_warden_core::revocation::{Crl, Heading, Reason, Revoked, sign_crl};
use tidy_warden_core::time::{Span, UnixTime};

const NOW: UnixTime = UnixTime(1_795_417_333);
const ALL: [NewKey; 5] = [NewKey::P256, NewKey::P384, NewKey::Ed25519, NewKey::Rsa3072, NewKey::MlDsa65];

/// SplitMix64: the same in every run.
struct Chance(u64);

impl Randomness for Chance {
    fn fill(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
            let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            *byte = mixed.to_be_bytes()[0];
        }
    }
}

fn serial(number: u64) -> SerialNumber {
    SerialNumber::new(NOW, &mut Chance(number))
}

fn template<'a>(
    key: &'a ProvenKey,
    subject: &'a Subject,
    names: &'a [AltName],
    usage: Usage<'a>,
    days: u32,
) -> Template<'a> {
    let life = Span::from_days(days);
    Template {
        serial: serial(u64::from(days)),
        subject,
        names,
        key,
        now: NOW,
        life,
        usage,
        places: Places { crl: "http://w.example/d.crl", authority: "" },
    }
}

/// An authority of a type of key, with a root above it.
struct Tree {
    root: Certificate,
    devices: Certificate,
    key: SoftwareKey,
}

fn tree(new: NewKey) -> Tree {
    let (root_key, key) = (SoftwareKey::generate(new).unwrap(), SoftwareKey::generate(new).unwrap());
    let (above, below) = (Subject::of("w", "root"), Subject::of("w", "devices"));
    let (proven, own) = (root_key.proven(), key.proven());
    let root = self_signed(&template(&proven, &above, &[], Usage::UNLIMITED, 3650), &root_key).unwrap();
    let issuer = Issuer { certificate: &root, signer: &root_key };
    let devices = template(&own, &below, &[], Usage::ISSUING, 400).issue(issuer).unwrap().certificate;
    Tree { root, devices, key }
}

impl Tree {
    fn issue(&self, subject: &Subject, names: &[AltName], usage: Usage<'_>, days: u32) -> Result<Issued, IssueError> {
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        template(&key, subject, names, usage, days).issue(Issuer { certificate: &self.devices, signer: &self.key })
    }
}

#[test]
fn what_an_authority_of_any_type_signs_is_read_back_and_leads_to_its_root() {
    let names = [AltName::Uri("urn:dev:org:32473-wv-1".into()), AltName::Dns("wv-1.example".into())];
    for new in ALL {
        let tree = tree(new);
        let subject = Subject::of("Quillfeather", "wv-1");
        for (usage, purpose) in [(Usage::Client, Purpose::Client), (Usage::Server, Purpose::Server)] {
            let made = tree.issue(&subject, &names, usage, 30).unwrap();
            assert!(!made.clipped);
            let leaf = Certificate::from_der(made.certificate.der()).unwrap();
            assert_eq!(leaf, made.certificate);
            assert_eq!(Certificate::from_pem(leaf.to_pem().trim_end()).unwrap(), leaf);
            assert_eq!((&leaf.issuer, &leaf.serial), (&tree.devices.subject, &serial(30)));
            assert!(leaf.not_before < NOW && leaf.not_after == NOW.plus(Span::from_days(30)));
            assert_eq!(leaf.authority_key_id, tree.devices.subject_key_id);
            assert!(leaf.alternative_names().iter().any(|name| name.contains("wv-1.example")), "{leaf:?}");
            let (above, roots) = (std::slice::from_ref(&tree.devices), std::slice::from_ref(&tree.root));
            let path = judge(&leaf, above, roots, purpose, NOW).unwrap();
            assert_eq!(
                path.iter().map(|each| each.fingerprint).collect::<Vec<_>>(),
                [leaf.fingerprint, tree.devices.fingerprint, tree.root.fingerprint]
            );
            let other = if purpose == Purpose::Client { Purpose::Server } else { Purpose::Client };
            assert!(judge(&leaf, above, roots, other, NOW).is_err(), "it is for the one and not for the other");
            assert!(judge(&leaf, above, &[], purpose, NOW).is_err());
            assert!(judge(&leaf, &[], roots, purpose, NOW).is_err());
            let end = leaf.not_after;
            assert!(judge(&leaf, above, roots, purpose, end).is_ok());
            assert!(judge(&leaf, above, roots, purpose, UnixTime(end.0 + 1)).is_err());
        }
    }
}

#[test]
fn nothing_outlives_its_authority_and_a_wrong_key_signs_nothing() {
    let tree = tree(NewKey::P256);
    let subject = Subject::of("w", "wv-1");
    let long = tree.issue(&subject, &[], Usage::Client, 3650).unwrap();
    assert!(long.clipped && long.certificate.not_after == tree.devices.not_after);
    let other = SoftwareKey::generate(NewKey::P256).unwrap();
    let key = other.proven();
    let wrong =
        template(&key, &subject, &[], Usage::Client, 30).issue(Issuer { certificate: &tree.devices, signer: &other });
    assert_eq!(wrong.unwrap_err(), IssueError::KeyMismatch);
    let mut late = template(&key, &subject, &[], Usage::Client, 30);
    late.now = UnixTime(tree.devices.not_after.0 + 1);
    let late = late.issue(Issuer { certificate: &tree.devices, signer: &tree.key });
    assert!(matches!(late, Err(IssueError::IssuerNotValid { .. })), "{late:?}");
    // An authority that may sign no authorities does not make one by signing it.
    let below = tree.issue(&Subject::of("w", "more"), &[], Usage::ISSUING, 30).unwrap().certificate;
    let roots = std::slice::from_ref(&tree.root);
    assert!(judge(&below, std::slice::from_ref(&tree.devices), roots, Purpose::Client, NOW).is_err());
}

#[test]
fn no_bit_of_a_certificate_can_be_another() {
    for new in [NewKey::P256, NewKey::Ed25519] {
        let tree = tree(new);
        let names = [AltName::Uri("urn:dev:org:32473-wv-1".into())];
        let leaf = tree.issue(&Subject::of("w", "wv-1"), &names, Usage::Client, 30).unwrap().certificate;
        assert!(leaf.is_signed_by(&tree.devices.public_key));
        for bit in 0..leaf.der().len() * 8 {
            let mut der = leaf.der().to_vec();
            der[bit / 8] ^= 1 << (bit % 8);
            if let Ok(read) = Certificate::from_der(&der) {
                assert!(!read.is_signed_by(&tree.devices.public_key), "bit {bit} makes another good certificate");
                assert_ne!(read.fingerprint, leaf.fingerprint);
            }
        }
        for len in 0..leaf.der().len() {
            assert!(Certificate::from_der(&leaf.der()[..len]).is_err(), "{len} octets of it");
        }
        let longer = [leaf.der(), &[0]].concat();
        assert!(Certificate::from_der(&longer).is_err(), "something behind it");
    }
}

fn revoked(number: u64, at: i64, reason: usize) -> Revoked {
    Revoked { serial: serial(number), at: UnixTime(NOW.0 - at), reason: Reason::ALL[reason % Reason::ALL.len()] }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn a_revocation_list_says_what_was_revoked_and_nothing_else(
        entries in proptest::collection::btree_map(0u64..10_000, (0i64..1_000_000, 0usize..16), 0..40),
        number in 1u64..u64::MAX / 2,
        flip in any::<proptest::sample::Index>(),
    ) {
        let tree = TREE.get_or_init(|| tree(NewKey::P256));
        let heading = Heading { number, this_update: NOW, next_update: NOW.plus(Span::from_days(7)) };
        let issuer = Issuer { certificate: &tree.devices, signer: &tree.key };
        let all: Vec<Revoked> = entries.iter().map(|(number, (at, reason))| revoked(*number, *at, *reason)).collect();
        let der = sign_crl(issuer, heading, all.clone()).unwrap();
        let crl = Crl::from_der(&der).unwrap();
        prop_assert!(crl.judge(&tree.devices, NOW).is_ok());
        prop_assert!(crl.judge(&tree.root, NOW).is_err(), "it is another authority's");
        prop_assert!(crl.judge(&tree.devices, NOW.plus(Span::from_days(8))).is_err(), "it is over");
        prop_assert_eq!((crl.len(), crl.is_empty()), (all.len(), all.is_empty()));
        for each in &all {
            let found = crl.find(&each.serial).unwrap();
            prop_assert_eq!(found.at, each.at);
            if each.reason != Reason::Unspecified {
                prop_assert_eq!(found.reason, Some(each.reason));
            }
        }
        prop_assert!(crl.find(&serial(20_000)).is_none());
        let mut damaged = der.clone();
        let bit = flip.index(der.len() * 8);
        damaged[bit / 8] ^= 1 << (bit % 8);
        let taken = Crl::from_der(&damaged).is_ok_and(|crl| crl.judge(&tree.devices, NOW).is_ok());
        prop_assert!(!taken, "bit {bit}");
    }
}

static TREE: std::sync::OnceLock<Tree> = std::sync::OnceLock::new();

#[test]
fn a_signer_shows_that_it_has_the_key_or_is_nobody() {
    for new in ALL {
        let key = SoftwareKey::generate(new).unwrap();
        let proven = ProvenKey::of_signer(&key).unwrap();
        assert_eq!(proven.public_key(), key.public_key());
        let reread = SoftwareKey::from_pkcs8(&key.to_pkcs8().unwrap()).unwrap();
        assert_eq!(reread.public_key(), key.public_key());
        let signature = reread.sign(b"message").unwrap();
        assert!(key.public_key().verify(&key.algorithm(), b"message", &signature).is_ok());
        assert!(key.public_key().verify(&key.algorithm(), b"massage", &signature).is_err());
    }
    /// Shows one key and signs with another.
    struct Liar(SoftwareKey, SoftwareKey);
    impl Signer for Liar {
        fn public_key(&self) -> &tidy_warden_core::key::PublicKey {
            self.0.public_key()
        }
        fn algorithm(&self) -> Vec<u8> {
            self.0.algorithm()
        }
        fn sign(&self, message: &[u8]) -> Result<Vec<u8>, tidy_warden_core::key::SignError> {
            self.1.sign(message)
        }
    }
    let liar = Liar(SoftwareKey::generate(NewKey::P256).unwrap(), SoftwareKey::generate(NewKey::P256).unwrap());
    assert!(ProvenKey::of_signer(&liar).is_err());
}
