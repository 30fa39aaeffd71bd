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

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn sessions_are_told_of_what_concerns_them_and_leave_when_they_end() {
        let registry = Arc::new(Registry::default());
        let (first, second): (DeviceId, DeviceId) = ("wv-1".parse().unwrap(), "wv-2".parse().unwrap());
        let mut one = registry.register(&first);
        let mut two = registry.register(&second);
        let again = registry.register(&first);
        assert_eq!(registry.len(), 3);
        drop(again);
        assert_eq!(registry.len(), 2);

        registry.recheck(UnixTime(100), |device| *device == first);
        assert!(one.control.has_changed().unwrap() && !two.control.has_changed().unwrap());
        one.control.mark_unchanged();

        two.ends(UnixTime(99));
        one.ends(UnixTime(100));
        registry.recheck(UnixTime(100), |_| false);
        assert!(!one.control.has_changed().unwrap(), "its last second has not passed");
        assert!(two.control.has_changed().unwrap());
        two.control.mark_unchanged();

        registry.stop();
        assert!(one.control.borrow_and_update().stop && two.control.borrow_and_update().stop);
    }

    #[tokio::test]
    async fn a_change_between_registering_and_the_check_is_not_lost() {
        let registry = Arc::new(Registry::default());
        let device: DeviceId = "wv-1".parse().unwrap();
        let mut session = registry.register(&device);
        session.control.mark_unchanged();
        registry.recheck(UnixTime(0), |_| true);
        // The session looks only now, and still finds out at once.
        let told = tokio::time::timeout(std::time::Duration::from_secs(5), session.control.changed()).await;
        assert!(told.is_ok());
    }
}
