//! The founding of a ward, and acts that change nothing but the record.

use serde_json::json;
use tidy_warden_core::audit::Hash;
use tidy_warden_core::authority::AuthorityRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::Span;

use super::own::{self, Declared, FactClash};
use super::{append, append_text, hex, job};
use crate::walk::changed_devices;
use crate::{Answer, Cause, Founding, Head, JobKind, NewestCrl, StoreError, Tx, View};

/// What is new since a change number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Changes {
    /// Up to which change number this tells.
    pub to: i64,
    /// The number of the current edition, 0 if there is none.
    pub edition: u32,
    /// The change number at which the groups changed last that conditions of policies could name.
    pub group_rules: i64,
    /// The number of the trial that is running, 0 if there is none.
    pub trial: u32,
    /// The change number at which authorities were added or retired last.
    pub authorities: i64,
    /// The change number at which a guard or desk was given another certificate last.
    pub servers: i64,
    /// See [`crate::Head::tokens`].
    pub tokens: i64,
    /// The number of the settings that were adopted last, 0 if none were.
    pub settings: u32,
    /// Devices that changed; `None` if they are too many to name.
    pub devices: Option<Vec<DeviceId>>,
    /// The hash of the audit entry with the number `to`.
    pub head: Hash,
    /// The hash of the audit entry with the number that was asked for; `None` if the record has no such entry.
    pub since: Option<Hash>,
    /// Where the record ended before a person accepted a store that lacks that end.
    pub given_up: Option<(i64, Hash)>,
    /// See [`crate::Head::doubt`].
    pub doubt: Option<String>,
}

impl From<Head> for Changes {
    /// Of a moment after which nothing is new.
    fn from(head: Head) -> Self {
        Self {
            to: head.number,
            edition: head.edition,
            group_rules: head.group_rules,
            trial: head.trial,
            authorities: head.authorities,
            servers: head.servers,
            tokens: head.tokens,
            settings: head.settings,
            devices: Some(Vec::new()),
            head: head.hash,
            since: None,
            given_up: head.given_up,
            doubt: head.doubt,
        }
    }
}

impl Changes {
    /// The change number at which what guards and desks show of themselves may have changed last: their certificates, or those above them.
    #[must_use]
    pub fn shown(&self) -> i64 {
        self.servers.max(self.authorities)
    }
}

/// What is new since change number `since`, in one snapshot.
pub fn changes(view: &dyn View, since: i64) -> Result<Changes, StoreError> {
    let head = view.head()?;
    let devices = if head.number <= since { Some(Vec::new()) } else { changed_devices(view, since)? };
    Ok(Changes { devices, since: view.entry_hash(since)?, ..Changes::from(head) })
}

/// Writes everything that a new ward begins with.
pub fn found(tx: &mut dyn Tx, founding: &Founding<'_>, cause: &Cause) -> Result<(), StoreError> {
    let ward = &founding.ward;
    tx.put_ward(ward)?;
    tx.put_settings(founding.settings)?;
    for (name, role, certificate, key) in founding.authorities {
        tx.insert_authority(&AuthorityRecord::new(name.clone(), *role, certificate.clone(), key.clone(), cause.at))?;
    }
    tx.put_token_signer(&super::token::first_signer(ward.token_key.clone(), cause.at))?;
    for (name, certificate) in founding.servers {
        tx.put_server(name, certificate)?;
    }
    let authorities: Vec<_> = founding
        .authorities
        .iter()
        .map(|(name, role, certificate, _)| {
            json!({
                "name": name, "role": role.as_str(), "fingerprint": certificate.fingerprint.to_string(),
                "ends": certificate.not_after,
            })
        })
        .collect();
    let detail = json!({ "rehearsal": ward.rehearsal, "urn": ward.urn, "authorities": authorities });
    append(tx, cause, "ward.init", &ward.urn, &detail)?;
    Ok(())
}

/// Records an act that changes nothing in the store, but must not go unseen; gives the number of its entry. `detail` is a JSON
/// object.
pub fn note(tx: &mut dyn Tx, act: &'static str, subject: &str, detail: &str, cause: &Cause) -> Result<i64, StoreError> {
    append_text(tx, cause, act, subject, detail)
}

/// Records that `ward.toml` changed: its new text, and the difference as an audit entry's detail. Once, if two notice it. Not if what it
/// declares of facts cannot be.
pub fn settings(
    tx: &mut dyn Tx,
    text: &str,
    declared: Declared<'_>,
    detail: &str,
    cause: &Cause,
) -> Answer<(), Vec<FactClash>> {
    if tx.settings_text()? != text {
        if let Err(clashes) = own::declare(tx, declared, cause.at)? {
            return Ok(Err(clashes));
        }
        append_text(tx, cause, "settings.changed", "ward.toml", detail)?;
        tx.put_settings(text)?;
    }
    Ok(Ok(()))
}

/// Records that a person accepts that this store lacks the end of the record that was seen before: up to the entry `number`
/// with `hash`.
pub fn give_up(tx: &mut dyn Tx, number: i64, hash: Hash, cause: &Cause) -> Result<(), StoreError> {
    let detail = json!({ "number": number, "hash": hex(&hash) });
    append(tx, cause, "store.accept", "the store", &detail)?;
    tx.put_doubt(None)?;
    tx.put_given_up(number, &hash)
}

/// By how much the number of each CRL grows when an older store is put back: more than are signed within the life of any backup, so
/// that no number is given twice (RFC 5280 section 5.2.3).
const CRL_JUMP: u64 = 1 << 20;

/// Records that the ward was put back from a backup. With `doubt`, which says what may be missing, nobody is let in until a person
/// accepts it, and the next CRLs are newer than any that was published.
pub fn restored(
    tx: &mut dyn Tx,
    detail: &serde_json::Value,
    doubt: Option<&str>,
    cause: &Cause,
) -> Result<(), StoreError> {
    let mut detail = detail.clone();
    detail["withdraws_admissions"] = json!(doubt.is_some());
    let change = append(tx, cause, "store.restore", "the store", &detail)?;
    if doubt.is_none() {
        return Ok(());
    }
    // What was used or withdrawn after the backup was made would be good once more.
    tx.withdraw_pending(None, cause.at)?;
    tx.drop_claims(None)?;
    tx.drop_hand_overs(None)?;
    // It would bring codes back that were claimed with since.
    job::stop_all(tx, JobKind::Open, cause)?;
    tx.sign_owners_out(cause.at.plus(Span::from_seconds(1)))?;
    for authority in tx.authorities()?.iter().filter(|each| each.crl_number > 0) {
        let at = authority.crl_at.unwrap_or(cause.at);
        let number = authority.crl_number.saturating_add(CRL_JUMP);
        tx.put_crl(&authority.name, &NewestCrl { number, at, until: authority.crl_until, lacks: change })?;
    }
    tx.put_doubt(doubt)
}
