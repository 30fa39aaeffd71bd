//! Backups: a whole ward in one sealed file, and put back from it.
//!
//! The file: a line `tidy-warden backup 1`, a line of JSON that anybody may read (whose it is, of when, where its record ends, how its
//! key is found), then a sealed stream ([`tidy_warden_core::seal`]) bound to both lines. In the stream, compressed with Zstandard (RFC
//! 8878), stands a line of JSON for each file (`["file", NAME, CONTENT]`) and each row (`["row", TABLE, CELLS...]`), then one that says
//! how many rows there were and the digest over all of them (`["end", ROWS, SHA256]`). Octets are `{"octets": BASE64}`.

mod make;
mod put_back;

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use data_encoding::{BASE64, HEXLOWER};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tidy_warden_core::key::{PublicKey, Signer, SoftwareKey};
use tidy_warden_core::seal::{SealedReader, unseal};
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::copy::{Cell, Copied, Row, TABLES, Table};

use crate::open::SETTINGS;
use crate::problem::Problem;

pub use make::{Lock, write};
pub use put_back::{Seen, Target, restore, target};

const MAGIC: &str = "tidy-warden backup 1\n";

/// The purpose of content keys.
const PURPOSE: &[u8] = b"tidy-warden backup 1";

/// The longest first and second lines, and the longest line in the stream: the largest row is that of an edition.
const MAX_MAGIC: u64 = 64;
const MAX_HEADER: u64 = 64 * 1024;
const MAX_LINE: u64 = 256 * 1024 * 1024;

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

fn cell(value: &Value) -> Option<Cell> {
    Some(match value {
        Value::Null => Cell::Null,
        Value::Number(number) => Cell::Integer(number.as_i64()?),
        Value::String(text) => Cell::Text(text.clone()),
        Value::Object(octets) => Cell::Octets(BASE64.decode(octets.get("octets")?.as_str()?.as_bytes()).ok()?),
        _ => return None,
    })
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
    let failed = |error: io::Error| Problem::file("read", path, &error);
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
    /// A row as it stands there, and as it is now that its table may have grown.
    Row(&'static Table, Row, Row),
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
                let grown = row.iter().cloned().chain(std::iter::repeat_n(Cell::Null, missing)).collect();
                Self::Row(table, row, grown)
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
    /// Opens it with a private key, and gives every line of it.
    fn each_line(
        self,
        key: &SoftwareKey,
        visit: &mut dyn FnMut(Line) -> Result<ControlFlow<()>, Problem>,
    ) -> Result<(), Problem> {
        let problem =
            |because: String| Problem::failed(format!("{} cannot be put back", self.path.display())).because(because);
        let damaged =
            || problem("it is damaged, or not one that this version knows".to_owned()).next("take another backup");
        let failed =
            |error: &io::Error| problem(format!("it is damaged or cut off: {error}")).next("take another backup");
        let decoded = |text: &str| BASE64.decode(text.as_bytes()).ok();
        let to = decoded(&self.header.to).and_then(|to| PublicKey::from_spki(&to).ok()).ok_or_else(damaged)?;
        let ephemeral = decoded(&self.header.ephemeral).ok_or_else(damaged)?;
        let content_key = match *key.public_key() == to {
            true => unseal(key, &to, &ephemeral, PURPOSE).ok_or_else(damaged)?,
            false => {
                return Err(problem("it is sealed to another key".to_owned())
                    .next("name the private key of the certificate that it was made for"));
            }
        };
        let sealed = SealedReader::new(self.file, &content_key, &self.above).map_err(|error| failed(&error))?;
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
            let line = line.ok_or_else(|| failed(&io::Error::other("a line of it does not read back")))?;
            if visit(line)?.is_break() {
                return Ok(());
            }
        }
    }
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
