//! What each role may do in the database: its own acts, and nothing beside them.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

use proptest::prelude::*;
use proptest::test_runner::TestRunner;
use tidy_warden_core::admission::AdmissionName;
use tidy_warden_core::claim::{CodeDigest, OpenClaim, OpenedBy};
use tidy_warden_core::database::DatabaseAddress;
use tidy_warden_core::errand::{Brought, Errand, Purpose};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::post::{self, PostRole};
use tidy_warden_core::reflex::{Evidence, Noticed};
use tidy_warden_core::time::UnixTime;
use tidy_warden_rig::Cluster;
use tidy_warden_store::{
    Cause, DatabaseAccess, DeviceEvent, ErrandTally, GuardStore, IntroduceRefusal, NewErrand, Opened, OperatorStore,
    PostRecord, PostState, StoreError, Tally, Traffic, Turn, View, acts, postgres,
};

use crate::bench::{NOW, World, access, broken, cause, device, fresh, id, issue, new_database, new_model};
use crate::database::{PASS, SWALLOW_ANSWER, SWALLOW_COMMIT, proxy};
use crate::model::{Act, Cast, act_for, dump, hashes};

/// A post of the ward in a database.
fn new_post(world: &mut World, database: &str, name: &str, role: PostRole) -> PostRecord {
    let name = name.parse().unwrap();
    let login = post::login(database, &name).unwrap();
    let certificate = fresh(world, "post");
    let (host, verifier) = ("localhost".to_owned(), postgres::verifier("right as rain"));
    PostRecord { name, role, host, login, verifier, certificate, added: UnixTime(NOW), retired: None }
}

/// Gives every post its role, as an administrator does.
fn give_roles(database: &str) {
    Cluster::shared().sql(database, &postgres::roles(access(database)).unwrap());
}

/// How a role comes to a database.
fn access_as(database: &str, role: &str, is_post: bool) -> DatabaseAccess {
    let address = format!("postgresql:///{database}?host={}&user={role}", Cluster::shared().folder().display());
    DatabaseAccess { address: DatabaseAddress::parse(&address, false).unwrap(), is_post, ..access(database) }
}

fn guard_of(database: &str, post: &PostRecord) -> GuardStore {
    GuardStore::new(postgres::open(access_as(database, &post.login, true), None).unwrap())
}

/// As the post writes it.
fn by(post: &PostRecord, at: i64) -> Cause {
    Cause { actor: format!("post {}", post.name), ..cause(at) }
}

/// Acts of a guard's that leave an entry, and those of others that it finds its way among.
fn any_of_guards() -> impl Strategy<Value = Act> {
    let (one, certificate) = (|| 0u8..6, || 0u8..12);
    prop_oneof![
        6 => (certificate(), any::<bool>(), 0u8..3)
            .prop_map(|(certificate, again, overlap)| Act::Issue { certificate, again, overlap, foreign: false }),
        8 => proptest::collection::vec((one(), proptest::option::weighted(0.8, certificate())), 1..4).prop_map(Act::Use),
        4 => (one(), any::<bool>()).prop_map(|(device, hold)| Act::Clone(device, hold)),
        2 => (proptest::collection::vec(one(), 1..4), any::<bool>()).prop_map(|(devices, held)| Act::Hold(devices, held)),
        1 => (one(), proptest::option::of(certificate()), 0u8..4)
            .prop_map(|(device, only, reason)| Act::Revoke { device, only, reason }),
        1 => one().prop_map(Act::Reopen),
        1 => one().prop_map(Act::Retire),
        1 => any::<bool>().prop_map(|stale| Act::Crl { stale }),
        // Those of these numbers are brought in by the guard.
        6 => ((0u8..3).prop_map(|child| child * 3), one()).prop_map(|(child, gateway)| Act::Introduce(child, gateway, false)),
        2 => ((0u8..3).prop_map(|child| child * 3), any::<bool>()).prop_map(|(child, accept)| Act::Child(child, accept)),
    ]
}

