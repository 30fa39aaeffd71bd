//! Cutting a stream of octets into packets, and reading the primitive types inside them.

use super::reason;

/// The types of packets (MQTT 5.0 section 2.1.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the standard's names say it")]
pub enum PacketType {
    Connect,
    Connack,
    Publish,
    Puback,
    Pubrec,
    Pubrel,
    Pubcomp,
    Subscribe,
    Suback,
    Unsubscribe,
    Unsuback,
    Pingreq,
    Pingresp,
    Disconnect,
    Auth,
}

impl PacketType {
    const ALL: [Self; 15] = [
        Self::Connect,
        Self::Connack,
        Self::Publish,
        Self::Puback,
        Self::Pubrec,
        Self::Pubrel,
        Self::Pubcomp,
        Self::Subscribe,
        Self::Suback,
        Self::Unsubscribe,
        Self::Unsuback,
        Self::Pingreq,
        Self::Pingresp,
        Self::Disconnect,
        Self::Auth,
    ];

    /// The upper four bits of the first octet.
    #[must_use]
    pub fn code(self) -> u8 {
        let at = Self::ALL.iter().position(|&each| each == self).unwrap_or(0);
        u8::try_from(at + 1).unwrap_or(0)
    }

    /// The flags that the standard reserves for this type; PUBLISH has flags of its own.
    fn flags(self) -> Option<u8> {
        match self {
            Self::Publish => None,
            Self::Pubrel | Self::Subscribe | Self::Unsubscribe => Some(0b0010),
            _ => Some(0),
        }
    }
}

/// Octets that are not MQTT. The connection that sent them is closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct Malformed {
    /// What is wrong.
    pub what: &'static str,
    /// The reason code that MQTT 5.0 has for it.
    pub code: u8,
}

impl Malformed {
    /// Breaks the form of a packet.
    pub(crate) const fn form(what: &'static str) -> Self {
        Self { what, code: reason::MALFORMED }
    }

    /// Breaks a rule of the protocol.
    #[must_use]
    pub const fn protocol(what: &'static str) -> Self {
        Self { what, code: reason::PROTOCOL_ERROR }
    }
}

/// One packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Frame<'a> {
    /// Its type.
    pub packet_type: PacketType,
    /// The lower four bits of its first octet.
    pub flags: u8,
    /// What follows the fixed header.
    pub body: &'a [u8],
    /// All of it, as it came.
    pub whole: &'a [u8],
}

/// The first packet in `buffer`; `None` if more octets are needed. A packet longer than `max` octets is refused as soon
/// as its length is known, before it is buffered.
///
/// # Errors
/// A reserved type or flags, a length that is not in its shortest form or has five octets, a packet that is too long.
pub fn split(buffer: &[u8], max: usize) -> Result<Option<Frame<'_>>, Malformed> {
    let Some(&first) = buffer.first() else { return Ok(None) };
    let Some(&packet_type) = usize::from(first >> 4).checked_sub(1).and_then(|at| PacketType::ALL.get(at)) else {
        return Err(Malformed::form("packet type 0 is reserved"));
    };
    let flags = first & 0x0f;
    if packet_type.flags().is_some_and(|reserved| reserved != flags) {
        return Err(Malformed::form("reserved flags are set in the fixed header"));
    }
    let Some((length, octets)) = variable_integer(&buffer[1..])? else { return Ok(None) };
    let start = 1 + octets;
    let end = start + length;
    if end > max {
        return Err(Malformed { what: "the packet is larger than allowed", code: reason::TOO_LARGE });
    }
    Ok(buffer.get(start..end).map(|body| Frame { packet_type, flags, body, whole: &buffer[..end] }))
}

/// A variable byte integer (MQTT 5.0 section 1.5.5): its value and how many octets it took; `None` if it is cut off.
fn variable_integer(input: &[u8]) -> Result<Option<(usize, usize)>, Malformed> {
    let mut value = 0usize;
    for (at, &octet) in input.iter().take(4).enumerate() {
        value |= usize::from(octet & 0x7f) << (7 * at);
        if octet & 0x80 == 0 {
            if at > 0 && octet == 0 {
                return Err(Malformed::form("a length is not in its shortest form"));
            }
            return Ok(Some((value, at + 1)));
        }
    }
    if input.len() >= 4 {
        return Err(Malformed::form("a length has more than four octets"));
    }
    Ok(None)
}

/// Writes a variable byte integer; values beyond 268,435,455 cannot be written and are clipped.
pub(crate) fn write_variable(out: &mut Vec<u8>, value: usize) {
    let mut rest = value.min(268_435_455);
    loop {
        let low = u8::try_from(rest & 0x7f).unwrap_or(0);
        rest >>= 7;
        out.push(if rest > 0 { low | 0x80 } else { low });
        if rest == 0 {
            return;
        }
    }
}

