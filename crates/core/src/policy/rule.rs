//! What a policy file says, as values.

use crate::condition::Condition;
use crate::id::{DeviceId, KindName, PolicyName};
use crate::text::Place;
use crate::topic::ShareName;

use super::Pattern;

/// One policy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Policy {
    /// Its name, unique in an edition.
    pub name: PolicyName,
    /// What it is for, in words.
    pub about: Option<String>,
    /// Which devices it is for.
    pub subjects: Condition,
    /// Where that stands.
    pub subjects_place: Place,
    /// Its rules, in the order of the file.
    pub rules: Vec<Rule>,
    /// Which children its devices may bring in.
    pub introduces: Vec<Introduce>,
    /// Its claims.
    pub soles: Vec<Sole>,
    /// Its tests.
    pub expects: Vec<Expect>,
    /// Where it begins.
    pub place: Place,
}

/// The right of a gateway to bring in children that nobody listed: by their first message, or ahead over the desk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Introduce {
    /// The kind that they come as.
    pub kind: KindName,
    /// How many of that kind one gateway may bring in, all that it ever did counted.
    pub most: u32,
    /// Why.
    pub because: Option<String>,
    /// Where it stands.
    pub at: RulePlace,
}

impl Introduce {
    /// The most that can be allowed.
    pub const MOST: u32 = 10_000;
}

/// What a rule does to the acts that it fits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Effect {
    /// Gives a right.
    Allow,
    /// Takes it away, whatever gives it.
    Deny,
}

impl Effect {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Deny => "deny",
        }
    }
}

/// What a device can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Act {
    /// Open a session.
    Connect,
    /// Send a message.
    Publish,
    /// Ask for messages.
    Subscribe,
}

impl Act {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Connect, Self::Publish, Self::Subscribe];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Connect => "connect",
            Self::Publish => "publish",
            Self::Subscribe => "subscribe",
        }
    }
}

/// Which client identifiers a connect rule speaks of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ClientIdForm {
    /// `"{device}"`: the device's id.
    Device,
    /// `"{device}:*"`: the device's id, a colon, and anything.
    DeviceAndMore,
}

impl ClientIdForm {
    /// The form as policies write it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Device => "{device}",
            Self::DeviceAndMore => "{device}:*",
        }
    }

    /// Whether `client_id` has this form for `device`. A `:` cannot be in an id, so no device can take another's.
    #[must_use]
    pub fn fits(self, client_id: &str, device: &DeviceId) -> bool {
        match (client_id.strip_prefix(device.as_str()), self) {
            (Some(rest), Self::Device) => rest.is_empty(),
            (Some(rest), Self::DeviceAndMore) => rest.starts_with(':'),
            (None, _) => false,
        }
    }
}

/// What a rule speaks of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// Connecting under such a client identifier.
    Connect(ClientIdForm),
    /// Publishing to such topics.
    Publish(Pattern),
    /// Subscribing to such topics.
    Subscribe(Pattern),
}

impl Target {
    /// The topics; a connect has none.
    #[must_use]
    pub fn pattern(&self) -> Option<&Pattern> {
        match self {
            Self::Connect(_) => None,
            Self::Publish(pattern) | Self::Subscribe(pattern) => Some(pattern),
        }
    }

    /// The act.
    #[must_use]
    pub fn act(&self) -> Act {
        match self {
            Self::Connect(_) => Act::Connect,
            Self::Publish(_) => Act::Publish,
            Self::Subscribe(_) => Act::Subscribe,
        }
    }
}

/// How often an act is admitted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Rate {
    /// This many times, 1 to 1,000,000; also how many may come at once.
    pub count: u32,
    /// In so many seconds: 1, 60 or 3600.
    pub seconds: u32,
}

/// Limits of an allow.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Limits {
    /// The highest QoS.
    pub qos: Option<u8>,
    /// The largest payload, in octets.
    pub size: Option<u32>,
    /// How often.
    pub rate: Option<Rate>,
    /// Whether retained messages are refused.
    pub no_retain: bool,
}

impl Limits {
    /// Whether they admit all that `other` admits.
    #[must_use]
    pub fn admit_all_of(&self, other: &Self) -> bool {
        fn at_least<T: PartialOrd>(mine: Option<T>, theirs: Option<T>) -> bool {
            match (mine, theirs) {
                (None, _) => true,
                (Some(_), None) => false,
                (Some(mine), Some(theirs)) => mine >= theirs,
            }
        }
        let rate = match (self.rate, other.rate) {
            (None, _) => true,
            (Some(_), None) => false,
            (Some(mine), Some(theirs)) => mine.count >= theirs.count && mine.seconds == theirs.seconds,
        };
        at_least(self.qos, other.qos) && at_least(self.size, other.size) && rate && (!self.no_retain || other.no_retain)
    }
}

/// Where a rule stands; what every refusal names.
#[derive(Debug, Clone)]
pub struct RulePlace {
    /// The policy.
    pub policy: PolicyName,
    /// File, line and column.
    pub place: Place,
    /// A number made from the policy's name and what the rule says: it stays when the rule moves, and is another when the rule
    /// says something else.
    pub says: u64,
    /// Whether another rule begins in the same line, so that only the column tells them apart.
    pub shares_line: bool,
}

/// What a rule says follows from the rule, so only where it stands is compared.
impl PartialEq for RulePlace {
    fn eq(&self, other: &Self) -> bool {
        self.policy == other.policy && self.place == other.place
    }
}

impl Eq for RulePlace {}

/// One rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rule {
    /// Allow or deny.
    pub effect: Effect,
    /// The acts it speaks of.
    pub target: Target,
    /// Whether it speaks of what a gateway does for its children, not for itself.
    pub for_children: bool,
    /// The name of the shared subscription that it is for (MQTT 5.0 section 4.8.2).
    pub share: Option<ShareName>,
    /// Its limits; none on a deny.
    pub limits: Limits,
    /// The written reason.
    pub because: Option<String>,
    /// Where it stands.
    pub at: RulePlace,
}

/// A claim that nobody but the subject, and its own gateway, can publish into these topics.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sole {
    /// The topics.
    pub pattern: Pattern,
    /// Where the claim stands.
    pub place: Place,
}

/// The device of a test.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ExpectDevice {
    /// A device of the ward.
    Named(DeviceId),
    /// A device that need not exist: names and values, such as `kind=windvane`.
    Described(Vec<(String, String)>),
}

/// A test in a policy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Expect {
    /// Who acts.
    pub device: ExpectDevice,
    /// What it does.
    pub act: Act,
    /// The client identifier, topic or topic filter.
    pub subject: String,
    /// Whether that must be allowed.
    pub allowed: bool,
    /// Where the test stands.
    pub place: Place,
}
