//! The store in a PostgreSQL database. Everything here moves rows and knows no rule.
//!
//! Each question is one statement, so that its answer is of one moment. Whoever changes anything locks the one row of `head` first: so
//! changes come one after another, as they do in a file. The number of a change, never a notice, is what a follower goes by.
//!
//! The planner takes an index wherever there is one (see `connection`). Where few rows are found by one index and the order of another
//! is wanted, `+ 0` stands behind the column to order by: it would walk that other index, all of it, to save itself the sorting.

mod admission;
mod asking;
mod authority;
mod claim;
mod condition;
mod connection;
mod credential;
mod device;
mod errand;
mod feed;
mod functions;
mod job;
mod meeting;
mod notice;
mod policy;
mod post;
mod record;
mod reflex;
mod rights;
mod rows;
mod schema;
mod tls;
mod token;
mod traffic;
mod whole;

use std::cell::RefCell;
use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;
use std::time::Duration;

use tidy_warden_core::audit::{Hash, Tree};
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::id::{AuthorityName, DeviceId};

use crate::copy::Whole;
use crate::{
    Cause, Entrance, Fate, Feed, Founding, GuardActs, Mark, Met, ReadRecord, Store, StoreError, Survey, Tally, Turn,
    Tx, View, acts,
};
use connection::Connection;

pub use connection::DatabaseAccess;
pub use rights::{roles, verifier};
pub use whole::{open_copy, open_whole};

/// Makes the store of a new ward in a database that has none. The database and the role are there already; nothing else is touched.
///
/// # Errors
/// There is a ward already, or the database cannot be reached, written or relied on.
pub fn create(access: DatabaseAccess, founding: &Founding<'_>, cause: &Cause) -> Result<Box<dyn Store>, StoreError> {
    let place = access.address.to_string();
    let connection = Connection::open(Arc::new(access), None)?;
    if schema::is_there(&connection)? {
        return Err(StoreError::Exists { path: place });
    }
    connection.begin_founding()?;
    let mut store = Database::new(connection);
    let made = schema::create(&store.connection).and_then(|()| acts::record::found(&mut store, founding, cause));
    match made {
        Ok(()) => store.connection.commit()?,
        // Two may have found the database empty.
        Err(StoreError::Taken) => return Err(StoreError::Exists { path: place }),
        Err(error) => {
            store.connection.rollback();
            return Err(error);
        }
    }
    store.forget();
    Ok(Box::new(store))
}

/// Opens the store of a ward; it waits for other writers no longer than `patience`, if one is given.
///
/// # Errors
/// There is none, a newer version wrote it, or the database cannot be reached or relied on.
pub fn open(access: DatabaseAccess, patience: Option<Duration>) -> Result<Box<dyn Store>, StoreError> {
    Ok(Box::new(opened(access, patience)?))
}

fn opened(access: DatabaseAccess, patience: Option<Duration>) -> Result<Database, StoreError> {
    let place = access.address.to_string();
    let connection = Connection::open(Arc::new(access), patience)?;
    if !schema::is_there(&connection)? {
        return Err(StoreError::Absent { path: place });
    }
    schema::check(&connection)?;
    let database = Database::new(connection);
    if database.copied_from()?.is_some() {
        return Err(StoreError::Unfinished { path: place });
    }
    schema::upgrade(&database.connection)?;
    Ok(database)
}

/// Whoever has no right to see what others do sees of them that they are there, and not for how long.
const SURVEY: &str = "SELECT split_part(current_setting('server_version'), ' ', 1), (SELECT number FROM store_format),
    pg_database_size(current_database()), (SELECT coalesce(max(pk), 0) FROM devices),
    (SELECT coalesce(max(pk), 0) FROM credentials), (SELECT coalesce(max(number), 0) FROM audit),
    (SELECT rolsuper FROM pg_roles WHERE rolname = current_user),
    ARRAY(SELECT DISTINCT schemaname::text FROM pg_tables WHERE tableowner = current_user
        AND schemaname <> (SELECT relnamespace::regnamespace::text FROM pg_class WHERE oid = 'store_format'::regclass) ORDER BY 1),
    (SELECT floor(extract(epoch FROM max(clock_timestamp() - xact_start)))::bigint FROM pg_stat_activity
        WHERE datname = current_database() AND pid <> pg_backend_pid() AND backend_xmin IS NOT NULL)";

