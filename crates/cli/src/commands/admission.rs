//! `admission`: devices that may come in by themselves, each once.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::{Value, json};
use tidy_warden_core::admission::{
    AdmissionEnd, AdmissionName, AdmissionRecord, AdmissionState, Demand, OpenRefusal, Secret, filled,
};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::FactName;
use tidy_warden_core::key::sha256;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_ward::admission::{self, Import, by_kind, untold, useless};
use tidy_warden_ward::clock::SystemRandom;

use super::Context;
use super::device::facts_text;
use crate::args::{AdmissionCommand, ImportAdmissionsArgs, OpenAdmissionArgs, OpenFor, StateArg};
use crate::console::counted;
use crate::edge::{device_id, facts, known_kind, labels, parse, read_key};
use crate::files::{self, Access};
use crate::problem::{Exit, Problem};
use crate::progress::Progress;
use crate::stream::{Stream, TableStream};
use crate::ward::Ward;

/// How long an admission stays open if nothing is said.
const OPEN_FOR: Span = Span::from_days(30);

/// The longest that one may stay open: everything has an end that somebody lives to see.
const LONGEST: Span = Span::from_days(5 * 366);

/// How many are read at once.
const AT_ONCE: usize = 1_000;

const WORD: &str = "interrupted; the same call with --resume goes on";

pub(crate) fn run(context: &Context<'_>, command: &AdmissionCommand) -> Result<Exit, Problem> {
    match command {
        AdmissionCommand::Open(args) => open(context, args),
        AdmissionCommand::Import(args) => import(context, args),
        AdmissionCommand::List { state } => list(context, *state),
        AdmissionCommand::Show { admission } => show(context, parse(admission)?),
        AdmissionCommand::Withdraw { admission, yes, because } => withdraw(context, admission, *yes, because.text()),
    }
}

/// Its last second.
fn until(ends: &OpenFor, now: UnixTime) -> Result<UnixTime, Problem> {
    let until = match (&ends.length, &ends.until) {
        (Some(length), _) => now.plus(parse::<Span>(length)?),
        (None, Some(time)) => parse(time)?,
        (None, None) => now.plus(OPEN_FOR),
    };
    match until > now && until <= now.plus(LONGEST) {
        true => Ok(until),
        false => Err(Problem::refused(format!("no admission can be open until {until}"))
            .because(format!("it must end after now, and within {LONGEST}"))
            .next("--for 30d, or --until TIME")),
    }
}

/// The device that is meant.
fn device(ward: &Ward, args: &OpenAdmissionArgs) -> Result<DeviceRecord, Problem> {
    let facts = facts(&ward.settings, &args.fact)?;
    let id = filled(&args.id, &facts).map_err(|error| {
        Problem::refused(format!("{:?} gives no id", args.id))
            .because(error)
            .next("gg-9, or gg-{serial} with that fact")
    })?;
    let kind = parse(&args.kind)?;
    known_kind(&ward.settings, &kind)?;
    let mut device = DeviceRecord { facts, ..DeviceRecord::new(device_id(&ward.settings, &id)?, kind, ward.now()) };
    device.labels = labels(&ward.settings, &args.label)?;
    device.gateway = args.gateway.as_deref().map(parse).transpose()?;
    device.owner = args.owner.as_deref().map(parse).transpose()?;
    Ok(device)
}

/// What a person should know of an admission that is opened.
fn warning(ward: &Ward, device: &DeviceRecord, demand: &Demand) -> Result<Option<String>, Problem> {
    Ok(match demand {
        Demand::Facts => {
            let mut text =
                format!("whoever reads the sticker of `{}` can come in as it: nothing else is asked for", device.id);
            if device.facts.contains_key(&FactName::Ek) {
                text.push_str("; the digest of an endorsement key proves no more than another fact as long as nobody proves to hold that key");
            }
            Some(text)
        }
        Demand::Certificate => {
            let untold: Vec<String> = untold(ward, device)?.iter().map(ToString::to_string).collect();
            (!untold.is_empty()).then(|| {
                format!(
                    "no trusted manufacturer tells the {} of devices of the kind `{}`, so that nobody can use this: authority add --trust",
                    untold.join(" and the "),
                    device.kind
                )
            })
        }
        Demand::Secret(_) | Demand::Key(_) => None,
    })
}

