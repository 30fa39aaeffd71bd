//! Hardware identifiers: what may be written, and the one form in which each is kept and compared.

use std::fmt;

use crate::id::LabelName;

/// What a fact says of a machine: one of those whose form is known, or one of the ward's own.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum FactName {
    /// The maker's serial number.
    Serial,
    /// A MAC address, 48 bits.
    Mac,
    /// An International Mobile Equipment Identity with its check digit.
    Imei,
    /// An IEEE EUI-64.
    Eui64,
    /// SHA-256 of a TPM endorsement public key.
    Ek,
    /// One of the ward's own, which `[facts.NAME]` in `ward.toml` declares. It is named as labels are, and no label has the name.
    Own(LabelName),
}

impl FactName {
    /// Those that every ward knows.
    pub const BUILT_IN: [Self; 5] = [Self::Serial, Self::Mac, Self::Imei, Self::Eui64, Self::Ek];

    /// The word that settings, columns and options use.
    #[must_use]
    pub fn as_str(&self) -> &str {
        match self {
            Self::Serial => "serial",
            Self::Mac => "mac",
            Self::Imei => "imei",
            Self::Eui64 => "eui64",
            Self::Ek => "ek",
            Self::Own(name) => name.as_str(),
        }
    }

    /// The fact that a word names in every ward.
    #[must_use]
    pub fn built_in(word: &str) -> Option<Self> {
        Self::BUILT_IN.into_iter().find(|name| name.as_str() == word)
    }

    /// The fact that a word names in a ward that has declared it, if it is not one of those that every ward knows.
    ///
    /// # Errors
    /// A word that cannot name a fact.
    pub fn parse(word: &str) -> Result<Self, BadFact> {
        match Self::built_in(word) {
            Some(name) => Ok(name),
            None => {
                word.parse().map(Self::Own).map_err(|_| BadFact::UnknownName { name: word.chars().take(80).collect() })
            }
        }
    }
}

impl fmt::Display for FactName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// One identifier of one machine, in its normal form. No two devices of a ward share one, but for those of the ward's own that are
/// declared otherwise.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Fact {
    name: FactName,
    value: String,
}

/// The form of a fact of the ward's own: `#` stands for a digit, `?` for any character, `*` for any run of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shape(String);

impl Shape {
    /// The longest, in characters.
    pub const MAX_LEN: usize = 64;

    /// Reads one: of characters that a fact may have.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let plain = text.chars().all(|c| c.is_ascii_graphic() && !matches!(c, '"' | ',' | '\\'));
        ((1..=Self::MAX_LEN).contains(&text.len()) && plain).then(|| Self(text.to_owned()))
    }

    /// Whether a value has it. At most as many steps as the two lengths multiplied.
    #[must_use]
    pub fn fits(&self, value: &str) -> bool {
        let (shape, value) = (self.0.as_bytes(), value.as_bytes());
        let one = |sign: u8, octet: u8| {
            sign == b'?' || sign == b'#' && octet.is_ascii_digit() || sign == octet && sign != b'#'
        };
        let (mut s, mut v) = (0, 0);
        // Where the last `*` stood, and how far it reaches.
        let mut star: Option<(usize, usize)> = None;
        while v < value.len() {
            match shape.get(s) {
                Some(b'*') => {
                    star = Some((s, v));
                    s += 1;
                }
                Some(&sign) if one(sign, value[v]) => (s, v) = (s + 1, v + 1),
                _ => match star {
                    Some((at, reach)) => {
                        star = Some((at, reach + 1));
                        (s, v) = (at + 1, reach + 1);
                    }
                    None => return false,
                },
            }
        }
        shape[s..].iter().all(|sign| *sign == b'*')
    }
}

impl fmt::Display for Shape {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Why a fact was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadFact {
    /// No fact has this name.
    #[error(
        "`{name}` is not a fact; facts are serial, mac, imei, eui64, ek, and those that ward.toml declares as [facts.NAME]"
    )]
    UnknownName {
        /// The word given.
        name: String,
    },
    /// The value has the wrong form.
    #[error("the {name} `{value}` is not valid: {expected}")]
    Form {
        /// Which fact.
        name: FactName,
        /// The value given.
        value: String,
        /// What was expected.
        expected: &'static str,
    },
    /// The last digit of an IMEI does not agree with the others (Luhn).
    #[error(
        "the imei `{value}` has the check digit {found}, but its other digits give {computed}; a digit was miscopied"
    )]
    CheckDigit {
        /// The value given.
        value: String,
        /// The digit that stands there.
        found: u32,
        /// The digit that the others give.
        computed: u32,
    },
}

impl Fact {
    /// Checks `value` by the form that `name` has, and normalises it: MAC and EUI-64 to lower-case pairs with `:`,
    /// IMEI to 15 digits, `ek` to 64 lower-case hexadecimal digits; a serial is kept as it is written.
    ///
    /// # Errors
    /// A value of another form.
    pub fn new(name: FactName, value: &str) -> Result<Self, BadFact> {
        let value = value.trim();
        let form = |expected| BadFact::Form { name: name.clone(), value: value.chars().take(80).collect(), expected };
        let normal = match name {
            FactName::Serial | FactName::Own(_) => {
                let printable = value.chars().all(|c| c.is_ascii_graphic() && !matches!(c, '"' | ',' | '\\'));
                if value.is_empty() || value.len() > 64 || !printable {
                    return Err(form(
                        "expected 1 to 64 printable ASCII characters without space, comma, quote or backslash",
                    ));
                }
                value.to_owned()
            }
            FactName::Mac => {
                let expected = "expected six pairs of hexadecimal digits, such as 00:16:3e:0a:1b:2c";
                pairs(value, 6).ok_or_else(|| form(expected))?
            }
            FactName::Eui64 => {
                let expected = "expected eight pairs of hexadecimal digits, such as 00:16:3e:ff:fe:0a:1b:2c";
                pairs(value, 8).ok_or_else(|| form(expected))?
            }
            FactName::Imei => imei(value, &form)?,
            FactName::Ek => {
                if value.len() != 64 || !value.bytes().all(|b| b.is_ascii_hexdigit()) {
                    return Err(form("expected the SHA-256 digest of the endorsement key, 64 hexadecimal digits"));
                }
                value.to_ascii_lowercase()
            }
        };
        Ok(Self { name, value: normal })
    }

