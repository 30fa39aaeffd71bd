//! Private keys of authorities, wherever they are kept.

use std::path::Path;
use std::sync::Arc;

use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole, KeyPlace};
use tidy_warden_core::key::{LockCost, NewKey, OpenError, PublicKey, Signer, SoftwareKey};
use tidy_warden_core::shared::DataKey;
use tidy_warden_hsm::{HsmError, Token};
use zeroize::Zeroizing;

use crate::clock::SystemRandom;
use crate::files::{self, Access};
use crate::open::{KEYS, Ward};
use crate::problem::Problem;

/// The largest key file: an RSA key of 8192 bits, locked, has about 6 KB.
const MAX_KEY: u64 = 64 * 1024;

/// A passphrase in memory; overwritten when it is dropped.
pub type Passphrase = Zeroizing<Vec<u8>>;

/// Who has what opens keys: a person at a terminal, files, or a server that was told once. Each is asked for only if it is needed.
pub trait Openers {
    /// The passphrase of the ward's keys; `what` it opens is told to whoever is asked.
    ///
    /// # Errors
    /// There is none to be had.
    fn passphrase(&self, what: &str) -> Result<&Passphrase, Problem>;

    /// The passphrase of a root.
    ///
    /// # Errors
    /// There is none to be had.
    fn root_passphrase(&self, name: &str) -> Result<&Passphrase, Problem>;

    /// The PIN of a PKCS#11 token.
    ///
    /// # Errors
    /// There is none to be had.
    fn pin(&self, token: &str) -> Result<&Passphrase, Problem>;

    /// The file of a key that is kept away from the ward.
    fn key_file(&self) -> Option<&Path>;

    /// A key that was opened before, if it was.
    fn known(&self, _key: &PublicKey) -> Option<Arc<dyn Signer>> {
        None
    }

    /// The key that signs notices, if it was opened before.
    fn known_for_notices(&self) -> Option<Arc<dyn Signer>> {
        None
    }

    /// What opens the keys that devices share with the ward, if it was opened before.
    fn known_data_key(&self) -> Option<DataKey> {
        None
    }

    /// An authority's key, ready to sign.
    ///
    /// # Errors
    /// It cannot be opened, or is another authority's.
    fn signer(&self, ward: &Ward, authority: &AuthorityRecord) -> Result<Arc<dyn Signer>, Problem> {
        let root = authority.role == AuthorityRole::Root;
        let signer = signer_of(self, ward, authority.name.as_str(), &authority.key, root)?;
        if *signer.public_key() != authority.certificate.public_key {
            return Err(Problem::refused(format!("`{}` cannot sign", authority.name))
                .because("the key does not belong to its certificate")
                .next("name the right key, or put the file back from a copy of the ward"));
        }
        Ok(signer)
    }

    /// The key of an authority that may have no certificate yet.
    ///
    /// # Errors
    /// It cannot be opened.
    fn signer_at(&self, ward: &Ward, name: &str, place: &KeyPlace) -> Result<Arc<dyn Signer>, Problem> {
        signer_of(self, ward, name, place, false)
    }

    /// A PKCS#11 token, opened with its PIN.
    ///
    /// # Errors
    /// The ward knows no module, or the token cannot be opened.
    fn token(&self, ward: &Ward, label: &str) -> Result<Token, Problem> {
        let module = ward.settings.hsm_module.as_ref().ok_or_else(|| {
            Problem::refused("the ward knows no PKCS#11 module")
                .next("add to ward.toml: [hsm] with module = \"/usr/lib/softhsm/libsofthsm2.so\", or your token's")
        })?;
        let pin = self.pin(label)?;
        Token::open(Path::new(module), label, pin)
            .map_err(|error| hsm_problem(&format!("the token `{label}` cannot be used"), &error))
    }

