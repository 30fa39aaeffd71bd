//! Changes of many callers, committed together: a disk that takes a millisecond to write takes it once for all who wait.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;

use crate::{Answer, Fate, Mark, Store, StoreError, Tx};

/// How many changes one commit takes at most. Whoever came first waits for all of them.
const MOST: usize = 64;

/// How many callers may wait; more wait until there is room.
const MOST_WAITING: usize = 1024;

type Act = Box<dyn FnMut(&mut dyn Tx) -> Result<Fate, StoreError> + Send>;

/// One caller's change, and where it hears what became of it.
struct Wanted {
    act: Act,
    told: SyncSender<Result<(), StoreError>>,
}

/// A store that many threads change. What waits while one commit is on its way goes into the next; each change is as if it had been
/// made alone, one after another, and a caller hears of its own when it is committed.
pub struct Together {
    wanted: Option<SyncSender<Wanted>>,
    thread: Option<JoinHandle<()>>,
}

impl std::fmt::Debug for Together {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Together")
    }
}

impl Drop for Together {
    fn drop(&mut self) {
        drop(self.wanted.take());
        if let Some(thread) = self.thread.take() {
            // It tells whoever still waits; it panics in nothing but an act, and that is caught.
            let _ = thread.join();
        }
    }
}

fn gone() -> StoreError {
    StoreError::Damaged { detail: "the thread that makes changes is gone".to_owned() }
}

impl Together {
    /// Makes the changes of many in `store`, on a thread of its own.
    ///
    /// # Errors
    /// There is no thread to be had.
    pub fn new(store: Box<dyn Store>) -> std::io::Result<Self> {
        let (wanted, waiting) = sync_channel(MOST_WAITING);
        let thread = std::thread::Builder::new().name("changes".to_owned()).spawn(move || work(store, &waiting))?;
        Ok(Self { wanted: Some(wanted), thread: Some(thread) })
    }

    /// Makes a change that may be refused; then nothing is changed. `act` may be run twice: where one of those that go together fails,
    /// nothing of them stays, and each is tried by itself.
    ///
    /// # Errors
    /// What `act` says, or [`Store::change`].
    pub fn decide<T, R>(&self, mut act: impl FnMut(&mut dyn Tx) -> Answer<T, R> + Send + 'static) -> Answer<T, R>
    where
        T: Send + 'static,
        R: Send + 'static,
    {
        let answer = Arc::new(Mutex::new(None));
        let (told, hears) = sync_channel(1);
        let said = answer.clone();
        let act: Act = Box::new(move |tx| {
            let answer = act(tx)?;
            let fate = if answer.is_ok() { Fate::Keep } else { Fate::Undo };
            *said.lock().unwrap_or_else(PoisonError::into_inner) = Some(answer);
            Ok(fate)
        });
        let wanted = self.wanted.as_ref().ok_or_else(gone)?;
        wanted.send(Wanted { act, told }).map_err(|_| gone())?;
        hears.recv().map_err(|_| gone())??;
        let answer = answer.lock().unwrap_or_else(PoisonError::into_inner).take();
        answer.ok_or_else(gone)
    }
}

fn work(mut store: Box<dyn Store>, waiting: &Receiver<Wanted>) {
    while let Ok(first) = waiting.recv() {
        let mut all = vec![first];
        all.extend(waiting.try_iter().take(MOST - 1));
        // What went wrong with all of them may be the fault of one: then each is tried by itself.
        let done = match all.len() {
            1 => None,
            _ => match make(&mut *store, &mut |tx| together(tx, &mut all)) {
                Ok(()) => Some(Ok(())),
                Err(error) => everybodys(&error).map(Err),
            },
        };
        for mut wanted in all {
            let told = match &done {
                Some(Ok(())) => Ok(()),
                Some(Err(error)) => Err(everybodys(error).unwrap_or_else(gone)),
                None => make(&mut *store, &mut wanted.act),
            };
            // Whoever does not wait any more need not hear it.
            let _ = wanted.told.send(told);
        }
    }
}

fn make(store: &mut dyn Store, act: &mut dyn FnMut(&mut dyn Tx) -> Result<Fate, StoreError>) -> Result<(), StoreError> {
    let made = catch_unwind(AssertUnwindSafe(|| store.change(act)));
    made.unwrap_or_else(|_| Err(StoreError::Damaged { detail: "a change failed on its way".to_owned() }))
}

/// One after another, each of them whole or not at all.
fn together(tx: &mut dyn Tx, all: &mut [Wanted]) -> Result<Fate, StoreError> {
    let mut fate = Fate::Undo;
    for wanted in all {
        tx.save(Mark::Caller)?;
        match (wanted.act)(tx)? {
            Fate::Keep => fate = Fate::Keep,
            Fate::Undo => tx.back(Mark::Caller)?,
        }
    }
    Ok(fate)
}

/// An error of the store itself, which each of the callers would meet; `None` if one of them may be its cause.
fn everybodys(error: &StoreError) -> Option<StoreError> {
    Some(match error {
        StoreError::Busy => StoreError::Busy,
        StoreError::Away { detail } => StoreError::Away { detail: detail.clone() },
        StoreError::Uncertain { detail } => StoreError::Uncertain { detail: detail.clone() },
        StoreError::Forbidden { detail } => StoreError::Forbidden { detail: detail.clone() },
        StoreError::Clock { ahead } => StoreError::Clock { ahead: *ahead },
        StoreError::Moved { move_to } => StoreError::Moved { move_to: move_to.clone() },
        _ => return None,
    })
}
