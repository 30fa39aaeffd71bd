//! `settings check`: every mistake in ward.toml in one pass.

use serde_json::json;
use tidy_warden_core::finding::{Finding, Severity};
use tidy_warden_core::settings::{Kind, Settings, Signing, check};
use tidy_warden_core::text::Source;
use tidy_warden_store::Store;

use super::Context;
use super::finding::{count, finding_text};
use crate::console::counted;
use crate::problem::{Exit, Problem};
use crate::ward::{SETTINGS, Ward, read_settings_text};

pub(crate) fn run(context: &Context<'_>) -> Result<Exit, Problem> {
    let text = read_settings_text(&context.dir)?;
    let source = Source::new(SETTINGS, &text);
    let (found, kinds) = match Settings::parse(&source) {
        Err(errors) => (errors.into_iter().map(Finding::syntax).collect(), Vec::new()),
        Ok(settings) => {
            let kinds: Vec<String> = settings.kinds.keys().map(ToString::to_string).collect();
            (against_the_ward(&Ward::open(&context.dir)?, &source)?, kinds)
        }
    };
    let (errors, warnings) = (count(&found, Severity::Error), count(&found, Severity::Warning));
    let mut shown: String = found.iter().map(|finding| finding_text(finding) + "\n").collect();
    shown.push_str(&match (errors, warnings, kinds.len()) {
        (0, 0, 0) => format!("{SETTINGS} is in order; no kind is declared yet\n"),
        (0, 0, _) => format!("{SETTINGS} is in order; kinds: {}\n", kinds.join(", ")),
        _ => format!("{SETTINGS}: {}, {}\n", counted(errors, "error"), counted(warnings, "warning")),
    });
    let value = json!({ "kinds": kinds, "errors": errors, "warnings": warnings, "findings": found });
    context.console.show("tidy-warden/settings/2", value, &shown)?;
    Ok(if errors > 0 { Exit::Refused } else { Exit::Done })
}

/// What the settings get wrong with the authorities that the ward has.
fn against_the_ward(ward: &Ward, source: &Source) -> Result<Vec<Finding>, Problem> {
    let authorities = ward.store.authorities()?;
    let signing_for = |kind: &Kind| {
        let found = match ward.issuing_for(kind) {
            Ok(record) => Some(record),
            // Retired ones are told apart from those that were never there.
            Err(_) => authorities.iter().find(|each| Some(&each.name) == kind.authority.as_ref()).cloned(),
        };
        found.map(|record| Signing {
            ends: record.certificate.not_after,
            key: record.certificate.public_key.key_type(),
            retired: record.retired.is_some(),
            name: record.name,
        })
    };
    Ok(check(&ward.settings, source, &signing_for, ward.now()))
}
