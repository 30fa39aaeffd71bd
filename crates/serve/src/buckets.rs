//! How much one party may ask for: a bucket for each, which fills again with time (the generic cell rate algorithm).

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How many parties are told apart; a limit on memory. Those that come anew beyond it share one bucket.
const MOST: usize = 20_000;

/// How often full buckets are looked for while there is no room: a flood from everywhere is not to have it done at each step.
const SWEEP: Duration = Duration::from_secs(1);

/// Buckets of parties.
#[derive(Debug)]
pub struct Buckets<K>(Mutex<Known<K>>);

#[derive(Debug)]
struct Known<K> {
    /// When each is full again; `None` is whoever is not told apart.
    full_at: HashMap<Option<K>, Instant>,
    /// When full ones were looked for last.
    swept: Option<Instant>,
}

impl<K> Default for Buckets<K> {
    fn default() -> Self {
        Self(Mutex::new(Known { full_at: HashMap::new(), swept: None }))
    }
}

impl<K: Hash + Eq + Clone> Buckets<K> {
    /// Takes one out of a party's bucket, which holds `count` and fills within `time`.
    ///
    /// # Errors
    /// It is empty; how long it takes until there is one.
    pub fn take(&self, party: &K, count: u32, time: Duration, now: Instant) -> Result<(), Duration> {
        let each = time / count.max(1);
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Known { full_at: all, swept } = &mut *known;
        let party = Some(party.clone());
        let is_time = swept.is_none_or(|swept| now.saturating_duration_since(swept) >= SWEEP);
        if is_time && all.len() >= MOST && !all.contains_key(&party) {
            // A full bucket need not be remembered.
            all.retain(|_, full_at| *full_at > now);
            *swept = Some(now);
        }
        let party = if all.len() >= MOST && !all.contains_key(&party) { None } else { party };
        let full_at = all.entry(party).or_insert(now);
        let after = (*full_at).max(now) + each;
        match after.checked_duration_since(now + time) {
            Some(too_early) if !too_early.is_zero() => Err(too_early),
            _ => {
                *full_at = after;
                Ok(())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MINUTE: Duration = Duration::from_secs(60);

    #[test]
    fn a_bucket_gives_what_it_holds_and_fills_again() {
        let buckets = Buckets::default();
        let now = Instant::now();
        assert_eq!((0..9).filter(|_| buckets.take(&"a", 6, MINUTE, now).is_ok()).count(), 6);
        assert_eq!(buckets.take(&"a", 6, MINUTE, now), Err(Duration::from_secs(10)));
        assert!(buckets.take(&"b", 6, MINUTE, now).is_ok(), "another's is its own");
        let later = now + Duration::from_secs(25);
        assert_eq!((0..9).filter(|_| buckets.take(&"a", 6, MINUTE, later).is_ok()).count(), 2);
        let much_later = now + MINUTE * 9;
        assert_eq!(
            (0..9).filter(|_| buckets.take(&"a", 6, MINUTE, much_later).is_ok()).count(),
            6,
            "and no more than that"
        );
    }

    #[test]
    fn a_million_parties_take_no_more_memory_than_some_and_keep_nobody_out_who_was_there() {
        let buckets = Buckets::default();
        let now = Instant::now();
        assert!(buckets.take(&usize::MAX, 100, MINUTE, now).is_ok());
        let taken = (0..MOST * 3).filter(|party| buckets.take(party, 100, MINUTE, now).is_ok()).count();
        assert_eq!(taken, MOST - 1 + 100, "those beyond it share one");
        assert!(buckets.0.lock().unwrap().full_at.len() <= MOST + 1);
        assert!(buckets.take(&usize::MAX, 100, MINUTE, now).is_ok());
        // When the flood is over they are told apart again.
        let later = now + MINUTE * 2;
        assert!((0..1000).all(|party| buckets.take(&party, 100, MINUTE, later).is_ok()));
    }
}
