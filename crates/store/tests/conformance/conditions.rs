//! Conditions mean the same to a store and to the core.

use proptest::prelude::*;
use proptest::test_runner::TestRunner;
use tidy_warden_core::condition::{Candidate, Condition, Use};
use tidy_warden_core::credential::Revocation;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::key::{NewKey, SoftwareKey};
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{GroupMembers, GuardStore, OperatorStore, resolvable};

use crate::bench::{NOW, World, cause, device, id, issue, on_each};

/// Texts of conditions over what [`condition_fleet`] holds, and a little beyond.
fn any_condition() -> impl Strategy<Value = String> {
    let text = (
        prop_oneof![
            "id",
            "kind",
            "owner",
            "gateway",
            "site",
            "pylon",
            "serial",
            "asset",
            "fact[.]asset",
            "label[.]note"
        ],
        prop_oneof![
            ("(=|!=|<|<=|>|>=)", "(wv-[0-9]|st-1|windvane|ossel|brindle|p[1-3]|o|\"st-1\")")
                .prop_map(|(s, v)| format!("{s} {v}")),
            "(known|in [(]wv-1, ossel, p1[)]|matches \"[*](1|l)\"|matches \"w[*]\"|matches \"[*]s[*]e[*]\")",
        ],
    )
        .prop_map(|(field, test)| format!("{field} {test}"));
    let state = "state (=|!=) (listed|issued|equipped|live|out|retired)";
    let moment = "(cert[.]ends|seen|created) (known|within 3d|within 20d|before 1d ago|after 2d ago|(before|after|=|!=|<=|>=) 2026-11-2[0-9]T09:02:13Z)";
    let group = "group (= (a|b|rule)|!= (a|b|rule)|in [(]a, rule[)])";
    let leaf = prop_oneof![4 => text, 2 => state, 2 => moment, 1 => group, 1 => "note known"];
    leaf.prop_recursive(3, 10, 3, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} and {b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
            inner.prop_map(|inner| format!("not ({inner})")),
        ]
    })
}

/// Devices in every state, with and without every value.
pub(crate) fn condition_fleet(store: &mut OperatorStore, guard: &mut GuardStore, world: &mut World) {
    let mut all = vec![device("st-1", None)];
    for at in 0..10 {
        let mut device = device(&format!("wv-{at}"), (at % 3 == 0).then_some(format!("QF-{at}")).as_deref());
        device.created = UnixTime(NOW - at * 40_000);
        device.gateway = (at % 4 == 1).then(|| id("st-1"));
        device.owner = (at % 5 == 1).then(|| "o".parse().unwrap());
        if at % 2 == 0 {
            device.labels.insert("site".parse().unwrap(), "brindle".parse().unwrap());
            device.labels.insert("pylon".parse().unwrap(), format!("p{}", at % 3).parse().unwrap());
        } else if at % 3 == 0 {
            device.labels.clear();
        }
        // A fact of the ward's own, which devices share, with values that labels have too; and labels that are named like a note.
        let asset = FactName::parse("asset").unwrap();
        if at % 3 == 1 {
            let value = ["ossel", "QA-1", "p1"][usize::try_from(at / 3).unwrap() % 3];
            device.facts.insert(asset.clone(), Fact::new(asset, value).unwrap());
        }
        device.note = (at % 4 == 2).then(|| "ossel".parse().unwrap());
        if at % 5 == 0 {
            device.labels.insert("note".parse().unwrap(), "ossel".parse().unwrap());
        }
        all.push(device);
    }
    store.add_devices(&all, &cause(0)).unwrap().unwrap();
    for (at, days) in [(1u32, 1u32), (2, 2), (3, 15), (4, 400), (5, 2), (6, 15)] {
        let name = format!("wv-{at}");
        let certificate = world.certificate(&name, &SoftwareKey::generate(NewKey::P256).unwrap().proven(), days);
        issue(store, &name, &certificate, false, 1).unwrap().unwrap();
        if at % 2 == 0 {
            guard
                .record_uses(&[(id(&name), Some(certificate.fingerprint))], &cause(10 + i64::from(at) * 30_000))
                .unwrap();
        }
        if at > 4 {
            let again = world.certificate(&name, &SoftwareKey::generate(NewKey::P256).unwrap().proven(), 9);
            issue(store, &name, &again, true, 2).unwrap().unwrap();
        }
    }
    let out = id("wv-6");
    store.revoke(Revocation { device: &out, only: None, reason: Reason::KeyCompromise }, &cause(3)).unwrap();
    store.retire_device(&id("wv-7"), &cause(4)).unwrap();
    store.make_group(&"a".parse().unwrap(), &GroupMembers::Fixed(vec![id("wv-1"), id("wv-2")]), &cause(5)).unwrap();
    store.make_group(&"b".parse().unwrap(), &GroupMembers::Fixed(vec![id("wv-2"), id("st-1")]), &cause(5)).unwrap();
    let rule = GroupMembers::Rule("site = brindle and not serial known".into());
    store.make_group(&"rule".parse().unwrap(), &rule, &cause(5)).unwrap();
}

