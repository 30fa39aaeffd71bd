//! Errands: sending them, and looking at what devices answered.
//!
//! Guards bring errands to devices and note what they answer, and decide nothing of it; whoever has the ward looks at the answers: a desk
//! in its folder, or the command that waits for one.

use std::sync::Arc;

use serde_json::json;
use tidy_warden_core::asn1;
use tidy_warden_core::certificate::{Certificate, Fingerprint, SerialNumber, Usage};
use tidy_warden_core::credential::{CredentialRecord, Origin};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::enrolment::{renewal_opens, renewal_window};
use tidy_warden_core::errand::{Answer, Errand, ErrandRecord, LONGEST, MOST_OPEN, Purpose, Renewal, State, sign};
use tidy_warden_core::id::{DeviceId, KindName};
use tidy_warden_core::key::{PublicKey, SignError, Signer};
use tidy_warden_core::random::bytes;
use tidy_warden_core::request::Request;
use tidy_warden_core::rotation::Replaces;
use tidy_warden_core::settings::{Kind, Renews, Settings};
use tidy_warden_core::shared::DataKey;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::enrol;
use tidy_warden_store::acts::errand::{self, Ended};
use tidy_warden_store::{Cause, ERRANDS, NewCredential, NewErrand, OperatorStore, SendRefusal, StoreError, Tx, View};

use crate::clock::SystemRandom;
use crate::issue::press::{KeySource, Mint, Press, Unmade};
use crate::keys::Openers;
use crate::open::Ward;
use crate::own_key::OwnKey;
use crate::problem::Problem;
use crate::rekey::{KeySender, UNTIL_USED};

/// How many answers are looked at in one go.
const AT_ONCE: usize = 200;

/// How long errands are kept after their ends, and how many are forgotten in one go.
const KEPT: Span = Span::from_days(90);
const FORGOTTEN: usize = 5_000;

/// What signs errands, opened.
pub struct ErrandSigner {
    key: Arc<dyn Signer>,
    /// Its certificate and those above it, without the root.
    chain: Vec<Certificate>,
    urn: String,
}

/// How it is kept.
const KEPT_AS: OwnKey = OwnKey {
    name: ERRANDS,
    what: "the key that signs errands",
    usage: Usage::Errands,
    because: "errands are signed with a key of their own",
};

impl ErrandSigner {
    /// Opens the key, if the ward has one whose certificate is good now.
    pub fn existing(ward: &Ward, openers: &dyn Openers) -> Result<Option<Self>, Problem> {
        let found = KEPT_AS.existing(ward, openers)?;
        Ok(found.map(|(key, chain)| Self { key, chain, urn: ward.record.urn.clone() }))
    }

    /// Opens the key; where there is none yet, or its certificate is of no use any more, makes one, which the authority for services signs.
    pub fn open(ward: &mut Ward, openers: &dyn Openers) -> Result<Self, Problem> {
        let (key, chain) = KEPT_AS.open(ward, openers)?;
        Ok(Self { key, chain, urn: ward.record.urn.clone() })
    }

    /// The key, for whoever opens this again.
    #[must_use]
    pub fn key(&self) -> Arc<dyn Signer> {
        self.key.clone()
    }

    fn fingerprint(&self) -> Fingerprint {
        self.chain[0].fingerprint
    }

    /// The last second in which what it signs is believed.
    fn ends(&self) -> UnixTime {
        self.chain.iter().map(|each| each.not_after).min().unwrap_or(UnixTime(0))
    }

    fn sign(&self, errand: &Errand) -> Result<Vec<u8>, SignError> {
        let chain: Vec<&Certificate> = self.chain.iter().collect();
        sign(errand, &self.urn, &chain, &*self.key)
    }

    /// Sends an errand in a change that is being made.
    pub fn send_in(
        &self,
        tx: &mut dyn Tx,
        device: &DeviceId,
        purpose: Purpose,
        life: Span,
        cause: &Cause,
    ) -> Result<Result<i64, SendRefusal>, StoreError> {
        let new = self.new_errand(device, purpose, "{}".to_owned(), (cause.at, life));
        self.put(tx, &new, cause)
    }

    /// Sends one that is as it is to be signed, in a change that is being made.
    pub(crate) fn put(
        &self,
        tx: &mut dyn Tx,
        new: &NewErrand,
        cause: &Cause,
    ) -> Result<Result<i64, SendRefusal>, StoreError> {
        errand::send(tx, new, &self.fingerprint(), &|errand| self.sign(errand), cause)
    }

