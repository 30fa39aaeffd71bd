//! `[kinds.NAME]`: what the devices of one kind share.

mod keys;
mod read;

use std::collections::BTreeSet;

use super::guard::OnRefusal;
use crate::claim::ClaimBy;
use crate::errand::Purpose;
use crate::fact::FactName;
use crate::id::{AuthorityName, KindName};
use crate::key::{KeyType, NewKey};
use crate::profile::Profile;
use crate::time::Span;

pub(super) use keys::KIND;

/// What the machines of a kind are to the fleet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// A machine in the field.
    Device,
    /// An application on the other end: the same credentials and policy, no hardware facts.
    Service,
}

/// The settings that the devices of one kind share. Every key is optional.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kind {
    /// `role`, default `device`.
    pub role: Role,
    /// `key`: the type of keys made here, default `p256`.
    pub key: NewKey,
    /// `accept`: the types of keys that devices may bring themselves, default all.
    pub accept: Vec<KeyFamily>,
    /// `life`: how long a certificate lasts, default 398 days.
    pub life: Span,
    /// `least_life`: a certificate that would be clipped below this is not issued, default one day.
    pub least_life: Span,
    /// `subject`, `names` and `hardware_type`: what the certificates say.
    pub profile: Profile,
    /// `usage`: whether the devices are also connected to, default no.
    pub server: bool,
    /// `authority`: who signs for this kind, if it is not the ward's first authority for devices.
    pub authority: Option<AuthorityName>,
    /// `overlap`: how long a credential that was replaced may still sign in, unless its successor is used before.
    pub overlap: Span,
    /// `renew`: how long before its end a certificate may be renewed by its device; a third of its life if absent.
    pub renew: Option<Span>,
    /// `renews`: who renews certificates; if absent, a device that was at the desk before does so.
    pub renews: Option<Renews>,
    /// `errands`: what its devices can be asked to do beside what all can.
    pub errands: BTreeSet<Purpose>,
    /// `token_login`: whether a token as MQTT password opens a session, default no.
    pub token_login: bool,
    /// `token_life`: the longest life of a token that the ward signs with a key of its own, default one day.
    pub token_life: Span,
    /// `shared_keys`: whether such a device may have keys that it shares with the ward, default no.
    pub shared_keys: bool,
    /// `renews_keys`: who replaces those keys before they end, default a person.
    pub renews_keys: Renews,
    /// `own_token_life`: the longest life of a token signed with a key of the device's own, default one hour.
    pub own_token_life: Span,
    /// `facts`: those that must be known before a credential is issued.
    pub facts: Vec<FactName>,
    /// `admit`: the least that a device must show to enrol by itself, default a secret.
    pub admit: Admit,
    /// `identify`: the facts that every admission must name.
    pub identify: Vec<FactName>,
    /// `id`: the id that a device gets which asks and is accepted, if it is given no other.
    pub id: Option<String>,
    /// `accept_without_code`: whether one may be accepted without comparing the code of its key, default no.
    pub accept_without_code: bool,
    /// `server_keys`: whether the desk may make the first key of such a device, default no.
    pub server_keys: bool,
    /// `gateway_enrols`: whether its gateway may fetch certificates for such a device, default no.
    pub gateway_enrols: bool,
    /// `carries`: the kinds of devices that one of this kind may speak for, as their gateway.
    pub carries: Vec<KindName>,
    /// `claim`: by what devices are claimed, default a code.
    pub claim: ClaimBy,
    /// `claim_window`: the longest time for which a device may open itself; none may if absent.
    pub claim_window: Option<Span>,
    /// `claim_rotate`: how long what it signs in with is taken after its owner has changed, default a day; if absent nothing ends.
    pub claim_rotate: Option<Span>,
    /// `on_refusal`: what the guard does when it refuses a publish or a subscription; if absent, what `[guard]` says.
    pub on_refusal: Option<OnRefusal>,
    /// `clone_watch`: what follows from a sign that somebody else has a device's key, default `record`.
    pub clone_watch: CloneWatch,
}

impl Default for Kind {
    fn default() -> Self {
        Self {
            role: Role::Device,
            key: NewKey::P256,
            accept: KeyFamily::ALL.to_vec(),
            life: Span::from_days(398),
            least_life: Span::from_days(1),
            profile: Profile::default(),
            server: false,
            authority: None,
            overlap: Span::from_days(7),
            renew: None,
            renews: None,
            errands: BTreeSet::new(),
            token_login: false,
            token_life: Span::from_days(1),
            shared_keys: false,
            renews_keys: Renews::Person,
            own_token_life: Span::from_seconds(3_600),
            facts: Vec::new(),
            admit: Admit::Secret,
            identify: Vec::new(),
            id: None,
            accept_without_code: false,
            server_keys: false,
            gateway_enrols: false,
            carries: Vec::new(),
            claim: ClaimBy::Code,
            claim_window: None,
            claim_rotate: Some(Span::from_days(1)),
            on_refusal: None,
            clone_watch: CloneWatch::Record,
        }
    }
}

/// Who renews certificates, or keys that devices share with the ward.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Renews {
    /// The device, at the desk.
    Device,
    /// The device, when it is asked over MQTT; or a desk, that sends a key over MQTT.
    Errand,
    /// A person, with `enroll` or `key rotate`.
    Person,
}

/// Types of keys that devices may bring.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyFamily {
    /// ECDSA on P-256.
    P256,
    /// ECDSA on P-384.
    P384,
    /// Ed25519.
    Ed25519,
    /// RSA with at least 2048 bits.
    Rsa,
}

impl KeyFamily {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::P256, Self::P384, Self::Ed25519, Self::Rsa];

    /// The word that settings use.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::P256 => "p256",
            Self::P384 => "p384",
            Self::Ed25519 => "ed25519",
            Self::Rsa => "rsa",
        }
    }

    fn holds(self, key: KeyType) -> bool {
        matches!(
            (self, key),
            (Self::P256, KeyType::P256)
                | (Self::P384, KeyType::P384)
                | (Self::Ed25519, KeyType::Ed25519)
                | (Self::Rsa, KeyType::Rsa(_))
        )
    }
}

impl Kind {
    /// Whether devices of this kind may bring a key of this type.
    #[must_use]
    pub fn accepts(&self, key: KeyType) -> bool {
        self.accept.iter().any(|family| family.holds(key))
    }
}

/// What a device shows to enrol by itself, from the weakest to the strongest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Admit {
    /// Bare facts: whoever reads the sticker knows them.
    Facts,
    /// Nothing; a person looks at it and says yes.
    Ask,
    /// A secret that is good once.
    Secret,
    /// The key that was registered for it.
    Key,
    /// The certificate of a manufacturer that is believed.
    Certificate,
}

impl Admit {
    /// All of them, the weakest first.
    pub const ALL: [Self; 5] = [Self::Facts, Self::Ask, Self::Secret, Self::Key, Self::Certificate];

    /// The word that settings use.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Facts => "facts",
            Self::Ask => "ask",
            Self::Secret => "secret",
            Self::Key => "key",
            Self::Certificate => "certificate",
        }
    }
}

/// What follows from a sign that a device's key is in two places.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CloneWatch {
    /// Nothing is watched.
    Off,
    /// It is recorded.
    Record,
    /// It is recorded, and the device is put on hold.
    Hold,
}