#[test]
fn what_a_guard_does_by_functions_is_what_it_does_by_acts() {
    let mut world = World::new();
    let cast = Cast::new(&mut world);
    let acts = proptest::collection::vec((any_of_guards(), 0i64..3000), 10..60);
    let mut runner = TestRunner::new(ProptestConfig { max_shrink_iters: 100, ..ProptestConfig::with_cases(24) });
    let done = std::cell::RefCell::new(std::collections::BTreeMap::new());
    let run = runner.run(&acts, |acts| {
        let model = new_model(&world);
        let (database, operator) = new_database(&world);
        let post = new_post(&mut World::new(), &database, "guard-9", PostRole::Guard);
        let mut stores = [OperatorStore::new(Box::new(model.another())), OperatorStore::new(operator)];
        for store in &mut stores {
            store.add_post(&post, &cause(0), &mut || Ok(())).unwrap().unwrap();
        }
        give_roles(&database);
        let mut guards = [GuardStore::new(Box::new(model)), guard_of(&database, &post)];
        let mut at = 0;
        // Some behind a gateway, which hears of what becomes of them.
        let all = Act::Add { devices: (0..6).map(|number| (number, 0, if number > 3 { 0 } else { 9 })).collect() };
        for (what, later) in std::iter::once(&(all, 0)).chain(&acts) {
            at += later;
            let is_guards = matches!(what, Act::Use(_) | Act::Clone(..) | Act::Introduce(..));
            let cause = if is_guards { by(&post, at) } else { cause(at) };
            let told: Vec<String> = stores
                .iter_mut()
                .zip(&mut guards)
                .map(|(store, guard)| act_for(store, guard, &cast, what, at, &cause))
                .collect();
            prop_assert_eq!(&told[0], &told[1], "{:?}", what);
            prop_assert!(!told[0].starts_with("ERROR"), "{:?}: {}", what, told[0]);
        }
        let [one, other] = stores.each_ref().map(|store| store.entries(1, usize::MAX).unwrap());
        for (one, other) in one.iter().zip(&other) {
            prop_assert_eq!(one, other);
        }
        let [one, other] = stores.each_ref().map(|store| dump(store, &cast, at));
        for (one, other) in one.iter().zip(&other) {
            prop_assert_eq!(one, other);
        }
        prop_assert_eq!(hashes(&stores[0]), hashes(&stores[1]));
        prop_assert!(broken(&stores[1]).is_empty());
        for entry in stores[1].entries(1, usize::MAX).unwrap() {
            *done.borrow_mut().entry((entry.act, entry.actor)).or_insert(0) += 1;
        }
        Ok(())
    });
    run.unwrap();
    let done = done.into_inner();
    for act in ["credential.first-use", "device.clone-sign", "hold", "device.introduce"] {
        assert!(done.contains_key(&(act.to_owned(), "post guard-9".to_owned())), "{act}: {done:?}");
    }
}

/// A ward with a few devices, a guard, a desk and people, each with a role of its own.
struct Roles {
    database: String,
    owner: OperatorStore,
    guard: PostRecord,
    desk: PostRecord,
}

impl Roles {
    fn new() -> Self {
        let mut world = World::new();
        let (database, owner) = new_database(&world);
        let mut owner = OperatorStore::new(owner);
        owner.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(1)).unwrap().unwrap();
        let certificate = fresh(&mut world, "wv-1");
        issue(&mut owner, "wv-1", &certificate, false, 1).unwrap().unwrap();
        let guard = new_post(&mut world, &database, "guard-2", PostRole::Guard);
        let desk = new_post(&mut world, &database, "desk-2", PostRole::Desk);
        for post in [&guard, &desk] {
            owner.add_post(post, &cause(2), &mut || Ok(())).unwrap().unwrap();
        }
        give_roles(&database);
        // Run again it says the same.
        give_roles(&database);
        let people = format!(
            "CREATE ROLE {database}_ada LOGIN IN ROLE {database}_operators; CREATE ROLE {database}_bob LOGIN IN ROLE {database}_readers"
        );
        Cluster::shared().sql(&database, &people);
        Self { database, owner, guard, desk }
    }

    /// What a role is told that tries a statement; nothing if it may.
    fn tries(&self, role: &str, sql: &str) -> Option<String> {
        Cluster::shared().tries(&self.database, role, sql)
    }

    fn state(&self, post: &PostRecord) -> PostState {
        PostState {
            name: post.name.clone(),
            version: "1".into(),
            address: "127.0.0.1:1".into(),
            edition: 1,
            change: 2,
            sessions: 3,
            since: UnixTime(NOW),
            seen: UnixTime(NOW),
        }
    }
}

