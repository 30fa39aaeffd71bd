//! Authorities.

use tidy_warden_core::authority::{AuthorityRefusal, AuthorityRole, KeyPlace, PendingAuthority, Trust};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{Introduction, NewAuthority};

use crate::bench::{NOW, cause, device, fresh, on_each};

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
        let trust =
            Some(Trust { kinds: vec!["windvane".parse().unwrap()], facts: vec![FactName::Serial, FactName::Mac] });
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

#[test]
fn a_maker_introduces_the_device_whose_facts_are_all_what_its_certificate_says() {
    on_each(|store, guard, world| {
        let mac = |text: &str| Fact::new(FactName::Mac, text).unwrap();
        let serial = Fact::new(FactName::Serial, "QF-1").unwrap();
        let mut vane = device("wv-1", Some("QF-1"));
        vane.facts.insert(FactName::Mac, mac("00:16:3e:00:00:01"));
        store.add_devices(&[vane, device("wv-2", Some("QF-2"))], &cause(1)).unwrap().unwrap();
        let (maker, kinds) = ("devices".parse().unwrap(), ["windvane".parse().unwrap()]);
        let certificate = fresh(world, "wv-1");
        let mut introduced = |facts: &[Fact]| {
            let shown = Introduction { maker: &maker, kinds: &kinds, facts, certificate: &certificate };
            guard.introduce(&shown, &cause(2)).unwrap().map(|id| id.to_string())
        };
        assert_eq!(introduced(&[]), None);
        assert_eq!(introduced(&[serial.clone(), mac("00:16:3e:00:00:02")]), None, "one fact of two is another's");
        assert_eq!(introduced(&[mac("00:16:3e:00:00:09"), serial.clone()]), None, "the first is the one that tells");
        assert_eq!(introduced(&[serial.clone(), mac("00:16:3e:00:00:01")]).as_deref(), Some("wv-1"));
        let other = fresh(world, "wv-2");
        // What is not known of a device is no contradiction.
        let facts = [Fact::new(FactName::Serial, "QF-2").unwrap(), mac("00:16:3e:00:00:02")];
        let shown = Introduction { maker: &maker, kinds: &kinds, facts: &facts, certificate: &other };
        assert_eq!(guard.introduce(&shown, &cause(3)).unwrap().map(|id| id.to_string()).as_deref(), Some("wv-2"));
    });
}
