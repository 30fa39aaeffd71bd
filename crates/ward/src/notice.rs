//! Notices: the key that signs them, and what they say.

use std::sync::Arc;

use serde_json::{Value, json};
use tidy_warden_core::id::{DeviceId, uuid_urn};
use tidy_warden_core::key::Signer;
use tidy_warden_core::notice::NoticeRecord;
use tidy_warden_core::random::bytes;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::notice::{self, Sent};
use tidy_warden_store::{Cause, OperatorStore, StoreError};

use crate::clock::SystemRandom;
use crate::keys::{self, Openers};
use crate::open::Ward;
use crate::problem::Problem;

/// The file of the key, and what it is called when it is opened.
const KEY_FILE: &str = "notices.key";
const KEY_NAME: &str = "the key that signs notices";

/// How long notices that do not wait are kept.
const KEPT: Span = Span::from_days(30);
const FORGOTTEN: usize = 5_000;

/// Opens the key that signs notices; makes it where there is none.
pub fn key(ward: &Ward, openers: &dyn Openers) -> Result<Arc<dyn Signer>, Problem> {
    if let Some(known) = openers.known_for_notices() {
        return Ok(known);
    }
    Ok(Arc::new(keys::open_or_make(ward, openers, KEY_FILE, KEY_NAME)?))
}

/// A notice: its id, and what it says.
fn written(ward: &str, what: &str, at: UnixTime, more: Value) -> (String, String) {
    let id = uuid_urn(bytes(&mut SystemRandom), 4);
    let mut body = json!({ "schema": "tidy-warden/notice/1", "id": id, "ward": ward, "what": what, "at": at });
    if let (Some(body), Value::Object(more)) = (body.as_object_mut(), more) {
        body.extend(more);
    }
    (id, body.to_string())
}

/// What a reflex tells of a device.
#[must_use]
pub fn of_reflex(ward: &str, reflex: &str, device: &DeviceId, evidence: &str, at: UnixTime) -> (String, String) {
    written(ward, "reflex", at, json!({ "reflex": reflex, "device": device, "evidence": evidence }))
}

/// Has a web service told that this is a trial.
pub fn try_it(store: &mut OperatorStore, ward: &str, cause: &Cause) -> Result<bool, Problem> {
    let (id, body) = written(ward, "trial", cause.at, json!({ "by": cause.actor }));
    Ok(store.make(|tx| notice::put(tx, id, body, cause.at))?)
}

/// Takes the next that is to be sent now.
pub fn take(store: &mut OperatorStore, now: UnixTime) -> Result<Option<NoticeRecord>, StoreError> {
    // Where nothing is due nobody's lock is taken.
    if store.due_notices(now, 1)?.is_empty() {
        return Ok(None);
    }
    store.make(|tx| notice::take(tx, now))
}

/// Notes what became of one.
pub fn settle(store: &mut OperatorStore, record: &NoticeRecord, sent: &Sent, now: UnixTime) -> Result<(), StoreError> {
    store.make(|tx| notice::settle(tx, record, sent, now)).map(drop)
}

/// Forgets what does not wait any more.
pub fn forget(store: &mut OperatorStore, now: UnixTime) -> Result<usize, StoreError> {
    store.make(|tx| tx.drop_notices(now.minus(KEPT), FORGOTTEN))
}
