//! A simulated device that is connected: it says what came of each act.

use std::collections::VecDeque;
use std::io;
use std::time::Duration;

use tidy_warden_core::mqtt::{
    Ack, PacketType, Properties, PropertyId, Publish, SubAck, Subscribe, Subscription, Value, Version, disconnect,
    ping_request, reason, split,
};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::client::TlsStream;

/// How long an answer may take.
pub(crate) const PATIENCE: Duration = Duration::from_secs(5);

pub(crate) const MAX_PACKET: usize = 16 * 1024 * 1024;

/// What the other side answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outcome {
    /// The reason code; below 0x80 is success.
    pub code: u8,
    /// The reason string, in MQTT 5.0.
    pub reason: Option<String>,
}

impl Outcome {
    /// The code and the reason, for people.
    #[must_use]
    pub fn told(&self) -> String {
        format!("0x{:02x}: {}", self.code, self.reason.as_deref().unwrap_or("no reason given"))
    }

    /// Whether it was granted.
    #[must_use]
    pub fn is_ok(&self) -> bool {
        self.code < 0x80
    }
}

/// A message that came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delivered {
    /// Its topic.
    pub topic: String,
    /// Its payload.
    pub payload: Vec<u8>,
    /// Where an answer is wanted, and what to send along with it (MQTT 5.0 section 4.10).
    pub answer_to: Option<(String, Vec<u8>)>,
    /// User properties.
    pub user: Vec<(String, String)>,
}

/// A connected device.
pub struct Device {
    pub(crate) stream: TlsStream<TcpStream>,
    pub(crate) version: Version,
    pub(crate) input: Vec<u8>,
    inbox: VecDeque<Delivered>,
    next_id: u16,
    /// Whether the TLS session was resumed.
    pub resumed: bool,
}

pub(crate) fn invalid<E: std::fmt::Display>(error: E) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, error.to_string())
}

impl Device {
    /// A connection over which CONNECT was not sent yet.
    pub(crate) fn new(stream: TlsStream<TcpStream>, version: Version, resumed: bool) -> Self {
        Self { stream, version, input: Vec::new(), inbox: VecDeque::new(), next_id: 0, resumed }
    }

