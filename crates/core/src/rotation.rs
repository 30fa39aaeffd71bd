//! Rotations: replacing the certificates, or the shared keys, of many devices in rounds, each judged before the next begins.
//!
//! Nothing here asks a device or looks at one: it is told what was counted and says what is to be done, so that the rules can be tried
//! with any course of events. Whoever drives a rotation does what it says, writes down that it did, and asks again.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::credential::{CredentialRecord, Origin};
use crate::device::DeviceRecord;
use crate::time::{Span, UnixTime};

const HOUR: i64 = 3_600;

/// The most rounds.
pub const MOST_ROUNDS: usize = 100;

/// How many of all devices have been asked when a round is over: in hundredths of a percent, so that 0.01% is 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Share(u32);

/// A text that is no share.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a share: expected a percentage from 0% to 100% with at most two decimals, such as 10% or 0.5%")]
pub struct BadShare(String);

impl Share {
    /// All.
    pub const WHOLE: Self = Self(10_000);

    /// A share of a number, rounded up.
    #[must_use]
    pub fn of(self, number: u64) -> u64 {
        let part = (u128::from(number) * u128::from(self.0)).div_ceil(u128::from(Self::WHOLE.0));
        u64::try_from(part).unwrap_or(u64::MAX)
    }

    /// Whether `part` of `whole` is more than this share.
    #[must_use]
    pub fn is_exceeded(self, part: u64, whole: u64) -> bool {
        u128::from(part) * u128::from(Self::WHOLE.0) > u128::from(whole) * u128::from(self.0)
    }
}

impl FromStr for Share {
    type Err = BadShare;

    fn from_str(text: &str) -> Result<Self, BadShare> {
        let bad = || BadShare(text.chars().take(24).collect());
        let number = text.trim().strip_suffix('%').ok_or_else(bad)?;
        let (whole, decimals) = number.split_once('.').unwrap_or((number, "0"));
        let is_number = |text: &str| !text.is_empty() && text.bytes().all(|octet| octet.is_ascii_digit());
        if !is_number(whole) || !is_number(decimals) || decimals.len() > 2 || whole.len() > 3 {
            return Err(bad());
        }
        let hundredths: u32 = format!("{decimals:0<2}").parse().map_err(|_| bad())?;
        let share = whole.parse::<u32>().map_err(|_| bad())? * 100 + hundredths;
        if share <= Self::WHOLE.0 { Ok(Self(share)) } else { Err(bad()) }
    }
}

impl fmt::Display for Share {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.0 / 100, self.0 % 100) {
            (whole, 0) => write!(f, "{whole}%"),
            (whole, part) if part % 10 == 0 => write!(f, "{whole}.{}%", part / 10),
            (whole, part) => write!(f, "{whole}.{part:02}%"),
        }
    }
}

impl Serialize for Share {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Share {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = <std::borrow::Cow<'de, str>>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

/// How many devices each round asks, from shares of all that have been asked when it is over; the last is made to be all.
///
/// # Errors
/// There are too many, or one asks nobody more than the one before.
pub fn rounds(shares: &[Share], devices: u64) -> Result<Vec<u64>, &'static str> {
    if shares.len() > MOST_ROUNDS {
        return Err("a rotation has at most 100 rounds");
    }
    let mut asked = 0;
    let mut all = Vec::new();
    for share in shares.iter().copied().filter(|share| *share < Share::WHOLE).chain([Share::WHOLE]) {
        let until = share.of(devices);
        // Of few devices some rounds have nobody.
        if until > asked {
            all.push(until - asked);
            asked = until;
        }
    }
    match shares.windows(2).all(|pair| pair[0] < pair[1]) {
        true => Ok(all),
        false => Err("each round must reach more devices than the one before"),
    }
}

/// What a rotation replaces.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Replaces {
    /// Certificates that the ward signed.
    #[default]
    Certificates,
    /// Keys that devices share with the ward.
    SharedKeys,
}

impl Replaces {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Certificates => "certificates",
            Self::SharedKeys => "shared-keys",
        }
    }

    /// Where credentials come from that are replaced.
    #[must_use]
    pub fn origin(self) -> Origin {
        match self {
            Self::Certificates => Origin::Issued,
            Self::SharedKeys => Origin::Shared,
        }
    }
}

