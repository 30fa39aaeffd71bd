//! What a token says, the same in a JWT (RFC 7519) and a CWT (RFC 8392).

use data_encoding::{BASE64URL_NOPAD, HEXLOWER};

use super::BadToken;
use super::scope::{CLIENT_IDS, Scope};
use super::value::{Name, Value};
use crate::key::{self, PublicKey};
use crate::time::UnixTime;

/// What a token is bound to: it opens nothing over a connection that does not show this.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Bound {
    /// SHA-256 of a certificate's DER (`x5t#S256`, RFC 8705 section 3.1).
    Certificate([u8; 32]),
    /// A public key by its name, the JWK thumbprint (`kid`, RFC 7800 section 3.4, RFC 8747 section 3.4).
    KeyName(String),
    /// A public key (`jwk`, RFC 7800 section 3.2; COSE_Key, RFC 8747 section 3.2).
    Key(PublicKey),
}

/// The claims of a token. Nothing here is believed before the token was verified.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Claims {
    /// `iss`: who made it.
    pub issuer: Option<String>,
    /// `sub`: the device.
    pub subject: Option<String>,
    /// `aud`: whom it is for.
    pub audience: Vec<String>,
    /// `iat`: when it was made, in whole seconds.
    pub issued: Option<UnixTime>,
    /// `nbf`: refused before this second.
    pub begins: Option<UnixTime>,
    /// `exp`: refused from this second on.
    pub ends: Option<UnixTime>,
    /// `jti`, or `cti` in hexadecimal: its name.
    pub id: Option<String>,
    /// `cnf`: what it is bound to.
    pub bound: Option<Bound>,
    /// `scope`: what it may do of what its device may.
    pub scope: Option<Scope>,
}

/// The claims by their names in JSON and their numbers in CBOR (RFC 8392 section 4, RFC 8747 section 3.1, RFC 9200 section 8.14).
const ISS: (&str, i64) = ("iss", 1);
const SUB: (&str, i64) = ("sub", 2);
const AUD: (&str, i64) = ("aud", 3);
const EXP: (&str, i64) = ("exp", 4);
const NBF: (&str, i64) = ("nbf", 5);
const IAT: (&str, i64) = ("iat", 6);
const JTI: (&str, i64) = ("jti", 7);
const CNF: (&str, i64) = ("cnf", 8);
const SCOPE: (&str, i64) = ("scope", 9);

/// The longest name of a token, issuer or audience, in octets.
const MAX_TEXT: usize = 512;

/// The latest second that a token can name: the end of the year 9999.
const MAX_TIME: i64 = 253_402_300_799;

fn malformed(detail: &'static str) -> BadToken {
    BadToken::Malformed { detail }
}

