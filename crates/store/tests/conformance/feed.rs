//! Who follows a store is told what changed.

use std::time::{Duration, Instant};

use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::policy::PolicyFile;
use tidy_warden_core::revocation::Reason;
use tidy_warden_store::{OperatorStore, Place};

use crate::bench::{cause, device, fresh, id, issue, on_each};

#[test]
fn a_follower_is_told_what_changed() {
    on_each(|store, guard, world| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let start = guard.changed_since(i64::MAX).unwrap().to;
        assert_eq!(guard.changed_since(start).unwrap().devices.unwrap(), []);
        let certificate = fresh(world, "wv-2");
        issue(store, "wv-2", &certificate, false, 1).unwrap().unwrap();
        let files = [PolicyFile { name: "policies/a.policy".into(), text: "# none".into() }];
        assert_eq!(store.adopt(&files, &cause(2)).unwrap(), 1);
        let changes = guard.changed_since(start).unwrap();
        assert_eq!((changes.devices.unwrap(), changes.edition), (vec![id("wv-2")], 1));
        assert_eq!(guard.changed_since(changes.to).unwrap().devices.unwrap(), []);
        assert_eq!(guard.edition(None).unwrap().unwrap().files, files);
        assert_eq!(guard.edition(Some(2)).unwrap(), None);
    });
}

#[test]
fn a_gateway_hears_of_every_change_to_its_children() {
    on_each(|store, _, _| {
        let child = |of: &str| {
            let mut device = device(of, None);
            device.gateway = Some(id("st-1"));
            device
        };
        store.add_devices(&[device("st-1", None), device("st-2", None)], &cause(0)).unwrap().unwrap();
        let mut at = store.changed_since(0).unwrap().to;
        let mut heard = |store: &OperatorStore| {
            let changes = store.changed_since(at).unwrap();
            at = changes.to;
            changes
                .devices
                .into_iter()
                .flatten()
                .filter(|device| device.as_str().starts_with("st"))
                .map(|device| device.to_string())
                .collect::<Vec<_>>()
        };
        store.add_devices(&[child("cb-1"), child("cb-2")], &cause(1)).unwrap().unwrap();
        assert_eq!(heard(store), ["st-1"]);
        assert_eq!(store.children(&id("st-1")).unwrap().len(), 2);
        let edit = DeviceEdit { gateway: Some(Some(id("st-2"))), ..DeviceEdit::default() };
        store.edit_devices(&[id("cb-1")], &edit, &cause(2)).unwrap().unwrap();
        assert_eq!(heard(store), ["st-1", "st-2"]);
        store.revoke_devices(&[id("cb-2")], Reason::KeyCompromise, &cause(3)).unwrap();
        assert_eq!(heard(store), ["st-1"]);
        store.reopen_device(&id("cb-2"), &cause(4)).unwrap();
        assert_eq!(heard(store), ["st-1"]);
        store.retire_device(&id("cb-2"), &cause(5)).unwrap();
        assert_eq!(heard(store), ["st-1"]);
        assert_eq!(store.children(&id("st-1")).unwrap(), []);
        let refused = store.edit_devices(&[id("st-2"), id("cb-1")], &edit, &cause(6)).unwrap().unwrap_err();
        assert_eq!(refused.0, id("st-2"));
        assert_eq!(heard(store), Vec::<String>::new(), "all or none");
    });
}

#[test]
fn a_feed_waits_for_changes_and_gives_them_in_pages() {
    on_each(|store, guard, _| {
        let mut feed = guard.feed().unwrap();
        let start = feed.wait(0, Duration::from_secs(20)).unwrap();
        assert_eq!((start.number, start), (1, guard.head().unwrap()));
        let began = Instant::now();
        assert_eq!(feed.wait(1, Duration::from_millis(150)).unwrap().number, 1);
        assert!(began.elapsed() >= Duration::from_millis(150), "nothing changed, so it waits");
        // All with one number, as a batch has them.
        let all: Vec<_> = (0..25).map(|number| device(&format!("wv-{number:02}"), None)).collect();
        store.add_devices(&all, &cause(1)).unwrap().unwrap();
        assert_eq!(feed.wait(1, Duration::from_secs(20)).unwrap().number, 2);
        let (mut after, mut told, mut pages) = (Place::after(1), Vec::new(), 0);
        loop {
            let changed = feed.changed(after, 10).unwrap();
            told.extend(changed.devices);
            (after, pages) = (changed.to, pages + 1);
            if !changed.more {
                break;
            }
        }
        let wanted: Vec<_> = all.iter().map(|device| device.id.clone()).collect();
        assert_eq!((told, pages), (wanted, 3));
        assert_eq!(feed.changed(after, 10).unwrap().devices, []);
        // One that changes again stands behind the others.
        store.set_hold(&[id("wv-03")], true, &cause(2)).unwrap();
        assert_eq!(feed.changed(after, 10).unwrap().devices, [id("wv-03")]);
    });
}
