//! Deciding: one device's rules, with its values put in, held against one act.

use std::fmt;
use std::sync::Arc;

use crate::device::DeviceRecord;
use crate::id::DeviceId;
use crate::topic::{TopicFilter, TopicName, overlap, uncovered};

use super::{ClientIdForm, Effect, Missing, Policy, Rate, Rule, Target};

/// A rule with one device's values put in.
#[derive(Debug, Clone)]
pub struct BoundRule {
    policy: Arc<Policy>,
    index: usize,
    filter: TopicFilter,
}

impl BoundRule {
    /// The rule.
    #[must_use]
    pub fn rule(&self) -> &Rule {
        &self.policy.rules[self.index]
    }

    /// The topics it speaks of, for this device.
    #[must_use]
    pub fn filter(&self) -> &TopicFilter {
        &self.filter
    }
}

/// All that an edition gives one device, ready for deciding.
#[derive(Debug, Clone)]
pub struct Rights {
    edition: u32,
    device: DeviceId,
    policies: Vec<Arc<Policy>>,
    publish: Side,
    subscribe: Side,
}

#[derive(Debug, Clone, Default)]
struct Side {
    allows: Vec<BoundRule>,
    denies: Vec<BoundRule>,
}

/// A publish as it is asked for.
#[derive(Debug, Clone, Copy)]
pub struct Publish<'a> {
    /// The topic, aliases resolved.
    pub topic: TopicName<'a>,
    /// The QoS, 0 to 2.
    pub qos: u8,
    /// Whether the message is to be retained.
    pub retain: bool,
    /// Octets of payload.
    pub size: usize,
}

/// Counts acts against rates.
pub trait Meter {
    /// Whether one more act is within `rate` of `rule` now; if so, it is counted.
    fn charge(&mut self, rule: &Rule, rate: Rate) -> bool;
}

/// Admits every rate: for questions, which use nothing up.
#[derive(Debug, Clone, Copy)]
pub struct NoMeter;

impl Meter for NoMeter {
    fn charge(&mut self, _rule: &Rule, _rate: Rate) -> bool {
        true
    }
}

/// An answer: yes with what was granted, or no with the reason.
pub type Decision<T> = Result<T, Denial>;

/// A yes, and the rule that gave it.
#[derive(Debug, Clone)]
pub struct Granted {
    /// The rule that admits the act (for a subscription: one of those that do).
    pub rule: Rule,
    /// For a subscription: the QoS granted. For others: the one asked for.
    pub qos: u8,
}

/// Whether a message may be delivered; cheaper than [`Granted`], as it names no rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Delivery {
    /// Its topic is allowed now.
    Deliver,
    /// It is not.
    Withhold,
}

/// Why an act is denied.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub enum Denial {
    /// No edition was adopted.
    NoEdition,
    /// No policy of the edition selects the device.
    NoPolicy {
        /// The edition.
        edition: u32,
    },
    /// No allow speaks of the act; the default is no.
    NoRule {
        /// The edition.
        edition: u32,
        /// For a subscription that an allow covers in part: a topic that none covers.
        witness: Option<String>,
        /// What the device may do of this kind, as filters.
        instead: Vec<String>,
    },
    /// A deny speaks of it.
    Denied {
        /// The rule.
        rule: Box<Rule>,
        /// For a subscription: a topic in it that is denied.
        witness: Option<String>,
    },
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
            Self::NoEdition | Self::NoPolicy { .. } | Self::NoRule { .. } => None,
        }
    }

    /// What makes the rule refuse, beside its text; for those who show the rule themselves.
    #[must_use]
    pub fn detail(&self) -> Option<String> {
        match self {
            Self::Denied { witness, .. } => witness.as_ref().map(|topic| format!("it covers {topic:?}")),
            Self::Limit { excess, .. } => Some(excess.clone()),
            Self::NoEdition | Self::NoPolicy { .. } | Self::NoRule { .. } => None,
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
                    Some(topic) => write!(f, "no rule of {} allows all of it: not {topic:?}", Whose(*edition))?,
                    None => write!(f, "no rule of {} allows it, and the default is no", Whose(*edition))?,
                }
                if instead.is_empty() { Ok(()) } else { write!(f, "; allowed are {}", instead.join(", ")) }
            }
            Self::Denied { rule, witness } => {
                write!(f, "{} says: {rule}", rule.at)?;
                match witness {
                    Some(topic) => write!(f, " (it covers {topic:?})"),
                    None => Ok(()),
                }
            }
            Self::Limit { rule, excess } => write!(f, "{} says: {rule}, but {excess}", rule.at),
        }
    }
}

