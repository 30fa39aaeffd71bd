//! What holds of a database alone: many machines, connections that break, a server that stops.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, Instant};

use tidy_warden_core::asn1;
use tidy_warden_core::audit::Broken;
use tidy_warden_core::database::DatabaseAddress;
use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_rig::{Cluster, Wire};
use tidy_warden_store::{DatabaseAccess, GuardStore, OperatorStore, StoreError, Tally, Traffic, made, postgres};

use crate::bench::{World, access, broken, cause, device, id, new_database};

fn opened(database: &str) -> OperatorStore {
    OperatorStore::new(postgres::open(access(database), None).unwrap())
}

/// Way to a database through a port of 127.0.0.1.
fn through(port: u16, database: &str) -> DatabaseAccess {
    let address = format!("postgresql://operator@127.0.0.1:{port}/{database}");
    DatabaseAccess { address: DatabaseAddress::parse(&address, false).unwrap(), ..access(database) }
}

#[test]
fn many_writers_wait_for_each_other_and_lose_nothing() {
    let (database, store) = new_database(&World::new());
    drop(store);
    std::thread::scope(|scope| {
        for writer in 0..6 {
            let database = &database;
            scope.spawn(move || {
                let mut store = opened(database);
                for number in 0..20 {
                    let device = device(&format!("wv-{writer}-{number}"), None);
                    store.add_devices(&[device], &cause(number)).unwrap().unwrap();
                }
            });
        }
        // A guard that counts meanwhile, and one that notes who was seen, never stand in anybody's way for good.
        for _ in 0..2 {
            let database = &database;
            scope.spawn(move || {
                let mut guard = GuardStore::new(postgres::open(access(database), None).unwrap());
                for round in 0..40u64 {
                    let of = |writer: u64| id(&format!("wv-{writer}-{}", round % 20));
                    let traffic = Traffic { messages_in: 1, ..Traffic::default() };
                    // Each in another order.
                    let mut counted: Vec<_> =
                        (0..6).map(|writer| (of((writer + round) % 6), traffic.clone())).collect();
                    guard.tally(&Tally::Traffic { counted: &counted, at: cause(1).at }).unwrap();
                    counted.retain(|(device, _)| guard.devices(std::slice::from_ref(device)).unwrap()[0].is_some());
                    let uses: Vec<_> = counted.into_iter().rev().map(|(device, _)| (device, None)).collect();
                    guard.record_uses(&uses, &cause(2)).unwrap();
                }
            });
        }
    });
    let store = opened(&database);
    let mut count = 0;
    store.each_device(&mut |_| count += 1).unwrap();
    assert_eq!(count, 120);
    assert_eq!(broken(&store), []);
}

#[test]
fn a_database_has_one_ward_and_says_what_it_has() {
    let cluster = Cluster::shared();
    let empty = cluster.database();
    let absent = |database: &str| postgres::open(access(database), None).map(|_| ()).unwrap_err();
    assert!(matches!(absent(&empty), StoreError::Absent { .. }));
    assert!(matches!(absent("nowhere"), StoreError::Away { .. }));
    let world = World::new();
    let (database, store) = new_database(&world);
    let survey = store.survey().unwrap();
    assert!(survey.engine.starts_with("PostgreSQL ") && survey.octets > 0, "{survey:?}");
    assert_eq!((survey.devices, survey.credentials, survey.entries), (0, 0, 1));
    assert_eq!(survey.warnings, Vec::<String>::new());
    let again =
        crate::bench::founded(&world, |founding| postgres::create(access(&database), founding, &cause(0)).map(|_| ()));
    assert!(matches!(again, Err(StoreError::Exists { .. })));
    cluster.sql(&database, "UPDATE store_format SET number = 99, least = 99");
    assert!(matches!(absent(&database), StoreError::Newer { found: 99, known: 8 }));
    // Whose rights are larger than they need be is told.
    cluster.sql(&database, "UPDATE store_format SET number = 8, least = 5");
    let mut owner = access(&database);
    owner.address.user = "postgres".into();
    let warnings = postgres::open(owner, None).unwrap().survey().unwrap().warnings;
    assert!(warnings.iter().any(|warning| warning.contains("superuser")), "{warnings:?}");
    cluster.sql(&database, "CREATE SCHEMA other AUTHORIZATION operator; CREATE TABLE other.t (a int); ALTER TABLE other.t OWNER TO operator");
    let warnings = postgres::open(access(&database), None).unwrap().survey().unwrap().warnings;
    assert!(warnings.len() == 1 && warnings[0].contains("in other"), "{warnings:?}");
}