    pub(crate) async fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.stream.write_all(bytes).await?;
        self.stream.flush().await
    }

    /// The next whole packet.
    pub(crate) async fn packet(&mut self) -> io::Result<Vec<u8>> {
        loop {
            if let Some(frame) = split(&self.input, MAX_PACKET).map_err(invalid)? {
                let len = frame.whole.len();
                return Ok(self.input.drain(..len).collect());
            }
            if self.stream.read_buf(&mut self.input).await? == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
        }
    }

    fn packet_id(&mut self) -> u16 {
        self.next_id = self.next_id.checked_add(1).unwrap_or(1);
        self.next_id
    }

    /// Waits for a packet of `wanted` type; messages that come before it go to the inbox.
    async fn answer(&mut self, wanted: &[PacketType]) -> io::Result<Vec<u8>> {
        let waiting = async {
            loop {
                let packet = self.packet().await?;
                let frame = split(&packet, MAX_PACKET)
                    .map_err(invalid)?
                    .ok_or_else(|| io::Error::from(io::ErrorKind::InvalidData))?;
                if wanted.contains(&frame.packet_type) {
                    return Ok(packet);
                }
                self.take(&packet).await?;
            }
        };
        tokio::time::timeout(PATIENCE, waiting).await.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))?
    }

    /// Handles a packet that nobody waits for.
    async fn take(&mut self, packet: &[u8]) -> io::Result<()> {
        let frame =
            split(packet, MAX_PACKET).map_err(invalid)?.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidData))?;
        if frame.packet_type == PacketType::Disconnect {
            let text = frame.body.get(1..).and_then(|rest| String::from_utf8(rest.to_vec()).ok());
            let code = frame.body.first().copied().unwrap_or(0);
            return Err(io::Error::new(
                io::ErrorKind::ConnectionAborted,
                format!("DISCONNECT 0x{code:02x} {}", text.unwrap_or_default().trim_matches(|c: char| c.is_control())),
            ));
        }
        if frame.packet_type == PacketType::Publish {
            let publish = Publish::parse(&frame, self.version).map_err(invalid)?;
            let correlation = publish.properties.iter().find_map(|property| match property.value {
                Value::Binary(data) if property.id == PropertyId::CorrelationData => Some(data.to_vec()),
                _ => None,
            });
            let answer_to = publish.properties.text(PropertyId::ResponseTopic);
            let pairs = publish.properties.iter().filter_map(|property| match property.value {
                Value::Pair(name, value) => Some((name.to_owned(), value.to_owned())),
                _ => None,
            });
            self.inbox.push_back(Delivered {
                topic: publish.topic.to_owned(),
                payload: publish.payload.to_vec(),
                answer_to: answer_to.map(|topic| (topic.to_owned(), correlation.unwrap_or_default())),
                user: pairs.collect(),
            });
            if let (1, Some(packet_id)) = (publish.qos, publish.packet_id) {
                let ack = Ack { packet_type: PacketType::Puback, packet_id, code: reason::SUCCESS };
                let bytes = ack.to_bytes(self.version, None);
                self.send(&bytes).await?;
            }
        }
        Ok(())
    }

    /// Publishes with QoS 1 and waits for the answer.
    ///
    /// # Errors
    /// The connection ended, as in MQTT 3.1.1 where a refusal has no code.
    pub async fn publish(&mut self, topic: &str, payload: &[u8]) -> io::Result<Outcome> {
        self.publish_with(topic, payload, Properties::default()).await
    }

    /// The same with properties, in MQTT 5.0.
    ///
    /// # Errors
    /// The connection ended.
    pub async fn publish_with(
        &mut self,
        topic: &str,
        payload: &[u8],
        properties: Properties<'_>,
    ) -> io::Result<Outcome> {
        self.publish_all(topic, payload, (1, false), properties).await
    }

    /// Publishes with QoS 0, which nothing answers.
    ///
    /// # Errors
    /// The connection ended.
    pub async fn publish_unanswered(&mut self, topic: &str, payload: &[u8]) -> io::Result<Outcome> {
        self.publish_all(topic, payload, (0, false), Properties::default()).await
    }

    /// Publishes a message that the broker is to retain.
    ///
    /// # Errors
    /// The connection ended.
    pub async fn retain(&mut self, topic: &str, payload: &[u8]) -> io::Result<Outcome> {
        self.publish_all(topic, payload, (1, true), Properties::default()).await
    }

    async fn publish_all(
        &mut self,
        topic: &str,
        payload: &[u8],
        (qos, retain): (u8, bool),
        properties: Properties<'_>,
    ) -> io::Result<Outcome> {
        let packet_id = (qos > 0).then(|| self.packet_id());
        let publish = Publish { dup: false, qos, retain, topic, packet_id, properties, payload };
        let bytes = publish.to_bytes(self.version);
        self.send(&bytes).await?;
        if qos == 0 {
            // Nothing answers it.
            return Ok(Outcome { code: reason::SUCCESS, reason: None });
        }
        let packet = self.answer(&[PacketType::Puback]).await?;
        let frame =
            split(&packet, MAX_PACKET).map_err(invalid)?.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidData))?;
        let code = Ack::parse(&frame, self.version).map_err(invalid)?.code;
        Ok(Outcome { code, reason: reason_after(&frame, 3) })
    }

    /// Subscribes with QoS 1 and waits for the answer.
    ///
    /// # Errors
    /// The connection ended.
    pub async fn subscribe(&mut self, filter: &str) -> io::Result<Outcome> {
        let packet_id = self.packet_id();
        let subscriptions = vec![Subscription { filter, options: 1 }];
        let subscribe = Subscribe { packet_id, properties: Properties::default(), subscriptions };
        let bytes = subscribe.to_bytes(self.version);
        self.send(&bytes).await?;
        let packet = self.answer(&[PacketType::Suback]).await?;
        let frame =
            split(&packet, MAX_PACKET).map_err(invalid)?.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidData))?;
        let answer = SubAck::parse(&frame, self.version).map_err(invalid)?;
        let text = answer.properties.text(PropertyId::ReasonString).map(str::to_owned);
        Ok(Outcome { code: answer.codes.first().copied().unwrap_or(reason::UNSPECIFIED), reason: text })
    }

    /// Sends octets as they are, MQTT or not.
    ///
    /// # Errors
    /// The connection ended.
    pub async fn raw(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.send(bytes).await
    }

    /// Asks whether the other side is there, and waits for the answer.
    ///
    /// # Errors
    /// The connection ended.
    pub async fn ping(&mut self) -> io::Result<()> {
        self.send(&ping_request()).await?;
        self.answer(&[PacketType::Pingresp]).await.map(|_| ())
    }

    /// The next message, or `None` if none comes within `patience`.
    ///
    /// # Errors
    /// The connection ended.
    pub async fn message(&mut self, patience: Duration) -> io::Result<Option<Delivered>> {
        let deadline = tokio::time::Instant::now() + patience;
        loop {
            if let Some(message) = self.inbox.pop_front() {
                return Ok(Some(message));
            }
            match tokio::time::timeout_at(deadline, self.packet()).await {
                Ok(packet) => {
                    let packet = packet?;
                    self.take(&packet).await?;
                }
                Err(_) => return Ok(None),
            }
        }
    }

    /// Waits until the other side ends the session; how it said so, or `None` if it did not within `patience`.
    pub async fn ended(&mut self, patience: Duration) -> Option<String> {
        let deadline = tokio::time::Instant::now() + patience;
        loop {
            match tokio::time::timeout_at(deadline, self.packet()).await {
                Ok(Ok(packet)) => {
                    if let Err(error) = self.take(&packet).await {
                        return Some(error.to_string());
                    }
                }
                Ok(Err(error)) => return Some(error.to_string()),
                Err(_) => return None,
            }
        }
    }

    /// Says goodbye.
    pub async fn goodbye(mut self) {
        let bytes = disconnect(self.version, reason::SUCCESS, None);
        // The other side may be gone already; then it needs no goodbye.
        let _ = self.send(&bytes).await;
        let _ = self.stream.shutdown().await;
    }
}

/// The reason string among the properties that begin at octet `at` of the body.
pub(crate) fn reason_after(frame: &tidy_warden_core::mqtt::Frame<'_>, at: usize) -> Option<String> {
    let rest = frame.body.get(at..)?;
    let properties = Properties::of_ack(rest).ok()?;
    properties.text(PropertyId::ReasonString).map(str::to_owned)
}
