//! The interface for programs: JSON over HTTPS, described in `openapi.json`. Who asks shows a token that the ward signed for an owner; what
//! is refused is told as RFC 9457 has it.

use std::collections::BTreeMap;

use hyper::StatusCode;
use serde::Deserialize;
use serde_json::{Value, json};
use tidy_warden_core::owner::{OwnerRecord, OwnerScope, OwnerToken, Place};
use zeroize::Zeroizing;

use super::acts::{NotDone, Offered, Owned};
use super::route::{Act, Api};
use super::{OwnerRequest, after, audience};
use crate::answer::Said;
use crate::state::{Desk, Live};

/// The description of the interface, which other parts of the desk go on with.
const DOCUMENT: &str = include_str!("../../openapi.json");

pub(super) fn document() -> Said {
    Said { fresh_for: Some(3_600), ..Said::of("application/json", DOCUMENT) }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ClaimBody {
    device: String,
    #[serde(default)]
    code: Option<String>,
    #[serde(default)]
    place: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct HandOverBody {
    to: String,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct TakeBody {
    #[serde(default)]
    place: BTreeMap<String, String>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct NoBody {}

/// A refusal in JSON.
fn problem(status: StatusCode, title: &str) -> Said {
    let body = json!({ "type": "about:blank", "title": title, "status": status.as_u16() });
    Said { status, ..Said::of("application/problem+json", body.to_string() + "\n") }
}

fn answer(value: &Value) -> Said {
    Said::of("application/json", value.to_string() + "\n")
}

fn device_json(device: &Owned) -> Value {
    let place: BTreeMap<&str, &str> =
        device.place.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
    let offered = device.offered.as_ref().map(|(to, ends)| json!({ "to": to, "ends": ends }));
    json!({
        "device": device.id, "kind": device.kind, "state": device.state, "place": place, "seen": device.seen,
        "begins": device.since, "offered": offered,
    })
}

fn offer_json(offer: &Offered) -> Value {
    json!({ "device": offer.id, "kind": offer.kind, "from": offer.from, "ends": offer.ends })
}

fn places(given: &BTreeMap<String, String>) -> Result<Vec<Place>, Box<Said>> {
    if given.len() > super::MOST_CHOICES {
        return Err(problem(StatusCode::UNPROCESSABLE_ENTITY, "too many places").into());
    }
    let parsed = given.iter().map(|(name, value)| Some((name.parse().ok()?, value.parse().ok()?)));
    parsed.collect::<Option<_>>().ok_or_else(|| problem(StatusCode::UNPROCESSABLE_ENTITY, "a place is none").into())
}

/// A body, which may be left out where all of it may.
fn body<'b, T: Deserialize<'b> + Default>(octets: &'b [u8]) -> Result<T, Box<Said>> {
    if octets.is_empty() { Ok(T::default()) } else { needed(octets) }
}

fn needed<'b, T: Deserialize<'b>>(octets: &'b [u8]) -> Result<T, Box<Said>> {
    serde_json::from_slice(octets).map_err(|_| problem(StatusCode::BAD_REQUEST, "the body has another form").into())
}

impl Desk {
    pub(super) fn api(&self, live: &Live, request: &OwnerRequest, path: &Api) -> Said {
        let wanted = match path {
            Api::Devices | Api::Device(_) | Api::Offers | Api::Places => OwnerScope::Read,
            Api::Claims | Api::Act(_, Act::Take) => OwnerScope::Claim,
            // With DELETE an offer is taken back, or turned down.
            Api::Act(..) => OwnerScope::Give,
        };
        match self.bearer(live, request, wanted).and_then(|owner| self.for_owner(live, request, path, &owner)) {
            Ok(said) => said,
            Err(said) => *said,
        }
    }

    /// The owner for whom a program asks.
    fn bearer(&self, live: &Live, request: &OwnerRequest, wanted: OwnerScope) -> Result<OwnerRecord, Box<Said>> {
        let unproved = |because: &str| {
            self.owner_refused(request, StatusCode::UNAUTHORIZED, because, None);
            let said = problem(StatusCode::UNAUTHORIZED, "this is not a token that an owner may use here");
            said.with("www-authenticate", "Bearer realm=\"owner\"".to_owned()).slow()
        };
        let Some(text) = &request.bearer else { return Err(unproved("it shows no token").into()) };
        let token = OwnerToken::verify(text, &live.token_keys, &audience(live), self.now())
            .map_err(|bad| unproved(&bad.to_string()))?;
        let found = self
            .ask(|reader| reader.view(|view| Ok((view.owner(&token.owner)?, view.head()?))))
            .map_err(|error| self.api_refused(request, &NotDone::Doubt(error.to_string())))?;
        let (Some(owner), head) = found else { return Err(unproved("there is no such owner").into()) };
        if head.doubt.is_some() || self.is_in_doubt() {
            return Err(self.api_refused(request, &NotDone::Doubt("the store is in doubt".to_owned())).into());
        }
        if owner.retired.is_some() || token.issued < owner.signed_in_from {
            return Err(unproved("its owner was retired or signed out since").into());
        }
        if !token.scopes.contains(&wanted) {
            self.owner_refused(request, StatusCode::FORBIDDEN, &format!("{}: out of scope", owner.id), None);
            let challenge =
                format!("Bearer realm=\"owner\", error=\"insufficient_scope\", scope=\"{}\"", wanted.as_str());
            let said = problem(StatusCode::FORBIDDEN, &format!("the token has no scope {}", wanted.as_str()));
            return Err(said.with("www-authenticate", challenge).into());
        }
        Ok(owner)
    }

    fn api_refused(&self, request: &OwnerRequest, why: &NotDone) -> Said {
        let because = match why {
            NotDone::Doubt(because) => because.clone(),
            told => told.to_string(),
        };
        self.owner_refused(request, why.status(), &because, None);
        let said = problem(why.status(), &why.to_string());
        match why {
            NotDone::NotClaimed => said.slow(),
            why => said.again_in(why.retry_after()),
        }
    }

    fn for_owner(
        &self,
        live: &Live,
        request: &OwnerRequest,
        path: &Api,
        owner: &OwnerRecord,
    ) -> Result<Said, Box<Said>> {
        let refused = |why: NotDone| self.api_refused(request, &why);
        match path {
            Api::Devices => {
                let found = self.devices_of(owner, &after(request));
                let (devices, more) = found.map_err(|error| refused(error.into()))?;
                let next = devices.last().map(|last| last.id.to_string()).filter(|_| more);
                let devices: Vec<Value> = devices.iter().map(device_json).collect();
                Ok(answer(&json!({ "devices": devices, "next": next })))
            }
            Api::Device(id) => Ok(answer(&device_json(&self.device_of(owner, id).map_err(refused)?))),
            Api::Offers => {
                let (offers, next) = self.offers_to(owner, &after(request)).map_err(|error| refused(error.into()))?;
                Ok(answer(&json!({ "offers": offers.iter().map(offer_json).collect::<Vec<_>>(), "next": next })))
            }
            Api::Places => {
                let mut all: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
                for (name, value) in &owner.places {
                    all.entry(name.as_str()).or_default().push(value.as_str());
                }
                Ok(answer(&json!({ "owner": owner.id, "places": all })))
            }
            Api::Claims => {
                let ClaimBody { device, code, place } = needed(&request.body)?;
                let (code, wanted) = (code.map(Zeroizing::new), places(&place)?);
                let code = code.as_ref().map(|code| code.as_str());
                let id = self.claim_for(live, request, owner, (&device, code, &wanted)).map_err(refused)?;
                Ok(answer(&device_json(&self.device_of(owner, &id).map_err(refused)?)))
            }
            Api::Act(id, act) => {
                let (act, to, wanted) = match act {
                    Act::HandOver if request.is_delete => (Act::DropOffer, None, Vec::new()),
                    Act::HandOver => (Act::HandOver, Some(needed::<HandOverBody>(&request.body)?.to), Vec::new()),
                    Act::Take => (Act::Take, None, places(&body::<TakeBody>(&request.body)?.place)?),
                    other => {
                        body::<NoBody>(&request.body)?;
                        (*other, None, Vec::new())
                    }
                };
                self.act_for(live, owner, (id, act), (to.as_deref(), &wanted)).map_err(refused)?;
                match act {
                    Act::HandOver | Act::Take => Ok(answer(&device_json(&self.device_of(owner, id).map_err(refused)?))),
                    Act::GiveUp | Act::DropOffer => {
                        Ok(Said { status: StatusCode::NO_CONTENT, ..Said::of("application/json", "") })
                    }
                }
            }
        }
    }
}