#[test]
fn a_guards_role_can_do_its_acts_and_nothing_beside_them() {
    let mut roles = Roles::new();
    let mut guard = guard_of(&roles.database, &roles.guard);
    // All that a guard asks.
    let (wv1, cause) = (id("wv-1"), by(&roles.guard, 5));
    let view = guard.devices(std::slice::from_ref(&wv1)).unwrap().pop().unwrap().unwrap();
    let fingerprint = view.credentials[0].fingerprint;
    assert!(guard.status_many(&[fingerprint]).unwrap()[0].is_some());
    guard.changed_since(1).unwrap();
    guard.children(&wv1).unwrap();
    guard.authorities().unwrap();
    guard.bound_since(0, 5).unwrap();
    guard.groups().unwrap();
    guard.edition(None).unwrap();
    guard.trial().unwrap();
    guard.broker_sessions_of_ended(4).unwrap();
    guard.blocked_key(&[0; 32]).unwrap();
    guard.adopted_settings().unwrap();
    let mut feed = guard.feed().unwrap();
    feed.wait(0, std::time::Duration::from_secs(5)).unwrap();
    // All that it does.
    guard.record_uses(&[(wv1.clone(), Some(fingerprint))], &cause).unwrap();
    assert!(guard.record_clone_sign(&wv1, "two \"places\"\u{1}\u{e9}\n", true, &cause).unwrap());
    let number =
        guard.record_note("messages.watch", "#", "{}", &Cause { actor: "ada".into(), ..cause.clone() }).unwrap();
    let entry = roles.owner.entries(number, 1).unwrap().pop().unwrap();
    assert_eq!((entry.actor.as_str(), entry.act.as_str()), ("ada at post guard-2", "messages.watch"));
    let counted = [(wv1.clone(), Traffic { messages_in: 3, ..Traffic::default() })];
    guard.tally(&Tally::Traffic { counted: &counted, at: UnixTime(NOW + 9) }).unwrap();
    guard.tally(&Tally::Sessions { kept: &[], gone: &["a".into()], now: UnixTime(NOW) }).unwrap();
    let noticed = DeviceEvent { device: wv1.clone(), at: UnixTime(NOW), what: "cut".into(), text: "cut wv-1".into() };
    guard.tally(&Tally::Events(std::slice::from_ref(&noticed))).unwrap();
    assert_eq!(roles.owner.events(&wv1).unwrap(), [noticed]);
    guard.open_errands(&wv1, UnixTime(NOW), 9).unwrap();
    guard.errands_after(0, 9).unwrap();
    guard.former_servers().unwrap();
    let new = NewErrand {
        device: wv1.clone(),
        purpose: Purpose::Restart,
        detail: "{}".to_owned(),
        nonce: [7; 16],
        ends: UnixTime(NOW + 900),
        follows: None,
    };
    let sign = |_: &Errand| Ok(vec![7]);
    roles.owner.set_hold(std::slice::from_ref(&wv1), false, &crate::bench::cause(5)).unwrap();
    let sent = roles.owner.decide(|tx| acts::errand::send(tx, &new, &fingerprint, &sign, &crate::bench::cause(5)));
    assert_eq!(sent.unwrap(), Ok(1));
    let brought = Brought { at: UnixTime(NOW), by: wv1.clone(), text: "{}".into() };
    let errands = ErrandTally { handed: &[(1, UnixTime(NOW))], answers: &[(1, brought.clone())] };
    guard.tally(&Tally::Errands(errands)).unwrap();
    let window = OpenClaim {
        device: wv1.clone(),
        by: OpenedBy::Device,
        code: Some(CodeDigest { salt: [1; 16], digest: [1; 32] }),
        opened: UnixTime(NOW),
        ends: UnixTime(NOW + 60),
    };
    guard.tally(&Tally::Windows(&[window])).unwrap();
    assert_eq!(roles.owner.carried(&[1]).unwrap()[0].answer, Some(brought));
    let evidence = Evidence {
        device: wv1.clone(),
        at: UnixTime(NOW),
        what: Noticed::Refusals,
        count: 7,
        source: "192.0.2.0/24".into(),
        is_proved: true,
        text: "publish".into(),
    };
    guard.tally(&Tally::Evidence(std::slice::from_ref(&evidence))).unwrap();
    assert_eq!(roles.owner.evidence_after(0, 9).unwrap(), [(1, evidence)]);
    // A child waits, also where it would be listed at once elsewhere.
    let gateway = device("wv-1", None);
    let child = |name: &str| IntroducedRecord {
        state: IntroducedState::Accepted,
        ..IntroducedRecord::new(id(name), "cabin".parse().unwrap(), &gateway, cause.at)
    };
    assert_eq!(guard.introduce_child(&child("cb-1"), 1, &cause).unwrap(), Ok(IntroducedState::Waits));
    let full = guard.introduce_child(&child("cb-2"), 1, &cause).unwrap();
    assert!(matches!(full, Err(IntroduceRefusal::Full { most: 1, .. })), "{full:?}");
    assert_eq!(roles.owner.devices(&[id("cb-1")]).unwrap(), [None]);
    guard.tally(&Tally::Post(&roles.state(&roles.guard))).unwrap();
    assert_eq!(roles.owner.post_states().unwrap(), [roles.state(&roles.guard)]);
    assert_eq!(broken(&roles.owner), []);
    let nobody = guard.record_uses(&[(id("wv-9"), None)], &cause);
    assert!(matches!(nobody, Err(StoreError::Unknown { what: "device", .. })), "{nobody:?}");

    // And nothing else, whatever it says.
    let head = roles.owner.head().unwrap();
    let forbidden =
        |done: Result<(), StoreError>| assert!(matches!(done, Err(StoreError::Forbidden { .. })), "{done:?}");
    let other = roles.state(&roles.desk);
    forbidden(guard.tally(&Tally::Post(&other)));
    forbidden(guard.record_note("policy.adopt", "edition 9", "{}", &cause).map(drop));
    forbidden(guard.record_note("messages.watch", "#", "[]", &cause).map(drop));
    let mut as_person =
        OperatorStore::new(postgres::open(access_as(&roles.database, &roles.guard.login, false), None).unwrap());
    forbidden(as_person.set_hold(std::slice::from_ref(&wv1), false, &cause).map(drop));
    forbidden(as_person.retire_device(&wv1, &cause));
    forbidden(as_person.add_devices(&[device("wv-3", None)], &cause).map(drop));
    let login = &roles.guard.login;
    let counted = [
        "device_events",
        "errand_traffic",
        "evidence",
        "traffic",
        "seen",
        "trial_differences",
        "broker_sessions",
        "claim_windows",
        "post_states",
        "places",
        "sessions",
    ];
    let tables = Cluster::shared()
        .sql(&roles.database, "SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY 1");
    let tables: Vec<&str> = tables.lines().collect();
    assert!(tables.len() > 25, "{tables:?}");
    for table in &tables {
        let mut tries =
            vec![format!("TRUNCATE {table}"), format!("DROP TABLE {table}"), format!("ALTER TABLE {table} ADD x INT")];
        if !["broker_sessions", "sessions"].contains(table) {
            tries.push(format!("DELETE FROM {table}"));
        }
        if !counted.contains(table) {
            tries.push(format!("INSERT INTO {table} SELECT * FROM {table}"));
            if *table != "tally" {
                let column = Cluster::shared().sql(
                    &roles.database,
                    &format!("SELECT column_name FROM information_schema.columns WHERE table_name = '{table}' ORDER BY ordinal_position LIMIT 1"),
                );
                tries.push(format!("UPDATE {table} SET {0} = {0}", column.trim()));
            }
        }
        for sql in tries {
            let told = roles.tries(login, &sql).unwrap_or_else(|| panic!("a guard may {sql}"));
            assert!(told.contains("permission denied") || told.contains("must be owner"), "{sql}: {told}");
        }
    }
    for sql in [
        "SELECT verifier FROM posts",
        "SELECT name FROM posts",
        "SELECT detail FROM audit",
        "SELECT plan FROM jobs",
        "SELECT act FROM acts",
        "SELECT guard_records('ada', 1, 'device.release', 'wv-1', '', '{}')",
        "SELECT guard_introduces('\\x000102030405060708090a0b0c0d0e0f'::bytea, 1, '', 'Nobody\"', 'cabin', 'wv-1', 1)",
        "SELECT guard_begins('\\x00'::bytea, 1, '')",
        "SELECT guard_ends('\\x00'::bytea, 0)",
        "CREATE TABLE mine (a INT)",
        "CREATE FUNCTION framed(a INT) RETURNS INT LANGUAGE sql AS 'SELECT 1'",
        "CREATE OR REPLACE FUNCTION post_name() RETURNS TEXT LANGUAGE sql AS 'SELECT 1::text'",
        "SET ROLE operator",
        "SET SESSION AUTHORIZATION operator",
        "ALTER TABLE post_states DISABLE ROW LEVEL SECURITY",
        "SELECT guard_note(decode(repeat('00', 16), 'hex'), 1, '', 'ada', 'hold', 'wv-2', '{}')",
        "COPY devices TO PROGRAM 'cat'",
        "SELECT pg_read_file('/etc/passwd')",
    ] {
        assert!(roles.tries(login, sql).is_some(), "a guard may {sql}");
    }
    // Another's row is not even seen.
    roles.owner.view(|_| Ok(())).unwrap();
    let mut owner = GuardStore::new(postgres::open(access(&roles.database), None).unwrap());
    owner.tally(&Tally::Post(&roles.state(&roles.desk))).unwrap();
    assert_eq!(guard.post_states().unwrap(), [roles.state(&roles.guard)]);
    assert_eq!(
        roles.tries(login, "UPDATE post_states SET version = 'x' WHERE name = 'desk-2'"),
        None,
        "it finds no such row"
    );
    assert!(owner.post_states().unwrap().contains(&roles.state(&roles.desk)));
    // Sessions of others are seen, and are theirs.
    let theirs = "INSERT INTO sessions (client_id, post, device) VALUES ('c', 'guard-9', 1)";
    Cluster::shared().sql(&roles.database, theirs);
    assert!(roles.tries(login, "INSERT INTO sessions (client_id, post, device) VALUES ('d', 'guard-9', 1)").is_some());
    assert_eq!(roles.tries(login, "DELETE FROM sessions"), None, "it finds none of its own");
    assert_eq!(Cluster::shared().sql(&roles.database, "SELECT count(*) FROM sessions").trim(), "1");
    assert_eq!(roles.owner.head().unwrap(), head, "nothing of it left a trace");
}

