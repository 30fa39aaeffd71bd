//! PKCS#11 URIs (RFC 7512): the name of a key on a token, so that a file can say where a key is instead of holding it.

use std::fmt;
use std::str::FromStr;

/// A key on a PKCS#11 token.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyUri {
    /// `token`: the token's label.
    pub token: String,
    /// `object`: the label of both halves of the key.
    pub object: String,
    /// `module-path`: the PKCS#11 library.
    pub module: String,
    /// `pin-source`: the path of a file with the PIN, if it says one.
    pub pin: Option<String>,
}

/// A text that is none, or that names more than is understood here.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadKeyUri {
    /// Not of the form.
    #[error("expected pkcs11:token=LABEL;object=LABEL?module-path=FILE (RFC 7512)")]
    Form,
    /// An attribute that is needed is missing or empty.
    #[error("`{0}` is missing in the PKCS#11 URI")]
    Missing(&'static str),
    /// An attribute that is not understood, or stands twice.
    #[error(
        "`{0}` is not understood in a PKCS#11 URI here, or stands twice; expected token, object, type, module-path and pin-source"
    )]
    Attribute(String),
    /// A PIN in the name of a key is no secret any more.
    #[error("a PIN must not stand in a PKCS#11 URI: use pin-source, or a file with the PIN")]
    PinValue,
}

/// The longest that is read, in octets.
const MAX_LEN: usize = 2048;

/// The longest label of a token or an object that is kept, in octets.
const MAX_LABEL: usize = 64;

impl FromStr for KeyUri {
    type Err = BadKeyUri;

    fn from_str(text: &str) -> Result<Self, BadKeyUri> {
        let rest = text.strip_prefix("pkcs11:").filter(|_| text.len() <= MAX_LEN).ok_or(BadKeyUri::Form)?;
        let (path, query) = rest.split_once('?').unwrap_or((rest, ""));
        let attributes = path.split(';').map(|each| (each, true)).chain(query.split('&').map(|each| (each, false)));
        let (mut token, mut object, mut module, mut pin, mut kind) = (None, None, None, None, None);
        for (attribute, in_path) in attributes.filter(|(each, _)| !each.is_empty()) {
            let (name, value) = attribute.split_once('=').ok_or(BadKeyUri::Form)?;
            let value = decoded(value).ok_or(BadKeyUri::Form)?;
            let place = match (name, in_path) {
                ("token", true) => &mut token,
                ("object", true) => &mut object,
                ("type", true) if value == "private" => &mut kind,
                ("module-path", false) => &mut module,
                ("pin-source", false) => &mut pin,
                ("pin-value", _) => return Err(BadKeyUri::PinValue),
                _ => return Err(BadKeyUri::Attribute(name.chars().take(40).collect())),
            };
            if place.replace(value).is_some() {
                return Err(BadKeyUri::Attribute(name.to_owned()));
            }
        }
        let needed =
            |value: Option<String>, name| value.filter(|value| !value.is_empty()).ok_or(BadKeyUri::Missing(name));
        let label = |value: Option<String>, name| {
            needed(value, name)
                .and_then(|label| if label.len() <= MAX_LABEL { Ok(label) } else { Err(BadKeyUri::Form) })
        };
        // RFC 7512 section 2.4: a plain path, or a URI of the scheme `file`.
        let pin = pin.map(|pin| pin.strip_prefix("file://").or(pin.strip_prefix("file:")).unwrap_or(&pin).to_owned());
        Ok(Self {
            token: label(token, "token")?,
            object: label(object, "object")?,
            module: needed(module, "module-path")?,
            pin: pin.map(|pin| needed(Some(pin), "pin-source")).transpose()?,
        })
    }
}

impl fmt::Display for KeyUri {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "pkcs11:token={};object={};type=private", encoded(&self.token), encoded(&self.object))?;
        write!(f, "?module-path={}", encoded(&self.module))?;
        match &self.pin {
            Some(pin) => write!(f, "&pin-source=file:{}", encoded(pin)),
            None => Ok(()),
        }
    }
}

impl KeyUri {
    /// The name of the key that comes after this one: a number behind its label grows.
    #[must_use]
    pub fn next(&self) -> Self {
        let (base, number) = match self.object.rsplit_once('.') {
            Some((base, number)) => match number.parse::<u32>() {
                Ok(number) if !base.is_empty() => (base, number),
                _ => (self.object.as_str(), 1),
            },
            None => (self.object.as_str(), 1),
        };
        Self { object: format!("{base}.{}", number.saturating_add(1)), ..self.clone() }
    }
}

