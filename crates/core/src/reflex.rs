//! Reflexes: rules of the settings that act by themselves when something happens to a device, within limits.
//!
//! What they do about a device counts only evidence that was proved with the device's own key, so that nobody can have others put on hold
//! or revoked; what cannot be proved so is noted, and a person decides. However much happens, a reflex acts only so often, and on what comes
//! from one network even less often; then it stops, and asks.

use std::fmt;
use std::str::FromStr;

use crate::condition::Condition;
use crate::id::DeviceId;
use crate::time::{Span, UnixTime};

/// What guards notice and keep as evidence.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Noticed {
    /// A sign that somebody else has a device's key.
    CloneSign,
    /// Acts of a session that were refused.
    Refusals,
    /// A token that was shown from elsewhere before.
    TokenReplay,
    /// A child that a gateway named and nobody listed.
    UnknownChild,
}

impl Noticed {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::CloneSign, Self::Refusals, Self::TokenReplay, Self::UnknownChild];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::CloneSign => "clone-sign",
            Self::Refusals => "refusals",
            Self::TokenReplay => "token-replay",
            Self::UnknownChild => "unknown-child",
        }
    }
}

impl FromStr for Noticed {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Self::ALL.into_iter().find(|each| each.as_str() == text).ok_or("expected something that guards notice")
    }
}

/// Something that a guard noticed of a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Evidence {
    /// The device.
    pub device: DeviceId,
    /// When, the last time.
    pub at: UnixTime,
    /// What.
    pub what: Noticed,
    /// How often.
    pub count: u32,
    /// The network that it came from (IPv4 /24, IPv6 /64).
    pub source: String,
    /// Whether whoever did it had proved to have the device's own key.
    pub is_proved: bool,
    /// It in words.
    pub text: String,
}

/// When a reflex acts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum When {
    /// Somebody else seems to have the device's key.
    CloneSign,
    /// More than so many of its acts were refused within a time.
    Refusals {
        /// How many may be.
        most: u32,
        /// Within how long.
        within: Span,
    },
    /// It was live, and was not seen for longer than this.
    Silent(Span),
    /// A token of it was shown from two places.
    TokenReplay,
    /// Its last certificate ends within this time.
    Ends(Span),
    /// It is a gateway, and named a child that nobody listed.
    UnknownChild,
}

/// The longest time that refusals are counted over, and how long evidence is kept.
pub const KEPT: Span = Span::from_days(30);

impl When {
    /// What guards notice that leads to it; none where the ward's own record does.
    #[must_use]
    pub fn noticed(self) -> Option<Noticed> {
        match self {
            Self::CloneSign => Some(Noticed::CloneSign),
            Self::Refusals { .. } => Some(Noticed::Refusals),
            Self::TokenReplay => Some(Noticed::TokenReplay),
            Self::UnknownChild => Some(Noticed::UnknownChild),
            Self::Silent(_) | Self::Ends(_) => None,
        }
    }

    /// Whether it may lead to this. A hold or a revocation needs what the device itself proved; a copied key must not fetch itself the
    /// next one.
    #[must_use]
    pub fn may_lead_to(self, act: Then) -> bool {
        match act {
            Then::Record | Then::Notify => true,
            Then::Hold | Then::Revoke => matches!(self, Self::CloneSign | Self::Refusals { .. }),
            Then::Renew => matches!(self, Self::Ends(_)),
        }
    }
}

impl FromStr for When {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        const EXPECTED: &str = "expected clone-sign, token-replay, unknown-child, \"refusals > 100 in 10m\", \"silent > 30d\" or \
                                \"cert.ends within 3d\"";
        let words: Vec<&str> = text.split_whitespace().collect();
        let span = |text: &str| text.parse::<Span>().map_err(|_| EXPECTED);
        match words[..] {
            ["clone-sign"] => Ok(Self::CloneSign),
            ["token-replay"] => Ok(Self::TokenReplay),
            ["unknown-child"] => Ok(Self::UnknownChild),
            ["refusals", ">", most, "in", within] => {
                let (most, within) = (most.parse().map_err(|_| EXPECTED)?, span(within)?);
                if within.seconds() < 60 || within > KEPT {
                    return Err("refusals are counted over a minute at least, and 30 days at most");
                }
                Ok(Self::Refusals { most, within })
            }
            ["silent", ">", longer] => Ok(Self::Silent(span(longer)?)),
            ["cert.ends", "within", within] => Ok(Self::Ends(span(within)?)),
            _ => Err(EXPECTED),
        }
    }
}

impl fmt::Display for When {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::CloneSign => f.write_str("clone-sign"),
            Self::Refusals { most, within } => write!(f, "refusals > {most} in {within}"),
            Self::Silent(longer) => write!(f, "silent > {longer}"),
            Self::TokenReplay => f.write_str("token-replay"),
            Self::Ends(within) => write!(f, "cert.ends within {within}"),
            Self::UnknownChild => f.write_str("unknown-child"),
        }
    }
}

/// What a reflex does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Then {
    /// It stands in the audit record.
    Record,
    /// The web service of the settings is told.
    Notify,
    /// The device is put on hold.
    Hold,
    /// All its credentials are revoked, for keyCompromise where its key is in other hands.
    Revoke,
    /// It is sent an errand to renew.
    Renew,
}

impl Then {
    /// Whether it leaves the device as it is: then evidence that nobody proved is enough.
    #[must_use]
    pub fn is_harmless(self) -> bool {
        matches!(self, Self::Record | Self::Notify)
    }

    /// All of them.
    pub const ALL: [Self; 5] = [Self::Record, Self::Notify, Self::Hold, Self::Revoke, Self::Renew];

