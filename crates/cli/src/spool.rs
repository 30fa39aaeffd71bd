//! Long lists, in another order than the store's: their text waits in a file without a name once it is long, and only the order
//! is in memory.

use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};

use serde_json::Value;
use tempfile::SpooledTempFile;
use unicode_width::UnicodeWidthStr;

use crate::console::{Console, Form, counts, printable};
use crate::problem::Problem;

/// How many octets are written to standard output at once.
const AT_ONCE: usize = 256 * 1024;

/// After how many of a list the first are written.
const FIRST: usize = 100;

/// How many octets wait in memory before a file is made.
const IN_MEMORY: usize = 1024 * 1024;

/// Between the cells of a row that waits: no printable text holds it.
const BETWEEN: &str = "\u{1f}";

fn failed(error: io::Error) -> Problem {
    Problem::failed("cannot keep the list in a temporary file")
        .because(error)
        .next("TMPDIR names the folder that such files go to; it needs room for the whole list")
}

/// Texts that wait, each under a key.
struct Waiting<K> {
    file: SpooledTempFile,
    /// What is not in the file yet.
    more: String,
    /// Where each text is: its key, its first octet, and how many it has.
    order: Vec<(K, u64, u64)>,
    end: u64,
}

impl<K: Ord> Waiting<K> {
    fn new() -> Self {
        Self { file: SpooledTempFile::new(IN_MEMORY), more: String::new(), order: Vec::new(), end: 0 }
    }

    fn push(&mut self, key: K, text: &str) -> Result<(), Problem> {
        let octets = u64::try_from(text.len()).unwrap_or(u64::MAX);
        self.order.push((key, self.end, octets));
        self.end += octets;
        self.more.push_str(text);
        if self.more.len() >= AT_ONCE { self.put() } else { Ok(()) }
    }

    fn put(&mut self) -> Result<(), Problem> {
        self.file.write_all(self.more.as_bytes()).map_err(failed)?;
        self.more.clear();
        Ok(())
    }

    fn len(&self) -> usize {
        self.order.len()
    }

    /// Gives each text in the order of the keys, and whether it is the last.
    fn each(mut self, visit: &mut dyn FnMut(&str, bool) -> Result<(), Problem>) -> Result<(), Problem> {
        self.put()?;
        self.order.sort();
        let mut file = BufReader::new(self.file);
        file.rewind().map_err(failed)?;
        let (mut at, mut text, count) = (0, String::new(), self.order.len());
        for (number, (_, from, octets)) in self.order.into_iter().enumerate() {
            if at != from {
                file.seek(SeekFrom::Start(from)).map_err(failed)?;
            }
            text.clear();
            let read = Read::by_ref(&mut file).take(octets).read_to_string(&mut text).map_err(failed)?;
            if u64::try_from(read).ok() != Some(octets) {
                return Err(failed(io::ErrorKind::UnexpectedEof.into()));
            }
            at = from + octets;
            visit(&text, number + 1 == count)?;
        }
        Ok(())
    }
}

/// A list that programs read, on its way out.
pub(crate) struct Spool<'a, K> {
    console: &'a Console,
    form: Form,
    columns: Vec<String>,
    waiting: Waiting<K>,
}

impl<'a, K: Ord> Spool<'a, K> {
    /// An empty list; `columns` are the titles of CSV.
    pub(crate) fn new(console: &'a Console, form: Form, columns: Vec<String>) -> Self {
        Self { console, form, columns, waiting: Waiting::new() }
    }

    /// Takes one more; `item` is what JSON has of it, `row` what CSV has.
    pub(crate) fn add(
        &mut self,
        key: K,
        item: impl FnOnce() -> Value,
        row: impl FnOnce() -> Vec<String>,
    ) -> Result<(), Problem> {
        self.waiting.push(key, &self.form.one(item, row)?)
    }

    /// Writes them in the order of their keys, in the document `schema` under `name` where that is JSON.
    pub(crate) fn write(self, schema: &str, name: &str) -> Result<(), Problem> {
        let Self { console, form, columns, waiting } = self;
        let mut out = form.begin(schema, name, &columns)?;
        waiting.each(&mut |text, last| {
            out.push_str(text);
            out.push_str(form.behind(last));
            if out.len() >= AT_ONCE {
                console.write(&out)?;
                out.clear();
            }
            Ok(())
        })?;
        console.write(&(out + form.end()))
    }
}

/// A list that programs read and that comes in its order already: each part is on its way out when it is there.
pub(crate) struct Stream<'a> {
    console: &'a Console,
    form: Form,
    out: String,
    /// The one that came last: what stands behind it depends on whether another comes.
    last: Option<String>,
    count: usize,
}

impl<'a> Stream<'a> {
    /// Begins a list, in the document `schema` under `name` where that is JSON; `columns` are the titles of CSV.
    pub(crate) fn new(
        console: &'a Console,
        form: Form,
        (schema, name): (&str, &str),
        columns: &[String],
    ) -> Result<Self, Problem> {
        Ok(Self { console, form, out: form.begin(schema, name, columns)?, last: None, count: 0 })
    }