/// The way to a database by a wire that is watched.
pub(crate) fn by_wire(wire: &Wire, database: &str) -> DatabaseAccess {
    let address = format!("postgresql:///{database}?host={}&user=operator", wire.folder().display());
    DatabaseAccess { address: DatabaseAddress::parse(&address, false).unwrap(), ..access(database) }
}

#[test]
fn a_change_waits_for_few_answers_while_others_wait_for_it() {
    let mut world = World::new();
    let (database, store) = new_database(&world);
    drop(store);
    let wire = Wire::to(Cluster::shared().folder());
    let mut store = OperatorStore::new(postgres::open(by_wire(&wire, &database), None).unwrap());
    let fleet: Vec<_> = (0..600).map(|at| device(&format!("wv-{at}"), None)).collect();
    store.add_devices(&fleet, &cause(1)).unwrap().unwrap();
    let ids: Vec<_> = fleet.iter().map(|device| device.id.clone()).collect();
    let uses: Vec<_> = ids[..50].iter().map(|id| (id.clone(), None)).collect();
    let certificates: Vec<_> = (0..4).map(|_| crate::bench::fresh(&mut world, "wv-1")).collect();
    let mut guard = GuardStore::new(postgres::open(by_wire(&wire, &database), None).unwrap());
    for (turn, certificate) in (0i64..).zip(&certificates) {
        let mut took = Vec::new();
        let mut count = |act: &mut dyn FnMut()| {
            let before = wire.turns();
            act();
            took.push(wire.turns() - before);
        };
        count(&mut || drop(store.set_hold(&ids[..1], turn % 2 == 0, &cause(turn)).unwrap()));
        let site = Some(format!("n{turn}").parse().unwrap());
        let edit = DeviceEdit { labels: vec![("site".parse().unwrap(), site)], ..DeviceEdit::default() };
        count(&mut || store.edit_device(&ids[1], &edit, &cause(turn)).unwrap().unwrap());
        count(&mut || crate::bench::issue(&mut store, "wv-1", certificate, turn > 0, turn).unwrap().unwrap());
        count(&mut || guard.record_uses(&uses, &cause(100 * turn)).unwrap());
        let (sessions, now) = (Tally::Sessions { kept: &[], gone: &["x".to_owned()], now: cause(1).at }, cause(turn));
        count(&mut || guard.tally(&sessions).unwrap());
        // Statements are prepared with the first of each kind.
        if turn > 1 {
            assert_eq!(took, [2, 2, 4, 2, 2], "hold, edit, issue, fifty uses, a count; {now:?}");
        }
    }
    // More than waits to be said at a time, and an act that is refused at its end.
    let changed = store.set_hold(&ids, true, &cause(9)).unwrap();
    assert!(changed.len() >= 599, "{}", changed.len());
    let before = store.audit_end().unwrap();
    let refused = store.edit_devices(&[ids[0].clone(), id("nobody")], &DeviceEdit::default(), &cause(9));
    assert!(matches!(refused, Err(StoreError::Unknown { what: "device", .. })), "{refused:?}");
    assert_eq!((store.audit_end().unwrap(), broken(&store)), (before, vec![]));
}

