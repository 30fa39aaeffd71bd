//! Proving `sole` claims over the whole fleet, or refuting them with a topic and two devices.
//!
//! Everything that any device may publish goes into one tree by levels. A claim is followed down the tree, which finds
//! every rule that could meet it without looking at the others; what is found is then decided exactly.

use std::collections::HashMap;

use crate::device::DeviceRecord;
use crate::id::DeviceId;
use crate::topic::{Level, TopicFilter, intersection, uncovered};

use super::{Edition, Missing, Rights, Rule, Sole};

/// A claim that does not hold.
#[derive(Debug, Clone)]
pub(super) struct Refuted<'a> {
    pub(super) sole: &'a Sole,
    /// A topic that another device can publish to.
    pub(super) topic: String,
    /// For whom it was claimed.
    pub(super) subject: DeviceId,
    /// Who can.
    pub(super) other: DeviceId,
    /// By which rule.
    pub(super) rule: Rule,
}

/// What one device may publish by one of its allows.
#[derive(Clone, Copy)]
struct Leaf {
    device: usize,
    allow: usize,
}

#[derive(Default)]
struct Node {
    named: HashMap<Box<str>, usize>,
    any: Option<usize>,
    /// Filters that end here.
    ends: Vec<Leaf>,
    /// Filters that end here with `#`.
    open: Vec<Leaf>,
}

struct Tree {
    nodes: Vec<Node>,
}

impl Tree {
    fn insert(&mut self, filter: &TopicFilter, leaf: Leaf) {
        let mut at = 0;
        for level in filter.levels() {
            let fresh = self.nodes.len();
            let next = match level {
                Level::Is(text) => *self.nodes[at].named.entry(text.clone()).or_insert(fresh),
                Level::Any => *self.nodes[at].any.get_or_insert(fresh),
            };
            if next == fresh {
                self.nodes.push(Node::default());
            }
            at = next;
        }
        let node = &mut self.nodes[at];
        if filter.is_open() { node.open.push(leaf) } else { node.ends.push(leaf) }
    }

    /// Calls `visit` with every filter that could have a topic in common with `filter`, until it says that it has enough.
    fn meeting(&self, filter: &TopicFilter, visit: &mut dyn FnMut(Leaf) -> bool) {
        // Nodes to look at, and how many levels of `filter` lead to each.
        let mut todo = vec![(0usize, 0usize)];
        while let Some((at, depth)) = todo.pop() {
            let node = &self.nodes[at];
            let done = depth >= filter.levels().len();
            let ends = if done { node.ends.as_slice() } else { &[] };
            if node.open.iter().chain(ends).any(|leaf| visit(*leaf)) {
                return;
            }
            match filter.levels().get(depth) {
                Some(Level::Is(text)) => todo.extend(node.named.get(text).map(|next| (*next, depth + 1))),
                Some(Level::Any) => todo.extend(node.named.values().map(|next| (*next, depth + 1))),
                None if filter.is_open() => todo.extend(node.named.values().map(|next| (*next, depth + 1))),
                None => continue,
            }
            todo.extend(node.any.map(|next| (next, depth + 1)));
        }
    }
}

/// Decides every `sole` claim of the edition; gives the first counterexample to each line that does not hold.
pub(super) fn refuted<'a>(edition: &'a Edition, devices: &[DeviceRecord]) -> Vec<Refuted<'a>> {
    let mut tree = Tree { nodes: vec![Node::default()] };
    let rights: Vec<Rights> = devices.iter().map(|device| edition.rights(device)).collect();
    for (device, rights) in rights.iter().enumerate() {
        for (allow, bound) in rights.publish_allows().iter().enumerate() {
            tree.insert(bound.filter(), Leaf { device, allow });
        }
    }
    let mut found = Vec::new();
    for policy in &edition.policies {
        for sole in &policy.soles {
            let subjects = devices
                .iter()
                .filter(|device| policy.subjects.holds(&crate::condition::Candidate { device, state: None }));
            let first = subjects.filter_map(|subject| refute(sole, subject, devices, &rights, &tree)).next();
            found.extend(first);
        }
    }
    found
}

fn refute<'a>(
    sole: &'a Sole,
    subject: &DeviceRecord,
    devices: &[DeviceRecord],
    rights: &[Rights],
    tree: &Tree,
) -> Option<Refuted<'a>> {
    let claimed = sole.pattern.bind(subject, Missing::Nothing)?;
    let mut found = None;
    tree.meeting(&claimed, &mut |leaf| {
        let (Some(other), Some(rights)) = (devices.get(leaf.device), rights.get(leaf.device)) else { return false };
        if other.id == subject.id || subject.gateway.as_ref() == Some(&other.id) {
            return false;
        }
        let Some(allow) = rights.publish_allows().get(leaf.allow) else { return false };
        let denies = rights.publish_denies().iter().map(|bound| bound.filter());
        found = intersection(&claimed, allow.filter()).and_then(|both| uncovered(&both, denies)).map(|topic| Refuted {
            sole,
            topic,
            subject: subject.id.clone(),
            other: other.id.clone(),
            rule: allow.rule().clone(),
        });
        found.is_some()
    });
    found
}