    /// The same with those of a batch, whose entry is the caller's; gives how many were sent.
    pub(crate) fn put_all(&self, tx: &mut dyn Tx, all: &[NewErrand], cause: &Cause) -> Result<u64, StoreError> {
        let sent = errand::send_batch(tx, all, &self.fingerprint(), &|errand| self.sign(errand), cause)?;
        sent.map_err(|refusal| StoreError::Damaged { detail: refusal.to_string() })
    }

    /// An errand, as it is to be signed with this key: it is open for `life`, or as long as the key is believed.
    pub fn new_errand(
        &self,
        device: &DeviceId,
        purpose: Purpose,
        detail: String,
        (now, life): (UnixTime, Span),
    ) -> NewErrand {
        NewErrand {
            device: device.clone(),
            purpose,
            detail,
            nonce: bytes(&mut SystemRandom),
            ends: now.plus(life).min(self.ends()),
            follows: None,
        }
    }
}

/// Why an errand was not sent, with what to do about it.
fn unsent(refusal: &SendRefusal, device: &DeviceId) -> Problem {
    let problem = Problem::refused(format!("no errand was sent to `{device}`")).because(refusal);
    match refusal {
        SendRefusal::Asked { number, .. } => problem.next(format!("errand show {number}")),
        SendRefusal::Full(_) => problem.next(format!("errand list --device {device}; those that are over make room")),
        SendRefusal::Barred { .. } => problem.next(format!("device show {device}")),
        _ => problem,
    }
}

/// Whether devices of a kind can be asked this by a person.
pub fn may_ask(kind: &Kind, device: &DeviceRecord, purpose: &Purpose) -> Result<(), Problem> {
    if Purpose::COMMON.contains(purpose) || kind.errands.contains(purpose) {
        return Ok(());
    }
    let refused = Problem::refused(format!("no errand was sent to `{}`", device.id));
    Err(match purpose {
        Purpose::Install => refused
            .because("only the ward itself sends certificates, when a device asked for one")
            .next("errand send DEVICE renew"),
        Purpose::InstallKey => {
            refused.because("only the ward itself sends keys").next(format!("key rotate {} --send", device.id))
        }
        _ => refused
            .because(format!("devices of the kind `{}` are not said to know `{purpose}`", device.kind))
            .next(format!("if they do: errands = [\"{purpose}\"] under [kinds.{}] in ward.toml", device.kind)),
    })
}

/// Sends one errand. Gives its number.
pub fn send(store: &mut OperatorStore, signer: &ErrandSigner, new: &NewErrand, cause: &Cause) -> Result<i64, Problem> {
    let sent = store.decide(|tx| signer.put(tx, new, cause))?;
    sent.map_err(|refusal| unsent(&refusal, &new.device))
}

/// What came of an answer that was looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settled {
    /// The errand's number.
    pub number: i64,
    /// Whose it was.
    pub device: DeviceId,
    /// What it was for.
    pub purpose: Purpose,
    /// How it ended.
    pub ended: Ended,
    /// The certificate that was made for it.
    pub serial: Option<SerialNumber>,
}

/// What looking at answers takes.
pub struct Settling<'a> {
    /// Signs certificates.
    pub mint: &'a Mint,
    /// Signs errands.
    pub signer: &'a ErrandSigner,
}

/// Looks at what devices answered, and ends those errands. Answers that ask for a certificate wait where nobody is there who signs one.
pub fn settle(store: &mut OperatorStore, signs: Option<&Settling<'_>>, cause: &Cause) -> Result<Vec<Settled>, Problem> {
    let mut all = Vec::new();
    // Who signs nothing looks past those that wait for somebody who does.
    let most = if signs.is_some() { AT_ONCE } else { AT_ONCE * 50 };
    for number in store.answered_errands(most)? {
        all.extend(settle_one(store, number, signs, cause)?);
    }
    Ok(all)
}

/// What is known of an answer and of who gave it.
struct Given {
    record: ErrandRecord,
    device: DeviceRecord,
    credentials: Vec<CredentialRecord>,
    answer: Option<String>,
    by: Option<DeviceId>,
    urn: String,
}

