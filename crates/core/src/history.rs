//! What was true of a device at a moment that is over, from what was recorded of it.
//!
//! Credentials carry the times of what happened to them. That a device was on hold, out or retired stands in the audit record; an entry
//! about the device is looked at from the newest to the oldest, so that the first that says something of it says what counted.

use serde_json::Value;

use crate::audit::Entry;
use crate::credential::{CredentialRecord, Origin};
use crate::device::DeviceRecord;
use crate::time::UnixTime;

/// Finds out where a device stood at a moment.
#[derive(Debug, Clone)]
pub struct Then {
    at: UnixTime,
    held: Option<Option<UnixTime>>,
    out: Option<Option<UnixTime>>,
    retired: Option<UnixTime>,
    /// What was changed of it since, that no time is kept of: numbers of entries, the newest first.
    pub changed_since: Vec<i64>,
}

/// Acts that change what is known of a device, and of which no former value is kept.
const EDITS: [&str; 2] = ["device.edit", "device.swap"];

impl Then {
    /// At `at`.
    #[must_use]
    pub fn new(at: UnixTime) -> Self {
        Self { at, held: None, out: None, retired: None, changed_since: Vec::new() }
    }

    /// Takes an entry about the device, each older than the one before.
    pub fn take(&mut self, entry: &Entry) {
        if entry.at > self.at {
            if EDITS.contains(&entry.act.as_str()) {
                self.changed_since.push(entry.number);
            }
            return;
        }
        let puts_out = || {
            let detail: Value = serde_json::from_str(&entry.detail).unwrap_or(Value::Null);
            detail["device_out"] == true
        };
        match entry.act.as_str() {
            "hold" => drop(self.held.get_or_insert(Some(entry.at))),
            "release" => drop(self.held.get_or_insert(None)),
            "device.reopen" => drop(self.out.get_or_insert(None)),
            "device.retire" => {
                self.held.get_or_insert(None);
                self.retired.get_or_insert(entry.at);
            }
            "revoke" if puts_out() => {
                self.held.get_or_insert(None);
                self.out.get_or_insert(Some(entry.at));
            }
            _ => {}
        }
    }

    /// Whether what is older can say nothing more.
    #[must_use]
    pub fn is_settled(&self) -> bool {
        self.held.is_some() && self.out.is_some()
    }

