//! A word for whoever ends a long command with Ctrl-C.

use std::process::exit;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use tokio::signal::unix::{SignalKind, signal};

/// The exit code of a process that SIGINT ended, as shells tell it.
const INTERRUPTED: i32 = 130;

/// While this lives, Ctrl-C says a word before it ends the process.
pub(crate) struct Word(Arc<AtomicBool>);

/// Says `word` when Ctrl-C ends the process. What runs must be able to end between any two steps.
pub(crate) fn word(word: &'static str) -> Word {
    let wanted = Arc::new(AtomicBool::new(true));
    let still = wanted.clone();
    // Without the thread Ctrl-C still ends the process, only without a word.
    let _ = std::thread::Builder::new().name("interrupt".to_owned()).spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_io().build();
        let Ok(runtime) = runtime else { return };
        let interrupted = runtime.block_on(async {
            match signal(SignalKind::interrupt()) {
                Ok(mut interrupt) => interrupt.recv().await.is_some(),
                Err(_) => false,
            }
        });
        if interrupted {
            if still.load(Ordering::Relaxed) {
                eprintln!("\n{word}");
            }
            exit(INTERRUPTED);
        }
    });
    Word(wanted)
}

impl Drop for Word {
    fn drop(&mut self) {
        self.0.store(false, Ordering::Relaxed);
    }
}
