//! Devices: what the ward records of each, its state, and what is missing until it is ready.

use std::collections::{BTreeMap, BTreeSet};

use crate::credential::{CredentialRecord, CredentialState};
use crate::fact::{Fact, FactName};
use crate::id::{AuthorityName, DeviceId, GroupName, KindName, LabelName, LabelValue, OwnerId};
use crate::time::UnixTime;

/// What is recorded of one device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceRecord {
    /// Its name.
    pub id: DeviceId,
    /// Its class.
    pub kind: KindName,
    /// Its labels.
    pub labels: BTreeMap<LabelName, LabelValue>,
    /// Its hardware identifiers, at most one of each name.
    pub facts: BTreeMap<FactName, Fact>,
    /// The groups that it was put into by name.
    pub groups: BTreeSet<GroupName>,
    /// The device that speaks for it, if any.
    pub gateway: Option<DeviceId>,
    /// Who claimed it, if anybody did.
    pub owner: Option<OwnerId>,
    /// When it was listed.
    pub created: UnixTime,
    /// If it was revoked and not reopened: since when.
    pub out: Option<UnixTime>,
    /// If it is on hold: since when.
    pub held: Option<UnixTime>,
    /// If it was retired: since when.
    pub retired: Option<UnixTime>,
    /// When it last connected.
    pub seen: Option<UnixTime>,
    /// Tokens made before this moment no longer count.
    pub tokens_from: UnixTime,
    /// When it was asked last to renew its certificate: one of before may be renewed at any time.
    pub renew_asked: Option<UnixTime>,
    /// When it last went from an owner, if what was its owner's ended with that: sessions that were opened before are over.
    pub passed: Option<UnixTime>,
    /// What people wrote about it, for people.
    pub note: Option<Note>,
}

/// A remark about a device, for people: 1 to 200 characters without control characters, and no blank at either end. No policy can
/// look at it, and the record of changes has only its digest, so that it can be taken away for good.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Note(String);

/// A text that is no note.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("a note has 1 to {MAX_NOTE} characters, none of them a control character, and no blank at either end")]
pub struct BadNote;

/// The longest note, in characters.
pub const MAX_NOTE: usize = 200;

impl Note {
    /// Its text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::str::FromStr for Note {
    type Err = BadNote;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let count = text.chars().take(MAX_NOTE + 1).count();
        let is_note = (1..=MAX_NOTE).contains(&count) && !text.chars().any(is_hidden) && text.trim() == text;
        if is_note { Ok(Self(text.to_owned())) } else { Err(BadNote) }
    }
}

/// Characters that a terminal or a reader would act on instead of showing them: controls, line and paragraph separators, and those that
/// turn the direction of writing.
fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{2028}' | '\u{2029}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

impl std::fmt::Display for Note {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl DeviceRecord {
    /// A device that was just listed.
    #[must_use]
    pub fn new(id: DeviceId, kind: KindName, created: UnixTime) -> Self {
        Self {
            id,
            kind,
            labels: BTreeMap::new(),
            facts: BTreeMap::new(),
            groups: BTreeSet::new(),
            gateway: None,
            owner: None,
            created,
            out: None,
            held: None,
            retired: None,
            seen: None,
            tokens_from: UnixTime(0),
            renew_asked: None,
            passed: None,
            note: None,
        }
    }

    /// What it has under a name: a label, or a fact of the ward's own. No name is both.
    #[must_use]
    pub fn named(&self, name: &LabelName) -> Option<&str> {
        let label = self.labels.get(name).map(|value| value.as_str());
        // Few devices have such a fact: the name is not copied to look for one.
        label.or_else(|| {
            let mut own = self.facts.iter().rev().take_while(|(known, _)| matches!(known, FactName::Own(_)));
            own.find(|(known, _)| matches!(known, FactName::Own(known) if known == name)).map(|(_, fact)| fact.value())
        })
    }

    /// What keeps the device from signing in, whatever it shows; `None` if nothing does.
    #[must_use]
    pub fn barred(&self) -> Option<Barred> {
        let retired = self.retired.map(Barred::Retired);
        retired.or(self.out.map(Barred::Out)).or(self.held.map(Barred::Held))
    }
}

/// Why a device may not sign in, whatever it shows, and since when.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Barred {
    /// It is on hold.
    #[error("the device is on hold since {0}")]
    Held(UnixTime),
    /// It was revoked and not reopened.
    #[error("the device is out since {0}")]
    Out(UnixTime),
    /// It is gone for good.
    #[error("the device is retired since {0}")]
    Retired(UnixTime),
}

