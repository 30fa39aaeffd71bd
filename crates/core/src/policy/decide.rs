//! Deciding: one device's rules, with its values put in, held against one act.

use std::sync::Arc;

use smallvec::SmallVec;

use crate::device::DeviceRecord;
use crate::errand::Reserved;
use crate::id::DeviceId;
use crate::token::{Scope, Wider};
use crate::topic::trie::{Trie, levels};
use crate::topic::{Exhausted, TopicFilter, TopicName, Work, overlap};

use super::cover::{Cover, Uncovered};
use super::denial::{Denial, Excess, admit};
use super::introduce::Door;
use super::table::{RuleNumber, Table};
use super::{Act, ClientIdForm, Effect, Grants, Missing, Policy, Rate, Rule, Speaker};

/// How much is done to decide one subscription, where nobody says otherwise: some tens of milliseconds at most.
const WORK: u32 = 1_000_000;

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
    /// The length of the longest of their rules and of their own denies.
    longest: usize,
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
    /// Where messages would name children that may be brought in.
    doors: Option<Arc<[Door]>>,
    /// What the token that opened the session may do: nothing is allowed that it does not give too.
    scope: Option<Arc<Scope>>,
    /// The ward's own topics, which policies neither give nor take.
    reserved: Option<Reserved>,
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

impl Rights {
    pub(super) fn bind(edition: u32, device: &DeviceRecord, table: Arc<Table>) -> Self {
        Self { edition, own: Own::new(device, table), children: None, doors: None, scope: None, reserved: None }
    }

    /// Adds which topics are the ward's own.
    pub(super) fn keep_out_of(&mut self, reserved: &Reserved) {
        self.reserved = Some(reserved.clone());
    }

    fn not_reserved(&self, topic: TopicName<'_>) -> Decision<()> {
        match self.reserved.as_ref().filter(|reserved| reserved.place(topic.as_str()).is_some()) {
            Some(reserved) => Err(Denial::Reserved { prefix: reserved.prefix().to_owned() }),
            None => Ok(()),
        }
    }

    /// Whether the device may answer errands on a topic of the ward's own, as far as its token goes: the policies are not asked.
    #[must_use]
    pub fn may_answer(&self, topic: TopicName<'_>) -> bool {
        self.in_scope(|scope| scope.allows_publish(topic).then_some(()).ok_or(None)).is_ok()
    }

    /// Whether it may listen for errands with a filter of the ward's own topics, as far as its token goes.
    #[must_use]
    pub fn may_listen(&self, filter: &TopicFilter) -> bool {
        self.in_scope(|scope| scope.covers(filter).map_err(Some)).is_ok()
    }

    /// Adds where it may bring in children.
    pub(super) fn open(&mut self, doors: Option<Arc<[Door]>>) {
        self.doors = doors;
    }

    pub(super) fn doors(&self) -> &[Door] {
        self.doors.as_deref().unwrap_or_default()
    }

    /// Whose they are.
    pub(super) fn device(&self) -> &DeviceId {
        &self.own.id
    }