fn given(view: &dyn View, number: i64) -> Result<Option<Given>, StoreError> {
    let Some(record) = view.errand(number)?.filter(|record| record.state == State::Open) else { return Ok(None) };
    let Some(of) = view.devices(std::slice::from_ref(&record.errand.device))?.pop().flatten() else { return Ok(None) };
    let brought = view.carried(&[number])?.pop().unwrap_or_default().answer;
    let (answer, by) = brought.map(|brought| (brought.text, brought.by)).unzip();
    let urn = view.ward()?.urn;
    Ok(Some(Given { record, device: of.device, credentials: of.credentials, answer, by, urn }))
}

fn settle_one(
    store: &mut OperatorStore,
    number: i64,
    signs: Option<&Settling<'_>>,
    cause: &Cause,
) -> Result<Option<Settled>, Problem> {
    let Some(given) = store.view(|view| given(view, number))? else {
        store.decide(|tx| Ok(Ok::<_, ()>(tx.drop_answer(number)?)))?.ok();
        return Ok(None);
    };
    let Some(text) = &given.answer else { return Ok(None) };
    let errand = &given.record.errand;
    let ended = |state, outcome| Ended { state, outcome };
    let failed = |why: &dyn std::fmt::Display| ended(State::Failed, Some(why.to_string()));
    // A gateway that lost its child since says nothing for it any more, and who answers twice is heard once.
    if given.by.as_ref().is_some_and(|by| *by != given.device.id && given.device.gateway.as_ref() != Some(by)) {
        store.decide(|tx| Ok(Ok::<_, ()>(tx.drop_answer(number)?)))?.ok();
        return Ok(None);
    }
    let mut serial = None;
    // Whoever refuses what it asked for cannot use it, and is asked anew by who signs errands.
    let is_refused = |text: &str| matches!(Answer::read(text, errand, &given.urn, &[]), Ok(Answer::Refused(_)));
    let is_lost = errand.purpose == Purpose::Install && is_refused(text);
    let how = match given.device.barred() {
        Some(barred) => failed(&barred),
        None => {
            let certificates = certificates(&**store, &given.credentials, cause.at)?;
            let keys: Vec<PublicKey> = certificates.iter().map(|each| each.public_key.clone()).collect();
            match Answer::read(text, errand, &given.urn, &keys) {
                Err(bad) => failed(&bad),
                Ok(Answer::Refused(_)) if is_lost && signs.is_none() => return Ok(None),
                Ok(Answer::Refused(why)) => ended(State::Refused, Some(why)),
                Ok(Answer::Done(result)) => ended(State::Done, result),
                Ok(Answer::Renewal(renewal)) => {
                    let Some(signs) = signs else { return Ok(None) };
                    match renew(store, signs, (&given, text, &certificates), &renewal, cause)? {
                        Ok(made) => {
                            serial = Some(made.clone());
                            ended(State::Done, Some(json!({ "serial": made.to_string() }).to_string()))
                        }
                        Err(why) => failed(&why),
                    }
                }
            }
        }
    };
    // What a renewal made was recorded together with the end of its errand.
    if serial.is_none() {
        let because = format!("what `{}` answered", errand.device);
        let cause = Cause { because, ..cause.clone() };
        let is_ended = store.make(|tx| {
            let is_ended = errand::end(tx, number, &how, &cause)?;
            if let Some(signs) = signs
                && is_ended
                && is_lost
                && may_ask_anew(&*tx, &errand.device, cause.at)?
            {
                let again =
                    signs.signer.new_errand(&errand.device, Purpose::Renew, "{}".to_owned(), (cause.at, ASKED_FOR));
                // Whoever is asked already, or may not be here any more, is not asked.
                let again = NewErrand { follows: Some(number), ..again };
                signs.signer.put(tx, &again, &cause)?.ok();
            }
            Ok(is_ended)
        })?;
        if !is_ended {
            return Ok(None);
        }
    }
    let (device, purpose) = (errand.device.clone(), errand.purpose.clone());
    Ok(Some(Settled { number, device, purpose, ended: how, serial }))
}

/// Whether a device that will not take what it was sent is to be asked anew: it lost the key that it had made for it, say, as it was started
/// anew in between. Not for ever.
fn may_ask_anew(view: &dyn View, device: &DeviceId, now: UnixTime) -> Result<bool, StoreError> {
    let newest = view.errands(Some(device), i64::MAX, MOST_OPEN)?;
    let is_one =
        |each: &&ErrandRecord| each.errand.purpose == Purpose::Renew && each.errand.sent.plus(Span::from_days(1)) > now;
    Ok(newest.iter().filter(is_one).count() < ASKED_IN_A_DAY)
}

