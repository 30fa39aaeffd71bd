//! The guard's own way to the broker.

use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use tidy_warden_core::host::Endpoint;
use tidy_warden_core::mqtt::{
    Ack, Connack, Connect, Frame, PacketType, Properties, Publish, Version, disconnect, ping_request, reason, split,
};
use tidy_warden_core::settings::BrokerAddress;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, DuplexStream, ReadBuf};
use tokio::net::{TcpStream, UnixStream};
use tokio::sync::mpsc::UnboundedSender;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

/// How long the broker may take to accept a connection and to answer CONNECT.
pub(crate) const PATIENCE: Duration = Duration::from_secs(10);

/// The client identifier of the connection that tries the broker without the guard's credentials.
const TRIAL_NAME: &str = ":guard:bypass";

/// The client identifiers of the guard's own connections begin with a `:`, which no device's can.
const HEALTH_NAME: &str = ":guard:health";
const WILL_NAME: &str = ":guard:will";

/// How often the broker is asked whether it is there, and how long it may take to answer.
const ASK: Duration = Duration::from_secs(5);

/// The largest CONNACK taken, in octets.
const MAX_CONNACK: usize = 64 * 1024;

/// Where the broker is, and what the guard shows it.
#[derive(Clone)]
pub struct Upstream {
    address: BrokerAddress,
    login: Option<(String, Vec<u8>)>,
    tls: Option<Tls>,
    /// Who gets the broker's end of each connection, if the broker is within the process.
    pub(crate) inside: Option<UnboundedSender<DuplexStream>>,
}

#[derive(Clone)]
struct Tls {
    server: ServerName<'static>,
    /// With the guard's certificate, if it has one here.
    own: Arc<ClientConfig>,
    /// Without it.
    bare: Arc<ClientConfig>,
}

/// What a broker over TLS is believed by, and what is shown to it; PEM.
#[derive(Clone, Copy)]
pub struct UpstreamPem<'a> {
    /// The certificates that its own must lead to.
    pub authorities: &'a [u8],
    /// The guard's own certificate with its chain, and its key.
    pub identity: Option<(&'a [u8], &'a [u8])>,
}

/// Why a broker's address cannot be used as it was given.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the texts say what the fields are")]
pub enum UpstreamError {
    /// Nothing says which certificates to believe.
    #[error("nothing says which authority the broker's certificate must lead to")]
    NoAuthorities,
    /// A PEM file is of no use.
    #[error("{what}: {error}")]
    Pem { what: &'static str, error: rustls::pki_types::pem::Error },
    /// TLS cannot be set up.
    #[error(transparent)]
    Tls(#[from] rustls::Error),
    /// The host is not a name.
    #[error("`{0}` is not the name of a server")]
    Name(String),
}

/// Whether the broker accepts clients without credentials.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Bypass {
    /// It does: whoever reaches it needs no guard.
    Open,
    /// It does not; how it said so.
    Closed(String),
    /// It could not be asked.
    Unknown(String),
}

impl Upstream {
    /// A broker at `address`. `login` is user name and password; `pem` is needed for a broker over TLS only.
    ///
    /// # Errors
    /// What was given cannot be used for TLS.
    pub fn new(
        address: BrokerAddress,
        login: Option<(String, Vec<u8>)>,
        pem: Option<UpstreamPem<'_>>,
    ) -> Result<Self, UpstreamError> {
        let tls = match &address {
            BrokerAddress::Tls(Endpoint { host, .. }) => {
                let pem = pem.ok_or(UpstreamError::NoAuthorities)?;
                Some(Tls::new(host, pem)?)
            }
            _ => None,
        };
        Ok(Self { address, login, tls, inside: None })
    }

    /// A broker within the process: each connection to it is a pipe, whose other end goes to `inside`.
    #[must_use]
    pub fn within(inside: UnboundedSender<DuplexStream>) -> Self {
        Self { address: BrokerAddress::Builtin, login: None, tls: None, inside: Some(inside) }
    }

    /// Where the broker is, for people.
    #[must_use]
    pub fn address(&self) -> &BrokerAddress {
        &self.address
    }

