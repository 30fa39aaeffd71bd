//! Authorities.

use tidy_warden_core::authority::{AuthorityRefusal, AuthorityRole, KeyPlace, PendingAuthority, Trust};
use tidy_warden_core::fact::FactName;
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::NewAuthority;

use crate::bench::{NOW, cause, on_each};

#[test]
fn authorities_are_added_once_and_wait_for_their_answer() {
    on_each(|store, _, world| {
        let key = SoftwareKey::generate(NewKey::P384).unwrap();
        let certificate = world.certificate("devices-2", &key.proven(), 300);
        let (name, old) = ("devices-2".parse().unwrap(), "devices".parse().unwrap());
        let token = KeyPlace::Token { token: "hsm".into(), label: "devices-2".into() };
        let pending = PendingAuthority {
            name: "devices-2".parse().unwrap(),
            role: AuthorityRole::Devices,
            public_key: key.public_key().clone(),
            key: token.clone(),
            created: UnixTime(NOW),
        };
        store.expect_authority(&pending, &cause(1)).unwrap().unwrap();
        assert_eq!(store.pending_authorities().unwrap(), std::slice::from_ref(&pending));
        let other = PendingAuthority { name: "other".parse().unwrap(), ..pending.clone() };
        let refused = store.expect_authority(&other, &cause(1)).unwrap();
        assert_eq!(refused, Err(AuthorityRefusal::KeyTaken("devices-2".parse().unwrap())));
        let trust = Some(Trust { kinds: vec!["windvane".parse().unwrap()], fact: FactName::Serial });
        let new = NewAuthority {
            name: &name,
            role: AuthorityRole::Devices,
            certificate: &certificate,
            key: token.clone(),
            replaces: Some(&old),
            trust: trust.clone(),
            crosses: &[("devices".parse().unwrap(), certificate.clone())],
        };
        store.add_authority(&new, &cause(2)).unwrap().unwrap();
        assert_eq!(store.pending_authorities().unwrap(), []);
        let again = store.add_authority(&new, &cause(2)).unwrap();
        assert_eq!(again, Err(AuthorityRefusal::NameTaken(name.clone())));
        let all = store.authorities().unwrap();
        assert_eq!(all[0].crossed, [certificate]);
        let found = (&all[1].key, &all[1].replaces, &all[1].trust, all[1].retired, all[1].created);
        assert_eq!(found, (&token, &Some(old), &trust, None, UnixTime(NOW + 2)));
        store.retire_authority(&name, &cause(3)).unwrap();
        assert_eq!(store.authorities().unwrap()[1].retired, Some(UnixTime(NOW + 3)));
        assert!(store.retire_authority(&"none".parse().unwrap(), &cause(3)).is_err());
    });
}
