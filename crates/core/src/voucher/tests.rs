use proptest::prelude::*;

use super::*;
use crate::certificate::Usage;
use crate::certificate::tests_support::{NOW, Root};
use crate::key::{NewKey, SoftwareKey};

const BOTH: [VoucherForm; 2] = [VoucherForm::Cms, VoucherForm::Jws];

fn owner() -> Certificate {
    let world = Root::new();
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    world.sign(&key, Usage::Client)
}

fn voucher(owner: &Certificate, fresh: Fresh) -> Voucher {
    Voucher { created: NOW, serial: "QF-0417".to_owned(), owner: owner.der().to_vec(), fresh }
}

fn knows<'a>(roots: &'a [Certificate], now: i64) -> Knows<'a> {
    Knows { serial: Some("QF-0417"), roots, nonce: None, owner: None, now: Some(UnixTime(NOW.0 + now)) }
}

#[test]
fn a_device_believes_what_its_ward_signed_for_it_and_nothing_else() {
    let (world, owner, other) = (Root::new(), owner(), owner());
    let until = Fresh::Until(UnixTime(NOW.0 + 1_000));
    for new in [NewKey::P256, NewKey::P384, NewKey::Ed25519] {
        let key = SoftwareKey::generate(new).unwrap();
        let certificate = world.sign(&key, Usage::Vouchers);
        for form in BOTH {
            let said = voucher(&owner, until.clone());
            let signed = said.sign(form, &[&certificate], &key).unwrap();
            let roots = [world.root.clone()];
            let know = knows(&roots, 0);
            assert_eq!(Voucher::believe(&signed, &know), Ok(said.clone()), "{form:?} {new:?}");
            let met = Knows { owner: Some(owner.der()), ..know };
            assert_eq!(Voucher::believe(&signed, &met), Ok(said.clone()));
            let met = Knows { owner: Some(other.der()), ..know };
            assert_eq!(Voucher::believe(&signed, &met), Err(BadVoucher::OtherOwner));
            let theirs = Knows { serial: Some("QF-0418"), ..know };
            assert_eq!(Voucher::believe(&signed, &theirs), Err(BadVoucher::OtherDevice { found: "QF-0417".into() }));
            assert_eq!(Voucher::believe(&signed, &knows(&roots, 1_000)).map(drop), Ok(()), "its last second counts");
            let ends = UnixTime(NOW.0 + 1_000);
            assert_eq!(Voucher::believe(&signed, &knows(&roots, 1_001)), Err(BadVoucher::Ended { ends }));
            assert_eq!(Voucher::believe(&signed, &knows(&roots, -301)), Err(BadVoucher::NotYet { created: NOW }));
            // A device without a clock wants a nonce, and whoever asked with one takes nothing else.
            assert_eq!(Voucher::believe(&signed, &Knows { now: None, ..know }), Err(BadVoucher::Freshness));
            assert_eq!(Voucher::believe(&signed, &Knows { nonce: Some(&[1; 16]), ..know }), Err(BadVoucher::Nonce));
            // Another ward's root, another purpose, the certificate without its key.
            let strangers = [Root::new().root];
            assert!(matches!(Voucher::believe(&signed, &knows(&strangers, 0)), Err(BadVoucher::Signer(_))));
            for usage in [Usage::Client, Usage::Server, Usage::ClientAndServer, Usage::Errands, Usage::UNLIMITED] {
                let signed = said.sign(form, &[&world.sign(&key, usage)], &key).unwrap();
                let refused = Voucher::believe(&signed, &know);
                assert!(matches!(refused, Err(BadVoucher::Signer(_))), "{form:?} {usage:?}: {refused:?}");
            }
            let thief = SoftwareKey::generate(new).unwrap();
            let forged = said.sign(form, &[&certificate], &thief).unwrap();
            assert_eq!(Voucher::believe(&forged, &know), Err(BadVoucher::Signature));
            // Nor does a key that signs vouchers sign anything else.
            assert!(judge(&certificate, &[], &roots, Purpose::Errands, NOW).is_err());
            assert!(judge(&certificate, &[], &roots, Purpose::Client, NOW).is_err());
        }
    }
}

