//! What changes between two editions, or between two states of a device: which topics are gained and which are lost.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;

use serde::Serialize;

use crate::id::KindName;
use crate::settings::Settings;
use crate::topic::{Level, Piece, TopicFilter, TopicSet, intersection};

use super::fleet::{CHILD, Fleet, OWN, Part, Voice, Who};
use super::{Act, ClientIdForm, Limits, Rule};

/// How many devices are named for each change.
const SAMPLES: usize = 3;

/// What somebody may do, as sets.
#[derive(Debug, Clone, Default)]
pub struct Grants {
    connect: BTreeSet<&'static str>,
    /// How many children of each kind it may bring in.
    introduce: BTreeMap<KindName, u32>,
    topics: BTreeMap<Side, Vec<(Limits, Piece)>>,
}

/// An act that has topics; shared subscriptions stand apart under their share's name.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Side {
    act: Act,
    share: Option<String>,
}

/// Topics that are gained or lost for an act.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub struct Changed {
    /// Whether they are gained; else they are lost.
    pub gained: bool,
    /// `connect`, `publish`, `subscribe` or `introduce`.
    pub act: &'static str,
    /// The share's name, for a shared subscription.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share: Option<String>,
    /// The client identifier, the topics as filters (`F except G`), or the kind and number of children.
    pub topics: String,
    /// Where the topics stay but the limits change: the limits that are gained or lost.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limits: Option<String>,
}

impl fmt::Display for Changed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} {}", if self.gained { "gains" } else { "loses" }, self.act, self.topics)?;
        if let Some(share) = &self.share {
            write!(f, " share {share:?}")?;
        }
        match &self.limits {
            Some(limits) => write!(f, " with {limits}"),
            None => Ok(()),
        }
    }
}

impl Grants {
    pub(super) fn allow_connect(&mut self, form: ClientIdForm) {
        self.connect.insert(form.as_str());
    }

    pub(super) fn allow(&mut self, rule: &Rule, topics: TopicFilter, denies: &[TopicFilter]) {
        let side = Side { act: rule.target.act(), share: rule.share.clone() };
        if let Some(piece) = Piece::new(topics, denies) {
            self.topics.entry(side).or_default().push((rule.limits, piece));
        }
    }

    /// The topics that are allowed with all that `limits` admit.
    fn within(&self, side: &Side, limits: Option<&Limits>) -> TopicSet {
        let all = self.topics.get(side).into_iter().flatten();
        let fitting = all.filter(|(found, _)| limits.is_none_or(|limits| found.admit_all_of(limits)));
        fitting.map(|(_, piece)| piece.clone()).collect()
    }

    /// A topic of `filter` that is not allowed for an act without a share; `None` if all of them are.
    pub(super) fn lacks(&self, act: Act, filter: &TopicFilter) -> Option<String> {
        let wanted: TopicSet = Piece::new(filter.clone(), []).into_iter().collect();
        wanted.without(&self.within(&Side { act, share: None }, None)).sample()
    }

    /// What is different in `new`.
    fn changes(&self, new: &Self, show: &dyn Fn(&Piece) -> String) -> BTreeSet<Changed> {
        let mut all = BTreeSet::new();
        for (from, to, gained) in [(self, new, true), (new, self, false)] {
            for form in to.connect.difference(&from.connect) {
                let topics = (*form).to_owned();
                all.insert(Changed { gained, act: Act::Connect.as_str(), share: None, topics, limits: None });
            }
        }
        for (from, to, gained) in [(self, new, true), (new, self, false)] {
            for (kind, most) in &to.introduce {
                let known = from.introduce.get(kind).copied().unwrap_or(0);
                if *most > known {
                    let topics = match known {
                        0 => format!("kind {kind} at most {most}"),
                        known => format!("kind {kind} at most {most}, not {known}"),
                    };
                    all.insert(Changed { gained, act: "introduce", share: None, topics, limits: None });
                }
            }
        }
        let sides: BTreeSet<&Side> = self.topics.keys().chain(new.topics.keys()).collect();
        for side in sides {
            for (from, to, gained) in [(self, new, true), (new, self, false)] {
                let mut tell = |set: &TopicSet, limits: Option<&Limits>| {
                    for piece in set.clone().tidied().pieces() {
                        all.insert(Changed {
                            gained,
                            act: side.act.as_str(),
                            share: side.share.clone(),
                            topics: show(piece),
                            limits: limits.map(limits_text),
                        });
                    }
                };
                let whole = to.within(side, None).without(&from.within(side, None));
                tell(&whole, None);
                let mut limits: Vec<&Limits> =
                    to.topics.get(side).into_iter().flatten().map(|(limits, _)| limits).collect();
                limits.sort_by_key(|limits| limits.to_string());
                limits.dedup();
                for limits in limits {
                    let wider = to.within(side, Some(limits)).without(&from.within(side, Some(limits)));
                    tell(&wider.without(&whole), Some(limits));
                }
            }
        }
        all
    }

