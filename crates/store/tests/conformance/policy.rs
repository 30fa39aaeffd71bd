//! Groups, editions and trials.

use tidy_warden_core::policy::{Edition, Fleet, FleetRow, PolicyFile, reach};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{GroupMembers, OperatorStore, StoreError, Tally, TrialDifference, resolvable};

use crate::bench::{NOW, cause, device, id, on_each};
use crate::conditions::condition_fleet;

#[test]
fn a_fleet_from_rows_is_that_from_records() {
    on_each(|store, guard, world| {
        condition_fleet(store, guard, world);
        let text =
            "policy p { for group = a or serial = \"QF-3\" or owner known\n allow publish \"a/{site}/{device}\" }
                    policy q { for kind = windvane and not id = wv-2\n allow publish \"b/{gateway}/{device}\" }";
        let file = PolicyFile { name: "p".into(), text: text.into() };
        let groups = resolvable(&store.groups().unwrap()).unwrap();
        let edition = Edition::read(1, &[file], &groups).unwrap();
        let (mut rows, mut records) = (Fleet::new(&[&edition], []), Fleet::new(&[&edition], []));
        store
            .each_fleet_row(rows.wants_facts(), &mut |row| {
                rows.add(row).unwrap();
                Ok(())
            })
            .unwrap();
        store.each_device(&mut |view| records.add_record(&view.device).unwrap()).unwrap();
        assert_eq!((rows.len(), rows.class_count()), (10, records.class_count()));
        let settings = Settings::parse(&Source::new("ward.toml", "[ward]\nname = \"n\"\n")).unwrap();
        let told = |fleet: &Fleet<'_>| format!("{:?}", reach(fleet, &settings, &"#".parse().unwrap()));
        assert_eq!(told(&rows), told(&records));
        assert!(told(&rows).contains("b/st-1/wv-9"), "{}", told(&rows));
    });
}

#[test]
fn in_which_order_a_device_came_into_its_groups_makes_no_difference() {
    on_each(|store, _, _| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let put = |store: &mut OperatorStore, group: &str, ids: &[&str], at| {
            let members = GroupMembers::Fixed(ids.iter().map(|text| id(text)).collect());
            store.make_group(&group.parse().unwrap(), &members, &cause(at)).unwrap();
        };
        put(store, "b", &["wv-1"], 1);
        put(store, "a", &["wv-1", "wv-2"], 2);
        put(store, "b", &["wv-1", "wv-2"], 3);
        let mut all = Vec::new();
        let mut note = |row: &FleetRow<'_>| {
            all.push(row.groups.iter().map(ToString::to_string).collect::<Vec<_>>());
            Ok(())
        };
        store.each_fleet_row(false, &mut note).unwrap();
        assert_eq!(all, [["a", "b"], ["a", "b"]]);
    });
}

#[test]
fn groups_are_made_changed_and_dropped() {
    on_each(|store, _, _| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let (name, before) = ("night".parse().unwrap(), store.changed_since(0).unwrap());
        let fixed = |ids: &[&str]| GroupMembers::Fixed(ids.iter().map(|text| id(text)).collect());
        store.make_group(&name, &fixed(&["wv-1", "wv-2"]), &cause(1)).unwrap();
        let changes = store.changed_since(before.to).unwrap();
        assert_eq!(changes.devices.unwrap(), [id("wv-1"), id("wv-2")]);
        assert!(changes.group_rules > before.group_rules);
        let member = |store: &OperatorStore, of: &str| {
            store.devices(&[id(of)]).unwrap().remove(0).unwrap().device.groups.contains(&name)
        };
        assert!(member(store, "wv-1") && member(store, "wv-2"));
        store.make_group(&name, &fixed(&["wv-2"]), &cause(2)).unwrap();
        assert!(!member(store, "wv-1") && member(store, "wv-2"));
        let unknown = store.make_group(&name, &fixed(&["wv-1", "wv-9"]), &cause(3));
        assert!(matches!(unknown, Err(StoreError::Unknown { .. })));
        assert!(!member(store, "wv-1"), "all or none");
        store.make_group(&name, &GroupMembers::Rule("site = ossel".into()), &cause(4)).unwrap();
        assert!(!member(store, "wv-2"), "a rule leaves no names behind");
        assert_eq!(store.groups().unwrap()[0].rule.as_deref(), Some("site = ossel"));
        store.drop_group(&name, &cause(5)).unwrap();
        assert_eq!(store.groups().unwrap(), []);
        assert!(matches!(store.drop_group(&name, &cause(6)), Err(StoreError::Unknown { .. })));
    });
}

#[test]
fn trials_are_watched_one_at_a_time_and_differences_add_up() {
    on_each(|store, guard, _| {
        assert_eq!(store.trial().unwrap(), None);
        assert!(!store.end_trial(&cause(0)).unwrap());
        let files = [PolicyFile { name: "p".into(), text: "policy p { for id = a }".into() }];
        assert_eq!(store.begin_trial(&files, UnixTime(NOW + 90), &cause(1)).unwrap(), 1);
        assert_eq!(store.begin_trial(&files, UnixTime(NOW + 99), &cause(2)).unwrap(), 2);
        let trial = store.trial().unwrap().unwrap();
        assert_eq!((trial.number, trial.until, trial.files.as_slice()), (2, UnixTime(NOW + 99), &files[..]));
        assert_eq!(store.changed_since(0).unwrap().trial, 2);
        let each = TrialDifference {
            device: id("wv-1"),
            act: "publish".into(),
            would_allow: false,
            rule: "p:3 (policy p)".into(),
            sample: "a".into(),
            count: 2,
            first: UnixTime(NOW + 3),
            last: UnixTime(NOW + 4),
        };
        let later = TrialDifference {
            sample: "b".into(),
            count: 3,
            first: UnixTime(NOW + 5),
            last: UnixTime(NOW + 6),
            ..each.clone()
        };
        let end = store.audit_end().unwrap();
        guard
            .tally(&Tally::Differences {
                trial: 2,
                differences: &[each.clone(), TrialDifference { rule: String::new(), ..each.clone() }],
            })
            .unwrap();
        guard.tally(&Tally::Differences { trial: 2, differences: std::slice::from_ref(&later) }).unwrap();
        assert_eq!(store.audit_end().unwrap(), end);
        let found = store.trial_differences(2).unwrap();
        let joined = TrialDifference { count: 5, first: each.first, ..later };
        assert_eq!(found, [TrialDifference { rule: String::new(), ..each }, joined]);
        assert!(store.end_trial(&cause(7)).unwrap());
        assert_eq!((store.trial().unwrap(), store.changed_since(0).unwrap().trial), (None, 0));
    });
}

#[test]
fn editions_are_listed_without_their_texts() {
    on_each(|store, _, _| {
        let file = |name: &str| PolicyFile { name: name.into(), text: "policy p { for id = a }".into() };
        store.adopt(&[file("b"), file("a")], &cause(1)).unwrap();
        store.adopt(&[], &cause(2)).unwrap();
        let found: Vec<_> =
            store.editions().unwrap().into_iter().map(|edition| (edition.number, edition.files)).collect();
        assert_eq!(found, [(1, vec!["b".to_owned(), "a".to_owned()]), (2, vec![])]);
    });
}
