//! What JSON and CBOR can say, as far as tokens say it: read strictly, so that nobody can read it in two ways.

use std::borrow::Cow;

use minicbor::data::Type;
use minicbor::{Decoder, Encoder};
use serde::de::{self, DeserializeSeed, MapAccess, SeqAccess, Visitor};

use super::BadToken;

/// How deep objects and arrays may stand in each other: a JWK in `cnf` stands in two, a scope's permissions in two.
const MAX_DEPTH: usize = 6;

/// How many members an object, and how many items an array may have.
const MAX_MEMBERS: usize = 256;

/// The name of a member: text in JSON, text or a number in CBOR.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Name {
    Text(Cow<'static, str>),
    Number(i64),
}

/// Names that tokens have, which need no copy.
const KNOWN: [&str; 21] = [
    "alg",
    "typ",
    "kid",
    "iss",
    "sub",
    "aud",
    "exp",
    "iat",
    "nbf",
    "jti",
    "scope",
    "cnf",
    "client_ids",
    "x5t#S256",
    "jwk",
    "kty",
    "crv",
    "x",
    "y",
    "n",
    "e",
];

impl Name {
    pub(super) fn of(text: &str) -> Self {
        match KNOWN.iter().find(|known| **known == text) {
            Some(known) => Self::Text(Cow::Borrowed(known)),
            None => Self::Text(Cow::Owned(text.to_owned())),
        }
    }
}

/// A value. Numbers that are no integers of 64 bits are told from those that are, and not kept: nothing here needs one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Value {
    Null,
    Bool(bool),
    Int(i64),
    OtherNumber,
    Text(String),
    Bytes(Vec<u8>),
    Array(Vec<Value>),
    Map(Vec<(Name, Value)>),
}

fn malformed(detail: &'static str) -> BadToken {
    BadToken::Malformed { detail }
}

const TWICE: &str = "it says one thing twice";
const TOO_MUCH: &str = "it has more members, or deeper ones, than any token needs";

