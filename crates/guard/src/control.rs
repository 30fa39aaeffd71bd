//! The guard's own door: a Unix socket in the ward, on which whoever may read the ward's keys follows what happens, and looks
//! at messages with a right that is as narrow as what they asked for.

use std::io;
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use tidy_warden_core::mqtt::{
    Ack, Connect, PacketType, Properties, PropertyId, Publish, SubAck, Subscribe, Subscription, Version, reason,
};
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::topic::{TopicFilter, TopicName};
use tidy_warden_serve::socket::{request, tell};
use tokio::io::{AsyncReadExt, BufReader};
use tokio::net::unix::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{UnixListener, UnixStream};
use tokio::sync::broadcast::error::RecvError;
use tokio::time::Instant;

use crate::knowledge::WatchNote;
use crate::shared::Shared;
use crate::upstream::{Own, frame, invalid};
use crate::{Event, upstream};

/// The keep-alive of a person's connection to the broker, in seconds.
const KEEP_ALIVE: u16 = 60;

const MAX_PACKET: usize = 16 * 1024 * 1024;

/// What is asked for over the socket: one line of JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the names say what the fields are, and `docs/output.md` lists them")]
pub enum Request {
    /// What happens, as it happens.
    Events,
    /// Messages that a filter matches, as they come; and one to be sent, perhaps.
    Messages {
        /// The topic filter.
        filter: Option<String>,
        /// Topic and payload of a message to be sent.
        send: Option<(String, String)>,
        /// Who asks.
        actor: String,
        because: String,
    },
    /// The retained messages that the broker has for some filters, once.
    Retained {
        /// The topic filters, at most [`Request::MOST`].
        filters: Vec<String>,
        /// Who asks.
        actor: String,
        because: String,
    },
    /// To take retained messages away.
    Clear {
        /// Their topics, at most [`Request::MOST`].
        topics: Vec<String>,
        /// Whose they were.
        device: String,
        /// Who asks.
        actor: String,
        because: String,
    },
}

impl Request {
    /// The most filters and topics in a request.
    pub const MOST: usize = 1_000;
}

/// What is answered: one line of JSON each.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "tell", rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the names say what the fields are, and `docs/output.md` lists them")]
pub enum Answer {
    /// What was asked for begins.
    Begun {
        /// The number of the entry in the audit record, if there is one.
        entry: Option<i64>,
    },
    /// Something happened.
    Event {
        time: UnixTime,
        /// The device that it is about, if it is about one.
        device: Option<String>,
        /// For people.
        text: String,
        /// All of it.
        event: serde_json::Value,
    },
    /// The reader was too slow.
    Lost {
        /// How many events it missed.
        count: u64,
    },
    /// A message came.
    Message {
        time: UnixTime,
        /// Its topic.
        topic: String,
        /// Its payload, as text; what is not UTF-8 is written as U+FFFD.
        payload: String,
        /// Octets of its payload.
        size: usize,
        /// Whether it was retained.
        retain: bool,
        /// Who sent it, as the guard proved it.
        sender: Option<String>,
    },
    /// The message was sent.
    Sent {
        /// The broker's answer.
        code: u8,
    },
    /// All that was asked for was told, or done.
    Done {
        /// How many messages that was.
        count: usize,
    },
    /// It does not go, or goes no longer.
    Failed { why: String },
}

/// Who asks, and why, for the audit record.
struct Asker {
    actor: String,
    because: String,
}

impl Asker {
    fn note(self, act: &'static str, subject: String, detail: String) -> WatchNote {
        WatchNote { act, subject, detail, actor: self.actor, because: self.because }
    }
}

/// What is looked at, and what is sent beside it: a topic and a payload.
struct Look {
    filter: Option<String>,
    send: Option<(String, String)>,
}

