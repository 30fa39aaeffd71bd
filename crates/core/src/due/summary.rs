//! Many things that fall due, counted.

use std::collections::BTreeMap;

use super::{Happens, Item};
use crate::id::LabelName;
use crate::time::UnixTime;

const DAY: i64 = 86_400;

/// What is counted together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum By {
    /// What ends on one day (UTC).
    Day,
    /// What ends in one week, which begins on a Monday (ISO 8601).
    Week,
    /// What is the same, such as a certificate.
    What,
    /// What is of devices of one kind.
    Kind,
    /// What one authority signed.
    Authority,
    /// What is of devices with the same value of a label.
    Label(LabelName),
}

impl By {
    /// The group of an item, by which groups are ordered; `None` if it is in none, such as an authority by kinds.
    #[must_use]
    pub fn group(&self, item: &Item) -> Option<String> {
        match self {
            Self::Day => Some(item.ends.date()),
            Self::Week => Some(monday(item.ends).date()),
            Self::What => Some(item.what.as_str().to_owned()),
            Self::Kind => item.kind.as_ref().map(ToString::to_string),
            Self::Authority => item.authority.as_ref().map(ToString::to_string),
            Self::Label(_) => item.label.clone(),
        }
    }
}

/// The first second of the week of a moment.
fn monday(at: UnixTime) -> UnixTime {
    // The epoch was a Thursday.
    let day = at.0.div_euclid(DAY);
    UnixTime((day - (day + 3).rem_euclid(7)) * DAY)
}

/// What is in a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Group {
    /// How many renew by themselves.
    pub by_itself: u64,
    /// How many need a person.
    pub needs_you: u64,
    /// The first end.
    pub first: UnixTime,
    /// The last one.
    pub last: UnixTime,
}

impl Group {
    fn add(&mut self, item: &Item) {
        match item.happens() {
            Happens::Itself => self.by_itself += 1,
            Happens::Person => self.needs_you += 1,
        }
        self.first = self.first.min(item.ends);
        self.last = self.last.max(item.ends);
    }
}

/// How many ends fall into a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bar {
    /// Its first second; of the first bar the beginning of all that is told of.
    pub begins: UnixTime,
    /// How many renew by themselves.
    pub by_itself: u64,
    /// How many need a person.
    pub needs_you: u64,
}

/// What falls due, counted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Summary {
    by: By,
    /// The groups, in their order; those in none stand under an empty text.
    pub groups: BTreeMap<String, Group>,
    /// How many ends fall into each day or week, from the present one on.
    pub bars: Vec<Bar>,
    /// Seconds that a bar spans.
    pub step: i64,
    /// How many are over already.
    pub over: u64,
    now: UnixTime,
    /// How many there are, by what happens.
    pub all: Group,
    /// The first end of what needs a person.
    pub first_needs_you: Option<UnixTime>,
}

/// The most days that are shown one by one; more are shown by weeks, and far more by months of four.
const DAYS_ONE_BY_ONE: i64 = 31;
const WEEKS_ONE_BY_ONE: i64 = 53 * 7;

impl Summary {
    /// One with nothing in it, for what ends from `now` to `until`.
    #[must_use]
    pub fn new(by: By, now: UnixTime, until: UnixTime) -> Self {
        let begins = now.0.div_euclid(DAY) * DAY;
        let days = (until.0 - begins).div_euclid(DAY) + 1;
        let step = if days <= DAYS_ONE_BY_ONE {
            DAY
        } else if days <= WEEKS_ONE_BY_ONE {
            7 * DAY
        } else {
            28 * DAY
        };
        let bars = (days * DAY + step - 1).div_euclid(step).clamp(1, 700);
        let bar = |place: i64| Bar { begins: UnixTime(begins + place * step), by_itself: 0, needs_you: 0 };
        let all = Group { by_itself: 0, needs_you: 0, first: until, last: now };
        Self {
            by,
            groups: BTreeMap::new(),
            bars: (0..bars).map(bar).collect(),
            step,
            over: 0,
            now,
            all,
            first_needs_you: None,
        }
    }

    /// Counts an item.
    pub fn add(&mut self, item: &Item) {
        let empty = Group { by_itself: 0, needs_you: 0, first: item.ends, last: item.ends };
        self.groups.entry(self.by.group(item).unwrap_or_default()).or_insert(empty).add(item);
        if self.all.by_itself + self.all.needs_you == 0 {
            self.all = empty;
        }
        self.all.add(item);
        if item.happens() == Happens::Person {
            self.first_needs_you = Some(self.first_needs_you.map_or(item.ends, |first| first.min(item.ends)));
        }
        if item.ends < self.now {
            self.over += 1;
            return;
        }
        let begins = self.bars.first().map_or(0, |bar| bar.begins.0);
        // What falls due long before its end, such as an authority, stands in the last bar.
        let place = usize::try_from((item.ends.0 - begins) / self.step).unwrap_or(0).min(self.bars.len() - 1);
        match item.happens() {
            Happens::Itself => self.bars[place].by_itself += 1,
            Happens::Person => self.bars[place].needs_you += 1,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::due::{What, Why};

    fn item(ends: i64, why: Why) -> Item {
        Item {
            what: What::Certificate,
            name: "wv-1".into(),
            kid: None,
            ends: UnixTime(ends),
            why,
            kind: "windvane".parse().ok(),
            authority: None,
            label: Some("ossel".into()),
        }
    }

    #[test]
    fn items_are_counted_by_group_and_by_time() {
        let now = UnixTime(100 * DAY + 3_600);
        let renews = Why::Renews { from: now };
        for (by, groups) in [
            (By::Day, vec![("1970-04-10", 0, 1), ("1970-04-11", 1, 0), ("1970-04-14", 1, 1)]),
            (By::Week, vec![("1970-04-06", 1, 1), ("1970-04-13", 1, 1)]),
            (By::What, vec![("certificate", 2, 2)]),
            (By::Kind, vec![("windvane", 2, 2)]),
            (By::Authority, vec![("", 2, 2)]),
            (By::Label("site".parse().unwrap()), vec![("ossel", 2, 2)]),
        ] {
            let mut summary = Summary::new(by, now, UnixTime(104 * DAY));
            for (day, why) in [(99, Why::Ended), (100, renews), (103, renews), (103, Why::Key)] {
                summary.add(&item(day * DAY + 7_200, why));
            }
            let told: Vec<_> =
                summary.groups.iter().map(|(name, group)| (name.as_str(), group.by_itself, group.needs_you)).collect();
            assert_eq!(told, groups);
            assert_eq!((summary.over, summary.all.by_itself, summary.all.needs_you), (1, 2, 2));
            let bars: Vec<_> = summary.bars.iter().map(|bar| (bar.by_itself, bar.needs_you)).collect();
            assert_eq!(bars, [(1, 0), (0, 0), (0, 0), (1, 1), (0, 0)]);
        }
    }

    #[test]
    fn long_times_have_wider_bars_and_nothing_falls_out() {
        let now = UnixTime(0);
        for (days, step, bars) in
            [(1, 1, 2), (30, 1, 31), (60, 7, 9), (365, 7, 53), (3_650, 28, 131), (40_000, 28, 700)]
        {
            let mut summary = Summary::new(By::What, now, UnixTime(days * DAY));
            assert_eq!((summary.step / DAY, summary.bars.len()), (step, bars), "{days} days");
            summary.add(&item(days * DAY, Why::Key));
            summary.add(&item(i64::MAX, Why::Key));
            assert_eq!(summary.bars.last().map(|bar| bar.needs_you), Some(2), "{days} days");
        }
    }
}
