//! The topics on which errands go: the ward's own, which no policy gives or takes.
//!
//! `PREFIX/RECEIVER/errand/DEVICE` brings an errand to the session of `RECEIVER`, which is the device or its gateway;
//! `PREFIX/RECEIVER/answer/DEVICE` takes the answer. So all topics of one receiver begin with its id, and one filter has all that is for
//! it and its children: `PREFIX/RECEIVER/errand/+`. `PREFIX/DEVICE/claim-window` takes what opens a device to be claimed.

use std::sync::Arc;

use crate::id::DeviceId;
use crate::topic::TopicName;

/// Why a text cannot be the prefix of the ward's own topics.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("expected one or more levels without `+`, `#` and empty ones, of at most 64 octets, and no `$share`")]
pub struct BadPrefix;

/// The ward's own topics.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reserved {
    prefix: Arc<str>,
}

/// What a topic of the ward's own is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place<'t> {
    /// Errands to `receiver` for `device`.
    Errand {
        /// Whose session.
        receiver: &'t str,
        /// Whose errand.
        device: &'t str,
    },
    /// Answers of `device` from `receiver`.
    Answer {
        /// Whose session.
        receiver: &'t str,
        /// Whose errand.
        device: &'t str,
    },
    /// That `device` opens itself to be claimed.
    Window {
        /// Which.
        device: &'t str,
    },
    /// For nothing.
    Nothing,
}

impl Default for Reserved {
    fn default() -> Self {
        Self { prefix: "$ward".into() }
    }
}

impl Reserved {
    /// Topics below `prefix`.
    ///
    /// # Errors
    /// It is none.
    pub fn new(prefix: &str) -> Result<Self, BadPrefix> {
        let is_good = prefix.len() <= 64
            && TopicName::parse(prefix).is_ok()
            && prefix.split('/').all(|level| !level.is_empty())
            && !prefix.starts_with("$share");
        if is_good { Ok(Self { prefix: prefix.into() }) } else { Err(BadPrefix) }
    }

    /// The prefix.
    #[must_use]
    pub fn prefix(&self) -> &str {
        &self.prefix
    }

    /// Where an errand for `device` goes that `receiver` is to get.
    #[must_use]
    pub fn errand(&self, receiver: &DeviceId, device: &DeviceId) -> String {
        format!("{}/{receiver}/errand/{device}", self.prefix)
    }

    /// Where it is answered.
    #[must_use]
    pub fn answer(&self, receiver: &DeviceId, device: &DeviceId) -> String {
        format!("{}/{receiver}/answer/{device}", self.prefix)
    }

    /// Where a device says that it opens itself to be claimed.
    #[must_use]
    pub fn claim_window(&self, device: &str) -> String {
        format!("{}/{device}/claim-window", self.prefix)
    }

    /// What a receiver subscribes to.
    #[must_use]
    pub fn filter(&self, receiver: &str) -> String {
        format!("{}/{receiver}/errand/+", self.prefix)
    }

    /// What follows the prefix, if `text` is a topic or filter that begins with it.
    fn behind<'t>(&self, text: &'t str) -> Option<&'t str> {
        let rest = text.strip_prefix(&*self.prefix)?;
        if rest.is_empty() { Some("") } else { rest.strip_prefix('/') }
    }

    /// What a topic is for, if it is the ward's own.
    #[must_use]
    pub fn place<'t>(&self, topic: &'t str) -> Option<Place<'t>> {
        let rest = self.behind(topic)?;
        let levels: Vec<&str> = rest.splitn(4, '/').collect();
        Some(match levels[..] {
            [receiver, "errand", device] => Place::Errand { receiver, device },
            [receiver, "answer", device] => Place::Answer { receiver, device },
            [device, "claim-window"] => Place::Window { device },
            _ => Place::Nothing,
        })
    }

    /// Whether a filter asks for topics of the ward's own by name, and if so whether it asks for errands of `receiver` and for nothing
    /// else.
    #[must_use]
    pub fn asks_for(&self, filter: &str, receiver: &str) -> Option<bool> {
        let rest = self.behind(filter)?;
        let levels: Vec<&str> = rest.splitn(4, '/').collect();
        Some(matches!(levels[..], [of, "errand", _] if of == receiver))
    }
}
