//! Authorities: what each signs, where its key is, and what a foreign one is trusted for.

use crate::certificate::Certificate;
use crate::fact::{Fact, FactName};
use crate::id::{AuthorityName, KindName};
use crate::key::PublicKey;
use crate::time::UnixTime;

/// What an authority signs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AuthorityRole {
    /// Other authorities.
    Root,
    /// Devices.
    Devices,
    /// The guard and the desk.
    Service,
    /// Devices, but not for this ward: a manufacturer, say, whose certificates the ward takes for some kinds.
    Foreign,
}

impl AuthorityRole {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Root, Self::Devices, Self::Service, Self::Foreign];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Root => "root",
            Self::Devices => "devices",
            Self::Service => "service",
            Self::Foreign => "foreign",
        }
    }
}

/// Where an authority's private key is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeyPlace {
    /// Locked, in the ward's `keys` folder.
    Ward,
    /// Locked, outside the ward; whoever needs it names the file.
    Away,
    /// On a PKCS#11 token, found by its label.
    Token {
        /// The token's label.
        token: String,
        /// The key's label on it.
        label: String,
    },
    /// With somebody else: a foreign authority, or an outside root.
    Nowhere,
}

/// What a foreign authority is trusted for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trust {
    /// The kinds whose devices may show its certificates.
    pub kinds: Vec<KindName>,
    /// The facts that it may vouch for, at least one: the first tells which device it is, and the others must be what is known of that.
    pub facts: Vec<FactName>,
}

impl Trust {
    /// What a certificate says of the facts that its maker may vouch for. The first of them must be there, or the maker says nothing.
    #[must_use]
    pub fn vouched(&self, certificate: &Certificate) -> Vec<Fact> {
        let mut all = self.facts.iter().map(|name| certificate.fact(name));
        let Some(Some(first)) = all.next() else { return Vec::new() };
        std::iter::once(first).chain(all.flatten()).collect()
    }
}

/// One authority.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AuthorityRecord {
    /// Its name.
    pub name: AuthorityName,
    /// What it signs.
    pub role: AuthorityRole,
    /// Its certificate.
    pub certificate: Certificate,
    /// More certificates on the way from it to a root: of itself by another root, or of those above it.
    pub crossed: Vec<Certificate>,
    /// When it was added.
    pub created: UnixTime,
    /// Where its key is.
    pub key: KeyPlace,
    /// The authority in whose place it signs.
    pub replaces: Option<AuthorityName>,
    /// Since when it is no longer believed.
    pub retired: Option<UnixTime>,
    /// What it is trusted for, if it is foreign.
    pub trust: Option<Trust>,
    /// The number of its newest CRL, 0 if there is none.
    pub crl_number: u64,
    /// thisUpdate of its newest CRL.
    pub crl_at: Option<UnixTime>,
    /// nextUpdate of its newest CRL, if it is known: older versions did not write it down.
    pub crl_until: Option<UnixTime>,
    /// Whether something was revoked since then.
    pub crl_pending: bool,
}

impl AuthorityRecord {
    /// One that was just added: believed, in nobody's place, and without a CRL.
    #[must_use]
    pub fn new(
        name: AuthorityName,
        role: AuthorityRole,
        certificate: Certificate,
        key: KeyPlace,
        created: UnixTime,
    ) -> Self {
        Self {
            name,
            role,
            certificate,
            crossed: Vec::new(),
            created,
            key,
            replaces: None,
            retired: None,
            trust: None,
            crl_number: 0,
            crl_at: None,
            crl_until: None,
            crl_pending: false,
        }
    }
}

/// Why an authority was not added.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AuthorityRefusal {
    /// Its name is in use.
    #[error("there is an authority `{0}` already")]
    NameTaken(AuthorityName),
    /// Its key belongs to another that is believed.
    #[error("the authority `{0}` has the same key")]
    KeyTaken(AuthorityName),
}

/// An authority that waits for its certificate from outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PendingAuthority {
    /// Its name.
    pub name: AuthorityName,
    /// What it will sign.
    pub role: AuthorityRole,
    /// Its public key.
    pub public_key: PublicKey,
    /// Where its key is.
    pub key: KeyPlace,
    /// When the request was made.
    pub created: UnixTime,
}