/// The certificates with which a device may sign in now, the newest first.
fn certificates(view: &dyn View, credentials: &[CredentialRecord], now: UnixTime) -> Result<Vec<Certificate>, Problem> {
    let mut all = Vec::new();
    for each in credentials.iter().filter(|each| each.origin == Origin::Issued && each.may_sign_in(now).is_ok()) {
        let der = view.credential_der(&each.fingerprint)?.unwrap_or_default();
        all.extend(Certificate::from_der(&der).ok());
    }
    Ok(all)
}

/// Makes the next certificate of a device that asked for it in its answer, and sends it; records both together. Gives its serial number, or
/// why there is none.
fn renew(
    store: &mut OperatorStore,
    signs: &Settling<'_>,
    (given, text, certificates): (&Given, &str, &[Certificate]),
    renewal: &Renewal,
    cause: &Cause,
) -> Result<Result<SerialNumber, String>, Problem> {
    let (errand, device) = (&given.record.errand, &given.device);
    let signed_with =
        |each: &&Certificate| Answer::read(text, errand, &given.urn, std::slice::from_ref(&each.public_key)).is_ok();
    let Some(shown) = certificates.iter().find(signed_with) else { return Ok(Err("it is not signed".to_owned())) };
    let request = match Request::parse(&renewal.csr) {
        Ok(request) => request,
        Err(error) => return Ok(Err(error.to_string())),
    };
    if request.wants_other_names(shown) {
        return Ok(Err("the request asks for another subject or other names than the certificate has".to_owned()));
    }
    let key_digest = request.key_digest();
    let proven = match request.verify_possession() {
        Ok(proven) => proven,
        Err(error) => return Ok(Err(error.to_string())),
    };
    // Who asks again for the same key, because what it was sent was lost, is sent the same again.
    let known = given_before(&**store, given, shown, &key_digest, cause.at)?;
    let minted = match &known {
        Some(_) => None,
        None => match Press::new(signs.mint, cause.at).mint(device, KeySource::Proven(proven)) {
            Ok(minted) => Some(minted),
            Err(Unmade::Device(why)) => return Ok(Err(why)),
            Err(Unmade::All(problem)) => return Err(problem),
        },
    };
    let (der, authority, serial) = match (&known, &minted) {
        (Some((der, record)), _) => (der, record.authority.clone(), record.serial.clone()),
        (None, Some(minted)) => (&minted.fresh.der, Some(minted.authority.clone()), Some(minted.serial.clone())),
        (None, None) => return Ok(Err("nothing was made".to_owned())),
    };
    let (Some(authority), Some(serial)) = (authority, serial) else { return Ok(Err("nobody signed it".to_owned())) };
    let authorities = store.authorities()?;
    let Some(authority) = authorities.iter().find(|each| each.name == authority) else {
        return Ok(Err(format!("`{authority}` is gone")));
    };
    // Whoever speaks nothing but MQTT hears of another root in no other way.
    let (chain, roots) = signs.mint.chains(authority);
    let detail = json!({ "certificate": asn1::pem("CERTIFICATE", der), "chain": chain, "roots": roots }).to_string();
    let install = NewErrand {
        follows: Some(errand.number),
        ..signs.signer.new_errand(&device.id, Purpose::Install, detail, (cause.at, INSTALLED_WITHIN))
    };
    let cause = Cause {
        because: format!("`{}` asked for it in its answer to errand {}", device.id, errand.number),
        ..cause.clone()
    };
    let outcome = json!({ "serial": serial.to_string() }).to_string();
    let done = Ended { state: State::Done, outcome: Some(outcome) };
    let recorded = store.decide(|tx| {
        if !errand::end(tx, errand.number, &done, &cause)? {
            return Ok(Err("somebody else looked at the answer first".to_owned()));
        }
        if let Some(minted) = &minted {
            // Nobody knows when it arrives: the one before goes on until this one is used.
            let new = NewCredential { overlap: UNTIL_USED, ..minted.credential(&device.id, true) };
            if let Err(refusal) = enrol::renew(tx, &shown.fingerprint, &new, &cause)? {
                return Ok(Err(refusal.to_string()));
            }
        }
        let sent = signs.signer.put(tx, &install, &cause)?;
        Ok(sent.map(|_| ()).map_err(|refusal| refusal.to_string()))
    })?;
    Ok(recorded.map(|()| serial))
}

/// How long a device has to take a certificate that it asked for.
const INSTALLED_WITHIN: Span = Span::from_days(30);

