//! `[store]`: where the ward keeps what it knows, if that is not a file in its folder.

use toml::de::DeValue;

use super::key::{Key, Section};
use super::reader::{Reader, Table};
use crate::database::DatabaseAddress;

/// The keys of `[store]`.
pub(super) const STORE: Section = Section {
    head: "[store]",
    example: "[store]",
    about: "Where the ward keeps what it knows, if not in `ward.db` in its folder. Read when a command or the guard starts.",
    keys: &[URL, PASSWORD_FILE, INSECURE],
};

const URL: Key = Key::example(
    "url",
    "\"postgresql:///north?host=/run/postgresql&user=north_operator\"",
    "the address of a PostgreSQL database, such as \"postgresql:///north?host=/run/postgresql&user=north_operator\"",
    "the database; `init --store URL` makes a ward there",
);
const PASSWORD_FILE: Key = Key::example(
    "password_file",
    "\"store.pw\"",
    "the path of a file",
    "a file with the role's password, relative to the ward; without it PGPASSFILE is looked into",
);
const INSECURE: Key = Key::example(
    "insecure",
    "\"a network of its own\"",
    "the reason, in words",
    "why hosts elsewhere may be asked without TLS, and a password may go over loopback without it",
);

/// `[store]`.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct StoreSettings {
    /// `url`: the database, if the ward is not in a file.
    pub database: Option<DatabaseAddress>,
    /// `password_file`: a file with the password of its role, relative to the ward.
    pub password_file: Option<String>,
    /// `insecure`: why less than a checked TLS connection will do.
    pub insecure: Option<String>,
}

impl Reader<'_> {
    pub(super) fn store(&mut self, root: &Table<'_>) -> StoreSettings {
        let Some(table) = self.section(root, "store", &STORE) else { return StoreSettings::default() };
        let insecure = self.text(table, &INSECURE, |text| {
            (!text.trim().is_empty() && !text.chars().any(char::is_control)).then(|| text.to_owned())
        });
        let password_file = self.path(table, &PASSWORD_FILE);
        self.together(table, &PASSWORD_FILE, &URL, "expected url = \"...\" beside it");
        let database = match table.get(URL.name).map(|value| (value.span(), value.get_ref())) {
            // What is wrong with an address is told in its own words, and without the line, which may hold a password.
            Some((span, DeValue::String(text))) => match DatabaseAddress::parse(text, insecure.is_some()) {
                Ok(address) => Some(address),
                Err(error) => {
                    self.complain_hidden(span, error.problem, &format!("expected {}", URL.expected));
                    None
                }
            },
            _ => self.text(table, &URL, |_| None),
        };
        StoreSettings { database, password_file, insecure }
    }
}
