//! One connection, from the handshake to its end.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::credential::Unusable;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{
    Connack, Connect, Frame, PacketType, Properties, PropertyId, Value, Version, Will, connack, disconnect, reason,
    return_code, split,
};
use tidy_warden_core::policy::{self, Denial, Rights};
use tidy_warden_core::settings::CloneWatch;
use tidy_warden_core::time::Span;
use tidy_warden_core::token::VerifiedToken;
use tidy_warden_core::topic::TopicName;
use tidy_warden_serve::listener::Connection;
use tidy_warden_serve::openings::OPENING;
use tokio::io::{AsyncRead, AsyncWrite};

use crate::Event;
use crate::follower::take_trust;
use crate::gate::{Close, Explanations, Gate, Output, Standing, sender};
use crate::identity::{Asked, Credential, NotAdmitted, Resolved, Shown, credential, same_device};
use crate::kept::{Lasting, Subscriptions};
use crate::live::Live;
use crate::message::{Message, Refused};
use crate::moment::Moment;
use crate::registry::{Limits, Registered};
use crate::relay::{Interrupted, Relay, Side, Stop};
use crate::shared::Shared;
use crate::upstream::{BrokerStream, PATIENCE};
use crate::wills::{LastWill, Waiting, due};

/// The largest CONNECT taken, in octets: a client identifier, a token and a small will.
const MAX_CONNECT: usize = 64 * 1024;

/// Why a certificate is refused that was taken before.
const NOT_TRUSTED: &str = "the authority of its certificate is no longer trusted";

/// What an identifier property and two lengths add to a message, in octets.
const PROPERTY_OVERHEAD: usize = 5 + 4;

/// A refusal of a CONNECT: its code in both versions, and why.
struct Refusal {
    v5: u8,
    v311: u8,
    why: String,
    /// The event, where the policy decided.
    event: Option<Box<Event>>,
    /// Whose connection it is, once that is known.
    device: Option<DeviceId>,
}

impl Refusal {
    fn new(v5: u8, v311: u8, why: impl Into<String>) -> Self {
        Self { v5, v311, why: why.into(), event: None, device: None }
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
            _ if error.is_doubt() => Self::new(reason::SERVER_UNAVAILABLE, return_code::UNAVAILABLE, error.to_string()),
            _ => Self::not_authorized(error.to_string()),
        }
    }
}

/// A CONNECT that was admitted.
struct Opened {
    registered: Registered,
    credential: Credential,
    device: Arc<DeviceRecord>,
    shown: String,
    standing: Standing,
    client_id: String,
    assigned: bool,
    /// The settings under which it was last looked at, and how often it was told to ask the store.
    generation: u64,
    trusted: u64,
    asked: u64,
    /// How long the broker keeps the session when its connection is gone.
    expiry: Duration,
    /// The last second in which its credential is good.
    ends: tidy_warden_core::time::UnixTime,
    leaf: Option<Arc<[u8]>>,
}

/// A session that passes messages.
struct Session<S> {
    relay: Relay<S, BrokerStream>,
    opened: Opened,
    will: Option<LastWill>,
    version: Version,
    explanations: Explanations,
}

/// Serves one client until its session ends.
pub(crate) async fn serve<S>(shared: Arc<Shared>, stream: S, client: Connection)
where
    S: AsyncRead + AsyncWrite + Unpin + Send,
{
    // What opening a session takes is given back before the session begins.
    let Some(mut session) = Box::pin(begin(&shared, stream, client)).await else { return };
    shared.metrics.sessions.inc();
    let ending = converse(&shared, &mut session).await;
    shared.metrics.sessions.dec();
    let Session { relay: Relay { mut client, mut broker, mut gate, .. }, opened, version, will, .. } = session;
    gate.count();
    let now = shared.knowledge.now();
    shared.kept.closed(&opened.client_id, gate.subscriptions(), now);
    if ending.flood {
        let seconds = shared.floods.slow(&opened.device.id, Instant::now()).as_secs();
        shared.emit(Event::Slowed { device: opened.device.id.to_string(), seconds });
    }
    if let Some((packet, delay)) = will.filter(|_| ending.lost).and_then(|will| will.into_own(opened.expiry)) {
        let (device, client_id) = (opened.device.id.clone(), opened.client_id.clone());
        let credential = opened.credential.clone();
        let guard = shared.kept.guard();
        let waiting = Waiting { device, client_id, credential, packet, guard, lost: now, due: due(now, delay) };
        let (device, client_id) = (waiting.device.to_string(), waiting.client_id.clone());
        if !shared.wills.add(waiting) {
            let why = "too many wills wait".to_owned();
            shared.emit(Event::WillNotSent { device, client_id, why });
        }
    }
    client.queue(&ending.to_client);
    // What was allowed before the end still goes on. Without a goodbye behind it the broker takes the end of the
    // connection for a loss, and publishes the will, if there is one.
    if ending.goodbye {
        broker.queue(&disconnect(version, reason::SUCCESS, None));
    }
    if matches!(ending.event, Event::Cut { .. }) {
        shared.metrics.cuts.inc();
    }
    shared.emit(ending.event);
    tokio::join!(broker.last_words(), client.last_words());
    // A socket that is closed with something unread in it is reset, and what was written to it before may be lost: a message
    // that was acknowledged, or the goodbye. Both sides are read to their ends, but not for long.
    let seen_off = async {
        broker.drain().await;
        // A guard that stops waits for those that are registered, so that their goodbyes are said.
        drop(opened);
    };
    tokio::join!(seen_off, client.drain());
}

