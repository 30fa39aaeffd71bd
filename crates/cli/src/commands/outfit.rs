//! `outfit show`: all that one needs to type for a device to connect, in one place.

mod forms;
mod p12;

use std::path::{Path, PathBuf};

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::device::DeviceState;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::Span;
use tidy_warden_core::token::Form;
use tidy_warden_store::DeviceView;
use tidy_warden_ward::issue::press::Mint;
use tidy_warden_ward::issue::refresh::signed_by;
use tidy_warden_ward::token::{Wish, issue};

use super::Context;
use crate::args::{OutfitForm, ShowOutfitArgs};
use crate::edge::parse;
use crate::files::{self, Access};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;
use forms::{Shown, With};

pub(crate) fn show(context: &Context<'_>, args: &ShowOutfitArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let mut ward = context.ward()?;
    let id: DeviceId = parse(&args.device)?;
    let view = ward.device(&id)?;
    if let Some(path) = args.out.as_ref().filter(|path| path.symlink_metadata().is_ok()) {
        return Err(Problem::refused(format!("the outfit of `{id}` was not shown"))
            .because(format!("{} exists already", path.display()))
            .next("name another file: --out FILE"));
    }
    if args.token.is_some() && args.out.is_none() {
        return Err(Problem::usage("a token is a secret, and is not shown on a terminal or in a pipe by accident")
            .next("--out FILE, which only its owner can read"));
    }
    let mut shown = shown(&ward, &view, args.outfit.as_deref())?;
    if args.form == OutfitForm::P12 {
        return p12::write(context, args, &id, &shown);
    }
    // Before a token is made: what cannot be shown makes none.
    if args.form == OutfitForm::Mosquitto && args.token.is_none() {
        proved(&id, &shown)?;
    }
    if let Some(life) = &args.token {
        let wish = Wish {
            life: parse::<Span>(life)?,
            begins: None,
            audience: None,
            scope: None,
            bind: None,
            form: Form::Jwt,
            key: None,
        };
        let made = issue(&mut ward, &id, &wish, &context.secrets(), args.because.text())?;
        shown.token = Some(String::from_utf8_lossy(&made.octets).into_owned());
    }
    let text = match args.form {
        OutfitForm::Card => forms::card(&shown),
        OutfitForm::Header => forms::header(&shown),
        OutfitForm::Env => forms::env(&shown),
        OutfitForm::Mosquitto => forms::mosquitto(&shown, &proved(&id, &shown)?),
        OutfitForm::Connect => {
            let text = serde_json::to_string_pretty(&shown.connect);
            text.map_err(|error| Problem::failed("cannot write connect.json").because(error))? + "\n"
        }
        // It is no text, and was written above.
        OutfitForm::P12 => String::new(),
    };
    let value = json!({
        "device": shown.connect.device, "host": shown.connect.host, "port": shown.connect.port,
        "client_id": shown.connect.client_id, "user_name": shown.connect.user_name, "publish": shown.connect.publish,
        "publish_qos": shown.connect.publish_qos, "subscribe": shown.connect.subscribe,
        "root_fingerprint": shown.connect.root_fingerprint, "root_pem": shown.root_pem, "device_pem": shown.device_pem,
        "chain_pem": shown.chain_pem, "password": shown.token, "folder": shown.folder.as_ref().map(|(folder, _)| folder),
        "key_is_there": shown.folder.as_ref().is_some_and(|(_, key)| *key),
    });
    let Some(path) = &args.out else {
        console.show("tidy-warden/outfit-show/1", value, &text)?;
        return Ok(Exit::Done);
    };
    let text = match console.is_for_people() {
        true => text,
        false => {
            let mut document = json!({ "schema": "tidy-warden/outfit-show/1" });
            if let (Some(document), serde_json::Value::Object(fields)) = (document.as_object_mut(), value) {
                document.extend(fields);
            }
            document.to_string() + "\n"
        }
    };
    files::create(path, text.as_bytes(), Access::Secret).map_err(|error| Problem::file("write", path, &error))?;
    console.note(format!("wrote {}", path.display()));
    Ok(Exit::Done)
}

/// How the device proves who it is by what is at hand.
fn proved<'s>(id: &DeviceId, shown: &'s Shown) -> Result<With<'s>, Problem> {
    if let Some(token) = &shown.token {
        return Ok(With::Token(token));
    }
    match shown.folder {
        Some((_, true)) => Ok(With::Certificate),
        _ => {
            let problem = Problem::refused(format!("these options for `{id}` are not complete"));
            let (because, next) = match (&shown.folder, shown.token_login) {
                (Some(_), _) => {
                    ("its private key is not in that folder", "add the folder that has device.key: --outfit DIR")
                }
                (None, true) => {
                    ("neither its private key nor a token is at hand", "add --outfit DIR, or --token 8h --out FILE")
                }
                (None, false) => ("its private key is not at hand", "add the folder with its outfit: --outfit DIR"),
            };
            Err(problem.because(because).next(next))
        }
    }
}

/// What is public, from the ward; and where the outfit stands, if it was named.
fn shown(ward: &Ward, view: &DeviceView, outfit: Option<&Path>) -> Result<Shown, Problem> {
    let (id, now) = (&view.device.id, ward.now());
    let mint = Mint::new(ward)?;
    let connect = mint.connect(&view.device);
    let authorities = ward.store.authorities()?;
    let authority = signed_by(view, now).and_then(|name| authorities.into_iter().find(|each| each.name == name));
    let (chain_pem, root_pem) = match &authority {
        Some(authority) => {
            let (chain, roots) = mint.chains(authority);
            (chain, roots.to_owned())
        }
        None => (String::new(), ward.roots()?.iter().map(|root| root.certificate.to_pem()).collect()),
    };
    let device_pem = match &authority {
        Some(authority) => {
            let its = |each: &&tidy_warden_core::credential::CredentialRecord| {
                each.authority.as_ref() == Some(&authority.name) && each.may_sign_in(now).is_ok()
            };
            let newest = view.credentials.iter().find(its).map(|each| each.fingerprint);
            let der = newest.map(|newest| ward.store.credential_der(&newest)).transpose()?.flatten();
            der.and_then(|der| Certificate::from_der(&der).ok()).map(|certificate| certificate.to_pem())
        }
        None => None,
    };
    let folder = outfit.map(|folder| place(folder, id)).transpose()?;
    Ok(Shown {
        token_login: ward.settings.kind(&view.device.kind).is_ok_and(|kind| kind.token_login),
        kind: view.device.kind.to_string(),
        state: DeviceState::of(&view.device, &view.credentials, now).as_str(),
        ward: ward.settings.name.clone(),
        connect,
        root_pem,
        chain_pem,
        device_pem,
        folder,
        token: None,
    })
}

/// The folder of a device's outfit, or the one that holds it beside others, and whether its key is there.
fn place(folder: &Path, id: &DeviceId) -> Result<(String, bool), Problem> {
    let own = if folder.join("connect.json").exists() { folder.to_owned() } else { folder.join(id.as_str()) };
    let read = files::read_text(&own.join("connect.json"), 1024 * 1024)?;
    let named = serde_json::from_str::<tidy_warden_core::outfit::Connect>(&read).map(|connect| connect.device);
    if named.as_deref().ok() != Some(id.as_str()) {
        return Err(Problem::refused(format!("{} is not the outfit of `{id}`", own.display()))
            .because("its connect.json names another device, or none")
            .next("--outfit DIR"));
    }
    let absolute: PathBuf = std::path::absolute(&own).map_err(|error| Problem::file("find", &own, &error))?;
    Ok((absolute.display().to_string(), own.join("device.key").exists()))
}
