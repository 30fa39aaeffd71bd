//! The next key that a device shares with the ward: it fetches it at the desk, or is sent it as an errand that only it can read.
//!
//! A key is made once: until it was used, whoever may have it is given the same again. The one before goes on until then.

use serde_json::json;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{CredentialRecord, Origin, Unusable};
use tidy_warden_core::device::Barred;
use tidy_warden_core::enrolment::renewal_opens;
use tidy_warden_core::errand::{LONGEST, Purpose};
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::jwe;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::rotation::Replaces;
use tidy_warden_core::settings::{Kind, Settings};
use tidy_warden_core::shared::{DataKey, SharedKey};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::key;
use tidy_warden_store::{
    Answer, Cause, DeviceView, KeyRefusal, KeyReplaces, NewCredential, NewErrand, OperatorStore, SendRefusal,
    StoreError, Tx, View,
};

use crate::clock::SystemRandom;
use crate::errand::{Asks, ErrandSigner, Walk, has_errand};
use crate::problem::Problem;
use crate::shared::{Fresh, fresh};

/// How far the beginning of a key is set back, for clocks that differ.
const SET_BACK: Span = Span::from_seconds(600);

/// For as long as a key lasts that is replaced by one that is sent: nobody knows when that arrives, and its first use ends the one before.
pub const UNTIL_USED: Span = Span::from_days(36_600);

/// After how long a device that was sent its next key is looked at again.
const SENT_AGAIN: Span = Span::from_seconds(6 * 3600);

/// How many devices are looked at in one go.
const LOOKED: usize = 1_000;

/// Why a device was not sent its next key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Unsent {
    /// It may not be here.
    #[error("{0}")]
    Barred(Barred),
    /// Its kind may have none.
    #[error("devices of the kind `{0}` may not share keys with the ward")]
    Kind(KindName),
    /// There is none to be replaced.
    #[error("it shares no key with the ward that may sign in")]
    NoKey,
    /// Nobody could tell which of them the next one replaces.
    #[error("it shares several keys with the ward, and could not know which of them the next one replaces")]
    Several,
    /// There is nothing that it could be sealed to.
    #[error("it has no registered P-256 or P-384 key that may sign in, which the next one could be sealed to")]
    NoPublicKey,
    /// A key that is in the store does not open.
    #[error("{0}")]
    Unopened(String),
    /// The store did not take it.
    #[error(transparent)]
    Refused(#[from] KeyRefusal),
    /// The errand was not sent.
    #[error(transparent)]
    Errand(#[from] SendRefusal),
}

/// The key that a device shares with the ward and may sign in with now.
struct Present {
    /// The one that the next one follows: nothing was made in its place.
    current: CredentialRecord,
    /// If that one was made in the place of another and was not used yet: who authorised it.
    unused_by: Option<Fingerprint>,
    /// The one that the device uses, as far as anybody knows: what `current` was made in the place of, or `current` itself.
    in_use: CredentialRecord,
}

/// That of a device which has one of them.
fn present(view: &dyn View, credentials: &[CredentialRecord], now: UnixTime) -> Answer<Present, Unsent> {
    // The newest first, as everywhere.
    let is_good = |each: &&CredentialRecord| each.origin == Origin::Shared && each.may_sign_in(now).is_ok();
    let (current, before): (Vec<_>, Vec<_>) =
        credentials.iter().filter(is_good).partition(|each| each.superseded_until.is_none());
    let current = match current.as_slice() {
        [] => return Ok(Err(Unsent::NoKey)),
        [only] => *only,
        _ => return Ok(Err(Unsent::Several)),
    };
    let before = before.last().filter(|_| current.first_used.is_none());
    let unused_by = if before.is_some() { view.authorised_by(&current.fingerprint)? } else { None };
    let in_use = before.copied().unwrap_or(current).clone();
    Ok(Ok(Present { current: current.clone(), unused_by, in_use }))
}

/// A key as its device gets it: a JWK.
pub fn jwk_of(
    view: &dyn View,
    data: &DataKey,
    record: &CredentialRecord,
) -> Result<Result<zeroize::Zeroizing<String>, String>, StoreError> {
    Ok(opened(view, data, record)?.map(|key| key.to_jwk(&record.key_name())))
}

/// A key that the store keeps, opened; or why not.
pub fn opened(
    view: &dyn View,
    data: &DataKey,
    record: &CredentialRecord,
) -> Result<Result<SharedKey, String>, StoreError> {
    let sealed = view.credential_der(&record.fingerprint)?.unwrap_or_default();
    Ok(data.open(&sealed, &record.device, &record.key_name()).map_err(|error| error.to_string()))
}

/// A new key for a device of a kind, and when it begins and ends.
#[must_use]
pub fn made(data: &DataKey, device: &DeviceId, kind: &Kind, now: UnixTime) -> Option<(Fresh, (UnixTime, UnixTime))> {
    Some((fresh(data, device)?, (now.minus(SET_BACK), now.plus(kind.life))))
}

/// When the key that a device uses may be replaced without being asked.
#[must_use]
pub fn opens(in_use: &CredentialRecord, kind: &Kind) -> UnixTime {
    renewal_opens(in_use.not_before, in_use.not_after, kind.renew, &in_use.device)
}

/// The registered key of a device that something is sealed to: the newest that may sign in and can be sealed to.
fn sealed_to(credentials: &[CredentialRecord], now: UnixTime) -> Option<&CredentialRecord> {
    let mut keys = credentials.iter().filter(|each| each.origin == Origin::Key && each.may_sign_in(now).is_ok());
    keys.find(|each| jwe::can_seal_to(&each.key_type))
}

/// Whether a device could be sent its next key.
#[must_use]
pub fn can_be_sent(view: &DeviceView, now: UnixTime) -> bool {
    let is_current = |each: &&CredentialRecord| {
        each.origin == Origin::Shared && each.superseded_until.is_none() && each.may_sign_in(now).is_ok()
    };
    sealed_to(&view.credentials, now).is_some() && view.credentials.iter().filter(is_current).count() == 1
}

/// Sends devices the keys that they share with the ward next, each sealed to its own registered key (RFC 7516).
pub struct KeySender<'a> {
    /// What opens shared keys.
    pub data: &'a DataKey,
    /// What signs errands.
    pub signer: &'a ErrandSigner,
    /// The ward's settings.
    pub settings: &'a Settings,
}