/// All that `due` asks for, which desks and readers count too.
fn asks_what_is_due(view: &dyn View) -> Result<(), StoreError> {
    view.each_ending(UnixTime(i64::MAX), Some(&"site".parse().unwrap()), &mut |_| Ok(()))?;
    view.pending_by_end((UnixTime(0), AdmissionName(0)), 9)?;
    view.all_asking(9)?;
    view.waiting_children(9)?;
    view.token_signers()?;
    view.authorities()?;
    view.equipped_since(&"root".parse().unwrap())?;
    view.unequipped_since(&"root".parse().unwrap(), 9)?;
    view.post_states()?;
    acts::server::all(view).map(drop)
}

#[test]
fn desks_and_readers_look_and_people_do_everything_but_rewrite_the_record() {
    let roles = Roles::new();
    let Roles { database, desk, .. } = &roles;
    let cause = cause(5);
    // A desk looks, says how it is, and is no guard.
    let mut as_desk = GuardStore::new(postgres::open(access_as(database, &desk.login, true), None).unwrap());
    assert!(as_desk.devices(&[id("wv-1")]).unwrap()[0].is_some());
    as_desk.tally(&Tally::Post(&roles.state(desk))).unwrap();
    as_desk.view(asks_what_is_due).unwrap();
    let used = as_desk.record_uses(&[(id("wv-1"), None)], &cause);
    assert!(matches!(used, Err(StoreError::Forbidden { .. })), "{used:?}");
    for sql in [
        "UPDATE seen SET at = 1",
        "SELECT guard_did('\\x00'::bytea)",
        "UPDATE devices SET held = NULL",
        "UPDATE credentials SET certificate = ''",
        "UPDATE admissions SET digest = NULL",
        "UPDATE head SET moved = 'x'",
    ] {
        assert!(roles.tries(&desk.login, sql).is_some(), "a desk may {sql}");
    }
    // Whoever reads, reads.
    let bob = format!("{database}_bob");
    let reader = OperatorStore::new(postgres::open(access_as(database, &bob, false), None).unwrap());
    assert_eq!(reader.entries(1, 9).unwrap().len(), roles.owner.entries(1, 9).unwrap().len());
    assert_eq!(broken(&reader), []);
    reader.jobs(false, 9).unwrap();
    reader.view(asks_what_is_due).unwrap();
    reader.view(|view| view.events(&id("wv-1"))).unwrap();
    reader.view(|view| view.errands(None, i64::MAX, 9)).unwrap();
    reader.view(|view| view.carried(&[1])).unwrap();
    reader.view(|view| view.hits(None, 9, 9)).unwrap();
    reader.view(|view| view.notices(9, 9)).unwrap();
    reader.view(|view| view.owners("", 9)).unwrap();
    reader.view(|view| view.claims(OpenedBy::Device, "", 9)).unwrap();
    reader.view(|view| view.claims(OpenedBy::Person, "", 9)).unwrap();
    reader.view(|view| view.ownerships(&id("wv-1"), 9)).unwrap();
    assert!(reader.view(|view| view.owner_pass(&[1; 32])).is_err(), "whoever reads has no use for sessions of owners");
    reader.view(|view| view.reflex_progress("x")).unwrap();
    let posts = reader.posts().unwrap();
    assert!(posts.len() == 2 && posts.iter().all(|post| post.verifier.is_empty()));
    for sql in [
        "UPDATE devices SET held = NULL",
        "SELECT verifier FROM posts",
        "UPDATE tally SET one = one",
        "SELECT act FROM acts",
    ] {
        assert!(roles.tries(&bob, sql).is_some(), "a reader may {sql}");
    }
    // People do all that a ward is for, with a role that owns nothing.
    let ada = format!("{database}_ada");
    let mut person = OperatorStore::new(postgres::open(access_as(database, &ada, false), None).unwrap());
    person.add_devices(&[device("wv-3", Some("QF-3"))], &cause).unwrap().unwrap();
    person.set_hold(&[id("wv-3")], true, &cause).unwrap();
    person.retire_device(&id("wv-3"), &cause).unwrap();
    person.retire_post(&desk.name, &cause).unwrap().unwrap();
    assert_eq!(broken(&person), []);
    for sql in [
        "UPDATE audit SET subject = 'x'",
        "DELETE FROM audit",
        "TRUNCATE audit",
        "UPDATE store_format SET number = 9",
        "DROP TABLE devices",
        "ALTER TABLE audit DISABLE TRIGGER ALL",
        "CREATE TABLE mine (a INT)",
    ] {
        assert!(roles.tries(&ada, sql).is_some(), "a person may {sql}");
    }
    // A retired post is out: at once for what it does, and for its connections when its role was changed.
    let again = as_desk.tally(&Tally::Post(&roles.state(desk)));
    assert!(matches!(again, Err(StoreError::Forbidden { .. })), "{again:?}");
    give_roles(database);
    assert!(as_desk.head().is_err());
    assert!(postgres::open(access_as(database, &desk.login, true), None).is_err());
}