/// A ward's memory in a database. It is a transaction too, which only [`Store::change`] shows anybody.
struct Database {
    connection: Connection,
    /// What is known of rows in the transaction that is open.
    known: Known,
}

/// What need not be asked twice while nobody else can change it.
#[derive(Default)]
struct Known {
    /// The greatest number of a row of a table.
    greatest: HashMap<&'static str, i64>,
    /// The rows of devices that were listed or looked at.
    devices: RefCell<HashMap<DeviceId, i64>>,
    /// The rows of authorities that were looked up.
    authorities: HashMap<AuthorityName, i64>,
    /// Whether a change is made.
    in_change: bool,
    /// Names of labels (`false`) and facts (`true`) that were noted.
    named: Vec<(bool, String)>,
    /// Whether the right to write what is only counted was taken.
    tallies: bool,
    /// Where the record ends, while the lock of `head` is held.
    end: RefCell<Option<(i64, Hash, Tree)>>,
    /// Whether entries were put behind that end.
    has_new_entries: bool,
}

impl Database {
    fn new(connection: Connection) -> Self {
        Self { connection, known: Known::default() }
    }

    fn forget(&mut self) {
        self.known = Known::default();
    }

    /// Writes what is only counted, in a transaction of its own.
    fn counted<T>(&self, write: impl FnOnce(&Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        self.connection.begin_tally()?;
        match write(&self.connection) {
            Ok(written) => {
                self.connection.commit()?;
                Ok(written)
            }
            Err(error) => {
                self.connection.rollback();
                Err(error)
            }
        }
    }

    /// The number of the next row of a table, and that of as many more as are wanted behind it.
    fn next_rows(&mut self, table: &'static str, count: usize) -> Result<i64, StoreError> {
        let greatest = match self.known.greatest.get(table) {
            Some(greatest) => *greatest,
            None => {
                let row = self.connection.one(&format!("SELECT coalesce(max(pk), 0) FROM {table}"), &[])?;
                connection::get(&row, 0)?
            }
        };
        self.known.greatest.insert(table, greatest + rows::limit(count));
        Ok(greatest + 1)
    }
}

/// The random name of a change, by which it is looked up if its COMMIT was in doubt.
fn act_name() -> Result<[u8; 16], StoreError> {
    let mut act = [0; 16];
    let random = |_| StoreError::Unwritable { detail: "there is no randomness".to_owned() };
    aws_lc_rs::rand::fill(&mut act).map_err(random)?;
    Ok(act)
}

impl Tx for Database {
    fn save(&mut self, mark: Mark) -> Result<(), StoreError> {
        self.connection.write(&format!("SAVEPOINT {}", mark.as_str()), &[])
    }

    fn back(&mut self, mark: Mark) -> Result<(), StoreError> {
        let Known { has_new_entries, in_change, .. } = self.known;
        self.known = Known { has_new_entries, in_change, ..Known::default() };
        self.connection.batch(&format!("ROLLBACK TO {}", mark.as_str()))
    }
}

impl Store for Database {
    fn view(&self, look: &mut dyn FnMut(&dyn View) -> Result<(), StoreError>) -> Result<(), StoreError> {
        self.connection.begin_reading()?;
        let looked = look(self);
        self.connection.rollback();
        looked
    }

    fn entrance(&self, fingerprint: &Fingerprint, key: &[u8; 32]) -> Result<Entrance, StoreError> {
        credential::entrance(&self.connection, fingerprint, key)
    }

