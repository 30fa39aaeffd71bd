//! What the guard counts and notices.

use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{CloneSigns, DeviceEvent, MOST_EVENTS, Tally, Traffic};

use crate::bench::{NOW, cause, device, id, on_each};

#[test]
fn what_the_guard_counts_adds_up_and_leaves_no_entries() {
    on_each(|store, guard, _| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let before = store.audit_end().unwrap();
        let refused = Some((UnixTime(NOW + 1), "publish \"rope/a\"".to_owned()));
        let first =
            Traffic { messages_in: 2, octets_in: 20, refusals: 1, refused: refused.clone(), ..Traffic::default() };
        let second = Traffic { messages_out: 3, octets_out: 30, ..first.clone() };
        let only_out = Traffic { messages_out: 1, ..Traffic::default() };
        guard
            .tally(&Tally::Traffic {
                counted: &[(id("wv-1"), first), (id("nobody"), only_out.clone())],
                at: UnixTime(NOW + 1),
            })
            .unwrap();
        guard
            .tally(&Tally::Traffic { counted: &[(id("wv-1"), second), (id("wv-2"), only_out)], at: UnixTime(NOW + 2) })
            .unwrap();
        guard
            .tally(&Tally::Traffic {
                counted: &[(id("wv-1"), Traffic { octets_in: 1, ..Traffic::default() })],
                at: UnixTime(NOW + 3),
            })
            .unwrap();
        let told = store.traffic(&id("wv-1")).unwrap();
        let wanted = Traffic { messages_in: 4, octets_in: 41, messages_out: 3, octets_out: 30, refusals: 2, refused };
        assert_eq!(told, wanted);
        let seen = |of| store.devices(&[id(of)]).unwrap().remove(0).unwrap().device.seen;
        assert_eq!((seen("wv-1"), seen("wv-2")), (Some(UnixTime(NOW + 2)), None));
        assert_eq!(store.audit_end().unwrap(), before);
    });
}

#[test]
fn of_each_device_the_newest_events_are_kept_in_their_order() {
    on_each(|store, guard, _| {
        store.add_devices(&[device("wv-1", None), device("wv-2", None)], &cause(0)).unwrap().unwrap();
        let before = store.audit_end().unwrap();
        let event = |of: &str, number: usize| DeviceEvent {
            device: id(of),
            at: UnixTime(NOW + i64::try_from(number).unwrap()),
            what: "connected".to_owned(),
            text: format!("{of} \"x\"\n{number}"),
        };
        let texts = |of: &str| store.events(&id(of)).unwrap().into_iter().map(|each| each.text).collect::<Vec<_>>();
        assert_eq!(texts("wv-1"), Vec::<String>::new());
        // One by one, many at once, more at once than are kept, and two devices among each other.
        for batch in [0..1, 1..4, 4..90, 90..130, 130..137, 137..400, 400..401] {
            let mut events: Vec<DeviceEvent> = batch.clone().map(|number| event("wv-1", number)).collect();
            events.insert(0, event("wv-2", batch.start));
            events.push(event("nobody", 1));
            guard.tally(&Tally::Events(&events)).unwrap();
            let first = batch.end.saturating_sub(MOST_EVENTS);
            let wanted: Vec<String> = (first..batch.end).map(|number| event("wv-1", number).text).collect();
            assert_eq!(texts("wv-1"), wanted, "{batch:?}");
        }
        assert_eq!(store.events(&id("wv-2")).unwrap().len(), 7);
        assert_eq!(store.events(&id("wv-1")).unwrap().last(), Some(&event("wv-1", 400)));
        guard.tally(&Tally::Events(&[])).unwrap();
        assert_eq!(store.audit_end().unwrap(), before, "nothing is decided by them");
    });
}

#[test]
fn signs_of_a_clone_are_counted_and_seldom_told() {
    on_each(|store, guard, _| {
        store.add_devices(&[device("wv-1", None)], &cause(0)).unwrap().unwrap();
        assert_eq!(store.clone_signs(&id("wv-1")).unwrap(), None);
        for (at, sign) in [(1, "one"), (2, "two"), (3, "three"), (3603, "four")] {
            guard.record_clone_sign(&id("wv-1"), sign, false, &cause(at)).unwrap();
        }
        let signs = CloneSigns { first: UnixTime(NOW + 1), last: UnixTime(NOW + 3603), count: 4, sign: "four".into() };
        assert_eq!(store.clone_signs(&id("wv-1")).unwrap(), Some(signs));
        let mut told = Vec::new();
        store
            .each_entry(0, &mut |entry| {
                told.extend((entry.act == "device.clone-sign").then_some(entry.detail));
                true
            })
            .unwrap();
        assert_eq!(told, [r#"{"sign":"one"}"#, r#"{"sign":"four"}"#]);
        assert!(guard.record_clone_sign(&id("nobody"), "x", false, &cause(1)).is_err());
    });
}