    /// What is different in `new`.
    #[must_use]
    pub fn changes_to(&self, new: &Self) -> BTreeSet<Changed> {
        self.changes(new, &Piece::to_string)
    }

    fn filters(&self) -> impl Iterator<Item = &TopicFilter> {
        self.topics.values().flatten().map(|(_, piece)| piece.of())
    }

    fn join(&mut self, other: Self) {
        self.connect.extend(other.connect);
        self.introduce.extend(other.introduce);
        for (side, pieces) in other.topics {
            self.topics.entry(side).or_default().extend(pieces);
        }
    }
}

/// Devices whose rights change alike.
#[derive(Debug, Clone)]
pub struct ChangedAlike {
    /// What changes.
    pub changes: BTreeSet<Changed>,
    /// For how many devices; for what gateways do for children, how many children.
    pub count: u64,
    /// Whether this is about what gateways may do for children.
    pub for_children: bool,
    /// Some of them, each with the child it speaks for, if it does.
    pub samples: Vec<(String, Option<String>)>,
}

/// What changes in a fleet.
#[derive(Debug, Clone, Default)]
pub struct Comparison {
    /// How many devices there are.
    pub devices: u64,
    /// How many only gain.
    pub gaining: u64,
    /// How many only lose.
    pub losing: u64,
    /// How many gain some and lose some.
    pub both: u64,
    /// The changes, those of most devices first.
    pub groups: Vec<ChangedAlike>,
}

impl Comparison {
    /// How many devices have other rights.
    #[must_use]
    pub fn changed(&self) -> u64 {
        self.gaining + self.losing + self.both
    }
}

/// Limits in words.
fn limits_text(limits: &Limits) -> String {
    match limits.to_string().trim_start() {
        "" => "no limits".to_owned(),
        some => some.to_owned(),
    }
}

/// What a part may do under one of the fleet's editions.
fn grants(fleet: &Fleet<'_>, part: Part, edition: usize) -> Grants {
    let table = fleet.table(part.class, edition);
    let mut grants = Grants::default();
    if part.child.is_none() {
        let denied: Vec<_> = table.forms(super::Effect::Deny).collect();
        let forms = table.forms(super::Effect::Allow).filter(|form| !denied.contains(form));
        forms.for_each(|form| grants.allow_connect(form));
        for each in table.policies.iter().flat_map(|policy| &policy.introduces) {
            let most = grants.introduce.entry(each.kind.clone()).or_default();
            *most = each.most.max(*most);
        }
    }
    for act in [Act::Publish, Act::Subscribe] {
        let denies = fleet.denies(part, edition, act);
        for (_, rule, filter) in fleet.allows(part, &table, act) {
            grants.allow(rule, filter, &denies);
        }
    }
    grants
}

/// Stands around the id of a child in what [`shown`] gives. No topic of a policy holds it.
const MARK: char = '\u{1}';

/// Stands before the topics that are left out of a change.
const EXCEPT: &str = " except ";

