//! The log of what devices ask for.

use std::collections::HashSet;
use std::hash::{Hash, Hasher};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use tidy_warden_guard::Observer;

use crate::problem::Problem;

/// The most different acts that are kept apart while they are observed; a limit on memory. Once there are so many, each
/// is written again.
const MAX_OBSERVED: usize = 1_000_000;

/// Writes each different act once. A disk that is full does not stop the guard.
pub(super) fn observer(path: &Path) -> Result<Observer, Problem> {
    let file = std::fs::File::options().create(true).append(true).mode(0o600).open(path);
    let file = file.map_err(|error| Problem::file("write", path, &error))?;
    let known: Mutex<(HashSet<u64>, std::fs::File)> = Mutex::new((HashSet::new(), file));
    Ok(Arc::new(move |act| {
        let mut hasher = std::hash::DefaultHasher::new();
        // Sizes are taken in steps, as a rule's limit would be.
        let size = act.size.next_power_of_two();
        (act.device, act.act, act.subject, act.qos, act.retain, size, act.allowed).hash(&mut hasher);
        let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.0.len() >= MAX_OBSERVED {
            known.0.clear();
        }
        if known.0.insert(hasher.finish())
            && let Ok(line) = serde_json::to_string(act)
        {
            let _ = known.1.write_all(format!("{line}\n").as_bytes());
        }
    }))
}
