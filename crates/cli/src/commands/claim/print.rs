//! `claim print`: stickers with QR codes. What is printed opens devices: the files are for their owner's eyes only.

use std::path::Path;

use serde::Deserialize;
use serde_json::json;
use tidy_warden_core::claim::Code;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::settings::Settings;
use tidy_warden_plot::{Label, Paper, sheets};
use tidy_warden_ward::claim::link;

use super::super::Context;
use super::{code, code_of};
use crate::args::{PaperArg, PrintArgs};
use crate::console::counted;
use crate::edge::parse;
use crate::files::{self, Access};
use crate::problem::{Exit, Problem};

/// The largest list, in octets, and the most stickers of one document.
const MAX_LIST: u64 = 64 * 1024 * 1024;
const MOST: usize = 100_000;

/// A row of what `claim open` wrote; other columns are passed over.
#[derive(Deserialize)]
struct Row {
    id: String,
    code: String,
    #[serde(default)]
    ends: String,
}

/// A sticker. Its link is made anew by the ward's settings: whatever a list says, nobody is led elsewhere.
/// A device's sticker.
pub(crate) fn label(settings: &Settings, id: &DeviceId, code: Option<&Code>, ends: &str) -> Label {
    let day: String = ends.chars().take(10).collect();
    Label {
        maker: settings.name.clone(),
        name: id.to_string(),
        code: code.map(|code| code.grouped().to_string()).unwrap_or_default(),
        foot: if day.is_empty() { String::new() } else { format!("until {day}") },
        link: link(settings, id, code),
    }
}

fn unprinted(why: impl std::fmt::Display) -> Problem {
    Problem::failed("nothing was printed").because(why)
}

pub(super) fn run(context: &Context<'_>, args: &PrintArgs) -> Result<Exit, Problem> {
    let ward = context.ward()?;
    match (&args.from, &args.sheet) {
        (Some(from), Some(sheet)) => many(context, &ward.settings, from, sheet, args.paper),
        _ => one(context, &ward.settings, args),
    }
}

fn put(path: &Path, octets: &[u8]) -> Result<(), Problem> {
    files::create_whole(path, octets, Access::Secret).map_err(|error| unprinted(format!("{}: {error}", path.display())))
}

fn one(context: &Context<'_>, settings: &Settings, args: &PrintArgs) -> Result<Exit, Problem> {
    let device = args.device.as_deref().unwrap_or_default();
    let id: DeviceId = parse(device)?;
    let out = args.out.as_deref().ok_or_else(|| Problem::usage("where does the sticker go?").next("--out FILE"))?;
    let code = code_of(None, args.code_file.as_deref())?;
    let label = label(settings, &id, code.as_ref(), "");
    let octets = match out.extension().and_then(|extension| extension.to_str()) {
        Some("png") => label.png().map_err(unprinted)?,
        Some("svg") => label.svg().map_err(unprinted)?.into_bytes(),
        _ => {
            return Err(Problem::usage(format!("{} is neither .png nor .svg", out.display()))
                .next("for a sheet of many: --from codes.csv --sheet stickers.pdf"));
        }
    };
    put(out, &octets)?;
    let value = json!({ "device": id, "file": out.display().to_string() });
    context.console.did("tidy-warden/claim-print/1", value, format!("printed {id} into {}", out.display()))?;
    Ok(Exit::Done)
}

fn many(
    context: &Context<'_>,
    settings: &Settings,
    from: &Path,
    sheet: &Path,
    paper: PaperArg,
) -> Result<Exit, Problem> {
    let octets = zeroize::Zeroizing::new(files::read(from, MAX_LIST)?);
    let mut labels = Vec::new();
    let mut reader = csv::Reader::from_reader(octets.as_slice());
    for (row, read) in reader.deserialize::<Row>().enumerate() {
        let at = |why: &dyn std::fmt::Display| {
            Problem::refused(format!("{} cannot be printed", from.display()))
                .because(format!("row {}: {why}", row + 2))
                .next("it is to have the columns id, code, ends, as claim open --out writes it")
        };
        let Row { id, code: text, ends } = read.map_err(|error| at(&error))?;
        let id: DeviceId = id.parse().map_err(|error| at(&error))?;
        let code = (!text.is_empty()).then(|| code(&text)).transpose().map_err(|_| at(&"its code is none"))?;
        labels.push(label(settings, &id, code.as_ref(), &ends));
        if labels.len() > MOST {
            return Err(at(&format!("there are more than {MOST}")));
        }
    }
    if labels.is_empty() {
        return Err(Problem::not_found(format!("{} has no rows", from.display())));
    }
    let paper = match paper {
        PaperArg::A4 => Paper::A4,
        PaperArg::Letter => Paper::Letter,
    };
    put(sheet, &sheets(&labels, paper, "Claim stickers").map_err(unprinted)?)?;
    let value = json!({ "stickers": labels.len(), "file": sheet.display().to_string() });
    let note = format!("printed {} into {}", counted(labels.len(), "sticker"), sheet.display());
    context.console.did("tidy-warden/claim-printed/1", value, note)?;
    Ok(Exit::Done)
}
