//! The follower: asks the store for what is new, and makes the sessions concerned look again.

use std::collections::HashSet;
use std::io;
use std::sync::Arc;
use std::time::Duration;

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::Connect;
use tidy_warden_core::time::UnixTime;

use crate::Event;
use crate::identity::Credential;
use crate::late::LateWill;
use crate::registry::Concerned;
use crate::shared::{Shared, Versions};
use crate::upstream::{hello, take_over};

/// How often the store is asked for what is new.
const FOLLOW: Duration = Duration::from_millis(100);

/// How many sessions are looked up at once when their devices changed.
const LOOKED_UP: usize = 256;

/// Asks the store for what is new, and makes the sessions concerned look again.
pub(crate) async fn follow(shared: Arc<Shared>, mut change: i64, mut known: Versions) {
    let mut troubled = false;
    loop {
        tokio::time::sleep(FOLLOW).await;
        let now = shared.knowledge.now();
        let changes = match shared.knowledge.changed_since(change).await {
            Ok(changes) => changes,
            Err(error) => {
                shared.metrics.store_answers.set(0);
                if !std::mem::replace(&mut troubled, true) {
                    let patience = shared.live().settings.guard.store_patience;
                    let what = format!(
                        "the store does not answer: {error}; the guard goes on with what it knows, and lets devices that \
                         it knows connect for {patience} more"
                    );
                    shared.emit(Event::Trouble { what });
                }
                // Sessions whose credential ended find that out by themselves.
                shared.registry.wake_ended(now);
                continue;
            }
        };
        shared.metrics.store_answers.set(1);
        if std::mem::replace(&mut troubled, false) {
            shared.emit(Event::Trouble { what: "the store answers again".to_owned() });
        }
        // A session that was quicker may have taken the new policies already; then the others must hear of them still.
        let versions = Versions::from(&changes);
        let taken = shared.take(versions).await;
        let mut anew = versions != known || matches!(taken, Ok(true));
        match taken {
            Err(error) if anew => shared.emit(Event::Trouble { what: error.to_string() }),
            Ok(_) if versions.edition != known.edition => shared.emit(Event::Edition { number: versions.edition }),
            _ => {}
        }
        known = versions;
        shared.metrics.edition.set(i64::from(versions.edition));
        if shared.trial_is_over(now) {
            shared.end_trial();
            anew = true;
        }
        let changed: HashSet<DeviceId> = changes.devices.into_iter().collect();
        change = changes.to;
        look_up(&shared, now, &changed).await;
        look_at_wills(&shared, anew, &changed).await;
        if anew {
            shared.registry.recheck_all();
        }
    }
}

/// Reads the credentials of all sessions whose devices changed, many at once, and hands each what it says.
async fn look_up(shared: &Arc<Shared>, now: UnixTime, changed: &HashSet<DeviceId>) {
    let concerned = shared.registry.concerned(now, |device| changed.contains(device));
    let settings = shared.live().settings.clone();
    for some in concerned.chunks(LOOKED_UP) {
        let credentials: Vec<Credential> = some.iter().map(|each| each.credential.clone()).collect();
        match shared.knowledge.admit_many(credentials, settings.clone()).await {
            Ok(verdicts) => some.iter().zip(verdicts).for_each(|(each, verdict)| each.tell(verdict)),
            // A change that was not looked at must not be lost.
            Err(_) => some.iter().for_each(Concerned::owed),
        }
    }
}

/// Withdraws the wills whose sender lost the right to them by a change; the others go on waiting.
async fn look_at_wills(shared: &Arc<Shared>, anew: bool, changed: &HashSet<DeviceId>) {
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
    let connect = Connect { clean_start: false, ..hello(&late.client_id) };
    take_over(&shared.live().upstream, connect).await
}
