//! Lists of devices as files: CSV or JSON Lines, read row by row, so that a million rows need no more memory than one.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashSet};
use std::io::{BufRead, BufReader, Read, Seek, SeekFrom};

use tidy_warden_core::admission::filled;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::FactName;
use tidy_warden_core::id::{KindName, LabelName};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::printable;
use tidy_warden_core::time::UnixTime;

use crate::edge::{device_id, fact, known_kind, label_name, parse};
use crate::problem::Problem;

/// The longest row, in octets; one with a request inside has a few thousand.
const MAX_ROW: u64 = 256 * 1024;

/// The title of the column that says why a row was refused; lists may carry it, and it is passed over.
pub const REASON: &str = "refused";

/// What the listings of devices add to what they were given.
const PASSED_OVER: [&str; 6] = ["state", "ends", "seen", "created", "owner", REASON];

/// What a column holds.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Column {
    Id,
    Kind,
    Gateway,
    Owner,
    Note,
    Csr,
    Certificate,
    PublicKey,
    Ends,
    Label(LabelName),
    Fact(FactName),
}

/// Which columns a list may have beside those of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Extra {
    /// None.
    None,
    /// `csr`.
    Requests,
    /// `cert`, `public_key` and `until`.
    Pins,
    /// `public_key` and `until`; an id may be a pattern, such as `gg-{serial}`.
    Admissions,
}

impl Column {
    /// The column with a title; `None` if it is passed over.
    fn parse(title: &str, extra: Extra, settings: &Settings) -> Result<Option<Self>, String> {
        Ok(Some(match (title, title.split_once('.')) {
            ("id", _) => Self::Id,
            ("kind", _) => Self::Kind,
            ("gateway", _) => Self::Gateway,
            ("owner", _) if extra == Extra::Admissions => Self::Owner,
            ("note", _) if matches!(extra, Extra::None | Extra::Requests) => Self::Note,
            // A list of devices says it of those that it lists.
            ("note", _) => return Ok(None),
            ("csr", _) if extra == Extra::Requests => Self::Csr,
            ("cert", _) if extra == Extra::Pins => Self::Certificate,
            ("public_key", _) if matches!(extra, Extra::Pins | Extra::Admissions) => Self::PublicKey,
            ("until", _) if matches!(extra, Extra::Pins | Extra::Admissions) => Self::Ends,
            (word, _) if PASSED_OVER.contains(&word) => return Ok(None),
            (_, Some(("label", name))) => {
                Self::Label(label_name(settings, name).map_err(|_| format!("`{name}` cannot name a label"))?)
            }
            (_, Some(("fact", name))) => Self::Fact(settings.fact_name(name)?),
            _ => {
                let more = match extra {
                    Extra::None => ", note",
                    Extra::Requests => ", note, csr",
                    Extra::Pins => ", cert, public_key, until",
                    Extra::Admissions => ", owner, public_key, until",
                };
                return Err(format!(
                    "`{title}` is not a column; expected id, kind, gateway{more}, label.NAME or fact.NAME"
                ));
            }
        }))
    }
}

/// A row as it was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Raw {
    /// Fields of CSV.
    Fields(csv::StringRecord),
    /// A line of JSON.
    Line(String),
}

/// What a good row says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListEntry {
    /// The device, as far as the row tells of it. Without a kind, it must be listed already.
    pub device: DeviceRecord,
    /// Whether the row names the kind.
    pub has_kind: bool,
    /// A request: PEM, base64 of DER, or a path relative to the list.
    pub csr: Option<String>,
    /// The path of a certificate.
    pub certificate: Option<String>,
    /// The path of a public key.
    pub public_key: Option<String>,
    /// Until when it is bound.
    pub until: Option<UnixTime>,
}

/// One row.
#[derive(Debug, Clone)]
pub struct Row {
    /// Its line in the file, from 1.
    pub line: u64,
    /// As it was written.
    pub raw: Raw,
    /// What it says, or why it cannot be taken, in one line.
    pub entry: Result<ListEntry, String>,
}

impl Row {
    /// One row. What the row itself says may stand in the reason; it stays in one line and steers no terminal there.
    fn new(line: u64, raw: Raw, entry: Result<ListEntry, String>) -> Self {
        Self { line, raw, entry: entry.map_err(|why| printable(&why).into_owned()) }
    }
}

/// Where the next row begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct At {
    /// Offset in octets.
    pub byte: u64,
    /// Line, from 1.
    pub line: u64,
}

/// A list that is being read.
pub struct ListReader<'s, R> {
    settings: &'s Settings,
    now: UnixTime,
    extra: Extra,
    form: Reading<R>,
}

