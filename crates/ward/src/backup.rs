//! Backups: a whole ward in one sealed file, and put back from it.
//!
//! The file: a line `tidy-warden backup 1`, a line of JSON that anybody may read (whose it is, of when, where its record ends, how its
//! key is found), then a sealed stream ([`tidy_warden_core::seal`]) bound to both lines. In the stream, compressed with Zstandard (RFC
//! 8878), stands a line of JSON for each file (`["file", NAME, CONTENT]`) and each row (`["row", TABLE, CELLS...]`), then one that says
//! how many rows there were and the digest over all of them (`["end", ROWS, SHA256]`). Octets are `{"octets": BASE64}`.

use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Read, Write};
use std::ops::ControlFlow;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use data_encoding::{BASE64, HEXLOWER};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use tidy_warden_core::key::{NewKey, PublicKey, Signer, SoftwareKey};
use tidy_warden_core::seal::{SealedReader, SealedWriter, seal_to, unseal};
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_store::copy::{Cell, Copied, CopyError, Row, TABLES, Table, Whole, contents, each_row, whole_record};
use tidy_warden_store::{Cause, Fate, OperatorStore, SqliteStore, Store, StoreError};

use crate::clock::{SystemRandom, WardClock};
use crate::files::{self, Access};
use crate::keys::Passphrase;
use crate::open::{KEYS, MAX_TEXT, POLICIES, SETTINGS, Ward, policy_paths};
use crate::place::StorePlace;
use crate::problem::Problem;

const MAGIC: &str = "tidy-warden backup 1\n";

/// The purpose of content keys.
const PURPOSE: &[u8] = b"tidy-warden backup 1";

/// The longest first and second lines, and the longest line in the stream: the largest row is that of an edition.
const MAX_MAGIC: u64 = 64;
const MAX_HEADER: u64 = 64 * 1024;
const MAX_LINE: u64 = 256 * 1024 * 1024;

/// How many rows are written at once when they are put back, and their octets.
const BATCH: usize = 2_000;
const BATCH_OCTETS: usize = 4 << 20;

/// The file in which a store is put together before it takes its place.
const RESTORING: &str = "ward.db.restoring";

/// What a store's file is called once another took its place.
const BEFORE: &str = "ward.db.before";

/// What a backup is sealed to.
#[derive(Debug)]
pub enum Lock<'a> {
    /// Whoever knows this.
    Passphrase(&'a Passphrase),
    /// Whoever has the private key.
    Key(PublicKey),
}

/// What anybody may read of a backup.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Header {
    /// The ward's URN.
    pub ward: String,
    /// When it was made, by the ward's clock.
    pub at: UnixTime,
    /// The number of the last entry of the record in it.
    pub entries: i64,
    /// That entry's hash, in hexadecimal digits.
    pub head: String,
    /// Whether the ward's files are in it: settings, policies, locked keys.
    pub whole: bool,
    /// The public key that it is sealed to: SubjectPublicKeyInfo, base64.
    to: String,
    /// The point of the ephemeral key, base64.
    ephemeral: String,
    /// The private key, locked with the backup's passphrase, if it is sealed to one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub locked_key: Option<String>,
}

/// A backup that was made or put back.
#[derive(Debug)]
pub struct Done {
    /// What anybody may read of it.
    pub header: Header,
    /// What is in it.
    pub contents: Copied,
    /// How many files of the ward.
    pub files: usize,
}

fn value(cell: &Cell) -> Value {
    match cell {
        Cell::Null => Value::Null,
        Cell::Integer(number) => json!(number),
        Cell::Text(text) => json!(text),
        Cell::Octets(octets) => json!({ "octets": BASE64.encode(octets) }),
    }
}

fn cell(value: &Value) -> Option<Cell> {
    Some(match value {
        Value::Null => Cell::Null,
        Value::Number(number) => Cell::Integer(number.as_i64()?),
        Value::String(text) => Cell::Text(text.clone()),
        Value::Object(octets) => Cell::Octets(BASE64.decode(octets.get("octets")?.as_str()?.as_bytes()).ok()?),
        _ => return None,
    })
}

