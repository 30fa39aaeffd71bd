//! What policies see of devices, and what of it the editions at hand look at.

use std::collections::{BTreeSet, HashSet};

use crate::condition::{Condition, Field, Found, Traits};
use crate::id::{GroupName, KindName, LabelName};

use super::super::{Edition, PatternLevel, Variable};

use super::FleetRow;

/// What the editions at hand look at.
#[derive(Debug, Default)]
pub(super) struct Interest {
    pub(super) labels: Vec<LabelName>,
    /// Those that conditions name, which may be facts of the ward's own.
    pub(super) names: BTreeSet<LabelName>,
    /// Those of them that are.
    pub(super) own: BTreeSet<LabelName>,
    pub(super) groups: Vec<GroupName>,
    pub(super) gateway: bool,
    pub(super) owner: bool,
    pub(super) facts: bool,
    /// Texts that patterns name, and those that the caller asks about.
    pub(super) texts: HashSet<Box<str>>,
}

impl Interest {
    pub(super) fn of<'p>(editions: &[&'p Edition], texts: impl IntoIterator<Item = &'p str>) -> Self {
        let mut interest = Self { texts: texts.into_iter().map(Box::from).collect(), ..Self::default() };
        let (mut labels, mut names, mut groups) = (BTreeSet::new(), BTreeSet::new(), BTreeSet::new());
        for policy in editions.iter().flat_map(|edition| &edition.policies) {
            policy.subjects.each_leaf(&mut |leaf| match leaf {
                Condition::Text(Field::Named(name), _) => {
                    labels.insert(name.clone());
                    names.insert(name.clone());
                }
                Condition::Text(Field::Gateway, _) => interest.gateway = true,
                Condition::Text(Field::Owner, _) => interest.owner = true,
                Condition::Text(Field::Fact(_), _) => interest.facts = true,
                Condition::Group(name, None) => drop(groups.insert(name.clone())),
                _ => {}
            });
            let rules = policy.rules.iter().filter_map(|rule| rule.target.pattern());
            for level in rules.chain(policy.soles.iter().map(|sole| &sole.pattern)).flat_map(|pattern| &pattern.levels)
            {
                match level {
                    PatternLevel::Is(text) => drop(interest.texts.insert(text.as_str().into())),
                    PatternLevel::Variable(Variable::Label(name)) => drop(labels.insert(name.clone())),
                    PatternLevel::Variable(Variable::Gateway) => interest.gateway = true,
                    PatternLevel::Variable(Variable::Owner) => interest.owner = true,
                    PatternLevel::Variable(_) | PatternLevel::Any => {}
                }
            }
        }
        interest.labels = labels.into_iter().collect();
        interest.names = names;
        interest.groups = groups.into_iter().collect();
        interest
    }
}

/// All that policies see of a device but its id and facts.
#[derive(Debug)]
pub(super) struct Profile {
    pub(super) kind: KindName,
    pub(super) owner: Option<Box<str>>,
    pub(super) gateway: Option<Box<str>>,
    pub(super) labels: Vec<Option<Box<str>>>,
    pub(super) groups: Vec<bool>,
    /// For each edition the policies that select every device of the profile, and those that depend on the device.
    pub(super) selected: Vec<Selected>,
}

#[derive(Debug)]
pub(super) struct Selected {
    pub(super) sure: Vec<u32>,
    pub(super) open: Vec<u32>,
    /// The class of the profile's devices where nothing is open, per edition.
    pub(super) selection: Option<u32>,
}

impl Profile {
    /// Every value that a pattern could name, with what names it.
    pub(super) fn values<'p>(&'p self, interest: &'p Interest) -> impl Iterator<Item = (Variable, &'p str)> {
        let labels = interest.labels.iter().zip(&self.labels);
        let labels = labels.filter_map(|(name, value)| Some((Variable::Label(name.clone()), value.as_deref()?)));
        [(Variable::Kind, Some(self.kind.as_str())), (Variable::Owner, self.owner.as_deref())]
            .into_iter()
            .chain([(Variable::Gateway, self.gateway.as_deref())])
            .filter_map(|(variable, value)| Some((variable, value?)))
            .chain(labels)
    }

    pub(super) fn names(&self, text: &str) -> bool {
        self.kind.as_str() == text
            || [&self.owner, &self.gateway].into_iter().chain(&self.labels).any(|value| value.as_deref() == Some(text))
    }
}

/// A row against conditions; its id and facts are open where only its profile is meant.
pub(super) struct Seen<'a> {
    pub(super) profile: &'a Profile,
    pub(super) interest: &'a Interest,
    pub(super) row: Option<&'a FleetRow<'a>>,
}

impl Traits for Seen<'_> {
    fn text(&self, field: &Field) -> Found<'_> {
        let profile = self.profile;
        match (field, self.row) {
            (Field::Id, Some(row)) => Found::Is(row.id),
            (Field::Fact(name), Some(row)) => fact(row, name.as_str()).into(),
            (Field::Id | Field::Fact(_), None) => Found::Unknown,
            (Field::Kind, _) => Found::Is(profile.kind.as_str()),
            (Field::State | Field::Note, _) => Found::Missing,
            (Field::Owner, _) => profile.owner.as_deref().into(),
            (Field::Gateway, _) => profile.gateway.as_deref().into(),
            (Field::Named(name), row) => {
                let at = self.interest.labels.binary_search(name).ok();
                match (at.and_then(|at| profile.labels.get(at)?.as_deref()), row) {
                    (Some(label), _) => Found::Is(label),
                    (None, Some(row)) => fact(row, name.as_str()).into(),
                    (None, None) if self.interest.own.contains(name) => Found::Unknown,
                    (None, None) => Found::Missing,
                }
            }
        }
    }

    fn in_group(&self, group: &GroupName) -> Option<bool> {
        let at = self.interest.groups.binary_search(group).ok();
        Some(at.is_some_and(|at| self.profile.groups.get(at) == Some(&true)))
    }
}

fn fact<'a>(row: &'a FleetRow<'_>, name: &str) -> Option<&'a str> {
    row.facts.iter().find(|(found, _)| found == name).map(|(_, value)| &**value)
}
