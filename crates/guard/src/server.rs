//! The guard as a whole: its listeners, and the tasks beside the sessions.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::Ordering;
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use tidy_warden_core::id::PostName;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_serve::http;
use tidy_warden_serve::listener::accept;
use tidy_warden_serve::lists::MakerFiles;
use tidy_warden_serve::openings::Openings;
use tidy_warden_serve::own::EndWatch;
use tidy_warden_serve::seen::{Follows, Head};
use tidy_warden_serve::socket::Socket;
use tidy_warden_serve::tls::TlsSettings;
use tidy_warden_serve::trust::{Trust, TrustHolder};
use tidy_warden_store::{Changes, PostState, StoreError};
use tokio::net::{TcpListener, UnixListener};
use tokio::sync::{mpsc, oneshot, watch};
use tokio::time::Instant;

use crate::control;
use crate::errands::Carrier;
use crate::follower::{Follower, Position};
use crate::knowledge::{Knowledge, Stores};
use crate::listener::{Entrance, Speech};
use crate::live::{Live, LiveConfig, Own, Reload, own};
use crate::shared::{GuardError, Shared, Versions};
use crate::upstream::{Bypass, hello, take_over};
use crate::wills::publish_due;
use crate::{Event, Observer, Sink};
use crate::{health, introductions, makers};

/// How often what is to be kept is written: uses of credentials at each turn, differences of a trial and what was counted
/// less often.
const KEEP: Duration = Duration::from_millis(100);
const KEEP_NOTES: Duration = Duration::from_secs(1);
const KEEP_TRAFFIC: Duration = Duration::from_secs(2);

/// How many uses are written in one turn; more wait for the next.
const USES_IN_A_TURN: usize = 5_000;

/// Of how many devices what was counted is written at once: with [`KEEP_TRAFFIC`], the bound on writing.
const TRAFFIC_AT_ONCE: usize = 2_000;

/// How many events of devices are written at once.
const EVENTS_AT_ONCE: usize = 5_000;

/// How often an instance says how it is.
pub const SAY: Duration = Duration::from_secs(5);

/// How often it is looked when its own certificate ends.
const WATCH_OWN: Duration = Duration::from_secs(2);

/// How often the broker is tried without the guard's credentials.
const TRY_BYPASS: Duration = Duration::from_secs(3600);

/// How often a broker that does not answer is tried again, and what is to be cleared there.
const TRY_BROKER: Duration = Duration::from_secs(1);

/// How many sessions at the broker are cleared at a time.
const CLEARED: usize = 64;

/// How long sessions may take to end when the guard stops.
const STOPPING: Duration = Duration::from_secs(5);

/// What a guard is called.
#[derive(Debug, Clone)]
pub struct Instance {
    /// Its name among all instances.
    pub name: PostName,
    /// The account under which its own changes are recorded.
    pub actor: String,
    /// The version of its program.
    pub version: &'static str,
}

/// What a guard needs.
pub struct Config {
    /// Where to listen.
    pub listen: SocketAddr,
    /// Where to listen for MQTT over WebSocket.
    pub websocket: Option<SocketAddr>,
    /// Where to answer for metrics and health.
    pub metrics: Option<SocketAddr>,
    /// A Unix socket on which its own user may follow what happens.
    pub control: Option<PathBuf>,
    /// A file in which it keeps how far it has seen the audit record; without one it knows only for as long as it runs.
    pub seen: Option<PathBuf>,
    /// A file in which it keeps wills that wait, so that they outlive it.
    pub wills: Option<PathBuf>,
    /// What can be changed later.
    pub live: LiveConfig,
    /// What it is called.
    pub instance: Instance,
    /// The ward's clock.
    pub clock: Arc<dyn Clock>,
    /// Where events go.
    pub sink: Sink,
    /// Who keeps a log of what devices ask for, if anybody does.
    pub observer: Option<Observer>,
}