impl Claims {
    pub(super) fn from_value(value: Value, is_cbor: bool) -> Result<Self, BadToken> {
        let Value::Map(mut members) = value else { return Err(malformed("its claims are no map")) };
        // A claim that CBOR has a number for is not looked for under its text.
        let client_ids = taken(&mut members, |name| matches!(name, Name::Text(text) if text == CLIENT_IDS));
        let mut take = |(text, number): (&str, i64)| {
            taken(&mut members, |name| match name {
                Name::Text(found) => !is_cbor && found == text,
                Name::Number(found) => is_cbor && *found == number,
            })
        };
        let text = |value: Option<Value>, detail| match value {
            None => Ok(None),
            Some(Value::Text(text)) if text.len() <= MAX_TEXT => Ok(Some(text)),
            Some(_) => Err(malformed(detail)),
        };
        let time = |value: Option<Value>, detail| match value {
            None => Ok(None),
            Some(Value::Int(seconds)) if (0..=MAX_TIME).contains(&seconds) => Ok(Some(UnixTime(seconds))),
            Some(_) => Err(malformed(detail)),
        };
        let audience = match take(AUD) {
            None => Vec::new(),
            Some(Value::Text(one)) => vec![one],
            Some(Value::Array(all)) => {
                let texts: Option<Vec<String>> = all.iter().map(|each| each.text().map(str::to_owned)).collect();
                texts.ok_or(malformed("its aud is neither a text nor a list of texts"))?
            }
            Some(_) => return Err(malformed("its aud is neither a text nor a list of texts")),
        };
        let id = match (take(JTI), is_cbor) {
            (None, _) => None,
            (Some(Value::Text(id)), false) if id.len() <= MAX_TEXT => Some(id),
            (Some(Value::Bytes(id)), true) if id.len() <= MAX_TEXT / 2 => Some(HEXLOWER.encode(&id)),
            (Some(_), false) => return Err(malformed("its jti is not a text of at most 512 bytes")),
            (Some(_), true) => return Err(malformed("its cti is not a byte string of at most 256 bytes")),
        };
        Ok(Self {
            issuer: text(take(ISS), "its iss is not a text of at most 512 bytes")?,
            subject: text(take(SUB), "its sub is not a text of at most 512 bytes")?,
            audience,
            issued: time(take(IAT), "its iat is not a whole number of seconds since 1970")?,
            begins: time(take(NBF), "its nbf is not a whole number of seconds since 1970")?,
            ends: time(take(EXP), "its exp is not a whole number of seconds since 1970")?,
            id,
            bound: take(CNF).map(|cnf| bound(&cnf, is_cbor)).transpose()?,
            scope: take(SCOPE).map(|scope| Scope::from_claims(&scope, client_ids.as_ref())),
        })
    }

    pub(super) fn to_value(&self, is_cbor: bool) -> Value {
        let name = |(text, number): (&str, i64)| match is_cbor {
            true => Name::Number(number),
            false => Name::of(text),
        };
        let text = |text: &str| Value::Text(text.to_owned());
        let mut all = Vec::new();
        let mut put = |claim, value: Option<Value>| all.extend(value.map(|value| (name(claim), value)));
        put(ISS, self.issuer.as_deref().map(text));
        put(SUB, self.subject.as_deref().map(text));
        put(
            AUD,
            match self.audience.as_slice() {
                [] => None,
                [one] => Some(text(one)),
                more => Some(Value::Array(more.iter().map(|each| text(each)).collect())),
            },
        );
        put(IAT, self.issued.map(|at| Value::Int(at.0)));
        put(NBF, self.begins.map(|at| Value::Int(at.0)));
        put(EXP, self.ends.map(|at| Value::Int(at.0)));
        let id = |id: &String| match HEXLOWER.decode(id.as_bytes()) {
            Ok(octets) if is_cbor => Value::Bytes(octets),
            _ if is_cbor => Value::Bytes(id.as_bytes().to_vec()),
            _ => text(id),
        };
        put(JTI, self.id.as_ref().map(id));
        put(CNF, self.bound.as_ref().and_then(|bound| confirmation(bound, is_cbor)));
        if let Some(scope) = &self.scope {
            all.extend(scope.to_claims(is_cbor));
        }
        Value::Map(all)
    }
}

/// Takes a member away, if there is one.
fn taken(members: &mut Vec<(Name, Value)>, is_it: impl Fn(&Name) -> bool) -> Option<Value> {
    let at = members.iter().position(|(name, _)| is_it(name))?;
    Some(members.swap_remove(at).1)
}

