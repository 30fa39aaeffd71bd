//! `device list`: devices by a condition, in the columns that were asked for.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use tidy_warden_core::condition::{Candidate, Field, Found, Moment, Traits};
use tidy_warden_core::device::{DeviceRecord, DeviceState, Note, credential_end};
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{LabelName, LabelValue};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{DeviceView, FieldNames, NameInUse};
use tidy_warden_ward::asking::Asking;

use super::{device_json, facts_text};
use crate::args::ListArgs;
use crate::commands::{Context, pick};
use crate::console::{DataForm, counted};
use crate::problem::{Exit, Problem};
use crate::stream::{Stream, TableStream};
use crate::ward::Ward;

pub(super) fn run(context: &Context<'_>, args: &ListArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let columns: Vec<Column> = args.columns.iter().map(|name| Column::parse(name)).collect::<Result<_, _>>()?;
    for column in &columns {
        if let Column::Field(Field::Named(name)) = column
            && ward.store.is_used(&NameInUse::Any)?
        {
            pick::known_label(&ward, name)?;
        }
    }
    let condition = args.condition.as_deref();
    match context.console.form() {
        None => for_people(context, &ward, condition, &columns)?,
        Some(form) => for_programs(context, &ward, condition, &columns, form)?,
    }
    Ok(Exit::Done)
}

fn for_people(context: &Context<'_>, ward: &Ward, condition: Option<&str>, columns: &[Column]) -> Result<(), Problem> {
    let now = ward.now();
    // Each label has a column, and the columns come first.
    let names = if columns.is_empty() { Names::of(ward)? } else { Names::default() };
    let titles = if columns.is_empty() { names.columns(true) } else { columns.iter().map(Column::name).collect() };
    let mut stream = TableStream::new(context.console, &titles);
    let mut counts = BTreeMap::new();
    let mut result = Ok(());
    pick::each_by_id(ward, condition, &mut |view| {
        let state = DeviceState::of(&view.device, &view.credentials, now);
        *counts.entry(state).or_insert(0u64) += 1;
        let row = match columns {
            [] => names.row((state, credential_end(&view.credentials)), &view.device, true),
            some => chosen(some, &view, now, "-"),
        };
        result = stream.add(&row);
        result.is_ok()
    })?;
    result?;
    let waiting = waiting(ward, condition)?;
    let empty = match ward.store.is_used(&NameInUse::Any)? || !waiting.is_empty() {
        true => "no such devices",
        false => "no devices; list one: device add ID --kind KIND",
    };
    let count = match (counts.is_empty(), waiting.is_empty()) {
        // The table below says it all.
        (true, false) => 0,
        _ => stream.end(empty)?,
    };
    let parts: Vec<String> = counts.iter().map(|(state, count)| format!("{count} {}", state.as_str())).collect();
    if !parts.is_empty() {
        context.console.note(format!("{}: {}", counted(count, "device"), parts.join(", ")));
    }
    if !waiting.is_empty() {
        if count > 0 {
            context.console.write("\n")?;
        }
        let titles = ["id", "kind", "state", "since", "from", "facts", "code", "conflicts"].map(str::to_owned);
        let rows: Vec<Vec<String>> = waiting.iter().map(waiting_row).collect();
        context.console.rows(&titles, &rows, "")?;
        context.console.note(format!(
            "{} for a yes: {}",
            match waiting.len() {
                1 => "1 device waits".to_owned(),
                many => format!("{many} devices wait"),
            },
            match waiting.iter().all(|waits| waits.record.code().is_none()) {
                true => "device accept ID",
                false => "device accept ID --code CODE, with the code that the device itself shows",
            }
        ));
    }
    Ok(())
}

