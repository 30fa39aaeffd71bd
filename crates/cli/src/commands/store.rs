//! `store`: what concerns the store as a whole.

mod backup;

use std::io::ErrorKind;
use std::path::Path;

use serde_json::json;
use tidy_warden_core::text::printable;
use tidy_warden_guard::{Follows, Head};
use tidy_warden_store::copy::{self, CopyError};
use tidy_warden_store::{PostState, postgres};

use super::Context;
use super::audit;
use super::desk;
use super::guard::{SEEN, UNREADABLE_SEEN};
use super::post::ago;
use crate::args::StoreCommand;
use crate::console::counted;
use crate::files;
use crate::problem::{Exit, Problem};
use crate::ward::{SETTINGS, StorePlace, Ward};

/// After how many rows of a table a person hears of it.
const TOLD_ROWS: u64 = 100_000;

pub(crate) fn run(context: &Context<'_>, command: &StoreCommand) -> Result<Exit, Problem> {
    match command {
        StoreCommand::Show => show(context),
        StoreCommand::Copy { to: Some(to), to_password_file, yes, .. } => {
            copy(context, to, to_password_file.as_deref(), *yes)
        }
        StoreCommand::Copy { to: None, yes, .. } => stop(context, *yes),
        StoreCommand::Roles { out } => roles(context, out),
        StoreCommand::Backup { out, to_cert, backup_passphrase_file, whole } => {
            backup::make(context, out, to_cert.as_deref(), backup_passphrase_file.as_deref(), *whole)
        }
        StoreCommand::Restore { file, key, backup_passphrase_file, to, to_password_file, anyway, yes, because } => {
            let unlock = backup::Unlock { key: key.as_deref(), passphrase: backup_passphrase_file.as_deref() };
            let to = to.as_deref().map(|to| (to, to_password_file.as_deref()));
            backup::put_back(context, file, &unlock, to, *anyway, (*yes, because.text()))
        }
        StoreCommand::Check => check(context),
        StoreCommand::Accept { seen, yes, because } => accept(context, *seen, *yes, because.text()),
    }
}

/// What the store is.
fn show(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let survey = ward.store.survey()?;
    let (now, states, head) = (ward.now(), ward.store.post_states()?, ward.store.head()?.number);
    let behind = |state: &PostState| head.saturating_sub(state.change).max(0);
    let services: Vec<_> =
        states.iter().map(|state| json!({ "name": state.name, "behind": behind(state), "seen": state.seen })).collect();
    let value = json!({
        "engine": survey.engine, "place": ward.place.to_string(), "format": survey.format, "bytes": survey.octets,
        "devices": survey.devices, "credentials": survey.credentials, "entries": survey.entries,
        "oldest_reader_s": survey.oldest_reader, "services": services, "warnings": survey.warnings,
    });
    let reader = match survey.oldest_reader {
        Some(seconds) => format!("has been reading for {seconds} s"),
        None => "none holds anything up".to_owned(),
    };
    let mut text = format!(
        "engine       {}\nplace        {}\nformat       {}\nsize         {}\ndevices      {}\ncredentials  {}\nentries      {}\nreaders      {reader}\n",
        survey.engine,
        ward.place,
        survey.format,
        mebibytes(survey.octets),
        survey.devices,
        survey.credentials,
        survey.entries,
    );
    for state in &states {
        let changes = match behind(state) {
            0 => "has seen every change".to_owned(),
            behind => format!("{} behind", counted(usize::try_from(behind).unwrap_or(usize::MAX), "change")),
        };
        text.push_str(&format!("{:<13}{changes}, said so {}\n", state.name.as_str(), ago(now.since(state.seen))));
    }
    context.console.show("tidy-warden/store/1", value, &text)?;
    survey.warnings.iter().for_each(|warning| context.console.warn(warning));
    Ok(Exit::Done)
}

/// Writes the roles and rights of the database.
fn roles(context: &Context<'_>, out: &Path) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let StorePlace::Database(access) = &ward.place else {
        return Err(Problem::refused("a file has no roles")
            .because("the ward is in a file")
            .next("move it into a database first: store copy --to 'postgresql://...'"));
    };
    let sql = postgres::roles((**access).clone())?;
    // It holds what the passwords of posts are checked by.
    files::replace_secret(out, sql.as_bytes()).map_err(|error| Problem::file("write", out, &error))?;
    let posts = ward.store.posts()?.iter().filter(|post| post.retired.is_none()).count();
    let value = json!({ "file": out.display().to_string(), "posts": posts });
    let note = format!(
        "wrote roles and rights for people, guards, desks, readers and {} to {}",
        counted(posts, "post"),
        out.display()
    );
    context.console.did("tidy-warden/store-roles/1", value, note)?;
    context.console.note(format!(
        "next: somebody who may make roles runs it: psql -d {} -f {}",
        access.address.database,
        out.display()
    ));
    Ok(Exit::Done)
}