/// Reads a confirmation. One that is not understood is refused: whoever wrote it meant to bind the token.
fn bound(cnf: &Value, is_cbor: bool) -> Result<Bound, BadToken> {
    let members = match cnf {
        Value::Map(members) => members,
        _ => return Err(BadToken::Confirmation),
    };
    let [(name, value)] = members.as_slice() else { return Err(BadToken::Confirmation) };
    let key = |key: Result<PublicKey, key::BadKey>| key.map(Bound::Key).map_err(|_| BadToken::Confirmation);
    match (name, value, is_cbor) {
        (Name::Text(name), Value::Text(digest), false) if name == "x5t#S256" => {
            let octets = BASE64URL_NOPAD.decode(digest.as_bytes()).ok().and_then(|octets| octets.try_into().ok());
            octets.map(Bound::Certificate).ok_or(BadToken::Confirmation)
        }
        (Name::Text(name), Value::Text(kid), false) if name == "kid" => Ok(Bound::KeyName(kid.clone())),
        (Name::Text(name), Value::Map(_), false) if name == "jwk" => {
            if value.member("d", None).is_some() || value.member("k", None).is_some() {
                return Err(BadToken::Confirmation);
            }
            key(key::from_members(&|name| value.member(name, None).and_then(Value::text).map(str::to_owned)))
        }
        (Name::Number(3), Value::Bytes(kid), true) => {
            let kid = String::from_utf8(kid.clone()).map_err(|_| BadToken::Confirmation)?;
            Ok(Bound::KeyName(kid))
        }
        (Name::Number(1), Value::Map(_), true) => key(cose_key(value)),
        _ => Err(BadToken::Confirmation),
    }
}

/// A public COSE_Key (RFC 9053 section 7, RFC 8230 section 4).
fn cose_key(value: &Value) -> Result<PublicKey, key::BadKey> {
    let get = |label: i64| value.member("\0", Some(label));
    let octets = |label: i64| get(label).and_then(Value::bytes).ok_or(key::BadKey::Malformed);
    match (get(1), get(-1)) {
        (Some(Value::Int(2)), Some(Value::Int(curve @ (1 | 2)))) => {
            PublicKey::from_coordinates(if *curve == 1 { 32 } else { 48 }, octets(-2)?, octets(-3)?)
        }
        (Some(Value::Int(1)), Some(Value::Int(6))) => PublicKey::from_ed25519(octets(-2)?),
        (Some(Value::Int(3)), _) => PublicKey::from_rsa(octets(-1)?, octets(-2)?),
        _ => Err(key::BadKey::Malformed),
    }
}

/// What `cnf` holds. A CWT has no word for the digest of a certificate, so who makes one binds it to the key.
fn confirmation(bound: &Bound, is_cbor: bool) -> Option<Value> {
    let text = Name::of;
    let one = |name, value| Some(Value::Map(vec![(name, value)]));
    match (bound, is_cbor) {
        (Bound::Certificate(digest), false) => one(text("x5t#S256"), Value::Text(BASE64URL_NOPAD.encode(digest))),
        (Bound::Certificate(_), true) => None,
        (Bound::KeyName(kid), false) => one(text("kid"), Value::Text(kid.clone())),
        (Bound::KeyName(kid), true) => one(Name::Number(3), Value::Bytes(kid.as_bytes().to_vec())),
        (Bound::Key(key), false) => {
            let members = key::jwk_members(key)?.into_iter().map(|(name, value)| (text(name), Value::Text(value)));
            one(text("jwk"), Value::Map(members.collect()))
        }
        (Bound::Key(key), true) => {
            let (number, octets) = (
                |label, value| (Name::Number(label), Value::Int(value)),
                |label, octets: &[u8]| (Name::Number(label), Value::Bytes(octets.to_vec())),
            );
            let members = match (key::coordinates(key), key::rsa_parts(key)) {
                (Some((x, y)), _) => {
                    let curve = if x.len() == 32 { 1 } else { 2 };
                    vec![number(1, 2), number(-1, curve), octets(-2, x), octets(-3, y)]
                }
                (None, Some((n, e))) => vec![number(1, 3), octets(-1, &n), octets(-2, &e)],
                (None, None) => vec![number(1, 1), number(-1, 6), octets(-2, key.ed25519()?)],
            };
            one(Name::Number(1), Value::Map(members))
        }
    }
}