#[test]
fn who_stands_at_the_door_is_asked_about_in_one_round_trip() {
    let mut world = World::new();
    let (database, store) = new_database(&world);
    let mut store = OperatorStore::new(store);
    store.add_devices(&[device("wv-1", None)], &cause(1)).unwrap().unwrap();
    let certificate = crate::bench::fresh(&mut world, "wv-1");
    crate::bench::issue(&mut store, "wv-1", &certificate, false, 1).unwrap().unwrap();
    let wire = Wire::to(Cluster::shared().folder());
    let guard = GuardStore::new(postgres::open(by_wire(&wire, &database), None).unwrap());
    let key = tidy_warden_core::key::sha256(certificate.public_key.spki());
    let ask = || guard.entrance(&certificate.fingerprint, &key).unwrap();
    // Statements are prepared with the first question.
    let first = ask();
    assert_eq!((first.head.number, first.known.unwrap().1.id), (3, id("wv-1")));
    for _ in 0..5 {
        let before = wire.turns();
        assert!(ask().known.is_some());
        assert_eq!(wire.turns() - before, 1);
    }
    // A key that was bound by hand stands behind any certificate that carries it.
    assert!(guard.entrance(&tidy_warden_core::certificate::Fingerprint([1; 32]), &key).unwrap().known.is_none());
    // Each answer is of one moment, also while others write.
    store.set_hold(&[id("wv-1")], true, &cause(2)).unwrap();
    let after = ask();
    assert!(after.head.number == 4 && after.known.unwrap().1.held.is_some());
}

#[test]
fn programs_of_two_versions_work_side_by_side_until_the_older_one_may_not() {
    let cluster = Cluster::shared();
    let (database, store) = new_database(&World::new());
    let mut store = OperatorStore::new(store);
    let guard = GuardStore::new(postgres::open(access(&database), None).unwrap());
    // A later format that only adds something.
    cluster.sql(
        &database,
        "UPDATE store_format SET number = 9; CREATE TABLE later (a INT); ALTER TABLE devices ADD COLUMN later INT",
    );
    store.add_devices(&[device("wv-1", None)], &cause(1)).unwrap().unwrap();
    assert_eq!((guard.head().unwrap().number, opened(&database).survey().unwrap().format), (2, 9));
    // From now on only programs that know it: whoever runs finds out with the next question.
    cluster.sql(&database, "UPDATE store_format SET least = 9");
    let refused = |error: StoreError| assert!(matches!(error, StoreError::Newer { found: 9, known: 8 }), "{error}");
    let changes = guard.changed_since(0).unwrap_err();
    assert!(changes.is_silence(), "a guard goes by its patience then");
    refused(changes);
    refused(guard.head().unwrap_err());
    refused(postgres::open(access(&database), None).map(|_| ()).unwrap_err());
}

#[test]
fn what_cannot_be_relied_on_is_refused() {
    let cluster = Cluster::shared();
    let (database, store) = new_database(&World::new());
    drop(store);
    let refused = |database: &str| postgres::open(access(database), None).map(|_| ()).unwrap_err().to_string();
    for setting in ["off", "local", "remote_write"] {
        cluster.sql("postgres", &format!("ALTER DATABASE {database} SET synchronous_commit = {setting}"));
        assert!(refused(&database).contains("may forget what it acknowledged"), "{setting}");
    }
    cluster.sql("postgres", &format!("ALTER DATABASE {database} RESET synchronous_commit"));
    cluster.sql("postgres", &format!("ALTER DATABASE {database} SET default_transaction_read_only = on"));
    assert!(refused(&database).contains("does not answer"), "a server that takes no writes is passed over");
    cluster.sql("postgres", &format!("ALTER DATABASE {database} RESET default_transaction_read_only"));
    drop(opened(&database));
    // Over loopback without TLS anybody who has the port is told a password.
    let with = DatabaseAccess { password: Some("secret".to_owned().into()), ..through(1, &database) };
    let error = postgres::open(with, None).map(|_| ()).unwrap_err();
    assert!(matches!(&error, StoreError::Unsafe { detail } if detail.contains("password")), "{error}");
}

#[test]
fn tampering_with_rows_of_the_record_is_found() {
    let cluster = Cluster::shared();
    for (sql, want) in [
        ("UPDATE audit SET subject = 'wv-9' WHERE number = 2", Broken::Changed { number: 2 }),
        ("DELETE FROM audit WHERE number = 2", Broken::Missing { first: 2, last: 2 }),
        ("DELETE FROM audit WHERE number = 3", Broken::Truncated { found: 2, noted: 3 }),
        ("UPDATE audit SET hash = '\\x00' WHERE number = 2", Broken::Changed { number: 2 }),
    ] {
        let (database, store) = new_database(&World::new());
        let mut store = OperatorStore::new(store);
        store.add_devices(&[device("wv-1", None)], &cause(1)).unwrap().unwrap();
        store.add_devices(&[device("wv-2", None)], &cause(2)).unwrap().unwrap();
        cluster.sql(&database, sql);
        assert_eq!(broken(&store).first(), Some(&want), "{sql}");
    }
}

