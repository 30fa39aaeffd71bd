//! Patterns by their levels, so that a topic finds those that match it without looking at the others.

use smallvec::SmallVec;

use super::{Level, TopicFilter};

/// The levels of a topic; those of most topics need no memory of their own.
pub(crate) type Levels<'t> = SmallVec<[&'t str; 12]>;

/// Splits a topic, once for all questions about it.
pub(crate) fn levels(topic: &str) -> Levels<'_> {
    let mut levels = Levels::new();
    let mut start = 0;
    for (at, byte) in topic.bytes().enumerate() {
        if byte == b'/' {
            levels.push(&topic[start..at]);
            start = at + 1;
        }
    }
    levels.push(&topic[start..]);
    levels
}

/// What a variable without a value does to a pattern.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Missing {
    /// The pattern stands for nothing: for allows, so that doubt gives no right.
    Nothing,
    /// The level becomes `+`: for denies, so that doubt takes no protection away.
    AnyLevel,
}

/// A level that occurs in no pattern and in no value: whatever matches it there matches every level. (`+` cannot be a level
/// of a topic, nor a text of a pattern.)
pub(crate) const ANY_NAME: &str = "+";

/// How much may be done for one question. Whoever runs out of it has no answer, and doubt denies.
#[derive(Debug, Clone, Copy)]
pub struct Work(u32);

/// The work that was allowed is done, and there is no answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Exhausted;

impl Work {
    /// So many steps, each of some tens of nanoseconds.
    #[must_use]
    pub const fn steps(steps: u32) -> Self {
        Self(steps)
    }

    /// Uses some up.
    pub(crate) fn spend(&mut self, steps: usize) -> Result<(), Exhausted> {
        let left = u32::try_from(steps).ok().and_then(|steps| self.0.checked_sub(steps));
        self.0 = left.unwrap_or(0);
        left.map(drop).ok_or(Exhausted)
    }
}

/// Below this many, looking at each name is faster than halving.
const FEW: usize = 6;

/// One level on the way into a trie.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Edge<'a> {
    /// This text.
    Is(&'a str),
    /// `+`.
    Any,
    /// The value with this number.
    Value(u16),
}

#[derive(Debug, Clone)]
pub(crate) struct Node<T> {
    /// Sorted by name.
    named: Vec<(Box<str>, u32)>,
    pub(crate) any: Option<u32>,
    pub(crate) values: Vec<(u16, u32)>,
    /// Of patterns that end here.
    pub(crate) ends: Vec<T>,
    /// Of patterns that end here with `#`.
    pub(crate) open: Vec<T>,
}

impl<T> Default for Node<T> {
    fn default() -> Self {
        Self { named: Vec::new(), any: None, values: Vec::new(), ends: Vec::new(), open: Vec::new() }
    }
}

impl<T> Node<T> {
    /// Where a level that is this text leads.
    pub(crate) fn named(&self, text: &str) -> Option<u32> {
        if self.named.len() <= FEW {
            return self.named.iter().find(|(name, _)| **name == *text).map(|(_, next)| *next);
        }
        let found = self.named.binary_search_by(|(name, _)| (**name).cmp(text)).ok()?;
        self.named.get(found).map(|(_, next)| *next)
    }

    /// Where levels that are texts lead.
    pub(crate) fn all_named(&self) -> impl Iterator<Item = u32> {
        self.named.iter().map(|(_, next)| *next)
    }
}

/// Patterns with something of the caller's at the end of each.
#[derive(Debug, Clone)]
pub(crate) struct Trie<T> {
    nodes: Vec<Node<T>>,
    depth: usize,
}

impl<T> Default for Trie<T> {
    fn default() -> Self {
        Self { nodes: vec![Node::default()], depth: 0 }
    }
}

impl<T: Copy> Trie<T> {
    /// Puts a filter in.
    pub(crate) fn insert_filter(&mut self, filter: &TopicFilter, leaf: T) {
        let edges = filter.levels().iter().map(|level| match level {
            Level::Is(text) => Edge::Is(text),
            Level::Any => Edge::Any,
        });
        self.insert(edges, filter.is_open(), leaf);
    }

    /// How many levels the longest pattern has before its `#`.
    pub(crate) fn depth(&self) -> usize {
        self.depth
    }

