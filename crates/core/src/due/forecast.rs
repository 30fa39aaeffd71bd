//! How many renewals each day brings, and how few the fullest day could have.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap};

use crate::time::UnixTime;

const DAY: i64 = 86_400;

/// The most days that a forecast has.
pub const MOST_DAYS: usize = 366;

/// How many renewals each day brings, from the day of `begins` on (UTC).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Forecast {
    now: UnixTime,
    /// The first second of the first day.
    begins: UnixTime,
    days: Vec<u64>,
    /// How many renewals might be made on any day from one to another, both counted, by those days.
    choices: BTreeMap<(u16, u16), u64>,
}

/// One certificate that its device renews, and those that follow it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Renewing {
    /// When its renewal opens.
    pub(super) opens: UnixTime,
    /// Its last second.
    pub(super) ends: UnixTime,
    /// Seconds before its end from which on a renewal could be allowed.
    pub(super) window: i64,
    /// Seconds between two renewals, of those that follow.
    pub(super) period: i64,
    /// Seconds that those last that follow, and how long before their ends a renewal could be allowed.
    pub(super) next: (i64, i64),
}

impl Forecast {
    /// One with nothing in it, from the day of `now` to that of `until`, but [`MOST_DAYS`] at the most.
    #[must_use]
    pub fn new(now: UnixTime, until: UnixTime) -> Self {
        let begins = UnixTime(now.0.div_euclid(DAY) * DAY);
        let days = usize::try_from(until.since(begins) / DAY + 1).unwrap_or(1).clamp(1, MOST_DAYS);
        Self { now, begins, days: vec![0; days], choices: BTreeMap::new() }
    }

    /// The day in which a moment is; the first for one before it, `None` behind the last.
    fn day(&self, at: UnixTime) -> Option<usize> {
        let day = usize::try_from(at.since(self.begins).max(0) / DAY).unwrap_or(usize::MAX);
        (day < self.days.len()).then_some(day)
    }

    /// Adds `count` renewals at a moment, which might be made on any day from one moment to another.
    fn add(&mut self, at: UnixTime, (from, to): (UnixTime, UnixTime), count: u64) -> bool {
        let Some(day) = self.day(at) else { return false };
        self.days[day] += count;
        let last = self.days.len() - 1;
        let from = self.day(from).unwrap_or(last).min(day);
        // One for which it is late already is made now. What may be made behind the last day still falls within these days: otherwise
        // a forecast of a week would look as if all could be put off.
        let to = self.day(to).unwrap_or(last).max(day);
        let narrow = |day: usize| u16::try_from(day).unwrap_or(u16::MAX);
        *self.choices.entry((narrow(from), narrow(to))).or_default() += count;
        true
    }

    /// Adds a certificate and those that follow it.
    pub(super) fn add_renewing(&mut self, renewing: Renewing) {
        let Renewing { opens, ends, window, period, next: (life, next_window) } = renewing;
        let mut at = opens.max(self.now);
        // A quarter of the window stays for what goes wrong.
        if !self.add(at, (UnixTime(ends.0 - window), UnixTime(ends.0 - window / 4)), 1) {
            return;
        }
        let period = period.max(1);
        loop {
            let ends = UnixTime(at.0.saturating_add(life));
            at = UnixTime(at.0.saturating_add(period));
            let Some(day) = self.day(at) else { return };
            // Of those that come several times a day, the rest of the day is counted at once.
            let more = (self.begins(day + 1).0 - 1 - at.0) / period;
            let choice = (UnixTime(ends.0 - next_window), UnixTime(ends.0 - next_window / 4));
            self.add(at, choice, u64::try_from(more).unwrap_or(0) + 1);
            at = UnixTime(at.0 + more * period);
        }
    }

    /// The first second of a day (UTC), counted from 0, also of one behind the last.
    #[must_use]
    pub fn begins(&self, day: usize) -> UnixTime {
        UnixTime(self.begins.0.saturating_add(i64::try_from(day).unwrap_or(i64::MAX).saturating_mul(DAY)))
    }

    /// How many renewals each day brings.
    #[must_use]
    pub fn days(&self) -> &[u64] {
        &self.days
    }

    /// How many all days bring.
    #[must_use]
    pub fn total(&self) -> u64 {
        self.days.iter().sum()
    }

    /// The first second of the fullest day, the first of them, and how many it brings.
    #[must_use]
    pub fn peak(&self) -> (UnixTime, u64) {
        self.fullest(&self.days)
    }

    /// The first second of the fullest of some days, which begin as these, and how many it brings.
    #[must_use]
    pub fn fullest(&self, days: &[u64]) -> (UnixTime, u64) {
        let most = days.iter().copied().max().unwrap_or(0);
        let day = days.iter().position(|each| *each == most).unwrap_or(0);
        (self.begins(day), most)
    }

    /// What the days would bring if each renewal were put on the best day of those on which it could be: from the opening of its kind's
    /// window to the last quarter of that. The fullest of these days is as low as it can be.
    ///
    /// A level is possible exactly if taking each day those first that may wait least never leaves one behind (the earliest deadline
    /// first is best where all take the same time); the lowest possible level is found by halving.
    #[must_use]
    pub fn spread(&self) -> Vec<u64> {
        let (mut low, mut high) = (1, self.peak().1.max(1));
        while low < high {
            let level = low + (high - low) / 2;
            match self.levelled(level) {
                Some(_) => high = level,
                None => low = level + 1,
            }
        }
        self.levelled(high).unwrap_or_else(|| self.days.clone())
    }

