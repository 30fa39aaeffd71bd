//! The sockets of the desk: connections, TLS, and HTTP with its limits.

use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::Poll;
use std::time::{Duration, Instant};

use http_body_util::{BodyExt, Full, LengthLimitError, Limited};
use hyper::body::{Bytes, Incoming};
use hyper::header::{
    ALLOW, AUTHORIZATION, CACHE_CONTROL, CONNECTION, CONTENT_LENGTH, CONTENT_TYPE, COOKIE, ETAG, HOST, HeaderMap,
    HeaderName, HeaderValue, IF_NONE_MATCH, ORIGIN, RETRY_AFTER, TRANSFER_ENCODING, WWW_AUTHENTICATE,
};
use hyper::http::request::Parts;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use tidy_warden_core::admission::Secret;
use tidy_warden_core::est;
use tidy_warden_core::id::PostName;
use tidy_warden_core::rekey::KEY_REQUEST;
use tidy_warden_core::time::Clock;
use tidy_warden_serve::http;
use tidy_warden_serve::listener::{Before, Connection, House, accept};
use tidy_warden_serve::lists::MakerFiles;
use tidy_warden_serve::openings::Openings;
use tidy_warden_serve::seen;
use tidy_warden_serve::source::Source;
use tidy_warden_serve::strict::{MAX_HEAD, Strict};
use tidy_warden_serve::tls::{Resumption, acceptors};
use tidy_warden_store::OperatorStore;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, mpsc, watch};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;
use zeroize::Zeroizing;

use crate::answer::{Basic, Caller, Said, name_of};
use crate::beside::Beside;
use crate::follow::{Follower, Says};
use crate::owner::{self, Asked, OwnerRequest};
use crate::route::{Door, NoRoute, Route, route};
use crate::state::{Desk, DeskError, Live, LiveConfig, Reading, Stores};
use crate::turn::{Told, Turn, Watched};
use crate::{Event, Sink};
use crate::{errands, notices, reflexes, rotations};

/// How long a connection may wait for the next request on it, and how long the head of one may take to come.
const HEAD_TIME: Duration = Duration::from_secs(30);

/// How long a body may take to come.
const BODY_TIME: Duration = Duration::from_secs(10);

/// How long one connection may ask for more.
const CONNECTION_TIME: Duration = Duration::from_secs(600);

/// When the answer to a proof that does not hold goes out, after the request was there: whatever was looked up is done by then.
const REFUSAL_TIME: Duration = Duration::from_millis(150);

/// How many requests are answered at once; more wait.
const AT_ONCE: usize = 64;

/// How many requests may wait beside them; more are told to come later.
const WAITING: usize = 2_000;

/// How many connections over plain HTTP there may be at once.
const MOST_PLAIN: usize = 2_000;

/// Within how long a network may ask as often as `requests_per_source` says.
const MINUTE: Duration = Duration::from_secs(60);

/// How long the last words on a connection may take.
const LAST_WORDS: Duration = Duration::from_secs(2);

/// How much of what nobody reads is waited for when a connection is closed, in octets.
const MOST_UNREAD: usize = 4 * 1024 * 1024;

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
    answering: Semaphore,
    waiting: Semaphore,
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
        let tls = std::mem::replace(
            &mut config.live.tls,
            tidy_warden_serve::tls::TlsSettings { chain: Vec::new(), key: Vec::new().into(), allow_anonymous: true },
        );
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
            answering: Semaphore::new(AT_ONCE),
            waiting: Semaphore::new(AT_ONCE + WAITING),
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
        let all = u32::try_from(AT_ONCE + WAITING).unwrap_or(u32::MAX);
        let _ = tokio::time::timeout(STOPPING, self.counter.waiting.acquire_many(all)).await;
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
        let tls = std::mem::replace(
            &mut config.tls,
            tidy_warden_serve::tls::TlsSettings { chain: Vec::new(), key: Vec::new().into(), allow_anonymous: true },
        );
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

