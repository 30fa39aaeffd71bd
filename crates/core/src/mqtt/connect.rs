//! CONNECT and CONNACK (MQTT 5.0 sections 3.1 and 3.2, MQTT 3.1.1 sections 3.1 and 3.2).

use super::frame::{Cursor, Frame, Malformed, PacketType, packet, write_binary};
use super::property::{Properties, PropertyId, place};
use super::reason;

/// The protocol's versions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Version {
    /// MQTT 3.1.1.
    V311,
    /// MQTT 5.0.
    V5,
}

/// The message that a client leaves for the case that it is lost.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Will<'a> {
    /// Its topic, not yet checked.
    pub topic: &'a str,
    /// Its payload.
    pub payload: &'a [u8],
    /// Its QoS.
    pub qos: u8,
    /// Whether it is to be retained.
    pub retain: bool,
    /// Its properties.
    pub properties: Properties<'a>,
}

/// CONNECT.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Connect<'a> {
    /// The version asked for.
    pub version: Version,
    /// Clean start (clean session in 3.1.1).
    pub clean_start: bool,
    /// Seconds; 0 for none.
    pub keep_alive: u16,
    /// The client identifier, perhaps empty.
    pub client_id: &'a str,
    /// The will.
    pub will: Option<Will<'a>>,
    /// The user name.
    pub user_name: Option<&'a str>,
    /// The password: never logged.
    pub password: Option<&'a [u8]>,
    /// Its properties.
    pub properties: Properties<'a>,
}

const WILL: u8 = 1 << 2;
const WILL_RETAIN: u8 = 1 << 5;
const PASSWORD: u8 = 1 << 6;
const USER_NAME: u8 = 1 << 7;
const CLEAN_START: u8 = 1 << 1;

