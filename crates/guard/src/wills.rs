//! Wills. One that is published when its client is lost is given to the broker, which is told goodbye if it may not go. One that
//! waits first (MQTT 5.0 section 3.1.3.2.2) is the guard's own: whether it may go is decided when its time has come, and the
//! client's session at the broker is left alone.

use std::collections::HashMap;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use data_encoding::{BASE64, HEXLOWER};
use serde::{Deserialize, Serialize};
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{PropertyId, Publish, Value, Version, Will, split};
use tidy_warden_core::policy::{Meter, Rights};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::topic::TopicName;

use crate::Event;
use crate::gate::sender;
use crate::identity::Credential;
use crate::message::Message;
use crate::shared::Shared;

/// The most wills that wait at once, and their octets; limits on memory. One more is not kept, and that is told.
const MOST: usize = 10_000;
const MOST_OCTETS: usize = 64 * 1024 * 1024;

/// The most octets of one device's, so that few devices cannot take the room of all.
const MOST_OF_ONE: usize = 512 * 1024;

/// How often is looked whether the time of one has come.
const LOOK: Duration = Duration::from_millis(250);

/// The largest will that a client can leave, in octets: its CONNECT is bounded.
const MAX_PACKET: usize = 256 * 1024;

/// The will of a live session.
pub(crate) struct LastWill {
    topic: String,
    qos: u8,
    retain: bool,
    size: usize,
    response: Option<String>,
    /// The will as a message, and how long it waits, if the guard keeps it itself.
    own: Option<(Vec<u8>, Duration)>,
}

impl LastWill {
    /// What a CONNECT leaves. One that waits is kept whole.
    pub(crate) fn of(will: &Will<'_>) -> Option<Self> {
        let topic = TopicName::parse(will.topic).ok()?;
        let message = Message::new(topic, will.qos, will.retain, will.payload, &will.properties);
        let delay = will.properties.number(PropertyId::WillDelay).unwrap_or(0);
        let own = (delay > 0).then(|| {
            let packet_id = (will.qos > 0).then_some(1);
            let properties = will.properties.without(PropertyId::WillDelay);
            let (qos, retain, topic, payload) = (will.qos, will.retain, will.topic, will.payload);
            let publish = Publish { dup: false, qos, retain, topic, packet_id, properties, payload };
            (publish.to_bytes(Version::V5), Duration::from_secs(u64::from(delay)))
        });
        Some(Self {
            topic: will.topic.to_owned(),
            qos: will.qos,
            retain: will.retain,
            size: message.act.size,
            response: message.response().map(str::to_owned),
            own,
        })
    }

    /// Whether the guard keeps it, and the broker does not know it.
    pub(crate) fn is_own(&self) -> bool {
        self.own.is_some()
    }

    /// Whether rights give it now; then its rate is charged, for it goes.
    pub(crate) fn may_go(&self, rights: &Rights, meter: &mut dyn Meter) -> bool {
        let Ok(topic) = TopicName::parse(&self.topic) else { return false };
        let message = Message::kept(topic, self.qos, self.retain, self.size, self.response.as_deref());
        message.decide(rights, meter).is_ok()
    }

    /// The message, and how long it waits at most: no longer than the session lasts.
    pub(crate) fn into_own(self, expiry: Duration) -> Option<(Vec<u8>, Duration)> {
        self.own.map(|(packet, delay)| (packet, delay.min(expiry)))
    }
}

/// A will that waits.
#[derive(Debug, Clone)]
pub(crate) struct Waiting {
    pub(crate) device: DeviceId,
    pub(crate) client_id: String,
    pub(crate) credential: Credential,
    pub(crate) packet: Vec<u8>,
    /// The guard that served its session.
    pub(crate) guard: i64,
    pub(crate) lost: UnixTime,
    pub(crate) due: UnixTime,
}

/// All that wait, by client identifier.
#[derive(Default)]
pub(crate) struct Wills(Mutex<Inner>);

#[derive(Default)]
struct Inner {
    all: HashMap<String, Waiting>,
    octets: usize,
    octets_of: HashMap<DeviceId, usize>,
    /// Grows with each change, so that they are kept in a file when it did.
    changes: u64,
}