/// From CONNECT to CONNACK; `None` if no session came about, which was told.
async fn begin<S>(shared: &Arc<Shared>, stream: S, from: Connection) -> Option<Session<S>>
where
    S: AsyncRead + AsyncWrite + Unpin + Send,
{
    let peer = from.peer;
    let mut client = Side::new(stream);
    let first = tokio::select! {
        first = tokio::time::timeout_at(from.came + OPENING, client.packet(MAX_CONNECT)) => first,
        () = from.opening.lost() => {
            refused(shared, (None, peer), "", "it made room for newer connections, being too slow".to_owned());
            return None;
        }
    };
    drop(from.opening);
    let len = match first {
        Ok(Ok(len)) => len,
        Ok(Err(Interrupted::Lost(why))) => {
            refused(shared, (None, peer), "", format!("no CONNECT came: {why}"));
            return None;
        }
        Ok(Err(Interrupted::Malformed(malformed))) => {
            refused(shared, (None, peer), "", format!("no CONNECT came: {malformed}"));
            return None;
        }
        Err(_) => {
            refused(shared, (None, peer), "", "no CONNECT came in time".to_owned());
            return None;
        }
    };
    let packet: Vec<u8> = client.input.drain(..len).collect();
    let frame = split(&packet, MAX_CONNECT).ok().flatten()?;
    let connect = match parse_connect(&frame) {
        Ok(connect) => connect,
        Err((answer, why)) => {
            client.queue(&answer);
            refused(shared, (None, peer), "", why);
            see_off(shared, client).await;
            return None;
        }
    };
    let live = shared.live();
    let opened = match open(shared, &live, &connect, from.leaf, peer).await {
        Ok(opened) => opened,
        Err(refusal) => {
            let code = if connect.version == Version::V5 { refusal.v5 } else { refusal.v311 };
            let explained = Explanations::of(&connect.properties);
            client.queue(&explained.packet(&refusal.why, |text| connack(connect.version, code, text)));
            match refusal.event {
                None => refused(shared, (refusal.device.as_ref(), peer), connect.client_id, refusal.why),
                Some(event) => {
                    let act = if matches!(*event, Event::Refused { act: "will", .. }) { "will" } else { "connect" };
                    count_refusal(shared, refusal.device.as_ref(), act, connect.client_id, &refusal.why);
                    shared.emit(*event);
                }
            }
            see_off(shared, client).await;
            return None;
        }
    };
    let resumed = from.resumed;
    let session = go_on(shared, &live, client, &connect, opened, peer).await?;
    shared.metrics.opened(from.came.elapsed());
    shared.emit(Event::Connected {
        device: session.opened.device.id.to_string(),
        peer,
        client_id: session.opened.client_id.clone(),
        credential: session.opened.shown.clone(),
        resumed,
    });
    shared.note_use(&session.opened.device.id, &session.opened.credential);
    watch_for_clones(shared, &live, &session.opened.device, peer);
    Some(session)
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

fn watch_for_clones(shared: &Arc<Shared>, live: &Live, device: &DeviceRecord, peer: SocketAddr) {
    let watched = live.settings.kind(&device.kind).is_ok_and(|kind| kind.clone_watch != CloneWatch::Off);
    if let Some(sign) = watched.then(|| shared.clones.note(&device.id, peer.ip(), Instant::now())).flatten() {
        shared.clone_sign(device, peer, sign);
    }
}

/// Whether a certificate that was replaced is shown although its successor was used: then two have a key of the device.
async fn watch_for_old_keys(shared: &Arc<Shared>, device: &DeviceId, shown: &Credential, peer: SocketAddr) {
    let Credential::Certificate(fingerprint) = shown else { return };
    let Ok(found) = shared.knowledge.devices(vec![device.clone()]).await else { return };
    let Some(view) = found.into_iter().next().flatten() else { return };
    // Newest first.
    let newer = view.credentials.iter().take_while(|each| each.fingerprint != *fingerprint);
    if let Some(used) = newer.filter(|each| each.first_used.is_some()).last() {
        let sign = format!("a certificate was shown that was replaced by {}, which is in use", used.name());
        shared.clone_sign(&view.device, peer, sign);
    }
}

/// Reads the CONNECT; on failure gives the answer, which may be empty, and the reason.
fn parse_connect<'a>(frame: &Frame<'a>) -> Result<Connect<'a>, (Vec<u8>, String)> {
    if frame.packet_type != PacketType::Connect {
        // MQTT 5.0 section 3.1: closed without a word.
        return Err((Vec::new(), "the first packet was not CONNECT".to_owned()));
    }
    Connect::parse(frame).map_err(|malformed| {
        let answer = if malformed.code == reason::UNSUPPORTED_VERSION {
            connack(Version::V311, return_code::BAD_VERSION, None)
        } else {
            Vec::new()
        };
        (answer, malformed.to_string())
    })
}

