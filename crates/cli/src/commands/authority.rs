//! `authority`: the ward's certificate authorities.

mod add;
mod judge;

use serde_json::{Value, json};
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::{Certificate, Purpose, judge as judge_path};
use tidy_warden_core::id::AuthorityName;
use tidy_warden_ward::rotation::leaning_on;

use super::Context;
use crate::args::AuthorityCommand;
use crate::console::{Listing, counted};
use crate::edge::parse;
use crate::files;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// How many devices are named that need an authority.
const HURT: usize = 3;

pub(crate) fn run(context: &Context<'_>, command: &AuthorityCommand) -> Result<Exit, Problem> {
    match command {
        AuthorityCommand::List => list(context),
        AuthorityCommand::Show { authority, missing } => {
            let ward = context.ward()?;
            match missing {
                true => list_missing(context, &ward, &parse(authority)?),
                false => show_named(context, &ward, &parse(authority)?),
            }
        }
        AuthorityCommand::Add(args) => add::run(context, args),
        AuthorityCommand::Retire { authority, anyway, yes, because } => {
            retire(context, authority, *anyway, *yes, because.text())
        }
        AuthorityCommand::Judge(args) => judge::run(context, args),
        AuthorityCommand::Export { out, jwks } => export(context, out.as_deref(), jwks.as_deref()),
    }
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let authorities = ward.store.authorities()?;
    let columns = ["name", "signs", "subject", "key", "ends", "crl", "note"];
    let mut items = Vec::new();
    let mut rows = Vec::new();
    for authority in &authorities {
        let certificate = &authority.certificate;
        let crl = match (authority.crl_number, authority.crl_pending) {
            (0, false) => "none yet".to_owned(),
            (0, true) => "none yet, pending".to_owned(),
            (number, true) => format!("number {number}, pending"),
            (number, false) => format!("number {number}"),
        };
        items.push(authority_json(authority));
        rows.push(vec![
            authority.name.to_string(),
            signs(authority.role).to_owned(),
            certificate.subject_text.clone(),
            certificate.public_key.key_type().to_string(),
            certificate.not_after.date(),
            crl,
            note(authority, &authorities),
        ]);
    }
    for asked in ward.store.pending_authorities()? {
        let key = asked.public_key.key_type().to_string();
        items.push(json!({
            "name": asked.name, "role": asked.role.as_str(), "subject": null, "key": key, "fingerprint": null,
            "serial": null, "ends": null, "key_place": key_place(&asked.key), "created": asked.created, "pending": true,
        }));
        let note = "no certificate yet: authority add NAME --answer FILE".to_owned();
        let [name, signs] = [asked.name.to_string(), signs(asked.role).to_owned()];
        rows.push(vec![name, signs, "-".to_owned(), key, "-".to_owned(), "-".to_owned(), note]);
    }
    context.console.list(Listing {
        schema: "tidy-warden/authorities/1",
        key: "authorities",
        items,
        columns: columns.map(str::to_owned).to_vec(),
        rows,
        empty: "no authorities",
    })?;
    Ok(Exit::Done)
}

/// The authorities that lead to a root that is believed, and would not without `root`.
fn orphans(ward: &Ward, root: &AuthorityRecord) -> Result<Vec<String>, Problem> {
    if root.role != AuthorityRole::Root {
        return Ok(Vec::new());
    }
    let all = ward.store.authorities()?;
    let between: Vec<Certificate> = all.iter().flat_map(|each| each.crossed.clone()).collect();
    let left: Vec<Certificate> =
        ward.roots()?.into_iter().filter(|each| each.name != root.name).map(|each| each.certificate).collect();
    let ours = |each: &&AuthorityRecord| {
        matches!(each.role, AuthorityRole::Devices | AuthorityRole::Service) && each.retired.is_none()
    };
    let lost =
        |each: &&AuthorityRecord| judge_path(&each.certificate, &between, &left, Purpose::Any, ward.now()).is_err();
    Ok(all.iter().filter(ours).filter(lost).map(|each| format!("`{}`", each.name)).collect())
}

