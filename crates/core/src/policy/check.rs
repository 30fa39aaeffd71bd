//! Checking policies before they are adopted: every finding has a name, a place, a reason and a way to mend it.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use crate::condition::Field;
use crate::device::DeviceRecord;
use crate::finding::{Finding, Severity};
use crate::id::{DeviceId, KindName};
use crate::settings::Settings;
use crate::text::nearest;
use crate::time::UnixTime;
use crate::topic::TopicName;

use super::sole::Refuted;
use super::{Act, Edition, Effect, Expect, ExpectDevice, NoMeter, Policy, Publish, Rule, Target};

/// What is learned about one rule while the fleet passes by.
#[derive(Default)]
struct Seen {
    selected: u64,
    without_variable: u64,
}

/// Checks an edition against the settings and the whole fleet; `devices` is walked once.
#[must_use]
pub fn check(edition: &Edition, settings: &Settings, devices: impl Iterator<Item = DeviceRecord>) -> Vec<Finding> {
    let mut findings = Vec::new();
    names(&edition.policies, &mut findings);
    for policy in &edition.policies {
        kinds(policy, settings, &mut findings);
        for rule in &policy.rules {
            broad(rule, &mut findings);
        }
    }
    let wanted: BTreeSet<&DeviceId> = edition
        .policies
        .iter()
        .flat_map(|policy| &policy.expects)
        .filter_map(|expect| match &expect.device {
            ExpectDevice::Named(id) => Some(id),
            ExpectDevice::Described(_) => None,
        })
        .collect();
    let fleet = walk(edition, devices, &wanted);
    fleet.report(edition, &mut findings);
    for refuted in super::sole::refuted(edition, &fleet.kept) {
        let Refuted { sole, topic, subject, other, rule } = refuted;
        findings.push(Finding {
            id: "not-sole",
            severity: Severity::Error,
            place: Some(sole.place.clone()),
            problem: format!("`{other}` can publish {topic:?} too, which is claimed for `{subject}` alone"),
            mend: format!("narrow {}, which allows it, deny it there, or narrow the claim", rule.at),
        });
    }
    for expect in edition.policies.iter().flat_map(|policy| &policy.expects) {
        expectation(edition, settings, expect, &fleet.named, &mut findings);
    }
    findings.sort_by(|a, b| place_key(a).cmp(&place_key(b)));
    findings
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

struct Fleet {
    total: u64,
    without_policy: u64,
    sample: Option<DeviceId>,
    selected: Vec<u64>,
    rules: Vec<Vec<Seen>>,
    named: BTreeMap<DeviceId, DeviceRecord>,
    /// All devices, if a claim about all of them is to be proved.
    kept: Vec<DeviceRecord>,
}

fn walk(edition: &Edition, devices: impl Iterator<Item = DeviceRecord>, wanted: &BTreeSet<&DeviceId>) -> Fleet {
    let mut fleet = Fleet {
        total: 0,
        without_policy: 0,
        sample: None,
        selected: vec![0; edition.policies.len()],
        rules: edition.policies.iter().map(|policy| policy.rules.iter().map(|_| Seen::default()).collect()).collect(),
        named: BTreeMap::new(),
        kept: Vec::new(),
    };
    let keep = edition.policies.iter().any(|policy| !policy.soles.is_empty());
    for device in devices.filter(|device| device.retired.is_none()) {
        fleet.total += 1;
        let candidate = crate::condition::Candidate { device: &device, state: None };
        let mut any = false;
        for (at, policy) in edition.policies.iter().enumerate() {
            if !policy.subjects.holds(&candidate) {
                continue;
            }
            any = true;
            fleet.selected[at] += 1;
            for (rule, seen) in policy.rules.iter().zip(&mut fleet.rules[at]) {
                seen.selected += 1;
                if let Target::Publish(pattern) | Target::Subscribe(pattern) = &rule.target {
                    let missing = pattern.variables().any(|variable| variable.value(&device).is_none());
                    seen.without_variable += u64::from(missing);
                }
            }
        }
        if !any {
            fleet.without_policy += 1;
            fleet.sample.get_or_insert_with(|| device.id.clone());
        }
        if wanted.contains(&device.id) {
            fleet.named.insert(device.id.clone(), device.clone());
        }
        if keep {
            fleet.kept.push(device);
        }
    }
    fleet
}

impl Fleet {
    fn report(&self, edition: &Edition, findings: &mut Vec<Finding>) {
        for (at, policy) in edition.policies.iter().enumerate() {
            if self.selected[at] == 0 && self.total > 0 {
                findings.push(Finding {
                    id: "selects-nobody",
                    severity: Severity::Warning,
                    place: Some(policy.subjects_place.clone()),
                    problem: format!("policy `{}` is for no device of the ward", policy.name),
                    mend: "correct its `for`, or leave it for devices to come".to_owned(),
                });
            }
            for (rule, seen) in policy.rules.iter().zip(&self.rules[at]) {
                if seen.without_variable == 0 {
                    continue;
                }
                let (count, of) = (seen.without_variable, seen.selected);
                let problem = match rule.effect {
                    Effect::Allow => {
                        format!("this rule gives nothing to {count} of {of} devices: a variable has no value there")
                    }
                    Effect::Deny => format!(
                        "for {count} of {of} devices a variable has no value, and this deny takes `+` in its place"
                    ),
                };
                findings.push(Finding {
                    id: "missing-value",
                    severity: Severity::Warning,
                    place: Some(rule.at.place.clone()),
                    problem,
                    mend: "set the label, owner or gateway on those devices: device edit".to_owned(),
                });
            }
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
                mend: "they cannot connect; write a policy whose `for` picks them".to_owned(),
            });
        }
    }
}

fn expectation(
    edition: &Edition,
    settings: &Settings,
    expect: &Expect,
    named: &BTreeMap<DeviceId, DeviceRecord>,
    findings: &mut Vec<Finding>,
) {
    let mut found = |id, severity, problem: String, mend: &str| {
        let place = Some(expect.place.clone());
        findings.push(Finding { id, severity, place, problem, mend: mend.to_owned() });
    };
    let described;
    let device = match &expect.device {
        ExpectDevice::Named(id) => match named.get(id) {
            Some(device) => device,
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
                described = device;
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
    let rights = edition.rights(device);
    let denial = match expect.act {
        Act::Connect => rights.connect(&expect.subject).err(),
        Act::Publish => match TopicName::parse(&expect.subject) {
            Ok(topic) => rights.publish(Publish { topic, qos: 0, retain: false, size: 0 }, &mut NoMeter).err(),
            Err(_) => return,
        },
        Act::Subscribe => match expect.subject.parse() {
            Ok(filter) => rights.subscribe(&filter, 0).err(),
            Err(_) => return,
        },
    };
    match (denial, expect.allowed) {
        (Some(denial), true) => {
            found(
                "failing-expect",
                Severity::Error,
                format!("expected allowed, but it is denied: {denial}"),
                "mend the rules or the expectation",
            );
        }
        (None, false) => {
            found(
                "failing-expect",
                Severity::Error,
                "expected denied, but it is allowed".to_owned(),
                "mend the rules or the expectation",
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

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
