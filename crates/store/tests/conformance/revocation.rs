//! Revocations and the lists that tell of them.

use tidy_warden_core::certificate::SerialNumber;
use tidy_warden_core::credential::{Ended, Revocation};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{OperatorStore, StoreError};

use crate::bench::{NOW, cause, device, fresh, id, issue, on_each};

#[test]
fn revoking_a_device_ends_all_it_has_until_it_is_reopened() {
    on_each(|store, _, world| {
        store.add_devices(&[device("wv-1", None)], &cause(0)).unwrap().unwrap();
        let certificate = fresh(world, "wv-1");
        issue(store, "wv-1", &certificate, false, 1).unwrap().unwrap();
        let all = Revocation { device: &id("wv-1"), only: None, reason: Reason::PrivilegeWithdrawn };
        let ended = store.revoke(all, &cause(2)).unwrap();
        let serial = Some(certificate.serial.clone());
        assert_eq!(ended, [Ended { fingerprint: certificate.fingerprint, serial, listed: true }]);
        assert_eq!(store.revoke(all, &cause(3)).unwrap(), [], "what is over is not ended twice");
        assert_eq!(store.fingerprints_of(&certificate.serial).unwrap(), [certificate.fingerprint]);
        assert_eq!(store.fingerprints_of(&SerialNumber::from_octets(&[9]).unwrap()).unwrap(), []);
        let (credential, device) = store.status_many(&[certificate.fingerprint]).unwrap().remove(0).unwrap();
        assert_eq!(credential.revoked, Some((UnixTime(NOW + 2), Reason::PrivilegeWithdrawn)));
        assert_eq!((device.out, device.tokens_from), (Some(UnixTime(NOW + 2)), UnixTime(NOW + 4)));
        let next = fresh(world, "wv-1");
        assert!(matches!(issue(store, "wv-1", &next, true, 4).unwrap(), Err(IssueRefusal::Out { .. })));
        assert!(store.reopen_device(&id("wv-1"), &cause(5)).unwrap());
        assert!(!store.reopen_device(&id("wv-1"), &cause(5)).unwrap());
        issue(store, "wv-1", &next, false, 6).unwrap().unwrap();
        store.retire_device(&id("wv-1"), &cause(7)).unwrap();
        let after = fresh(world, "wv-1");
        assert!(matches!(issue(store, "wv-1", &after, true, 8).unwrap(), Err(IssueRefusal::Retired { .. })));
        assert!(!store.reopen_device(&id("wv-1"), &cause(9)).unwrap());
    });
}

#[test]
fn crls_are_numbered_and_stay_pending_for_what_came_meanwhile() {
    on_each(|store, _, world| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let authority = "devices".parse().unwrap();
        for of in ["wv-1", "wv-2"] {
            let certificate = fresh(world, of);
            issue(store, of, &certificate, false, 1).unwrap().unwrap();
        }
        let revoke = |store: &mut OperatorStore, of| {
            let what = Revocation { device: &id(of), only: None, reason: Reason::Unspecified };
            store.revoke(what, &cause(2)).unwrap();
        };
        revoke(store, "wv-1");
        let crl = store.next_crl(&authority).unwrap();
        assert_eq!((crl.number, crl.entries.len()), (1, 1));
        revoke(store, "wv-2");
        let record =
            |store: &mut OperatorStore, crl: &_| store.record_crl(&authority, crl, &cause(3), &mut || Ok(())).unwrap();
        assert!(record(store, &crl));
        assert!(!record(store, &crl), "the number is taken");
        assert!(store.authorities().unwrap()[0].crl_pending, "wv-2 is not on it");
        let next = store.next_crl(&authority).unwrap();
        assert_eq!((next.number, next.entries.len()), (2, 2));
        let failing =
            store.record_crl(&authority, &next, &cause(4), &mut || Err(std::io::ErrorKind::StorageFull.into()));
        assert!(matches!(failing, Err(StoreError::Delivery(_))));
        assert!(record(store, &next), "what could not be delivered was not recorded");
        assert!(!store.authorities().unwrap()[0].crl_pending);
    });
}
