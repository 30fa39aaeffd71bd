//! A whole fleet, as far as policies can tell its devices apart.
//!
//! Devices of one *class* differ in nothing but their ids: the same policies select them, and every value that a pattern
//! could name is the same. What holds for one of a class holds for all, so a question about a million devices becomes one
//! about some thousand classes. In the filters of a class its own id stands as [`OWN`], and the id of a child that a
//! gateway speaks for as [`CHILD`]; no topic of a policy can hold these texts. A device whose id is also a text in a
//! pattern, or one of its own values, has a class to itself, with its id written out.
//!
//! The file is long because the tables of a fleet are one structure: whoever fills them and whoever asks them must agree on every index.

mod profile;
mod row;

use std::cell::OnceCell;
use std::collections::{BTreeSet, HashMap, HashSet};

use crate::device::DeviceRecord;
use crate::fact::FactName;
use crate::id::{DeviceId, GroupName, KindName, LabelName};
use crate::settings::Settings;
use crate::topic::{Level, TopicFilter};

use super::edition::Selection;
use super::table::{RuleNumber, Table};
use super::{Act, Edition, Effect, Missing, Pattern, Rule, Variable};

use profile::{Interest, Profile, Seen, Selected};
pub use row::{FleetRow, Pair};

/// Stands for the device's id in filters of a class.
pub(super) const OWN: &str = "{device}";

/// Stands for the child's id in filters of a gateway's class.
pub(super) const CHILD: &str = "{child}";

/// No gateway, no class of its own.
const NONE: u32 = u32::MAX;

/// Devices that differ in nothing but their ids.
#[derive(Debug)]
pub(super) struct Class {
    profile: u32,
    /// For each edition the place of its selection.
    selections: [u32; 2],
    /// The only device, if the class is for one whose id must be written out.
    single: Option<u32>,
    pub(super) count: u64,
}

#[derive(Debug, Clone, Copy)]
struct Member {
    class: u32,
    gateway: u32,
}

/// A device, and the child that it speaks for, if it does: their places in the fleet.
pub(super) type Who = (u32, Option<u32>);

/// The part that somebody plays: a device of a class for itself, or a gateway of one class for a child of another.
#[derive(Debug, Clone, Copy)]
pub(super) struct Part {
    pub(super) class: u32,
    pub(super) child: Option<u32>,
    /// Whose ids are written out in place of the symbols.
    pub(super) who: Option<Who>,
}

impl Part {
    /// The same part, played by somebody of whom all is known.
    pub(super) fn by(self, who: Who) -> Self {
        Self { who: Some(who), ..self }
    }
}

/// All who play one part.
#[derive(Debug)]
pub(super) struct Voice {
    pub(super) part: Part,
    /// Gateways and their children; for a class alone its devices, and `None`.
    pub(super) members: Vec<Who>,
}

/// A fleet under one edition, or under two that are compared.
#[derive(Debug)]
pub struct Fleet<'e> {
    editions: Vec<&'e Edition>,
    interest: Interest,
    ids: String,
    ends: Vec<usize>,
    members: Vec<Member>,
    gateways: Vec<Box<str>>,
    gateway_places: HashMap<Box<str>, u32>,
    profiles: Vec<Profile>,
    profile_places: HashMap<Box<[u8]>, u32>,
    selections: [Vec<Selection>; 2],
    selection_places: [HashMap<Selection, u32>; 2],
    classes: Vec<Class>,
    class_places: HashMap<(u32, [u32; 2], u32), u32>,
    key: Vec<u8>,
    label_names: Vec<Box<str>>,
    by_id: OnceCell<Vec<u32>>,
    gateway_members: OnceCell<Vec<u32>>,
}

fn place(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(NONE)
}

fn at<T>(list: &[T], place: u32) -> &T {
    &list[usize::try_from(place).unwrap_or(usize::MAX)]
}

impl<'e> Fleet<'e> {
    /// An empty fleet for questions about one edition, or about two that are compared. `texts` are levels of topics that
    /// the question names.
    #[must_use]
    pub fn new(editions: &[&'e Edition], texts: impl IntoIterator<Item = &'e str>) -> Self {
        Self {
            editions: editions.to_vec(),
            interest: Interest::of(editions, texts),
            ids: String::new(),
            ends: Vec::new(),
            members: Vec::new(),
            gateways: Vec::new(),
            gateway_places: HashMap::new(),
            profiles: Vec::new(),
            profile_places: HashMap::new(),
            selections: Default::default(),
            selection_places: Default::default(),
            classes: Vec::new(),
            class_places: HashMap::new(),
            key: Vec::new(),
            label_names: Vec::new(),
            by_id: OnceCell::new(),
            gateway_members: OnceCell::new(),
        }
    }

    /// Tells which facts of the ward's own there are, before any device is taken in: a name in a condition may mean one.
    pub fn know_facts<'n>(&mut self, names: impl IntoIterator<Item = &'n FactName>) {
        let own = names.into_iter().filter_map(|name| match name {
            FactName::Own(name) => self.interest.names.get(name).cloned(),
            _ => None,
        });
        self.interest.own = own.collect();
    }