/// The ward's files that belong into a backup, by their names in its folder: no outfit, no log, no secret that is not locked.
fn ward_files(dir: &Path) -> Result<Vec<String>, Problem> {
    let mut names = vec![SETTINGS.to_owned()];
    for path in policy_paths(&dir.join(POLICIES))? {
        names.extend(path.file_name().map(|name| format!("{POLICIES}/{}", name.to_string_lossy())));
    }
    let keys = dir.join(KEYS);
    let failed = |error: std::io::Error| Problem::file("read", &keys, &error);
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
        return Err(Problem::file("write", out, &std::io::ErrorKind::AlreadyExists.into()));
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
    let failed = |error: std::io::Error| Problem::file("write", out, &error);
    let (to, ephemeral) = (BASE64.encode(to.spki()), BASE64.encode(&ephemeral));
    let mut made = None;
    let store = ward.place.open_whole()?;
    let result = (|| {
        let file =
            std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&partial).map_err(failed)?;
        let mut problem = None;
        let snapshot = store.snapshot(&mut |store| {
            let (entries, head) = store.audit_end()?;
            let (ward_urn, at) = (ward.record.urn.clone(), ward.now());
            let (head, to, ephemeral, locked_key) =
                (HEXLOWER.encode(&head), to.clone(), ephemeral.clone(), locked_key.clone());
            let header = Header { ward: ward_urn, at, entries, head, whole, to, ephemeral, locked_key };
            let written = (|| {
                let line = format!("{}\n", serde_json::to_string(&header).map_err(std::io::Error::other)?);
                let mut file = BufWriter::new(&file);
                file.write_all(MAGIC.as_bytes())?;
                file.write_all(line.as_bytes())?;
                let sealed = SealedWriter::new(file, &content_key, format!("{MAGIC}{line}").as_bytes())?;
                let mut stream = zstd::stream::Encoder::new(sealed, 3)?;
                for name in &names {
                    let octets = files::read(&ward.dir.join(name), MAX_TEXT)
                        .map_err(|error| std::io::Error::other(error.in_one_line()))?;
                    writeln!(stream, "{}", json!(["file", name, BASE64.encode(&octets)]))?;
                }
                let mut rows = |table: &Table| {
                    each_row(store, table, &mut |row| {
                        let mut line = vec![json!("row"), json!(table.name)];
                        line.extend(row.iter().map(value));
                        writeln!(stream, "{}", Value::Array(line)).map_err(StoreError::Delivery)
                    })
                };
                let read = TABLES.iter().try_for_each(&mut rows).and_then(|()| contents(store));
                let contents = read.map_err(std::io::Error::other)?;
                writeln!(stream, "{}", json!(["end", contents.rows, HEXLOWER.encode(&contents.digest)]))?;
                stream.finish()?.finish()?.flush()?;
                Ok::<_, std::io::Error>(contents)
            })();
            match written {
                Ok(contents) => made = Some(Done { header, contents, files: names.len() }),
                Err(error) => problem = Some(Problem::failed("the backup was not made").because(error)),
            }
            Ok(())
        });
        if let Some(problem) = problem {
            return Err(problem.next("see that there is room for it, then do it again"));
        }
        snapshot?;
        file.sync_all().map_err(failed)?;
        std::fs::rename(&partial, out).map_err(failed)?;
        files::sync_folder(out.parent()).map_err(failed)
    })();
    if result.is_err() {
        let _ = std::fs::remove_file(&partial);
    }
    result?;
    made.ok_or_else(|| Problem::failed("the backup was not made"))
}

/// A backup whose first lines were read.
pub struct Backup {
    path: PathBuf,
    file: BufReader<File>,
    /// What anybody may read of it.
    pub header: Header,
    above: Vec<u8>,
}

impl std::fmt::Debug for Backup {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Backup({})", self.path.display())
    }
}

