//! Live sessions, so that a change in the store reaches them.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::settings::GuardSettings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_serve::source::Source;
use tokio::sync::watch;

use crate::errands::Handed;
use crate::identity::{Admitted, Credential, NotAdmitted};

/// How many errands wait for one session at the most.
const MOST_WAITING: usize = 200;

/// What the store says of a session's credential now.
pub(crate) type Verdict = Result<Admitted, NotAdmitted>;

/// What the follower tells a session.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Control {
    /// Grows whenever the session must look at its rights again.
    pub(crate) recheck: u64,
    /// Grows whenever the session must ask the store for its credential itself.
    pub(crate) ask: u64,
    /// Grows whenever errands wait for the session.
    pub(crate) errands: u64,
    /// The guard stops.
    pub(crate) stop: bool,
}

#[derive(Debug)]
struct Handle {
    device: DeviceId,
    source: Source,
    /// What the session was opened with, once that was admitted.
    credential: OnceLock<Credential>,
    /// The last second in which the session's credential is good.
    ends: AtomicI64,
    /// Whether the session could not ask when it should have: then the follower asks for it.
    stale: AtomicBool,
    /// What the follower read for the session, until it looks.
    verdict: Mutex<Option<Verdict>>,
    control: watch::Sender<Control>,
    /// Whether it listens for errands; its gate says so.
    listens: Arc<AtomicBool>,
    /// Errands that wait until the session looks.
    errands: Mutex<Vec<Arc<Handed>>>,
}

/// All live sessions.
#[derive(Debug, Default)]
pub(crate) struct Registry {
    next: AtomicU64,
    sessions: Mutex<Sessions>,
}

#[derive(Debug, Default)]
struct Sessions {
    all: HashMap<u64, Arc<Handle>>,
    of_device: HashMap<DeviceId, Vec<u64>>,
    from_source: HashMap<Source, usize>,
}

/// How many sessions there may be.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Limits {
    pub(crate) all: usize,
    pub(crate) device: usize,
    pub(crate) source: usize,
}

impl Limits {
    pub(crate) fn of(settings: &GuardSettings) -> Self {
        let limit = |number: u32| usize::try_from(number).unwrap_or(usize::MAX);
        Self {
            all: limit(settings.max_sessions),
            device: limit(settings.sessions_per_device),
            source: limit(settings.sessions_per_source),
        }
    }
}

/// Why there is no room for a session.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum NoRoom {
    #[error("there are {0} sessions, which is the most there may be")]
    All(usize),
    #[error("the device has {0} sessions, which is the most that one may have")]
    Device(usize),
    #[error("{0} sessions come from {1}, which is the most that may come from one network")]
    Source(usize, Source),
}

/// A session whose device changed.
pub(crate) struct Concerned {
    handle: Arc<Handle>,
    pub(crate) credential: Credential,
}

impl Concerned {
    /// The store did not say: it is asked again.
    pub(crate) fn owed(&self) {
        self.handle.stale.store(true, Ordering::Relaxed);
    }

    /// Hands the session what the store says, and makes it look.
    pub(crate) fn tell(&self, verdict: Verdict) {
        *self.handle.verdict.lock().unwrap_or_else(PoisonError::into_inner) = Some(verdict);
        self.handle.control.send_modify(|control| control.recheck += 1);
    }
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
    /// Notes what the session is opened with, so that the follower can look for it.
    pub(crate) fn with(&self, credential: &Credential) {
        // A session has one credential all its life.
        let _ = self.handle.credential.set(credential.clone());
    }

    /// Notes until when the session's credential is good.
    pub(crate) fn ends(&self, at: UnixTime) {
        self.handle.ends.store(at.0, Ordering::Relaxed);
    }

    /// Notes that the store did not say what the session is to go by; it is asked again as soon as it answers.
    pub(crate) fn stale(&self) {
        self.handle.stale.store(true, Ordering::Relaxed);
    }

    /// Where its gate says whether it listens for errands.
    pub(crate) fn listens(&self) -> Arc<AtomicBool> {
        self.handle.listens.clone()
    }

