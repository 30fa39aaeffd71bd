//! From what devices do to the narrowest policies, by kind, that let them: the ids and labels in topics become variables.

use std::collections::{BTreeMap, BTreeSet};

use crate::condition::Groups;
use crate::device::DeviceRecord;
use crate::id::{DeviceId, KindName};
use crate::settings::Settings;
use crate::text::{Source, quote};
use crate::topic::{ShareName, TopicName, split_share};

use super::{Act, Edition, Household, NoMeter, PolicyFile, Publish, Speaker, Variable, layout};

/// More values than this in one level of otherwise equal topics become `+`.
const MAX_VALUES: usize = 12;

/// How many devices of a kind must have been seen before what one of them alone does counts as odd.
const ENOUGH: usize = 10;

/// Of so many devices, what one of them alone does counts as odd.
const ODD: usize = 50;

/// The most choices of variables that are weighed for one topic.
const MAX_CHOICES: usize = 64;

/// One act that was observed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Observed {
    /// Whose.
    pub device: DeviceId,
    /// What.
    pub act: Act,
    /// The client identifier, topic, or topic filter, with `$share/NAME/` if it had it.
    pub subject: String,
    /// The QoS.
    pub qos: u8,
    /// Whether a message was to be retained.
    pub retain: bool,
    /// Octets of payload.
    pub size: usize,
}

/// An observed act that the draft does not let pass.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outlier {
    /// The act.
    pub observed: Observed,
    /// Why the draft leaves it out.
    pub why: String,
}

/// A proposal.
#[derive(Debug, Clone)]
pub struct Draft {
    /// Its text, in the canonical layout.
    pub text: String,
    /// How many different acts it is made from.
    pub acts: usize,
    /// Of how many devices.
    pub devices: usize,
    /// The acts that it refuses.
    pub outliers: Vec<Outlier>,
}

/// One level of a proposed topic.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Part {
    Text(String),
    Variable(Variable),
}

/// A proposed rule.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Shape {
    act: Act,
    share: Option<ShareName>,
    for_children: bool,
    levels: Vec<Part>,
}

/// What the acts under one rule need.
#[derive(Debug, Clone, Default)]
struct Need {
    devices: BTreeSet<DeviceId>,
    qos: u8,
    size: usize,
    retain: bool,
    /// How many values one level had, where it became `+`.
    values: usize,
    acts: Vec<Observed>,
}

impl Need {
    fn add(&mut self, act: &Observed) {
        self.devices.insert(act.device.clone());
        self.qos = self.qos.max(act.qos);
        self.size = self.size.max(act.size);
        self.retain |= act.retain;
        self.acts.push(act.clone());
    }

    fn join(&mut self, other: Self) {
        self.devices.extend(other.devices);
        self.qos = self.qos.max(other.qos);
        self.size = self.size.max(other.size);
        self.retain |= other.retain;
        self.acts.extend(other.acts);
    }
}

/// Proposes policies. `listed` holds the devices that acts name, with their children; an act of another device is an
/// outlier.
#[must_use]
pub fn draft(observed: &BTreeSet<Observed>, listed: &BTreeMap<DeviceId, Household>, settings: &Settings) -> Draft {
    let mut outliers = Vec::new();
    let mut by_kind: BTreeMap<&KindName, Vec<(&Observed, &Household)>> = BTreeMap::new();
    for act in observed {
        let mut odd = |why: String| outliers.push(Outlier { observed: act.clone(), why });
        match listed.get(&act.device) {
            None => odd("the ward has no such device".to_owned()),
            Some(household) => match another(act, household, listed) {
                Some(other) => odd(format!("it names another device, `{other}`")),
                None => by_kind.entry(&household.device.kind).or_default().push((act, household)),
            },
        }
    }
    let mut text = String::new();
    for (kind, acts) in &by_kind {
        text.push_str(&policy(kind, acts, &mut outliers));
        text.push('\n');
    }
    // The layout takes whatever the reader takes, and what is not a policy comes out as it is, for the mistake to be seen.
    let text = layout(&Source::new("draft", &text)).unwrap_or(text);
    judge(&text, observed, listed, settings, &mut outliers);
    let devices: BTreeSet<&DeviceId> = observed.iter().map(|act| &act.device).collect();
    outliers.sort_by(|a, b| a.observed.cmp(&b.observed));
    Draft { text, acts: observed.len(), devices: devices.len(), outliers }
}