impl Value {
    pub(super) fn text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }

    pub(super) fn bytes(&self) -> Option<&[u8]> {
        match self {
            Self::Bytes(bytes) => Some(bytes),
            _ => None,
        }
    }

    pub(super) fn array(&self) -> Option<&[Value]> {
        match self {
            Self::Array(items) => Some(items),
            _ => None,
        }
    }

    /// A member of an object by the text in JSON or the number in CBOR that it is called by.
    pub(super) fn member(&self, text: &str, number: Option<i64>) -> Option<&Value> {
        let Self::Map(members) = self else { return None };
        let is_it = |name: &Name| match name {
            Name::Text(name) => name == text,
            Name::Number(name) => number == Some(*name),
        };
        members.iter().find(|(name, _)| is_it(name)).map(|(_, value)| value)
    }

    /// A JSON text (RFC 8259) that is an object, whole, in UTF-8 and without a byte order mark; no name stands in it twice (RFC 8725
    /// section 2.4, RFC 7515 section 4).
    pub(super) fn from_json(octets: &[u8]) -> Result<Self, BadToken> {
        let text = std::str::from_utf8(octets).map_err(|_| malformed("a part is not UTF-8"))?;
        let mut reader = serde_json::Deserializer::from_str(text);
        let read = Json { depth: 0 }.deserialize(&mut reader);
        let value = read.map_err(|error| match error.to_string() {
            text if text.starts_with(TWICE) => malformed(TWICE),
            text if text.starts_with(TOO_MUCH) => malformed(TOO_MUCH),
            _ => malformed("a part is not JSON"),
        })?;
        reader.end().map_err(|_| malformed("more stands behind a part's JSON"))?;
        match value {
            Self::Map(_) => Ok(value),
            _ => Err(malformed("a part is not a JSON object")),
        }
    }

    /// One CBOR item (RFC 8949) that is all of `octets`. Deterministic encoding is not demanded; that no name stands twice in a map
    /// is.
    pub(super) fn from_cbor(octets: &[u8]) -> Result<Self, BadToken> {
        let mut decoder = Decoder::new(octets);
        let value = cbor(&mut decoder, 0)?;
        match decoder.position() == octets.len() {
            true => Ok(value),
            false => Err(malformed("more stands behind its CBOR")),
        }
    }

    /// The value as JSON; octets as base64url.
    pub(super) fn to_json(&self) -> serde_json::Value {
        match self {
            Self::Null | Self::OtherNumber => serde_json::Value::Null,
            Self::Bool(value) => (*value).into(),
            Self::Int(value) => (*value).into(),
            Self::Text(text) => text.as_str().into(),
            Self::Bytes(bytes) => data_encoding::BASE64URL_NOPAD.encode(bytes).into(),
            Self::Array(items) => items.iter().map(Self::to_json).collect(),
            Self::Map(members) => {
                let name = |name: &Name| match name {
                    Name::Text(text) => text.to_string(),
                    Name::Number(number) => number.to_string(),
                };
                serde_json::Value::Object(members.iter().map(|(key, value)| (name(key), value.to_json())).collect())
            }
        }
    }

    /// The same as text, at the end of `out`.
    pub(super) fn write_json(&self, out: &mut Vec<u8>) {
        let quoted = |out: &mut Vec<u8>, text: &str| {
            // A vector takes everything.
            let _ = serde_json::to_writer(&mut *out, text);
        };
        match self {
            Self::Null | Self::OtherNumber => out.extend_from_slice(b"null"),
            Self::Bool(value) => out.extend_from_slice(if *value { b"true" } else { b"false" }),
            Self::Int(value) => out.extend_from_slice(value.to_string().as_bytes()),
            Self::Text(text) => quoted(out, text),
            Self::Bytes(bytes) => quoted(out, &data_encoding::BASE64URL_NOPAD.encode(bytes)),
            Self::Array(items) => {
                out.push(b'[');
                for (at, item) in items.iter().enumerate() {
                    if at > 0 {
                        out.push(b',');
                    }
                    item.write_json(out);
                }
                out.push(b']');
            }
            Self::Map(members) => {
                out.push(b'{');
                for (at, (name, value)) in members.iter().enumerate() {
                    if at > 0 {
                        out.push(b',');
                    }
                    match name {
                        Name::Text(text) => quoted(out, text),
                        Name::Number(number) => quoted(out, &number.to_string()),
                    }
                    out.push(b':');
                    value.write_json(out);
                }
                out.push(b'}');
            }
        }
    }

    /// The value in the deterministic encoding of RFC 8949 section 4.2.1: shortest forms, names in the order of their encodings.
    pub(super) fn to_cbor(&self) -> Vec<u8> {
        let mut out = Vec::new();
        match self {
            Self::Array(items) => {
                head(&mut out, |encoder, len| encoder.array(len).map(|_| ()), items.len());
                items.iter().for_each(|item| out.extend(item.to_cbor()));
            }
            Self::Map(members) => {
                head(&mut out, |encoder, len| encoder.map(len).map(|_| ()), members.len());
                let name = |name: &Name| match name {
                    Name::Text(text) => Self::Text(text.to_string()).to_cbor(),
                    Name::Number(number) => Self::Int(*number).to_cbor(),
                };
                let mut all: Vec<_> = members.iter().map(|(key, value)| (name(key), value.to_cbor())).collect();
                all.sort();
                all.into_iter().for_each(|(key, value)| out.extend([key, value].concat()));
            }
            simple => {
                let mut encoder = Encoder::new(&mut out);
                let written = match simple {
                    Self::Bool(value) => encoder.bool(*value),
                    Self::Int(value) => encoder.i64(*value),
                    Self::Text(text) => encoder.str(text),
                    Self::Bytes(bytes) => encoder.bytes(bytes),
                    _ => encoder.null(),
                };
                // A vector takes everything.
                let _ = written;
            }
        }
        out
    }
}

type Encoding<'a> = Encoder<&'a mut Vec<u8>>;
type Refusal = minicbor::encode::Error<std::convert::Infallible>;

