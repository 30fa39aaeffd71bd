//! Making a backup.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use data_encoding::{BASE64, HEXLOWER};
use serde_json::{Value, json};
use tidy_warden_core::key::{NewKey, PublicKey, Signer, SoftwareKey};
use tidy_warden_core::seal::{ContentKey, SealedWriter, seal_to};
use tidy_warden_store::StoreError;
use tidy_warden_store::copy::{Cell, Copied, Count, TABLES, Total, Whole, each_row};

use super::{Done, Header, MAGIC, PURPOSE};
use crate::clock::SystemRandom;
use crate::files;
use crate::keys::Passphrase;
use crate::open::{KEYS, MAX_TEXT, POLICIES, SETTINGS, Ward, policy_paths};
use crate::problem::Problem;

/// What a backup is sealed to.
#[derive(Debug)]
pub enum Lock<'a> {
    /// Whoever knows this.
    Passphrase(&'a Passphrase),
    /// Whoever has the private key.
    Key(PublicKey),
}

fn value(cell: &Cell) -> Value {
    match cell {
        Cell::Null => Value::Null,
        Cell::Integer(number) => json!(number),
        Cell::Text(text) => json!(text),
        Cell::Octets(octets) => json!({ "octets": BASE64.encode(octets) }),
    }
}

/// The ward's files that belong into a backup, by their names in its folder: no outfit, no log, no secret that is not locked.
fn ward_files(dir: &Path) -> Result<Vec<String>, Problem> {
    let mut names = vec![SETTINGS.to_owned()];
    for path in policy_paths(&dir.join(POLICIES))? {
        names.extend(path.file_name().map(|name| format!("{POLICIES}/{}", name.to_string_lossy())));
    }
    let keys = dir.join(KEYS);
    let failed = |error: io::Error| Problem::file("read", &keys, &error);
    let mut locked = Vec::new();
    for entry in std::fs::read_dir(&keys).map_err(failed)? {
        let name = entry.map_err(failed)?.file_name();
        let name = name.to_string_lossy();
        if name.ends_with(".key") && !name.starts_with('.') {
            locked.push(format!("{KEYS}/{name}"));
        }
    }
    locked.sort();
    names.extend(locked);
    Ok(names)
}

/// Makes a backup of a ward as it is at one moment, while others go on writing.
pub fn write(ward: &Ward, out: &Path, lock: &Lock<'_>, whole: bool) -> Result<Done, Problem> {
    if out.symlink_metadata().is_ok() {
        return Err(Problem::file("write", out, &io::ErrorKind::AlreadyExists.into()));
    }
    let cost = |error: &dyn std::fmt::Display| Problem::failed("the backup cannot be sealed").because(error);
    let (to, locked_key) = match lock {
        Lock::Key(to) => (to.clone(), None),
        Lock::Passphrase(passphrase) => {
            let key = SoftwareKey::generate(NewKey::P256).map_err(|error| cost(&error))?;
            let locked = key.lock(passphrase, ward.lock_cost(), &mut SystemRandom).map_err(|error| cost(&error))?;
            (key.public_key().clone(), Some(locked))
        }
    };
    let (ephemeral, content_key) = seal_to(&to, PURPOSE).ok_or_else(|| {
        Problem::refused("a backup cannot be sealed to this key")
            .because(format!("its type is {}", to.key_type()))
            .next("name a certificate with a key of type p256 or p384")
    })?;
    let names = if whole { ward_files(&ward.dir)? } else { Vec::new() };
    let partial = files::partial(out, "backup");
    // What an earlier try left is of no use.
    let _ = std::fs::remove_file(&partial);
    let failed = |error: io::Error| Problem::file("write", out, &error);
    let store = ward.place.open_whole()?;
    let result = (|| {
        let file =
            std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&partial).map_err(failed)?;
        let mut made = None;
        store.snapshot(&mut |store| {
            let (entries, head) = store.audit_end()?;
            let header = Header {
                ward: ward.record.urn.clone(),
                at: ward.now(),
                entries,
                head: HEXLOWER.encode(&head),
                whole,
                to: BASE64.encode(to.spki()),
                ephemeral: BASE64.encode(&ephemeral),
                locked_key: locked_key.clone(),
            };
            made = Some(stream(&file, &header, &content_key, (ward, &names), store).map(|contents| (header, contents)));
            Ok(())
        })?;
        let made = made.ok_or_else(|| Problem::failed("the backup was not made"))?;
        let (header, contents) = made.map_err(|error| {
            Problem::failed("the backup was not made")
                .because(error)
                .next("see that there is room for it, then do it again")
        })?;
        file.sync_all().map_err(failed)?;
        std::fs::rename(&partial, out).map_err(failed)?;
        files::sync_folder(out.parent()).map_err(failed)?;
        Ok(Done { header, contents, files: names.len() })
    })();
    if result.is_err() {
        let _ = std::fs::remove_file(&partial);
    }
    result
}

/// Writes all of a backup; gives what rows are in it.
fn stream(
    file: &File,
    header: &Header,
    content_key: &ContentKey,
    (ward, names): (&Ward, &[String]),
    store: &dyn Whole,
) -> io::Result<Copied> {
    let above = format!("{MAGIC}{}\n", serde_json::to_string(header).map_err(io::Error::other)?);
    let mut file = BufWriter::new(file);
    file.write_all(above.as_bytes())?;
    let sealed = SealedWriter::new(file, content_key, above.as_bytes())?;
    let mut stream = zstd::stream::Encoder::new(sealed, 3)?;
    for name in names {
        let octets =
            files::read(&ward.dir.join(name), MAX_TEXT).map_err(|problem| io::Error::other(problem.in_one_line()))?;
        writeln!(stream, "{}", json!(["file", name, BASE64.encode(&octets)]))?;
    }
    let mut total = Total::default();
    for table in &TABLES {
        let mut count = Count::default();
        each_row(store, table, &mut |row| {
            count.add(row);
            let mut line = vec![json!("row"), json!(table.name)];
            line.extend(row.iter().map(value));
            writeln!(stream, "{}", Value::Array(line)).map_err(StoreError::Delivery)
        })
        .map_err(io::Error::other)?;
        total.add(&count.finish());
    }
    let contents = total.finish();
    writeln!(stream, "{}", json!(["end", contents.rows, HEXLOWER.encode(&contents.digest)]))?;
    stream.finish()?.finish()?.flush()?;
    Ok(contents)
}
