//! What may be done: each act is a plain function over a [`Tx`], and leaves its entry in the audit record. What it may refuse it
//! refuses before it writes, or its refusal undoes what it wrote (see [`crate::decided`]).

pub mod admission;
pub mod asking;
pub mod authority;
pub mod batch;
pub mod bearer;
pub mod claim;
pub mod crl;
pub mod device;
pub mod enrol;
pub mod errand;
pub mod introduce;
pub mod job;
pub mod key;
pub mod notice;
pub mod own;
pub mod owner;
pub mod policy;
pub mod post;
pub mod record;
pub mod reflex;
pub mod revoke;
pub mod rotation;
pub mod server;
pub mod token;
pub mod usage;

use data_encoding::HEXLOWER;
use tidy_warden_core::audit::Entry;
use tidy_warden_core::id::DeviceId;

use crate::{Cause, DeviceView, StoreError, Tx, View};

/// Puts one entry at the end of the audit record; gives its number, which is the change number.
fn append(
    tx: &mut dyn Tx,
    cause: &Cause,
    act: &'static str,
    subject: &str,
    detail: &serde_json::Value,
) -> Result<i64, StoreError> {
    append_text(tx, cause, act, subject, &detail.to_string())
}

/// The same with a detail that is JSON text already.
fn append_text(
    tx: &mut dyn Tx,
    cause: &Cause,
    act: &'static str,
    subject: &str,
    detail: &str,
) -> Result<i64, StoreError> {
    let (number, previous) = tx.audit_end()?;
    let entry = Entry::seal(cause.draft(act, subject, detail), number + 1, previous);
    tx.put_entry(&entry)?;
    Ok(entry.number)
}

fn nothing() -> serde_json::Value {
    serde_json::json!({})
}

fn hex(bytes: &[u8]) -> String {
    HEXLOWER.encode(bytes)
}

fn unknown(what: &'static str, name: impl ToString) -> StoreError {
    StoreError::Unknown { what, name: name.to_string() }
}

/// A device that must be listed.
fn listed(view: &dyn View, id: &DeviceId) -> Result<DeviceView, StoreError> {
    view.devices(std::slice::from_ref(id))?.pop().flatten().ok_or_else(|| unknown("device", id))
}

/// Marks a device's gateway as changed, whose rights depend on its children.
fn touch_gateway(tx: &mut dyn Tx, gateway: Option<&DeviceId>, change: i64) -> Result<(), StoreError> {
    gateway.map_or(Ok(()), |gateway| tx.touch(gateway, change))
}
