//! Credentials: what the ward records of each, and the state that follows from it.

use crate::certificate::{Fingerprint, SerialNumber};
use crate::id::{AuthorityName, DeviceId};
use crate::revocation::Reason;
use crate::time::UnixTime;

/// Where a credential comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Origin {
    /// An authority of the ward signed it.
    Issued,
    /// A certificate of other make, bound to its device by its fingerprint.
    Pinned,
    /// A bare public key, bound to its device: any certificate that carries it stands for it.
    Key,
    /// A certificate of a foreign authority that the ward trusts for the device's kind.
    Foreign,
    /// An HMAC key that the device and the ward share.
    Shared,
}

impl Origin {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Issued, Self::Pinned, Self::Key, Self::Foreign, Self::Shared];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Issued => "issued",
            Self::Pinned => "pinned",
            Self::Key => "key",
            Self::Foreign => "foreign",
            Self::Shared => "shared",
        }
    }

    /// Whether it is a key of the device's own, and no certificate: the two are replaced apart.
    #[must_use]
    pub fn is_key(self) -> bool {
        matches!(self, Self::Key | Self::Shared)
    }
}

/// What is recorded of one credential. States are derived from it, never stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CredentialRecord {
    /// Its name: SHA-256 of the certificate's DER; of a bare key, SHA-256 of its SubjectPublicKeyInfo.
    pub fingerprint: Fingerprint,
    /// Its serial number under its authority; a bare key has none.
    pub serial: Option<SerialNumber>,
    /// Where it comes from.
    pub origin: Origin,
    /// Which of the ward's authorities signed it, or which trusted foreign one.
    pub authority: Option<AuthorityName>,
    /// Whose it is.
    pub device: DeviceId,
    /// The type of its key, such as `p256`.
    pub key_type: String,
    /// The first second of its validity.
    pub not_before: UnixTime,
    /// The last second of its validity.
    pub not_after: UnixTime,
    /// When it was signed.
    pub issued: UnixTime,
    /// When the device fetched it or its outfit was written.
    pub equipped: Option<UnixTime>,
    /// When the device first connected with it.
    pub first_used: Option<UnixTime>,
    /// If it was replaced: the last second in which it may sign in; brought forward by the first use of its successor.
    pub superseded_until: Option<UnixTime>,
    /// If it was revoked: when and why.
    pub revoked: Option<(UnixTime, Reason)>,
    /// If its device is on hold: since when.
    pub held: Option<UnixTime>,
    /// If its authority was retired: since when nothing that it signed is trusted.
    pub distrusted: Option<UnixTime>,
    /// What it is called in tokens, if it is a key of the device's own.
    pub kid: Option<String>,
    /// What a person wrote about it.
    pub note: Option<String>,
}

/// The state of a credential.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum CredentialState {
    /// Signed.
    Issued,
    /// In the device's hands.
    Equipped,
    /// Used.
    Live,
    /// Replaced by a newer one.
    Superseded,
    /// Suspended with its device, and on the CRL for that time.
    Held,
    /// Ended for good, and on the CRL.
    Revoked,
    /// Its authority was retired, so that nobody trusts it any more.
    Distrusted,
    /// Past its end.
    Expired,
}

impl CredentialState {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Issued => "issued",
            Self::Equipped => "equipped",
            Self::Live => "live",
            Self::Superseded => "superseded",
            Self::Held => "held",
            Self::Revoked => "revoked",
            Self::Distrusted => "distrusted",
            Self::Expired => "expired",
        }
    }
}

impl CredentialRecord {
    /// What people call it: its serial number, the fingerprint of a bare key, or what a shared key is called in tokens.
    #[must_use]
    pub fn name(&self) -> String {
        match (&self.serial, &self.kid) {
            (Some(serial), _) => serial.to_string(),
            (None, Some(kid)) if self.origin == Origin::Shared => kid.clone(),
            (None, _) => self.fingerprint.to_string(),
        }
    }