    /// The days with `level` renewals at the most; `None` if that cannot be.
    fn levelled(&self, level: u64) -> Option<Vec<u64>> {
        let mut days = vec![0; self.days.len()];
        let mut coming =
            self.choices.iter().map(|((from, to), count)| (usize::from(*from), usize::from(*to), *count)).peekable();
        let mut waiting: BinaryHeap<Reverse<(usize, u64)>> = BinaryHeap::new();
        for (day, done) in days.iter_mut().enumerate() {
            while let Some((_, to, count)) = coming.next_if(|(from, _, _)| *from <= day) {
                waiting.push(Reverse((to, count)));
            }
            while *done < level {
                let Some(Reverse((to, count))) = waiting.pop() else { break };
                if to < day {
                    return None;
                }
                let taken = count.min(level - *done);
                *done += taken;
                if count > taken {
                    waiting.push(Reverse((to, count - taken)));
                }
            }
        }
        waiting.is_empty().then_some(days)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(day: i64) -> UnixTime {
        UnixTime(day * DAY)
    }

    fn once(opens: i64, ends: i64, window: i64) -> Renewing {
        Renewing {
            opens: at(opens),
            ends: at(ends),
            window: window * DAY,
            period: 1_000 * DAY,
            next: (1_000 * DAY, DAY),
        }
    }

    #[test]
    fn each_renewal_stands_on_its_day_and_late_ones_on_the_first() {
        let mut forecast = Forecast::new(UnixTime(100 * DAY + 5), at(110));
        assert_eq!((forecast.begins(0), forecast.days().len()), (at(100), 11));
        for opens in [90, 100, 103, 103, 110, 111] {
            forecast.add_renewing(once(opens, opens + 30, 30));
        }
        assert_eq!(forecast.days(), [2, 0, 0, 2, 0, 0, 0, 0, 0, 0, 1], "the one of day 111 is behind the last");
        assert_eq!((forecast.total(), forecast.peak()), (5, (at(100), 2)));
        assert_eq!(Forecast::new(at(0), at(100_000)).days().len(), MOST_DAYS);
        assert_eq!(Forecast::new(at(5), at(3)).days().len(), 1, "an end before the beginning is the first day");
    }

    #[test]
    fn what_follows_is_counted_too_also_if_it_comes_many_times_a_day() {
        let mut forecast = Forecast::new(at(0), at(9));
        let weekly = Renewing { opens: at(1), ends: at(3), window: 3 * DAY, period: 4 * DAY, next: (7 * DAY, 3 * DAY) };
        forecast.add_renewing(weekly);
        assert_eq!(forecast.days(), [0, 1, 0, 0, 0, 1, 0, 0, 0, 1]);
        let mut forecast = Forecast::new(at(0), at(2));
        let hourly =
            Renewing { opens: UnixTime(0), ends: UnixTime(7_200), window: 3_600, period: 3_600, next: (7_200, 3_600) };
        forecast.add_renewing(hourly);
        assert_eq!(forecast.days(), [24, 24, 24]);
    }

    #[test]
    fn a_peak_is_put_where_there_is_room() {
        let mut forecast = Forecast::new(at(0), at(9));
        (0..10).for_each(|_| forecast.add_renewing(once(4, 8, 8)));
        assert_eq!(forecast.peak(), (at(4), 10));
        // From the opening of the window to the last quarter of it: days 0 to 6.
        assert_eq!(forecast.spread(), [2, 2, 2, 2, 2, 0, 0, 0, 0, 0]);
        let late = Forecast::new(at(0), at(9));
        assert_eq!(late.spread(), vec![0; 10], "nothing stays nothing");
    }

    proptest! {
        /// Nothing is lost, nothing is put where it may not be, and no other plan has a lower peak: the lowest is found by trying all.
        #[test]
        fn a_spread_plan_is_whole_and_its_peak_is_the_lowest(
            wanted in proptest::collection::vec((0i64..6, 0i64..6, 1i64..6), 0..7),
        ) {
            let mut forecast = Forecast::new(at(0), at(5));
            for (opens, more, window) in wanted {
                forecast.add_renewing(once(opens, opens + more, window));
            }
            let plan = forecast.spread();
            prop_assert_eq!(plan.iter().sum::<u64>(), forecast.total());
            let peak = plan.iter().copied().max().unwrap_or(0);
            prop_assert!(peak <= forecast.peak().1);
            let jobs: Vec<(u16, u16)> = forecast.choices.iter()
                .flat_map(|(choice, count)| std::iter::repeat_n(*choice, usize::try_from(*count).unwrap())).collect();
            prop_assert_eq!(lowest(&jobs, &mut [0; 6]), peak);
        }
    }

    fn lowest(jobs: &[(u16, u16)], days: &mut [u64; 6]) -> u64 {
        let Some(((from, to), rest)) = jobs.split_first() else { return days.iter().copied().max().unwrap_or(0) };
        let mut best = u64::MAX;
        for day in usize::from(*from)..=usize::from(*to) {
            days[day] += 1;
            best = best.min(lowest(rest, days));
            days[day] -= 1;
        }
        best
    }
}
