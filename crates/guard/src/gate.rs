//! The gate: what passes between one device and the broker, packet by packet. No sockets, no clock.
//!
//! Packets that pass unchanged are passed on as the octets that came. A packet is rewritten only where a decision
//! changes it: a topic alias is resolved, a message gets its sender's name, a SUBSCRIBE loses what was refused.

mod broker;
mod client;
mod errand;

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::net::SocketAddr;
use std::sync::Arc;

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{Frame, Malformed, Properties, PropertyId, Unsubscribe, Version, reason};
use tidy_warden_core::policy::Rights;
use tidy_warden_core::reflex::Noticed;
use tidy_warden_core::settings::OnRefusal;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::topic::Work;

use crate::Event;
use crate::errands::{Handed, Line};
use crate::event::bounded;
use crate::evidence::Notices;
use crate::floods::Strikes;
use crate::introductions::Introductions;
use crate::kept::{Asked, Subscriptions};
use crate::meter::Timed;
use crate::metrics::Metrics;
use crate::moment::Moment;
use crate::traffic::{Passed, Tally};
use crate::watching::{Trial, Watching};

/// The code of a refused filter in MQTT 3.1.1 (section 3.9.3).
const SUBACK_FAILURE: u8 = 0x80;

/// How much may be done to decide one SUBSCRIBE, and to look at all subscriptions of a session after a change: some
/// milliseconds.
const PACKET_WORK: u32 = 300_000;
const CHANGE_WORK: u32 = 3_000_000;

/// What a packet leads to.
#[derive(Debug, Default)]
pub(crate) struct Output {
    pub(crate) to_client: Vec<u8>,
    pub(crate) to_broker: Vec<u8>,
    pub(crate) events: Vec<Event>,
}

/// How a session ends by a packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Close {
    /// The client said goodbye; its DISCONNECT was passed on.
    Goodbye,
    /// The client wants its will to be published (MQTT 5.0 section 3.14.2.1); nothing was passed on yet.
    GoodbyeWithWill,
    /// The client broke a rule: the reason code for it, and why.
    Fault { code: u8, why: String },
    /// The client was refused again and again, and went on.
    Flood,
    /// The broker broke the protocol.
    Broker(String),
    /// The broker said goodbye; that was passed on.
    BrokerGoodbye,
}

impl From<Malformed> for Close {
    fn from(malformed: Malformed) -> Self {
        Self::Fault { code: malformed.code, why: malformed.what.to_owned() }
    }
}

/// What passes and is refused, counted.
#[derive(Clone, Default)]
pub(crate) struct Counting {
    pub(crate) tally: Arc<Tally>,
    pub(crate) metrics: Arc<Metrics>,
}

impl Counting {
    /// Counts a refusal; what was refused is kept for whoever looks at the device.
    pub(crate) fn refused(&self, at: UnixTime, act: &'static str, subject: &str, why: &str) {
        self.metrics.refused(act);
        let (subject, why) = (bounded(subject.to_owned()), bounded(why.to_owned()));
        self.tally.refused(at, format!("{act} {subject:?}: {why}"));
    }
}

/// How one client's messages are handled.
#[derive(Debug, Clone)]
pub(crate) struct Manner {
    pub(crate) on_refusal: OnRefusal,
    /// The user property that tells receivers the sender; empty for none.
    pub(crate) sender_property: Arc<str>,
}

/// What is done with what a client sends, beside passing it on.
pub(crate) struct Handling {
    /// Where it comes from, for the log.
    pub(crate) peer: SocketAddr,
    pub(crate) manner: Manner,
    pub(crate) counting: Counting,
    /// Where it tells of children that nobody listed.
    pub(crate) introductions: Introductions,
    /// Its end of the way of errands.
    pub(crate) line: Line,
    /// Its way to what reflexes act on.
    pub(crate) notices: Notices,
}

/// What the policies of the moment give a device.
pub(crate) struct Given {
    pub(crate) rights: Rights,
    pub(crate) trial: Option<Trial>,
}

/// A topic that the broker's alias stands for, and whether the client was told so.
#[derive(Debug)]
struct BrokerAlias {
    topic: String,
    told: bool,
}

