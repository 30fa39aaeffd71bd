//! Deciding: one device's rules, with its values put in, held against one act.

use std::fmt;
use std::sync::Arc;

use smallvec::SmallVec;

use crate::device::DeviceRecord;
use crate::id::DeviceId;
use crate::topic::{Level, Piece, TopicFilter, TopicName, TopicSet, overlap};

use super::table::{RuleNumber, Table};
use super::trie::{Edge, Trie, levels};
use super::{Act, ClientIdForm, Effect, Grants, Missing, Policy, Rate, Rule, Speaker};

/// A device under a table: its values.
#[derive(Debug, Clone)]
struct Own {
    id: DeviceId,
    table: Arc<Table>,
    values: Box<[Option<Box<str>>]>,
}

impl Own {
    fn new(device: &DeviceRecord, table: Arc<Table>) -> Self {
        Self { id: device.id.clone(), values: table.values(device.into()), table }
    }

    /// The first deny that speaks of a topic.
    fn denied(&self, act: Act, topic: &[&str]) -> Option<&Rule> {
        let mut first: Option<RuleNumber> = None;
        self.table.side(act).denies.matching(topic, &self.values, Missing::AnyLevel, &mut |rule| {
            first = Some(first.map_or(rule, |found| found.min(rule)));
            false
        });
        first.map(|number| self.table.rule(number))
    }

    fn denies(&self, act: Act, topic: &[&str]) -> bool {
        self.table.side(act).denies.matching(topic, &self.values, Missing::AnyLevel, &mut |_| true)
    }

    fn filters(&self, rules: &[RuleNumber]) -> impl Iterator<Item = (&Rule, TopicFilter)> {
        rules.iter().filter_map(|number| Some((self.table.rule(*number), self.table.filter(*number, &self.values)?)))
    }
}

/// Where a match for a child leads: the rule, and the child's place.
type ForChild = (RuleNumber, u32);

/// The children that a gateway speaks for, and what it may do for them.
#[derive(Debug, Default)]
struct Children {
    all: Vec<Own>,
    publish: Trie<ForChild>,
    subscribe: Trie<ForChild>,
    filters: Vec<(ForChild, TopicFilter)>,
}

impl Children {
    fn child(&self, at: u32) -> &Own {
        &self.all[usize::try_from(at).unwrap_or(usize::MAX)]
    }
}

/// All that an edition gives one device, ready for deciding.
#[derive(Debug, Clone)]
pub struct Rights {
    edition: u32,
    own: Own,
    children: Option<Arc<Children>>,
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
    /// Whether one more act is within `rate` of `rule` now; if so, it is counted. A gateway's acts for different
    /// children are counted apart.
    fn charge(&mut self, rule: &Rule, child: Option<&DeviceId>, rate: Rate) -> bool;
}

/// Admits every rate: for questions, which use nothing up.
#[derive(Debug, Clone, Copy)]
pub struct NoMeter;

