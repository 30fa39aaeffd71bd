//! Files that older versions wrote are brought up to date.

use std::path::Path;

use tidy_warden_core::condition::{Candidate, Condition};
use tidy_warden_core::credential::Revocation;
use tidy_warden_core::device::{DeviceEdit, DeviceRecord};
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::policy::PolicyFile;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{GroupMembers, GuardStore, JobKind, Lease, NewJob, OperatorStore, SqliteStore, Traffic};

use crate::bench::{NOW, World, broken, cause, device, file_store, fresh, id, issue, opened};
use crate::model::{Cast, dump, hashes};

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

/// The tables of formats 4 to 14.
const FORMAT_4: &str = include_str!("format-4.sql");
const FORMAT_5: &str = include_str!("format-5.sql");
const FORMAT_6: &str = include_str!("format-6.sql");
const FORMAT_7: &str = include_str!("format-7.sql");
const FORMAT_8: &str = include_str!("format-8.sql");
const FORMAT_9: &str = include_str!("format-9.sql");
const FORMAT_10: &str = include_str!("format-10.sql");
const FORMAT_11: &str = include_str!("format-11.sql");
const FORMAT_12: &str = include_str!("format-12.sql");
const FORMAT_13: &str = include_str!("format-13.sql");
const FORMAT_14: &str = include_str!("format-14.sql");

/// Does what the first version knew how to do.
fn live(store: &mut OperatorStore, guard: &mut GuardStore, cast: &Cast) {
    let mut child = device("wv-3", Some("QF-3"));
    child.gateway = Some(id("wv-0"));
    let all = [device("wv-0", Some("QF-1")), device("wv-1", None), device("wv-2", Some("QF-2")), child];
    store.add_devices(&all, &cause(1)).unwrap().unwrap();
    let edit =
        DeviceEdit { labels: vec![("pylon".parse().unwrap(), Some("p7".parse().unwrap()))], ..DeviceEdit::default() };
    store.edit_device(&id("wv-1"), &edit, &cause(2)).unwrap().unwrap();
    let give = |store: &mut OperatorStore, number: usize, again: bool, at: i64| {
        let (of, certificate) = &cast.certificates[number];
        issue(store, of.as_str(), certificate, again, at).unwrap().unwrap();
    };
    (0..4).for_each(|number| give(store, number, false, 3));
    give(store, 6, true, 4);
    let first = cast.certificates[0].1.fingerprint;
    guard.record_uses(&[(id("wv-0"), Some(first)), (id("wv-3"), None)], &cause(90)).unwrap();
    let revoke = |store: &mut OperatorStore, of: &str, reason, at| {
        store.revoke(Revocation { device: &id(of), only: None, reason }, &cause(at)).unwrap();
    };
    revoke(store, "wv-1", Reason::KeyCompromise, 100);
    revoke(store, "wv-2", Reason::Superseded, 101);
    store.reopen_device(&id("wv-2"), &cause(102)).unwrap();
    store.retire_device(&id("wv-3"), &cause(103)).unwrap();
    let devices = "devices".parse().unwrap();
    let crl = store.next_crl(&devices).unwrap();
    store.record_crl(&devices, &crl, &cause(104), &mut || Ok(())).unwrap();
    revoke(store, "wv-2", Reason::Unspecified, 105);
    store.adopt(&[PolicyFile { name: "p".into(), text: "policy p { for id = a }".into() }], &cause(106)).unwrap();
}

/// Writes what stands in `fresh` into a new file of an old format, as far as that has room for it.
fn written_as(format: i64, tables: &str, fresh: &Path, path: &Path) {
    let old = rusqlite::Connection::open(path).unwrap();
    old.execute_batch(tables).unwrap();
    old.pragma_update(None, "user_version", format).unwrap();
    old.pragma_update(None, "application_id", 0x5469_5761).unwrap();
    old.execute("ATTACH ?1 AS fresh", [fresh.to_str().unwrap()]).unwrap();
    let list = |sql: &str| -> Vec<String> {
        let mut statement = old.prepare(sql).unwrap();
        statement.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
    };
    let columns =
        |schema: &str, table: &str| list(&format!("SELECT name FROM pragma_table_info('{table}', '{schema}')"));
    for table in list("SELECT name FROM main.sqlite_schema WHERE type = 'table'") {
        let theirs = columns("fresh", &table);
        let both: Vec<String> = columns("main", &table).into_iter().filter(|each| theirs.contains(each)).collect();
        if both.is_empty() || format == 1 && table == "facts" {
            continue;
        }
        let both = both.join(", ");
        old.execute_batch(&format!("INSERT INTO main.{table} ({both}) SELECT {both} FROM fresh.{table}")).unwrap();
    }
    if format < 6 {
        old.execute_batch("DELETE FROM main.meta WHERE key = 'audit_tree'").unwrap();
    }
    if format == 1 {
        old.execute_batch(
            "INSERT INTO main.labels SELECT pk, key, value FROM fresh.devices, json_each(labels);
             INSERT INTO main.facts SELECT pk, key, value, retired IS NULL FROM fresh.devices, json_each(facts);",
        )
        .unwrap();
    }
    old.execute_batch("DETACH fresh").unwrap();
}

