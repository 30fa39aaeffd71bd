//! Checking policies before they are adopted: every finding has a name, a place, a reason and a way to mend it.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use serde::Serialize;

use crate::condition::{Condition, Field, Groups};
use crate::device::DeviceRecord;
use crate::finding::{Finding, Severity};
use crate::id::{DeviceId, KindName, LabelName};
use crate::settings::Settings;
use crate::text::{Place, nearest, quote};
use crate::time::UnixTime;
use crate::topic::{TopicFilter, TopicName, intersection, split_share, uncovered};

use super::fleet::{CHILD, Fleet, OWN, Part, renamed};
use super::sole::{self, Witness};
use super::table::Table;
use super::{
    Act, Edition, Effect, Expect, ExpectDevice, NoMeter, Pattern, Policy, Publish, Rights, Rule, Target, Variable,
};

/// The variables that are no labels.
const VARIABLES: [&str; 5] = ["device", "child", "kind", "owner", "gateway"];

/// A device with the children that it could speak for.
#[derive(Debug, Clone)]
pub struct Household {
    /// The device.
    pub device: DeviceRecord,
    /// Devices whose gateway it is.
    pub children: Vec<DeviceRecord>,
}

impl Household {
    /// What an edition gives the device.
    #[must_use]
    pub fn rights(&self, edition: &Edition, settings: &Settings) -> Rights {
        edition.rights_with(&self.device, &self.children, settings)
    }
}

/// A claim that was proved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Proved {
    /// Where it stands.
    #[serde(flatten)]
    pub place: Place,
    /// The claim.
    pub claim: String,
    /// For how many devices it was proved, against all others of the fleet.
    pub devices: u64,
}

/// What there is to say about a set of policies.
#[derive(Debug, Clone, Default)]
pub struct Checked {
    /// What is wrong or looks wrong, in the order of files and lines.
    pub findings: Vec<Finding>,
    /// The claims that hold.
    pub proved: Vec<Proved>,
}

/// Checks the first edition of `fleet` against the settings, the groups and the whole fleet. `named` holds the devices that
/// [`Edition::named_devices`] tells, as far as they are listed.
#[must_use]
pub fn check(
    fleet: &Fleet<'_>,
    settings: &Settings,
    groups: &Groups,
    named: &BTreeMap<DeviceId, Household>,
) -> Checked {
    let edition = fleet.edition(0);
    let mut findings = Vec::new();
    names(&edition.policies, &mut findings);
    for policy in &edition.policies {
        kinds(policy, settings, &mut findings);
        group_names(policy, groups, &mut findings);
        if policy.subjects.never_holds() {
            findings.push(Finding {
                id: "never-applies",
                severity: Severity::Warning,
                place: Some(policy.subjects_place.clone()),
                problem: format!(
                    "no device can ever be what policy `{}` is for: its parts contradict each other",
                    policy.name
                ),
                mend: "join what excludes each other with `or`, or take one part out".to_owned(),
            });
        }
        for rule in &policy.rules {
            broad(rule, &mut findings);
        }
        if !fleet.is_empty() {
            labels(policy, fleet, &mut findings);
        }
    }
    Rules::of(fleet, settings).report(fleet, &mut findings);
    let mut proved = Vec::new();
    for judged in sole::judge(fleet, settings) {
        let place = judged.sole.place.clone();
        match judged.refuted {
            None => {
                let claim = format!("sole publish \"{}\"", judged.sole.pattern);
                proved.push(Proved { place, claim, devices: judged.subjects });
            }
            Some(Witness { topic, subject, other, child, rule }) => {
                let for_child = child.map_or_else(String::new, |child| format!(" for its child `{child}`"));
                findings.push(Finding {
                    id: "not-sole",
                    severity: Severity::Error,
                    place: Some(place),
                    problem: format!(
                        "`{other}` can publish {}{for_child} too, which is claimed for `{subject}` alone",
                        quote(&topic)
                    ),
                    mend: format!("narrow {}, which allows it, deny it there, or narrow the claim", rule.at),
                });
            }
        }
    }
    for expect in edition.policies.iter().flat_map(|policy| &policy.expects) {
        expectation(edition, settings, expect, named, &mut findings);
    }
    findings.sort_by(|a, b| place_key(a).cmp(&place_key(b)));
    Checked { findings, proved }
}

