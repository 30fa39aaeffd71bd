//! What happens at the guard, as values; the caller decides how to show them.

use std::fmt;
use std::net::SocketAddr;

use serde::Serialize;
use tidy_warden_core::policy::{Denial, Rule};

/// Where events go. Called from many tasks; must not block for long.
pub type Sink = std::sync::Arc<dyn Fn(Event) + Send + Sync>;

/// The rule that decided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct RuleRef {
    /// Its policy.
    pub policy: String,
    /// Its file, relative to the ward.
    pub file: String,
    /// Its line, from 1.
    pub line: usize,
    /// Its text in canonical form.
    pub text: String,
}

impl From<&Rule> for RuleRef {
    fn from(rule: &Rule) -> Self {
        Self {
            policy: rule.at.policy.to_string(),
            file: rule.at.place.file.to_string(),
            line: rule.at.place.line,
            text: rule.to_string(),
        }
    }
}

/// One event. Never holds a password, a token or a payload.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
#[non_exhaustive]
#[expect(missing_docs, reason = "the names say what the fields are, and `docs/output.md` lists them")]
pub enum Event {
    /// The guard accepts connections.
    Listening {
        /// Where.
        address: SocketAddr,
        /// Where it accepts WebSocket.
        #[serde(skip_serializing_if = "Option::is_none")]
        websocket: Option<SocketAddr>,
        /// Where it answers for metrics and health.
        #[serde(skip_serializing_if = "Option::is_none")]
        metrics: Option<SocketAddr>,
        /// The edition that it decides by, 0 for none.
        edition: u32,
    },
    /// A TLS handshake failed: no chain, no key, or no TLS.
    TlsRefused {
        /// From where.
        peer: SocketAddr,
        why: String,
    },
    /// A device opened a session.
    Connected {
        device: String,
        /// From where.
        peer: SocketAddr,
        /// Its client identifier.
        client_id: String,
        /// `certificate` and its serial number, or `token` and its `jti`.
        credential: String,
        /// Whether the TLS session was resumed.
        resumed: bool,
    },
    /// Something was refused.
    Refused {
        /// The device, if it is known.
        #[serde(skip_serializing_if = "Option::is_none")]
        device: Option<String>,
        /// From where.
        peer: SocketAddr,
        /// `connect`, `publish`, `subscribe` or `will`.
        act: &'static str,
        /// The topic, topic filter or client identifier.
        subject: String,
        /// Why, in words.
        why: String,
        /// The rule that decided, if one did.
        #[serde(skip_serializing_if = "Option::is_none")]
        rule: Option<RuleRef>,
    },
    /// More was refused than is told one by one.
    RefusedMore {
        /// The device, if it is known.
        #[serde(skip_serializing_if = "Option::is_none")]
        device: Option<String>,
        /// Else the network that it came from, if it was one.
        #[serde(skip_serializing_if = "Option::is_none")]
        source: Option<String>,
        /// How many refusals were not told.
        count: u64,
        /// In how many seconds.
        seconds: u64,
    },
    /// A device was disconnected because it went on although it was refused; it must wait before it comes back.
    Slowed {
        device: String,
        /// How long it must wait, in seconds.
        seconds: u64,
    },
    /// A will that waited was not published.
    WillNotSent {
        device: String,
        /// The client identifier of its session.
        client_id: String,
        why: String,
    },
    /// A message for the device was withheld, because its topic is not allowed to it now.
    Withheld {
        device: String,
        /// The topic.
        topic: String,
    },
    /// A subscription was ended, because a change made it too wide.
    SubscriptionEnded {
        device: String,
        /// The topic filter.
        filter: String,
        why: String,
    },
    /// A session was cut: its right to be there ended.
    Cut { device: String, why: String },
    /// A session ended otherwise.
    Closed { device: String, why: String },
    /// A sign that somebody else has a device's key.
    CloneSign {
        device: String,
        /// Where it comes from now.
        peer: SocketAddr,
        /// The sign, in words.
        sign: String,
    },
    /// The guard put a device on hold, as its kind wants after a sign of a clone.
    Held { device: String },
    /// The broker accepts clients without credentials: whoever reaches it needs no guard.
    BypassOpen {
        /// The broker.
        broker: String,
    },
    /// New settings took effect.
    Reloaded,
    /// A gateway brought in a child that nobody had listed.
    Introduced {
        /// The gateway.
        device: String,
        /// The child.
        child: String,
        /// The kind that it came as.
        kind: String,
        /// `waits` for a person, or `accepted` because its kind wants no more.
        state: &'static str,
    },
    /// A gateway named a child that nobody listed, and did not bring it in.
    NotIntroduced {
        /// The gateway.
        device: String,
        /// The child.
        child: String,
        /// The kind that it would have come as.
        kind: String,
        /// Why not.
        because: String,
    },
    /// An errand was handed to a session of its device, or of its gateway, for the first time.
    ErrandHanded {
        device: String,
        /// Its number.
        errand: i64,
        /// What for.
        purpose: String,
        /// Whose session.
        to: String,
    },
    /// A device answered an errand.
    ErrandAnswered {
        device: String,
        /// Its number.
        errand: i64,
        /// What for.
        purpose: String,
        /// Whose session brought it.
        by: String,
    },
    /// Something was said of an errand that was not taken for an answer.
    ErrandNotAnswered {
        /// Whose session.
        device: String,
        why: String,
    },
    /// A device opened itself to be claimed.
    ClaimWindow {
        device: String,
        /// Its last second.
        ends: String,
    },
    /// It was given its next certificate, or there are others above it, and shows them from now on.
    OwnCertificate {
        /// When its own ends.
        ends: String,
    },
    /// Other authorities are trusted than before.
    Authorities,
    /// An edition took effect.
    Edition {
        /// Its number.
        number: u32,
    },
    /// Something outside does not work; the guard goes on with what it knows.
    Trouble {
        /// What, and what follows.
        what: String,
    },
}

