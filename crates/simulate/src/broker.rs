//! A small MQTT broker for trying things on one machine: 3.1.1 and 5.0, QoS 0 to 2 towards it and 0 or 1 from it, retained
//! messages, wills, takeover. It keeps no sessions, lets in only who knows the password that it made up, and listens on a
//! loopback address only.

use std::collections::{BTreeMap, HashMap};
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};

use tidy_warden_core::mqtt::{
    Ack, Connack, Connect, Disconnect, PacketType, Properties, Property, PropertyId, Publish, Subscribe, Unsubscribe,
    Value, Version, connack, disconnect, reason, return_code, split, suback, unsuback,
};
use tidy_warden_core::topic::{TopicFilter, TopicName};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;

/// The largest packet taken.
const MAX_PACKET: usize = 16 * 1024 * 1024;

/// Packets that may wait for a client before it is dropped as too slow.
const MAX_WAITING: usize = 10_000;

/// A message on its way.
#[derive(Debug, Clone)]
struct Message {
    topic: String,
    payload: Vec<u8>,
    qos: u8,
    retain: bool,
    extras: Extras,
}

/// Properties that go along with a message (MQTT 5.0 section 3.3.2.3).
#[derive(Debug, Clone, Default)]
struct Extras {
    response_topic: Option<String>,
    correlation: Option<Vec<u8>>,
    content_type: Option<String>,
    user: Vec<(String, String)>,
}

impl Extras {
    fn of(properties: &Properties<'_>) -> Self {
        let text = |id| properties.text(id).map(str::to_owned);
        let mut extras = Self {
            response_topic: text(PropertyId::ResponseTopic),
            content_type: text(PropertyId::ContentType),
            ..Self::default()
        };
        for property in properties.iter() {
            match property.value {
                Value::Pair(name, value) => extras.user.push((name.to_owned(), value.to_owned())),
                Value::Binary(data) if property.id == PropertyId::CorrelationData => {
                    extras.correlation = Some(data.to_vec());
                }
                _ => {}
            }
        }
        extras
    }

    fn properties(&self) -> Properties<'_> {
        let texts = [(PropertyId::ResponseTopic, &self.response_topic), (PropertyId::ContentType, &self.content_type)];
        let texts =
            texts.into_iter().filter_map(|(id, text)| Some(Property { id, value: Value::Text(text.as_ref()?) }));
        let data = self.correlation.iter().map(|data| (PropertyId::CorrelationData, Value::Binary(data)));
        let pairs = self.user.iter().map(|(name, value)| (PropertyId::UserProperty, Value::Pair(name, value)));
        Properties::new(texts.chain(data.chain(pairs).map(|(id, value)| Property { id, value })).collect())
    }
}

struct Client {
    number: u64,
    version: Version,
    outgoing: mpsc::Sender<Vec<u8>>,
    subscriptions: BTreeMap<String, (TopicFilter, u8)>,
    next_id: u16,
    will: Option<Message>,
}

/// The user name that it takes.
const USER: &str = "guard";

#[derive(Default)]
struct State {
    password: String,
    numbers: u64,
    clients: HashMap<String, Client>,
    retained: BTreeMap<String, Message>,
}

/// A running broker; it stops when this is dropped.
#[derive(Debug)]
pub struct Broker {
    address: SocketAddr,
    password: String,
    task: tokio::task::JoinHandle<()>,
}

impl Drop for Broker {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Broker {
    /// Starts on a free port of 127.0.0.1.
    ///
    /// # Errors
    /// No port can be had.
    pub async fn start() -> io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        // Nobody but the guard is to reach the broker, and other processes of this machine could.
        let mut secret = [0; 16];
        aws_lc_rs::rand::fill(&mut secret).map_err(io::Error::other)?;
        let password: String = secret.iter().map(|octet| format!("{octet:02x}")).collect();
        let state = Arc::new(Mutex::new(State { password: password.clone(), ..State::default() }));
        let task = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let state = state.clone();
                tokio::spawn(async move {
                    // A client that fails is only its own trouble.
                    let _ = serve(stream, state).await;
                });
            }
        });
        Ok(Self { address, password, task })
    }

    /// User name and password that it takes.
    #[must_use]
    pub fn login(&self) -> (String, Vec<u8>) {
        (USER.to_owned(), self.password.clone().into_bytes())
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

fn lock(state: &Mutex<State>) -> std::sync::MutexGuard<'_, State> {
    state.lock().unwrap_or_else(PoisonError::into_inner)
}

