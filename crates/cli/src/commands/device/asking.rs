//! `device accept` and `device refuse`: those that called and wait for a person.

use serde_json::{Value, json};
use tidy_warden_core::admission::{AdmissionName, AdmissionRecord, Demand};
use tidy_warden_core::asking::{AskingRecord, WAITS, is_code};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_store::AcceptRefusal;
use tidy_warden_ward::admission::useless;
use tidy_warden_ward::asking::{self, Asking, Waits};

use crate::args::{AcceptArgs, RefuseArgs};
use crate::commands::Context;
use crate::edge::{device_id, known_kind, labels, parse};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// What is known of one that waits, for programs, beside what devices have.
pub(super) fn json(asking: &Asking) -> Value {
    json!({
        "id": asking.id, "since": asking.record.since(), "ends": asking.record.until(), "from": asking.record.from(),
        "code": asking.record.code(), "conflicts": asking.conflicts,
    })
}

/// Whose facts or id it shares, for people.
pub(super) fn conflicts(asking: &Asking) -> String {
    let all: Vec<&str> = asking.conflicts.iter().map(DeviceId::as_str).collect();
    if all.is_empty() { "-".to_owned() } else { all.join(" ") }
}

/// The same as text, line by line.
pub(super) fn text(asking: &Asking) -> String {
    let device = asking.as_device();
    let facts: Vec<String> = device.facts.values().map(ToString::to_string).collect();
    let facts = if facts.is_empty() { "-".to_owned() } else { facts.join(", ") };
    let lines = [
        ("device", device.id.to_string()),
        ("kind", device.kind.to_string()),
        ("state", "asking".to_owned()),
        ("facts", facts),
        ("asks as", asking.id.to_string()),
        ("since", asking.record.since().to_string()),
        ("until", asking.record.until().to_string()),
        ("from", asking.record.from()),
        ("code", asking.record.code().unwrap_or_else(|| "-".to_owned())),
        ("conflicts", conflicts(asking)),
    ];
    lines.iter().map(|(name, value)| format!("{name:<12}{value}\n")).collect()
}

/// Makes sure that the key is the device's: by the code that it shows.
fn compared(
    context: &Context<'_>,
    ward: &Ward,
    asking: &Asking,
    record: &AskingRecord,
    args: &AcceptArgs,
) -> Result<(), Problem> {
    let code = record.code();
    let differs = || {
        Problem::refused(format!("`{}` was not accepted", asking.id))
            .because("the code is not that of the key that waits")
            .next("compare it with what the device shows; if they differ, somebody else calls in its place: device refuse")
    };
    if let Some(typed) = &args.code {
        return if is_code(&record.key_digest, typed) { Ok(()) } else { Err(differs()) };
    }
    let free = ward.settings.kinds.get(&record.kind).is_some_and(|kind| kind.accept_without_code);
    if free && args.yes {
        return Ok(());
    }
    let question = format!("The key that waits has the code {code}.\nType the code that the device itself shows: ");
    match context.console.typed(&question)? {
        Some(typed) if is_code(&record.key_digest, &typed) => Ok(()),
        Some(_) => Err(differs()),
        None => Err(Problem::usage("the code of the device's key is needed, and there is no terminal to ask on")
            .because("a yes alone would let in whoever called in its place")
            .next("--code CODE, as the device shows it; or accept_without_code = true for its kind, and --yes")),
    }
}