/// What a device was given for this key after the certificate that it shows, if it was and has not used it.
fn given_before(
    view: &dyn View,
    given: &Given,
    shown: &Certificate,
    key_digest: &[u8; 32],
    now: UnixTime,
) -> Result<Option<(Vec<u8>, CredentialRecord)>, StoreError> {
    let Some(current) = given.credentials.iter().find(|each| each.fingerprint == shown.fingerprint) else {
        return Ok(None);
    };
    for (holder, fingerprint) in view.holders_of_key(key_digest)? {
        if holder != given.device.id || fingerprint == shown.fingerprint {
            continue;
        }
        let other = given.credentials.iter().find(|each| each.fingerprint == fingerprint);
        let is_next = |other: &&CredentialRecord| {
            other.issued >= current.issued && other.first_used.is_none() && other.may_sign_in(now).is_ok()
        };
        if let Some(other) = other.filter(is_next)
            && let Some(der) = view.credential_der(&fingerprint)?
        {
            return Ok(Some((der, other.clone())));
        }
    }
    Ok(None)
}

/// How long a device has to answer that it is time to renew, and after how long it is asked again.
const ASKED_FOR: Span = Span::from_days(7);
const ASKED_AGAIN: Span = Span::from_seconds(6 * 3600);

/// How often a device is asked to renew in a day, if it does not take what it is sent.
const ASKED_IN_A_DAY: usize = 3;

/// How many devices are looked at in one go.
const LOOKED: usize = 1_000;

/// Where a walk over those whose time to renew comes is: behind which device it goes on.
#[derive(Debug, Clone, Copy, Default)]
pub struct Walk {
    pub(crate) after: i64,
}

/// Asks the devices whose time to renew has come, of kinds that renew when they are asked over MQTT; a thousand are looked at in one go.
/// Gives how many were asked. When the last was looked at, the walk begins anew.
pub fn ask_due(
    store: &mut OperatorStore,
    kinds: &[(&KindName, &Kind)],
    signer: &ErrandSigner,
    walk: &mut Walk,
    cause: &Cause,
) -> Result<u64, Problem> {
    let kinds: Vec<_> = kinds.iter().filter(|(_, kind)| kind.renews == Some(Renews::Errand)).collect();
    if kinds.is_empty() {
        return Ok(0);
    }
    // Nothing is renewed earlier than the widest window allows.
    let window = kinds.iter().map(|(_, kind)| renewal_window(kind.life.seconds(), kind.renew)).max().unwrap_or(0);
    let names: Vec<String> = kinds.iter().map(|(name, _)| name.to_string()).collect();
    let text = format!("kind in ({}) and cert.ends within {}h", names.join(", "), window / 3600 + 1);
    let condition = crate::edge::condition(&text)?;
    let page = store.page(Some(&condition), cause.at, walk.after, LOOKED)?;
    walk.after = page.next.unwrap_or(0);
    let mut due = Vec::new();
    for view in page.devices {
        let Some((_, kind)) = kinds.iter().find(|(name, _)| **name == view.device.kind) else { continue };
        let newest = view.credentials.iter().find(|each| each.origin == Origin::Issued && each.is_good(cause.at));
        let Some(newest) = newest.filter(|_| view.device.barred().is_none()) else { continue };
        // The newest one is replaced by nothing: its device has another owner, and must have another.
        let is_former = newest.superseded_until.is_some();
        let opens = renewal_opens(newest.not_before, newest.not_after, kind.renew, &view.device.id);
        if (opens <= cause.at || is_former) && !was_asked(&**store, &view.device.id, cause.at)? {
            let ends = newest.usable_until().unwrap_or(newest.not_after);
            let life = ASKED_FOR.min(Span::from_seconds(u32::try_from(ends.since(cause.at)).unwrap_or(u32::MAX)));
            due.push(signer.new_errand(&view.device.id, Purpose::Renew, "{}".to_owned(), (cause.at, life)));
        }
    }
    let because = "its time to renew has come".to_owned();
    let cause = Cause { because, ..cause.clone() };
    let mut asked = 0;
    for new in due {
        // One that somebody else asked meanwhile is asked.
        let sent = store.decide(|tx| signer.put(tx, &new, &cause))?;
        asked += u64::from(sent.is_ok());
    }
    Ok(asked)
}

/// Whether a device was asked to renew, or sent what it asked for, a short while ago.
fn was_asked(view: &dyn View, device: &DeviceId, now: UnixTime) -> Result<bool, StoreError> {
    has_errand(view, device, Purpose::is_about_credentials, (now, ASKED_AGAIN))
}

