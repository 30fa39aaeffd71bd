//! What an owner sees and does, whoever asks for it: a page or a program.

use std::collections::BTreeMap;
use std::sync::PoisonError;
use std::time::{Duration, Instant};

use hyper::StatusCode;
use tidy_warden_core::claim::{BadCode, Code, HandOver};
use tidy_warden_core::device::DeviceState;
use tidy_warden_core::id::{DeviceId, LabelName, LabelValue, OwnerId};
use tidy_warden_core::owner::{OwnerRecord, Place, PlaceRefusal};
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::claim;
use tidy_warden_store::{Cause, DeviceView, OperatorStore, PassRefusal, StoreError, Taken, View};
use tidy_warden_ward::claim::{Wish, by_rules, take, take_offered};

use super::OwnerRequest;
use super::route::Act;
use crate::answer::STORE_WAIT;
use crate::state::{Desk, Live};

/// How many devices are shown at once.
pub(super) const PAGE: usize = 50;

/// How many pages of offers that have lapsed are passed over for one that holds something.
const LAPSED_PAGES: usize = 20;

/// How many changes an owner makes within how long. A claim costs some milliseconds.
const CHANGES: u32 = 120;
const WITHIN: Duration = Duration::from_secs(60);

/// The longest that a device can be offered.
const LONGEST_OFFER: Span = Span::from_days(90);

/// A device as its owner sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Owned {
    pub(super) id: DeviceId,
    pub(super) kind: String,
    pub(super) state: &'static str,
    /// The labels that are places of the owner's.
    pub(super) place: BTreeMap<LabelName, LabelValue>,
    /// Its last contact.
    pub(super) seen: Option<UnixTime>,
    /// Since when it is the owner's, as far as that is known.
    pub(super) since: Option<UnixTime>,
    /// To whom it is offered, and until when.
    pub(super) offered: Option<(OwnerId, UnixTime)>,
}

/// What is offered to an owner.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Offered {
    pub(super) id: DeviceId,
    pub(super) kind: String,
    pub(super) from: OwnerId,
    pub(super) ends: UnixTime,
}

/// Why something was not done; each can be told.
#[derive(Debug, thiserror::Error)]
pub(super) enum NotDone {
    /// What is another's, and what there is not.
    #[error("there is no such device of yours")]
    NotYours,
    /// The one answer to a claim that is refused.
    #[error(
        "this device could not be claimed: its name, the code or its time is not right, or there were too many wrong tries"
    )]
    NotClaimed,
    /// A slip in a code.
    #[error("{0}")]
    Code(BadCode),
    /// Not a place of the owner's, or none was chosen.
    #[error("{0}")]
    Place(PlaceRefusal),
    /// It cannot be given away.
    #[error("{0}")]
    Refused(String),
    /// The owner changes more than it may.
    #[error("too many changes in a minute; come again in {} s", .0.as_secs() + 1)]
    TooOften(Duration),
    /// Nobody knows.
    #[error("the ward does not answer; come again later")]
    Doubt(String),
}

impl NotDone {
    /// The status with which it is answered, by the page and the interface alike.
    pub(super) fn status(&self) -> StatusCode {
        match self {
            Self::NotYours => StatusCode::NOT_FOUND,
            Self::NotClaimed => StatusCode::FORBIDDEN,
            Self::Code(_) | Self::Place(_) | Self::Refused(_) => StatusCode::UNPROCESSABLE_ENTITY,
            Self::TooOften(_) => StatusCode::TOO_MANY_REQUESTS,
            Self::Doubt(_) => StatusCode::SERVICE_UNAVAILABLE,
        }
    }

    /// After how many seconds the same may be tried again, where waiting helps (RFC 9110 section 10.2.3).
    pub(super) fn retry_after(&self) -> Option<u64> {
        match self {
            Self::TooOften(wait) => Some(wait.as_secs() + 1),
            Self::Doubt(_) => Some(STORE_WAIT),
            Self::NotYours | Self::NotClaimed | Self::Code(_) | Self::Place(_) | Self::Refused(_) => None,
        }
    }
}

