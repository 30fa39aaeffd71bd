//! Believing a token: whose key signed it, for whom, and when (RFC 8725).

use std::sync::Arc;

use super::{BadToken, Bound, Scope, TokenKey, Unverified};
use crate::id::DeviceId;
use crate::key::{PublicKey, sha256, thumbprint};
use crate::time::{Span, UnixTime};

/// Who signed a token, as far as the key says that was tried.
#[derive(Debug, Clone, Copy)]
pub enum Maker<'a> {
    /// The ward, which names itself in `iss`.
    Ward {
        /// Its URN.
        issuer: &'a str,
    },
    /// A device with one of its own keys, or the ward with a key that it shares with that device.
    Device(&'a DeviceId),
}

/// At what moment and for whom a token is judged.
#[derive(Debug, Clone, Copy)]
pub struct Terms<'a> {
    /// Who must stand in `aud`.
    pub audience: &'a str,
    /// The present instant.
    pub now: UnixTime,
    /// How far `iat` and `nbf` may lie in the future, for clocks that differ. `exp` is taken as it is: what has ended has ended.
    pub skew: Span,
}

/// A token whose signature, parties and times were checked, at one moment.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct VerifiedToken {
    /// The device that it stands for.
    pub device: DeviceId,
    /// The key that signed it.
    pub kid: String,
    /// Whether the ward's own key signed it, and not one of the device's.
    pub is_wards: bool,
    /// When it was made.
    pub issued_at: UnixTime,
    /// The second from which on it is refused.
    pub ends: UnixTime,
    /// What it is called.
    pub name: TokenName,
    /// What it is bound to.
    pub bound: Option<Bound>,
    /// What it may do of what its device may.
    pub scope: Option<Arc<Scope>>,
}

/// What a token is called, among those of its key. Its octets do not name it: they can be spelled in more than one way.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum TokenName {
    /// Its `jti`, or `cti` in hexadecimal.
    Id(String),
    /// SHA-256 of what was signed, if it has none.
    Digest([u8; 32]),
}

/// What a connection shows of the client's certificate, if it showed one.
#[derive(Debug, Clone, Copy)]
pub struct Presented<'a> {
    /// SHA-256 of its DER.
    pub fingerprint: &'a [u8; 32],
    /// Its key.
    pub key: &'a PublicKey,
}

impl Unverified {
    /// Checks the token with `key`, which is called `kid` and is `maker`'s: signature, type, parties, times, in this order.
    ///
    /// # Errors
    /// The first check that fails.
    pub fn verify(
        &self,
        (key, kid): (TokenKey<'_>, &str),
        maker: Maker<'_>,
        terms: Terms<'_>,
    ) -> Result<VerifiedToken, BadToken> {
        key.verify(self.algorithm, &self.input, &self.signature)?;
        self.check_type()?;
        let claims = &self.claims;
        let missing = |detail| BadToken::Malformed { detail };
        let parsed = |text: &str| text.parse::<DeviceId>().map_err(|_| BadToken::Subject);
        let device = match maker {
            Maker::Ward { issuer } => {
                let found = claims.issuer.clone().unwrap_or_default();
                if found != issuer {
                    return Err(BadToken::Issuer { found });
                }
                parsed(claims.subject.as_deref().ok_or(missing("it has no sub"))?)?
            }
            Maker::Device(device) => {
                if let Some(other) = claims.subject.as_deref().filter(|subject| *subject != device.as_str()) {
                    parsed(other)?;
                    return Err(BadToken::OtherDevice);
                }
                if claims.issuer.as_deref().is_some_and(|issuer| issuer != device.as_str()) {
                    return Err(BadToken::Issuer { found: claims.issuer.clone().unwrap_or_default() });
                }
                device.clone()
            }
        };
        if !claims.audience.iter().any(|audience| audience == terms.audience) {
            let found = claims.audience.join(", ").chars().take(200).collect();
            return Err(BadToken::Audience { found, wanted: terms.audience.to_owned() });
        }
        let ends = claims.ends.ok_or(missing("it has no exp"))?;
        let issued_at = claims.issued.ok_or(missing("it has no iat"))?;
        if terms.now >= ends {
            return Err(BadToken::Ended { exp: ends });
        }
        let begins = claims.begins.unwrap_or(issued_at);
        if begins.max(issued_at) > terms.now.plus(terms.skew) {
            return Err(BadToken::NotYet { nbf: begins.max(issued_at) });
        }
        Ok(VerifiedToken {
            device,
            kid: kid.to_owned(),
            is_wards: matches!(maker, Maker::Ward { .. }),
            issued_at,
            ends,
            name: claims.id.clone().map_or_else(|| TokenName::Digest(self.digest()), TokenName::Id),
            bound: claims.bound.clone(),
            scope: claims.scope.clone().map(Arc::new),
        })
    }
}

impl VerifiedToken {
    /// Whether it lasts no longer than `longest` from its `iat` on.
    ///
    /// # Errors
    /// It does.
    pub fn check_life(&self, longest: Span) -> Result<(), BadToken> {
        let life = self.ends.since(self.issued_at);
        match life <= longest.seconds() {
            true => Ok(()),
            false => Err(BadToken::TooLongLived {
                life: Span::from_seconds(u32::try_from(life).unwrap_or(u32::MAX)),
                longest,
            }),
        }
    }