fn invalid<E: std::fmt::Display>(error: E) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, error.to_string())
}

impl State {
    /// Gives a message to everybody who asked for it, and keeps it if it is to be retained.
    fn spread(&mut self, message: &Message) {
        if message.retain {
            if message.payload.is_empty() {
                self.retained.remove(&message.topic);
            } else {
                self.retained.insert(message.topic.clone(), message.clone());
            }
        }
        let Ok(topic) = TopicName::parse(&message.topic) else { return };
        for client in self.clients.values_mut() {
            let granted =
                client.subscriptions.values().filter(|(filter, _)| filter.matches(topic)).map(|(_, qos)| *qos);
            if let Some(qos) = granted.max() {
                client.send(&Message { retain: false, ..message.clone() }, qos);
            }
        }
    }
}

impl Client {
    fn send(&mut self, message: &Message, granted: u8) {
        let qos = message.qos.min(granted).min(1);
        let packet_id = (qos > 0).then(|| {
            self.next_id = self.next_id.checked_add(1).unwrap_or(1);
            self.next_id
        });
        let properties = message.extras.properties();
        let publish = Publish {
            dup: false,
            qos,
            retain: message.retain,
            topic: &message.topic,
            packet_id,
            properties,
            payload: &message.payload,
        };
        // A client that does not read loses messages here rather than filling the memory.
        let _ = self.outgoing.try_send(publish.to_bytes(self.version));
    }
}

async fn serve(stream: TcpStream, state: Arc<Mutex<State>>) -> io::Result<()> {
    stream.set_nodelay(true)?;
    let (mut reader, mut writer) = stream.into_split();
    let (outgoing, mut queue) = mpsc::channel::<Vec<u8>>(MAX_WAITING);
    let writing = tokio::spawn(async move {
        while let Some(packet) = queue.recv().await {
            if packet.is_empty() || writer.write_all(&packet).await.is_err() {
                break;
            }
        }
    });
    let mut session = None;
    let mut input = Vec::new();
    let result = loop {
        let step = next_packets(&mut input, &state, &outgoing, &mut session);
        match step {
            Ok(true) => {}
            Ok(false) => break Ok(()),
            Err(error) => break Err(error),
        }
        tokio::select! {
            read = reader.read_buf(&mut input) => match read {
                Ok(0) => break Err(io::ErrorKind::UnexpectedEof.into()),
                Ok(_) => {}
                Err(error) => break Err(error),
            },
            // The writing half ends when the session was taken over.
            () = outgoing.closed() => break Ok(()),
        }
    };
    if let Some(Session { client_id, number, .. }) = session {
        let mut state = lock(&state);
        if state.clients.get(&client_id).is_some_and(|client| client.number == number) {
            let will = state.clients.remove(&client_id).and_then(|client| client.will);
            if let (Some(will), Err(_)) = (will, &result) {
                state.spread(&will);
            }
        }
    }
    drop(outgoing);
    let _ = writing.await;
    result
}

struct Session {
    client_id: String,
    number: u64,
    version: Version,
    /// Messages of QoS 2 that wait for their release.
    pending: HashMap<u16, Message>,
}