/// A listed device that a topic names and that is neither its sender nor its gateway nor one of its children.
fn another<'l>(
    act: &Observed,
    household: &Household,
    listed: &'l BTreeMap<DeviceId, Household>,
) -> Option<&'l DeviceId> {
    if act.act == Act::Connect {
        return None;
    }
    act.subject.split('/').find_map(|level| {
        let (other, _) = level.parse::<DeviceId>().ok().and_then(|id| listed.get_key_value(&id))?;
        let known = *other == household.device.id
            || household.device.gateway.as_ref() == Some(other)
            || household.children.iter().any(|child| child.id == *other);
        (!known).then_some(other)
    })
}

/// The policy of one kind; what only single devices do goes to the outliers.
fn policy(kind: &KindName, acts: &[(&Observed, &Household)], outliers: &mut Vec<Outlier>) -> String {
    let seen: BTreeSet<&DeviceId> = acts.iter().map(|(act, _)| &act.device).collect();
    let mut connects = BTreeSet::new();
    let mut open: Vec<(&Observed, BTreeSet<Shape>)> = Vec::new();
    for (act, household) in acts {
        if act.act == Act::Connect {
            match act.subject.strip_prefix(act.device.as_str()) {
                Some("") => drop(connects.insert("{device}")),
                Some(rest) if rest.starts_with(':') => drop(connects.insert("{device}:*")),
                _ => outliers.push(Outlier {
                    observed: (*act).clone(),
                    why: "no rule can allow a client identifier that does not begin with the device's id".to_owned(),
                }),
            }
            continue;
        }
        let shapes = shapes(act, household);
        if shapes.is_empty() {
            let why = "it is no topic or topic filter".to_owned();
            outliers.push(Outlier { observed: (*act).clone(), why });
        } else {
            open.push((act, shapes));
        }
    }
    let mut rules = chosen(open);
    widen(&mut rules);
    rules.retain(|_, need| {
        let devices = need.devices.len();
        let odd = seen.len() >= ENOUGH && devices * ODD <= seen.len().max(ODD);
        if odd {
            let why = format!("only {devices} of {} devices of its kind did that", seen.len());
            let outlier = |act: Observed| Outlier { observed: act, why: why.clone() };
            outliers.extend(std::mem::take(&mut need.acts).into_iter().map(outlier));
        }
        !odd
    });
    let counted = |count: usize, noun: &str| format!("{count} {noun}{}", if count == 1 { "" } else { "s" });
    let mut text = format!(
        "# Drafted from {} of {}; read it before you adopt it.\npolicy {kind} {{\n  for kind = {kind}\n\n",
        counted(acts.len(), "different act"),
        counted(seen.len(), "device")
    );
    for form in connects {
        text.push_str(&format!("  allow connect as \"{form}\"\n"));
    }
    for (shape, need) in rules {
        text.push_str(&rule(&shape, &need, seen.len()));
    }
    text + "}\n"
}