    /// Whether the device speaks for a child.
    pub(super) fn speaks_for(&self, child: &DeviceId) -> bool {
        self.children.iter().flat_map(|children| &children.all).any(|own| own.id == *child)
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
            all.longest = all.longest.max(own.subscribe.denies.depth());
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
                trie.insert_filter(&filter, (*number, at));
                all.filters.push(((*number, at), filter));
            }
        }
        all.longest = all.longest.max(all.subscribe.depth());
        self.children = (!all.all.is_empty()).then(|| Arc::new(all));
    }

    /// The same, for a session that was opened by a token with a scope: policy and scope must both allow an act, and no child is
    /// brought in.
    #[must_use]
    pub fn narrowed(mut self, scope: Arc<Scope>) -> Self {
        (self.scope, self.doors) = (Some(scope), None);
        self
    }

    /// Fails if there is a scope and it does not hold.
    fn in_scope(&self, holds: impl FnOnce(&Scope) -> Result<(), Option<String>>) -> Decision<()> {
        match self.scope.as_deref().map(|scope| (scope, holds(scope))) {
            None | Some((_, Ok(()))) => Ok(()),
            Some((scope, Err(witness))) => Err(Denial::OutOfScope { scope: scope.to_string(), witness }),
        }
    }

    /// The parts of a scope that go beyond this: a token with it would give no more than the policies, and promise more than it gives.
    #[must_use]
    pub fn wider(&self, scope: &Scope) -> Vec<Wider> {
        let grants = self.grants();
        let mut all = Vec::new();
        for (act, word, filters) in
            [(Act::Publish, "publish", scope.publish()), (Act::Subscribe, "subscribe", scope.subscribe())]
        {
            for filter in filters {
                if let Some(example) = grants.lacks(act, filter) {
                    all.push(Wider { part: format!("{word} {filter}"), example });
                }
            }
        }
        for id in scope.client_ids() {
            if self.connect(id).is_err() {
                all.push(Wider { part: format!("connect as {id}"), example: id.clone() });
            }
        }
        all
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
        self.publish_rules().map(|(_, filter)| filter)
    }

    /// The allow rules by which the device may publish for itself, before denies, with their filters.
    pub fn publish_rules(&self) -> impl Iterator<Item = (&Rule, TopicFilter)> {
        self.own.filters(&self.own.table.publish.allow_rules)
    }

    /// Filters that the device may publish to for the children that it speaks for, before denies.
    pub fn child_publish_filters(&self) -> impl Iterator<Item = &TopicFilter> {
        let all = self.children.iter().flat_map(|children| &children.filters);
        let publish = |number| self.own.table.rule(number).target.act() == Act::Publish;
        all.filter(move |((number, _), _)| publish(*number)).map(|(_, filter)| filter)
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
        self.in_scope(|scope| scope.allows_client_id(client_id, id.as_str()).then_some(()).ok_or(None))?;
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
        self.not_reserved(act.topic)?;
        self.in_scope(|scope| scope.allows_publish(act.topic).then_some(()).ok_or(None))?;
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
        self.subscribe_within(filter, qos, share, &mut Work::steps(WORK))
    }

    /// [`Rights::subscribe`] with a bound on the work, which is taken from `work`; who runs out of it is denied.
    ///
    /// # Errors
    /// Why not.
    pub fn subscribe_within(
        &self,
        filter: &TopicFilter,
        qos: u8,
        share: Option<&str>,
        work: &mut Work,
    ) -> Decision<Granted> {
        let Own { table, values, .. } = &self.own;
        if let Some(reserved) = &self.reserved
            && reserved.asks_for(&filter.to_string(), "").is_some()
        {
            return Err(Denial::Reserved { prefix: reserved.prefix().to_owned() });
        }
        if let Some(scope) = &self.scope {
            work.spend(filter.levels().len() * scope.subscribe().len()).map_err(|Exhausted| self.too_much())?;
        }
        self.in_scope(|scope| scope.covers(filter).map_err(Some))?;
        let mut denied: Option<RuleNumber> = None;
        let met = table.subscribe.denies.meeting(filter, (values, Missing::AnyLevel), work, &mut |rule| {
            denied = Some(denied.map_or(rule, |first| first.min(rule)));
            false
        });
        met.map_err(|Exhausted| self.too_much())?;
        if let Some(number) = denied {
            let witness = table.filter(number, values).and_then(|deny| overlap(filter, &deny));
            return Err(Denial::Denied { rule: Box::new(table.rule(number).clone()), witness });
        }
        let mut uncovered = Vec::new();
        for least in (0..=qos).rev() {
            let mut cover = Cover { rights: self, share, least, work };
            match cover.whole(filter) {
                Ok(rule) => return Ok(Granted { rule: table.rule(rule).clone(), qos: least }),
                Err(Uncovered::Topic(topic)) => uncovered = topic,
                Err(Uncovered::Unknown) => return Err(self.too_much()),
            }
        }
        let in_part = self.allows_in_part(filter, share, work).map_err(|Exhausted| self.too_much())?;
        let cover = Cover { rights: self, share, least: 0, work };
        let witness = in_part.then(|| cover.named(&uncovered));
        Err(self.no_rule(witness, shown(self.subscribe_filters())))
    }

    fn too_much(&self) -> Denial {
        Denial::TooMuchWork { edition: self.edition }
    }

    /// Whether an allow gives some of what a filter matches.
    fn allows_in_part(&self, filter: &TopicFilter, share: Option<&str>, work: &mut Work) -> Result<bool, Exhausted> {
        let Own { table, values, .. } = &self.own;
        let counts = |rule: RuleNumber| table.rule(rule).share.as_deref() == share;
        if table.subscribe.allows.meeting(filter, (values, Missing::Nothing), work, &mut |rule| counts(rule))? {
            return Ok(true);
        }
        match &self.children {
            Some(children) => {
                let mut visit = |(rule, _): ForChild| counts(rule);
                children.subscribe.meeting(filter, (&[], Missing::Nothing), work, &mut visit)
            }
            None => Ok(false),
        }
    }

    /// The length of the longest rule that a subscription of the device could meet.
    pub(super) fn longest_subscribe(&self) -> usize {
        let side = &self.own.table.subscribe;
        let own = side.allows.depth().max(side.denies.depth());
        self.children.as_ref().map_or(own, |children| own.max(children.longest))
    }

    pub(super) fn rule(&self, number: RuleNumber) -> &Rule {
        self.own.table.rule(number)
    }

    /// Calls `visit` with the allows for the device itself that match a topic.
    pub(super) fn each_subscribe(&self, topic: &[&str], visit: &mut impl FnMut(RuleNumber)) {
        let Own { table, values, .. } = &self.own;
        table.subscribe.allows.matching(topic, values, Missing::Nothing, &mut |rule| {
            visit(rule);
            false
        });
    }

    /// Calls `visit` with the allows for children that match a topic, and the child's place.
    pub(super) fn each_child_subscribe(&self, topic: &[&str], visit: &mut impl FnMut(RuleNumber, u32)) {
        let Some(children) = &self.children else { return };
        children.subscribe.matching(topic, &[], Missing::Nothing, &mut |(rule, child)| {
            visit(rule, child);
            false
        });
    }

    /// Whether a child's own denies take a topic away.
    pub(super) fn child_denies(&self, child: u32, topic: &[&str]) -> bool {
        self.children.as_ref().is_some_and(|children| children.child(child).denies(Act::Subscribe, topic))
    }

    /// A child's own denies of subscriptions.
    pub(super) fn child_deny_filters(&self, child: u32) -> Vec<TopicFilter> {
        let Some(children) = &self.children else { return Vec::new() };
        let child = children.child(child);
        child.filters(&child.table.subscribe.deny_rules).map(|(_, filter)| filter).collect()
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
        if self.not_reserved(topic).is_err() {
            return Delivery::Withhold;
        }
        if self.scope.as_ref().is_some_and(|scope| !scope.allows_delivery(topic)) {
            return Delivery::Withhold;
        }
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