/// The end of the credential that may sign in longest, whether that has come or not; `None` if there is none that was not
/// revoked or distrusted.
#[must_use]
pub fn credential_end(credentials: &[CredentialRecord]) -> Option<UnixTime> {
    credentials.iter().filter_map(CredentialRecord::usable_until).max()
}

/// The state of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum DeviceState {
    /// It never had a credential.
    Listed,
    /// It called and waits for a person: it is no device yet, and no record of one has this state.
    Asking,
    /// It has had credentials, and none of them may sign in any more: it must enrol anew.
    Ended,
    /// A credential was made for it.
    Issued,
    /// It has its credential.
    Equipped,
    /// It has connected with its credential.
    Live,
    /// It is suspended: it may not sign in until it is released.
    Held,
    /// It was revoked; enrolling is refused until it is reopened.
    Out,
    /// It is gone for good; its id is never used again.
    Retired,
}

impl DeviceState {
    /// All of them, in the order of a device's life.
    pub const ALL: [Self; 9] = [
        Self::Listed,
        Self::Asking,
        Self::Ended,
        Self::Issued,
        Self::Equipped,
        Self::Live,
        Self::Held,
        Self::Out,
        Self::Retired,
    ];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Listed => "listed",
            Self::Asking => "asking",
            Self::Ended => "ended",
            Self::Issued => "issued",
            Self::Equipped => "equipped",
            Self::Live => "live",
            Self::Held => "held",
            Self::Out => "out",
            Self::Retired => "retired",
        }
    }

    /// Derives the state at `now` from what is recorded of the device and its credentials.
    #[must_use]
    pub fn of(device: &DeviceRecord, credentials: &[CredentialRecord], now: UnixTime) -> Self {
        match device.barred() {
            Some(Barred::Retired(_)) => return Self::Retired,
            Some(Barred::Out(_)) => return Self::Out,
            Some(Barred::Held(_)) => return Self::Held,
            None => {}
        }
        let usable =
            credentials.iter().filter(|credential| credential.usable_until().is_some_and(|until| until >= now));
        usable
            .map(|credential| {
                if credential.first_used.is_some() {
                    Self::Live
                } else if credential.equipped.is_some() {
                    Self::Equipped
                } else {
                    Self::Issued
                }
            })
            .max()
            .unwrap_or(if credentials.is_empty() { Self::Listed } else { Self::Ended })
    }
}

/// What the adopted edition gives a device, as far as readiness is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PolicyStanding {
    /// No edition was adopted yet.
    NoEdition,
    /// No policy selects the device, or none lets it connect.
    NoConnect,
    /// It may connect.
    MayConnect,
}

/// What the device's kind asks for, as far as readiness is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Demands<'a> {
    /// Facts that must be known.
    pub facts: &'a [FactName],
    /// Whether a token opens a session too.
    pub token_login: bool,
}

/// Something that stands between a device and being live.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Gap {
    /// It may not be here, whatever it has.
    Barred(Barred),
    /// Its kind wants a fact that is not known.
    Fact(FactName),
    /// It never had a credential.
    NoCredential,
    /// The authority of its last credential was retired.
    AuthorityRetired(Option<AuthorityName>),
    /// Its last credential was revoked.
    Revoked,
    /// Its last credential ended in this second.
    Ended(UnixTime),
    /// Until it has one, a token opens a session for it.
    TokenMeanwhile,
    /// No policy edition is adopted.
    NoEdition,
    /// No adopted policy lets it connect.
    NoConnect,
    /// Its outfit was not written yet.
    NotWritten,
    /// It has not connected with its credential yet.
    NotUsed,
}

