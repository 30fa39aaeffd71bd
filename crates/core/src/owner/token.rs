//! Tokens by which a program acts for an owner at the desk: a JWT (RFC 7519) with a `typ` and an `aud` of its own (RFC 8725 sections 3.11
//! and 3.12), and a subject that no device can have.

use std::collections::BTreeSet;

use data_encoding::BASE64URL_NOPAD;
use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::id::OwnerId;
use crate::jws::{self, Cut};
use crate::key::{PublicKey, SignError, thumbprint};
use crate::random::{self, Randomness};
use crate::time::{Span, UnixTime};
use crate::token::{TokenKey, TokenSigner};

/// The `typ` of such a token.
pub const OWNER_TOKEN_TYPE: &str = "owner+jwt";

/// What stands before an owner's name in `sub`: no id of a device can have a colon.
const SUBJECT: &str = "owner:";

/// The longest that one is good.
pub const LONGEST_TOKEN: Span = Span::from_days(31);

/// The largest that is looked at, in octets.
pub const MAX_TOKEN: usize = 4 * 1024;

/// How far clocks may be apart, in seconds.
const SKEW: i64 = 60;

/// What a token may be used for (RFC 6749 section 3.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum OwnerScope {
    /// To see the owner's devices and what is offered to it.
    Read,
    /// To claim devices, and to take those that are offered.
    Claim,
    /// To give devices up, and to hand them over.
    Give,
}

impl OwnerScope {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Read, Self::Claim, Self::Give];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Read => "devices:read",
            Self::Claim => "devices:claim",
            Self::Give => "devices:give",
        }
    }
}

impl std::str::FromStr for OwnerScope {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let found = Self::ALL.into_iter().find(|scope| scope.as_str() == text);
        found.ok_or_else(|| format!("{text:?} is none of devices:read, devices:claim, devices:give"))
    }
}

/// What is under the signature.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Claims {
    iss: String,
    sub: String,
    aud: String,
    scope: String,
    jti: String,
    iat: i64,
    exp: i64,
}

/// What a token is to say.
#[derive(Debug)]
pub struct OwnerTokenTerms<'a> {
    /// Whose it is.
    pub owner: &'a OwnerId,
    /// The ward's URN.
    pub ward: &'a str,
    /// The address of the interface that it is for.
    pub audience: &'a str,
    /// What for.
    pub scopes: &'a BTreeSet<OwnerScope>,
    /// Its first second, and its last.
    pub times: (UnixTime, UnixTime),
}

/// The text of a token.
///
/// # Errors
/// The key cannot sign, or not now.
pub fn owner_token(
    terms: &OwnerTokenTerms<'_>,
    signer: TokenSigner<'_>,
    kid: &str,
    random: &mut dyn Randomness,
) -> Result<String, SignError> {
    let algorithm = jws::algorithm(signer)?;
    let header = json!({ "alg": algorithm.as_str(), "typ": OWNER_TOKEN_TYPE, "kid": kid });
    let scopes: Vec<&str> = terms.scopes.iter().map(|scope| scope.as_str()).collect();
    let claims = Claims {
        iss: terms.ward.to_owned(),
        sub: format!("{SUBJECT}{}", terms.owner),
        aud: terms.audience.to_owned(),
        scope: scopes.join(" "),
        jti: BASE64URL_NOPAD.encode(&random::bytes::<16>(random)),
        iat: terms.times.0.0,
        exp: terms.times.1.0,
    };
    // Text and numbers alone: there is nothing that could not be written.
    let input = jws::input(&header, &serde_json::to_vec(&claims).unwrap_or_default());
    let signature = signer.sign(input.as_bytes())?;
    Ok(jws::with_signature(input, &signature))
}

/// Why a token is not taken. Nobody but whoever reads the log is told.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadOwnerToken {
    /// It cannot be read.
    #[error("it is no token of an owner: {0}")]
    Form(&'static str),
    /// None of the ward's keys signed it.
    #[error("no key of the ward signed it")]
    Unsigned,
    /// It is for somebody else.
    #[error("its aud is not this desk")]
    Audience,
    /// It is too old, too long, or from the future.
    #[error("it is not good now: {0}")]
    Time(&'static str),
}

/// A token that was verified.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnerToken {
    /// Whose it is; whether that owner still is there is not known here.
    pub owner: OwnerId,
    /// What for.
    pub scopes: BTreeSet<OwnerScope>,
    /// When it was made.
    pub issued: UnixTime,
}

