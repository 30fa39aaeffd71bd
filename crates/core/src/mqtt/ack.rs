//! Acknowledgements and DISCONNECT.

use super::connect::{Connack, Version};
use super::frame::{Cursor, Frame, Malformed, PacketType, packet};
use super::property::{Properties, Property, PropertyId, Value, place};
use super::reason;

fn with_reason(text: Option<&str>) -> Properties<'_> {
    let property = |text| Property { id: PropertyId::ReasonString, value: Value::Text(text) };
    Properties::new(text.map(property).into_iter().collect())
}

/// PUBACK, PUBREC, PUBREL, PUBCOMP or UNSUBACK, as far as the packet identifier and the reason code go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ack {
    /// Which.
    pub packet_type: PacketType,
    /// The packet that it speaks of.
    pub packet_id: u16,
    /// The reason code; 0 in MQTT 3.1.1.
    pub code: u8,
}

impl Ack {
    /// Reads one of PUBACK, PUBREC, PUBREL, PUBCOMP.
    ///
    /// # Errors
    /// What is malformed.
    pub fn parse(frame: &Frame<'_>, version: Version) -> Result<Self, Malformed> {
        let mut cursor = Cursor(frame.body);
        let packet_id = cursor.packet_id()?;
        let mut code = reason::SUCCESS;
        if version == Version::V5 && !cursor.is_empty() {
            code = cursor.u8()?;
            if !cursor.is_empty() {
                Properties::read(&mut cursor, place::ACK)?;
            }
        }
        cursor.end()?;
        Ok(Self { packet_type: frame.packet_type, packet_id, code })
    }

    /// The packet identifier of an UNSUBACK.
    ///
    /// # Errors
    /// It has none.
    pub fn unsuback_id(frame: &Frame<'_>) -> Result<u16, Malformed> {
        Cursor(frame.body).packet_id()
    }

    /// Writes the packet; `text` becomes the reason string in MQTT 5.0.
    #[must_use]
    pub fn to_bytes(self, version: Version, text: Option<&str>) -> Vec<u8> {
        let mut body = self.packet_id.to_be_bytes().to_vec();
        if version == Version::V5 && (self.code != reason::SUCCESS || text.is_some()) {
            body.push(self.code);
            if text.is_some() {
                with_reason(text).write(&mut body);
            }
        }
        let flags = if self.packet_type == PacketType::Pubrel { 0b0010 } else { 0 };
        packet(self.packet_type, flags, &body)
    }
}

/// SUBACK.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SubAck<'a> {
    /// The SUBSCRIBE that it answers.
    pub packet_id: u16,
    /// Its properties.
    pub properties: Properties<'a>,
    /// A code for each filter, in order.
    pub codes: &'a [u8],
}

impl<'a> SubAck<'a> {
    /// Reads a SUBACK.
    ///
    /// # Errors
    /// What is malformed.
    pub fn parse(frame: &Frame<'a>, version: Version) -> Result<Self, Malformed> {
        let mut cursor = Cursor(frame.body);
        let packet_id = cursor.packet_id()?;
        let properties = match version {
            Version::V5 => Properties::read(&mut cursor, place::ACK)?,
            Version::V311 => Properties::default(),
        };
        Ok(Self { packet_id, properties, codes: cursor.0 })
    }
}

/// SUBACK with `codes`; `text` becomes the reason string in MQTT 5.0.
#[must_use]
pub fn suback(version: Version, packet_id: u16, codes: &[u8], text: Option<&str>) -> Vec<u8> {
    let mut body = packet_id.to_be_bytes().to_vec();
    if version == Version::V5 {
        with_reason(text).write(&mut body);
    }
    body.extend_from_slice(codes);
    packet(PacketType::Suback, 0, &body)
}

/// UNSUBACK for `count` filters, all successful.
#[must_use]
pub fn unsuback(version: Version, packet_id: u16, count: usize) -> Vec<u8> {
    let mut body = packet_id.to_be_bytes().to_vec();
    if version == Version::V5 {
        Properties::default().write(&mut body);
        body.extend(std::iter::repeat_n(reason::SUCCESS, count));
    }
    packet(PacketType::Unsuback, 0, &body)
}

/// CONNACK that refuses; `text` becomes the reason string in MQTT 5.0.
#[must_use]
pub fn connack(version: Version, code: u8, text: Option<&str>) -> Vec<u8> {
    Connack { session_present: false, code, properties: with_reason(text) }.to_bytes(version)
}

/// DISCONNECT.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Disconnect {
    /// The reason code; 0 in MQTT 3.1.1.
    pub code: u8,
}

impl Disconnect {
    /// Reads a DISCONNECT.
    ///
    /// # Errors
    /// What is malformed.
    pub fn parse(frame: &Frame<'_>, version: Version) -> Result<Self, Malformed> {
        let mut cursor = Cursor(frame.body);
        let mut code = reason::SUCCESS;
        if version == Version::V5 && !cursor.is_empty() {
            code = cursor.u8()?;
            if !cursor.is_empty() {
                Properties::read(&mut cursor, place::DISCONNECT)?;
            }
        }
        cursor.end()?;
        Ok(Self { code })
    }
}

