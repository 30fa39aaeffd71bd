//! One connection, from the handshake to its end.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{
    Connack, Connect, Frame, PacketType, Properties, PropertyId, Value, Version, Will, connack, disconnect, reason,
    return_code, split,
};
use tidy_warden_core::policy::{self, Denial, Rights};
use tidy_warden_core::token::VerifiedToken;
use tidy_warden_core::topic::TopicName;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::server::TlsStream;

use crate::Event;
use crate::gate::{Close, Explanations, Gate, Output};
use crate::identity::{Credential, NotAdmitted, Shown, credential, same_device};
use crate::registry::Registered;
use crate::relay::{Interrupted, Relay, Side, Stop};
use crate::shared::{Shared, Standing};

/// How long a client may take for the handshake and its CONNECT together.
pub(crate) const OPENING: Duration = Duration::from_secs(10);

/// How long the broker may take to accept a connection and to answer CONNECT.
const BROKER: Duration = Duration::from_secs(10);

/// The largest CONNECT taken, in octets: a client identifier, a token and a small will.
const MAX_CONNECT: usize = 64 * 1024;

/// A refusal of a CONNECT: its code in both versions, and why.
struct Refusal {
    v5: u8,
    v311: u8,
    why: String,
    /// The event, where the policy decided.
    event: Option<Box<Event>>,
    /// Whose connection it is, once that is known.
    device: Option<String>,
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
            NotAdmitted::Store(_) => Self::new(reason::SERVER_UNAVAILABLE, return_code::UNAVAILABLE, error.to_string()),
            _ => Self::not_authorized(error.to_string()),
        }
    }
}

/// A CONNECT that was admitted.
struct Opening {
    registered: Registered,
    credential: Credential,
    device: DeviceRecord,
    shown: String,
    standing: Standing,
    client_id: String,
    assigned: bool,
}

/// Serves one client until its session ends. `stream` has finished its handshake.
pub(crate) async fn serve(
    shared: Arc<Shared>,
    stream: TlsStream<TcpStream>,
    peer: SocketAddr,
    opened_by: tokio::time::Instant,
) {
    let (_, tls) = stream.get_ref();
    let leaf = tls.peer_certificates().and_then(|chain| chain.first()).map(|leaf| leaf.to_vec());
    let resumed = tls.handshake_kind() == Some(rustls::HandshakeKind::Resumed);
    let mut client = Side::new(stream);
    let first = tokio::time::timeout_at(opened_by, client.packet(MAX_CONNECT)).await;
    let refused_as = |device: Option<String>, subject: &str, why: String| Event::Refused {
        device,
        peer,
        act: "connect",
        subject: subject.to_owned(),
        why,
        rule: None,
    };
    let refused = |subject: &str, why: String| refused_as(None, subject, why);
    let len = match first {
        Ok(Ok(len)) => len,
        Ok(Err(Interrupted::Lost(why))) => return shared.emit(refused("", format!("no CONNECT came: {why}"))),
        Ok(Err(Interrupted::Malformed(malformed))) => {
            return shared.emit(refused("", format!("no CONNECT came: {malformed}")));
        }
        Err(_) => return shared.emit(refused("", "no CONNECT came in time".to_owned())),
    };
    let packet: Vec<u8> = client.input.drain(..len).collect();
    let Ok(Some(frame)) = split(&packet, MAX_CONNECT) else { return };
    let connect = match parse_connect(&frame) {
        Ok(connect) => connect,
        Err((answer, why)) => {
            client.queue(&answer);
            client.last_words().await;
            return shared.emit(refused("", why));
        }
    };
    match open(&shared, &connect, leaf, peer).await {
        Ok(opening) => run(&shared, client, &connect, opening, peer, resumed).await,
        Err(refusal) => {
            let code = if connect.version == Version::V5 { refusal.v5 } else { refusal.v311 };
            let explained = Explanations::of(&connect.properties);
            client.queue(&explained.packet(&refusal.why, |text| connack(connect.version, code, text)));
            client.last_words().await;
            let event = refusal.event.map(|event| *event);
            let event = event.unwrap_or_else(|| refused_as(refusal.device, connect.client_id, refusal.why));
            shared.emit(event);
        }
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
    connect: &Connect<'_>,
    leaf: Option<Vec<u8>>,
    peer: SocketAddr,
) -> Result<Opening, Refusal> {
    if connect.properties.text(PropertyId::AuthenticationMethod).is_some() {
        return Err(Refusal::new(
            reason::BAD_AUTHENTICATION_METHOD,
            return_code::NOT_AUTHORIZED,
            "enhanced authentication is not offered",
        ));
    }
    let certificate = match leaf {
        Some(der) => Some(shared.knowledge.resolve(der).await?),
        None => None,
    };
    let shown = Shown { certificate, user_name: connect.user_name, password: connect.password };
    let now = shared.knowledge.now();
    let (credential, beside) = credential(&shown, &shared.token_key, &shared.parties, now)?;
    let device = shared.knowledge.device_of(&credential).await?;
    admit(shared, connect, (&shown, beside.as_ref()), credential, &device, peer)
        .await
        .map_err(|refusal| Refusal { device: Some(device.to_string()), ..refusal })
}

/// The checks that need to know the device.
async fn admit(
    shared: &Arc<Shared>,
    connect: &Connect<'_>,
    (shown, beside): (&Shown<'_>, Option<&VerifiedToken>),
    credential: Credential,
    device: &DeviceId,
    peer: SocketAddr,
) -> Result<Opening, Refusal> {
    same_device(shown, beside, device)?;
    let mut registered = shared.registry.register(device);
    registered.control.mark_unchanged();
    let admitted = shared.knowledge.admit(&credential, &shared.settings).await?;
    registered.ends(admitted.ends);
    let standing = shared.standing(&admitted.device).await;
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
    Ok(Opening {
        registered,
        credential,
        device: admitted.device,
        shown: admitted.shown,
        standing,
        client_id,
        assigned,
    })
}

fn will_act<'a>(will: &Will<'a>) -> Result<policy::Publish<'a>, String> {
    let topic = TopicName::parse(will.topic).map_err(|error| format!("the will: {error}"))?;
    Ok(policy::Publish { topic, qos: will.qos, retain: will.retain, size: will.payload.len() })
}

