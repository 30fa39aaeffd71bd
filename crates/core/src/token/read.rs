//! Taking a token apart, without believing any of it.

use data_encoding::BASE64URL_NOPAD;

use super::value::{Name, Value};
use super::{Algorithm, BadToken, Claims};
use crate::key::sha256;

/// The longest token read, in octets; ours have about 500.
pub const MAX_LEN: usize = 8 * 1024;

/// The types of tokens that stand for a device (RFC 8725 section 3.11, RFC 9596): no other kind of token has them.
pub const JWT_TYPE: &str = "device+jwt";
/// The same in COSE, where it is a media type.
pub const CWT_TYPE: &str = "application/device+cwt";

/// How a token is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Form {
    /// A JWT as compact JWS (RFC 7515 section 7.1).
    Jwt,
    /// A CWT in COSE_Sign1 or COSE_Mac0 (RFC 9052 sections 4.2 and 6.2).
    Cwt,
}

impl Form {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Jwt => "jwt",
            Self::Cwt => "cwt",
        }
    }
}

/// A token that was taken apart. Nothing that it says is proved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unverified {
    /// How it is written.
    pub form: Form,
    /// Which algorithm it says it was signed with; what counts is the key.
    pub algorithm: Algorithm,
    /// Which key it says it was signed with.
    pub kid: Option<String>,
    /// Its `typ`.
    pub media_type: Option<String>,
    /// What it claims.
    pub claims: Claims,
    pub(super) input: Vec<u8>,
    pub(super) signature: Vec<u8>,
}

fn malformed(detail: &'static str) -> BadToken {
    BadToken::Malformed { detail }
}

impl Unverified {
    /// Takes a token apart: a JWT is text, a CWT begins with a tag of CBOR, which no text begins with.
    ///
    /// # Errors
    /// It is no token, is too long, or demands what is not understood.
    pub fn read(token: &[u8]) -> Result<Self, BadToken> {
        if token.len() > MAX_LEN {
            return Err(BadToken::TooLong);
        }
        match token.first() {
            Some(first) if *first >= 0x80 => cwt(token),
            _ => jwt(token),
        }
    }

    /// SHA-256 of what was signed: what the token is called where it has no name.
    #[must_use]
    pub fn digest(&self) -> [u8; 32] {
        sha256(&self.input)
    }

    /// All of its claims, those that are not known here among them, as JSON; for people.
    #[must_use]
    pub fn said(&self) -> serde_json::Value {
        let read = match self.form {
            Form::Jwt => {
                let claims = self.input.rsplit(|octet| *octet == b'.').next().unwrap_or_default();
                BASE64URL_NOPAD.decode(claims).ok().and_then(|octets| Value::from_json(&octets).ok())
            }
            Form::Cwt => match Value::from_cbor(&self.input).as_ref().map(Value::array) {
                Ok(Some([.., Value::Bytes(payload)])) => Value::from_cbor(payload).ok().map(|value| named(&value)),
                _ => None,
            },
        };
        // It was read before from the same octets.
        read.map_or(serde_json::Value::Null, |value| value.to_json())
    }

    /// Whether its `typ` is that of a token for a device.
    pub(super) fn check_type(&self) -> Result<(), BadToken> {
        let wanted = match self.form {
            Form::Jwt => JWT_TYPE,
            Form::Cwt => CWT_TYPE,
        };
        // RFC 7515 section 4.1.9: `application/` may be left out, and case does not count in media types (RFC 2045 section 5.1).
        fn bare(text: &str) -> &str {
            const PREFIX: &str = "application/";
            match text.get(..PREFIX.len()) {
                Some(start) if start.eq_ignore_ascii_case(PREFIX) => &text[PREFIX.len()..],
                _ => text,
            }
        }
        match &self.media_type {
            Some(found) if bare(found).eq_ignore_ascii_case(bare(wanted)) => Ok(()),
            found => {
                let found = found.as_deref().unwrap_or_default().chars().take(60).collect();
                Err(BadToken::Type { found, wanted })
            }
        }
    }
}