    /// Opens a connection, with the guard's own certificate if it has one.
    pub(crate) async fn connect(&self) -> io::Result<BrokerStream> {
        if let Some(inside) = &self.inside {
            let (near, far) = tokio::io::duplex(16 * 1024);
            return inside.send(far).map(|()| BrokerStream::Inside(near)).map_err(|_| closed());
        }
        self.open(true).await
    }

    async fn open(&self, own: bool) -> io::Result<BrokerStream> {
        let opening = async {
            match &self.address {
                BrokerAddress::Unix(path) => Ok(BrokerStream::Unix(UnixStream::connect(path).await?)),
                BrokerAddress::Tcp(endpoint) => Ok(BrokerStream::Tcp(tcp(endpoint).await?)),
                BrokerAddress::Tls(endpoint) => {
                    let tls = self.tls.as_ref().ok_or(io::ErrorKind::Unsupported)?;
                    let config = if own { &tls.own } else { &tls.bare };
                    let connector = TlsConnector::from(config.clone());
                    let stream = connector.connect(tls.server.clone(), tcp(endpoint).await?).await?;
                    Ok(BrokerStream::Tls(Box::new(stream)))
                }
                BrokerAddress::Builtin => Err(io::ErrorKind::Unsupported.into()),
            }
        };
        tokio::time::timeout(PATIENCE, opening)
            .await
            .map_err(|_| io::Error::new(io::ErrorKind::TimedOut, "it does not answer"))?
    }

    /// A CONNECT in the guard's name: a client's user name and password never go to the broker.
    pub(crate) fn sign_in<'a>(&'a self, connect: Connect<'a>) -> Connect<'a> {
        let login = self.login.as_ref();
        Connect {
            user_name: login.map(|(user, _)| user.as_str()),
            password: login.map(|(_, password)| password.as_slice()),
            ..connect
        }
    }

    /// Tries the broker as somebody would who goes around the guard: without user name, password and certificate.
    pub async fn bypass(&self) -> Bypass {
        let trial = async {
            let mut stream = match self.open(false).await {
                Ok(stream) => stream,
                // A broker over TLS refuses who shows no certificate while the connection is being opened.
                Err(error) if self.tls.is_some() && error.kind() == io::ErrorKind::InvalidData => {
                    return Bypass::Closed(error.to_string());
                }
                Err(error) => return Bypass::Unknown(error.to_string()),
            };
            match first_answer(&mut stream, &hello(TRIAL_NAME)).await {
                Ok(reason::SUCCESS) => {
                    let goodbye = disconnect(Version::V5, reason::SUCCESS, None);
                    // The answer is known; the goodbye is a courtesy.
                    let _ = stream.write_all(&goodbye).await;
                    let _ = stream.flush().await;
                    Bypass::Open
                }
                Ok(code) => Bypass::Closed(format!("CONNACK 0x{code:02x}")),
                Err(error) if error.kind() == io::ErrorKind::TimedOut => Bypass::Unknown(error.to_string()),
                Err(error) => Bypass::Closed(error.to_string()),
            }
        };
        tokio::time::timeout(PATIENCE * 2, trial)
            .await
            .unwrap_or_else(|_| Bypass::Unknown("it does not answer".to_owned()))
    }

    /// Asks the broker again and again whether it is there, over one connection; ends when it is not, and says why.
    pub(crate) async fn watch(&self, well: impl Fn()) -> io::Result<()> {
        let name = format!("{HEALTH_NAME}:{}", std::process::id());
        let mut own = self.own(hello(&name), MAX_CONNACK).await?;
        loop {
            own.write(&ping_request()).await?;
            let answer = async {
                loop {
                    let packet = own.packet().await?;
                    match frame(&packet)?.packet_type {
                        PacketType::Pingresp => return Ok(()),
                        PacketType::Disconnect => return Err(invalid("it said goodbye")),
                        _ => {}
                    }
                }
            };
            tokio::time::timeout(ASK, answer)
                .await
                .map_err(|_| io::Error::new(io::ErrorKind::TimedOut, "it did not answer PINGREQ in time"))??;
            well();
            // A broker that goes away is noticed at once.
            let quiet = own.stream.read_buf(&mut own.input);
            match tokio::time::timeout(ASK, quiet).await {
                Ok(Ok(0)) => return Err(closed()),
                Ok(Err(error)) => return Err(error),
                Ok(Ok(_)) | Err(_) => {}
            }
        }
    }