    /// Errands that came for the session since this was asked last.
    pub(crate) fn errands(&self) -> Vec<Arc<Handed>> {
        std::mem::take(&mut self.handle.errands.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// What the follower read of the credential since this was asked last.
    pub(crate) fn verdict(&self) -> Option<Verdict> {
        self.handle.verdict.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

impl Drop for Registered {
    fn drop(&mut self) {
        let mut sessions = self.registry.lock();
        sessions.all.remove(&self.id);
        if let Some(of_device) = sessions.of_device.get_mut(&self.handle.device) {
            of_device.retain(|id| *id != self.id);
            if of_device.is_empty() {
                sessions.of_device.remove(&self.handle.device);
            }
        }
        if let Some(count) = sessions.from_source.get_mut(&self.handle.source) {
            *count -= 1;
            if *count == 0 {
                sessions.from_source.remove(&self.handle.source);
            }
        }
    }
}

impl Registry {
    fn lock(&self) -> std::sync::MutexGuard<'_, Sessions> {
        self.sessions.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Registers a session, if there is room. From now on it is told of changes, so what it reads afterwards cannot go stale
    /// unnoticed.
    pub(crate) fn register(
        self: &Arc<Self>,
        device: &DeviceId,
        source: Source,
        limits: Limits,
    ) -> Result<Registered, NoRoom> {
        let mut sessions = self.lock();
        let (of_device, from_source) = (
            sessions.of_device.get(device).map_or(0, Vec::len),
            sessions.from_source.get(&source).copied().unwrap_or(0),
        );
        if sessions.all.len() >= limits.all {
            return Err(NoRoom::All(limits.all));
        } else if of_device >= limits.device {
            return Err(NoRoom::Device(limits.device));
        } else if from_source >= limits.source {
            return Err(NoRoom::Source(limits.source, source));
        }
        let (sender, receiver) = watch::channel(Control::default());
        let id = self.next.fetch_add(1, Ordering::Relaxed);
        let handle = Arc::new(Handle {
            device: device.clone(),
            source,
            credential: OnceLock::new(),
            ends: AtomicI64::new(i64::MAX),
            stale: AtomicBool::new(false),
            verdict: Mutex::new(None),
            control: sender,
            listens: Arc::default(),
            errands: Mutex::default(),
        });
        sessions.all.insert(id, handle.clone());
        sessions.of_device.entry(device.clone()).or_default().push(id);
        *sessions.from_source.entry(source).or_default() += 1;
        Ok(Registered { id, registry: self.clone(), handle, control: receiver })
    }

    /// The sessions for whose device `changed` holds, those whose credential ended before `now`, and those that the store owes
    /// an answer. Sessions that are not admitted yet look for themselves.
    pub(crate) fn concerned(&self, now: UnixTime, changed: impl Fn(&DeviceId) -> bool) -> Vec<Concerned> {
        let all = self.lock();
        let concerned = all.all.values().filter(|handle| {
            changed(&handle.device)
                || handle.ends.load(Ordering::Relaxed) < now.0
                || handle.stale.swap(false, Ordering::Relaxed)
        });
        concerned
            .filter_map(|handle| {
                let Some(credential) = handle.credential.get() else {
                    handle.control.send_modify(|control| {
                        control.recheck += 1;
                        control.ask += 1;
                    });
                    return None;
                };
                Some(Concerned { handle: handle.clone(), credential: credential.clone() })
            })
            .collect()
    }

    /// Makes the sessions look at their clock whose credential ended before `now`.
    pub(crate) fn wake_ended(&self, now: UnixTime) {
        for handle in self.lock().all.values().filter(|handle| handle.ends.load(Ordering::Relaxed) < now.0) {
            handle.control.send_modify(|control| control.recheck += 1);
        }
    }

    /// Makes every session look again at what policies give it.
    pub(crate) fn recheck_all(&self) {
        self.lock().all.values().for_each(|handle| handle.control.send_modify(|control| control.recheck += 1));
    }

    /// Tells every session that the guard stops.
    pub(crate) fn stop(&self) {
        self.lock().all.values().for_each(|handle| handle.control.send_modify(|control| control.stop = true));
    }

    /// Hands the newest session of a device what is to be said of it, and makes it look.
    pub(crate) fn tell_newest(&self, device: &DeviceId, verdict: NotAdmitted) {
        let sessions = self.lock();
        let newest = sessions.of_device.get(device).and_then(|all| all.last());
        if let Some(handle) = newest.and_then(|id| sessions.all.get(id)) {
            *handle.verdict.lock().unwrap_or_else(PoisonError::into_inner) = Some(Err(verdict));
            handle.control.send_modify(|control| control.recheck += 1);
        }
    }

    /// Hands an errand to the newest session of a device that listens, and makes it look; to one with a certificate only, where that is
    /// needed. Says whether there is one.
    pub(crate) fn hand(&self, device: &DeviceId, errand: Arc<Handed>, needs_certificate: bool) -> bool {
        let sessions = self.lock();
        let all = sessions.of_device.get(device).into_iter().flatten().rev();
        let takes = |handle: &&Arc<Handle>| {
            let is_token = || matches!(handle.credential.get(), Some(Credential::Token(_)) | None);
            handle.listens.load(Ordering::Acquire) && !(needs_certificate && is_token())
        };
        let Some(handle) = all.filter_map(|id| sessions.all.get(id)).find(takes) else { return false };
        let mut waiting = handle.errands.lock().unwrap_or_else(PoisonError::into_inner);
        // One that takes nothing gets what is due again later.
        if waiting.len() < MOST_WAITING {
            waiting.push(errand);
        }
        drop(waiting);
        handle.control.send_modify(|control| control.errands += 1);
        true
    }

    /// The devices of which a session listens for errands.
    pub(crate) fn listening(&self) -> HashSet<DeviceId> {
        let sessions = self.lock();
        let listens = sessions.all.values().filter(|handle| handle.listens.load(Ordering::Acquire));
        listens.map(|handle| handle.device.clone()).collect()
    }

    /// Whether a device has a session.
    pub(crate) fn has(&self, device: &DeviceId) -> bool {
        self.lock().of_device.contains_key(device)
    }

    /// How many sessions there are.
    pub(crate) fn len(&self) -> usize {
        self.lock().all.len()
    }
}

#[cfg(test)]
mod tests {
    use tidy_warden_core::certificate::Fingerprint;

    use super::*;

    const ROOM: Limits = Limits { all: 100, device: 3, source: 50 };

    fn from(address: &str) -> Source {
        Source::from(address.parse::<std::net::IpAddr>().unwrap())
    }

    fn register(registry: &Arc<Registry>, device: &DeviceId) -> Registered {
        registry.register(device, from("192.0.2.1"), ROOM).unwrap()
    }

    #[test]
    fn there_is_room_for_so_many_in_all_of_one_device_and_from_one_network() {
        let registry = Arc::new(Registry::default());
        let id = |n: usize| -> DeviceId { format!("wv-{n}").parse().unwrap() };
        let here = from("192.0.2.1");
        let limits = Limits { all: 5, device: 2, source: 3 };
        let first = registry.register(&id(1), here, limits).unwrap();
        let _second = registry.register(&id(1), here, limits).unwrap();
        assert_eq!(registry.register(&id(1), here, limits).err(), Some(NoRoom::Device(2)));
        let _third = registry.register(&id(2), here, limits).unwrap();
        let beside = from("192.0.2.99");
        assert_eq!(registry.register(&id(3), beside, limits).err(), Some(NoRoom::Source(3, here)));
        let _more = [3, 4].map(|n| registry.register(&id(n), from("198.51.100.1"), limits).unwrap());
        assert_eq!(registry.register(&id(5), from("203.0.113.1"), limits).err(), Some(NoRoom::All(5)));
        drop(first);
        assert!(registry.register(&id(1), here, limits).is_ok(), "who leaves makes room");
        // Many at once never get more than there is.
        let raced = Arc::new(Registry::default());
        let all_tried = std::sync::Barrier::new(4);
        let got: usize = std::thread::scope(|scope| {
            let take = |n| {
                let (raced, all_tried) = (raced.clone(), &all_tried);
                scope.spawn(move || {
                    let limits = Limits { all: 10, device: 100, source: 100 };
                    let held: Vec<_> = (0..50).filter_map(|_| raced.register(&id(n), here, limits).ok()).collect();
                    all_tried.wait();
                    held.len()
                })
            };
            [1, 2, 3, 4].map(take).into_iter().map(|each| each.join().unwrap()).sum()
        });
        assert_eq!(got, 10);
    }

    #[tokio::test]
    async fn sessions_are_told_of_what_concerns_them_and_leave_when_they_end() {
        let registry = Arc::new(Registry::default());
        let (first, second): (DeviceId, DeviceId) = ("wv-1".parse().unwrap(), "wv-2".parse().unwrap());
        let mut one = register(&registry, &first);
        let mut two = register(&registry, &second);
        let again = register(&registry, &first);
        assert_eq!(registry.len(), 3);
        drop(again);
        assert_eq!(registry.len(), 2);

        let of = |_: &DeviceId| Credential::Certificate(Fingerprint([7; 32]));
        assert_eq!(registry.concerned(UnixTime(100), |device| *device == first).len(), 0, "it is not admitted yet");
        assert!(one.control.has_changed().unwrap() && !two.control.has_changed().unwrap(), "but it is told");
        one.control.mark_unchanged();
        one.with(&of(&first));
        two.with(&of(&second));
        let told = registry.concerned(UnixTime(100), |device| *device == first);
        assert_eq!(told.len(), 1);
        told[0].tell(Err(NotAdmitted::Nothing));
        assert!(one.control.has_changed().unwrap() && !two.control.has_changed().unwrap());
        one.control.mark_unchanged();
        assert!(matches!(one.verdict(), Some(Err(NotAdmitted::Nothing))) && one.verdict().is_none());

        two.ends(UnixTime(99));
        one.ends(UnixTime(100));
        assert_eq!(registry.concerned(UnixTime(100), |_| false).len(), 1, "the last second of one has not passed");

        assert_eq!(registry.concerned(UnixTime(99), |_| false).len(), 0);
        one.stale();
        assert_eq!(registry.concerned(UnixTime(99), |_| false).len(), 1, "the store owes it an answer");
        assert_eq!(registry.concerned(UnixTime(99), |_| false).len(), 0, "which is told once");
        registry.wake_ended(UnixTime(100));
        assert!(!one.control.has_changed().unwrap() && two.control.has_changed().unwrap());

        registry.stop();
        assert!(one.control.borrow_and_update().stop && two.control.borrow_and_update().stop);
    }

    #[tokio::test]
    async fn a_change_between_registering_and_the_check_is_not_lost() {
        let registry = Arc::new(Registry::default());
        let device: DeviceId = "wv-1".parse().unwrap();
        let mut session = register(&registry, &device);
        session.control.mark_unchanged();
        registry.recheck_all();
        // The session looks only now, and still finds out at once.
        let told = tokio::time::timeout(std::time::Duration::from_secs(5), session.control.changed()).await;
        assert!(told.is_ok());
    }
}
