//! What a client sends.

use tidy_warden_core::mqtt::{
    Ack, Disconnect, Frame, Malformed, PacketType, PropertyId, Publish, Subscribe, Unsubscribe, Value, Version, reason,
    suback,
};
use tidy_warden_core::reflex::Noticed;
use tidy_warden_core::settings::OnRefusal;
use tidy_warden_core::topic::{BadFilter, TopicName, Work, split_share};

use super::{Close, Gate, Output, PACKET_WORK, Pending, SUBACK_FAILURE, empty, pass, sender};
use crate::Event;
use crate::message::{Message, Refused};
use crate::moment::Moment;

/// What the subscriptions of one session may weigh: their number, the octets of all their filters, and of one of them its octets
/// and levels. The broker pays for them too.
const MAX_SUBSCRIPTIONS: usize = 2_000;
const MAX_FILTER_OCTETS: usize = 256 * 1024;
const MAX_FILTER: usize = 4 * 1024;
const MAX_LEVELS: usize = 128;

impl Gate {
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
                let still = self.subscriptions.lock().keys().any(|text| self.line.is_own(text));
                if !still {
                    self.line.listens(false);
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
        if let Some(done) = self.own_publish(topic, &publish, out) {
            return done;
        }
        let message = Message::new(topic, publish.qos, publish.retain, publish.payload, &publish.properties);
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
                let mut why = denial.to_string();
                if let Some(unknown) = self.rights.unknown_child(topic) {
                    why.push_str(&format!(
                        "; `{}` is not known, and is to be brought in as a {}",
                        unknown.child, unknown.by.kind
                    ));
                    let named = format!("it named {}", unknown.child);
                    self.introductions.tell(unknown.into());
                    self.notices.note(Noticed::UnknownChild, self.now.time, &named);
                }
                (why, Event::denied(&self.device, self.peer, "publish", text, &denial))
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
    pub(super) fn refuse_publish(&mut self, publish: &Publish<'_>, why: String, out: &mut Output) -> Result<(), Close> {
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
        let (mut text, mut listens) = (None, false);
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
            // The broker does not hear of what is the ward's own: the errands that are open come at once.
            if self.listens_with(subscription.filter, &filter, share.is_some()) == Some(true) {
                (count, octets) = (count + 1, octets + subscription.filter.len());
                answers.push(Err(0));
                self.subscriptions.lock().insert(subscription.filter.to_owned(), (None, filter));
                self.subscriptions.changed();
                self.errand_identifier = subscribe.properties.number(PropertyId::SubscriptionIdentifier);
                listens = true;
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
        if listens {
            self.line.listens(true);
        }
        let refused: Vec<u8> = answers.iter().filter_map(|answer| answer.as_ref().err().copied()).collect();
        if granted.is_empty() {
            let text = text.unwrap_or_default();
            let answer = |text: Option<&str>| suback(self.version, subscribe.packet_id, &refused, text);
            match text.is_empty() {
                true => out.to_client.extend(answer(None)),
                false => out.to_client.extend(self.explanations.packet(&text, answer)),
            }
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
}
