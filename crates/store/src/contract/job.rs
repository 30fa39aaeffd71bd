//! The bulk run.

use crate::StoreError;

/// A bulk run that was begun and not ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BulkRun {
    /// What it is to do, in the words of whoever began it.
    pub plan: String,
    /// How far it is, in the words of whoever runs it.
    pub position: String,
}

/// Questions about the bulk run.
pub trait ReadJobs {
    /// The bulk run that was begun and not ended.
    fn bulk_run(&self) -> Result<Option<BulkRun>, StoreError>;
}

/// Rows of the bulk run.
pub trait WriteJobs: ReadJobs {
    /// Writes a bulk run, where there is none.
    fn put_bulk_run(&mut self, run: &BulkRun) -> Result<(), StoreError>;

    /// Writes how far the bulk run is.
    fn put_position(&mut self, position: &str) -> Result<(), StoreError>;

    /// Takes the bulk run away; says whether there was one.
    fn drop_bulk_run(&mut self) -> Result<bool, StoreError>;
}