impl FromStr for Replaces {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = [Self::Certificates, Self::SharedKeys].into_iter().find(|each| each.as_str() == text);
        known.ok_or("expected certificates or shared-keys")
    }
}

/// What a rotation is held to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Terms {
    /// How many devices each round asks.
    pub rounds: Vec<u64>,
    /// How many are asked in one hour of the clock at the most.
    pub per_hour: Option<u64>,
    /// From which hour of the day (UTC) on, and before which one, devices are asked; over midnight if the first is the later.
    pub hours: Option<(u8, u8)>,
    /// Nobody is asked before.
    pub not_before: Option<UnixTime>,
    /// Nobody is asked from then on: the rotation stops.
    pub until: Option<UnixTime>,
    /// How long a device has, from when it was asked, to renew and to use what it got; in seconds.
    pub give: i64,
    /// How many of a round may fail or be silent.
    pub most_failed: Share,
    /// Whether a person begins each round after the first.
    pub by_hand: bool,
}

/// Where a rotation is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// Nobody was asked, and nobody is before a person says so.
    Prepared,
    /// It goes on by itself.
    Running,
    /// The round before was judged good, and a person begins the next.
    WaitsForYou,
    /// It does not go on: a person said so, or a round was bad.
    Stopped,
    /// Every round was judged good.
    Done,
}

impl State {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Prepared => "prepared",
            Self::Running => "running",
            Self::WaitsForYou => "waits-for-you",
            Self::Stopped => "stopped",
            Self::Done => "done",
        }
    }
}

/// How far a rotation is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Progress {
    /// Where it is.
    pub state: State,
    /// The present round, from 0.
    pub round: usize,
    /// How many of it were asked.
    pub asked: u64,
    /// The beginning of the hour in which somebody was asked last, and how many were in it.
    pub hour: (i64, u64),
    /// Why it stopped.
    pub why: Option<String>,
    /// How many of the present round had failed or been silent when a person said that it goes on all the same.
    #[serde(default)]
    pub forgiven: u64,
}

impl Progress {
    /// At the beginning.
    #[must_use]
    pub fn new() -> Self {
        Self { state: State::Prepared, round: 0, asked: 0, hour: (0, 0), why: None, forgiven: 0 }
    }

    /// Notes that `count` were asked at `now`.
    pub fn asked(&mut self, count: u64, now: UnixTime) {
        let hour = hour_of(now);
        if self.hour.0 != hour {
            self.hour = (hour, 0);
        }
        self.hour.1 += count;
        self.asked += count;
    }

    /// Begins the next round.
    pub fn next_round(&mut self) {
        self.round += 1;
        self.asked = 0;
        self.forgiven = 0;
    }
}

impl Default for Progress {
    fn default() -> Self {
        Self::new()
    }
}

/// The first second of the hour of a moment.
fn hour_of(at: UnixTime) -> i64 {
    at.0.div_euclid(HOUR) * HOUR
}

/// Where a device is in a rotation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Standing {
    /// It was not asked.
    Waiting,
    /// It was asked, and has time.
    Asked,
    /// It has its next credential, and did not use it yet.
    Renewed,
    /// It used it.
    Confirmed,
    /// It had time, and did not renew, or did not use what it got.
    Overdue,
    /// It cannot renew.
    Failed(Why),
}

/// Why a device cannot renew.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Why {
    /// It is on hold.
    Held,
    /// It was revoked.
    Out,
    /// It was retired.
    Retired,
    /// It has nothing that it could renew with.
    Nothing,
}

impl Why {
    /// It in words.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Held => "it is on hold",
            Self::Out => "it was revoked",
            Self::Retired => "it was retired",
            Self::Nothing => "it has nothing to renew with",
        }
    }
}

