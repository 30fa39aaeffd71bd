//! What is asked of one thing reads few rows of a database, however many there are, and however few there were when it was planned.

use tidy_warden_core::admission::AdmissionName;
use tidy_warden_core::certificate::{Fingerprint, SerialNumber};
use tidy_warden_core::claim::{Came, CodeDigest, HandOver, OpenClaim, OpenedBy, Ownership, Scope, Tries};
use tidy_warden_core::credential::Origin;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::reflex::Noticed;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_rig::Cluster;
use tidy_warden_store::{
    Batch, NewCredential, OperatorStore, OwnerPass, PassKind, Place, Store, StoreError, acts, decided, postgres,
};

use crate::admissions::wanted;
use crate::bench::{NOW, World, access, cause, device, id, new_database};

const FLEET: usize = 3_000;

/// The most rows, of tables and indexes together, that one question may read.
const MOST_READ: i64 = 150;

fn name(number: usize) -> String {
    format!("wv-{number:05}")
}

fn digest(number: usize) -> [u8; 32] {
    sha256(&number.to_be_bytes())
}

fn serial(number: usize) -> SerialNumber {
    SerialNumber::from_octets(&[&[1], &digest(number)[..15]].concat()).unwrap()
}

/// A fleet in which every second device has a bare key, and the others a certificate; one in fifty stands behind a gateway of its own.
fn fill(database: &str) {
    let mut store = OperatorStore::new(postgres::open(access(database), None).unwrap());
    let devices: Vec<DeviceRecord> = (0..FLEET)
        .map(|number| {
            let mut one = device(&name(number), Some(&format!("QF-{number}")));
            one.gateway = (number % 50 == 1).then(|| id(&name(number - 1)));
            one
        })
        .collect();
    let (authority, serials): (_, Vec<_>) = ("devices".parse().unwrap(), (0..FLEET).map(serial).collect());
    let credentials: Vec<_> = devices
        .iter()
        .zip(&serials)
        .enumerate()
        .map(|(number, (device, serial))| {
            let is_key = number % 2 == 0;
            NewCredential {
                device: &device.id,
                origin: if is_key { Origin::Key } else { Origin::Issued },
                authority: (!is_key).then_some(&authority),
                der: &[7],
                fingerprint: Fingerprint(digest(number)),
                serial: (!is_key).then_some(serial),
                key_digest: digest(number),
                key_type: "p256",
                not_before: UnixTime(NOW),
                not_after: UnixTime(NOW + 86_400),
                again: false,
                overlap: Span::from_seconds(0),
                fresh_key: true,
                authorised_by: (number > 50).then(|| Fingerprint(digest(number - 1))),
                kid: None,
                note: None,
            }
        })
        .collect();
    let batch =
        Batch { act: "bulk", devices: &devices, credentials: &credentials, list_digest: [0; 32], reached: None };
    store.record_batch(&batch, &cause(1), &mut || Ok(())).unwrap().unwrap();
    let admissions: Vec<_> =
        (0..FLEET).map(|number| wanted(&format!("new-{number}"), Some(&format!("NW-{number}")))).collect();
    store.open_admissions(&admissions, &cause(2), &mut |_| Ok(())).unwrap().unwrap();
    for number in 1..60 {
        store.reopen_device(&id(&name(number)), &cause(2)).unwrap();
        store.set_hold(&[id(&name(number))], true, &cause(2)).unwrap();
    }
    fill_claims(&mut store);
}

