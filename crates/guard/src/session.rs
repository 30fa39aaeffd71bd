//! One connection, from the handshake to its end. It is always in one of four states, each a struct that is named by what it waits
//! for and has what is known by then: [`AwaitsConnect`], [`AwaitsStore`], [`AwaitsBroker`], [`Conversing`]. A state ends by giving the
//! next one, or by telling everybody why there is none.

mod admit;
mod broker;
mod connect;
mod converse;
mod ending;
#[cfg(test)]
mod races;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{Connect, Version, connack, reason, return_code};
use tidy_warden_core::policy::Denial;
use tidy_warden_core::settings::CloneWatch;
use tidy_warden_core::time::UnixTime;
use tidy_warden_serve::listener::Connection;
use tokio::io::{AsyncRead, AsyncWrite};

use crate::Event;
use crate::gate::{Explanations, Given};
use crate::identity::{Credential, NotAdmitted};
use crate::live::Live;
use crate::meeting::Present;
use crate::registry::Registered;
use crate::relay::{Relay, Side};
use crate::shared::Shared;
use crate::upstream::BrokerStream;
use crate::wills::LastWill;

/// The largest CONNECT taken, in octets: a client identifier, a token and a small will.
const MAX_CONNECT: usize = 64 * 1024;

/// A connection whose client has not said who it is.
struct AwaitsConnect<S> {
    shared: Arc<Shared>,
    client: Side<S>,
    from: Connection,
}

/// A client that said who it is; whether it may come in is for the store and the policies to say.
struct AwaitsStore<'c, S> {
    caller: Caller<'c, S>,
    /// The certificate of the handshake, in DER.
    leaf: Option<Arc<[u8]>>,
}

/// A client that may come in, as soon as the broker takes it.
struct AwaitsBroker<'c, S> {
    caller: Caller<'c, S>,
    admission: Admission,
}

/// A session that passes messages, and waits for whatever comes next.
struct Conversing<S> {
    shared: Arc<Shared>,
    relay: Relay<S, BrokerStream>,
    admission: Admission,
    will: Option<LastWill>,
    /// How long the broker keeps the session when its connection is gone.
    expiry: Duration,
    version: Version,
    explanations: Explanations,
    /// Tells the other guards of this ward that it is there, for as long as it is.
    present: Option<Present>,
}

/// Who stands at the door, and what it asked for.
struct Caller<'c, S> {
    shared: &'c Arc<Shared>,
    /// The settings under which it is let in.
    live: Arc<Live>,
    client: Side<S>,
    connect: &'c Connect<'c>,
    peer: SocketAddr,
}

/// What a client was admitted by. A session keeps it up to date.
struct Admission {
    registered: Registered,
    credential: Credential,
    device: Arc<DeviceRecord>,
    /// For the log: the kind of credential and its public name.
    shown: String,
    given: Given,
    client_id: String,
    /// Whether the client identifier is one that the guard gave it.
    assigned: bool,
    /// The settings under which it was last looked at, the trust, and how often it was told to ask the store.
    generation: u64,
    trusted: u64,
    asked: u64,
    /// The last second in which its credential is good.
    ends: UnixTime,
    leaf: Option<Arc<[u8]>>,
}

/// Serves one client until its session ends.
pub(crate) async fn serve<S>(shared: Arc<Shared>, stream: S, from: Connection)
where
    S: AsyncRead + AsyncWrite + Unpin + Send,
{
    let sessions = shared.metrics.sessions.clone();
    let client = Side::new(stream);
    // What opening a session takes is given back before the session begins.
    let Some(mut session) = Box::pin(AwaitsConnect { shared, client, from }.open()).await else { return };
    sessions.inc();
    let ending = session.converse().await;
    sessions.dec();
    // Most sessions wait most of the time: what their ends take is not carried along either.
    Box::pin(session.end(ending)).await;
}

/// What a refusal is about, which says how much of it the client may read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum About {
    /// What it wants to do.
    Act,
    /// Who it is. A token is a string that leaks: whoever shows one that is not taken learns nothing of it or its device.
    Who,
    /// Nothing that is known: what the store says instead of an answer is for its operators.
    Doubt,
}

/// A refusal of a CONNECT: its code in both versions, and why.
struct Refusal {
    v5: u8,
    v311: u8,
    why: String,
    about: About,
    /// The event, where the policy decided.
    event: Option<Box<Event>>,
    /// Whose connection it is, once that is known.
    device: Option<DeviceId>,
}

impl Refusal {
    fn new(v5: u8, v311: u8, why: impl Into<String>) -> Self {
        Self { v5, v311, why: why.into(), about: About::Act, event: None, device: None }
    }

