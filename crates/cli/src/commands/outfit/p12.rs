//! `outfit show --as p12`: the key of an outfit and its certificates in one locked file.

use std::io::IsTerminal;
use std::path::Path;

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{Signer, SoftwareKey};
use tidy_warden_core::pkcs12::{self, Unwritten};
use tidy_warden_ward::clock::SystemRandom;
use zeroize::Zeroizing;

use super::forms::Shown;
use crate::args::ShowOutfitArgs;
use crate::commands::Context;
use crate::files::{self, Access};
use crate::passphrase::{self, Typed};
use crate::problem::{Exit, Problem};

/// The largest file of a key.
const MAX_KEY: u64 = 64 * 1024;

pub(super) fn write(
    context: &Context<'_>,
    args: &ShowOutfitArgs,
    id: &DeviceId,
    shown: &Shown,
) -> Result<Exit, Problem> {
    let refused = || Problem::refused(format!("no PKCS#12 file was written for `{id}`"));
    if args.token.is_some() {
        return Err(Problem::usage("a PKCS#12 file holds no token").next("leave --token out, or take another form"));
    }
    let Some(path) = &args.out else {
        return Err(Problem::usage("a PKCS#12 file holds a private key and is not text").next("--out FILE"));
    };
    let folder = match &shown.folder {
        Some((folder, true)) => Path::new(folder),
        Some((_, false)) => {
            return Err(refused()
                .because("its private key is not in that folder: the device made it, and has it")
                .next("--outfit DIR, with the folder that has device.key"));
        }
        None => return Err(refused().because("its private key is not at hand").next("--outfit DIR")),
    };
    let Some(device_pem) = &shown.device_pem else {
        return Err(refused()
            .because("it has no certificate of this ward that may sign in")
            .next(format!("enroll {id} --make-key --out DIR")));
    };
    let place = folder.join("device.key");
    let octets = Zeroizing::new(files::read(&place, MAX_KEY)?);
    let key = SoftwareKey::from_pkcs8_pem(&octets)
        .map_err(|error| refused().because(format!("{}: {error}", place.display())))?;
    let all = [device_pem.as_str(), &shown.chain_pem, &shown.root_pem].concat();
    let all = Certificate::read_all(all.as_bytes())
        .map_err(|error| Problem::failed("the certificates of the ward cannot be read").because(error))?;
    if all.first().is_none_or(|own| own.public_key != *key.public_key()) {
        return Err(refused()
            .because(format!("the key in {} is not that of its newest certificate", folder.display()))
            .next("name the folder of its newest outfit: --outfit DIR"));
    }
    let passphrase = passphrase_of_file(context, args)?;
    let text = std::str::from_utf8(&passphrase).map_err(|_| refused().because(Unwritten::Passphrase))?;
    let ders: Vec<&[u8]> = all.iter().map(Certificate::der).collect();
    let octets = pkcs12::write(&key, &ders, id.as_str(), text, &mut SystemRandom).map_err(|why| match why {
        Unwritten::Passphrase => refused().because(why).next("choose one of letters, digits, blanks and ASCII signs"),
        why => refused().because(why),
    })?;
    files::create(path, &octets, Access::Secret).map_err(|error| Problem::file("write", path, &error))?;
    let value = json!({ "device": id, "file": path.display().to_string(), "certificates": ders.len() });
    let text = format!("wrote {}: the key of {id} with {} certificates, locked\n", path.display(), ders.len());
    context.console.show("tidy-warden/outfit-p12/1", value, &text)?;
    context
        .console
        .note("whoever has the file can try passphrases on it: hand it over by another way than its passphrase");
    Ok(Exit::Done)
}

/// The passphrase of the new file; none of the ward's is taken for it.
fn passphrase_of_file(context: &Context<'_>, args: &ShowOutfitArgs) -> Result<passphrase::Passphrase, Problem> {
    let file = args.p12_passphrase_file.as_deref();
    if file.is_none() && !std::io::stdin().is_terminal() {
        return Err(Problem::usage("the passphrase of the new file is needed, and there is no terminal to ask on")
            .next("give --p12-passphrase-file FILE, or set TIDY_WARDEN_P12_PASSPHRASE_FILE"));
    }
    let found = passphrase::get(file, "the PKCS#12 file", Typed::Twice, context.console)?;
    passphrase::strong_enough(&found, "the PKCS#12 file")?;
    Ok(found)
}
