//! Proving `sole` claims over the whole fleet, or refuting them with a topic and two devices.
//!
//! Everything that any class of devices may publish goes into one tree by levels. A claim is followed down the tree; on
//! the way it is noted what the ids of those who meet there must be. Where both levels are the own ids of claimant and
//! publisher, they are the same device, and where the publisher speaks for the claimant, it is its gateway: neither
//! refutes the claim, and the branch ends. What is left at the end of a branch is decided exactly.

use std::collections::{HashMap, HashSet};

use crate::id::DeviceId;
use crate::settings::Settings;
use crate::topic::{Level, Piece, TopicFilter, intersection};

use super::fleet::{CHILD, Fleet, OWN, Part, Voice, Who, renamed};
use super::table::RuleNumber;
use super::{Act, Missing, Policy, Rule, Sole};
use crate::topic::trie::{Edge, Trie};

/// Stands for the claimant's id, beside the publisher's and its child's.
const CLAIMANT: &str = "{claimant}";

/// The publisher's own id, and its child's, as numbers of the tree's values.
const OWN_VALUE: u16 = 0;
const CHILD_VALUE: u16 = 1;

/// Who else can publish where a claim says that nobody can.
#[derive(Debug, Clone)]
pub(super) struct Witness {
    /// A topic that another device can publish to.
    pub(super) topic: String,
    /// For whom it was claimed.
    pub(super) subject: DeviceId,
    /// Who can.
    pub(super) other: DeviceId,
    /// For which child, if it can as a gateway.
    pub(super) child: Option<DeviceId>,
    /// By which rule.
    pub(super) rule: Rule,
}

/// A claim, and what became of it.
#[derive(Debug, Clone)]
pub(super) struct Judged<'e> {
    pub(super) sole: &'e Sole,
    /// How many devices it is claimed for.
    pub(super) subjects: u64,
    pub(super) refuted: Option<Witness>,
}

/// What one voice may publish by one of its allows.
type Leaf = (u32, RuleNumber);

struct Publishers<'f, 'e> {
    fleet: &'f Fleet<'e>,
    voices: Vec<Voice>,
    own_voices: usize,
    tree: Trie<Leaf>,
    /// The texts in the tree that are ids of devices.
    ids: HashMap<Box<str>, u32>,
}

/// What the ids of claimant, publisher and child must be, as far as levels say.
#[derive(Debug, Clone, Default)]
struct Ids<'a> {
    claimant: Option<&'a str>,
    publisher: Option<&'a str>,
    child: Option<&'a str>,
}

/// Notes that an id must be `text`; no if it must be another.
fn must_be<'a>(slot: &mut Option<&'a str>, text: &'a str) -> bool {
    *slot.get_or_insert(text) == text
}

/// Decides every `sole` claim of the fleet's first edition; gives the first counterexample to each that does not hold.
pub(super) fn judge<'e>(fleet: &Fleet<'e>, settings: &Settings) -> Vec<Judged<'e>> {
    let claims: Vec<(u32, &'e Policy, &'e Sole)> = (0u32..)
        .zip(&fleet.edition(0).policies)
        .flat_map(|(at, policy)| policy.soles.iter().map(move |sole| (at, &**policy, sole)))
        .collect();
    if claims.is_empty() {
        return Vec::new();
    }
    let mut voices = fleet.own_voices();
    let own_voices = voices.len();
    voices.extend(fleet.child_voices(settings));
    let mut tree = Trie::default();
    let mut texts: HashSet<Box<str>> = HashSet::new();
    for (at, voice) in (0u32..).zip(&voices) {
        let table = fleet.table(voice.part.class, 0);
        for (number, _, filter) in fleet.allows(voice.part, &table, Act::Publish) {
            let edges = filter.levels().iter().map(|level| match level {
                Level::Is(text) if **text == *OWN => Edge::Value(OWN_VALUE),
                Level::Is(text) if **text == *CHILD => Edge::Value(CHILD_VALUE),
                Level::Is(text) => Edge::Is(text),
                Level::Any => Edge::Any,
            });
            tree.insert(edges, filter.is_open(), (at, number));
            for level in filter.levels() {
                if let Level::Is(text) = level
                    && !texts.contains(text)
                {
                    texts.insert(text.clone());
                }
            }
        }
    }
    let ids = fleet.members_among(texts);
    let publishers = Publishers { fleet, voices, own_voices, tree, ids };
    claims
        .into_iter()
        .map(|(place, _, sole)| {
            let subjects = || {
                let own = publishers.voices.iter().take(publishers.own_voices);
                own.filter(|voice| fleet.selection(voice.part.class, 0).contains(&place))
            };
            let count = subjects().map(|voice| voice.members.len()).sum::<usize>();
            let refuted = subjects().find_map(|subject| publishers.refute(sole, subject));
            Judged { sole, subjects: u64::try_from(count).unwrap_or(u64::MAX), refuted }
        })
        .collect()
}

impl Publishers<'_, '_> {
    fn refute(&self, sole: &Sole, subject: &Voice) -> Option<Witness> {
        let claimed = self.fleet.bind(subject.part, &sole.pattern, Missing::Nothing)?;
        let claimed = renamed(&claimed, OWN, CLAIMANT);
        self.follow(&claimed, subject, 0, 0, Ids::default())
    }