impl Inner {
    fn insert(&mut self, will: Waiting) {
        self.octets += will.packet.len();
        *self.octets_of.entry(will.device.clone()).or_default() += will.packet.len();
        self.all.insert(will.client_id.clone(), will);
        self.changes += 1;
    }

    fn remove(&mut self, client_id: &str) -> Option<Waiting> {
        let will = self.all.remove(client_id)?;
        self.octets -= will.packet.len();
        if let Some(of_device) = self.octets_of.get_mut(&will.device) {
            *of_device -= will.packet.len();
            if *of_device == 0 {
                self.octets_of.remove(&will.device);
            }
        }
        self.changes += 1;
        Some(will)
    }
}

impl Wills {
    fn lock(&self) -> std::sync::MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps a will until its time; says no if there are too many.
    pub(crate) fn add(&self, will: Waiting) -> bool {
        let mut inner = self.lock();
        inner.remove(&will.client_id);
        let of_device = inner.octets_of.get(&will.device).copied().unwrap_or(0);
        let octets = will.packet.len();
        if inner.all.len() >= MOST || inner.octets + octets > MOST_OCTETS || of_device + octets > MOST_OF_ONE {
            return false;
        }
        inner.insert(will);
        true
    }

    /// The client is back: its will is void.
    pub(crate) fn back(&self, client_id: &str) {
        self.lock().remove(client_id);
    }

    /// Takes those whose time has come.
    fn due(&self, now: UnixTime) -> Vec<Waiting> {
        let mut inner = self.lock();
        let names: Vec<String> =
            inner.all.values().filter(|will| will.due <= now).map(|will| will.client_id.clone()).collect();
        names.iter().filter_map(|name| inner.remove(name)).collect()
    }

    /// How often they changed.
    pub(crate) fn changes(&self) -> u64 {
        self.lock().changes
    }

    /// Keeps them in a file, so that a guard that starts anew goes on with them. Those of sessions that were opened by a token
    /// are left out: the token is not kept.
    pub(crate) fn save(&self, path: &Path) -> io::Result<()> {
        let kept: Vec<Kept> = self.lock().all.values().filter_map(Kept::of).collect();
        tidy_warden_serve::file::replace(path, serde_json::to_string(&kept)?.as_bytes())
    }

    /// Goes on with those that another guard left in a file.
    pub(crate) fn load(&self, path: &Path) -> io::Result<()> {
        let text = match std::fs::read_to_string(path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(error) => return Err(error),
        };
        for kept in serde_json::from_str::<Vec<Kept>>(&text)? {
            if let Some(will) = kept.waiting() {
                self.add(will);
            }
        }
        Ok(())
    }
}

/// A will in the file.
#[derive(Serialize, Deserialize)]
struct Kept {
    device: String,
    client_id: String,
    certificate: String,
    packet: String,
    guard: i64,
    lost: i64,
    due: i64,
}

impl Kept {
    fn of(will: &Waiting) -> Option<Self> {
        let Credential::Certificate(fingerprint) = &will.credential else { return None };
        Some(Self {
            device: will.device.to_string(),
            client_id: will.client_id.clone(),
            certificate: HEXLOWER.encode(&fingerprint.0),
            packet: BASE64.encode(&will.packet),
            guard: will.guard,
            lost: will.lost.0,
            due: will.due.0,
        })
    }

    fn waiting(self) -> Option<Waiting> {
        let fingerprint = HEXLOWER.decode(self.certificate.as_bytes()).ok()?;
        Some(Waiting {
            device: self.device.parse().ok()?,
            client_id: self.client_id,
            credential: Credential::Certificate(Fingerprint(fingerprint.try_into().ok()?)),
            packet: BASE64.decode(self.packet.as_bytes()).ok()?,
            guard: self.guard,
            lost: UnixTime(self.lost),
            due: UnixTime(self.due),
        })
    }
}

/// When a will that waits so long is due.
pub(crate) fn due(lost: UnixTime, delay: Duration) -> UnixTime {
    lost.plus(Span::from_seconds(u32::try_from(delay.as_secs()).unwrap_or(u32::MAX)))
}