/// Every way to put variables into the topic of an act. What is the device's own id, or its child's, is always a variable.
fn shapes(act: &Observed, household: &Household) -> BTreeSet<Shape> {
    let Ok((share, filter)) = split_share(&act.subject) else { return BTreeSet::new() };
    let text = match &share {
        Some(_) => filter.to_string(),
        None => act.subject.clone(),
    };
    let levels: Vec<&str> = text.split('/').collect();
    let child = household.children.iter().find(|child| levels.contains(&child.id.as_str()));
    let speaker = Speaker { device: &household.device, child };
    let mut all: Vec<Vec<Part>> = vec![Vec::new()];
    for level in &levels {
        let choices = choices(level, speaker);
        if all.len() * choices.len() > MAX_CHOICES {
            let first = choices.into_iter().next();
            all.iter_mut().for_each(|levels| levels.extend(first.clone()));
            continue;
        }
        all = all
            .iter()
            .flat_map(|levels| {
                choices.iter().map(|choice| levels.iter().cloned().chain([choice.clone()]).collect::<Vec<_>>())
            })
            .collect();
    }
    let shape = |levels| Shape { act: act.act, share: share.clone(), for_children: child.is_some(), levels };
    all.into_iter().map(shape).collect()
}

/// What a level could be, the likeliest first.
fn choices(level: &str, speaker: Speaker<'_>) -> Vec<Part> {
    let is = |variable: &Variable| variable.value(speaker) == Some(level);
    for own in [Variable::Child, Variable::Device] {
        if is(&own) {
            return vec![Part::Variable(own)];
        }
    }
    let about: &DeviceRecord = speaker.child.unwrap_or(speaker.device);
    let labels = about.labels.keys().map(|name| Variable::Label(name.clone()));
    let variables = [Variable::Gateway, Variable::Owner].into_iter().chain(labels).filter(|variable| is(variable));
    variables.map(Part::Variable).chain([Part::Text(level.to_owned())]).collect()
}

/// Picks rules until every act has one: always the one that the most acts of the most devices fit, and of those the one
/// with the most variables.
fn chosen(mut open: Vec<(&Observed, BTreeSet<Shape>)>) -> BTreeMap<Shape, Need> {
    let mut rules = BTreeMap::new();
    while !open.is_empty() {
        let mut support: BTreeMap<&Shape, (BTreeSet<&DeviceId>, usize)> = BTreeMap::new();
        for (act, shapes) in &open {
            for shape in shapes {
                let entry = support.entry(shape).or_default();
                entry.0.insert(&act.device);
                entry.1 += 1;
            }
        }
        let variables = |shape: &Shape| shape.levels.iter().filter(|part| matches!(part, Part::Variable(_))).count();
        let best = support.iter().max_by_key(|(shape, (devices, acts))| (devices.len(), *acts, variables(shape)));
        let Some(best) = best.map(|(shape, _)| (*shape).clone()) else { break };
        let (fitting, rest): (Vec<_>, Vec<_>) = open.into_iter().partition(|(_, shapes)| shapes.contains(&best));
        open = rest;
        let mut need = Need::default();
        fitting.iter().for_each(|(act, _)| need.add(act));
        rules.insert(best, need);
    }
    rules
}

/// Puts `+` where one level of otherwise equal topics has very many values.
fn widen(rules: &mut BTreeMap<Shape, Need>) {
    let longest = rules.keys().map(|shape| shape.levels.len()).max().unwrap_or(0);
    for at in 0..longest {
        let mut alike: BTreeMap<Shape, Vec<Shape>> = BTreeMap::new();
        for shape in rules
            .keys()
            .filter(|shape| matches!(shape.levels.get(at), Some(Part::Text(text)) if text != "+" && text != "#"))
        {
            let mut wide = shape.clone();
            wide.levels[at] = Part::Text("+".to_owned());
            alike.entry(wide).or_default().push(shape.clone());
        }
        for (wide, narrow) in alike.into_iter().filter(|(_, narrow)| narrow.len() > MAX_VALUES) {
            let mut all = Need { values: narrow.len(), ..Need::default() };
            narrow.iter().filter_map(|shape| rules.remove(shape)).for_each(|need| all.join(need));
            rules.insert(wide, all);
        }
    }
}

