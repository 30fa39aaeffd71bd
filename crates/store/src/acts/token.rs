//! Blocking tokens, the keys that sign them, and who may open shared keys.

use serde_json::json;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::KeyType;
use tidy_warden_core::shared::WrappedKey;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::algorithms;

use super::{append, append_text, hex, listed, unknown};
use crate::{Answer, Cause, StoreError, TokenBlock, TokenSignerRecord, Tx, View};

/// The most blocks that there may be: what a guard looks through at each CONNECT, and what somebody could fill the store with.
pub const MOST_BLOCKS: u64 = 1_000_000;

/// How many blocks that meet nothing any more go with each new one, so that no single act has to clear them all.
const FORGOTTEN_AT_ONCE: usize = 1_000;

/// Why tokens were not blocked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BlockRefusal {
    /// There are as many as there may be.
    #[error("{MOST_BLOCKS} blocks are in force, which is the most there may be")]
    Full,
}

/// Why the ward was given no other key for tokens, or none was retired.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SignerRefusal {
    /// There is one of that name, or with that key.
    #[error("there is a key for tokens named `{0}` already")]
    Known(String),
    /// A key of that type signs no tokens.
    #[error("a {0} key signs no tokens")]
    KeyType(KeyType),
    /// Nobody would sign tokens any more.
    #[error("it is the only key that signs tokens")]
    Last,
    /// It was retired before.
    #[error("it was retired at {0}")]
    Retired(UnixTime),
}

/// The keys with which the ward signs or signed tokens, the oldest first.
pub fn signers(view: &dyn View) -> Result<Vec<TokenSignerRecord>, StoreError> {
    let all = view.token_signers()?;
    if !all.is_empty() {
        return Ok(all);
    }
    // Put back from a backup of before there were several.
    Ok(vec![first_signer(view.ward()?.token_key, UnixTime(0))])
}

/// The key that every ward begins with.
pub(crate) fn first_signer(key: tidy_warden_core::key::PublicKey, created: UnixTime) -> TokenSignerRecord {
    use tidy_warden_core::authority::KeyPlace;
    TokenSignerRecord { name: "tokens".to_owned(), key, place: KeyPlace::Ward, created, retired: None }
}

/// Writes down the first one, if that was never done.
fn settle(tx: &mut dyn Tx) -> Result<Vec<TokenSignerRecord>, StoreError> {
    let all = signers(tx)?;
    if let [only] = all.as_slice()
        && tx.token_signers()?.is_empty()
    {
        tx.put_token_signer(only)?;
    }
    Ok(all)
}

/// Gives the ward another key that signs tokens; those of before are taken until they are retired.
pub fn add_signer(tx: &mut dyn Tx, new: &TokenSignerRecord, cause: &Cause) -> Answer<(), SignerRefusal> {
    let all = settle(tx)?;
    if let Some(known) = all.iter().find(|each| each.name == new.name || each.key == new.key) {
        return Ok(Err(SignerRefusal::Known(known.name.clone())));
    }
    if algorithms(new.key.key_type()).is_empty() {
        return Ok(Err(SignerRefusal::KeyType(new.key.key_type())));
    }
    let detail = json!({ "kid": new.kid(), "key": new.key.key_type().to_string() });
    let change = append(tx, cause, "token.signer-add", &new.name, &detail)?;
    tx.put_token_signer(new)?;
    tx.put_tokens_changed(change)?;
    Ok(Ok(()))
}

/// Takes no token any more that one of the ward's keys signed.
///
/// # Errors
/// There is none of that name.
pub fn retire_signer(tx: &mut dyn Tx, name: &str, cause: &Cause) -> Answer<(), SignerRefusal> {
    let all = settle(tx)?;
    let known = all.iter().find(|each| each.name == name).ok_or_else(|| unknown("key for tokens", name))?;
    if let Some(since) = known.retired {
        return Ok(Err(SignerRefusal::Retired(since)));
    }
    if !all.iter().any(|each| each.retired.is_none() && each.name != name) {
        return Ok(Err(SignerRefusal::Last));
    }
    let change = append(tx, cause, "token.signer-retire", name, &json!({ "kid": known.kid() }))?;
    tx.put_token_signer(&TokenSignerRecord { retired: Some(cause.at), ..known.clone() })?;
    tx.put_tokens_changed(change)?;
    Ok(Ok(()))
}

/// Blocks tokens; with [`TokenBlock::before`] and no key all tokens of a device that were made before then, whoever signed them.
///
/// # Errors
/// There is no such device.
pub fn block(tx: &mut dyn Tx, block: &TokenBlock, cause: &Cause) -> Answer<(), BlockRefusal> {
    tx.drop_token_blocks(cause.at, FORGOTTEN_AT_ONCE)?;
    if tx.count_token_blocks()? >= MOST_BLOCKS {
        return Ok(Err(BlockRefusal::Full));
    }
    let detail = json!({
        "kid": block.kid, "jti": block.jti, "before": block.before, "until": block.until, "name": hex(&block.name),
    });
    let subject = block.device.as_ref().map_or("*", |device| device.as_str());
    let change = append(tx, cause, "token.block", subject, &detail)?;
    tx.put_token_block(block)?;
    match &block.device {
        // Its guards look at its sessions.
        Some(device) => {
            let view = listed(tx, device)?;
            match (block.before, &block.kid) {
                (Some(before), None) => {
                    let tokens_from = before.max(view.device.tokens_from);
                    let after = DeviceRecord { tokens_from, ..view.device.clone() };
                    tx.update_device(&view.device, &after, change)?;
                }
                _ => tx.touch(device, change)?,
            }
        }
        // Nobody knows whose it is: everybody's are looked at.
        None => tx.put_tokens_changed(change)?,
    }
    Ok(Ok(()))
}

/// Writes for whom the data key is wrapped, by name; the first that it is wrapped for at all leaves an entry that says so.
pub fn wrap(tx: &mut dyn Tx, wraps: &[(String, WrappedKey)], cause: &Cause) -> Result<(), StoreError> {
    let names: Vec<&str> = wraps.iter().map(|(name, _)| name.as_str()).collect();
    let change = append(tx, cause, "key.share", "shared keys", &json!({ "with": names }))?;
    wraps.iter().try_for_each(|(name, wrapped)| tx.put_key_wrap(name, wrapped))?;
    tx.put_tokens_changed(change)
}

/// Records that a token was signed. The token itself is not kept.
pub fn issued(tx: &mut dyn Tx, device: &DeviceId, detail: &str, cause: &Cause) -> Result<(), StoreError> {
    append_text(tx, cause, "token.issue", device.as_str(), detail)?;
    Ok(())
}
