//! A way to a database's socket that can be slow, or cut.

use std::io::{Read, Write};
use std::net::Shutdown;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// The name of a server's socket in its folder, on its usual port.
const SOCKET: &str = ".s.PGSQL.5432";

struct State {
    delay_ms: AtomicU64,
    is_cut: AtomicBool,
    /// How often something was asked after an answer had come.
    turns: AtomicU64,
    /// Whether what passed last was an answer.
    answered: AtomicBool,
    live: Mutex<Vec<UnixStream>>,
}

/// A folder with a socket through which everything goes to another folder's.
pub struct Wire {
    folder: tempfile::TempDir,
    state: Arc<State>,
}

/// Hands on what comes, late if it is so set.
fn hand_on(mut from: UnixStream, mut to: UnixStream, is_answer: bool, state: &State) {
    let mut buffer = vec![0; 1 << 16];
    while let Ok(count @ 1..) = from.read(&mut buffer) {
        std::thread::sleep(Duration::from_millis(state.delay_ms.load(Ordering::SeqCst)));
        // A line that is cut says nothing more, and does not end either, as a network does.
        while state.is_cut.load(Ordering::SeqCst) {
            std::thread::sleep(Duration::from_millis(20));
        }
        if state.answered.swap(is_answer, Ordering::SeqCst) && !is_answer {
            state.turns.fetch_add(1, Ordering::SeqCst);
        }
        if to.write_all(&buffer[..count]).is_err() {
            break;
        }
    }
    let _ = from.shutdown(Shutdown::Both);
    let _ = to.shutdown(Shutdown::Both);
}

impl Wire {
    /// A way to the server whose socket is in `folder`.
    ///
    /// # Panics
    /// It cannot be made.
    #[must_use]
    pub fn to(folder: &Path) -> Self {
        let own = tempfile::Builder::new().prefix("tw-wire").tempdir_in("/tmp").unwrap();
        let (listener, server) = (UnixListener::bind(own.path().join(SOCKET)).unwrap(), folder.join(SOCKET));
        let state = Arc::new(State {
            delay_ms: AtomicU64::new(0),
            is_cut: AtomicBool::new(false),
            turns: AtomicU64::new(0),
            answered: AtomicBool::new(true),
            live: Mutex::default(),
        });
        let of_thread = state.clone();
        std::thread::spawn(move || accept(&listener, &server, &of_thread));
        Self { folder: own, state }
    }

    /// The folder of its socket.
    #[must_use]
    pub fn folder(&self) -> PathBuf {
        self.folder.path().to_owned()
    }

    /// Lets everything be late from now on, in each direction.
    pub fn slow(&self, by: Duration) {
        self.state.delay_ms.store(u64::try_from(by.as_millis()).unwrap_or(u64::MAX), Ordering::SeqCst);
    }

    /// How many round trips there were, if one line at a time is used.
    #[must_use]
    pub fn turns(&self) -> u64 {
        self.state.turns.load(Ordering::SeqCst)
    }

    /// Nothing passes any more, and nobody is told.
    pub fn cut(&self) {
        self.state.is_cut.store(true, Ordering::SeqCst);
    }

    /// It passes again; lines that were there end.
    ///
    /// # Panics
    /// A thread of its own panicked.
    pub fn mend(&self) {
        for line in self.state.live.lock().unwrap().drain(..) {
            let _ = line.shutdown(Shutdown::Both);
        }
        self.state.is_cut.store(false, Ordering::SeqCst);
    }
}

fn accept(listener: &UnixListener, server: &Path, state: &Arc<State>) {
    for client in listener.incoming().flatten() {
        let Ok(server) = UnixStream::connect(server) else { continue };
        let mut live = state.live.lock().unwrap();
        live.extend([client.try_clone().unwrap(), server.try_clone().unwrap()]);
        drop(live);
        for (from, to, is_answer) in [(&client, &server, false), (&server, &client, true)] {
            let (from, to, state) = (from.try_clone().unwrap(), to.try_clone().unwrap(), state.clone());
            std::thread::spawn(move || hand_on(from, to, is_answer, &state));
        }
    }
}