#[test]
fn texts_are_compared_by_octets_whatever_the_language_of_the_database() {
    let cluster = Cluster::shared();
    let database = cluster.database();
    // One whose language would put `wv-10` before `wv-1.a`, and capitals between small letters.
    cluster.sql("postgres", &format!("DROP DATABASE {database}"));
    cluster.sql(
        "postgres",
        &format!(
            "CREATE DATABASE {database} OWNER operator TEMPLATE template0 LOCALE_PROVIDER icu ICU_LOCALE 'en-US' LOCALE 'C.UTF-8'"
        ),
    );
    let store = crate::bench::founded(&World::new(), |founding| {
        postgres::create(access(&database), founding, &cause(0)).unwrap()
    });
    let mut store = OperatorStore::new(store);
    let ids = ["a-b", "a.b", "a1", "ab", "b-a", "b.1", "ba"];
    let all: Vec<_> = ids.iter().map(|id| device(id, None)).collect();
    store.add_devices(&all, &cause(1)).unwrap().unwrap();
    let mut sorted = ids.to_vec();
    sorted.sort_unstable();
    let page = store.page_by_id(None, cause(1).at, "", 10).unwrap();
    assert_eq!(page.iter().map(|view| view.device.id.as_str()).collect::<Vec<_>>(), sorted);
    let after = store.page_by_id(None, cause(1).at, "a1", 10).unwrap();
    assert_eq!(after.len(), sorted.iter().filter(|id| **id > "a1").count());
}

/// What a proxy does when it sees a word such as COMMIT: once.
pub(crate) const PASS: u8 = 0;
/// Hands it on, and the answer to nobody.
pub(crate) const SWALLOW_ANSWER: u8 = 1;
/// Hands it to nobody.
pub(crate) const SWALLOW_COMMIT: u8 = 2;

/// A way to a database that can be cut where a word is said; gives its port.
pub(crate) fn proxy(socket: PathBuf, word: &'static [u8], mode: Arc<AtomicU8>) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for client in listener.incoming().flatten() {
            let Ok(server) = UnixStream::connect(&socket) else { continue };
            let (mut from_client, mut to_server) = (client.try_clone().unwrap(), server.try_clone().unwrap());
            let mode = mode.clone();
            std::thread::spawn(move || {
                let mut buffer = vec![0; 1 << 16];
                while let Ok(count @ 1..) = from_client.read(&mut buffer) {
                    let is_commit = buffer[..count].windows(word.len()).any(|some| some == word);
                    let what = if is_commit { mode.swap(PASS, Ordering::SeqCst) } else { PASS };
                    if what == SWALLOW_COMMIT || to_server.write_all(&buffer[..count]).is_err() {
                        break;
                    }
                    if what == SWALLOW_ANSWER {
                        // The answer is lost with the line; the server has long been told.
                        let _ = from_client.shutdown(Shutdown::Both);
                        std::thread::sleep(Duration::from_millis(200));
                        break;
                    }
                }
                let _ = from_client.shutdown(Shutdown::Both);
                let _ = to_server.shutdown(Shutdown::Both);
            });
            std::thread::spawn(move || {
                let (mut from_server, mut to_client): (UnixStream, TcpStream) = (server, client);
                let _ = std::io::copy(&mut from_server, &mut to_client);
                let _ = to_client.shutdown(Shutdown::Both);
            });
        }
    });
    port
}

#[test]
fn what_became_of_a_change_is_looked_up_when_its_commit_was_in_doubt() {
    let (database, store) = new_database(&World::new());
    drop(store);
    let mode = Arc::new(AtomicU8::new(PASS));
    let port = proxy(Cluster::shared().folder().join(".s.PGSQL.5432"), b"COMMIT", mode.clone());
    let mut store = OperatorStore::new(postgres::open(through(port, &database), None).unwrap());
    store.add_devices(&[device("wv-0", None)], &cause(0)).unwrap().unwrap();
    for round in 1..4 {
        // It was done, and is told as done: once.
        mode.store(SWALLOW_ANSWER, Ordering::SeqCst);
        store.add_devices(&[device(&format!("wv-{round}"), None)], &cause(round)).unwrap().unwrap();
        // It was not done, and is told so.
        mode.store(SWALLOW_COMMIT, Ordering::SeqCst);
        let lost = store.add_devices(&[device(&format!("xx-{round}"), None)], &cause(round));
        assert!(
            matches!(&lost, Err(StoreError::Away { detail }) if detail.contains("nothing was changed")),
            "{lost:?}"
        );
    }
    let store = opened(&database);
    let mut ids = Vec::new();
    store.each_device(&mut |view| ids.push(view.device.id.to_string())).unwrap();
    assert_eq!(ids, ["wv-0", "wv-1", "wv-2", "wv-3"]);
    assert_eq!((store.audit_end().unwrap().0, broken(&store)), (5, vec![]));
}

