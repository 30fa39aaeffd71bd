//! A ward that moves from one engine to another and back.

use std::path::Path;
use std::time::Duration;

use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::TestRunner;
use tidy_warden_rig::Cluster;
use tidy_warden_store::copy::{Cell, CopyError, Row, TABLES, Whole, compare, copy, move_ward};
use tidy_warden_store::{GuardStore, Move, OperatorStore, ReadRecord, SqliteStore, StoreError, Tally, postgres};

use crate::bench::{World, access, broken, cause, device, new_file};
use crate::model::{Act, Cast, act, any_act, dump, hashes};

/// A ward in a file in which much has happened; gives when the last of it did.
fn full(path: &Path, world: &World, cast: &Cast) -> i64 {
    let mut store = OperatorStore::new(Box::new(new_file(path, world)));
    let mut guard = GuardStore::new(Box::new(SqliteStore::open(path).unwrap()));
    let mut runner = TestRunner::deterministic();
    let acts = proptest::collection::vec((any_act(), 0i64..300), 420..421).new_tree(&mut runner).unwrap().current();
    let mut at = 0;
    // What the acts below may never come to.
    act(&mut store, &mut guard, cast, &Act::Add { devices: (0..6).map(|number| (number, 0, u8::MAX)).collect() }, at);
    for certificate in 0..6 {
        let issue = Act::Issue { certificate, again: false, overlap: 0, foreign: false };
        act(&mut store, &mut guard, cast, &issue, at);
    }
    act(&mut store, &mut guard, cast, &Act::Revoke { device: 0, only: None, reason: 1 }, at);
    // Devices may share a fact, some have notes, and one that had a fact is retired.
    act(&mut store, &mut guard, cast, &Act::Settings(1), at);
    act(&mut store, &mut guard, cast, &Act::Edit { devices: vec![1, 2], label: 1, fact: 2, gateway: u8::MAX }, at);
    act(&mut store, &mut guard, cast, &Act::Add { devices: vec![(95, 95, 99)] }, at);
    act(&mut store, &mut guard, cast, &Act::Retire(95), at);
    for (what, later) in &acts {
        at += later;
        act(&mut store, &mut guard, cast, what, at);
    }
    // What the acts above may have ended again.
    act(&mut store, &mut guard, cast, &Act::EndIntended(true), at);
    act(&mut store, &mut guard, cast, &Act::Intend(7), at);
    act(&mut store, &mut guard, cast, &Act::EndIntended(true), at);
    act(&mut store, &mut guard, cast, &Act::Intend(3), at);
    act(&mut store, &mut guard, cast, &Act::Expect(3), at);
    act(&mut store, &mut guard, cast, &Act::OpenAdmissions(vec![(96, 96)]), at);
    (0..9).for_each(|key| drop(act(&mut store, &mut guard, cast, &Act::Ask(key, 4), at)));
    act(&mut store, &mut guard, cast, &Act::Post(6), at);
    act(&mut store, &mut guard, cast, &Act::PostSays(6, 1), at);
    act(&mut store, &mut guard, cast, &Act::RenewServer(6, 9), at);
    act(&mut store, &mut guard, cast, &Act::Add { devices: vec![(97, 97, 99), (98, 98, 99)] }, at);
    (0..3).for_each(|number| drop(act(&mut store, &mut guard, cast, &Act::AdoptSettings(number), at)));
    act(&mut store, &mut guard, cast, &Act::Introduce(8, 97, false), at);
    act(&mut store, &mut guard, cast, &Act::Trial(true), at);
    act(&mut store, &mut guard, cast, &Act::Difference(97, 1), at);
    act(&mut store, &mut guard, cast, &Act::Session(97, 1), at);
    act(&mut store, &mut guard, cast, &Act::Clone(97, false), at);
    act(&mut store, &mut guard, cast, &Act::Errand(97, 3), at);
    act(&mut store, &mut guard, cast, &Act::Notice(97, 1, true), at);
    act(&mut store, &mut guard, cast, &Act::Reflex(97, 4), at);
    act(&mut store, &mut guard, cast, &Act::Reflex(97, 0), at);
    (1..99).for_each(|number| drop(act(&mut store, &mut guard, cast, &Act::Carry(number, true), at)));
    act(&mut store, &mut guard, cast, &Act::Traffic(97, 1), at);
    for (owner, what) in [(5, 2), (6, 0), (7, 2), (7, 6)] {
        act(&mut store, &mut guard, cast, &Act::Owner(owner, what), at);
    }
    act(&mut store, &mut guard, cast, &Act::Add { devices: vec![(93, 93, 99), (94, 94, 99)] }, at);
    for (device, owner, what) in [(93, 6, 0), (93, 6, 4), (93, 7, 7), (94, 7, 0), (94, 5, 10), (94, 6, 5)] {
        act(&mut store, &mut guard, cast, &Act::Claim { device, owner, what }, at);
    }
    act(&mut store, &mut guard, cast, &Act::AddKey { device: 97, key: 11, replaces: None }, at);
    act(&mut store, &mut guard, cast, &Act::BlockToken { device: None, name: 1, before: None }, at);
    act(&mut store, &mut guard, cast, &Act::AddSigner(10), at);
    act(&mut store, &mut guard, cast, &Act::Wrap(1), at);
    act(&mut store, &mut guard, cast, &Act::DropGroup(2), at);
    act(&mut store, &mut guard, cast, &Act::Group { name: 2, members: Some(vec![97, 98]) }, at);
    at
}

