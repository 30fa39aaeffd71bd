//! From an accepted connection to one whose TLS handshake is done: PROXY protocol, TLS.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use ppp::v2;
use socket2::{SockRef, TcpKeepalive};
use tidy_warden_core::host::Network;
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::Instant;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

use crate::openings::{OPENING, Opening, Openings};

/// How many connections may be in their opening at once. One more, and the oldest of them goes: a good client is done within
/// milliseconds, so the oldest are those that only hold the door open.
const MAX_OPENING: usize = 1024;

/// The longest PROXY header taken behind its first 16 octets.
const MAX_PROXY: usize = 2048;

/// How long a connection without any traffic stands before the system asks whether the other end is there.
const KEEP_ALIVE: Duration = Duration::from_secs(60);

/// A connection whose handshake is done.
pub struct Connection {
    /// Where it comes from: the client itself, also behind a proxy.
    pub peer: SocketAddr,
    /// The certificate that it showed, in DER.
    pub leaf: Option<Arc<[u8]>>,
    /// Whether its TLS session is resumed, so that its chain was not judged this time.
    pub resumed: bool,
    /// When it came.
    pub came: Instant,
    /// Its place among those that are being opened; held until it may stay.
    pub opening: Opening,
}

/// What comes before the handshake.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Before {
    /// Nothing.
    Nothing,
    /// A PROXY protocol header, version 2, from somebody who is believed.
    Proxied,
    /// Whoever it is may not connect: a load balancer does it for all.
    Stranger,
}

impl Before {
    /// What comes before the handshake of `from`, where load balancers tell the clients' addresses or do not.
    pub fn of(proxied: bool, believed: &[Network], from: IpAddr) -> Self {
        match proxied {
            false => Self::Nothing,
            true if believed.iter().any(|network| network.contains(from)) => Self::Proxied,
            true => Self::Stranger,
        }
    }
}

/// Who stands behind a listener.
pub trait House: Send + Sync + 'static {
    /// How the next handshake is done, and what comes before it on a connection from an address.
    fn door(&self, from: IpAddr) -> (TlsAcceptor, Before);

    /// A handshake was not finished, for this reason.
    fn refused(&self, peer: SocketAddr, why: String);

    /// No connection can be accepted at the moment, for this reason.
    fn trouble(&self, why: String);

    /// What becomes of a connection whose handshake is done.
    fn receive(
        self: Arc<Self>,
        stream: Box<TlsStream<TcpStream>>,
        connection: Connection,
    ) -> impl Future<Output = ()> + Send;
}

/// Accepts connections for ever.
pub async fn accept<H: House>(house: Arc<H>, listener: TcpListener, openings: Arc<Openings>) {
    loop {
        match listener.accept().await {
            Ok((stream, peer)) => {
                let opening = openings.enter(MAX_OPENING);
                tokio::spawn(receive(house.clone(), stream, peer, opening));
            }
            Err(error) => {
                house.trouble(format!("a connection could not be accepted: {error}"));
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        }
    }
}

/// Small packets are the rule here, and a client without a keep-alive of its own must not stay for ever when it is gone.
fn prepare(stream: &TcpStream) {
    // Where the system does not take them, the connection works all the same.
    let _ = stream.set_nodelay(true);
    let _ = SockRef::from(stream)
        .set_tcp_keepalive(&TcpKeepalive::new().with_time(KEEP_ALIVE).with_interval(KEEP_ALIVE / 6));
}

/// The handshake, then whatever the house does.
async fn receive<H: House>(house: Arc<H>, stream: TcpStream, peer: SocketAddr, opening: Opening) {
    let came = Instant::now();
    prepare(&stream);
    let shaken = tokio::select! {
        shaken = tokio::time::timeout_at(came + OPENING, shake(&*house, stream, peer)) => shaken
            .unwrap_or_else(|_| Err((peer, "the handshake was not finished in time".to_owned()))),
        () = opening.lost() => Err((peer, "it made room for newer connections, being too slow".to_owned())),
    };
    let (stream, peer) = match shaken {
        Ok(shaken) => shaken,
        Err((peer, why)) => return house.refused(peer, why),
    };
    let (_, tls) = stream.get_ref();
    let leaf = tls.peer_certificates().and_then(|chain| chain.first()).map(|leaf| Arc::from(leaf.as_ref()));
    let resumed = tls.handshake_kind() == Some(rustls::HandshakeKind::Resumed);
    house.receive(stream, Connection { peer, leaf, resumed, came, opening }).await;
}

type Refused = (SocketAddr, String);

async fn shake<H: House>(
    house: &H,
    mut stream: TcpStream,
    peer: SocketAddr,
) -> Result<(Box<TlsStream<TcpStream>>, SocketAddr), Refused> {
    let (acceptor, before) = house.door(peer.ip());
    let from = match before {
        Before::Nothing => peer,
        Before::Proxied => {
            let told = proxied(&mut stream).await.map_err(|why| (peer, format!("no PROXY protocol header: {why}")))?;
            told.unwrap_or(peer)
        }
        Before::Stranger => return Err((peer, "it is none of the load balancers in `proxy_from`".to_owned())),
    };
    // In a box, for it is large and handed on often.
    let stream = Box::pin(acceptor.accept(stream)).await.map_err(|error| (from, handshake(&error)))?;
    Ok((Box::new(stream), from))
}
/// Why a handshake failed, in words of our own where the library's do not tell.
fn handshake(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::UnexpectedEof => "the client went away in the middle of it".to_owned(),
        _ => error.to_string(),
    }
}

