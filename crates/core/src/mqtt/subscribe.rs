//! SUBSCRIBE and UNSUBSCRIBE (MQTT 5.0 sections 3.8 and 3.10).

use super::connect::Version;
use super::frame::{Cursor, Frame, Malformed, PacketType, packet, write_binary};
use super::property::{Properties, place};

/// One subscription that is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Subscription<'a> {
    /// The topic filter, not yet checked.
    pub filter: &'a str,
    /// The options octet; its lower two bits are the QoS.
    pub options: u8,
}

impl Subscription<'_> {
    /// The QoS asked for.
    #[must_use]
    pub fn qos(&self) -> u8 {
        self.options & 3
    }

    /// The same with another QoS.
    #[must_use]
    pub fn with_qos(self, qos: u8) -> Self {
        Self { options: self.options & !3 | qos, ..self }
    }
}

/// The option that keeps a client's own messages from it; not for shared subscriptions (MQTT 5.0 section 3.8.3.1).
const NO_LOCAL: u8 = 0b100;

/// SUBSCRIBE.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Subscribe<'a> {
    /// Its packet identifier.
    pub packet_id: u16,
    /// Its properties.
    pub properties: Properties<'a>,
    /// What is asked for, at least one.
    pub subscriptions: Vec<Subscription<'a>>,
}

impl<'a> Subscribe<'a> {
    /// Reads a SUBSCRIBE.
    ///
    /// # Errors
    /// What is malformed.
    pub fn parse(frame: &Frame<'a>, version: Version) -> Result<Self, Malformed> {
        let mut cursor = Cursor(frame.body);
        let packet_id = cursor.packet_id()?;
        let properties = match version {
            Version::V5 => Properties::read(&mut cursor, place::SUBSCRIBE)?,
            Version::V311 => Properties::default(),
        };
        let mut subscriptions = Vec::new();
        while !cursor.is_empty() {
            let filter = cursor.text()?;
            let options = cursor.u8()?;
            let reserved = if version == Version::V5 { 0xc0 } else { 0xfc };
            let retain_handling = (options >> 4) & 3;
            if options & reserved != 0 || options & 3 == 3 || (version == Version::V5 && retain_handling == 3) {
                return Err(Malformed::form("the subscription options are not valid"));
            }
            if version == Version::V5 && options & NO_LOCAL != 0 && filter.starts_with("$share/") {
                return Err(Malformed::protocol("No Local on a shared subscription"));
            }
            subscriptions.push(Subscription { filter, options });
        }
        if subscriptions.is_empty() {
            return Err(Malformed::protocol("a SUBSCRIBE without a filter"));
        }
        Ok(Self { packet_id, properties, subscriptions })
    }

    /// Writes the packet.
    #[must_use]
    pub fn to_bytes(&self, version: Version) -> Vec<u8> {
        let mut body = self.packet_id.to_be_bytes().to_vec();
        if version == Version::V5 {
            self.properties.write(&mut body);
        }
        for subscription in &self.subscriptions {
            write_binary(&mut body, subscription.filter.as_bytes());
            body.push(subscription.options);
        }
        packet(PacketType::Subscribe, 0b0010, &body)
    }
}

/// UNSUBSCRIBE.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unsubscribe<'a> {
    /// Its packet identifier.
    pub packet_id: u16,
    /// The filters, as text, at least one.
    pub filters: Vec<&'a str>,
}

impl<'a> Unsubscribe<'a> {
    /// Reads an UNSUBSCRIBE.
    ///
    /// # Errors
    /// What is malformed.
    pub fn parse(frame: &Frame<'a>, version: Version) -> Result<Self, Malformed> {
        let mut cursor = Cursor(frame.body);
        let packet_id = cursor.packet_id()?;
        if version == Version::V5 {
            Properties::read(&mut cursor, place::UNSUBSCRIBE)?;
        }
        let mut filters = Vec::new();
        while !cursor.is_empty() {
            filters.push(cursor.text()?);
        }
        if filters.is_empty() {
            return Err(Malformed::protocol("an UNSUBSCRIBE without a filter"));
        }
        Ok(Self { packet_id, filters })
    }

    /// Writes the packet, without properties.
    #[must_use]
    pub fn to_bytes(&self, version: Version) -> Vec<u8> {
        let mut body = self.packet_id.to_be_bytes().to_vec();
        if version == Version::V5 {
            Properties::default().write(&mut body);
        }
        for filter in &self.filters {
            write_binary(&mut body, filter.as_bytes());
        }
        packet(PacketType::Unsubscribe, 0b0010, &body)
    }
}
