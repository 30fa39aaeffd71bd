//! The sockets of the desk: where it listens, what all connections share, and what runs beside them.

mod connection;
mod exchange;
mod queue;
mod response;

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use tidy_warden_core::id::PostName;
use tidy_warden_core::time::Clock;
use tidy_warden_serve::http;
use tidy_warden_serve::listener::{Before, Connection, House, accept};
use tidy_warden_serve::lists::MakerFiles;
use tidy_warden_serve::openings::Openings;
use tidy_warden_serve::seen;
use tidy_warden_serve::tls::{Resumption, acceptors};
use tidy_warden_store::OperatorStore;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, mpsc, watch};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

use self::connection::{converse, serve_plain};
use self::queue::Queue;
use crate::beside::Beside;
use crate::follow::{Follower, Says};
use crate::route::Door;
use crate::state::{Desk, DeskError, Live, LiveConfig, Reading, Stores};
use crate::{Event, Sink};
use crate::{errands, notices, reflexes, rotations};

/// How many requests of devices are answered at once, and how many more wait; yet more are told to come later.
const AT_ONCE: u16 = 64;
const WAITING: u16 = 2_000;

/// The same for owners.
const OWNERS_AT_ONCE: u16 = 8;
const OWNERS_WAITING: u16 = 500;

/// How often it is asked whether the file of a manufacturer's list is another one.
const LOOK_AT_MAKERS: Duration = Duration::from_secs(2);

/// How long requests may take to end when the desk stops.
const STOPPING: Duration = Duration::from_secs(10);

/// What a desk needs.
pub struct Config {
    /// Where to listen.
    pub listen: SocketAddr,
    /// Where to listen for what is signed in itself, over plain HTTP.
    pub listen_http: Option<SocketAddr>,
    /// Where to answer for metrics and health.
    pub metrics: Option<SocketAddr>,
    /// A file in which it keeps how far it has seen the audit record; without one it knows only for as long as it runs.
    pub seen: Option<PathBuf>,
    /// What can be changed later.
    pub live: LiveConfig,
    /// Its name among all instances.
    pub name: PostName,
    /// The version of its program.
    pub version: &'static str,
    /// The account under which its changes are recorded.
    pub actor: String,
    /// The ward's clock.
    pub clock: Arc<dyn Clock>,
    /// Where events go.
    pub sink: Sink,
}

/// What all connections share.
struct Counter {
    desk: Arc<Desk>,
    acceptor: std::sync::RwLock<TlsAcceptor>,
    /// Of devices.
    devices: Queue,
    owners: Queue,
    connections: Semaphore,
    /// Says when the desk stops.
    stopping: watch::Receiver<bool>,
}

/// A desk that listens.
pub struct Server {
    listener: TcpListener,
    plain: Option<TcpListener>,
    metrics: Option<TcpListener>,
    counter: Arc<Counter>,
    follower: Follower,
    rotations: Option<OperatorStore>,
    errands: Option<OperatorStore>,
    reflexes: Option<OperatorStore>,
    notices: Option<OperatorStore>,
    wants: watch::Receiver<Reading>,
    stop: watch::Sender<bool>,
}

async fn bind_tcp(address: SocketAddr) -> Result<TcpListener, DeskError> {
    TcpListener::bind(address).await.map_err(|error| DeskError::Listen { address, error })
}