fn jwt(token: &[u8]) -> Result<Unverified, BadToken> {
    // Its parts are looked at octet by octet; what is no base64url is no text either.
    let mut parts = token.split(|octet| *octet == b'.');
    let (Some(header), Some(claims), Some(signature), None) = (parts.next(), parts.next(), parts.next(), parts.next())
    else {
        return Err(malformed("it needs three parts with dots between them"));
    };
    // The decoder takes no padding, no other alphabet and no bits that say nothing: each token has one form.
    let decode = |part: &[u8]| BASE64URL_NOPAD.decode(part).map_err(|_| malformed("a part is not base64url"));
    let said = Value::from_json(&decode(header)?)?;
    let Value::Map(mut members) = said else { return Err(malformed("its header is no object")) };
    for (name, _) in &members {
        let Name::Text(name) = name else { continue };
        match name.as_ref() {
            "crit" => return Err(BadToken::Critical),
            // Members that name or carry a key or a certificate. None of them is ever followed; a token that has one counts on somebody who
            // does.
            "jwk" | "jku" | "x5u" | "x5c" | "x5t" | "x5t#S256" => return Err(BadToken::ForeignKey),
            "b64" | "zip" => return Err(malformed("its header wants its claims to be read in another way")),
            _ => {}
        }
    }
    let mut text_of = |name: &'static str, detail| {
        let at = members.iter().position(|(found, _)| matches!(found, Name::Text(text) if text == name));
        match at.map(|at| members.swap_remove(at).1) {
            None => Ok(None),
            Some(Value::Text(text)) => Ok(Some(text)),
            Some(_) => Err(malformed(detail)),
        }
    };
    let alg = text_of("alg", "its header's alg is not a text")?.ok_or(malformed("its header has no alg"))?;
    let algorithm = Algorithm::ALL.into_iter().find(|known| known.as_str() == alg);
    let algorithm = algorithm.ok_or(BadToken::Algorithm { alg: alg.chars().take(20).collect() })?;
    let kid = text_of("kid", "its header's kid is not a text")?;
    let media_type = text_of("typ", "its header's typ is not a text")?;
    let value = Value::from_json(&decode(claims)?)?;
    Ok(Unverified {
        form: Form::Jwt,
        algorithm,
        kid,
        media_type,
        claims: Claims::from_value(value, false)?,
        input: token[..header.len() + 1 + claims.len()].to_vec(),
        signature: decode(signature)?,
    })
}

/// COSE header labels (RFC 9052 section 3.1, RFC 9596, RFC 9360).
pub(super) const ALG: i64 = 1;
const CRIT: i64 = 2;
pub(super) const KID: i64 = 4;
pub(super) const TYP: i64 = 16;
const COSE_FOREIGN_KEYS: [i64; 4] = [32, 33, 34, 35];

/// The tags of a CWT (RFC 8392 section 6) and of what is in it (RFC 9052 section 2).
pub(super) const CWT_TAG: u64 = 61;
pub(super) const SIGN1_TAG: u64 = 18;
pub(super) const MAC0_TAG: u64 = 17;

