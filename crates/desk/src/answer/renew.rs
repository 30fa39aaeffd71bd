//! The next certificate, and how its device connects: for who shows the one that it has.

use hyper::StatusCode;
use tidy_warden_core::certificate::Fingerprint;
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::enrolment::renewal_opens;
use tidy_warden_core::id::KindName;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{SignedCredential, StoreError, View};

use super::{Caller, Refusal, Said, certificate, given, leaf_of, possessed, read, was_asked};
use tidy_warden_ward::issue::press::KeySource;

use crate::Event;
use crate::state::{Desk, Live};

/// What may be renewed, and by whom.
struct Held {
    credential: CredentialRecord,
    device: DeviceRecord,
    /// What the device was given for the same key before, if it was and has not used it.
    given_before: Option<Vec<u8>>,
}

impl Desk {
    /// The next certificate, for the one that was shown in the handshake.
    pub(super) fn renew(
        &self,
        live: &Live,
        kind: Option<&KindName>,
        caller: &Caller,
        body: &[u8],
    ) -> Result<Said, Refusal> {
        let leaf = leaf_of(caller);
        let leaf = leaf.ok_or_else(|| Refusal::unproved("no certificate was shown"))?;
        let request = read(body)?;
        let (now, key_digest) = (self.now(), request.key_digest());
        let (held, head) = self
            .ask(|reader| reader.view(|view| Ok((held(view, &leaf.fingerprint, &key_digest, now)?, view.head()?))))?;
        self.settled(live, &head)?;
        let Some(Held { credential, device, given_before }) = held else {
            return Err(Refusal::unproved("the certificate is not on record"));
        };
        let id = device.id.clone();
        let unproved = |why: &dyn std::fmt::Display| Refusal::unproved(why).about(&id);
        signs_in(&credential, &device, now)?;
        if credential.origin != Origin::Issued {
            return Err(unproved(&"what was shown was not signed by the ward"));
        }
        let told = |status, words: String| Refusal::told(status, words).about(&id);
        if kind.is_some_and(|kind| *kind != device.kind) {
            return Err(told(StatusCode::FORBIDDEN, format!("the path names another kind than {}", device.kind)));
        }
        if request.wants_other_names(&leaf) {
            let words =
                "the request asks for another subject or other names than the certificate has (RFC 7030 section 4.2.2)";
            return Err(told(StatusCode::BAD_REQUEST, words.to_owned()));
        }
        let proven = possessed(request).map_err(|refusal| refusal.about(&id))?;
        if let Some(der) = given_before {
            self.emit(Event::Repeated { device: id.to_string(), peer: caller.peer });
            return Ok(certificate(&der));
        }
        let renew = live.settings.kinds.get(&device.kind).and_then(|kind| kind.renew);
        let opens = renewal_opens(credential.not_before, credential.not_after, renew, &id);
        if now < opens && !was_asked(&device, &credential, now) {
            return Err(Refusal::too_early("this certificate", opens, now).about(&id));
        }
        self.count(live, &id)?;
        let minted = self.minted(live, &device, KeySource::Proven(proven), now)?;
        let signed = SignedCredential::from(&minted.credential(&id, true));
        self.acts
            .renew(leaf.fingerprint, signed, self.cause("renewed by its device".to_owned()))?
            .map_err(|refusal| unproved(&refusal))?;
        self.emit(Event::Renewed { device: id.to_string(), serial: minted.serial.to_string(), peer: caller.peer });
        Ok(certificate(&minted.fresh.der))
    }

    /// How the device connects whose certificate was shown, which must be one that it may sign in with.
    pub(super) fn connect(&self, live: &Live, caller: &Caller) -> Result<Said, Refusal> {
        let (device, _) = self.signed_in(live, caller)?;
        let text = serde_json::to_string_pretty(&live.mint.connect(&device));
        Ok(Said::of("application/json", text.map_err(Refusal::doubt)? + "\n"))
    }

    /// The device whose certificate was shown, which must be one that it may sign in with, and that.
    pub(super) fn signed_in(&self, live: &Live, caller: &Caller) -> Result<(DeviceRecord, Fingerprint), Refusal> {
        let leaf = leaf_of(caller);
        let leaf = leaf.ok_or_else(|| Refusal::unproved("no certificate was shown"))?;
        let shown = std::slice::from_ref(&leaf.fingerprint);
        let (known, head) =
            self.ask(|reader| reader.view(|view| Ok((view.status_many(shown)?.pop().flatten(), view.head()?))))?;
        self.settled(live, &head)?;
        let (credential, device) = known.ok_or_else(|| Refusal::unproved("the certificate is not on record"))?;
        signs_in(&credential, &device, self.now())?;
        Ok((device, leaf.fingerprint))
    }
}

/// What a certificate stands for, and what its device was given for a key since.
fn held(
    view: &dyn View,
    shown: &Fingerprint,
    key_digest: &[u8; 32],
    now: UnixTime,
) -> Result<Option<Held>, StoreError> {
    let known = view.status_many(std::slice::from_ref(shown))?.pop().flatten();
    let Some((credential, device)) = known else { return Ok(None) };
    let mut given_before = None;
    for (holder, fingerprint) in view.holders_of_key(key_digest)? {
        let is_other = holder == device.id && fingerprint != *shown;
        let Some(other) = (if is_other { given(view, &fingerprint)? } else { None }) else { continue };
        // Only what was given after the one that is shown is its successor.
        let is_next = other.credential.issued >= credential.issued && other.credential.first_used.is_none();
        if is_next && other.credential.may_sign_in(now).is_ok() {
            given_before = Some(other.der);
        }
    }
    Ok(Some(Held { credential, device, given_before }))
}

/// Whether a device may sign in with a credential now.
fn signs_in(credential: &CredentialRecord, device: &DeviceRecord, now: UnixTime) -> Result<(), Refusal> {
    let unproved = |why: &dyn std::fmt::Display| Refusal::unproved(why).about(&device.id);
    match device.barred() {
        Some(barred) => Err(unproved(&barred)),
        None => credential.may_sign_in(now).map_err(|why| unproved(&why)),
    }
}