impl Server {
    /// Opens the listeners.
    ///
    /// # Errors
    /// Address, certificate or store cannot be used.
    pub async fn bind(mut config: Config, stores: Stores) -> Result<Self, DeskError> {
        let seen = match &config.seen {
            Some(path) => seen::Head::load(path).map_err(DeskError::Thread)?,
            None => None,
        };
        let tls = config.live.take_tls();
        let most = config.live.settings.desk.max_connections;
        let mut desk =
            Desk::new(config.live, stores.readers, stores.acts, config.clock.clone(), config.actor, config.sink)?;
        desk.owners = stores.owners.map(std::sync::Mutex::new);
        let desk = Arc::new(desk);
        let [acceptor] = acceptors(tls, ["http/1.1"], Resumption::None, config.clock, desk.trust.clone())?;
        let (stop, stopping) = watch::channel(false);
        let counter = Arc::new(Counter {
            desk: desk.clone(),
            acceptor: std::sync::RwLock::new(acceptor),
            devices: Queue::new(AT_ONCE, WAITING),
            owners: Queue::new(OWNERS_AT_ONCE, OWNERS_WAITING),
            connections: Semaphore::new(usize::try_from(most).unwrap_or(usize::MAX).min(Semaphore::MAX_PERMITS)),
            stopping,
        });
        let (wants, wanted) = watch::channel(Reading::default());
        let listener = bind_tcp(config.listen).await?;
        let address = listener.local_addr().map(|address| address.to_string()).unwrap_or_default();
        let says = Says { name: config.name, version: config.version, address, since: desk.now(), said: None };
        let follower = Follower {
            says,
            desk,
            reader: stores.follower,
            lists: stores.lists,
            wants,
            seen: seen.unwrap_or(seen::Head { number: 0, hash: [0; 32] }),
            seen_file: config.seen,
            servers_seen: None,
            own: tidy_warden_serve::own::EndWatch::default(),
            stop: Arc::new(AtomicBool::new(false)),
        };
        let optional = |address: Option<SocketAddr>| async move {
            match address {
                Some(address) => bind_tcp(address).await.map(Some),
                None => Ok(None),
            }
        };
        let (plain, metrics) = (optional(config.listen_http).await?, optional(config.metrics).await?);
        Ok(Self {
            listener,
            plain,
            metrics,
            counter,
            follower,
            rotations: stores.rotations,
            errands: stores.errands,
            reflexes: stores.reflexes,
            notices: stores.notices,
            wants: wanted,
            stop,
        })
    }

    /// Tells when authorities or policies changed, so that keys must be opened or an edition read.
    #[must_use]
    pub fn wants(&self) -> watch::Receiver<Reading> {
        self.wants.clone()
    }

    /// Answers until `stop` is ready; takes what comes on `reloads` in the place of what it had.
    ///
    /// # Errors
    /// There is no thread to be had.
    pub async fn run(
        self,
        stop: impl Future<Output = ()>,
        mut reloads: mpsc::Receiver<LiveConfig>,
    ) -> Result<(), DeskError> {
        let desk = self.counter.desk.clone();
        let address = |listener: &TcpListener| listener.local_addr().ok();
        if let Some(listening) = address(&self.listener) {
            let (http, metrics) = (self.plain.as_ref().and_then(address), self.metrics.as_ref().and_then(address));
            desk.emit(Event::Listening { address: listening, http, metrics });
        }
        let stop_following = self.follower.stop.clone();
        let follower = self.follower;
        let following = std::thread::Builder::new()
            .name("follower".to_owned())
            .spawn(move || follower.follow())
            .map_err(DeskError::Thread)?;
        let mut beside = Beside::default();
        let name = ("rotations", "rotations are not driven");
        beside.start(name, &desk, self.rotations, rotations::LOOK, Box::new(rotations::look))?;
        let (name, mut work) = (("errands", "answers to errands are not looked at"), errands::Work::default());
        let look = move |desk: &Desk, store: &mut OperatorStore| work.look(desk, store);
        beside.start(name, &desk, self.errands, errands::LOOK, Box::new(look))?;
        let (name, mut work) = (("reflexes", "reflexes do nothing"), reflexes::Work::default());
        let look = move |desk: &Desk, store: &mut OperatorStore| work.look(desk, store);
        beside.start(name, &desk, self.reflexes, reflexes::LOOK, Box::new(look))?;
        let (name, mut work) = (("notices", "notices are not sent"), notices::Work::default());
        let look = move |desk: &Desk, store: &mut OperatorStore| work.look(desk, store);
        beside.start(name, &desk, self.notices, notices::LOOK, Box::new(look))?;
        let mut tasks = tokio::task::JoinSet::new();
        let (makers, mut files) = (desk.clone(), MakerFiles::default());
        // Before anybody comes: a list that was not read yet lists nobody.
        makers.look_at_makers(&mut files).await;
        tasks.spawn(async move {
            loop {
                tokio::time::sleep(LOOK_AT_MAKERS).await;
                makers.look_at_makers(&mut files).await;
            }
        });
        tasks.spawn(accept(self.counter.clone(), self.listener, Arc::new(Openings::default())));
        if let Some(plain) = self.plain {
            tasks.spawn(serve_plain(self.counter.clone(), plain));
        }
        if let Some(metrics) = self.metrics {
            tasks.spawn(desk.clone().count_due());
            tasks.spawn(http::serve(metrics, pages(desk.clone()), "there are /metrics and /health here\n"));
        }
        let mut stop = std::pin::pin!(stop);
        loop {
            tokio::select! {
                () = &mut stop => break,
                config = reloads.recv() => match config {
                    Some(config) => self.counter.take(config),
                    None => stop.as_mut().await,
                },
            }
        }
        desk.emit(Event::Stopping);
        tasks.shutdown().await;
        // Whoever waits for an answer gets it; connections without a request end at once.
        let _ = self.stop.send(true);
        let nobody_waits = async { tokio::join!(self.counter.devices.is_empty(), self.counter.owners.is_empty()) };
        let _ = tokio::time::timeout(STOPPING, nobody_waits).await;
        stop_following.store(true, Ordering::Relaxed);
        let _ = tokio::task::spawn_blocking(move || {
            beside.stop();
            following.join()
        })
        .await;
        Ok(())
    }
}