    /// Makes a key for an authority and puts it in its place; gives it and where it is.
    ///
    /// # Errors
    /// It cannot be made or kept.
    fn make(
        &self,
        ward: &Ward,
        name: &str,
        new: NewKey,
        token: Option<&str>,
    ) -> Result<(Arc<dyn Signer>, KeyPlace), Problem> {
        let Some(token) = token else {
            let passphrase = self.passphrase("the ward's keys")?;
            strong_enough(passphrase, "the new key")?;
            let key =
                SoftwareKey::generate(new).map_err(|error| Problem::failed("cannot make a key").because(error))?;
            let path = ward.dir.join(KEYS).join(format!("{name}.key"));
            lock(&key, &path, passphrase, ward.lock_cost())?;
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

fn signer_of<O: Openers + ?Sized>(
    openers: &O,
    ward: &Ward,
    name: &str,
    place: &KeyPlace,
    root: bool,
) -> Result<Arc<dyn Signer>, Problem> {
    match place {
        KeyPlace::Ward => {
            let path = ward.dir.join(KEYS).join(format!("{name}.key"));
            software_key(openers, &path, name, root)
        }
        KeyPlace::Away => match openers.key_file() {
            Some(path) => software_key(openers, path, name, root),
            None => Err(Problem::usage(format!("the key of `{name}` is kept away from the ward"))
                .next("name its file with --root-key FILE")),
        },
        KeyPlace::Token { token, label } => {
            let token = openers.token(ward, token)?;
            let key = token.key(label).map_err(|error| hsm_problem(&format!("`{name}` cannot sign"), &error))?;
            Ok(Arc::new(key))
        }
        KeyPlace::Nowhere => Err(Problem::refused(format!("`{name}` cannot sign here"))
            .because("the ward knows its certificate and does not have its key")),
    }
}

fn software_key<O: Openers + ?Sized>(
    openers: &O,
    path: &Path,
    name: &str,
    root: bool,
) -> Result<Arc<dyn Signer>, Problem> {
    let passphrase =
        if root { openers.root_passphrase(name)? } else { openers.passphrase(&format!("the authority `{name}`"))? };
    Ok(Arc::new(open(path, passphrase)?))
}

/// The fewest characters of a new passphrase. Whoever has the files of a ward tries thousands a second.
const LEAST: usize = 12;

/// Refuses a passphrase that is too short to lock anything with.
///
/// # Errors
/// It is.
pub fn strong_enough(passphrase: &Passphrase, what: &str) -> Result<(), Problem> {
    let text = String::from_utf8_lossy(passphrase);
    let kinds: std::collections::HashSet<char> = text.chars().collect();
    if text.chars().count() < LEAST || kinds.len() < 5 {
        return Err(Problem::refused(format!("the passphrase for {what} is too weak"))
            .because(format!("it has fewer than {LEAST} characters, or nearly all of them are the same"))
            .next("take four or more words that nobody would guess together"));
    }
    Ok(())
}

/// Opens a locked key file.
///
/// # Errors
/// It cannot be read, or the passphrase is another.
pub fn open(path: &Path, passphrase: &Passphrase) -> Result<SoftwareKey, Problem> {
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
///
/// # Errors
/// The file is there already, or cannot be written.
pub fn lock(key: &SoftwareKey, path: &Path, passphrase: &Passphrase, cost: LockCost) -> Result<(), Problem> {
    let locked = key
        .lock(passphrase, cost, &mut SystemRandom)
        .map_err(|error| Problem::failed("cannot lock the key").because(error))?;
    // One that is there in part would stand in the way for good.
    files::create_whole(path, locked.as_bytes(), Access::Secret).map_err(|error| Problem::file("write", path, &error))
}

/// Opens a key of the ward's own that is locked in a file of its folder of keys; makes it (P-256) where there is none. One that a process left
/// which was killed is taken up. `name` says in words what it is.
///
/// # Errors
/// It can be neither opened nor made, or there is no passphrase.
pub fn open_or_make(ward: &Ward, openers: &dyn Openers, file: &str, name: &str) -> Result<SoftwareKey, Problem> {
    let path = ward.dir.join(KEYS).join(file);
    let passphrase = openers.passphrase(name)?;
    if path.exists() {
        return open(&path, passphrase);
    }
    let key = SoftwareKey::generate(NewKey::P256);
    let key = key.map_err(|error| Problem::failed(format!("cannot make {name}")).because(error))?;
    match lock(&key, &path, passphrase, ward.lock_cost()) {
        Ok(()) => Ok(key),
        // Somebody else was quicker.
        Err(_) if path.exists() => open(&path, passphrase),
        Err(problem) => Err(problem),
    }
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