impl From<StoreError> for NotDone {
    fn from(error: StoreError) -> Self {
        Self::Doubt(error.to_string())
    }
}

impl From<PassRefusal> for NotDone {
    fn from(why: PassRefusal) -> Self {
        match why {
            PassRefusal::NotIts(..) | PassRefusal::NoOwner(_) | PassRefusal::NotOffered(..) => Self::NotYours,
            PassRefusal::Place(refusal) => Self::Place(refusal),
            PassRefusal::Barred(id, _) => Self::Refused(format!("`{id}` is on hold or out of service now")),
            // Which owners there are is nobody's to find out: an offer to nobody looks like one that nobody takes.
            PassRefusal::NoHeir(_) => Self::Refused("it cannot be offered to this owner".to_owned()),
            other => Self::Refused(other.to_string()),
        }
    }
}

fn owned(view: &dyn View, owner: &OwnerRecord, found: DeviceView, now: UnixTime) -> Result<Owned, StoreError> {
    let DeviceView { device, credentials } = found;
    let state = DeviceState::of(&device, &credentials, now).as_str();
    let is_place = |(name, value): &(LabelName, LabelValue)| owner.places.contains(&(name.clone(), value.clone()));
    let place = device.labels.iter().map(|(name, value)| (name.clone(), value.clone())).filter(is_place).collect();
    let since = view.ownerships(&device.id, 1)?.pop().filter(|last| last.ended.is_none()).map(|last| last.began);
    let offered = view.hand_over(&device.id)?.filter(|offer| offer.is_open(now)).map(|offer| (offer.to, offer.ends));
    Ok(Owned { id: device.id, kind: device.kind.to_string(), state, place, seen: device.seen, since, offered })
}

impl Desk {
    /// Up to so many devices of an owner behind an id.
    pub(super) fn devices_of(&self, owner: &OwnerRecord, after: &str) -> Result<(Vec<Owned>, bool), StoreError> {
        let now = self.now();
        self.ask(|reader| {
            reader.view(|view| {
                let mut ids = view.owned(&owner.id, after, PAGE + 1)?;
                let more = ids.len() > PAGE;
                ids.truncate(PAGE);
                let found = view.devices(&ids)?.into_iter().flatten();
                let all = found.map(|found| owned(view, owner, found, now)).collect::<Result<Vec<_>, _>>()?;
                Ok((all, more))
            })
        })
    }

    /// A device of an owner.
    pub(super) fn device_of(&self, owner: &OwnerRecord, id: &DeviceId) -> Result<Owned, NotDone> {
        let now = self.now();
        let found = self.ask(|reader| {
            reader.view(|view| {
                let found = view.devices(std::slice::from_ref(id))?.pop().flatten();
                let is_its = |found: &DeviceView| {
                    found.device.owner.as_ref() == Some(&owner.id) && found.device.retired.is_none()
                };
                found.filter(is_its).map(|found| owned(view, owner, found, now)).transpose()
            })
        })?;
        found.ok_or(NotDone::NotYours)
    }

    /// Some of what is offered to an owner, behind an id; and the id behind which there is more, if there is.
    pub(super) fn offers_to(
        &self,
        owner: &OwnerRecord,
        after: &str,
    ) -> Result<(Vec<Offered>, Option<DeviceId>), StoreError> {
        let now = self.now();
        self.ask(|reader| {
            reader.view(|view| {
                let (mut offers, mut next) = (Vec::new(), after.parse::<DeviceId>().ok());
                // What has lapsed stays until its device passes; who offered much that lapsed hides nothing behind it.
                for _ in 0..LAPSED_PAGES {
                    let behind = next.as_ref().map_or("", |next| next.as_str());
                    let mut page: Vec<HandOver> = view.hand_overs(Some(&owner.id), behind, PAGE + 1)?;
                    let has_more = page.len() > PAGE;
                    page.truncate(PAGE);
                    next = page.last().map(|last| last.device.clone()).filter(|_| has_more);
                    page.retain(|offer| offer.is_for(owner) && offer.is_open(now));
                    offers = page;
                    if !offers.is_empty() || next.is_none() {
                        break;
                    }
                }
                let ids: Vec<DeviceId> = offers.iter().map(|offer| offer.device.clone()).collect();
                let found = view.devices(&ids)?;
                let with = |(offer, found): (HandOver, Option<DeviceView>)| {
                    let kind = found?.device.kind.to_string();
                    Some(Offered { id: offer.device, kind, from: offer.from, ends: offer.ends })
                };
                Ok((offers.into_iter().zip(found).filter_map(with).collect(), next))
            })
        })
    }

