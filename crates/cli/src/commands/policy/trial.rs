//! `policy trial`: what policies on trial would decide otherwise.

use std::collections::BTreeMap;

use serde_json::json;
use tidy_warden_store::TrialDifference;

use super::Context;
use crate::args::TrialArgs;
use crate::console::counted;
use crate::problem::{Exit, Problem};

/// How many devices are shown for each rule.
const SHOWN: usize = 5;

pub(super) fn trial(context: &Context<'_>, args: &TrialArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let trial = ward.store.trial()?.ok_or_else(|| {
        Problem::not_found("no trial is running").next("begin one from the folder: policy adopt --trial 7d")
    })?;
    if args.end {
        let cause = ward.cause(args.because.text());
        ward.store.end_trial(&cause)?;
        context.console.note(format!("trial {} is ended", trial.number));
        return Ok(Exit::Done);
    }
    let differences = ward.store.trial_differences(trial.number)?;
    let over = trial.until < ward.now();
    let mut by_rule: BTreeMap<(bool, &str, &str), Vec<&TrialDifference>> = BTreeMap::new();
    for each in &differences {
        by_rule.entry((each.would_allow, &each.rule, &each.act)).or_default().push(each);
    }
    let mut text = format!(
        "trial {}, begun {} by {}, {} {}\n",
        trial.number,
        trial.at,
        trial.author,
        if over { "over since" } else { "until" },
        trial.until
    );
    for ((would_allow, rule, act), devices) in &by_rule {
        let word = if *would_allow { "would allow" } else { "would deny" };
        let by = match (rule.is_empty(), would_allow) {
            (false, _) => format!("by {rule}"),
            (true, true) => "by its rules together".to_owned(),
            (true, false) => "as no rule of it allows that".to_owned(),
        };
        text.push_str(&format!("\n{word} {act} {by}: {}\n", counted(devices.len(), "device")));
        for each in devices.iter().take(SHOWN) {
            let times = if each.count == 1 { "once".to_owned() } else { format!("{} times", each.count) };
            text.push_str(&format!("  {} {times}, last {} on {}\n", each.device, each.last, each.sample));
        }
        if devices.len() > SHOWN {
            text.push_str(&format!("  and {} more\n", counted(devices.len() - SHOWN, "device")));
        }
    }
    if differences.is_empty() {
        text.push_str("nothing that was seen since would be decided otherwise\n");
    }
    let items: Vec<_> = differences
        .iter()
        .map(|each| {
            json!({
                "device": each.device, "act": each.act, "would_allow": each.would_allow, "rule": each.rule,
                "sample": each.sample, "count": each.count, "first": each.first, "last": each.last,
            })
        })
        .collect();
    let value = json!({
        "trial": trial.number, "begun": trial.at, "until": trial.until, "over": over, "author": trial.author,
        "because": trial.because, "differences": items,
    });
    context.console.show("tidy-warden/trial/1", value, &text)?;
    Ok(Exit::Done)
}
