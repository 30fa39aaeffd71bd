//! Folders for as long as something is tried out.

use std::path::PathBuf;

use tidy_warden_core::random::hex;

use crate::clock::SystemRandom;
use crate::problem::Problem;

/// A folder that goes when this goes, unless it is to be kept.
pub(crate) struct Scratch {
    pub(crate) dir: PathBuf,
    keep: bool,
}

impl Drop for Scratch {
    fn drop(&mut self) {
        if !self.keep {
            // A leftover in the folder for temporary files hurts nobody.
            let _ = std::fs::remove_dir_all(&self.dir);
        }
    }
}

impl Scratch {
    /// A new one in the folder for temporary files, for what is called `what`.
    pub(crate) fn new(what: &str) -> Result<Self, Problem> {
        let name = format!("tidy-warden-{what}-{}", hex::<6>(&mut SystemRandom));
        Self { dir: std::env::temp_dir().join(name), keep: false }.made()
    }

    /// One that stays.
    pub(crate) fn kept(dir: PathBuf) -> Result<Self, Problem> {
        Self { dir, keep: true }.made()
    }

    fn made(self) -> Result<Self, Problem> {
        std::fs::create_dir_all(&self.dir).map_err(|error| Problem::file("make", &self.dir, &error))?;
        Ok(self)
    }
}
