//! `store backup` and `store restore`.

use std::io::IsTerminal;
use std::path::Path;

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::key::SoftwareKey;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::Source;
use tidy_warden_ward::backup::{self, Backup, Done, Lock};

use crate::commands::Context;
use crate::files;
use crate::passphrase::{self, Passphrase, Typed};
use crate::problem::{Exit, Problem};
use crate::ward::{SETTINGS, StorePlace, actor, read_settings_text};

/// The largest file of a key or a certificate.
const MAX_FILE: u64 = 64 * 1024;

/// What opens a backup.
pub(super) struct Unlock<'a> {
    pub(super) key: Option<&'a Path>,
    pub(super) passphrase: Option<&'a Path>,
}

/// The backup's own passphrase; none of the ward's is taken for it.
fn of_backup(file: Option<&Path>, typed: Typed, context: &Context<'_>) -> Result<Passphrase, Problem> {
    if file.is_none() && !std::io::stdin().is_terminal() {
        return Err(Problem::usage("the backup's passphrase is needed, and there is no terminal to ask on").next(
            "give --backup-passphrase-file FILE or set TIDY_WARDEN_BACKUP_PASSPHRASE_FILE; or seal it: --to-cert FILE",
        ));
    }
    passphrase::get(file, "the backup", typed, context.console)
}

pub(super) fn make(
    context: &Context<'_>,
    out: &Path,
    to_cert: Option<&Path>,
    passphrase_file: Option<&Path>,
    whole: bool,
) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    let began = std::time::Instant::now();
    let typed;
    let lock = match to_cert {
        Some(path) => {
            let all = Certificate::read_all(&files::read(path, MAX_FILE)?).ok().and_then(|all| all.into_iter().next());
            let certificate =
                all.ok_or_else(|| Problem::refused(format!("{} holds no certificate", path.display())))?;
            Lock::Key(certificate.public_key)
        }
        None => {
            typed = of_backup(passphrase_file, Typed::Twice, context)?;
            passphrase::strong_enough(&typed, "the backup")?;
            Lock::Passphrase(&typed)
        }
    };
    let done = backup::write(&ward, out, &lock, whole)?;
    let octets = std::fs::metadata(out).map_or(0, |found| found.len());
    let mut value = described(&done);
    value["file"] = out.display().to_string().into();
    value["bytes"] = octets.into();
    let text = format!(
        "backup   {}\nsize     {}\nends     with entry {}\nholds    {} rows{}\nin       {:.1} s\n",
        out.display(),
        super::mebibytes(octets),
        done.header.entries,
        done.contents.rows,
        if whole { format!(", {} files: settings, policies, locked keys", done.files) } else { String::new() },
        began.elapsed().as_secs_f64(),
    );
    context.console.show("tidy-warden/store-backup/1", value, &text)?;
    if !whole {
        context
            .console
            .note("settings, policies and keys are not in it: keep the ward's folder too, or make one with --whole");
    }
    Ok(Exit::Done)
}

fn described(done: &Done) -> serde_json::Value {
    json!({
        "ward": done.header.ward, "made": done.header.at, "entries": done.header.entries, "head": done.header.head,
        "whole": done.header.whole, "rows": done.contents.rows,
        "sha256": data_encoding::HEXLOWER.encode(&done.contents.digest), "files": done.files,
    })
}

