//! `due`: what ends or falls due, what of it renews by itself, and what needs a person.

mod chart;
mod figure;

use std::collections::BTreeMap;

use serde_json::{Value, json};
use tidy_warden_core::due::{By, Forecast, Group, Happens, Item, Summary, What, Why};
use tidy_warden_core::id::LabelName;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_ward::due::each;

use super::Context;
use crate::args::DueArgs;
use crate::console::{DataForm, counted};
use crate::edge::parse;
use crate::problem::{Exit, Problem};
use crate::stream::{Stream, TableStream};

/// The most lines that people are shown of what needs them, if they do not ask for all.
const SHOWN: usize = 25;

/// How many that are alike are named, and not counted.
const NAMED: usize = 3;

/// The most ways out that are told.
const MOST_WAYS: usize = 8;

/// Many that renew by themselves, for the same reason.
struct Alike {
    count: u64,
    /// The one that ends first.
    first: Item,
    /// What some are called.
    names: Vec<String>,
}

/// What was asked, and found.
struct Found {
    now: UnixTime,
    until: UnixTime,
    /// In the order of their ends; only those that are listed.
    items: Vec<Item>,
    /// What is not listed one by one: by what it is, the kind of its devices, and why it renews by itself.
    grouped: BTreeMap<(What, String, &'static str), Alike>,
    summary: Summary,
    forecast: Forecast,
    /// What the days would bring if renewals were spread.
    spread: Option<Vec<u64>>,
}

pub(crate) fn run(context: &Context<'_>, args: &DueArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let plot = args.plot.as_deref().map(figure::Form::of).transpose()?;
    let by = args.by.as_deref().map(by).transpose()?;
    let ward = context.ward()?;
    let now = ward.now();
    let until = now.plus(parse::<Span>(&args.within)?);
    let found = gather(&ward, (now, until), by.as_ref(), args, console.is_for_people())?;
    if let (Some(path), Some(form)) = (&args.plot, plot) {
        figure::write(&found, &ward.settings.name, path, form)?;
    }
    match (console.form(), &args.by) {
        (Some(form), None) => list(context, &found, form)?,
        (Some(form), Some(word)) => groups(context, &found, form, word)?,
        (None, word) => show(context, &found, word.as_deref(), args.all)?,
    }
    if let Some(path) = &args.plot {
        console.note(format!("drew {}", path.display()));
    }
    judge(context, &found, args.max_days)
}

/// What is counted together.
fn by(word: &str) -> Result<By, Problem> {
    Ok(match word {
        "day" => By::Day,
        "week" => By::Week,
        "what" => By::What,
        "kind" => By::Kind,
        "authority" => By::Authority,
        label => By::Label(label.parse::<LabelName>().map_err(|_| {
            Problem::usage(format!("{label:?} is nothing to count by"))
                .next("--by day, week, what, kind, authority, or a label such as site")
        })?),
    })
}

/// Reads all of it. For people only what is shown is kept.
fn gather(
    ward: &crate::ward::Ward,
    (now, until): (UnixTime, UnixTime),
    by: Option<&By>,
    args: &DueArgs,
    people: bool,
) -> Result<Found, Problem> {
    let label = if let Some(By::Label(name)) = by { Some(name.clone()) } else { None };
    if let Some(name) = &label
        && !ward.store.field_names()?.labels.contains(name)
    {
        return Err(Problem::not_found(format!("no device has a label `{name}`"))
            .next("--by day, week, what, kind, authority, or a label that device list shows"));
    }
    let mut summary = Summary::new(by.cloned().unwrap_or(By::What), now, until);
    let (mut items, mut grouped) = (Vec::new(), BTreeMap::new());
    let lists_all = !people || args.all;
    let mut take = |item: Item| {
        summary.add(&item);
        // Groups are counted, whatever is in them.
        if by.is_some() {
            return;
        }
        if lists_all || item.happens() == Happens::Person {
            items.push(item);
        } else {
            let kind = item.kind.as_ref().map(ToString::to_string).unwrap_or_default();
            let alike = grouped.entry((item.what, kind, said(item.why))).or_insert_with(|| Alike {
                count: 0,
                first: item.clone(),
                names: Vec::new(),
            });
            alike.count += 1;
            if alike.names.len() < NAMED {
                alike.names.push(item.name.clone());
            }
            if item.ends < alike.first.ends {
                alike.first = item;
            }
        }
    };
    // One snapshot: a renewal between two questions would be told twice, or not at all.
    let forecast = ward.store.view(|view| each(view, &ward.settings, (now, until), label.as_ref(), &mut take))?;
    items.sort_by(|one, other| {
        (one.ends, one.what, &one.name, &one.kid).cmp(&(other.ends, other.what, &other.name, &other.kid))
    });
    let spread = args.spread.then(|| forecast.spread());
    Ok(Found { now, until, items, grouped, summary, forecast, spread })
}

/// Why many renew by themselves, without the day of each.
fn said(why: Why) -> &'static str {
    match why {
        Why::Renews { .. } => "each device renews its own",
        Why::DeskSigns => "the desk signs the next one in time",
        Why::DeskRenews { .. } => "the desk renews it",
        _ => "another signs in its place",
    }
}