    /// What a key is called in tokens, and anything else as people call it.
    #[must_use]
    pub fn key_name(&self) -> String {
        self.kid.clone().unwrap_or_else(|| self.name())
    }

    /// The state at `now`.
    #[must_use]
    pub fn state(&self, now: UnixTime) -> CredentialState {
        if self.revoked.is_some() {
            CredentialState::Revoked
        } else if now > self.not_after {
            CredentialState::Expired
        } else if self.distrusted.is_some() {
            CredentialState::Distrusted
        } else if self.held.is_some() {
            CredentialState::Held
        } else if self.superseded_until.is_some() {
            CredentialState::Superseded
        } else if self.first_used.is_some() {
            CredentialState::Live
        } else if self.equipped.is_some() {
            CredentialState::Equipped
        } else {
            CredentialState::Issued
        }
    }

    /// Whether it is good at `now`: neither revoked nor of a retired authority, begun, and not past its end or its overlap. A hold
    /// is a matter of the device and stands beside this. The store says the same in SQL, held to it by a property test.
    #[must_use]
    pub fn is_good(&self, now: UnixTime) -> bool {
        self.not_before <= now && self.usable_until().is_some_and(|until| until >= now)
    }

    /// The last second in which it may sign in as things stand; `None` if it no longer may at all. A hold is not looked
    /// at: it is lifted, or becomes a revocation.
    #[must_use]
    pub fn usable_until(&self) -> Option<UnixTime> {
        match self.revoked.is_some() || self.distrusted.is_some() {
            true => None,
            false => Some(self.superseded_until.map_or(self.not_after, |until| until.min(self.not_after))),
        }
    }

    /// Whether it may sign in at `now`.
    ///
    /// # Errors
    /// Why not.
    pub fn may_sign_in(&self, now: UnixTime) -> Result<(), Unusable> {
        if let Some((at, reason)) = self.revoked {
            return Err(Unusable::Revoked { at, reason });
        }
        if now > self.not_after {
            return Err(Unusable::Expired { at: self.not_after });
        }
        if now < self.not_before {
            return Err(Unusable::NotYet { from: self.not_before });
        }
        if let Some(since) = self.distrusted {
            return Err(Unusable::Distrusted { authority: self.authority.clone(), since });
        }
        if let Some(since) = self.held {
            return Err(Unusable::Held { since });
        }
        match self.superseded_until {
            Some(until) if now > until => Err(Unusable::Superseded { until }),
            _ => Ok(()),
        }
    }
}

/// Why a credential may not sign in.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the texts say what the fields are")]
pub enum Unusable {
    /// Revoked.
    #[error("its certificate was revoked at {at} ({reason})")]
    Revoked { at: UnixTime, reason: Reason },
    /// Past its end.
    #[error("its certificate ended at {at}")]
    Expired { at: UnixTime },
    /// Before its beginning.
    #[error("its certificate begins at {from}")]
    NotYet { from: UnixTime },
    /// Its authority was retired.
    #[error("its authority{} was retired at {since}", authority.as_ref().map(|name| format!(" `{name}`")).unwrap_or_default())]
    Distrusted { authority: Option<AuthorityName>, since: UnixTime },
    /// Its device is on hold.
    #[error("the device is on hold since {since}")]
    Held { since: UnixTime },
    /// Replaced, and its time is over.
    #[error("its certificate was replaced by a newer one and could be used until {until}")]
    Superseded {
        /// Until when.
        until: UnixTime,
    },
}

/// A revocation to be recorded.
#[derive(Debug, Clone, Copy)]
pub struct Revocation<'a> {
    /// The device.
    pub device: &'a DeviceId,
    /// Only this certificate; `None` for all, and the device is out.
    pub only: Option<Fingerprint>,
    /// Why.
    pub reason: Reason,
}

/// A credential that was ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ended {
    /// Its fingerprint.
    pub fingerprint: Fingerprint,
    /// Its serial number; a bare key has none.
    pub serial: Option<SerialNumber>,
    /// Whether it now belongs on a CRL of the ward.
    pub listed: bool,
}