impl OwnerToken {
    /// Verifies a token: `keys` are those of the ward that sign tokens.
    ///
    /// # Errors
    /// Why it is not taken.
    pub fn verify(text: &str, keys: &[PublicKey], audience: &str, now: UnixTime) -> Result<Self, BadOwnerToken> {
        let form = BadOwnerToken::Form;
        if text.len() > MAX_TOKEN {
            return Err(form("it is too long"));
        }
        let cut = Cut::of(text).ok_or(form("it is no JWS"))?;
        if cut.header.typ != OWNER_TOKEN_TYPE {
            return Err(form("its typ is not owner+jwt"));
        }
        if !cut.header.x5c.is_empty() {
            return Err(form("certificates are of no use in it"));
        }
        let kid = cut.header.kid.as_deref().ok_or(form("it does not name its key"))?;
        let key = keys.iter().find(|key| thumbprint(key).as_deref() == Some(kid)).ok_or(BadOwnerToken::Unsigned)?;
        if !cut.is_signed_by(TokenKey::Public(key)) {
            return Err(BadOwnerToken::Unsigned);
        }
        let claims: Claims = serde_json::from_slice(&cut.payload).map_err(|_| form("its claims are others"))?;
        if claims.aud != audience {
            return Err(BadOwnerToken::Audience);
        }
        let (iat, exp) = (claims.iat, claims.exp);
        let time = |why| Err(BadOwnerToken::Time(why));
        match () {
            () if iat > now.0.saturating_add(SKEW) => return time("it was made in the future"),
            () if exp.saturating_sub(iat) > LONGEST_TOKEN.seconds() => return time("it would be good for too long"),
            () if exp <= now.0 => return time("it is over"),
            () => {}
        }
        let owner = claims.sub.strip_prefix(SUBJECT).and_then(|name| name.parse().ok());
        let owner = owner.ok_or(form("its sub is no owner"))?;
        // A scope that is not understood gives nothing.
        let scopes: Option<BTreeSet<OwnerScope>> = claims.scope.split(' ').map(|word| word.parse().ok()).collect();
        Ok(Self { owner, scopes: scopes.unwrap_or_default(), issued: UnixTime(iat) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::{NewKey, Signer, SoftwareKey};
    use crate::random::Counted;
    use crate::token::{BadToken, Claims as DeviceClaims, Form, Maker, Terms, sign};

    const AUDIENCE: &str = "https://desk.example:8843/owner/v1";

    #[test]
    fn a_token_is_taken_for_its_owner_scope_time_and_desk_and_for_nothing_else() {
        let (key, other) = (SoftwareKey::generate(NewKey::P256).unwrap(), SoftwareKey::generate(NewKey::P256).unwrap());
        let keys = [key.public_key().clone()];
        let kid = thumbprint(&keys[0]).unwrap();
        let (owner, scopes) = ("mole-west".parse().unwrap(), BTreeSet::from([OwnerScope::Read, OwnerScope::Give]));
        let make = |signer: &SoftwareKey, times: (i64, i64)| {
            let times = (UnixTime(times.0), UnixTime(times.1));
            let terms = OwnerTokenTerms { owner: &owner, ward: "urn:w", audience: AUDIENCE, scopes: &scopes, times };
            owner_token(&terms, TokenSigner::Private(signer), &kid, &mut Counted(1)).unwrap()
        };
        let good = make(&key, (1_000, 2_000));
        let verify = |text: &str, now: i64| OwnerToken::verify(text, &keys, AUDIENCE, UnixTime(now));
        let token = verify(&good, 1_500).unwrap();
        assert_eq!((token.owner.as_str(), &token.scopes, token.issued), ("mole-west", &scopes, UnixTime(1_000)));
        assert_eq!(verify(&good, 2_000), Err(BadOwnerToken::Time("it is over")));
        assert!(matches!(verify(&good, 900), Err(BadOwnerToken::Time(_))));
        assert!(matches!(verify(&make(&key, (1_000, 1_000 + 32 * 86_400)), 1_500), Err(BadOwnerToken::Time(_))));
        assert_eq!(verify(&make(&other, (1_000, 2_000)), 1_500), Err(BadOwnerToken::Unsigned));
        let elsewhere = OwnerToken::verify(&good, &keys, "https://other/owner/v1", UnixTime(1_500));
        assert_eq!(elsewhere, Err(BadOwnerToken::Audience));
        assert_eq!(OwnerToken::verify(&good, &[], AUDIENCE, UnixTime(1_500)), Err(BadOwnerToken::Unsigned));
        for bad in ["", "a.b.c", &good[1..], &format!("{good}A"), &"a".repeat(5_000)] {
            assert!(verify(bad, 1_500).is_err(), "{bad}");
        }
    }

    #[test]
    fn no_token_of_a_device_is_an_owners_whatever_it_says_and_none_of_an_owners_is_a_devices() {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let keys = [key.public_key().clone()];
        let kid = thumbprint(&keys[0]).unwrap();
        // A device that is named exactly like an owner, and a token that is made for the owners' interface.
        for subject in ["mole-west", "owner:mole-west"] {
            let claims = DeviceClaims {
                subject: Some(subject.to_owned()),
                audience: vec![AUDIENCE.to_owned()],
                issued: Some(UnixTime(1_000)),
                ends: Some(UnixTime(2_000)),
                ..DeviceClaims::default()
            };
            let token = sign(Form::Jwt, &claims, TokenSigner::Private(&key), &kid).unwrap();
            let text = String::from_utf8(token).unwrap();
            assert!(OwnerToken::verify(&text, &keys, AUDIENCE, UnixTime(1_500)).is_err(), "{subject}");
        }
        let (owner, scopes) = ("mole-west".parse().unwrap(), BTreeSet::from([OwnerScope::Read]));
        let times = (UnixTime(1_000), UnixTime(2_000));
        let terms = OwnerTokenTerms { owner: &owner, ward: "urn:w", audience: "mqtts://h:1", scopes: &scopes, times };
        let token = owner_token(&terms, TokenSigner::Private(&key), &kid, &mut Counted(1)).unwrap();
        let unverified = crate::token::Unverified::read(token.as_bytes()).unwrap();
        let terms = Terms { audience: "mqtts://h:1", now: UnixTime(1_500), skew: Span::from_seconds(0) };
        let maker = Maker::Ward { issuer: "urn:w" };
        let judged = unverified.verify((TokenKey::Public(&keys[0]), &kid), maker, terms);
        assert!(matches!(judged, Err(BadToken::Type { .. })), "{judged:?}");
    }
}
