//! From a connection whose handshake is done to a client that speaks MQTT, over WebSocket perhaps.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use tidy_warden_serve::listener::{Before, Connection, House};
use tidy_warden_serve::openings::OPENING;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

use crate::Event;
use crate::session::serve;
use crate::shared::Shared;
use crate::websocket;

/// What a listener speaks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Speech {
    /// MQTT over TLS.
    Mqtt,
    /// MQTT over WebSocket over TLS.
    WebSocket,
}

/// The guard behind one of its listeners.
pub(crate) struct Entrance {
    pub(crate) shared: Arc<Shared>,
    pub(crate) form: Speech,
}

impl House for Entrance {
    fn door(&self, from: IpAddr) -> (TlsAcceptor, Before) {
        let live = self.shared.live();
        let acceptor = match self.form {
            Speech::Mqtt => &live.acceptor,
            Speech::WebSocket => &live.http_acceptor,
        };
        let settings = &live.settings.guard;
        (acceptor.clone(), Before::of(settings.proxy_protocol, &settings.proxy_from, from))
    }

    fn refused(&self, peer: SocketAddr, why: String) {
        self.shared.metrics.handshake("refused");
        self.shared.emit(Event::TlsRefused { peer, why });
    }

    fn trouble(&self, why: String) {
        self.shared.emit(Event::Trouble { what: why });
    }

    async fn receive(self: Arc<Self>, stream: Box<TlsStream<TcpStream>>, connection: Connection) {
        let shared = self.shared.clone();
        shared.metrics.handshake(if connection.resumed { "resumed" } else { "full" });
        match self.form {
            Speech::Mqtt => begin(shared, stream, connection).await,
            Speech::WebSocket => {
                let (peer, end) = (connection.peer, connection.came + OPENING);
                let max = usize::try_from(shared.live().settings.guard.max_packet).unwrap_or(usize::MAX);
                match tokio::time::timeout_at(end, websocket::accept(stream, max)).await {
                    Ok(Ok(stream)) => begin(shared, stream, connection).await,
                    Ok(Err(why)) => shared.emit(Event::TlsRefused { peer, why: format!("no WebSocket: {why}") }),
                    Err(_) => shared.emit(Event::TlsRefused { peer, why: "no WebSocket came in time".to_owned() }),
                }
            }
        }
    }
}

/// The session itself. It lives long and most of the time does nothing, so what opening it took is not carried along.
async fn begin<S>(shared: Arc<Shared>, stream: S, connection: Connection)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    Box::pin(serve(shared, stream, connection)).await;
}
