//! Children that gateways bring in, on each engine.

use tidy_warden_core::admission::{AdmissionName, AdmissionRecord, Demand};
use tidy_warden_core::device::{AddRefusal, DeviceRecord};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{ChildRefusal, IntroduceRefusal, OperatorStore, StoreError};

use crate::bench::{NOW, cause, device, id, on_each};

const WEEK: i64 = 7 * 86_400;

fn gateway(store: &mut OperatorStore, name: &str) -> DeviceRecord {
    let gateway = device(name, None);
    store.add_devices(std::slice::from_ref(&gateway), &cause(0)).unwrap().unwrap();
    gateway
}

fn new(child: &str, gateway: &DeviceRecord, at: i64, state: IntroducedState) -> IntroducedRecord {
    let new = IntroducedRecord::new(id(child), "cabin".parse().unwrap(), gateway, UnixTime(NOW + at));
    IntroducedRecord { state, ..new }
}

fn asks(
    store: &mut OperatorStore,
    child: &str,
    gateway: &DeviceRecord,
    most: u32,
    at: i64,
) -> Result<IntroducedState, IntroduceRefusal> {
    store.introduce_child(&new(child, gateway, at, IntroducedState::Waits), most, &cause(at)).unwrap()
}

#[test]
fn a_child_waits_once_and_is_what_its_gateway_is_when_a_person_says_yes() {
    on_each(|store, guard, _| {
        let st = gateway(store, "st-1");
        let first = guard.introduce_child(&new("cb-1", &st, 1, IntroducedState::Waits), 9, &cause(1)).unwrap();
        assert_eq!(first, Ok(IntroducedState::Waits));
        let number = store.head().unwrap().number;
        assert_eq!(asks(store, "cb-1", &st, 9, 5), Ok(IntroducedState::Waits));
        assert_eq!(store.head().unwrap().number, number, "the same again is the same child, and no entry");
        let waits = store.waiting_children(9).unwrap();
        assert_eq!((waits.len(), waits[0].since, &waits[0].labels), (1, UnixTime(NOW + 1), &st.labels));
        assert!(store.devices(&[id("cb-1")]).unwrap()[0].is_none(), "until then it is no device");

        let wanted = DeviceRecord { created: UnixTime(NOW + 6), ..waits[0].as_device(UnixTime(NOW + 6)) };
        let before = store.changed_since(number).unwrap().to;
        store.accept_child(&wanted, &cause(6)).unwrap().unwrap();
        let listed = store.devices(&[id("cb-1")]).unwrap()[0].clone().unwrap().device;
        assert_eq!((listed.gateway.as_ref(), &listed.labels), (Some(&st.id), &st.labels));
        let changed = store.changed_since(before).unwrap().devices.unwrap();
        assert!(changed.contains(&st.id), "its gateway's sessions look again: {changed:?}");
        assert_eq!(store.accept_child(&wanted, &cause(7)).unwrap(), Err(ChildRefusal::Gone));
        assert_eq!(asks(store, "cb-1", &st, 9, 8), Err(IntroduceRefusal::Known(id("cb-1"))));

        // One that its kind lets in is listed at once.
        let free = new("cb-2", &st, 9, IntroducedState::Accepted);
        assert_eq!(store.introduce_child(&free, 9, &cause(9)).unwrap(), Ok(IntroducedState::Accepted));
        assert_eq!(store.children(&st.id).unwrap().len(), 2);
        let acts: Vec<String> = store.entries(number, 99).unwrap().into_iter().map(|entry| entry.act).collect();
        assert_eq!(acts, ["device.introduce", "device.accept", "device.add", "device.introduce", "device.add"]);
    });
}

