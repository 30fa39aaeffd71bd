//! Waiting for the store: who a client is, whether it may come in, and what the policies give it.

use std::sync::Arc;
use std::time::Instant;

use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::credential::Unusable;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::mqtt::{PropertyId, Version, Will, reason, return_code};
use tidy_warden_core::policy::{self, Denial};
use tidy_warden_core::reflex::Noticed;
use tidy_warden_core::token::{BadToken, Terms};
use tidy_warden_core::topic::TopicName;
use tidy_warden_store::acts::bearer::check_bound;
use tidy_warden_store::{Bearer, Claimed, TokenRefusal};
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
    let Caller { shared, connect, .. } = caller;
    let live = &caller.live;
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
    let shown = Shown { certificate, user_name: connect.user_name };
    let bearer = match connect.password {
        Some(token) => Some(bearer(caller, token, parsed.as_ref()).await?),
        None => None,
    };
    let credential = credential(&shown, bearer)?;
    let (device, asked) = match (&credential, resolved) {
        (Credential::Token(bearer), _) => (bearer.token.device.clone(), None),
        // What was asked was about the certificate alone.
        (Credential::Both(..), Some(Resolved { device, .. })) => (device, None),
        (Credential::Certificate(_), Some(Resolved { device, asked, .. })) => (device, asked),
        (Credential::Certificate(_) | Credential::Both(..), None) => return Err(NotAdmitted::UnknownCertificate.into()),
    };
    let known = Known { credential, leaf: parsed.as_ref(), asked };
    let admission = judge_device(caller, &shown, known, &device).await;
    admission
        .map(|admission| Admission { leaf, ..admission })
        .map_err(|refusal| Refusal { device: Some(device), ..refusal })
}

/// The token that was shown, verified with the keys that can have signed it.
async fn bearer<S>(caller: &Caller<'_, S>, token: &[u8], leaf: Option<&Certificate>) -> Result<Bearer, Refusal> {
    let Caller { shared, connect, .. } = caller;
    let live = &caller.live;
    let refused = |bad: BadToken| NotAdmitted::Token(bad.into());
    let user = connect.user_name.ok_or(NotAdmitted::Nothing)?;
    let device: DeviceId = user.parse().map_err(|_| refused(BadToken::UnknownKey))?;
    let terms =
        Terms { audience: &live.parties.audience, now: shared.knowledge.now(), skew: live.settings.guard.token_skew };
    let signers = shared.knowledge.signers();
    let claimed = Claimed::read(token, &live.parties, &device).map_err(refused)?;
    // The ward's keys prove it for whoever is named in it.
    let is_its = match &claimed {
        Claimed::Ward(token) => token.claims.subject.as_deref() == Some(device.as_str()),
        Claimed::Device(..) => true,
    };
    let verified = match claimed {
        Claimed::Ward(token) => {
            Claimed::by_ward(&token, &signers, &live.parties.issuer, terms).map_err(TokenRefusal::Token)
        }
        Claimed::Device(token, device) => {
            let keys =
                shared.knowledge.own_keys(device.clone(), token.kid.clone()).await.map_err(NotAdmitted::Store)?;
            Claimed::by_device((&token, device), &keys, &signers, terms)
        }
    };
    let verified = verified.and_then(|bearer| {
        check_bound(&bearer, leaf)?;
        Ok(bearer)
    });
    verified.map_err(|error| {
        // Whose it is was proved, so that it may be told there.
        let is_proved = is_its && matches!(&error, TokenRefusal::Token(bad) if bad.is_proved());
        Refusal { device: is_proved.then_some(device), ..NotAdmitted::from(error).into() }
    })
}

/// A token for an errand leaves no session behind.
fn check_clean<S>(caller: &Caller<'_, S>) -> Result<(), Refusal> {
    let connect = caller.connect;
    let stays = connect.properties.number(PropertyId::SessionExpiry).unwrap_or(0) > 0;
    match connect.clean_start && !stays {
        true => Ok(()),
        false => {
            let why = "a token with a scope opens clean sessions only: set clean start, and no session expiry";
            Err(Refusal::not_authorized(why))
        }
    }
}

/// The checks that need to know the device.
async fn judge_device<S>(
    caller: &Caller<'_, S>,
    shown: &Shown<'_>,
    known: Known<'_>,
    device: &DeviceId,
) -> Result<Admission, Refusal> {
    let Caller { shared, live, .. } = caller;
    let Known { credential, leaf, asked } = known;
    same_device(shown, &credential, device)?;
    if credential.scope().is_some() {
        check_clean(caller)?;
    }
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
    let given = shared.given(&admitted.device, &credential, changes.as_ref()).await;
    let client_id = client_id(caller, &admitted.device.id)?.to_owned();
    let given = given.ok_or_else(|| Refusal::not_authorized(Denial::NoEdition.to_string()))?;
    check_rights(caller, &given, device, &client_id)?;
    // Last, so that only what would have been let in is remembered.
    if let Some(bearer) = credential.bearer().filter(|_| live.settings.guard.replay_watch) {
        let note = shared.replays.note(&bearer.token, caller.peer.ip().into(), shared.knowledge.now());
        if note.is_err() {
            let (notices, words) = (shared.notices(device, caller.peer.ip(), false), bearer.token.shown());
            notices.note(Noticed::TokenReplay, shared.knowledge.now(), &words);
        }
        note.map_err(NotAdmitted::from)?;
    }
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
            Denial::OutOfScope { .. } => {
                Refusal::denied(reason::BAD_CLIENT_ID, return_code::BAD_CLIENT_ID, &denial, event)
            }
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
