//! One certificate, its outfit, and the list of those that were revoked.

use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::Span;
use tidy_warden_ward::crl;
use tidy_warden_ward::issue::intended::{self, Recovered};
use tidy_warden_ward::issue::one::{enroll, ready};
use tidy_warden_ward::issue::press::KeySource;
use tidy_warden_ward::issue::refresh;
use tidy_warden_ward::problem::Kind;

use tidy_warden_rig::ward::{Bench, Holder, NOW};

#[test]
fn a_device_gets_an_outfit_that_is_whole_and_recorded() {
    let mut bench = Bench::new();
    let id = bench.list(["wv-1".to_owned()].into_iter()).remove(0);
    let out = bench.path("outfits");
    let made = enroll(&mut bench.ward, &id, KeySource::MakeHere, &out, false, &Holder::right(), Some("new")).unwrap();
    let pem = std::fs::read_to_string(made.outfit.join("device.pem")).unwrap();
    let first = pem.split_inclusive("-----END CERTIFICATE-----").next().unwrap();
    let certificate = Certificate::from_pem(first.trim()).unwrap();
    assert_eq!(certificate.fingerprint, made.certificate.fingerprint);
    let known = bench.ward.device(&id).unwrap().credentials;
    assert_eq!((known.len(), known[0].fingerprint), (1, certificate.fingerprint));
    assert!(bench.ward.store.intended().unwrap().is_empty(), "nothing is left to be done");
    let again = enroll(&mut bench.ward, &id, KeySource::MakeHere, &out, false, &Holder::right(), None);
    assert!(again.err().unwrap().text_for_people().contains("--again"));
    let taken = enroll(&mut bench.ward, &id, KeySource::MakeHere, &out, true, &Holder::right(), None);
    assert!(taken.err().unwrap().text_for_people().contains("never overwritten"));
    assert_eq!(bench.ward.device(&id).unwrap().credentials.len(), 1, "what was refused is not recorded");
    assert!(bench.ward.store.intended().unwrap().is_empty());
    // A certificate that is there can get its outfit once more, but for the key, which is nowhere else.
    let view = bench.ward.device(&id).unwrap();
    let authority = bench.ward.named_authority(&refresh::signed_by(&view, NOW).unwrap()).unwrap();
    let mint = tidy_warden_ward::issue::press::Mint::new(&bench.ward).unwrap();
    refresh::write(&mint, &view, &authority, &made.outfit).unwrap();
    assert!(made.outfit.join("device.key").exists());
}

#[test]
fn whoever_may_not_have_a_certificate_gets_none_and_nothing_is_signed() {
    let mut bench = Bench::new();
    let ids = bench.list(["wv-1", "wv-2", "wv-3"].map(str::to_owned).into_iter());
    let (cause, out) = (bench.ward.cause(Some("a test")), bench.path("out"));
    bench.ward.store.set_hold(&ids[..1], true, &cause).unwrap();
    bench.ward.store.retire_device(&ids[1], &cause).unwrap();
    for id in &ids[..2] {
        let view = bench.ward.device(id).unwrap();
        assert_eq!(ready(&bench.ward, &view, true).err().unwrap().kind(), Kind::Refused);
        let refused = enroll(&mut bench.ward, id, KeySource::MakeHere, &out, true, &Holder::right(), None);
        assert_eq!(refused.err().unwrap().kind(), Kind::Refused);
    }
    let wrong = enroll(&mut bench.ward, &ids[2], KeySource::MakeHere, &out, false, &Holder::wrong(), None);
    assert!(wrong.err().unwrap().text_for_people().contains("the passphrase is wrong"));
    let nobody = "wv-9".parse().unwrap();
    let unknown = enroll(&mut bench.ward, &nobody, KeySource::MakeHere, &out, false, &Holder::right(), None);
    assert_eq!(unknown.err().unwrap().kind(), Kind::NotFound);
    assert!(!out.exists() || std::fs::read_dir(&out).unwrap().next().is_none());

    // One key for two devices.
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let source = || KeySource::Proven(key.proven());
    enroll(&mut bench.ward, &ids[2], source(), &out, false, &Holder::right(), None).unwrap();
    let other = bench.list(["wv-4".to_owned()].into_iter()).remove(0);
    let refused = enroll(&mut bench.ward, &other, source(), &out, false, &Holder::right(), None).err().unwrap();
    assert!(refused.text_for_people().contains("the key was refused"), "{}", refused.text_for_people());
    assert!(!out.join("wv-4").exists());
}

