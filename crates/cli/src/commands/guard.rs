//! `guard`: runs until it is told to stop.

use std::collections::HashSet;
use std::hash::{Hash, Hasher};
use std::io::{IsTerminal, Write};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::time::{Clock, Span, UnixTime};
use tidy_warden_guard::{Config, Event, Guard, GuardError, Observer, Sink, TlsSettings};
use tidy_warden_simulate::Broker;
use tidy_warden_store::{AuthorityRecord, AuthorityRole, Store};
use tokio::signal::unix::{SignalKind, signal};

use super::Context;
use crate::args::{GuardArgs, LogForm};
use crate::clock::WardClock;
use crate::passphrase::Passphrase;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// The word for the broker inside.
const BUILTIN: &str = "builtin";

/// How long before its end the guard warns of its own certificate.
const WARNING: Span = Span::from_days(30);

pub(crate) fn run(context: &Context<'_>, args: &GuardArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let ward = context.ward()?;
    let settings = &ward.settings.guard;
    let listen = args.listen.or(settings.listen).unwrap_or_else(|| SocketAddr::from((Ipv4Addr::LOCALHOST, 8883)));
    if ward.record.rehearsal && !listen.ip().is_loopback() {
        return Err(Problem::refused(format!("the guard of a rehearsal does not listen on {listen}"))
            .because("anybody who can set its clock could bring ended credentials back to life")
            .next("--listen 127.0.0.1:8883"));
    }
    let given = args.broker.clone().or_else(|| settings.broker.as_ref().map(ToString::to_string));
    let broker = given.ok_or_else(|| {
        Problem::usage("the guard needs a broker to pass messages to")
            .next("--broker HOST:PORT, --broker builtin, or [guard] broker in ward.toml")
    })?;
    if broker != BUILTIN {
        tidy_warden_core::settings::endpoint(&broker)
            .map_err(|expected| Problem::usage(format!("`{broker}` is not a broker")).because(expected))?;
    }
    let passphrase = context.passphrase("the guard's TLS key")?;
    let form = args.log.unwrap_or(if std::io::stderr().is_terminal() { LogForm::Text } else { LogForm::Json });
    let ends = ward.store.server_certificate("guard")?.not_after;
    if ends < ward.now().plus(WARNING) {
        console.warn(format!("the guard's own certificate ends at {ends}"));
    }
    let runtime = tokio::runtime::Runtime::new().map_err(|error| Problem::failed("cannot start").because(error))?;
    let observer = args.observe.as_deref().map(observer).transpose()?;
    let log = Log::start(form, ward.clock.clone());
    let ended = runtime.block_on(async {
        let inside = if broker == BUILTIN { Some(start_broker().await?) } else { None };
        let broker = inside.as_ref().map_or(broker, |inside| inside.address().to_string());
        let guard = bind(&ward, listen, broker, &passphrase, (log.sink(), observer)).await?;
        let signals = |kind| signal(kind).map_err(|error| Problem::failed("cannot listen for signals").because(error));
        let (mut interrupt, mut terminate) = (signals(SignalKind::interrupt())?, signals(SignalKind::terminate())?);
        guard
            .run(async {
                tokio::select! {
                    _ = interrupt.recv() => {}
                    _ = terminate.recv() => {}
                }
            })
            .await;
        Ok(Exit::Done)
    });
    // Sessions that did not end in time end here; then nobody writes to the log any more.
    drop(runtime);
    log.finish();
    ended
}

async fn start_broker() -> Result<Broker, Problem> {
    Broker::start().await.map_err(|error| Problem::failed("cannot start the broker inside").because(error))
}

/// The most different acts that are kept apart while they are observed; a limit on memory. Once there are so many, each
/// is written again.
const MAX_OBSERVED: usize = 1_000_000;

/// Writes each different act once. A disk that is full does not stop the guard.
fn observer(path: &Path) -> Result<Observer, Problem> {
    let file = std::fs::File::options().create(true).append(true).open(path);
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
struct Log {
    sender: SyncSender<(UnixTime, Event)>,
    lost: Arc<AtomicU64>,
    /// Hears when all is written.
    written: Receiver<()>,
    clock: WardClock,
}

impl Log {
    fn start(form: LogForm, clock: WardClock) -> Self {
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

    fn sink(&self) -> Sink {
        let (sender, lost, clock) = (self.sender.clone(), self.lost.clone(), self.clock.clone());
        Arc::new(move |event| {
            if sender.try_send((clock.now(), event)).is_err() {
                lost.fetch_add(1, Ordering::Relaxed);
            }
        })
    }

    /// Waits until all is written, but not for long: the reader may be stuck. Every sink must be gone by now.
    fn finish(self) {
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

/// A guard of this ward that listens.
pub(crate) async fn bind(
    ward: &Ward,
    listen: SocketAddr,
    broker: String,
    passphrase: &Passphrase,
    (sink, observer): (Sink, Option<Observer>),
) -> Result<Guard, Problem> {
    let of = |role: AuthorityRole| -> Result<Vec<Certificate>, Problem> {
        Ok(ward.authorities(role)?.into_iter().map(|each| each.certificate).collect())
    };
    let own = ward.store.server_certificate("guard")?;
    // Who knows only an old root finds the way to it over the new one's cross-certificate.
    let all = ward.store.authorities()?;
    let ours = |each: &&AuthorityRecord| each.role != AuthorityRole::Foreign;
    let crosses: Vec<Certificate> = all.iter().filter(ours).flat_map(|each| each.crossed.clone()).collect();
    let above = of(AuthorityRole::Service)?.into_iter().filter(|service| service.subject == own.issuer);
    let key = ward.key("guard", passphrase)?;
    let pkcs8 = key.to_pkcs8().map_err(|error| Problem::failed("the guard's key cannot be used").because(error))?;
    let tls = TlsSettings {
        chain: std::iter::once(own.clone()).chain(above).chain(crosses.iter().cloned()).collect(),
        key: pkcs8.to_vec().into(),
        issuing: of(AuthorityRole::Devices)?.into_iter().chain(crosses).collect(),
        roots: of(AuthorityRole::Root)?,
        allow_anonymous: ward.settings.any_token_login(),
    };
    let config = Config {
        listen,
        broker,
        tls,
        settings: ward.settings.clone(),
        parties: ward.parties(),
        token_key: ward.record.token_key.clone(),
        clock: Arc::new(ward.clock.clone()),
        sink,
        observer,
    };
    let stores = (ward.another_store()?, ward.another_store()?, ward.another_store()?);
    Guard::bind(config, stores.0, stores.1, stores.2).await.map_err(|error| match error {
        GuardError::Store(error) => error.into(),
        GuardError::Listen { .. } => {
            Problem::failed(error.to_string()).next("stop what uses the port, or choose another with --listen")
        }
        other => Problem::failed("the guard cannot start").because(other),
    })
}
