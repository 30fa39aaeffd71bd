//! The figure of `due`: ends above, renewals below.

use std::path::Path;

use tidy_warden_core::due::{Bar, Group};
use tidy_warden_plot::{Figure, Fill, Panel, Series};

use super::Found;
use crate::files;
use crate::problem::Problem;

const DAY: i64 = 86_400;

/// The most days that stand for themselves; with more of them weeks do.
const MOST_DAYS: usize = 124;

/// The form of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    Svg,
    Png,
}

impl Form {
    /// The form that the name of a file asks for.
    pub(super) fn of(path: &Path) -> Result<Self, Problem> {
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
        match ending.as_deref() {
            Some("svg") => Ok(Self::Svg),
            Some("png") => Ok(Self::Png),
            _ => Err(Problem::usage(format!("{} names no form of figures", path.display()))
                .next("--plot due.svg, or due.png")),
        }
    }
}

pub(super) fn write(found: &Found, ward: &str, path: &Path, form: Form) -> Result<(), Problem> {
    let figure = figure(found, ward);
    let octets = match form {
        Form::Svg => figure.svg().into_bytes(),
        Form::Png => {
            figure.png().map_err(|error| Problem::failed(format!("{} was not drawn", path.display())).because(error))?
        }
    };
    files::replace(path, &octets).map_err(|error| Problem::file("write", path, &error))
}

fn figure(found: &Found, ward: &str) -> Figure {
    let Group { by_itself, needs_you, .. } = found.summary.all;
    let series = |name: &str, fill, values: Vec<u64>| Series { name: name.to_owned(), fill, values };
    let bars = &found.summary.bars;
    let of = |each: &dyn Fn(&Bar) -> u64| bars.iter().map(each).collect();
    let ends = Panel {
        title: match found.summary.step / DAY {
            1 => "Ends by day".to_owned(),
            7 => "Ends by week".to_owned(),
            _ => "Ends by four weeks".to_owned(),
        },
        times: bars.iter().map(|bar| bar.begins.date()).collect(),
        bars: vec![
            series("needs you", Fill::Urgent, of(&|bar| bar.needs_you)),
            series("renews by itself", Fill::Calm, of(&|bar| bar.by_itself)),
        ],
        line: None,
    };
    let days = found.forecast.days();
    let step = if days.len() > MOST_DAYS { 7 } else { 1 };
    let chunks = |days: &[u64]| days.chunks(step).map(|days| days.iter().sum()).collect::<Vec<u64>>();
    let renewals = chunks(days);
    let (at, most) = found.forecast.peak();
    let panel = Panel {
        title: format!(
            "Renewals by {}: at most {most} a day, on {}",
            if step == 1 { "day" } else { "week" },
            at.date()
        ),
        times: (0..renewals.len()).map(|place| found.forecast.begins(place * step).date()).collect(),
        bars: vec![series("as devices come", Fill::Plain, renewals)],
        line: found.spread.as_ref().map(|spread| series("spread over their windows", Fill::Plain, chunks(spread))),
    };
    let over = if found.summary.over > 0 { format!(", {} over", found.summary.over) } else { String::new() };
    Figure {
        title: format!("What is due in {ward}"),
        subtitle: format!(
            "until {}: {needs_you} need a person{over}, {by_itself} renew by themselves",
            found.until.date()
        ),
        panels: vec![ends, panel],
        foot: format!("tidy-warden due, {}", found.now),
    }
}