/// A guard that listens.
pub struct Guard {
    listener: TcpListener,
    websocket: Option<TcpListener>,
    metrics: Option<TcpListener>,
    control: Option<Socket>,
    shared: Arc<Shared>,
    position: Position,
    seen: Option<PathBuf>,
    wills: Option<PathBuf>,
    maker_files: MakerFiles,
    instance: Instance,
}

async fn bind_tcp(address: SocketAddr) -> Result<TcpListener, GuardError> {
    TcpListener::bind(address).await.map_err(|error| GuardError::Listen { address, error })
}

impl Guard {
    /// Opens the listeners and loads the current edition.
    ///
    /// # Errors
    /// Address, certificate, store or edition cannot be used.
    pub async fn bind(config: Config, stores: Stores) -> Result<Self, GuardError> {
        let seen = match &config.seen {
            None => None,
            Some(path) => {
                Head::load(path).map_err(|error| GuardError::Seen { path: path.display().to_string(), error })?
            }
        };
        let seen = seen.unwrap_or(Head { number: 0, hash: [0; 32] });
        let told = (config.sink, config.observer);
        let begun = begin(config.live, config.clock, stores, config.instance.actor.clone(), seen, told).await?;
        let Begun { shared, changes, versions, maker_files, behind } = begun;
        if let Some(path) = &config.wills
            && let Err(error) = shared.wills.load(path)
        {
            let what = format!("the wills in {} cannot be read, and are not published: {error}", path.display());
            shared.emit(Event::Trouble { what });
        }
        // A store that is behind is told of by the follower.
        let change = if behind { 0 } else { changes.to };
        let position = Position { change, versions, tokens: changes.tokens, behind: false };
        let listener = bind_tcp(config.listen).await?;
        let websocket = match config.websocket {
            Some(address) => Some(bind_tcp(address).await?),
            None => None,
        };
        let metrics = match config.metrics {
            Some(address) => Some(bind_tcp(address).await?),
            None => None,
        };
        let control = match config.control.map(|path| Socket::bind(path, "another guard of this ward")) {
            None => None,
            Some(Ok(control)) => Some(control),
            // Devices are served all the same.
            Some(Err((path, error))) => {
                let what = format!("nobody can watch this guard: cannot make the socket {}: {error}", path.display());
                shared.emit(Event::Trouble { what });
                None
            }
        };
        let Config { seen, wills, instance, .. } = config;
        Ok(Self { listener, websocket, metrics, control, shared, position, seen, wills, maker_files, instance })
    }

    /// The address that it listens on.
    ///
    /// # Errors
    /// The system does not say.
    pub fn local_addr(&self) -> std::io::Result<SocketAddr> {
        self.listener.local_addr()
    }

    /// Tells the number of the settings that were adopted last for all machines, as the guard sees it in the store.
    #[must_use]
    pub fn adopted(&self) -> watch::Receiver<u32> {
        self.shared.adopted.subscribe()
    }

    /// Tells the change at which a guard or desk was given another certificate last, as the guard sees it in the store.
    #[must_use]
    pub fn renewed(&self) -> watch::Receiver<i64> {
        self.shared.servers.subscribe()
    }

