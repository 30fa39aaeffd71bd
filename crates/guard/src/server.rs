//! The listener, and the follower that watches the store.

use std::collections::HashSet;
use std::net::SocketAddr;
use std::sync::{Arc, RwLock};
use std::time::Duration;

use rustls::ServerConfig;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::Clock;
use tidy_warden_core::token::Parties;
use tidy_warden_store::Store;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio_rustls::TlsAcceptor;

use crate::identity::Knowledge;
use crate::meter::Rates;
use crate::registry::Registry;
use crate::session::{OPENING, serve};
use crate::shared::{GuardError, Shared, Versions};
use crate::tls::{TlsSettings, server_config};
use crate::{Event, Observer, Sink};

/// How often the store is asked for what is new.
const FOLLOW: Duration = Duration::from_millis(200);

/// How often what a trial decides otherwise is written.
const WRITE_NOTES: Duration = Duration::from_secs(1);

/// How many connections may be in their handshake at once.
const MAX_OPENING: usize = 1024;

/// How long sessions may take to end when the guard stops.
const STOPPING: Duration = Duration::from_secs(5);

/// What a guard needs.
pub struct Config {
    /// Where to listen.
    pub listen: SocketAddr,
    /// The broker, `HOST:PORT`.
    pub broker: String,
    /// Its own certificate, and whom it believes.
    pub tls: TlsSettings,
    /// The ward's settings.
    pub settings: Settings,
    /// Who signs tokens and for whom.
    pub parties: Parties,
    /// The key that signs them.
    pub token_key: PublicKey,
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
    acceptor: TlsAcceptor,
    shared: Arc<Shared>,
    versions: Versions,
    change: i64,
}

impl Guard {
    /// Opens the listener and loads the current edition.
    ///
    /// # Errors
    /// Address, certificate, store or edition cannot be used.
    pub async fn bind(
        config: Config,
        reader: Box<dyn Store>,
        writer: Box<dyn Store>,
        verifier: Box<dyn Store>,
    ) -> Result<Self, GuardError> {
        let knowledge = Knowledge::new(reader, writer, config.clock.clone());
        let tls: Arc<ServerConfig> = server_config(config.tls, config.clock.clone(), verifier)?;
        let shared = Arc::new(Shared {
            knowledge,
            registry: Arc::new(Registry::default()),
            rates: Rates::default(),
            settings: config.settings,
            parties: config.parties,
            token_key: config.token_key,
            broker: config.broker,
            policies: RwLock::default(),
            notes: Arc::default(),
            observer: config.observer,
            clock: config.clock,
            sink: config.sink,
        });
        let changes = shared.knowledge.changed_since(i64::MAX).await?;
        shared.take(Versions::from(&changes)).await?;
        let address = config.listen;
        let listener = TcpListener::bind(address).await.map_err(|error| GuardError::Listen { address, error })?;
        Ok(Self {
            listener,
            acceptor: TlsAcceptor::from(tls),
            shared,
            versions: Versions::from(&changes),
            change: changes.to,
        })
    }

    /// The address that it listens on.
    ///
    /// # Errors
    /// The system does not say.
    pub fn local_addr(&self) -> std::io::Result<SocketAddr> {
        self.listener.local_addr()
    }

    /// Serves until `stop` is ready, then ends all sessions and returns.
    pub async fn run(self, stop: impl Future<Output = ()>) {
        if let Ok(address) = self.local_addr() {
            self.shared.emit(Event::Listening { address, edition: self.versions.edition });
        }
        let follower = tokio::spawn(follow(self.shared.clone(), self.change, self.versions));
        let opening = Arc::new(Semaphore::new(MAX_OPENING));
        let mut stop = std::pin::pin!(stop);
        loop {
            tokio::select! {
                () = &mut stop => break,
                accepted = self.listener.accept() => match accepted {
                    Ok((stream, peer)) => {
                        let (shared, acceptor, opening) = (self.shared.clone(), self.acceptor.clone(), opening.clone());
                        tokio::spawn(async move { receive(shared, acceptor, opening, stream, peer).await });
                    }
                    Err(error) => {
                        self.shared.emit(Event::Trouble { what: format!("a connection could not be accepted: {error}") });
                        tokio::time::sleep(Duration::from_millis(100)).await;
                    }
                },
            }
        }
        drop(self.listener);
        follower.abort();
        let deadline = tokio::time::Instant::now() + STOPPING;
        while self.shared.registry.len() > 0 && tokio::time::Instant::now() < deadline {
            self.shared.registry.stop();
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        self.shared.write_notes().await;
    }
}

/// The handshake, then the session.
async fn receive(
    shared: Arc<Shared>,
    acceptor: TlsAcceptor,
    opening: Arc<Semaphore>,
    stream: TcpStream,
    peer: SocketAddr,
) {
    let deadline = tokio::time::Instant::now() + OPENING;
    let refused = |why: String| Event::TlsRefused { peer, why };
    let Ok(permit) = opening.try_acquire_owned() else {
        return shared.emit(refused("too many connections are being opened at once".to_owned()));
    };
    // Small packets are the rule here; waiting to fill segments would only delay them.
    let _ = stream.set_nodelay(true);
    match tokio::time::timeout_at(deadline, acceptor.accept(stream)).await {
        Ok(Ok(stream)) => {
            drop(permit);
            serve(shared, stream, peer, deadline).await;
        }
        Ok(Err(error)) => shared.emit(refused(error.to_string())),
        Err(_) => shared.emit(refused("the handshake was not finished in time".to_owned())),
    }
}

/// Asks the store for what is new, and makes the sessions concerned look again.
async fn follow(shared: Arc<Shared>, mut change: i64, mut known: Versions) {
    let mut troubled = false;
    let mut written = tokio::time::Instant::now();
    let mut writing: Option<tokio::task::JoinHandle<()>> = None;
    loop {
        tokio::time::sleep(FOLLOW).await;
        let now = shared.knowledge.now();
        let changes = match shared.knowledge.changed_since(change).await {
            Ok(changes) => changes,
            Err(error) => {
                if !std::mem::replace(&mut troubled, true) {
                    let what = format!("the store does not answer: {error}; the guard goes on with what it knows");
                    shared.emit(Event::Trouble { what });
                }
                shared.registry.recheck(now, |_| false);
                continue;
            }
        };
        troubled = false;
        // A session that was quicker may have taken the new policies already; then the others must hear of them still.
        let versions = Versions::from(&changes);
        let taken = shared.take(versions).await;
        let mut anew = versions != known || matches!(taken, Ok(true));
        match taken {
            Err(error) if anew => shared.emit(Event::Trouble { what: error.to_string() }),
            Ok(_) if versions.edition != known.edition => shared.emit(Event::Edition { number: versions.edition }),
            _ => {}
        }
        known = versions;
        if shared.trial_is_over(now) {
            shared.end_trial();
            anew = true;
        }
        // Not waited for: whoever holds the store's lock must not hold up a revocation.
        if written.elapsed() >= WRITE_NOTES && writing.as_ref().is_none_or(tokio::task::JoinHandle::is_finished) {
            let shared = shared.clone();
            writing = Some(tokio::spawn(async move { shared.write_notes().await }));
            written = tokio::time::Instant::now();
        }
        let changed: HashSet<DeviceId> = changes.devices.into_iter().collect();
        change = changes.to;
        shared.registry.recheck(now, |device| anew || changed.contains(device));
    }
}
