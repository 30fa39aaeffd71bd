//! `passphrase`: what opens the ward's keys.

mod share;

use std::collections::BTreeSet;
use std::path::Path;

use serde_json::json;
use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::key::LockCost;
use tidy_warden_ward::relock::{self, Opens};

use super::Context;
use crate::args::{ChangePassphraseArgs, KeysOf, PassphraseCommand};
use crate::console::{Listing, counted};
use crate::passphrase::{self, Typed};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

pub(crate) fn run(context: &Context<'_>, command: &PassphraseCommand) -> Result<Exit, Problem> {
    match command {
        PassphraseCommand::Change(args) => change(context, args),
        PassphraseCommand::Show => show(context),
        PassphraseCommand::Share(args) => share::share(context, args),
        PassphraseCommand::Combine { shares, out } => share::combine(context, shares, out),
    }
}

/// Whose a key is, by its name.
fn whose(ward: &Ward, name: &str) -> Result<KeysOf, Problem> {
    Ok(match name {
        "guard" => KeysOf::Guard,
        "desk" => KeysOf::Desk,
        name => {
            let roots = ward.store.authorities()?;
            let is_root = roots.iter().any(|each| each.role == AuthorityRole::Root && each.name.as_str() == name);
            if is_root { KeysOf::Root } else { KeysOf::Ward }
        }
    })
}

fn word(of: KeysOf) -> &'static str {
    match of {
        KeysOf::Ward => "ward",
        KeysOf::Root => "root",
        KeysOf::Guard => "guard",
        KeysOf::Desk => "desk",
    }
}

fn change(context: &Context<'_>, args: &ChangePassphraseArgs) -> Result<Exit, Problem> {
    if let Some(post) = &args.post {
        return change_at_post(context, args, post);
    }
    let console = context.console;
    let mut ward = context.ward()?;
    let old = context.passphrase("the keys as they are")?;
    let new = passphrase::get(args.new_passphrase_file.as_deref(), "the keys from now on", Typed::Twice, console)?;
    let Opens { opened, closed } = relock::opens(&ward.dir, &old)?;
    let mut only = BTreeSet::new();
    for name in opened.iter().chain(&closed) {
        if args.of.is_empty() || args.of.contains(&whose(&ward, name)?) {
            only.insert(name.clone());
        }
    }
    let wanted: Vec<String> = opened.iter().filter(|name| only.contains(*name)).cloned().collect();
    for name in closed.iter().filter(|name| only.contains(*name) && !wanted.is_empty()) {
        console.note(format!("{name} has another passphrase, which stays"));
    }
    if !wanted.is_empty() {
        console.confirm(&format!("Lock {} anew: {}?", counted(wanted.len(), "key"), wanted.join(", ")), args.yes)?;
    }
    let cause = ward.cause(args.because.text());
    let (dir, cost) = (ward.dir.clone(), ward.lock_cost());
    let store = &mut ward.store;
    let done = relock::change(&dir, (&old, &new), Some(&only), cost, &mut |names| {
        store.record_note("passphrase.change", "the ward's keys", &json!({ "keys": names }).to_string(), &cause)?;
        Ok(())
    })?;
    let text = format!("locked {} anew: {}\n", counted(done.opened.len(), "key"), done.opened.join(", "));
    let value = json!({ "keys": done.opened, "others": closed });
    console.show("tidy-warden/passphrase/1", value, &text)?;
    console
        .note("whoever has a copy of the folder from before opens it with the old one: take copies and backups anew");
    if done.opened.iter().any(|name| name == "guard" || name == "desk") {
        console.note("running guards and desks go on; give them the new passphrase for their next start");
    }
    Ok(Exit::Done)
}

/// The keys of a post, where nothing else of the ward is.
fn change_at_post(context: &Context<'_>, args: &ChangePassphraseArgs, dir: &Path) -> Result<Exit, Problem> {
    let console = context.console;
    if !dir.join(tidy_warden_ward::post::POST).exists() {
        return Err(Problem::refused(format!("{} is not the folder of a post", dir.display()))
            .because(format!("it has no {}", tidy_warden_ward::post::POST))
            .next("--post DIR, as `post add` made it"));
    }
    relock::tidy(dir)?;
    let old = passphrase::of_post(args.post_passphrase_file.as_deref(), Typed::Once, console)?;
    let new = passphrase::get(args.new_passphrase_file.as_deref(), "the keys from now on", Typed::Twice, console)?;
    let Opens { opened, .. } = relock::opens(dir, &old)?;
    if !opened.is_empty() {
        console.confirm(&format!("Lock {} anew: {}?", counted(opened.len(), "key"), opened.join(", ")), args.yes)?;
    }
    let done = relock::change(dir, (&old, &new), None, LockCost::Full, &mut |_| Ok(()))?;
    let text = format!("locked {} anew: {}\n", counted(done.opened.len(), "key"), done.opened.join(", "));
    console.show("tidy-warden/passphrase/1", json!({ "keys": done.opened, "others": done.closed }), &text)?;
    console.note("the audit record does not tell of it: a post may not write there; one that runs needs the new one at its next start");
    Ok(Exit::Done)
}

fn show(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let passphrase = context.passphrase("the keys that are to be tried")?;
    let Opens { opened, closed } = relock::opens(&ward.dir, &passphrase)?;
    let mut all: Vec<(&String, bool)> =
        opened.iter().map(|name| (name, true)).chain(closed.iter().map(|name| (name, false))).collect();
    all.sort();
    let mut rows = Vec::new();
    let mut items = Vec::new();
    for (name, opens) in all {
        let of = word(whose(&ward, name)?);
        items.push(json!({ "key": name, "of": of, "opens": opens }));
        let told = if opens { "this passphrase" } else { "another one" };
        rows.push(vec![name.clone(), of.to_owned(), told.to_owned()]);
    }
    context.console.list(Listing {
        schema: "tidy-warden/passphrases/1",
        key: "keys",
        items,
        columns: ["key", "of", "opened by"].map(str::to_owned).to_vec(),
        rows,
        empty: "no keys are in this folder",
    })?;
    Ok(Exit::Done)
}