    /// Publishes one message in the guard's name, and waits until the broker has it.
    pub(crate) async fn publish(&self, message: &Publish<'_>) -> io::Result<()> {
        let name = format!("{WILL_NAME}:{}", std::process::id());
        let mut own = self.own(hello(&name), MAX_CONNACK).await?;
        let exchange = async {
            own.write(&message.to_bytes(Version::V5)).await?;
            // A message of QoS 0 has no answer.
            let mut waiting = message.qos > 0;
            while waiting {
                let packet = own.packet().await?;
                let frame = frame(&packet)?;
                if !matches!(frame.packet_type, PacketType::Puback | PacketType::Pubrec | PacketType::Pubcomp) {
                    continue;
                }
                let ack = Ack::parse(&frame, Version::V5).map_err(|error| invalid(error.what))?;
                if ack.code >= reason::UNSPECIFIED {
                    return Err(io::Error::other(format!("the broker refused it with code 0x{:02x}", ack.code)));
                }
                waiting = frame.packet_type == PacketType::Pubrec;
                if waiting {
                    let release = Ack { packet_type: PacketType::Pubrel, ..ack };
                    own.write(&release.to_bytes(Version::V5, None)).await?;
                }
            }
            own.write(&disconnect(Version::V5, reason::SUCCESS, None)).await?;
            own.stream.shutdown().await?;
            // What is closed before the broker has read it may be lost.
            while own.stream.read_buf(&mut own.input).await? > 0 {
                own.input.clear();
            }
            Ok(())
        };
        tokio::time::timeout(PATIENCE, exchange)
            .await
            .map_err(|_| io::Error::new(io::ErrorKind::TimedOut, "the broker did not take it in time"))?
    }

    /// Begins a session of the guard's own, in which the broker sends packets of at most `largest` octets.
    pub(crate) async fn own(&self, connect: Connect<'_>, largest: usize) -> io::Result<Own> {
        match self.begin(connect).await? {
            (stream, reason::SUCCESS) => Ok(Own { stream, input: Vec::new(), largest }),
            (_, code) => Err(invalid(format!("the broker refused the connection with code 0x{code:02x}"))),
        }
    }

    /// Begins a session in the guard's name; gives the connection, and the code of the broker's answer.
    pub(crate) async fn begin(&self, connect: Connect<'_>) -> io::Result<(BrokerStream, u8)> {
        let mut stream = self.connect().await?;
        let code = first_answer(&mut stream, &self.sign_in(connect)).await?;
        Ok((stream, code))
    }
}

/// A connection to the broker in the guard's own name, MQTT 5.0.
pub(crate) struct Own {
    stream: BrokerStream,
    input: Vec<u8>,
    largest: usize,
}

impl Own {
    pub(crate) async fn write(&mut self, octets: &[u8]) -> io::Result<()> {
        self.stream.write_all(octets).await?;
        self.stream.flush().await
    }

    /// The next packet, whole.
    pub(crate) async fn packet(&mut self) -> io::Result<Vec<u8>> {
        next_packet(&mut self.stream, &mut self.input, self.largest).await
    }
}

/// The next packet, whole; what came behind it stays in `input`.
async fn next_packet(stream: &mut BrokerStream, input: &mut Vec<u8>, largest: usize) -> io::Result<Vec<u8>> {
    loop {
        let whole = split(input, largest).map_err(|error| invalid(error.what))?.map(|frame| frame.whole.len());
        if let Some(octets) = whole {
            return Ok(input.drain(..octets).collect());
        }
        if stream.read_buf(input).await? == 0 {
            return Err(closed());
        }
    }
}

/// A packet that [`Own::packet`] gave.
pub(crate) fn frame(packet: &[u8]) -> io::Result<Frame<'_>> {
    split(packet, packet.len()).ok().flatten().ok_or_else(|| invalid("the broker sent no MQTT"))
}

pub(crate) fn invalid(what: impl Into<String>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.into())
}