/// All checks of a CONNECT. The session is registered before the check that counts, so that no change slips between.
async fn open(
    shared: &Arc<Shared>,
    live: &Live,
    connect: &Connect<'_>,
    leaf: Option<Arc<[u8]>>,
    peer: SocketAddr,
) -> Result<Opened, Refusal> {
    if connect.properties.text(PropertyId::AuthenticationMethod).is_some() {
        return Err(Refusal::new(
            reason::BAD_AUTHENTICATION_METHOD,
            return_code::NOT_AUTHORIZED,
            "enhanced authentication is not offered",
        ));
    }
    let read = |der: &Arc<[u8]>| Certificate::from_der(der).map_err(|_| NotAdmitted::UnknownCertificate);
    let parsed = leaf.as_ref().map(read).transpose()?;
    let resolved = match &parsed {
        Some(leaf) => Some(shared.knowledge.resolve(leaf, &live.settings, &shared.trust.now()).await?),
        None => None,
    };
    let certificate = resolved.as_ref().map(|resolved| resolved.fingerprint);
    let shown = Shown { certificate, user_name: connect.user_name, password: connect.password };
    let now = shared.knowledge.now();
    let (credential, beside) = credential(&shown, &live.token_key, &live.parties, now)?;
    let (device, asked) = match (&credential, resolved) {
        (Credential::Token(token), _) => (token.device.clone(), None),
        (Credential::Certificate(_), Some(Resolved { device, asked, .. })) => (device, asked),
        (Credential::Certificate(_), None) => return Err(NotAdmitted::UnknownCertificate.into()),
    };
    let shown = (&shown, beside.as_ref());
    let known = Known { credential, leaf: parsed.as_ref(), asked };
    let admitted = admit(shared, live, connect, shown, known, &device, peer).await;
    admitted.map(|opened| Opened { leaf, ..opened }).map_err(|refusal| Refusal { device: Some(device), ..refusal })
}

/// What a client is known by.
struct Known<'a> {
    credential: Credential,
    /// The certificate that it showed.
    leaf: Option<&'a Certificate>,
    /// What the store said when it was asked whose certificate that is.
    asked: Option<Asked>,
}