    /// Makes a change for an owner. They come one after another, and of each owner a bounded number, whatever network it is in: whoever
    /// floods with codes or offers fills no record, and holds up other owners little and nobody else.
    fn as_owner<T>(
        &self,
        owner: &OwnerRecord,
        act: impl FnOnce(&mut OperatorStore, &Cause) -> Result<T, NotDone>,
    ) -> Result<T, NotDone> {
        let Some(store) = &self.owners else { return Err(NotDone::Doubt("this desk is at a post".to_owned())) };
        self.by_owner.take(&owner.id, CHANGES, WITHIN, Instant::now()).map_err(NotDone::TooOften)?;
        let mut store = store.lock().unwrap_or_else(PoisonError::into_inner);
        if self.is_in_doubt() || store.head()?.doubt.is_some() {
            return Err(NotDone::Doubt("the store is in doubt".to_owned()));
        }
        let because = String::new();
        let cause = Cause { actor: format!("owner:{}", owner.id), because, ..self.cause(String::new()) };
        let done = act(&mut store, &cause);
        if matches!(done, Err(NotDone::Doubt(_))) {
            // Another store may stand there now.
            drop(store.reopen());
        }
        done
    }

    /// Has an owner claim a device, or take one that is offered to it if it gives no code.
    pub(super) fn claim_for(
        &self,
        live: &Live,
        request: &OwnerRequest,
        owner: &OwnerRecord,
        (device, code, wanted): (&str, Option<&str>, &[Place]),
    ) -> Result<DeviceId, NotDone> {
        // A slip is told before anything is looked up, and counts as no try.
        let code = code.filter(|code| !code.trim().is_empty()).map(Code::parse).transpose().map_err(NotDone::Code)?;
        let Ok(id) = device.trim().to_ascii_lowercase().parse::<DeviceId>() else {
            return Err(NotDone::NotClaimed);
        };
        let wish = Wish { device: &id, owner: &owner.id, wanted, code: code.as_ref(), source: Some(&request.source) };
        let taken = self.as_owner(owner, |store, cause| Ok(take(store, &live.settings, &wish, cause)?))?;
        match taken {
            Taken::Yes(_) => Ok(id),
            Taken::Place(refusal) => Err(NotDone::Place(refusal)),
            Taken::No => Err(NotDone::NotClaimed),
        }
    }

    /// Does something with a device of an owner, or with one that is offered to it.
    pub(super) fn act_for(
        &self,
        live: &Live,
        owner: &OwnerRecord,
        (id, act): (&DeviceId, Act),
        (to, wanted): (Option<&str>, &[Place]),
    ) -> Result<(), NotDone> {
        let by = Some(&owner.id);
        self.as_owner(owner, |store, cause| match act {
            Act::GiveUp => by_rules(&live.settings, |rules| {
                Ok(store.decide(|tx| claim::give_up(tx, id, by, rules, cause))?.map(drop)?)
            }),
            Act::HandOver => {
                let to = to.map(|to| to.trim().parse::<OwnerId>());
                let Some(Ok(to)) = to else {
                    return Err(NotDone::Refused("it cannot be offered to this owner".to_owned()));
                };
                let ends = cause.at.plus(live.settings.claims.offer.min(LONGEST_OFFER));
                Ok(store.decide(|tx| claim::offer(tx, id, (by, &to), ends, cause))?.map(drop)?)
            }
            Act::Take => Ok(take_offered(store, &live.settings, id, (&owner.id, wanted), cause)?.map(drop)?),
            Act::DropOffer => {
                let was_offered = store.make(|tx| claim::drop_offer(tx, id, by, cause))?;
                if was_offered { Ok(()) } else { Err(NotDone::NotYours) }
            }
        })
    }
}