/// The longest text of a client's that is told, in bytes as they stand in a log line. Reasons hold such a text, and more.
const LONGEST: usize = 512;

/// A text cut to what people read, with its length where it was longer. A control character is six bytes in JSON.
pub(crate) fn bounded(text: String) -> String {
    cut(text, LONGEST)
}

/// A topic, filter or client identifier.
fn subject(text: &mut String) {
    *text = cut(std::mem::take(text), 256);
}

fn cut(text: String, longest: usize) -> String {
    let mut shown = 0;
    for (at, c) in text.char_indices() {
        shown += if c.is_control() { 6 } else { c.len_utf8() };
        if shown > longest {
            return format!("{}... ({} bytes)", &text[..at], text.len());
        }
    }
    text
}

impl Event {
    /// The names of all events, as their JSON has them.
    pub const NAMES: [&'static str; 23] = [
        "claim-window",
        "errand-handed",
        "errand-answered",
        "errand-not-answered",
        "listening",
        "tls-refused",
        "connected",
        "refused",
        "refused-more",
        "slowed",
        "will-not-sent",
        "withheld",
        "subscription-ended",
        "cut",
        "closed",
        "clone-sign",
        "held",
        "bypass-open",
        "reloaded",
        "authorities",
        "edition",
        "trouble",
        "lost",
    ];