#[test]
fn a_nonce_is_answered_once_asked_and_never_beside_an_end() {
    let (world, owner) = (Root::new(), owner());
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let certificate = world.sign(&key, Usage::Vouchers);
    let roots = [world.root.clone()];
    for form in BOTH {
        let said = voucher(&owner, Fresh::Nonce(vec![7; 16]));
        let signed = said.sign(form, &[&certificate], &key).unwrap();
        let asked = |nonce| Knows { nonce, now: None, ..knows(&roots, 0) };
        assert_eq!(Voucher::believe(&signed, &asked(Some(&[7; 16]))), Ok(said.clone()), "without a clock");
        assert_eq!(Voucher::believe(&signed, &asked(Some(&[8; 16]))), Err(BadVoucher::Nonce));
        assert_eq!(Voucher::believe(&signed, &asked(None)), Err(BadVoucher::Nonce), "it asked with none");
    }
    // What has both, or neither, is none, whoever signed it.
    let whole = |more: &str| {
        let pinned = BASE64.encode(owner.der());
        let json = format!(
            "{{\"ietf-voucher:voucher\":{{\"created-on\":\"{NOW}\",\"assertion\":\"verified\",\"serial-number\":\"QF-0417\",\
             \"pinned-domain-cert\":\"{pinned}\"{more}}}}}"
        );
        cms::signed(json.as_bytes(), &[&certificate], &key, NOW).unwrap()
    };
    let know = knows(&roots, 0);
    let ends = format!(",\"expires-on\":\"{}\"", UnixTime(NOW.0 + 9));
    assert!(Voucher::believe(&whole(&ends), &know).is_ok());
    assert_eq!(Voucher::believe(&whole(""), &know), Err(BadVoucher::Freshness));
    assert_eq!(Voucher::believe(&whole(&format!("{ends},\"nonce\":\"BwcH\"")), &know), Err(BadVoucher::Freshness));
    assert!(matches!(Voucher::believe(&whole(&format!("{ends},\"more\":1")), &know), Err(BadVoucher::Form(_))));
}

proptest! {
    /// No octet of a voucher can be another, and nothing of any size makes a device stumble.
    #[test]
    fn every_octet_counts(place in 0usize..4_000, by in 1u8..=255, cut in 0usize..4_000, form in 0usize..2) {
        thread_local! {
            static MADE: (Certificate, [Vec<u8>; 2]) = {
                let (world, owner) = (Root::new(), owner());
                let key = SoftwareKey::generate(NewKey::P256).unwrap();
                let certificate = world.sign(&key, Usage::Vouchers);
                let said = voucher(&owner, Fresh::Until(UnixTime(NOW.0 + 1_000)));
                let signed = BOTH.map(|form| said.sign(form, &[&certificate], &key).unwrap());
                (world.root, signed)
            };
        }
        MADE.with(|(root, signed)| {
            let roots = std::slice::from_ref(root);
            let mut changed = signed[form].clone();
            let at = place % changed.len();
            changed[at] ^= by;
            prop_assert!(Voucher::believe(&changed, &knows(roots, 0)).is_err(), "changed at {}", at);
            let cut = &signed[form][..cut % signed[form].len()];
            prop_assert!(Voucher::believe(cut, &knows(roots, 0)).is_err());
            Ok(())
        })?;
    }

    #[test]
    fn nothing_of_any_form_is_believed(octets in proptest::collection::vec(any::<u8>(), 0..400)) {
        let _ = Voucher::believe(&octets, &knows(&[], 0));
        let _ = Voucher::believe(&[&[0x30], &octets[..]].concat(), &knows(&[], 0));
    }
}
