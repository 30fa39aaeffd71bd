//! `policy draft` and `policy format`: policy texts made and laid out.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use serde::Deserialize;
use serde_json::json;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::policy::{self, Act, Household, Observed, layout};
use tidy_warden_core::text::Source;

use super::Context;
use crate::args::{DraftArgs, FormatArgs};
use crate::console::counted;
use crate::files;
use crate::problem::{Exit, Problem};
use crate::ward::{MAX_TEXT, POLICIES, Ward};

/// The longest log that is read, in octets.
const MAX_LOG: u64 = 1024 * 1024 * 1024;

/// How many refused acts are shown.
const SHOWN: usize = 20;

/// A line of the log. What a rule does not look at may be there and is passed over.
#[derive(Deserialize)]
struct Line<'a> {
    #[serde(borrow)]
    device: std::borrow::Cow<'a, str>,
    #[serde(borrow)]
    act: std::borrow::Cow<'a, str>,
    /// Logs of others may call it the topic.
    #[serde(alias = "topic")]
    subject: String,
    #[serde(default)]
    qos: u8,
    #[serde(default)]
    retain: bool,
    #[serde(default)]
    size: usize,
    #[serde(default = "yes")]
    allowed: bool,
}

fn yes() -> bool {
    true
}

/// What was observed: acts that were allowed, and acts that were refused.
#[derive(Default)]
struct Seen {
    allowed: BTreeSet<Observed>,
    refused: BTreeSet<Observed>,
}

fn observed(text: &str, name: &Path) -> Result<Seen, Problem> {
    let mut all = Seen::default();
    for (number, line) in (1..).zip(text.lines()).filter(|(_, line)| !line.trim().is_empty()) {
        let refused = |why: String| {
            Problem::refused(format!("line {number} of {} is not an observed act", name.display()))
                .because(why)
                .next("expected JSON with device, act and subject, as guard --observe writes them")
        };
        let line: Line<'_> = serde_json::from_str(line).map_err(|error| refused(error.to_string()))?;
        let device: DeviceId =
            line.device.parse().map_err(|error: tidy_warden_core::id::BadName| refused(error.to_string()))?;
        let act = Act::ALL.into_iter().find(|act| act.as_str() == line.act);
        let act = act.ok_or_else(|| refused(format!("`{}` is not an act", line.act)))?;
        if line.qos > 2 {
            return Err(refused(format!("qos {} is above 2", line.qos)));
        }
        let side = if line.allowed { &mut all.allowed } else { &mut all.refused };
        side.insert(Observed {
            device,
            act,
            subject: line.subject,
            qos: line.qos,
            retain: line.retain,
            size: line.size,
        });
    }
    Ok(all)
}

/// The devices that acts name, with their children.
fn listed(ward: &Ward, observed: &BTreeSet<Observed>) -> Result<BTreeMap<DeviceId, Household>, Problem> {
    let mut ids: BTreeSet<DeviceId> = BTreeSet::new();
    for act in observed {
        ids.insert(act.device.clone());
        ids.extend(act.subject.split('/').filter_map(|level| level.parse().ok()));
    }
    let ids: Vec<DeviceId> = ids.into_iter().collect();
    let mut all = BTreeMap::new();
    for (id, found) in ids.iter().zip(ward.store.devices(&ids)?) {
        if let Some(view) = found {
            all.insert(id.clone(), Household { device: view.device, children: ward.store.children(id)? });
        }
    }
    Ok(all)
}

pub(super) fn draft(context: &Context<'_>, args: &DraftArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let text = files::read_text_or_input(&args.from, MAX_LOG)?;
    let observed = observed(&text, &args.from)?;
    if observed.allowed.is_empty() && observed.refused.is_empty() {
        return Err(Problem::refused(format!("{} holds no observed act", args.from.display()))
            .next("let devices work for a while with: guard --observe FILE"));
    }
    let mut draft = policy::draft(&observed.allowed, &listed(&ward, &observed.allowed)?, &ward.settings);
    // What was refused may be what an attacker tried: it is shown, and proposes nothing until a person says so.
    let refused: BTreeSet<Observed> = observed.refused.difference(&observed.allowed).cloned().collect();
    let tried = policy::draft(&refused, &listed(&ward, &refused)?, &ward.settings);
    if !refused.is_empty() {
        draft.text.push_str(
            "\n# What follows was refused when it was tried. Take the `# ` off only what devices really need.\n#\n",
        );
        for line in tried.text.lines() {
            draft.text.push_str(format!("# {line}").trim_end());
            draft.text.push('\n');
        }
    }
    draft.outliers.extend(tried.outliers);
    let outliers: Vec<_> = draft
        .outliers
        .iter()
        .map(|outlier| {
            let act = &outlier.observed;
            json!({
                "device": act.device, "act": act.act.as_str(), "subject": act.subject, "qos": act.qos,
                "because": outlier.why,
            })
        })
        .collect();
    let value = json!({ "acts": draft.acts, "refused_acts": refused.len(), "devices": draft.devices, "text": draft.text, "refused": outliers });
    context.console.show("tidy-warden/policy-draft/1", value, &draft.text)?;
    let mut seen = format!("{} of {}", counted(draft.acts, "different act"), counted(draft.devices, "device"));
    if !refused.is_empty() {
        seen.push_str(&format!("; {} stand below it as comments", counted(refused.len(), "refused act")));
    }
    if draft.outliers.is_empty() {
        context.console.note(format!("made from {seen}; it refuses none of them"));
    } else {
        context.console.note(format!("made from {seen}; it refuses {}:", draft.outliers.len()));
        for outlier in draft.outliers.iter().take(SHOWN) {
            let act = &outlier.observed;
            context.console.note(format!("  {} {} {}: {}", act.device, act.act.as_str(), act.subject, outlier.why));
        }
        if draft.outliers.len() > SHOWN {
            context.console.note(format!("  and {} more; --format json lists them", draft.outliers.len() - SHOWN));
        }
    }
    Ok(Exit::Done)
}

pub(super) fn format(context: &Context<'_>, args: &FormatArgs) -> Result<Exit, Problem> {
    let paths: Vec<PathBuf> = if args.files.is_empty() {
        let dir = context.ward()?.dir.join(POLICIES);
        crate::ward::policy_paths(&dir)?
    } else {
        args.files.clone()
    };
    let mut laid = Vec::new();
    let mut errors = Vec::new();
    for path in paths {
        let text = files::read_text(&path, MAX_TEXT)?;
        match layout(&Source::new(&path.display().to_string(), &text)) {
            Ok(new) => laid.push((path, new != text, new)),
            Err(found) => errors.extend(found),
        }
    }
    if !errors.is_empty() {
        // Nothing is written while any of the files cannot be read, so that the folder stays of one piece.
        return Err(Problem::text("the policies have mistakes", &errors));
    }
    let mut text = String::new();
    let mut changed = Vec::new();
    for (path, _, new) in laid.iter().filter(|(_, other, _)| *other) {
        if !args.check {
            files::replace(path, new.as_bytes()).map_err(|error| Problem::file("write", path, &error))?;
        }
        let word = if args.check { "has another layout" } else { "laid out" };
        text.push_str(&format!("{}: {word}\n", path.display()));
        changed.push(path.display().to_string());
    }
    if changed.is_empty() {
        context.console.note(format!("{}: nothing to change", counted(laid.len(), "file")));
    }
    let value = json!({ "files": laid.len(), "changed": changed, "written": !args.check });
    context.console.show("tidy-warden/policy-format/1", value, &text)?;
    Ok(if args.check && !changed.is_empty() { Exit::Refused } else { Exit::Done })
}
