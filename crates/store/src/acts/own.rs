//! Facts of the ward's own, as settings declare them: no label has the name of one, and what one means changes only while nobody has it.

use std::collections::{BTreeMap, BTreeSet};

use tidy_warden_core::admission::AdmissionName;
use tidy_warden_core::condition::{Comparison, Condition, Field, TextTest};
use tidy_warden_core::device::DeviceState;
use tidy_warden_core::fact::FactName;
use tidy_warden_core::id::{DeviceId, LabelName};
use tidy_warden_core::time::UnixTime;

use crate::{Answer, StoreError, Tx, View};

/// The facts of a ward's own, and whether no two devices may have the same.
pub type OwnFacts = BTreeMap<LabelName, bool>;

/// What settings declared, and what they declare from now on.
#[derive(Debug, Clone, Copy)]
pub struct Declared<'a> {
    /// What counted before.
    pub before: &'a OwnFacts,
    /// What is to count.
    pub after: &'a OwnFacts,
}

/// How many devices are named.
const NAMED: usize = 5;

/// How many admissions are read at once.
const AT_ONCE: usize = 1_000;

/// Why facts cannot be declared so.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FactClash {
    /// There is a label of this name.
    #[error("`{name}` is declared as a fact, and is a label of {}", .by.text())]
    Label {
        /// The name.
        name: LabelName,
        /// Who has it.
        by: Holders,
    },
    /// What the declaration says of the fact is another, or it is gone, while devices have the fact.
    #[error("what is declared of the fact `{name}` is another than before, while there are devices with it: {}", .by.text())]
    InUse {
        /// The name.
        name: LabelName,
        /// Who has it.
        by: Holders,
    },
}

/// Who has a label or a fact.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holders {
    /// Devices, the first few.
    pub devices: Vec<DeviceId>,
    /// An admission that is pending.
    pub admission: Option<AdmissionName>,
    /// Whether there are more devices.
    pub more: bool,
}

impl Holders {
    /// In words.
    #[must_use]
    pub fn text(&self) -> String {
        let mut parts: Vec<String> = self.devices.iter().map(|id| format!("`{id}`")).collect();
        parts.extend(self.admission.map(|name| name.to_string()));
        let text = parts.join(", ");
        if self.more { format!("{text} and others") } else { text }
    }
}

/// The devices with a label, or with a fact, that are not retired; `None` if there are none.
fn holders(
    view: &dyn View,
    name: &LabelName,
    of: &dyn Fn(&tidy_warden_core::device::DeviceRecord) -> bool,
    now: UnixTime,
) -> Result<Option<Holders>, StoreError> {
    let has = Condition::Text(Field::Named(name.clone()), TextTest::Known);
    let is = TextTest::Compared(Comparison::Is, DeviceState::Retired.as_str().to_owned());
    let condition = Condition::All(vec![has, Condition::Not(Box::new(Condition::Text(Field::State, is)))]);
    let page = view.page(Some(&condition), now, 0, NAMED + 1)?.devices;
    let mut devices: Vec<DeviceId> =
        page.into_iter().map(|view| view.device).filter(of).map(|device| device.id).collect();
    let more = devices.len() > NAMED;
    devices.truncate(NAMED);
    let admission = if devices.is_empty() { pending(view, of)? } else { None };
    Ok((!devices.is_empty() || admission.is_some()).then_some(Holders { devices, admission, more }))
}

/// A pending admission whose device would have it.
fn pending(
    view: &dyn View,
    of: &dyn Fn(&tidy_warden_core::device::DeviceRecord) -> bool,
) -> Result<Option<AdmissionName>, StoreError> {
    let mut after = AdmissionName(0);
    loop {
        let page = view.admissions(after, AT_ONCE)?;
        if let Some(found) = page.iter().find(|each| each.end.is_none() && of(&each.device)) {
            return Ok(Some(found.name));
        }
        match page.last() {
            Some(last) if page.len() == AT_ONCE => after = last.name,
            _ => return Ok(None),
        }
    }
}

/// Takes what settings declare from now on: all, or nothing and every reason why. Names of which nothing changes are not looked at.
pub fn declare(tx: &mut dyn Tx, declared: Declared<'_>, now: UnixTime) -> Answer<(), Vec<FactClash>> {
    let Declared { before, after } = declared;
    let names: BTreeSet<&LabelName> = before.keys().chain(after.keys()).collect();
    let changed: Vec<&LabelName> = names.into_iter().filter(|name| before.get(*name) != after.get(*name)).collect();
    let mut clashes = Vec::new();
    for name in &changed {
        let fact = FactName::Own((*name).clone());
        if let Some(by) = holders(tx, name, &|device| device.facts.contains_key(&fact), now)? {
            clashes.push(FactClash::InUse { name: (*name).clone(), by });
        } else if after.contains_key(*name)
            && let Some(by) = holders(tx, name, &|device| device.labels.contains_key(*name), now)?
        {
            clashes.push(FactClash::Label { name: (*name).clone(), by });
        }
    }
    if !clashes.is_empty() {
        return Ok(Err(clashes));
    }
    let shared: Vec<(FactName, bool)> =
        changed.into_iter().filter_map(|name| Some((FactName::Own(name.clone()), !after.get(name)?))).collect();
    tx.put_shared(&shared)?;
    Ok(Ok(()))
}
