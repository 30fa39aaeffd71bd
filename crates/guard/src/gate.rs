//! The gate: what passes between one device and the broker, packet by packet. No sockets, no clock.
//!
//! Packets that pass unchanged are passed on as the octets that came. A packet is rewritten only where a decision
//! changes it: a topic alias is resolved, a message gets its sender's name, a SUBSCRIBE loses what was refused.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::net::SocketAddr;
use std::sync::Arc;

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{
    Ack, Disconnect, Frame, Malformed, PacketType, Properties, PropertyId, Publish, SubAck, Subscribe, Unsubscribe,
    Value, Version, reason, suback,
};
use tidy_warden_core::policy::{Delivery, Rights};
use tidy_warden_core::settings::OnRefusal;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::topic::{BadFilter, TopicName, Work, split_share};

use crate::Event;
use crate::event::bounded;
use crate::floods::Strikes;
use crate::kept::{Asked, Subscriptions};
use crate::message::{Message, Refused};
use crate::meter::Timed;
use crate::metrics::Metrics;
use crate::moment::Moment;
use crate::traffic::{Passed, Tally};
use crate::watching::{Trial, Watching};

/// The code of a refused filter in MQTT 3.1.1 (section 3.9.3).
const SUBACK_FAILURE: u8 = 0x80;

/// What the subscriptions of one session may weigh: their number, the octets of all their filters, and of one of them its octets
/// and levels. The broker pays for them too.
const MAX_SUBSCRIPTIONS: usize = 2_000;
const MAX_FILTER_OCTETS: usize = 256 * 1024;
const MAX_FILTER: usize = 4 * 1024;
const MAX_LEVELS: usize = 128;

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

