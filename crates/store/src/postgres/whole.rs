//! A database as tables full of rows.

use std::sync::Arc;

use tokio_postgres::types::ToSql;

use super::connection::{Connection, DatabaseAccess, get};
use super::rows::{self, damaged};
use super::{Database, schema};
use crate::copy::{Cell, Kind, Row, Table, Whole};
use crate::{Move, StoreError};

/// A column in the neutral form.
fn read(name: &str, kind: Kind) -> String {
    match kind {
        Kind::Integer | Kind::Text | Kind::Octets => name.to_owned(),
        Kind::Flag => format!("{name}::int::bigint"),
        Kind::Json => format!("{name}::text"),
        Kind::Names => format!("array_to_json({name})::text"),
    }
}

/// An expression in the neutral form as this engine's column has it.
fn written(expression: &str, kind: Kind) -> String {
    match kind {
        Kind::Integer | Kind::Text | Kind::Octets => expression.to_owned(),
        Kind::Flag => format!("({expression} <> 0)"),
        Kind::Json => format!("{expression}::json"),
        Kind::Names => format!("ARRAY(SELECT json_array_elements_text({expression}::json))"),
    }
}

fn sql_type(kind: Kind) -> &'static str {
    match kind {
        Kind::Integer | Kind::Flag => "bigint",
        Kind::Text | Kind::Json | Kind::Names => "text",
        Kind::Octets => "bytea",
    }
}

/// A cell of a row, as [`read`] gives it.
fn cell(row: &tokio_postgres::Row, at: usize, kind: Kind) -> Result<Cell, StoreError> {
    Ok(match sql_type(kind) {
        "bigint" => get::<Option<i64>>(row, at)?.map_or(Cell::Null, Cell::Integer),
        "text" => get::<Option<String>>(row, at)?.map_or(Cell::Null, Cell::Text),
        _ => get::<Option<Vec<u8>>>(row, at)?.map_or(Cell::Null, Cell::Octets),
    })
}

/// A cell, or a column of them, as a value of a statement.
fn value(cells: &[&Cell], kind: Kind) -> Result<Box<dyn ToSql + Sync>, StoreError> {
    fn each<T>(cells: &[&Cell], take: impl Fn(&Cell) -> Option<T>) -> Result<Vec<Option<T>>, StoreError> {
        let one = |cell: &&Cell| match cell {
            Cell::Null => Ok(None),
            some => take(some).map(Some).ok_or_else(|| damaged("row")),
        };
        cells.iter().map(one).collect()
    }
    Ok(match sql_type(kind) {
        "bigint" => Box::new(each(cells, |cell| if let Cell::Integer(number) = cell { Some(*number) } else { None })?),
        "text" => Box::new(each(cells, |cell| if let Cell::Text(text) = cell { Some(text.clone()) } else { None })?),
        _ => Box::new(each(cells, |cell| if let Cell::Octets(octets) = cell { Some(octets.clone()) } else { None })?),
    })
}

/// A database that becomes a copy of the ward with the name `of`: an empty one, or one in which such a copy was begun.
///
/// # Errors
/// There is something else, or it cannot be reached, written or relied on.
pub fn open_copy(access: DatabaseAccess, of: &str) -> Result<Box<dyn Whole>, StoreError> {
    let place = access.address.to_string();
    let connection = Connection::open(Arc::new(access), None)?;
    if !schema::is_there(&connection)? {
        connection.begin_founding()?;
        let made = schema::create(&connection)
            .and_then(|()| connection.run("UPDATE store_format SET copied_from = $1", &[&of]));
        if let Err(error) = made {
            connection.rollback();
            return Err(error);
        }
        connection.commit()?;
    }
    schema::check(&connection)?;
    let database = Database::new(connection);
    if database.copied_from()?.is_none_or(|known| known != of) {
        return Err(StoreError::Exists { path: place });
    }
    schema::upgrade(&database.connection)?;
    Ok(Box::new(database))
}

/// The ward in a database, as tables.
///
/// # Errors
/// There is none, or it cannot be reached or relied on.
pub fn open_whole(access: DatabaseAccess) -> Result<Box<dyn Whole>, StoreError> {
    Ok(Box::new(super::opened(access, None)?))
}