/// Exit 3 if something that needs a person ends within so many days.
fn judge(context: &Context<'_>, found: &Found, most: Option<u16>) -> Result<Exit, Problem> {
    let Some(most) = most else { return Ok(Exit::Done) };
    let edge = found.now.plus(Span::from_days(most.into()));
    let urgent = match found.summary.all.needs_you {
        0 => false,
        // With groups no item is kept, and what the groups have is enough: the first end of each.
        _ => found.summary.first_needs_you.is_some_and(|first| first <= edge),
    };
    if urgent {
        context.console.note(format!("something that needs you ends within {}", counted(most.into(), "day")));
        return Ok(Exit::Refused);
    }
    Ok(Exit::Done)
}

fn value(item: &Item, now: UnixTime) -> Value {
    json!({
        "what": item.what.as_str(), "name": item.name, "kid": item.kid, "ends": item.ends, "days": item.days(now),
        "happens": item.happens().as_str(), "why": item.why.to_string(), "next": item.next(),
        "kind": item.kind, "authority": item.authority,
    })
}

fn strings<const N: usize>(words: [&str; N]) -> Vec<String> {
    words.map(str::to_owned).to_vec()
}

/// The forecast as JSON has it.
fn forecast(found: &Found) -> Value {
    let forecast = &found.forecast;
    let days: Vec<Value> = forecast
        .days()
        .iter()
        .enumerate()
        .map(|(place, renewals)| {
            let mut one = json!({ "date": forecast.begins(place).date(), "renewals": renewals });
            if let Some(spread) = &found.spread {
                one["spread"] = json!(spread.get(place));
            }
            one
        })
        .collect();
    let (at, most) = forecast.peak();
    let mut value = json!({ "renewals": forecast.total(), "peak": { "date": at.date(), "renewals": most } });
    if let Some(spread) = &found.spread {
        let (at, most) = forecast.fullest(spread);
        value["spread_peak"] = json!({ "date": at.date(), "renewals": most });
    }
    value["days"] = json!(days);
    value
}

