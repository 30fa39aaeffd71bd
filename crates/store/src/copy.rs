//! A whole ward from one engine to another, row by row.
//!
//! Each engine gives and takes the rows of [`TABLES`] in one neutral form; nothing here knows what they mean. Rows go over in the order
//! of their keys and in batches of their own, so that a copy that was killed goes on behind the last row that arrived. Until all is
//! there and was compared, the new place cannot be opened as a ward.

mod tables;

use std::collections::BTreeMap;

use tidy_warden_core::audit::{Broken, Verifier};
use tidy_warden_core::key::Sha256;

use crate::{Move, StoreError, View};

pub use tables::{GROWN, TABLES};

/// How many rows go over at a time.
pub const BATCH: usize = 2_000;

/// How many at first, when nobody knows yet how large they are: those of editions may have megabytes.
const FIRST: usize = 4;

/// The most octets that go over at a time, but for one row that has more.
pub const BATCH_OCTETS: usize = 4 << 20;

/// What stands in a column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cell {
    /// Nothing.
    Null,
    /// A number, or 0 or 1 for no or yes.
    Integer(i64),
    /// A text.
    Text(String),
    /// Octets.
    Octets(Vec<u8>),
}

impl Cell {
    fn add_to(&self, digest: &mut Sha256) {
        let mut put = |tag: u8, octets: &[u8]| {
            digest.update(&[tag]);
            digest.update(&u64::try_from(octets.len()).unwrap_or(u64::MAX).to_be_bytes());
            digest.update(octets);
        };
        match self {
            Self::Null => put(0, &[]),
            Self::Integer(number) => put(1, &number.to_be_bytes()),
            Self::Text(text) => put(2, text.as_bytes()),
            Self::Octets(octets) => put(3, octets),
        }
    }

    /// About how much memory it takes, in octets.
    #[must_use]
    #[expect(clippy::len_without_is_empty, reason = "a cell without content takes room too")]
    pub fn len(&self) -> usize {
        match self {
            Self::Null | Self::Integer(_) => 8,
            Self::Text(text) => text.len(),
            Self::Octets(octets) => octets.len(),
        }
    }
}

/// A row in the order of its table's columns.
pub type Row = Vec<Cell>;

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A number.
    Integer,
    /// No or yes.
    Flag,
    /// A text.
    Text,
    /// A JSON object, as text.
    Json,
    /// Names, as the text of a JSON array.
    Names,
    /// Octets.
    Octets,
}

/// A table in the neutral form.
#[derive(Debug, PartialEq, Eq)]
pub struct Table {
    /// Its name.
    pub name: &'static str,
    /// Its columns.
    pub columns: &'static [(&'static str, Kind)],
    /// How many of the first columns are its key.
    pub key: usize,
}

/// A store as tables full of rows.
pub trait Whole: View {
    /// Up to `limit` rows of a table behind a key, in the order of keys; from the first with no key.
    fn read_rows(&self, table: &Table, after: &[Cell], limit: usize) -> Result<Vec<Row>, StoreError>;

    /// Writes rows of a table; all of them or none.
    fn write_rows(&mut self, table: &Table, rows: &[Row]) -> Result<(), StoreError>;

    /// The key of a table's last row, if it has any.
    fn last_key(&self, table: &Table) -> Result<Option<Row>, StoreError>;

    /// Gives all of it as it is at one moment.
    fn snapshot(&self, look: &mut dyn FnMut(&dyn Whole) -> Result<(), StoreError>) -> Result<(), StoreError>;

    /// The place that the ward was moved to, or is being moved to: from then on every change here is refused.
    fn moved(&self) -> Result<Option<Move>, StoreError>;

    /// Notes that the ward moves to a place; with `None` that it is here after all.
    fn set_moved(&mut self, to: Option<&Move>) -> Result<(), StoreError>;

