//! `token signer`: the keys with which the ward signs tokens.

use serde_json::json;
use tidy_warden_core::key::NewKey;
use tidy_warden_store::{SignerRefusal, TokenSignerRecord};

use crate::args::SignerCommand;
use crate::commands::Context;
use crate::console::Listing;
use crate::keys::Openers;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

pub(super) fn run(context: &Context<'_>, command: &SignerCommand) -> Result<Exit, Problem> {
    match command {
        SignerCommand::List => list(context),
        SignerCommand::Add { key, hsm, because } => add(context, key, hsm.as_deref(), because.text()),
        SignerCommand::Retire { signer, yes, because } => retire(context, signer, *yes, because.text()),
    }
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let all = ward.store.signers()?;
    let newest = all.iter().rfind(|each| each.retired.is_none()).map(|each| each.name.clone());
    let note = |each: &TokenSignerRecord| match each.retired {
        Some(at) => format!("retired {at}"),
        None if Some(&each.name) == newest.as_ref() => "signs".to_owned(),
        None => "its tokens are taken".to_owned(),
    };
    let state = |each: &TokenSignerRecord| if each.retired.is_some() { "retired" } else { "live" };
    context.console.list(Listing {
        schema: "tidy-warden/token-signers/1",
        key: "signers",
        items: all
            .iter()
            .map(|each| {
                json!({
                    "name": each.name, "kid": each.kid(), "key": each.key.key_type().to_string(), "state": state(each),
                    "created": each.created, "retired": each.retired, "signs": Some(&each.name) == newest.as_ref(),
                })
            })
            .collect(),
        columns: ["name", "kid", "key", "since", "note"].map(str::to_owned).to_vec(),
        rows: all
            .iter()
            .map(|each| {
                vec![each.name.clone(), each.kid(), each.key.key_type().to_string(), each.created.date(), note(each)]
            })
            .collect(),
        empty: "no key signs tokens",
    })?;
    Ok(Exit::Done)
}

/// The next name that no signer has, and no file.
fn free_name(ward: &Ward, all: &[TokenSignerRecord]) -> String {
    let mut number = all.len() + 1;
    loop {
        let name = format!("tokens-{number}");
        let file = ward.dir.join(crate::ward::KEYS).join(format!("{name}.key"));
        if !all.iter().any(|each| each.name == name) && file.symlink_metadata().is_err() {
            return name;
        }
        number += 1;
    }
}

fn add(context: &Context<'_>, key: &str, hsm: Option<&str>, because: Option<&str>) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let new = [NewKey::P256, NewKey::Ed25519].into_iter().find(|new| new.as_str() == key);
    let new = new.ok_or_else(|| {
        Problem::usage(format!("tokens are not signed with {key:?} keys here")).next("--type p256, or --type ed25519")
    })?;
    let all = ward.store.signers()?;
    let name = free_name(&ward, &all);
    let (signer, place) = context.secrets().make(&ward, &name, new, hsm)?;
    let record = TokenSignerRecord {
        name: name.clone(),
        key: signer.public_key().clone(),
        place,
        created: ward.now(),
        retired: None,
    };
    let cause = ward.cause(because);
    ward.store.add_signer(&record, &cause)?.map_err(|why| Problem::refused("no key was added").because(why))?;
    let kid = record.kid();
    let value = json!({ "name": name, "kid": kid, "key": record.key.key_type().to_string() });
    let text = format!("added  {name}, which signs tokens from now on\nkid    {kid}\n");
    context.console.show("tidy-warden/token-signer/1", value, &text)?;
    context.console.note(
        "whoever verifies tokens elsewhere needs it: authority export --jwks FILE; tokens of the keys before it are taken until \
         token signer retire",
    );
    Ok(Exit::Done)
}

fn retire(context: &Context<'_>, named: &str, yes: bool, because: Option<&str>) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let all = ward.store.signers()?;
    let signer = all.iter().find(|each| each.name == named || each.kid() == named).ok_or_else(|| {
        Problem::not_found(format!("no key that signs tokens is named {named:?}")).next("token signer list")
    })?;
    console.confirm(&format!("Take no token any more that {} signed?", signer.name), yes)?;
    let because = console.reason(because)?;
    let cause = ward.cause(Some(&because));
    ward.store.retire_signer(&signer.name, &cause)?.map_err(|why| {
        let problem = Problem::refused(format!("`{}` was not retired", signer.name)).because(&why);
        match why {
            SignerRefusal::Last => problem.next("first: token signer add"),
            _ => problem,
        }
    })?;
    let value = json!({ "name": signer.name, "kid": signer.kid() });
    console.show("tidy-warden/token-signer/1", value, &format!("retired {}: its tokens are void\n", signer.name))?;
    console.note("a running guard ends their sessions within a second; give the others the new set: authority export --jwks FILE");
    Ok(Exit::Done)
}
