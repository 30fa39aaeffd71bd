//! Who may be given another credential, and what happens to those that it has.

use crate::credential::{BlockSource, CredentialRecord, Origin};
use crate::device::{Barred, DeviceRecord};
use crate::id::DeviceId;
use crate::key::sha256;
use crate::time::{Span, UnixTime};

/// Why a certificate was not recorded.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the texts say what the fields are")]
pub enum IssueRefusal {
    /// The device was revoked and not reopened.
    #[error("`{device}` is out since {since}")]
    Out { device: DeviceId, since: UnixTime },
    /// The device is on hold.
    #[error("`{device}` is on hold since {since}")]
    Held { device: DeviceId, since: UnixTime },
    /// The device was retired.
    #[error("`{device}` is retired since {since}")]
    Retired { device: DeviceId, since: UnixTime },
    /// The device has a credential that may sign in.
    #[error("`{device}` has a certificate until {until}")]
    HasCredential {
        device: DeviceId,
        /// Its end.
        until: UnixTime,
    },
    /// The very same certificate or bare key was recorded before: what ended then stays ended.
    #[error("the same is on record for `{device}` since {since}, and nothing is recorded twice")]
    Recorded {
        /// Whose it is.
        device: DeviceId,
        /// When it was recorded.
        since: UnixTime,
    },
    /// The key is on the list of those that are never taken.
    #[error("this key is blocked since {at} ({})", match from { BlockSource::Listed => "it is on a list of weak keys", _ => "by hand" })]
    KeyBlocked {
        at: UnixTime,
        /// Where it became known.
        from: BlockSource,
    },
    /// Another device has a certificate for the same key.
    #[error("the same key is in use by `{other}`")]
    KeyInUse {
        /// The other device.
        other: DeviceId,
    },
    /// The device had this key in its former owner's time.
    #[error("`{device}` had this key in its former owner's time, until {since}, and needs another")]
    KeyOfFormerOwner {
        device: DeviceId,
        /// When it went from that owner.
        since: UnixTime,
    },
    /// The key was given up as compromised.
    #[error("this key was revoked for compromise, with a certificate of `{other}`")]
    KeyCompromised {
        /// Whose certificate that was.
        other: DeviceId,
    },
}

impl IssueRefusal {
    /// The refusal of a device that may not sign in.
    #[must_use]
    pub fn barred(device: DeviceId, barred: Barred) -> Self {
        match barred {
            Barred::Held(since) => Self::Held { device, since },
            Barred::Out(since) => Self::Out { device, since },
            Barred::Retired(since) => Self::Retired { device, since },
        }
    }
}

/// The credentials that a new one replaces: those that may sign in, but for a maker's, which introduces a device and stands in
/// the way of nothing.
pub fn replaced<'c>(
    credentials: impl IntoIterator<Item = &'c CredentialRecord>,
    new: Origin,
    now: UnixTime,
) -> impl Iterator<Item = &'c CredentialRecord> {
    let is_its = move |origin: Origin| origin != Origin::Foreign && (new.is_key() || !origin.is_key());
    let own = credentials.into_iter().filter(move |credential| is_its(credential.origin));
    own.filter(move |credential| credential.usable_until().is_some_and(|until| until >= now))
}

/// Whether a device may be given a new credential, its key apart. `again` says that it may have one already.
///
/// # Errors
/// Why not.
pub fn may_be_issued<'c>(
    device: &DeviceRecord,
    credentials: impl IntoIterator<Item = &'c CredentialRecord>,
    new: Origin,
    again: bool,
    now: UnixTime,
) -> Result<(), IssueRefusal> {
    if let Some(barred) = device.barred() {
        return Err(IssueRefusal::barred(device.id.clone(), barred));
    }
    let usable = replaced(credentials, new, now).filter_map(CredentialRecord::usable_until);
    match (usable.max(), again) {
        (Some(until), false) => Err(IssueRefusal::HasCredential { device: device.id.clone(), until }),
        _ => Ok(()),
    }
}

