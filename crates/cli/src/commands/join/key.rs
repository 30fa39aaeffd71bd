//! The keys of a device that joins: in a file, or on a PKCS#11 token whose place a file tells (RFC 7512).

use std::fs::{File, Metadata};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{FlockOperation, flock};
use tidy_warden_core::key::{KeyUri, NewKey, Signer, SoftwareKey, sha256};
use tidy_warden_hsm::{HsmError, Token};
use tidy_warden_ward::files::{self, Access, PendingFolder};
use zeroize::Zeroizing;

use super::MAX_FILE;
use crate::console::Console;
use crate::passphrase;
use crate::problem::Problem;

/// The file of an outfit that holds the key.
pub(super) const KEY: &str = "device.key";

/// The file of an outfit that says where the key is instead.
pub(super) const URI: &str = "key.uri";

/// What PINs are asked with.
#[derive(Clone, Copy)]
pub(super) struct Pins<'a> {
    pub(super) console: &'a Console,
    pub(super) file: Option<&'a Path>,
}

/// How a key is handed on in an outfit.
enum Form {
    /// As itself, PKCS#8 in PEM.
    Pem(Zeroizing<String>),
    /// As its name on a token that is open.
    Uri(KeyUri, Token),
}

/// A device's key.
pub(super) struct DeviceKey {
    pub(super) signer: Arc<dyn Signer>,
    form: Form,
}

fn told(uri: &KeyUri, error: &HsmError) -> Problem {
    let problem = Problem::failed(format!("the key `{}` on the token `{}` cannot be used", uri.object, uri.token));
    let problem = problem.because(error);
    match error {
        HsmError::Module { .. } => problem.next("check module-path in the key's URI"),
        HsmError::NoToken { .. } => problem.next("plug the token in, or name another"),
        HsmError::Pin => problem.next("check the PIN file; a token locks itself after a few wrong ones"),
        _ => problem,
    }
}

impl DeviceKey {
    /// The key that a file holds or names. One that is on its token not yet is made there if `new` says of what type.
    pub(super) fn read(path: &Path, new: Option<NewKey>, pins: Pins<'_>) -> Result<Self, Problem> {
        let octets = Zeroizing::new(files::read(path, MAX_FILE)?);
        if octets.starts_with(b"pkcs11:") {
            let text = String::from_utf8_lossy(&octets);
            let uri = text.trim_end().parse::<KeyUri>();
            let uri = uri.map_err(|error| Problem::failed(format!("cannot read {}", path.display())).because(error))?;
            return Self::on_token(uri, new, pins);
        }
        let key = SoftwareKey::from_pkcs8_pem(&octets).ok();
        let key =
            key.ok_or_else(|| Problem::failed(format!("{} holds no private key that can be used", path.display())))?;
        let pem = key.to_pkcs8_pem().map_err(|error| Problem::failed("the key cannot be used").because(error))?;
        Ok(Self { signer: Arc::new(key), form: Form::Pem(pem) })
    }

    fn on_token(uri: KeyUri, new: Option<NewKey>, pins: Pins<'_>) -> Result<Self, Problem> {
        let file = uri.pin.as_deref().map(Path::new).or(pins.file);
        let pin = passphrase::get_pin(file, &uri.token, pins.console)?;
        let failed = |error: HsmError| told(&uri, &error);
        let token = Token::open(Path::new(&uri.module), &uri.token, &pin).map_err(failed)?;
        let key = match (token.key(&uri.object), new) {
            (Err(HsmError::NoKey(_)), Some(new)) => token.make_key(&uri.object, new),
            (found, _) => found,
        };
        let signer = Arc::new(key.map_err(failed)?);
        Ok(Self { signer, form: Form::Uri(uri, token) })
    }

    /// The outfit's key, in the file or on the token.
    pub(super) fn of_outfit(out: &Path, pins: Pins<'_>) -> Result<Self, Problem> {
        let named = out.join(URI);
        let path = if named.symlink_metadata().is_ok() { named } else { out.join(KEY) };
        Self::read(&path, None, pins)
    }

    /// The name of the key that comes after it, if it is on a token.
    pub(super) fn next(&self) -> Option<KeyUri> {
        match &self.form {
            Form::Pem(_) => None,
            Form::Uri(uri, _) => Some(uri.next()),
        }
    }

    pub(super) fn is_same(&self, other: &Self) -> bool {
        self.signer.public_key() == other.signer.public_key()
    }

    /// Puts it into an outfit.
    pub(super) fn add_to(&self, folder: &PendingFolder) -> std::io::Result<()> {
        match &self.form {
            Form::Pem(pem) => folder.add(KEY, pem.as_bytes(), Access::Secret),
            // Where a key is can be read by whoever uses it; the PIN, or the file with it, is another matter.
            Form::Uri(uri, _) => folder.add(URI, format!("{uri}\n").as_bytes(), Access::Public),
        }
    }

    /// Takes it off its token for good; one in a file goes with that.
    pub(super) fn forget(&self) -> Result<(), Problem> {
        match &self.form {
            Form::Pem(_) => Ok(()),
            Form::Uri(uri, token) => token.remove_key(&uri.object).map(drop).map_err(|error| told(uri, &error)),
        }
    }

    pub(super) fn is_on_token(&self) -> bool {
        matches!(self.form, Form::Uri(..))
    }
}

/// A key that nobody has a certificate for yet, beside the outfit. Locked, so that two at once do not work on it.
pub(super) struct Kept {
    path: PathBuf,
    pub(super) key: DeviceKey,
    _lock: File,
}

impl Kept {
    /// The key that waits for its certificate, or a new one: on a token, if `uri` names one.
    pub(super) fn at(out: &Path, new: NewKey, uri: Option<&KeyUri>, pins: Pins<'_>) -> Result<Self, Problem> {
        let name = out.file_name().unwrap_or_default().to_string_lossy();
        let path = out.with_file_name(format!("{name}.key"));
        if path.symlink_metadata().is_err() {
            let text = match uri {
                // Its name first: whoever is killed in between finds by it the key that was made.
                Some(uri) => Zeroizing::new(format!("{uri}\n")),
                None => SoftwareKey::generate(new)
                    .and_then(|key| key.to_pkcs8_pem())
                    .map_err(|error| Problem::failed("no key was made").because(error))?,
            };
            files::replace_secret(&path, text.as_bytes()).map_err(|error| Problem::file("write", &path, &error))?;
        }
        let lock = File::open(&path).map_err(|error| Problem::file("read", &path, &error))?;
        let is_ours = flock(&lock, FlockOperation::NonBlockingLockExclusive).is_ok();
        // Whoever was done in between removed it, and another may stand there by now.
        let file = |metadata: std::io::Result<Metadata>| metadata.ok().map(|it| (it.dev(), it.ino()));
        let is_there = file(lock.metadata()) == file(path.symlink_metadata());
        if !is_ours || !is_there {
            return Err(Problem::failed(format!("another process works on {}", path.display()))
                .next("wait until it is done, then repeat this"));
        }
        let key = DeviceKey::read(&path, Some(new), pins)?;
        if uri.is_some() && !key.is_on_token() {
            return Err(Problem::refused(format!("{} holds a key, and names none on a token", path.display()))
                .next("remove it, if no certificate is to come for it; or leave --key-uri away"));
        }
        Ok(Self { path, key, _lock: lock })
    }

    pub(super) fn digest(&self) -> [u8; 32] {
        sha256(self.key.signer.public_key().spki())
    }

    pub(super) fn remove(&self) -> Result<(), Problem> {
        std::fs::remove_file(&self.path).map_err(|error| Problem::file("remove", &self.path, &error))
    }
}
