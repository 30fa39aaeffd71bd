//! Whose a token is: which key must have signed it, whether it did (RFC 8725), and whether it opens anything now. The guard decides so at
//! each CONNECT, and a person who asks gets the same answer.

use std::sync::Arc;

use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::credential::{CredentialRecord, Origin, Unusable};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::key::{PublicKey, SoftwareKey, thumbprint};
use tidy_warden_core::settings::{Kind, Settings};
use tidy_warden_core::shared::{DataKey, SharedKey, Unopened};
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::token::{BadToken, Maker, Parties, Presented, Scope, Terms, TokenKey, Unverified, VerifiedToken};

use super::key::MOST_KEYS;
use super::token::signers;
use crate::{StoreError, TokenBlock, View};

/// Why a token opens nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TokenRefusal {
    /// It is none that is taken.
    #[error(transparent)]
    Token(#[from] BadToken),
    /// Devices of its kind do not sign in so.
    #[error("the kind `{0}` does not sign in by token")]
    NoTokenLogin(String),
    /// A person said that tokens of before then do not count, or the device was out since.
    #[error("the token was made before the moment from which on tokens of the device count")]
    Before,
    /// The key that signed it may not sign in.
    #[error("{}", .0.to_string().replacen("its certificate", "the key that signed its token", 1))]
    Key(Unusable),
    /// It was signed with a shared key, which its kind may not have any more.
    #[error("the kind `{0}` may have no shared keys")]
    NoSharedKeys(String),
    /// A key that could have signed it does not open.
    #[error("its shared key cannot be looked at: {0}")]
    Unopened(String),
}

/// A token that was verified, and the device's own key that signed it, if it was one of those.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Bearer {
    /// The token.
    pub token: VerifiedToken,
    /// The name of the key in the store.
    pub key: Option<Fingerprint>,
}

impl Bearer {
    /// What it narrows the policies to.
    #[must_use]
    pub fn scope(&self) -> Option<&Arc<Scope>> {
        self.token.scope.as_ref()
    }
}

/// The ward's keys for tokens, as the store has them.
#[derive(Debug, Clone)]
pub struct Signers {
    /// The change number at which they changed last.
    pub at: i64,
    /// Those that are believed, by their names in tokens.
    believed: Vec<(String, PublicKey)>,
    /// What opens shared keys, if the ward has any and this guard may open them.
    data_key: Option<DataKey>,
}

impl Default for Signers {
    /// Of a moment before any was read.
    fn default() -> Self {
        Self { at: -1, believed: Vec::new(), data_key: None }
    }
}

impl Signers {
    /// Reads them; `own` is the guard's own key, to which the data key is wrapped.
    pub fn read(store: &dyn View, own: &SoftwareKey, at: i64) -> Result<Self, StoreError> {
        // One that does not open is none: whoever has a shared key is refused, and told why in the log.
        Self::with(store, data_key(store, own)?.and_then(Result::ok), at)
    }

    /// Reads them, with the data key if it is at hand.
    pub fn with(store: &dyn View, data_key: Option<DataKey>, at: i64) -> Result<Self, StoreError> {
        let believed = signers(store)?.into_iter().filter(|each| each.retired.is_none());
        Ok(Self { at, believed: believed.map(|each| (each.kid(), each.key)).collect(), data_key })
    }

    /// The same, to be read anew.
    #[must_use]
    pub fn of_another_store(&self) -> Self {
        Self { at: -1, ..self.clone() }
    }

    /// Whether a key of the ward is one that is believed.
    #[must_use]
    pub fn believes(&self, kid: &str) -> bool {
        self.believed.iter().any(|(known, _)| known == kid)
    }
}

/// The ward's data key, as it is wrapped for the owner of `own`; `None` if it is not wrapped for it.
pub fn data_key(store: &dyn View, own: &SoftwareKey) -> Result<Option<Result<DataKey, Unopened>>, StoreError> {
    use tidy_warden_core::key::Signer;
    let wraps = store.key_wraps()?;
    let wrapped = wraps.iter().find(|(_, wrapped)| wrapped.to == own.public_key().spki());
    Ok(wrapped.map(|(_, wrapped)| DataKey::unwrap(wrapped, own)))
}

/// A key of a device's own, as it is looked for to check a token.
#[derive(Debug)]
pub struct OwnKey {
    kid: String,
    fingerprint: Fingerprint,
    material: Material,
}