fn closed() -> io::Error {
    io::Error::new(io::ErrorKind::UnexpectedEof, "the broker closed the connection")
}

async fn tcp(endpoint: &Endpoint) -> io::Result<TcpStream> {
    let stream = TcpStream::connect((endpoint.host.as_str(), endpoint.port)).await?;
    stream.set_nodelay(true)?;
    Ok(stream)
}

/// A CONNECT that shows nothing.
pub(crate) fn hello(client_id: &str) -> Connect<'_> {
    Connect {
        version: Version::V5,
        clean_start: true,
        keep_alive: 30,
        client_id,
        will: None,
        user_name: None,
        password: None,
        properties: Properties::default(),
    }
}

/// Sends a CONNECT and gives the code of the answer.
async fn first_answer(stream: &mut BrokerStream, connect: &Connect<'_>) -> io::Result<u8> {
    let answer = async {
        stream.write_all(&connect.to_bytes()).await?;
        stream.flush().await?;
        let packet = next_packet(stream, &mut Vec::new(), MAX_CONNACK).await?;
        let frame = frame(&packet)?;
        if frame.packet_type != PacketType::Connack {
            return Err(invalid("it answered CONNECT with something else"));
        }
        Connack::parse(&frame, connect.version).map(|connack| connack.code).map_err(|error| invalid(error.what))
    };
    tokio::time::timeout(PATIENCE, answer)
        .await
        .map_err(|_| io::Error::new(io::ErrorKind::TimedOut, "it did not answer CONNECT in time"))?
}

impl Tls {
    fn new(host: &str, pem: UpstreamPem<'_>) -> Result<Self, UpstreamError> {
        let server = ServerName::try_from(host.to_owned()).map_err(|_| UpstreamError::Name(host.to_owned()))?;
        let wrong = |what| move |error| UpstreamError::Pem { what, error };
        let certificates = |bytes, what| {
            let read = CertificateDer::pem_slice_iter(bytes).collect::<Result<Vec<_>, _>>().map_err(wrong(what))?;
            let none = rustls::pki_types::pem::Error::NoItemsFound;
            if read.is_empty() { Err(UpstreamError::Pem { what, error: none }) } else { Ok(read) }
        };
        let mut roots = RootCertStore::empty();
        for root in certificates(pem.authorities, "the broker's authorities")? {
            roots.add(root)?;
        }
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let builder = || -> Result<_, rustls::Error> {
            Ok(ClientConfig::builder_with_provider(provider.clone())
                .with_safe_default_protocol_versions()?
                .with_root_certificates(roots.clone()))
        };
        let bare = Arc::new(builder()?.with_no_client_auth());
        let own = match pem.identity {
            None => bare.clone(),
            Some((chain, key)) => {
                let chain = certificates(chain, "the guard's certificate at the broker")?;
                let key = PrivateKeyDer::from_pem_slice(key).map_err(wrong("the guard's key at the broker"))?;
                Arc::new(builder()?.with_client_auth_cert(chain, key)?)
            }
        };
        Ok(Self { server, own, bare })
    }
}

/// Opens a client's session in its name and ends it with a goodbye.
pub(crate) async fn take_over(upstream: &Upstream, connect: Connect<'_>) -> io::Result<()> {
    let version = connect.version;
    let (mut stream, code) = upstream.begin(connect).await?;
    if code != reason::SUCCESS {
        return Err(io::Error::other(format!("CONNACK 0x{code:02x}")));
    }
    stream.write_all(&disconnect(version, reason::SUCCESS, None)).await?;
    stream.flush().await?;
    stream.shutdown().await
}

/// A connection to the broker.
pub(crate) enum BrokerStream {
    Tcp(TcpStream),
    Tls(Box<TlsStream<TcpStream>>),
    Unix(UnixStream),
    /// In tests: without sockets.
    Inside(DuplexStream),
}

/// Calls a method of whichever stream it is.
macro_rules! whichever {
    ($stream:expr, $method:ident $(, $argument:expr)*) => {
        match $stream.get_mut() {
            BrokerStream::Tcp(stream) => Pin::new(stream).$method($($argument),*),
            BrokerStream::Tls(stream) => Pin::new(&mut **stream).$method($($argument),*),
            BrokerStream::Unix(stream) => Pin::new(stream).$method($($argument),*),
            BrokerStream::Inside(stream) => Pin::new(stream).$method($($argument),*),
        }
    };
}

