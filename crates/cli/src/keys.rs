//! The secrets that open private keys, asked for once and only if needed.

use std::cell::OnceCell;
use std::path::{Path, PathBuf};

pub(crate) use tidy_warden_ward::keys::{Openers, lock, open};

use crate::console::Console;
use crate::passphrase::{self, Passphrase, Typed};
use crate::problem::Problem;

/// Where secrets come from.
pub(crate) struct Secrets<'c> {
    console: &'c Console,
    passphrase_file: Option<PathBuf>,
    pin_file: Option<PathBuf>,
    /// The file of a key that is kept away from the ward.
    key_file: Option<PathBuf>,
    /// The file of the root's passphrase, if it has one of its own.
    root_passphrase_file: Option<PathBuf>,
    passphrase: OnceCell<Passphrase>,
    root_passphrase: OnceCell<Passphrase>,
    pin: OnceCell<Passphrase>,
    /// Whether the passphrase was given by whoever made this, for everything.
    known: bool,
}

impl<'c> Secrets<'c> {
    pub(crate) fn new(console: &'c Console, passphrase_file: Option<&Path>, pin_file: Option<&Path>) -> Self {
        Self {
            console,
            passphrase_file: passphrase_file.map(Path::to_owned),
            pin_file: pin_file.map(Path::to_owned),
            key_file: None,
            root_passphrase_file: None,
            passphrase: OnceCell::new(),
            root_passphrase: OnceCell::new(),
            pin: OnceCell::new(),
            known: false,
        }
    }

    /// With the file of a key that is kept away.
    pub(crate) fn with_key_file(self, key_file: Option<&Path>) -> Self {
        Self { key_file: key_file.map(Path::to_owned), ..self }
    }

    /// With a file of the root's own passphrase.
    pub(crate) fn with_root_passphrase(self, file: Option<&Path>) -> Self {
        Self { root_passphrase_file: file.map(Path::to_owned), ..self }
    }

    /// A passphrase that is known already.
    pub(crate) fn known(console: &'c Console, passphrase: &Passphrase) -> Self {
        let secrets = Self { known: true, ..Self::new(console, None, None) };
        let _ = secrets.passphrase.set(passphrase.clone());
        secrets
    }
}

impl Openers for Secrets<'_> {
    /// The passphrase; `what` it opens is what the terminal asks for.
    fn passphrase(&self, what: &str) -> Result<&Passphrase, Problem> {
        once(&self.passphrase, || passphrase::get(self.passphrase_file.as_deref(), what, Typed::Once, self.console))
    }

    fn pin(&self, token: &str) -> Result<&Passphrase, Problem> {
        once(&self.pin, || passphrase::get_pin(self.pin_file.as_deref(), token, self.console))
    }

    /// The passphrase of a root: its own file, else that of the ward, else the terminal, which is asked for it alone.
    fn root_passphrase(&self, name: &str) -> Result<&Passphrase, Problem> {
        let file = self.root_passphrase_file.as_deref().or(self.passphrase_file.as_deref());
        if let (None, Some(known)) = (file, self.passphrase.get().filter(|_| self.known)) {
            return Ok(known);
        }
        let what = format!("the root `{name}`");
        once(&self.root_passphrase, || passphrase::get(file, &what, Typed::Once, self.console))
    }

    fn key_file(&self) -> Option<&Path> {
        self.key_file.as_deref()
    }
}

/// The value of a cell, filled if it is empty.
fn once<T>(cell: &OnceCell<T>, fill: impl FnOnce() -> Result<T, Problem>) -> Result<&T, Problem> {
    if let Some(value) = cell.get() {
        return Ok(value);
    }
    let value = fill()?;
    Ok(cell.get_or_init(|| value))
}