/// Reads what anybody may read of a backup.
pub fn open(path: &Path) -> Result<Backup, Problem> {
    let failed = |error: std::io::Error| Problem::file("read", path, &error);
    let mut file = BufReader::new(File::open(path).map_err(failed)?);
    let none = || {
        Problem::refused(format!("{} is no backup of a ward", path.display()))
            .next("name a file that `store backup` made")
    };
    let mut above = Vec::new();
    (&mut file).take(MAX_MAGIC).read_until(b'\n', &mut above).map_err(failed)?;
    if above != MAGIC.as_bytes() {
        return Err(none());
    }
    (&mut file).take(MAX_HEADER).read_until(b'\n', &mut above).map_err(failed)?;
    let header = serde_json::from_slice(&above[MAGIC.len()..]).map_err(|_| none())?;
    Ok(Backup { path: path.to_owned(), file, header, above })
}

/// What a line of the stream says.
enum Line {
    File(String, Vec<u8>),
    Row(&'static Table, Row),
    End(Copied),
}

impl Line {
    fn of(text: &str) -> Option<Self> {
        let value: Value = serde_json::from_str(text).ok()?;
        let (word, rest) = value.as_array()?.split_first()?;
        let (first, rest) = rest.split_first()?;
        Some(match word.as_str()? {
            "file" => {
                let octets = BASE64.decode(rest.first()?.as_str()?.as_bytes()).ok()?;
                Self::File(first.as_str()?.to_owned(), octets)
            }
            "row" => {
                let table = TABLES.iter().find(|table| Some(table.name) == first.as_str())?;
                let row: Row = rest.iter().map(cell).collect::<Option<_>>()?;
                // A table may have grown since; what it did not have then is nothing.
                if row.len() > table.columns.len() || row.len() < table.key {
                    return None;
                }
                let missing = table.columns.len() - row.len();
                Self::Row(table, row.into_iter().chain(std::iter::repeat_n(Cell::Null, missing)).collect())
            }
            "end" => {
                let digest = HEXLOWER.decode(rest.first()?.as_str()?.as_bytes()).ok()?;
                Self::End(Copied { rows: first.as_u64()?, digest: digest.try_into().ok()? })
            }
            _ => return None,
        })
    }
}

impl Backup {
    fn problem(&self, because: impl std::fmt::Display) -> Problem {
        Problem::failed(format!("{} cannot be put back", self.path.display())).because(because)
    }

    /// Opens it with a private key, and gives every line of it.
    fn each_line(
        mut self,
        key: &SoftwareKey,
        visit: &mut dyn FnMut(Line) -> Result<ControlFlow<()>, Problem>,
    ) -> Result<(), Problem> {
        let damaged =
            |of: &Self| of.problem("it is damaged, or not one that this version knows").next("take another backup");
        let decoded = |text: &str| BASE64.decode(text.as_bytes()).ok();
        let to =
            decoded(&self.header.to).and_then(|to| PublicKey::from_spki(&to).ok()).ok_or_else(|| damaged(&self))?;
        let ephemeral = decoded(&self.header.ephemeral).ok_or_else(|| damaged(&self))?;
        let content_key = match *key.public_key() == to {
            true => unseal(key, &to, &ephemeral, PURPOSE).ok_or_else(|| damaged(&self))?,
            false => {
                return Err(self
                    .problem("it is sealed to another key")
                    .next("name the private key of the certificate that it was made for"));
            }
        };
        let above = std::mem::take(&mut self.above);
        let failed = |error: &std::io::Error| {
            Problem::failed(format!("{} cannot be put back", self.path.display()))
                .because(format!("it is damaged or cut off: {error}"))
                .next("take another backup")
        };
        let sealed = SealedReader::new(&mut self.file, &content_key, &above).map_err(|error| failed(&error))?;
        let stream = zstd::stream::Decoder::new(sealed).map_err(|error| failed(&error))?;
        let mut lines = BufReader::new(stream);
        let mut text = String::new();
        loop {
            text.clear();
            let read = (&mut lines).take(MAX_LINE).read_line(&mut text).map_err(|error| failed(&error))?;
            if read == 0 {
                return Ok(());
            }
            let line = text.strip_suffix('\n').and_then(Line::of);
            let line = line.ok_or_else(|| failed(&std::io::Error::other("a line of it does not read back")))?;
            if visit(line)?.is_break() {
                return Ok(());
            }
        }
    }
}

/// Rows that wait to be written together.
struct Rows<'a> {
    into: &'a mut dyn Whole,
    table: Option<&'static Table>,
    waiting: Vec<Row>,
    octets: usize,
}

