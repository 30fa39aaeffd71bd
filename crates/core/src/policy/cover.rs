//! Whether rules allow all that a filter can match, in time near linear in the rules, with a bound on the work.
//!
//! A topic with a name that occurs nowhere at the place of each wildcard is matched only by rules that match every topic of
//! its length in the filter ([`crate::topic`] has the argument). So the tries that decide single topics answer for whole
//! filters: a rule that is found covers all of that length, but for what the denies of the child that it speaks for take
//! away; and each of those is a filter again, narrower in one level at least.

use std::collections::HashSet;

use crate::topic::trie::ANY_NAME;
use crate::topic::{Exhausted, Level, TopicFilter, Work, intersection};

use super::Rule;
use super::decide::Rights;
use super::table::RuleNumber;

/// Why a filter is not covered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Uncovered {
    /// A topic of it that no rule allows, in which [`ANY_NAME`] stands for every name that occurs in no rule.
    Topic(Vec<Box<str>>),
    /// Nobody knows: the work that was allowed is done.
    Unknown,
}

impl From<Exhausted> for Uncovered {
    fn from(_: Exhausted) -> Self {
        Self::Unknown
    }
}

/// A question: which rules count, and how much may be done.
pub(super) struct Cover<'r, 'w> {
    pub(super) rights: &'r Rights,
    /// The share of the subscription, if it is a shared one.
    pub(super) share: Option<&'r str>,
    /// The QoS that a rule must give.
    pub(super) least: u8,
    pub(super) work: &'w mut Work,
}

impl Cover<'_, '_> {
    /// The first rule, in the order of files and lines, of those that give all of `filter`. The device's own denies are none
    /// of its business.
    pub(super) fn whole(&mut self, filter: &TopicFilter) -> Result<RuleNumber, Uncovered> {
        let base = filter.levels().len();
        // A topic has one level at least, and is not empty.
        let shortest = match filter.levels() {
            [] => 1,
            [Level::Is(only)] if only.is_empty() => 2,
            _ => base,
        };
        // Past the longest rule only rules that end in `#` match, and every such length alike.
        let last = if filter.is_open() { self.rights.longest_subscribe().max(base) + 1 } else { base };
        let mut first = RuleNumber::MAX;
        for len in shortest..=last {
            let mut topic: Vec<Box<str>> = Vec::with_capacity(len);
            topic.extend(filter.levels().iter().map(|level| match level {
                Level::Is(text) => text.clone(),
                Level::Any => ANY_NAME.into(),
            }));
            topic.resize(len, ANY_NAME.into());
            first = first.min(self.at_length(topic, &mut HashSet::new())?);
        }
        Ok(first)
    }

    /// The topic with a name for every [`ANY_NAME`] that changes nothing about the decision; for people.
    pub(super) fn named(&self, topic: &[Box<str>]) -> String {
        let with = |name: &str| -> Vec<Box<str>> {
            topic.iter().map(|level| if **level == *ANY_NAME { name.into() } else { level.clone() }).collect()
        };
        // A short one; ids and values have at most 64 characters, so that the last one is none of them.
        let mut candidates = (1..=65).map(|count| with(&"x".repeat(count)));
        let found = candidates.find(|named| {
            let work = &mut Work::steps(10_000);
            let mut alone = Cover { rights: self.rights, share: self.share, least: self.least, work };
            matches!(alone.at_length(named.clone(), &mut HashSet::new()), Err(Uncovered::Topic(_)))
        });
        found.unwrap_or_else(|| with(&"x".repeat(65))).join("/")
    }

    fn counts(&self, rule: &Rule) -> bool {
        rule.share.as_deref() == self.share && rule.limits.qos.is_none_or(|limit| limit >= self.least)
    }

    /// The same for the topics of one length that `topic` stands for; `seen` are those that were found to be covered.
    fn at_length(&mut self, topic: Vec<Box<str>>, seen: &mut HashSet<Vec<Box<str>>>) -> Result<RuleNumber, Uncovered> {
        let names: Vec<&str> = topic.iter().map(AsRef::as_ref).collect();
        let mut plain: Option<RuleNumber> = None;
        let mut found = 0;
        self.rights.each_subscribe(&names, &mut |rule| {
            found += 1;
            if self.counts(self.rights.rule(rule)) {
                plain = Some(plain.map_or(rule, |known| known.min(rule)));
            }
        });
        self.work.spend(names.len() + found)?;
        if let Some(rule) = plain {
            return Ok(rule);
        }
        // What the gateway may do for children: the one with the fewest denies in the way.
        let mut for_children = Vec::new();
        self.rights.each_child_subscribe(&names, &mut |rule, child| for_children.push((rule, child)));
        self.work.spend(for_children.len())?;
        for_children.retain(|(rule, _)| self.counts(self.rights.rule(*rule)));
        let mut best: Option<(RuleNumber, Vec<TopicFilter>)> = None;
        let here = fixed(&topic);
        for (rule, child) in for_children {
            if self.rights.child_denies(child, &names) {
                continue;
            }
            let denies = self.rights.child_deny_filters(child);
            self.work.spend(1 + denies.len())?;
            let exceptions: Vec<TopicFilter> = denies.iter().filter_map(|deny| intersection(&here, deny)).collect();
            if exceptions.is_empty() {
                return Ok(rule);
            }
            if best.as_ref().is_none_or(|(_, fewest)| exceptions.len() < fewest.len()) {
                best = Some((rule, exceptions));
            }
        }
        // A topic that is not covered is not, whichever rule one looks through: no other choice needs to be tried.
        let Some((rule, exceptions)) = best else { return Err(Uncovered::Topic(topic)) };
        for exception in exceptions {
            let narrower: Vec<Box<str>> = exception
                .levels()
                .iter()
                .map(|level| match level {
                    Level::Is(text) => text.clone(),
                    Level::Any => ANY_NAME.into(),
                })
                .collect();
            if seen.contains(&narrower) {
                continue;
            }
            self.work.spend(narrower.len())?;
            self.at_length(narrower.clone(), seen)?;
            seen.insert(narrower);
        }
        Ok(rule)
    }
}

/// The filter for the topics of one length that a text stands for.
fn fixed(topic: &[Box<str>]) -> TopicFilter {
    let level = |name: &str| if name == ANY_NAME { Level::Any } else { Level::Is(name.into()) };
    TopicFilter::from_levels(topic.iter().map(|name| level(name)).collect(), false)
}
