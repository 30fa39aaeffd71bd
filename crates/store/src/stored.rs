//! What stands in columns, alike in each engine: to values and back. What the store holds was checked when it came in; what does not
//! read back is damage.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::str::FromStr;

use tidy_warden_core::authority::{AuthorityRole, KeyPlace, Trust};
use tidy_warden_core::certificate::{Certificate, SerialNumber};
use tidy_warden_core::claim::CodeDigest;
use tidy_warden_core::condition::{Condition, Field, Use};
use tidy_warden_core::credential::Origin;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::{Fact, FactName};
use tidy_warden_core::id::{LabelName, LabelValue};
use tidy_warden_core::owner::Place as OwnersPlace;
use tidy_warden_core::policy::Pair;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::UnixTime;

use crate::StoreError;

pub(crate) fn damaged(what: &str) -> StoreError {
    StoreError::Damaged { detail: format!("a stored {what} does not read back") }
}

/// A name that was checked when it came in.
pub(crate) fn parsed<T: FromStr>(text: &str, what: &str) -> Result<T, StoreError> {
    text.parse().map_err(|_| damaged(what))
}

/// What an update found: at least one row, or the name is that of nothing.
pub(crate) fn found(updated: usize, what: &'static str, name: &impl ToString) -> Result<(), StoreError> {
    match updated {
        0 => Err(StoreError::Unknown { what, name: name.to_string() }),
        _ => Ok(()),
    }
}

/// What a bare key is called in tokens, if keys of its type sign any.
pub(crate) fn kid_of(spki: &[u8]) -> Option<String> {
    tidy_warden_core::key::thumbprint(&tidy_warden_core::key::PublicKey::from_spki(spki).ok()?)
}

/// A limit as SQL takes it.
pub(crate) fn limit(limit: usize) -> i64 {
    i64::try_from(limit).unwrap_or(i64::MAX)
}

/// A count as SQL takes it.
pub(crate) fn stored(count: u64) -> i64 {
    i64::try_from(count).unwrap_or(i64::MAX)
}

pub(crate) fn count(stored: i64) -> Result<u64, StoreError> {
    u64::try_from(stored).map_err(|_| damaged("count"))
}

pub(crate) fn serial(octets: &[u8]) -> Result<SerialNumber, StoreError> {
    SerialNumber::from_octets(octets).ok_or_else(|| damaged("serial number"))
}

pub(crate) fn origin(word: &str) -> Result<Origin, StoreError> {
    Origin::ALL.into_iter().find(|each| each.as_str() == word).ok_or_else(|| damaged("credential"))
}

pub(crate) fn role(word: &str) -> Result<AuthorityRole, StoreError> {
    AuthorityRole::ALL.into_iter().find(|role| role.as_str() == word).ok_or_else(|| damaged("authority"))
}

/// The words of a [`KeyPlace`]: what it is, and a token's and a key's label.
pub(crate) fn key_words(place: &KeyPlace) -> (&'static str, Option<&str>, Option<&str>) {
    match place {
        KeyPlace::Ward => ("ward", None, None),
        KeyPlace::Away => ("away", None, None),
        KeyPlace::Token { token, label } => ("token", Some(token), Some(label)),
        KeyPlace::Nowhere => ("nowhere", None, None),
    }
}

pub(crate) fn key_place(word: &str, token: Option<String>, label: Option<String>) -> Result<KeyPlace, StoreError> {
    Ok(match (word, token, label) {
        ("ward", None, None) => KeyPlace::Ward,
        ("away", None, None) => KeyPlace::Away,
        ("token", Some(token), Some(label)) => KeyPlace::Token { token, label },
        ("nowhere", None, None) => KeyPlace::Nowhere,
        _ => return Err(damaged("authority")),
    })
}

pub(crate) fn time(value: Option<i64>) -> Option<UnixTime> {
    value.map(UnixTime)
}

pub(crate) fn certificate(bytes: &[u8]) -> Result<Certificate, StoreError> {
    Certificate::from_der(bytes).map_err(|_| damaged("certificate"))
}

/// A JSON array of texts.
pub(crate) fn list<'t>(text: &'t str, what: &str) -> Result<Vec<Cow<'t, str>>, StoreError> {
    serde_json::from_str(text).map_err(|_| damaged(what))
}

/// The pairs of `{"name":"value",...}` without blanks and escapes; `None` if it is written otherwise.
fn plain_pairs(text: &str) -> Option<Vec<Pair<'_>>> {
    if text.contains('\\') {
        return None;
    }
    let mut parts = text.split('"');
    let mut pairs = Vec::new();
    let mut open = parts.next()? == "{";
    while open {
        let (name, colon, value) = (parts.next()?, parts.next()?, parts.next()?);
        if colon != ":" {
            return None;
        }
        pairs.push((name.into(), value.into()));
        match parts.next()? {
            "," => {}
            "}" => open = false,
            _ => return None,
        }
    }
    (parts.next().is_none() && !pairs.is_empty()).then_some(pairs)
}

/// A JSON object of texts, borrowed; in this product's own form, which has no escapes, it is read without a parser.
pub(crate) fn borrowed_pairs(text: &str) -> Result<Vec<Pair<'_>>, StoreError> {
    if text == "{}" {
        return Ok(Vec::new());
    }
    if let Some(pairs) = plain_pairs(text) {
        return Ok(pairs);
    }
    let map: BTreeMap<String, String> = serde_json::from_str(text).map_err(|_| damaged("device"))?;
    Ok(map.into_iter().map(|(name, value)| (name.into(), value.into())).collect())
}