    /// Whether a policy looks at facts, which need not be given otherwise.
    #[must_use]
    pub fn wants_facts(&self) -> bool {
        self.interest.facts || !self.interest.own.is_empty()
    }

    /// How many devices were taken in.
    #[must_use]
    pub fn len(&self) -> usize {
        self.members.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.members.is_empty()
    }

    /// How many classes they fall into.
    #[must_use]
    pub fn class_count(&self) -> usize {
        self.classes.len()
    }

    /// Takes a device in.
    ///
    /// # Errors
    /// A kind that is no name.
    pub fn add(&mut self, row: &FleetRow<'_>) -> Result<(), crate::id::BadName> {
        for (name, _) in row.labels {
            if !self.label_names.iter().any(|known| **known == **name) {
                self.label_names.push((&**name).into());
            }
        }
        let profile = self.profile(row)?;
        let selections = self.selections_of(profile, row);
        let single = self.interest.texts.contains(row.id) || at(&self.profiles, profile).names(row.id);
        let member = place(self.members.len());
        let key = (profile, selections, if single { member } else { NONE });
        let class = match self.class_places.get(&key) {
            Some(class) => *class,
            None => {
                let class = place(self.classes.len());
                let single = single.then_some(member);
                self.classes.push(Class { profile, selections, single, count: 0 });
                self.class_places.insert(key, class);
                class
            }
        };
        self.classes[usize::try_from(class).unwrap_or(usize::MAX)].count += 1;
        let gateway = row.gateway.map_or(NONE, |gateway| match self.gateway_places.get(gateway) {
            Some(at) => *at,
            None => {
                let at = place(self.gateways.len());
                self.gateways.push(gateway.into());
                self.gateway_places.insert(gateway.into(), at);
                at
            }
        });
        self.ids.push_str(row.id);
        self.ends.push(self.ids.len());
        self.members.push(Member { class, gateway });
        self.by_id.take();
        self.gateway_members.take();
        Ok(())
    }

    /// Takes a device in that is at hand as a record, unless it is retired.
    ///
    /// # Errors
    /// As [`Fleet::add`].
    pub fn add_record(&mut self, device: &DeviceRecord) -> Result<(), crate::id::BadName> {
        match device.retired {
            Some(_) => Ok(()),
            None => FleetRow::of(device, true, |row| self.add(row)),
        }
    }

    fn profile(&mut self, row: &FleetRow<'_>) -> Result<u32, crate::id::BadName> {
        // Names hold no control characters, so these cannot be mistaken for parts of one.
        const NEXT: u8 = 0x1f;
        const ABSENT: u8 = 0x1e;
        let interest = &self.interest;
        let label = |name: &LabelName| row.labels.iter().find(|(found, _)| found == name.as_str());
        let is_in = |group: &GroupName| row.groups.iter().any(|found| found == group.as_str());
        let key = &mut self.key;
        key.clear();
        let mut push = |value: Option<&str>| {
            match value {
                Some(value) => key.extend_from_slice(value.as_bytes()),
                None => key.push(ABSENT),
            }
            key.push(NEXT);
        };
        push(Some(row.kind));
        push(row.owner.filter(|_| interest.owner));
        push(row.gateway.filter(|_| interest.gateway));
        interest.labels.iter().for_each(|name| push(label(name).map(|(_, value)| &**value)));
        interest.groups.iter().for_each(|group| push(is_in(group).then_some("")));
        if let Some(known) = self.profile_places.get(key.as_slice()) {
            return Ok(*known);
        }
        let mut profile = Profile {
            kind: row.kind.parse()?,
            owner: row.owner.filter(|_| interest.owner).map(Box::from),
            gateway: row.gateway.filter(|_| interest.gateway).map(Box::from),
            labels: interest.labels.iter().map(|name| label(name).map(|(_, value)| Box::from(&**value))).collect(),
            groups: interest.groups.iter().map(is_in).collect(),
            selected: Vec::new(),
        };
        for (number, edition) in self.editions.iter().enumerate() {
            let (mut sure, mut open) = (Vec::new(), Vec::new());
            for (at, policy) in (0u32..).zip(&edition.policies) {
                match policy.subjects.truth(&Seen { profile: &profile, interest, row: None }) {
                    Some(true) => sure.push(at),
                    Some(false) => {}
                    None => open.push(at),
                }
            }
            let selection = open.is_empty().then(|| {
                let (list, places) = (&mut self.selections[number], &mut self.selection_places[number]);
                selection_place(list, places, sure.as_slice().into())
            });
            profile.selected.push(Selected { sure, open, selection });
        }
        let new = place(self.profiles.len());
        self.profiles.push(profile);
        self.profile_places.insert(self.key.as_slice().into(), new);
        Ok(new)
    }