/// A SUBSCRIBE that waits for the broker's answer: for each filter the code that the gate gave, or what was passed on.
#[derive(Debug)]
struct Pending {
    answers: Vec<Result<(String, Asked), u8>>,
    text: Option<String>,
}

/// How much explanation a client takes (MQTT 5.0 sections 3.1.2.11.4 and 3.1.2.11.7).
#[derive(Debug, Clone, Copy)]
pub(crate) struct Explanations {
    wanted: bool,
    largest: usize,
}

impl Explanations {
    /// What a CONNECT asks for.
    pub(crate) fn of(connect: &Properties<'_>) -> Self {
        let largest = connect.number(PropertyId::MaximumPacketSize).and_then(|largest| usize::try_from(largest).ok());
        Self {
            wanted: connect.number(PropertyId::RequestProblemInformation) != Some(0),
            largest: largest.unwrap_or(usize::MAX),
        }
    }

    /// The packet with its explanation, where the client takes it; else without.
    pub(crate) fn packet(self, text: &str, build: impl Fn(Option<&str>) -> Vec<u8>) -> Vec<u8> {
        let text = bounded(text.to_owned());
        let whole = if self.wanted { build(Some(&text)) } else { Vec::new() };
        if whole.is_empty() || whole.len() > self.largest { build(None) } else { whole }
    }
}

/// The state of one session.
pub(crate) struct Gate {
    version: Version,
    explanations: Explanations,
    peer: SocketAddr,
    device: String,
    rights: Rights,
    watching: Watching,
    meter: Box<dyn Timed>,
    manner: Manner,
    counting: Counting,
    introductions: Introductions,
    line: Line,
    notices: Notices,
    /// The subscription identifier under which the client listens for errands (MQTT 5.0 section 3.8.2.1.2).
    errand_identifier: Option<u32>,
    /// When what is looked at came.
    now: Moment,
    passed: Passed,
    /// The largest packet that the client takes, in octets.
    largest_out: usize,
    /// The highest alias that the client takes from the broker.
    alias_limit_out: u16,
    /// Topics that the broker's aliases stand for. They differ from what the client knows where a message was withheld.
    broker_aliases: HashMap<u16, BrokerAlias>,
    /// Topics that the client's aliases stand for (MQTT 5.0 section 3.3.2.3.4).
    aliases: HashMap<u16, String>,
    /// The highest alias that the broker takes from the client.
    alias_limit: u16,
    pending: HashMap<u16, Pending>,
    subscriptions: Arc<Subscriptions>,
    strikes: Strikes,
    /// Messages of QoS 2 from the client that the gate acknowledged itself and the broker never saw.
    dropped: HashSet<u16>,
    /// Messages of QoS 2 from the broker that the client never saw.
    withheld: HashSet<u16>,
    /// UNSUBSCRIBE packets of the gate's own whose answers are not for the client: how many for each identifier.
    own_unsubscribes: HashMap<u16, u32>,
}

impl Gate {
    pub(crate) fn new(
        version: Version,
        explanations: Explanations,
        rights: Rights,
        watching: Watching,
        meter: Box<dyn Timed>,
        handling: Handling,
        now: Moment,
    ) -> Self {
        let Handling { peer, manner, counting, introductions, line, notices } = handling;
        Self {
            version,
            explanations,
            peer,
            device: watching.device.to_string(),
            rights,
            watching,
            meter,
            manner,
            counting,
            introductions,
            line,
            notices,
            errand_identifier: None,
            now,
            passed: Passed::default(),
            largest_out: explanations.largest,
            alias_limit_out: 0,
            broker_aliases: HashMap::new(),
            aliases: HashMap::new(),
            alias_limit: 0,
            pending: HashMap::new(),
            subscriptions: Arc::default(),
            strikes: Strikes::default(),
            dropped: HashSet::new(),
            withheld: HashSet::new(),
            own_unsubscribes: HashMap::new(),
        }
    }

    /// It is `now` for all that is decided from here on.
    fn at(&mut self, now: Moment) {
        self.now = now;
        self.watching.now = now.time;
        self.meter.at(now.tick);
    }

