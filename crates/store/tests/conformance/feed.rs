//! Who follows a store is told what changed.

use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::policy::PolicyFile;
use tidy_warden_core::revocation::Reason;
use tidy_warden_store::OperatorStore;

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
