//! What is said to whom. Nothing here knows a socket; everything here may wait for the store.
//!
//! `enroll` gives first certificates, and has callers wait for a person; `renew` gives the next ones; `children` are brought in by gateways, `key` gives the next keys that devices share with the ward. Here is what both stand on, and
//! what is the same for everybody.

mod children;
mod enroll;
mod key;
mod renew;
mod window;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use hyper::StatusCode;
use hyper::body::Bytes;
use tidy_warden_core::admission::Secret;
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::est;
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::key::ProvenKey;
use tidy_warden_core::request::Request;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{Head, StoreError, View};
use tidy_warden_ward::issue::press::{KeySource, Minted, Press, Unmade};

use crate::Event;
use crate::route::Route;
use crate::state::{Desk, Live};

/// Within how long a device may ask for as many certificates as `requests_per_device` says.
const HOUR: Duration = Duration::from_secs(3600);

/// How long whoever finds the store away is to wait, in seconds.
pub(crate) const STORE_WAIT: u64 = 10;

/// Who sent a request, as far as the connection shows it.
#[derive(Debug, Clone)]
pub(crate) struct Caller {
    /// Where it comes from.
    pub(crate) peer: SocketAddr,
    /// The certificate whose key it has proved to hold, in DER.
    pub(crate) leaf: Option<Arc<[u8]>>,
    /// The user name and the password of its Authorization field (RFC 7617).
    pub(crate) basic: Option<Arc<Basic>>,
}

/// User name and password.
pub(crate) struct Basic {
    pub(crate) user: String,
    pub(crate) secret: Option<Secret>,
}

impl std::fmt::Debug for Basic {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Basic(..)")
    }
}

/// What is said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Said {
    pub(crate) status: StatusCode,
    pub(crate) kind: &'static str,
    pub(crate) body: Bytes,
    /// After how many seconds to come again, if that is told.
    pub(crate) retry_after: Option<u64>,
    /// What stands for this very content, where it can be asked for again.
    pub(crate) tag: Option<String>,
    /// For how many seconds it may be kept, if it may.
    pub(crate) fresh_for: Option<u64>,
    /// Other fields.
    pub(crate) more: Vec<(&'static str, String)>,
    /// Whether it goes out at one time, whatever was looked up for it.
    pub(crate) is_slow: bool,
}

const TEXT: &str = "text/plain; charset=utf-8";

impl Said {
    pub(crate) fn of(kind: &'static str, body: impl Into<Bytes>) -> Self {
        let (status, body) = (StatusCode::OK, body.into());
        Self { status, kind, body, retry_after: None, tag: None, fresh_for: None, more: Vec::new(), is_slow: false }
    }

    /// A page: nothing of it is kept, framed, told to others, or loaded from elsewhere.
    pub(crate) fn page(status: StatusCode, text: String) -> Self {
        Self { status, ..Self::of("text/html; charset=utf-8", text) }.guarded()
    }

    pub(crate) fn style(text: &'static str) -> Self {
        Self { fresh_for: Some(3_600), ..Self::of("text/css; charset=utf-8", text) }.guarded()
    }

    /// To another page, with GET (RFC 9110 section 15.4.4).
    pub(crate) fn redirect(place: &str) -> Self {
        let said = Self { status: StatusCode::SEE_OTHER, ..Self::of(TEXT, "") }.guarded();
        said.with("location", place.to_owned())
    }

    fn guarded(self) -> Self {
        let policy =
            "default-src 'none'; style-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";
        self.with("content-security-policy", policy.to_owned())
            .with("x-content-type-options", "nosniff".to_owned())
            .with("referrer-policy", "no-referrer".to_owned())
            .with("x-frame-options", "DENY".to_owned())
            .with("cross-origin-opener-policy", "same-origin".to_owned())
    }

    /// With another field.
    pub(crate) fn with(mut self, name: &'static str, value: String) -> Self {
        self.more.push((name, value));
        self
    }

    /// Goes out at one time, whatever was looked up for it.
    pub(crate) fn slow(self) -> Self {
        Self { is_slow: true, ..self }
    }

    /// A few words and a status.
    pub(crate) fn text(status: StatusCode, words: &str) -> Self {
        Self { status, ..Self::of(TEXT, format!("{words}\n")) }
    }

    /// The one answer to a proof that does not hold, whatever is wrong with it.
    pub(crate) fn unproved() -> Self {
        Self::text(StatusCode::UNAUTHORIZED, "this does not prove to be a device that may have a credential")
    }

