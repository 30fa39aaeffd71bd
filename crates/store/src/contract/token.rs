//! Tokens: who signs them for the ward, which are blocked, and who may open the keys that devices share with it.

use tidy_warden_core::authority::KeyPlace;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{PublicKey, thumbprint};
use tidy_warden_core::shared::WrappedKey;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

/// A key with which the ward signs tokens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenSignerRecord {
    /// What its key file, or its key on a token, is called.
    pub name: String,
    /// Its public half.
    pub key: PublicKey,
    /// Where the private one is.
    pub place: KeyPlace,
    /// Since when.
    pub created: UnixTime,
    /// Since when nothing that it signed is taken any more.
    pub retired: Option<UnixTime>,
}

impl TokenSignerRecord {
    /// What it is called in tokens (RFC 7638).
    #[must_use]
    pub fn kid(&self) -> String {
        thumbprint(&self.key).unwrap_or_default()
    }
}

/// A token, or all tokens of a key or of a device up to a moment, that nobody takes any more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenBlock {
    /// What it is looked up by; see [`tidy_warden_core::token::VerifiedToken::block_name`].
    pub name: [u8; 32],
    /// Whose tokens, if that is known.
    pub device: Option<DeviceId>,
    /// Which key signed them; none if it is about a device's tokens of whatever key.
    pub kid: Option<String>,
    /// The name of the one token that it meets, if that has a name.
    pub jti: Option<String>,
    /// It meets all that were made before this second; none if it meets one token.
    pub before: Option<UnixTime>,
    /// Since when.
    pub at: UnixTime,
    /// From this second on no token that it could meet is good any more: it is forgotten then.
    pub until: UnixTime,
}

/// Questions about tokens.
pub trait ReadTokens {
    /// The keys with which the ward signs or signed tokens, the oldest first. A ward that was put back from a backup of before there
    /// were several has none here: its first one is [`crate::WardRecord::token_key`].
    fn token_signers(&self) -> Result<Vec<TokenSignerRecord>, StoreError>;

    /// The ward's data key, wrapped for each who may open it, by the name of that one: the ward, its guard, or a post.
    fn key_wraps(&self) -> Result<Vec<(String, WrappedKey)>, StoreError>;

    /// Those of these blocks that there are.
    fn token_blocks_of(&self, names: &[[u8; 32]]) -> Result<Vec<TokenBlock>, StoreError>;

    /// Up to `limit` blocks behind one in their order, by time and name; from the first with `None`.
    fn token_blocks(&self, after: Option<&TokenBlock>, limit: usize) -> Result<Vec<TokenBlock>, StoreError>;

    /// How many there are.
    fn count_token_blocks(&self) -> Result<u64, StoreError>;
}

/// Rows of tokens.
pub trait WriteTokens: ReadTokens {
    /// Adds a key that signs tokens, or notes of a known one since when it is retired.
    fn put_token_signer(&mut self, signer: &TokenSignerRecord) -> Result<(), StoreError>;

    /// Writes for whom the data key is wrapped, in place of what there was under this name.
    fn put_key_wrap(&mut self, name: &str, wrapped: &WrappedKey) -> Result<(), StoreError>;

    /// Takes such a wrap away, if it is there.
    fn drop_key_wrap(&mut self, name: &str) -> Result<(), StoreError>;

    /// Blocks; one of the same name stays as long as the later of both, and meets what either does.
    fn put_token_block(&mut self, block: &TokenBlock) -> Result<(), StoreError>;

    /// Forgets blocks that meet nothing any more at `now`, up to `limit` of them.
    fn drop_token_blocks(&mut self, now: UnixTime, limit: usize) -> Result<(), StoreError>;

    /// Writes [`crate::Head::tokens`].
    fn put_tokens_changed(&mut self, change: i64) -> Result<(), StoreError>;
}