#[test]
fn who_was_refused_or_waited_too_long_is_remembered_and_counted() {
    on_each(|store, _, _| {
        let st = gateway(store, "st-1");
        assert!(asks(store, "cb-1", &st, 2, 1).is_ok());
        store.refuse_child(&id("cb-1"), &cause(2)).unwrap().unwrap();
        assert_eq!(store.refuse_child(&id("cb-1"), &cause(3)).unwrap(), Err(ChildRefusal::Gone));
        assert_eq!(asks(store, "cb-1", &st, 2, 3), Err(IntroduceRefusal::Refused(id("cb-1"))));
        assert!(asks(store, "cb-2", &st, 2, 4).is_ok());
        let full = |child: &str, kind: &str| IntroduceRefusal::Full {
            gateway: id("st-1"),
            kind: kind.parse().unwrap(),
            most: u32::try_from(child.len()).unwrap(),
        };
        assert_eq!(asks(store, "cb-3", &st, 2, 5), Err(full("xx", "cabin")), "one that was refused counts for good");
        // Who waited in vain may be brought in anew, which takes no place of another.
        let late = WEEK + 10;
        let gone =
            store.accept_child(&new("cb-2", &st, 4, IntroducedState::Waits).as_device(UnixTime(NOW)), &cause(late));
        assert_eq!(gone.unwrap(), Err(ChildRefusal::Gone));
        assert_eq!(asks(store, "cb-2", &st, 2, late), Ok(IntroducedState::Waits));
        assert_eq!(store.waiting_children(9).unwrap()[0].since, UnixTime(NOW + late));
        // A retired one takes a place as well.
        let free = new("cb-3", &st, late, IntroducedState::Accepted);
        assert!(store.introduce_child(&free, 3, &cause(late)).unwrap().is_ok());
        store.retire_device(&id("cb-3"), &cause(late + 1)).unwrap();
        assert_eq!(asks(store, "cb-4", &st, 3, late + 2), Err(full("xxx", "cabin")));
        assert_eq!(asks(store, "cb-3", &st, 9, late + 2), Err(IntroduceRefusal::Known(id("cb-3"))));
    });
}

#[test]
fn only_ids_that_never_were_and_only_by_a_gateway_that_may_be_here() {
    on_each(|store, _, _| {
        let (st, other) = (gateway(store, "st-1"), gateway(store, "st-2"));
        assert_eq!(asks(store, "st-2", &st, 9, 1), Err(IntroduceRefusal::Known(id("st-2"))));
        store.retire_device(&id("st-2"), &cause(2)).unwrap();
        assert_eq!(
            asks(store, "st-2", &st, 9, 3),
            Err(IntroduceRefusal::Known(id("st-2"))),
            "an id is never used again"
        );
        assert!(matches!(asks(store, "cb-1", &other, 9, 3), Err(IntroduceRefusal::Gateway { .. })));
        let wanted = AdmissionRecord {
            name: AdmissionName(0),
            device: device("cb-7", Some("QF-7")),
            demand: Demand::Facts,
            until: UnixTime(NOW).plus(Span::from_days(1)),
            end: None,
        };
        store.open_admissions(&[wanted], &cause(4), &mut |_| Ok(())).unwrap().unwrap();
        assert_eq!(asks(store, "cb-7", &st, 9, 5), Err(IntroduceRefusal::Admitted(id("cb-7"))));
        let mine = gateway(store, "st-3");
        assert!(asks(store, "cb-1", &st, 9, 6).is_ok());
        let taken = IntroduceRefusal::Other { child: id("cb-1"), kind: "cabin".parse().unwrap(), gateway: id("st-1") };
        assert_eq!(asks(store, "cb-1", &mine, 9, 7), Err(taken.clone()));
        let kind = IntroducedRecord { kind: "gate".parse().unwrap(), ..new("cb-1", &st, 7, IntroducedState::Waits) };
        assert_eq!(store.introduce_child(&kind, 9, &cause(7)).unwrap(), Err(taken));
        for (held, at) in [(true, 8), (false, 9)] {
            store.set_hold(&[id("st-1")], held, &cause(at)).unwrap();
            assert_eq!(asks(store, "cb-2", &st, 9, at).is_ok(), !held);
        }
        // Nobody stands behind one that stands behind another.
        let mut child = device("st-4", None);
        child.gateway = Some(id("st-1"));
        store.add_devices(std::slice::from_ref(&child), &cause(10)).unwrap().unwrap();
        assert!(matches!(asks(store, "cb-3", &child, 9, 11), Err(IntroduceRefusal::Gateway { .. })));
        let nobody = device("st-9", None);
        let unknown = store.introduce_child(&new("cb-3", &nobody, 12, IntroducedState::Waits), 9, &cause(12));
        assert!(matches!(unknown, Err(StoreError::Unknown { .. })));
        // Listed by hand meanwhile: the yes finds that out, and changes nothing.
        store.add_devices(&[device("cb-2", None)], &cause(13)).unwrap().unwrap();
        let late =
            store.accept_child(&new("cb-2", &st, 9, IntroducedState::Waits).as_device(UnixTime(NOW)), &cause(14));
        assert!(
            matches!(&late.unwrap(), Err(ChildRefusal::Unlisted(why)) if matches!(why[..], [AddRefusal::IdTaken { .. }]))
        );
        assert!(
            store.waiting_children(9).unwrap().iter().any(|each| each.child == id("cb-2")),
            "nothing was half done"
        );
    });
}