impl Rows<'_> {
    fn add(&mut self, table: &'static Table, row: Row) -> Result<(), StoreError> {
        let is_other = self.table.is_some_and(|known| known.name != table.name);
        if is_other || self.waiting.len() >= BATCH || self.octets >= BATCH_OCTETS {
            self.write()?;
        }
        self.table = Some(table);
        self.octets += row.iter().map(Cell::len).sum::<usize>();
        self.waiting.push(row);
        Ok(())
    }

    fn write(&mut self) -> Result<(), StoreError> {
        self.octets = 0;
        match self.table {
            Some(table) if !self.waiting.is_empty() => self.into.write_rows(table, &std::mem::take(&mut self.waiting)),
            _ => Ok(()),
        }
    }
}

/// Where a ward is put back, and what is there already.
pub struct Target {
    dir: PathBuf,
    place: StorePlace,
    /// Why putting it back would go back in time, if it would.
    pub back: Option<String>,
    /// Where the record of what is there ends: whoever writes to it meanwhile must not lose that.
    there: Seen,
    /// Whether the ward's files are written too.
    with_files: bool,
}

/// How far somebody has seen the record of the ward in a folder.
pub type Seen = Option<(i64, [u8; 32])>;

/// Looks at what stands where `backup` is to be put back: into the ward in `dir`, or into that folder with all its files if it is empty.
/// `place` says where its store is; `seen` how far a guard has seen its record.
pub fn target(backup: &Backup, dir: &Path, place: StorePlace, seen: &Seen) -> Result<Target, Problem> {
    let header = &backup.header;
    let with_files = !dir.join(SETTINGS).exists();
    if with_files && !header.whole {
        return Err(Problem::refused(format!("there is no ward in {}", dir.display()))
            .because("this backup holds what the ward knows, and not its settings, policies and keys")
            .next("put those back first, or take a backup that was made with --whole"));
    }
    let named = format!("entry {}", header.entries);
    let mut there = None;
    let mut back = match seen {
        Some((number, _)) if *number > header.entries => {
            Some(format!("a guard has seen entry {number}, and the backup ends with {named}"))
        }
        Some((number, hash)) if *number == header.entries && HEXLOWER.encode(hash) != header.head => {
            Some(format!("a guard has seen another {named}"))
        }
        _ => None,
    };
    match &place {
        StorePlace::File(path) if path.exists() => match SqliteStore::open(path) {
            // What cannot be opened is what backups are for; how far it went a guard may know.
            Err(error) if back.is_none() && seen.is_none() => {
                back =
                    Some(format!("the store that is there cannot be opened, so nobody knows how far it went: {error}"));
            }
            Err(_) => {}
            Ok(store) => {
                let store = OperatorStore::new(Box::new(store));
                let urn = store.ward()?.urn;
                if urn != header.ward {
                    return Err(Problem::refused(format!("the ward in {} is another one", dir.display()))
                        .because(format!("it is {urn}, and the backup is one of {}", header.ward))
                        .next("name another folder"));
                }
                if let Some(moved) = store.head()?.moved {
                    return Err(Problem::refused(format!("the ward is not in {} any more", dir.display()))
                        .because(format!("it was moved to {}, and would be in two places", moved.to))
                        .next("put it back there: --to, into an empty one; or give the move up: store copy --stop"));
                }
                let (number, hash) = store.audit_end()?;
                there = Some((number, hash));
                if number > header.entries || number == header.entries && HEXLOWER.encode(&hash) != header.head {
                    back =
                        Some(format!("the store that is there ends with entry {number}, and the backup with {named}"));
                }
            }
        },
        StorePlace::File(_) => {}
        StorePlace::Database(_) => {
            if place.open(None).is_ok() {
                return Err(Problem::refused(format!("there is a ward already in the database {place}"))
                    .next("name an empty database in [store] url, and put it back there"));
            }
        }
    }
    Ok(Target { dir: dir.to_owned(), place, back, there, with_files })
}