enum Reading<R> {
    Csv { reader: csv::Reader<R>, header: csv::StringRecord, columns: Vec<Option<Column>> },
    Lines { reader: BufReader<R>, at: At },
}

impl<'s, R: Read + Seek> ListReader<'s, R> {
    /// Begins to read a list that errors call `shown`. One that begins with `{` is JSON Lines, any other CSV.
    ///
    /// # Errors
    /// The header of a CSV list is wrong; nothing can be said of its rows then.
    pub fn open(
        mut input: R,
        shown: &str,
        extra: Extra,
        settings: &'s Settings,
        now: UnixTime,
    ) -> Result<Self, Problem> {
        let failed = |error: std::io::Error| Problem::failed(format!("cannot read {shown}")).because(error.to_string());
        let mut start = [0; 64];
        let mut length = 0;
        while length < start.len() {
            match input.read(&mut start[length..]).map_err(failed)? {
                0 => break,
                count => length += count,
            }
        }
        let mark = if start.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
        let first = start[mark..length].iter().find(|octet| !octet.is_ascii_whitespace());
        input.seek(SeekFrom::Start(0)).map_err(failed)?;
        let form = if first == Some(&b'{') {
            let mut reader = BufReader::with_capacity(1 << 16, input);
            std::io::copy(&mut reader.by_ref().take(u64::try_from(mark).unwrap_or(0)), &mut std::io::sink())
                .map_err(failed)?;
            Reading::Lines { reader, at: At { byte: u64::try_from(mark).unwrap_or(0), line: 1 } }
        } else {
            let mut reader = csv::ReaderBuilder::new()
                .flexible(true)
                .trim(csv::Trim::All)
                .buffer_capacity(1 << 16)
                .from_reader(input);
            let header = reader
                .headers()
                .map_err(|error| Problem::refused(format!("cannot read {shown}")).because(error))?
                .clone();
            let columns = columns(&header, extra, settings, shown)?;
            Reading::Csv { reader, header, columns }
        };
        Ok(Self { settings, now, extra, form })
    }

    /// Goes on at a row that was reached before.
    ///
    /// # Errors
    /// The input cannot be read there.
    pub fn seek(&mut self, to: At) -> std::io::Result<()> {
        match &mut self.form {
            Reading::Csv { reader, .. } => {
                let mut position = csv::Position::new();
                position.set_byte(to.byte).set_line(to.line);
                reader.seek(position).map_err(std::io::Error::other)
            }
            Reading::Lines { reader, at } => {
                *at = to;
                reader.seek(SeekFrom::Start(to.byte)).map(|_| ())
            }
        }
    }

    /// Where the next row begins.
    pub fn at(&self) -> At {
        match &self.form {
            Reading::Csv { reader, .. } => At { byte: reader.position().byte(), line: reader.position().line() },
            Reading::Lines { at, .. } => *at,
        }
    }

    /// The next row; `None` at the end.
    ///
    /// # Errors
    /// The input cannot be read.
    pub fn next_row(&mut self) -> std::io::Result<Option<Row>> {
        match &mut self.form {
            Reading::Csv { reader, columns, .. } => {
                let mut record = csv::StringRecord::new();
                let before = reader.position().line();
                let read = reader.read_record(&mut record);
                let line = record.position().map_or(before, csv::Position::line);
                let entry = match read {
                    Ok(false) => return Ok(None),
                    Ok(true) if record.len() != columns.len() => {
                        Err(format!("it has {} fields, the header has {}", record.len(), columns.len()))
                    }
                    Ok(true) => {
                        let fields =
                            columns.iter().zip(&record).filter_map(|(column, field)| Some((column.as_ref()?, field)));
                        entry(fields, self.extra, self.settings, self.now)
                    }
                    Err(error) => match error.into_kind() {
                        csv::ErrorKind::Io(error) => return Err(error),
                        csv::ErrorKind::Utf8 { .. } => Err("it holds bytes that are not UTF-8".to_owned()),
                        other => Err(format!("it is not CSV: {other:?}")),
                    },
                };
                Ok(Some(Row::new(line, Raw::Fields(record), entry)))
            }
            Reading::Lines { reader, at } => loop {
                let mut octets = Vec::new();
                let count = reader.by_ref().take(MAX_ROW).read_until(b'\n', &mut octets)?;
                if count == 0 {
                    return Ok(None);
                }
                let mut length = u64::try_from(count).unwrap_or(0);
                let whole = octets.ends_with(b"\n") || length < MAX_ROW;
                if !whole {
                    length += u64::try_from(reader.skip_until(b'\n')?).unwrap_or(0);
                }
                let line = at.line;
                *at = At { byte: at.byte + length, line: line + 1 };
                if octets.iter().all(u8::is_ascii_whitespace) {
                    continue;
                }
                let (text, entry) = match String::from_utf8(octets) {
                    Ok(text) if whole => {
                        let entry = json_entry(&text, self.extra, self.settings, self.now);
                        (text.trim_end().to_owned(), entry)
                    }
                    Ok(_) => (String::new(), Err(format!("it has more than {MAX_ROW} bytes"))),
                    Err(_) => (String::new(), Err("it holds bytes that are not UTF-8".to_owned())),
                };
                return Ok(Some(Row::new(line, Raw::Line(text), entry)));
            },
        }
    }

