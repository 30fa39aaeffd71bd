//! Where results and notes go, and in which form.

use std::io::{self, BufRead, IsTerminal, Write};

use clap::ValueEnum;
use comfy_table::{CellAlignment, Table, presets};
use serde_json::{Value, json};
use tidy_warden_core::text::{printable, printable_lines};

use crate::paint;
use crate::problem::Problem;

/// The form of results.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Table,
    /// One JSON document.
    Json,
    /// One JSON object a line.
    Jsonl,
    /// Comma-separated values with a header line.
    Csv,
}

/// The forms that programs read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum DataForm {
    Json,
    Jsonl,
    Csv,
}

/// Standard output for results, standard error for notes.
#[derive(Debug)]
pub(crate) struct Console {
    format: Format,
    quiet: bool,
    /// Whether people read on a terminal with colours.
    colour: bool,
}

/// A listing in all its forms.
pub(crate) struct Listing {
    /// The name and version of its JSON, such as `tidy-warden/devices/1`.
    pub(crate) schema: &'static str,
    /// The key of the items in the JSON document.
    pub(crate) key: &'static str,
    /// The items as JSON objects.
    pub(crate) items: Vec<Value>,
    /// Column titles for people and CSV.
    pub(crate) columns: Vec<String>,
    /// Rows for people and CSV.
    pub(crate) rows: Vec<Vec<String>>,
    /// What people read if there is nothing to list.
    pub(crate) empty: &'static str,
}

impl Console {
    pub(crate) fn new(format: Format, quiet: bool) -> Self {
        Self { format, quiet, colour: format == Format::Table && paint::wanted() }
    }

    pub(crate) fn is_for_people(&self) -> bool {
        self.format == Format::Table
    }

    /// The form in which a program reads results; `None` if people do.
    pub(crate) fn form(&self) -> Option<DataForm> {
        match self.format {
            Format::Table => None,
            Format::Json => Some(DataForm::Json),
            Format::Jsonl => Some(DataForm::Jsonl),
            Format::Csv => Some(DataForm::Csv),
        }
    }

    /// A line whose word at the character `place` tells how a step ended.
    pub(crate) fn step(&self, line: &str, place: usize) -> Result<(), Problem> {
        self.write(&if self.colour { paint::step(line, place) } else { line.to_owned() })
    }

    pub(crate) fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Whether results are wanted line by line: for people, or as JSON Lines.
    pub(crate) fn is_for_lines(&self) -> bool {
        matches!(self.format, Format::Table | Format::Jsonl)
    }

    /// A note for people, on standard error; `--quiet` leaves it out.
    pub(crate) fn note(&self, text: impl AsRef<str>) {
        if !self.quiet {
            // Notes are a courtesy; a closed standard error takes none.
            let _ = writeln!(io::stderr(), "{}", printable_lines(text.as_ref()));
        }
    }

    /// A warning, on standard error, also with `--quiet`.
    pub(crate) fn warn(&self, text: impl AsRef<str>) {
        let _ = writeln!(io::stderr(), "warning: {}", printable_lines(text.as_ref()));
    }

