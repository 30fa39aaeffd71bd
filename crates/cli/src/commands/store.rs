//! `store`: what concerns the store as a whole.

use std::io::ErrorKind;

use serde_json::json;
use tidy_warden_guard::Head;

use super::Context;
use super::guard::{SEEN, UNREADABLE_SEEN};
use crate::args::StoreCommand;
use crate::problem::{Exit, Problem};

pub(crate) fn run(context: &Context<'_>, command: &StoreCommand) -> Result<Exit, Problem> {
    match command {
        StoreCommand::Accept { yes, because } => accept(context, *yes, because.text()),
    }
}

/// Accepts a store that lacks what the guard has seen of its record.
fn accept(context: &Context<'_>, yes: bool, because: Option<&str>) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let path = ward.dir.join(SEEN);
    let seen = Head::load(&path).map_err(|error| match error.kind() {
        ErrorKind::InvalidData => {
            Problem::failed(format!("cannot read {}", path.display())).because(error).next(UNREADABLE_SEEN)
        }
        _ => Problem::file("read", &path, &error),
    })?;
    let Some(seen) = seen else {
        return Err(
            Problem::refused("there is nothing to accept").because("no guard of this ward kept what it has seen")
        );
    };
    let changes = ward.store.changed_since(seen.number)?;
    if changes.to >= seen.number && changes.since == Some(seen.hash) {
        let text =
            format!("the store holds all that the guard has seen, up to entry {}; nothing to accept\n", seen.number);
        console.show(
            "tidy-warden/store-accept/1",
            json!({ "accepted": false, "ends": changes.to, "seen": seen.number }),
            &text,
        )?;
        return Ok(Exit::Done);
    }
    if changes.given_up == Some((seen.number, seen.hash)) {
        console.note("this was accepted already; a running guard goes by it within a second");
        return Ok(Exit::Done);
    }
    console.note(format!(
        "the store ends with entry {}, and a guard has seen entry {}; what was revoked, held or blocked in between is not \
         known here",
        changes.to, seen.number
    ));
    console.confirm("Accept this store?", yes)?;
    let because = console.reason(because)?;
    let cause = ward.cause(Some(&because));
    ward.store.give_up(seen.number, seen.hash, &cause)?;
    let text =
        format!("accepted the store that ended with entry {} in place of one with {}\n", changes.to, seen.number);
    let value = json!({ "accepted": true, "ends": changes.to, "seen": seen.number });
    console.show("tidy-warden/store-accept/1", value, &text)?;
    console.note("a running guard lets devices connect again within a second");
    Ok(Exit::Done)
}
