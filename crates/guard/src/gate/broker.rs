//! What the broker sends.

use tidy_warden_core::mqtt::{Ack, Frame, Malformed, PacketType, PropertyId, Publish, SubAck, reason, suback};
use tidy_warden_core::policy::Delivery;
use tidy_warden_core::topic::{TopicName, Work};

use super::{BrokerAlias, Close, Gate, Output, PACKET_WORK, SUBACK_FAILURE, pass};
use crate::Event;
use crate::moment::Moment;

impl Gate {
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