/// Handles the whole packets in `input`; false once the client said goodbye.
fn next_packets(
    input: &mut Vec<u8>,
    state: &Mutex<State>,
    outgoing: &mpsc::Sender<Vec<u8>>,
    session: &mut Option<Session>,
) -> io::Result<bool> {
    loop {
        let len = match split(input, MAX_PACKET).map_err(invalid)? {
            Some(frame) => frame.whole.len(),
            None => return Ok(true),
        };
        let packet: Vec<u8> = input.drain(..len).collect();
        let Some(frame) = split(&packet, MAX_PACKET).map_err(invalid)? else { return Ok(true) };
        let answer = |bytes: Vec<u8>| outgoing.try_send(bytes).map_err(invalid);
        let Some(open) = session else {
            let connect = Connect::parse(&frame).map_err(invalid)?;
            let known = connect.user_name == Some(USER) && connect.password == Some(lock(state).password.as_bytes());
            if !known {
                let code = match connect.version {
                    Version::V5 => reason::BAD_LOGIN,
                    Version::V311 => return_code::BAD_LOGIN,
                };
                answer(connack(connect.version, code, None))?;
                return Ok(false);
            }
            *session = Some(begin(&connect, state, outgoing));
            let connack = Connack { session_present: false, code: reason::SUCCESS, properties: Properties::default() };
            answer(connack.to_bytes(connect.version))?;
            continue;
        };
        let version = open.version;
        match frame.packet_type {
            PacketType::Publish => {
                let publish = Publish::parse(&frame, version).map_err(invalid)?;
                TopicName::parse(publish.topic).map_err(invalid)?;
                let message = Message {
                    topic: publish.topic.to_owned(),
                    payload: publish.payload.to_vec(),
                    qos: publish.qos,
                    retain: publish.retain,
                    extras: Extras::of(&publish.properties),
                };
                match (publish.qos, publish.packet_id) {
                    (1, Some(packet_id)) => {
                        lock(state).spread(&message);
                        let ack = Ack { packet_type: PacketType::Puback, packet_id, code: reason::SUCCESS };
                        answer(ack.to_bytes(version, None))?;
                    }
                    (2, Some(packet_id)) => {
                        open.pending.insert(packet_id, message);
                        let ack = Ack { packet_type: PacketType::Pubrec, packet_id, code: reason::SUCCESS };
                        answer(ack.to_bytes(version, None))?;
                    }
                    _ => lock(state).spread(&message),
                }
            }
            PacketType::Pubrel => {
                let ack = Ack::parse(&frame, version).map_err(invalid)?;
                if let Some(message) = open.pending.remove(&ack.packet_id) {
                    lock(state).spread(&message);
                }
                answer(Ack { packet_type: PacketType::Pubcomp, ..ack }.to_bytes(version, None))?;
            }
            PacketType::Subscribe => {
                let subscribe = Subscribe::parse(&frame, version).map_err(invalid)?;
                let codes = subscribed(&subscribe, state, &open.client_id)?;
                answer(suback(version, subscribe.packet_id, &codes, None))?;
                send_retained(&subscribe, state, &open.client_id);
            }
            PacketType::Unsubscribe => {
                let unsubscribe = Unsubscribe::parse(&frame, version).map_err(invalid)?;
                if let Some(client) = lock(state).clients.get_mut(&open.client_id) {
                    unsubscribe.filters.iter().for_each(|filter| {
                        client.subscriptions.remove(*filter);
                    });
                }
                answer(unsuback(version, unsubscribe.packet_id, unsubscribe.filters.len()))?;
            }
            PacketType::Pingreq => answer(vec![PacketType::Pingresp.code() << 4, 0])?,
            PacketType::Disconnect => {
                let code = Disconnect::parse(&frame, version).map_err(invalid)?.code;
                if code == reason::DISCONNECT_WITH_WILL {
                    return Err(invalid("goodbye with will"));
                }
                return Ok(false);
            }
            PacketType::Puback | PacketType::Pubrec | PacketType::Pubcomp => {}
            _ => return Err(invalid("a packet that clients do not send")),
        }
    }
}

