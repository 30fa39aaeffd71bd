//! A ward that is open: its folder, settings, store and clock.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde_json::json;
use tidy_warden_core::authority::{AuthorityRecord, AuthorityRole};
use tidy_warden_core::certificate::{Certificate, Places};
use tidy_warden_core::condition::Groups;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::key::{LockCost, SoftwareKey};
use tidy_warden_core::policy::{Edition, Fleet, PolicyFile, Rights};
use tidy_warden_core::settings::{Here, Kind, Maker, Settings};
use tidy_warden_core::text::Source;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_core::token::Parties;
use tidy_warden_store::{
    Cause, Declared, DeskActs, DeskReader, DeviceView, EditionRecord, FactClash, GuardStore, OperatorStore, OwnFacts,
    StoreError, WardRecord, resolvable,
};

use crate::clock::WardClock;
use crate::files;
use crate::keys::Passphrase;
use crate::place::StorePlace;
use crate::problem::Problem;

/// The longest `ward.toml` and the longest policy file read, in octets.
pub const MAX_TEXT: u64 = 4 * 1024 * 1024;

/// The name of its settings' file.
pub const SETTINGS: &str = "ward.toml";
/// The name of the folder of its keys.
pub const KEYS: &str = "keys";
/// The name of the folder of its policies.
pub const POLICIES: &str = "policies";

/// An open ward.
pub struct Ward {
    /// Its folder.
    pub dir: PathBuf,
    /// Its settings.
    pub settings: Settings,
    /// Where its store is.
    pub place: StorePlace,
    /// What it knows, with every act.
    pub store: OperatorStore,
    /// What never changes.
    pub record: WardRecord,
    /// Its clock.
    pub clock: WardClock,
    /// Who acts through this, for the audit record.
    pub actor: String,
    /// Whether its file says what was adopted for all machines, if anything was: that counts, whatever the file says.
    pub is_adopted: bool,
}

/// Reads the text of `ward.toml`.
pub fn read_settings_text(dir: &Path) -> Result<String, Problem> {
    let path = dir.join(SETTINGS);
    if !path.exists() {
        return Err(Problem::not_found(format!("there is no ward in {}", dir.display()))
            .because(format!("{} does not exist", path.display()))
            .next("name the ward's folder with --ward or TIDY_WARDEN_WARD, or make one: init"));
    }
    files::read_text(&path, MAX_TEXT)
}

/// Reads `ward.toml`.
pub fn read_settings(dir: &Path) -> Result<(Settings, String), Problem> {
    let text = read_settings_text(dir)?;
    let settings = Settings::parse(&Source::new(SETTINGS, &text))
        .map_err(|errors| Problem::text(format!("{} has mistakes", dir.join(SETTINGS).display()), &errors))?;
    Ok((settings, text))
}

impl Ward {
    /// Opens the ward in `dir`; notes in the audit record if its settings changed. In a database for which settings were adopted these
    /// count, and the file says what is about this machine.
    pub fn open(dir: &Path, actor: String) -> Result<Self, Problem> {
        let (settings, text) = read_settings(dir)?;
        let place = StorePlace::of(dir, &settings.store)?;
        let store = OperatorStore::new(place.open(None)?);
        let record = store.ward()?;
        let clock = WardClock::of(record.rehearsal)?;
        let (dir, is_adopted) = (dir.to_owned(), true);
        let mut ward = Self { dir, settings, place, store, record, clock, actor, is_adopted };
        if let (StorePlace::Database(_), Some(adopted)) = (&ward.place, ward.store.adopted_settings()?) {
            let settings = Settings::parse(&Source::new("the adopted settings", &adopted.text))
                .map_err(|errors| Problem::text("the adopted settings cannot be read by this version", &errors))?
                .on(&Here::from(&ward.settings));
            ward.is_adopted = settings == ward.settings;
            ward.settings = settings;
            return Ok(ward);
        }
        let known = ward.store.settings_text()?;
        if known != text {
            let cause = ward.cause(None);
            let (before, after) = (declared(&known), ward.settings.own_facts());
            let declared = Declared { before: &before, after: &after };
            let detail = difference(&known, &text).to_string();
            ward.store
                .record_settings(&text, declared, &detail, &cause)?
                .map_err(|clashes| clash(SETTINGS, &clashes))?;
        }
        Ok(ward)
    }