    fn not_authorized(why: impl Into<String>) -> Self {
        Self::new(reason::NOT_AUTHORIZED, return_code::NOT_AUTHORIZED, why)
    }

    fn denied(v5: u8, v311: u8, denial: &Denial, event: Event) -> Self {
        Self { event: Some(Box::new(event)), ..Self::new(v5, v311, denial.to_string()) }
    }
}

impl From<NotAdmitted> for Refusal {
    fn from(error: NotAdmitted) -> Self {
        match &error {
            _ if error.is_doubt() => {
                let refusal = Self::new(reason::SERVER_UNAVAILABLE, return_code::UNAVAILABLE, error.to_string());
                Self { about: About::Doubt, ..refusal }
            }
            _ => Self { about: About::Who, ..Self::not_authorized(error.to_string()) },
        }
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin + Send> Caller<'_, S> {
    /// Says no, to the client, the log and the counters.
    async fn refuse(mut self, refusal: Refusal) {
        let (shared, version, client_id) = (self.shared, self.connect.version, self.connect.client_id);
        let code = if version == Version::V5 { refusal.v5 } else { refusal.v311 };
        let explained = Explanations::of(&self.connect.properties);
        let told = match refusal.about {
            About::Doubt => "it cannot be looked at now who may come in",
            About::Who if self.connect.password.is_some() => "the token is not taken",
            About::Act | About::Who => refusal.why.as_str(),
        };
        self.client.queue(&explained.packet(told, |text| connack(version, code, text)));
        match refusal.event {
            None => refused(shared, (refusal.device.as_ref(), self.peer), client_id, refusal.why),
            Some(event) => {
                let act = if matches!(*event, Event::Refused { act: "will", .. }) { "will" } else { "connect" };
                count_refusal(shared, refusal.device.as_ref(), act, client_id, &refusal.why);
                shared.emit(*event);
            }
        }
        see_off(shared, self.client).await;
    }
}

/// Lets a client that was refused read why. Only so many at once: whoever is refused again and again must not hold handles.
async fn see_off<S: AsyncRead + AsyncWrite + Unpin>(shared: &Shared, mut client: Side<S>) {
    let Ok(_place) = shared.seen_off.try_acquire() else {
        // What fits the socket is written all the same.
        return client.last_words_now();
    };
    client.last_words().await;
    client.drain().await;
}

/// Tells and counts that a connection was refused, for another reason than policy.
fn refused(shared: &Shared, (device, peer): (Option<&DeviceId>, SocketAddr), subject: &str, why: String) {
    count_refusal(shared, device, "connect", subject, &why);
    shared.emit(Event::refused(device.map(DeviceId::as_str), peer, "connect", subject, &why));
}

fn count_refusal(shared: &Shared, device: Option<&DeviceId>, act: &'static str, subject: &str, why: &str) {
    match device {
        Some(device) => shared.counting(device).refused(shared.clock.now(), act, subject, why),
        None => shared.metrics.refused(act),
    }
}

fn watch_for_clones(
    shared: &Arc<Shared>,
    live: &Live,
    (device, credential): (&DeviceRecord, &Credential),
    peer: SocketAddr,
) {
    let watched = live.settings.kind(&device.kind).is_ok_and(|kind| kind.clone_watch != CloneWatch::Off);
    if !watched {
        return;
    }
    let now = Instant::now();
    let is_own = broker::is_proved(credential);
    let proved = is_own.then(|| shared.proved_clones.note(&device.id, peer.ip(), now)).flatten();
    if let Some(sign) = shared.clones.note(&device.id, peer.ip(), now) {
        shared.clone_sign(device, peer, proved.is_some(), sign);
    }
}

/// Whether a certificate that was replaced is shown although its successor was used: then two have a key of the device.
async fn watch_for_old_keys(shared: &Arc<Shared>, device: &DeviceId, shown: &Credential, peer: SocketAddr) {
    let Some(fingerprint) = shown.certificate() else { return };
    let Ok(found) = shared.knowledge.devices(vec![device.clone()]).await else { return };
    let Some(view) = found.into_iter().next().flatten() else { return };
    // Newest first.
    let newer = view.credentials.iter().take_while(|each| each.fingerprint != fingerprint);
    if let Some(used) = newer.filter(|each| each.first_used.is_some()).last() {
        let sign = format!("a certificate was shown that was replaced by {}, which is in use", used.name());
        // Its handshake was proved with that certificate's key.
        shared.clone_sign(&view.device, peer, true, sign);
    }
}
