//! Tests that stand in policies.

use std::collections::BTreeMap;

use crate::device::DeviceRecord;
use crate::finding::{Finding, Severity};
use crate::id::DeviceId;
use crate::settings::Settings;
use crate::time::UnixTime;
use crate::topic::{TopicName, split_share};

use super::super::{Act, Edition, Expect, ExpectDevice, NoMeter, Publish};
use super::Household;

pub(super) fn expectation(
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
