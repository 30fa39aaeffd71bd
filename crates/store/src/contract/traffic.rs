//! What the guard counts of each device, and what it noticed of one.

use tidy_warden_core::time::UnixTime;

/// What passed between a device and the broker, and what was refused.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Traffic {
    /// Messages from the device that were passed on.
    pub messages_in: u64,
    /// Their payloads, in octets.
    pub octets_in: u64,
    /// Messages to the device.
    pub messages_out: u64,
    /// Their payloads, in octets.
    pub octets_out: u64,
    /// Acts that were refused: connecting, publishing, subscribing.
    pub refusals: u64,
    /// The last refusal: when, and what was refused why.
    pub refused: Option<(UnixTime, String)>,
}

/// Signs that somebody else has a device's key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CloneSigns {
    /// When the first was seen.
    pub first: UnixTime,
    /// When the last was seen.
    pub last: UnixTime,
    /// How many there were.
    pub count: u64,
    /// The last one, in words.
    pub sign: String,
}
