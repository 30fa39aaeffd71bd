//! Notices are sent here: each by one POST, to an address that was looked at.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Bytes;
use hyper::header::{CONTENT_TYPE, HOST, USER_AGENT};
use hyper::{Method, Request, StatusCode};
use hyper_util::rt::TokioIo;
use tidy_warden_core::key::Signer;
use tidy_warden_core::notice::{self, CONTENT_TYPE as JSON, NoticeRecord, Target, is_private};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::OperatorStore;
use tidy_warden_store::acts::notice::Sent;
use tidy_warden_ward::notice::{forget, settle, take};
use tidy_warden_ward::problem::Problem;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName};
use tokio_rustls::rustls::{ClientConfig, RootCertStore, crypto};

use crate::Event;
use crate::beside::Seldom;
use crate::state::Desk;

/// How often it is looked whether something is to be sent.
pub(crate) const LOOK: Duration = Duration::from_secs(1);

/// How long one may take, the connection included; and the largest answer that is read, in octets.
const PATIENCE: Duration = Duration::from_secs(10);
const MAX_ANSWER: usize = 64 * 1024;

/// How many are sent in one go, and to how many addresses of a name one is tried.
const AT_ONCE: usize = 20;
const MOST_ADDRESSES: usize = 4;

/// How often what does not wait is forgotten.
const FORGET: Duration = Duration::from_secs(600);

/// The roots that systems have.
const SYSTEM_ROOTS: [&str; 2] = ["/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt"];

/// Where notices go, and what they are signed with.
pub(crate) struct Telling {
    pub(crate) target: Target,
    pub(crate) ca: Option<PathBuf>,
    pub(crate) allow_private: bool,
    pub(crate) key: Arc<dyn Signer>,
}

/// Where the work is.
#[derive(Default)]
pub(crate) struct Work {
    forgets: Seldom,
}

impl Work {
    /// Sends what is to be sent.
    pub(crate) fn look(&mut self, desk: &Desk, store: &mut OperatorStore) -> Result<(), Problem> {
        if self.forgets.is_time(FORGET) {
            forget(store, desk.now())?;
        }
        let live = desk.live();
        let telling = match &live.telling {
            Ok(Some(telling)) => telling,
            Ok(None) => return Ok(()),
            Err(why) => return Err(Problem::failed(why.clone())),
        };
        let mut told = false;
        for _ in 0..AT_ONCE {
            let Some(record) = take(store, desk.now())? else { break };
            let sent = in_time(telling, &record, desk.now())?;
            settle(store, &record, &sent, desk.now())?;
            let (because, is_over) = match sent {
                Sent::Taken => continue,
                Sent::Again(why) => (why, true),
                Sent::Never(why) => (why, false),
            };
            // One line a look, however many are not taken; `notice list` has each.
            if !std::mem::replace(&mut told, true) {
                desk.emit(Event::NoticeNotTaken { notice: record.id, tries: record.tries, because });
            }
            // Who does not answer one is not asked twenty times at once.
            if is_over {
                break;
            }
        }
        Ok(())
    }
}

fn in_time(telling: &Telling, record: &NoticeRecord, now: UnixTime) -> Result<Sent, Problem> {
    let failed = |error: std::io::Error| Problem::failed("notices cannot be sent").because(error);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(failed)?;
    let sent = runtime.block_on(async {
        let told = tokio::time::timeout(PATIENCE, send(telling, record, now));
        told.await.unwrap_or_else(|_| Sent::Again("it took too long".to_owned()))
    });
    // The question for a name cannot be broken off, and is not waited for.
    runtime.shutdown_background();
    Ok(sent)
}