    /// Calls `visit` for each pattern that has a topic in common with `filter`, until it says that it has enough; says whether
    /// it did.
    ///
    /// # Errors
    /// The work is done; what was not visited may be anything.
    pub(crate) fn meeting(
        &self,
        filter: &TopicFilter,
        (values, missing): (&[Option<Box<str>>], Missing),
        work: &mut Work,
        visit: &mut impl FnMut(T) -> bool,
    ) -> Result<bool, Exhausted> {
        Meeting { trie: self, filter, values, missing, work }.from(0, 0, visit)
    }

    pub(crate) fn node(&self, at: u32) -> &Node<T> {
        &self.nodes[usize::try_from(at).unwrap_or(usize::MAX)]
    }

    fn node_mut(&mut self, at: u32) -> &mut Node<T> {
        &mut self.nodes[usize::try_from(at).unwrap_or(usize::MAX)]
    }

    pub(crate) fn insert<'e>(&mut self, edges: impl Iterator<Item = Edge<'e>>, open: bool, leaf: T) {
        let mut at = 0;
        let mut depth = 0;
        for edge in edges {
            depth += 1;
            let fresh = u32::try_from(self.nodes.len()).unwrap_or(u32::MAX);
            let node = self.node_mut(at);
            let next = match edge {
                Edge::Is(text) => match node.named.binary_search_by(|(name, _)| (**name).cmp(text)) {
                    Ok(found) => node.named[found].1,
                    Err(place) => {
                        node.named.insert(place, (text.into(), fresh));
                        fresh
                    }
                },
                Edge::Any => *node.any.get_or_insert(fresh),
                Edge::Value(number) => match node.values.iter().find(|(found, _)| *found == number) {
                    Some((_, next)) => *next,
                    None => {
                        node.values.push((number, fresh));
                        fresh
                    }
                },
            };
            if next == fresh {
                self.nodes.push(Node::default());
            }
            at = next;
        }
        self.depth = self.depth.max(depth);
        let node = self.node_mut(at);
        if open { node.open.push(leaf) } else { node.ends.push(leaf) }
    }

    /// Calls `visit` for each pattern that matches `topic`, until it says that it has enough; says whether it did.
    /// `missing` tells what a value that is not there does.
    pub(crate) fn matching(
        &self,
        topic: &[&str],
        values: &[Option<Box<str>>],
        missing: Missing,
        visit: &mut impl FnMut(T) -> bool,
    ) -> bool {
        let walk = Walk { trie: self, values, missing };
        // No leading wildcard matches a topic that begins with `$` (MQTT 5.0 section 4.7.2), and no value begins so.
        match topic.split_first() {
            Some((first, rest)) if first.starts_with('$') => {
                self.node(0).named(first).is_some_and(|next| walk.from(next, rest, visit))
            }
            _ => walk.from(0, topic, visit),
        }
    }
}

impl<T: Copy> Trie<T> {
    /// Like [`Trie::matching`], but only for patterns that end in `#`, for every topic that begins with these levels.
    pub(crate) fn matching_open(&self, topic: &[&str], visit: &mut impl FnMut(T) -> bool) -> bool {
        let dollar = topic.first().is_some_and(|first| first.starts_with('$'));
        self.open_from(0, topic, dollar, visit)
    }

    fn open_from(&self, at: u32, rest: &[&str], dollar: bool, visit: &mut impl FnMut(T) -> bool) -> bool {
        let node = self.node(at);
        // No leading wildcard matches a topic that begins with `$`.
        let hidden = dollar && at == 0;
        if !hidden && node.open.iter().any(|leaf| visit(*leaf)) {
            return true;
        }
        let Some((level, rest)) = rest.split_first() else { return false };
        node.named(level).is_some_and(|next| self.open_from(next, rest, dollar, visit))
            || (!hidden && node.any.is_some_and(|next| self.open_from(next, rest, dollar, visit)))
    }
}

struct Walk<'a, T> {
    trie: &'a Trie<T>,
    values: &'a [Option<Box<str>>],
    missing: Missing,
}

impl<T: Copy> Walk<'_, T> {
    /// As deep as the patterns are, which is bounded, whatever the topic.
    fn from(&self, at: u32, rest: &[&str], visit: &mut impl FnMut(T) -> bool) -> bool {
        let node = self.trie.node(at);
        if node.open.iter().any(|leaf| visit(*leaf)) {
            return true;
        }
        let Some((level, rest)) = rest.split_first() else { return node.ends.iter().any(|leaf| visit(*leaf)) };
        if let Some(next) = node.named(level)
            && self.from(next, rest, visit)
        {
            return true;
        }
        for (number, next) in &node.values {
            let fits = match (self.values.get(usize::from(*number)), self.missing) {
                (Some(Some(value)), _) => **value == **level,
                (_, Missing::AnyLevel) => true,
                (_, Missing::Nothing) => false,
            };
            if fits && self.from(*next, rest, visit) {
                return true;
            }
        }
        node.any.is_some_and(|next| self.from(next, rest, visit))
    }
}