/// Those that wait for a person and for which a condition holds.
fn waiting(ward: &Ward, condition: Option<&str>) -> Result<Vec<Asking>, Problem> {
    let condition = pick::resolved(ward, condition)?;
    let now = ward.now();
    let mut all = tidy_warden_ward::asking::all(ward)?;
    all.retain(|waits| {
        let device = waits.as_device();
        condition.as_ref().is_none_or(|condition| condition.holds(&Candidate::asking(&device, now)))
    });
    Ok(all)
}

fn waiting_row(waits: &Asking) -> Vec<String> {
    let device = waits.as_device();
    // Who has no id by a rule, or shares it, is named by its key.
    let is_alone = waits.wanted.is_some() && waits.conflicts.is_empty();
    let id = if is_alone { device.id.to_string() } else { waits.id.to_string() };
    vec![
        id,
        device.kind.to_string(),
        DeviceState::Asking.as_str().to_owned(),
        waits.record.since().to_string(),
        waits.record.from(),
        facts_text(&device),
        waits.record.code().unwrap_or_else(|| "-".to_owned()),
        super::asking::conflicts(waits),
    ]
}

fn for_programs(
    context: &Context<'_>,
    ward: &Ward,
    condition: Option<&str>,
    columns: &[Column],
    form: DataForm,
) -> Result<(), Problem> {
    let now = ward.now();
    // In CSV each label and fact has a column, and the header line comes first.
    let names = match (columns, form) {
        ([], DataForm::Csv) => Names::of(ward)?,
        _ => Names::default(),
    };
    let titles = if columns.is_empty() { names.columns(false) } else { columns.iter().map(Column::name).collect() };
    let mut stream = Stream::new(context.console, form, ("tidy-warden/devices/1", "devices"), &titles)?;
    let mut add = |view: &DeviceView| -> Result<(), Problem> {
        let state = DeviceState::of(&view.device, &view.credentials, now);
        let item = || match columns {
            [] => device_json(state, view),
            some => {
                some.iter().map(|each| (each.name(), each.value(view, now))).collect::<serde_json::Map<_, _>>().into()
            }
        };
        let row = || {
            if columns.is_empty() {
                names.row((state, credential_end(&view.credentials)), &view.device, false)
            } else {
                chosen(columns, view, now, "")
            }
        };
        stream.add(item, row)
    };
    let mut result = Ok(());
    pick::each_by_id(ward, condition, &mut |view| {
        result = add(&view);
        result.is_ok()
    })?;
    result?;
    for waits in waiting(ward, condition)? {
        let view = DeviceView { device: waits.as_device(), credentials: Vec::new() };
        let candidate = Candidate::asking(&view.device, now);
        let item = || match columns {
            [] => super::asking_json(&waits),
            some => some
                .iter()
                .map(|each| (each.name(), each.value_of(&candidate, &view)))
                .collect::<serde_json::Map<_, _>>()
                .into(),
        };
        let row = || match columns {
            [] => names.row((DeviceState::Asking, None), &view.device, false),
            some => some.iter().map(|each| told(each.value_of(&candidate, &view), "")).collect(),
        };
        stream.add(item, row)?;
    }
    stream.end()
}

/// A column that was asked for.
enum Column {
    Field(Field),
    Moment(Moment),
    Groups,
}

impl Column {
    fn parse(name: &str) -> Result<Self, Problem> {
        let moment = match name {
            "ends" | "cert.ends" => Some(Moment::CertEnds),
            "seen" => Some(Moment::Seen),
            "created" => Some(Moment::Created),
            _ => None,
        };
        match (moment, name) {
            (Some(moment), _) => Ok(Self::Moment(moment)),
            (None, "groups") => Ok(Self::Groups),
            (None, name) => {
                let plain = name.strip_prefix("label.").or_else(|| name.strip_prefix("fact.")).unwrap_or(name);
                Field::parse(plain).map(Self::Field).map_err(|error| {
                    Problem::usage(format!("there is no column {name:?}")).because(error).next(
                        "id, kind, state, gateway, owner, groups, created, ends, seen, note, labels and facts by their names",
                    )
                })
            }
        }
    }

