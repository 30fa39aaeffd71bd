//! A small ward to do things in, on each engine.

use std::path::Path;

use tidy_warden_core::audit::{Broken, Verifier};
use tidy_warden_core::authority::{AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::{
    AltName, Certificate, Issuer, Places, SerialNumber, Subject, Template, Usage, self_signed,
};
use tidy_warden_core::database::DatabaseAddress;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::enrolment::IssueRefusal;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{NewKey, ProvenKey, Signer, SoftwareKey};
use tidy_warden_core::random::Randomness;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_rig::Cluster;
use tidy_warden_store::{
    Cause, DatabaseAccess, Founding, GuardStore, MemoryStore, NewCredential, OperatorStore, SqliteStore, Store,
    StoreError, WardRecord, postgres,
};

pub(crate) const NOW: i64 = 1_795_417_333;

/// A stream of octets that never repeats; enough for serial numbers in a test.
pub(crate) struct Counting(u64);

impl Randomness for Counting {
    fn fill(&mut self, bytes: &mut [u8]) {
        for chunk in bytes.chunks_mut(8) {
            self.0 += 1;
            chunk.copy_from_slice(&self.0.to_be_bytes()[..chunk.len()]);
        }
    }
}

pub(crate) struct World {
    pub(crate) root: Certificate,
    pub(crate) key: SoftwareKey,
    random: Counting,
}

impl World {
    pub(crate) fn new() -> Self {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let mut random = Counting(0);
        let proven = key.proven();
        let subject = Subject::of("w", "root");
        let template = template(&proven, &subject, &[], Usage::UNLIMITED, &mut random, 7000);
        Self { root: self_signed(&template, &key).unwrap(), key, random }
    }

    pub(crate) fn certificate(&mut self, id: &str, key: &ProvenKey, days: u32) -> Certificate {
        let names = [AltName::Uri(format!("urn:dev:org:32473-{id}"))];
        let subject = Subject::of("w", id);
        let template = template(key, &subject, &names, Usage::Client, &mut self.random, days);
        template.issue(Issuer { certificate: &self.root, signer: &self.key }).unwrap().certificate
    }
}

impl World {
    /// A certificate for a server of a DNS name.
    pub(crate) fn server(&mut self, name: &str, key: &ProvenKey) -> Certificate {
        self.server_for(name, key, 30)
    }

    /// The same that lasts for some days.
    pub(crate) fn server_for(&mut self, name: &str, key: &ProvenKey, days: u32) -> Certificate {
        let (subject, names) = (Subject::of("w", name), [AltName::host(name).unwrap()]);
        let template = template(key, &subject, &names, Usage::Server, &mut self.random, days);
        template.issue(Issuer { certificate: &self.root, signer: &self.key }).unwrap().certificate
    }

    /// Another for the root's own key, which is what the guard of a new ward has here.
    pub(crate) fn another_own(&mut self, days: u32) -> Certificate {
        let key = self.key.proven();
        let subject = Subject::of("w", "guard");
        self_signed(&template(&key, &subject, &[], Usage::Server, &mut self.random, days), &self.key).unwrap()
    }
}

fn template<'a>(
    key: &'a ProvenKey,
    subject: &'a Subject,
    names: &'a [AltName],
    usage: Usage<'a>,
    random: &mut Counting,
    days: u32,
) -> Template<'a> {
    Template {
        serial: SerialNumber::new(UnixTime(NOW), random),
        subject,
        names,
        key,
        now: UnixTime(NOW),
        life: Span::from_days(days),
        usage,
        places: Places { crl: "http://localhost/devices.crl", authority: "" },
    }
}

pub(crate) fn cause(after: i64) -> Cause {
    Cause { at: UnixTime(NOW + after), actor: "ada".into(), because: "test".into() }
}

