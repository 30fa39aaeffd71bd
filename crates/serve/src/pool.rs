//! Connections to the store, asked from tasks. Who waits for its turn holds no thread, so that a store that is slow holds up nobody
//! but those who ask it; the store itself is asked on a thread that may wait.

use std::pin::Pin;
use std::sync::Arc;

use tidy_warden_store::StoreError;
use tokio::sync::Mutex;

/// One connection to the store, which many tasks share.
#[derive(Debug)]
pub struct Seat<S> {
    store: Arc<Mutex<S>>,
    turns: Option<Arc<dyn Turns>>,
}

/// Who says when a question is put and when its answer arrives: for tests that go through all orders in which things can happen.
pub trait Turns: std::fmt::Debug + Send + Sync {
    /// Ready when it is time; asked before the question is put, and again before its answer is given. A failure takes the place
    /// of the answer.
    fn turn(&self) -> Pin<Box<dyn Future<Output = Result<(), StoreError>> + Send>>;
}

impl<S> Clone for Seat<S> {
    fn clone(&self) -> Self {
        Self { store: self.store.clone(), turns: self.turns.clone() }
    }
}

impl<S: Send + 'static> Seat<S> {
    /// Shares `store`.
    pub fn new(store: S) -> Self {
        Self { store: Arc::new(Mutex::new(store)), turns: None }
    }

    /// Shares `store`, which is asked where the question is put, when `turns` says so.
    pub fn driven(store: S, turns: Arc<dyn Turns>) -> Self {
        Self { turns: Some(turns), ..Self::new(store) }
    }

    /// Asks the store.
    ///
    /// # Errors
    /// What `question` says; one that panicked is told as damage.
    pub async fn ask<T: Send + 'static>(
        &self,
        question: impl FnOnce(&S) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.change(|store| question(store)).await
    }

    /// Changes something in the store.
    ///
    /// # Errors
    /// What `act` says; one that panicked is told as damage.
    pub async fn change<T: Send + 'static>(
        &self,
        act: impl FnOnce(&mut S) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let Some(turns) = &self.turns else {
            let mut store = self.store.clone().lock_owned().await;
            let joined = tokio::task::spawn_blocking(move || act(&mut store)).await;
            return joined.unwrap_or_else(|_| Err(StoreError::Damaged { detail: "a store thread failed".to_owned() }));
        };
        turns.turn().await?;
        let answer = act(&mut *self.store.lock().await);
        turns.turn().await?;
        answer
    }
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
