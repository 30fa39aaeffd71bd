//! Admissions: permissions, used once, to enrol for hardware that matches given facts; what proves the match, and what a proof opens.
//!
//! Proofs by strength: a certificate of a believed manufacturer that names the facts, the registered public key, the one-time secret,
//! the bare facts. An admission states the one that it demands, and opens to that or to a certificate; the kind says the least that is taken.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use serde_json::json;
use zeroize::Zeroizing;

use crate::certificate::Fingerprint;
use crate::device::{AddRefusal, DeviceRecord};
use crate::enrolment::IssueRefusal;
use crate::fact::{Fact, FactName};
use crate::id::{DeviceId, KindName, OwnerId};
use crate::key::sha256;
use crate::random::{self, Randomness};
use crate::settings::Admit;
use crate::time::UnixTime;

/// The name of an admission: `A` and its number from 1. No device can have such an id, which has no upper-case letters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AdmissionName(pub u32);

impl fmt::Display for AdmissionName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("A{}", self.0))
    }
}

/// A text is not the name of an admission.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not the name of an admission: expected A and a number, such as A7")]
pub struct BadAdmissionName(String);

impl FromStr for AdmissionName {
    type Err = BadAdmissionName;

    fn from_str(text: &str) -> Result<Self, BadAdmissionName> {
        let number = text.strip_prefix('A').filter(|digits| digits.starts_with(|c: char| matches!(c, '1'..='9')));
        let number = number.filter(|digits| digits.bytes().all(|digit| digit.is_ascii_digit()));
        let number = number.and_then(|digits| digits.parse().ok());
        number.map(Self).ok_or_else(|| BadAdmissionName(text.chars().take(24).collect()))
    }
}

impl serde::Serialize for AdmissionName {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// How many octets a secret has.
const SECRET_OCTETS: usize = 16;

/// What is hashed before a secret's octets, so that the digest is of use nowhere else.
const SECRET_CONTEXT: &[u8] = b"tidy-warden admission secret 1\0";

/// A one-time secret: 128 random bits, as text 26 letters and digits (RFC 4648 base32 without padding, in lower case).
pub struct Secret(Zeroizing<[u8; SECRET_OCTETS]>);

impl Secret {
    /// A fresh one.
    pub fn new(random: &mut dyn Randomness) -> Self {
        Self(Zeroizing::new(random::bytes(random)))
    }

    /// Reads what a person or a device gives; upper case, and hyphens between the characters, are taken too.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        if text.len() > 64 {
            return None;
        }
        let plain: Zeroizing<String> =
            Zeroizing::new(text.chars().filter(|c| *c != '-').map(|c| c.to_ascii_uppercase()).collect());
        let octets = Zeroizing::new(data_encoding::BASE32_NOPAD.decode(plain.as_bytes()).ok()?);
        Some(Self(Zeroizing::new(octets.as_slice().try_into().ok()?)))
    }

    /// As it is handed out.
    #[must_use]
    pub fn text(&self) -> Zeroizing<String> {
        Zeroizing::new(data_encoding::BASE32_NOPAD.encode(&*self.0).to_ascii_lowercase())
    }

    /// What is kept of it. Nobody finds 128 random bits by trying, so the digest needs neither salt nor time.
    #[must_use]
    pub fn digest(&self) -> [u8; 32] {
        sha256(&Zeroizing::new([SECRET_CONTEXT, &*self.0].concat()))
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(..)")
    }
}

/// What an admission demands as proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Demand {
    /// The bare facts.
    Facts,
    /// A secret with this digest.
    Secret([u8; 32]),
    /// The key with this SHA-256 of its SubjectPublicKeyInfo.
    Key([u8; 32]),
    /// A certificate of a believed manufacturer.
    Certificate,
}

impl Demand {
    /// How strong it is.
    #[must_use]
    pub fn strength(&self) -> Admit {
        match self {
            Self::Facts => Admit::Facts,
            Self::Secret(_) => Admit::Secret,
            Self::Key(_) => Admit::Key,
            Self::Certificate => Admit::Certificate,
        }
    }

    /// The digest that belongs to it.
    #[must_use]
    pub fn digest(&self) -> Option<&[u8; 32]> {
        match self {
            Self::Secret(digest) | Self::Key(digest) => Some(digest),
            Self::Facts | Self::Certificate => None,
        }
    }

    /// From its word and its digest, as they are kept; `None` if they do not go together.
    #[must_use]
    pub fn from_parts(word: &str, digest: Option<[u8; 32]>) -> Option<Self> {
        match (word, digest) {
            ("facts", None) => Some(Self::Facts),
            ("secret", Some(digest)) => Some(Self::Secret(digest)),
            ("key", Some(digest)) => Some(Self::Key(digest)),
            ("certificate", None) => Some(Self::Certificate),
            _ => None,
        }
    }
}