    fn follow<'a>(
        &'a self,
        claimed: &'a TopicFilter,
        subject: &Voice,
        at: u32,
        depth: usize,
        ids: Ids<'a>,
    ) -> Option<Witness> {
        let node = self.tree.node(at);
        let ends = if depth >= claimed.levels().len() { node.ends.as_slice() } else { &[] };
        for leaf in node.open.iter().chain(ends) {
            if let Some(witness) = self.meet(claimed, subject, *leaf, &ids) {
                return Some(witness);
            }
        }
        let go = |next: u32, ids: Ids<'a>| self.follow(claimed, subject, next, depth + 1, ids);
        let level = match claimed.levels().get(depth) {
            Some(level) => level,
            None if claimed.is_open() => &Level::Any,
            None => return None,
        };
        if let Level::Is(text) = level
            && **text != *CLAIMANT
        {
            let found = node.named(text).and_then(|next| go(next, ids.clone()));
            let of_value = |(value, next): &(u16, u32)| {
                let mut ids = ids.clone();
                let slot = if *value == OWN_VALUE { &mut ids.publisher } else { &mut ids.child };
                must_be(slot, text).then(|| go(*next, ids)).flatten()
            };
            let found = found.or_else(|| node.values.iter().find_map(of_value));
            return found.or_else(|| node.any.and_then(|next| go(next, ids)));
        }
        let claimants = matches!(level, Level::Is(_));
        let found = if claimants {
            // The claimant's id meets a text only where a device has that id.
            self.ids.iter().find_map(|(text, member)| {
                let next = node.named(text)?;
                let mut ids = ids.clone();
                let fits = self.fleet.class_of(*member) == subject.part.class && must_be(&mut ids.claimant, text);
                fits.then(|| go(next, ids)).flatten()
            })
        } else {
            node.all_named().find_map(|next| go(next, ids.clone()))
        };
        // Claimant and publisher would be the same, or the publisher would speak for the claimant.
        let values = if claimants { &[] } else { node.values.as_slice() };
        let found = found.or_else(|| values.iter().find_map(|(_, next)| go(*next, ids.clone())));
        found.or_else(|| node.any.and_then(|next| go(next, ids)))
    }

    /// Decides one claim against one rule: first for anybody of both classes, then for somebody.
    fn meet(&self, claimed: &TopicFilter, subject: &Voice, (voice, number): Leaf, ids: &Ids<'_>) -> Option<Witness> {
        let fleet = self.fleet;
        let voice = usize::try_from(voice).ok().and_then(|at| self.voices.get(at))?;
        let table = fleet.table(voice.part.class, 0);
        let rule = table.rule(number);
        let left = |claimed: &TopicFilter, part: Part| {
            let common = intersection(claimed, &fleet.filter(part, rule)?)?;
            Piece::new(common, &fleet.denies(part, 0, Act::Publish))?.sample()
        };
        let only = |wanted: Option<&str>| wanted.and_then(|id| self.ids.get(id).copied().or_else(|| fleet.member(id)));
        let claimants: Vec<Who> = only(ids.claimant).map(|member| (member, None)).into_iter().collect();
        let claimants = if ids.claimant.is_some() { &claimants } else { &subject.members };
        let named = ids.claimant.map(|id| renamed(claimed, CLAIMANT, id));
        let claimed_by_all = named.as_ref().unwrap_or(claimed);
        // What denies cover for anybody they cover for everybody: a text that happens to be an id only makes them cover
        // more. So the search below goes on only where it must find somebody soon.
        let mut narrowed: Option<Vec<Who>> = match (only(ids.child), only(ids.publisher)) {
            (Some(child), _) => Some(fleet.gateway(child).map(|gateway| (gateway, Some(child))).into_iter().collect()),
            (None, Some(publisher)) if voice.part.child.is_none() => Some(vec![(publisher, None)]),
            _ => None,
        };
        match &mut narrowed {
            Some(narrowed) => narrowed.retain(|who| left(claimed_by_all, voice.part.by(*who)).is_some()),
            None => drop(left(claimed_by_all, voice.part)?),
        }
        let is = |wanted: Option<&str>, member: u32| wanted.is_none_or(|id| fleet.id(member) == id);
        let publishers = narrowed.as_ref().unwrap_or(&voice.members);
        for (claimant, _) in claimants.iter().filter(|(claimant, _)| fleet.class_of(*claimant) == subject.part.class) {
            let gateway = fleet.gateway(*claimant);
            for who in publishers {
                let (publisher, child) = *who;
                let same = fleet.class_of(publisher) == voice.part.class
                    && child.map(|child| fleet.class_of(child)) == voice.part.child;
                let fits = same && is(ids.publisher, publisher) && child.is_none_or(|child| is(ids.child, child));
                if !fits || publisher == *claimant || gateway == Some(publisher) {
                    continue;
                }
                let written = renamed(claimed, CLAIMANT, fleet.id(*claimant));
                if let Some(topic) = left(&written, voice.part.by(*who)) {
                    let id = |member| fleet.device_id(member).ok();
                    return Some(Witness {
                        topic,
                        subject: id(*claimant)?,
                        other: id(publisher)?,
                        child: child.and_then(id),
                        rule: rule.clone(),
                    });
                }
            }
        }
        None
    }
}
