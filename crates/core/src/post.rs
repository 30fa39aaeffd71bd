//! A post: an instance of guard or desk on a machine of its own, with what it is told there and nowhere else.

use crate::id::PostName;

/// What an instance is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum PostRole {
    /// It lets devices connect and decides what they may publish and subscribe to.
    Guard,
    /// It takes the requests of devices.
    Desk,
}

impl PostRole {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Guard => "guard",
            Self::Desk => "desk",
        }
    }
}

impl std::str::FromStr for PostRole {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text {
            "guard" => Ok(Self::Guard),
            "desk" => Ok(Self::Desk),
            _ => Err("expected \"guard\" or \"desk\""),
        }
    }
}

/// The longest name of a role in a database, in octets (the database's manual, "Identifiers and Key Words").
const LONGEST_LOGIN: usize = 63;

/// The role in the database that a post signs in as: of this ward's database alone, and no other post's. `None` if it would be too long
/// for the database, which then would cut it and take two for one.
#[must_use]
pub fn login(database: &str, post: &PostName) -> Option<String> {
    let name = format!("{database}_post_{post}");
    (name.len() <= LONGEST_LOGIN).then_some(name)
}

/// The role in the database that all who do the same belong to, such as `north_guards`.
#[must_use]
pub fn group(database: &str, of: &str) -> Option<String> {
    let name = format!("{database}_{of}s");
    (name.len() <= LONGEST_LOGIN).then_some(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_login_is_of_one_post_and_one_database() {
        let post = |name: &str| name.parse::<PostName>().unwrap();
        assert_eq!(login("north", &post("guard-2")).as_deref(), Some("north_post_guard-2"));
        assert_ne!(login("north", &post("a-b")), login("north", &post("a.b")));
        assert_eq!(login(&"d".repeat(60), &post("a")), None);
        assert_eq!(login("north", &post(&"g".repeat(64))), None);
        assert_eq!(group("north", "guard").as_deref(), Some("north_guards"));
        for role in [PostRole::Guard, PostRole::Desk] {
            assert_eq!(role.as_str().parse(), Ok(role));
        }
        assert!("door".parse::<PostRole>().is_err());
    }
}