    /// Octets of a result on standard output. A broken pipe is not an error: the reader had enough.
    pub(crate) fn write(&self, text: &str) -> Result<(), Problem> {
        let mut out = io::stdout().lock();
        match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
            Err(error) if error.kind() != io::ErrorKind::BrokenPipe => {
                Err(Problem::failed("cannot write to standard output").because(error))
            }
            _ => Ok(()),
        }
    }

    /// One thing: as text for people, else as JSON.
    pub(crate) fn show(&self, schema: &'static str, value: Value, text: &str) -> Result<(), Problem> {
        if self.is_for_people() {
            return match self.colour {
                true => self.write(&paint::text(text)),
                false => self.write(text),
            };
        }
        let mut document = json!({ "schema": schema });
        if let (Some(document), Value::Object(fields)) = (document.as_object_mut(), value) {
            document.extend(fields);
        }
        let text = match self.format {
            Format::Jsonl => document.to_string(),
            _ => pretty(&document),
        };
        self.write(&(text + "\n"))
    }

    /// What was done: a note for people, else a document.
    pub(crate) fn did(&self, schema: &'static str, value: Value, note: impl AsRef<str>) -> Result<(), Problem> {
        if self.is_for_people() {
            self.note(note);
            return Ok(());
        }
        self.show(schema, value, "")
    }

    /// Whether results are wanted as CSV, which only lists have.
    pub(crate) fn is_csv(&self) -> bool {
        self.format == Format::Csv
    }

    /// A listing.
    pub(crate) fn list(&self, listing: Listing) -> Result<(), Problem> {
        let Some(form) = self.form() else {
            return self.rows(&listing.columns, &listing.rows, listing.empty);
        };
        let mut out = form.begin(listing.schema, listing.key, &listing.columns)?;
        let count = listing.items.len();
        for (at, (item, row)) in listing.items.into_iter().zip(listing.rows).enumerate() {
            out.push_str(&form.one(|| item, || row)?);
            out.push_str(form.behind(at + 1 == count));
        }
        self.write(&(out + form.end()))
    }

    /// A list for people; `empty` is what they read if there is nothing to list.
    pub(crate) fn rows(&self, columns: &[String], rows: &[Vec<String>], empty: &str) -> Result<(), Problem> {
        if rows.is_empty() {
            self.note(empty);
            return Ok(());
        }
        let text = table(columns, rows);
        let head = text.lines().next().unwrap_or_default().to_owned();
        self.write_rows(&head, &text)
    }

    /// Rows of a table whose first line is `head`.
    pub(crate) fn write_rows(&self, head: &str, rows: &str) -> Result<(), Problem> {
        match self.colour {
            true => self.write(&paint::rows(head, rows)),
            false => self.write(rows),
        }
    }

    /// Asks for a yes unless `yes` was given. Without a terminal and without `--yes` nothing is done.
    pub(crate) fn confirm(&self, question: &str, yes: bool) -> Result<(), Problem> {
        if yes {
            return Ok(());
        }
        match self.ask(&format!("{question} Type yes: "))? {
            Some(answer) if matches!(answer.trim(), "y" | "yes") => Ok(()),
            Some(_) => Err(Problem::refused("nothing was done").because("the answer was not yes")),
            None => Err(Problem::usage("this needs a yes, and there is no terminal to ask on").next("add --yes")),
        }
    }

    /// Wants the number of devices that an act is about: typed, or given. Another number refuses the act whole.
    pub(crate) fn confirm_count(&self, count: u64, given: Option<u64>) -> Result<(), Problem> {
        let wrong = |said: &str| {
            Problem::refused("nothing was done")
                .because(format!(
                    "the condition matches {}, not {said}",
                    counted(usize::try_from(count).unwrap_or(usize::MAX), "device")
                ))
                .next("look again at the condition")
        };
        match given {
            Some(given) if given == count => Ok(()),
            Some(given) => Err(wrong(&given.to_string())),
            None => match self.ask("Type how many devices that is: ")? {
                Some(answer) if answer.trim() == count.to_string() => Ok(()),
                Some(answer) => Err(wrong(&format!("{:?}", answer.trim()))),
                None => Err(Problem::usage("this wants the number of devices, and there is no terminal to ask on")
                    .next(format!("add --count {count} if that is what you mean"))),
            },
        }
    }

    /// The reason for a change that needs one: as given, or asked for on a terminal.
    pub(crate) fn reason(&self, given: Option<&str>) -> Result<String, Problem> {
        match given {
            Some(text) => Ok(text.to_owned()),
            None => match self.ask("Why (kept in the audit record): ")? {
                Some(answer) if answer.trim().is_empty() => {
                    Err(Problem::usage("this needs a reason").next("add --because TEXT"))
                }
                Some(answer) => Ok(answer.trim().to_owned()),
                None => Ok(String::new()),
            },
        }
    }

    /// What a person types in answer to a question; `None` if there is no terminal to ask on.
    pub(crate) fn typed(&self, question: &str) -> Result<Option<String>, Problem> {
        self.ask(question)
    }

    /// One line from the terminal; `None` if there is none.
    fn ask(&self, question: &str) -> Result<Option<String>, Problem> {
        if !(io::stdin().is_terminal() && io::stderr().is_terminal()) {
            return Ok(None);
        }
        let failed = |error| Problem::failed("cannot ask on the terminal").because(error);
        write!(io::stderr(), "{question}").and_then(|()| io::stderr().flush()).map_err(failed)?;
        let mut line = String::new();
        io::stdin().lock().read_line(&mut line).map_err(failed)?;
        Ok(Some(line))
    }
}

fn pretty(value: &Value) -> String {
    serde_json::to_string_pretty(value).unwrap_or_else(|_| value.to_string())
}

/// Whether a column holds counts or figures, which stand to the right.
pub(crate) fn counts(column: &str) -> bool {
    matches!(column, "number" | "count" | "each")
}

/// Aligned columns, no lines.
pub(crate) fn table(columns: &[String], rows: &[Vec<String>]) -> String {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header(columns.iter().map(|column| column.to_uppercase()));
    for row in rows {
        table.add_row(row.iter().map(|cell| printable(cell)));
    }
    for (at, column) in columns.iter().enumerate() {
        if let Some(shape) = table.column_mut(at) {
            shape.set_padding((0, 2));
            if counts(column) {
                shape.set_cell_alignment(CellAlignment::Right);
            }
        }
    }
    let text = table.to_string();
    text.lines().map(|line| format!("{}\n", line.trim_end())).collect()
}