    fn change(&mut self, act: &mut dyn FnMut(&mut dyn Tx) -> Result<Fate, StoreError>) -> Result<(), StoreError> {
        self.connection.begin_change()?;
        self.known = Known { in_change: true, ..Known::default() };
        let changed = catch_unwind(AssertUnwindSafe(|| match act(self)? {
            Fate::Undo => Ok(None),
            Fate::Keep => Ok(Some((self.audit_end()?.0, self.known.has_new_entries))),
        }));
        self.forget();
        match changed {
            Ok(Ok(Some((change, is_new)))) => self.connection.commit_change(act_name()?, change, is_new),
            Ok(other) => {
                self.connection.rollback();
                other.map(|_| ())
            }
            // Nobody else waits for whoever broke off in the middle.
            Err(panic) => {
                self.connection.rollback();
                resume_unwind(panic)
            }
        }
    }

    fn tally(&mut self, tally: &Tally<'_>) -> Result<(), StoreError> {
        self.counted(|connection| traffic::tally(connection, tally))
    }

    fn meet(&mut self, turn: &Turn<'_>) -> Result<Vec<Met>, StoreError> {
        self.counted(|connection| meeting::meet(connection, turn))
    }

    fn guard_acts(&mut self) -> Option<&mut dyn GuardActs> {
        if self.connection.is_post() { Some(self) } else { None }
    }

    fn reopen(&mut self) -> Result<(), StoreError> {
        self.connection = self.connection.another()?;
        schema::check(&self.connection)
    }

    fn check(&self) -> Result<Vec<String>, StoreError> {
        let mut found = Vec::new();
        // What no reference of the schema's own holds.
        for (table, column, of, key) in [
            ("facts", "device", "devices", "pk"),
            ("credentials", "device", "devices", "pk"),
            ("credentials", "authority", "authorities", "pk"),
            ("devices", "gateway", "devices", "id"),
            ("intended", "device", "devices", "id"),
        ] {
            let sql = format!(
                "SELECT count(*) FROM {table} AS one LEFT JOIN {of} AS other ON other.{key} = one.{column}
                 WHERE one.{column} IS NOT NULL AND other.{key} IS NULL"
            );
            match connection::get::<i64>(&self.connection.one(&sql, &[])?, 0)? {
                0 => {}
                count => found.push(format!("{count} rows of `{table}` name something that is not there")),
            }
        }
        let sql = "SELECT relname::text FROM pg_class JOIN pg_index ON indexrelid = pg_class.oid
             WHERE NOT indisvalid AND relnamespace = (SELECT relnamespace FROM pg_class WHERE oid = 'store_format'::regclass)";
        for row in self.connection.rows(sql, &[])? {
            found.push(format!("the index `{}` is not valid", connection::get::<&str>(&row, 0)?));
        }
        Ok(found)
    }

    fn survey(&self) -> Result<Survey, StoreError> {
        let row = self.connection.one(SURVEY, &[])?;
        let number = |at| rows::count(connection::get(&row, at)?);
        let mut warnings = Vec::new();
        if connection::get(&row, 6)? {
            warnings.push(
                "the role in the database is a superuser: whoever has its password can change every row of it".into(),
            );
        }
        let foreign: Vec<String> = connection::get(&row, 7)?;
        if !foreign.is_empty() {
            warnings.push(format!("the role owns tables that are not the ward's, in {}", foreign.join(", ")));
        }
        Ok(Survey {
            engine: format!("PostgreSQL {}", connection::get::<&str>(&row, 0)?),
            format: connection::get(&row, 1)?,
            octets: number(2)?,
            devices: number(3)?,
            credentials: number(4)?,
            entries: number(5)?,
            oldest_reader: connection::get::<Option<i64>>(&row, 8)?.map(rows::count).transpose()?,
            warnings,
        })
    }

    fn feed(&self) -> Result<Box<dyn Feed>, StoreError> {
        Ok(Box::new(feed::DatabaseFeed::new(self.connection.another()?)?))
    }
}
