//! Bars of letters: when what is due ends, and when renewals come.

use tidy_warden_core::due::Bar;
use tidy_warden_core::time::UnixTime;

use super::Found;
use crate::console::counted;

/// The longest bar, in characters.
const LONGEST: u64 = 48;

/// The most lines of a chart that shows nothing too; a longer one leaves out times with nothing.
const MOST_LINES: usize = 40;

const DAY: i64 = 86_400;

/// How many characters stand for a number; one at least, if it is something.
fn length(number: u64, most: u64) -> usize {
    let whole = u128::from(number) * u128::from(LONGEST) / u128::from(most.max(1));
    let least = usize::from(number > 0);
    usize::try_from(whole).unwrap_or(0).max(least)
}

/// What the bars of a step are called.
fn head(step: i64) -> &'static str {
    match step / DAY {
        1 => "DAY",
        7 => "WEEK FROM",
        _ => "28 DAYS FROM",
    }
}

/// When what is due ends.
pub(super) fn ends(found: &Found) -> String {
    let bars = &found.summary.bars;
    let most = bars.iter().map(|bar| bar.by_itself + bar.needs_you).max().unwrap_or(0);
    let mut out = format!("{:<12}  ENDS: # needs you, = renews by itself\n", head(found.summary.step));
    if found.summary.over > 0 {
        out.push_str(&format!("{:<12}  {}\n", "over", found.summary.over));
    }
    let told = bars.iter().filter(|bar| bars.len() <= MOST_LINES || bar.by_itself + bar.needs_you > 0);
    for Bar { begins, by_itself, needs_you } in told {
        let bar = "#".repeat(length(*needs_you, most)) + &"=".repeat(length(*by_itself, most));
        out.push_str(&line(*begins, &bar, by_itself + needs_you));
    }
    out
}

fn line(begins: UnixTime, bar: &str, number: u64) -> String {
    let gap = if bar.is_empty() { "" } else { " " };
    let number = if number == 0 { String::new() } else { number.to_string() };
    format!("{:<12}  {bar}{gap}{number}", begins.date()).trim_end().to_owned() + "\n"
}

/// When renewals come.
pub(super) fn renewals(found: &Found) -> String {
    let forecast = &found.forecast;
    let (at, most) = forecast.peak();
    let last = forecast.begins(forecast.days().len() - 1);
    if forecast.total() == 0 {
        return format!("no device renews until {}\n", last.date());
    }
    let step = usize::try_from(found.summary.step / DAY).unwrap_or(1).max(1);
    let steps: Vec<u64> = forecast.days().chunks(step).map(|days| days.iter().sum()).collect();
    let fullest = steps.iter().copied().max().unwrap_or(0);
    let mut out = format!("{:<12}  RENEWALS by devices\n", head(found.summary.step));
    for (place, number) in steps.iter().enumerate().filter(|(_, number)| steps.len() <= MOST_LINES || **number > 0) {
        let bar = "*".repeat(length(*number, fullest));
        out.push_str(&line(forecast.begins(place * step), &bar, *number));
    }
    let total = counted(usize::try_from(forecast.total()).unwrap_or(usize::MAX), "renewal");
    out.push_str(&format!("{total} until {}, {most} on the fullest day, {}\n", last.date(), at.date()));
    if let Some(spread) = &found.spread {
        let (_, lowest) = forecast.fullest(spread);
        out.push_str(&match lowest < most {
            true => format!("spread over their windows, no day would bring more than {lowest}\n"),
            false => "spreading them would not make that day less full\n".to_owned(),
        });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_there_is_seen_and_nothing_is_longer_than_the_longest() {
        for (number, most, characters) in
            [(0, 0, 0), (0, 9, 0), (1, 1_000_000, 1), (9, 9, 48), (3, 9, 16), (u64::MAX, u64::MAX, 48)]
        {
            assert_eq!(length(number, most), characters, "{number} of {most}");
        }
        assert_eq!(line(UnixTime(0), "##", 2), "1970-01-01    ## 2\n");
        assert_eq!(line(UnixTime(0), "", 0), "1970-01-01\n");
    }
}