/// How an admission came to its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AdmissionEnd {
    /// A device enrolled by it.
    Used {
        /// When.
        at: UnixTime,
        /// What it was given.
        credential: Fingerprint,
    },
    /// It was withdrawn: by name, or as its device was revoked or retired.
    Withdrawn {
        /// When.
        at: UnixTime,
    },
    /// It had lapsed when another took its place.
    Lapsed {
        /// Its last second.
        at: UnixTime,
    },
}

impl AdmissionEnd {
    /// The word for it.
    #[must_use]
    pub fn as_str(&self) -> &'static str {
        match self {
            Self::Used { .. } => AdmissionState::Used.as_str(),
            Self::Withdrawn { .. } => AdmissionState::Withdrawn.as_str(),
            Self::Lapsed { .. } => AdmissionState::Lapsed.as_str(),
        }
    }

    /// When it came.
    #[must_use]
    pub fn at(&self) -> UnixTime {
        match self {
            Self::Used { at, .. } | Self::Withdrawn { at } | Self::Lapsed { at } => *at,
        }
    }

    /// From its parts, as they are kept; `None` if they do not go together.
    #[must_use]
    pub fn from_parts(word: &str, at: UnixTime, credential: Option<Fingerprint>) -> Option<Self> {
        match (word, credential) {
            ("used", Some(credential)) => Some(Self::Used { at, credential }),
            ("withdrawn", None) => Some(Self::Withdrawn { at }),
            ("lapsed", None) => Some(Self::Lapsed { at }),
            _ => None,
        }
    }
}

/// The state of an admission.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum AdmissionState {
    /// It can be used.
    Open,
    /// A device enrolled by it.
    Used,
    /// Its time is over.
    Lapsed,
    /// It was withdrawn.
    Withdrawn,
}

impl AdmissionState {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Open, Self::Used, Self::Lapsed, Self::Withdrawn];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Used => "used",
            Self::Lapsed => "lapsed",
            Self::Withdrawn => "withdrawn",
        }
    }
}

/// An admission.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AdmissionRecord {
    /// Its name.
    pub name: AdmissionName,
    /// The device as it will be listed, or is already: id, kind, labels, facts and gateway; `created` is when this was opened.
    pub device: DeviceRecord,
    /// What must be shown.
    pub demand: Demand,
    /// Its last second.
    pub until: UnixTime,
    /// How it ended, if that was noted.
    pub end: Option<AdmissionEnd>,
}

impl AdmissionRecord {
    /// Its state at `now`.
    #[must_use]
    pub fn state(&self, now: UnixTime) -> AdmissionState {
        match self.end {
            Some(AdmissionEnd::Used { .. }) => AdmissionState::Used,
            Some(AdmissionEnd::Withdrawn { .. }) => AdmissionState::Withdrawn,
            Some(AdmissionEnd::Lapsed { .. }) => AdmissionState::Lapsed,
            None if self.until < now => AdmissionState::Lapsed,
            None => AdmissionState::Open,
        }
    }

    /// All that is fixed when it is opened, as one line of JSON: the audit record keeps a digest over these.
    #[must_use]
    pub fn described(&self) -> String {
        let device = &self.device;
        let facts: serde_json::Map<_, _> =
            device.facts.values().map(|fact| (fact.name().to_string(), json!(fact.value()))).collect();
        let labels: serde_json::Map<_, _> =
            device.labels.iter().map(|(name, value)| (name.to_string(), json!(value))).collect();
        let mut said = json!({
            "name": self.name, "device": device.id, "kind": device.kind, "labels": labels, "facts": facts,
            "gateway": device.gateway, "proof": self.demand.strength().as_str(),
            "digest": self.demand.digest().map(|digest| data_encoding::HEXLOWER.encode(digest)),
            "opened": device.created, "ends": self.until,
        });
        // Those of before there were owners are described as they were then.
        if let Some(owner) = &device.owner {
            said["owner"] = json!(owner);
        }
        said.to_string()
    }

    /// What keeps a device that is listed from being the one that is meant; `None` if it can be.
    #[must_use]
    pub fn differs_from(&self, listed: &DeviceRecord) -> Option<Difference> {
        let device = &self.device;
        if device.kind != listed.kind {
            return Some(Difference::Kind(listed.kind.clone()));
        }
        if let Some(fact) = device.facts.values().find(|fact| listed.facts.get(fact.name()) != Some(fact)) {
            return Some(Difference::Fact(fact.name().clone()));
        }
        if let Some((name, _)) = device.labels.iter().find(|(name, value)| listed.labels.get(*name) != Some(value)) {
            return Some(Difference::Label(name.to_string()));
        }
        if device.gateway.is_some() && device.gateway != listed.gateway {
            return Some(Difference::Gateway);
        }
        (device.owner.is_some() && device.owner != listed.owner).then_some(Difference::Owner)
    }

