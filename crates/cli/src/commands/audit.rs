//! `audit`: the append-only record of every change.

mod head;
mod states;

pub(super) use states::differing;

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::{Value, json};
use tidy_warden_core::audit::{Entry, Hash, Replay, Tree, Verifier};
use tidy_warden_store::View;

use super::Context;
use crate::args::AuditCommand;
use crate::console::{Listing, counted};
use crate::problem::{Exit, Problem};

/// How many breaks are told one by one.
const TOLD: usize = 20;

pub(crate) fn run(context: &Context<'_>, command: &AuditCommand) -> Result<Exit, Problem> {
    match command {
        AuditCommand::Log { last, subject } => log(context, *last, subject.as_deref()),
        AuditCommand::Verify { head } => verify(context, head.as_deref()),
        AuditCommand::Head { out } => head::write(context, out),
    }
}

fn log(context: &Context<'_>, last: Option<i64>, subject: Option<&str>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let keep = last.map_or(usize::MAX, |last| usize::try_from(last).unwrap_or(0));
    let entries = match subject {
        Some(subject) => about(&*ward.store, subject, keep)?,
        None => newest(&*ward.store, keep)?,
    };
    let hex = |hash: &[u8]| data_encoding::HEXLOWER.encode(hash);
    let items = entries
        .iter()
        .map(|entry| {
            let detail: Value = serde_json::from_str(&entry.detail).unwrap_or(Value::Null);
            json!({
                "number": entry.number, "at": entry.at, "actor": entry.actor, "act": entry.act, "subject": entry.subject,
                "because": entry.because, "detail": detail, "hash": hex(&entry.hash), "previous": hex(&entry.previous),
            })
        })
        .collect();
    let rows = entries
        .iter()
        .map(|entry| {
            let number = entry.number.to_string();
            let texts = [&entry.actor, &entry.act, &entry.subject, &entry.because].map(Clone::clone);
            [vec![number, entry.at.to_string()], texts.to_vec()].concat()
        })
        .collect();
    context.console.list(Listing {
        schema: "tidy-warden/audit/1",
        key: "entries",
        items,
        columns: ["number", "at", "actor", "act", "subject", "because"].map(str::to_owned).to_vec(),
        rows,
        empty: "no entries",
    })?;
    Ok(Exit::Done)
}

/// The newest entries, but `keep` at the most, in their order.
fn newest(store: &dyn View, keep: usize) -> Result<Vec<Entry>, Problem> {
    let (last, _) = store.audit_end()?;
    let keep = i64::try_from(keep).unwrap_or(i64::MAX);
    let mut entries = Vec::new();
    store.each_entry(last.saturating_sub(keep).saturating_add(1).max(1), &mut |entry| {
        entries.push(entry);
        true
    })?;
    Ok(entries)
}

/// The newest entries about a subject, but `keep` at the most, in their order.
pub(super) fn about(store: &dyn View, subject: &str, keep: usize) -> Result<Vec<Entry>, Problem> {
    let mut entries = BTreeMap::new();
    store.each_entry_about(subject, &mut |entry| {
        if entries.len() < keep {
            entries.insert(entry.number, entry);
        }
        entries.len() < keep
    })?;
    // What was done with many devices at once is about each of them, too.
    if let Ok(device) = subject.parse() {
        for number in store.entries_of(&device)? {
            entries.extend(store.entries(number, 1)?.pop().map(|entry| (entry.number, entry)));
        }
    }
    while entries.len() > keep {
        entries.pop_first();
    }
    Ok(entries.into_values().collect())
}

/// The result of following the whole chain.
pub(crate) struct Verified {
    pub(crate) entries: i64,
    pub(crate) head: String,
    /// Where the record contradicts itself.
    pub(crate) broken: Vec<String>,
    /// What the record says that the ward's tables hold.
    pub(crate) replay: Replay,
    tree: Hash,
    /// Hash and tree of the entry that was asked about, if it is there.
    at: Option<(Hash, Hash)>,
}

/// Follows the chain from its first entry to its noted end; `mark` is an entry whose hash and tree are wanted.
pub(crate) fn follow(store: &dyn View, mark: Option<i64>) -> Result<Verified, Problem> {
    let mut verifier = Verifier::default();
    let (mut replay, mut tree) = (Replay::default(), Tree::default());
    let mut broken = Vec::new();
    let mut at = None;
    store.each_entry(i64::MIN, &mut |entry| {
        if let Err(found) = verifier.follow(&entry) {
            broken.push(found.to_string());
        }
        replay.follow(&entry);
        tree.add(&entry.hash);
        if Some(entry.number) == mark {
            at = Some((entry.hash, tree.root()));
        }
        true
    })?;
    let (number, hash) = store.audit_end()?;
    let (entries, head) = (verifier.number(), data_encoding::HEXLOWER.encode(&verifier.hash()));
    if let Err(found) = verifier.finish(number, hash) {
        broken.push(found.to_string());
    }
    let tree = tree.root();
    if store.tree()?.root() != tree {
        broken.push("the tree that is noted beside the record is not that of its entries".to_owned());
    }
    Ok(Verified { entries, head, broken, replay, tree, at })
}

fn verify(context: &Context<'_>, head: Option<&Path>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let kept = head.map(head::read).transpose()?;
    let mark = kept.as_ref().map(|kept| kept.number);
    // One snapshot: what others change meanwhile must not look like a difference.
    let (mut verified, states) = ward.store.view(|view| {
        let looked = || -> Result<_, Problem> {
            let verified = follow(view, mark)?;
            let states = states::differing(view, ward.now(), &verified.replay)?;
            Ok((verified, states))
        };
        Ok(looked())
    })??;
    let mut against = Vec::new();
    if let Some(kept) = &kept {
        against = head::differing(&ward, kept, verified.entries, verified.at)?;
    }
    let whole = verified.broken.is_empty() && states.is_empty() && against.is_empty();
    let value = json!({
        "entries": verified.entries, "head": verified.head, "whole": whole, "broken": verified.broken,
        "states": states, "against_head": against,
    });
    if whole {
        let mut text = format!(
            "the audit record is whole: {}, head {}\nthe ward's tables hold what it says\n",
            counted(usize::try_from(verified.entries).unwrap_or(0), "entry"),
            verified.head
        );
        if let Some(kept) = kept {
            text.push_str(&format!("it goes on from the head of {}, entry {}\n", kept.at, kept.number));
        }
        if verified.replay.unnamed {
            text.push_str("(which certificates older versions issued in bulk is not in the record)\n");
        }
        context.console.show("tidy-warden/audit-verify/1", value, &text)?;
        return Ok(Exit::Done);
    }
    let mut text = String::new();
    verified.broken.extend(against);
    for (what, lines) in [
        ("the audit record is broken", &verified.broken),
        ("the ward's tables do not hold what the audit record says", &states),
    ] {
        if lines.is_empty() {
            continue;
        }
        text.push_str(&format!("{what}, in {}:\n", counted(lines.len(), "place")));
        lines.iter().take(TOLD).for_each(|line| text.push_str(&format!("  {line}\n")));
        if lines.len() > TOLD {
            text.push_str(&format!("  and {} more\n", lines.len() - TOLD));
        }
    }
    context.console.show("tidy-warden/audit-verify/1", value, &text)?;
    context.console.note("somebody wrote to the store past this program; compare with a copy from before");
    Ok(Exit::Refused)
}