impl Rights {
    pub(super) fn bind<'a>(
        edition: u32,
        device: &DeviceRecord,
        policies: impl Iterator<Item = &'a Arc<Policy>>,
    ) -> Self {
        let mut rights = Self {
            edition,
            device: device.id.clone(),
            policies: policies.cloned().collect(),
            publish: Side::default(),
            subscribe: Side::default(),
        };
        for policy in &rights.policies {
            for (index, rule) in policy.rules.iter().enumerate() {
                let (side, pattern) = match &rule.target {
                    Target::Connect(_) => continue,
                    Target::Publish(pattern) => (&mut rights.publish, pattern),
                    Target::Subscribe(pattern) => (&mut rights.subscribe, pattern),
                };
                let (list, missing) = match rule.effect {
                    Effect::Allow => (&mut side.allows, Missing::Nothing),
                    Effect::Deny => (&mut side.denies, Missing::AnyLevel),
                };
                list.extend(pattern.bind(device, missing).map(|filter| BoundRule {
                    policy: policy.clone(),
                    index,
                    filter,
                }));
            }
        }
        rights
    }

    /// The edition that they come from.
    #[must_use]
    pub fn edition(&self) -> u32 {
        self.edition
    }

    /// The policies that select the device.
    #[must_use]
    pub fn policies(&self) -> &[Arc<Policy>] {
        &self.policies
    }

    /// Filters that the device may publish to, before denies.
    pub fn publish_filters(&self) -> impl Iterator<Item = &TopicFilter> + Clone {
        self.publish.allows.iter().map(BoundRule::filter)
    }

    /// Filters that the device may subscribe to, before denies.
    pub fn subscribe_filters(&self) -> impl Iterator<Item = &TopicFilter> + Clone {
        self.subscribe.allows.iter().map(BoundRule::filter)
    }

    /// The rules that let the device publish, with the topics of each.
    #[must_use]
    pub fn publish_allows(&self) -> &[BoundRule] {
        &self.publish.allows
    }

    /// The rules that keep it from publishing.
    #[must_use]
    pub fn publish_denies(&self) -> &[BoundRule] {
        &self.publish.denies
    }

    fn no_rule(&self, witness: Option<String>, instead: Vec<String>) -> Denial {
        if self.policies.is_empty() {
            Denial::NoPolicy { edition: self.edition }
        } else {
            Denial::NoRule { edition: self.edition, witness, instead }
        }
    }

    /// Decides a connect under `client_id` (never empty: an empty one becomes the device id before).
    ///
    /// # Errors
    /// Why not.
    pub fn connect(&self, client_id: &str) -> Decision<Granted> {
        let fitting = |effect: Effect| {
            self.policies.iter().flat_map(|policy| &policy.rules).find(|rule| match rule.target {
                Target::Connect(form) => rule.effect == effect && form.fits(client_id, &self.device),
                Target::Publish(_) | Target::Subscribe(_) => false,
            })
        };
        if let Some(rule) = fitting(Effect::Deny) {
            return Err(Denial::Denied { rule: Box::new(rule.clone()), witness: None });
        }
        match fitting(Effect::Allow) {
            Some(rule) => Ok(Granted { rule: rule.clone(), qos: 0 }),
            None => {
                let instead =
                    self.client_id_forms().map(|form| form.as_str().replace("{device}", self.device.as_str()));
                Err(self.no_rule(None, instead.map(|text| format!("{text:?}")).collect()))
            }
        }
    }

    /// A client identifier under which the device may connect: its id if it may, else one of the longer form.
    #[must_use]
    pub fn client_id(&self) -> Option<String> {
        let id = self.device.to_string();
        let longer = format!("{id}:1");
        [id, longer].into_iter().find(|candidate| self.connect(candidate).is_ok())
    }

    fn client_id_forms(&self) -> impl Iterator<Item = ClientIdForm> {
        self.policies.iter().flat_map(|policy| &policy.rules).filter_map(|rule| match rule.target {
            Target::Connect(form) if rule.effect == Effect::Allow => Some(form),
            _ => None,
        })
    }

    /// Decides a publish; rules are tried in the order of files and lines, and the admitting one's rate is charged.
    ///
    /// # Errors
    /// Why not.
    pub fn publish(&self, act: Publish<'_>, meter: &mut dyn Meter) -> Decision<&Rule> {
        if let Some(deny) = self.publish.denies.iter().find(|bound| bound.filter.matches(act.topic)) {
            return Err(Denial::Denied { rule: Box::new(deny.rule().clone()), witness: None });
        }
        let mut excess = None;
        for bound in self.publish.allows.iter().filter(|bound| bound.filter.matches(act.topic)) {
            match admit(bound.rule(), act, meter) {
                Ok(()) => return Ok(bound.rule()),
                Err(found) => excess = Some((bound.rule(), found)),
            }
        }
        Err(match excess {
            Some((rule, excess)) => Denial::Limit { rule: Box::new(rule.clone()), excess },
            None => self.no_rule(None, shown(self.publish_filters())),
        })
    }

    /// Decides a subscription: granted exactly if every topic that `filter` can match is allowed and none is denied.
    /// The QoS granted is the highest, up to `qos`, that the allows give for all of it.
    ///
    /// # Errors
    /// Why not.
    pub fn subscribe(&self, filter: &TopicFilter, qos: u8) -> Decision<Granted> {
        for deny in &self.subscribe.denies {
            if let Some(witness) = overlap(filter, &deny.filter) {
                return Err(Denial::Denied { rule: Box::new(deny.rule().clone()), witness: Some(witness) });
            }
        }
        let allows = &self.subscribe.allows;
        let granting =
            |least: u8| allows.iter().filter(move |bound| bound.rule().limits.qos.is_none_or(|limit| limit >= least));
        let covering = |least: u8| uncovered(filter, granting(least).map(BoundRule::filter)).is_none();
        let Some(granted) = (0..=qos).rev().find(|least| covering(*least)) else {
            let witness = uncovered(filter, granting(0).map(BoundRule::filter));
            let partly = granting(0).any(|bound| overlap(filter, &bound.filter).is_some());
            return Err(self.no_rule(witness.filter(|_| partly), shown(self.subscribe_filters())));
        };
        // The rule that covers most is named: the first that overlaps, in the order of files and lines.
        match granting(granted).find(|bound| overlap(filter, &bound.filter).is_some()) {
            Some(bound) => Ok(Granted { rule: bound.rule().clone(), qos: granted }),
            None => Err(self.no_rule(None, shown(self.subscribe_filters()))),
        }
    }

    /// Decides whether a message on `topic` may be delivered to the device now.
    #[must_use]
    pub fn deliver(&self, topic: TopicName<'_>) -> Delivery {
        let matches = |list: &[BoundRule]| list.iter().any(|bound| bound.filter.matches(topic));
        if matches(&self.subscribe.allows) && !matches(&self.subscribe.denies) {
            Delivery::Deliver
        } else {
            Delivery::Withhold
        }
    }
}

/// At most five filters, in quotes.
fn shown<'a>(filters: impl Iterator<Item = &'a TopicFilter>) -> Vec<String> {
    let mut all: Vec<String> = filters.take(6).map(|filter| format!("{:?}", filter.to_string())).collect();
    if all.len() > 5 {
        all.truncate(5);
        all.push("and more".to_owned());
    }
    all
}

/// Holds a publish against the limits of an allow; the rate comes last, so that only an admitted act is charged.
fn admit(rule: &Rule, act: Publish<'_>, meter: &mut dyn Meter) -> Result<(), String> {
    let limits = rule.limits;
    if limits.qos.is_some_and(|most| act.qos > most) {
        return Err(format!("the message has qos {}", act.qos));
    }
    if limits.size.is_some_and(|most| usize::try_from(most).is_ok_and(|most| act.size > most)) {
        return Err(format!("the message has {} octets", act.size));
    }
    if limits.no_retain && act.retain {
        return Err("the message asks to be retained".to_owned());
    }
    match limits.rate {
        Some(rate) if !meter.charge(rule, rate) => Err("messages come faster than that".to_owned()),
        _ => Ok(()),
    }
}