/// Text with its percent-encoded octets (RFC 3986 section 2.1) as they are meant; control characters mean nothing in a name.
fn decoded(text: &str) -> Option<String> {
    let mut octets = Vec::with_capacity(text.len());
    let mut rest = text.bytes();
    while let Some(octet) = rest.next() {
        octets.push(match octet {
            b'%' => {
                let digit = |octet: u8| char::from(octet).to_digit(16).and_then(|digit| u8::try_from(digit).ok());
                digit(rest.next()?)? << 4 | digit(rest.next()?)?
            }
            b'!'..=b'~' => octet,
            _ => return None,
        });
    }
    String::from_utf8(octets).ok().filter(|text| !text.chars().any(char::is_control))
}

/// Text in which nothing but what RFC 7512 leaves as it is in every place is left as it is.
fn encoded(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for octet in text.bytes() {
        match octet {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => out.push(char::from(octet)),
            _ => out.push_str(&format!("%{octet:02X}")),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_named_and_named_again_alike() {
        let text =
            "pkcs11:token=My%20token;object=wv-9;type=private?module-path=/usr/lib/p11.so&pin-source=file:/etc/pin";
        let uri: KeyUri = text.parse().unwrap();
        assert_eq!(
            (uri.token.as_str(), uri.object.as_str(), uri.pin.as_deref()),
            ("My token", "wv-9", Some("/etc/pin"))
        );
        assert_eq!(uri.to_string(), text);
        let short: KeyUri = "pkcs11:object=k;token=t?module-path=m".parse().unwrap();
        assert_eq!((short.module.as_str(), short.pin.clone()), ("m", None));
        assert_eq!(short.to_string().parse(), Ok(short));
    }

    #[test]
    fn what_is_not_understood_is_refused() {
        for (text, want) in [
            ("", BadKeyUri::Form),
            ("http:token=t", BadKeyUri::Form),
            ("pkcs11:token", BadKeyUri::Form),
            ("pkcs11:token=t;object=a b?module-path=m", BadKeyUri::Form),
            ("pkcs11:token=t;object=%0a?module-path=m", BadKeyUri::Form),
            ("pkcs11:token=t;object=%f?module-path=m", BadKeyUri::Form),
            ("pkcs11:token=t;object=%ff?module-path=m", BadKeyUri::Form),
            ("pkcs11:object=o?module-path=m", BadKeyUri::Missing("token")),
            ("pkcs11:token=;object=o?module-path=m", BadKeyUri::Missing("token")),
            ("pkcs11:token=t?module-path=m", BadKeyUri::Missing("object")),
            ("pkcs11:token=t;object=o", BadKeyUri::Missing("module-path")),
            ("pkcs11:token=t;object=o?module-path=m&pin-value=1", BadKeyUri::PinValue),
            ("pkcs11:token=t;token=u;object=o?module-path=m", BadKeyUri::Attribute("token".into())),
            ("pkcs11:token=t;object=o;serial=1?module-path=m", BadKeyUri::Attribute("serial".into())),
            ("pkcs11:token=t;object=o;type=cert?module-path=m", BadKeyUri::Attribute("type".into())),
        ] {
            assert_eq!(text.parse::<KeyUri>(), Err(want), "{text}");
        }
        assert_eq!(format!("pkcs11:token={}", "t".repeat(MAX_LEN)).parse::<KeyUri>(), Err(BadKeyUri::Form));
    }

    #[test]
    fn each_key_has_a_successor() {
        let named = |object: &str| KeyUri { token: "t".into(), object: object.into(), module: "m".into(), pin: None };
        for (object, next) in [("wv-9", "wv-9.2"), ("wv-9.2", "wv-9.3"), ("a.b", "a.b.2"), (".7", ".7.2")] {
            assert_eq!(named(object).next(), named(next));
        }
    }

    proptest::proptest! {
        #[test]
        fn whatever_is_named_comes_back(token in "\\PC{1,12}", object in "\\PC{1,12}", module in "\\PC{1,20}", any in "\\PC{0,60}") {
            let uri = KeyUri { token, object, module, pin: None };
            proptest::prop_assert_eq!(uri.to_string().parse(), Ok(uri));
            let _ = format!("pkcs11:{any}").parse::<KeyUri>();
        }
    }
}
