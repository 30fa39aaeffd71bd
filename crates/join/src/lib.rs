//! The other end of the desk, for a device: it makes its key, asks for its certificate over EST (RFC 7030), waits, and renews.
//!
//! - [`Place`] is where the desk is; [`Desk`] asks it, one connection for each question;
//! - [`hardware`] reads what the machine says of itself.
//!
//! Any EST client does as well; this one needs nothing else.

pub mod hardware;
mod own;
mod verify;

use std::sync::Arc;
use std::time::Duration;

use data_encoding::BASE64;
use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Bytes;
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HOST, RETRY_AFTER};
use hyper::{Method, Request, StatusCode};
use hyper_util::rt::TokioIo;
use rustls::ClientConfig;
use rustls::pki_types::ServerName;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::est;
use tidy_warden_core::host::Endpoint;
use tidy_warden_core::key::{Signer, sha256};
use tidy_warden_core::outfit::Connect;
use tidy_warden_core::rekey;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

/// How long one question may take, the connection included.
const PATIENCE: Duration = Duration::from_secs(30);

/// After how long to come again where an answer does not say.
const USUAL_WAIT: Duration = Duration::from_secs(30);

/// The largest answer that is read, in octets.
const MAX_ANSWER: usize = 1 << 20;

/// Where a desk is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place(Endpoint);

/// A text is not the address of a desk.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("expected https://HOST or https://HOST:PORT")]
pub struct BadPlace;

impl std::str::FromStr for Place {
    type Err = BadPlace;

    fn from_str(text: &str) -> Result<Self, BadPlace> {
        let rest = text.strip_prefix("https://").ok_or(BadPlace)?;
        let rest = rest.strip_suffix('/').unwrap_or(rest);
        let whole = if rest.rsplit_once(':').is_some_and(|(_, port)| !port.contains(']')) {
            rest.to_owned()
        } else {
            format!("{rest}:443")
        };
        whole.parse().map(Self).map_err(|_| BadPlace)
    }
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "https://{}", self.0)
    }
}

