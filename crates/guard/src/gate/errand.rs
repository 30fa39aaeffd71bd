//! The ward's own topics: what a device does there goes no further than the guard.

use tidy_warden_core::errand::Place;
use tidy_warden_core::mqtt::{Ack, PacketType, Properties, PropertyId, Publish, Value, Version, reason};
use tidy_warden_core::topic::{TopicFilter, TopicName};

use super::{Close, Gate, Handed, Output};
use crate::Event;
use crate::moment::Moment;

impl Gate {
    /// Whether a filter asks for topics of the ward's own, and if so whether the device may have them.
    pub(super) fn listens_with(&self, text: &str, filter: &TopicFilter, is_shared: bool) -> Option<bool> {
        self.line.reserved.asks_for(&filter.to_string(), "")?;
        Some(!is_shared && self.line.is_own(text) && self.rights.may_listen(filter))
    }

    /// A message on a topic of the ward's own: an answer, or nothing that is passed on. `None` if the topic is another's.
    pub(super) fn own_publish(
        &mut self,
        topic: TopicName<'_>,
        publish: &Publish<'_>,
        out: &mut Output,
    ) -> Option<Result<(), Close>> {
        let place = self.line.reserved.place(topic.as_str())?;
        let answered = match place {
            Place::Answer { receiver, device } if receiver == self.device && self.rights.may_answer(topic) => {
                self.line.answer(device, publish.payload)
            }
            _ => Err("a device answers its errands on topics of its own, and does nothing else there"),
        };
        let Err(why) = answered else {
            self.passed.messages_in += 1;
            self.passed.octets_in += u64::try_from(publish.payload.len()).unwrap_or(0);
            self.acknowledge(publish, out);
            return Some(Ok(()));
        };
        let text = topic.as_str().to_owned();
        out.events.push(Event::refused(Some(&self.device), self.peer, "publish", &text, why));
        let counted = self.refused("publish", &text, why);
        Some(counted.and_then(|()| self.refuse_publish(publish, why.to_owned(), out)))
    }

    /// Tells the client that its message was taken.
    fn acknowledge(&mut self, publish: &Publish<'_>, out: &mut Output) {
        let Some(packet_id) = publish.packet_id else { return };
        let packet_type = if publish.qos == 1 { PacketType::Puback } else { PacketType::Pubrec };
        if publish.qos == 2 {
            self.dropped.insert(packet_id);
        }
        let ack = Ack { packet_type, packet_id, code: reason::SUCCESS };
        out.to_client.extend(ack.to_bytes(self.version, None));
    }

    /// Writes an errand to the client, as a message of QoS 0: whether it came is told by its answer. MQTT 5.0 has the topic of the answer
    /// and the number with it (section 4.10); in 3.1.1 the device knows the topic by the one on which the errand came.
    pub(crate) fn hand(&mut self, now: Moment, errand: &Handed, out: &mut Output) {
        self.at(now);
        let number = errand.number.to_string();
        let mut properties = Properties::default();
        if self.version == Version::V5 {
            let left = u32::try_from(errand.ends.since(now.time).max(1)).unwrap_or(u32::MAX);
            properties = properties
                .with(PropertyId::PayloadFormat, Value::Number(1))
                .with(PropertyId::MessageExpiry, Value::Number(left))
                .with(PropertyId::ContentType, Value::Text("application/jose"))
                .with(PropertyId::ResponseTopic, Value::Text(&errand.answer_topic))
                .with(PropertyId::CorrelationData, Value::Binary(number.as_bytes()));
            if let Some(identifier) = self.errand_identifier {
                properties = properties.with(PropertyId::SubscriptionIdentifier, Value::Number(identifier));
            }
        }
        let publish = Publish {
            dup: false,
            qos: 0,
            retain: false,
            topic: &errand.topic,
            packet_id: None,
            properties,
            payload: errand.text.as_bytes(),
        };
        if publish.encoded_len(self.version) > self.largest_out {
            let what =
                format!("errand {number} is larger than what {} takes; it must allow for larger packets", self.device);
            out.events.push(Event::Trouble { what });
            return;
        }
        self.passed.messages_out += 1;
        self.passed.octets_out += u64::try_from(errand.text.len()).unwrap_or(0);
        publish.append_to(self.version, &mut out.to_client);
    }
}