#[test]
fn a_ward_that_moves_and_comes_back_is_the_same_in_every_row() {
    let mut world = World::new();
    let cast = Cast::new(&mut world);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    let at = full(&path, &world, &cast);
    let urn = SqliteStore::open(&path).unwrap().ward().unwrap().urn;
    let before = OperatorStore::new(Box::new(SqliteStore::open(&path).unwrap()));
    let (rows, entries) = (dump(&before, &cast, at), hashes(&before));
    for table in &TABLES {
        let some = SqliteStore::open(&path).unwrap().read_rows(table, &[], 1).unwrap();
        assert!(!some.is_empty() || table.name == "crosses", "nothing of `{}` is tried here", table.name);
    }
    let database = Cluster::shared().database();
    let place = Cluster::shared().address(&database);
    let mut told = Vec::new();
    let copied = move_ward(
        &mut SqliteStore::open(&path).unwrap(),
        &mut *postgres::open_copy(access(&database), &urn).unwrap(),
        &place,
        &mut |table, rows| told.push((table, rows)),
    )
    .unwrap();
    assert_eq!(told.iter().map(|(_, rows)| rows).sum::<u64>(), copied.rows);
    let there = OperatorStore::new(postgres::open(access(&database), None).unwrap());
    for (one, other) in rows.iter().zip(dump(&there, &cast, at)) {
        assert_eq!(*one, other);
    }
    assert_eq!((hashes(&there), broken(&there)), (entries.clone(), vec![]));

    // The old place can be read and takes nothing; a guard there knows that it is of the past.
    let mut old = OperatorStore::new(Box::new(SqliteStore::open(&path).unwrap()));
    let moved = Move { to: place.clone(), is_done: true };
    let refused = old.add_devices(&[device("wv-99", None)], &cause(at)).unwrap_err();
    assert!(matches!(&refused, StoreError::Moved { move_to } if *move_to == moved), "{refused}");
    let mut guard = GuardStore::new(Box::new(SqliteStore::open(&path).unwrap()));
    assert!(matches!(guard.changed_since(0), Err(StoreError::Moved { .. })));
    let tally = Tally::Sessions { kept: &[], gone: &[], now: cause(at).at };
    assert!(matches!(guard.tally(&tally), Err(StoreError::Moved { .. })));

    // And back, into another file.
    let home = dir.path().join("home.db");
    let back = move_ward(
        &mut *postgres::open_whole(access(&database)).unwrap(),
        &mut SqliteStore::open_copy(&home, &urn).unwrap(),
        "file",
        &mut |_, _| {},
    )
    .unwrap();
    assert_eq!(back, copied);
    let store = OperatorStore::new(Box::new(SqliteStore::open(&home).unwrap()));
    assert_eq!((dump(&store, &cast, at), hashes(&store)), (rows, entries));
    let mut gone = OperatorStore::new(postgres::open(access(&database), None).unwrap());
    assert!(matches!(gone.add_devices(&[device("wv-99", None)], &cause(at)), Err(StoreError::Moved { .. })));
    let mut guard = GuardStore::new(postgres::open(access(&database), Some(Duration::from_secs(1))).unwrap());
    assert!(matches!(guard.changed_since(0), Err(StoreError::Moved { .. })));
    assert!(matches!(guard.tally(&tally), Err(StoreError::Moved { .. })));
    // What came home takes changes again, and so goes on as if it had never been away.
    let mut store = store;
    store.add_devices(&[device("wv-99", None)], &cause(at)).unwrap().unwrap();
    assert_eq!(broken(&store), []);
}

