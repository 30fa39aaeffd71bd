//! What happened to a device, and what was true of it at a moment that is over.

use serde_json::{Value, json};
use tidy_warden_core::audit::Entry;
use tidy_warden_core::device::DeviceState;
use tidy_warden_core::history::Then;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{DeviceView, StoreError};

use super::{credential, credential_row, device_json};
use crate::commands::Context;
use crate::commands::audit::about;
use crate::console::{Listing, table};
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// How many changes since are told one by one.
const TOLD: usize = 5;

/// A device as it was.
pub(in crate::commands) struct AsOf {
    pub(in crate::commands) device: DeviceView,
    /// What was changed of it since that keeps no former value.
    pub(in crate::commands) changed_since: Vec<Entry>,
}

/// A moment that is over.
pub(in crate::commands) fn moment(ward: &Ward, text: &str) -> Result<UnixTime, Problem> {
    let at: UnixTime = parse(text)?;
    match at <= ward.now() {
        true => Ok(at),
        false => Err(Problem::refused(format!("{at} is not over yet"))
            .because("only what was recorded can be told")
            .next("due tells what is to come")),
    }
}

/// A device as it was.
pub(in crate::commands) fn then(ward: &Ward, id: &DeviceId, at: UnixTime) -> Result<AsOf, Problem> {
    // Whoever is not listed is told so in the words of everywhere.
    ward.device(id)?;
    let (view, then, changed_since) = ward.store.view(|view| {
        let unknown = || StoreError::Unknown { what: "device", name: id.to_string() };
        let now = view.devices(std::slice::from_ref(id))?.pop().flatten().ok_or_else(unknown)?;
        let (mut then, mut since) = (Then::new(at), Vec::new());
        view.each_entry_about(id.as_str(), &mut |entry| {
            let known = then.changed_since.len();
            then.take(&entry);
            if then.changed_since.len() > known {
                since.push(entry);
            }
            !then.is_settled()
        })?;
        Ok((now, then, since))
    })?;
    let Some((device, credentials)) = then.of(&view.device, &view.credentials) else {
        return Err(Problem::not_found(format!("`{id}` was not listed at {at}"))
            .because(format!("it was listed at {}", view.device.created)));
    };
    Ok(AsOf { device: DeviceView { device, credentials }, changed_since })
}

/// Says what may have been otherwise then.
pub(in crate::commands) fn tell_changes(context: &Context<'_>, since: &[Entry]) {
    if let Some(oldest) = since.last() {
        let numbers: Vec<String> = since.iter().rev().take(TOLD).map(|entry| entry.number.to_string()).collect();
        let more = if since.len() > TOLD { ", ..." } else { "" };
        context.console.note(format!(
            "labels, facts, gateway and note are those of now; they were changed since by entries {}{more} of the record: audit log --subject {}",
            numbers.join(", "),
            oldest.subject
        ));
    }
}

/// `device show --at`.
pub(super) fn show(context: &Context<'_>, device: &str, at: &str) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let at = moment(&ward, at)?;
    let AsOf { device: view, changed_since } = then(&ward, &parse(device)?, at)?;
    let state = DeviceState::of(&view.device, &view.credentials, at);
    let edition = ward.store.editions()?.into_iter().filter(|each| each.at <= at).map(|each| each.number).max();
    let mut value = device_json(state, &view);
    value["at"] = json!(at);
    value["edition"] = json!(edition.unwrap_or(0));
    value["credentials"] = view.credentials.iter().map(|each| credential::json(each, at)).collect();
    value["changed_since"] = changed_since.iter().map(|entry| json!(entry.number)).collect();
    let may = match view.device.barred() {
        Some(barred) => format!("no: {barred}"),
        None if view.credentials.iter().any(|each| each.may_sign_in(at).is_ok()) => "yes".to_owned(),
        None => "no: it had nothing to do so with".to_owned(),
    };
    let edition = edition.map_or_else(|| "none was adopted".to_owned(), |number| number.to_string());
    let mut text = format!(
        "at           {at}\ndevice       {}\nkind         {}\nstate        {}\nmay sign in  {may}\nedition      {edition}\n",
        view.device.id,
        view.device.kind,
        state.as_str()
    );
    if !view.credentials.is_empty() {
        let columns = ["certificate", "state", "key", "ends", "first used", "note"].map(str::to_owned);
        let rows: Vec<Vec<String>> = view.credentials.iter().map(|each| credential_row(each, at)).collect();
        text.push('\n');
        text.push_str(&table(&columns, &rows));
    }
    context.console.show("tidy-warden/device/1", value, &text)?;
    tell_changes(context, &changed_since);
    Ok(Exit::Done)
}

