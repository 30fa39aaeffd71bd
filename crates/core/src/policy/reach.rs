//! Who may publish to, and who may receive, any topic that a filter matches.

use serde::Serialize;

use crate::settings::Settings;
use crate::topic::{Level, Piece, TopicFilter, intersection};

use super::fleet::Fleet;
use super::{Act, Edition, Rule};

/// How many devices are named for each rule.
const SAMPLES: usize = 3;

/// One device that a rule lets reach the filter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Reaching {
    /// The device.
    pub device: String,
    /// The child that it speaks for, if it does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub child: Option<String>,
    /// A topic that it reaches.
    pub topic: String,
}

/// What one rule lets devices reach.
#[derive(Debug, Clone)]
pub struct ReachedBy {
    /// The rule.
    pub rule: Rule,
    /// How many devices; for a rule for children, how many children are spoken for.
    pub count: u64,
    /// The topics, variables put in again; at most three forms.
    pub topics: Vec<String>,
    /// Some of the devices.
    pub samples: Vec<Reaching>,
}

/// An answer to `reach`.
#[derive(Debug, Clone, Default)]
pub struct Reach {
    /// How many devices the fleet has.
    pub devices: u64,
    /// How many may publish to some topic of the filter.
    pub publishers: u64,
    /// By which rules.
    pub publish: Vec<ReachedBy>,
    /// How many may receive from some topic of the filter.
    pub receivers: u64,
    /// By which rules.
    pub subscribe: Vec<ReachedBy>,
}

/// The levels of `filter` that are texts: a fleet that is to answer for it must know them.
pub fn filter_texts(filter: &TopicFilter) -> impl Iterator<Item = &str> {
    filter.levels().iter().filter_map(|level| match level {
        Level::Is(text) => Some(&**text),
        Level::Any => None,
    })
}

/// Answers for a fleet that [`fleet_for`] began, with the devices in it.
#[must_use]
pub fn reach(fleet: &Fleet<'_>, settings: &Settings, filter: &TopicFilter) -> Reach {
    let voices: Vec<_> = fleet.own_voices().into_iter().chain(fleet.child_voices(settings)).collect();
    let side = |act: Act| {
        let mut found: Vec<ReachedBy> = Vec::new();
        let mut places = std::collections::HashMap::new();
        let mut who = vec![false; fleet.len()];
        for voice in voices.iter().filter(|voice| !voice.members.is_empty()) {
            let table = fleet.table(voice.part.class, 0);
            let mut denies = None;
            for (_, rule, allowed) in fleet.allows(voice.part, &table, act) {
                let Some(common) = intersection(filter, &allowed) else { continue };
                let denies = denies.get_or_insert_with(|| fleet.denies(voice.part, 0, act));
                let Some(piece) = Piece::new(common, &*denies) else { continue };
                let key = (rule.at.policy.clone(), rule.at.place.line, rule.at.place.column);
                let place = *places.entry(key).or_insert_with(|| {
                    found.push(ReachedBy { rule: rule.clone(), count: 0, topics: Vec::new(), samples: Vec::new() });
                    found.len() - 1
                });
                let entry = &mut found[place];
                entry.count += u64::try_from(voice.members.len()).unwrap_or(u64::MAX);
                if entry.topics.len() < SAMPLES {
                    let shown = fleet.generalised(voice.part, piece.of());
                    if !entry.topics.contains(&shown) {
                        entry.topics.push(shown);
                    }
                }
                let wanted = SAMPLES.saturating_sub(entry.samples.len());
                for member in voice.members.iter().take(wanted) {
                    // No id and no value has a capital letter, so that the free level is nobody's.
                    let topic = piece.sample_named("X").unwrap_or_default();
                    entry.samples.push(Reaching {
                        device: fleet.id(member.0).to_owned(),
                        child: member.1.map(|child| fleet.id(child).to_owned()),
                        topic: fleet.written(&topic, *member),
                    });
                }
                for (device, _) in &voice.members {
                    if let Some(known) = usize::try_from(*device).ok().and_then(|at| who.get_mut(at)) {
                        *known = true;
                    }
                }
            }
        }
        let order = |found: &ReachedBy| {
            let place = &found.rule.at.place;
            (place.file.clone(), place.line, place.column)
        };
        found.sort_by_key(order);
        let count = who.iter().filter(|known| **known).count();
        (u64::try_from(count).unwrap_or(u64::MAX), found)
    };
    let (publishers, publish) = side(Act::Publish);
    let (receivers, subscribe) = side(Act::Subscribe);
    let devices = u64::try_from(fleet.len()).unwrap_or(u64::MAX);
    Reach { devices, publishers, publish, receivers, subscribe }
}

/// An empty fleet that can answer [`reach`] for `filter` under `edition`.
#[must_use]
pub fn fleet_for<'e>(edition: &'e Edition, filter: &'e TopicFilter) -> Fleet<'e> {
    Fleet::new(&[edition], filter_texts(filter))
}
