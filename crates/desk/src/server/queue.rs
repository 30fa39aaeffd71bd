//! Who is answered at once, who waits, and who is told to come later.

use tokio::sync::{Semaphore, SemaphorePermit};

/// A queue in front of threads that may wait for the store. Devices and owners have one each: however much owners want, which changes the store
/// one by one, no device waits behind them.
pub(super) struct Queue {
    answering: Semaphore,
    places: Semaphore,
    all: u32,
}

/// A turn, and the place in the queue that goes with it.
pub(super) struct Place<'q> {
    turn: Option<SemaphorePermit<'q>>,
    _place: SemaphorePermit<'q>,
}

impl Queue {
    /// So many are answered at once, and so many more wait.
    pub(super) fn new(at_once: u16, waiting: u16) -> Self {
        let all = u32::from(at_once) + u32::from(waiting);
        let places = Semaphore::new(usize::from(at_once) + usize::from(waiting));
        Self { answering: Semaphore::new(usize::from(at_once)), places, all }
    }

    /// Waits for a turn; none if too many wait already.
    pub(super) async fn turn(&self) -> Option<Place<'_>> {
        let place = self.places.try_acquire().ok()?;
        let turn = Some(self.answering.acquire().await.ok()?);
        Some(Place { turn, _place: place })
    }

    /// Waits until nobody is in it any more.
    pub(super) async fn is_empty(&self) {
        let _ = self.places.acquire_many(self.all).await;
    }
}

impl Place<'_> {
    /// The work is done, and the answer may still wait.
    pub(super) fn worked(&mut self) {
        self.turn = None;
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    fn run<T>(future: impl Future<Output = T>) -> T {
        tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap().block_on(future)
    }

    /// Whether something is still not ready after everything that could run has run.
    async fn waits<T>(future: impl Future<Output = T>) -> bool {
        tokio::time::timeout(Duration::from_millis(20), future).await.is_err()
    }

    #[test]
    fn so_many_are_answered_so_many_wait_and_the_next_is_told_to_come_later() {
        run(async {
            let queue = Queue::new(1, 1);
            let mut first = queue.turn().await.unwrap();
            let second = queue.turn();
            tokio::pin!(second);
            assert!(waits(&mut second).await);
            assert!(queue.turn().await.is_none(), "it is full");
            // An answer that waits keeps its place, and holds up nobody's work.
            first.worked();
            let second = second.await.unwrap();
            assert!(queue.turn().await.is_none());
            assert!(waits(queue.is_empty()).await);
            drop(first);
            assert!(waits(queue.is_empty()).await);
            drop(second);
            queue.is_empty().await;
            assert!(queue.turn().await.is_some(), "whoever waited for its end left it as it was");
        });
    }
}