async fn send(telling: &Telling, record: &NoticeRecord, now: UnixTime) -> Sent {
    let again = |what: &str, error: &dyn std::fmt::Display| Sent::Again(format!("{what}: {error}"));
    let target = &telling.target;
    let (host, port) = (target.endpoint.host.as_str(), target.endpoint.port);
    // The address that is looked at is the one that is connected to: a name may stand for another at the next question.
    let found = match tokio::net::lookup_host((host, port)).await {
        Ok(found) => found.collect::<Vec<SocketAddr>>(),
        Err(error) => return again("its name is not known", &error),
    };
    let allowed = |address: &IpAddr| telling.allow_private || !is_private(*address);
    let found: Vec<SocketAddr> =
        found.into_iter().filter(|address| allowed(&address.ip())).take(MOST_ADDRESSES).collect();
    if found.is_empty() {
        let why = "its address is in a private network, and allow_private under [notices] is false";
        return Sent::Again(why.to_owned());
    }
    if !target.tls && !found.iter().all(|address| address.ip().is_loopback()) {
        return Sent::Again("http:// goes to the machine itself alone".to_owned());
    }
    // One after another: a name may have an address of a family that is not to be reached from here.
    let tcp = match TcpStream::connect(&found[..]).await {
        Ok(tcp) => tcp,
        Err(error) => return again("it cannot be reached", &error),
    };
    if !target.tls {
        return post(telling, record, now, tcp).await;
    }
    let config = match client(telling) {
        Ok(config) => config,
        Err(why) => return Sent::Again(why),
    };
    let Ok(name) = ServerName::try_from(host.to_owned()) else { return Sent::Never("its name is none".to_owned()) };
    match TlsConnector::from(Arc::new(config)).connect(name, tcp).await {
        Ok(tls) => post(telling, record, now, tls).await,
        Err(error) => again("TLS", &error),
    }
}

/// What the service's certificate is held against.
fn client(telling: &Telling) -> Result<ClientConfig, String> {
    let mut roots = RootCertStore::empty();
    let paths: Vec<PathBuf> = match &telling.ca {
        Some(path) => vec![path.clone()],
        None => SYSTEM_ROOTS.iter().map(PathBuf::from).filter(|path| path.exists()).collect(),
    };
    for path in &paths {
        let read = CertificateDer::pem_file_iter(path).map_err(|error| format!("{}: {error}", path.display()))?;
        roots.add_parsable_certificates(read.filter_map(Result::ok));
    }
    if roots.is_empty() {
        return Err("there are no roots to hold its certificate against: ca under [notices]".to_owned());
    }
    let provider = Arc::new(crypto::aws_lc_rs::default_provider());
    let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    Ok(builder.map_err(|error| error.to_string())?.with_root_certificates(roots).with_no_client_auth())
}

async fn post(
    telling: &Telling,
    record: &NoticeRecord,
    now: UnixTime,
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
) -> Sent {
    let again = |error: &dyn std::fmt::Display| Sent::Again(error.to_string());
    let body = record.body.clone().into_bytes();
    let fields = match notice::sign(&telling.target, &record.id, &body, now, &*telling.key) {
        Ok(fields) => fields,
        Err(error) => return again(&error),
    };
    let (mut sender, connection) = match hyper::client::conn::http1::handshake(TokioIo::new(stream)).await {
        Ok(made) => made,
        Err(error) => return again(&error),
    };
    let driver = tokio::spawn(connection);
    let request = Request::builder()
        .method(Method::POST)
        .uri(&telling.target.path)
        .header(HOST, telling.target.authority())
        .header(USER_AGENT, concat!("tidy-warden/", env!("CARGO_PKG_VERSION")))
        .header(CONTENT_TYPE, JSON)
        .header("content-digest", fields.content_digest)
        .header("idempotency-key", fields.idempotency_key)
        .header("signature-input", fields.signature_input)
        .header("signature", fields.signature)
        .body(Full::new(Bytes::from(body)));
    let request = match request {
        Ok(request) => request,
        Err(error) => return Sent::Never(error.to_string()),
    };
    let answer = match sender.send_request(request).await {
        Ok(answer) => answer,
        Err(error) => return again(&error),
    };
    let status: StatusCode = answer.status();
    // Read, so that the other end is not reset; nothing of it counts.
    let _ = Limited::new(answer.into_body(), MAX_ANSWER).collect().await;
    driver.abort();
    match status {
        _ if status.is_success() => Sent::Taken,
        _ if notice::is_final(status.as_u16()) => Sent::Never(format!("it answered {status}")),
        // Nobody is followed elsewhere.
        _ => Sent::Again(format!("it answered {status}")),
    }
}