#[test]
fn a_change_that_waits_too_long_for_another_gives_up() {
    let (database, mut slow) = new_database(&World::new());
    let quick = Some(Duration::from_millis(200));
    made(&mut *slow, |tx| {
        // From its first question on a change holds up the others.
        tx.audit_end()?;
        let mut store = OperatorStore::new(postgres::open(access(&database), quick).unwrap());
        let began = Instant::now();
        let refused = store.add_devices(&[device("wv-1", None)], &cause(1));
        assert!(matches!(refused, Err(StoreError::Busy)), "{refused:?}");
        assert!(began.elapsed() < Duration::from_secs(10));
        // Readers and those who only count wait for nobody.
        let mut guard = GuardStore::new(postgres::open(access(&database), quick).unwrap());
        assert_eq!(guard.head().unwrap().number, 1);
        guard.tally(&Tally::Sessions { kept: &[], gone: &[], now: cause(1).at }).unwrap();
        Ok(())
    })
    .unwrap();
    let mut store = opened(&database);
    store.add_devices(&[device("wv-1", None)], &cause(1)).unwrap().unwrap();
}

#[test]
fn a_server_that_restarts_stops_or_sleeps_is_told_of_and_found_again() {
    let cluster = Cluster::start();
    let database = cluster.database();
    let address = DatabaseAddress::parse(&cluster.address(&database), false).unwrap();
    let access = DatabaseAccess { address, ..access(&database) };
    let world = World::new();
    let founded =
        crate::bench::founded(&world, |founding| postgres::create(access.clone(), founding, &cause(0)).unwrap());
    let mut store = OperatorStore::new(founded);
    let mut guard = GuardStore::new(postgres::open(access.clone(), Some(Duration::from_millis(300))).unwrap());
    let mut feed = guard.feed().unwrap();
    assert_eq!(feed.wait(0, Duration::from_secs(5)).unwrap().number, 1);
    // Restarted: whoever had a connection finds that it is gone at most once.
    cluster.control(&["-m", "immediate", "restart"]);
    store.add_devices(&[device("wv-1", None)], &cause(1)).unwrap().unwrap();
    let again = |of: &mut dyn FnMut() -> Result<i64, StoreError>| match of() {
        Err(error) => {
            assert!(error.is_silence(), "{error}");
            of().unwrap()
        }
        Ok(number) => number,
    };
    assert_eq!(again(&mut || Ok(guard.head()?.number)), 2);
    assert_eq!(again(&mut || Ok(feed.wait(1, Duration::from_secs(5))?.number)), 2);
    // Asleep: an answer that does not come is not waited for without end.
    cluster.signal("STOP");
    let began = Instant::now();
    assert!(guard.head().unwrap_err().is_silence());
    assert!(guard.tally(&Tally::Sessions { kept: &[], gone: &[], now: cause(1).at }).unwrap_err().is_silence());
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
    cluster.signal("CONT");
    let mut tries = 0;
    while guard.head().is_err() {
        tries += 1;
        assert!(tries < 40, "it was not found again");
        std::thread::sleep(Duration::from_millis(100));
    }
    // The feed hears of changes on the line that took the place of the one that broke.
    assert_eq!(again(&mut || Ok(feed.wait(2, Duration::from_millis(10))?.number)), 2);
    let heard = std::thread::spawn(move || {
        let began = Instant::now();
        (feed.wait(2, Duration::from_secs(20)).unwrap().number, began.elapsed())
    });
    std::thread::sleep(Duration::from_millis(100));
    store.add_devices(&[device("wv-2", None)], &cause(2)).unwrap().unwrap();
    let (number, waited) = heard.join().unwrap();
    assert_eq!(number, 3);
    assert!(waited < Duration::from_secs(10), "{waited:?}");
    assert_eq!(broken(&store), []);
}