    fn selections_of(&mut self, profile: u32, row: &FleetRow<'_>) -> [u32; 2] {
        let mut selections = [NONE; 2];
        for (number, edition) in self.editions.iter().enumerate() {
            let profile = at(&self.profiles, profile);
            let selected = &profile.selected[number];
            selections[number] = match selected.selection {
                Some(selection) => selection,
                None => {
                    let seen = Seen { profile, interest: &self.interest, row: Some(row) };
                    let holds = |place: &&u32| at(&edition.policies, **place).subjects.holds(&seen);
                    let mut all: Vec<u32> = selected.sure.clone();
                    all.extend(selected.open.iter().filter(holds));
                    all.sort_unstable();
                    let (list, places) = (&mut self.selections[number], &mut self.selection_places[number]);
                    selection_place(list, places, all.into())
                }
            };
        }
        selections
    }

    /// The id of a member.
    pub(super) fn id(&self, member: u32) -> &str {
        let at = usize::try_from(member).unwrap_or(usize::MAX);
        let start = if at == 0 { 0 } else { self.ends[at - 1] };
        &self.ids[start..self.ends[at]]
    }

    /// The member with an id.
    pub(super) fn member(&self, id: &str) -> Option<u32> {
        let index = self.by_id.get_or_init(|| {
            let mut index: Vec<u32> = (0..place(self.members.len())).collect();
            index.sort_unstable_by(|a, b| self.id(*a).cmp(self.id(*b)));
            index
        });
        index.binary_search_by(|member| self.id(*member).cmp(id)).ok().map(|found| index[found])
    }

    /// Those of many texts that are ids of members; faster than asking for each where there are many.
    pub(super) fn members_among(&self, texts: HashSet<Box<str>>) -> HashMap<Box<str>, u32> {
        let mut found = HashMap::new();
        for member in 0..place(self.members.len()) {
            if let Some(text) = texts.get(self.id(member)) {
                found.insert(text.clone(), member);
            }
        }
        found
    }

    /// A member's gateway, if that is in the fleet.
    pub(super) fn gateway(&self, member: u32) -> Option<u32> {
        let known = self.gateway_members.get_or_init(|| {
            let mut known = vec![NONE; self.gateways.len()];
            for member in 0..place(self.members.len()) {
                if let Some(at) = self.gateway_places.get(self.id(member)) {
                    known[usize::try_from(*at).unwrap_or(usize::MAX)] = member;
                }
            }
            known
        });
        let gateway = at(&self.members, member).gateway;
        (gateway != NONE).then(|| *at(known, gateway)).filter(|member| *member != NONE)
    }

    pub(super) fn class_of(&self, member: u32) -> u32 {
        at(&self.members, member).class
    }

    pub(super) fn classes(&self) -> impl Iterator<Item = (u32, &Class)> {
        (0..).zip(&self.classes)
    }

    fn class(&self, class: u32) -> &Class {
        at(&self.classes, class)
    }

    /// The places of the policies that select a class under an edition.
    pub(super) fn selection(&self, class: u32, edition: usize) -> &[u32] {
        let place = self.class(class).selections[edition];
        let selection: &Selection = at(&self.selections[edition], place);
        selection
    }

    /// What a class was sorted by, for an edition: classes with the same have the same rules.
    pub(super) fn selection_key(&self, class: u32) -> [u32; 2] {
        self.class(class).selections
    }

    pub(super) fn table(&self, class: u32, edition: usize) -> std::sync::Arc<Table> {
        self.editions[edition].table(self.selection(class, edition))
    }

