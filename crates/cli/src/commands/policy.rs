//! `policy`: checking, adopting and questioning policies.

mod ask;
mod draft;
mod reach;
mod trial;

use std::collections::BTreeMap;

use serde_json::json;
use tidy_warden_core::finding::{Finding, Severity};
use tidy_warden_core::policy::{Checked, Edition, Household, PolicyFile, check};
use tidy_warden_core::time::Span;

use super::Context;
use super::changes::{compared, comparison_json, comparison_text};
use super::finding::{count, finding_text};
use crate::args::{AdoptArgs, CheckArgs, PolicyCommand};
use crate::console::{Listing, counted};
use crate::problem::{Exit, Problem};
use crate::ward::{POLICIES, Ward, policy_files};

pub(crate) fn run(context: &Context<'_>, command: &PolicyCommand) -> Result<Exit, Problem> {
    match command {
        PolicyCommand::Check(args) => check_folder(context, args),
        PolicyCommand::Ask(args) => ask::ask(context, args),
        PolicyCommand::Reach(args) => reach::reach(context, args),
        PolicyCommand::Compare(args) => reach::compare(context, args),
        PolicyCommand::Adopt(args) => adopt(context, args),
        PolicyCommand::Editions => editions(context),
        PolicyCommand::Format(args) => draft::format(context, args),
        PolicyCommand::Draft(args) => draft::draft(context, args),
        PolicyCommand::Trial(args) => trial::trial(context, args),
    }
}

/// Everything there is to say about a set of policy files, and over how many devices it was proved.
fn checked(ward: &Ward, files: &[PolicyFile]) -> Result<(Checked, usize), Problem> {
    let groups = ward.groups()?;
    let edition = match Edition::read(0, files, &groups) {
        Ok(edition) => edition,
        Err(errors) => {
            let findings = errors.into_iter().map(Finding::syntax).collect();
            return Ok((Checked { findings, ..Checked::default() }, 0));
        }
    };
    let mut named = BTreeMap::new();
    let ids: Vec<_> = edition.named_devices().into_iter().cloned().collect();
    for (id, found) in ids.iter().zip(ward.store.devices(&ids)?) {
        let Some(view) = found.filter(|view| view.device.retired.is_none()) else { continue };
        named.insert(id.clone(), Household { device: view.device, children: ward.store.children(id)? });
    }
    let fleet = ward.fleet(&[&edition], [])?;
    Ok((check(&fleet, &ward.settings, &groups, &named), fleet.len()))
}

fn check_folder(context: &Context<'_>, args: &CheckArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let files = match &args.policies {
        Some(folder) => policy_files(folder, &folder.display().to_string())?,
        None => ward.policy_files()?,
    };
    if files.is_empty() {
        let folder = args.policies.clone().unwrap_or_else(|| ward.dir.join(POLICIES));
        return Err(Problem::not_found(format!("{} holds no policies", folder.display()))
            .because("there is no file whose name ends in .policy")
            .next("write one, or name another folder with --policies"));
    }
    let (Checked { findings, proved }, devices) = checked(&ward, &files)?;
    let (errors, warnings) = (count(&findings, Severity::Error), count(&findings, Severity::Warning));
    let mut text: String = findings.iter().map(|finding| finding_text(finding) + "\n").collect();
    for proof in &proved {
        let count = usize::try_from(proof.devices).unwrap_or(usize::MAX);
        if count == 0 {
            text.push_str(&format!(
                "{}:{}: claims nothing yet, for no device is picked: {}\n",
                proof.place.file, proof.place.line, proof.claim
            ));
            continue;
        }
        let subjects = counted(count, "device");
        text.push_str(&format!(
            "{}:{}: proved for {subjects} against all {devices}: {}\n",
            proof.place.file, proof.place.line, proof.claim
        ));
    }
    text.push_str(&format!(
        "{}: {}, {}\n",
        counted(files.len(), "file"),
        counted(errors, "error"),
        counted(warnings, "warning")
    ));
    let value = json!({
        "files": files.len(), "devices": devices, "errors": errors, "warnings": warnings, "findings": findings,
        "proved": proved,
    });
    context.console.show("tidy-warden/policy-check/1", value, &text)?;
    Ok(if errors > 0 || (args.strict && warnings > 0) { Exit::Refused } else { Exit::Done })
}

