//! A secret that only several people have together: Shamir's scheme over GF(256), octet by octet, in shares that can be printed. Fewer than
//! are needed say nothing of it.

use std::convert::Infallible;
use std::fmt;
use std::str::FromStr;

use data_encoding::{BASE32_NOPAD, Encoding, Specification};
use rand_core::{TryCryptoRng, TryRng};
use vsss_rs::Gf256;
use zeroize::Zeroizing;

use crate::key::sha256;
use crate::random::{self, Randomness};

/// The octets of a secret.
const SECRET: usize = 32;

/// The most people who share one.
pub const MOST_SHARES: u8 = 20;

/// The form below: what stands first in it.
const VERSION: u8 = 1;

/// Octets that tell a mistyped share.
const CHECK: usize = 4;

/// Version, need, of, set, value with its place in front, check.
const LEN: usize = 3 + 8 + 1 + SECRET + CHECK;

/// The longest text of a share, with what people wrote around it.
pub const MAX_TEXT: usize = 4096;

/// What one of several people has.
#[derive(Clone, PartialEq, Eq)]
pub struct Share {
    need: u8,
    of: u8,
    /// The beginning of the secret's digest, by which shares of one secret are known.
    set: [u8; 8],
    /// Its place, and the value there.
    value: Zeroizing<Vec<u8>>,
}

impl fmt::Debug for Share {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Share").field("number", &self.number()).field("set", &self.set_name()).finish_non_exhaustive()
    }
}

/// Why shares give no secret.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadShare {
    /// It is none, or a character is not what it was.
    #[error("it is no share, or was mistyped")]
    Malformed,
    /// From 2 of 2 to 20 of 20.
    #[error("of 2 to {MOST_SHARES} people at least 2 are needed, and at most all")]
    Numbers,
    /// They do not belong together.
    #[error("share {one} is not of the same secret as share {other}")]
    OtherSet {
        /// The number of one of them.
        one: u8,
        /// The number of another.
        other: u8,
    },
    /// One stands twice.
    #[error("share {0} stands twice")]
    Twice(u8),
    /// There are not enough.
    #[error("{need} shares are needed, and {found} are here")]
    TooFew {
        /// How many are needed.
        need: u8,
        /// How many there are.
        found: usize,
    },
    /// What comes out is not what was shared.
    #[error("the shares give no secret that was shared: one of them is forged")]
    Forged,
}

/// The library's source of randomness.
struct Source<'r>(&'r mut dyn Randomness);

impl TryRng for Source<'_> {
    type Error = Infallible;

    fn try_next_u32(&mut self) -> Result<u32, Infallible> {
        Ok(u32::from_le_bytes(random::bytes(self.0)))
    }

    fn try_next_u64(&mut self) -> Result<u64, Infallible> {
        Ok(u64::from_le_bytes(random::bytes(self.0)))
    }

    fn try_fill_bytes(&mut self, octets: &mut [u8]) -> Result<(), Infallible> {
        self.0.fill(octets);
        Ok(())
    }
}

impl TryCryptoRng for Source<'_> {}

/// Shares a fresh secret among `of` people, of whom any `need` have it; gives the secret too, as text.
///
/// # Errors
/// [`BadShare::Numbers`].
pub fn split(need: u8, of: u8, random: &mut dyn Randomness) -> Result<(Zeroizing<String>, Vec<Share>), BadShare> {
    if !(2..=MOST_SHARES).contains(&of) || !(2..=of).contains(&need) {
        return Err(BadShare::Numbers);
    }
    let secret = Zeroizing::new(random::bytes::<SECRET>(random));
    let values = Gf256::split_bytes(usize::from(need), usize::from(of), *secret, Source(random));
    let values = values.map_err(|_| BadShare::Numbers)?.into_iter();
    let set = set_of(&*secret);
    let shares = values.map(|value| Share { need, of, set, value: Zeroizing::new(value) }).collect();
    Ok((as_text(&*secret), shares))
}