/// What sets an authority apart.
fn note(authority: &AuthorityRecord, all: &[AuthorityRecord]) -> String {
    let replaced = all.iter().find(|each| each.replaces.as_ref() == Some(&authority.name));
    match (authority.retired, replaced, &authority.key) {
        (Some(_), _, _) => "retired".to_owned(),
        (None, Some(new), _) => format!("replaced by {}", new.name),
        (None, None, KeyPlace::Ward) => String::new(),
        (None, None, key) => format!("key {}", key_place(key)),
    }
}

/// Lists the devices that are not known to have a root.
fn list_missing(context: &Context<'_>, ward: &Ward, name: &AuthorityName) -> Result<Exit, Problem> {
    let authority = ward.named_authority(name)?;
    if authority.role != AuthorityRole::Root {
        return Err(Problem::refused(format!("`{name}` is no root, which devices would have to have"))
            .next(format!("authority show {name}")));
    }
    let without = ward.store.unequipped_since(name, usize::MAX)?;
    context.console.list(Listing {
        schema: "tidy-warden/devices-without/1",
        key: "devices",
        items: without.iter().map(|id| json!({ "id": id, "root": name })).collect(),
        columns: vec!["id".to_owned()],
        rows: without.iter().map(|id| vec![id.to_string()]).collect(),
        empty: "every device that is neither out nor retired got an outfit since it was added",
    })?;
    Ok(Exit::Done)
}

/// Shows what a person compares.
fn show_named(context: &Context<'_>, ward: &Ward, name: &AuthorityName) -> Result<Exit, Problem> {
    let authority = ward.named_authority(name)?;
    let certificate = &authority.certificate;
    let signed = ward.store.signed_by(&authority.name, ward.now())?;
    let path_length = certificate.basic_constraints.as_ref().and_then(|basic| basic.path_len_constraint);
    let all = ward.store.authorities()?;
    let replaced_by = all.iter().find(|each| each.replaces.as_ref() == Some(name)).map(|each| each.name.clone());
    let mut value = authority_json(&authority);
    value["begins"] = json!(certificate.not_before);
    value["path_length"] = json!(path_length);
    value["signed"] = json!(signed.all);
    value["usable"] = json!(signed.usable);
    value["last_end"] = json!(signed.last_end);
    value["replaced_by"] = json!(replaced_by);
    let mut text = String::new();
    let mut line = |name: &str, what: String| text.push_str(&format!("{name:<13}{what}\n"));
    line("authority", authority.name.to_string());
    line("signs", signs(authority.role).to_owned());
    line("subject", certificate.subject_text.clone());
    line("key", format!("{}, {}", certificate.public_key.key_type(), key_place(&authority.key)));
    line("SHA-256", certificate.fingerprint.to_string());
    line("serial", certificate.serial.to_string());
    line("valid", format!("{} to {}", certificate.not_before, certificate.not_after));
    line(
        "below it",
        path_length.map_or_else(|| "authorities without limit".to_owned(), |limit| format!("path length {limit}")),
    );
    if let Some(constraints) = &certificate.constraints {
        for (what, bases) in [("permits", &constraints.permitted), ("excludes", &constraints.excluded)] {
            if !bases.is_empty() {
                line(what, bases.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "));
            }
        }
    }
    for cross in &authority.crossed {
        let above = all.iter().find(|each| each.certificate.subject == cross.issuer);
        let by = above.map_or_else(|| "one above it".to_owned(), |each| format!("`{}`", each.name));
        let own = if cross.subject == certificate.subject { "signed also" } else { "leads on" };
        line(own, format!("by {by}, until {}", cross.not_after.date()));
    }
    if let Some(old) = &authority.replaces {
        line("replaces", old.to_string());
    }
    if let Some(new) = &replaced_by {
        line("replaced by", format!("{new}; it still signs its own CRL, until its last certificate ends"));
    }
    if let Some(trust) = &authority.trust {
        let kinds: Vec<String> = trust.kinds.iter().map(ToString::to_string).collect();
        let facts: Vec<&str> = trust.facts.iter().map(|fact| fact.as_str()).collect();
        line(
            "taken for",
            format!("{}, whose {} must be what the certificate says", kinds.join(", "), facts.join(" and ")),
        );
        value["kinds"] = json!(kinds);
        value["facts"] = json!(facts);
    }
    if authority.role == AuthorityRole::Root {
        let (devices, have) = ward.store.equipped_since(&authority.name)?;
        value["devices"] = json!(devices);
        value["devices_with_it"] = json!(have);
        let count = usize::try_from(devices).unwrap_or(usize::MAX);
        line("known to", format!("{have} of {}, which got an outfit since it was added", counted(count, "device")));
        let without = ward.store.unequipped_since(&authority.name, HURT)?;
        if !without.is_empty() && authority.retired.is_none() {
            let some: Vec<String> = without.iter().map(ToString::to_string).collect();
            line("lacked by", format!("{}; authority show {name} --missing lists all", some.join(", ")));
        }
    } else {
        let count = usize::try_from(signed.all).unwrap_or(usize::MAX);
        line("signed", format!("{} for devices, {} of them may sign in", counted(count, "certificate"), signed.usable));
        if authority.role == AuthorityRole::Devices && authority.retired.is_none() {
            let (count, some) = ward.store.view(|view| leaning_on(view, &authority.name, HURT, ward.now()))?;
            value["devices_that_need_it"] = json!(count);
            let hurt = counted(usize::try_from(count).unwrap_or(usize::MAX), "device");
            line(
                "if retired",
                match count {
                    0 => "nobody would be kept out".to_owned(),
                    _ => format!(
                        "{hurt} could not sign in any more, such as {}; first: rotation prepare NAME --where ... --signed-by {}",
                        some.join(", "),
                        authority.name
                    ),
                },
            );
        }
        line("last ends", signed.last_end.map_or_else(|| "-".to_owned(), |end| end.to_string()));
    }
    if authority.key != KeyPlace::Nowhere {
        line("CRL", crl_state(&authority));
    }
    if let Some(since) = authority.retired {
        line("retired", format!("since {since}: nothing that leads only to it is taken"));
    }
    context.console.show("tidy-warden/authority/1", value, &text)?;
    Ok(Exit::Done)
}

fn signs(role: AuthorityRole) -> &'static str {
    match role {
        AuthorityRole::Root => "authorities",
        AuthorityRole::Devices => "devices",
        AuthorityRole::Service => "guards and desks",
        AuthorityRole::Foreign => "devices, elsewhere",
    }
}

