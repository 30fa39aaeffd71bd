//! Load, and what comes of it: how many messages pass in a second, how long one takes, how many connect.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use tidy_warden_core::mqtt::{PacketType, Properties, Publish, ping_request, split};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::sync::Barrier;
use tokio::task::JoinSet;

use crate::device::Device;
use crate::login::{ConnectError, Login};

const MAX_PACKET: usize = 16 * 1024 * 1024;

/// How messages are sent.
#[derive(Debug, Clone, Copy)]
pub struct Plan {
    /// 0 or 1.
    pub qos: u8,
    /// Octets of payload.
    pub size: usize,
    /// Messages of each publisher.
    pub messages: u32,
    /// With QoS 1: how many may wait for their answer at once.
    pub window: u16,
}

/// A publisher: who it is, and the topic that it may publish to.
pub type Publisher = (Login, String);

/// What came of a load.
#[derive(Debug, Clone, Default)]
pub struct Passed {
    /// Messages that were taken: answered, or in front of an answered ping.
    pub messages: u64,
    /// From the first message to the last answer.
    pub took: Duration,
    /// Time to each answer, with QoS 1; sorted.
    pub answers: Vec<Duration>,
}

impl Passed {
    /// Messages in a second.
    #[must_use]
    pub fn rate(&self) -> f64 {
        let messages = f64::from(u32::try_from(self.messages).unwrap_or(u32::MAX));
        messages / self.took.as_secs_f64().max(1e-9)
    }

    /// The time within which `percent` of the answers came.
    #[must_use]
    pub fn percentile(&self, percent: usize) -> Option<Duration> {
        let at = self.answers.len().checked_sub(1)? * percent / 100;
        self.answers.get(at).copied()
    }
}

/// Publishes with all publishers at once. All are connected before the first message goes.
///
/// # Errors
/// A publisher does not connect, or loses its connection.
pub async fn publish(publishers: &[Publisher], address: SocketAddr, plan: Plan) -> Result<Passed, ConnectError> {
    let barrier = Arc::new(Barrier::new(publishers.len() + 1));
    let mut running = JoinSet::new();
    let mut connected = Vec::new();
    for (login, topic) in publishers {
        connected.push((login.connect(address).await?, topic.clone()));
    }
    for (device, topic) in connected {
        let barrier = barrier.clone();
        running.spawn(async move {
            barrier.wait().await;
            one(device, &topic, plan).await
        });
    }
    barrier.wait().await;
    let begun = Instant::now();
    let mut passed = Passed::default();
    while let Some(done) = running.join_next().await {
        passed.answers.extend(done.map_err(io::Error::other)??);
        passed.messages += u64::from(plan.messages);
    }
    passed.took = begun.elapsed();
    passed.answers.sort_unstable();
    Ok(passed)
}

fn message(device: &Device, topic: &str, plan: Plan, packet_id: u16) -> Vec<u8> {
    let payload = vec![b'x'; plan.size];
    let packet_id = (plan.qos > 0).then_some(packet_id);
    let properties = Properties::default();
    let publish = Publish { dup: false, qos: plan.qos, retain: false, topic, packet_id, properties, payload: &payload };
    publish.to_bytes(device.version)
}

/// One publisher: gives the time to each answer.
async fn one(mut device: Device, topic: &str, plan: Plan) -> io::Result<Vec<Duration>> {
    let mut answers = Vec::new();
    if plan.qos == 0 {
        let packet = message(&device, topic, plan, 0);
        for _ in 0..plan.messages {
            device.stream.write_all(&packet).await?;
        }
        // What is answered to a ping was read after all that stands before it.
        device.stream.write_all(&ping_request()).await?;
        device.stream.flush().await?;
        wait_for(&mut device, PacketType::Pingresp, 1).await?;
    } else {
        let packets: Vec<Vec<u8>> = (1..=plan.window).map(|id| message(&device, topic, plan, id)).collect();
        let mut sent_at = Vec::new();
        let mut sent = 0u32;
        let mut answered = 0u32;
        while answered < plan.messages {
            while sent < plan.messages && sent - answered < u32::from(plan.window) {
                let at = usize::try_from(sent).unwrap_or(0) % packets.len();
                sent_at.push(Instant::now());
                device.stream.write_all(&packets[at]).await?;
                sent += 1;
            }
            device.stream.flush().await?;
            for _ in 0..wait_for(&mut device, PacketType::Puback, 1).await? {
                answers.push(sent_at[usize::try_from(answered).unwrap_or(0)].elapsed());
                answered += 1;
            }
        }
    }
    device.goodbye().await;
    Ok(answers)
}

/// Reads until at least `count` packets of a type came; gives how many that were.
async fn wait_for(device: &mut Device, wanted: PacketType, count: u32) -> io::Result<u32> {
    let invalid = |what: &str| io::Error::new(io::ErrorKind::InvalidData, what.to_owned());
    let mut found = 0;
    loop {
        let mut used = 0;
        while let Some(frame) = split(&device.input[used..], MAX_PACKET).map_err(|error| invalid(error.what))? {
            if frame.packet_type == PacketType::Disconnect {
                return Err(invalid("the other side ended the session"));
            }
            found += u32::from(frame.packet_type == wanted);
            used += frame.whole.len();
        }
        device.input.drain(..used);
        if found >= count {
            return Ok(found);
        }
        if device.stream.read_buf(&mut device.input).await? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
    }
}

/// How far a connection is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// To the end of the TLS handshake.
    Handshake,
    /// To CONNACK, and a goodbye.
    Session,
}

/// Opens `count` connections, `parallel` at a time, with full handshakes; gives the time that it took.
///
/// # Errors
/// A connection does not come about.
pub async fn connect(
    logins: &[Login],
    address: SocketAddr,
    (count, parallel): (usize, usize),
    depth: Depth,
) -> Result<Duration, ConnectError> {
    let begun = Instant::now();
    let mut running = JoinSet::new();
    for worker in 0..parallel {
        let logins: Vec<Login> = logins.iter().skip(worker).step_by(parallel).cloned().collect();
        let share = count / parallel + usize::from(worker < count % parallel);
        running.spawn(async move {
            for at in 0..share {
                let login = logins[at % logins.len()].forgetful();
                match depth {
                    Depth::Handshake => login.handshake(address).await?,
                    Depth::Session => login.connect(address).await?.goodbye().await,
                }
            }
            Ok::<(), ConnectError>(())
        });
    }
    while let Some(done) = running.join_next().await {
        done.map_err(io::Error::other)??;
    }
    Ok(begun.elapsed())
}

/// Opens a session with every login, `parallel` at a time, and keeps them all.
///
/// # Errors
/// A connection does not come about.
pub async fn hold_open(logins: Vec<Login>, address: SocketAddr, parallel: usize) -> Result<Vec<Device>, ConnectError> {
    let mut running = JoinSet::new();
    let all = Arc::new(logins);
    for worker in 0..parallel {
        let all = all.clone();
        running.spawn(async move {
            let mut open = Vec::new();
            for login in all.iter().skip(worker).step_by(parallel) {
                open.push(login.connect(address).await?);
            }
            Ok::<_, ConnectError>(open)
        });
    }
    let mut open = Vec::new();
    while let Some(done) = running.join_next().await {
        open.extend(done.map_err(io::Error::other)??);
    }
    Ok(open)
}