#[test]
fn a_copy_that_was_killed_goes_on_and_what_is_not_finished_is_no_ward() {
    let mut world = World::new();
    let cast = Cast::new(&mut world);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    full(&path, &world, &cast);
    let mut from = SqliteStore::open(&path).unwrap();
    let urn = from.ward().unwrap().urn;
    let database = Cluster::shared().database();
    let note = |is_done| Move { to: "there".into(), is_done };
    // Tables arrive one by one, each time cut off at another.
    from.set_moved(Some(&note(false))).unwrap();
    for tables in (0..TABLES.len()).step_by(5) {
        let mut to = postgres::open_copy(access(&database), &urn).unwrap();
        for (at, table) in TABLES[..tables].iter().enumerate() {
            let after = to.last_key(table).unwrap().unwrap_or_default();
            // Those before the last are whole: others refer to them.
            let limit = if at + 1 == tables { 7 } else { 10_000 };
            let rows = from.read_rows(table, &after, limit).unwrap();
            if !rows.is_empty() {
                to.write_rows(table, &rows).unwrap();
            }
        }
        drop(to);
        assert!(matches!(postgres::open(access(&database), None), Err(StoreError::Unfinished { .. })));
        let refused = OperatorStore::new(Box::new(SqliteStore::open(&path).unwrap()))
            .add_devices(&[device("wv-99", None)], &cause(9));
        assert!(matches!(refused, Err(StoreError::Moved { move_to }) if !move_to.is_done));
    }
    // Nobody else's ward goes into it, and this one goes nowhere else meanwhile.
    assert!(matches!(postgres::open_copy(access(&database), "urn:uuid:2"), Err(StoreError::Exists { .. })));
    let mut to = postgres::open_copy(access(&database), &urn).unwrap();
    let elsewhere = move_ward(&mut from, &mut *to, "elsewhere", &mut |_, _| {});
    assert!(matches!(elsewhere, Err(CopyError::Store(StoreError::Moved { .. }))));
    let copied = move_ward(&mut from, &mut *to, "there", &mut |_, _| {}).unwrap();
    assert_eq!(compare(&from, &*postgres::open_whole(access(&database)).unwrap()).unwrap(), copied);
    // Once it is there nothing goes into it any more, and it is nobody's copy.
    let full = TABLES.iter().find(|table| table.name == "servers").unwrap();
    let row: Row = vec![Cell::Text("other".into()), Cell::Octets(vec![1])];
    let mut there = postgres::open_whole(access(&database)).unwrap();
    assert!(matches!(there.write_rows(full, std::slice::from_ref(&row)), Err(StoreError::Exists { .. })));
    assert!(matches!(from.write_rows(full, &[row]), Err(StoreError::Exists { .. })));
    assert!(matches!(postgres::open_copy(access(&database), &urn), Err(StoreError::Exists { .. })));
    assert!(matches!(SqliteStore::open_copy(&path, &urn), Err(StoreError::Exists { .. })));
}

#[test]
fn a_row_that_differs_is_found_whatever_it_is() {
    let mut world = World::new();
    let cast = Cast::new(&mut world);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    full(&path, &world, &cast);
    let mut from = SqliteStore::open(&path).unwrap();
    let urn = from.ward().unwrap().urn;
    for (sql, table) in [
        ("UPDATE devices SET held = 1 WHERE pk = 1", "devices"),
        ("UPDATE devices SET labels = '{\"other\":\"x\"}' WHERE pk = 1", "devices"),
        ("DELETE FROM facts WHERE (name, value) IN (SELECT name, value FROM facts ORDER BY 1, 2 LIMIT 1)", "facts"),
        (
            "ALTER TABLE credentials DISABLE TRIGGER revoked_for_good;
             UPDATE credentials SET revoked = NULL, reason = NULL WHERE revoked IS NOT NULL",
            "credentials",
        ),
        ("UPDATE audit SET detail = detail || ' ' WHERE number = 3", "audit"),
        ("UPDATE seen SET at = at + 1", "seen"),
        ("UPDATE head SET tree = '\\x00'", "head"),
        ("UPDATE ward SET settings = settings || ' '", "ward"),
    ] {
        let database = Cluster::shared().database();
        let mut to = postgres::open_copy(access(&database), &urn).unwrap();
        from.set_moved(None).unwrap();
        let place = Cluster::shared().address(&database);
        copy(&from, &mut *to, &mut |_, _| {}).unwrap();
        Cluster::shared().sql(&database, sql);
        let found = move_ward(&mut from, &mut *to, &place, &mut |_, _| {});
        assert!(matches!(&found, Err(CopyError::Differs { table: which, .. }) if *which == table), "{sql}: {found:?}");
        assert!(matches!(postgres::open(access(&database), None), Err(StoreError::Unfinished { .. })));
        assert!(!from.moved().unwrap().unwrap().is_done);
    }
    // What is in the file may be damaged itself.
    from.set_moved(None).unwrap();
    drop(from);
    rusqlite::Connection::open(&path).unwrap().execute("UPDATE audit SET subject = 'x' WHERE number = 2", []).unwrap();
    let mut from = SqliteStore::open(&path).unwrap();
    let database = Cluster::shared().database();
    let mut to = postgres::open_copy(access(&database), &urn).unwrap();
    let found = move_ward(&mut from, &mut *to, "there", &mut |_, _| {});
    assert!(matches!(found, Err(CopyError::Record(_))), "{found:?}");
    assert!(!from.moved().unwrap().unwrap().is_done);
}