/// Answers for lists on a listener without TLS.
async fn serve_plain(counter: Arc<Counter>, listener: TcpListener) {
    let places = Arc::new(Semaphore::new(MOST_PLAIN));
    loop {
        let Ok(place) = places.clone().acquire_owned().await else { return };
        match listener.accept().await {
            Ok((stream, peer)) => {
                // Where the system does not take it, the connection works all the same.
                let _ = stream.set_nodelay(true);
                let counter = counter.clone();
                tokio::spawn(async move {
                    converse(counter, Door::Plain, stream, peer, None).await;
                    drop(place);
                });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

/// What comes on one connection.
async fn converse<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    counter: Arc<Counter>,
    door: Door,
    stream: S,
    peer: SocketAddr,
    leaf: Option<Arc<[u8]>>,
) {
    let mut stopping = counter.stopping.clone();
    let mut stream = Strict::new(stream);
    let end = tokio::time::Instant::now() + CONNECTION_TIME;
    loop {
        // Most of the time a connection waits; what answers requests is made when there is one.
        let wait = (tokio::time::Instant::now() + HEAD_TIME).min(end);
        let is_there = tokio::select! {
            there = tokio::time::timeout_at(wait, stream.ready()) => matches!(there, Ok(Ok(()))),
            _ = stopping.wait_for(|stopping| *stopping) => false,
        };
        if !is_there {
            let (mut stream, _) = stream.into_parts();
            let _ = tokio::time::timeout(LAST_WORDS, stream.shutdown()).await;
            return;
        }
        match Box::pin(talk(counter.clone(), door, stream, peer, leaf.clone(), end)).await {
            Some(between) => stream = between,
            None => return,
        }
    }
}

/// Request after request, from the first on that is there, until none is there; gives the connection back if another may come.
async fn talk<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    counter: Arc<Counter>,
    door: Door,
    stream: Strict<S>,
    peer: SocketAddr,
    leaf: Option<Arc<[u8]>>,
    end: tokio::time::Instant,
) -> Option<Strict<S>> {
    let mut stopping = counter.stopping.clone();
    let (shared, turn) = (counter.clone(), Turn::default());
    let begun = turn.clone();
    let service = hyper::service::service_fn(move |request: Request<Incoming>| {
        let (counter, leaf, turn) = (shared.clone(), leaf.clone(), begun.clone());
        turn.begin();
        Box::pin(async move {
            let answer = respond(&counter, door, (peer, leaf), request).await;
            Ok::<_, Infallible>(answer.map(|body| Told::new(body, turn)))
        })
    });
    let mut connection = hyper::server::conn::http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEAD_TIME)
        .max_buf_size(MAX_HEAD * 2)
        .serve_connection(TokioIo::new(Watched::new(stream, turn.clone())), service);
    let mut end = std::pin::pin!(tokio::time::sleep_until(end));
    let (mut is_stopping, mut is_idle) = (false, false);
    while !is_idle {
        // It is polled without its shutdown, so that what was refused before the library saw it can be answered.
        let polled = std::future::poll_fn(|cx| match connection.poll_without_shutdown(cx) {
            Poll::Ready(_) => Poll::Ready(false),
            Poll::Pending if turn.is_over() && !is_stopping => Poll::Ready(true),
            Poll::Pending => Poll::Pending,
        });
        tokio::select! {
            idle = polled => match idle {
                true => is_idle = true,
                false => break,
            },
            () = &mut end => break,
            _ = stopping.wait_for(|stopping| *stopping), if !is_stopping => {
                is_stopping = true;
                std::pin::Pin::new(&mut connection).graceful_shutdown();
                end.as_mut().reset(tokio::time::Instant::now() + STOPPING);
            }
        }
    }
    let parts = connection.into_parts();
    let stream = parts.io.into_inner();
    // What the library read and nobody wanted is the rest of a body, and never the beginning of another request.
    if is_idle && stream.get().is_between() && parts.read_buf.is_empty() {
        return Some(stream.into_inner());
    }
    let is_amid = !stream.get().is_between();
    let (mut stream, refused) = stream.into_inner().into_parts();
    let is_unread = is_amid || refused.is_some();
    if let Some(refused) = refused {
        counter.desk.metrics.answered("http", refused.status());
        counter.desk.emit(Event::Refused {
            asked: "http",
            status: refused.status(),
            because: refused.to_string(),
            device: None,
            peer,
        });
        // Whoever does not read it does not hold anything up.
        let _ = tokio::time::timeout(LAST_WORDS, stream.write_all(refused.answer().as_bytes())).await;
    }
    let _ = tokio::time::timeout(LAST_WORDS, part(stream, is_unread)).await;
    None
}

/// Closes a connection. Who still sends what nobody reads is let finish (RFC 9112 section 9.6): what comes to a socket that is closed takes
/// the answer away from who has not read it yet.
async fn part<S: AsyncRead + AsyncWrite + Unpin>(mut stream: S, is_unread: bool) {
    let shut = stream.shutdown().await;
    if !is_unread || shut.is_err() {
        return;
    }
    let (mut octets, mut left) = (vec![0; 16 * 1024], MOST_UNREAD);
    while left > 0 {
        match stream.read(&mut octets).await {
            Ok(count) if count > 0 => left = left.saturating_sub(count),
            _ => return,
        }
    }
}

/// The answer to one request.
async fn respond(
    counter: &Arc<Counter>,
    door: Door,
    (peer, leaf): (SocketAddr, Option<Arc<[u8]>>),
    request: Request<Incoming>,
) -> Response<Full<Bytes>> {
    let (head, body) = request.into_parts();
    // A body that was not read is no beginning of another request.
    let has_body = head.headers.get(CONTENT_LENGTH).is_some_and(|length| length != "0");
    let route = route(door, &head.method, head.uri.path());
    let asked = route.as_ref().map_or("nothing", name_of);
    let desk = &counter.desk;
    let early = |status: StatusCode, words: &str| {
        desk.metrics.answered(asked, status.as_u16());
        Said::text(status, words)
    };
    let limits = &desk.live().settings.desk;
    let taken = match door {
        Door::Tls => desk.by_source.take(&Source::from(peer.ip()), limits.requests_per_source, MINUTE, Instant::now()),
        // What goes out there is the same for everybody and costs nothing; connections are bounded.
        Door::Plain => Ok(()),
    };
    let mut allow = None;
    let said = match (taken, route) {
        (Err(wait), _) => {
            desk.metrics.answered(asked, 429);
            let because = "its network asks too often".to_owned();
            desk.emit(Event::Refused { asked, status: 429, because, device: None, peer });
            let words = "too many requests from this network";
            Said::later(StatusCode::TOO_MANY_REQUESTS, words, wait.as_secs() + 1)
        }
        (Ok(()), Err(NoRoute::NotFound)) => early(StatusCode::NOT_FOUND, "there is nothing here"),
        (Ok(()), Err(NoRoute::NotAllowed(methods))) => {
            allow = Some(methods);
            early(StatusCode::METHOD_NOT_ALLOWED, &format!("only {methods} is answered here"))
        }
        (Ok(()), Ok(Route::Keygen(kind))) if !desk.live().offers_keys(kind.as_ref()) => {
            early(StatusCode::NOT_FOUND, "there is nothing here")
        }
        (Ok(()), Ok(Route::Window)) if desk.owners.is_none() => early(StatusCode::NOT_FOUND, "there is nothing here"),
        (Ok(()), Ok(Route::Owner(_))) if desk.owners.is_none() => early(StatusCode::NOT_FOUND, "there is nothing here"),
        (Ok(()), Ok(Route::Owner(asked))) => match sent(&asked, &head, body).await {
            Ok(body) => for_owner(counter, owner_request(asked, &head, body, peer)).await,
            Err((status, words)) => early(status, &words),
        },
        (Ok(()), Ok(Route::Key)) if !desk.live().renews_keys() => early(StatusCode::NOT_FOUND, "there is nothing here"),
        (
            Ok(()),
            Ok(
                route @ (Route::Key
                | Route::Enroll(_)
                | Route::Renew(_)
                | Route::Keygen(_)
                | Route::Window
                | Route::Children
                | Route::Child(_)),
            ),
        ) => {
            let kind = match route {
                Route::Children | Route::Window => JSON,
                Route::Key => KEY_REQUEST,
                _ => est::PKCS10,
            };
            match received(&head.headers, (kind, est::MAX_BODY), body).await {
                Ok(body) => decided(counter, route, (peer, leaf), &head.headers, body).await,
                Err((status, words)) => early(status, &words),
            }
        }
        (Ok(()), Ok(route @ Route::Connect)) => {
            decided(counter, route, (peer, leaf), &head.headers, Bytes::new()).await
        }
        (Ok(()), Ok(route)) => desk.answer(&route, &Caller { peer, leaf, basic: None }, &[]),
    };
    let is_known = said.tag.as_ref().is_some_and(|tag| {
        let wanted = head.headers.get_all(IF_NONE_MATCH).iter().filter_map(|value| value.to_str().ok());
        let matches = |one: &str| one == "*" || one.strip_prefix("W/").unwrap_or(one) == tag;
        wanted.flat_map(|value| value.split(',')).any(|one| matches(one.trim()))
    });
    let is_get = matches!(head.method, Method::GET | Method::HEAD);
    let is_chunked = head.headers.contains_key(TRANSFER_ENCODING);
    response(said, allow, is_known && is_get, (has_body, is_chunked))
}

/// The type of what gateways send (RFC 8259).
const JSON: &str = "application/json";

/// The body of a request, which must be of the type `wanted`.
///
/// # Errors
/// Status and words; neither depends on anything but the request.
async fn received(
    headers: &HeaderMap,
    (wanted, most): (&str, usize),
    body: Incoming,
) -> Result<Bytes, (StatusCode, String)> {
    let kind = headers.get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let kind = kind.split(';').next().unwrap_or_default().trim();
    if !kind.eq_ignore_ascii_case(wanted) {
        return Err((StatusCode::UNSUPPORTED_MEDIA_TYPE, format!("Content-Type must be {wanted}")));
    }
    let too_large = (StatusCode::PAYLOAD_TOO_LARGE, format!("at most {most} octets are read"));
    let said: Option<usize> =
        headers.get(CONTENT_LENGTH).and_then(|value| value.to_str().ok()).and_then(|text| text.parse().ok());
    if said.is_some_and(|length| length > most) {
        return Err(too_large);
    }
    match tokio::time::timeout(BODY_TIME, Limited::new(body, most).collect()).await {
        Ok(Ok(body)) => Ok(body.to_bytes()),
        Ok(Err(error)) if error.is::<LengthLimitError>() => Err(too_large),
        Ok(Err(_)) => Err((StatusCode::BAD_REQUEST, "the body was cut off".to_owned())),
        Err(_) => Err((StatusCode::REQUEST_TIMEOUT, "the body did not come in time".to_owned())),
    }
}

/// What an owner sent, if it sent anything.
async fn sent(asked: &Asked, head: &Parts, body: Incoming) -> Result<Bytes, (StatusCode, String)> {
    if head.method != Method::POST {
        return Ok(Bytes::new());
    }
    let is_empty = head.headers.get(CONTENT_LENGTH).is_none_or(|length| length == "0")
        && !head.headers.contains_key(TRANSFER_ENCODING);
    match is_empty {
        true => Ok(Bytes::new()),
        false => received(&head.headers, (asked.body().media_type(), owner::MAX_BODY), body).await,
    }
}

/// A request to the owners' page or interface.
fn owner_request(asked: Asked, head: &Parts, body: Bytes, peer: SocketAddr) -> OwnerRequest {
    let text = |name: &HeaderName| head.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let cookies = head.headers.get_all(COOKIE).iter().filter_map(|value| value.to_str().ok());
    // Who sent a form is told by the browser (Fetch Metadata), and by older ones with Origin (RFC 6454 section 7).
    let site = text(&HeaderName::from_static("sec-fetch-site"));
    let (origin, host) = (text(&ORIGIN), text(&HOST));
    let is_cross = match (site, origin) {
        ("", "" | "null") => false,
        ("", origin) => origin.strip_prefix("https://") != Some(host),
        (site, _) => !matches!(site, "same-origin" | "none"),
    };
    let bearer = text(&AUTHORIZATION).split_once(' ').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer"));
    let bearer = bearer.map(|(_, token)| token.trim().to_owned()).filter(|token| token.len() <= owner::MAX_BEARER);
    OwnerRequest {
        asked,
        is_post: head.method == Method::POST,
        is_delete: head.method == Method::DELETE,
        query: head.uri.query().unwrap_or_default().to_owned(),
        cookies: cookies.collect::<Vec<_>>().join("; "),
        bearer,
        is_cross,
        body,
        source: Source::from(peer.ip()).to_string(),
        peer,
    }
}

/// Asks for an answer to an owner.
async fn for_owner(counter: &Arc<Counter>, request: OwnerRequest) -> Said {
    answered(counter, move |desk| desk.answer_owner(&request)).await
}

/// Asks for an answer that may have to wait for the store.
async fn decided(
    counter: &Arc<Counter>,
    route: Route,
    (peer, leaf): (SocketAddr, Option<Arc<[u8]>>),
    headers: &HeaderMap,
    body: Bytes,
) -> Said {
    let caller = Caller { peer, leaf, basic: basic(headers).map(Arc::new) };
    answered(counter, move |desk| desk.answer(&route, &caller, &body)).await
}

/// Has something answered on a thread that may wait, when it is its turn.
async fn answered(counter: &Arc<Counter>, answer: impl FnOnce(&Desk) -> Said + Send + 'static) -> Said {
    let busy = || Said::later(StatusCode::SERVICE_UNAVAILABLE, "there are too many requests at once", 1);
    let since = tokio::time::Instant::now();
    let Ok(_waiting) = counter.waiting.try_acquire() else { return busy() };
    let Ok(turn) = counter.answering.acquire().await else { return busy() };
    let desk = counter.desk.clone();
    let said = tokio::task::spawn_blocking(move || answer(&desk)).await;
    drop(turn);
    let said = said.unwrap_or_else(|_| {
        counter.desk.trouble("a request could not be answered: a fault of this program");
        Said::text(StatusCode::INTERNAL_SERVER_ERROR, "the request could not be answered")
    });
    if said.is_slow || matches!(said.status, StatusCode::UNAUTHORIZED | StatusCode::ACCEPTED) {
        // All of them at the same time, whatever was looked up.
        tokio::time::sleep_until(since + REFUSAL_TIME).await;
    }
    said
}

/// User name and password of an Authorization field (RFC 7617); `None` if there is none of that form.
fn basic(headers: &HeaderMap) -> Option<Basic> {
    let value = headers.get(AUTHORIZATION)?.to_str().ok()?;
    let (scheme, encoded) = value.split_once(' ')?;
    if !scheme.eq_ignore_ascii_case("basic") || encoded.len() > 512 {
        return None;
    }
    let octets = Zeroizing::new(data_encoding::BASE64.decode(encoded.trim().as_bytes()).ok()?);
    let (user, password) = std::str::from_utf8(&octets).ok()?.split_once(':')?;
    Some(Basic { user: user.to_owned(), secret: Secret::parse(password) })
}

fn response(
    said: Said,
    allow: Option<&'static str>,
    is_known: bool,
    (has_body, is_chunked): (bool, bool),
) -> Response<Full<Bytes>> {
    let Said { status, kind, body, retry_after, tag, fresh_for, more, is_slow: _ } = said;
    let mut response = Response::new(Full::new(if is_known { Bytes::new() } else { body }));
    *response.status_mut() = if is_known { StatusCode::NOT_MODIFIED } else { status };
    let headers = response.headers_mut();
    let mut put = |name: HeaderName, value: &str| {
        // All of these are texts of this program's own.
        if let Ok(value) = HeaderValue::from_str(value) {
            headers.insert(name, value);
        }
    };
    if !is_known && status != StatusCode::NO_CONTENT {
        put(CONTENT_TYPE, kind);
    }
    if kind == est::CERTS_ONLY || kind == est::CSR_ATTRS {
        put(HeaderName::from_static("content-transfer-encoding"), "base64");
    }
    if let Some(tag) = &tag {
        put(ETAG, tag);
    }
    match fresh_for {
        Some(seconds) => put(CACHE_CONTROL, &format!("max-age={seconds}, must-revalidate")),
        None => put(CACHE_CONTROL, "no-store"),
    }
    if let Some(seconds) = retry_after {
        put(RETRY_AFTER, &seconds.to_string());
    }
    if let Some(methods) = allow {
        put(ALLOW, methods);
    }
    for (name, value) in &more {
        // Cookies may be several.
        if let (Ok(name), Ok(value)) = (HeaderName::try_from(*name), HeaderValue::from_str(value)) {
            headers.append(name, value);
        }
    }
    let mut put = |name: HeaderName, value: &str| {
        if let Ok(value) = HeaderValue::from_str(value) {
            headers.insert(name, value);
        }
    };
    if status == StatusCode::UNAUTHORIZED && more.is_empty() {
        put(WWW_AUTHENTICATE, "Basic realm=\"enrolment\", charset=\"UTF-8\"");
    }
    if is_chunked || has_body && !status.is_success() {
        put(CONNECTION, "close");
    }
    response
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

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(all: &[(HeaderName, &str)]) -> HeaderMap {
        all.iter().map(|(name, value)| (name.clone(), HeaderValue::from_str(value).unwrap())).collect()
    }

    #[test]
    fn a_user_and_a_secret_are_read_or_there_is_none() {
        let secret = "aaaaaaaaaaaaaaaaaaaaaaaaaa";
        let encoded = |text: &str| data_encoding::BASE64.encode(text.as_bytes());
        let read = |value: &str| basic(&headers(&[(AUTHORIZATION, value)]));
        let good = encoded(&format!("wv-9:{secret}"));
        for scheme in ["Basic", "basic", "BASIC"] {
            let basic = read(&format!("{scheme} {good}")).unwrap();
            assert!(basic.user == "wv-9" && basic.secret.is_some());
            assert_eq!(format!("{basic:?}"), "Basic(..)", "nothing of it gets into a log");
        }
        // A colon belongs to the password (RFC 7617 section 2), and this is no secret.
        let odd = read(&format!("Basic {}", encoded("wv-9:a:b"))).unwrap();
        assert!(odd.user == "wv-9" && odd.secret.is_none());
        assert!(read(&format!("Basic {}", encoded(&format!(":{secret}")))).is_some_and(|basic| basic.user.is_empty()));
        let long = format!("Basic {}", encoded(&"a".repeat(600)));
        let bearer = format!("Bearer {good}");
        let bare = encoded("wv-9");
        let bare = format!("Basic {bare}");
        for bad in ["", "Basic", "Basic ", "Basic !!!!", "Basic d3Y", &long, &bearer, &bare, "Basic /////w=="] {
            assert!(read(bad).is_none(), "{bad:?}");
        }
        assert!(basic(&HeaderMap::new()).is_none());
    }

    #[test]
    fn an_answer_says_how_long_it_may_be_kept_and_when_to_come_again() {
        let field = |response: &Response<Full<Bytes>>, name: HeaderName| {
            response.headers().get(name).map(|value| value.to_str().unwrap().to_owned())
        };
        let refused = response(Said::unproved(), None, false, (true, false));
        assert_eq!(refused.status(), StatusCode::UNAUTHORIZED);
        assert!(field(&refused, WWW_AUTHENTICATE).is_some_and(|value| value.starts_with("Basic realm=")));
        assert_eq!(field(&refused, CACHE_CONTROL).as_deref(), Some("no-store"));
        assert_eq!(field(&refused, CONNECTION).as_deref(), Some("close"), "its body may not have been read");

        let later = Said::later(StatusCode::SERVICE_UNAVAILABLE, "words", 9);
        let later = response(later, None, false, (false, false));
        assert_eq!((field(&later, RETRY_AFTER).as_deref(), field(&later, CONNECTION)), (Some("9"), None));

        let list = Said { tag: Some("\"t\"".into()), fresh_for: Some(60), ..Said::text(StatusCode::OK, "list") };
        let whole = response(list.clone(), None, false, (false, false));
        assert_eq!(field(&whole, ETAG).as_deref(), Some("\"t\""));
        assert_eq!(field(&whole, CACHE_CONTROL).as_deref(), Some("max-age=60, must-revalidate"));
        let known = response(list.clone(), None, true, (false, false));
        assert_eq!(known.status(), StatusCode::NOT_MODIFIED);
        assert_eq!((field(&known, ETAG).as_deref(), field(&known, CONTENT_TYPE)), (Some("\"t\""), None));
        assert_eq!(hyper::body::Body::size_hint(known.body()).exact(), Some(0), "as it is had already");
        // Behind chunks nothing is read any more, whatever was said.
        assert!(field(&response(list, None, false, (true, true)), CONNECTION).is_some());

        let none = Said { status: StatusCode::NO_CONTENT, ..Said::text(StatusCode::OK, "") };
        assert_eq!(field(&response(none, None, false, (false, false)), CONTENT_TYPE), None);
        let wrong = Said::text(StatusCode::METHOD_NOT_ALLOWED, "words");
        assert_eq!(
            field(&response(wrong, Some("GET, HEAD"), false, (false, false)), ALLOW).as_deref(),
            Some("GET, HEAD")
        );
    }
}
