//! `device`: listing machines and keeping what is known of them.

mod asking;
mod gaps;
pub(super) mod history;
mod list;
mod retained;

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::credential::Origin;
use tidy_warden_core::device::{AddRefusal, DeviceEdit};
use tidy_warden_core::device::{Demands, DeviceRecord, DeviceState, Note, PolicyStanding, credential_end, missing};
use tidy_warden_core::fact::FactName;
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::policy::Changed;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{CloneSigns, DeviceView, Traffic};
use tidy_warden_ward::asking::Asking;
use tidy_warden_ward::mass;

use super::changes::{devices_text, of_devices, tell_back};
use super::{Context, credential, import, pick};
use crate::args::{AddArgs, DeviceCommand, EditArgs};
use crate::commands::revoke::tell_children;
use crate::console::counted;
use crate::edge::{device_id, fact, facts, known_kind, label_name, labels, parse};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

pub(crate) fn run(context: &Context<'_>, command: DeviceCommand) -> Result<Exit, Problem> {
    match command {
        DeviceCommand::Add(args) => add(context, &args),
        DeviceCommand::Import(args) => import::run(context, &args),
        DeviceCommand::List(args) => list::run(context, &args),
        DeviceCommand::Show { device, at: None } => show(context, &device),
        DeviceCommand::Show { device, at: Some(at) } => history::show(context, &device, &at),
        DeviceCommand::Events { device, last } => history::events(context, &device, last),
        DeviceCommand::Edit(args) => edit(context, &args),
        DeviceCommand::Retire { device, yes, because } => retire(context, &device, yes, because.text()),
        DeviceCommand::Retained(args) => retained::run(context, &args),
        DeviceCommand::Accept(args) => asking::accept(context, &args),
        DeviceCommand::Refuse(args) => asking::refuse(context, &args),
        DeviceCommand::Reopen { device, because } => reopen(context, &device, because.text()),
    }
}

/// A refusal of the store with what to do about it.
fn refusal(id: &DeviceId, refusal: &AddRefusal) -> Problem {
    let problem = Problem::refused(format!("`{id}` was not taken")).because(refusal);
    match refusal {
        AddRefusal::IdTaken { .. } => problem.next(format!("device show {id}, or choose another id")),
        AddRefusal::IdRetired { .. } => problem.next("choose another id"),
        AddRefusal::FactTaken { owner, .. } => problem.next(format!("compare with: device show {owner}")),
        AddRefusal::NoGateway { gateway, .. } => {
            problem.next(format!("list the gateway first: device add {gateway} ..."))
        }
        _ => problem.next("choose another gateway"),
    }
}

fn add(context: &Context<'_>, args: &AddArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id = device_id(&ward.settings, &args.device)?;
    let kind: KindName = parse(&args.kind)?;
    known_kind(&ward.settings, &kind)?;
    let mut device = DeviceRecord::new(id.clone(), kind, ward.now());
    device.labels = labels(&ward.settings, &args.label)?;
    device.facts = facts(&ward.settings, &args.fact)?;
    device.note = args.note.as_deref().map(parse).transpose()?;
    device.gateway = args.gateway.as_deref().map(parse).transpose()?;
    let told = told_to_gateway(&ward, &device)?;
    let warning = carried_by_nobody(&ward, &device)?;
    let cause = ward.cause(args.because.text());
    if let Err(refusals) = ward.store.add_devices(&[device], &cause)? {
        return Err(refusals.first().map_or_else(|| Problem::refused("it was not taken"), |first| refusal(&id, first)));
    }
    if let Some(warning) = warning {
        context.console.warn(warning);
    }
    if !told.is_empty() {
        context.console.note(devices_text(&told));
    }
    let note = format!("listed {id}; next: enroll {id} --csr FILE --out DIR, or --make-key");
    context.console.did("tidy-warden/device-add/1", json!({ "device": id }), note)?;
    Ok(Exit::Done)
}

/// What a new device gives to the gateway that speaks for it.
fn told_to_gateway(ward: &Ward, device: &DeviceRecord) -> Result<Vec<(DeviceId, BTreeSet<Changed>)>, Problem> {
    if device.gateway.is_none() {
        return Ok(Vec::new());
    }
    let before = DeviceRecord { gateway: None, ..device.clone() };
    let mut told = of_devices(ward, &[(before, device.clone())])?;
    told.retain(|(id, _)| Some(id) == device.gateway.as_ref());
    Ok(told)
}

