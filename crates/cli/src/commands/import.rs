//! `device import`: a CSV file, all of it or none, with every bad row told.

use std::collections::{BTreeMap, HashSet};
use std::path::Path;

use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::KindName;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::Store;

use super::Context;
use crate::args::ImportArgs;
use crate::console::counted;
use crate::edge::{device_id, fact, known_kind, label_name, parse};
use crate::files;
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// The largest list, in octets: a million rows have about 60 MB.
const MAX_LIST: u64 = 512 * 1024 * 1024;

/// How many bad rows are told one by one.
const TOLD: usize = 20;

/// What a column holds.
enum Column {
    Id,
    Kind,
    Gateway,
    Label(tidy_warden_core::id::LabelName),
    Fact(String),
}

/// A row that cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct BadRow {
    /// Its line in the file, from 1.
    pub(crate) line: u64,
    /// Why, in one line.
    pub(crate) why: String,
}

/// A list that was read: good rows as devices with their lines, bad rows with their reasons.
pub(crate) struct List {
    header: csv::StringRecord,
    pub(crate) good: Vec<(u64, DeviceRecord)>,
    pub(crate) bad: Vec<BadRow>,
    records: BTreeMap<u64, csv::StringRecord>,
}

pub(crate) fn run(context: &Context<'_>, args: &ImportArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let shown = args.file.display().to_string();
    let text = if args.file == Path::new("-") {
        files::read_input(MAX_LIST)?
    } else {
        files::read_text(&args.file, MAX_LIST)?
    };
    if let Some(rejects) = args.rejects.as_deref().filter(|path| path.exists()) {
        return Err(
            Problem::refused(format!("{} exists already", rejects.display())).next("name another --rejects file")
        );
    }
    let mut list = List::read(&text, &shown, &ward.settings, ward.now())?;
    let cause = ward.cause(args.because.text());
    let taken = list.store(&mut ward, args.rejects.is_some(), &cause)?;
    if list.bad.is_empty() {
        context.console.note(format!("listed {} from {shown}", counted(taken, "device")));
        return Ok(Exit::Done);
    }
    let told = list.bad_rows();
    let Some(rejects) = &args.rejects else {
        return Err(Problem::refused(format!("nothing of {shown} was taken: {} of its rows are bad", list.bad.len()))
            .because(told)
            .next("mend these rows and import again, or take the others with --rejects FILE"));
    };
    let text = list.rejects()?;
    files::replace(rejects, text.as_bytes()).map_err(|error| Problem::file("write", rejects, &error))?;
    context.console.note(format!(
        "listed {}; refused {}:\n{told}",
        counted(taken, "device"),
        counted(list.bad.len(), "row")
    ));
    context.console.note(format!("mend the refused rows in {} and import that file", rejects.display()));
    Ok(Exit::Partly)
}

impl List {
    /// Reads the text of a list.
    ///
    /// # Errors
    /// The header is wrong; nothing can be said of the rows then.
    pub(crate) fn read(text: &str, shown: &str, settings: &Settings, now: UnixTime) -> Result<Self, Problem> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let mut reader = csv::ReaderBuilder::new().flexible(true).trim(csv::Trim::All).from_reader(text.as_bytes());
        let header =
            reader.headers().map_err(|error| Problem::refused(format!("cannot read {shown}")).because(error))?.clone();
        let columns = columns(&header, shown)?;
        let mut list = Self { header, good: Vec::new(), bad: Vec::new(), records: BTreeMap::new() };
        for record in reader.records() {
            match record {
                Ok(record) => {
                    let line = record.position().map_or(0, csv::Position::line);
                    match device(&record, &columns, settings, now) {
                        Ok(device) => list.good.push((line, device)),
                        Err(why) => list.bad.push(BadRow { line, why }),
                    }
                    list.records.insert(line, record);
                }
                Err(error) => {
                    let line = error.position().map_or(0, csv::Position::line);
                    list.bad.push(BadRow { line, why: error.to_string() });
                }
            }
        }
        if list.good.is_empty() && list.bad.is_empty() {
            return Err(
                Problem::refused(format!("{shown} lists no device")).because("there is no row after the header")
            );
        }
        Ok(list)
    }

    /// Lists the good rows: all rows or none, or, with `in_part`, those that can be taken. Gives how many were.
    pub(crate) fn store(
        &mut self,
        ward: &mut Ward,
        in_part: bool,
        cause: &tidy_warden_store::Cause,
    ) -> Result<usize, Problem> {
        // Each round takes out the rows that the store refused; every round but the last finds at least one.
        loop {
            let devices: Vec<DeviceRecord> = self.good.iter().map(|(_, device)| device.clone()).collect();
            if (!self.bad.is_empty() && !in_part) || devices.is_empty() {
                // Nothing will be taken, but the store's reasons belong to the list of what to mend.
                let refusals = ward.store.check_devices(&devices)?;
                self.note(&refusals);
                return Ok(0);
            }
            match ward.store.add_devices(&devices, cause)? {
                Ok(()) => return Ok(devices.len()),
                Err(refusals) => {
                    self.note(&refusals);
                    if !in_part {
                        return Ok(0);
                    }
                }
            }
        }
    }

    /// Moves refused rows to the bad ones.
    fn note(&mut self, refusals: &[tidy_warden_store::AddRefusal]) {
        let mut whys: BTreeMap<u64, Vec<String>> = BTreeMap::new();
        for refusal in refusals {
            if let Some((line, _)) = self.good.get(refusal.index()) {
                whys.entry(*line).or_default().push(refusal.to_string());
            }
        }
        self.bad.extend(whys.into_iter().map(|(line, whys)| BadRow { line, why: whys.join("; ") }));
        let refused: HashSet<usize> = refusals.iter().map(tidy_warden_store::AddRefusal::index).collect();
        let mut at = 0;
        self.good.retain(|_| {
            at += 1;
            !refused.contains(&(at - 1))
        });
        self.bad.sort_by_key(|row| row.line);
    }

    fn bad_rows(&self) -> String {
        let mut lines: Vec<String> =
            self.bad.iter().take(TOLD).map(|row| format!("  line {}: {}", row.line, row.why)).collect();
        if self.bad.len() > TOLD {
            lines.push(format!("  and {} more", self.bad.len() - TOLD));
        }
        lines.join("\n")
    }

    /// The refused rows as a list of their own, with a column that says why, which import passes over.
    fn rejects(&self) -> Result<String, Problem> {
        let failed = |error: csv::Error| Problem::failed("cannot write CSV").because(error);
        let mut writer = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
        let reason_at = self.header.iter().position(|title| title == REASON);
        let columns: Vec<usize> = (0..self.header.len()).filter(|at| Some(*at) != reason_at).collect();
        let pick = |record: &csv::StringRecord, last: &str| {
            let mut row: Vec<String> =
                columns.iter().map(|at| record.get(*at).unwrap_or_default().to_owned()).collect();
            row.push(last.to_owned());
            row
        };
        writer.write_record(pick(&self.header, REASON)).map_err(failed)?;
        for row in &self.bad {
            if let Some(record) = self.records.get(&row.line) {
                writer.write_record(pick(record, &row.why)).map_err(failed)?;
            }
        }
        let bytes = writer.into_inner().map_err(|error| Problem::failed("cannot write CSV").because(error))?;
        Ok(String::from_utf8_lossy(&bytes).into_owned())
    }
}