    /// The ward in `dir` as it would be with `settings`, which are not those of its file: for checking them.
    pub fn imagined(dir: &Path, settings: Settings, actor: String) -> Result<Self, Problem> {
        let place = StorePlace::of(dir, &settings.store)?;
        let store = OperatorStore::new(place.open(None)?);
        let record = store.ward()?;
        let clock = WardClock::of(record.rehearsal)?;
        Ok(Self { dir: dir.to_owned(), settings, place, store, record, clock, actor, is_adopted: true })
    }

    /// Another handle on the same store.
    pub fn another_store(&self) -> Result<OperatorStore, Problem> {
        Ok(OperatorStore::new(self.place.open(None)?))
    }

    /// A handle on the same store for a guard, which waits for other processes no longer than `patience`, if one is given.
    pub fn guard_store(&self, patience: Option<std::time::Duration>) -> Result<GuardStore, Problem> {
        Ok(GuardStore::new(self.place.open(patience)?))
    }

    /// A handle on the same store for a desk that asks it, which waits for other processes no longer than `patience`, if one is given.
    pub fn desk_reader(&self, patience: Option<std::time::Duration>) -> Result<DeskReader, Problem> {
        Ok(DeskReader::new(self.place.open(patience)?))
    }

    /// The same for the acts of a desk.
    pub fn desk_acts(&self) -> Result<DeskActs, Problem> {
        DeskActs::new(self.place.open(None)?).map_err(|error| Problem::failed("cannot start").because(error))
    }

    /// The files with the revocation lists of foreign authorities, as far as the settings name any.
    #[must_use]
    pub fn maker_files(&self) -> BTreeMap<AuthorityName, PathBuf> {
        let named = |(name, maker): (&AuthorityName, &Maker)| {
            maker.crl_file.as_ref().map(|file| (name.clone(), self.dir.join(file)))
        };
        self.settings.makers.iter().filter_map(named).collect()
    }

    /// What it costs to try a passphrase on the keys that are made here.
    #[must_use]
    pub fn lock_cost(&self) -> LockCost {
        if self.record.rehearsal { LockCost::Rehearsal } else { LockCost::Full }
    }

    /// The present instant by the ward's clock.
    pub fn now(&self) -> UnixTime {
        self.clock.now()
    }

    /// Who acts, when and why.
    pub fn cause(&self, because: Option<&str>) -> Cause {
        Cause { at: self.now(), actor: self.actor.clone(), because: because.unwrap_or_default().to_owned() }
    }

    /// A device that is listed.
    pub fn device(&self, id: &DeviceId) -> Result<DeviceView, Problem> {
        let found = self.store.devices(std::slice::from_ref(id))?.pop().flatten();
        found.ok_or_else(|| {
            Problem::not_found(format!("there is no device `{id}`"))
                .next(format!("see `device list`, or list it: device add {id} --kind KIND"))
        })
    }

    /// The authorities of a role that are believed, the first one first.
    pub fn authorities(&self, role: AuthorityRole) -> Result<Vec<AuthorityRecord>, Problem> {
        let all = self.store.authorities()?;
        Ok(all.into_iter().filter(|authority| authority.role == role && authority.retired.is_none()).collect())
    }

    /// An authority by its name.
    pub fn named_authority(&self, name: &AuthorityName) -> Result<AuthorityRecord, Problem> {
        let found = self.store.authorities()?.into_iter().find(|each| each.name == *name);
        found.ok_or_else(|| Problem::not_found(format!("there is no authority `{name}`")).next("authority list"))
    }

    /// The first authority of a role.
    pub fn authority(&self, role: AuthorityRole) -> Result<AuthorityRecord, Problem> {
        let found = self.authorities(role)?.into_iter().next();
        found.ok_or_else(|| Problem::not_found(format!("the ward has no authority for {}", role.as_str())))
    }

    /// Who signs guards and desks: the newest authority for services that is believed.
    pub fn service(&self) -> Result<AuthorityRecord, Problem> {
        let found = self.authorities(AuthorityRole::Service)?.into_iter().next_back();
        found.ok_or_else(|| {
            Problem::not_found("the ward has no authority for services that is believed")
                .next("authority add NAME --service")
        })
    }

