//! Moving octets: one loop that reads, lets the gate decide, and writes, without ever waiting on one side alone.

use std::cell::RefCell;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use tidy_warden_core::mqtt::{Malformed, split};
use tidy_warden_core::time::Clock;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadBuf};
use tokio::time::{Instant, Sleep};

use crate::gate::{Close, Gate, Output};
use crate::moment::Moment;

/// While so many octets wait to be written to a side, nothing is read.
const HIGH_WATER: usize = 256 * 1024;

/// How much is read at once, in octets: a TLS record and a little more.
const READ: usize = 32 * 1024;

/// Buffers of idle connections are given back if they are larger than this, in octets.
const KEPT: usize = 1024;

/// How long a side may take none of what waits for it.
const STALLED: Duration = Duration::from_secs(60);

/// How long last words may take.
const LAST_WORDS: Duration = Duration::from_secs(2);

thread_local! {
    /// Where everything is read to first, so that ten thousand idle connections do not hold a buffer each.
    static SCRATCH: RefCell<Vec<u8>> = RefCell::new(vec![0; READ]);
}

/// One side of the relay.
pub(crate) struct Side<S> {
    stream: S,
    /// Octets that came and are not yet whole packets.
    pub(crate) input: Vec<u8>,
    /// Octets that wait to be written, and how many of them were.
    output: Vec<u8>,
    written: usize,
    unflushed: bool,
    moved: Instant,
    /// Why nothing can be written any more. What the other end sent before it went is read all the same: a goodbye may be
    /// in it.
    deaf: Option<String>,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Side<S> {
    pub(crate) fn new(stream: S) -> Self {
        Self {
            stream,
            input: Vec::new(),
            output: Vec::new(),
            written: 0,
            unflushed: false,
            moved: Instant::now(),
            deaf: None,
        }
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

    /// Writes and flushes as much as can be; says whether anything moved.
    fn poll_write(&mut self, cx: &mut Context<'_>) -> bool {
        let mut progress = false;
        while self.deaf.is_none() && self.waiting() > 0 {
            match Pin::new(&mut self.stream).poll_write(cx, &self.output[self.written..]) {
                Poll::Ready(Ok(0)) => self.deaf = Some("it takes no more".to_owned()),
                Poll::Ready(Ok(len)) => {
                    self.note_written(len);
                    progress = true;
                }
                Poll::Ready(Err(error)) => self.deaf = Some(error.to_string()),
                Poll::Pending => break,
            }
        }
        if self.unflushed && self.deaf.is_none() {
            match Pin::new(&mut self.stream).poll_flush(cx) {
                Poll::Ready(Ok(())) => self.unflushed = false,
                Poll::Ready(Err(error)) => self.deaf = Some(error.to_string()),
                Poll::Pending => {}
            }
        }
        if self.deaf.is_some() {
            self.output = Vec::new();
            self.written = 0;
        }
        progress
    }

    fn note_written(&mut self, len: usize) {
        self.written += len;
        self.moved = Instant::now();
        self.unflushed = true;
        // What is written goes: all at once where nothing waits, else now and then, for under steady traffic
        // something always waits.
        if self.written == self.output.len() || self.written > HIGH_WATER {
            self.output.drain(..self.written);
            self.written = 0;
            if self.output.is_empty() && self.output.capacity() > KEPT {
                self.output = Vec::new();
            }
        }
    }

    /// Reads what has come; the result tells how much, and 0 is the end.
    fn poll_read(&mut self, cx: &mut Context<'_>) -> Poll<std::io::Result<usize>> {
        SCRATCH.with_borrow_mut(|scratch| {
            let mut into = ReadBuf::new(scratch);
            match Pin::new(&mut self.stream).poll_read(cx, &mut into) {
                Poll::Ready(Ok(())) => {
                    self.input.extend_from_slice(into.filled());
                    Poll::Ready(Ok(into.filled().len()))
                }
                Poll::Ready(Err(error)) => Poll::Ready(Err(error)),
                Poll::Pending => Poll::Pending,
            }
        })
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
            match std::future::poll_fn(|cx| self.poll_read(cx)).await {
                Ok(0) => return Err(Interrupted::Lost("the connection ended".to_owned())),
                Ok(_) => {}
                Err(error) => return Err(Interrupted::Lost(lost(&error))),
            }
        }
    }

    /// Writes all that waits.
    pub(crate) async fn flush_all(&mut self) -> Result<(), Interrupted> {
        let lost = |error: std::io::Error| Interrupted::Lost(error.to_string());
        self.stream.write_all(&self.output[self.written..]).await.map_err(lost)?;
        self.stream.flush().await.map_err(lost)?;
        self.output.clear();
        self.written = 0;
        Ok(())
    }

    /// Writes what waits, then ends the writing side; gives up after a while.
    pub(crate) async fn last_words(&mut self) {
        if self.deaf.is_some() {
            return;
        }
        let all = async {
            self.stream.write_all(&self.output[self.written..]).await?;
            self.stream.flush().await?;
            self.stream.shutdown().await
        };
        // The other side may be gone already: there is nobody left to tell.
        let _ = tokio::time::timeout(LAST_WORDS, all).await;
    }

    /// Writes what the system takes at once.
    pub(crate) fn last_words_now(&mut self) {
        let mut cx = Context::from_waker(std::task::Waker::noop());
        self.poll_write(&mut cx);
    }

    /// Reads and drops what still comes until the other end closes, but not for long. A connection that is closed while
    /// something unread waits is reset, and the last words with it.
    pub(crate) async fn drain(&mut self) {
        let all = async {
            let mut rest = [0; 512];
            while self.stream.read(&mut rest).await.is_ok_and(|len| len > 0) {}
        };
        let _ = tokio::time::timeout(LAST_WORDS, all).await;
    }
}

/// Why a connection is gone, in words of our own.
pub(crate) fn lost(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::UnexpectedEof => "the connection ended without a goodbye".to_owned(),
        std::io::ErrorKind::ConnectionReset => "the connection was reset".to_owned(),
        std::io::ErrorKind::BrokenPipe => "the other end takes no more".to_owned(),
        _ => format!("the connection broke: {error}"),
    }
}