fn place_key(finding: &Finding) -> (bool, Option<(&str, usize, usize)>) {
    let place = finding.place.as_ref().map(|place| (&*place.file, place.line, place.column));
    (place.is_none(), place)
}

fn names(policies: &[Arc<Policy>], findings: &mut Vec<Finding>) {
    let mut first: HashMap<&str, &Policy> = HashMap::new();
    for policy in policies {
        if let Some(other) = first.get(policy.name.as_str()) {
            findings.push(Finding {
                id: "name-taken",
                severity: Severity::Error,
                place: Some(policy.place.clone()),
                problem: format!("another policy is named `{}`, at {}", policy.name, other.place),
                mend: "give one of them another name".to_owned(),
            });
        } else {
            first.insert(policy.name.as_str(), policy);
        }
    }
}

fn kinds(policy: &Policy, settings: &Settings, findings: &mut Vec<Finding>) {
    let mut unknown = BTreeSet::new();
    policy.subjects.each_equality(&mut |field, value| {
        if *field == Field::Kind && !settings.kinds.contains_key(value) {
            unknown.insert(value.to_owned());
        }
    });
    for kind in unknown {
        let near = nearest(&kind, settings.kinds.keys().map(KindName::as_str));
        findings.push(Finding {
            id: "unknown-kind",
            severity: Severity::Error,
            place: Some(policy.subjects_place.clone()),
            problem: format!("policy `{}` is for the kind `{kind}`, which ward.toml does not declare", policy.name),
            mend: match near {
                Some(near) => format!("did you mean `{near}`? or declare it: [kinds.{kind}]"),
                None => format!("declare it in ward.toml: [kinds.{kind}]"),
            },
        });
    }
}

fn broad(rule: &Rule, findings: &mut Vec<Finding>) {
    let pattern = match &rule.target {
        Target::Publish(pattern) | Target::Subscribe(pattern) => pattern,
        Target::Connect(_) => return,
    };
    if rule.effect == Effect::Allow && rule.because.is_none() && pattern.is_broad() {
        findings.push(Finding {
            id: "broad-rule",
            severity: Severity::Error,
            place: Some(rule.at.place.clone()),
            problem: "this rule gives the same topics to every device that its policy is for".to_owned(),
            mend: "put {device} in one level, or say why: because \"...\"".to_owned(),
        });
    }
}

/// The labels that a pattern names and no device has.
fn unknown_labels<'p>(pattern: &'p Pattern, fleet: &Fleet<'_>) -> impl Iterator<Item = &'p LabelName> {
    let known: BTreeSet<&str> = fleet.label_names().collect();
    let unknown: BTreeSet<&LabelName> = pattern
        .variables()
        .filter_map(|variable| match variable {
            Variable::Label(name) if !known.contains(name.as_str()) => Some(name),
            _ => None,
        })
        .collect();
    unknown.into_iter()
}

/// Tells of labels that no device has, where rules, claims and conditions name them.
fn labels(policy: &Policy, fleet: &Fleet<'_>, findings: &mut Vec<Finding>) {
    let mut tell = |name: &LabelName, place: &Place| {
        findings.push(Finding {
            id: "unknown-label",
            severity: Severity::Warning,
            place: Some(place.clone()),
            problem: format!("no device of the ward has the label `{name}`"),
            mend: match nearest(name.as_str(), fleet.label_names().chain(VARIABLES)) {
                Some(near) => format!("did you mean `{near}`? or set it: device edit DEVICE --label {name}=..."),
                None => format!("set it: device edit DEVICE --label {name}=..."),
            },
        });
    };
    for rule in &policy.rules {
        let names = rule.target.pattern().into_iter().flat_map(|pattern| unknown_labels(pattern, fleet));
        names.for_each(|name| tell(name, &rule.at.place));
    }
    for sole in &policy.soles {
        unknown_labels(&sole.pattern, fleet).for_each(|name| tell(name, &sole.place));
    }
    let mut named = BTreeSet::new();
    policy.subjects.each_leaf(&mut |leaf| {
        if let Condition::Text(Field::Label(name), _) = leaf {
            named.insert(name);
        }
    });
    let known: BTreeSet<&str> = fleet.label_names().collect();
    named.retain(|name| !known.contains(name.as_str()));
    named.into_iter().for_each(|name| tell(name, &policy.subjects_place));
}