fn refusal(device: &DeviceRecord, why: &OpenRefusal) -> Problem {
    let id = &device.id;
    let problem = Problem::refused(format!("no admission was opened for `{id}`")).because(why);
    match why {
        OpenRefusal::DevicePending { other, .. }
        | OpenRefusal::FactPending { other, .. }
        | OpenRefusal::KeyPending { other, .. } => {
            problem.next(format!("admission show {other}; or first: admission withdraw {other}"))
        }
        OpenRefusal::OwnerRetired { .. } => problem.next("name another owner: owner list"),
        OpenRefusal::Differs { .. } | OpenRefusal::Unissued { .. } => problem.next(format!("device show {id}")),
        _ => problem.next("compare with: device list"),
    }
}

fn open(context: &Context<'_>, args: &OpenAdmissionArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let device = device(&ward, args)?;
    let until = until(&args.ends, ward.now())?;
    let secret = args.secret.then(|| Secret::new(&mut SystemRandom));
    let demand = match (&secret, &args.public_key) {
        (Some(secret), _) => Demand::Secret(secret.digest()),
        (None, Some(path)) => Demand::Key(sha256(read_key(path)?.spki())),
        (None, None) if args.certificate => Demand::Certificate,
        (None, None) => by_kind(&ward.settings, &device),
    };
    if let Some(useless) = useless(&ward.settings, &device, &demand) {
        return Err(Problem::refused(format!("no admission was opened for `{}`", device.id))
            .because(useless.why)
            .next(useless.next));
    }
    let warning = warning(&ward, &device, &demand)?;
    let has_no_owner = match &device.owner {
        Some(owner) => ward.store.owner(owner)?.is_none(),
        None => false,
    };
    let cause = ward.cause(args.because.text());
    let wanted = AdmissionRecord { name: AdmissionName(0), device: device.clone(), demand, until, end: None };
    let mut deliver = |_: &[AdmissionRecord]| match (&secret, &args.out) {
        (Some(secret), Some(path)) => {
            let text = zeroize::Zeroizing::new(format!("{}\n", *secret.text()));
            files::create(path, text.as_bytes(), Access::Secret)
                .map_err(|error| std::io::Error::new(error.kind(), format!("{}: {error}", path.display())))
        }
        _ => Ok(()),
    };
    let opened = ward.store.open_admissions(&[wanted], &cause, &mut deliver)?;
    let opened = opened.map_err(|refusals| {
        refusals.first().map_or_else(|| Problem::refused("no admission was opened"), |first| refusal(&device, first))
    })?;
    let opened = opened.first().ok_or_else(|| Problem::failed("no admission was opened"))?;
    let (mut value, mut text) = (described(opened, ward.now()), told(opened, ward.now()));
    if let Some(secret) = &secret {
        let (word, shown) = match &args.out {
            Some(path) => ("secret_file", path.display().to_string()),
            None => ("secret", secret.text().to_string()),
        };
        text.push_str(&format!("{:<10}{shown}\n", word.split('_').next().unwrap_or_default()));
        value[word] = shown.into();
    }
    console.show("tidy-warden/admission/1", value, &text)?;
    if let Some(warning) = warning {
        console.warn(warning);
    }
    if let Some(owner) = device.owner.as_ref().filter(|_| has_no_owner) {
        console.warn(format!(
            "there is no owner `{owner}` yet, and whoever gets that name has the device: owner add {owner}"
        ));
    }
    if secret.is_some() && args.out.is_none() {
        console
            .note("the secret is shown this once and not kept; bring it to the device by a way that nobody else reads");
    }
    Ok(Exit::Done)
}