    /// The strength of the proof by which a caller may come in, if it may.
    ///
    /// # Errors
    /// Why not. The caller is told none of it: see the desk.
    pub fn opens_to(&self, shown: &Shown<'_>, least: Admit, now: UnixTime) -> Result<Admit, Unfit> {
        match self.state(now) {
            AdmissionState::Open => self.is_proved_by(shown, least),
            over => Err(Unfit::Over(over)),
        }
    }

    /// The same, whatever its state: whoever calls again after a lost answer proves itself as before.
    ///
    /// # Errors
    /// Why it is not proved.
    pub fn is_proved_by(&self, shown: &Shown<'_>, least: Admit) -> Result<Admit, Unfit> {
        let demanded = &self.device.facts;
        let contradicts = |fact: &&Fact| shown.facts.get(fact.name()).is_some_and(|said| said != *fact);
        if let Some(fact) = demanded.values().find(contradicts) {
            return Err(Unfit::Contradicted(fact.name().clone()));
        }
        let proved = match (&shown.vouched, &self.demand) {
            (Some(vouched), _) if self.is_vouched(vouched) => Admit::Certificate,
            (_, Demand::Key(digest)) if *digest == shown.key_digest => Admit::Key,
            (_, Demand::Key(_)) => return Err(Unfit::OtherKey),
            // Digests of digests: how long this takes tells nothing of the secret.
            (_, Demand::Secret(digest)) => match shown.secret {
                Some(secret) if sha256(&secret.digest()) == sha256(digest) => Admit::Secret,
                Some(_) => return Err(Unfit::WrongSecret),
                None => return Err(Unfit::NoSecret),
            },
            (_, Demand::Certificate) => return Err(Unfit::NoCertificate),
            (_, Demand::Facts) => {
                if let Some(missing) = demanded.keys().find(|name| !shown.facts.contains_key(*name)) {
                    return Err(Unfit::Missing(missing.clone()));
                }
                match demanded.is_empty() {
                    true => return Err(Unfit::NoFacts),
                    false => Admit::Facts,
                }
            }
        };
        if proved < least { Err(Unfit::TooWeak { proved, least }) } else { Ok(proved) }
    }

    /// Whether a manufacturer says of a device all that is demanded, and may say it of this kind.
    fn is_vouched(&self, vouched: &Vouched<'_>) -> bool {
        let demanded = &self.device.facts;
        vouched.kinds.contains(&self.device.kind)
            && !demanded.is_empty()
            && demanded.iter().all(|(name, fact)| vouched.facts.get(name) == Some(fact))
    }
}

/// What a caller shows.
#[derive(Debug)]
pub struct Shown<'a> {
    /// What it says of itself.
    pub facts: &'a BTreeMap<FactName, Fact>,
    /// What a manufacturer says of it, whose certificate it holds.
    pub vouched: Option<Vouched<'a>>,
    /// SHA-256 of the SubjectPublicKeyInfo of its key, which it has proved to hold.
    pub key_digest: [u8; 32],
    /// The secret.
    pub secret: Option<&'a Secret>,
}

/// What a believed manufacturer says of a device.
#[derive(Debug)]
pub struct Vouched<'a> {
    /// The kinds that it may speak of.
    pub kinds: &'a [KindName],
    /// The facts in its certificate that it may vouch for.
    pub facts: &'a BTreeMap<FactName, Fact>,
}

/// Why an admission does not open to a caller.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Unfit {
    /// It cannot be used any more.
    #[error("it is {}", .0.as_str())]
    Over(AdmissionState),
    /// The caller says otherwise of itself.
    #[error("the request names another {0}")]
    Contradicted(FactName),
    /// A fact is demanded and not shown.
    #[error("the request does not name the {0}")]
    Missing(FactName),
    /// It demands the bare facts, and has none.
    #[error("it demands no fact, so that nothing proves it")]
    NoFacts,
    /// Another secret.
    #[error("the secret is another")]
    WrongSecret,
    /// No secret.
    #[error("no secret was shown")]
    NoSecret,
    /// Another key.
    #[error("the key is not the registered one")]
    OtherKey,
    /// No certificate, or one that does not say what is demanded.
    #[error("no manufacturer's certificate says what is demanded")]
    NoCertificate,
    /// The kind takes no proof as weak as this.
    #[error("it was proved by {}, and the kind takes {} at least", proved.as_str(), least.as_str())]
    TooWeak {
        /// What was shown.
        proved: Admit,
        /// What is taken.
        least: Admit,
    },
}