/// A warning if the gateway's kind may not speak for the device's.
fn carried_by_nobody(ward: &Ward, device: &DeviceRecord) -> Result<Option<String>, Problem> {
    let Some(gateway) = &device.gateway else { return Ok(None) };
    let Some(found) = ward.store.devices(std::slice::from_ref(gateway))?.pop().flatten() else { return Ok(None) };
    let (above, kind) = (&found.device.kind, &device.kind);
    Ok((!ward.settings.carries(above, kind)).then(|| {
        format!(
            "{gateway} may not speak for {}: its kind carries no `{kind}`; if it should: carries = [\"{kind}\"] in \
             [kinds.{above}] of ward.toml",
            device.id
        )
    }))
}

/// The facts of a device in a row of a table.
pub(super) fn facts_text(device: &DeviceRecord) -> String {
    let all: Vec<String> = device.facts.values().map(|fact| format!("{}={}", fact.name(), fact.value())).collect();
    if all.is_empty() { "-".to_owned() } else { all.join(" ") }
}

fn device_json(state: DeviceState, view: &DeviceView) -> Value {
    let device = &view.device;
    let labels: BTreeMap<_, _> = device.labels.iter().map(|(name, value)| (name.to_string(), value)).collect();
    let facts: BTreeMap<_, _> = device.facts.values().map(|fact| (fact.name().as_str(), fact.value())).collect();
    json!({
        "id": device.id, "kind": device.kind, "state": state.as_str(), "labels": labels, "facts": facts,
        "gateway": device.gateway, "owner": device.owner, "created": device.created, "seen": device.seen,
        "note": device.note.as_ref().map(Note::as_str), "ends": credential_end(&view.credentials),
        "renew_asked": device.renew_asked,
    })
}

/// What the adopted policies give a device, as far as readiness goes, and as filters for people.
struct PolicyAnswer {
    standing: PolicyStanding,
    edition: u32,
    policies: Vec<String>,
    publish: Vec<String>,
    subscribe: Vec<String>,
    /// How many devices it speaks for.
    children: usize,
}

fn standing(ward: &Ward, device: &DeviceRecord) -> Result<PolicyAnswer, Problem> {
    let Some(edition) = ward.edition()? else {
        return Ok(PolicyAnswer {
            standing: PolicyStanding::NoEdition,
            edition: 0,
            policies: Vec::new(),
            publish: Vec::new(),
            subscribe: Vec::new(),
            children: 0,
        });
    };
    let rights = ward.rights(&edition, device)?;
    let standing = match rights.client_id() {
        Some(_) => PolicyStanding::MayConnect,
        None => PolicyStanding::NoConnect,
    };
    Ok(PolicyAnswer {
        standing,
        edition: edition.number,
        policies: rights.policies().iter().map(|policy| policy.name.to_string()).collect(),
        publish: rights.publish_filters().map(|filter| filter.to_string()).collect(),
        subscribe: rights.subscribe_filters().collect(),
        children: rights.children(),
    })
}

fn show(context: &Context<'_>, device: &str) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let id: DeviceId = parse(device)?;
    if ward.store.devices(std::slice::from_ref(&id))?.iter().all(Option::is_none)
        && let Some(waits) = waiting(&ward, &id)?
    {
        let value = asking_json(&waits);
        context.console.show("tidy-warden/device/1", value, &asking::text(&waits))?;
        let code = if waits.record.code().is_some() { " --code CODE" } else { "" };
        context.console.note(format!("it waits for a yes: device accept {id}{code}, or device refuse {id}"));
        return Ok(Exit::Done);
    }
    let view = ward.device(&id)?;
    let now = ward.now();
    let state = DeviceState::of(&view.device, &view.credentials, now);
    let policy = standing(&ward, &view.device)?;
    let kind = ward.settings.kind(&view.device.kind).cloned().unwrap_or_default();
    let demands = Demands { facts: &kind.facts, token_login: kind.token_login };
    let gaps = missing(&view.device, &view.credentials, demands, policy.standing, now);
    let gaps: Vec<String> = gaps.iter().map(|gap| gaps::told(&view.device.id, gap)).collect();
    let mut value = device_json(state, &view);
    let credentials: Vec<Value> = view.credentials.iter().map(|credential| credential::json(credential, now)).collect();
    value["credentials"] = json!(credentials);
    value["missing"] = json!(gaps);
    value["policies"] = json!(policy.policies);
    value["edition"] = json!(policy.edition);
    value["publish"] = json!(policy.publish);
    value["subscribe"] = json!(policy.subscribe);
    value["children"] = json!(policy.children);
    let met =
        Met { traffic: ward.store.traffic(&view.device.id)?, clone_signs: ward.store.clone_signs(&view.device.id)? };
    value["traffic"] = met.traffic_json();
    value["clone_signs"] = met.clone_json();
    let (owners, history) = super::claim::history(&ward, &view.device.id)?;
    value["owners"] = json!(owners);
    let text = show_text(&view, state, (&policy, &met, &history), &gaps, now);
    context.console.show("tidy-warden/device/1", value, &text)?;
    Ok(Exit::Done)
}