pub(crate) fn pairs(text: &str, what: &str) -> Result<BTreeMap<String, String>, StoreError> {
    if text == "{}" {
        return Ok(BTreeMap::new());
    }
    serde_json::from_str(text).map_err(|_| damaged(what))
}

/// Labels as a JSON object.
pub(crate) fn labels_text(device: &DeviceRecord) -> String {
    labels_of(&device.labels)
}

/// The same of labels alone.
pub(crate) fn labels_of(labels: &BTreeMap<LabelName, LabelValue>) -> String {
    object(labels.iter().map(|(name, value)| (name.as_str(), value.as_str())))
}

/// Labels from a JSON object.
pub(crate) fn labels(text: &str) -> Result<BTreeMap<LabelName, LabelValue>, StoreError> {
    let pairs = pairs(text, "labels")?.into_iter();
    pairs.map(|(name, value)| Ok((parsed(&name, "label")?, parsed(&value, "label")?))).collect()
}

/// Facts as a JSON object.
pub(crate) fn facts_text(device: &DeviceRecord) -> String {
    facts_of(&device.facts)
}

/// The same of facts alone.
pub(crate) fn facts_of(facts: &BTreeMap<FactName, Fact>) -> String {
    object(facts.values().map(|fact| (fact.name().as_str(), fact.value())))
}

/// Facts from a JSON object.
pub(crate) fn facts(text: &str) -> Result<BTreeMap<FactName, Fact>, StoreError> {
    let mut all = BTreeMap::new();
    for (name, value) in pairs(text, "facts")? {
        let name = FactName::parse(&name).map_err(|_| damaged("fact"))?;
        let fact = Fact::new(name.clone(), &value).map_err(|_| damaged("fact"))?;
        all.insert(name, fact);
    }
    Ok(all)
}

/// The rule of a group with a label `note` spelled as such; `None` if it names none.
pub(crate) fn spelled_out(rule: &str) -> Result<Option<String>, StoreError> {
    let old = Condition::parse(&Source::new("rule", rule), Use::BeforeNotes).map_err(|_| damaged("group"))?;
    let mut named = false;
    old.each_leaf(&mut |leaf| {
        named |= matches!(leaf, Condition::Text(Field::Named(name), _) if name.as_str() == "note")
    });
    Ok(named.then(|| old.to_string()))
}

fn object<'t>(pairs: impl Iterator<Item = (&'t str, &'t str)>) -> String {
    let map: serde_json::Map<String, serde_json::Value> =
        pairs.map(|(name, value)| (name.to_owned(), value.into())).collect();
    serde_json::Value::Object(map).to_string()
}

/// The texts of a device's columns that take more than a parse.
pub(crate) fn fill_device(device: &mut DeviceRecord, labels: &str, facts: &str) -> Result<(), StoreError> {
    device.labels = self::labels(labels)?;
    device.facts = self::facts(facts)?;
    Ok(())
}

/// What a foreign authority is trusted for, from its two columns.
pub(crate) fn trust(kinds: Option<String>, fact: Option<String>) -> Result<Option<Trust>, StoreError> {
    let Some((kinds, fact)) = kinds.zip(fact) else { return Ok(None) };
    Ok(Some(Trust {
        kinds: kinds.split(',').map(|kind| parsed(kind, "authority")).collect::<Result<_, _>>()?,
        facts: fact.split(',').map(FactName::parse).collect::<Result<_, _>>().map_err(|_| damaged("authority"))?,
    }))
}

/// The facts of a [`Trust`] as one text.
pub(crate) fn trusted_facts(trust: &Trust) -> String {
    trust.facts.iter().map(FactName::as_str).collect::<Vec<_>>().join(",")
}

/// The kinds of a [`Trust`] as one text.
pub(crate) fn kinds_text(trust: &Trust) -> String {
    let words: Vec<String> = trust.kinds.iter().map(ToString::to_string).collect();
    words.join(",")
}

/// The places of an owner as they are written: a list of pairs.
pub(crate) fn places_text(places: &BTreeSet<OwnersPlace>) -> String {
    serde_json::json!(places).to_string()
}

/// The places of an owner.
pub(crate) fn places(text: &str) -> Result<BTreeSet<OwnersPlace>, StoreError> {
    let pairs: Vec<(String, String)> = serde_json::from_str(text).map_err(|_| damaged("place"))?;
    pairs.iter().map(|(name, value)| Ok((parsed(name, "place")?, parsed(value, "place")?))).collect()
}

/// Where a device is, as it is written: a map of labels.
pub(crate) fn place_text(place: &BTreeMap<LabelName, LabelValue>) -> String {
    serde_json::json!(place).to_string()
}

/// Where a device is.
pub(crate) fn place(text: &str) -> Result<BTreeMap<LabelName, LabelValue>, StoreError> {
    let all: BTreeMap<String, String> = serde_json::from_str(text).map_err(|_| damaged("place"))?;
    all.iter().map(|(name, value)| Ok((parsed(name, "place")?, parsed(value, "place")?))).collect()
}

/// What is kept of a code, if there is one.
pub(crate) fn code(salt: Option<[u8; 16]>, digest: Option<[u8; 32]>) -> Result<Option<CodeDigest>, StoreError> {
    match (salt, digest) {
        (Some(salt), Some(digest)) => Ok(Some(CodeDigest { salt, digest })),
        (None, None) => Ok(None),
        _ => Err(damaged("code")),
    }
}
