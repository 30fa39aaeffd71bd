//! The bulk run: one at a time.

use super::append_text;
use crate::{BulkRun, Cause, StoreError, Tx};

/// Begins a bulk run; says no if another was begun and not ended.
pub fn begin(tx: &mut dyn Tx, run: &BulkRun, cause: &Cause) -> Result<bool, StoreError> {
    if tx.bulk_run()?.is_some() {
        return Ok(false);
    }
    tx.put_bulk_run(run)?;
    append_text(tx, cause, "enroll.begin", "bulk run", &run.plan)?;
    Ok(true)
}

/// Ends the bulk run, if there is one; `detail` is a JSON object for the audit record.
pub fn end(tx: &mut dyn Tx, detail: &str, cause: &Cause) -> Result<(), StoreError> {
    if tx.drop_bulk_run()? {
        append_text(tx, cause, "enroll.end", "bulk run", detail)?;
    }
    Ok(())
}
