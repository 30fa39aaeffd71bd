//! What settings that read well still get wrong in a ward.

use super::{Kind, NameTemplate, Role, Settings, place_of};
use crate::claim::ClaimBy;
use crate::fact::FactName;
use crate::finding::{Finding, Severity};
use crate::id::AuthorityName;
use crate::key::KeyType;
use crate::text::Source;
use crate::time::UnixTime;

/// What settings are checked against: one of the ward's authorities for devices.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signing {
    /// Its name.
    pub name: AuthorityName,
    /// The last second of its certificate.
    pub ends: UnixTime,
    /// The type of its key.
    pub key: KeyType,
    /// Whether it is no longer believed.
    pub retired: bool,
}

/// What settings that read well still get wrong in a ward. `signing_for` gives the authority that signs for a kind at last,
/// if there is one.
pub fn check(
    settings: &Settings,
    source: &Source,
    signing_for: &dyn Fn(&Kind) -> Option<Signing>,
    now: UnixTime,
) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (name, kind) in &settings.kinds {
        let mut complain = |id, severity, key: &str, problem: String, mend: String| {
            let place = Some(place_of(source, &["kinds", name.as_str(), key]));
            findings.push(Finding { id, severity, place, problem, mend });
        };
        for carried in kind.carries.iter().filter(|carried| !settings.kinds.contains_key(*carried)) {
            complain(
                "unknown-kind",
                Severity::Error,
                "carries",
                format!("the kind `{carried}`, which `{name}` is to carry, is not declared"),
                format!("declare it: [kinds.{carried}]"),
            );
        }
        if kind.claim == ClaimBy::Name {
            complain(
                "claimed-by-name",
                Severity::Warning,
                "claim",
                format!("once one is opened, whoever knows the id of a device of `{name}` can claim it"),
                "open them for short times only, or set claim = \"code\"".to_owned(),
            );
        }
        for template in &kind.profile.names {
            if let NameTemplate::Dns(text) = template
                && let Some(fixed) = text.fixed()
            {
                let (id, problem) = match settings.is_endpoint_host(fixed) {
                    true => {
                        ("endpoint-name", format!("`{fixed}` is the name of an endpoint, which no device may have"))
                    }
                    false => ("shared-name", format!("every device of `{name}` would have the same name `{fixed}`")),
                };
                complain(
                    id,
                    Severity::Error,
                    "names",
                    problem,
                    "name the device in it, such as dns:{device}.example.org".to_owned(),
                );
            }
        }
        if kind.profile.names.is_empty()
            && settings.enterprise_number.is_none()
            && !kind.facts.contains(&FactName::Mac)
            && kind.role == Role::Device
        {
            complain(
                "made-up-names",
                Severity::Warning,
                "facts",
                format!("devices of `{name}` without a known mac get made-up names"),
                "set enterprise_number in [ward], or facts = [\"mac\"] here".to_owned(),
            );
        }
        let Some(signing) = signing_for(kind) else {
            let named = kind.authority.as_ref().map(ToString::to_string).unwrap_or_default();
            complain(
                "unknown-authority",
                Severity::Error,
                "authority",
                format!("the ward has no authority `{named}` for devices"),
                format!("authority add {named}, or name one that authority list shows"),
            );
            continue;
        };
        if signing.retired {
            complain(
                "retired-authority",
                Severity::Error,
                "authority",
                format!("the authority `{}` is retired", signing.name),
                "name another, or add one that replaces it".to_owned(),
            );
            continue;
        }
        let left = signing.ends.since(now);
        if kind.life.seconds() > left {
            complain(
                "life-beyond-authority",
                Severity::Warning,
                "life",
                format!("`{}` ends on {}, sooner than this life", signing.name, signing.ends.date()),
                "certificates end with it; shorten life, or add an authority that replaces it".to_owned(),
            );
        }
        if kind.least_life.seconds() > left.max(0) {
            complain(
                "nothing-issued",
                Severity::Error,
                "least_life",
                format!("`{}` ends on {}, so that nothing is issued for `{name}`", signing.name, signing.ends.date()),
                "add an authority that replaces it".to_owned(),
            );
        } else if kind.least_life > kind.life && kind.least_life != Kind::default().least_life {
            complain(
                "least-life-above-life",
                Severity::Error,
                "least_life",
                "least_life is longer than life".to_owned(),
                "make it shorter".to_owned(),
            );
        }
        if !signing.key.is_classical() {
            complain(
                "post-quantum-issuer",
                Severity::Warning,
                "authority",
                format!(
                    "`{}` signs with {}: only what knows that can check certificates of `{name}`",
                    signing.name, signing.key
                ),
                "this guard can; whoever else devices show their certificates to must be able to, as well".to_owned(),
            );
        }
    }
    findings.sort_by_key(|finding| finding.place.as_ref().map(|place| (place.line, place.column)));
    findings
}