    /// Which fact it is.
    #[must_use]
    pub fn name(&self) -> &FactName {
        &self.name
    }

    /// The value in its normal form.
    #[must_use]
    pub fn value(&self) -> &str {
        &self.value
    }
}

impl fmt::Display for Fact {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}={}", self.name, self.value)
    }
}

/// `count` pairs of hexadecimal digits: bare, or all separated by the same `:` or `-`.
fn pairs(value: &str, count: usize) -> Option<String> {
    let separator = value.chars().find(|c| !c.is_ascii_hexdigit());
    let groups: Vec<&str> = match separator {
        Some(sign @ (':' | '-')) => value.split(sign).collect(),
        Some(_) => return None,
        None => value.as_bytes().chunks(2).filter_map(|pair| std::str::from_utf8(pair).ok()).collect(),
    };
    let fits = |group: &&str| group.len() == 2 && group.bytes().all(|b| b.is_ascii_hexdigit());
    (groups.len() == count && groups.iter().all(fits)).then(|| groups.join(":").to_ascii_lowercase())
}

/// 15 digits of which the last is the Luhn check digit of the others (3GPP TS 23.003 annex B).
fn imei(value: &str, form: &dyn Fn(&'static str) -> BadFact) -> Result<String, BadFact> {
    let digits: Option<Vec<u32>> = value.chars().filter(|c| *c != '-' && *c != ' ').map(|c| c.to_digit(10)).collect();
    let Some([first @ .., found]) = digits.as_deref().filter(|digits| digits.len() == 15) else {
        return Err(form("expected 15 digits, the last of which is the check digit"));
    };
    let sum: u32 = first
        .iter()
        .enumerate()
        .map(|(at, digit)| if at % 2 == 1 { digit * 2 / 10 + digit * 2 % 10 } else { *digit })
        .sum();
    let computed = (10 - sum % 10) % 10;
    if computed != *found {
        return Err(BadFact::CheckDigit { value: value.to_owned(), found: *found, computed });
    }
    Ok(value.chars().filter(char::is_ascii_digit).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    const FORMS: &[(FactName, &str, Option<&str>)] = &[
        (FactName::Serial, "QF-1", Some("QF-1")),
        (FactName::Serial, " QF-1 ", Some("QF-1")),
        (FactName::Serial, "a b", None),
        (FactName::Serial, "", None),
        (FactName::Mac, "00:16:3E:0A:1B:2C", Some("00:16:3e:0a:1b:2c")),
        (FactName::Mac, "00-16-3e-0a-1b-2c", Some("00:16:3e:0a:1b:2c")),
        (FactName::Mac, "00163e0a1b2c", Some("00:16:3e:0a:1b:2c")),
        (FactName::Mac, "00:16-3e:0a:1b:2c", None),
        (FactName::Mac, "00:16:3e:0a:1b", None),
        (FactName::Mac, "0016.3e0a.1b2c", None),
        (FactName::Eui64, "00:16:3e:ff:fe:0a:1b:2c", Some("00:16:3e:ff:fe:0a:1b:2c")),
        (FactName::Eui64, "00:16:3e:0a:1b:2c", None),
        (FactName::Imei, "490154203237518", Some("490154203237518")),
        (FactName::Imei, "49-015420-323751-8", Some("490154203237518")),
        (FactName::Imei, "49015420323751", None),
    ];

    #[test]
    fn facts_have_forms() {
        for (name, text, want) in FORMS {
            let got = Fact::new(name.clone(), text).ok().map(|fact| fact.value().to_owned());
            assert_eq!(got.as_deref(), *want, "{name} {text:?}");
        }
    }

    #[test]
    fn shapes_say_which_values_fit() {
        for (shape, fits, fails) in [
            ("QA-####", &["QA-0417"][..], &["QA-417", "QA-04170", "qa-0417", "QA-04x7", ""][..]),
            ("*", &["a", "QA-1"][..], &[][..]),
            ("A*-#?", &["A-1x", "Abc-12", "A--1-12"], &["A-x1", "B-1x"]),
            ("*ab*", &["ab", "xaab", "aabb"], &["ba", "a"]),
            ("?", &["#", "?"], &["", "12"]),
        ] {
            let shape = Shape::parse(shape).unwrap();
            assert!(fits.iter().all(|value| shape.fits(value)), "{shape}");
            assert!(!fails.iter().any(|value| shape.fits(value)), "{shape}");
        }
        assert_eq!(["", "a b", "a,b", "\u{e9}", &"a".repeat(65)].map(Shape::parse), [const { None }; 5]);
        // Many stars must not take for ever.
        assert!(!Shape::parse(&"*a".repeat(32)).unwrap().fits(&"b".repeat(64)));
    }

    #[test]
    fn a_miscopied_imei_is_told_apart_from_a_malformed_one() {
        let error = Fact::new(FactName::Imei, "490154203237517").unwrap_err();
        assert!(matches!(error, BadFact::CheckDigit { found: 7, computed: 8, .. }), "{error}");
    }
}
