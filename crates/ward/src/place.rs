//! Where a ward's store is: a file in its folder, or a database that its settings name.

use std::path::{Path, PathBuf};
use std::time::Duration;

use tidy_warden_core::database::{DatabaseAddress, DatabaseHost, EXAMPLE};
use tidy_warden_core::settings::StoreSettings;
use tidy_warden_store::copy::Whole;
use tidy_warden_store::{Cause, DatabaseAccess, Founding, SqliteStore, Store, StoreError, postgres};
use zeroize::Zeroizing;

use crate::files;
use crate::problem::Problem;

/// The name of the store's file.
pub const STORE: &str = "ward.db";

/// The longest file of passwords, and of certificates, read, in octets.
const MAX_FILE: u64 = 1024 * 1024;

/// Where a store is.
#[derive(Debug, Clone)]
pub enum StorePlace {
    /// In this file.
    File(PathBuf),
    /// In this database.
    Database(Box<DatabaseAccess>),
}

impl std::fmt::Display for StorePlace {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::File(path) => path.display().fmt(f),
            Self::Database(access) => access.address.fmt(f),
        }
    }
}

impl StorePlace {
    /// Where the store of the ward in `dir` is. Files that its settings name are read now.
    pub fn of(dir: &Path, settings: &StoreSettings) -> Result<Self, Problem> {
        let Some(address) = &settings.database else { return Ok(Self::File(dir.join(STORE))) };
        let password = match &settings.password_file {
            Some(path) => Some(password_file(&dir.join(path))?),
            None => match std::env::var_os("PGPASSFILE") {
                Some(path) => passfile(Path::new(&path), address)?,
                None => None,
            },
        };
        let roots = address.roots.as_ref().map(|path| files::read(&dir.join(path), MAX_FILE)).transpose()?;
        let insecure = settings.insecure.is_some();
        Ok(Self::Database(Box::new(DatabaseAccess {
            address: address.clone(),
            password,
            roots,
            insecure,
            is_post: false,
        })))
    }

    /// Opens the store; it waits for other writers no longer than `patience`, if one is given.
    pub fn open(&self, patience: Option<Duration>) -> Result<Box<dyn Store>, Problem> {
        Ok(match self {
            Self::File(path) => {
                let mut store = SqliteStore::open(path)?;
                if let Some(patience) = patience {
                    store.set_patience(patience)?;
                }
                Box::new(store)
            }
            Self::Database(access) => {
                postgres::open((**access).clone(), patience).map_err(|error| self.problem(error, "open"))?
            }
        })
    }

    /// A place that somebody names: the address of a database, or `file` for the file in the ward's folder.
    pub fn named(text: &str, dir: &Path, password: Option<&Path>) -> Result<Self, Problem> {
        if text == "file" {
            return Ok(Self::File(dir.join(STORE)));
        }
        let address = DatabaseAddress::parse(text, false).map_err(|error| {
            Problem::usage("this is not a place for a ward")
                .because(error)
                .next(format!("name `file`, or a database such as '{EXAMPLE}'"))
        })?;
        let password_file = password.map(|path| path.to_string_lossy().into_owned());
        Self::of(dir, &StoreSettings { database: Some(address), password_file, insecure: None })
    }

    /// The ward that is there, as tables full of rows.
    pub fn open_whole(&self) -> Result<Box<dyn Whole>, Problem> {
        Ok(match self {
            Self::File(path) => Box::new(SqliteStore::open(path)?),
            Self::Database(access) => {
                postgres::open_whole((**access).clone()).map_err(|error| self.problem(error, "open"))?
            }
        })
    }

    /// What becomes a copy of the ward with the name `of`.
    pub fn open_copy(&self, of: &str) -> Result<Box<dyn Whole>, Problem> {
        match self {
            Self::File(path) => SqliteStore::open_copy(path, of).map(boxed),
            Self::Database(access) => postgres::open_copy((**access).clone(), of),
        }
        .map_err(|error| match error {
            StoreError::Exists { .. } => Problem::refused(format!("the ward cannot be copied to {self}"))
                .because("there is a ward already, or something else")
                .next("name an empty place"),
            error => self.problem(error, "use"),
        })
    }

    /// Makes the store of a new ward.
    pub fn create(&self, founding: &Founding<'_>, cause: &Cause) -> Result<Box<dyn Store>, Problem> {
        match self {
            Self::File(path) => Ok(Box::new(SqliteStore::create(path, founding, cause)?)),
            Self::Database(access) => {
                postgres::create((**access).clone(), founding, cause).map_err(|error| self.problem(error, "use"))
            }
        }
    }

    /// What is wrong with a database, with where it is.
    fn problem(&self, error: StoreError, act: &str) -> Problem {
        let problem =
            |next: &str| Problem::failed(format!("cannot {act} the database {self}")).because(&error).next(next);
        match &error {
            StoreError::Away { .. } => problem("see that it runs, and that its role and its name are right"),
            StoreError::Unsafe { .. } => problem("set it right there, or name another in ward.toml under [store]"),
            StoreError::Exists { .. } => Problem::refused(format!("there is a ward already in the database {self}"))
                .next("name another database, or open that ward: its ward.toml names this one"),
            StoreError::Absent { .. } => Problem::not_found(format!("there is no ward in the database {self}"))
                .next("see that its name is right, or make a ward there: init --store"),
            _ => error.into(),
        }
    }
}

