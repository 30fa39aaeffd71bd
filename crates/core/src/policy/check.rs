//! Checking policies before they are adopted: every finding has a name, a place, a reason and a way to mend it.

mod expect;
mod rules;
mod words;

use std::collections::BTreeMap;

use serde::Serialize;

use crate::condition::Groups;
use crate::device::DeviceRecord;
use crate::finding::{Finding, Severity};
use crate::id::DeviceId;
use crate::settings::Settings;
use crate::text::{Place, quote};

use super::fleet::Fleet;
use super::sole::{self, Witness};
use super::{Edition, Rights};

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
    words::names(&edition.policies, &mut findings);
    for policy in &edition.policies {
        words::kinds(policy, settings, &mut findings);
        words::introduces(policy, edition, settings, &mut findings);
        words::group_names(policy, groups, &mut findings);
        words::reserved(policy, settings, &mut findings);
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
            words::broad(rule, &mut findings);
        }
        if !fleet.is_empty() {
            words::labels(policy, fleet, &mut findings);
        }
    }
    rules::Rules::of(fleet, settings).report(fleet, &mut findings);
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
        expect::expectation(edition, settings, expect, named, &mut findings);
    }
    findings.sort_by(|a, b| place_key(a).cmp(&place_key(b)));
    Checked { findings, proved }
}

fn place_key(finding: &Finding) -> (bool, Option<(&str, usize, usize)>) {
    let place = finding.place.as_ref().map(|place| (&*place.file, place.line, place.column));
    (place.is_none(), place)
}