/// Where a blocked key became known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BlockSource {
    /// A credential with it was revoked for compromise.
    Revoked,
    /// Somebody blocked it.
    Given,
    /// It stood in a list of keys that are known to be weak or public.
    Listed,
}

impl BlockSource {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Revoked, Self::Given, Self::Listed];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Revoked => "revoked",
            Self::Given => "given",
            Self::Listed => "listed",
        }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    pub(crate) fn record() -> CredentialRecord {
        CredentialRecord {
            fingerprint: Fingerprint([1; 32]),
            serial: SerialNumber::from_octets(&[1]),
            origin: Origin::Issued,
            authority: "devices".parse().ok(),
            device: "wv-1".parse().unwrap(),
            key_type: "p256".into(),
            not_before: UnixTime(100),
            not_after: UnixTime(1_000),
            issued: UnixTime(100),
            equipped: None,
            first_used: None,
            superseded_until: None,
            revoked: None,
            held: None,
            distrusted: None,
            kid: None,
            note: None,
        }
    }

    proptest::proptest! {
        /// The reasons that are told and the plain answer say the same.
        #[test]
        fn a_credential_signs_in_exactly_if_it_is_good_and_not_on_hold(
            times in proptest::collection::vec(0i64..8, 4),
            set in proptest::collection::vec(proptest::bool::ANY, 4),
            now in 0i64..8,
        ) {
            let at = |set: bool, time: i64| set.then_some(UnixTime(time));
            let credential = CredentialRecord {
                not_before: UnixTime(times[0]),
                not_after: UnixTime(times[1]),
                superseded_until: at(set[0], times[2]),
                revoked: at(set[1], times[3]).map(|at| (at, Reason::Superseded)),
                distrusted: at(set[2], times[3]),
                held: at(set[3], times[3]),
                ..record()
            };
            let now = UnixTime(now);
            let may = credential.may_sign_in(now).is_ok();
            proptest::prop_assert_eq!(may, credential.is_good(now) && credential.held.is_none(), "{:?}", credential);
        }
    }

    #[test]
    fn states_follow_from_what_happened_and_the_clock() {
        let at = |seconds| Some(UnixTime(seconds));
        let issued = record();
        let equipped = CredentialRecord { equipped: at(110), ..record() };
        let live = CredentialRecord { first_used: at(120), ..equipped.clone() };
        let superseded = CredentialRecord { superseded_until: at(500), ..live.clone() };
        let revoked = CredentialRecord { revoked: Some((UnixTime(300), Reason::KeyCompromise)), ..live.clone() };
        let held = CredentialRecord { held: at(125), ..live.clone() };
        let distrusted = CredentialRecord { distrusted: at(130), ..live.clone() };
        let held_and_revoked = CredentialRecord { held: at(125), ..revoked.clone() };
        for (record, now, state, may) in [
            (&held, 200, CredentialState::Held, false),
            (&distrusted, 200, CredentialState::Distrusted, false),
            (&distrusted, 1_001, CredentialState::Expired, false),
            (&held, 1_001, CredentialState::Expired, false),
            (&held_and_revoked, 200, CredentialState::Revoked, false),
            (&issued, 99, CredentialState::Issued, false),
            (&issued, 100, CredentialState::Issued, true),
            (&equipped, 200, CredentialState::Equipped, true),
            (&live, 1_000, CredentialState::Live, true),
            (&live, 1_001, CredentialState::Expired, false),
            (&superseded, 500, CredentialState::Superseded, true),
            (&superseded, 501, CredentialState::Superseded, false),
            (&revoked, 200, CredentialState::Revoked, false),
            (&revoked, 2_000, CredentialState::Revoked, false),
        ] {
            let now = UnixTime(now);
            assert_eq!((record.state(now), record.may_sign_in(now).is_ok()), (state, may), "{record:?} at {now}");
        }
    }
}