fn group_names(policy: &Policy, groups: &Groups, findings: &mut Vec<Finding>) {
    let mut named = BTreeSet::new();
    policy.subjects.each_group(&mut |group| {
        named.insert(group);
    });
    for group in named {
        let mut found = |id, problem: String, mend: String| {
            let place = Some(policy.subjects_place.clone());
            findings.push(Finding { id, severity: Severity::Error, place, problem, mend });
        };
        match groups.get(group) {
            None => found(
                "unknown-group",
                format!("policy `{}` is for the group `{group}`, which the ward does not have", policy.name),
                match nearest(group.as_str(), groups.keys().map(|group| group.as_str())) {
                    Some(near) => format!("did you mean `{near}`? or make it: group make {group}"),
                    None => format!("make it: group make {group}"),
                },
            ),
            Some(Some(rule)) => {
                let mut unsteady = false;
                rule.each_leaf(&mut |leaf| {
                    unsteady |= matches!(leaf, Condition::Time(..) | Condition::Text(Field::State, _));
                });
                if unsteady {
                    found(
                        "unsteady-group",
                        format!("the group `{group}` changes by itself as time passes, and so would rights"),
                        "use a group by id, kind, gateway, owner, labels and facts, or a fixed one".to_owned(),
                    );
                }
            }
            Some(None) => {}
        }
    }
}

/// What is learned about one rule while the classes of a fleet pass by.
#[derive(Debug, Default)]
struct Seen {
    selected: u64,
    /// How many children are spoken for by it, for a rule for children.
    spoken_for: u64,
    /// Who has no value for one of its variables.
    without_value: BTreeMap<Variable, Lacking>,
    /// Whether it gives or takes anything for anybody.
    applies: bool,
    /// Whether it gives something, for somebody, that no deny takes away.
    shines: bool,
    /// The deny that hides it, where one does.
    hidden_by: Option<Rule>,
    /// Whether it gives something, for somebody, that no other rule gives as widely.
    adds: bool,
    /// Some rules that give as much to everybody whom it was looked at for; none left means that none of them does.
    repeats: Option<Vec<Rule>>,
}

/// Devices that have no value for a variable.
#[derive(Debug, Clone, Default)]
struct Lacking {
    count: u64,
    /// Some of them.
    named: Vec<String>,
}

/// How many of them are named.
const LACKING_NAMED: usize = 3;

impl Lacking {
    fn add(&mut self, fleet: &Fleet<'_>, count: u64, members: impl Iterator<Item = u32>) {
        self.count += count;
        let wanted = LACKING_NAMED.saturating_sub(self.named.len());
        self.named.extend(members.take(wanted).map(|member| fleet.id(member).to_owned()));
    }
}

/// What is learned about all rules.
struct Rules {
    policies: Vec<(u64, Vec<Seen>)>,
    total: u64,
    without_policy: u64,
    sample: Option<String>,
    not_carried: BTreeSet<(KindName, KindName)>,
}

