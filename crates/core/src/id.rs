//! The names of things: one rule for all, checked once at the edge.
//!
//! Lower-case ASCII letters, digits, `.` and `-`, 1 to 64 characters, beginning and ending with a letter or digit.
//! So every name is one safe MQTT topic level, one safe path component, and one RFC 9039 identifier as it stands.

use std::fmt;
use std::str::FromStr;

/// The longest name, in characters.
pub const MAX_LEN: usize = 64;

/// Why a text is not a name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadName {
    /// Nothing was given.
    #[error("a {what} cannot be empty")]
    Empty {
        /// What the text was to name.
        what: &'static str,
    },
    /// More than [`MAX_LEN`] characters.
    #[error("the {what} `{start}...` has {len} characters; at most {MAX_LEN} are allowed")]
    TooLong {
        /// What the text was to name.
        what: &'static str,
        /// The first characters of it.
        start: String,
        /// Its length in characters.
        len: usize,
    },
    /// A character outside the set.
    #[error("the {what} {text:?} holds {found:?}; only lower-case letters, digits, `.` and `-` are allowed")]
    Character {
        /// What the text was to name.
        what: &'static str,
        /// All of it.
        text: String,
        /// The first character that is not allowed.
        found: char,
    },
    /// `.` or `-` at an end.
    #[error("the {what} `{text}` must begin and end with a letter or a digit")]
    Edge {
        /// What the text was to name.
        what: &'static str,
        /// All of it.
        text: String,
    },
}

/// Holds `text` against the rule of this module.
///
/// # Errors
/// The first breach of the rule; `what` is used in its message.
pub fn check(what: &'static str, text: &str) -> Result<(), BadName> {
    if text.is_empty() {
        return Err(BadName::Empty { what });
    }
    let len = text.chars().count();
    if len > MAX_LEN {
        return Err(BadName::TooLong { what, start: text.chars().take(24).collect(), len });
    }
    let allowed = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '.' || c == '-';
    if let Some(found) = text.chars().find(|&c| !allowed(c)) {
        return Err(BadName::Character { what, text: text.to_owned(), found });
    }
    if text.starts_with(['.', '-']) || text.ends_with(['.', '-']) {
        return Err(BadName::Edge { what, text: text.to_owned() });
    }
    Ok(())
}

/// A UUID of a version (RFC 9562 section 4) made from 16 octets, as a URN; variant and version overwrite six bits.
#[must_use]
pub fn uuid_urn(mut octets: [u8; 16], version: u8) -> String {
    octets[6] = (octets[6] & 0x0f) | version << 4;
    octets[8] = (octets[8] & 0x3f) | 0x80;
    let hex = data_encoding::HEXLOWER.encode(&octets);
    format!("urn:uuid:{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

macro_rules! name_types {
    ($($(#[$doc:meta])* $name:ident = $what:literal;)*) => {$(
        $(#[$doc])*
        #[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(Box<str>);

        impl $name {
            /// The name as text.
            #[must_use]
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl FromStr for $name {
            type Err = BadName;

            fn from_str(text: &str) -> Result<Self, BadName> {
                check($what, text)?;
                Ok(Self(text.into()))
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, concat!(stringify!($name), "({})"), self.0)
            }
        }

        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str(&self.0)
            }
        }

        impl std::borrow::Borrow<str> for $name {
            fn borrow(&self) -> &str {
                &self.0
            }
        }
    )*};
}

name_types! {
    /// One machine of the fleet.
    DeviceId = "device id";
    /// A class of devices, declared in `ward.toml`.
    KindName = "kind";
    /// A policy of the ward.
    PolicyName = "policy name";
    /// A certificate authority of the ward.
    AuthorityName = "authority name";
    /// A group of devices.
    GroupName = "group";
    /// Who has claimed devices.
    OwnerId = "owner";
    /// An instance of guard or desk on a machine of its own.
    PostName = "post";
    /// A reflex of the settings.
    ReflexName = "reflex";
    /// The name of a label, such as `site`.
    LabelName = "label name";
    /// The value of a label, such as `ossel`.
    LabelValue = "label value";
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn names_follow_one_rule() {
        let longest = "a".repeat(64);
        for good in ["a", "0", "wv-0417", "st-ossel-top", "a.b", longest.as_str()] {
            assert_eq!(good.parse::<DeviceId>().map(|id| id.to_string()), Ok(good.to_owned()));
        }
        let long = "a".repeat(65);
        for bad in [
            "", "-a", "a-", ".a", "a.", "A", "a b", "a/b", "a+b", "a#", "a:b", "\u{e4}", "a\0", "..", "$a", "a\n",
            &long,
        ] {
            assert!(bad.parse::<DeviceId>().is_err(), "{bad:?} was taken");
        }
    }

    #[test]
    fn the_message_names_the_thing_and_the_character() {
        let error = "wv/1".parse::<DeviceId>().unwrap_err();
        assert_eq!(
            error.to_string(),
            "the device id \"wv/1\" holds '/'; only lower-case letters, digits, `.` and `-` are allowed"
        );
    }

    proptest! {
        #[test]
        fn whatever_is_taken_is_one_topic_level_and_one_path_component(text in ".{0,70}") {
            if let Ok(id) = text.parse::<DeviceId>() {
                prop_assert_eq!(id.as_str(), text.as_str());
                prop_assert!(!text.contains(['/', '+', '#', '$', '\0', ':', '\\']) && text != "." && text != "..");
            }
        }

        #[test]
        fn every_text_of_the_allowed_form_is_taken(text in "[a-z0-9]([a-z0-9.-]{0,62}[a-z0-9])?") {
            prop_assert!(text.parse::<DeviceId>().is_ok());
        }
    }
}
