//! Sessions as guards that work on one database tell each other of them: so a device that is in two places by two guards is seen, and
//! one may have no more sessions by many guards than by one.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use tidy_warden_core::device::DeviceRecord;
use tidy_warden_store::Opened;

use crate::clones::network;

/// A session that the others have not heard of.
#[derive(Debug, Clone)]
pub(crate) struct New {
    pub(crate) device: DeviceRecord,
    pub(crate) peer: SocketAddr,
    /// Since when its device seems to have too many sessions: one that was taken over by another guard is not told of at once.
    pub(crate) crowded: Option<Instant>,
}

/// How long a device may seem to have too many sessions before one ends.
const SECOND_LOOK: Duration = Duration::from_secs(2);

#[derive(Debug, Default)]
struct Inner {
    /// How many sessions there are here by client identifier: for a moment there are two when one takes over.
    live: HashMap<String, usize>,
    opened: BTreeMap<String, New>,
    closed: BTreeSet<String>,
}

/// What the others are to hear.
#[derive(Debug, Default)]
pub(crate) struct Meeting(Mutex<Inner>);

/// What they hear at a time.
#[derive(Debug, Default)]
pub(crate) struct News {
    pub(crate) opened: BTreeMap<String, New>,
    pub(crate) closed: BTreeSet<String>,
}

/// A session that is there.
#[derive(Debug)]
pub(crate) struct Present {
    meeting: Arc<Meeting>,
    client_id: String,
}

impl Drop for Present {
    fn drop(&mut self) {
        self.meeting.closed(&self.client_id);
    }
}

impl News {
    /// The opened ones as the store takes them.
    pub(crate) fn rows(&self) -> Vec<Opened> {
        let row = |(client_id, new): (&String, &New)| Opened {
            client_id: client_id.clone(),
            device: new.device.id.clone(),
            network: network(new.peer.ip()).to_string(),
        };
        self.opened.iter().map(row).collect()
    }
}

impl Meeting {
    fn lock(&self) -> std::sync::MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A session was opened; it is over when what this gives is dropped.
    pub(crate) fn enter(self: &Arc<Self>, client_id: &str, device: &DeviceRecord, peer: SocketAddr) -> Present {
        self.opened(client_id, device, peer);
        Present { meeting: self.clone(), client_id: client_id.to_owned() }
    }

    fn opened(&self, client_id: &str, device: &DeviceRecord, peer: SocketAddr) {
        let mut inner = self.lock();
        *inner.live.entry(client_id.to_owned()).or_default() += 1;
        inner.closed.remove(client_id);
        inner.opened.insert(client_id.to_owned(), New { device: device.clone(), peer, crowded: None });
    }

    /// A session is over.
    fn closed(&self, client_id: &str) {
        let mut inner = self.lock();
        let left = match inner.live.get_mut(client_id) {
            None => return,
            Some(count) => {
                *count -= 1;
                *count
            }
        };
        if left == 0 {
            inner.live.remove(client_id);
            inner.closed.insert(client_id.to_owned());
        }
    }

    /// Takes what is new, and what is to be looked at for the second time at `now`.
    pub(crate) fn take(&self, now: Instant) -> News {
        let mut inner = self.lock();
        let waits = |new: &New| new.crowded.is_some_and(|since| now.saturating_duration_since(since) < SECOND_LOOK);
        let (later, opened) = std::mem::take(&mut inner.opened).into_iter().partition(|(_, new)| waits(new));
        inner.opened = later;
        News { opened, closed: std::mem::take(&mut inner.closed) }
    }

    /// Looks at a session again after a while, if it is still there.
    pub(crate) fn look_again(&self, client_id: &str, new: &New, now: Instant) {
        let mut inner = self.lock();
        if inner.live.contains_key(client_id) {
            inner.opened.entry(client_id.to_owned()).or_insert(New { crowded: Some(now), ..new.clone() });
        }
    }

    /// What could not be told is told later, less what is no longer so. There is never more of it than sessions come and go while the
    /// store is away; of those that are over only the newest are kept.
    pub(crate) fn give_back(&self, news: News) {
        const MOST: usize = 100_000;
        let mut inner = self.lock();
        for (client_id, new) in news.opened {
            if inner.live.contains_key(&client_id) {
                inner.opened.entry(client_id).or_insert(new);
            }
        }
        for client_id in news.closed {
            if inner.closed.len() < MOST && !inner.live.contains_key(&client_id) {
                inner.closed.insert(client_id);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use tidy_warden_core::time::UnixTime;

    use super::*;

    fn device(id: &str) -> DeviceRecord {
        DeviceRecord::new(id.parse().unwrap(), "windvane".parse().unwrap(), UnixTime(1))
    }

    fn names(news: &News) -> (Vec<&str>, Vec<&str>) {
        (news.opened.keys().map(String::as_str).collect(), news.closed.iter().map(String::as_str).collect())
    }

    #[test]
    fn what_the_others_hear_is_what_is_so() {
        let meeting = Meeting::default();
        let peer = "10.0.0.1:1".parse().unwrap();
        let open = |client: &str| meeting.opened(client, &device("wv-1"), peer);
        open("a");
        open("b");
        meeting.closed("b");
        let news = meeting.take(Instant::now());
        assert_eq!(names(&news), (vec!["a", "b"], vec!["b"]));
        assert_eq!(news.rows()[0].network, "10.0.0.1");
        // One that takes over is there when the one before it goes.
        open("a");
        meeting.closed("a");
        assert_eq!(names(&meeting.take(Instant::now())), (vec!["a"], vec![]));
        meeting.closed("a");
        assert_eq!(names(&meeting.take(Instant::now())), (vec![], vec!["a"]));
        // What seems too many is looked at twice, some time apart.
        open("a");
        let (news, now) = (meeting.take(Instant::now()), Instant::now());
        meeting.look_again("a", &news.opened["a"], now);
        meeting.look_again("gone", &news.opened["a"], now);
        assert_eq!(names(&meeting.take(now)), (vec![], vec![]));
        let second = meeting.take(now + SECOND_LOOK);
        assert!(names(&second) == (vec!["a"], vec![]) && second.opened["a"].crowded.is_some());
        meeting.closed("a");
        assert_eq!(names(&meeting.take(Instant::now())), (vec![], vec!["a"]));
        meeting.closed("never there");
        assert_eq!(names(&meeting.take(Instant::now())), (vec![], vec![]));
    }

    #[test]
    fn what_could_not_be_told_is_told_later_if_it_is_still_so() {
        let meeting = Meeting::default();
        let peer = "10.0.0.1:1".parse().unwrap();
        for client in ["stays", "goes", "returns"] {
            meeting.opened(client, &device("wv-1"), peer);
        }
        meeting.closed("returns");
        let news = meeting.take(Instant::now());
        meeting.closed("goes");
        meeting.opened("returns", &device("wv-1"), peer);
        meeting.give_back(news);
        assert_eq!(names(&meeting.take(Instant::now())), (vec!["returns", "stays"], vec!["goes"]));
    }
}