/// Answers for ever.
pub(crate) async fn serve(shared: Arc<Shared>, listener: UnixListener) {
    loop {
        match listener.accept().await {
            Ok((stream, _)) => {
                let shared = shared.clone();
                tokio::spawn(async move {
                    // Whoever goes away needs no answer.
                    let _ = answer(shared, stream).await;
                });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

async fn answer(shared: Arc<Shared>, stream: UnixStream) -> io::Result<()> {
    let (reader, mut writer) = stream.into_split();
    let mut reader = BufReader::new(reader);
    let Some(request) = request::<Request>(&mut reader).await? else { return Ok(()) };
    match request {
        Ok(Request::Events) => events(&shared, reader, writer).await,
        Ok(Request::Messages { filter, send, actor, because }) => {
            let result =
                messages(&shared, &mut reader, &mut writer, Look { filter, send }, Asker { actor, because }).await;
            failed(result, &mut writer).await
        }
        Ok(Request::Retained { filters, actor, because }) => {
            let done = retained(&shared, &mut writer, filters, Asker { actor, because });
            finish(done.await, &mut writer).await
        }
        Ok(Request::Clear { topics, device, actor, because }) => {
            let done = clear(&shared, topics, device, Asker { actor, because });
            finish(done.await, &mut writer).await
        }
        Err(why) => tell(&mut writer, &Answer::Failed { why }).await,
    }
}

/// Says what failed to whoever still listens.
async fn failed(result: io::Result<()>, writer: &mut OwnedWriteHalf) -> io::Result<()> {
    match result {
        Err(error) if error.kind() != io::ErrorKind::BrokenPipe => {
            tell(writer, &Answer::Failed { why: error.to_string() }).await
        }
        other => other,
    }
}

/// Says how many it were, or what failed.
async fn finish(result: io::Result<usize>, writer: &mut OwnedWriteHalf) -> io::Result<()> {
    match result {
        Ok(count) => tell(writer, &Answer::Done { count }).await,
        Err(error) => failed(Err(error), writer).await,
    }
}

/// Ready when the other end is gone; what it still says means nothing.
async fn gone(reader: &mut BufReader<OwnedReadHalf>) {
    let mut rest = [0; 64];
    while reader.read(&mut rest).await.is_ok_and(|len| len > 0) {}
}

async fn events(shared: &Shared, mut reader: BufReader<OwnedReadHalf>, mut writer: OwnedWriteHalf) -> io::Result<()> {
    let mut watching = shared.watchers.subscribe();
    tell(&mut writer, &Answer::Begun { entry: None }).await?;
    loop {
        let next = tokio::select! {
            next = watching.recv() => next,
            () = gone(&mut reader) => return Ok(()),
        };
        let line = match next {
            Ok(happened) => {
                let (time, event): &(UnixTime, Event) = &happened;
                Answer::Event {
                    time: *time,
                    device: event.device().map(str::to_owned),
                    text: event.to_string(),
                    event: serde_json::to_value(event).map_err(io::Error::other)?,
                }
            }
            Err(RecvError::Lagged(count)) => {
                shared.metrics.lost_events.inc_by(count);
                Answer::Lost { count }
            }
            Err(RecvError::Closed) => return Ok(()),
        };
        tell(&mut writer, &line).await?;
    }
}

/// Looks at messages, and sends one. The entry in the audit record comes first, and names what is looked at: nothing else is
/// subscribed to, and nothing else sent.
async fn messages(
    shared: &Shared,
    reader: &mut BufReader<OwnedReadHalf>,
    writer: &mut OwnedWriteHalf,
    look: Look,
    asker: Asker,
) -> io::Result<()> {
    let Look { filter, send } = look;
    if let Some(filter) = &filter {
        filter.parse::<TopicFilter>().map_err(|error| invalid(error.to_string()))?;
    }
    if let Some((topic, _)) = &send {
        TopicName::parse(topic).map_err(|error| invalid(error.to_string()))?;
    }
    let detail = serde_json::json!({
        "filter": filter, "sends": send.as_ref().map(|(topic, _)| topic),
        "size": send.as_ref().map(|(_, payload)| payload.len()),
    });
    let subject = filter.clone().or_else(|| send.as_ref().map(|(topic, _)| topic.clone())).unwrap_or_default();
    let entry = record(shared, asker.note("messages.watch", subject, detail.to_string())).await?;
    let mut broker = Broker::open(shared, entry).await?;
    if let Some(filter) = &filter {
        broker.subscribe(filter).await?;
    }
    tell(writer, &Answer::Begun { entry: Some(entry) }).await?;
    if let Some((topic, payload)) = &send {
        let property = &shared.live().settings.guard.sender_property.clone();
        broker.send(topic, payload.as_bytes(), false, entry, property).await?;
    }
    let mut ping = tokio::time::interval(Duration::from_secs(u64::from(KEEP_ALIVE) / 2));
    let mut waiting = send.is_some();
    loop {
        if filter.is_none() && !waiting {
            return Ok(());
        }
        let packet = tokio::select! {
            packet = broker.0.packet() => packet?,
            _ = ping.tick() => {
                broker.0.write(&tidy_warden_core::mqtt::ping_request()).await?;
                continue;
            }
            () = gone(reader) => return Ok(()),
        };
        let frame = frame(&packet)?;
        match frame.packet_type {
            PacketType::Publish => {
                let publish = Publish::parse(&frame, Version::V5).map_err(|error| invalid(error.what))?;
                tell(writer, &message(shared, &publish, publish.payload)).await?;
            }
            PacketType::Puback => {
                let code = Ack::parse(&frame, Version::V5).map_err(|error| invalid(error.what))?.code;
                waiting = false;
                tell(writer, &Answer::Sent { code }).await?;
            }
            PacketType::Disconnect => return Err(invalid("the broker ended it")),
            _ => {}
        }
    }
}

/// Writes into the audit record what a person is about to see or do; gives the number of the entry.
async fn record(shared: &Shared, note: WatchNote) -> io::Result<i64> {
    let recorded = shared.knowledge.record_watch(note).await;
    recorded.map_err(|error| io::Error::other(format!("this could not be recorded: {error}")))
}

/// A message as the socket tells it, with `shown` of its payload.
fn message(shared: &Shared, publish: &Publish<'_>, shown: &[u8]) -> Answer {
    let property = &shared.live().settings.guard.sender_property;
    Answer::Message {
        time: shared.clock.now(),
        topic: publish.topic.to_owned(),
        payload: String::from_utf8_lossy(shown).into_owned(),
        size: publish.payload.len(),
        retain: publish.retain,
        sender: publish.properties.user(property).map(str::to_owned),
    }
}

/// How long after the broker's last word no retained message is expected any more. It answers in turn, as a rule; nothing in
/// MQTT says that it must.
const QUIET: Duration = Duration::from_millis(500);

/// How many filters are asked for in one packet.
const ASKED_AT_ONCE: usize = 50;

/// How many retained messages are told at most, and for how long.
const MOST_RETAINED: usize = 10_000;
const RETAINED_TIME: Duration = Duration::from_secs(60);

/// Tells the retained messages that the broker has for `filters`, each topic once.
async fn retained(
    shared: &Shared,
    writer: &mut OwnedWriteHalf,
    filters: Vec<String>,
    asker: Asker,
) -> io::Result<usize> {
    if filters.len() > Request::MOST {
        return Err(invalid(format!("more than {} filters in one request", Request::MOST)));
    }
    for filter in &filters {
        filter.parse::<TopicFilter>().map_err(|error| invalid(error.to_string()))?;
    }
    let detail = serde_json::json!({ "retained": filters }).to_string();
    let subject = filters.first().cloned().unwrap_or_default();
    let entry = record(shared, asker.note("messages.watch", subject, detail)).await?;
    let mut broker = Broker::open(shared, entry).await?;
    let mut topics = std::collections::HashSet::new();
    let deadline = Instant::now() + RETAINED_TIME;
    for some in filters.chunks(ASKED_AT_ONCE) {
        broker.ask(some).await?;
        // Messages of the moment come too, and may never pause: only what was asked for puts the end off.
        let mut quiet_at = Instant::now() + upstream::PATIENCE;
        loop {
            let packet = match tokio::time::timeout_at(quiet_at, broker.0.packet()).await {
                Err(_) => break,
                Ok(packet) => packet?,
            };
            if topics.len() >= MOST_RETAINED || Instant::now() > deadline {
                return Err(io::Error::other(format!(
                    "there are more than {MOST_RETAINED}, or the broker is too slow"
                )));
            }
            let frame = frame(&packet)?;
            match frame.packet_type {
                PacketType::Publish => {
                    let publish = Publish::parse(&frame, Version::V5).map_err(|error| invalid(error.what))?;
                    if publish.retain {
                        quiet_at = Instant::now() + QUIET;
                        if topics.insert(publish.topic.to_owned()) {
                            // What it says is nobody's business here.
                            tell(writer, &message(shared, &publish, b"")).await?;
                        }
                    }
                }
                PacketType::Suback => {
                    taken(&frame)?;
                    quiet_at = Instant::now() + QUIET;
                }
                PacketType::Disconnect => return Err(invalid("the broker ended it")),
                _ => {}
            }
        }
    }
    Ok(topics.len())
}

/// Takes retained messages away, each by an empty one in its place (MQTT 5.0 section 3.3.1.3).
async fn clear(shared: &Shared, topics: Vec<String>, device: String, asker: Asker) -> io::Result<usize> {
    if topics.len() > Request::MOST {
        return Err(invalid(format!("more than {} topics in one request", Request::MOST)));
    }
    for topic in &topics {
        TopicName::parse(topic).map_err(|error| invalid(error.to_string()))?;
    }
    let detail = serde_json::json!({ "topics": topics }).to_string();
    let entry = record(shared, asker.note("messages.clear", device, detail)).await?;
    let mut broker = Broker::open(shared, entry).await?;
    for topic in &topics {
        let property = shared.live().settings.guard.sender_property.clone();
        broker.send(topic, b"", true, entry, &property).await?;
        loop {
            let packet =
                tokio::time::timeout(upstream::PATIENCE, broker.0.packet()).await.map_err(io::Error::other)??;
            let frame = frame(&packet)?;
            match frame.packet_type {
                PacketType::Puback => {
                    let code = Ack::parse(&frame, Version::V5).map_err(|error| invalid(error.what))?.code;
                    if code >= reason::UNSPECIFIED {
                        return Err(invalid(format!("the broker refused to clear {topic}: PUBACK 0x{code:02x}")));
                    }
                    break;
                }
                PacketType::Disconnect => return Err(invalid("the broker ended it")),
                _ => {}
            }
        }
    }
    Ok(topics.len())
}

/// Whether the broker took a subscription.
fn taken(frame: &tidy_warden_core::mqtt::Frame<'_>) -> io::Result<()> {
    let answer = SubAck::parse(frame, Version::V5).map_err(|error| invalid(error.what))?;
    match answer.codes.iter().all(|code| *code < reason::UNSPECIFIED) {
        true => Ok(()),
        false => Err(invalid(format!("the broker refused the subscription: {:02x?}", answer.codes))),
    }
}

/// A person's own connection to the broker.
struct Broker(Own);

impl Broker {
    /// The client identifier begins with a `:`, as no device's can, so that it is nobody's whose session could be taken.
    async fn open(shared: &Shared, entry: i64) -> io::Result<Self> {
        let client_id = format!(":guard:operator:{entry}");
        let connect = Connect { keep_alive: KEEP_ALIVE, ..upstream::hello(&client_id) };
        shared.live().upstream.own(connect, MAX_PACKET).await.map(Self)
    }

    /// Asks for subscriptions.
    async fn ask(&mut self, filters: &[String]) -> io::Result<()> {
        let subscriptions = filters.iter().map(|filter| Subscription { filter, options: 0 }).collect();
        let subscribe = Subscribe { packet_id: 1, properties: Properties::default(), subscriptions };
        self.0.write(&subscribe.to_bytes(Version::V5)).await
    }

    async fn subscribe(&mut self, filter: &String) -> io::Result<()> {
        self.ask(std::slice::from_ref(filter)).await?;
        let packet = tokio::time::timeout(upstream::PATIENCE, self.0.packet()).await.map_err(io::Error::other)??;
        taken(&frame(&packet)?)
    }

    /// Sends a message that names the entry of the audit record as its sender.
    async fn send(&mut self, topic: &str, payload: &[u8], retain: bool, entry: i64, property: &str) -> io::Result<()> {
        let sender = format!("operator:{entry}");
        let mut properties = Properties::default();
        if !property.is_empty() {
            properties =
                properties.with(PropertyId::UserProperty, tidy_warden_core::mqtt::Value::Pair(property, &sender));
        }
        let publish = Publish { dup: false, qos: 1, retain, topic, packet_id: Some(2), properties, payload };
        self.0.write(&publish.to_bytes(Version::V5)).await
    }
}
