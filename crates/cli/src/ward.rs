//! A ward that is open: its folder, settings, store and clock.

use std::path::{Path, PathBuf};

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{OpenError, SoftwareKey};
use tidy_warden_core::policy::{Edition, PolicyFile};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_core::token::Parties;
use tidy_warden_store::{AuthorityRecord, AuthorityRole, Cause, DeviceView, SqliteStore, Store, WardRecord};

use crate::clock::WardClock;
use crate::files;
use crate::passphrase::Passphrase;
use crate::problem::Problem;

/// The longest `ward.toml` and the longest policy file read, in octets.
const MAX_TEXT: u64 = 4 * 1024 * 1024;

/// The file names of a ward.
pub(crate) const SETTINGS: &str = "ward.toml";
pub(crate) const STORE: &str = "ward.db";
pub(crate) const KEYS: &str = "keys";
pub(crate) const POLICIES: &str = "policies";

/// An open ward.
pub(crate) struct Ward {
    pub(crate) dir: PathBuf,
    pub(crate) settings: Settings,
    pub(crate) store: SqliteStore,
    pub(crate) record: WardRecord,
    pub(crate) clock: WardClock,
}

/// Who acts, for the audit record.
pub(crate) fn actor() -> String {
    let name = ["TIDY_WARDEN_ACTOR", "USER", "LOGNAME"].into_iter().find_map(|name| std::env::var(name).ok());
    let named = name.filter(|name| !name.is_empty()).unwrap_or_else(|| {
        use std::os::unix::fs::MetadataExt;
        let process = std::fs::metadata("/proc/self");
        process.map_or_else(|_| "unknown".to_owned(), |process| format!("uid-{}", process.uid()))
    });
    named.chars().take(64).collect()
}

/// Reads `ward.toml`.
pub(crate) fn read_settings(dir: &Path) -> Result<(Settings, String), Problem> {
    let path = dir.join(SETTINGS);
    if !path.exists() {
        return Err(Problem::not_found(format!("there is no ward in {}", dir.display()))
            .because(format!("{} does not exist", path.display()))
            .next("name the ward's folder with --ward or TIDY_WARDEN_WARD, or make one: init"));
    }
    let text = files::read_text(&path, MAX_TEXT)?;
    let settings = Settings::parse(&Source::new(SETTINGS, &text))
        .map_err(|errors| Problem::text(format!("{} has mistakes", path.display()), &errors))?;
    Ok((settings, text))
}

impl Ward {
    /// Opens the ward in `dir`; notes in the audit record if its settings changed.
    pub(crate) fn open(dir: &Path) -> Result<Self, Problem> {
        let (settings, text) = read_settings(dir)?;
        let store = SqliteStore::open(&dir.join(STORE))?;
        let record = store.ward()?;
        let clock = WardClock::of(record.rehearsal)?;
        let mut ward = Self { dir: dir.to_owned(), settings, store, record, clock };
        let known = ward.store.settings_text()?;
        if known != text {
            let cause = ward.cause(None);
            ward.store.record_settings(&text, &difference(&known, &text), &cause)?;
        }
        Ok(ward)
    }

    /// Another handle on the same store.
    pub(crate) fn another_store(&self) -> Result<Box<dyn Store>, Problem> {
        Ok(Box::new(SqliteStore::open(&self.dir.join(STORE))?))
    }

    /// The present instant by the ward's clock.
    pub(crate) fn now(&self) -> UnixTime {
        self.clock.now()
    }

    /// Who acts, when and why.
    pub(crate) fn cause(&self, because: Option<&str>) -> Cause {
        Cause { at: self.now(), actor: actor(), because: because.unwrap_or_default().to_owned() }
    }

    /// A device that is listed.
    pub(crate) fn device(&self, id: &DeviceId) -> Result<DeviceView, Problem> {
        let found = self.store.devices(std::slice::from_ref(id))?.pop().flatten();
        found.ok_or_else(|| {
            Problem::not_found(format!("there is no device `{id}`"))
                .next(format!("see `device list`, or list it: device add {id} --kind KIND"))
        })
    }

    /// The authority of a role; the first, while there is one of each.
    pub(crate) fn authority(&self, role: AuthorityRole) -> Result<AuthorityRecord, Problem> {
        let found = self.store.authorities()?.into_iter().find(|authority| authority.role == role);
        found.ok_or_else(|| Problem::not_found(format!("the ward has no authority for {}", role.as_str())))
    }

    /// The root's certificate.
    pub(crate) fn root(&self) -> Result<Certificate, Problem> {
        Ok(self.authority(AuthorityRole::Root)?.certificate)
    }

    /// Opens a locked key.
    pub(crate) fn key(&self, name: &str, passphrase: &Passphrase) -> Result<SoftwareKey, Problem> {
        let path = self.dir.join(KEYS).join(format!("{name}.key"));
        let pem = files::read_text(&path, 64 * 1024)?;
        SoftwareKey::open(&pem, passphrase).map_err(|error| {
            let problem = Problem::failed(format!("cannot open the key {}", path.display())).because(&error);
            match error {
                OpenError::Passphrase => problem.next("check the passphrase file, or type it again"),
                _ => problem.next("put the file back from a copy of the ward"),
            }
        })
    }

    /// Who signs tokens, and for whom.
    pub(crate) fn parties(&self) -> Parties {
        Parties { issuer: self.record.urn.clone(), audience: format!("mqtts://{}", self.settings.endpoints.mqtt) }
    }

    /// The adopted edition, ready to decide by; `None` if there is none.
    pub(crate) fn edition(&self) -> Result<Option<Edition>, Problem> {
        match self.store.edition(None)? {
            None => Ok(None),
            Some(record) => Edition::read(record.number, &record.files).map(Some).map_err(|errors| {
                Problem::text(format!("edition {} cannot be read by this version", record.number), &errors)
                    .next("adopt the policies again")
            }),
        }
    }

    /// The policy files of the ward.
    pub(crate) fn policy_files(&self) -> Result<Vec<PolicyFile>, Problem> {
        policy_files(&self.dir.join(POLICIES), POLICIES)
    }
}

/// The policy files in a folder, by name; `shown` is what errors call the folder.
pub(crate) fn policy_files(folder: &Path, shown: &str) -> Result<Vec<PolicyFile>, Problem> {
    let failed = |error: std::io::Error| Problem::file("read", folder, &error);
    let mut paths = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let path = entry.map_err(failed)?.path();
        if path.extension().is_some_and(|extension| extension == "policy") {
            paths.push(path);
        }
    }
    paths.sort();
    let file = |path: PathBuf| {
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        Ok(PolicyFile { name: format!("{shown}/{name}"), text: files::read_text(&path, MAX_TEXT + 1)? })
    };
    paths.into_iter().map(file).collect()
}

/// What changed between two texts, line by line, as the detail of an audit entry.
fn difference(old: &str, new: &str) -> String {
    let only_in = |text: &str, other: &str| {
        let mut theirs: Vec<&str> = other.lines().collect();
        let mut only = Vec::new();
        for line in text.lines() {
            match theirs.iter().position(|each| *each == line) {
                Some(at) => {
                    theirs.swap_remove(at);
                }
                None => only.push(line.to_owned()),
            }
        }
        only
    };
    let digest = data_encoding::HEXLOWER.encode(&tidy_warden_core::key::sha256(new.as_bytes()));
    json!({ "sha256": digest, "removed": only_in(old, new), "added": only_in(new, old) }).to_string()
}