/// Each tenth device has an owner, each other one is opened, and each owner has links and wrong tries.
fn fill_claims(store: &mut OperatorStore) {
    let write = |tx: &mut dyn tidy_warden_store::Tx| {
        for number in 0..FLEET {
            let (device, owner): (DeviceId, OwnerId) =
                (id(&name(number)), format!("owner-{}", number / 10).parse().unwrap());
            let code = Some(CodeDigest { salt: [1; 16], digest: digest(number) });
            let (opened, ends) = (UnixTime(NOW), UnixTime(NOW + 60));
            for by in [OpenedBy::Person, OpenedBy::Device] {
                tx.put_claim(&OpenClaim { device: device.clone(), by, code, opened, ends })?;
            }
            let to: OwnerId = format!("owner-{}", number / 10 + 1).parse().unwrap();
            tx.put_hand_over(&HandOver { device: device.clone(), from: owner.clone(), to, offered: opened, ends })?;
            tx.put_ownership(&Ownership {
                number: 0,
                device: device.clone(),
                owner: owner.clone(),
                came: Came::Code,
                began: opened,
                place: [].into(),
                ended: None,
            })?;
            let tries = Some(Tries { count: 1, since: opened, last: opened });
            tx.put_tries(Scope::Pair, &format!("{owner} {device}"), tries)?;
            tx.put_tries(Scope::Device, device.as_str(), tries)?;
            let before = tx.devices(std::slice::from_ref(&device))?.pop().flatten().unwrap().device;
            tx.update_device(&before, &DeviceRecord { owner: Some(owner.clone()), ..before.clone() }, 1)?;
            if number % 10 > 0 {
                continue;
            }
            tx.put_tries(Scope::Owner, owner.as_str(), tries)?;
            let (kind, digest) = (PassKind::Link, digest(number / 10));
            tx.put_owner_pass(&OwnerPass { digest, kind, owner: owner.clone(), made: opened, ends, used: None })?;
            tx.put_owner(&OwnerRecord::new(owner, opened))?;
        }
        Ok(Ok::<_, ()>(()))
    };
    store.decide(write).unwrap().unwrap();
}

type Question = fn(&mut dyn Store) -> Result<(), StoreError>;

/// One change, as far as its act; nothing of it stays.
fn tried(
    store: &mut dyn Store,
    act: impl FnOnce(&mut dyn tidy_warden_store::Tx) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    decided(store, |tx| act(tx).map(|()| Err::<(), ()>(()))).map(|_| ())
}