impl Standing {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Asked => "asked",
            Self::Renewed => "renewed",
            Self::Confirmed => "confirmed",
            Self::Overdue => "overdue",
            Self::Failed(_) => "failed",
        }
    }

    /// Whether nothing more comes of it in this rotation, unless a person does something.
    #[must_use]
    pub fn is_final(self) -> bool {
        matches!(self, Self::Confirmed | Self::Overdue | Self::Failed(_))
    }

    /// Where a device is that was asked at `asked`, by its credentials.
    #[must_use]
    pub fn of(
        device: &DeviceRecord,
        credentials: &[CredentialRecord],
        replaces: Replaces,
        asked: Option<UnixTime>,
        (give, now): (i64, UnixTime),
    ) -> Self {
        let Some(asked) = asked else { return Self::Waiting };
        let its = || credentials.iter().filter(|each| each.origin == replaces.origin() && each.revoked.is_none());
        // A device that is connected may have answered within the second of the question; what it had before stands behind its answer.
        let had = its().any(|each| each.issued < asked);
        let is_next = |each: &&CredentialRecord| each.issued > asked || (each.issued == asked && had);
        // A key that is sent is made with the question, or was before and did not arrive: it is the newest, and another stands behind it.
        // That it was used since tells that it arrived.
        let newest = its().next().filter(|_| replaces == Replaces::SharedKeys && its().nth(1).is_some());
        let came = newest.is_some_and(|each| each.first_used.is_some_and(|used| used > asked));
        let used = came || its().filter(is_next).any(|each| each.first_used.is_some());
        if used {
            return Self::Confirmed;
        }
        if device.retired.is_some() {
            return Self::Failed(Why::Retired);
        }
        if device.out.is_some() {
            return Self::Failed(Why::Out);
        }
        if device.held.is_some() {
            return Self::Failed(Why::Held);
        }
        let is_late = now.since(asked) >= give;
        // One that is sent is on its way until it is used.
        let is_there = |each: &CredentialRecord| match replaces {
            Replaces::Certificates => is_next(&each),
            Replaces::SharedKeys => each.issued > asked,
        };
        match (its().any(is_there), is_late) {
            (true, false) => Self::Renewed,
            (false, false) if !its().any(|each| each.is_good(now)) => Self::Failed(Why::Nothing),
            (false, false) => Self::Asked,
            (_, true) => Self::Overdue,
        }
    }
}

/// The devices of a round, by where they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Counts {
    /// Not asked.
    pub waiting: u64,
    /// Asked, with time left.
    pub asked: u64,
    /// With their next credential, unused.
    pub renewed: u64,
    /// That used it.
    pub confirmed: u64,
    /// That had time.
    pub overdue: u64,
    /// That cannot.
    pub failed: u64,
}

impl Counts {
    /// Counts one more.
    pub fn add(&mut self, standing: Standing) {
        *match standing {
            Standing::Waiting => &mut self.waiting,
            Standing::Asked => &mut self.asked,
            Standing::Renewed => &mut self.renewed,
            Standing::Confirmed => &mut self.confirmed,
            Standing::Overdue => &mut self.overdue,
            Standing::Failed(_) => &mut self.failed,
        } += 1;
    }

    /// Counts the same of others.
    pub fn sum(&mut self, other: &Self) {
        self.waiting += other.waiting;
        self.asked += other.asked;
        self.renewed += other.renewed;
        self.confirmed += other.confirmed;
        self.overdue += other.overdue;
        self.failed += other.failed;
    }

    /// How many failed or were silent.
    #[must_use]
    pub fn bad(&self) -> u64 {
        self.overdue + self.failed
    }

    /// Of how many something may still come.
    #[must_use]
    pub fn open(&self) -> u64 {
        self.waiting + self.asked + self.renewed
    }
}

/// What is to be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Ask so many devices of the present round, at the most.
    Ask(u64),
    /// Nothing now.
    Wait,
    /// The round was good: begin the next.
    NextRound,
    /// The round was good, and a person begins the next.
    Pause,
    /// Stop, because of this.
    Stop(String),
    /// All rounds were good.
    Done,
}