/// The checks that need to know the device.
async fn admit(
    shared: &Arc<Shared>,
    live: &Live,
    connect: &Connect<'_>,
    (shown, beside): (&Shown<'_>, Option<&VerifiedToken>),
    known: Known<'_>,
    device: &DeviceId,
    peer: SocketAddr,
) -> Result<Opened, Refusal> {
    let Known { credential, leaf, asked } = known;
    same_device(shown, beside, device)?;
    if let Some(left) = shared.floods.waits(device, Instant::now()) {
        let why =
            format!("it was disconnected because it went on although it was refused; {} s to wait", left.as_secs() + 1);
        return Err(Refusal::new(reason::RATE, return_code::UNAVAILABLE, why));
    }
    let limits = Limits::of(&live.settings.guard);
    let mut registered = shared
        .registry
        .register(device, peer.ip().into(), limits)
        .map_err(|no_room| Refusal::new(reason::QUOTA, return_code::UNAVAILABLE, no_room.to_string()))?;
    registered.with(&credential);
    registered.control.mark_unchanged();
    let (admitted, changes) = match shared.knowledge.admit(&credential, &live.settings, asked).await {
        Ok(admitted) => admitted,
        Err(error) => {
            if matches!(error, NotAdmitted::Credential(Unusable::Superseded { .. })) {
                watch_for_old_keys(shared, device, &credential, peer).await;
            }
            return Err(error.into());
        }
    };
    registered.ends(admitted.ends);
    if let Some(changes) = &changes {
        take_trust(shared, changes.authorities).await;
    }
    // A resumed handshake did not look at the chain, and the authorities may be others since a full one did.
    let trust = shared.trust.now();
    if leaf.is_some_and(|leaf| trust.judge(leaf, shared.knowledge.now()).is_err()) {
        return Err(Refusal::not_authorized(NOT_TRUSTED));
    }
    if changes.is_none() {
        // It comes in by what was known before the store fell silent, and is looked at as soon as it answers.
        registered.stale();
    }
    let standing = shared.standing(&admitted.device, changes.as_ref()).await;
    let id = admitted.device.id.as_str();
    let assigned = connect.client_id.is_empty();
    if assigned && connect.version == Version::V311 && !connect.clean_start {
        let why = "an empty client identifier needs a clean session (MQTT 3.1.1 section 3.1.3.1)";
        return Err(Refusal::new(reason::BAD_CLIENT_ID, return_code::BAD_CLIENT_ID, why));
    }
    let client_id = if assigned { id } else { connect.client_id };
    let standing = standing.ok_or_else(|| Refusal::not_authorized(Denial::NoEdition.to_string()))?;
    let decision = standing.rights.connect(client_id);
    shared.watching(device, standing.trial.clone()).connect(client_id, decision.is_ok());
    if let Err(denial) = decision {
        let event = Event::denied(id, peer, "connect", client_id, &denial);
        // No rule at all is a question of rights; a rule for other names is a question of the name.
        return Err(match denial {
            Denial::NoRule { ref instead, .. } if !instead.is_empty() => {
                Refusal::denied(reason::BAD_CLIENT_ID, return_code::BAD_CLIENT_ID, &denial, event)
            }
            _ => Refusal::denied(reason::NOT_AUTHORIZED, return_code::NOT_AUTHORIZED, &denial, event),
        });
    }
    if let Some(will) = &connect.will {
        check_will(will, &standing.rights, id, peer)?;
    }
    let client_id = client_id.to_owned();
    Ok(Opened {
        expiry: Duration::ZERO,
        registered,
        credential,
        ends: admitted.ends,
        device: admitted.device,
        shown: admitted.shown,
        standing,
        client_id,
        assigned,
        generation: live.generation,
        trusted: trust.generation,
        asked: 0,
        leaf: None,
    })
}

fn will_message<'a>(will: &Will<'a>) -> Result<Message<'a>, String> {
    let topic = TopicName::parse(will.topic).map_err(|error| format!("the will: {error}"))?;
    Ok(Message::new(topic, (will.qos, will.retain), will.payload, &will.properties))
}

/// Whether a will may be left as things stand. It is decided again when it goes, and charged then.
fn check_will(will: &Will<'_>, rights: &Rights, device: &str, peer: SocketAddr) -> Result<(), Refusal> {
    let bad_topic = |why| Refusal::new(reason::BAD_TOPIC, return_code::NOT_AUTHORIZED, why);
    let message = will_message(will).map_err(bad_topic)?;
    match message.decide(rights, &mut policy::NoMeter) {
        Ok(_) => Ok(()),
        Err(Refused::BadResponse(why)) => Err(bad_topic(format!("the will's response topic: {why}"))),
        Err(Refused::Denied(denial)) => {
            let event = Event::denied(device, peer, "will", will.topic, &denial);
            Err(Refusal::denied(reason::NOT_AUTHORIZED, return_code::NOT_AUTHORIZED, &denial, event))
        }
        Err(refused @ Refused::Response(_)) => Err(Refusal::not_authorized(format!("the will: {refused}"))),
    }
}

/// How a session ended, for the client, the broker and the log.
struct Ending {
    /// Last packet for the client.
    to_client: Vec<u8>,
    /// Whether the broker is told goodbye, which discards the will.
    goodbye: bool,
    /// Whether the client was lost, so that the broker publishes its will, if it may.
    lost: bool,
    /// Whether it was ended because it went on although it was refused.
    flood: bool,
    event: Event,
}

