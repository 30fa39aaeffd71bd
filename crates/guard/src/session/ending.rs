//! How a session ends, for the client, the broker and the log.

use std::time::Instant;

use tidy_warden_core::mqtt::{Version, disconnect, reason};
use tokio::io::{AsyncRead, AsyncWrite};

use super::{Admission, Conversing};
use crate::Event;
use crate::gate::Close;
use crate::relay::{Relay, Stop};
use crate::shared::Shared;
use crate::wills::{LastWill, Waiting, due};

/// How a session ended.
pub(super) struct Ending {
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

impl<S: AsyncRead + AsyncWrite + Unpin + Send> Conversing<S> {
    /// An ending without last words, of which nothing follows.
    fn closed(&self, why: impl Into<String>) -> Ending {
        let event = Event::Closed { device: self.admission.device.id.to_string(), why: why.into() };
        Ending { to_client: Vec::new(), goodbye: false, lost: false, flood: false, event }
    }

    /// DISCONNECT with a reason where the version has one for servers.
    fn last_packet(&self, code: u8, why: &str) -> Vec<u8> {
        match self.version {
            Version::V5 => self.explanations.packet(why, |text| disconnect(self.version, code, text)),
            Version::V311 => Vec::new(),
        }
    }

    /// The guard ends it, because the session may no longer be.
    pub(super) fn cut(&self, why: String) -> Ending {
        Ending {
            to_client: self.last_packet(reason::ADMINISTRATIVE, &why),
            goodbye: true,
            event: Event::Cut { device: self.admission.device.id.to_string(), why },
            ..self.closed("")
        }
    }

    /// The guard ends it, because it stops.
    pub(super) fn guard_stops(&self) -> Ending {
        let why = "the guard stops";
        Ending { to_client: self.last_packet(reason::SHUTTING_DOWN, why), goodbye: true, ..self.closed(why) }
    }

    /// One of the two ends, or what it sent, ended it.
    pub(super) async fn stopped(&mut self, stop: Stop) -> Ending {
        let mut flood = false;
        let (to_client, why) = match stop {
            Stop::Closed(Close::Goodbye) => return self.closed("the client said goodbye"),
            Stop::Closed(Close::BrokerGoodbye) => return self.closed("the broker ended it"),
            Stop::Closed(Close::Broker(why)) | Stop::BrokerLost(why) => {
                // MQTT 5.0 has no code for this in DISCONNECT; a server that goes down is what it amounts to.
                let to_client = self.last_packet(reason::SHUTTING_DOWN, "the broker is gone; come back later");
                return Ending { to_client, lost: true, ..self.closed(format!("the broker: {why}")) };
            }
            Stop::Closed(Close::GoodbyeWithWill) => (Vec::new(), "the client said goodbye with its will".to_owned()),
            Stop::Closed(Close::Flood) => {
                let why = "it was refused too often";
                flood = true;
                (self.last_packet(reason::QUOTA, why), why.to_owned())
            }
            Stop::Closed(Close::Fault { code, why }) => (self.last_packet(code, &why), why),
            Stop::Silent => {
                let why = "the client was silent for longer than its keep-alive";
                (self.last_packet(reason::KEEP_ALIVE_TIMEOUT, why), why.to_owned())
            }
            Stop::ClientLost(why) => (Vec::new(), why),
        };
        let goodbye = !self.will_may_go().await;
        Ending { to_client, goodbye, lost: true, flood, ..self.closed(why) }
    }

    /// Whether the client's will may be published now: decided by the state and edition of this moment.
    async fn will_may_go(&mut self) -> bool {
        let Self { shared, admission, will, .. } = self;
        // One that the broker does not have is decided on when it is due.
        let Some(will) = will.as_ref().filter(|will| !will.is_own()) else { return true };
        let Ok(given) = admission.look_again(shared, true).await else { return false };
        will.may_go(&given.rights, &mut shared.rates.of(&admission.device.id, Instant::now()))
    }

    /// Says the last words on both sides, and leaves what outlives the session.
    pub(super) async fn end(self, ending: Ending) {
        let Self { shared, relay: Relay { mut client, mut broker, mut gate, .. }, admission, version, .. } = self;
        gate.count();
        shared.kept.closed(&admission.client_id, gate.subscriptions(), shared.knowledge.now());
        if ending.flood {
            let seconds = shared.floods.slow(&admission.device.id, Instant::now()).as_secs();
            shared.emit(Event::Slowed { device: admission.device.id.to_string(), seconds });
        }
        if let Some(will) = self.will.filter(|_| ending.lost) {
            keep_will(&shared, &admission, will, self.expiry);
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
            drop(admission);
        };
        tokio::join!(seen_off, client.drain());
    }
}

/// Keeps the will of a client that was lost until it is due, if it is one that waits.
fn keep_will(shared: &Shared, admission: &Admission, will: LastWill, expiry: std::time::Duration) {
    let Some((packet, delay)) = will.into_own(expiry) else { return };
    let Admission { device, client_id, credential, .. } = admission;
    let lost = shared.knowledge.now();
    let waiting = Waiting {
        device: device.id.clone(),
        client_id: client_id.clone(),
        credential: credential.clone(),
        packet,
        guard: shared.kept.guard(),
        lost,
        due: due(lost, delay),
    };
    if !shared.wills.add(waiting) {
        let why = "too many wills wait".to_owned();
        shared.emit(Event::WillNotSent { device: device.id.to_string(), client_id: client_id.clone(), why });
    }
}
