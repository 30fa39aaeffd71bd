//! CRLs: what a new one is made from, and that it was signed.

use serde_json::json;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::revocation::{Reason, Revoked, still_listed};
use tidy_warden_core::time::UnixTime;

use super::{append, unknown};
use crate::{Cause, NewestCrl, PostRecord, StoreError, Tx, View};

/// What a new CRL is made from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CrlRecord {
    /// The number that it gets.
    pub number: u64,
    /// Its entries, by serial number.
    pub entries: Vec<Revoked>,
    /// Its nextUpdate, which whoever signs it says.
    pub until: Option<UnixTime>,
    /// The change number of the moment that it tells of: a revocation after it waits for the next CRL.
    pub change: i64,
}

/// What an authority's next CRL must list.
///
/// # Errors
/// There is no such authority.
pub fn next(view: &dyn View, name: &AuthorityName) -> Result<CrlRecord, StoreError> {
    let all = view.authorities()?;
    let authority = all.iter().find(|each| each.name == *name).ok_or_else(|| unknown("authority", name))?;
    let (change, _) = view.audit_end()?;
    let revoked = view.revoked_by(name)?.into_iter();
    let retired = retired_posts(view, &authority.certificate)?;
    let mut entries: Vec<Revoked> = revoked
        .chain(retired)
        .filter(|(_, end)| still_listed(*end, authority.crl_at))
        .map(|(entry, _)| entry)
        .collect();
    entries.sort_by(|one, other| one.serial.cmp(&other.serial));
    Ok(CrlRecord { number: authority.crl_number + 1, entries, until: None, change })
}

/// The certificates of retired posts that an authority signed, those that they had before among them: the key is the same.
fn retired_posts(view: &dyn View, authority: &Certificate) -> Result<Vec<(Revoked, UnixTime)>, StoreError> {
    let former = view.former_servers()?;
    let mut all = Vec::new();
    for PostRecord { name, certificate, retired, .. } in view.posts()? {
        let Some(at) = retired else { continue };
        let before = former.iter().filter(|(owner, _)| owner == name.as_str()).map(|(_, former)| former);
        let theirs = before.chain([&certificate]).filter(|each| each.issuer == authority.subject);
        let reason = Reason::CessationOfOperation;
        all.extend(theirs.map(|each| (Revoked { serial: each.serial.clone(), at, reason }, each.not_after)));
    }
    Ok(all)
}

/// Records that a CRL was signed, if no other took its number before. Says whether it was recorded. What was revoked since `crl`
/// was read keeps the authority's CRL marked as pending.
pub fn record(tx: &mut dyn Tx, name: &AuthorityName, crl: &CrlRecord, cause: &Cause) -> Result<bool, StoreError> {
    let all = tx.authorities()?;
    if !all.iter().any(|each| each.name == *name && each.crl_number + 1 == crl.number) {
        return Ok(false);
    }
    let lacks = Some(tx.crl_lacks(name)?).filter(|lacks| *lacks > crl.change).unwrap_or(0);
    tx.put_crl(name, &NewestCrl { number: crl.number, at: cause.at, until: crl.until, lacks })?;
    append(tx, cause, "crl.sign", name.as_str(), &json!({ "number": crl.number, "next_update": crl.until }))?;
    Ok(true)
}
