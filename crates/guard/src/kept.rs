//! Sessions that the broker keeps for clients that are away, and what they are subscribed to. Whoever comes back to one gets a
//! gate that knows it; whoever is out has none left.

use std::collections::{BTreeMap, HashMap};
use std::hash::{BuildHasher, Hasher};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_core::topic::{ShareName, TopicFilter, split_share};
use tidy_warden_store::BrokerSession;

/// What a subscription asks for: the name of its share, if it has one, and the topics.
pub(crate) type Asked = (Option<ShareName>, TopicFilter);

/// How long what is known of a session is kept beyond its expiry, should the guard not hear of its end.
const BEYOND: Span = Span::from_days(30);

/// The subscriptions of one session, by their texts.
#[derive(Debug, Default)]
pub(crate) struct Subscriptions {
    all: Mutex<BTreeMap<String, Asked>>,
    changed: AtomicBool,
}

impl Subscriptions {
    /// Those with these texts; what does not read as a filter is left out.
    pub(crate) fn of(texts: Vec<String>) -> Self {
        let read = texts.into_iter().filter_map(|text| split_share(&text).ok().map(|asked| (text, asked)));
        Self { all: Mutex::new(read.collect()), changed: AtomicBool::new(false) }
    }

    pub(crate) fn lock(&self) -> std::sync::MutexGuard<'_, BTreeMap<String, Asked>> {
        self.all.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes that they changed, so that they are kept.
    pub(crate) fn changed(&self) {
        self.changed.store(true, Ordering::Release);
    }
}

/// A session that lasts longer than its connection.
#[derive(Debug, Clone)]
pub(crate) struct Lasting {
    pub(crate) device: DeviceId,
    pub(crate) opened: UnixTime,
    /// How long the broker keeps it.
    pub(crate) expiry: Span,
    pub(crate) subscriptions: Arc<Subscriptions>,
}

/// All of them that this guard serves, and what is to be written.
pub(crate) struct KeptSessions {
    guard: i64,
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    live: HashMap<String, Lasting>,
    kept: HashMap<String, BrokerSession>,
    gone: Vec<String>,
}

impl Default for KeptSessions {
    fn default() -> Self {
        // Random for each process; it only tells guards apart.
        let random = std::hash::RandomState::new().build_hasher().finish();
        Self { guard: i64::from_ne_bytes(random.to_ne_bytes()), inner: Mutex::default() }
    }
}

impl KeptSessions {
    /// The number of this guard.
    pub(crate) fn guard(&self) -> i64 {
        self.guard
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn record(&self, client_id: &str, of: &Lasting, until: UnixTime) -> BrokerSession {
        BrokerSession {
            client_id: client_id.to_owned(),
            device: of.device.clone(),
            guard: self.guard,
            opened: of.opened,
            until,
            subscriptions: of.subscriptions.lock().keys().cloned().collect(),
        }
    }

    /// A session that lasts was opened.
    pub(crate) fn opened(&self, client_id: &str, lasting: Lasting) {
        let until = lasting.opened.plus(lasting.expiry).plus(BEYOND);
        let record = self.record(client_id, &lasting, until);
        let mut inner = self.lock();
        inner.gone.retain(|gone| gone != client_id);
        inner.kept.insert(client_id.to_owned(), record);
        inner.live.insert(client_id.to_owned(), lasting);
    }

    /// Its connection is over; from now on the broker counts.
    pub(crate) fn closed(&self, client_id: &str, of: &Arc<Subscriptions>, now: UnixTime) {
        let mut inner = self.lock();
        // Another connection may have taken it over.
        if inner.live.get(client_id).is_none_or(|live| !Arc::ptr_eq(&live.subscriptions, of)) {
            return;
        }
        if let Some(lasting) = inner.live.remove(client_id) {
            let record = self.record(client_id, &lasting, now.plus(lasting.expiry));
            inner.kept.insert(client_id.to_owned(), record);
        }
    }

    /// The broker has none of this name.
    pub(crate) fn gone(&self, client_id: &str) {
        let mut inner = self.lock();
        inner.kept.remove(client_id);
        inner.gone.push(client_id.to_owned());
    }

    /// What waits to be written of a session; it is newer than what the store has.
    pub(crate) fn waiting(&self, client_id: &str) -> Option<BrokerSession> {
        let inner = self.lock();
        match inner.live.get(client_id) {
            Some(live) => Some(self.record(client_id, live, live.opened.plus(live.expiry))),
            None => inner.kept.get(client_id).cloned(),
        }
    }

    /// Takes what is to be written.
    pub(crate) fn take(&self) -> (Vec<BrokerSession>, Vec<String>) {
        let mut inner = self.lock();
        let mut kept = std::mem::take(&mut inner.kept);
        for (client_id, live) in &inner.live {
            if live.subscriptions.changed.swap(false, Ordering::AcqRel) {
                let until = live.opened.plus(live.expiry).plus(BEYOND);
                kept.insert(client_id.clone(), self.record(client_id, live, until));
            }
        }
        (kept.into_values().collect(), std::mem::take(&mut inner.gone))
    }

    /// Gives back what could not be written, where nothing newer waits.
    pub(crate) fn give_back(&self, kept: Vec<BrokerSession>, gone: Vec<String>) {
        let mut inner = self.lock();
        for each in kept {
            inner.kept.entry(each.client_id.clone()).or_insert(each);
        }
        inner.gone.extend(gone);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_changed_is_written_once_and_the_newest_counts() {
        let kept = KeptSessions::default();
        let subscriptions = Arc::new(Subscriptions::of(vec!["a/+".into(), "$share/s/b".into(), "no/#/filter".into()]));
        let lasting = Lasting {
            device: "wv-1".parse().unwrap(),
            opened: UnixTime(100),
            expiry: Span::from_seconds(60),
            subscriptions: subscriptions.clone(),
        };
        kept.opened("wv-1", lasting.clone());
        let (written, gone) = kept.take();
        assert_eq!(
            (written[0].subscriptions.as_slice(), gone.len()),
            (&["$share/s/b".to_owned(), "a/+".to_owned()][..], 0)
        );
        assert_eq!(kept.take().0.len(), 0);
        subscriptions.lock().clear();
        subscriptions.changed();
        let (written, _) = kept.take();
        assert_eq!(written[0].subscriptions.len(), 0);
        kept.give_back(written, vec!["wv-2".into()]);
        assert_eq!(kept.waiting("wv-1").map(|each| each.guard), Some(kept.guard()));
        // A connection that was taken over says nothing of the one that took it.
        kept.closed("wv-1", &Arc::default(), UnixTime(200));
        assert!(kept.lock().live.contains_key("wv-1"));
        kept.closed("wv-1", &subscriptions, UnixTime(200));
        let (written, gone) = kept.take();
        assert_eq!((written.len(), written[0].until, gone), (1, UnixTime(260), vec!["wv-2".to_owned()]));
        assert!(kept.waiting("wv-1").is_none());
    }
}