    /// What the client's CONNECT and the broker's CONNACK allow.
    pub(crate) fn connected(&mut self, connect: &Properties<'_>, connack: &Properties<'_>) {
        let limit = |properties: &Properties<'_>| {
            u16::try_from(properties.number(PropertyId::TopicAliasMaximum).unwrap_or(0)).unwrap_or(u16::MAX)
        };
        self.alias_limit_out = limit(connect);
        self.alias_limit = limit(connack);
    }

    /// Begins with what the broker has for a session that goes on.
    pub(crate) fn resume(&mut self, now: Moment, subscriptions: Arc<Subscriptions>, out: &mut Output) {
        self.at(now);
        self.subscriptions = subscriptions;
        self.end_subscriptions(out);
        if self.subscriptions.lock().keys().any(|text| self.line.is_own(text)) {
            self.line.listens(true);
        }
    }

    pub(crate) fn subscriptions(&self) -> &Arc<Subscriptions> {
        &self.subscriptions
    }

    /// Hands on what was counted since the last call.
    pub(crate) fn count(&mut self) {
        let passed = std::mem::take(&mut self.passed);
        if passed != Passed::default() {
            self.counting.tally.add(passed);
            self.counting.metrics.passed(passed);
        }
    }

    /// Counts a refusal; a client that is refused again and again is disconnected.
    fn refused(&mut self, act: &'static str, subject: &str, why: &str) -> Result<(), Close> {
        self.counting.refused(self.now.time, act, subject, why);
        self.notices.note(Noticed::Refusals, self.now.time, &bounded(format!("{act} {subject:?}")));
        match self.strikes.add(self.now.tick) {
            true => Err(Close::Flood),
            false => Ok(()),
        }
    }

    /// Takes what new policies give; subscriptions that are too wide for them are ended.
    pub(crate) fn set_given(&mut self, now: Moment, standing: Given, manner: Manner, out: &mut Output) {
        self.at(now);
        self.manner = manner;
        self.rights = standing.rights;
        self.watching.trial = standing.trial;
        self.end_subscriptions(out);
    }

    /// Ends the subscriptions that are too wide.
    fn end_subscriptions(&mut self, out: &mut Output) {
        let mut ended = Vec::new();
        let mut work = Work::steps(CHANGE_WORK);
        for (text, (share, filter)) in &*self.subscriptions.lock() {
            let is_own = share.is_none() && self.line.is_own(text);
            if is_own && self.rights.may_listen(filter) {
                continue;
            }
            if let Err(denial) = self.rights.subscribe_within(filter, 0, share.as_deref(), &mut work) {
                ended.push((text.clone(), denial.to_string()));
            }
        }
        if !ended.is_empty() {
            self.subscriptions.changed();
        }
        for (filter, why) in ended {
            self.subscriptions.lock().remove(&filter);
            let packet_id = self.free_packet_id();
            *self.own_unsubscribes.entry(packet_id).or_default() += 1;
            let unsubscribe = Unsubscribe { packet_id, filters: vec![&filter] };
            out.to_broker.extend(unsubscribe.to_bytes(self.version));
            out.events.push(Event::SubscriptionEnded { device: self.device.clone(), filter, why });
        }
    }

    /// An identifier for a packet of the gate's own, from the top, where clients seldom are.
    fn free_packet_id(&self) -> u16 {
        (1..=u16::MAX)
            .rev()
            .find(|id| !self.own_unsubscribes.contains_key(id) && !self.pending.contains_key(id))
            .unwrap_or(u16::MAX)
    }
}

/// The value of the property that tells the sender: the device, and behind a `/` the child that it speaks for.
pub(crate) fn sender<'d>(device: &'d str, child: Option<&DeviceId>) -> Cow<'d, str> {
    match child {
        None => Cow::Borrowed(device),
        Some(child) => Cow::Owned(format!("{device}/{child}")),
    }
}

fn pass(frame: &Frame<'_>, to: &mut Vec<u8>) -> Result<(), Close> {
    to.extend_from_slice(frame.whole);
    Ok(())
}

fn empty(frame: &Frame<'_>) -> Result<(), Malformed> {
    if frame.body.is_empty() {
        return Ok(());
    }
    Err(Malformed { what: "a PINGREQ with content", code: reason::MALFORMED })
}

#[cfg(test)]
#[path = "gate_tests.rs"]
mod tests;