impl Rules {
    fn of(fleet: &Fleet<'_>, settings: &Settings) -> Self {
        let edition = fleet.edition(0);
        let seen = |policy: &Arc<Policy>| (0, policy.rules.iter().map(|_| Seen::default()).collect());
        let mut rules = Self {
            policies: edition.policies.iter().map(seen).collect(),
            total: 0,
            without_policy: 0,
            sample: None,
            not_carried: BTreeSet::new(),
        };
        for voice in fleet.own_voices().iter().filter(|voice| !voice.members.is_empty()) {
            let (class, count) = (voice.part.class, u64::try_from(voice.members.len()).unwrap_or(u64::MAX));
            rules.total += count;
            let selection = fleet.selection(class, 0);
            if selection.is_empty() {
                rules.without_policy += count;
                let first = voice.members.first().map(|(member, _)| fleet.id(*member).to_owned());
                rules.sample = rules.sample.take().or(first);
            }
            let table = fleet.table(class, 0);
            for place in selection {
                let Some((place, policy)) =
                    usize::try_from(*place).ok().and_then(|at| Some((at, edition.policies.get(at)?)))
                else {
                    continue;
                };
                rules.policies[place].0 += count;
                for (rule, seen) in policy.rules.iter().zip(&mut rules.policies[place].1) {
                    seen.selected += count;
                    if !rule.for_children {
                        for variable in unset(fleet, class, rule) {
                            let lacking = seen.without_value.entry(variable.clone()).or_default();
                            lacking.add(fleet, count, voice.members.iter().map(|(member, _)| *member));
                        }
                    }
                    look(fleet, voice.part, &table, rule, seen);
                }
            }
        }
        for voice in fleet.child_voices(settings) {
            let table = fleet.table(voice.part.class, 0);
            for place in fleet.selection(voice.part.class, 0) {
                let Some(at) = usize::try_from(*place).ok() else { continue };
                let Some(policy) = edition.policies.get(at) else { continue };
                for (rule, seen) in policy.rules.iter().zip(&mut rules.policies[at].1) {
                    if rule.for_children {
                        let count = u64::try_from(voice.members.len()).unwrap_or(u64::MAX);
                        seen.spoken_for += count;
                        for variable in unset(fleet, voice.part.child.unwrap_or(voice.part.class), rule) {
                            let lacking = seen.without_value.entry(variable.clone()).or_default();
                            lacking.add(fleet, count, voice.members.iter().filter_map(|(_, child)| *child));
                        }
                        look(fleet, voice.part, &table, rule, seen);
                    }
                }
            }
        }
        rules.not_carried = fleet.not_carried(settings);
        rules
    }

    fn report(&self, fleet: &Fleet<'_>, findings: &mut Vec<Finding>) {
        let edition = fleet.edition(0);
        for (policy, (selected, rules)) in edition.policies.iter().zip(&self.policies) {
            if *selected == 0 && self.total > 0 && !policy.subjects.never_holds() {
                findings.push(Finding {
                    id: "selects-nobody",
                    severity: Severity::Warning,
                    place: Some(policy.subjects_place.clone()),
                    problem: format!("policy `{}` is for no device of the ward", policy.name),
                    mend: "correct its `for`, or leave it for devices to come".to_owned(),
                });
            }
            for (rule, seen) in policy.rules.iter().zip(rules) {
                let unknown = |pattern| unknown_labels(pattern, fleet).next().is_some();
                if !rule.target.pattern().is_some_and(unknown) {
                    findings.extend(told(rule, seen));
                }
            }
            findings.extend(missing_values(policy, rules, fleet));
        }
        if let (Some(sample), true) = (&self.sample, self.without_policy > 0) {
            findings.push(Finding {
                id: "no-policy",
                severity: Severity::Warning,
                place: None,
                problem: format!(
                    "{} of {} devices have no policy, such as `{sample}`",
                    self.without_policy, self.total
                ),
                mend: "write a policy whose `for` picks them".to_owned(),
            });
        }
        for (gateway, child) in &self.not_carried {
            findings.push(Finding {
                id: "not-carried",
                severity: Severity::Warning,
                place: None,
                problem: format!(
                    "devices of kind `{child}` stand behind gateways of kind `{gateway}`, which may not speak for them"
                ),
                mend: format!("if they may: carries = [\"{child}\"] in [kinds.{gateway}] of ward.toml"),
            });
        }
    }
}