    /// Who signs for a kind: the authority that its settings name, or the first for devices; or whoever took its place.
    pub fn issuing_for(&self, kind: &Kind) -> Result<AuthorityRecord, Problem> {
        let all: Vec<_> =
            self.store.authorities()?.into_iter().filter(|each| each.role == AuthorityRole::Devices).collect();
        let named = match &kind.authority {
            Some(name) => all.iter().find(|each| each.name == *name).ok_or_else(|| {
                Problem::not_found(format!("there is no authority `{name}` for devices"))
                    .next(format!("authority list, or: authority add {name}"))
            })?,
            None => all.first().ok_or_else(|| Problem::not_found("the ward has no authority for devices"))?,
        };
        let mut current = named;
        // Each step goes to one that was added later, so there are no circles.
        while let Some(next) = all.iter().find(|each| each.replaces.as_ref() == Some(&current.name)) {
            current = next;
        }
        match current.retired {
            Some(since) => Err(Problem::refused(format!("the authority `{}` is retired since {since}", current.name))
                .next("authority add NAME, and authority = \"NAME\" in ward.toml")),
            None => Ok(current.clone()),
        }
    }

    /// Where an authority's files are published.
    pub fn urls(&self, authority: &AuthorityName) -> Urls {
        Urls::of(&self.settings, authority.as_str())
    }

    /// The roots that are believed.
    pub fn roots(&self) -> Result<Vec<AuthorityRecord>, Problem> {
        self.authorities(AuthorityRole::Root)
    }

    /// The first root's certificate.
    pub fn root(&self) -> Result<Certificate, Problem> {
        Ok(self.authority(AuthorityRole::Root)?.certificate)
    }

    /// Opens a locked key of the ward that is no authority's.
    pub fn key(&self, name: &str, passphrase: &Passphrase) -> Result<SoftwareKey, Problem> {
        crate::keys::open(&self.dir.join(KEYS).join(format!("{name}.key")), passphrase)
    }

    /// Who signs tokens, and for whom.
    pub fn parties(&self) -> Parties {
        Parties { issuer: self.record.urn.clone(), audience: format!("mqtts://{}", self.settings.endpoints.mqtt) }
    }

    /// The groups, ready for conditions.
    pub fn groups(&self) -> Result<Groups, Problem> {
        Ok(resolvable(&self.store.groups()?)?)
    }

    /// The adopted edition, ready to decide by; `None` if there is none.
    pub fn edition(&self) -> Result<Option<Edition>, Problem> {
        match self.store.edition(None)? {
            None => Ok(None),
            Some(record) => self.read(record.number, &record.files).map(Some),
        }
    }

    /// An edition as it was adopted.
    pub fn edition_record(&self, number: u32) -> Result<EditionRecord, Problem> {
        self.store.edition(Some(number))?.ok_or_else(|| {
            Problem::not_found(format!("there is no edition {number}")).next("policy editions lists them")
        })
    }

    /// Policies with the ward's groups put in; number 0 is a draft.
    pub fn read(&self, number: u32, files: &[PolicyFile]) -> Result<Edition, Problem> {
        Edition::read(number, files, &self.groups()?).map_err(|errors| match number {
            0 => Problem::text("the policies have mistakes", &errors),
            _ => Problem::text(format!("edition {number} cannot be read by this version"), &errors)
                .next("adopt the policies again"),
        })
    }

    /// The policies of the folder.
    pub fn draft(&self) -> Result<Edition, Problem> {
        self.read(0, &self.policy_files()?)
    }

    /// What an edition gives a device, with what it may do for its children.
    pub fn rights(&self, edition: &Edition, device: &DeviceRecord) -> Result<Rights, Problem> {
        let asks = edition.asks_for_children(device);
        let children = if asks { self.store.children(&device.id)? } else { Vec::new() };
        Ok(edition.rights_with(device, &children, &self.settings))
    }