    /// The device that it is about, if it is about one.
    #[must_use]
    pub fn device(&self) -> Option<&str> {
        match self {
            Self::Connected { device, .. }
            | Self::Withheld { device, .. }
            | Self::SubscriptionEnded { device, .. }
            | Self::Cut { device, .. }
            | Self::Closed { device, .. }
            | Self::CloneSign { device, .. }
            | Self::Slowed { device, .. }
            | Self::WillNotSent { device, .. }
            | Self::Introduced { device, .. }
            | Self::NotIntroduced { device, .. }
            | Self::ErrandHanded { device, .. }
            | Self::ErrandAnswered { device, .. }
            | Self::ErrandNotAnswered { device, .. }
            | Self::ClaimWindow { device, .. }
            | Self::Held { device } => Some(device),
            Self::Refused { device, .. } | Self::RefusedMore { device, .. } => device.as_deref(),
            Self::Listening { .. }
            | Self::TlsRefused { .. }
            | Self::BypassOpen { .. }
            | Self::Reloaded
            | Self::OwnCertificate { .. }
            | Self::Authorities
            | Self::Edition { .. }
            | Self::Trouble { .. } => None,
        }
    }

    /// The word under which it stands in its device's history; none if it is not about a device, or stands in the audit record.
    pub(crate) fn history(&self) -> Option<&'static str> {
        Some(match self {
            Self::Connected { .. } => "connected",
            Self::Refused { .. } | Self::RefusedMore { .. } => "refused",
            Self::Slowed { .. } => "slowed",
            Self::WillNotSent { .. } => "will-not-sent",
            Self::Withheld { .. } => "withheld",
            Self::SubscriptionEnded { .. } => "subscription-ended",
            Self::Cut { .. } => "cut",
            Self::Closed { .. } => "closed",
            Self::CloneSign { .. } => "clone-sign",
            Self::NotIntroduced { .. } => "not-introduced",
            Self::ErrandHanded { .. } => "errand-handed",
            Self::ErrandAnswered { .. } => "errand-answered",
            Self::ErrandNotAnswered { .. } => "errand-not-answered",
            Self::ClaimWindow { .. } => "claim-window",
            Self::Introduced { .. }
            | Self::Held { .. }
            | Self::Listening { .. }
            | Self::TlsRefused { .. }
            | Self::BypassOpen { .. }
            | Self::Reloaded
            | Self::OwnCertificate { .. }
            | Self::Authorities
            | Self::Edition { .. }
            | Self::Trouble { .. } => return None,
        })
    }

    /// The same with no text of a client's that is longer than people read.
    pub(crate) fn bounded(mut self) -> Self {
        match &mut self {
            Self::Refused { subject, why, .. } => {
                self::subject(subject);
                *why = bounded(std::mem::take(why));
            }
            Self::TlsRefused { why, .. } | Self::Cut { why, .. } | Self::Closed { why, .. } => {
                *why = bounded(std::mem::take(why));
            }
            Self::Connected { client_id, .. } => subject(client_id),
            Self::WillNotSent { client_id, why, .. } => {
                subject(client_id);
                *why = bounded(std::mem::take(why));
            }
            Self::ErrandNotAnswered { why, .. } => *why = bounded(std::mem::take(why)),
            Self::Withheld { topic, .. } => subject(topic),
            Self::SubscriptionEnded { filter, why, .. } => {
                subject(filter);
                *why = bounded(std::mem::take(why));
            }
            _ => {}
        }
        self
    }

    /// A refusal for another reason than policy.
    pub(crate) fn refused(device: Option<&str>, peer: SocketAddr, act: &'static str, subject: &str, why: &str) -> Self {
        let (device, subject, why) = (device.map(str::to_owned), subject.to_owned(), why.to_owned());
        Self::Refused { device, peer, act, subject, why, rule: None }
    }

    /// A refusal by policy.
    pub(crate) fn denied(device: &str, peer: SocketAddr, act: &'static str, subject: &str, denial: &Denial) -> Self {
        Self::Refused {
            device: Some(device.to_owned()),
            peer,
            act,
            subject: subject.to_owned(),
            why: denial.to_string(),
            rule: denial.rule().map(RuleRef::from),
        }
    }
}

