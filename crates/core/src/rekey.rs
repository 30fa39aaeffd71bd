//! How a device asks at the desk for the key that it is to share with the ward next.
//!
//! It signs with the key that it shares now: a credential renews its own form and strength, and no token, nor anything else that this key
//! signed, is taken for it. What it signs names the device, the ward and a short time, and is sent over TLS, where the answer comes in
//! plain. Who sends it again is given the same key, until that was used.

use data_encoding::BASE64URL_NOPAD;
use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::id::DeviceId;
use crate::jws::{self, Cut};
use crate::random::{self, Randomness};
use crate::shared::SharedKey;
use crate::time::{Span, UnixTime};
use crate::token::{TokenKey, TokenSigner};

/// The `typ` of it (RFC 8725 section 3.11).
pub const KEY_REQUEST_TYPE: &str = "key-request+jwt";

/// The media type of a request, and of the answer: a JWK (RFC 7517 section 8.5).
pub const KEY_REQUEST: &str = "application/jose";
/// See [`KEY_REQUEST`].
pub const KEY_ANSWER: &str = "application/jwk+json";

/// The largest that is looked at, in octets.
pub const MAX_KEY_REQUEST: usize = 4 * 1024;

/// The longest time for which one is good.
pub const LONGEST: Span = Span::from_seconds(300);

/// How far the clock of a device may be ahead, in seconds.
const SKEW: i64 = 300;

/// What is under the signature: the names of RFC 7519 section 4.1.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Claims {
    iss: String,
    aud: String,
    jti: String,
    iat: i64,
    exp: i64,
}

/// Why a request is not taken. Nobody but whoever reads the log is told.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadKeyRequest {
    /// It cannot be read.
    #[error("it is no signed request for a key: {0}")]
    Form(&'static str),
    /// It is for another ward.
    #[error("its aud is not this ward")]
    Audience,
    /// It is too old, too long, or from the future.
    #[error("it is not good now: {0}")]
    Time(&'static str),
    /// The key did not sign it.
    #[error("the key that it names did not sign it")]
    Unsigned,
}

/// A request that was taken apart; nothing of it is proved.
pub struct KeyRequest<'t> {
    /// Who asks.
    pub device: DeviceId,
    /// What the key is called that signed it.
    pub kid: String,
    cut: Cut<'t>,
    claims: Claims,
}

/// The text of a request of `device`, which is in `ward` by its URN, signed with the key that it shares now.
#[must_use]
pub fn request_text(
    (device, ward): (&DeviceId, &str),
    (key, kid): (&SharedKey, &str),
    now: UnixTime,
    random: &mut dyn Randomness,
) -> String {
    let header = json!({ "alg": "HS256", "typ": KEY_REQUEST_TYPE, "kid": kid });
    let claims = Claims {
        iss: device.to_string(),
        aud: ward.to_owned(),
        jti: BASE64URL_NOPAD.encode(&random::bytes::<16>(random)),
        iat: now.0,
        exp: now.plus(LONGEST).0,
    };
    // Text and numbers alone: there is nothing that could not be written.
    let input = jws::input(&header, &serde_json::to_vec(&claims).unwrap_or_default());
    // An HMAC never fails.
    let signature = TokenSigner::Shared(key).sign(input.as_bytes()).unwrap_or_default();
    jws::with_signature(input, &signature)
}

impl<'t> KeyRequest<'t> {
    /// Takes a request apart.
    ///
    /// # Errors
    /// It is none.
    pub fn read(text: &'t str) -> Result<Self, BadKeyRequest> {
        let form = BadKeyRequest::Form;
        if text.len() > MAX_KEY_REQUEST {
            return Err(form("it is too long"));
        }
        let cut = Cut::of(text).ok_or(form("it is no JWS"))?;
        if cut.header.typ != KEY_REQUEST_TYPE {
            return Err(form("its typ is not key-request+jwt"));
        }
        if !cut.header.x5c.is_empty() {
            return Err(form("certificates are of no use in it"));
        }
        let kid = cut.header.kid.clone().filter(|kid| kid.len() <= 256).ok_or(form("it does not name its key"))?;
        let claims: Claims = serde_json::from_slice(&cut.payload).map_err(|_| form("its claims are others"))?;
        let device = claims.iss.parse().map_err(|_| form("its iss is no device"))?;
        Ok(Self { device, kid, cut, claims })
    }