/// The title of the column that says why a row was refused.
const REASON: &str = "refused";

fn columns(header: &csv::StringRecord, shown: &str) -> Result<Vec<Option<Column>>, Problem> {
    let bad = |why: String| {
        Problem::refused(format!("cannot read {shown}: its header is wrong"))
            .because(why)
            .next("begin the file with a line such as: id,kind,label.site,fact.serial,fact.mac")
    };
    let mut columns = Vec::new();
    let mut seen = HashSet::new();
    for title in header {
        if !seen.insert(title) {
            return Err(bad(format!("the column `{title}` stands twice")));
        }
        columns.push(match title.split_once('.') {
            _ if title == "id" => Some(Column::Id),
            _ if title == "kind" => Some(Column::Kind),
            _ if title == "gateway" => Some(Column::Gateway),
            // What `device list --format csv` adds, and the reason that a rejects file carries.
            _ if ["state", "ends", "seen", REASON].contains(&title) => None,
            Some(("label", name)) => {
                Some(Column::Label(label_name(name).map_err(|_| bad(format!("`{name}` cannot name a label")))?))
            }
            Some(("fact", name)) => {
                tidy_warden_core::fact::FactName::parse(name).map_err(|error| bad(error.to_string()))?;
                Some(Column::Fact(name.to_owned()))
            }
            _ => {
                return Err(bad(format!(
                    "`{title}` is not a column; expected id, kind, gateway, label.NAME or fact.NAME"
                )));
            }
        });
    }
    for needed in ["id", "kind"] {
        if !seen.contains(needed) {
            return Err(bad(format!("the column `{needed}` is missing")));
        }
    }
    Ok(columns)
}

fn device(
    record: &csv::StringRecord,
    columns: &[Option<Column>],
    settings: &Settings,
    now: UnixTime,
) -> Result<DeviceRecord, String> {
    let one_line = |problem: Problem| problem.one_line();
    if record.len() != columns.len() {
        return Err(format!("it has {} fields, the header has {}", record.len(), columns.len()));
    }
    let field = |wanted: fn(&Column) -> bool| {
        columns
            .iter()
            .zip(record)
            .find(|(column, _)| column.as_ref().is_some_and(wanted))
            .map_or("", |(_, field)| field)
    };
    let id = device_id(settings, field(|column| matches!(column, Column::Id))).map_err(one_line)?;
    let kind: KindName = parse(field(|column| matches!(column, Column::Kind))).map_err(one_line)?;
    known_kind(settings, &kind).map_err(one_line)?;
    let mut device = DeviceRecord::new(id, kind, now);
    for (column, field) in columns.iter().zip(record).filter(|(_, field)| !field.is_empty()) {
        match column {
            Some(Column::Gateway) => device.gateway = Some(parse(field).map_err(one_line)?),
            Some(Column::Label(name)) => {
                device.labels.insert(name.clone(), parse(field).map_err(one_line)?);
            }
            Some(Column::Fact(name)) => {
                let fact = fact(name, field).map_err(one_line)?;
                device.facts.insert(fact.name().clone(), fact);
            }
            Some(Column::Id | Column::Kind) | None => {}
        }
    }
    Ok(device)
}
