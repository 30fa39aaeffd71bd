//! A file as tables full of rows.

use std::path::Path;

use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, OpenFlags, OptionalExtension, ToSql, TransactionBehavior, params};

use super::rows::{self, damaged};
use super::{Sql, SqliteStore, schema};
use crate::copy::{Cell, Row, Table, Whole};
use crate::{Move, StoreError};

/// Where a note is that the ward moved.
const MOVED: &str = "moved";

/// Where a note is that this is a copy that is not finished.
const COPIED_FROM: &str = "copied_from";

fn note(connection: &Connection, key: &str) -> Result<Option<String>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT value FROM meta WHERE key = ?1")?;
    Ok(statement.query_row([key], |row| row.get(0)).optional()?)
}

/// The place that the ward was moved to.
pub(super) fn moved(connection: &Connection) -> Result<Option<Move>, StoreError> {
    Ok(note(connection, MOVED)?.map(|text| Move::from_text(&text)))
}

/// What a copy that is not finished is a copy of.
pub(super) fn copied_from(connection: &Connection) -> Result<Option<String>, StoreError> {
    note(connection, COPIED_FROM)
}

impl ToSql for Cell {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(match self {
            Self::Null => ToSqlOutput::Owned(Value::Null),
            Self::Integer(number) => ToSqlOutput::Owned(Value::Integer(*number)),
            Self::Text(text) => ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes())),
            Self::Octets(octets) => ToSqlOutput::Borrowed(ValueRef::Blob(octets)),
        })
    }
}

fn cell(value: ValueRef<'_>) -> Result<Cell, StoreError> {
    Ok(match value {
        ValueRef::Null => Cell::Null,
        ValueRef::Integer(number) => Cell::Integer(number),
        ValueRef::Text(octets) => Cell::Text(std::str::from_utf8(octets).map_err(|_| damaged("text"))?.to_owned()),
        ValueRef::Blob(octets) => Cell::Octets(octets.to_vec()),
        ValueRef::Real(_) => return Err(damaged("number")),
    })
}

/// What a table's rows are read from: itself, or for some a query that has its columns.
fn source(table: &Table) -> String {
    let meta = |key: &str| format!("(SELECT value FROM meta WHERE key = '{key}')");
    match table.name {
        "seen" => "(SELECT pk AS device, seen AS at FROM devices WHERE seen IS NOT NULL)".to_owned(),
        "ward" => format!(
            "(SELECT 1 AS one, {} AS urn, {} AS rehearsal, {} AS token_key, {} AS settings
              WHERE EXISTS (SELECT 1 FROM meta WHERE key = 'urn'))",
            meta("urn"),
            meta("rehearsal"),
            meta("token_key"),
            meta("settings")
        ),
        "head" => format!(
            "(SELECT 1 AS one, {} AS change, {} AS hash, {} AS tree, coalesce({}, 0) AS group_rules,
                 coalesce({}, 0) AS authorities, {} AS given_up_number, {} AS given_up_hash, {} AS doubt,
                 {} AS servers, {} AS tokens
              WHERE EXISTS (SELECT 1 FROM meta WHERE key = 'audit_number'))",
            meta("audit_number"),
            meta("audit_hash"),
            meta("audit_tree"),
            meta("group_rules_changed"),
            meta("authorities_changed"),
            meta("given_up_number"),
            meta("given_up_hash"),
            meta("doubt"),
            meta("servers_changed"),
            meta("tokens_changed")
        ),
        name => name.to_owned(),
    }
}

fn names(table: &Table, count: usize) -> String {
    table.columns.iter().take(count).map(|(name, _)| *name).collect::<Vec<_>>().join(", ")
}

fn marks(count: usize) -> String {
    (1..=count).map(|number| format!("?{number}")).collect::<Vec<_>>().join(", ")
}

/// Writes one row.
fn write(connection: &Connection, table: &Table, row: &Row) -> Result<(), StoreError> {
    let put = |key: &str, value: &Cell| -> Result<(), StoreError> {
        if *value != Cell::Null {
            connection.prepare_cached("INSERT INTO meta (key, value) VALUES (?1, ?2)")?.execute(params![key, value])?;
        }
        Ok(())
    };
    match (table.name, &row[..]) {
        ("seen", [device, at]) => {
            let sql = "UPDATE devices SET seen = ?2 WHERE pk = ?1";
            rows::found(connection.prepare_cached(sql)?.execute([device, at])?, "device", &"of a row")
        }
        ("ward", [_, urn, rehearsal, token_key, settings]) => {
            put("urn", urn)?;
            put("rehearsal", rehearsal)?;
            put("token_key", token_key)?;
            put("settings", settings)
        }
        ("head", [_, change, hash, tree, groups, authorities, given_up, given_up_hash, doubt, servers, tokens]) => {
            put("audit_number", change)?;
            put("audit_hash", hash)?;
            put("audit_tree", tree)?;
            put("group_rules_changed", groups)?;
            put("authorities_changed", authorities)?;
            put("servers_changed", servers)?;
            put("tokens_changed", tokens)?;
            put("given_up_number", given_up)?;
            put("given_up_hash", given_up_hash)?;
            put("doubt", doubt)
        }
        ("credentials", row) => {
            // Indexes of this engine's own.
            let head = |at: usize| match row.get(at) {
                Some(Cell::Octets(octets)) => Ok(Cell::Integer(rows::head(octets))),
                _ => Err(damaged("credential")),
            };
            let at = |name: &str| table.columns.iter().position(|(column, _)| *column == name).unwrap_or(row.len());
            let count = row.len();
            let sql = format!(
                "INSERT INTO credentials ({}, fingerprint_head, key_head) VALUES ({})",
                names(table, count),
                marks(count + 2)
            );
            let heads = [head(at("fingerprint"))?, head(at("key_digest"))?];
            connection.prepare_cached(&sql)?.execute(rusqlite::params_from_iter(row.iter().chain(&heads)))?;
            Ok(())
        }
        (name, row) => {
            let sql = format!("INSERT INTO {name} ({}) VALUES ({})", names(table, row.len()), marks(row.len()));
            connection.prepare_cached(&sql)?.execute(rusqlite::params_from_iter(row))?;
            Ok(())
        }
    }
}