/// Why a question was not answered.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum JoinError {
    /// The connection.
    #[error("{0}")]
    Io(#[from] std::io::Error),
    /// TLS.
    #[error("{0}")]
    Tls(#[from] rustls::Error),
    /// HTTP.
    #[error("{0}")]
    Http(String),
    /// It took too long.
    #[error("no answer came in time")]
    TooSlow,
    /// The key is of a type that TLS does not sign with here.
    #[error("the device's key cannot be used with TLS; use p256, p384 or ed25519")]
    Key,
    /// The root that was named is not among those that the desk tells of.
    #[error("the desk tells of no root with this digest")]
    NoRoot,
    /// The answer holds something else than was asked for.
    #[error("the answer cannot be used: {0}")]
    Answer(&'static str),
}

/// What a device proves itself with.
#[derive(Clone)]
pub enum Proof {
    /// Nothing but its key, and what it says.
    None,
    /// A user name and a secret.
    Secret(String, String),
    /// A certificate and those that it sends along, and the key, wherever it is kept.
    Certificate(Vec<Vec<u8>>, Arc<dyn Signer>),
}

/// What a desk says to a request for a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// The certificate, in DER; or the key, as a JWK.
    Given(Vec<u8>),
    /// To wait for a person, and to come again after so long.
    Wait(Duration),
    /// Not now; after so long perhaps.
    Later(Duration, String),
    /// The certificate or key is too young to be renewed.
    TooSoon(String),
    /// No, for this reason; with the status.
    Refused(u16, String),
}

/// A desk whose root is known.
pub struct Desk {
    place: Place,
    roots: Vec<Certificate>,
}

impl Desk {
    /// The desk at a place, which must lead to one of `roots`.
    #[must_use]
    pub fn new(place: Place, roots: Vec<Certificate>) -> Self {
        Self { place, roots }
    }

    /// The same where only SHA-256 of the root's DER is known: what the desk tells of its authorities is believed only as far as it is
    /// that root (RFC 7030 section 4.1.1).
    ///
    /// # Errors
    /// There is none of that digest, or the desk does not answer.
    pub async fn with_digest(place: Place, digest: [u8; 32]) -> Result<Self, JoinError> {
        let config = verify::config(verify::Roots::Nobody, &Proof::None)?;
        let all = certificates(&given(&place, config, &path(None, "cacerts")).await?)?;
        let root = all.into_iter().find(|der| sha256(der) == digest).ok_or(JoinError::NoRoot)?;
        let root = Certificate::from_der(&root).map_err(|_| JoinError::Answer("the root cannot be read"))?;
        Ok(Self::new(place, vec![root]))
    }

    /// The roots that it must lead to.
    #[must_use]
    pub fn roots(&self) -> &[Certificate] {
        &self.roots
    }

    fn config(&self, proof: &Proof) -> Result<ClientConfig, JoinError> {
        verify::config(verify::Roots::These(&self.roots), proof)
    }

    /// All authorities that the desk tells of.
    ///
    /// # Errors
    /// It does not answer, or with something else.
    pub async fn authorities(&self) -> Result<Vec<Certificate>, JoinError> {
        let body = given(&self.place, self.config(&Proof::None)?, &path(None, "cacerts")).await?;
        let read =
            |der: Vec<u8>| Certificate::from_der(&der).map_err(|_| JoinError::Answer("a certificate cannot be read"));
        certificates(&body)?.into_iter().map(read).collect()
    }

    /// The roots that devices are to believe from now on, in PEM (RFC 7468).
    ///
    /// # Errors
    /// It does not answer, or with something else.
    pub async fn roots_text(&self) -> Result<String, JoinError> {
        let body = given(&self.place, self.config(&Proof::None)?, "/roots.pem").await?;
        let read = Certificate::read_all(&body).ok().filter(|all| !all.is_empty());
        read.map(|all| all.iter().map(Certificate::to_pem).collect()).ok_or(JoinError::Answer("it holds no roots"))
    }

    /// Asks for a certificate with a request in DER; of a kind, if one is named. `again` says that it is the next one.
    ///
    /// # Errors
    /// The desk does not answer, or with something else.
    pub async fn ask(
        &self,
        kind: Option<&str>,
        request: &[u8],
        proof: &Proof,
        again: bool,
    ) -> Result<Answer, JoinError> {
        let config = self.config(proof)?;
        let operation = if again { "simplereenroll" } else { "simpleenroll" };
        let mut headers = vec![(CONTENT_TYPE, est::PKCS10.to_owned())];
        if let Proof::Secret(user, secret) = proof {
            headers.push((AUTHORIZATION, format!("Basic {}", BASE64.encode(format!("{user}:{secret}").as_bytes()))));
        }
        let body = Bytes::from(est::encoded(request));
        let (status, body, wait) =
            asked(&self.place, config, Method::POST, &path(kind, operation), &headers, body).await?;
        Ok(match status {
            StatusCode::OK => {
                let all = certificates(&body)?;
                Answer::Given(all.into_iter().next().ok_or(JoinError::Answer("there is no certificate in it"))?)
            }
            other => otherwise(other, &body, wait, again),
        })
    }

    /// Asks for the key that the device shares with the ward next, with a request that the present one signed (see
    /// [`tidy_warden_core::rekey`]).
    ///
    /// # Errors
    /// The desk does not answer.
    pub async fn next_key(&self, request: String) -> Result<Answer, JoinError> {
        let (config, headers) = (self.config(&Proof::None)?, [(CONTENT_TYPE, rekey::KEY_REQUEST.to_owned())]);
        let (status, body, wait) =
            asked(&self.place, config, Method::POST, "/key", &headers, Bytes::from(request)).await?;
        Ok(match status {
            StatusCode::OK => Answer::Given(body.to_vec()),
            other => otherwise(other, &body, wait, true),
        })
    }

    /// How the device connects, by its certificate.
    ///
    /// # Errors
    /// The desk does not answer, or with something else.
    pub async fn connect(&self, proof: &Proof) -> Result<Connect, JoinError> {
        let config = self.config(proof)?;
        let body = given(&self.place, config, "/connect.json").await?;
        serde_json::from_slice(&body).map_err(|_| JoinError::Answer("it does not say how to connect"))
    }
}

/// What a desk says that gives nothing.
fn otherwise(status: StatusCode, body: &[u8], wait: Option<Duration>, again: bool) -> Answer {
    let words = || String::from_utf8_lossy(body).lines().next().unwrap_or_default().to_owned();
    match status {
        StatusCode::ACCEPTED => Answer::Wait(wait.unwrap_or(USUAL_WAIT)),
        StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE => {
            Answer::Later(wait.unwrap_or(USUAL_WAIT), words())
        }
        StatusCode::FORBIDDEN if again && wait.is_some() => Answer::TooSoon(words()),
        other => Answer::Refused(other.as_u16(), words()),
    }
}

fn path(kind: Option<&str>, operation: &str) -> String {
    let kind = kind.map(|kind| format!("{kind}/")).unwrap_or_default();
    format!("/.well-known/est/{kind}{operation}")
}

/// The certificates in the body of an answer.
fn certificates(body: &[u8]) -> Result<Vec<Vec<u8>>, JoinError> {
    let bad = JoinError::Answer("it holds no certificates");
    est::decoded(body).and_then(|der| est::certificates(&der)).ok_or(bad)
}

/// What stands at a path.
async fn given(place: &Place, config: ClientConfig, path: &str) -> Result<Bytes, JoinError> {
    let (status, body, _) = asked(place, config, Method::GET, path, &[], Bytes::new()).await?;
    match status {
        StatusCode::OK => Ok(body),
        other => Err(JoinError::Http(format!("{path} was answered with {other}"))),
    }
}

/// Asks one question on a connection of its own; gives status, body, and how long to wait, if it says that.
async fn asked(
    place: &Place,
    config: ClientConfig,
    method: Method,
    path: &str,
    headers: &[(hyper::header::HeaderName, String)],
    body: Bytes,
) -> Result<(StatusCode, Bytes, Option<Duration>), JoinError> {
    let asking = async {
        let Endpoint { host, port } = &place.0;
        let tcp = TcpStream::connect((host.as_str(), *port)).await?;
        let name = ServerName::try_from(host.clone()).map_err(|_| JoinError::Answer("its name is none"))?;
        let tls = TlsConnector::from(Arc::new(config)).connect(name, tcp).await.map_err(of_tls)?;
        let http = |error: hyper::Error| JoinError::Http(error.to_string());
        let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(tls)).await.map_err(http)?;
        let driver = tokio::spawn(connection);
        let mut request = Request::builder().method(method).uri(path).header(HOST, place.0.to_string());
        for (name, value) in headers {
            request = request.header(name, value);
        }
        let request = request.body(Full::new(body)).map_err(|error| JoinError::Http(error.to_string()))?;
        let response = sender.send_request(request).await.map_err(http)?;
        let status = response.status();
        let wait = response.headers().get(RETRY_AFTER).and_then(|value| value.to_str().ok()?.parse().ok());
        let body = Limited::new(response.into_body(), MAX_ANSWER).collect().await;
        let body = body.map_err(|error| JoinError::Http(error.to_string()))?.to_bytes();
        driver.abort();
        Ok((status, body, wait.map(|seconds: u64| Duration::from_secs(seconds.clamp(1, 3600)))))
    };
    tokio::time::timeout(PATIENCE, asking).await.unwrap_or(Err(JoinError::TooSlow))
}

/// What TLS says, where it is that which failed.
fn of_tls(error: std::io::Error) -> JoinError {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>()) {
        Some(tls) => tls.clone().into(),
        None => error.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_a_host_over_tls() {
        let place = |text: &str| text.parse::<Place>().map(|place| place.0.to_string());
        assert_eq!(place("https://desk.example:8443"), Ok("desk.example:8443".to_owned()));
        assert_eq!(place("https://desk.example/"), Ok("desk.example:443".to_owned()));
        for bad in
            ["http://desk.example", "desk.example", "https://", "https://desk.example/path", "https://desk.example:x"]
        {
            assert!(place(bad).is_err(), "{bad}");
        }
    }
}
