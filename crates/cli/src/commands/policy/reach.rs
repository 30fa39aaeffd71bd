//! `policy reach` and `policy compare`: questions about the whole fleet.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use serde_json::{Value, json};
use tidy_warden_core::policy::{self, Edition, Introduce, Reach, ReachedBy};
use tidy_warden_core::topic::{Level, TopicFilter, split_share};

use super::Context;
use crate::args::{CompareArgs, ReachArgs};
use crate::commands::changes::{compared, comparison_json, comparison_text, who};
use crate::console::counted;
use crate::problem::{Exit, Problem};
use crate::ward::{Ward, policy_files};

pub(super) fn reach(context: &Context<'_>, args: &ReachArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let (share, filter) = split_share(&args.filter)
        .map_err(|error| Problem::refused(format!("`{}` is not asked about", args.filter)).because(error))?;
    if share.is_some() {
        context
            .console
            .note(format!("who receives `{filter}` is told, whether alone or as one of several that share it"));
    }
    let braces = |level: &Level| matches!(level, Level::Is(text) if text.contains(['{', '}']));
    if filter.levels().iter().any(braces) {
        return Err(Problem::refused(format!("`{filter}` is not asked about"))
            .because("variables have no value here")
            .next("put `+` in their place, or a value"));
    }
    let (edition, by) = if args.draft {
        (ward.draft()?, "the draft in policies/".to_owned())
    } else {
        let edition = ward.edition()?.ok_or_else(|| {
            Problem::not_found("no policy edition is adopted, so nobody may do anything")
                .next("policy adopt, or --draft")
        })?;
        let by = format!("edition {}", edition.number);
        (edition, by)
    };
    let mut fleet = policy::fleet_for(&edition, &filter);
    let barred = ward.fill_able(&mut fleet)?;
    let found = policy::reach(&fleet, &ward.settings, &filter);
    let (brought_in, is_whole) = brought_in(&ward, &edition, &filter)?;
    let value = json!({
        "filter": args.filter, "edition": edition.number, "draft": args.draft, "devices": found.devices, "barred": barred,
        "publishers": found.publishers, "publish": rules_json(&found.publish),
        "receivers": found.receivers, "subscribe": rules_json(&found.subscribe),
        "brought_in": brought_in.iter().map(BroughtIn::json).collect::<Vec<_>>(), "all_gateways": is_whole,
    });
    let mut shown = text(&args.filter, &by, &found, barred);
    brought_in.iter().for_each(|each| shown.push_str(&each.text(is_whole)));
    context.console.show("tidy-warden/reach/1", value, &shown)?;
    Ok(Exit::Done)
}

/// How many gateways are looked at for children that they could bring in.
const GATEWAYS: usize = 10_000;

/// Children that nobody has listed yet, and that could publish once they are brought in.
struct BroughtIn {
    by: Introduce,
    /// How many gateways could bring them in.
    gateways: u64,
    /// One of them, and the topics of such a child's message.
    sample: (String, String),
}

impl BroughtIn {
    fn json(&self) -> Value {
        let at = &self.by.at;
        json!({
            "policy": at.policy, "file": at.place.file, "line": at.place.line, "text": self.by.to_string(), "kind": self.by.kind,
            "most": self.by.most, "gateways": self.gateways, "sample": { "gateway": self.sample.0, "topics": self.sample.1 },
        })
    }

    fn text(&self, is_whole: bool) -> String {
        let least = if is_whole { "" } else { "at least " };
        let gateways = counted(usize::try_from(self.gateways).unwrap_or(usize::MAX), "device");
        format!(
            "\n{:<10}children that {least}{gateways} may still bring in, by {}\n          {}\n  such as {} for any of its own on {}\n",
            "publish", self.by.at, self.by, self.sample.0, self.sample.1
        )
    }
}