impl SqliteStore {
    /// A store that becomes a copy of the ward with the name `of`: a new file, or one in which such a copy was begun.
    ///
    /// # Errors
    /// There is something else, or it cannot be written.
    pub fn open_copy(path: &Path, of: &str) -> Result<Self, StoreError> {
        if !path.exists() {
            Self::make_file(path)?;
        }
        let mut store = Self::connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        let tx = store.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let tables: i64 = tx.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))?;
        if tables == 0 {
            schema::create(&tx)?;
            tx.execute("INSERT INTO meta (key, value) VALUES (?1, ?2)", [COPIED_FROM, of])?;
            tx.commit()?;
        } else {
            drop(tx);
            let is_other = schema::check(&store.connection)? || copied_from(&store.connection)?.as_deref() != Some(of);
            if is_other {
                return Err(StoreError::Exists { path: path.display().to_string() });
            }
        }
        Ok(store)
    }
}

impl Whole for SqliteStore {
    fn read_rows(&self, table: &Table, after: &[Cell], limit: usize) -> Result<Vec<Row>, StoreError> {
        let key = names(table, table.key);
        let behind = match after.len() {
            0 => "1".to_owned(),
            count => format!("({key}) > ({})", marks(count)),
        };
        let sql = format!(
            "SELECT {} FROM {} WHERE {behind} ORDER BY {key} LIMIT {}",
            names(table, table.columns.len()),
            source(table),
            rows::limit(limit)
        );
        let mut statement = self.sql().prepare_cached(&sql)?;
        let mut found = statement.query(rusqlite::params_from_iter(after))?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            let cells = (0..table.columns.len()).map(|at| cell(row.get_ref(at)?));
            all.push(cells.collect::<Result<Row, StoreError>>()?);
        }
        Ok(all)
    }

    fn write_rows(&mut self, table: &Table, rows: &[Row]) -> Result<(), StoreError> {
        let tx = self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        // Rows go into a copy, and never into a ward.
        if copied_from(&tx)?.is_none() {
            return Err(StoreError::Exists { path: self.path.display().to_string() });
        }
        for row in rows {
            write(&tx, table, row)?;
        }
        Ok(tx.commit()?)
    }

    fn last_key(&self, table: &Table) -> Result<Option<Row>, StoreError> {
        let order: Vec<String> = table.columns.iter().take(table.key).map(|(name, _)| format!("{name} DESC")).collect();
        let sql =
            format!("SELECT {} FROM {} ORDER BY {} LIMIT 1", names(table, table.key), source(table), order.join(", "));
        let mut statement = self.sql().prepare_cached(&sql)?;
        let mut found = statement.query([])?;
        let Some(row) = found.next()? else { return Ok(None) };
        (0..table.key).map(|at| cell(row.get_ref(at)?)).collect::<Result<Row, StoreError>>().map(Some)
    }

    fn snapshot(&self, look: &mut dyn FnMut(&dyn Whole) -> Result<(), StoreError>) -> Result<(), StoreError> {
        self.still_there()?;
        self.sql().execute_batch("BEGIN")?;
        let looked = look(self);
        // A transaction that only reads has nothing to lose.
        let _ = self.sql().execute_batch("ROLLBACK");
        looked
    }

    fn moved(&self) -> Result<Option<Move>, StoreError> {
        moved(self.sql())
    }

    fn set_moved(&mut self, to: Option<&Move>) -> Result<(), StoreError> {
        self.still_there()?;
        let tx = self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        tx.execute("DELETE FROM meta WHERE key = ?1", [MOVED])?;
        if let Some(to) = to {
            tx.execute("INSERT INTO meta (key, value) VALUES (?1, ?2)", [MOVED, &to.text()])?;
        }
        Ok(tx.commit()?)
    }

    fn copied_from(&self) -> Result<Option<String>, StoreError> {
        copied_from(self.sql())
    }

    fn finish_copy(&mut self) -> Result<(), StoreError> {
        self.sql().execute("DELETE FROM meta WHERE key = ?1", [COPIED_FROM])?;
        Ok(())
    }
}
