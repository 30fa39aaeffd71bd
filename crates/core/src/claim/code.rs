//! Claim codes: short secrets on letters, labels and in QR codes.

use std::fmt;

use zeroize::Zeroizing;

use crate::random::Randomness;

/// The characters of codes: a prime number of them, so that one check character finds every single mistake and every swap. Of those that
/// look alike (0 O Q, 1 I L, 2 Z, 5 S, 6 G, 8 B, U V) one at most is there, and neither N (M) nor W (V V).
const ALPHABET: &[u8; 23] = b"23456789ACDEFHJKMPRTVXY";

/// How many characters of a code made here are random: 54 bits.
const RANDOM: usize = 12;

/// The fewest characters of a code, the check character among them: 40 random bits.
pub const SHORTEST: usize = 10;

/// The most: beyond it two places would weigh alike in the check.
pub const LONGEST: usize = 22;

/// The longest text that is read as a code, in octets: one with a separator behind each character.
const LONGEST_TEXT: usize = 2 * LONGEST;

/// A text that is no code. It says nothing about any code that there is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadCode {
    /// Too few characters, or too many.
    #[error("a claim code has {SHORTEST} to {LONGEST} letters and digits")]
    Length,
    /// A character that no code has.
    #[error("no claim code has the character {0:?}: look at it again")]
    Character(char),
    /// The check character does not fit.
    #[error("a character of this code is wrong, or two stand in each other's place: look at it again")]
    Check,
}

/// A code, as its alphabet spells it and without separators.
#[derive(Clone)]
pub struct Code(Zeroizing<String>);

fn value(character: u8) -> Option<usize> {
    ALPHABET.iter().position(|each| *each == character)
}

/// The sum of each value times its place, counted from 1, modulo the size of the alphabet; 0 for a whole code. A single mistake changes it
/// by a difference of values times a place, a swap by a difference of values times one of places: neither is 0 modulo a prime above both.
fn weigh(values: impl Iterator<Item = usize>) -> usize {
    values.zip(1..).fold(0, |sum, (value, place)| (sum + value * place) % ALPHABET.len())
}

impl Code {
    /// A new one: 12 random characters and the check character.
    pub fn new(random: &mut dyn Randomness) -> Self {
        let mut values = Vec::with_capacity(RANDOM + 1);
        // What is not below the greatest multiple is drawn again, so that no character is likelier than another.
        let whole = u8::MAX - u8::MAX % 23;
        while values.len() < RANDOM {
            let mut octet = [0; 1];
            random.fill(&mut octet);
            if octet[0] < whole {
                values.push(usize::from(octet[0] % 23));
            }
        }
        let sum = weigh(values.iter().copied());
        let check = (0..ALPHABET.len()).find(|check| (sum + check * (RANDOM + 1)).is_multiple_of(ALPHABET.len()));
        values.push(check.unwrap_or_default());
        let mut text = Zeroizing::new(String::with_capacity(values.len()));
        values.iter().for_each(|value| text.push(char::from(ALPHABET[*value])));
        Self(text)
    }

    /// Reads what somebody typed or a device sent: upper or lower case, with blanks and hyphens anywhere.
    ///
    /// # Errors
    /// It is no code, whether there is such a one or not.
    pub fn parse(text: &str) -> Result<Self, BadCode> {
        let text = text.trim();
        if text.len() > LONGEST_TEXT {
            return Err(BadCode::Length);
        }
        let mut code = Zeroizing::new(String::with_capacity(LONGEST_TEXT));
        let mut values = Vec::with_capacity(LONGEST_TEXT);
        for character in text.chars().filter(|c| !matches!(c, ' ' | '-')) {
            let upper = character.to_ascii_uppercase();
            let known = u8::try_from(upper).ok().and_then(value).ok_or(BadCode::Character(character))?;
            values.push(known);
            code.push(upper);
        }
        if !(SHORTEST..=LONGEST).contains(&values.len()) {
            return Err(BadCode::Length);
        }
        if weigh(values.into_iter()) != 0 {
            return Err(BadCode::Check);
        }
        Ok(Self(code))
    }

    /// In groups of four, the last of up to six, as it is read aloud.
    #[must_use]
    pub fn grouped(&self) -> Zeroizing<String> {
        let mut text = Zeroizing::new(String::with_capacity(LONGEST_TEXT));
        for (place, character) in self.0.chars().enumerate() {
            if place > 0 && place % 4 == 0 && self.0.len() - place > 2 {
                text.push('-');
            }
            text.push(character);
        }
        text
    }

    /// How many different characters it has.
    pub(super) fn distinct(&self) -> usize {
        self.0.bytes().collect::<std::collections::BTreeSet<u8>>().len()
    }

    /// Its digest with a salt: scrypt (RFC 7914) with N = 2048, r = 8, p = 1, which takes 2 MiB and some milliseconds.
    #[must_use]
    pub fn digest(&self, salt: [u8; 16]) -> CodeDigest {
        let mut digest = [0; 32];
        // The parameters are constants within the limits of the function.
        if let Ok(cost) = scrypt::Params::new(11, 8, 1)
            && scrypt::scrypt(self.0.as_bytes(), &salt, &cost, &mut digest).is_ok()
        {
            return CodeDigest { salt, digest };
        }
        // Of no code: what nobody can show.
        CodeDigest { salt, digest: [0; 32] }
    }
}