/// Reaches the broker in the client's name, and passes its CONNACK on.
async fn go_on<S>(
    shared: &Arc<Shared>,
    live: &Live,
    mut client: Side<S>,
    connect: &Connect<'_>,
    opened: Opened,
    peer: SocketAddr,
) -> Option<Session<S>>
where
    S: AsyncRead + AsyncWrite + Unpin + Send,
{
    let version = connect.version;
    let explanations = Explanations::of(&connect.properties);
    let meter = Box::new(shared.rates.of(&opened.device.id, std::time::Instant::now()));
    let watching = shared.watching(&opened.device.id, opened.standing.trial.clone());
    let ways = (live.manner(&opened.device.kind), shared.counting(&opened.device.id));
    let mut gate = Gate::new(
        (version, explanations),
        peer,
        opened.standing.rights.clone(),
        watching,
        meter,
        ways,
        Moment::now(&*shared.clock),
    );
    if let Some(why) = too_many_kept(shared, connect, &opened).await {
        let code = if version == Version::V5 { reason::QUOTA } else { return_code::UNAVAILABLE };
        client.queue(&explanations.packet(&why, |text| connack(version, code, text)));
        refused(shared, (Some(&opened.device.id), peer), &opened.client_id, why);
        see_off(shared, client).await;
        return None;
    }
    let (answered, restored) = open_at_broker(shared, live, connect, &opened).await;
    let unavailable = || match version {
        Version::V5 => {
            explanations.packet("the broker does not answer", |text| connack(version, reason::SERVER_UNAVAILABLE, text))
        }
        Version::V311 => connack(version, return_code::UNAVAILABLE, None),
    };
    let (broker, packet) = match answered {
        Ok(answered) => answered,
        Err(why) => {
            client.queue(&unavailable());
            let what = format!("the broker at {}: {why}", live.upstream.address());
            shared.emit(Event::Trouble { what });
            client.last_words().await;
            return None;
        }
    };
    let frame = split(&packet, MAX_CONNECT).ok().flatten()?;
    let answer = Connack::parse(&frame, version).ok()?;
    if refuses_the_guard(&answer, version) {
        client.queue(&unavailable());
        let what = format!(
            "the broker at {} refuses the guard's own credentials with code 0x{:02x}: set broker_user and \
             broker_password_file under [guard] in ward.toml",
            live.upstream.address(),
            answer.code
        );
        shared.emit(Event::Trouble { what });
        client.last_words().await;
        return None;
    }
    let told = told_to_client(&answer, live, connect, &opened);
    client.queue(&told.to_bytes(version));
    if answer.code != reason::SUCCESS {
        let why = format!("the broker refused the connection with code 0x{:02x}", answer.code);
        refused(shared, (Some(&opened.device.id), peer), &opened.client_id, why);
        client.last_words().await;
        return None;
    }
    gate.connected(&connect.properties, &answer.properties);
    let keep_alive = told.server_keep_alive().unwrap_or(connect.keep_alive);
    let longest = longest_keep_alive(live);
    let keep_alive = if keep_alive == 0 { longest } else { keep_alive.min(longest) };
    let max_packet = usize::try_from(live.settings.guard.max_packet).unwrap_or(usize::MAX);
    let will = connect.will.as_ref().and_then(LastWill::of);
    shared.wills.back(&opened.client_id);
    let expiry = expiry(connect, &answer);
    let mut out = Output::default();
    if answer.session_present {
        gate.resume(Moment::now(&*shared.clock), Arc::new(Subscriptions::of(restored.unwrap_or_default())), &mut out);
    }
    if expiry > 0 {
        let subscriptions = gate.subscriptions().clone();
        let (device, opened_at) = (opened.device.id.clone(), shared.knowledge.now());
        let expiry = Span::from_seconds(expiry);
        shared.kept.opened(&opened.client_id, Lasting { device, opened: opened_at, expiry, subscriptions });
    } else if connect_may_last(connect) || answer.session_present {
        shared.kept.gone(&opened.client_id);
    }
    let opened = Opened { expiry: Duration::from_secs(u64::from(expiry)), ..opened };
    let mut relay = Relay::new((client, broker), gate, shared.clock.clone(), max_packet, keep_alive);
    relay.deliver(out, &|event| shared.emit(event));
    Some(Session { relay, opened, will, version, explanations })
}

/// Whether a session of this kind may have been there before.
fn connect_may_last(connect: &Connect<'_>) -> bool {
    !connect.clean_start
}

/// How long the broker keeps the session when its connection is gone, in seconds (MQTT 5.0 section 3.1.2.11.2). In MQTT 3.1.1 one
/// that is not clean stays for good.
fn expiry(connect: &Connect<'_>, answer: &Connack<'_>) -> u32 {
    match connect.version {
        Version::V311 if connect.clean_start => 0,
        Version::V311 => u32::MAX,
        Version::V5 => {
            let told = answer.properties.number(PropertyId::SessionExpiry);
            told.or(connect.properties.number(PropertyId::SessionExpiry)).unwrap_or(0)
        }
    }
}

fn longest_keep_alive(live: &Live) -> u16 {
    u16::try_from(live.settings.guard.longest_keep_alive.seconds()).unwrap_or(u16::MAX)
}

/// The most sessions that the broker keeps for one device while it is away: each costs it memory, and a row in the store.
const MOST_KEPT: usize = 32;

