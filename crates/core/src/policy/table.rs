//! The rules of one selection of policies, made ready for deciding. All devices that the same policies select share one
//! table; what differs between them are the values of its variables.

use std::sync::Arc;

use crate::topic::TopicFilter;

use super::pattern::Speaker;
use super::{Act, ClientIdForm, Effect, Missing, Pattern, PatternLevel, Policy, Rule, Target, Variable};
use crate::topic::trie::{Edge, Trie};

/// The number of a rule in its table; rules stand in the order of files and lines.
pub(super) type RuleNumber = u32;

/// Allows and denies of one act.
#[derive(Debug, Default)]
pub(super) struct Side {
    pub(super) allows: Trie<RuleNumber>,
    pub(super) denies: Trie<RuleNumber>,
    /// The rules of `allows` and `denies`, for questions about whole filters.
    pub(super) allow_rules: Vec<RuleNumber>,
    pub(super) deny_rules: Vec<RuleNumber>,
}

/// The rules of a selection of policies.
#[derive(Debug)]
pub(super) struct Table {
    pub(super) policies: Vec<Arc<Policy>>,
    rules: Vec<(usize, usize)>,
    /// The variables of the rules that are not for children; their places are the numbers of the values.
    pub(super) variables: Vec<Variable>,
    pub(super) publish: Side,
    pub(super) subscribe: Side,
    /// The first rule for each form of client identifier.
    connects: Vec<(Effect, ClientIdForm, RuleNumber)>,
    pub(super) for_children: Vec<RuleNumber>,
}

impl Table {
    pub(super) fn new(policies: Vec<Arc<Policy>>) -> Self {
        let mut table = Self {
            policies,
            rules: Vec::new(),
            variables: vec![Variable::Device],
            publish: Side::default(),
            subscribe: Side::default(),
            connects: Vec::new(),
            for_children: Vec::new(),
        };
        for (at, policy) in table.policies.iter().enumerate() {
            for (index, rule) in policy.rules.iter().enumerate() {
                let number = RuleNumber::try_from(table.rules.len()).unwrap_or(RuleNumber::MAX);
                table.rules.push((at, index));
                if rule.for_children {
                    table.for_children.push(number);
                    continue;
                }
                let (side, pattern) = match &rule.target {
                    Target::Connect(form) => {
                        let known = |(effect, found, _): &(Effect, ClientIdForm, RuleNumber)| {
                            (*effect, *found) == (rule.effect, *form)
                        };
                        if !table.connects.iter().any(known) {
                            table.connects.push((rule.effect, *form, number));
                        }
                        continue;
                    }
                    Target::Publish(pattern) => (&mut table.publish, pattern),
                    Target::Subscribe(pattern) => (&mut table.subscribe, pattern),
                };
                for variable in pattern.variables() {
                    if !table.variables.contains(variable) {
                        table.variables.push(variable.clone());
                    }
                }
                let (trie, list) = match rule.effect {
                    Effect::Allow => (&mut side.allows, &mut side.allow_rules),
                    Effect::Deny => (&mut side.denies, &mut side.deny_rules),
                };
                trie.insert(edges(pattern, &table.variables), pattern.open, number);
                list.push(number);
            }
        }
        table
    }

    pub(super) fn rule(&self, number: RuleNumber) -> &Rule {
        let (policy, index) = self.rules[usize::try_from(number).unwrap_or(usize::MAX)];
        &self.policies[policy].rules[index]
    }

    pub(super) fn side(&self, act: Act) -> &Side {
        if act == Act::Publish { &self.publish } else { &self.subscribe }
    }

    /// The first connect rule of an effect whose form `fits`.
    pub(super) fn connect(&self, effect: Effect, fits: impl Fn(ClientIdForm) -> bool) -> Option<&Rule> {
        let found = self.connects.iter().filter(|(found, form, _)| *found == effect && fits(*form));
        found.map(|(_, _, number)| *number).min().map(|number| self.rule(number))
    }

    /// The forms of client identifier that rules of an effect speak of.
    pub(super) fn forms(&self, effect: Effect) -> impl Iterator<Item = ClientIdForm> {
        self.connects.iter().filter(move |(found, ..)| *found == effect).map(|(_, form, _)| *form)
    }

    /// The values of the table's variables for a device.
    pub(super) fn values(&self, speaker: Speaker<'_>) -> Box<[Option<Box<str>>]> {
        self.variables.iter().map(|variable| variable.value(speaker).map(Box::from)).collect()
    }

    /// The topics of a rule that is not for children, with values put in.
    pub(super) fn filter(&self, number: RuleNumber, values: &[Option<Box<str>>]) -> Option<TopicFilter> {
        let rule = self.rule(number);
        let missing = if rule.effect == Effect::Allow { Missing::Nothing } else { Missing::AnyLevel };
        rule.target.pattern()?.bind(missing, |variable| {
            let at = self.variables.iter().position(|found| found == variable)?;
            values.get(at)?.as_deref()
        })
    }
}

fn edges<'p>(pattern: &'p Pattern, variables: &'p [Variable]) -> impl Iterator<Item = Edge<'p>> {
    pattern.levels.iter().map(|level| match level {
        PatternLevel::Is(text) => Edge::Is(text),
        PatternLevel::Any => Edge::Any,
        PatternLevel::Variable(variable) => {
            let at = variables.iter().position(|found| found == variable);
            Edge::Value(at.and_then(|at| u16::try_from(at).ok()).unwrap_or(u16::MAX))
        }
    })
}