    pub(super) fn edition(&self, edition: usize) -> &'e Edition {
        self.editions[edition]
    }

    /// The kind of a class.
    pub(super) fn kind(&self, class: u32) -> &KindName {
        &at(&self.profiles, self.class(class).profile).kind
    }

    /// Whether a class has a value for a variable of its own rules.
    pub(super) fn has_value(&self, class: u32, variable: &Variable) -> bool {
        *variable == Variable::Device || self.value(class, variable).is_some()
    }

    fn value(&self, class: u32, variable: &Variable) -> Option<&str> {
        let profile = at(&self.profiles, self.class(class).profile);
        match variable {
            Variable::Device | Variable::Child => None,
            Variable::Kind => Some(profile.kind.as_str()),
            Variable::Owner => profile.owner.as_deref(),
            Variable::Gateway => profile.gateway.as_deref(),
            Variable::Label(name) => {
                let place = self.interest.labels.binary_search(name).ok()?;
                profile.labels.get(place)?.as_deref()
            }
        }
    }

    /// One voice for each class, which has all its members.
    pub(super) fn own_voices(&self) -> Vec<Voice> {
        let mut voices: Vec<Voice> = self
            .classes()
            .map(|(class, found)| Voice {
                part: Part { class, child: None, who: None },
                members: Vec::with_capacity(usize::try_from(found.count).unwrap_or(0)),
            })
            .collect();
        for (at, member) in (0u32..).zip(&self.members) {
            if let Some(voice) = usize::try_from(member.class).ok().and_then(|class| voices.get_mut(class)) {
                voice.members.push((at, None));
            }
        }
        voices
    }

    /// The voices of gateways for their children, where rules for children are among theirs.
    pub(super) fn child_voices(&self, settings: &Settings) -> Vec<Voice> {
        let speaks: Vec<bool> = self
            .classes()
            .map(|(class, _)| {
                (0..self.editions.len()).any(|edition| !self.table(class, edition).for_children.is_empty())
            })
            .collect();
        let mut voices: Vec<Voice> = Vec::new();
        let mut places: HashMap<(u32, u32, Option<Who>), usize> = HashMap::new();
        if !speaks.contains(&true) {
            return voices;
        }
        for child in 0..place(self.members.len()) {
            let Some(gateway) = self.gateway(child) else { continue };
            let (class, child_class) = (self.class_of(gateway), self.class_of(child));
            let carried = settings.carries(self.kind(class), self.kind(child_class));
            let profile = |class| at(&self.profiles, self.class(class).profile);
            if !*at(&speaks, class) || !carried {
                continue;
            }
            // The child's `{gateway}` is the gateway, whichever it is; every other value could be an id by chance.
            let named = |text: &str, profile: &Profile| {
                profile.values(&self.interest).any(|(variable, value)| variable != Variable::Gateway && value == text)
            };
            let written_out = named(self.id(gateway), profile(child_class)) || named(self.id(child), profile(class));
            let who = written_out.then_some((gateway, Some(child)));
            let place = *places.entry((class, child_class, who)).or_insert_with(|| {
                voices.push(Voice { part: Part { class, child: Some(child_class), who }, members: Vec::new() });
                voices.len() - 1
            });
            voices[place].members.push((gateway, Some(child)));
        }
        voices
    }

    /// Kinds of gateways and of devices behind them that the settings do not let them carry, where rules for children are
    /// among the gateways'.
    pub(super) fn not_carried(&self, settings: &Settings) -> BTreeSet<(KindName, KindName)> {
        let mut pairs = HashSet::new();
        for child in 0..place(self.members.len()) {
            if let Some(gateway) = self.gateway(child) {
                pairs.insert((self.class_of(gateway), self.class_of(child)));
            }
        }
        let speaks = |class: u32| !self.table(class, 0).for_children.is_empty();
        let kinds = pairs.into_iter().filter(|(gateway, _)| speaks(*gateway));
        let kinds = kinds.map(|(gateway, child)| (self.kind(gateway).clone(), self.kind(child).clone()));
        kinds.filter(|(gateway, child)| !settings.carries(gateway, child)).collect()
    }

    /// A rule's topics for a part.
    pub(super) fn filter(&self, part: Part, rule: &Rule) -> Option<TopicFilter> {
        let missing = if rule.effect == Effect::Allow { Missing::Nothing } else { Missing::AnyLevel };
        self.bind(part, rule.target.pattern()?, missing)
    }

    /// A pattern's topics for a part.
    pub(super) fn bind(&self, part: Part, pattern: &Pattern, missing: Missing) -> Option<TopicFilter> {
        let symbol = |class: u32, member: Option<u32>, symbol: &'static str| match (member, self.class(class).single) {
            (Some(member), _) | (None, Some(member)) => self.id(member),
            (None, None) => symbol,
        };
        let own = symbol(part.class, part.who.map(|(device, _)| device), OWN);
        let child = part.child.map(|class| symbol(class, part.who.and_then(|(_, child)| child), CHILD));
        pattern.bind(missing, |variable| match variable {
            Variable::Device => Some(own),
            Variable::Child => child,
            Variable::Gateway if part.child.is_some() => Some(own),
            other => self.value(part.child.unwrap_or(part.class), other),
        })
    }

    /// The allow rules of a part for an act, with their topics: those for itself, or those for children.
    pub(super) fn allows<'t>(
        &self,
        part: Part,
        table: &'t Table,
        act: Act,
    ) -> Vec<(RuleNumber, &'t Rule, TopicFilter)> {
        let rules = if part.child.is_some() { &table.for_children } else { &table.side(act).allow_rules };
        let rule = |number: &RuleNumber| {
            let rule = table.rule(*number);
            let filter = (rule.target.act() == act).then(|| self.filter(part, rule)).flatten()?;
            Some((*number, rule, filter))
        };
        rules.iter().filter_map(rule).collect()
    }

    /// The topics that denies keep a part from: those for the device, and those for the child that it speaks for.
    pub(super) fn denies(&self, part: Part, edition: usize, act: Act) -> Vec<TopicFilter> {
        let of = |part: Part| -> Vec<TopicFilter> {
            let table = self.table(part.class, edition);
            let rules = table.side(act).deny_rules.iter().map(|number| table.rule(*number));
            rules.filter_map(|rule| self.filter(part, rule)).collect()
        };
        let mut all = of(Part { class: part.class, child: None, who: part.who.map(|(device, _)| (device, None)) });
        if let Some(class) = part.child {
            let who = part.who.and_then(|(_, child)| child).map(|child| (child, None));
            all.extend(of(Part { class, child: None, who }).iter().map(|filter| renamed(filter, OWN, CHILD)));
        }
        all
    }

    /// The names of all labels that any device has.
    pub(super) fn is_own_fact(&self, name: &LabelName) -> bool {
        self.interest.own.contains(name)
    }

    pub(super) fn label_names(&self) -> impl Iterator<Item = &str> {
        self.label_names.iter().map(|name| &**name)
    }

    /// Whether patterns name a text.
    pub(super) fn is_text(&self, text: &str) -> bool {
        self.interest.texts.contains(text)
    }

    /// A filter of a part with variables in place of its values again, for showing what many parts have in common.
    pub(super) fn generalised(&self, part: Part, filter: &TopicFilter) -> String {
        let profile = at(&self.profiles, self.class(part.child.unwrap_or(part.class)).profile);
        let shown = filter.levels().iter().map(|level| match level {
            Level::Is(text) if !self.interest.texts.contains(text) => {
                let mut named = profile.values(&self.interest).filter(|(_, value)| **value == **text);
                match (named.next(), named.next()) {
                    (Some((variable, _)), None) => variable.to_string(),
                    _ => text.to_string(),
                }
            }
            Level::Is(text) => text.to_string(),
            Level::Any => "+".to_owned(),
        });
        let mut levels: Vec<String> = shown.collect();
        if filter.is_open() {
            levels.push("#".to_owned());
        }
        levels.join("/")
    }

    /// A topic of a voice with the ids of one of its members in place of the symbols.
    pub(super) fn written(&self, topic: &str, who: Who) -> String {
        let levels = topic.split('/').map(|level| match (level, who.1) {
            (OWN, _) => self.id(who.0),
            (CHILD, Some(child)) => self.id(child),
            (other, _) => other,
        });
        levels.collect::<Vec<_>>().join("/")
    }

    /// The id of a member as a value.
    ///
    /// # Errors
    /// An id that is no name, which no row should have.
    pub(super) fn device_id(&self, member: u32) -> Result<DeviceId, crate::id::BadName> {
        self.id(member).parse()
    }
}

fn selection_place(list: &mut Vec<Selection>, places: &mut HashMap<Selection, u32>, selection: Selection) -> u32 {
    if let Some(known) = places.get(&selection) {
        return *known;
    }
    let new = place(list.len());
    list.push(selection.clone());
    places.insert(selection, new);
    new
}

/// A filter with one symbol in place of another.
pub(super) fn renamed(filter: &TopicFilter, from: &str, to: &str) -> TopicFilter {
    let levels = filter.levels().iter().map(|level| match level {
        Level::Is(text) if **text == *from => Level::Is(to.into()),
        other => other.clone(),
    });
    TopicFilter::from_levels(levels.collect(), filter.is_open())
}
