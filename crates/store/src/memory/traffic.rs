//! What the guard counts and notices, and what the broker keeps.

use tidy_warden_core::id::DeviceId;

use super::{MemoryStore, Model, unknown};
use crate::{
    BrokerSession, CloneSigns, DeviceEvent, MOST_EVENTS, ReadTraffic, StoreError, Tally, Traffic, WriteTraffic,
};

impl ReadTraffic for MemoryStore {
    fn traffic(&self, id: &DeviceId) -> Result<Traffic, StoreError> {
        Ok(self.model().traffic.get(id).cloned().unwrap_or_default())
    }

    fn clone_signs(&self, id: &DeviceId) -> Result<Option<CloneSigns>, StoreError> {
        Ok(self.model().clone_signs.get(id).cloned())
    }

    fn events(&self, id: &DeviceId) -> Result<Vec<DeviceEvent>, StoreError> {
        Ok(self.model().events.get(id).cloned().unwrap_or_default())
    }

    fn broker_session(&self, client_id: &str) -> Result<Option<BrokerSession>, StoreError> {
        Ok(self.model().sessions.get(client_id).cloned())
    }

    fn broker_sessions_of(&self, device: &DeviceId) -> Result<usize, StoreError> {
        Ok(self.model().sessions.values().filter(|session| session.device == *device).count())
    }

    fn broker_sessions_of_ended(&self, limit: usize) -> Result<Vec<BrokerSession>, StoreError> {
        let model = self.model();
        let is_over = |id| model.device(id).is_some_and(|it| it.record.out.is_some() || it.record.retired.is_some());
        Ok(model.sessions.values().filter(|session| is_over(&session.device)).take(limit).cloned().collect())
    }
}

impl WriteTraffic for MemoryStore {
    fn put_clone_signs(&mut self, id: &DeviceId, signs: &CloneSigns) -> Result<(), StoreError> {
        let model = self.model_mut();
        model.device(id).ok_or_else(|| unknown("device", id))?;
        model.clone_signs.insert(id.clone(), signs.clone());
        Ok(())
    }
}

/// Adds what was counted.
pub(super) fn tally(model: &mut Model, tally: &Tally<'_>) {
    match tally {
        Tally::Traffic { counted, at } => {
            for (id, more) in *counted {
                let Ok(device) = model.device_mut(id) else { continue };
                if more.messages_in > 0 {
                    device.record.seen = device.record.seen.max(Some(*at));
                }
                let all = model.traffic.entry(id.clone()).or_default();
                all.messages_in += more.messages_in;
                all.octets_in += more.octets_in;
                all.messages_out += more.messages_out;
                all.octets_out += more.octets_out;
                all.refusals += more.refusals;
                all.refused = more.refused.clone().or(all.refused.take());
            }
        }
        Tally::Differences { trial, differences } => {
            for each in *differences {
                let key = (*trial, each.would_allow, each.rule.clone(), each.act.clone(), each.device.clone());
                match model.differences.get_mut(&key) {
                    Some(known) => {
                        known.sample.clone_from(&each.sample);
                        known.count += each.count;
                        known.last = each.last;
                    }
                    None => drop(model.differences.insert(key, each.clone())),
                }
            }
        }
        Tally::Events(events) => {
            for each in *events {
                if !model.rows.contains_key(&each.device) {
                    continue;
                }
                let kept = model.events.entry(each.device.clone()).or_default();
                kept.push(each.clone());
                if kept.len() > MOST_EVENTS {
                    kept.remove(0);
                }
            }
        }
        Tally::Evidence(all) => super::reflex::notice(model, all),
        Tally::Windows(windows) => super::claim::open_windows(model, windows),
        Tally::Errands(errands) => super::errand::tally(model, errands),
        Tally::Post(state) => drop(model.post_states.insert(state.name.clone(), (*state).clone())),
        Tally::Sessions { kept, gone, now } => {
            let listed = kept.iter().filter(|each| model.rows.contains_key(&each.device));
            model.sessions.extend(listed.map(|each| (each.client_id.clone(), each.clone())));
            model.sessions.retain(|client_id, each| !gone.contains(client_id) && each.until >= *now);
        }
    }
}