const OF_ONE: &[(&str, Question)] = &[
    ("devices", |store| store.devices(&[id(&name(77))]).map(drop)),
    ("page", |store| store.page(None, UnixTime(NOW), 1_000, 10).map(drop)),
    ("page_by_id", |store| store.page_by_id(None, UnixTime(NOW), &name(1_000), 10).map(drop)),
    ("children", |store| store.children(&id(&name(50))).map(drop)),
    ("is_gateway", |store| store.is_gateway(&id(&name(50))).map(drop)),
    ("holder", |store| store.holder(&Fact::new(FactName::Serial, "QF-9").unwrap()).map(drop)),
    ("holders", |store| store.holders(&[&Fact::new(FactName::Serial, "QF-9").unwrap()]).map(drop)),
    ("last_retired", |store| store.last_retired(&Fact::new(FactName::Serial, "QF-9").unwrap()).map(drop)),
    ("authorised_by", |store| store.authorised_by(&Fingerprint(digest(90))).map(drop)),
    ("derived_from", |store| store.derived_from(&[Fingerprint(digest(90)), Fingerprint(digest(95))]).map(drop)),
    ("changed", |store| store.changed(Place { change: 1, row: 900 }, 10).map(drop)),
    ("status_many", |store| store.status_many(&[Fingerprint(digest(9))]).map(drop)),
    ("fingerprints_of", |store| store.fingerprints_of(&serial(9)).map(drop)),
    ("bound_key", |store| store.bound_key(&digest(10)).map(drop)),
    ("bound_key of nobody", |store| store.bound_key(&digest(FLEET)).map(drop)),
    ("bound_since", |store| store.bound_since(1_000, 10).map(drop)),
    ("holders_of_key", |store| store.holders_of_key(&digest(10)).map(drop)),
    ("key_standing", |store| store.key_standing(&digest(10)).map(drop)),
    ("key_digest", |store| store.key_digest(&Fingerprint(digest(9))).map(drop)),
    ("entrance of a key", |store| store.entrance(&Fingerprint(digest(FLEET)), &digest(10)).map(drop)),
    ("entrance of a certificate", |store| store.entrance(&Fingerprint(digest(9)), &digest(9)).map(drop)),
    ("entrance of nobody", |store| store.entrance(&Fingerprint(digest(FLEET)), &digest(FLEET)).map(drop)),
    ("entries_of", |store| store.entries_of(&id(&name(9))).map(drop)),
    ("recorded", |store| store.recorded(1_000, 10).map(drop)),
    ("traffic", |store| store.traffic(&id(&name(9))).map(drop)),
    ("clone_signs", |store| store.clone_signs(&id(&name(9))).map(drop)),
    ("broker_sessions_of", |store| store.broker_sessions_of(&id(&name(9))).map(drop)),
    ("head", |store| store.head().map(drop)),
    ("entries", |store| store.entries(20, 10).map(drop)),
    ("entry_hash", |store| store.entry_hash(20).map(drop)),
    ("admission", |store| store.admission(AdmissionName(9)).map(drop)),
    ("admissions", |store| store.admissions(AdmissionName(100), 10).map(drop)),
    ("last_admission", |store| store.last_admission().map(drop)),
    ("admissions_of", |store| store.admissions_of(&id("new-9"), 5).map(drop)),
    ("asking", |store| store.asking(&digest(9)).map(drop)),
    ("credential_der", |store| store.credential_der(&Fingerprint(digest(9))).map(drop)),
    ("admission_of_key", |store| store.admission_of_key(&digest(9)).map(drop)),
    ("entries_about", |store| store.entries_about("new-9", i64::MAX, 20).map(drop)),
    ("events", |store| store.events(&id("new-9")).map(drop)),
    ("errand", |store| store.errand(900).map(drop)),
    ("errands", |store| store.errands(None, 900, 10).map(drop)),
    ("errands of one", |store| store.errands(Some(&id(&name(9))), i64::MAX, 10).map(drop)),
    ("open_errands", |store| store.open_errands(&id(&name(9)), UnixTime(NOW), 10).map(drop)),
    ("errands_after", |store| store.errands_after(900, 10).map(drop)),
    ("last_errand", |store| store.last_errand().map(drop)),
    ("carried", |store| store.carried(&[9, 90]).map(drop)),
    ("answered_errands", |store| store.answered_errands(10).map(drop)),
    ("evidence_after", |store| store.evidence_after(900, 10).map(drop)),
    ("last_evidence", |store| store.last_evidence().map(drop)),
    ("count_evidence", |store| store.count_evidence(&id(&name(9)), Noticed::Refusals, UnixTime(NOW)).map(drop)),
    ("owner", |store| store.owner(&"owner-9".parse().unwrap()).map(drop)),
    ("owners", |store| store.owners("owner-9", 10).map(drop)),
    ("owned", |store| store.owned(&"owner-9".parse().unwrap(), "", 10).map(drop)),
    ("count_owned", |store| store.count_owned(&"owner-9".parse().unwrap()).map(drop)),
    ("drop_tries", |store| {
        tried(store, |tx| {
            tx.drop_tries_at(&id(&name(9)))?;
            tx.drop_tries_of(&"owner-9".parse().unwrap())?;
            tx.drop_old_tries(UnixTime(NOW - 1), 9)?;
            tx.drop_old_owner_passes(UnixTime(NOW - 1), 9)
        })
    }),
    ("claim", |store| store.claim(&id(&name(9)), OpenedBy::Person).map(drop)),
    ("claims", |store| store.claims(OpenedBy::Person, "", 10).map(drop)),
    ("hand_over", |store| store.hand_over(&id(&name(9))).map(drop)),
    ("hand_overs", |store| store.hand_overs(None, "", 10).map(drop)),
    ("hand_overs to one", |store| store.hand_overs(Some(&"owner-9".parse().unwrap()), "", 10).map(drop)),
    ("ownerships", |store| store.ownerships(&id(&name(9)), 10).map(drop)),
    ("tries", |store| store.tries(Scope::Owner, "owner-9").map(drop)),
    ("owner_pass", |store| store.owner_pass(&digest(9)).map(drop)),
    ("count_owner_passes", |store| store.count_owner_passes(&"owner-9".parse().unwrap(), PassKind::Link).map(drop)),
    ("due_notices", |store| store.due_notices(UnixTime(NOW), 10).map(drop)),
    ("notices", |store| store.notices(900, 10).map(drop)),
    ("count_waiting_notices", |store| store.count_waiting_notices().map(drop)),
    ("reflex_progress", |store| store.reflex_progress("copied-keys").map(drop)),
    ("hits", |store| store.hits(None, 900, 10).map(drop)),
    ("last_hit", |store| store.last_hit("copied-keys", &id(&name(9))).map(drop)),
    ("pending_for", |store| store.pending_for(&[id("new-9")]).map(drop)),
    ("pending_with", |store| store.pending_with(&[&Fact::new(FactName::Serial, "NW-9").unwrap()]).map(drop)),
    ("withdraw", |store| tried(store, |tx| acts::admission::withdraw(tx, &[AdmissionName(9)], &cause(3)).map(drop))),
    ("withdraw_pending", |store| tried(store, |tx| tx.withdraw_pending(Some(&id("new-9")), UnixTime(NOW)))),
    ("add", |store| tried(store, |tx| acts::device::add(tx, &[device("new", Some("QF-new"))], &cause(3)).map(drop))),
    ("set_hold", |store| tried(store, |tx| acts::device::set_hold(tx, &[id(&name(9))], false, &cause(3)).map(drop))),
    ("retire", |store| tried(store, |tx| acts::device::retire(tx, &id(&name(51)), &cause(3)))),
    ("enrol", |store| {
        tried(store, |tx| {
            let (device, authority, serial): (DeviceId, _, _) =
                (id(&name(8)), "devices".parse().unwrap(), serial(FLEET));
            let new = NewCredential {
                device: &device,
                origin: Origin::Issued,
                authority: Some(&authority),
                der: &[7],
                fingerprint: Fingerprint(digest(FLEET)),
                serial: Some(&serial),
                key_digest: digest(FLEET),
                key_type: "p256",
                not_before: UnixTime(NOW),
                not_after: UnixTime(NOW + 86_400),
                again: true,
                overlap: Span::from_seconds(0),
                fresh_key: false,
                authorised_by: None,
                kid: None,
                note: None,
            };
            acts::enrol::record(tx, &new, &cause(3)).map(drop)
        })
    }),
];

