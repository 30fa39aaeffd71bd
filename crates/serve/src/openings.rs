//! Connections that are being opened: how many there may be, and who goes if there are too many.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use tokio::sync::Notify;

/// How long a client may take for the handshake and its CONNECT together.
pub const OPENING: Duration = Duration::from_secs(10);

/// Connections that are being opened, the oldest first.
#[derive(Debug, Default)]
pub struct Openings {
    next: AtomicU64,
    queue: Mutex<VecDeque<(u64, Arc<Notify>)>>,
}

/// A connection's place among those that are being opened; it is left by dropping this.
#[derive(Debug)]
pub struct Opening {
    number: u64,
    gone: Arc<Notify>,
    all: Arc<Openings>,
}

impl Openings {
    fn lock(&self) -> std::sync::MutexGuard<'_, VecDeque<(u64, Arc<Notify>)>> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes a place; if there are too many, the oldest loses its own.
    pub fn enter(self: &Arc<Self>, most: usize) -> Opening {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let gone = Arc::new(Notify::new());
        let mut queue = self.lock();
        if queue.len() >= most
            && let Some((_, oldest)) = queue.pop_front()
        {
            oldest.notify_one();
        }
        queue.push_back((number, gone.clone()));
        Opening { number, gone, all: self.clone() }
    }
}

impl Opening {
    /// Ready once the place is lost to somebody newer.
    pub async fn lost(&self) {
        self.gone.notified().await;
    }
}

impl Drop for Opening {
    fn drop(&mut self) {
        let mut queue = self.all.lock();
        // Numbers only grow from front to back.
        if let Ok(at) = queue.binary_search_by_key(&self.number, |(number, _)| *number) {
            queue.remove(at);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_oldest_opening_makes_room() {
        let all = Arc::new(Openings::default());
        let first = all.enter(2);
        let second = all.enter(2);
        drop(second);
        let third = all.enter(2);
        let fourth = all.enter(2);
        let soon = |opening: &Opening| {
            let gone = opening.gone.clone();
            async move { tokio::time::timeout(Duration::from_millis(20), gone.notified()).await.is_ok() }
        };
        assert!(soon(&first).await, "it was there longest");
        assert!(!soon(&third).await && !soon(&fourth).await);
        drop(first);
        assert_eq!(all.lock().len(), 2);
        drop((third, fourth));
        assert_eq!(all.lock().len(), 0);
    }
}