    /// The words for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Record => "record",
            Self::Notify => "notify",
            Self::Hold => "hold",
            Self::Revoke => "revoke",
            Self::Renew => "errand renew",
        }
    }
}

impl FromStr for Then {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Self::ALL
            .into_iter()
            .find(|each| each.as_str() == text)
            .ok_or("expected record, notify, hold, revoke or \"errand renew\"")
    }
}

/// How often a reflex may act.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AtMost {
    /// How many acts.
    pub acts: u32,
    /// Within how long.
    pub within: Span,
}

impl AtMost {
    /// How many acts may be about what came from one network: less than half of all, so that no network alone can have the reflex stop.
    #[must_use]
    pub fn of_source(self) -> u32 {
        (self.acts / 2).max(1)
    }
}

impl Default for AtMost {
    fn default() -> Self {
        Self { acts: 5, within: Span::from_seconds(3_600) }
    }
}

impl FromStr for AtMost {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        const EXPECTED: &str = "expected a number and a time, such as \"5 in 1h\"";
        let (acts, within) = text.split_once(" in ").ok_or(EXPECTED)?;
        let acts = acts.trim().parse().ok().filter(|acts| (1..=10_000).contains(acts)).ok_or(EXPECTED)?;
        let within: Span = within.trim().parse().map_err(|_| EXPECTED)?;
        if within.seconds() < 60 || within > KEPT {
            return Err("expected a time of a minute at least, and 30 days at most");
        }
        Ok(Self { acts, within })
    }
}

impl fmt::Display for AtMost {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} in {}", self.acts, self.within)
    }
}

/// A rule of the settings that acts by itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reflex {
    /// When it acts.
    pub when: When,
    /// For which devices; for all without it.
    pub condition: Option<Condition>,
    /// What it does.
    pub then: Then,
    /// How often.
    pub at_most: AtMost,
}

/// What a reflex did about a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hit {
    /// Its number among all, from 1.
    pub number: i64,
    /// The reflex.
    pub reflex: String,
    /// The device.
    pub device: DeviceId,
    /// When.
    pub at: UnixTime,
    /// What it did.
    pub act: String,
    /// Why, in words.
    pub evidence: String,
    /// The network that the evidence came from; empty if it came from none.
    pub source: String,
    /// When a person took it back.
    pub undone: Option<UnixTime>,
}

/// How far a reflex is.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Progress {
    /// Up to which number evidence was looked at; or behind which device a walk goes on.
    pub position: i64,
    /// Since when it does nothing, and why.
    pub stopped: Option<(UnixTime, String)>,
}

/// Whether a reflex may act once more, by what it did within its time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Room {
    /// It may.
    Free,
    /// It did enough about what came from that network: the rest is left.
    SourceFull,
    /// It did enough: it stops, and asks a person.
    Full,
}

/// Whether there is room for one more, where `all` acts were within the time, `of_source` of them about this network.
#[must_use]
pub fn room(at_most: AtMost, all: usize, of_source: usize) -> Room {
    let most = |number: u32| usize::try_from(number).unwrap_or(usize::MAX);
    if all >= most(at_most.acts) {
        Room::Full
    } else if of_source >= most(at_most.of_source()) {
        Room::SourceFull
    } else {
        Room::Free
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_reads_back_and_all_else_is_refused() {
        for text in [
            "clone-sign",
            "token-replay",
            "unknown-child",
            "refusals > 100 in 10m",
            "silent > 30d",
            "cert.ends within 3d",
        ] {
            assert_eq!(text.parse::<When>().map(|when| when.to_string()), Ok(text.to_owned()));
        }
        for bad in [
            "",
            "refusals",
            "refusals > 100",
            "refusals > -1 in 10m",
            "refusals > 1 in 10s",
            "silent",
            "silent > x",
            "ends",
        ] {
            assert!(bad.parse::<When>().is_err(), "{bad}");
        }
        for then in Then::ALL {
            assert_eq!(then.as_str().parse(), Ok(then));
        }
        assert_eq!("5 in 1h".parse::<AtMost>(), Ok(AtMost::default()));
        for bad in ["5", "0 in 1h", "5 in 1s", "5 in 40d", "x in 1h", "5in1h"] {
            assert!(bad.parse::<AtMost>().is_err(), "{bad}");
        }
    }

    #[test]
    fn nobody_is_put_out_by_what_they_did_not_prove() {
        let all =
            ["clone-sign", "refusals > 1 in 1m", "silent > 1d", "token-replay", "cert.ends within 3d", "unknown-child"];
        let may = |when: &str| -> Vec<&str> {
            let when: When = when.parse().unwrap();
            Then::ALL.into_iter().filter(|then| when.may_lead_to(*then)).map(Then::as_str).collect()
        };
        assert_eq!(
            all.map(may),
            [
                vec!["record", "notify", "hold", "revoke"],
                vec!["record", "notify", "hold", "revoke"],
                vec!["record", "notify"],
                vec!["record", "notify"],
                vec!["record", "notify", "errand renew"],
                vec!["record", "notify"],
            ]
        );
    }

    #[test]
    fn one_network_alone_does_not_stop_a_reflex() {
        let at_most = AtMost::default();
        assert_eq!(room(at_most, 0, 0), Room::Free);
        assert_eq!(room(at_most, 2, 2), Room::SourceFull);
        assert_eq!(room(at_most, 4, 1), Room::Free);
        assert_eq!(room(at_most, 5, 0), Room::Full);
        let one = AtMost { acts: 1, ..at_most };
        assert_eq!((room(one, 0, 0), room(one, 1, 0)), (Room::Free, Room::Full));
    }
}