#[test]
fn what_is_asked_of_one_thing_reads_few_rows() {
    let (database, empty) = new_database(&World::new());
    drop(empty);
    let cluster = Cluster::shared();
    let read = || -> i64 {
        let sql = "SELECT (SELECT sum(seq_tup_read) FROM pg_stat_user_tables) + (SELECT sum(idx_tup_read) FROM pg_stat_user_indexes)";
        cluster.sql(&database, sql).trim().parse().unwrap()
    };
    let open = || postgres::open(access(&database), None).unwrap();
    // Each is planned while the tables are empty, and asked when they are full. What a connection read is told when it ends.
    let mut all: Vec<_> = OF_ONE.iter().map(|(what, question)| (*what, *question, open())).collect();
    for (_, question, store) in &mut all {
        // It may name what is not there yet.
        let _ = question(&mut **store);
    }
    fill(&database);
    let mut greedy = Vec::new();
    for (what, question, mut store) in all {
        let connections = || cluster.sql(&database, "SELECT count(*) FROM pg_stat_activity WHERE usename = 'operator'");
        let before = read();
        let there: usize = connections().trim().parse().unwrap();
        question(&mut *store).unwrap();
        drop(store);
        while connections().trim().parse::<usize>().unwrap() >= there {
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
        let rows = read() - before;
        if rows > MOST_READ {
            greedy.push((what, rows));
        }
    }
    assert_eq!(greedy, []);
}