/// One that waits as this, if one does.
fn waiting(ward: &Ward, id: &DeviceId) -> Result<Option<Asking>, Problem> {
    let is_meant = |each: &Asking| each.id == *id || each.wanted.as_ref() == Some(id);
    Ok(tidy_warden_ward::asking::all(ward)?.into_iter().find(is_meant))
}

/// One that waits, as devices are told of.
fn asking_json(waits: &Asking) -> Value {
    let view = DeviceView { device: waits.as_device(), credentials: Vec::new() };
    let mut value = device_json(DeviceState::Asking, &view);
    value["asking"] = asking::json(waits);
    value
}

/// What the guard noted of a device.
struct Met {
    traffic: Traffic,
    clone_signs: Option<CloneSigns>,
}

impl Met {
    fn traffic_json(&self) -> Value {
        let Traffic { messages_in, octets_in, messages_out, octets_out, refusals, refused } = &self.traffic;
        json!({
            "messages_in": messages_in, "octets_in": octets_in, "messages_out": messages_out, "octets_out": octets_out,
            "refusals": refusals, "refused_at": refused.as_ref().map(|(at, _)| at),
            "refused": refused.as_ref().map(|(_, what)| what),
        })
    }

    fn clone_json(&self) -> Value {
        let signs = self.clone_signs.as_ref();
        signs.map_or(Value::Null, |CloneSigns { first, last, count, sign }| {
            json!({ "first": first, "last": last, "count": count, "sign": sign })
        })
    }

    /// Lines for people: a name and a text each.
    fn lines(&self) -> Vec<(&'static str, String)> {
        let traffic = &self.traffic;
        let mut lines = Vec::new();
        let count = |messages: u64, octets: u64| {
            let messages = usize::try_from(messages).unwrap_or(usize::MAX);
            format!("{}, {octets} bytes", counted(messages, "message"))
        };
        if traffic.messages_in + traffic.messages_out > 0 {
            lines.push(("sent", count(traffic.messages_in, traffic.octets_in)));
            lines.push(("received", count(traffic.messages_out, traffic.octets_out)));
        }
        if let Some((at, what)) = &traffic.refused {
            let refusals = usize::try_from(traffic.refusals).unwrap_or(usize::MAX);
            lines.push(("refused", format!("{}, the last at {at}:", counted(refusals, "act"))));
            // The act, and behind its quoted subject the reason.
            match what.split_once("\": ") {
                Some((act, why)) => lines.extend([("", format!("{act}\"")), ("", why.to_owned())]),
                None => lines.push(("", what.clone())),
            }
        }
        if let Some(signs) = &self.clone_signs {
            let many = usize::try_from(signs.count).unwrap_or(usize::MAX);
            lines.push(("a clone?", format!("{}, the last at {}:", counted(many, "sign"), signs.last)));
            lines.push(("", signs.sign.clone()));
        }
        lines
    }
}

