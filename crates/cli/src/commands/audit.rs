//! `audit`: the append-only record of every change.

use std::collections::VecDeque;

use serde_json::{Value, json};
use tidy_warden_core::audit::{Entry, Verifier};
use tidy_warden_store::Store;

use super::Context;
use crate::args::AuditCommand;
use crate::console::{Listing, counted};
use crate::problem::{Exit, Problem};

/// How many breaks are told one by one.
const TOLD: usize = 20;

pub(crate) fn run(context: &Context<'_>, command: &AuditCommand) -> Result<Exit, Problem> {
    match command {
        AuditCommand::Log { last, subject } => log(context, *last, subject.as_deref()),
        AuditCommand::Verify => verify(context),
    }
}

fn log(context: &Context<'_>, last: Option<i64>, subject: Option<&str>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let keep = last.map_or(usize::MAX, |last| usize::try_from(last).unwrap_or(0));
    let mut entries: VecDeque<Entry> = VecDeque::new();
    ward.store.each_entry(1, &mut |entry| {
        if subject.is_none_or(|subject| entry.subject == subject) {
            entries.push_back(entry);
            if entries.len() > keep {
                entries.pop_front();
            }
        }
        true
    })?;
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

/// The result of following the whole chain.
pub(crate) struct Verified {
    pub(crate) entries: i64,
    pub(crate) head: String,
    pub(crate) broken: Vec<String>,
}

/// Follows the chain from its first entry to its noted end.
pub(crate) fn follow(store: &dyn Store) -> Result<Verified, Problem> {
    let mut verifier = Verifier::default();
    let mut broken = Vec::new();
    store.each_entry(i64::MIN, &mut |entry| {
        if let Err(found) = verifier.follow(&entry) {
            broken.push(found.to_string());
        }
        true
    })?;
    let (number, hash) = store.audit_end()?;
    let (entries, head) = (verifier.number(), data_encoding::HEXLOWER.encode(&verifier.hash()));
    if let Err(found) = verifier.finish(number, hash) {
        broken.push(found.to_string());
    }
    Ok(Verified { entries, head, broken })
}

fn verify(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let Verified { entries, head, broken } = follow(&ward.store)?;
    let value = json!({ "entries": entries, "head": head, "whole": broken.is_empty(), "broken": broken });
    if broken.is_empty() {
        context.console.show(
            "tidy-warden/audit-verify/1",
            value,
            &format!(
                "the audit record is whole: {}, head {head}\n",
                counted(usize::try_from(entries).unwrap_or(0), "entry")
            ),
        )?;
        return Ok(Exit::Done);
    }
    let mut text = format!("the audit record is broken in {}:\n", counted(broken.len(), "place"));
    broken.iter().take(TOLD).for_each(|line| text.push_str(&format!("  {line}\n")));
    if broken.len() > TOLD {
        text.push_str(&format!("  and {} more\n", broken.len() - TOLD));
    }
    context.console.show("tidy-warden/audit-verify/1", value, &text)?;
    context.console.note("somebody wrote to the store past this program; compare with a copy from before");
    Ok(Exit::Refused)
}
