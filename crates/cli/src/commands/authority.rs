//! `authority`: the ward's certificate authorities.

use serde_json::json;
use tidy_warden_store::{AuthorityRole, Store};

use super::Context;
use crate::args::AuthorityCommand;
use crate::console::Listing;
use crate::files;
use crate::problem::{Exit, Problem};

pub(crate) fn run(context: &Context<'_>, command: &AuthorityCommand) -> Result<Exit, Problem> {
    match command {
        AuthorityCommand::List => list(context),
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
        items.push(json!({
            "name": authority.name, "role": authority.role.as_str(), "subject": certificate.subject_text,
            "key": certificate.public_key.key_type().to_string(), "fingerprint": certificate.fingerprint.to_string(),
            "serial": certificate.serial.to_string(), "ends": certificate.not_after,
            "crl_number": authority.crl_number, "crl_at": authority.crl_at, "crl_pending": authority.crl_pending,
        }));
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