fn head(out: &mut Vec<u8>, write: impl FnOnce(&mut Encoding<'_>, u64) -> Result<(), Refusal>, len: usize) {
    let _ = write(&mut Encoder::new(out), u64::try_from(len).unwrap_or(u64::MAX));
}

struct Json {
    depth: usize,
}

impl<'de> DeserializeSeed<'de> for Json {
    type Value = Value;

    fn deserialize<D: de::Deserializer<'de>>(self, deserializer: D) -> Result<Value, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Json {
    type Value = Value;

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("JSON")
    }

    fn visit_unit<E>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_bool<E>(self, value: bool) -> Result<Value, E> {
        Ok(Value::Bool(value))
    }

    fn visit_i64<E>(self, value: i64) -> Result<Value, E> {
        Ok(Value::Int(value))
    }

    fn visit_u64<E>(self, value: u64) -> Result<Value, E> {
        Ok(i64::try_from(value).map_or(Value::OtherNumber, Value::Int))
    }

    fn visit_f64<E>(self, _: f64) -> Result<Value, E> {
        Ok(Value::OtherNumber)
    }

    fn visit_str<E>(self, text: &str) -> Result<Value, E> {
        Ok(Value::Text(text.to_owned()))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Value, A::Error> {
        let mut all = Vec::new();
        while let Some(item) = items.next_element_seed(self.below()?)? {
            if all.len() == MAX_MEMBERS {
                return Err(de::Error::custom(TOO_MUCH));
            }
            all.push(item);
        }
        Ok(Value::Array(all))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Value, A::Error> {
        let mut all: Vec<(Name, Value)> = Vec::with_capacity(6);
        while let Some(name) = members.next_key_seed(MemberName)? {
            if all.iter().any(|(known, _)| *known == name) {
                return Err(de::Error::custom(TWICE));
            } else if all.len() == MAX_MEMBERS {
                return Err(de::Error::custom(TOO_MUCH));
            }
            let value = members.next_value_seed(self.below()?)?;
            all.push((name, value));
        }
        Ok(Value::Map(all))
    }
}

/// Reads the name of a member.
struct MemberName;

impl<'de> DeserializeSeed<'de> for MemberName {
    type Value = Name;

    fn deserialize<D: de::Deserializer<'de>>(self, deserializer: D) -> Result<Name, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl Visitor<'_> for MemberName {
    type Value = Name;

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a name")
    }

    fn visit_str<E>(self, text: &str) -> Result<Name, E> {
        Ok(Name::of(text))
    }
}

impl Json {
    fn below<E: de::Error>(&self) -> Result<Self, E> {
        match self.depth < MAX_DEPTH {
            true => Ok(Self { depth: self.depth + 1 }),
            false => Err(E::custom(TOO_MUCH)),
        }
    }
}

fn cbor(decoder: &mut Decoder<'_>, depth: usize) -> Result<Value, BadToken> {
    if depth > MAX_DEPTH {
        return Err(malformed(TOO_MUCH));
    }
    let broken = |_: minicbor::decode::Error| malformed("it is not CBOR");
    Ok(match decoder.datatype().map_err(broken)? {
        Type::Null | Type::Undefined => {
            decoder.skip().map_err(broken)?;
            Value::Null
        }
        Type::Bool => Value::Bool(decoder.bool().map_err(broken)?),
        Type::U8 | Type::U16 | Type::U32 | Type::U64 | Type::I8 | Type::I16 | Type::I32 | Type::I64 | Type::Int => {
            let number = decoder.int().map_err(broken)?;
            i64::try_from(number).map_or(Value::OtherNumber, Value::Int)
        }
        Type::F16 | Type::F32 | Type::F64 => {
            decoder.skip().map_err(broken)?;
            Value::OtherNumber
        }
        Type::String => Value::Text(decoder.str().map_err(broken)?.to_owned()),
        Type::StringIndef => {
            Value::Text(decoder.str_iter().map_err(broken)?.collect::<Result<_, _>>().map_err(broken)?)
        }
        Type::Bytes => Value::Bytes(decoder.bytes().map_err(broken)?.to_vec()),
        Type::BytesIndef => {
            let pieces: Result<Vec<&[u8]>, _> = decoder.bytes_iter().map_err(broken)?.collect();
            Value::Bytes(pieces.map_err(broken)?.concat())
        }
        Type::Array | Type::ArrayIndef => {
            let len = decoder.array().map_err(broken)?;
            let mut all = Vec::new();
            while goes_on(decoder, len, all.len())? {
                all.push(cbor(decoder, depth + 1)?);
            }
            Value::Array(all)
        }
        Type::Map | Type::MapIndef => {
            let len = decoder.map().map_err(broken)?;
            let mut all: Vec<(Name, Value)> = Vec::new();
            while goes_on(decoder, len, all.len())? {
                let name = match cbor(decoder, depth + 1)? {
                    Value::Text(text) => Name::of(&text),
                    Value::Int(number) => Name::Number(number),
                    _ => return Err(malformed("a name in a map is neither text nor a number")),
                };
                if all.iter().any(|(known, _)| *known == name) {
                    return Err(malformed(TWICE));
                }
                all.push((name, cbor(decoder, depth + 1)?));
            }
            Value::Map(all)
        }
        // RFC 8392 section 3.1.1: a NumericDate in a CWT has no tag; nothing else here has one either.
        _ => return Err(malformed("it has a tag or a simple value where none belongs")),
    })
}

/// Whether another item of an array or a map follows the `read` ones.
fn goes_on(decoder: &mut Decoder<'_>, len: Option<u64>, read: usize) -> Result<bool, BadToken> {
    if read > MAX_MEMBERS {
        return Err(malformed(TOO_MUCH));
    }
    match len {
        Some(len) => Ok(u64::try_from(read).is_ok_and(|read| read < len)),
        None if decoder.datatype().map_err(|_| malformed("it is not CBOR"))? == Type::Break => {
            decoder.skip().map_err(|_| malformed("it is not CBOR"))?;
            Ok(false)
        }
        None => Ok(true),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_can_be_read_in_two_ways_is_not_read() {
        for bad in [
            r#"{"a":1,"a":2}"#,
            r#"{"a":{"b":1,"b":2}}"#,
            r#"{"a":1,"\u0061":2}"#,
            "\u{feff}{}",
            "{} {}",
            "[]",
            "1",
            "",
            r#"{"a":1,}"#,
            r#"{"a":[[[[[[[1]]]]]]]}"#,
            r#"{'a':1}"#,
        ] {
            assert!(Value::from_json(bad.as_bytes()).is_err(), "{bad}");
        }
        assert!(Value::from_json(&[b'{', b'"', 0xff, b'"', b':', b'1', b'}']).is_err(), "no UTF-8");
        let deep = Value::from_json(r#"{"a":[[[[[1]]]]]}"#.as_bytes());
        assert!(deep.is_ok(), "as deep as may be");
        // RFC 8949 appendix A, and what is wrong with it.
        let hex = |text: &str| data_encoding::HEXLOWER.decode(text.as_bytes()).unwrap();
        for bad in ["a201020103", "bf01020103ff", "a1", "ff", "c11a514b67b0", "0001", "", "1c", "a10102ff", "f800"] {
            assert!(Value::from_cbor(&hex(bad)).is_err(), "{bad}");
        }
        let read = |text: &str| Value::from_cbor(&hex(text)).unwrap();
        assert_eq!(read("9f018202039f0405ffff").array().map(<[Value]>::len), Some(3));
        assert_eq!(read("5f42010243030405ff").bytes(), Some(&[1, 2, 3, 4, 5][..]));
        assert_eq!(read("7f657374726561646d696e67ff").text(), Some("streaming"));
        assert_eq!(read("fb3ff199999999999a"), Value::OtherNumber);
        assert_eq!(read("1bffffffffffffffff"), Value::OtherNumber);
        assert!(Value::from_cbor(&[&[0x81; 9][..], &[1]].concat()).is_err(), "too deep");
        assert!(Value::from_cbor(&[&[0x9a, 0xff, 0xff, 0xff, 0xff][..], &[1; 2000]].concat()).is_err(), "too many");
    }

    #[test]
    fn what_is_written_has_one_form() {
        let name = Name::of;
        let map = Value::Map(vec![
            (name("b"), Value::Int(-1)),
            (Name::Number(10), Value::Bytes(vec![1])),
            (Name::Number(-1), Value::Array(vec![Value::Bool(true), Value::Null])),
        ]);
        // The order of RFC 8949 section 4.2.1: 10, -1, "b".
        assert_eq!(data_encoding::HEXLOWER.encode(&map.to_cbor()), "a30a41012082f5f6616220");
        let read = Value::from_cbor(&map.to_cbor()).unwrap();
        assert_eq!(read.member("b", None), Some(&Value::Int(-1)));
        assert_eq!(read.member("", Some(10)), Some(&Value::Bytes(vec![1])));
    }
}