/// What is missing until the device is live, in the order in which to mend it; empty if it is live.
#[must_use]
pub fn missing(
    device: &DeviceRecord,
    credentials: &[CredentialRecord],
    demands: Demands<'_>,
    policy: PolicyStanding,
    now: UnixTime,
) -> Vec<Gap> {
    if let Some(barred) = device.barred() {
        return vec![Gap::Barred(barred)];
    }
    let state = DeviceState::of(device, credentials, now);
    let unknown = demands.facts.iter().filter(|fact| !device.facts.contains_key(fact));
    let mut gaps: Vec<Gap> = unknown.cloned().map(Gap::Fact).collect();
    if matches!(state, DeviceState::Listed | DeviceState::Ended) {
        // Newest first: what became of the last one is what matters.
        gaps.push(match credentials.first().map(|credential| (credential, credential.state(now))) {
            None => Gap::NoCredential,
            Some((last, CredentialState::Distrusted)) => Gap::AuthorityRetired(last.authority.clone()),
            Some((_, CredentialState::Revoked)) => Gap::Revoked,
            Some((last, _)) => Gap::Ended(last.usable_until().unwrap_or(last.not_after)),
        });
        gaps.extend(demands.token_login.then_some(Gap::TokenMeanwhile));
    }
    match policy {
        PolicyStanding::NoEdition => gaps.push(Gap::NoEdition),
        PolicyStanding::NoConnect => gaps.push(Gap::NoConnect),
        PolicyStanding::MayConnect => {}
    }
    match state {
        DeviceState::Issued => gaps.push(Gap::NotWritten),
        DeviceState::Equipped => gaps.push(Gap::NotUsed),
        _ => {}
    }
    gaps
}

/// Why one device of a batch cannot be listed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AddRefusal {
    /// Its id is in use.
    #[error("the id `{id}` is taken")]
    IdTaken {
        /// Its place in the batch, from 0.
        index: usize,
        /// The id.
        id: DeviceId,
    },
    /// Its id belonged to a device that was retired.
    #[error("the id `{id}` belonged to a retired device and is never used again")]
    IdRetired {
        /// Its place in the batch, from 0.
        index: usize,
        /// The id.
        id: DeviceId,
    },
    /// One of its facts belongs to another device.
    #[error("the {} `{}` belongs to `{owner}`", fact.name(), fact.value())]
    FactTaken {
        /// Its place in the batch, from 0.
        index: usize,
        /// The fact.
        fact: Fact,
        /// The other device.
        owner: DeviceId,
    },
    /// Its gateway is not listed.
    #[error("the gateway `{gateway}` is not listed")]
    NoGateway {
        /// Its place in the batch, from 0.
        index: usize,
        /// The gateway.
        gateway: DeviceId,
    },
    /// Its gateway stands behind a gateway itself, or it has children of its own.
    #[error("`{gateway}` cannot be its gateway: no gateway stands behind a gateway")]
    GatewayBehindGateway {
        /// Its place in the batch, from 0.
        index: usize,
        /// The gateway.
        gateway: DeviceId,
    },
}

impl AddRefusal {
    /// The place in the batch, from 0.
    #[must_use]
    pub fn index(&self) -> usize {
        match self {
            Self::IdTaken { index, .. }
            | Self::IdRetired { index, .. }
            | Self::FactTaken { index, .. }
            | Self::NoGateway { index, .. }
            | Self::GatewayBehindGateway { index, .. } => *index,
        }
    }

    /// The same at another place.
    #[must_use]
    pub fn at(mut self, place: usize) -> Self {
        match &mut self {
            Self::IdTaken { index, .. }
            | Self::IdRetired { index, .. }
            | Self::FactTaken { index, .. }
            | Self::NoGateway { index, .. }
            | Self::GatewayBehindGateway { index, .. } => *index = place,
        }
        self
    }
}

/// Changes to a listed device; what is empty stays as it is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DeviceEdit {
    /// Labels to set (`Some`) or take away (`None`).
    pub labels: Vec<(LabelName, Option<LabelValue>)>,
    /// Facts to set (`Ok`) or take away (`Err`).
    pub facts: Vec<Result<Fact, FactName>>,
    /// The gateway to set (`Some(Some)`) or take away (`Some(None)`).
    pub gateway: Option<Option<DeviceId>>,
    /// The note to set (`Some(Some)`) or take away (`Some(None)`).
    pub note: Option<Option<Note>>,
}

