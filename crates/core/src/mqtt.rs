//! MQTT 3.1.1 and 5.0 packets: reading them strictly, and writing the few that a gate between client and broker needs.
//!
//! A gate that lets through what a broker reads differently is no gate, so everything that the standards call
//! malformed is refused here, although it costs more than skipping over it.

mod ack;
mod connect;
mod frame;
mod property;
mod publish;
mod subscribe;

pub use ack::{Ack, Disconnect, SubAck, connack, disconnect, suback, unsuback};
pub use connect::{Connack, Connect, Version, Will};
pub use frame::{Frame, Malformed, PacketType, ping_request, split};
pub use property::{Properties, Property, PropertyId, Value};
pub use publish::Publish;
pub use subscribe::{Subscribe, Subscription, Unsubscribe};

/// Reason codes that this product sends or looks at (MQTT 5.0 section 2.4).
pub mod reason {
    /// Success, normal disconnection, granted QoS 0.
    pub const SUCCESS: u8 = 0x00;
    /// Disconnect with will message.
    pub const DISCONNECT_WITH_WILL: u8 = 0x04;
    /// Unspecified error.
    pub const UNSPECIFIED: u8 = 0x80;
    /// Malformed packet.
    pub const MALFORMED: u8 = 0x81;
    /// Protocol error.
    pub const PROTOCOL_ERROR: u8 = 0x82;
    /// Implementation specific error.
    pub const IMPLEMENTATION: u8 = 0x83;
    /// Unsupported protocol version.
    pub const UNSUPPORTED_VERSION: u8 = 0x84;
    /// Client identifier not valid.
    pub const BAD_CLIENT_ID: u8 = 0x85;
    /// Bad user name or password.
    pub const BAD_LOGIN: u8 = 0x86;
    /// Not authorized.
    pub const NOT_AUTHORIZED: u8 = 0x87;
    /// Server unavailable.
    pub const SERVER_UNAVAILABLE: u8 = 0x88;
    /// Banned.
    pub const BANNED: u8 = 0x8a;
    /// Server shutting down.
    pub const SHUTTING_DOWN: u8 = 0x8b;
    /// Server busy.
    pub const BUSY: u8 = 0x89;
    /// Bad authentication method.
    pub const BAD_AUTHENTICATION_METHOD: u8 = 0x8c;
    /// Connection rate exceeded.
    pub const RATE: u8 = 0x9f;
    /// Keep alive timeout.
    pub const KEEP_ALIVE_TIMEOUT: u8 = 0x8d;
    /// Session taken over.
    pub const TAKEN_OVER: u8 = 0x8e;
    /// Topic filter invalid.
    pub const BAD_FILTER: u8 = 0x8f;
    /// Topic name invalid.
    pub const BAD_TOPIC: u8 = 0x90;
    /// Topic alias invalid.
    pub const BAD_ALIAS: u8 = 0x94;
    /// Packet too large.
    pub const TOO_LARGE: u8 = 0x95;
    /// Quota exceeded.
    pub const QUOTA: u8 = 0x97;
    /// Administrative action.
    pub const ADMINISTRATIVE: u8 = 0x98;
    /// Shared subscriptions not supported.
    pub const NO_SHARED: u8 = 0x9e;
}

/// Return codes of CONNACK in MQTT 3.1.1 (section 3.2.2.3).
pub mod return_code {
    /// Accepted.
    pub const ACCEPTED: u8 = 0;
    /// Unacceptable protocol version.
    pub const BAD_VERSION: u8 = 1;
    /// Identifier rejected.
    pub const BAD_CLIENT_ID: u8 = 2;
    /// Server unavailable.
    pub const UNAVAILABLE: u8 = 3;
    /// Bad user name or password.
    pub const BAD_LOGIN: u8 = 4;
    /// Not authorized.
    pub const NOT_AUTHORIZED: u8 = 5;
}
