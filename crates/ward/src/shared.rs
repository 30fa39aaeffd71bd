//! The ward's data key, which opens the keys that devices share with it, and for whom it is wrapped: the ward's own passphrase, and each
//! guard's own key. No guard asks for the passphrase, and nothing of it stands open anywhere.

use std::collections::BTreeMap;

use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{PublicKey, Signer, SoftwareKey, sha256};
use tidy_warden_core::post::PostRole;
use tidy_warden_core::random;
use tidy_warden_core::shared::{DataKey, SharedKey, WrappedKey};
use tidy_warden_store::acts::bearer;

use crate::clock::SystemRandom;
use crate::keys::{self, Openers};
use crate::open::Ward;
use crate::problem::Problem;

/// What opens the data key for whoever has the ward's passphrase: its file in `keys`, and its name among the wraps.
const OPENER: &str = "shared";

/// A shared key that was made or brought in, ready for the store.
pub struct Fresh {
    /// The key.
    pub key: SharedKey,
    /// What it is called: 128 random bits.
    pub kid: String,
    /// As the store keeps it.
    pub sealed: Vec<u8>,
    /// By which the store sees that a key is there already, without the key.
    pub digest: [u8; 32],
    /// The name of its row.
    pub name: [u8; 32],
}

/// A new key for a device.
#[must_use]
pub fn fresh(data: &DataKey, device: &DeviceId) -> Option<Fresh> {
    locked(data, device, SharedKey::generate(&mut SystemRandom))
}

/// The same with a key that exists.
#[must_use]
pub fn locked(data: &DataKey, device: &DeviceId, key: SharedKey) -> Option<Fresh> {
    let kid = data_encoding::BASE64URL_NOPAD.encode(&random::bytes::<16>(&mut SystemRandom));
    let (sealed, digest) = (data.seal(&key, device, &kid, &mut SystemRandom)?, data.mark(&key)?);
    let name = sha256(format!("shared key {kid}").as_bytes());
    Some(Fresh { key, kid, sealed, digest, name })
}

/// The data key for whoever has the ward's passphrase; `None` if the ward has none yet.
pub fn data_key(ward: &Ward, openers: &dyn Openers) -> Result<Option<DataKey>, Problem> {
    if ward.store.key_wraps()?.is_empty() {
        return Ok(None);
    }
    if let Some(known) = openers.known_data_key() {
        return Ok(Some(known));
    }
    let passphrase = openers.passphrase("the keys that devices share with the ward")?;
    let own = ward.key(OPENER, passphrase)?;
    match ward.store.view(|view| bearer::data_key(view, &own))? {
        Some(Ok(key)) => Ok(Some(key)),
        Some(Err(error)) => Err(Problem::failed("the shared keys cannot be opened").because(error)),
        None => Err(Problem::failed("the shared keys cannot be opened")
            .because(format!("they are not wrapped for keys/{OPENER}.key of this folder"))
            .next("do this where the ward was made, or bring that file")),
    }
}

/// The data key, made if there is none, and wrapped for every guard that there is by now.
pub fn ready(ward: &mut Ward, openers: &dyn Openers) -> Result<DataKey, Problem> {
    let known = data_key(ward, openers)?;
    let (key, mut wanted) = match known {
        Some(key) => (key, BTreeMap::new()),
        None => {
            let own = opener(ward, openers)?;
            (DataKey::generate(&mut SystemRandom), BTreeMap::from([(OPENER.to_owned(), own.public_key().clone())]))
        }
    };
    wanted.extend(guards(ward)?);
    let there: BTreeMap<String, WrappedKey> = ward.store.key_wraps()?.into_iter().collect();
    wanted.retain(|name, to| there.get(name).is_none_or(|wrapped| wrapped.to != to.spki()));
    if !wanted.is_empty() {
        let wrap = |(name, to): (&String, &PublicKey)| key.wrap(to).map(|wrapped| (name.clone(), wrapped));
        let wraps: Option<Vec<_>> = wanted.iter().map(wrap).collect();
        let wraps = wraps.ok_or_else(|| Problem::failed("the data key cannot be wrapped for every guard"))?;
        let cause = ward.cause(None);
        ward.store.wrap_data_key(&wraps, &cause)?;
    }
    Ok(key)
}

/// The key that opens the data key here.
fn opener(ward: &Ward, openers: &dyn Openers) -> Result<SoftwareKey, Problem> {
    keys::open_or_make(ward, openers, &format!("{OPENER}.key"), "the keys that devices share with the ward")
}

/// The own keys of all guards, by the name of each.
fn guards(ward: &Ward) -> Result<BTreeMap<String, PublicKey>, Problem> {
    let guard = PostRole::Guard.as_str();
    let mut all = BTreeMap::from([(guard.to_owned(), ward.store.server_certificate(guard)?.public_key)]);
    for post in ward.store.posts()?.into_iter().filter(|post| post.role == PostRole::Guard && post.retired.is_none()) {
        all.insert(post.name.to_string(), post.certificate.public_key);
    }
    Ok(all)
}