/// The text of a proposed rule.
fn rule(shape: &Shape, need: &Need, seen: usize) -> String {
    let level = |part: &Part| match part {
        Part::Text(text) => text.clone(),
        Part::Variable(variable) => variable.to_string(),
    };
    let topic = shape.levels.iter().map(level).collect::<Vec<_>>().join("/");
    let mut text = String::new();
    if need.values > 0 {
        text.push_str(&format!("  # `+` stands for {} different values that were seen\n", need.values));
    }
    text.push_str(&format!("  allow {} {}", shape.act.as_str(), quote(&topic)));
    if let Some(share) = &shape.share {
        text.push_str(&format!(" share {}", quote(share)));
    }
    if shape.for_children {
        text.push_str(" for children");
    }
    text.push_str(&format!(" qos <= {}", need.qos));
    if shape.act == Act::Publish {
        text.push_str(&format!(", size <= {}", need.size.max(256).next_power_of_two().min(256 * 1024 * 1024)));
        if !need.retain {
            text.push_str(", no retain");
        }
    }
    let own = [Part::Variable(Variable::Device), Part::Variable(Variable::Child)];
    if !shape.levels.iter().any(|part| own.contains(part)) {
        // Why many devices need the same topics is for a person to say: the check wants it.
        let note =
            format!("  # seen from {} of {seen} devices; a broad rule needs: because \"...\"\n", need.devices.len());
        text.insert_str(0, &note);
    }
    text + "\n"
}

