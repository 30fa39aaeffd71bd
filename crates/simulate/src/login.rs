//! How a simulated device connects: TLS with its certificate or a token, then CONNECT.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use tidy_warden_core::mqtt::{Connack, Connect, Properties, PropertyId, Version, Will, reason, split};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use crate::device::{Device, MAX_PACKET, PATIENCE, invalid};

/// What a device connects with, and how. TLS sessions are kept in it: a second connection with the same login resumes.
#[derive(Clone)]
pub struct Login {
    tls: Arc<ClientConfig>,
    server: ServerName<'static>,
    /// The client identifier.
    pub client_id: String,
    /// User name and password (a token).
    pub token: Option<(String, Vec<u8>)>,
    /// The MQTT version.
    pub version: Version,
    /// Topic and payload of a will.
    pub will: Option<(String, Vec<u8>)>,
    /// Seconds; 0 for none.
    pub keep_alive: u16,
}

/// Why a connection did not come about.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ConnectError {
    /// The connection failed before MQTT began, as by a TLS alert.
    #[error("{}", handshake_words(.0))]
    Io(#[from] io::Error),
    /// TLS cannot be set up with what was given.
    #[error("{0}")]
    Tls(#[from] rustls::Error),
    /// The CONNACK refuses.
    #[error("CONNACK 0x{code:02x}{}", reason.as_ref().map(|text| format!(": {text}")).unwrap_or_default())]
    Refused {
        /// Its code.
        code: u8,
        /// Its reason string, in MQTT 5.0.
        reason: Option<String>,
        /// Whether the TLS session was resumed.
        resumed: bool,
    },
}

/// What became of a TLS handshake, in words of what the two sides showed each other.
#[must_use]
pub fn handshake_words(error: &io::Error) -> String {
    use rustls::{AlertDescription as Alert, CertificateError as Bad, Error};
    let words = match error.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) {
        Some(Error::InvalidCertificate(bad)) => match bad {
            Bad::UnknownIssuer => "the server's certificate does not lead to the root in the outfit",
            Bad::Expired | Bad::ExpiredContext { .. } => "the server's certificate has ended",
            Bad::NotValidYet | Bad::NotValidYetContext { .. } => "the server's certificate is not valid yet",
            Bad::NotValidForName | Bad::NotValidForNameContext { .. } => {
                "the server's certificate does not have the name that the outfit says"
            }
            other => return format!("the server's certificate is refused: {other:?}"),
        },
        Some(Error::AlertReceived(alert)) => match alert {
            Alert::UnknownCA => "the server does not know the authority of the device's certificate",
            Alert::CertificateExpired => "the server says that the device's certificate has ended",
            Alert::CertificateRevoked => "the server says that the device's certificate is revoked",
            Alert::BadCertificate | Alert::CertificateUnknown | Alert::AccessDenied => {
                "the server refused the device's certificate"
            }
            Alert::CertificateRequired => "the server wants a certificate, and none was shown",
            Alert::DecryptError => "the server says that the device has not the key of its certificate",
            other => return format!("the server ended the handshake: {other:?}"),
        },
        Some(Error::InvalidMessage(_)) => "the server does not speak TLS",
        _ if error.kind() == io::ErrorKind::UnexpectedEof => "the server closed the connection",
        _ => return error.to_string(),
    };
    words.to_owned()
}

impl Login {
    /// A login that trusts `root` (DER) and expects the server to be `server`. `identity` is a chain and a key in DER (PKCS#8, SEC 1 or PKCS#1).
    ///
    /// # Errors
    /// What was given cannot be used for TLS.
    pub fn new(
        root: &[u8],
        identity: Option<(Vec<Vec<u8>>, Vec<u8>)>,
        server: &str,
        client_id: &str,
    ) -> Result<Self, ConnectError> {
        let mut roots = RootCertStore::empty();
        roots.add(CertificateDer::from(root.to_vec()))?;
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let builder = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_root_certificates(roots);
        let tls = match identity {
            Some((chain, key)) => {
                let chain = chain.into_iter().map(CertificateDer::from).collect();
                let key = PrivateKeyDer::try_from(key)
                    .map_err(|_| io::Error::other("the key is neither PKCS#8, SEC 1 nor PKCS#1"))?;
                builder.with_client_auth_cert(chain, key)?
            }
            None => builder.with_no_client_auth(),
        };
        let server = ServerName::try_from(server.to_owned()).map_err(io::Error::other)?;
        let client_id = client_id.to_owned();
        Ok(Self {
            tls: Arc::new(tls),
            server,
            client_id,
            token: None,
            version: Version::V5,
            will: None,
            keep_alive: 30,
        })
    }

    /// A login with a key that need not belong to the certificate, as a thief would try it who has only the certificate.
    ///
    /// # Errors
    /// What was given cannot be used for TLS.
    pub fn with_any_key(
        root: &[u8],
        (chain, key): (Vec<Vec<u8>>, Vec<u8>),
        server: &str,
        client_id: &str,
    ) -> Result<Self, ConnectError> {
        let login = Self::new(root, None, server, client_id)?;
        let provider = rustls::crypto::aws_lc_rs::default_provider();
        let key = provider.key_provider.load_private_key(PrivatePkcs8KeyDer::from(key).into())?;
        let chain = chain.into_iter().map(CertificateDer::from).collect();
        let shown = rustls::sign::SingleCertAndKey::from(rustls::sign::CertifiedKey::new(chain, key));
        let mut tls = ClientConfig::clone(&login.tls);
        tls.client_auth_cert_resolver = Arc::new(shown);
        Ok(Self { tls: Arc::new(tls), ..login })
    }

