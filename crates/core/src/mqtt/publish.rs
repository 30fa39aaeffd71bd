//! PUBLISH (MQTT 5.0 section 3.3).

use super::connect::Version;
use super::frame::{Cursor, Frame, Malformed, PacketType, packet, write_binary};
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
        let mut body = Vec::with_capacity(self.topic.len() + self.payload.len() + 16);
        write_binary(&mut body, self.topic.as_bytes());
        if let Some(id) = self.packet_id {
            body.extend_from_slice(&id.to_be_bytes());
        }
        if version == Version::V5 {
            self.properties.write(&mut body);
        }
        body.extend_from_slice(self.payload);
        let flags = if self.dup { 8 } else { 0 } | self.qos << 1 | u8::from(self.retain);
        packet(PacketType::Publish, flags, &body)
    }
}
