//! Why an act is denied, and the limits of an allow.

use std::fmt;

use crate::id::DeviceId;

use super::{Meter, Publish, Rule};

/// Why an act is denied.
#[derive(Debug, Clone)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the texts say what the fields are")]
pub enum Denial {
    /// No edition was adopted.
    NoEdition,
    /// No policy of the edition selects the device.
    NoPolicy { edition: u32 },
    /// No allow speaks of the act; the default is no.
    NoRule {
        edition: u32,
        /// For a subscription that an allow covers in part: a topic that none covers.
        witness: Option<String>,
        /// What the device may do of this kind, as filters.
        instead: Vec<String>,
    },
    /// A deny speaks of it.
    Denied {
        rule: Box<Rule>,
        /// For a subscription: a topic in it that is denied.
        witness: Option<String>,
    },
    /// The policies are not asked: the token that opened the session does not reach that far.
    OutOfScope {
        /// What the token may do, in words.
        scope: String,
        /// For a subscription: a topic in it that the token may not have.
        witness: Option<String>,
    },
    /// The policies are not asked: the topic is one of the ward's own.
    Reserved {
        /// With what those begin.
        prefix: String,
    },
    /// Nobody knows: the question needs more work than is done for one.
    TooMuchWork { edition: u32 },
    /// Allows speak of it, but it is beyond the limits of each.
    Limit {
        /// The last of them.
        rule: Box<Rule>,
        /// Which limit, and what was asked.
        excess: String,
    },
}

impl Denial {
    /// The rule that decided, if one did.
    #[must_use]
    pub fn rule(&self) -> Option<&Rule> {
        match self {
            Self::Denied { rule, .. } | Self::Limit { rule, .. } => Some(rule),
            Self::NoEdition
            | Self::NoPolicy { .. }
            | Self::NoRule { .. }
            | Self::OutOfScope { .. }
            | Self::Reserved { .. }
            | Self::TooMuchWork { .. } => None,
        }
    }

    /// What makes the rule refuse, beside its text; for those who show the rule themselves.
    #[must_use]
    pub fn detail(&self) -> Option<String> {
        match self {
            Self::Denied { witness, .. } => witness.as_ref().map(|topic| format!("it covers {topic:?}")),
            Self::Limit { excess, .. } => Some(excess.clone()),
            Self::NoEdition
            | Self::NoPolicy { .. }
            | Self::NoRule { .. }
            | Self::OutOfScope { .. }
            | Self::Reserved { .. }
            | Self::TooMuchWork { .. } => None,
        }
    }
}

/// An edition by its number; 0 is a draft.
struct Whose(u32);

impl fmt::Display for Whose {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            0 => f.write_str("the draft"),
            number => write!(f, "edition {number}"),
        }
    }
}

impl fmt::Display for Denial {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoEdition => f.write_str("no policy edition is adopted, and without one nothing is allowed"),
            Self::NoPolicy { edition } => write!(f, "no policy of {} is for this device", Whose(*edition)),
            Self::NoRule { edition, witness, instead } => {
                match witness {
                    Some(topic) => write!(
                        f,
                        "no rule of {} allows all of it: for example, it would also match {topic:?}",
                        Whose(*edition)
                    )?,
                    None => write!(f, "no rule of {} allows it, and the default is no", Whose(*edition))?,
                }
                if instead.is_empty() { Ok(()) } else { write!(f, "; allowed are {}", instead.join(", ")) }
            }
            Self::Reserved { prefix } => write!(
                f,
                "topics below {prefix:?} are the ward's own: a device listens for its errands there and answers them, and nobody does \
                 anything else"
            ),
            Self::Denied { rule, witness } => {
                write!(f, "{} says: {rule}", rule.at)?;
                match witness {
                    Some(topic) => write!(f, " (it covers {topic:?})"),
                    None => Ok(()),
                }
            }
            Self::OutOfScope { scope, witness } => {
                write!(f, "the token's scope does not give it")?;
                if let Some(topic) = witness {
                    write!(f, ": for example, it would also match {topic:?}")?;
                }
                write!(f, "; it gives {scope}")
            }
            Self::TooMuchWork { edition } => write!(
                f,
                "whether {} allows all of it takes more work to decide than is done for one question; ask for fewer and \
                 narrower filters",
                Whose(*edition)
            ),
            Self::Limit { rule, excess } => write!(f, "{} says: {rule}, but {excess}", rule.at),
        }
    }
}

/// Which limit an act is beyond.
pub(super) enum Excess {
    Qos(u8),
    Size(usize),
    Retain,
    Rate,
}

impl fmt::Display for Excess {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Qos(qos) => write!(f, "the message has qos {qos}"),
            Self::Size(size) => write!(f, "the message has {size} bytes"),
            Self::Retain => f.write_str("the message asks to be retained"),
            Self::Rate => f.write_str("messages come faster than that"),
        }
    }
}

/// Holds a publish against the limits of an allow; the rate comes last, so that only an admitted act is charged.
pub(super) fn admit(
    rule: &Rule,
    child: Option<&DeviceId>,
    act: Publish<'_>,
    meter: &mut dyn Meter,
) -> Result<(), Excess> {
    let limits = rule.limits;
    if limits.qos.is_some_and(|most| act.qos > most) {
        return Err(Excess::Qos(act.qos));
    }
    if limits.size.is_some_and(|most| usize::try_from(most).is_ok_and(|most| act.size > most)) {
        return Err(Excess::Size(act.size));
    }
    if limits.no_retain && act.retain {
        return Err(Excess::Retain);
    }
    match limits.rate {
        Some(rate) if !meter.charge(rule, child, rate) => Err(Excess::Rate),
        _ => Ok(()),
    }
}