/// The secret that shares give, as text.
///
/// # Errors
/// They do not give one.
pub fn combine(shares: &[Share]) -> Result<Zeroizing<String>, BadShare> {
    let Some(first) = shares.first() else { return Err(BadShare::TooFew { need: 2, found: 0 }) };
    for (at, share) in shares.iter().enumerate() {
        if (share.set, share.need, share.of) != (first.set, first.need, first.of) {
            return Err(BadShare::OtherSet { one: share.number(), other: first.number() });
        }
        if shares[..at].iter().any(|other| other.number() == share.number()) {
            return Err(BadShare::Twice(share.number()));
        }
    }
    if shares.len() < usize::from(first.need) {
        return Err(BadShare::TooFew { need: first.need, found: shares.len() });
    }
    let values: Zeroizing<Vec<Vec<u8>>> = Zeroizing::new(shares.iter().map(|share| share.value.to_vec()).collect());
    let secret = Gf256::combine_bytes(&*values).map_err(|_| BadShare::Forged).map(Zeroizing::new)?;
    match set_of(&secret) == first.set && secret.len() == SECRET {
        true => Ok(as_text(&secret)),
        false => Err(BadShare::Forged),
    }
}

/// Says which shares belong together, and nothing of a secret of 256 random bits.
fn set_of(secret: &[u8]) -> [u8; 8] {
    let digest = sha256(&[b"shared secret ", secret].concat());
    let mut set = [0; 8];
    set.copy_from_slice(&digest[..8]);
    set
}

fn as_text(secret: &[u8]) -> Zeroizing<String> {
    Zeroizing::new(grouped(&letters().encode(secret)))
}

/// base32 in small letters (RFC 4648 section 6): without 0, 1, 8 and 9, which people take for letters.
fn letters() -> Encoding {
    let mut form = Specification::new();
    form.symbols.push_str("abcdefghijklmnopqrstuvwxyz234567");
    // The specification above is one.
    form.encoding().unwrap_or(BASE32_NOPAD)
}

fn grouped(text: &str) -> String {
    text.as_bytes().chunks(4).map(String::from_utf8_lossy).collect::<Vec<_>>().join("-")
}

impl Share {
    /// Which of them it is, from 1 on.
    #[must_use]
    pub fn number(&self) -> u8 {
        self.value.first().copied().unwrap_or(0)
    }

    /// How many of them are needed, and how many there are.
    #[must_use]
    pub fn numbers(&self) -> (u8, u8) {
        (self.need, self.of)
    }

    /// By what shares of one secret are known.
    #[must_use]
    pub fn set_name(&self) -> String {
        data_encoding::HEXLOWER.encode(&self.set)
    }

    /// The share as a line of text.
    #[must_use]
    pub fn to_text(&self) -> Zeroizing<String> {
        let mut octets = Zeroizing::new(Vec::with_capacity(LEN));
        octets.extend([VERSION, self.need, self.of]);
        octets.extend(self.set);
        octets.extend_from_slice(&self.value);
        let check = sha256(&octets);
        octets.extend_from_slice(&check[..CHECK]);
        as_text(&octets)
    }
}

impl FromStr for Share {
    type Err = BadShare;