/// Puts a ward back. Nothing stands in its place before all of it is there and was compared.
pub fn restore(
    backup: Backup,
    key: &SoftwareKey,
    target: &Target,
    (actor, because): (&str, &str),
) -> Result<Done, Problem> {
    let header = backup.header.clone();
    let path = backup.path.clone();
    let wrong = |because: String| {
        Problem::failed(format!("{} was not put back", path.display())).because(because).next("take another backup")
    };
    let (mut files, mut end) = (Vec::new(), None);
    let (place, beside) = match &target.place {
        StorePlace::File(place) => {
            let beside = target.dir.join(RESTORING);
            std::fs::create_dir_all(&target.dir).map_err(|error| Problem::file("write", &target.dir, &error))?;
            remove_store(&beside)?;
            (StorePlace::File(beside.clone()), Some((place.clone(), beside)))
        }
        database => (database.clone(), None),
    };
    let mut into = place.open_copy(&header.ward)?;
    if place_is_begun(&*into)? {
        return Err(Problem::refused(format!("{place} is not empty"))
            .because("another try to put the ward back ended there")
            .next("empty it and begin again"));
    }
    let mut rows = Rows { into: &mut *into, table: None, waiting: Vec::new(), octets: 0 };
    backup.each_line(key, &mut |line| {
        match line {
            Line::File(name, octets) => files.push((name, octets)),
            Line::Row(table, row) => rows.add(table, row)?,
            Line::End(contents) => {
                rows.write()?;
                end = Some(contents);
            }
        }
        Ok(ControlFlow::Continue(()))
    })?;
    let end = end.ok_or_else(|| wrong("its end is missing".to_owned()))?;
    if contents(&*into)? != end {
        return Err(wrong("what was written is not what it says".to_owned()));
    }
    whole_record(&*into).map_err(|error| match error {
        CopyError::Store(error) => error.into(),
        other => wrong(other.to_string()),
    })?;
    let (number, hash) = into.audit_end()?;
    if (number, HEXLOWER.encode(&hash)) != (header.entries, header.head.clone()) {
        return Err(wrong("its record does not end where it says".to_owned()));
    }
    into.finish_copy()?;
    drop(into);
    {
        let mut store = OperatorStore::new(place.open(None)?);
        let doubt = target.back.as_ref().map(|back| {
            format!(
                "it was put back from a backup of entry {} ({}): {back}; what was revoked after it may not be known",
                header.entries, header.at
            )
        });
        let at = WardClock::of(store.ward()?.rehearsal)?.now();
        let cause = Cause { at, actor: actor.to_owned(), because: because.to_owned() };
        let detail =
            json!({ "entries": header.entries, "head": header.head, "made": header.at, "back": target.back.is_some() });
        store.restored(&detail, doubt.as_deref(), &cause)?;
    }
    if target.with_files {
        write_files(&target.dir, &files)?;
    }
    if let Some((place, beside)) = beside {
        // Whoever closed it last left all of it in one file.
        if parts(&beside)[1].exists() {
            return Err(Problem::failed(format!("{} is still open", beside.display())).next("do it again"));
        }
        take_place(&beside, &place, &target.there)?;
    }
    let files = if target.with_files { files.len() } else { 0 };
    Ok(Done { header, contents: end, files })
}