    /// What a copy that is not finished here is a copy of.
    fn copied_from(&self) -> Result<Option<String>, StoreError>;

    /// Says that all that is here was compared with what it is a copy of: from now on it is a ward.
    fn finish_copy(&mut self) -> Result<(), StoreError>;
}

/// What was copied.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Copied {
    /// How many rows there are.
    pub rows: u64,
    /// SHA-256 over all of them.
    pub digest: [u8; 32],
}

/// Why a copy is not the ward that it was made from.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CopyError {
    /// A store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A table differs.
    #[error("the table `{table}` differs: {from} rows were to be copied, {to} are there, or their contents are others")]
    Differs {
        /// Its name.
        table: &'static str,
        /// Rows at the old place.
        from: u64,
        /// Rows at the new place.
        to: u64,
    },
    /// The audit record is not whole.
    #[error("the audit record is not whole at the new place: {0}")]
    Record(Broken),
}

/// Copies all rows, goes on where an earlier try ended, and compares everything at the end. `tell` hears how many rows of which table
/// were copied.
///
/// # Errors
/// A store failed, or what is at the new place is not what is at the old one.
pub fn copy(
    from: &dyn Whole,
    to: &mut dyn Whole,
    tell: &mut dyn FnMut(&'static str, u64),
) -> Result<Copied, CopyError> {
    for table in &TABLES {
        let mut after = to.last_key(table)?.unwrap_or_default();
        let mut limit = FIRST;
        loop {
            let rows = from.read_rows(table, &after, limit)?;
            let Some(last) = rows.last() else { break };
            after = last[..table.key].to_vec();
            let octets: usize = rows.iter().flatten().map(Cell::len).sum();
            to.write_rows(table, &rows)?;
            tell(table.name, u64::try_from(rows.len()).unwrap_or(u64::MAX));
            limit = next_limit(rows.len(), octets);
        }
    }
    compare(from, to)
}

/// Moves a ward: from now on nothing is changed at the old place, and when all of it arrived, the new place is the ward. Whoever is told
/// that it failed can call this again. At no time both places take changes.
///
/// # Errors
/// A store failed, or what is at the new place is not what is at the old one.
pub fn move_ward(
    from: &mut dyn Whole,
    to: &mut dyn Whole,
    place: &str,
    tell: &mut dyn FnMut(&'static str, u64),
) -> Result<Copied, CopyError> {
    let note = |is_done| Move { to: place.to_owned(), is_done };
    match from.moved()? {
        Some(other) if other.to != place => return Err(StoreError::Moved { move_to: other }.into()),
        Some(_) => {}
        None => from.set_moved(Some(&note(false)))?,
    }
    let copied = copy(from, to, tell)?;
    from.set_moved(Some(&note(true)))?;
    to.finish_copy()?;
    Ok(copied)
}

/// Whether two stores hold the same rows, and the second one a whole record.
///
/// # Errors
/// They do not.
pub fn compare(from: &dyn Whole, to: &dyn Whole) -> Result<Copied, CopyError> {
    let mut total = Total::default();
    for table in &TABLES {
        let (one, other) = (counted(from, table)?, counted(to, table)?);
        if one != other {
            return Err(CopyError::Differs { table: table.name, from: one.rows, to: other.rows });
        }
        total.add(&one);
    }
    whole_record(to)?;
    Ok(total.finish())
}

/// The rows of one table, counted as they come.
#[derive(Default, Clone)]
pub struct Count {
    rows: u64,
    digest: Sha256,
}

impl Count {
    /// Adds the next row.
    pub fn add(&mut self, row: &Row) {
        row.iter().for_each(|cell| cell.add_to(&mut self.digest));
        self.rows += 1;
    }

    /// All of them.
    #[must_use]
    pub fn finish(self) -> Copied {
        Copied { rows: self.rows, digest: self.digest.finish() }
    }
}

/// What all tables hold, one after the other.
#[derive(Default)]
pub struct Total {
    rows: u64,
    digest: Sha256,
}

impl Total {
    /// Adds a table.
    pub fn add(&mut self, table: &Copied) {
        self.rows += table.rows;
        self.digest.update(&table.digest);
    }

    /// All of it.
    #[must_use]
    pub fn finish(self) -> Copied {
        Copied { rows: self.rows, digest: self.digest.finish() }
    }
}

/// What a store holds in all its tables.
///
/// # Errors
/// It cannot be read.
pub fn contents(store: &dyn Whole) -> Result<Copied, StoreError> {
    let mut total = Total::default();
    TABLES.iter().try_for_each(|table| counted(store, table).map(|table| total.add(&table)))?;
    Ok(total.finish())
}

/// What is in tables whose rows were counted as they came.
#[derive(Default)]
pub struct Counts(BTreeMap<&'static str, Count>);

impl Counts {
    /// Adds a row of a table.
    pub fn add(&mut self, table: &'static Table, row: &Row) {
        self.0.entry(table.name).or_default().add(row);
    }

    /// All of it, as a store says it that has every table but those in `absent`; `None` if there are rows in one of these.
    fn total(&self, absent: &[&str]) -> Option<Copied> {
        let mut total = Total::default();
        for table in &TABLES {
            match (self.0.get(table.name), absent.contains(&table.name)) {
                (Some(_), true) => return None,
                (None, true) => {}
                (Some(count), false) => total.add(&count.clone().finish()),
                (None, false) => total.add(&Count::default().finish()),
            }
        }
        Some(total.finish())
    }

    /// Whether this is `said` by a store of this format, or of an earlier one since there are backups.
    #[must_use]
    pub fn is(&self, said: &Copied) -> bool {
        let mut absent: Vec<&str> = Vec::new();
        let earlier = GROWN.iter().map(|grown| {
            absent.extend(*grown);
            absent.clone()
        });
        let all: Vec<Vec<&str>> = std::iter::once(Vec::new()).chain(earlier).collect();
        all.iter().any(|absent| self.total(absent).as_ref() == Some(said))
    }
}

/// Whether the record of a store is whole.
///
/// # Errors
/// It is not.
pub fn whole_record(to: &dyn Whole) -> Result<(), CopyError> {
    let (mut verifier, mut broken) = (Verifier::default(), None);
    let record: &dyn View = to;
    record.each_entry(1, &mut |entry| {
        broken = verifier.follow(&entry).err();
        broken.is_none()
    })?;
    let (number, hash) = to.audit_end()?;
    match broken.or(verifier.finish(number, hash).err()) {
        Some(broken) => Err(CopyError::Record(broken)),
        None => Ok(()),
    }
}

/// How many rows a table has, and what they are.
fn counted(store: &dyn Whole, table: &Table) -> Result<Copied, StoreError> {
    let mut count = Count::default();
    each_row(store, table, &mut |row| {
        count.add(row);
        Ok(())
    })?;
    Ok(count.finish())
}

/// Gives the rows of a table in the order of their keys, in little memory.
///
/// # Errors
/// What `visit` says; the store cannot be read.
pub fn each_row(
    store: &dyn Whole,
    table: &Table,
    visit: &mut dyn FnMut(&Row) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let (mut after, mut limit) = (Vec::new(), FIRST);
    loop {
        let some = store.read_rows(table, &after, limit)?;
        let Some(last) = some.last() else { return Ok(()) };
        after = last[..table.key].to_vec();
        let octets: usize = some.iter().flatten().map(Cell::len).sum();
        limit = next_limit(some.len(), octets);
        some.iter().try_for_each(&mut *visit)?;
    }
}

/// How many rows to take next, when so many had so many octets.
fn next_limit(rows: usize, octets: usize) -> usize {
    (rows.saturating_mul(BATCH_OCTETS) / octets.max(1)).clamp(1, BATCH)
}