/// Moves the ward.
fn copy(context: &Context<'_>, to: &str, password: Option<&Path>, yes: bool) -> Result<Exit, Problem> {
    let console = context.console;
    let (ward, began) = (context.ward()?, std::time::Instant::now());
    let place = StorePlace::named(to, &context.dir, password)?;
    let (from, survey) = (ward.place.to_string(), ward.store.survey()?);
    if from == place.to_string() {
        return Err(Problem::refused(format!("the ward is in {from} already")));
    }
    console.note(format!(
        "the ward moves from {from} to {place}: {} devices, {} credentials, {} entries\nfrom now on it takes no change until it is there",
        survey.devices, survey.credentials, survey.entries
    ));
    console.confirm("Move this ward?", yes)?;
    let mut new = place.open_copy(&ward.record.urn)?;
    let mut old = ward.place.open_whole()?;
    let mut copied = ("", 0);
    let mut tell = |table: &'static str, rows: u64| {
        copied = if copied.0 == table { (table, copied.1 + rows) } else { (table, rows) };
        if copied.1 / TOLD_ROWS > (copied.1 - rows) / TOLD_ROWS {
            console.note(format!("copied {} rows of `{table}`", copied.1));
        }
    };
    let copied = copy::move_ward(&mut *old, &mut *new, &place.to_string(), &mut tell).map_err(|error| match error {
        CopyError::Store(error) => Problem::from(error)
            .or_next("the ward takes no change meanwhile: the same call goes on, store copy --stop gives it up"),
        error => Problem::failed("the ward was not moved")
            .because(error)
            .next("empty the new place and begin again, or give it up: store copy --stop"),
    })?;
    let digest = data_encoding::HEXLOWER.encode(&copied.digest);
    let value = json!({
        "from": from, "to": place.to_string(), "rows": copied.rows, "sha256": digest, "devices": survey.devices,
        "credentials": survey.credentials, "entries": survey.entries,
    });
    let text = format!(
        "moved to {place}\n  {} rows, SHA-256 {digest}\n  compared row by row, the audit record whole to its entry {}\n  in {:.1} s\n",
        copied.rows,
        survey.entries,
        began.elapsed().as_secs_f64(),
    );
    console.show("tidy-warden/store-copy/1", value, &text)?;
    console.note(match place {
        StorePlace::Database(_) => format!(
            "next: put this into {}, and start guards anew:\n      [store]\n      url = \"{place}\"",
            ward.dir.join(SETTINGS).display()
        ),
        StorePlace::File(_) => {
            format!("next: take [store] out of {}, and start guards anew", ward.dir.join(SETTINGS).display())
        }
    });
    Ok(Exit::Done)
}

/// Gives up a move.
fn stop(context: &Context<'_>, yes: bool) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let mut whole = ward.place.open_whole()?;
    match whole.moved()? {
        None => Err(Problem::refused("there is nothing to give up").because("the ward does not move")),
        Some(moved) if moved.is_done => Err(Problem::refused("this move cannot be given up")
            .because(format!("the ward is in {} now", moved.to))
            .next("move it back from there: store copy --to")),
        Some(moved) => {
            context.console.confirm(&format!("Stay in {} and not move to {}?", ward.place, moved.to), yes)?;
            whole.set_moved(None)?;
            context
                .console
                .note(format!("the ward takes changes here again; what was copied to {} is of no use", moved.to));
            Ok(Exit::Done)
        }
    }
}

/// A size for people.
fn mebibytes(octets: u64) -> String {
    match octets {
        ..0x10_0000 => format!("{} KiB", octets.div_ceil(1024)),
        _ => format!("{}.{} MiB", octets >> 20, ((octets & 0xf_ffff) * 10) >> 20),
    }
}

/// How far the servers of a folder have seen the record, each by its name.
fn seen(dir: &Path) -> Result<Vec<(&'static str, Head)>, Problem> {
    let mut all = Vec::new();
    for (server, file) in [("guard", SEEN), (desk::DESK, desk::SEEN)] {
        let path = dir.join(file);
        let found = Head::load(&path).map_err(|error| match error.kind() {
            ErrorKind::InvalidData => {
                Problem::failed(format!("cannot read {}", path.display())).because(error).next(UNREADABLE_SEEN)
            }
            _ => Problem::file("read", &path, &error),
        })?;
        all.extend(found.map(|head| (server, head)));
    }
    Ok(all)
}

