//! `settings check`: every mistake in ward.toml in one pass. `settings adopt`: the file counts for all machines.

use std::net::SocketAddr;

use serde_json::json;
use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::finding::{Finding, Severity};
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::settings::{Kind, Settings, Signing, check, place_of};
use tidy_warden_core::text::{Source, printable};
use tidy_warden_ward::post;

use super::Context;
use super::desk::elsewhere;
use super::finding::{count, finding_text};
use crate::args::SettingsCommand;
use crate::console::counted;
use crate::problem::{Exit, Problem};
use crate::ward::{SETTINGS, Ward, read_settings_text};

pub(crate) fn run(context: &Context<'_>, command: &SettingsCommand) -> Result<Exit, Problem> {
    match command {
        SettingsCommand::Check => check_all(context),
        SettingsCommand::Adopt { yes, because } => adopt(context, *yes, because.text()),
    }
}

/// Makes the file count for all machines.
fn adopt(context: &Context<'_>, yes: bool, because: Option<&str>) -> Result<Exit, Problem> {
    let console = context.console;
    let text = read_settings_text(&context.dir)?;
    let source = Source::new(SETTINGS, &text);
    let settings =
        Settings::parse(&source).map_err(|errors| Problem::text(format!("{SETTINGS} has mistakes"), &errors))?;
    if settings.store.database.is_none() {
        console.note(format!("this ward is in a file and goes by its {SETTINGS} as it is; nothing to adopt"));
        return Ok(Exit::Done);
    }
    // By what the file says: what was adopted may be what this version cannot read any more.
    let mut ward = crate::ward::imagined(&context.dir, settings)?;
    let Some(difference) = post::settings_difference(&ward, &text)? else {
        console.note(format!("{SETTINGS} is what was adopted; nothing to adopt"));
        return Ok(Exit::Done);
    };
    let wrong = against_the_ward(&ward, &source)?;
    let errors = count(&wrong, Severity::Error);
    wrong.iter().for_each(|finding| console.note(finding_text(finding)));
    if errors > 0 {
        return Err(Problem::refused(format!("{SETTINGS} was not adopted"))
            .because(format!("it has {}", counted(errors, "error")))
            .next("mend it: settings check"));
    }
    for (key, mark) in [("removed", '-'), ("added", '+')] {
        let lines = difference[key].as_array().into_iter().flatten().filter_map(|line| line.as_str());
        lines.for_each(|line| console.note(format!("{mark} {}", printable(line))));
    }
    console.confirm(&format!("Adopt this {SETTINGS} for all machines?"), yes)?;
    let cause = ward.cause(because);
    let number = post::adopt(&mut ward, &text, &context.secrets(), &cause)?;
    let value = json!({ "edition": number, "sha256": difference["sha256"] });
    console.did(
        "tidy-warden/settings-adopted/1",
        value,
        format!("adopted {SETTINGS} as edition {number} of the settings"),
    )?;
    console.note("guards at posts take it within seconds; a guard in the ward's folder, and commands, when they start");
    Ok(Exit::Done)
}

fn check_all(context: &Context<'_>) -> Result<Exit, Problem> {
    let text = read_settings_text(&context.dir)?;
    let source = Source::new(SETTINGS, &text);
    let (settings, mistakes) = Settings::parse_as_far_as_it_goes(&source);
    let mut kinds = Vec::new();
    let mut found = Vec::new();
    if let Some(settings) = settings {
        kinds.extend(settings.kinds.keys().map(ToString::to_string));
        let known = if mistakes.is_empty() { Some(crate::ward::open(&context.dir)?) } else { None };
        let ward = match known {
            Some(ward) if ward.is_adopted => ward,
            Some(_) => {
                context
                    .console
                    .note("other settings than these were adopted for all machines, and count: settings adopt");
                crate::ward::imagined(&context.dir, settings)?
            }
            None => crate::ward::imagined(&context.dir, settings)?,
        };
        found = against_the_ward(&ward, &source)?;
    }
    // What follows from a value that was not understood is no mistake of its own.
    let line = |finding: &Finding| finding.place.as_ref().map(|place| place.line);
    found.retain(|finding| mistakes.iter().all(|mistake| Some(mistake.place.line) != line(finding)));
    if !mistakes.is_empty() {
        found.retain(|finding| finding.id != "made-up-names");
        kinds.clear();
    }
    found.extend(mistakes.into_iter().map(Finding::syntax));
    found.sort_by_key(|finding| finding.place.as_ref().map(|place| (place.line, place.column)));
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
    let mut found = check(&ward.settings, source, &signing_for, ward.now());
    let foreign =
        |name: &AuthorityName| authorities.iter().any(|each| each.name == *name && each.role == AuthorityRole::Foreign);
    for (name, maker) in &ward.settings.makers {
        let mut complain = |id, severity, problem: String, mend: String| {
            let place = Some(place_of(source, &["makers", name.as_str(), "crl_file"]));
            found.push(Finding { id, severity, place, problem, mend });
        };
        if !foreign(name) {
            let mend = format!("authority add {name} --trust FILE, or name one that authority list shows");
            complain("unknown-maker", Severity::Error, format!("no foreign authority `{name}` is trusted"), mend);
        }
        if let Some(file) = maker.crl_file.as_ref().filter(|file| !ward.dir.join(file).is_file()) {
            let mend = "put the maker's revocation list there; until then none of its devices may connect".to_owned();
            complain("no-maker-list", Severity::Warning, format!("there is no file {file}"), mend);
        }
    }
    found.extend(not_served(&ward.settings, source));
    Ok(found)
}

/// Addresses that certificates name, and that the ward's desk does not serve where these settings have it listen.
fn not_served(settings: &Settings, source: &Source) -> Vec<Finding> {
    let desk = &settings.desk;
    // Where nothing is said of a desk, its command line says it, or there is none.
    let Some(listen) = desk.listen.or(desk.listen_http) else { return Vec::new() };
    let listen = desk.listen.unwrap_or(SocketAddr::new(listen.ip(), settings.endpoints.desk.port));
    let finding = |problem: String| {
        let (problem, mend) = match problem.rsplit_once(": ") {
            Some((problem, mend)) => (problem.to_owned(), mend.to_owned()),
            None => (problem, "set the address right".to_owned()),
        };
        let place = Some(place_of(source, &["desk"]));
        Finding { id: "not-served", severity: Severity::Warning, place, problem, mend }
    };
    elsewhere(settings, listen, desk.listen_http).into_iter().map(finding).collect()
}
