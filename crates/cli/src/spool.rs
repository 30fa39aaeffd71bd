//! Long lists for programs, in another order than the store's: the text of a million devices waits in a file without a name, and
//! only their order is in memory.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, SeekFrom, Write};

use serde_json::Value;

use crate::console::{Console, Form};
use crate::problem::Problem;

/// A list that programs read, on its way out.
pub(crate) struct Spool<'a, K> {
    console: &'a Console,
    form: Form,
    columns: Vec<String>,
    file: BufWriter<File>,
    /// Where each text is: its key, its first octet, and how many it has.
    order: Vec<(K, u64, u64)>,
    end: u64,
}

/// How many octets are written to standard output at once.
const AT_ONCE: usize = 256 * 1024;

fn failed(error: io::Error) -> Problem {
    Problem::failed("cannot keep the list in a temporary file")
        .because(error)
        .next("TMPDIR names the folder that such files go to; it needs room for the whole list")
}

impl<'a, K: Ord> Spool<'a, K> {
    /// An empty list; `columns` are the titles of CSV.
    pub(crate) fn new(console: &'a Console, form: Form, columns: Vec<String>) -> Result<Self, Problem> {
        let file = BufWriter::new(tempfile::tempfile().map_err(failed)?);
        Ok(Self { console, form, columns, file, order: Vec::new(), end: 0 })
    }

    /// Takes one more; `item` is what JSON has of it, `row` what CSV has.
    pub(crate) fn add(
        &mut self,
        key: K,
        item: impl FnOnce() -> Value,
        row: impl FnOnce() -> Vec<String>,
    ) -> Result<(), Problem> {
        let text = self.form.one(item, row)?;
        self.file.write_all(text.as_bytes()).map_err(failed)?;
        let octets = u64::try_from(text.len()).unwrap_or(u64::MAX);
        self.order.push((key, self.end, octets));
        self.end += octets;
        Ok(())
    }

    /// Writes them in the order of their keys, in the document `schema` under `name` where that is JSON.
    pub(crate) fn write(mut self, schema: &str, name: &str) -> Result<(), Problem> {
        self.order.sort();
        let file = self.file.into_inner().map_err(|error| failed(error.into_error()))?;
        let mut file = BufReader::new(file);
        file.rewind().map_err(failed)?;
        let mut out = self.form.begin(schema, name, &self.columns)?;
        let mut at = 0;
        let count = self.order.len();
        for (number, (_, from, octets)) in self.order.into_iter().enumerate() {
            if at != from {
                file.seek(SeekFrom::Start(from)).map_err(failed)?;
            }
            let read = Read::by_ref(&mut file).take(octets).read_to_string(&mut out).map_err(failed)?;
            if u64::try_from(read).ok() != Some(octets) {
                return Err(failed(io::ErrorKind::UnexpectedEof.into()));
            }
            at = from + octets;
            out.push_str(self.form.behind(number + 1 == count));
            if out.len() >= AT_ONCE {
                self.console.write(&out)?;
                out.clear();
            }
        }
        self.console.write(&(out + self.form.end()))
    }
}