    /// With the number of seconds after which to come again, if it is known.
    pub(crate) fn again_in(self, seconds: Option<u64>) -> Self {
        Self { retry_after: seconds, ..self }
    }

    pub(crate) fn later(status: StatusCode, words: &str, seconds: u64) -> Self {
        Self::text(status, words).again_in(Some(seconds))
    }
}

/// Why a request is refused: what the caller is told, and what the log is.
struct Refusal {
    said: Box<Said>,
    because: String,
    device: Option<DeviceId>,
}

impl Refusal {
    /// The one answer, and the reason for the log.
    fn unproved(because: impl ToString) -> Self {
        Self { said: Box::new(Said::unproved()), because: because.to_string(), device: None }
    }

    fn about(self, device: &DeviceId) -> Self {
        Self { device: Some(device.clone()), ..self }
    }

    /// Something that is wrong with the request itself, which the caller may know.
    fn told(status: StatusCode, words: impl ToString) -> Self {
        let because = words.to_string();
        Self { said: Box::new(Said::text(status, &because)), because, device: None }
    }

    /// A certificate that can be renewed later only; the caller hears when.
    fn too_early(which: &str, opens: UnixTime, now: UnixTime) -> Self {
        let words = format!("{which} can be renewed from {opens} on");
        let early = Self::told(StatusCode::FORBIDDEN, words);
        let wait = u64::try_from(opens.0.saturating_sub(now.0)).ok();
        Self { said: Box::new(Said { retry_after: wait, ..*early.said }), ..early }
    }

    /// Nobody knows, so nobody is let in.
    fn doubt(because: impl ToString) -> Self {
        let words = "the ward does not answer; come again later";
        let said = Said::later(StatusCode::SERVICE_UNAVAILABLE, words, STORE_WAIT);
        Self { said: Box::new(said), because: because.to_string(), device: None }
    }
}

impl From<StoreError> for Refusal {
    fn from(error: StoreError) -> Self {
        Self::doubt(error)
    }
}

impl Desk {
    /// Answers a request whose body was read.
    pub(crate) fn answer(&self, route: &Route, caller: &Caller, body: &[u8]) -> Said {
        let live = self.live();
        let decided = match route {
            Route::CaCerts => Ok(Said::of(est::CERTS_ONLY, live.cacerts.clone())),
            Route::Roots => Ok(Said::of("application/x-pem-file", live.roots.clone())),
            Route::Connect => self.connect(&live, caller),
            Route::Keys => Ok(Said::of("application/jwk-set+json", live.keys.clone())),
            Route::CsrAttrs(kind) => Ok(attributes(&live, kind.as_ref())),
            Route::Crl(name) => Ok(self.lists.said(name, self.now()).unwrap_or_else(nothing)),
            Route::Authority(name) => Ok(match live.issuing.get(name) {
                Some(der) => Said { fresh_for: Some(3600), ..Said::of("application/pkix-cert", der.clone()) },
                None => nothing(),
            }),
            Route::Enroll(kind) => self.enroll(&live, kind.as_ref(), caller, body),
            Route::Renew(kind) => self.renew(&live, kind.as_ref(), caller, body),
            Route::Keygen(kind) => self.keygen(&live, kind.as_ref(), caller, body),
            Route::Key => self.renew_key(&live, caller, body),
            Route::Children => self.children(&live, caller, body),
            Route::Child(child) => self.enroll_child(&live, child, caller, body),
            Route::Window => self.open_window(&live, caller, body),
            // It is answered by itself.
            Route::Owner(_) => Ok(nothing()),
        };
        let asked = name_of(route);
        let said = decided.unwrap_or_else(|refusal| {
            self.emit(Event::Refused {
                asked,
                status: refusal.said.status.as_u16(),
                because: refusal.because,
                device: refusal.device.map(|device| device.to_string()),
                peer: caller.peer,
            });
            *refusal.said
        });
        self.metrics.answered(asked, said.status.as_u16());
        said
    }

    /// A certificate for a device, which nobody has yet.
    fn minted(&self, live: &Live, device: &DeviceRecord, key: KeySource, now: UnixTime) -> Result<Minted, Refusal> {
        let made = Press::new(&live.mint, now).mint(device, key);
        made.map_err(|unmade| match unmade {
            Unmade::Device(why) => Refusal::told(StatusCode::BAD_REQUEST, why).about(&device.id),
            Unmade::All(problem) => Refusal::doubt(problem.in_one_line()).about(&device.id),
        })
    }