/// Whether a device has an errand for such a purpose that is open, or was sent one less than `within` ago.
pub(crate) fn has_errand(
    view: &dyn View,
    device: &DeviceId,
    is_meant: impl Fn(&Purpose) -> bool,
    (now, within): (UnixTime, Span),
) -> Result<bool, StoreError> {
    let newest = view.errands(Some(device), i64::MAX, MOST_OPEN)?;
    let is_one = |each: &ErrandRecord| {
        let (errand, is_open) = (&each.errand, each.state == State::Open && each.errand.ends >= now);
        is_meant(&errand.purpose) && (is_open || errand.sent.plus(within) > now)
    };
    Ok(newest.iter().any(is_one))
}

/// Who is asked over MQTT to renew a certificate, or sent the next key over MQTT: devices of kinds that say so, if there is something to
/// sign and to seal with.
pub struct Asks<'a> {
    settings: &'a Settings,
    signer: Option<&'a ErrandSigner>,
    data: Option<&'a DataKey>,
}

impl<'a> Asks<'a> {
    /// By these settings, signed with this; `data` opens shared keys.
    #[must_use]
    pub fn new(settings: &'a Settings, signer: Option<&'a ErrandSigner>, data: Option<&'a DataKey>) -> Self {
        Self { settings, signer, data }
    }

    /// Whether devices of a kind get theirs over MQTT.
    #[must_use]
    pub fn is_by_errand(kind: &Kind, replaces: Replaces) -> bool {
        match replaces {
            Replaces::Certificates => kind.renews == Some(Renews::Errand),
            Replaces::SharedKeys => kind.shared_keys && kind.renews_keys == Renews::Errand,
        }
    }

    /// Those of some devices that get theirs so.
    ///
    /// # Errors
    /// Some do, and there is nothing to sign or to seal with.
    pub fn of(&self, view: &dyn View, ids: &[DeviceId], replaces: Replaces) -> Result<Vec<DeviceId>, Problem> {
        let is_meant =
            |kind: &KindName| self.settings.kinds.get(kind).is_some_and(|kind| Self::is_by_errand(kind, replaces));
        if !self.settings.kinds.keys().any(is_meant) {
            return Ok(Vec::new());
        }
        let views = view.devices(ids)?.into_iter().flatten();
        let asked: Vec<DeviceId> =
            views.filter(|view| is_meant(&view.device.kind)).map(|view| view.device.id).collect();
        if asked.is_empty() {
            return Ok(asked);
        }
        if self.signer.is_none() {
            return Err(Problem::refused("errands to renew cannot be sent")
                .because("there is nothing to sign them with")
                .next("errand send DEVICE identify makes the key; then start what drives the rotation anew"));
        }
        if replaces == Replaces::SharedKeys && self.data.is_none() {
            return Err(Problem::refused("the next keys cannot be sent")
                .because("what opens the keys that devices share with the ward is not open")
                .next("start what drives the rotation anew, with the ward's passphrase"));
        }
        Ok(asked)
    }

    /// Asks them, or sends them theirs, in a change that is being made.
    pub fn ask(
        &self,
        tx: &mut dyn Tx,
        ids: &[DeviceId],
        replaces: Replaces,
        (life, cause): (Span, &Cause),
    ) -> Result<u64, StoreError> {
        match (replaces, self.signer, self.data) {
            (Replaces::Certificates, Some(signer), _) => ask_batch(tx, ids, signer, life, cause),
            (Replaces::SharedKeys, Some(signer), Some(data)) => {
                KeySender { data, signer, settings: self.settings }.send_batch(tx, ids, life, cause)
            }
            _ => Ok(0),
        }
    }
}

/// Sends errands to renew to those of a batch that renew when they are asked over MQTT; the entry is the caller's.
fn ask_batch(
    tx: &mut dyn Tx,
    ids: &[DeviceId],
    signer: &ErrandSigner,
    life: Span,
    cause: &Cause,
) -> Result<u64, StoreError> {
    let new: Vec<NewErrand> = ids
        .iter()
        .map(|id| signer.new_errand(id, Purpose::Renew, "{}".to_owned(), (cause.at, life.min(LONGEST))))
        .collect();
    signer.put_all(tx, &new, cause)
}

/// Forgets errands that ended long ago.
pub fn forget(store: &mut OperatorStore, now: UnixTime) -> Result<usize, StoreError> {
    store.make(|tx| tx.drop_errands(now.minus(KEPT), FORGOTTEN))
}
