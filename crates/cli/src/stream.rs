//! Long lists on their way out: what was read is written while the rest is read, so that a list of a million takes no more memory
//! than one of a hundred.

use serde_json::Value;
use tidy_warden_core::text::printable;
use unicode_width::UnicodeWidthStr;

use crate::console::{Console, DataForm, counts};
use crate::problem::Problem;

/// How many octets are written to standard output at once.
const AT_ONCE: usize = 256 * 1024;

/// After how many of a list the first are written.
const FIRST: usize = 100;

/// By how many rows of a table its columns are measured.
const MEASURED: usize = 1000;

/// A list that programs read and that comes in its order already: each part is on its way out when it is there.
pub(crate) struct Stream<'a> {
    console: &'a Console,
    form: DataForm,
    out: String,
    /// The one that came last: what stands behind it depends on whether another comes.
    last: Option<String>,
    count: usize,
}

impl<'a> Stream<'a> {
    /// Begins a list, in the document `schema` under `name` where that is JSON; `columns` are the titles of CSV. Nothing is
    /// written before the first rows are there, or the end: a list that is refused leaves nothing behind.
    pub(crate) fn new(
        console: &'a Console,
        form: DataForm,
        (schema, name): (&str, &str),
        columns: &[String],
    ) -> Result<Self, Problem> {
        Self::with(console, form, (schema, &[], name), columns)
    }

    /// The same, with members of the document that stand before the list.
    pub(crate) fn with(
        console: &'a Console,
        form: DataForm,
        (schema, members, name): (&str, &[(&str, Value)], &str),
        columns: &[String],
    ) -> Result<Self, Problem> {
        Ok(Self { console, form, out: form.begin_with(schema, members, name, columns)?, last: None, count: 0 })
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

/// A table that people read, on its way out. How wide its columns are is known after the first rows; a cell that is wider than
/// all before it moves what stands behind it in its row.
pub(crate) struct TableStream<'a> {
    console: &'a Console,
    titles: Vec<String>,
    right: Vec<bool>,
    /// The first rows, until the widths are known.
    first: Vec<Vec<String>>,
    widths: Vec<usize>,
    head: String,
    out: String,
    count: usize,
}

impl<'a> TableStream<'a> {
    /// An empty table.
    pub(crate) fn new(console: &'a Console, titles: &[String]) -> Self {
        let right = titles.iter().map(|title| counts(title)).collect();
        let titles: Vec<String> = titles.iter().map(|title| title.to_uppercase()).collect();
        let widths = titles.iter().map(|title| title.width()).collect();
        let (head, out) = (String::new(), String::new());
        Self { console, titles, right, first: Vec::new(), widths, head, out, count: 0 }
    }

    /// Takes one more row, of as many cells as there are titles.
    pub(crate) fn add(&mut self, cells: &[String]) -> Result<(), Problem> {
        let cells: Vec<String> = cells.iter().map(|cell| printable(cell).into_owned()).collect();
        self.count += 1;
        if self.count > MEASURED {
            self.out.push_str(&line(cells.iter().map(String::as_str), &self.widths, &self.right));
            return if self.out.len() >= AT_ONCE { self.put() } else { Ok(()) };
        }
        for (width, cell) in self.widths.iter_mut().zip(&cells) {
            *width = cell.width().max(*width);
        }
        self.first.push(cells);
        if self.count == MEASURED { self.begin() } else { Ok(()) }
    }

    /// Writes the head and the first rows.
    fn begin(&mut self) -> Result<(), Problem> {
        self.head = line(self.titles.iter().map(String::as_str), &self.widths, &self.right);
        self.out.push_str(&self.head);
        for row in std::mem::take(&mut self.first) {
            self.out.push_str(&line(row.iter().map(String::as_str), &self.widths, &self.right));
        }
        self.put()
    }

    fn put(&mut self) -> Result<(), Problem> {
        self.console.write_rows(&self.head, &self.out)?;
        self.out.clear();
        Ok(())
    }

    /// Ends the table; `empty` is what people read if it has no rows. Gives how many there are.
    pub(crate) fn end(mut self, empty: &str) -> Result<usize, Problem> {
        match self.count {
            0 => self.console.note(empty),
            count if count < MEASURED => self.begin()?,
            _ => self.put()?,
        }
        Ok(self.count)
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
    fn a_table_that_streams_looks_like_one_that_does_not() {
        let titles = ["id", "number", "note"].map(str::to_owned);
        let rows =
            [["wv-1", "7", ""], ["st-ossel-top", "12", "x y"], ["w", "", "\u{96ea}\u{1b}z"], ["v", "3", "e\u{301}"]];
        let rows: Vec<Vec<String>> = rows.iter().map(|row| row.map(str::to_owned).to_vec()).collect();
        let console = Console::new(crate::console::Format::Table, true);
        let mut stream = TableStream::new(&console, &titles);
        rows.iter().for_each(|row| stream.add(row).unwrap());
        let lines = std::iter::once(stream.titles.clone()).chain(stream.first.iter().cloned());
        let text: String =
            lines.map(|row| line(row.iter().map(String::as_str), &stream.widths, &stream.right)).collect();
        assert_eq!(text, table(&titles, &rows));
    }
}
