//! Errands: they are sent, and end with what their devices answer.

use serde_json::json;
use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::errand::{Errand, ErrandRecord, LONGEST, MAX_DETAIL, MAX_INSTALL, MOST_OPEN, Purpose, State};
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::SignError;
use tidy_warden_core::time::UnixTime;

use super::{append, listed};
use crate::{Answer, Cause, ERRANDS, StoreError, Tx, View};

/// The chain of a certificate that signs errands: itself, and the authority that signed it with those above.
fn chain(view: &dyn View, own: Certificate) -> Result<Vec<Certificate>, StoreError> {
    let services = view.authorities()?;
    let mut above = services.iter().filter(|each| each.role == AuthorityRole::Service);
    let signed =
        above.find(|each| each.certificate.subject == own.issuer && own.is_signed_by(&each.certificate.public_key));
    Ok([own].into_iter().chain(signed.map(|each| each.certificate.clone())).collect())
}

/// The certificate of the key that signs errands now, with those above it; `None` if none was sent yet.
pub fn signer_chain(view: &dyn View) -> Result<Option<Vec<Certificate>>, StoreError> {
    chain_of(view, ERRANDS)
}

/// The certificate of a key of the ward's that signs something, with those above it; `None` if there is none yet.
pub fn chain_of(view: &dyn View, name: &str) -> Result<Option<Vec<Certificate>>, StoreError> {
    match view.server_certificate(name) {
        Ok(own) => Ok(Some(chain(view, own)?)),
        Err(StoreError::Unknown { .. }) => Ok(None),
        Err(error) => Err(error),
    }
}

/// All certificates of keys that sign errands or did, each with those above it.
pub fn signer_chains(view: &dyn View) -> Result<Vec<Vec<Certificate>>, StoreError> {
    let mut all: Vec<_> = signer_chain(view)?.into_iter().collect();
    for (owner, former) in view.former_servers()? {
        if owner == ERRANDS {
            all.push(chain(view, former)?);
        }
    }
    Ok(all)
}

/// An errand that is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewErrand {
    /// Who is to do it.
    pub device: DeviceId,
    /// What.
    pub purpose: Purpose,
    /// More about it: the text of a JSON object.
    pub detail: String,
    /// 16 random octets.
    pub nonce: [u8; 16],
    /// The last second in which it may be done.
    pub ends: UnixTime,
    /// The errand that it follows.
    pub follows: Option<i64>,
}

/// Signs an errand, as soon as its number is known.
pub type Sign<'s> = dyn Fn(&Errand) -> Result<Vec<u8>, SignError> + 's;

/// Why an errand was not sent.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SendRefusal {
    /// The device may not be here.
    #[error("`{device}`: {why}")]
    Barred {
        /// The device.
        device: DeviceId,
        /// Why.
        why: String,
    },
    /// It is asked for something already.
    #[error("`{device}` is asked to {purpose} already, by errand {number}")]
    Asked {
        /// The device.
        device: DeviceId,
        /// What for.
        purpose: Purpose,
        /// By which errand.
        number: i64,
    },
    /// Too many wait.
    #[error("{MOST_OPEN} errands wait for `{0}` already")]
    Full(DeviceId),
    /// What is wanted is too long, or it would be open for too long.
    #[error("an errand has at most {MAX_DETAIL} bytes of detail, and is open for at most {LONGEST}")]
    TooMuch,
    /// It cannot be signed.
    #[error("it was not signed: {0}")]
    Unsigned(String),
}

/// Sends an errand that a person, or a rule of the ward, wants. Gives its number.
///
/// # Errors
/// There is no such device.
pub fn send(
    tx: &mut dyn Tx,
    new: &NewErrand,
    signer: &Fingerprint,
    sign: &Sign<'_>,
    cause: &Cause,
) -> Answer<i64, SendRefusal> {
    let largest = if new.purpose == Purpose::Install { MAX_INSTALL } else { MAX_DETAIL };
    if new.detail.len() > largest || new.ends > cause.at.plus(LONGEST) {
        return Ok(Err(SendRefusal::TooMuch));
    }
    let device = listed(tx, &new.device)?.device;
    if let Some(barred) = device.barred() {
        return Ok(Err(SendRefusal::Barred { device: new.device.clone(), why: barred.to_string() }));
    }
    // A gateway's list has its children's too; nobody has more children with open errands than this looks at.
    let open: Vec<ErrandRecord> = open_of(tx, &new.device, cause.at)?;
    let is_same = |each: &&ErrandRecord| {
        each.errand.purpose == new.purpose && matches!(new.purpose, Purpose::Renew | Purpose::InstallKey)
    };
    if let Some(same) = open.iter().find(is_same) {
        let (device, purpose, number) = (new.device.clone(), new.purpose.clone(), same.errand.number);
        return Ok(Err(SendRefusal::Asked { device, purpose, number }));
    }
    if open.len() >= MOST_OPEN {
        return Ok(Err(SendRefusal::Full(new.device.clone())));
    }
    let number = tx.last_errand()? + 1;
    let number = match put(tx, number, new, (signer, sign), cause)? {
        Ok(number) => number,
        Err(error) => return Ok(Err(SendRefusal::Unsigned(error.to_string()))),
    };
    let mut detail = json!({ "errand": number, "purpose": new.purpose.as_str(), "ends": new.ends });
    if let Some(follows) = new.follows {
        detail["follows"] = json!(follows);
    }
    append(tx, cause, "errand.send", new.device.as_str(), &detail)?;
    if new.purpose == Purpose::Renew {
        tx.put_renew_asked(std::slice::from_ref(&new.device), cause.at)?;
    }
    Ok(Ok(number))
}

