//! What all sessions share: the ward's knowledge, the edition that decides, and where events go.

use std::net::SocketAddr;
use std::sync::{Arc, PoisonError, RwLock};

use tidy_warden_core::condition::Groups;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::policy::{Edition, Rights};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::Clock;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::Parties;
use tidy_warden_store::{Changes, StoreError, resolvable};

use crate::identity::{Credential, Knowledge};
use crate::meter::Rates;
use crate::registry::Registry;
use crate::tls::TlsError;
use crate::watching::{Notes, Observer, Trial, Watching};
use crate::{Event, Sink};

/// Why a guard could not start.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum GuardError {
    /// The address cannot be listened on.
    #[error("cannot listen on {address}: {error}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// What the system says.
        error: std::io::Error,
    },
    /// Its certificate or key is of no use.
    #[error(transparent)]
    Tls(#[from] TlsError),
    /// The store cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The adopted edition does not read back.
    #[error("edition {0} cannot be read by this version, so nothing is allowed")]
    Edition(u32),
}

/// Which policies decide and which are watched; whoever finds other numbers in the store reads them anew.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Versions {
    pub(crate) edition: u32,
    group_rules: i64,
    trial: u32,
}

impl From<&Changes> for Versions {
    fn from(changes: &Changes) -> Self {
        Self { edition: changes.edition, group_rules: changes.group_rules, trial: changes.trial }
    }
}

/// The policies of the moment.
#[derive(Default)]
pub(crate) struct Policies {
    versions: Versions,
    edition: Option<Edition>,
    /// Policies on trial, their number, and their last second.
    trial: Option<(u32, UnixTime, Edition)>,
}

/// What the policies of the moment give a device.
pub(crate) struct Standing {
    pub(crate) rights: Rights,
    pub(crate) trial: Option<Trial>,
}

/// What all sessions share.
pub(crate) struct Shared {
    pub(crate) knowledge: Knowledge,
    pub(crate) registry: Arc<Registry>,
    pub(crate) rates: Rates,
    pub(crate) settings: Settings,
    pub(crate) parties: Parties,
    pub(crate) token_key: PublicKey,
    pub(crate) broker: String,
    pub(crate) policies: RwLock<Arc<Policies>>,
    pub(crate) notes: Arc<Notes>,
    pub(crate) observer: Option<Observer>,
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) sink: Sink,
}

impl Shared {
    pub(crate) fn emit(&self, event: Event) {
        (self.sink)(event);
    }

    pub(crate) fn policies(&self) -> Arc<Policies> {
        self.policies.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What one session is watched for.
    pub(crate) fn watching(&self, device: &DeviceId, trial: Option<Trial>) -> Watching {
        Watching {
            device: device.clone(),
            observer: self.observer.clone(),
            notes: self.notes.clone(),
            clock: self.clock.clone(),
            trial,
        }
    }

    /// What the policies of this moment give a device; `None` if there is no edition. The store is asked, so that the
    /// answer does not wait for the follower; if it does not answer, what is known counts.
    pub(crate) async fn standing(&self, device: &DeviceRecord) -> Option<Standing> {
        let fresh = match self.knowledge.changed_since(i64::MAX).await {
            Ok(changes) => self.take(Versions::from(&changes)).await.map(|_| ()),
            Err(error) => Err(error.into()),
        };
        if let Err(error) = fresh {
            self.emit(Event::Trouble { what: error.to_string() });
        }
        let policies = self.policies();
        let edition = policies.edition.as_ref()?;
        let trial = policies.trial.as_ref().filter(|(_, until, _)| self.clock.now() <= *until);
        let asks = |edition: &Edition| edition.asks_for_children(device);
        let children = if asks(edition) || trial.is_some_and(|(_, _, edition)| asks(edition)) {
            match self.knowledge.children(device.id.clone()).await {
                Ok(children) => children,
                Err(error) => {
                    let what = format!("the children of {} are not known: {error}; it speaks for none", device.id);
                    self.emit(Event::Trouble { what });
                    Vec::new()
                }
            }
        } else {
            Vec::new()
        };
        let rights = |edition: &Edition| edition.rights_with(device, &children, &self.settings);
        let trial = trial.map(|(number, _, edition)| Trial { number: *number, rights: rights(edition) });
        Some(Standing { rights: rights(edition), trial })
    }

    /// Records a use in the background: a session does not wait for the disk.
    pub(crate) fn note_use(self: &Arc<Self>, device: DeviceId, credential: Credential) {
        let shared = self.clone();
        tokio::spawn(async move {
            if let Err(error) = shared.knowledge.record_use(device.clone(), &credential).await {
                shared.emit(Event::Trouble { what: format!("the use by {device} was not recorded: {error}") });
            }
        });
    }

    /// Takes the policies of these versions from the store, unless they are taken or later ones were meanwhile; says
    /// whether it did. An edition that cannot be read leaves none: doubt denies.
    pub(crate) async fn take(&self, versions: Versions) -> Result<bool, GuardError> {
        if self.policies().versions == versions {
            return Ok(false);
        }
        let (edition, groups, trial) = self.knowledge.policies(versions.edition).await?;
        let groups: Groups = resolvable(&groups)?;
        let number = versions.edition;
        let read = edition.map(|record| Edition::read(number, &record.files, &groups)).transpose();
        let trial = trial.filter(|trial| trial.number == versions.trial);
        let trial = trial.and_then(|trial| {
            let edition = Edition::read(0, &trial.files, &groups).ok()?;
            Some((trial.number, trial.until, edition))
        });
        let mut current = self.policies.write().unwrap_or_else(PoisonError::into_inner);
        if current.versions.edition > number || current.versions.group_rules > versions.group_rules {
            return Ok(false);
        }
        let unreadable = read.is_err();
        *current = Arc::new(Policies { versions, edition: read.unwrap_or_default(), trial });
        if unreadable { Err(GuardError::Edition(number)) } else { Ok(true) }
    }

    /// Whether the trial that is watched is over.
    pub(crate) fn trial_is_over(&self, now: UnixTime) -> bool {
        self.policies().trial.as_ref().is_some_and(|(_, until, _)| now > *until)
    }

    /// Forgets the trial.
    pub(crate) fn end_trial(&self) {
        let mut current = self.policies.write().unwrap_or_else(PoisonError::into_inner);
        let Policies { versions, edition, .. } = &**current;
        *current = Arc::new(Policies { versions: *versions, edition: edition.clone(), trial: None });
    }

    /// Writes the differences that were noted.
    pub(crate) async fn write_notes(&self) {
        for (trial, differences) in self.notes.take() {
            if let Err(error) = self.knowledge.record_differences(trial, differences).await {
                self.emit(Event::Trouble { what: format!("what a trial decides otherwise was not recorded: {error}") });
            }
        }
    }
}
