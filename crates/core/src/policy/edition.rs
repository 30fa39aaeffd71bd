//! Editions: the adopted, numbered whole of the policies, with its full text.

use std::sync::Arc;

use aws_lc_rs::digest::{Context, SHA256};
use serde::{Deserialize, Serialize};

use crate::condition::Candidate;
use crate::device::DeviceRecord;
use crate::text::{Source, TextError};

use super::{Policy, Rights, read_file};

/// One policy file as it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PolicyFile {
    /// Its path relative to the ward, with `/`.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// SHA-256 over names and texts, each behind its length; what an adopter signs off.
#[must_use]
pub fn digest(files: &[PolicyFile]) -> [u8; 32] {
    let mut context = Context::new(&SHA256);
    for part in files.iter().flat_map(|file| [&file.name, &file.text]) {
        context.update(&u64::try_from(part.len()).unwrap_or(u64::MAX).to_be_bytes());
        context.update(part.as_bytes());
    }
    let mut out = [0; 32];
    out.copy_from_slice(context.finish().as_ref());
    out
}

/// Policies that were read, ready to decide by.
#[derive(Debug, Clone, Default)]
pub struct Edition {
    /// Its number, 0 for a draft.
    pub number: u32,
    /// Its policies, in the order of files and lines.
    pub policies: Vec<Arc<Policy>>,
}

impl Edition {
    /// Reads all files.
    ///
    /// # Errors
    /// The first mistake in each file that has one.
    pub fn read(number: u32, files: &[PolicyFile]) -> Result<Self, Vec<TextError>> {
        let mut policies = Vec::new();
        let mut errors = Vec::new();
        for file in files {
            match read_file(&Source::new(&file.name, &file.text)) {
                Ok(found) => policies.extend(found.into_iter().map(Arc::new)),
                Err(error) => errors.push(error),
            }
        }
        if errors.is_empty() { Ok(Self { number, policies }) } else { Err(errors) }
    }

    /// The policies that select `device`.
    pub fn selecting<'a>(&'a self, device: &'a DeviceRecord) -> impl Iterator<Item = &'a Arc<Policy>> {
        let candidate = Candidate { device, state: None };
        self.policies.iter().filter(move |policy| policy.subjects.holds(&candidate))
    }

    /// All that the edition gives `device`.
    #[must_use]
    pub fn rights(&self, device: &DeviceRecord) -> Rights {
        Rights::bind(self.number, device, self.selecting(device))
    }
}