    /// Serves until `stop` is ready, then ends all sessions and returns. What comes from `reloads` takes effect at once,
    /// except for addresses to listen on.
    pub async fn run(self, stop: impl Future<Output = ()>, mut reloads: mpsc::Receiver<Reload>) {
        let Self { listener, websocket, metrics, control, shared, position, seen, wills, maker_files, instance } = self;
        let of = |listener: &Option<TcpListener>| listener.as_ref().and_then(|each| each.local_addr().ok());
        if let Ok(address) = listener.local_addr() {
            let (websocket, metrics) = (of(&websocket), of(&metrics));
            shared.emit(Event::Listening { address, websocket, metrics, edition: position.versions.edition });
        }
        let (control, socket) = control.map(Socket::split).unzip();
        let kept = wills.clone();
        let address = listener.local_addr().map(|address| address.to_string()).unwrap_or_default();
        let says = Says { instance, address, since: shared.knowledge.now() };
        let beside =
            Beside { shared: shared.clone(), position, seen, wills: kept, maker_files, metrics, control, says };
        let beside = match beside.start() {
            Ok(beside) => beside,
            Err(error) => {
                let what = format!("the guard cannot follow the store, and stops: {error}");
                return shared.emit(Event::Trouble { what });
            }
        };
        let openings = Arc::new(Openings::default());
        let entrance = |form| Arc::new(Entrance { shared: shared.clone(), form });
        let mut tasks = tokio::task::JoinSet::new();
        tasks.spawn(accept(entrance(Speech::Mqtt), listener, openings.clone()));
        if let Some(listener) = websocket {
            tasks.spawn(accept(entrance(Speech::WebSocket), listener, openings));
        }
        let mut stop = std::pin::pin!(stop);
        loop {
            tokio::select! {
                () = &mut stop => break,
                Some(reload) = reloads.recv() => take(&shared, reload),
            }
        }
        tasks.shutdown().await;
        drop(socket);
        let deadline = Instant::now() + STOPPING;
        while shared.registry.len() > 0 && Instant::now() < deadline {
            shared.registry.stop();
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        beside.stop().await;
        // What was counted last is worth a try; a store that does not take it is told of already.
        let _ = shared.write_uses(usize::MAX).await;
        let _ = shared.write_kept().await;
        if let Some(Err(error)) = wills.map(|path| shared.wills.save(&path)) {
            shared.emit(Event::Trouble { what: format!("the wills that wait cannot be kept: {error}") });
        }
        let _ = shared.write_notes().await;
        let _ = shared.write_traffic(usize::MAX).await;
        let _ = shared.write_history(usize::MAX).await;
    }
}

/// Why a guard goes on with the certificate that it has, where it does; the next one `begins` after now, if it does.
fn keeps(own: Option<Own>, next: Option<Own>, begins: Option<UnixTime>, now: UnixTime) -> Option<String> {
    let ((_, own_ends), (_, ends)) = (own?, next?);
    // A store that was put back may have one of before.
    if ends < now && own_ends > ends {
        return Some(format!(
            "the certificate that the store has for this guard has ended at {ends}; it shows the one that it has"
        ));
    }
    // Who signed it has a clock that is ahead, or this one is behind: devices that have the right time would not come in.
    let begins = begins.filter(|_| own_ends >= now)?;
    Some(format!(
        "the next certificate of this guard begins at {begins} only, and it shows the one that it has, until {own_ends} at most: see which \
         clock is wrong, that of this machine or that of whoever signed it; post renew signs another"
    ))
}

/// Takes what came anew.
fn take(shared: &Shared, reload: Reload) {
    let taken = match reload {
        Reload::All(config) => shared.set_live(*config).map(|()| Event::Reloaded),
        // It was another server's that changed, or an authority that it does not lead to.
        Reload::Own(tls) if own(&tls) == shared.live().own => return,
        Reload::Own(tls) => {
            let now = shared.knowledge.now();
            let begins = tls.chain.first().map(|next| next.not_before).filter(|begins| *begins > now);
            let mut later = shared.later_own.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some(what) = keeps(shared.live().own, own(&tls), begins, now) {
                if let Some(begins) = begins {
                    *later = Some((begins, tls));
                }
                return shared.emit(Event::Trouble { what });
            }
            *later = None;
            let ends = own(&tls).map(|(_, ends)| ends.to_string()).unwrap_or_default();
            shared.set_own(tls).map(|()| Event::OwnCertificate { ends })
        }
    };
    shared.emit(taken.unwrap_or_else(|error| Event::Trouble {
        what: format!("what was read anew cannot be used: {error}; the old stays"),
    }));
}

/// What every guard begins with.
pub(crate) struct Begun {
    pub(crate) shared: Arc<Shared>,
    pub(crate) changes: Changes,
    pub(crate) versions: Versions,
    pub(crate) maker_files: MakerFiles,
    /// Whether the store is older than what was seen of it.
    pub(crate) behind: bool,
}

/// Reads the store, whose record was `seen` so far before, and takes the current edition.
pub(crate) async fn begin(
    live: LiveConfig,
    clock: Arc<dyn Clock>,
    stores: Stores,
    actor: String,
    seen: Head,
    (sink, observer): (Sink, Option<Observer>),
) -> Result<Begun, GuardError> {
    let knowledge = Knowledge::new(stores, clock.clone(), seen, actor)?;
    let trust = Arc::new(TrustHolder::default());
    let live = Live::new(live, clock.clone(), trust.clone(), 0)?;
    let shared = Arc::new(Shared::new(knowledge, live, clock, trust, sink, observer));
    let changes = shared.knowledge.changed_since(seen.number).await?;
    let behind = matches!(shared.knowledge.compare(&changes), Follows::Behind(_));
    let none = Arc::new(Trust::default());
    shared.trust.set(shared.knowledge.trust(none, changes.authorities).await?);
    shared.knowledge.take_signers(shared.live().own_key.clone(), changes.tokens).await?;
    let mut maker_files = MakerFiles::default();
    makers::look(&mut maker_files, &shared).await;
    let versions = Versions::from(&changes);
    shared.take(versions).await?;
    shared.metrics.edition.set(i64::from(changes.edition));
    shared.adopted.send_replace(changes.settings);
    shared.servers.send_replace(changes.shown());
    Ok(Begun { shared, changes, versions, maker_files, behind })
}

/// What runs beside the sessions, on a thread of its own: whatever sessions do, changes in the store reach them, and whoever
/// asks for health and metrics gets an answer.
struct Beside {
    shared: Arc<Shared>,
    position: Position,
    seen: Option<PathBuf>,
    wills: Option<PathBuf>,
    maker_files: MakerFiles,
    metrics: Option<TcpListener>,
    control: Option<UnixListener>,
    says: Says,
}

/// What it says of itself, beside what changes.
struct Says {
    instance: Instance,
    address: String,
    since: UnixTime,
}

/// The thread on which [`Beside`] runs.
struct Running {
    stop: oneshot::Sender<()>,
    thread: std::thread::JoinHandle<()>,
}

impl Beside {
    fn start(self) -> std::io::Result<Running> {
        let Self { shared, position, seen, wills, maker_files, metrics, control, says } = self;
        // Sockets belong to the runtime that made them.
        let metrics = metrics.map(TcpListener::into_std).transpose()?;
        let control = control.map(UnixListener::into_std).transpose()?;
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let (stop, stopped) = oneshot::channel::<()>();
        let all = async move {
            let mut tasks = tokio::task::JoinSet::new();
            tasks.spawn(Follower::new(shared.clone(), position).follow());
            tasks.spawn(makers::follow(maker_files, shared.clone()));
            let name = says.instance.name.to_string();
            tasks.spawn(keep(shared.clone(), seen, wills, says.instance.name.clone()));
            tasks.spawn(say(shared.clone(), says));
            let told = shared.introduced.lock().unwrap_or_else(PoisonError::into_inner).take();
            if let Some(told) = told {
                tasks.spawn(introductions::follow(shared.clone(), told));
            }
            let told = shared.told_of_errands.lock().unwrap_or_else(PoisonError::into_inner).take();
            if let Some(told) = told {
                tasks.spawn(Carrier::new(shared.clone()).carry(told));
            }
            tasks.spawn(try_bypass(shared.clone()));
            tasks.spawn(watch_own(shared.clone(), name));
            tasks.spawn(watch_broker(shared.clone()));
            tasks.spawn(clear_broker(shared.clone()));
            tasks.spawn(publish_due(shared.clone()));
            match metrics.map(TcpListener::from_std).transpose() {
                Ok(None) => {}
                Ok(Some(listener)) => {
                    tasks.spawn(http::serve(listener, health::pages(shared.clone()), health::NOTHING));
                }
                Err(error) => shared.emit(Event::Trouble { what: format!("metrics cannot be served: {error}") }),
            }
            match control.map(UnixListener::from_std).transpose() {
                Ok(None) => {}
                Ok(Some(listener)) => {
                    tasks.spawn(control::serve(shared.clone(), listener));
                }
                Err(error) => shared.emit(Event::Trouble { what: format!("nobody can watch this guard: {error}") }),
            }
            // A sender that is gone says stop too.
            let _ = stopped.await;
            tasks.shutdown().await;
        };
        let run = move || {
            runtime.block_on(all);
            runtime.shutdown_timeout(STOPPING);
        };
        Ok(Running { stop, thread: std::thread::Builder::new().name("guard-beside".to_owned()).spawn(run)? })
    }
}

impl Running {
    async fn stop(self) {
        // Who is gone already needs no word.
        let _ = self.stop.send(());
        let _ = tokio::task::spawn_blocking(|| self.thread.join()).await;
    }
}

/// Says how it is, now and then. A store that does not take it is told of elsewhere.
async fn say(shared: Arc<Shared>, says: Says) {
    let Says { instance, address, since } = says;
    loop {
        let state = PostState {
            name: instance.name.clone(),
            version: instance.version.to_owned(),
            address: address.clone(),
            edition: u32::try_from(shared.metrics.edition.get()).unwrap_or(0),
            change: shared.knowledge.seen().number,
            sessions: u64::try_from(shared.registry.len()).unwrap_or(u64::MAX),
            since,
            seen: shared.knowledge.now(),
        };
        let _ = shared.knowledge.record_state(state).await;
        tokio::time::sleep(SAY).await;
    }
}

/// A next certificate of its own that has become valid, or that is needed because the one of before has ended.
fn later_own(shared: &Shared) -> Option<TlsSettings> {
    let (now, own) = (shared.knowledge.now(), shared.live().own);
    let mut later = shared.later_own.lock().unwrap_or_else(PoisonError::into_inner);
    let is_time = later.as_ref().is_some_and(|(begins, _)| *begins <= now || own.is_none_or(|(_, ends)| ends < now));
    later.take_if(|_| is_time).map(|(_, tls)| tls)
}

/// Tells of its own certificate when that ends soon, and has its end among the figures.
async fn watch_own(shared: Arc<Shared>, name: String) {
    let mut watch = EndWatch::default();
    loop {
        if let Some(tls) = later_own(&shared) {
            take(&shared, Reload::Own(tls));
        }
        let ends = shared.live().own.map(|(_, ends)| ends);
        shared.metrics.certificate_ends.set(ends.map_or(0, |ends| ends.0));
        if let Some(what) = ends.and_then(|ends| watch.look(&name, ends, shared.knowledge.now())) {
            shared.emit(Event::Trouble { what });
        }
        tokio::time::sleep(WATCH_OWN).await;
    }
}

/// Tries the broker without credentials, at the start and now and then.
async fn try_bypass(shared: Arc<Shared>) {
    loop {
        let upstream = shared.live().upstream.clone();
        match upstream.bypass().await {
            Bypass::Open => {
                shared.metrics.bypass_open.set(1);
                shared.emit(Event::BypassOpen { broker: upstream.address().to_string() });
            }
            Bypass::Closed(_) => {
                shared.metrics.bypass_open.set(0);
            }
            Bypass::Unknown(why) => {
                let what = format!(
                    "the broker at {} could not be asked whether it needs the guard: {why}",
                    upstream.address()
                );
                shared.emit(Event::Trouble { what });
            }
        }
        tokio::time::sleep(TRY_BYPASS).await;
    }
}

/// Asks the broker whether it is there, in the guard's own name: what one client's connection comes to says nothing of it.
async fn watch_broker(shared: Arc<Shared>) {
    let mut troubled = false;
    loop {
        let upstream = shared.live().upstream.clone();
        let metrics = shared.metrics.clone();
        let ended = upstream.watch(|| {
            metrics.broker_answers.set(1);
        });
        let Err(error) = ended.await else { continue };
        let answered = shared.metrics.broker_answers.set(0) == 1;
        if answered || !std::mem::replace(&mut troubled, true) {
            let what = format!("the broker at {} does not answer the guard: {error}", upstream.address());
            shared.emit(Event::Trouble { what });
        }
        tokio::time::sleep(TRY_BROKER).await;
    }
}

/// Ends the sessions that the broker keeps for devices that are out for good, so that nothing waits there for them.
async fn clear_broker(shared: Arc<Shared>) {
    loop {
        tokio::time::sleep(TRY_BROKER).await;
        if !shared.clear_broker.swap(false, Ordering::Relaxed) {
            continue;
        }
        let Ok(ended) = shared.knowledge.broker_sessions_of_ended(CLEARED).await else {
            shared.clear_broker.store(true, Ordering::Relaxed);
            continue;
        };
        for session in ended {
            // A clean connect in its name ends a session (MQTT 5.0 section 3.1.2.4); one that is still live is being cut.
            let done = !shared.registry.has(&session.device)
                && take_over(&shared.live().upstream, hello(&session.client_id)).await.is_ok();
            match done {
                true => shared.kept.gone(&session.client_id),
                false => shared.clear_broker.store(true, Ordering::Relaxed),
            }
        }
    }
}

/// Writes what is to be kept, now and then. Nobody waits for it.
async fn keep(shared: Arc<Shared>, seen: Option<PathBuf>, wills: Option<PathBuf>, name: PostName) {
    let mut will_changes = shared.wills.changes();
    let (mut noted, mut counted) = (Instant::now(), Instant::now());
    let mut troubled = false;
    let (mut kept, mut not_kept) = (None, false);
    let mut is_first = true;
    loop {
        tokio::time::sleep(KEEP).await;
        let mut result: Result<(), StoreError> = shared.write_uses(USES_IN_A_TURN).await;
        result = result.and(shared.write_kept().await);
        let met = shared.meet(&name, is_first).await;
        is_first &= met.is_err();
        result = result.and(met);
        shared.floods.summaries(std::time::Instant::now()).into_iter().for_each(|event| shared.emit(event));
        if noted.elapsed() >= KEEP_NOTES {
            result = result.and(shared.write_notes().await);
            noted = Instant::now();
            if let Some(path) = wills.as_ref().filter(|_| will_changes != shared.wills.changes()) {
                will_changes = shared.wills.changes();
                if let Err(error) = shared.wills.save(path) {
                    let what = format!("the wills that wait cannot be kept in {}: {error}", path.display());
                    shared.emit(Event::Trouble { what });
                }
            }
            let head = shared.knowledge.seen();
            if let Some(path) = seen.as_ref().filter(|_| kept != Some(head)) {
                match head.save(path) {
                    Ok(()) => (kept, not_kept) = (Some(head), false),
                    Err(error) => {
                        if !std::mem::replace(&mut not_kept, true) {
                            let what = format!(
                                "how far the audit record was seen cannot be kept in {}: {error}; a restore would not be \
                                 noticed after a restart",
                                path.display()
                            );
                            shared.emit(Event::Trouble { what });
                        }
                    }
                }
            }
        }
        if counted.elapsed() >= KEEP_TRAFFIC {
            result = result.and(shared.write_traffic(TRAFFIC_AT_ONCE).await);
            result = result.and(shared.write_history(EVENTS_AT_ONCE).await);
            result = result.and(shared.write_evidence().await);
            let left_out = shared.history.left_out();
            if left_out > 0 {
                let what =
                    format!("{left_out} events of devices are not in their histories: more came than the store took");
                shared.emit(Event::Trouble { what });
            }
            counted = Instant::now();
        }
        match result {
            Ok(()) => troubled = false,
            Err(error) => {
                if !std::mem::replace(&mut troubled, true) {
                    let what = format!("what was used and counted could not be written: {error}; it is tried again");
                    shared.emit(Event::Trouble { what });
                }
                tokio::time::sleep(KEEP_NOTES).await;
            }
        }
    }
}
