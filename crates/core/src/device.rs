//! Devices: what the ward records of each, its state, and what is missing until it is ready.

use std::collections::{BTreeMap, BTreeSet};

use crate::credential::{CredentialRecord, CredentialState};
use crate::fact::{Fact, FactName};
use crate::id::{DeviceId, GroupName, KindName, LabelName, LabelValue, OwnerId};
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
        }
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
    pub const ALL: [Self; 8] =
        [Self::Listed, Self::Ended, Self::Issued, Self::Equipped, Self::Live, Self::Held, Self::Out, Self::Retired];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Listed => "listed",
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

/// What is missing until the device is live: one sentence each, in the order in which to mend it; empty if it is live.
#[must_use]
pub fn missing(
    device: &DeviceRecord,
    credentials: &[CredentialRecord],
    demands: Demands<'_>,
    policy: PolicyStanding,
    now: UnixTime,
) -> Vec<String> {
    let id = &device.id;
    match device.barred() {
        Some(Barred::Retired(_)) => {
            return vec!["it is retired for good; list its replacement under a new id".to_owned()];
        }
        Some(Barred::Out(_)) => {
            return vec![format!("it was revoked; `device reopen {id} --because ...` lets it enrol again")];
        }
        Some(Barred::Held(since)) => {
            return vec![format!("it is on hold since {since}; `release {id}` lifts that")];
        }
        None => {}
    }
    let state = DeviceState::of(device, credentials, now);
    let mut out = Vec::new();
    for fact in demands.facts.iter().filter(|fact| !device.facts.contains_key(fact)) {
        out.push(format!("its kind wants the fact `{fact}`: `device edit {id} --fact {fact}=...`"));
    }
    if matches!(state, DeviceState::Listed | DeviceState::Ended) {
        let again = format!("`enroll {id} --csr FILE` or `enroll {id} --make-key`");
        // Newest first: what became of the last one is what matters.
        out.push(match credentials.first().map(|credential| (credential, credential.state(now))) {
            None => format!("it has no certificate: {again}"),
            Some((last, CredentialState::Distrusted)) => {
                let authority = last.authority.as_ref().map(|name| format!(" `{name}`")).unwrap_or_default();
                format!("the authority{authority} of its certificate was retired: {again}")
            }
            Some((_, CredentialState::Revoked)) => format!("its certificate was revoked: {again}"),
            Some((last, _)) => {
                let ended = last.usable_until().unwrap_or(last.not_after);
                format!("its certificate ended on {}: {again}", ended.date())
            }
        });
        if demands.token_login {
            out.push(format!("until then it can sign in by token: `token issue {id}`"));
        }
    }
    match policy {
        PolicyStanding::NoEdition => out.push("no policy edition is adopted: `policy adopt`".to_owned()),
        PolicyStanding::NoConnect => out.push(format!("no adopted policy lets it connect: `policy ask {id} connect`")),
        PolicyStanding::MayConnect => {}
    }
    match state {
        DeviceState::Issued => out.push("its outfit was not written yet".to_owned()),
        DeviceState::Equipped => out.push("it has not connected with its certificate yet".to_owned()),
        _ => {}
    }
    out
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
        assert!(
            missing(&device, &[over], Demands { facts: &[], token_login: false }, PolicyStanding::MayConnect, now)[0]
                .contains("ended on 1970-01-01")
        );
        device.held = Some(UnixTime(125));
        assert_eq!(state(&device, std::slice::from_ref(&live)), DeviceState::Held);
        let held = missing(&device, &[], Demands { facts: &[], token_login: false }, PolicyStanding::MayConnect, now);
        assert!(held.len() == 1 && held[0].contains("`release wv-1`"), "{held:?}");
        device.out = Some(UnixTime(130));
        assert_eq!(state(&device, std::slice::from_ref(&live)), DeviceState::Out);
        device.retired = Some(UnixTime(140));
        assert_eq!(state(&device, &[live]), DeviceState::Retired);
    }
}