impl KeySender<'_> {
    /// The errand that brings a device its next key, which is made and recorded in the change that is being made, or was before and not
    /// used.
    fn errand(
        &self,
        tx: &mut dyn Tx,
        view: &DeviceView,
        life: Span,
        cause: &Cause,
    ) -> Result<Result<NewErrand, Unsent>, StoreError> {
        let (id, now) = (&view.device.id, cause.at);
        if let Some(barred) = view.device.barred() {
            return Ok(Err(Unsent::Barred(barred)));
        }
        let kind = self.settings.kinds.get(&view.device.kind).filter(|kind| kind.shared_keys);
        let Some(kind) = kind else { return Ok(Err(Unsent::Kind(view.device.kind.clone()))) };
        let Some(to) = sealed_to(&view.credentials, now) else { return Ok(Err(Unsent::NoPublicKey)) };
        let present = match present(&*tx, &view.credentials, now)? {
            Ok(present) => present,
            Err(why) => return Ok(Err(why)),
        };
        let spki = tx.credential_der(&to.fingerprint)?.unwrap_or_default();
        let Ok(public) = PublicKey::from_spki(&spki) else { return Ok(Err(Unsent::NoPublicKey)) };
        let failed = || Unsent::Unopened("the key cannot be sealed".to_owned());
        // Only what was made for whoever holds this very key is sent to it again.
        let jwk = if present.unused_by == Some(to.fingerprint) {
            match jwk_of(&*tx, self.data, &present.current)? {
                Ok(jwk) => jwk,
                Err(why) => return Ok(Err(Unsent::Unopened(why))),
            }
        } else {
            let Some((fresh, times)) = made(self.data, id, kind, now) else { return Ok(Err(failed())) };
            let new = NewCredential { overlap: UNTIL_USED, ..fresh.credential(id, times, None) };
            let replaces = KeyReplaces::Shared { current: present.current.fingerprint, by: to.fingerprint };
            match key::add(tx, &new, replaces, cause)? {
                Ok(_) => fresh.key.to_jwk(&fresh.kid),
                Err(refusal) => return Ok(Err(refusal.into())),
            }
        };
        let Some(sealed) = jwe::seal(&public, CONTENT, jwk.as_bytes(), &mut SystemRandom) else {
            return Ok(Err(failed()));
        };
        let detail = json!({ "jwe": sealed }).to_string();
        Ok(Ok(self.signer.new_errand(id, Purpose::InstallKey, detail, (now, life.min(LONGEST)))))
    }

    /// Sends one device its next key. Gives the errand's number.
    pub fn send(
        &self,
        store: &mut OperatorStore,
        id: &DeviceId,
        life: Span,
        cause: &Cause,
    ) -> Result<Result<i64, Unsent>, StoreError> {
        store.decide(|tx| {
            let Some(view) = tx.devices(std::slice::from_ref(id))?.pop().flatten() else {
                return Err(StoreError::Unknown { what: "device", name: id.to_string() });
            };
            let new = match self.errand(tx, &view, life, cause)? {
                Ok(new) => new,
                Err(unsent) => return Ok(Err(unsent)),
            };
            Ok(self.signer.put(tx, &new, cause)?.map_err(Unsent::from))
        })
    }

    /// The same for those of a batch that can be sent theirs; the entry is the caller's. Gives how many were.
    pub(crate) fn send_batch(
        &self,
        tx: &mut dyn Tx,
        ids: &[DeviceId],
        life: Span,
        cause: &Cause,
    ) -> Result<u64, StoreError> {
        let mut all = Vec::with_capacity(ids.len());
        for view in tx.devices(ids)?.into_iter().flatten() {
            // Who has one on its way is not sent another.
            if is_on_its_way(&*tx, &view.device.id, cause.at, Span::from_seconds(0))? {
                continue;
            }
            all.extend(self.errand(tx, &view, life, cause)?.ok());
        }
        self.signer.put_all(tx, &all, cause)
    }
}