    /// Counts a certificate for a device that has proved to be it.
    fn count(&self, live: &Live, id: &DeviceId) -> Result<(), Refusal> {
        let most = live.settings.desk.requests_per_device;
        self.by_device.take(id, most, HOUR, Instant::now()).map_err(|wait| {
            let said = Said::later(StatusCode::TOO_MANY_REQUESTS, "this device asks too often", wait.as_secs() + 1);
            Refusal { said: Box::new(said), because: "it asks too often".to_owned(), device: Some(id.clone()) }
        })
    }

    /// Whether the store can be gone by.
    fn settled(&self, live: &Live, head: &Head) -> Result<(), Refusal> {
        if let Some(why) = &head.doubt {
            return Err(Refusal::doubt(why));
        }
        if self.is_in_doubt() {
            return Err(Refusal::doubt("the store is not the one that was seen before"));
        }
        match head.authorities == live.read.authorities {
            true => Ok(()),
            false => Err(Refusal::doubt("the authorities changed, and their keys are not opened yet")),
        }
    }
}

/// The certificate that a caller showed, if it can be read.
fn leaf_of(caller: &Caller) -> Option<Certificate> {
    caller.leaf.as_deref().and_then(|der| Certificate::from_der(der).ok())
}

/// Whether a device was asked to replace what it shows: then it may, whatever time that has left. (Not in the second of the question: what is
/// recorded then could be taken for what was there before.)
fn was_asked(device: &DeviceRecord, shown: &CredentialRecord, now: UnixTime) -> bool {
    device.renew_asked.is_some_and(|asked| shown.issued <= asked && asked < now)
}

/// What a route is called in figures and in the log.
pub(crate) fn name_of(route: &Route) -> &'static str {
    match route {
        Route::CaCerts => "cacerts",
        Route::CsrAttrs(_) => "csrattrs",
        Route::Enroll(_) => "simpleenroll",
        Route::Renew(_) => "simplereenroll",
        Route::Connect => "connect",
        Route::Keygen(_) => "serverkeygen",
        Route::Key => "key",
        Route::Children => "children",
        Route::Child(_) => "enroll-child",
        Route::Window => "claim-window",
        Route::Owner(_) => "owner",
        Route::Keys => "jwks",
        Route::Roots => "roots",
        Route::Crl(_) => "crl",
        Route::Authority(_) => "ca",
    }
}

fn nothing() -> Said {
    Said::text(StatusCode::NOT_FOUND, "there is nothing here")
}

fn attributes(live: &Live, kind: Option<&KindName>) -> Said {
    match kind.map(|kind| live.settings.kinds.get(kind)) {
        Some(Some(kind)) => Said::of(est::CSR_ATTRS, est::encoded(&est::attributes(kind))),
        Some(None) => nothing(),
        // Which kind calls is not known here, and kinds may want different things (RFC 7030 section 4.5.2).
        None => Said { status: StatusCode::NO_CONTENT, ..Said::of(TEXT, Bytes::new()) },
    }
}

fn certificate(der: &[u8]) -> Said {
    Said::of(est::CERTS_ONLY, est::encoded(&est::certs_only(&[der])))
}

/// The request in a body.
fn read(body: &[u8]) -> Result<Request, Refusal> {
    let bad = |words: String| Refusal::told(StatusCode::BAD_REQUEST, words);
    let der = est::decoded(body).ok_or_else(|| {
        bad("the body is not base64 of a certification request (RFC 8951 section 3.1); PEM has lines that are to be left out".to_owned())
    })?;
    if der.first() != Some(&0x30) {
        return Err(bad("the body is not a certification request in DER (RFC 2986)".to_owned()));
    }
    Request::parse(&der).map_err(|error| bad(error.to_string()))
}

/// The key of a request, whose sender holds it.
fn possessed(request: Request) -> Result<ProvenKey, Refusal> {
    request.verify_possession().map_err(|error| Refusal::told(StatusCode::BAD_REQUEST, error))
}

/// A certificate that was given.
struct Given {
    credential: CredentialRecord,
    key_digest: [u8; 32],
    der: Vec<u8>,
}

fn given(view: &dyn View, fingerprint: &Fingerprint) -> Result<Option<Given>, StoreError> {
    let known = view.status_many(std::slice::from_ref(fingerprint))?.pop().flatten();
    let Some((credential, _)) = known else { return Ok(None) };
    let (key_digest, der) = (view.key_digest(fingerprint)?, view.credential_der(fingerprint)?);
    Ok(der.map(|der| Given { credential, key_digest, der }))
}
