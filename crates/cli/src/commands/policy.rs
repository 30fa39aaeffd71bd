//! `policy`: checking, adopting and questioning policies.

use serde_json::json;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::finding::{Finding, Severity};
use tidy_warden_core::policy::{Denial, Edition, Granted, NoMeter, PolicyFile, Publish, Rights, check};
use tidy_warden_core::topic::{TopicFilter, TopicName};
use tidy_warden_store::Store;

use super::Context;
use super::finding::{count, finding_text};
use crate::args::{AdoptArgs, AskArgs, AskedAct, CheckArgs, PolicyCommand};
use crate::console::{Listing, counted};
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::{Ward, policy_files};

pub(crate) fn run(context: &Context<'_>, command: &PolicyCommand) -> Result<Exit, Problem> {
    match command {
        PolicyCommand::Check(args) => check_folder(context, args),
        PolicyCommand::Adopt(args) => adopt(context, args),
        PolicyCommand::Ask(args) => ask(context, args),
        PolicyCommand::Editions => editions(context),
    }
}

/// Everything there is to say about a set of policy files.
fn findings(ward: &Ward, files: &[PolicyFile]) -> Result<Vec<Finding>, Problem> {
    match Edition::read(0, files) {
        Err(errors) => Ok(errors.into_iter().map(Finding::syntax).collect()),
        Ok(edition) => {
            let mut devices: Vec<DeviceRecord> = Vec::new();
            ward.store.each_device(&mut |view| devices.push(view.device))?;
            Ok(check(&edition, &ward.settings, devices.into_iter()))
        }
    }
}

fn summary(files: &[PolicyFile], findings: &[Finding]) -> String {
    let (errors, warnings) = (count(findings, Severity::Error), count(findings, Severity::Warning));
    format!("{}: {}, {}", counted(files.len(), "file"), counted(errors, "error"), counted(warnings, "warning"))
}

fn check_folder(context: &Context<'_>, args: &CheckArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let files = match &args.policies {
        Some(folder) => policy_files(folder, &folder.display().to_string())?,
        None => ward.policy_files()?,
    };
    let found = findings(&ward, &files)?;
    let (errors, warnings) = (count(&found, Severity::Error), count(&found, Severity::Warning));
    let mut text: String = found.iter().map(|finding| finding_text(finding) + "\n").collect();
    text.push_str(&format!("{}\n", summary(&files, &found)));
    let value = json!({ "files": files.len(), "errors": errors, "warnings": warnings, "findings": found });
    context.console.show("tidy-warden/policy-check/1", value, &text)?;
    Ok(if errors > 0 || (args.strict && warnings > 0) { Exit::Refused } else { Exit::Done })
}

fn adopt(context: &Context<'_>, args: &AdoptArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let files = ward.policy_files()?;
    let (found, policies) = acceptable(&ward, &files)?;
    for warning in &found {
        context.console.note(finding_text(warning));
    }
    if policies == 0 {
        context.console.warn("the folder holds no policy: with this edition no device may do anything");
    }
    context
        .console
        .confirm(&format!("Adopt {} from {}?", counted(policies, "policy"), counted(files.len(), "file")), args.yes)?;
    let reason = context.console.reason(args.because.text())?;
    let cause = ward.cause(Some(&reason));
    let number = ward.store.adopt(&files, &cause)?;
    let text = format!("adopted edition {number}: {}\n", counted(policies, "policy"));
    context.console.show("tidy-warden/adopted/1", json!({ "edition": number, "policies": policies }), &text)?;
    Ok(Exit::Done)
}

/// The warnings of files that may be adopted, and how many policies they hold.
fn acceptable(ward: &Ward, files: &[PolicyFile]) -> Result<(Vec<Finding>, usize), Problem> {
    let found = findings(ward, files)?;
    let errors: Vec<&Finding> = found.iter().filter(|finding| finding.severity == Severity::Error).collect();
    if !errors.is_empty() {
        let all: Vec<String> = errors.iter().map(|finding| finding_text(finding)).collect();
        return Err(Problem::refused("the policies were not adopted")
            .because(all.join("\n"))
            .next("mend them and run: policy check"));
    }
    let policies = Edition::read(0, files).map(|edition| edition.policies.len()).unwrap_or_default();
    Ok((found, policies))
}

/// Checks and adopts the ward's policy folder; gives the edition's number.
pub(crate) fn adopt_folder(ward: &mut Ward, because: &str) -> Result<u32, Problem> {
    let files = ward.policy_files()?;
    acceptable(ward, &files)?;
    let cause = ward.cause(Some(because));
    Ok(ward.store.adopt(&files, &cause)?)
}