fn key_place(key: &KeyPlace) -> String {
    match key {
        KeyPlace::Ward => "locked in the ward".to_owned(),
        KeyPlace::Away => "kept away from the ward".to_owned(),
        KeyPlace::Token { token, label } => format!("`{label}` on the token `{token}`"),
        KeyPlace::Nowhere => "not held here".to_owned(),
    }
}

fn crl_state(authority: &AuthorityRecord) -> String {
    match (authority.crl_at, authority.crl_pending) {
        (Some(at), false) => format!("number {}, of {at}", authority.crl_number),
        (Some(at), true) => format!("number {}, of {at}; something was revoked since: run crl", authority.crl_number),
        (None, false) => "none yet".to_owned(),
        (None, true) => "none yet, and something was revoked: run crl".to_owned(),
    }
}

fn retire(context: &Context<'_>, name: &str, anyway: bool, yes: bool, because: Option<&str>) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let authority = ward.named_authority(&parse(name)?)?;
    let name = &authority.name;
    if authority.retired.is_some() {
        let value = json!({ "authority": name, "retired": false });
        context.console.did("tidy-warden/authority-retire/1", value, format!("`{name}` is retired already"))?;
        return Ok(Exit::Done);
    }
    let refused = |why: String| Problem::refused(format!("`{name}` was not retired")).because(why);
    let others = ward.authorities(authority.role)?.len() - 1;
    if authority.role != AuthorityRole::Foreign && others == 0 {
        return Err(
            refused("the ward cannot do without it".to_owned()).next("authority add NAME puts another beside it")
        );
    }
    if !anyway {
        let servers = ward.store.servers()?.into_iter();
        let theirs = servers.filter(|server| server.certificate.issuer == authority.certificate.subject);
        let theirs: Vec<String> = theirs.map(|server| server.name).collect();
        if authority.role == AuthorityRole::Service && !theirs.is_empty() {
            return Err(refused(format!("{} still show certificates of it", theirs.join(", ")))
                .next("post renew NAME gives each one of the newest authority for services"));
        }
        let left = ward.store.signed_by(name, ward.now())?.usable;
        if left > 0 {
            let count = counted(usize::try_from(left).unwrap_or(usize::MAX), "certificate");
            return Err(refused(format!("{count} of it may still sign in"))
                .next("replace them first, or add --anyway to shut those devices out"));
        }
        let orphans = orphans(&ward, &authority)?;
        if !orphans.is_empty() {
            return Err(refused(format!("{} would lead to no root any more", orphans.join(", ")))
                .next("replace what it signed first, or add --anyway"));
        }
        if authority.role == AuthorityRole::Root {
            let newest = ward.roots()?.into_iter().rfind(|root| root.name != *name);
            if let Some(newest) = newest {
                let (devices, have) = ward.store.equipped_since(&newest.name)?;
                if have < devices {
                    return Err(refused(format!("only {have} of {devices} devices are known to have another root"))
                        .next(
                            "give the others new outfits first, or add --anyway: they may not trust the guard then",
                        ));
                }
            }
        }
    }
    context.console.confirm(&format!("Stop trusting `{name}`?"), yes)?;
    let cause = ward.cause(because);
    ward.store.retire_authority(name, &cause)?;
    let note = format!("retired `{name}`; a running guard follows within a second");
    context.console.did("tidy-warden/authority-retire/1", json!({ "authority": name, "retired": true }), note)?;
    Ok(Exit::Done)
}

