//! Connections to the store, asked from tasks. Who waits for its turn holds no thread, so that a store that is slow holds up nobody
//! but those who ask it; the store itself is asked on a thread that may wait.

use std::sync::Arc;

use tidy_warden_store::StoreError;
use tokio::sync::Mutex;

/// One connection to the store, which many tasks share.
#[derive(Debug)]
pub struct Seat<S>(Arc<Mutex<S>>);

impl<S> Clone for Seat<S> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl<S: Send + 'static> Seat<S> {
    /// Shares `store`.
    pub fn new(store: S) -> Self {
        Self(Arc::new(Mutex::new(store)))
    }

    /// Asks the store.
    ///
    /// # Errors
    /// What `question` says; one that panicked is told as damage.
    pub async fn ask<T: Send + 'static>(
        &self,
        question: impl FnOnce(&S) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let store = self.0.clone().lock_owned().await;
        finished(tokio::task::spawn_blocking(move || question(&store)).await)
    }

    /// Changes something in the store.
    ///
    /// # Errors
    /// What `act` says; one that panicked is told as damage.
    pub async fn change<T: Send + 'static>(
        &self,
        act: impl FnOnce(&mut S) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let mut store = self.0.clone().lock_owned().await;
        finished(tokio::task::spawn_blocking(move || act(&mut store)).await)
    }
}

fn finished<T>(joined: Result<Result<T, StoreError>, tokio::task::JoinError>) -> Result<T, StoreError> {
    joined.unwrap_or_else(|_| Err(StoreError::Damaged { detail: "a store thread failed".to_owned() }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn questions_take_turns_and_a_panic_is_told_as_damage() {
        let seat = Seat::new(1);
        assert_eq!(seat.change(|number| Ok(std::mem::replace(number, 5))).await.unwrap(), 1);
        assert_eq!(seat.ask(|number| Ok(*number)).await.unwrap(), 5);
        let failed = seat.ask(|_| -> Result<(), StoreError> { panic!("a fault in an act") }).await;
        assert!(matches!(failed, Err(StoreError::Damaged { .. })));
        assert_eq!(seat.ask(|number| Ok(*number)).await.unwrap(), 5, "the next one is answered");
    }
}