/// The variables of a rule that have no value in a class: that of the devices, or for a rule for children that of the children,
/// who are there and whose gateway speaks.
fn unset<'r>(fleet: &Fleet<'_>, class: u32, rule: &'r Rule) -> BTreeSet<&'r Variable> {
    let given = |variable: &Variable| rule.for_children && matches!(variable, Variable::Child | Variable::Gateway);
    let variables = rule.target.pattern().into_iter().flat_map(|pattern| pattern.variables());
    variables.filter(|variable| !given(variable) && !fleet.has_value(class, variable)).collect()
}

/// How many rules that give as much as another are followed: a policy may repeat itself thousands of times.
const REPEATED: usize = 8;

/// Looks at one rule as it is for one part; what is known already is not looked for again.
fn look(fleet: &Fleet<'_>, part: Part, table: &Table, rule: &Rule, seen: &mut Seen) {
    let Some(filter) = fleet.filter(part, rule) else {
        if let Target::Connect(form) = rule.target {
            seen.applies = true;
            let table_rules = table.policies.iter().flat_map(|policy| &policy.rules);
            let mut denies = table_rules.filter(|other| other.effect == Effect::Deny);
            match denies.find(|other| matches!(other.target, Target::Connect(denied) if denied == form)) {
                Some(deny) => seen.hidden_by = seen.hidden_by.take().or_else(|| Some(deny.clone())),
                None => seen.shines = true,
            }
        }
        return;
    };
    if rule.for_children != part.child.is_some() {
        return;
    }
    seen.applies = true;
    if rule.effect == Effect::Deny || (seen.shines && seen.adds) {
        return;
    }
    let act = rule.target.act();
    if !seen.shines {
        let denies = fleet.denies(part, 0, act);
        seen.shines = uncovered(&filter, &denies).is_some();
        if !seen.shines && seen.hidden_by.is_none() {
            let meets = |deny: &TopicFilter| intersection(&filter, deny).is_some();
            seen.hidden_by = hiding(fleet, part, table, act, &meets);
        }
    }
    if !seen.adds {
        let covers = |(other, by): (&Rule, TopicFilter)| {
            let same = other.at.place == rule.at.place && other.at.policy == rule.at.policy;
            let wide = other.share == rule.share && other.limits.admit_all_of(&rule.limits);
            // Of two that say the same, the later repeats the earlier.
            let equal = rule.limits.admit_all_of(&other.limits) && uncovered(&by, [&filter]).is_none();
            let later = (&rule.at.place.file, rule.at.place.line, rule.at.place.column)
                > (&other.at.place.file, other.at.place.line, other.at.place.column);
            (!same && wide && (!equal || later) && uncovered(&filter, [&by]).is_none()).then(|| other.clone())
        };
        let others = fleet.allows(part, table, act).into_iter().map(|(_, other, by)| (other, by));
        match seen.repeats.take() {
            None => {
                let all: Vec<Rule> = others.filter_map(covers).take(REPEATED).collect();
                seen.adds = all.is_empty();
                seen.repeats = Some(all);
            }
            Some(known) => {
                // Whoever gives as much to all of them is known already, or there is nobody.
                let mut covered = false;
                let mut still = Vec::new();
                for (other, by) in others {
                    let is_known = known.iter().any(|each| each.at == other.at);
                    if (is_known || !covered)
                        && let Some(other) = covers((other, by))
                    {
                        covered = true;
                        still.extend(is_known.then_some(other));
                    }
                }
                seen.adds = !covered;
                seen.repeats = Some(still);
            }
        }
    }
}