fn authority_json(authority: &AuthorityRecord) -> Value {
    let certificate = &authority.certificate;
    json!({
        "name": authority.name, "role": authority.role.as_str(), "subject": certificate.subject_text,
        "key": certificate.public_key.key_type().to_string(), "fingerprint": certificate.fingerprint.to_string(),
        "serial": certificate.serial.to_string(), "ends": certificate.not_after,
        "key_place": key_place(&authority.key), "created": authority.created, "retired": authority.retired,
        "replaces": authority.replaces, "crl_number": authority.crl_number, "crl_at": authority.crl_at, "crl_pending": authority.crl_pending,
    })
}

fn export(
    context: &Context<'_>,
    out: Option<&std::path::Path>,
    jwks: Option<&std::path::Path>,
) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    if let Some(path) = jwks {
        let signers = ward.store.signers()?;
        let keys: Vec<_> = signers.iter().filter(|each| each.retired.is_none()).map(|each| &each.key).collect();
        let text = tidy_warden_core::token::key_set(&keys);
        files::replace(path, text.as_bytes()).map_err(|error| Problem::file("write", path, &error))?;
        context.console.note(format!("wrote {}", path.display()));
    }
    let Some(out) = out else { return Ok(Exit::Done) };
    let mut authorities = ward.store.authorities()?;
    authorities.retain(|each| each.retired.is_none() && each.role != AuthorityRole::Foreign);
    std::fs::create_dir_all(out).map_err(|error| Problem::file("make", out, &error))?;
    let pem = |wanted: fn(AuthorityRole) -> bool| -> String {
        authorities.iter().filter(|each| wanted(each.role)).map(|each| each.certificate.to_pem()).collect()
    };
    for (name, text) in [
        ("root.pem", pem(|role| role == AuthorityRole::Root)),
        ("issuing.pem", pem(|role| role != AuthorityRole::Root)),
    ] {
        let path = out.join(name);
        files::replace(&path, text.as_bytes()).map_err(|error| Problem::file("write", &path, &error))?;
        context.console.note(format!("wrote {}", path.display()));
    }
    for root in authorities.iter().filter(|each| each.role == AuthorityRole::Root) {
        context.console.note(format!("compare the root's SHA-256: {}", root.certificate.fingerprint));
    }
    Ok(Exit::Done)
}