impl DataForm {
    /// What a list begins with: in JSON the document `schema`, which has the items under `name`; in CSV the header line.
    pub(crate) fn begin(self, schema: &str, name: &str, columns: &[String]) -> Result<String, Problem> {
        self.begin_with(schema, &[], name, columns)
    }

    /// The same, with members of the document that stand before the list.
    pub(crate) fn begin_with(
        self,
        schema: &str,
        members: &[(&str, Value)],
        name: &str,
        columns: &[String],
    ) -> Result<String, Problem> {
        match self {
            Self::Json => {
                let mut out = format!("{{\n  \"schema\": {},", json!(schema));
                for (name, value) in members {
                    out.push_str(&format!("\n  {}: {},", json!(name), pretty(value).replace('\n', "\n  ")));
                }
                Ok(out + &format!("\n  {}: [", json!(name)))
            }
            Self::Jsonl => Ok(String::new()),
            Self::Csv => record(columns),
        }
    }

    /// One item: JSON has `item`, CSV has `row`.
    pub(crate) fn one(
        self,
        item: impl FnOnce() -> Value,
        row: impl FnOnce() -> Vec<String>,
    ) -> Result<String, Problem> {
        match self {
            Self::Json => Ok("\n    ".to_owned() + &pretty(&item()).replace('\n', "\n    ")),
            Self::Jsonl => Ok(item().to_string() + "\n"),
            Self::Csv => record(&row()),
        }
    }

    /// What stands behind an item.
    pub(crate) fn behind(self, last: bool) -> &'static str {
        match (self, last) {
            (Self::Json, false) => ",",
            (Self::Json, true) => "\n  ",
            (Self::Jsonl | Self::Csv, _) => "",
        }
    }

    /// What a list ends with.
    pub(crate) fn end(self) -> &'static str {
        if self == Self::Json { "]\n}\n" } else { "" }
    }
}

/// One line of CSV (RFC 4180).
fn record(cells: &[String]) -> Result<String, Problem> {
    let failed = |error: csv::Error| Problem::failed("cannot write CSV").because(error);
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(cells).map_err(failed)?;
    let octets = writer.into_inner().map_err(|error| Problem::failed("cannot write CSV").because(error))?;
    Ok(String::from_utf8_lossy(&octets).into_owned())
}

/// A count and its noun, which takes an `s` (or changes `y` behind a consonant to `ies`) where there is not one.
pub(crate) fn counted(count: usize, noun: &str) -> String {
    match (count, noun.strip_suffix('y').filter(|stem| !stem.ends_with(['a', 'e', 'o', 'u']))) {
        (1, _) => format!("1 {noun}"),
        (_, Some(stem)) => format!("{count} {stem}ies"),
        (_, None) => format!("{count} {noun}s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_aligned_and_have_no_blanks_at_line_ends() {
        let columns = ["id", "number", "note"].map(str::to_owned);
        let rows = [["wv-1", "7", ""], ["st-ossel-top", "12", "x"]].map(|row| row.map(str::to_owned).to_vec());
        let text = table(&columns, &rows);
        assert_eq!(text, "ID            NUMBER  NOTE\nwv-1               7\nst-ossel-top      12  x\n");
    }

    #[test]
    fn no_cell_forges_a_row_or_reaches_the_terminal() {
        let columns = ["id", "because"].map(str::to_owned);
        let rows = [vec!["wv-1".to_owned(), "odd\n7  ada  revoke\u{1b}[2J\u{202e}x".to_owned()]];
        let text = table(&columns, &rows);
        assert_eq!(text.lines().count(), 2, "{text}");
        assert!(text.contains("odd\\n7  ada  revoke\\u{1b}[2J\\u{202e}x"), "{text}");
    }

    #[test]
    fn csv_quotes_what_needs_it() {
        let row = || vec!["1,2".into(), "\"q\"".into()];
        let head = DataForm::Csv.begin("s/1", "k", &["a".into(), "b".into()]).unwrap();
        let line = DataForm::Csv.one(|| Value::Null, row).unwrap();
        assert_eq!(head + &line + DataForm::Csv.end(), "a,b\n\"1,2\",\"\"\"q\"\"\"\n");
    }

    #[test]
    fn counts_have_their_plural() {
        let told: Vec<String> = [0, 1, 2].map(|count| counted(count, "entry")).into();
        assert_eq!(told, ["0 entries", "1 entry", "2 entries"]);
        assert_eq!(counted(2, "key"), "2 keys");
        assert_eq!((counted(1, "row"), counted(7, "row")), ("1 row".to_owned(), "7 rows".to_owned()));
    }
}
