//! `reflex`: what the ward does by itself.

use serde_json::{Value, json};
use tidy_warden_core::reflex::Reflex;
use tidy_warden_core::time::UnixTime;
use tidy_warden_ward::reflex::{self, WouldHit};

use super::Context;
use crate::args::{NamedReflexArgs, ReflexCommand};
use crate::console::{Listing, counted};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

pub(crate) fn run(context: &Context<'_>, command: &ReflexCommand) -> Result<Exit, Problem> {
    match command {
        ReflexCommand::List => list(context),
        ReflexCommand::Test { reflex } => test(context, reflex.as_deref()),
        ReflexCommand::Undo(args) => undo(context, args),
        ReflexCommand::Resume(args) => resume(context, args),
    }
}

/// A reflex of the settings by its name.
fn named<'w>(ward: &'w Ward, name: &str) -> Result<&'w Reflex, Problem> {
    let found = ward.settings.reflexes.iter().find(|(known, _)| known.as_str() == name);
    found.map(|(_, reflex)| reflex).ok_or_else(|| {
        Problem::not_found(format!("there is no reflex `{name}`")).next("reflex list shows those of ward.toml")
    })
}

fn describe(name: &str, reflex: &Reflex) -> Value {
    json!({
        "reflex": name, "when": reflex.when.to_string(), "where": reflex.condition.as_ref().map(ToString::to_string),
        "then": reflex.then.as_str(), "at_most": reflex.at_most.to_string(),
    })
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let now = ward.now();
    let (mut items, mut rows) = (Vec::new(), Vec::new());
    for (name, reflex) in &ward.settings.reflexes {
        let name = name.as_str();
        let (standing, last) = ward
            .store
            .view(|view| Ok((reflex::standing(view, name, reflex, now)?, view.hits(Some(name), i64::MAX, 1)?.pop())))?;
        let (progress, acted) = standing;
        let state = match &progress {
            None => "new",
            Some(progress) if progress.stopped.is_some() => "stopped",
            Some(_) => "on",
        };
        let progress = progress.unwrap_or_default();
        let mut item = describe(name, reflex);
        item["state"] = json!(state);
        item["acted"] = json!(acted);
        item["stopped"] = json!(progress.stopped.as_ref().map(|(at, _)| at));
        item["because"] = json!(progress.stopped.as_ref().map(|(_, why)| why));
        item["last"] = json!(last.as_ref().map(|hit| json!({
            "device": hit.device, "at": hit.at, "act": hit.act, "evidence": hit.evidence, "undone": hit.undone,
        })));
        items.push(item);
        rows.push(vec![
            name.to_owned(),
            state.to_owned(),
            reflex.when.to_string(),
            reflex.condition.as_ref().map_or_else(|| "-".to_owned(), ToString::to_string),
            reflex.then.as_str().to_owned(),
            format!("{acted} of {}", reflex.at_most),
            last.map_or_else(|| "-".to_owned(), |hit| format!("{} at {}", hit.device, hit.at)),
        ]);
    }
    context.console.list(Listing {
        schema: "tidy-warden/reflexes/1",
        key: "reflexes",
        items,
        columns: ["reflex", "state", "when", "where", "then", "acted", "last"].map(str::to_owned).to_vec(),
        rows,
        empty: "no reflexes: [reflexes.NAME] in ward.toml makes one",
    })?;
    Ok(Exit::Done)
}

fn test(context: &Context<'_>, only: Option<&str>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    if let Some(name) = only {
        named(&ward, name)?;
    }
    let now = ward.now();
    let (mut items, mut rows) = (Vec::new(), Vec::new());
    let mut put = |name: &str, reflex: &Reflex, hit: WouldHit| {
        let WouldHit { device, at, times, evidence } = hit;
        items.push(json!({
            "reflex": name, "then": reflex.then.as_str(), "device": device, "at": at, "times": times, "evidence": evidence,
        }));
        rows.push(vec![
            name.to_owned(),
            reflex.then.as_str().to_owned(),
            device.to_string(),
            moment(at, now),
            times.to_string(),
            evidence,
        ]);
    };
    let wanted = ward.settings.reflexes.iter().filter(|(name, _)| only.is_none_or(|only| name.as_str() == only));
    for (name, reflex) in wanted {
        for hit in reflex::test(&*ward.store, reflex, now)? {
            put(name.as_str(), reflex, hit);
        }
    }
    context.console.list(Listing {
        schema: "tidy-warden/reflex-test/1",
        key: "hits",
        items,
        columns: ["reflex", "then", "device", "first", "times", "evidence"].map(str::to_owned).to_vec(),
        rows,
        empty: "no reflex of ward.toml would have acted on anybody within the last 30 days",
    })?;
    Ok(Exit::Done)
}

fn moment(at: UnixTime, now: UnixTime) -> String {
    if at == now { "now".to_owned() } else { at.to_string() }
}

fn undo(context: &Context<'_>, args: &NamedReflexArgs) -> Result<Exit, Problem> {
    let name = &args.reflex;
    let mut ward = context.ward()?;
    let hits = ward.store.hits(Some(name), i64::MAX, 1)?;
    if hits.is_empty() {
        named(&ward, name)?;
    }
    context.console.confirm(&format!("Lift the holds that `{name}` made?"), args.yes)?;
    let cause = ward.cause(args.because.text());
    let released = reflex::undo(&mut ward.store, name, &cause)?;
    let note = format!("released {}", counted(released.len(), "device"));
    context.console.did("tidy-warden/reflex-undone/1", json!({ "reflex": name, "released": released }), note)?;
    Ok(Exit::Done)
}

fn resume(context: &Context<'_>, args: &NamedReflexArgs) -> Result<Exit, Problem> {
    let name = &args.reflex;
    let mut ward = context.ward()?;
    named(&ward, name)?;
    context.console.confirm(&format!("Have `{name}` go on?"), args.yes)?;
    let cause = ward.cause(args.because.text());
    match reflex::resume(&mut ward.store, name, &cause)? {
        true => {
            let said = json!({ "reflex": name, "state": "on" });
            context.console.did("tidy-warden/reflex-said/1", said, format!("`{name}` goes on"))?;
            Ok(Exit::Done)
        }
        false => Err(Problem::refused(format!("the reflex `{name}` has not stopped")).next("reflex list")),
    }
}