#[derive(Debug)]
enum Material {
    Public(PublicKey),
    /// As the store has it.
    Sealed(Vec<u8>),
}

/// The keys of a device that could have signed a token: the one that it names, or the newest, those that may sign in first. A name counts
/// within the device alone.
pub fn own_keys(
    store: &dyn View,
    device: &DeviceId,
    kid: Option<&str>,
    now: UnixTime,
) -> Result<Vec<OwnKey>, StoreError> {
    let Some(view) = store.devices(std::slice::from_ref(device))?.pop().flatten() else { return Ok(Vec::new()) };
    let mut keys = Vec::new();
    // Those that may not sign in come last: their tokens are refused with the reason.
    let (good, others): (Vec<_>, Vec<_>) =
        view.credentials.iter().filter(|each| each.origin.is_key()).partition(|each| each.is_good(now));
    for record in good.into_iter().chain(others) {
        if keys.len() == MOST_KEYS {
            break;
        }
        if record.kid.as_deref().zip(kid).is_some_and(|(known, named)| known != named) {
            continue;
        }
        let Some(octets) = store.credential_der(&record.fingerprint)? else { continue };
        let material = match record.origin {
            Origin::Shared => Material::Sealed(octets),
            _ => match PublicKey::from_spki(&octets) {
                Ok(key) => Material::Public(key),
                Err(_) => continue,
            },
        };
        let name = match (&record.kid, &material) {
            (Some(kid), _) => Some(kid.clone()),
            (None, Material::Public(key)) => thumbprint(key),
            (None, Material::Sealed(_)) => None,
        };
        let Some(name) = name.filter(|name| kid.is_none_or(|kid| kid == name)) else { continue };
        keys.push(OwnKey { kid: name, fingerprint: record.fingerprint, material });
    }
    Ok(keys)
}

/// A token that was taken apart, and whose keys it must be held against.
#[derive(Debug)]
pub enum Claimed<'u> {
    /// The ward says that it made it.
    Ward(Unverified),
    /// Anything else is a device's own, and the user name says which device's.
    Device(Unverified, &'u DeviceId),
}

impl<'u> Claimed<'u> {
    /// Takes a token apart that `user` showed, or whoever it says that it is of.
    ///
    /// # Errors
    /// It is none.
    pub fn read(token: &[u8], parties: &Parties, user: &'u DeviceId) -> Result<Self, BadToken> {
        let token = Unverified::read(token)?;
        Ok(match token.claims.issuer.as_deref() == Some(parties.issuer.as_str()) {
            true => Self::Ward(token),
            false => Self::Device(token, user),
        })
    }

    /// Verifies it with the ward's keys.
    ///
    /// # Errors
    /// None of them signed it, or it is not good.
    pub fn by_ward(token: &Unverified, signers: &Signers, issuer: &str, terms: Terms<'_>) -> Result<Bearer, BadToken> {
        let named = |kid: &str| token.kid.as_deref().is_none_or(|named| named == kid);
        let keys = signers.believed.iter().filter(|(kid, _)| named(kid));
        let tried = keys.map(|(kid, key)| token.verify((TokenKey::Public(key), kid), Maker::Ward { issuer }, terms));
        Ok(Bearer { token: best(tried)?, key: None })
    }

    /// Verifies it with one of the device's own keys.
    ///
    /// # Errors
    /// None of them signed it, or it is not good; a shared key cannot be opened.
    pub fn by_device(
        (token, device): (&Unverified, &DeviceId),
        keys: &[OwnKey],
        signers: &Signers,
        terms: Terms<'_>,
    ) -> Result<Bearer, TokenRefusal> {
        let mut unopened = None;
        let mut used = None;
        let tried = keys.iter().filter_map(|key| {
            let shared: SharedKey;
            let material = match (&key.material, &signers.data_key) {
                (Material::Public(public), _) => TokenKey::Public(public),
                (Material::Sealed(sealed), Some(data)) => match data.open(sealed, device, &key.kid) {
                    Ok(opened) => {
                        shared = opened;
                        TokenKey::Shared(&shared)
                    }
                    Err(error) => {
                        unopened = Some(error.to_string());
                        return None;
                    }
                },
                (Material::Sealed(_), None) => {
                    unopened = Some("this guard may not open the keys that devices share with the ward".to_owned());
                    return None;
                }
            };
            let verified = token.verify((material, &key.kid), Maker::Device(device), terms);
            if verified.is_ok() {
                used = Some(key.fingerprint);
            }
            Some(verified)
        });
        match (best(tried), unopened) {
            (Ok(token), _) => Ok(Bearer { token, key: used }),
            (Err(error), None) => Err(error.into()),
            (Err(_), Some(why)) => Err(TokenRefusal::Unopened(why)),
        }
    }
}