/// Publishes wills when their time has come.
pub(crate) async fn publish_due(shared: Arc<Shared>) {
    loop {
        tokio::time::sleep(LOOK).await;
        for will in shared.wills.due(shared.knowledge.now()) {
            let (device, client_id) = (will.device.clone(), will.client_id.clone());
            if let Err(why) = publish(&shared, &will).await {
                let subject = client_id;
                shared.emit(Event::WillNotSent { device: device.to_string(), client_id: subject, why });
            }
        }
    }
}

/// Decides on a will by the state and edition of this moment, and publishes it.
async fn publish(shared: &Arc<Shared>, will: &Waiting) -> Result<(), String> {
    // The client may be back at another guard.
    let session = shared.knowledge.broker_session(will.client_id.clone()).await.map_err(|error| error.to_string())?;
    if session.is_some_and(|session| session.guard != will.guard && session.opened >= will.lost) {
        return Err("the client is back, at another guard".to_owned());
    }
    let live = shared.live();
    let (admitted, changes) =
        shared.knowledge.admit(&will.credential, &live.settings, None).await.map_err(|error| error.to_string())?;
    let standing =
        shared.given(&admitted.device, &will.credential, changes.as_ref()).await.ok_or("no edition is adopted")?;
    let frame = split(&will.packet, MAX_PACKET).ok().flatten().ok_or("it does not read back")?;
    let message = Publish::parse(&frame, Version::V5).map_err(|error| error.to_string())?;
    let topic = TopicName::parse(message.topic).map_err(|error| error.to_string())?;
    let asked = Message::new(topic, message.qos, message.retain, message.payload, &message.properties);
    let mut meter = shared.rates.of(&will.device, std::time::Instant::now());
    let admitted = asked.decide(&standing.rights, &mut meter).map_err(|refused| refused.to_string())?;
    let name = &live.settings.guard.sender_property;
    let sender = sender(will.device.as_str(), admitted.child);
    let mut properties = message.properties.clone();
    if !name.is_empty() {
        properties = properties.without_user(name).with(PropertyId::UserProperty, Value::Pair(name, &sender));
    }
    let message = Publish { properties, ..message };
    live.upstream.publish(&message).await.map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wills_wait_until_they_are_due_and_outlive_the_guard() {
        let wills = Wills::default();
        let will = |client_id: &str, due: i64| Waiting {
            device: "wv-1".parse().unwrap(),
            client_id: client_id.to_owned(),
            credential: Credential::Certificate(Fingerprint([3; 32])),
            packet: vec![0x30, 3, 0, 1, b'a'],
            guard: 5,
            lost: UnixTime(10),
            due: UnixTime(due),
        };
        for (client_id, due) in [("wv-1", 20), ("wv-1:a", 30), ("wv-1:b", 30)] {
            assert!(wills.add(will(client_id, due)));
        }
        wills.back("wv-1:b");
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("guard.wills");
        wills.save(&path).unwrap();
        assert_eq!(wills.due(UnixTime(19)).len(), 0);
        assert_eq!(wills.due(UnixTime(20)).len(), 1);
        let again = Wills::default();
        again.load(&path).unwrap();
        let mut due: Vec<String> = again.due(UnixTime(30)).into_iter().map(|will| will.client_id).collect();
        due.sort();
        assert_eq!(due, ["wv-1", "wv-1:a"]);
        assert_eq!(again.lock().octets, 0);
        assert!(again.lock().octets_of.is_empty());
        assert!(again.load(&dir.path().join("none")).is_ok());
    }

    #[test]
    fn one_device_cannot_take_the_room_of_all() {
        let wills = Wills::default();
        let will = |device: &str, name: &str| Waiting {
            device: device.parse().unwrap(),
            client_id: format!("{device}:{name}"),
            credential: Credential::Certificate(Fingerprint([3; 32])),
            packet: vec![0x30; 200 * 1024],
            guard: 5,
            lost: UnixTime(10),
            due: UnixTime(20),
        };
        assert!(wills.add(will("wv-1", "a")) && wills.add(will("wv-1", "b")));
        assert!(!wills.add(will("wv-1", "c")), "the third is over what one device has");
        assert!(wills.add(will("wv-1", "b")), "one that takes the place of another");
        assert!(wills.add(will("wv-2", "a")));
        wills.back("wv-1:a");
        assert!(wills.add(will("wv-1", "c")));
    }
}
