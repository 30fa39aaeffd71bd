//! A ward in a temporary folder, and somebody who has its passphrase.

use std::path::{Path, PathBuf};

use tempfile::TempDir;
use tidy_warden_core::authority::{AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::{Certificate, Issuer, Places, SerialNumber, Subject, Template, Usage, self_signed};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{LockCost, NewKey, SoftwareKey};
use tidy_warden_core::settings::new_text;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{Cause, Founding, SqliteStore, WardRecord};
use tidy_warden_ward::bulk::Watch;
use tidy_warden_ward::clock::{SystemRandom, WardClock};
use tidy_warden_ward::keys::{self, Openers, Passphrase};
use tidy_warden_ward::open::Ward;
use tidy_warden_ward::problem::Problem;

/// When it is.
pub const NOW: UnixTime = UnixTime(1_795_417_333);

/// Somebody who has one passphrase for everything, and no token.
pub struct Holder(pub Passphrase);

impl Holder {
    /// Has the one that opens the keys of a [`Bench`].
    #[must_use]
    pub fn right() -> Self {
        Self(Passphrase::new(b"a rope of several words".to_vec()))
    }

    /// Has another one.
    #[must_use]
    pub fn wrong() -> Self {
        Self(Passphrase::new(b"another rope of words".to_vec()))
    }
}

impl Openers for Holder {
    fn passphrase(&self, _: &str) -> Result<&Passphrase, Problem> {
        Ok(&self.0)
    }

    fn root_passphrase(&self, _: &str) -> Result<&Passphrase, Problem> {
        Ok(&self.0)
    }

    fn pin(&self, token: &str) -> Result<&Passphrase, Problem> {
        Err(Problem::usage(format!("nobody knows the PIN of {token}")))
    }

    fn key_file(&self) -> Option<&Path> {
        None
    }
}

/// Nobody watches, or somebody who wants it to stop after so many looks.
pub struct Watched(pub Vec<(u64, u64, u64)>);

impl Watch for Watched {
    fn reached(&mut self, byte: u64, issued: u64, refused: u64) {
        self.0.push((byte, issued, refused));
    }

    fn finish(&self) {}
}

/// Whom nobody stops.
#[must_use]
pub fn nobody() -> Watched {
    Watched(Vec::new())
}

/// A ward, and the folder around it.
pub struct Bench {
    /// The folder around it, which goes with it.
    pub dir: TempDir,
    /// The ward, at a clock that stands at [`NOW`].
    pub ward: Ward,
    /// The key that signs tokens for it, which is its root's too.
    pub token_key: SoftwareKey,
}

impl Default for Bench {
    fn default() -> Self {
        Self::new()
    }
}

impl Bench {
    /// A ward with the kinds `windvane` and `station`.
    #[must_use]
    pub fn new() -> Self {
        Self::with("")
    }

    /// A ward with these kinds, and what else `more` says at the end of its settings.
    #[must_use]
    pub fn with(more: &str) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().join("ward");
        std::fs::create_dir_all(folder.join("keys")).unwrap();
        std::fs::create_dir_all(folder.join("policies")).unwrap();
        let settings = new_text("Ropes", "localhost", Some(32473), None)
            + "[kinds.windvane]\nlife = \"30d\"\n[kinds.station]\ncarries = [\"windvane\"]\n"
            + more;
        std::fs::write(folder.join("ward.toml"), &settings).unwrap();
        let made = |name: &str| {
            let key = SoftwareKey::generate(NewKey::P256).unwrap();
            let path = folder.join("keys").join(format!("{name}.key"));
            keys::lock(&key, &path, &Holder::right().0, LockCost::Rehearsal).unwrap();
            key
        };
        let (root_key, devices_key) = (made("root"), made("devices"));
        let root = signed("root", &root_key, None);
        let devices = signed("devices", &devices_key, Some((&root, &root_key)));
        let ward = WardRecord {
            urn: "urn:uuid:1".into(),
            rehearsal: true,
            token_key: tidy_warden_core::key::Signer::public_key(&root_key).clone(),
        };
        let authorities = [
            ("root".parse().unwrap(), AuthorityRole::Root, root.clone(), KeyPlace::Ward),
            ("devices".parse().unwrap(), AuthorityRole::Devices, devices, KeyPlace::Ward),
        ];
        let founding = Founding { ward, authorities: &authorities, servers: &[("guard", root)], settings: &settings };
        let cause = Cause { at: NOW, actor: "ada".into(), because: "a test".into() };
        SqliteStore::create(&folder.join("ward.db"), &founding, &cause).unwrap();
        let ward = opened(&folder);
        Self { dir, ward, token_key: root_key }
    }

    /// The same ward, opened once more.
    #[must_use]
    pub fn again(&self) -> Ward {
        opened(&self.ward.dir)
    }

    /// A place beside the ward.
    #[must_use]
    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// A file beside the ward.
    pub fn write(&self, name: &str, text: &str) -> PathBuf {
        let path = self.path(name);
        std::fs::write(&path, text).unwrap();
        path
    }

    /// Lists devices of the kind `windvane`.
    pub fn list(&mut self, ids: impl Iterator<Item = String>) -> Vec<DeviceId> {
        let ids: Vec<DeviceId> = ids.map(|id| id.parse().unwrap()).collect();
        let devices: Vec<DeviceRecord> =
            ids.iter().map(|id| DeviceRecord::new(id.clone(), "windvane".parse().unwrap(), NOW)).collect();
        let cause = self.ward.cause(None);
        self.ward.store.add_devices(&devices, &cause).unwrap().unwrap();
        ids
    }

    /// How many devices there are.
    #[must_use]
    pub fn count(&self) -> usize {
        let mut count = 0;
        self.ward.store.each_device(&mut |_| count += 1).unwrap();
        count
    }
}

/// The ward in a folder, at a clock that stands at [`NOW`].
#[must_use]
pub fn opened(folder: &Path) -> Ward {
    let mut ward = Ward::open(folder, "ada".into()).unwrap();
    ward.clock = WardClock::Fixed(NOW);
    ward
}

fn signed(name: &str, key: &SoftwareKey, by: Option<(&Certificate, &SoftwareKey)>) -> Certificate {
    let (subject, proven) = (Subject::of("Ropes", name), key.proven());
    let template = Template {
        serial: SerialNumber::new(NOW, &mut SystemRandom),
        subject: &subject,
        names: &[],
        key: &proven,
        now: NOW,
        life: Span::from_days(3650),
        usage: Usage::UNLIMITED,
        places: Places::default(),
    };
    match by {
        None => self_signed(&template, key).unwrap(),
        Some((certificate, signer)) => template.issue(Issuer { certificate, signer }).unwrap().certificate,
    }
}
