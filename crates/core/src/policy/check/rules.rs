//! What each rule does to the fleet: whom it applies to, what hides it, what it repeats, whose values it lacks.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::finding::{Finding, Severity};
use crate::id::KindName;
use crate::settings::Settings;
use crate::topic::{TopicFilter, intersection, uncovered};

use super::super::fleet::{CHILD, Fleet, OWN, Part, renamed};
use super::super::table::Table;
use super::super::{Act, Effect, Policy, Rule, Target, Variable};
use super::words::unknown_labels;

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
pub(super) struct Rules {
    policies: Vec<(u64, Vec<Seen>)>,
    total: u64,
    without_policy: u64,
    sample: Option<String>,
    not_carried: BTreeSet<(KindName, KindName)>,
}

impl Rules {
    pub(super) fn of(fleet: &Fleet<'_>, settings: &Settings) -> Self {
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

    pub(super) fn report(&self, fleet: &Fleet<'_>, findings: &mut Vec<Finding>) {
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