/// Who could publish into a filter once a gateway has brought it in; and whether all gateways were looked at.
fn brought_in(ward: &Ward, edition: &Edition, filter: &TopicFilter) -> Result<(Vec<BroughtIn>, bool), Problem> {
    let mut found: BTreeMap<(String, usize), BroughtIn> = BTreeMap::new();
    let (mut seen, mut is_whole) = (BTreeSet::new(), true);
    for policy in edition.policies.iter().filter(|policy| !policy.introduces.is_empty()) {
        ward.store.each_device_by_id(Some(&policy.subjects), ward.now(), &mut |view| {
            let device = &view.device;
            if device.barred().is_some() || !seen.insert(device.id.clone()) {
                return true;
            }
            let rights = edition.rights_with(device, [], &ward.settings);
            let mut told = BTreeSet::new();
            for (by, topics) in rights.introduces_into(filter) {
                if !told.insert(by.at.place.line) {
                    continue;
                }
                let key = (by.at.place.file.to_string(), by.at.place.line);
                let sample = || (device.id.to_string(), topics.to_string());
                let entry =
                    found.entry(key).or_insert_with(|| BroughtIn { by: by.clone(), gateways: 0, sample: sample() });
                entry.gateways += 1;
            }
            is_whole &= seen.len() < GATEWAYS;
            is_whole
        })?;
    }
    Ok((found.into_values().collect(), is_whole))
}

fn rules_json(all: &[ReachedBy]) -> Value {
    all.iter()
        .map(|by| {
            let at = &by.rule.at;
            json!({
                "policy": at.policy, "file": at.place.file, "line": at.place.line, "column": at.place.column, "text": by.rule.to_string(),
                "for_children": by.rule.for_children, "devices": by.count, "topics": by.topics, "samples": by.samples,
            })
        })
        .collect()
}

fn text(filter: &str, by: &str, found: &Reach, barred: u64) -> String {
    let all = counted(usize::try_from(found.devices).unwrap_or(usize::MAX), "device");
    let mut text =
        format!("{filter} by {by}: of {all}, {} may publish and {} may receive\n", found.publishers, found.receivers);
    if barred > 0 {
        let what = if barred == 1 { "other device is" } else { "other devices are" };
        text.push_str(&format!("{barred} {what} out or on hold, and may do nothing now\n"));
    }
    for (word, rules) in [("publish", &found.publish), ("receive", &found.subscribe)] {
        for by in rules {
            let who = who(by.count, by.rule.for_children);
            text.push_str(&format!("\n{word:<10}{who} by {}\n          {}\n", by.rule.at, by.rule));
            text.push_str(&format!("  topics  {}\n", by.topics.join(", ")));
            for (at, sample) in by.samples.iter().enumerate() {
                let head = if at == 0 { "  such as" } else { "" };
                let child = sample.child.as_ref().map_or_else(String::new, |child| format!(" for {child}"));
                text.push_str(&format!("{head:<10}{}{child} on {}\n", sample.device, sample.topic));
            }
        }
    }
    text
}

/// An edition as people name it, and what to call it.
fn named(ward: &Ward, name: &str) -> Result<(Edition, String), Problem> {
    if let Ok(number) = name.parse::<u32>() {
        let record = ward.edition_record(number)?;
        return Ok((ward.read(number, &record.files)?, format!("edition {number}")));
    }
    match name {
        "none" => Ok((Edition::default(), "no edition".to_owned())),
        "draft" => Ok((ward.draft()?, "the draft".to_owned())),
        folder => {
            let path = Path::new(folder);
            if !path.is_dir() {
                return Err(Problem::not_found(format!("`{folder}` is neither an edition nor a folder"))
                    .next("give a number that policy editions lists, `draft`, `none`, or a folder"));
            }
            Ok((ward.read(0, &policy_files(path, folder)?)?, folder.to_owned()))
        }
    }
}

pub(super) fn compare(context: &Context<'_>, args: &CompareArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let (old, from) = named(&ward, &args.old)?;
    let (new, to) = named(&ward, &args.new)?;
    let comparison = compared(&ward, &old, &new)?;
    let mut value = json!({ "old": args.old, "new": args.new });
    if let (Some(value), Value::Object(fields)) = (value.as_object_mut(), comparison_json(&comparison)) {
        value.extend(fields);
    }
    context.console.show("tidy-warden/policy-comparison/1", value, &comparison_text(&from, &to, &comparison))?;
    Ok(Exit::Done)
}