impl Whole for Database {
    fn read_rows(&self, table: &Table, after: &[Cell], limit: usize) -> Result<Vec<Row>, StoreError> {
        let columns: Vec<String> = table.columns.iter().map(|(name, kind)| read(name, *kind)).collect();
        let key: Vec<&str> = table.columns.iter().take(table.key).map(|(name, _)| *name).collect();
        let key = key.join(", ");
        let values: Vec<_> =
            table.columns.iter().zip(after).map(|((_, kind), cell)| value(&[cell], *kind)).collect::<Result<_, _>>()?;
        let behind = match after.len() {
            0 => "true".to_owned(),
            count => {
                // Each value is an array of one, so that all kinds of values go one way.
                let mark = |(at, (_, kind)): (usize, &(&str, Kind))| {
                    written(&format!("(${}::{}[])[1]", at + 1, sql_type(*kind)), *kind)
                };
                let marks: Vec<String> = table.columns.iter().take(count).enumerate().map(mark).collect();
                format!("({key}) > ({})", marks.join(", "))
            }
        };
        let sql = format!(
            "SELECT {} FROM {} WHERE {behind} ORDER BY {key} LIMIT {}",
            columns.join(", "),
            table.name,
            rows::limit(limit)
        );
        let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(AsRef::as_ref).collect();
        let found = self.connection.rows(&sql, &values)?;
        found
            .iter()
            .map(|row| table.columns.iter().enumerate().map(|(at, (_, kind))| cell(row, at, *kind)).collect())
            .collect()
    }

    fn write_rows(&mut self, table: &Table, rows: &[Row]) -> Result<(), StoreError> {
        // Rows go into a copy, and never into a ward.
        if self.copied_from()?.is_none() {
            return Err(StoreError::Exists { path: "this place".to_owned() });
        }
        let mut values = Vec::new();
        for (at, (_, kind)) in table.columns.iter().enumerate() {
            let cells: Vec<&Cell> = rows.iter().filter_map(|row| row.get(at)).collect();
            values.push(value(&cells, *kind)?);
        }
        let names: Vec<&str> = table.columns.iter().map(|(name, _)| *name).collect();
        let expressions: Vec<String> =
            table.columns.iter().map(|(name, kind)| written(&format!("new.{name}"), *kind)).collect();
        let arrays: Vec<String> = table
            .columns
            .iter()
            .enumerate()
            .map(|(at, (_, kind))| format!("${}::{}[]", at + 1, sql_type(*kind)))
            .collect();
        let sql = format!(
            "INSERT INTO {} ({names}) SELECT {} FROM unnest({}) AS new ({names})",
            table.name,
            expressions.join(", "),
            arrays.join(", "),
            names = names.join(", "),
        );
        let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(AsRef::as_ref).collect();
        self.connection.run(&sql, &values)?;
        Ok(())
    }

    fn last_key(&self, table: &Table) -> Result<Option<Row>, StoreError> {
        let key = || table.columns.iter().take(table.key);
        let columns: Vec<String> = key().map(|(name, kind)| read(name, *kind)).collect();
        let order: Vec<String> = key().map(|(name, _)| format!("{name} DESC")).collect();
        let sql = format!("SELECT {} FROM {} ORDER BY {} LIMIT 1", columns.join(", "), table.name, order.join(", "));
        let Some(row) = self.connection.maybe(&sql, &[])? else { return Ok(None) };
        let cells = key().enumerate().map(|(at, (_, kind))| cell(&row, at, *kind));
        cells.collect::<Result<Row, _>>().map(Some)
    }

    fn snapshot(&self, look: &mut dyn FnMut(&dyn Whole) -> Result<(), StoreError>) -> Result<(), StoreError> {
        self.connection.begin_reading()?;
        let looked = look(self);
        self.connection.rollback();
        looked
    }

    fn moved(&self) -> Result<Option<Move>, StoreError> {
        let Some(row) = self.connection.maybe("SELECT moved FROM head", &[])? else { return Ok(None) };
        Ok(get::<Option<&str>>(&row, 0)?.map(Move::from_text))
    }

    fn set_moved(&mut self, to: Option<&Move>) -> Result<(), StoreError> {
        self.connection.begin_moving()?;
        match self.connection.run("UPDATE head SET moved = $1", &[&to.map(Move::text)]) {
            Ok(_) => self.connection.commit(),
            Err(error) => {
                self.connection.rollback();
                Err(error)
            }
        }
    }

    fn copied_from(&self) -> Result<Option<String>, StoreError> {
        get(&self.connection.one("SELECT copied_from FROM store_format", &[])?, 0)
    }

    fn finish_copy(&mut self) -> Result<(), StoreError> {
        self.connection.run("UPDATE store_format SET copied_from = NULL", &[])?;
        Ok(())
    }
}