impl fmt::Display for Event {
    /// One line for people.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Listening { address, edition: 0, .. } => {
                write!(f, "listening on {address}; no edition is adopted, so nobody may connect")
            }
            Self::Listening { address, edition, websocket, metrics } => {
                write!(f, "listening on {address}")?;
                if let Some(address) = websocket {
                    write!(f, ", for WebSocket on {address}")?;
                }
                if let Some(address) = metrics {
                    write!(f, ", metrics on http://{address}/metrics")?;
                }
                write!(f, ", deciding by edition {edition}")
            }
            Self::TlsRefused { peer, why } => write!(f, "refused {peer} in the TLS handshake: {why}"),
            Self::Connected { device, peer, client_id, credential, resumed } => {
                let how = if *resumed { ", resumed" } else { "" };
                write!(f, "connected {device} as {client_id:?} from {peer} with {credential}{how}")
            }
            Self::Refused { device, peer, act, subject, why, .. } => match device {
                Some(device) => write!(f, "refused {device} {act} {subject:?}: {why}"),
                None => write!(f, "refused {peer} {act} {subject:?}: {why}"),
            },
            Self::RefusedMore { device, source, count, seconds } => {
                let who = device.as_deref().or(source.as_deref()).unwrap_or("others");
                write!(f, "refused {who} {count} times more in {seconds} seconds")
            }
            Self::Slowed { device, seconds } => {
                write!(
                    f,
                    "disconnected {device}: it went on although it was refused; it may come back in {seconds} seconds"
                )
            }
            Self::WillNotSent { device, client_id, why } => {
                write!(f, "did not publish the will of {device} as {client_id:?}: {why}")
            }
            Self::Withheld { device, topic } => {
                write!(f, "withheld from {device} a message on {topic:?}: not allowed now")
            }
            Self::SubscriptionEnded { device, filter, why } => {
                write!(f, "ended the subscription of {device} to {filter:?}: {why}")
            }
            Self::Cut { device, why } => write!(f, "cut {device}: {why}"),
            Self::Closed { device, why } => write!(f, "closed {device}: {why}"),
            Self::CloneSign { device, peer, sign } => {
                write!(f, "a sign that somebody else has the key of {device}, from {peer}: {sign}")
            }
            Self::Held { device } => write!(f, "put {device} on hold"),
            Self::BypassOpen { broker } => write!(
                f,
                "WARNING: the broker at {broker} accepts clients without credentials, so that everybody who reaches it \
                 goes around the guard; give it a password that only the guard knows, or a network of its own"
            ),
            Self::Introduced { device, child, kind, state } => {
                let then = if *state == "waits" { "it waits for a person: device accept" } else { "it is listed" };
                write!(f, "{device} brought in {child} as a {kind}: {then}")
            }
            Self::NotIntroduced { device, child, kind, because } => {
                write!(f, "{device} did not bring in {child} as a {kind}: {because}")
            }
            Self::ErrandHanded { device, errand, purpose, to } => match device == to {
                true => write!(f, "handed {device} errand {errand}: {purpose}"),
                false => write!(f, "handed {to} errand {errand} for {device}: {purpose}"),
            },
            Self::ErrandAnswered { device, errand, purpose, by } => match device == by {
                true => write!(f, "{device} answered errand {errand}: {purpose}"),
                false => write!(f, "{by} answered errand {errand} for {device}: {purpose}"),
            },
            Self::ErrandNotAnswered { device, why } => write!(f, "did not take what {device} said of an errand: {why}"),
            Self::ClaimWindow { device, ends } => write!(f, "{device} opened itself to be claimed until {ends}"),
            Self::OwnCertificate { ends } => write!(f, "shows other certificates now; its own ends {ends}"),
            Self::Reloaded => write!(f, "reloaded the settings"),
            Self::Authorities => write!(f, "the authorities changed; trusting those of the store now"),
            Self::Edition { number } => write!(f, "deciding by edition {number} now"),
            Self::Trouble { what } => write!(f, "trouble: {what}"),
        }
    }
}
