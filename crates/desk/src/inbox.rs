//! Children of which guards at posts told, and which need no person: a desk looks at policies and settings itself, and lists them.

use tidy_warden_core::id::KindName;
use tidy_warden_core::settings::Admit;
use tidy_warden_store::{DeskReader, StoreError};

use crate::Event;
use crate::state::{Desk, Live};

/// How many that wait are looked at each time.
const MOST: usize = 1_000;

/// Lists those that wait and would not have to.
pub(crate) fn keep(desk: &Desk, live: &Live, reader: &DeskReader) -> Result<(), StoreError> {
    let is_free = |kind: &KindName| live.settings.kinds.get(kind).is_some_and(|kind| kind.admit == Admit::Facts);
    if !live.settings.kinds.keys().any(is_free) {
        return Ok(());
    }
    let waiting = reader.view(|view| {
        let waiting = view.waiting_children(MOST)?;
        let gateways: Vec<_> = waiting.iter().map(|each| each.gateway.clone()).collect();
        Ok(waiting.into_iter().zip(view.devices(&gateways)?).collect::<Vec<_>>())
    })?;
    for (waits, gateway) in waiting {
        let Some(gateway) = gateway.map(|gateway| gateway.device) else { continue };
        if !is_free(&waits.kind) || !waits.is_waiting(desk.now()) {
            continue;
        }
        // As the policy is now, and not as it was when somebody told of the child.
        let Some(right) = live.mint.introduces(&gateway).into_iter().find(|right| right.kind == waits.kind) else {
            continue;
        };
        let (device, child, kind) = (gateway.id.to_string(), waits.child.to_string(), waits.kind.to_string());
        let because = "its kind wants no person".to_owned();
        // Where more were told of than may be, a person looks at them.
        if desk.acts.take_child(waits, right.most, desk.cause(because))?.is_ok() {
            desk.emit(Event::TookIn { device, child, kind });
        }
    }
    Ok(())
}
