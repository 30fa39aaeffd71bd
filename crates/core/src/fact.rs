//! Hardware identifiers: what may be written, and the one form in which each is kept and compared.

use std::fmt;

/// The kinds of fact whose form is known. Others may be named in the settings and are taken as plain text.
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
}

impl FactName {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Serial, Self::Mac, Self::Imei, Self::Eui64, Self::Ek];

    /// The word that settings, columns and options use.
    #[must_use]
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::Serial => "serial",
            Self::Mac => "mac",
            Self::Imei => "imei",
            Self::Eui64 => "eui64",
            Self::Ek => "ek",
        }
    }

    /// The fact that a word names.
    ///
    /// # Errors
    /// A word that names none.
    pub fn parse(word: &str) -> Result<Self, BadFact> {
        Self::ALL
            .into_iter()
            .find(|name| name.as_str() == word)
            .ok_or_else(|| BadFact::UnknownName { name: word.to_owned() })
    }
}

impl fmt::Display for FactName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// One identifier of one machine, in its normal form. No two devices of a ward may share one.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Fact {
    name: FactName,
    value: String,
}

/// Why a fact was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadFact {
    /// No fact has this name.
    #[error("`{name}` is not a fact; known facts are serial, mac, imei, eui64 and ek")]
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
            FactName::Serial => {
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
    fn a_miscopied_imei_is_told_apart_from_a_malformed_one() {
        let error = Fact::new(FactName::Imei, "490154203237517").unwrap_err();
        assert!(matches!(error, BadFact::CheckDigit { found: 7, computed: 8, .. }), "{error}");
    }
}