impl Counter {
    /// Takes what was read anew.
    fn take(&self, mut config: LiveConfig) {
        let tls = config.take_tls();
        match acceptors(tls, ["http/1.1"], Resumption::None, self.desk.clock.clone(), self.desk.trust.clone()) {
            Ok([acceptor]) => {
                *self.acceptor.write().unwrap_or_else(std::sync::PoisonError::into_inner) = acceptor;
                self.desk.metrics.ends(config.own_ends);
                self.desk.take(Live::from(config));
            }
            Err(error) => self.desk.trouble(format!("the settings were not taken, and the old ones stay: {error}")),
        }
    }
}

impl House for Counter {
    fn door(&self, from: IpAddr) -> (TlsAcceptor, Before) {
        let live = self.desk.live();
        let settings = &live.settings.desk;
        let before = Before::of(settings.proxy_protocol, &settings.proxy_from, from);
        (self.acceptor.read().unwrap_or_else(std::sync::PoisonError::into_inner).clone(), before)
    }

    fn refused(&self, peer: SocketAddr, why: String) {
        self.desk.metrics.handshakes_failed.inc();
        self.desk.emit(Event::TlsRefused { because: why, peer });
    }

    fn trouble(&self, why: String) {
        self.desk.trouble(why);
    }

    async fn receive(self: Arc<Self>, stream: Box<TlsStream<TcpStream>>, connection: Connection) {
        let Ok(_place) = self.connections.try_acquire() else {
            // The oldest may be a device that renews: it is not cut off for who comes last.
            return self.desk.trouble("there are too many connections, and one was closed");
        };
        drop(connection.opening);
        self.desk.metrics.connections.inc();
        let leaf = connection.leaf;
        // A resumed session does not judge the chain again.
        let is_good =
            leaf.as_ref().is_none_or(|leaf| !connection.resumed || self.desk.trust.now().takes(leaf, self.desk.now()));
        if is_good {
            // It stays in its box: what waits is not to carry it around several times over.
            converse(self.clone(), Door::Tls, stream, connection.peer, leaf).await;
        }
        self.desk.metrics.connections.dec();
    }
}

fn pages(desk: Arc<Desk>) -> Arc<http::Pages> {
    Arc::new(move |path| match path {
        "/metrics" => {
            let kind = "application/openmetrics-text; version=1.0.0; charset=utf-8";
            Some((http::StatusCode::OK, kind, desk.metrics.text()))
        }
        "/health" => {
            let store = desk.metrics.store_answers.get() == 1;
            let value = serde_json::json!({ "well": store, "store_answers": store, "connections": desk.metrics.connections.get() });
            let status = if store { http::StatusCode::OK } else { http::StatusCode::SERVICE_UNAVAILABLE };
            Some((status, "application/json", format!("{value}\n")))
        }
        _ => None,
    })
}
