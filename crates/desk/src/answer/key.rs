//! The next key that a device shares with the ward: for who proves itself with the present one.

use hyper::StatusCode;
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::rekey::{KEY_ANSWER, KeyRequest};
use tidy_warden_core::settings::Renews;
use tidy_warden_core::shared::DataKey;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{DeviceView, NewCredential, SignedCredential, StoreError, View};
use tidy_warden_ward::rekey::{NotGiven, given_again, jwk_of, made, opened, opens};

use super::{Caller, Refusal, Said, was_asked};
use crate::Event;
use crate::state::{Desk, Live};

/// What is known of a key that was shown, all of one moment.
struct Shown {
    device: DeviceView,
    credential: CredentialRecord,
    /// Whether it signed the request; or why that is not known.
    proof: Result<(), String>,
    /// What the device is given again, if it was given something and has not used it.
    again: Result<Option<Result<String, String>>, NotGiven>,
    /// When the key may be replaced without being asked; `None` if devices of its kind do not do so.
    opens: Option<UnixTime>,
}

impl Desk {
    /// The next key that a device shares with the ward, for one that signed its request with the present one.
    pub(super) fn renew_key(&self, live: &Live, caller: &Caller, body: &[u8]) -> Result<Said, Refusal> {
        let bad = |words: &str| Refusal::told(StatusCode::BAD_REQUEST, words);
        let text = std::str::from_utf8(body).map_err(|_| bad("the body is no text"))?;
        let request = KeyRequest::read(text.trim()).map_err(|error| bad(&error.to_string()))?;
        let data = match &live.data_key {
            Ok(Some(data)) => data,
            Ok(None) => return Err(Refusal::unproved("no kind of this ward replaces its keys here")),
            Err(why) => return Err(Refusal::doubt(why)),
        };
        let (id, now) = (request.device.clone(), self.now());
        let (shown, head) =
            self.ask(|reader| reader.view(|view| Ok((shown(view, live, data, &request, now)?, view.head()?))))?;
        // Before anything that depends on which devices there are: whoever has proved nothing is told the same of all.
        self.settled(live, &head)?;
        let unproved = |why: &dyn std::fmt::Display| Refusal::unproved(why).about(&id);
        let Some(shown) = shown else {
            return Err(Refusal::unproved("there is no such device, or it has no such shared key"));
        };
        shown.proof.map_err(|why| unproved(&why))?;
        if let Some(barred) = shown.device.device.barred() {
            return Err(unproved(&barred));
        }
        let Some(opens) = shown.opens else {
            return Err(unproved(&"devices of its kind do not replace their keys here"));
        };
        if let Some(again) = shown.again.map_err(|why| unproved(&why))? {
            let jwk = again.map_err(Refusal::doubt)?;
            self.emit(Event::Repeated { device: id.to_string(), peer: caller.peer });
            return Ok(Said::of(KEY_ANSWER, jwk));
        }
        let credential = &shown.credential;
        if now < opens && !was_asked(&shown.device.device, credential, now) {
            return Err(Refusal::too_early("this key", opens, now).about(&id));
        }
        self.count(live, &id)?;
        let kind = live.settings.kinds.get(&shown.device.device.kind);
        let made = kind.and_then(|kind| Some((made(data, &id, kind, now)?, kind.overlap)));
        let ((fresh, times), overlap) = made.ok_or_else(|| Refusal::doubt("no key could be made").about(&id))?;
        let new = SignedCredential::from(&NewCredential { overlap, ..fresh.credential(&id, times, None) });
        let cause = self.cause("replaced by its device".to_owned());
        self.acts.renew_key(credential.fingerprint, new, cause)?.map_err(|refusal| unproved(&refusal))?;
        self.emit(Event::KeyRenewed { device: id.to_string(), kid: fresh.kid.clone(), peer: caller.peer });
        Ok(Said::of(KEY_ANSWER, fresh.key.to_jwk(&fresh.kid).to_string()))
    }
}

/// Looks a request up; `None` if there is no such device or key.
fn shown(
    view: &dyn View,
    live: &Live,
    data: &DataKey,
    request: &KeyRequest<'_>,
    now: UnixTime,
) -> Result<Option<Shown>, StoreError> {
    let id: &DeviceId = &request.device;
    let Some(device) = view.devices(std::slice::from_ref(id))?.pop().flatten() else { return Ok(None) };
    // A name counts within the device alone.
    let is_named = |each: &&CredentialRecord| each.origin == Origin::Shared && each.key_name() == request.kid;
    let Some(credential) = device.credentials.iter().find(is_named).cloned() else { return Ok(None) };
    let urn = view.ward()?.urn;
    let proof = opened(view, data, &credential)?
        .and_then(|key| request.verify(&key, &urn, now).map_err(|error| error.to_string()));
    let again = match given_again(view, &device.credentials, &credential, now)? {
        // Whoever proves nothing has nothing opened.
        Ok(Some(record)) if proof.is_ok() => Ok(Some(jwk_of(view, data, &record)?.map(|jwk| jwk.to_string()))),
        Ok(_) => Ok(None),
        Err(why) => Err(why),
    };
    let kind = live.settings.kinds.get(&device.device.kind);
    let kind = kind.filter(|kind| kind.shared_keys && kind.renews_keys != Renews::Person);
    let opens = kind.map(|kind| opens(&credential, kind));
    Ok(Some(Shown { device, credential, proof, again, opens }))
}