fn check_will(will: &Will<'_>, rights: &Rights, device: &str, peer: SocketAddr) -> Result<(), Refusal> {
    let act = will_act(will).map_err(|why| Refusal::new(reason::BAD_TOPIC, return_code::NOT_AUTHORIZED, why))?;
    rights.publish(act, &mut policy::NoMeter).map(|_| ()).map_err(|denial| {
        let event = Event::denied(device, peer, "will", will.topic, &denial);
        Refusal::denied(reason::NOT_AUTHORIZED, return_code::NOT_AUTHORIZED, &denial, event)
    })
}

/// How a session ended, for the client, the broker and the log.
struct Ending {
    /// Last packet for the client.
    to_client: Vec<u8>,
    /// Whether the broker is told goodbye, which discards the will.
    goodbye: bool,
    event: Event,
}

async fn run(
    shared: &Arc<Shared>,
    mut client: Side<TlsStream<TcpStream>>,
    connect: &Connect<'_>,
    mut opening: Opening,
    peer: SocketAddr,
    resumed: bool,
) {
    let version = connect.version;
    let device = opening.device.id.to_string();
    let mut broker = match reach_broker(shared, connect, &opening.client_id).await {
        Ok(broker) => broker,
        Err(why) => {
            client.queue(&match version {
                Version::V5 => connack(version, reason::SERVER_UNAVAILABLE, Some("the broker cannot be reached")),
                Version::V311 => connack(version, return_code::UNAVAILABLE, None),
            });
            client.last_words().await;
            return shared.emit(Event::Trouble { what: format!("the broker at {}: {why}", shared.broker) });
        }
    };
    let meter = Box::new(shared.rates.of(&opening.device.id));
    let speech = (version, Explanations::of(&connect.properties));
    let on_denied = shared.settings.on_refusal(&opening.device.kind);
    let watching = shared.watching(&opening.device.id, opening.standing.trial.clone());
    let mut gate = Gate::new(speech, peer, opening.standing.rights.clone(), watching, meter, on_denied);
    let accepted = match pass_connack(&mut client, &mut broker, &mut gate, version, &opening).await {
        Ok(keep_alive) => keep_alive,
        Err(why) => {
            client.last_words().await;
            return shared.emit(Event::Closed { device, why });
        }
    };
    shared.emit(Event::Connected {
        device: device.clone(),
        peer,
        client_id: opening.client_id.clone(),
        credential: opening.shown.clone(),
        resumed,
    });
    shared.note_use(opening.device.id.clone(), opening.credential.clone());
    let keep_alive = accepted.unwrap_or(connect.keep_alive);
    let max_packet = usize::try_from(shared.settings.guard.max_packet).unwrap_or(usize::MAX);
    let mut relay = Relay::new(client, broker, gate, max_packet, keep_alive);
    let ending = converse(shared, &mut relay, connect, &mut opening, speech).await;
    let Relay { mut client, mut broker, .. } = relay;
    client.queue(&ending.to_client);
    // What was allowed before the end still goes on. Without a goodbye behind it the broker takes the end of the
    // connection for a loss, and publishes the will, if there is one.
    if ending.goodbye {
        broker.queue(&disconnect(version, reason::SUCCESS, None));
    }
    tokio::join!(broker.last_words(), client.last_words());
    shared.emit(ending.event);
}

