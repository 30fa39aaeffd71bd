//! Waiting for the store: who a client is, whether it may come in, and what the policies give it.

use std::sync::Arc;
use std::time::Instant;

use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::credential::Unusable;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{PropertyId, Version, Will, reason, return_code};
use tidy_warden_core::policy::{self, Denial};
use tidy_warden_core::token::VerifiedToken;
use tidy_warden_core::topic::TopicName;
use tokio::io::{AsyncRead, AsyncWrite};

use super::{Admission, AwaitsBroker, AwaitsStore, Caller, Refusal, watch_for_old_keys};
use crate::Event;
use crate::follower::take_trust;
use crate::gate::Given;
use crate::identity::{Credential, NotAdmitted, Shown, credential, same_device};
use crate::knowledge::{Asked, Resolved};
use crate::message::{Message, Refused};
use crate::registry::{Limits, Registered};

/// Why a certificate is refused that was taken before.
pub(super) const NOT_TRUSTED: &str = "the authority of its certificate is no longer trusted";

/// What a client is known by.
struct Known<'a> {
    credential: Credential,
    /// The certificate that it showed.
    leaf: Option<&'a Certificate>,
    /// What the store said when it was asked whose certificate that is.
    asked: Option<Asked>,
}

impl<'c, S: AsyncRead + AsyncWrite + Unpin + Send> AwaitsStore<'c, S> {
    /// Makes all checks of a CONNECT; a client that may not come in is told so.
    pub(super) async fn admit(self) -> Option<AwaitsBroker<'c, S>> {
        let Self { caller, leaf } = self;
        match judge(&caller, leaf).await {
            Ok(admission) => Some(AwaitsBroker { caller, admission }),
            Err(refusal) => {
                caller.refuse(refusal).await;
                None
            }
        }
    }
}

/// All checks. The session is registered before the check that counts, so that no change slips between.
async fn judge<S>(caller: &Caller<'_, S>, leaf: Option<Arc<[u8]>>) -> Result<Admission, Refusal> {
    let Caller { shared, live, connect, .. } = caller;
    if connect.properties.text(PropertyId::AuthenticationMethod).is_some() {
        return Err(Refusal::new(
            reason::BAD_AUTHENTICATION_METHOD,
            return_code::NOT_AUTHORIZED,
            "enhanced authentication is not offered",
        ));
    }
    let read = |der: &Arc<[u8]>| Certificate::from_der(der).map_err(|_| NotAdmitted::UnknownCertificate);
    let parsed = leaf.as_ref().map(read).transpose()?;
    let resolved = match &parsed {
        Some(leaf) => Some(shared.knowledge.resolve(leaf, &live.settings, &shared.trust.now()).await?),
        None => None,
    };
    let certificate = resolved.as_ref().map(|resolved| resolved.fingerprint);
    let shown = Shown { certificate, user_name: connect.user_name, password: connect.password };
    let now = shared.knowledge.now();
    let (credential, beside) = credential(&shown, &live.token_key, &live.parties, now)?;
    let (device, asked) = match (&credential, resolved) {
        (Credential::Token(token), _) => (token.device.clone(), None),
        (Credential::Certificate(_), Some(Resolved { device, asked, .. })) => (device, asked),
        (Credential::Certificate(_), None) => return Err(NotAdmitted::UnknownCertificate.into()),
    };
    let known = Known { credential, leaf: parsed.as_ref(), asked };
    let admission = judge_device(caller, (&shown, beside.as_ref()), known, &device).await;
    admission
        .map(|admission| Admission { leaf, ..admission })
        .map_err(|refusal| Refusal { device: Some(device), ..refusal })
}