    /// Reads what [`Share::to_text`] wrote, in small letters or large ones, with any blanks and dashes; lines that begin with `#` are for
    /// people.
    fn from_str(text: &str) -> Result<Self, BadShare> {
        if text.len() > MAX_TEXT {
            return Err(BadShare::Malformed);
        }
        let lines = text.lines().filter(|line| !line.trim_start().starts_with('#'));
        let wanted = lines.flat_map(str::chars).filter(|each| !each.is_whitespace() && *each != '-');
        let letters_only = Zeroizing::new(wanted.map(|each| each.to_ascii_lowercase()).collect::<String>());
        let octets = letters().decode(letters_only.as_bytes()).map_err(|_| BadShare::Malformed).map(Zeroizing::new)?;
        if octets.len() != LEN {
            return Err(BadShare::Malformed);
        }
        let (said, check) = octets.split_at(LEN - CHECK);
        let (&[version, need, of], rest) = said.split_first_chunk::<3>().ok_or(BadShare::Malformed)?;
        let (set, value) = rest.split_first_chunk::<8>().ok_or(BadShare::Malformed)?;
        let fits = version == VERSION && sha256(said)[..CHECK] == *check;
        let place = value.first().copied().unwrap_or(0);
        if !fits || !(2..=MOST_SHARES).contains(&of) || !(2..=of).contains(&need) || !(1..=of).contains(&place) {
            return Err(BadShare::Malformed);
        }
        Ok(Self { need, of, set: *set, value: Zeroizing::new(value.to_vec()) })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::random::Counted;

    proptest! {
        #[test]
        fn any_that_are_enough_give_it_and_one_fewer_give_nothing(
            (need, of) in (2..=MOST_SHARES).prop_flat_map(|of| (2..=of, Just(of))),
            seed: u32,
            order in prop::collection::vec(any::<u16>(), 20),
        ) {
            let (secret, shares) = split(need, of, &mut Counted(u64::from(seed))).unwrap();
            prop_assert_eq!(shares.len(), usize::from(of));
            let mut some: Vec<(u16, Share)> = order.into_iter().zip(shares).collect();
            some.sort_by_key(|(rank, share)| (*rank, share.number()));
            let texts: Vec<_> = some.iter().take(usize::from(need)).map(|(_, share)| share.to_text()).collect();
            let read: Vec<Share> = texts.iter().map(|text| text.parse().unwrap()).collect();
            prop_assert_eq!(&combine(&read).unwrap(), &secret);
            prop_assert_eq!(combine(&read[1..]), Err(BadShare::TooFew { need, found: usize::from(need) - 1 }));
            // Not even if they say that they are enough.
            let lying: Vec<Share> = read[1..].iter().map(|share| Share { need: need - 1, ..share.clone() }).collect();
            prop_assert_ne!(combine(&lying).ok(), Some(secret));
        }

        #[test]
        fn a_mistyped_share_is_told(at in 0usize..77, to in 0usize..32) {
            let (_, shares) = split(2, 3, &mut Counted(7)).unwrap();
            let mut text = shares[0].to_text().replace('-', "").into_bytes();
            let letter = b"abcdefghijklmnopqrstuvwxyz234567"[to];
            prop_assume!(at < text.len() && text[at] != letter);
            text[at] = letter;
            prop_assert_eq!(String::from_utf8(text).unwrap().parse::<Share>(), Err(BadShare::Malformed));
        }
    }

    #[test]
    fn what_does_not_belong_together_gives_nothing() {
        let (_, one) = split(2, 3, &mut Counted(1)).unwrap();
        let (_, other) = split(2, 3, &mut Counted(2)).unwrap();
        assert_eq!(combine(&[]), Err(BadShare::TooFew { need: 2, found: 0 }));
        assert_eq!(combine(&[one[0].clone(), other[1].clone()]), Err(BadShare::OtherSet { one: 2, other: 1 }));
        assert_eq!(combine(&[one[0].clone(), one[0].clone()]), Err(BadShare::Twice(1)));
        let mut forged = one[1].clone();
        forged.value[5] ^= 1;
        assert_eq!(combine(&[one[0].clone(), forged]), Err(BadShare::Forged));
        for (need, of) in [(0, 0), (1, 1), (1, 3), (4, 3), (2, MOST_SHARES + 1)] {
            assert_eq!(split(need, of, &mut Counted(1)).err(), Some(BadShare::Numbers));
        }
    }

    #[test]
    fn people_may_write_around_it_and_in_large_letters() {
        let (_, shares) = split(2, 3, &mut Counted(1)).unwrap();
        let text = format!("# for ada\n  {}  \n\n", shares[2].to_text().to_uppercase().replace('-', " "));
        assert_eq!(text.parse::<Share>().as_ref(), Ok(&shares[2]));
        assert!(!format!("{:?}", shares[2]).contains("value"));
        for rubbish in ["", "#", "abcd", "aaaa-aaaa-aaaa", &"a".repeat(77), &"a".repeat(100_000), "ä"] {
            assert_eq!(rubbish.parse::<Share>(), Err(BadShare::Malformed), "{rubbish:.20}");
        }
    }
}