/// Why a session that lasts is not begun, if the device has too many already.
async fn too_many_kept(shared: &Shared, connect: &Connect<'_>, opened: &Opened) -> Option<String> {
    let lasts = match connect.version {
        Version::V311 => !connect.clean_start,
        Version::V5 => connect.properties.number(PropertyId::SessionExpiry).unwrap_or(0) > 0,
    };
    if !lasts || shared.kept.waiting(&opened.client_id).is_some() {
        return None;
    }
    // While the store does not answer, none that is new comes in anyway.
    let count = shared.knowledge.broker_sessions_of(opened.device.id.clone()).await.ok()?;
    let known = || shared.knowledge.broker_session(opened.client_id.clone());
    if count < MOST_KEPT || known().await.is_ok_and(|session| session.is_some()) {
        return None;
    }
    Some(format!("the broker keeps {count} sessions for the device, which is the most that one may have"))
}

type AtBroker = Result<(Side<BrokerStream>, Vec<u8>), String>;

/// Opens the session at the broker, and gives what the broker has of it, if it goes on with one. A session of which nobody knows
/// what it is subscribed to is begun anew: what it would bring is not for the guard to guess.
async fn open_at_broker(
    shared: &Arc<Shared>,
    live: &Live,
    connect: &Connect<'_>,
    opened: &Opened,
) -> (AtBroker, Option<Vec<String>>) {
    let known = match connect_may_last(connect) {
        false => Ok(None),
        true => match shared.kept.waiting(&opened.client_id) {
            Some(waiting) => Ok(Some(waiting)),
            None => shared.knowledge.broker_session(opened.client_id.clone()).await,
        },
    };
    // While the store does not answer, each message of such a session is looked at by itself.
    let store_answers = known.is_ok();
    let known = known.ok().flatten().filter(|session| session.device == opened.device.id);
    let first = open_once(live, connect, opened).await;
    let present = |answered: &AtBroker| {
        answered.as_ref().is_ok_and(|(_, packet)| {
            let frame = split(packet, MAX_CONNECT).ok().flatten();
            frame.and_then(|frame| Connack::parse(&frame, connect.version).ok()).is_some_and(|it| it.session_present)
        })
    };
    if !present(&first) || known.is_some() || !store_answers {
        return (first, known.map(|session| session.subscriptions));
    }
    if let Ok((mut broker, _)) = first {
        broker.queue(&disconnect(connect.version, reason::SUCCESS, None));
        broker.last_words().await;
        broker.drain().await;
    }
    let clean = Connect { clean_start: true, ..connect.clone() };
    (open_once(live, &clean, opened).await, None)
}

async fn open_once(live: &Live, connect: &Connect<'_>, opened: &Opened) -> AtBroker {
    let mut broker = reach_broker(live, connect, opened).await?;
    let answer = answer_of(&mut broker, connect.version).await?;
    Ok((broker, answer))
}

/// Whether a refusal is about the guard and not about its client: then it is nothing that the client could mend.
fn refuses_the_guard(answer: &Connack<'_>, version: Version) -> bool {
    match version {
        Version::V5 => matches!(
            answer.code,
            reason::BAD_LOGIN | reason::NOT_AUTHORIZED | reason::BAD_AUTHENTICATION_METHOD | reason::BANNED
        ),
        Version::V311 => matches!(answer.code, return_code::BAD_LOGIN | return_code::NOT_AUTHORIZED),
    }
}

/// The broker's CONNACK as the client gets it: with the client identifier if one was assigned, and with the largest packet
/// that the guard and the broker take, the property that the guard adds included.
fn told_to_client<'a>(answer: &Connack<'a>, live: &Live, connect: &Connect<'_>, opened: &'a Opened) -> Connack<'a> {
    let version = connect.version;
    if version == Version::V311 || answer.code != reason::SUCCESS {
        return answer.clone();
    }
    let settings = &live.settings.guard;
    let mut properties: Properties<'_> = answer.properties.without(PropertyId::MaximumPacketSize);
    let mut largest = settings.max_packet;
    if let Some(broker) = answer.properties.number(PropertyId::MaximumPacketSize) {
        // A gateway's messages may name a child too.
        let added = PROPERTY_OVERHEAD + settings.sender_property.len() + 2 * 64 + 1;
        largest = largest.min(broker.saturating_sub(u32::try_from(added).unwrap_or(u32::MAX)).max(1));
    }
    properties = properties.with(PropertyId::MaximumPacketSize, Value::Number(largest));
    let longest = longest_keep_alive(live);
    let asked = answer.server_keep_alive().unwrap_or(connect.keep_alive);
    if asked == 0 || asked > longest {
        properties = properties.without(PropertyId::ServerKeepAlive);
        properties = properties.with(PropertyId::ServerKeepAlive, Value::Number(u32::from(longest)));
    }
    if opened.assigned {
        let id = Value::Text(&opened.client_id);
        properties = properties.without(PropertyId::AssignedClientIdentifier);
        properties = properties.with(PropertyId::AssignedClientIdentifier, id);
    }
    Connack { properties, ..answer.clone() }
}