/// Holds the draft against every act; what it refuses and is not told yet becomes an outlier with the reason.
fn judge(
    text: &str,
    observed: &BTreeSet<Observed>,
    listed: &BTreeMap<DeviceId, Household>,
    settings: &Settings,
    outliers: &mut Vec<Outlier>,
) {
    let file = PolicyFile { name: "draft".to_owned(), text: text.to_owned() };
    let edition = match Edition::read(0, &[file], &Groups::new()) {
        Ok(edition) => edition,
        Err(errors) => {
            let why = errors.first().map(ToString::to_string).unwrap_or_default();
            outliers.extend(observed.iter().map(|act| Outlier { observed: act.clone(), why: why.clone() }));
            return;
        }
    };
    let told: BTreeSet<Observed> = outliers.iter().map(|outlier| outlier.observed.clone()).collect();
    let mut rights = None;
    for act in observed.iter().filter(|act| !told.contains(act)) {
        let Some(household) = listed.get(&act.device) else { continue };
        // Acts are sorted by device, so each device's rights are made once.
        if !matches!(&rights, Some((id, _)) if *id == &act.device) {
            rights = Some((&act.device, household.rights(&edition, settings)));
        }
        let Some((_, rights)) = &rights else { continue };
        let why = match act.act {
            Act::Connect => rights.connect(&act.subject).err().map(|denial| denial.to_string()),
            Act::Publish => match TopicName::parse(&act.subject) {
                Ok(topic) => {
                    let asked = Publish { topic, qos: act.qos, retain: act.retain, size: act.size };
                    rights.publish(asked, &mut NoMeter).err().map(|denial| denial.to_string())
                }
                Err(error) => Some(error.to_string()),
            },
            Act::Subscribe => match split_share(&act.subject) {
                Ok((share, filter)) => match rights.subscribe(&filter, act.qos, share.as_deref()) {
                    Ok(_) => None,
                    Err(denial) => Some(denial.to_string()),
                },
                Err(error) => Some(error.to_string()),
            },
        };
        outliers.extend(why.map(|why| Outlier { observed: act.clone(), why }));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::policy::tests::settings;
    use crate::time::UnixTime;

    fn device(id: &str, kind: &str, site: &str, gateway: Option<&str>) -> DeviceRecord {
        let mut device = DeviceRecord::new(id.parse().unwrap(), kind.parse().unwrap(), UnixTime(0));
        device.labels.insert("site".parse().unwrap(), site.parse().unwrap());
        device.gateway = gateway.map(|gateway| gateway.parse().unwrap());
        device
    }

    fn listed(devices: Vec<DeviceRecord>) -> BTreeMap<DeviceId, Household> {
        let children =
            |id: &DeviceId| devices.iter().filter(|child| child.gateway.as_ref() == Some(id)).cloned().collect();
        devices
            .iter()
            .map(|device| (device.id.clone(), Household { device: device.clone(), children: children(&device.id) }))
            .collect()
    }

    fn act(device: &str, act: Act, subject: &str, qos: u8) -> Observed {
        Observed { device: device.parse().unwrap(), act, subject: subject.into(), qos, retain: false, size: 300 }
    }

    #[test]
    fn ids_and_labels_become_variables_and_strays_are_named() {
        let listed = listed(vec![
            device("st-1", "station", "ossel", None),
            device("wv-1", "windvane", "ossel", Some("st-1")),
            device("wv-2", "windvane", "brindle", None),
        ]);
        let observed: BTreeSet<Observed> = [
            act("wv-1", Act::Connect, "wv-1", 0),
            act("wv-2", Act::Connect, "other", 0),
            act("wv-1", Act::Publish, "rope/ossel/wv-1/wind", 1),
            act("wv-2", Act::Publish, "rope/brindle/wv-2/wind", 0),
            act("wv-2", Act::Publish, "rope/brindle/wv-1/wind", 0),
            act("wv-1", Act::Subscribe, "rope/ossel/+/storm", 0),
            act("wv-1", Act::Subscribe, "$share/w/rope/ossel/wv-1/work", 2),
            act("st-1", Act::Publish, "rope/ossel/wv-1/wind", 0),
            act("st-1", Act::Subscribe, "a/#/b", 0),
            act("gone", Act::Connect, "gone", 0),
        ]
        .into();
        let draft = draft(&observed, &listed, &settings());
        let want = r#"# Drafted from 2 different acts of 1 device; read it before you adopt it.
policy station {
  for   kind = station

  allow publish   "rope/{site}/{child}/wind"  for children qos <= 0, size <= 512, no retain
}

# Drafted from 6 different acts of 2 devices; read it before you adopt it.
policy windvane {
  for   kind = windvane

  allow connect   as "{device}"
  allow publish   "rope/{site}/{device}/wind"  qos <= 1, size <= 512, no retain
  # seen from 1 of 2 devices; a broad rule needs: because "..."
  allow subscribe "rope/{site}/+/storm"        qos <= 0
  allow subscribe "rope/{site}/{device}/work"  share "w" qos <= 2
}
"#;
        assert_eq!(draft.text, want);
        let told: Vec<String> =
            draft.outliers.iter().map(|outlier| format!("{} {}", outlier.observed.device, outlier.why)).collect();
        assert_eq!(told.len(), 4, "{told:#?}");
        assert!(told.iter().any(|text| text == "gone the ward has no such device"));
        assert!(told.iter().any(|text| text == "wv-2 it names another device, `wv-1`"));
    }

    #[test]
    fn what_one_of_many_does_is_odd_and_many_values_become_one_level() {
        let devices: Vec<_> = (0..60).map(|at| device(&format!("wv-{at}"), "windvane", "ossel", None)).collect();
        let mut observed = BTreeSet::new();
        for at in 0..60 {
            observed.insert(act(&format!("wv-{at}"), Act::Publish, &format!("rope/ossel/wv-{at}/run-{at}/wind"), 0));
        }
        observed.insert(act("wv-7", Act::Publish, "debug/wv-7", 0));
        let draft = draft(&observed, &listed(devices), &settings());
        assert!(
            draft.text.contains("\"rope/{site}/{device}/+/wind\"") && !draft.text.contains("debug"),
            "{}",
            draft.text
        );
        assert!(draft.text.contains("# `+` stands for 60 different values that were seen"), "{}", draft.text);
        let told: Vec<_> =
            draft.outliers.iter().map(|outlier| (outlier.observed.subject.as_str(), &*outlier.why)).collect();
        assert_eq!(told, [("debug/wv-7", "only 1 of 60 devices of its kind did that")]);
    }
}
