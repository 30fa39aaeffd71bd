//! Claims: what a command and the desk do alike. Codes are digested here, outside of any change: that takes some milliseconds, and nobody
//! who writes waits for it.

use tidy_warden_core::claim::{ClaimBy, Code, CodeDigest, OpenClaim, OpenRefusal, OpenedBy, salt_of_nobody};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::{DeviceId, KindName, OwnerId};
use tidy_warden_core::owner::{Place, PlaceRefusal};
use tidy_warden_core::random;
use tidy_warden_core::settings::Settings;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::acts::claim;
use tidy_warden_store::{Answer, Cause, KindRules, OperatorStore, PassRefusal, Passed, Rules, StoreError, Take, Taken};

use crate::clock::SystemRandom;

/// How devices of a kind are claimed; nothing for one that is not declared.
#[must_use]
pub fn kind_rules(settings: &Settings, kind: &KindName) -> Option<KindRules> {
    let kind = settings.kinds.get(kind)?;
    Some(KindRules { by: kind.claim, window: kind.claim_window, rotate: kind.claim_rotate })
}

/// Does something by the rules of the settings.
pub fn by_rules<T>(settings: &Settings, act: impl FnOnce(&Rules<'_>) -> T) -> T {
    act(&Rules { of: &|kind| kind_rules(settings, kind), tries: settings.claims.tries })
}

/// What an owner shows and wants.
#[derive(Debug, Clone, Copy)]
pub struct Wish<'a> {
    /// The id that was named; there may be no such device.
    pub device: &'a DeviceId,
    /// The owner.
    pub owner: &'a OwnerId,
    /// The places that it wants.
    pub wanted: &'a [Place],
    /// The code, if one was given.
    pub code: Option<&'a Code>,
    /// The network that it comes from, if it comes from one.
    pub source: Option<&'a str>,
}

impl Wish<'_> {
    fn take(&self, shown: Option<CodeDigest>) -> Take<'_> {
        let Self { device, owner, wanted, source, .. } = *self;
        Take { device, owner, wanted, shown, source }
    }
}

/// Has an owner claim a device. A code costs the same time whether there is such a device or not, whether it is open or not, and however
/// much of it is right; who is not heard any more costs none.
///
/// # Errors
/// There is no such owner; the store cannot be read or written.
pub fn take(
    store: &mut OperatorStore,
    settings: &Settings,
    wish: &Wish<'_>,
    cause: &Cause,
) -> Result<Taken, StoreError> {
    by_rules(settings, |rules| {
        let (is_locked, open) = store.view(|view| {
            let is_locked = claim::is_locked(view, &wish.take(None), rules.tries, cause.at)?;
            Ok((is_locked, claim::that_is_open(view, wish.device, cause.at)?))
        })?;
        if is_locked {
            return Ok(Taken::No);
        }
        let salt = open.and_then(|open| open.code).map_or_else(|| salt_of_nobody(wish.device), |code| code.salt);
        let shown = wish.code.map(|code| code.digest(salt));
        // Another look, in the change: what was opened anew meanwhile has another salt, and this one does not fit.
        store.make(|tx| claim::take(tx, &wish.take(shown), rules, cause))
    })
}

/// Has an owner take a device that is offered to it. A place that is not the owner's is recorded, and counted as a wrong try.
///
/// # Errors
/// There is no such owner; the store cannot be read or written.
pub fn take_offered(
    store: &mut OperatorStore,
    settings: &Settings,
    device: &DeviceId,
    (owner, wanted): (&OwnerId, &[Place]),
    cause: &Cause,
) -> Answer<Passed, PassRefusal> {
    by_rules(settings, |rules| {
        let taken = store.decide(|tx| claim::take_offered(tx, device, (owner, wanted), rules, cause))?;
        if let Err(PassRefusal::Place(PlaceRefusal::NotIts { .. })) = &taken {
            let take = Take { device, owner, wanted, shown: None, source: None };
            store.make(|tx| claim::note_place(tx, &take, rules, cause))?;
        }
        Ok(taken)
    })
}

/// A device that is to be opened, with its code if it is claimed with one.
#[derive(Debug)]
pub struct Opening {
    /// The device.
    pub device: DeviceId,
    /// The code; it is nowhere else.
    pub code: Option<Code>,
    /// What is kept.
    pub claim: OpenClaim,
}

/// Makes codes for devices; `given` is the code of one alone. The digests are made by as many threads as there are processors.
#[must_use]
pub fn openings(
    settings: &Settings,
    devices: &[DeviceRecord],
    given: Option<&Code>,
    (now, ends): (UnixTime, UnixTime),
) -> Vec<Opening> {
    let by_name =
        |device: &DeviceRecord| settings.kinds.get(&device.kind).is_some_and(|kind| kind.claim == ClaimBy::Name);
    let opening = |device: &DeviceRecord| {
        let code = match (given, by_name(device)) {
            (Some(given), _) => Some(given.clone()),
            (None, true) => None,
            (None, false) => Some(Code::new(&mut SystemRandom)),
        };
        let digest = code.as_ref().map(|code| code.digest(random::bytes(&mut SystemRandom)));
        let id = device.id.clone();
        let claim = OpenClaim { device: id.clone(), by: OpenedBy::Person, code: digest, opened: now, ends };
        Opening { device: id, code, claim }
    };
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let share = devices.len().div_ceil(threads).max(1);
    std::thread::scope(|scope| {
        let parts: Vec<_> = devices
            .chunks(share)
            .map(|part| scope.spawn(move || part.iter().map(opening).collect::<Vec<_>>()))
            .collect();
        parts.into_iter().flat_map(|part| part.join().unwrap_or_default()).collect()
    })
}

/// Opens devices in one change.
///
/// # Errors
/// One of them is not there; the store cannot be written.
pub fn open(store: &mut OperatorStore, claims: &[OpenClaim], cause: &Cause) -> Answer<(), Vec<OpenRefusal>> {
    store.decide(|tx| claim::open(tx, claims, cause))
}

/// The address of the desk's interface for programs of owners, which is whom their tokens are for.
#[must_use]
pub fn owner_audience(settings: &Settings) -> String {
    format!("https://{}/owner/v1", settings.endpoints.desk)
}

/// The link by which an owner signs in: 256 random bits behind the address of the page, in base64url (RFC 4648 section 5).
#[must_use]
pub fn sign_in_link(settings: &Settings, secret: &[u8; 32]) -> zeroize::Zeroizing<String> {
    let desk = &settings.endpoints.desk;
    zeroize::Zeroizing::new(format!(
        "https://{desk}/owner/sign-in?link={}",
        data_encoding::BASE64URL_NOPAD.encode(secret)
    ))
}

/// The link of a sticker: the page at the desk, with the id and the code.
#[must_use]
pub fn link(settings: &Settings, device: &DeviceId, code: Option<&Code>) -> String {
    let desk = &settings.endpoints.desk;
    let code = code.map(|code| format!("&code={}", *code.grouped())).unwrap_or_default();
    format!("https://{desk}/claim?device={device}{code}")
}