/// The first deny for a part that meets a filter; that of the child, if its gateway has none.
fn hiding(
    fleet: &Fleet<'_>,
    part: Part,
    table: &Table,
    act: Act,
    meets: &dyn Fn(&TopicFilter) -> bool,
) -> Option<Rule> {
    let first = |part: Part, table: &Table, of_child: bool| {
        let rules = table.side(act).deny_rules.iter().map(|number| table.rule(*number));
        // What a child's own policy calls the device is the child.
        let own = |filter: TopicFilter| if of_child { renamed(&filter, OWN, CHILD) } else { filter };
        let mut met = rules.filter(|rule| fleet.filter(part, rule).is_some_and(|filter| meets(&own(filter))));
        met.next().cloned()
    };
    let own = Part { child: None, who: None, ..part };
    let of_child = || {
        let class = part.child?;
        first(Part { class, child: None, who: None }, &fleet.table(class, 0), true)
    };
    first(own, table, false).or_else(of_child)
}

/// The devices that lack values for what the rules of a policy name: each variable once, at the first of its rules.
fn missing_values(policy: &Policy, rules: &[Seen], fleet: &Fleet<'_>) -> Vec<Finding> {
    let mut causes: BTreeMap<(&Variable, bool), (Vec<&Rule>, &Seen)> = BTreeMap::new();
    for (rule, seen) in policy.rules.iter().zip(rules) {
        let known = rule.target.pattern().is_some_and(|pattern| unknown_labels(pattern, fleet).next().is_none());
        if seen.applies && known {
            for variable in seen.without_value.keys() {
                causes.entry((variable, rule.for_children)).or_insert_with(|| (Vec::new(), seen)).0.push(rule);
            }
        }
    }
    let told = causes.into_iter().filter_map(|((variable, for_children), (rules, seen))| {
        let Lacking { count, named } = seen.without_value.get(variable)?;
        let first = rules.first()?;
        let (of, whose) = match for_children {
            true => (seen.spoken_for, "children"),
            false => (seen.selected, "devices"),
        };
        let verb = if *count == 1 { "has" } else { "have" };
        let more = if usize::try_from(*count).is_ok_and(|count| count > named.len()) { ", ..." } else { "" };
        let allows = rules.iter().filter(|rule| rule.effect == Effect::Allow).count();
        let denies = rules.len() - allows;
        let rule = |count: usize| if count == 1 { "1 rule".to_owned() } else { format!("{count} rules") };
        let mut then = Vec::new();
        if allows > 0 {
            then.push(format!(
                "{} of this policy {} them nothing",
                rule(allows),
                if allows == 1 { "gives" } else { "give" }
            ));
        }
        if denies > 0 {
            then.push(format!(
                "{} of it {} `+` in its place",
                rule(denies),
                if denies == 1 { "takes" } else { "take" }
            ));
        }
        Some(Finding {
            id: "missing-value",
            severity: Severity::Warning,
            place: Some(first.at.place.clone()),
            problem: format!(
                "{count} of {of} {whose} {verb} no value for {variable} ({}{more}): {}",
                named.join(", "),
                then.join(", and ")
            ),
            mend: "set the label, owner or gateway on those devices: device edit".to_owned(),
        })
    });
    told.collect()
}

/// The findings about one rule.
fn told(rule: &Rule, seen: &Seen) -> Vec<Finding> {
    let mut all = Vec::new();
    let mut tell = |id, problem: String, mend: String| {
        let place = Some(rule.at.place.clone());
        all.push(Finding { id, severity: Severity::Warning, place, problem, mend });
    };
    let set = "set the label, owner or gateway on those devices: device edit".to_owned();
    if seen.selected == 0 {
        return all;
    }
    if !seen.applies {
        let (problem, mend) = if rule.for_children {
            let mend =
                "let the gateway's kind carry its children's kinds in ward.toml, and give children their gateway";
            ("this rule never applies: its devices speak for no children".to_owned(), mend.to_owned())
        } else {
            let problem =
                format!("this rule never applies: a variable has no value on any of {} devices", seen.selected);
            (problem, set)
        };
        tell("never-applies", problem, mend);
        return all;
    }
    if rule.effect == Effect::Deny {
        return all;
    }
    if let (false, Some(deny)) = (seen.shines, &seen.hidden_by) {
        let problem = format!("this rule gives nothing to anybody: all of it is denied by {}", deny.at);
        tell("hidden-by-deny", problem, "remove it, or narrow the deny".to_owned());
    } else if let (false, Some(others)) = (seen.adds, &seen.repeats) {
        match others.first() {
            Some(other) => {
                let problem = format!("this rule adds nothing: {} gives at least as much", other.at);
                tell("repeats-another", problem, "remove it, or narrow the other".to_owned());
            }
            None => {
                let problem = "this rule adds nothing: for each device another rule gives at least as much".to_owned();
                tell("repeats-another", problem, "remove it, or narrow the others".to_owned());
            }
        }
    }
    all
}