#[test]
fn guards_hear_of_each_others_sessions() {
    let mut world = World::new();
    let (database, owner) = new_database(&world);
    let mut owner = OperatorStore::new(owner);
    owner.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(1)).unwrap().unwrap();
    let posts = ["guard-1", "guard-2"].map(|name| new_post(&mut world, &database, name, PostRole::Guard));
    posts.iter().for_each(|post| owner.add_post(post, &cause(1), &mut || Ok(())).unwrap().unwrap());
    give_roles(&database);
    let mut guards = posts.each_ref().map(|post| guard_of(&database, post));
    let says = |guard: &mut GuardStore, post: &PostRecord| {
        let (version, address) = ("1".to_owned(), "127.0.0.1:1".to_owned());
        let (since, seen) = (UnixTime(NOW), UnixTime(NOW));
        let state =
            PostState { name: post.name.clone(), version, address, edition: 1, change: 2, sessions: 3, since, seen };
        guard.tally(&Tally::Post(&state)).unwrap();
    };
    let mut meet = |of: usize, is_first: bool, opened: &[(&str, &str, &str)], closed: &[&str], at: i64| {
        let opened: Vec<Opened> = opened
            .iter()
            .map(|(client, device, network)| Opened {
                client_id: (*client).into(),
                device: id(device),
                network: (*network).into(),
            })
            .collect();
        let closed: Vec<String> = closed.iter().map(|client| (*client).to_owned()).collect();
        let turn = Turn { post: &posts[of].name, is_first, opened: &opened, closed: &closed, at: UnixTime(NOW + at) };
        says(&mut guards[of], &posts[of]);
        let met = guards[of].meet(&turn).unwrap();
        met.into_iter().map(|met| (met.before, met.left)).collect::<Vec<_>>()
    };
    let none = |count| (count, None);
    assert_eq!(
        meet(0, true, &[("wv-1", "wv-1", "10.0.0.1"), ("wv-2", "wv-2", "10.0.0.1")], &[], 1),
        [none(0), none(0)]
    );
    // It moved, to another guard; one may.
    assert_eq!(
        meet(1, true, &[("wv-1:a", "wv-1", "10.0.0.2"), ("wv-1:b", "wv-1", "10.0.0.2")], &[], 2),
        [none(1), none(2)]
    );
    // And came back: two have its key.
    let back = (0, Some("10.0.0.2".to_owned()));
    assert_eq!(meet(0, false, &[("wv-1", "wv-1", "10.0.0.1")], &["wv-2"], 3), [back]);
    // Twice in one turn, from two networks; what one guard sees by itself is its own to say.
    assert_eq!(
        meet(0, false, &[("wv-1:c", "wv-1", "10.0.0.3"), ("wv-1:d", "wv-1", "10.0.0.1")], &[], 4),
        [none(3), none(4)]
    );
    assert_eq!(meet(0, false, &[("nobody", "wv-9", "10.0.0.1")], &[], 5), [none(0)], "one that is not listed");
    assert_eq!(meet(1, false, &[("wv-2", "wv-2", "10.0.0.9")], &["wv-1:a", "wv-1:b"], 6), [none(0)]);
    assert_eq!(meet(0, false, &[("wv-1", "wv-1", "10.0.0.1")], &[], 7), [none(0)]);
    // Long after, coming back is no sign.
    assert_eq!(meet(1, false, &[("wv-1:a", "wv-1", "10.0.0.2")], &[], 10), [none(3)]);
    assert_eq!(meet(0, false, &[("wv-1", "wv-1", "10.0.0.1")], &[], 2000), [none(0)]);
    // A guard that begins anew has no session of before; one that says nothing has none that count.
    assert_eq!(meet(0, true, &[], &[], 2001), []);
    assert_eq!(meet(1, false, &[("wv-1:b", "wv-1", "10.0.0.2")], &[], 2002)[0].0, 1);
    Cluster::shared().sql(&database, "UPDATE post_states SET alive = clock_timestamp() - interval '1 minute'");
    assert_eq!(meet(0, false, &[("wv-1", "wv-1", "10.0.0.1")], &[], 2003)[0].0, 0);
}

