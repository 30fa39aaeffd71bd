//! What a device's credentials, and what else ends, stand like.

use super::forecast::Renewing;
use super::{CredentialEnd, DESK_SILENT, DeviceEnds, Forecast, Item, TOLD_AFTER_END, What, Why};
use crate::authority::{AuthorityRecord, AuthorityRole};
use crate::credential::Origin;
use crate::enrolment::{renewal_moment, renewal_window};
use crate::id::KindName;
use crate::key::sha256;
use crate::settings::{Kind, Renews, Settings};
use crate::time::{Span, UnixTime};

/// For how long before its end an authority for authorities, or for services, should have a successor.
const SUCCESSOR: Span = Span::from_days(365);

/// Judges what falls due between now and a horizon.
#[derive(Debug, Clone, Copy)]
pub struct Judge<'s> {
    /// The ward's settings.
    pub settings: &'s Settings,
    /// The present.
    pub now: UnixTime,
    /// The horizon: what ends behind it is not due.
    pub until: UnixTime,
    /// When a desk was seen last.
    pub desk: Option<UnixTime>,
}

impl Judge<'_> {
    /// Whether something that ends then is told of.
    #[must_use]
    pub fn is_due(&self, ends: UnixTime) -> bool {
        ends <= self.until && ends >= self.now.minus(TOLD_AFTER_END)
    }

    /// Whether a desk runs.
    #[must_use]
    pub fn has_desk(&self) -> bool {
        // A clock that was ahead and was put right must not hide a desk that runs.
        self.desk.is_some_and(|seen| self.now.since(seen) <= DESK_SILENT.seconds())
    }

    /// What of a device is due, and the renewals of its certificate.
    pub fn device(&self, device: &DeviceEnds<'_>, forecast: &mut Forecast, found: &mut dyn FnMut(Item)) {
        let kind = self.settings.kinds.iter().find(|(name, _)| name.as_str() == device.kind);
        let certificates =
            device.credentials.iter().filter(|each| matches!(each.origin, Origin::Issued | Origin::Pinned));
        // The latest end counts: one that was replaced ends as it should.
        if let Some(last) = certificates.max_by_key(|each| each.ends) {
            self.certificate(device, last, kind, forecast, found);
        }
        for key in device.credentials.iter().filter(|each| each.origin.is_key() && self.is_due(each.ends)) {
            let others = || device.credentials.iter().filter(|each| each.origin.is_key());
            let is_over = key.ends < self.now;
            if is_over && others().any(|other| other.ends > key.ends) {
                continue;
            }
            // One that was replaced goes on until the next one is used, which would have ended it.
            let next =
                others().filter(|other| key.superseded && other.ends > key.ends).max_by_key(|other| other.begins);
            let why = match (is_over, next) {
                (true, _) => Why::Ended,
                (false, Some(next)) => self.follows(key, next, kind),
                (false, None) if key.origin == Origin::Shared => self.shared_key(device, key, kind),
                (false, None) => Why::Key,
            };
            let what = if key.origin == Origin::Shared { What::SharedKey } else { What::PublicKey };
            found(item(device, what, key, why, kind));
        }
        if let Some(since) = device.held {
            let ends = since.plus(self.settings.due.hold_review);
            // One that was held long ago and forgotten is what this is for: it is told of however long ago it fell due.
            if ends <= self.until {
                let held = CredentialEnd {
                    origin: Origin::Issued,
                    authority: None,
                    begins: since,
                    ends,
                    superseded: false,
                    kid: None,
                };
                found(item(device, What::Hold, &held, Why::OnHold { since }, kind));
            }
        }
    }

    /// What is to be said of a credential whose successor is there and was not used: nothing is wrong for as long as a device that fetched it
    /// may take for that. One that was sent may never have arrived, so that half of the time until the end is left for a person.
    fn follows(&self, old: &CredentialEnd<'_>, next: &CredentialEnd<'_>, kind: Option<(&KindName, &Kind)>) -> Why {
        let since = next.begins;
        let default = Kind::default();
        let kind = kind.map_or(&default, |(_, kind)| kind);
        let is_sent = match old.origin {
            Origin::Shared => kind.renews_keys == Renews::Errand,
            _ => kind.renews == Some(Renews::Errand),
        };
        // (What begins is set back a little.)
        let usual = since.plus(kind.overlap).plus(Span::from_days(1));
        let half = UnixTime(since.0 + old.ends.since(since) / 2);
        match (if is_sent { usual.min(half) } else { usual }) < self.now {
            true => Why::NotTaken { since },
            false => Why::Follows { since },
        }
    }

    /// Who replaces a key that is shared with a device, and whether that is so.
    fn shared_key(&self, device: &DeviceEnds<'_>, key: &CredentialEnd<'_>, kind: Option<(&KindName, &Kind)>) -> Why {
        // One whose successor was ended is not replaced again: a person ended that.
        let by_itself = |(_, kind): &(&KindName, &Kind)| kind.renews_keys != Renews::Person && !key.superseded;
        let Some((_, kind)) = kind.filter(by_itself) else { return Why::Key };
        let opens = renewal_moment(key.begins, key.ends, kind.renew, &sha256(device.id.as_bytes()));
        let is_other = |each: &CredentialEnd<'_>| {
            each.origin == Origin::Shared && !each.superseded && each.ends >= self.now && each.kid != key.kid
        };
        if let Some(since) = device.held {
            Why::Held { since }
        } else if kind.renews_keys == Renews::Errand && device.credentials.iter().any(is_other) {
            // Which of several a key that is sent would replace, the device could not know.
            Why::Key
        } else if kind.renews_keys == Renews::Errand && !device.takes_sealed {
            Why::NoPublicKey
        } else if self.now >= UnixTime(opens.0 + key.ends.since(opens) / 2) {
            Why::Late { since: opens }
        } else if !self.has_desk() {
            Why::NoDesk { seen: self.desk }
        } else {
            Why::Renews { from: opens }
        }
    }

    fn certificate(
        &self,
        device: &DeviceEnds<'_>,
        last: &CredentialEnd<'_>,
        kind: Option<(&KindName, &Kind)>,
        forecast: &mut Forecast,
        found: &mut dyn FnMut(Item),
    ) {
        let settings = kind.map(|(_, kind)| kind);
        let renews = settings.and_then(|kind| kind.renews);
        let digest = sha256(device.id.as_bytes());
        let renew = settings.and_then(|kind| kind.renew);
        let opens = renewal_moment(last.begins, last.ends, renew, &digest);
        if last.origin == Origin::Issued
            && !last.superseded
            && last.ends >= self.now
            && device.held.is_none()
            && renews != Some(Renews::Person)
        {
            let life = settings.map_or_else(|| last.ends.since(last.begins), |kind| kind.life.seconds());
            let next = renewal_moment(UnixTime(0), UnixTime(life), renew, &digest);
            forecast.add_renewing(Renewing {
                opens,
                ends: last.ends,
                window: renewal_window(last.ends.since(last.begins), renew),
                period: next.0,
                next: (life, renewal_window(life, renew)),
            });
        }
        // One that was replaced goes on until the next one is used, which would have ended it.
        let replaced = device.credentials.iter().filter(|each| {
            matches!(each.origin, Origin::Issued | Origin::Pinned) && each.superseded && each.ends < last.ends
        });
        // Of several the oldest is in use: what is younger and was used would have ended it.
        let still = replaced.filter(|each| each.ends >= self.now).min_by_key(|each| (each.begins, each.ends));
        if let Some(still) = still.filter(|still| self.is_due(still.ends)) {
            found(item(device, What::Certificate, still, self.follows(still, last, kind), kind));
        }
        if !self.is_due(last.ends) {
            return;
        }
        // In the second half of the time that it has for it, it is late.
        let late = UnixTime(opens.0 + last.ends.since(opens) / 2);
        let why = if last.ends < self.now {
            Why::Ended
        } else if let Some(since) = device.held {
            Why::Held { since }
        } else if last.superseded {
            Why::Passed
        } else if last.origin == Origin::Pinned {
            Why::Elsewhere
        } else if renews == Some(Renews::Person) {
            Why::ByHand
        } else if renews.is_none() && !device.came {
            Why::NeverCame
        } else if self.now >= late {
            Why::Late { since: opens }
        } else if !self.has_desk() {
            Why::NoDesk { seen: self.desk }
        } else {
            Why::Renews { from: opens }
        };
        found(item(device, What::Certificate, last, why, kind));
    }

    /// Whether an authority is due: so early that what it signs is not cut short. Nothing lasts longer than who signed it, so one in
    /// whose place another signs may end; a root only when every device was given the next one.
    #[must_use]
    pub fn authority(&self, authority: &AuthorityRecord, successor: Option<Successor>) -> Option<Item> {
        if authority.retired.is_some() {
            return None;
        }
        let ends = authority.certificate.not_after;
        let lives = self.settings.kinds.values().map(|kind| kind.life.seconds());
        let (falls_due, why) = match authority.role {
            AuthorityRole::Foreign => (ends, Why::Elsewhere),
            _ if successor == Some(Successor::Ready) => (ends, Why::Replaced),
            AuthorityRole::Root if successor.is_some() => (ends.minus(SUCCESSOR), Why::NotKnown),
            AuthorityRole::Devices => {
                let from = UnixTime(ends.0 - lives.max().unwrap_or(0));
                (from, Why::CutsShort { from })
            }
            AuthorityRole::Root | AuthorityRole::Service => {
                let from = ends.minus(SUCCESSOR);
                (from, Why::CutsShort { from })
            }
        };
        let why = if ends < self.now { Why::Ended } else { why };
        let is_told = falls_due <= self.until && ends >= self.now.minus(TOLD_AFTER_END);
        is_told.then(|| Item::of_ward(What::Authority, authority.name.as_str(), ends, why))
    }

    /// Whether an authority's newest CRL is due.
    #[must_use]
    pub fn crl(&self, authority: &AuthorityRecord) -> Option<Item> {
        let next_update = authority.crl_until.filter(|_| authority.retired.is_none())?;
        let desk_has_key = match authority.role {
            AuthorityRole::Devices => true,
            AuthorityRole::Service => self.settings.desk.renew_servers,
            AuthorityRole::Root | AuthorityRole::Foreign => false,
        };
        let is_signed = desk_has_key && self.has_desk();
        let lacks = authority.crl_pending && !is_signed;
        // Nobody needs the list of one whose every certificate is over with itself.
        if (next_update > self.until && !lacks) || authority.certificate.not_after < self.now {
            return None;
        }
        let why = match (desk_has_key, self.has_desk()) {
            _ if next_update < self.now => Why::Ended,
            _ if lacks => Why::Lacks,
            (true, true) => Why::DeskSigns,
            (true, false) => Why::NoDesk { seen: self.desk },
            (false, _) => Why::KeyAway,
        };
        Some(Item::of_ward(What::Crl, authority.name.as_str(), next_update, why))
    }

    /// Whether the certificate of a guard, desk or post is due. `from` is when a desk renews it.
    #[must_use]
    pub fn server(&self, name: &str, ends: UnixTime, from: UnixTime) -> Option<Item> {
        if !self.is_due(ends) {
            return None;
        }
        let why = if ends < self.now {
            Why::Ended
        } else if !self.settings.desk.renew_servers {
            Why::DeskMayNot
        } else if !self.has_desk() {
            Why::NoDesk { seen: self.desk }
        } else if self.now >= from.plus(SERVER_LATE) {
            Why::Late { since: from }
        } else {
            Why::DeskRenews { from }
        };
        Some(Item::of_ward(What::Server, name, ends, why))
    }

    /// Whether a key that signs tokens is due: the newest after its time, each other when nothing that it signed is good any more.
    /// `followed` is when the next one came.
    #[must_use]
    pub fn token_signer(&self, name: &str, created: UnixTime, followed: Option<UnixTime>) -> Option<Item> {
        let (ends, why) = match followed {
            None => (created.plus(self.settings.due.token_signer_life), Why::SignsLong { since: created }),
            Some(at) => {
                let longest = self.settings.kinds.values().map(|kind| kind.token_life).max();
                (longest.map_or(at, |longest| at.plus(longest)), Why::SignsNothing)
            }
        };
        // It goes on until somebody does something: it is told of however long ago that was.
        (ends <= self.until).then(|| Item::of_ward(What::TokenSigner, name, ends, why))
    }

    /// Whether an admission is due that is open, a device that waits, or one that may be claimed.
    #[must_use]
    pub fn waiting(&self, what: What, name: &str, ends: UnixTime, kind: &KindName) -> Option<Item> {
        let why = match what {
            What::Asking => Why::Waits,
            What::Claim | What::HandOver => Why::Unclaimed,
            _ => Why::Unused,
        };
        let is_told = ends >= self.now && ends <= self.until;
        is_told.then(|| Item { kind: Some(kind.clone()), ..Item::of_ward(what, name, ends, why) })
    }
}

/// What stands in an authority's place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Successor {
    /// Another signs, and whoever must know it does.
    Ready,
    /// A root that not every device was given.
    NotKnown,
}

/// How long after the first attempt a server's certificate that is the same still is late.
const SERVER_LATE: Span = Span::from_days(7);

impl Item {
    fn of_ward(what: What, name: &str, ends: UnixTime, why: Why) -> Self {
        Self { what, name: name.to_owned(), kid: None, ends, why, kind: None, authority: None, label: None }
    }
}

fn item(
    device: &DeviceEnds<'_>,
    what: What,
    credential: &CredentialEnd<'_>,
    why: Why,
    kind: Option<(&KindName, &Kind)>,
) -> Item {
    Item {
        what,
        name: device.id.to_owned(),
        kid: credential.kid.map(str::to_owned),
        ends: credential.ends,
        why,
        kind: kind.map(|(name, _)| name.clone()).or_else(|| device.kind.parse().ok()),
        authority: credential.authority.cloned(),
        label: device.label.map(str::to_owned),
    }
}
