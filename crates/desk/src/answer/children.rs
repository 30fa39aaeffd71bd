//! Children that a gateway brings in ahead, before any of their messages, and for which it fetches certificates.

use hyper::StatusCode;
use serde::Deserialize;
use serde_json::json;
use tidy_warden_core::credential::Origin;
use tidy_warden_core::enrolment::{renewal_opens, replaced};
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::settings::Admit;
use tidy_warden_store::{IntroduceRefusal, SignedCredential};
use tidy_warden_ward::issue::press::KeySource;

use super::{Caller, Refusal, Said, certificate, given, possessed, read};
use crate::Event;
use crate::state::{Desk, Live};

/// How many are brought in by one request.
const MOST: usize = 100;

/// What a gateway sends.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Sent {
    children: Vec<Child>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Child {
    id: String,
    kind: String,
}

impl Child {
    fn names(&self, live: &Live) -> Result<(DeviceId, KindName), String> {
        let id: DeviceId = self.id.parse().map_err(|error| format!("{:?}: {error}", self.id))?;
        let kind = self.kind.parse().map_err(|error| format!("{:?}: {error}", self.kind))?;
        live.settings.may_name(&id).map_err(|why| format!("no child can be named `{id}`: {why}"))?;
        Ok((id, kind))
    }
}

impl Desk {
    /// Brings in children of the device whose certificate was shown, as its policy lets it.
    pub(super) fn children(&self, live: &Live, caller: &Caller, body: &[u8]) -> Result<Said, Refusal> {
        let (gateway, shown) = self.signed_in(live, caller)?;
        let told = |status, words: String| Refusal::told(status, words).about(&gateway.id);
        let sent: Sent = serde_json::from_slice(body).map_err(|error| {
            let form = r#"expected {"children":[{"id":"cb-9","kind":"cabin"}]}"#;
            told(StatusCode::BAD_REQUEST, format!("{form}: {error}"))
        })?;
        if sent.children.is_empty() || sent.children.len() > MOST {
            return Err(told(StatusCode::BAD_REQUEST, format!("expected 1 to {MOST} children")));
        }
        let rights = live.mint.introduces(&gateway);
        // All of them or none is looked at: a gateway that is wrong about its rights is to hear of it.
        let mut wanted = Vec::with_capacity(sent.children.len());
        for child in sent.children {
            let (id, kind) = child.names(live).map_err(|words| told(StatusCode::BAD_REQUEST, words))?;
            let right = rights.iter().find(|right| right.kind == kind);
            let Some((right, declared)) = right.zip(live.settings.kinds.get(&kind)) else {
                let words = format!("no policy lets this device bring in children of the kind {kind}");
                return Err(told(StatusCode::FORBIDDEN, words));
            };
            wanted.push((id, kind, right.most, declared.admit == Admit::Facts));
        }
        self.count(live, &gateway.id)?;
        let mut all = Vec::with_capacity(wanted.len());
        for (id, kind, most, is_free) in wanted {
            let state = if is_free { IntroducedState::Accepted } else { IntroducedState::Waits };
            let new = IntroducedRecord::new(id.clone(), kind.clone(), &gateway, self.now());
            let new = IntroducedRecord { state, ..new };
            let answer = self.acts.introduce_child(shown, new, most, self.cause(String::new()))?;
            let (state, because) = match &answer {
                Ok(state) => (state.as_str(), None),
                // Which ids there are elsewhere is nobody's business here.
                Err(refusal @ (IntroduceRefusal::Full { .. } | IntroduceRefusal::Gateway { .. })) => {
                    ("refused", Some(refusal.to_string()))
                }
                Err(_) => ("refused", Some("this id cannot be brought in".to_owned())),
            };
            all.push(json!({ "id": id, "state": state, "because": because }));
            let because = answer.as_ref().err().map(ToString::to_string);
            self.emit(Event::Introduced {
                device: gateway.id.to_string(),
                child: id.to_string(),
                kind: kind.to_string(),
                state,
                because,
                peer: caller.peer,
            });
        }
        let text = json!({ "schema": "tidy-warden/children/1", "children": all }).to_string();
        Ok(Said::of("application/json", text + "\n"))
    }

    /// A certificate for a child of the device whose certificate was shown, where the child's kind leaves that to its gateway. The request
    /// shows that somebody holds the key; that it is the child, the gateway says.
    pub(super) fn enroll_child(
        &self,
        live: &Live,
        child: &DeviceId,
        caller: &Caller,
        body: &[u8],
    ) -> Result<Said, Refusal> {
        let (gateway, shown) = self.signed_in(live, caller)?;
        let request = read(body)?;
        let (now, key_digest) = (self.now(), request.key_digest());
        let found = self.ask(|reader| {
            reader.view(|view| {
                let Some(found) = view.devices(std::slice::from_ref(child))?.pop().flatten() else { return Ok(None) };
                let fingerprints = view.holders_of_key(&key_digest)?.into_iter().filter(|(holder, _)| holder == child);
                let mut with_key = Vec::new();
                for (_, fingerprint) in fingerprints {
                    with_key.extend(given(view, &fingerprint)?);
                }
                Ok(Some((found, with_key)))
            })
        })?;
        // Which devices there are behind others is nobody's business here: one answer for all that it may not ask for.
        let unproved = |why: &dyn std::fmt::Display| Refusal::unproved(why).about(child);
        let Some((found, with_key)) = found else { return Err(unproved(&"there is no such child")) };
        let device = &found.device;
        if device.gateway.as_ref() != Some(&gateway.id) {
            return Err(unproved(&format!("`{}` is not its gateway", gateway.id)));
        }
        let kind = live.settings.kinds.get(&device.kind).filter(|kind| kind.gateway_enrols);
        let Some(kind) = kind else {
            return Err(unproved(&format!("the kind {} does not leave that to gateways", device.kind)));
        };
        if let Some(barred) = device.barred() {
            return Err(unproved(&barred));
        }
        let proven = possessed(request).map_err(|refusal| refusal.about(child))?;
        // An answer that was lost is given again, as long as nobody has used it.
        let unused = with_key
            .iter()
            .find(|given| given.credential.first_used.is_none() && given.credential.may_sign_in(now).is_ok());
        if let Some(given) = unused {
            self.emit(Event::Repeated { device: child.to_string(), peer: caller.peer });
            return Ok(certificate(&given.der));
        }
        let current: Vec<_> = replaced(&found.credentials, Origin::Issued, now).collect();
        if let Some(last) = current.iter().max_by_key(|credential| credential.not_after) {
            let opens = renewal_opens(last.not_before, last.not_after, kind.renew, child);
            if now < opens {
                let which = format!("the certificate of {child}");
                return Err(Refusal::too_early(&which, opens, now).about(child));
            }
        }
        self.count(live, child)?;
        let minted = self.minted(live, device, KeySource::Proven(proven), now)?;
        let signed = SignedCredential::from(&minted.credential(child, !current.is_empty()));
        let cause = self.cause(format!("fetched by its gateway {}", gateway.id));
        self.acts.enrol_child(gateway.id.clone(), shown, signed, cause)?.map_err(|refusal| unproved(&refusal))?;
        self.emit(Event::EnrolledChild {
            device: child.to_string(),
            gateway: gateway.id.to_string(),
            serial: minted.serial.to_string(),
            peer: caller.peer,
        });
        Ok(certificate(&minted.fresh.der))
    }
}