impl Meter for NoMeter {
    fn charge(&mut self, _rule: &Rule, _child: Option<&DeviceId>, _rate: Rate) -> bool {
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

/// A publish that is allowed.
#[derive(Debug, Clone, Copy)]
pub struct Admitted<'a> {
    /// The rule that admits it.
    pub rule: &'a Rule,
    /// The child that the gateway speaks for, if it does.
    pub child: Option<&'a DeviceId>,
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
    pub(super) fn bind(edition: u32, device: &DeviceRecord, table: Arc<Table>) -> Self {
        Self { edition, own: Own::new(device, table), children: None }
    }

    /// Adds what the device may do for children, each given with the table of its own rules.
    pub(super) fn speak_for<'d>(
        &mut self,
        device: &DeviceRecord,
        children: impl Iterator<Item = (&'d DeviceRecord, Arc<Table>)>,
    ) {
        let table = &self.own.table;
        if table.for_children.is_empty() {
            return;
        }
        let mut all = Children::default();
        for (child, own) in children {
            let at = u32::try_from(all.all.len()).unwrap_or(u32::MAX);
            all.all.push(Own::new(child, own));
            let speaker = Speaker { device, child: Some(child) };
            for number in &table.for_children {
                let rule = table.rule(*number);
                let Some(pattern) = rule.target.pattern() else { continue };
                let Some(filter) = pattern.bind(Missing::Nothing, |variable| variable.value(speaker)) else { continue };
                let trie = match rule.target.act() {
                    Act::Publish => &mut all.publish,
                    _ => &mut all.subscribe,
                };
                let edges = filter.levels().iter().map(|level| match level {
                    Level::Is(text) => Edge::Is(text),
                    Level::Any => Edge::Any,
                });
                trie.insert(edges, filter.is_open(), (*number, at));
                all.filters.push(((*number, at), filter));
            }
        }
        self.children = (!all.all.is_empty()).then(|| Arc::new(all));
    }

    /// The edition that they come from.
    #[must_use]
    pub fn edition(&self) -> u32 {
        self.edition
    }

    /// The policies that select the device.
    #[must_use]
    pub fn policies(&self) -> &[Arc<Policy>] {
        &self.own.table.policies
    }

    /// How many children the device speaks for.
    #[must_use]
    pub fn children(&self) -> usize {
        self.children.as_ref().map_or(0, |children| children.all.len())
    }

    /// Filters that the device may publish to for itself, before denies.
    pub fn publish_filters(&self) -> impl Iterator<Item = TopicFilter> {
        self.own.filters(&self.own.table.publish.allow_rules).map(|(_, filter)| filter)
    }

    /// Filters that the device may subscribe to for itself, before denies. Those of shared subscriptions begin with
    /// `$share/`.
    pub fn subscribe_filters(&self) -> impl Iterator<Item = String> {
        self.own.filters(&self.own.table.subscribe.allow_rules).map(|(rule, filter)| match &rule.share {
            Some(share) => format!("$share/{share}/{filter}"),
            None => filter.to_string(),
        })
    }

    fn no_rule(&self, witness: Option<String>, instead: Vec<String>) -> Denial {
        if self.own.table.policies.is_empty() {
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
        let Own { id, table, .. } = &self.own;
        if let Some(rule) = table.connect(Effect::Deny, |form| form.fits(client_id, id)) {
            return Err(Denial::Denied { rule: Box::new(rule.clone()), witness: None });
        }
        match table.connect(Effect::Allow, |form| form.fits(client_id, id)) {
            Some(rule) => Ok(Granted { rule: rule.clone(), qos: 0 }),
            None => {
                let instead = table.forms(Effect::Allow).map(|form| form.as_str().replace("{device}", id.as_str()));
                Err(self.no_rule(None, instead.map(|text| format!("{text:?}")).collect()))
            }
        }
    }

    /// A client identifier under which the device may connect: its id if it may, else one of the longer form.
    #[must_use]
    pub fn client_id(&self) -> Option<String> {
        let id = self.own.id.to_string();
        let longer = format!("{id}:1");
        [id, longer].into_iter().find(|candidate| self.connect(candidate).is_ok())
    }

    /// The forms of client identifier under which the device may connect.
    #[must_use]
    pub fn client_id_forms(&self) -> Vec<ClientIdForm> {
        let denied: Vec<_> = self.own.table.forms(Effect::Deny).collect();
        self.own.table.forms(Effect::Allow).filter(|form| !denied.contains(form)).collect()
    }

    /// Decides a publish; rules are tried in the order of files and lines, and the admitting one's rate is charged.
    ///
    /// # Errors
    /// Why not.
    pub fn publish(&self, act: Publish<'_>, meter: &mut dyn Meter) -> Decision<Admitted<'_>> {
        let Own { table, values, .. } = &self.own;
        let topic = &*levels(act.topic.as_str());
        if let Some(deny) = self.own.denied(Act::Publish, topic) {
            return Err(Denial::Denied { rule: Box::new(deny.clone()), witness: None });
        }
        // Inline, as a decision must not wait for memory; many overlapping rules are rare.
        let mut found: SmallVec<[(RuleNumber, Option<u32>); 16]> = SmallVec::new();
        table.publish.allows.matching(topic, values, Missing::Nothing, &mut |rule| {
            found.push((rule, None));
            false
        });
        if let Some(children) = &self.children {
            children.publish.matching(topic, &[], Missing::Nothing, &mut |(rule, child)| {
                found.push((rule, Some(child)));
                false
            });
        }
        if found.len() > 1 {
            found.sort_unstable();
        }
        // Why not is written out only if nothing admits the act in the end.
        let mut refused: Option<(&Rule, Option<Excess>)> = None;
        for (number, child) in found {
            let rule = table.rule(number);
            let child = match (child, &self.children) {
                (Some(at), Some(children)) => Some(children.child(at)),
                _ => None,
            };
            if let Some(deny) = child.and_then(|child| child.denied(Act::Publish, topic)) {
                refused = Some((deny, None));
                continue;
            }
            let child = child.map(|child| &child.id);
            match admit(rule, child, act, meter) {
                Ok(()) => return Ok(Admitted { rule, child }),
                Err(excess) => refused = Some((rule, Some(excess))),
            }
        }
        Err(match refused {
            Some((rule, Some(excess))) => Denial::Limit { rule: Box::new(rule.clone()), excess: excess.to_string() },
            Some((rule, None)) => Denial::Denied { rule: Box::new(rule.clone()), witness: None },
            None => self.no_rule(None, shown(self.publish_filters().map(|filter| filter.to_string()))),
        })
    }

    /// Decides a subscription, a shared one under its share's name: granted exactly if every topic that `filter` can match
    /// is allowed and none is denied. The QoS granted is the highest, up to `qos`, that the allows give for all of it.
    ///
    /// # Errors
    /// Why not.
    pub fn subscribe(&self, filter: &TopicFilter, qos: u8, share: Option<&str>) -> Decision<Granted> {
        let side = &self.own.table.subscribe;
        for (rule, denied) in self.own.filters(&side.deny_rules) {
            if let Some(witness) = overlap(filter, &denied) {
                return Err(Denial::Denied { rule: Box::new(rule.clone()), witness: Some(witness) });
            }
        }
        let mut allows: Vec<(&Rule, Piece)> = Vec::new();
        for (rule, allowed) in self.own.filters(&side.allow_rules) {
            if rule.share.as_deref() == share && overlap(filter, &allowed).is_some() {
                allows.push((rule, allowed.into()));
            }
        }
        if let Some(children) = &self.children {
            for ((number, child), allowed) in &children.filters {
                let rule = self.own.table.rule(*number);
                let fits = rule.target.act() == Act::Subscribe && rule.share.as_deref() == share;
                if !fits || overlap(filter, allowed).is_none() {
                    continue;
                }
                let child = children.child(*child);
                let denies: Vec<TopicFilter> =
                    child.filters(&child.table.subscribe.deny_rules).map(|(_, filter)| filter).collect();
                allows.extend(Piece::new(allowed.clone(), &denies).map(|piece| (rule, piece)));
            }
        }
        let granting =
            |least: u8| allows.iter().filter(move |(rule, _)| rule.limits.qos.is_none_or(|limit| limit >= least));
        let left = |least: u8| {
            let mut left = TopicSet::from(filter.clone());
            granting(least).for_each(|(_, piece)| left.remove(piece));
            left.sample()
        };
        let instead = || shown(self.subscribe_filters());
        let Some(granted) = (0..=qos).rev().find(|least| left(*least).is_none()) else {
            let witness = left(0).filter(|_| !allows.is_empty());
            return Err(self.no_rule(witness, instead()));
        };
        // One of those that give it is named: the first that overlaps, in the order of files and lines.
        match granting(granted).next() {
            Some((rule, _)) => Ok(Granted { rule: (*rule).clone(), qos: granted }),
            None => Err(self.no_rule(None, instead())),
        }
    }

    /// All of it as sets, for comparing.
    #[must_use]
    pub fn grants(&self) -> Grants {
        let mut grants = Grants::default();
        self.client_id_forms().into_iter().for_each(|form| grants.allow_connect(form));
        for act in [Act::Publish, Act::Subscribe] {
            let side = self.own.table.side(act);
            let denies: Vec<TopicFilter> = self.own.filters(&side.deny_rules).map(|(_, filter)| filter).collect();
            for (rule, filter) in self.own.filters(&side.allow_rules) {
                grants.allow(rule, filter, &denies);
            }
            let Some(children) = &self.children else { continue };
            for ((number, child), filter) in &children.filters {
                let rule = self.own.table.rule(*number);
                if rule.target.act() != act {
                    continue;
                }
                let child = children.child(*child);
                let of_child = child.filters(&child.table.side(act).deny_rules).map(|(_, filter)| filter);
                let denies: Vec<TopicFilter> = denies.iter().cloned().chain(of_child).collect();
                grants.allow(rule, filter.clone(), &denies);
            }
        }
        grants
    }

    /// Decides whether a message on `topic` may be delivered to the device now.
    #[must_use]
    pub fn deliver(&self, topic: TopicName<'_>) -> Delivery {
        let Own { table, values, .. } = &self.own;
        let topic = &*levels(topic.as_str());
        if self.own.denies(Act::Subscribe, topic) {
            return Delivery::Withhold;
        }
        let allowed = table.subscribe.allows.matching(topic, values, Missing::Nothing, &mut |_| true)
            || self.children.as_ref().is_some_and(|children| {
                children.subscribe.matching(topic, &[], Missing::Nothing, &mut |(_, child)| {
                    !children.child(child).denies(Act::Subscribe, topic)
                })
            });
        if allowed { Delivery::Deliver } else { Delivery::Withhold }
    }
}

/// At most five filters, in quotes.
fn shown(filters: impl Iterator<Item = String>) -> Vec<String> {
    let mut all: Vec<String> = filters.take(6).map(|filter| format!("{filter:?}")).collect();
    if all.len() > 5 {
        all.truncate(5);
        all.push("and more".to_owned());
    }
    all
}

/// Which limit an act is beyond.
enum Excess {
    Qos(u8),
    Size(usize),
    Retain,
    Rate,
}

impl fmt::Display for Excess {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Qos(qos) => write!(f, "the message has qos {qos}"),
            Self::Size(size) => write!(f, "the message has {size} octets"),
            Self::Retain => f.write_str("the message asks to be retained"),
            Self::Rate => f.write_str("messages come faster than that"),
        }
    }
}

/// Holds a publish against the limits of an allow; the rate comes last, so that only an admitted act is charged.
fn admit(rule: &Rule, child: Option<&DeviceId>, act: Publish<'_>, meter: &mut dyn Meter) -> Result<(), Excess> {
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