    /// How rows stand in a list of their own that has the column `name` more, in the place of one that this list has under that name.
    pub fn adding(&self, name: &'static str) -> Adding {
        let (head, columns) = match &self.form {
            Reading::Csv { header, .. } => {
                let before = header.iter().position(|title| title == name);
                let columns: Vec<usize> = (0..header.len()).filter(|at| Some(*at) != before).collect();
                let titles = columns.iter().map(|at| header.get(*at).unwrap_or_default());
                (csv_line(titles.chain([name])), columns)
            }
            Reading::Lines { .. } => (Vec::new(), Vec::new()),
        };
        Adding { name, head, columns }
    }

    /// The file name ending of lists of this form.
    pub fn extension(&self) -> &'static str {
        match self.form {
            Reading::Csv { .. } => "csv",
            Reading::Lines { .. } => "jsonl",
        }
    }
}

/// Writes rows of a list with a column more.
#[derive(Debug, Clone)]
pub struct Adding {
    name: &'static str,
    /// What the list begins with.
    pub head: Vec<u8>,
    columns: Vec<usize>,
}

impl Adding {
    /// A row as it was read, with what stands in that column.
    pub fn text(&self, row: &Raw, value: &str) -> Vec<u8> {
        match row {
            Raw::Fields(record) => {
                csv_line(self.columns.iter().map(|at| record.get(*at).unwrap_or_default()).chain([value]))
            }
            Raw::Line(text) => {
                let mut object = serde_json::from_str(text).unwrap_or_else(|_| serde_json::json!({ "line": text }));
                if let Some(fields) = object.as_object_mut() {
                    fields.insert(self.name.to_owned(), value.into());
                }
                format!("{object}\n").into_bytes()
            }
        }
    }
}

fn csv_line<'f>(fields: impl Iterator<Item = &'f str>) -> Vec<u8> {
    let mut writer = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
    // Writing into memory does not fail.
    let _ = writer.write_record(fields);
    writer.into_inner().unwrap_or_default()
}

fn columns(
    header: &csv::StringRecord,
    extra: Extra,
    settings: &Settings,
    shown: &str,
) -> Result<Vec<Option<Column>>, Problem> {
    let example = match extra {
        Extra::None => "id,kind,label.site,fact.serial,fact.mac",
        Extra::Requests => "id,kind,label.site,fact.serial,csr",
        Extra::Pins => "id,cert,until",
        Extra::Admissions => "id,kind,label.site,fact.serial",
    };
    let bad = |why: String| {
        Problem::refused(format!("cannot read {shown}: its header is wrong"))
            .because(printable(&why))
            .next(format!("begin the file with a line such as: {example}"))
    };
    let mut columns = Vec::new();
    let mut seen = HashSet::new();
    for title in header {
        if !seen.insert(title) {
            return Err(bad(format!("the column `{title}` stands twice")));
        }
        columns.push(Column::parse(title, extra, settings).map_err(bad)?);
    }
    let needed: &[&str] = if matches!(extra, Extra::None | Extra::Admissions) { &["id", "kind"] } else { &["id"] };
    match needed.iter().find(|needed| !seen.contains(**needed)) {
        Some(missing) => Err(bad(format!("the column `{missing}` is missing"))),
        None => Ok(columns),
    }
}

