//! PUBLISH (MQTT 5.0 section 3.3).

use super::connect::Version;
use super::frame::{Cursor, Frame, Malformed, PacketType, binary_len, variable_len, write_binary, write_variable};
use super::property::{Properties, place};

/// PUBLISH.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Publish<'a> {
    /// Sent before.
    pub dup: bool,
    /// 0 to 2.
    pub qos: u8,
    /// To be retained, or was.
    pub retain: bool,
    /// The topic, not yet checked; empty only in 5.0, where an alias stands for it.
    pub topic: &'a str,
    /// With QoS 1 and 2.
    pub packet_id: Option<u16>,
    /// Its properties.
    pub properties: Properties<'a>,
    /// The message.
    pub payload: &'a [u8],
}

impl<'a> Publish<'a> {
    /// Reads a PUBLISH.
    ///
    /// # Errors
    /// What is malformed.
    pub fn parse(frame: &Frame<'a>, version: Version) -> Result<Self, Malformed> {
        let dup = frame.flags & 8 != 0;
        let qos = (frame.flags >> 1) & 3;
        if qos == 3 {
            return Err(Malformed::form("QoS 3 does not exist"));
        }
        if qos == 0 && dup {
            return Err(Malformed::form("a message of QoS 0 cannot be a duplicate"));
        }
        let mut cursor = Cursor(frame.body);
        let topic = cursor.text()?;
        let packet_id = if qos > 0 { Some(cursor.packet_id()?) } else { None };
        let properties = match version {
            Version::V5 => Properties::read(&mut cursor, place::PUBLISH)?,
            Version::V311 => Properties::default(),
        };
        Ok(Self { dup, qos, retain: frame.flags & 1 != 0, topic, packet_id, properties, payload: cursor.0 })
    }

    /// Writes the packet.
    #[must_use]
    pub fn to_bytes(&self, version: Version) -> Vec<u8> {
        let mut out = Vec::new();
        self.append_to(version, &mut out);
        out
    }

    /// Octets that the packet has.
    #[must_use]
    pub fn encoded_len(&self, version: Version) -> usize {
        let body = self.body_len(version);
        1 + variable_len(body) + body
    }

    fn body_len(&self, version: Version) -> usize {
        let properties = if version == Version::V5 { self.properties.len_written() } else { 0 };
        let packet_id = if self.packet_id.is_some() { 2 } else { 0 };
        binary_len(self.topic.as_bytes()) + packet_id + properties + self.payload.len()
    }

    /// Writes the packet behind what is in `out`, in one go: this is done for every message that a gate changes.
    pub fn append_to(&self, version: Version, out: &mut Vec<u8>) {
        let flags = if self.dup { 8 } else { 0 } | self.qos << 1 | u8::from(self.retain);
        let body = self.body_len(version);
        out.reserve(body + 5);
        out.push(PacketType::Publish.code() << 4 | flags);
        write_variable(out, body);
        write_binary(out, self.topic.as_bytes());
        if let Some(id) = self.packet_id {
            out.extend_from_slice(&id.to_be_bytes());
        }
        if version == Version::V5 {
            self.properties.write(out);
        }
        out.extend_from_slice(self.payload);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{PropertyId, Value, split};
    use super::*;

    proptest! {
        /// What is written reads back as it was, and is as long as was told.
        #[test]
        fn written_messages_read_back(
            topic in "[a-z/]{1,20}",
            payload in proptest::collection::vec(any::<u8>(), 0..300),
            qos in 0u8..3,
            retain: bool,
            dup: bool,
            user in proptest::collection::vec(("[a-z]{0,9}", "[a-zäö]{0,200}"), 0..4),
            identifiers in proptest::collection::vec(1u32..268_435_456, 0..3),
            expiry: Option<u32>,
            v5: bool,
        ) {
            let version = if v5 { Version::V5 } else { Version::V311 };
            let mut properties = Properties::default();
            if v5 {
                for number in &identifiers {
                    properties = properties.with(PropertyId::SubscriptionIdentifier, Value::Number(*number));
                }
                if let Some(expiry) = expiry {
                    properties = properties.with(PropertyId::MessageExpiry, Value::Number(expiry));
                }
                for (name, value) in &user {
                    properties = properties.with(PropertyId::UserProperty, Value::Pair(name, value));
                }
            }
            let packet_id = (qos > 0).then_some(77);
            let publish =
                Publish { dup: dup && qos > 0, qos, retain, topic: &topic, packet_id, properties, payload: &payload };
            let mut bytes = vec![1, 2, 3];
            publish.append_to(version, &mut bytes);
            prop_assert_eq!(&bytes[..3], &[1, 2, 3]);
            prop_assert_eq!(bytes.len() - 3, publish.encoded_len(version));
            let frame = split(&bytes[3..], usize::MAX).unwrap().unwrap();
            prop_assert_eq!(frame.whole.len(), bytes.len() - 3);
            prop_assert_eq!(Publish::parse(&frame, version).unwrap(), publish.clone());
            if let Some((name, value)) = user.first().filter(|_| v5) {
                prop_assert_eq!(publish.properties.user(name), Some(value.as_str()));
                prop_assert_eq!(publish.properties.without_user(name).user(name), None);
            }
            prop_assert_eq!(&publish.properties.without_user("NOBODY"), &publish.properties);
        }
    }
}