fn import(context: &Context<'_>, args: &ImportAdmissionsArgs) -> Result<Exit, Problem> {
    if args.resume && args.file == Path::new("-") {
        return Err(Problem::usage("a list from standard input cannot be gone on with").next("name its file"));
    }
    let mut ward = context.ward()?;
    let until = until(&args.ends, ward.now())?;
    let cause = ward.cause(args.because.text());
    let what = Import { from: &args.file, out: args.out.as_deref(), resume: args.resume, until };
    let _word = crate::interrupt::word(WORD);
    let mut progress = Progress::none();
    let imported = admission::import(&mut ward, &what, &cause, &mut progress)?;
    let value = json!({
        "opened": imported.opened, "secrets": imported.secrets, "secret_file": args.out.as_ref().map(|path| path.display().to_string()),
    });
    let mut note = format!("opened {}", counted(imported.opened, "admission"));
    if let Some(path) = &args.out {
        note.push_str(&format!("; {} in {}", counted(imported.secrets, "secret"), path.display()));
    }
    context.console.did("tidy-warden/admission-import/1", value, note)?;
    Ok(Exit::Done)
}

/// All that is known of an admission, for programs.
fn described(admission: &AdmissionRecord, now: UnixTime) -> Value {
    let AdmissionRecord { name, device, demand, until, end } = admission;
    let labels: BTreeMap<_, _> = device.labels.iter().map(|(name, value)| (name.to_string(), value)).collect();
    let facts: BTreeMap<_, _> = device.facts.values().map(|fact| (fact.name().as_str(), fact.value())).collect();
    let at = |state| end.filter(|end| end.as_str() == state).map(|end| end.at());
    let credential =
        if let Some(AdmissionEnd::Used { credential, .. }) = end { Some(credential.to_string()) } else { None };
    let key = if let Demand::Key(digest) = demand { Some(data_encoding::HEXLOWER.encode(digest)) } else { None };
    json!({
        "name": name, "state": admission.state(now).as_str(), "kind": device.kind, "device": device.id, "labels": labels,
        "facts": facts, "gateway": device.gateway, "owner": device.owner, "proof": demand.strength().as_str(), "key_sha256": key,
        "begins": device.created, "ends": until, "used": at("used"), "withdrawn": at("withdrawn"), "credential": credential,
    })
}

/// The same for people.
fn told(admission: &AdmissionRecord, now: UnixTime) -> String {
    let AdmissionRecord { name, device, demand, until, end } = admission;
    let labels: Vec<String> = device.labels.iter().map(|(name, value)| format!("{name}={value}")).collect();
    let mut lines = vec![
        ("admission", name.to_string()),
        ("state", admission.state(now).as_str().to_owned()),
        ("device", device.id.to_string()),
        ("kind", device.kind.to_string()),
        ("facts", facts_text(device)),
    ];
    if !labels.is_empty() {
        lines.push(("labels", labels.join(" ")));
    }
    lines.extend(device.gateway.as_ref().map(|gateway| ("gateway", gateway.to_string())));
    lines.extend(device.owner.as_ref().map(|owner| ("owner", owner.to_string())));
    lines.push(("proof", demand.strength().as_str().to_owned()));
    if let Demand::Key(digest) = demand {
        lines.push(("key", data_encoding::HEXLOWER.encode(digest)));
    }
    lines.push(("opened", device.created.to_string()));
    lines.push(("ends", until.to_string()));
    match end {
        Some(AdmissionEnd::Used { at, credential }) => {
            lines.push(("used", at.to_string()));
            lines.push(("given", credential.to_string()));
        }
        Some(AdmissionEnd::Withdrawn { at }) => lines.push(("withdrawn", at.to_string())),
        Some(AdmissionEnd::Lapsed { .. }) | None => {}
    }
    lines.iter().map(|(name, value)| format!("{name:<10}{value}\n")).collect()
}

const COLUMNS: [&str; 8] = ["name", "state", "kind", "device", "facts", "proof", "ends", "used"];

