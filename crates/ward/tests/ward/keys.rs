//! Keys at rest, and who opens them.

use std::os::unix::fs::PermissionsExt;

use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::key::{LockCost, NewKey, Signer, SoftwareKey};
use tidy_warden_ward::keys::{self, Openers, Passphrase};
use tidy_warden_ward::problem::Kind;

use tidy_warden_rig::ward::{Bench, Holder};

#[test]
fn a_key_opens_with_its_passphrase_alone_and_belongs_to_its_certificate() {
    let bench = Bench::new();
    let devices = bench.ward.authority(AuthorityRole::Devices).unwrap();
    let signer = Holder::right().signer(&bench.ward, &devices).unwrap();
    assert_eq!(*signer.public_key(), devices.certificate.public_key);
    let wrong = Holder::wrong().signer(&bench.ward, &devices).err().unwrap();
    assert_eq!(wrong.kind(), Kind::Failed);
    assert!(wrong.text_for_people().contains("the passphrase is wrong"), "{}", wrong.text_for_people());

    // The root's key in the place of the authority's opens, and is refused.
    let keys = bench.ward.dir.join("keys");
    std::fs::copy(keys.join("root.key"), keys.join("devices.key")).unwrap();
    let other = Holder::right().signer(&bench.ward, &devices).err().unwrap();
    assert!(other.text_for_people().contains("does not belong to its certificate"), "{}", other.text_for_people());

    std::fs::write(keys.join("devices.key"), "rubbish").unwrap();
    assert_eq!(Holder::right().signer(&bench.ward, &devices).err().unwrap().kind(), Kind::Failed);
    std::fs::remove_file(keys.join("devices.key")).unwrap();
    let gone = Holder::right().signer(&bench.ward, &devices).err().unwrap();
    assert!(gone.text_for_people().contains("devices.key"), "{}", gone.text_for_people());
}

#[test]
fn a_new_key_is_a_new_file_for_its_owner_only() {
    let bench = Bench::new();
    let path = bench.path("some.key");
    let key = SoftwareKey::generate(NewKey::Ed25519).unwrap();
    keys::lock(&key, &path, &Holder::right().0, LockCost::Rehearsal).unwrap();
    assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
    let before = std::fs::read(&path).unwrap();
    assert!(keys::lock(&key, &path, &Holder::right().0, LockCost::Rehearsal).is_err(), "it is never written over");
    assert_eq!(std::fs::read(&path).unwrap(), before);
    let opened = keys::open(&path, &Holder::right().0).unwrap();
    assert_eq!(opened.public_key(), key.public_key());
}

#[test]
fn an_authority_gets_a_key_only_under_a_passphrase_that_is_worth_something() {
    let bench = Bench::new();
    let weak = Holder(Passphrase::new(b"short".to_vec()));
    assert_eq!(weak.make(&bench.ward, "more", NewKey::P256, None).err().unwrap().kind(), Kind::Refused);
    assert!(!bench.ward.dir.join("keys/more.key").exists());
    let (signer, place) = Holder::right().make(&bench.ward, "more", NewKey::P256, None).unwrap();
    let again = Holder::right().signer_at(&bench.ward, "more", &place).unwrap();
    assert_eq!(again.public_key(), signer.public_key());
    let token = Holder::right().make(&bench.ward, "more", NewKey::P256, Some("usb")).err().unwrap();
    assert!(token.text_for_people().contains("no PKCS#11 module"), "{}", token.text_for_people());
    for (text, good) in [("aaaaaaaaaaaaaaaa", false), ("abcdabcdabcd", false), ("four good words here", true)] {
        assert_eq!(keys::strong_enough(&Passphrase::new(text.into()), "it").is_ok(), good, "{text}");
    }
}
