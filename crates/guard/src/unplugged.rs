//! A guard without sockets, for simulations: its clients and its broker are at the other ends of pipes in memory, and it follows the
//! store and writes what it counted when it is told to. All that decides is the guard's own code.

use std::net::SocketAddr;
use std::sync::Arc;

use tidy_warden_core::id::PostName;
use tidy_warden_core::time::Clock;
use tidy_warden_serve::listener::Connection;
use tidy_warden_serve::openings::Openings;
use tidy_warden_store::StoreError;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::TlsAcceptor;

use crate::follower::{Follower, Position};
use crate::live::LiveConfig;
use crate::server::{Begun, begin};
use crate::session;
use crate::shared::{GuardError, Shared};
use crate::{Head, Instance, Sink, Stores};

/// How many clients may be on their way in.
const MOST_OPENING: usize = 1_000_000;

/// A guard without sockets.
pub struct Unplugged {
    shared: Arc<Shared>,
    follower: Follower,
    openings: Arc<Openings>,
    name: PostName,
    is_first: bool,
}

impl Unplugged {
    /// Loads the current edition. The broker of `live` should be one [within the process](crate::Upstream::within).
    ///
    /// # Errors
    /// Certificate, store or edition cannot be used.
    pub async fn new(
        live: LiveConfig,
        instance: Instance,
        clock: Arc<dyn Clock>,
        stores: Stores,
        sink: Sink,
    ) -> Result<Self, GuardError> {
        let nothing = Head { number: 0, hash: [0; 32] };
        let Begun { shared, changes, versions, .. } =
            begin(live, clock, stores, instance.actor, nothing, (sink, None)).await?;
        let follower = Follower::new(
            shared.clone(),
            Position { change: changes.to, versions, tokens: changes.tokens, behind: false },
        );
        Ok(Self { shared, follower, openings: Arc::default(), name: instance.name, is_first: true })
    }

    /// What its listener would do the TLS handshake with.
    #[must_use]
    pub fn acceptor(&self) -> TlsAcceptor {
        self.shared.live().acceptor.clone()
    }

    /// Serves one client, who showed a certificate in a handshake that somebody else did, until its session ends.
    pub fn serve<S>(&self, stream: S, peer: SocketAddr, leaf: Arc<[u8]>) -> impl Future<Output = ()> + Send + use<S>
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + Sync,
    {
        let opening = self.openings.enter(MOST_OPENING);
        let came = tokio::time::Instant::now();
        session::serve(
            self.shared.clone(),
            stream,
            Connection { peer, leaf: Some(leaf), resumed: false, came, opening },
        )
    }

    /// Deals with all that is new in the store, as the guard does as soon as it hears of it.
    pub async fn follow(&mut self) {
        self.follower.round().await;
    }

    /// Writes which credentials were used, which sessions the broker keeps, and which sessions there are, as the guard does every
    /// moment.
    ///
    /// # Errors
    /// The store does not take it.
    pub async fn keep(&mut self) -> Result<(), StoreError> {
        self.shared.write_uses(usize::MAX).await?;
        self.shared.write_kept().await?;
        self.shared.meet(&self.name, self.is_first).await?;
        self.is_first = false;
        Ok(())
    }

    /// Writes what was counted of messages, as the guard does now and then.
    ///
    /// # Errors
    /// The store does not take it.
    pub async fn count(&self) -> Result<(), StoreError> {
        self.shared.write_traffic(usize::MAX).await.map(drop)
    }
}
