//! A desk without its sockets, on a ward in a temporary folder: what program tests reach with difficulty or not at all.

mod asking;
mod enrol;
mod hostile;
mod owner;

use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex};

use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_rig::ward::{Bench, Holder, NOW};
use tidy_warden_serve::tls::TlsSettings;

use crate::{Desk, Event, LiveConfig};

/// A clock that a test puts forward, and back.
struct Wound(AtomicI64);

impl Clock for Wound {
    fn now(&self) -> UnixTime {
        UnixTime(self.0.load(Ordering::Relaxed))
    }
}

/// A desk, and the ward behind it.
struct World {
    bench: Bench,
    desk: Desk,
    clock: Arc<Wound>,
    told: Arc<Mutex<Vec<Event>>>,
}

impl World {
    fn new() -> Self {
        Self::with("[kinds.cabin]\n")
    }

    fn with(more: &str) -> Self {
        let bench = Bench::with(more);
        let ward = &bench.ward;
        // The sockets are what has TLS.
        let tls = TlsSettings { chain: Vec::new(), key: Vec::new().into(), allow_anonymous: true };
        let live = LiveConfig::of(ward, &Holder::right(), tls, false).unwrap();
        let readers = (0..2).map(|_| ward.desk_reader(None).unwrap()).collect();
        let clock = Arc::new(Wound(AtomicI64::new(NOW.0)));
        let told = Arc::new(Mutex::new(Vec::new()));
        let sink = told.clone();
        let sink = Arc::new(move |event| sink.lock().unwrap().push(event));
        let acts = ward.desk_acts().unwrap();
        let mut desk = Desk::new(live, readers, acts, clock.clone(), "desk".into(), sink).unwrap();
        desk.owners = Some(Mutex::new(ward.another_store().unwrap()));
        Self { bench, desk, clock, told }
    }

    /// It is so many seconds after the beginning.
    fn at(&self, seconds: i64) {
        self.clock.0.store(NOW.0 + seconds, Ordering::Relaxed);
    }

    /// The number of the last entry of the record.
    fn entries(&self) -> i64 {
        self.bench.ward.store.head().unwrap().number
    }

    /// What was told of since it was asked last, in JSON.
    fn told(&self) -> Vec<String> {
        let events = std::mem::take(&mut *self.told.lock().unwrap());
        events.iter().map(|event| serde_json::to_string(event).unwrap()).collect()
    }
}

#[test]
fn a_question_that_panics_takes_no_reader_away() {
    let world = World::new();
    for _ in 0..5 {
        let panicked = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            let _: Result<(), _> = world.desk.ask(|_| panic!("a fault"));
        }));
        assert!(panicked.is_err());
    }
    assert!(world.desk.ask(|reader| reader.view(|view| view.head())).is_ok());
}
