//! Properties of MQTT 5.0 packets (section 2.2.2).

use super::frame::{Cursor, Malformed, binary_len, variable_len, write_binary, write_variable};

macro_rules! property_ids {
    ($($name:ident = $code:literal, $form:ident, $places:expr;)*) => {
        /// The properties.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        #[expect(missing_docs, reason = "the standard's names say it")]
        pub enum PropertyId { $($name,)* }

        impl PropertyId {
            fn from_code(code: usize) -> Option<Self> {
                match code { $($code => Some(Self::$name),)* _ => None }
            }

            fn code(self) -> usize {
                match self { $(Self::$name => $code,)* }
            }

            fn form(self) -> ValueForm {
                match self { $(Self::$name => ValueForm::$form,)* }
            }

            /// Where it may stand, as a set of [`place`] bits.
            fn places(self) -> u16 {
                match self { $(Self::$name => $places,)* }
            }
        }
    };
}

/// Where properties stand, as bits of a set.
pub(crate) mod place {
    pub(crate) const CONNECT: u16 = 1;
    pub(crate) const CONNACK: u16 = 1 << 1;
    pub(crate) const PUBLISH: u16 = 1 << 2;
    pub(crate) const WILL: u16 = 1 << 3;
    /// PUBACK, PUBREC, PUBREL, PUBCOMP, SUBACK, UNSUBACK.
    pub(crate) const ACK: u16 = 1 << 4;
    pub(crate) const SUBSCRIBE: u16 = 1 << 5;
    pub(crate) const UNSUBSCRIBE: u16 = 1 << 6;
    pub(crate) const DISCONNECT: u16 = 1 << 7;
    pub(crate) const ANY: u16 = 0xffff;
}

use place::{ACK, ANY, CONNACK, CONNECT, DISCONNECT, PUBLISH, SUBSCRIBE, WILL};

enum ValueForm {
    /// One octet, 0 or 1.
    Flag,
    Two,
    Four,
    Variable,
    Text,
    Binary,
    Pair,
}

property_ids! {
    PayloadFormat = 1, Flag, PUBLISH | WILL;
    MessageExpiry = 2, Four, PUBLISH | WILL;
    ContentType = 3, Text, PUBLISH | WILL;
    ResponseTopic = 8, Text, PUBLISH | WILL;
    CorrelationData = 9, Binary, PUBLISH | WILL;
    SubscriptionIdentifier = 11, Variable, PUBLISH | SUBSCRIBE;
    SessionExpiry = 17, Four, CONNECT | CONNACK | DISCONNECT;
    AssignedClientIdentifier = 18, Text, CONNACK;
    ServerKeepAlive = 19, Two, CONNACK;
    AuthenticationMethod = 21, Text, CONNECT | CONNACK;
    AuthenticationData = 22, Binary, CONNECT | CONNACK;
    RequestProblemInformation = 23, Flag, CONNECT;
    WillDelay = 24, Four, WILL;
    RequestResponseInformation = 25, Flag, CONNECT;
    ResponseInformation = 26, Text, CONNACK;
    ServerReference = 28, Text, CONNACK | DISCONNECT;
    ReasonString = 31, Text, CONNACK | ACK | DISCONNECT;
    ReceiveMaximum = 33, Two, CONNECT | CONNACK;
    TopicAliasMaximum = 34, Two, CONNECT | CONNACK;
    TopicAlias = 35, Two, PUBLISH;
    MaximumQos = 36, Flag, CONNACK;
    RetainAvailable = 37, Flag, CONNACK;
    UserProperty = 38, Pair, ANY;
    MaximumPacketSize = 39, Four, CONNECT | CONNACK;
    WildcardSubscriptionAvailable = 40, Flag, CONNACK;
    SubscriptionIdentifierAvailable = 41, Flag, CONNACK;
    SharedSubscriptionAvailable = 42, Flag, CONNACK;
}

/// The value of a property.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Value<'a> {
    /// A number, whatever its width.
    Number(u32),
    /// A text.
    Text(&'a str),
    /// Octets.
    Binary(&'a [u8]),
    /// A name and a value.
    Pair(&'a str, &'a str),
}

/// A property.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Property<'a> {
    /// Which.
    pub id: PropertyId,
    /// Its value.
    pub value: Value<'a>,
}

/// The properties of one packet, all checked; empty in MQTT 3.1.1.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Properties<'a>(Vec<Property<'a>>);

impl<'a> Properties<'a> {
    /// Properties to be written.
    #[must_use]
    pub fn new(all: Vec<Property<'a>>) -> Self {
        Self(all)
    }

    /// Reads the properties of an acknowledgement; `input` begins with their length and ends with them.
    ///
    /// # Errors
    /// What is malformed.
    pub fn of_ack(input: &'a [u8]) -> Result<Self, Malformed> {
        let mut cursor = Cursor(input);
        let properties = Self::read(&mut cursor, place::ACK)?;
        cursor.end()?;
        Ok(properties)
    }