fn show_text(
    view: &DeviceView,
    state: DeviceState,
    (policy, met, owners): (&PolicyAnswer, &Met, &[String]),
    gaps: &[String],
    now: UnixTime,
) -> String {
    let device = &view.device;
    let mut out = String::new();
    let mut line = |name: &str, text: &str| out.push_str(&format!("{name:<12}{text}\n"));
    line("device", device.id.as_str());
    line("kind", device.kind.as_str());
    line("state", state.as_str());
    let join = |items: Vec<String>| if items.is_empty() { "-".to_owned() } else { items.join(", ") };
    line("labels", &join(device.labels.iter().map(|(name, value)| format!("{name}={value}")).collect()));
    line("facts", &join(device.facts.values().map(ToString::to_string).collect()));
    if let Some(gateway) = &device.gateway {
        line("gateway", gateway.as_str());
    }
    match (&device.owner, owners) {
        (None, []) => {}
        (owner, []) => line("owner", owner.as_ref().map_or("-", |owner| owner.as_str())),
        (owner, all) => {
            line("owner", owner.as_ref().map_or("nobody", |owner| owner.as_str()));
            all.iter().enumerate().for_each(|(at, text)| line(if at == 0 { "owners" } else { "" }, text));
        }
    }
    if let Some(note) = &device.note {
        line("note", note.as_str());
    }
    line("created", &device.created.to_string());
    let is_renewed = |asked| view.credentials.iter().any(|each| each.origin == Origin::Issued && each.issued >= asked);
    if let Some(asked) = device.renew_asked.filter(|asked| !is_renewed(*asked)) {
        line("renewal", &format!("asked for at {asked}"));
    }
    line("seen", &device.seen.map_or_else(|| "never".to_owned(), |seen| seen.to_string()));
    met.lines().iter().for_each(|(name, text)| line(name, text));
    match policy.edition {
        0 => line("policy", "no edition is adopted"),
        number => line("policy", &format!("{} (edition {number})", join(policy.policies.clone()))),
    }
    for (name, filters) in [("publish", &policy.publish), ("subscribe", &policy.subscribe)] {
        for (at, filter) in filters.iter().enumerate() {
            line(if at == 0 { name } else { "" }, filter);
        }
    }
    if policy.children > 0 {
        line("speaks for", &format!("{} behind it", counted(policy.children, "device")));
    }
    match gaps {
        [] => line("missing", "nothing: it is ready"),
        gaps => gaps.iter().enumerate().for_each(|(at, gap)| line(if at == 0 { "missing" } else { "" }, gap)),
    }
    if !view.credentials.is_empty() {
        let columns = ["certificate", "state", "key", "ends", "first used", "note"].map(str::to_owned);
        let rows: Vec<Vec<String>> =
            view.credentials.iter().map(|credential| credential_row(credential, now)).collect();
        out.push('\n');
        out.push_str(&crate::console::table(&columns, &rows));
    }
    out
}

fn credential_row(credential: &CredentialRecord, now: UnixTime) -> Vec<String> {
    let note = credential::note(credential, now);
    vec![
        credential.name(),
        credential.state(now).as_str().to_owned(),
        credential.key_type.clone(),
        credential.not_after.date(),
        credential.first_used.map_or_else(|| "-".to_owned(), |at| at.to_string()),
        note,
    ]
}

/// What `device edit` is asked to change.
fn wanted(settings: &Settings, args: &EditArgs) -> Result<DeviceEdit, Problem> {
    let mut edit = DeviceEdit::default();
    for (name, value) in &args.label {
        edit.labels.push(match value.is_empty() {
            // What could not be given any more can be taken away.
            true => (parse(name)?, None),
            false => (label_name(settings, name)?, Some(parse(value)?)),
        });
    }
    for (name, value) in &args.fact {
        edit.facts.push(match value.is_empty() {
            true => Err(FactName::parse(name).map_err(|error| Problem::refused(error.to_string()))?),
            false => Ok(fact(settings, name, value)?),
        });
    }
    edit.note = match (&args.note, args.no_note) {
        (Some(note), _) => Some(Some(parse(note)?)),
        (None, true) => Some(None),
        (None, false) => None,
    };
    edit.gateway = match (&args.gateway, args.no_gateway) {
        (Some(gateway), _) => Some(Some(parse(gateway)?)),
        (None, true) => Some(None),
        (None, false) => None,
    };
    if edit == DeviceEdit::default() {
        return Err(Problem::usage("there is nothing to change").next("give --label, --fact, --gateway or --note"));
    }
    Ok(edit)
}

