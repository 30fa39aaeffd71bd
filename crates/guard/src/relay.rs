//! Moving octets: one loop that reads, lets the gate decide, and writes, without ever waiting on one side alone.

use std::time::Duration;

use tidy_warden_core::mqtt::{Malformed, split};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadHalf, WriteHalf};
use tokio::time::Instant;

use crate::gate::{Close, Gate, Output};

/// While so many octets wait to be written to a side, nothing is read.
const HIGH_WATER: usize = 256 * 1024;

/// How much is read at once, in octets.
const READ: usize = 16 * 1024;

/// How long a side may take none of what waits for it.
const STALLED: Duration = Duration::from_secs(60);

/// How long last words may take.
const LAST_WORDS: Duration = Duration::from_secs(2);

/// One side of the relay.
pub(crate) struct Side<S> {
    reader: ReadHalf<S>,
    writer: WriteHalf<S>,
    /// Octets that came and are not yet whole packets.
    pub(crate) input: Vec<u8>,
    /// Octets that wait to be written, and how many of them were.
    output: Vec<u8>,
    written: usize,
    unflushed: bool,
    moved: Instant,
}

/// What happened on a side.
enum Moved {
    Read(std::io::Result<usize>),
    Written(std::io::Result<usize>),
    Flushed(std::io::Result<()>),
}

impl<S: AsyncRead + AsyncWrite + Unpin> Side<S> {
    pub(crate) fn new(stream: S) -> Self {
        let (reader, writer) = tokio::io::split(stream);
        let moved = Instant::now();
        Self { reader, writer, input: Vec::new(), output: Vec::new(), written: 0, unflushed: false, moved }
    }

    fn waiting(&self) -> usize {
        self.output.len() - self.written
    }

    pub(crate) fn queue(&mut self, bytes: &[u8]) {
        if self.waiting() == 0 {
            self.moved = Instant::now();
        }
        self.output.extend_from_slice(bytes);
    }

    /// Reads, writes or flushes, whichever can be done first; dropping the future loses nothing.
    async fn step(&mut self, read: bool) -> Moved {
        self.input.reserve(READ);
        let Self { reader, writer, input, output, written, unflushed, .. } = self;
        let outward = async {
            if *written < output.len() {
                Moved::Written(writer.write(&output[*written..]).await)
            } else if *unflushed {
                Moved::Flushed(writer.flush().await)
            } else {
                std::future::pending().await
            }
        };
        tokio::select! {
            moved = outward => moved,
            result = reader.read_buf(input), if read => Moved::Read(result),
        }
    }

    /// Takes note of a step; an error or an end of the stream is told as a reason.
    fn note(&mut self, moved: Moved) -> Result<(), String> {
        match moved {
            Moved::Read(Ok(0)) => return Err("the connection ended".to_owned()),
            Moved::Read(Ok(_)) => {}
            Moved::Written(Ok(len)) => {
                self.written += len;
                self.moved = Instant::now();
                self.unflushed = true;
                // What is written goes: all at once where nothing waits, else now and then, for under steady traffic
                // something always waits.
                if self.written == self.output.len() || self.written > HIGH_WATER {
                    self.output.drain(..self.written);
                    self.written = 0;
                }
            }
            Moved::Flushed(Ok(())) => self.unflushed = false,
            Moved::Read(Err(error)) | Moved::Written(Err(error)) | Moved::Flushed(Err(error)) => {
                return Err(format!("the connection broke: {error}"));
            }
        }
        Ok(())
    }

    fn is_stalled(&self) -> bool {
        self.waiting() > 0 && self.moved.elapsed() > STALLED
    }

    /// Reads until one whole packet is in `input`.
    pub(crate) async fn packet(&mut self, max: usize) -> Result<usize, Interrupted> {
        loop {
            if let Some(frame) = split(&self.input, max)? {
                return Ok(frame.whole.len());
            }
            self.input.reserve(READ);
            match self.reader.read_buf(&mut self.input).await {
                Ok(0) => return Err(Interrupted::Lost("the connection ended".to_owned())),
                Ok(_) => {}
                Err(error) => return Err(Interrupted::Lost(error.to_string())),
            }
        }
    }

    /// Writes all that waits.
    pub(crate) async fn flush_all(&mut self) -> Result<(), Interrupted> {
        let lost = |error: std::io::Error| Interrupted::Lost(error.to_string());
        self.writer.write_all(&self.output[self.written..]).await.map_err(lost)?;
        self.writer.flush().await.map_err(lost)?;
        self.output.clear();
        self.written = 0;
        Ok(())
    }

    /// Writes what waits, then ends the writing side; gives up after a while.
    pub(crate) async fn last_words(&mut self) {
        let all = async {
            self.writer.write_all(&self.output[self.written..]).await?;
            self.writer.flush().await?;
            self.writer.shutdown().await
        };
        // The other side may be gone already: there is nobody left to tell.
        let _ = tokio::time::timeout(LAST_WORDS, all).await;
    }
}

/// Why no packet came.
#[derive(Debug)]
pub(crate) enum Interrupted {
    /// The connection is gone.
    Lost(String),
    /// What came is not MQTT.
    Malformed(Malformed),
}

impl From<Malformed> for Interrupted {
    fn from(malformed: Malformed) -> Self {
        Self::Malformed(malformed)
    }
}

/// What the relay stopped for.
#[derive(Debug)]
pub(crate) enum Stop {
    /// A packet ended the session.
    Closed(Close),
    /// The client's connection is gone, or stands still.
    ClientLost(String),
    /// The client was silent for longer than its keep-alive allows.
    Silent,
    /// The broker's connection is gone.
    BrokerLost(String),
    /// Something else wants attention; call again to go on.
    Attention,
}

