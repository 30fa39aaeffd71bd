//! Live sessions, so that a change in the store reaches them.

use std::collections::HashMap;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tokio::sync::watch;

/// What the follower tells a session.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Control {
    /// Grows whenever the session must look at its rights again.
    pub(crate) recheck: u64,
    /// The guard stops.
    pub(crate) stop: bool,
}

#[derive(Debug)]
struct Handle {
    device: DeviceId,
    /// The last second in which the session's credential is good.
    ends: AtomicI64,
    control: watch::Sender<Control>,
}

/// All live sessions.
#[derive(Debug, Default)]
pub(crate) struct Registry {
    next: AtomicU64,
    sessions: Mutex<HashMap<u64, Arc<Handle>>>,
}

/// A session's place in the registry; leaves it when dropped.
#[derive(Debug)]
pub(crate) struct Registered {
    id: u64,
    registry: Arc<Registry>,
    handle: Arc<Handle>,
    /// What the follower says.
    pub(crate) control: watch::Receiver<Control>,
}

impl Registered {
    /// Notes until when the session's credential is good.
    pub(crate) fn ends(&self, at: UnixTime) {
        self.handle.ends.store(at.0, Ordering::Relaxed);
    }
}

impl Drop for Registered {
    fn drop(&mut self) {
        self.registry.lock().remove(&self.id);
    }
}

impl Registry {
    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<u64, Arc<Handle>>> {
        self.sessions.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Registers a session. From now on it is told of changes, so what it reads afterwards cannot go stale unnoticed.
    pub(crate) fn register(self: &Arc<Self>, device: &DeviceId) -> Registered {
        let (sender, receiver) = watch::channel(Control::default());
        let id = self.next.fetch_add(1, Ordering::Relaxed);
        let handle = Arc::new(Handle { device: device.clone(), ends: AtomicI64::new(i64::MAX), control: sender });
        self.lock().insert(id, handle.clone());
        Registered { id, registry: self.clone(), handle, control: receiver }
    }

    /// Makes every session look again for which `changed` holds, and every one whose credential ended before `now`.
    pub(crate) fn recheck(&self, now: UnixTime, changed: impl Fn(&DeviceId) -> bool) {
        for handle in self.lock().values() {
            if changed(&handle.device) || handle.ends.load(Ordering::Relaxed) < now.0 {
                handle.control.send_modify(|control| control.recheck += 1);
            }
        }
    }

    /// Tells every session that the guard stops.
    pub(crate) fn stop(&self) {
        self.lock().values().for_each(|handle| handle.control.send_modify(|control| control.stop = true));
    }

    /// How many sessions there are.
    pub(crate) fn len(&self) -> usize {
        self.lock().len()
    }
}