/// The private key that opens a backup.
fn private_key(backup: &Backup, unlock: &Unlock<'_>, context: &Context<'_>) -> Result<SoftwareKey, Problem> {
    let open = |pem: &str, what: &str| {
        let passphrase = of_backup(unlock.passphrase, Typed::Once, context)?;
        SoftwareKey::open(pem.trim_end(), &passphrase).map_err(|error| {
            Problem::failed(format!("cannot open {what}")).because(error).next("try another passphrase")
        })
    };
    match (&backup.header.locked_key, unlock.key) {
        (Some(locked), None) => open(locked, "the backup"),
        (Some(_), Some(_)) => {
            Err(Problem::usage("this backup is opened by a passphrase, and by no key").next("leave --key away"))
        }
        (None, None) => Err(Problem::usage("this backup is sealed to the key of a certificate")
            .next("name its private key: --key FILE")),
        (None, Some(path)) => {
            let octets = zeroize::Zeroizing::new(files::read(path, MAX_FILE)?);
            let bad =
                || Problem::refused(format!("{} holds no private key", path.display())).next("name a file in PEM");
            let pem = std::str::from_utf8(&octets).map_err(|_| bad())?;
            if pem.contains("ENCRYPTED PRIVATE KEY") {
                return open(pem, &path.display().to_string());
            }
            SoftwareKey::from_pkcs8_pem(&octets).map_err(|error| bad().because(error))
        }
    }
}

pub(super) fn put_back(
    context: &Context<'_>,
    file: &Path,
    unlock: &Unlock<'_>,
    to: Option<(&str, Option<&Path>)>,
    anyway: bool,
    (yes, because): (bool, Option<&str>),
) -> Result<Exit, Problem> {
    let (console, began) = (context.console, std::time::Instant::now());
    let opened = backup::open(file)?;
    let key = private_key(&opened, unlock, context)?;
    let text = match context.dir.join(SETTINGS).exists() {
        true => Some(read_settings_text(&context.dir)?),
        false => backup::settings_text(backup::open(file)?, &key)?,
    };
    let place = match (to, &text) {
        (Some((to, password)), _) => StorePlace::named(to, &context.dir, password)?,
        (None, Some(text)) => {
            let settings = Settings::parse(&Source::new(SETTINGS, text))
                .map_err(|errors| Problem::text(format!("{SETTINGS} has mistakes"), &errors))?;
            StorePlace::of(&context.dir, &settings.store)?
        }
        (None, None) => StorePlace::named("file", &context.dir, None)?,
    };
    let seen = super::seen(&context.dir)?;
    let seen = seen.into_iter().map(|(_, head)| (head.number, head.hash)).max();
    let target = backup::target(&opened, &context.dir, place.clone(), &seen)?;
    let header = opened.header.clone();
    console.note(format!(
        "this backup of {} was made at {} and ends with entry {}\nwhat was done after it, revocations among it, is not in it",
        header.ward, header.at, header.entries
    ));
    let mut reason = because.unwrap_or_default().to_owned();
    if let Some(back) = &target.back {
        console.note(format!("it goes back in time: {back}"));
        if !anyway {
            return Err(Problem::refused(format!("{} was not put back", file.display()))
                .because(back)
                .next("take a newer one; or --anyway, and then nobody is let in until `store accept`"));
        }
        reason = console.reason(because)?;
    }
    console.confirm(&format!("Put the ward back into {place}?"), yes)?;
    let done = backup::restore(opened, &key, &target, (&actor(), &reason))?;
    let mut value = described(&done);
    value["place"] = place.to_string().into();
    value["back"] = target.back.is_some().into();
    let text = format!(
        "put back  {place}\nends      with entry {}, and one that tells of this\nholds     {} rows, compared; the audit record whole\nin        {:.1} s\n",
        done.header.entries,
        done.contents.rows,
        began.elapsed().as_secs_f64(),
    );
    console.show("tidy-warden/store-restore/1", value, &text)?;
    if done.files > 0 {
        console.note(format!("wrote {} files of the ward into {}", done.files, context.dir.display()));
    }
    if let (Some(_), StorePlace::Database(_)) = (to, &place) {
        console.note(format!(
            "next: put this into {}:\n      [store]\n      url = \"{place}\"",
            context.dir.join(SETTINGS).display()
        ));
    }
    if target.back.is_some() {
        console.note("open admissions, claim codes and offers to other owners ended, and every owner is signed out");
        console.note("nobody is let in by it yet. Revoke, hold and block again what was since; then: store accept");
    }
    Ok(Exit::Done)
}