/// What is sealed, as its header says (RFC 7516 section 4.1.12: the prefix `application/` is left out).
const CONTENT: &str = "jwk+json";

/// Whether a device has an errand with its next key that is open, or was sent one less than `within` ago.
fn is_on_its_way(view: &dyn View, device: &DeviceId, now: UnixTime, within: Span) -> Result<bool, StoreError> {
    has_errand(view, device, |purpose| *purpose == Purpose::InstallKey, (now, within))
}

/// Sends their next keys to devices of kinds that are sent them, whose time has come; a thousand are looked at in one go. Gives how many
/// were sent theirs. When the last was looked at, the walk begins anew.
pub fn send_due(
    store: &mut OperatorStore,
    sender: &KeySender<'_>,
    walk: &mut Walk,
    cause: &Cause,
) -> Result<u64, Problem> {
    let sent = sender.settings.kinds.iter().filter(|(_, kind)| Asks::is_by_errand(kind, Replaces::SharedKeys));
    let names: Vec<&str> = sent.map(|(name, _)| name.as_str()).collect();
    if names.is_empty() {
        return Ok(0);
    }
    let condition = crate::edge::condition(&format!("kind in ({})", names.join(", ")))?;
    let page = store.page(Some(&condition), cause.at, walk.after, LOOKED)?;
    walk.after = page.next.unwrap_or(0);
    let cause = Cause { because: "the time to replace its key has come".to_owned(), ..cause.clone() };
    let mut sent = 0;
    for view in page.devices {
        let Some(kind) = sender.settings.kinds.get(&view.device.kind) else { continue };
        if view.device.barred().is_some() || sealed_to(&view.credentials, cause.at).is_none() {
            continue;
        }
        let Ok(present) = present(&**store, &view.credentials, cause.at)? else { continue };
        let in_use = &present.in_use;
        if opens(in_use, kind) > cause.at || is_on_its_way(&**store, &view.device.id, cause.at, SENT_AGAIN)? {
            continue;
        }
        // For as long as it has something to come back with.
        let left = Span::from_seconds(u32::try_from(in_use.not_after.since(cause.at)).unwrap_or(u32::MAX));
        // One that somebody else was quicker with is sent, too.
        sent += u64::from(sender.send(store, &view.device.id, left, &cause)?.is_ok());
    }
    Ok(sent)
}

/// Why a key that a device shows to be given the next one is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NotGiven {
    /// The key.
    #[error("{}", .0.to_string().replacen("its certificate", "the key", 1))]
    Unusable(Unusable),
    /// Another was made in its place, for somebody else or by hand.
    #[error("another key was made in its place, which it did not ask for")]
    Replaced,
    /// It was given the next one, and has used that.
    #[error("the key that was made in its place is in use, or over")]
    InUse,
}

/// What a device is given that shows `shown`, which is its own: the same again that it was given and did not use, or another, if `None`.
///
/// # Errors
/// It shows a key that is of no use for it.
pub fn given_again(
    view: &dyn View,
    credentials: &[CredentialRecord],
    shown: &CredentialRecord,
    now: UnixTime,
) -> Answer<Option<CredentialRecord>, NotGiven> {
    if let Err(why) = shown.may_sign_in(now) {
        return Ok(Err(NotGiven::Unusable(why)));
    }
    if shown.superseded_until.is_none() {
        return Ok(Ok(None));
    }
    let mut why = NotGiven::Replaced;
    for other in credentials.iter().filter(|each| each.origin == Origin::Shared && each.revoked.is_none()) {
        if view.authorised_by(&other.fingerprint)? != Some(shown.fingerprint) {
            continue;
        }
        match (other.first_used, other.may_sign_in(now)) {
            (None, Ok(())) => return Ok(Ok(Some(other.clone()))),
            _ => why = NotGiven::InUse,
        }
    }
    Ok(Err(why))
}
