//! Serial numbers.

use std::fmt;

use crate::random::{self, Randomness};
use crate::time::UnixTime;

/// A certificate's serial number: positive, at most 20 octets (RFC 5280 section 4.1.2.2), without leading zeros.
///
/// New ones are 20 octets: 5 that grow with time, so that an index on them is appended to and not shuffled, then 120
/// random bits.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SerialNumber(Vec<u8>);

/// Added to the seconds, so that the first octet is 1 until the year 2106 and never 0.
const OFFSET: i64 = 1 << 32;

impl SerialNumber {
    /// A new one.
    pub fn new(now: UnixTime, random: &mut dyn Randomness) -> Self {
        let seconds = now.0.clamp(0, 0x7e_ffff_ffff).saturating_add(OFFSET).to_be_bytes();
        let tail: [u8; 15] = random::bytes(random);
        Self([&seconds[3..], &tail].concat())
    }

    /// One that is known, from its big-endian octets; leading zeros are dropped.
    ///
    /// `None` if nothing is left or more than 20 octets are.
    #[must_use]
    pub fn from_octets(octets: &[u8]) -> Option<Self> {
        let skip = octets.iter().take_while(|&&octet| octet == 0).count();
        let rest = &octets[skip..];
        (1..=20).contains(&rest.len()).then(|| Self(rest.to_vec()))
    }

    /// Big-endian octets without leading zeros.
    #[must_use]
    pub fn octets(&self) -> &[u8] {
        &self.0
    }
}

impl fmt::Display for SerialNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&data_encoding::HEXLOWER.encode(&self.0))
    }
}

impl fmt::Debug for SerialNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SerialNumber({self})")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Counted;

    #[test]
    fn new_numbers_are_positive_20_octets_and_ordered_by_time() {
        let mut random = Counted(0);
        let mut last = None;
        for seconds in [0, 1, 1_795_417_333, 2_147_483_648, 4_294_967_296, i64::MAX] {
            let serial = SerialNumber::new(UnixTime(seconds), &mut random);
            assert_eq!(serial.octets().len(), 20);
            assert!((1..0x80).contains(&serial.octets()[0]), "{serial}");
            assert!(Some(&serial) > last.as_ref(), "{serial}");
            last = Some(serial);
        }
    }
}