    fn name(&self) -> String {
        match self {
            Self::Field(field) => field.to_string(),
            Self::Moment(Moment::CertEnds) => "ends".to_owned(),
            Self::Moment(moment) => moment.as_str().to_owned(),
            Self::Groups => "groups".to_owned(),
        }
    }

    /// The value for a device as JSON, null where there is none.
    fn value(&self, view: &DeviceView, now: UnixTime) -> Value {
        self.value_of(&Candidate::at(&view.device, &view.credentials, now), view)
    }

    fn value_of(&self, candidate: &Candidate<'_>, view: &DeviceView) -> Value {
        match self {
            Self::Field(field) => match candidate.text(field) {
                Found::Is(text) => json!(text),
                Found::Missing | Found::Unknown => Value::Null,
            },
            Self::Moment(moment) => json!(candidate.time(*moment)),
            Self::Groups => json!(view.device.groups),
        }
    }
}

/// The columns that were asked for.
fn chosen(columns: &[Column], view: &DeviceView, now: UnixTime, blank: &str) -> Vec<String> {
    columns.iter().map(|column| told(column.value(view, now), blank)).collect()
}

/// A value as text.
fn told(value: Value, blank: &str) -> String {
    match value {
        Value::Null => blank.to_owned(),
        Value::String(text) => text,
        Value::Array(all) if all.is_empty() => blank.to_owned(),
        Value::Array(all) => all.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(" "),
        other => other.to_string(),
    }
}

/// The labels and facts that have columns of their own. People read labels in one column and no facts; CSV has a column for
/// each, named as `device import` wants them.
#[derive(Default)]
struct Names {
    labels: BTreeSet<LabelName>,
    facts: BTreeSet<FactName>,
}

impl Names {
    fn of(ward: &Ward) -> Result<Self, Problem> {
        let FieldNames { labels, facts, .. } = ward.store.field_names()?;
        Ok(Self { labels, facts })
    }

    fn columns(&self, for_people: bool) -> Vec<String> {
        let mut columns: Vec<String> = ["id", "kind", "state"].map(str::to_owned).to_vec();
        if for_people {
            columns.extend(self.labels.iter().map(ToString::to_string));
            columns.extend(["gateway", "ends", "seen"].map(str::to_owned));
        } else {
            columns.push("gateway".to_owned());
            columns.extend(self.labels.iter().map(|name| format!("label.{name}")));
            columns.extend(self.facts.iter().map(|name| format!("fact.{name}")));
            columns.extend(["ends", "seen", "note"].map(str::to_owned));
        }
        columns
    }

    fn row(
        &self,
        (state, ends): (DeviceState, Option<UnixTime>),
        device: &DeviceRecord,
        for_people: bool,
    ) -> Vec<String> {
        let time = |time: Option<UnixTime>| match (time, for_people) {
            (Some(time), true) => time.date(),
            (Some(time), false) => time.to_string(),
            (None, true) => "-".to_owned(),
            (None, false) => String::new(),
        };
        let blank = if for_people { "-" } else { "" };
        let gateway = device.gateway.as_ref().map_or_else(|| blank.to_owned(), ToString::to_string);
        let label = |name: &LabelName| device.labels.get(name).map_or_else(|| blank.to_owned(), LabelValue::to_string);
        let mut row = vec![device.id.to_string(), device.kind.to_string(), state.as_str().to_owned()];
        if !for_people {
            row.push(gateway.clone());
        }
        row.extend(self.labels.iter().map(label));
        if for_people {
            row.push(gateway);
        } else {
            row.extend(self.facts.iter().map(|name| device.facts.get(name).map_or("", Fact::value).to_owned()));
        }
        row.extend([time(ends), time(device.seen)]);
        if !for_people {
            row.push(device.note.as_ref().map_or("", Note::as_str).to_owned());
        }
        row
    }
}