#[test]
fn names_that_mean_something_to_sql_are_names() {
    let mut world = World::new();
    let cluster = Cluster::shared();
    let name = "we\"ird'; DROP TABLE devices; --";
    let quoted = name.replace('"', "\"\"");
    cluster.sql("postgres", &format!("CREATE DATABASE \"{quoted}\" OWNER operator"));
    let mut access = access("north");
    access.address.database = name.to_owned();
    let store =
        crate::bench::founded(&world, |founding| postgres::create(access.clone(), founding, &cause(0)).unwrap());
    let mut store = OperatorStore::new(store);
    let post = new_post(&mut world, name, "guard-2", PostRole::Guard);
    store.add_post(&post, &cause(1), &mut || Ok(())).unwrap().unwrap();
    cluster.sql(name, &postgres::roles(access.clone()).unwrap());
    access.address.user = post.login.clone();
    access.is_post = true;
    let mut guard = GuardStore::new(postgres::open(access, None).unwrap());
    store.add_devices(&[device("wv-1", None)], &cause(2)).unwrap().unwrap();
    guard.record_uses(&[(id("wv-1"), None)], &by(&post, 3)).unwrap();
    assert_eq!(store.devices(&[id("wv-1")]).unwrap()[0].as_ref().unwrap().device.seen, Some(UnixTime(NOW + 3)));
}

