//! What holds of an SQLite file alone.

use tidy_warden_core::audit::Broken;
use tidy_warden_store::{SqliteStore, StoreError};

use crate::bench::{World, broken, cause, device, file_store, opened};

#[test]
fn two_writers_wait_for_each_other() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    drop(file_store(&path, &World::new()));
    std::thread::scope(|scope| {
        for writer in 0..4 {
            let path = &path;
            scope.spawn(move || {
                let mut store = opened(path);
                for number in 0..25 {
                    let device = device(&format!("wv-{writer}-{number}"), None);
                    store.add_devices(&[device], &cause(number)).unwrap().unwrap();
                }
            });
        }
    });
    let store = opened(&path);
    let mut count = 0;
    store.each_device(&mut |_| count += 1).unwrap();
    assert_eq!((count, store.audit_end().unwrap().0), (100, 101));
    assert_eq!(broken(&store), []);
}

#[test]
fn a_store_of_a_newer_version_and_a_foreign_file_are_refused() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    drop(file_store(&path, &World::new()));
    let raw = rusqlite::Connection::open(&path).unwrap();
    raw.pragma_update(None, "user_version", 99).unwrap();
    drop(raw);
    assert!(matches!(SqliteStore::open(&path), Err(StoreError::Newer { found: 99, known: 15 })));
    let foreign = dir.path().join("foreign.db");
    rusqlite::Connection::open(&foreign).unwrap().execute_batch("CREATE TABLE t (a)").unwrap();
    assert!(matches!(SqliteStore::open(&foreign), Err(StoreError::Damaged { .. })));
    let text = dir.path().join("text.db");
    std::fs::write(&text, "not a database, but long enough to be taken for one by its length alone".repeat(20))
        .unwrap();
    assert!(matches!(SqliteStore::open(&text), Err(StoreError::Damaged { .. })));
    assert!(matches!(SqliteStore::open(&dir.path().join("none.db")), Err(StoreError::Absent { .. })));
}

#[test]
fn tampering_with_the_file_is_found() {
    for (sql, want) in [
        ("UPDATE audit SET subject = 'wv-9' WHERE number = 2", Broken::Changed { number: 2 }),
        ("DELETE FROM audit WHERE number = 2", Broken::Missing { first: 2, last: 2 }),
        ("DELETE FROM audit WHERE number = 3", Broken::Truncated { found: 2, noted: 3 }),
        ("UPDATE audit SET hash = x'00' WHERE number = 2", Broken::Changed { number: 2 }),
    ] {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("ward.db");
        let mut store = file_store(&path, &World::new());
        store.add_devices(&[device("wv-1", None)], &cause(1)).unwrap().unwrap();
        store.add_devices(&[device("wv-2", None)], &cause(2)).unwrap().unwrap();
        assert_eq!(broken(&store), []);
        rusqlite::Connection::open(&path).unwrap().execute_batch(sql).unwrap();
        assert_eq!(broken(&store).first(), Some(&want), "{sql}");
    }
}
