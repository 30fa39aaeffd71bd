//! What a guard takes from its ward at the start, and anew while it runs.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use tidy_warden_core::id::{AuthorityName, KindName};
use tidy_warden_core::key::{SoftwareKey, sha256};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::{Clock, UnixTime};
use tidy_warden_core::token::Parties;
use tidy_warden_serve::tls::{Resumption, TlsError, TlsSettings, acceptors};
use tidy_warden_serve::trust::TrustHolder;
use tokio_rustls::TlsAcceptor;

use crate::gate::Manner;
use crate::upstream::Upstream;

/// What a guard needs that can be changed while it runs.
pub struct LiveConfig {
    /// Its own certificate and key.
    pub tls: TlsSettings,
    /// The ward's settings.
    pub settings: Settings,
    /// Who signs tokens and for whom.
    pub parties: Parties,
    /// Its own key, by which it opens what is wrapped for it.
    pub own_key: Arc<SoftwareKey>,
    /// The broker.
    pub upstream: Upstream,
    /// The files with the revocation lists of foreign authorities, of those that need one.
    pub maker_files: BTreeMap<AuthorityName, PathBuf>,
}

/// What a guard is given anew while it runs.
pub enum Reload {
    /// All that can be changed.
    All(Box<LiveConfig>),
    /// Its own certificate and key; all else stays as it is.
    Own(TlsSettings),
}

/// What can be changed while the guard runs.
#[derive(Clone)]
pub(crate) struct Live {
    pub(crate) settings: Arc<Settings>,
    pub(crate) parties: Parties,
    pub(crate) own_key: Arc<SoftwareKey>,
    pub(crate) upstream: Upstream,
    pub(crate) maker_files: Arc<BTreeMap<AuthorityName, PathBuf>>,
    pub(crate) acceptor: TlsAcceptor,
    /// The same for WebSocket, which is HTTP to begin with.
    pub(crate) http_acceptor: TlsAcceptor,
    /// Its own certificate, and when that ends.
    pub(crate) own: Option<Own>,
    /// Grows with each change.
    pub(crate) generation: u64,
    sender_property: Arc<str>,
}

/// How many TLS sessions are remembered: devices come back whenever their line was gone.
const RESUMABLE: Resumption = Resumption::Of(16_384);

/// The names of what is spoken (RFC 7301).
const PROTOCOLS: [&str; 2] = ["mqtt", "http/1.1"];

/// Which certificates a guard shows, by a digest over its own and those above it, and when its own ends.
pub(crate) type Own = ([u8; 32], UnixTime);

pub(crate) fn own(tls: &TlsSettings) -> Option<Own> {
    let all: Vec<u8> = tls.chain.iter().flat_map(|each| each.fingerprint.0).collect();
    tls.chain.first().map(|own| (sha256(&all), own.not_after))
}

impl Live {
    pub(crate) fn new(
        config: LiveConfig,
        clock: Arc<dyn Clock>,
        trust: Arc<TrustHolder>,
        generation: u64,
    ) -> Result<Self, TlsError> {
        let own = own(&config.tls);
        let [acceptor, http_acceptor] = acceptors(config.tls, PROTOCOLS, RESUMABLE, clock, trust)?;
        let sender_property = config.settings.guard.sender_property.as_str().into();
        Ok(Self {
            settings: Arc::new(config.settings),
            parties: config.parties,
            own_key: config.own_key,
            upstream: config.upstream,
            maker_files: Arc::new(config.maker_files),
            acceptor,
            http_acceptor,
            own,
            generation,
            sender_property,
        })
    }

    /// The same with another certificate or key of its own. Sessions that are there go on.
    pub(crate) fn with_own(
        &self,
        tls: TlsSettings,
        clock: Arc<dyn Clock>,
        trust: Arc<TrustHolder>,
    ) -> Result<Self, TlsError> {
        let own = own(&tls);
        let [acceptor, http_acceptor] = acceptors(tls, PROTOCOLS, RESUMABLE, clock, trust)?;
        Ok(Self { acceptor, http_acceptor, own, ..self.clone() })
    }

    /// How messages of a device of this kind are handled.
    pub(crate) fn manner(&self, kind: &KindName) -> Manner {
        Manner { on_refusal: self.settings.on_refusal(kind), sender_property: self.sender_property.clone() }
    }
}