fn row(admission: &AdmissionRecord, now: UnixTime, none: &str) -> Vec<String> {
    let device = &admission.device;
    let used = match admission.end {
        Some(AdmissionEnd::Used { at, .. }) => at.to_string(),
        _ => none.to_owned(),
    };
    vec![
        admission.name.to_string(),
        admission.state(now).as_str().to_owned(),
        device.kind.to_string(),
        device.id.to_string(),
        facts_text(device),
        admission.demand.strength().as_str().to_owned(),
        admission.until.to_string(),
        used,
    ]
}

fn list(context: &Context<'_>, state: Option<StateArg>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let now = ward.now();
    let state = state.map(|state| match state {
        StateArg::Open => AdmissionState::Open,
        StateArg::Used => AdmissionState::Used,
        StateArg::Lapsed => AdmissionState::Lapsed,
        StateArg::Withdrawn => AdmissionState::Withdrawn,
    });
    let columns = COLUMNS.map(str::to_owned);
    let mut counts = BTreeMap::new();
    match context.console.form() {
        None => {
            let mut table = TableStream::new(context.console, &columns);
            each(&ward, &mut |admission| {
                let its = admission.state(now);
                if state.is_some_and(|state| state != its) {
                    return Ok(());
                }
                *counts.entry(its).or_insert(0u64) += 1;
                table.add(&row(&admission, now, "-"))
            })?;
            let count = table.end("no such admissions; open one: admission open --id ID --kind KIND --secret")?;
            let parts: Vec<String> =
                counts.iter().map(|(state, count)| format!("{count} {}", state.as_str())).collect();
            if !parts.is_empty() {
                context.console.note(format!("{}: {}", counted(count, "admission"), parts.join(", ")));
            }
        }
        Some(form) => {
            let mut stream = Stream::new(context.console, form, ("tidy-warden/admissions/1", "admissions"), &columns)?;
            each(&ward, &mut |admission| match state.is_some_and(|state| state != admission.state(now)) {
                true => Ok(()),
                false => stream.add(|| described(&admission, now), || row(&admission, now, "")),
            })?;
            stream.end()?;
        }
    }
    Ok(Exit::Done)
}

/// Walks all admissions in the order in which they were opened.
fn each(ward: &Ward, visit: &mut dyn FnMut(AdmissionRecord) -> Result<(), Problem>) -> Result<(), Problem> {
    let mut after = AdmissionName(0);
    loop {
        let page = ward.store.admissions(after, AT_ONCE)?;
        let is_last = page.len() < AT_ONCE;
        after = page.last().map_or(after, |last| last.name);
        page.into_iter().try_for_each(&mut *visit)?;
        if is_last {
            return Ok(());
        }
    }
}

fn absent(name: AdmissionName) -> Problem {
    Problem::not_found(format!("there is no admission {name}")).next("admission list")
}

fn show(context: &Context<'_>, name: AdmissionName) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let (admission, now) = (ward.store.admission(name)?.ok_or_else(|| absent(name))?, ward.now());
    context.console.show("tidy-warden/admission/1", described(&admission, now), &told(&admission, now))?;
    Ok(Exit::Done)
}

fn withdraw(context: &Context<'_>, names: &[String], yes: bool, because: Option<&str>) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let mut names: Vec<AdmissionName> = names.iter().map(|name| parse(name)).collect::<Result<_, _>>()?;
    names.sort();
    names.dedup();
    for name in &names {
        ward.store.admission(*name)?.ok_or_else(|| absent(*name))?;
    }
    let all: Vec<String> = names.iter().map(ToString::to_string).collect();
    console.confirm(&format!("Withdraw {}?", all.join(", ")), yes)?;
    let because = console.reason(because)?;
    let cause = ward.cause(Some(&because));
    if let Err(over) = ward.store.withdraw_admissions(&names, &cause)? {
        return Err(Problem::refused("nothing was withdrawn")
            .because(over)
            .next(format!("admission show {}", over.name)));
    }
    let value = json!({ "admissions": names });
    console.did("tidy-warden/admission-withdraw/1", value, format!("withdrew {}", all.join(", ")))?;
    Ok(Exit::Done)
}