pub(crate) fn founded<T>(world: &World, make: impl FnOnce(&Founding<'_>) -> T) -> T {
    let ward = WardRecord { urn: "urn:uuid:1".into(), rehearsal: true, token_key: world.key.public_key().clone() };
    let authorities = [("devices".parse().unwrap(), AuthorityRole::Devices, world.root.clone(), KeyPlace::Ward)];
    make(&Founding { ward, authorities: &authorities, servers: &[("guard", world.root.clone())], settings: "a" })
}

pub(crate) fn new_file(path: &Path, world: &World) -> SqliteStore {
    founded(world, |founding| SqliteStore::create(path, founding, &cause(0)).unwrap())
}

pub(crate) fn new_model(world: &World) -> MemoryStore {
    founded(world, |founding| MemoryStore::create(founding, &cause(0)).unwrap())
}

/// How to come to a database of the tests' server.
pub(crate) fn access(database: &str) -> DatabaseAccess {
    let address = DatabaseAddress::parse(&Cluster::shared().address(database), false).unwrap();
    DatabaseAccess { address, password: None, roots: None, insecure: false, is_post: false }
}

/// A new ward in a database of its own, whose name comes with it.
pub(crate) fn new_database(world: &World) -> (String, Box<dyn Store>) {
    let database = Cluster::shared().database();
    let store = founded(world, |founding| postgres::create(access(&database), founding, &cause(0)).unwrap());
    (database, store)
}

/// A new store in a file, with every act.
pub(crate) fn file_store(path: &Path, world: &World) -> OperatorStore {
    OperatorStore::new(Box::new(new_file(path, world)))
}

/// The store in a file, with every act.
pub(crate) fn opened(path: &Path) -> OperatorStore {
    OperatorStore::new(Box::new(SqliteStore::open(path).unwrap()))
}

/// Runs a test on each engine, with two handles on one store: a person's and the guard's.
pub(crate) fn on_each(test: impl Fn(&mut OperatorStore, &mut GuardStore, &mut World)) {
    let run = |operator: Box<dyn Store>, guard: Box<dyn Store>, mut world: World| {
        let mut store = OperatorStore::new(operator);
        test(&mut store, &mut GuardStore::new(guard), &mut world);
        assert_eq!(broken(&store), [], "whatever a test does, the audit record stays whole");
    };
    let world = World::new();
    let model = new_model(&world);
    run(Box::new(model.another()), Box::new(model), world);

    let world = World::new();
    let (database, operator) = new_database(&world);
    run(operator, postgres::open(access(&database), None).unwrap(), world);
    for (table, column, of) in [
        ("facts", "device", "devices"),
        ("credentials", "device", "devices"),
        ("credentials", "authority", "authorities"),
    ] {
        let sql = format!(
            "SELECT count(*) FROM {table} WHERE {column} IS NOT NULL AND {column} NOT IN (SELECT pk FROM {of})"
        );
        assert_eq!(Cluster::shared().sql(&database, &sql).trim(), "0", "{table}.{column} leads nowhere");
    }

    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("ward.db");
    let world = World::new();
    let file = new_file(&path, &world);
    run(Box::new(file), Box::new(SqliteStore::open(&path).unwrap()), world);
    // The engine does not look references up; whatever a test does, none leads nowhere.
    let raw = rusqlite::Connection::open(&path).unwrap();
    let nowhere: i64 = raw.query_row("SELECT count(*) FROM pragma_foreign_key_check", [], |row| row.get(0)).unwrap();
    assert_eq!(nowhere, 0);
}

pub(crate) fn broken(store: &OperatorStore) -> Vec<Broken> {
    let mut verifier = Verifier::default();
    let mut found = Vec::new();
    store
        .each_entry(1, &mut |entry| {
            found.extend(verifier.follow(&entry).err());
            true
        })
        .unwrap();
    let (number, hash) = store.audit_end().unwrap();
    found.extend(verifier.finish(number, hash).err());
    found
}

pub(crate) fn device(id: &str, serial: Option<&str>) -> DeviceRecord {
    let mut device = DeviceRecord::new(id.parse().unwrap(), "windvane".parse().unwrap(), UnixTime(NOW));
    device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
    if let Some(serial) = serial {
        let fact = Fact::new(FactName::Serial, serial).unwrap();
        device.facts.insert(FactName::Serial, fact);
    }
    device
}

pub(crate) fn id(text: &str) -> DeviceId {
    text.parse().unwrap()
}

pub(crate) fn issue(
    store: &mut OperatorStore,
    of: &str,
    certificate: &Certificate,
    again: bool,
    at: i64,
) -> Result<Result<(), IssueRefusal>, StoreError> {
    let (device, authority) = (id(of), "devices".parse().unwrap());
    let issued = NewCredential::issued(&device, &authority, certificate, "p256");
    let new = NewCredential { again, overlap: Span::from_seconds(1000), ..issued };
    store.record_issued(&new, &cause(at), &mut || Ok(()))
}

pub(crate) fn fresh(world: &mut World, of: &str) -> Certificate {
    let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
    world.certificate(of, &key, 30)
}