/// Where events go.
pub(crate) type Emit<'a> = dyn Fn(crate::Event) + Send + Sync + 'a;

/// Both sides and the gate between them.
pub(crate) struct Relay<C, B> {
    pub(crate) client: Side<C>,
    pub(crate) broker: Side<B>,
    pub(crate) gate: Gate,
    max_packet: usize,
    /// 1.5 times the keep-alive (MQTT 5.0 section 3.1.2.10); `None` for none.
    silence: Option<Duration>,
    heard: Instant,
}

/// The largest packet that is taken from the broker: the largest there is.
const LARGEST: usize = 268_435_460;

impl<C, B> Relay<C, B>
where
    C: AsyncRead + AsyncWrite + Unpin,
    B: AsyncRead + AsyncWrite + Unpin,
{
    pub(crate) fn new(client: Side<C>, broker: Side<B>, gate: Gate, max_packet: usize, keep_alive: u16) -> Self {
        let silence = (keep_alive > 0).then(|| Duration::from_millis(u64::from(keep_alive) * 1500));
        Self { client, broker, gate, max_packet, silence, heard: Instant::now() }
    }

    /// Passes packets until something stops it, or `attention` is ready. `emit` gets the gate's events.
    pub(crate) async fn run(&mut self, attention: impl Future<Output = ()>, emit: &Emit<'_>) -> Stop {
        let mut attention = std::pin::pin!(attention);
        loop {
            let mut out = Output::default();
            let ended = self.pump(&mut out);
            self.deliver(out, emit);
            if let Err(close) = ended {
                return Stop::Closed(close);
            }
            if self.client.is_stalled() {
                return Stop::ClientLost("the client takes no data".to_owned());
            }
            if self.broker.is_stalled() {
                return Stop::BrokerLost("the broker takes no data".to_owned());
            }
            let deadline = self.next_deadline();
            // A packet from either side may lead to packets for both.
            let read = self.client.waiting().max(self.broker.waiting()) < HIGH_WATER;
            tokio::select! {
                biased;
                () = &mut attention => return Stop::Attention,
                moved = self.client.step(read) => {
                    if matches!(moved, Moved::Read(Ok(len)) if len > 0) {
                        self.heard = Instant::now();
                    }
                    if let Err(why) = self.client.note(moved) {
                        return Stop::ClientLost(why);
                    }
                }
                moved = self.broker.step(read) => if let Err(why) = self.broker.note(moved) {
                    return Stop::BrokerLost(why);
                },
                () = tokio::time::sleep_until(deadline) => {
                    if self.silence.is_some_and(|silence| self.heard.elapsed() >= silence) {
                        return Stop::Silent;
                    }
                }
            }
        }
    }

    fn next_deadline(&self) -> Instant {
        let stalled = Instant::now() + STALLED;
        self.silence.map_or(stalled, |silence| stalled.min(self.heard + silence))
    }

    /// Queues what the gate wants written and tells its events.
    pub(crate) fn deliver(&mut self, out: Output, emit: &Emit<'_>) {
        self.client.queue(&out.to_client);
        self.broker.queue(&out.to_broker);
        out.events.into_iter().for_each(emit);
    }

    /// Lets the gate look at every whole packet that has come.
    fn pump(&mut self, out: &mut Output) -> Result<(), Close> {
        let Self { client, broker, gate, max_packet, .. } = self;
        each_packet(&mut client.input, *max_packet, |frame| gate.client_packet(frame, out))?;
        each_packet(&mut broker.input, LARGEST, |frame| gate.broker_packet(frame, out)).map_err(|close| match close {
            Close::Fault { why, .. } => Close::Broker(why),
            other => other,
        })
    }
}

fn each_packet(
    input: &mut Vec<u8>,
    max: usize,
    mut look: impl FnMut(&tidy_warden_core::mqtt::Frame<'_>) -> Result<(), Close>,
) -> Result<(), Close> {
    let mut used = 0;
    let result = loop {
        match split(&input[used..], max) {
            Ok(Some(frame)) => {
                used += frame.whole.len();
                if let Err(close) = look(&frame) {
                    break Err(close);
                }
            }
            Ok(None) => break Ok(()),
            Err(malformed) => break Err(malformed.into()),
        }
    };
    input.drain(..used);
    result
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn steady_traffic_does_not_fill_the_memory() {
        let (near, _far) = tokio::io::duplex(64);
        let mut side = Side::new(near);
        side.queue(b"always something waiting");
        for _ in 0..10_000 {
            side.queue(&[0; 1000]);
            side.note(Moved::Written(Ok(1000))).unwrap();
            assert!(side.output.len() <= HIGH_WATER + 2 * 1000 && side.waiting() == 24, "{}", side.output.len());
        }
    }

    #[tokio::test]
    async fn a_packet_is_waited_for_and_an_oversized_one_refused_from_its_header() {
        let (near, mut far) = tokio::io::duplex(64);
        let mut side = Side::new(near);
        far.write_all(&[0xc0]).await.unwrap();
        let early = tokio::time::timeout(Duration::from_millis(20), side.packet(100)).await;
        assert!(early.is_err(), "half a packet is none");
        far.write_all(&[0, 0x30, 0xff, 0x7f]).await.unwrap();
        assert!(matches!(side.packet(100).await, Ok(2)));
        side.input.drain(..2);
        assert!(matches!(side.packet(100).await, Err(Interrupted::Malformed(_))));
        drop(far);
        side.input.clear();
        assert!(matches!(side.packet(100).await, Err(Interrupted::Lost(_))));
    }
}