#[test]
fn what_a_dead_process_intended_is_finished_or_counts_as_revoked() {
    let mut bench = Bench::new();
    let ids = bench.list(["wv-1", "wv-2"].map(str::to_owned).into_iter());
    let out = bench.path("out");
    let made = enroll(&mut bench.ward, &ids[0], KeySource::MakeHere, &out, false, &Holder::right(), None).unwrap();
    let authority = bench.ward.authority(AuthorityRole::Devices).unwrap();
    // Killed after it was recorded, before the outfit got its name.
    let cause = bench.ward.cause(None);
    let note = |id: &tidy_warden_core::id::DeviceId, certificate: &Certificate| tidy_warden_store::Intended {
        serial: certificate.serial.clone(),
        authority: authority.name.clone(),
        device: id.clone(),
        not_after: certificate.not_after,
        place: Some(out.join(id.as_str()).display().to_string()),
    };
    let first = note(&ids[0], &made.certificate);
    bench.ward.store.intend(&first, &cause).unwrap();
    let suffix = intended::suffix(&first.serial);
    let beside = tidy_warden_ward::files::partial(&made.outfit, &suffix);
    std::fs::rename(&made.outfit, &beside).unwrap();
    // Killed before it was recorded: nobody knows whether it was signed.
    let elsewhere = bench.path("elsewhere");
    let second = enroll(&mut bench.ward, &ids[1], KeySource::MakeHere, &elsewhere, false, &Holder::right(), None);
    let mut lost = note(&ids[1], &second.unwrap().certificate);
    let mut serial = lost.serial.octets().to_vec();
    *serial.last_mut().unwrap() ^= 1;
    lost.serial = tidy_warden_core::certificate::SerialNumber::from_octets(&serial).unwrap();
    bench.ward.store.intend(&lost, &cause).unwrap();

    let mut told = Vec::new();
    intended::recover(&mut bench.ward, &mut |recovered| told.push(recovered)).unwrap();
    assert!(
        told.iter().any(|each| matches!(each, Recovered::Finished { device, .. } if *device == ids[0])),
        "{told:?}"
    );
    assert!(made.outfit.join("device.pem").exists() && !beside.exists());
    assert!(bench.ward.store.intended().unwrap().is_empty());
    let next = bench.ward.store.next_crl(&authority.name).unwrap();
    assert_eq!(next.entries.len(), 1, "the serial that nobody knows of is on the list");
    assert_eq!(next.entries[0].serial, lost.serial);
}

#[test]
fn a_crl_is_recorded_if_it_was_written_and_not_otherwise() {
    let mut bench = Bench::new();
    let ids = bench.list(["wv-1".to_owned()].into_iter());
    let out = bench.path("outfits");
    enroll(&mut bench.ward, &ids[0], KeySource::MakeHere, &out, false, &Holder::right(), None).unwrap();
    let cause = bench.ward.cause(Some("lost"));
    bench.ward.store.revoke_devices(&ids, Reason::KeyCompromise, &cause).unwrap();
    let authority = crl::waiting(&bench.ward).unwrap();
    assert!(authority.crl_pending);
    let life = Span::from_days(7);
    let nowhere = bench.path("none/devices.crl");
    let failed = crl::sign(&mut bench.ward, &authority, life, None, &Holder::right(), &nowhere, false);
    assert!(failed.err().unwrap().text_for_people().contains("devices.crl"));
    let file = bench.path("devices.crl");
    let signed = crl::sign(&mut bench.ward, &authority, life, None, &Holder::right(), &file, false).unwrap();
    assert_eq!((signed.number, signed.entries.len(), signed.next_update), (1, 1, NOW.plus(life)), "no number was lost");
    assert!(!crl::waiting(&bench.ward).unwrap().crl_pending);
    assert!(std::fs::read_to_string(&file).unwrap().starts_with("-----BEGIN X509 CRL-----"));
    let second = crl::sign(&mut bench.ward, &authority, life, None, &Holder::right(), &file, true).unwrap();
    assert_eq!(second.number, 2);
    assert_eq!(std::fs::read(&file).unwrap()[0], 0x30, "DER");
}
