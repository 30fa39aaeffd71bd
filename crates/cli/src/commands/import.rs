//! `device import`: a CSV file, all of it or none, with every bad row told.

use std::collections::{BTreeMap, HashSet};
use std::io::Cursor;
use std::path::Path;

use serde_json::json;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;

use super::Context;
use crate::args::ImportArgs;
use crate::console::counted;
use crate::files;
use crate::list::{Extra, ListReader, Raw};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// The largest list, in octets: a million rows have about 60 MB.
const MAX_LIST: u64 = 512 * 1024 * 1024;

/// How many bad rows are told one by one.
const TOLD: usize = 20;

/// A row that cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct BadRow {
    /// Its line in the file, from 1.
    pub(crate) line: u64,
    /// Why, in one line.
    pub(crate) why: String,
}

/// A list that was read: good rows as devices with their lines, bad rows with their reasons.
pub(crate) struct List<'s> {
    reader: ListReader<'s, Cursor<Vec<u8>>>,
    pub(crate) good: Vec<(u64, DeviceRecord)>,
    pub(crate) bad: Vec<BadRow>,
    rows: BTreeMap<u64, Raw>,
}

pub(crate) fn run(context: &Context<'_>, args: &ImportArgs) -> Result<Exit, Problem> {
    let mut ward = context.ward()?;
    let shown = args.file.display().to_string();
    let octets = if args.file == Path::new("-") {
        files::read_input_octets(MAX_LIST)?
    } else {
        files::read(&args.file, MAX_LIST)?
    };
    if let Some(rejects) = args.rejects.as_deref().filter(|path| path.exists()) {
        return Err(
            Problem::refused(format!("{} exists already", rejects.display())).next("name another --rejects file")
        );
    }
    let settings = ward.settings.clone();
    let mut list = List::read(octets, &shown, &settings, ward.now())?;
    let cause = ward.cause(args.because.text());
    let taken = list.store(&mut ward, args.rejects.is_some(), &cause)?;
    if list.bad.is_empty() {
        let value = json!({ "listed": taken, "refused": 0 });
        let note = format!("listed {} from {shown}", counted(taken, "device"));
        context.console.did("tidy-warden/device-import/1", value, note)?;
        return Ok(Exit::Done);
    }
    let told = list.bad_rows();
    let Some(rejects) = &args.rejects else {
        let bad = match list.bad.len() {
            1 => "one of its rows is bad".to_owned(),
            many => format!("{many} of its rows are bad"),
        };
        return Err(Problem::refused(format!("nothing of {shown} was taken: {bad}"))
            .because(told)
            .next("fix these rows and import again, or take the others with --rejects FILE"));
    };
    files::replace(rejects, &list.rejects()).map_err(|error| Problem::file("write", rejects, &error))?;
    context.console.note(format!(
        "listed {}; refused {}:\n{told}",
        counted(taken, "device"),
        counted(list.bad.len(), "row")
    ));
    context.console.note(format!("fix the refused rows in {} and import that file", rejects.display()));
    Ok(Exit::Partly)
}

impl<'s> List<'s> {
    /// Reads the octets of a list.
    ///
    /// # Errors
    /// The header is wrong; nothing can be said of the rows then.
    pub(crate) fn read(octets: Vec<u8>, shown: &str, settings: &'s Settings, now: UnixTime) -> Result<Self, Problem> {
        let reader = ListReader::open(Cursor::new(octets), shown, Extra::None, settings, now)?;
        let mut list = Self { reader, good: Vec::new(), bad: Vec::new(), rows: BTreeMap::new() };
        let failed = |error: std::io::Error| Problem::failed(format!("cannot read {shown}")).because(error);
        while let Some(row) = list.reader.next_row().map_err(failed)? {
            match row.entry {
                Ok(entry) if entry.has_kind => list.good.push((row.line, entry.device)),
                Ok(_) => list.bad.push(BadRow { line: row.line, why: "it names no kind".to_owned() }),
                Err(why) => list.bad.push(BadRow { line: row.line, why }),
            }
            list.rows.insert(row.line, row.raw);
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
    fn note(&mut self, refusals: &[tidy_warden_core::device::AddRefusal]) {
        let mut whys: BTreeMap<u64, Vec<String>> = BTreeMap::new();
        for refusal in refusals {
            if let Some((line, _)) = self.good.get(refusal.index()) {
                whys.entry(*line).or_default().push(refusal.to_string());
            }
        }
        self.bad.extend(whys.into_iter().map(|(line, whys)| BadRow { line, why: whys.join("; ") }));
        let refused: HashSet<usize> = refusals.iter().map(tidy_warden_core::device::AddRefusal::index).collect();
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
    fn rejects(&self) -> Vec<u8> {
        let mut out = self.reader.refused_head();
        let refusals = self.reader.refusals();
        for row in &self.bad {
            if let Some(raw) = self.rows.get(&row.line) {
                out.extend(refusals.text(raw, &row.why));
            }
        }
        out
    }
}
