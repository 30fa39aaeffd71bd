//! `group`: devices under one name, by rule or by list.

use std::collections::BTreeSet;
use std::sync::Arc;

use serde_json::json;
use tidy_warden_core::condition::{Condition, Groups, Use};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{DeviceId, GroupName};
use tidy_warden_core::policy::Edition;
use tidy_warden_core::text::Source;
use tidy_warden_store::{GroupMembers, GroupRecord};

use super::Context;
use super::changes::{compared, comparison_text, devices_text, of_devices};
use crate::args::{GroupCommand, MakeGroupArgs};
use crate::console::{Listing, counted};
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// The longest list of ids that is read, in octets.
const MAX_LIST: u64 = 256 * 1024 * 1024;

pub(crate) fn run(context: &Context<'_>, command: &GroupCommand) -> Result<Exit, Problem> {
    match command {
        GroupCommand::Make(args) => make(context, args),
        GroupCommand::List => list(context),
        GroupCommand::Show { group } => show(context, group),
        GroupCommand::Drop { group, yes, because } => drop_group(context, group, *yes, because.text()),
    }
}

/// A group that there is.
fn group(ward: &Ward, name: &str) -> Result<GroupRecord, Problem> {
    let name: GroupName = parse(name)?;
    let found = ward.store.groups()?.into_iter().find(|group| group.name == name);
    found.ok_or_else(|| Problem::not_found(format!("there is no group `{name}`")).next("group list, or: group make"))
}

/// The devices of a group.
fn members(ward: &Ward, group: &GroupRecord) -> Result<Vec<DeviceRecord>, Problem> {
    let condition = Condition::Group(group.name.clone(), None).resolve(&ward.groups()?);
    let mut all = Vec::new();
    ward.store.each_device_where(&condition, ward.now(), &mut |view| all.push(view.device))?;
    Ok(all)
}

fn rule(text: &str) -> Result<Condition, Problem> {
    let condition = Condition::parse(&Source::new("--where", text), Use::Picking)
        .map_err(|error| Problem::text("the condition cannot be read", &[error]))?;
    let mut names_group = false;
    condition.each_group(&mut |_| names_group = true);
    if names_group {
        return Err(Problem::refused("the rule of a group cannot name groups").next("write out what they stand for"));
    }
    Ok(condition)
}

fn ids(args: &MakeGroupArgs) -> Result<Vec<DeviceId>, Problem> {
    let mut all: Vec<DeviceId> = args.device.iter().map(|id| parse(id)).collect::<Result<_, _>>()?;
    if let Some(file) = &args.from {
        let text = crate::files::read_text_or_input(file, MAX_LIST)?;
        for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
            all.push(parse(line)?);
        }
    }
    let mut known = BTreeSet::new();
    all.retain(|id| known.insert(id.clone()));
    Ok(all)
}

fn make(context: &Context<'_>, args: &MakeGroupArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let name: GroupName = parse(&args.group)?;
    let known = ward.store.groups()?.into_iter().find(|group| group.name == name);
    if known.is_some() && !args.replace {
        return Err(Problem::refused(format!("there is a group `{name}` already"))
            .next(format!("group show {name}; add --replace to give it other devices")));
    }
    let (members, text) = match &args.condition {
        Some(text) => {
            let condition = rule(text)?;
            by_rule(console, &ward, &name, known.as_ref(), &condition, args.yes)?;
            (GroupMembers::Rule(condition.to_string()), format!("every device with {condition}"))
        }
        None => {
            let ids = ids(args)?;
            if ids.is_empty() {
                return Err(Problem::usage("the group would be empty").next("give --where, --device or --from"));
            }
            by_list(console, &ward, &name, known.as_ref(), &ids, args.yes)?;
            let count = counted(ids.len(), "device");
            (GroupMembers::Fixed(ids), count)
        }
    };
    let cause = ward.cause(args.because.text());
    ward.store.make_group(&name, &members, &cause)?;
    let value = json!({ "group": name, "members": text });
    console.did("tidy-warden/group-make/1", value, format!("group {name}: {text}"))?;
    Ok(Exit::Done)
}

/// Shows what a rule changes for the adopted policies, and asks if it changes anything.
fn by_rule(
    console: &crate::console::Console,
    ward: &Ward,
    name: &GroupName,
    known: Option<&GroupRecord>,
    condition: &Condition,
    yes: bool,
) -> Result<(), Problem> {
    let (Some(_), Some(edition)) = (known, ward.store.edition(None)?) else { return Ok(()) };
    let mut groups: Groups = ward.groups()?;
    let read = |groups: &Groups| {
        Edition::read(edition.number, &edition.files, groups)
            .map_err(|errors| Problem::text("the adopted edition cannot be read", &errors))
    };
    let old = read(&groups)?;
    groups.insert(name.clone(), Some(Arc::new(condition.clone())));
    let comparison = compared(ward, &old, &read(&groups)?)?;
    if comparison.changed() == 0 {
        return Ok(());
    }
    console.note(comparison_text("the group as it is", "the group as it will be", &comparison));
    console.confirm(&format!("Give the group {name} this rule?"), yes)
}

