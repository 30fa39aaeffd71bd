//! The first certificate, and who waits for a person.
//!
//! The way of a request: what is wrong with it by itself is told; then the admission is found that it could mean, and whether its sender
//! has proved to be who is meant. Who has not is told nothing but that, whatever the reason. Who has is given a certificate, which is
//! recorded in the change that uses the admission; all of it is looked at again inside that change.

use std::collections::BTreeMap;

use hyper::StatusCode;
use tidy_warden_core::admission::{AdmissionEnd, AdmissionName, AdmissionRecord, AdmissionState, Shown, Vouched};
use tidy_warden_core::asking::{self, AskingRecord};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::est;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::request::Request;
use tidy_warden_core::settings::Admit;
use tidy_warden_serve::source::Source;
use tidy_warden_store::{AskRefusal, SignedCredential, StoreError, View};

use super::{Caller, Given, Refusal, Said, certificate, given, leaf_of, possessed, read};
use tidy_warden_ward::issue::press::KeySource;

use crate::Event;
use crate::state::{Desk, Live};

/// What a caller wants.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wanted {
    /// A certificate for the key of its request.
    Certificate,
    /// A key, and a certificate for it.
    KeyToo,
}

/// How many of a device's admissions are looked through for the one that is meant.
const LOOKED_THROUGH: usize = 8;

/// After how many seconds whoever waits for a person is to call again, and whoever finds too many waiting.
const ASK_AGAIN: u64 = 30;
const FULL_WAIT: u64 = 3_600;

impl Desk {
    /// A first certificate, or the word to wait for a person.
    pub(super) fn enroll(
        &self,
        live: &Live,
        kind: Option<&KindName>,
        caller: &Caller,
        body: &[u8],
    ) -> Result<Said, Refusal> {
        let request = read(body)?;
        match self.enroll_proved(live, kind, caller, &request, Wanted::Certificate) {
            // Where the kind asks a person, whoever proves nothing waits for one, whatever it is that does not prove it.
            Err(refusal) if refusal.said.status == StatusCode::UNAUTHORIZED => match asked_kind(live, kind) {
                Some(kind) => self.wait(live, kind, caller, &request, refusal),
                None => Err(refusal),
            },
            other => other,
        }
    }

    /// A first certificate and the key that is made for it, where the kind lets the desk make one. The key of the request is passed over,
    /// and so is whether its sender holds it (RFC 7030 section 4.4.1).
    pub(super) fn keygen(
        &self,
        live: &Live,
        kind: Option<&KindName>,
        caller: &Caller,
        body: &[u8],
    ) -> Result<Said, Refusal> {
        let request = read(body)?;
        if est::decoded(body).is_some_and(|der| est::wants_encrypted_key(&der)) {
            let words = "the key is sent over TLS and is not encrypted besides (RFC 7030 section 4.4.1)";
            return Err(Refusal::told(StatusCode::BAD_REQUEST, words));
        }
        self.enroll_proved(live, kind, caller, &request, Wanted::KeyToo)
    }

    /// Has a caller wait for a person. It is told the same whether it waits, was refused, or is nobody that could wait.
    fn wait(
        &self,
        live: &Live,
        kind: &KindName,
        caller: &Caller,
        request: &Request,
        unproved: Refusal,
    ) -> Result<Said, Refusal> {
        let (facts, key_digest, now) = (stated(live, request), request.key_digest(), self.now());
        possessed(request.clone())?;
        let wanted = live.settings.kinds.get(kind).map(|kind| kind.identify.iter().chain(&kind.facts));
        if let Some(missing) = wanted.into_iter().flatten().find(|fact| !facts.contains_key(fact)) {
            let words = format!("the kind {kind} wants a request to name the {missing} of the device");
            return Err(Refusal::told(StatusCode::BAD_REQUEST, words));
        }
        let (known, head) = self.ask(|reader| reader.view(|view| Ok((view.asking(&key_digest)?, view.head()?))))?;
        self.settled(live, &head)?;
        let waits = || {
            let words = format!("a person must say yes; the code of this key is {}", asking::code(&key_digest));
            Said::later(StatusCode::ACCEPTED, &words, ASK_AGAIN)
        };
        if known.is_some_and(|known| known.until >= now) {
            return Ok(waits());
        }
        let new = AskingRecord {
            key_digest,
            kind: kind.clone(),
            facts,
            from: Source::from(caller.peer.ip()).to_string(),
            since: now,
            until: now.plus(asking::WAITS),
            refused: None,
        };
        let told = |said: Said, because: String| Refusal { said: Box::new(said), because, device: None };
        match self.acts.ask(new.clone(), self.cause(String::new()))? {
            Ok(()) => {
                self.emit(Event::Asking {
                    device: new.id().map(|id| id.to_string()).unwrap_or_default(),
                    kind: kind.to_string(),
                    code: new.code(),
                    peer: caller.peer,
                });
                Ok(waits())
            }
            Err(full @ AskRefusal::Full(_)) => {
                let words = "too many devices wait for a person already";
                Err(told(Said::later(StatusCode::SERVICE_UNAVAILABLE, words, FULL_WAIT), full.to_string()))
            }
            // Told as one that waits, and seen by nobody but whoever reads the log.
            Err(other) => Err(told(waits(), format!("{other} ({})", unproved.because))),
        }
    }

