//! `authority judge`: whether a certificate leads to a root, and if not, why.

use std::path::Path;

use serde_json::json;
use tidy_warden_core::certificate::{Certificate, Purpose, judge};
use tidy_warden_core::revocation::Crl;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_ward::judge::check;

use crate::args::{JudgeArgs, PurposeArg};
use crate::clock::WardClock;
use crate::commands::Context;
use crate::edge::parse;
use crate::files;
use crate::problem::{Exit, Problem};

/// The largest file of certificates, and of CRLs: one with a million entries has about 53 MB, half as much again in PEM.
const MAX_CERTIFICATES: u64 = 4 * 1024 * 1024;
const MAX_CRLS: u64 = 256 * 1024 * 1024;

pub(super) fn run(context: &Context<'_>, args: &JudgeArgs) -> Result<Exit, Problem> {
    let mut given = certificates(&args.leaf)?;
    let between = given.split_off(1);
    let Some(leaf) = given.pop() else {
        return Err(Problem::refused(format!("{} holds no certificate", args.leaf.display())));
    };
    let roots = certificates(&args.root)?;
    let mut chain = between;
    if let Some(path) = &args.chain {
        chain.extend(certificates(path)?);
    }
    let crls = args.crl.as_deref().map(crls).transpose()?;
    let at = match &args.at {
        Some(text) => parse::<UnixTime>(text)?,
        None => WardClock::of(false)?.now(),
    };
    let purpose = match args.purpose {
        PurposeArg::Client => Purpose::Client,
        PurposeArg::Server => Purpose::Server,
        PurposeArg::Any => Purpose::Any,
    };
    let judged = judge(&leaf, &chain, &roots, purpose, at).map_err(|error| error.to_string());
    let (refused, path, notes) = match judged {
        Err(why) => (Some(why), Vec::new(), Vec::new()),
        Ok(path) => {
            let revocation = crls.as_deref().map(|crls| check(&path, crls, at)).unwrap_or_default();
            (revocation.refused, path, revocation.notes)
        }
    };
    let names: Vec<&str> = path.iter().map(|each| each.subject_text.as_str()).collect();
    let value = json!({
        "good": refused.is_none(), "because": refused, "subject": leaf.subject_text, "at": at,
        "fingerprint": leaf.fingerprint.to_string(), "path": names, "notes": notes,
    });
    let mut text = format!("leaf     {}\nSHA-256  {}\nat       {at}\n", leaf.subject_text, leaf.fingerprint);
    for (place, name) in names.iter().enumerate().skip(1) {
        text.push_str(&format!("{:<9}{name}\n", if place == 1 { "below" } else { "" }));
    }
    for note in &notes {
        text.push_str(&format!("note     {note}\n"));
    }
    text.push_str(&match &refused {
        None => "verdict  good\n".to_owned(),
        Some(why) => format!("verdict  refused: {why}\n"),
    });
    context.console.show("tidy-warden/judgement/1", value, &text)?;
    Ok(if refused.is_none() { Exit::Done } else { Exit::Refused })
}

/// Reads certificates from a file.
pub(super) fn certificates(path: &Path) -> Result<Vec<Certificate>, Problem> {
    let octets = files::read(path, MAX_CERTIFICATES)?;
    Certificate::read_all(&octets).map_err(|error| {
        Problem::refused(format!("cannot read {}", path.display()))
            .because(error)
            .next("give certificates in PEM, or one in DER")
    })
}

fn crls(path: &Path) -> Result<Vec<Crl>, Problem> {
    let octets = files::read(path, MAX_CRLS)?;
    Crl::read_all(&octets).map_err(|error| {
        Problem::refused(format!("cannot read {}", path.display()))
            .because(error)
            .next("give revocation lists in PEM, or one in DER")
    })
}