    /// The same login without TLS sessions kept, so that each connection makes a full handshake; and in a mood to stay: no
    /// pings are sent, so no keep-alive is asked for.
    #[must_use]
    pub fn forgetful(&self) -> Self {
        let mut tls = ClientConfig::clone(&self.tls);
        tls.resumption = rustls::client::Resumption::disabled();
        Self { tls: Arc::new(tls), keep_alive: 0, ..self.clone() }
    }

    /// Makes the TLS handshake and closes the connection.
    ///
    /// # Errors
    /// The handshake fails.
    pub async fn handshake(&self, address: SocketAddr) -> Result<(), ConnectError> {
        let Secured { mut stream, .. } = self.secure(address).await?;
        // The other side may be quicker.
        let _ = stream.shutdown().await;
        Ok(())
    }

    /// Makes the TLS handshake.
    ///
    /// # Errors
    /// The connection or the handshake fails.
    pub async fn secure(&self, address: SocketAddr) -> io::Result<Secured> {
        self.secure_over(TcpStream::connect(address).await?).await
    }

    /// Makes the TLS handshake over a connection that is open, such as one on which a proxy spoke first.
    ///
    /// # Errors
    /// The handshake fails.
    pub async fn secure_over(&self, tcp: TcpStream) -> io::Result<Secured> {
        tcp.set_nodelay(true)?;
        self.shake(tcp).await.map(|stream| Secured { stream, input: Vec::new() })
    }

    /// Does the TLS handshake over whatever carries octets.
    ///
    /// # Errors
    /// The handshake fails.
    pub async fn shake<S: AsyncRead + AsyncWrite + Unpin>(&self, stream: S) -> io::Result<TlsStream<S>> {
        TlsConnector::from(self.tls.clone()).connect(self.server.clone(), stream).await
    }

    /// Sends CONNECT and waits for its answer.
    ///
    /// # Errors
    /// The session does not come about.
    pub async fn open(&self, secured: Secured) -> Result<Device, ConnectError> {
        let stream = secured.stream;
        let resumed = stream.get_ref().1.handshake_kind() == Some(rustls::HandshakeKind::Resumed);
        let mut device = Device::new(stream, self.version, resumed);
        let will = self.will.as_ref().map(|(topic, payload)| Will {
            topic,
            payload,
            qos: 0,
            retain: false,
            properties: Properties::default(),
        });
        let connect = Connect {
            version: self.version,
            clean_start: true,
            keep_alive: self.keep_alive,
            client_id: &self.client_id,
            will,
            user_name: self.token.as_ref().map(|(name, _)| name.as_str()),
            password: self.token.as_ref().map(|(_, token)| token.as_slice()),
            properties: Properties::default(),
        };
        device.send(&connect.to_bytes()).await?;
        let packet = device.packet().await?;
        let frame =
            split(&packet, MAX_PACKET).map_err(invalid)?.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidData))?;
        let connack = Connack::parse(&frame, self.version).map_err(invalid)?;
        if connack.code != reason::SUCCESS {
            let text = connack.properties.text(PropertyId::ReasonString).map(str::to_owned);
            let resumed = device.resumed;
            return Err(ConnectError::Refused { code: connack.code, reason: text, resumed });
        }
        Ok(device)
    }

    /// Connects to `address`.
    ///
    /// # Errors
    /// The connection does not come about.
    pub async fn connect(&self, address: SocketAddr) -> Result<Device, ConnectError> {
        let opening = async { self.open(self.secure(address).await?).await };
        tokio::time::timeout(PATIENCE * 2, opening).await.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))?
    }
}

/// A connection whose TLS handshake is done.
pub struct Secured {
    stream: TlsStream<TcpStream>,
    /// What came behind the last packet.
    input: Vec<u8>,
}

impl Secured {
    /// Sends octets as they are, MQTT or not.
    ///
    /// # Errors
    /// The connection ended.
    pub async fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.stream.write_all(bytes).await?;
        self.stream.flush().await
    }

    /// The next packet as its octets; `None` at the end of the connection, or if none comes within `patience`.
    pub async fn next_packet(&mut self, patience: Duration) -> Option<Vec<u8>> {
        let read = async {
            loop {
                if let Some(len) = split(&self.input, MAX_PACKET).ok()?.map(|frame| frame.whole.len()) {
                    return Some(self.input.drain(..len).collect());
                }
                if self.stream.read_buf(&mut self.input).await.ok()? == 0 {
                    return None;
                }
            }
        };
        tokio::time::timeout(patience, read).await.ok()?
    }

    /// Waits until the other side closes the connection, but no longer than `patience`.
    pub async fn closed(mut self, patience: Duration) {
        let all = async {
            let mut rest = [0; 512];
            while self.stream.read(&mut rest).await.is_ok_and(|len| len > 0) {}
        };
        // What matters is that it is over.
        let _ = tokio::time::timeout(patience, all).await;
    }

    /// Version and cipher suite, for people.
    #[must_use]
    pub fn told(&self) -> String {
        let (_, tls) = self.stream.get_ref();
        let version = match tls.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3".to_owned(),
            Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2".to_owned(),
            other => format!("{other:?}"),
        };
        let suite = tls.negotiated_cipher_suite().map(|suite| format!("{:?}", suite.suite()));
        format!("{version}, {}", suite.unwrap_or_default())
    }
}
