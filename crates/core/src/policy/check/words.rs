//! What the words of a policy name: policies, kinds, labels, groups, and how broad a rule is.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use crate::condition::{Condition, Field, Groups};
use crate::finding::{Finding, Severity};
use crate::id::{KindName, LabelName};
use crate::settings::Settings;
use crate::text::{Place, nearest, quote};

use super::super::fleet::Fleet;
use super::super::{Edition, Effect, Pattern, Policy, Rule, Target, Variable};

/// The variables that are no labels.
const VARIABLES: [&str; 5] = ["device", "child", "kind", "owner", "gateway"];

pub(super) fn names(policies: &[Arc<Policy>], findings: &mut Vec<Finding>) {
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

pub(super) fn kinds(policy: &Policy, settings: &Settings, findings: &mut Vec<Finding>) {
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

/// What is wrong with rights to bring in children.
pub(super) fn introduces(policy: &Policy, edition: &Edition, settings: &Settings, findings: &mut Vec<Finding>) {
    for by in &policy.introduces {
        let mut found = |id, severity, problem: String, mend: String| {
            findings.push(Finding { id, severity, place: Some(by.at.place.clone()), problem, mend });
        };
        let kind = &by.kind;
        if !settings.kinds.contains_key(kind) {
            let mend = match nearest(kind.as_str(), settings.kinds.keys().map(KindName::as_str)) {
                Some(near) => format!("did you mean `{near}`? or declare it: [kinds.{kind}]"),
                None => format!("declare it in ward.toml: [kinds.{kind}]"),
            };
            let problem = format!("children of the kind `{kind}` may be brought in, which ward.toml does not declare");
            found("unknown-kind", Severity::Error, problem, mend);
            continue;
        }
        if !settings.kinds.values().any(|gateway| gateway.carries.contains(kind)) {
            found(
                "introduces-nobody",
                Severity::Warning,
                format!("no kind carries `{kind}`, so that nobody can bring one in"),
                format!("carries = [\"{kind}\"] under the gateway's kind in ward.toml"),
            );
            continue;
        }
        let names = |rule: &Rule| rule.for_children && matches!(rule.target, Target::Publish(_));
        if !edition.policies.iter().flat_map(|policy| &policy.rules).any(names) {
            found(
                "introduces-nobody",
                Severity::Warning,
                "no message can name a child: there is no rule to publish for children".to_owned(),
                "allow publish \".../{child}/...\" for children; over the desk they can be brought in all the same"
                    .to_owned(),
            );
        }
        let again = policy.introduces.iter().filter(|other| other.kind == *kind).count() > 1;
        if again && policy.introduces.iter().find(|other| other.kind == *kind) != Some(by) {
            let problem = format!("`{kind}` stands here twice; the first line counts");
            found("introduces-twice", Severity::Warning, problem, "take one of them out".to_owned());
        }
    }
}

pub(super) fn broad(rule: &Rule, findings: &mut Vec<Finding>) {
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

/// Tells of rules and claims on topics that are the ward's own: they do nothing there.
pub(super) fn reserved(policy: &Policy, settings: &Settings, findings: &mut Vec<Finding>) {
    let reserved = &settings.guard.reserved;
    let prefix = reserved.prefix();
    let mut tell = |pattern: &Pattern, place: &Place| {
        let text = pattern.to_string();
        if text.strip_prefix(prefix).is_some_and(|rest| rest.is_empty() || rest.starts_with('/')) {
            findings.push(Finding {
                id: "reserved-topics",
                severity: Severity::Error,
                place: Some(place.clone()),
                problem: format!(
                    "topics below {} are the ward's own, and no policy gives or takes them",
                    quote(prefix)
                ),
                mend: "take it out; to have these topics for something else: reserved_prefix under [guard]".to_owned(),
            });
        }
    };
    for rule in &policy.rules {
        if let Some(pattern) = rule.target.pattern() {
            tell(pattern, &rule.at.place);
        }
    }
    for sole in &policy.soles {
        tell(&sole.pattern, &sole.place);
    }
}

/// The labels that a pattern names and no device has.
pub(super) fn unknown_labels<'p>(pattern: &'p Pattern, fleet: &Fleet<'_>) -> impl Iterator<Item = &'p LabelName> {
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
pub(super) fn labels(policy: &Policy, fleet: &Fleet<'_>, findings: &mut Vec<Finding>) {
    let mut tell = |name: &LabelName, place: &Place| {
        findings.push(Finding {
            id: "unknown-label",
            severity: Severity::Warning,
            place: Some(place.clone()),
            problem: format!("no device of the ward has the label `{name}`"),
            mend: match nearest(name.as_str(), fleet.label_names().chain(VARIABLES)) {
                // No right may hang on a remark.
                _ if name.as_str() == "note" => {
                    "no policy can look at what people wrote about devices; a label of this name is label.note"
                        .to_owned()
                }
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
        if let Condition::Text(Field::Named(name), _) = leaf {
            named.insert(name);
        }
    });
    let known: BTreeSet<&str> = fleet.label_names().collect();
    named.retain(|name| !known.contains(name.as_str()) && !fleet.is_own_fact(name));
    named.into_iter().for_each(|name| tell(name, &policy.subjects_place));
}

pub(super) fn group_names(policy: &Policy, groups: &Groups, findings: &mut Vec<Finding>) {
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
                    unsteady |= matches!(leaf, Condition::Time(..) | Condition::Text(Field::State | Field::Note, _));
                });
                if unsteady {
                    found(
                        "unsteady-group",
                        format!("the group `{group}` looks at a state, a time or a note, which no right can depend on"),
                        "use a group by id, kind, gateway, owner, labels and facts, or a fixed one".to_owned(),
                    );
                }
            }
            Some(None) => {}
        }
    }
}