/// The first second in which a credential may be renewed: `renew` before its end, or a third of its life, and up to half as long again
/// closer to the end, by the device. So a fleet that enrolled on one day does not come back on one.
#[must_use]
pub fn renewal_opens(begins: UnixTime, ends: UnixTime, renew: Option<Span>, device: &DeviceId) -> UnixTime {
    renewal_moment(begins, ends, renew, &sha256(device.as_str().as_bytes()))
}

/// Within how many seconds before its end a credential that lasts `life` seconds may be renewed by the first devices.
#[must_use]
pub fn renewal_window(life: i64, renew: Option<Span>) -> i64 {
    let life = life.max(0);
    renew.map_or(life / 3, Span::seconds).min(life)
}

/// [`renewal_opens`], of a device whose id has this SHA-256.
#[must_use]
pub fn renewal_moment(begins: UnixTime, ends: UnixTime, renew: Option<Span>, device: &[u8; 32]) -> UnixTime {
    let window = renewal_window(ends.since(begins), renew);
    let [a, b, c, d, ..] = *device;
    let later = (i128::from(window / 2) * i128::from(u32::from_be_bytes([a, b, c, d]))) >> 32;
    UnixTime(ends.0 - window + i64::try_from(later).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::credential::tests::record;

    #[test]
    fn a_fleet_that_enrolled_on_one_day_does_not_come_back_on_one() {
        let days = |days: i64| UnixTime(days * 86_400);
        let opens = |device: usize, renew: Option<u32>| {
            renewal_opens(days(0), days(90), renew.map(Span::from_days), &format!("wv-{device}").parse().unwrap())
        };
        let all: Vec<UnixTime> = (0..3000).map(|device| opens(device, None)).collect();
        assert!(all.iter().all(|at| (days(60)..days(75)).contains(at)), "in the first half of the last third");
        for day in 60..75 {
            let on_it = all.iter().filter(|at| (days(day)..days(day + 1)).contains(at)).count();
            assert!((120..=290).contains(&on_it), "{on_it} of 3000 on day {day}, of 15");
        }
        assert_eq!(opens(7, None), all[7], "each has its own");
        assert!((0..300).all(|device| (days(80)..days(85)).contains(&opens(device, Some(10)))));
        assert!((0..300).all(|device| (days(0)..days(45)).contains(&opens(device, Some(400)))), "not before it begins");
        assert_eq!(renewal_opens(days(5), days(5), None, &"wv-1".parse().unwrap()), days(5));
    }

    #[test]
    fn a_device_is_given_another_credential_if_it_may_be_here_and_somebody_says_so() {
        let device = DeviceRecord::new("wv-1".parse().unwrap(), "windvane".parse().unwrap(), UnixTime(0));
        let now = UnixTime(500);
        let good = record();
        let ended = CredentialRecord { not_after: UnixTime(499), ..record() };
        let foreign = CredentialRecord { origin: Origin::Foreign, ..record() };
        let superseded = CredentialRecord { superseded_until: Some(UnixTime(600)), ..record() };
        for (has, again, want) in [
            (vec![], false, None),
            (vec![&ended, &foreign], false, None),
            (vec![&good], false, Some(1_000)),
            (vec![&superseded, &ended], false, Some(600)),
            (vec![&good, &superseded], true, None),
        ] {
            let got = may_be_issued(&device, has.clone(), Origin::Issued, again, now).err();
            let until =
                want.map(|until| IssueRefusal::HasCredential { device: device.id.clone(), until: UnixTime(until) });
            assert_eq!(got, until, "{has:?}");
        }
        assert_eq!(replaced([&good, &ended, &foreign, &superseded], Origin::Issued, now).count(), 2);
        let held = DeviceRecord { held: Some(UnixTime(9)), ..device };
        let refused = may_be_issued(&held, [], Origin::Issued, true, now).unwrap_err();
        assert!(refused.to_string().contains("on hold since"), "{refused}");
    }
}