impl AsyncRead for BrokerStream {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        whichever!(self, poll_read, cx, into)
    }
}

impl AsyncWrite for BrokerStream {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        whichever!(self, poll_write, cx, bytes)
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        whichever!(self, poll_flush, cx)
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        whichever!(self, poll_shutdown, cx)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use tidy_warden_core::mqtt::{Properties, connack};
    use tokio::io::DuplexStream;
    use tokio::sync::mpsc::{UnboundedReceiver, unbounded_channel};

    use super::*;

    /// A way to a broker that is played, and the broker's ends.
    fn upstream() -> (Upstream, UnboundedReceiver<DuplexStream>) {
        let (inside, reached) = unbounded_channel();
        let address = BrokerAddress::Tcp(Endpoint { host: "localhost".into(), port: 1883 });
        let login = Some(("guard".to_owned(), b"secret".to_vec()));
        let mut upstream = Upstream::new(address, login, None).unwrap();
        upstream.inside = Some(inside);
        (upstream, reached)
    }

    /// The broker's end of a connection.
    struct Played {
        stream: DuplexStream,
        input: Vec<u8>,
    }

    impl Played {
        /// Takes a connection, with this code.
        async fn accept(reached: &mut UnboundedReceiver<DuplexStream>, code: u8) -> Self {
            let mut played = Self { stream: reached.recv().await.unwrap(), input: Vec::new() };
            let packet = played.packet().await.unwrap();
            let connect = frame(&packet).unwrap();
            let connect = Connect::parse(&connect).unwrap();
            assert!(connect.client_id.starts_with(':'), "no device can have the name {}", connect.client_id);
            assert_eq!((connect.user_name, connect.password), (Some("guard"), Some(&b"secret"[..])));
            played.say(&connack(Version::V5, code, None)).await;
            played
        }

        async fn say(&mut self, octets: &[u8]) {
            // The guard may be gone.
            let _ = self.stream.write_all(octets).await;
        }

        /// The next packet; `None` at the end.
        async fn packet(&mut self) -> Option<Vec<u8>> {
            loop {
                if let Some(len) = split(&self.input, 1 << 20).unwrap().map(|frame| frame.whole.len()) {
                    return Some(self.input.drain(..len).collect());
                }
                if self.stream.read_buf(&mut self.input).await.unwrap() == 0 {
                    return None;
                }
            }
        }

        async fn kind(&mut self) -> Option<PacketType> {
            self.packet().await.map(|packet| frame(&packet).unwrap().packet_type)
        }
    }