    /// Whether `key` signed it, for this ward, and it is good now.
    ///
    /// # Errors
    /// Why not.
    pub fn verify(&self, key: &SharedKey, ward: &str, now: UnixTime) -> Result<(), BadKeyRequest> {
        if !self.cut.is_signed_by(TokenKey::Shared(key)) {
            return Err(BadKeyRequest::Unsigned);
        }
        if self.claims.aud != ward {
            return Err(BadKeyRequest::Audience);
        }
        let (iat, exp) = (self.claims.iat, self.claims.exp);
        let time = |why| Err(BadKeyRequest::Time(why));
        match () {
            () if iat > now.0.saturating_add(SKEW) => time("it was made in the future"),
            () if exp.saturating_sub(iat) > LONGEST.seconds() => time("it would be good for more than five minutes"),
            () if exp.saturating_add(SKEW) <= now.0 => time("it is over"),
            () => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::random::Counted;
    use crate::token::{Claims as TokenClaims, Form, sign};

    const WARD: &str = "urn:uuid:0";

    fn text(key: &SharedKey, now: i64) -> String {
        request_text((&"ts-1".parse().unwrap(), WARD), (key, "k-1"), UnixTime(now), &mut Counted(1))
    }

    #[test]
    fn a_device_proves_itself_with_the_key_that_it_has() {
        let (key, other) = (SharedKey::generate(&mut Counted(3)), SharedKey::generate(&mut Counted(40)));
        let text = text(&key, 1_000);
        let request = KeyRequest::read(&text).unwrap();
        assert_eq!((request.device.as_str(), request.kid.as_str()), ("ts-1", "k-1"));
        assert_eq!(request.verify(&key, WARD, UnixTime(1_000)), Ok(()));
        assert_eq!(request.verify(&other, WARD, UnixTime(1_000)), Err(BadKeyRequest::Unsigned));
        assert_eq!(request.verify(&key, "urn:uuid:1", UnixTime(1_000)), Err(BadKeyRequest::Audience));
        for (now, good) in [(700, true), (699, false), (1_599, true), (1_600, false)] {
            assert_eq!(request.verify(&key, WARD, UnixTime(now)).is_ok(), good, "at {now}");
        }
        for at in 0..text.len() {
            let mut changed = text.clone().into_bytes();
            changed[at] = if changed[at] == b'A' { b'B' } else { b'A' };
            let changed = String::from_utf8(changed).unwrap();
            let taken = KeyRequest::read(&changed).is_ok_and(|read| read.verify(&key, WARD, UnixTime(1_000)).is_ok());
            assert!(!taken, "changed at {at}");
        }
    }

    #[test]
    fn nothing_else_that_the_key_signs_is_taken_for_it() {
        let key = SharedKey::generate(&mut Counted(3));
        let claims = TokenClaims {
            issuer: Some("ts-1".to_owned()),
            audience: vec![WARD.to_owned()],
            issued: Some(UnixTime(1_000)),
            ends: Some(UnixTime(1_300)),
            id: Some("a".to_owned()),
            ..TokenClaims::default()
        };
        let token = sign(Form::Jwt, &claims, TokenSigner::Shared(&key), "k-1").unwrap();
        let token = String::from_utf8(token).unwrap();
        assert!(matches!(KeyRequest::read(&token), Err(BadKeyRequest::Form(_))), "a token is none");
        let signed = |header: serde_json::Value, claims: serde_json::Value| {
            let input = jws::input(&header, claims.to_string().as_bytes());
            let signature = key.sign(input.as_bytes());
            jws::with_signature(input, &signature)
        };
        let header = json!({ "alg": "HS256", "typ": KEY_REQUEST_TYPE, "kid": "k-1" });
        let claims = json!({ "iss": "ts-1", "aud": WARD, "jti": "a", "iat": 1_000, "exp": 1_300 });
        let taken = |header: &serde_json::Value, claims: &serde_json::Value| {
            let text = signed(header.clone(), claims.clone());
            KeyRequest::read(&text).is_ok_and(|read| read.verify(&key, WARD, UnixTime(1_000)).is_ok())
        };
        assert!(taken(&header, &claims));
        for (name, value) in [
            ("typ", json!("JWT")),
            ("typ", json!("errand-answer+jwt")),
            ("alg", json!("none")),
            ("alg", json!("ES256")),
            ("x5c", json!(["AAAA"])),
            ("crit", json!(["exp"])),
            ("kid", json!("k".repeat(300))),
        ] {
            let mut header = header.clone();
            header[name] = value.clone();
            assert!(!taken(&header, &claims), "{name} {value}");
        }
        for (name, value) in [
            ("aud", json!("urn:uuid:1")),
            ("iss", json!("No Device")),
            ("exp", json!(1_301)),
            ("exp", json!(i64::MAX)),
            ("iat", json!(i64::MIN)),
            ("iat", json!("1000")),
            ("scope", json!("publish a")),
        ] {
            let mut claims = claims.clone();
            claims[name] = value.clone();
            assert!(!taken(&header, &claims), "{name} {value}");
        }
        let long = format!("{}.a", "a".repeat(MAX_KEY_REQUEST));
        assert!(KeyRequest::read(&long).is_err());
    }
}
