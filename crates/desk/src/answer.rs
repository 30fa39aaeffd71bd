//! What is said to whom. Nothing here knows a socket; everything here may wait for the store.
//!
//! The way of a request for a first certificate: what is wrong with it by itself is told; then the admission is found that it could mean,
//! and whether its sender has proved to be who is meant. Who has not is told nothing but that, whatever the reason. Who has is given a
//! certificate, which is recorded in the change that uses the admission; all of it is looked at again inside that change.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use hyper::StatusCode;
use hyper::body::Bytes;
use tidy_warden_core::admission::{
    AdmissionEnd, AdmissionName, AdmissionRecord, AdmissionState, Secret, Shown, Vouched,
};
use tidy_warden_core::asking::{self, AskingRecord};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::enrolment::renewal_opens;
use tidy_warden_core::est;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::key::ProvenKey;
use tidy_warden_core::request::Request;
use tidy_warden_core::settings::Admit;
use tidy_warden_core::time::UnixTime;
use tidy_warden_serve::source::Source;
use tidy_warden_store::{AskRefusal, Head, RenewRefusal, SignedCredential, StoreError, View};
use tidy_warden_ward::issue::press::{KeySource, Press, Unmade};

use crate::Event;
use crate::route::Route;
use crate::state::{Desk, Live};

/// How many of a device's admissions are looked through for the one that is meant.
const LOOKED_THROUGH: usize = 8;

/// Within how long a device may ask for as many certificates as `requests_per_device` says.
const HOUR: Duration = Duration::from_secs(3600);

/// After how many seconds whoever waits for a person is to call again, and whoever finds too many waiting.
const ASK_AGAIN: u64 = 30;
const FULL_WAIT: u64 = 3_600;

/// How long whoever finds the store away is to wait, in seconds.
const STORE_WAIT: u64 = 10;

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
}

const TEXT: &str = "text/plain; charset=utf-8";

impl Said {
    fn of(kind: &'static str, body: impl Into<Bytes>) -> Self {
        Self { status: StatusCode::OK, kind, body: body.into(), retry_after: None, tag: None, fresh_for: None }
    }

    /// A few words and a status.
    pub(crate) fn text(status: StatusCode, words: &str) -> Self {
        Self { status, ..Self::of(TEXT, format!("{words}\n")) }
    }

    /// The one answer to a proof that does not hold, whatever is wrong with it.
    pub(crate) fn unproved() -> Self {
        Self::text(StatusCode::UNAUTHORIZED, "this does not prove to be a device that may have a certificate")
    }

