//! What all sessions share: the ward's knowledge, the edition that decides, and where events go.

use std::net::SocketAddr;
use std::sync::{Arc, PoisonError, RwLock};

use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::policy::{Edition, Rights};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::token::Parties;
use tidy_warden_store::StoreError;

use crate::identity::{Credential, Knowledge};
use crate::meter::Rates;
use crate::registry::Registry;
use crate::tls::TlsError;
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

/// What all sessions share.
pub(crate) struct Shared {
    pub(crate) knowledge: Knowledge,
    pub(crate) registry: Arc<Registry>,
    pub(crate) rates: Rates,
    pub(crate) settings: Settings,
    pub(crate) parties: Parties,
    pub(crate) token_key: PublicKey,
    pub(crate) broker: String,
    pub(crate) edition: RwLock<Option<Arc<Edition>>>,
    pub(crate) sink: Sink,
}

impl Shared {
    pub(crate) fn emit(&self, event: Event) {
        (self.sink)(event);
    }

    fn edition(&self) -> Option<Arc<Edition>> {
        self.edition.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What the edition of this moment gives a device; `None` if there is no edition. The store is asked, so that the
    /// answer does not wait for the follower; if it does not answer, the edition that is known counts.
    pub(crate) async fn rights(&self, device: &DeviceRecord) -> Option<Rights> {
        let known = self.edition().map_or(0, |edition| edition.number);
        let fresh = match self.knowledge.changed_since(i64::MAX).await {
            Ok(changes) if changes.edition != known => self.load_edition(changes.edition).await,
            Ok(_) => Ok(()),
            Err(error) => Err(error.into()),
        };
        if let Err(error) = fresh {
            self.emit(Event::Trouble { what: error.to_string() });
        }
        self.edition().map(|edition| edition.rights(device))
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

    /// Takes an edition from the store, unless a later one was taken meanwhile. One that cannot be read leaves none: doubt
    /// denies.
    pub(crate) async fn load_edition(&self, number: u32) -> Result<(), GuardError> {
        let record = self.knowledge.edition(number).await?;
        let read = record.map(|record| Edition::read(number, &record.files).map(Arc::new)).transpose();
        let mut current = self.edition.write().unwrap_or_else(PoisonError::into_inner);
        if current.as_ref().is_some_and(|current| current.number > number) {
            return Ok(());
        }
        let unreadable = read.is_err();
        *current = read.unwrap_or_default();
        if unreadable { Err(GuardError::Edition(number)) } else { Ok(()) }
    }
}