impl fmt::Debug for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Code(..)")
    }
}

/// What is kept of a code, or shown of one that somebody typed.
#[derive(Clone, Copy)]
pub struct CodeDigest {
    /// The salt.
    pub salt: [u8; 16],
    /// The digest.
    pub digest: [u8; 32],
}

impl CodeDigest {
    /// Whether both are of one code, in a time that does not tell how far they agree. All zeros are of none.
    #[must_use]
    pub fn is_same(&self, other: &Self) -> bool {
        let same = aws_lc_rs::constant_time::verify_slices_are_equal(&self.digest, &other.digest).is_ok();
        same & (self.salt == other.salt) & (self.digest != [0; 32])
    }
}

impl PartialEq for CodeDigest {
    fn eq(&self, other: &Self) -> bool {
        self.salt == other.salt && self.digest == other.digest
    }
}

impl Eq for CodeDigest {}

impl fmt::Debug for CodeDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("CodeDigest(..)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Counted;

    #[test]
    fn a_code_reads_back_as_people_write_it() {
        let code = Code::new(&mut Counted(1));
        let grouped = code.grouped();
        assert_eq!((grouped.len(), grouped.matches('-').count()), (15, 2), "{grouped:?}");
        let spaced = grouped.replace('-', " ").to_lowercase();
        for written in [grouped.as_str(), &spaced, &grouped.replace('-', ""), &format!("  {spaced}\n")] {
            assert_eq!(*Code::parse(written).unwrap().0, *code.0, "{written}");
        }
        assert!(!format!("{code:?} {:?}", code.digest([1; 16])).contains(code.0.as_str()));
        for (bad, want) in [
            ("", BadCode::Length),
            ("234567", BadCode::Length),
            (&"2".repeat(23), BadCode::Length),
            (&"-".repeat(60), BadCode::Length),
            (&code.0.replace(|_| true, "O"), BadCode::Character('O')),
            ("\u{415}2345678923", BadCode::Character('\u{415}')),
        ] {
            assert_eq!(Code::parse(bad).unwrap_err(), want, "{bad:?}");
        }
    }

    #[test]
    fn every_single_mistake_and_every_swap_is_found() {
        for (seed, len) in [(1, SHORTEST), (2, 13), (3, LONGEST), (4, 17)] {
            let mut octets = vec![0; len - 1];
            Counted(seed).fill(&mut octets);
            let mut values: Vec<usize> = octets.iter().map(|octet| usize::from(octet % 23)).collect();
            let sum = weigh(values.iter().copied());
            values.push((0..23).find(|check| (sum + check * len) % 23 == 0).unwrap());
            let text = |values: &[usize]| -> String { values.iter().map(|v| char::from(ALPHABET[*v])).collect() };
            assert!(Code::parse(&text(&values)).is_ok());
            for place in 0..len {
                for other in (0..23).filter(|other| *other != values[place]) {
                    let mut wrong = values.clone();
                    wrong[place] = other;
                    assert_eq!(Code::parse(&text(&wrong)).unwrap_err(), BadCode::Check, "{place} of {len}");
                }
                for second in (0..place).filter(|second| values[*second] != values[place]) {
                    let mut wrong = values.clone();
                    wrong.swap(place, second);
                    assert_eq!(Code::parse(&text(&wrong)).unwrap_err(), BadCode::Check, "{place} {second}");
                }
            }
        }
    }

    #[test]
    fn a_digest_is_of_one_code_and_one_salt() {
        let (code, other) = (Code::new(&mut Counted(1)), Code::new(&mut Counted(50)));
        let kept = code.digest([1; 16]);
        assert!(kept.is_same(&code.digest([1; 16])));
        assert!(!kept.is_same(&code.digest([2; 16])) && !kept.is_same(&other.digest([1; 16])));
        let none = CodeDigest { salt: [1; 16], digest: [0; 32] };
        assert!(!none.is_same(&none), "what could not be computed is of no code");
        assert_eq!(data_encoding::HEXLOWER.encode(&code.digest([1; 16]).digest).len(), 64);
    }

    #[test]
    fn all_characters_are_alike_likely_and_there_are_fifty_bits() {
        let mut random = Counted(1);
        let mut seen = [0usize; 23];
        for _ in 0..2_000 {
            Code::new(&mut random).0.bytes().take(RANDOM).for_each(|c| seen[value(c).unwrap()] += 1);
        }
        let mean = 2_000 * RANDOM / 23;
        assert!(seen.iter().all(|count| (mean - 150..mean + 150).contains(count)), "{seen:?} about {mean}");
        let bits = |characters: usize| 23f64.log2() * f64::from(u32::try_from(characters).unwrap());
        assert!(bits(RANDOM) >= 50.0 && bits(SHORTEST - 1) >= 40.0);
    }
}
