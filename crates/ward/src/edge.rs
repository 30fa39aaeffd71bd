//! The edge: names, kinds and facts as people write them, checked once and then passed on as what they are.

use std::collections::BTreeMap;
use std::path::Path;

use tidy_warden_core::asn1;
use tidy_warden_core::certificate::{Fingerprint, SerialNumber};
use tidy_warden_core::condition::{Condition, Use};
use tidy_warden_core::credential::CredentialRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{DeviceId, KindName, LabelName, LabelValue};
use tidy_warden_core::key::{BadKey, PublicKey};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::Source;

use crate::files;
use crate::problem::Problem;

/// The largest file with a public key, in octets.
const MAX_KEY: u64 = 16 * 1024;

/// Parses a name given on the command line.
pub fn parse<T: std::str::FromStr>(text: &str) -> Result<T, Problem>
where
    T::Err: std::fmt::Display,
{
    text.parse().map_err(|error: T::Err| Problem::refused(error.to_string()))
}

/// How people name a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CertificateName {
    /// SHA-256 of its DER.
    Fingerprint(Fingerprint),
    /// Its serial number.
    Serial(SerialNumber),
}

impl CertificateName {
    /// Reads a fingerprint or a serial number in hexadecimal; colons, upper case and leading zeros are taken too.
    pub fn parse(text: &str) -> Result<Self, Problem> {
        let bad = || {
            Problem::refused(format!("`{text}` is neither a serial number nor a fingerprint"))
                .because("a serial number has up to 40 hexadecimal digits, a fingerprint 64")
                .next("to ask about a file: credential show --cert FILE")
        };
        let digits: String = text.chars().filter(|c| *c != ':').collect::<String>().to_ascii_lowercase();
        let even = if digits.len().is_multiple_of(2) { digits } else { format!("0{digits}") };
        let octets = data_encoding::HEXLOWER.decode(even.as_bytes()).map_err(|_| bad())?;
        match <[u8; 32]>::try_from(octets.as_slice()) {
            Ok(digest) => Ok(Self::Fingerprint(Fingerprint(digest))),
            Err(_) => SerialNumber::from_octets(&octets).map(Self::Serial).ok_or_else(bad),
        }
    }

    /// Whether it names this one.
    pub fn names(&self, credential: &CredentialRecord) -> bool {
        match self {
            Self::Fingerprint(fingerprint) => credential.fingerprint == *fingerprint,
            Self::Serial(serial) => credential.serial.as_ref() == Some(serial),
        }
    }
}

/// A condition given with `--where`.
pub fn condition(text: &str) -> Result<Condition, Problem> {
    Condition::parse(&Source::new("--where", text), Use::Picking)
        .map_err(|error| Problem::text("the condition cannot be read", &[error]))
}

/// Checks a kind against the settings.
pub fn known_kind(settings: &Settings, kind: &KindName) -> Result<(), Problem> {
    settings.kind(kind).map(|_| ()).map_err(|unknown| {
        let problem = Problem::refused(unknown.to_string());
        match unknown.nearest {
            Some(near) => problem.next(format!("did you mean `{near}`? if not, add to ward.toml: [kinds.{kind}]")),
            None => problem.next(format!("add to ward.toml: [kinds.{kind}]")),
        }
    })
}

/// The name of a label, which must not be a word of conditions, nor a fact.
pub fn label_name(settings: &Settings, text: &str) -> Result<LabelName, Problem> {
    let name: LabelName = parse(text)?;
    match settings.may_label(&name) {
        Ok(()) => Ok(name),
        Err(why) => Err(Problem::refused(format!("no label can be named `{name}`")).because(why)),
    }
}

/// The name of a fact of this ward.
pub fn fact_name(settings: &Settings, word: &str) -> Result<FactName, Problem> {
    settings.fact_name(word).map_err(Problem::refused)
}

/// A fact of this ward from `NAME` and `VALUE`.
pub fn fact(settings: &Settings, name: &str, value: &str) -> Result<Fact, Problem> {
    settings.fact(fact_name(settings, name)?, value).map_err(Problem::refused)
}

/// The facts of a call, each name once.
pub fn facts(settings: &Settings, given: &[(String, String)]) -> Result<BTreeMap<FactName, Fact>, Problem> {
    each_once(given, |name, value| fact(settings, name, value))
}

/// The facts that a device states of itself: its ward, whose own facts it cannot know, takes them or not.
pub fn stated_facts(given: &[(String, String)]) -> Result<BTreeMap<FactName, Fact>, Problem> {
    let stated = |name: &str, value: &str| FactName::parse(name).and_then(|name| Fact::new(name, value));
    each_once(given, |name, value| stated(name, value).map_err(|error| Problem::refused(error.to_string())))
}

fn each_once(
    given: &[(String, String)],
    read: impl Fn(&str, &str) -> Result<Fact, Problem>,
) -> Result<BTreeMap<FactName, Fact>, Problem> {
    let mut all = BTreeMap::new();
    for (name, value) in given {
        let fact = read(name, value)?;
        if all.insert(fact.name().clone(), fact).is_some() {
            return Err(Problem::usage(format!("the fact `{name}` is given twice")));
        }
    }
    Ok(all)
}

/// The labels of a call, each name once.
pub fn labels(settings: &Settings, given: &[(String, String)]) -> Result<BTreeMap<LabelName, LabelValue>, Problem> {
    let mut all = BTreeMap::new();
    for (name, value) in given {
        if all.insert(label_name(settings, name)?, parse(value)?).is_some() {
            return Err(Problem::usage(format!("the label `{name}` is given twice")));
        }
    }
    Ok(all)
}

/// A device's id, which must not be the name of an endpoint.
pub fn device_id(settings: &Settings, text: &str) -> Result<DeviceId, Problem> {
    let id: DeviceId = parse(text)?;
    match settings.may_name(&id) {
        Ok(()) => Ok(id),
        Err(why) => Err(Problem::refused(format!("no device can be named `{id}`")).because(why)),
    }
}

/// Reads a public key: SubjectPublicKeyInfo in PEM, or a JWK.
pub fn read_key(path: &Path) -> Result<PublicKey, Problem> {
    let text = files::read_text(path, MAX_KEY)?;
    let refused = |why: &dyn std::fmt::Display| {
        Problem::refused(format!("cannot read {}", path.display()))
            .because(why)
            .next("give a public key in PEM (-----BEGIN PUBLIC KEY-----) or as a JWK")
    };
    if text.contains("PRIVATE KEY-----") {
        return Err(refused(&BadKey::Private));
    }
    if text.trim_start().starts_with('{') {
        return PublicKey::from_jwk(&text).map_err(|error| refused(&error));
    }
    match asn1::pem_blocks(text.as_bytes()).as_deref() {
        Some([(label, spki)]) if label == "PUBLIC KEY" => PublicKey::from_spki(spki).map_err(|error| refused(&error)),
        _ => Err(refused(&"it is not one PEM block with the label PUBLIC KEY")),
    }
}