fn head(found: &Found) -> [(&'static str, Value); 6] {
    let Group { by_itself, needs_you, .. } = found.summary.all;
    [
        ("now", json!(found.now)),
        ("until", json!(found.until)),
        ("renews_by_itself", json!(by_itself)),
        ("needs_you", json!(needs_you)),
        ("over", json!(found.summary.over)),
        ("forecast", forecast(found)),
    ]
}

/// Everything that is due, for programs.
fn list(context: &Context<'_>, found: &Found, form: DataForm) -> Result<(), Problem> {
    let columns = strings(["what", "name", "kid", "ends", "days", "happens", "why", "next", "kind", "authority"]);
    let mut out = Stream::with(context.console, form, ("tidy-warden/due/1", &head(found), "due"), &columns)?;
    for item in &found.items {
        let text = |name: &Option<String>| name.clone().unwrap_or_default();
        let row = || {
            vec![
                item.what.as_str().to_owned(),
                item.name.clone(),
                text(&item.kid),
                item.ends.to_string(),
                item.days(found.now).to_string(),
                item.happens().as_str().to_owned(),
                item.why.to_string(),
                text(&item.next()),
                item.kind.as_ref().map(ToString::to_string).unwrap_or_default(),
                item.authority.as_ref().map(ToString::to_string).unwrap_or_default(),
            ]
        };
        out.add(|| value(item, found.now), row)?;
    }
    out.end()
}

/// Groups, for programs.
fn groups(context: &Context<'_>, found: &Found, form: DataForm, word: &str) -> Result<(), Problem> {
    let columns = strings([word, "needs_you", "renews_by_itself", "first", "last"]);
    let mut head = head(found).to_vec();
    head.push(("by", json!(word)));
    let mut out = Stream::with(context.console, form, ("tidy-warden/due-groups/1", &head, "groups"), &columns)?;
    for (name, group) in &found.summary.groups {
        let Group { by_itself, needs_you, first, last } = group;
        let item = json!({
            "group": name, "needs_you": needs_you, "renews_by_itself": by_itself, "first": first, "last": last,
        });
        let row = vec![name.clone(), needs_you.to_string(), by_itself.to_string(), first.to_string(), last.to_string()];
        out.add(|| item, || row)?;
    }
    out.end()
}

/// For people: what needs them, what does not, when it ends, and how many renewals come.
fn show(context: &Context<'_>, found: &Found, word: Option<&str>, all: bool) -> Result<(), Problem> {
    let console = context.console;
    let Group { by_itself, needs_you, .. } = found.summary.all;
    if by_itself + needs_you == 0 {
        console.write(&format!("nothing ends or falls due until {}\n", found.until.date()))?;
    } else if let Some(word) = word {
        let mut table = TableStream::new(console, &strings([word, "needs you", "by itself", "first end", "last end"]));
        for (name, group) in &found.summary.groups {
            let name = if name.is_empty() { "-" } else { name };
            let cells = [
                name.to_owned(),
                group.needs_you.to_string(),
                group.by_itself.to_string(),
                group.first.date(),
                group.last.date(),
            ];
            table.add(&cells)?;
        }
        table.end("")?;
    } else {
        items(context, found, all)?;
    }
    if by_itself + needs_you > 0 {
        console.write(&format!("\n{}", chart::ends(found)))?;
    }
    console.write(&format!("\n{}", chart::renewals(found)))
}

fn items(context: &Context<'_>, found: &Found, all: bool) -> Result<(), Problem> {
    let console = context.console;
    let mut table = TableStream::new(console, &strings(["what", "name", "ends", "days", "happens", "why"]));
    let shown = if all { found.items.len() } else { SHOWN };
    for item in found.items.iter().take(shown) {
        let name = match &item.kid {
            Some(kid) => format!("{} {kid}", item.name),
            None => item.name.clone(),
        };
        let cells = [
            item.what.as_str().to_owned(),
            name,
            item.ends.date(),
            item.days(found.now).to_string(),
            item.happens().as_str().to_owned(),
            item.why.to_string(),
        ];
        table.add(&cells)?;
    }
    for ((what, kind, why), Alike { count, first, names }) in &found.grouped {
        let (name, why) = match count {
            1 => (first.name.clone(), first.why.to_string()),
            _ if u64::try_from(names.len()) == Ok(*count) => (names.join(", "), (*why).to_owned()),
            _ if kind.is_empty() => (count.to_string(), (*why).to_owned()),
            _ => (format!("{count} of {kind}"), (*why).to_owned()),
        };
        let days = first.days(found.now).to_string();
        let happens = Happens::Itself.as_str().to_owned();
        table.add(&[what.as_str().to_owned(), name, first.ends.date(), days, happens, why])?;
    }
    table.end("")?;
    if let Some(more) = found.items.len().checked_sub(shown).filter(|more| *more > 0) {
        console.note(format!("and {more} more that need you: --all, --by kind, or --format jsonl"));
    }
    // One way out for each sort of need, as an example.
    let mut told: Vec<(What, std::mem::Discriminant<Why>)> = Vec::new();
    for item in &found.items {
        let sort = (item.what, std::mem::discriminant(&item.why));
        if told.len() < MOST_WAYS
            && !told.contains(&sort)
            && let Some(next) = item.next()
        {
            told.push(sort);
            console.note(format!("try: {next}"));
        }
    }
    Ok(())
}