fn begin(connect: &Connect<'_>, state: &Mutex<State>, outgoing: &mpsc::Sender<Vec<u8>>) -> Session {
    let mut state = lock(state);
    state.numbers += 1;
    let number = state.numbers;
    let client_id = match connect.client_id {
        "" => format!("client-{number}"),
        id => id.to_owned(),
    };
    let will = connect.will.as_ref().map(|will| Message {
        topic: will.topic.to_owned(),
        payload: will.payload.to_vec(),
        qos: will.qos,
        retain: will.retain,
        extras: Extras::of(&will.properties),
    });
    let client = Client {
        number,
        version: connect.version,
        outgoing: outgoing.clone(),
        subscriptions: BTreeMap::new(),
        next_id: 0,
        will,
    };
    if let Some(old) = state.clients.insert(client_id.clone(), client) {
        if old.version == Version::V5 {
            let _ = old.outgoing.try_send(disconnect(old.version, reason::TAKEN_OVER, None));
        }
        // An empty packet ends the old connection's writer, and with it the connection.
        let _ = old.outgoing.try_send(Vec::new());
    }
    Session { client_id, number, version: connect.version, pending: HashMap::new() }
}

fn subscribed(subscribe: &Subscribe<'_>, state: &Mutex<State>, client_id: &str) -> io::Result<Vec<u8>> {
    let mut codes = Vec::new();
    let mut state = lock(state);
    let Some(client) = state.clients.get_mut(client_id) else { return Ok(codes) };
    for subscription in &subscribe.subscriptions {
        let filter: TopicFilter = subscription.filter.parse().map_err(invalid)?;
        let qos = subscription.qos().min(1);
        client.subscriptions.insert(subscription.filter.to_owned(), (filter, qos));
        codes.push(qos);
    }
    Ok(codes)
}