/// What is to be done now. `counts` are those of the present round.
#[must_use]
pub fn step(terms: &Terms, progress: &Progress, counts: &Counts, now: UnixTime) -> Step {
    if progress.state != State::Running {
        return Step::Wait;
    }
    let Some(devices) = terms.rounds.get(progress.round).copied() else { return Step::Done };
    // A bad round stops at once: what is still to come would not make it good.
    // But for what a person saw, who had it go on.
    if terms.most_failed.is_exceeded(counts.bad().saturating_sub(progress.forgiven), devices) {
        return Step::Stop(format!(
            "in round {} {} of {devices} failed or were silent, more than {}",
            progress.round + 1,
            counts.bad(),
            terms.most_failed
        ));
    }
    let left = devices.saturating_sub(progress.asked);
    if left == 0 {
        return match (counts.open(), progress.round + 1 == terms.rounds.len()) {
            (0, true) => Step::Done,
            (0, false) if terms.by_hand => Step::Pause,
            (0, false) => Step::NextRound,
            _ => Step::Wait,
        };
    }
    if terms.until.is_some_and(|until| now >= until) {
        return Step::Stop(format!("its time is over, and {left} of round {} were not asked", progress.round + 1));
    }
    if terms.not_before.is_some_and(|first| now < first) || !is_in_hours(terms.hours, now) {
        return Step::Wait;
    }
    let hour = hour_of(now);
    let in_hour = if progress.hour.0 == hour { progress.hour.1 } else { 0 };
    match terms.per_hour.map_or(left, |most| left.min(most.saturating_sub(in_hour))) {
        0 => Step::Wait,
        most => Step::Ask(most),
    }
}

fn is_in_hours(hours: Option<(u8, u8)>, now: UnixTime) -> bool {
    let hour = now.0.rem_euclid(24 * HOUR) / HOUR;
    match hours.map(|(from, to)| (i64::from(from), i64::from(to))) {
        None => true,
        Some((from, to)) if from <= to => (from..to).contains(&hour),
        Some((from, to)) => hour >= from || hour < to,
    }
}

/// When a rotation is over that begins at `from`, if every round is good and its devices take all the time that they have: for a plan
/// before it begins.
#[must_use]
pub fn over_by(terms: &Terms, from: UnixTime) -> UnixTime {
    let mut at = from.0.max(terms.not_before.map_or(i64::MIN, |first| first.0));
    let hours_a_day = terms.hours.map_or(24, |(from, to)| {
        let (from, to) = (i64::from(from), i64::from(to));
        if from <= to { to - from } else { 24 - from + to }
    });
    // The next full hour in which somebody may be asked, behind `at`.
    let next_hour = |at: i64| {
        let hours = (1..=24).map(|later| (at.div_euclid(HOUR)).saturating_add(later).saturating_mul(HOUR));
        hours.into_iter().find(|hour| is_in_hours(terms.hours, UnixTime(*hour))).unwrap_or(at)
    };
    for devices in &terms.rounds {
        if !is_in_hours(terms.hours, UnixTime(at)) {
            at = next_hour(at);
        }
        // The first are asked at once, and as many more with each hour that follows.
        let hours = terms.per_hour.map_or(1, |most| i64::try_from(devices.div_ceil(most.max(1))).unwrap_or(i64::MAX));
        let more = hours.saturating_sub(1);
        at = at.saturating_add((more / hours_a_day.max(1)).saturating_mul(24 * HOUR));
        for _ in 0..more % hours_a_day.max(1) {
            at = next_hour(at);
        }
        at = at.saturating_add(terms.give);
    }
    UnixTime(at)
}