    /// The device as it was, and its credentials, which stand in the order in which they were recorded, the newest first; `None` if it
    /// was not listed yet. Its kind, labels, facts, gateway, owner and note are those of now: see [`Then::changed_since`].
    #[must_use]
    pub fn of(
        &self,
        device: &DeviceRecord,
        credentials: &[CredentialRecord],
    ) -> Option<(DeviceRecord, Vec<CredentialRecord>)> {
        let at = self.at;
        if device.created > at {
            return None;
        }
        let then = |time: Option<UnixTime>| time.filter(|time| *time <= at);
        let held = self.held.flatten();
        let device = DeviceRecord {
            held,
            out: self.out.flatten(),
            retired: self.retired,
            seen: then(device.seen),
            ..device.clone()
        };
        let was_there = |each: &&CredentialRecord| each.issued <= at;
        let all: Vec<CredentialRecord> = credentials
            .iter()
            .enumerate()
            .filter(|(_, each)| was_there(each))
            .map(|(place, each)| {
                // One that was replaced was so from the moment on at which a newer one was recorded.
                let is_its = |newer: &&CredentialRecord| {
                    newer.origin != Origin::Foreign && newer.origin.is_key() == each.origin.is_key()
                };
                let replaced = credentials[..place].iter().filter(is_its).any(|newer| newer.issued <= at);
                CredentialRecord {
                    equipped: then(each.equipped),
                    first_used: then(each.first_used),
                    superseded_until: each.superseded_until.filter(|_| replaced),
                    revoked: each.revoked.filter(|(time, _)| *time <= at),
                    distrusted: then(each.distrusted),
                    held,
                    ..each.clone()
                }
            })
            .collect();
        Some((device, all))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audit::{Draft, GENESIS};
    use crate::credential::CredentialState;
    use crate::credential::tests::record;
    use crate::device::DeviceState;
    use crate::revocation::Reason;

    fn entry(number: i64, at: i64, act: &'static str, detail: &str) -> Entry {
        let draft = Draft {
            at: UnixTime(at),
            actor: "ada".into(),
            act,
            subject: "wv-1".into(),
            because: String::new(),
            detail: detail.into(),
        };
        Entry::seal(draft, number, GENESIS)
    }

    fn device() -> DeviceRecord {
        DeviceRecord::new("wv-1".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(100))
    }

    #[test]
    fn a_device_stood_where_the_last_entry_before_says() {
        let story = [
            entry(1, 100, "device.add", "{}"),
            entry(2, 200, "hold", "{}"),
            entry(3, 300, "device.edit", "{}"),
            entry(4, 400, "release", "{}"),
            entry(5, 500, "revoke", r#"{"device_out":false}"#),
            entry(6, 600, "hold", "{}"),
            entry(7, 700, "revoke", r#"{"device_out":true}"#),
            entry(8, 800, "device.reopen", "{}"),
            entry(9, 900, "device.retire", "{}"),
        ];
        let at = |at: i64| {
            let mut then = Then::new(UnixTime(at));
            story.iter().rev().for_each(|entry| then.take(entry));
            let device = then.of(&device(), &[]).map(|(device, _)| device);
            (device.map(|device| (device.held, device.out, device.retired)), then.changed_since)
        };
        let time = |at| Some(UnixTime(at));
        for (moment, held, out, retired, changed) in [
            (100, None, None, None, vec![3]),
            (199, None, None, None, vec![3]),
            (200, time(200), None, None, vec![3]),
            (399, time(200), None, None, vec![]),
            (400, None, None, None, vec![]),
            (650, time(600), None, None, vec![]),
            (700, None, time(700), None, vec![]),
            (850, None, None, None, vec![]),
            (950, None, None, time(900), vec![]),
        ] {
            assert_eq!(at(moment), (Some((held, out, retired)), changed), "at {moment}");
        }
        assert_eq!(at(99).0, None, "it was not listed");
    }

    #[test]
    fn a_credential_was_what_had_happened_to_it_by_then() {
        let time = |at| Some(UnixTime(at));
        let first = CredentialRecord {
            issued: UnixTime(110),
            equipped: time(120),
            first_used: time(130),
            // Its successor was used at 350.
            superseded_until: time(350),
            revoked: Some((UnixTime(500), Reason::KeyCompromise)),
            ..record()
        };
        let second = CredentialRecord { issued: UnixTime(300), equipped: time(300), first_used: time(350), ..record() };
        let key = CredentialRecord { origin: Origin::Key, issued: UnixTime(250), ..record() };
        let all = [second, key, first];
        let states = |at: i64, held: Option<i64>| {
            let mut then = Then::new(UnixTime(at));
            if let Some(held) = held {
                then.take(&entry(1, held, "hold", "{}"));
            }
            let (device, all) = then.of(&device(), &all).unwrap();
            let now = UnixTime(at);
            let told = all.iter().map(|each| (each.state(now), each.may_sign_in(now).is_ok())).collect::<Vec<_>>();
            (DeviceState::of(&device, &all, now), told)
        };
        use CredentialState::{Equipped, Expired, Held, Issued, Live, Revoked, Superseded};
        assert_eq!(states(105, None), (DeviceState::Listed, vec![]));
        assert_eq!(states(115, None).1, [(Issued, true)]);
        assert_eq!(states(125, None).1, [(Equipped, true)]);
        assert_eq!(states(200, None), (DeviceState::Live, vec![(Live, true)]));
        assert_eq!(states(200, Some(150)), (DeviceState::Held, vec![(Held, false)]));
        assert_eq!(states(260, None).1, [(Issued, true), (Live, true)], "a key replaces no certificate");
        assert_eq!(states(320, None).1, [(Equipped, true), (Issued, true), (Superseded, true)], "in its overlap");
        assert_eq!(states(351, None).1, [(Live, true), (Issued, true), (Superseded, false)], "its successor is used");
        assert_eq!(states(500, None).1[2], (Revoked, false));
        assert_eq!(states(1_001, None).1[0], (Expired, false));
    }
}