/// PEM of a new authority, of a certificate for a DNS name below it, and of that one's key.
fn certificates(name: &str) -> [String; 3] {
    let mut world = World::new();
    let key = SoftwareKey::generate(NewKey::P256).unwrap();
    let (certificate, root) = (world.server(name, &key.proven()), &world.root);
    [
        asn1::pem("CERTIFICATE", root.der()),
        asn1::pem("CERTIFICATE", certificate.der()),
        key.to_pkcs8_pem().unwrap().to_string(),
    ]
}

#[test]
fn over_a_network_the_server_is_the_one_that_was_meant_or_is_told_nothing() {
    let cluster = Cluster::start();
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let [root, certificate, key] = certificates("localhost");
    cluster.put("server.crt", &certificate);
    cluster.put("server.key", &key);
    cluster.set(&format!("listen_addresses = '127.0.0.1'\nport = {port}\nssl = on\n"));
    let socket = "local all all trust\n";
    cluster.put("pg_hba.conf", &format!("{socket}hostssl all all 127.0.0.1/32 scram-sha-256\n"));
    cluster.control(&["restart"]);
    let database = cluster.database_at(port);
    cluster.sql_at(port, "postgres", "ALTER ROLE operator PASSWORD 'right as rain'");
    let access = |host: &str, roots: &str, password: Option<&str>| {
        let address = format!("postgresql://operator@{host}:{port}/{database}?sslmode=verify-full&sslrootcert=a");
        DatabaseAccess {
            address: DatabaseAddress::parse(&address, false).unwrap(),
            password: password.map(|password| password.to_owned().into()),
            roots: Some(roots.as_bytes().to_vec()),
            insecure: false,
            is_post: false,
        }
    };
    let world = World::new();
    let make =
        |access| crate::bench::founded(&world, |founding| postgres::create(access, founding, &cause(0)).map(|_| ()));
    let told = |access| make(access).unwrap_err().to_string();
    let right = Some("right as rain");
    let [other_root, ..] = certificates("localhost");
    let found = told(access("localhost", &other_root, right));
    assert!(found.contains("certificate"), "{found}");
    let found = told(access("127.0.0.1", &root, right));
    assert!(found.contains("certificate"), "the name that was asked for counts: {found}");
    let found = told(access("localhost", "no PEM", right));
    assert!(found.contains("no certificate"), "{found}");
    let found = told(access("localhost", &root, Some("wrong as rain")));
    assert!(found.contains("password authentication failed") && !found.contains("as rain"), "{found}");
    let found = told(access("localhost", &root, None));
    assert!(found.contains("password"), "{found}");
    make(access("localhost", &root, right)).unwrap();
    // A server that asks for the password itself, or for less than a proof that is bound to this connection, is not told it.
    for method in ["password", "md5"] {
        cluster.put("pg_hba.conf", &format!("{socket}hostssl all all 127.0.0.1/32 {method}\n"));
        if method == "md5" {
            let as_md5 = "SET password_encryption = 'md5'; ALTER ROLE operator PASSWORD 'right as rain'";
            cluster.sql_at(port, "postgres", as_md5);
        }
        cluster.control(&["reload"]);
        let mut tries = 0;
        let found = loop {
            match postgres::open(access("localhost", &root, right), None) {
                Err(error) => break error.to_string(),
                // A reload takes a moment to be heard.
                Ok(_) => std::thread::sleep(Duration::from_millis(50)),
            }
            tries += 1;
            assert!(tries < 100, "{method} was taken");
        };
        assert!(found.contains("channel binding"), "{method}: {found}");
    }
    // And one without TLS is not spoken to.
    cluster.put("pg_hba.conf", &format!("{socket}host all all 127.0.0.1/32 trust\n"));
    cluster.set("ssl = off\n");
    cluster.control(&["restart"]);
    let found = postgres::open(access("localhost", &root, right), None).map(|_| ()).unwrap_err().to_string();
    assert!(found.contains("TLS"), "{found}");
}