    /// Takes one more; `item` is what JSON has of it, `row` what CSV has.
    pub(crate) fn add(
        &mut self,
        item: impl FnOnce() -> Value,
        row: impl FnOnce() -> Vec<String>,
    ) -> Result<(), Problem> {
        let text = self.form.one(item, row)?;
        self.push(Some(text));
        self.count += 1;
        // The first ones at once, so that whoever reads sees that something comes.
        if self.count == FIRST || self.out.len() >= AT_ONCE {
            self.console.write(&self.out)?;
            self.out.clear();
        }
        Ok(())
    }

    fn push(&mut self, next: Option<String>) {
        let is_last = next.is_none();
        if let Some(text) = std::mem::replace(&mut self.last, next) {
            self.out.push_str(&text);
            self.out.push_str(self.form.behind(is_last));
        }
    }

    /// Ends the list.
    pub(crate) fn end(mut self) -> Result<(), Problem> {
        self.push(None);
        self.console.write(&(self.out + self.form.end()))
    }
}

/// A table that people read, on its way out: how wide a column is, is known when all rows are there.
pub(crate) struct TableSpool<'a, K> {
    console: &'a Console,
    titles: Vec<String>,
    widths: Vec<usize>,
    waiting: Waiting<K>,
}

impl<'a, K: Ord> TableSpool<'a, K> {
    /// An empty table.
    pub(crate) fn new(console: &'a Console, titles: &[String]) -> Self {
        let titles: Vec<String> = titles.iter().map(|title| title.to_uppercase()).collect();
        let widths = titles.iter().map(|title| title.width()).collect();
        Self { console, titles, widths, waiting: Waiting::new() }
    }

    /// Takes one more row, of as many cells as there are titles.
    pub(crate) fn add(&mut self, key: K, cells: &[String]) -> Result<(), Problem> {
        let cells: Vec<_> = cells.iter().map(|cell| printable(cell)).collect();
        for (width, cell) in self.widths.iter_mut().zip(&cells) {
            *width = cell.width().max(*width);
        }
        self.waiting.push(key, &cells.join(BETWEEN))
    }

    /// Writes the rows in the order of their keys; `empty` is what people read if there are none. Gives how many there are.
    pub(crate) fn write(self, empty: &str) -> Result<usize, Problem> {
        let Self { console, titles, widths, waiting } = self;
        let count = waiting.len();
        if count == 0 {
            console.note(empty);
            return Ok(0);
        }
        let right: Vec<bool> = titles.iter().map(|title| counts(&title.to_lowercase())).collect();
        let head = line(titles.iter().map(String::as_str), &widths, &right);
        let mut out = head.clone();
        waiting.each(&mut |text, _| {
            out.push_str(&line(text.split(BETWEEN), &widths, &right));
            if out.len() >= AT_ONCE {
                console.write_rows(&head, &out)?;
                out.clear();
            }
            Ok(())
        })?;
        console.write_rows(&head, &out)?;
        Ok(count)
    }
}

/// A row, its columns two spaces apart.
fn line<'c>(cells: impl Iterator<Item = &'c str>, widths: &[usize], right: &[bool]) -> String {
    let mut out = String::new();
    for ((cell, width), right) in cells.zip(widths).zip(right) {
        let gap = " ".repeat(width.saturating_sub(cell.width()));
        let (before, behind) = if *right { (gap.as_str(), "") } else { ("", gap.as_str()) };
        out.extend([before, cell, behind, "  "]);
    }
    out.truncate(out.trim_end().len());
    out.push('\n');
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::console::table;

    #[test]
    fn a_table_that_waits_looks_like_one_that_does_not() {
        let titles = ["id", "number", "note"].map(str::to_owned);
        let rows =
            [["wv-1", "7", ""], ["st-ossel-top", "12", "x y"], ["w", "", "\u{96ea}\u{1b}z"], ["v", "3", "e\u{301}"]];
        let rows: Vec<Vec<String>> = rows.iter().map(|row| row.map(str::to_owned).to_vec()).collect();
        let console = Console::new(crate::console::Format::Table, true);
        let mut spool = TableSpool::new(&console, &titles);
        for (at, row) in rows.iter().enumerate() {
            spool.add(at, row).unwrap();
        }
        let right = [false, true, false];
        let mut text = line(spool.titles.iter().map(String::as_str), &spool.widths, &right);
        let widths = spool.widths.clone();
        spool
            .waiting
            .each(&mut |row, _| {
                text.push_str(&line(row.split(BETWEEN), &widths, &right));
                Ok(())
            })
            .unwrap();
        assert_eq!(text, table(&titles, &rows));
    }

    #[test]
    fn what_waits_comes_in_the_order_of_its_keys_from_memory_and_from_a_file() {
        for length in [3, 40_000] {
            let mut waiting = Waiting::new();
            let key = |at: usize| (at * 7_919) % 101;
            for at in 0..100 {
                waiting.push(key(at), &format!("{:05}{}", key(at), "x".repeat(length))).unwrap();
            }
            let mut found = Vec::new();
            waiting
                .each(&mut |text, last| {
                    found.push((text[..5].parse::<usize>().unwrap(), last));
                    assert_eq!(text.len(), length + 5);
                    Ok(())
                })
                .unwrap();
            let mut want: Vec<usize> = (0..100).map(key).collect();
            want.sort_unstable();
            assert_eq!(found.iter().map(|(key, _)| *key).collect::<Vec<_>>(), want);
            assert!(found.iter().enumerate().all(|(at, (_, last))| *last == (at == 99)));
        }
    }
}