fn boxed(store: SqliteStore) -> Box<dyn Whole> {
    Box::new(store)
}

/// The password that a file consists of, with the rights that a secret needs.
fn password_file(path: &Path) -> Result<Zeroizing<String>, Problem> {
    secret(path)?;
    let text = Zeroizing::new(files::read_text(path, MAX_FILE)?);
    let password = text.strip_suffix('\n').unwrap_or(&text);
    let password = password.strip_suffix('\r').unwrap_or(password);
    match password.is_empty() || password.chars().any(char::is_control) {
        true => Err(Problem::refused(format!("{} holds no password", path.display()))
            .because("a password is one line that is not empty")),
        false => Ok(Zeroizing::new(password.to_owned())),
    }
}

/// Refuses a file that others can read.
fn secret(path: &Path) -> Result<(), Problem> {
    use std::os::unix::fs::PermissionsExt;
    let found = std::fs::metadata(path).map_err(|error| Problem::file("read", path, &error))?;
    match found.permissions().mode() & 0o077 {
        0 => Ok(()),
        _ => Err(Problem::refused(format!("{} is not taken", path.display()))
            .because("others can read it, and it holds a password")
            .next(format!("chmod 600 {}", path.display()))),
    }
}

/// The password for a database from a file of many: `HOST:PORT:DATABASE:USER:PASSWORD` a line, `*` for any, `\` before a `:` or `\`
/// that is meant as such (the database's manual, "The Password File").
fn passfile(path: &Path, address: &DatabaseAddress) -> Result<Option<Zeroizing<String>>, Problem> {
    secret(path)?;
    let text = Zeroizing::new(files::read_text(path, MAX_FILE)?);
    Ok(text.lines().find_map(|line| password_of(line, address)))
}

/// The password of a line, if it is about this database: about any of its hosts, as all of them are one database.
fn password_of(line: &str, address: &DatabaseAddress) -> Option<Zeroizing<String>> {
    if line.starts_with('#') {
        return None;
    }
    let mut fields = vec![Zeroizing::new(String::new())];
    let mut characters = line.chars();
    while let Some(character) = characters.next() {
        let last = fields.len() - 1;
        match character {
            '\\' => fields[last].extend(characters.next()),
            // The password is what is left.
            ':' if last < 4 => fields.push(Zeroizing::new(String::new())),
            other => fields[last].push(other),
        }
    }
    let [host, port, database, user, password] = <[_; 5]>::try_from(fields).ok()?;
    let fits = |field: &str, wanted: &str| field == "*" || field == wanted;
    let at = |known: &DatabaseHost| match known {
        DatabaseHost::Socket { folder, port: own } => {
            (fits(&host, folder) || host.as_str() == "localhost") && fits(&port, &own.to_string())
        }
        DatabaseHost::Tcp(endpoint) => fits(&host, &endpoint.host) && fits(&port, &endpoint.port.to_string()),
    };
    let is_it = address.hosts.iter().any(at) && fits(&database, &address.database) && fits(&user, &address.user);
    (is_it && !password.is_empty()).then_some(password)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(line: &str, address: &str) -> Option<String> {
        let address = DatabaseAddress::parse(address, true).unwrap();
        password_of(line, &address).map(|password| password.to_string())
    }

    #[test]
    fn the_password_is_that_of_the_line_that_is_about_the_database() {
        let tcp = "postgresql://o@db.example:5433/north?sslmode=disable";
        let socket = "postgresql:///north?host=/run/pg&user=o";
        for (line, address, want) in [
            ("db.example:5433:north:o:secret", tcp, Some("secret")),
            ("*:*:*:*:se:cret", tcp, Some("se:cret")),
            ("*:*:*:*:se\\:cr\\\\et", tcp, Some("se:cr\\et")),
            ("localhost:5432:north:o:secret", socket, Some("secret")),
            ("/run/pg:*:north:o:secret", socket, Some("secret")),
            ("db.example:5432:north:o:secret", tcp, None),
            ("localhost:5433:north:o:secret", tcp, None),
            ("db.example:5433:south:o:secret", tcp, None),
            ("db.example:5433:north:p:secret", tcp, None),
            ("#*:*:*:*:secret", tcp, None),
            ("*:*:*:*:", tcp, None),
            ("*:*:*:*", tcp, None),
            ("", tcp, None),
        ] {
            assert_eq!(found(line, address).as_deref(), want, "{line}");
        }
    }

    #[test]
    fn a_file_of_passwords_that_others_can_read_is_refused() {
        use std::os::unix::fs::PermissionsExt;
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("store.pw");
        std::fs::write(&path, "secret\n").unwrap();
        let rights = |mode| std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
        rights(0o640);
        let refused = password_file(&path).unwrap_err().text_for_people();
        assert!(refused.contains("others can read it") && !refused.contains("secret"), "{refused}");
        rights(0o600);
        assert_eq!(password_file(&path).unwrap().as_str(), "secret");
        for bad in ["", "\n", "a\nb\n"] {
            std::fs::write(&path, bad).unwrap();
            assert!(password_file(&path).is_err(), "{bad:?}");
        }
        let missing = password_file(&dir.path().join("none")).unwrap_err();
        assert!(missing.text_for_people().contains("does not exist"));
    }
}