/// A length of time that a device has, as terms hold it.
#[must_use]
pub fn given(span: Span) -> i64 {
    span.seconds().max(1)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::credential::tests::record;
    use crate::revocation::Reason;

    fn terms(rounds: &[u64]) -> Terms {
        Terms {
            rounds: rounds.to_vec(),
            per_hour: None,
            hours: None,
            not_before: None,
            until: None,
            give: 100,
            most_failed: "10%".parse().unwrap(),
            by_hand: false,
        }
    }

    fn running(round: usize, asked: u64) -> Progress {
        Progress { state: State::Running, round, asked, ..Progress::new() }
    }

    #[test]
    fn shares_are_exact_and_rounds_reach_all() {
        for (text, shown, of_1000) in [
            ("10%", "10%", 100),
            ("0.5%", "0.5%", 5),
            ("0.05%", "0.05%", 1),
            ("100%", "100%", 1000),
            ("0%", "0%", 0),
            ("33.33%", "33.33%", 334),
        ] {
            let share: Share = text.parse().unwrap();
            assert_eq!((share.to_string().as_str(), share.of(1000)), (shown, of_1000));
        }
        for text in ["", "10", "%", "-1%", "101%", "1.234%", "100.01%", "x%", "1e2%", "1000%"] {
            assert!(text.parse::<Share>().is_err(), "{text:?}");
        }
        let shares = |texts: &[&str]| texts.iter().map(|text| text.parse().unwrap()).collect::<Vec<Share>>();
        assert_eq!(rounds(&shares(&["1%", "10%", "100%"]), 2000), Ok(vec![20, 180, 1800]));
        assert_eq!(rounds(&shares(&["10%"]), 50), Ok(vec![5, 45]), "the last is all");
        assert_eq!(rounds(&shares(&["1%", "2%", "100%"]), 3), Ok(vec![1, 2]), "some have nobody");
        assert_eq!(rounds(&[], 7), Ok(vec![7]));
        assert_eq!(rounds(&shares(&["10%"]), 0), Ok(vec![]));
        assert!(rounds(&shares(&["10%", "5%"]), 50).is_err());
        let tenth: Share = "10%".parse().unwrap();
        assert!(!tenth.is_exceeded(1, 10) && tenth.is_exceeded(2, 10) && tenth.is_exceeded(1, 9));
        assert!(!Share::WHOLE.is_exceeded(10, 10) && "0%".parse::<Share>().unwrap().is_exceeded(1, u64::MAX));
    }

    #[test]
    fn a_device_is_where_its_credentials_say() {
        let device = DeviceRecord::new("wv-1".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
        let at = |seconds| Some(UnixTime(seconds));
        let old = CredentialRecord { issued: UnixTime(100), ..record() };
        let next = CredentialRecord { issued: UnixTime(250), not_after: UnixTime(9_000), ..record() };
        let used = CredentialRecord { first_used: at(300), ..next.clone() };
        let revoked = CredentialRecord { revoked: Some((UnixTime(260), Reason::Superseded)), ..used.clone() };
        let of = |credentials: &[CredentialRecord], asked, now| {
            Standing::of(&device, credentials, Replaces::Certificates, asked, (100, UnixTime(now)))
        };
        for (credentials, asked, now, wanted) in [
            (vec![old.clone()], None, 200, Standing::Waiting),
            (vec![old.clone()], at(200), 210, Standing::Asked),
            (vec![old.clone()], at(200), 300, Standing::Overdue),
            (vec![next.clone(), old.clone()], at(200), 260, Standing::Renewed),
            (vec![next.clone(), old.clone()], at(200), 300, Standing::Overdue),
            (vec![used.clone(), old.clone()], at(200), 310, Standing::Confirmed),
            (vec![used.clone(), old.clone()], at(200), 9_999, Standing::Confirmed),
            (vec![used.clone(), old.clone()], at(250), 310, Standing::Confirmed),
            (vec![next.clone(), old.clone()], at(250), 260, Standing::Renewed),
            (vec![used.clone()], at(250), 310, Standing::Asked),
            (vec![revoked, old.clone()], at(200), 210, Standing::Asked),
            (vec![], at(200), 210, Standing::Failed(Why::Nothing)),
        ] {
            assert_eq!(of(&credentials, asked, now), wanted, "{asked:?} {now}");
        }
        let held = DeviceRecord { held: at(220), ..device.clone() };
        let out = DeviceRecord { out: at(220), ..device.clone() };
        let standing = |device: &DeviceRecord, all: &[CredentialRecord]| {
            Standing::of(device, all, Replaces::Certificates, at(200), (100, UnixTime(230)))
        };
        assert_eq!(standing(&held, std::slice::from_ref(&old)), Standing::Failed(Why::Held));
        assert_eq!(standing(&out, std::slice::from_ref(&old)), Standing::Failed(Why::Out));
        assert_eq!(
            standing(&out, &[used]),
            Standing::Confirmed,
            "that it was revoked later is no fault of the rotation"
        );
    }

    #[test]
    fn a_key_that_is_sent_has_arrived_when_it_is_used() {
        let device = DeviceRecord::new("ts-1".parse().unwrap(), "tension".parse().unwrap(), UnixTime(0));
        let at = |seconds| Some(UnixTime(seconds));
        let key = |issued, first_used| CredentialRecord {
            origin: Origin::Shared,
            issued: UnixTime(issued),
            not_after: UnixTime(9_000),
            first_used,
            ..record()
        };
        let of = |credentials: &[CredentialRecord], now| {
            Standing::of(&device, credentials, Replaces::SharedKeys, at(200), (100, UnixTime(now)))
        };
        let old = || key(100, at(110));
        for (credentials, now, wanted) in [
            (vec![old()], 210, Standing::Asked),
            (vec![key(200, None), old()], 210, Standing::Asked),
            (vec![key(200, None), old()], 300, Standing::Overdue),
            (vec![key(200, at(200)), old()], 210, Standing::Confirmed),
            (vec![key(200, at(250)), old()], 260, Standing::Confirmed),
            (vec![key(230, None), old()], 260, Standing::Renewed),
            (vec![key(230, at(240)), old()], 260, Standing::Confirmed),
            // Sent again: it was made before.
            (vec![key(150, None), old()], 210, Standing::Asked),
            (vec![key(150, at(240)), old()], 250, Standing::Confirmed),
            (vec![key(150, at(160)), old()], 210, Standing::Asked),
            // The key that it had, used for the first time since.
            (vec![key(100, at(240))], 250, Standing::Asked),
            (
                vec![CredentialRecord { issued: UnixTime(250), first_used: at(260), ..record() }, old()],
                270,
                Standing::Asked,
            ),
            (vec![record()], 210, Standing::Failed(Why::Nothing)),
        ] {
            assert_eq!(of(&credentials, now), wanted, "{credentials:?} {now}");
        }
    }

    #[test]
    fn nothing_happens_before_its_time_and_a_bad_round_stops() {
        let now = UnixTime(10 * 24 * HOUR + 9 * HOUR);
        let counts =
            |waiting, asked, confirmed, overdue| Counts { waiting, asked, confirmed, overdue, ..Counts::default() };
        let all = terms(&[10, 90]);
        let prepared = Progress::new();
        assert_eq!(step(&all, &prepared, &counts(10, 0, 0, 0), now), Step::Wait);
        assert_eq!(step(&all, &running(0, 0), &counts(10, 0, 0, 0), now), Step::Ask(10));
        assert_eq!(step(&all, &running(0, 10), &counts(0, 1, 9, 0), now), Step::Wait);
        assert_eq!(step(&all, &running(0, 10), &counts(0, 0, 9, 1), now), Step::NextRound);
        assert!(
            matches!(step(&all, &running(0, 10), &counts(0, 5, 3, 2), now), Step::Stop(why) if why.contains("2 of 10"))
        );
        let forgiven = Progress { forgiven: 2, ..running(0, 10) };
        assert_eq!(step(&all, &forgiven, &counts(0, 0, 8, 2), now), Step::NextRound, "a person saw them");
        assert_eq!(step(&all, &forgiven, &counts(0, 0, 7, 3), now), Step::NextRound, "and one more may fail");
        assert!(matches!(step(&all, &forgiven, &counts(0, 0, 6, 4), now), Step::Stop(_)));
        let mut after = forgiven;
        after.next_round();
        assert_eq!((after.round, after.asked, after.forgiven), (1, 0, 0), "of the round that they were in");
        assert_eq!(step(&all, &running(1, 90), &counts(0, 0, 90, 0), now), Step::Done);
        assert_eq!(step(&terms(&[]), &running(0, 0), &Counts::default(), now), Step::Done);
        let by_hand = Terms { by_hand: true, ..all.clone() };
        assert_eq!(step(&by_hand, &running(0, 10), &counts(0, 0, 10, 0), now), Step::Pause);
        for (changed, wanted) in [
            (Terms { not_before: Some(UnixTime(now.0 + 1)), ..all.clone() }, Step::Wait),
            (Terms { not_before: Some(now), ..all.clone() }, Step::Ask(10)),
            (Terms { hours: Some((9, 17)), ..all.clone() }, Step::Ask(10)),
            (Terms { hours: Some((10, 17)), ..all.clone() }, Step::Wait),
            (Terms { hours: Some((1, 9)), ..all.clone() }, Step::Wait),
            (Terms { hours: Some((22, 10)), ..all.clone() }, Step::Ask(10)),
            (Terms { hours: Some((22, 9)), ..all.clone() }, Step::Wait),
            (Terms { per_hour: Some(4), ..all.clone() }, Step::Ask(4)),
            (Terms { per_hour: Some(0), ..all.clone() }, Step::Wait),
        ] {
            assert_eq!(step(&changed, &running(0, 0), &counts(10, 0, 0, 0), now), wanted, "{changed:?}");
        }
        let over = Terms { until: Some(now), ..all.clone() };
        assert!(
            matches!(step(&over, &running(0, 0), &counts(10, 0, 0, 0), now), Step::Stop(why) if why.contains("time is over"))
        );
        assert_eq!(step(&over, &running(0, 10), &counts(0, 3, 7, 0), now), Step::Wait, "who was asked may finish");
        assert_eq!(over_by(&all, UnixTime(0)), UnixTime(200));
        assert_eq!(
            over_by(&Terms { per_hour: Some(9), hours: Some((8, 12)), ..all.clone() }, UnixTime(0)),
            // From eight on the first ten in two hours; two days later at ten the last of the ninety that follow.
            UnixTime(2 * 24 * HOUR + 10 * HOUR + 100)
        );
        let night = Terms { hours: Some((22, 2)), ..all };
        assert_eq!(over_by(&night, UnixTime(3 * HOUR)), UnixTime(22 * HOUR + 200));
        assert_eq!(over_by(&night, UnixTime(HOUR + 5)), UnixTime(HOUR + 205), "it is within these hours already");
    }

    proptest! {
        /// A fleet that does as it likes, driven to its end: never are more asked in an hour than may be, never does a round begin before
        /// the last of the one before was judged and judged good, and a rotation that stopped asks nobody.
        #[test]
        fn whatever_devices_do_no_limit_is_crossed(
            sizes in proptest::collection::vec(1u64..30, 1..4),
            fates in proptest::collection::vec(0u8..10, 0..90),
            per_hour in proptest::option::of(1u64..20),
            most_failed in 0u32..50,
            stops_at in proptest::option::of(0i64..40),
        ) {
            let terms = Terms {
                per_hour,
                give: 2 * HOUR,
                most_failed: Share(most_failed * 100),
                ..terms(&sizes)
            };
            let mut progress = running(0, 0);
            let mut asked: Vec<Vec<i64>> = sizes.iter().map(|_| Vec::new()).collect();
            let total: u64 = sizes.iter().sum();
            let standing = |round: usize, place: usize, at: i64, now: i64| {
                let fate = fates.get((round * 31 + place) % fates.len().max(1)).copied().unwrap_or(0);
                match (fate, now - at) {
                    (0, _) => Standing::Failed(Why::Held),
                    (1, past) if past >= terms.give => Standing::Overdue,
                    (1, _) => Standing::Asked,
                    (fate, past) if past < i64::from(fate) * HOUR / 6 => Standing::Asked,
                    _ => Standing::Confirmed,
                }
            };
            let mut hours = std::collections::BTreeMap::new();
            let mut now = 0;
            for tick in 0..4_000i64 {
                now = tick * 600;
                if stops_at == Some(tick) {
                    progress.state = State::Stopped;
                }
                let mut counts = Counts::default();
                let round = progress.round;
                if round < sizes.len() {
                    counts.waiting = sizes[round] - progress.asked;
                    asked[round].iter().enumerate().for_each(|(place, at)| counts.add(standing(round, place, *at, now)));
                }
                match step(&terms, &progress, &counts, UnixTime(now)) {
                    Step::Ask(count) => {
                        prop_assert!(progress.state == State::Running);
                        // Fewer may be asked than could be.
                        let count = count.min(7);
                        asked[round].extend((0..count).map(|_| now));
                        *hours.entry(now / HOUR).or_insert(0) += count;
                        progress.asked(count, UnixTime(now));
                    }
                    Step::NextRound => {
                        prop_assert_eq!(counts.open(), 0, "each was judged");
                        prop_assert!(!terms.most_failed.is_exceeded(counts.bad(), sizes[round]));
                        progress.next_round();
                    }
                    Step::Stop(_) => progress.state = State::Stopped,
                    Step::Done => {
                        progress.state = State::Done;
                        break;
                    }
                    Step::Pause => prop_assert!(false, "nobody is needed"),
                    Step::Wait => {}
                }
                if progress.state == State::Stopped {
                    break;
                }
            }
            prop_assert!(matches!(progress.state, State::Stopped | State::Done), "it ends, at {now}: {progress:?}");
            prop_assert!(hours.values().all(|count| per_hour.is_none_or(|most| *count <= most)));
            let all: u64 = asked.iter().map(|round| u64::try_from(round.len()).unwrap()).sum();
            prop_assert!(all <= total && (progress.state != State::Done || all == total));
        }
    }
}
