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
        /// Why.
        why: String,
    },
    /// A device opened a session.
    Connected {
        /// The device.
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
    /// A message for the device was withheld, because its topic is not allowed to it now.
    Withheld {
        /// The device.
        device: String,
        /// The topic.
        topic: String,
    },
    /// A subscription was ended, because a change made it too wide.
    SubscriptionEnded {
        /// The device.
        device: String,
        /// The topic filter.
        filter: String,
        /// Why.
        why: String,
    },
    /// A session was cut: its right to be there ended.
    Cut {
        /// The device.
        device: String,
        /// Why.
        why: String,
    },
    /// A session ended otherwise.
    Closed {
        /// The device.
        device: String,
        /// Why.
        why: String,
    },
    /// A sign that somebody else has a device's key.
    CloneSign {
        /// The device.
        device: String,
        /// Where it comes from now.
        peer: SocketAddr,
        /// The sign, in words.
        sign: String,
    },
    /// The guard put a device on hold, as its kind wants after a sign of a clone.
    Held {
        /// The device.
        device: String,
    },
    /// The broker lets in who shows nothing: whoever reaches it needs no guard.
    BypassOpen {
        /// The broker.
        broker: String,
    },
    /// New settings took effect.
    Reloaded,
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

impl Event {
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
            | Self::Held { device } => Some(device),
            Self::Refused { device, .. } => device.as_deref(),
            Self::Listening { .. }
            | Self::TlsRefused { .. }
            | Self::BypassOpen { .. }
            | Self::Reloaded
            | Self::Authorities
            | Self::Edition { .. }
            | Self::Trouble { .. } => None,
        }
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
                "WARNING: the broker at {broker} lets in who shows nothing, so that everybody who reaches it goes around \
                 the guard; give it a password that only the guard knows, or a network of its own"
            ),
            Self::Reloaded => write!(f, "reloaded the settings"),
            Self::Authorities => write!(f, "the authorities changed; trusting those of the store now"),
            Self::Edition { number } => write!(f, "deciding by edition {number} now"),
            Self::Trouble { what } => write!(f, "trouble: {what}"),
        }
    }
}
