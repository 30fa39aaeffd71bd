//! Private keys of authorities, wherever they are kept, and the secrets that open them, asked for once and only if needed.

use std::cell::OnceCell;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole, KeyPlace};
use tidy_warden_core::key::{NewKey, OpenError, Signer, SoftwareKey};
use tidy_warden_hsm::{HsmError, Token};

use crate::clock::SystemRandom;
use crate::console::Console;
use crate::files::{self, Access};
use crate::passphrase::{self, Passphrase, Typed};
use crate::problem::Problem;
use crate::ward::{KEYS, Ward};

/// The largest key file: an RSA key of 8192 bits, locked, has about 6 KB.
const MAX_KEY: u64 = 64 * 1024;

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

    /// The passphrase of a root: its own file, else that of the ward, else the terminal, which is asked for it alone.
    fn root_passphrase(&self, name: &str) -> Result<&Passphrase, Problem> {
        let file = self.root_passphrase_file.as_deref().or(self.passphrase_file.as_deref());
        if let (None, Some(known)) = (file, self.passphrase.get().filter(|_| self.known)) {
            return Ok(known);
        }
        let what = format!("the root `{name}`");
        once(&self.root_passphrase, || passphrase::get(file, &what, Typed::Once, self.console))
    }

    /// A passphrase that is known already.
    pub(crate) fn known(console: &'c Console, passphrase: &Passphrase) -> Self {
        let secrets = Self { known: true, ..Self::new(console, None, None) };
        let _ = secrets.passphrase.set(passphrase.clone());
        secrets
    }

    /// The passphrase; `what` it opens is what the terminal asks for.
    pub(crate) fn passphrase(&self, what: &str) -> Result<&Passphrase, Problem> {
        once(&self.passphrase, || passphrase::get(self.passphrase_file.as_deref(), what, Typed::Once, self.console))
    }

    fn pin(&self, token: &str) -> Result<&Passphrase, Problem> {
        once(&self.pin, || passphrase::get_pin(self.pin_file.as_deref(), token, self.console))
    }

    /// An authority's key, ready to sign.
    pub(crate) fn signer(&self, ward: &Ward, authority: &AuthorityRecord) -> Result<Arc<dyn Signer>, Problem> {
        let root = authority.role == AuthorityRole::Root;
        let signer = self.signer_of(ward, authority.name.as_str(), &authority.key, root)?;
        if *signer.public_key() != authority.certificate.public_key {
            return Err(Problem::refused(format!("`{}` cannot sign", authority.name))
                .because("the key does not belong to its certificate")
                .next("name the right key, or put the file back from a copy of the ward"));
        }
        Ok(signer)
    }

    /// The key of an authority that may have no certificate yet.
    pub(crate) fn signer_at(&self, ward: &Ward, name: &str, place: &KeyPlace) -> Result<Arc<dyn Signer>, Problem> {
        self.signer_of(ward, name, place, false)
    }

    fn signer_of(&self, ward: &Ward, name: &str, place: &KeyPlace, root: bool) -> Result<Arc<dyn Signer>, Problem> {
        match place {
            KeyPlace::Ward => {
                let path = ward.dir.join(KEYS).join(format!("{name}.key"));
                self.software_key(&path, name, root)
            }
            KeyPlace::Away => match &self.key_file {
                Some(path) => self.software_key(path, name, root),
                None => Err(Problem::usage(format!("the key of `{name}` is kept away from the ward"))
                    .next("name its file with --root-key FILE")),
            },
            KeyPlace::Token { token, label } => {
                let token = self.token(ward, token)?;
                let key = token.key(label).map_err(|error| hsm_problem(&format!("`{name}` cannot sign"), &error))?;
                Ok(Arc::new(key))
            }
            KeyPlace::Nowhere => Err(Problem::refused(format!("`{name}` cannot sign here"))
                .because("the ward knows its certificate and does not have its key")),
        }
    }

    fn software_key(&self, path: &Path, name: &str, root: bool) -> Result<Arc<dyn Signer>, Problem> {
        let passphrase =
            if root { self.root_passphrase(name)? } else { self.passphrase(&format!("the authority `{name}`"))? };
        Ok(Arc::new(open(path, passphrase)?))
    }

    /// A PKCS#11 token, opened with its PIN.
    pub(crate) fn token(&self, ward: &Ward, label: &str) -> Result<Token, Problem> {
        let module = ward.settings.hsm_module.as_ref().ok_or_else(|| {
            Problem::refused("the ward knows no PKCS#11 module")
                .next("add to ward.toml: [hsm] with module = \"/usr/lib/softhsm/libsofthsm2.so\", or your token's")
        })?;
        let pin = self.pin(label)?;
        Token::open(Path::new(module), label, pin)
            .map_err(|error| hsm_problem(&format!("the token `{label}` cannot be used"), &error))
    }

    /// Makes a key for an authority and puts it in its place; gives it and where it is.
    pub(crate) fn make(
        &self,
        ward: &Ward,
        name: &str,
        new: NewKey,
        token: Option<&str>,
    ) -> Result<(Arc<dyn Signer>, KeyPlace), Problem> {
        let Some(token) = token else {
            let passphrase = self.passphrase("the ward's keys")?;
            passphrase::strong_enough(passphrase, "the new key")?;
            let key =
                SoftwareKey::generate(new).map_err(|error| Problem::failed("cannot make a key").because(error))?;
            let path = ward.dir.join(KEYS).join(format!("{name}.key"));
            lock(&key, &path, passphrase)?;
            return Ok((Arc::new(key), KeyPlace::Ward));
        };
        let place = KeyPlace::Token { token: token.to_owned(), label: name.to_owned() };
        let opened = self.token(ward, token)?;
        let key = opened
            .make_key(name, new)
            .map_err(|error| hsm_problem(&format!("no key was made on the token `{token}`"), &error))?;
        Ok((Arc::new(key), place))
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

/// Opens a locked key file.
pub(crate) fn open(path: &Path, passphrase: &Passphrase) -> Result<SoftwareKey, Problem> {
    let pem = files::read_text(path, MAX_KEY)?;
    SoftwareKey::open(pem.trim_end(), passphrase).map_err(|error| {
        let problem = Problem::failed(format!("cannot open the key {}", path.display())).because(&error);
        match error {
            OpenError::Passphrase => problem.next(
                "check the passphrase file, or type it again; the root's key and the guard's may have passphrases of their own",
            ),
            _ => problem.next("put the file back from a copy of the ward"),
        }
    })
}

/// Writes a key, locked, into a new file.
pub(crate) fn lock(key: &SoftwareKey, path: &Path, passphrase: &Passphrase) -> Result<(), Problem> {
    let locked = key
        .lock(passphrase, &mut SystemRandom)
        .map_err(|error| Problem::failed("cannot lock the key").because(error))?;
    files::create(path, locked.as_bytes(), Access::Secret).map_err(|error| Problem::file("write", path, &error))
}

fn hsm_problem(what: &str, error: &HsmError) -> Problem {
    let problem = Problem::failed(what).because(error);
    match error {
        HsmError::Module { .. } => problem.next("check [hsm] module in ward.toml"),
        HsmError::NoToken { .. } => problem.next("plug the token in, or name another"),
        HsmError::Pin => problem.next("check the PIN file; a token locks itself after a few wrong ones"),
        _ => problem,
    }
}