fn send_retained(subscribe: &Subscribe<'_>, state: &Mutex<State>, client_id: &str) {
    let mut state = lock(state);
    let filters: Vec<TopicFilter> =
        subscribe.subscriptions.iter().filter_map(|subscription| subscription.filter.parse().ok()).collect();
    let matching = |message: &&Message| {
        TopicName::parse(&message.topic).is_ok_and(|topic| filters.iter().any(|filter| filter.matches(topic)))
    };
    let messages: Vec<Message> = state.retained.values().filter(matching).cloned().collect();
    if let Some(client) = state.clients.get_mut(client_id) {
        messages.iter().for_each(|message| client.send(message, 1));
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use tidy_warden_core::mqtt::{SubAck, Subscription, Will};

    use super::*;

    struct Peer(TcpStream, Vec<u8>);

    impl Peer {
        async fn connect(broker: &Broker, version: Version, id: &str, will: Option<&str>) -> Self {
            let mut peer = Self(TcpStream::connect(broker.address()).await.unwrap(), Vec::new());
            let will = will.map(|topic| Will {
                topic,
                payload: b"gone",
                qos: 0,
                retain: false,
                properties: Properties::default(),
            });
            let connect = Connect {
                version,
                clean_start: true,
                keep_alive: 0,
                client_id: id,
                will,
                user_name: Some(USER),
                password: Some(broker.password.as_bytes()),
                properties: Properties::default(),
            };
            peer.send(&connect.to_bytes()).await;
            let answer = peer.packet().await.unwrap();
            assert_eq!(answer[0], 0x20);
            peer
        }

        async fn send(&mut self, bytes: &[u8]) {
            self.0.write_all(bytes).await.unwrap();
        }

        /// The next packet; `None` at the end of the connection.
        async fn packet(&mut self) -> Option<Vec<u8>> {
            loop {
                if let Some(len) = split(&self.1, MAX_PACKET).unwrap().map(|frame| frame.whole.len()) {
                    return Some(self.1.drain(..len).collect());
                }
                let read = tokio::time::timeout(Duration::from_secs(10), self.0.read_buf(&mut self.1));
                if read.await.unwrap().unwrap_or(0) == 0 {
                    return None;
                }
            }
        }

        async fn subscribe(&mut self, filter: &str) -> u8 {
            let subscriptions = vec![Subscription { filter, options: 1 }];
            let subscribe = Subscribe { packet_id: 1, properties: Properties::default(), subscriptions };
            self.send(&subscribe.to_bytes(Version::V311)).await;
            let packet = self.packet().await.unwrap();
            SubAck::parse(&split(&packet, MAX_PACKET).unwrap().unwrap(), Version::V311).unwrap().codes[0]
        }

        async fn publish(&mut self, topic: &str, payload: &[u8], qos: u8, retain: bool) {
            let packet_id = (qos > 0).then_some(9);
            let properties = Properties::default();
            let publish = Publish { dup: false, qos, retain, topic, packet_id, properties, payload };
            self.send(&publish.to_bytes(Version::V311)).await;
        }

        async fn message(&mut self) -> (String, Vec<u8>, u8, bool) {
            let packet = self.packet().await.unwrap();
            let frame = split(&packet, MAX_PACKET).unwrap().unwrap();
            let publish = Publish::parse(&frame, Version::V311).unwrap();
            (publish.topic.to_owned(), publish.payload.to_vec(), publish.qos, publish.retain)
        }
    }

    #[tokio::test]
    async fn messages_of_every_qos_reach_those_who_asked() {
        let broker = Broker::start().await.unwrap();
        let mut hearer = Peer::connect(&broker, Version::V311, "h", None).await;
        assert_eq!(hearer.subscribe("rope/+/wind").await, 1);
        let mut sender = Peer::connect(&broker, Version::V311, "s", None).await;
        sender.publish("rope/wv-1/gust", b"not asked for", 0, false).await;
        for qos in 0..=2u8 {
            sender.publish("rope/wv-1/wind", &[qos], qos, false).await;
            if qos == 1 {
                assert_eq!(sender.packet().await.unwrap(), [0x40, 2, 0, 9]);
            }
            if qos == 2 {
                assert_eq!(sender.packet().await.unwrap(), [0x50, 2, 0, 9]);
                sender.send(&[0x62, 2, 0, 9]).await;
                assert_eq!(sender.packet().await.unwrap(), [0x70, 2, 0, 9]);
            }
            assert_eq!(hearer.message().await, ("rope/wv-1/wind".into(), vec![qos], qos.min(1), false));
        }
    }

    #[tokio::test]
    async fn retained_messages_wait_for_those_who_come_later() {
        let broker = Broker::start().await.unwrap();
        let mut sender = Peer::connect(&broker, Version::V311, "s", None).await;
        sender.publish("a", b"kept", 1, true).await;
        sender.packet().await.unwrap();
        let mut hearer = Peer::connect(&broker, Version::V311, "h", None).await;
        hearer.subscribe("#").await;
        assert_eq!(hearer.message().await, ("a".into(), b"kept".to_vec(), 1, true));
        sender.publish("a", b"", 1, true).await;
        sender.packet().await.unwrap();
        assert_eq!(hearer.message().await.1, b"", "live subscribers hear of the end");
        let mut late = Peer::connect(&broker, Version::V311, "l", None).await;
        late.subscribe("#").await;
        sender.publish("b", b"new", 0, false).await;
        assert_eq!(late.message().await.0, "b", "nothing is retained any more");
    }

    #[tokio::test]
    async fn wills_are_published_at_a_loss_and_not_at_a_goodbye() {
        let broker = Broker::start().await.unwrap();
        let mut hearer = Peer::connect(&broker, Version::V311, "h", None).await;
        hearer.subscribe("will/#").await;
        let mut polite = Peer::connect(&broker, Version::V311, "p", Some("will/p")).await;
        polite.send(&disconnect(Version::V311, reason::SUCCESS, None)).await;
        assert_eq!(polite.packet().await, None);
        drop(Peer::connect(&broker, Version::V311, "l", Some("will/l")).await);
        assert_eq!(hearer.message().await.0, "will/l");
    }

    #[tokio::test]
    async fn a_second_client_of_one_name_takes_the_session_over() {
        let broker = Broker::start().await.unwrap();
        let mut first = Peer::connect(&broker, Version::V5, "same", None).await;
        let mut second = Peer::connect(&broker, Version::V311, "same", None).await;
        assert_eq!(first.packet().await.unwrap(), disconnect(Version::V5, reason::TAKEN_OVER, None));
        assert_eq!(first.packet().await, None);
        second.subscribe("a").await;
        second.publish("a", b"x", 0, false).await;
        assert_eq!(second.message().await.0, "a");
    }
}