impl<'a> Connect<'a> {
    /// Reads the body of a CONNECT.
    ///
    /// # Errors
    /// What is malformed; another protocol or version has the code [`reason::UNSUPPORTED_VERSION`].
    pub fn parse(frame: &Frame<'a>) -> Result<Self, Malformed> {
        let mut cursor = Cursor(frame.body);
        let protocol = cursor.text()?;
        let version = match (protocol, cursor.u8()?) {
            ("MQTT", 4) => Version::V311,
            ("MQTT", 5) => Version::V5,
            _ => {
                let what = "only MQTT 3.1.1 and 5.0 are spoken here";
                return Err(Malformed { what, code: reason::UNSUPPORTED_VERSION });
            }
        };
        let flags = cursor.u8()?;
        if flags & 1 != 0 {
            return Err(Malformed::form("the reserved connect flag is set"));
        }
        let qos = (flags >> 3) & 3;
        if qos == 3 || (flags & WILL == 0 && (qos != 0 || flags & WILL_RETAIN != 0)) {
            return Err(Malformed::form("the will flags contradict each other"));
        }
        if version == Version::V311 && flags & PASSWORD != 0 && flags & USER_NAME == 0 {
            return Err(Malformed::form("a password without a user name"));
        }
        let keep_alive = cursor.u16()?;
        let properties = |cursor: &mut Cursor<'a>, here| match version {
            Version::V5 => Properties::read(cursor, here),
            Version::V311 => Ok(Properties::default()),
        };
        let connect_properties = properties(&mut cursor, place::CONNECT)?;
        let client_id = cursor.text()?;
        let will = if flags & WILL != 0 {
            let properties = properties(&mut cursor, place::WILL)?;
            let topic = cursor.text()?;
            Some(Will { topic, payload: cursor.binary()?, qos, retain: flags & WILL_RETAIN != 0, properties })
        } else {
            None
        };
        let user_name = if flags & USER_NAME != 0 { Some(cursor.text()?) } else { None };
        let password = if flags & PASSWORD != 0 { Some(cursor.binary()?) } else { None };
        cursor.end()?;
        let has = |id| connect_properties.iter().any(|property| property.id == id);
        if has(PropertyId::AuthenticationData) && !has(PropertyId::AuthenticationMethod) {
            return Err(Malformed::protocol("authentication data without an authentication method"));
        }
        // MQTT 5.0 section 1.5.4 and 3.1.1 section 1.5.3 let a receiver refuse these; brokers differ in whether they do, and
        // one that closes the connection looks as if it were down.
        let texts = [Some(client_id), user_name, will.as_ref().map(|will| will.topic)];
        let controlled = texts.into_iter().flatten().any(|text| text.chars().any(char::is_control))
            || connect_properties.has_control_characters()
            || will.as_ref().is_some_and(|will| will.properties.has_control_characters());
        if controlled {
            return Err(Malformed::form("a control character in a text of CONNECT"));
        }
        let clean_start = flags & CLEAN_START != 0;
        Ok(Self {
            version,
            clean_start,
            keep_alive,
            client_id,
            will,
            user_name,
            password,
            properties: connect_properties,
        })
    }

    /// Writes the packet.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut flags = if self.clean_start { CLEAN_START } else { 0 };
        if let Some(will) = &self.will {
            flags |= WILL | will.qos << 3 | if will.retain { WILL_RETAIN } else { 0 };
        }
        flags |= if self.user_name.is_some() { USER_NAME } else { 0 };
        flags |= if self.password.is_some() { PASSWORD } else { 0 };
        let mut body = Vec::with_capacity(64);
        write_binary(&mut body, b"MQTT");
        body.push(if self.version == Version::V5 { 5 } else { 4 });
        body.push(flags);
        body.extend_from_slice(&self.keep_alive.to_be_bytes());
        if self.version == Version::V5 {
            self.properties.write(&mut body);
        }
        write_binary(&mut body, self.client_id.as_bytes());
        if let Some(will) = &self.will {
            if self.version == Version::V5 {
                will.properties.write(&mut body);
            }
            write_binary(&mut body, will.topic.as_bytes());
            write_binary(&mut body, will.payload);
        }
        if let Some(user_name) = self.user_name {
            write_binary(&mut body, user_name.as_bytes());
        }
        if let Some(password) = self.password {
            write_binary(&mut body, password);
        }
        packet(PacketType::Connect, 0, &body)
    }
}

/// CONNACK.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Connack<'a> {
    /// Whether the broker kept a session.
    pub session_present: bool,
    /// 0, or why not.
    pub code: u8,
    /// Its properties.
    pub properties: Properties<'a>,
}

impl<'a> Connack<'a> {
    /// Reads the body of a CONNACK.
    ///
    /// # Errors
    /// What is malformed.
    pub fn parse(frame: &Frame<'a>, version: Version) -> Result<Self, Malformed> {
        let mut cursor = Cursor(frame.body);
        let flags = cursor.u8()?;
        if flags > 1 {
            return Err(Malformed::form("reserved CONNACK flags are set"));
        }
        let code = cursor.u8()?;
        let properties = match version {
            Version::V5 => Properties::read(&mut cursor, place::CONNACK)?,
            Version::V311 => Properties::default(),
        };
        cursor.end()?;
        Ok(Self { session_present: flags == 1, code, properties })
    }

    /// Writes the packet.
    #[must_use]
    pub fn to_bytes(&self, version: Version) -> Vec<u8> {
        let mut body = vec![u8::from(self.session_present), self.code];
        if version == Version::V5 {
            self.properties.write(&mut body);
        }
        packet(PacketType::Connack, 0, &body)
    }

    /// The least keep-alive the server asks for instead of the client's, if it does (MQTT 5.0 section 3.2.2.3.14).
    #[must_use]
    pub fn server_keep_alive(&self) -> Option<u16> {
        self.properties.number(PropertyId::ServerKeepAlive).and_then(|seconds| u16::try_from(seconds).ok())
    }
}