#[test]
fn a_real_guards_clock_must_be_right_and_a_moved_ward_takes_nothing() {
    let roles = Roles::new();
    let cluster = Cluster::shared();
    cluster.sql(&roles.database, "UPDATE ward SET rehearsal = false");
    let mut guard = guard_of(&roles.database, &roles.guard);
    let own = i64::try_from(std::time::SystemTime::UNIX_EPOCH.elapsed().unwrap().as_secs()).unwrap();
    let at = |at: i64| Cause { at: UnixTime(at), ..by(&roles.guard, 0) };
    for wrong in [own - 3600, own + 3600, 0] {
        let done = guard.record_uses(&[(id("wv-1"), None)], &at(wrong));
        assert!(matches!(&done, Err(StoreError::Forbidden { detail }) if detail.contains("clock")), "{done:?}");
    }
    guard.record_uses(&[(id("wv-1"), None)], &at(own)).unwrap();
    let mut whole = postgres::open_whole(access(&roles.database)).unwrap();
    let to = tidy_warden_store::Move { to: "elsewhere".into(), is_done: false };
    whole.set_moved(Some(&to)).unwrap();
    let moved = guard.record_uses(&[(id("wv-1"), None)], &at(own));
    assert!(matches!(&moved, Err(StoreError::Moved { move_to }) if *move_to == to), "{moved:?}");
}