/// What of that the store lacks, and nobody accepted yet.
fn lacking(ward: &Ward, all: &[(&'static str, Head)]) -> Result<Vec<(&'static str, Head)>, Problem> {
    let mut lacking = Vec::new();
    for (server, head) in all {
        let changes = ward.store.changed_since(head.number)?;
        if matches!(head.followed_by(changes.to, changes.since, changes.given_up), Follows::Behind(_)) {
            lacking.push((*server, *head));
        }
    }
    Ok(lacking)
}

/// Looks for damage.
fn check(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let mut found = ward.store.check()?;
    let (mut devices, mut credentials) = (0u64, 0u64);
    // Whatever does not read back ends the reading, with where that is.
    let mut read = |view: &tidy_warden_store::DeviceView| {
        devices += 1;
        credentials += u64::try_from(view.credentials.len()).unwrap_or(u64::MAX);
    };
    if let Err(error) = ward.store.each_device(&mut |view| read(&view)) {
        found.push(error.to_string());
    }
    let now = ward.now();
    let (verified, states) = ward.store.view(|view| {
        let verified = audit::follow(view, None);
        let states = verified.as_ref().ok().map(|verified| audit::differing(view, now, &verified.replay));
        Ok((verified, states))
    })?;
    let verified = verified?;
    found.extend(verified.broken);
    found.extend(states.transpose()?.unwrap_or_default());
    let value = json!({
        "devices": devices, "credentials": credentials, "entries": verified.entries, "head": verified.head, "found": found,
    });
    let read = format!(
        "{}, {}, and {} entries of the audit record",
        counted(usize::try_from(devices).unwrap_or(usize::MAX), "device"),
        counted(usize::try_from(credentials).unwrap_or(usize::MAX), "credential"),
        verified.entries
    );
    let text = match found.len() {
        0 => format!("nothing is wrong: read {read}\n"),
        _ => found.iter().map(|each| format!("{}\n", printable(each))).collect::<String>() + &format!("read {read}\n"),
    };
    context.console.show("tidy-warden/store-check/1", value, &text)?;
    Ok(if found.is_empty() { Exit::Done } else { Exit::Refused })
}

/// Accepts a store that lacks what the guard, or the desk, has seen of its record.
fn accept(
    context: &Context<'_>,
    told: Option<(i64, [u8; 32])>,
    yes: bool,
    because: Option<&str>,
) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let doubt = ward.store.head()?.doubt;
    let known = seen(&ward.dir)?;
    let mut lacking = lacking(&ward, &known)?.into_iter();
    let (server, seen) = match (told, lacking.next().or(known.first().copied())) {
        (Some((number, hash)), _) => ("guard", Head { number, hash }),
        (None, Some(seen)) => seen,
        // What was put back is in doubt for everybody, also where nobody has seen anything.
        (None, None) if doubt.is_some() => ("guard", Head { number: 0, hash: [0; 32] }),
        (None, None) => {
            return Err(Problem::refused("there is nothing to accept")
                .because("no guard or desk of this ward kept what it has seen in its folder")
                .next("for a guard at a post: --seen NUMBER:HASH, as its log says"));
        }
    };
    let changes = ward.store.changed_since(seen.number)?;
    if let Some(doubt) = &doubt {
        console.note(format!("what stands here is in doubt: {doubt}"));
    }
    if doubt.is_none() && changes.to >= seen.number && changes.since == Some(seen.hash) {
        let text =
            format!("the store holds all that the {server} has seen, up to entry {}; nothing to accept\n", seen.number);
        console.show(
            "tidy-warden/store-accept/1",
            json!({ "accepted": false, "ends": changes.to, "seen": seen.number }),
            &text,
        )?;
        return Ok(Exit::Done);
    }
    if changes.given_up == Some((seen.number, seen.hash)) {
        console.note(format!("this was accepted already; a running {server} goes by it within a second"));
        return Ok(Exit::Done);
    }
    if seen.number > 0 && changes.since != Some(seen.hash) {
        console.note(format!(
            "the store ends with entry {}, and a {server} has seen entry {}; what was revoked, held or blocked in between is \
             not known here",
            changes.to, seen.number
        ));
    }
    console.confirm("Accept this store?", yes)?;
    let because = console.reason(because)?;
    let cause = ward.cause(Some(&because));
    ward.store.give_up(seen.number, seen.hash, &cause)?;
    let text = match seen.number {
        0 => format!("accepted the store that ended with entry {}\n", changes.to),
        number => format!("accepted the store that ended with entry {} in place of one with {number}\n", changes.to),
    };
    let value = json!({ "accepted": true, "ends": changes.to, "seen": seen.number });
    console.show("tidy-warden/store-accept/1", value, &text)?;
    console.note(match server {
        desk::DESK => "a running desk lets devices come in again within a second",
        _ => "a running guard lets devices connect again within a second",
    });
    // One end is accepted at a time: whoever saw another one has to be asked about.
    let others = lacking.filter(|(_, head)| told.is_none() && *head != seen);
    for (other, head) in others {
        console.warn(format!(
            "the {other} has seen the record up to entry {}: once the {server} runs by this, repeat this for it",
            head.number
        ));
    }
    Ok(Exit::Done)
}
