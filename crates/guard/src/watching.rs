//! What is only watched: acts for whoever keeps a log of them, and what policies on trial would decide otherwise.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use serde::Serialize;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::policy::{Delivery, Denial, NoMeter, Publish, Rights, Rule};
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::topic::{TopicFilter, TopicName};
use tidy_warden_store::TrialDifference;

/// The most differences kept between two writes; a limit on memory. What comes beyond is counted when it comes again.
const MAX_NOTES: usize = 10_000;

/// An act as it was asked for. Never holds a payload.
#[derive(Debug, Clone, Serialize)]
pub struct Observation<'a> {
    /// Whose act.
    pub device: &'a str,
    /// `connect`, `publish` or `subscribe`.
    pub act: &'static str,
    /// The client identifier, topic, or topic filter as it came, with `$share/NAME/` if it had it.
    pub subject: &'a str,
    /// The QoS.
    pub qos: u8,
    /// Whether a message was to be retained.
    pub retain: bool,
    /// Octets of payload.
    pub size: usize,
    /// Whether it was allowed.
    pub allowed: bool,
}

/// Takes observations. Called from many tasks; must not block for long.
pub type Observer = Arc<dyn Fn(&Observation<'_>) + Send + Sync>;

/// A key of [`Notes`]: trial, device, act, whether the trial would allow it, and the rule.
type Key = (u32, DeviceId, &'static str, bool, String);

struct Noted {
    sample: String,
    count: u64,
    first: UnixTime,
    last: UnixTime,
}

/// Differences that wait to be written.
#[derive(Default)]
pub(crate) struct Notes(Mutex<HashMap<Key, Noted>>);

impl Notes {
    fn add(&self, key: Key, sample: &str, now: UnixTime) {
        let mut notes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if notes.len() >= MAX_NOTES && !notes.contains_key(&key) {
            return;
        }
        let noted = notes.entry(key).or_insert(Noted { sample: String::new(), count: 0, first: now, last: now });
        noted.count += 1;
        noted.last = now;
        if noted.sample != sample {
            sample.clone_into(&mut noted.sample);
        }
    }

    /// Takes all that wait, by trial.
    pub(crate) fn take(&self) -> HashMap<u32, Vec<TrialDifference>> {
        let notes = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        let mut all: HashMap<u32, Vec<TrialDifference>> = HashMap::new();
        for ((trial, device, act, would_allow, rule), noted) in notes {
            all.entry(trial).or_default().push(TrialDifference {
                device,
                act: act.to_owned(),
                would_allow,
                rule,
                sample: noted.sample,
                count: noted.count,
                first: noted.first,
                last: noted.last,
            });
        }
        all
    }
}

/// What policies on trial give a device.
#[derive(Clone)]
pub(crate) struct Trial {
    pub(crate) number: u32,
    pub(crate) rights: Rights,
}

/// What one session is watched for.
#[derive(Clone)]
pub(crate) struct Watching {
    pub(crate) device: DeviceId,
    pub(crate) observer: Option<Observer>,
    pub(crate) notes: Arc<Notes>,
    /// The ward's clock, as of the packet that is looked at.
    pub(crate) now: UnixTime,
    pub(crate) trial: Option<Trial>,
}

impl Watching {
    fn observe(&self, act: &'static str, subject: &str, (qos, retain, size): (u8, bool, usize), allowed: bool) {
        if let Some(observer) = &self.observer {
            observer(&Observation { device: self.device.as_str(), act, subject, qos, retain, size, allowed });
        }
    }

    /// Notes what the trial decides, if that is not what was decided.
    fn compare(
        &self,
        act: &'static str,
        subject: &str,
        allowed: bool,
        decide: impl Fn(&Rights) -> Result<Option<Rule>, Denial>,
    ) {
        let Some(trial) = &self.trial else { return };
        let decision = decide(&trial.rights);
        if decision.is_ok() == allowed {
            return;
        }
        let rule = match &decision {
            Ok(rule) => rule.as_ref(),
            Err(denial) => denial.rule(),
        };
        let rule = rule.map_or_else(String::new, |rule| rule.at.to_string());
        let key = (trial.number, self.device.clone(), act, decision.is_ok(), rule);
        self.notes.add(key, subject, self.now);
    }

    pub(crate) fn connect(&self, client_id: &str, allowed: bool) {
        self.observe("connect", client_id, (0, false, 0), allowed);
        self.compare("connect", client_id, allowed, |rights| {
            rights.connect(client_id).map(|granted| Some(granted.rule))
        });
    }

    pub(crate) fn publish(&self, act: Publish<'_>, allowed: bool) {
        let topic = act.topic.as_str();
        self.observe("publish", topic, (act.qos, act.retain, act.size), allowed);
        self.compare("publish", topic, allowed, |rights| {
            rights.publish(act, &mut NoMeter).map(|admitted| Some(admitted.rule.clone()))
        });
    }

    pub(crate) fn subscribe(&self, asked: &str, filter: &TopicFilter, share: Option<&str>, qos: u8, allowed: bool) {
        self.observe("subscribe", asked, (qos, false, 0), allowed);
        self.compare("subscribe", asked, allowed, |rights| {
            rights.subscribe(filter, qos, share).map(|granted| Some(granted.rule))
        });
    }

    pub(crate) fn deliver(&self, topic: TopicName<'_>, allowed: bool) {
        let Some(trial) = &self.trial else { return };
        let would = trial.rights.deliver(topic) == Delivery::Deliver;
        if would != allowed {
            let key = (trial.number, self.device.clone(), "deliver", would, String::new());
            self.notes.add(key, topic.as_str(), self.now);
        }
    }
}
