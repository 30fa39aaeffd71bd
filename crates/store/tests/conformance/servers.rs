//! The certificates of guards, desks and posts: each next one, and what becomes of those of before.

use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::key::{NewKey, ProvenKey, SoftwareKey};
use tidy_warden_core::post::PostRole;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{OperatorStore, PostRecord, ServerRefusal, StoreError};

use crate::bench::{NOW, World, cause, on_each};

const DAY: i64 = 86_400;

fn new_key() -> ProvenKey {
    SoftwareKey::generate(NewKey::P256).unwrap().proven()
}

fn post(name: &str, certificate: Certificate) -> PostRecord {
    PostRecord {
        name: name.parse().unwrap(),
        role: PostRole::Guard,
        host: format!("{name}.example"),
        login: format!("north_post_{name}"),
        verifier: String::new(),
        certificate,
        added: UnixTime(NOW),
        retired: None,
    }
}

/// What the next CRL lists for retired posts.
fn listed(store: &OperatorStore) -> Vec<String> {
    let crl = store.next_crl(&"devices".parse().unwrap()).unwrap();
    let ended = crl.entries.iter().filter(|entry| entry.reason == Reason::CessationOfOperation);
    ended.map(|entry| entry.serial.to_string()).collect()
}

#[test]
fn a_post_is_given_the_next_certificate_and_all_of_them_end_with_it() {
    on_each(|store, _, world| {
        let key = new_key();
        let next = |world: &mut World, days: u32| world.server_for("guard-2", &key, days);
        let (first, second, third) = (next(world, 30), next(world, 60), next(world, 90));
        store.add_post(&post("guard-2", first.clone()), &cause(1), &mut || Ok(())).unwrap().unwrap();
        let before = store.head().unwrap();
        assert_eq!((before.servers, store.former_servers().unwrap()), (0, Vec::new()));
        store.renew_server("guard-2", &first.fingerprint, &second, &cause(2)).unwrap().unwrap();
        let head = store.head().unwrap();
        assert_eq!(head.servers, head.number, "whoever follows the store hears of it");
        assert_eq!(store.changed_since(before.number).unwrap().servers, head.number);
        assert_eq!(head.authorities, before.authorities, "and nobody reads the authorities anew for it");
        assert_eq!(store.server_certificate("guard-2").unwrap(), second);
        assert_eq!(store.posts().unwrap()[0].certificate, second);
        let all: Vec<String> = store.servers().unwrap().into_iter().map(|server| server.name).collect();
        assert_eq!(all, ["guard", "guard-2"]);
        store.renew_server("guard-2", &second.fingerprint, &third, &cause(3)).unwrap().unwrap();
        assert_eq!(listed(store), Vec::<String>::new(), "one that was followed by the next is good until its end");
        assert!(!store.authorities().unwrap()[0].crl_pending);

        // Its key may be in other hands: no certificate for it is to be good.
        store.retire_post(&"guard-2".parse().unwrap(), &cause(4)).unwrap().unwrap();
        let mut serials = [&first, &second, &third].map(|each| each.serial.to_string());
        serials.sort();
        assert_eq!(listed(store), serials);
        assert!(store.authorities().unwrap()[0].crl_pending);
        let late = store.renew_server("guard-2", &third.fingerprint, &next(world, 99), &cause(5)).unwrap();
        assert_eq!(late, Err(ServerRefusal::Retired { name: "guard-2".into() }));
        assert_eq!(store.servers().unwrap().len(), 1);
    });
}

#[test]
fn what_is_no_next_certificate_is_refused_and_changes_nothing() {
    on_each(|store, _, world| {
        let key = new_key();
        let (first, second) = (world.server_for("guard-2", &key, 30), world.server_for("guard-2", &key, 60));
        store.add_post(&post("guard-2", first.clone()), &cause(1), &mut || Ok(())).unwrap().unwrap();
        let number = store.head().unwrap().number;
        let name = || "guard-2".to_owned();
        let mut renew = |before: &Certificate, next: &Certificate| {
            store.renew_server("guard-2", &before.fingerprint, next, &cause(2)).unwrap()
        };
        assert_eq!(renew(&second, &second), Err(ServerRefusal::Overtaken { name: name() }));
        let stranger = world.server_for("guard-2", &new_key(), 60);
        assert_eq!(renew(&first, &stranger), Err(ServerRefusal::OtherKey { name: name() }));
        let short = world.server_for("guard-2", &key, 20);
        assert_eq!(renew(&first, &short), Err(ServerRefusal::Sooner { name: name() }));
        let unknown = store.renew_server("guard-3", &first.fingerprint, &second, &cause(2));
        assert!(matches!(unknown, Err(StoreError::Unknown { .. })), "{unknown:?}");
        assert_eq!(store.head().unwrap().number, number);
        assert_eq!(store.servers().unwrap()[1].certificate, first);
        store.renew_server("guard-2", &first.fingerprint, &short, &cause(-1_000)).unwrap().unwrap();
        assert_eq!(store.servers().unwrap()[1].certificate, short, "it was made by a clock that was ahead");
    });
}

#[test]
fn those_of_before_are_kept_until_they_end() {
    on_each(|store, _, world| {
        let key = new_key();
        let certificates: Vec<_> = (1..5).map(|at| world.server_for("guard-2", &key, at * 10)).collect();
        let other = world.server_for("guard-3", &key, 5);
        for (name, certificate) in [("guard-2", &certificates[0]), ("guard-3", &other)] {
            store.add_post(&post(name, certificate.clone()), &cause(1), &mut || Ok(())).unwrap().unwrap();
        }
        let later = world.server_for("guard-3", &key, 50);
        store.renew_server("guard-3", &other.fingerprint, &later, &cause(2)).unwrap().unwrap();
        for (at, pair) in (0i64..).zip(certificates.windows(2)) {
            // Each after a week: the first has ended when the third of them is replaced.
            let [before, next] = pair else { unreachable!() };
            let renewed = store.renew_server("guard-2", &before.fingerprint, next, &cause(at * 7 * DAY)).unwrap();
            renewed.unwrap();
        }
        let former = store.former_servers().unwrap();
        let of = |name: &str| -> Vec<&Certificate> {
            former.iter().filter(|(owner, _)| owner == name).map(|(_, former)| former).collect()
        };
        let mut kept = of("guard-2");
        kept.sort_by_key(|each| each.not_after);
        assert_eq!(kept, [&certificates[1], &certificates[2]]);
        assert_eq!(of("guard-3"), [&other], "another's are its own matter");
    });
}

#[test]
fn a_guard_of_the_wards_own_folder_is_renewed_too() {
    on_each(|store, _, world| {
        let own = store.server_certificate("guard").unwrap();
        assert_eq!(store.servers().unwrap()[0].certificate, own);
        // The bench gives it the root's.
        let next = world.another_own(7500);
        store.renew_server("guard", &own.fingerprint, &next, &cause(1)).unwrap().unwrap();
        assert_eq!(store.server_certificate("guard").unwrap(), next);
        assert_eq!(store.former_servers().unwrap(), [("guard".to_owned(), own)]);
        assert!(matches!(
            store.renew_server("desk", &next.fingerprint, &next, &cause(2)),
            Err(StoreError::Unknown { .. })
        ));
    });
}