/// DISCONNECT with `code`; in MQTT 3.1.1, which has neither code nor text, a bare one.
#[must_use]
pub fn disconnect(version: Version, code: u8, text: Option<&str>) -> Vec<u8> {
    let mut body = Vec::new();
    if version == Version::V5 && (code != reason::SUCCESS || text.is_some()) {
        body.push(code);
        if text.is_some() {
            with_reason(text).write(&mut body);
        }
    }
    packet(PacketType::Disconnect, 0, &body)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::*;

    fn frame(bytes: &[u8]) -> Frame<'_> {
        split(bytes, 1 << 20).unwrap().unwrap()
    }

    fn user_property<'a>(name: &'a str, value: &'a str) -> Property<'a> {
        Property { id: PropertyId::UserProperty, value: Value::Pair(name, value) }
    }

    proptest! {
        #[test]
        fn packets_read_back_as_they_were_written(
            topic in "[a-z/]{1,9}", payload in proptest::collection::vec(any::<u8>(), 0..40), qos in 0u8..=2,
            retain in any::<bool>(), id in 1u16.., v5 in any::<bool>(), name in "[a-z]{0,5}",
        ) {
            let version = if v5 { Version::V5 } else { Version::V311 };
            let all = if v5 { vec![user_property(&name, &topic)] } else { vec![] };
            let properties = Properties::new(all);
            let publish = Publish {
                dup: qos > 0 && retain, qos, retain, topic: &topic, packet_id: (qos > 0).then_some(id),
                properties: properties.clone(), payload: &payload,
            };
            let bytes = publish.to_bytes(version);
            prop_assert_eq!(Publish::parse(&frame(&bytes), version).unwrap(), publish);
            let will = Will { topic: &topic, payload: &payload, qos, retain, properties: properties.clone() };
            let connect = Connect {
                version, clean_start: retain, keep_alive: id, client_id: &name, will: Some(will),
                user_name: Some(&name), password: Some(&payload), properties: properties.clone(),
            };
            let bytes = connect.to_bytes();
            prop_assert_eq!(Connect::parse(&frame(&bytes)).unwrap(), connect);
            let subscription = Subscription { filter: &topic, options: qos };
            let subscribe = Subscribe { packet_id: id, properties, subscriptions: vec![subscription, subscription] };
            let bytes = subscribe.to_bytes(version);
            prop_assert_eq!(Subscribe::parse(&frame(&bytes), version).unwrap(), subscribe);
            let unsubscribe = Unsubscribe { packet_id: id, filters: vec![&topic] };
            let bytes = unsubscribe.to_bytes(version);
            prop_assert_eq!(Unsubscribe::parse(&frame(&bytes), version).unwrap(), unsubscribe);
            let bytes = suback(version, id, &[qos, 0x80], None);
            prop_assert_eq!(SubAck::parse(&frame(&bytes), version).unwrap().codes, &[qos, 0x80][..]);
        }

        #[test]
        fn no_octets_make_the_parsers_fail_badly(bytes in proptest::collection::vec(any::<u8>(), 0..80), kind in 1u8..16) {
            let flags = if matches!(kind, 6 | 8 | 10) { 2 } else { 0 };
            let mut whole = vec![kind << 4 | flags, u8::try_from(bytes.len()).unwrap()];
            whole.extend(&bytes);
            let frame = frame(&whole);
            for version in [Version::V311, Version::V5] {
                let _ = (Connect::parse(&frame), Publish::parse(&frame, version), Subscribe::parse(&frame, version));
                let _ = (Unsubscribe::parse(&frame, version), Ack::parse(&frame, version), SubAck::parse(&frame, version));
                let _ = (Connack::parse(&frame, version), Disconnect::parse(&frame, version));
            }
        }
    }

    #[test]
    fn hostile_packets_are_refused() {
        let connect = |body: &[u8]| {
            let mut whole = vec![0x10, u8::try_from(body.len()).unwrap()];
            whole.extend(body);
            Connect::parse(&frame(&whole)).err().map(|error| error.what)
        };
        let head = |flags: u8| [&[0, 4][..], b"MQTT", &[4, flags, 0, 60, 0, 1, b'a']].concat();
        assert_eq!(connect(&head(2)), None);
        assert!(connect(&head(3)).is_some(), "reserved flag");
        assert!(connect(&head(0x1e)).is_some(), "will QoS 3");
        assert!(connect(&head(0x0a)).is_some(), "will QoS without a will");
        assert!(connect(&head(0x42)).is_some(), "password without user name");
        assert!(connect(&[head(2), vec![0]].concat()).is_some(), "trailing octets");
        assert!(connect(&head(2)[..9]).is_some(), "cut off");
        assert!(connect(&[&[0, 6][..], b"MQIsdp", &[3, 2, 0, 60, 0, 1, b'a']].concat()).is_some(), "MQTT 3.1");
        let publish = |bytes: &[u8], version| Publish::parse(&frame(bytes), version).is_err();
        assert!(publish(&[0x36, 5, 0, 1, b'a', 0, 1], Version::V311), "QoS 3");
        assert!(publish(&[0x38, 3, 0, 1, b'a'], Version::V311), "duplicate of QoS 0");
        assert!(publish(&[0x32, 5, 0, 1, b'a', 0, 0], Version::V311), "packet identifier 0");
        assert!(publish(&[0x30, 3, 0, 1, 0xff], Version::V311), "not UTF-8");
        assert!(publish(&[0x30, 3, 0, 1, 0], Version::V311), "null character");
        assert!(publish(&[0x30, 7, 0, 1, b'a', 3, 35, 0, 0], Version::V5), "alias 0");
        assert!(publish(&[0x30, 8, 0, 1, b'a', 4, 1, 1, 1, 1], Version::V5), "property twice");
        assert!(publish(&[0x30, 6, 0, 1, b'a', 2, 36, 1], Version::V5), "property of another packet");
        let subscribe = |bytes: &[u8], version| Subscribe::parse(&frame(bytes), version).is_err();
        assert!(subscribe(&[0x82, 2, 0, 1], Version::V311), "no filter");
        assert!(subscribe(&[0x82, 6, 0, 1, 0, 1, b'a', 3], Version::V311), "QoS 3");
        assert!(subscribe(&[0x82, 6, 0, 1, 0, 1, b'a', 4], Version::V311), "5.0 options in 3.1.1");
    }
}
