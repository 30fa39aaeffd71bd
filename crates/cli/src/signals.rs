//! What a server hears from the system and tells it.

use sd_notify::NotifyState;
use tokio::signal::unix::{Signal, SignalKind, signal};

use crate::problem::Problem;

/// What the system tells a server.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Told {
    /// To stop.
    Stop,
    /// To take its settings anew.
    Reload,
}

/// The signals that a server listens for.
pub(crate) struct Signals {
    interrupt: Signal,
    terminate: Signal,
    hangup: Signal,
}

impl Signals {
    pub(crate) fn new() -> Result<Self, Problem> {
        let listen = |kind| signal(kind).map_err(|error| Problem::failed("cannot listen for signals").because(error));
        Ok(Self {
            interrupt: listen(SignalKind::interrupt())?,
            terminate: listen(SignalKind::terminate())?,
            hangup: listen(SignalKind::hangup())?,
        })
    }

    /// The next of them.
    pub(crate) async fn next(&mut self) -> Told {
        tokio::select! {
            _ = self.interrupt.recv() => Told::Stop,
            _ = self.terminate.recv() => Told::Stop,
            _ = self.hangup.recv() => Told::Reload,
        }
    }
}

/// Tells the service manager that the server is ready, if there is one.
pub(crate) fn tell_ready() {
    tell(&[NotifyState::Ready]);
}

/// That it stops.
pub(crate) fn tell_stopping() {
    tell(&[NotifyState::Stopping]);
}

/// That it takes its settings anew.
pub(crate) fn tell_reloading() {
    tell(&[NotifyState::Reloading, NotifyState::monotonic_usec_now().unwrap_or(NotifyState::Reloading)]);
}

fn tell(states: &[NotifyState<'_>]) {
    // Without one there is nobody to tell.
    let _ = sd_notify::notify(false, states);
}