    fn message(qos: u8) -> Publish<'static> {
        let (packet_id, properties) = ((qos > 0).then_some(1), Properties::default());
        Publish { dup: false, qos, retain: false, topic: "rope/ossel/wv-1/gone", packet_id, properties, payload: b"x" }
    }

    fn ack(packet_type: PacketType, code: u8) -> Vec<u8> {
        Ack { packet_type, packet_id: 1, code }.to_bytes(Version::V5, None)
    }

    #[tokio::test(start_paused = true)]
    async fn a_message_of_the_guards_own_is_published_when_the_broker_has_it() {
        for qos in 0..3 {
            let (upstream, mut reached) = upstream();
            let publish = message(qos);
            let broker = async {
                let mut broker = Played::accept(&mut reached, reason::SUCCESS).await;
                assert_eq!(broker.packet().await.unwrap(), message(qos).to_bytes(Version::V5));
                // What is not for it changes nothing.
                broker.say(&ping_request()).await;
                match qos {
                    0 => {}
                    1 => broker.say(&ack(PacketType::Puback, reason::SUCCESS)).await,
                    _ => {
                        broker.say(&ack(PacketType::Pubrec, reason::SUCCESS)).await;
                        assert_eq!(broker.kind().await, Some(PacketType::Pubrel));
                        broker.say(&ack(PacketType::Pubcomp, reason::SUCCESS)).await;
                    }
                }
                assert_eq!(broker.kind().await, Some(PacketType::Disconnect), "it says goodbye");
            };
            let (published, ()) = tokio::join!(upstream.publish(&publish), broker);
            published.unwrap();
        }
    }

    #[tokio::test(start_paused = true)]
    async fn what_the_broker_does_not_take_is_told_with_the_reason() {
        let publish = message(1);
        let (upstream, mut reached) = upstream();
        let refusing = async { drop(Played::accept(&mut reached, reason::NOT_AUTHORIZED).await) };
        let (refused, ()) = tokio::join!(upstream.publish(&publish), refusing);
        assert!(refused.unwrap_err().to_string().contains("0x87"));

        for (answer, why) in [
            (ack(PacketType::Puback, reason::QUOTA), "0x97"),
            (vec![0xff; 8], ""),
            (disconnect(Version::V5, reason::SHUTTING_DOWN, None), "closed the connection"),
        ] {
            let broker = async {
                let mut broker = Played::accept(&mut reached, reason::SUCCESS).await;
                broker.packet().await.unwrap();
                broker.say(&answer).await;
            };
            let (refused, ()) = tokio::join!(upstream.publish(&publish), broker);
            let error = refused.unwrap_err().to_string();
            assert!(error.contains(why), "{answer:x?}: {error}");
        }

        // One that says nothing is not waited for for ever.
        let silent = async {
            let mut broker = Played::accept(&mut reached, reason::SUCCESS).await;
            while broker.packet().await.is_some() {}
        };
        let (refused, ()) = tokio::join!(upstream.publish(&publish), silent);
        assert_eq!(refused.unwrap_err().kind(), io::ErrorKind::TimedOut);
        // One that promises a packet larger than is taken is not listened to.
        let large = async {
            let mut broker = Played::accept(&mut reached, reason::SUCCESS).await;
            broker.packet().await.unwrap();
            broker.say(&[0x30, 0xff, 0xff, 0xff, 0x7f]).await;
        };
        let (refused, ()) = tokio::join!(upstream.publish(&publish), large);
        assert_eq!(refused.unwrap_err().kind(), io::ErrorKind::InvalidData);
    }

    #[tokio::test(start_paused = true)]
    async fn a_broker_that_goes_away_in_any_way_is_noticed() {
        let ping_answer = [0xd0, 0];
        for (way, kind) in [
            ("silent", io::ErrorKind::TimedOut),
            ("goodbye", io::ErrorKind::InvalidData),
            ("closed", io::ErrorKind::UnexpectedEof),
        ] {
            let (upstream, mut reached) = upstream();
            let answered = AtomicUsize::new(0);
            let watched = upstream.watch(|| {
                answered.fetch_add(1, Ordering::Relaxed);
            });
            let broker = async {
                let mut broker = Played::accept(&mut reached, reason::SUCCESS).await;
                for _ in 0..3 {
                    assert_eq!(broker.kind().await, Some(PacketType::Pingreq));
                    broker.say(&ping_answer).await;
                }
                match way {
                    "silent" => while broker.packet().await.is_some() {},
                    "goodbye" => {
                        assert_eq!(broker.kind().await, Some(PacketType::Pingreq));
                        broker.say(&disconnect(Version::V5, reason::SHUTTING_DOWN, None)).await;
                        while broker.packet().await.is_some() {}
                    }
                    _ => drop(broker),
                }
            };
            let (ended, ()) = tokio::join!(watched, broker);
            assert_eq!(ended.unwrap_err().kind(), kind, "{way}");
            assert_eq!(answered.load(Ordering::Relaxed), 3, "{way}");
        }
    }

    #[test]
    fn what_a_client_signs_in_with_never_reaches_the_broker() {
        let (mut upstream, _) = upstream();
        let client = Connect { user_name: Some("wv-1"), password: Some(b"a token"), ..hello("wv-1") };
        let shown = upstream.sign_in(client.clone());
        assert_eq!((shown.client_id, shown.user_name, shown.password), ("wv-1", Some("guard"), Some(&b"secret"[..])));
        upstream.login = None;
        let shown = upstream.sign_in(client);
        assert_eq!((shown.user_name, shown.password), (None, None));
    }
}