fn json_entry(text: &str, extra: Extra, settings: &Settings, now: UnixTime) -> Result<ListEntry, String> {
    use serde_json::Value;
    let value: Value = serde_json::from_str(text).map_err(|error| format!("it is not JSON: {error}"))?;
    let Value::Object(fields) = value else { return Err("it is not a JSON object".to_owned()) };
    let mut found: Vec<(Column, String)> = Vec::new();
    let mut take = |title: &str, text: String| {
        let Some(column) = Column::parse(title, extra, settings)? else { return Ok(()) };
        if found.iter().any(|(known, _)| *known == column) {
            return Err(format!("`{title}` stands twice"));
        }
        found.push((column, text));
        Ok(())
    };
    for (name, value) in fields {
        match value {
            Value::Null => {}
            Value::String(text) => take(&name, text)?,
            _ if PASSED_OVER.contains(&name.as_str()) => {}
            Value::Object(inner) if name == "labels" || name == "facts" => {
                for (key, value) in inner {
                    let Value::String(text) = value else { return Err(format!("`{key}` is not a text")) };
                    let title = format!("{}.{key}", name.trim_end_matches('s'));
                    take(&title, text)?;
                }
            }
            _ => return Err(format!("`{name}` is not a text")),
        }
    }
    entry(found.iter().map(|(column, text)| (column, text.as_str())), extra, settings, now)
}