    /// A first certificate for a caller that has proved what it is.
    fn enroll_proved(
        &self,
        live: &Live,
        kind: Option<&KindName>,
        caller: &Caller,
        request: &Request,
        wanted: Wanted,
    ) -> Result<Said, Refusal> {
        let leaf = leaf_of(caller);
        let (facts, key_digest) = (stated(live, request), request.key_digest());
        let (now, trust) = (self.now(), self.trust.now());
        let maker = leaf.as_ref().and_then(|leaf| Some((trust.maker(leaf, now)?, leaf)));
        let vouched: BTreeMap<FactName, Fact> = maker
            .iter()
            .flat_map(|(maker, leaf)| maker.trust.vouched(leaf))
            .filter(|fact| live.settings.takes(fact))
            .map(|fact| (fact.name().clone(), fact))
            .collect();
        if let Some((maker, leaf)) = &maker {
            let shown = (Some(leaf.issuer.as_slice()), Some(&leaf.serial));
            self.maker_lists.judge(&maker.name, shown, now).map_err(Refusal::unproved)?;
        }
        if leaf.is_some() && maker.is_none() && caller.basic.is_none() {
            // Who has a certificate of the ward renews it; who has a stranger's has nothing.
            return Err(Refusal::unproved(
                "the certificate is of no trusted manufacturer; one of the ward's is renewed by simplereenroll",
            ));
        }
        let shown = Shown {
            facts: &facts,
            vouched: maker.map(|(maker, _)| Vouched { kinds: &maker.trust.kinds, facts: &vouched }),
            key_digest,
            secret: caller.basic.as_ref().and_then(|basic| basic.secret.as_ref()),
        };
        let user = caller.basic.as_ref().map(|basic| basic.user.as_str());
        let (found, head) = self.ask(|reader| {
            reader.view(|view| {
                let head = view.head()?;
                let Some(found) = find(view, live, user, &shown)? else { return Ok((None, head)) };
                let known = view.devices(std::slice::from_ref(&found.device.id))?.pop().flatten();
                let given = match found.end {
                    Some(AdmissionEnd::Used { credential, .. }) => given(view, &credential)?,
                    _ => None,
                };
                Ok((Some((found, known, given)), head))
            })
        })?;
        // Before anything that depends on which admissions there are: whoever has proved nothing is told the same of all.
        self.settled(live, &head)?;
        let Some((admission, known, given)) = found else {
            return Err(Refusal::unproved("there is no admission that this could mean"));
        };
        let id = admission.device.id.clone();
        let unproved = |why: &dyn std::fmt::Display| Refusal::unproved(format!("{}: {why}", admission.name)).about(&id);
        let least = live.settings.kinds.get(&admission.device.kind).map_or(Admit::Certificate, |kind| kind.admit);
        let proof = admission.is_proved_by(&shown, least).map_err(|unfit| unproved(&unfit))?;
        if kind.is_some_and(|kind| *kind != admission.device.kind) {
            return Err(unproved(&"the path names another kind"));
        }
        if let Some(barred) = known.as_ref().and_then(|known| known.device.barred()) {
            return Err(unproved(&barred));
        }
        let key = match wanted {
            Wanted::Certificate => {
                let proven = possessed(request.clone()).map_err(|refusal| match proof {
                    // That a key is registered is not for whoever does not hold it.
                    Admit::Key => unproved(&refusal.because),
                    _ => refusal.about(&id),
                })?;
                KeySource::Proven(proven)
            }
            Wanted::KeyToo if !live.settings.kinds.get(&admission.device.kind).is_some_and(|kind| kind.server_keys) => {
                return Err(unproved(&"its kind makes its own keys"));
            }
            Wanted::KeyToo if proof == Admit::Key => return Err(unproved(&"it has a key, which is registered")),
            Wanted::KeyToo => KeySource::MakeHere,
        };
        let former = match (admission.state(now), wanted) {
            (AdmissionState::Open, _) => None,
            (AdmissionState::Used, Wanted::Certificate) => {
                return self.once_more(&admission, key_digest, given, caller);
            }
            // Whoever reads the sticker could take it from the device that was sent it.
            (AdmissionState::Used, Wanted::KeyToo) if proof == Admit::Facts => {
                return Err(unproved(&"it is used, and bare facts do not prove that this is who was sent the key"));
            }
            // Whoever does not have the key has nothing: what was sent and never used ends, and another is made.
            (AdmissionState::Used, Wanted::KeyToo) => match given {
                Some(given) => Some(given.credential.fingerprint),
                None => return Err(unproved(&"it is used, and what was given is not there")),
            },
            (over, _) => return Err(unproved(&format!("it is {}", over.as_str()))),
        };
        self.count(live, &id)?;
        let device = match &known {
            Some(known) => known.device.clone(),
            None => DeviceRecord { created: now, ..admission.device.clone() },
        };
        let minted = self.minted(live, &device, key, now)?;
        let signed = SignedCredential::from(&minted.credential(&id, former.is_some()));
        let cause = self.cause(format!("proved by {}", noun(proof)));
        let used = match former {
            None => self.acts.use_admission(admission.name, signed, cause)?,
            Some(former) => self.acts.use_admission_again(admission.name, former, signed, cause)?,
        };
        if let Err(refusal) = used {
            // Somebody else was quicker, or something changed in this very moment.
            return Err(unproved(&refusal));
        }
        self.emit(Event::Enrolled {
            device: id.to_string(),
            admission: admission.name.to_string(),
            proof: proof.as_str(),
            serial: minted.serial.to_string(),
            peer: caller.peer,
        });
        Ok(match &minted.key_pem {
            Some(key) => Said::of(est::KEY_AND_CERTIFICATE, est::key_and_certificate(key, &minted.fresh.der)),
            None => certificate(&minted.fresh.der),
        })
    }