#[test]
fn what_became_of_a_guards_act_is_looked_up_when_its_answer_was_lost() {
    let roles = Roles::new();
    let at = by(&roles.guard, 5);
    let mode = Arc::new(AtomicU8::new(PASS));
    let port = proxy(Cluster::shared().folder().join(".s.PGSQL.5432"), b"messages.watch", mode.clone());
    let address = format!("postgresql://{}@127.0.0.1:{port}/{}?sslmode=disable", roles.guard.login, roles.database);
    let access = DatabaseAccess {
        address: DatabaseAddress::parse(&address, true).unwrap(),
        is_post: true,
        ..access(&roles.database)
    };
    let mut guard = GuardStore::new(postgres::open(access, None).unwrap());
    let notes = || roles.owner.entries(1, 99).unwrap().iter().filter(|entry| entry.act == "messages.watch").count();
    guard.record_note("messages.watch", "#", "{}", &at).unwrap();
    for (what, done, count) in [(SWALLOW_ANSWER, true, 2), (SWALLOW_COMMIT, false, 2), (PASS, true, 3)] {
        mode.store(what, Ordering::SeqCst);
        let noted = guard.record_note("messages.watch", "#", "{}", &at);
        assert_eq!((noted.is_ok(), notes()), (done, count), "{noted:?}");
    }
}
