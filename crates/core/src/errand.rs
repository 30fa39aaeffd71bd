//! Errands: what the ward asks one device to do, over MQTT, and what the device answers.
//!
//! An errand is a JWS (RFC 7515) that names its device, its number, its end and its purpose, and is signed with a key of its own, whose
//! certificate comes with it and is for nothing else (see [`crate::certificate::Usage::Errands`]). So a device need not trust whoever
//! brings it. An answer names the errand's number. What changes a credential is signed with the device's own key, together with a number
//! that nobody could know before (see [`Renewal`]): who brings it, and on which topic, proves nothing.

mod answer;
mod order;
mod reserved;

pub use answer::{Answer, BadAnswer, MAX_ANSWER, Outcome, Renewal, answer_text, number_of, renewal_text};
pub use order::{BadErrand, ERRAND_TYPE, MAX_ERRAND, Read, read, sign, whole};
pub use reserved::{BadPrefix, Place, Reserved};

use std::fmt;
use std::str::FromStr;

use crate::certificate::Fingerprint;
use crate::id::{self, BadName, DeviceId};
use crate::time::{Span, UnixTime};

/// How many errands of one device may wait at once.
pub const MOST_OPEN: usize = 20;

/// The largest text of what an errand wants in detail, in octets of JSON.
pub const MAX_DETAIL: usize = 4 * 1024;

/// The same where it brings a certificate and those above it.
pub const MAX_INSTALL: usize = 32 * 1024;

/// How long an errand may be open: whoever is away for longer is asked anew.
pub const LONGEST: Span = Span::from_days(90);

/// What a device is asked to do.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Purpose {
    /// To make a request for its next certificate, and answer with it; or to renew at the desk.
    Renew,
    /// To take the certificate that it asked for; only the ward itself asks so.
    Install,
    /// To take the key that it is to share with the ward next, which is sealed for it; only the ward itself asks so.
    InstallKey,
    /// To start anew.
    Restart,
    /// To tell of itself.
    Report,
    /// To make itself noticed where it stands.
    Identify,
    /// What its kind declares.
    Own(Box<str>),
}

impl Purpose {
    /// Those that every kind has, and people may send.
    pub const COMMON: [Self; 4] = [Self::Renew, Self::Restart, Self::Report, Self::Identify];

    /// The word for it.
    #[must_use]
    pub fn as_str(&self) -> &str {
        match self {
            Self::Renew => "renew",
            Self::Install => "install",
            Self::InstallKey => "install-key",
            Self::Restart => "restart",
            Self::Report => "report",
            Self::Identify => "identify",
            Self::Own(name) => name,
        }
    }

    /// Those that only the ward itself sends.
    pub const WARDS: [Self; 2] = [Self::Install, Self::InstallKey];

    /// Whether it is about a certificate: only the device's own certificate may be used for it, no token. (A session gets nothing by a key
    /// that is sealed: who does not have the private key of the device cannot read it.)
    #[must_use]
    pub fn is_about_credentials(&self) -> bool {
        matches!(self, Self::Renew | Self::Install)
    }
}

impl FromStr for Purpose {
    type Err = BadName;

    fn from_str(text: &str) -> Result<Self, BadName> {
        if let Some(common) = Self::COMMON.into_iter().chain(Self::WARDS).find(|each| each.as_str() == text) {
            return Ok(common);
        }
        id::check("name of an errand", text)?;
        Ok(Self::Own(text.into()))
    }
}

impl fmt::Display for Purpose {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

/// What is under the signature.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Errand {
    /// Its number in the ward, from 1.
    pub number: i64,
    /// Who is to do it.
    pub device: DeviceId,
    /// What.
    pub purpose: Purpose,
    /// More about it: the text of a JSON object, as it is signed.
    pub detail: String,
    /// What nobody could know before it was sent.
    pub nonce: [u8; 16],
    /// When it was sent.
    pub sent: UnixTime,
    /// The last second in which it may be done.
    pub ends: UnixTime,
}

/// Where an errand is, as it is recorded; that nobody answered in time is told from its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum State {
    /// Nobody answered yet.
    Open,
    /// Its device did it.
    Done,
    /// Its device will not do it.
    Refused,
    /// What its device answered could not be taken.
    Failed,
}

impl State {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Open, Self::Done, Self::Refused, Self::Failed];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Done => "done",
            Self::Refused => "refused",
            Self::Failed => "failed",
        }
    }
}

impl FromStr for State {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Self::ALL.into_iter().find(|state| state.as_str() == text).ok_or("expected open, done, refused or failed")
    }
}

/// An errand as it is recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ErrandRecord {
    /// What was signed.
    pub errand: Errand,
    /// The certificate of the key that signed it.
    pub signer: Fingerprint,
    /// The signature as a JWS has it.
    pub signature: Vec<u8>,
    /// Where it is.
    pub state: State,
    /// When it was answered.
    pub ended: Option<UnixTime>,
    /// What came of it: the device's result as a JSON object, or why it was not done.
    pub outcome: Option<String>,
    /// The errand that it follows.
    pub follows: Option<i64>,
}

/// What guards know of an errand.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Carried {
    /// How often it was handed over.
    pub tries: u32,
    /// When first, and when last.
    pub first: Option<UnixTime>,
    /// See `first`.
    pub last: Option<UnixTime>,
    /// What the device answered, when, and who brought it.
    pub answer: Option<Brought>,
}

/// An answer as a guard took it from a session.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Brought {
    /// When.
    pub at: UnixTime,
    /// Whose session it was: the device's own, or its gateway's.
    pub by: DeviceId,
    /// What was said.
    pub text: String,
}

/// How long is waited after the `tries`th time until an errand is handed over again: a quarter of a minute, then each time twice as
/// long, up to an hour.
#[must_use]
pub fn wait_after(tries: u32) -> Span {
    Span::from_seconds((15_u32 << tries.saturating_sub(1).min(8)).min(3600))
}

/// Where an errand is, for people.
#[must_use]
pub fn shown_state(record: &ErrandRecord, carried: &Carried, now: UnixTime) -> &'static str {
    match record.state {
        State::Open if carried.answer.is_some() => "answered",
        State::Open if record.errand.ends < now => "silent",
        State::Open if carried.tries > 0 => "sent",
        State::Open => "waiting",
        other => other.as_str(),
    }
}

#[cfg(test)]
mod tests;
