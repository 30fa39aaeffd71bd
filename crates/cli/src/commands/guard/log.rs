//! Log lines on standard error, and the log of what devices ask for.

use std::collections::HashSet;
use std::hash::{Hash, Hasher};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use serde_json::json;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_guard::{Event, Observer, Sink};

use crate::args::LogForm;
use crate::clock::WardClock;
use crate::problem::Problem;

/// The most different acts that are kept apart while they are observed; a limit on memory. Once there are so many, each
/// is written again.
const MAX_OBSERVED: usize = 1_000_000;

/// Writes each different act once. A disk that is full does not stop the guard.
pub(super) fn observer(path: &Path) -> Result<Observer, Problem> {
    let file = std::fs::File::options().create(true).append(true).mode(0o600).open(path);
    let file = file.map_err(|error| Problem::file("write", path, &error))?;
    let known: Mutex<(HashSet<u64>, std::fs::File)> = Mutex::new((HashSet::new(), file));
    Ok(Arc::new(move |act| {
        let mut hasher = std::hash::DefaultHasher::new();
        // Sizes are taken in steps, as a rule's limit would be.
        let size = act.size.next_power_of_two();
        (act.device, act.act, act.subject, act.qos, act.retain, size, act.allowed).hash(&mut hasher);
        let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.0.len() >= MAX_OBSERVED {
            known.0.clear();
        }
        if known.0.insert(hasher.finish())
            && let Ok(line) = serde_json::to_string(act)
        {
            let _ = known.1.write_all(format!("{line}\n").as_bytes());
        }
    }))
}

/// How many log lines may wait to be written; more are counted and left out.
const WAITING: usize = 10_000;

/// How long the last lines may take when the guard stops.
const LAST_LINES: Duration = Duration::from_secs(2);

/// Log lines on standard error, written by a thread of their own, so that nobody waits for whoever reads them.
pub(super) struct Log {
    sender: SyncSender<(UnixTime, Event)>,
    lost: Arc<AtomicU64>,
    /// Hears when all is written.
    written: Receiver<()>,
    clock: WardClock,
}

impl Log {
    pub(super) fn start(form: LogForm, clock: WardClock) -> Self {
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
                        text.push_str(&line(form, time, &Event::Trouble { what }));
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

    pub(super) fn sink(&self) -> Sink {
        let (sender, lost, clock) = (self.sender.clone(), self.lost.clone(), self.clock.clone());
        Arc::new(move |event| {
            if sender.try_send((clock.now(), event)).is_err() {
                lost.fetch_add(1, Ordering::Relaxed);
            }
        })
    }

    /// Waits until all is written, but not for long: the reader may be stuck. Every sink must be gone by now.
    pub(super) fn finish(self) {
        drop(self.sender);
        let _ = self.written.recv_timeout(LAST_LINES);
    }
}

fn line(form: LogForm, time: UnixTime, event: &Event) -> String {
    if form == LogForm::Text {
        return format!("{time} {event}\n");
    }
    let mut value = json!({ "time": time });
    if let (Some(value), Ok(serde_json::Value::Object(fields))) = (value.as_object_mut(), serde_json::to_value(event)) {
        value.extend(fields);
    }
    format!("{value}\n")
}