/// Whether something was put into a new place before.
fn place_is_begun(place: &dyn Whole) -> Result<bool, StoreError> {
    for table in &TABLES {
        if place.last_key(table)?.is_some() {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The parts of a store's file; the store itself goes first, so that no part of it is ever taken for all of it.
fn parts(path: &Path) -> [PathBuf; 3] {
    ["", "-wal", "-shm"].map(|part| {
        let mut name = path.as_os_str().to_owned();
        name.push(part);
        PathBuf::from(name)
    })
}

fn remove_store(path: &Path) -> Result<(), Problem> {
    for part in parts(path) {
        match std::fs::remove_file(&part) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                return Err(Problem::file("remove", &part, &error));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Puts a store in the place of what is there. Nobody writes to that meanwhile; `there` is where its record ended when it was looked at.
fn take_place(beside: &Path, place: &Path, there: &Seen) -> Result<(), Problem> {
    let mut swapped = None;
    let swap = || {
        let failed = |error: std::io::Error| Problem::file("write", place, &error);
        set_aside(place)?;
        std::fs::rename(beside, place).map_err(failed)?;
        files::sync_folder(place.parent()).map_err(failed)
    };
    if let Some(there) = there {
        let mut old = SqliteStore::open(place)?;
        old.change(&mut |tx| {
            swapped = Some(if tx.audit_end()? == *there {
                swap()
            } else {
                Err(Problem::refused("the ward was not put back")
                    .because("somebody changed what is there meanwhile")
                    .next("look at what was done, then do it again"))
            });
            Ok(Fate::Undo)
        })?;
    }
    swapped.unwrap_or_else(swap)
}

/// Puts what stands in a store's place beside it, where nobody takes it for the ward's.
fn set_aside(place: &Path) -> Result<(), Problem> {
    let before = place.with_file_name(BEFORE);
    remove_store(&before)?;
    for (part, to) in parts(place).iter().zip(parts(&before)) {
        match std::fs::rename(part, to) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                return Err(Problem::file("move", part, &error));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Writes the ward's files, the settings last: what was begun is no ward.
fn write_files(dir: &Path, files: &[(String, Vec<u8>)]) -> Result<(), Problem> {
    for folder in [KEYS, POLICIES] {
        let path = dir.join(folder);
        let mode = if folder == KEYS { 0o700 } else { 0o755 };
        let made = std::fs::DirBuilder::new().mode(mode).create(&path);
        match made {
            Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => {
                return Err(Problem::file("write", &path, &error));
            }
            _ => {}
        }
    }
    let last = |name: &str| name == SETTINGS;
    for (name, octets) in
        files.iter().filter(|(name, _)| !last(name)).chain(files.iter().filter(|(name, _)| last(name)))
    {
        // Names come from the backup: nothing but what a backup writes is taken.
        let is_known = last(name)
            || name.split_once('/').is_some_and(|(folder, name)| {
                let (is_key, is_policy) =
                    (folder == KEYS && name.ends_with(".key"), folder == POLICIES && name.ends_with(".policy"));
                (is_key || is_policy) && !name.starts_with('.') && !name.contains('/')
            });
        if !is_known {
            return Err(Problem::refused(format!("the backup holds a file that no ward has: {name:?}"))
                .next("take another backup"));
        }
        let path = dir.join(name);
        let access = if name.ends_with(".key") { Access::Secret } else { Access::Public };
        match files::create(&path, octets, access) {
            Err(error)
                if error.kind() == std::io::ErrorKind::AlreadyExists
                    && std::fs::read(&path).is_ok_and(|there| there == *octets) => {}
            Err(error) => return Err(Problem::file("write", &path, &error).or_next("name an empty folder")),
            Ok(()) => {}
        }
    }
    Ok(())
}

/// The settings in a backup with the ward's files, for finding out where its store is to be; `None` if they are not in it.
pub fn settings_text(backup: Backup, key: &SoftwareKey) -> Result<Option<String>, Problem> {
    if !backup.header.whole {
        return Ok(None);
    }
    let mut found = None;
    // Files stand above all rows; what comes after them is read when it is put back.
    backup.each_line(key, &mut |line| match line {
        Line::File(name, octets) if name == SETTINGS => {
            found = String::from_utf8(octets).ok();
            Ok(ControlFlow::Break(()))
        }
        _ => Ok(ControlFlow::Continue(())),
    })?;
    Ok(found)
}