/// A packet of `packet_type` with `flags` around `body`.
pub(crate) fn packet(packet_type: PacketType, flags: u8, body: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(body.len() + 5);
    out.push(packet_type.code() << 4 | flags);
    write_variable(&mut out, body.len());
    out.extend_from_slice(body);
    out
}

/// How many octets [`write_variable`] writes.
pub(crate) fn variable_len(value: usize) -> usize {
    match value {
        0..=127 => 1,
        128..=16_383 => 2,
        16_384..=2_097_151 => 3,
        _ => 4,
    }
}

/// How many octets [`write_binary`] writes.
pub(crate) fn binary_len(bytes: &[u8]) -> usize {
    2 + bytes.len().min(usize::from(u16::MAX))
}

/// Writes octets behind their length in two; at most 65,535 of them, which every caller has made sure of.
pub(crate) fn write_binary(out: &mut Vec<u8>, bytes: &[u8]) {
    let len = u16::try_from(bytes.len()).unwrap_or(u16::MAX);
    out.extend_from_slice(&len.to_be_bytes());
    out.extend_from_slice(&bytes[..usize::from(len)]);
}

/// PINGREQ.
#[must_use]
pub fn ping_request() -> Vec<u8> {
    packet(PacketType::Pingreq, 0, &[])
}

/// Reads primitive types off the front of a packet's body.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Cursor<'a>(pub(crate) &'a [u8]);

const CUT_OFF: Malformed = Malformed::form("the packet ends in the middle of a field");

impl<'a> Cursor<'a> {
    pub(crate) fn take(&mut self, len: usize) -> Result<&'a [u8], Malformed> {
        let (head, rest) = self.0.split_at_checked(len).ok_or(CUT_OFF)?;
        self.0 = rest;
        Ok(head)
    }

    pub(crate) fn u8(&mut self) -> Result<u8, Malformed> {
        self.take(1).map(|octets| octets[0])
    }

    pub(crate) fn u16(&mut self) -> Result<u16, Malformed> {
        self.take(2).map(|octets| u16::from_be_bytes([octets[0], octets[1]]))
    }

    pub(crate) fn u32(&mut self) -> Result<u32, Malformed> {
        self.take(4).map(|octets| u32::from_be_bytes([octets[0], octets[1], octets[2], octets[3]]))
    }

    pub(crate) fn variable(&mut self) -> Result<usize, Malformed> {
        let (value, octets) = variable_integer(self.0)?.ok_or(CUT_OFF)?;
        self.take(octets)?;
        Ok(value)
    }

    pub(crate) fn binary(&mut self) -> Result<&'a [u8], Malformed> {
        let len = self.u16()?;
        self.take(usize::from(len))
    }

    /// A UTF-8 string without U+0000 (MQTT 5.0 section 1.5.4).
    pub(crate) fn text(&mut self) -> Result<&'a str, Malformed> {
        let text = std::str::from_utf8(self.binary()?).map_err(|_| Malformed::form("a text is not UTF-8"))?;
        if text.contains('\0') {
            return Err(Malformed::form("a text holds the null character"));
        }
        Ok(text)
    }

    pub(crate) fn packet_id(&mut self) -> Result<u16, Malformed> {
        match self.u16()? {
            0 => Err(Malformed::protocol("the packet identifier is 0")),
            id => Ok(id),
        }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(crate) fn end(&self) -> Result<(), Malformed> {
        if self.is_empty() { Ok(()) } else { Err(Malformed::form("octets follow the end of the packet")) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packets_are_cut_and_bad_headers_refused() {
        let max = 1000;
        assert_eq!(split(&[], max), Ok(None));
        assert_eq!(split(&[0xc0], max), Ok(None));
        assert_eq!(split(&[0x30, 3, 0], max), Ok(None));
        assert_eq!(split(&[0xc0, 0, 9], max).unwrap().unwrap().whole, [0xc0, 0]);
        for bad in [
            &[0x00, 0][..],                  // type 0
            &[0xc1, 0],                      // reserved flags
            &[0x80, 2],                      // SUBSCRIBE without its flag
            &[0x30, 0x80, 0x00],             // not the shortest form
            &[0x30, 0x80, 0x80, 0x80, 0x80], // five octets
            &[0x30, 0xff, 0xff, 0xff, 0x7f], // too large, told from the header alone
        ] {
            assert!(split(bad, max).is_err(), "{bad:x?} was taken");
        }
        assert!(split(&[&[0x30, 0xe6, 0x07][..], &[0; 998]].concat(), max).is_err());
        assert!(split(&[&[0x30, 0xe5, 0x07][..], &[0; 997]].concat(), max).unwrap().is_some());
    }

    #[test]
    fn variable_integers_are_written_as_they_are_read() {
        for value in [0, 1, 127, 128, 16_383, 16_384, 2_097_151, 2_097_152, 268_435_455] {
            let mut out = Vec::new();
            write_variable(&mut out, value);
            assert_eq!(variable_len(value), out.len());
            assert_eq!(variable_integer(&out), Ok(Some((value, out.len()))));
        }
    }
}
