//! Patterns by their levels, so that a topic finds those that match it without looking at the others.

use smallvec::SmallVec;

use super::Missing;

/// The levels of a topic; those of most topics need no memory of their own.
pub(super) type Levels<'t> = SmallVec<[&'t str; 12]>;

/// Splits a topic, once for all questions about it.
pub(super) fn levels(topic: &str) -> Levels<'_> {
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

/// Below this many, looking at each name is faster than halving.
const FEW: usize = 6;

/// One level on the way into a trie.
#[derive(Debug, Clone, Copy)]
pub(super) enum Edge<'a> {
    /// This text.
    Is(&'a str),
    /// `+`.
    Any,
    /// The value with this number.
    Value(u16),
}

#[derive(Debug, Clone)]
pub(super) struct Node<T> {
    /// Sorted by name.
    named: Vec<(Box<str>, u32)>,
    pub(super) any: Option<u32>,
    pub(super) values: Vec<(u16, u32)>,
    /// Of patterns that end here.
    pub(super) ends: Vec<T>,
    /// Of patterns that end here with `#`.
    pub(super) open: Vec<T>,
}

impl<T> Default for Node<T> {
    fn default() -> Self {
        Self { named: Vec::new(), any: None, values: Vec::new(), ends: Vec::new(), open: Vec::new() }
    }
}

impl<T> Node<T> {
    /// Where a level that is this text leads.
    pub(super) fn named(&self, text: &str) -> Option<u32> {
        if self.named.len() <= FEW {
            return self.named.iter().find(|(name, _)| **name == *text).map(|(_, next)| *next);
        }
        let found = self.named.binary_search_by(|(name, _)| (**name).cmp(text)).ok()?;
        self.named.get(found).map(|(_, next)| *next)
    }

    /// Where levels that are texts lead.
    pub(super) fn all_named(&self) -> impl Iterator<Item = u32> {
        self.named.iter().map(|(_, next)| *next)
    }
}

/// Patterns with something of the caller's at the end of each.
#[derive(Debug, Clone)]
pub(super) struct Trie<T> {
    nodes: Vec<Node<T>>,
}

impl<T> Default for Trie<T> {
    fn default() -> Self {
        Self { nodes: vec![Node::default()] }
    }
}

impl<T: Copy> Trie<T> {
    pub(super) fn node(&self, at: u32) -> &Node<T> {
        &self.nodes[usize::try_from(at).unwrap_or(usize::MAX)]
    }

    fn node_mut(&mut self, at: u32) -> &mut Node<T> {
        &mut self.nodes[usize::try_from(at).unwrap_or(usize::MAX)]
    }

    pub(super) fn insert<'e>(&mut self, edges: impl Iterator<Item = Edge<'e>>, open: bool, leaf: T) {
        let mut at = 0;
        for edge in edges {
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
        let node = self.node_mut(at);
        if open { node.open.push(leaf) } else { node.ends.push(leaf) }
    }

    /// Calls `visit` for each pattern that matches `topic`, until it says that it has enough; says whether it did.
    /// `missing` tells what a value that is not there does.
    pub(super) fn matching(
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