/// Relays until the session ends.
async fn converse<S>(shared: &Arc<Shared>, session: &mut Session<S>) -> Ending
where
    S: AsyncRead + AsyncWrite + Unpin + Send,
{
    let device = session.opened.device.id.to_string();
    let speech = (session.version, session.explanations);
    let emit = |event| shared.emit(event);
    let closed = |why: String| Event::Closed { device: device.clone(), why };
    loop {
        let control = &mut session.opened.registered.control;
        let attention = async {
            // The sender lives in the registry as long as this session is registered.
            let _ = control.changed().await;
        };
        let stop = session.relay.run(attention, &emit).await;
        let mut flood = false;
        let lost = match stop {
            Stop::Attention => {
                if session.opened.registered.control.borrow_and_update().stop {
                    let to_client = last_packet(speech, reason::SHUTTING_DOWN, "the guard stops");
                    return Ending {
                        to_client,
                        goodbye: true,
                        lost: false,
                        flood: false,
                        event: closed("the guard stops".to_owned()),
                    };
                }
                match look_again(shared, &mut session.opened, false).await {
                    Ok(standing) => {
                        let mut out = Output::default();
                        let manner = shared.live().manner(&session.opened.device.kind);
                        session.relay.gate.set_standing(Moment::now(&*shared.clock), standing, manner, &mut out);
                        session.relay.deliver(out, &emit);
                        continue;
                    }
                    Err(why) => return cut(speech, &device, why),
                }
            }
            Stop::Closed(Close::Goodbye) => {
                return Ending {
                    to_client: Vec::new(),
                    goodbye: false,
                    lost: false,
                    flood: false,
                    event: closed("the client said goodbye".into()),
                };
            }
            Stop::Closed(Close::BrokerGoodbye) => {
                return Ending {
                    to_client: Vec::new(),
                    goodbye: false,
                    lost: false,
                    flood: false,
                    event: closed("the broker ended it".into()),
                };
            }
            Stop::Closed(Close::Broker(why)) | Stop::BrokerLost(why) => {
                // MQTT 5.0 has no code for this in DISCONNECT; a server that goes down is what it amounts to.
                let to_client = last_packet(speech, reason::SHUTTING_DOWN, "the broker is gone; come back later");
                return Ending {
                    to_client,
                    goodbye: false,
                    lost: true,
                    flood: false,
                    event: closed(format!("the broker: {why}")),
                };
            }
            Stop::Closed(Close::GoodbyeWithWill) => (Vec::new(), "the client said goodbye with its will".to_owned()),
            Stop::Closed(Close::Flood) => {
                let why = "it was refused too often";
                flood = true;
                (last_packet(speech, reason::QUOTA, why), why.to_owned())
            }
            Stop::Closed(Close::Fault { code, why }) => (last_packet(speech, code, &why), why),
            Stop::Silent => {
                let why = "the client was silent for longer than its keep-alive";
                (last_packet(speech, reason::KEEP_ALIVE_TIMEOUT, why), why.to_owned())
            }
            Stop::ClientLost(why) => (Vec::new(), why),
        };
        let (to_client, why) = lost;
        let goodbye = !will_may_go(shared, session).await;
        return Ending { to_client, goodbye, lost: true, flood, event: closed(why) };
    }
}

/// DISCONNECT with a reason where the version has one for servers.
fn last_packet((version, explanations): (Version, Explanations), code: u8, why: &str) -> Vec<u8> {
    match version {
        Version::V5 => explanations.packet(why, |text| disconnect(version, code, text)),
        Version::V311 => Vec::new(),
    }
}

fn cut(speech: (Version, Explanations), device: &str, why: String) -> Ending {
    Ending {
        to_client: last_packet(speech, reason::ADMINISTRATIVE, &why),
        goodbye: true,
        lost: false,
        flood: false,
        event: Event::Cut { device: device.to_owned(), why },
    }
}

/// Whether the client's will may be published now: decided by the state and edition of this moment.
async fn will_may_go<S>(shared: &Arc<Shared>, session: &mut Session<S>) -> bool
where
    S: AsyncRead + AsyncWrite + Unpin + Send,
{
    // One that the broker does not have is decided on when it is due.
    let Some(will) = session.will.as_ref().filter(|will| !will.is_own()) else { return true };
    let Ok(standing) = look_again(shared, &mut session.opened, true).await else { return false };
    will.may_go(&standing.rights, &mut shared.rates.of(&session.opened.device.id, std::time::Instant::now()))
}