#[test]
fn a_file_of_each_earlier_format_becomes_what_a_fresh_ward_with_the_same_acts_is() {
    let mut world = World::new();
    let cast = Cast::new(&mut world);
    let tables = [
        FORMAT_1, FORMAT_2, FORMAT_3, FORMAT_4, FORMAT_5, FORMAT_6, FORMAT_7, FORMAT_8, FORMAT_9, FORMAT_10, FORMAT_11,
        FORMAT_12, FORMAT_13, FORMAT_14,
    ];
    for (format, tables) in (1..).zip(tables) {
        let dir = tempfile::tempdir().unwrap();
        let (fresh, path) = (dir.path().join("fresh.db"), dir.path().join("ward.db"));
        let mut store = file_store(&fresh, &world);
        let mut guard = GuardStore::new(Box::new(SqliteStore::open(&fresh).unwrap()));
        live(&mut store, &mut guard, &cast);
        if format < 5 {
            // The entry that recorded a credential was not noted with it then.
            let raw = rusqlite::Connection::open(&fresh).unwrap();
            raw.execute_batch("UPDATE credentials SET entry = NULL").unwrap();
        }
        written_as(format, tables, &fresh, &path);
        let upgraded = opened(&path);
        assert_eq!(broken(&upgraded), [], "format {format}");
        for (upgraded, fresh) in dump(&upgraded, &cast, 200).iter().zip(dump(&store, &cast, 200)) {
            assert_eq!(*upgraded, fresh, "format {format}");
        }
        assert_eq!(hashes(&upgraded), hashes(&store));
        assert!(upgraded.blocked_key(&cast.digest_of(1)).unwrap().is_some(), "format {format}");
        drop(upgraded);
        assert!(SqliteStore::open(&path).is_ok(), "it is done once");
    }
}

#[test]
fn a_group_that_names_a_label_note_spells_it_out_from_format_11_on() {
    let world = World::new();
    let dir = tempfile::tempdir().unwrap();
    let (fresh, path) = (dir.path().join("fresh.db"), dir.path().join("ward.db"));
    let mut store = file_store(&fresh, &world);
    let label = |text: &str| ("note".parse().unwrap(), text.parse().unwrap());
    let spare = DeviceRecord { labels: [label("spare")].into(), ..device("wv-1", None) };
    store.add_devices(&[spare, device("wv-2", None)], &cause(1)).unwrap().unwrap();
    let rule = GroupMembers::Rule("site = ossel".to_owned());
    store.make_group(&"spares".parse().unwrap(), &rule, &cause(2)).unwrap();
    drop(store);
    written_as(10, FORMAT_10, &fresh, &path);
    let old = rusqlite::Connection::open(&path).unwrap();
    old.execute_batch("UPDATE device_groups SET rule = 'not (note = spare or kind = cabin) and note known'").unwrap();
    drop(old);
    let upgraded = opened(&path);
    let groups = upgraded.groups().unwrap();
    assert_eq!(groups[0].rule.as_deref(), Some("not (label.note = spare or kind = cabin) and label.note known"));
    let rule = tidy_warden_store::resolvable(&groups).unwrap().into_values().next().unwrap().unwrap();
    let has = |id: &str, rule: &Condition| {
        let view = upgraded.devices(&[id.parse().unwrap()]).unwrap().remove(0).unwrap();
        rule.holds(&Candidate::at(&view.device, &view.credentials, UnixTime(NOW)))
    };
    assert_eq!((has("wv-1", &rule), has("wv-2", &rule)), (false, false));
    let Condition::All(parts) = &*rule else { panic!("{rule}") };
    assert_eq!((has("wv-1", &parts[1]), has("wv-2", &parts[1])), (true, false), "its label, and not its note");
}

#[test]
fn a_bulk_run_of_format_5_goes_on_as_a_job() {
    let world = World::new();
    let dir = tempfile::tempdir().unwrap();
    let (fresh, path) = (dir.path().join("fresh.db"), dir.path().join("ward.db"));
    let mut store = file_store(&fresh, &world);
    let lease = Lease { holder: "me".into(), until: UnixTime(NOW + 60) };
    let new =
        NewJob { kind: JobKind::Enroll, digest: [0; 32], plan: "{}", position: "0", parts: &[], subject: "bulk run" };
    store.begin_job(&new, &lease, &cause(1)).unwrap().unwrap();
    written_as(5, FORMAT_5, &fresh, &path);
    let old = rusqlite::Connection::open(&path).unwrap();
    old.execute_batch("INSERT INTO bulk VALUES (1, '{\"input\":\"x\"}', '{\"byte\":7}')").unwrap();
    drop(old);
    let mut upgraded = opened(&path);
    let job = upgraded.job(1).unwrap().unwrap();
    assert_eq!(
        (job.kind, job.plan.as_str(), job.position.as_str()),
        (JobKind::Enroll, r#"{"input":"x"}"#, r#"{"byte":7}"#)
    );
    assert_eq!((job.begun, job.actor.as_str(), job.lease), (UnixTime(NOW + 1), "ada", None));
    assert!(upgraded.take_job(1, &lease, &|_| false, &cause(2)).unwrap().is_ok());
}