fn cwt(token: &[u8]) -> Result<Unverified, BadToken> {
    let mut decoder = minicbor::Decoder::new(token);
    let mut tag = || decoder.tag().map(|tag| tag.as_u64()).map_err(|_| malformed("it has not the tag of a signed CWT"));
    let mut kind = tag()?;
    if kind == CWT_TAG {
        kind = tag()?;
    }
    let is_mac = match kind {
        SIGN1_TAG => false,
        MAC0_TAG => true,
        _ => return Err(malformed("it is neither COSE_Sign1 nor COSE_Mac0")),
    };
    let body = Value::from_cbor(&token[decoder.position()..])?;
    let Some([Value::Bytes(protected), unprotected, Value::Bytes(payload), Value::Bytes(signature)]) = body.array()
    else {
        return Err(malformed("it is not the array of four that COSE_Sign1 and COSE_Mac0 are"));
    };
    let Value::Map(loose) = unprotected else { return Err(malformed("its unprotected header is no map")) };
    let header = if protected.is_empty() { Value::Map(Vec::new()) } else { Value::from_cbor(protected)? };
    let Value::Map(firm) = &header else { return Err(malformed("its protected header is no map")) };
    // RFC 9052 section 3: no label in both.
    if loose.iter().any(|(name, _)| firm.iter().any(|(known, _)| known == name)) {
        return Err(malformed("a label stands in both headers"));
    }
    let get = |label: i64| header.member("\0", Some(label));
    let anywhere = |label: i64| get(label).or_else(|| unprotected.member("\0", Some(label)));
    if anywhere(CRIT).is_some() {
        return Err(BadToken::Critical);
    }
    if COSE_FOREIGN_KEYS.iter().any(|label| anywhere(*label).is_some()) {
        return Err(BadToken::ForeignKey);
    }
    let algorithm = match get(ALG) {
        Some(Value::Int(number)) => Algorithm::ALL
            .into_iter()
            .find(|known| known.number() == *number)
            .ok_or(BadToken::Algorithm { alg: number.to_string() })?,
        Some(_) => return Err(malformed("its alg is no number")),
        None => return Err(malformed("its protected header has no alg")),
    };
    if algorithm.is_mac() != is_mac {
        return Err(BadToken::Algorithm { alg: algorithm.as_str().to_owned() });
    }
    let kid = match anywhere(KID) {
        None => None,
        Some(Value::Bytes(kid)) => Some(String::from_utf8(kid.clone()).map_err(|_| malformed("its kid is not UTF-8"))?),
        Some(_) => return Err(malformed("its kid is not a byte string")),
    };
    let media_type = match get(TYP) {
        None => None,
        Some(Value::Text(text)) => Some(text.clone()),
        Some(_) => return Err(malformed("its typ is not a text")),
    };
    let value = Value::from_cbor(payload)?;
    if !matches!(value, Value::Map(_)) {
        return Err(malformed("its claims are no map"));
    }
    Ok(Unverified {
        form: Form::Cwt,
        algorithm,
        kid,
        media_type,
        claims: Claims::from_value(value, true)?,
        input: to_be_signed(protected, payload, is_mac),
        signature: signature.clone(),
    })
}

/// Sig_structure and MAC_structure (RFC 9052 sections 4.4 and 6.3), without external data.
pub(super) fn to_be_signed(protected: &[u8], payload: &[u8], is_mac: bool) -> Vec<u8> {
    let context = if is_mac { "MAC0" } else { "Signature1" };
    Value::Array(vec![
        Value::Text(context.to_owned()),
        Value::Bytes(protected.to_vec()),
        Value::Bytes(Vec::new()),
        Value::Bytes(payload.to_vec()),
    ])
    .to_cbor()
}

/// The claims of a CWT under the names that they have in a JWT.
fn named(value: &Value) -> Value {
    const NAMES: [&str; 9] = ["iss", "sub", "aud", "exp", "nbf", "iat", "cti", "cnf", "scope"];
    let Value::Map(members) = value else { return Value::Null };
    let member = |(name, value): &(Name, Value)| {
        let known = match name {
            Name::Number(number) => usize::try_from(number - 1).ok().and_then(|at| NAMES.get(at)),
            Name::Text(_) => None,
        };
        let value = match (known, value) {
            (Some(&"cti"), Value::Bytes(octets)) => Value::Text(data_encoding::HEXLOWER.encode(octets)),
            (Some(&"scope"), Value::Bytes(octets)) => Value::from_cbor(octets).unwrap_or_else(|_| value.clone()),
            _ => value.clone(),
        };
        (known.map_or_else(|| name.clone(), |known| Name::of(known)), value)
    };
    Value::Map(members.iter().map(member).collect())
}
