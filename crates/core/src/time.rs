//! Instants and lengths of time, without a clock.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;

/// Minute, hour, day in seconds.
const MINUTE: i64 = 60;
const HOUR: i64 = 60 * MINUTE;
const DAY: i64 = 24 * HOUR;

/// An instant: seconds since the Unix epoch, UTC, leap seconds not counted.
///
/// Shown and read as RFC 3339. Values outside the years 0000 to 9999 cannot be made from text, and are shown as
/// the bare number of seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct UnixTime(pub i64);

/// Text that is not an RFC 3339 time.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a time; expected RFC 3339, such as 2026-11-23T08:00:00Z")]
pub struct BadTime {
    /// What was given.
    pub text: String,
}

impl UnixTime {
    /// This instant moved by `span`, saturating at the ends of the range.
    #[must_use]
    pub fn plus(self, span: Span) -> Self {
        Self(self.0.saturating_add(span.seconds()))
    }

    /// This instant moved back by `span`, saturating at the ends of the range.
    #[must_use]
    pub fn minus(self, span: Span) -> Self {
        Self(self.0.saturating_sub(span.seconds()))
    }

    /// Seconds from `earlier` to this instant; negative if `earlier` is later.
    #[must_use]
    pub fn since(self, earlier: Self) -> i64 {
        self.0.saturating_sub(earlier.0)
    }

    /// Year, month, day, hour, minute and second in UTC; `None` outside the years -9999 to 9999.
    #[must_use]
    pub fn civil(self) -> Option<jiff::civil::DateTime> {
        let stamp = Timestamp::from_second(self.0).ok()?;
        Some(jiff::tz::Offset::UTC.to_datetime(stamp))
    }

    /// The date alone, `2026-11-23`, for tables.
    #[must_use]
    pub fn date(self) -> String {
        self.civil().map_or_else(|| self.0.to_string(), |civil| civil.date().to_string())
    }
}

impl fmt::Display for UnixTime {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match Timestamp::from_second(self.0) {
            Ok(stamp) => write!(f, "{stamp}"),
            Err(_) => write!(f, "{}", self.0),
        }
    }
}

impl FromStr for UnixTime {
    type Err = BadTime;

    fn from_str(text: &str) -> Result<Self, BadTime> {
        let stamp: Timestamp = text.trim().parse().map_err(|_| BadTime { text: text.to_owned() })?;
        Ok(Self(stamp.as_second()))
    }
}

impl serde::Serialize for UnixTime {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> serde::Deserialize<'de> for UnixTime {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = <std::borrow::Cow<'de, str>>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

/// Tells the time. Only entry points own one; everything else is told.
pub trait Clock: Send + Sync {
    /// The present instant.
    fn now(&self) -> UnixTime;
}

/// A length of time in whole seconds, never negative. Written `90s`, `15m`, `8h`, `30d`, `2w` or `1y` (365 days).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Span(u32);

/// Text that is not a length of time.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a length of time; expected a whole number and a unit, such as 90s, 15m, 8h, 30d, 2w or 1y")]
pub struct BadSpan {
    /// What was given.
    pub text: String,
}

impl Span {
    /// `n` seconds.
    #[must_use]
    pub const fn from_seconds(n: u32) -> Self {
        Self(n)
    }

    /// `n` days; more than fit (49,710) give the longest span.
    #[must_use]
    pub const fn from_days(n: u32) -> Self {
        Self(n.saturating_mul(86_400))
    }

    /// The length in seconds.
    #[must_use]
    pub fn seconds(self) -> i64 {
        i64::from(self.0)
    }
}

impl FromStr for Span {
    type Err = BadSpan;

    fn from_str(text: &str) -> Result<Self, BadSpan> {
        let bad = || BadSpan { text: text.to_owned() };
        let trimmed = text.trim();
        let digits = trimmed.bytes().take_while(u8::is_ascii_digit).count();
        let (number, unit) = trimmed.split_at(digits);
        let number: i64 = number.parse().map_err(|_| bad())?;
        let unit = match unit {
            "s" => 1,
            "m" => MINUTE,
            "h" => HOUR,
            "d" => DAY,
            "w" => 7 * DAY,
            "y" => 365 * DAY,
            _ => return Err(bad()),
        };
        let seconds = number.checked_mul(unit).ok_or_else(bad)?;
        u32::try_from(seconds).map(Self).map_err(|_| bad())
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let n = i64::from(self.0);
        let (unit, name) = [(DAY, "d"), (HOUR, "h"), (MINUTE, "m")]
            .into_iter()
            .find(|(unit, _)| n != 0 && n % unit == 0)
            .unwrap_or((1, "s"));
        write!(f, "{}{name}", n / unit)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_rfc_3339_both_ways() {
        for (text, seconds) in [
            ("1970-01-01T00:00:00Z", 0),
            ("2026-11-23T07:02:13Z", 1_795_417_333),
            ("2026-11-23T08:02:13+01:00", 1_795_417_333),
            ("2049-12-31T23:59:59Z", 2_524_607_999),
        ] {
            assert_eq!(text.parse::<UnixTime>(), Ok(UnixTime(seconds)), "{text}");
        }
        assert_eq!(UnixTime(1_795_417_333).to_string(), "2026-11-23T07:02:13Z");
        assert!("yesterday".parse::<UnixTime>().is_err());
        assert_eq!(UnixTime(i64::MAX).to_string(), i64::MAX.to_string());
    }

    #[test]
    fn spans_take_one_number_and_one_unit() {
        for (text, seconds) in [("90s", 90), ("15m", 900), ("8h", 28_800), ("30d", 2_592_000), ("1y", 31_536_000)] {
            assert_eq!(text.parse::<Span>().map(Span::seconds), Ok(seconds), "{text}");
        }
        for text in ["", "8", "h", "-1h", "1.5h", "8 hours", "999999999999d", "200y"] {
            assert!(text.parse::<Span>().is_err(), "{text:?} was taken");
        }
        assert_eq!(Span::from_seconds(28_800).to_string(), "8h");
        assert_eq!(Span::from_seconds(61).to_string(), "61s");
        assert_eq!(Span::from_days(398).to_string(), "398d");
    }
}
