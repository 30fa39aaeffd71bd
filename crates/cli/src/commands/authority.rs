//! `authority`: the ward's certificate authorities.

use serde_json::{Value, json};
use tidy_warden_core::id::AuthorityName;
use tidy_warden_store::{AuthorityRecord, AuthorityRole, Store};

use super::Context;
use crate::args::AuthorityCommand;
use crate::console::{Listing, counted};
use crate::edge::parse;
use crate::files;
use crate::problem::{Exit, Problem};

pub(crate) fn run(context: &Context<'_>, command: &AuthorityCommand) -> Result<Exit, Problem> {
    match command {
        AuthorityCommand::List => list(context),
        AuthorityCommand::Show { authority } => show(context, authority),
        AuthorityCommand::Export { out } => export(context, out),
    }
}

fn list(context: &Context<'_>) -> Result<Exit, Problem> {
    let authorities = context.ward()?.store.authorities()?;
    let columns = ["name", "signs", "subject", "key", "ends", "crl"];
    let mut items = Vec::new();
    let mut rows = Vec::new();
    for authority in &authorities {
        let certificate = &authority.certificate;
        let signs = match authority.role {
            AuthorityRole::Root => "authorities",
            AuthorityRole::Devices => "devices",
            AuthorityRole::Service => "guard and desk",
        };
        let crl = match (authority.crl_number, authority.crl_pending) {
            (0, false) => "none yet".to_owned(),
            (0, true) => "none yet, pending".to_owned(),
            (number, true) => format!("number {number}, pending"),
            (number, false) => format!("number {number}"),
        };
        items.push(authority_json(authority));
        rows.push(vec![
            authority.name.to_string(),
            signs.to_owned(),
            certificate.subject_text.clone(),
            certificate.public_key.key_type().to_string(),
            certificate.not_after.date(),
            crl,
        ]);
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

fn show(context: &Context<'_>, name: &str) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let wanted: AuthorityName = parse(name)?;
    let found = ward.store.authorities()?.into_iter().find(|each| each.name == wanted);
    let authority =
        found.ok_or_else(|| Problem::not_found(format!("there is no authority `{wanted}`")).next("authority list"))?;
    let certificate = &authority.certificate;
    let signed = ward.store.signed_by(&authority.name, ward.now())?;
    let last_end = signed.last_end.map_or_else(|| "-".to_owned(), |end| end.to_string());
    let crl = match (authority.crl_at, authority.crl_pending) {
        (Some(at), false) => format!("number {}, of {at}", authority.crl_number),
        (Some(at), true) => format!("number {}, of {at}; something was revoked since: run crl", authority.crl_number),
        (None, false) => "none yet".to_owned(),
        (None, true) => "none yet, and something was revoked: run crl".to_owned(),
    };
    let path_length = certificate.basic_constraints.as_ref().and_then(|basic| basic.path_len_constraint);
    let text = format!(
        "authority    {}\nsubject      {}\nkey          {}\nSHA-256      {}\nserial       {}\nvalid        {} to {}\n\
         below it     {}\nsigned       {} for devices, {} of them may sign in\nlast ends    {last_end}\nCRL          {crl}\n",
        authority.name,
        certificate.subject_text,
        certificate.public_key.key_type(),
        certificate.fingerprint,
        certificate.serial,
        certificate.not_before,
        certificate.not_after,
        path_length.map_or_else(|| "authorities without limit".to_owned(), |limit| format!("path length {limit}")),
        counted(usize::try_from(signed.all).unwrap_or(usize::MAX), "certificate"),
        signed.usable,
    );
    let mut value = authority_json(&authority);
    value["begins"] = json!(certificate.not_before);
    value["path_length"] = json!(path_length);
    value["signed"] = json!(signed.all);
    value["usable"] = json!(signed.usable);
    value["last_end"] = json!(signed.last_end);
    context.console.show("tidy-warden/authority/1", value, &text)?;
    Ok(Exit::Done)
}

fn authority_json(authority: &AuthorityRecord) -> Value {
    let certificate = &authority.certificate;
    json!({
        "name": authority.name, "role": authority.role.as_str(), "subject": certificate.subject_text,
        "key": certificate.public_key.key_type().to_string(), "fingerprint": certificate.fingerprint.to_string(),
        "serial": certificate.serial.to_string(), "ends": certificate.not_after,
        "crl_number": authority.crl_number, "crl_at": authority.crl_at, "crl_pending": authority.crl_pending,
    })
}

fn export(context: &Context<'_>, out: &std::path::Path) -> Result<Exit, Problem> {
    let authorities = context.ward()?.store.authorities()?;
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