/// The first that is good; or else what is said by a key whose signature it is; or else that it is none of theirs.
fn best<T>(tried: impl Iterator<Item = Result<T, BadToken>>) -> Result<T, BadToken> {
    let mut error = BadToken::UnknownKey;
    for each in tried {
        match each {
            Ok(good) => return Ok(good),
            Err(other) if !error.is_proved() => error = other,
            Err(_) => {}
        }
    }
    Err(error)
}

/// Whether the connection shows what the token is bound to.
///
/// # Errors
/// It does not.
pub fn check_bound(bearer: &Bearer, leaf: Option<&Certificate>) -> Result<(), BadToken> {
    let shown = leaf.map(|leaf| Presented { fingerprint: &leaf.fingerprint.0, key: &leaf.public_key });
    bearer.token.check_bound(shown)
}

/// What the store says of a token that was verified.
#[derive(Debug, Clone)]
pub struct Standing {
    /// The device's own key that signed it, if it was one.
    pub key: Option<CredentialRecord>,
    /// Blocks that could meet it.
    pub blocks: Vec<TokenBlock>,
}

impl Standing {
    /// Asks for it; gives the device too, which is the owner of the key that signed it. `None` if there is none.
    pub fn look(store: &dyn View, bearer: &Bearer) -> Result<Option<(Self, DeviceRecord)>, StoreError> {
        let blocks = store.token_blocks_of(&bearer.token.block_names())?;
        Ok(match bearer.key {
            Some(key) => {
                let known = store.status_many(&[key])?.pop().flatten();
                known.map(|(record, device)| (Self { key: Some(record), blocks }, device))
            }
            None => {
                let view = store.devices(std::slice::from_ref(&bearer.token.device))?.pop().flatten();
                view.map(|view| (Self { key: None, blocks }, view.device))
            }
        })
    }

    /// Whether the token opens something for `device` at `now`; gives the last second in which it does. Whether the device itself is
    /// barred stands beside this. `alone` stands for a token without a certificate beside it.
    ///
    /// # Errors
    /// Why not.
    pub fn judge(
        &self,
        bearer: &Bearer,
        device: &DeviceRecord,
        alone: bool,
        (settings, signers): (&Settings, &Signers),
        now: UnixTime,
    ) -> Result<UnixTime, TokenRefusal> {
        let token = &bearer.token;
        let no_login = || TokenRefusal::NoTokenLogin(device.kind.to_string());
        let kind: &Kind = settings.kind(&device.kind).map_err(|_| no_login())?;
        if alone && !kind.token_login {
            return Err(no_login());
        }
        if token.issued_at < device.tokens_from {
            return Err(TokenRefusal::Before);
        }
        if now >= token.ends {
            return Err(BadToken::Ended { exp: token.ends }.into());
        }
        if self.blocks.iter().any(|block| block.before.is_none_or(|before| token.issued_at < before)) {
            return Err(BadToken::Blocked.into());
        }
        // A token is refused from the second `exp` on, so the one before is its last.
        let ends = UnixTime(token.ends.0 - 1);
        match (bearer.key, &self.key) {
            (None, _) => {
                token.check_life(kind.token_life)?;
                if !signers.believes(&token.kid) {
                    return Err(BadToken::UnknownKey.into());
                }
                Ok(ends)
            }
            (Some(_), None) => Err(BadToken::UnknownKey.into()),
            (Some(_), Some(key)) => {
                token.check_life(kind.own_token_life)?;
                key.may_sign_in(now).map_err(TokenRefusal::Key)?;
                if key.origin == Origin::Shared && !kind.shared_keys {
                    return Err(TokenRefusal::NoSharedKeys(device.kind.to_string()));
                }
                Ok(key.usable_until().map_or(now, |until| until.min(ends)))
            }
        }
    }
}