fn entry<'f>(
    fields: impl Iterator<Item = (&'f Column, &'f str)> + Clone,
    extra: Extra,
    settings: &Settings,
    now: UnixTime,
) -> Result<ListEntry, String> {
    let one_line = |problem: Problem| problem.in_one_line();
    let field = |wanted: &Column| fields.clone().find(|(column, _)| *column == wanted).map_or("", |(_, text)| text);
    let mut facts = BTreeMap::new();
    for (column, text) in fields.clone().filter(|(_, text)| !text.is_empty()) {
        if let Column::Fact(name) = column {
            facts.insert(name.clone(), fact(settings, name.as_str(), text).map_err(one_line)?);
        }
    }
    let id = match extra {
        Extra::Admissions => Cow::from(filled(field(&Column::Id), &facts).map_err(|error| error.to_string())?),
        _ => Cow::from(field(&Column::Id)),
    };
    let id = device_id(settings, &id).map_err(one_line)?;
    let kind_text = field(&Column::Kind);
    // A device that is listed has its kind already; until it is found, this one stands in its place.
    let kind: KindName = parse(if kind_text.is_empty() { "unknown" } else { kind_text }).map_err(one_line)?;
    if !kind_text.is_empty() {
        known_kind(settings, &kind).map_err(one_line)?;
    }
    let mut entry = ListEntry {
        device: DeviceRecord { facts, ..DeviceRecord::new(id, kind, now) },
        has_kind: !kind_text.is_empty(),
        csr: None,
        certificate: None,
        public_key: None,
        until: None,
    };
    for (column, text) in fields.filter(|(_, text)| !text.is_empty()) {
        match column {
            Column::Gateway => entry.device.gateway = Some(parse(text).map_err(one_line)?),
            Column::Owner => entry.device.owner = Some(parse(text).map_err(one_line)?),
            Column::Note => entry.device.note = Some(parse(text).map_err(one_line)?),
            Column::Label(name) => {
                entry.device.labels.insert(name.clone(), parse(text).map_err(one_line)?);
            }
            Column::Csr => entry.csr = Some(text.to_owned()),
            Column::Certificate => entry.certificate = Some(text.to_owned()),
            Column::PublicKey => entry.public_key = Some(text.to_owned()),
            Column::Ends => entry.until = Some(parse(text).map_err(one_line)?),
            Column::Id | Column::Kind | Column::Fact(_) => {}
        }
    }
    Ok(entry)
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use tidy_warden_core::text::Source;

    use super::*;

    fn settings() -> Settings {
        let text = "[ward]\nname = \"n\"\n[kinds.windvane]\n";
        Settings::parse(&Source::new("ward.toml", text)).unwrap()
    }

    fn rows(text: &str) -> Vec<(u64, Result<String, String>)> {
        let settings = settings();
        let input = Cursor::new(text.as_bytes().to_vec());
        let mut reader = ListReader::open(input, "list", Extra::Requests, &settings, UnixTime(0)).unwrap();
        let mut found = Vec::new();
        while let Some(row) = reader.next_row().unwrap() {
            let told = row.entry.map(|entry| {
                let labels: Vec<String> =
                    entry.device.labels.iter().map(|(name, value)| format!("{name}={value}")).collect();
                format!("{} {} {:?}", entry.device.id, labels.join(","), entry.csr)
            });
            found.push((row.line, told));
        }
        found
    }

    proptest::proptest! {
        /// Whatever a list holds, it is refused whole, or each row is taken or refused with its line.
        #[test]
        fn no_list_makes_the_reader_fail_badly(text in "(id|kind|label.site|fact.serial|csr|wv-1|windvane|[,\"\r\n{}:\\\\\u{feff}]|\\PC){0,60}") {
            let settings = settings();
            for start in ["", "id,kind\n", "{\"id\":\"wv-1\",\"kind\":\"windvane\"}\n"] {
                let input = Cursor::new(format!("{start}{text}").into_bytes());
                let Ok(mut reader) = ListReader::open(input, "list", Extra::Requests, &settings, UnixTime(0)) else { continue };
                let mut last = 0;
                while let Ok(Some(row)) = reader.next_row() {
                    proptest::prop_assert!(row.line >= last);
                    last = row.line;
                    if let Err(why) = row.entry {
                        proptest::prop_assert!(!why.is_empty() && !why.contains('\n'));
                    }
                }
            }
        }
    }

    #[test]
    fn a_reason_stays_in_its_line_whatever_the_row_says() {
        for list in
            ["id,kind\nwv-1,\"wind\nvane\u{1b}[2J\"\n", "{\"id\":\"wv-1\",\"ki\\nnd\\u001b[2J\":\"windvane\"}\n"]
        {
            let why = rows(list).remove(0).1.unwrap_err();
            assert!(why.contains("\\n") && why.contains("\\u{1b}"), "{why}");
            assert!(!why.contains(char::is_control), "{why:?}");
        }
    }

    #[test]
    fn both_forms_say_the_same() {
        let csv = rows("\u{feff}id,kind,label.site,csr\nwv-1,windvane,ossel,a.csr\nwv-2,windvane,,\n");
        assert_eq!(csv, [(2, Ok("wv-1 site=ossel Some(\"a.csr\")".into())), (3, Ok("wv-2  None".into()))]);
        let lines = "{\"id\":\"wv-1\",\"kind\":\"windvane\",\"labels\":{\"site\":\"ossel\"},\"csr\":\"a.csr\"}\n\n\
                     {\"id\":\"wv-2\",\"kind\":\"windvane\",\"state\":\"listed\",\"ends\":null}\n";
        assert_eq!(rows(lines), [(1, Ok("wv-1 site=ossel Some(\"a.csr\")".into())), (3, Ok("wv-2  None".into()))]);
    }

    #[test]
    fn bad_rows_are_told_with_their_lines() {
        let found = rows("id,kind,label.site\nwv-1,windvane\nWV,windvane,\nwv-3,windvain,\n");
        let whys: Vec<&str> = found.iter().filter_map(|(_, row)| row.as_ref().err().map(String::as_str)).collect();
        assert_eq!(found.iter().map(|(line, _)| *line).collect::<Vec<_>>(), [2, 3, 4]);
        assert!(whys[0].contains("2 fields") && whys[2].contains("not declared"), "{whys:?}");
        let found = rows("{\"id\":\"wv-1\"}\n{\"id\":1}\n[]\n{\"id\":\"wv-1\",\"colour\":\"red\"}\nnonsense\n");
        let bad: Vec<u64> = found.iter().filter(|(_, row)| row.is_err()).map(|(line, _)| *line).collect();
        assert_eq!(bad, [2, 3, 4, 5], "{found:?}");
    }

    #[test]
    fn reading_goes_on_where_it_stopped() {
        for text in [
            "id,kind\nwv-1,windvane\nwv-2,windvane\nwv-3,windvane\n",
            "{\"id\":\"wv-1\"}\n{\"id\":\"wv-2\"}\n{\"id\":\"wv-3\"}\n",
        ] {
            let settings = settings();
            let open = || {
                let input = Cursor::new(text.as_bytes().to_vec());
                ListReader::open(input, "list", Extra::Requests, &settings, UnixTime(0)).unwrap()
            };
            let mut first = open();
            first.next_row().unwrap().unwrap();
            let at = first.at();
            let mut second = open();
            second.seek(at).unwrap();
            let row = second.next_row().unwrap().unwrap();
            assert_eq!(row.entry.unwrap().device.id.as_str(), "wv-2");
            assert_eq!(row.line, first.next_row().unwrap().unwrap().line);
            assert!(second.next_row().unwrap().is_some() && second.next_row().unwrap().is_none());
        }
    }

    #[test]
    fn refused_rows_can_be_read_again() {
        let settings = settings();
        let text = "id,refused,kind\nWV,old,\"wind,vane\"\n";
        let input = Cursor::new(text.as_bytes().to_vec());
        let mut reader = ListReader::open(input, "list", Extra::None, &settings, UnixTime(0)).unwrap();
        let row = reader.next_row().unwrap().unwrap();
        let refused = reader.adding(REASON);
        let text = [refused.head.clone(), refused.text(&row.raw, "line 2: because")].concat();
        assert_eq!(String::from_utf8(text).unwrap(), "id,kind,refused\nWV,\"wind,vane\",line 2: because\n");
    }
}