/// Reads a PROXY protocol header, version 2: the client's address, or `None` if the proxy speaks for itself.
async fn proxied<S: AsyncRead + Unpin>(stream: &mut S) -> Result<Option<SocketAddr>, String> {
    let mut header = vec![0; 16];
    stream.read_exact(&mut header).await.map_err(|error| error.to_string())?;
    if header[..12] != *v2::PROTOCOL_PREFIX {
        return Err("what came is something else".to_owned());
    }
    let rest = usize::from(u16::from_be_bytes([header[14], header[15]]));
    if rest > MAX_PROXY {
        return Err("it is too long".to_owned());
    }
    header.resize(16 + rest, 0);
    stream.read_exact(&mut header[16..]).await.map_err(|error| error.to_string())?;
    let parsed = v2::Header::try_from(header.as_slice()).map_err(|error| format!("{error:?}"))?;
    if parsed.command == v2::Command::Local {
        return Ok(None);
    }
    match parsed.addresses {
        v2::Addresses::IPv4(addresses) => {
            Ok(Some((IpAddr::V4(addresses.source_address), addresses.source_port).into()))
        }
        v2::Addresses::IPv6(addresses) => {
            Ok(Some((IpAddr::V6(addresses.source_address), addresses.source_port).into()))
        }
        v2::Addresses::Unspecified | v2::Addresses::Unix(_) => Ok(None),
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::AsyncWriteExt;

    use super::*;

    async fn told(bytes: &[u8]) -> Result<Option<SocketAddr>, String> {
        let (mut near, mut far) = tokio::io::duplex(4096);
        far.write_all(bytes).await.unwrap();
        far.write_all(b"after").await.unwrap();
        drop(far);
        let told = proxied(&mut near).await?;
        let mut rest = Vec::new();
        near.read_to_end(&mut rest).await.unwrap();
        assert_eq!(rest, b"after", "nothing behind the header is taken");
        Ok(told)
    }

    #[tokio::test]
    async fn the_address_behind_a_proxy_is_read() {
        let header = |command: u8, family: u8, addresses: &[u8]| {
            let len = u16::try_from(addresses.len()).unwrap().to_be_bytes();
            [&b"\r\n\r\n\0\r\nQUIT\n"[..], &[0x20 | command, family], &len, addresses].concat()
        };
        let v4 = [10, 0, 0, 1, 10, 0, 0, 2, 0x12, 0x34, 0x22, 0xb3];
        assert_eq!(told(&header(1, 0x11, &v4)).await, Ok(Some("10.0.0.1:4660".parse().unwrap())));
        let mut v6 = vec![0; 36];
        v6[15] = 9;
        v6[33] = 5;
        v6.extend_from_slice(&[3, 0, 1, 0xff]); // a TLV behind the addresses
        assert_eq!(told(&header(1, 0x21, &v6)).await, Ok(Some("[::9]:5".parse().unwrap())));
        assert_eq!(told(&header(0, 0, &[])).await, Ok(None), "a health check of the proxy's own");
        assert!(told(b"\x16\x03\x01\x02\x00 a TLS client hello").await.is_err());
        assert!(told(&header(1, 0x11, &v4[..6])).await.is_err());
    }
}
