//! Changes of many callers that are committed together: each is as if it had been made alone.

use std::sync::mpsc::channel;
use std::time::Duration;

use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole, KeyPlace};
use tidy_warden_core::device::{AddRefusal, DeviceEdit};
use tidy_warden_rig::{Cluster, Wire};
use tidy_warden_store::acts::device;
use tidy_warden_store::{OperatorStore, SqliteStore, Store, StoreError, Together, postgres};

use crate::bench::{World, access, broken, cause, device as listed, id, new_database, new_file, new_model};
use crate::database::by_wire;

/// Runs a test on each engine: a store for the changes of many, and one to look at what came of them.
fn on_each(test: impl Fn(Box<dyn Store>, &OperatorStore, &World)) {
    let run = |changes: Box<dyn Store>, store: Box<dyn Store>, world: &World| {
        let store = OperatorStore::new(store);
        test(changes, &store, world);
        assert_eq!(broken(&store), []);
    };
    let world = World::new();
    let model = new_model(&world);
    run(Box::new(model.another()), Box::new(model), &world);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("store.db");
    let file = new_file(&path, &world);
    run(Box::new(file), Box::new(SqliteStore::open(&path).unwrap()), &world);
    let (database, store) = new_database(&world);
    run(store, postgres::open(access(&database), None).unwrap(), &world);
}

#[test]
fn each_of_many_is_told_what_became_of_its_own() {
    const CALLERS: usize = 24;
    const ROUNDS: usize = 6;
    on_each(|changes, store, _| {
        let together = Together::new(changes).unwrap();
        together.decide(|tx| device::add(tx, &[listed("there", None)], &cause(0))).unwrap().unwrap();
        std::thread::scope(|scope| {
            for caller in 0..CALLERS {
                let together = &together;
                scope.spawn(move || {
                    for round in 0..ROUNDS {
                        let name = format!("wv-{caller}-{round}");
                        let (one, at) = (listed(&name, None), cause(1));
                        let added =
                            together.decide(move |tx| device::add(tx, std::slice::from_ref(&one), &at)).unwrap();
                        assert_eq!(added, Ok(()));
                        // Of an act that is refused at its end nothing stays, and those beside it hear nothing of that.
                        let (first, second) = (listed(&format!("{name}-x"), None), listed("there", None));
                        let refused = together.decide(move |tx| {
                            device::add(tx, std::slice::from_ref(&first), &cause(2))?.unwrap();
                            device::add(tx, std::slice::from_ref(&second), &cause(2))
                        });
                        assert_eq!(refused.unwrap(), Err(vec![AddRefusal::IdTaken { index: 0, id: id("there") }]));
                        let site = Some("ossel".parse().unwrap());
                        let edit =
                            DeviceEdit { labels: vec![("pylon".parse().unwrap(), site)], ..DeviceEdit::default() };
                        let (own, unknown) = (id(&name), id("nobody"));
                        let edited = edit.clone();
                        together.decide(move |tx| device::edit(tx, &own, &edited, &cause(3))).unwrap().unwrap();
                        if round == 3 {
                            // One that fails takes nobody with it.
                            let failed = together.decide(move |tx| device::edit(tx, &unknown, &edit, &cause(4)));
                            assert!(matches!(failed, Err(StoreError::Unknown { what: "device", .. })), "{failed:?}");
                            let broke =
                                together.decide(|_| -> Result<Result<(), ()>, _> { panic!("a fault in an act") });
                            assert!(matches!(broke, Err(StoreError::Damaged { .. })), "{broke:?}");
                        }
                    }
                });
            }
        });
        drop(together);
        let mut found = Vec::new();
        store.each_device(&mut |view| found.push((view.device.id.to_string(), view.device.labels.len()))).unwrap();
        let mut wanted: Vec<_> =
            (0..CALLERS).flat_map(|caller| (0..ROUNDS).map(move |round| (format!("wv-{caller}-{round}"), 2))).collect();
        wanted.push(("there".to_owned(), 1));
        found.sort();
        wanted.sort();
        assert!(found == wanted, "{found:?}");
        let entries = 2 + 2 * CALLERS * ROUNDS;
        assert_eq!(store.audit_end().unwrap().0, i64::try_from(entries).unwrap());
    });
}

