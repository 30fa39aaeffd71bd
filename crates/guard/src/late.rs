//! Wills that wait at the broker (MQTT 5.0 section 3.1.3.2.2): their client is lost, but not for long enough yet. Should its right end
//! meanwhile, the will must not be published any more, and only the broker can see to that.

use std::collections::HashMap;
use std::collections::HashSet;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{Connect, Properties, Version};
use tokio::time::Instant;

use crate::Event;
use crate::identity::Credential;
use crate::session::LastWill;
use crate::shared::Shared;
use crate::upstream::take_over;

/// The most wills that are followed; a limit on memory.
const MOST: usize = 100_000;

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
    fn concerned(&self, anew: bool, changed: &HashSet<DeviceId>) -> Vec<LateWill> {
        let mut all = self.lock();
        let now = Instant::now();
        all.retain(|_, will| will.due > now);
        let names: Vec<String> = all
            .values()
            .filter(|will| anew || changed.contains(&will.device))
            .map(|will| will.client_id.clone())
            .collect();
        names.iter().filter_map(|name| all.remove(name)).collect()
    }
}

/// Withdraws the wills whose sender lost the right to them by a change; the others go on waiting.
pub(crate) async fn look_at(shared: &Arc<Shared>, anew: bool, changed: &HashSet<DeviceId>) {
    for late in shared.late_wills.concerned(anew, changed) {
        let live = shared.live();
        let admitted = shared.knowledge.admit(&late.credential, &live.settings).await;
        let stays = match admitted {
            Ok((admitted, changes)) => {
                let standing = shared.standing(&admitted.device, changes.as_ref()).await;
                standing.is_some_and(|standing| late.will.allowed_by(&standing.rights))
            }
            // Doubt denies.
            Err(_) => false,
        };
        if stays {
            shared.late_wills.add(late);
            continue;
        }
        let shared = shared.clone();
        tokio::spawn(async move {
            let (device, why) = match withdraw(&shared, &late).await {
                Ok(()) => (late.device.to_string(), "its will, which waited at the broker, was withdrawn".to_owned()),
                Err(error) => {
                    let what = format!(
                        "the will of {}, which waits at the broker, could not be withdrawn: {error}",
                        late.device
                    );
                    return shared.emit(Event::Trouble { what });
                }
            };
            shared.emit(Event::Cut { device, why });
        });
    }
}

/// Goes on with the client's session at the broker and ends it with a goodbye, which discards the will.
async fn withdraw(shared: &Shared, late: &LateWill) -> io::Result<()> {
    let connect = Connect {
        version: Version::V5,
        clean_start: false,
        keep_alive: 30,
        client_id: &late.client_id,
        will: None,
        user_name: None,
        password: None,
        properties: Properties::default(),
    };
    take_over(&shared.live().upstream, connect).await
}