fn adopt(context: &Context<'_>, args: &AdoptArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let files = match args.edition {
        Some(number) => ward.edition_record(number)?.files,
        None => ward.policy_files()?,
    };
    let (found, policies) = acceptable(&ward, &files)?;
    for warning in &found {
        console.note(finding_text(warning));
    }
    if policies == 0 {
        console.warn("there is no policy: with this edition no device may do anything");
    }
    let old = ward.edition()?;
    let new = ward.read(0, &files)?;
    let from = old.as_ref().map_or_else(|| "no edition".to_owned(), |old| format!("edition {}", old.number));
    let comparison = compared(&ward, &old.unwrap_or_default(), &new)?;
    let what = format!("{} from {}", counted(policies, "policy"), counted(files.len(), "file"));
    if let Some(length) = &args.trial {
        return begin_trial(context, &mut ward, &files, length, args.because.text(), &what);
    }
    console.note(comparison_text(&from, "this", &comparison));
    match args.count {
        Some(count) if count != comparison.changed() => {
            return Err(Problem::refused("the policies were not adopted")
                .because(format!(
                    "{} get other rights, not {count}",
                    counted(usize::try_from(comparison.changed()).unwrap_or(usize::MAX), "device")
                ))
                .next("look at what changes above, and give --count that number if it is what you want"));
        }
        Some(_) => {}
        None => console.confirm(&format!("Adopt {what}?"), args.yes)?,
    }
    let reason = console.reason(args.because.text())?;
    let cause = ward.cause(Some(&reason));
    let number = ward.store.adopt(&files, &cause)?;
    let text = format!("adopted edition {number}: {}\n", counted(policies, "policy"));
    let value = json!({ "edition": number, "policies": policies, "comparison": comparison_json(&comparison) });
    console.show("tidy-warden/adopted/1", value, &text)?;
    Ok(Exit::Done)
}

/// Has policies watched without letting them decide.
fn begin_trial(
    context: &Context<'_>,
    ward: &mut Ward,
    files: &[PolicyFile],
    length: &str,
    because: Option<&str>,
    what: &str,
) -> Result<Exit, Problem> {
    let length: Span =
        length.parse().map_err(|error: tidy_warden_core::time::BadSpan| Problem::usage(error.to_string()))?;
    let reason = context.console.reason(because)?;
    let cause = ward.cause(Some(&reason));
    let until = ward.now().plus(length);
    let number = ward.store.begin_trial(files, until, &cause)?;
    let text = format!("trial {number} of {what}, until {until}; what it would decide otherwise: policy trial\n");
    context.console.show("tidy-warden/trial-begun/1", json!({ "trial": number, "until": until }), &text)?;
    Ok(Exit::Done)
}

/// The warnings of files that may be adopted, and how many policies they hold.
fn acceptable(ward: &Ward, files: &[PolicyFile]) -> Result<(Vec<Finding>, usize), Problem> {
    let found = checked(ward, files)?.0.findings;
    let errors: Vec<&Finding> = found.iter().filter(|finding| finding.severity == Severity::Error).collect();
    if !errors.is_empty() {
        let all: Vec<String> = errors.iter().map(|finding| finding_text(finding)).collect();
        return Err(Problem::refused("the policies were not adopted")
            .because(all.join("\n"))
            .next("fix them and run: policy check"));
    }
    Ok((found, ward.read(0, files)?.policies.len()))
}

/// Checks and adopts the ward's policy folder; gives the edition's number.
pub(crate) fn adopt_folder(ward: &mut Ward, because: &str) -> Result<u32, Problem> {
    let files = ward.policy_files()?;
    acceptable(ward, &files)?;
    let cause = ward.cause(Some(because));
    Ok(ward.store.adopt(&files, &cause)?)
}

fn editions(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let mut items = Vec::new();
    let mut rows = Vec::new();
    for edition in ward.store.editions()? {
        let digest = data_encoding::HEXLOWER.encode(&edition.digest);
        let number = edition.number;
        items.push(json!({
            "number": number, "at": edition.at, "author": edition.author, "because": edition.because,
            "sha256": digest, "files": edition.files,
        }));
        let short = digest[..16].to_owned();
        rows.push(vec![number.to_string(), edition.at.to_string(), edition.author, short, edition.because]);
    }
    context.console.list(Listing {
        schema: "tidy-warden/editions/1",
        key: "editions",
        items,
        columns: ["number", "adopted", "by", "sha256", "because"].map(str::to_owned).to_vec(),
        rows,
        empty: "no edition was adopted yet; policy adopt",
    })?;
    Ok(Exit::Done)
}