/// The checks that need to know the device.
async fn judge_device<S>(
    caller: &Caller<'_, S>,
    (shown, beside): (&Shown<'_>, Option<&VerifiedToken>),
    known: Known<'_>,
    device: &DeviceId,
) -> Result<Admission, Refusal> {
    let Caller { shared, live, .. } = caller;
    let Known { credential, leaf, asked } = known;
    same_device(shown, beside, device)?;
    if let Some(left) = shared.floods.waits(device, Instant::now()) {
        let why =
            format!("it was disconnected because it went on although it was refused; {} s to wait", left.as_secs() + 1);
        return Err(Refusal::new(reason::RATE, return_code::UNAVAILABLE, why));
    }
    let registered = register(caller, device, &credential)?;
    let (admitted, changes) = match shared.knowledge.admit(&credential, &live.settings, asked).await {
        Ok(admitted) => admitted,
        Err(error) => {
            if matches!(error, NotAdmitted::Credential(Unusable::Superseded { .. })) {
                watch_for_old_keys(shared, device, &credential, caller.peer).await;
            }
            return Err(error.into());
        }
    };
    registered.ends(admitted.ends);
    if let Some(changes) = &changes {
        take_trust(shared, changes.authorities).await;
    }
    // A resumed handshake did not look at the chain, and the authorities may be others since a full one did.
    let trust = shared.trust.now();
    if leaf.is_some_and(|leaf| trust.judge(leaf, shared.knowledge.now()).is_err()) {
        return Err(Refusal::not_authorized(NOT_TRUSTED));
    }
    if changes.is_none() {
        // It comes in by what was known before the store fell silent, and is looked at as soon as it answers.
        registered.stale();
    }
    let given = shared.given(&admitted.device, changes.as_ref()).await;
    let client_id = client_id(caller, &admitted.device.id)?.to_owned();
    let given = given.ok_or_else(|| Refusal::not_authorized(Denial::NoEdition.to_string()))?;
    check_rights(caller, &given, device, &client_id)?;
    Ok(Admission {
        registered,
        credential,
        ends: admitted.ends,
        device: admitted.device,
        shown: admitted.shown,
        given,
        client_id,
        assigned: caller.connect.client_id.is_empty(),
        generation: live.generation,
        trusted: trust.generation,
        asked: 0,
        leaf: None,
    })
}

/// Takes a place among the sessions, if there is one. From here on the follower tells the session what changes.
fn register<S>(caller: &Caller<'_, S>, device: &DeviceId, credential: &Credential) -> Result<Registered, Refusal> {
    let limits = Limits::of(&caller.live.settings.guard);
    let mut registered = caller
        .shared
        .registry
        .register(device, caller.peer.ip().into(), limits)
        .map_err(|no_room| Refusal::new(reason::QUOTA, return_code::UNAVAILABLE, no_room.to_string()))?;
    registered.with(credential);
    registered.control.mark_unchanged();
    Ok(registered)
}

/// The client identifier, which is the device's own if none was asked for.
fn client_id<'a, S>(caller: &Caller<'a, S>, device: &'a DeviceId) -> Result<&'a str, Refusal> {
    let connect = caller.connect;
    if !connect.client_id.is_empty() {
        return Ok(connect.client_id);
    }
    if connect.version == Version::V311 && !connect.clean_start {
        let why = "an empty client identifier needs a clean session (MQTT 3.1.1 section 3.1.3.1)";
        return Err(Refusal::new(reason::BAD_CLIENT_ID, return_code::BAD_CLIENT_ID, why));
    }
    Ok(device.as_str())
}

/// Whether the policies let it connect under its client identifier, and leave the will that it wants to leave.
fn check_rights<S>(caller: &Caller<'_, S>, given: &Given, device: &DeviceId, client_id: &str) -> Result<(), Refusal> {
    let decision = given.rights.connect(client_id);
    caller.shared.watching(device, given.trial.clone()).connect(client_id, decision.is_ok());
    if let Err(denial) = decision {
        let event = Event::denied(device.as_str(), caller.peer, "connect", client_id, &denial);
        // No rule at all is a question of rights; a rule for other names is a question of the name.
        return Err(match denial {
            Denial::NoRule { ref instead, .. } if !instead.is_empty() => {
                Refusal::denied(reason::BAD_CLIENT_ID, return_code::BAD_CLIENT_ID, &denial, event)
            }
            _ => Refusal::denied(reason::NOT_AUTHORIZED, return_code::NOT_AUTHORIZED, &denial, event),
        });
    }
    match &caller.connect.will {
        Some(will) => check_will(caller, will, given, device),
        None => Ok(()),
    }
}

/// Whether a will may be left as things stand. It is decided again when it goes, and charged then.
fn check_will<S>(caller: &Caller<'_, S>, will: &Will<'_>, given: &Given, device: &DeviceId) -> Result<(), Refusal> {
    let bad_topic = |why| Refusal::new(reason::BAD_TOPIC, return_code::NOT_AUTHORIZED, why);
    let message = will_message(will).map_err(bad_topic)?;
    match message.decide(&given.rights, &mut policy::NoMeter) {
        Ok(_) => Ok(()),
        Err(Refused::BadResponse(why)) => Err(bad_topic(format!("the will's response topic: {why}"))),
        Err(Refused::Denied(denial)) => {
            let event = Event::denied(device.as_str(), caller.peer, "will", will.topic, &denial);
            Err(Refusal::denied(reason::NOT_AUTHORIZED, return_code::NOT_AUTHORIZED, &denial, event))
        }
        Err(refused @ Refused::Response(_)) => Err(Refusal::not_authorized(format!("the will: {refused}"))),
    }
}

/// A will as the message that it becomes.
pub(super) fn will_message<'a>(will: &Will<'a>) -> Result<Message<'a>, String> {
    let topic = TopicName::parse(will.topic).map_err(|error| format!("the will: {error}"))?;
    Ok(Message::new(topic, will.qos, will.retain, will.payload, &will.properties))
}