    /// Reads length and properties; `here` is where they stand.
    pub(crate) fn read(cursor: &mut Cursor<'a>, here: u16) -> Result<Self, Malformed> {
        let len = cursor.variable()?;
        let mut inner = Cursor(cursor.take(len)?);
        let mut all: Vec<Property<'a>> = Vec::new();
        while !inner.is_empty() {
            let code = inner.variable()?;
            let id = PropertyId::from_code(code).ok_or(Malformed::form("a property is unknown"))?;
            if id.places() & here == 0 {
                return Err(Malformed::protocol("a property does not belong to this packet"));
            }
            // A server may put several subscription identifiers into one PUBLISH (section 3.3.2.3.8).
            let repeats =
                id == PropertyId::UserProperty || (id == PropertyId::SubscriptionIdentifier && here == place::PUBLISH);
            if !repeats && all.iter().any(|property| property.id == id) {
                return Err(Malformed::protocol("a property stands twice"));
            }
            let value = match id.form() {
                ValueForm::Flag => match inner.u8()? {
                    flag @ (0 | 1) => Value::Number(u32::from(flag)),
                    _ => return Err(Malformed::protocol("a property that is 0 or 1 has another value")),
                },
                ValueForm::Two => Value::Number(u32::from(inner.u16()?)),
                ValueForm::Four => Value::Number(inner.u32()?),
                ValueForm::Variable => Value::Number(u32::try_from(inner.variable()?).unwrap_or(u32::MAX)),
                ValueForm::Text => Value::Text(inner.text()?),
                ValueForm::Binary => Value::Binary(inner.binary()?),
                ValueForm::Pair => Value::Pair(inner.text()?, inner.text()?),
            };
            let not_zero = matches!(
                id,
                PropertyId::ReceiveMaximum
                    | PropertyId::MaximumPacketSize
                    | PropertyId::TopicAlias
                    | PropertyId::SubscriptionIdentifier
            );
            if not_zero && value == Value::Number(0) {
                return Err(Malformed::protocol("a property that must not be 0 is 0"));
            }
            all.push(Property { id, value });
        }
        Ok(Self(all))
    }

    /// Octets of the properties, without the length in front.
    fn body_len(&self) -> usize {
        // Every identifier that there is takes one octet.
        self.0
            .iter()
            .map(|Property { id, value }| {
                1 + match (id.form(), *value) {
                    (ValueForm::Flag, _) => 1,
                    (ValueForm::Two, _) => 2,
                    (ValueForm::Variable, Value::Number(number)) => {
                        variable_len(usize::try_from(number).unwrap_or(usize::MAX))
                    }
                    (_, Value::Number(_)) => 4,
                    (_, Value::Text(text)) => binary_len(text.as_bytes()),
                    (_, Value::Binary(bytes)) => binary_len(bytes),
                    (_, Value::Pair(name, value)) => binary_len(name.as_bytes()) + binary_len(value.as_bytes()),
                }
            })
            .sum()
    }

    /// Octets that [`Self::write`] writes.
    pub(crate) fn len_written(&self) -> usize {
        let body = self.body_len();
        variable_len(body) + body
    }

    /// Writes length and properties.
    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        write_variable(out, self.body_len());
        for Property { id, value } in &self.0 {
            write_variable(out, id.code());
            match (id.form(), *value) {
                (ValueForm::Flag, Value::Number(number)) => out.push(u8::try_from(number).unwrap_or(1)),
                (ValueForm::Two, Value::Number(number)) => {
                    out.extend_from_slice(&u16::try_from(number).unwrap_or(u16::MAX).to_be_bytes());
                }
                (ValueForm::Variable, Value::Number(number)) => {
                    write_variable(out, usize::try_from(number).unwrap_or(usize::MAX));
                }
                (_, Value::Number(number)) => out.extend_from_slice(&number.to_be_bytes()),
                (_, Value::Text(text)) => write_binary(out, text.as_bytes()),
                (_, Value::Binary(bytes)) => write_binary(out, bytes),
                (_, Value::Pair(name, value)) => {
                    write_binary(out, name.as_bytes());
                    write_binary(out, value.as_bytes());
                }
            }
        }
    }

    /// Whether a text among them holds a control character (MQTT 5.0 section 1.5.4).
    #[must_use]
    pub fn has_control_characters(&self) -> bool {
        let odd = |text: &str| text.chars().any(char::is_control);
        self.0.iter().any(|property| match property.value {
            Value::Text(text) => odd(text),
            Value::Pair(name, value) => odd(name) || odd(value),
            Value::Number(_) | Value::Binary(_) => false,
        })
    }

    /// All of them, in order.
    pub fn iter(&self) -> impl Iterator<Item = &Property<'a>> {
        self.0.iter()
    }

    /// The number that a property has, if it is there.
    #[must_use]
    pub fn number(&self, id: PropertyId) -> Option<u32> {
        self.0.iter().find_map(|property| match property.value {
            Value::Number(number) if property.id == id => Some(number),
            _ => None,
        })
    }

    /// The text that a property has, if it is there.
    #[must_use]
    pub fn text(&self, id: PropertyId) -> Option<&'a str> {
        self.0.iter().find_map(|property| match property.value {
            Value::Text(text) if property.id == id => Some(text),
            _ => None,
        })
    }

    /// These properties without one of them.
    #[must_use]
    pub fn without(&self, id: PropertyId) -> Self {
        Self(self.0.iter().filter(|property| property.id != id).copied().collect())
    }

    /// These properties without the user properties of one name.
    #[must_use]
    pub fn without_user(&self, name: &str) -> Self {
        let other = |property: &&Property<'a>| !matches!(property.value, Value::Pair(each, _) if each == name);
        Self(self.0.iter().filter(other).copied().collect())
    }

    /// The value of the first user property of a name, if there is one.
    #[must_use]
    pub fn user(&self, name: &str) -> Option<&'a str> {
        self.0.iter().find_map(|property| match property.value {
            Value::Pair(each, value) if each == name => Some(value),
            _ => None,
        })
    }

    /// These properties and one more.
    #[must_use]
    pub fn with(mut self, id: PropertyId, value: Value<'a>) -> Self {
        self.0.push(Property { id, value });
        self
    }
}
