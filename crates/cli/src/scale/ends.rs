//! The other ends of a guard's pipes: a device, and the broker.

use std::time::Duration;

use tidy_warden_core::mqtt::{
    Ack, Connect, PacketType, Properties, Publish, Version, connack, reason, return_code, split,
};
use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream};
use tokio::sync::mpsc::UnboundedReceiver;

use crate::problem::Problem;

/// How long the guard may take for an answer; here it is a matter of microseconds.
const PATIENCE: Duration = Duration::from_secs(20);

/// The largest packet that is looked at, in octets.
const MAX_PACKET: usize = 64 * 1024;

fn broken(what: impl std::fmt::Display) -> Problem {
    Problem::failed("the simulation cannot go on").because(what)
}

/// The next packet from a pipe: its type and its octets; nothing at the end.
async fn packet(stream: &mut DuplexStream, input: &mut Vec<u8>) -> Option<(PacketType, Vec<u8>)> {
    loop {
        if let Ok(Some(frame)) = split(input, MAX_PACKET) {
            let (kind, whole) = (frame.packet_type, frame.whole.to_vec());
            input.drain(..whole.len());
            return Some((kind, whole));
        }
        if stream.read_buf(input).await.ok()? == 0 {
            return None;
        }
    }
}

/// A device with a session, or on its way to one.
pub(super) struct Client {
    stream: DuplexStream,
    input: Vec<u8>,
    topic: String,
}

impl Client {
    /// Says CONNECT.
    pub(super) async fn begin(mut stream: DuplexStream, id: &str, topic: String) -> Result<Self, Problem> {
        let connect = Connect {
            version: Version::V311,
            clean_start: true,
            keep_alive: 0,
            client_id: id,
            will: None,
            user_name: None,
            password: None,
            properties: Properties::default(),
        };
        stream.write_all(&connect.to_bytes()).await.map_err(broken)?;
        Ok(Self { stream, input: Vec::new(), topic })
    }

    async fn expect(&mut self, wanted: PacketType) -> Result<Vec<u8>, Problem> {
        let next = tokio::time::timeout(PATIENCE, packet(&mut self.stream, &mut self.input)).await;
        match next.map_err(broken)? {
            Some((kind, whole)) if kind == wanted => Ok(whole),
            Some((kind, _)) => Err(broken(format!("the guard answered {} with {kind:?}", self.topic))),
            None => Err(broken(format!("the guard ended the session of {}", self.topic))),
        }
    }

    /// Waits until it is let in.
    pub(super) async fn connected(&mut self) -> Result<(), Problem> {
        let connack = self.expect(PacketType::Connack).await?;
        match connack.get(3) {
            Some(&return_code::ACCEPTED) => Ok(()),
            code => Err(broken(format!("the guard refused {}: {code:?}", self.topic))),
        }
    }

    /// Says something that wants an answer.
    pub(super) async fn publish(&mut self, payload: &[u8]) -> Result<(), Problem> {
        let (packet_id, properties) = (Some(1), Properties::default());
        let publish = Publish { dup: false, qos: 1, retain: false, topic: &self.topic, packet_id, properties, payload };
        self.stream.write_all(&publish.to_bytes(Version::V311)).await.map_err(broken)
    }

    /// Waits for that answer.
    pub(super) async fn answered(&mut self) -> Result<(), Problem> {
        self.expect(PacketType::Puback).await.map(drop)
    }

    /// Whether its session ends.
    pub(super) async fn ends(&mut self) -> bool {
        let end = async { while packet(&mut self.stream, &mut self.input).await.is_some() {} };
        tokio::time::timeout(PATIENCE, end).await.is_ok()
    }
}

/// A broker that takes everything and says nothing by itself.
pub(super) async fn broker(mut connections: UnboundedReceiver<DuplexStream>) {
    while let Some(mut stream) = connections.recv().await {
        tokio::spawn(async move {
            let mut input = Vec::new();
            while let Some((kind, whole)) = packet(&mut stream, &mut input).await {
                let Some(answer) = answer(kind, &whole) else { continue };
                if stream.write_all(&answer).await.is_err() {
                    return;
                }
            }
        });
    }
}

fn answer(kind: PacketType, whole: &[u8]) -> Option<Vec<u8>> {
    match kind {
        PacketType::Connect => Some(connack(Version::V311, return_code::ACCEPTED, None)),
        PacketType::Publish => {
            let frame = split(whole, MAX_PACKET).ok()??;
            let packet_id = Publish::parse(&frame, Version::V311).ok()?.packet_id?;
            let ack = Ack { packet_type: PacketType::Puback, packet_id, code: reason::SUCCESS };
            Some(ack.to_bytes(Version::V311, None))
        }
        _ => None,
    }
}