/// One thing that happened.
struct Happened {
    at: UnixTime,
    what: String,
    text: String,
    /// The entry of the record that says so.
    entry: Option<Entry>,
}

/// `device events`.
pub(super) fn events(context: &Context<'_>, device: &str, last: u32) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let id: DeviceId = parse(device)?;
    let most = usize::try_from(last).unwrap_or(usize::MAX);
    let view = ward.device(&id)?;
    let (mut all, of_record) = ward.store.view(|store| {
        let all: Vec<Happened> = store
            .events(&id)?
            .into_iter()
            .map(|event| Happened { at: event.at, what: event.what, text: event.text, entry: None })
            .collect();
        Ok((all, about(store, id.as_str(), most)))
    })?;
    all.extend(of_record?.into_iter().map(|entry| Happened {
        at: entry.at,
        what: entry.act.clone(),
        text: words(&entry),
        entry: Some(entry),
    }));
    // In one second the record comes before what followed from it.
    all.sort_by_key(|each| (each.at, each.entry.as_ref().map_or(i64::MAX, |entry| entry.number)));
    all.drain(..all.len().saturating_sub(most));
    let items = all
        .iter()
        .map(|each| {
            let entry = each.entry.as_ref();
            json!({
                "at": each.at, "source": if entry.is_some() { "record" } else { "guard" }, "what": each.what,
                "text": each.text, "number": entry.map(|entry| entry.number),
                "actor": entry.map(|entry| &entry.actor), "because": entry.map(|entry| &entry.because),
            })
        })
        .collect();
    let rows = all
        .iter()
        .map(|each| {
            let by = each.entry.as_ref().map_or("guard", |entry| &entry.actor);
            vec![each.at.to_string(), by.to_owned(), each.what.clone(), each.text.clone()]
        })
        .collect();
    context.console.list(Listing {
        schema: "tidy-warden/device-events/1",
        key: "events",
        items,
        columns: ["at", "by", "what", "text"].map(str::to_owned).to_vec(),
        rows,
        empty: "nothing is known to have happened to it",
    })?;
    if view.device.seen.is_none() {
        context.console.note("no guard has had a message of it yet");
    }
    Ok(Exit::Done)
}

/// An entry in a few words: its reason, and what of its details a person looks for.
fn words(entry: &Entry) -> String {
    let detail: Value = serde_json::from_str(&entry.detail).unwrap_or(Value::Null);
    let member = |name: &str| match &detail[name] {
        Value::String(text) => Some(format!("{name} {text}")),
        Value::Number(number) => Some(format!("{name} {number}")),
        _ => None,
    };
    let known = ["serial", "kid", "reason", "sign", "gateway", "until"];
    let mut parts: Vec<String> = known.iter().filter_map(|name| member(name)).collect();
    if let Some(serials) = detail["serials"].as_array().filter(|serials| !serials.is_empty()) {
        let all: Vec<&str> = serials.iter().filter_map(Value::as_str).take(3).collect();
        let word = if matches!(entry.act.as_str(), "hold" | "release") { "of" } else { "ended" };
        parts.push(format!("{word} {}", all.join(", ")));
    }
    if !entry.because.is_empty() {
        parts.insert(0, entry.because.clone());
    }
    parts.join("; ")
}