/// Checks state, clock and edition anew; a session that may no longer be gets the reason. The store is asked if `ask` is set,
/// if the follower wants it so, or if the settings are other ones; else what the follower read counts.
async fn look_again(shared: &Arc<Shared>, opened: &mut Opened, ask: bool) -> Result<Standing, String> {
    let live = shared.live();
    let control = *opened.registered.control.borrow();
    let mut changes = None;
    let verdict = match opened.registered.verdict() {
        Some(verdict) if !ask => Some(verdict),
        _ if ask || control.ask != opened.asked || live.generation != opened.generation => {
            let asked = shared.knowledge.admit(&opened.credential, &live.settings, None).await;
            Some(asked.map(|(admitted, told)| {
                changes = told;
                admitted
            }))
        }
        _ => None,
    };
    opened.asked = control.ask;
    match verdict {
        Some(Ok(admitted)) => {
            opened.registered.ends(admitted.ends);
            opened.ends = admitted.ends;
            opened.device = admitted.device;
        }
        // What is known of this session stays true until the store tells otherwise, or for as long as the settings say.
        Some(Err(error)) if error.is_doubt() => opened.registered.stale(),
        Some(Err(other)) => return Err(other.to_string()),
        None => {}
    }
    if shared.knowledge.now() > opened.ends {
        return Err(format!("its credential ended at {}", opened.ends));
    }
    if let Some(why) = shared.knowledge.exhausted(&live.settings) {
        return Err(why);
    }
    let trust = shared.trust.now();
    if trust.generation != opened.trusted {
        if opened.leaf.as_ref().is_some_and(|leaf| !trust.takes(leaf, shared.knowledge.now())) {
            return Err(NOT_TRUSTED.to_owned());
        }
        opened.trusted = trust.generation;
    }
    opened.generation = live.generation;
    let standing =
        shared.standing(&opened.device, changes.as_ref()).await.ok_or_else(|| Denial::NoEdition.to_string())?;
    standing.rights.connect(&opened.client_id).map_err(|denial| denial.to_string())?;
    Ok(standing)
}

/// Connects to the broker and sends CONNECT: without the client's user name and password, under the checked client
/// identifier, and with the sender's name on its will.
async fn reach_broker(live: &Live, connect: &Connect<'_>, opened: &Opened) -> Result<Side<BrokerStream>, String> {
    let stream = live.upstream.connect().await.map_err(|error| error.to_string())?;
    let name = &live.settings.guard.sender_property;
    let device = opened.device.id.as_str();
    let child = connect.will.as_ref().and_then(|will| {
        let message = will_message(will).ok()?;
        message.decide(&opened.standing.rights, &mut policy::NoMeter).ok()?.child.cloned()
    });
    let sender = sender(device, child.as_ref());
    // A will that waits is the guard's own: the broker would publish it whatever becomes of its sender's right.
    let waits = |will: &Will<'_>| will.properties.number(PropertyId::WillDelay).unwrap_or(0) > 0;
    let will = connect.will.clone().filter(|will| !waits(will)).map(|will| match connect.version {
        Version::V5 if !name.is_empty() => {
            let properties = will.properties.without_user(name);
            Will { properties: properties.with(PropertyId::UserProperty, Value::Pair(name, &sender)), ..will }
        }
        _ => will,
    });
    let upstream = live.upstream.sign_in(Connect { client_id: &opened.client_id, will, ..connect.clone() });
    let mut broker = Side::new(stream);
    broker.queue(&upstream.to_bytes());
    Ok(broker)
}

/// Waits for the broker's CONNACK.
async fn answer_of(broker: &mut Side<BrokerStream>, version: Version) -> Result<Vec<u8>, String> {
    let answer = tokio::time::timeout(PATIENCE, async {
        broker.flush_all().await?;
        broker.packet(MAX_CONNECT).await
    });
    let len = match answer.await {
        Ok(Ok(len)) => len,
        Ok(Err(Interrupted::Lost(why))) => return Err(why),
        Ok(Err(Interrupted::Malformed(malformed))) => return Err(malformed.to_string()),
        Err(_) => return Err("it did not answer CONNECT in time".to_owned()),
    };
    let packet: Vec<u8> = broker.input.drain(..len).collect();
    let frame = split(&packet, MAX_CONNECT).ok().flatten().filter(|frame| frame.packet_type == PacketType::Connack);
    match frame.map(|frame| Connack::parse(&frame, version)) {
        Some(Ok(_)) => Ok(packet),
        _ => Err("it answered CONNECT with something else".to_owned()),
    }
}