fn expectation(
    edition: &Edition,
    settings: &Settings,
    expect: &Expect,
    named: &BTreeMap<DeviceId, Household>,
    findings: &mut Vec<Finding>,
) {
    let mut found = |id, severity, problem: String, mend: &str| {
        let place = Some(expect.place.clone());
        findings.push(Finding { id, severity, place, problem, mend: mend.to_owned() });
    };
    let described;
    let household = match &expect.device {
        ExpectDevice::Named(id) => match named.get(id) {
            Some(household) => household,
            None => {
                let mend = "list it, name another, or describe one: expect {kind=..., site=...} ...";
                return found(
                    "unknown-device",
                    Severity::Warning,
                    format!("the ward has no device `{id}`, so this was not tested"),
                    mend,
                );
            }
        },
        ExpectDevice::Described(pairs) => match describe(pairs) {
            Ok(device) => {
                if !settings.kinds.contains_key(device.kind.as_str()) {
                    let problem = format!("the kind `{}` is not declared in ward.toml", device.kind);
                    return found("unknown-kind", Severity::Error, problem, "name a declared kind");
                }
                described = Household { device, children: Vec::new() };
                &described
            }
            Err(problem) => {
                return found(
                    "bad-description",
                    Severity::Error,
                    problem,
                    "describe it as {kind=windvane, site=ossel}",
                );
            }
        },
    };
    let rights = household.rights(edition, settings);
    let denial = match expect.act {
        Act::Connect => rights.connect(&expect.subject).err(),
        Act::Publish => match TopicName::parse(&expect.subject) {
            Ok(topic) => rights.publish(Publish { topic, qos: 0, retain: false, size: 0 }, &mut NoMeter).err(),
            Err(_) => return,
        },
        Act::Subscribe => match split_share(&expect.subject) {
            Ok((share, filter)) => rights.subscribe(&filter, 0, share.as_deref()).err(),
            Err(_) => return,
        },
    };
    match (denial, expect.allowed) {
        (Some(denial), true) => {
            found(
                "failing-expect",
                Severity::Error,
                format!("expected allowed, but it is denied: {denial}"),
                "correct the rules or the expectation",
            );
        }
        (None, false) => {
            found(
                "failing-expect",
                Severity::Error,
                "expected denied, but it is allowed".to_owned(),
                "correct the rules or the expectation",
            );
        }
        (Some(_), false) | (None, true) => {}
    }
}

/// A device that is only described. Without `id` it is called `described-device`.
fn describe(pairs: &[(String, String)]) -> Result<DeviceRecord, String> {
    let find = |name: &str| pairs.iter().find(|(found, _)| found == name).map(|(_, value)| value.as_str());
    let id = find("id").unwrap_or("described-device").parse::<DeviceId>().map_err(|error| error.to_string())?;
    let kind = find("kind").ok_or("the description names no kind")?;
    let mut device =
        DeviceRecord::new(id, kind.parse().map_err(|error: crate::id::BadName| error.to_string())?, UnixTime(0));
    for (name, value) in pairs {
        let text = |error: crate::id::BadName| error.to_string();
        match name.as_str() {
            "id" | "kind" => {}
            "owner" => device.owner = Some(value.parse().map_err(text)?),
            "gateway" => device.gateway = Some(value.parse().map_err(text)?),
            label => {
                device.labels.insert(label.parse().map_err(text)?, value.parse().map_err(text)?);
            }
        }
    }
    Ok(device)
}
