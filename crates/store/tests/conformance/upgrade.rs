//! Files that older versions wrote are brought up to date.

use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{GroupMembers, SqliteStore, Traffic};

use crate::bench::{NOW, World, cause, fresh, id, issue, opened};

/// The tables of format 1, as the first version wrote them.
const FORMAT_1: &str = include_str!("format-1.sql");

#[test]
fn a_store_of_format_1_is_brought_up_to_date() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    let mut world = World::new();
    let certificate = fresh(&mut world, "wv-1");
    {
        let old = rusqlite::Connection::open(&path).unwrap();
        old.execute_batch(FORMAT_1).unwrap();
        old.pragma_update(None, "user_version", 1).unwrap();
        old.pragma_update(None, "application_id", 0x5469_5761).unwrap();
        old.execute(
            "INSERT INTO authorities (pk, name, role, certificate, created) VALUES (1, 'devices', 'devices', ?1, 5)",
            [world.root.der()],
        )
        .unwrap();
        old.execute_batch(
            "INSERT INTO devices (pk, id, kind, created, changed) VALUES (1, 'wv-1', 'windvane', 5, 1), (2, 'wv-0', 'windvane', 5, 1);
             UPDATE devices SET retired = 6 WHERE id = 'wv-0';
             INSERT INTO labels VALUES (1, 'site', 'ossel');
             INSERT INTO facts VALUES (1, 'serial', 'QF-1', 1), (2, 'serial', 'QF-0', 0);
             INSERT INTO meta VALUES ('settings', 'a');",
        )
        .unwrap();
        let key_digest = tidy_warden_core::key::sha256(certificate.public_key.spki());
        old.execute(
            "INSERT INTO credentials (device, authority, serial, fingerprint, key_digest, key_type, certificate,
                 not_before, not_after, issued, revoked, reason)
             VALUES (1, 1, ?1, ?2, ?3, 'p256', ?4, 5, 6, 5, 7, 1)",
            rusqlite::params![certificate.serial.octets(), certificate.fingerprint.0, key_digest, certificate.der()],
        )
        .unwrap();
    }
    let mut store = opened(&path);
    let view = store.devices(&[id("wv-1")]).unwrap().pop().unwrap().unwrap();
    assert_eq!(view.device.labels["site"].as_str(), "ossel");
    assert_eq!(view.device.facts[&FactName::Serial].value(), "QF-1");
    let found = store.status_many(&[certificate.fingerprint]).unwrap().pop().unwrap().unwrap();
    assert_eq!((found.0.name(), found.0.revoked.is_some()), (certificate.serial.to_string(), true));
    assert_eq!(store.holder(&Fact::new(FactName::Serial, "QF-0").unwrap()).unwrap(), None, "a retired device's");
    // A key that was given up stays given up.
    let refused = issue(&mut store, "wv-1", &certificate, false, 1).unwrap();
    assert!(matches!(refused, Err(IssueRefusal::KeyCompromised { .. })), "{refused:?}");
    assert!(SqliteStore::open(&path).is_ok(), "it is done once");
}

/// The tables of format 2.
const FORMAT_2: &str = include_str!("format-2.sql");

#[test]
fn a_store_of_format_2_is_brought_up_to_date() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    {
        let old = rusqlite::Connection::open(&path).unwrap();
        old.execute_batch(FORMAT_2).unwrap();
        old.pragma_update(None, "user_version", 2).unwrap();
        old.pragma_update(None, "application_id", 0x5469_5761).unwrap();
        old.execute_batch(
            "INSERT INTO devices (id, kind, created, changed, labels) VALUES ('wv-1', 'windvane', 5, 1, '{\"site\":\"ossel\"}')",
        )
        .unwrap();
    }
    let mut store = opened(&path);
    let group = "night".parse().unwrap();
    store.make_group(&group, &GroupMembers::Fixed(vec![id("wv-1")]), &cause(1)).unwrap();
    let view = store.devices(&[id("wv-1")]).unwrap().remove(0).unwrap();
    assert!(view.device.groups.contains(&group) && view.device.labels["site"].as_str() == "ossel");
    drop(store);
    assert_eq!(opened(&path).groups().unwrap().len(), 1);
}

/// The tables of format 3.
const FORMAT_3: &str = include_str!("format-3.sql");

#[test]
fn a_store_of_format_3_is_brought_up_to_date() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    {
        let old = rusqlite::Connection::open(&path).unwrap();
        old.execute_batch(FORMAT_3).unwrap();
        old.pragma_update(None, "user_version", 3).unwrap();
        old.pragma_update(None, "application_id", 0x5469_5761).unwrap();
        old.execute_batch("INSERT INTO devices (id, kind, created, changed) VALUES ('wv-1', 'windvane', 5, 1)")
            .unwrap();
    }
    let mut store = opened(&path);
    assert_eq!(store.traffic(&id("wv-1")).unwrap(), Traffic::default());
    assert_eq!(store.set_hold(&[id("wv-1")], true, &cause(1)).unwrap(), [id("wv-1")]);
    drop(store);
    let held = opened(&path).devices(&[id("wv-1")]).unwrap().remove(0).unwrap().device.held;
    assert_eq!(held, Some(UnixTime(NOW + 1)));
}