/// Relays until the session ends.
async fn converse<C, B>(
    shared: &Arc<Shared>,
    relay: &mut Relay<C, B>,
    connect: &Connect<'_>,
    opening: &mut Opening,
    speech: (Version, Explanations),
) -> Ending
where
    C: AsyncRead + AsyncWrite + Unpin,
    B: AsyncRead + AsyncWrite + Unpin,
{
    let device = opening.device.id.to_string();
    let emit = |event| shared.emit(event);
    let closed = |why: String| Event::Closed { device: device.clone(), why };
    loop {
        let control = &mut opening.registered.control;
        let attention = async {
            // The sender lives in the registry as long as this session is registered.
            let _ = control.changed().await;
        };
        let stop = relay.run(attention, &emit).await;
        let lost = match stop {
            Stop::Attention => {
                if opening.registered.control.borrow_and_update().stop {
                    let to_client = last_packet(speech, reason::SHUTTING_DOWN, "the guard stops");
                    return Ending { to_client, goodbye: true, event: closed("the guard stops".to_owned()) };
                }
                match look_again(shared, opening).await {
                    Ok(standing) => {
                        let mut out = Output::default();
                        relay.gate.set_standing(standing, &mut out);
                        relay.deliver(out, &emit);
                        continue;
                    }
                    Err(why) => return cut(speech, &device, why),
                }
            }
            Stop::Closed(Close::Goodbye) => {
                return Ending {
                    to_client: Vec::new(),
                    goodbye: false,
                    event: closed("the client said goodbye".into()),
                };
            }
            Stop::Closed(Close::BrokerGoodbye) => {
                return Ending { to_client: Vec::new(), goodbye: false, event: closed("the broker ended it".into()) };
            }
            Stop::Closed(Close::Broker(why)) | Stop::BrokerLost(why) => {
                let to_client = last_packet(speech, reason::SERVER_UNAVAILABLE, "the broker is gone");
                return Ending { to_client, goodbye: false, event: closed(format!("the broker: {why}")) };
            }
            Stop::Closed(Close::GoodbyeWithWill) => (Vec::new(), "the client said goodbye with its will".to_owned()),
            Stop::Closed(Close::Fault { code, why }) => (last_packet(speech, code, &why), why),
            Stop::Silent => {
                let why = "the client was silent for longer than its keep-alive";
                (last_packet(speech, reason::KEEP_ALIVE_TIMEOUT, why), why.to_owned())
            }
            Stop::ClientLost(why) => (Vec::new(), why),
        };
        let (to_client, why) = lost;
        let goodbye = !will_may_go(shared, relay, connect, opening).await;
        return Ending { to_client, goodbye, event: closed(why) };
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
        event: Event::Cut { device: device.to_owned(), why },
    }
}

/// Whether the client's will may be published now: decided by the state and edition of this moment.
async fn will_may_go<C, B>(
    shared: &Arc<Shared>,
    relay: &mut Relay<C, B>,
    connect: &Connect<'_>,
    opening: &mut Opening,
) -> bool
where
    C: AsyncRead + AsyncWrite + Unpin,
    B: AsyncRead + AsyncWrite + Unpin,
{
    let Some(will) = &connect.will else { return true };
    let Ok(standing) = look_again(shared, opening).await else { return false };
    relay.gate.set_standing(standing, &mut Output::default());
    will_act(will).is_ok_and(|act| relay.gate.will_allowed(act).is_ok())
}