#[test]
fn what_a_table_does_not_take_is_told_to_whoever_wrote_it() {
    on_each(|changes, store, world| {
        // The model's tables take everything.
        if changes.survey().unwrap().engine.contains("model") {
            return;
        }
        let together = Together::new(changes).unwrap();
        let twice = AuthorityRecord::new(
            "devices".parse().unwrap(),
            AuthorityRole::Devices,
            world.root.clone(),
            KeyPlace::Ward,
            cause(0).at,
        );
        std::thread::scope(|scope| {
            for caller in 0..12 {
                let (together, twice) = (&together, twice.clone());
                scope.spawn(move || {
                    if caller % 4 == 0 {
                        let wrong = together.decide(move |tx| Ok(Ok::<(), ()>(tx.insert_authority(&twice)?)));
                        assert!(wrong.is_err(), "{wrong:?}");
                        return;
                    }
                    let one = listed(&format!("wv-{caller}"), None);
                    let added = together.decide(move |tx| device::add(tx, std::slice::from_ref(&one), &cause(1)));
                    assert_eq!(added.unwrap(), Ok(()));
                });
            }
        });
        assert_eq!(store.audit_end().unwrap().0, 10);
    });
}

#[test]
fn what_waits_for_a_commit_goes_into_the_next_one() {
    const CALLERS: usize = 40;
    let (database, store) = new_database(&World::new());
    let commits = || Cluster::shared().sql(&database, "SELECT count(*) FROM acts").trim().parse::<usize>().unwrap();
    let together = Together::new(store).unwrap();
    std::thread::scope(|scope| {
        let (begun, begins) = channel();
        let (go_on, goes_on) = channel::<()>();
        let first = &together;
        scope.spawn(move || {
            let waits = std::sync::Mutex::new(goes_on);
            let act = move |tx: &mut dyn tidy_warden_store::Tx| {
                begun.send(()).unwrap();
                waits.lock().unwrap().recv().unwrap();
                device::add(tx, &[listed("first", None)], &cause(0))
            };
            first.decide(act).unwrap().unwrap();
        });
        begins.recv().unwrap();
        for caller in 0..CALLERS {
            let together = &together;
            scope.spawn(move || {
                let one = listed(&format!("wv-{caller}"), None);
                together.decide(move |tx| device::add(tx, std::slice::from_ref(&one), &cause(1))).unwrap().unwrap();
            });
        }
        // Nearly all of them wait by then; one that does not changes nothing of what is counted below.
        std::thread::sleep(Duration::from_millis(300));
        go_on.send(()).unwrap();
    });
    assert!(commits() <= CALLERS / 4, "{}", commits());
}

#[test]
fn a_database_that_is_away_is_told_to_each_and_nothing_of_theirs_is_done() {
    let (database, store) = new_database(&World::new());
    drop(store);
    let wire = Wire::to(Cluster::shared().folder());
    let store = postgres::open(by_wire(&wire, &database), Some(Duration::from_millis(200))).unwrap();
    let together = Together::new(store).unwrap();
    let add = |name: String| {
        let one = listed(&name, None);
        together.decide(move |tx| device::add(tx, std::slice::from_ref(&one), &cause(1)))
    };
    add("before".to_owned()).unwrap().unwrap();
    wire.cut();
    std::thread::scope(|scope| {
        for caller in 0..8 {
            let add = &add;
            scope.spawn(move || {
                let told = add(format!("away-{caller}"));
                assert!(matches!(told, Err(StoreError::Away { .. })), "{told:?}");
            });
        }
    });
    wire.mend();
    add("after".to_owned()).unwrap().unwrap();
    let store = OperatorStore::new(postgres::open(access(&database), None).unwrap());
    let mut found = Vec::new();
    store.each_device(&mut |view| found.push(view.device.id.to_string())).unwrap();
    assert_eq!((found, broken(&store)), (vec!["before".to_owned(), "after".to_owned()], vec![]));
}