fn edit(context: &Context<'_>, args: &EditArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let edit = wanted(&ward.settings, args)?;
    let before: Vec<DeviceRecord> = match (&args.device, &args.condition) {
        (Some(device), _) => {
            let device = ward.device(&parse(device)?)?.device;
            if let Some(since) = device.retired {
                return Err(Problem::refused(format!("`{}` cannot be changed", device.id))
                    .because(format!("it is retired since {since}")));
            }
            vec![device]
        }
        (None, condition) => {
            let picked = pick::devices(&ward, condition.as_deref().unwrap_or_default())?;
            picked.into_iter().map(|view| view.device).collect()
        }
    };
    let ids: Vec<DeviceId> = before.iter().map(|device| device.id.clone()).collect();
    let changed: Vec<(DeviceRecord, DeviceRecord)> = before
        .into_iter()
        .map(|device| {
            let after = edit.applied(&device);
            (device, after)
        })
        .filter(|(before, after)| before != after)
        .collect();
    let told = of_devices(&ward, &changed)?;
    if !told.is_empty() {
        console.note(devices_text(&told));
    }
    if args.condition.is_some() {
        pick::confirm(console, "change", &ids, args.count)?;
    } else if !told.is_empty() {
        console.confirm(&format!("Change {}?", ids.first().map_or("it", DeviceId::as_str)), args.yes)?;
    }
    let moved = changed.iter().find(|(before, after)| before.gateway != after.gateway);
    let warning = moved.map(|(_, after)| carried_by_nobody(&ward, after)).transpose()?.flatten();
    let act = mass::MassAct::Edit(edit);
    let done = match pick::act(console, &mut ward, &act, &ids, args.because.text().unwrap_or_default())? {
        Ok(done) => done,
        Err((id, refusals)) => {
            let first = refusals.first();
            return Err(first.map_or_else(|| Problem::refused("it was not taken"), |first| refusal(&id, first)));
        }
    };
    if let Some(warning) = warning {
        console.warn(warning);
    }
    let note = match ids.as_slice() {
        [one] => format!("changed {one}"),
        many => format!("changed {}", counted(many.len(), "device")),
    };
    console.did("tidy-warden/device-edit/1", json!({ "devices": ids, "run": done.job }), note)?;
    Ok(Exit::Done)
}

fn retire(context: &Context<'_>, device: &str, yes: bool, because: Option<&str>) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id: DeviceId = parse(device)?;
    if ward.device(&id)?.device.retired.is_some() {
        let value = json!({ "device": id, "retired": false });
        context.console.did("tidy-warden/device-retire/1", value, format!("{id} is retired already"))?;
        return Ok(Exit::Done);
    }
    tell_children(
        context.console,
        &ward,
        &id,
        "it speaks for them no more, and they need another gateway: device edit ID --gateway",
    )?;
    context.console.confirm(&format!("Retire {id} for good? Its id is never used again."), yes)?;
    let cause = ward.cause(because);
    let had = ward.device(&id)?.credentials.iter().any(|credential| credential.usable_until().is_some());
    ward.store.retire_device(&id, &cause)?;
    let note = match had {
        true => format!("retired {id}; its certificates are revoked: write the CRL with crl --out FILE"),
        false => format!("retired {id}"),
    };
    context.console.did("tidy-warden/device-retire/1", json!({ "device": id, "retired": true }), note)?;
    Ok(Exit::Done)
}

fn reopen(context: &Context<'_>, device: &str, because: Option<&str>) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let id: DeviceId = parse(device)?;
    if ward.device(&id)?.device.retired.is_some() {
        return Err(Problem::refused(format!("`{id}` cannot be reopened"))
            .because("it was retired for good")
            .next("list the machine under a new id"));
    }
    let reason = because.map(str::to_owned).map_or_else(|| context.console.reason(None), Ok)?;
    if reason.is_empty() {
        return Err(Problem::usage("reopening needs a reason").next("add --because TEXT"));
    }
    let cause = ward.cause(Some(&reason));
    let before = ward.device(&id)?.device;
    let after = DeviceRecord { out: None, ..before.clone() };
    tell_back(context.console, &ward, &[(before, after)])?;
    let was_out = ward.store.reopen_device(&id, &cause)?;
    let note = match was_out {
        true => format!("{id} may enrol again; its old certificates stay revoked"),
        false => format!("{id} is not out; nothing changed"),
    };
    context.console.did("tidy-warden/device-reopen/1", json!({ "device": id, "was_out": was_out }), note)?;
    Ok(Exit::Done)
}