    /// What was given for an admission, to who asks again with the same key and has not used it: its answer was lost.
    fn once_more(
        &self,
        admission: &AdmissionRecord,
        key_digest: [u8; 32],
        given: Option<Given>,
        caller: &Caller,
    ) -> Result<Said, Refusal> {
        let id = &admission.device.id;
        let unproved = |why: &str| Refusal::unproved(format!("{} is used: {why}", admission.name)).about(id);
        let given = given.ok_or_else(|| unproved("what was given is not there"))?;
        if given.key_digest != key_digest {
            return Err(unproved("this is another key"));
        }
        if given.credential.first_used.is_some() {
            return Err(unproved("its certificate is in use"));
        }
        if let Err(why) = given.credential.may_sign_in(self.now()) {
            return Err(unproved(&why.to_string()));
        }
        self.emit(Event::Repeated { device: id.to_string(), peer: caller.peer });
        Ok(certificate(&given.der))
    }
}

/// What a request states of its sender, as far as this ward knows such facts.
fn stated(live: &Live, request: &Request) -> BTreeMap<FactName, Fact> {
    let mut facts = request.facts();
    facts.retain(|_, fact| live.settings.takes(fact));
    facts
}

/// The kind that asks a person about a caller: the one that the path names, or the only one that asks.
fn asked_kind<'l>(live: &'l Live, kind: Option<&KindName>) -> Option<&'l KindName> {
    let mut asking = live.settings.kinds.iter().filter(|(_, settings)| settings.admit == Admit::Ask);
    match kind {
        Some(kind) => asking.find(|(name, _)| *name == kind).map(|(name, _)| name),
        None => asking.next().filter(|_| asking.next().is_none()).map(|(name, _)| name),
    }
}

fn noun(proof: Admit) -> &'static str {
    match proof {
        Admit::Certificate => "its manufacturer's certificate",
        Admit::Key => "its registered key",
        Admit::Secret => "a secret",
        Admit::Ask | Admit::Facts => "bare facts",
    }
}

/// The admission that a caller could mean: by the name that it gives, by what a manufacturer says of it, by its key, or by what it says of
/// itself.
fn find(
    view: &dyn View,
    live: &Live,
    user: Option<&str>,
    shown: &Shown<'_>,
) -> Result<Option<AdmissionRecord>, StoreError> {
    if let Some(user) = user {
        if let Ok(name) = user.parse::<AdmissionName>() {
            return view.admission(name);
        }
        let Ok(id) = user.parse::<DeviceId>() else { return Ok(None) };
        return of_device(view, live, &id, shown);
    }
    for facts in shown.vouched.iter().map(|vouched| vouched.facts).chain([shown.facts]) {
        if let Some(found) = with_facts(view, live, facts, shown)? {
            return Ok(Some(found));
        }
        if shown.vouched.is_some() {
            // What a caller says is not looked at where its manufacturer speaks for it.
            return Ok(None);
        }
    }
    view.admission_of_key(&shown.key_digest)
}

/// The newest of a device's admissions that the caller has proved, or else the newest.
fn of_device(
    view: &dyn View,
    live: &Live,
    id: &DeviceId,
    shown: &Shown<'_>,
) -> Result<Option<AdmissionRecord>, StoreError> {
    let all = view.admissions_of(id, LOOKED_THROUGH)?;
    let least = |each: &AdmissionRecord| {
        live.settings.kinds.get(&each.device.kind).map_or(Admit::Certificate, |kind| kind.admit)
    };
    let proved = all.iter().find(|each| each.is_proved_by(shown, least(each)).is_ok());
    Ok(proved.or(all.first()).cloned())
}

fn with_facts(
    view: &dyn View,
    live: &Live,
    facts: &BTreeMap<FactName, Fact>,
    shown: &Shown<'_>,
) -> Result<Option<AdmissionRecord>, StoreError> {
    let all: Vec<&Fact> = facts.values().collect();
    if let Some(pending) = view.pending_with(&all)?.into_iter().flatten().next() {
        return Ok(Some(pending));
    }
    // Who was enrolled and did not hear of it.
    match view.holders(&all)?.into_iter().flatten().next() {
        Some(id) => of_device(view, live, &id, shown),
        None => Ok(None),
    }
}