impl DeviceEdit {
    /// The record as the edit makes it.
    #[must_use]
    pub fn applied(&self, device: &DeviceRecord) -> DeviceRecord {
        let mut device = device.clone();
        for (name, value) in &self.labels {
            match value {
                Some(value) => device.labels.insert(name.clone(), value.clone()),
                None => device.labels.remove(name),
            };
        }
        for fact in &self.facts {
            match fact {
                Ok(fact) => device.facts.insert(fact.name().clone(), fact.clone()),
                Err(name) => device.facts.remove(name),
            };
        }
        if let Some(gateway) = &self.gateway {
            device.gateway.clone_from(gateway);
        }
        if let Some(note) = &self.note {
            device.note.clone_from(note);
        }
        device
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::credential::tests::record;

    #[test]
    fn one_derived_answer_and_what_is_missing() {
        let mut device = DeviceRecord::new("wv-1".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(50));
        let now = UnixTime(200);
        let state = |device: &DeviceRecord, credentials: &[CredentialRecord]| DeviceState::of(device, credentials, now);
        assert_eq!(state(&device, &[]), DeviceState::Listed);
        let wants = Demands { facts: &[FactName::Serial], token_login: true };
        let told = missing(&device, &[], wants, PolicyStanding::NoEdition, now);
        assert_eq!(told.len(), 4, "{told:?}");
        let equipped = CredentialRecord { equipped: Some(UnixTime(110)), ..record() };
        assert_eq!(state(&device, std::slice::from_ref(&equipped)), DeviceState::Equipped);
        let live = CredentialRecord { first_used: Some(UnixTime(120)), ..equipped.clone() };
        assert_eq!(state(&device, &[equipped, live.clone()]), DeviceState::Live);
        assert!(
            missing(
                &device,
                std::slice::from_ref(&live),
                Demands { facts: &[], token_login: false },
                PolicyStanding::MayConnect,
                now
            )
            .is_empty()
        );
        let over = CredentialRecord { not_after: UnixTime(150), ..live.clone() };
        assert_eq!(state(&device, std::slice::from_ref(&over)), DeviceState::Ended);
        let all = Demands { facts: &[FactName::Serial], token_login: true };
        let gaps = |credentials: &[CredentialRecord], policy| missing(&device, credentials, all, policy, now);
        let (serial, connect) = (Gap::Fact(FactName::Serial), PolicyStanding::MayConnect);
        assert_eq!(gaps(&[over], connect), [serial.clone(), Gap::Ended(UnixTime(150)), Gap::TokenMeanwhile]);
        let nothing = [serial.clone(), Gap::NoCredential, Gap::TokenMeanwhile, Gap::NoEdition];
        assert_eq!(gaps(&[], PolicyStanding::NoEdition), nothing);
        let revoked =
            CredentialRecord { revoked: Some((UnixTime(10), crate::revocation::Reason::Superseded)), ..live.clone() };
        assert_eq!(
            gaps(&[revoked], PolicyStanding::NoConnect)[1..],
            [Gap::Revoked, Gap::TokenMeanwhile, Gap::NoConnect]
        );
        let distrusted = CredentialRecord { distrusted: Some(UnixTime(10)), ..live.clone() };
        assert_eq!(gaps(&[distrusted], connect)[1], Gap::AuthorityRetired("devices".parse().ok()));
        let fresh = CredentialRecord { first_used: None, ..live.clone() };
        assert_eq!(gaps(std::slice::from_ref(&fresh), connect), [serial.clone(), Gap::NotUsed]);
        let unwritten = CredentialRecord { equipped: None, ..fresh };
        assert_eq!(gaps(&[unwritten], connect), [serial, Gap::NotWritten]);
        device.held = Some(UnixTime(125));
        assert_eq!(state(&device, std::slice::from_ref(&live)), DeviceState::Held);
        let held = missing(&device, &[], Demands { facts: &[], token_login: false }, PolicyStanding::MayConnect, now);
        assert_eq!(held, [Gap::Barred(Barred::Held(UnixTime(125)))]);
        device.out = Some(UnixTime(130));
        assert_eq!(state(&device, std::slice::from_ref(&live)), DeviceState::Out);
        device.retired = Some(UnixTime(140));
        assert_eq!(state(&device, &[live]), DeviceState::Retired);
    }
}
