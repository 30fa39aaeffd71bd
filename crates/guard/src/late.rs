//! Wills that wait at the broker (MQTT 5.0 section 3.1.3.2.2): their client is lost, but not for long enough yet. Should its right end
//! meanwhile, the will must not be published any more, and only the broker can see to that.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{Connack, Connect, PropertyId, Will};
use tidy_warden_core::policy::{self, Rights};
use tidy_warden_core::topic::TopicName;
use tokio::time::Instant;

use crate::identity::Credential;

/// The most wills that are followed; a limit on memory.
const MOST: usize = 100_000;

/// The will of a session, as far as deciding on it goes; the broker has its payload.
pub(crate) struct LastWill {
    topic: String,
    qos: u8,
    retain: bool,
    size: usize,
    /// How long the broker waits before it publishes it.
    pub(crate) delay: Duration,
}

impl LastWill {
    pub(crate) fn of(will: &Will<'_>, connect: &Connect<'_>, connack: &Connack<'_>) -> Self {
        // The broker waits until the session's end at most (MQTT 5.0 section 3.1.3.2.2).
        let expiry = connack.properties.number(PropertyId::SessionExpiry);
        let expiry = expiry.or(connect.properties.number(PropertyId::SessionExpiry)).unwrap_or(0);
        let delay = will.properties.number(PropertyId::WillDelay).unwrap_or(0).min(expiry);
        Self {
            topic: will.topic.to_owned(),
            qos: will.qos,
            retain: will.retain,
            size: will.payload.len(),
            delay: Duration::from_secs(u64::from(delay)),
        }
    }

    /// Whether rights give it.
    pub(crate) fn allowed_by(&self, rights: &Rights) -> bool {
        let Ok(topic) = TopicName::parse(&self.topic) else { return false };
        let act = policy::Publish { topic, qos: self.qos, retain: self.retain, size: self.size };
        rights.publish(act, &mut policy::NoMeter).is_ok()
    }
}

/// A will that waits.
pub(crate) struct LateWill {
    pub(crate) device: DeviceId,
    pub(crate) client_id: String,
    pub(crate) credential: Credential,
    pub(crate) will: LastWill,
    /// When the broker publishes it.
    pub(crate) due: Instant,
}

/// All that wait, by client identifier.
#[derive(Default)]
pub(crate) struct LateWills(Mutex<HashMap<String, LateWill>>);

impl LateWills {
    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<String, LateWill>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn add(&self, will: LateWill) {
        let mut all = self.lock();
        if all.len() < MOST {
            all.insert(will.client_id.clone(), will);
        }
    }

    /// The client is back: the broker forgets its will.
    pub(crate) fn back(&self, client_id: &str) {
        self.lock().remove(client_id);
    }

    /// Takes those that are concerned by a change, and forgets those that were published.
    pub(crate) fn concerned(&self, is_concerned: impl Fn(&DeviceId) -> bool) -> Vec<LateWill> {
        let mut all = self.lock();
        let now = Instant::now();
        all.retain(|_, will| will.due > now);
        let names: Vec<String> =
            all.values().filter(|will| is_concerned(&will.device)).map(|will| will.client_id.clone()).collect();
        names.iter().filter_map(|name| all.remove(name)).collect()
    }
}