#[test]
fn the_store_counts_as_good_what_the_core_calls_good() {
    on_each(|store, guard, world| {
        condition_fleet(store, guard, world);
        let devices: tidy_warden_core::id::AuthorityName = "devices".parse().unwrap();
        let count_at = |days: i64, store: &mut OperatorStore| {
            let now = UnixTime(NOW + days * 43_200);
            let (mut good, mut last) = (0u64, None);
            store
                .each_device(&mut |view| {
                    for credential in view.credentials.iter().filter(|credential| credential.is_good(now)) {
                        good += 1;
                        last = last.max(Some(credential.not_after));
                    }
                })
                .unwrap();
            let told = store.signed_by(&devices, now).unwrap();
            assert_eq!((told.usable, told.last_end), (good, last), "{days} half days");
            good
        };
        let counts: Vec<u64> = (-2..60).map(|days| count_at(days, store)).collect();
        assert!(
            counts.contains(&0) && counts.iter().collect::<std::collections::BTreeSet<_>>().len() > 3,
            "{counts:?}"
        );
        store.retire_authority(&devices, &cause(9)).unwrap();
        assert_eq!(count_at(0, store), 0);
    });
}

#[test]
fn conditions_mean_the_same_to_the_store_and_to_the_core() {
    on_each(|store, guard, world| {
        condition_fleet(store, guard, world);
        let groups = resolvable(&store.groups().unwrap()).unwrap();
        let mut runner = TestRunner::new(ProptestConfig::with_cases(3_000));
        let run = runner.run(&(any_condition(), 0i64..20), |(text, days)| {
            let condition = Condition::parse(&Source::new("--where", &text), Use::Picking)
                .map_err(|error| TestCaseError::fail(error.to_string()))?
                .resolve(&groups);
            let now = UnixTime(NOW + days * 86_400 / 2);
            let mut want = Vec::new();
            store
                .each_device(&mut |view| {
                    if condition.holds(&Candidate::at(&view.device, &view.credentials, now)) {
                        want.push(view.device.id);
                    }
                })
                .unwrap();
            let mut found = Vec::new();
            store.each_device_where(&condition, now, &mut |view| found.push(view.device.id)).unwrap();
            prop_assert_eq!(&found, &want, "{}", text);
            let mut by_id = Vec::new();
            store
                .each_device_by_id(Some(&condition), now, &mut |view| {
                    by_id.push(view.device.id);
                    true
                })
                .unwrap();
            let mut ends = Vec::new();
            store
                .each_by_end(Some(&condition), now, &mut |ending| {
                    ends.push((ending.at, ending.view.device.id));
                    true
                })
                .unwrap();
            prop_assert!(ends.is_sorted(), "{}: {:?}", text, ends);
            let mut all = Vec::new();
            store
                .each_by_end(None, now, &mut |ending| {
                    all.extend(want.contains(&ending.view.device.id).then_some((ending.at, ending.view.device.id)));
                    true
                })
                .unwrap();
            prop_assert_eq!(ends, all, "{}", text);
            want.sort();
            prop_assert_eq!(by_id, want, "{}", text);
            Ok(())
        });
        run.unwrap();
        // A long list must not become a deep expression.
        let long = vec!["id = wv-1"; 9_000].join(" or ");
        let long = Condition::parse(&Source::new("--where", &long), Use::Picking).unwrap();
        let mut count = 0;
        store.each_device_where(&long, UnixTime(NOW), &mut |_| count += 1).unwrap();
        assert_eq!(count, 1);
    });
}
