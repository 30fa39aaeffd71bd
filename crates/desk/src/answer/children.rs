//! Children that a gateway brings in ahead, before any of their messages.

use hyper::StatusCode;
use serde::Deserialize;
use serde_json::json;
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::settings::Admit;
use tidy_warden_store::IntroduceRefusal;

use super::{Caller, Refusal, Said};
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
        let gateway = self.signed_in(live, caller)?;
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
            let answer = self.acts.introduce_child(new, most, self.cause(String::new()))?;
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
}