/// What the policies of the moment give a device.
pub(crate) struct Standing {
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
        (version, explanations): (Version, Explanations),
        peer: SocketAddr,
        rights: Rights,
        watching: Watching,
        meter: Box<dyn Timed>,
        (manner, counting): (Manner, Counting),
        now: Moment,
    ) -> Self {
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
        match self.strikes.add(self.now.tick) {
            true => Err(Close::Flood),
            false => Ok(()),
        }
    }

    /// Takes what new policies give; subscriptions that are too wide for them are ended.
    pub(crate) fn set_standing(&mut self, now: Moment, standing: Standing, manner: Manner, out: &mut Output) {
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

    /// A packet from the client.
    pub(crate) fn client_packet(&mut self, now: Moment, frame: &Frame<'_>, out: &mut Output) -> Result<(), Close> {
        self.at(now);
        match frame.packet_type {
            PacketType::Publish => self.client_publish(frame, out),
            PacketType::Subscribe => self.client_subscribe(frame, out),
            PacketType::Unsubscribe => {
                let unsubscribe = Unsubscribe::parse(frame, self.version)?;
                for filter in unsubscribe.filters {
                    self.subscriptions.lock().remove(filter);
                }
                self.subscriptions.changed();
                pass(frame, &mut out.to_broker)
            }
            PacketType::Pubrel => {
                let ack = Ack::parse(frame, self.version)?;
                if self.dropped.remove(&ack.packet_id) {
                    let done = Ack { packet_type: PacketType::Pubcomp, ..ack };
                    out.to_client.extend(done.to_bytes(self.version, None));
                    return Ok(());
                }
                pass(frame, &mut out.to_broker)
            }
            PacketType::Puback | PacketType::Pubrec | PacketType::Pubcomp => {
                Ack::parse(frame, self.version)?;
                pass(frame, &mut out.to_broker)
            }
            PacketType::Pingreq => {
                empty(frame)?;
                pass(frame, &mut out.to_broker)
            }
            PacketType::Disconnect => match Disconnect::parse(frame, self.version)?.code {
                reason::DISCONNECT_WITH_WILL => Err(Close::GoodbyeWithWill),
                _ => {
                    pass(frame, &mut out.to_broker)?;
                    Err(Close::Goodbye)
                }
            },
            PacketType::Connect => Err(Malformed::protocol("a second CONNECT").into()),
            PacketType::Auth => Err(Malformed::protocol("AUTH without an authentication method").into()),
            PacketType::Connack | PacketType::Suback | PacketType::Unsuback | PacketType::Pingresp => {
                Err(Malformed::protocol("a packet that only servers send").into())
            }
        }
    }

    fn client_publish(&mut self, frame: &Frame<'_>, out: &mut Output) -> Result<(), Close> {
        let publish = Publish::parse(frame, self.version)?;
        let alias = publish.properties.number(PropertyId::TopicAlias).and_then(|alias| u16::try_from(alias).ok());
        let resolved;
        let text = match alias {
            Some(alias) => {
                resolved = self.resolve(alias, publish.topic)?;
                resolved.as_str()
            }
            None => publish.topic,
        };
        let topic =
            TopicName::parse(text).map_err(|error| Close::Fault { code: reason::BAD_TOPIC, why: error.to_string() })?;
        if publish.properties.number(PropertyId::SubscriptionIdentifier).is_some() {
            return Err(Malformed::protocol("a client cannot send a subscription identifier").into());
        }
        let message = Message::new(topic, (publish.qos, publish.retain), publish.payload, &publish.properties);
        let decision = message.decide(&self.rights, &mut *self.meter);
        self.watching.publish(message.act, decision.is_ok());
        let (why, event) = match decision {
            Ok(admitted) => {
                self.passed.messages_in += 1;
                self.passed.octets_in += u64::try_from(publish.payload.len()).unwrap_or(0);
                let name = &self.manner.sender_property;
                // MQTT 3.1.1 has no properties: its messages tell nothing of their sender, and nothing false either.
                let proved = self.version == Version::V5 && !name.is_empty();
                if !proved && alias.is_none() {
                    return pass(frame, &mut out.to_broker);
                }
                let sender = proved.then(|| sender(&self.device, admitted.child));
                let mut properties = publish.properties.without(PropertyId::TopicAlias);
                if let Some(sender) = &sender {
                    properties = properties.without_user(name);
                    properties = properties.with(PropertyId::UserProperty, Value::Pair(name, sender));
                }
                Publish { topic: text, properties, ..publish }.append_to(self.version, &mut out.to_broker);
                return Ok(());
            }
            Err(Refused::BadResponse(why)) => {
                return Err(Close::Fault { code: reason::BAD_TOPIC, why: format!("response topic: {why}") });
            }
            Err(Refused::Denied(denial)) => {
                (denial.to_string(), Event::denied(&self.device, self.peer, "publish", text, &denial))
            }
            Err(refused @ Refused::Response(_)) => {
                let why = refused.to_string();
                let event = Event::refused(Some(&self.device), self.peer, "publish", text, &why);
                (why, event)
            }
        };
        let text = text.to_owned();
        out.events.push(event);
        self.refused("publish", &text, &why)?;
        self.refuse_publish(&publish, why, out)
    }

    /// The topic that an alias stands for; sets it if the packet names one.
    fn resolve(&mut self, alias: u16, topic: &str) -> Result<String, Close> {
        let bad = |why: &str| Close::Fault { code: reason::BAD_ALIAS, why: why.to_owned() };
        if alias > self.alias_limit {
            return Err(bad("a topic alias above the maximum"));
        }
        if topic.is_empty() {
            return self.aliases.get(&alias).cloned().ok_or_else(|| bad("a topic alias that was not set"));
        }
        self.aliases.insert(alias, topic.to_owned());
        Ok(topic.to_owned())
    }

    /// Answers a denied PUBLISH with what the protocol offers. MQTT 5.0 has reason codes for QoS 1 and 2; a message of QoS 0
    /// has no answer and is dropped. MQTT 3.1.1 has none at all: the connection ends (3.1.1 section 3.3.5). By setting the
    /// message is dropped and acknowledged as if it had passed, or the connection ends in both versions.
    fn refuse_publish(&mut self, publish: &Publish<'_>, why: String, out: &mut Output) -> Result<(), Close> {
        let closes = match self.manner.on_refusal {
            OnRefusal::Refuse => self.version == Version::V311,
            OnRefusal::Disconnect => true,
            OnRefusal::Drop => false,
        };
        if closes {
            return Err(Close::Fault { code: reason::NOT_AUTHORIZED, why });
        }
        let Some(packet_id) = publish.packet_id else { return Ok(()) };
        let packet_type = if publish.qos == 1 { PacketType::Puback } else { PacketType::Pubrec };
        let answer = match self.manner.on_refusal {
            OnRefusal::Refuse => self.explanations.packet(&why, |text| {
                Ack { packet_type, packet_id, code: reason::NOT_AUTHORIZED }.to_bytes(self.version, text)
            }),
            _ => {
                if publish.qos == 2 {
                    self.dropped.insert(packet_id);
                }
                Ack { packet_type, packet_id, code: reason::SUCCESS }.to_bytes(self.version, None)
            }
        };
        out.to_client.extend(answer);
        Ok(())
    }

    fn client_subscribe(&mut self, frame: &Frame<'_>, out: &mut Output) -> Result<(), Close> {
        let subscribe = Subscribe::parse(frame, self.version)?;
        if self.pending.contains_key(&subscribe.packet_id) {
            return Err(Malformed::protocol("a packet identifier that is in use").into());
        }
        let (mut count, mut octets) = self.weight();
        let mut work = Work::steps(PACKET_WORK);
        let mut answers = Vec::with_capacity(subscribe.subscriptions.len());
        let mut granted = Vec::new();
        let mut text = None;
        for subscription in &subscribe.subscriptions {
            let bad = |error: BadFilter| Close::Fault { code: reason::BAD_FILTER, why: error.to_string() };
            let (share, filter) = split_share(subscription.filter).map_err(bad)?;
            let qos = subscription.qos();
            let too_much = subscription.filter.len() > MAX_FILTER
                || filter.levels().len() > MAX_LEVELS
                || count >= MAX_SUBSCRIPTIONS
                || octets + subscription.filter.len() > MAX_FILTER_OCTETS;
            if too_much {
                let why = format!(
                    "a session may have {MAX_SUBSCRIPTIONS} subscriptions with {MAX_FILTER_OCTETS} bytes of filters, each of at \
                     most {MAX_FILTER} bytes and {MAX_LEVELS} levels"
                );
                let event = Event::refused(Some(&self.device), self.peer, "subscribe", subscription.filter, &why);
                out.events.push(event);
                self.refused("subscribe", subscription.filter, &why)?;
                text.get_or_insert(why);
                answers.push(Err(if self.version == Version::V5 { reason::QUOTA } else { SUBACK_FAILURE }));
                continue;
            }
            let decision = self.rights.subscribe_within(&filter, qos, share.as_deref(), &mut work);
            self.watching.subscribe(subscription.filter, &filter, share.as_deref(), qos, decision.is_ok());
            match decision {
                Ok(given) => {
                    (count, octets) = (count + 1, octets + subscription.filter.len());
                    granted.push(subscription.with_qos(given.qos));
                    answers.push(Ok((subscription.filter.to_owned(), (share, filter))));
                }
                Err(denial) => {
                    text.get_or_insert_with(|| format!("{}: {denial}", subscription.filter));
                    out.events.push(Event::denied(&self.device, self.peer, "subscribe", subscription.filter, &denial));
                    self.refused("subscribe", subscription.filter, &denial.to_string())?;
                    if self.manner.on_refusal == OnRefusal::Disconnect {
                        return Err(Close::Fault { code: reason::NOT_AUTHORIZED, why: denial.to_string() });
                    }
                    answers.push(Err(match self.version {
                        Version::V5 => reason::NOT_AUTHORIZED,
                        Version::V311 => SUBACK_FAILURE,
                    }));
                }
            }
        }
        let refused: Vec<u8> = answers.iter().filter_map(|answer| answer.as_ref().err().copied()).collect();
        if granted.is_empty() {
            let text = text.unwrap_or_default();
            let answer = |text: Option<&str>| suback(self.version, subscribe.packet_id, &refused, text);
            out.to_client.extend(self.explanations.packet(&text, answer));
            return Ok(());
        }
        let packet_id = subscribe.packet_id;
        if granted == subscribe.subscriptions {
            pass(frame, &mut out.to_broker)?;
        } else {
            let narrowed = Subscribe { subscriptions: granted, ..subscribe };
            out.to_broker.extend(narrowed.to_bytes(self.version));
        }
        self.pending.insert(packet_id, Pending { answers, text });
        Ok(())
    }

    /// How many subscriptions the session has or asked for, and the octets of their filters.
    fn weight(&self) -> (usize, usize) {
        let all = self.subscriptions.lock();
        let asked = self.pending.values().flat_map(|pending| &pending.answers).flatten().map(|(text, _)| text);
        all.keys().chain(asked).fold((0, 0), |(count, octets), text| (count + 1, octets + text.len()))
    }

    /// A packet from the broker, after its CONNACK.
    pub(crate) fn broker_packet(&mut self, now: Moment, frame: &Frame<'_>, out: &mut Output) -> Result<(), Close> {
        self.at(now);
        self.sort_broker_packet(frame, out).map_err(|close| match close {
            Close::Fault { why, .. } => Close::Broker(why),
            other => other,
        })
    }

    fn sort_broker_packet(&mut self, frame: &Frame<'_>, out: &mut Output) -> Result<(), Close> {
        match frame.packet_type {
            PacketType::Publish => self.broker_publish(frame, out),
            PacketType::Suback => self.broker_suback(frame, out),
            PacketType::Unsuback => {
                let packet_id = Ack::unsuback_id(frame)?;
                if let Some(count) = self.own_unsubscribes.get_mut(&packet_id) {
                    *count -= 1;
                    if *count == 0 {
                        self.own_unsubscribes.remove(&packet_id);
                    }
                    return Ok(());
                }
                pass(frame, &mut out.to_client)
            }
            PacketType::Pubrel => {
                let ack = Ack::parse(frame, self.version)?;
                if self.withheld.remove(&ack.packet_id) {
                    let done = Ack { packet_type: PacketType::Pubcomp, ..ack };
                    out.to_broker.extend(done.to_bytes(self.version, None));
                    return Ok(());
                }
                pass(frame, &mut out.to_client)
            }
            PacketType::Puback | PacketType::Pubrec | PacketType::Pubcomp | PacketType::Pingresp => {
                pass(frame, &mut out.to_client)
            }
            PacketType::Disconnect => {
                pass(frame, &mut out.to_client)?;
                Err(Close::BrokerGoodbye)
            }
            PacketType::Connect
            | PacketType::Connack
            | PacketType::Subscribe
            | PacketType::Unsubscribe
            | PacketType::Pingreq
            | PacketType::Auth => Err(Malformed::protocol("a packet that a broker does not send here").into()),
        }
    }

    fn broker_publish(&mut self, frame: &Frame<'_>, out: &mut Output) -> Result<(), Close> {
        let publish = Publish::parse(frame, self.version)?;
        let alias = publish.properties.number(PropertyId::TopicAlias).and_then(|alias| u16::try_from(alias).ok());
        if let Some(alias) = alias {
            self.note_broker_alias(alias, publish.topic)?;
        }
        let known = alias.and_then(|alias| self.broker_aliases.get_mut(&alias));
        let (text, told) = match &known {
            Some(known) => (known.topic.as_str(), known.told),
            None => (publish.topic, false),
        };
        let topic = TopicName::parse(text).map_err(|error| Close::Broker(error.to_string()))?;
        let allowed = self.rights.deliver(topic) == Delivery::Deliver;
        self.watching.deliver(topic, allowed);
        // The client was not told what the alias stands for if the message that set it was withheld: it is told now.
        let written_out = (publish.topic.is_empty() && !told).then(|| Publish { topic: text, ..publish.clone() });
        let fits = written_out.as_ref().is_none_or(|whole| whole.encoded_len(self.version) <= self.largest_out);
        if allowed && fits {
            self.passed.messages_out += 1;
            self.passed.octets_out += u64::try_from(publish.payload.len()).unwrap_or(0);
            match &written_out {
                Some(whole) => whole.append_to(self.version, &mut out.to_client),
                None => pass(frame, &mut out.to_client)?,
            }
            if let Some(known) = known {
                known.told = true;
            }
            return Ok(());
        }
        self.counting.metrics.withheld.inc();
        out.events.push(Event::Withheld { device: self.device.clone(), topic: text.to_owned() });
        if let Some(packet_id) = publish.packet_id {
            let packet_type = if publish.qos == 1 { PacketType::Puback } else { PacketType::Pubrec };
            if publish.qos == 2 {
                self.withheld.insert(packet_id);
            }
            let ack = Ack { packet_type, packet_id, code: reason::SUCCESS };
            out.to_broker.extend(ack.to_bytes(self.version, None));
        }
        Ok(())
    }

    /// Notes what the broker's alias stands for; afterwards it stands for something.
    fn note_broker_alias(&mut self, alias: u16, topic: &str) -> Result<(), Close> {
        if alias > self.alias_limit_out {
            return Err(Close::Broker("a topic alias above the client's maximum".to_owned()));
        }
        if !topic.is_empty() {
            self.broker_aliases.insert(alias, BrokerAlias { topic: topic.to_owned(), told: false });
        } else if !self.broker_aliases.contains_key(&alias) {
            return Err(Close::Broker("a topic alias that was not set".to_owned()));
        }
        Ok(())
    }

    fn broker_suback(&mut self, frame: &Frame<'_>, out: &mut Output) -> Result<(), Close> {
        let answer = SubAck::parse(frame, self.version)?;
        let Some(pending) = self.pending.remove(&answer.packet_id) else {
            return Err(Malformed::protocol("a SUBACK that answers nothing").into());
        };
        let mut given = answer.codes.iter().copied();
        let mut codes = Vec::with_capacity(pending.answers.len());
        let mut too_wide = false;
        let mut work = Work::steps(PACKET_WORK);
        for each in pending.answers {
            codes.push(match each {
                Err(refused) => refused,
                Ok((text, asked)) => {
                    let code = given.next().ok_or(Malformed::protocol("a SUBACK with too few codes"))?;
                    if code < SUBACK_FAILURE {
                        // The edition may have changed while the broker was asked.
                        let decision = self.rights.subscribe_within(&asked.1, 0, asked.0.as_deref(), &mut work);
                        too_wide |= decision.is_err();
                        self.subscriptions.lock().insert(text, asked);
                        self.subscriptions.changed();
                    }
                    code
                }
            });
        }
        if given.next().is_some() {
            return Err(Malformed::protocol("a SUBACK with too many codes").into());
        }
        match pending.text {
            None => pass(frame, &mut out.to_client)?,
            Some(text) => {
                let build = |text: Option<&str>| suback(self.version, answer.packet_id, &codes, text);
                out.to_client.extend(self.explanations.packet(&text, build));
            }
        }
        if too_wide {
            self.end_subscriptions(out);
        }
        Ok(())
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