    /// Whether the connection shows what the token is bound to.
    ///
    /// # Errors
    /// It does not.
    pub fn check_bound(&self, presented: Option<Presented<'_>>) -> Result<(), BadToken> {
        let fits = match (&self.bound, presented) {
            (None, _) => true,
            (Some(_), None) => false,
            (Some(Bound::Certificate(digest)), Some(shown)) => digest == shown.fingerprint,
            (Some(Bound::Key(key)), Some(shown)) => key == shown.key,
            (Some(Bound::KeyName(kid)), Some(shown)) => thumbprint(shown.key).as_ref() == Some(kid),
        };
        if fits { Ok(()) } else { Err(BadToken::NotBound) }
    }

    /// Its `jti`, if it has one.
    #[must_use]
    pub fn jti(&self) -> Option<&str> {
        match &self.name {
            TokenName::Id(jti) => Some(jti),
            TokenName::Digest(_) => None,
        }
    }

    /// What a block of this token is called: by its key and its name, or by the digest of what was signed if it has no name.
    #[must_use]
    pub fn block_name(&self) -> [u8; 32] {
        match &self.name {
            TokenName::Id(jti) => block_of_name(&self.kid, jti),
            TokenName::Digest(digest) => *digest,
        }
    }

    /// All blocks that could meet it: of itself, and of all tokens of its key.
    #[must_use]
    pub fn block_names(&self) -> [[u8; 32]; 2] {
        [self.block_name(), block_of_key(&self.kid)]
    }

    /// For logs: what it is called in words.
    #[must_use]
    pub fn shown(&self) -> String {
        match &self.name {
            TokenName::Id(jti) => {
                format!("token {}", jti.chars().take(64).filter(|c| !c.is_control()).collect::<String>())
            }
            TokenName::Digest(digest) => format!("token {}", data_encoding::HEXLOWER.encode(&digest[..8])),
        }
    }
}

/// What a block of the token `jti` of a key is called. The lengths keep one pair from looking like another.
#[must_use]
pub fn block_of_name(kid: &str, jti: &str) -> [u8; 32] {
    sha256(format!("{}:{kid}{}:{jti}", kid.len(), jti.len()).as_bytes())
}

/// What a block of all tokens of a key is called.
#[must_use]
pub fn block_of_key(kid: &str) -> [u8; 32] {
    sha256(format!("key {}:{kid}", kid.len()).as_bytes())
}