    /// The whole fleet under one edition or two.
    pub fn fleet<'e>(
        &self,
        editions: &[&'e Edition],
        texts: impl IntoIterator<Item = &'e str>,
    ) -> Result<Fleet<'e>, Problem> {
        let mut fleet = Fleet::new(editions, texts);
        self.fill(&mut fleet)?;
        Ok(fleet)
    }

    /// Puts every device into a fleet that may do something now; gives how many may not.
    pub fn fill_able(&self, fleet: &mut Fleet<'_>) -> Result<u64, Problem> {
        let damaged = |error: tidy_warden_core::id::BadName| StoreError::Damaged { detail: error.to_string() };
        let mut barred = 0;
        fleet.know_facts(&self.store.field_names()?.facts);
        self.store.each_fleet_row(fleet.wants_facts(), &mut |row| {
            if row.barred {
                barred += 1;
                return Ok(());
            }
            fleet.add(row).map_err(damaged)
        })?;
        Ok(barred)
    }

    /// Puts every device into a fleet, those too that may come back.
    pub fn fill(&self, fleet: &mut Fleet<'_>) -> Result<(), Problem> {
        let damaged = |error: tidy_warden_core::id::BadName| StoreError::Damaged { detail: error.to_string() };
        fleet.know_facts(&self.store.field_names()?.facts);
        Ok(self.store.each_fleet_row(fleet.wants_facts(), &mut |row| fleet.add(row).map_err(damaged))?)
    }

    /// The policy files of the ward.
    pub fn policy_files(&self) -> Result<Vec<PolicyFile>, Problem> {
        policy_files(&self.dir.join(POLICIES), POLICIES)
    }
}

/// Where an authority's CRL and certificate are published; empty as far as the settings do not say.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Urls {
    crl: String,
    authority: String,
}

impl Urls {
    /// Those of the authority of this name.
    #[must_use]
    pub fn of(settings: &Settings, authority: &str) -> Self {
        let at = |base: &str, end: &str| {
            if base.is_empty() { String::new() } else { format!("{base}{authority}.{end}") }
        };
        Self { crl: at(&settings.endpoints.crl, "crl"), authority: at(&settings.endpoints.ca, "cer") }
    }

    /// As certificates of devices and servers name them.
    #[must_use]
    pub fn places(&self) -> Places<'_> {
        Places { crl: &self.crl, authority: &self.authority }
    }

    /// As certificates of authorities name them: whoever judges one has the root above it, or nothing.
    #[must_use]
    pub fn list_only(&self) -> Places<'_> {
        Places { authority: "", ..self.places() }
    }
}

/// The policy files in a folder, by name; `shown` is what errors call the folder.
pub fn policy_files(folder: &Path, shown: &str) -> Result<Vec<PolicyFile>, Problem> {
    let file = |path: PathBuf| {
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        Ok(PolicyFile { name: format!("{shown}/{name}"), text: files::read_text(&path, MAX_TEXT)? })
    };
    policy_paths(folder)?.into_iter().map(file).collect()
}

/// The paths of the policy files in a folder, in their order.
pub fn policy_paths(folder: &Path) -> Result<Vec<PathBuf>, Problem> {
    let failed = |error: std::io::Error| Problem::file("read", folder, &error);
    let mut paths = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let path = entry.map_err(failed)?.path();
        if path.extension().is_some_and(|extension| extension == "policy") {
            paths.push(path);
        }
    }
    paths.sort();
    Ok(paths)
}

/// What changed between two texts, line by line, as the detail of an audit entry.
/// The facts of the ward's own that a text declares, as far as it can be read.
pub(crate) fn declared(text: &str) -> OwnFacts {
    let (settings, _) = Settings::parse_as_far_as_it_goes(&Source::new(SETTINGS, text));
    settings.map(|settings| settings.own_facts()).unwrap_or_default()
}

/// The problem that settings declare facts as they cannot.
pub(crate) fn clash(what: &str, clashes: &[FactClash]) -> Problem {
    let why: Vec<String> = clashes.iter().map(ToString::to_string).collect();
    Problem::refused(format!("the facts that {what} declares cannot be")).because(why.join("; ")).next(
        "declare it as before, or under another name; what is declared of a fact changes only while no device has the fact, nor a label \
         of its name (device edit ID --label NAME=, --fact NAME=)",
    )
}

pub(crate) fn difference(old: &str, new: &str) -> serde_json::Value {
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
    json!({ "sha256": digest, "removed": only_in(old, new), "added": only_in(new, old) })
}