pub(super) fn accept(context: &Context<'_>, args: &AcceptArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let asking = asking::named(&ward, &parse(&args.device)?)?;
    let record = match &asking.record {
        Waits::Caller(record) => record.clone(),
        Waits::Child(_) => return accept_child(context, ward, &asking, args),
    };
    let mut device = asking.as_device();
    device.id = match (&args.new_id, &asking.wanted) {
        (Some(id), _) => device_id(&ward.settings, id)?,
        (None, Some(wanted)) => wanted.clone(),
        (None, None) => {
            return Err(Problem::usage(format!("`{}` has no id of its own yet", asking.id))
                .because(format!("the kind `{}` has no rule for ids", device.kind))
                .next(format!("--as NEWID, or id = \"...\" under [kinds.{}] in ward.toml", device.kind)));
        }
    };
    if let Some(kind) = &args.kind {
        device.kind = parse(kind)?;
        known_kind(&ward.settings, &device.kind)?;
    }
    device.labels = labels(&ward.settings, &args.label)?;
    device.gateway = args.gateway.as_deref().map(parse).transpose()?;
    let demand = Demand::Key(record.key_digest);
    let refused = |id: &DeviceId| Problem::refused(format!("`{id}` was not accepted"));
    // What it showed is as strong as the person who looks at it.
    if let Some(useless) =
        useless(&ward.settings, &device, &Demand::Certificate).filter(|useless| useless.why.contains("wants the fact"))
    {
        return Err(refused(&asking.id).because(useless.why).next("refuse it, and have it call again with that fact"));
    }
    if !asking.conflicts.is_empty() {
        context
            .console
            .warn(format!("it is in conflict with {}: only one of them can be what it says", conflicts(&asking)));
    }
    compared(context, &ward, &asking, &record, args)?;
    let cause = ward.cause(args.because.text());
    let until = cause.at.plus(WAITS);
    let device = DeviceRecord { created: cause.at, ..device };
    let wanted = AdmissionRecord { name: AdmissionName(0), device, demand, until, end: None };
    let opened = ward.store.accept(&wanted, &cause)?.map_err(|refusal| match &refusal {
        AcceptRefusal::Gone => refused(&asking.id).because(&refusal).next("device list --where 'state = asking'"),
        AcceptRefusal::Unopened(_) => {
            refused(&asking.id).because(&refusal).next("choose another id with --as, or look at who is in the way")
        }
    })?;
    let value = json!({ "device": opened.device.id, "asking": asking.id, "admission": opened.name, "ends": until });
    let note = format!(
        "accepted {} ({}): it gets its certificate when it calls again, until {until}",
        opened.device.id, opened.name
    );
    context.console.did("tidy-warden/device-accept/1", value, note)?;
    Ok(Exit::Done)
}

/// Lists a child that its gateway brought in. It has no key to compare; its gateway vouches for it.
fn accept_child(context: &Context<'_>, mut ward: Ward, asking: &Asking, args: &AcceptArgs) -> Result<Exit, Problem> {
    if args.code.is_some() || args.new_id.is_some() || args.gateway.is_some() {
        return Err(Problem::usage(format!("`{}` was brought in by its gateway {}", asking.id, asking.record.from()))
            .because("it has no key with a code, and its messages are about this id and come from that gateway")
            .next("leave --code, --as and --gateway away"));
    }
    let mut device = asking.as_device();
    if let Some(kind) = &args.kind {
        device.kind = parse(kind)?;
        known_kind(&ward.settings, &device.kind)?;
    }
    device.labels.extend(labels(&ward.settings, &args.label)?);
    let question = format!("List {} as a {} behind {}?", device.id, device.kind, asking.record.from());
    context.console.confirm(&question, args.yes)?;
    let cause = ward.cause(args.because.text());
    device.created = cause.at;
    ward.store.accept_child(&device, &cause)?.map_err(|refusal| {
        Problem::refused(format!("`{}` was not accepted", device.id))
            .because(refusal)
            .next("device list --where 'state = asking'")
    })?;
    let value = json!({ "device": device.id, "asking": asking.id, "gateway": asking.record.from() });
    let note = format!("accepted {}: {} speaks for it from now on", device.id, asking.record.from());
    context.console.did("tidy-warden/device-accept/1", value, note)?;
    Ok(Exit::Done)
}

pub(super) fn refuse(context: &Context<'_>, args: &RefuseArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let asking = asking::named(&ward, &parse(&args.device)?)?;
    context.console.confirm(&format!("Refuse {}?", asking.id), args.yes)?;
    let because = context.console.reason(args.because.text())?;
    let cause = ward.cause(Some(&because));
    let refused = |refusal: &dyn std::fmt::Display| Problem::refused("nothing was refused").because(refusal);
    match &asking.record {
        Waits::Caller(record) => {
            ward.store.refuse_asking(&record.key_digest, &cause)?.map_err(|refusal| refused(&refusal))?;
        }
        Waits::Child(record) => {
            ward.store.refuse_child(&record.child, &cause)?.map_err(|refusal| refused(&refusal))?;
        }
    }
    let value = json!({ "asking": asking.id, "device": asking.wanted });
    context.console.did("tidy-warden/device-refuse/1", value, format!("refused {}", asking.id))?;
    Ok(Exit::Done)
}