/// What changes for a gateway, with `{child}` where the same is said of each of its children.
fn collapsed(changes: BTreeSet<Changed>, children: &BTreeSet<&str>) -> BTreeSet<Changed> {
    // Of one child only; else its ids stay. What excepts a child says nothing about each of them.
    let of_child = |changed: &Changed| {
        let of = changed.topics.split(EXCEPT).next().unwrap_or_default();
        if !of.contains(MARK) {
            return None;
        }
        let ids: BTreeSet<&str> = changed.topics.split(MARK).skip(1).step_by(2).collect();
        let id = (ids.len() == 1).then(|| ids.first().copied()).flatten()?;
        let topics = changed.topics.replace(&format!("{MARK}{id}{MARK}"), CHILD);
        Some((Changed { topics, ..changed.clone() }, id.to_owned()))
    };
    let mut said: HashMap<Changed, BTreeSet<String>> = HashMap::new();
    for (form, id) in changes.iter().filter_map(of_child) {
        said.entry(form).or_default().insert(id);
    }
    let of_all =
        |form: &Changed| said.get(form).is_some_and(|ids| ids.iter().map(String::as_str).eq(children.iter().copied()));
    let written = |changed: &Changed| match of_child(changed) {
        Some((form, _)) if of_all(&form) => form,
        _ => Changed { topics: changed.topics.replace(MARK, ""), ..changed.clone() },
    };
    changes.iter().map(written).collect()
}

/// A piece with variables in place of values; with the parts that a gateway plays for its children, the ids of those are
/// marked.
fn shown(fleet: &Fleet<'_>, part: Part, children: Option<&[Part]>, piece: &Piece) -> String {
    let filter = |filter: &TopicFilter| {
        let levels = filter.levels().iter().map(|level| match level {
            Level::Is(text) => {
                let is = |member: Option<u32>| member.is_some_and(|member| fleet.id(member) == &**text);
                let of_child = |part: &Part| is(part.who.and_then(|(_, child)| child));
                match (part.who, children) {
                    (Some((own, _)), Some(_)) if is(Some(own)) => Level::Is(OWN.into()),
                    // A rule that names a child is shown as it stands there.
                    (_, Some(children)) if !fleet.is_text(text) && children.iter().any(of_child) => {
                        Level::Is(format!("{MARK}{text}{MARK}").into())
                    }
                    _ => level.clone(),
                }
            }
            Level::Any => Level::Any,
        });
        fleet.generalised(part, &TopicFilter::from_levels(levels.collect(), filter.is_open()))
    };
    let of = filter(piece.of());
    let except: Vec<String> = piece.except().iter().map(filter).collect();
    if except.is_empty() { of } else { format!("{of}{EXCEPT}{}", except.join(", ")) }
}

/// Whether what gateways may do for themselves, for a child, and for another child never meets: then each can be compared
/// on its own.
fn disjoint(fleet: &Fleet<'_>, own: &(Grants, Grants), children: &[(&Voice, (Grants, Grants))]) -> bool {
    let filters = |(old, new): &(Grants, Grants)| -> BTreeSet<TopicFilter> {
        old.filters().chain(new.filters()).cloned().collect()
    };
    let own = filters(own);
    let for_children: BTreeSet<TopicFilter> = children.iter().flat_map(|(_, both)| filters(both)).collect();
    // Another child's id is none of the texts of rules, and neither this child's nor the gateway's; else it could be any.
    let other = |here: &TopicFilter, there: &TopicFilter| {
        let levels = there.levels().iter().enumerate().map(|(at, level)| match (level, here.levels().get(at)) {
            (Level::Is(text), Some(Level::Is(beside))) if **text == *CHILD => {
                let fixed = **beside == *CHILD || **beside == *OWN || fleet.is_text(beside);
                if fixed { Level::Is("{other}".into()) } else { Level::Any }
            }
            (Level::Is(text), _) if **text == *CHILD => Level::Any,
            _ => level.clone(),
        });
        TopicFilter::from_levels(levels.collect(), there.is_open())
    };
    for here in &for_children {
        if own.iter().any(|filter| intersection(here, filter).is_some()) {
            return false;
        }
        if for_children.iter().any(|there| intersection(here, &other(here, there)).is_some()) {
            return false;
        }
    }
    true
}

/// Each gateway of a class with the parts that it plays for its children.
fn households(voice: &Voice, children: &[&Voice]) -> BTreeMap<u32, Vec<Part>> {
    let mut all: BTreeMap<u32, Vec<Part>> = voice.members.iter().map(|(gateway, _)| (*gateway, Vec::new())).collect();
    for voice in children {
        for who in &voice.members {
            all.entry(who.0).or_default().push(voice.part.by(*who));
        }
    }
    all
}