/// Checks state, clock and edition anew; a session that may no longer be gets the reason.
async fn look_again(shared: &Arc<Shared>, opening: &mut Opening) -> Result<Standing, String> {
    match shared.knowledge.admit(&opening.credential, &shared.settings).await {
        Ok(admitted) => {
            opening.registered.ends(admitted.ends);
            opening.device = admitted.device;
        }
        // What is known of this session stays true until the store tells otherwise.
        Err(NotAdmitted::Store(error)) => {
            shared.emit(Event::Trouble { what: format!("the store does not answer: {error}; live sessions go on") });
        }
        Err(other) => return Err(other.to_string()),
    }
    let standing = shared.standing(&opening.device).await.ok_or_else(|| Denial::NoEdition.to_string())?;
    standing.rights.connect(&opening.client_id).map_err(|denial| denial.to_string())?;
    Ok(standing)
}

/// Connects to the broker and sends CONNECT: without user name and password, under the checked client identifier, and
/// without taking topic aliases, so that every topic that the broker sends is written out.
async fn reach_broker(shared: &Shared, connect: &Connect<'_>, client_id: &str) -> Result<Side<TcpStream>, String> {
    let opening = tokio::time::timeout(BROKER, TcpStream::connect(&shared.broker)).await;
    let stream = opening.map_err(|_| "it does not answer".to_owned())?.map_err(|error| error.to_string())?;
    stream.set_nodelay(true).map_err(|error| error.to_string())?;
    let upstream = Connect {
        client_id,
        user_name: None,
        password: None,
        properties: connect.properties.without(PropertyId::TopicAliasMaximum),
        ..connect.clone()
    };
    let mut broker = Side::new(stream);
    broker.queue(&upstream.to_bytes());
    Ok(broker)
}

/// Waits for the broker's CONNACK and passes it on; gives the keep-alive that the broker sets, if it does.
async fn pass_connack<C, B>(
    client: &mut Side<C>,
    broker: &mut Side<B>,
    gate: &mut Gate,
    version: Version,
    opening: &Opening,
) -> Result<Option<u16>, String>
where
    C: AsyncRead + AsyncWrite + Unpin,
    B: AsyncRead + AsyncWrite + Unpin,
{
    let unavailable = if version == Version::V5 { reason::SERVER_UNAVAILABLE } else { return_code::UNAVAILABLE };
    let answer = tokio::time::timeout(BROKER, async {
        broker.flush_all().await?;
        broker.packet(MAX_CONNECT).await
    });
    let problem = match answer.await {
        Ok(Ok(len)) => {
            let packet: Vec<u8> = broker.input.drain(..len).collect();
            let frame = split(&packet, MAX_CONNECT).ok().flatten();
            match frame.filter(|frame| frame.packet_type == PacketType::Connack).map(|f| Connack::parse(&f, version)) {
                Some(Ok(connack)) => return accept_connack(client, gate, version, opening, &connack),
                _ => "it answered CONNECT with something else".to_owned(),
            }
        }
        Ok(Err(Interrupted::Lost(why))) => why,
        Ok(Err(Interrupted::Malformed(malformed))) => malformed.to_string(),
        Err(_) => "it did not answer CONNECT in time".to_owned(),
    };
    client.queue(&connack(version, unavailable, Some("the broker does not answer")));
    Err(format!("the broker: {problem}"))
}

fn accept_connack<C>(
    client: &mut Side<C>,
    gate: &mut Gate,
    version: Version,
    opening: &Opening,
    answer: &Connack<'_>,
) -> Result<Option<u16>, String>
where
    C: AsyncRead + AsyncWrite + Unpin,
{
    let mut properties: Properties<'_> = answer.properties.clone();
    if version == Version::V5 && answer.code == reason::SUCCESS && opening.assigned {
        let id = Value::Text(&opening.client_id);
        properties = properties.without(PropertyId::AssignedClientIdentifier);
        properties = properties.with(PropertyId::AssignedClientIdentifier, id);
    }
    client.queue(&Connack { properties, ..answer.clone() }.to_bytes(version));
    if answer.code != 0 {
        return Err(format!("the broker refused the connection with code {}", answer.code));
    }
    gate.connected(&answer.properties);
    Ok(answer.server_keep_alive())
}