/// Shows what a list changes for the adopted policies, and asks if it changes anything.
fn by_list(
    console: &crate::console::Console,
    ward: &Ward,
    name: &GroupName,
    known: Option<&GroupRecord>,
    ids: &[DeviceId],
    yes: bool,
) -> Result<(), Problem> {
    let mut touched: Vec<DeviceRecord> = match known {
        Some(group) => members(ward, group)?,
        None => Vec::new(),
    };
    let already: BTreeSet<DeviceId> = touched.iter().map(|device| device.id.clone()).collect();
    for (id, found) in ids.iter().zip(ward.store.devices(ids)?) {
        let view = found.ok_or_else(|| Problem::not_found(format!("there is no device `{id}`")).next("device list"))?;
        if !already.contains(id) {
            touched.push(view.device);
        }
    }
    let wanted: BTreeSet<&DeviceId> = ids.iter().collect();
    let changed: Vec<(DeviceRecord, DeviceRecord)> = touched
        .into_iter()
        .map(|before| {
            let mut after = before.clone();
            if wanted.contains(&before.id) {
                after.groups.insert(name.clone());
            } else {
                after.groups.remove(name);
            }
            (before, after)
        })
        .filter(|(before, after)| before != after)
        .collect();
    let told = of_devices(ward, &changed)?;
    if told.is_empty() {
        return Ok(());
    }
    console.note(devices_text(&told));
    console.confirm(&format!("Give the group {name} these devices?"), yes)
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let mut items = Vec::new();
    let mut rows = Vec::new();
    for group in ward.store.groups()? {
        let count = members(&ward, &group)?.len();
        let how = group.rule.clone().unwrap_or_else(|| "fixed".to_owned());
        rows.push(vec![group.name.to_string(), count.to_string(), group.created.date(), how]);
        items.push(json!({ "name": group.name, "devices": count, "rule": group.rule, "created": group.created }));
    }
    context.console.list(Listing {
        schema: "tidy-warden/groups/1",
        key: "groups",
        items,
        columns: ["name", "count", "created", "rule"].map(str::to_owned).to_vec(),
        rows,
        empty: "no groups; make one: group make NAME --where CONDITION",
    })?;
    Ok(Exit::Done)
}

fn show(context: &Context<'_>, name: &str) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let group = group(&ward, name)?;
    let mut ids: Vec<DeviceId> = members(&ward, &group)?.into_iter().map(|device| device.id).collect();
    ids.sort();
    let how = group.rule.clone().unwrap_or_else(|| "fixed".to_owned());
    let mut text =
        format!("group    {}\nrule     {how}\ncreated  {}\ndevices  {}\n", group.name, group.created, ids.len());
    ids.iter().take(20).for_each(|id| text.push_str(&format!("         {id}\n")));
    if ids.len() > 20 {
        text.push_str(&format!("         and {} more: device list --where 'group = {}'\n", ids.len() - 20, group.name));
    }
    let value = json!({ "name": group.name, "rule": group.rule, "created": group.created, "devices": ids });
    context.console.show("tidy-warden/group/1", value, &text)?;
    Ok(Exit::Done)
}

fn drop_group(context: &Context<'_>, name: &str, yes: bool, because: Option<&str>) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let group = group(&ward, name)?;
    // Without the rules the names of groups stand as they were written.
    if let Some(record) = ward.store.edition(None)?
        && let Ok(edition) = Edition::read(record.number, &record.files, &Groups::new())
    {
        for policy in &edition.policies {
            let mut named = false;
            policy.subjects.each_group(&mut |found| named |= *found == group.name);
            if named {
                return Err(Problem::refused(format!("the group `{}` was not dropped", group.name))
                    .because(format!("policy `{}` of edition {} is for it", policy.name, record.number))
                    .next("adopt policies that do not name it first"));
            }
        }
    }
    context.console.confirm(&format!("Drop the group {}?", group.name), yes)?;
    let cause = ward.cause(because);
    ward.store.drop_group(&group.name, &cause)?;
    let value = json!({ "group": group.name });
    context.console.did("tidy-warden/group-drop/1", value, format!("dropped the group {}", group.name))?;
    Ok(Exit::Done)
}
