//! Editions: the adopted, numbered whole of the policies, with its full text.

use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use aws_lc_rs::digest::{Context, SHA256};
use serde::{Deserialize, Serialize};

use crate::condition::{Candidate, Groups};
use crate::device::DeviceRecord;
use crate::id::DeviceId;
use crate::settings::Settings;
use crate::text::{Source, TextError};

use super::table::Table;
use super::{ExpectDevice, Policy, Rights, read_file};

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

/// Which policies of an edition are for a device, by their places.
pub(super) type Selection = Box<[u32]>;

/// Policies that were read, ready to decide by. Clones share what was made ready.
#[derive(Debug, Clone, Default)]
pub struct Edition {
    /// Its number, 0 for a draft.
    pub number: u32,
    /// Its policies, in the order of files and lines, groups by rule put in.
    pub policies: Vec<Arc<Policy>>,
    tables: Arc<Mutex<HashMap<Selection, Arc<Table>>>>,
}

impl Edition {
    /// Reads all files.
    ///
    /// # Errors
    /// Every mistake in them.
    pub fn read(number: u32, files: &[PolicyFile], groups: &Groups) -> Result<Self, Vec<TextError>> {
        let mut policies = Vec::new();
        let mut errors = Vec::new();
        for file in files {
            match read_file(&Source::new(&file.name, &file.text)) {
                Ok(found) => policies.extend(found.into_iter().map(|mut policy| {
                    policy.subjects = policy.subjects.resolve(groups);
                    Arc::new(policy)
                })),
                Err(found) => errors.extend(found),
            }
        }
        if errors.is_empty() { Ok(Self { number, policies, tables: Arc::default() }) } else { Err(errors) }
    }

    /// The places of the policies that select `device`.
    pub(super) fn selecting(&self, device: &DeviceRecord) -> Selection {
        let candidate = Candidate::lasting(device);
        (0u32..).zip(&self.policies).filter(|(_, policy)| policy.subjects.holds(&candidate)).map(|(at, _)| at).collect()
    }

    /// The rules of a selection, made ready once.
    pub(super) fn table(&self, selection: &[u32]) -> Arc<Table> {
        let mut tables = self.tables.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(table) = tables.get(selection) {
            return table.clone();
        }
        let policy = |at: &u32| self.policies.get(usize::try_from(*at).ok()?).cloned();
        let table = Arc::new(Table::new(selection.iter().filter_map(policy).collect()));
        tables.insert(selection.into(), table.clone());
        table
    }

    /// All that the edition gives `device` for itself. What it gives a gateway for its children is left out.
    #[must_use]
    pub fn rights(&self, device: &DeviceRecord) -> Rights {
        Rights::bind(self.number, device, self.table(&self.selecting(device)))
    }

    /// Whether rules for children are among those for `device`, so that [`Edition::rights_with`] needs to know them.
    #[must_use]
    pub fn asks_for_children(&self, device: &DeviceRecord) -> bool {
        !self.table(&self.selecting(device)).for_children.is_empty()
    }

    /// All that the edition gives `device`, with what it may do for `children`. Of these count those that it is the
    /// gateway of, that are neither on hold nor out nor retired, and whose kind the settings let its kind carry.
    #[must_use]
    pub fn rights_with<'d>(
        &self,
        device: &DeviceRecord,
        children: impl IntoIterator<Item = &'d DeviceRecord>,
        settings: &Settings,
    ) -> Rights {
        let mut rights = self.rights(device);
        let carried = children.into_iter().filter(|child| {
            child.gateway.as_ref() == Some(&device.id)
                && child.barred().is_none()
                && settings.carries(&device.kind, &child.kind)
        });
        rights.speak_for(device, carried.map(|child| (child, self.table(&self.selecting(child)))));
        rights.open(self.doors(device, settings));
        rights.keep_out_of(&settings.guard.reserved);
        rights
    }

    /// The devices that its tests name.
    #[must_use]
    pub fn named_devices(&self) -> BTreeSet<&DeviceId> {
        let expects = self.policies.iter().flat_map(|policy| &policy.expects);
        expects
            .filter_map(|expect| match &expect.device {
                ExpectDevice::Named(id) => Some(id),
                ExpectDevice::Described(_) => None,
            })
            .collect()
    }
}