/// An act that is asked about, checked.
enum Asked<'a> {
    Connect(&'a str),
    Publish(Publish<'a>),
    Subscribe(TopicFilter, u8),
}

/// Decides what is asked, using nothing up.
fn decide(rights: &Rights, asked: &Asked<'_>) -> Result<Granted, Denial> {
    match asked {
        Asked::Connect(client_id) => rights.connect(client_id),
        Asked::Publish(act) => {
            rights.publish(*act, &mut NoMeter).map(|rule| Granted { rule: rule.clone(), qos: act.qos })
        }
        Asked::Subscribe(filter, qos) => rights.subscribe(filter, *qos),
    }
}

fn asked(args: &AskArgs) -> Result<Asked<'_>, Problem> {
    let subject = |what: &str| {
        let given = args.subject.as_deref();
        given.ok_or_else(|| Problem::usage(format!("{what} is missing")).next("see policy ask --help"))
    };
    Ok(match args.act {
        AskedAct::Connect => Asked::Connect(args.subject.as_ref().unwrap_or(&args.device)),
        AskedAct::Publish => {
            let topic = TopicName::parse(subject("the topic")?).map_err(|error| Problem::refused(error.to_string()))?;
            Asked::Publish(Publish { topic, qos: args.qos, retain: args.retain, size: args.size })
        }
        AskedAct::Subscribe => Asked::Subscribe(parse(subject("the topic filter")?)?, args.qos),
    })
}

fn ask(context: &Context<'_>, args: &AskArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let view = ward.device(&parse(&args.device)?)?;
    let asked = asked(args)?;
    let edition = if args.draft {
        let files = ward.policy_files()?;
        Some(Edition::read(0, &files).map_err(|errors| Problem::text("the policies have mistakes", &errors))?)
    } else {
        ward.edition()?
    };
    let decision = match &edition {
        Some(edition) => decide(&edition.rights(&view.device), &asked),
        None => Err(Denial::NoEdition),
    };
    if let Some(since) = view.device.retired.or(view.device.out) {
        context
            .console
            .note(format!("note: {} is out since {since}, so it cannot connect whatever policy says", view.device.id));
    }
    let number = edition.as_ref().map_or(0, |edition| edition.number);
    let rule = match &decision {
        Ok(granted) => Some(&granted.rule),
        Err(denial) => denial.rule(),
    };
    let by = match (args.draft, number) {
        (true, _) => "the draft in policies/".to_owned(),
        (false, number) => format!("edition {number}"),
    };
    let mut text = if decision.is_ok() { "allowed\n".to_owned() } else { "denied\n".to_owned() };
    if let Some(rule) = rule {
        text.push_str(&format!("  by {}\n     {rule}\n", rule.at));
    }
    let why = match &decision {
        Ok(_) => None,
        Err(denial) if rule.is_some() => denial.detail(),
        Err(denial) => Some(denial.to_string()),
    };
    if let Some(why) = why {
        text.push_str(&format!("  because {why}\n"));
    }
    if let (Ok(granted), Asked::Subscribe(_, wanted)) = (&decision, &asked)
        && granted.qos < *wanted
    {
        text.push_str(&format!("  at qos {}, not {wanted}\n", granted.qos));
    }
    if edition.is_some() {
        text.push_str(&format!("  decided by {by}\n"));
    }
    let value = json!({
        "device": view.device.id, "allowed": decision.is_ok(), "edition": number, "draft": args.draft,
        "because": decision.as_ref().err().map(ToString::to_string),
        "qos": decision.as_ref().ok().map(|granted| granted.qos),
        "rule": rule.map(|rule| json!({
            "policy": rule.at.policy, "file": rule.at.place.file, "line": rule.at.place.line, "text": rule.to_string(),
        })),
    });
    context.console.show("tidy-warden/policy-answer/1", value, &text)?;
    Ok(if decision.is_ok() { Exit::Done } else { Exit::Refused })
}

fn editions(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let mut items = Vec::new();
    let mut rows = Vec::new();
    let mut number = 1;
    while let Some(edition) = ward.store.edition(Some(number))? {
        let digest = data_encoding::HEXLOWER.encode(&edition.digest);
        items.push(json!({
            "number": edition.number, "at": edition.at, "author": edition.author, "because": edition.because,
            "sha256": digest, "files": edition.files.iter().map(|file| &file.name).collect::<Vec<_>>(),
        }));
        let short = digest[..16].to_owned();
        rows.push(vec![number.to_string(), edition.at.to_string(), edition.author, short, edition.because]);
        number += 1;
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
