//! Log lines on standard error, written by a thread of their own.

use std::io::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender};
use std::time::Duration;

use serde::Serialize;
use serde_json::json;
use tidy_warden_core::time::{Clock, UnixTime};

use crate::args::LogForm;
use crate::clock::WardClock;

/// What a log tells of.
pub(crate) trait Told: std::fmt::Display + Serialize + Send + 'static {
    /// That something is wrong with the log itself.
    fn trouble(what: String) -> Self;
}

impl Told for tidy_warden_guard::Event {
    fn trouble(what: String) -> Self {
        Self::Trouble { what }
    }
}

impl Told for tidy_warden_desk::Event {
    fn trouble(what: String) -> Self {
        Self::Trouble { what }
    }
}

/// How many log lines may wait to be written; more are counted and left out.
const WAITING: usize = 10_000;

/// How long the last lines may take when the guard stops.
const LAST_LINES: Duration = Duration::from_secs(2);

/// Log lines on standard error, written by a thread of their own, so that nobody waits for whoever reads them.
pub(crate) struct Log<E> {
    sender: SyncSender<(UnixTime, E)>,
    lost: Arc<AtomicU64>,
    /// Hears when all is written.
    written: Receiver<()>,
    clock: WardClock,
}

impl<E: Told> Log<E> {
    pub(crate) fn start(form: LogForm, clock: WardClock) -> Self {
        let (sender, lines) = std::sync::mpsc::sync_channel(WAITING);
        let lost = Arc::new(AtomicU64::new(0));
        let missing = lost.clone();
        let (done, written) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            for (time, event) in lines {
                let mut text = line(form, time, &event);
                match missing.swap(0, Ordering::Relaxed) {
                    0 => {}
                    count => {
                        let what =
                            format!("{count} log lines came faster than they could be written, and were left out");
                        text.push_str(&line(form, time, &E::trouble(what)));
                    }
                }
                // A closed log does not stop the guard.
                let _ = std::io::stderr().lock().write_all(text.as_bytes());
            }
            // Nobody waits for it any more if this took too long.
            let _ = done.send(());
        });
        Self { sender, lost, written, clock }
    }

    pub(crate) fn sink(&self) -> Arc<dyn Fn(E) + Send + Sync> {
        let (sender, lost, clock) = (self.sender.clone(), self.lost.clone(), self.clock.clone());
        Arc::new(move |event| {
            if sender.try_send((clock.now(), event)).is_err() {
                lost.fetch_add(1, Ordering::Relaxed);
            }
        })
    }

    /// Waits until all is written, but not for long: the reader may be stuck. Every sink must be gone by now.
    pub(crate) fn finish(self) {
        drop(self.sender);
        let _ = self.written.recv_timeout(LAST_LINES);
    }
}

fn line<E: Told>(form: LogForm, time: UnixTime, event: &E) -> String {
    if form == LogForm::Text {
        return format!("{time} {event}\n");
    }
    let mut value = json!({ "time": time });
    if let (Some(value), Ok(serde_json::Value::Object(fields))) = (value.as_object_mut(), serde_json::to_value(event)) {
        value.extend(fields);
    }
    format!("{value}\n")
}