/// A walk along a filter.
struct Meeting<'a, T> {
    trie: &'a Trie<T>,
    filter: &'a TopicFilter,
    values: &'a [Option<Box<str>>],
    missing: Missing,
    work: &'a mut Work,
}

impl<T: Copy> Meeting<'_, T> {
    /// As deep as the patterns are.
    fn from(&mut self, at: u32, depth: usize, visit: &mut impl FnMut(T) -> bool) -> Result<bool, Exhausted> {
        let node = self.trie.node(at);
        self.work.spend(1 + node.open.len() + node.ends.len())?;
        let first = self.filter.levels().first();
        let dollar = |text: &str| text.starts_with('$');
        // No leading wildcard matches a topic that begins with `$` (MQTT 5.0 section 4.7.2), on either side.
        let hidden = depth == 0 && matches!(first, Some(Level::Is(text)) if dollar(text));
        if !hidden && node.open.iter().any(|leaf| visit(*leaf)) {
            return Ok(true);
        }
        let level = self.filter.levels().get(depth);
        // One empty level would be an empty topic, and there is none.
        let nameless =
            |text: &str| depth == 0 && text.is_empty() && self.filter.levels().len() == 1 && !self.filter.is_open();
        let beside_nameless = depth == 1 && matches!(first, Some(Level::Is(text)) if text.is_empty());
        if level.is_none() && !beside_nameless && node.ends.iter().any(|leaf| visit(*leaf)) {
            return Ok(true);
        }
        if level.is_none() && !self.filter.is_open() {
            return Ok(false);
        }
        if let Some(Level::Is(text)) = level {
            if let Some(next) = node.named(text).filter(|_| !nameless(text))
                && self.from(next, depth + 1, visit)?
            {
                return Ok(true);
            }
        } else {
            for (name, next) in &node.named {
                let none = nameless(name) || (depth == 0 && dollar(name));
                if !none && self.from(*next, depth + 1, visit)? {
                    return Ok(true);
                }
            }
        }
        if hidden {
            return Ok(false);
        }
        for (number, next) in &node.values {
            let fits = match (self.values.get(usize::from(*number)), self.missing, level) {
                (Some(Some(value)), _, Some(Level::Is(text))) => **value == **text,
                (Some(Some(_)), _, _) | (_, Missing::AnyLevel, _) => true,
                (_, Missing::Nothing, _) => false,
            };
            if fits && self.from(*next, depth + 1, visit)? {
                return Ok(true);
            }
        }
        match node.any {
            Some(next) => self.from(next, depth + 1, visit),
            None => Ok(false),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::topic::{intersection, set::tests::any_filter};

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20_000))]

        #[test]
        fn what_a_filter_meets_is_what_it_has_topics_in_common_with(
            of in any_filter(),
            all in proptest::collection::vec(any_filter(), 0..6),
        ) {
            let mut trie = Trie::default();
            all.iter().enumerate().for_each(|(at, filter)| trie.insert_filter(filter, at));
            let mut met = Vec::new();
            let mut work = Work::steps(1_000);
            trie.meeting(&of, (&[], Missing::Nothing), &mut work, &mut |at| {
                met.push(at);
                false
            }).unwrap();
            met.sort_unstable();
            let want: Vec<usize> = (0..all.len()).filter(|at| intersection(&of, &all[*at]).is_some()).collect();
            prop_assert_eq!(met, want, "{} among {:?}", of, all);
        }
    }

    #[test]
    fn a_walk_without_end_is_given_up() {
        let mut trie = Trie::default();
        (0..1_000).for_each(|at| trie.insert_filter(&format!("a/{at}/b").parse().unwrap(), at));
        let none = |_| false;
        let mut work = Work::steps(500);
        let filter = "a/+/c".parse().unwrap();
        assert_eq!(trie.meeting(&filter, (&[], Missing::Nothing), &mut work, &mut { none }), Err(Exhausted));
        let mut work = Work::steps(5_000);
        assert_eq!(trie.meeting(&filter, (&[], Missing::Nothing), &mut work, &mut { none }), Ok(false));
    }
}