    pub(crate) fn later(status: StatusCode, words: &str, seconds: u64) -> Self {
        Self { retry_after: Some(seconds), ..Self::text(status, words) }
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

/// What may be renewed, and by whom.
struct Held {
    credential: CredentialRecord,
    device: DeviceRecord,
    /// What the device was given for the same key before, if it was and has not used it.
    given_before: Option<Vec<u8>>,
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

    /// A first certificate, or the word to wait for a person.
    fn enroll(&self, live: &Live, kind: Option<&KindName>, caller: &Caller, body: &[u8]) -> Result<Said, Refusal> {
        let request = read(body)?;
        match self.enroll_proved(live, kind, caller, &request) {
            // Where the kind asks a person, whoever proves nothing waits for one, whatever it is that does not prove it.
            Err(refusal) if refusal.said.status == StatusCode::UNAUTHORIZED => match asked_kind(live, kind) {
                Some(kind) => self.wait(live, kind, caller, &request, refusal),
                None => Err(refusal),
            },
            other => other,
        }
    }

    /// Has a caller wait for a person. It is told the same whether it waits, was refused, or is nobody that could wait.
    fn wait(
        &self,
        live: &Live,
        kind: &KindName,
        caller: &Caller,
        request: &Request,
        unproved: Refusal,
    ) -> Result<Said, Refusal> {
        let (facts, key_digest, now) = (request.facts(), request.key_digest(), self.now());
        possessed(request.clone())?;
        let wanted = live.settings.kinds.get(kind).map(|kind| kind.identify.iter().chain(&kind.facts));
        if let Some(missing) = wanted.into_iter().flatten().find(|fact| !facts.contains_key(fact)) {
            let words = format!("the kind {kind} wants a request to name the {missing} of the device");
            return Err(Refusal::told(StatusCode::BAD_REQUEST, words));
        }
        let (known, head) = self.ask(|reader| reader.view(|view| Ok((view.asking(&key_digest)?, view.head()?))))?;
        self.settled(live, &head)?;
        let waits = || {
            let words = format!("a person must say yes; the code of this key is {}", asking::code(&key_digest));
            Said::later(StatusCode::ACCEPTED, &words, ASK_AGAIN)
        };
        if known.is_some_and(|known| known.until >= now) {
            return Ok(waits());
        }
        let new = AskingRecord {
            key_digest,
            kind: kind.clone(),
            facts,
            from: Source::from(caller.peer.ip()).to_string(),
            since: now,
            until: now.plus(asking::WAITS),
            refused: None,
        };
        let told = |said: Said, because: String| Refusal { said: Box::new(said), because, device: None };
        match self.acts.ask(new.clone(), self.cause(String::new()))? {
            Ok(()) => {
                self.emit(Event::Asking {
                    device: new.id().map(|id| id.to_string()).unwrap_or_default(),
                    kind: kind.to_string(),
                    code: new.code(),
                    peer: caller.peer,
                });
                Ok(waits())
            }
            Err(full @ AskRefusal::Full(_)) => {
                let words = "too many devices wait for a person already";
                Err(told(Said::later(StatusCode::SERVICE_UNAVAILABLE, words, FULL_WAIT), full.to_string()))
            }
            // Told as one that waits, and seen by nobody but whoever reads the log.
            Err(other) => Err(told(waits(), format!("{other} ({})", unproved.because))),
        }
    }

    /// A first certificate for a caller that has proved what it is.
    fn enroll_proved(
        &self,
        live: &Live,
        kind: Option<&KindName>,
        caller: &Caller,
        request: &Request,
    ) -> Result<Said, Refusal> {
        let leaf = leaf_of(caller);
        let (facts, key_digest) = (request.facts(), request.key_digest());
        let (now, trust) = (self.now(), self.trust.now());
        let maker = leaf.as_ref().and_then(|leaf| Some((trust.maker(leaf, now)?, leaf)));
        let vouched: BTreeMap<FactName, Fact> = maker
            .iter()
            .filter_map(|(maker, leaf)| leaf.fact(&maker.trust.fact))
            .map(|fact| (fact.name().clone(), fact))
            .collect();
        if let Some((maker, leaf)) = &maker {
            let shown = (Some(leaf.issuer.as_slice()), Some(&leaf.serial));
            self.maker_lists.judge(&maker.name, shown, now).map_err(Refusal::unproved)?;
        }
        if leaf.is_some() && maker.is_none() && caller.basic.is_none() {
            // Who has a certificate of the ward renews it; who has a stranger's has nothing.
            return Err(Refusal::unproved(
                "the certificate is of no trusted manufacturer; one of the ward's is renewed by simplereenroll",
            ));
        }
        let shown = Shown {
            facts: &facts,
            vouched: maker.map(|(maker, _)| Vouched { kinds: &maker.trust.kinds, facts: &vouched }),
            key_digest,
            secret: caller.basic.as_ref().and_then(|basic| basic.secret.as_ref()),
        };
        let user = caller.basic.as_ref().map(|basic| basic.user.as_str());
        let found = self.ask(|reader| {
            reader.view(|view| {
                let Some(found) = find(view, live, user, &shown)? else { return Ok(None) };
                let known = view.devices(std::slice::from_ref(&found.device.id))?.pop().flatten();
                let given = match found.end {
                    Some(AdmissionEnd::Used { credential, .. }) => given(view, &credential)?,
                    _ => None,
                };
                Ok(Some((found, known, given, view.head()?)))
            })
        })?;
        let Some((admission, known, given, head)) = found else {
            return Err(Refusal::unproved("there is no admission that this could mean"));
        };
        let id = admission.device.id.clone();
        self.settled(live, &head)?;
        let unproved = |why: &dyn std::fmt::Display| Refusal::unproved(format!("{}: {why}", admission.name)).about(&id);
        let least = live.settings.kinds.get(&admission.device.kind).map_or(Admit::Certificate, |kind| kind.admit);
        let proof = admission.is_proved_by(&shown, least).map_err(|unfit| unproved(&unfit))?;
        if kind.is_some_and(|kind| *kind != admission.device.kind) {
            return Err(unproved(&"the path names another kind"));
        }
        if let Some(barred) = known.as_ref().and_then(|known| known.device.barred()) {
            return Err(unproved(&barred));
        }
        let proven = possessed(request.clone()).map_err(|refusal| match proof {
            // That a key is registered is not for whoever does not hold it.
            Admit::Key => unproved(&refusal.because),
            _ => refusal.about(&id),
        })?;
        match admission.state(now) {
            AdmissionState::Open => {}
            AdmissionState::Used => return self.once_more(&admission, key_digest, given, caller),
            over => return Err(unproved(&format!("it is {}", over.as_str()))),
        }
        self.count(live, &id)?;
        let device = match &known {
            Some(known) => known.device.clone(),
            None => DeviceRecord { created: now, ..admission.device.clone() },
        };
        let minted = self.minted(live, &device, proven, now)?;
        let signed = SignedCredential::from(&minted.credential(&id, false));
        let cause = self.cause(format!("proved by {}", noun(proof)));
        if let Err(refusal) = self.acts.use_admission(admission.name, signed, cause)? {
            // Somebody else was quicker, or something changed in this very moment.
            return Err(unproved(&refusal));
        }
        self.emit(Event::Enrolled {
            device: id.to_string(),
            admission: admission.name.to_string(),
            proof: proof.as_str(),
            serial: minted.serial.to_string(),
            peer: caller.peer,
        });
        Ok(certificate(&minted.fresh.der))
    }

    /// What was given for an admission, to who asks again with the same key and has not used it: its answer was lost.
    fn once_more(
        &self,
        admission: &AdmissionRecord,
        key_digest: [u8; 32],
        given: Option<Given>,
        caller: &Caller,
    ) -> Result<Said, Refusal> {
        let id = &admission.device.id;
        let unproved = |why: &str| Refusal::unproved(format!("{} is used: {why}", admission.name)).about(id);
        let given = given.ok_or_else(|| unproved("what was given is not there"))?;
        if given.key_digest != key_digest {
            return Err(unproved("this is another key"));
        }
        if given.credential.first_used.is_some() {
            return Err(unproved("its certificate is in use"));
        }
        if let Err(why) = given.credential.may_sign_in(self.now()) {
            return Err(unproved(&why.to_string()));
        }
        self.emit(Event::Repeated { device: id.to_string(), peer: caller.peer });
        Ok(certificate(&given.der))
    }

    /// The next certificate, for the one that was shown in the handshake.
    fn renew(&self, live: &Live, kind: Option<&KindName>, caller: &Caller, body: &[u8]) -> Result<Said, Refusal> {
        let leaf = leaf_of(caller);
        let leaf = leaf.ok_or_else(|| Refusal::unproved("no certificate was shown"))?;
        let request = read(body)?;
        let (now, key_digest) = (self.now(), request.key_digest());
        let (held, head) = self
            .ask(|reader| reader.view(|view| Ok((held(view, &leaf.fingerprint, &key_digest, now)?, view.head()?))))?;
        self.settled(live, &head)?;
        let Some(Held { credential, device, given_before }) = held else {
            return Err(Refusal::unproved("the certificate is not on record"));
        };
        let id = device.id.clone();
        let unproved = |why: &dyn std::fmt::Display| Refusal::unproved(why).about(&id);
        if let Some(barred) = device.barred() {
            return Err(unproved(&barred));
        }
        credential.may_sign_in(now).map_err(|why| unproved(&why))?;
        if credential.origin != Origin::Issued {
            return Err(unproved(&"what was shown was not signed by the ward"));
        }
        let told = |status, words: String| Refusal::told(status, words).about(&id);
        if kind.is_some_and(|kind| *kind != device.kind) {
            return Err(told(StatusCode::FORBIDDEN, format!("the path names another kind than {}", device.kind)));
        }
        if request.wants_other_names(&leaf) {
            let words =
                "the request asks for another subject or other names than the certificate has (RFC 7030 section 4.2.2)";
            return Err(told(StatusCode::BAD_REQUEST, words.to_owned()));
        }
        let proven = possessed(request).map_err(|refusal| refusal.about(&id))?;
        if let Some(der) = given_before {
            self.emit(Event::Repeated { device: id.to_string(), peer: caller.peer });
            return Ok(certificate(&der));
        }
        let renew = live.settings.kinds.get(&device.kind).and_then(|kind| kind.renew);
        let opens = renewal_opens(credential.not_before, credential.not_after, renew, &id);
        if now < opens {
            let early = told(StatusCode::FORBIDDEN, format!("this certificate can be renewed from {opens} on"));
            let wait = u64::try_from(opens.0.saturating_sub(now.0)).ok();
            return Err(Refusal { said: Box::new(Said { retry_after: wait, ..*early.said }), ..early });
        }
        self.count(live, &id)?;
        let minted = self.minted(live, &device, proven, now)?;
        let signed = SignedCredential::from(&minted.credential(&id, true));
        match self.acts.renew(leaf.fingerprint, signed, self.cause("renewed by its device".to_owned()))? {
            Ok(()) => {}
            Err(refusal @ (RenewRefusal::Unknown | RenewRefusal::Shown(_) | RenewRefusal::Unissued(_))) => {
                return Err(unproved(&refusal));
            }
        }
        self.emit(Event::Renewed { device: id.to_string(), serial: minted.serial.to_string(), peer: caller.peer });
        Ok(certificate(&minted.fresh.der))
    }

    /// How the device connects whose certificate was shown, which must be one that it may sign in with.
    fn connect(&self, live: &Live, caller: &Caller) -> Result<Said, Refusal> {
        let leaf = leaf_of(caller);
        let leaf = leaf.ok_or_else(|| Refusal::unproved("no certificate was shown"))?;
        let shown = std::slice::from_ref(&leaf.fingerprint);
        let (known, head) =
            self.ask(|reader| reader.view(|view| Ok((view.status_many(shown)?.pop().flatten(), view.head()?))))?;
        self.settled(live, &head)?;
        let (credential, device) = known.ok_or_else(|| Refusal::unproved("the certificate is not on record"))?;
        let unproved = |why: &dyn std::fmt::Display| Refusal::unproved(why).about(&device.id);
        if let Some(barred) = device.barred() {
            return Err(unproved(&barred));
        }
        credential.may_sign_in(self.now()).map_err(|why| unproved(&why))?;
        let text = serde_json::to_string_pretty(&live.mint.connect(&device));
        Ok(Said::of("application/json", text.map_err(Refusal::doubt)? + "\n"))
    }

    /// A certificate for a device, which nobody has yet.
    fn minted(
        &self,
        live: &Live,
        device: &DeviceRecord,
        key: ProvenKey,
        now: UnixTime,
    ) -> Result<tidy_warden_ward::issue::press::Minted, Refusal> {
        let made = Press::new(&live.mint, now).mint(device, KeySource::Proven(key));
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

/// The kind that asks a person about a caller: the one that the path names, or the only one that asks.
fn asked_kind<'l>(live: &'l Live, kind: Option<&KindName>) -> Option<&'l KindName> {
    let mut asking = live.settings.kinds.iter().filter(|(_, settings)| settings.admit == Admit::Ask);
    match kind {
        Some(kind) => asking.find(|(name, _)| *name == kind).map(|(name, _)| name),
        None => asking.next().filter(|_| asking.next().is_none()).map(|(name, _)| name),
    }
}

/// What a route is called in figures and in the log.
pub(crate) fn name_of(route: &Route) -> &'static str {
    match route {
        Route::CaCerts => "cacerts",
        Route::CsrAttrs(_) => "csrattrs",
        Route::Enroll(_) => "simpleenroll",
        Route::Renew(_) => "simplereenroll",
        Route::Connect => "connect",
        Route::Keys => "jwks",
        Route::Roots => "roots",
        Route::Crl(_) => "crl",
        Route::Authority(_) => "ca",
    }
}

fn noun(proof: Admit) -> &'static str {
    match proof {
        Admit::Certificate => "its manufacturer's certificate",
        Admit::Key => "its registered key",
        Admit::Secret => "a secret",
        Admit::Ask | Admit::Facts => "bare facts",
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

/// The admission that a caller could mean: by the name that it gives, by what a manufacturer says of it, by its key, or by what it says of
/// itself.
fn find(
    view: &dyn View,
    live: &Live,
    user: Option<&str>,
    shown: &Shown<'_>,
) -> Result<Option<AdmissionRecord>, StoreError> {
    if let Some(user) = user {
        if let Ok(name) = user.parse::<AdmissionName>() {
            return view.admission(name);
        }
        let Ok(id) = user.parse::<DeviceId>() else { return Ok(None) };
        return of_device(view, live, &id, shown);
    }
    for facts in shown.vouched.iter().map(|vouched| vouched.facts).chain([shown.facts]) {
        if let Some(found) = with_facts(view, live, facts, shown)? {
            return Ok(Some(found));
        }
        if shown.vouched.is_some() {
            // What a caller says is not looked at where its manufacturer speaks for it.
            return Ok(None);
        }
    }
    view.admission_of_key(&shown.key_digest)
}

/// The newest of a device's admissions that the caller has proved, or else the newest.
fn of_device(
    view: &dyn View,
    live: &Live,
    id: &DeviceId,
    shown: &Shown<'_>,
) -> Result<Option<AdmissionRecord>, StoreError> {
    let all = view.admissions_of(id, LOOKED_THROUGH)?;
    let least = |each: &AdmissionRecord| {
        live.settings.kinds.get(&each.device.kind).map_or(Admit::Certificate, |kind| kind.admit)
    };
    let proved = all.iter().find(|each| each.is_proved_by(shown, least(each)).is_ok());
    Ok(proved.or(all.first()).cloned())
}

fn with_facts(
    view: &dyn View,
    live: &Live,
    facts: &BTreeMap<FactName, Fact>,
    shown: &Shown<'_>,
) -> Result<Option<AdmissionRecord>, StoreError> {
    let all: Vec<&Fact> = facts.values().collect();
    if let Some(pending) = view.pending_with(&all)?.into_iter().flatten().next() {
        return Ok(Some(pending));
    }
    // Who was enrolled and did not hear of it.
    match view.holders(&all)?.into_iter().flatten().next() {
        Some(id) => of_device(view, live, &id, shown),
        None => Ok(None),
    }
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

/// What a certificate stands for, and what its device was given for a key since.
fn held(
    view: &dyn View,
    shown: &Fingerprint,
    key_digest: &[u8; 32],
    now: UnixTime,
) -> Result<Option<Held>, StoreError> {
    let known = view.status_many(std::slice::from_ref(shown))?.pop().flatten();
    let Some((credential, device)) = known else { return Ok(None) };
    let mut given_before = None;
    for (holder, fingerprint) in view.holders_of_key(key_digest)? {
        let is_other = holder == device.id && fingerprint != *shown;
        let Some(other) = (if is_other { given(view, &fingerprint)? } else { None }) else { continue };
        // Only what was given after the one that is shown is its successor.
        let is_next = other.credential.issued >= credential.issued && other.credential.first_used.is_none();
        if is_next && other.credential.may_sign_in(now).is_ok() {
            given_before = Some(other.der);
        }
    }
    Ok(Some(Held { credential, device, given_before }))
}