/// Why no packet came.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Interrupted {
    /// The connection is gone.
    #[error("{0}")]
    Lost(String),
    /// What came is not MQTT.
    #[error("{0}")]
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
}

/// Where events go.
pub(crate) type Emit<'a> = dyn Fn(crate::Event) + Send + Sync + 'a;

/// Both sides and the gate between them.
pub(crate) struct Relay<C, B> {
    pub(crate) client: Side<C>,
    pub(crate) broker: Side<B>,
    pub(crate) gate: Gate,
    clock: Arc<dyn Clock>,
    max_packet: usize,
    /// 1.5 times the keep-alive (MQTT 5.0 section 3.1.2.10); `None` for none.
    silence: Option<Duration>,
    heard: Instant,
    /// Wakes the relay for what no packet tells. It is set anew only when it rings: most packets need no timer.
    alarm: Pin<Box<Sleep>>,
}

/// The largest packet that is taken from the broker: the largest there is.
const LARGEST: usize = 268_435_460;

impl<C, B> Relay<C, B>
where
    C: AsyncRead + AsyncWrite + Unpin,
    B: AsyncRead + AsyncWrite + Unpin,
{
    pub(crate) fn new(
        client: Side<C>,
        broker: Side<B>,
        gate: Gate,
        clock: Arc<dyn Clock>,
        max_packet: usize,
        keep_alive: u16,
    ) -> Self {
        let silence = (keep_alive > 0).then(|| Duration::from_millis(u64::from(keep_alive) * 1500));
        let heard = Instant::now();
        let alarm = Box::pin(tokio::time::sleep(silence.map_or(STALLED, |silence| silence.min(STALLED))));
        Self { client, broker, gate, clock, max_packet, silence, heard, alarm }
    }

    /// Passes packets until something stops it; `None` once `attention` is ready, and it may be called again to go on. `emit` gets
    /// the gate's events.
    pub(crate) async fn run(&mut self, attention: impl Future<Output = ()>, emit: &Emit<'_>) -> Option<Stop> {
        tokio::select! {
            biased;
            () = attention => None,
            stop = std::future::poll_fn(|cx| self.poll(cx, emit)) => Some(stop),
        }
    }

    fn poll(&mut self, cx: &mut Context<'_>, emit: &Emit<'_>) -> Poll<Stop> {
        loop {
            if let Err(close) = self.pump(emit) {
                return Poll::Ready(Stop::Closed(close));
            }
            let mut progress = self.client.poll_write(cx);
            progress |= self.broker.poll_write(cx);
            // A packet from either side may lead to packets for both.
            if self.client.waiting().max(self.broker.waiting()) < HIGH_WATER {
                match self.client.poll_read(cx) {
                    Poll::Ready(Ok(0)) => return Poll::Ready(Stop::ClientLost("the connection ended".to_owned())),
                    Poll::Ready(Ok(_)) => {
                        self.heard = Instant::now();
                        progress = true;
                    }
                    Poll::Ready(Err(error)) => {
                        return Poll::Ready(Stop::ClientLost(lost(&error)));
                    }
                    Poll::Pending => {}
                }
                match self.broker.poll_read(cx) {
                    Poll::Ready(Ok(0)) => return Poll::Ready(Stop::BrokerLost("the connection ended".to_owned())),
                    Poll::Ready(Ok(_)) => progress = true,
                    Poll::Ready(Err(error)) => {
                        return Poll::Ready(Stop::BrokerLost(lost(&error)));
                    }
                    Poll::Pending => {}
                }
            }
            if !progress {
                if let Some(why) = &self.broker.deaf {
                    return Poll::Ready(Stop::BrokerLost(format!("the connection broke: {why}")));
                }
                return self.poll_alarm(cx);
            }
        }
    }

    /// Looks at what only time tells.
    fn poll_alarm(&mut self, cx: &mut Context<'_>) -> Poll<Stop> {
        while self.alarm.as_mut().poll(cx).is_ready() {
            if self.silence.is_some_and(|silence| self.heard.elapsed() >= silence) {
                return Poll::Ready(Stop::Silent);
            }
            if self.client.is_stalled() {
                return Poll::Ready(Stop::ClientLost("the client takes no data".to_owned()));
            }
            if let Some(why) = &self.client.deaf {
                return Poll::Ready(Stop::ClientLost(format!("the connection broke: {why}")));
            }
            if self.broker.is_stalled() {
                return Poll::Ready(Stop::BrokerLost("the broker takes no data".to_owned()));
            }
            let stalled = Instant::now() + STALLED;
            let next = self.silence.map_or(stalled, |silence| stalled.min(self.heard + silence));
            self.alarm.as_mut().reset(next);
        }
        Poll::Pending
    }

    /// Queues what the gate wants written and tells its events.
    pub(crate) fn deliver(&mut self, out: Output, emit: &Emit<'_>) {
        self.client.queue(&out.to_client);
        self.broker.queue(&out.to_broker);
        out.events.into_iter().for_each(emit);
    }

    /// Lets the gate look at every whole packet that has come.
    fn pump(&mut self, emit: &Emit<'_>) -> Result<(), Close> {
        if self.client.input.is_empty() && self.broker.input.is_empty() {
            return Ok(());
        }
        let (idle_client, idle_broker) = (self.client.waiting() == 0, self.broker.waiting() == 0);
        // One moment for all that came together: asking a clock for each packet would cost more than most decisions.
        let now = Moment::now(&*self.clock);
        let Self { client, broker, gate, max_packet, .. } = self;
        // The gate writes where the octets wait to be sent: what passes is copied once.
        let mut out = Output {
            to_client: std::mem::take(&mut client.output),
            to_broker: std::mem::take(&mut broker.output),
            events: Vec::new(),
        };
        let result = each_packet(&mut client.input, *max_packet, |frame| gate.client_packet(now, frame, &mut out))
            .and_then(|()| {
                each_packet(&mut broker.input, LARGEST, |frame| gate.broker_packet(now, frame, &mut out)).map_err(
                    |close| match close {
                        Close::Fault { why, .. } => Close::Broker(why),
                        other => other,
                    },
                )
            });
        client.output = out.to_client;
        broker.output = out.to_broker;
        out.events.into_iter().for_each(emit);
        gate.count();
        if idle_client || idle_broker {
            let now = Instant::now();
            if idle_client {
                client.moved = now;
            }
            if idle_broker {
                broker.moved = now;
            }
        }
        result
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
    if input.is_empty() && input.capacity() > KEPT {
        *input = Vec::new();
    }
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
            side.note_written(1000);
            assert!(side.output.len() <= HIGH_WATER + 2 * 1000 && side.waiting() == 24, "{}", side.output.len());
        }
        side.note_written(24);
        assert_eq!((side.output.capacity(), side.written), (0, 0), "an idle connection keeps no large buffer");
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