/// The open errands of one device.
fn open_of(tx: &dyn Tx, device: &DeviceId, now: UnixTime) -> Result<Vec<ErrandRecord>, StoreError> {
    let (mut all, mut before) = (Vec::new(), i64::MAX);
    // Those that are over stand among the others: a device that never answers is not asked without end.
    for _ in 0..MOST_PAGES {
        let page = tx.errands(Some(device), before, MOST_OPEN)?;
        let Some(last) = page.last() else { break };
        before = last.errand.number;
        all.extend(page.into_iter().filter(|each| each.state == State::Open && each.errand.ends >= now));
        if all.len() >= MOST_OPEN {
            break;
        }
    }
    Ok(all)
}

/// How many pages of a device's errands are looked through for those that are open.
const MOST_PAGES: usize = 10;

/// Writes an errand down.
fn put(
    tx: &mut dyn Tx,
    number: i64,
    new: &NewErrand,
    (signer, sign): (&Fingerprint, &Sign<'_>),
    cause: &Cause,
) -> Result<Result<i64, SignError>, StoreError> {
    let errand = Errand {
        number,
        device: new.device.clone(),
        purpose: new.purpose.clone(),
        detail: new.detail.clone(),
        nonce: new.nonce,
        sent: cause.at,
        ends: new.ends,
    };
    let signature = match sign(&errand) {
        Ok(signature) => signature,
        Err(error) => return Ok(Err(error)),
    };
    tx.put_errand(&ErrandRecord {
        errand,
        signer: *signer,
        signature,
        state: State::Open,
        ended: None,
        outcome: None,
        follows: new.follows,
    })?;
    Ok(Ok(number))
}

/// Sends errands of a batch whose entry the caller writes: whoever may not be here is left out, and nobody is asked twice for one thing.
pub fn send_batch(
    tx: &mut dyn Tx,
    all: &[NewErrand],
    signer: &Fingerprint,
    sign: &Sign<'_>,
    cause: &Cause,
) -> Answer<u64, SendRefusal> {
    let (mut sent, mut number) = (0, tx.last_errand()?);
    let ids: Vec<DeviceId> = all.iter().map(|new| new.device.clone()).collect();
    for (new, view) in all.iter().zip(tx.devices(&ids)?) {
        if view.is_none_or(|view| view.device.barred().is_some()) {
            continue;
        }
        let open = open_of(tx, &new.device, cause.at)?;
        if open.len() >= MOST_OPEN || open.iter().any(|each| each.errand.purpose == new.purpose) {
            continue;
        }
        number += 1;
        match put(tx, number, new, (signer, sign), cause)? {
            Ok(_) => sent += 1,
            Err(error) => return Ok(Err(SendRefusal::Unsigned(error.to_string()))),
        }
    }
    Ok(Ok(sent))
}

/// How an errand ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ended {
    /// How.
    pub state: State,
    /// What came of it, or why nothing did.
    pub outcome: Option<String>,
}

/// Ends an errand that is open; says whether it was.
pub fn end(tx: &mut dyn Tx, number: i64, ended: &Ended, cause: &Cause) -> Result<bool, StoreError> {
    tx.drop_answer(number)?;
    let Some(record) = tx.errand(number)?.filter(|record| record.state == State::Open) else { return Ok(false) };
    let mut detail = json!({ "errand": number, "state": ended.state.as_str() });
    if let Some(outcome) = &ended.outcome {
        detail["outcome"] = json!(outcome);
    }
    append(tx, cause, "errand.end", record.errand.device.as_str(), &detail)?;
    let (state, outcome) = (ended.state, ended.outcome.clone());
    tx.put_errand(&ErrandRecord { state, outcome, ended: Some(cause.at), ..record })?;
    Ok(true)
}