/// Compares the two editions that the fleet was built for.
#[must_use]
pub fn compare(fleet: &Fleet<'_>, settings: &Settings) -> Comparison {
    let mut groups: HashMap<(bool, BTreeSet<Changed>), ChangedAlike> = HashMap::new();
    let mut told = vec![(false, false); fleet.len()];
    let mut note = |voice: &Voice, changes: BTreeSet<Changed>| {
        if changes.is_empty() {
            return;
        }
        let (gains, loses) = (changes.iter().any(|each| each.gained), changes.iter().any(|each| !each.gained));
        for (device, _) in &voice.members {
            if let Some(known) = usize::try_from(*device).ok().and_then(|at| told.get_mut(at)) {
                *known = (known.0 || gains, known.1 || loses);
            }
        }
        let for_children = voice.part.child.is_some();
        let group = groups.entry((for_children, changes.clone())).or_insert_with(|| ChangedAlike {
            changes,
            count: 0,
            for_children,
            samples: Vec::new(),
        });
        group.count += u64::try_from(voice.members.len()).unwrap_or(u64::MAX);
        let wanted = SAMPLES.saturating_sub(group.samples.len());
        let named =
            |(device, child): &Who| (fleet.id(*device).to_owned(), child.map(|child| fleet.id(child).to_owned()));
        group.samples.extend(voice.members.iter().take(wanted).map(named));
    };
    // Most editions leave most rules alone: selections whose rules say the same need no algebra.
    let mut same: HashMap<[u32; 2], bool> = HashMap::new();
    let mut unchanged = |class: u32| {
        *same.entry(fleet.selection_key(class)).or_insert_with(|| {
            let rules = |edition| -> Vec<String> {
                let table = fleet.table(class, edition);
                let policies = || table.policies.iter();
                let rules = policies().flat_map(|policy| &policy.rules).map(ToString::to_string);
                rules.chain(policies().flat_map(|policy| &policy.introduces).map(ToString::to_string)).collect()
            };
            rules(0) == rules(1)
        })
    };
    let child_voices = fleet.child_voices(settings);
    let mut of_gateways: HashMap<u32, Vec<&Voice>> = HashMap::new();
    for voice in &child_voices {
        of_gateways.entry(voice.part.class).or_default().push(voice);
    }
    for voice in fleet.own_voices().iter().filter(|voice| !voice.members.is_empty()) {
        let children = of_gateways.get(&voice.part.class).map_or(&[][..], Vec::as_slice);
        let touched = |class| !unchanged(class);
        let classes = children.iter().filter_map(|voice| voice.part.child).chain([voice.part.class]);
        if !classes.map(touched).fold(false, |any, this| any | this) {
            continue;
        }
        let both = |part| (grants(fleet, part, 0), grants(fleet, part, 1));
        let own = both(voice.part);
        let for_children: Vec<_> = children.iter().map(|voice| (*voice, both(voice.part))).collect();
        if disjoint(fleet, &own, &for_children) {
            note(voice, own.0.changes(&own.1, &|piece| shown(fleet, voice.part, None, piece)));
            for (voice, (old, new)) in &for_children {
                note(voice, old.changes(new, &|piece| shown(fleet, voice.part, None, piece)));
            }
        } else {
            for (gateway, parts) in households(voice, children) {
                let alone = voice.part.by((gateway, None));
                let (mut old, mut new) = both(alone);
                for part in &parts {
                    let (of_old, of_new) = both(*part);
                    old.join(of_old);
                    new.join(of_new);
                }
                let one = Voice { part: alone, members: vec![(gateway, None)] };
                let ids = parts.iter().filter_map(|part| part.who?.1).map(|child| fleet.id(child)).collect();
                let changes = old.changes(&new, &|piece| shown(fleet, alone, Some(&parts), piece));
                note(&one, collapsed(changes, &ids));
            }
        }
    }
    let count =
        |wanted: (bool, bool)| u64::try_from(told.iter().filter(|known| **known == wanted).count()).unwrap_or(0);
    let mut comparison = Comparison {
        devices: u64::try_from(fleet.len()).unwrap_or(u64::MAX),
        gaining: count((true, false)),
        losing: count((false, true)),
        both: count((true, true)),
        groups: groups.into_values().collect(),
    };
    comparison.groups.sort_by(|a, b| (b.count, &a.changes).cmp(&(a.count, &b.changes)));
    comparison
}