/// In what a listed device differs from the one that an admission means.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Difference {
    /// It is of another kind, this one.
    #[error("it is listed with the kind `{0}`")]
    Kind(KindName),
    /// It lacks a fact, or has another value of it.
    #[error("it is listed without this {0}")]
    Fact(FactName),
    /// It lacks a label, or has another value of it.
    #[error("it is listed without this {0}")]
    Label(String),
    /// It stands behind another gateway, or none.
    #[error("it is listed with another gateway, or none")]
    Gateway,
    /// It belongs to another owner, or to none.
    #[error("it is listed with another owner, or none")]
    Owner,
}

/// Why an admission cannot be opened.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum OpenRefusal {
    /// Its device cannot be listed.
    #[error(transparent)]
    Unlisted(AddRefusal),
    /// Its device is listed, and may not be given a certificate.
    #[error("{why}")]
    Unissued {
        /// Its place in the batch, from 0.
        index: usize,
        /// Why not.
        why: IssueRefusal,
    },
    /// Its device is listed, and is another.
    #[error("`{device}`: {difference}")]
    Differs {
        /// Its place in the batch, from 0.
        index: usize,
        /// The device.
        device: DeviceId,
        /// In what.
        difference: Difference,
    },
    /// There is one for the device that can be used.
    #[error("{other} is open for `{device}`")]
    DevicePending {
        /// Its place in the batch, from 0.
        index: usize,
        /// The device.
        device: DeviceId,
        /// That one.
        other: AdmissionName,
    },
    /// There is one for the same hardware that can be used.
    #[error("{other} is open for the {} `{}`", fact.name(), fact.value())]
    FactPending {
        /// Its place in the batch, from 0.
        index: usize,
        /// The fact.
        fact: Fact,
        /// That one.
        other: AdmissionName,
    },
    /// There is one for another device that demands the same key, and can be used.
    #[error("{other} is open for `{device}` with the same key")]
    KeyPending {
        /// Its place in the batch, from 0.
        index: usize,
        /// That device.
        device: DeviceId,
        /// That one.
        other: AdmissionName,
    },
    /// Its device would come in as that of an owner that is retired.
    #[error("the owner `{owner}` is retired since {since}")]
    OwnerRetired {
        /// Its place in the batch, from 0.
        index: usize,
        /// The owner.
        owner: OwnerId,
        /// Since when.
        since: UnixTime,
    },
    /// Another of the same batch is for the same device, hardware or key.
    #[error("another of them is for the same device, hardware or key")]
    Twice {
        /// Its place in the batch, from 0.
        index: usize,
    },
}

impl OpenRefusal {
    /// The place in the batch, from 0.
    #[must_use]
    pub fn index(&self) -> usize {
        match self {
            Self::Unlisted(refusal) => refusal.index(),
            Self::Unissued { index, .. }
            | Self::Differs { index, .. }
            | Self::DevicePending { index, .. }
            | Self::FactPending { index, .. }
            | Self::KeyPending { index, .. }
            | Self::OwnerRetired { index, .. }
            | Self::Twice { index } => *index,
        }
    }
}

/// An id by a pattern such as `gg-{serial}`: each fact in braces stands for its value, in lower case and without `:`.
///
/// # Errors
/// What is wrong with the pattern. Whether the outcome can be an id is not looked at.
pub fn filled(pattern: &str, facts: &BTreeMap<FactName, Fact>) -> Result<String, BadPattern> {
    let mut id = String::new();
    let mut rest = pattern;
    while let Some((before, behind)) = rest.split_once('{') {
        id.push_str(before);
        let (name, after) = behind.split_once('}').ok_or(BadPattern::Unclosed)?;
        let fact = FactName::parse(name).map_err(|_| BadPattern::NoFact(name.chars().take(24).collect()))?;
        let value = facts.get(&fact).ok_or(BadPattern::Unknown(fact))?.value();
        id.extend(value.chars().filter(|c| *c != ':').map(|c| c.to_ascii_lowercase()));
        rest = after;
    }
    id.push_str(rest);
    Ok(id)
}

/// Why a pattern gives no id.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadPattern {
    /// A brace is not closed.
    #[error("a `{{` is not followed by a `}}`")]
    Unclosed,
    /// What stands in braces is no fact.
    #[error("`{{{0}}}` is not a fact, and cannot name one")]
    NoFact(String),
    /// The fact is not given.
    #[error("the fact `{0}` is not given")]
    Unknown(FactName),
}

#[cfg(test)]
mod tests;
