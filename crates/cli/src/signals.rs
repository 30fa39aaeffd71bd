//! A server while it runs: what it hears from the system, and what it tells it.

use std::time::Duration;

use sd_notify::NotifyState;
use tokio::runtime::Runtime;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::{mpsc, oneshot};
use tokio::time::Instant;

use crate::problem::Problem;

/// Within how long a server that is told to stop has ended, whatever holds it up. By themselves they take less.
const STOPS_WITHIN: Duration = Duration::from_secs(20);

/// After how long what changed is read again, if it could not be read.
const AGAIN: Duration = Duration::from_secs(60);

/// How long tasks that wait for a file or a store may take after that.
const LAST_TASKS: Duration = Duration::from_secs(2);

/// Runs a server until a signal says stop; another, or `changed`, has it go by what `reload` reads, which is told what changed if it was
/// that; what could not be read then is tried again. `run` is given what says stop by being ready, and where what was read anew comes;
/// `trouble` hears what could not be read.
pub(crate) async fn serve<C, W: Copy, R: Future<Output = Result<(), Problem>>>(
    run: impl FnOnce(oneshot::Receiver<()>, mpsc::Receiver<C>) -> R,
    mut changed: impl AsyncFnMut() -> W,
    mut reload: impl FnMut(Option<W>) -> Result<C, Problem>,
    trouble: &dyn Fn(String),
) -> Result<(), Problem> {
    let mut signals = Signals::new()?;
    let (sender, reloads) = mpsc::channel(1);
    let (stop, stopped) = oneshot::channel();
    let mut running = std::pin::pin!(run(stopped, reloads));
    let (mut stop, mut end) = (Some(stop), None);
    let mut again: Option<(Instant, W)> = None;
    tell_ready();
    loop {
        let (told, what) = tokio::select! {
            ended = &mut running => return ended,
            told = signals.next() => (told, None),
            // What stops needs no other settings.
            what = changed(), if stop.is_some() => (Told::Reload, Some(what)),
            () = until(again.map(|(at, _)| at)), if stop.is_some() => (Told::Reload, again.take().map(|(_, what)| what)),
            () = until(end) => return Err(Problem::failed("it did not stop in time, and was ended")),
        };
        match told {
            Told::Stop => {
                tell_stopping();
                // A sender that is gone says stop.
                stop.take();
                end.get_or_insert_with(|| Instant::now() + STOPS_WITHIN);
            }
            Told::Reload if stop.is_none() => {}
            Told::Reload => {
                tell_reloading();
                // What it takes is a few files; the server runs on other threads meanwhile.
                match reload(what) {
                    // It takes them one by one, and only while it runs.
                    Ok(config) => tokio::select! {
                        ended = &mut running => return ended,
                        _ = sender.send(config) => {}
                    },
                    Err(problem) => {
                        trouble(format!(
                            "the settings were not reloaded, and the old ones stay: {}",
                            problem.in_one_line()
                        ));
                        // Nobody says it a second time where it was no person that said it.
                        again = what.map(|what| (Instant::now() + AGAIN, what)).or(again);
                    }
                }
                tell_ready();
            }
        }
    }
}

/// Ends what is left of a server that has stopped. Whatever still waits for somebody is not waited for.
pub(crate) fn end(runtime: Runtime) {
    runtime.shutdown_timeout(LAST_TASKS);
}

/// Ends when somebody says stop, or nobody can say it any more.
pub(crate) async fn ready(stopped: oneshot::Receiver<()>) {
    // A sender that is gone says stop too.
    let _ = stopped.await;
}

/// Ends at a moment, if there is one.
async fn until(end: Option<Instant>) {
    match end {
        Some(end) => tokio::time::sleep_until(end).await,
        None => std::future::pending().await,
    }
}

/// What the system tells a server.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Told {
    /// To stop.
    Stop,
    /// To take its settings anew.
    Reload,
}

/// The signals that a server listens for.
struct Signals {
    interrupt: Signal,
    terminate: Signal,
    hangup: Signal,
}

impl Signals {
    fn new() -> Result<Self, Problem> {
        let listen = |kind| signal(kind).map_err(|error| Problem::failed("cannot listen for signals").because(error));
        Ok(Self {
            interrupt: listen(SignalKind::interrupt())?,
            terminate: listen(SignalKind::terminate())?,
            hangup: listen(SignalKind::hangup())?,
        })
    }

    /// The next of them.
    async fn next(&mut self) -> Told {
        tokio::select! {
            _ = self.interrupt.recv() => Told::Stop,
            _ = self.terminate.recv() => Told::Stop,
            _ = self.hangup.recv() => Told::Reload,
        }
    }
}

/// Tells the service manager that the server is ready, if there is one.
fn tell_ready() {
    tell(&[NotifyState::Ready]);
}

/// That it stops.
fn tell_stopping() {
    tell(&[NotifyState::Stopping]);
}

/// That it takes its settings anew.
fn tell_reloading() {
    tell(&[NotifyState::Reloading, NotifyState::monotonic_usec_now().unwrap_or(NotifyState::Reloading)]);
}

fn tell(states: &[NotifyState<'_>]) {
    // Without one there is nobody to tell.
    let _ = sd_notify::notify(false, states);
}
